package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbserver"
	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// CheckSource implements contract.Reader: it looks whether a table in the database has the columns of a declared one.
func (connector) CheckSource(ctx context.Context, env *contract.Env, s *plan.Stream) error {
	db, schema, err := dbserver.Connect(s.Via, env.Secrets)
	if err != nil {
		return err
	}
	defer db.Close()
	if err := checkSource(ctx, db, schema, s); err != nil || !s.Options.Flag("changes", false) {
		return err
	}
	c := &changes{db: db, scan: &plan.Op{Stream: s}}
	for i, f := range s.Columns {
		if f.Name != changeColumn {
			c.cols = append(c.cols, i)
		}
	}
	return errors.Join(c.checkLog(), c.checkColumns(schema))
}

func checkSource(ctx context.Context, db *sql.DB, schema string, s *plan.Stream) error {
	rows, err := db.QueryContext(ctx, "SELECT column_name FROM information_schema.columns WHERE table_schema=? AND table_name=? ORDER BY ordinal_position", schema, s.Address)
	if err != nil {
		return fmt.Errorf("endpoint %s cannot be reached at %s: %w", s.Via.Name, s.Via.Address, err)
	}
	defer rows.Close()
	var names []string
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			return err
		}
		names = append(names, n)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if len(names) == 0 {
		return fmt.Errorf("there is no table %s in %s", s.Address, schema)
	}
	for _, f := range s.Columns {
		if f.Name == changeColumn && s.Options.Flag("changes", false) {
			continue
		}
		if !slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, f.Name) }) {
			return fmt.Errorf("the table %s has no column %s (it has: %s)", s.Address, f.Name, strings.Join(names, ", "))
		}
	}
	return nil
}

// source is a table of a database that is read whole, and again now and then. It is one split.
type source struct {
	db     *sql.DB
	scan   *plan.Op
	cols   []int // columns that are read
	query  string
	every  time.Duration // between two readings; 0: it is read once
	wake   func()
	timer  *time.Timer
	rows   *sql.Rows
	cells  []sql.RawBytes
	n      int64 // rows read
	next   time.Time
	failed atomic.Pointer[error] // of the last reading; the rows of the one before stand
}

// OpenSource implements contract.Reader: it opens a table that is read whole, or its changes.
func (connector) OpenSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	s := scan.Stream
	if s.Options.Flag("changes", false) {
		return openChanges(scan, env.Secrets)
	}
	db, schema, err := dbserver.Connect(s.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	if err := checkSource(context.Background(), db, schema, s); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	out := &source{db: db, scan: scan, every: time.Duration(s.Options.Duration("refresh every", 0)) * time.Microsecond}
	if scan.Until.Kind != plan.Default {
		out.every = 0 // a query that ends takes the table as it is
	}
	out.cols = wanted(scan)
	out.query = "SELECT " + columnList(s, out.cols) + " FROM " + quote(s.Address)
	out.cells = make([]sql.RawBytes, len(out.cols))
	return out, nil
}

// wanted gives the columns that a scan reads.
func wanted(scan *plan.Op) (out []int) {
	for i := range scan.Stream.Columns {
		if _, ok := scan.Used.Needs(i); ok {
			out = append(out, i)
		}
	}
	return out
}

func columnList(s *plan.Stream, cols []int) string {
	var names []string
	for _, c := range cols {
		names = append(names, quote(s.Columns[c].Name))
	}
	return strings.Join(names, ", ")
}

// Splits implements flow.Source.
func (s *source) Splits() []flow.Split { return []flow.Split{s} }

// OnData implements flow.Source.
func (s *source) OnData(wake func()) { s.wake = wake }

// Close implements flow.Source and flow.Split, both of which it is.
func (s *source) Close() error {
	if s.timer != nil {
		s.timer.Stop()
	}
	if s.rows != nil {
		s.rows.Close()
		s.rows = nil
	}
	return s.db.Close()
}

// Name implements flow.Split.
func (s *source) Name() string { return s.scan.Stream.Address }

// Place implements flow.Split.
func (s *source) Place(pos int64) string {
	return fmt.Sprintf("row %d of %s", pos+1, s.scan.Stream.Address)
}

// Position implements flow.Split.
func (s *source) Position() int64 { return s.n }

// Resume implements flow.Split; a table is read anew.
func (s *source) Resume(int64) error { return nil }

// Endless implements flow.Endless.
func (s *source) Endless() bool { return s.every > 0 }

// rowsAPiece is how many rows a worker turns into columns at a time.
const rowsAPiece = 4096

// A row of a piece is a byte that says what it does, its time of arrival, and its cells: the length of each, all
// ones for NULL, and the cell as the server writes it.
const rowHead = 9

func appendHead(b []byte, op byte, arrived int64) []byte {
	return le.AppendUint64(append(b, op), uint64(arrived))
}

// Next implements flow.Split.
func (s *source) Next(p *flow.Piece) error {
	if s.rows == nil {
		if s.n > 0 || !s.next.IsZero() {
			if s.every == 0 {
				return io.EOF
			}
			if time.Now().Before(s.next) {
				return flow.ErrNothing
			}
		}
		if err := s.begin(); err != nil {
			return s.missed(err)
		}
		p.Fresh = true
	}
	data := p.Data[:0]
	p.Base = s.n
	rows := 0
	for rows < rowsAPiece && s.rows.Next() {
		dest := make([]any, len(s.cells))
		for i := range s.cells {
			dest[i] = &s.cells[i]
		}
		if err := s.rows.Scan(dest...); err != nil {
			return s.missed(err)
		}
		data = appendHead(data, opInsert, time.Now().UnixMicro())
		for _, c := range s.cells {
			data = appendCell(data, c)
		}
		rows++
	}
	s.n += int64(rows)
	p.Next = s.n
	if rows < rowsAPiece {
		err := errors.Join(s.rows.Err(), s.rows.Close())
		s.rows = nil
		if err != nil {
			return s.missed(err)
		}
		s.plan()
		s.failed.Store(nil)
		p.Complete = true
	}
	p.Data = padded(data)
	return nil
}

func appendCell(b []byte, c []byte) []byte {
	if c == nil {
		return le.AppendUint32(b, 0xffffffff)
	}
	return append(le.AppendUint32(b, uint32(len(c))), c...)
}

func (s *source) begin() (err error) {
	s.rows, err = s.db.Query(s.query)
	return err
}

// plan says when the table is read again.
func (s *source) plan() {
	s.next = time.Now().Add(max(s.every, time.Millisecond))
	if s.every > 0 && s.wake != nil {
		s.timer = time.AfterFunc(s.every, s.wake)
	}
}

// missed ends a reading that failed. The first one has to succeed; where a later one does not, the rows of
// the one before stand and it is tried again.
func (s *source) missed(err error) error {
	if s.rows != nil {
		s.rows.Close()
		s.rows = nil
	}
	if s.next.IsZero() {
		return fmt.Errorf("the table %s cannot be read: %w", s.scan.Stream.Address, err)
	}
	s.failed.Store(&err)
	s.plan()
	return flow.ErrNothing
}

// Notice implements flow.Noticing.
func (s *source) Notice() string {
	if err := s.failed.Load(); err != nil {
		return fmt.Sprintf("the table could not be read again, the rows of the last reading stand: %s", *err)
	}
	return ""
}

// Frame implements flow.Split.
func (s *source) Frame(p *flow.Piece) error { return frameRows(p, len(s.cols)) }

// frameRows finds the rows of a piece.
func frameRows(p *flow.Piece, cells int) error {
	p.Messages = p.Messages[:0]
	for at := 0; at < len(p.Data); {
		from := at
		t := int64(le.Uint64(p.Data[at+1:]))
		at += rowHead
		for range cells {
			n := le.Uint32(p.Data[at:])
			at += 4
			if n != 0xffffffff {
				at += int(n)
			}
		}
		p.Messages = append(p.Messages, flow.Message{Off: uint32(from), Len: uint32(at - from), Pos: p.Base + int64(len(p.Messages)), At: t})
	}
	return nil
}

// NewDecoder implements flow.Split.
func (s *source) NewDecoder() (flow.Decoder, error) { return newDecoder(s.scan, s.cols), nil }

// decoder turns the rows of pieces into columns. Those of a table are rows and deletions; those of a stream are
// rows that stay, and a column says what each does.
type decoder struct {
	stream *plan.Stream
	cols   []int
	table  bool
	change int // the column that says what a row does, or -1
	row    []types.Value
}

func newDecoder(scan *plan.Op, cols []int) *decoder {
	d := &decoder{stream: scan.Stream, cols: cols, table: scan.OfTable != nil, change: -1}
	if i := slices.IndexFunc(d.stream.Columns, func(f types.Field) bool { return f.Name == changeColumn }); i >= 0 && !slices.Contains(cols, i) {
		if _, ok := scan.Used.Needs(i); ok {
			d.change = i
		}
	}
	return d
}

// Decode implements flow.Decoder.
func (d *decoder) Decode(data []byte, msgs []flow.Message, out *column.Batch) (rejects []flow.Reject) {
	*out = column.Batch{Cols: make([]*column.Vector, len(d.stream.Columns))}
	for _, c := range d.cols {
		out.Cols[c] = column.New(d.stream.Columns[c].Type)
	}
	if d.change >= 0 {
		out.Cols[d.change] = column.New(types.Of(types.Varchar))
	}
	for i, m := range msgs {
		op := data[m.Off]
		if reason := d.read(data[m.Off+rowHead:]); reason != "" {
			rejects = append(rejects, flow.Reject{Message: i, Reason: reason})
			continue
		}
		change := column.Insert
		if d.table && op == opWithdraw {
			change = column.Withdraw
		}
		d.add(out, m, change)
		if d.change >= 0 {
			out.Cols[d.change].Append(types.Value{Kind: types.Varchar, S: opNames[op]})
		}
	}
	return rejects
}

// read reads the cells of a row into d.row.
func (d *decoder) read(b []byte) (reason string) {
	d.row = d.row[:0]
	for _, c := range d.cols {
		f := d.stream.Columns[c]
		n := le.Uint32(b)
		b = b[4:]
		var v types.Value
		if n != 0xffffffff {
			var ok bool
			if v, ok = fromCell(b[:n], f.Type); !ok && reason == "" {
				reason = fmt.Sprintf("%s: '%.50s' is no %s", f.Name, b[:n], f.Type)
			}
			b = b[n:]
		} else if f.NotNull && reason == "" {
			reason = f.Name + " is NULL, but it is declared NOT NULL"
		}
		d.row = append(d.row, v)
	}
	return reason
}

// add appends the row that was read.
func (d *decoder) add(out *column.Batch, m flow.Message, c column.Change) {
	t := m.At
	for i, col := range d.cols {
		out.Cols[col].Append(d.row[i])
		if col == d.stream.Time {
			t = d.row[i].I
		}
	}
	if c == column.Withdraw && d.stream.Time >= 0 {
		t = types.MinTime // it gets the newest time of its split
	}
	if c != column.Insert && out.Change == nil {
		out.Change = make([]column.Change, out.N)
	}
	if out.Change != nil {
		out.Change = append(out.Change, c)
	}
	out.N++
	out.Time, out.Pos = append(out.Time, t), append(out.Pos, m.Pos)
}

// fromCell reads a value as the server writes it.
func fromCell(b []byte, t types.Type) (types.Value, bool) {
	if t.Kind == types.Boolean && len(b) == 1 && (b[0] == '0' || b[0] == '1') {
		return types.Value{Kind: types.Boolean, I: int64(b[0] - '0')}, true
	}
	if t.Kind == types.Varbinary {
		return types.Value{Kind: types.Varbinary, S: string(b)}, true
	}
	return eval.FromText(string(b), t)
}
