package flow

import (
	"fmt"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// work is a worker: it takes pieces, decodes them, pushes them through the stage's pipe, and delivers
// what comes out.
func (j *Job) work() error {
	pipes := map[*scanner]*pipe{}
	decoders := map[*splitReader]Decoder{}
	var p Piece
	var batch column.Batch
	var stamps []int64
	early := &relief{job: j}
	defer early.end()
	for {
		a, err := j.sched.next(&p)
		if a == nil || err != nil {
			return err
		}
		sr := a.sr
		sc := sr.scan
		if a.end || a.idle || a.clock != 0 || a.loaded {
			reached := types.MinTime
			if a.clock != 0 {
				reached = a.clock
			}
			if sc.stamped {
				sr.passMax(j, a.seq, types.MinTime)
			}
			sr.mu.Lock()
			a.watermark, a.split = reached, int32(sr.index)
			sr.deliver(j, a.seq, &turn{progress: a.progress, still: a.still, next: a.next})
			sr.mu.Unlock()
			continue
		}
		pi := pipes[sc]
		if pi == nil {
			ctx := step.NewContext(len(j.plan.Ops), j.opts.Describe)
			ctx.Origin = func(split int, pos int64) string {
				return fmt.Sprintf("%s at %d", j.splitAt(split).split.Name(), pos)
			}
			if pi, err = j.pipe(sc.op, ctx); err != nil {
				return err
			}
			pipes[sc] = pi
		}
		dec := decoders[sr]
		if dec == nil {
			if dec, err = sr.split.NewDecoder(); err != nil {
				return fmt.Errorf("stream %s, %s: %w", sc.op.Step, sr.split.Name(), err)
			}
			decoders[sr] = dec
		}
		if err := sr.split.Frame(&p); err != nil {
			return fmt.Errorf("stream %s, %s: %w", sc.op.Step, sr.split.Name(), err)
		}
		now := j.opts.Now()
		pi.ctx.NowMs, pi.ctx.Machine.Now = now.UnixMilli(), now.UnixMicro()
		batch.Change, batch.From = nil, nil // what another stream's decoder left
		rejects := dec.Decode(p.Data, p.Messages, &batch)
		batch.Split = sr.index
		n := &pi.ctx.Counts[sc.op.ID]
		if p.Lost > 0 {
			n.Lost += p.Lost
			pi.ctx.Note(sc.op, step.Sample{Op: sc.op.ID, Reason: p.Why, Split: sr.index, Pos: a.next, EventTime: types.MinTime})
		}
		n.In += int64(len(p.Messages))
		n.Rejected += int64(len(rejects))
		for _, r := range rejects {
			if sc.op.Stream.Options.Word("bad rows", "keep") == "stop" {
				return fmt.Errorf("stream %s: %s: %s (BAD ROWS stop)", sc.op.Step, sr.split.Place(p.Messages[r.Message].Pos), r.Reason)
			}
			pi.ctx.Tally(sc.op.ID, r.Reason)
			if m := p.Messages[r.Message]; pi.ctx.Wants(sc.op, false, r.Reason) {
				pi.ctx.Note(sc.op, step.Sample{Op: sc.op.ID, Reason: r.Reason, Split: sr.index, Pos: m.Pos, EventTime: types.MinTime, Raw: pi.raw(sc.op, p.Data[m.Off:m.Off+m.Len])})
			}
		}
		in := &batch
		if sc.op.Stream.TimeOf != nil {
			in = pi.timed(sc.op, in)
		}
		if b, ok := sc.source.(Bordered); ok {
			from, until := b.Borders(sr.split)
			all := in.N
			in = within(in, from, until)
			n.Filtered += int64(all - in.N)
		}
		in = j.ahead(sc.op, in, pi, now, p.Messages)
		newest := sr.stampRows(j, a.seq, in, &stamps)
		n.Passed += int64(in.N)
		early.sr, early.seq = sr, a.seq
		pi.ctx.Relieve = func() { early.give(pi) }
		if in.N > 0 {
			j.politely(func() { pi.root.Push(in) })
		}
		t := pi.take(j.opts.Parallelism)
		t.next, t.watermark = a.next, newest
		t.split, t.fresh, t.complete = int32(sr.index), p.Fresh, p.Complete
		if !early.has {
			sr.mu.Lock()
		}
		sr.deliver(j, a.seq, t)
		early.has = true
		early.end()
	}
}

// within gives the rows of a batch in a stretch of event time.
func within(b *column.Batch, from, until int64) *column.Batch {
	out := false
	for _, t := range b.Time[:b.N] {
		out = out || t < from || t >= until
	}
	if !out {
		return b
	}
	var sel []uint32
	for i, t := range b.Time[:b.N] {
		if t >= from && t < until {
			sel = append(sel, uint32(i))
		}
	}
	to := &column.Batch{}
	b.Gather(sel, to)
	return to
}

// raw is the text of a message, whole where somebody asked for the rejected ones.
func (p *pipe) raw(o *plan.Op, b []byte) string {
	if o.Rejected != nil {
		return string(b)
	}
	return clip(b)
}
