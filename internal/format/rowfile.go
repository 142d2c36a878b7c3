package format

import (
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// RowFile is a file that holds rows by itself: Avro's object container, or Parquet. It tells its columns, and its rows are numbered from 0.
type RowFile interface {
	// Rows is how many rows it has.
	Rows() int64
	// Columns are those that it tells.
	Columns() ([]types.Field, error)
	// Piece gives where a piece ends that begins with a row.
	Piece(from int64) (end int64)
	// NewDecoder makes a decoder of its rows: the positions of the messages are their numbers, one behind the other, and all of one piece. It reads the
	// file, and is used by one goroutine at a time.
	NewDecoder(r *Reading) (flow.Decoder, error)
}

// RowFormats are the formats of files that hold rows by themselves.
var RowFormats = []string{"avro", "parquet"}

// OpenRowFile looks what rows are in a file of so many bytes.
func OpenRowFile(format string, f io.ReaderAt, size int64) (RowFile, error) {
	switch format {
	case "avro":
		return openAvroFile(f, size)
	case "parquet":
		return openParquet(f, size)
	}
	return nil, fmt.Errorf("files of the format %s hold no rows by themselves", format)
}

// rowFiller fills the columns of a range of rows.
type rowFiller interface {
	// fill gives, for rows that are none, why.
	fill(from, to int64) (bad map[int]string, err error)
}

// rowDecoder is the decoder of a RowFile.
type rowDecoder struct {
	stream  *plan.Stream
	targets *targets
	filler  rowFiller
}

func newTargets(r *Reading) *targets {
	t := &targets{r.Stream, r.Used, make([]*column.Vector, len(r.Stream.Columns))}
	for i, c := range r.Stream.Columns {
		if _, ok := r.Used.Needs(i); ok {
			t.cols[i] = column.New(c.Type)
		}
	}
	return t
}

// Decode implements flow.Decoder.
func (d *rowDecoder) Decode(_ []byte, msgs []flow.Message, out *column.Batch) (rejects []flow.Reject) {
	n := len(msgs)
	for _, v := range d.targets.cols {
		if v != nil {
			v.Resize(n)
			v.Clear()
		}
	}
	out.Time, out.Pos, out.Stamp, out.N, out.Cols = out.Time[:0], out.Pos[:0], nil, 0, d.targets.cols
	if n == 0 {
		return nil
	}
	bad, err := d.filler.fill(msgs[0].Pos, msgs[n-1].Pos+1)
	if err != nil {
		for i := range msgs {
			rejects = append(rejects, flow.Reject{Message: i, Reason: err.Error()})
		}
		return rejects
	}
	for i, v := range d.targets.cols {
		c := d.stream.Columns[i]
		if v == nil || v.Nulls == nil || !c.NotNull && i != d.stream.Time {
			continue
		}
		for row := range n {
			if v.Nulls[row] {
				if bad == nil {
					bad = map[int]string{}
				}
				if bad[row] == "" {
					bad[row] = c.Name + " is NULL or missing, but it is NOT NULL or the event time"
				}
			}
		}
	}
	var sel []uint32
	for i, m := range msgs {
		if why := bad[i]; why != "" {
			rejects = append(rejects, flow.Reject{Message: i, Reason: why})
			continue
		}
		if bad != nil {
			sel = append(sel, uint32(i))
		}
		t := m.At
		if d.stream.Time >= 0 {
			t = d.targets.cols[d.stream.Time].I[i]
		}
		out.Time, out.Pos = append(out.Time, t), append(out.Pos, m.Pos)
	}
	out.N = n - len(rejects)
	if len(rejects) > 0 {
		out.Cols = make([]*column.Vector, len(d.targets.cols))
		for i, v := range d.targets.cols {
			if v != nil {
				out.Cols[i] = &column.Vector{}
				v.Gather(sel, out.Cols[i])
			}
		}
	}
	return rejects
}

var errNoRows = errors.New("the file tells no columns")

// columnAt finds a column by a field's name.
func columnAt(columns []types.Field, name string) int {
	i := slices.IndexFunc(columns, func(c types.Field) bool { return c.Name == name })
	if i < 0 {
		i = slices.IndexFunc(columns, func(c types.Field) bool { return strings.EqualFold(c.Name, name) })
	}
	return i
}

// fits32 says whether a number is an INT.
func fits32(x int64) bool { return x >= math.MinInt32 && x <= math.MaxInt32 }
