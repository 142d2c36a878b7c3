package flow

import (
	"cmp"
	"slices"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// Step is the state of one operator, for people.
type Step struct {
	ID     int         `json:"id"`
	Kind   string      `json:"kind"`
	Step   string      `json:"step"`
	Detail string      `json:"detail"`
	Counts step.Counts `json:"counts"`
	Out    int64       `json:"out"`
	Open   int64       `json:"open"` // rows inside the operator, on their way
	// Of steps that keep rows or results by key:
	Watermark *int64 `json:"watermark,omitempty"` // microseconds
	Windows   int    `json:"windows,omitempty"`   // open windows or sessions; rows that wait for the watermark
	Lateness  int64  `json:"lateness,omitempty"`  // how long closed windows take corrections, microseconds
	// Open has some of the open windows, those that close last.
	OpenWindows []step.OpenWindow `json:"open_windows,omitempty"`
	Keys        int               `json:"keys,omitempty"`
	Rows        int               `json:"rows,omitempty"`    // of a side of a join and of a table: rows held
	Table       bool              `json:"table,omitempty"`   // a scan of a table that is only looked into
	Bound       string            `json:"bound,omitempty"`   // of a join: what bounds it in time, for people
	Waiting     *Waiting          `json:"waiting,omitempty"` // of an output: its place is away; of a scan: its place cannot be told of checkpoints; of a step that keeps rows or results: its state cannot be written
	Missing     int               `json:"missing,omitempty"` // of an output: rows from before the last start that have not come again
	Spooled     int64             `json:"spooled,omitempty"` // of an output: bytes that its place has not got yet
	Alias       string            `json:"alias,omitempty"`   // of a side: what the query calls the input
	Into        *int              `json:"into,omitempty"`    // of a side: the operator that gets the rows
	Queued      int               `json:"queued,omitempty"`  // of steps that others send to, and outputs: packets that wait
	Room        int               `json:"room,omitempty"`    // how many can
	Bytes       int               `json:"bytes,omitempty"`   // in memory
	Disk        int64             `json:"disk,omitempty"`    // bytes of its state in the journal
	Parked      int               `json:"parked,omitempty"`  // parts of the state that do not fit into memory
	Busy        []int64           `json:"busy,omitempty"`    // of steps that keep rows or results: microseconds that each of its tasks has worked
}

// SplitStatus is the state of one split.
type SplitStatus struct {
	Stream    string   `json:"stream"`
	Split     string   `json:"split"`
	Next      int64    `json:"next"`                // position
	NewestAt  *int64   `json:"newest_at,omitempty"` // greatest event time, microseconds
	Watermark *int64   `json:"watermark,omitempty"`
	Idle      bool     `json:"idle,omitempty"`
	Table     bool     `json:"table,omitempty"` // of a table, which holds no stream up
	Left      *int64   `json:"left,omitempty"`  // messages that wait to be read, where that is known
	Ended     bool     `json:"ended,omitempty"`
	Notice    string   `json:"notice,omitempty"`  // what the source has to say
	Waiting   *Waiting `json:"waiting,omitempty"` // it cannot be read, and is tried again
	Holds     *Holds   `json:"holds,omitempty"`   // where steps that keep rows or results wait for it
}

// Holds says that a silent split holds the others up.
type Holds struct {
	Silent int64 `json:"silent" doc:"microseconds of wall time since it had a row"`
	Behind int64 `json:"behind,omitempty" doc:"microseconds that the watermark of the furthest split is ahead; 0 where this one never had a row"`
}

// heldUp is how long a split may be silent before it is said that the others wait for it.
const heldUp = 10 * time.Second

// holding names the split that the steps wait for: it is furthest behind, silent, and not idle, since nothing says when it would
// be. silent has the time since each split had a row.
func (j *Job) holding(splits []SplitStatus, silent []time.Duration) {
	judges := slices.ContainsFunc(j.plan.Ops, func(o *plan.Op) bool { return o.Judges() })
	low, high := -1, types.MinTime
	at := func(i int) int64 {
		if w := splits[i].Watermark; w != nil {
			return *w
		}
		return types.MinTime
	}
	for i, s := range splits {
		if s.Table || s.Ended || s.Idle {
			continue
		}
		if high = max(high, at(i)); low < 0 || at(i) < at(low) {
			low = i
		}
	}
	if !judges || low < 0 || silent[low] < heldUp || at(low) >= high {
		return
	}
	h := &Holds{Silent: silent[low].Microseconds()}
	if at(low) > types.MinTime {
		h.Behind = high - at(low)
	}
	splits[low].Holds = h
}

// Status is the ledger of a job and where its splits are.
type Status struct {
	Steps  []Step        `json:"steps"`
	Splits []SplitStatus `json:"splits"`
}

// Status gives the ledger as it stands. While the job runs, rows on their way show as open.
func (j *Job) Status() Status {
	var s Status
	total := make([]step.Counts, len(j.plan.Ops))
	add := func(cs []step.Counts) {
		for i := range cs {
			total[i].Add(cs[i])
		}
	}
	known := func(t int64) *int64 {
		if t <= types.MinTime || t >= types.MaxTime {
			return nil
		}
		return &t
	}
	var silent []time.Duration
	var waits []*Waiting
	j.sched.mu.Lock()
	all := make([][]*splitReader, len(j.sources)) // more may come meanwhile
	for i, sc := range j.sources {
		all[i] = sc.splits()
		for _, sr := range all[i] {
			silent = append(silent, j.opts.Now().Sub(sr.lastData))
			waits = append(waits, sr.waits)
		}
	}
	j.sched.mu.Unlock()
	for i, sc := range j.sources {
		for _, sr := range all[i] {
			sr.seen.Lock()
			add(sr.counts)
			st := SplitStatus{Stream: sc.op.Step, Split: sr.split.Name(), Next: sr.delivered, NewestAt: known(sr.newest), Idle: sr.idle, Ended: sr.ended, Table: sc.op.Aux}
			if st.NewestAt != nil {
				st.Watermark = known(sr.newest - sc.op.Stream.Delay)
			}
			sr.seen.Unlock()
			if n, ok := sr.split.(Counting); ok {
				left := n.Left(st.Next)
				st.Left = &left
			}
			if n, ok := sr.split.(Noticing); ok {
				st.Notice = n.Notice()
			}
			st.Waiting = waits[len(s.Splits)]
			s.Splits = append(s.Splits, st)
		}
	}
	j.holding(s.Splits, silent)
	for _, ws := range j.keyed {
		for _, w := range ws {
			w.seen.Lock()
			add(w.counts)
			w.seen.Unlock()
		}
	}
	for _, t := range j.sinks {
		t.mu.Lock()
		add(t.counts)
		t.mu.Unlock()
	}
	var waiting *Waiting
	if j.opts.Journal != nil {
		waiting = j.opts.Journal.Waiting()
	}
	for i, o := range j.plan.Ops {
		st := Step{ID: o.ID, Kind: o.Kind.String(), Step: o.Step, Detail: o.Detail, Counts: total[i], Out: total[i].Out(), Open: total[i].Open()}
		st.Bound, st.Alias, st.Table = o.Bound(), o.Alias, o.Aux
		for _, sc := range j.sources {
			if sc.op == o && sc.teller != nil {
				st.Waiting = sc.teller.waiting()
			}
		}
		if t := j.sinkOf[o]; t != nil {
			st.Queued, st.Room = len(t.box.ch), cap(t.box.ch)
			t.mu.Lock()
			st.Waiting = t.waiting(j.opts.Now())
			t.mu.Unlock()
			if x, ok := t.sink.(Spooling); ok {
				st.Spooled = x.Waiting()
			}
			if x, ok := t.sink.(Repeater); ok {
				st.Missing = x.Missing()
			}
		}
		if o.Kind == plan.Side {
			st.Into = &o.Into.ID
			for _, w := range j.keyed[o.Into] {
				w.seen.Lock()
				st.Rows += w.held[o.Side].rows
				st.Bytes += w.held[o.Side].bytes
				w.seen.Unlock()
			}
		}
		for _, w := range j.keyed[o] {
			st.Queued, st.Room = st.Queued+len(w.box.ch), st.Room+cap(w.box.ch)
			w.seen.Lock()
			st.Windows = max(st.Windows, w.open)
			st.Keys += w.keys
			st.Busy = append(st.Busy, w.busy.Microseconds())
			st.Bytes += w.bytes
			st.Disk += w.disk
			st.Parked += w.parked
			if w.disk > 0 {
				st.Waiting = waiting
			}
			if x := known(w.closed); x != nil {
				st.Watermark = x
			}
			st.OpenWindows = merged(st.OpenWindows, w.windows)
			w.seen.Unlock()
		}
		if a := o.Agg; a != nil {
			st.Lateness = a.Lateness
			st.windows(a)
		}
		s.Steps = append(s.Steps, st)
	}
	slices.SortFunc(s.Splits, func(a, b SplitStatus) int {
		return cmp.Or(cmp.Compare(a.Stream, b.Stream), cmp.Compare(a.Split, b.Split))
	})
	return s
}

// windows brings the list of open windows, which is made now and then, in step with the watermark.
func (s *Step) windows(a *plan.Aggregation) {
	if a.Kind == plan.Running || a.Kind == plan.Fixed && a.Length == 1 { // groups without windows
		s.OpenWindows, s.Windows = nil, 0
		return
	}
	whole := len(s.OpenWindows) > 0 && len(s.OpenWindows) < listedOpen
	if w := s.Watermark; w != nil {
		s.OpenWindows = slices.DeleteFunc(s.OpenWindows, func(o step.OpenWindow) bool { return o.Closes+a.Lateness <= *w })
		for i := range s.OpenWindows {
			s.OpenWindows[i].Closed = s.OpenWindows[i].Closes <= *w
		}
	}
	if whole { // they can be counted
		s.Windows = 0
		for _, o := range s.OpenWindows {
			if !o.Closed {
				s.Windows++
			}
		}
	}
}

// merged adds the windows that another task has open; those of one place are one.
func merged(list, more []step.OpenWindow) []step.OpenWindow {
	out := slices.Clone(list)
	for _, x := range more {
		i := slices.IndexFunc(out, func(o step.OpenWindow) bool { return o.Opens == x.Opens && o.Closes == x.Closes && o.Key == x.Key })
		if i < 0 {
			out = append(out, x)
		} else {
			out[i].Rows += x.Rows
		}
	}
	slices.SortFunc(out, func(a, b step.OpenWindow) int {
		return cmp.Or(cmp.Compare(b.Closes, a.Closes), cmp.Compare(a.Key, b.Key))
	})
	return out[:min(listedOpen, len(out))]
}
