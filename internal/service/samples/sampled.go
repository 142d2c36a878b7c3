package samples

import (
	"context"
	"fmt"
	"strings"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	formats "fiume/internal/format"
	"fiume/internal/service/topics"
)

// longestSample is how long the data of a place may take to come, where columns are found in it.
const longestSample = 10 * time.Second

// Sampled finds the columns of a declaration that does not list them.
func (s *Samples) Sampled(d plan.Sampled) ([]sql.Column, []sql.Name, error) {
	ctx, done := context.WithTimeout(context.Background(), longestSample)
	defer done()
	return sampled(ctx, s.Env(), d)
}

// SampledLocally finds the columns of a declaration whose place needs no service.
func SampledLocally(d plan.Sampled) ([]sql.Column, []sql.Name, error) {
	return sampled(context.Background(), &contract.Env{}, d)
}

func sampled(ctx context.Context, env *contract.Env, d plan.Sampled) ([]sql.Column, []sql.Name, error) {
	if _, told := d.Options["schema"]; told || d.Schemas != nil {
		return schemaColumns(env, d)
	}
	from, ok := connect.Of(d.Place).(contract.Sampler)
	if !ok {
		return nil, nil, fmt.Errorf("%s tells no columns; list them", strings.ToUpper(d.Place))
	}
	w := contract.Wanted{Address: d.Address, Via: d.Via, Options: d.Options, Limit: usualMessages, Bytes: topics.MostBytes, Partition: -1, From: -1,
		Format: d.Options.Word("format", "json"), Headless: !d.Options.Flag("header", true)}
	got, err := from.Sample(ctx, env, w)
	if err != nil {
		return nil, nil, err
	}
	m := &material{Sample: got, table: d.Address}
	if got.Columns != nil {
		return m.declared(d.Table)
	}
	m.Format = w.Format
	return columnsIn(m)
}

// schemaColumns gives the columns that the schema of messages tells: the newest of its subject where it is in a registry. A column may be NOT NULL in it:
// older schemas need not have it.
func schemaColumns(env *contract.Env, d plan.Sampled) ([]sql.Column, []sql.Name, error) {
	var s *formats.Schema
	var err error
	if d.Schemas == nil {
		s, err = formats.DeclaredSchema(d.Options, nil)
	} else {
		var at formats.Schemas
		var subject string
		if at, err = env.SchemasOf(d.Schemas); err == nil {
			subject, err = formats.SubjectOf(d.Options, d.Address)
		}
		if err == nil {
			s, err = at.Latest(subject)
		}
		if err == nil && s == nil {
			err = fmt.Errorf("the registry %s has no schema of the subject '%s'; name another one with SUBJECT, or list the columns", d.Schemas.Name, subject)
		}
		if want := d.Options.Word("format", "json"); err == nil && s.Format != want {
			err = fmt.Errorf("the schemas of the subject '%s' are of %s; write FORMAT %s", subject, s.Format, s.Format)
		}
	}
	if err != nil {
		return nil, nil, err
	}
	fields, err := formats.ColumnsOf(s, d.Options)
	var columns []sql.Column
	for _, f := range fields {
		columns = append(columns, sql.Column{Name: sql.Name{Text: f.Name}, Type: f.Type, NotNull: f.NotNull})
	}
	return columns, nil, err
}

// columnsIn gives the columns that messages have. None is NOT NULL: that a sample has no NULL tells nothing of others.
func columnsIn(m *material) ([]sql.Column, []sql.Name, error) {
	root, _, err := m.look()
	if err != nil {
		return nil, nil, err
	}
	var columns []string
	for _, n := range root.order {
		t, _ := root.fields[n].typ()
		columns = append(columns, sql.Quoted(n)+" "+t)
	}
	list, err := parsed(columns)
	return list, nil, err
}

// declared gives the columns and the key of a table of a database.
func (m *material) declared(keyed bool) (columns []sql.Column, key []sql.Name, err error) {
	var texts []string
	for _, c := range m.Columns {
		text := sql.Quoted(c.Name) + " " + c.Type
		if c.NotNull {
			text += " NOT NULL"
		}
		texts = append(texts, text)
		if c.Key {
			key = append(key, sql.Name{Text: c.Name})
		}
	}
	if keyed && key == nil {
		return nil, nil, fmt.Errorf("the table '%s' has no primary key; list the columns, with PRIMARY KEY behind the one that tells its rows apart", m.table)
	}
	columns, err = parsed(texts)
	return columns, key, err
}

// parsed reads texts of columns.
func parsed(columns []string) ([]sql.Column, error) {
	script, err := sql.Parse("columns", "DECLARE STREAM x ("+strings.Join(columns, ", ")+") FROM FILES 'x';", nil)
	if err != nil {
		return nil, err
	}
	return script.Statements[0].(*sql.DeclareStream).Columns, nil
}
