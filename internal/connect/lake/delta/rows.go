package delta

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"fiume/internal/format"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/compress"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
)

// PathOf gives the name of a file of the table.
func (t *Table) PathOf(a *Add) (string, error) {
	u, err := url.Parse(a.Path)
	if err != nil {
		return "", fmt.Errorf("the log of the table at %s names the file %q, which is no URI", t.Location, a.Path)
	}
	switch {
	case u.Scheme == "file":
		return u.Path, nil
	case u.Scheme != "":
		return u.Scheme + "://" + u.Host + u.Path, nil
	case path.IsAbs(u.Path):
		return u.Path, nil
	}
	return t.Location + "/" + u.Path, nil
}

// EachRow hands out the rows of a file, with those of some columns; nil stands for all. Columns of partitions come from the log. A batch is good until the next one.
func (t *Table) EachRow(a *Add, in io.ReaderAt, size int64, columns []string, batch int64, each func(arrow.RecordBatch) error) error {
	cols, err := t.Columns()
	if err != nil {
		return err
	}
	var cut []arrow.Field
	for _, f := range cols.Fields() {
		if slices.Contains(t.Metadata.PartitionBy, f.Name) && (columns == nil || slices.Contains(columns, f.Name)) {
			cut = append(cut, f)
		}
	}
	return format.EachParquet(in, size, columns, batch, func(rec arrow.RecordBatch) error {
		fields, values := slices.Clone(rec.Schema().Fields()), slices.Clone(rec.Columns())
		for _, f := range cut {
			v, err := constant(f.Type, a.PartitionValues[f.Name], int(rec.NumRows()))
			if err != nil {
				return fmt.Errorf("the partition %s of the file %s: %w", f.Name, a.Path, err)
			}
			if at := slices.IndexFunc(fields, func(x arrow.Field) bool { return x.Name == f.Name }); at >= 0 {
				fields[at], values[at] = f, v
				continue
			}
			fields, values = append(fields, f), append(values, v)
		}
		return each(array.NewRecordBatch(arrow.NewSchema(fields, nil), values, rec.NumRows()))
	})
}

// constant gives a column of a value of a partition. The empty text is NULL, as the format says.
func constant(t arrow.DataType, text *string, n int) (arrow.Array, error) {
	b := array.NewBuilder(memory.DefaultAllocator, t)
	defer b.Release()
	b.Reserve(n)
	if text == nil || *text == "" {
		b.AppendNulls(n)
		return b.NewArray(), nil
	}
	s := *text
	if _, ok := t.(*arrow.TimestampType); ok {
		at, err := parseTime(s)
		if err != nil {
			return nil, err
		}
		for range n {
			b.(*array.TimestampBuilder).Append(arrow.Timestamp(at))
		}
		return b.NewArray(), nil
	}
	if _, ok := t.(*arrow.BinaryType); ok {
		for range n {
			b.(*array.BinaryBuilder).Append([]byte(s))
		}
		return b.NewArray(), nil
	}
	for range n {
		if err := b.AppendValueFromString(s); err != nil {
			return nil, fmt.Errorf("%q is no %s", s, t)
		}
	}
	return b.NewArray(), nil
}

// parseTime reads the time of a partition, in microseconds.
func parseTime(s string) (int64, error) {
	for _, layout := range []string{"2006-01-02 15:04:05.999999", time.RFC3339Nano} {
		if at, err := time.Parse(layout, s); err == nil {
			return at.UnixMicro(), nil
		}
	}
	return 0, fmt.Errorf("%q is no time", s)
}

// partitionText says a value as the log does; nil: NULL.
func partitionText(a arrow.Array, row int) *string {
	if a.IsNull(row) {
		return nil
	}
	s := a.ValueStr(row)
	return &s
}

// Part is rows that go into one file.
type Part struct {
	Values map[string]*string // of the columns of partitions
	recs   []arrow.RecordBatch
	rows   int64
}

// Split tells rows apart by the values of partitions, in the order in which they are met first.
func Split(recs []arrow.RecordBatch, partitionBy []string) (parts []*Part, err error) {
	if len(partitionBy) == 0 {
		p := &Part{Values: map[string]*string{}}
		for _, r := range recs {
			p.recs, p.rows = append(p.recs, r), p.rows+r.NumRows()
		}
		if p.rows > 0 {
			parts = append(parts, p)
		}
		return parts, nil
	}
	by := map[string]*Part{}
	for _, rec := range recs {
		var cut []arrow.Array
		for _, n := range partitionBy {
			at := rec.Schema().FieldIndices(n)
			if len(at) != 1 {
				return nil, fmt.Errorf("the rows have no column %s, by which the table is partitioned", n)
			}
			cut = append(cut, rec.Column(at[0]))
		}
		rows := map[*Part][]int{}
		var met []*Part
		var key []byte
		for row := range int(rec.NumRows()) {
			key = key[:0]
			for _, c := range cut {
				if v := partitionText(c, row); v != nil {
					key = append(strconv.AppendQuote(key, *v), ' ')
				} else {
					key = append(key, '0', ' ')
				}
			}
			p := by[string(key)]
			if p == nil {
				p = &Part{Values: map[string]*string{}}
				for i, n := range partitionBy {
					p.Values[n] = partitionText(cut[i], row)
				}
				by[string(key)] = p
				parts = append(parts, p)
			}
			if rows[p] == nil {
				met = append(met, p)
			}
			rows[p] = append(rows[p], row)
		}
		for _, p := range met {
			some, err := take(rec, rows[p])
			if err != nil {
				return nil, err
			}
			p.recs, p.rows = append(p.recs, some), p.rows+some.NumRows()
		}
	}
	return parts, nil
}

// take gives some rows of a batch.
func take(rec arrow.RecordBatch, rows []int) (arrow.RecordBatch, error) {
	if len(rows) == int(rec.NumRows()) {
		return rec, nil
	}
	b := array.NewInt64Builder(memory.DefaultAllocator)
	defer b.Release()
	for _, r := range rows {
		b.Append(int64(r))
	}
	at := b.NewArray()
	var values []arrow.Array
	for _, c := range rec.Columns() {
		v, err := compute.TakeArray(context.Background(), c, at)
		if err != nil {
			return nil, err
		}
		values = append(values, v)
	}
	return array.NewRecordBatch(rec.Schema(), values, int64(len(rows))), nil
}

// Path gives the path of a new file of a part, as it lies below the table.
func (p *Part) Path(partitionBy []string, id string) string {
	var dirs []string
	for _, n := range partitionBy {
		v := "__HIVE_DEFAULT_PARTITION__" // the name that readers of the field know NULL by
		if t := p.Values[n]; t != nil && *t != "" {
			v = *t
		}
		dirs = append(dirs, dirName(n, v))
	}
	return path.Join(append(dirs, "part-00000-"+id+".zstd.parquet")...)
}

// mostName is how long the name of a directory may be; disks take 255 bytes.
const mostName = 200

// dirName is that of a directory of a partition. Readers take the value from the log: one that makes no name is left out.
func dirName(column, value string) string {
	name := strings.ReplaceAll(url.PathEscape(column)+"="+url.PathEscape(value), ":", "%3A")
	if len(name) > mostName {
		sum := sha256.Sum256([]byte(value))
		return fmt.Sprintf("value-%x", sum[:12])
	}
	return name
}

// Write writes the rows of a part as a file, and says what the log is to say of it. Path is how the file lies below the table.
func (p *Part) Write(to io.Writer, where string, partitionBy []string) (*Add, error) {
	var keep []int
	var fields []arrow.Field
	first := p.recs[0].Schema()
	for i, f := range first.Fields() {
		if !slices.Contains(partitionBy, f.Name) {
			keep, fields = append(keep, i), append(fields, f)
		}
	}
	schema := arrow.NewSchema(fields, nil)
	size := &counted{to: to}
	w, err := pqarrow.NewFileWriter(schema, size, format.ParquetProperties(schema, compress.Codecs.Zstd), pqarrow.DefaultWriterProps())
	if err != nil {
		return nil, err
	}
	st := newStats(schema)
	for _, rec := range p.recs {
		var values []arrow.Array
		for _, i := range keep {
			values = append(values, rec.Column(i))
		}
		some := array.NewRecordBatch(schema, values, rec.NumRows())
		st.add(some)
		if err := w.WriteBuffered(some); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	stats, err := st.text()
	u := url.URL{Path: where}
	return &Add{Path: strings.TrimPrefix(u.EscapedPath(), "./"), PartitionValues: p.Values, Size: size.n, Changed: time.Now().UnixMilli(), DataChange: true, Stats: stats}, err
}

type counted struct {
	to io.Writer
	n  int64
}

func (c *counted) Write(b []byte) (int, error) {
	n, err := c.to.Write(b)
	c.n += int64(n)
	return n, err
}

// Rows gives how many rows the log says that a file has; false: it does not say.
func (a *Add) Rows() (int64, bool) {
	var s struct {
		Rows *int64 `json:"numRecords"`
	}
	if json.Unmarshal([]byte(a.Stats), &s) != nil || s.Rows == nil {
		return 0, false
	}
	return *s.Rows, true
}

// stats are what the log says of the rows of a file, by which readers pass over files.
type stats struct {
	fields []arrow.Field
	rows   int64
	nulls  []int64
	least  []any // nil: there is none, or it is not known
	most   []any
	dark   []bool // a value that compares with nothing was met
}

// mostStats is of how many columns something is said, as the format does.
const mostStats = 32

func newStats(s *arrow.Schema) *stats {
	f := s.Fields()
	f = f[:min(len(f), mostStats)]
	return &stats{fields: f, nulls: make([]int64, len(f)), least: make([]any, len(f)), most: make([]any, len(f)), dark: make([]bool, len(f))}
}

func (s *stats) add(rec arrow.RecordBatch) {
	s.rows += rec.NumRows()
	for i := range s.fields {
		c := rec.Column(i)
		s.nulls[i] += int64(c.NullN())
		for row := range c.Len() {
			if !c.IsNull(row) {
				s.see(i, c, row)
			}
		}
	}
}

func (s *stats) see(i int, c arrow.Array, row int) {
	switch c := c.(type) {
	case *array.Int32:
		s.between(i, int64(c.Value(row)))
	case *array.Int64:
		s.between(i, c.Value(row))
	case *array.Date32:
		s.between(i, int64(c.Value(row)))
	case *array.Timestamp:
		s.between(i, int64(c.Value(row)))
	case *array.Float64:
		v := c.Value(row)
		if math.IsNaN(v) || math.IsInf(v, 0) { // JSON has no words for them
			s.dark[i] = true
			return
		}
		if s.least[i] == nil || v < s.least[i].(float64) {
			s.least[i] = v
		}
		if s.most[i] == nil || v > s.most[i].(float64) {
			s.most[i] = v
		}
	case *array.Decimal128:
		v := c.Value(row)
		if s.least[i] == nil || v.Less(s.least[i].(decimal128.Num)) {
			s.least[i] = v
		}
		if s.most[i] == nil || v.Greater(s.most[i].(decimal128.Num)) {
			s.most[i] = v
		}
	case *array.String:
		v := c.Value(row)
		if s.least[i] == nil || v < s.least[i].(string) {
			s.least[i] = v
		}
		if s.most[i] == nil || v > s.most[i].(string) {
			s.most[i] = v
		}
	}
}

func (s *stats) between(i int, v int64) {
	if s.least[i] == nil || v < s.least[i].(int64) {
		s.least[i] = v
	}
	if s.most[i] == nil || v > s.most[i].(int64) {
		s.most[i] = v
	}
}

// textBytes is how much of a text is said; a most is made larger then.
const textBytes = 32

func (s *stats) text() (string, error) {
	out := struct {
		Rows  int64            `json:"numRecords"`
		Least map[string]any   `json:"minValues"`
		Most  map[string]any   `json:"maxValues"`
		Nulls map[string]int64 `json:"nullCount"`
	}{s.rows, map[string]any{}, map[string]any{}, map[string]int64{}}
	for i, f := range s.fields {
		if _, in := f.Type.(arrow.NestedType); in {
			continue
		}
		out.Nulls[f.Name] = s.nulls[i]
		if s.least[i] == nil || s.dark[i] {
			continue
		}
		least, ok := said(f.Type, s.least[i], false)
		most, ok2 := said(f.Type, s.most[i], true)
		if ok {
			out.Least[f.Name] = least
		}
		if ok2 {
			out.Most[f.Name] = most
		}
	}
	b, err := json.Marshal(out)
	return string(b), err
}

// said gives a bound as the log says it; false: it cannot.
func said(t arrow.DataType, v any, most bool) (any, bool) {
	switch x := v.(type) {
	case string:
		if len(x) <= textBytes || !utf8.ValidString(x) {
			return x, utf8.ValidString(x)
		}
		cut := textBytes
		for !utf8.RuneStart(x[cut]) {
			cut--
		}
		if r, _ := utf8.DecodeRuneInString(x[cut:]); most && r == utf8.MaxRune {
			return nil, false // none that is short is larger
		}
		if most {
			return x[:cut] + string(utf8.MaxRune), true // larger than all that go on otherwise
		}
		return x[:cut], true
	case decimal128.Num:
		return json.Number(x.ToString(t.(*arrow.Decimal128Type).Scale)), true
	case int64:
		switch t := t.(type) {
		case *arrow.Date32Type:
			return arrow.Date32(x).FormattedString(), true
		case *arrow.TimestampType: // in milliseconds, as the format has it
			part := (x%1000 + 1000) % 1000
			if x -= part; most && part > 0 {
				x += 1000
			}
			at := time.UnixMicro(x).UTC()
			if at.Year() < 1 || at.Year() > 9999 {
				return nil, false
			}
			if t.TimeZone == "" {
				return at.Format("2006-01-02T15:04:05.000"), true
			}
			return at.Format("2006-01-02T15:04:05.000Z"), true
		}
	}
	return v, true
}
