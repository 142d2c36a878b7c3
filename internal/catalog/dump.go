package catalog

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	driver "github.com/go-sql-driver/mysql"
)

// Snapshot is what stood in databases at a moment, whatever is written to them meanwhile.
type Snapshot struct {
	db        *sql.DB
	conn      *sql.Conn
	databases []string
	users     bool
}

// line is a line of a dump. Rows are arrays beside it: a text, null, or bytes that are no text.
type line struct {
	Database  string   `json:"database,omitempty"`
	Table     string   `json:"table,omitempty"`
	Create    string   `json:"create,omitempty"`
	Columns   []string `json:"columns,omitempty"` // that rows have; those that the server computes are left out
	Statement string   `json:"statement,omitempty"`
}

// bytesCell is a cell that is no text.
type bytesCell struct {
	Base64 string `json:"base64"`
}

// openDumping connects to where a DSN leads, without one's own limits of time: a dump takes long.
func openDumping(dsn string) (*sql.DB, *driver.Config, error) {
	c, err := driver.ParseDSN(dsn)
	if err != nil {
		return nil, nil, fmt.Errorf("the DSN cannot be read: %w", err)
	}
	c.Timeout, c.InterpolateParams, c.ParseTime = dialTimeout, true, false
	if c.Params == nil {
		c.Params = map[string]string{}
	}
	c.Params["time_zone"], c.Collation = "'+00:00'", "utf8mb4_bin"
	to, err := driver.NewConnector(c)
	if err != nil {
		return nil, nil, err
	}
	return sql.OpenDB(to), c, nil
}

// TakeSnapshot takes one of the database that a DSN names, or, where it names none, of all on its server but for the server's own, with those who may use them.
func TakeSnapshot(ctx context.Context, dsn string) (*Snapshot, error) {
	db, c, err := openDumping(dsn)
	if err != nil {
		return nil, err
	}
	s := &Snapshot{db: db, users: c.DBName == ""}
	if s.conn, err = db.Conn(ctx); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	for _, q := range []string{"SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ", "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"} {
		if _, err := s.conn.ExecContext(ctx, q); err != nil {
			return nil, errors.Join(err, s.Close())
		}
	}
	if s.databases = []string{c.DBName}; s.users {
		all, err := s.texts(ctx, "SHOW DATABASES")
		if err != nil {
			return nil, errors.Join(err, s.Close())
		}
		s.databases = slices.DeleteFunc(all, func(d string) bool { return d != "fiume" && slices.Contains(ownDatabases, d) })
	}
	return s, nil
}

// Databases are those that it has.
func (s *Snapshot) Databases() []string { return s.databases }

// Close ends it.
func (s *Snapshot) Close() error {
	var err error
	if s.conn != nil {
		err = s.conn.Close()
	}
	return errors.Join(err, s.db.Close())
}

// texts gives the first column of a query's rows.
func (s *Snapshot) texts(ctx context.Context, query string) (out []string, err error) {
	rows, err := s.conn.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	cells := make([]any, len(columns))
	var first sql.NullString
	cells[0] = &first
	for i := 1; i < len(cells); i++ {
		cells[i] = new(sql.RawBytes)
	}
	for rows.Next() {
		if err := rows.Scan(cells...); err != nil {
			return nil, err
		}
		out = append(out, first.String)
	}
	return out, rows.Err()
}

// ticked writes the name of a database, a table or a column.
func ticked(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// Dump writes it, a JSON value a line.
func (s *Snapshot) Dump(ctx context.Context, w io.Writer) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	for _, d := range s.databases {
		if err := enc.Encode(line{Database: d}); err != nil {
			return err
		}
		if _, err := s.conn.ExecContext(ctx, "USE "+ticked(d)); err != nil {
			return err
		}
		tables, err := s.texts(ctx, "SHOW FULL TABLES WHERE Table_type = 'BASE TABLE'")
		if err != nil {
			return err
		}
		for _, t := range tables {
			if err := s.table(ctx, d, t, enc); err != nil {
				return fmt.Errorf("%s.%s: %w", d, t, err)
			}
		}
		views, err := s.texts(ctx, "SHOW FULL TABLES WHERE Table_type = 'VIEW'")
		if err != nil {
			return err
		}
		for _, v := range views {
			var create [4]sql.NullString
			if err := s.conn.QueryRowContext(ctx, "SHOW CREATE VIEW "+ticked(v)).Scan(&create[0], &create[1], &create[2], &create[3]); err != nil {
				return fmt.Errorf("%s.%s: %w", d, v, err)
			}
			if err := enc.Encode(line{Statement: create[1].String}); err != nil {
				return err
			}
		}
	}
	if !s.users {
		return nil
	}
	users, err := s.texts(ctx, "SELECT CONCAT(QUOTE(User), '@', QUOTE(Host)) FROM mysql.global_priv WHERE User NOT IN ('', 'root', 'mysql', 'mariadb.sys', 'fiume') AND COALESCE(JSON_VALUE(Priv, '$.is_role'), 0) = 0 ORDER BY 1")
	if err != nil {
		return err
	}
	for _, u := range users {
		var create string
		if err := s.conn.QueryRowContext(ctx, "SHOW CREATE USER "+u).Scan(&create); err != nil {
			return fmt.Errorf("the user %s: %w", u, err)
		}
		grants, err := s.texts(ctx, "SHOW GRANTS FOR "+u)
		if err != nil {
			return fmt.Errorf("the user %s: %w", u, err)
		}
		for _, q := range append([]string{strings.Replace(create, "CREATE USER", "CREATE OR REPLACE USER", 1)}, grants...) {
			if err := enc.Encode(line{Statement: q}); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Snapshot) table(ctx context.Context, database, table string, enc *json.Encoder) error {
	var name, create string
	if err := s.conn.QueryRowContext(ctx, "SHOW CREATE TABLE "+ticked(table)).Scan(&name, &create); err != nil {
		return err
	}
	quoted := func(t string) string { return "'" + strings.NewReplacer(`\`, `\\`, "'", "''").Replace(t) + "'" }
	columns, err := s.texts(ctx, "SELECT column_name FROM information_schema.columns WHERE table_schema = "+quoted(database)+" AND table_name = "+quoted(table)+" AND is_generated = 'NEVER' ORDER BY ordinal_position")
	if err != nil {
		return err
	}
	if err := enc.Encode(line{Table: table, Create: create, Columns: columns}); err != nil {
		return err
	}
	if len(columns) == 0 {
		return nil
	}
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = ticked(c)
	}
	rows, err := s.conn.QueryContext(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+ticked(table))
	if err != nil {
		return err
	}
	defer rows.Close()
	raw := make([]sql.RawBytes, len(columns))
	into := make([]any, len(columns))
	for i := range raw {
		into[i] = &raw[i]
	}
	row := make([]any, len(columns))
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i, c := range raw {
			switch {
			case c == nil:
				row[i] = nil
			case utf8.Valid(c):
				row[i] = string(c)
			default:
				row[i] = bytesCell{base64.StdEncoding.EncodeToString(c)}
			}
		}
		if err := enc.Encode(row); err != nil {
			return err
		}
	}
	return rows.Err()
}

// How many rows, and bytes, are written at once.
const (
	loadRows  = 500
	loadBytes = 1 << 20
)

// LoadDump writes what a dump has into the database that a DSN names, or, where it names none, into databases of the same names. They must have nothing of
// that. It says how many rows there were.
func LoadDump(ctx context.Context, dsn string, r io.Reader) (count int64, err error) {
	db, c, err := openDumping(dsn)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	conn, err := db.Conn(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	exec := func(q string, args ...any) error {
		_, err := conn.ExecContext(ctx, q, args...)
		return err
	}
	for _, q := range []string{"SET foreign_key_checks = 0", "SET unique_checks = 0", "SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO'"} {
		if err := exec(q); err != nil {
			return 0, err
		}
	}
	var table line
	var cells []any
	rows, size := 0, 0
	flush := func() error {
		if rows == 0 {
			return nil
		}
		names := make([]string, len(table.Columns))
		for i, c := range table.Columns {
			names[i] = ticked(c)
		}
		one := "(" + strings.TrimSuffix(strings.Repeat("?,", len(names)), ",") + ")"
		q := "INSERT INTO " + ticked(table.Table) + " (" + strings.Join(names, ", ") + ") VALUES " + strings.TrimSuffix(strings.Repeat(one+",", rows), ",")
		err := exec(q, cells...)
		count += int64(rows)
		cells, rows, size = cells[:0], 0, 0
		return err
	}
	in := bufio.NewReaderSize(r, 1<<20)
	for n := 1; ; n++ {
		text, err := in.ReadBytes('\n')
		if len(text) == 0 && errors.Is(err, io.EOF) {
			return count, flush()
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return count, err
		}
		wrong := func(err error) error { return fmt.Errorf("line %d of the records: %w", n, err) }
		if text = bytes.TrimSpace(text); len(text) == 0 {
			continue
		}
		if text[0] == '[' {
			var row []json.RawMessage
			if err := json.Unmarshal(text, &row); err != nil {
				return count, wrong(err)
			}
			if len(row) != len(table.Columns) {
				return count, wrong(fmt.Errorf("%d cells, and %s has %d columns", len(row), table.Table, len(table.Columns)))
			}
			for _, raw := range row {
				x, err := cellOf(raw)
				if err != nil {
					return count, wrong(err)
				}
				cells = append(cells, x)
			}
			rows, size = rows+1, size+len(text)
			if rows >= loadRows || size >= loadBytes || len(cells)+len(row) > 60_000 { // a statement has up to 65,535 places
				if err := flush(); err != nil {
					return count, wrong(err)
				}
			}
			continue
		}
		if err := flush(); err != nil {
			return count, wrong(err)
		}
		var l line
		if err := json.Unmarshal(text, &l); err != nil {
			return count, wrong(err)
		}
		switch {
		case l.Database != "" && c.DBName == "":
			if err = exec("CREATE DATABASE IF NOT EXISTS " + ticked(l.Database) + " CHARACTER SET utf8mb4"); err == nil {
				err = exec("USE " + ticked(l.Database))
			}
		case l.Database != "":
		case l.Table != "":
			table = l
			err = exec(l.Create)
		case l.Statement != "":
			err = exec(l.Statement)
		default:
			err = errors.New("it says nothing")
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return count, wrong(err)
		}
	}
}

func cellOf(raw json.RawMessage) (any, error) {
	if string(raw) == "null" {
		return nil, nil
	}
	if len(raw) > 0 && raw[0] == '{' {
		var b bytesCell
		if err := json.Unmarshal(raw, &b); err != nil {
			return nil, err
		}
		return base64.StdEncoding.DecodeString(b.Base64)
	}
	var s string
	err := json.Unmarshal(raw, &s)
	return s, err
}

// SnapshotWithin is how long it may take to take a snapshot, while all else stands still.
const SnapshotWithin = 10 * time.Second
