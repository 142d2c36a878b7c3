package format

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"fiume/internal/core/types"

	"github.com/twmb/avro"
)

// Messages of Avro (specification 1.12, "Binary Encoding") are read straight into columns: a schema is made into takes, one for each of its types in the
// place where it stands, which fill a column or pass over. The package that reads the schemas has a decoder of its own, into maps, which is some ten
// times as slow.

// avroNode is a type of a schema. Types that refer to themselves are circles.
type avroNode struct {
	kind      string // the specification's name
	logical   string
	precision int
	scale     int
	fields    []avroField
	item      *avroNode // of an array or a map
	branches  []*avroNode
	symbols   []string
	size      int  // of fixed
	empty     bool // its values take no bytes
}

type avroField struct {
	name       string
	node       *avroNode
	hasDefault bool
}

// avroProgram is a schema that messages are read by.
type avroProgram struct {
	root  *avroNode
	print [10]byte // the marker and fingerprint of a message in the single-object encoding
}

// avroFormat is the format avro.
type avroFormat struct{}

func (avroFormat) program(s *Schema) (any, error) {
	schema, err := parseAvro(s)
	if err != nil {
		return nil, err
	}
	p := &avroProgram{}
	if p.root, err = avroTree(schema); err != nil {
		return nil, err
	}
	if p.root.kind != "record" {
		return nil, fmt.Errorf("the schema is one of %s, and rows are records", p.root.kind)
	}
	f := schema.Fingerprint(avro.NewRabin())
	slices.Reverse(f) // it is written with its low byte first
	copy(p.print[:], append([]byte{0xc3, 0x01}, f...))
	return p, nil
}

// parseAvro reads the text of a schema, and those that it refers to.
func parseAvro(s *Schema) (*avro.Schema, error) {
	var cache avro.SchemaCache
	for _, p := range s.Parts {
		if _, err := cache.Parse(p.Text); err != nil {
			return nil, fmt.Errorf("the Avro schema %s cannot be read: %w", p.Name, err)
		}
	}
	schema, err := cache.Parse(s.Text)
	if err != nil {
		return nil, fmt.Errorf("the Avro schema cannot be read: %w", err)
	}
	return schema, nil
}

// AvroFits says why messages of the schema written cannot be read by the schema read.
func AvroFits(written, read *Schema) error {
	w, err := parseAvro(written)
	if err != nil {
		return err
	}
	r, err := parseAvro(read)
	if err != nil {
		return err
	}
	return avro.CheckCompatibility(w, r)
}

func avroTree(schema *avro.Schema) (*avroNode, error) {
	root := schema.Root()
	t := &avroNames{by: map[string]*avroNode{}}
	return t.node(root.ExpandReferences())
}

type avroNames struct{ by map[string]*avroNode }

func (t *avroNames) node(s *avro.SchemaNode) (*avroNode, error) {
	full := s.Name
	if s.Namespace != "" && !strings.Contains(full, ".") {
		full = s.Namespace + "." + full
	}
	n := &avroNode{kind: s.Type, logical: s.LogicalType, precision: s.Precision, scale: s.Scale, symbols: s.Symbols, size: s.Size}
	switch s.Type {
	case "record", "error":
		n.kind = "record"
		t.by[full] = n
		empty := true
		for i := range s.Fields {
			f := &s.Fields[i]
			k, err := t.node(&f.Type)
			if err != nil {
				return nil, err
			}
			n.fields = append(n.fields, avroField{f.Name, k, f.HasDefault})
			empty = empty && k.empty
		}
		n.empty = empty
	case "enum", "fixed":
		t.by[full] = n
		n.empty = s.Type == "fixed" && s.Size == 0
	case "array", "map":
		of := s.Items
		if s.Type == "map" {
			of = s.Values
		}
		k, err := t.node(of)
		if err != nil {
			return nil, err
		}
		n.item = k
	case "union":
		for i := range s.Branches {
			k, err := t.node(&s.Branches[i])
			if err != nil {
				return nil, err
			}
			n.branches = append(n.branches, k)
		}
	case "null":
		n.empty = true
	case "boolean", "int", "long", "float", "double", "string", "bytes":
	default:
		if known := t.by[s.Type]; known != nil {
			return known, nil
		}
		for name, known := range t.by { // a name without its namespace
			if strings.HasSuffix(name, "."+s.Type) {
				return known, nil
			}
		}
		return nil, fmt.Errorf("the Avro schema has no type %q", s.Type)
	}
	return n, nil
}

// columns implements schemaFormat.
func (avroFormat) columns(program any) (out []types.Field, err error) {
	root := program.(*avroProgram).root
	for _, f := range root.fields {
		t, null := avroType(f.node, nil)
		out = append(out, types.Field{Name: f.name, Type: t, NotNull: !null && !f.hasDefault})
	}
	if len(out) == 0 {
		err = errors.New("the schema's record has no fields")
	}
	return out, err
}

// avroType gives the type of a column for the values of a schema's type, and whether they may be NULL. What no type holds is JSON.
func avroType(n *avroNode, above []*avroNode) (t types.Type, null bool) {
	if slices.Contains(above, n) {
		return types.Of(types.JSON), false // it has itself in it
	}
	above = append(above, n)
	switch n.kind {
	case "boolean":
		return types.Of(types.Boolean), false
	case "int", "long":
		switch {
		case n.logical == "date":
			return types.Of(types.Date), false
		case strings.HasPrefix(n.logical, "time-"):
			return types.Of(types.Time), false
		case strings.HasPrefix(n.logical, "timestamp-"), strings.HasPrefix(n.logical, "local-timestamp-"):
			return types.Of(types.Timestamp), false
		case n.kind == "int":
			return types.Of(types.Int), false
		}
		return types.Of(types.BigInt), false
	case "float", "double":
		return types.Of(types.Double), false
	case "string", "enum":
		return types.Of(types.Varchar), false
	case "bytes", "fixed":
		if n.logical == "decimal" && n.precision <= types.MaxPrecision {
			return types.DecimalOf(n.precision, n.scale), false
		}
		return types.Of(types.Varbinary), false
	case "record":
		t.Kind = types.Row
		for _, f := range n.fields {
			k, _ := avroType(f.node, above)
			t.Fields = append(t.Fields, types.Field{Name: f.name, Type: k})
		}
		if len(t.Fields) == 0 {
			return types.Of(types.JSON), false
		}
		return t, false
	case "array", "map":
		k, _ := avroType(n.item, above)
		if n.kind == "map" {
			return types.MapOf(types.Of(types.Varchar), k), false
		}
		return types.ArrayOf(k), false
	case "union":
		var of []types.Type
		for _, b := range n.branches {
			if b.kind == "null" {
				null = true
				continue
			}
			k, _ := avroType(b, above)
			if !slices.ContainsFunc(of, k.Equal) {
				of = append(of, k)
			}
		}
		if len(of) == 2 && of[0].IsWhole() && of[1].IsWhole() {
			return types.Of(types.BigInt), null
		}
		if len(of) == 1 {
			return of[0], null
		}
	}
	return types.Of(types.JSON), null || n.kind == "null"
}
