package step

import (
	"encoding/binary"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// An aggregation runs in two halves. Partial runs where the rows are decoded: it judges lateness by the
// rows' stamps and reduces each turn's rows to one entry a slice and key. Window and Sessions run in the
// tasks that share the key ranges: they merge the entries and give results when the watermark has passed a
// window's end, or earlier and again where the step says so.
//
// A row that came too late for some of its windows only goes to an entry of its own, named by the first
// window still open for it, so that the windows closed before do not see it.

// Of an entry, word 0 is its number of rows, less those taken back. Where the input is a change stream or
// windows without rows are given, word 1 is the greatest event time (with its sign turned) and word 2 the
// number of rows of every kind. The states of the aggregates follow.
const (
	wordRows = 0
	wordLast = 1
	wordSeen = 2
)

func baseWords(o *plan.Op) int {
	if o.Agg.EmptyFor > 0 || o.Input.Changes {
		return 3
	}
	return 1
}

// seenWord is where the number of rows of every kind stands.
func seenWord(o *plan.Op) int {
	if baseWords(o) == 1 {
		return wordRows
	}
	return wordSeen
}

// Partial is the first half.
type Partial struct {
	Op     *plan.Op
	C      *Context
	Groups *state.Groups // of this turn; whoever takes it puts an empty one in its place
	Partly *state.Groups // of this turn, nil where there are none: rows late for some of their windows; the first window still open, big-endian, stands before the key

	keys   state.Keys
	cols   []*column.Vector
	args   []eval.Rows
	groups []int32
	split  []int32
	opens  int64 // the slice of the row before
	ends   int64
	covers int64 // windows that have the slice
	have   bool
	buf    []byte
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
func EntryWords(o *plan.Op) int { return baseWords(o) + o.Agg.Words() }

// Push implements Node.
func (p *Partial) Push(b *column.Batch) {
	t := p.Op.Agg
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
	if p.C.cut(b, p.Push) {
		return
	}
	n := &p.C.Counts[p.Op.ID]
	n.In += int64(b.N)
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
	partly := false
	wide := baseWords(p.Op) > 1
	for i, at := range b.Time[:b.N] {
		if bad != nil && bad[i] {
			p.groups[i] = -1
			continue
		}
		if !p.have || at < p.opens || at >= p.ends {
			p.locate(at)
		}
		n.Covered += p.covers
		if b.Stamp != nil && p.ends+t.Lateness <= b.Stamp[i] {
			p.groups[i] = -1
			if open, ok := p.judge(b, i); ok {
				p.late(b, i, open, short, !partly)
				partly = true
			}
			if p.groups[i] == -1 {
				continue
			}
		}
		var e uint32
		if short {
			e = p.find(g, i)
		} else {
			e = g.Find(p.keys.Hashes[i], p.opens, p.keys.Key(i))
		}
		p.groups[i] = int32(e)
		if !wide {
			g.Words[int(e)*g.Width]++
			continue
		}
		count(g.Of(e), b, i)
	}
	p.update(g, p.groups, b)
	if partly {
		p.update(p.Partly, p.split, b)
	}
}

// count notes a row in the first words of a wide entry.
func count(w []uint64, b *column.Batch, i int) {
	if b.Change != nil && b.Change[i].Takes() {
		w[wordRows]--
	} else {
		w[wordRows]++
	}
	w[wordLast] = max(w[wordLast], uint64(b.Time[i])^1<<63)
	w[wordSeen]++
}

// update adds the rows to the aggregates of their groups.
func (p *Partial) update(g *state.Groups, groups []int32, b *column.Batch) {
	word := baseWords(p.Op)
	var back []int32
	if b.Change != nil {
		give := make([]int32, b.N)
		back = make([]int32, b.N)
		for i, e := range groups {
			give[i], back[i] = e, -1
			if b.Change[i].Takes() {
				give[i], back[i] = -1, e
			}
		}
		groups = give
	}
	for k, a := range p.Op.Agg.Aggregates {
		a.Update(g, word, groups, p.args[k])
		if back != nil {
			a.TakeBack(g, word, back, p.args[k])
		}
		word += a.Words()
	}
}

// locate finds the slice of an event time.
func (p *Partial) locate(at int64) {
	t := p.Op.Agg
	p.opens, p.ends = t.Slice(at)
	p.covers, p.have = 1, true
	switch {
	case t.Kind != plan.Fixed || t.Step == t.Length:
	case t.Zone == nil && t.Length%t.Step == 0:
		p.covers = t.Length / t.Step
	default:
		p.covers = t.Last(p.opens) - t.First(p.opens) + 1
	}
}

// late puts a partly late row into the entry that its first open window names.
func (p *Partial) late(b *column.Batch, i int, open int64, short, first bool) {
	if p.Partly == nil {
		p.Partly = &state.Groups{Width: EntryWords(p.Op)}
	}
	if first {
		p.split = slices.Grow(p.split[:0], b.N)[:b.N]
		for j := range p.split {
			p.split[j] = -1
		}
	}
	p.buf = binary.BigEndian.AppendUint64(p.buf[:0], uint64(open))
	var hash uint64
	if short {
		var key []byte
		key, hash = p.keys.EncodeRow(p.cols, i)
		p.buf = append(p.buf, key...)
	} else {
		hash = p.keys.Hashes[i]
		p.buf = append(p.buf, p.keys.Key(i)...)
	}
	e := p.Partly.Find(hash, p.opens, p.buf)
	p.split[i] = int32(e)
	if baseWords(p.Op) > 1 {
		count(p.Partly.Of(e), b, i)
	} else {
		p.Partly.Of(e)[wordRows]++
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
