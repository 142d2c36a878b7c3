package step

import (
	"fmt"
	"maps"
	"slices"

	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// Aggregator is the second half of an aggregation, for the key ranges of one task.
type Aggregator interface {
	Keyed
	// Open gives some of the windows that still take rows, those that close last.
	Open(limit int) []OpenWindow
}

// OpenWindow is a window that still takes rows. Key is set for sessions.
type OpenWindow struct {
	Opens  int64  `json:"opens"` // microseconds
	Closes int64  `json:"closes"`
	Key    string `json:"key,omitempty"`
	Rows   int64  `json:"rows"`
	Closed bool   `json:"closed,omitempty"` // its result has been given; it takes corrections
}

// Window aggregates by key and windows of fixed places. It keeps one table a slice.
type Window struct {
	results
	closed int64 // the watermark up to which windows have been closed

	slices map[int64]*state.Groups
	rows   map[int64]int64         // by slice
	starts []int64                 // of the slices, ascending
	partly map[int64][]part        // of rows late for some of their windows, by slice
	given  map[int64]*state.Groups // what has been given, by window, where it can change
	touch  map[int64]*state.Groups // keys with news since the last report, by slice
	prior  *state.Groups           // the greatest event time of each key in closed windows, for EmptyFor
	prioTo int64                   // the greatest of them
	next   int64                   // no window before it is left to close
	stacks suffixes
	spare  []*state.Groups
	order  []uint32
	total  *state.Groups
}

// part has the rows of a slice that count from a window on.
type part struct {
	first int64
	*state.Groups
}

// NewAggregator makes a task of an aggregation.
func NewAggregator(o *plan.Op, c *Context, next Node, task, tasks int) Aggregator {
	r := results{Op: o, C: c, Next: next, task: task, tasks: tasks}
	if o.Agg.Kind != plan.Fixed {
		return newSessions(r)
	}
	return &Window{results: r, closed: types.MinTime, next: types.MinTime, prioTo: types.MinTime, slices: map[int64]*state.Groups{}, rows: map[int64]int64{}, partly: map[int64][]part{},
		given: map[int64]*state.Groups{}, touch: map[int64]*state.Groups{}, prior: &state.Groups{Width: 1}, total: &state.Groups{Width: EntryWords(o)}}
}

// Closed implements Keyed.
func (w *Window) Closed() int64 { return w.closed }

// Passed implements Keyed.
func (w *Window) Passed() [2]int64 { return [2]int64{w.closed, types.MinTime} }

// Held implements Keyed.
func (w *Window) Held(int) (rows, bytes int) { return 0, 0 }

func (w *Window) table() *state.Groups {
	if n := len(w.spare); n > 0 {
		g := w.spare[n-1]
		w.spare = w.spare[:n-1]
		return g
	}
	return &state.Groups{Width: EntryWords(w.Op)}
}

func (w *Window) release(g *state.Groups) {
	g.Reset()
	if len(w.spare) < 4 && g.Bytes() < 64<<20 {
		w.spare = append(w.spare, g)
	}
}

func (w *Window) slice(opens int64) *state.Groups {
	g := w.slices[opens]
	if g == nil {
		g = w.table()
		w.slices[opens] = g
		i, _ := slices.BinarySearch(w.starts, opens)
		w.starts = slices.Insert(w.starts, i, opens)
	}
	return g
}

// ownsAll says whether all entries of a table belong to this task.
func (w *Window) ownsAll(g *state.Groups) bool {
	for _, h := range g.Hashes {
		if !w.owns(h) {
			return false
		}
	}
	return true
}

// adopt takes a table as that of a slice.
func (w *Window) adopt(opens int64, g *state.Groups) {
	w.slice(opens)
	w.slices[opens] = g
}

// part gives the table of the rows of a slice that count from a window on.
func (w *Window) part(slice, first int64) *state.Groups {
	for _, p := range w.partly[slice] {
		if p.first == first {
			return p.Groups
		}
	}
	g := w.table()
	w.partly[slice] = append(w.partly[slice], part{first, g})
	w.slice(slice) // so that every row has its slice
	return g
}

// mergeEntry adds entry f of a table to the entry of a key, and gives it.
func mergeEntry(o *plan.Op, g *state.Groups, tag int64, from *state.Groups, f uint32, key []byte) uint32 {
	e := g.Find(from.Hashes[f], tag, key)
	addEntry(o, g, e, from, f)
	return e
}

func addEntry(o *plan.Op, g *state.Groups, e uint32, from *state.Groups, f uint32) {
	g.Touch(e)
	src, dst := from.Of(f), g.Of(e)
	dst[wordRows] += src[wordRows]
	word := baseWords(o)
	if word > 1 {
		dst[wordLast] = max(dst[wordLast], src[wordLast])
		dst[wordSeen] += src[wordSeen]
	}
	for _, a := range o.Agg.Aggregates {
		a.Merge(g, e, from, f, word)
		word += a.Words()
	}
}

// Merge implements Keyed.
func (w *Window) Merge(d *Delivery) {
	from, partly := d.Groups, d.Partly
	if from == nil {
		from = &state.Groups{}
	}
	t := w.Op.Agg
	n := &w.C.Counts[w.Op.ID]
	seen := seenWord(w.Op)
	var g *state.Groups
	at := types.MinTime
	first, last := int64(0), int64(0)
	overlaps := t.Overlap() > 1
	corrects := t.Corrects()
	take := func(from *state.Groups, f uint32, open int64, key []byte) {
		tag := from.Tags[f]
		rows := int64(from.Of(f)[seen])
		if g == nil || tag != at {
			at = tag
			first, last = t.Last(tag), t.Last(tag)
			if overlaps {
				first = t.First(tag)
			}
			g = nil
		}
		if t.ClosesAt(last)+t.Lateness <= w.closed {
			w.idleLate(tag, rows, w.closed-t.ClosesAt(last)-t.Lateness, key)
			n.Missed += rows * (last - max(first, open) + 1)
			return
		}
		n.Held += rows
		w.rows[tag] += rows
		shut := max(first, open)
		for t.ClosesAt(shut)+t.Lateness <= w.closed { // closed while the split was idle
			shut++
		}
		n.Missed += rows * (shut - max(first, open))
		if shut > first {
			mergeEntry(w.Op, w.part(tag, shut), 0, from, f, key)
		} else {
			if g == nil {
				g = w.slice(tag)
			}
			mergeEntry(w.Op, g, 0, from, f, key)
		}
		if corrects {
			d := w.touch[tag]
			if d == nil {
				d = &state.Groups{Width: 0}
				w.touch[tag] = d
			}
			d.Find(from.Hashes[f], 0, key)
		}
	}
	held := int64(0) // rows that went to g without further ado
	for f, hash := range from.Hashes {
		switch {
		case !w.owns(hash):
		case g != nil && from.Tags[f] == at && !corrects: // the usual: the slice of the entry before
			held += int64(from.Of(uint32(f))[seen])
			addEntry(w.Op, g, g.Find(hash, 0, from.Key(uint32(f))), from, uint32(f))
		default:
			if held > 0 {
				w.rows[at] += held
				n.Held += held
				held = 0
			}
			take(from, uint32(f), types.MinTime, from.Key(uint32(f)))
		}
	}
	if held > 0 {
		w.rows[at] += held
		n.Held += held
	}
	if partly == nil {
		return
	}
	for f, hash := range partly.Hashes {
		if w.owns(hash) {
			key := partly.Key(uint32(f))
			take(partly, uint32(f), int64(be.Uint64(key)), key[8:])
		}
	}
}

// Advance implements Keyed: it reports news where the step says so, closes the windows that end by
// the watermark, the earliest first, and forgets those that take no more corrections.
func (w *Window) Advance(to Watermarks) int64 {
	watermark, newest := to.Of[0], to.Newest
	t := w.Op.Agg
	if len(w.touch) > 0 {
		early := t.Report == plan.OnChange || t.Report == plan.OnEvery && plan.FloorDiv(watermark, t.Every) > plan.FloorDiv(w.closed, t.Every)
		w.news(early)
	}
	if watermark <= w.closed {
		return w.closed
	}
	for {
		k, ok := w.due(newest)
		if !ok || t.ClosesAt(k) > watermark {
			break
		}
		w.close(k, newest)
		w.next = k + 1
	}
	w.closed = watermark
	w.forget()
	return w.closed
}

// due gives the earliest window with rows, or with a key that is to be given without rows, that has not
// been closed.
func (w *Window) due(newest int64) (k int64, ok bool) {
	t := w.Op.Agg
	i, _ := slices.BinarySearchFunc(w.starts, w.next, func(s, next int64) int {
		if t.Last(s) < next {
			return -1
		}
		return 1
	})
	if i < len(w.starts) {
		k, ok = max(w.next, t.First(w.starts[i])), true
	}
	if w.prior.Len() > 0 && (!ok || w.next < k) {
		if c := t.ClosesAt(w.next); c <= newest && c <= w.prioTo+t.EmptyFor {
			return w.next, true
		}
	}
	return k, ok
}

// inside gives the slices of a window.
func (w *Window) inside(k int64) []int64 {
	t := w.Op.Agg
	i, _ := slices.BinarySearch(w.starts, t.OpensAt(k))
	j, _ := slices.BinarySearch(w.starts, t.ClosesAt(k))
	return w.starts[i:j]
}

// parts calls f with the partly late entries of some slices that count in a window.
func (w *Window) parts(k int64, starts []int64, f func(*state.Groups)) {
	if len(w.partly) == 0 {
		return
	}
	for _, s := range starts {
		for _, p := range w.partly[s] {
			if p.first <= k {
				f(p.Groups)
			}
		}
	}
}

// sum gives the table of a window. It is good until the next call.
func (w *Window) sum(k int64) *state.Groups {
	starts := w.inside(k)
	if len(starts) == 1 && w.partly[starts[0]] == nil {
		return w.slices[starts[0]]
	}
	total := w.total
	if total.Bytes() > 64<<20 {
		*total = state.Groups{Width: total.Width}
	}
	total.Reset()
	if w.Op.Agg.Corrects() || !w.stacks.sum(w, k, starts, total) {
		for _, s := range starts {
			mergeAll(w.Op, total, w.slices[s])
		}
	}
	if !w.Op.Agg.Corrects() {
		w.gather(k, starts)
	}
	w.parts(k, starts, func(g *state.Groups) { mergeAll(w.Op, total, g) })
	return total
}

// gather makes the partly late entries of each slice that count from window k on one table: the windows
// before it have been given for good.
func (w *Window) gather(k int64, starts []int64) {
	if len(w.partly) == 0 {
		return
	}
	for _, s := range starts {
		ps := w.partly[s]
		if len(ps) < 2 {
			continue
		}
		kept := ps[:0]
		one := -1
		for _, p := range ps {
			switch {
			case p.first > k:
				kept = append(kept, p)
			case one < 0:
				one = len(kept)
				kept = append(kept, part{k, p.Groups})
			default:
				mergeAll(w.Op, kept[one].Groups, p.Groups)
				w.release(p.Groups)
			}
		}
		w.partly[s] = kept
	}
}

func mergeAll(o *plan.Op, g, from *state.Groups) {
	for f := range from.Hashes {
		mergeEntry(o, g, 0, from, uint32(f), from.Key(uint32(f)))
	}
}

// close gives the results of a window whose end the watermark has passed.
func (w *Window) close(k, newest int64) {
	t := w.Op.Agg
	g := w.sum(k)
	if t.EmptyFor > 0 {
		g = w.withEmpty(g, k, newest)
	}
	if t.Corrects() {
		w.report(g, w.reported(k), t.OpensAt(k), t.ClosesAt(k), g)
		return
	}
	w.order = g.Sorted(w.order)
	if w.Op.Input.Changes {
		w.order = slices.DeleteFunc(w.order, func(e uint32) bool { return g.Of(e)[wordRows] == 0 })
	}
	seen := seenWord(w.Op)
	for _, e := range w.order {
		w.C.Counts[w.Op.ID].Counted += int64(g.Of(e)[seen])
	}
	for o := w.order; len(o) > 0; {
		n := min(len(o), closeBatch)
		w.give(g, o[:n], func(int) (int64, int64) { return t.OpensAt(k), t.ClosesAt(k) }, t.Overlap() == 1)
		o = o[n:]
	}
}

// withEmpty adds the keys that have no rows in a window and are given all the same, and notes the last
// row of those that have.
func (w *Window) withEmpty(g *state.Groups, k, newest int64) *state.Groups {
	closes := w.Op.Agg.ClosesAt(k)
	if g == nil || g != w.total {
		w.total.Reset()
		if g != nil {
			mergeAll(w.Op, w.total, g)
		}
		g = w.total
	}
	live := &state.Groups{Width: 1}
	w.prioTo = types.MinTime
	keep := func(hash uint64, key []byte, last int64) {
		if last+w.Op.Agg.EmptyFor > closes {
			e := live.Find(hash, 0, key)
			live.Of(e)[0] = max(live.Of(e)[0], uint64(last)^1<<63)
			w.prioTo = max(w.prioTo, last)
		}
	}
	for e, hash := range w.prior.Hashes {
		last := int64(w.prior.Of(uint32(e))[0] ^ 1<<63)
		if closes <= last+w.Op.Agg.EmptyFor && closes <= newest {
			g.Find(hash, 0, w.prior.Key(uint32(e)))
		}
		keep(hash, w.prior.Key(uint32(e)), last)
	}
	for e, hash := range g.Hashes {
		if s := g.Of(uint32(e)); s[wordSeen] > 0 {
			keep(hash, g.Key(uint32(e)), int64(s[wordLast]^1<<63))
		}
	}
	w.prior = live
	return g
}

// reported gives the table of what has been given for a window.
func (w *Window) reported(k int64) *state.Groups {
	g := w.given[k]
	if g == nil {
		g = newGiven()
		w.given[k] = g
	}
	return g
}

// news reports the keys that have changed: in windows that have been closed, and where the step reports
// early in all that are open.
func (w *Window) news(early bool) {
	t := w.Op.Agg
	changed := map[int64]*state.Groups{} // by window
	for tag, keys := range w.touch {
		first, last := t.First(tag), t.Last(tag)
		rest := false
		for k := first; k <= last; k++ {
			switch c := t.ClosesAt(k); {
			case c+t.Lateness <= w.closed: // over
			case c <= w.closed || early:
				m := changed[k]
				if m == nil {
					m = &state.Groups{}
					changed[k] = m
				}
				for e, hash := range keys.Hashes {
					m.Find(hash, 0, keys.Key(uint32(e)))
				}
			default:
				rest = true
			}
		}
		if !rest || t.Report == plan.OnClose {
			delete(w.touch, tag)
		}
	}
	for _, k := range slices.Sorted(maps.Keys(changed)) {
		keys := changed[k]
		total := w.total
		total.Reset()
		starts := w.inside(k)
		for e, hash := range keys.Hashes {
			key := keys.Key(uint32(e))
			total.Find(hash, 0, key)
			for _, s := range starts {
				if f, ok := w.slices[s].Lookup(hash, 0, key); ok {
					mergeEntry(w.Op, total, 0, w.slices[s], f, key)
				}
			}
			w.parts(k, starts, func(p *state.Groups) {
				if f, ok := p.Lookup(hash, 0, key); ok {
					mergeEntry(w.Op, total, 0, p, f, key)
				}
			})
		}
		w.report(total, w.reported(k), t.OpensAt(k), t.ClosesAt(k), total)
	}
}

// forget drops slices and windows that take no more rows.
func (w *Window) forget() {
	t := w.Op.Agg
	n := &w.C.Counts[w.Op.ID]
	for k, g := range w.given {
		if t.ClosesAt(k)+t.Lateness <= w.closed {
			for e := range g.Hashes {
				n.Counted += int64(g.Of(uint32(e))[givenRows])
			}
			delete(w.given, k)
		}
	}
	i := 0
	for ; i < len(w.starts) && t.ClosesAt(t.Last(w.starts[i]))+t.Lateness <= w.closed; i++ {
		w.absorb(w.slices[w.starts[i]])
		for _, p := range w.partly[w.starts[i]] {
			w.absorb(p.Groups)
		}
		delete(w.partly, w.starts[i])
		delete(w.slices, w.starts[i])
		delete(w.rows, w.starts[i])
		delete(w.touch, w.starts[i])
	}
	w.starts = slices.Delete(w.starts, 0, i)
}

// absorb notes that the rows of a table are in results that have been given for good.
func (w *Window) absorb(g *state.Groups) {
	n := &w.C.Counts[w.Op.ID]
	seen := seenWord(w.Op)
	rows := int64(0)
	for e := range g.Hashes {
		rows += int64(g.Of(uint32(e))[seen])
	}
	n.Held -= rows
	n.Absorbed += rows
	w.release(g)
}

// Size implements Keyed.
func (w *Window) Size() (windows, keys, bytes int) {
	for _, m := range []map[int64]*state.Groups{w.slices, w.given, w.touch} {
		for _, g := range m {
			bytes += g.Bytes()
		}
	}
	for _, g := range w.slices {
		keys += g.Len()
	}
	for _, ps := range w.partly {
		for _, p := range ps {
			bytes += p.Bytes()
		}
	}
	t := w.Op.Agg
	if len(w.starts) > 0 {
		windows = int(t.Last(w.starts[len(w.starts)-1]) - max(t.First(w.starts[0]), w.next) + 1)
		windows = max(windows, 0)
	}
	return windows, keys, bytes + w.prior.Bytes() + w.total.Bytes() + w.stacks.bytes()
}

// Open implements Aggregator.
func (w *Window) Open(limit int) (out []OpenWindow) {
	t := w.Op.Agg
	if len(w.starts) == 0 {
		return nil
	}
	// Slices can lie far apart: not more than some thousand windows are looked at.
	for k, n := t.Last(w.starts[len(w.starts)-1]), 0; n < 4096 && len(out) < limit && t.ClosesAt(k) > w.starts[0]; k, n = k-1, n+1 {
		x := OpenWindow{Opens: t.OpensAt(k), Closes: t.ClosesAt(k)}
		if x.Closes+t.Lateness <= w.closed {
			break
		}
		x.Closed = x.Closes <= w.closed
		for _, s := range w.inside(k) {
			x.Rows += w.rows[s]
		}
		if x.Rows > 0 {
			out = append(out, x)
		}
	}
	return out
}

// suffixes are two stacks of tables (Tangwongsan, Hirzel and Schneider, Low-Latency Sliding-Window
// Aggregation in Worst-Case Constant Time, 2017, section 3: two-stacks), so that the cost of a window's result does
// not grow with the number of its slices. front holds, for each slice up to upto, the merge of the slices
// from it to the one where the stacks were turned last; back is the merge of those behind it.
type suffixes struct {
	front  map[int64]*state.Groups
	starts []int64
	back   *state.Groups
	upto   int64 // slices that begin before it are in front or back
}

const (
	stackFrom    = 6       // slices from which stacks pay
	stackEntries = 2 << 20 // the most that front may hold
)

func (x *suffixes) bytes() (n int) {
	for _, g := range x.front {
		n += g.Bytes()
	}
	if x.back != nil {
		n += x.back.Bytes()
	}
	return n
}

// sum adds the slices of a window to total. It says false where it does not pay.
func (x *suffixes) sum(w *Window, k int64, starts []int64, total *state.Groups) bool {
	entries, most := 0, 0
	for _, s := range starts {
		n := w.slices[s].Len()
		entries += n
		most = max(most, n)
	}
	if len(starts) < stackFrom || entries > stackEntries || entries < 3*most {
		*x = suffixes{}
		return false
	}
	opens := starts[0]
	for len(x.starts) > 0 && x.starts[0] < opens {
		w.release(x.front[x.starts[0]])
		delete(x.front, x.starts[0])
		x.starts = x.starts[1:]
	}
	if len(x.starts) == 0 {
		x.front, x.starts = map[int64]*state.Groups{}, slices.Clone(starts)
		var above *state.Groups
		for i := len(starts) - 1; i >= 0; i-- {
			g := w.table()
			if above != nil {
				mergeAll(w.Op, g, above)
			}
			mergeAll(w.Op, g, w.slices[starts[i]])
			x.front[starts[i]], above = g, g
		}
		if x.back == nil {
			x.back = w.table()
		}
		x.back.Reset()
	} else {
		for _, s := range starts {
			if s >= x.upto {
				mergeAll(w.Op, x.back, w.slices[s])
			}
		}
	}
	x.upto = starts[len(starts)-1] + 1
	mergeAll(w.Op, total, x.front[x.starts[0]])
	mergeAll(w.Op, total, x.back)
	return true
}

// Snapshot implements Keyed.
func (w *Window) Snapshot() []byte { return w.image(false)() }

// Image implements Keyed: the tables of the slices, which are most of it, are not copied before they change.
func (w *Window) Image() func() []byte { return w.image(true) }

// image notes the state. Without freeze it copies all of it: of a table that is being written, only one image may be
// on its way.
func (w *Window) image(freeze bool) func() []byte {
	type table struct {
		opens  int64
		frozen *state.Frozen
		whole  []byte // where it cannot be frozen
	}
	var tables []table
	head := le.AppendUint64(nil, uint64(w.closed))
	head = le.AppendUint64(head, uint64(w.next))
	head = le.AppendUint64(head, uint64(w.prioTo))
	head = le.AppendUint32(head, uint32(len(w.slices)))
	size := len(head)
	for _, k := range slices.Sorted(maps.Keys(w.slices)) {
		t := table{opens: k}
		if freeze {
			t.frozen = w.slices[k].Freeze()
		}
		if t.frozen != nil {
			size += 8 + t.frozen.Encoded()
		} else {
			t.whole = w.slices[k].AppendTo(nil)
			size += 8 + len(t.whole)
		}
		tables = append(tables, t)
	}
	rest := w.restOfState()
	return func() []byte {
		b := append(make([]byte, 0, size+len(rest)), head...)
		for _, t := range tables {
			b = le.AppendUint64(b, uint64(t.opens))
			if t.frozen != nil {
				b = t.frozen.AppendTo(b)
			} else {
				b = append(b, t.whole...)
			}
		}
		return append(b, rest...)
	}
}

// restOfState writes all but the tables of the slices.
func (w *Window) restOfState() []byte {
	size := 64 + w.prior.Encoded()
	for _, m := range []map[int64]*state.Groups{w.given, w.touch} {
		for _, g := range m {
			size += 8 + g.Encoded()
		}
	}
	b := make([]byte, 0, size)
	for _, m := range []map[int64]*state.Groups{w.given, w.touch} {
		b = le.AppendUint32(b, uint32(len(m)))
		for _, k := range slices.Sorted(maps.Keys(m)) {
			b = m[k].AppendTo(le.AppendUint64(b, uint64(k)))
		}
	}
	b = le.AppendUint32(b, uint32(len(w.partly)))
	for _, slice := range slices.Sorted(maps.Keys(w.partly)) {
		b = le.AppendUint64(b, uint64(slice))
		b = le.AppendUint32(b, uint32(len(w.partly[slice])))
		for _, p := range w.partly[slice] {
			b = p.AppendTo(le.AppendUint64(b, uint64(p.first)))
		}
	}
	return w.prior.AppendTo(b)
}

// Restore implements Aggregator. It reads what any task of the operator wrote and keeps what belongs to
// this one.
func (w *Window) Restore(b []byte) error {
	r := &reader{b: b, step: w.Op.Step}
	w.closed, w.next, w.prioTo = max(w.closed, r.int()), max(w.next, r.int()), max(w.prioTo, r.int())
	n := r.count()
	for range n {
		opens := r.int()
		if from := r.groups(EntryWords(w.Op)); from != nil {
			if w.slices[opens] == nil && w.ownsAll(from) {
				for f := range from.Hashes {
					w.rows[opens] += int64(from.Of(uint32(f))[seenWord(w.Op)])
				}
				w.adopt(opens, from)
				continue
			}
			for f, hash := range from.Hashes {
				if w.owns(hash) {
					w.rows[opens] += int64(from.Of(uint32(f))[seenWord(w.Op)])
					mergeEntry(w.Op, w.slice(opens), 0, from, uint32(f), from.Key(uint32(f)))
				}
			}
		}
	}
	for _, m := range []map[int64]*state.Groups{w.given, w.touch} {
		for range r.count() {
			k := r.int()
			if from := r.groups(-1); from != nil {
				w.keep(m, k, from)
			}
		}
	}
	for range r.count() {
		slice := r.int()
		for range r.count() {
			first := r.int()
			if from := r.groups(EntryWords(w.Op)); from != nil {
				for f, hash := range from.Hashes {
					if w.owns(hash) {
						mergeEntry(w.Op, w.part(slice, first), 0, from, uint32(f), from.Key(uint32(f)))
					}
				}
			}
		}
	}
	if from := r.groups(1); from != nil {
		m := map[int64]*state.Groups{0: w.prior}
		w.keep(m, 0, from)
	}
	return r.err
}

// keep copies the entries that belong to this task.
func (w *Window) keep(m map[int64]*state.Groups, k int64, from *state.Groups) {
	for f, hash := range from.Hashes {
		if !w.owns(hash) {
			continue
		}
		g := m[k]
		if g == nil {
			g = &state.Groups{Width: from.Width}
			m[k] = g
		}
		copyEntry(g, from, uint32(f))
	}
}

// copyEntry copies an entry whose words 1 and 2, where it has three, are a text and its room.
func copyEntry(g, from *state.Groups, f uint32) uint32 {
	e := g.Find(from.Hashes[f], from.Tags[f], from.Key(f))
	copy(g.Of(e), from.Of(f))
	if from.Width == givenWords {
		s := g.Of(e)
		s[givenText], s[givenRoom] = g.ExtendText(0, 0, from.GetText(from.Of(f)[givenText]))
	}
	return e
}

// reader takes a snapshot apart. After an error it gives zeros.
type reader struct {
	b    []byte
	step string
	err  error
}

func (r *reader) cut() {
	if r.err == nil {
		r.err = fmt.Errorf("the state of %s is cut short", r.step)
	}
	r.b = nil
}

func (r *reader) int() int64 {
	if len(r.b) < 8 {
		r.cut()
		return 0
	}
	x := int64(le.Uint64(r.b))
	r.b = r.b[8:]
	return x
}

// count reads how many things follow, each of at least a byte.
func (r *reader) count() int {
	n := r.word()
	if n > len(r.b) {
		r.cut()
		return 0
	}
	return n
}

func (r *reader) word() int {
	if len(r.b) < 4 {
		r.cut()
		return 0
	}
	x := int(le.Uint32(r.b))
	r.b = r.b[4:]
	return x
}

// groups reads a table; width is that of its entries, or -1.
func (r *reader) groups(width int) *state.Groups {
	if r.err != nil {
		return nil
	}
	g, rest, err := state.ReadGroups(r.b)
	if err != nil {
		r.err = fmt.Errorf("%s: %w", r.step, err)
		return nil
	}
	r.b = rest
	if width >= 0 && g.Width != width {
		r.err = fmt.Errorf("the state of %s belongs to other aggregates", r.step)
		return nil
	}
	return g
}
