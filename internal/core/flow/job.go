package flow

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// Options are how a plan is run.
type Options struct {
	Parallelism int       // 0: the plan's, or the number of processors
	Restore     *Snapshot // nil: from the beginning
	Now         func() time.Time
	// Describe writes a row for people, as JSON.
	Describe func(fields []types.Field, b *column.Batch, i int) string
}

// Job is a plan being run.
type Job struct {
	plan    *plan.Plan
	opts    Options
	sources []*scanner
	windows map[*plan.Op][]*windowTask
	sinks   []*sinkTask
	sinkOf  map[*plan.Op]*sinkTask
	sched   scheduler
	taps    map[int]*tap
	samples samples

	ctx    context.Context
	cancel context.CancelFunc
	wg     sync.WaitGroup
	failed error
	once   sync.Once
	ended  atomic.Bool

	checkpoint sync.Mutex // one at a time
	markers    int64      // checkpoints begun
}

// instance is one sender of a stage: a split of a scan, or a task of a window.
type instance struct {
	mu      sync.Mutex // held while its packets are sent, so that they leave in order; full queues hold it up
	windows []target
	sinks   []target

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
	j := &Job{plan: p, opts: opts, windows: map[*plan.Op][]*windowTask{}, sinkOf: map[*plan.Op]*sinkTask{}, taps: map[int]*tap{}}
	j.ctx, j.cancel = context.WithCancel(context.Background())
	j.sched.init(j)
	if err := j.open(o); err != nil {
		j.close(false)
		return nil, err
	}
	return j, nil
}

func (j *Job) open(o Opener) error {
	for _, op := range j.plan.Ops {
		if op.Named() {
			j.taps[op.ID] = &tap{op: op, describe: j.opts.Describe}
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
	}
	// Consumers first, so that producers find their targets.
	for i := len(j.plan.Ops) - 1; i >= 0; i-- {
		op := j.plan.Ops[i]
		switch op.Kind {
		case plan.Window:
			if err := j.openWindow(op); err != nil {
				return err
			}
		case plan.Scan:
			s, err := o.OpenSource(op)
			if err != nil {
				return fmt.Errorf("stream %s: %w", op.Step, err)
			}
			sc := &scanner{job: j, op: op, source: s}
			j.sources = append(j.sources, sc)
			for k, sp := range s.Splits() {
				at := sp.Position()
				sr := &splitReader{scan: sc, split: sp, index: k, maxTime: types.MinTime, newest: types.MinTime, atTime: types.MinTime,
					nextPos: at, delivered: at, idleAfter: op.Stream.Idle, lastData: j.opts.Now()}
				sr.cond.L = &sr.maxMu
				j.connect(&sr.instance, op)
				sc.splits = append(sc.splits, sr)
				sc.stamped = len(sr.windows) > 0
			}
			s.OnData(j.sched.wake)
		}
	}
	if j.opts.Restore != nil {
		return j.restore(j.opts.Restore)
	}
	return nil
}

// connect makes in a sender of the stage that begins at an operator.
func (j *Job) connect(in *instance, op *plan.Op) {
	in.counts = make([]step.Counts, len(j.plan.Ops))
	var walk func(o *plan.Op)
	seen := map[*plan.Op]bool{}
	sink := func(o *plan.Op) {
		if !seen[o] {
			seen[o] = true
			t := j.sinkOf[o]
			in.sinks = append(in.sinks, target{op: o, boxes: []*inbox{t.box}, from: t.box.addProducer()})
		}
	}
	walk = func(o *plan.Op) {
		for _, n := range o.Next {
			switch n.Kind {
			case plan.Window:
				t := target{op: n}
				for _, w := range j.windows[n] {
					t.boxes = append(t.boxes, w.box)
					t.from = w.box.addProducer()
				}
				in.windows = append(in.windows, t)
			case plan.Output:
				sink(n)
			case plan.Route:
				for _, b := range n.Branches {
					for _, s := range b.Sinks {
						sink(s)
					}
				}
			default:
				walk(n)
			}
		}
	}
	walk(op)
}

func (j *Job) openWindow(op *plan.Op) error {
	n := j.opts.Parallelism
	for t := range n {
		w := &windowTask{job: j, op: op, box: newInbox()}
		j.connect(&w.instance, op)
		ctx := step.NewContext(len(j.plan.Ops), j.opts.Describe)
		pipe, err := j.pipe(op, ctx)
		if err != nil {
			return err
		}
		w.pipe = pipe
		w.window = step.NewWindow(op, ctx, pipe.root, t, n)
		j.windows[op] = append(j.windows[op], w)
	}
	return nil
}

// Run runs the plan until its inputs end, it fails or the context is cancelled.
func (j *Job) Run(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() { j.fail(context.Cause(ctx)) })
	defer stop()
	for _, s := range j.sinks {
		j.spawn(s.run)
	}
	for _, ws := range j.windows {
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
	return errors.Join(err, j.close(err == nil))
}

func (j *Job) spawn(f func() error) {
	j.wg.Go(func() {
		if err := f(); err != nil {
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
		for _, sr := range sc.splits {
			sr.maxMu.Lock()
			sr.cond.Broadcast()
			sr.maxMu.Unlock()
		}
	}
}

// ErrDone is what a sink gives when it needs no more rows: the run ends without an error.
var ErrDone = errors.New("the query has all its rows")

func (j *Job) close(complete bool) error {
	j.cancel()
	var errs []error
	for _, s := range j.sinks {
		errs = append(errs, s.sink.Close(complete))
	}
	for _, s := range j.sources {
		for _, sp := range s.splits {
			errs = append(errs, sp.split.Close())
		}
		errs = append(errs, s.source.Close())
	}
	return errors.Join(errs...)
}

// Close gives up a job that was made and not run.
func (j *Job) Close() error { return j.close(false) }

// scanner is a scan being run.
type scanner struct {
	job     *Job
	op      *plan.Op
	source  Source
	splits  []*splitReader
	stamped bool // rows need stamps: a step of the stage judges lateness
}

// pipe is the tree of nodes that one goroutine runs for a stage.
type pipe struct {
	ctx      *step.Context
	root     step.Node
	partials []*step.Partial
	outputs  []outputLeaf
}

type outputLeaf struct {
	op  *plan.Op
	enc *sinkNode
}

// sinkNode encodes what it is given for a sink.
type sinkNode struct {
	op  *plan.Op
	ctx *step.Context
	enc Encoder
}

// Push implements step.Node.
func (s *sinkNode) Push(b *column.Batch) { s.enc.Add(b) }

// pipe builds the nodes behind an operator that begins a stage.
func (j *Job) pipe(op *plan.Op, ctx *step.Context) (*pipe, error) {
	p := &pipe{ctx: ctx}
	leaves := map[*plan.Op]*sinkNode{}
	leaf := func(o *plan.Op) (step.Node, error) {
		if s := leaves[o]; s != nil {
			return s, nil
		}
		enc, err := j.sinkOf[o].sink.NewEncoder(o.Fields)
		if err != nil {
			return nil, fmt.Errorf("sink %s: %w", o.Step, err)
		}
		leaves[o] = &sinkNode{o, ctx, enc}
		p.outputs = append(p.outputs, outputLeaf{o, leaves[o]})
		return leaves[o], nil
	}
	var after func(o *plan.Op) (step.Node, error)
	after = func(o *plan.Op) (step.Node, error) {
		var fan step.Fan
		if t := j.taps[o.ID]; t != nil {
			fan = append(fan, &tapNode{t, ctx})
		}
		for _, n := range o.Next {
			var node step.Node
			switch n.Kind {
			case plan.Window:
				part := &step.Partial{Op: n, C: ctx, Groups: groupsPool.get(n)}
				p.partials = append(p.partials, part)
				node = part
			case plan.Output:
				l, err := leaf(n)
				if err != nil {
					return nil, err
				}
				node = l
			case plan.Route:
				r := &step.Route{Op: n, C: ctx}
				for _, b := range n.Branches {
					var f step.Fan
					for _, s := range b.Sinks {
						l, err := leaf(s)
						if err != nil {
							return nil, err
						}
						f = append(f, l)
					}
					r.Branches = append(r.Branches, f)
				}
				node = r
			default:
				next, err := after(n)
				if err != nil {
					return nil, err
				}
				if n.Kind == plan.Filter {
					node = &step.Filter{Op: n, C: ctx, Next: next}
				} else {
					node = &step.Project{Op: n, C: ctx, Next: next}
				}
			}
			fan = append(fan, node)
		}
		if len(fan) == 1 {
			return fan[0], nil
		}
		return fan, nil
	}
	root, err := after(op)
	p.root = root
	return p, err
}

// turn is what came out of a pipe for one piece or one advance of the watermark.
type turn struct {
	counts    []step.Counts
	samples   []step.Sample
	groups    []*sharedGroups // by partial; nil where empty
	payloads  []Payload       // by output
	outputs   []*plan.Op
	partials  []*plan.Op
	watermark int64
	idle      bool
	end       bool
	next      int64 // position behind it
}

// take empties the pipe into a turn.
func (p *pipe) take(tasks int) *turn {
	t := &turn{counts: slices.Clone(p.ctx.Counts), samples: slices.Clone(p.ctx.Samples)}
	for _, x := range p.partials {
		var g *sharedGroups
		if x.Groups.Len() > 0 {
			g = &sharedGroups{op: x.Op, groups: x.Groups}
			g.refs.Store(int32(tasks))
			x.Groups = groupsPool.get(x.Op)
		}
		t.groups, t.partials = append(t.groups, g), append(t.partials, x.Op)
	}
	for _, o := range p.outputs {
		t.payloads, t.outputs = append(t.payloads, o.enc.enc.Take()), append(t.outputs, o.op)
	}
	p.ctx.Reset()
	return t
}

// send gives a turn to the instance's targets. The caller holds the instance's lock.
func (in *instance) send(ctx context.Context, t *turn) error {
	in.seen.Lock()
	for i := range t.counts {
		in.counts[i].Add(t.counts[i])
	}
	in.seen.Unlock()
	for _, w := range in.windows {
		pk := packet{from: w.from, watermark: t.watermark, idle: t.idle, end: t.end}
		if k := slices.Index(t.partials, w.op); k >= 0 {
			pk.groups = t.groups[k]
		}
		for _, b := range w.boxes {
			if err := b.put(ctx, pk); err != nil {
				return err
			}
		}
	}
	for _, s := range in.sinks {
		pk := packet{from: s.from, end: t.end}
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

// mark sends a checkpoint's marker to all targets. The caller holds the instance's lock.
func (in *instance) mark(ctx context.Context, m *barrier) error {
	for _, t := range slices.Concat(in.windows, in.sinks) {
		for _, b := range t.boxes {
			if err := b.put(ctx, packet{from: t.from, marker: m}); err != nil {
				return err
			}
		}
	}
	return nil
}

// Step is the state of one operator, for people.
type Step struct {
	ID     int         `json:"id"`
	Kind   string      `json:"kind"`
	Step   string      `json:"step"`
	Detail string      `json:"detail"`
	Counts step.Counts `json:"counts"`
	Out    int64       `json:"out"`
	Open   int64       `json:"open"` // rows inside the operator, on their way
	// Of windows:
	Watermark *int64 `json:"watermark,omitempty"` // microseconds
	Windows   int    `json:"windows,omitempty"`
	Keys      int    `json:"keys,omitempty"`
	Bytes     int    `json:"bytes,omitempty"`
}

// SplitStatus is the state of one split.
type SplitStatus struct {
	Stream    string `json:"stream"`
	Split     string `json:"split"`
	Next      int64  `json:"next"`                // position
	NewestAt  *int64 `json:"newest_at,omitempty"` // greatest event time, microseconds
	Watermark *int64 `json:"watermark,omitempty"`
	Idle      bool   `json:"idle,omitempty"`
	Ended     bool   `json:"ended,omitempty"`
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
	for _, sc := range j.sources {
		for _, sr := range sc.splits {
			sr.seen.Lock()
			add(sr.counts)
			st := SplitStatus{Stream: sc.op.Step, Split: sr.split.Name(), Next: sr.delivered, NewestAt: known(sr.newest), Idle: sr.idle, Ended: sr.ended}
			if st.NewestAt != nil {
				st.Watermark = known(sr.newest - sc.op.Stream.Delay)
			}
			sr.seen.Unlock()
			s.Splits = append(s.Splits, st)
		}
	}
	for _, ws := range j.windows {
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
	for i, o := range j.plan.Ops {
		st := Step{ID: o.ID, Kind: o.Kind.String(), Step: o.Step, Detail: o.Detail, Counts: total[i], Out: total[i].Out(), Open: total[i].Open()}
		for _, w := range j.windows[o] {
			w.seen.Lock()
			st.Windows = max(st.Windows, w.open)
			st.Keys += w.keys
			st.Bytes += w.bytes
			if x := known(w.closed); x != nil {
				st.Watermark = x
			}
			w.seen.Unlock()
		}
		s.Steps = append(s.Steps, st)
	}
	slices.SortFunc(s.Splits, func(a, b SplitStatus) int {
		return cmp.Or(cmp.Compare(a.Stream, b.Stream), cmp.Compare(a.Split, b.Split))
	})
	return s
}
