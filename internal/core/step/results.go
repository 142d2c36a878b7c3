package step

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

var (
	le = binary.LittleEndian
	be = binary.BigEndian
)

const closeBatch = 4096

// results turns tables into rows: the common part of the aggregators of one task.
type results struct {
	Op    *plan.Op
	C     *Context
	Next  Node
	task  int // of tasks
	tasks int
	out   column.Batch
}

func (r *results) owns(hash uint64) bool { return state.TaskOf(state.RangeOf(hash), r.tasks) == r.task }

// idleLate counts rows that are not late by their stamps: their split was idle, and the windows were
// closed without it. They come here reduced to one entry a key, so that the key stands for them.
func (r *results) idleLate(at, rows, by int64, key []byte) {
	r.C.Counts[r.Op.ID].Late += rows
	r.C.Counts[r.Op.ID].IdleLate += rows
	b := r.room(1)
	state.DecodeKey(key, b.Cols[:len(r.Op.Agg.Keys)], 0, 1)
	row := ""
	if n := len(r.Op.Agg.Keys); n > 0 {
		row = r.C.describe(r.Op.Fields[:n], &column.Batch{N: 1, Cols: b.Cols[:n]}, 0)
	}
	r.C.Note(r.Op, Sample{Op: r.Op.ID, Late: true, Split: -1, EventTime: at, LateBy: by, Row: row,
		Reason: fmt.Sprintf("%d rows came after their window was closed while their split was idle", rows)})
}

// room makes the output batch hold n rows, without values.
func (r *results) room(n int) *column.Batch {
	b := &r.out
	for len(b.Cols) < len(r.Op.Fields) {
		b.Cols = append(b.Cols, column.New(r.Op.Fields[len(b.Cols)].Type))
	}
	for _, v := range b.Cols {
		v.Resize(n)
		v.Clear()
	}
	b.N, b.Split, b.Stamp, b.Pos, b.Change = n, -1, nil, nil, nil
	b.Time = slices.Grow(b.Time[:0], n)[:n]
	return b
}

// fill writes the keys, the window's ends and the aggregates of entries into the output batch. It gives a
// mark by row where a result does not fit its type, with the reasons noted, or nil.
func (r *results) fill(g *state.Groups, entries []uint32, window func(i int) (opens, closes int64)) (bad []bool) {
	t := r.Op.Agg
	n := len(entries)
	b := r.room(n)
	keys := b.Cols[:len(t.Keys)]
	from, to := b.Cols[len(t.Keys)].I, b.Cols[len(t.Keys)+1].I
	for i, e := range entries {
		state.DecodeKey(g.Key(e), keys, i, n)
		from[i], to[i] = window(i)
		b.Time[i] = to[i] - 1
	}
	word := baseWords(r.Op)
	for k, a := range t.Aggregates {
		a.Final(g, entries, word, b.Cols[len(t.Keys)+2+k], func(i int, reason string) {
			if bad == nil {
				bad = make([]bool, n)
			}
			if !bad[i] {
				bad[i] = true
				r.C.Tally(r.Op.ID, reason)
				r.C.Note(r.Op, Sample{Op: r.Op.ID, Split: -1, Reason: reason, EventTime: b.Time[i], Row: r.C.describe(r.Op.Fields, b, i)})
			}
		})
		word += a.Words()
	}
	return bad
}

// give pushes results that stay. alone says that a row counts in one window only, so that the rows of a
// result that cannot be given are rejected.
func (r *results) give(g *state.Groups, entries []uint32, window func(i int) (opens, closes int64), alone bool) {
	bad := r.fill(g, entries, window)
	c := &r.C.Counts[r.Op.ID]
	if bad == nil {
		c.Made += int64(len(entries))
		r.Next.Push(&r.out)
		return
	}
	seen := seenWord(r.Op)
	var sel []uint32
	for i, x := range bad {
		if !x {
			sel = append(sel, uint32(i))
			continue
		}
		c.Failed++
		if alone {
			s := g.Of(entries[i])
			c.Rejected += int64(s[seen])
			c.Held -= int64(s[seen])
			s[seen] = 0
		}
	}
	if len(sel) > 0 {
		c.Made += int64(len(sel))
		var kept column.Batch
		r.out.Gather(sel, &kept)
		r.Next.Push(&kept)
	}
}

// What has been given for a window, by key: the number of rows in it, and the result.
const (
	givenRows = iota // number of rows of every kind
	givenText        // the aggregates, encoded; no text where the row was withdrawn
	givenRoom
	givenWords
)

func newGiven() *state.Groups { return &state.Groups{Width: givenWords} }

// report gives what has changed of some keys' results since they were given last, all of one window.
func (r *results) report(g, given *state.Groups, opens, closes int64, of *state.Groups) {
	entries := of.Sorted(nil)
	r.reportOf(g, given, entries, func(int) (int64, int64, int64) { return 0, opens, closes })
}

// reportOf is report with a window, and the tag of what was given for it, for each entry.
func (r *results) reportOf(g, given *state.Groups, entries []uint32, window func(i int) (tag, opens, closes int64)) {
	t := r.Op.Agg
	first := r.encodedFrom()
	seen := seenWord(r.Op)
	c := &r.C.Counts[r.Op.ID]
	for len(entries) > 0 {
		n := min(len(entries), closeBatch)
		part := entries[:n]
		bad := r.fill(g, part, func(i int) (int64, int64) { _, o, c := window(i); return o, c })
		results := column.Batch{N: n, Cols: slices.Clone(r.out.Cols), Time: slices.Clone(r.out.Time)}
		r.out.Cols, r.out.Time = nil, nil
		var out column.Batch
		var buf []byte
		put := func(i int, ch column.Change) {
			out.AppendRow(&results, i)
			out.Change = append(out.Change, ch)
		}
		takeBack := func(i int, old []byte, ch column.Change) {
			out.AppendRow(&results, i)
			for k := first; k < len(out.Cols); k++ {
				v := out.Cols[k]
				var x types.Value
				x, old = state.DecodeValue(old, v.Type, false)
				v.Truncate(out.N - 1)
				v.Append(x)
			}
			if first == len(t.Keys) {
				out.Time[out.N-1] = out.Cols[first+1].I[out.N-1] - 1
			}
			out.Change = append(out.Change, ch)
		}
		for i, e := range part {
			tag, _, _ := window(i)
			rows := g.Of(e)[wordRows]
			h := given.Find(g.Hashes[e], tag, g.Key(e))
			s := given.Of(h)
			old := given.GetText(s[givenText])
			s[givenRows] = g.Of(e)[seen]
			buf = buf[:0]
			if rows != 0 && (bad == nil || !bad[i]) {
				for k := first; k < len(results.Cols); k++ {
					buf = state.AppendKey(buf, results.Cols[k], i, false)
				}
				buf = append(buf, 1) // so that a result without aggregates is not empty
			} else if rows != 0 {
				c.Failed++
			}
			switch {
			case bytes.Equal(old, buf):
				continue
			case len(old) == 0:
				put(i, column.Insert)
				c.Made++
			case len(buf) == 0:
				takeBack(i, old, column.Withdraw)
				c.Withdrawn++
			default:
				takeBack(i, old, column.Replaced)
				put(i, column.Replace)
				c.Withdrawn++
				c.Made++
			}
			s[givenText], s[givenRoom] = given.ChangeText(s[givenText], s[givenRoom], buf)
		}
		if out.N > 0 {
			out.Split, out.Pos, out.From = -1, nil, nil
			r.Next.Push(&out)
		}
		entries = entries[n:]
		if len(entries) > 0 {
			w := window
			window = func(i int) (int64, int64, int64) { return w(i + n) }
		}
	}
}

// encodedFrom is the first column of what is kept of a result: the window's ends, which can change in a
// session, and the aggregates.
func (r *results) encodedFrom() int {
	if n := len(r.Op.Agg.Keys); r.Op.Agg.Kind == plan.Session {
		return n
	}
	return len(r.Op.Agg.Keys) + 2
}

// unreport takes back a result that is none any more.
func (r *results) unreport(given *state.Groups, h uint32) {
	s := given.Of(h)
	old := given.GetText(s[givenText])
	b := r.room(1)
	n := len(r.Op.Agg.Keys)
	state.DecodeKey(given.Key(h), b.Cols[:n], 0, 1)
	for k := r.encodedFrom(); k < len(b.Cols); k++ {
		var x types.Value
		x, old = state.DecodeValue(old, b.Cols[k].Type, false)
		b.Cols[k].Set(0, 1, x)
	}
	b.Time[0] = b.Cols[n+1].I[0] - 1
	b.Change = []column.Change{column.Withdraw}
	s[givenRows], s[givenText] = 0, s[givenText]&^0xffffffff
	r.C.Counts[r.Op.ID].Withdrawn++
	r.Next.Push(b)
}
