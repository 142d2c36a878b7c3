package samples

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/recorded"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	formats "fiume/internal/format"
	"fiume/internal/service/base"
	"fiume/internal/service/topics"
)

// Drift is how the messages of a stream differ from its declaration.
type Drift struct {
	Stream     string       `json:"stream"`
	Messages   int          `json:"messages" doc:"the newest, looked at"`
	Unreadable int          `json:"unreadable" doc:"of them, those that are no rows at all"`
	At         time.Time    `json:"at" doc:"when it was looked at"`
	Fields     []DriftField `json:"fields" doc:"those that differ"`
	SQL        string       `json:"sql,omitempty" doc:"a declaration that fits, to change and to run"`
}

// DriftField is a field that differs from its declaration.
type DriftField struct {
	Field    string   `json:"field"`
	What     string   `json:"what" enum:"new,missing,type"`
	Messages int      `json:"messages" doc:"how many differ"`
	Declared string   `json:"declared,omitempty"`
	Found    string   `json:"found,omitempty"`
	Examples []string `json:"examples"`
}

// driftMessages are looked at of each stream.
const driftMessages = 500

// Drift compares the newest messages of a stream over a topic with its declaration.
func (s *Samples) Drift(ctx context.Context, name string) (*Drift, error) {
	cat := s.Current()
	st := cat.Streams[name]
	if t := cat.Tables[name]; t != nil {
		st = t.Stream
	}
	text := ""
	for _, d := range s.Defined() {
		if d.Name == name {
			text = d.SQL
		}
	}
	if st == nil {
		if cat.KindOf(name) != "" {
			return nil, base.Errorf(base.ErrRefused, "%q is no stream and no table", name)
		}
		hint := ""
		if x := sql.Suggest(name, append(slices.Collect(maps.Keys(cat.Streams)), slices.Collect(maps.Keys(cat.Tables))...)); x != "" {
			hint = fmt.Sprintf("; did you mean %q?", x)
		}
		return nil, base.Errorf(base.ErrNotFound, "no stream and no table is called %q%s", name, hint)
	}
	if !st.OwnTopics {
		return nil, base.Errorf(base.ErrRefused, "%s reads %s; only topics are compared with their declarations", name, strings.ToUpper(st.Place))
	}
	if f := st.Options.Word("format", "json"); f != "json" && st.Schemas == nil {
		return nil, base.Errorf(base.ErrRefused, "%s reads %s; only JSON, and messages that name their schemas, have names to compare", name, strings.ToUpper(f))
	}
	t, err := s.topics.Named(st.Address)
	if err != nil {
		return nil, err
	}
	ms, err := s.topics.Recorded(st.Address, topics.Reading{Partition: -1, From: -1, Last: max(1, driftMessages/len(t.Partitions())), Limit: driftMessages})
	if err != nil {
		return nil, err
	}
	out := &Drift{Stream: name, Messages: len(ms), At: time.Now().UTC(), Fields: []DriftField{}}
	differ := map[string]*DriftField{}
	if st.Schemas != nil {
		return s.schemaDrift(out, st, s.Current().Tables[name], text, ms)
	}
	all := newFound()
	readable := 0
	for _, m := range ms {
		if len(m.Value) == 0 && s.isTable(name) {
			continue // a deletion
		}
		if t := bytes.TrimSpace(m.Value); len(t) == 0 || t[0] != '{' || !json.Valid(t) {
			out.Unreadable++
			continue
		}
		readable++
		all.note(m.Value)
		compareFields("", m.Value, st.InValues(), differ)
	}
	for _, f := range differ {
		if f.What == "missing" && f.Messages == readable {
			f.Found = "in no message"
		} else if f.What == "missing" && !strings.HasSuffix(f.Declared, " NOT NULL") {
			continue // a column that may be NULL is missing now and then
		}
		out.Fields = append(out.Fields, *f)
	}
	for i := range out.Fields { // who will look at it is not known
		if name, _, _ := strings.Cut(out.Fields[i].Field, "."); slices.ContainsFunc(st.Sensitive(), func(c types.Field) bool { return c.Name == name }) {
			out.Fields[i].Examples = []string{}
		}
	}
	slices.SortFunc(out.Fields, func(a, b DriftField) int {
		return cmp.Or(cmp.Compare(b.Messages, a.Messages), cmp.Compare(a.Field, b.Field))
	})
	if len(out.Fields) > 0 {
		out.SQL = redeclared(text, out.Fields, all.columnType)
	}
	return out, nil
}

func (s *Samples) isTable(name string) bool {
	return s.Current().Tables[name] != nil
}

// compareFields notes where an object differs from its columns.
func compareFields(path string, raw json.RawMessage, columns []types.Field, differ map[string]*DriftField) {
	note := func(field, what, declared, found string, example json.RawMessage) {
		f := differ[what+field]
		if f == nil {
			f = &DriftField{Field: field, What: what, Declared: declared, Found: found, Examples: []string{}}
			differ[what+field] = f
		}
		f.Messages++
		if len(example) > 0 && len(f.Examples) < 3 {
			if x := base.ClipText(string(example), 60); !slices.Contains(f.Examples, x) {
				f.Examples = append(f.Examples, x)
			}
		}
	}
	seen := map[string]bool{}
	for name, v := range fieldsOf(raw) {
		seen[name] = true
		i := slices.IndexFunc(columns, func(c types.Field) bool { return c.Name == name })
		if i < 0 {
			one := newFound()
			one.note(v)
			t, _ := one.typ()
			note(path+name, "new", "", t, v)
			continue
		}
		c := columns[i]
		one := newFound()
		one.note(v)
		if one.nulls > 0 {
			if c.NotNull {
				note(path+name, "missing", c.Type.String()+" NOT NULL", "NULL", nil)
			}
			continue
		}
		if c.Type.Kind == types.Row && one.objects > 0 {
			compareFields(path+name+".", v, c.Type.Fields, differ)
			continue
		}
		if t, _ := one.typ(); !takesType(c.Type, one) {
			note(path+name, "type", c.Type.String(), t, v)
		}
	}
	for _, c := range columns {
		if !seen[c.Name] {
			declared := c.Type.String()
			if c.NotNull {
				declared += " NOT NULL"
			}
			note(path+c.Name, "missing", declared, "", nil)
		}
	}
}

// takesType says whether a column of a type takes the value that was seen.
func takesType(t types.Type, f *found) bool {
	switch t.Kind {
	case types.Boolean:
		return f.bools > 0
	case types.Int, types.BigInt:
		return f.ints > 0 && (t.Kind == types.BigInt || !f.big)
	case types.Double, types.Decimal:
		return f.ints+f.floats > 0
	case types.Timestamp:
		return f.times > 0
	case types.Date:
		return f.dates > 0
	case types.Varchar, types.Varbinary, types.Time, types.Interval:
		return f.texts > 0
	case types.Row, types.Map:
		return f.objects > 0
	case types.Array:
		return f.lists > 0
	}
	return true
}

// columnType gives the type that a field would be declared with.
func (f *found) columnType(name string) (types.Type, bool) {
	at := f.fields[name]
	if at == nil {
		return types.Type{}, false
	}
	t, _ := at.typ()
	probe, err := sql.Parse("type", "DECLARE STREAM x (c "+t+") FROM TOPIC 'x';", nil)
	if err != nil {
		return types.Type{}, false
	}
	return probe.Statements[0].(*sql.DeclareStream).Columns[0].Type, true
}

// schemaDrift compares the schemas that messages name with the declaration.
func (s *Samples) schemaDrift(out *Drift, st *plan.Stream, table *plan.Table, text string, ms []recorded.Message) (*Drift, error) {
	reading, err := s.Env().ReadingOf(st, table, &plan.Use{All: true})
	if err != nil {
		return nil, err
	}
	if out.Unreadable, _, err = recorded.BadRows(reading, ms); err != nil {
		return nil, err
	}
	found := map[string]types.Type{}
	at := map[string]int{}
	for _, m := range ms {
		schema := reading.SchemaOf(m.Value)
		if schema == nil {
			continue
		}
		columns, err := formats.ColumnsOf(schema, st.Options)
		if err != nil {
			continue // the message is unreadable, which is said
		}
		for _, c := range columns {
			if slices.ContainsFunc(st.Columns, func(f types.Field) bool { return strings.EqualFold(f.Name, c.Name) }) {
				continue
			}
			if _, ok := found[c.Name]; !ok {
				at[c.Name] = len(out.Fields)
				out.Fields = append(out.Fields, DriftField{Field: c.Name, What: "new", Found: c.Type.String(), Examples: []string{}})
			}
			found[c.Name] = c.Type
			out.Fields[at[c.Name]].Messages++
		}
	}
	if len(out.Fields) > 0 {
		out.SQL = redeclared(text, out.Fields, func(name string) (types.Type, bool) {
			t, ok := found[name]
			return t, ok
		})
	}
	return out, nil
}

// redeclared is a declaration with new fields of the top added, and columns of another type changed.
func redeclared(text string, fields []DriftField, typed func(name string) (types.Type, bool)) string {
	script, err := sql.Parse("drift", text, nil)
	if err != nil || len(script.Statements) != 1 {
		return ""
	}
	var columns *[]sql.Column
	switch st := script.Statements[0].(type) {
	case *sql.DeclareStream:
		columns, st.Replace = &st.Columns, true
	case *sql.DeclareTable:
		columns, st.Replace = &st.Columns, true
	default:
		return ""
	}
	touched := map[string]bool{}
	for _, f := range fields {
		name, _, nested := strings.Cut(f.Field, ".")
		if touched[name] {
			continue
		}
		i := slices.IndexFunc(*columns, func(c sql.Column) bool { return c.Name.Text == name })
		t, ok := typed(name)
		switch {
		case f.What == "new" && i < 0 && ok:
			*columns = append(*columns, sql.Column{Name: sql.Name{Text: name}, Type: t})
		case (f.What == "type" || nested && f.What == "new") && i >= 0 && ok:
			(*columns)[i].Type = t
		case f.What == "missing" && i >= 0 && !nested:
			(*columns)[i].NotNull = false
		default:
			continue
		}
		touched[name] = true
	}
	return strings.TrimSpace(sql.Print(script.Statements[0])) + ";"
}

// drifts is what was last seen of each stream.
type drifts map[string]*Drift

// WatchDrift looks at the streams of running jobs now and then, and notes when one begins to differ.
func (s *Samples) WatchDrift(ctx context.Context, every time.Duration) {
	t := time.NewTicker(every)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		for _, n := range slices.Sorted(maps.Keys(s.Current().Streams)) {
			d, err := s.Drift(ctx, n)
			if err != nil {
				continue // it is not over a topic of JSON
			}
			s.mu.Lock()
			before := s.drift[n]
			s.drift[n] = d
			s.mu.Unlock()
			if len(d.Fields) > 0 && (before == nil || len(before.Fields) == 0) {
				var what []string
				for _, f := range d.Fields {
					what = append(what, f.What+" "+f.Field)
				}
				s.Note("service", "noticed", "stream "+n, fmt.Sprintf("messages differ from the declaration: %s", base.ClipText(strings.Join(what, ", "), 300)))
			}
		}
	}
}

// Drifted gives what was last seen of a stream that differs, or nil.
func (s *Samples) Drifted(name string) *Drift {
	s.mu.Lock()
	defer s.mu.Unlock()
	if d := s.drift[name]; d != nil && len(d.Fields) > 0 {
		return d
	}
	return nil
}

// Drifts gives what was last seen of all streams, in the order of their names.
func (s *Samples) Drifts() []Drift {
	s.mu.Lock()
	defer s.mu.Unlock()
	cat := s.Current()
	out := []Drift{}
	for _, n := range slices.Sorted(maps.Keys(s.drift)) {
		if _, ok := cat.Streams[n]; ok && len(s.drift[n].Fields) > 0 {
			out = append(out, *s.drift[n])
		}
	}
	return out
}
