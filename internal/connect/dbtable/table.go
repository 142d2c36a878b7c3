package dbtable

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
)

// source is a table of a database that is read whole, and again now and then. It is one split.
type source struct {
	db     *sql.DB
	server Server
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

// OpenSource opens a table that is read whole.
func OpenSource(server Server, env *contract.Env, scan *plan.Op) (flow.Source, error) {
	s := scan.Stream
	db, schema, err := server.Connect(s.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	if _, err := CheckSource(context.Background(), server, db, schema, s); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	out := &source{db: db, server: server, scan: scan, every: time.Duration(s.Options.Duration("refresh every", 0)) * time.Microsecond}
	if scan.Until.Kind != plan.Default {
		out.every = 0 // a query that ends takes the table as it is
	}
	out.cols = Wanted(scan)
	out.query = "SELECT " + Columns(server, s, out.cols) + " FROM " + server.Table(s.Address)
	out.cells = make([]sql.RawBytes, max(1, len(out.cols))) // at least the 1 that stands for no column
	return out, nil
}

// Columns lists columns of a stream, as a SELECT does.
func Columns(server Server, s *plan.Stream, cols []int) string {
	var names []string
	for _, c := range cols {
		names = append(names, server.Cell(s.Columns[c]))
	}
	if len(names) == 0 {
		return "1"
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

// RowsAPiece is how many rows a worker turns into columns at a time.
const RowsAPiece = 4096

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
	for rows < RowsAPiece && s.rows.Next() {
		dest := make([]any, len(s.cells))
		for i := range s.cells {
			dest[i] = &s.cells[i]
		}
		if err := s.rows.Scan(dest...); err != nil {
			return s.missed(err)
		}
		data = AppendHead(data, Insert, time.Now().UnixMicro())
		for _, c := range s.cells {
			data = AppendCell(data, c)
		}
		rows++
	}
	s.n += int64(rows)
	p.Next = s.n
	if rows < RowsAPiece {
		err := errors.Join(s.rows.Err(), s.rows.Close())
		s.rows = nil
		if err != nil {
			return s.missed(err)
		}
		s.plan()
		s.failed.Store(nil)
		p.Complete = true
	}
	p.Data = Padded(data)
	return nil
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
func (s *source) Frame(p *flow.Piece) error { return FrameRows(p, len(s.cols)) }

// NewDecoder implements flow.Split.
func (s *source) NewDecoder() (flow.Decoder, error) {
	return NewDecoder(s.scan, s.cols, s.server.Value), nil
}
