package mariadb

import (
	"context"
	"errors"
	"fmt"
	"time"

	"fiume/internal/core/plan"

	"github.com/go-sql-driver/mysql"
)

// Probe looks whether a server can be reached, and whether it lets us in. The second is only known where the first is
// nil.
func Probe(ctx context.Context, e *plan.Endpoint, access Access) (reach, allow error) {
	db, schema, err := connect(e, access)
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

// MayWrite looks whether rows may be written to a table.
func MayWrite(ctx context.Context, e *plan.Endpoint, table string, access Access) error {
	db, _, err := connect(e, access)
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

// HasTable looks whether a table is there.
func HasTable(ctx context.Context, e *plan.Endpoint, table string, access Access) error {
	db, schema, err := connect(e, access)
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
