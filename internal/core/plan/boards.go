package plan

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// Board is a page of panels, each of which shows the rows of a query as they stand.
type Board struct {
	Name      string
	Title     string
	Since     int64 // how far back the queries begin, by when messages arrived, microseconds
	Rows      int   // the most rows that are kept of a panel
	Variables []Variable
	Panels    []Panel
}

// Variable is what whoever looks at a board chooses; panels read it as :name.
type Variable struct {
	Name    string
	Title   string
	SQL     string     // the query of what can be chosen, laid out: its first column, with the words of the second where there is one
	Type    types.Type // of the first column
	Default string     // what is chosen at first
	All     string     // what stands for all of them, which panels read as NULL; "": that cannot be chosen
	Column  string     // the first
	Words   string     // the second, where there is one and it is a text
}

// Of reads what somebody has chosen. "" is all of them.
func (v *Variable) Of(chosen string) (Value, error) {
	switch {
	case chosen == "" && v.All != "":
		return Value{v.Type, types.Value{Kind: types.Null}}, nil
	case v.Type.Kind == types.Varchar:
		return Value{v.Type, types.Value{Kind: types.Varchar, S: chosen}}, nil
	}
	n, err := strconv.ParseInt(chosen, 10, 64)
	if err != nil || v.Type.Kind == types.Int && int64(int32(n)) != n {
		return Value{}, fmt.Errorf("%q is no %s, which the variable %s takes", chosen, v.Type, v.Name)
	}
	return Value{v.Type, types.Value{Kind: v.Type.Kind, I: n}}, nil
}

// Panel is a part of a board.
type Panel struct {
	Title       string
	Kind        string        // one of sql.PanelKinds
	Words       string        // of a text
	Problem     string        // what is wrong with it; the board has errors
	SQL         string        // of the query, laid out; "": there is none. Variables stand in it as :name
	Reads       []string      // the variables that it reads, in the order of the board
	Columns     []types.Field // of the query
	Wide, High  int           // columns of the page, of 12, and rows
	Time        string        // column of the time
	Label       string        // column that tells lines, bars or rows apart
	Value       string        // column of the number
	State       string        // column of the state, of states
	Order       []string      // the states from least to most; nil: there is no such order
	Across, Up  string        // columns of the place on a plane, of maps
	Outline     []Spot        // what is drawn below the points of a map
	Top         int           // of bars and tables: how many; 0: all
	Bins        int           // of histograms; 0: as fits
	Stacked     bool
	Unit        string
	Least, Most *float64 // thresholds: at or below, at or above which a value stands out
}

// Spot is a place on a plane.
type Spot struct {
	Across float64 `json:"across"`
	Up     float64 `json:"up"`
}

// BoardWide is how many columns the page of a board has.
const BoardWide = 12

var boardOptions = []OptionSpec{
	{Name: "title", Kind: WordOption, Doc: "what stands over the board", Default: "its name"},
	{Name: "since", Kind: DurationOption, Doc: "how far back panels look, by when messages arrived", Default: "1 HOUR"},
	{Name: "rows", Kind: NumberOption, Least: 1, Doc: "how many rows are kept of a panel at most; the oldest go", Default: "2000"},
}

var variableOptions = []OptionSpec{
	{Name: "default", Kind: WordOption, Doc: "what is chosen at first, in quotes"},
	{Name: "all", Kind: WordOption, Doc: "the words for all of them, chosen at first where there is no DEFAULT; panels read it as NULL"},
}

// panelOptions are the options of a panel, and the kinds that have them.
var panelOptions = []struct {
	OptionSpec
	kinds string
}{
	{OptionSpec{Name: "wide", Kind: NumberOption, Least: 1, Doc: "columns of the page, of 12", Default: "6"}, "series bars number table heat histogram states map areas text"},
	{OptionSpec{Name: "high", Kind: NumberOption, Least: 1, Doc: "rows of the page", Default: "3"}, "series bars number table heat histogram states map areas text"},
	{OptionSpec{Name: "time", Kind: WordOption, Doc: "the column of the time", Default: "the first TIMESTAMP"}, "series heat states"},
	{OptionSpec{Name: "label", Kind: WordOption, Doc: "the column that tells lines, bars, points or rows of cells apart; of areas, the country's code of two or three letters", Default: "the first VARCHAR"}, "series bars heat states map areas"},
	{OptionSpec{Name: "value", Kind: WordOption, Doc: "the column of the number", Default: "the last number"}, "series bars number table heat histogram map areas"},
	{OptionSpec{Name: "state", Kind: WordOption, Doc: "the column of the state", Default: "the last VARCHAR"}, "states"},
	{OptionSpec{Name: "order", Kind: WordOption, Doc: "the states from least to most, as 'quiet, busy, full': they are drawn the darker the more"}, "states"},
	{OptionSpec{Name: "across", Kind: WordOption, Doc: "the column of the place from left to right, such as a longitude"}, "map"},
	{OptionSpec{Name: "up", Kind: WordOption, Doc: "the column of the place from below to above, such as a latitude"}, "map"},
	{OptionSpec{Name: "outline", Kind: WordOption, Doc: "a line below the points, as '8.1 45.9, 8.2 45.95, …' in the same numbers: across and up"}, "map"},
	{OptionSpec{Name: "top", Kind: NumberOption, Least: 1, Doc: "only so many, the largest"}, "bars table"},
	{OptionSpec{Name: "bins", Kind: NumberOption, Least: 2, Doc: "how many stretches the values are counted in, up to 200", Default: "as fits"}, "histogram"},
	{OptionSpec{Name: "stacked", Kind: FlagOption, Doc: "true: lines stand on one another", Default: "false"}, "series"},
	{OptionSpec{Name: "unit", Kind: WordOption, Doc: "what stands behind a number"}, "series bars number table heat histogram map areas"},
	{OptionSpec{Name: "above", Kind: NumberOption, Doc: "a value from here on stands out"}, "series bars number table map"},
	{OptionSpec{Name: "below", Kind: NumberOption, Doc: "a value up to here stands out"}, "series bars number table map"},
}

// PanelColumns are the options of panels that name a column.
var PanelColumns = []string{"time", "label", "value", "state", "across", "up"}

// BoardOptions and PanelOptions describe the options, for help.
func BoardOptions() []OptionSpec { return boardOptions }

// PanelOptions are the options of a kind of panel.
func PanelOptions(kind string) (out []OptionSpec) {
	for _, o := range panelOptions {
		if slices.Contains(strings.Fields(o.kinds), kind) {
			out = append(out, o.OptionSpec)
		}
	}
	return out
}

// MostPanels is how many panels a board has at most, MostVariables how many variables, and MostKept how many rows of each are kept.
const (
	MostPanels    = 60
	MostKept      = 50_000
	MostVariables = 12
	mostBins      = 200
)

// board checks a board.
func (c *Catalog) board(d *sql.CreateBoard, errs *sql.Errors) *Board {
	o := CheckOptions(errs, d.Options, boardOptions, "a board")
	b := &Board{Name: d.Name.Text, Title: o.Word("title", d.Name.Text), Since: o.Duration("since", types.Hour), Rows: o.Number("rows", 2000)}
	if b.Since < 0 {
		errs.Add(sql.BadOption, d.Options[0].Span, "", "SINCE is how far back the panels look")
	}
	if b.Rows > MostKept {
		errs.Add(sql.BadOption, d.Span, "", "a panel keeps up to %d rows", MostKept)
	}
	if len(d.Panels) > MostPanels {
		errs.Add(sql.WrongPlace, d.Panels[MostPanels].Span, "make two boards of it", "a board has up to %d panels", MostPanels)
		return b
	}
	if len(d.Variables) > MostVariables {
		errs.Add(sql.WrongPlace, d.Variables[MostVariables].Span, "", "a board has up to %d variables", MostVariables)
		return b
	}
	var wrong []string
	for i := range d.Variables {
		if v := c.variable(&d.Variables[i], errs); v != nil {
			b.Variables = append(b.Variables, *v)
		} else {
			wrong = append(wrong, d.Variables[i].Name.Text)
		}
	}
	for i := range d.Panels {
		before := len(errs.List)
		p := c.panel(b, wrong, &d.Panels[i], errs)
		if p == nil {
			p = &Panel{Title: d.Panels[i].Title.Value, Kind: d.Panels[i].Kind.Text, Wide: 6, High: 3}
			if len(errs.List) > before {
				p.Problem = errs.List[before].Message
			}
		}
		b.Panels = append(b.Panels, *p)
	}
	return b
}

// Board checks a board that is not to be kept. There may be one of its name. With errors it is there as far as it can be, with all panels.
func (c *Catalog) Board(d *sql.CreateBoard, errs *sql.Errors) *Board { return c.board(d, errs) }

// Values are those of a panel's variables, of what somebody has chosen by the variables' names; what is not there is as at first.
func (b *Board) Values(p *Panel, chosen map[string]string) (Values, error) {
	out := Values{}
	for i := range b.Variables {
		v := &b.Variables[i]
		if !slices.Contains(p.Reads, v.Name) {
			continue
		}
		text, ok := chosen[v.Name]
		if !ok {
			text = v.Default
		}
		value, err := v.Of(text)
		if err != nil {
			return nil, err
		}
		out[v.Name] = value
	}
	return out, nil
}

func (c *Catalog) variable(d *sql.Variable, errs *sql.Errors) *Variable {
	before := len(errs.List)
	o := CheckOptions(errs, d.Options, variableOptions, "a variable")
	v := &Variable{Name: d.Name.Text, Title: d.Name.Text, Default: o.Word("default", ""), All: o.Word("all", "")}
	if d.Title != nil {
		v.Title = d.Title.Value
	}
	endless(d.Query, "a variable", errs)
	if len(errs.List) > before {
		return nil
	}
	q := c.Standing(d.Query, Look{}, errs)
	if q == nil || len(errs.List) > before {
		return nil
	}
	fields := q.Outputs()[0].Fields
	v.SQL, v.Type, v.Column = sql.Print(d.Query), fields[0].Type, fields[0].Name
	if len(fields) > 1 && fields[1].Type.Kind == types.Varchar {
		v.Words = fields[1].Name
	}
	switch v.Type.Kind {
	case types.Varchar, types.Int, types.BigInt:
	default:
		errs.Add(sql.WrongType, d.Query.Span, "CAST it to VARCHAR", "the variable %s takes texts or whole numbers, and %s is %s", v.Name, v.Column, v.Type)
		return nil
	}
	if v.Default == "" && v.All == "" {
		errs.Add(sql.BadOption, d.Name.Span, "write (DEFAULT 'one of them') or (ALL 'all of them')", "what is chosen at first of %s is not said", v.Name)
		return nil
	}
	if _, err := v.Of(v.Default); err != nil {
		errs.Add(sql.BadOption, d.Span, "", "%s", err)
		return nil
	}
	return v
}

// endless says that a query of a board does not end.
func endless(q *sql.Query, what string, errs *sql.Errors) {
	if q.Until != nil {
		errs.Add(sql.WrongPlace, q.Span, "leave UNTIL out", "%s shows what comes, and does not end", what)
	}
	if q.Limit != nil {
		errs.Add(sql.WrongPlace, q.Span, "leave LIMIT out; TOP 10 shows the largest, and ROWS of the board says how many are kept", "%s shows what comes, and does not end", what)
	}
}

// reads are the variables of a board that a query reads.
func (b *Board) reads(q *sql.Query) (out []string) {
	text := sql.Print(q)
	named := sql.Parameters(text)
	for _, v := range b.Variables {
		if slices.Contains(named, v.Name) {
			out = append(out, v.Name)
		}
	}
	return out
}

// outline reads a line of points.
func outline(text string) (out []Spot, err error) {
	for _, part := range strings.Split(text, ",") {
		xs := strings.Fields(part)
		if len(xs) != 2 {
			return nil, fmt.Errorf("%q is no point; write two numbers, as in '8.1 45.9, 8.2 45.95'", strings.TrimSpace(part))
		}
		var p Spot
		for i, to := range []*float64{&p.Across, &p.Up} {
			if *to, err = strconv.ParseFloat(xs[i], 64); err != nil || math.IsNaN(*to) || math.IsInf(*to, 0) {
				return nil, fmt.Errorf("%q is no number", xs[i])
			}
		}
		out = append(out, p)
	}
	return out, nil
}

func (c *Catalog) panel(b *Board, wrong []string, d *sql.Panel, errs *sql.Errors) *Panel {
	before := len(errs.List)
	if !slices.Contains(sql.PanelKinds, d.Kind.Text) {
		hint := sql.DidYouMean(d.Kind.Text, sql.PanelKinds)
		if hint == "" {
			hint = "a panel shows " + strings.ToUpper(strings.Join(sql.PanelKinds, ", "))
		}
		errs.Add(sql.UnknownName, d.Kind.Span, hint, "no kind of panel is called %s", strings.ToUpper(d.Kind.Text))
		return nil
	}
	o := CheckOptions(errs, d.Options, PanelOptions(d.Kind.Text), "a panel of "+strings.ToUpper(d.Kind.Text))
	p := &Panel{Title: d.Title.Value, Kind: d.Kind.Text, Wide: min(o.Number("wide", 6), BoardWide), High: o.Number("high", 3), Top: o.Number("top", 0), Stacked: o.Flag("stacked", false), Unit: o.Word("unit", "")}
	if d.Words != nil {
		p.Words = d.Words.Value
		return p
	}
	endless(d.Query, "a panel", errs)
	if len(errs.List) > before {
		return nil
	}
	if slices.ContainsFunc(sql.Parameters(sql.Print(d.Query)), func(name string) bool { return slices.Contains(wrong, name) }) {
		return nil // a variable is wrong, and that is said
	}
	p.Reads = b.reads(d.Query)
	values, err := b.Values(p, nil)
	if err != nil {
		return nil
	}
	q := c.Standing(d.Query, Look{Values: values}, errs)
	if q == nil || len(errs.List) > before {
		return nil
	}
	p.SQL, p.Columns = sql.Print(d.Query), q.Outputs()[0].Fields
	column := func(option, want string, fits func(types.Type) bool, last, needed bool) string {
		named, ok := o[option]
		if !ok {
			found := ""
			for _, f := range p.Columns {
				if fits(f.Type) && (last || found == "") {
					found = f.Name
				}
			}
			if found == "" && needed {
				errs.Add(sql.WrongType, d.Query.Span, "", "a panel of %s needs a column of %s, and the query has none", strings.ToUpper(p.Kind), want)
			}
			return found
		}
		i := slices.IndexFunc(p.Columns, func(f types.Field) bool { return f.Name == named.Word })
		switch {
		case i < 0:
			var have []string
			for _, f := range p.Columns {
				have = append(have, f.Name)
			}
			hint := sql.DidYouMean(named.Word, have)
			if hint == "" {
				hint = "it has " + strings.Join(have, ", ")
			}
			errs.Add(sql.UnknownName, named.Span, hint, "the query has no column %q", named.Word)
			return ""
		case !fits(p.Columns[i].Type):
			errs.Add(sql.WrongType, named.Span, "", "%s takes a column of %s, and %s is %s", strings.ToUpper(option), want, named.Word, p.Columns[i].Type)
			return ""
		}
		return named.Word
	}
	isTime := func(t types.Type) bool { return t.Kind == types.Timestamp }
	isNumber := func(t types.Type) bool {
		return t.Kind == types.Int || t.Kind == types.BigInt || t.Kind == types.Double || t.Kind == types.Decimal
	}
	isText := func(t types.Type) bool { return t.Kind == types.Varchar }
	plain := func(t types.Type) bool { return !t.IsNested() }
	labelled := func(needed bool) string {
		if _, ok := o["label"]; ok {
			return column("label", "plain values", plain, false, needed)
		}
		return column("label", "text", isText, false, needed)
	}
	switch p.Kind {
	case "series":
		p.Time, p.Label, p.Value = column("time", "time", isTime, false, true), labelled(false), column("value", "numbers", isNumber, true, true)
	case "heat":
		p.Time, p.Label, p.Value = column("time", "time", isTime, false, true), labelled(true), column("value", "numbers", isNumber, true, true)
	case "bars":
		p.Label, p.Value = labelled(true), column("value", "numbers", isNumber, true, true)
	case "histogram":
		p.Value, p.Bins = column("value", "numbers", isNumber, true, true), min(o.Number("bins", 0), mostBins)
	case "states":
		p.Time, p.Label = column("time", "time", isTime, false, true), labelled(true)
		if _, ok := o["state"]; ok {
			p.State = column("state", "plain values", plain, true, true)
		} else {
			p.State = column("state", "text", isText, true, true)
		}
		if list := o.Word("order", ""); list != "" {
			for _, s := range strings.Split(list, ",") {
				p.Order = append(p.Order, strings.TrimSpace(s))
			}
		}
	case "map":
		for option, to := range map[string]*string{"across": &p.Across, "up": &p.Up} {
			if _, ok := o[option]; !ok {
				errs.Add(sql.BadOption, d.Kind.Span, "", "a panel of MAP needs %s, the column of a place", strings.ToUpper(option))
				continue
			}
			*to = column(option, "numbers", isNumber, false, true)
		}
		p.Label = labelled(false)
		if _, ok := o["value"]; ok {
			p.Value = column("value", "numbers", isNumber, true, true)
		}
		if line, ok := o["outline"]; ok {
			if p.Outline, err = outline(line.Word); err != nil {
				errs.Add(sql.BadOption, line.Span, "", "OUTLINE: %s", err)
			}
		}
	case "areas":
		p.Label, p.Value = labelled(true), column("value", "numbers", isNumber, true, true)
	case "number":
		p.Value = column("value", "numbers", isNumber, true, true)
	case "table":
		if _, ok := o["value"]; ok {
			p.Value = column("value", "numbers", isNumber, true, true)
		}
	}
	for name, to := range map[string]**float64{"above": &p.Most, "below": &p.Least} {
		if x, ok := o[name]; ok && x.Number != nil {
			*to = x.Number
		}
	}
	if len(errs.List) > before {
		return nil
	}
	return p
}
