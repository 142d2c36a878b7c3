package mariadb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"fiume/internal/core/plan"
)

// TableColumn is a column of a table of a database, and how it would be declared.
type TableColumn struct {
	Name    string
	Type    string // in Fiume SQL
	NotNull bool
	Key     bool // of the primary key
	Note    string
}

// Sample gives the columns of a table and its first rows as JSON objects.
func Sample(ctx context.Context, e *plan.Endpoint, table string, most int, access Access) ([]TableColumn, [][]byte, error) {
	db, schema, err := connect(e, access)
	if err != nil {
		return nil, nil, err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, `SELECT column_name, data_type, is_nullable, column_key, COALESCE(numeric_precision, 0), COALESCE(numeric_scale, 0)
		FROM information_schema.columns WHERE table_schema=? AND table_name=? ORDER BY ordinal_position`, schema, table)
	if err != nil {
		return nil, nil, fmt.Errorf("endpoint %s cannot be reached at %s: %w", e.Name, e.Address, err)
	}
	defer rows.Close()
	var columns []TableColumn
	var selected []string
	for rows.Next() {
		var name, kind, null, key string
		var precision, scale int
		if err := rows.Scan(&name, &kind, &null, &key, &precision, &scale); err != nil {
			return nil, nil, err
		}
		c := TableColumn{Name: name, NotNull: null == "NO", Key: key == "PRI"}
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
		return nil, nil, err
	}
	if len(columns) == 0 {
		return nil, nil, fmt.Errorf("there is no table %s in %s, or %s may not see it", table, schema, e.Name)
	}
	found, err := db.QueryContext(ctx, fmt.Sprintf("SELECT JSON_OBJECT(%s) FROM %s LIMIT %d", strings.Join(selected, ", "), quote(table), most))
	if err != nil {
		return nil, nil, fmt.Errorf("the table %s cannot be read: %w", table, err)
	}
	defer found.Close()
	var out [][]byte
	for found.Next() {
		var b []byte
		if err := found.Scan(&b); err != nil {
			return nil, nil, err
		}
		if !json.Valid(b) {
			return nil, nil, errors.New("a row of the table cannot be shown as JSON")
		}
		out = append(out, b)
	}
	return columns, out, found.Err()
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
