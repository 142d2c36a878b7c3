package declare

import (
	"context"
	"maps"
	"slices"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/access"
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
	Fields []base.Column     `json:"fields,omitempty" doc:"of a SELECT: the columns of its result"`
	Plan   *plan.Explanation `json:"plan,omitempty" doc:"of a SELECT and of a job: how it would run"`
}

// Check finds the errors of a text and says how its queries and jobs would run. Nothing outside is looked at.
func (s *Definitions) Check(ctx context.Context, in Script) *Checked {
	out := &Checked{Errors: []sql.Diagnostic{}, Statements: []Statement{}}
	script, errs, cat := s.read(ctx, in)
	cat.Sample = nil
	made := &made{created: map[string]bool{}, dropped: map[string]bool{}, topics: map[string]bool{}}
	cat.Steps = s.stepsWith(made)
	places := sql.Positions{Text: in.SQL}
	for _, st := range script.Statements {
		x := Statement{Kind: sql.KindOf(st)}
		x.Line, x.Column = places.Of(st.At().From)
		switch st := st.(type) {
		case *sql.Query:
			cat := s.withSteps(st, cat, errs)
			if p, _ := cat.Asked(st, errs); p != nil {
				x.Plan = p.Explain(0)
				for _, f := range p.Outputs()[0].Fields {
					x.Fields = append(x.Fields, base.Column{Name: f.Name, Type: f.Type.String()})
				}
			}
		case *sql.CreateJob:
			x.Name = st.Name.Text
			before := len(errs.List)
			if s.prepare(ctx, "", script, st, cat, errs, made) != nil && len(errs.List) == before {
				if p := cat.Clone().Job(st, &sql.Errors{}); p != nil {
					x.Plan = p.Explain(0)
				}
			}
		default:
			s.prepare(ctx, "", script, st, cat, errs, made)
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

// withSteps adds what a query reads of the steps of jobs to a copy of the catalogue.
func (s *Definitions) withSteps(q *sql.Query, cat *plan.Catalog, errs *sql.Errors) *plan.Catalog {
	reads := q.JobSteps(cat.Knows)
	if _, now := q.Until.(*sql.NowMark); !now && len(reads) > 0 {
		errs.Add(sql.WrongPlace, reads[0].Span, "write UNTIL NOW at the end of the query", "%s is given as it stands, and not as it comes", reads[0].Read())
	}
	if with := cat.WithSteps(reads, errs); with != nil {
		return with
	}
	return cat
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
	Name    string        `json:"name"`
	Kind    string        `json:"kind" doc:"stream, table, view, sink, endpoint, topic, job, function"`
	Columns []base.Column `json:"columns" doc:"of streams, tables and views"`
}

// Words are what completion and colours need: the keywords, and everything that has a name.
type Words struct {
	Keywords []string  `json:"keywords"`
	Names    []Named   `json:"names"`
	Patterns []Pattern `json:"patterns"`
}

// Words gives the words of the language, and the names there are.
func (s *Definitions) Words(ctx context.Context) *Words {
	cat := s.Current()
	out := &Words{Keywords: sql.Keywords(), Names: sourcesOf(cat), Patterns: patternsOver(shown(ctx, cat), PatternChoice{}).Patterns}
	for _, n := range slices.Sorted(maps.Keys(cat.Sinks)) {
		out.Names = append(out.Names, Named{n, sql.KindSink, []base.Column{}})
	}
	for _, n := range slices.Sorted(maps.Keys(cat.Endpoints)) {
		out.Names = append(out.Names, Named{n, sql.KindEndpoint, []base.Column{}})
	}
	for _, n := range s.jobs.List() {
		out.Names = append(out.Names, Named{n.Name, sql.KindJob, []base.Column{}})
	}
	for _, t := range s.TopicLog.Topics() {
		out.Names = append(out.Names, Named{t.Name, sql.KindTopic, []base.Column{}})
	}
	out.Names = known(ctx, out.Names)
	for _, t := range plan.OwnTables {
		n := Named{plan.OwnSpace + "." + t.Name, sql.KindTable, []base.Column{}}
		for _, c := range t.Columns {
			n.Columns = append(n.Columns, base.Column{Name: c.Name, Type: c.Type.String()})
		}
		out.Names = append(out.Names, n)
	}
	return out
}

// shown is what the caller of a context may know of what is declared.
func shown(ctx context.Context, cat *plan.Catalog) *plan.Catalog {
	c := access.From(ctx)
	if c.Everywhere(access.Look) {
		return cat
	}
	out := cat.Clone()
	for _, n := range sourcesOf(cat) {
		if !c.May(access.Look, n.Kind, n.Name) {
			out.Remove(n.Name)
		}
	}
	return out
}

// known keeps the names that the caller of a context may know.
func known(ctx context.Context, all []Named) []Named {
	c := access.From(ctx)
	return slices.DeleteFunc(all, func(n Named) bool { return !c.May(access.Look, n.Kind, n.Name) })
}

// FieldsOf reads the types of columns.
func FieldsOf(columns []base.Column) ([]types.Field, error) {
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
