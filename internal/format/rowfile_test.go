package format

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
	"github.com/twmb/avro"
	"github.com/twmb/avro/ocf"
)

// readAll reads all rows of a file, in pieces, by two decoders in turns, as JSON.
func readAll(t testing.TB, f RowFile, fields []types.Field, use *plan.Use) (rows, rejects []string) {
	t.Helper()
	r := &Reading{Stream: &plan.Stream{Name: "s", Time: -1, Columns: fields}, Used: use}
	var decs [2]flow.Decoder
	for i := range decs {
		var err error
		if decs[i], err = f.NewDecoder(r); err != nil {
			t.Fatal(err)
		}
	}
	for at, turn := int64(0), 0; at < f.Rows(); turn++ {
		end := f.Piece(at)
		if end <= at || end > f.Rows() {
			t.Fatalf("a piece goes from %d to %d of %d rows", at, end, f.Rows())
		}
		var ms []flow.Message
		for ; at < end; at++ {
			ms = append(ms, flow.Message{Pos: at, At: 1000})
		}
		var b column.Batch
		for _, x := range decs[turn%2].Decode(nil, ms, &b) {
			rejects = append(rejects, fmt.Sprintf("%d: %s", ms[x.Message].Pos, x.Reason))
		}
		var kept []types.Field
		view := &column.Batch{N: b.N}
		for i, c := range b.Cols {
			if c != nil {
				kept, view.Cols = append(kept, fields[i]), append(view.Cols, c)
			}
		}
		enc := NewJSONEncoder(kept)
		for i := range b.N {
			rows = append(rows, string(enc.Append(nil, view, i)))
		}
		if len(b.Pos) != b.N || len(b.Time) != b.N {
			t.Fatalf("%d rows, %d positions, %d times", b.N, len(b.Pos), len(b.Time))
		}
	}
	return rows, rejects
}

func batchOf(r *rand.Rand, fields []types.Field, n int) *column.Batch {
	b := &column.Batch{N: n}
	for _, f := range fields {
		v := column.New(f.Type)
		for range n {
			v.Append(randomValue(r, f.Type, false))
		}
		b.Cols = append(b.Cols, v)
	}
	return b
}

// TestRowFiles writes files of rows of all types, packed in all ways, and reads them back: all columns, some, and none.
func TestRowFiles(t *testing.T) {
	fields := columnsOf(t, allColumns)
	some := columnsOf(t, "s VARCHAR, absent INT, n DOUBLE, price VARCHAR")
	r := rand.New(rand.NewPCG(5, 5))
	for _, c := range []struct{ format, pack string }{{"avro", "null"}, {"avro", "deflate"}, {"avro", "zstandard"}, {"parquet", "none"}, {"parquet", "gzip"}, {"parquet", "zstd"}} {
		var out bytes.Buffer
		var want []string
		show := NewJSONEncoder(fields)
		add := func(write func(b *column.Batch)) {
			for range 12 {
				b := batchOf(r, fields, 1+r.IntN(700))
				for i := range b.N {
					want = append(want, string(show.Append(nil, b, i)))
				}
				write(b)
			}
		}
		if c.format == "avro" {
			w, err := NewAvroBlocks(fields, c.pack)
			if err != nil {
				t.Fatal(err)
			}
			out.Write(w.Header())
			add(func(b *column.Batch) { w.Add(b); out.Write(w.Take().Bytes) })
			// Another program reads it, too.
			rd, err := ocf.NewReader(bytes.NewReader(out.Bytes()))
			if err != nil {
				t.Fatal(err)
			}
			n := 0
			for ; ; n++ {
				var v any
				if rd.Decode(&v) != nil {
					break
				}
			}
			if n != len(want) {
				t.Errorf("another program reads %d of %d rows", n, len(want))
			}
		} else {
			w, err := NewParquetWriter(&out, fields, c.pack)
			if err != nil {
				t.Fatal(err)
			}
			add(func(b *column.Batch) {
				if err := w.Write(b); err != nil {
					t.Fatal(err)
				}
			})
			if err := w.Close(); err != nil {
				t.Fatal(err)
			}
		}
		f, err := OpenRowFile(c.format, bytes.NewReader(out.Bytes()), int64(out.Len()))
		if err != nil {
			t.Fatal(err)
		}
		if f.Rows() != int64(len(want)) {
			t.Fatalf("%v: %d rows of %d", c, f.Rows(), len(want))
		}
		got, rejects := readAll(t, f, fields, &plan.Use{All: true})
		if rejects != nil {
			t.Fatalf("%v: %s", c, rejects[0])
		}
		for i := range want {
			if got[i] != want[i] {
				t.Fatalf("%v: row %d is\n%s\nand was\n%s", c, i, got[i], want[i])
			}
		}
		if c.format == "parquet" {
			some[3].Type = types.DecimalOf(30, 6)
		} else {
			some[3].Type = types.DecimalOf(30, 6)
		}
		part, rejects := readAll(t, f, some, &plan.Use{All: true})
		if rejects != nil || len(part) != len(want) || !strings.Contains(part[0], `"absent":null`) {
			t.Fatalf("%v: %v %v", c, rejects, part[:1])
		}
		none, rejects := readAll(t, f, some, &plan.Use{})
		if rejects != nil || len(none) != len(want) {
			t.Fatalf("%v: %d rows without columns, %v", c, len(none), rejects)
		}
		told, err := f.Columns()
		if err != nil || len(told) != len(fields) || told[0].Name != "b" || told[0].Type.Kind != types.Boolean {
			t.Errorf("%v: %v %v", c, told, err)
		}
	}
}

// TestParquetOf: rows as JSON become a file that has just them.
func TestParquetOf(t *testing.T) {
	fields := columnsOf(t, allColumns)
	b := batchOf(rand.New(rand.NewPCG(8, 8)), fields, 300)
	var rows []json.RawMessage
	show := NewJSONEncoder(fields)
	for i := range b.N {
		rows = append(rows, show.Append(nil, b, i))
	}
	data, err := ParquetOf(fields, rows)
	if err != nil {
		t.Fatal(err)
	}
	f, err := OpenRowFile("parquet", bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	got, rejects := readAll(t, f, fields, &plan.Use{All: true})
	if rejects != nil || len(got) != len(rows) {
		t.Fatalf("%d rows, %v", len(got), rejects)
	}
	for i := range got {
		if got[i] != string(rows[i]) {
			t.Fatalf("row %d is %s, and was %s", i, got[i], rows[i])
		}
	}
	if _, err := ParquetOf(fields, []json.RawMessage{[]byte(`{"n":"x"}`)}); err == nil || !strings.Contains(err.Error(), "row 1") {
		t.Error(err)
	}
}

// TestRowFilesOfOthers reads files that other programs write: small types, dictionaries, several row groups, other units of time, and blocks with rows that
// are none.
func TestRowFilesOfOthers(t *testing.T) {
	schema := arrow.NewSchema([]arrow.Field{{Name: "i", Type: arrow.PrimitiveTypes.Int8}, {Name: "u", Type: arrow.PrimitiveTypes.Uint64}, {Name: "f", Type: arrow.PrimitiveTypes.Float32},
		{Name: "word", Type: &arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Int8, ValueType: arrow.BinaryTypes.String}}, {Name: "at", Type: &arrow.TimestampType{Unit: arrow.Nanosecond}},
		{Name: "big", Type: arrow.PrimitiveTypes.Int64, Nullable: true}, {Name: "deep", Type: arrow.ListOf(arrow.ListOf(arrow.PrimitiveTypes.Int32))}}, nil)
	var out bytes.Buffer
	w, err := pqarrow.NewFileWriter(schema, &out, parquet.NewWriterProperties(parquet.WithMaxRowGroupLength(150_000)), pqarrow.NewArrowWriterProperties(pqarrow.WithStoreSchema()))
	if err != nil {
		t.Fatal(err)
	}
	const rows = 400_000
	b := array.NewRecordBuilder(memory.DefaultAllocator, schema)
	for i := range rows {
		b.Field(0).(*array.Int8Builder).Append(int8(i))
		b.Field(1).(*array.Uint64Builder).Append(1<<63 + uint64(i))
		b.Field(2).(*array.Float32Builder).Append(1.5)
		if err := b.Field(3).(*array.BinaryDictionaryBuilder).AppendString([]string{"one", "two"}[i%2]); err != nil {
			t.Fatal(err)
		}
		b.Field(4).(*array.TimestampBuilder).Append(arrow.Timestamp(int64(i)*1_000_001 - 5))
		if i%3 == 0 {
			b.Field(5).AppendNull()
		} else {
			b.Field(5).(*array.Int64Builder).Append(int64(i) << 20)
		}
		b.Field(6).AppendNull()
	}
	if err := w.WriteBuffered(b.NewRecordBatch()); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	f, err := OpenRowFile("parquet", bytes.NewReader(out.Bytes()), int64(out.Len()))
	if err != nil {
		t.Fatal(err)
	}
	fields := columnsOf(t, "i INT, u DECIMAL(20, 0), f DOUBLE, word VARCHAR, at TIMESTAMP, big INT NOT NULL, deep ARRAY(JSON)")
	got, rejects := readAll(t, f, fields, &plan.Use{All: true})
	nulls, large := 0, 0
	for _, x := range rejects {
		switch {
		case strings.Contains(x, "big is NULL or missing"):
			nulls++
		case strings.Contains(x, "is no INT"):
			large++
		default:
			t.Fatal(x)
		}
	}
	if len(got)+len(rejects) != rows || nulls != (rows+2)/3 || large == 0 {
		t.Fatalf("%d rows, %d without, %d too large", len(got), nulls, large)
	}
	if want := `{"i":1,"u":9223372036854775809,"f":1.5,"word":"two","at":"1970-01-01T00:00:00.000999Z","big":1048576,"deep":null}`; !strings.HasPrefix(got[0], want[:60]) {
		t.Errorf("%s\nwanted\n%s", got[0], want)
	}
	text := `{"type":"record","name":"r","fields":[{"name":"n","type":["null","long"]},{"name":"s","type":"string"}]}`
	var file bytes.Buffer
	ow, err := ocf.NewWriter(&file, avro.MustParse(text), ocf.WithCodec(ocf.SnappyCodec()))
	if err != nil {
		t.Fatal(err)
	}
	for i := range 10_000 {
		var n any = int64(i)
		if i%10 == 3 {
			n = nil
		}
		if err := ow.Encode(map[string]any{"n": n, "s": fmt.Sprint("row ", i)}); err != nil {
			t.Fatal(err)
		}
	}
	if err := ow.Close(); err != nil {
		t.Fatal(err)
	}
	a, err := OpenRowFile("avro", bytes.NewReader(file.Bytes()), int64(file.Len()))
	if err != nil {
		t.Fatal(err)
	}
	got, rejects = readAll(t, a, columnsOf(t, "n BIGINT NOT NULL, s VARCHAR"), &plan.Use{All: true})
	if len(got) != 9000 || len(rejects) != 1000 || got[8999] != `{"n":9999,"s":"row 9999"}` || !strings.HasPrefix(rejects[999], "9993: n is NULL") {
		t.Errorf("%d rows, %d rejects, %q", len(got), len(rejects), got[len(got)-1])
	}
}

// TestRowFilesDamaged: files that are cut off or damaged are said to be, and end nothing.
func TestRowFilesDamaged(t *testing.T) {
	fields := columnsOf(t, allColumns)
	r := rand.New(rand.NewPCG(6, 6))
	files := map[string][]byte{}
	w, err := NewAvroBlocks(fields, "deflate")
	if err != nil {
		t.Fatal(err)
	}
	files["avro"] = slices.Clone(w.Header())
	var out bytes.Buffer
	p, err := NewParquetWriter(&out, fields, "zstd")
	if err != nil {
		t.Fatal(err)
	}
	for range 5 {
		b := batchOf(r, fields, 50)
		w.Add(b)
		files["avro"] = append(files["avro"], w.Take().Bytes...)
		if err := p.Write(b); err != nil {
			t.Fatal(err)
		}
	}
	if err := p.Close(); err != nil {
		t.Fatal(err)
	}
	files["parquet"] = out.Bytes()
	for format, whole := range files {
		said := 0
		for range 400 {
			b := slices.Clone(whole)
			if at := r.IntN(len(b)); r.IntN(2) == 0 {
				b = b[:at]
			} else {
				for range 1 + r.IntN(8) {
					b[r.IntN(len(b))] ^= byte(1 + r.IntN(255))
				}
			}
			f, err := OpenRowFile(format, bytes.NewReader(b), int64(len(b)))
			if err != nil {
				said++
				continue
			}
			if f.Rows() > 1000 {
				continue // it would be read in pieces, each refused
			}
			dec, err := f.NewDecoder(&Reading{Stream: &plan.Stream{Name: "s", Time: -1, Columns: fields}, Used: &plan.Use{All: true}})
			if err != nil {
				said++
				continue
			}
			for at := int64(0); at < f.Rows(); {
				end := f.Piece(at)
				if end <= at {
					t.Fatalf("%s: a piece goes from %d to %d", format, at, end)
				}
				var ms []flow.Message
				for ; at < end; at++ {
					ms = append(ms, flow.Message{Pos: at})
				}
				var out column.Batch
				if bad := dec.Decode(nil, ms, &out); len(bad) > 0 {
					said++
				} else if out.N != len(ms) {
					t.Fatalf("%s: %d rows of %d, and no reject", format, out.N, len(ms))
				}
			}
		}
		if said < 200 {
			t.Errorf("%s: only %d of 400 damaged files were found", format, said)
		}
	}
	for format, text := range map[string]string{"avro": "no Avro file", "parquet": "cannot be read"} {
		if _, err := OpenRowFile(format, strings.NewReader("hello, world"), 12); err == nil || !strings.Contains(err.Error(), text) {
			t.Errorf("%s: %v", format, err)
		}
	}
}

// BenchmarkRowFiles reads ten columns, or two of them, of files and of JSON.
func BenchmarkRowFiles(b *testing.B) {
	fields := columnsOf(b, "a BIGINT, c DOUBLE, d VARCHAR, e VARCHAR, f TIMESTAMP, g INT, h BOOLEAN, i BIGINT, j DOUBLE, k VARCHAR")
	const n = 1 << 17
	r := rand.New(rand.NewPCG(1, 1))
	batch := &column.Batch{N: n, Time: make([]int64, n), Pos: make([]int64, n)}
	for _, f := range fields {
		v := column.New(f.Type)
		for i := range n {
			x := types.Value{Kind: f.Type.Kind, I: r.Int64N(1e12), F: r.Float64() * 100, S: fmt.Sprintf("C%05d", r.IntN(10000))}
			switch f.Type.Kind {
			case types.Timestamp:
				x.I = 1779012000000000 + int64(i)*12345
			case types.Int:
				x.I %= 1000
			case types.Boolean:
				x.I %= 2
			}
			v.Append(x)
		}
		batch.Cols = append(batch.Cols, v)
	}
	two := &plan.Use{Kids: map[int]*plan.Use{0: {All: true}, 2: {All: true}}}
	rate := func(b *testing.B) { b.ReportMetric(n*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mrows/s") }
	st := &plan.Stream{Name: "s", Time: -1, Columns: fields, Options: option("format", "json")}
	for name, use := range map[string]*plan.Use{"two": two, "all": {All: true}} {
		var data []byte
		var ms []flow.Message
		enc := NewJSONEncoder(fields)
		for i := range n {
			from := len(data)
			data = enc.Append(data, batch, i)
			ms = append(ms, flow.Message{Off: uint32(from), Len: uint32(len(data) - from), Pos: int64(i)})
		}
		data = slices.Grow(data, flow.Pad)
		b.Run("json/"+name, func(b *testing.B) {
			dec, err := testDecoder(st, use, nil)
			if err != nil {
				b.Fatal(err)
			}
			var out column.Batch
			for b.Loop() {
				dec.Decode(data, ms, &out)
			}
			rate(b)
		})
		for _, format := range RowFormats {
			var file bytes.Buffer
			if format == "avro" {
				w, err := NewAvroBlocks(fields, "null")
				if err != nil {
					b.Fatal(err)
				}
				file.Write(w.Header())
				for from := 0; from < n; from += 4096 {
					part := &column.Batch{}
					var sel []uint32
					for i := range 4096 {
						sel = append(sel, uint32(from+i))
					}
					batch.Gather(sel, part)
					w.Add(part)
					file.Write(w.Take().Bytes)
				}
			} else {
				w, err := NewParquetWriter(&file, fields, "zstd")
				if err == nil {
					err = w.Write(batch)
				}
				if err == nil {
					err = w.Close()
				}
				if err != nil {
					b.Fatal(err)
				}
			}
			f, err := OpenRowFile(format, bytes.NewReader(file.Bytes()), int64(file.Len()))
			if err != nil {
				b.Fatal(err)
			}
			b.Run(format+"/"+name, func(b *testing.B) {
				dec, err := f.NewDecoder(&Reading{Stream: st, Used: use})
				if err != nil {
					b.Fatal(err)
				}
				var out column.Batch
				for b.Loop() {
					for at := int64(0); at < n; {
						end := f.Piece(at)
						ms = ms[:0]
						for ; at < end; at++ {
							ms = append(ms, flow.Message{Pos: at})
						}
						dec.Decode(nil, ms, &out)
					}
				}
				rate(b)
			})
		}
	}
}
