package text

import (
	"fmt"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// KeyColumns gives the columns that make the messages' key.
func KeyColumns(out *plan.Op) (key []int, err error) {
	row := types.Type{Kind: types.Row, Fields: out.Fields}
	for _, k := range out.Sink.Options.Names("key") {
		i := row.FieldIndex(k)
		if i < 0 {
			return nil, fmt.Errorf("KEY names %q, which the rows do not have", k)
		}
		key = append(key, i)
	}
	return key, nil
}

// Keyed is a flow.Encoder of messages with keys: a payload has them in Any, as [][]byte, or nil where there are none. A row that is taken back is an
// empty message.
type Keyed struct {
	*Lines
	key  []int
	keys [][]byte
}

// NewKeyed makes an encoder; key has the columns of the key, nil where there is none.
func NewKeyed(enc format.Encoder, key []int) *Keyed {
	return &Keyed{Lines: NewLines(enc, ""), key: key}
}

// Add implements flow.Encoder.
func (e *Keyed) Add(b *column.Batch) {
	if b.Change != nil {
		b = e.latest(b)
	}
	for i := range b.N {
		if b.Change != nil && b.Change[i].Takes() {
			e.Lines.AddEmpty()
		} else {
			e.Lines.AddRow(b, i)
		}
	}
	if e.key == nil {
		return
	}
	for i := range b.N {
		k := []byte{}
		for c, col := range e.key {
			if c > 0 {
				k = append(k, '|')
			}
			k = types.AppendText(k, b.Cols[col].Value(i))
		}
		e.keys = append(e.keys, k)
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
	p.Any, e.keys = e.keys, nil
	return p
}
