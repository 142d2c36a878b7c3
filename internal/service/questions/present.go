package questions

import (
	"context"
	"fmt"
	"maps"

	"fiume/internal/connect"
	"fiume/internal/connect/recorded"
	"fiume/internal/connect/rows"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
	"fiume/internal/service/declare"
	"fiume/internal/service/jobs"
	"fiume/internal/service/sensitive"
)

// mostStanding is how many rows may stand in the result of a query that is asked for them.
const mostStanding = 200_000

// present finds the rows of the jobs' steps that a query reads, FROM job.step, and adds them to a copy of the catalogue. Of a query of one step with
// conditions column = value, only the rows with these values are asked for.
func (s *Questions) present(ctx context.Context, q *sql.Query, cat **plan.Catalog, errs *sql.Errors) (map[string][]recorded.Message, error) {
	reads := q.JobSteps((*cat).Knows)
	if len(reads) == 0 {
		return nil, nil
	}
	if _, now := q.Until.(*sql.NowMark); !now {
		errs.Add(sql.WrongPlace, reads[0].Span, "write UNTIL NOW at the end of the query", "%s is given as it stands, and not as it comes", reads[0].Read())
		return nil, errs.Err()
	}
	where := map[string]string{}
	if len(reads) == 1 && q.Body.From.Read() == reads[0].Read() && len(q.Body.Joins) == 0 && q.Body.Union == nil {
		where = equalities(q.Body.Where)
	}
	masking := false
	out := map[string][]recorded.Message{}
	*cat = (*cat).Clone()
	for _, f := range reads {
		name := f.Read()
		if _, done := out[name]; done {
			continue
		}
		veil, err := s.veilOf(ctx, f)
		if err != nil {
			return nil, err
		}
		asked := maps.Clone(where) // not for values that are hidden: which rows come would tell
		maps.DeleteFunc(asked, func(column, _ string) bool { return veil.Hides(column) })
		p, err := s.standing(ctx, f, asked)
		if err != nil {
			return nil, err
		}
		if p.More {
			return nil, base.Errorf(base.ErrRefused, "the step %s has more than %d rows; name some of them with WHERE column = value, by %v", name, jobs.MostPresent, p.Keys)
		}
		fields, err := declare.FieldsOf(p.Columns)
		if err != nil {
			return nil, err
		}
		for i := range fields {
			fields[i].Sensitive = veil.Hides(fields[i].Name)
			masking = masking || fields[i].Sensitive
		}
		if err := (*cat).Present(name, fields); err != nil {
			return nil, fmt.Errorf("the rows of %s: %w", name, err)
		}
		ms := []recorded.Message{}
		for i, row := range p.Rows {
			value := fmt.Appendf(nil, "{%q:%d,", plan.PresentNumber, i)
			ms = append(ms, recorded.Message{Offset: int64(i), Key: fmt.Append(nil, i), Value: append(value, row[1:]...)})
		}
		out[name] = ms
	}
	if masking {
		*cat = (*cat).Masked(func(name string) bool { return out[name] != nil }, s.Mask)
	}
	return out, nil
}

// veilOf gives what hides the rows of a job's step.
func (s *Questions) veilOf(ctx context.Context, f sql.From) (*sensitive.Veil, error) {
	if f.Job.Text == plan.OwnSpace && s.Own != nil {
		return nil, nil
	}
	return s.OfJob(ctx, f.Job.Text)
}

// OfJob gives what hides the rows of a job from the caller of a context; nil: nothing is hidden.
func (s *Questions) OfJob(ctx context.Context, name string) (*sensitive.Veil, error) {
	if sensitive.Sees(ctx, s.Base) {
		return nil, nil
	}
	j, err := s.jobs.Named(name)
	if err != nil {
		return nil, err
	}
	p, err := s.jobs.PlanOf(j.Text())
	if err != nil {
		return nil, err
	}
	return sensitive.OfPlan(ctx, s.Base, p), nil
}

// standing gives the rows of a job's step, or of what the service tells of itself.
func (s *Questions) standing(ctx context.Context, f sql.From, where map[string]string) (*jobs.Present, error) {
	if f.Job.Text != plan.OwnSpace || s.Own == nil {
		return s.jobs.Present(ctx, f.Job.Text, f.Name.Text, where, jobs.MostPresent)
	}
	t, err := plan.Own(f.Name.Text)
	if err != nil {
		return nil, base.Errorf(base.ErrNotFound, "%s", err)
	}
	p := &jobs.Present{Job: f.Job.Text, Step: f.Name.Text}
	for _, c := range t.Columns {
		p.Columns = append(p.Columns, base.Column{Name: c.Name, Type: c.Type.String()})
	}
	p.Rows, err = s.Own(ctx, t.Name)
	return p, err
}

// equalities are the conditions column = value that all have to hold, with the values as text.
func equalities(e sql.Expr) map[string]string {
	out := map[string]string{}
	var look func(e sql.Expr)
	look = func(e sql.Expr) {
		b, ok := e.(*sql.Binary)
		if !ok {
			return
		}
		if b.Op == "AND" {
			look(b.X)
			look(b.Y)
			return
		}
		path, isPath := b.X.(*sql.Path)
		value, isValue := b.Y.(*sql.Literal)
		if b.Op != "=" || !isPath || !isValue || len(path.Parts) != 1 {
			return
		}
		switch value.Value.Kind {
		case types.Varchar:
			out[path.Parts[0].Text] = value.Value.S
		case types.BigInt:
			out[path.Parts[0].Text] = fmt.Sprint(value.Value.I)
		}
	}
	if e != nil {
		look(e)
	}
	return out
}

// givenOpener opens sources whose rows are at hand.
type givenOpener struct {
	*connect.Opener
	given map[string][]recorded.Message
}

// OpenSource implements flow.Opener.
func (o *givenOpener) OpenSource(scan *plan.Op) (flow.Source, error) {
	ms, ok := o.given[scan.Stream.Name]
	if !ok {
		return o.Opener.OpenSource(scan)
	}
	reading, err := o.Reading(scan)
	if err != nil {
		return nil, err
	}
	return recorded.Open(reading, scan.Stream.Name, ms), nil
}

// giveAll gives the rows that stand, up to a limit.
func giveAll(c *rows.Capture, limit int64, each func(row []byte) error) error {
	all, err := c.Rows()
	if err != nil {
		return err
	}
	if limit >= 0 && int64(len(all)) > limit {
		all = all[:limit]
	}
	for _, row := range all {
		if err := each([]byte(row)); err != nil {
			return err
		}
	}
	return nil
}
