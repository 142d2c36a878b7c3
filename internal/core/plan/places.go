package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"fiume/internal/core/sql"
)

// PlaceColumns are the columns of SHOW PLACES.
var PlaceColumns = []string{"place", "stream", "table", "sink", "via", "about"}

// PlaceRows lists the kinds of places: what each can be, and whether it needs an endpoint.
func (c *Catalog) PlaceRows() [][]string {
	yes := func(b bool) string {
		if b {
			return "yes"
		}
		return "-"
	}
	out := [][]string{}
	for _, n := range slices.Sorted(maps.Keys(c.Places)) {
		p := c.Places[n]
		via := "-"
		if p.Endpoint {
			via = "an endpoint"
			if p.Here {
				via = "or an endpoint"
			}
		}
		out = append(out, []string{strings.ToUpper(n), yes(p.Source != nil), yes(p.Table != nil), yes(p.Sink != nil), via, p.About})
	}
	return out
}

// OptionColumns are the columns of DESCRIBE PLACE.
var OptionColumns = []string{"option", "of a", "takes", "default", "about"}

// OptionRows lists the options that a kind of place takes, and says what it is. The error names another one that may be meant.
func (c *Catalog) OptionRows(name string) (about string, rows [][]string, err error) {
	p, ok := c.Places[strings.ToLower(name)]
	if !ok {
		hint := sql.DidYouMean(strings.ToLower(name), slices.Sorted(maps.Keys(c.Places)))
		if hint == "" {
			hint = "SHOW PLACES lists them"
		}
		return "", nil, fmt.Errorf("%s is no place; %s", strings.ToUpper(name), hint)
	}
	rows = [][]string{}
	add := func(role string, specs []OptionSpec) {
		for _, s := range specs {
			row := []string{strings.ToUpper(s.Name), role, s.Takes(), cmp.Or(s.Default, "-"), s.Doc}
			same := slices.IndexFunc(rows, func(r []string) bool { return r[0] == row[0] && slices.Equal(r[2:], row[2:]) })
			if same >= 0 {
				rows[same][1] += ", " + role
				continue
			}
			rows = append(rows, row)
		}
	}
	add("endpoint", p.Options)
	add("stream", p.Source)
	add("table", p.Table)
	add("sink", p.Sink)
	slices.SortStableFunc(rows, func(a, b []string) int { return strings.Compare(a[0], b[0]) })
	if p.Example != "" {
		about = "\n\n" + p.Example
	}
	return p.About + about, rows, nil
}

// Takes says what may stand behind an option.
func (s OptionSpec) Takes() string {
	switch s.Kind {
	case NumberOption:
		return fmt.Sprintf("a number from %g on", s.Least)
	case ShareOption:
		return "a share from 0 to 1"
	case DurationOption:
		return "a length of time"
	case NamesOption:
		return "(name, …)"
	case FlagOption:
		return "true, false"
	case EndpointOption:
		return "an endpoint"
	}
	if len(s.Words) > 0 {
		return strings.Join(s.Words, ", ")
	}
	return "a word or text"
}

// PlaceEntry describes a kind of place, for forms.
type PlaceEntry struct {
	Place    string        `json:"place"`
	About    string        `json:"about"`
	Example  string        `json:"example" doc:"statements that declare what it can be"`
	Roles    []string      `json:"roles" doc:"what can be declared over it: stream, table, sink, endpoint"`
	Endpoint bool          `json:"endpoint" doc:"whether streams, tables and sinks are behind an endpoint of the kind"`
	Here     bool          `json:"here" doc:"whether they may do without one"`
	Options  []PlaceOption `json:"options"`
}

// PlaceOption describes an option.
type PlaceOption struct {
	Name    string   `json:"name"`
	Role    string   `json:"role" doc:"of what it is one: stream, table, sink, endpoint"`
	Kind    string   `json:"kind" enum:"word,number,duration,share,names,flag,endpoint"`
	Takes   string   `json:"takes" doc:"in words"`
	Words   []string `json:"words" doc:"those that it takes; none: any text"`
	Default string   `json:"default" doc:"in words; nothing where there is none"`
	About   string   `json:"about"`
}

var optionKinds = [...]string{WordOption: "word", NumberOption: "number", DurationOption: "duration", ShareOption: "share", NamesOption: "names", FlagOption: "flag", EndpointOption: "endpoint"}

// PlaceEntries describes the kinds of places, in the order of their names.
func (c *Catalog) PlaceEntries() []PlaceEntry {
	out := []PlaceEntry{}
	for _, n := range slices.Sorted(maps.Keys(c.Places)) {
		p := c.Places[n]
		e := PlaceEntry{Place: strings.ToUpper(n), About: p.About, Example: p.Example, Roles: []string{}, Endpoint: p.Endpoint && (p.Source != nil || p.Table != nil || p.Sink != nil), Here: p.Here, Options: []PlaceOption{}}
		add := func(role string, there bool, specs []OptionSpec) {
			if !there {
				return
			}
			e.Roles = append(e.Roles, role)
			for _, s := range specs {
				e.Options = append(e.Options, PlaceOption{strings.ToUpper(s.Name), role, optionKinds[s.Kind], s.Takes(), append([]string{}, s.Words...), s.Default, s.Doc})
			}
		}
		add("stream", p.Source != nil, p.Source)
		add("table", p.Table != nil, p.Table)
		add("sink", p.Sink != nil, p.Sink)
		add("endpoint", p.Endpoint, p.Options)
		out = append(out, e)
	}
	return out
}
