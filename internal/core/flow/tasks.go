package flow

import (
	"context"
	"fmt"
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
	from      int
	groups    *sharedGroups
	rows      *column.Batch // of the task alone
	block     *state.Block  // of the task alone
	split     int32         // of the producer
	fresh     bool
	complete  bool
	loaded    bool // the split has been read to its end, for now
	payload   Payload
	watermark int64
	newest    int64 // greatest event time of the producer's rows
	idle      bool
	end       bool
	marker    *barrier
}

// queueLength is how many packets wait at a task before its producers do.
const queueLength = 4

// inbox is the queue of a task. For a checkpoint it lines its producers up: packets of those whose
// marker has come are kept back until the markers of all others are there. The marker of a later
// checkpoint ends the waiting for one that was abandoned.
type inbox struct {
	ch     chan packet
	live   int
	ended  []bool
	marked []bool
	marks  int
	marker *barrier
	newest int64 // number of the newest checkpoint heard of
	kept   []packet
	ready  []packet
	wait   time.Duration // how long next waits for a packet before it gives an empty one; 0: for ever
}

func newInbox() *inbox { return &inbox{ch: make(chan packet, queueLength)} }

func (b *inbox) addProducer() int {
	b.ended, b.marked = append(b.ended, false), append(b.marked, false)
	b.live++
	return b.live - 1
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
		if b.marker != nil && b.marks >= b.live {
			m := b.marker
			b.marker, b.marks = nil, 0
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
		switch {
		case p.marker != nil && p.marker.number < b.newest:
			continue // abandoned
		case p.marker != nil && p.marker.number > b.newest && b.marker != nil:
			b.newest = p.marker.number
			b.ready = append(append(b.kept, p), b.ready...)
			b.kept, b.marker, b.marks = nil, nil, 0
			clear(b.marked)
			continue
		case p.marker != nil:
			b.marker, b.newest = p.marker, p.marker.number
			b.marked[p.from] = true
			b.marks++
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

// keyedTask runs an operator that has its rows shared out by key, for some key ranges.
type keyedTask struct {
	job    *Job
	op     *plan.Op
	box    *inbox
	pipe   *pipe
	number int     // among the tasks of its operator
	marks  []int64 // watermark by producer
	sides  []int   // side of a join, by producer
	loads  []bool  // by producer: it has been read to its end once
	loaded bool    // all have
	quiet  []bool  // idle, by producer
	newest int64

	cells     []*cell                // its state; one while there is little
	of        [state.KeyRanges]int16 // the cell of each key range
	gate      *gateNode
	split     *step.Splitter
	parts     []step.Delivery
	sizes     sizes
	passed    marks // what the cells have got
	logging   bool  // deliveries are noted in the journal
	turn      int64
	bytesHeld int   // by the cells in memory
	accounted int64 // what the job knows of it
	sent      int64 // the watermark sent last

	instance // seen guards what follows
	disk     int64
	parked   int
	open     int
	keys     int
	bytes    int
	closed   int64
	held     [2]struct{ rows, bytes int } // of a join, by side
	windows  []step.OpenWindow
	looked   int64 // wall clock in ms when the windows were listed
}

// Open windows are listed for people, not at every packet.
const (
	listEveryMs = 250
	listedOpen  = 60
)

// holder is a keyed step that holds rows of two sides.
type holder interface {
	Held(side int) (rows, bytes int)
}

// keyed is what a keyedTask runs.
type keyed interface {
	Closed() int64
	Size() (open, keys, bytes int)
	Snapshot() []byte
	Restore(b []byte) error
}

func (w *keyedTask) run() error {
	ctx := w.job.ctx
	for len(w.marks) < len(w.box.ended) {
		w.marks, w.quiet, w.loads = append(w.marks, types.MinTime), append(w.quiet, false), append(w.loads, false)
	}
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
		if p.from < 0 { // nothing has come for a while
			if err := w.workOff(); err != nil {
				return w.ended(err)
			}
			if w.flush(w.lowest(), false) != nil {
				return nil
			}
			continue
		}
		w.marks[p.from] = max(w.marks[p.from], p.watermark)
		w.quiet[p.from] = p.idle
		w.newest = max(w.newest, p.newest)
		if p.end {
			w.marks[p.from] = types.MaxTime
		}
		out := types.MinTime
		if k, ok := w.cells[0].keyed.(*step.Keep); ok {
			k.Merge(p.block, p.split, p.fresh, p.complete)
			k.Advance()
			w.measure(w.cells[0])
			if w.job.opts.Journal == nil && w.job.opts.Memory > 0 {
				if err := w.within(); err != nil {
					return err
				}
			}
		} else {
			d := step.Delivery{Rows: p.rows, Block: p.block}
			if p.groups != nil {
				d.Groups, d.Partly = p.groups.groups, p.groups.partly
			}
			m := marks{at: [2]int64{w.watermark(), types.MinTime}, newest: w.newest}
			if len(w.sides) > 0 && w.op.Kind != plan.Settle {
				d.Side = w.sides[p.from]
				m.at = [2]int64{w.watermarkOf(0), w.watermarkOf(1)}
			}
			var err error
			if out, err = w.deliver(&d, m); err != nil {
				return w.ended(err)
			}
			if p.groups != nil {
				p.groups.release()
			}
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

// watermark is the least over the producers that are not idle; where all are, it is that of the one furthest on: none of
// them is waited for.
func (w *keyedTask) watermark() int64 {
	low, high, any := types.MaxTime, w.passed.at[0], false
	for i, m := range w.marks {
		if !w.quiet[i] || w.box.ended[i] {
			low, any = min(low, m), true
		} else {
			high = max(high, m)
		}
	}
	if !any {
		return high
	}
	return low
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
	low, high, any := types.MaxTime, types.MinTime, false
	for i, m := range w.marks {
		switch {
		case w.sides[i] != side:
		case !w.quiet[i] || w.box.ended[i]:
			low, any = min(low, m), true
		default:
			high = max(high, m)
		}
	}
	switch {
	case any:
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
		if h, ok := c.keyed.(holder); ok {
			for side := range w.held {
				rows, bytes := h.Held(side)
				w.held[side].rows += rows
				w.held[side].bytes += bytes
			}
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
	err = w.mark(w.job.ctx, m)
	m.done()
	return err
}

// sinkTask writes to a sink.
type sinkTask struct {
	job    *Job
	op     *plan.Op
	sink   Sink
	box    *inbox
	mu     sync.Mutex
	counts []step.Counts
	trying [2]attempt // writing, and telling which checkpoints count, which another goroutine does

	exact     Exact       // nil where the run takes no checkpoints
	due       chan []byte // the newest handle to commit
	committed chan struct{}
}

// attempt is what a sink is being asked to do, and what it has waited for so far.
type attempt struct {
	began time.Time // of the try at hand; zero: there is none
	waits *Waiting  // nil: the last try succeeded
}

const (
	toWrite = iota
	toCommit
)

// slowTry is how long a place may take before it counts as away.
const slowTry = 5 * time.Second

// waiting says what the sink waits for, or gives nil. The caller holds the lock.
func (s *sinkTask) waiting(now time.Time) *Waiting {
	for _, a := range s.trying {
		if a.waits != nil {
			return a.waits
		}
	}
	for _, a := range s.trying {
		if d := now.Sub(a.began); !a.began.IsZero() && d > slowTry {
			return &Waiting{Since: a.began, Reason: fmt.Sprintf("its place has not answered for %d seconds", int(d.Seconds()))}
		}
	}
	return nil
}

// Waiting says that a sink's place is away, or full, and that what is to be written is tried again.
type Waiting struct {
	Since  time.Time `json:"since"`
	Reason string    `json:"reason"`
	Tries  int       `json:"tries"` // that have failed
}

const (
	firstTryAfter = 50 * time.Millisecond
	lastTryAfter  = 5 * time.Second
)

// try does something to the sink, again for as long as the failure may pass by itself. Meanwhile the queues
// before it fill and hold their producers up. It gives nil without having done it when ctx is over.
func (s *sinkTask) try(ctx context.Context, what int, do func() error) error {
	wait := firstTryAfter
	a := &s.trying[what]
	for {
		s.mu.Lock()
		a.began = s.job.opts.Now()
		s.mu.Unlock()
		err := do()
		r, ok := s.sink.(Retrier)
		s.mu.Lock()
		a.began = time.Time{}
		if err == nil || !ok || !r.Retry(err) {
			was := a.waits
			a.waits = nil
			s.mu.Unlock()
			if was != nil && err == nil {
				s.job.say("a sink is there again", "sink", s.op.Step, "tries", was.Tries)
			}
			return err
		}
		w := Waiting{Since: s.job.opts.Now(), Reason: err.Error(), Tries: 1}
		if a.waits != nil {
			w.Since, w.Tries = a.waits.Since, a.waits.Tries+1
		}
		a.waits = &w
		s.mu.Unlock()
		if w.Tries == 1 {
			s.job.say("a sink cannot be written, and is tried again", "sink", s.op.Step, "error", err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(wait):
		}
		wait = min(2*wait, lastTryAfter)
	}
}

// named says whose failure it is.
func (s *sinkTask) named(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("sink %s: %w", s.op.Step, err)
}

func (s *sinkTask) run() error {
	err := s.write()
	if err == nil && s.job.ctx.Err() == nil {
		s.job.leave(s, func(b *barrier) {
			if err := s.mark(b); err != nil {
				b.fail(err)
			}
		})
	}
	return err
}

// mark gives a checkpoint the sink's handle and counts.
func (s *sinkTask) mark(b *barrier) error {
	if s.exact != nil {
		var handle []byte
		err := s.try(s.job.ctx, toWrite, func() (err error) {
			handle, err = s.exact.Mark(b.final)
			return err
		})
		if err != nil || s.job.ctx.Err() != nil {
			return s.named(err)
		}
		b.mu.Lock()
		b.snap.Sinks[s.op.Key] = handle
		b.mu.Unlock()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	b.state(s.counts)
	return nil
}

// commit tells the sink of the checkpoints that count, one at a time, until the job is closed. A place that is
// away is tried again; meanwhile newer handles take the place of older ones, since each covers those before.
func (s *sinkTask) commit(ctx context.Context) {
	defer close(s.committed)
	for {
		select {
		case <-ctx.Done():
			return
		case handle, ok := <-s.due:
			if !ok {
				return
			}
			err := safely(func() error { return s.try(ctx, toCommit, func() error { return s.exact.Commit(handle) }) })
			s.setAside()
			if err != nil {
				s.job.fail(s.named(err))
				return
			}
		}
	}
}

func (s *sinkTask) write() error {
	for {
		p, marker, ok := s.box.next(s.job.ctx)
		if !ok {
			return nil
		}
		if marker != nil {
			if marker.hears(s) {
				if err := s.mark(marker); err != nil {
					return err
				}
				marker.done()
			}
			continue
		}
		if p.payload.Rows == 0 {
			continue
		}
		rows := int64(p.payload.Rows)
		s.mu.Lock()
		s.counts[s.op.ID].In += rows
		s.mu.Unlock()
		if err := s.try(s.job.ctx, toWrite, func() error { return s.sink.Write(p.payload) }); err != nil {
			return s.named(err)
		}
		if s.job.ctx.Err() != nil {
			return nil
		}
		s.mu.Lock()
		s.counts[s.op.ID].Passed += rows
		s.mu.Unlock()
	}
}

// setAside counts the rows that the place has refused.
func (s *sinkTask) setAside() {
	r, ok := s.sink.(Refuser)
	if !ok {
		return
	}
	for _, x := range r.Refused() {
		s.mu.Lock()
		s.counts[s.op.ID].Passed--
		s.counts[s.op.ID].Rejected++
		s.mu.Unlock()
		s.job.samples.addAll(&turn{reasons: map[step.Reason]int64{{Op: s.op.ID, Class: step.ReasonClass(x.Reason)}: 1},
			samples: []step.Sample{{Op: s.op.ID, Reason: x.Reason, Split: -1, EventTime: types.MinTime, Row: x.Row}}})
	}
}
