package format

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/types"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/ipc"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// Rows of Arrow, as libraries of open formats hand them over.

// ArrowSchema gives the types of Arrow that columns are written as.
func ArrowSchema(fields []types.Field) *arrow.Schema {
	var list []arrow.Field
	for _, f := range fields {
		list = append(list, arrow.Field{Name: f.Name, Type: arrowOf(f.Type), Nullable: true})
	}
	return arrow.NewSchema(list, nil)
}

// AppendArrow adds the rows of a batch to a builder with a field for each of its columns, and maybe others behind them.
func AppendArrow(to *array.RecordBuilder, b *column.Batch) {
	for c, v := range b.Cols {
		if v == nil {
			to.Field(c).AppendNulls(b.N)
			continue
		}
		appendArrow(to.Field(c), v, 0, b.N)
	}
}

// ArrowBlocks is a flow.Encoder that makes a stream of Arrow of the rows of each payload, with its schema, so that each can be read by itself.
type ArrowBlocks struct {
	Build *array.RecordBuilder // has a field for each column, and maybe others behind them, which whoever adds rows fills
	rows  int
	bytes int
}

// NewArrowBlocks makes an encoder.
func NewArrowBlocks(s *arrow.Schema) *ArrowBlocks {
	return &ArrowBlocks{Build: array.NewRecordBuilder(memory.DefaultAllocator, s)}
}

// Add implements flow.Encoder.
func (a *ArrowBlocks) Add(b *column.Batch) {
	AppendArrow(a.Build, b)
	a.rows += b.N
	for _, v := range b.Cols {
		switch {
		case v == nil:
		case v.Type.IsText() || v.Type.IsNested():
			a.bytes += 32 * b.N
		default:
			a.bytes += 8 * b.N
		}
	}
}

// Held is about how many bytes wait to be taken.
func (a *ArrowBlocks) Held() int { return a.bytes }

// Take implements flow.Encoder.
func (a *ArrowBlocks) Take() flow.Payload {
	p := flow.Payload{Rows: a.rows}
	if a.rows > 0 {
		rec := a.Build.NewRecordBatch()
		defer rec.Release()
		var out bytes.Buffer
		w := ipc.NewWriter(&out, ipc.WithSchema(a.Build.Schema()))
		if err := errors.Join(w.Write(rec), w.Close()); err != nil {
			panic(err) // memory does not fail, and the schema is that of the builder
		}
		p.Bytes = out.Bytes()
	}
	a.rows, a.bytes = 0, 0
	return p
}

// ReadArrow hands out the batches of a stream of Arrow.
func ReadArrow(b io.Reader, each func(arrow.RecordBatch) error) (err error) {
	defer recovered(&err)
	r, err := ipc.NewReader(b)
	if err != nil {
		return err
	}
	defer r.Release()
	for r.Next() {
		if err := each(r.RecordBatch()); err != nil {
			return err
		}
	}
	return r.Err()
}

// ArrowColumns gives the columns for the fields of a schema of Arrow. What no type holds is JSON.
func ArrowColumns(s *arrow.Schema) (out []types.Field) {
	for _, f := range s.Fields() {
		out = append(out, types.Field{Name: f.Name, Type: arrowColumn(f.Type), NotNull: !f.Nullable})
	}
	return out
}

// ArrowDecoder turns rows of Arrow into columns. It is used by one goroutine at a time.
type ArrowDecoder struct {
	rows   rowDecoder
	filler arrowFiller
	schema *arrow.Schema
	target *targets
	read   *Reading
}

// NewArrowDecoder makes a decoder.
func NewArrowDecoder(r *Reading) *ArrowDecoder {
	d := &ArrowDecoder{target: newTargets(r), read: r}
	d.rows = rowDecoder{r.Stream, d.target, &d.filler}
	return d
}

// FitsArrow says which columns a schema of Arrow does not have, and what else does not fit.
func FitsArrow(columns []types.Field, s *arrow.Schema) (missing []string, err error) {
	for _, c := range columns {
		at := FieldOf(s, c.Name)
		if at < 0 {
			missing = append(missing, c.Name)
			continue
		}
		if from := s.Field(at).Type; !arrowFits(from, c.Type) {
			return nil, fmt.Errorf("the column %s is %s, and there it is %s", c.Name, c.Type, arrowColumn(from))
		}
	}
	return missing, nil
}

// FieldOf finds a column: the one with its name, or else one with other letters; -1: there is none.
func FieldOf(s *arrow.Schema, name string) int {
	at := slices.IndexFunc(s.Fields(), func(f arrow.Field) bool { return f.Name == name })
	if at < 0 {
		at = slices.IndexFunc(s.Fields(), func(f arrow.Field) bool { return strings.EqualFold(f.Name, name) })
	}
	return at
}

// Decode gives the rows of rec from one on, as a flow.Decoder gives those of messages; one message stands for each. What it gives is good until the next call.
func (d *ArrowDecoder) Decode(rec arrow.RecordBatch, from int, msgs []flow.Message, out *column.Batch) []flow.Reject {
	if d.schema == nil || !d.schema.Equal(rec.Schema()) {
		d.schema = rec.Schema()
		d.filler.from, d.filler.vecs, d.filler.names = nil, nil, nil
		for i, c := range d.read.Stream.Columns {
			if v := d.target.cols[i]; v != nil {
				at := FieldOf(d.schema, c.Name)
				if at >= 0 && !arrowFits(d.schema.Field(at).Type, v.Type) {
					at = -1
				}
				d.filler.from, d.filler.vecs, d.filler.names = append(d.filler.from, at), append(d.filler.vecs, v), append(d.filler.names, c.Name)
			}
		}
	}
	d.filler.rec, d.filler.off = rec, from
	return d.rows.Decode(nil, msgs, out)
}

// arrowFiller fills columns from rows of Arrow.
type arrowFiller struct {
	rec   arrow.RecordBatch
	off   int
	from  []int // fields; -1: there is none
	vecs  []*column.Vector
	names []string
}

// fill implements rowFiller.
func (f *arrowFiller) fill(from, to int64) (bad map[int]string, err error) {
	defer recovered(&err)
	n := int(to - from)
	for i, at := range f.from {
		if at < 0 {
			for row := range n {
				unset(f.vecs[i], row, n)
			}
			continue
		}
		fillArrow(f.vecs[i], f.rec.Column(at), f.off, n, 0, n, func(row int, why string) {
			if bad == nil {
				bad = map[int]string{}
			}
			bad[row] = f.names[i] + ": " + why
		})
	}
	return bad, nil
}
