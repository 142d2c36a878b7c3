// Package mariadb reads tables of a MariaDB server, whole, by key or by their changes, and writes sinks to
// them.
package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbserver"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// Connector is MARIADB.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

var described = plan.Place{
	Kind:  "mariadb",
	About: "a table of a MariaDB database",
	Example: `DECLARE ENDPOINT race_db MARIADB 'timing@127.0.0.1:3306/race' SECRET 'race_db';
DECLARE TABLE entrants (chip VARCHAR PRIMARY KEY, bib INT, name VARCHAR) FROM MARIADB 'entrants' VIA race_db (REFRESH EVERY 1 MINUTE);
DECLARE STREAM entries (chip VARCHAR, bib INT, name VARCHAR) FROM MARIADB 'entrants' VIA race_db (CHANGES true);
DECLARE SINK splits TO MARIADB 'splits' VIA race_db (KEY (chip, mat));`,
	Traits:   plan.Traits{OfChanges: true, Replaces: true},
	Address:  dbserver.Address,
	Endpoint: true,
	Columns:  true,
	Source: []plan.OptionSpec{
		{Name: "changes", Kind: plan.FlagOption, Doc: "true: the rows are the changes of the table, from the server's binary log"},
		{Name: "bad rows", Kind: plan.WordOption, Words: []string{"keep", "stop"}, Doc: "what a row that does not fit does; keep: it is counted and a sample kept"},
	},
	Table: []plan.OptionSpec{
		{Name: "changes", Kind: plan.FlagOption, Doc: "true: the table is read once and then follows the server's binary log"},
		{Name: "refresh every", Kind: plan.DurationOption, Doc: "how often the whole table is read again; without it, once"},
		{Name: "cache rows", Kind: plan.NumberOption, Least: 1, Doc: "rows are not read before, but looked up by key when they are needed; so many are remembered, 100000"},
		{Name: "cache for", Kind: plan.DurationOption, Doc: "the same; how long an answer is remembered, 1 MINUTE"},
		{Name: "bad rows", Kind: plan.WordOption, Words: []string{"keep", "stop"}, Doc: "what a row that does not fit does; keep: it is counted and a sample kept"},
	},
	Sink: []plan.OptionSpec{
		{Name: "key", Kind: plan.NamesOption, Doc: "columns of a unique key: a row replaces the one with its key"},
		{Name: "bad rows", Kind: plan.WordOption, Words: []string{"stop", "keep"}, Doc: "what a row that the server refuses does; stop: the job waits and tries again; keep: it is set aside in the table fiume_set_aside"},
	},
	Promise: func(*plan.Op) string {
		return "each row once, written when a checkpoint is complete, in one transaction with its number"
	},
}

// tableColumn is a column of the target.
type tableColumn struct {
	name, kind string
	required   bool // NOT NULL without a default
}

// CheckSink implements contract.Writer: it looks whether a table takes the rows of an output.
func (connector) CheckSink(ctx context.Context, env *contract.Env, out *plan.Op) error {
	db, name, err := dbserver.Connect(out.Sink.Via, env.Secrets)
	if err != nil {
		return err
	}
	defer db.Close()
	return check(ctx, db, name, out)
}

func check(ctx context.Context, db *sql.DB, schema string, out *plan.Op) error {
	table := out.Sink.Address
	rows, err := db.QueryContext(ctx, "SELECT column_name, data_type, is_nullable='NO' AND column_default IS NULL AND extra NOT LIKE '%auto_increment%' AND extra NOT LIKE '%GENERATED%' FROM information_schema.columns WHERE table_schema=? AND table_name=? ORDER BY ordinal_position", schema, table)
	if err != nil {
		return fmt.Errorf("endpoint %s cannot be reached at %s: %w", out.Sink.Via.Name, out.Sink.Via.Address, advised(out.Sink.Via, err))
	}
	defer rows.Close()
	have := map[string]tableColumn{}
	var names []string
	for rows.Next() {
		var c tableColumn
		if err := rows.Scan(&c.name, &c.kind, &c.required); err != nil {
			return err
		}
		have[strings.ToLower(c.name)] = c
		names = append(names, c.name)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	var engine sql.NullString
	if err := db.QueryRowContext(ctx, "SELECT engine FROM information_schema.tables WHERE table_schema=? AND table_name=?", schema, table).Scan(&engine); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if slices.Contains([]string{"MyISAM", "Aria", "MEMORY", "CSV", "ARCHIVE"}, engine.String) {
		return fmt.Errorf("the table %s is kept by %s, which has no transactions: a row could be there twice; ALTER TABLE %s ENGINE=InnoDB", table, engine.String, table)
	}
	if len(have) == 0 {
		return fmt.Errorf("there is no table %s in %s; one that fits is: %s", table, schema, suggestTable(out))
	}
	var bad []string
	given := map[string]bool{}
	for _, f := range out.Fields {
		n := strings.ToLower(f.Name)
		given[n] = true
		c, ok := have[n]
		if !ok {
			bad = append(bad, fmt.Sprintf("the table %s has no column %s (it has: %s)", table, f.Name, strings.Join(names, ", ")))
		} else if !takes(c.kind, f.Type.Kind) {
			bad = append(bad, fmt.Sprintf("the column %s is %s, the rows have %s", c.name, c.kind, f.Type))
		}
	}
	for _, n := range names {
		if c := have[strings.ToLower(n)]; c.required && !given[strings.ToLower(n)] {
			bad = append(bad, fmt.Sprintf("the column %s is NOT NULL without a default, and the rows do not have it", n))
		}
	}
	if key := out.Sink.Options.Names("key"); len(key) > 0 && len(bad) == 0 {
		for _, k := range key {
			if !given[strings.ToLower(k)] {
				bad = append(bad, fmt.Sprintf("KEY names %q, which the rows do not have", k))
			}
		}
		if len(bad) == 0 {
			ok, err := hasKey(ctx, db, schema, table, key)
			if err != nil {
				return err
			}
			if !ok {
				bad = append(bad, fmt.Sprintf("the table %s has no unique key over (%s); add one with ALTER TABLE %s ADD UNIQUE KEY (%s)",
					table, strings.Join(key, ", "), table, strings.Join(key, ", ")))
			}
		}
	}
	if len(bad) > 0 {
		return errors.New(strings.Join(bad, "; "))
	}
	return nil
}

func hasKey(ctx context.Context, db *sql.DB, schema, table string, key []string) (bool, error) {
	rows, err := db.QueryContext(ctx, "SELECT index_name, LOWER(column_name) FROM information_schema.statistics WHERE table_schema=? AND table_name=? AND non_unique=0", schema, table)
	if err != nil {
		return false, err
	}
	defer rows.Close()
	indexes := map[string][]string{}
	for rows.Next() {
		var i, c string
		if err := rows.Scan(&i, &c); err != nil {
			return false, err
		}
		indexes[i] = append(indexes[i], c)
	}
	want := make([]string, len(key))
	for i, k := range key {
		want[i] = strings.ToLower(k)
	}
	slices.Sort(want)
	for _, cols := range indexes {
		slices.Sort(cols)
		if slices.Equal(cols, want) {
			return true, rows.Err()
		}
	}
	return false, rows.Err()
}

// takes says whether a column of the server's type holds values of ours.
func takes(column string, k types.Kind) bool {
	text := []string{"char", "varchar", "text", "tinytext", "mediumtext", "longtext", "json"}
	if slices.Contains(text, column) {
		return true
	}
	switch k {
	case types.Boolean:
		return slices.Contains([]string{"tinyint", "smallint", "int", "bigint", "bit"}, column)
	case types.Int:
		return slices.Contains([]string{"int", "bigint", "decimal", "double", "float"}, column)
	case types.BigInt, types.Interval:
		return slices.Contains([]string{"int", "bigint", "decimal", "double"}, column)
	case types.Double:
		return slices.Contains([]string{"double", "float", "decimal"}, column)
	case types.Timestamp:
		return slices.Contains([]string{"datetime", "timestamp"}, column)
	case types.Date:
		return slices.Contains([]string{"date", "datetime", "timestamp"}, column)
	}
	return false
}

func suggestTable(out *plan.Op) string {
	kinds := map[types.Kind]string{types.Boolean: "TINYINT", types.Int: "INT", types.BigInt: "BIGINT", types.Double: "DOUBLE",
		types.Timestamp: "DATETIME(6)", types.Date: "DATE", types.Interval: "BIGINT", types.Row: "JSON"}
	key := out.Sink.Options.Names("key")
	var cols []string
	for _, f := range out.Fields {
		k := kinds[f.Type.Kind]
		switch {
		case f.Type.Kind == types.Decimal:
			k = f.Type.String()
		case k == "":
			k = "TEXT"
			if slices.Contains(key, f.Name) {
				k = "VARCHAR(190)"
			}
		}
		cols = append(cols, quote(f.Name)+" "+k)
	}
	if len(key) > 0 {
		var names []string
		for _, n := range key {
			names = append(names, quote(n))
		}
		cols = append(cols, "PRIMARY KEY ("+strings.Join(names, ", ")+")")
	}
	return fmt.Sprintf("CREATE TABLE %s (%s)", quote(out.Sink.Address), strings.Join(cols, ", "))
}
