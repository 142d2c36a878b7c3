package files

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"fiume/internal/connect/store"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// Files that hold rows by themselves (Avro, Parquet) have no bytes to hand out: a piece says which rows of which edition of the file it is, and decoders read
// the file. A table's file that was written anew is another edition; the one before stays open for the pieces that are still being decoded.

// editions are the open editions of a file.
type editions struct {
	mu   sync.Mutex
	last uint64
	open map[uint64]edition
}

type edition struct {
	file store.Object
	rows format.RowFile
}

// behind is how many editions before the last one are kept open.
const behind = 2

// add opens a file as the next edition.
func (e *editions) add(file store.Object, kind string) (format.RowFile, error) {
	rows, err := format.OpenRowFile(kind, file, file.File().Size)
	if err != nil {
		return nil, err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.open == nil {
		e.open = map[uint64]edition{}
	}
	e.last++
	e.open[e.last] = edition{file, rows}
	old := e.open[e.last-behind-1]
	delete(e.open, e.last-behind-1)
	if old.file != nil {
		err = old.file.Close()
	}
	return rows, err
}

// of gives an edition.
func (e *editions) of(n uint64) (format.RowFile, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	x, ok := e.open[n]
	return x.rows, ok
}

// newest is the number of the last edition.
func (e *editions) newest() uint64 {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.last
}

// shut closes all editions.
func (e *editions) shut() error {
	e.mu.Lock()
	defer e.mu.Unlock()
	var errs []error
	for _, x := range e.open {
		errs = append(errs, x.file.Close())
	}
	e.open = nil
	return errors.Join(errs...)
}

// readRows hands out the next rows of the file.
func (s *split) readRows(p *flow.Piece) error {
	if s.pos >= s.rows.Rows() {
		return io.EOF
	}
	end := s.rows.Piece(s.pos)
	p.Data = binary.LittleEndian.AppendUint64(p.Data[:0], s.editions.newest())
	p.Base, p.Next = s.pos, end
	s.pos = end
	return nil
}

// frameRows lists the rows of a piece.
func (s *split) frameRows(p *flow.Piece) {
	p.Messages = p.Messages[:0]
	for row := p.Base; row < p.Next; row++ {
		p.Messages = append(p.Messages, flow.Message{Pos: row, At: s.at})
	}
}

// told looks which declared columns the file tells.
func (s *split) told() error {
	columns, err := s.rows.Columns()
	if err != nil {
		return err
	}
	var missing []string
	for _, c := range s.stream.Columns {
		if !slices.ContainsFunc(columns, func(f types.Field) bool { return strings.EqualFold(f.Name, c.Name) }) {
			missing = append(missing, c.Name)
		}
	}
	var names []string
	for _, c := range columns {
		names = append(names, c.Name)
	}
	switch found := clip(strings.Join(names, ", ")); {
	case len(missing) == len(s.stream.Columns):
		return fmt.Errorf("the file has none of the columns of %s: it has %s", s.stream.Name, found)
	case len(missing) > 0:
		s.notice = fmt.Sprintf("the file (%s) does not have %s, NULL in every row", found, strings.Join(missing, ", "))
	}
	// That the types fit is seen with the first decoder.
	_, err = s.rows.NewDecoder(s.reading())
	return err
}

func (s *split) reading() *format.Reading {
	return &format.Reading{Stream: s.stream, Used: s.used}
}

// rowsDecoder decodes pieces of all editions.
type rowsDecoder struct {
	s  *split
	by map[uint64]flow.Decoder
}

// Decode implements flow.Decoder.
func (d *rowsDecoder) Decode(data []byte, msgs []flow.Message, out *column.Batch) []flow.Reject {
	n := d.s.editions.newest() // for a piece without rows
	if len(data) > 0 {
		n = binary.LittleEndian.Uint64(data)
	}
	dec := d.by[n]
	if dec == nil {
		rows, ok := d.s.editions.of(n)
		err := errors.New("the file was written anew twice while it was read")
		if ok {
			dec, err = rows.NewDecoder(d.s.reading())
		}
		if err != nil {
			out.N, out.Cols, out.Time, out.Pos, out.Stamp = 0, make([]*column.Vector, len(d.s.stream.Columns)), out.Time[:0], out.Pos[:0], nil
			var all []flow.Reject
			for i := range msgs {
				all = append(all, flow.Reject{Message: i, Reason: err.Error()})
			}
			return all
		}
		clear(d.by)
		d.by[n] = dec
	}
	return dec.Decode(nil, msgs, out)
}

// Sampled gives the columns of a file that holds rows by itself, and its first rows as JSON.
func Sampled(kind string, f io.ReaderAt, size int64, limit, most int) (columns []types.Field, values [][]byte, err error) {
	rows, err := format.OpenRowFile(kind, f, size)
	if err != nil {
		return nil, nil, err
	}
	if columns, err = rows.Columns(); err != nil {
		return nil, nil, err
	}
	if rows.Rows() == 0 {
		return nil, nil, errors.New("there are no rows in it")
	}
	loose := slices.Clone(columns)
	for i := range loose {
		loose[i].NotNull = false
	}
	dec, err := rows.NewDecoder(&format.Reading{Stream: &plan.Stream{Name: "file", Time: -1, Columns: loose}, Used: &plan.Use{All: true}})
	if err != nil {
		return nil, nil, err
	}
	enc := format.NewJSONEncoder(columns)
	for at := int64(0); at < rows.Rows() && len(values) < limit; {
		var ms []flow.Message
		for end := rows.Piece(at); at < end; at++ {
			ms = append(ms, flow.Message{Pos: at})
		}
		var b column.Batch
		if bad := dec.Decode(nil, ms, &b); len(bad) > 0 {
			return nil, nil, fmt.Errorf("row %d: %s", ms[bad[0].Message].Pos+1, bad[0].Reason)
		}
		for i := 0; i < b.N && len(values) < limit && most > 0; i++ {
			v := enc.Append(nil, &b, i)
			most -= len(v)
			values = append(values, v)
		}
		if most <= 0 {
			break
		}
	}
	return columns, values, nil
}
