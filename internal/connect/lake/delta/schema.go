package delta

import (
	"encoding/json"
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"
)

// schema is a row, as the log says it.
type schema struct {
	Type   string  `json:"type"` // struct
	Fields []field `json:"fields"`
}

// field is a column, or a part of a row in one.
type field struct {
	Name     string                     `json:"name"`
	Type     json.RawMessage            `json:"type"` // a name, or what is nested
	Nullable bool                       `json:"nullable"`
	Metadata map[string]json.RawMessage `json:"metadata"`
}

// nested is a type that has others in it.
type nested struct {
	Type         string          `json:"type"` // struct, array or map
	Fields       []field         `json:"fields,omitempty"`
	Element      json.RawMessage `json:"elementType,omitempty"`
	ContainsNull *bool           `json:"containsNull,omitempty"`
	Key          json.RawMessage `json:"keyType,omitempty"`
	Value        json.RawMessage `json:"valueType,omitempty"`
	ValueNull    *bool           `json:"valueContainsNull,omitempty"`
}

func parseSchema(text string) (*schema, error) {
	var s schema
	if err := json.Unmarshal([]byte(text), &s); err != nil {
		return nil, fmt.Errorf("what the log says of them cannot be read: %w", err)
	}
	if s.Type != "struct" {
		return nil, fmt.Errorf("the log says that a row is a %q", s.Type)
	}
	return &s, nil
}

func (s *schema) arrow() (*arrow.Schema, error) {
	fields, err := arrowFields(s.Fields)
	if err != nil {
		return nil, err
	}
	return arrow.NewSchema(fields, nil), nil
}

func arrowFields(fields []field) (out []arrow.Field, err error) {
	for _, f := range fields {
		t, err := arrowType(f.Type, 0)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		out = append(out, arrow.Field{Name: f.Name, Type: t, Nullable: f.Nullable})
	}
	return out, nil
}

// plain are the types that are a name.
var plain = map[string]arrow.DataType{
	"string": arrow.BinaryTypes.String, "binary": arrow.BinaryTypes.Binary, "boolean": arrow.FixedWidthTypes.Boolean,
	"byte": arrow.PrimitiveTypes.Int8, "short": arrow.PrimitiveTypes.Int16, "integer": arrow.PrimitiveTypes.Int32, "long": arrow.PrimitiveTypes.Int64,
	"float": arrow.PrimitiveTypes.Float32, "double": arrow.PrimitiveTypes.Float64, "date": arrow.FixedWidthTypes.Date32,
	"timestamp": &arrow.TimestampType{Unit: arrow.Microsecond, TimeZone: "UTC"}, "timestamp_ntz": &arrow.TimestampType{Unit: arrow.Microsecond},
}

// mostNested is how deep types may lie in one another.
const mostNested = 64

func arrowType(b json.RawMessage, depth int) (arrow.DataType, error) {
	if depth > mostNested {
		return nil, fmt.Errorf("types lie in one another more than %d deep", mostNested)
	}
	var name string
	if json.Unmarshal(b, &name) == nil {
		if t := plain[name]; t != nil {
			return t, nil
		}
		var p, s int32
		if n, err := fmt.Sscanf(name, "decimal(%d,%d)", &p, &s); err == nil && n == 2 && p >= 1 && p <= 38 && s >= 0 && s <= p {
			return &arrow.Decimal128Type{Precision: p, Scale: s}, nil
		}
		return nil, fmt.Errorf("the type %q is not known", name)
	}
	var n nested
	if err := json.Unmarshal(b, &n); err != nil {
		return nil, fmt.Errorf("the type %.80s cannot be read", b)
	}
	null := func(b *bool) bool { return b == nil || *b }
	switch n.Type {
	case "struct":
		var fields []arrow.Field
		for _, f := range n.Fields {
			t, err := arrowType(f.Type, depth+1)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", f.Name, err)
			}
			fields = append(fields, arrow.Field{Name: f.Name, Type: t, Nullable: f.Nullable})
		}
		return arrow.StructOf(fields...), nil
	case "array":
		e, err := arrowType(n.Element, depth+1)
		if err != nil {
			return nil, err
		}
		return arrow.ListOfField(arrow.Field{Name: "element", Type: e, Nullable: null(n.ContainsNull)}), nil
	case "map":
		k, err := arrowType(n.Key, depth+1)
		if err != nil {
			return nil, err
		}
		v, err := arrowType(n.Value, depth+1)
		if err != nil {
			return nil, err
		}
		m := arrow.MapOf(k, v)
		m.SetItemNullable(null(n.ValueNull))
		return m, nil
	}
	return nil, fmt.Errorf("the type %q is not known", n.Type)
}

func schemaText(s *arrow.Schema) (string, error) {
	fields, err := fieldsOf(s.Fields())
	if err != nil {
		return "", err
	}
	b, err := json.Marshal(schema{"struct", fields})
	return string(b), err
}

func fieldsOf(fields []arrow.Field) ([]field, error) {
	out := []field{}
	for _, f := range fields {
		t, err := typeText(f.Type)
		if err != nil {
			return nil, fmt.Errorf("the column %s: %w", f.Name, err)
		}
		out = append(out, field{f.Name, t, f.Nullable, map[string]json.RawMessage{}})
	}
	return out, nil
}

// typeText says a type as the log does.
func typeText(t arrow.DataType) (json.RawMessage, error) {
	for name, p := range plain {
		if arrow.TypeEqual(p, t) {
			return json.Marshal(name)
		}
	}
	yes := true
	switch t := t.(type) {
	case *arrow.Decimal128Type:
		return json.Marshal(fmt.Sprintf("decimal(%d,%d)", t.Precision, t.Scale))
	case *arrow.StructType:
		fields, err := fieldsOf(t.Fields())
		if err != nil {
			return nil, err
		}
		return json.Marshal(schema{"struct", fields})
	case *arrow.MapType: // before lists, which it is too
		k, err := typeText(t.KeyType())
		if err != nil {
			return nil, err
		}
		v, err := typeText(t.ItemType())
		if err != nil {
			return nil, err
		}
		return json.Marshal(nested{Type: "map", Key: k, Value: v, ValueNull: &yes})
	case *arrow.ListType:
		e, err := typeText(t.Elem())
		if err != nil {
			return nil, err
		}
		return json.Marshal(nested{Type: "array", Element: e, ContainsNull: &yes})
	case *arrow.Time64Type:
		return nil, fmt.Errorf("a table of the format delta has no type for a time of day: write CAST(… AS VARCHAR)")
	}
	return nil, fmt.Errorf("a table of the format delta has no type for %s", t)
}
