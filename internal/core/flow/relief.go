package flow

import (
	"time"

	"fiume/internal/core/types"
)

// A row can make many, and large ones. What a stage has made of a piece is sent on as one turn; where that would be more
// than reliefBytes, it is sent in several, so that full queues hold the stage up before memory does.
const reliefBytes = 32 << 20

// held is about how many bytes wait in the pipe to be sent.
func (p *pipe) held() (n int) {
	for _, o := range p.outputs {
		if x, ok := o.enc.enc.(interface{ Held() int }); ok {
			n += x.Held()
		}
	}
	for _, x := range p.partials {
		n += len(x.Groups.Text) + 8*len(x.Groups.Words)
	}
	for _, x := range p.shuffles {
		for _, b := range x.Parts {
			if b != nil {
				n += b.Bytes()
			}
		}
	}
	for _, x := range p.sides {
		for _, b := range x.Blocks {
			if b != nil {
				n += b.Bytes()
			}
		}
	}
	return n
}

// relief sends what a worker has of a piece before the piece is done. The split's lock is kept until it is, so that no
// checkpoint falls between.
type relief struct {
	job *Job
	sr  *splitReader
	seq int64
	has bool // the lock
}

func (r *relief) give(p *pipe) {
	if p.held() < reliefBytes {
		return
	}
	for !r.has { // what came before the piece comes first
		r.sr.mu.Lock()
		if r.sr.dueSeq == r.seq {
			r.has = true
			break
		}
		r.sr.mu.Unlock()
		if r.job.ctx.Err() != nil {
			return
		}
		time.Sleep(time.Millisecond)
	}
	t := p.take(r.job.opts.Parallelism)
	t.watermark, t.newest, t.split, t.idle = types.MinTime, r.sr.newest, int32(r.sr.index), r.sr.idle
	if r.sr.newest > types.MinTime {
		t.watermark = r.sr.newest - r.sr.scan.op.Stream.Delay
	}
	r.job.samples.addAll(t)
	_ = r.sr.send(r.job.ctx, t) // the run is over where it fails; its reason is known
}

// end gives the lock back.
func (r *relief) end() {
	if r.has {
		r.has = false
		r.sr.mu.Unlock()
	}
}
