package flow

import (
	"slices"

	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// A keyed task whose state has grown is cut into cells by key range. Each is a step of its own with the key ranges
// of one of so many tasks, so that it can be written, read back and moved without the others.
//
// What is delivered to a cell is noted in the job's journal behind the cell's base, a snapshot. Base and deliveries
// are all that a checkpoint has to know, so that it writes what came since the last one (a base anew now and then,
// one cell at a time). And a cell that does not fit into memory is parked: what is delivered to it is only noted, and
// worked off when a result of it is due or much has come. It does then what it would have done at once, in the same
// order and with the same watermarks; that is why results do not depend on it.
type cell struct {
	task, tasks int        // its key ranges are those of task, of tasks
	keyed       step.Keyed // nil where it is parked
	keys, bytes int        // held; of a parked one when it was parked
	open        int
	out         int64 // watermark of its results
	fresh       bool  // it has been made of others and not been told a watermark since: it may have to give what those held up
	used        int64 // when it was worked on last, in turns of the task

	base   Extent // empty where there is none
	log    []Extent
	logged int64  // bytes of log
	buf    []byte // deliveries not written yet
	room   int    // what buf came to when it was last written

	// Of one that is parked:
	due   int64           // the watermark at which it gives something; MinTime where that is not known
	since int64           // when it was parked, wall clock in ms
	at    step.Watermarks // the watermarks that it has got
	part  bool            // what it has in the journal has other key ranges, too
}

// cuts says whether the task's state can be cut into cells.
func (w *keyedTask) cuts() bool { return w.job.opts.Journal != nil && w.op.Kind != plan.Keep }

// deliver gives the cells a delivery and the watermarks behind it, and gives the watermark of the results.
func (w *keyedTask) deliver(d *step.Delivery, m step.Watermarks) (out int64, err error) {
	w.turn++
	for i := range m.Of { // a step keeps what it knows
		m.Of[i] = max(m.Of[i], w.passed.Of[i])
	}
	m.Newest = max(m.Newest, w.passed.Newest)
	if len(w.cells) == 1 && !w.logging {
		c := w.cells[0]
		give(c.keyed, d)
		c.out, c.fresh = c.keyed.Advance(m), false
		w.measure(c)
	} else if err := w.share(d, m); err != nil {
		return 0, err
	}
	w.passed = m
	switch {
	case w.cuts():
		if err := w.keepHouse(); err != nil {
			return 0, err
		}
	case w.job.opts.Journal == nil && w.job.opts.Memory > 0:
		if err := w.within(); err != nil {
			return 0, err
		}
	}
	return w.lowest(), nil
}

// lowest is the watermark of the results of all cells.
func (w *keyedTask) lowest() int64 {
	out := types.MaxTime
	for _, c := range w.cells {
		out = min(out, c.out)
	}
	return out
}

// share gives each cell its part of a delivery.
func (w *keyedTask) share(d *step.Delivery, m step.Watermarks) error {
	w.parts = slices.Grow(w.parts[:0], len(w.cells))[:len(w.cells)]
	w.split.Split(d, &w.of, w.parts)
	for i, c := range w.cells {
		part := &w.parts[i]
		if !part.Empty() && (w.logging || c.keyed == nil) {
			c.note(part, w.passed)
			if len(c.buf) >= w.sizes.buffer {
				if err := w.write(c); err != nil {
					return err
				}
			}
		}
		if c.keyed != nil {
			give(c.keyed, part)
			c.out, c.fresh = c.keyed.Advance(m), false
			if !part.Empty() || w.turn%16 == 0 {
				w.measure(c)
			}
		} else {
			if !part.Empty() {
				c.due = min(c.due, step.DueOf(w.op, part, w.passed.Of[0]))
			}
			if c.due > m.Of[0] {
				c.out = max(c.out, m.Of[0])
			}
		}
		if part.Block != nil {
			part.Block.Free()
		}
	}
	clear(w.parts)
	return nil
}

// cut makes two cells of one.
func (w *keyedTask) cut(c *cell) error {
	b := c.keyed.Snapshot()
	var two []*cell
	for i := range 2 {
		x := &cell{task: 2*c.task + i, tasks: 2 * c.tasks, out: c.out, used: c.used, fresh: true}
		x.keyed = step.NewKeyed(w.op, w.pipe.ctx, w.gate, w.job.tables[w.op], x.task, x.tasks)
		if err := w.silently(func() error { return x.keyed.Restore(b) }); err != nil {
			return err
		}
		two = append(two, x)
	}
	w.release(c)
	w.bytesHeld -= c.bytes
	i := slices.Index(w.cells, c)
	w.cells = slices.Replace(w.cells, i, i+1, two...)
	w.place()
	for _, x := range two {
		w.measure(x)
		if w.logging {
			if err := w.rebase(x); err != nil {
				return err
			}
		}
	}
	return nil
}

// place notes which cell has which key range.
func (w *keyedTask) place() { w.of = placed(w.cells) }

// placed gives the cell of each key range, or -1. Of several it is the one with the fewest ranges, and of those the
// last: ranges that were parked by themselves (see restore) belong to no other cell.
func placed(cells []*cell) (of [state.KeyRanges]int16) {
	var finest [state.KeyRanges]int
	for r := range of {
		of[r] = -1
		for i, c := range cells {
			if state.TaskOf(r, c.tasks) == c.task && c.tasks >= finest[r] {
				of[r], finest[r] = int16(i), c.tasks
			}
		}
	}
	return of
}

// give gives a step a delivery, unless there is nothing in it.
func give(k step.Keyed, d *step.Delivery) {
	if !d.Empty() {
		k.Merge(d)
	}
}
