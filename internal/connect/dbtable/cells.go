package dbtable

import (
	"encoding/binary"
	"fmt"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// ChangeColumn is the column of a stream of changes that says what each does.
const ChangeColumn = "_change"

// What a row of a piece does.
const (
	Insert byte = iota
	Withdraw
	Replace
)

var opNames = [...]string{"insert", "withdraw", "replace"}

var le = binary.LittleEndian

// A row of a piece is a byte that says what it does, its time of arrival, and its cells: the length of each, all
// ones for NULL, and the cell as the server writes it.
const rowHead = 9

// AppendHead writes the head of a row.
func AppendHead(b []byte, op byte, arrived int64) []byte {
	return le.AppendUint64(append(b, op), uint64(arrived))
}

// AppendCell writes a cell; nil is NULL.
func AppendCell(b []byte, c []byte) []byte {
	if c == nil {
		return le.AppendUint32(b, 0xffffffff)
	}
	return append(le.AppendUint32(b, uint32(len(c))), c...)
}

// Padded gives the data of a piece the room behind it that decoders want.
func Padded(b []byte) []byte { return append(b, make([]byte, flow.Pad)...)[:len(b)] }

// FrameRows finds the rows of a piece.
func FrameRows(p *flow.Piece, cells int) error {
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

// Wanted gives the columns that a scan reads.
func Wanted(scan *plan.Op) (out []int) {
	for i := range scan.Stream.Columns {
		if _, ok := scan.Used.Needs(i); ok {
			out = append(out, i)
		}
	}
	return out
}

// decoder turns the rows of pieces into columns. Those of a table are rows and deletions; those of a stream are
// rows that stay, and a column says what each does.
type decoder struct {
	stream *plan.Stream
	cols   []int
	table  bool
	change int // the column that says what a row does, or -1
	value  func(cell []byte, t types.Type) (types.Value, bool)
	row    []types.Value
}

// NewDecoder makes a decoder of the columns that are read; value reads a cell.
func NewDecoder(scan *plan.Op, cols []int, value func(cell []byte, t types.Type) (types.Value, bool)) flow.Decoder {
	d := &decoder{stream: scan.Stream, cols: cols, value: value, table: scan.OfTable != nil, change: -1}
	if i := slices.IndexFunc(d.stream.Columns, func(f types.Field) bool { return f.Name == ChangeColumn }); i >= 0 && !slices.Contains(cols, i) {
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
		if d.table && op == Withdraw {
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
			if v, ok = d.value(b[:n], f.Type); !ok && reason == "" {
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
