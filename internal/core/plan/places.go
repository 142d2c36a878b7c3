package plan

import (
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
		}
		out = append(out, []string{strings.ToUpper(n), yes(p.Source != nil), yes(p.Table != nil), yes(p.Sink != nil), via, p.About})
	}
	return out
}

// OptionColumns are the columns of DESCRIBE PLACE.
var OptionColumns = []string{"option", "of a", "takes", "about"}

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
			row := []string{strings.ToUpper(s.Name), role, s.takes(), s.Doc}
			same := slices.IndexFunc(rows, func(r []string) bool { return r[0] == row[0] && r[2] == row[2] && r[3] == row[3] })
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

// takes says what may stand behind an option.
func (s OptionSpec) takes() string {
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
