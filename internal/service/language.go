package service

import (
	"context"
	"maps"
	"slices"
	"strings"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
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
func (s *Service) Check(in Script) *Checked {
	out := &Checked{Errors: []sql.Diagnostic{}, Statements: []Statement{}}
	script, errs, cat := s.read(in)
	cat.Sample = nil
	made := &made{created: map[string]bool{}, dropped: map[string]bool{}, topics: map[string]bool{}}
	for _, st := range script.Statements {
		x := Statement{Kind: sql.KindOf(st)}
		x.Line, x.Column = sql.Position(in.SQL, st.At().From)
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
func (s *Service) Formatted(in Script) (string, error) {
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
func (s *Service) Words() *Words {
	out := &Words{Keywords: sql.Keywords(), Names: []Named{}, Patterns: patterns}
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
	s.mu.Lock()
	for _, n := range slices.Sorted(maps.Keys(s.cat.Streams)) {
		out.Names = append(out.Names, Named{n, sql.KindStream, columns(s.cat.Streams[n].Shown())})
	}
	for _, n := range slices.Sorted(maps.Keys(s.cat.Tables)) {
		out.Names = append(out.Names, Named{n, sql.KindTable, columns(s.cat.Tables[n].Shown())})
	}
	for _, n := range slices.Sorted(maps.Keys(s.cat.Views)) {
		v := Named{n, sql.KindView, []Column{}}
		if q, err := sql.Parse("view", "SELECT * FROM "+sql.Quoted(n)+";", nil); err == nil {
			if p := s.cat.Query(q.Statements[0].(*sql.Query), &sql.Errors{}); p != nil {
				v.Columns = columns(p.Outputs()[0].Fields)
			}
		}
		out.Names = append(out.Names, v)
	}
	for _, n := range slices.Sorted(maps.Keys(s.cat.Sinks)) {
		out.Names = append(out.Names, Named{n, sql.KindSink, []Column{}})
	}
	for _, n := range slices.Sorted(maps.Keys(s.cat.Endpoints)) {
		out.Names = append(out.Names, Named{n, sql.KindEndpoint, []Column{}})
	}
	for _, n := range slices.Sorted(maps.Keys(s.jobs)) {
		out.Names = append(out.Names, Named{n, sql.KindJob, []Column{}})
	}
	s.mu.Unlock()
	for _, t := range s.topics.Topics() {
		out.Names = append(out.Names, Named{t.Name, sql.KindTopic, []Column{}})
	}
	return out
}

// Pattern is a text to begin from.
type Pattern struct {
	Name  string `json:"name"`
	About string `json:"about"`
	SQL   string `json:"sql"`
}

func pattern(name, about, text string) Pattern {
	return Pattern{name, about, strings.TrimSpace(text) + "\n"}
}

// patterns are texts for what streaming jobs mostly do, on the race day's streams.
var patterns = []Pattern{
	pattern("Filter", "Keep the rows that meet a condition", `
SELECT chip, mat, read_at, rssi
FROM reads
WHERE rssi > -60;`),
	pattern("Drop repeats", "The first row of each key within a time", `
SELECT chip, mat, read_at
FROM reads
UNIQUE BY (chip, mat) WITHIN 10 SECONDS;`),
	pattern("Tumbling window", "Count in pieces of time, one behind the other", `
SELECT mat, w.opens AS opened, COUNT(*) AS reads, AVG(rssi) AS strength
FROM reads
GROUP BY mat, w
WINDOW w AS (TUMBLING 1 MINUTE);`),
	pattern("Sliding window", "Count over the last minutes, again and again", `
SELECT mat, w.closes AS at, COUNT(DISTINCT chip) AS runners
FROM reads
GROUP BY mat, w
WINDOW w AS (SLIDING 5 MINUTES EVERY 30 SECONDS);`),
	pattern("Session window", "Put together what lies close in time", `
SELECT mat, w.opens AS began, w.closes AS ended, COUNT(*) AS reads
FROM reads
GROUP BY mat, w
WINDOW w AS (SESSION GAP 90 SECONDS);`),
	pattern("Join two streams", "Pairs that lie close in time", `
SELECT c.call_id, c.called_at, c.severity, r.mat, r.read_at
FROM calls c JOIN reads r
  ON r.chip = c.chip AND r.read_at WITHIN 10 MINUTES BEFORE c.called_at;`),
	pattern("Enrich from a table", "Add what a table knew at that moment", `
SELECT r.chip, e.name, e.club, r.mat, r.read_at
FROM reads r JOIN entrants e ON e.chip = r.chip;`),
	pattern("Missing event", "What should have followed and did not", `
SELECT a.chip, a.mat, a.read_at
FROM reads a
WHERE a.mat = 'km-05' AND NOT EXISTS (
  SELECT 1 FROM reads b
  WHERE b.chip = a.chip AND b.mat = 'km-10' AND b.read_at WITHIN 1 HOUR AFTER a.read_at);`),
	pattern("Route by condition", "A job that sends rows to several sinks", `
CREATE JOB strong_and_weak
  WITH measured AS (
    SELECT chip, mat, read_at, rssi FROM reads
  )
  ROUTE measured WHERE rssi > -60 TO strong_reads ELSE TO weak_reads;`),
	pattern("Late rows", "A window that takes corrections, and what came too late", `
CREATE JOB counted_with_late
  WITH counted AS (
    SELECT mat, w.opens AS opened, COUNT(*) AS reads
    FROM reads
    GROUP BY mat, w
    WINDOW w AS (TUMBLING 1 MINUTE LATENESS 2 MINUTES)
  )
  ROUTE counted TO counts
  ROUTE LATE counted TO late_counts;`),
}

// FieldsOf reads the types of columns.
func FieldsOf(columns []Column) ([]types.Field, error) {
	var out []types.Field
	for _, c := range columns {
		probe, err := sql.Parse("type", "DECLARE STREAM x (c "+c.Type+") FROM TOPIC 'x';", nil)
		if err != nil {
			return nil, errorf(ErrRefused, "the column %s has no type %q", c.Name, c.Type)
		}
		out = append(out, types.Field{Name: c.Name, Type: probe.Statements[0].(*sql.DeclareStream).Columns[0].Type})
	}
	return out, nil
}
