package postgres

import (
	"cmp"
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"fiume/internal/connect/dbtable"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"

	"github.com/jackc/pgx/v5/pgconn"
)

// server is how a PostgreSQL server is spoken to. It implements dbtable.Server.
type server struct{}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// tableOf reads the name of a table, or of a schema and a table.
func tableOf(address string) ([]string, error) {
	parts := strings.SplitN(address, ".", 2)
	if slices.Contains(parts, "") || strings.Contains(address, "\x00") {
		return nil, fmt.Errorf("'%s' is not of the form table, or schema.table", address)
	}
	return parts, nil
}

// Table implements dbtable.Server.
func (server) Table(address string) string {
	parts, err := tableOf(address)
	if err != nil {
		return quote(address)
	}
	for i, p := range parts {
		parts[i] = quote(p)
	}
	return strings.Join(parts, ".")
}

func (server) Advice(_ *plan.Endpoint, err error) error             { return err }
func (server) RowsAStatement() int                                  { return 5000 }
func (server) Unless() (string, string)                             { return "", " ON CONFLICT DO NOTHING" }
func (server) Unfit(context.Context, *sql.DB, string, string) error { return nil }

// Bind implements dbtable.Server.
func (server) Bind(statement string) string {
	var b strings.Builder
	n := 0
	for _, r := range statement {
		if r == '?' {
			n++
			fmt.Fprintf(&b, "$%d", n)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// Cell implements dbtable.Server: all but bytes is read as text.
func (server) Cell(f types.Field) string {
	switch f.Type.Kind {
	case types.Varbinary:
		return quote(f.Name)
	case types.Array: // of the server's, or in JSON
		return "to_json(" + quote(f.Name) + ")::text"
	}
	return quote(f.Name) + "::text"
}

// Value implements dbtable.Server.
func (server) Value(b []byte, t types.Type) (types.Value, bool) {
	text := string(b)
	switch t.Kind {
	case types.Varbinary:
		return types.Value{Kind: types.Varbinary, S: text}, true
	case types.Timestamp:
		text = strings.TrimSuffix(text, "+00")
	case types.Interval:
		us, ok := interval(text)
		return types.Value{Kind: types.Interval, I: us}, ok
	}
	return eval.FromText(text, t)
}

// interval reads an interval as the server writes it in ISO 8601, where each part may have a sign of its own. Months have no length.
func interval(text string) (sum int64, ok bool) {
	days, clock, _ := strings.Cut(strings.TrimPrefix(text, "P"), "T")
	for i, parts := range []string{days, clock} {
		for parts != "" {
			end := strings.IndexFunc(parts, func(r rune) bool { return r >= 'A' && r <= 'Z' })
			if end < 0 {
				return 0, false
			}
			one, negative := strings.CutPrefix(parts[:end+1], "-")
			us, ok := types.ParseInterval([]string{"P", "PT"}[i] + one)
			if !ok {
				return 0, false
			}
			if negative {
				us = -us
			}
			sum, parts = sum+us, parts[end+1:]
		}
	}
	return sum, strings.HasPrefix(text, "P")
}

// Columns implements dbtable.Server. The kinds are without lengths, so that a text that is too long is refused and not cut.
func (s server) Columns(ctx context.Context, db *sql.DB, _, table string) ([]dbtable.Column, error) {
	rows, err := db.QueryContext(ctx, `SELECT a.attname, format_type(a.atttypid, NULL), a.attnotnull AND NOT a.atthasdef AND a.attidentity = '' AND a.attgenerated = ''
		FROM pg_attribute a WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`, s.Table(table))
	if err != nil {
		return nil, err
	}
	return dbtable.ColumnsOf(rows)
}

// Unique implements dbtable.Server.
func (s server) Unique(ctx context.Context, db *sql.DB, _, table string) ([][]string, error) {
	rows, err := db.QueryContext(ctx, `SELECT i.indexrelid::text, lower(a.attname) FROM pg_index i CROSS JOIN unnest(i.indkey) WITH ORDINALITY AS k(n, at)
		JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.n
		WHERE i.indrelid = to_regclass($1) AND i.indisunique AND i.indisvalid AND i.indimmediate AND i.indpred IS NULL AND i.indexprs IS NULL AND k.at <= i.indnkeyatts`, s.Table(table))
	if err != nil {
		return nil, err
	}
	return dbtable.KeysOf(rows)
}

var (
	texts    = []string{"text", "character varying", "character"}
	wholes   = []string{"bigint", "integer", "smallint", "numeric"}
	floats   = []string{"double precision", "real", "numeric"}
	moments  = []string{"timestamp with time zone", "timestamp without time zone"}
	inJSON   = []string{"json", "jsonb"}
	bySelves = map[types.Kind][]string{ // besides texts
		types.Boolean: {"boolean"}, types.Int: append([]string{"double precision", "real"}, wholes...), types.BigInt: append([]string{"double precision"}, wholes...), types.Double: floats, types.Decimal: floats,
		types.Timestamp: append([]string{"date"}, moments...), types.Date: append([]string{"date"}, moments...), types.Time: {"time without time zone"}, types.Interval: {"interval", "bigint", "numeric"},
		types.Varchar: {"uuid", "inet", "json", "jsonb", "xml", "citext"}, types.JSON: inJSON, types.Row: inJSON, types.Map: inJSON, types.Array: inJSON,
	}
)

// Takes implements dbtable.Server.
func (server) Takes(c dbtable.Column, t types.Type) bool {
	switch {
	case t.Kind == types.Varbinary:
		return c.Kind == "bytea"
	case t.Kind == types.Array && strings.HasSuffix(c.Kind, "[]"):
		return true
	}
	return slices.Contains(texts, c.Kind) || slices.Contains(bySelves[t.Kind], c.Kind) || t.Kind == types.Varchar && !strings.Contains(c.Kind, " ") && !known(c.Kind)
}

// known says whether a kind is one of those above: others, such as enumerations, take texts.
func known(kind string) bool {
	for _, kinds := range bySelves {
		if slices.Contains(kinds, kind) {
			return true
		}
	}
	return kind == "bytea" || strings.HasSuffix(kind, "[]")
}

var columnKinds = map[types.Kind]string{types.Boolean: "BOOLEAN", types.Int: "INTEGER", types.BigInt: "BIGINT", types.Double: "DOUBLE PRECISION", types.Timestamp: "TIMESTAMPTZ", types.Date: "DATE", types.Time: "TIME",
	types.Interval: "INTERVAL", types.Varbinary: "BYTEA", types.Row: "JSONB", types.Map: "JSONB", types.Array: "JSONB", types.JSON: "JSONB"}

// columnKind is the kind of a column of a table that is made.
func columnKind(f types.Field) string {
	if f.Type.Kind == types.Decimal {
		return strings.Replace(f.Type.String(), "DECIMAL", "NUMERIC", 1)
	}
	return cmp.Or(columnKinds[f.Type.Kind], "TEXT")
}

// Add implements dbtable.Server.
func (s server) Add(out *plan.Op, f types.Field) string {
	return fmt.Sprintf("ALTER TABLE %s ADD COLUMN IF NOT EXISTS %s %s", s.Table(out.Sink.Address), quote(f.Name), columnKind(f))
}

// Suggest implements dbtable.Server.
func (s server) Suggest(out *plan.Op) string {
	var cols, key []string
	for _, f := range out.Fields {
		cols = append(cols, quote(f.Name)+" "+columnKind(f))
	}
	for _, k := range out.Sink.Options.Names("key") {
		key = append(key, quote(k))
	}
	if key != nil {
		cols = append(cols, "PRIMARY KEY ("+strings.Join(key, ", ")+")")
	}
	return fmt.Sprintf("CREATE TABLE %s (%s)", s.Table(out.Sink.Address), strings.Join(cols, ", "))
}

// OwnTables implements dbtable.Server.
func (server) OwnTables(aside bool) []string {
	tables := []string{"CREATE TABLE IF NOT EXISTS fiume_deliveries (writer TEXT PRIMARY KEY, sink TEXT NOT NULL, number BIGINT NOT NULL, at TIMESTAMPTZ NOT NULL)"}
	if aside {
		tables = append(tables, "CREATE TABLE IF NOT EXISTS fiume_set_aside (id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY, sink TEXT NOT NULL, reason TEXT NOT NULL, content TEXT NOT NULL, at TIMESTAMPTZ NOT NULL)")
	}
	return tables
}

// OfTheRow implements dbtable.Server: values that do not fit, conditions that fail, and rows of one key in one statement that the server takes for the same, by a rule of its own.
func (server) OfTheRow(err error) bool {
	var own *pgconn.PgError
	return errors.As(err, &own) && (strings.HasPrefix(own.Code, "22") || strings.HasPrefix(own.Code, "23") || own.Code == "21000")
}

// passing are the errors of a server that is away, stopping, full, busy or not the first of several any more, and of transactions that met.
var passing = []string{"08", "53", "57", "58", "40", "55P03", "25006", "XX000"}

// Passing implements dbtable.Server.
func (server) Passing(err error) bool {
	var own *pgconn.PgError
	if errors.As(err, &own) {
		return slices.ContainsFunc(passing, func(p string) bool { return strings.HasPrefix(own.Code, p) })
	}
	var network net.Error
	var connect *pgconn.ConnectError
	return errors.As(err, &network) || errors.As(err, &connect) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, net.ErrClosed) || errors.Is(err, sql.ErrConnDone) || pgconn.Timeout(err) || strings.Contains(err.Error(), "conn closed")
}

// array is a column's values as the driver sends an array, and the server's type of it.
func array(values []any, width, at int) (any, string) {
	n := len(values) / width
	var sample any
	for i := 0; i < n && sample == nil; i++ {
		sample = values[i*width+at]
	}
	switch sample.(type) {
	case int64:
		return arrayOf[int64](values, width, at), "bigint[]"
	case float64:
		return arrayOf[float64](values, width, at), "double precision[]"
	case bool:
		return arrayOf[bool](values, width, at), "boolean[]"
	case time.Time:
		return arrayOf[time.Time](values, width, at), "timestamptz[]"
	}
	return arrayOf[string](values, width, at), "text[]"
}

func arrayOf[T any](values []any, width, at int) []*T {
	there := make([]T, len(values)/width) // one piece of memory for all of them
	out := make([]*T, len(there))
	for i := range out {
		if v, ok := values[i*width+at].(T); ok {
			there[i] = v
			out[i] = &there[i]
		}
	}
	return out
}

// Keyed implements dbtable.Server.
func (server) Keyed(key []dbtable.Column, values []any) (string, []any) {
	var names, lists []string
	var args []any
	for i, c := range key {
		list, kind := array(values, len(key), i)
		cast := "::" + kind + "::" + c.Kind + "[]"
		if c.Kind == "timestamp without time zone" {
			cast = "::" + kind + "::timestamptz[]::timestamp[]" // both at UTC
		}
		names, args = append(names, quote(c.Name)), append(args, list)
		lists = append(lists, "$"+strconv.Itoa(i+1)+cast)
	}
	return "(" + strings.Join(names, ", ") + ") IN (SELECT * FROM unnest(" + strings.Join(lists, ", ") + "))", args
}

// writing writes the rows of a sink: a column is an array, so that there is one statement whatever the number of rows.
type writing struct {
	table  string
	fields []types.Field
	kinds  []string // of the table's columns
	key    []int
	insert string
	put    string // what stands behind the SELECT
	remove string
	where  []string // a condition for each column of the key, with the number of its argument to come
	names  []string // the key's columns
}

// Statements implements dbtable.Server.
func (s server) Statements(columns []dbtable.Column, out *plan.Op) dbtable.Statements {
	w := &writing{table: s.Table(out.Sink.Address), fields: out.Fields}
	key := out.Sink.Options.Names("key")
	var cols, set, keys []string
	for i, f := range out.Fields {
		c := columns[slices.IndexFunc(columns, func(c dbtable.Column) bool { return strings.EqualFold(c.Name, f.Name) })]
		w.kinds = append(w.kinds, c.Kind)
		cols = append(cols, quote(c.Name))
		if slices.Contains(key, f.Name) {
			w.key = append(w.key, i)
			keys = append(keys, quote(c.Name))
		} else {
			set = append(set, quote(c.Name)+" = excluded."+quote(c.Name))
		}
	}
	w.insert = "INSERT INTO " + w.table + " (" + strings.Join(cols, ", ") + ") SELECT "
	switch {
	case len(key) > 0 && len(set) > 0:
		w.put = " ON CONFLICT (" + strings.Join(keys, ", ") + ") DO UPDATE SET " + strings.Join(set, ", ")
	case len(key) > 0:
		w.put = " ON CONFLICT (" + strings.Join(keys, ", ") + ") DO NOTHING"
	}
	for _, k := range key { // in the order in which Remove is given them
		i := slices.IndexFunc(out.Fields, func(f types.Field) bool { return f.Name == k })
		w.names = append(w.names, cols[i])
		w.where = append(w.where, cols[i]+" = "+s.cast("$%d", out.Fields[i].Type.Kind, w.kinds[i]))
	}
	w.remove = "DELETE FROM " + w.table + " WHERE "
	return w
}

// sent are the types that values are sent as.
var sent = map[types.Kind]string{types.Boolean: "boolean", types.Int: "bigint", types.BigInt: "bigint", types.Interval: "bigint", types.Double: "double precision", types.Timestamp: "timestamptz", types.Varbinary: "bytea"}

func sentAs(k types.Kind) string {
	if s := sent[k]; s != "" {
		return s
	}
	return "text"
}

// cast makes a value that was sent one of a column.
func (server) cast(value string, k types.Kind, column string) string {
	value = value + "::" + sentAs(k)
	switch {
	case column == sentAs(k):
		return value
	case k == types.Timestamp && column == "timestamp with time zone":
		return value
	case k == types.Timestamp && column != "timestamp without time zone" && column != "date":
		return "to_char(" + value + ` AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')`
	case k == types.Timestamp:
		return "(" + value + " AT TIME ZONE 'UTC')::" + column
	case k == types.Interval && column == "interval":
		return "(" + value + " * interval '1 microsecond')"
	case k == types.Array && strings.HasSuffix(column, "[]"):
		return "(CASE WHEN " + value + " IS NULL THEN NULL ELSE ARRAY(SELECT jsonb_array_elements_text(" + value + "::jsonb))::" + column + " END)"
	case slices.Contains(texts, column):
		return value + "::text" // a longer one than the column takes is refused, and not cut
	}
	return "(" + value + ")::" + column
}

// newest leaves out the rows that one behind them in the statement replaces: a statement may touch a row once.
func (w *writing) newest(values []any) []any {
	width := len(w.fields)
	n := len(values) / width
	if len(w.key) == 0 || n == 1 {
		return values
	}
	last := make(map[string]int, n)
	var name []byte
	keyOf := func(i int) (string, bool) {
		name = name[:0]
		for _, k := range w.key {
			switch v := values[i*width+k].(type) {
			case nil:
				return "", false // it replaces nothing
			case string:
				name = append(strconv.AppendInt(name, int64(len(v)), 10), ':')
				name = append(name, v...)
			case int64:
				name = append(strconv.AppendInt(name, v, 10), '|')
			case time.Time:
				name = append(strconv.AppendInt(name, v.UnixMicro(), 10), '|')
			default:
				name = fmt.Appendf(name, "%v|", v)
			}
		}
		return string(name), true
	}
	for i := range n {
		if k, ok := keyOf(i); ok {
			last[k] = i
		}
	}
	out := make([]any, 0, len(values))
	for i := range n {
		if k, ok := keyOf(i); !ok || last[k] == i {
			out = append(out, values[i*width:(i+1)*width]...)
		}
	}
	return out
}

// Put implements dbtable.Statements.
func (w *writing) Put(tx *sql.Tx, values []any) error {
	values = w.newest(values)
	width := len(w.fields)
	var cells, lists []string
	args := make([]any, width)
	for i, f := range w.fields {
		cells = append(cells, server{}.cast(fmt.Sprintf("t.c%d", i), f.Type.Kind, w.kinds[i]))
		lists = append(lists, fmt.Sprintf("$%d::%s[]", i+1, sentAs(f.Type.Kind)))
		switch sentAs(f.Type.Kind) {
		case "bigint":
			args[i] = arrayOf[int64](values, width, i)
		case "double precision":
			args[i] = arrayOf[float64](values, width, i)
		case "boolean":
			args[i] = arrayOf[bool](values, width, i)
		case "timestamptz":
			args[i] = arrayOf[time.Time](values, width, i)
		case "bytea":
			list := make([][]byte, 0, len(values)/width)
			for k := i; k < len(values); k += width {
				if s, ok := values[k].(string); ok {
					list = append(list, []byte(s))
				} else {
					list = append(list, nil)
				}
			}
			args[i] = list
		default:
			args[i] = arrayOf[string](values, width, i)
		}
	}
	var names []string
	for i := range w.fields {
		names = append(names, fmt.Sprintf("c%d", i))
	}
	_, err := tx.Exec(w.insert+strings.Join(cells, ", ")+" FROM unnest("+strings.Join(lists, ", ")+") AS t("+strings.Join(names, ", ")+")"+w.put, args...)
	return err
}

// Remove implements dbtable.Statements. NULL is asked for by itself: IS NOT DISTINCT FROM would read the whole table.
func (w *writing) Remove(tx *sql.Tx, key []any) error {
	var where []string
	var args []any
	for i, v := range key {
		if v == nil {
			where = append(where, w.names[i]+" IS NULL")
			continue
		}
		args = append(args, v)
		where = append(where, strings.ReplaceAll(w.where[i], "$%d", "$"+strconv.Itoa(len(args))))
	}
	_, err := tx.Exec(w.remove+strings.Join(where, " AND "), args...)
	return err
}

// Guarded implements dbtable.Statements: a statement that fails ends the transaction, but for what is behind a savepoint.
func (w *writing) Guarded(tx *sql.Tx, do func() error) error {
	if _, err := tx.Exec("SAVEPOINT fiume"); err != nil {
		return err
	}
	err := do()
	if err != nil {
		if _, back := tx.Exec("ROLLBACK TO SAVEPOINT fiume"); back != nil {
			return errors.Join(err, back)
		}
	}
	if _, ended := tx.Exec("RELEASE SAVEPOINT fiume"); ended != nil {
		return errors.Join(err, ended)
	}
	return err
}
