package format

import (
	"fmt"
	"math"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/types"

	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/reflect/protoreflect"
)

// protoSchemaOf makes the schema of rows. Columns keep the numbers that an older schema gives them; those that have come get new ones.
func protoSchemaOf(columns []types.Field, older *Schema) (*Schema, error) {
	name, space := "Row", ""
	numbers, next := map[string]int{}, 1
	if older != nil {
		p, err := protoFormat{}.program(older)
		if err != nil {
			return nil, err
		}
		m := p.(*protoProgram).message
		name, space = string(m.Name()), string(p.(*protoProgram).file.Package())
		for i := range m.Fields().Len() {
			f := m.Fields().Get(i)
			numbers[string(f.Name())] = int(f.Number())
			next = max(next, int(f.Number())+1)
		}
	}
	var b strings.Builder
	b.WriteString("syntax = \"proto3\";\n")
	if space != "" {
		b.WriteString("package " + space + ";\n")
	}
	b.WriteString("import \"google/protobuf/timestamp.proto\";\n")
	if err := protoWrite(&b, name, columns, numbers, next, ""); err != nil {
		return nil, err
	}
	return &Schema{Format: "protobuf", Text: b.String()}, nil
}

// protoWrite writes a message, with those of the ROWs in it.
func protoWrite(b *strings.Builder, name string, columns []types.Field, numbers map[string]int, next int, indent string) error {
	b.WriteString(indent + "message " + name + " {\n")
	for _, c := range columns {
		if !plainAvroName(c.Name) {
			return fmt.Errorf("the column %q cannot be written as Protobuf: names there have letters, digits and _ alone, and begin with no digit; give it another name with AS", c.Name)
		}
		number, ok := numbers[c.Name]
		if !ok {
			number = next
			next++
			if next == 19000 {
				next = 20000 // reserved
			}
		}
		t, before := c.Type, "optional "
		switch t.Kind {
		case types.Array:
			t, before = t.Elem(), "repeated "
		case types.Map:
			t = t.Elem()
		}
		word, err := protoWord(t, c.Name)
		if err != nil {
			return err
		}
		if t.Kind == types.Row {
			if err := protoWrite(b, word, t.Fields, nil, 1, indent+"  "); err != nil {
				return err
			}
		}
		if c.Type.Kind == types.Map {
			key, err := protoWord(c.Type.Fields[0].Type, c.Name)
			if err != nil || key == "double" || strings.Contains(key, ".") || key == "bytes" || c.Type.Fields[0].Type.Kind == types.Row {
				return fmt.Errorf("the keys of a MAP are texts or whole numbers in Protobuf, and those of %s are %s", c.Name, c.Type.Fields[0].Type)
			}
			word, before = "map<"+key+", "+word+">", ""
		}
		fmt.Fprintf(b, "%s  %s%s %s = %d;\n", indent, before, word, c.Name, number)
	}
	b.WriteString(indent + "}\n")
	return nil
}

// protoWord gives the word for a type. What Protobuf has no word for becomes text.
func protoWord(t types.Type, name string) (string, error) {
	switch t.Kind {
	case types.Boolean:
		return "bool", nil
	case types.Int:
		return "sint32", nil
	case types.BigInt:
		return "sint64", nil
	case types.Double:
		return "double", nil
	case types.Timestamp:
		return timestampName, nil
	case types.Varbinary:
		return "bytes", nil
	case types.Row:
		return "Row_" + name, nil
	case types.Array, types.Map:
		return "", fmt.Errorf("an ARRAY or MAP in another one cannot be written as Protobuf: %s", name)
	}
	return "string", nil
}

// protoEncoder writes rows by the schema that protoSchemaOf makes of their columns.
type protoEncoder struct{ puts []protoPut }

type protoPut struct {
	number protowire.Number
	kids   []protoPut // of a ROW, or of the ROWs in an ARRAY or MAP
}

func newProtoEncoder(fields []types.Field, s *Schema) (*protoEncoder, error) {
	var err error
	if s == nil {
		if s, err = protoSchemaOf(fields, nil); err != nil {
			return nil, err
		}
	}
	p, err := protoFormat{}.program(s)
	if err != nil {
		return nil, err
	}
	return &protoEncoder{puts: protoPuts(fields, p.(*protoProgram).message)}, nil
}

func protoPuts(fields []types.Field, m protoreflect.MessageDescriptor) (out []protoPut) {
	for _, f := range fields {
		d := m.Fields().ByName(protoreflect.Name(f.Name))
		p := protoPut{number: d.Number()}
		t, of := f.Type, d
		switch t.Kind {
		case types.Map:
			t, of = t.Elem(), d.MapValue()
		case types.Array:
			t = t.Elem()
		}
		if t.Kind == types.Row {
			p.kids = protoPuts(t.Fields, of.Message())
		}
		out = append(out, p)
	}
	return out
}

// Header implements Encoder.
func (e *protoEncoder) Header() []byte { return nil }

// Append implements Encoder.
func (e *protoEncoder) Append(dst []byte, b *column.Batch, i int) []byte {
	return appendProto(dst, e.puts, b.Cols, i)
}

// appendProto writes the fields of a row.
func appendProto(dst []byte, puts []protoPut, cols []*column.Vector, i int) []byte {
	for c, p := range puts {
		v := cols[c]
		if v.Null(i) {
			continue
		}
		switch v.Type.Kind {
		case types.Array:
			at := v.S[i]
			for j := int(at.Off); j < int(at.Off+at.Len); j++ {
				dst = appendProtoValue(dst, p.number, p.kids, v.Kids[0], j)
			}
		case types.Map:
			at := v.S[i]
			for j := int(at.Off); j < int(at.Off+at.Len); j++ {
				in := appendProtoValue(nil, 1, nil, v.Kids[0], j)
				if !v.Kids[1].Null(j) {
					in = appendProtoValue(in, 2, p.kids, v.Kids[1], j)
				}
				dst = protowire.AppendBytes(protowire.AppendTag(dst, p.number, protowire.BytesType), in)
			}
		default:
			dst = appendProtoValue(dst, p.number, p.kids, v, i)
		}
	}
	return dst
}

// appendProtoValue writes a single value. A NULL in a list is its type's zero: lists on the wire have no others.
func appendProtoValue(dst []byte, number protowire.Number, kids []protoPut, v *column.Vector, i int) []byte {
	null := v.Null(i)
	bytes := func(b []byte) []byte {
		return protowire.AppendBytes(protowire.AppendTag(dst, number, protowire.BytesType), b)
	}
	switch v.Type.Kind {
	case types.Boolean:
		return protowire.AppendVarint(protowire.AppendTag(dst, number, protowire.VarintType), protowire.EncodeBool(!null && v.B[i]))
	case types.Int, types.BigInt:
		x := int64(0)
		if !null {
			x = v.I[i]
		}
		return protowire.AppendVarint(protowire.AppendTag(dst, number, protowire.VarintType), protowire.EncodeZigZag(x))
	case types.Double:
		x := 0.0
		if !null {
			x = v.F[i]
		}
		return protowire.AppendFixed64(protowire.AppendTag(dst, number, protowire.Fixed64Type), math.Float64bits(x))
	}
	if null {
		return bytes(nil)
	}
	switch v.Type.Kind {
	case types.Varchar, types.Varbinary, types.JSON:
		return bytes(v.Text(i))
	case types.Row:
		return bytes(appendProto(nil, kids, v.Kids, i))
	case types.Timestamp:
		s := floorDiv(v.I[i], 1e6)
		in := protowire.AppendVarint(protowire.AppendTag(nil, 1, protowire.VarintType), uint64(s))
		return bytes(protowire.AppendVarint(protowire.AppendTag(in, 2, protowire.VarintType), uint64((v.I[i]-s*1e6)*1000)))
	}
	return bytes(types.AppendText(nil, v.Value(i)))
}
