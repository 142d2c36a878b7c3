package flow

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// splitReader is a split being read. Pieces are numbered as they are read; several workers decode
// pieces at once, and each piece's outcome is delivered in the order of the numbers.
type splitReader struct {
	scan  *scanner
	split Split
	index int

	// Under the scheduler's lock:
	reading   bool
	seq       int64 // of the next piece
	nextPos   int64
	done      bool
	over      bool  // it had ended when the run before was stopped
	atTime    int64 // greatest event time handed on, to read the split that is furthest behind first
	lastData  time.Time
	idleAfter int64
	idleSent  bool
	loaded    bool      // a table's split has been read to its end once
	marked    time.Time // when the last time mark was sent

	// The greatest event time before each piece, handed from piece to piece.
	maxMu   sync.Mutex
	cond    sync.Cond
	maxSeq  int64
	maxTime int64
	lags    Lags // under maxMu, too

	instance  // mu guards dueSeq and pending, seen the rest
	dueSeq    int64
	pending   map[int64]*turn
	sent      int64 // pieces whose outcome has been sent; under seen
	delivered int64
	newest    int64
	idle      bool
}

// scheduler hands pieces to workers: of the splits that have data, the one whose watermark is lowest
// comes first, so that a replay does not run ahead on one side.
type scheduler struct {
	job     *Job
	mu      sync.Mutex
	cond    sync.Cond
	stamp   uint64 // changes whenever there may be more data
	stopped bool
	paused  bool          // nothing more is read
	loading int           // tasks of tables that have not got all their rows yet
	over    chan struct{} // closed when all splits have ended
}

func (s *scheduler) init(j *Job) {
	s.job = j
	s.cond.L = &s.mu
	s.over = make(chan struct{})
}

func (s *scheduler) wake() {
	s.mu.Lock()
	s.stamp++
	s.mu.Unlock()
	s.cond.Broadcast()
}

// tableLoaded notes that a task of a table has got all rows that there are. Streams are read once all
// tables have.
func (s *scheduler) tableLoaded() {
	s.mu.Lock()
	s.loading--
	s.stamp++
	s.mu.Unlock()
	s.cond.Broadcast()
}

// streamsDone says whether nothing is left to read but tables that are only looked into.
func (s *scheduler) streamsDone() bool {
	for _, sc := range s.job.sources {
		if sc.op.Aux {
			continue
		}
		for _, sr := range sc.splits {
			if !sr.done {
				return false
			}
		}
	}
	return true
}

// tick wakes waiting workers now and then, so that silent splits are found idle.
func (s *scheduler) tick() error {
	t := time.NewTicker(50 * time.Millisecond)
	defer t.Stop()
	for {
		select {
		case <-s.job.ctx.Done():
			return nil
		case <-s.over:
			return nil
		case <-t.C:
			s.wake()
		}
	}
}

type assignment struct {
	sr      *splitReader
	seq     int64
	end     bool
	idle    bool
	mark    int64 // event time that a quiet split has certainly reached, or 0
	still   int64 // watermark of a stream all of whose splits are idle, or 0
	from    bool  // the split is read from its beginning
	all     bool  // a table's split has been read to its end, for now
	nothing bool
	next    int64
}

// next reads the next piece of some split into p. It gives nil when all splits have ended.
func (s *scheduler) next(p *Piece) (*assignment, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for {
		if s.job.ctx.Err() != nil {
			return nil, nil
		}
		stamp := s.stamp
		tried := map[*splitReader]bool{}
		for {
			sr := s.lowest(tried)
			if sr == nil {
				break
			}
			tried[sr] = true
			sr.reading = true
			s.mu.Unlock()
			p.Fresh, p.Complete, p.Lost, p.Why = false, false, 0, ""
			err := io.EOF
			if !sr.over {
				err = sr.split.Next(p)
			}
			s.mu.Lock()
			table := sr.scan.op.OfTable
			if e, ok := sr.split.(Endless); ok && e.Endless() && errors.Is(err, ErrNothing) && sr.scan.op.Aux && s.streamsDone() {
				err = io.EOF
			}
			sr.reading = false
			s.cond.Broadcast()
			now := s.job.opts.Now()
			a := &assignment{sr: sr, seq: sr.seq, next: p.Next}
			switch {
			case err == nil:
				sr.lastData, sr.idleSent = now, false
				p.Fresh = p.Fresh || sr.seq == 0 && table != nil && table.Reread()
				sr.seq++
				sr.nextPos = p.Next
				return a, nil
			case errors.Is(err, io.EOF):
				sr.done = true
				sr.seq++
				s.stamp++
				a.end, a.next = true, sr.nextPos
				a.from = sr.seq == 1 && table != nil && table.Reread()
				a.all = table != nil && table.Reread()
				return a, nil
			case errors.Is(err, ErrNothing):
				if table != nil && !sr.loaded {
					sr.loaded = true
					sr.seq++
					a.nothing, a.next = true, sr.nextPos
					return a, nil
				}
				if !sr.idleSent && sr.idleAfter >= 0 && now.Sub(sr.lastData) >= time.Duration(sr.idleAfter)*time.Microsecond {
					sr.idleSent = true
					sr.seq++
					a.idle, a.next = true, sr.nextPos
					return a, nil
				}
				if still := sr.scan.still(now); sr.idleSent && still > types.MinTime && now.Sub(sr.marked) >= markEvery {
					sr.marked = now
					sr.seq++
					a.idle, a.still, a.next = true, still, sr.nextPos
					return a, nil
				}
				if sr.scan.op.Stream.Arrival() && now.Sub(sr.marked) >= markEvery {
					sr.marked = now
					sr.seq++
					a.mark, a.next = now.Add(-markBehind).UnixMicro(), sr.nextPos
					return a, nil
				}
			default:
				return nil, fmt.Errorf("stream %s, %s: %w", sr.scan.op.Step, sr.split.Name(), err)
			}
		}
		all, reading := true, false
		for _, sc := range s.job.sources {
			for _, sr := range sc.splits {
				all = all && sr.done
				reading = reading || sr.reading
			}
		}
		if all {
			if !s.stopped {
				s.stopped = true
				close(s.over)
			}
			s.cond.Broadcast()
			return nil, nil
		}
		for s.stamp == stamp && s.job.ctx.Err() == nil {
			s.cond.Wait()
			if reading {
				break // a split that another worker was reading may be free
			}
		}
	}
}

// The event time of a stream without a column for it is the arrival. When such a split has nothing to read,
// what comes later arrives later, so that its watermark goes on with the clock: a time mark is sent now and
// then, a little behind, since messages that are being written get their time of arrival before they can be
// read.
const (
	markEvery  = 200 * time.Millisecond
	markBehind = time.Second
)

// still is the watermark of a stream all of whose splits are idle: while there is nobody to wait for, its event time goes on
// with the clock from the newest row, so that what is due comes out. It is MinTime for any other. The caller holds the
// scheduler's lock.
func (sc *scanner) still(now time.Time) int64 {
	newest, last := types.MinTime, time.Time{}
	if sc.op.OfTable != nil || sc.op.Stream.Arrival() {
		return newest
	}
	for _, sr := range sc.splits {
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

func (s *scheduler) lowest(tried map[*splitReader]bool) (best *splitReader) {
	for _, sc := range s.job.sources {
		for _, sr := range sc.splits {
			if s.paused || sr.done || sr.reading || tried[sr] || s.loading > 0 && sc.op.OfTable == nil {
				continue
			}
			if best == nil || sr.atTime < best.atTime {
				best = sr
			}
		}
	}
	return best
}

// defaultAhead is how far a row's event time may lie ahead of the wall clock in a live stream.
const defaultAhead = types.Hour

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
		if a.end || a.idle || a.mark != 0 || a.nothing {
			reached := types.MinTime
			if a.mark != 0 {
				reached = a.mark
			}
			if sc.stamped {
				sr.passMax(j, a.seq, types.MinTime)
			}
			sr.mu.Lock()
			sr.deliver(j, a.seq, &turn{end: a.end, idle: a.idle, still: a.still, next: a.next, watermark: reached, split: int32(sr.index), fresh: a.from, complete: a.all, loaded: a.nothing})
			sr.mu.Unlock()
			continue
		}
		pi := pipes[sc]
		if pi == nil {
			ctx := step.NewContext(len(j.plan.Ops), j.opts.Describe)
			ctx.Origin = func(split int, pos int64) string {
				return fmt.Sprintf("%s at %d", sc.splits[split-sc.first].split.Name(), pos)
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

// raw is the text of a message, whole where somebody asked for the rejected ones.
func (p *pipe) raw(o *plan.Op, b []byte) string {
	if o.Rejected != nil {
		return string(b)
	}
	return clip(b)
}

func clip(b []byte) string {
	const most = 2000
	if len(b) > most {
		return string(b[:most]) + "…"
	}
	return string(b)
}

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
		if op.Stream.Place == "files" || op.Until.Kind != plan.Default {
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

// deliver sends a turn when all turns before it have been sent; until then it is kept. The turn's
// watermark is at first the greatest event time of its own rows. The caller holds the split's lock.
func (sr *splitReader) deliver(j *Job, seq int64, t *turn) {
	if sr.pending == nil {
		sr.pending = map[int64]*turn{}
	}
	sr.pending[seq] = t
	for {
		t, ok := sr.pending[sr.dueSeq]
		if !ok {
			return
		}
		delete(sr.pending, sr.dueSeq)
		sr.dueSeq++
		sr.seen.Lock()
		sr.newest = max(sr.newest, t.watermark)
		sr.idle = t.idle
		sr.delivered = t.next
		sr.seen.Unlock()
		t.watermark, t.newest = types.MinTime, sr.newest
		if sr.newest > types.MinTime {
			t.watermark = sr.newest - sr.scan.op.Stream.Delay
		}
		if t.still != 0 {
			t.watermark = max(t.watermark, t.still)
		}
		j.samples.addAll(t)
		if err := sr.send(j.ctx, t); err != nil {
			return // the run is over; its reason is known
		}
		sr.seen.Lock()
		sr.sent++
		sr.seen.Unlock()
		j.sched.mu.Lock()
		sr.atTime = sr.newest
		j.sched.mu.Unlock()
	}
}
