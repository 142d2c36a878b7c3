package step

import (
	"fmt"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// TakeOver writes a snapshot of an operator's task anew, as the operator that takes it over keeps its rows. Columns that
// the rows have not are NULL.
func TakeOver(t *plan.Takeover, snapshot []byte) (out []byte, err error) {
	r := &reader{b: snapshot, step: t.Old.Step}
	recode := func(side int, was, is *plan.Op) *recoder {
		return &recoder{from: t.Columns[side], was: state.NewLayout(was.Input.Fields, was.Kept), is: state.NewLayout(is.Input.Fields, is.Kept)}
	}
	switch t.New.Kind {
	case plan.Join:
		out = r.through(out, 16)
		out = r.chains(out, recode(0, t.Old.Input, t.New.Input), 0)
		out = r.chains(out, recode(1, t.Old.Right, t.New.Right), 0)
	case plan.AsOf:
		out = r.through(out, 16)
		out = r.chains(out, recode(0, t.Old.Input, t.New.Input), waitingHead)
		out = r.chains(out, recode(1, t.Old.Right, t.New.Right), versionHead)
	case plan.Settle:
		out = r.chains(out, recode(0, t.Old.Input, t.New.Input), 0)
	case plan.Keep:
		n := r.count()
		out = le.AppendUint32(out, uint32(n))
		out = r.through(out, 8*n)
		if r.err == nil {
			out, err = recode(0, t.Old.Input, t.New.Input).table(out, r.b)
			r.b = nil
		}
	case plan.Unique, plan.Over:
		out = r.through(out, 8)
		rows := r.rows(t.Old.Input.Fields)
		out = appendRows(out, widened(rows, t, 0))
		if r.err == nil && t.Old.Kind == plan.Over && !looksBack(t.Old.Order) { // the rows that frames reach back to
			x := newOver(t.Old)
			dir, acc := r.groups(x.width), r.groups(t.Old.Order.Words())
			hist := r.rows(x.fields)
			if r.err == nil {
				out = appendRows(acc.AppendTo(dir.AppendTo(out)), widened(hist, t, len(x.fields)-x.inputs))
			}
		}
		out = append(out, r.b...)
		r.b = nil
	default: // keys and aggregates: their form is part of what they mean
		return snapshot, nil
	}
	if err == nil {
		err = r.err
	}
	if err == nil && len(r.b) > 0 {
		err = fmt.Errorf("the state of %s has %d bytes too many", t.Old.Step, len(r.b))
	}
	return out, err
}

// through passes n bytes on as they are.
func (r *reader) through(out []byte, n int) []byte {
	if r.err != nil || len(r.b) < n {
		r.cut()
		return out
	}
	out = append(out, r.b[:n]...)
	r.b = r.b[n:]
	return out
}

// chains writes rows that are kept by key; head is how many bytes stand before the columns of each.
func (r *reader) chains(out []byte, c *recoder, head int) []byte {
	if r.err != nil {
		return out
	}
	rows := state.NewChains(0)
	rest, err := state.ReadRows(r.b, func(hash uint64, key []byte, row state.Row, cols []byte) {
		if len(key) == 0 {
			hash = 0
		}
		if len(cols) < head || !c.was.Valid(cols[head:]) {
			r.cut()
			return
		}
		c.buf = c.row(append(c.buf[:0], cols[:head]...), cols[head:])
		rows.Get(rows.Add(hash, key, row.Time, row.Pos, row.From, c.buf)).Matches = row.Matches
	})
	if err != nil {
		r.err = err
		return out
	}
	r.b = rest
	return rows.AppendTo(out)
}

// recoder writes rows of one layout in another.
type recoder struct {
	was, is *state.Layout
	from    []int // for each column of is its place in was, or -1
	vecs    column.Batch
	buf     []byte
}

// row appends a row.
func (c *recoder) row(dst, row []byte) []byte {
	for k, col := range c.is.Columns() {
		for len(c.vecs.Cols) <= col {
			c.vecs.Cols = append(c.vecs.Cols, nil)
		}
		if c.from[k] < 0 {
			continue // a column that a batch has not is written as NULL
		}
		if c.vecs.Cols[col] == nil {
			c.vecs.Cols[col] = &column.Vector{}
		}
		c.was.Gather(c.from[k], [][]byte{row}, c.vecs.Cols[col])
	}
	return c.is.Append(dst, &c.vecs, 0)
}

// table writes the rows of a table.
func (c *recoder) table(out, b []byte) ([]byte, error) {
	var part state.TablePart
	var bad error
	err := state.ReadTable(b, func(row state.TableRow) {
		if !c.was.Valid(row.Columns) {
			bad = fmt.Errorf("a row of the table is damaged")
			return
		}
		c.buf = c.row(c.buf[:0], row.Columns)
		row.Columns = c.buf
		part.Put(row)
	})
	if err == nil {
		err = bad
	}
	return part.AppendTo(out), err
}

// widened gives rows of the old input as the new one has them; more columns follow those of the input.
func widened(rows *column.Batch, t *plan.Takeover, more int) *column.Batch {
	out := *rows
	was, is := len(t.Old.Input.Fields), len(t.New.Input.Fields)
	out.Cols = make([]*column.Vector, is+more)
	for k, from := range t.Columns[0] {
		if from >= 0 {
			out.Cols[k] = rows.Cols[from]
		} else if rows.N > 0 && t.Added(0, k) {
			out.Cols[k] = column.New(t.New.Input.Fields[k].Type)
			for range rows.N {
				out.Cols[k].Append(types.Value{})
			}
		}
	}
	copy(out.Cols[is:], rows.Cols[was:])
	return &out
}
