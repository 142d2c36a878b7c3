package step

import (
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// Keep holds the latest row of each key of a table, for the key ranges of one task, where lookups find
// them. What changes is given on as changes, where somebody reads them. Rows of a table have no event time
// of their own: they are there until they are replaced or deleted.
type Keep struct {
	Op   *plan.Op
	C    *Context
	Next Node // nil where nobody reads the changes

	part        *state.TablePart
	task, tasks int
	layout      *state.Layout
	ordered     bool             // of two rows of a key the one of the later split counts, whichever comes first
	generation  map[int32]uint32 // by split
	rows        [][]byte
	changes     []column.Change
	out         column.Batch
}

// NewKeep makes one of the tasks of a table.
func NewKeep(o *plan.Op, c *Context, next Node, t *state.Table, task, tasks int) *Keep {
	return &Keep{Op: o, C: c, Next: next, part: t.Parts[task], task: task, tasks: tasks, layout: state.NewLayout(o.Input.Input.Fields, o.Input.Kept),
		ordered: o.OfTable.LaterSplit, generation: map[int32]uint32{}}
}

// Merge implements Keyed: it takes the rows of a turn, and gives the changes on.
func (k *Keep) Merge(d *Delivery) {
	k.take(d.Block, d.Split, d.Fresh, d.Complete)
	k.give()
}

// take takes the rows of a turn. fresh says that the split is read again from its beginning.
func (k *Keep) take(b *state.Block, split int32, fresh, complete bool) {
	k.part.Lock()
	defer k.part.Unlock()
	n := &k.C.Counts[k.Op.Input.ID]
	if fresh {
		k.generation[split]++
	}
	if b != nil {
		for i := range b.N() {
			n.Absorbed++
			k.put(b, i)
		}
	}
	if complete && k.generation[split] > 1 {
		k.sweep(split)
	}
}

func (k *Keep) put(b *state.Block, i int) {
	hash, key := b.Hashes[i], b.Key(i)
	if b.Change != nil && b.Change[i].Takes() {
		if old, ok := k.part.Delete(hash, key); ok {
			k.change(column.Withdraw, old)
		}
		return
	}
	row := state.TableRow{Hash: hash, Key: key, Pos: b.Pos[i], From: b.From[i], Generation: k.generation[b.From[i]], Columns: b.Row(i)}
	if k.ordered {
		if r, ok := k.part.Get(hash, key); ok && r.From > row.From && r.Generation == k.generation[r.From] {
			return // a later file has it, too
		}
	}
	if k.part.Touch(hash, key, row.Columns, row.Generation, row.Pos, row.From) {
		return
	}
	if old, replaced := k.part.Put(row); replaced {
		k.change(column.Replaced, old)
		k.change(column.Replace, row.Columns)
	} else {
		k.change(column.Insert, row.Columns)
	}
}

// sweep deletes the rows of a split that were not there when it was read again.
func (k *Keep) sweep(split int32) {
	var gone []state.TableRow
	k.part.Each(func(r state.TableRow) {
		if r.From == split && r.Generation != k.generation[split] {
			gone = append(gone, r)
		}
	})
	for _, r := range gone {
		if old, ok := k.part.Delete(r.Hash, r.Key); ok {
			k.change(column.Withdraw, old)
		}
	}
}

func (k *Keep) change(c column.Change, columns []byte) {
	if k.Next == nil {
		return
	}
	k.rows, k.changes = append(k.rows, columns), append(k.changes, c)
}

// give gives the changes on.
func (k *Keep) give() {
	for from := 0; from < len(k.rows); {
		to := min(from+closeBatch, len(k.rows))
		if k.changes[to-1] == column.Replaced {
			to++ // a replacement stays whole
		}
		k.push(k.rows[from:to], k.changes[from:to])
		from = to
	}
	k.rows, k.changes = k.rows[:0], k.changes[:0]
}

func (k *Keep) push(rows [][]byte, changes []column.Change) {
	b := &k.out
	if b.Cols == nil {
		b.Cols = make([]*column.Vector, len(k.Op.Fields))
		for _, c := range k.layout.Columns() {
			b.Cols[c] = &column.Vector{}
		}
	}
	for i, c := range k.layout.Columns() {
		k.layout.Gather(i, rows, b.Cols[c])
	}
	b.N, b.Split, b.Change = len(rows), -1, changes
	b.Time = slices.Grow(b.Time[:0], b.N)[:b.N]
	clear(b.Time)
	k.C.Counts[k.Op.ID].changed(changes)
	out := *b
	k.Next.Push(&out)
}

// Advance implements Keyed: a table has no watermark.
func (k *Keep) Advance(Watermarks) int64 { return types.MinTime }

// Passed implements Keyed.
func (k *Keep) Passed() [2]int64 { return NoWatermarks.Of }

// Closed implements Keyed.
func (k *Keep) Closed() int64 { return types.MinTime }

// Image implements Keyed.
func (k *Keep) Image() func() []byte { return written(k.Snapshot()) }

// Held gives the rows and the bytes they take.
func (k *Keep) Held(side int) (rows, bytes int) {
	if side == 0 {
		_, rows, bytes = k.Size()
	}
	return rows, bytes
}

// Size gives the rows and the bytes they take.
func (k *Keep) Size() (open, keys, bytes int) {
	k.part.RLock()
	defer k.part.RUnlock()
	return 0, k.part.Len(), k.part.Bytes()
}

// Snapshot writes the rows.
func (k *Keep) Snapshot() []byte {
	b := le.AppendUint32(nil, uint32(len(k.generation)))
	for split, g := range k.generation {
		b = le.AppendUint32(le.AppendUint32(b, uint32(split)), g)
	}
	return k.part.AppendTo(b)
}

// Restore reads what any task of the table wrote and keeps what belongs to this one.
func (k *Keep) Restore(b []byte) error {
	r := &reader{b: b, step: k.Op.Step}
	for range r.count() {
		split, g := r.word(), r.word()
		k.generation[int32(split)] = uint32(g)
	}
	if r.err != nil {
		return r.err
	}
	return state.ReadTable(r.b, func(row state.TableRow) {
		if state.TaskOf(state.RangeOf(row.Hash), k.tasks) == k.task && k.layout.Valid(row.Columns) {
			k.part.Put(row)
		}
	})
}

// Rows is where a lookup finds the rows of a table: those that are kept, or a cache in front of a place
// that is asked.
type Rows interface {
	// Probe puts the columns of the rows with these keys into out, nil where there is none.
	Probe(keys *state.Keys, cols []*column.Vector, n int, wanted []bool, out [][]byte) error
}

// Kept are the rows of a table that Keep holds.
type Kept struct {
	Table *state.Table
	sel   [][]uint32
}

// Probe implements Rows.
func (k *Kept) Probe(keys *state.Keys, _ []*column.Vector, n int, wanted []bool, out [][]byte) error {
	parts := k.Table.Parts
	if k.sel == nil {
		k.sel = make([][]uint32, len(parts))
	}
	for i := range k.sel {
		k.sel[i] = k.sel[i][:0]
	}
	for i := range n {
		if wanted != nil && !wanted[i] {
			out[i] = nil
			continue
		}
		t := 0
		if len(parts) > 1 {
			t = state.TaskOf(state.RangeOf(keys.Hashes[i]), len(parts))
		}
		k.sel[t] = append(k.sel[t], uint32(i))
	}
	for t, p := range parts {
		if len(k.sel[t]) > 0 {
			p.RLock()
			p.Probe(keys, k.sel[t], out)
			p.RUnlock()
		}
	}
	return nil
}

// Lookup joins rows with a table as it is when they come.
type Lookup struct {
	Op   *plan.Op
	C    *Context
	Next Node
	Rows Rows
	Fail func(error) // ends the run

	whole  *state.Layout // as the table keeps them
	places []int         // of the columns that are wanted among those that are kept
	keys   rowKeys
	found  [][]byte
	wanted []bool
	out    column.Batch
	vecs   []*column.Vector
	kept   column.Batch
	tried  column.Batch
}

// NewLookup makes a lookup.
func NewLookup(o *plan.Op, c *Context, next Node, rows Rows, fail func(error)) *Lookup {
	l := &Lookup{Op: o, C: c, Next: next, Rows: rows, Fail: fail}
	side := o.Of.Input
	kept := side.Kept
	if o.OfTable.Lookup {
		kept = o.Kept
	}
	l.whole = state.NewLayout(o.Of.Fields, kept)
	for _, c := range o.Kept {
		l.places = append(l.places, slices.Index(kept, c))
		l.vecs = append(l.vecs, &column.Vector{})
	}
	return l
}

// Push implements Node.
func (l *Lookup) Push(b *column.Batch) {
	l.keys.of(l.C, l.Op.Order.Keys, b)
	if l.C.cut(b, l.Push) {
		return
	}
	n := &l.C.Counts[l.Op.ID]
	n.In += int64(b.N)
	bad := l.C.rejects(l.Op, b)
	l.found = slices.Grow(l.found[:0], b.N)[:b.N]
	var wanted []bool
	if l.keys.nulls || bad != nil {
		l.wanted = slices.Grow(l.wanted[:0], b.N)[:b.N]
		wanted = l.wanted
		for i := range wanted {
			wanted[i] = (bad == nil || !bad[i]) && !l.keys.null(i)
		}
	}
	if err := l.Rows.Probe(&l.keys.Keys, l.keys.cols, b.N, wanted, l.found); err != nil {
		l.Fail(err)
		return
	}
	kind := l.Op.Join.Kind
	if l.Op.Join.Cond != nil {
		before := slices.Clone(bad)
		l.check(b)
		if bad = l.C.rejects(l.Op, &l.tried); bad == nil {
			bad = before
		} else {
			for i, x := range before {
				bad[i] = bad[i] || x
			}
		}
	}
	// Which rows go on.
	sel := l.C.sel[:0]
	for i, row := range l.found {
		if bad != nil && bad[i] {
			continue
		}
		if there := row != nil; there && kind != plan.NotExists || !there && (kind == plan.Left || kind == plan.NotExists) {
			sel = append(sel, uint32(i))
			if there && (kind == plan.Inner || kind == plan.Left) {
				n.Matched++
			} else if !there && kind == plan.Left {
				n.Unmatched++
			}
		} else {
			n.Filtered++
		}
	}
	l.C.sel = sel
	n.Passed += int64(len(sel))
	if len(sel) == 0 {
		return
	}
	in := b
	if len(sel) < b.N {
		l.kept.Cols = l.kept.Cols[:min(len(l.kept.Cols), len(b.Cols))]
		b.Gather(sel, &l.kept)
		in = &l.kept
		for i, r := range sel {
			l.found[i] = l.found[r]
		}
		l.found = l.found[:len(sel)]
	}
	l.out = *in
	if kind == plan.Inner || kind == plan.Left {
		l.out.Cols = l.beside(in)
	}
	out := l.out
	l.Next.Push(&out)
}

// beside puts the columns of the table behind those of the rows.
func (l *Lookup) beside(b *column.Batch) []*column.Vector {
	cols := make([]*column.Vector, len(b.Cols)+len(l.Op.Of.Fields))
	copy(cols, b.Cols)
	for i, c := range l.Op.Kept {
		l.whole.Gather(l.places[i], l.found, l.vecs[i])
		cols[len(b.Cols)+c] = l.vecs[i]
	}
	return cols
}

// check takes the rows of the table away for which the join's condition is not true.
func (l *Lookup) check(b *column.Batch) {
	l.tried = *b
	l.tried.Cols = l.beside(b)
	sel := l.C.selects(l.Op.Join.Cond, &l.tried, nil)
	at := 0
	for i := range l.found {
		if at < len(sel) && sel[at] == uint32(i) {
			at++
		} else {
			l.found[i] = nil
		}
	}
}
