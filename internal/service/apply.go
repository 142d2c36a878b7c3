package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/connect"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/topiclog"
)

// Outcome is what a statement did.
type Outcome struct {
	Kind    string     `json:"kind" doc:"what the statement is about: stream, sink, job, topic …"`
	Name    string     `json:"name,omitempty"`
	Done    string     `json:"done" doc:"declared, replaced, created, started, stopped, dropped, unchanged, shown"`
	Note    string     `json:"note,omitempty"`
	Columns []string   `json:"columns,omitempty" doc:"of what SHOW and DESCRIBE give"`
	Rows    [][]string `json:"rows,omitempty"`
}

// Script is SQL text with its parameters.
type Script struct {
	File   string
	SQL    string
	Params map[string]string
}

// topicOptions are those of CREATE TOPIC.
var topicOptions = []plan.OptionSpec{
	{Name: "partitions", Kind: plan.NumberOption, Least: 1, Doc: "parts that are read and written in parallel; 4"},
	{Name: "retain", Kind: plan.DurationOption, Doc: "how long messages are kept; for ever"},
	{Name: "retain megabytes", Kind: plan.NumberOption, Least: 1, Doc: "how much of a partition is kept"},
}

// action is a checked statement, ready to be done.
type action func(ctx context.Context) (Outcome, error)

// Apply checks all statements of a script and then does them in order. Where one has errors, nothing
// is done. With dryRun nothing is done in any case. Bare queries are refused: they have a call of
// their own.
func (s *Service) Apply(ctx context.Context, actor string, in Script, dryRun bool) ([]Outcome, error) {
	script, err := sql.Parse(in.File, in.SQL, in.Params)
	errs := &sql.Errors{File: in.File, Text: in.SQL}
	var parse *sql.Errors
	if errors.As(err, &parse) {
		errs.List = append(errs.List, parse.List...)
	}
	s.mu.Lock()
	cat := s.cat.Clone()
	s.mu.Unlock()
	var actions []action
	made := &made{created: map[string]bool{}, dropped: map[string]bool{}}
	for _, st := range script.Statements {
		if a := s.prepare(actor, script, st, cat, errs, made); a != nil {
			actions = append(actions, a)
		}
	}
	if err := errs.Err(); err != nil {
		return nil, err
	}
	if dryRun {
		return []Outcome{}, nil
	}
	out := []Outcome{}
	for _, a := range actions {
		o, err := a(ctx)
		if err != nil {
			return out, err
		}
		out = append(out, o)
	}
	return out, nil
}

// made is what a script's earlier statements will have made of jobs.
type made struct{ created, dropped map[string]bool }

// prepare checks one statement against the catalog as it will be then, and gives what does it.
func (s *Service) prepare(actor string, script *sql.Script, st sql.Statement, cat *plan.Catalog, errs *sql.Errors, made *made) action {
	src := script.Source(st)
	switch st := st.(type) {
	case *sql.DeclareEndpoint:
		return s.define(actor, st, src, sql.KindEndpoint, st.Name, st.Replace, cat, errs, made)
	case *sql.DeclareStream:
		return s.define(actor, st, src, sql.KindStream, st.Name, st.Replace, cat, errs, made)
	case *sql.DeclareSink:
		return s.define(actor, st, src, sql.KindSink, st.Name, st.Replace, cat, errs, made)
	case *sql.CreateView:
		return s.define(actor, st, src, sql.KindView, st.Name, st.Replace, cat, errs, made)
	case *sql.CreateTopic:
		opts := plan.CheckOptions(errs, st.Options, topicOptions, "a topic")
		set := topiclog.Settings{Partitions: opts.Number("partitions", 4), RetainFor: opts.Duration("retain", 0), RetainBytes: int64(opts.Number("retain megabytes", 0)) << 20}
		if s.topics.Topic(st.Name.Text) != nil && !st.IfNotExists {
			errs.Add(sql.Duplicate, st.Name.Span, "write IF NOT EXISTS to leave it as it is", "there is already a topic %q", st.Name.Text)
		}
		return func(context.Context) (Outcome, error) {
			o := Outcome{Kind: sql.KindTopic, Name: st.Name.Text, Done: "created"}
			if s.topics.Topic(st.Name.Text) != nil && st.IfNotExists {
				o.Done = "unchanged"
				return o, nil
			}
			return o, s.CreateTopic(actor, st.Name.Text, set)
		}
	case *sql.CreateJob:
		return s.prepareJob(actor, st, src, cat, errs, made)
	case *sql.StartJob:
		return func(context.Context) (Outcome, error) {
			return Outcome{Kind: sql.KindJob, Name: st.Name.Text, Done: "started"}, s.StartJob(actor, st.Name.Text)
		}
	case *sql.StopJob:
		return func(context.Context) (Outcome, error) {
			return Outcome{Kind: sql.KindJob, Name: st.Name.Text, Done: "stopped"}, s.StopJob(actor, st.Name.Text)
		}
	case *sql.Drop:
		return s.prepareDrop(actor, st, cat, errs, made)
	case *sql.Show:
		return func(context.Context) (Outcome, error) { return s.show(st.Kind), nil }
	case *sql.Describe:
		return func(context.Context) (Outcome, error) { return s.Describe(st.Name.Text) }
	case *sql.Explain:
		if st.Query != nil {
			p := cat.Query(st.Query, errs)
			return func(context.Context) (Outcome, error) { return explained("query", p), nil }
		}
		return func(context.Context) (Outcome, error) {
			d, err := s.Job(st.Job.Text)
			if err != nil {
				return Outcome{}, err
			}
			return Outcome{Kind: sql.KindJob, Name: d.Name, Done: "shown", Note: d.Explain}, nil
		}
	case *sql.Query:
		errs.Add(sql.WrongPlace, st.At(), "run it with fiume query, or in the console", "a bare SELECT is a live query, not something to apply")
	}
	return nil
}

func explained(name string, p *plan.Plan) Outcome {
	return Outcome{Kind: "plan", Name: name, Done: "shown", Note: p.Explain()}
}

func (s *Service) define(actor string, st sql.Statement, src, kind string, name sql.Name, replace bool, cat *plan.Catalog, errs *sql.Errors, made *made) action {
	s.mu.Lock()
	same := s.sameDefinition(kind, name.Text, src)
	s.mu.Unlock()
	if same {
		return func(context.Context) (Outcome, error) {
			return Outcome{Kind: kind, Name: name.Text, Done: "unchanged"}, nil
		}
	}
	had := cat.KindOf(name.Text) == kind
	if replace && had {
		if users := s.usersOf(cat, kind, name.Text, made.dropped); len(users) > 0 {
			errs.Add(sql.InUse, name.Span, "stop and drop it first, or declare another "+kind, "the %s %q is used by %s", kind, name.Text, strings.Join(users, ", "))
			return nil
		}
	}
	if !cat.Define(st, errs) {
		return nil
	}
	return func(context.Context) (Outcome, error) {
		s.mu.Lock()
		defer s.mu.Unlock()
		late := &sql.Errors{File: name.Text, Text: src} // its places are those of its own text
		script, err := sql.Parse(name.Text, src, nil)
		if err != nil {
			return Outcome{}, err
		}
		next := s.cat.Clone()
		if !next.Define(script.Statements[0], late) {
			return Outcome{}, late.Err()
		}
		if err := s.store.PutDefinition(kind, name.Text, src); err != nil {
			return Outcome{}, err
		}
		s.cat = next
		i := slices.IndexFunc(s.defs, func(d catalog.Definition) bool { return d.Name == name.Text })
		d := catalog.Definition{Kind: kind, Name: name.Text, SQL: src, CreatedAt: time.Now(), UpdatedAt: time.Now()}
		done := "declared"
		if kind == sql.KindView {
			done = "created"
		}
		if i >= 0 {
			s.defs[i] = d
			done = "replaced"
		} else {
			s.defs = append(s.defs, d)
		}
		s.note(actor, done, kind+" "+name.Text, src)
		return Outcome{Kind: kind, Name: name.Text, Done: done}, nil
	}
}

// sameDefinition says whether a name is defined by just this text, so that applying a file twice
// changes nothing.
func (s *Service) sameDefinition(kind, name, src string) bool {
	for _, d := range s.defs {
		if d.Name == name {
			return d.Kind == kind && normal(d.SQL) == normal(src)
		}
	}
	return false
}

func normal(src string) string { return strings.Join(strings.Fields(src), " ") }

func (s *Service) prepareJob(actor string, st *sql.CreateJob, src string, cat *plan.Catalog, errs *sql.Errors, made *made) action {
	name := st.Name.Text
	s.mu.Lock()
	old := s.jobs[name]
	s.mu.Unlock()
	if made.created[name] {
		errs.Add(sql.Duplicate, st.Name.Span, "", "the job %q is there twice", name)
		return nil
	}
	made.created[name] = true
	p := cat.Job(st, errs)
	if p == nil {
		return nil
	}
	if old != nil && !made.dropped[name] {
		if normal(old.row.SQL) == normal(src) {
			return func(context.Context) (Outcome, error) {
				return Outcome{Kind: sql.KindJob, Name: name, Done: "unchanged", Note: "it is " + old.info().State}, nil
			}
		}
		if st.Replace {
			errs.Add(sql.NotYet, st.Name.Span, "DROP JOB "+name+" first; it begins afresh", "taking over a running job's state by a new version: this version of Fiume does not do it yet")
		} else {
			errs.Add(sql.Duplicate, st.Name.Span, "DROP JOB "+name+" first, or choose another name", "there is already a job %q, and its text differs", name)
		}
		return nil
	}
	at := *errs
	return func(ctx context.Context) (Outcome, error) {
		if err := s.opener().Check(ctx, p); err != nil {
			e := &sql.Errors{File: at.File, Text: at.Text}
			e.Add(sql.Misfit, placeOf(st, err), "", "the job %s cannot run: %s", name, strings.ReplaceAll(err.Error(), "\n", "; "))
			return Outcome{}, e.Err()
		}
		row := catalog.Job{Name: name, SQL: src, Version: 1, Wanted: wantRunning, State: stateStarting}
		if err := s.store.CreateJob(&row); err != nil {
			return Outcome{}, err
		}
		j := s.newJob(row)
		s.mu.Lock()
		s.jobs[name] = j
		s.mu.Unlock()
		s.note(actor, "created", name, src)
		j.start()
		return Outcome{Kind: sql.KindJob, Name: name, Done: "created", Note: "it is starting"}, nil
	}
}

// placeOf finds where a job names the sink that does not fit.
func placeOf(st *sql.CreateJob, err error) sql.Span {
	var m *connect.Misfit
	if errors.As(err, &m) {
		for _, r := range st.Routes {
			for _, b := range r.Branches {
				for _, k := range b.Sinks {
					if k.Text == m.Sink {
						return k.Span
					}
				}
			}
		}
	}
	return st.Name.Span
}

func (s *Service) prepareDrop(actor string, st *sql.Drop, cat *plan.Catalog, errs *sql.Errors, made *made) action {
	name := st.Name.Text
	out := Outcome{Kind: st.Kind, Name: name, Done: "dropped"}
	gone := func(context.Context) (Outcome, error) { out.Done = "unchanged"; return out, nil }
	missing := func(have []string) action {
		if st.IfExists {
			return gone
		}
		errs.Add(sql.UnknownName, st.Name.Span, sql.DidYouMean(name, have), "no %s is called %q", st.Kind, name)
		return nil
	}
	switch st.Kind {
	case sql.KindJob:
		if _, err := s.jobNamed(name); err != nil {
			var have []string
			for _, j := range s.Jobs() {
				have = append(have, j.Name)
			}
			return missing(have)
		}
		made.dropped[name] = true
		return func(context.Context) (Outcome, error) { return out, s.DropJob(actor, name) }
	case sql.KindTopic:
		t := s.topics.Topic(name)
		if t == nil {
			var have []string
			for _, t := range s.topics.Topics() {
				have = append(have, t.Name)
			}
			return missing(have)
		}
		if users := s.usersOf(cat, st.Kind, name, made.dropped); len(users) > 0 {
			errs.Add(sql.InUse, st.Name.Span, "drop them first", "the topic %q is used by %s", name, strings.Join(users, ", "))
			return nil
		}
		return func(context.Context) (Outcome, error) {
			info := topicInfo(t)
			out.Note = fmt.Sprintf("%d messages, %d bytes deleted", info.Messages, info.Bytes)
			return out, s.DropTopic(actor, name)
		}
	}
	if cat.KindOf(name) != st.Kind {
		s.mu.Lock()
		var have []string
		for _, d := range s.defs {
			if d.Kind == st.Kind {
				have = append(have, d.Name)
			}
		}
		s.mu.Unlock()
		return missing(have)
	}
	if users := s.usersOf(cat, st.Kind, name, made.dropped); len(users) > 0 {
		errs.Add(sql.InUse, st.Name.Span, "drop it first", "the %s %q is used by %s", st.Kind, name, strings.Join(users, ", "))
		return nil
	}
	cat.Remove(name)
	return func(context.Context) (Outcome, error) {
		s.mu.Lock()
		defer s.mu.Unlock()
		if err := s.store.DropDefinition(name); err != nil {
			return out, err
		}
		s.cat.Remove(name)
		s.defs = slices.DeleteFunc(s.defs, func(d catalog.Definition) bool { return d.Name == name })
		s.note(actor, "dropped", st.Kind+" "+name, "")
		return out, nil
	}
}

// usersOf names the jobs, but for those dropped, and the definitions that use something. cat is the
// catalog to look in; nil means the service's own.
func (s *Service) usersOf(cat *plan.Catalog, kind, name string, dropped map[string]bool) (out []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if cat == nil {
		cat = s.cat
	}
	uses := func(p *plan.Plan) bool {
		for _, o := range p.Ops {
			var via *plan.Endpoint
			var place, address, n, k string
			switch {
			case o.Stream != nil:
				via, place, address, n, k = o.Stream.Via, o.Stream.Place, o.Stream.Address, o.Stream.Name, sql.KindStream
			case o.Sink != nil:
				via, place, address, n, k = o.Sink.Via, o.Sink.Place, o.Sink.Address, o.Sink.Name, sql.KindSink
			default:
				continue
			}
			if k == kind && n == name || kind == sql.KindEndpoint && via != nil && via.Name == name || kind == sql.KindTopic && place == "topic" && address == name {
				return true
			}
		}
		return false
	}
	for n, j := range s.jobs {
		if dropped[n] {
			continue
		}
		script, err := sql.Parse(n, j.row.SQL, nil)
		if err != nil {
			continue
		}
		st := script.Statements[0].(*sql.CreateJob)
		p := s.cat.Job(st, &sql.Errors{Text: j.row.SQL})
		if p != nil && uses(p) || kind == sql.KindView && s.readsView(st.Steps, name) {
			out = append(out, "the job "+n)
		}
	}
	switch kind {
	case sql.KindEndpoint:
		for n, k := range cat.Sinks {
			if k.Via != nil && k.Via.Name == name {
				out = append(out, "the sink "+n)
			}
		}
	case sql.KindStream, sql.KindView:
		for n, v := range cat.Views {
			if n != name && s.readsView(append(v.Query.With, sql.Step{Query: v.Query.Body}), name) {
				out = append(out, "the view "+n)
			}
		}
	}
	slices.Sort(out)
	return out
}

// readsView says whether steps read a name, through views too. The caller holds the lock.
func (s *Service) readsView(steps []sql.Step, name string) bool {
	var reads func(q *sql.Select, depth int) bool
	reads = func(q *sql.Select, depth int) bool {
		if q.From.Query != nil {
			return reads(q.From.Query, depth)
		}
		n := q.From.Name.Text
		if n == name {
			return true
		}
		if v := s.cat.Views[n]; v != nil && depth < 50 {
			for _, st := range v.Query.With {
				if reads(st.Query, depth+1) {
					return true
				}
			}
			return reads(v.Query.Body, depth+1)
		}
		return false
	}
	for _, st := range steps {
		if reads(st.Query, 0) {
			return true
		}
	}
	return false
}

// Definition is something declared, for people.
type Definition struct {
	Kind    string    `json:"kind"`
	Name    string    `json:"name"`
	SQL     string    `json:"sql"`
	Changed time.Time `json:"changed"`
}

// Definitions gives what has been declared, in the order of declaration; kind "" means all.
func (s *Service) Definitions(kind string) []Definition {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []Definition{}
	for _, d := range s.defs {
		if kind == "" || d.Kind == kind {
			out = append(out, Definition{d.Kind, d.Name, d.SQL, d.UpdatedAt})
		}
	}
	return out
}

func (s *Service) show(kind string) Outcome {
	o := Outcome{Kind: kind, Done: "shown", Rows: [][]string{}}
	switch kind {
	case sql.KindJob:
		o.Columns = []string{"job", "state", "rows_in", "rows_out", "late", "rejected"}
		for _, j := range s.Jobs() {
			o.Rows = append(o.Rows, []string{j.Name, j.State, fmt.Sprint(j.In), fmt.Sprint(j.Out), fmt.Sprint(j.Late), fmt.Sprint(j.Rejects)})
		}
	case sql.KindTopic:
		o.Columns = []string{"topic", "partitions", "messages", "bytes"}
		for _, t := range s.Topics() {
			o.Rows = append(o.Rows, []string{t.Name, fmt.Sprint(len(t.Partitions)), fmt.Sprint(t.Messages), fmt.Sprint(t.Bytes)})
		}
	default:
		o.Columns = []string{kind, "definition"}
		for _, d := range s.Definitions(kind) {
			o.Rows = append(o.Rows, []string{d.Name, normal(d.SQL)})
		}
	}
	return o
}

// Describe tells what a name stands for: its columns, or its text, and who uses it.
func (s *Service) Describe(name string) (Outcome, error) {
	s.mu.Lock()
	kind := s.cat.KindOf(name)
	stream := s.cat.Streams[name]
	text := ""
	var names []string
	for _, d := range s.defs {
		names = append(names, d.Name)
		if d.Name == name {
			text = d.SQL
		}
	}
	_, isJob := s.jobs[name]
	for n := range s.jobs {
		names = append(names, n)
	}
	s.mu.Unlock()
	if kind == "" && isJob {
		d, err := s.Job(name)
		if err != nil {
			return Outcome{}, err
		}
		return Outcome{Kind: sql.KindJob, Name: name, Done: "shown", Note: d.SQL + "\n\n" + d.Explain}, nil
	}
	if kind == "" && s.topics.Topic(name) != nil {
		t, err := s.Topic(name)
		o := Outcome{Kind: sql.KindTopic, Name: name, Done: "shown", Columns: []string{"partition", "first", "next", "bytes"}}
		for _, p := range t.Partitions {
			o.Rows = append(o.Rows, []string{fmt.Sprint(p.Partition), fmt.Sprint(p.First), fmt.Sprint(p.Next), fmt.Sprint(p.Bytes)})
		}
		return o, err
	}
	if kind == "" {
		hint := ""
		if x := sql.Suggest(name, names); x != "" {
			hint = fmt.Sprintf("; did you mean %q?", x)
		}
		return Outcome{}, errorf(ErrNotFound, "nothing is called %q%s", name, hint)
	}
	o := Outcome{Kind: kind, Name: name, Done: "shown", Note: text}
	if stream != nil {
		o.Columns = []string{"column", "type", "about"}
		for _, c := range stream.Shown() {
			o.Rows = append(o.Rows, []string{c.Name, c.Type.String(), about(stream, c)})
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
	i := slices.IndexFunc(st.Columns, func(f types.Field) bool { return f.Name == c.Name })
	if i < 0 {
		out = append(out, "computed")
	} else if i == st.Time {
		out = append(out, "event time, delay "+plan.Duration(st.Delay))
	}
	return strings.Join(out, ", ")
}
