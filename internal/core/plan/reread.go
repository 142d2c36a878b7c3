package plan

import (
	"slices"

	"fiume/internal/core/eval"
	"fiume/internal/core/types"
)

// Reread gives a stream of what a sink has written, with the columns that it is written with: it reads from address at the place of the sink, with those of
// the sink's options that its sources have, too.
func (c *Catalog) Reread(k *Sink, address string, fields []types.Field) *Stream {
	place := c.Places[k.Place]
	s := &Stream{Traits: place.Traits, Name: k.Name, Time: -1, Ahead: -1, Idle: -1, Place: k.Place, Address: address, Via: k.Via, Schemas: k.Schemas, Options: Options{}, Seam: NoSeam}
	for _, f := range fields {
		f.NotNull = false // what else was written there is not known
		s.shown = append(s.shown, shownColumn{Field: f, expr: eval.Column(len(s.Columns), f.Type)})
		s.Columns = append(s.Columns, f)
	}
	for _, spec := range place.Source {
		o, ok := k.Options[spec.Name]
		if same := slices.ContainsFunc(place.Sink, func(x OptionSpec) bool { return x.Name == spec.Name && x.Kind == spec.Kind }); ok && same {
			s.Options[spec.Name] = o
		}
	}
	return s
}
