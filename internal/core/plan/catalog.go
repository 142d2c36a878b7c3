// Package plan binds names and types and turns queries and jobs into plans of operators.
package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// OptionKind says what value an option takes.
type OptionKind uint8

const (
	WordOption     OptionKind = iota // one of Words, or any text where Words is empty
	NumberOption                     // a whole number from Least up
	DurationOption                   // a duration
	NamesOption                      // names in parentheses
	FlagOption                       // true or false
)

// OptionSpec describes an option of a place.
type OptionSpec struct {
	Name  string
	Kind  OptionKind
	Words []string
	Least float64
	Doc   string
}

// Place describes a kind of place outside: which options it takes as a stream, as a table and as a sink. A
// nil list means that it cannot be one.
type Place struct {
	Kind     string
	Source   []OptionSpec
	Table    []OptionSpec
	Sink     []OptionSpec
	Endpoint bool // needs VIA
	// Address says what is wrong with the address of an endpoint, without telling what may be a secret in it; nil: none is looked at.
	Address func(address string) error
	Insert  bool // INSERT writes to it
	Columns bool // it tells the columns, and the key of a table
	// Promise says in words what a sink of the kind promises an output.
	Promise func(out *Op) string
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

// Endpoint is a declared system outside.
type Endpoint struct {
	Name, Place, Address string
	Secret               string // the name of the secret, or ""
}

// Stream is a declared stream.
type Stream struct {
	Name    string
	Columns []types.Field // those in the messages, in order of declaration
	shown   []shownColumn // all of them, computed ones too
	Time    int           // column of the event time, or -1 where it is computed or the time of arrival
	TimeOf  *eval.Expr    // what computes the event time from Columns, or nil; the scan puts it behind them
	TimeIs  string        // name of the event time, or ""
	Delay   int64
	Ahead   int64 // -1: the default
	Idle    int64 // -1: never idle
	Place   string
	Address string
	Via     *Endpoint
	Options Options
}

type shownColumn struct {
	types.Field
	expr *eval.Expr // over Columns
}

// Arrival says whether the event time is the time of arrival.
func (s *Stream) Arrival() bool { return s.Time < 0 && s.TimeOf == nil }

// scanned gives the columns of the rows that a scan passes on, and which of them is the event time.
func (s *Stream) scanned() ([]types.Field, int) {
	if s.TimeOf == nil {
		return s.Columns, s.Time
	}
	return append(slices.Clone(s.Columns), types.Field{Name: s.TimeIs, Type: s.TimeOf.Type}), len(s.Columns)
}

// Shown gives the columns that queries see, computed ones included.
func (s *Stream) Shown() []types.Field {
	out := make([]types.Field, len(s.shown))
	for i, c := range s.shown {
		out[i] = c.Field
	}
	return out
}

// Sink is a declared sink.
type Sink struct {
	Name    string
	Place   string
	Address string
	Via     *Endpoint
	Options Options
	promise func(out *Op) string
}

// Catalog is what has been declared, by name. Streams, sinks, endpoints and views share one space of
// names with the steps of jobs.
type Catalog struct {
	Places    map[string]Place
	Endpoints map[string]*Endpoint
	Streams   map[string]*Stream
	Tables    map[string]*Table
	Sinks     map[string]*Sink
	Views     map[string]*sql.CreateView
	Functions map[string]*UserFunction

	// Sample finds the columns of a declaration that does not list them, and a table's key where the place tells it. nil:
	// nothing outside is looked at, and what uses the name is not checked.
	Sample func(d Sampled) (columns []sql.Column, key []sql.Name, err error)
	broken map[string]bool // names whose declarations are wrong: what uses them is not called wrong, too
}

// UserFunction is a function that users have made.
type UserFunction struct {
	Name     string
	function *eval.Function
}

// Entry describes the function as those of the language.
func (f *UserFunction) Entry() *eval.Function { return f.function }

// NewCatalog makes an empty catalog that knows some kinds of places.
func NewCatalog(places []Place) *Catalog {
	c := &Catalog{Places: map[string]Place{}, Endpoints: map[string]*Endpoint{}, Streams: map[string]*Stream{}, Tables: map[string]*Table{}, Sinks: map[string]*Sink{}, Views: map[string]*sql.CreateView{},
		Functions: map[string]*UserFunction{}, broken: map[string]bool{}}
	for _, p := range places {
		c.Places[p.Kind] = p
	}
	return c
}

// Clone makes a copy that can be added to.
func (c *Catalog) Clone() *Catalog {
	return &Catalog{c.Places, maps.Clone(c.Endpoints), maps.Clone(c.Streams), maps.Clone(c.Tables), maps.Clone(c.Sinks), maps.Clone(c.Views), maps.Clone(c.Functions), c.Sample, maps.Clone(c.broken)}
}

// KindOf says what kind of thing a name stands for, or "".
func (c *Catalog) KindOf(name string) string {
	switch {
	case c.Streams[name] != nil:
		return sql.KindStream
	case c.Tables[name] != nil:
		return sql.KindTable
	case c.Sinks[name] != nil:
		return sql.KindSink
	case c.Endpoints[name] != nil:
		return sql.KindEndpoint
	case c.Views[name] != nil:
		return sql.KindView
	case c.Functions[name] != nil:
		return sql.KindFunction
	}
	return ""
}

// Remove forgets a name.
func (c *Catalog) Remove(name string) {
	delete(c.Streams, name)
	delete(c.Tables, name)
	delete(c.Sinks, name)
	delete(c.Endpoints, name)
	delete(c.Views, name)
	delete(c.Functions, name)
}

// Define checks a declaration and adds it. It reports to errs and gives false where something is wrong.
func (c *Catalog) Define(st sql.Statement, errs *sql.Errors) bool {
	ok := c.define(st, errs)
	switch d := st.(type) {
	case *sql.DeclareStream:
		c.broken[d.Name.Text] = !ok
	case *sql.DeclareTable:
		c.broken[d.Name.Text] = !ok
	case *sql.DeclareSink:
		c.broken[d.Name.Text] = !ok
	case *sql.CreateView:
		c.broken[d.Name.Text] = !ok
	}
	return ok
}

// newFunction checks a function and makes it callable.
func (c *Catalog) newFunction(d *sql.CreateFunction, errs *sql.Errors) *UserFunction {
	if eval.Lookup(d.Name.Text) != nil {
		errs.Add(sql.Duplicate, d.Name.Span, "choose another name", "%s is a function of the language", strings.ToUpper(d.Name.Text))
		return nil
	}
	if d.Language.Text != "javascript" {
		errs.Add(sql.UnknownName, d.Language.Span, "functions are written in javascript", "no language is called %s", d.Language.Text)
		return nil
	}
	s := &eval.Script{Name: d.Name.Text, Returns: d.Returns, Code: d.Code.Value}
	seen := map[string]bool{}
	for _, a := range d.Args {
		if seen[a.Name.Text] {
			errs.Add(sql.Duplicate, a.Name.Span, "", "the argument %q is there twice", a.Name.Text)
			return nil
		}
		seen[a.Name.Text] = true
		s.Args = append(s.Args, types.Field{Name: a.Name.Text, Type: a.Type})
	}
	if err := s.Check(); err != nil {
		errs.Add(sql.Syntax, d.Code.Span, "the code is the body of a function: it ends with return …", "the code cannot be read: %s", err)
		return nil
	}
	return &UserFunction{s.Name, s.Function()}
}

func (c *Catalog) define(st sql.Statement, errs *sql.Errors) bool {
	before := len(errs.List)
	taken := func(n sql.Name, replace bool, kind string) bool {
		have := c.KindOf(n.Text)
		if have == "" || replace && have == kind {
			return false
		}
		hint := "choose another name"
		if have == kind {
			hint = "write OR REPLACE to change it"
		}
		errs.Add(sql.Duplicate, n.Span, hint, "%q is already a %s", n.Text, have)
		return true
	}
	switch d := st.(type) {
	case *sql.DeclareEndpoint:
		if taken(d.Name, d.Replace, sql.KindEndpoint) {
			return false
		}
		var known []string
		for k, p := range c.Places {
			if p.Endpoint {
				known = append(known, k)
			}
		}
		slices.Sort(known)
		if !slices.Contains(known, d.Place.Text) {
			hint := sql.DidYouMean(d.Place.Text, known)
			if hint == "" {
				hint = "endpoints are of the kinds " + strings.ToUpper(strings.Join(known, ", "))
			}
			errs.Add(sql.UnknownName, d.Place.Span, hint, "no kind of endpoint is called %s", strings.ToUpper(d.Place.Text))
			return false
		}
		if check := c.Places[d.Place.Text].Address; check != nil {
			if err := check(d.Address.Value); err != nil {
				errs.Add(sql.WrongType, d.Address.Span, "", "%s", err)
				return false
			}
		}
		e := &Endpoint{Name: d.Name.Text, Place: d.Place.Text, Address: d.Address.Value}
		if d.Secret != nil {
			e.Secret = d.Secret.Value
		}
		c.Endpoints[e.Name] = e
	case *sql.DeclareStream:
		if taken(d.Name, d.Replace, sql.KindStream) || d.Columns == nil && !c.sample(d, errs) {
			return false
		}
		s := c.stream(d, false, errs)
		if len(errs.List) > before {
			return false
		}
		c.Streams[s.Name] = s
	case *sql.DeclareSink:
		if taken(d.Name, d.Replace, sql.KindSink) {
			return false
		}
		s := &Sink{Name: d.Name.Text, Address: d.To.Address.Value, Place: d.To.Kind.Text}
		s.Via, s.Options = c.place(d.To, roleSink, errs)
		s.promise = c.Places[s.Place].Promise
		if len(errs.List) > before {
			return false
		}
		c.Sinks[s.Name] = s
	case *sql.CreateView:
		if taken(d.Name, d.Replace, sql.KindView) {
			return false
		}
		b := newBuilder(c, errs)
		b.open = []string{d.Name.Text}
		if d.Query.Limit != nil || d.Query.Until != nil {
			errs.Add(sql.WrongPlace, d.Query.Span, "leave it to the query that reads the view", "a view has no LIMIT or UNTIL")
			return false
		}
		b.steps(d.Query.With)
		b.block(d.Query.Body, d.Name.Text)
		if len(errs.List) > before {
			return false
		}
		c.Views[d.Name.Text] = d
	case *sql.CreateFunction:
		if taken(d.Name, d.Replace, sql.KindFunction) {
			return false
		}
		f := c.newFunction(d, errs)
		if f == nil {
			return false
		}
		c.Functions[f.Name] = f
	case *sql.DeclareTable:
		if taken(d.Name, d.Replace, sql.KindTable) || d.Columns == nil && !c.sample(d, errs) {
			return false
		}
		t := c.table(d, errs)
		if len(errs.List) > before {
			return false
		}
		c.Tables[t.Name] = t
	}
	return true
}

// role is what a place is used for.
type role string

const (
	roleStream role = "read as a stream"
	roleTable  role = "read as a table"
	roleSink   role = "written to"
)

// options gives the options that a place takes in a role, nil where it cannot have it.
func (r role) options(p Place) []OptionSpec {
	switch r {
	case roleSink:
		return p.Sink
	case roleTable:
		return p.Table
	}
	return p.Source
}

// place checks where something is.
func (c *Catalog) place(p sql.Place, as role, errs *sql.Errors) (*Endpoint, Options) {
	pl, ok := c.Places[p.Kind.Text]
	specs := as.options(pl)
	if !ok || specs == nil {
		var fit []string
		for k, q := range c.Places {
			if as.options(q) != nil {
				fit = append(fit, k)
			}
		}
		slices.Sort(fit)
		hint := sql.DidYouMean(p.Kind.Text, fit)
		if hint == "" {
			hint = "places are " + strings.ToUpper(strings.Join(fit, ", "))
		}
		errs.Add(sql.UnknownName, p.Kind.Span, hint, "%s is no place that can be %s", strings.ToUpper(p.Kind.Text), as)
		return nil, nil
	}
	if strings.TrimSpace(p.Address.Value) == "" {
		errs.Add(sql.BadOption, p.Address.Span, "", "the address is empty")
	}
	var via *Endpoint
	switch {
	case p.Via != nil && !pl.Endpoint:
		errs.Add(sql.WrongPlace, p.Via.Span, "leave VIA out", "%s needs no endpoint", strings.ToUpper(p.Kind.Text))
	case p.Via == nil && pl.Endpoint:
		errs.Add(sql.WrongPlace, p.Address.Span, "add VIA and the name of an endpoint", "%s needs an endpoint", strings.ToUpper(p.Kind.Text))
	case p.Via != nil:
		via = c.Endpoints[p.Via.Text]
		if via == nil {
			errs.Add(sql.UnknownName, p.Via.Span, sql.DidYouMean(p.Via.Text, keys(c.Endpoints)), "no endpoint is called %q", p.Via.Text)
		} else if via.Place != p.Kind.Text {
			errs.Add(sql.WrongType, p.Via.Span, "", "%q is an endpoint of %s, not of %s", via.Name, strings.ToUpper(via.Place), strings.ToUpper(p.Kind.Text))
		}
	}
	return via, CheckOptions(errs, p.Options, specs, strings.ToUpper(p.Kind.Text))
}

func keys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func (c *Catalog) stream(d *sql.DeclareStream, table bool, errs *sql.Errors) *Stream {
	s := &Stream{Name: d.Name.Text, Time: -1, Ahead: -1, Idle: -1, Place: d.From.Kind.Text, Address: d.From.Address.Value}
	seen := map[string]bool{}
	for _, col := range d.Columns {
		if seen[col.Name.Text] {
			errs.Add(sql.Duplicate, col.Name.Span, "", "the column %q is there twice", col.Name.Text)
			continue
		}
		seen[col.Name.Text] = true
		if col.As != nil {
			continue
		}
		f := types.Field{Name: col.Name.Text, Type: col.Type, NotNull: col.NotNull}
		s.shown = append(s.shown, shownColumn{f, eval.Column(len(s.Columns), col.Type)})
		s.Columns = append(s.Columns, f)
	}
	if len(s.Columns) == 0 {
		errs.Add(sql.WrongPlace, d.Name.Span, "", "there must be a column that is not computed")
		return s
	}
	// Computed columns see the declared ones, and stand where they were written.
	in := &scopeInput{name: s.Name}
	for _, c := range s.shown {
		in.cols = append(in.cols, scopeColumn{name: c.Name, expr: c.expr})
	}
	at := 0
	for _, col := range d.Columns {
		if col.As == nil {
			at++
			continue
		}
		b := &binder{cat: c, errs: errs, scope: &scope{inputs: []*scopeInput{in}}, where: "a computed column"}
		e := b.bound(col.As)
		if e == nil {
			continue
		}
		if !eval.Implicit(e.Type, col.Type) {
			errs.Add(sql.WrongType, col.As.Place(), "write CAST(… AS "+col.Type.String()+")", "the column %q is %s, its expression is %s", col.Name.Text, col.Type, e.Type)
			continue
		}
		s.shown = slices.Insert(s.shown, at, shownColumn{types.Field{Name: col.Name.Text, Type: col.Type, NotNull: col.NotNull}, eval.Cast(e, col.Type)})
		at++
	}
	if d.Time != nil {
		micros := func(x *sql.Duration, def int64) int64 {
			if x == nil {
				return def
			}
			return x.Micros
		}
		s.Delay, s.Ahead, s.Idle = micros(d.Time.Delay, 0), micros(d.Time.Ahead, -1), micros(d.Time.IdleAfter, -1)
		s.Time = slices.IndexFunc(s.Columns, func(f types.Field) bool { return f.Name == d.Time.Column.Text })
		s.TimeIs = d.Time.Column.Text
		i := slices.IndexFunc(s.shown, func(c shownColumn) bool { return c.Name == s.TimeIs })
		switch {
		case s.Time < 0 && i >= 0 && s.shown[i].Type.Kind == types.Timestamp:
			s.TimeOf = s.shown[i].expr
			s.shown[i].expr = eval.Column(len(s.Columns), s.shown[i].Type)
		case s.Time < 0 && i >= 0:
			errs.Add(sql.WrongType, d.Time.Column.Span, "declare it as TIMESTAMP", "the event time %q is %s, not TIMESTAMP", s.TimeIs, s.shown[i].Type)
		case s.Time < 0 && seen[s.TimeIs]: // what is wrong with it has been said
		case s.Time < 0:
			var names []string
			for _, f := range s.Columns {
				names = append(names, f.Name)
			}
			errs.Add(sql.UnknownName, d.Time.Column.Span, sql.DidYouMean(d.Time.Column.Text, names), "unknown column %q in %s", d.Time.Column.Text, s.Name)
		case s.Columns[s.Time].Type.Kind != types.Timestamp:
			errs.Add(sql.WrongType, d.Time.Column.Span, "declare it as TIMESTAMP", "the event time %q is %s, not TIMESTAMP", d.Time.Column.Text, s.Columns[s.Time].Type)
		}
	}
	role := roleStream
	if table {
		role = roleTable
	}
	s.Via, s.Options = c.place(d.From, role, errs)
	if s.Place == "mariadb" && !table && s.Options != nil && !s.Options.Flag("changes", false) {
		errs.Add(sql.Misfit, d.From.Address.Span, "write (CHANGES true), or declare a TABLE", "a stream over a table of a database is the stream of its changes")
	}
	return s
}
