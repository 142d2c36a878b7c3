package format

import (
	"encoding/binary"
	"strconv"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// JSONEncoder writes rows as JSON objects. NULLs are written, instants as RFC 3339 in UTC, intervals
// as ISO 8601 durations, NaN and the infinities as text.
type JSONEncoder struct {
	fields []types.Field
	before [][]byte           // what stands before each value
	times  []types.TimeWriter // by column: instants in a column are close together
}

// NewJSONEncoder makes an encoder of rows with these columns.
func NewJSONEncoder(fields []types.Field) *JSONEncoder {
	e := &JSONEncoder{fields: fields, times: make([]types.TimeWriter, len(fields))}
	for i, f := range fields {
		sep := byte(',')
		if i == 0 {
			sep = '{'
		}
		e.before = append(e.before, append(types.AppendJSONString([]byte{sep}, []byte(f.Name)), ':'))
	}
	return e
}

// Header implements Encoder.
func (e *JSONEncoder) Header() []byte { return nil }

// Append implements Encoder.
func (e *JSONEncoder) Append(dst []byte, b *column.Batch, i int) []byte {
	for c, v := range b.Cols[:len(e.fields)] {
		dst = append(dst, e.before[c]...)
		dst = appendValue(dst, v, i, &e.times[c])
	}
	return append(dst, '}')
}

func appendValue(dst []byte, v *column.Vector, i int, times *types.TimeWriter) []byte {
	if v == nil || v.Null(i) {
		return append(dst, "null"...)
	}
	switch v.Type.Kind {
	case types.Varchar:
		return appendText(dst, v.Text(i))
	case types.Double:
		x := v.F[i]
		if x-x != 0 { // NaN or infinite
			return append(types.AppendDouble(append(dst, '"'), x), '"')
		}
		return types.AppendDouble(dst, x)
	case types.Boolean:
		return strconv.AppendBool(dst, v.B[i])
	case types.Int, types.BigInt:
		return strconv.AppendInt(dst, v.I[i], 10)
	case types.Timestamp:
		return append(times.Append(append(dst, '"'), v.I[i]), '"')
	case types.Date:
		return append(types.AppendDate(append(dst, '"'), v.I[i]), '"')
	case types.Interval:
		return append(types.AppendInterval(append(dst, '"'), v.I[i]), '"')
	case types.Decimal:
		return types.AppendDecimal(dst, v.D[i], int(v.Type.Scale))
	case types.JSON:
		return append(dst, v.Text(i)...)
	case types.Array:
		dst = append(dst, '[')
		for j := int(v.S[i].Off); j < int(v.S[i].Off+v.S[i].Len); j++ {
			if j > int(v.S[i].Off) {
				dst = append(dst, ',')
			}
			dst = appendValue(dst, v.Kids[0], j, times)
		}
		return append(dst, ']')
	case types.Varbinary, types.Time, types.Map:
		return types.AppendJSON(dst, v.Value(i), v.Type)
	case types.Row:
		sep := byte('{')
		for k, f := range v.Type.Fields {
			dst = append(types.AppendJSONString(append(dst, sep), []byte(f.Name)), ':')
			dst = appendValue(dst, v.Kids[k], i, times)
			sep = ','
		}
		return append(dst, '}')
	}
	return append(dst, "null"...)
}

// appendText writes a JSON string; most need no escape.
func appendText(dst, s []byte) []byte {
	t := s
	for len(t) >= 8 {
		if special(binary.LittleEndian.Uint64(t)) != 0 {
			return types.AppendJSONString(dst, s)
		}
		t = t[8:]
	}
	for _, c := range t {
		if c < 0x20 || c >= 0x80 || c == '"' || c == '\\' {
			return types.AppendJSONString(dst, s)
		}
	}
	dst = append(dst, '"')
	dst = append(dst, s...)
	return append(dst, '"')
}
