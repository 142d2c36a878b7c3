package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fiume/internal/core/eval"
	"fiume/internal/core/flow"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
)

// Present are the rows of a step of a running job as they stand.
type Present struct {
	Job     string            `json:"job"`
	Step    string            `json:"step"`
	Columns []base.Column     `json:"columns"`
	Keys    []string          `json:"keys" doc:"the columns that tell rows apart; with values for all of them a row is found at once"`
	Rows    []json.RawMessage `json:"rows"`
	More    bool              `json:"more,omitempty" doc:"there are more rows than were asked for"`
}

// MostPresent is how many rows are given at most.
const MostPresent = 10_000

// answersWithin is how long the tasks of a job may take to answer.
const answersWithin = 15 * time.Second

// Present gives the rows of a step of a running job as they stand: of a step that groups, those it would give if all its windows ended now, of a table its rows. Where
// says which values columns have, as text.
func (s *Jobs) Present(ctx context.Context, name, step string, where map[string]string, limit int) (*Present, error) {
	j, err := s.Named(name)
	if err != nil {
		return nil, err
	}
	j.mu.Lock()
	run := j.run
	j.mu.Unlock()
	if run == nil {
		return nil, base.Errorf(base.ErrRefused, "the job %s does not run: start it to see its rows as they stand", name)
	}
	p, err := s.PlanOf(j.Text())
	if err != nil {
		return nil, err
	}
	st, err := flow.StandingOf(p, step)
	if err != nil {
		return nil, refused(err)
	}
	out := &Present{Job: name, Step: step, Columns: []base.Column{}, Keys: append([]string{}, st.Keys()...), Rows: []json.RawMessage{}}
	var names []string
	for _, f := range st.Fields {
		out.Columns = append(out.Columns, base.Column{Name: f.Name, Type: f.Type.String()})
		names = append(names, f.Name)
	}
	equal := map[string]types.Value{}
	for column, text := range where {
		i := slices.Index(names, column)
		if i < 0 {
			return nil, base.Errorf(base.ErrRefused, "%s has no column %q; it has %s", step, column, strings.Join(names, ", "))
		}
		x := eval.Fold(eval.Cast(eval.Const(types.Type{Kind: types.Varchar}, types.Value{Kind: types.Varchar, S: text}), st.Fields[i].Type))
		if x.Op != eval.OpConst || x.Value.Kind == types.Null || st.Fields[i].Type.IsNested() {
			return nil, base.Errorf(base.ErrRefused, "%s is %s, and %q is none", column, st.Fields[i].Type, text)
		}
		equal[column] = x.Value
	}
	ctx, cancel := context.WithTimeout(ctx, answersWithin)
	defer cancel()
	rows, more, err := run.Present(ctx, step, equal, min(limit, MostPresent))
	if err != nil {
		if errors.Is(err, context.DeadlineExceeded) {
			return nil, base.Errorf(base.ErrBusy, "the job %s is too busy to answer now; try again", name)
		}
		return nil, refused(err)
	}
	out.More = more
	for _, r := range rows {
		out.Rows = append(out.Rows, json.RawMessage(r))
	}
	return out, nil
}

// StepFields gives the columns of a step's rows as they stand.
func (s *Jobs) StepFields(name, step string) ([]types.Field, error) {
	j, err := s.Named(name)
	if err != nil {
		return nil, err
	}
	p, err := s.PlanOf(j.Text())
	if err != nil {
		return nil, err
	}
	st, err := flow.StandingOf(p, step)
	if err != nil {
		return nil, refused(err)
	}
	return st.Fields, nil
}

// refused says why there are no rows that stand, in the words of the service.
func refused(err error) error {
	if errors.Is(err, flow.ErrNotPresent) {
		return base.Errorf(base.ErrRefused, "%s", strings.TrimPrefix(err.Error(), fmt.Sprint(flow.ErrNotPresent, ": ")))
	}
	return err
}
