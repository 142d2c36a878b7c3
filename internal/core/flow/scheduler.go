package flow

import (
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"fiume/internal/core/types"
)

// Which split is read next: of those that have something, the one that is furthest behind in event time.

func clip(b []byte) string {
	const most = 2000
	if len(b) > most {
		return string(b[:most]) + "…"
	}
	return string(b)
}

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
	still     int64     // the greatest watermark that the clock gave it while all splits were idle
	waits     *Waiting  // the last try to read it has failed
	again     time.Time // not tried before
	caught    bool      // all that there was has been read once
	plain     bool      // its messages need nothing from elsewhere
	prepare   Preparing // gets what they need
	kept      *Piece    // it could not be prepared
	held      int64     // it has joined with this checkpoint, and is read once that counts; 0: it may be read

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
	gave    int64         // pieces that were given to workers
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
		for _, sr := range sc.splits() {
			if !sr.done {
				return false
			}
		}
		if sc.coming != nil && !sc.closed {
			return false
		}
	}
	return true
}

// passes notes that reading a split has failed, and says whether it is tried again. The caller holds the scheduler's lock.
func (sr *splitReader) passes(err error, now time.Time) bool {
	var passing *Passing
	if r, ok := sr.scan.source.(Retrier); !errors.As(err, &passing) && (!ok || !r.Retry(err)) {
		return false
	}
	w := Waiting{Since: now, Reason: err.Error(), Tries: 1}
	if sr.waits != nil {
		w.Since, w.Tries = sr.waits.Since, sr.waits.Tries+1
	} else {
		sr.scan.job.say("a split cannot be read, and is tried again", sourceKind(sr.scan.op), sr.scan.op.Step, "split", sr.split.Name(), "error", err)
	}
	sr.waits = &w
	sr.again = time.Now().Add(min(firstTryAfter<<min(w.Tries-1, 10), lastTryAfter))
	return true
}

// read reads the next piece of the split, and has a decoder get what its messages need. A piece for which that failed is kept for the next try.
func (sr *splitReader) read(p *Piece) error {
	if sr.prepare == nil && !sr.plain {
		dec, err := sr.split.NewDecoder()
		if err != nil {
			return fmt.Errorf("stream %s, %s: %w", sr.scan.op.Step, sr.split.Name(), err)
		}
		var ok bool
		sr.prepare, ok = dec.(Preparing)
		sr.plain = !ok
	}
	if sr.plain {
		return sr.split.Next(p)
	}
	if sr.kept != nil {
		*p, sr.kept = *sr.kept, nil
	} else if err := sr.split.Next(p); err != nil {
		return err
	}
	err := sr.split.Frame(p)
	if err == nil {
		err = sr.prepare.Prepare(p.Data, p.Messages)
	}
	if err != nil {
		kept := *p
		*p, sr.kept = Piece{}, &kept
	}
	return err
}

// recovered notes that a split can be read. The caller holds the scheduler's lock.
func (sr *splitReader) recovered() {
	if sr.waits != nil {
		sr.scan.job.say("a split can be read again", sourceKind(sr.scan.op), sr.scan.op.Step, "split", sr.split.Name(), "tries", sr.waits.Tries)
		sr.waits = nil
	}
}

// How often waiting workers look again whether something has come, or a split is idle: while pieces come, and when none has come for so many times. Sources that
// are pushed to wake them at once.
var looks = []struct {
	every time.Duration
	times int
}{{50 * time.Millisecond, 20}, {200 * time.Millisecond, 45}, {500 * time.Millisecond, 0}}

// tick wakes waiting workers now and then, so that silent splits are found idle.
func (s *scheduler) tick() error {
	t := time.NewTicker(looks[0].every)
	defer t.Stop()
	seen, quiet, level := int64(-1), 0, 0
	for {
		select {
		case <-s.job.ctx.Done():
			return nil
		case <-s.over:
			return nil
		case <-t.C:
			for _, sc := range s.job.sources {
				sc.look()
			}
			s.wake()
			s.mu.Lock()
			gave := s.gave
			s.mu.Unlock()
			now := level
			if quiet++; gave != seen {
				seen, quiet, now = gave, 0, 0
			} else if quiet == looks[level].times {
				quiet, now = 0, level+1
			}
			if now != level {
				level = now
				t.Reset(looks[level].every)
			}
		}
	}
}

type assignment struct {
	sr  *splitReader
	seq int64
	progress
	clock int64 // event time that a quiet split has certainly reached, or 0
	still int64 // watermark of a stream all of whose splits are idle, or 0
	next  int64
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
				err = sr.read(p)
			}
			nothing := errors.Is(err, ErrNothing)
			if c, ok := sr.split.(Counting); nothing && ok && c.Left(sr.nextPos) > 0 {
				nothing = false // it is on its way
			}
			s.mu.Lock()
			table := sr.scan.op.OfTable
			if e, ok := sr.split.(Endless); ok && e.Endless() && nothing && sr.scan.op.Aux && s.streamsDone() {
				err = io.EOF
			}
			sr.reading = false
			ended := err == io.EOF // as it is: one that wraps it is that of a connection
			sr.caught = sr.caught || nothing || ended
			s.cond.Broadcast()
			now := s.job.opts.Now()
			a := &assignment{sr: sr, seq: sr.seq, next: p.Next}
			switch {
			case err == nil:
				sr.recovered()
				sr.lastData, sr.idleSent = now, false
				s.gave++
				p.Fresh = p.Fresh || sr.seq == 0 && table != nil && table.Reread()
				sr.seq++
				sr.nextPos = p.Next
				return a, nil
			case ended:
				sr.done = true
				sr.seq++
				s.stamp++
				a.end, a.next = true, sr.nextPos
				a.fresh = sr.seq == 1 && table != nil && table.Reread()
				a.complete = table != nil && table.Reread()
				return a, nil
			case errors.Is(err, ErrNothing) && !nothing:
				sr.recovered()
			case nothing:
				sr.recovered()
				if table != nil && !sr.loaded {
					sr.loaded = true
					sr.seq++
					a.loaded, a.next = true, sr.nextPos
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
					sr.still = max(sr.still, still)
					a.idle, a.still, a.next = true, still, sr.nextPos
					return a, nil
				}
				if sr.scan.op.Stream.Arrival() && now.Sub(sr.marked) >= markEvery {
					heard := now
					if h, ok := sr.split.(Hearing); ok {
						if heard = h.Heard(); heard.IsZero() {
							break
						}
					}
					sr.marked = now
					sr.seq++
					a.clock, a.next = heard.Add(-markBehind).UnixMicro(), sr.nextPos
					return a, nil
				}
			case sr.passes(err, now):
			default:
				return nil, fmt.Errorf("stream %s, %s: %w", sr.scan.op.Step, sr.split.Name(), err)
			}
		}
		all, reading := true, false
		for _, sc := range s.job.sources {
			for _, sr := range sc.splits() {
				all = all && sr.done
				reading = reading || sr.reading
			}
			all = all && (sc.coming == nil || sc.closed)
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

func (s *scheduler) lowest(tried map[*splitReader]bool) (best *splitReader) {
	now := time.Now() // of the machine: a clock that jumps keeps nobody waiting
	for _, sc := range s.job.sources {
		for _, sr := range sc.splits() {
			if s.paused || sr.done || sr.reading || sr.held != 0 || sr.waits != nil && now.Before(sr.again) || tried[sr] || s.loading > 0 && sc.op.OfTable == nil {
				continue
			}
			if best == nil || sr.atTime < best.atTime {
				best = sr
			}
		}
	}
	return best
}
