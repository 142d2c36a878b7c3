package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"strconv"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbserver"
	"fiume/internal/core/plan"
)

// What is shown at most: letters of a value, bytes of all values together, and results.
const (
	mostCell    = 1000
	mostShown   = 8 << 20
	mostResults = 200
)

// mayConnect is how long a server may take to let us in.
const mayConnect = 5 * time.Second

// Run implements contract.Commander: it has a server run statements as the endpoint's user, one after the other up to the first that fails. Of those that give
// rows it gives up to most of them.
func (connector) Run(ctx context.Context, env *contract.Env, e *plan.Endpoint, text string, most int) (out []contract.Result, err error) {
	config, err := dbserver.Config(e, env.Secrets)
	if err != nil {
		return nil, err
	}
	config.MultiStatements, config.InterpolateParams = true, false
	config.Params["sql_select_limit"] = strconv.Itoa(most + 1) // what is not shown need not be sent
	db, err := dbserver.Open(config, e)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	knocking, done := context.WithTimeout(ctx, mayConnect)
	defer done()
	if reach, allow := refusal(db.PingContext(knocking), config.DBName); reach != nil || allow != nil {
		return nil, advised(e, first(reach, allow))
	}
	rows, err := db.QueryContext(ctx, text)
	if err != nil {
		return nil, fmt.Errorf("the server refuses a statement: %w", err)
	}
	defer rows.Close()
	for left := mostShown; ; {
		r, err := resultOf(rows, most, &left)
		if err != nil {
			return out, fmt.Errorf("the rows of a statement: %w", err)
		}
		if len(r.Columns) > 0 && len(out) < mostResults {
			out = append(out, r)
		}
		if !rows.NextResultSet() {
			break
		}
	}
	if err := rows.Err(); err != nil {
		return out, fmt.Errorf("the server refuses a statement: %w", err)
	}
	return out, nil
}

// resultOf takes up to most rows, and as many as there is room left for.
func resultOf(rows *sql.Rows, most int, left *int) (r contract.Result, err error) {
	r.Rows = [][]*string{}
	if r.Columns, err = rows.Columns(); err != nil || r.Columns == nil {
		r.Columns = []string{}
	}
	for rows.Next() {
		if len(r.Rows) == most || *left <= 0 {
			r.More = true
			break
		}
		cells := make([]sql.NullString, len(r.Columns))
		at := make([]any, len(cells))
		for i := range cells {
			at[i] = &cells[i]
		}
		if err := rows.Scan(at...); err != nil {
			return r, err
		}
		row := make([]*string, len(cells))
		for i, c := range cells {
			if c.Valid {
				text := strings.ToValidUTF8(c.String, "\ufffd")
				if l := []rune(text); len(l) > mostCell {
					text = string(l[:mostCell]) + "…"
				}
				row[i] = &text
				*left -= len(text)
			}
			*left -= 8 // of the value's place in the row
		}
		r.Rows = append(r.Rows, row)
	}
	return r, nil
}

func first(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// advised adds the way out to what a private server refuses.
func advised(e *plan.Endpoint, err error) error {
	s, perr := dbserver.Parse(e.Address)
	if err == nil || perr != nil || s.Host != "private" {
		return err
	}
	return fmt.Errorf("%w; make the database and its user with: fiume database create %s --user %s", err, s.Database, s.User)
}
