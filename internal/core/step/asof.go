package step

import (
	"cmp"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// AsOf joins rows with a table as it was at their event time, for the key ranges of one task. A row waits
// until the table's watermark has passed it; the versions of a key are kept until no row can ask for them.
//
// A change that comes behind the watermark of its split is no late row that is lost: it counts from that
// watermark on, which is a property of the data, unless a newer version of its key was there by then.
type AsOf struct {
	Op   *plan.Op
	C    *Context
	Next Node

	task, tasks int
	passed      [2]int64
	rows        *state.Chains // that wait; before their columns stands the stamp
	waiting     *waiting
	versions    *state.Chains // before the columns stand the time a version counts from, and whether it is a deletion
	pruneAt     int           // number of versions at which those that nobody asks for are looked for
	layouts     [2]*state.Layout
	ready       []resolved
	buf         []byte
	bytes       [2][][]byte
	out         column.Batch
	stamps      []int64
}

type resolved struct {
	cols    []byte
	time    int64
	stamp   int64
	version []byte // nil where there is none
}

// What stands before the columns of a row that waits, and of a version.
const (
	waitingHead = 8
	versionHead = 9
)

// NewAsOf makes one of the tasks.
func NewAsOf(o *plan.Op, c *Context, next Node, task, tasks int) *AsOf {
	x := &AsOf{Op: o, C: c, Next: next, task: task, tasks: tasks, passed: [2]int64{types.MinTime, types.MinTime}, versions: state.NewChains(0), pruneAt: 4096}
	width := max(10*types.Millisecond, (plan.Behind(o.Input.Input)+plan.Behind(o.Right.Input))/64)
	x.rows, x.waiting = state.NewChains(width), newWaiting(64*width)
	for i, s := range [2]*plan.Op{o.Input, o.Right} {
		x.layouts[i] = state.NewLayout(s.Input.Fields, s.Kept)
	}
	return x
}

// Merge implements Keyed: it takes the rows of a turn: of the stream (side 0) or changes of the table (side 1).
func (x *AsOf) Merge(d *Delivery) {
	side, b := d.Side, d.Block
	if b == nil {
		return
	}
	if side == 1 {
		x.change(b)
		return
	}
	n := &x.C.Counts[x.Op.Input.ID]
	lateness := x.Op.Join.Lateness
	for i := range b.N() {
		t := b.Time[i]
		if x.passed[0] > types.MinTime && t < x.passed[0]-lateness {
			x.C.idleLateRow(x.Op.Input, x.layouts[0], b, i, x.passed[0]-lateness-t)
			continue
		}
		stamp := types.MinTime
		if len(b.Stamp) > 0 {
			stamp = b.Stamp[i]
		}
		if t < x.passed[1] {
			n.Absorbed++
			x.resolve(b.Hashes[i], b.Key(i), t, stamp, b.Row(i))
			continue
		}
		n.Held++
		x.buf = append(le.AppendUint64(x.buf[:0], uint64(stamp)), b.Row(i)...)
		x.waiting.add(t, x.rows.Add(b.Hashes[i], b.Key(i), t, b.Pos[i], b.From[i], x.buf))
	}
	x.give()
}

func (x *AsOf) change(b *state.Block) {
	n := &x.C.Counts[x.Op.Right.ID]
	for i := range b.N() {
		t, from := b.Time[i], b.Time[i]
		if len(b.Stamp) > 0 && b.Stamp[i] > t {
			from = b.Stamp[i]
			n.Partly++
		}
		from += x.Op.Join.After
		if from < x.passed[1] { // its split was idle
			n.IdleLate++
		}
		n.Held++
		hash, key := b.Hashes[i], b.Key(i)
		deleted := byte(0)
		if b.Change != nil && b.Change[i].Takes() {
			deleted = 1
		}
		x.buf = append(append(le.AppendUint64(x.buf[:0], uint64(from)), deleted), b.Row(i)...)
		x.versions.Add(hash, key, t, b.Pos[i], b.From[i], x.buf)
	}
}

// newer orders the versions of a key by event time; equal times by origin.
func newer(a, b *state.Row) bool {
	return cmp.Or(cmp.Compare(a.Time, b.Time), cmp.Compare(a.From, b.From), cmp.Compare(a.Pos, b.Pos)) > 0
}

func countsFrom(columns []byte) int64 { return int64(le.Uint64(columns)) }

// at finds the version of a key's chain that counts at an instant.
func (x *AsOf) at(head state.Ref, t int64) (best state.Ref) {
	valid := x.Op.Join.Valid
	for r := head; r != 0; {
		row := x.versions.Get(r)
		if from := countsFrom(x.versions.Columns(r)); row.Matches >= 0 && from <= t && (valid == 0 || t < from+valid) && (best == 0 || newer(row, x.versions.Get(best))) {
			best = r
		}
		r = x.versions.Next(row)
	}
	return best
}

// resolve joins a row whose time the table's watermark has passed.
func (x *AsOf) resolve(hash uint64, key []byte, t, stamp int64, cols []byte) {
	var version []byte
	if len(key) > 0 {
		if r := x.at(x.versions.Find(hash, key), t); r != 0 {
			if v := x.versions.Columns(r); v[8] == 0 {
				version = v[versionHead:]
			}
		}
	}
	x.ready = append(x.ready, resolved{cols, t, stamp, version})
	if len(x.ready) >= closeBatch {
		x.give()
	}
}

// give pushes the rows that are joined on. They keep their stamps, so that steps behind judge them by these.
func (x *AsOf) give() {
	rs := x.ready
	if len(rs) == 0 {
		return
	}
	x.ready = x.ready[:0]
	n := &x.C.Counts[x.Op.ID]
	j := x.Op.Join
	b := &x.out
	width := len(x.Op.Input.Input.Fields)
	if b.Cols == nil {
		b.Cols = make([]*column.Vector, width+len(x.Op.Right.Input.Fields))
		for side, l := range x.layouts {
			for _, c := range l.Columns() {
				b.Cols[side*width+c] = &column.Vector{}
			}
		}
	}
	fill := func() {
		x.bytes[0], x.bytes[1] = x.bytes[0][:0], x.bytes[1][:0]
		b.N, b.Split, b.Time, b.Stamp = len(rs), -1, b.Time[:0], x.stamps[:0]
		for _, r := range rs {
			x.bytes[0], x.bytes[1] = append(x.bytes[0], r.cols), append(x.bytes[1], r.version)
			b.Time, b.Stamp = append(b.Time, r.time), append(b.Stamp, r.stamp)
		}
		x.stamps = b.Stamp
		for side, l := range x.layouts {
			for k, c := range l.Columns() {
				l.Gather(k, x.bytes[side], b.Cols[side*width+c])
			}
		}
	}
	if j.Cond != nil {
		fill()
		sel := x.C.selects(j.Cond, b, nil)
		holds, bad := make([]bool, len(rs)), make([]bool, len(rs))
		for _, s := range sel {
			holds[s] = true
		}
		for _, f := range x.C.Machine.Failures {
			if rs[f.Row].version != nil && !bad[f.Row] {
				bad[f.Row] = true
				n.Failed++
				if x.C.Wants(x.Op, false, f.Reason) {
					x.C.Tally(x.Op.ID, f.Reason)
					x.C.Note(x.Op, Sample{Op: x.Op.ID, Reason: f.Reason, Split: -1, EventTime: rs[f.Row].time, Row: x.C.describe(slices.Concat(x.Op.Input.Input.Fields, x.Op.Right.Input.Fields), b, f.Row)})
				}
			}
		}
		x.C.Machine.Failures = x.C.Machine.Failures[:0]
		kept := rs[:0]
		for i, r := range rs {
			if bad[i] {
				continue
			}
			if !holds[i] {
				r.version = nil
			}
			kept = append(kept, r)
		}
		rs = kept
	}
	rs = slices.DeleteFunc(rs, func(r resolved) bool {
		there := r.version != nil
		return !(there && j.Kind != plan.NotExists || !there && (j.Kind == plan.Left || j.Kind == plan.NotExists))
	})
	if len(rs) == 0 {
		return
	}
	fill()
	n.Made += int64(len(rs))
	for _, r := range rs {
		if r.version != nil {
			n.Matched++
		} else {
			n.Unmatched++
		}
	}
	out := *b
	if j.Kind == plan.Exists || j.Kind == plan.NotExists {
		out.Cols = out.Cols[:width]
	}
	x.Next.Push(&out)
}

// Advance implements Keyed: it tells the watermarks of the stream and of the table, and gives that of the output.
func (x *AsOf) Advance(w Watermarks) int64 {
	for i, m := range w.Of {
		x.passed[i] = max(x.passed[i], m)
	}
	n := &x.C.Counts[x.Op.Input.ID]
	for _, r := range x.waiting.due(x.passed[1]) {
		row := x.rows.Get(r)
		cols := x.rows.Columns(r)
		key := x.rows.Key(r)
		n.Held--
		n.Absorbed++
		hash := uint64(0)
		if len(key) > 0 {
			hash = state.Hash(key)
		}
		x.resolve(hash, key, row.Time, int64(le.Uint64(cols)), cols[8:])
	}
	x.give()
	x.rows.Drop(x.passed[1])
	x.prune(min(less(x.passed[0], x.Op.Join.Lateness), x.passed[1]))
	return min(x.passed[0], x.passed[1])
}

// prune drops the versions that no row can ask for: of each key, those before the one that counts at an
// instant that no row to come lies before. A deletion stays, so that older changes stay superseded.
func (x *AsOf) prune(before int64) {
	if n := x.versions.Len(); before >= types.MaxTime && n > 0 {
		c := &x.C.Counts[x.Op.Right.ID]
		c.Held -= int64(n)
		c.Absorbed += int64(n)
		x.versions = state.NewChains(0)
		return
	} else if n < x.pruneAt || before <= types.MinTime {
		return
	}
	c := &x.C.Counts[x.Op.Right.ID]
	x.versions.EachKey(func(head state.Ref) {
		best := x.at(head, before)
		valid := x.Op.Join.Valid
		if best == 0 && valid == 0 {
			return
		}
		keep := x.versions.Get(best)
		for r := head; r != 0; {
			row := x.versions.Get(r)
			over := valid > 0 && countsFrom(x.versions.Columns(r))+valid <= before
			if r != best && row.Matches >= 0 && (over || keep != nil && newer(keep, row)) {
				x.versions.Remove(r)
				c.Held--
				c.Absorbed++
			}
			r = x.versions.Next(row)
		}
	})
	x.versions.Compact()
	x.pruneAt = max(4096, 2*x.versions.Len())
}

// Passed implements Keyed: the watermarks of the stream and of the table.
func (x *AsOf) Passed() [2]int64 { return x.passed }

// Image implements Keyed.
func (x *AsOf) Image() func() []byte { return written(x.Snapshot()) }

// Closed is the lower of the two watermarks.
func (x *AsOf) Closed() int64 { return min(x.passed[0], x.passed[1]) }

// Size gives the rows that wait, the rows and versions held, and the bytes they take.
func (x *AsOf) Size() (open, keys, bytes int) {
	return x.waiting.n, x.rows.Len() + x.versions.Len(), x.rows.Bytes() + x.versions.Bytes()
}

// Held gives what is held of a side.
func (x *AsOf) Held(side int) (rows, bytes int) {
	if side == 0 {
		return x.waiting.n, x.rows.Bytes()
	}
	return x.versions.Len(), x.versions.Bytes()
}

// Snapshot writes the task's state: both watermarks, the rows that wait, the versions.
func (x *AsOf) Snapshot() []byte {
	b := le.AppendUint64(nil, uint64(x.passed[0]))
	b = le.AppendUint64(b, uint64(x.passed[1]))
	waiting := state.NewChains(0)
	for _, bucket := range x.waiting.buckets {
		for _, w := range bucket {
			row := x.rows.Get(w.ref)
			waiting.Add(0, x.rows.Key(w.ref), row.Time, row.Pos, row.From, x.rows.Columns(w.ref))
		}
	}
	return x.versions.AppendTo(waiting.AppendTo(b))
}

// Restore reads what any task of the step wrote and keeps what belongs to this one.
func (x *AsOf) Restore(b []byte) error {
	r := &reader{b: b, step: x.Op.Step}
	for i := range x.passed {
		x.passed[i] = max(x.passed[i], r.int())
	}
	if r.err != nil {
		return r.err
	}
	mine := func(hash uint64, key []byte) (uint64, bool) {
		if len(key) == 0 {
			hash = 0
		}
		return hash, state.TaskOf(state.RangeOf(hash), x.tasks) == x.task
	}
	rest, err := state.ReadRows(r.b, func(hash uint64, key []byte, row state.Row, cols []byte) {
		if h, ok := mine(hash, key); ok && len(cols) >= waitingHead && x.layouts[0].Valid(cols[waitingHead:]) {
			x.waiting.add(row.Time, x.rows.Add(h, key, row.Time, row.Pos, row.From, cols))
		}
	})
	if err != nil {
		return err
	}
	_, err = state.ReadRows(rest, func(hash uint64, key []byte, row state.Row, cols []byte) {
		if h, ok := mine(hash, key); ok && len(cols) >= versionHead && x.layouts[1].Valid(cols[versionHead:]) {
			x.versions.Add(h, key, row.Time, row.Pos, row.From, cols)
		}
	})
	return err
}
