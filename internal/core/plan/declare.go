package plan

import (
	"slices"
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// What DECLARE and CREATE VIEW and FUNCTION make of the catalog.

const (
	roleStream role = "read as a stream"
	roleTable  role = "read as a table"
	roleSink   role = "written to"
)

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
		e.Options = CheckOptions(errs, d.Options, c.Places[e.Place].Options, "an endpoint of "+strings.ToUpper(e.Place))
		if len(errs.List) > before {
			return false
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
		s.Schemas = c.schemas(s.Options, errs)
		s.promise, s.Traits = c.Places[s.Place].Promise, c.traits(s.Place, s.Options)
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
	case *sql.CreateBoard:
		if taken(d.Name, d.Replace, sql.KindBoard) {
			return false
		}
		b := c.board(d, errs)
		if len(errs.List) > before {
			return false
		}
		c.Boards[b.Name] = b
	case *sql.CreateAlert:
		if taken(d.Name, d.Replace, sql.KindAlert) {
			return false
		}
		a := c.alert(d, errs)
		if len(errs.List) > before {
			return false
		}
		c.Alerts[a.Name] = a
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
	case p.Via == nil && pl.Endpoint && !pl.Here:
		errs.Add(sql.WrongPlace, p.Address.Span, "add VIA and the name of an endpoint", "%s needs an endpoint", strings.ToUpper(p.Kind.Text))
	case p.Via != nil:
		via = c.Endpoints[p.Via.Text]
		if via == nil {
			errs.Add(sql.UnknownName, p.Via.Span, sql.DidYouMean(p.Via.Text, keys(c.Endpoints)), "no endpoint is called %q", p.Via.Text)
		} else if via.Place != p.Kind.Text {
			errs.Add(sql.WrongType, p.Via.Span, "", "%q is an endpoint of %s, not of %s", via.Name, strings.ToUpper(via.Place), strings.ToUpper(p.Kind.Text))
			via = nil
		}
	}
	if pl.Within != nil && (p.Via == nil || via != nil) {
		if err := pl.Within(p.Address.Value, via); err != nil {
			errs.Add(sql.WrongPlace, p.Address.Span, "", "%s", err)
		}
	}
	before := len(errs.List)
	out := CheckOptions(errs, p.Options, specs, strings.ToUpper(p.Kind.Text))
	for i := range errs.List[before:] { // an option that stands elsewhere is said where
		d := &errs.List[before+i]
		for _, o := range p.Options {
			if d.Code == sql.UnknownOption && d.Span == o.Span {
				if hint := belongsTo(pl, o.Name); hint != "" {
					d.Hint = hint
				}
			}
		}
	}
	return via, out
}

// belongsTo says where an option of a place belongs that does not stand where it was written; "": nowhere.
func belongsTo(p Place, name string) string {
	for _, x := range []struct {
		what  string
		specs []OptionSpec
	}{{"DECLARE ENDPOINT", p.Options}, {"DECLARE STREAM", p.Source}, {"DECLARE TABLE", p.Table}, {"DECLARE SINK", p.Sink}} {
		if slices.ContainsFunc(x.specs, func(s OptionSpec) bool { return s.Name == name }) {
			return "it stands in " + x.what + " … " + strings.ToUpper(p.Kind)
		}
	}
	return ""
}

// traits gives the traits of a place that is used with options.
func (c *Catalog) traits(place string, o Options) Traits {
	pl := c.Places[place]
	if pl.Given == nil {
		return pl.Traits
	}
	return pl.Given(pl.Traits, o)
}

// schemas gives the endpoint that the option SCHEMAS names, and checks what goes with it.
func (c *Catalog) schemas(o Options, errs *sql.Errors) *Endpoint {
	named, ok := o["schemas"]
	format := o.Word("format", "json")
	bad := func(name, hint, text string, args ...any) {
		errs.Add(sql.BadOption, o[name].Span, hint, text, args...)
	}
	if s, ok := o["subject"]; ok && o["schemas"].Word == "" {
		bad("subject", "name the endpoint of a registry with SCHEMAS", "SUBJECT '%s' is one of a registry, and none is named", s.Word)
	}
	if _, ok := o["schema"]; ok && format != "avro" && format != "protobuf" {
		bad("schema", "write FORMAT avro or FORMAT protobuf", "FORMAT %s takes no SCHEMA", format)
	}
	if _, ok := o["message"]; ok && format != "protobuf" {
		bad("message", "write FORMAT protobuf", "FORMAT %s has no MESSAGE", format)
	}
	if !ok {
		return nil
	}
	if _, both := o["schema"]; both {
		bad("schema", "leave one of them out", "SCHEMA says that all messages are of one schema, SCHEMAS that each names its own")
	}
	if format == "csv" || format == "text" {
		bad("schemas", "write FORMAT avro, protobuf or json", "FORMAT %s has no schemas", format)
	}
	e := c.Endpoints[named.Word]
	var known []string
	for n, e := range c.Endpoints {
		if c.Places[e.Place].HasSchemas {
			known = append(known, n)
		}
	}
	slices.Sort(known)
	switch {
	case e == nil:
		hint := sql.DidYouMean(named.Word, known)
		if hint == "" {
			hint = "declare it: DECLARE ENDPOINT " + sql.Quoted(named.Word) + " REGISTRY 'https://host:8081'"
		}
		errs.Add(sql.UnknownName, named.Span, hint, "no endpoint is called %q", named.Word)
	case !c.Places[e.Place].HasSchemas:
		errs.Add(sql.WrongType, named.Span, "", "%q is an endpoint of %s, which has no schemas", e.Name, strings.ToUpper(e.Place))
	}
	return e
}

// draws gives the calls of chance in the columns of rows that are made the draws that are left out.
type draws struct{ given int }

func newDraws() *draws { return &draws{} }

// of gives what stands before the arguments of a call: what is drawn for the row, of its own for each call; of a walk, the seed.
func (d *draws) of(f *eval.Function) *eval.Expr {
	d.given++
	from := 2
	if f.Name == "random_walk" {
		from = 3
	}
	return eval.Drawn(eval.Column(from, MadeColumns[from].Type), d.given)
}

// usesParts says whether a computed column uses what messages have besides their values.
func usesParts(d *sql.DeclareStream) (uses bool) {
	for _, col := range d.Columns {
		sql.WalkExpr(col.As, func(e sql.Expr) {
			if n, ok := e.(*sql.Path); ok {
				uses = uses || slices.ContainsFunc(MessageColumns, func(f types.Field) bool { return f.Name == n.Parts[0].Text })
			}
		})
	}
	return uses
}

func (c *Catalog) stream(d *sql.DeclareStream, table bool, errs *sql.Errors) *Stream {
	s := &Stream{Name: d.Name.Text, Time: -1, Ahead: -1, Idle: -1, Place: d.From.Kind.Text, Address: d.From.Address.Value}
	seen := map[string]bool{}
	made := c.Places[s.Place].Made
	if made {
		s.Columns = MadeColumns
	} else if c.Places[s.Place].Messages && usesParts(d) {
		s.Columns, s.Parts = slices.Clone(MessageColumns), len(MessageColumns)
	}
	for _, col := range d.Columns {
		if made && col.As == nil {
			errs.Add(sql.WrongPlace, col.Name.Span, "write how it is made, such as "+sql.Quoted(col.Name.Text)+" "+col.Type.String()+" AS (…)", "the rows of %s have no columns of their own, and %q does not say how it is made", strings.ToUpper(s.Place), col.Name.Text)
			continue
		}
		if made && col.Sensitive {
			errs.Add(sql.WrongPlace, col.Name.Span, "leave SENSITIVE out", "the rows of %s are made, and say nothing of anybody", strings.ToUpper(s.Place))
		}
		if seen[col.Name.Text] {
			errs.Add(sql.Duplicate, col.Name.Span, "", "the column %q is there twice", col.Name.Text)
			continue
		}
		seen[col.Name.Text] = true
		if col.As != nil {
			continue
		}
		f := types.Field{Name: col.Name.Text, Type: col.Type, NotNull: col.NotNull, Sensitive: col.Sensitive}
		s.shown = append(s.shown, shownColumn{Field: f, expr: eval.Column(len(s.Columns), col.Type)})
		s.Columns = append(s.Columns, f)
	}
	if len(s.Columns) == s.Parts {
		errs.Add(sql.WrongPlace, d.Name.Span, "", "there must be a column that is not computed")
		return s
	}
	// Computed columns see the declared ones, and stand where they were written.
	in := &scopeInput{name: s.Name}
	for _, c := range s.shown {
		in.cols = append(in.cols, scopeColumn{name: c.Name, expr: c.expr})
	}
	var draws *draws
	if made {
		for i, f := range MadeColumns {
			in.cols = append(in.cols, scopeColumn{name: f.Name, expr: eval.Column(i, f.Type)})
		}
		draws = newDraws()
	}
	for i, f := range s.Columns[:s.Parts] {
		if !seen[f.Name] { // a column of the name hides it
			in.cols = append(in.cols, scopeColumn{name: f.Name, expr: eval.Column(i, f.Type)})
		}
	}
	at := 0
	for _, col := range d.Columns {
		if col.As == nil {
			at++
			continue
		}
		b := &binder{cat: c, errs: errs, scope: &scope{inputs: []*scopeInput{in}}, where: "a computed column", draws: draws}
		e := b.bound(col.As)
		if e == nil {
			continue
		}
		if !eval.Implicit(e.Type, col.Type) {
			errs.Add(sql.WrongType, col.As.Place(), "write CAST(… AS "+col.Type.String()+")", "the column %q is %s, its expression is %s", col.Name.Text, col.Type, e.Type)
			continue
		}
		s.shown = slices.Insert(s.shown, at, shownColumn{Field: types.Field{Name: col.Name.Text, Type: col.Type, NotNull: col.NotNull, Sensitive: col.Sensitive}, expr: eval.Cast(e, col.Type)})
		at++
	}
	if !made && slices.ContainsFunc(s.shown, func(c shownColumn) bool { return c.Sensitive }) {
		s.spread()
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
		case s.Time < 0 && i >= 0 && s.shown[i].Type.Kind == types.Timestamp && !s.shown[i].Sensitive:
			s.TimeOf = s.shown[i].expr
			s.shown[i].expr = eval.Column(len(s.Columns), s.shown[i].Type)
		case s.Time < 0 && i >= 0 && s.shown[i].Type.Kind != types.Timestamp:
			errs.Add(sql.WrongType, d.Time.Column.Span, "declare it as TIMESTAMP", "the event time %q is %s, not TIMESTAMP", s.TimeIs, s.shown[i].Type)
		case s.Time < 0 && i < 0 && seen[s.TimeIs]: // what is wrong with it has been said
		case s.Time < 0 && i < 0:
			var names []string
			for _, f := range s.Columns {
				names = append(names, f.Name)
			}
			errs.Add(sql.UnknownName, d.Time.Column.Span, sql.DidYouMean(d.Time.Column.Text, names), "unknown column %q in %s", d.Time.Column.Text, s.Name)
		case s.Time >= 0 && s.Columns[s.Time].Type.Kind != types.Timestamp:
			errs.Add(sql.WrongType, d.Time.Column.Span, "declare it as TIMESTAMP", "the event time %q is %s, not TIMESTAMP", d.Time.Column.Text, s.Columns[s.Time].Type)
		case i >= 0 && s.shown[i].Sensitive:
			errs.Add(sql.WrongPlace, d.Time.Column.Span, "leave SENSITIVE out there, or take another event time", "windows and watermarks show the event time %q: it cannot be sensitive", d.Time.Column.Text)
		}
	}
	role := roleStream
	if table {
		role = roleTable
	}
	before := len(errs.List)
	s.Via, s.Options = c.place(d.From, role, errs)
	s.Schemas = c.schemas(s.Options, errs)
	s.Traits = c.traits(s.Place, s.Options)
	if fits := c.Places[s.Place].Fits; fits != nil && len(errs.List) == before {
		if err := fits(s); err != nil {
			errs.Add(sql.WrongPlace, d.From.Address.Span, "", "%s", err)
		}
	}
	if d.History != nil && len(errs.List) == before {
		c.history(d, s, errs)
	}
	if s.OfChanges && !table && s.Options != nil && !s.Options.Flag("changes", false) {
		errs.Add(sql.Misfit, d.From.Address.Span, "write (CHANGES true), or declare a TABLE", "a stream over a table of a database is the stream of its changes")
	}
	return s
}

// history gives a stream what it reads first.
func (c *Catalog) history(d *sql.DeclareStream, s *Stream, errs *sql.Errors) {
	h := *s
	h.Place, h.Address = d.History.Kind.Text, d.History.Address.Value
	before := len(errs.List)
	h.Via, h.Options = c.place(*d.History, roleStream, errs)
	if len(errs.List) > before {
		return
	}
	h.Schemas = c.schemas(h.Options, errs)
	h.Traits = c.traits(h.Place, h.Options)
	place, live := strings.ToUpper(h.Place), strings.ToUpper(s.Place)
	switch {
	case h.Made || s.Made:
		errs.Add(sql.WrongPlace, d.History.Address.Span, "", "rows that are made have no history, and are none")
	case h.OfChanges:
		errs.Add(sql.WrongPlace, d.History.Address.Span, "copy the table into files, or into an open table", "the changes of a table do not end, and a history does")
	case s.Ends:
		errs.Add(sql.WrongPlace, d.From.Address.Span, "add (FOLLOW true), or leave the history out", "%s '%s' ends, too: behind a history stands what goes on", live, s.Address)
	case s.Parts > 0 && !h.Messages:
		errs.Add(sql.WrongPlace, d.History.Address.Span, "leave columns over _key, _headers and the like out", "%s has no messages, and a column is computed from what messages have besides their values", place)
	}
	if len(errs.List) > before {
		return
	}
	if fits := c.Places[h.Place].Fits; fits != nil {
		if err := fits(&h); err != nil {
			errs.Add(sql.WrongPlace, d.History.Address.Span, "", "%s", err)
			return
		}
	}
	s.History, s.Seam = &h, NoSeam
	if d.Seam != nil {
		var at Bound
		if l, ok := d.Seam.(*sql.Literal); ok && (l.Value.Kind == types.Timestamp || l.Value.Kind == types.Varchar) {
			at = (&builder{cat: c, errs: errs}).bound(d.Seam)
		}
		switch {
		case len(errs.List) > before:
			return
		case at.Kind != AtTime:
			errs.Add(sql.WrongType, d.Seam.Place(), "write TIMESTAMP '…'", "AT is the event time at which %s takes over", live)
		case s.Arrival():
			errs.Add(sql.WrongPlace, d.Seam.Place(), "declare EVENT TIME, or leave AT out", "without an event time no row is before or behind another")
		}
		s.Seam = at.At
	}
	h.Seam = s.Seam
}
