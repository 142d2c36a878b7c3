package container

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"fiume/internal/core/types"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/twmb/avro"
	"github.com/twmb/avro/ocf"
)

// TestOrder: the columns of files stand in the order of their schema, those of the rows in them, too.
func TestOrder(t *testing.T) {
	schema, err := avro.Parse(`{"type":"record","name":"read","fields":[
		{"name":"zone","type":"string"},
		{"name":"device","type":["null",{"type":"record","name":"device","fields":[{"name":"serial","type":"string"},{"name":"battery","type":"double"}]}]},
		{"name":"laps","type":{"type":"array","items":{"type":"record","name":"lap","fields":[{"name":"n","type":"int"},{"name":"at","type":"long"}]}}},
		{"name":"by_mat","type":{"type":"map","values":{"type":"record","name":"at_mat","fields":[{"name":"y","type":"int"},{"name":"x","type":"int"}]}}},
		{"name":"a","type":"int"}]}`)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	w, err := ocf.NewWriter(&b, schema)
	if err != nil {
		t.Fatal(err)
	}
	for _, device := range []any{map[string]any{"serial": "s", "battery": 0.5}, nil} {
		row := map[string]any{"zone": "z", "device": device, "laps": []any{map[string]any{"n": 1, "at": int64(2)}}, "by_mat": map[string]any{"m": map[string]any{"y": 1, "x": 2}}, "a": 7}
		if err := w.Encode(row); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	got, _, err := Messages("avro", b.Bytes(), false, 10)
	want := []string{
		`{"zone":"z","device":{"serial":"s","battery":0.5},"laps":[{"n":1,"at":2}],"by_mat":{"m":{"y":1,"x":2}},"a":7}`,
		`{"zone":"z","device":null,"laps":[{"n":1,"at":2}],"by_mat":{"m":{"y":1,"x":2}},"a":7}`,
	}
	if err != nil || len(got) != 2 || string(got[0]) != want[0] || string(got[1]) != want[1] {
		t.Errorf("%s, %v", got, err)
	}

	fields := []types.Field{{Name: "z", Type: types.Type{Kind: types.Varchar}}, {Name: "m", Type: types.Type{Kind: types.BigInt}}, {Name: "a", Type: types.Type{Kind: types.Boolean}}}
	data, err := WriteParquet(fields, []json.RawMessage{[]byte(`{"a":true,"m":9007199254740993,"z":"<&>"}`)})
	if err != nil {
		t.Fatal(err)
	}
	got, _, err = Messages("parquet", data, false, 10)
	if err != nil || len(got) != 1 || !strings.HasPrefix(string(got[0]), `{"z":"`) || !strings.HasSuffix(string(got[0]), `,"m":9007199254740993,"a":true}`) {
		t.Errorf("%s, %v", got, err)
	}
	s := arrowShape(nil)
	if got, err := s.reordered([]byte(`{"b":1,"a":{"d":[1,2],"c":null}}`)); err != nil || string(got) != `{"a":{"c":null,"d":[1,2]},"b":1}` {
		t.Errorf("%s, %v", got, err)
	}
	if _, err := s.reordered([]byte(`{`)); err == nil {
		t.Error("half a row is written anew")
	}
}

// TestFormats: a file is what its name and its first bytes say, a broken one too, and packed or not.
func TestFormats(t *testing.T) {
	for name, want := range map[string]string{"x.avro": "avro", "x.parquet": "parquet", "X.AVRO.gz": "avro", "x.csv.zst": "csv", "x.json.gz": "json", "x": "json", "x.tsv": "csv"} {
		if got := FormatOf(name, []byte(`{"a":1}`)); got != want {
			t.Errorf("%s is taken for %s", name, got)
		}
	}
	for _, f := range []string{"avro", "parquet"} {
		if _, _, err := Messages(f, []byte("no such file\n"), false, 10); err == nil || !strings.Contains(err.Error(), "cannot be read") {
			t.Errorf("%s: %v", f, err)
		}
	}
	for text, want := range map[string]rune{"a,b\n1,2\n": ',', "a;b\n1,5;2\n": ';', "a\tb\n\"1\t2\"\t3\n": '\t', "a|b|c\n1|2|3\n": '|', "a\n1\n2\n": ',', "": ',', "a,b;c\n1,2;3\n": ',', "\ufeffa;b\n\"x\ny\";2\n": ';', "a;b\n1;2;3\n": ',', `"open` + "\n": ','} {
		if got := Delimiter([]byte(text)); got != want {
			t.Errorf("%q has %q between its fields", text, got)
		}
	}
}

// TestPacked unpacks no more than it is told to, and says what is broken.
func TestPacked(t *testing.T) {
	text := strings.Repeat("a line of text\n", 1000)
	var g, z bytes.Buffer
	gw := gzip.NewWriter(&g)
	zw, err := zstd.NewWriter(&z)
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range []interface {
		Write([]byte) (int, error)
		Close() error
	}{gw, zw} {
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
	}
	for packed, data := range map[string][]byte{"gzip": g.Bytes(), "zstd": z.Bytes(), "": []byte(text)} {
		out, by, err := Unpacked(data, 1<<20)
		if err != nil || by != packed || string(out) != text {
			t.Errorf("%s: %d bytes packed with %s, %v", packed, len(out), by, err)
		}
		if packed == "" {
			continue
		}
		if out, _, err := Unpacked(data, 100); err != nil || len(out) != 90 {
			t.Errorf("%s: %d bytes, %v", packed, len(out), err)
		}
		if _, by, err := Unpacked(data[:len(data)/2], 1<<20); err == nil || by != packed || !strings.Contains(err.Error(), "packed with "+packed) {
			t.Errorf("%s: half of it is read: %v", packed, err)
		}
	}
}
