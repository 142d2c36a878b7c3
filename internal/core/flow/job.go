package flow

import (
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
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

// Options are how a plan is run.
type Options struct {
	Parallelism int       // 0: the plan's, or the number of processors
	Restore     *Snapshot // nil: from the beginning
	SameVersion bool      // Restore was taken of a plan of the same text: all of its state must find its operator
	Checkpoints bool      // checkpoints will be taken: sinks take part, and whoever runs the job closes it
	Now         func() time.Time
	// Journal takes state that does not fit into Memory, and what changes between checkpoints. Without it all state
	// is held in memory, and checkpoints write all of it.
	Journal   Journal
	Memory    int64   // bytes of state that steps may hold in memory; 0: any number
	CellBytes int     // how much a part of the state may hold before it is cut in two; 0: as is usual
	Budget    *Budget // memory that is shared with other runs; nil: none is
	Polite    bool    // leaves the processors to runs that are not
	First     int     // keep the first so many rows of each step to look at, instead of some of the newest
	Lags      bool    // count how far the rows of every source lag behind
	// Arrived is called, over and over, while splits wait for a checkpoint to join with; nil: nobody takes one before it is time.
	Arrived func()
	// Delivered is told when a sink has been told of a checkpoint that counts: since when it was tried; nil: nobody.
	Delivered func(sink string, began time.Time, err error)
	// Say is told what people should know of the run while it goes on, with pairs of names and values; nil: nobody.
	Say func(text string, args ...any)
	// Describe writes a row for people, as JSON.
	Describe func(fields []types.Field, b *column.Batch, i int) string
}

// Job is a plan being run.
type Job struct {
	plan       *plan.Plan
	opts       Options
	sources    []*scanner
	keyed      map[*plan.Op][]*keyedTask
	keyedTasks int                       // those whose state can be parked
	held       atomic.Int64              // bytes of state that these hold in memory
	worked     atomic.Int64              // nanoseconds that the workers of a polite run have worked
	tables     map[*plan.Op]*state.Table // by Keep
	caches     map[*plan.Op]step.Rows    // by Lookup, where the place is asked
	sinks      []*sinkTask
	sinkOf     map[*plan.Op]*sinkTask
	sched      scheduler
	taps       map[int]*tap
	samples    samples

	ctx    context.Context
	cancel context.CancelFunc
	wg     sync.WaitGroup
	failed error
	once   sync.Once
	ended  atomic.Bool

	checkpoint gate     // one at a time
	markers    int64    // checkpoints begun
	numbered   int      // splits
	leaving    gate     // guards barrier and left
	barrier    *barrier // the checkpoint at hand
	left       map[any]func(b *barrier)
	closed     bool

	committing       context.Context // of the tasks that tell sinks which checkpoints count
	cancelCommitting context.CancelFunc
}

func (j *Job) say(text string, args ...any) {
	if j.opts.Say != nil {
		j.opts.Say(text, args...)
	}
}

// gate is a lock that can be held for long: who waits for it waits on a channel.
type gate chan struct{}

func newGate() gate { return make(gate, 1) }

func (g gate) Lock() { g <- struct{}{} }

func (g gate) Unlock() { <-g }

// New opens the sources and sinks of a plan and prepares to run it.
func New(p *plan.Plan, o Opener, opts Options) (*Job, error) {
	if opts.Parallelism == 0 {
		opts.Parallelism = p.Parallelism
	}
	if opts.Parallelism == 0 {
		opts.Parallelism = runtime.GOMAXPROCS(0)
	}
	if opts.Now == nil {
		opts.Now = time.Now
	}
	j := &Job{plan: p, opts: opts, keyed: map[*plan.Op][]*keyedTask{}, sinkOf: map[*plan.Op]*sinkTask{}, taps: map[int]*tap{}, tables: map[*plan.Op]*state.Table{}, caches: map[*plan.Op]step.Rows{}, left: map[any]func(b *barrier){}, leaving: newGate(), checkpoint: newGate()}
	j.ctx, j.cancel = context.WithCancel(context.Background())
	j.committing, j.cancelCommitting = context.WithCancel(context.Background())
	j.sched.init(j)
	if err := j.open(o); err != nil {
		_ = j.Close(false)
		return nil, err
	}
	return j, nil
}

func (j *Job) open(o Opener) error {
	for _, op := range j.plan.Ops {
		if op.Named() {
			j.taps[op.ID] = &tap{op: op, describe: j.opts.Describe, first: j.opts.First}
		}
	}
	for _, op := range j.plan.Outputs() {
		s, err := o.OpenSink(op)
		if err != nil {
			return fmt.Errorf("sink %s: %w", op.Step, err)
		}
		t := &sinkTask{job: j, op: op, sink: s, box: newInbox(), counts: make([]step.Counts, len(j.plan.Ops))}
		j.sinks = append(j.sinks, t)
		j.sinkOf[op] = t
		if x, ok := s.(Exact); ok && j.opts.Checkpoints {
			var handle []byte
			if r := j.opts.Restore; r != nil {
				handle = r.Sinks[op.Key]
			}
			if err := x.Resume(handle); err != nil {
				return t.named(err)
			}
			t.exact, t.due, t.committed = x, make(chan []byte, 1), make(chan struct{})
			go t.commit(j.committing)
		}
	}
	for _, op := range j.plan.Ops {
		switch {
		case op.Kind == plan.Keep:
			j.tables[op] = state.NewTable(j.opts.Parallelism)
			j.sched.loading += j.opts.Parallelism
		case op.Kind == plan.Lookup && op.OfTable.Lookup:
			c, err := o.OpenLookup(op)
			if err != nil {
				return fmt.Errorf("table %s: %w", op.OfTable.Name, err)
			}
			j.caches[op] = c
		}
	}
	// Consumers first, so that producers find their targets.
	for i := len(j.plan.Ops) - 1; i >= 0; i-- {
		op := j.plan.Ops[i]
		switch op.Kind {
		case plan.Window, plan.Unique, plan.Over, plan.Join, plan.AsOf, plan.Keep, plan.Settle:
			if err := j.openKeyed(op); err != nil {
				return err
			}
		case plan.Scan:
			s, err := o.OpenSource(op)
			if err != nil {
				return fmt.Errorf("%s %s: %w", sourceKind(op), op.Step, err)
			}
			sc := &scanner{job: j, op: op, source: s}
			j.sources = append(j.sources, sc)
			if sc.ends, err = j.pipe(op, step.NewContext(len(j.plan.Ops), j.opts.Describe)); err != nil { // workers make their own ones
				return err
			}
			sc.begin()
			s.OnData(j.sched.wake)
			if x, ok := s.(Committing); ok && j.opts.Checkpoints {
				sc.teller = newTeller(sc, x)
				go sc.teller.run(j.committing)
			}
		}
	}
	if j.opts.Restore != nil {
		return j.restore(j.opts.Restore)
	}
	return nil
}

func sourceKind(op *plan.Op) string {
	if op.OfTable != nil {
		return "table"
	}
	return "stream"
}

// connect finds out where an instance sends: where its pipe ends. It is the next producer of all tasks there. While the job runs
// they do not know it yet (introduce).
func (j *Job) connect(in *instance, p *pipe, runs bool) {
	in.counts, in.mu = make([]step.Counts, len(j.plan.Ops)), newGate()
	for _, n := range p.keyed() {
		to := n
		if n.Kind == plan.Side {
			to = n.Into
		}
		t := target{op: n}
		for _, w := range j.keyed[to] {
			t.boxes = append(t.boxes, w.box)
			t.from = w.box.newProducer()
			if !runs {
				w.admit(n)
			}
		}
		in.keyed = append(in.keyed, t)
	}
	for _, o := range p.outputs {
		box := j.sinkOf[o.op].box
		in.sinks = append(in.sinks, target{op: o.op, boxes: []*inbox{box}, from: box.newProducer()})
		if !runs {
			box.admit()
		}
	}
}

// introduce has the tasks that an instance sends to know it, and where it begins. They learn it in the order of their packets, so that it can
// be done while they run, behind what was sent before. The caller holds the lock of checkpoints.
func (j *Job) introduce(in *instance, at progress) error {
	for _, t := range slices.Concat(in.keyed, in.sinks) {
		for _, b := range t.boxes {
			if err := b.put(j.ctx, packet{from: t.from, joins: t.op, progress: at}); err != nil {
				return err
			}
		}
	}
	return nil
}

func (j *Job) openKeyed(op *plan.Op) error {
	n := j.opts.Parallelism
	for t := range n {
		w := &keyedTask{job: j, op: op, box: newInbox(), number: t, passed: step.NoWatermarks, sent: types.MinTime, sizes: sizesOf(j.opts.CellBytes)}
		ctx := step.NewContext(len(j.plan.Ops), j.opts.Describe)
		pipe, err := j.pipe(op, ctx)
		if err != nil {
			return err
		}
		w.pipe = pipe
		j.connect(&w.instance, pipe, false)
		ctx.Relieve = func() {
			if !ctx.Silent && pipe.held() > reliefBytes {
				_ = w.flush(w.sent, false) // the run is over where it fails
			}
		}
		w.gate, w.split = &gateNode{next: pipe.root}, step.NewSplitter(op, ctx)
		w.cells = []*cell{{task: t, tasks: n, keyed: step.NewKeyed(w.op, w.pipe.ctx, w.gate, w.job.tables[w.op], t, n), out: types.MinTime}}
		w.place()
		if w.cuts() {
			j.keyedTasks++
		}
		j.keyed[op] = append(j.keyed[op], w)
	}
	return nil
}

// Run runs the plan until its inputs end, it fails or the context is cancelled. A job that takes checkpoints is
// left open at the end of its inputs, for a last one.
func (j *Job) Run(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() { j.fail(context.Cause(ctx)) })
	defer stop()
	for _, s := range j.sinks {
		j.spawn(s.run)
	}
	for _, ws := range j.keyed {
		for _, w := range ws {
			j.spawn(w.run)
		}
	}
	j.announce()
	for range j.opts.Parallelism {
		j.spawn(j.work)
	}
	j.spawn(j.sched.tick)
	j.wg.Wait()
	j.once.Do(func() { j.ended.Store(true) })
	err := j.failed
	if err == nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if j.opts.Checkpoints && err == nil {
		return nil
	}
	return errors.Join(err, j.Close(err == nil))
}

func (j *Job) spawn(f func() error) {
	j.wg.Go(func() {
		if err := safely(f); err != nil {
			j.fail(err)
		}
	})
}

// fail ends the run; the first reason counts. ErrDone ends it without an error.
func (j *Job) fail(err error) {
	j.once.Do(func() {
		if !errors.Is(err, ErrDone) {
			j.failed = err
		}
		j.ended.Store(true)
	})
	j.cancel()
	j.sched.wake()
	for _, sc := range j.sources {
		for _, sr := range sc.splits() {
			sr.maxMu.Lock()
			sr.cond.Broadcast()
			sr.maxMu.Unlock()
		}
	}
}

// Pause ends reading and waits until what was read has left the stages that read, or ctx is over. The job waits
// then, for a last checkpoint and Close.
func (j *Job) Pause(ctx context.Context) {
	j.sched.mu.Lock()
	j.sched.paused = true
	j.sched.mu.Unlock()
	for {
		busy := false
		for _, sc := range j.sources {
			for _, sr := range sc.splits() {
				j.sched.mu.Lock()
				seq, reading := sr.seq, sr.reading
				j.sched.mu.Unlock()
				sr.seen.Lock()
				busy = busy || reading || seq != sr.sent
				sr.seen.Unlock()
			}
		}
		if !busy {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-j.ctx.Done():
			return
		case <-time.After(time.Millisecond):
		}
	}
}

// ErrDone is what a sink gives when it needs no more rows: the run ends without an error.
var ErrDone = errors.New("the query has all its rows")

// Close closes sources and sinks. complete says that all rows have been written and all checkpoints told.
func (j *Job) Close(complete bool) error {
	j.cancel()
	j.checkpoint.Lock() // one that is being taken ends, and lets no split join any more
	defer j.checkpoint.Unlock()
	j.leaving.Lock()
	defer j.leaving.Unlock()
	if j.closed {
		return nil
	}
	j.closed = true
	if b := j.opts.Budget; b != nil {
		b.used.Add(-j.held.Load())
	}
	var errs []error
	j.cancelCommitting()
	for _, s := range j.sinks {
		if s.committed != nil {
			<-s.committed
		}
		errs = append(errs, s.sink.Close(complete))
	}
	for _, c := range j.caches {
		if x, ok := c.(io.Closer); ok {
			errs = append(errs, x.Close())
		}
	}
	for _, s := range j.sources {
		for _, sp := range s.splits() {
			errs = append(errs, sp.split.Close())
		}
		for _, sp := range s.arrived {
			errs = append(errs, sp.Close())
		}
		if s.teller != nil {
			<-s.teller.done
		}
		errs = append(errs, s.source.Close())
	}
	return errors.Join(errs...)
}
