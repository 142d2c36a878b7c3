package step

import (
	"encoding/binary"
	"fmt"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// A tumbling aggregation runs in two halves. Partial runs where the rows are decoded: it judges
// lateness by the rows' stamps and reduces each turn's rows to one entry a slice and key. Window runs
// in the tasks that share the key ranges: it merges the entries, keeps one table a slice, and gives a
// slice's results when the watermark has passed its end.
//
// Word 0 of an entry is its number of rows; the states of the aggregates follow.

// Partial is the first half.
type Partial struct {
	Op     *plan.Op
	C      *Context
	Groups *state.Groups // of this turn; whoever takes it puts an empty one in its place

	keys   state.Keys
	cols   []*column.Vector
	args   []eval.Rows
	groups []int32
	opens  int64 // the slice of the row before
	have   bool
	recent [recentKeys]recentKey
	of     *state.Groups // the table that recent speaks of
}

// recentKey remembers the entry of a short text that is the only key, so that rows of few keys need no
// encoding and no hash. Text of up to sixteen bytes is its two words and its length.
type recentKey struct {
	words [2]uint64
	size  int64 // -1: empty
	opens int64
	entry uint32
}

const recentKeys = 256

// shortText gives the words of a text of up to sixteen bytes. ok is false where the text is longer, or
// stands so near the end of its buffer that sixteen bytes cannot be read.
func shortText(v *column.Vector, i int) (words [2]uint64, size int64, ok bool) {
	s := v.S[i]
	if s.Len > 16 || int(s.Off)+16 > len(v.Data) {
		return words, 0, false
	}
	b := v.Data[s.Off : s.Off+16]
	words = [2]uint64{binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[8:])}
	if s.Len <= 8 {
		words[0] &= ^uint64(0) >> (64 - 8*s.Len)
		words[1] = 0
	} else {
		words[1] &= ^uint64(0) >> (128 - 8*s.Len)
	}
	return words, int64(s.Len), true
}

// EntryWords is the number of words of an entry of a window operator.
func EntryWords(o *plan.Op) int { return 1 + o.Tumbling.Words() }

// Push implements Node.
func (p *Partial) Push(b *column.Batch) {
	n := &p.C.Counts[p.Op.ID]
	n.In += int64(b.N)
	t := p.Op.Tumbling
	m := &p.C.Machine
	m.Begin()
	p.cols, p.args = p.cols[:0], p.args[:0]
	for _, k := range t.Keys {
		p.cols = append(p.cols, m.Eval(k, b))
	}
	for _, a := range t.Aggregates {
		if a.Unused {
			p.args = append(p.args, eval.Rows{})
			continue
		}
		p.args = append(p.args, m.Rows(a, b))
	}
	bad := p.C.rejects(p.Op, b)
	short := len(p.cols) == 1 && p.cols[0].Type.Kind == types.Varchar
	if p.of != p.Groups || p.Groups.Len() == 0 {
		p.of = p.Groups
		for i := range p.recent {
			p.recent[i].size = -1
		}
	}
	if !short {
		p.keys.Encode(p.cols, b.N)
	}
	p.groups = slices.Grow(p.groups[:0], b.N)[:b.N]
	g := p.Groups
	for i, at := range b.Time[:b.N] {
		if bad != nil && bad[i] {
			p.groups[i] = -1
			continue
		}
		if !p.have || at < p.opens || at >= p.opens+t.Length {
			p.opens, p.have = sliceOf(at, t), true
		}
		if b.Stamp != nil && p.opens+t.Length <= b.Stamp[i] {
			p.groups[i] = -1
			n.Late++
			closes := p.opens + t.Length
			p.C.sample(p.Op, true, "its window closed at "+string(types.AppendTimestamp(nil, closes)), b, i, b.Stamp[i]-closes)
			continue
		}
		var e uint32
		if short {
			e = p.find(g, i)
		} else {
			e = g.Find(p.keys.Hashes[i], p.opens, p.keys.Key(i))
		}
		g.Words[int(e)*g.Width]++
		p.groups[i] = int32(e)
	}
	word := 1
	for k, a := range t.Aggregates {
		a.Update(g, word, p.groups, p.args[k])
		word += a.Words()
	}
}

// find gives the entry of a row whose only key is text.
func (p *Partial) find(g *state.Groups, i int) uint32 {
	v := p.cols[0]
	if !v.Null(i) {
		if words, size, ok := shortText(v, i); ok {
			r := &p.recent[(words[0]*0x9e3779b97f4a7c15^words[1]*0xbf58476d1ce4e5b9^uint64(size))>>56]
			if r.words == words && r.size == size && r.opens == p.opens {
				return r.entry
			}
			key, hash := p.keys.EncodeRow(p.cols, i)
			*r = recentKey{words, size, p.opens, g.Find(hash, p.opens, key)}
			return r.entry
		}
	}
	key, hash := p.keys.EncodeRow(p.cols, i)
	return g.Find(hash, p.opens, key)
}

// sliceOf gives the beginning of the window that an event time falls into.
func sliceOf(at int64, t *plan.Tumbling) int64 {
	x := at - t.Offset
	q := x / t.Length
	if x < 0 && q*t.Length != x {
		q--
	}
	return q*t.Length + t.Offset
}

// Window is the second half, for the key ranges of one task.
type Window struct {
	Op     *plan.Op
	C      *Context
	Next   Node
	Task   int // of Tasks
	Tasks  int
	Closed int64 // the watermark up to which windows have been closed

	slices map[int64]*state.Groups
	spare  []*state.Groups
	order  []uint32
	out    column.Batch
}

// NewWindow makes a task of a window operator.
func NewWindow(o *plan.Op, c *Context, next Node, task, tasks int) *Window {
	return &Window{Op: o, C: c, Next: next, Task: task, Tasks: tasks, Closed: types.MinTime, slices: map[int64]*state.Groups{}}
}

func (w *Window) owns(hash uint64) bool { return state.TaskOf(state.RangeOf(hash), w.Tasks) == w.Task }

func (w *Window) slice(opens int64) *state.Groups {
	g := w.slices[opens]
	if g == nil {
		if n := len(w.spare); n > 0 {
			g, w.spare = w.spare[n-1], w.spare[:n-1]
		} else {
			g = &state.Groups{Width: EntryWords(w.Op)}
		}
		w.slices[opens] = g
	}
	return g
}

// Merge adds the entries of a turn that belong to this task. split is the source split they come
// from, or -1.
func (w *Window) Merge(from *state.Groups, split int) {
	n := &w.C.Counts[w.Op.ID]
	var g *state.Groups
	opens := types.MinTime
	for f, hash := range from.Hashes {
		if !w.owns(hash) {
			continue
		}
		tag := from.Tags[f]
		src := from.Of(uint32(f))
		rows := int64(src[0])
		if tag+w.Op.Tumbling.Length <= w.Closed {
			// Not late by its stamp: its split was idle, and the window was closed without it.
			n.Late += rows
			w.C.Samples = append(w.C.Samples, Sample{Op: w.Op.ID, Late: true, Split: split, EventTime: tag, LateBy: w.Closed - tag - w.Op.Tumbling.Length,
				Reason: fmt.Sprintf("%d rows came after their window was closed while their split was idle", rows)})
			continue
		}
		if tag != opens || g == nil {
			g, opens = w.slice(tag), tag
		}
		e := g.Find(hash, 0, from.Key(uint32(f)))
		g.Of(e)[0] += uint64(rows)
		word := 1
		for _, a := range w.Op.Tumbling.Aggregates {
			a.Merge(g, e, from, uint32(f), word)
			word += a.Words()
		}
		n.Held += rows
	}
}

const closeBatch = 4096

// Advance closes the windows that end by the watermark, the earliest first.
func (w *Window) Advance(watermark int64) {
	if watermark <= w.Closed {
		return
	}
	var due []int64
	for opens := range w.slices {
		if opens+w.Op.Tumbling.Length <= watermark {
			due = append(due, opens)
		}
	}
	slices.Sort(due)
	for _, opens := range due {
		g := w.slices[opens]
		delete(w.slices, opens)
		w.order = g.Sorted(w.order)
		for o := w.order; len(o) > 0; {
			k := min(len(o), closeBatch)
			w.give(g, opens, o[:k])
			o = o[k:]
		}
		g.Reset()
		if len(w.spare) < 4 && g.Bytes() < 64<<20 {
			w.spare = append(w.spare, g)
		}
	}
	w.Closed = watermark
}

// give pushes the results of some entries of a slice.
func (w *Window) give(g *state.Groups, opens int64, entries []uint32) {
	t := w.Op.Tumbling
	n := len(entries)
	b := &w.out
	for len(b.Cols) < len(w.Op.Fields) {
		b.Cols = append(b.Cols, column.New(w.Op.Fields[len(b.Cols)].Type))
	}
	for _, v := range b.Cols {
		v.Resize(n)
		v.Clear()
	}
	b.N, b.Split, b.Stamp, b.Pos = n, -1, nil, nil
	keys := b.Cols[:len(t.Keys)]
	rows := int64(0)
	for i, e := range entries {
		state.DecodeKey(g.Key(e), keys, i, n)
		rows += int64(g.Of(e)[0])
	}
	closes := opens + t.Length
	from, to := b.Cols[len(t.Keys)].I, b.Cols[len(t.Keys)+1].I
	b.Time = slices.Grow(b.Time[:0], n)[:n]
	for i := range n {
		from[i], to[i], b.Time[i] = opens, closes, closes-1
	}
	c := &w.C.Counts[w.Op.ID]
	failed := 0
	word := 1
	var bad []bool
	for k, a := range t.Aggregates {
		a.Final(g, entries, word, b.Cols[len(t.Keys)+2+k], func(i int, reason string) {
			if bad == nil {
				bad = make([]bool, n)
			}
			if !bad[i] {
				bad[i] = true
				failed++
				r := int64(g.Of(entries[i])[0])
				c.Rejected += r
				c.Held -= r
				rows -= r
				w.C.Samples = append(w.C.Samples, Sample{Op: w.Op.ID, Split: -1, Reason: reason, EventTime: closes - 1, Row: w.C.describe(w.Op.Fields, b, i)})
			}
		})
		word += a.Words()
	}
	c.Held -= rows
	c.Absorbed += rows
	c.Made += int64(n - failed)
	if failed == 0 {
		w.Next.Push(b)
		return
	}
	var sel []uint32
	for i, x := range bad {
		if !x {
			sel = append(sel, uint32(i))
		}
	}
	if len(sel) > 0 {
		var kept column.Batch
		b.Gather(sel, &kept)
		w.Next.Push(&kept)
	}
}

// Size gives the number of open windows and keys, and the bytes held.
func (w *Window) Size() (windows, keys, bytes int) {
	for _, g := range w.slices {
		keys += g.Len()
		bytes += g.Bytes()
	}
	return len(w.slices), keys, bytes
}

// Snapshot writes the task's state: the watermark closed up to, the number of slices, and for each
// its beginning and its table.
func (w *Window) Snapshot() []byte {
	le := binary.LittleEndian
	b := le.AppendUint64(nil, uint64(w.Closed))
	b = le.AppendUint32(b, uint32(len(w.slices)))
	var opens []int64
	for o := range w.slices {
		opens = append(opens, o)
	}
	slices.Sort(opens)
	for _, o := range opens {
		b = le.AppendUint64(b, uint64(o))
		b = w.slices[o].AppendTo(b)
	}
	return b
}

// Restore reads what any task of the operator wrote and keeps what belongs to this one. It gives the
// number of rows held.
func (w *Window) Restore(b []byte) (held int64, err error) {
	le := binary.LittleEndian
	if len(b) < 12 {
		return 0, fmt.Errorf("the state of %s is cut short", w.Op.Step)
	}
	w.Closed = max(w.Closed, int64(le.Uint64(b)))
	n := le.Uint32(b[8:])
	b = b[12:]
	for range n {
		if len(b) < 8 {
			return held, fmt.Errorf("the state of %s is cut short", w.Op.Step)
		}
		opens := int64(le.Uint64(b))
		var from *state.Groups
		if from, b, err = state.ReadGroups(b[8:]); err != nil {
			return held, fmt.Errorf("%s: %w", w.Op.Step, err)
		}
		if from.Width != EntryWords(w.Op) {
			return held, fmt.Errorf("the state of %s belongs to other aggregates", w.Op.Step)
		}
		for f, hash := range from.Hashes {
			if !w.owns(hash) {
				continue
			}
			g := w.slice(opens)
			e := g.Find(hash, 0, from.Key(uint32(f)))
			rows := from.Of(uint32(f))[0]
			g.Of(e)[0] += rows
			held += int64(rows)
			word := 1
			for _, a := range w.Op.Tumbling.Aggregates {
				a.Merge(g, e, from, uint32(f), word)
				word += a.Words()
			}
		}
	}
	return held, nil
}
