package format

import (
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// splitAll gives the fields of a record as text.
func splitAll(rec string) ([]string, string) {
	fields, _, bad := SplitCSV([]byte(rec), nil, nil)
	var out []string
	for _, f := range fields {
		out = append(out, string(f.text))
	}
	return out, bad
}

// TestCSVRecords compares the cutting of records with the standard library's.
func TestCSVRecords(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 50000 {
		var b strings.Builder
		for range r.IntN(12) {
			b.WriteString([]string{"a", ",", `"`, `""`, " ", "ß", "\n", `","`}[r.IntN(8)])
		}
		rec := b.String()
		if strings.TrimSpace(rec) == "" || strings.HasPrefix(rec, "\n") || strings.HasSuffix(rec, "\n") {
			continue
		}
		several := false // a newline outside quotes ends a record
		for i := range rec {
			several = several || rec[i] == '\n' && strings.Count(rec[:i], `"`)%2 == 0
		}
		if several {
			continue
		}
		cr := csv.NewReader(strings.NewReader(rec))
		want, err := cr.Read()
		_, more := cr.Read()
		got, bad := splitAll(rec)
		if more == nil {
			continue
		}
		if (err == nil) != (bad == "") {
			t.Fatalf("%q: %q %q, the standard library: %q %v", rec, got, bad, want, err)
		}
		if err == nil && !slices.Equal(got, want) {
			t.Fatalf("%q: %q, wanted %q", rec, got, want)
		}
	}
}

// TestCSVRoundTrip writes rows and reads them back: NULL and ” stay apart.
func TestCSVRoundTrip(t *testing.T) {
	fields := []types.Field{{Name: "s", Type: types.Of(types.Varchar)}, {Name: "n", Type: types.Of(types.BigInt)}, {Name: "x", Type: types.Of(types.Double)},
		{Name: "b", Type: types.Of(types.Boolean)}, {Name: "t", Type: types.Of(types.Timestamp)}, {Name: "d", Type: types.Of(types.Date)}}
	stream := &plan.Stream{Name: "s", Time: -1, Columns: fields}
	enc, err := NewEncoder("csv", fields)
	if err != nil {
		t.Fatal(err)
	}
	if string(enc.Header()) != "s,n,x,b,t,d\n" {
		t.Errorf("%s", enc.Header())
	}
	r := rand.New(rand.NewPCG(2, 2))
	for range 300 {
		const n = 5
		b := &column.Batch{N: n}
		for _, f := range fields {
			v := column.New(f.Type)
			v.Resize(n)
			for i := range n {
				x := types.Value{Kind: f.Type.Kind, I: r.Int64N(1e15), F: float64(r.IntN(1000)) / 8, S: []string{"", "a", "a,b", `q"q`, "l\nl", " sp ", "größe"}[r.IntN(7)]}
				switch {
				case r.IntN(4) == 0:
					x = types.Value{}
				case f.Type.Kind == types.Boolean:
					x.I %= 2
				case f.Type.Kind == types.Date:
					x.I %= 40000
				}
				v.Set(i, n, x)
			}
			b.Cols = append(b.Cols, v)
		}
		var data []byte
		var msgs []flow.Message
		for i := range n {
			from := len(data)
			data = enc.Append(data, b, i)
			msgs = append(msgs, flow.Message{Off: uint32(from), Len: uint32(len(data) - from)})
		}
		d, err := NewDecoder("csv", stream, &plan.Use{All: true}, nil)
		if err != nil {
			t.Fatal(err)
		}
		back := &column.Batch{}
		if rejects := d.Decode(data, msgs, back); len(rejects) > 0 {
			t.Fatalf("%s: %v", data, rejects)
		}
		for c := range fields {
			for i := range n {
				if got, want := fmt.Sprint(back.Cols[c].Value(i)), fmt.Sprint(b.Cols[c].Value(i)); got != want {
					t.Fatalf("%s: column %s, row %d: %s, wanted %s", data, fields[c].Name, i, got, want)
				}
			}
		}
	}
}

func TestCSVHeader(t *testing.T) {
	names, err := HeaderOf([]byte("\xef\xbb\xbf\"chip\", bib ,name"))
	if err != nil || strings.Join(names, "|") != "chip|bib|name" {
		t.Errorf("%q %v", names, err)
	}
	if _, err := HeaderOf([]byte(`"open`)); err == nil {
		t.Error("a header with an open quote is read")
	}
	row := &plan.Stream{Name: "s", Time: -1, Columns: []types.Field{{Name: "r", Type: types.Type{Kind: types.Row, Fields: []types.Field{{Name: "a", Type: types.Of(types.Int)}}}}}}
	if _, err := NewDecoder("csv", row, &plan.Use{All: true}, nil); err == nil || !strings.Contains(err.Error(), "ROW") {
		t.Errorf("CSV holds a ROW: %v", err)
	}
}
