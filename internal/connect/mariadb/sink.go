package mariadb

import (
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbserver"
	"fiume/internal/connect/spool"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"

	"github.com/go-sql-driver/mysql"
)

// rowsPerInsert bounds a statement.
const rowsPerInsert = 1000

// Tables that the sink makes in the target's database.
const (
	deliveriesTable = "fiume_deliveries"
	asideTable      = "fiume_set_aside"
)

// Sink writes rows. With a KEY a row replaces the one of its key. In a run that takes checkpoints, rows are
// spooled, and written when a checkpoint counts: the rows between two checkpoints in one transaction together
// with their number in the table fiume_deliveries, so that it is known whether they are there. Without
// checkpoints each payload is a transaction.
type Sink struct {
	*spool.Sink
	db     *sql.DB
	name   string
	insert string
	update string
	one    string // placeholders of a row
	fields []types.Field
	remove string // DELETE of the row of a key, where the rows change
	key    []int  // columns of the key
	exact  bool   // the key is that of the step: a replacement has the key of what it replaces
	keep   bool   // rows that the server refuses are set aside
	spools bool
	made   bool // the tables are there

	mu      sync.Mutex
	refused []flow.Refused // that were not asked for
}

// OpenSink implements contract.Writer: it connects and checks the table once more.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	db, schema, err := dbserver.Connect(out.Sink.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	if err := check(context.Background(), db, schema, out); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	s := &Sink{db: db, name: out.Sink.Name, fields: out.Fields, keep: out.Sink.Options.Word("bad rows", "stop") == "keep"}
	s.Sink = &spool.Sink{FS: env.FS(), Dir: env.Spool(out), Target: s}
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

// encoder writes rows so that they can be spooled: for each row what it does, then its values.
type encoder struct {
	sink *Sink
	buf  []byte
	rows int
}

// NewEncoder implements flow.Sink.
func (s *Sink) NewEncoder([]types.Field) (flow.Encoder, error) { return &encoder{sink: s}, nil }

const (
	rowPut    = 1
	rowRemove = 2 // only its key matters
)

// Add implements flow.Encoder.
func (e *encoder) Add(b *column.Batch) {
	for i := range b.N {
		kind := byte(rowPut)
		if b.Change != nil && e.sink.remove != "" {
			if b.Change[i] == column.Replaced && e.sink.exact {
				continue // its replacement takes its place
			}
			if b.Change[i].Takes() {
				kind = rowRemove
			}
		}
		e.buf = append(e.buf, kind)
		for _, v := range b.Cols {
			e.buf = appendValue(e.buf, v, i)
		}
		e.rows++
	}
}

// Forms of a value.
const (
	formNull  = iota
	formText  // length as a varint, bytes
	formInt   // 8 bytes
	formFloat // 8 bytes
	formTrue
	formFalse
	formTime // 8 bytes, microseconds
)

// appendValue writes a value as one of the driver's. Intervals go as microseconds, rows as JSON. NaN and the
// infinities, which the server does not have, go as NULL.
func appendValue(b []byte, v *column.Vector, i int) []byte {
	if v == nil || v.Null(i) {
		return append(b, formNull)
	}
	text := func(s []byte) []byte {
		return append(binary.AppendUvarint(append(b, formText), uint64(len(s))), s...)
	}
	switch v.Type.Kind {
	case types.Varchar, types.JSON, types.Varbinary:
		return text(v.Text(i))
	case types.Double:
		if math.IsNaN(v.F[i]) || math.IsInf(v.F[i], 0) {
			return append(b, formNull)
		}
		return le.AppendUint64(append(b, formFloat), math.Float64bits(v.F[i]))
	case types.Boolean:
		if v.B[i] {
			return append(b, formTrue)
		}
		return append(b, formFalse)
	case types.Timestamp:
		return le.AppendUint64(append(b, formTime), uint64(v.I[i]))
	case types.Date:
		return text(types.AppendDate(nil, v.I[i]))
	case types.Decimal, types.Time:
		return text(types.AppendText(nil, v.Value(i)))
	case types.Row, types.Array, types.Map:
		enc := format.NewJSONEncoder([]types.Field{{Name: "v", Type: v.Type}})
		j := enc.Append(nil, &column.Batch{Cols: []*column.Vector{v}}, i)
		return text(j[len(`{"v":`) : len(j)-1])
	}
	return le.AppendUint64(append(b, formInt), uint64(v.I[i]))
}

var errForm = errors.New("spooled rows are cut short")

// readValue reads a value back and gives what follows it.
func readValue(b []byte) (v any, rest []byte, err error) {
	if len(b) == 0 || (b[0] == formInt || b[0] == formFloat || b[0] == formTime) && len(b) < 9 {
		return nil, nil, errForm
	}
	form := b[0]
	b = b[1:]
	switch form {
	case formText:
		n, k := binary.Uvarint(b)
		if k <= 0 || uint64(len(b)-k) < n {
			return nil, nil, errForm
		}
		return string(b[k : k+int(n)]), b[k+int(n):], nil
	case formInt:
		return int64(le.Uint64(b)), b[8:], nil
	case formFloat:
		return math.Float64frombits(le.Uint64(b)), b[8:], nil
	case formTime:
		return time.UnixMicro(int64(le.Uint64(b))).UTC(), b[8:], nil
	case formTrue, formFalse:
		return form == formTrue, b, nil
	}
	return nil, b, nil
}

// value gives a value as one of the driver's.
func value(v *column.Vector, i int) any {
	x, _, _ := readValue(appendValue(nil, v, i))
	return x
}

// rowsOf reads rows back. removes are the numbers of those that are to be removed.
func (s *Sink) rowsOf(b []byte) (values []any, removes []int, rows int, err error) {
	for len(b) > 0 {
		if b[0] == rowRemove {
			removes = append(removes, rows)
		}
		b = b[1:]
		for range s.fields {
			var v any
			if v, b, err = readValue(b); err != nil {
				return nil, nil, 0, err
			}
			values = append(values, v)
		}
		rows++
	}
	return values, removes, rows, nil
}

// Held is how many bytes wait to be taken.
func (e *encoder) Held() int { return len(e.buf) }

// Take implements flow.Encoder.
func (e *encoder) Take() flow.Payload {
	p := flow.Payload{Rows: e.rows, Bytes: e.buf}
	e.buf, e.rows = nil, 0
	return p
}

// Resume implements flow.Exact.
func (s *Sink) Resume(handle []byte) error {
	s.spools = true
	return s.Sink.Resume(handle)
}

// Write implements flow.Sink.
func (s *Sink) Write(p flow.Payload) error {
	if s.spools {
		return s.Sink.Write(p.Bytes)
	}
	return s.transaction(func(tx *sql.Tx) error { return s.write(tx, p.Bytes, nil) })
}

func (s *Sink) transaction(do func(tx *sql.Tx) error) error {
	tx, err := s.db.Begin()
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// write writes the rows of a payload. Rows that the server refuses go to aside, where it is set.
func (s *Sink) write(tx *sql.Tx, payload []byte, aside func(row []any, why error) error) error {
	values, removes, rows, err := s.rowsOf(payload)
	if err != nil {
		return err
	}
	width := len(s.fields)
	exec := func(q string, args []any) error {
		_, err := tx.Exec(q, args...)
		return err
	}
	var put func(from, n int) error
	put = func(from, n int) error {
		args := values[from*width : (from+n)*width]
		err := exec(s.insert+strings.TrimSuffix(strings.Repeat(s.one+",", n), ",")+s.update, args)
		switch {
		case err == nil || aside == nil || !ofTheRow(err):
			return err
		case n == 1:
			return aside(args, err)
		}
		// A statement that fails leaves nothing: the rows are tried in halves, until the one stands alone.
		if err := put(from, n/2); err != nil {
			return err
		}
		return put(from+n/2, n-n/2)
	}
	for at := 0; at < rows; {
		if len(removes) > 0 && removes[0] == at {
			var key []any
			for _, k := range s.key {
				key = append(key, values[at*width+k])
			}
			if err := exec(s.remove, key); err != nil {
				return err
			}
			removes = removes[1:]
			at++
			continue
		}
		n := min(rows-at, rowsPerInsert)
		if len(removes) > 0 {
			n = min(n, removes[0]-at)
		}
		if err := put(at, n); err != nil {
			return err
		}
		at += n
	}
	return nil
}

// ofTheRow are the errors of a value that does not fit, of keys that are there and of conditions that fail.
func ofTheRow(err error) bool {
	var own *mysql.MySQLError
	return errors.As(err, &own) && slices.Contains([]uint16{1048, 1062, 1136, 1216, 1264, 1265, 1292, 1364, 1366, 1406, 1411, 1452, 1690, 3819, 4025, 1644}, own.Number)
}

// Place implements spool.Target: the deliveries that are there are counted in the database.
func (s *Sink) Place() ([]byte, error) { return nil, nil }

// Has implements spool.Target.
func (s *Sink) Has(writer string, number int64, _ []byte) (bool, error) {
	if err := s.makeTables(); err != nil {
		return false, err
	}
	var newest int64
	err := s.db.QueryRow("SELECT number FROM "+deliveriesTable+" WHERE writer=?", writer).Scan(&newest)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return newest >= number, err
}

// makeTables makes the tables of the sink's own, outside of transactions, which they would end.
func (s *Sink) makeTables() error {
	if s.made {
		return nil
	}
	tables := []string{"CREATE TABLE IF NOT EXISTS " + deliveriesTable + " (writer VARCHAR(64) CHARACTER SET ascii PRIMARY KEY, sink VARCHAR(190) NOT NULL, number BIGINT NOT NULL, at DATETIME(6) NOT NULL) ENGINE=InnoDB CHARACTER SET utf8mb4"}
	if s.keep {
		tables = append(tables, "CREATE TABLE IF NOT EXISTS "+asideTable+" (id BIGINT AUTO_INCREMENT PRIMARY KEY, sink VARCHAR(190) NOT NULL, reason TEXT NOT NULL, content LONGTEXT NOT NULL, at DATETIME(6) NOT NULL) ENGINE=InnoDB CHARACTER SET utf8mb4")
	}
	for _, q := range tables {
		if _, err := s.db.Exec(q); err != nil {
			return fmt.Errorf("a table of the sink's own cannot be made; grant CREATE, or make it with: %s: %w", q, err)
		}
	}
	s.made = true
	return nil
}

// Deliver implements spool.Target.
func (s *Sink) Deliver(writer string, number int64, _ []byte, payloads [][]byte) error {
	if err := s.makeTables(); err != nil {
		return err
	}
	var refused []flow.Refused
	err := s.transaction(func(tx *sql.Tx) error {
		refused = nil
		if _, err := tx.Exec("INSERT IGNORE INTO "+deliveriesTable+" (writer, sink, number, at) VALUES (?, ?, 0, UTC_TIMESTAMP(6))", writer, s.name); err != nil {
			return err
		}
		var newest int64
		if err := tx.QueryRow("SELECT number FROM "+deliveriesTable+" WHERE writer=? FOR UPDATE", writer).Scan(&newest); err != nil {
			return err
		}
		if newest >= number {
			return nil // it is there: what failed was to hear of it
		}
		var aside func(row []any, why error) error
		if s.keep {
			aside = func(row []any, why error) error {
				text := s.rowText(row)
				refused = append(refused, flow.Refused{Reason: why.Error(), Row: text})
				_, err := tx.Exec("INSERT INTO "+asideTable+" (sink, reason, content, at) VALUES (?, ?, ?, UTC_TIMESTAMP(6))", s.name, why.Error(), text)
				return err
			}
		}
		for _, p := range payloads {
			if err := s.write(tx, p, aside); err != nil {
				return err
			}
		}
		_, err := tx.Exec("UPDATE "+deliveriesTable+" SET number=?, at=UTC_TIMESTAMP(6) WHERE writer=?", number, writer)
		return err
	})
	if err == nil && refused != nil {
		s.mu.Lock()
		s.refused = append(s.refused, refused...)
		s.mu.Unlock()
	}
	return err
}

func (s *Sink) rowText(row []any) string {
	m := make(map[string]any, len(row))
	for i, f := range s.fields {
		m[f.Name] = row[i]
	}
	b, _ := json.Marshal(m)
	return string(b)
}

// Refused implements flow.Refuser.
func (s *Sink) Refused() []flow.Refused {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.refused
	s.refused = nil
	return out
}

// Passing implements spool.Target.
func (s *Sink) Passing(err error) bool { return dbserver.Passing(err) }

// Retry implements flow.Retrier. Without checkpoints, where the connection breaks while a payload is committed, it
// is not known whether it was: it can be written twice.
func (s *Sink) Retry(err error) bool { return s.Sink.Retry(err) }

// Close implements flow.Sink.
func (s *Sink) Close(bool) error { return s.db.Close() }
