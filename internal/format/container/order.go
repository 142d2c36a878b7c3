package container

import (
	"bytes"
	"encoding/json"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/twmb/avro"
)

// shape is the order of the fields of a row, and of the rows in it. Decoders give rows as maps, which have none.
type shape struct {
	names   []string
	fields  map[string]*shape
	element *shape // of arrays and maps
}

// avroShape gives the shape of an Avro schema; nil where there are no fields.
func avroShape(n *avro.SchemaNode) *shape {
	if n == nil {
		return nil
	}
	switch {
	case n.Fields != nil:
		s := &shape{fields: map[string]*shape{}}
		for _, f := range n.Fields {
			s.names = append(s.names, f.Name)
			s.fields[f.Name] = avroShape(&f.Type)
		}
		return s
	case n.Items != nil:
		return &shape{element: avroShape(n.Items)}
	case n.Values != nil:
		return &shape{element: avroShape(n.Values)}
	}
	for i := range n.Branches { // of a union that with NULL is usual
		if s := avroShape(&n.Branches[i]); s != nil {
			return s
		}
	}
	return nil
}

// arrowShape gives the shape of fields.
func arrowShape(fields []arrow.Field) *shape {
	s := &shape{fields: map[string]*shape{}}
	for _, f := range fields {
		s.names = append(s.names, f.Name)
		s.fields[f.Name] = arrowTypeShape(f.Type)
	}
	return s
}

func arrowTypeShape(t arrow.DataType) *shape {
	switch t := t.(type) {
	case *arrow.StructType:
		return arrowShape(t.Fields())
	case arrow.ListLikeType:
		return &shape{element: arrowTypeShape(t.Elem())}
	}
	return nil
}

// append writes a value as JSON, its fields in the order of the shape and those that it does not name behind them.
func (s *shape) append(b *bytes.Buffer, v any) error {
	if s == nil {
		x, err := json.Marshal(v)
		b.Write(x)
		return err
	}
	switch v := v.(type) {
	case map[string]any:
		var names []string
		for _, n := range s.names {
			if _, ok := v[n]; ok {
				names = append(names, n)
			}
		}
		var others []string
		for n := range v {
			if _, ok := s.fields[n]; !ok {
				others = append(others, n)
			}
		}
		slices.Sort(others)
		b.WriteByte('{')
		for i, n := range append(names, others...) {
			if i > 0 {
				b.WriteByte(',')
			}
			name, err := json.Marshal(n)
			if err != nil {
				return err
			}
			b.Write(append(name, ':'))
			of := s.fields[n]
			if s.fields == nil {
				of = s.element
			}
			if err := of.append(b, v[n]); err != nil {
				return err
			}
		}
		b.WriteByte('}')
		return nil
	case []any:
		b.WriteByte('[')
		for i, x := range v {
			if i > 0 {
				b.WriteByte(',')
			}
			if err := s.element.append(b, x); err != nil {
				return err
			}
		}
		b.WriteByte(']')
		return nil
	}
	return (*shape)(nil).append(b, v)
}

// line writes a row.
func (s *shape) line(v any) ([]byte, error) {
	var b bytes.Buffer
	err := s.append(&b, v)
	return b.Bytes(), err
}

// reordered writes a row of JSON anew.
func (s *shape) reordered(row []byte) ([]byte, error) {
	d := json.NewDecoder(bytes.NewReader(row))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, err
	}
	return s.line(v)
}
