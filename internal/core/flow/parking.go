package flow

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"fiume/internal/core/state"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// What a keyed task does when its state grows: it notes what its cells are given in a journal, writes cells to it, leaves those that are used least on
// disk, and takes them back when something is due in them.

// sizes are those above, smaller in tests.
type sizes struct{ cell, from, until, buffer, base int }

func sizesOf(cell int) sizes {
	if cell <= 0 {
		return sizes{cellBytes, journalFrom, journalUntil, bufferBytes, baseBytes}
	}
	return sizes{cell, cell, cell / 4, cell / 16, cell / 4}
}

// What decides when cells are cut, written and parked.
const (
	cellBytes    = 4 << 20 // a cell that holds more is cut in two
	journalFrom  = 4 << 20 // what a task holds before deliveries are noted
	journalUntil = 1 << 20 // what it holds when they are noted no more
	bufferBytes  = 64 << 10
	baseBytes    = 1 << 20 // deliveries that are noted before a base is written anew, at least
	parkedMs     = 1000    // how long a cell may lag behind that does not know when something is due
)

// measure notes what a cell holds.
func (w *keyedTask) measure(c *cell) {
	before := c.bytes
	c.open, c.keys, c.bytes = c.keyed.Size()
	w.bytesHeld += c.bytes - before
}

// note appends a delivery to what is to be written: its length, the watermarks before it, and the delivery.
func (c *cell) note(d *step.Delivery, before step.Watermarks) {
	if c.buf == nil {
		c.buf = make([]byte, 0, c.room)
	}
	at := len(c.buf)
	c.buf = append(c.buf, 0, 0, 0, 0)
	for _, x := range [...]int64{before.Of[0], before.Of[1], before.Newest} {
		c.buf = binary.LittleEndian.AppendUint64(c.buf, uint64(x))
	}
	c.buf = d.AppendTo(c.buf)
	binary.LittleEndian.PutUint32(c.buf[at:], uint32(len(c.buf)-at-4))
}

// replay gives a cell's step the deliveries in b, each behind the watermarks that it had come with.
func (w *keyedTask) replay(c *cell, k step.Keyed, b []byte) error {
	for len(b) > 0 {
		if len(b) < 28 || int64(binary.LittleEndian.Uint32(b)) < 24 || int64(len(b)-4) < int64(binary.LittleEndian.Uint32(b)) {
			return errors.New("state is cut short")
		}
		n := binary.LittleEndian.Uint32(b)
		one := b[4 : 4+n]
		b = b[4+n:]
		word := func(i int) int64 { return int64(binary.LittleEndian.Uint64(one[8*i:])) }
		d, err := step.ReadDelivery(w.op, one[24:])
		if err != nil {
			return err
		}
		k.Advance(step.Watermarks{Of: [2]int64{word(0), word(1)}, Newest: word(2)})
		if c.part {
			var of [state.KeyRanges]int16
			for r := range of {
				of[r] = -1
			}
			of[c.task] = 0
			var mine [1]step.Delivery
			w.split.Split(&d, &of, mine[:])
			give(k, &mine[0])
		} else {
			give(k, &d)
		}
		if d.Block != nil {
			d.Block.Free()
		}
	}
	return nil
}

// append writes to the journal, which keeps b.
func (w *keyedTask) append(b []byte) (Extent, error) { return w.job.opts.Journal.Append(w.job.ctx, b) }

// write writes the deliveries of a cell that wait.
func (w *keyedTask) write(c *cell) error {
	if len(c.buf) == 0 {
		return nil
	}
	c.room = len(c.buf)
	e, err := w.append(c.buf)
	if err != nil {
		return err
	}
	c.log, c.logged, c.buf = append(c.log, e), c.logged+e.Len, nil
	return nil
}

// rebase writes a cell's state, in place of its base and what has come since.
func (w *keyedTask) rebase(c *cell) error {
	e, err := w.append(c.keyed.Snapshot())
	if err != nil {
		return err
	}
	w.release(c)
	c.base = e
	return nil
}

// release gives up what a cell has in the journal.
func (w *keyedTask) release(c *cell) {
	if c.base.Len > 0 {
		w.job.opts.Journal.Free(c.base)
	}
	for _, e := range c.log {
		w.job.opts.Journal.Free(e)
	}
	c.base, c.log, c.logged, c.buf = Extent{}, nil, 0, c.buf[:0]
}

// keepHouse cuts cells that have grown, writes a base that is due, parks what does not fit into memory, and works off
// what waits in cells that are parked. Each turn does little of it, so that none takes long.
func (w *keyedTask) keepHouse() error {
	limit := w.sizes.cell
	if m := w.fairShare(); m > 0 {
		limit = min(limit, max(int(m)/16, 4<<10))
	}
	for _, c := range w.cells {
		if c.keyed != nil && c.bytes > limit && 2*c.tasks <= state.KeyRanges {
			if err := w.cut(c); err != nil {
				return err
			}
			break
		}
	}
	if w.job.opts.Checkpoints {
		switch {
		case !w.logging && w.bytesHeld > w.sizes.from:
			if err := w.startNoting(); err != nil {
				return err
			}
		case w.logging && w.bytesHeld < w.sizes.until && !w.anyParked():
			w.logging = false
			for _, c := range w.cells {
				w.release(c)
			}
		case w.logging:
			for _, c := range w.cells {
				if c.keyed != nil && c.logged > max(c.base.Len, int64(w.sizes.base)) {
					if err := w.rebase(c); err != nil {
						return err
					}
					break
				}
			}
		}
	}
	if err := w.workOff(); err != nil {
		return err
	}
	return w.park()
}

// startNoting writes the bases of all cells in memory, so that what comes from now on is noted behind them.
func (w *keyedTask) startNoting() error {
	if w.logging || !w.job.opts.Checkpoints {
		return nil
	}
	for _, c := range w.cells {
		if c.keyed != nil {
			if err := w.rebase(c); err != nil {
				return err
			}
		}
	}
	w.logging = true
	return nil
}

// fairShare is the memory that the task may hold when all of the job's do, or 0 where it has no limit.
func (w *keyedTask) fairShare() int64 {
	if w.job.opts.Memory <= 0 {
		return 0
	}
	return w.job.opts.Memory / int64(max(w.job.keyedTasks, 1))
}

func (w *keyedTask) anyParked() bool {
	return slices.ContainsFunc(w.cells, func(c *cell) bool { return c.keyed == nil })
}

// park moves cells out of memory until the job is within its limit, or the task within its share: those first that
// were worked on longest ago.
func (w *keyedTask) park() error {
	for {
		w.account()
		if w.job.opts.Memory <= 0 || w.job.held.Load() <= w.job.opts.Memory || int64(w.holds()) <= w.fairShare() {
			return nil
		}
		var last *cell
		resident := 0
		for _, c := range w.cells {
			if c.keyed != nil && c.bytes > 0 {
				resident++
				if last == nil || c.used < last.used {
					last = c
				}
			}
		}
		if resident < 2 {
			return nil // at least what is worked on is held
		}
		last.due = types.MinTime
		if x, ok := last.keyed.(*step.Window); ok {
			last.due = x.Due()
		}
		if err := w.startNoting(); err != nil {
			return err
		}
		if err := w.rebase(last); err != nil {
			return err
		}
		last.keyed, last.since, last.at = nil, w.pipe.ctx.NowMs, w.passed
		w.bytesHeld -= last.bytes
	}
}

// holds is the memory that the task's state takes.
func (w *keyedTask) holds() int {
	n := w.bytesHeld
	for _, c := range w.cells {
		n += cap(c.buf)
	}
	return n
}

// account tells the job what the task holds.
func (w *keyedTask) account() {
	n := int64(w.holds())
	w.job.held.Add(n - w.accounted)
	if b := w.job.opts.Budget; b != nil {
		b.used.Add(n - w.accounted)
	}
	w.accounted = n
}

// lags says whether a parked cell is to be worked off: a result is due, or may be, or much has come.
func (w *keyedTask) lags(c *cell) bool {
	waiting := c.logged + int64(len(c.buf))
	switch {
	case w.box.live == 0 || waiting > max(c.base.Len, int64(w.sizes.base)):
		return true
	case c.due == types.MinTime:
		return (waiting > 0 || c.at != w.passed) && w.pipe.ctx.NowMs >= c.since+parkedMs
	}
	return c.due <= w.passed.Of[0]
}

// workOff works off the deliveries of parked cells. Of those that are not due it takes one a turn.
func (w *keyedTask) workOff() error {
	for _, c := range w.cells {
		if c.keyed != nil || !w.lags(c) {
			continue
		}
		due := w.box.live == 0 || c.due > types.MinTime && c.due <= w.passed.Of[0]
		if err := w.recall(c); err != nil {
			return err
		}
		if err := w.park(); err != nil {
			return err
		}
		if !due {
			return nil
		}
		if err := w.flush(w.sent, false); err != nil {
			return err
		}
	}
	return nil
}

// unparked makes what a parked cell stands for, with what it has missed but for the newest watermarks.
func (w *keyedTask) unparked(c *cell) (step.Keyed, error) {
	k, err := w.atBase(c.task, c.tasks, c.base)
	if err != nil {
		return nil, err
	}
	for _, e := range c.log {
		b, err := w.job.opts.Journal.Read(e)
		if err == nil {
			err = w.replay(c, k, b)
		}
		if err != nil {
			return nil, w.damaged(err)
		}
	}
	if err := w.replay(c, k, c.buf); err != nil {
		return nil, w.damaged(err)
	}
	return k, nil
}

// recall takes a parked cell back and does what it has missed.
func (w *keyedTask) recall(c *cell) error {
	k, err := w.unparked(c)
	if err != nil {
		return err
	}
	c.out = k.Advance(w.passed)
	c.keyed, c.used, c.bytes, c.part, c.fresh = k, w.turn, 0, false, false
	w.measure(c)
	if w.logging {
		return w.rebase(c)
	}
	w.release(c)
	return nil
}

// atBase makes a step as its base says.
func (w *keyedTask) atBase(task, tasks int, base Extent) (step.Keyed, error) {
	k := step.NewKeyed(w.op, w.pipe.ctx, w.gate, w.job.tables[w.op], task, tasks)
	if base.Len == 0 {
		return k, nil
	}
	b, err := w.job.opts.Journal.Read(base)
	if err == nil {
		err = w.silently(func() error { return k.Restore(b) })
	}
	if err != nil {
		return nil, w.damaged(err)
	}
	return k, nil
}

func (w *keyedTask) damaged(err error) error {
	return fmt.Errorf("the state of %s on disk: %w", w.op.Step, err)
}
