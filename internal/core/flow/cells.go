package flow

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"fiume/internal/core/column"
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
	task, tasks int   // its key ranges are those of task, of tasks
	keyed       keyed // nil where it is parked
	keys, bytes int   // held; of a parked one when it was parked
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
	due   int64 // the watermark at which it gives something; MinTime where that is not known
	since int64 // when it was parked, wall clock in ms
	at    marks // the watermarks that it has got
	part  bool  // what it has in the journal has other key ranges, too
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

// sizes are those above, smaller in tests.
type sizes struct{ cell, from, until, buffer, base int }

func sizesOf(cell int) sizes {
	if cell <= 0 {
		return sizes{cellBytes, journalFrom, journalUntil, bufferBytes, baseBytes}
	}
	return sizes{cell, cell, cell / 4, cell / 16, cell / 4}
}

// marks are the watermarks that a step has got: of both sides of a join, else the first; and the greatest event time.
type marks struct {
	at     [2]int64
	newest int64
}

var noMarks = marks{at: [2]int64{types.MinTime, types.MinTime}, newest: types.MinTime}

// gateNode keeps back what a step gives while it only gets to where it was.
type gateNode struct {
	next step.Node
	shut bool
}

// Push implements step.Node.
func (g *gateNode) Push(b *column.Batch) {
	if !g.shut {
		g.next.Push(b)
	}
}

// newKeyed makes the step for some key ranges.
func (w *keyedTask) newKeyed(task, tasks int) keyed {
	ctx, next := w.pipe.ctx, step.Node(w.gate)
	switch w.op.Kind {
	case plan.Window:
		return step.NewAggregator(w.op, ctx, next, task, tasks)
	case plan.Join:
		return step.NewJoin(w.op, ctx, next, task, tasks)
	case plan.AsOf:
		return step.NewAsOf(w.op, ctx, next, task, tasks)
	case plan.Settle:
		return step.NewSettle(w.op, ctx, next, task, tasks)
	case plan.Keep:
		if len(w.op.Next) == 0 {
			next = nil
		}
		return step.NewKeep(w.op, ctx, next, w.job.tables[w.op], task, tasks)
	}
	return step.NewOrdered(w.op, ctx, next, task, tasks)
}

// merge gives a step a delivery.
func merge(k keyed, d *step.Delivery) {
	if d.Empty() {
		return
	}
	switch k := k.(type) {
	case step.Aggregator:
		from := d.Groups
		if from == nil {
			from = &state.Groups{}
		}
		k.Merge(from, d.Partly)
	case *step.Ordered:
		k.Merge(d.Rows)
	case *step.Join:
		k.Merge(d.Side, d.Block)
	case *step.AsOf:
		k.Merge(d.Side, d.Block)
	case *step.Settle:
		k.Merge(d.Block)
	}
}

// pass tells a step its watermarks, and gives that of its results.
func pass(k keyed, m marks) int64 {
	switch k := k.(type) {
	case step.Aggregator:
		k.Advance(m.at[0], m.newest)
		return k.Closed()
	case *step.Ordered:
		return k.Advance(m.at[0])
	case *step.Join:
		return k.Advance(m.at)
	case *step.AsOf:
		return k.Advance(m.at)
	}
	return types.MinTime
}

// known gives the watermarks that a step has got.
func known(k keyed) [2]int64 {
	if k, ok := k.(interface{ Marks() [2]int64 }); ok {
		return k.Marks()
	}
	return [2]int64{k.Closed(), types.MinTime}
}

// cuts says whether the task's state can be cut into cells.
func (w *keyedTask) cuts() bool { return w.job.opts.Journal != nil && w.op.Kind != plan.Keep }

// deliver gives the cells a delivery and the watermarks behind it, and gives the watermark of the results.
func (w *keyedTask) deliver(d *step.Delivery, m marks) (out int64, err error) {
	w.turn++
	for i := range m.at { // a step keeps what it knows
		m.at[i] = max(m.at[i], w.passed.at[i])
	}
	m.newest = max(m.newest, w.passed.newest)
	if len(w.cells) == 1 && !w.logging {
		c := w.cells[0]
		merge(c.keyed, d)
		c.out, c.fresh = pass(c.keyed, m), false
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
func (w *keyedTask) share(d *step.Delivery, m marks) error {
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
			merge(c.keyed, part)
			c.out, c.fresh = pass(c.keyed, m), false
			if !part.Empty() || w.turn%16 == 0 {
				w.measure(c)
			}
		} else {
			if !part.Empty() {
				c.due = min(c.due, step.DueOf(w.op, part, w.passed.at[0]))
			}
			if c.due > m.at[0] {
				c.out = max(c.out, m.at[0])
			}
		}
		if part.Block != nil {
			part.Block.Free()
		}
	}
	clear(w.parts)
	return nil
}

// measure notes what a cell holds.
func (w *keyedTask) measure(c *cell) {
	before := c.bytes
	c.open, c.keys, c.bytes = c.keyed.Size()
	w.bytesHeld += c.bytes - before
}

// note appends a delivery to what is to be written: its length, the watermarks before it, and the delivery.
func (c *cell) note(d *step.Delivery, before marks) {
	if c.buf == nil {
		c.buf = make([]byte, 0, c.room)
	}
	at := len(c.buf)
	c.buf = append(c.buf, 0, 0, 0, 0)
	for _, x := range [...]int64{before.at[0], before.at[1], before.newest} {
		c.buf = binary.LittleEndian.AppendUint64(c.buf, uint64(x))
	}
	c.buf = d.AppendTo(c.buf)
	binary.LittleEndian.PutUint32(c.buf[at:], uint32(len(c.buf)-at-4))
}

// replay gives a cell's step the deliveries in b, each behind the watermarks that it had come with.
func (w *keyedTask) replay(c *cell, k keyed, b []byte) error {
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
		pass(k, marks{[2]int64{word(0), word(1)}, word(2)})
		if c.part {
			var of [state.KeyRanges]int16
			for r := range of {
				of[r] = -1
			}
			of[c.task] = 0
			var mine [1]step.Delivery
			w.split.Split(&d, &of, mine[:])
			merge(k, &mine[0])
		} else {
			merge(k, &d)
		}
		if d.Block != nil {
			d.Block.Free()
		}
	}
	return nil
}

// silently does something of which nobody but the steps is to know.
func (w *keyedTask) silently(do func() error) error {
	counts := slices.Clone(w.pipe.ctx.Counts)
	w.gate.shut, w.pipe.ctx.Silent = true, true
	err := do()
	w.gate.shut, w.pipe.ctx.Silent = false, false
	copy(w.pipe.ctx.Counts, counts)
	return err
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

// cut makes two cells of one.
func (w *keyedTask) cut(c *cell) error {
	b := c.keyed.Snapshot()
	var two []*cell
	for i := range 2 {
		x := &cell{task: 2*c.task + i, tasks: 2 * c.tasks, out: c.out, used: c.used, fresh: true}
		x.keyed = w.newKeyed(x.task, x.tasks)
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
	return c.due <= w.passed.at[0]
}

// workOff works off the deliveries of parked cells. Of those that are not due it takes one a turn.
func (w *keyedTask) workOff() error {
	for _, c := range w.cells {
		if c.keyed != nil || !w.lags(c) {
			continue
		}
		due := w.box.live == 0 || c.due > types.MinTime && c.due <= w.passed.at[0]
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

// recall takes a parked cell back and does what it has missed.
func (w *keyedTask) recall(c *cell) error {
	k, err := w.atBase(c.task, c.tasks, c.base)
	if err != nil {
		return err
	}
	for _, e := range c.log {
		b, err := w.job.opts.Journal.Read(e)
		if err == nil {
			err = w.replay(c, k, b)
		}
		if err != nil {
			return w.damaged(err)
		}
	}
	if err := w.replay(c, k, c.buf); err != nil {
		return w.damaged(err)
	}
	c.out = pass(k, w.passed)
	c.keyed, c.used, c.bytes, c.part, c.fresh = k, w.turn, 0, false, false
	w.measure(c)
	if w.logging {
		return w.rebase(c)
	}
	w.release(c)
	return nil
}

// atBase makes a step as its base says.
func (w *keyedTask) atBase(task, tasks int, base Extent) (keyed, error) {
	k := w.newKeyed(task, tasks)
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
			b.piece(w.op, image(c.keyed))
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
	word(int64(w.number), int64(w.job.opts.Parallelism), int64(len(w.cells)), w.passed.at[0], w.passed.at[1], w.passed.newest)
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

// What a checkpoint says of how a cell was held.
const (
	inMemory int64 = iota
	parkedWhole
	parkedPart
	inMemoryFresh
)

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
	passed        marks
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
	p.passed = marks{[2]int64{word(), word()}, word()}
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
		for i, at := range p.passed.at {
			w.passed.at[i] = max(w.passed.at[i], at)
		}
		w.passed.newest = max(w.passed.newest, p.passed.newest)
	}
	for i := range parts {
		c := &cell{task: w.number*parts + i, tasks: w.job.opts.Parallelism * parts, fresh: true}
		c.keyed = w.newKeyed(c.task, c.tasks)
		if len(found) > 0 {
			pass(c.keyed, w.passed)
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
					x := &cell{task: r, tasks: state.KeyRanges, out: c.out, due: types.MinTime, base: c.base, log: slices.Clone(c.log), logged: c.logged, part: true, at: noMarks}
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
		for i, at := range known(c.keyed) {
			w.passed.at[i] = max(w.passed.at[i], at)
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
func (w *keyedTask) atCheckpoint(c *cell, passed marks) (keyed, error) {
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
			pass(k, passed)
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
