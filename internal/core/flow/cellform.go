package flow

import (
	"encoding/binary"
	"errors"
	"slices"

	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// The form in which a keyed task's cells lie in a checkpoint, and how they are read again.

// cellsMark begins a piece of state that says where cells are in the journal. Any other is a snapshot.
const cellsMark = 0xce_11_5a_7e_0d_15_c4_01

func isCells(piece []byte) bool {
	return len(piece) >= 8 && binary.LittleEndian.Uint64(piece) == cellsMark
}

// give gives a checkpoint the task's state.
func (w *keyedTask) give(b *barrier) error {
	if w.op.Kind == plan.Keep && w.op.OfTable.Reread() && len(w.op.Next) == 0 {
		b.state(w.counts) // it is read anew
		return nil
	}
	if !w.logging {
		for _, c := range w.cells {
			b.piece(w.op, c.keyed.Image())
		}
		b.state(w.counts)
		return nil
	}
	le := binary.LittleEndian
	piece := le.AppendUint64(nil, cellsMark)
	word := func(xs ...int64) {
		for _, x := range xs {
			piece = le.AppendUint64(piece, uint64(x))
		}
	}
	extent := func(e Extent) { word(e.File, e.Off, e.Len, int64(e.Sum)) }
	word(int64(w.number), int64(w.job.opts.Parallelism), int64(len(w.cells)), w.passed.Of[0], w.passed.Of[1], w.passed.Newest)
	sparse := w.job.opts.Journal.Sparse()
	for _, c := range w.cells {
		if err := w.write(c); err != nil {
			return err
		}
		for _, e := range append([]*Extent{&c.base}, places(c.log)...) {
			if sparse > 0 && e.File == sparse {
				if err := w.move(e); err != nil {
					return err
				}
			}
			b.needs(e.File)
		}
		how := inMemory
		switch {
		case c.keyed == nil && c.part:
			how = parkedPart
		case c.keyed == nil:
			how = parkedWhole
		case c.fresh:
			how = inMemoryFresh
		}
		word(int64(c.task), int64(c.tasks), how, c.out, c.due, int64(c.keys), int64(c.bytes), int64(len(c.log)))
		extent(c.base)
		for _, e := range c.log {
			extent(e)
		}
	}
	b.piece(w.op, func() []byte { return piece })
	b.state(w.counts)
	return nil
}

func places(log []Extent) []*Extent {
	out := make([]*Extent, len(log))
	for i := range log {
		out[i] = &log[i]
	}
	return out
}

// move writes anew what is at a place in the journal.
func (w *keyedTask) move(e *Extent) error {
	b, err := w.job.opts.Journal.Read(*e)
	if err != nil {
		return w.damaged(err)
	}
	to, err := w.append(b)
	if err == nil {
		w.job.opts.Journal.Free(*e)
		*e = to
	}
	return err
}

// cellsPiece is what a piece of the second form says.
type cellsPiece struct {
	number, tasks int // of the task
	passed        step.Watermarks
	cells         []*cell
	parked        []bool
}

func readCells(b []byte) (p cellsPiece, err error) {
	le := binary.LittleEndian
	b = b[8:]
	word := func() int64 {
		if len(b) < 8 {
			err = errors.New("state is cut short")
			return 0
		}
		x := int64(le.Uint64(b))
		b = b[8:]
		return x
	}
	extent := func() Extent { return Extent{word(), word(), word(), uint32(word())} }
	p.number, p.tasks = int(word()), int(word())
	n := word()
	p.passed = step.Watermarks{Of: [2]int64{word(), word()}, Newest: word()}
	for range n {
		c := &cell{task: int(word()), tasks: int(word())}
		how := word()
		c.part, c.fresh = how == parkedPart, how == inMemoryFresh
		p.parked = append(p.parked, how == parkedWhole || how == parkedPart)
		c.out, c.due, c.keys, c.bytes = word(), word(), int(word()), int(word())
		logs := word()
		c.base = extent()
		for range logs {
			if err != nil {
				return p, err
			}
			e := extent()
			c.log, c.logged = append(c.log, e), c.logged+e.Len
		}
		if err != nil {
			return p, err
		}
		p.cells = append(p.cells, c)
	}
	return p, err
}

// restore puts the task where the pieces of its operator say. Cells of as many tasks are taken as they are. Those of
// another number of tasks go to whom their key ranges belong: what they hold is shared out, but of parked ones each
// key range becomes a cell that is parked, too, since what it has missed is to be done as if nothing had happened.
func (w *keyedTask) restore(pieces [][]byte) error {
	var found []cellsPiece
	size := 0
	for _, piece := range pieces {
		if !isCells(piece) {
			size += len(piece)
			continue
		}
		p, err := readCells(piece)
		if err != nil {
			return err
		}
		if w.job.opts.Journal == nil {
			return errors.New("its state lies in a journal, and there is none")
		}
		if p.tasks == w.job.opts.Parallelism && p.number == w.number {
			return w.adopt(&p)
		}
		if p.tasks != w.job.opts.Parallelism {
			found = append(found, p)
			for _, c := range p.cells {
				size += c.bytes
			}
		}
	}
	w.cells = w.cells[:0]
	parts := 1
	for w.cuts() && size/w.job.opts.Parallelism/parts > w.sizes.cell && 2*parts*w.job.opts.Parallelism <= state.KeyRanges {
		parts *= 2
	}
	// All tasks know the same watermarks, so that what they hold can be shared out anew; they are told before there is
	// anything to give.
	for _, p := range found {
		for i, at := range p.passed.Of {
			w.passed.Of[i] = max(w.passed.Of[i], at)
		}
		w.passed.Newest = max(w.passed.Newest, p.passed.Newest)
	}
	for i := range parts {
		c := &cell{task: w.number*parts + i, tasks: w.job.opts.Parallelism * parts, fresh: true}
		c.keyed = step.NewKeyed(w.op, w.pipe.ctx, w.gate, w.job.tables[w.op], c.task, c.tasks)
		if len(found) > 0 {
			c.keyed.Advance(w.passed)
		}
		w.cells = append(w.cells, c)
	}
	take := func(b []byte) error {
		for _, c := range w.cells[:parts] {
			if err := c.keyed.Restore(b); err != nil {
				return err
			}
		}
		return nil
	}
	for _, piece := range pieces {
		if !isCells(piece) {
			if err := take(piece); err != nil {
				return err
			}
		}
	}
	for _, p := range found {
		of := placed(p.cells)
		for i, c := range p.cells {
			var ranges []int // that are the task's now
			for r, k := range of {
				if int(k) == i && state.TaskOf(r, w.job.opts.Parallelism) == w.number {
					ranges = append(ranges, r)
				}
			}
			switch {
			case len(ranges) == 0:
			case p.parked[i]:
				for _, r := range ranges {
					x := &cell{task: r, tasks: state.KeyRanges, out: c.out, due: types.MinTime, base: c.base, log: slices.Clone(c.log), logged: c.logged, part: true, at: step.NoWatermarks}
					w.own(x)
					w.cells = append(w.cells, x)
				}
			default:
				x, err := w.atCheckpoint(c, p.passed)
				if err == nil {
					err = take(x.Snapshot())
				}
				if err != nil {
					return err
				}
			}
		}
	}
	for _, c := range w.cells[:parts] {
		c.out = types.MinTime // until it is told a watermark: it may hold rows back
		for i, at := range c.keyed.Passed() {
			w.passed.Of[i] = max(w.passed.Of[i], at)
		}
		w.measure(c)
	}
	w.place()
	if w.anyParked() {
		return w.startNoting()
	}
	return nil
}

// atCheckpoint makes a step as a cell was at a checkpoint. What it gives on the way has been given then; one that was
// fresh had not given what it could.
func (w *keyedTask) atCheckpoint(c *cell, passed step.Watermarks) (step.Keyed, error) {
	k, err := w.atBase(c.task, c.tasks, c.base)
	if err != nil {
		return nil, err
	}
	err = w.silently(func() error {
		for _, e := range c.log {
			b, err := w.job.opts.Journal.Read(e)
			if err == nil {
				err = w.replay(c, k, b)
			}
			if err != nil {
				return w.damaged(err)
			}
		}
		if !c.fresh {
			k.Advance(passed)
		}
		return nil
	})
	return k, err
}

// adopt takes the cells of a checkpoint as they are.
func (w *keyedTask) adopt(p *cellsPiece) error {
	w.cells, w.passed, w.logging = nil, p.passed, w.job.opts.Checkpoints
	for i, c := range p.cells {
		if p.parked[i] {
			w.own(c)
		} else {
			k, err := w.atCheckpoint(c, p.passed)
			if err != nil {
				return err
			}
			c.keyed, c.bytes = k, 0
			w.own(c)
			if !w.logging {
				w.release(c)
			}
			w.measure(c)
		}
		w.cells = append(w.cells, c)
	}
	w.place()
	return nil
}

// own says that what a cell has in the journal is needed.
func (w *keyedTask) own(c *cell) {
	if c.base.Len > 0 {
		w.job.opts.Journal.Adopt(c.base)
	}
	for _, e := range c.log {
		w.job.opts.Journal.Adopt(e)
	}
}

// What a checkpoint says of how a cell was held.
const (
	inMemory int64 = iota
	parkedWhole
	parkedPart
	inMemoryFresh
)
