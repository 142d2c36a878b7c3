package flow

import (
	"slices"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// A keyed task runs a step that has its rows shared out by key (step.Keyed), for some of the key ranges: it takes packets, gives the step what
// they bring and the watermarks, and sends on what comes out.

// gateNode keeps back what a step gives while it only gets to where it was.
type gateNode struct {
	next step.Node
	shut bool
}

// Push implements step.Node.
func (g *gateNode) Push(b *column.Batch) {
	if !g.shut {
		g.next.Push(b)
	}
}

// silently does something of which nobody but the steps is to know.
func (w *keyedTask) silently(do func() error) error {
	counts := slices.Clone(w.pipe.ctx.Counts)
	was := w.gate.shut
	w.gate.shut, w.pipe.ctx.Silent = true, true
	err := do()
	w.gate.shut, w.pipe.ctx.Silent = was, was
	copy(w.pipe.ctx.Counts, counts)
	return err
}

// keyedTask runs an operator that has its rows shared out by key, for some key ranges.
type keyedTask struct {
	job       *Job
	op        *plan.Op
	box       *inbox
	pipe      *pipe
	number    int     // among the tasks of its operator
	producers []int64 // their watermarks
	sides     []int   // side of a join, by producer
	loads     []bool  // by producer: it has been read to its end once
	loaded    bool    // all have
	quiet     []bool  // idle, by producer
	newest    int64

	cells     []*cell                // its state; one while there is little
	of        [state.KeyRanges]int16 // the cell of each key range
	gate      *gateNode
	split     *step.Splitter
	parts     []step.Delivery
	sizes     sizes
	passed    step.Watermarks // what the cells have got
	logging   bool            // deliveries are noted in the journal
	turn      int64
	bytesHeld int   // by the cells in memory
	accounted int64 // what the job knows of it
	sent      int64 // the watermark sent last
	worked    time.Duration

	instance // seen guards what follows
	disk     int64
	parked   int
	open     int
	keys     int
	bytes    int
	closed   int64
	held     [2]struct{ rows, bytes int } // of a join, by side
	windows  []step.OpenWindow
	busy     time.Duration
	looked   int64 // wall clock in ms when the windows were listed
}

// admit makes a new producer known, which sends by way of an operator.
func (w *keyedTask) admit(by *plan.Op) {
	w.box.admit()
	w.learn(by)
}

func (w *keyedTask) learn(by *plan.Op) {
	w.producers, w.quiet, w.loads = append(w.producers, types.MinTime), append(w.quiet, false), append(w.loads, false)
	if by.Kind == plan.Side {
		for len(w.sides) < len(w.producers) {
			w.sides = append(w.sides, 0)
		}
		w.sides[len(w.producers)-1] = by.Side
	}
}

func (w *keyedTask) run() error {
	ctx := w.job.ctx
	if len(w.loads) == 0 && w.op.Kind == plan.Keep {
		w.job.sched.tableLoaded() // nothing to read
	}
	defer w.job.leave(w, func(b *barrier) {
		if err := w.give(b); err != nil {
			b.fail(err)
		}
	})
	w.newest = types.MinTime
	for {
		if w.box.wait = 0; w.anyParked() {
			w.box.wait = parkedMs / 4 * time.Millisecond
			if slices.ContainsFunc(w.cells, func(c *cell) bool { return c.keyed == nil && w.lags(c) }) {
				w.box.wait = time.Millisecond // there is time to go on with them
			}
		}
		p, marker, ok := w.box.next(ctx)
		if ctx.Err() != nil {
			return nil
		}
		w.pipe.ctx.NowMs = w.job.opts.Now().UnixMilli()
		w.pipe.ctx.Machine.Now = w.pipe.ctx.NowMs * 1000
		if !ok {
			return nil
		}
		if marker != nil {
			if w.snapshot(marker) != nil {
				return nil // the run is over
			}
			continue
		}
		if p.ask != nil {
			w.tell(p.ask)
			continue
		}
		if p.from < 0 { // nothing has come for a while
			if err := w.workOff(); err != nil {
				return w.ended(err)
			}
			if w.flush(w.lowest(), false) != nil {
				return nil
			}
			continue
		}
		if p.joins != nil {
			w.learn(p.joins)
		}
		w.producers[p.from] = max(w.producers[p.from], p.watermark)
		w.quiet[p.from] = p.idle
		w.newest = max(w.newest, p.newest)
		d := step.Delivery{Rows: p.rows, Block: p.block}
		if p.groups != nil {
			d.Groups, d.Partly = p.groups.groups, p.groups.partly
		}
		m := step.Watermarks{Of: [2]int64{w.watermark(), types.MinTime}, Newest: w.newest}
		switch {
		case w.op.Kind == plan.Keep:
			d.Split, d.Fresh, d.Complete = p.split, p.fresh, p.complete
		case len(w.sides) > 0 && w.op.Kind != plan.Settle:
			d.Side = w.sides[p.from]
			m.Of = [2]int64{w.watermarkOf(0), w.watermarkOf(1)}
		}
		began := time.Now()
		out, err := w.deliver(&d, m)
		w.worked += time.Since(began)
		if err != nil {
			return w.ended(err)
		}
		if p.groups != nil {
			p.groups.release()
		}
		if p.block != nil {
			p.block.Free()
		}
		if p.loaded || p.end {
			w.load(p.from)
		}
		if err := w.flush(out, w.box.live == 0); err != nil {
			return nil
		}
	}
}

// watermark is the least over the producers that are not idle; where all that have not ended are, it is that of the one furthest on: none of
// them is waited for.
func (w *keyedTask) watermark() int64 {
	low, high, state := w.over(func(int) bool { return true })
	if state == allIdle {
		return max(high, w.passed.Of[0])
	}
	return low
}

// What the producers that are looked at do.
const (
	someSend = iota
	allIdle  // those that have not ended
	allEnded
	nobody
)

// over looks at some of the producers: it gives the least watermark, types.MaxTime where all have ended, and the greatest of all.
func (w *keyedTask) over(some func(i int) bool) (low, high int64, state int) {
	low, high, state = types.MaxTime, types.MinTime, nobody
	for i, m := range w.producers {
		if !some(i) {
			continue
		}
		high = max(high, m)
		switch {
		case w.box.ended[i]:
			state = min(state, allEnded)
		case w.quiet[i]:
			state = min(state, allIdle)
		default:
			low, state = min(low, m), someSend
		}
	}
	return low, high, state
}

// ended is the reason why a task ends, or nil where the run is over anyway.
func (w *keyedTask) ended(err error) error {
	if w.job.ctx.Err() != nil {
		return nil
	}
	return err
}

// watermarkOf is that of one side of a join. A table none of whose splits has anything to read is up to
// date: its watermark goes with the rows that ask for it.
func (w *keyedTask) watermarkOf(side int) int64 {
	low, high, state := w.over(func(i int) bool { return w.sides[i] == side })
	switch {
	case state == someSend || state == allEnded:
		return low
	case w.op.Kind == plan.AsOf && side == 1 && w.newest > types.MinTime:
		return w.newest + 1
	case w.op.Kind == plan.AsOf && side == 0, w.op.Kind == plan.Join && !w.op.Join.Tables:
		return high // a stream whose splits are all idle
	}
	return types.MinTime // the step keeps the one it knows
}

// load notes that a producer has been read to its end. When all have, the table can be asked.
func (w *keyedTask) load(from int) {
	w.loads[from] = true
	if w.loaded || slices.Contains(w.loads, false) {
		return
	}
	w.loaded = true
	if w.op.Kind == plan.Keep {
		w.job.sched.tableLoaded()
	}
}

// flush sends on what the operator gave, and the watermark of its output.
func (w *keyedTask) flush(watermark int64, end bool) error {
	t := w.pipe.take(w.job.opts.Parallelism)
	t.watermark, t.end, t.newest = watermark, end, w.newest
	w.job.samples.addAll(t)
	w.mu.Lock()
	defer w.mu.Unlock()
	var open []step.OpenWindow
	list := w.pipe.ctx.NowMs >= w.looked+listEveryMs || end
	if list {
		for _, c := range w.cells {
			if a, ok := c.keyed.(step.Aggregator); ok {
				open = merged(open, a.Open(listedOpen))
				w.looked = w.pipe.ctx.NowMs
			}
		}
	}
	w.seen.Lock()
	if list {
		w.windows = open
	}
	w.look()
	w.seen.Unlock()
	w.sent = watermark
	return w.send(w.job.ctx, t)
}

// look notes the figures that people see. The caller holds seen.
func (w *keyedTask) look() {
	w.busy = w.worked
	w.open, w.keys, w.disk, w.parked, w.bytes, w.closed = 0, 0, 0, 0, w.holds(), types.MaxTime
	clear(w.held[:])
	for _, c := range w.cells {
		w.open, w.keys = max(w.open, c.open), w.keys+c.keys
		w.disk += c.base.Len + c.logged
		if c.keyed == nil {
			w.parked++
			w.closed = min(w.closed, c.out)
			continue
		}
		w.closed = min(w.closed, c.keyed.Closed())
		for side := range w.held {
			rows, bytes := c.keyed.Held(side)
			w.held[side].rows += rows
			w.held[side].bytes += bytes
		}
	}
}

func (w *keyedTask) snapshot(m *barrier) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if !m.hears(w) {
		return nil
	}
	err := w.give(m)
	if err != nil {
		m.fail(err)
	}
	err = w.sendMarker(w.job.ctx, m)
	m.done()
	return err
}

// Open windows are listed for people, not at every packet.
const (
	listEveryMs = 250
	listedOpen  = 60
)
