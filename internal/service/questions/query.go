// Package questions answers what people ask while jobs run: live queries, tries, comparisons, why a row is there, what
// became of a message, how late a stream is, and whether places can be reached. It changes nothing.
package questions

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"time"

	"fiume/internal/connect/recorded"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
	"fiume/internal/service/declare"
	"fiume/internal/service/jobs"
	"fiume/internal/service/samples"
	"fiume/internal/service/sensitive"
	"fiume/internal/service/topics"
)

// Questions are what people ask while jobs run.
type Questions struct {
	*base.Base
	topics      *topics.Topics
	samples     *samples.Samples
	jobs        *jobs.Jobs
	definitions *declare.Definitions

	// Own gives the rows of what the service tells of itself; nil: it does not.
	Own func(ctx context.Context, table string) ([]json.RawMessage, error)
}

// New answers the questions of a service.
func New(b *base.Base, topics *topics.Topics, samples *samples.Samples, jobs *jobs.Jobs, definitions *declare.Definitions) *Questions {
	return &Questions{Base: b, topics: topics, samples: samples, jobs: jobs, definitions: definitions}
}

// LiveQuery is a bound query that can be run.
type LiveQuery struct {
	Columns []base.Column
	s       *Questions
	plan    *plan.Plan
	given   map[string][]recorded.Message // the rows of steps of jobs, by job.step
	stands  bool                          // the rows that stand at the end are wanted
	itself  bool                          // the service asks
	veil    *sensitive.Veil               // hides rows that are set aside
}

// Query binds a bare SELECT. in.Begin is where topics are read from that do not say so; "" is now.
func (s *Questions) Query(ctx context.Context, in declare.Script) (*LiveQuery, error) {
	script, err := sql.Parse(in.File, in.SQL, in.Params)
	if err != nil {
		return nil, err
	}
	errs := &sql.Errors{File: in.File, Text: in.SQL}
	if len(script.Statements) != 1 {
		errs.Add(sql.WrongPlace, sql.Span{From: 0, To: len(in.SQL)}, "", "expected one SELECT, found %d statements", len(script.Statements))
		return nil, errs.Err()
	}
	q, ok := script.Statements[0].(*sql.Query)
	if !ok {
		errs.Add(sql.WrongPlace, script.Statements[0].At(), "send it with fiume apply", "expected a SELECT")
		return nil, errs.Err()
	}
	if s.Allowed(ctx, script, errs); len(errs.List) > 0 {
		return nil, errs.Err()
	}
	given, p, stands, err := s.asked(ctx, sensitive.Catalog(ctx, s.Base, s.Current()), q, errs)
	if err != nil {
		return nil, err
	}
	if in.Begin != "" {
		begin, err := plan.ParseBound(in.Begin)
		if err != nil {
			return nil, base.Errorf(base.ErrRefused, "begin: %s", err)
		}
		for _, o := range p.Scans() {
			if o.Since.Kind == plan.Default && o.OfTable == nil && o.Stream.Times {
				o.Since = begin
			}
		}
	}
	out := s.live(given, p, stands)
	out.veil = sensitive.OfScans(ctx, s.Base, p)
	sensitive.OfOutput(ctx, s.Base, p, p.Outputs()[0]).Mark(out.Columns)
	return out, nil
}

// asked binds a query, with the rows that stand where it reads such.
func (s *Questions) asked(ctx context.Context, cat *plan.Catalog, q *sql.Query, errs *sql.Errors) (map[string][]recorded.Message, *plan.Plan, bool, error) {
	given, err := s.present(ctx, q, &cat, errs)
	if err != nil {
		return nil, nil, false, err
	}
	p, stands := cat.Asked(q, errs)
	return given, p, stands, errs.Err()
}

func (s *Questions) live(given map[string][]recorded.Message, p *plan.Plan, stands bool) *LiveQuery {
	out := &LiveQuery{s: s, plan: p, given: given, stands: stands}
	for _, f := range p.Outputs()[0].Fields {
		out.Columns = append(out.Columns, base.Column{Name: f.Name, Type: f.Type.String()})
	}
	return out
}

// Now gives the rows that a query has now, as JSON objects, most of them at most. The service asks it itself: it takes no turn of people, and what the text
// reads is not asked about again. The caller of the context only bounds what the service tells of itself. Sensitive columns are masked: who hears of the rows is not known.
func (s *Questions) Now(ctx context.Context, name, text string, most int) ([]json.RawMessage, error) {
	script, err := sql.Read(name, text)
	if err != nil {
		return nil, err
	}
	q, ok := script.Statements[0].(*sql.Query)
	if !ok {
		return nil, base.Errorf(base.ErrRefused, "expected a SELECT")
	}
	q.Until = &sql.NowMark{}
	ctx = sensitive.Always(ctx)
	given, p, stands, err := s.asked(ctx, sensitive.Catalog(ctx, s.Base, s.Current()), q, &sql.Errors{File: name, Text: text})
	if err != nil {
		return nil, err
	}
	live := s.live(given, p, stands)
	live.itself = true
	out := []json.RawMessage{}
	_, _, err = live.Run(ctx, func(row []byte) error {
		if out = append(out, json.RawMessage(bytes.Clone(row))); len(out) > most {
			return base.Errorf(base.ErrRefused, "more than %d rows; keep some with WHERE, or put them together with GROUP BY", most)
		}
		return nil
	}, func(QueryAside) {})
	if err == nil && ctx.Err() != nil {
		err = ctx.Err()
	}
	return out, err
}

// Fields gives the columns of the result.
func (q *LiveQuery) Fields() []types.Field { return q.plan.Outputs()[0].Fields }

// QueryAside says how many rows of a query were late or rejected, and why one of them was.
type QueryAside struct {
	Late     int64  `json:"late"`
	Rejected int64  `json:"rejected"`
	Reason   string `json:"reason,omitempty" doc:"of one of them, with where it came from"`
}

// asideOf counts what a run has set aside.
func asideOf(st flow.Status, samples []flow.NamedSample) (a QueryAside) {
	for _, x := range st.Steps {
		a.Late += x.Counts.Late
		a.Rejected += x.Counts.Rejected
	}
	for _, x := range samples {
		if a.Reason == "" || x.Kind == "rejected" {
			if a.Reason = x.Reason; x.Origin != "" {
				a.Reason += " (" + x.Origin + ")"
			}
		}
	}
	return a
}

// asideEvery is how often it is looked whether rows of a query were set aside.
const asideEvery = 500 * time.Millisecond

// Run gives the rows, as JSON objects, until the query ends or the context is cancelled. It gives the
// ledger of the run. aside is told now and then how many rows were set aside, when there are more.
func (q *LiveQuery) Run(ctx context.Context, each func(row []byte) error, aside func(QueryAside)) (flow.Status, []flow.NamedSample, error) {
	if !q.itself {
		leave, err := q.s.Listen(ctx)
		if err != nil {
			return flow.Status{}, nil, err
		}
		defer leave()
	}
	o := q.s.Opener()
	o.Live = true
	limit := q.plan.Outputs()[0].Limit
	if limit == 0 {
		return flow.Status{}, nil, nil
	}
	sink := &rows.Sink{Format: "json", Limit: limit, Each: each}
	o.Rows = sink
	standing := &rows.Capture{Limit: mostStanding}
	if q.stands {
		o.Rows = standing
	}
	if q.given == nil {
		if err := o.Check(ctx, q.plan); err != nil {
			return flow.Status{}, nil, base.Errorf(base.ErrRefused, "%s", err)
		}
	}
	run, err := flow.New(q.plan, &givenOpener{o, q.given}, q.s.Asked(flow.Options{Describe: text.Describe, Parallelism: 1}))
	if err != nil {
		return flow.Status{}, nil, err
	}
	ended, told := make(chan struct{}), make(chan struct{})
	var last QueryAside
	tell := func() {
		if a := asideOf(run.Status(), q.veil.Samples(run.Samples())); a.Late+a.Rejected > last.Late+last.Rejected {
			last = a
			aside(a)
		}
	}
	go func() {
		defer close(told)
		t := time.NewTicker(asideEvery)
		defer t.Stop()
		for {
			select {
			case <-ended:
				return
			case <-t.C:
				tell()
			}
		}
	}()
	err = run.Run(ctx)
	close(ended)
	<-told
	if err == nil {
		tell()
	}
	if ctx.Err() != nil && errors.Is(err, context.Cause(ctx)) {
		err = nil
	} else if q.stands && err == nil {
		err = giveAll(standing, limit, each)
	}
	if errors.Is(err, rows.ErrTooMany) {
		err = base.Errorf(base.ErrRefused, "more than %d rows stand in the result; keep some with WHERE, or put them together with GROUP BY", mostStanding)
	}
	return run.Status(), q.veil.Samples(run.Samples()), err
}
