package format

import (
	"fmt"
	"math"
	"math/big"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"

	"github.com/twmb/avro"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protoreflect"
	"google.golang.org/protobuf/types/dynamicpb"
)

func testDecoder(s *plan.Stream, used *plan.Use, header []string) (flow.Decoder, error) {
	return (&Reading{Stream: s, Used: used}).NewDecoder(header)
}

func testEncoder(o plan.Options, fields []types.Field) (Encoder, error) {
	return (&Writing{Options: o, Fields: fields}).NewEncoder()
}

func option(words ...string) plan.Options {
	o := plan.Options{}
	for i := 0; i < len(words); i += 2 {
		o[words[i]] = sql.Option{Name: words[i], Word: words[i+1]}
	}
	return o
}

// columnsOf reads columns as they are declared.
func columnsOf(t testing.TB, text string) []types.Field {
	t.Helper()
	script, err := sql.Parse("columns", "DECLARE STREAM s ("+text+") FROM TOPIC 't';", nil)
	if err != nil {
		t.Fatal(err)
	}
	var out []types.Field
	for _, c := range script.Statements[0].(*sql.DeclareStream).Columns {
		out = append(out, types.Field{Name: c.Name.Text, Type: c.Type, NotNull: c.NotNull})
	}
	return out
}

// rowsOf decodes messages, and gives the rows as JSON and the reasons of the rejects.
func rowsOf(t testing.TB, dec flow.Decoder, fields []types.Field, msgs ...[]byte) (rows, rejects []string) {
	t.Helper()
	var data []byte
	var ms []flow.Message
	for i, m := range msgs {
		ms = append(ms, flow.Message{Off: uint32(len(data)), Len: uint32(len(m)), Pos: int64(i)})
		data = append(data, m...)
	}
	data = slices.Grow(data, flow.Pad)
	var b column.Batch
	for _, r := range dec.Decode(data, ms, &b) {
		rejects = append(rejects, fmt.Sprintf("%d: %s", r.Message, r.Reason))
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
	return rows, rejects
}

const allColumns = `b BOOLEAN, i INT, n BIGINT, x DOUBLE, s VARCHAR, at TIMESTAMP, d DATE, h TIME, len INTERVAL, price DECIMAL(20, 4), bytes VARBINARY, doc JSON,
	runner ROW(bib INT, name VARCHAR, splits ARRAY(TIMESTAMP)), tags ARRAY(VARCHAR), laps ARRAY(ROW(n INT, x DOUBLE)), by_mat MAP(VARCHAR, BIGINT)`

// randomValue makes a value, sometimes NULL.
func randomValue(r *rand.Rand, t types.Type, inner bool) types.Value {
	if r.IntN(5) == 0 && !inner {
		return types.Value{}
	}
	v := types.Value{Kind: t.Kind}
	switch t.Kind {
	case types.Boolean:
		v.I = r.Int64N(2)
	case types.Int:
		v.I = int64(int32(r.Uint32()))
	case types.BigInt:
		v.I = int64(r.Uint64()) >> r.IntN(64)
	case types.Double:
		v.F = []float64{0, 1.5, -2.25e10, math.MaxFloat64, 1e-300}[r.IntN(5)]
	case types.Varchar:
		v.S = []string{"", "größe", "C07", "a\"b\n", strings.Repeat("lang ", 40)}[r.IntN(5)]
	case types.Varbinary:
		v.S = string([]byte{0, 0xff, byte(r.Uint32())})
	case types.JSON:
		v.S = []string{`{"a":[1,2]}`, `"x"`, `7`}[r.IntN(3)]
	case types.Timestamp:
		v.I = r.Int64N(4e15) - 1e15
	case types.Date:
		v.I = r.Int64N(40000) - 10000
	case types.Time:
		v.I = r.Int64N(dayMicros)
	case types.Interval:
		v.I = r.Int64N(1e12)
	case types.Decimal:
		v = types.DecimalValue(types.NumOfInt(int64(r.Uint64())>>r.IntN(64)), t.Scale)
	case types.Row:
		for _, f := range t.Fields {
			v.Row = append(v.Row, randomValue(r, f.Type, false))
		}
	case types.Array, types.Map:
		for k := range r.IntN(4) {
			if t.Kind == types.Map {
				v.Row = append(v.Row, types.Value{Kind: types.Varchar, S: fmt.Sprint("k", k)})
			}
			v.Row = append(v.Row, randomValue(r, t.Elem(), true))
		}
	}
	return v
}

// TestSchemasRoundTrip writes rows of all types as Avro and Protobuf and reads them back, all columns and some of them; what is written is also read by the
// libraries of the formats, which say the same.
func TestSchemasRoundTrip(t *testing.T) {
	fields := columnsOf(t, allColumns)
	r := rand.New(rand.NewPCG(7, 7))
	for _, f := range []string{"avro", "protobuf"} {
		o := option("format", f)
		enc, err := testEncoder(o, fields)
		if err != nil {
			t.Fatal(err)
		}
		schema, err := DeclaredSchema(o, fields)
		if err != nil {
			t.Fatal(err)
		}
		told, err := ColumnsOf(schema, o)
		if err != nil {
			t.Fatal(err)
		}
		for i, c := range told {
			is, was := c.Type.String(), fields[i].Type.String()
			if f == "avro" && slices.Contains([]string{"len", "doc"}, c.Name) { // Avro has no such types
				was = "VARCHAR"
			}
			if f == "protobuf" && slices.Contains([]string{"d", "h", "len", "price", "doc"}, c.Name) {
				was = "VARCHAR"
			}
			if is != was {
				t.Errorf("%s: the schema tells %s as %s, and it was %s", f, c.Name, is, was)
			}
		}
		st := &plan.Stream{Name: "s", Time: -1, Columns: fields, Options: o}
		all, err := testDecoder(st, &plan.Use{All: true}, nil)
		if err != nil {
			t.Fatal(err)
		}
		show := NewJSONEncoder(fields)
		read := libraryOf(t, f, schema)
		for range 60 {
			const n = 20
			b := &column.Batch{N: n}
			for _, f := range fields {
				v := column.New(f.Type)
				for range n {
					v.Append(randomValue(r, f.Type, false))
				}
				b.Cols = append(b.Cols, v)
			}
			var msgs [][]byte
			var want []string
			for i := range n {
				msgs = append(msgs, enc.Append(nil, b, i))
				want = append(want, string(show.Append(nil, b, i)))
				library(t, read, msgs[i], b, fields, i)
			}
			if f == "protobuf" { // lists that are not there are empty
				for i := range want {
					for _, empty := range []string{"tags", "laps", "splits"} {
						want[i] = strings.ReplaceAll(want[i], `"`+empty+`":null`, `"`+empty+`":[]`)
					}
					want[i] = strings.ReplaceAll(want[i], `"by_mat":null`, `"by_mat":{}`)
				}
			}
			got, rejects := rowsOf(t, all, fields, msgs...)
			if rejects != nil {
				t.Fatalf("%s: %v", f, rejects)
			}
			for i := range n {
				if got[i] != want[i] {
					t.Fatalf("%s: row %d is read as\n%s\nand was\n%s", f, i, got[i], want[i])
				}
			}
			// Of some columns, and of one field of a ROW.
			use := &plan.Use{Kids: map[int]*plan.Use{4: {All: true}, 12: {Kids: map[int]*plan.Use{1: {All: true}}}}}
			some, err := testDecoder(st, use, nil)
			if err != nil {
				t.Fatal(err)
			}
			var part column.Batch
			var data []byte
			var ms []flow.Message
			for i, m := range msgs {
				ms = append(ms, flow.Message{Off: uint32(len(data)), Len: uint32(len(m)), Pos: int64(i)})
				data = append(data, m...)
			}
			if bad := some.Decode(slices.Grow(data, flow.Pad), ms, &part); bad != nil {
				t.Fatal(bad)
			}
			for i := range n {
				if got, want := part.Cols[4].Value(i), b.Cols[4].Value(i); fmt.Sprint(got) != fmt.Sprint(want) {
					t.Fatalf("%s: %v for %v", f, got, want)
				}
				if !b.Cols[12].Null(i) && fmt.Sprint(part.Cols[12].Kids[1].Value(i)) != fmt.Sprint(b.Cols[12].Kids[1].Value(i)) {
					t.Fatalf("%s: %v for %v", f, part.Cols[12].Kids[1].Value(i), b.Cols[12].Kids[1].Value(i))
				}
			}
		}
	}
}

// libraryOf reads messages with the format's own library, and gives what it says of some columns.
func libraryOf(t *testing.T, f string, s *Schema) func(msg []byte) map[string]any {
	t.Helper()
	if f == "avro" {
		schema := avro.MustParse(s.Text)
		return func(msg []byte) map[string]any {
			var m map[string]any
			if rest, err := schema.Decode(msg, &m); err != nil || len(rest) > 0 {
				t.Fatalf("%v, %d bytes are left", err, len(rest))
			}
			out := map[string]any{"n": m["n"], "s": m["s"]}
			if x, ok := m["at"].(time.Time); ok {
				out["at"] = x.UnixMicro()
			}
			if x, ok := m["price"].(*big.Rat); ok {
				out["price"] = x.FloatString(4)
			}
			return out
		}
	}
	p, err := protoFormat{}.program(s)
	if err != nil {
		t.Fatal(err)
	}
	return func(msg []byte) map[string]any {
		m := dynamicpb.NewMessage(p.(*protoProgram).message)
		if err := proto.Unmarshal(msg, m); err != nil {
			t.Fatal(err)
		}
		out := map[string]any{}
		for _, name := range []string{"n", "s", "price", "at"} {
			d := m.Descriptor().Fields().ByName(protoreflect.Name(name))
			if !m.Has(d) {
				continue
			}
			out[name] = m.Get(d).Interface()
			if x, ok := out[name].(protoreflect.Message); ok {
				fs := x.Descriptor().Fields()
				out[name] = x.Get(fs.ByName("seconds")).Int()*1e6 + x.Get(fs.ByName("nanos")).Int()/1000
			}
		}
		return out
	}
}

// library compares what a library says of a message with the row.
func library(t *testing.T, read func(msg []byte) map[string]any, msg []byte, b *column.Batch, fields []types.Field, row int) {
	t.Helper()
	for name, got := range map[string]any{"n": nil, "s": nil, "at": nil, "price": nil} {
		x := b.Cols[slices.IndexFunc(fields, func(f types.Field) bool { return f.Name == name })].Value(row)
		var want any
		if !x.IsNull() {
			want = string(types.AppendText(nil, x))
			if name == "at" {
				want = x.I
			}
		}
		if got = read(msg)[name]; fmt.Sprint(got) != fmt.Sprint(want) {
			t.Fatalf("the library reads %s as %v, and it was %v", name, got, want)
		}
	}
}

// schemas is a registry in a test.
type schemas struct {
	list []*Schema
	away bool
}

func (s *schemas) Name() string { return "schemas" }

func (s *schemas) ByID(id int) (*Schema, error) {
	if s.away {
		return nil, fmt.Errorf("the registry is away")
	}
	if id < 1 || id > len(s.list) {
		return nil, &UnknownSchema{"schemas", id}
	}
	return s.list[id-1], nil
}

func (s *schemas) Latest(string) (*Schema, error) {
	if len(s.list) == 0 {
		return nil, nil
	}
	return s.list[len(s.list)-1], nil
}

func (s *schemas) Fits(string, *Schema) error { return nil }

func (s *schemas) Add(_ string, n *Schema) (int, error) {
	s.list = append(s.list, n)
	return len(s.list), nil
}

// TestSchemasOfOthers reads messages of older and newer schemas, in one piece, as other programs write them.
func TestSchemasOfOthers(t *testing.T) {
	texts := []string{
		`{"type":"record","name":"read","namespace":"timing","fields":[{"name":"chip","type":"string"},{"name":"rssi","type":"float"},{"name":"read_at","type":{"type":"long","logicalType":"timestamp-millis"}}]}`,
		`{"type":"record","name":"read","namespace":"timing","fields":[
			{"name":"read_at","type":{"type":"long","logicalType":"timestamp-micros"}},
			{"name":"side","type":{"type":"enum","name":"side","symbols":["left","right"]}},
			{"name":"more","type":["null",{"type":"map","values":["null","long","string",{"type":"array","items":"timing.side"}]}]},
			{"name":"chip","type":["null","string"],"default":null},
			{"name":"tree","type":{"type":"record","name":"node","fields":[{"name":"n","type":"int"},{"name":"kids","type":{"type":"array","items":"node"}}]}},
			{"name":"rssi","type":["null","double","int"]}]}`,
		`{"type":"record","name":"read","fields":[{"name":"chip","type":{"type":"bytes","logicalType":"decimal","precision":4,"scale":1}}]}`,
		`"string"`,
	}
	reg := &schemas{}
	for _, x := range texts {
		reg.list = append(reg.list, &Schema{Format: "avro", Text: x})
	}
	reg.list = append(reg.list, &Schema{Format: "json", Text: `{"type":"object"}`})
	fields := columnsOf(t, "chip VARCHAR NOT NULL, side VARCHAR, rssi DOUBLE, read_at TIMESTAMP, tree JSON, more JSON")
	st := &plan.Stream{Name: "s", Time: -1, Columns: fields, Options: option("format", "avro")}
	reading := &Reading{Stream: st, Used: &plan.Use{All: true}, Schemas: reg}
	dec, err := reading.NewDecoder(nil)
	if err != nil {
		t.Fatal(err)
	}
	write := func(id int, v any) []byte {
		b, err := avro.MustParse(texts[id-1]).AppendEncode(appendFrame(nil, id), v)
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	at := time.Date(2026, 5, 17, 9, 0, 0, 123456000, time.UTC)
	one := write(1, map[string]any{"chip": "C1", "rssi": float32(-60.5), "read_at": at})
	node := map[string]any{"n": int32(1), "kids": []any{map[string]any{"n": int32(2), "kids": []any{}}}}
	two := write(2, map[string]any{"chip": "C2", "rssi": int32(-7), "read_at": at, "side": "right", "tree": node,
		"more": map[string]any{"a": int64(5)}})
	three := write(2, map[string]any{"chip": nil, "rssi": nil, "read_at": at, "side": "left", "tree": node, "more": nil})
	msgs := [][]byte{one, two, one, three, write(3, map[string]any{"chip": big.NewRat(7, 2)}), appendFrame(nil, 99), []byte("x"), one[:len(one)-3],
		append(slices.Clone(one), 7), appendFrame(nil, 4), appendFrame(nil, 5), two}
	if err := dec.(flow.Preparing).Prepare(joined(msgs)); err != nil {
		t.Fatal(err)
	}
	reg.away = true // what was prepared is known
	rows, rejects := rowsOf(t, dec, fields, msgs...)
	first := `{"chip":"C1","side":null,"rssi":-60.5,"read_at":"2026-05-17T09:00:00.123Z","tree":null,"more":null}`
	second := `{"chip":"C2","side":"right","rssi":null,"read_at":"2026-05-17T09:00:00.123456Z","tree":{"n":1,"kids":[{"n":2,"kids":[]}]},"more":{"a":5}}`
	second = strings.Replace(second, `"rssi":null`, `"rssi":-7.0`, 1)
	want := []string{first, second, first, second}
	for i := range want {
		if i >= len(rows) || strings.Replace(rows[i], "-7,", "-7.0,", 1) != want[i] {
			t.Fatalf("%d:\n%s\nwanted\n%s\n%v", i, strings.Join(rows, "\n"), want[i], rejects)
		}
	}
	for i, text := range []string{"3: chip is NULL or missing", "4: the schema 3 that the message names does not fit: the column chip is VARCHAR", "5: the schema 99 that the message names is not in the registry schemas",
		"6: the message names no schema", "7: ", "8: the message has 1 bytes behind", "9: the schema 4 that the message names cannot be used: the schema is one of string", "10: the schema 5 that the message names is one of json"} {
		if i >= len(rejects) || !strings.HasPrefix(rejects[i], text) {
			t.Errorf("rejects: %q, wanted %q", rejects, text)
		}
	}
	// A schema that cannot be got now is no bad message.
	fresh, err := (&Reading{Stream: st, Used: &plan.Use{All: true}, Schemas: reg}).NewDecoder(nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := fresh.(flow.Preparing).Prepare(joined(msgs)); err == nil || !strings.Contains(err.Error(), "away") {
		t.Errorf("%v", err)
	}
	reg.away = false
	if err := fresh.(flow.Preparing).Prepare(joined(msgs)); err != nil {
		t.Error(err)
	}
	// Columns that the schema tells.
	told, err := ColumnsOf(reg.list[1], st.Options)
	if err != nil {
		t.Fatal(err)
	}
	var list []string
	for _, c := range told {
		list = append(list, c.Name+" "+c.Type.String())
	}
	if got := strings.Join(list, ", "); got != "read_at TIMESTAMP, side VARCHAR, more MAP(VARCHAR, JSON), chip VARCHAR, tree ROW(n INT, kids ARRAY(JSON)), rssi JSON" {
		t.Error(got)
	}
}

func joined(msgs [][]byte) (data []byte, ms []flow.Message) {
	for i, m := range msgs {
		ms = append(ms, flow.Message{Off: uint32(len(data)), Len: uint32(len(m)), Pos: int64(i)})
		data = append(data, m...)
	}
	return slices.Grow(data, flow.Pad), ms
}

// TestProtobufOfOthers reads what proto3 lets others write: packed numbers and single ones, fields that are not known, enums without a name, fields twice,
// messages in messages that have themselves in them; and which of the schema's messages it is.
func TestProtobufOfOthers(t *testing.T) {
	const text = `syntax = "proto3"; package timing;
		message Other { string a = 1; }
		message Read { message In { string chip = 1; } string chip = 1; repeated int32 near = 2; Side side = 3; optional int64 n = 4; Node tree = 5; uint64 big = 6; map<string, double> by = 7; oneof of { string word = 8; bool flag = 9; } }
		message Node { int32 n = 1; repeated Node kids = 2; }
		enum Side { LEFT = 0; RIGHT = 1; }`
	fields := columnsOf(t, "chip VARCHAR, near ARRAY(INT), side VARCHAR, n BIGINT, tree JSON, big DECIMAL(20, 0), \"by\" MAP(VARCHAR, DOUBLE), word VARCHAR, flag BOOLEAN")
	st := &plan.Stream{Name: "s", Time: -1, Columns: fields, Options: option("format", "protobuf", "schema", text, "message", "Read")}
	dec, err := testDecoder(st, &plan.Use{All: true}, nil)
	if err != nil {
		t.Fatal(err)
	}
	tag := func(n, wire int) byte { return byte(n<<3 | wire) }
	msgs := [][]byte{
		{},
		{tag(1, 2), 1, 'a', tag(1, 2), 2, 'C', '1', tag(2, 2), 3, 1, 2, 3, tag(2, 0), 4, tag(3, 0), 1, tag(4, 0), 0, 0xfa, 0x01, 0, tag(9, 0), 1},
		{tag(3, 0), 9, tag(5, 2), 6, tag(1, 0), 1, tag(2, 2), 2, tag(1, 0), 5, tag(6, 0), 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 1,
			tag(7, 2), 3, tag(1, 2), 1, 'k', tag(7, 2), 12, tag(1, 2), 1, 'k', tag(2, 1), 0, 0, 0, 0, 0, 0, 0xf8, 0x3f, tag(7, 2), 3, tag(1, 2), 1, 'm'},
		{tag(1, 0), 5},
		{tag(1, 2), 9, 'x'},
		{tag(1, 2), 1, 0xff},
		{0},
	}
	rows, rejects := rowsOf(t, dec, fields, msgs...)
	want := []string{
		`{"chip":"","near":[],"side":"LEFT","n":null,"tree":null,"big":0,"by":{},"word":null,"flag":null}`,
		`{"chip":"C1","near":[1,2,3,4],"side":"RIGHT","n":0,"tree":null,"big":0,"by":{},"word":null,"flag":true}`,
		`{"chip":"","near":[],"side":"9","n":null,"tree":{"n":1,"kids":[{"n":5,"kids":[]}]},"big":18446744073709551615,"by":{"k":1.5,"m":0},"word":null,"flag":null}`,
	}
	for i := range want {
		if i >= len(rows) || rows[i] != want[i] {
			t.Errorf("%s\nwanted\n%s\n%v", rows, want[i], rejects)
		}
	}
	if len(rows) != 3 || len(rejects) != 4 {
		t.Errorf("%q %q", rows, rejects)
	}
	reg := &schemas{list: []*Schema{{Format: "protobuf", Text: text}}}
	st = &plan.Stream{Name: "s", Time: -1, Columns: fields[:1], Options: option("format", "protobuf")}
	named, err := (&Reading{Stream: st, Used: &plan.Use{All: true}, Schemas: reg}).NewDecoder(nil)
	if err != nil {
		t.Fatal(err)
	}
	rows, rejects = rowsOf(t, named, fields[:1],
		append(appendFrame(nil, 1), 2, 2, tag(1, 2), 2, 'C', '7'),    // of one step: the second message
		append(appendFrame(nil, 1), 4, 2, 0, tag(1, 2), 2, 'C', '8'), // the first in the second
		append(appendFrame(nil, 1), 0, tag(1, 2), 2, 'C', '9'),       // the first, which has no such field
		append(appendFrame(nil, 1), 2, 40))
	if strings.Join(rows, " ") != `{"chip":"C7"} {"chip":"C8"} {"chip":null}` || len(rejects) != 1 || !strings.Contains(rejects[0], "does not have") {
		t.Errorf("%q %q", rows, rejects)
	}
}

// TestSchemasHostile decodes damaged messages: none ends the program, takes much memory, or makes a row out of nothing.
func TestSchemasHostile(t *testing.T) {
	fields := columnsOf(t, allColumns)
	r := rand.New(rand.NewPCG(3, 3))
	for _, f := range []string{"avro", "protobuf"} {
		o := option("format", f)
		enc, err := testEncoder(o, fields)
		if err != nil {
			t.Fatal(err)
		}
		dec, err := testDecoder(&plan.Stream{Name: "s", Time: -1, Columns: fields, Options: o}, &plan.Use{All: true}, nil)
		if err != nil {
			t.Fatal(err)
		}
		b := &column.Batch{N: 1}
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		for range 3000 {
			b.Cols = b.Cols[:0]
			for _, f := range fields {
				v := column.New(f.Type)
				v.Append(randomValue(r, f.Type, false))
				b.Cols = append(b.Cols, v)
			}
			m := enc.Append(nil, b, 0)
			for range 1 + r.IntN(4) {
				switch at := r.IntN(len(m) + 1); r.IntN(3) {
				case 0:
					m = m[:at]
				case 1:
					if at < len(m) {
						m[at] ^= byte(1 + r.IntN(255))
					}
				default:
					m = slices.Insert(m, at, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x01)
				}
			}
			rows, rejects := rowsOf(t, dec, fields, m)
			if len(rows)+len(rejects) != 1 {
				t.Fatalf("%d rows, %d rejects of one message", len(rows), len(rejects))
			}
		}
		runtime.ReadMemStats(&after)
		if used := after.TotalAlloc - before.TotalAlloc; used > 1<<30 {
			t.Errorf("%s: %d MB were taken for damaged messages", f, used>>20)
		}
	}
	// A long array of nothing, and schemas in schemas without end.
	nothing := option("format", "avro", "schema", `{"type":"record","name":"r","fields":[{"name":"x","type":{"type":"array","items":"null"}},{"name":"y","type":["null","r"]}]}`)
	some := columnsOf(t, "z INT, y JSON")
	dec, err := testDecoder(&plan.Stream{Name: "s", Time: -1, Columns: some, Options: nothing}, &plan.Use{All: true}, nil)
	if err != nil {
		t.Fatal(err)
	}
	deep := []byte{}
	for range 100000 {
		deep = append(deep, 0, 2)
	}
	for _, m := range [][]byte{{0xfe, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x01, 0, 0}, deep} {
		if rows, _ := rowsOf(t, dec, some, m); rows != nil {
			t.Errorf("%s", rows)
		}
	}
}

// TestSchemasRefused: what does not go together is said before anything runs.
func TestSchemasRefused(t *testing.T) {
	for _, c := range []struct {
		options plan.Options
		columns string
		want    string
	}{
		{option("format", "avro", "schema", "{"), "a INT", "cannot be read"},
		{option("format", "avro", "schema", `"int"`), "a INT", "rows are records"},
		{option("format", "avro", "schema", `{"type":"record","name":"r","fields":[{"name":"a","type":"long"}]}`), "a TIMESTAMP", "the column a is TIMESTAMP, and the schema's field is long"},
		{option("format", "avro", "schema", `{"type":"record","name":"r","fields":[{"name":"a","type":["string","int"]}]}`), "a ARRAY(INT)", "the column a is ARRAY(INT)"},
		{option("format", "avro"), "\"a-b\" INT", "give it another name"},
		{option("format", "avro"), "a MAP(BIGINT, INT)", "the keys of a MAP are texts in Avro"},
		{option("format", "protobuf", "schema", "message {"), "a INT", "cannot be read"},
		{option("format", "protobuf", "schema", `syntax = "proto3"; message A { string a = 1; }`, "message", "B"), "a INT", "has no message"},
		{option("format", "protobuf", "schema", `syntax = "proto3"; message A { repeated string a = 1; }`), "a INT", "the schema's field is ARRAY(VARCHAR)"},
		{option("format", "protobuf"), "a ARRAY(ARRAY(INT))", "in another one"},
	} {
		st := &plan.Stream{Name: "s", Time: -1, Columns: columnsOf(t, c.columns), Options: c.options}
		if _, err := testDecoder(st, &plan.Use{All: true}, nil); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v: %v", c, err)
		}
	}
}

// BenchmarkSchemas reads the reads of the demo in each format: four of its columns, all of them, or two.
func BenchmarkSchemas(b *testing.B) {
	fields := columnsOf(b, "chip VARCHAR, mat VARCHAR, read_at TIMESTAMP, rssi DOUBLE, antenna INT, edition INT")
	const n = 4096
	batch := &column.Batch{N: n}
	for _, f := range fields {
		v := column.New(f.Type)
		for i := range n {
			x := types.Value{Kind: f.Type.Kind, I: int64(i % 7), F: -60 - float64(i%40)/4, S: fmt.Sprintf("C%05d", i*7919%10000)}
			if f.Type.Kind == types.Timestamp {
				x.I = 1779012000000000 + int64(i)*12345
			}
			v.Append(x)
		}
		batch.Cols = append(batch.Cols, v)
	}
	for _, f := range []string{"json", "avro", "protobuf"} {
		enc, err := testEncoder(option("format", f), fields)
		if err != nil {
			b.Fatal(err)
		}
		var data []byte
		var ms []flow.Message
		for i := range n {
			from := len(data)
			data = enc.Append(data, batch, i)
			ms = append(ms, flow.Message{Off: uint32(from), Len: uint32(len(data) - from), Pos: int64(i)})
		}
		data = slices.Grow(data, flow.Pad)
		for name, use := range map[string]*plan.Use{"all": {All: true}, "two": {Kids: map[int]*plan.Use{0: {All: true}, 3: {All: true}}}} {
			b.Run(f+"/"+name, func(b *testing.B) {
				dec, err := testDecoder(&plan.Stream{Name: "s", Time: 2, Columns: fields, Options: option("format", f)}, use, nil)
				if err != nil {
					b.Fatal(err)
				}
				if !use.All {
					dec, _ = testDecoder(&plan.Stream{Name: "s", Time: -1, Columns: fields, Options: option("format", f)}, use, nil)
				}
				var out column.Batch
				for b.Loop() {
					if bad := dec.Decode(data, ms, &out); len(bad) > 0 || out.N != n {
						b.Fatal(bad)
					}
				}
				b.ReportMetric(float64(n)*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mrows/s")
				b.ReportMetric(float64(len(data))/n, "bytes/row")
			})
		}
		b.Run(f+"/write", func(b *testing.B) {
			var buf []byte
			for b.Loop() {
				buf = buf[:0]
				for i := range n {
					buf = enc.Append(buf, batch, i)
				}
			}
			b.ReportMetric(float64(n)*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mrows/s")
		})
	}
}
