package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbserver"
	"fiume/internal/connect/dbtable"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"

	"github.com/go-sql-driver/mysql"
)

// server is how a MariaDB server is spoken to. It implements dbtable.Server.
type server struct{}

func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func (server) Connect(e *plan.Endpoint, access contract.Secrets) (*sql.DB, string, error) {
	return dbserver.Connect(e, access)
}
func (server) Advice(e *plan.Endpoint, err error) error { return advised(e, err) }
func (server) Table(address string) string              { return quote(address) }
func (server) Cell(f types.Field) string                { return quote(f.Name) }
func (server) RowsAStatement() int                      { return 1000 }
func (server) Bind(statement string) string             { return statement }
func (server) Unless() (string, string)                 { return " IGNORE", "" }
func (server) Passing(err error) bool                   { return dbserver.Passing(err) }

// Value implements dbtable.Server: it reads a value as the server writes it.
func (server) Value(b []byte, t types.Type) (types.Value, bool) {
	if t.Kind == types.Boolean && len(b) == 1 && (b[0] == '0' || b[0] == '1') {
		return types.Value{Kind: types.Boolean, I: int64(b[0] - '0')}, true
	}
	if t.Kind == types.Varbinary {
		return types.Value{Kind: types.Varbinary, S: string(b)}, true
	}
	return eval.FromText(string(b), t)
}

// Keyed implements dbtable.Server.
func (server) Keyed(key []dbtable.Column, values []any) (string, []any) {
	var names []string
	for _, f := range key {
		names = append(names, quote(f.Name))
	}
	one := "(" + strings.TrimSuffix(strings.Repeat("?,", len(key)), ",") + ")"
	return "(" + strings.Join(names, ", ") + ") IN (" + strings.TrimSuffix(strings.Repeat(one+",", len(values)/len(key)), ",") + ")", driven(values)
}

// driven gives values as the driver takes them: the server has no NaN and no infinities, which are NULL there.
func driven(values []any) []any {
	for i, v := range values {
		if f, ok := v.(float64); ok && (math.IsNaN(f) || math.IsInf(f, 0)) {
			values[i] = nil
		}
	}
	return values
}

// Columns implements dbtable.Server.
func (server) Columns(ctx context.Context, db *sql.DB, name, table string) ([]dbtable.Column, error) {
	rows, err := db.QueryContext(ctx, "SELECT column_name, data_type, is_nullable='NO' AND column_default IS NULL AND extra NOT LIKE '%auto_increment%' AND extra NOT LIKE '%GENERATED%' FROM information_schema.columns WHERE table_schema=? AND table_name=? ORDER BY ordinal_position", name, table)
	if err != nil {
		return nil, err
	}
	return dbtable.ColumnsOf(rows)
}

// Unfit implements dbtable.Server.
func (server) Unfit(ctx context.Context, db *sql.DB, name, table string) error {
	var engine sql.NullString
	if err := db.QueryRowContext(ctx, "SELECT engine FROM information_schema.tables WHERE table_schema=? AND table_name=?", name, table).Scan(&engine); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if slices.Contains([]string{"MyISAM", "Aria", "MEMORY", "CSV", "ARCHIVE"}, engine.String) {
		return fmt.Errorf("the table %s is kept by %s, which has no transactions: a row could be there twice; ALTER TABLE %s ENGINE=InnoDB", table, engine.String, table)
	}
	return nil
}

// Unique implements dbtable.Server.
func (server) Unique(ctx context.Context, db *sql.DB, name, table string) ([][]string, error) {
	rows, err := db.QueryContext(ctx, "SELECT index_name, LOWER(column_name) FROM information_schema.statistics WHERE table_schema=? AND table_name=? AND non_unique=0", name, table)
	if err != nil {
		return nil, err
	}
	return dbtable.KeysOf(rows)
}

// Takes implements dbtable.Server.
func (server) Takes(c dbtable.Column, t types.Type) bool {
	column, k := c.Kind, t.Kind
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
	case types.Double, types.Decimal:
		return slices.Contains([]string{"double", "float", "decimal"}, column)
	case types.Timestamp:
		return slices.Contains([]string{"datetime", "timestamp"}, column)
	case types.Date:
		return slices.Contains([]string{"date", "datetime", "timestamp"}, column)
	}
	return false
}

var columnKinds = map[types.Kind]string{types.Boolean: "TINYINT", types.Int: "INT", types.BigInt: "BIGINT", types.Double: "DOUBLE",
	types.Timestamp: "DATETIME(6)", types.Date: "DATE", types.Interval: "BIGINT", types.Row: "JSON"}

// columnKind is the kind of a column of a table that is made.
func columnKind(out *plan.Op, f types.Field) string {
	switch k := columnKinds[f.Type.Kind]; {
	case f.Type.Kind == types.Decimal:
		return f.Type.String()
	case k != "":
		return k
	case slices.Contains(out.Sink.Options.Names("key"), f.Name):
		return "VARCHAR(190)"
	}
	return "TEXT"
}

// Add implements dbtable.Server.
func (server) Add(out *plan.Op, f types.Field) string {
	return fmt.Sprintf("ALTER TABLE %s ADD COLUMN IF NOT EXISTS %s %s", quote(out.Sink.Address), quote(f.Name), columnKind(out, f))
}

// Suggest implements dbtable.Server.
func (server) Suggest(out *plan.Op) string {
	key := out.Sink.Options.Names("key")
	var cols []string
	for _, f := range out.Fields {
		cols = append(cols, quote(f.Name)+" "+columnKind(out, f))
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

// writing write the rows of a sink.
type writing struct {
	insert, one, update, remove string
	width                       int
}

// Statements implements dbtable.Server.
func (server) Statements(_ []dbtable.Column, out *plan.Op) dbtable.Statements {
	s := &writing{width: len(out.Fields)}
	var cols, set, where []string
	key := out.Sink.Options.Names("key")
	for _, f := range out.Fields {
		cols = append(cols, quote(f.Name))
		if len(key) > 0 && !slices.Contains(key, f.Name) {
			set = append(set, fmt.Sprintf("%s=VALUES(%s)", quote(f.Name), quote(f.Name)))
		}
	}
	s.insert = fmt.Sprintf("INSERT INTO %s (%s) VALUES ", quote(out.Sink.Address), strings.Join(cols, ","))
	switch {
	case len(set) > 0:
		s.update = " ON DUPLICATE KEY UPDATE " + strings.Join(set, ",")
	case len(key) > 0:
		s.update = fmt.Sprintf(" ON DUPLICATE KEY UPDATE %s=%s", quote(key[0]), quote(key[0]))
	}
	for _, k := range key {
		where = append(where, quote(k)+" <=> ?")
	}
	s.remove = fmt.Sprintf("DELETE FROM %s WHERE %s", quote(out.Sink.Address), strings.Join(where, " AND "))
	s.one = "(" + strings.TrimSuffix(strings.Repeat("?,", len(cols)), ",") + ")"
	return s
}

// Put implements dbtable.Statements.
func (s *writing) Put(tx *sql.Tx, values []any) error {
	_, err := tx.Exec(s.insert+strings.TrimSuffix(strings.Repeat(s.one+",", len(values)/s.width), ",")+s.update, driven(values)...)
	return err
}

// Remove implements dbtable.Statements.
func (s *writing) Remove(tx *sql.Tx, key []any) error {
	_, err := tx.Exec(s.remove, driven(key)...)
	return err
}

// Guarded implements dbtable.Statements: a statement that fails leaves nothing.
func (s *writing) Guarded(_ *sql.Tx, do func() error) error { return do() }

// OwnTables implements dbtable.Server.
func (server) OwnTables(aside bool) []string {
	tables := []string{"CREATE TABLE IF NOT EXISTS fiume_deliveries (writer VARCHAR(64) CHARACTER SET ascii PRIMARY KEY, sink VARCHAR(190) NOT NULL, number BIGINT NOT NULL, at DATETIME(6) NOT NULL) ENGINE=InnoDB CHARACTER SET utf8mb4"}
	if aside {
		tables = append(tables, "CREATE TABLE IF NOT EXISTS fiume_set_aside (id BIGINT AUTO_INCREMENT PRIMARY KEY, sink VARCHAR(190) NOT NULL, reason TEXT NOT NULL, content LONGTEXT NOT NULL, at DATETIME(6) NOT NULL) ENGINE=InnoDB CHARACTER SET utf8mb4")
	}
	return tables
}

// OfTheRow implements dbtable.Server.
func (server) OfTheRow(err error) bool {
	var own *mysql.MySQLError
	return errors.As(err, &own) && slices.Contains([]uint16{1048, 1062, 1136, 1216, 1264, 1265, 1292, 1364, 1366, 1406, 1411, 1452, 1690, 3819, 4025, 1644}, own.Number)
}
