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
