package service

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

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
