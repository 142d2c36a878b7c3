package step

import (
	"bytes"
	"cmp"
	"maps"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// Shuffle sends the rows of a step that takes them in event order to the tasks that hold their keys. Rows
// whose stamp has passed them are late.
type Shuffle struct {
	Op    *plan.Op
	C     *Context
	Parts []*column.Batch // of this turn, by task; nil where there is nothing for it

	keys state.Keys
	cols []*column.Vector
}

// Push implements Node.
func (s *Shuffle) Push(b *column.Batch) {
	m := &s.C.Machine
	m.Begin()
	s.cols = s.cols[:0]
	for _, k := range s.Op.Order.Keys {
		s.cols = append(s.cols, m.Eval(k, b))
	}
	if s.C.cut(b, s.Push) {
		return
	}
	n := &s.C.Counts[s.Op.ID]
	n.In += int64(b.N)
	bad := s.C.rejects(s.Op, b)
	s.keys.Encode(s.cols, b.N)
	for i := range b.N {
		if bad != nil && bad[i] {
			continue
		}
		if b.Stamp != nil && b.Time[i] < b.Stamp[i] {
			s.C.late(s.Op, "rows are taken in event order", b, i, 0)
			continue
		}
		t := state.TaskOf(state.RangeOf(s.keys.Hashes[i]), len(s.Parts))
		if s.Parts[t] == nil {
			s.Parts[t] = &column.Batch{}
		}
		s.Parts[t].AppendRow(b, i)
	}
}

// Ordered takes rows in event order, for the key ranges of one task: it holds them until the watermark has
// passed them.
type Ordered struct {
	Op     *plan.Op
	C      *Context
	Next   Node
	closed int64

	task, tasks int
	width       int64 // of the buckets
	buckets     map[int64]*bucket
	work        worker
	now         column.Batch
	keys        state.Keys
	cols        []*column.Vector
}

// bucket has the rows of a stretch of event time.
type bucket struct {
	rows    column.Batch
	waiting []uint32
}

// worker is what is done with rows once they come in event order.
type worker interface {
	// take gets rows in event order, with their keys.
	take(o *Ordered, b *column.Batch)
	// pass says that all rows before the watermark have been taken, and gives the time before which nothing
	// will be given any more.
	pass(o *Ordered, watermark int64) int64
	rows() (keys, bytes int)
	snapshot(b []byte) []byte
	restore(o *Ordered, r *reader)
}

// NewOrdered makes a task of a step that takes its rows in event order.
func NewOrdered(o *plan.Op, c *Context, next Node, task, tasks int) *Ordered {
	x := &Ordered{Op: o, C: c, Next: next, closed: types.MinTime, task: task, tasks: tasks, buckets: map[int64]*bucket{},
		width: max(100*types.Millisecond, plan.Behind(o.Input)/256)}
	if o.Kind == plan.Unique {
		x.work = &unique{last: &state.Groups{Width: 1}, sweep: types.MinTime}
	} else if looksBack(o.Order) {
		x.work = newLookback(o)
	} else {
		x.work = newOver(o)
	}
	return x
}

// Merge implements Keyed: it adds the rows of a turn.
func (o *Ordered) Merge(d *Delivery) {
	b := d.Rows
	if b == nil {
		return
	}
	n := &o.C.Counts[o.Op.ID]
	for i, t := range b.Time[:b.N] {
		if t < o.closed {
			o.C.idleLate(o.Op, b, i, o.closed-t)
			continue
		}
		n.Held++
		k := plan.FloorDiv(t, o.width)
		x := o.buckets[k]
		if x == nil {
			x = &bucket{}
			o.buckets[k] = x
		}
		x.waiting = append(x.waiting, uint32(x.rows.N))
		x.rows.AppendRow(b, i)
	}
}

// Advance implements Keyed: it takes the rows that the watermark has passed.
func (o *Ordered) Advance(w Watermarks) int64 {
	if watermark := w.Of[0]; watermark > o.closed {
		limit := plan.FloorDiv(watermark, o.width)
		var due []int64
		for k := range o.buckets {
			if k <= limit {
				due = append(due, k)
			}
		}
		slices.Sort(due)
		for _, k := range due {
			x := o.buckets[k]
			var sel []uint32
			rest := x.waiting[:0]
			for _, i := range x.waiting {
				if x.rows.Time[i] < watermark {
					sel = append(sel, i)
				} else {
					rest = append(rest, i)
				}
			}
			if x.waiting = rest; len(rest) == 0 {
				delete(o.buckets, k)
			}
			o.inOrder(&x.rows, sel)
			for len(sel) > 0 {
				n := min(len(sel), closeBatch)
				x.rows.Gather(sel[:n], &o.now)
				o.now.From = o.now.From[:0]
				for _, i := range sel[:n] {
					o.now.From = append(o.now.From, x.rows.From[i])
				}
				o.now.Split = -1
				o.work.take(o, &o.now)
				sel = sel[n:]
			}
		}
		o.closed = watermark
	}
	return o.work.pass(o, o.closed)
}

// Closed is the watermark up to which rows have been taken.
func (o *Ordered) Closed() int64 { return o.closed }

// Passed implements Keyed.
func (o *Ordered) Passed() [2]int64 { return [2]int64{o.closed, types.MinTime} }

// Held implements Keyed.
func (o *Ordered) Held(int) (rows, bytes int) { return 0, 0 }

// Image implements Keyed.
func (o *Ordered) Image() func() []byte { return written(o.Snapshot()) }

// inOrder sorts rows by event time; equal times by origin, and made rows by what is in them.
func (o *Ordered) inOrder(b *column.Batch, sel []uint32) {
	var x, y state.Keys
	cols := slices.DeleteFunc(slices.Clone(b.Cols), func(v *column.Vector) bool { return v == nil })
	slices.SortFunc(sel, func(i, j uint32) int {
		if c := cmp.Or(cmp.Compare(b.Time[i], b.Time[j]), cmp.Compare(b.From[i], b.From[j]), cmp.Compare(b.Pos[i], b.Pos[j])); c != 0 || b.From[i] >= 0 {
			return c
		}
		a, _ := x.EncodeRow(cols, int(i))
		c, _ := y.EncodeRow(cols, int(j))
		return bytes.Compare(a, c)
	})
}

// keysOf evaluates the keys of a batch, which were small enough when its rows were sent.
func (o *Ordered) keysOf(b *column.Batch) {
	o.C.Machine.Begin()
	o.C.Machine.Whole()
	o.cols = o.cols[:0]
	for _, k := range o.Op.Order.Keys {
		o.cols = append(o.cols, o.C.Machine.Eval(k, b))
	}
	o.keys.Encode(o.cols, b.N)
}

func (o *Ordered) push(b *column.Batch, sel []uint32) {
	n := &o.C.Counts[o.Op.ID]
	n.Passed += int64(len(sel))
	if len(sel) == 0 {
		return
	}
	var out column.Batch
	b.Gather(sel, &out)
	out.Split, out.Pos, out.Stamp = -1, nil, nil
	o.Next.Push(&out)
}

// Size gives the rows that wait, the keys remembered, and the bytes held.
func (o *Ordered) Size() (rows, keys, bytes int) {
	for _, x := range o.buckets {
		rows += len(x.waiting)
		bytes += x.rows.Bytes()
	}
	keys, more := o.work.rows()
	return rows, keys, bytes + more
}

// Snapshot writes the task's state.
func (o *Ordered) Snapshot() []byte {
	b := le.AppendUint64(nil, uint64(o.closed))
	var all column.Batch
	for _, k := range slices.Sorted(maps.Keys(o.buckets)) {
		x := o.buckets[k]
		for _, i := range x.waiting {
			all.AppendRow(&x.rows, int(i))
		}
	}
	return o.work.snapshot(appendRows(b, &all))
}

// Restore reads what any task of the operator wrote and keeps what belongs to this one.
func (o *Ordered) Restore(b []byte) error {
	r := &reader{b: b, step: o.Op.Step}
	o.closed = max(o.closed, r.int())
	all := r.rows(o.Op.Input.Fields)
	o.keysOf(all)
	for i := range all.N {
		if state.TaskOf(state.RangeOf(o.keys.Hashes[i]), o.tasks) != o.task {
			continue
		}
		k := plan.FloorDiv(all.Time[i], o.width)
		if o.buckets[k] == nil {
			o.buckets[k] = &bucket{}
		}
		x := o.buckets[k]
		x.waiting = append(x.waiting, uint32(x.rows.N))
		x.rows.AppendRow(all, i)
	}
	o.work.restore(o, r)
	return r.err
}

func (o *Ordered) owns(hash uint64) bool { return state.TaskOf(state.RangeOf(hash), o.tasks) == o.task }

// appendRows writes rows: their number, and for each its time, split and place, and its columns behind the
// length of them all. Columns that are nil are left out.
func appendRows(b []byte, rows *column.Batch) []byte {
	b = le.AppendUint32(b, uint32(rows.N))
	for i := range rows.N {
		b = le.AppendUint64(b, uint64(rows.Time[i]))
		b = le.AppendUint64(b, uint64(rows.Pos[i]))
		b = le.AppendUint32(b, uint32(rows.From[i]))
		at := len(b)
		b = le.AppendUint32(b, 0)
		for k, c := range rows.Cols {
			if c != nil {
				b = state.AppendKey(le.AppendUint16(b, uint16(k)), c, i, false)
			}
		}
		le.PutUint32(b[at:], uint32(len(b)-at-4))
	}
	return b
}

// rows reads what appendRows wrote.
func (r *reader) rows(fields []types.Field) *column.Batch {
	out := &column.Batch{Cols: make([]*column.Vector, len(fields))}
	for range r.count() {
		at, pos, from, size := r.int(), r.int(), r.word(), r.word()
		if r.err != nil || len(r.b) < size {
			r.cut()
			return out
		}
		row := r.b[:size]
		r.b = r.b[size:]
		for len(row) > 0 {
			k := int(le.Uint16(row))
			if out.Cols[k] == nil {
				out.Cols[k] = column.New(fields[k].Type)
			}
			var x types.Value
			x, row = state.DecodeValue(row[2:], fields[k].Type, false)
			out.Cols[k].Append(x)
		}
		out.Time, out.Pos, out.From = append(out.Time, at), append(out.Pos, pos), append(out.From, int32(from))
		out.N++
	}
	return out
}

// unique keeps the first row of each key in event order; repeats are dropped until Within after it.
type unique struct {
	last  *state.Groups // time of the row kept, by key
	sweep int64
	sel   []uint32
}

func (u *unique) take(o *Ordered, b *column.Batch) {
	o.keysOf(b)
	n := &o.C.Counts[o.Op.ID]
	u.sel = u.sel[:0]
	for i, t := range b.Time[:b.N] {
		before := u.last.Len()
		e := u.last.Find(o.keys.Hashes[i], 0, o.keys.Key(i))
		w := u.last.Of(e)
		if u.last.Len() > before || t > int64(w[0])+o.Op.Order.Within {
			w[0] = uint64(t)
			u.sel = append(u.sel, uint32(i))
		}
	}
	n.Held -= int64(b.N)
	n.Filtered += int64(b.N - len(u.sel))
	o.push(b, u.sel)
}

func (u *unique) pass(o *Ordered, watermark int64) int64 {
	if within := o.Op.Order.Within; watermark > u.sweep && u.last.Len() > 0 {
		live := &state.Groups{Width: 1}
		for e, hash := range u.last.Hashes {
			if t := int64(u.last.Of(uint32(e))[0]); t+within >= watermark {
				live.Of(live.Find(hash, 0, u.last.Key(uint32(e))))[0] = uint64(t)
			}
		}
		u.last = live
		u.sweep = watermark + max(within/2, types.Second)
		if watermark > types.MaxTime-within {
			u.sweep = types.MaxTime
		}
	}
	return watermark
}

func (u *unique) rows() (keys, bytes int) { return u.last.Len(), u.last.Bytes() }

func (u *unique) snapshot(b []byte) []byte { return u.last.AppendTo(b) }

func (u *unique) restore(o *Ordered, r *reader) {
	if from := r.groups(1); from != nil {
		for f, hash := range from.Hashes {
			if o.owns(hash) {
				copyEntry(u.last, from, uint32(f))
			}
		}
	}
}
