package step

import (
	"errors"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// Delivery is what a turn brings to a step that keeps state by key.
type Delivery struct {
	Side   int           // of a join
	Groups *state.Groups // of an aggregation: partial results
	Partly *state.Groups // those of rows that are late for some of their windows
	Rows   *column.Batch // of a step that takes rows in event order
	Block  *state.Block  // of a join, of what settles its results, and of a table

	Split    int32 // of a table: where the rows are from
	Fresh    bool  // that split is read again from its beginning
	Complete bool  // and has been read to its end
}

// Empty says that there is nothing in it.
func (d *Delivery) Empty() bool {
	return d.Groups == nil && d.Partly == nil && d.Rows == nil && d.Block == nil && !d.Fresh && !d.Complete
}

// Splitter shares deliveries out by key range. It belongs to one goroutine.
type Splitter struct {
	op    *plan.Op
	order *Ordered // where rows have to be asked for their keys
}

// NewSplitter makes one for an operator.
func NewSplitter(o *plan.Op, c *Context) *Splitter {
	s := &Splitter{op: o}
	if o.Kind == plan.Unique || o.Kind == plan.Over {
		s.order = NewOrdered(o, c, nil, 0, 1)
	}
	return s
}

// Split fills parts with what belongs to each. of gives the part of a key range, or one below 0 where it belongs to
// none. What is in the parts is theirs; the delivery stays whole.
func (s *Splitter) Split(d *Delivery, of *[state.KeyRanges]int16, parts []Delivery) {
	clear(parts)
	if d.Groups != nil {
		s.groups(d.Groups, of, func(k int16) **state.Groups { return &parts[k].Groups })
	}
	if d.Partly != nil {
		s.groups(d.Partly, of, func(k int16) **state.Groups { return &parts[k].Partly })
	}
	if d.Rows != nil {
		s.order.keysOf(d.Rows)
		for i := range d.Rows.N {
			if k := of[state.RangeOf(s.order.keys.Hashes[i])]; k >= 0 {
				if parts[k].Rows == nil {
					parts[k].Rows = &column.Batch{}
				}
				parts[k].Rows.AppendRow(d.Rows, i)
			}
		}
	}
	if d.Block != nil {
		for i, hash := range d.Block.Hashes {
			if k := of[state.RangeOf(hash)]; k >= 0 {
				if parts[k].Block == nil {
					parts[k].Block = state.NewBlock()
				}
				parts[k].Block.AddFrom(d.Block, i)
			}
		}
	}
	for k := range parts {
		parts[k].Side = d.Side
	}
}

func (s *Splitter) groups(from *state.Groups, of *[state.KeyRanges]int16, part func(k int16) **state.Groups) {
	texts := len(from.Text) > 0
	for f, hash := range from.Hashes {
		k := of[state.RangeOf(hash)]
		if k < 0 {
			continue
		}
		g := part(k)
		if *g == nil {
			*g = &state.Groups{Width: from.Width}
		}
		if texts { // the words of texts are known to the aggregates alone
			mergeEntry(s.op, *g, from.Tags[f], from, uint32(f), from.Key(uint32(f)))
		} else {
			(*g).Take(from, uint32(f))
		}
	}
}

// What a written delivery has.
const (
	hasGroups = 1 << iota
	hasPartly
	hasRows
	hasBlock
	isRight // of a join
)

// AppendTo writes the delivery: a byte that says what is in it, and each behind its length.
func (d *Delivery) AppendTo(b []byte) []byte {
	at := len(b)
	b = append(b, byte(d.Side)*isRight)
	put := func(what byte, write func(b []byte) []byte) {
		b[at] |= what
		from := len(b)
		b = write(append(b, 0, 0, 0, 0))
		le.PutUint32(b[from:], uint32(len(b)-from-4))
	}
	if d.Groups != nil {
		put(hasGroups, d.Groups.AppendTo)
	}
	if d.Partly != nil {
		put(hasPartly, d.Partly.AppendTo)
	}
	if d.Rows != nil {
		put(hasRows, func(b []byte) []byte { return appendRows(b, d.Rows) })
	}
	if d.Block != nil {
		put(hasBlock, d.Block.AppendTo)
	}
	return b
}

// ReadDelivery reads what AppendTo wrote, which is all of b.
func ReadDelivery(o *plan.Op, b []byte) (d Delivery, err error) {
	if len(b) == 0 {
		return d, errors.New("state is cut short")
	}
	has := b[0]
	b = b[1:]
	if has&isRight != 0 {
		d.Side = 1
	}
	r := &reader{b: b, step: o.Step}
	part := func(what byte, read func(b []byte) error) {
		if has&what == 0 || r.err != nil {
			return
		}
		n := r.word()
		if n > len(r.b) {
			r.cut()
		}
		if r.err == nil {
			part := r.b[:n]
			r.b = r.b[n:]
			r.err = read(part)
		}
	}
	part(hasGroups, func(b []byte) (err error) { d.Groups, _, err = state.ReadEntries(b); return err })
	part(hasPartly, func(b []byte) (err error) { d.Partly, _, err = state.ReadEntries(b); return err })
	part(hasRows, func(b []byte) error {
		in := &reader{b: b, step: o.Step}
		d.Rows = in.rows(o.Input.Fields)
		return in.err
	})
	part(hasBlock, func(b []byte) (err error) { d.Block, err = state.ReadBlock(b); return err })
	return d, r.err
}

// Due gives the least watermark at which the step gives something, and MinTime where that cannot be told.
func (w *Window) Due() int64 {
	if !w.foresees() {
		return types.MinTime
	}
	if k, ok := w.due(types.MinTime); ok {
		return w.Op.Agg.ClosesAt(k)
	}
	return types.MaxTime
}

// foresees says whether results are given at the end of windows alone, and only for what is in them.
func (w *Window) foresees() bool {
	t := w.Op.Agg
	return t.Report == plan.OnClose && !t.Corrects() && t.EmptyFor == 0
}

// DueOf gives the least watermark at which a step of this kind, whose windows have been closed up to a watermark, has
// to give something of a delivery.
func DueOf(o *plan.Op, d *Delivery, closed int64) int64 {
	if o.Kind != plan.Window || o.Agg.Kind != plan.Fixed || !(&Window{results: results{Op: o}}).foresees() {
		return types.MinTime
	}
	due, at := types.MaxTime, types.MinTime
	for _, g := range []*state.Groups{d.Groups, d.Partly} {
		if g == nil {
			continue
		}
		for _, tag := range g.Tags {
			if tag == at {
				continue
			}
			at = tag
			for k := o.Agg.First(tag); k <= o.Agg.Last(tag); k++ {
				if c := o.Agg.ClosesAt(k); c > closed {
					due = min(due, c)
					break
				}
			}
		}
	}
	return due
}
