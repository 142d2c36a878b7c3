// Package dbtable reads tables of database servers, whole or by key, and writes sinks to them: what connectors of databases share. A connector says how its server is spoken to.
package dbtable

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// Server is a kind of database server.
type Server interface {
	// Connect opens the database of an endpoint, and gives its name.
	Connect(e *plan.Endpoint, access contract.Secrets) (db *sql.DB, name string, err error)
	// Advice adds the way out to an error of a connection, where one is known.
	Advice(e *plan.Endpoint, err error) error
	// Table writes the name of a table, an address, as it stands in statements.
	Table(address string) string
	// Cell is the expression of a column whose value is read, in the form that Value takes.
	Cell(f types.Field) string
	// Value reads a cell.
	Value(cell []byte, t types.Type) (types.Value, bool)
	// Keyed is a condition that holds for the rows of keys, whose values are given one key after the other, and its arguments.
	Keyed(key []Column, values []any) (string, []any)

	// Columns gives those of a table, in order; none where there is no table.
	Columns(ctx context.Context, db *sql.DB, name, table string) ([]Column, error)
	// Unique gives the unique keys of a table: the names of their columns in small letters.
	Unique(ctx context.Context, db *sql.DB, name, table string) ([][]string, error)
	// Unfit says why rows cannot be written to a table just once, or gives nil.
	Unfit(ctx context.Context, db *sql.DB, name, table string) error
	// Takes says whether a column takes values of a type.
	Takes(c Column, t types.Type) bool
	// Suggest is the statement that makes a table for an output.
	Suggest(out *plan.Op) string
	// Add is the statement that gives the table of an output a column, where it is not there.
	Add(out *plan.Op, f types.Field) string

	// Statements says how the rows of an output are written.
	Statements(columns []Column, out *plan.Op) Statements
	// RowsAStatement is how many rows are written in one.
	RowsAStatement() int
	// OwnTables are the statements that make the tables of sinks: fiume_deliveries, and, where rows are set aside, fiume_set_aside.
	OwnTables(aside bool) []string
	// Bind writes a statement with ? for its arguments in the server's way.
	Bind(statement string) string
	// Unless is what an INSERT has behind its first word, and at its end, so that it does nothing where the row is there.
	Unless() (behindInsert, atEnd string)
	// OfTheRow says whether an error is that of a value that does not fit, of keys that are there or of conditions that fail.
	OfTheRow(err error) bool
	// Passing says whether an error may pass by itself.
	Passing(err error) bool
}

// Statements write the rows of a sink.
type Statements interface {
	// Put writes rows, whose values stand one row after the other. A row replaces the one of its key, where there is one.
	Put(tx *sql.Tx, values []any) error
	// Remove takes the row of a key away.
	Remove(tx *sql.Tx, key []any) error
	// Guarded does something so that a failure leaves the transaction as it was before.
	Guarded(tx *sql.Tx, do func() error) error
}

// made makes the table of an output, where it is not there, and gives it the columns that it lacks, where that is wanted.
func made(ctx context.Context, server Server, db *sql.DB, name string, out *plan.Op) ([]Column, error) {
	cols, err := there(ctx, server, db, name, out)
	if err != nil {
		return nil, err
	}
	for range 3 { // somebody else may add one meanwhile
		lacks := lacking(cols, out)
		if len(lacks) == 0 {
			return cols, nil
		}
		for _, f := range lacks {
			if _, err := db.ExecContext(ctx, server.Add(out, f)); err != nil {
				return nil, fmt.Errorf("the column %s cannot be added to the table %s; grant ALTER, or add it with: %s: %w", f.Name, out.Sink.Address, server.Add(out, f), err)
			}
		}
		if cols, err = CheckSink(ctx, server, db, name, out); err != nil {
			return nil, err
		}
	}
	return nil, fmt.Errorf("columns were added to the table %s in %s, and are not to be seen there", out.Sink.Address, name)
}

// lacking are the columns of the rows that a table has not.
func lacking(cols []Column, out *plan.Op) (fields []types.Field) {
	for _, f := range out.Fields {
		if !slices.ContainsFunc(cols, func(c Column) bool { return strings.EqualFold(c.Name, f.Name) }) {
			fields = append(fields, f)
		}
	}
	return fields
}

// Prepares says what is made or changed for an output before its first row.
func Prepares(ctx context.Context, server Server, env *contract.Env, out *plan.Op) ([]string, error) {
	db, name, err := server.Connect(out.Sink.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	cols, err := CheckSink(ctx, server, db, name, out)
	if err != nil {
		return nil, err
	}
	if len(cols) == 0 {
		return []string{"makes its table: " + server.Suggest(out)}, nil
	}
	var will []string
	for _, f := range lacking(cols, out) {
		will = append(will, "adds a column to its table: "+server.Add(out, f))
	}
	return will, nil
}

// there makes the table of an output, where it is not there.
func there(ctx context.Context, server Server, db *sql.DB, name string, out *plan.Op) ([]Column, error) {
	cols, err := CheckSink(ctx, server, db, name, out)
	if err != nil || len(cols) > 0 {
		return cols, err
	}
	if _, err := db.ExecContext(ctx, server.Suggest(out)); err != nil {
		if cols, again := CheckSink(ctx, server, db, name, out); again == nil && len(cols) > 0 {
			return cols, nil // somebody else made it meanwhile
		}
		return nil, fmt.Errorf("the table %s cannot be made; grant CREATE, or make it with: %s: %w", out.Sink.Address, server.Suggest(out), err)
	}
	if cols, err = CheckSink(ctx, server, db, name, out); err == nil && len(cols) == 0 {
		err = fmt.Errorf("the table %s was made in %s, and is not to be seen there", out.Sink.Address, name)
	}
	return cols, err
}

// Column is a column of a table in a database.
type Column struct {
	Name, Kind string
	Required   bool // NOT NULL without a default
}

// CheckSource looks whether a table in the database has the columns of a declared one, and gives its columns.
func CheckSource(ctx context.Context, server Server, db *sql.DB, name string, s *plan.Stream) ([]Column, error) {
	have, err := server.Columns(ctx, db, name, s.Address)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s cannot be reached at %s: %w", s.Via.Name, s.Via.Address, server.Advice(s.Via, err))
	}
	if len(have) == 0 {
		return nil, fmt.Errorf("there is no table %s in %s", s.Address, name)
	}
	for _, f := range s.Columns {
		if f.Name == ChangeColumn && s.Options.Flag("changes", false) {
			continue
		}
		if !slices.ContainsFunc(have, func(c Column) bool { return strings.EqualFold(c.Name, f.Name) }) {
			return nil, fmt.Errorf("the table %s has no column %s (it has: %s)", s.Address, f.Name, strings.Join(namesOf(have), ", "))
		}
	}
	return have, nil
}

func namesOf(cols []Column) (out []string) {
	for _, c := range cols {
		out = append(out, c.Name)
	}
	return out
}

// CheckSink looks whether a table takes the rows of an output, and gives its columns: none where it is about to be made (CREATE true).
func CheckSink(ctx context.Context, server Server, db *sql.DB, name string, out *plan.Op) ([]Column, error) {
	table := out.Sink.Address
	cols, err := server.Columns(ctx, db, name, table)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s cannot be reached at %s: %w", out.Sink.Via.Name, out.Sink.Via.Address, server.Advice(out.Sink.Via, err))
	}
	if len(cols) == 0 && out.Sink.Options.Flag("create", false) {
		return nil, nil // it is made when the job begins
	}
	if len(cols) == 0 {
		return nil, fmt.Errorf("there is no table %s in %s, and the sink does not say CREATE true; one that fits is: %s", table, name, server.Suggest(out))
	}
	if err := server.Unfit(ctx, db, name, table); err != nil {
		return nil, err
	}
	have := map[string]Column{}
	for _, c := range cols {
		have[strings.ToLower(c.Name)] = c
	}
	var bad []string
	given := map[string]bool{}
	for _, f := range out.Fields {
		n := strings.ToLower(f.Name)
		given[n] = true
		c, ok := have[n]
		if !ok && out.Sink.Options.Flag("evolve", false) && !slices.Contains(out.Sink.Options.Names("key"), f.Name) {
			continue // it is added when the job begins
		}
		if !ok {
			bad = append(bad, fmt.Sprintf("the table %s has no column %s (it has: %s); with (EVOLVE true) it is added", table, f.Name, strings.Join(namesOf(cols), ", ")))
		} else if !server.Takes(c, f.Type) {
			bad = append(bad, fmt.Sprintf("the column %s is %s, the rows have %s", c.Name, c.Kind, f.Type))
		}
	}
	for _, c := range cols {
		if c.Required && !given[strings.ToLower(c.Name)] {
			bad = append(bad, fmt.Sprintf("the column %s is NOT NULL without a default, and the rows do not have it", c.Name))
		}
	}
	if key := out.Sink.Options.Names("key"); len(key) > 0 && len(bad) == 0 {
		var want []string
		for _, k := range key {
			if !given[strings.ToLower(k)] {
				bad = append(bad, fmt.Sprintf("KEY names %q, which the rows do not have", k))
			}
			want = append(want, strings.ToLower(k))
		}
		slices.Sort(want)
		unique, err := server.Unique(ctx, db, name, table)
		if err != nil {
			return nil, err
		}
		if len(bad) == 0 && !slices.ContainsFunc(unique, func(k []string) bool { return slices.Equal(slices.Sorted(slices.Values(k)), want) }) {
			bad = append(bad, fmt.Sprintf("the table %s has no unique key over (%s); add one with ALTER TABLE %s ADD UNIQUE (%s)", table, strings.Join(key, ", "), table, strings.Join(key, ", ")))
		}
	}
	if len(bad) > 0 {
		return nil, errors.New(strings.Join(bad, "; "))
	}
	return cols, nil
}
