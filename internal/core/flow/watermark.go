package flow

import (
	"slices"
	"sync/atomic"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// The event time of rows, their stamps, and which splits a watermark does not wait for. A stamp is the watermark of a row's split just before
// it.

// The event time of a stream without a column for it is the arrival. When such a split has nothing to read,
// what comes later arrives later, so that its watermark goes on with the clock: a time mark is sent now and
// then, a little behind, since messages that are being written get their time of arrival before they can be
// read.
const (
	markEvery  = 200 * time.Millisecond
	markBehind = time.Second
)

// quietTable is how long a table's split has nothing to read before it counts as up to date.
const quietTable = types.Second

// scanner is a scan being run.
type scanner struct {
	job     *Job
	op      *plan.Op
	source  Source
	list    atomic.Pointer[[]*splitReader] // changed under Job.checkpoint, put anew each time
	ends    *pipe                          // where its stage ends
	stamped bool                           // rows need stamps: a step of the stage judges lateness

	// Of a source whose splits may come (growing.go):
	coming  *instance // a sender that keeps the stage open; nil: no split can come
	closed  bool      // it has sent its end
	arrived []Split   // they have not joined yet; under the scheduler's lock
	joining bool      // somebody lets them join; the same

	teller *teller // tells the source which checkpoints count; nil where it need not know
}

// still is the watermark of a stream all of whose splits are idle: while there is nobody to wait for, its event time goes on
// with the clock from the newest row, so that what is due comes out. It is MinTime for any other. The caller holds the
// scheduler's lock.
func (sc *scanner) still(now time.Time) int64 {
	newest, last := types.MinTime, time.Time{}
	if sc.op.OfTable != nil || sc.op.Stream.Arrival() {
		return newest
	}
	for _, sr := range sc.splits() {
		if !sr.idleSent && !sr.done {
			return types.MinTime
		}
		newest = max(newest, sr.atTime)
		if sr.lastData.After(last) {
			last = sr.lastData
		}
	}
	if newest == types.MinTime {
		return newest
	}
	return newest - sc.op.Stream.Delay + max(0, now.Sub(last).Microseconds())
}

// defaultAhead is how far a row's event time may lie ahead of the wall clock in a live stream.
const defaultAhead = types.Hour

// timed computes the event times of a batch and puts them behind its columns. Rows whose event time fails
// or is NULL are rejected.
func (p *pipe) timed(op *plan.Op, b *column.Batch) *column.Batch {
	m := &p.ctx.Machine
	m.Begin()
	v := m.Eval(op.Stream.TimeOf, b)
	reasons := map[int]string{}
	for _, f := range m.Failures {
		reasons[f.Row] = f.Reason
	}
	m.Failures = m.Failures[:0]
	for i := range b.N {
		if v.Null(i) && reasons[i] == "" {
			reasons[i] = op.Stream.TimeIs + " is NULL, but it is the event time"
		}
	}
	wide := *b
	wide.Cols = append(slices.Clone(b.Cols), v)
	wide.Time = slices.Clone(v.I[:b.N])
	if len(reasons) == 0 {
		return &wide
	}
	p.ctx.Counts[op.ID].Rejected += int64(len(reasons))
	var sel []uint32
	for i := range b.N {
		if reasons[i] == "" {
			sel = append(sel, uint32(i))
			continue
		}
		p.ctx.Tally(op.ID, reasons[i])
		if p.ctx.Wants(op, false, reasons[i]) {
			p.ctx.Note(op, step.Sample{Op: op.ID, Reason: reasons[i], Split: b.Split, Pos: b.Pos[i], EventTime: types.MinTime, Row: p.ctx.Describe(op.Fields[:len(b.Cols)], b, i)})
		}
	}
	out := &column.Batch{}
	wide.Gather(sel, out)
	return out
}

// ahead rejects rows whose event time lies too far ahead of when they arrived, so that one wrong clock does not make all
// other rows late. A topic keeps when a message arrived, so that a row that is read again is judged as it was before;
// of messages whose arrival is not known the wall clock is taken. Splits that end have no limit unless the stream says
// one.
func (j *Job) ahead(op *plan.Op, b *column.Batch, pi *pipe, now time.Time, messages []Message) *column.Batch {
	limit := op.Stream.Ahead
	if limit < 0 {
		if op.Stream.Ends || op.Until.Kind != plan.Default {
			return b
		}
		limit = defaultAhead
	}
	first := now.UnixMicro() // the earliest arrival
	for i := range messages {
		if at := messages[i].At; at > 0 && at < first {
			first = at
		}
	}
	far := false
	for _, t := range b.Time[:b.N] {
		far = far || t > first+limit
	}
	if !far {
		return b
	}
	arrival := func() func(pos int64) int64 { // rows come in the order of the messages
		k := 0
		return func(pos int64) int64 {
			for k < len(messages) && messages[k].Pos < pos {
				k++
			}
			if k < len(messages) && messages[k].Pos == pos && messages[k].At > 0 {
				return messages[k].At
			}
			return now.UnixMicro()
		}
	}()
	var sel []uint32
	for i, t := range b.Time[:b.N] {
		if t <= arrival(b.Pos[i])+limit {
			sel = append(sel, uint32(i))
			continue
		}
		reason := "its event time is more than " + sql.DurationText(limit) + " ahead of its arrival (AHEAD)"
		pi.ctx.Tally(op.ID, reason)
		if pi.ctx.Wants(op, false, reason) {
			pi.ctx.Note(op, step.Sample{Op: op.ID, Reason: reason,
				Split: b.Split, Pos: b.Pos[i], EventTime: t, Row: j.opts.Describe(op.Fields, b, i)})
		}
	}
	pi.ctx.Counts[op.ID].Rejected += int64(b.N - len(sel))
	out := &column.Batch{}
	b.Gather(sel, out)
	return out
}

// passMax waits for the greatest event time before piece seq, hands on the greatest up to and with
// it, and gives the former.
func (sr *splitReader) passMax(j *Job, seq, own int64) int64 {
	sr.maxMu.Lock()
	defer sr.maxMu.Unlock()
	for sr.maxSeq != seq && j.ctx.Err() == nil {
		sr.cond.Wait()
	}
	before := sr.maxTime
	sr.maxTime = max(before, own)
	sr.maxSeq = seq + 1
	sr.cond.Broadcast()
	return before
}

// stampRows gives each row its stamp, the watermark of the split just before it, and gives the
// greatest event time of the piece. All its rows count, also those that are filtered later.
func (sr *splitReader) stampRows(j *Job, seq int64, b *column.Batch, buf *[]int64) int64 {
	own := types.MinTime
	for _, t := range b.Time[:b.N] {
		own = max(own, t)
	}
	b.Stamp = nil
	deleted := sr.scan.op.OfTable != nil && b.Change != nil
	if !sr.scan.stamped {
		return own
	}
	m := sr.passMax(j, seq, own)
	delay := sr.scan.op.Stream.Delay
	*buf = slices.Grow((*buf)[:0], b.N)[:b.N]
	b.Stamp = *buf
	var behind Lags
	for i, t := range b.Time[:b.N] {
		if deleted && t == types.MinTime { // a deletion tells no time: it has the newest one of its split
			t = m
			b.Time[i] = m
		}
		b.Stamp[i] = m - delay
		if t < m {
			behind.add(m - t)
		} else {
			m = t
		}
	}
	if n := int64(b.N) - behind.Rows; n > 0 {
		behind.Rows += n
		if behind.buckets == nil {
			behind.buckets = []int64{0}
		}
		behind.buckets[0] += n
	}
	sr.maxMu.Lock()
	sr.lags.Add(&behind)
	sr.maxMu.Unlock()
	return own
}
