package declare

import (
	"context"
	"maps"
	"slices"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
)

// Checked is what is known of a text without running it.
type Checked struct {
	OK         bool             `json:"ok"`
	Errors     []sql.Diagnostic `json:"errors" doc:"all of the text, in order"`
	Statements []Statement      `json:"statements"`
}

// Statement is a statement of a text.
type Statement struct {
	Kind   string            `json:"kind" doc:"select, declare stream, create job …"`
	Name   string            `json:"name,omitempty"`
	Line   int               `json:"line"`
	Column int               `json:"column"`
	Fields []Column          `json:"fields,omitempty" doc:"of a SELECT: the columns of its result"`
	Plan   *plan.Explanation `json:"plan,omitempty" doc:"of a SELECT and of a job: how it would run"`
}

// Check finds the errors of a text and says how its queries and jobs would run. Nothing outside is looked at.
func (s *Definitions) Check(in Script) *Checked {
	out := &Checked{Errors: []sql.Diagnostic{}, Statements: []Statement{}}
	script, errs, cat := s.read(in)
	cat.Sample = nil
	made := &made{created: map[string]bool{}, dropped: map[string]bool{}, topics: map[string]bool{}}
	places := sql.Positions{Text: in.SQL}
	for _, st := range script.Statements {
		x := Statement{Kind: sql.KindOf(st)}
		x.Line, x.Column = places.Of(st.At().From)
		switch st := st.(type) {
		case *sql.Query:
			if p := cat.Query(st, errs); p != nil {
				x.Plan = p.Explain(0)
				for _, f := range p.Outputs()[0].Fields {
					x.Fields = append(x.Fields, Column{f.Name, f.Type.String()})
				}
			}
		case *sql.CreateJob:
			x.Name = st.Name.Text
			before := len(errs.List)
			if s.prepare(context.Background(), "", script, st, cat, errs, made) != nil && len(errs.List) == before {
				if p := cat.Clone().Job(st, &sql.Errors{}); p != nil {
					x.Plan = p.Explain(0)
				}
			}
		default:
			s.prepare(context.Background(), "", script, st, cat, errs, made)
			x.Name = sql.NameOf(st)
		}
		out.Statements = append(out.Statements, x)
	}
	if err := errs.Err(); err != nil {
		out.Errors = errs.List
	}
	out.OK = len(out.Errors) == 0
	return out
}

// Formatted lays a text out.
func (s *Definitions) Formatted(in Script) (string, error) {
	script, err := sql.Parse(in.File, in.SQL, nil)
	if err != nil {
		return "", err
	}
	return sql.Format(script), nil
}

// Named is something that can be named in a text: for completion.
type Named struct {
	Name    string   `json:"name"`
	Kind    string   `json:"kind" doc:"stream, table, view, sink, endpoint, topic, job, function"`
	Columns []Column `json:"columns" doc:"of streams, tables and views"`
}

// Words are what completion and colours need: the keywords, and everything that has a name.
type Words struct {
	Keywords []string  `json:"keywords"`
	Names    []Named   `json:"names"`
	Patterns []Pattern `json:"patterns"`
}

// Words gives the words of the language, and the names there are.
func (s *Definitions) Words() *Words {
	cat := s.Current()
	out := &Words{Keywords: sql.Keywords(), Names: []Named{}, Patterns: patterns(cat)}
	columns := func(fields []types.Field) []Column {
		list := []Column{}
		for _, f := range fields {
			list = append(list, Column{f.Name, f.Type.String()})
			if f.Type.Kind == types.Row {
				for _, k := range f.Type.Fields {
					list = append(list, Column{f.Name + "." + k.Name, k.Type.String()})
				}
			}
		}
		return list
	}
	for _, n := range slices.Sorted(maps.Keys(cat.Streams)) {
		out.Names = append(out.Names, Named{n, sql.KindStream, columns(cat.Streams[n].Shown())})
	}
	for _, n := range slices.Sorted(maps.Keys(cat.Tables)) {
		out.Names = append(out.Names, Named{n, sql.KindTable, columns(cat.Tables[n].Shown())})
	}
	for _, n := range slices.Sorted(maps.Keys(cat.Views)) {
		v := Named{n, sql.KindView, []Column{}}
		if q, err := sql.Parse("view", "SELECT * FROM "+sql.Quoted(n)+";", nil); err == nil {
			if p := cat.Query(q.Statements[0].(*sql.Query), &sql.Errors{}); p != nil {
				v.Columns = columns(p.Outputs()[0].Fields)
			}
		}
		out.Names = append(out.Names, v)
	}
	for _, n := range slices.Sorted(maps.Keys(cat.Sinks)) {
		out.Names = append(out.Names, Named{n, sql.KindSink, []Column{}})
	}
	for _, n := range slices.Sorted(maps.Keys(cat.Endpoints)) {
		out.Names = append(out.Names, Named{n, sql.KindEndpoint, []Column{}})
	}
	for _, n := range s.jobs.List() {
		out.Names = append(out.Names, Named{n.Name, sql.KindJob, []Column{}})
	}
	for _, t := range s.TopicLog.Topics() {
		out.Names = append(out.Names, Named{t.Name, sql.KindTopic, []Column{}})
	}
	return out
}

// FieldsOf reads the types of columns.
func FieldsOf(columns []Column) ([]types.Field, error) {
	var out []types.Field
	for _, c := range columns {
		probe, err := sql.Parse("type", "DECLARE STREAM x (c "+c.Type+") FROM TOPIC 'x';", nil)
		if err != nil {
			return nil, base.Errorf(base.ErrRefused, "the column %s has no type %q", c.Name, c.Type)
		}
		out = append(out, types.Field{Name: c.Name, Type: probe.Statements[0].(*sql.DeclareStream).Columns[0].Type})
	}
	return out, nil
}

// Column is a result column of a query.
type Column struct {
	Name string `json:"name"`
	Type string `json:"type"`
}
