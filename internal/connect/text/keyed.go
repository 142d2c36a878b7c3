package text

import (
	"fmt"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// Layout says what of the rows is the messages' keys, what their headers, and what their values.
type Layout struct {
	Key     []int // columns that make the key, joined with |; nil: there are no keys
	Headers []int // columns that become headers, and are left out of the value
	values  []int // the rest; nil: all columns
	fields  []types.Field
}

// LayoutOf reads the options KEY and HEADERS of a sink.
func LayoutOf(out *plan.Op) (l Layout, err error) {
	l.fields = out.Fields
	if l.Key, err = columnsOf(out, "key"); err != nil {
		return l, err
	}
	if l.Headers, err = columnsOf(out, "headers"); err != nil || l.Headers == nil {
		return l, err
	}
	l.values = []int{}
	for i, f := range out.Fields {
		if slices.Contains(l.Headers, i) {
			if f.Type.IsNested() {
				return l, fmt.Errorf("HEADERS names %q, which is %s: headers are texts", f.Name, f.Type)
			}
			continue
		}
		l.values = append(l.values, i)
	}
	if len(l.values) == 0 {
		return l, fmt.Errorf("HEADERS names all columns, and none is left for the value")
	}
	return l, nil
}

func columnsOf(out *plan.Op, option string) (cols []int, err error) {
	row := types.Type{Kind: types.Row, Fields: out.Fields}
	for _, k := range out.Sink.Options.Names(option) {
		i := row.FieldIndex(k)
		if i < 0 {
			return nil, fmt.Errorf("%s names %q, which the rows do not have", map[string]string{"key": "KEY", "headers": "HEADERS"}[option], k)
		}
		cols = append(cols, i)
	}
	return cols, nil
}

// Values are the columns of the messages' values.
func (l Layout) Values() []types.Field {
	if l.values == nil {
		return l.fields
	}
	var out []types.Field
	for _, i := range l.values {
		out = append(out, l.fields[i])
	}
	return out
}

// Sides are what the messages of a payload have beside their values; a payload has them in Any.
type Sides struct {
	Keys    [][]byte // nil where there are none
	Headers [][]byte // as format.AppendHeaders writes them; nil where there are none
}

// SidesOf gives those of a payload.
func SidesOf(p flow.Payload) Sides {
	s, _ := p.Any.(Sides)
	return s
}

// Keyed is a flow.Encoder of messages with keys and headers. A row that is taken back is an empty message.
type Keyed struct {
	*Lines
	layout Layout
	sides  Sides
}

// NewKeyed makes an encoder; enc writes the columns of the values.
func NewKeyed(enc format.Encoder, l Layout) *Keyed {
	return &Keyed{Lines: NewLines(enc, ""), layout: l}
}

// Add implements flow.Encoder.
func (e *Keyed) Add(b *column.Batch) {
	if b.Change != nil {
		b = e.latest(b)
	}
	value := b
	if e.layout.values != nil {
		view := *b
		view.Cols = make([]*column.Vector, len(e.layout.values))
		for i, c := range e.layout.values {
			view.Cols[i] = b.Cols[c]
		}
		value = &view
	}
	for i := range b.N {
		if b.Change != nil && b.Change[i].Takes() {
			e.Lines.AddEmpty()
		} else {
			e.Lines.AddRow(value, i)
		}
	}
	for i := range b.N {
		if e.layout.Key != nil {
			k := []byte{}
			for c, col := range e.layout.Key {
				if c > 0 {
					k = append(k, '|')
				}
				k = types.AppendText(k, b.Cols[col].Value(i))
			}
			e.sides.Keys = append(e.sides.Keys, k)
		}
		if e.layout.Headers != nil {
			e.sides.Headers = append(e.sides.Headers, format.AppendHeaders(nil, len(e.layout.Headers), func(k int) (string, []byte) {
				col := e.layout.Headers[k]
				name := e.layout.fields[col].Name
				if b.Cols[col].Null(i) {
					return name, nil
				}
				return name, types.AppendText([]byte{}, b.Cols[col].Value(i))
			}))
		}
	}
}

// latest leaves out what replacements take back: the new row has the same key.
func (e *Keyed) latest(b *column.Batch) *column.Batch {
	var sel []uint32
	for i, c := range b.Change {
		if c != column.Replaced {
			sel = append(sel, uint32(i))
		}
	}
	out := &column.Batch{}
	b.Gather(sel, out)
	return out
}

// Take implements flow.Encoder.
func (e *Keyed) Take() flow.Payload {
	p := e.Lines.Take()
	p.Any, e.sides = e.sides, Sides{}
	return p
}
