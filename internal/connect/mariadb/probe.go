package mariadb

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbserver"
	"fiume/internal/core/plan"

	"github.com/go-sql-driver/mysql"
)

// Test implements contract.Tester.
func (c connector) Test(ctx context.Context, env *contract.Env, of contract.Tested, r *contract.Report) {
	e := of.Endpoint
	switch {
	case of.Stream != nil:
		e = of.Stream.Via
	case of.Sink != nil:
		e = of.Sink.Via
	}
	reach, allow := probe(ctx, e, env.Secrets)
	if !r.Saw("reachable", reach, "the server answers") || !r.Saw("allowed", allow, "it lets us in") {
		return
	}
	switch {
	case of.Stream != nil:
		r.Saw("columns fit", c.CheckSource(ctx, env, of.Stream), fmt.Sprintf("the table %s has the columns that are declared", of.Stream.Address))
	case of.Sink != nil:
		table := of.Sink.Address
		fits := false
		if of.Output == nil {
			fits = r.Saw("exists", hasTable(ctx, e, table, env.Secrets), "the table "+table+" is there")
		} else {
			words := "the table " + table + " takes the rows"
			if will, err := c.Prepares(ctx, env, of.Output); err == nil && len(will) > 0 {
				words = "the job " + strings.Join(will, "; ")
			}
			fits = r.Saw("columns fit", c.CheckSink(ctx, env, of.Output), words)
		}
		if fits {
			r.Saw("writable", mayWrite(ctx, e, table, env.Secrets), "rows may be written to it")
		}
	}
}

// probe looks whether a server can be reached, and whether it lets us in. The second is only known where the first is
// nil.
func probe(ctx context.Context, e *plan.Endpoint, access contract.Secrets) (reach, allow error) {
	db, schema, err := dbserver.Connect(e, access)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	reach, allow = refusal(db.PingContext(ctx), schema)
	return reach, advised(e, allow)
}

// refusal tells a server that says no from one that says nothing.
func refusal(err error, schema string) (reach, allow error) {
	var m *mysql.MySQLError
	switch {
	case err == nil:
		return nil, nil
	case errors.As(err, &m) && m.Number == 1049:
		return nil, fmt.Errorf("there is no database %s", schema)
	case errors.As(err, &m):
		return nil, errors.New(m.Message)
	}
	return fmt.Errorf("the server does not answer: %w", err), nil
}

// mayWrite looks whether rows may be written to a table.
func mayWrite(ctx context.Context, e *plan.Endpoint, table string, access contract.Secrets) error {
	db, _, err := dbserver.Connect(e, access)
	if err != nil {
		return err
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	_, err = db.ExecContext(ctx, "EXPLAIN INSERT INTO "+quote(table)+" () VALUES ()") // it is not done
	var m *mysql.MySQLError
	if errors.As(err, &m) && (m.Number == 1142 || m.Number == 1143 || m.Number == 1044) {
		return errors.New(m.Message)
	}
	return nil // what else may be wrong with such a row is no matter of rights
}

// hasTable looks whether a table is there.
func hasTable(ctx context.Context, e *plan.Endpoint, table string, access contract.Secrets) error {
	db, schema, err := dbserver.Connect(e, access)
	if err != nil {
		return err
	}
	defer db.Close()
	n := 0
	if err := db.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema=? AND table_name=?", schema, table).Scan(&n); err != nil {
		return err
	}
	if n == 0 {
		return fmt.Errorf("there is no table %s in %s, or it may not be seen", table, schema)
	}
	return nil
}
