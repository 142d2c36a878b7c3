package flow

import (
	"context"
	"sync"
	"time"

	"fiume/internal/core/types"
)

// Splits that come while a job runs, and sources that are told of checkpoints.
//
// A split that comes joins with a checkpoint, and begins with the watermark that its scan has there: what was done at that watermark stays
// done, and a row of the split that is older is late, however often it is read again. Its rows are read once that checkpoint counts, so that a run
// from an earlier one, in which the split may join elsewhere, finds none of them in a sink. And in a run that goes on at a checkpoint no split joins
// before what sinks had shown behind that has come again: that was made without the split. Where no checkpoints are taken it joins at once.
//
// The splits are numbered: rows with equal event times are told apart by the number and the position. The number is kept with the position.

// splits gives the splits that are read. The list is never changed.
func (sc *scanner) splits() []*splitReader {
	if l := sc.list.Load(); l != nil {
		return *l
	}
	return nil
}

// begin takes the splits that are there when the job is opened. In a run that goes on at a checkpoint which knows the scan, those that the
// checkpoint does not know have come since.
func (sc *scanner) begin() {
	j := sc.job
	var known *Snapshot
	if r := j.opts.Restore; r != nil && r.knows(sc) {
		known = r
	}
	if k, ok := sc.source.(Knowing); ok && known != nil {
		k.Known(func(name string) (there, ended bool) {
			at, ok := known.Splits[splitKeyOf(sc, name)]
			return ok, at.Ended
		})
	}
	var list []*splitReader
	for _, sp := range sc.source.Splits() {
		sr := sc.reader(sp)
		if known != nil && !sc.rereads() {
			if _, ok := known.Splits[splitKey(sc, sr)]; !ok {
				sc.arrived = append(sc.arrived, sp)
				continue
			}
		}
		sr.index = j.number(sc, sr)
		j.connect(&sr.instance, sc.ends, false)
		list = append(list, sr)
	}
	sc.list.Store(&list)
	g, ok := sc.source.(Growing)
	if ok && g.Grows() || len(sc.arrived) > 0 {
		sc.coming = &instance{}
		j.connect(sc.coming, sc.ends, false)
	}
	sc.stamped = j.opts.Lags || len(sc.ends.keyed()) > 0
}

// rereads says whether the scan is of a table that each run reads from its beginning.
func (sc *scanner) rereads() bool { return sc.op.OfTable != nil && sc.op.OfTable.Reread() }

// reader makes the reader of a split.
func (sc *scanner) reader(sp Split) *splitReader {
	at := sp.Position()
	sr := &splitReader{scan: sc, split: sp, maxTime: types.MinTime, newest: types.MinTime, atTime: types.MinTime, still: types.MinTime,
		nextPos: at, delivered: at, idleAfter: sc.op.Stream.Idle, lastData: sc.job.opts.Now()}
	if sc.op.OfTable != nil && sr.idleAfter < 0 {
		sr.idleAfter = quietTable
	}
	sr.cond.L = &sr.maxMu
	return sr
}

// number gives a split its number: the one that the checkpoint has, or the next.
func (j *Job) number(sc *scanner, sr *splitReader) int {
	if j.numbered == 0 && j.opts.Restore != nil { // behind those that are known
		for _, at := range j.opts.Restore.Splits {
			j.numbered = max(j.numbered, at.Number)
		}
	}
	if j.opts.Restore != nil {
		if at := j.opts.Restore.Splits[splitKey(sc, sr)]; at.Number > 0 {
			return at.Number - 1
		}
	}
	j.numbered++
	return j.numbered - 1
}

// knows says whether a checkpoint was taken of a job with the scan.
func (s *Snapshot) knows(sc *scanner) bool {
	for _, k := range s.Scans {
		if k == sc.op.Key {
			return true
		}
	}
	return false
}

// look asks a source that grows for what has come, now and then. What has come joins at once where no checkpoints are taken; else it is said
// that a checkpoint is wanted.
func (sc *scanner) look() {
	j := sc.job
	if !sc.open() {
		return
	}
	g, grows := sc.source.(Growing)
	grows = grows && g.Grows() // asked before: what it gives then is all
	var come []Split
	if g != nil {
		come = g.Arrived()
	}
	j.sched.mu.Lock()
	if sc.op.Aux && j.sched.streamsDone() { // nobody looks into the table any more
		grows, come = false, nil
	}
	sc.arrived = append(sc.arrived, come...)
	wait := j.opts.Checkpoints && len(sc.arrived) > 0
	act := !sc.joining && !wait && (len(sc.arrived) > 0 || !grows)
	sc.joining = sc.joining || act
	j.sched.mu.Unlock()
	if wait && j.opts.Arrived != nil && j.replayed() {
		j.opts.Arrived()
	}
	if !act {
		return
	}
	j.spawn(func() error { // queues that are full hold it up
		j.checkpoint.Lock()
		defer j.checkpoint.Unlock()
		err := sc.grow(j.ctx, 0)
		if err == nil && !grows {
			err = sc.shut()
		}
		j.sched.mu.Lock()
		sc.joining = false
		j.sched.mu.Unlock()
		j.sched.wake()
		if err != nil && j.ctx.Err() != nil {
			return nil
		}
		return err
	})
}

// grow lets the splits that have come join, with a checkpoint or, 0, at once. The caller holds the lock of checkpoints.
func (sc *scanner) grow(ctx context.Context, checkpoint int64) error {
	j := sc.job
	j.sched.mu.Lock()
	come := sc.arrived
	sc.arrived = nil
	j.sched.mu.Unlock()
	if len(come) == 0 {
		return nil
	}
	// Meanwhile no split sends anything: the tasks must not get further than where those that come begin.
	for _, sr := range sc.splits() {
		select {
		case sr.mu <- struct{}{}:
			defer sr.mu.Unlock()
		case <-ctx.Done():
			j.sched.mu.Lock()
			sc.arrived = append(come, sc.arrived...)
			j.sched.mu.Unlock()
			return ctx.Err()
		}
	}
	at := sc.reached()
	list := append([]*splitReader{}, sc.splits()...)
	for _, sp := range come {
		sr := sc.reader(sp)
		sr.index, sr.held = j.number(sc, sr), checkpoint
		sr.newest, sr.maxTime, sr.atTime = at, at, at
		j.connect(&sr.instance, sc.ends, true)
		p := progress{watermark: types.MinTime, newest: at}
		if at > types.MinTime {
			p.watermark = at - sc.op.Stream.Delay
		}
		if err := j.introduce(&sr.instance, p); err != nil {
			return err
		}
		list = append(list, sr)
		j.say("a split has come, and is read", sourceKind(sc.op), sc.op.Step, "split", sp.Name())
	}
	j.sched.mu.Lock()
	sc.list.Store(&list)
	j.sched.mu.Unlock()
	return nil
}

// replayed says whether all that sinks had shown behind the checkpoint at which the run goes on has come again; or whether what is there to read has
// been read, so that the rest does not come any more.
func (j *Job) replayed() bool {
	if j.opts.Restore == nil {
		return true
	}
	missing := false
	for _, t := range j.sinks {
		r, ok := t.sink.(Repeater)
		missing = missing || ok && r.Missing() > 0
	}
	if !missing {
		return true
	}
	j.sched.mu.Lock()
	defer j.sched.mu.Unlock()
	for _, sc := range j.sources {
		for _, sr := range sc.splits() {
			if !sr.caught {
				return false
			}
		}
	}
	return true
}

// open says whether splits may come.
func (sc *scanner) open() bool {
	sc.job.sched.mu.Lock()
	defer sc.job.sched.mu.Unlock()
	return sc.coming != nil && !sc.closed
}

// reached is how far the event time of the scan has come: of the split that the others wait for, or, where all are idle, of the one that is
// furthest. The caller holds the locks of the splits.
func (sc *scanner) reached() int64 {
	low, high, any := types.MaxTime, types.MinTime, false
	sc.job.sched.mu.Lock() // for still
	defer sc.job.sched.mu.Unlock()
	for _, sr := range sc.splits() {
		sr.seen.Lock()
		switch {
		case sr.ended, sr.over:
			high = max(high, sr.newest)
		case sr.idle:
			high = max(high, sr.newest)
			if sr.still > types.MinTime {
				high = max(high, sr.still+sc.op.Stream.Delay)
			}
		default:
			low, any = min(low, sr.newest), true
		}
		sr.seen.Unlock()
	}
	if any {
		return low
	}
	return high
}

// shut ends the sender that keeps the stage open: no split comes any more.
func (sc *scanner) shut() error {
	if !sc.open() {
		return nil
	}
	in := sc.coming
	in.mu.Lock()
	err := in.send(sc.job.ctx, &turn{progress: progress{watermark: types.MinTime, newest: types.MinTime, idle: true, loaded: true, end: true}})
	in.mu.Unlock()
	sc.job.sched.mu.Lock()
	sc.closed = true
	sc.job.sched.mu.Unlock()
	return err
}

// teller tells a source which checkpoints count, one at a time.
type teller struct {
	sc   *scanner
	to   Committing
	due  chan map[string]SplitPosition // the newest positions
	done chan struct{}
	mu   sync.Mutex
	try  *Waiting // the last one has failed
}

func newTeller(sc *scanner, to Committing) *teller {
	return &teller{sc: sc, to: to, due: make(chan map[string]SplitPosition, 1), done: make(chan struct{})}
}

func (t *teller) waiting() *Waiting {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.try
}

// tell gives it the positions of a snapshot; older ones that are not begun are covered by them.
func (t *teller) tell(s *Snapshot) {
	at := map[string]SplitPosition{}
	for _, sr := range t.sc.splits() {
		if p, ok := s.Splits[splitKey(t.sc, sr)]; ok {
			at[sr.split.Name()] = p
		}
	}
	select {
	case <-t.due:
	default:
	}
	t.due <- at
}

// run tells what is due until the job is closed. What fails is tried again, or given up for a newer one.
func (t *teller) run(ctx context.Context) {
	defer close(t.done)
	for {
		var at map[string]SplitPosition
		var ok bool
		select {
		case <-ctx.Done():
			return
		case at, ok = <-t.due:
			if !ok {
				return
			}
		}
		for wait := firstTryAfter; ; wait = min(2*wait, lastTryAfter) {
			err := safely(func() error { return t.to.Commit(at) })
			t.note(err)
			if err == nil {
				break
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(wait):
			}
			select {
			case newer, open := <-t.due:
				if !open {
					return // it is told again by the next run
				}
				at = newer
			default:
			}
		}
	}
}

// note keeps how a try went.
func (t *teller) note(err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if err == nil {
		t.try = nil
		return
	}
	w := Waiting{Since: t.sc.job.opts.Now(), Reason: err.Error(), Tries: 1}
	if t.try != nil {
		w.Since, w.Tries = t.try.Since, t.try.Tries+1
	} else {
		t.sc.job.say("a source cannot be told of a checkpoint, and it is tried again", sourceKind(t.sc.op), t.sc.op.Step, "error", err)
	}
	t.try = &w
}
