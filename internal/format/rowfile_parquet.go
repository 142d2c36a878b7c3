package format

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/flow"
	"fiume/internal/core/types"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
)

// Files of Parquet are read column by column, those alone that are used, by the library of Arrow; what it gives is copied into columns.

// parquetFile is an open file. A piece lies in one row group.
type parquetFile struct {
	f      io.ReaderAt
	size   int64
	schema *arrow.Schema
	starts []int64 // first row of each row group, and the end
}

// groupPiece is how many rows of a row group are a piece at most. A decoder that comes to a later piece of a group passes over those before, which others
// read: pieces are large for that.
const groupPiece = 1 << 16

// open makes a reader; the columns on the disk in words are given as dictionaries.
func (p *parquetFile) open(words []int) (r *pqarrow.FileReader, err error) {
	defer recovered(&err)
	f, err := parquetReader(p.f, p.size)
	if err != nil {
		return nil, err
	}
	props := pqarrow.ArrowReadProperties{BatchSize: groupPiece}
	for _, i := range words {
		props.SetReadDict(i, true)
	}
	return pqarrow.NewFileReader(f, props, memory.DefaultAllocator)
}

// parquetReader reads the end of a file, and checks that what it names lies in the file: the library goes after it in goroutines of its own, where nobody
// could make an error of what it does then.
func parquetReader(f io.ReaderAt, size int64) (*file.Reader, error) {
	r, err := file.NewParquetReader(io.NewSectionReader(f, 0, size))
	if err != nil {
		return nil, fmt.Errorf("the Parquet file cannot be read: %w", err)
	}
	meta := r.MetaData()
	for g := range meta.NumRowGroups() {
		group := meta.RowGroup(g)
		if group.NumColumns() != meta.Schema.NumColumns() {
			return nil, fmt.Errorf("the Parquet file is damaged: row group %d has %d columns of %d", g, group.NumColumns(), meta.Schema.NumColumns())
		}
		for i := range group.NumColumns() {
			c, err := group.ColumnChunk(i)
			if err != nil {
				return nil, fmt.Errorf("the Parquet file is damaged: column %d of row group %d: %w", i, g, err)
			}
			start, n := c.DataPageOffset(), c.TotalCompressedSize()
			if c.HasDictionaryPage() && c.DictionaryPageOffset() > 0 {
				start = min(start, c.DictionaryPageOffset())
			}
			if start < 0 || n < 0 || start > size || n > size-start {
				return nil, fmt.Errorf("the Parquet file is damaged: column %d of row group %d lies at %d with %d bytes, and the file has %d", i, g, start, n, size)
			}
		}
	}
	return r, nil
}

// isWords says whether a column on the disk is words of a dictionary, in all of its pages.
func isWords(r *pqarrow.FileReader, leaf int) bool {
	meta := r.ParquetReader().MetaData()
	for g := range meta.NumRowGroups() {
		c, err := meta.RowGroup(g).ColumnChunk(leaf)
		if err != nil || !c.HasDictionaryPage() || c.Type() != parquet.Types.ByteArray || len(c.EncodingStats()) == 0 {
			return false
		}
		for _, s := range c.EncodingStats() {
			if strings.HasPrefix(s.PageType.String(), "DATA_PAGE") && s.Encoding != parquet.Encodings.RLEDict && s.Encoding != parquet.Encodings.PlainDict {
				return false
			}
		}
	}
	return true
}

// recovered makes an error of what a damaged file does to its reader.
func recovered(err *error) {
	if x := recover(); x != nil {
		*err = fmt.Errorf("it is damaged: %v", x)
	}
}

func openParquet(f io.ReaderAt, size int64) (*parquetFile, error) {
	p := &parquetFile{f: f, size: size}
	r, err := p.open(nil)
	if err != nil {
		return nil, err
	}
	if p.schema, err = r.Schema(); err != nil {
		return nil, fmt.Errorf("the Parquet file cannot be read: %w", err)
	}
	at := int64(0)
	meta := r.ParquetReader().MetaData()
	for i := range meta.NumRowGroups() {
		n := meta.RowGroup(i).NumRows()
		if n < 0 || at+n < at {
			return nil, errors.New("the Parquet file is damaged: a row group has less than no rows")
		}
		p.starts = append(p.starts, at)
		at += n
	}
	p.starts = append(p.starts, at)
	return p, nil
}

// Rows implements RowFile.
func (p *parquetFile) Rows() int64 { return p.starts[len(p.starts)-1] }

// Columns implements RowFile.
func (p *parquetFile) Columns() (out []types.Field, err error) {
	for _, f := range p.schema.Fields() {
		out = append(out, types.Field{Name: f.Name, Type: arrowColumn(f.Type), NotNull: !f.Nullable})
	}
	if len(out) == 0 {
		return nil, errNoRows
	}
	return out, nil
}

// group finds the row group of a row.
func (p *parquetFile) group(row int64) int {
	i, found := slices.BinarySearch(p.starts, row)
	for found && i+1 < len(p.starts) && p.starts[i+1] == row { // groups without rows
		i++
	}
	if found {
		return i
	}
	return i - 1
}

// Piece implements RowFile.
func (p *parquetFile) Piece(from int64) int64 {
	g := p.group(from)
	return min(p.starts[g+1], from-(from-p.starts[g])%groupPiece+groupPiece)
}

// NewDecoder implements RowFile.
func (p *parquetFile) NewDecoder(r *Reading) (flow.Decoder, error) {
	t := newTargets(r)
	reader, err := p.open(nil)
	if err != nil {
		return nil, err
	}
	var words []int
	f := &parquetFiller{file: p, reader: reader, group: -1}
	for i, c := range r.Stream.Columns {
		v := t.cols[i]
		if v == nil {
			continue
		}
		at := slices.IndexFunc(p.schema.Fields(), func(f arrow.Field) bool { return f.Name == c.Name })
		if at < 0 {
			at = slices.IndexFunc(p.schema.Fields(), func(f arrow.Field) bool { return strings.EqualFold(f.Name, c.Name) })
		}
		if at < 0 {
			f.absent = append(f.absent, v)
			continue
		}
		if from := p.schema.Field(at).Type; !arrowFits(from, v.Type) {
			return nil, fmt.Errorf("the column %s is %s, and the file's is %s", c.Name, v.Type, from)
		}
		leaves := leavesOf(reader.Manifest.Fields[at])
		if v.Type.Kind == types.Varchar && len(leaves) == 1 && isWords(reader, leaves[0]) {
			words = append(words, leaves[0])
		}
		f.leaves = append(f.leaves, leaves...)
		f.from, f.vecs, f.names = append(f.from, at), append(f.vecs, v), append(f.names, c.Name)
	}
	slices.Sort(f.leaves)
	if words != nil {
		if f.reader, err = p.open(words); err != nil {
			return nil, err
		}
	}
	return &rowDecoder{r.Stream, t, f}, nil
}

// leavesOf gives the columns on the disk that a field is made of.
func leavesOf(f pqarrow.SchemaField) (out []int) {
	if f.ColIndex >= 0 {
		out = append(out, f.ColIndex)
	}
	for _, k := range f.Children {
		out = append(out, leavesOf(k)...)
	}
	return out
}

// parquetFiller reads row groups from front to back.
type parquetFiller struct {
	file   *parquetFile
	reader *pqarrow.FileReader
	leaves []int
	from   []int // fields of the file
	vecs   []*column.Vector
	names  []string
	absent []*column.Vector

	group int // the one that is open, or -1
	rows  pqarrow.RecordReader
	rec   arrow.RecordBatch // what was read last, from the row next on
	off   int64             // rows of it that are passed
	next  int64
}

// fill implements rowFiller.
func (f *parquetFiller) fill(from, to int64) (bad map[int]string, err error) {
	defer recovered(&err)
	n := int(to - from)
	for _, v := range f.absent {
		for i := range n {
			unset(v, i, n)
		}
	}
	if len(f.leaves) == 0 {
		return nil, nil
	}
	if g := f.file.group(from); f.group != g || f.next > from {
		f.shut()
		if f.rows, err = f.reader.GetRecordReader(context.Background(), f.leaves, []int{g}); err != nil {
			return nil, fmt.Errorf("row group %d of the Parquet file cannot be read: %w", g, err)
		}
		f.group, f.next = g, f.file.starts[g]
	}
	for done := 0; done < n; {
		if f.rec == nil || f.off == f.rec.NumRows() {
			if !f.rows.Next() {
				err := f.rows.Err()
				if err == nil || errors.Is(err, io.EOF) {
					err = errors.New("it ends before its last row")
				}
				f.shut()
				return nil, fmt.Errorf("the Parquet file cannot be read: %w", err)
			}
			f.rec, f.off = f.rows.RecordBatch(), 0
		}
		if skip := from - f.next; skip > 0 {
			k := min(skip, f.rec.NumRows()-f.off)
			f.off, f.next = f.off+k, f.next+k
			continue
		}
		k := int(min(f.rec.NumRows()-f.off, int64(n-done)))
		for i, at := range f.from {
			col := f.rec.Column(f.column(at))
			fillArrow(f.vecs[i], col, int(f.off), k, done, n, func(row int, why string) {
				if bad == nil {
					bad = map[int]string{}
				}
				bad[row] = f.names[i] + ": " + why
			})
		}
		f.off, f.next, done = f.off+int64(k), f.next+int64(k), done+k
		from += int64(k)
	}
	return bad, nil
}

// column gives where a field of the file stands among those that are read.
func (f *parquetFiller) column(field int) int {
	return f.rec.Schema().FieldIndices(f.file.schema.Field(field).Name)[0]
}

func (f *parquetFiller) shut() {
	if f.rows != nil {
		f.rows.Release()
	}
	f.rows, f.rec, f.group = nil, nil, -1
}

// arrowColumn gives the type of a column for the values of a type of Arrow. What no type holds is JSON.
func arrowColumn(t arrow.DataType) types.Type {
	switch t := t.(type) {
	case *arrow.BooleanType:
		return types.Of(types.Boolean)
	case *arrow.Int8Type, *arrow.Int16Type, *arrow.Int32Type, *arrow.Uint8Type, *arrow.Uint16Type:
		return types.Of(types.Int)
	case *arrow.Int64Type, *arrow.Uint32Type:
		return types.Of(types.BigInt)
	case *arrow.Uint64Type:
		return types.DecimalOf(20, 0)
	case *arrow.Float16Type, *arrow.Float32Type, *arrow.Float64Type:
		return types.Of(types.Double)
	case *arrow.StringType, *arrow.LargeStringType:
		return types.Of(types.Varchar)
	case *arrow.BinaryType, *arrow.LargeBinaryType, *arrow.FixedSizeBinaryType:
		return types.Of(types.Varbinary)
	case *arrow.Date32Type, *arrow.Date64Type:
		return types.Of(types.Date)
	case *arrow.Time32Type, *arrow.Time64Type:
		return types.Of(types.Time)
	case *arrow.TimestampType:
		return types.Of(types.Timestamp)
	case *arrow.Decimal128Type:
		if t.Scale >= 0 {
			return types.DecimalOf(int(t.Precision), int(t.Scale))
		}
	case *arrow.DictionaryType:
		return arrowColumn(t.ValueType)
	case *arrow.ListType:
		return types.ArrayOf(arrowColumn(t.Elem()))
	case *arrow.LargeListType:
		return types.ArrayOf(arrowColumn(t.Elem()))
	case *arrow.FixedSizeListType:
		return types.ArrayOf(arrowColumn(t.Elem()))
	case *arrow.MapType:
		return types.MapOf(arrowColumn(t.KeyType()), arrowColumn(t.ItemType()))
	case *arrow.StructType:
		out := types.Type{Kind: types.Row}
		for _, f := range t.Fields() {
			out.Fields = append(out.Fields, types.Field{Name: f.Name, Type: arrowColumn(f.Type)})
		}
		if len(out.Fields) > 0 {
			return out
		}
	}
	return types.Of(types.JSON)
}

// arrowFits says whether values of a type of Arrow can be those of a column.
func arrowFits(from arrow.DataType, to types.Type) bool {
	is := arrowColumn(from)
	switch {
	case to.Kind == types.JSON:
		return true
	case is.Kind == types.Varchar:
		return !to.IsNested() && to.Kind != types.Varbinary
	case is.IsNumber() && is.Kind != types.Double:
		return to.IsNumber()
	case is.Kind == types.Array && to.Kind == types.Array, is.Kind == types.Map && to.Kind == types.Map:
		for i := range is.Fields {
			if !fitsType(is.Fields[i].Type, to.Fields[i].Type) {
				return false
			}
		}
		return true
	case is.Kind == types.Row && to.Kind == types.Row:
		for _, f := range to.Fields {
			if i := columnAt(is.Fields, f.Name); i >= 0 && !fitsType(is.Fields[i].Type, f.Type) {
				return false
			}
		}
		return true
	}
	return is.Kind == to.Kind
}

// fitsType says whether values in values fit.
func fitsType(is, to types.Type) bool {
	return is.Kind == to.Kind && (!is.IsNested() || len(is.Fields) == len(to.Fields) || is.Kind == types.Row) || to.Kind == types.JSON ||
		is.Kind == types.Varchar && !to.IsNested() && to.Kind != types.Varbinary || is.IsNumber() && is.Kind != types.Double && to.IsNumber()
}

// fillArrow sets k values of a vector, of n, from row on, to those of an array from off on.
func fillArrow(v *column.Vector, a arrow.Array, off, k, row, n int, bad func(row int, why string)) {
	if a.NullN() > 0 {
		for i := range k {
			if a.IsNull(off + i) {
				unset(v, row+i, n)
			}
		}
	}
	kind := v.Type.Kind
	switch x := a.(type) {
	case *array.Float64:
		if kind == types.Double {
			copy(v.F[row:row+k], x.Float64Values()[off:off+k])
			return
		}
	case *array.Int64:
		if kind == types.BigInt {
			copy(v.I[row:row+k], x.Int64Values()[off:off+k])
			return
		}
	case *array.Int32:
		if kind == types.Int || kind == types.BigInt {
			for i, y := range x.Int32Values()[off : off+k] {
				v.I[row+i] = int64(y)
			}
			return
		}
	case *array.Timestamp:
		if unit := x.DataType().(*arrow.TimestampType).Unit; kind == types.Timestamp && unit != arrow.Second {
			for i, y := range x.TimestampValues()[off : off+k] {
				at := int64(y)
				switch unit {
				case arrow.Millisecond:
					if at > math.MaxInt64/1000 || at < math.MinInt64/1000 {
						at = math.MaxInt64
					} else {
						at *= 1000
					}
				case arrow.Nanosecond:
					at = floorDiv(at, 1000)
				}
				if v.I[row+i] = at; (at < types.FirstTimestamp || at > types.LastTimestamp) && !v.Null(row+i) {
					bad(row+i, fmt.Sprintf("%d is no TIMESTAMP", int64(y)))
				}
			}
			return
		}
	case *array.Dictionary:
		if words, ok := x.Dictionary().(*array.String); ok && kind == types.Varchar && words.NullN() == 0 {
			fillWords(v, x, words, off, k, row, bad)
			return
		}
	case *array.String:
		if kind == types.Varchar {
			fillText(v, x.ValueBytes(), x.ValueOffsets(), off, k, row, bad)
			return
		}
	}
	for i := range k {
		if v.Null(row + i) {
			continue
		}
		y, why := arrowValue(a, off+i, v.Type, 0)
		if why != "" {
			bad(row+i, why)
			unset(v, row+i, n)
			continue
		}
		v.Set(row+i, n, y)
	}
}

// fillText copies texts that lie one behind the other in one piece.
func fillText(v *column.Vector, b []byte, offsets []int32, off, k, row int, bad func(row int, why string)) {
	base := offsets[0] // of the bytes that are given
	from, to := offsets[off]-base, offsets[off+k]-base
	at := uint32(len(v.Data))
	text := b[from:to]
	v.Data = append(v.Data, text...)
	valid := utf8.Valid(text) // where not all are, each is looked at
	for i := range k {
		l := offsets[off+i] - base - from
		s := column.Str{Off: at + uint32(l), Len: uint32(offsets[off+i+1] - offsets[off+i])}
		v.S[row+i] = s
		if !valid && !utf8.Valid(v.Data[s.Off:s.Off+s.Len]) {
			bad(row+i, "the text is no valid UTF-8")
		}
	}
}

// fillWords copies a dictionary, and makes the texts those of its words.
func fillWords(v *column.Vector, a *array.Dictionary, words *array.String, off, k, row int, bad func(row int, why string)) {
	list := make([]column.Str, words.Len())
	valid := make([]bool, len(list))
	for i := range list {
		s := words.Value(i)
		list[i] = column.Str{Off: uint32(len(v.Data)), Len: uint32(len(s))}
		valid[i] = utf8.ValidString(s)
		v.Data = append(v.Data, s...)
	}
	for i := range k {
		if v.Null(row + i) {
			continue
		}
		w := a.GetValueIndex(off + i)
		v.S[row+i] = list[w]
		if !valid[w] {
			bad(row+i, "the text is no valid UTF-8")
		}
	}
}

// arrowValue takes one value out.
func arrowValue(a arrow.Array, i int, t types.Type, depth int) (v types.Value, why string) {
	if depth > mostDepth {
		return v, "values in values are too deep"
	}
	if a.IsNull(i) {
		return v, ""
	}
	if d, ok := a.(*array.Dictionary); ok {
		return arrowValue(d.Dictionary(), d.GetValueIndex(i), t, depth+1)
	}
	if t.Kind == types.JSON {
		if s, ok := a.(array.StringLike); ok {
			v, ok := eval.FromText(s.Value(i), t)
			if !ok {
				return v, fmt.Sprintf("%q is no JSON", clip([]byte(s.Value(i))))
			}
			return v, ""
		}
		is := arrowColumn(a.DataType())
		if is.Kind == types.JSON {
			return types.Value{Kind: types.JSON, S: string(types.AppendJSONString(nil, []byte(a.ValueStr(i))))}, ""
		}
		x, why := arrowValue(a, i, is, depth+1)
		return types.Value{Kind: types.JSON, S: string(types.AppendJSON(nil, x, is))}, why
	}
	v.Kind = t.Kind
	no := func(x any) (types.Value, string) { return types.Value{}, fmt.Sprintf("%v is no %s", x, t) }
	whole := func(x int64) (types.Value, string) {
		switch t.Kind {
		case types.Double:
			v.F = float64(x)
		case types.Decimal:
			d, ok := types.Rescale(types.NumOfInt(x), 0, int(t.Scale), int(t.Precision))
			if !ok {
				return no(x)
			}
			return types.DecimalValue(d, t.Scale), ""
		default:
			if t.Kind == types.Int && !fits32(x) {
				return no(x)
			}
			v.I = x
		}
		return v, ""
	}
	instant := func(x int64, unit arrow.TimeUnit) (types.Value, string) {
		switch unit {
		case arrow.Second, arrow.Millisecond:
			by := int64(1000)
			if unit == arrow.Second {
				by = 1_000_000
			}
			if x > math.MaxInt64/by || x < math.MinInt64/by {
				return no(x)
			}
			x *= by
		case arrow.Nanosecond:
			x = floorDiv(x, 1000)
		}
		if t.Kind == types.Timestamp && (x < types.FirstTimestamp || x > types.LastTimestamp) || t.Kind == types.Time && (x < 0 || x >= dayMicros) {
			return no(x)
		}
		v.I = x
		return v, ""
	}
	switch x := a.(type) {
	case *array.Boolean:
		if x.Value(i) {
			v.I = 1
		}
		return v, ""
	case *array.Int8:
		return whole(int64(x.Value(i)))
	case *array.Int16:
		return whole(int64(x.Value(i)))
	case *array.Int32:
		return whole(int64(x.Value(i)))
	case *array.Int64:
		return whole(x.Value(i))
	case *array.Uint8:
		return whole(int64(x.Value(i)))
	case *array.Uint16:
		return whole(int64(x.Value(i)))
	case *array.Uint32:
		return whole(int64(x.Value(i)))
	case *array.Uint64:
		if u := x.Value(i); u <= math.MaxInt64 {
			return whole(int64(u))
		}
		if d, ok := types.Rescale(types.NumOfWords(0, x.Value(i)), 0, int(t.Scale), int(t.Precision)); ok && t.Kind == types.Decimal {
			return types.DecimalValue(d, t.Scale), ""
		}
		return no(x.Value(i))
	case *array.Float16:
		v.F = float64(x.Value(i).Float32())
		return v, ""
	case *array.Float32:
		v.F = float64(x.Value(i))
		return v, ""
	case *array.Float64:
		v.F = x.Value(i)
		return v, ""
	case array.StringLike:
		s := x.Value(i)
		if !utf8.ValidString(s) {
			return v, "the text is no valid UTF-8"
		}
		if t.Kind == types.Varchar {
			v.S = strings.Clone(s)
			return v, ""
		}
		y, ok := eval.FromText(s, t)
		if !ok {
			return no(fmt.Sprintf("%q", clip([]byte(s))))
		}
		return y, ""
	case *array.Binary:
		v.S = string(x.Value(i))
		return v, ""
	case *array.LargeBinary:
		v.S = string(x.Value(i))
		return v, ""
	case *array.FixedSizeBinary:
		v.S = string(x.Value(i))
		return v, ""
	case *array.Date32:
		if v.I = int64(x.Value(i)); v.I < types.FirstTimestamp/dayMicros || v.I > types.LastTimestamp/dayMicros {
			return no(v.I)
		}
		return v, ""
	case *array.Date64:
		v.I = floorDiv(int64(x.Value(i)), 86_400_000)
		return v, ""
	case *array.Time32:
		return instant(int64(x.Value(i)), x.DataType().(*arrow.Time32Type).Unit)
	case *array.Time64:
		return instant(int64(x.Value(i)), x.DataType().(*arrow.Time64Type).Unit)
	case *array.Timestamp:
		return instant(int64(x.Value(i)), x.DataType().(*arrow.TimestampType).Unit)
	case *array.Decimal128:
		scale := int(x.DataType().(*arrow.Decimal128Type).Scale)
		d, ok := decimal128.Num{}, scale >= 0
		if ok {
			to, digits := int(t.Scale), int(t.Precision)
			if t.Kind != types.Decimal {
				to, digits = 0, types.MaxPrecision
			}
			if t.Kind == types.Double {
				v.F = types.DecimalToDouble(x.Value(i), scale)
				return v, ""
			}
			d, ok = types.Rescale(x.Value(i), scale, to, digits)
		}
		if !ok {
			return no(x.ValueStr(i))
		}
		if t.Kind == types.Decimal {
			return types.DecimalValue(d, t.Scale), ""
		}
		if low := int64(d.LowBits()); d.HighBits() == low>>63 {
			return whole(low)
		}
		return no(x.ValueStr(i))
	case *array.Map:
		from, to := x.ValueOffsets(i)
		for k := int(from); k < int(to); k++ {
			key, why := arrowValue(x.Keys(), k, t.Fields[0].Type, depth+1)
			if why == "" && key.IsNull() {
				why = "a key is NULL"
			}
			var val types.Value
			if why == "" {
				val, why = arrowValue(x.Items(), k, t.Elem(), depth+1)
			}
			if why != "" {
				return types.Value{}, why
			}
			v.Row = append(v.Row, key, val)
		}
		return v, ""
	case array.ListLike:
		from, to := x.ValueOffsets(i)
		for k := int(from); k < int(to); k++ {
			val, why := arrowValue(x.ListValues(), k, t.Elem(), depth+1)
			if why != "" {
				return types.Value{}, why
			}
			v.Row = append(v.Row, val)
		}
		return v, ""
	case *array.Struct:
		st := x.DataType().(*arrow.StructType)
		for _, f := range t.Fields {
			k := slices.IndexFunc(st.Fields(), func(y arrow.Field) bool { return strings.EqualFold(y.Name, f.Name) })
			var val types.Value
			if k >= 0 {
				var why string
				if val, why = arrowValue(x.Field(k), i, f.Type, depth+1); why != "" {
					return types.Value{}, f.Name + ": " + why
				}
			}
			v.Row = append(v.Row, val)
		}
		return v, ""
	}
	return types.Value{}, fmt.Sprintf("values of %s cannot be read", a.DataType())
}
