package step

import (
	"maps"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
)

// Presenter is a Keyed that can tell its rows as they stand: what it would give if all its windows ended now. Nothing of it changes by that.
type Presenter interface {
	Keyed
	// Present pushes the rows of the keys that are wanted until no more are.
	Present(w Wanted, to Node)
}

// Wanted says which keys are looked at, and how long.
type Wanted struct {
	One  bool // only the key below; else all
	Hash uint64
	Key  []byte
	More func() bool // whether more rows are wanted
}

// entry gives the entry of a table that is wanted, of one key.
func (w *Wanted) entry(g *state.Groups) []uint32 {
	if e, ok := g.Lookup(w.Hash, 0, w.Key); ok {
		return []uint32{e}
	}
	return nil
}

// present pushes the results of entries.
func (r *results) present(g *state.Groups, entries []uint32, window func(i int) (opens, closes int64), w *Wanted, to Node) {
	if r.Op.Input.Changes {
		// What was withdrawn again is no row. The windows of those that stay are found by their places among all.
		all := window
		var at []int
		kept := entries[:0:0]
		for i, e := range entries {
			if g.Of(e)[wordRows] != 0 {
				kept, at = append(kept, e), append(at, i)
			}
		}
		entries, window = kept, func(i int) (int64, int64) { return all(at[i]) }
	}
	for from := 0; from < len(entries) && w.More(); from += closeBatch {
		part := entries[from:min(from+closeBatch, len(entries))]
		bad := r.fill(g, part, func(i int) (int64, int64) { return window(from + i) })
		if bad == nil {
			to.Push(&r.out)
			continue
		}
		var sel []uint32
		for i, x := range bad {
			if !x {
				sel = append(sel, uint32(i))
			}
		}
		var kept column.Batch
		r.out.Gather(sel, &kept)
		to.Push(&kept)
	}
}

// Present implements Presenter: the windows that still take rows or corrections, the newest first.
func (w *Window) Present(of Wanted, to Node) {
	t := w.Op.Agg
	windows := map[int64]bool{}
	for _, s := range w.starts {
		for k := t.First(s); k <= t.Last(s); k++ {
			if t.ClosesAt(k)+t.Lateness > w.closed {
				windows[k] = true
			}
		}
	}
	for _, k := range slices.Backward(slices.Sorted(maps.Keys(windows))) {
		if !of.More() {
			return
		}
		g := &state.Groups{Width: EntryWords(w.Op)}
		add := func(from *state.Groups) {
			if !of.One {
				mergeAll(w.Op, g, from)
				return
			}
			for _, f := range of.entry(from) {
				mergeEntry(w.Op, g, 0, from, f, of.Key)
			}
		}
		starts := w.inside(k)
		for _, s := range starts {
			add(w.slices[s])
		}
		w.parts(k, starts, add)
		w.present(g, g.Sorted(nil), func(int) (int64, int64) { return t.OpensAt(k), t.ClosesAt(k) }, &of, to)
	}
}

// Present implements Presenter: of each key its sessions, or its running result.
func (s *Sessions) Present(of Wanted, to Node) {
	keys := make([]uint32, 0, s.dir.Len())
	if of.One {
		keys = of.entry(s.dir)
	} else {
		for d := range s.dir.Hashes {
			keys = append(keys, uint32(d))
		}
	}
	for from := 0; from < len(keys) && of.More(); from += closeBatch {
		var out []session
		s.total.Reset()
		for _, d := range keys[from:min(from+closeBatch, len(keys))] {
			all := s.of(d)
			if s.Op.Agg.Kind == plan.Running && len(all) > 1 {
				all = all[len(all)-1:] // the key has begun afresh
			}
			for _, x := range all {
				s.sum(&x)
				out = append(out, x)
			}
		}
		entries := make([]uint32, len(out))
		for i, x := range out {
			entries[i] = x.entry
		}
		s.present(s.total, entries, func(i int) (int64, int64) { return out[i].opens, out[i].closes }, &of, to)
	}
}

// Present implements Presenter: the rows of the table.
func (k *Keep) Present(of Wanted, to Node) {
	k.part.RLock()
	var rows [][]byte
	if of.One {
		if r, ok := k.part.Get(of.Hash, of.Key); ok {
			rows = append(rows, r.Columns)
		}
	} else {
		k.part.Each(func(r state.TableRow) { rows = append(rows, r.Columns) })
	}
	k.part.RUnlock()
	for from := 0; from < len(rows) && of.More(); from += closeBatch {
		part := rows[from:min(from+closeBatch, len(rows))]
		b := &column.Batch{N: len(part), Split: -1, Cols: make([]*column.Vector, len(k.Op.Fields)), Time: make([]int64, len(part))}
		for i, c := range k.layout.Columns() {
			b.Cols[c] = &column.Vector{}
			k.layout.Gather(i, part, b.Cols[c])
		}
		to.Push(b)
	}
}
