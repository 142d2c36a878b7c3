// Package mariadb reads tables of a MariaDB server, whole, by key or by their changes, and writes sinks to
// them.
package mariadb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"slices"
	"strings"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"

	"github.com/go-sql-driver/mysql"
)

// Place describes MARIADB.
var Place = plan.Place{
	Kind:     "mariadb",
	Endpoint: true,
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
	},
}

// Access is what connecting takes besides the endpoint.
type Access struct {
	Secret  func(name string) (string, error)
	Private string // host:port of the service's own server, which addresses call "private"
}

// server is where an endpoint is, and who asks.
type server struct{ user, password, host, db string }

// serverOf reads an endpoint's address, user@host:port/database, and finds the password of its secret.
func serverOf(e *plan.Endpoint, access Access) (s server, err error) {
	user, rest, ok := strings.Cut(e.Address, "@")
	host, db, ok2 := strings.Cut(rest, "/")
	if !ok || !ok2 || user == "" || host == "" || db == "" {
		return s, fmt.Errorf("endpoint %s: the address '%s' is not of the form user@host:port/database", e.Name, e.Address)
	}
	if strings.Contains(user, ":") {
		return s, fmt.Errorf("endpoint %s: a password does not belong into the address; write SECRET 'name'", e.Name)
	}
	if host == "private" {
		if host = access.Private; host == "" {
			return s, fmt.Errorf("endpoint %s: there is no private server here; write host:port", e.Name)
		}
	}
	s = server{user: user, host: host, db: db}
	if e.Secret != "" {
		if s.password, err = access.Secret(e.Secret); err != nil {
			return s, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
	}
	return s, nil
}

// connect opens an endpoint's database.
func connect(e *plan.Endpoint, access Access) (*sql.DB, string, error) {
	s, err := serverOf(e, access)
	if err != nil {
		return nil, "", err
	}
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Addr, c.DBName, c.Net = s.user, s.password, s.host, s.db, "tcp"
	c.Params = map[string]string{"time_zone": "'+00:00'"}
	c.Collation = "utf8mb4_general_ci"
	c.InterpolateParams = true
	c.Timeout, c.ReadTimeout, c.WriteTimeout = 5*time.Second, time.Minute, time.Minute
	c.Logger = quiet{}
	conn, err := mysql.NewConnector(c)
	if err != nil {
		return nil, "", fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	return sql.OpenDB(conn), s.db, nil
}

type quiet struct{}

func (quiet) Print(...any) {}

// tableColumn is a column of the target.
type tableColumn struct {
	name, kind string
	required   bool // NOT NULL without a default
}

// Check looks whether a table takes the rows of an output.
func Check(ctx context.Context, out *plan.Op, access Access) error {
	db, name, err := connect(out.Sink.Via, access)
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
		return fmt.Errorf("endpoint %s cannot be reached at %s: %w", out.Sink.Via.Name, out.Sink.Via.Address, err)
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
		if k == "" {
			k = "TEXT"
			if slices.Contains(key, f.Name) {
				k = "VARCHAR(190)"
			}
		}
		cols = append(cols, f.Name+" "+k)
	}
	if len(key) > 0 {
		cols = append(cols, "PRIMARY KEY ("+strings.Join(key, ", ")+")")
	}
	return fmt.Sprintf("CREATE TABLE %s (%s)", out.Sink.Address, strings.Join(cols, ", "))
}

// rowsPerInsert bounds a statement.
const rowsPerInsert = 1000

// Sink writes rows, each payload in one transaction. With a KEY a row replaces the one of its key.
type Sink struct {
	db     *sql.DB
	insert string
	update string
	one    string // placeholders of a row
	width  int
	remove string // DELETE of the row of a key, where the rows change
	key    []int  // columns of the key
	exact  bool   // the key is that of the step: a replacement has the key of what it replaces
}

// OpenSink connects and checks the table once more.
func OpenSink(out *plan.Op, access Access) (*Sink, error) {
	db, schema, err := connect(out.Sink.Via, access)
	if err != nil {
		return nil, err
	}
	if err := check(context.Background(), db, schema, out); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	s := &Sink{db: db, width: len(out.Fields)}
	var cols, set []string
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
	if out.Changes && !out.Full {
		var names []string
		for _, k := range out.Keys {
			names = append(names, out.Fields[k].Name)
		}
		s.exact = true
		var where []string
		for _, k := range key {
			s.key = append(s.key, slices.IndexFunc(out.Fields, func(f types.Field) bool { return f.Name == k }))
			where = append(where, quote(k)+" <=> ?")
			s.exact = s.exact && slices.Contains(names, k)
		}
		s.remove = fmt.Sprintf("DELETE FROM %s WHERE %s", quote(out.Sink.Address), strings.Join(where, " AND "))
	}
	s.one = "(" + strings.TrimSuffix(strings.Repeat("?,", len(cols)), ",") + ")"
	return s, nil
}

func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

type encoder struct {
	sink    *Sink
	values  []any
	rows    int
	removes []int // rows, in order, that are to be removed: only their keys matter
}

// NewEncoder implements flow.Sink.
func (s *Sink) NewEncoder([]types.Field) (flow.Encoder, error) { return &encoder{sink: s}, nil }

// Add implements flow.Encoder.
func (e *encoder) Add(b *column.Batch) {
	for i := range b.N {
		if b.Change != nil && e.sink.remove != "" {
			if b.Change[i] == column.Replaced && e.sink.exact {
				continue // its replacement takes its place
			}
			if b.Change[i].Takes() {
				e.removes = append(e.removes, e.rows)
			}
		}
		for _, v := range b.Cols {
			e.values = append(e.values, value(v, i))
		}
		e.rows++
	}
}

// value turns a value into one of the driver's. Intervals go as microseconds, rows as JSON. NaN and
// the infinities, which the server does not have, go as NULL.
func value(v *column.Vector, i int) any {
	if v == nil || v.Null(i) {
		return nil
	}
	switch v.Type.Kind {
	case types.Varchar, types.JSON:
		return string(v.Text(i))
	case types.Double:
		if math.IsNaN(v.F[i]) || math.IsInf(v.F[i], 0) {
			return nil
		}
		return v.F[i]
	case types.Boolean:
		return v.B[i]
	case types.Timestamp:
		return time.UnixMicro(v.I[i]).UTC()
	case types.Date:
		return string(types.AppendDate(nil, v.I[i]))
	case types.Row:
		enc := format.NewJSONEncoder([]types.Field{{Name: "v", Type: v.Type}})
		b := enc.Append(nil, &column.Batch{Cols: []*column.Vector{v}}, i)
		return string(b[len(`{"v":`) : len(b)-1])
	}
	return v.I[i]
}

// batch is what an encoder hands to Write.
type batch struct {
	values  []any
	removes []int
}

// Take implements flow.Encoder.
func (e *encoder) Take() flow.Payload {
	p := flow.Payload{Rows: e.rows, Any: batch{e.values, e.removes}}
	e.values, e.rows, e.removes = nil, 0, nil
	return p
}

// Write implements flow.Sink.
func (s *Sink) Write(p flow.Payload) error {
	b := p.Any.(batch)
	tx, err := s.db.Begin()
	if err != nil {
		return err
	}
	for at := 0; at < p.Rows; {
		if len(b.removes) > 0 && b.removes[0] == at {
			var key []any
			for _, k := range s.key {
				key = append(key, b.values[at*s.width+k])
			}
			if _, err := tx.Exec(s.remove, key...); err != nil {
				return errors.Join(err, tx.Rollback())
			}
			b.removes = b.removes[1:]
			at++
			continue
		}
		n := min(p.Rows-at, rowsPerInsert)
		if len(b.removes) > 0 {
			n = min(n, b.removes[0]-at)
		}
		q := s.insert + strings.TrimSuffix(strings.Repeat(s.one+",", n), ",") + s.update
		if _, err := tx.Exec(q, b.values[at*s.width:(at+n)*s.width]...); err != nil {
			return errors.Join(err, tx.Rollback())
		}
		at += n
	}
	return tx.Commit()
}

// passing are the errors of a server that is away, stopping, full or busy, and of transactions that met.
var passing = []uint16{1021, 1040, 1053, 1114, 1205, 1206, 1213, 1927, 3024, 4166}

// Retry implements flow.Retrier. A payload is a transaction. Where the connection breaks while it is committed
// it is not known whether it was: with KEY it can be written twice, without KEY its rows may be there twice, as
// they are after a crash.
func (s *Sink) Retry(err error) bool {
	var own *mysql.MySQLError
	if errors.As(err, &own) {
		return slices.Contains(passing, own.Number)
	}
	var network net.Error
	return errors.As(err, &network) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
}

// Sync implements flow.Sink. Every payload is committed as it is written.
func (s *Sink) Sync() error { return nil }

// Close implements flow.Sink.
func (s *Sink) Close(bool) error { return s.db.Close() }
