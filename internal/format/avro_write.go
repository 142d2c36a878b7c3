package format

import (
	"encoding/binary"
	"fmt"
	"math"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/types"

	"github.com/twmb/avro"
)

// avroSchemaOf makes the schema of rows. The record keeps the name that an older schema gives it.
func avroSchemaOf(columns []types.Field, older *Schema) (*Schema, error) {
	name, space := "Row", ""
	if older != nil {
		if s, err := parseAvro(older); err == nil {
			if r := s.Root(); r.Type == "record" {
				name, space = r.Name, r.Namespace
			}
		}
	}
	root := avro.SchemaNode{Type: "record", Name: name, Namespace: space}
	for _, c := range columns {
		f, err := avroFieldOf(c, name)
		if err != nil {
			return nil, err
		}
		root.Fields = append(root.Fields, f)
	}
	s, err := root.Schema()
	if err != nil {
		return nil, fmt.Errorf("the columns make no Avro schema: %w", err)
	}
	return &Schema{Format: "avro", Text: s.String()}, nil
}

func avroFieldOf(c types.Field, within string) (avro.SchemaField, error) {
	if !plainAvroName(c.Name) {
		return avro.SchemaField{}, fmt.Errorf("the column %q cannot be written as Avro: names there have letters, digits and _ alone, and begin with no digit; give it another name with AS", c.Name)
	}
	n, err := avroNodeOf(c.Type, within+"_"+c.Name)
	return avro.SchemaField{Name: c.Name, Type: orNull(n), HasDefault: true}, err
}

func orNull(n avro.SchemaNode) avro.SchemaNode {
	return avro.SchemaNode{Type: "union", Branches: []avro.SchemaNode{{Type: "null"}, n}}
}

func plainAvroName(s string) bool {
	for i, c := range []byte(s) {
		if c != '_' && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (i == 0 || c < '0' || c > '9') {
			return false
		}
	}
	return s != ""
}

// avroNodeOf gives the schema of a type. What Avro has no word for becomes text.
func avroNodeOf(t types.Type, name string) (n avro.SchemaNode, err error) {
	switch t.Kind {
	case types.Boolean:
		n.Type = "boolean"
	case types.Int:
		n.Type = "int"
	case types.BigInt:
		n.Type = "long"
	case types.Double:
		n.Type = "double"
	case types.Date:
		n.Type, n.LogicalType = "int", "date"
	case types.Time:
		n.Type, n.LogicalType = "long", "time-micros"
	case types.Timestamp:
		n.Type, n.LogicalType = "long", "timestamp-micros"
	case types.Decimal:
		n.Type, n.LogicalType, n.Precision, n.Scale = "bytes", "decimal", int(t.Precision), int(t.Scale)
	case types.Varbinary:
		n.Type = "bytes"
	case types.Row:
		n.Type, n.Name = "record", name
		for _, f := range t.Fields {
			k, err := avroFieldOf(f, name)
			if err != nil {
				return n, err
			}
			n.Fields = append(n.Fields, k)
		}
	case types.Array:
		n.Type = "array"
		k, err := avroNodeOf(t.Elem(), name)
		if err != nil {
			return n, err
		}
		k = orNull(k)
		n.Items = &k
	case types.Map:
		if t.Fields[0].Type.Kind != types.Varchar {
			return n, fmt.Errorf("the keys of a MAP are texts in Avro, and those of %s are %s", strings.TrimPrefix(name, "Row_"), t.Fields[0].Type)
		}
		n.Type = "map"
		k, err := avroNodeOf(t.Elem(), name)
		if err != nil {
			return n, err
		}
		k = orNull(k)
		n.Values = &k
	default:
		n.Type = "string"
	}
	return n, nil
}

// avroEncoder writes rows by the schema that avroSchemaOf makes of their columns.
type avroEncoder struct{ fields []types.Field }

func newAvroEncoder(fields []types.Field) (*avroEncoder, error) {
	_, err := avroSchemaOf(fields, nil)
	return &avroEncoder{fields}, err
}

// Header implements Encoder.
func (e *avroEncoder) Header() []byte { return nil }

// Append implements Encoder.
func (e *avroEncoder) Append(dst []byte, b *column.Batch, i int) []byte {
	for c := range e.fields {
		dst = appendAvro(dst, b.Cols[c], i)
	}
	return dst
}

// appendAvro writes a value that may be NULL.
func appendAvro(dst []byte, v *column.Vector, i int) []byte {
	if v.Null(i) {
		return append(dst, 0)
	}
	dst = append(dst, 2)
	switch v.Type.Kind {
	case types.Boolean:
		if v.B[i] {
			return append(dst, 1)
		}
		return append(dst, 0)
	case types.Double:
		return binary.LittleEndian.AppendUint64(dst, math.Float64bits(v.F[i]))
	case types.Int, types.BigInt, types.Date, types.Time, types.Timestamp:
		return binary.AppendVarint(dst, v.I[i])
	case types.Decimal:
		return appendAvroText(dst, twosComplement(v.D[i]))
	case types.Varchar, types.Varbinary, types.JSON:
		return appendAvroText(dst, v.Text(i))
	case types.Row:
		for _, k := range v.Kids {
			dst = appendAvro(dst, k, i)
		}
		return dst
	case types.Array, types.Map:
		at := v.S[i]
		if at.Len > 0 {
			dst = binary.AppendVarint(dst, int64(at.Len))
			for j := int(at.Off); j < int(at.Off+at.Len); j++ {
				if v.Type.Kind == types.Map {
					dst = appendAvroText(dst, v.Kids[0].Text(j))
				}
				dst = appendAvro(dst, v.Kids[len(v.Kids)-1], j)
			}
		}
		return append(dst, 0)
	}
	return appendAvroText(dst, types.AppendText(nil, v.Value(i)))
}

func appendAvroText(dst, b []byte) []byte {
	return append(binary.AppendVarint(dst, int64(len(b))), b...)
}

// twosComplement writes a whole number, high byte first, in as few bytes as hold it.
func twosComplement(n types.Num) []byte {
	var b [16]byte
	binary.BigEndian.PutUint64(b[:], uint64(n.HighBits()))
	binary.BigEndian.PutUint64(b[8:], n.LowBits())
	from := 0
	for from < 15 && (b[from] == 0 && b[from+1] < 0x80 || b[from] == 0xff && b[from+1] >= 0x80) {
		from++
	}
	return b[from:]
}
