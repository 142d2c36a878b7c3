package plan

import (
	"fmt"
	"slices"
	"strings"

	"fiume/internal/core/sql"
)

// The options of statements and places: what they are called, what they take, and how they are checked.

// OptionKind says what value an option takes.
type OptionKind uint8

const (
	WordOption     OptionKind = iota // one of Words, or any text where Words is empty
	NumberOption                     // a whole number from Least up
	DurationOption                   // a duration
	ShareOption                      // a number from 0 to 1
	NamesOption                      // names in parentheses
	FlagOption                       // true or false
	EndpointOption                   // the name of an endpoint that has schemas
)

// OptionSpec describes an option of a place.
type OptionSpec struct {
	Name    string
	Kind    OptionKind
	Words   []string
	Least   float64
	Doc     string
	Default string // in words; "": none
}

// Options are the checked options of a declaration.
type Options map[string]sql.Option

// Word gives a word or text, or the default.
func (o Options) Word(name, def string) string {
	if x, ok := o[name]; ok {
		return x.Word
	}
	return def
}

// Number gives a whole number, or the default.
func (o Options) Number(name string, def int) int {
	if x, ok := o[name]; ok && x.Number != nil {
		return int(*x.Number)
	}
	return def
}

// Share gives a number from 0 to 1, or the default.
func (o Options) Share(name string, def float64) float64 {
	if x, ok := o[name]; ok && x.Number != nil {
		return *x.Number
	}
	return def
}

// Duration gives microseconds, or the default.
func (o Options) Duration(name string, def int64) int64 {
	if x, ok := o[name]; ok && x.Duration != nil {
		return *x.Duration
	}
	return def
}

// Names gives a list of names, or nil.
func (o Options) Names(name string) (out []string) {
	for _, n := range o[name].Names {
		out = append(out, n.Text)
	}
	return out
}

// Flag gives a flag, or the default.
func (o Options) Flag(name string, def bool) bool {
	if x, ok := o[name]; ok {
		return x.Word == "true"
	}
	return def
}

// CheckOptions checks options against a list.
func CheckOptions(errs *sql.Errors, opts []sql.Option, specs []OptionSpec, what string) Options {
	out := Options{}
	for _, o := range opts {
		i := slices.IndexFunc(specs, func(s OptionSpec) bool { return s.Name == o.Name })
		if i < 0 {
			var names []string
			for _, s := range specs {
				names = append(names, strings.ToUpper(s.Name))
			}
			hint := sql.DidYouMean(strings.ToUpper(o.Name), names)
			if hint == "" {
				hint = "it takes " + strings.Join(names, ", ")
				if len(names) == 0 {
					hint = "it takes no options"
				}
			}
			errs.Add(sql.UnknownOption, o.Span, hint, "%s has no option %s", what, strings.ToUpper(o.Name))
			continue
		}
		s := specs[i]
		bad := func(want string) {
			errs.Add(sql.BadOption, o.Span, "", "the option %s takes %s", strings.ToUpper(s.Name), want)
		}
		switch s.Kind {
		case WordOption:
			if o.Word == "" || len(s.Words) > 0 && !slices.Contains(s.Words, strings.ToLower(o.Word)) {
				want := "a text"
				if len(s.Words) > 0 {
					want = "one of " + strings.Join(s.Words, ", ")
				}
				bad(want)
				continue
			}
		case EndpointOption:
			if o.Word == "" {
				bad("the name of an endpoint")
				continue
			}
		case FlagOption:
			if o.Word != "true" && o.Word != "false" {
				bad("true or false")
				continue
			}
		case NumberOption:
			if o.Number == nil || *o.Number != float64(int(*o.Number)) || *o.Number < s.Least {
				bad(fmt.Sprintf("a whole number from %g up", s.Least))
				continue
			}
		case ShareOption:
			if o.Number == nil || !(*o.Number >= 0 && *o.Number <= 1) {
				bad("a share from 0 to 1, such as 0.01")
				continue
			}
		case DurationOption:
			if o.Duration == nil {
				bad("a duration, such as 5 SECONDS")
				continue
			}
		case NamesOption:
			if o.Names == nil {
				bad("names in parentheses")
				continue
			}
		}
		out[o.Name] = o
	}
	return out
}

// Takes says whether a list has an option.
func Takes(specs []OptionSpec, name string) bool {
	return slices.ContainsFunc(specs, func(s OptionSpec) bool { return s.Name == name })
}
