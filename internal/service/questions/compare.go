package questions

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
	"fiume/internal/service/declare"
	"fiume/internal/service/sensitive"
)

// Comparison is what two versions of a job make of the same messages.
type Comparison struct {
	Job   string           `json:"job"`
	Until time.Time        `json:"until" doc:"both have read what was there then"`
	Read  int64            `json:"read" doc:"messages that the new version has read"`
	Sinks []SinkComparison `json:"sinks"`
}

// SinkComparison compares what would stand in a sink.
type SinkComparison struct {
	Sink    string      `json:"sink"`
	Key     []string    `json:"key,omitempty" doc:"the columns by which changed rows are told from others; without them no row counts as changed"`
	Equal   int         `json:"equal"`
	Changed int         `json:"changed" doc:"rows of a key that are others"`
	Missing int         `json:"missing" doc:"rows that only the version that runs has"`
	Added   int         `json:"added" doc:"rows that only the new version has"`
	Samples []RowChange `json:"samples"`
}

// RowChange is a row that differs.
type RowChange struct {
	Old string `json:"old,omitempty"`
	New string `json:"new,omitempty"`
}

// Rows that a comparison holds of a sink, and shows: so many that the version that runs has, and so many others.
const (
	mostCompared = 1_000_000
	shownChanges = 3
)

// Compare runs a job's text and a new one beside each other over the messages of its streams from since on, as
// behind SINCE, into sinks of their own, and compares what would stand in them. Nothing of the job changes.
func (s *Questions) Compare(ctx context.Context, name string, in declare.Script, since string) (*Comparison, error) {
	ctx, answered, err := s.Ask(ctx)
	if err != nil {
		return nil, err
	}
	defer answered()
	j, err := s.jobs.Named(name)
	if err != nil {
		return nil, err
	}
	script, err := sql.Parse(in.File, in.SQL, in.Params)
	if err != nil {
		return nil, err
	}
	errs := &sql.Errors{File: in.File, Text: in.SQL}
	var create *sql.CreateJob
	for _, st := range script.Statements {
		if c, ok := st.(*sql.CreateJob); ok && (c.Name.Text == name || len(script.Statements) == 1) {
			create = c
		}
	}
	if create == nil {
		return nil, base.Errorf(base.ErrRefused, "the text has no CREATE JOB %s", name)
	}
	if s.Allowed(ctx, script, errs); len(errs.List) > 0 {
		return nil, errs.Err()
	}
	next := s.Current().Job(create, errs)
	if err := errs.Err(); err != nil {
		return nil, err
	}
	old, err := s.jobs.PlanOf(j.Text())
	if err != nil {
		return nil, err
	}
	from := plan.Bound{Kind: plan.Beginning}
	if since != "" {
		if from, err = plan.ParseBound(since); err != nil {
			return nil, base.Errorf(base.ErrRefused, "since: %s", err)
		}
	}
	out := &Comparison{Job: name, Until: time.Now().UTC(), Sinks: []SinkComparison{}}
	until := plan.Bound{Kind: plan.AtTime, At: out.Until.UnixMicro()}
	a, _, err := s.shadow(ctx, old, from, until)
	if err != nil {
		return nil, fmt.Errorf("the version that runs: %w", err)
	}
	b, read, err := s.shadow(ctx, next, from, until)
	if err != nil {
		return nil, fmt.Errorf("the new version: %w", err)
	}
	out.Read = read
	var names []string
	for _, o := range append(old.Outputs(), next.Outputs()...) {
		if !slices.Contains(names, o.Step) {
			names = append(names, o.Step)
		}
	}
	for _, n := range names {
		x, err := compareSink(n, a[n], b[n])
		if err != nil {
			return nil, err
		}
		for _, veil := range []*sensitive.Veil{sensitive.OfPlan(ctx, s.Base, old), sensitive.OfPlan(ctx, s.Base, next)} {
			for i := range x.Samples {
				x.Samples[i].Old, x.Samples[i].New = veil.Text(x.Samples[i].Old), veil.Text(x.Samples[i].New)
			}
		}
		out.Sinks = append(out.Sinks, x)
	}
	return out, nil
}

// shadow runs a plan over a stretch of its streams and gives what would stand in its sinks.
func (s *Questions) shadow(ctx context.Context, p *plan.Plan, from, until plan.Bound) (map[string]*rows.Capture, int64, error) {
	for _, o := range p.Scans() {
		if o.OfTable != nil {
			continue
		}
		if o.Stream.Times {
			o.Since, o.Until = from, until
		} else if !o.Stream.Again {
			return nil, 0, base.Errorf(base.ErrRefused, "the stream %s reads %s, which cannot be read twice", o.Step, strings.ToUpper(o.Stream.Place))
		}
	}
	o := &capturing{Opener: s.Opener(), sinks: map[string]*rows.Capture{}}
	run, err := s.RunQuestion(ctx, p, o, flow.Options{Describe: text.Describe})
	if err != nil {
		if errors.Is(err, rows.ErrTooMany) {
			err = base.Errorf(base.ErrRefused, "more than %d rows would stand in a sink; compare a shorter time with --since", mostCompared)
		}
		return nil, 0, err
	}
	read := int64(0)
	for _, st := range run.Status().Steps {
		if st.Kind == "scan" && !st.Table {
			read += st.Counts.In
		}
	}
	return o.sinks, read, nil
}

// capturing opens captures in the place of sinks.
type capturing struct {
	flow.Opener
	sinks map[string]*rows.Capture
}

// OpenSink implements flow.Opener.
func (c *capturing) OpenSink(out *plan.Op) (flow.Sink, error) {
	k := &rows.Capture{Limit: mostCompared}
	row := types.Type{Kind: types.Row, Fields: out.Fields}
	key := out.Sink.Options.Names("key")
	if out.Changes && out.Full {
		key = nil
	}
	for _, n := range key {
		if row.FieldIndex(n) >= 0 && (out.Changes || out.Sink.Replaces) { // the newest row of a key stands
			k.Key = key
		}
	}
	c.sinks[out.Step] = k
	return k, nil
}

func compareSink(name string, a, b *rows.Capture) (SinkComparison, error) {
	out := SinkComparison{Sink: name, Samples: []RowChange{}}
	var old, next []string
	var err error
	if a != nil {
		out.Key = a.Key
		if old, err = a.Rows(); err != nil {
			return out, fmt.Errorf("sink %s: %w", name, err)
		}
	}
	if b != nil {
		out.Key = b.Key
		if next, err = b.Rows(); err != nil {
			return out, fmt.Errorf("sink %s: %w", name, err)
		}
	}
	left := map[string]int{}
	for _, row := range old {
		left[row]++
	}
	var added []string
	for _, row := range next {
		if left[row] > 0 {
			left[row]--
			out.Equal++
		} else {
			added = append(added, row)
		}
	}
	was := map[string]string{} // rows that are missing, by key
	var missing []string
	for _, row := range old {
		if left[row] > 0 {
			left[row]--
			if out.Key != nil {
				was[rows.KeyOf(row, out.Key)] = row
			} else {
				missing = append(missing, row)
			}
		}
	}
	shown := map[bool]int{} // whether the old version has the row
	sample := func(c RowChange) {
		if old := c.Old != ""; shown[old] < shownChanges {
			shown[old]++
			out.Samples = append(out.Samples, c)
		}
	}
	for _, row := range added {
		if out.Key != nil {
			k := rows.KeyOf(row, out.Key)
			if o, ok := was[k]; ok {
				out.Changed++
				delete(was, k)
				sample(RowChange{o, row})
				continue
			}
		}
		out.Added++
		sample(RowChange{New: row})
	}
	for _, row := range was {
		missing = append(missing, row)
	}
	slices.Sort(missing)
	out.Missing = len(missing)
	for _, row := range missing {
		sample(RowChange{Old: row})
	}
	return out, nil
}
