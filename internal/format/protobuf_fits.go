package format

import (
	"fmt"

	"google.golang.org/protobuf/reflect/protoreflect"
)

// ProtobufFits says why messages of the schema written cannot be read by the schema read: a number that means another field or another type there, or a
// message that is gone.
func ProtobufFits(written, read *Schema) error {
	var files [2]protoreflect.FileDescriptor
	for i, s := range []*Schema{written, read} {
		p, err := protoFormat{}.program(s)
		if err != nil {
			return err
		}
		files[i] = p.(*protoProgram).file
	}
	var fits func(w, r protoreflect.MessageDescriptors) error
	fits = func(w, r protoreflect.MessageDescriptors) error {
		for i := range w.Len() {
			was := w.Get(i)
			is := r.ByName(was.Name())
			if is == nil {
				return fmt.Errorf("the message %s is gone", was.FullName())
			}
			for k := range was.Fields().Len() {
				f := was.Fields().Get(k)
				g := is.Fields().ByNumber(f.Number())
				if g == nil {
					continue
				}
				if f.Kind() != g.Kind() || f.IsList() != g.IsList() || f.IsMap() != g.IsMap() || f.Message() != nil && !f.IsMap() && f.Message().FullName() != g.Message().FullName() {
					return fmt.Errorf("the field %d of %s is %s %s, and was %s %s", f.Number(), was.FullName(), g.Kind(), g.Name(), f.Kind(), f.Name())
				}
			}
			if err := fits(was.Messages(), is.Messages()); err != nil {
				return err
			}
		}
		return nil
	}
	return fits(files[0].Messages(), files[1].Messages())
}
