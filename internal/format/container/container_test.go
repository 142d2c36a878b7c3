package container

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"fiume/internal/core/types"
)

// TestFilesOfRows writes generated rows as CSV and reads them again.
func TestFilesOfRows(t *testing.T) {
	fields := []types.Field{{Name: "chip", Type: types.Type{Kind: types.Varchar}}, {Name: "n", Type: types.Type{Kind: types.BigInt}},
		{Name: "rssi", Type: types.Type{Kind: types.Double}}, {Name: "at", Type: types.Type{Kind: types.Timestamp}}, {Name: "ok", Type: types.Type{Kind: types.Boolean}}}
	var names []string
	for _, f := range fields {
		names = append(names, f.Name)
	}
	r := rand.New(rand.NewPCG(3, 4))
	texts := []string{"P1", "", "größe 🏃", `a "quoted", one`, "two\nlines", " blank ", "0", "null"}
	var rows []json.RawMessage
	var want []map[string]any
	for i := range 500 {
		row := map[string]any{"chip": texts[r.IntN(len(texts))], "n": r.Int64N(1 << 50), "rssi": float64(r.IntN(1000)) / 8, "at": fmt.Sprintf("2026-05-17T09:%02d:%02d.%03dZ", i/60%60, i%60, r.IntN(1000)), "ok": r.IntN(2) == 0}
		for _, n := range names {
			if r.IntN(8) == 0 {
				row[n] = nil
			}
		}
		b, err := json.Marshal(row)
		if err != nil {
			t.Fatal(err)
		}
		rows = append(rows, b)
		var again map[string]any
		if err := json.Unmarshal(b, &again); err != nil {
			t.Fatal(err)
		}
		want = append(want, again)
	}
	data, err := WriteCSV(names, rows)
	if err != nil {
		t.Fatal(err)
	}
	records, header, err := Messages("csv", data, true, 1000)
	if err != nil || !reflect.DeepEqual(header, names) || len(records) != len(rows) {
		t.Fatalf("%d records, %v, %v", len(records), header, err)
	}
	for i, rec := range records {
		cells, err := CSVFields(rec)
		if err != nil || len(cells) != len(names) {
			t.Fatalf("record %d %q: %v", i, rec, err)
		}
		if chip, _ := want[i]["chip"].(string); cells[0] != chip {
			t.Errorf("record %d: %q, wanted %q", i, cells[0], chip)
		}
	}
}

// TestFormatOf guesses formats, and what is no file of a format is refused with a reason.
func TestFormatOf(t *testing.T) {
	for _, c := range [][3]string{{"a.ndjson", "{}", "json"}, {"a", " [1]", "json"}, {"a.csv", "{", "csv"}, {"a.log", "a, b", "text"}, {"a", "a,b\n", "csv"}, {"a", "a b\n", "text"}, {"a", "Obj\x01", "avro"}} {
		if f := FormatOf(c[0], []byte(c[1])); f != c[2] {
			t.Errorf("%q: %s", c, f)
		}
	}
	for format, data := range map[string]string{"json": `{"a":1}{"b"`, "avro": "Obj\x01\x00", "parquet": "PAR1PAR1", "csv": "a,b\n\"x"} {
		if _, _, err := Messages(format, []byte(data), true, 10); err == nil || strings.Contains(err.Error(), "panic") {
			t.Errorf("%s: %v", format, err)
		}
	}
	if ms, _, err := Messages("json", []byte(`[{"a":1},{"a":2},{"a":3}]`), false, 2); err != nil || len(ms) != 2 {
		t.Errorf("%d messages, %v", len(ms), err)
	}
}
