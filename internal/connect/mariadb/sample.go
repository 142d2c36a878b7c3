package mariadb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbserver"
	"fiume/internal/connect/recorded"
)

// Sample implements contract.Sampler: it gives the columns of a table, and its first rows as JSON objects.
func (connector) Sample(ctx context.Context, env *contract.Env, w contract.Wanted) (*contract.Sample, error) {
	e, table := w.Via, w.Address
	db, schema, err := dbserver.Connect(e, env.Secrets)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, `SELECT column_name, data_type, is_nullable, column_key, COALESCE(numeric_precision, 0), COALESCE(numeric_scale, 0)
		FROM information_schema.columns WHERE table_schema=? AND table_name=? ORDER BY ordinal_position`, schema, table)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s cannot be reached at %s: %w", e.Name, e.Address, err)
	}
	defer rows.Close()
	var columns []contract.Column
	var selected []string
	for rows.Next() {
		var name, kind, null, key string
		var precision, scale int
		if err := rows.Scan(&name, &kind, &null, &key, &precision, &scale); err != nil {
			return nil, err
		}
		c := contract.Column{Name: name, NotNull: null == "NO", Key: key == "PRI"}
		c.Type, c.Note = declaredAs(strings.ToLower(kind), precision, scale)
		columns = append(columns, c)
		text := "CAST(" + quote(name) + " AS CHAR)"
		switch strings.ToLower(kind) {
		case "datetime", "timestamp":
			text = "DATE_FORMAT(" + quote(name) + ", '%Y-%m-%dT%H:%i:%s.%fZ')"
		case "tinyint", "smallint", "mediumint", "int", "bigint", "double", "float", "decimal":
			text = quote(name)
		}
		selected = append(selected, fmt.Sprintf("'%s', %s", strings.NewReplacer(`\`, `\\`, `'`, `''`).Replace(name), text))
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	if len(columns) == 0 {
		return nil, fmt.Errorf("there is no table %s in %s, or %s may not see it", table, schema, e.Name)
	}
	found, err := db.QueryContext(ctx, fmt.Sprintf("SELECT JSON_OBJECT(%s) FROM %s LIMIT %d", strings.Join(selected, ", "), quote(table), w.Limit))
	if err != nil {
		return nil, fmt.Errorf("the table %s cannot be read: %w", table, err)
	}
	defer found.Close()
	out := &contract.Sample{Origin: fmt.Sprintf("table %s via %s", table, e.Name), Name: table, Format: "json", Columns: columns}
	now := time.Now().UnixMicro()
	for found.Next() {
		var b []byte
		if err := found.Scan(&b); err != nil {
			return nil, err
		}
		if !json.Valid(b) {
			return nil, errors.New("a row of the table cannot be shown as JSON")
		}
		out.Messages = append(out.Messages, recorded.Message{Offset: int64(len(out.Messages)), At: now, Value: b})
	}
	return out, found.Err()
}

// declaredAs gives the type that a column of the server's type is declared as.
func declaredAs(kind string, precision, scale int) (t, note string) {
	switch kind {
	case "tinyint", "smallint", "mediumint", "int", "year":
		return "INT", ""
	case "bigint":
		return "BIGINT", ""
	case "double", "float":
		return "DOUBLE", ""
	case "decimal":
		if precision > 38 {
			return "DOUBLE", "its numbers have more digits than DECIMAL holds"
		}
		return fmt.Sprintf("DECIMAL(%d, %d)", precision, scale), ""
	case "datetime", "timestamp":
		return "TIMESTAMP", ""
	case "date":
		return "DATE", ""
	case "time":
		return "TIME", ""
	case "binary", "varbinary", "blob", "tinyblob", "mediumblob", "longblob":
		return "VARBINARY", ""
	case "json":
		return "JSON", ""
	}
	return "VARCHAR", ""
}
