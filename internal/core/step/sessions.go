package step

import (
	"bytes"
	"cmp"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// Sessions aggregates by key and windows that follow the key's rows: sessions, and the running
// aggregates of a GROUP BY without a window, whose keys are forgotten when they are unseen for long.
//
// For each key it keeps pieces in order of time: stretches of rows that are near enough to each other to
// belong together for good. Where sessions have a greatest length, which rows begin one is known only once
// all rows before them are, so that a piece is the rows of one instant.
type Sessions struct {
	results
	closed int64
	reach  int64 // rows so far apart do not belong together

	dir    *state.Groups // by key: see the words below
	dead   int           // keys in dir without pieces
	pieces []piece
	free   int32
	used   int           // pieces in use
	acc    *state.Groups // the rows of the pieces
	given  *state.Groups // what has been given, by key and opening, where it can change
	gone   int           // entries of given that stand for nothing
	touch  []uint32      // keys with news since the last report
	timers map[int64][]uint32
	width  int64 // of the timers' buckets
	total  *state.Groups
}

// piece is a stretch of a key's rows.
type piece struct {
	first, last int64
	entry       uint32 // in acc
	next        int32  // piece + 1, or 0
}

// Words of a key in dir.
const (
	dirHead    = iota // first piece + 1, or 0
	dirTimer          // bucket of its timer, sign turned, or 0
	dirTouched        // 1 where it has news
	dirGiven          // text: the openings of what has been given, eight bytes each
	dirRoom
	dirWords
)

func newSessions(r results) *Sessions {
	t := r.Op.Agg
	s := &Sessions{results: r, closed: types.MinTime, reach: t.Gap, timers: map[int64][]uint32{}, width: max(t.Gap/8, types.Millisecond), total: &state.Groups{Width: EntryWords(r.Op)}}
	if t.Kind == plan.Running {
		s.reach++ // a key is forgotten when it is unseen for longer
	}
	s.clear()
	return s
}

func (s *Sessions) clear() {
	s.dir, s.acc, s.given = &state.Groups{Width: dirWords}, &state.Groups{Width: EntryWords(s.Op)}, newGiven()
	s.pieces, s.free, s.used, s.dead, s.gone = nil, 0, 0, 0, 0
	s.touch = nil
	clear(s.timers)
}

// Closed implements Keyed.
func (s *Sessions) Closed() int64 { return s.closed }

// Passed implements Keyed.
func (s *Sessions) Passed() [2]int64 { return [2]int64{s.closed, types.MinTime} }

// Held implements Keyed.
func (s *Sessions) Held(int) (rows, bytes int) { return 0, 0 }

// Image implements Keyed.
func (s *Sessions) Image() func() []byte { return written(s.Snapshot()) }

// Merge implements Keyed. The entries of a session step are the rows of one instant.
func (s *Sessions) Merge(d *Delivery) {
	from := d.Groups
	if from == nil {
		return
	}
	t := s.Op.Agg
	n := &s.C.Counts[s.Op.ID]
	seen := seenWord(s.Op)
	for f, hash := range from.Hashes {
		if !s.owns(hash) {
			continue
		}
		at := from.Tags[f]
		rows := int64(from.Of(uint32(f))[seen])
		if at+t.Lateness < s.closed {
			n.Missed += rows
			s.idleLate(at, rows, s.closed-at-t.Lateness, from.Key(uint32(f)))
			continue
		}
		n.Held += rows
		d := s.key(hash, from.Key(uint32(f)))
		s.insert(d, at, at, from, uint32(f))
		s.touched(d)
		if t.Max > 0 {
			s.armAt(d, at)
		} else {
			s.armAt(d, at+t.Gap)
		}
	}
}

func (s *Sessions) key(hash uint64, key []byte) uint32 {
	before := s.dir.Len()
	d := s.dir.Find(hash, 0, key)
	if s.dir.Len() == before && s.dir.Of(d)[dirHead] == 0 {
		s.dead--
	}
	return d
}

func (s *Sessions) touched(d uint32) {
	if w := s.dir.Of(d); s.Op.Agg.Corrects() && w[dirTouched] == 0 {
		w[dirTouched] = 1
		s.touch = append(s.touch, d)
	}
}

// insert adds rows of [first, last], whose states are entry f of a table, to the pieces of a key.
func (s *Sessions) insert(d uint32, first, last int64, from *state.Groups, f uint32) {
	whole := s.Op.Agg.Max == 0
	prev, at := int32(0), int32(s.dir.Of(d)[dirHead])
	for at != 0 {
		p := &s.pieces[at-1]
		if whole && p.last+s.reach > first || !whole && p.first >= first {
			break
		}
		prev, at = at, p.next
	}
	if at != 0 {
		p := &s.pieces[at-1]
		if whole && last+s.reach > p.first || !whole && p.first == first {
			p.first, p.last = min(p.first, first), max(p.last, last)
			addEntry(s.Op, s.acc, p.entry, from, f)
			for whole && p.next != 0 && s.pieces[p.next-1].first < p.last+s.reach {
				q := p.next
				p.last = max(p.last, s.pieces[q-1].last)
				addEntry(s.Op, s.acc, p.entry, s.acc, s.pieces[q-1].entry)
				p.next = s.pieces[q-1].next
				s.drop(q)
			}
			return
		}
	}
	x := s.alloc()
	e := uint32(s.acc.Len())
	s.acc.Find(uint64(e)*0x9e3779b97f4a7c15, 0, nil) // a tag would undo the hash, see mix in state: all would collide
	addEntry(s.Op, s.acc, e, from, f)
	s.pieces[x-1] = piece{first, last, e, at}
	if prev == 0 {
		s.dir.Of(d)[dirHead] = uint64(x)
	} else {
		s.pieces[prev-1].next = x
	}
}

func (s *Sessions) alloc() int32 {
	s.used++
	if s.free != 0 {
		x := s.free
		s.free = s.pieces[x-1].next
		return x
	}
	s.pieces = append(s.pieces, piece{})
	return int32(len(s.pieces))
}

func (s *Sessions) drop(x int32) {
	s.used--
	s.pieces[x-1].next = s.free
	s.free = x
}

// session is a window of one key.
type session struct {
	key           uint32 // in dir
	opens, closes int64
	last          int64
	from, behind  int32 // its pieces: from the first to the one before behind
	entry         uint32
}

// of gives the sessions of a key, in order.
func (s *Sessions) of(d uint32) (out []session) {
	t := s.Op.Agg
	for at := int32(s.dir.Of(d)[dirHead]); at != 0; {
		p := s.pieces[at-1]
		x := session{key: d, opens: p.first, last: p.last, from: at}
		for at = p.next; at != 0 && t.Max > 0; at = s.pieces[at-1].next {
			p = s.pieces[at-1]
			if p.first >= x.last+s.reach || p.first >= x.opens+t.Max {
				break
			}
			x.last = p.last
		}
		x.behind = at
		x.closes = x.last + t.Gap
		if t.Max > 0 {
			x.closes = min(x.closes, x.opens+t.Max)
		}
		if t.Kind == plan.Running {
			x.closes = x.last + 1 // its result has the time of its last row
		}
		out = append(out, x)
	}
	return out
}

// over says from which watermark on a session takes no more rows.
func (s *Sessions) over(x session) int64 {
	if s.Op.Agg.Kind == plan.Running {
		return x.last + s.reach + s.Op.Agg.Lateness // until then a row that is not late may go on with it
	}
	return x.closes + s.Op.Agg.Lateness
}

// arm sets the timer of a key to the first time that something is to be done about it.
func (s *Sessions) arm(d uint32) {
	due := types.MaxTime
	for _, x := range s.of(d) {
		due = min(due, s.over(x))
		if x.closes > s.closed && s.Op.Agg.Kind != plan.Running {
			due = min(due, x.closes)
		}
	}
	if due < types.MaxTime {
		s.armAt(d, due)
	}
}

// armAt makes the timer of a key fire at a time, or before. A timer that fires too early does no harm.
func (s *Sessions) armAt(d uint32, due int64) {
	bucket := plan.FloorDiv(due, s.width)
	w := s.dir.Of(d)
	if w[dirTimer] != 0 && int64(w[dirTimer]^1<<63) <= bucket {
		return
	}
	w[dirTimer] = uint64(bucket) ^ 1<<63
	s.timers[bucket] = append(s.timers[bucket], d)
}

// Advance implements Keyed.
func (s *Sessions) Advance(w Watermarks) int64 {
	watermark := w.Of[0]
	t := s.Op.Agg
	var due []uint32
	if watermark > s.closed {
		limit := plan.FloorDiv(watermark, s.width)
		for bucket, keys := range s.timers {
			if bucket > limit {
				continue
			}
			delete(s.timers, bucket)
			for _, d := range keys {
				if w := s.dir.Of(d); w[dirTimer] == uint64(bucket)^1<<63 {
					w[dirTimer] = 0
					due = append(due, d)
				}
			}
		}
	}
	before := s.closed
	s.closed = max(s.closed, watermark)
	if !t.Corrects() {
		s.finish(due)
	} else {
		early := t.Kind == plan.Running || t.Report == plan.OnChange || t.Report == plan.OnEvery && plan.FloorDiv(s.closed, t.Every) > plan.FloorDiv(before, t.Every)
		keys := slices.Clone(due)
		var rest []uint32
		for _, d := range s.touch {
			w := s.dir.Of(d)
			if early || w[dirGiven]&0xffffffff > 0 {
				keys = append(keys, d)
			}
			if early || t.Report == plan.OnClose {
				w[dirTouched] = 0
			} else {
				rest = append(rest, d)
			}
		}
		s.touch = rest
		slices.Sort(keys)
		s.tell(slices.Compact(keys), early)
		s.forget(due)
	}
	for _, d := range due {
		s.arm(d)
	}
	if dead := s.dir.Len() - s.dead; s.dead > 1024 && s.dead > dead || s.acc.Len() > 1024 && s.acc.Len() > 4*s.used || s.gone > 1024 && 2*s.gone > s.given.Len() {
		s.compact()
	}
	return s.closed
}

// sum adds the pieces of a session to an entry of total.
func (s *Sessions) sum(x *session) {
	x.entry = s.total.Find(s.dir.Hashes[x.key], x.opens, s.dir.Key(x.key))
	for at := x.from; at != x.behind; at = s.pieces[at-1].next {
		addEntry(s.Op, s.total, x.entry, s.acc, s.pieces[at-1].entry)
	}
}

// finish gives the sessions that have ended, and drops them: first those that ended first.
func (s *Sessions) finish(due []uint32) {
	seen := seenWord(s.Op)
	n := &s.C.Counts[s.Op.ID]
	var out []session
	s.total.Reset()
	for _, d := range due {
		for _, x := range s.of(d) {
			if x.closes > s.closed {
				break
			}
			s.sum(&x)
			out = append(out, x)
		}
	}
	s.inOrder(out)
	if s.Op.Input.Changes {
		out = slices.DeleteFunc(out, func(x session) bool { return s.total.Of(x.entry)[wordRows] == 0 })
	}
	for from := 0; from < len(out); from += closeBatch {
		part := out[from:min(from+closeBatch, len(out))]
		entries := make([]uint32, len(part))
		for i, x := range part {
			entries[i] = x.entry
			n.Counted += int64(s.total.Of(x.entry)[seen])
		}
		s.give(s.total, entries, func(i int) (int64, int64) { return part[i].opens, part[i].closes }, false)
	}
	for _, d := range due {
		for _, x := range s.of(d) {
			if x.closes > s.closed {
				break
			}
			s.absorb(x)
		}
	}
}

// inOrder puts sessions into canonical order: end, key range, key.
func (s *Sessions) inOrder(out []session) {
	slices.SortFunc(out, func(a, b session) int {
		return cmp.Or(cmp.Compare(a.closes, b.closes), cmp.Compare(state.RangeOf(s.dir.Hashes[a.key]), state.RangeOf(s.dir.Hashes[b.key])),
			bytes.Compare(s.dir.Key(a.key), s.dir.Key(b.key)), cmp.Compare(a.opens, b.opens))
	})
}

// absorb drops the first session of a key.
func (s *Sessions) absorb(x session) {
	n := &s.C.Counts[s.Op.ID]
	seen := seenWord(s.Op)
	for at := x.from; at != x.behind; {
		p := s.pieces[at-1]
		rows := int64(s.acc.Of(p.entry)[seen])
		n.Held -= rows
		n.Absorbed += rows
		s.drop(at)
		at = p.next
	}
	w := s.dir.Of(x.key)
	if w[dirHead] = uint64(x.behind); x.behind == 0 {
		s.dead++
	}
}

// tell reports what has changed of some keys: what was given and is no session any more is taken back.
func (s *Sessions) tell(keys []uint32, early bool) {
	running := s.Op.Agg.Kind == plan.Running
	var out []session
	s.total.Reset()
	for _, d := range keys {
		all := s.of(d)
		if running && len(all) > 1 {
			all = all[len(all)-1:] // the key begins afresh
		}
		var opens []byte
		now := map[int64]bool{}
		for _, x := range all {
			tag := x.opens
			if running {
				tag = 0
			}
			_, had := s.given.Lookup(s.dir.Hashes[d], tag, s.dir.Key(d))
			if !early && x.closes > s.closed && !had {
				continue
			}
			s.sum(&x)
			out = append(out, x)
			now[tag] = true
			opens = le.AppendUint64(opens, uint64(tag))
		}
		w := s.dir.Of(d)
		for b := s.dir.GetText(w[dirGiven]); len(b) > 0; b = b[8:] {
			tag := int64(le.Uint64(b))
			if now[tag] || running {
				continue
			}
			if h, ok := s.given.Lookup(s.dir.Hashes[d], tag, s.dir.Key(d)); ok {
				old := s.given.GetText(s.given.Of(h)[givenText])
				if len(old) > 0 {
					s.unreport(s.given, h)
				}
				s.gone++
			}
		}
		w = s.dir.Of(d)
		w[dirGiven], w[dirRoom] = s.dir.ChangeText(w[dirGiven], w[dirRoom], opens)
	}
	s.inOrder(out)
	entries := make([]uint32, len(out))
	for i, x := range out {
		entries[i] = x.entry
	}
	s.reportOf(s.total, s.given, entries, func(i int) (tag, opens, closes int64) {
		if running {
			return 0, out[i].opens, out[i].closes
		}
		return out[i].opens, out[i].opens, out[i].closes
	})
}

// forget drops what takes no more rows.
func (s *Sessions) forget(due []uint32) {
	n := &s.C.Counts[s.Op.ID]
	seen := seenWord(s.Op)
	for _, d := range due {
		var gone []int64
		for _, x := range s.of(d) {
			if s.over(x) > s.closed {
				break
			}
			rows := int64(0)
			for at := x.from; at != x.behind; at = s.pieces[at-1].next {
				rows += int64(s.acc.Of(s.pieces[at-1].entry)[seen])
			}
			n.Counted += rows
			s.absorb(x)
			gone = append(gone, x.opens)
		}
		w := s.dir.Of(d)
		if gone == nil || s.Op.Agg.Kind == plan.Running && w[dirHead] != 0 {
			continue
		}
		var left []byte
		for b := s.dir.GetText(w[dirGiven]); len(b) > 0; b = b[8:] {
			tag := int64(le.Uint64(b))
			if s.Op.Agg.Kind != plan.Running && !slices.Contains(gone, tag) {
				left = le.AppendUint64(left, uint64(tag))
				continue
			}
			if h, ok := s.given.Lookup(s.dir.Hashes[d], tag, s.dir.Key(d)); ok {
				g := s.given.Of(h)
				g[givenRows], g[givenText] = 0, g[givenText]&^0xffffffff
				s.gone++
			}
		}
		w[dirGiven], w[dirRoom] = s.dir.ChangeText(w[dirGiven], w[dirRoom], left)
	}
}

// compact makes the tables anew with what is in use.
func (s *Sessions) compact() {
	old := *s
	s.clear()
	for d, hash := range old.dir.Hashes {
		w := old.dir.Of(uint32(d))
		if w[dirHead] == 0 && w[dirGiven]&0xffffffff == 0 {
			continue
		}
		key := old.dir.Key(uint32(d))
		e := s.key(hash, key)
		if w[dirHead] == 0 {
			s.dead++
		}
		for at := int32(w[dirHead]); at != 0; at = old.pieces[at-1].next {
			p := old.pieces[at-1]
			s.insert(e, p.first, p.last, old.acc, p.entry)
		}
		opens := old.dir.GetText(w[dirGiven])
		x := s.dir.Of(e)
		x[dirGiven], x[dirRoom] = s.dir.ExtendText(0, 0, opens)
		for b := opens; len(b) > 0; b = b[8:] {
			if h, ok := old.given.Lookup(hash, int64(le.Uint64(b)), key); ok {
				copyEntry(s.given, old.given, h)
			}
		}
		if w[dirTouched] == 1 {
			s.touched(e)
		}
		s.arm(e)
	}
}

// Size implements Keyed.
func (s *Sessions) Size() (windows, keys, bytes int) {
	return s.used, s.dir.Len() - s.dead, s.dir.Bytes() + s.acc.Bytes() + s.given.Bytes() + cap(s.pieces)*24 + s.total.Bytes()
}

// Open implements Aggregator. With very many sessions it gives none.
func (s *Sessions) Open(limit int) (out []OpenWindow) {
	if s.used > 5000 {
		return nil
	}
	for d := range s.dir.Hashes {
		for _, x := range s.of(uint32(d)) {
			o := OpenWindow{Opens: x.opens, Closes: x.closes, Closed: x.closes <= s.closed && s.Op.Agg.Kind == plan.Session}
			for at := x.from; at != x.behind; at = s.pieces[at-1].next {
				o.Rows += int64(s.acc.Of(s.pieces[at-1].entry)[seenWord(s.Op)])
			}
			if n := len(s.Op.Agg.Keys); n > 0 {
				b := s.room(1)
				state.DecodeKey(s.dir.Key(uint32(d)), b.Cols[:n], 0, 1)
				o.Key = s.C.describe(s.Op.Fields[:n], &column.Batch{N: 1, Cols: b.Cols[:n]}, 0)
			}
			out = append(out, o)
		}
	}
	slices.SortFunc(out, func(a, b OpenWindow) int { return cmp.Or(cmp.Compare(b.Closes, a.Closes), cmp.Compare(a.Key, b.Key)) })
	return out[:min(limit, len(out))]
}

// Snapshot implements Aggregator: the watermark, the pieces with their ends, what has been given, and the
// keys with news.
func (s *Sessions) Snapshot() []byte {
	acc, last, given, touch := &state.Groups{Width: s.acc.Width}, &state.Groups{Width: 1}, newGiven(), &state.Groups{}
	for d, hash := range s.dir.Hashes {
		w := s.dir.Of(uint32(d))
		key := s.dir.Key(uint32(d))
		for at := int32(w[dirHead]); at != 0; at = s.pieces[at-1].next {
			p := s.pieces[at-1]
			addEntry(s.Op, acc, acc.Find(hash, p.first, key), s.acc, p.entry)
			last.Of(last.Find(hash, p.first, key))[0] = uint64(p.last)
		}
		for b := s.dir.GetText(w[dirGiven]); len(b) > 0; b = b[8:] {
			if h, ok := s.given.Lookup(hash, int64(le.Uint64(b)), key); ok {
				copyEntry(given, s.given, h)
			}
		}
		if w[dirTouched] == 1 {
			touch.Find(hash, 0, key)
		}
	}
	b := le.AppendUint64(nil, uint64(s.closed))
	for _, g := range []*state.Groups{acc, last, given, touch} {
		b = g.AppendTo(b)
	}
	return b
}

// Restore implements Aggregator.
func (s *Sessions) Restore(b []byte) error {
	r := &reader{b: b, step: s.Op.Step}
	s.closed = max(s.closed, r.int())
	acc, last, given, touch := r.groups(EntryWords(s.Op)), r.groups(1), r.groups(givenWords), r.groups(0)
	if r.err != nil {
		return r.err
	}
	for f, hash := range acc.Hashes {
		if !s.owns(hash) {
			continue
		}
		d := s.key(hash, acc.Key(uint32(f)))
		s.insert(d, acc.Tags[f], int64(last.Of(uint32(f))[0]), acc, uint32(f))
	}
	for f, hash := range given.Hashes {
		if !s.owns(hash) {
			continue
		}
		copyEntry(s.given, given, uint32(f))
		d := s.key(hash, given.Key(uint32(f)))
		if s.dir.Of(d)[dirHead] == 0 {
			s.dead++
		}
		w := s.dir.Of(d)
		w[dirGiven], w[dirRoom] = s.dir.ExtendText(w[dirGiven], w[dirRoom], le.AppendUint64(nil, uint64(given.Tags[f])))
	}
	for f, hash := range touch.Hashes {
		if s.owns(hash) {
			s.touched(s.key(hash, touch.Key(uint32(f))))
		}
	}
	for d := range s.dir.Hashes {
		s.arm(uint32(d))
	}
	return nil
}
