package declare

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
)

// Drawn is the text of a job and its drawing, with what is known of each step.
type Drawn struct {
	SQL     string       `json:"sql" doc:"laid out"`
	Drawing *sql.Drawing `json:"drawing"`
	Steps   []DrawnStep  `json:"steps" doc:"of the drawing's steps, in their order"`
	Sources []Named      `json:"sources" doc:"the streams, tables and views that there are, with those that the text declares"`
	Sinks   []string     `json:"sinks" doc:"that there are, with those that the text declares"`
}

// DrawnStep is what is known of a step.
type DrawnStep struct {
	Columns []base.Column `json:"columns" doc:"of its rows; none where something is wrong"`
	Problem string        `json:"problem,omitempty" doc:"what is wrong with it"`
}

// Draw takes a text, or a drawing, and gives both. Nothing is kept, and nothing outside is looked at.
func (s *Definitions) Draw(ctx context.Context, text string, drawing *sql.Drawing) (*Drawn, error) {
	var err error
	if drawing != nil {
		if text, err = drawing.SQL(); err != nil {
			return nil, base.Errorf(base.ErrRefused, "%s", err)
		}
	}
	out := &Drawn{Steps: []DrawnStep{}, Sources: []Named{}}
	if out.Drawing, err = sql.Draw(text); err != nil {
		var wrong *sql.Errors // it has places in the text
		if errors.As(err, &wrong) {
			return nil, err
		}
		return nil, base.Errorf(base.ErrRefused, "%s", err)
	}
	if out.SQL, err = out.Drawing.SQL(); err != nil {
		return nil, base.Errorf(base.ErrRefused, "%s", err)
	}
	script, errs, cat := s.read(ctx, Script{SQL: out.SQL, File: "text"})
	cat.Sample = nil
	made := &made{created: map[string]bool{}, dropped: map[string]bool{}, topics: map[string]bool{}}
	for _, st := range script.Statements {
		switch st.(type) {
		case *sql.CreateJob, *sql.Query:
		default:
			s.prepare(ctx, "", script, st, cat, errs, made)
		}
	}
	out.Sources, out.Sinks = known(ctx, sourcesOf(cat)), slices.AppendSeq([]string{}, maps.Keys(cat.Sinks))
	slices.Sort(out.Sinks)
	wrong := map[string]bool{}
	for _, step := range out.Drawing.Steps {
		x := stepOf(cat, step.Preview)
		if x.Problem != "" {
			for _, before := range step.Reads {
				if wrong[before] {
					x.Problem = fmt.Sprintf("the step %s before it is not right yet", before)
				}
			}
			wrong[step.Name] = true
		}
		out.Steps = append(out.Steps, x)
	}
	return out, nil
}

// stepOf says what rows a query gives.
func stepOf(cat *plan.Catalog, query string) DrawnStep {
	out := DrawnStep{Columns: []base.Column{}}
	if query == "" {
		out.Problem = "the text is too long for its columns and rows to be looked at by step"
		return out
	}
	script, err := sql.Parse("step", query+";", nil)
	if err != nil {
		out.Problem = sql.First(err)
		return out
	}
	errs := &sql.Errors{File: "step", Text: query}
	p := cat.Clone().Query(script.Statements[0].(*sql.Query), errs)
	if err := errs.Err(); err != nil {
		out.Problem = sql.First(err)
		return out
	}
	out.Columns = columnsOf(p.Outputs()[0].Fields)
	return out
}

// columnsOf describes columns, and those that stand inside of rows.
func columnsOf(fields []types.Field) []base.Column {
	list := []base.Column{}
	for _, f := range fields {
		list = append(list, base.Column{Name: f.Name, Type: f.Type.String()})
		if f.Type.Kind == types.Row {
			for _, k := range f.Type.Fields {
				list = append(list, base.Column{Name: f.Name + "." + k.Name, Type: k.Type.String()})
			}
		}
	}
	return list
}

// sourcesOf lists the streams, tables and views of a catalogue.
func sourcesOf(cat *plan.Catalog) []Named {
	out := []Named{}
	for _, n := range slices.Sorted(maps.Keys(cat.Streams)) {
		out = append(out, Named{n, sql.KindStream, columnsOf(cat.Streams[n].Shown())})
	}
	for _, n := range slices.Sorted(maps.Keys(cat.Tables)) {
		out = append(out, Named{n, sql.KindTable, columnsOf(cat.Tables[n].Shown())})
	}
	for _, n := range slices.Sorted(maps.Keys(cat.Views)) {
		v := Named{n, sql.KindView, []base.Column{}}
		if q, err := sql.Parse("view", "SELECT * FROM "+sql.Quoted(n)+";", nil); err == nil {
			if p := cat.Query(q.Statements[0].(*sql.Query), &sql.Errors{}); p != nil {
				v.Columns = columnsOf(p.Outputs()[0].Fields)
			}
		}
		out = append(out, v)
	}
	return out
}
