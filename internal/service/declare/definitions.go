// Package declare changes what is declared and what should run: it checks a script whole, then does its statements in
// order. It tells what is declared, and who uses it.
package declare

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/samples"
)

// Load binds the definitions that the store keeps.
func Load(b *base.Base) error {
	defs, err := b.Store.Definitions()
	if err != nil {
		return err
	}
	cat := plan.NewCatalog(connect.Places())
	for _, d := range defs {
		script, err := sql.Parse(d.Name, d.SQL, nil)
		if err == nil {
			errs := &sql.Errors{File: d.Name, Text: d.SQL}
			for _, st := range script.Statements {
				cat.Define(st, errs)
			}
			err = errs.Err()
		}
		if err != nil {
			b.Log.Error("a definition cannot be read any more", "name", d.Name, "error", err)
		}
	}
	b.Define(cat, defs)
	return nil
}

func named(e *plan.Endpoint, name string) bool { return e != nil && e.Name == name }

// usersOf names the jobs, but for those dropped, and the definitions that use something. cat is the
// catalog to look in; nil means the service's own.
func (s *Definitions) usersOf(cat *plan.Catalog, kind, name string, dropped map[string]bool) (out []string) {
	own := s.Current()
	if cat == nil {
		cat = own
	}
	uses := func(p *plan.Plan) bool {
		for _, o := range p.Ops {
			var n, k string
			needs, topic := false, false
			switch {
			case o.OfTable != nil:
				needs, topic, n, k = o.OfTable.Uses(name), o.OfTable.HasOwnTopic(name), o.OfTable.Name, sql.KindTable
			case o.Stream != nil:
				needs, topic, n, k = o.Stream.Uses(name), o.Stream.HasOwnTopic(name), o.Stream.Name, sql.KindStream
			case o.Sink != nil:
				needs, topic, n, k = named(o.Sink.Via, name) || named(o.Sink.Schemas, name), o.Sink.OwnTopics && o.Sink.Address == name, o.Sink.Name, sql.KindSink
			default:
				continue
			}
			if k == kind && n == name || kind == sql.KindEndpoint && needs || kind == sql.KindTopic && topic {
				return true
			}
		}
		return false
	}
	for _, j := range s.jobs.All() {
		n := j.Name
		if dropped[n] {
			continue
		}
		text := j.Text()
		script, err := sql.Parse(n, text, nil)
		if err != nil {
			continue
		}
		st := script.Statements[0].(*sql.CreateJob)
		p := own.Job(st, &sql.Errors{Text: text})
		if p != nil && uses(p) || (kind == sql.KindView || kind == sql.KindFunction) && readsView(own, st.Steps, name, jobConditions(st)) {
			out = append(out, "the job "+n)
		}
	}
	switch kind {
	case sql.KindEndpoint:
		for n, k := range cat.Sinks {
			if named(k.Via, name) || named(k.Schemas, name) {
				out = append(out, "the sink "+n)
			}
		}
		for n, t := range cat.Tables {
			if t.Uses(name) {
				out = append(out, "the table "+n)
			}
		}
		for n, t := range cat.Streams {
			if t.Uses(name) {
				out = append(out, "the stream "+n)
			}
		}
	case sql.KindStream, sql.KindTable, sql.KindView, sql.KindFunction:
		for n, v := range cat.Views {
			if n != name && readsView(own, append(slices.Clone(v.Query.With), sql.Step{Query: v.Query.Body}), name, nil) {
				out = append(out, "the view "+n)
			}
		}
	}
	if kind != sql.KindTopic && kind != sql.KindEndpoint {
		for n, b := range cat.Boards {
			reads := func(text string, values plan.Values) bool {
				script, err := sql.Read(n, text)
				if text == "" || err != nil {
					return false
				}
				q := script.Statements[0].(*sql.Query)
				p := own.Standing(q, plan.Look{Values: values}, &sql.Errors{Text: text})
				return p != nil && uses(p) || readsView(own, append(slices.Clone(q.With), sql.Step{Query: q.Body}), name, nil)
			}
			if slices.ContainsFunc(b.Panels, func(x plan.Panel) bool {
				values, err := b.Values(&x, nil)
				return err == nil && reads(x.SQL, values)
			}) || slices.ContainsFunc(b.Variables, func(v plan.Variable) bool { return reads(v.SQL, nil) }) {
				out = append(out, "the board "+n)
			}
		}
	}
	for n, a := range cat.Alerts {
		if kind == sql.KindSink && slices.Contains(a.Notify, name) {
			out = append(out, "the alert "+n)
			continue
		}
		script, err := sql.Read(n, a.SQL)
		if err != nil || kind == sql.KindSink || kind == sql.KindEndpoint || len(a.Reads()) > 0 {
			continue
		}
		q := script.Statements[0].(*sql.Query)
		p := own.Standing(q, plan.Look{}, &sql.Errors{Text: a.SQL})
		if p != nil && uses(p) || readsView(own, append(slices.Clone(q.With), sql.Step{Query: q.Body}), name, nil) {
			out = append(out, "the alert "+n)
		}
	}
	if s.Users != nil {
		out = append(out, s.Users(kind, name)...)
	}
	if kind == sql.KindFunction {
		for _, d := range s.Defined() {
			script, err := sql.Parse(d.Name, d.SQL, nil)
			if err != nil {
				continue
			}
			var columns []sql.Column
			switch st := script.Statements[0].(type) {
			case *sql.DeclareStream:
				columns = st.Columns
			case *sql.DeclareTable:
				columns = st.Columns
			}
			for _, c := range columns {
				sql.WalkExpr(c.As, func(e sql.Expr) {
					if x, ok := e.(*sql.Call); ok && x.Name.Text == name {
						out = append(out, "the "+d.Kind+" "+d.Name)
					}
				})
			}
		}
		out = slices.Compact(out)
	}
	slices.Sort(out)
	return out
}

// jobConditions are the conditions of a job's routes.
func jobConditions(j *sql.CreateJob) (out []sql.Expr) {
	for _, r := range j.Routes {
		for _, b := range r.Branches {
			out = append(out, b.Where)
		}
	}
	return out
}

// readsView says whether steps, or expressions beside them, read a name or call it, through views
// too.
func readsView(cat *plan.Catalog, steps []sql.Step, name string, beside []sql.Expr) bool {
	found := false
	seen := map[string]bool{}
	calls := func(e sql.Expr) {
		if c, ok := e.(*sql.Call); ok && c.Name.Text == name {
			found = true
		}
	}
	var reads func(q *sql.Select)
	names := func(q *sql.Select) {
		for _, f := range append([]sql.From{q.From}, joined(q)...) {
			n := f.Read()
			found = found || n == name
			if v := cat.Views[n]; v != nil && !seen[n] {
				seen[n] = true
				for _, st := range v.Query.With {
					reads(st.Query)
				}
				reads(v.Query.Body)
			}
		}
	}
	reads = func(q *sql.Select) { q.Walk(names, calls) }
	for _, st := range steps {
		reads(st.Query)
	}
	for _, e := range beside {
		sql.WalkExpr(e, calls)
	}
	return found
}

func joined(q *sql.Select) (out []sql.From) {
	for _, j := range q.Joins {
		out = append(out, j.With)
	}
	return out
}

// Definition is something declared, for people.
type Definition struct {
	Kind    string    `json:"kind"`
	Name    string    `json:"name"`
	SQL     string    `json:"sql"`
	Changed time.Time `json:"changed"`
}

// KindOf says what kind of thing a name stands for, "" for none.
func (s *Definitions) KindOf(name string) string { return s.Current().KindOf(name) }

// List gives what has been declared, in the order of declaration; kind "" means all.
func (s *Definitions) List(kind string) []Definition {
	out := []Definition{}
	for _, d := range s.Defined() {
		if kind == "" || d.Kind == kind {
			out = append(out, Definition{d.Kind, d.Name, d.SQL, d.UpdatedAt})
		}
	}
	return out
}

func (s *Definitions) show(ctx context.Context, kind string) Outcome {
	may := func(name string) bool { return access.From(ctx).May(access.Look, kind, name) }
	o := Outcome{Kind: kind, Done: "shown", Rows: [][]string{}}
	switch kind {
	case sql.KindJob:
		o.Columns = []string{"job", "state", "rows_in", "rows_out", "late", "rejected"}
		for _, j := range s.jobs.List() {
			if !may(j.Name) {
				continue
			}
			o.Rows = append(o.Rows, []string{j.Name, j.State, fmt.Sprint(j.In), fmt.Sprint(j.Out), fmt.Sprint(j.Late), fmt.Sprint(j.Rejects)})
		}
	case sql.KindTopic:
		o.Columns = []string{"topic", "partitions", "messages", "bytes"}
		for _, t := range s.topics.List() {
			if !may(t.Name) {
				continue
			}
			o.Rows = append(o.Rows, []string{t.Name, fmt.Sprint(len(t.Partitions)), fmt.Sprint(t.Messages), fmt.Sprint(t.Bytes)})
		}
	case sql.KindFunction:
		o.Columns, o.Rows = plan.FunctionColumns, s.Current().FunctionRows()
	case sql.KindPlace:
		o.Columns, o.Rows = plan.PlaceColumns, s.Current().PlaceRows()
	default:
		o.Columns = []string{kind, "definition"}
		for _, d := range s.List(kind) {
			if !may(d.Name) {
				continue
			}
			o.Rows = append(o.Rows, []string{d.Name, normal(d.SQL)})
		}
	}
	return o
}

// Functions gives the catalogue of functions, those that users have made first.
func (s *Definitions) Functions() []plan.FunctionEntry {
	out := []plan.FunctionEntry{}
	for _, f := range s.Current().AllFunctions() {
		out = append(out, plan.Entry(f))
	}
	return out
}

// DescribeFunction tells all about a function.
func (s *Definitions) DescribeFunction(name string) (Outcome, error) {
	text, err := s.Current().DescribeFunction(name)
	if err != nil {
		return Outcome{}, base.Errorf(base.ErrNotFound, "%s", err)
	}
	for _, d := range s.Defined() {
		if d.Kind == sql.KindFunction && d.Name == name {
			text += "\n" + d.SQL
		}
	}
	return Outcome{Kind: sql.KindFunction, Name: name, Done: "shown", Note: text}, nil
}

// DescribePlace tells what a kind of place is, and the options it takes.
func (s *Definitions) DescribePlace(name string) (Outcome, error) {
	about, rows, err := s.Current().OptionRows(name)
	if err != nil {
		return Outcome{}, base.Errorf(base.ErrNotFound, "%s", err)
	}
	return Outcome{Kind: sql.KindPlace, Name: strings.ToUpper(name), Done: "shown", Note: about, Columns: plan.OptionColumns, Rows: rows}, nil
}

// Describe tells what a name stands for: its columns, or its text, and who uses it.
func (s *Definitions) Describe(name string) (Outcome, error) {
	cat := s.Current()
	kind := cat.KindOf(name)
	stream := cat.Streams[name]
	table := cat.Tables[name]
	if table != nil {
		stream = table.Stream
	}
	text := ""
	var names []string
	for _, d := range s.Defined() {
		names = append(names, d.Name)
		if d.Name == name {
			text = d.SQL
		}
	}
	for _, j := range s.jobs.All() {
		names = append(names, j.Name)
	}
	if kind == "" && s.jobs.Find(name) != nil {
		d, err := s.jobs.Get(name)
		if err != nil {
			return Outcome{}, err
		}
		return Outcome{Kind: sql.KindJob, Name: name, Done: "shown", Note: d.SQL + "\n\n" + d.Explain}, nil
	}
	if kind == "" && s.TopicLog.Topic(name) != nil {
		t, err := s.topics.Get(name)
		o := Outcome{Kind: sql.KindTopic, Name: name, Done: "shown", Columns: []string{"partition", "first", "next", "bytes"}}
		for _, p := range t.Partitions {
			o.Rows = append(o.Rows, []string{fmt.Sprint(p.Partition), fmt.Sprint(p.First), fmt.Sprint(p.Next), fmt.Sprint(p.Bytes)})
		}
		return o, err
	}
	if space, table, ok := strings.Cut(name, "."); ok && space == plan.OwnSpace {
		t, err := plan.Own(table)
		if err != nil {
			return Outcome{}, base.Errorf(base.ErrNotFound, "%s", err)
		}
		o := Outcome{Kind: sql.KindTable, Name: name, Done: "shown", Note: "what the service tells of itself: " + t.About, Columns: []string{"column", "type", "meaning"}}
		for _, c := range t.Columns {
			o.Rows = append(o.Rows, []string{c.Name, c.Type.String(), c.Doc})
		}
		return o, nil
	}
	if kind == "" {
		hint := ""
		if x := sql.Suggest(name, names); x != "" {
			hint = fmt.Sprintf("; did you mean %q?", x)
		}
		return Outcome{}, base.Errorf(base.ErrNotFound, "nothing is called %q%s", name, hint)
	}
	if kind == sql.KindFunction {
		return s.DescribeFunction(name)
	}
	o := Outcome{Kind: kind, Name: name, Done: "shown", Note: text}
	if stream != nil {
		o.Columns = []string{"column", "type", "about"}
		for _, c := range stream.Shown() {
			what := about(stream, c)
			if table != nil && slices.ContainsFunc(table.Key, func(k int) bool { return stream.Shown()[k].Name == c.Name }) {
				what = strings.TrimSuffix("key, "+what, ", ")
			}
			o.Rows = append(o.Rows, []string{c.Name, c.Type.String(), what})
		}
	}
	if users := s.usersOf(nil, kind, name, nil); len(users) > 0 {
		o.Note += "\n\nused by " + strings.Join(users, ", ")
	}
	return o, nil
}

func about(st *plan.Stream, c types.Field) string {
	var out []string
	if c.NotNull {
		out = append(out, "NOT NULL")
	}
	if c.Sensitive {
		out = append(out, "sensitive")
	}
	i := slices.IndexFunc(st.Columns, func(f types.Field) bool { return f.Name == c.Name })
	if i < 0 {
		out = append(out, "computed")
	} else if i == st.Time {
		out = append(out, "event time, delay "+sql.DurationText(st.Delay))
	}
	return strings.Join(out, ", ")
}

// DefinitionDetail is all there is to know of something declared.
type DefinitionDetail struct {
	Definition
	Place     string             `json:"place,omitempty"`
	Address   string             `json:"address,omitempty"`
	History   string             `json:"history,omitempty" doc:"of a stream: the place that is read before this one"`
	Via       string             `json:"via,omitempty"`
	Topic     string             `json:"topic,omitempty" doc:"the built-in topic that it reads or writes, if it is one"`
	EventTime string             `json:"event_time,omitempty" doc:"the column; of streams and tables without one it is the time of arrival"`
	Delay     int64              `json:"delay,omitempty" doc:"microseconds"`
	Columns   []DefinitionColumn `json:"columns"`
	Users     []string           `json:"users" doc:"what uses it"`
	Promise   string             `json:"promise,omitempty" doc:"of a sink: what it promises"`
	Drift     *samples.Drift     `json:"drift,omitempty" doc:"of a stream: how its messages differ from the declaration"`
}

// DefinitionColumn is a column of something declared.
type DefinitionColumn struct {
	Name  string `json:"name"`
	Type  string `json:"type"`
	About string `json:"about,omitempty"`
}

// Get tells all about something declared.
func (s *Definitions) Get(name string) (*DefinitionDetail, error) {
	o, err := s.Describe(name)
	if err != nil {
		return nil, err
	}
	out := &DefinitionDetail{Columns: []DefinitionColumn{}, Users: []string{}}
	found := false
	for _, d := range s.List("") {
		if d.Name == name {
			out.Definition, found = d, true
		}
	}
	if !found {
		return nil, base.Errorf(base.ErrNotFound, "%q is a %s, and nothing that is declared", name, o.Kind)
	}
	for _, r := range o.Rows {
		if len(r) == 3 {
			out.Columns = append(out.Columns, DefinitionColumn{r[0], r[1], r[2]})
		}
	}
	if users := s.usersOf(nil, out.Kind, name, nil); users != nil {
		out.Users = users
	}
	cat := s.Current()
	st := cat.Streams[name]
	if t := cat.Tables[name]; t != nil {
		st = t.Stream
	}
	via := (*plan.Endpoint)(nil)
	switch {
	case st != nil:
		out.Place, out.Address, out.EventTime, out.Delay, via = st.Place, st.Address, st.TimeIs, st.Delay, st.Via
		if st.OwnTopics {
			out.Topic = st.Address
		}
		if h := st.History; h != nil {
			out.History = fmt.Sprintf("%s %s", h.Place, h.Address)
			if h.Via != nil {
				out.History += " via " + h.Via.Name
			}
		}
		if d := s.samples.Drifted(name); d != nil {
			out.Drift = d
		}
	case cat.Sinks[name] != nil:
		k := cat.Sinks[name]
		out.Place, out.Address, via = k.Place, k.Address, k.Via
		if k.OwnTopics {
			out.Topic = k.Address
		}
	case cat.Endpoints[name] != nil:
		e := cat.Endpoints[name]
		out.Place, out.Address = e.Place, e.Address
	case cat.Views[name] != nil:
		if q, err := sql.Parse("view", "SELECT * FROM "+sql.Quoted(name)+";", nil); err == nil {
			if p := cat.Query(q.Statements[0].(*sql.Query), &sql.Errors{}); p != nil {
				for _, f := range p.Outputs()[0].Fields {
					out.Columns = append(out.Columns, DefinitionColumn{Name: f.Name, Type: f.Type.String()})
				}
			}
		}
	}
	if via != nil {
		out.Via = via.Name
	}
	return out, nil
}
