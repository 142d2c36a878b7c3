package flow

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"

	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// Snapshot is a consistent cut through a running plan: the positions of the splits, the state of the
// steps as of those positions, what the sinks need to go on, and the ledger.
type Snapshot struct {
	Keys   []string                 `json:"keys"`            // of the operators
	Scans  []string                 `json:"scans,omitempty"` // keys of those that were read
	Splits map[string]SplitPosition `json:"splits"`          // by the scan's key and the split's name
	Ledger []step.Counts            `json:"ledger"`          // by operator
	Sinks  map[string][]byte        `json:"sinks"`           // handles, by the output's key
	// Journal has the files of the journal that the state needs.
	Journal []int64             `json:"journal,omitempty"`
	State   map[string][][]byte `json:"-"` // by the operator's key, a piece a task

	number int64 // of its marker in the run that took it; 0 in others
}

// SplitPosition is where a split is read on.
type SplitPosition struct {
	Next   int64 `json:"next"`
	Newest int64 `json:"newest"` // greatest event time so far, microseconds
	Ended  bool  `json:"ended,omitempty"`
	Idle   bool  `json:"idle,omitempty"` // passed over, by the wall clock of the run before
	// Number is one more than the number by which rows know the split; 0: it has that of its place in the list.
	Number int `json:"number,omitempty"`
	// Mark is the place of a split whose places are more than a number.
	Mark string `json:"mark,omitempty"`
}

// Positions writes all but the state of the steps.
func (s *Snapshot) Positions() ([]byte, error) { return json.Marshal(s) }

// barrier is a checkpoint on its way through the dataflow (Chandy and Lamport, Distributed Snapshots,
// 1985): each task notes its state when the marker has reached it from all its producers.
type barrier struct {
	number  int64
	final   bool // all inputs have ended, or nothing more is read of them in this run
	mu      sync.Mutex
	snap    *Snapshot
	waiting int
	heard   map[any]bool // tasks that have given their state
	pieces  []piece
	err     error
	ready   chan struct{}
}

// hears notes that a task gives its state, and says whether it is for the first time.
func (b *barrier) hears(task any) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.heard[task] {
		return false
	}
	b.heard[task] = true
	return true
}

func (b *barrier) fail(err error) {
	b.mu.Lock()
	b.err = errors.Join(b.err, err)
	b.mu.Unlock()
}

// leave notes that a task has ended, all of whose inputs have. It gets no markers any more: checkpoints take
// the state that it ended with.
func (j *Job) leave(task any, give func(b *barrier)) {
	j.leaving.Lock()
	defer j.leaving.Unlock()
	j.left[task] = give
	if b := j.barrier; b != nil && b.hears(task) {
		give(b)
		b.done()
	}
}

// state notes the counts of a task.
func (b *barrier) state(counts []step.Counts) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := range counts {
		b.snap.Ledger[i].Add(counts[i])
	}
}

// piece notes what writes a piece of the state of an operator.
func (b *barrier) piece(op *plan.Op, write func() []byte) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.pieces = append(b.pieces, piece{op.Key, write})
}

// needs notes that the state needs a file of the journal.
func (b *barrier) needs(file int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if file > 0 && !slices.Contains(b.snap.Journal, file) {
		b.snap.Journal = append(b.snap.Journal, file)
	}
}

// piece is the state of a task, to be written.
type piece struct {
	key   string
	write func() []byte
}

// snapshot gives the snapshot with all state written. The tasks go on meanwhile.
func (b *barrier) snapshot() (*Snapshot, error) {
	for _, p := range b.pieces {
		b.snap.State[p.key] = append(b.snap.State[p.key], p.write())
	}
	return b.snap, b.err
}

func (b *barrier) done() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.waiting--
	if b.waiting == 0 {
		close(b.ready)
	}
}

// ErrEnded says that the run has ended, so that there is nothing to take a checkpoint of.
var ErrEnded = errors.New("the job has ended")

func splitKey(sc *scanner, sr *splitReader) string {
	return splitKeyOf(sc, sr.split.Name())
}

func splitKeyOf(sc *scanner, name string) string { return sc.op.Key + "/" + name }

// Checkpoint sends markers through the dataflow and gives the snapshot when they have passed. By then
// the sinks have made durable what they were given before the markers. When ctx ends first, the
// checkpoint is abandoned; the next one takes its place.
func (j *Job) Checkpoint(ctx context.Context) (*Snapshot, error) {
	j.checkpoint.Lock()
	defer j.checkpoint.Unlock()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer context.AfterFunc(j.ctx, func() { cancel(ErrEnded) })()
	b := j.newBarrier()
	j.sched.mu.Lock()
	b.final = j.sched.paused
	j.sched.mu.Unlock()
	j.leaving.Lock()
	if j.closed {
		j.leaving.Unlock()
		return nil, ErrEnded
	}
	b.waiting = len(j.sinks)
	for _, ws := range j.keyed {
		b.waiting += len(ws)
	}
	for task, give := range j.left {
		b.heard[task] = true
		give(b)
		b.waiting--
	}
	j.barrier = b
	j.leaving.Unlock()
	defer func() {
		j.leaving.Lock()
		j.barrier = nil
		j.leaving.Unlock()
	}()
	live := false
	for _, sc := range j.sources {
		if sc.open() && !b.final && j.replayed() {
			if err := sc.grow(ctx, b.number); err != nil {
				return nil, cmp.Or(context.Cause(ctx), ErrEnded)
			}
		}
		for _, sr := range sc.splits() {
			select {
			case sr.mu <- struct{}{}: // it may be held up by full queues
			case <-ctx.Done():
				return nil, context.Cause(ctx)
			}
			b.position(sc, sr)
			var err error
			if !sr.ended {
				live = true
				err = sr.sendMarker(ctx, b)
			}
			sr.mu.Unlock()
			if err != nil {
				return nil, context.Cause(ctx)
			}
		}
		if !sc.open() {
			continue
		}
		live = true
		select {
		case sc.coming.mu <- struct{}{}:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
		err := sc.coming.sendMarker(ctx, b)
		sc.coming.mu.Unlock()
		if err != nil {
			return nil, context.Cause(ctx)
		}
	}
	if !live {
		return nil, ErrEnded
	}
	select {
	case <-b.ready:
		if b.err != nil && j.ctx.Err() != nil {
			return nil, ErrEnded
		}
		if b.err != nil {
			return nil, b.err
		}
		return b.snapshot()
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

func (j *Job) newBarrier() *barrier {
	j.markers++
	snap := &Snapshot{Splits: map[string]SplitPosition{}, Ledger: make([]step.Counts, len(j.plan.Ops)), State: map[string][][]byte{}, Sinks: map[string][]byte{}}
	for _, o := range j.plan.Ops {
		snap.Keys = append(snap.Keys, o.Key)
	}
	for _, sc := range j.sources {
		snap.Scans = append(snap.Scans, sc.op.Key)
	}
	snap.number = j.markers
	return &barrier{number: j.markers, heard: map[any]bool{}, ready: make(chan struct{}), snap: snap}
}

// position notes where a split is. The caller holds its gate.
func (b *barrier) position(sc *scanner, sr *splitReader) {
	b.mu.Lock()
	defer b.mu.Unlock()
	at := SplitPosition{Next: sr.delivered, Newest: sr.newest, Ended: sr.ended, Idle: sr.idle, Number: sr.index + 1}
	if m, ok := sr.split.(Marked); ok {
		at.Mark = m.Mark(sr.delivered)
	}
	b.snap.Splits[splitKey(sc, sr)] = at
	for i := range sr.counts {
		b.snap.Ledger[i].Add(sr.counts[i])
	}
}

// Begin gives the snapshot of a job that does not run yet: where it begins, and what it has taken over. Kept
// before the first row, it makes that a job which fails before its first checkpoint begins at the same places.
func (j *Job) Begin() (*Snapshot, error) {
	b := j.newBarrier()
	for _, sc := range j.sources {
		for _, sr := range sc.splits() {
			b.position(sc, sr)
		}
	}
	for _, ws := range j.keyed {
		for _, w := range ws {
			if err := w.give(b); err != nil {
				return nil, err
			}
		}
	}
	for _, s := range j.sinks {
		if err := s.checkpoint(b); err != nil {
			return nil, err
		}
	}
	return b.snapshot()
}

// Last gives the snapshot of a job whose inputs have ended.
func (j *Job) Last() (*Snapshot, error) {
	b := j.newBarrier()
	b.final = true
	for _, sc := range j.sources {
		for _, sr := range sc.splits() {
			b.position(sc, sr)
		}
	}
	j.leaving.Lock()
	defer j.leaving.Unlock()
	for _, give := range j.left {
		give(b)
	}
	return b.snapshot()
}

// Commit tells the sinks and sources that the checkpoint of a snapshot counts. It does not wait for them. Splits that joined with it are
// read from now on.
func (j *Job) Commit(s *Snapshot) {
	j.sched.mu.Lock()
	for _, sc := range j.sources {
		for _, sr := range sc.splits() {
			if sr.held <= s.number {
				sr.held = 0
			}
		}
	}
	j.sched.mu.Unlock()
	j.sched.wake()
	for _, sc := range j.sources {
		if sc.teller != nil {
			sc.teller.tell(s)
		}
	}
	for _, t := range j.sinks {
		handle, ok := s.Sinks[t.op.Key]
		if t.exact == nil || !ok {
			continue
		}
		select {
		case <-t.due: // one that is not begun is covered by the newer
		default:
		}
		t.due <- handle
	}
}

// Settle waits until sinks and sources have done what Commit told them, and takes no more. It says whether they have.
func (j *Job) Settle(ctx context.Context) bool {
	for _, t := range j.sinks {
		if t.exact == nil {
			continue
		}
		close(t.due)
		select {
		case <-t.committed:
		case <-ctx.Done():
			return false
		}
	}
	for _, sc := range j.sources {
		if sc.teller == nil {
			continue
		}
		close(sc.teller.due)
		select {
		case <-sc.teller.done:
		case <-ctx.Done(): // it is told again by the next run
		}
	}
	return j.failed == nil
}

// ledger gives the counts that a plan goes on with. Where it is not the plan of the snapshot, only what its
// steps still hold is known of them.
func (s *Snapshot) ledger(p *plan.Plan) []step.Counts {
	out := make([]step.Counts, len(p.Ops))
	if slices.EqualFunc(p.Ops, s.Keys, func(o *plan.Op, key string) bool { return o.Key == key }) {
		copy(out, s.Ledger)
		return out
	}
	for i, o := range p.Ops {
		if k := slices.Index(s.Keys, o.Key); k >= 0 && k < len(s.Ledger) {
			c := s.Ledger[k]
			// What is open waits in parts of the state that are parked.
			out[i] = step.Counts{In: c.Held + c.Open(), Held: c.Held, Covered: c.Covered - c.Counted - c.Missed}
		}
	}
	return out
}

// takenBy checks that every state of a snapshot belongs to an operator, where it was taken of just this text: what
// nobody takes would be lost, and the steps would begin empty with rows that others have seen.
func (s *Snapshot) takenBy(p *plan.Plan, same bool) error {
	if !same {
		return nil
	}
	for key, pieces := range s.State {
		empty := !slices.ContainsFunc(pieces, func(b []byte) bool { return len(b) > 0 })
		if empty || slices.ContainsFunc(p.Ops, func(o *plan.Op) bool { return o.Key == key }) {
			continue
		}
		step := "a step"
		if i := slices.Index(s.Keys, key); i >= 0 && i < len(p.Ops) && len(s.Keys) == len(p.Ops) {
			step = fmt.Sprintf("%s of the step %s", p.Ops[i].Kind, p.Ops[i].Step)
		}
		return fmt.Errorf("the checkpoint holds the state of %s (%s), which no step of the job takes, though its text is the same: going on would lose rows. "+
			"STOP JOB it, then START JOB … FROM BEGINNING, or give it a new text with CREATE OR REPLACE JOB", step, key)
	}
	return nil
}

// restore puts splits and steps where a snapshot left them. The counts of the ledger go to the
// first split and task, since only their sums mean anything.
func (j *Job) restore(s *Snapshot) error {
	if err := s.takenBy(j.plan, j.opts.SameVersion); err != nil {
		return err
	}
	ledger := s.ledger(j.plan)
	for op, ws := range j.keyed {
		if op.Kind == plan.Keep && op.OfTable.Reread() && len(op.Next) == 0 {
			continue // it is read anew
		}
		errs := make([]error, len(ws))
		var wg sync.WaitGroup
		for t, w := range ws {
			wg.Go(func() {
				if errs[t] = w.restore(s.State[op.Key]); errs[t] == nil {
					w.look()
				}
			})
		}
		wg.Wait()
		if err := errors.Join(errs...); err != nil {
			return err
		}
	}
	placed := false
	for _, sc := range j.sources {
		for _, sr := range sc.splits() {
			if !placed {
				copy(sr.counts, ledger)
				placed = true
			}
			p, ok := s.Splits[splitKey(sc, sr)]
			if !ok || sc.op.OfTable != nil && sc.op.OfTable.Reread() {
				continue // a split that has come since, or one that is read anew
			}
			err := error(nil)
			if m, ok := sr.split.(Marked); ok {
				err = m.ResumeAt(p.Mark, p.Next)
			} else {
				err = sr.split.Resume(p.Next)
			}
			if err != nil {
				return fmt.Errorf("stream %s, %s: %w", sc.op.Step, sr.split.Name(), err)
			}
			sr.nextPos, sr.delivered = p.Next, p.Next
			sr.newest, sr.maxTime, sr.atTime = p.Newest, p.Newest, p.Newest
			sr.idle = p.Idle && sr.idleAfter >= 0 // a version that never passes splits over waits for it again
			sr.idleSent = sr.idle
			sr.over = p.Ended
		}
	}
	return nil
}

// announce tells the tasks the watermarks that the splits begin with, and which splits were idle: a replay
// goes on with the decisions that the wall clock had made before the checkpoint.
func (j *Job) announce() {
	for _, sc := range j.sources {
		if sc.coming != nil {
			sc.coming.mu.Lock()
			_ = sc.coming.send(j.ctx, &turn{progress: progress{watermark: types.MinTime, newest: types.MinTime, idle: true, loaded: true}})
			sc.coming.mu.Unlock()
		}
		for _, sr := range sc.splits() {
			sr.mu.Lock()
			if sr.newest > types.MinTime {
				_ = sr.send(j.ctx, &turn{progress: progress{watermark: sr.newest - sc.op.Stream.Delay, newest: sr.newest, idle: sr.idle}})
			} else if sr.idle {
				_ = sr.send(j.ctx, &turn{progress: progress{watermark: types.MinTime, newest: types.MinTime, idle: true}})
			}
			sr.mu.Unlock()
		}
	}
}
