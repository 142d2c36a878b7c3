package format

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

var csvOption = plan.Options{"format": {Name: "format", Word: "csv"}}

// splitAll gives the fields of a record as text.
func splitAll(rec string) ([]string, string) {
	fields, _, bad := CSV{Delimiter: ',', Quote: '"'}.split([]byte(rec), nil, nil)
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
	stream := &plan.Stream{Name: "s", Time: -1, Columns: fields, Options: csvOption}
	enc, err := testEncoder(csvOption, fields)
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
		d, err := testDecoder(stream, &plan.Use{All: true}, nil)
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
	names, err := CSV{Delimiter: ',', Quote: '"'}.Header([]byte("\"chip\", bib ,name"))
	if err != nil || strings.Join(names, "|") != "chip|bib|name" {
		t.Errorf("%q %v", names, err)
	}
	if _, err := (CSV{Delimiter: ',', Quote: '"'}).Header([]byte(`"open`)); err == nil {
		t.Error("a header with an open quote is read")
	}
}

// TestCSVDialect reads and writes other marks, and words for NULL.
func TestCSVDialect(t *testing.T) {
	opts := func(delimiter, quote, null string) plan.Options {
		o := plan.Options{"format": {Name: "format", Word: "csv"}}
		for n, w := range map[string]string{"delimiter": delimiter, "quote": quote, "null word": null} {
			if w != "" {
				o[n] = sql.Option{Name: n, Word: w}
			}
		}
		return o
	}
	text := types.Of(types.Varchar)
	fields := []types.Field{{Name: "a", Type: text}, {Name: "n", Type: types.DecimalOf(5, 2)}, {Name: "xs", Type: types.ArrayOf(types.Of(types.Int))}}
	for in, want := range map[string]string{
		"x;1.50;[1,null]": `{"a":"x","n":1.50,"xs":[1,null]}`,
		"'it''s; so';NA;": `{"a":"it's; so","n":null,"xs":null}`,
		"NA;NA;NA":        `{"a":null,"n":null,"xs":null}`,
		"'NA';0;'[]'":     `{"a":"NA","n":0.00,"xs":[]}`,
		"x;1.505;":        `n: "1.505" is no DECIMAL(5, 2)`,
		"x;1000;":         `n: "1000" is no DECIMAL(5, 2)`,
		"x;1;[1,2":        "xs: the JSON is malformed",
		"x;1;{}":          "xs: {} is no ARRAY(INT)",
		"x;1":             "expected 3 fields, found 2",
		"x'y;1;":          "a quote stands inside a field that is not quoted",
		"\xff;1;":         `a: "\xff" is no VARCHAR`,
		"'x\ny';1;":       `{"a":"x\ny","n":1.00,"xs":null}`,
	} {
		s := &plan.Stream{Name: "s", Time: -1, Columns: fields, Options: opts(";", "'", "NA")}
		d, err := testDecoder(s, &plan.Use{All: true}, nil)
		if err != nil {
			t.Fatal(err)
		}
		var out column.Batch
		got := ""
		if rs := d.Decode([]byte(in), []flow.Message{{Len: uint32(len(in))}}, &out); len(rs) > 0 {
			got = rs[0].Reason
		} else {
			got = string(NewJSONEncoder(fields).Append(nil, &out, 0))
			enc, err := testEncoder(s.Options, fields)
			if err != nil {
				t.Fatal(err)
			}
			again := enc.Append(nil, &out, 0)
			var back column.Batch
			if rs := d.Decode(again, []flow.Message{{Len: uint32(len(again))}}, &back); len(rs) > 0 {
				t.Errorf("%q was written as %q: %v", in, again, rs)
			} else if b := string(NewJSONEncoder(fields).Append(nil, &back, 0)); b != got {
				t.Errorf("%q was written as %q, which is %s", in, again, b)
			}
		}
		if got != want {
			t.Errorf("%q: %s, wanted %s", in, got, want)
		}
	}
	for _, bad := range []plan.Options{opts(";;", "", ""), opts("", "ß", ""), opts("'", "'", "")} {
		if _, err := CSVOf(bad); err == nil {
			t.Errorf("%v is taken", bad)
		}
	}
	if c, err := CSVOf(opts(`\t`, "", "")); err != nil || c.Delimiter != '\t' {
		t.Error(c, err)
	}
}

// TestOpenQuote: a quote that is not closed makes one bad record and no more, however much follows.
func TestOpenQuote(t *testing.T) {
	c := CSV{Delimiter: ',', Quote: '"'}
	text := []byte("a,b\n\"open,b\n" + strings.Repeat("x,y\n", 600_000))
	ends := []int{}
	for from := 0; from < 30; {
		end, more := c.RecordEnd(text, from, false)
		if more {
			t.Fatalf("the record at %d has no end", from)
		}
		ends = append(ends, end)
		from = end
	}
	if ends[0] != 4 || ends[1] != 12 || ends[2] != 16 {
		t.Errorf("%v", ends)
	}
	if _, more := c.RecordEnd(text[:1000], 4, false); !more {
		t.Error("a record is ended before enough is seen")
	}
	if end, more := c.RecordEnd(text[:1000], 4, true); more || end != 12 {
		t.Error(end, more)
	}
}

// TestText: each message is the value of the one column.
func TestText(t *testing.T) {
	s := &plan.Stream{Name: "s", Time: -1, Columns: []types.Field{{Name: "line", Type: types.Of(types.Varchar)}}, Options: plan.Options{"format": {Name: "format", Word: "text"}}}
	d, err := testDecoder(s, &plan.Use{All: true}, nil)
	if err != nil {
		t.Fatal(err)
	}
	var out column.Batch
	data := []byte("all clear\xff{}")
	rs := d.Decode(data, []flow.Message{{Len: 9}, {Off: 9, Len: 1}, {Off: 10, Len: 2}}, &out)
	if len(rs) != 1 || rs[0].Message != 1 || out.N != 2 || string(out.Cols[0].Text(0)) != "all clear" || string(out.Cols[0].Text(1)) != "{}" {
		t.Errorf("%v %+v", rs, out)
	}
	s.Columns = append(s.Columns, s.Columns[0])
	if _, err := testDecoder(s, &plan.Use{All: true}, nil); err == nil {
		t.Error("text fills two columns")
	}
}

// FuzzCSV: what a dialect cuts is what the standard library cuts, where that reads it; and no text
// makes a decoder fail but with a reason.
func FuzzCSV(f *testing.F) {
	f.Add([]byte("a,1,x\n\"b\"\"\n\",2,\n"), byte(','))
	f.Add([]byte("\xef\xbb\xbfa;\";\";\n;;\n"), byte(';'))
	f.Add([]byte("a\t\"unclosed\nb\t2\n"), byte('\t'))
	fields := []types.Field{{Name: "s", Type: types.Of(types.Varchar)}, {Name: "n", Type: types.DecimalOf(9, 3)}, {Name: "b", Type: types.Of(types.Boolean)}, {Name: "t", Type: types.Of(types.Timestamp)},
		{Name: "m", Type: types.MapOf(types.Of(types.Varchar), types.Of(types.Double))}, {Name: "i", Type: types.Of(types.Interval)}, {Name: "v", Type: types.Of(types.Varbinary)}}
	f.Fuzz(func(t *testing.T, data []byte, delimiter byte) {
		if delimiter >= 0x80 || strings.ContainsRune("\"\n\r\x00", rune(delimiter)) {
			return
		}
		c := CSV{Delimiter: delimiter, Quote: '"'}
		opts := plan.Options{"format": {Name: "format", Word: "csv"}, "delimiter": {Name: "delimiter", Word: string(rune(delimiter))}}
		dec, err := testDecoder(&plan.Stream{Name: "s", Time: -1, Columns: fields, Options: opts}, &plan.Use{All: true}, nil)
		if err != nil {
			t.Fatal(err)
		}
		var msgs []flow.Message
		for from := 0; from < len(data); {
			end, more := c.RecordEnd(data, from, true)
			if more || end <= from || end > len(data) {
				t.Fatalf("the record at %d of %q ends at %d, %v", from, data, end, more)
			}
			rec := data[from:end]
			from = end
			rec = bytes.TrimSuffix(rec, []byte("\n"))
			msgs = append(msgs, flow.Message{Off: uint32(end - len(rec) - btoi(data[end-1] == '\n')), Len: uint32(len(rec))})
			if bytes.ContainsRune(rec, '\r') || len(rec) == 0 { // the library changes ends of lines and leaves out empty ones
				continue
			}
			cr := csv.NewReader(bytes.NewReader(rec))
			cr.Comma = rune(delimiter)
			want, err := cr.Read()
			if _, again := cr.Read(); again == nil || err == io.EOF {
				continue
			}
			got, _, bad := c.split(rec, nil, nil)
			if (err == nil) != (bad == "") {
				t.Fatalf("%q: %q, the standard library: %v", rec, bad, err)
			}
			if err == nil {
				for i, g := range got {
					if string(g.text) != want[i] {
						t.Fatalf("%q: field %d is %q, wanted %q", rec, i, g.text, want[i])
					}
				}
			}
		}
		var out column.Batch
		rejects := dec.Decode(data, msgs, &out)
		if out.N+len(rejects) != len(msgs) {
			t.Fatalf("%d rows and %d rejects of %d records", out.N, len(rejects), len(msgs))
		}
		// What was read is written and read again.
		enc, err := testEncoder(opts, fields)
		if err != nil {
			t.Fatal(err)
		}
		show := NewJSONEncoder(fields)
		for i := range out.N {
			text := enc.Append(nil, &out, i)
			want := string(show.Append(nil, &out, i))
			var back column.Batch
			again, _ := testDecoder(&plan.Stream{Name: "s", Time: -1, Columns: fields, Options: opts}, &plan.Use{All: true}, nil)
			if rs := again.Decode(text, []flow.Message{{Len: uint32(len(text))}}, &back); len(rs) > 0 {
				t.Fatalf("%s was written as %q: %v", want, text, rs)
			}
			if got := string(show.Append(nil, &back, 0)); got != want {
				t.Fatalf("%s was written as %q, which is %s", want, text, got)
			}
		}
	})
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}
