package delta_test

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"unicode/utf8"

	"fiume/internal/connect/lake/delta"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
)

// shelf keeps files in memory. Now and then a file that is put has a failure for an answer, be it there then or not.
type shelf struct {
	mu     sync.Mutex
	files  map[string][]byte
	chance *rand.Rand // nil: nothing fails
}

var errShelf = errors.New("the answer was lost")

func (s *shelf) ReadFile(name string) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	b, ok := s.files[name]
	if !ok {
		return nil, fs.ErrNotExist
	}
	return b, nil
}

func (s *shelf) put(name string, content []byte, guarded bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	how := 9
	if s.chance != nil {
		how = s.chance.IntN(10)
	}
	if how == 0 {
		return errShelf
	}
	if _, ok := s.files[name]; ok && guarded {
		return fs.ErrExist
	}
	s.files[name] = bytes.Clone(content)
	if how == 1 {
		return errShelf
	}
	return nil
}

func (s *shelf) PutNew(name string, content []byte) error { return s.put(name, content, true) }
func (s *shelf) Put(name string, content []byte) error    { return s.put(name, content, false) }

func (s *shelf) Names(dir, from string) (out []string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for n := range s.files {
		if rest, ok := strings.CutPrefix(n, dir); ok && rest >= from {
			out = append(out, rest)
		}
	}
	slices.Sort(out)
	return out, nil
}

func seed(t testing.TB) uint64 {
	n, err := strconv.ParseUint(cmp.Or(os.Getenv("SEED"), "1"), 10, 64)
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// stands is what a table is, as far as readers see it.
type stands struct {
	Adds    []string
	Writers map[string]int64
	Schema  string
}

func standing(t *delta.Table) stands {
	s := stands{Adds: slices.Sorted(maps.Keys(t.Adds)), Writers: map[string]int64{}, Schema: t.Metadata.Schema}
	for id, w := range t.Writers {
		s.Writers[id] = w.Number
	}
	return s
}

// TestLogs: writers that do not know of each other add files, take some out and add columns, over files whose answers are lost now and then. Each delivery is there
// once, in its writer's order, and the table is at every version what its entries say one after the other, from whichever checkpoint it is read.
func TestLogs(t *testing.T) {
	for run := range uint64(6) {
		chance := rand.New(rand.NewPCG(seed(t), run))
		files := &shelf{files: map[string][]byte{}, chance: chance}
		columns := arrow.NewSchema([]arrow.Field{{Name: "n", Type: arrow.PrimitiveTypes.Int64, Nullable: true}}, nil)
		for {
			if err := delta.Make(files, "/t", "id", columns, nil); err == nil || errors.Is(err, delta.ErrMet) {
				break
			}
		}
		type hand struct {
			id     string
			number int64
			t      *delta.Table
		}
		var hands []*hand
		for i := range 3 {
			hands = append(hands, &hand{id: fmt.Sprint("w", i)})
		}
		const deliveries = 40
		for work := true; work; {
			work = false
			h := hands[chance.IntN(len(hands))]
			if h.t == nil || chance.IntN(10) == 0 { // it begins anew, and asks the table where it was
				var err error
				if h.t, err = delta.Load(files, "/t", delta.Newest); err != nil {
					t.Fatal(err)
				}
				h.number = h.t.Writers[h.id].Number
			}
			for _, x := range hands {
				work = work || x.number < deliveries
			}
			if h.number >= deliveries {
				continue
			}
			next := h.number + 1
			e := delta.Append(h.id, next, []*delta.Add{{Path: fmt.Sprintf("%s-%d.parquet", h.id, next), PartitionValues: map[string]*string{}, Size: 7, Changed: next, DataChange: true, Stats: `{"numRecords":3}`}})
			if chance.IntN(8) == 0 && len(h.t.Adds) > 1 {
				at := h.t.Version * 1000
				e.Removes = []*delta.Remove{{Path: h.t.Sorted()[chance.IntN(len(h.t.Adds))].Path, Deleted: &at, DataChange: true}}
			}
			if chance.IntN(12) == 0 {
				m, err := h.t.With(arrow.NewSchema([]arrow.Field{{Name: fmt.Sprintf("c%d", h.t.Version), Type: arrow.BinaryTypes.String, Nullable: true}}, nil))
				if err != nil {
					t.Fatal(err)
				}
				e.Metadata = m
			}
			err := h.t.Commit(e)
			switch {
			case err == nil:
				h.number = next
				if h.t.Due() {
					_ = h.t.Checkpoint() // whether it is there or not
				}
			case errors.Is(err, delta.ErrMet):
				if err := h.t.Refresh(); err != nil {
					t.Fatal(err)
				}
				h.number = h.t.Writers[h.id].Number
			default:
				h.t = nil
			}
		}
		files.chance = nil
		// What the entries say, read by themselves.
		want := stands{Writers: map[string]int64{}}
		added := map[string]int{}
		here := map[string]bool{}
		checkpoints := 0
		for v := int64(0); ; v++ {
			b, err := files.ReadFile(fmt.Sprintf("/t/_delta_log/%020d.json", v))
			if err != nil {
				break
			}
			for line := range strings.Lines(string(b)) {
				var a map[string]map[string]any
				if err := json.Unmarshal([]byte(line), &a); err != nil {
					t.Fatal(err)
				}
				for what, x := range a {
					switch what {
					case "add":
						here[x["path"].(string)] = true
						added[x["path"].(string)]++
					case "remove":
						delete(here, x["path"].(string))
					case "txn":
						id, n := x["appId"].(string), int64(x["version"].(float64))
						if n != want.Writers[id]+1 {
							t.Errorf("version %d: delivery %d of %s behind %d", v, n, id, want.Writers[id])
						}
						want.Writers[id] = n
					case "metaData":
						want.Schema = x["schemaString"].(string)
					}
				}
			}
			want.Adds = slices.Sorted(maps.Keys(here))
			tab, err := delta.Load(files, "/t/", v)
			if err != nil {
				t.Fatal(v, err)
			}
			if got := standing(tab); !reflect.DeepEqual(got, want) {
				t.Fatalf("version %d: %+v, wanted %+v", v, got, want)
			}
			if files.files[fmt.Sprintf("/t/_delta_log/%020d.checkpoint.parquet", v)] != nil {
				checkpoints++
			}
		}
		for p, n := range added {
			if n != 1 {
				t.Errorf("%s was added %d times", p, n)
			}
		}
		if len(added) != 3*deliveries || checkpoints < 3 {
			t.Errorf("%d deliveries, %d checkpoints", len(added), checkpoints)
		}
		// What a checkpoint sums up need not be there any more.
		newest, err := delta.Load(files, "/t", delta.Newest)
		if err != nil {
			t.Fatal(err)
		}
		last := newest.Version - newest.Version%10
		if files.files[fmt.Sprintf("/t/_delta_log/%020d.checkpoint.parquet", last)] == nil {
			continue
		}
		for v := range last {
			delete(files.files, fmt.Sprintf("/t/_delta_log/%020d.json", v))
		}
		if run%2 == 0 {
			delete(files.files, "/t/_delta_log/_last_checkpoint")
		}
		short, err := delta.Load(files, "/t", delta.Newest)
		if err != nil || !reflect.DeepEqual(standing(short), standing(newest)) {
			t.Errorf("from the checkpoint alone: %+v, wanted %+v: %v", standing(short), standing(newest), err)
		}
		if _, err := delta.Load(files, "/t", 1); err == nil {
			t.Error("a version is read whose entries are gone")
		}
	}
}

// TestLogsBad: logs and checkpoints that are damaged anywhere are errors, or what they say; none ends the process.
func TestLogsBad(t *testing.T) {
	chance := rand.New(rand.NewPCG(seed(t), 3))
	files := &shelf{files: map[string][]byte{}}
	if err := delta.Make(files, "/t", "id", arrow.NewSchema([]arrow.Field{{Name: "n", Type: arrow.PrimitiveTypes.Int64, Nullable: true}, {Name: "s", Type: arrow.ListOf(arrow.BinaryTypes.String), Nullable: true}}, nil), []string{"n"}); err != nil {
		t.Fatal(err)
	}
	tab, err := delta.Load(files, "/t", delta.Newest)
	if err != nil {
		t.Fatal(err)
	}
	for n := range int64(20) {
		five := "5"
		if err := tab.Commit(delta.Append("w", n+1, []*delta.Add{{Path: fmt.Sprint("f", n), PartitionValues: map[string]*string{"n": &five}, DataChange: true}})); err != nil {
			t.Fatal(err)
		}
		if tab.Due() {
			if err := tab.Checkpoint(); err != nil {
				t.Fatal(err)
			}
		}
	}
	good := maps.Clone(files.files)
	names := slices.Sorted(maps.Keys(good))
	read := 0
	for range 1000 {
		files.files = maps.Clone(good)
		for range 1 + chance.IntN(2) {
			name := names[chance.IntN(len(names))]
			b := bytes.Clone(files.files[name])
			switch chance.IntN(4) {
			case 0:
				b = b[:chance.IntN(len(b)+1)]
			case 1:
				delete(files.files, name)
				continue
			default:
				for range 1 + chance.IntN(4) {
					if len(b) > 0 {
						b[chance.IntN(len(b))] = byte(chance.IntN(256))
					}
				}
			}
			files.files[name] = b
		}
		x, err := delta.Load(files, "/t", delta.Newest)
		if err != nil {
			continue
		}
		read++
		_, _ = x.Columns()
		_ = x.Writable()
		for _, a := range x.Sorted() {
			_, _ = x.PathOf(a)
			_, _ = a.Rows()
		}
	}
	if read < 50 {
		t.Errorf("%d could be read", read)
	}
	for text, want := range map[string]string{
		`{"protocol":{"minReaderVersion":4,"minWriterVersion":7}}`:                                                                                           "wants readers of protocol 4",
		`{"protocol":{"minReaderVersion":3,"minWriterVersion":7,"readerFeatures":["hovering"],"writerFeatures":["hovering"]}}`:                               "wants readers that know: hovering",
		`{"metaData":{"id":"x","format":{"provider":"orc"},"schemaString":"{\"type\":\"struct\",\"fields\":[]}","partitionColumns":[]}}`:                     "only parquet can be read",
		`{"metaData":{"id":"x","format":{"provider":"parquet"},"schemaString":"{\"type\":\"struct\"}","configuration":{"delta.columnMapping.mode":"name"}}}`: "have other names in its files",
		`{"add":{"path":"a","partitionValues":{},"size":1,"modificationTime":1,"dataChange":true,"deletionVector":{"storageType":"u"}}}`:                     "vectors of deleted rows",
		`{"add":`: "version 21, line 1",
	} {
		files.files = maps.Clone(good)
		files.files["/t/_delta_log/00000000000000000021.json"] = []byte(text)
		if _, err := delta.Load(files, "/t", delta.Newest); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
	for text, want := range map[string]string{
		`{"protocol":{"minReaderVersion":1,"minWriterVersion":9}}`:                                                                                                                                                             "writers of protocol 9",
		`{"protocol":{"minReaderVersion":1,"minWriterVersion":7,"writerFeatures":["rowTracking"]}}`:                                                                                                                            "that know rowTracking",
		`{"metaData":{"id":"x","format":{"provider":"parquet"},"schemaString":"{\"type\":\"struct\",\"fields\":[]}","configuration":{"delta.constraints.small":"n < 5"}}}`:                                                     "checks rows by small",
		`{"metaData":{"id":"x","format":{"provider":"parquet"},"schemaString":"{\"type\":\"struct\",\"fields\":[{\"name\":\"n\",\"type\":\"long\",\"nullable\":true,\"metadata\":{\"delta.generationExpression\":\"1\"}}]}"}}`: "its column n has a rule",
	} {
		files.files = maps.Clone(good)
		files.files["/t/_delta_log/00000000000000000021.json"] = []byte(text)
		x, err := delta.Load(files, "/t", delta.Newest)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if err := x.Writable(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// TestRows: rows of all types, with values at the edges, come back from the files of the partitions that they were split into, and what the log says of each file
// holds for all its rows.
func TestRows(t *testing.T) {
	chance := rand.New(rand.NewPCG(seed(t), 5))
	columns := arrow.NewSchema([]arrow.Field{
		{Name: "id", Type: arrow.PrimitiveTypes.Int64, Nullable: true}, {Name: "text", Type: arrow.BinaryTypes.String, Nullable: true},
		{Name: "price", Type: &arrow.Decimal128Type{Precision: 12, Scale: 3}, Nullable: true}, {Name: "real", Type: arrow.PrimitiveTypes.Float64, Nullable: true},
		{Name: "at", Type: &arrow.TimestampType{Unit: arrow.Microsecond, TimeZone: "UTC"}, Nullable: true}, {Name: "day", Type: arrow.FixedWidthTypes.Date32, Nullable: true},
		{Name: "yes", Type: arrow.FixedWidthTypes.Boolean, Nullable: true}, {Name: "list", Type: arrow.ListOf(arrow.BinaryTypes.String), Nullable: true},
		{Name: "cut", Type: arrow.BinaryTypes.String, Nullable: true}, {Name: "part", Type: arrow.PrimitiveTypes.Int32, Nullable: true},
	}, nil)
	texts := []string{"", "a", "é", strings.Repeat("x", 40), strings.Repeat("è", 31) + "ü", strings.Repeat("\U0010ffff", 12), "\u0000", "quote\"", strings.Repeat("𝄞", 9)}
	cuts := []string{"plain", "a/b", "a b:c", "%41", "..", "=", "ünï", strings.Repeat("long ", 100), "back\\slash", "'\"?#&"}
	files := &shelf{files: map[string][]byte{}}
	if err := delta.Make(files, "/t", "id", columns, []string{"cut", "part"}); err != nil {
		t.Fatal(err)
	}
	tab, err := delta.Load(files, "/t", delta.Newest)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := tab.Columns(); err != nil || !got.Equal(columns) {
		t.Errorf("the columns are %v, %v", got, err)
	}
	want := map[string]int{}
	for n := range 6 {
		b := array.NewRecordBuilder(memory.DefaultAllocator, columns)
		rows := []int{0, 1, 700}[n%3]
		for range rows {
			null := func(c int) bool {
				if chance.IntN(9) == 0 {
					b.Field(c).AppendNull()
					return true
				}
				return false
			}
			if !null(0) {
				b.Field(0).(*array.Int64Builder).Append([]int64{0, -1, 1 << 53, math.MaxInt64, math.MinInt64, chance.Int64()}[chance.IntN(6)])
			}
			if !null(1) {
				b.Field(1).(*array.StringBuilder).Append(texts[chance.IntN(len(texts))])
			}
			if !null(2) {
				b.Field(2).(*array.Decimal128Builder).Append(decimal128.FromI64(chance.Int64N(2e11) - 1e11))
			}
			if !null(3) {
				b.Field(3).(*array.Float64Builder).Append([]float64{0, -1.5, 1e300, -1e-300, math.Inf(1), math.NaN(), chance.NormFloat64(), 2, 3, 4}[chance.IntN(6+4*(n%2))])
			}
			if !null(4) {
				b.Field(4).(*array.TimestampBuilder).Append(arrow.Timestamp(chance.Int64N(4e15) - 2e15))
			}
			if !null(5) {
				b.Field(5).(*array.Date32Builder).Append(arrow.Date32(chance.IntN(40000) - 20000))
			}
			if !null(6) {
				b.Field(6).(*array.BooleanBuilder).Append(chance.IntN(2) == 0)
			}
			if !null(7) {
				l := b.Field(7).(*array.ListBuilder)
				l.Append(true)
				for range chance.IntN(3) {
					l.ValueBuilder().(*array.StringBuilder).Append("e")
				}
			}
			if !null(8) {
				b.Field(8).(*array.StringBuilder).Append(cuts[chance.IntN(len(cuts))])
			}
			if !null(9) {
				b.Field(9).(*array.Int32Builder).Append(int32(chance.IntN(3)))
			}
		}
		rec := b.NewRecordBatch()
		count(want, rec, 1)
		parts, err := delta.Split([]arrow.RecordBatch{rec}, tab.Metadata.PartitionBy)
		if err != nil {
			t.Fatal(err)
		}
		var adds []*delta.Add
		for i, p := range parts {
			var out bytes.Buffer
			where := p.Path(tab.Metadata.PartitionBy, fmt.Sprintf("%d-%d", n, i))
			a, err := p.Write(&out, where, tab.Metadata.PartitionBy)
			if err != nil {
				t.Fatal(err)
			}
			for part := range strings.SplitSeq(where, "/") {
				if len(part) > 255 || part == ".." || part == "" {
					t.Errorf("no disk takes %q", part)
				}
			}
			files.files["/t/"+where] = out.Bytes()
			adds = append(adds, a)
		}
		if err := tab.Commit(delta.Append("w", int64(n+1), adds)); err != nil {
			t.Fatal(err)
		}
	}
	if tab, err = delta.Load(files, "/t", delta.Newest); err != nil {
		t.Fatal(err)
	}
	for _, a := range tab.Adds {
		name, err := tab.PathOf(a)
		if err != nil {
			t.Fatal(err)
		}
		b := files.files[name]
		if b == nil || int64(len(b)) != a.Size {
			t.Fatalf("the file %s has %d bytes, and the log says %d", name, len(b), a.Size)
		}
		var says struct {
			Rows  int64            `json:"numRecords"`
			Least map[string]any   `json:"minValues"`
			Most  map[string]any   `json:"maxValues"`
			Nulls map[string]int64 `json:"nullCount"`
		}
		d := json.NewDecoder(strings.NewReader(a.Stats))
		d.UseNumber()
		if err := d.Decode(&says); err != nil {
			t.Fatal(err)
		}
		err = tab.EachRow(a, bytes.NewReader(b), int64(len(b)), nil, 64, func(rec arrow.RecordBatch) error {
			count(want, rec, -1)
			says.Rows -= rec.NumRows()
			for c, f := range rec.Schema().Fields() {
				if f.Name != "cut" && f.Name != "part" && f.Name != "list" {
					says.Nulls[f.Name] -= int64(rec.Column(c).NullN())
				}
				for row := range int(rec.NumRows()) {
					if rec.Column(c).IsNull(row) {
						continue
					}
					v := rec.Column(c).GetOneForMarshal(row)
					if least, ok := says.Least[f.Name]; ok && order(t, f.Type, fmt.Sprint(least), fmt.Sprint(v)) > 0 {
						t.Errorf("%s: %v is less than %v", f.Name, v, least)
					}
					if most, ok := says.Most[f.Name]; ok && order(t, f.Type, fmt.Sprint(v), fmt.Sprint(most)) > 0 {
						t.Errorf("%s: %v is more than %v", f.Name, v, most)
					}
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		for c, n := range says.Nulls {
			if n != 0 || says.Rows != 0 {
				t.Errorf("%s: the log has %d NULLs and %d rows more than there are", c, n, says.Rows)
			}
		}
	}
	for row, n := range want {
		if n != 0 {
			t.Errorf("%d rows more went in than came out: %s", n, row)
		}
	}
}

// count adds the rows of a batch to a bag.
func count(bag map[string]int, rec arrow.RecordBatch, by int) {
	order := slices.Sorted(maps.Keys(func() map[string]int {
		m := map[string]int{}
		for i, f := range rec.Schema().Fields() {
			m[f.Name] = i
		}
		return m
	}()))
	for row := range int(rec.NumRows()) {
		var text strings.Builder
		for _, n := range order {
			c := rec.Column(rec.Schema().FieldIndices(n)[0])
			fmt.Fprintf(&text, "%s=%t %v;", n, c.IsNull(row), c.ValueStr(row))
		}
		bag[text.String()] += by
	}
}

// order compares two values of a type as they are said in JSON.
func order(t *testing.T, kind arrow.DataType, a, b string) int {
	t.Helper()
	switch kind.ID() {
	case arrow.STRING:
		if !utf8.ValidString(a) || !utf8.ValidString(b) {
			t.Errorf("%q %q", a, b)
		}
		return cmp.Compare(a, b)
	case arrow.TIMESTAMP, arrow.DATE32:
		norm := func(s string) string {
			s, _ = strings.CutSuffix(strings.Replace(s, " ", "T", 1), "Z")
			if kind.ID() == arrow.TIMESTAMP {
				if !strings.Contains(s, ".") {
					s += "."
				}
				for len(s) < len("2006-01-02T15:04:05.000000") {
					s += "0"
				}
			}
			return s
		}
		return cmp.Compare(norm(a), norm(b))
	case arrow.INT64:
		x, err := strconv.ParseInt(a, 10, 64)
		y, err2 := strconv.ParseInt(b, 10, 64)
		if err != nil || err2 != nil {
			t.Error(a, b)
		}
		return cmp.Compare(x, y)
	}
	x, err := strconv.ParseFloat(a, 64)
	y, err2 := strconv.ParseFloat(b, 64)
	if err != nil || err2 != nil {
		t.Error(kind, a, b)
	}
	return cmp.Compare(x, y)
}
