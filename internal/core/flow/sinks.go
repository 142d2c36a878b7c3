package flow

import (
	"context"
	"fmt"
	"sync"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// What a sink is given: rows are encoded at the end of a stage; the sink's task writes them, tries again while the place is away, and commits at
// checkpoints.

// sinkNode encodes what it is given for a sink.
type sinkNode struct {
	op  *plan.Op
	ctx *step.Context
	enc Encoder
}

// Push implements step.Node.
func (s *sinkNode) Push(b *column.Batch) {
	if s.op.Full {
		b = inFull(b)
	}
	s.enc.Add(b)
}

// inFull puts a column before the others that says what each row does. What a replacement takes back is
// left out, since the replacement says it.
func inFull(b *column.Batch) *column.Batch {
	out := b
	if b.Change != nil {
		var sel []uint32
		for i, c := range b.Change {
			if c != column.Replaced {
				sel = append(sel, uint32(i))
			}
		}
		out = &column.Batch{}
		b.Gather(sel, out)
		for i, r := range sel { // the pairs are whole
			out.Change[i] = b.Change[r]
		}
	}
	kind := column.New(types.Of(types.Varchar))
	kind.Resize(out.N)
	for i := range out.N {
		c := column.Insert
		if out.Change != nil {
			c = out.Change[i]
		}
		kind.SetText(i, []byte(c.String()))
	}
	full := *out
	full.Change = nil
	full.Cols = append([]*column.Vector{kind}, out.Cols...)
	return &full
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
			if err := s.checkpoint(b); err != nil {
				b.fail(err)
			}
		})
	}
	return err
}

// checkpoint gives a checkpoint the sink's handle and counts. It fails where the job has been ended meanwhile: a checkpoint without the handle, or
// with one that nobody knows to be durable, would forget what the sink holds.
func (s *sinkTask) checkpoint(b *barrier) error {
	if s.exact != nil {
		var handle []byte
		err := s.try(s.job.ctx, toWrite, func() (err error) {
			handle, err = s.exact.Mark(b.final)
			return err
		})
		if err == nil {
			err = s.job.ctx.Err()
		}
		if err != nil {
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
			began := s.job.opts.Now()
			err := safely(func() error { return s.try(ctx, toCommit, func() error { return s.exact.Commit(handle) }) })
			s.setAside()
			if s.job.opts.Delivered != nil {
				s.job.opts.Delivered(s.op.Step, began, err)
			}
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
				err := s.checkpoint(marker)
				if err != nil && s.job.ctx.Err() == nil {
					return err
				}
				if err != nil {
					marker.fail(err)
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

const (
	toWrite = iota
	toCommit
)

const (
	firstTryAfter = 50 * time.Millisecond
	lastTryAfter  = 5 * time.Second
)
