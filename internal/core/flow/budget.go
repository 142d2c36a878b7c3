package flow

import (
	"fmt"
	"runtime"
	"sync/atomic"
	"time"
)

// Budget is memory that several runs share.
type Budget struct {
	Limit int64
	used  atomic.Int64
}

// Used is how many bytes of state they hold.
func (b *Budget) Used() int64 { return b.used.Load() }

// ErrMemory ends a run that holds more than it may and has no journal where state could wait.
type ErrMemory struct{ Limit int64 }

// Error implements error.
func (e *ErrMemory) Error() string {
	return fmt.Sprintf("it would hold more than %d MB in memory: ask for less (a later SINCE, a WHERE, fewer groups, shorter windows), or make a job of it, whose state may wait on disk", e.Limit>>20)
}

// within checks the job's limit where nothing can be parked.
func (w *keyedTask) within() error {
	if w.account(); w.job.held.Load() > w.job.opts.Memory {
		return &ErrMemory{w.job.opts.Memory}
	}
	if b := w.job.opts.Budget; b != nil && b.Used() > b.Limit && w.job.held.Load() > b.Limit/8 { // the small ones go on
		return &ErrMemory{w.job.held.Load()}
	}
	return nil
}

// working counts the workers of all runs of the process that are not polite and have a piece in hand.
var working atomic.Int64

// atOnce is how long a polite run works before it gives way: what is small is answered at once.
const atOnce = 250 * time.Millisecond

// politely runs a piece of work of a worker. A polite run that has worked for a while leaves the processors to the others
// where these could use all of them: it rests nine times as long as it has worked.
func (j *Job) politely(work func()) {
	if !j.opts.Polite {
		working.Add(1)
		defer working.Add(-1)
		work()
		return
	}
	began := time.Now()
	work()
	took := time.Since(began)
	if j.worked.Add(int64(took)) < int64(atOnce) || working.Load() < int64(runtime.GOMAXPROCS(0)) {
		return
	}
	select {
	case <-j.ctx.Done():
	case <-time.After(min(9*took, time.Second)):
	}
}
