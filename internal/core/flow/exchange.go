package flow

import (
	"context"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// How rows go from a stage to the tasks behind it: what leaves a pipe is a turn; an instance, which is a split or a task, sends it as packets
// to the inboxes of its targets; an inbox lines its producers up for a checkpoint.

// instance is one sender of a stage: a split of a scan, or a task of a window.
type instance struct {
	mu    gate // held while its packets are sent, so that they leave in order; full queues hold it up
	keyed []target
	sinks []target

	seen   sync.Mutex // never held for long; guards what follows, which is changed under mu only
	counts []step.Counts
	ended  bool
}

// target is where an instance sends, and the number it has there.
type target struct {
	op    *plan.Op
	boxes []*inbox // one a task
	from  int
}

// send gives a turn to the instance's targets. The caller holds the instance's lock.
func (in *instance) send(ctx context.Context, t *turn) error {
	in.seen.Lock()
	for i := range t.counts {
		in.counts[i].Add(t.counts[i])
	}
	in.seen.Unlock()
	for _, w := range in.keyed {
		pk := packet{from: w.from, progress: t.progress}
		if k := slices.Index(t.partials, w.op); k >= 0 {
			pk.groups = t.groups[k]
		}
		k, m := slices.Index(t.shuffles, w.op), slices.Index(t.sides, w.op)
		for i, b := range w.boxes {
			if k >= 0 {
				pk.rows = t.rows[k][i]
			}
			if m >= 0 {
				pk.block = t.blocks[m][i]
			}
			if err := b.put(ctx, pk); err != nil {
				return err
			}
		}
	}
	for _, s := range in.sinks {
		pk := packet{from: s.from, progress: progress{end: t.end}}
		if k := slices.Index(t.outputs, s.op); k >= 0 {
			pk.payload = t.payloads[k]
		}
		if pk.payload.Rows == 0 && !pk.end {
			continue
		}
		if err := s.boxes[0].put(ctx, pk); err != nil {
			return err
		}
	}
	if t.end {
		in.seen.Lock()
		in.ended = true
		in.seen.Unlock()
	}
	return nil
}

// sendMarker sends a checkpoint's marker to all targets. The caller holds the instance's lock.
func (in *instance) sendMarker(ctx context.Context, m *barrier) error {
	for _, t := range slices.Concat(in.keyed, in.sinks) {
		for _, b := range t.boxes {
			if err := b.put(ctx, packet{from: t.from, marker: m}); err != nil {
				return err
			}
		}
	}
	return nil
}

// progress is how far a producer has come: it goes with its rows, from the piece of a split to every step behind it.
type progress struct {
	watermark int64
	newest    int64 // greatest event time of its rows so far
	idle      bool  // it is not waited for
	end       bool  // nothing comes any more
	// Of a split of a table:
	split    int32 // which one
	fresh    bool  // it is read again from its beginning
	complete bool  // that was its end
	loaded   bool  // it has been read to its end, for now
}

// turn is what came out of a pipe for one piece or one advance of the watermark.
type turn struct {
	counts   []step.Counts
	samples  []step.Sample
	reasons  map[step.Reason]int64 // nil where nothing was rejected
	groups   []*sharedGroups       // by partial; nil where empty
	rows     [][]*column.Batch     // by shuffle, then task
	shuffles []*plan.Op
	blocks   [][]*state.Block // by side, then task
	sides    []*plan.Op
	payloads []Payload // by output
	outputs  []*plan.Op
	partials []*plan.Op
	progress
	still int64 // watermark that the clock gives while all splits are idle, or 0
	next  int64 // position behind it
}

// take empties the pipe into a turn.
func (p *pipe) take(tasks int) *turn {
	p.ctx.Flush()
	t := &turn{counts: slices.Clone(p.ctx.Counts), samples: slices.Clone(p.ctx.Samples), reasons: maps.Clone(p.ctx.Reasons), progress: progress{newest: types.MinTime}}
	for _, x := range p.partials {
		var g *sharedGroups
		if x.Groups.Len() > 0 || x.Partly != nil {
			g = &sharedGroups{op: x.Op, groups: x.Groups, partly: x.Partly}
			g.refs.Store(int32(tasks))
			x.Groups, x.Partly = groupsPool.get(x.Op), nil
		}
		t.groups, t.partials = append(t.groups, g), append(t.partials, x.Op)
	}
	for _, x := range p.shuffles {
		t.rows, t.shuffles = append(t.rows, x.Parts), append(t.shuffles, x.Op)
		x.Parts = make([]*column.Batch, len(x.Parts))
	}
	for _, x := range p.sides {
		t.blocks, t.sides = append(t.blocks, x.Blocks), append(t.sides, x.Op)
		x.Blocks = make([]*state.Block, len(x.Blocks))
	}
	for _, o := range p.outputs {
		t.payloads, t.outputs = append(t.payloads, o.enc.enc.Take()), append(t.outputs, o.op)
	}
	p.ctx.Reset()
	return t
}

// deliver sends a turn when all turns before it have been sent; until then it is kept. The turn's
// watermark is at first the greatest event time of its own rows. The caller holds the split's lock.
func (sr *splitReader) deliver(j *Job, seq int64, t *turn) {
	if sr.pending == nil {
		sr.pending = map[int64]*turn{}
	}
	sr.pending[seq] = t
	for {
		t, ok := sr.pending[sr.dueSeq]
		if !ok {
			return
		}
		delete(sr.pending, sr.dueSeq)
		sr.dueSeq++
		sr.seen.Lock()
		sr.newest = max(sr.newest, t.watermark)
		sr.idle = t.idle
		sr.delivered = t.next
		sr.seen.Unlock()
		t.watermark, t.newest = types.MinTime, sr.newest
		if sr.newest > types.MinTime {
			t.watermark = sr.newest - sr.scan.op.Stream.Delay
		}
		if t.still != 0 {
			t.watermark = max(t.watermark, t.still)
		}
		j.samples.addAll(t)
		if err := sr.send(j.ctx, t); err != nil {
			return // the run is over; its reason is known
		}
		sr.seen.Lock()
		sr.sent++
		sr.seen.Unlock()
		j.sched.mu.Lock()
		sr.atTime = sr.newest
		j.sched.mu.Unlock()
	}
}

// sharedGroups is a table that several tasks read, each its own key ranges.
type sharedGroups struct {
	op     *plan.Op
	groups *state.Groups
	partly *state.Groups // of rows late for some of their windows, or nil
	refs   atomic.Int32
}

func (g *sharedGroups) release() {
	if g.refs.Add(-1) == 0 {
		groupsPool.put(g.op, g.groups)
	}
}

// groupsPool keeps emptied tables by their width.
var groupsPool = &tablePool{}

type tablePool struct{ pools sync.Map }

func (p *tablePool) of(o *plan.Op) *sync.Pool {
	x, _ := p.pools.LoadOrStore(step.EntryWords(o), &sync.Pool{})
	return x.(*sync.Pool)
}

func (p *tablePool) get(o *plan.Op) *state.Groups {
	if g, ok := p.of(o).Get().(*state.Groups); ok {
		return g
	}
	return &state.Groups{Width: step.EntryWords(o)}
}

func (p *tablePool) put(o *plan.Op, g *state.Groups) {
	g.Reset()
	p.of(o).Put(g)
}

// packet is what a producer sends to a task: rows and a watermark, or a marker.
type packet struct {
	from    int
	groups  *sharedGroups
	rows    *column.Batch // of the task alone
	block   *state.Block  // of the task alone
	payload Payload
	progress
	marker *barrier
	joins  *plan.Op // the producer is new, and sends by way of this one
	ask    *question
}

// queueLength is how many packets wait at a task before its producers do.
const queueLength = 4

// inbox is the queue of a task. For a checkpoint it lines its producers up: packets of those whose
// marker has come are kept back until the markers of all others are there. The marker of a later
// checkpoint ends the waiting for one that was abandoned.
type inbox struct {
	ch      chan packet
	numbers int // of producers, also of those that are not admitted yet; guarded by Job.checkpoint while the job runs
	live    int
	ended   []bool
	marked  []bool
	arrived int // markers
	marker  *barrier
	newest  int64 // number of the newest checkpoint heard of
	kept    []packet
	ready   []packet
	wait    time.Duration // how long next waits for a packet before it gives an empty one; 0: for ever
}

func newInbox() *inbox { return &inbox{ch: make(chan packet, queueLength)} }

// newProducer gives the number of a producer that is to come.
func (b *inbox) newProducer() int {
	b.numbers++
	return b.numbers - 1
}

// admit has the next producer send. Only the task calls it once that runs.
func (b *inbox) admit() {
	b.ended, b.marked = append(b.ended, false), append(b.marked, false)
	b.live++
}

func (b *inbox) put(ctx context.Context, p packet) error {
	select {
	case b.ch <- p:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// next gives the next packet, or a marker once it has come from all producers, or false when all
// producers have ended or the run is over.
func (b *inbox) next(ctx context.Context) (packet, *barrier, bool) {
	for {
		if b.marker != nil && b.arrived >= b.live {
			m := b.marker
			b.marker, b.arrived = nil, 0
			clear(b.marked)
			b.ready, b.kept = append(b.kept, b.ready...), nil
			return packet{}, m, true
		}
		var p packet
		if len(b.ready) > 0 {
			p, b.ready = b.ready[0], b.ready[1:]
		} else if b.live == 0 {
			return packet{}, nil, false
		} else {
			var over <-chan time.Time
			if b.wait > 0 {
				over = time.After(b.wait)
			}
			select {
			case p = <-b.ch:
			case <-over:
				return packet{from: -1}, nil, true
			case <-ctx.Done():
				return packet{}, nil, false
			}
		}
		if p.ask != nil {
			return p, nil, true
		}
		if p.joins != nil {
			b.admit()
			return p, nil, true
		}
		switch {
		case p.marker != nil && p.marker.number < b.newest:
			continue // abandoned
		case p.marker != nil && p.marker.number > b.newest && b.marker != nil:
			b.newest = p.marker.number
			b.ready = append(append(b.kept, p), b.ready...)
			b.kept, b.marker, b.arrived = nil, nil, 0
			clear(b.marked)
			continue
		case p.marker != nil:
			b.marker, b.newest = p.marker, p.marker.number
			b.marked[p.from] = true
			b.arrived++
			continue
		case b.marked[p.from]:
			b.kept = append(b.kept, p)
			continue
		}
		if p.end && !b.ended[p.from] {
			b.ended[p.from] = true
			b.live--
		}
		return p, nil, true
	}
}
