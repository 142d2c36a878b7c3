package format

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/compress"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
)

// ParquetWriter writes rows as a file of Parquet.
type ParquetWriter struct {
	w      *pqarrow.FileWriter
	schema *arrow.Schema
	fields []types.Field
}

// parquetGroup is how many rows a row group has.
const parquetGroup = 1 << 17

// NewParquetWriter begins a file with these columns; codec is none, gzip or zstd.
func NewParquetWriter(to io.Writer, fields []types.Field, codec string) (*ParquetWriter, error) {
	p := &ParquetWriter{schema: ArrowSchema(fields), fields: fields}
	by := map[string]compress.Compression{"none": compress.Codecs.Uncompressed, "gzip": compress.Codecs.Gzip, "zstd": compress.Codecs.Zstd}[codec]
	var err error
	p.w, err = pqarrow.NewFileWriter(p.schema, to, ParquetProperties(p.schema, by), pqarrow.DefaultWriterProps())
	return p, err
}

// ParquetProperties says how the columns of a schema are written. Whole numbers and times are written as what they differ by (DELTA_BINARY_PACKED): there are
// many of them, not far from one another, for which a dictionary is large and slow to make; the rest has dictionaries.
func ParquetProperties(s *arrow.Schema, codec compress.Compression) *parquet.WriterProperties {
	props := []parquet.WriterProperty{parquet.WithCompression(codec), parquet.WithMaxRowGroupLength(parquetGroup), parquet.WithCreatedBy("fiume")}
	for _, f := range s.Fields() {
		switch f.Type.ID() {
		case arrow.INT32, arrow.INT64, arrow.DATE32, arrow.TIME64, arrow.TIMESTAMP:
			props = append(props, parquet.WithDictionaryFor(f.Name, false), parquet.WithEncodingFor(f.Name, parquet.Encodings.DeltaBinaryPacked))
		}
	}
	return parquet.NewWriterProperties(props...)
}

// Write adds rows.
func (p *ParquetWriter) Write(b *column.Batch) error {
	if b.N == 0 {
		return nil
	}
	build := array.NewRecordBuilder(memory.DefaultAllocator, p.schema)
	defer build.Release()
	AppendArrow(build, b)
	rec := build.NewRecordBatch()
	defer rec.Release()
	return p.w.WriteBuffered(rec)
}

// WriteArrow adds rows of Arrow with the columns' schema.
func (p *ParquetWriter) WriteArrow(rec arrow.RecordBatch) error { return p.w.WriteBuffered(rec) }

// Close writes the end of the file.
func (p *ParquetWriter) Close() error { return p.w.Close() }

// ParquetOf makes a file of rows that are JSON objects with these columns.
func ParquetOf(fields []types.Field, rows []json.RawMessage) ([]byte, error) {
	st := &plan.Stream{Name: "rows", Time: -1, Columns: withoutNotNull(fields)}
	dec, err := (&Reading{Stream: st, Used: &plan.Use{All: true}}).NewDecoder(nil)
	if err != nil {
		return nil, err
	}
	var data []byte
	var ms []flow.Message
	for i, r := range rows {
		ms = append(ms, flow.Message{Off: uint32(len(data)), Len: uint32(len(r)), Pos: int64(i)})
		data = append(data, r...)
	}
	var b column.Batch
	if bad := dec.Decode(slices.Grow(data, flow.Pad), ms, &b); len(bad) > 0 {
		return nil, fmt.Errorf("row %d cannot be written as Parquet: %s", bad[0].Message+1, bad[0].Reason)
	}
	var out bytes.Buffer
	w, err := NewParquetWriter(&out, st.Columns, "zstd")
	if err == nil {
		err = w.Write(&b)
	}
	if err == nil {
		err = w.Close()
	}
	return out.Bytes(), err
}

// arrowOf is how a column is written. Types that Parquet has no word for become text.
func arrowOf(t types.Type) arrow.DataType {
	switch t.Kind {
	case types.Boolean:
		return arrow.FixedWidthTypes.Boolean
	case types.Int:
		return arrow.PrimitiveTypes.Int32
	case types.BigInt:
		return arrow.PrimitiveTypes.Int64
	case types.Double:
		return arrow.PrimitiveTypes.Float64
	case types.Decimal:
		return &arrow.Decimal128Type{Precision: int32(t.Precision), Scale: int32(t.Scale)}
	case types.Date:
		return arrow.FixedWidthTypes.Date32
	case types.Time:
		return arrow.FixedWidthTypes.Time64us
	case types.Timestamp:
		return &arrow.TimestampType{Unit: arrow.Microsecond, TimeZone: "UTC"}
	case types.Varbinary:
		return arrow.BinaryTypes.Binary
	case types.Row:
		var fields []arrow.Field
		for _, f := range t.Fields {
			fields = append(fields, arrow.Field{Name: f.Name, Type: arrowOf(f.Type), Nullable: true})
		}
		return arrow.StructOf(fields...)
	case types.Array:
		return arrow.ListOf(arrowOf(t.Elem()))
	case types.Map:
		return arrow.MapOf(arrowOf(t.Fields[0].Type), arrowOf(t.Elem()))
	}
	return arrow.BinaryTypes.String
}

// appendArrow adds values of a vector to what a column is built of.
func appendArrow(to array.Builder, v *column.Vector, from, end int) {
	to.Reserve(end - from)
	for i := from; i < end; i++ {
		if v.Null(i) {
			to.AppendNull()
			continue
		}
		switch b := to.(type) {
		case *array.BooleanBuilder:
			b.Append(v.B[i])
		case *array.Int32Builder:
			b.Append(int32(v.I[i]))
		case *array.Int64Builder:
			b.Append(v.I[i])
		case *array.Float64Builder:
			b.Append(v.F[i])
		case *array.Decimal128Builder:
			b.Append(v.D[i])
		case *array.Date32Builder:
			b.Append(arrow.Date32(v.I[i]))
		case *array.Time64Builder:
			b.Append(arrow.Time64(v.I[i]))
		case *array.TimestampBuilder:
			b.Append(arrow.Timestamp(v.I[i]))
		case *array.BinaryBuilder:
			b.Append(v.Text(i))
		case *array.StructBuilder:
			b.Append(true)
			for k, kid := range v.Kids {
				appendArrow(b.FieldBuilder(k), kid, i, i+1)
			}
		case *array.MapBuilder: // before lists, which it is too
			b.Append(true)
			at := v.S[i]
			appendArrow(b.KeyBuilder(), v.Kids[0], int(at.Off), int(at.Off+at.Len))
			appendArrow(b.ItemBuilder(), v.Kids[1], int(at.Off), int(at.Off+at.Len))
		case *array.ListBuilder:
			b.Append(true)
			at := v.S[i]
			appendArrow(b.ValueBuilder(), v.Kids[0], int(at.Off), int(at.Off+at.Len))
		case *array.StringBuilder:
			if v.Type.IsText() {
				b.Append(string(v.Text(i)))
			} else {
				b.Append(string(types.AppendText(nil, v.Value(i))))
			}
		}
	}
}
