package declare

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"fiume/internal/catalog"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service/base"
	"fiume/internal/service/jobs"
)

// JobChange is what becomes of a job when a stream or table that it uses is replaced.
type JobChange struct {
	Job     string        `json:"job"`
	Changes []plan.Change `json:"changes" doc:"what its steps, streams and sinks take over"`

	Prepares []string `json:"prepares,omitempty" doc:"what its sinks have made or changed at their places: tables, columns, schemas"`
}

// evolution is a stream or table that is to take the place of one that is used, with the jobs that go along.
type evolution struct {
	kind, name, src string
	next            *plan.Catalog // with it
	jobs            []evolving
}

// evolving is a job that goes along.
type evolving struct {
	*jobs.Job
	from, to *plan.Plan
	prepares []string
}

// changes says what becomes of the jobs.
func (e *evolution) changes() []JobChange {
	out := []JobChange{}
	for _, j := range e.jobs {
		out = append(out, JobChange{j.Name, j.to.Changes(j.from), j.prepares})
	}
	return out
}

// prepareEvolution checks a declaration that replaces one that is used. It goes through where all that use it can go on with it.
func (s *Definitions) prepareEvolution(ctx context.Context, actor string, st sql.Statement, src, kind string, name sql.Name, cat *plan.Catalog, errs *sql.Errors, made *made) action {
	was := cat.Clone()
	note, all := "", Listed(st)
	if !cat.Define(st, errs) {
		return nil
	}
	if !all { // they are found now, and stay what they are
		src = sql.Print(st)
		note = foundColumns(streamOf(cat, name.Text))
	}
	e, err := s.evolution(ctx, was, cat, kind, name.Text, src, made.dropped, made.outside)
	if err != nil {
		errs.Add(sql.InUse, name.Span, "declare another "+kind+", or drop what uses it first", "the %s %q cannot be replaced: %s", kind, name.Text, err)
		return nil
	}
	made.preview = append(made.preview, Outcome{Kind: kind, Name: name.Text, Done: "would be replaced", Note: note, Jobs: e.changes()})
	return func(ctx context.Context) (Outcome, error) {
		s.defining.Lock()
		defer s.defining.Unlock()
		next, err := s.defined(name.Text, src)
		if err != nil {
			return Outcome{}, err
		}
		e, err := s.evolution(ctx, s.Current(), next, kind, name.Text, src, nil, true)
		if err != nil {
			return Outcome{}, base.Errorf(base.ErrConflict, "the %s %q cannot be replaced: %s", kind, name.Text, err)
		}
		if err := s.evolve(ctx, actor, e); err != nil {
			return Outcome{}, err
		}
		s.Note(actor, "replaced", kind+" "+name.Text, src)
		return Outcome{Kind: kind, Name: name.Text, Done: "replaced", Note: note, Jobs: e.changes()}, nil
	}
}

func streamOf(cat *plan.Catalog, name string) *plan.Stream {
	if t := cat.Tables[name]; t != nil {
		return t.Stream
	}
	return cat.Streams[name]
}

// evolution finds out what uses a stream or table, and whether it can go on with the one that a catalog has now.
func (s *Definitions) evolution(ctx context.Context, was, next *plan.Catalog, kind, name, src string, dropped map[string]bool, outside bool) (*evolution, error) {
	e := &evolution{kind: kind, name: name, src: src, next: next}
	var reasons []string
	switch {
	case streamOf(was, name) == nil || was.KindOf(name) != kind:
		return nil, fmt.Errorf("it is not there any more")
	case kind == sql.KindTable:
		reasons = was.Tables[name].Evolves(next.Tables[name])
	default:
		reasons = was.Streams[name].Evolves(next.Streams[name])
	}
	for _, v := range slices.Sorted(maps.Keys(was.Views)) {
		q, err := sql.Parse(v, "SELECT * FROM "+sql.Quoted(v)+";", nil)
		if err != nil {
			continue
		}
		query := q.Statements[0].(*sql.Query)
		if was.Query(query, &sql.Errors{}) == nil {
			continue // it did not fit before
		}
		errs := &sql.Errors{}
		if next.Query(query, errs); len(errs.List) > 0 {
			reasons = append(reasons, fmt.Sprintf("the view %s could not be read: %s", v, errs.List[0].Message))
		}
	}
	all := slices.DeleteFunc(s.jobs.All(), func(j *jobs.Job) bool { return dropped[j.Name] })
	slices.SortFunc(all, func(a, b *jobs.Job) int { return strings.Compare(a.Name, b.Name) })
	var users []string
	for _, j := range all {
		from, err := jobs.PlanIn(was, j.Text())
		if err != nil || !slices.ContainsFunc(from.Scans(), func(o *plan.Op) bool { return o.Stream.Name == name }) && !looksInto(from, name) {
			continue
		}
		users = append(users, j.Name)
		to, err := jobs.PlanIn(next, j.Text())
		if err == nil && outside {
			err = s.checkJob(ctx, to, nil)
		}
		var prepares []string
		if err == nil && outside {
			prepares, err = s.prepares(ctx, to, nil)
		}
		if err != nil {
			reasons = append(reasons, fmt.Sprintf("the job %s could not go on: %s", j.Name, firstLine(err)))
			continue
		}
		e.jobs = append(e.jobs, evolving{j, from, to, prepares})
	}
	if len(reasons) > 0 {
		why := strings.Join(reasons, "; ")
		if len(users) > 0 {
			why += fmt.Sprintf(" (it is used by the %s %s)", plural(len(users), "job"), strings.Join(users, ", "))
		}
		return nil, fmt.Errorf("%s", why)
	}
	return e, nil
}

func plural(n int, what string) string {
	if n == 1 {
		return what
	}
	return what + "s"
}

// firstLine is an error without the picture of its place.
func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// looksInto says whether a plan asks a table where it is, so that it has no scan of it.
func looksInto(p *plan.Plan, table string) bool {
	return slices.ContainsFunc(p.Ops, func(o *plan.Op) bool { return o.OfTable != nil && o.OfTable.Name == table })
}

// evolve brings all jobs that use a stream or table to a stand, replaces it, and starts them again. Where one cannot be brought
// to a stand, or what it holds cannot be taken over, all go on as they were. The caller holds defining.
func (s *Definitions) evolve(ctx context.Context, actor string, e *evolution) error {
	var down func(i int) error
	down = func(i int) error {
		if i == len(e.jobs) {
			return s.redefine(actor, e)
		}
		return e.jobs[i].Changed(ctx, func() error { return down(i + 1) })
	}
	return down(0)
}

// redefine has a definition count, and the versions of the jobs that come with it. The jobs stand still.
func (s *Definitions) redefine(actor string, e *evolution) error {
	var versions []catalog.Version
	for i := range e.jobs {
		j := &e.jobs[i]
		text := j.Text()
		var err error
		if j.from, err = s.jobs.PlanOf(text); err == nil { // it may have been replaced meanwhile
			j.to, err = jobs.PlanIn(e.next, text)
		}
		if err != nil {
			return base.Errorf(base.ErrConflict, "the job %q was changed meanwhile: %s", j.Name, firstLine(err))
		}
		if sameKeys(j.from, j.to) {
			continue
		}
		if err := j.TakeOver(j.from, j.to); err != nil {
			return base.Errorf(base.ErrConflict, "the job %q cannot be taken over: %s", j.Name, err)
		}
		all, err := s.Store.Versions(j.Name)
		if err != nil {
			return err
		}
		v := catalog.Version{Job: j.Name, Version: j.Record().Version + 1, SQL: text}
		if len(all) > 0 {
			v.Version = all[0].Version + 1
		}
		versions = append(versions, v)
	}
	if err := s.Store.Redefine(e.kind, e.name, e.src, actor, versions); err != nil {
		return err
	}
	s.nowDefined(e.next, e.kind, e.name, e.src)
	for _, v := range versions {
		i := slices.IndexFunc(e.jobs, func(j evolving) bool { return j.Name == v.Job })
		j := e.jobs[i].Job
		j.Versioned(v.Version)
	}
	return nil
}

// sameKeys says whether all that a plan keeps has its operator in another.
func sameKeys(a, b *plan.Plan) bool {
	return slices.EqualFunc(a.Ops, b.Ops, func(x, y *plan.Op) bool { return x.Key == y.Key })
}

// Revert gives a job the text of an earlier version, 0 for the one before, as a new version.
func (s *Definitions) Revert(ctx context.Context, actor, name string, to int) ([]Outcome, error) {
	j, err := s.jobs.Named(name)
	if err != nil {
		return nil, err
	}
	all, err := s.Store.Versions(name)
	if err != nil {
		return nil, err
	}
	current := j.Record().Version
	for _, v := range all {
		if v.Version == current || to != 0 && v.Version != to {
			continue
		}
		if to == 0 && sameText(v.SQL, j.Text()) {
			continue // a version that came with a change of a stream
		}
		src := v.SQL
		if script, err := sql.Parse(name, src, nil); err == nil {
			if c, ok := script.Statements[0].(*sql.CreateJob); ok && !c.Replace {
				c.Replace = true
				src = sql.Print(c)
			}
		}
		return s.Apply(ctx, actor, Script{File: fmt.Sprintf("version %d", v.Version), SQL: strings.TrimSuffix(strings.TrimSpace(src), ";") + ";"}, false)
	}
	if to != 0 {
		return nil, base.Errorf(base.ErrNotFound, "the job %q has no version %d but the one that runs", name, to)
	}
	return nil, base.Errorf(base.ErrConflict, "the job %q has no version before this one", name)
}
