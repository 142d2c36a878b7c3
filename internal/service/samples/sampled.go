package samples

import (
	"context"
	"fmt"
	"strings"
	"time"

	"fiume/internal/connect/files"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
)

// longestSample is how long the data of a place may take to come, where columns are found in it.
const longestSample = 10 * time.Second

// Sampled finds the columns of a declaration that does not list them.
func (s *Samples) Sampled(d plan.Sampled) ([]sql.Column, []sql.Name, error) {
	ctx, done := context.WithTimeout(context.Background(), longestSample)
	defer done()
	switch d.Place {
	case "topic":
		m, err := s.gather(ctx, SampleRequest{Topic: d.Address})
		if err != nil {
			return nil, nil, err
		}
		m.format = d.Options.Word("format", "json")
		return columnsIn(m)
	case "mariadb":
		m, err := s.gatherTable(ctx, d.Via, d.Address, 1)
		if err != nil {
			return nil, nil, err
		}
		return m.table.declared(d.Table)
	}
	return sampledFiles(s.Files, d)
}

// SampledFiles finds the columns of a declaration over files, which needs no service.
func SampledFiles(d plan.Sampled) ([]sql.Column, []sql.Name, error) { return sampledFiles(nil, d) }

func sampledFiles(roots *files.Roots, d plan.Sampled) ([]sql.Column, []sql.Name, error) {
	if d.Place != "files" {
		return nil, nil, fmt.Errorf("%s is looked at by the service alone; use fiume apply", strings.ToUpper(d.Place))
	}
	m, err := gatherFile(roots, SampleRequest{File: d.Address, Format: d.Options.Word("format", "json"), NoHeader: !d.Options.Flag("header", true)}, MostMessages)
	if err != nil {
		return nil, nil, err
	}
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
func (t *tableMaterial) declared(keyed bool) (columns []sql.Column, key []sql.Name, err error) {
	var texts []string
	for _, c := range t.columns {
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
		return nil, nil, fmt.Errorf("the table '%s' has no primary key; list the columns, with PRIMARY KEY behind the one that tells its rows apart", t.name)
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
