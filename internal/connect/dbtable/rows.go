package dbtable

import (
	"encoding/binary"
	"errors"
	"math"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// encoder writes rows so that they can be spooled: for each row what it does, then its values.
type encoder struct {
	sink *Sink
	buf  []byte
	rows int
}

// NewEncoder implements flow.Sink.
func (s *Sink) NewEncoder([]types.Field) (flow.Encoder, error) { return &encoder{sink: s}, nil }

const (
	rowPut    = 1
	rowRemove = 2 // only its key matters
)

// Add implements flow.Encoder.
func (e *encoder) Add(b *column.Batch) {
	for i := range b.N {
		kind := byte(rowPut)
		if b.Change != nil && e.sink.takes {
			if b.Change[i] == column.Replaced && e.sink.exact {
				continue // its replacement takes its place
			}
			if b.Change[i].Takes() {
				kind = rowRemove
			}
		}
		e.buf = append(e.buf, kind)
		for _, v := range b.Cols {
			e.buf = appendValue(e.buf, v, i)
		}
		e.rows++
	}
}

// Forms of a value.
const (
	formNull  = iota
	formText  // length as a varint, bytes
	formInt   // 8 bytes
	formFloat // 8 bytes
	formTrue
	formFalse
	formTime // 8 bytes, microseconds
)

// appendValue writes a value as one of the driver's. Intervals go as microseconds, rows as JSON.
func appendValue(b []byte, v *column.Vector, i int) []byte {
	if v == nil || v.Null(i) {
		return append(b, formNull)
	}
	text := func(s []byte) []byte {
		return append(binary.AppendUvarint(append(b, formText), uint64(len(s))), s...)
	}
	switch v.Type.Kind {
	case types.Varchar, types.JSON, types.Varbinary:
		return text(v.Text(i))
	case types.Double:
		return le.AppendUint64(append(b, formFloat), math.Float64bits(v.F[i]))
	case types.Boolean:
		if v.B[i] {
			return append(b, formTrue)
		}
		return append(b, formFalse)
	case types.Timestamp:
		return le.AppendUint64(append(b, formTime), uint64(v.I[i]))
	case types.Date:
		return text(types.AppendDate(nil, v.I[i]))
	case types.Decimal, types.Time:
		return text(types.AppendText(nil, v.Value(i)))
	case types.Row, types.Array, types.Map:
		enc := format.NewJSONEncoder([]types.Field{{Name: "v", Type: v.Type}})
		j := enc.Append(nil, &column.Batch{Cols: []*column.Vector{v}}, i)
		return text(j[len(`{"v":`) : len(j)-1])
	}
	return le.AppendUint64(append(b, formInt), uint64(v.I[i]))
}

var errForm = errors.New("spooled rows are cut short")

// readValue reads a value back and gives what follows it.
func readValue(b []byte) (v any, rest []byte, err error) {
	if len(b) == 0 || (b[0] == formInt || b[0] == formFloat || b[0] == formTime) && len(b) < 9 {
		return nil, nil, errForm
	}
	form := b[0]
	b = b[1:]
	switch form {
	case formText:
		n, k := binary.Uvarint(b)
		if k <= 0 || uint64(len(b)-k) < n {
			return nil, nil, errForm
		}
		return string(b[k : k+int(n)]), b[k+int(n):], nil
	case formInt:
		return int64(le.Uint64(b)), b[8:], nil
	case formFloat:
		return math.Float64frombits(le.Uint64(b)), b[8:], nil
	case formTime:
		return time.UnixMicro(int64(le.Uint64(b))).UTC(), b[8:], nil
	case formTrue, formFalse:
		return form == formTrue, b, nil
	}
	return nil, b, nil
}

// valueOf gives a value as one of the driver's.
func valueOf(v *column.Vector, i int) any {
	x, _, _ := readValue(appendValue(nil, v, i))
	return x
}

// rowsOf reads rows back. removes are the numbers of those that are to be removed.
func rowsOf(b []byte, width int) (values []any, removes []int, rows int, err error) {
	for len(b) > 0 {
		if b[0] == rowRemove {
			removes = append(removes, rows)
		}
		b = b[1:]
		for range width {
			var v any
			if v, b, err = readValue(b); err != nil {
				return nil, nil, 0, err
			}
			values = append(values, v)
		}
		rows++
	}
	return values, removes, rows, nil
}

// Held is how many bytes wait to be taken.
func (e *encoder) Held() int { return len(e.buf) }

// Take implements flow.Encoder.
func (e *encoder) Take() flow.Payload {
	p := flow.Payload{Rows: e.rows, Bytes: e.buf}
	e.buf, e.rows = nil, 0
	return p
}
