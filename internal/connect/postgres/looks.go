package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/recorded"
	"fiume/internal/core/plan"

	"github.com/jackc/pgx/v5"
)

// Sample implements contract.Sampler: it gives the columns of a table, and its first rows as JSON objects.
func (connector) Sample(ctx context.Context, env *contract.Env, w contract.Wanted) (*contract.Sample, error) {
	db, name, err := server{}.Connect(w.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	table := server{}.Table(w.Address)
	rows, err := db.QueryContext(ctx, `SELECT a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, EXISTS (SELECT FROM pg_index i WHERE i.indrelid = a.attrelid AND i.indisprimary AND a.attnum = ANY(i.indkey))
		FROM pg_attribute a WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`, table)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s cannot be reached at %s: %w", w.Via.Name, w.Via.Address, err)
	}
	defer rows.Close()
	out := &contract.Sample{Origin: fmt.Sprintf("table %s via %s", w.Address, w.Via.Name), Name: w.Address[strings.LastIndexByte(w.Address, '.')+1:], Format: "json"}
	var selected []string
	for rows.Next() {
		c := contract.Column{}
		var kind string
		if err := rows.Scan(&c.Name, &kind, &c.NotNull, &c.Key); err != nil {
			return nil, err
		}
		c.Type, c.Note = declaredAs(kind)
		out.Columns = append(out.Columns, c)
		value := quote(c.Name)
		switch {
		case c.Type == "TIMESTAMP":
			value = "to_char(" + value + `, 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')` // the session is at UTC
		case c.Type == "VARBINARY":
			value = "encode(" + value + ", 'base64')"
		case c.Type == "VARCHAR" || strings.HasPrefix(c.Type, "DECIMAL"):
			value += "::text"
		}
		selected = append(selected, value+" AS "+quote(c.Name))
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	if len(out.Columns) == 0 {
		return nil, fmt.Errorf("there is no table %s in %s, or %s may not see it", w.Address, name, w.Via.Name)
	}
	found, err := db.QueryContext(ctx, fmt.Sprintf("SELECT row_to_json(t)::text FROM (SELECT %s FROM %s LIMIT %d) t", strings.Join(selected, ", "), table, w.Limit))
	if err != nil {
		return nil, fmt.Errorf("the table %s cannot be read: %w", w.Address, err)
	}
	defer found.Close()
	now := time.Now().UnixMicro()
	for found.Next() {
		var b []byte
		if err := found.Scan(&b); err != nil {
			return nil, err
		}
		if !json.Valid(b) {
			return nil, fmt.Errorf("a row of the table cannot be shown as JSON: %.60q", b)
		}
		out.Messages = append(out.Messages, recorded.Message{Offset: int64(len(out.Messages)), At: now, Value: b})
	}
	return out, found.Err()
}

// declaredAs gives the type that a column of the server's type is declared as.
func declaredAs(kind string) (t, note string) {
	switch base, rest, _ := strings.Cut(kind, "("); base {
	case "smallint", "integer":
		return "INT", ""
	case "bigint":
		return "BIGINT", ""
	case "double precision", "real":
		return "DOUBLE", ""
	case "numeric":
		var precision, scale int
		if n, _ := fmt.Sscanf(rest, "%d,%d)", &precision, &scale); n == 2 && precision <= 38 && scale >= 0 {
			return fmt.Sprintf("DECIMAL(%d, %d)", precision, scale), ""
		}
		return "DOUBLE", "its numbers may have more digits than DECIMAL holds"
	case "boolean":
		return "BOOLEAN", ""
	case "timestamp with time zone", "timestamp without time zone", "timestamp":
		return "TIMESTAMP", ""
	case "date":
		return "DATE", ""
	case "time without time zone", "time":
		return "TIME", ""
	case "bytea":
		return "VARBINARY", ""
	case "json", "jsonb":
		return "JSON", ""
	case "text[]", "character varying[]":
		return "ARRAY(VARCHAR)", ""
	case "bigint[]":
		return "ARRAY(BIGINT)", ""
	case "integer[]":
		return "ARRAY(INT)", ""
	}
	return "VARCHAR", ""
}

// List implements contract.Lister: the tables and views that the user may read.
func (connector) List(ctx context.Context, env *contract.Env, via *plan.Endpoint) (out []string, err error) {
	db, _, err := server{}.Connect(via, env.Secrets)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, `SELECT CASE WHEN pg_table_is_visible(c.oid) THEN c.relname ELSE n.nspname || '.' || c.relname END FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg_toast%' AND has_table_privilege(c.oid, 'SELECT') ORDER BY 1 LIMIT 5000`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		out = append(out, name)
	}
	return out, rows.Err()
}

const (
	mostShown   = 4 << 20 // bytes of all results
	mostCell    = 2000
	mostResults = 200
)

// Run implements contract.Commander.
func (connector) Run(ctx context.Context, env *contract.Env, e *plan.Endpoint, text string, most int) (out []contract.Result, err error) {
	config, err := configOf(e, env.Secrets)
	if err != nil {
		return nil, err
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	defer conn.Close(context.Background())
	results := conn.PgConn().Exec(ctx, text)
	left := mostShown
	for results.NextResult() {
		rows := results.ResultReader()
		r := contract.Result{Rows: [][]*string{}, Columns: []string{}}
		for _, f := range rows.FieldDescriptions() {
			r.Columns = append(r.Columns, f.Name)
		}
		for rows.NextRow() {
			if len(r.Rows) == most || left <= 0 {
				r.More = true
				continue // the rest of it is passed over
			}
			var row []*string
			for _, v := range rows.Values() {
				left -= len(v) + 8
				if v == nil {
					row = append(row, nil)
					continue
				}
				cell := strings.ToValidUTF8(string(v), "\ufffd")
				if utf8.RuneCountInString(cell) > mostCell {
					cell = string([]rune(cell)[:mostCell]) + "…"
				}
				row = append(row, &cell)
			}
			r.Rows = append(r.Rows, row)
		}
		if len(r.Columns) > 0 && len(out) < mostResults {
			out = append(out, r)
		}
	}
	if err := results.Close(); err != nil {
		return out, fmt.Errorf("the server refuses a statement: %w", err)
	}
	return out, nil
}
