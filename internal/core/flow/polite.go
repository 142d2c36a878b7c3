package flow

import (
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

// working counts the workers of all runs of the process that are not polite and have a piece in hand.
var working atomic.Int64

// politely runs a piece of work of a worker. A polite run leaves the processors to the others while these could use all
// of them: it rests nine times as long as it has worked.
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
	if working.Load() < int64(runtime.GOMAXPROCS(0)) {
		return
	}
	select {
	case <-j.ctx.Done():
	case <-time.After(min(9*took, time.Second)):
	}
}
