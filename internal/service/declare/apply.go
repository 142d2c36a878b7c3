package declare

import (
	"context"
	"errors"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"fiume/internal/catalog"
	"fiume/internal/connect"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/jobs"
	"fiume/internal/service/samples"
	"fiume/internal/service/topics"
	"fiume/internal/topiclog"
)

// Outcome is what a statement did.
type Outcome struct {
	Kind    string     `json:"kind" doc:"what the statement is about: stream, sink, job, topic …"`
	Name    string     `json:"name,omitempty"`
	Done    string     `json:"done" doc:"declared, replaced, created, started, stopped, dropped, written, unchanged, shown; would be … with dry_run"`
	Note    string     `json:"note,omitempty"`
	Columns []string   `json:"columns,omitempty" doc:"of what SHOW and DESCRIBE give"`
	Rows    [][]string `json:"rows,omitempty"`

	Plan *plan.Explanation `json:"plan,omitempty" doc:"of what EXPLAIN gives"`

	// Changes say what a new version of a job takes over from the one before.
	Changes []plan.Change `json:"changes,omitempty" doc:"of a job that is replaced: what its steps, streams and sinks take over"`
	// Jobs go along with a stream or table that is replaced.
	Jobs []JobChange `json:"jobs,omitempty" doc:"of a stream or table that is replaced: the jobs that use it, and what they take over"`
	// Prepares says what a job has made or changed outside.
	Prepares []string `json:"prepares,omitempty" doc:"of a job: what its sinks have made or changed at their places before the first row: tables, columns, schemas"`
}

// Script is SQL text with its parameters.
type Script struct {
	File   string
	SQL    string
	Params map[string]string
	// Begin is where a query, or jobs that are created, begin to read topics, as behind SINCE; "" leaves it to their texts.
	Begin string
}

// topicOptions are those of CREATE TOPIC.
var topicOptions = []plan.OptionSpec{
	{Name: "partitions", Kind: plan.NumberOption, Least: 1, Doc: "parts that are read and written in parallel", Default: "4"},
	{Name: "retain", Kind: plan.DurationOption, Doc: "how long messages are kept", Default: "for ever"},
	{Name: "compact", Kind: plan.FlagOption, Doc: "true: of each key the newest message is kept; empty messages, which delete a key, and what jobs wrote go a day later", Default: "false"},
	{Name: "retain megabytes", Kind: plan.NumberOption, Least: 1, Doc: "how much of a partition is kept"},
}

// Definitions are what is declared in a service, and what changes it.
type Definitions struct {
	*base.Base
	topics  *topics.Topics
	samples *samples.Samples
	jobs    *jobs.Jobs

	// Users names what else uses something, beside jobs and what is declared; nil: nothing does.
	Users func(kind, name string) []string

	defining sync.Mutex // one change of the definitions and of jobs' texts at a time; held while the catalog is written
}

// New gives what is declared in a service.
func New(b *base.Base, topics *topics.Topics, samples *samples.Samples, jobs *jobs.Jobs) *Definitions {
	return &Definitions{Base: b, topics: topics, samples: samples, jobs: jobs}
}

// action is a checked statement, ready to be done.
type action func(ctx context.Context) (Outcome, error)

// read parses a script. Its statements are bound, one after the other, to a copy of the catalog that they may change; errs
// has the errors so far.
func (s *Definitions) read(ctx context.Context, in Script) (script *sql.Script, errs *sql.Errors, cat *plan.Catalog) {
	script, err := sql.Parse(in.File, in.SQL, in.Params)
	errs = &sql.Errors{File: in.File, Text: in.SQL}
	var parse *sql.Errors
	if errors.As(err, &parse) {
		errs.List = append(errs.List, parse.List...)
	}
	s.Allowed(ctx, script, errs)
	return script, errs, s.Catalog()
}

// Catalog is a copy of what is declared, to add to. It looks at data for columns that are not listed.
func (s *Definitions) Catalog() *plan.Catalog {
	cat := s.Current().Clone()
	cat.Sample, cat.Steps = s.samples.Sampled, s.jobs.StepFields
	return cat
}

// Apply checks all statements of a script and then does them in order. Where one has errors, nothing
// is done. With dryRun nothing is done in any case. Bare queries are refused: they have a call of
// their own.
func (s *Definitions) Apply(ctx context.Context, actor string, in Script, dryRun bool) ([]Outcome, error) {
	script, errs, cat := s.read(ctx, in)
	if len(errs.List) > 0 && access.From(ctx) != nil && slices.ContainsFunc(errs.List, func(d sql.Diagnostic) bool { return d.Code == sql.NotAllowed }) {
		return nil, errs.Err() // binding looks at data
	}
	var actions []action
	made := &made{created: map[string]bool{}, dropped: map[string]bool{}, topics: map[string]bool{}, outside: true}
	if in.Begin != "" {
		begin, err := plan.ParseBound(in.Begin)
		if err != nil {
			return nil, base.Errorf(base.ErrRefused, "begin: %s", err)
		}
		made.begin = &begin
	}
	cat.Steps = s.stepsWith(made)
	for _, st := range script.Statements {
		if a := s.prepare(ctx, actor, script, st, cat, errs, made); a != nil {
			actions = append(actions, a)
		}
	}
	if err := errs.Err(); err != nil {
		return nil, err
	}
	if dryRun {
		return append([]Outcome{}, made.preview...), nil
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

// stepsWith gives the columns of the steps of jobs; of those that a script makes they are found when it is looked.
func (s *Definitions) stepsWith(made *made) plan.StepsOf {
	return func(job, step string) ([]types.Field, error) {
		if made.created[job] {
			return nil, nil
		}
		return s.jobs.StepFields(job, step)
	}
}

// made is what a script's earlier statements will have made of jobs.
type made struct {
	created, dropped map[string]bool
	topics           map[string]bool
	outside          bool      // places outside are asked whether they fit
	preview          []Outcome // what would be done
	begin            *plan.Bound
}

// would notes what a statement would do.
func (m *made) would(kind, name, done string) {
	m.wouldNote(kind, name, done, "")
}

// wouldNote is would, with what there is to know of it.
func (m *made) wouldNote(kind, name, done, note string) {
	m.preview = append(m.preview, Outcome{Kind: kind, Name: name, Done: "would be " + done, Note: note})
}

// prepare checks one statement against the catalog as it will be then, and gives what does it.
func (s *Definitions) prepare(ctx context.Context, actor string, script *sql.Script, st sql.Statement, cat *plan.Catalog, errs *sql.Errors, made *made) action {
	src := script.Source(st)
	switch st := st.(type) {
	case *sql.DeclareEndpoint:
		return s.define(ctx, actor, st, src, sql.KindEndpoint, st.Name, st.Replace, cat, errs, made)
	case *sql.DeclareStream:
		return s.define(ctx, actor, st, src, sql.KindStream, st.Name, st.Replace, cat, errs, made)
	case *sql.DeclareSink:
		return s.define(ctx, actor, st, src, sql.KindSink, st.Name, st.Replace, cat, errs, made)
	case *sql.CreateView:
		return s.define(ctx, actor, st, src, sql.KindView, st.Name, st.Replace, cat, errs, made)
	case *sql.CreateBoard:
		return s.define(ctx, actor, st, src, sql.KindBoard, st.Name, st.Replace, cat, errs, made)
	case *sql.CreateAlert:
		return s.define(ctx, actor, st, src, sql.KindAlert, st.Name, st.Replace, cat, errs, made)
	case *sql.CreateFunction:
		return s.define(ctx, actor, st, src, sql.KindFunction, st.Name, st.Replace, cat, errs, made)
	case *sql.DeclareTable:
		return s.define(ctx, actor, st, src, sql.KindTable, st.Name, st.Replace, cat, errs, made)
	case *sql.Insert:
		return s.prepareInsert(actor, st, cat, errs, made)
	case *sql.CreateTopic:
		opts := plan.CheckOptions(errs, st.Options, topicOptions, "a topic")
		set := topiclog.Settings{Partitions: opts.Number("partitions", 4), RetainFor: opts.Duration("retain", 0), RetainBytes: int64(opts.Number("retain megabytes", 0)) << 20, Compact: opts.Flag("compact", false)}
		if s.TopicLog.Topic(st.Name.Text) != nil && !st.IfNotExists {
			errs.Add(sql.Duplicate, st.Name.Span, "write IF NOT EXISTS to leave it as it is", "there is already a topic %q", st.Name.Text)
		}
		made.topics[st.Name.Text] = true
		if s.TopicLog.Topic(st.Name.Text) == nil {
			made.would(sql.KindTopic, st.Name.Text, "created")
		} else {
			made.preview = append(made.preview, Outcome{Kind: sql.KindTopic, Name: st.Name.Text, Done: "unchanged"})
		}
		return func(context.Context) (Outcome, error) {
			o := Outcome{Kind: sql.KindTopic, Name: st.Name.Text, Done: "created"}
			if s.TopicLog.Topic(st.Name.Text) != nil && st.IfNotExists {
				o.Done = "unchanged"
				return o, nil
			}
			return o, s.topics.Create(actor, st.Name.Text, set)
		}
	case *sql.AlterTopic:
		return s.alterTopic(actor, st, errs, made)
	case *sql.CreateJob:
		return s.prepareJob(ctx, actor, st, src, cat, errs, made)
	case *sql.StartJob:
		made.would(sql.KindJob, st.Name.Text, "started")
		if st.From != nil {
			from, ok := beginOf(st.From, errs)
			if !ok {
				return nil
			}
			return func(ctx context.Context) (Outcome, error) {
				return Outcome{Kind: sql.KindJob, Name: st.Name.Text, Done: "started"}, s.jobs.StartFrom(ctx, actor, st.Name.Text, from)
			}
		}
		return func(ctx context.Context) (Outcome, error) {
			return Outcome{Kind: sql.KindJob, Name: st.Name.Text, Done: "started"}, s.jobs.Start(ctx, actor, st.Name.Text)
		}
	case *sql.StopJob:
		made.would(sql.KindJob, st.Name.Text, "stopped")
		return func(ctx context.Context) (Outcome, error) {
			return Outcome{Kind: sql.KindJob, Name: st.Name.Text, Done: "stopped"}, s.jobs.Stop(ctx, actor, st.Name.Text)
		}
	case *sql.Drop:
		return s.prepareDrop(actor, st, cat, errs, made)
	case *sql.Show:
		return func(ctx context.Context) (Outcome, error) { return s.show(ctx, st.Kind), nil }
	case *sql.Describe:
		if st.Place {
			return func(context.Context) (Outcome, error) { return s.DescribePlace(st.Name.Text) }
		}
		if st.Function {
			return func(context.Context) (Outcome, error) { return s.DescribeFunction(st.Name.Text) }
		}
		return func(context.Context) (Outcome, error) { return s.Describe(st.Name.Text) }
	case *sql.Explain:
		if st.Query != nil {
			p := cat.Query(st.Query, errs)
			return func(context.Context) (Outcome, error) { return explained("query", p), nil }
		}
		if st.Create != nil {
			p := cat.Clone().Job(st.Create, errs)
			return func(context.Context) (Outcome, error) { return explained(p.Name, p), nil }
		}
		return func(context.Context) (Outcome, error) {
			d, err := s.jobs.Get(st.Job.Text)
			if err != nil {
				return Outcome{}, err
			}
			return Outcome{Kind: sql.KindJob, Name: d.Name, Done: "shown", Note: d.Explain, Plan: d.Plan}, nil
		}
	case *sql.Query:
		errs.Add(sql.WrongPlace, st.At(), "run it with fiume query, or in the console", "a bare SELECT is a live query, not something to apply")
	}
	return nil
}

// beginOf reads what stands behind START JOB … FROM.
func beginOf(e sql.Expr, errs *sql.Errors) (b jobs.Begin, ok bool) {
	switch e := e.(type) {
	case *sql.BeginningMark:
		return jobs.Begin{Beginning: true}, true
	case *sql.CheckpointMark:
		return jobs.Begin{Checkpoint: e.Number}, true
	case *sql.Literal:
		if e.Value.Kind == types.Timestamp {
			return jobs.Begin{At: time.UnixMicro(e.Value.I)}, true
		}
	}
	errs.Add(sql.WrongType, e.Place(), "write FROM BEGINNING, FROM CHECKPOINT 12 or FROM TIMESTAMP '2026-05-17 09:00:00'", "this is no place to start from")
	return b, false
}

func explained(name string, p *plan.Plan) Outcome {
	x := p.Explain(0)
	return Outcome{Kind: "plan", Name: name, Done: "shown", Note: x.String(), Plan: x}
}

// createdKinds are the kinds that live in Fiume; the others are declared.
var createdKinds = []string{sql.KindView, sql.KindFunction, sql.KindBoard, sql.KindAlert}

func (s *Definitions) define(ctx context.Context, actor string, st sql.Statement, src, kind string, name sql.Name, replace bool, cat *plan.Catalog, errs *sql.Errors, made *made) action {
	if tooLong(name, errs) {
		return nil
	}
	if s.SameDefinition(kind, name.Text, st, src) {
		made.preview = append(made.preview, Outcome{Kind: kind, Name: name.Text, Done: "unchanged"})
		return func(context.Context) (Outcome, error) {
			return Outcome{Kind: kind, Name: name.Text, Done: "unchanged"}, nil
		}
	}
	had := cat.KindOf(name.Text) == kind
	if replace && had {
		if users := s.usersOf(cat, kind, name.Text, made.dropped); len(users) > 0 {
			if kind == sql.KindStream || kind == sql.KindTable {
				return s.prepareEvolution(ctx, actor, st, src, kind, name, cat, errs, made)
			}
			errs.Add(sql.InUse, name.Span, "stop and drop it first, or declare another "+kind, "the %s %q is used by %s", kind, name.Text, strings.Join(users, ", "))
			return nil
		}
	}
	note, all := "", Listed(st)
	if !cat.Define(st, errs) {
		return nil
	}
	if !all { // they are found now, and stay what they are
		src = sql.Print(st)
		if kind == sql.KindTable {
			note = foundColumns(cat.Tables[name.Text].Stream)
		} else {
			note = foundColumns(cat.Streams[name.Text])
		}
	}
	switch {
	case had:
		made.wouldNote(kind, name.Text, "replaced", note)
	case slices.Contains(createdKinds, kind):
		made.would(kind, name.Text, "created")
	default:
		made.wouldNote(kind, name.Text, "declared", note)
	}
	return func(context.Context) (Outcome, error) {
		s.defining.Lock()
		defer s.defining.Unlock()
		next, err := s.defined(name.Text, src)
		if err == nil {
			err = s.Store.PutDefinition(kind, name.Text, src)
		}
		if err != nil {
			return Outcome{}, err
		}
		done := "declared"
		if slices.Contains(createdKinds, kind) {
			done = "created"
		}
		if s.nowDefined(next, kind, name.Text, src) {
			done = "replaced"
		}
		s.Note(actor, done, kind+" "+name.Text, src)
		return Outcome{Kind: kind, Name: name.Text, Done: done, Note: note}, nil
	}
}

// defined gives the service's catalog as it is with a definition. The caller holds defining.
func (s *Definitions) defined(name, src string) (*plan.Catalog, error) {
	errs := &sql.Errors{File: name, Text: src} // its places are those of its own text
	script, err := sql.Parse(name, src, nil)
	if err != nil {
		return nil, err
	}
	next := s.Current().Clone()
	if !next.Define(script.Statements[0], errs) {
		return nil, errs.Err()
	}
	return next, nil
}

// nowDefined has a definition count that the store keeps, and says whether there was one of its name.
func (s *Definitions) nowDefined(next *plan.Catalog, kind, name, src string) (had bool) {
	d := catalog.Definition{Kind: kind, Name: name, SQL: src, CreatedAt: time.Now(), UpdatedAt: time.Now()}
	all := slices.Clone(s.Defined())
	i := slices.IndexFunc(all, func(d catalog.Definition) bool { return d.Name == name })
	if i >= 0 {
		all[i] = d
	} else {
		all = append(all, d)
	}
	s.Define(next, all)
	return i >= 0
}

// tooLong says whether a name has too many letters, or is the service's own.
func tooLong(name sql.Name, errs *sql.Errors) bool {
	if name.Text == plan.OwnSpace || access.SpaceOf(name.Text) == plan.OwnSpace {
		errs.Add(sql.Duplicate, name.Span, "choose another name", "%s is where the service tells of itself", plan.OwnSpace)
		return true
	}
	n := utf8.RuneCountInString(name.Text)
	if n <= base.LongestName {
		return false
	}
	errs.Add(sql.Syntax, name.Span, "", "a name has up to %d letters, and this one has %d", base.LongestName, n)
	return true
}

// SameDefinition says whether a name is defined by just this text, so that applying a file twice
// changes nothing.
func (s *Definitions) SameDefinition(kind, name string, st sql.Statement, src string) bool {
	for _, d := range s.Defined() {
		if d.Name == name {
			return d.Kind == kind && (sameText(d.SQL, src) || !Listed(st) && sameButColumns(st, d.SQL))
		}
	}
	return false
}

// sameText says whether two statements differ in nothing but spaces and OR REPLACE.
func sameText(a, b string) bool {
	plain := func(src string) string { return orReplace.ReplaceAllString(normal(src), "$1 ") }
	return plain(a) == plain(b)
}

var orReplace = regexp.MustCompile(`(?i)^(declare|create) or replace `)

func normal(src string) string { return strings.Join(strings.Fields(src), " ") }

func (s *Definitions) prepareJob(ctx context.Context, actor string, st *sql.CreateJob, src string, cat *plan.Catalog, errs *sql.Errors, made *made) action {
	name := st.Name.Text
	if tooLong(st.Name, errs) {
		return nil
	}
	old := s.jobs.Find(name)
	if made.created[name] {
		errs.Add(sql.Duplicate, st.Name.Span, "", "the job %q is there twice", name)
		return nil
	}
	made.created[name] = true
	p := cat.Job(st, errs)
	if p == nil {
		return nil
	}
	if sink, why := s.sharedPlace(st, cat, made.dropped); why != "" {
		errs.Add(sql.Misfit, sink.Span, "declare a sink over another directory", "%s", why)
		return nil
	}
	same := old != nil && !made.dropped[name] && sameText(old.Text(), src)
	if !same && made.outside {
		if err := s.checkJob(ctx, p, made.topics); err != nil {
			errs.Add(sql.Misfit, placeOf(st, err), "", "the job %s cannot run: %s", name, strings.ReplaceAll(err.Error(), "\n", "; "))
			return nil
		}
	}
	var prepares []string
	if !same && made.outside {
		var err error
		if prepares, err = s.prepares(ctx, p, made.topics); err != nil {
			errs.Add(sql.Misfit, st.Name.Span, "", "the job %s cannot run: %s", name, err)
			return nil
		}
	}
	if old != nil && !made.dropped[name] {
		if same {
			made.preview = append(made.preview, Outcome{Kind: sql.KindJob, Name: name, Done: "unchanged"})
			return func(context.Context) (Outcome, error) {
				return Outcome{Kind: sql.KindJob, Name: name, Done: "unchanged", Note: "it is " + old.Info().State}, nil
			}
		}
		if !st.Replace {
			errs.Add(sql.Duplicate, st.Name.Span, "write CREATE OR REPLACE JOB to have this text take over, or choose another name", "there is already a job %q, and its text differs", name)
			return nil
		}
		changes, err := old.ChangesTo(p)
		if err != nil {
			errs.Add(sql.InUse, st.Name.Span, "DROP JOB "+name+" first; it begins afresh", "the job %q cannot be taken over: %s", name, err)
			return nil
		}
		made.preview = append(made.preview, Outcome{Kind: sql.KindJob, Name: name, Done: "would be replaced", Changes: changes, Prepares: prepares})
		return func(ctx context.Context) (Outcome, error) {
			s.defining.Lock() // so that it goes along with what changes meanwhile
			defer s.defining.Unlock()
			if err := s.checkJob(ctx, p, nil); err != nil { // once more: what others do meanwhile counts
				return Outcome{}, base.Errorf(base.ErrRefused, "the job %s cannot run: %s", name, err)
			}
			return Outcome{Kind: sql.KindJob, Name: name, Done: "replaced", Changes: changes, Prepares: prepares}, old.Replace(ctx, actor, src)
		}
	}
	made.preview = append(made.preview, Outcome{Kind: sql.KindJob, Name: name, Done: "would be created", Prepares: prepares})
	return func(ctx context.Context) (Outcome, error) {
		s.defining.Lock()
		defer s.defining.Unlock()
		if err := s.checkJob(ctx, p, nil); err != nil { // once more: what others do meanwhile counts
			return Outcome{}, base.Errorf(base.ErrRefused, "the job %s cannot run: %s", name, err)
		}
		if err := s.jobs.Create(ctx, actor, name, src, made.begin); err != nil {
			return Outcome{}, err
		}
		return Outcome{Kind: sql.KindJob, Name: name, Done: "created", Note: "it is starting", Prepares: prepares}, nil
	}
}

// checkJob looks whether what a job reads and writes is there and fits. coming are topics that are made before it.
func (s *Definitions) checkJob(ctx context.Context, p *plan.Plan, coming map[string]bool) error {
	o := s.Opener()
	o.Coming = coming
	return o.Check(ctx, p)
}

// prepares says what a job would have made or changed outside.
func (s *Definitions) prepares(ctx context.Context, p *plan.Plan, coming map[string]bool) ([]string, error) {
	o := s.Opener()
	o.Coming = coming
	return o.Prepares(ctx, p)
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

// alterTopic prepares that a topic gets partitions.
func (s *Definitions) alterTopic(actor string, st *sql.AlterTopic, errs *sql.Errors, made *made) action {
	opts := plan.CheckOptions(errs, st.Options, topicOptions[:1], "what of a topic can be altered")
	n, name := opts.Number("partitions", 0), st.Name.Text
	t := s.TopicLog.Topic(name)
	switch {
	case t == nil && !made.topics[name]:
		_, err := s.topics.Named(name)
		errs.Add(sql.UnknownName, st.Name.Span, "", "%s", err)
		return nil
	case n > 1000:
		errs.Add(sql.BadOption, st.Span, "", "a topic has 1 to 1000 partitions")
		return nil
	case t != nil && n > 0 && n < len(t.Partitions()):
		errs.Add(sql.BadOption, st.Span, "make another topic, and have a job write to it what it is to have", "the topic '%s' has %d partitions, and their messages would be gone", name, len(t.Partitions()))
		return nil
	}
	done := "altered"
	if t != nil && n == len(t.Partitions()) {
		done = "unchanged"
	}
	made.preview = append(made.preview, Outcome{Kind: sql.KindTopic, Name: name, Done: map[string]string{"altered": "would be altered", "unchanged": "unchanged"}[done]})
	return func(context.Context) (Outcome, error) {
		changed, err := s.topics.Grow(actor, name, n)
		o := Outcome{Kind: sql.KindTopic, Name: name, Done: "unchanged"}
		if changed {
			o.Done = "altered"
			o.Note = "messages of a key may go to another partition from now on; jobs find the new ones with a checkpoint"
		}
		return o, err
	}
}
