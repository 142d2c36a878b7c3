package format

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"fiume/internal/core/types"

	"github.com/bufbuild/protocompile"
	"google.golang.org/protobuf/reflect/protoreflect"
)

// Messages of Protobuf are read straight into columns, field by field as they come on the wire. A field that is not there is NULL where the schema can tell
// that (optional, a oneof, a message) and else its type's zero, as the language guide says of proto3. Of a field that is there several times the last
// counts; elements add up. Fields that the schema does not know are passed over.

// protoFormat is the format protobuf.
type protoFormat struct {
	message string // its name, or ""
	framed  bool   // messages name their schema, and say which of its messages they are
}

// protoProgram is a schema that messages are read by.
type protoProgram struct {
	file    protoreflect.FileDescriptor
	message protoreflect.MessageDescriptor // the one that is asked for, or the first
	asked   bool
}

const protoFile = "the schema"

// program implements schemaFormat.
func (f protoFormat) program(s *Schema) (any, error) {
	texts := map[string]string{protoFile: s.Text}
	for _, p := range s.Parts {
		texts[p.Name] = p.Text
	}
	c := protocompile.Compiler{Resolver: protocompile.WithStandardImports(&protocompile.SourceResolver{Accessor: func(path string) (io.ReadCloser, error) {
		if t, ok := texts[path]; ok {
			return io.NopCloser(strings.NewReader(t)), nil
		}
		return nil, fmt.Errorf("%s is not there", path)
	}})}
	files, err := c.Compile(context.Background(), protoFile)
	if err != nil {
		return nil, fmt.Errorf("the Protobuf schema cannot be read: %w", err)
	}
	p := &protoProgram{file: files[0], asked: f.message != ""}
	if p.file.Messages().Len() == 0 {
		return nil, errors.New("the Protobuf schema has no message")
	}
	p.message = p.file.Messages().Get(0)
	if f.message != "" {
		p.message = messageNamed(p.file.Messages(), f.message)
		if p.message == nil {
			return nil, fmt.Errorf("the Protobuf schema has no message %q", f.message)
		}
	}
	return p, nil
}

func messageNamed(list protoreflect.MessageDescriptors, name string) protoreflect.MessageDescriptor {
	for i := range list.Len() {
		m := list.Get(i)
		if string(m.FullName()) == name || string(m.Name()) == name {
			return m
		}
		if in := messageNamed(m.Messages(), name); in != nil {
			return in
		}
	}
	return nil
}

// columns implements schemaFormat.
func (protoFormat) columns(program any) (out []types.Field, err error) {
	m := program.(*protoProgram).message
	for i := range m.Fields().Len() {
		f := m.Fields().Get(i)
		out = append(out, types.Field{Name: string(f.Name()), Type: protoType(f, nil)})
	}
	if len(out) == 0 {
		err = fmt.Errorf("the message %s has no fields", m.Name())
	}
	return out, err
}

const timestampName = "google.protobuf.Timestamp"

// protoType gives the type of a column for the values of a field.
func protoType(f protoreflect.FieldDescriptor, above []protoreflect.FullName) types.Type {
	if f.IsMap() {
		return types.MapOf(protoSingle(f.MapKey(), above), protoSingle(f.MapValue(), above))
	}
	if f.IsList() {
		return types.ArrayOf(protoSingle(f, above))
	}
	return protoSingle(f, above)
}

func protoSingle(f protoreflect.FieldDescriptor, above []protoreflect.FullName) types.Type {
	switch f.Kind() {
	case protoreflect.BoolKind:
		return types.Of(types.Boolean)
	case protoreflect.Int32Kind, protoreflect.Sint32Kind, protoreflect.Sfixed32Kind:
		return types.Of(types.Int)
	case protoreflect.Uint32Kind, protoreflect.Fixed32Kind, protoreflect.Int64Kind, protoreflect.Sint64Kind, protoreflect.Sfixed64Kind:
		return types.Of(types.BigInt)
	case protoreflect.Uint64Kind, protoreflect.Fixed64Kind:
		return types.DecimalOf(20, 0)
	case protoreflect.FloatKind, protoreflect.DoubleKind:
		return types.Of(types.Double)
	case protoreflect.BytesKind:
		return types.Of(types.Varbinary)
	case protoreflect.MessageKind, protoreflect.GroupKind:
		m := f.Message()
		if m.FullName() == timestampName {
			return types.Of(types.Timestamp)
		}
		if slices.Contains(above, m.FullName()) || m.Fields().Len() == 0 {
			return types.Of(types.JSON) // it has itself in it
		}
		t := types.Type{Kind: types.Row}
		for i := range m.Fields().Len() {
			k := m.Fields().Get(i)
			t.Fields = append(t.Fields, types.Field{Name: string(k.Name()), Type: protoType(k, append(slices.Clip(above), m.FullName()))})
		}
		return t
	}
	return types.Of(types.Varchar) // string, enum
}
