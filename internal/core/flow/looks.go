package flow

import (
	"cmp"
	"maps"
	"slices"
	"sync"
	"sync/atomic"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// samples keeps the newest late and rejected rows, and counts the rejected ones by reason.
type samples struct {
	mu      sync.Mutex
	seq     int64
	kept    map[step.Reason][]NamedSample
	reasons map[step.Reason]int64
}

// NamedSample is a late or rejected row with its origin in words.
type NamedSample struct {
	Seq    int64  `json:"seq"` // of the job's samples, from 1 on
	Step   string `json:"step"`
	Kind   string `json:"kind"` // late or rejected
	Reason string `json:"reason"`
	Origin string `json:"origin,omitempty"`
	Split  string `json:"split,omitempty"` // where the row came from; empty where a step made it
	Pos    int64  `json:"pos"`             // place in the split
	// EventTime is in microseconds; nil where the row has none.
	EventTime *int64 `json:"event_time,omitempty"`
	LateBy    int64  `json:"late_by,omitempty"` // microseconds
	Row       string `json:"row"`               // as JSON, or the message where it could not be decoded
	Raw       bool   `json:"raw,omitempty"`     // Row is the message
	index     int    // of the split, or -1
}

// keptSamples is how many are kept of each operator and reason; mostKept is of how many operators and reasons.
const (
	keptSamples = 50
	mostKept    = 200
)

// addAll keeps what a turn has.
func (s *samples) addAll(t *turn) {
	if len(t.samples) == 0 && len(t.reasons) == 0 {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.kept == nil {
		s.kept, s.reasons = map[step.Reason][]NamedSample{}, map[step.Reason]int64{}
	}
	for k, n := range t.reasons {
		s.reasons[k] += n
	}
	for _, x := range t.samples {
		s.seq++
		n := NamedSample{Seq: s.seq, Kind: "rejected", Reason: x.Reason, LateBy: x.LateBy, Row: x.Row + x.Raw, Raw: x.Raw != "", Pos: x.Pos, index: x.Split}
		if x.Late {
			n.Kind = "late"
		}
		if x.EventTime > types.MinTime {
			n.EventTime = &x.EventTime
		}
		k := x.Class()
		list, ok := s.kept[k]
		if !ok && len(s.kept) >= mostKept {
			continue
		}
		list = append(list, n)
		if len(list) >= 2*keptSamples { // moved seldom, not at each row
			list = append(list[:0], list[len(list)-keptSamples:]...)
		}
		s.kept[k] = list
	}
}

// Samples gives the newest late and rejected rows, by operator in the order of the plan.
func (j *Job) Samples() []NamedSample { return j.SamplesSince(0) }

// SamplesSince is Samples without those up to a number.
func (j *Job) SamplesSince(seq int64) []NamedSample {
	out := []NamedSample{}
	j.samples.mu.Lock()
	kinds := slices.SortedFunc(maps.Keys(j.samples.kept), func(a, b step.Reason) int {
		return cmp.Or(cmp.Compare(a.Op, b.Op), cmp.Compare(a.Class, b.Class))
	})
	for _, k := range kinds {
		list := j.samples.kept[k]
		for _, s := range list[max(0, len(list)-keptSamples):] {
			if s.Seq > seq {
				s.Step = j.plan.Ops[k.Op].Step
				out = append(out, s)
			}
		}
	}
	j.samples.mu.Unlock()
	for i := range out {
		if sr := j.splitAt(out[i].index); sr != nil {
			out[i].Split, out[i].Origin = sr.split.Name(), sr.split.Place(out[i].Pos)
		}
	}
	return out
}

// splitAt gives the split of an index, or nil.
func (j *Job) splitAt(index int) *splitReader {
	for _, sc := range j.sources {
		for _, sr := range sc.splits() {
			if sr.index == index {
				return sr
			}
		}
	}
	return nil
}

// ReasonCount is how many rows of a step were rejected for reasons of a kind since the run began.
type ReasonCount struct {
	Step  string `json:"step"`
	Class string `json:"class"` // the reason without values
	Rows  int64  `json:"rows"`
}

// Reasons counts the rejected rows by reason, in the order of the plan, the most frequent first.
func (j *Job) Reasons() []ReasonCount {
	out := []ReasonCount{}
	j.samples.mu.Lock()
	defer j.samples.mu.Unlock()
	for _, o := range j.plan.Ops {
		from := len(out)
		for k, n := range j.samples.reasons {
			if k.Op == o.ID {
				out = append(out, ReasonCount{o.Step, k.Class, n})
			}
		}
		slices.SortFunc(out[from:], func(a, b ReasonCount) int {
			return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Class, b.Class))
		})
	}
	return out
}

// tap shows the rows of a named step as they pass.
type tap struct {
	op       *plan.Op
	describe func(fields []types.Field, b *column.Batch, i int) string
	first    int          // keep the first so many rows instead of some of the newest; 0: the newest
	due      atomic.Int64 // wall clock in ms from which several rows of a batch are kept again
	mu       sync.Mutex
	newest   []string
}

const (
	keptRows     = 20
	tapEveryMs   = 100
	rowsATapTake = 5
)

// tapNode is a tap in a pipe.
type tapNode struct {
	t   *tap
	ctx *step.Context
}

// Push implements step.Node.
func (n *tapNode) Push(b *column.Batch) {
	if n.t.first > 0 {
		n.t.mu.Lock()
		for i := 0; i < b.N && len(n.t.newest) < n.t.first; i++ {
			n.t.newest = append(n.t.newest, n.t.describe(n.t.op.Fields, b, i))
		}
		n.t.mu.Unlock()
		return
	}
	take := 1 // the last row always, so that the newest is there when nothing follows
	if due := n.t.due.Load(); n.ctx.NowMs >= due && n.t.due.CompareAndSwap(due, n.ctx.NowMs+tapEveryMs) {
		take = rowsATapTake
	}
	var rows []string
	for i := max(0, b.N-take); i < b.N; i++ {
		rows = append(rows, n.t.describe(n.t.op.Fields, b, i))
	}
	n.t.mu.Lock()
	n.t.newest = append(n.t.newest, rows...)
	if k := len(n.t.newest); k > keptRows {
		n.t.newest = slices.Clone(n.t.newest[k-keptRows:])
	}
	n.t.mu.Unlock()
}

// Rows is Newest by operator.
func (j *Job) Rows() map[int][]string {
	out := map[int][]string{}
	for id, t := range j.taps {
		t.mu.Lock()
		out[id] = append([]string{}, t.newest...)
		t.mu.Unlock()
	}
	return out
}

// Newest gives a sample of the newest rows of each named step, or its first ones (Options.First), as JSON, oldest first.
func (j *Job) Newest() map[string][]string {
	out := map[string][]string{}
	for _, o := range j.plan.Ops {
		t := j.taps[o.ID]
		if t == nil {
			continue
		}
		t.mu.Lock()
		out[o.Step] = append([]string{}, t.newest...)
		t.mu.Unlock()
	}
	return out
}
