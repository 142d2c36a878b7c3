package dbtable

import (
	"database/sql"

	"fiume/internal/core/plan"
)

// Options of tables and sinks that all databases share.
var (
	BadRowsOption = plan.OptionSpec{Name: "bad rows", Kind: plan.WordOption, Words: []string{"keep", "stop"}, Doc: "what a row that does not fit does; keep: it is counted and a sample kept"}
	TableOptions  = []plan.OptionSpec{
		{Name: "refresh every", Kind: plan.DurationOption, Doc: "how often the whole table is read again; without it, once"},
		{Name: "cache rows", Kind: plan.NumberOption, Least: 1, Doc: "rows are not read before, but looked up by key when they are needed; so many are remembered, 100000"},
		{Name: "cache for", Kind: plan.DurationOption, Doc: "the same; how long an answer is remembered, 1 MINUTE"},
		BadRowsOption,
	}
	SinkOptions = []plan.OptionSpec{
		{Name: "key", Kind: plan.NamesOption, Doc: "columns of a unique key: a row replaces the one with its key"},
		{Name: "create", Kind: plan.FlagOption, Doc: "true: where there is no such table, the job makes it when it begins, with the columns of the rows and a key over KEY"},
		{Name: "evolve", Kind: plan.FlagOption, Doc: "true: columns that the rows have and the table has not are added to it when the job begins", Default: "false"},
		{Name: "bad rows", Kind: plan.WordOption, Words: []string{"stop", "keep"}, Doc: "what a row that the server refuses does; stop: the job waits and tries again; keep: it is set aside in the table fiume_set_aside"},
	}
)

// Promise is what sinks to databases promise.
func Promise(*plan.Op) string {
	return "each row once, written when a checkpoint is complete, in one transaction with its number"
}

// ColumnsOf reads the columns of a table from rows of their names, kinds, and whether they must have a value; it closes the rows.
func ColumnsOf(rows *sql.Rows) (out []Column, err error) {
	defer rows.Close()
	for rows.Next() {
		var c Column
		if err := rows.Scan(&c.Name, &c.Kind, &c.Required); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, rows.Err()
}

// KeysOf reads keys from rows of their names and those of their columns, a row for each column; it closes the rows.
func KeysOf(rows *sql.Rows) (out [][]string, err error) {
	defer rows.Close()
	by := map[string][]string{}
	for rows.Next() {
		var key, column string
		if err := rows.Scan(&key, &column); err != nil {
			return nil, err
		}
		by[key] = append(by[key], column)
	}
	for _, columns := range by {
		out = append(out, columns)
	}
	return out, rows.Err()
}
