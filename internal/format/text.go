package format

import (
	"fmt"
	"unicode/utf8"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// textDecoder makes each message the value of the one column.
type textDecoder struct {
	used bool
	vec  *column.Vector
}

func newTextDecoder(s *plan.Stream, used *plan.Use) (*textDecoder, error) {
	if len(s.Columns) != 1 || s.Columns[0].Type.Kind != types.Varchar {
		return nil, fmt.Errorf("FORMAT text fills one column, a VARCHAR; %s has %d columns", s.Name, len(s.Columns))
	}
	_, ok := used.Needs(0)
	return &textDecoder{ok, column.New(s.Columns[0].Type)}, nil
}

// Decode implements Decoder.
func (d *textDecoder) Decode(data []byte, msgs []flow.Message, out *column.Batch) []flow.Reject {
	var rejects []flow.Reject
	d.vec.Resize(len(msgs))
	d.vec.Data = data
	out.Time, out.Pos, out.Stamp = out.Time[:0], out.Pos[:0], nil
	row := 0
	for i, m := range msgs {
		if d.used && !utf8.Valid(data[m.Off:m.Off+m.Len]) {
			rejects = append(rejects, flow.Reject{Message: i, Reason: "the text is no valid UTF-8"})
			continue
		}
		d.vec.S[row] = column.Str{Off: m.Off, Len: m.Len}
		out.Time, out.Pos = append(out.Time, m.At), append(out.Pos, m.Pos)
		row++
	}
	out.N, out.Cols = row, []*column.Vector{nil}
	if d.used {
		out.Cols[0] = d.vec
	}
	return rejects
}

// textEncoder writes the value of the one column; ends of lines in it become blanks, and NULL nothing.
type textEncoder struct{}

// Header implements Encoder.
func (textEncoder) Header() []byte { return nil }

// Append implements Encoder.
func (textEncoder) Append(dst []byte, b *column.Batch, i int) []byte {
	if b.Cols[0].Null(i) {
		return dst
	}
	for _, c := range b.Cols[0].Text(i) {
		if c == '\n' || c == '\r' {
			c = ' '
		}
		dst = append(dst, c)
	}
	return dst
}
