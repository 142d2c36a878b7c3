package flow

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/state"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// Present state: the rows of a step as they stand, of what the step that groups them, or keeps a table, holds at the moment. Each task of that step is asked
// between two packets, and does with its rows what the job does behind it, up to the step that was named.

// ErrNotPresent is wrapped by errors that say why a step has no rows that stand.
var ErrNotPresent = errors.New("no rows stand")

// Standing is how a step's rows as they stand are found.
type Standing struct {
	Fields []types.Field
	holds  *plan.Op   // the step that holds them
	behind []*plan.Op // what is done with its rows, in order
	keys   []int      // by key of holds: the column of Fields that is it, or -1
}

// StandingOf finds how the rows of a plan's step as they stand are found.
func StandingOf(p *plan.Plan, name string) (*Standing, error) {
	var names []string
	var op *plan.Op
	for _, o := range p.Ops {
		if !o.Named() && o.Kind != plan.Keep {
			continue
		}
		if !slices.Contains(names, o.Step) {
			names = append(names, o.Step)
		}
		if o.Step == name {
			op = o
		}
	}
	if op == nil {
		hint := "it has " + strings.Join(names, ", ")
		if near := sql.Suggest(name, names); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		return nil, fmt.Errorf("%w: the job has no step %q; %s", ErrNotPresent, name, hint)
	}
	s := &Standing{Fields: op.Fields}
	for ; s.holds == nil; op = op.Input {
		switch op.Kind {
		case plan.Window, plan.Keep:
			s.holds = op
		case plan.Filter, plan.Project:
			s.behind = append(s.behind, op)
		default:
			return nil, fmt.Errorf("%w: the rows of %s pass through and are not kept; those of a step with GROUP BY, and of a table, are", ErrNotPresent, name)
		}
	}
	slices.Reverse(s.behind)
	if s.holds.Kind == plan.Keep && len(s.behind) == 0 { // a table holds the columns that are needed
		p := &plan.Op{ID: s.holds.ID, Kind: plan.Project}
		for _, c := range s.holds.Input.Kept {
			p.Exprs, p.Fields = append(p.Exprs, eval.Column(c, s.Fields[c].Type)), append(p.Fields, s.Fields[c])
		}
		s.behind, s.Fields = []*plan.Op{p}, p.Fields
	}
	n := 0
	at := make([]int, len(s.Fields)) // the column of holds that a column of the step is
	for i := range at {
		at[i] = i
		for _, o := range slices.Backward(s.behind) {
			if o.Kind == plan.Project && at[i] >= 0 {
				if e := o.Exprs[at[i]]; e.Op == eval.OpColumn {
					at[i] = e.Index
				} else {
					at[i] = -1
				}
			}
		}
	}
	if s.holds.Kind == plan.Window {
		n = len(s.holds.Agg.Keys)
		for k := range n {
			s.keys = append(s.keys, slices.Index(at, k))
		}
	} else {
		for _, k := range s.holds.Keys {
			s.keys = append(s.keys, slices.Index(at, k))
		}
	}
	return s, nil
}

// Keys are the columns that tell its rows apart, as far as the step has them.
func (s *Standing) Keys() (out []string) {
	for _, k := range s.keys {
		if k >= 0 {
			out = append(out, s.Fields[k].Name)
		}
	}
	return out
}

// question is what a task is asked.
type question struct {
	ctx    context.Context // of who asks: nothing is looked for that nobody waits for
	s      *Standing
	where  *eval.Expr // of the step's rows; nil: all
	wanted step.Wanted
	limit  int
	answer chan answer
}

type answer struct {
	rows []string
	err  error
}

// Present gives up to limit rows of a step as they stand, as JSON, of those whose columns have some values, and whether there are more. The job must run.
func (j *Job) Present(ctx context.Context, name string, equal map[string]types.Value, limit int) (rows []string, more bool, err error) {
	s, err := StandingOf(j.plan, name)
	if err != nil {
		return nil, false, err
	}
	q := &question{ctx: ctx, s: s, limit: limit + 1}
	for column, v := range equal {
		i := slices.IndexFunc(s.Fields, func(f types.Field) bool { return f.Name == column })
		if i < 0 {
			return nil, false, fmt.Errorf("%w: %s has no column %q", ErrNotPresent, name, column)
		}
		is, err := eval.Compare("=", eval.Column(i, s.Fields[i].Type), eval.Const(s.Fields[i].Type, v))
		if err != nil {
			return nil, false, fmt.Errorf("%w: %w", ErrNotPresent, err)
		}
		if q.where == nil {
			q.where = is
		} else {
			q.where = eval.And(q.where, is)
		}
	}
	tasks := j.keyed[s.holds]
	if key, ok := s.key(equal); ok {
		var k state.Keys
		bytes, hash := k.EncodeRow(key, 0)
		q.wanted = step.Wanted{One: true, Hash: hash, Key: bytes}
		tasks = tasks[state.TaskOf(state.RangeOf(hash), len(tasks)):][:1]
	}
	q.answer = make(chan answer, len(tasks))
	for _, w := range tasks {
		if err := w.box.put(ctx, packet{from: -1, ask: q}); err != nil {
			return nil, false, err
		}
	}
	for range tasks {
		select {
		case a := <-q.answer:
			if a.err != nil {
				return nil, false, a.err
			}
			rows = append(rows, a.rows...)
		case <-ctx.Done():
			return nil, false, ctx.Err()
		case <-j.ctx.Done():
			return nil, false, fmt.Errorf("%w: the job has ended", ErrNotPresent)
		}
	}
	if len(rows) > limit {
		return rows[:limit], true, nil
	}
	return rows, false, nil
}

// key gives the values of all keys, where there is one for each.
func (s *Standing) key(equal map[string]types.Value) (out []*column.Vector, ok bool) {
	for i, k := range s.keys {
		if k < 0 {
			return nil, false
		}
		x, has := equal[s.Fields[k].Name]
		t := s.Fields[k].Type
		if s.holds.Kind == plan.Window {
			t = s.holds.Fields[i].Type
		}
		if !has || t.Kind != x.Kind {
			return nil, false
		}
		v := column.New(t)
		v.Append(x)
		out = append(out, v)
	}
	return out, len(out) > 0
}

// presented takes rows for a question.
type presented struct {
	q    *question
	ctx  *step.Context
	rows []string
}

// Push implements step.Node.
func (p *presented) Push(b *column.Batch) {
	for i := 0; i < b.N && len(p.rows) < p.q.limit; i++ {
		p.rows = append(p.rows, p.ctx.Describe(p.q.s.Fields, b, i))
	}
}

// tell answers a question.
func (w *keyedTask) tell(q *question) {
	ctx := step.NewContext(len(w.job.plan.Ops), w.job.opts.Describe)
	ctx.Machine.Now, ctx.Machine.Ended, ctx.Silent = w.pipe.ctx.Machine.Now, w.pipe.ctx.Machine.Ended, true
	got := &presented{q: q, ctx: ctx}
	var to step.Node = got
	if q.where != nil {
		to = &step.Filter{Op: &plan.Op{ID: w.op.ID, Cond: q.where}, C: ctx, Next: to}
	}
	for _, o := range slices.Backward(q.s.behind) {
		if o.Kind == plan.Filter {
			to = &step.Filter{Op: o, C: ctx, Next: to}
		} else {
			to = &step.Project{Op: o, C: ctx, Next: to}
		}
	}
	wanted := q.wanted
	wanted.More = func() bool { return len(got.rows) < q.limit && q.ctx.Err() == nil && w.job.ctx.Err() == nil }
	err := w.silently(func() error {
		for i, c := range w.cells {
			if !wanted.More() {
				break
			}
			if q.wanted.One && int(w.of[state.RangeOf(q.wanted.Hash)]) != i {
				continue
			}
			k := c.keyed
			if k == nil {
				var err error
				if k, err = w.unparked(c); err != nil {
					return err
				}
			}
			x, ok := k.(step.Presenter)
			if !ok {
				return ErrNotPresent
			}
			x.Present(wanted, to)
		}
		return nil
	})
	q.answer <- answer{got.rows, err}
}
