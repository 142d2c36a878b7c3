package plan

import (
	"fmt"
	"slices"
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// Evolves says why a declaration cannot take the place of this one under the jobs that use it; nothing where it can. Columns
// may be added that can be NULL, NOT NULL may be given up, and computed columns may be computed in another way, for then every
// message is read as before and what jobs hold still fits. Where and from what rows are read, and what time they have, stays.
func (s *Stream) Evolves(to *Stream) (reasons []string) {
	no := func(format string, args ...any) { reasons = append(reasons, fmt.Sprintf(format, args...)) }
	via := func(x *Stream) string {
		if x.Via == nil {
			return ""
		}
		return " via " + x.Via.Name
	}
	from := func(x *Stream) string {
		if h := x.History; h != nil {
			return fmt.Sprintf("history %s '%s'%s, then %s '%s'%s from %d on", strings.ToUpper(h.Place), h.Address, via(h), strings.ToUpper(x.Place), x.Address, via(x), x.Seam)
		}
		return fmt.Sprintf("%s '%s'%s", strings.ToUpper(x.Place), x.Address, via(x))
	}
	if from(s) != from(to) {
		no("it would read %s in place of %s, where the positions of jobs mean nothing", from(to), from(s))
	}
	for _, name := range slices.Compact(slices.Sorted(slices.Values(append(keys(s.Options), keys(to.Options)...)))) {
		if was, is := optionText(s.Options, name), optionText(to.Options, name); was != is {
			no("its option %s would be %s in place of %s", strings.ToUpper(name), is, was)
		}
	}
	if was, is := s.timeText(), to.timeText(); was != is {
		no("its event time would be %s in place of %s, and other rows would be late", is, was)
	}
	for _, c := range s.shown {
		i := slices.IndexFunc(to.shown, func(x shownColumn) bool { return x.Name == c.Name })
		computed := c.expr.Op != eval.OpColumn
		switch {
		case computed: // the jobs that read it say whether they can do without
		case i < 0:
			no("the column %q would be gone", c.Name)
		case to.shown[i].Type.String() != c.Type.String():
			no("the column %q would be %s in place of %s", c.Name, to.shown[i].Type, c.Type)
		case to.shown[i].NotNull && !c.NotNull:
			no("the column %q would be NOT NULL, and what is held may have NULL there", c.Name)
		}
	}
	behind := true
	for i, c := range to.Columns {
		known := slices.ContainsFunc(s.Columns, func(x types.Field) bool { return x.Name == c.Name })
		if !known && c.NotNull {
			no("the new column %q is NOT NULL, and the rows from before do not have it", c.Name)
		}
		behind = behind && (known == (i < len(s.Columns)))
	}
	if to.Options.Word("format", "") == "csv" && !to.Options.Flag("header", true) && !behind {
		no("without a header columns are found by their places: new ones stand behind the others")
	}
	return reasons
}

// Evolves is that of the stream below, and looks at the key, too.
func (t *Table) Evolves(to *Table) []string {
	reasons := t.Stream.Evolves(to.Stream)
	key := func(t *Table) (out []string) {
		for _, k := range t.Key {
			out = append(out, t.shown[k].Name)
		}
		return out
	}
	if was, is := strings.Join(key(t), ", "), strings.Join(key(to), ", "); was != is {
		reasons = append(reasons, fmt.Sprintf("its key would be (%s) in place of (%s)", is, was))
	}
	return reasons
}

func optionText(o Options, name string) string {
	x, ok := o[name]
	if !ok {
		return "left out"
	}
	return sql.PrintOption(x)
}

// timeText says what the event time is.
func (s *Stream) timeText() string {
	if s.Arrival() {
		return "the time of arrival"
	}
	out := fmt.Sprintf("%s DELAY %s", s.TimeIs, sql.DurationText(s.Delay))
	if s.TimeOf != nil {
		out += " computed as " + s.TimeOf.KeyOver(func(i int) string { return s.Columns[i].Name })
	}
	return out
}
