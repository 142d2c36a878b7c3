package flow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// Snapshot is a consistent cut through a running plan: the positions of the splits, the state of the
// windows as of those positions, and the ledger.
type Snapshot struct {
	Splits  map[string]SplitPosition `json:"splits"` // by "operator/split"
	Ledger  []step.Counts            `json:"ledger"` // by operator
	Windows map[int][][]byte         `json:"-"`      // state by operator, a piece a task
}

// SplitPosition is where a split is read on.
type SplitPosition struct {
	Next   int64 `json:"next"`
	Newest int64 `json:"newest"` // greatest event time so far, microseconds
	Ended  bool  `json:"ended,omitempty"`
	Idle   bool  `json:"idle,omitempty"` // passed over, by the wall clock of the run before
	// Mark is the place of a split whose places are more than a number.
	Mark string `json:"mark,omitempty"`
}

// Positions writes all but the windows' state.
func (s *Snapshot) Positions() ([]byte, error) { return json.Marshal(s) }

// barrier is a checkpoint on its way through the dataflow (Chandy and Lamport, Distributed Snapshots,
// 1985): each task notes its state when the marker has reached it from all its producers.
type barrier struct {
	number  int64
	mu      sync.Mutex
	snap    *Snapshot
	waiting int
	heard   map[any]bool // tasks that have given their state
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

func (b *barrier) state(op *plan.Op, data []byte, counts []step.Counts) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := range counts {
		b.snap.Ledger[i].Add(counts[i])
	}
	if data != nil && !(op.Kind == plan.Keep && op.OfTable.Reread() && len(op.Next) == 0) {
		b.snap.Windows[op.ID] = append(b.snap.Windows[op.ID], data)
	}
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
	return fmt.Sprintf("%d/%s", sc.op.ID, sr.split.Name())
}

// Checkpoint sends markers through the dataflow and gives the snapshot when they have passed. By then
// the sinks have made durable what they were given before the markers. When ctx ends first, the
// checkpoint is abandoned; the next one takes its place.
func (j *Job) Checkpoint(ctx context.Context) (*Snapshot, error) {
	j.checkpoint.Lock()
	defer j.checkpoint.Unlock()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer context.AfterFunc(j.ctx, func() { cancel(ErrEnded) })()
	j.markers++
	b := &barrier{number: j.markers, heard: map[any]bool{}, ready: make(chan struct{}), snap: &Snapshot{Splits: map[string]SplitPosition{}, Ledger: make([]step.Counts, len(j.plan.Ops)), Windows: map[int][][]byte{}}}
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
		for _, sr := range sc.splits {
			for !sr.mu.TryLock() { // it may be held up by full queues
				select {
				case <-ctx.Done():
					return nil, context.Cause(ctx)
				case <-time.After(200 * time.Microsecond):
				}
			}
			b.mu.Lock()
			at := SplitPosition{Next: sr.delivered, Newest: sr.newest, Ended: sr.ended, Idle: sr.idle}
			if m, ok := sr.split.(Marked); ok {
				at.Mark = m.Mark(sr.delivered)
			}
			b.snap.Splits[splitKey(sc, sr)] = at
			for i := range sr.counts {
				b.snap.Ledger[i].Add(sr.counts[i])
			}
			b.mu.Unlock()
			var err error
			if !sr.ended {
				live = true
				err = sr.mark(ctx, b)
			}
			sr.mu.Unlock()
			if err != nil {
				return nil, context.Cause(ctx)
			}
		}
	}
	if !live {
		return nil, ErrEnded
	}
	select {
	case <-b.ready:
		if b.err != nil {
			return nil, b.err
		}
		return b.snap, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// restore puts splits and windows where a snapshot left them. The counts of the ledger go to the
// first split and task, since only their sums mean anything.
func (j *Job) restore(s *Snapshot) error {
	ledger := append([]step.Counts(nil), s.Ledger...)
	for len(ledger) < len(j.plan.Ops) {
		ledger = append(ledger, step.Counts{})
	}
	for op, ws := range j.keyed {
		if op.Kind == plan.Keep && op.OfTable.Reread() && len(op.Next) == 0 {
			continue // it is read anew
		}
		for _, w := range ws {
			for _, piece := range s.Windows[op.ID] {
				if err := w.keyed.Restore(piece); err != nil {
					return err
				}
			}
			w.closed = w.keyed.Closed()
		}
	}
	placed := false
	for _, sc := range j.sources {
		for _, sr := range sc.splits {
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
			sr.idle, sr.idleSent = p.Idle, p.Idle
		}
	}
	return nil
}

// announce tells the tasks the watermarks that the splits begin with, and which splits were idle: a replay
// goes on with the decisions that the wall clock had made before the checkpoint.
func (j *Job) announce() {
	for _, sc := range j.sources {
		for _, sr := range sc.splits {
			sr.mu.Lock()
			if sr.newest > types.MinTime {
				_ = sr.send(j.ctx, &turn{watermark: sr.newest - sc.op.Stream.Delay, newest: sr.newest, idle: sr.idle})
			} else if sr.idle {
				_ = sr.send(j.ctx, &turn{watermark: types.MinTime, newest: types.MinTime, idle: true})
			}
			sr.mu.Unlock()
		}
	}
}
