package format

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"math/big"
	"math/rand/v2"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

var testStream = &plan.Stream{Name: "reads", Time: -1, Columns: []types.Field{
	{Name: "chip", Type: types.Of(types.Varchar)}, {Name: "n", Type: types.Of(types.BigInt)}, {Name: "x", Type: types.Of(types.Double)},
	{Name: "ok", Type: types.Of(types.Boolean)},
	{Name: "device", Type: types.Type{Kind: types.Row, Fields: []types.Field{{Name: "serial", Type: types.Of(types.Varchar)}, {Name: "battery", Type: types.Of(types.Double)}}}},
}}

// decodeAll decodes messages that stand behind each other in one buffer.
func decodeAll(d flow.Decoder, msgs [][]byte) (*column.Batch, []flow.Reject) {
	buf, ms := layOut(msgs)
	b := &column.Batch{}
	return b, d.Decode(buf, ms, b)
}

// layOut puts messages behind each other.
func layOut(msgs [][]byte) ([]byte, []flow.Message) {
	var data []byte
	var ms []flow.Message
	for _, m := range msgs {
		ms = append(ms, flow.Message{Off: uint32(len(data)), Len: uint32(len(m))})
		data = append(append(data, m...), '\n')
	}
	buf := make([]byte, len(data), len(data)+flow.Pad)
	copy(buf, data)
	return buf, ms
}

// reference decodes a message with the standard library, and says what it is as a row or why it is none.
func reference(msg []byte) (string, bool) {
	if !json.Valid(msg) {
		return "", false
	}
	dec := json.NewDecoder(bytes.NewReader(msg))
	dec.UseNumber()
	var v any
	if dec.Decode(&v) != nil {
		return "", false
	}
	m, ok := v.(map[string]any)
	if !ok {
		return "", false
	}
	out := make([]string, 0, 6)
	text := func(v any) bool {
		switch s := v.(type) {
		case nil:
			out = append(out, "null")
		case string:
			b := types.AppendJSONString(nil, []byte(s))
			out = append(out, string(b))
		default:
			return false
		}
		return true
	}
	double := func(v any) bool {
		switch s := v.(type) {
		case nil:
			out = append(out, "null")
		case json.Number:
			x, err := strconv.ParseFloat(string(s), 64)
			if err != nil {
				return false
			}
			out = append(out, fmt.Sprintf("%x", math.Float64bits(x)))
		default:
			return false
		}
		return true
	}
	if !text(m["chip"]) {
		return "", false
	}
	switch s := m["n"].(type) {
	case nil:
		out = append(out, "null")
	case json.Number:
		i, err := strconv.ParseInt(string(s), 10, 64)
		if err != nil {
			x, good := new(big.Rat).SetString(string(s))
			if !good || !x.IsInt() || !x.Num().IsInt64() {
				return "", false
			}
			i = x.Num().Int64()
		}
		out = append(out, fmt.Sprint(i))
	default:
		return "", false
	}
	if !double(m["x"]) {
		return "", false
	}
	switch s := m["ok"].(type) {
	case nil:
		out = append(out, "null")
	case bool:
		out = append(out, fmt.Sprint(s))
	default:
		return "", false
	}
	switch s := m["device"].(type) {
	case nil:
		out = append(out, "null")
	case map[string]any:
		if !text(s["serial"]) || !double(s["battery"]) {
			return "", false
		}
	default:
		return "", false
	}
	return strings.Join(out, "|"), true
}

func rowText(b *column.Batch, i int) string {
	var out []string
	var add func(v *column.Vector)
	add = func(v *column.Vector) {
		x := v.Value(i)
		switch {
		case x.IsNull():
			out = append(out, "null")
		case x.Kind == types.Varchar:
			out = append(out, string(types.AppendJSONString(nil, []byte(x.S))))
		case x.Kind == types.Double:
			out = append(out, fmt.Sprintf("%x", math.Float64bits(x.F)))
		case x.Kind == types.Row:
			for _, k := range v.Kids {
				add(k)
			}
		default:
			out = append(out, string(types.AppendText(nil, x)))
		}
	}
	for _, c := range b.Cols {
		add(c)
	}
	return strings.Join(out, "|")
}

// compare holds a decoder against the standard library over a list of messages.
func compare(t *testing.T, d flow.Decoder, msgs [][]byte) {
	t.Helper()
	b, rejects := decodeAll(d, msgs)
	bad := map[int]string{}
	for _, r := range rejects {
		bad[r.Message] = r.Reason
	}
	row := 0
	for i, m := range msgs {
		want, ok := reference(m)
		if _, rejected := bad[i]; rejected == ok {
			t.Fatalf("message %d, %q: rejected %v (%s), the standard library takes it: %v", i, m, rejected, bad[i], ok)
		}
		if !ok {
			continue
		}
		if got := rowText(b, row); got != want {
			t.Fatalf("message %d, %q:\n%s, wanted\n%s", i, m, got, want)
		}
		row++
	}
	if row != b.N {
		t.Fatalf("%d rows, wanted %d", b.N, row)
	}
}

// usable says whether a message can be compared: text with bad UTF-8 is rejected where it is used,
// while the standard library mends it.
func usable(m []byte) bool {
	// Exponents of many digits are left out, since exact arithmetic would work on them for ever.
	return utf8.Valid(m) && !bytes.ContainsAny(m, "\n") && len(m) > 0 && !bytes.Contains(m, []byte(`\u`)) && !longExponent.Match(m)
}

var longExponent = regexp.MustCompile(`[eE][+-]?[0-9]{4}`)

var oddMessages = []string{
	`{}`, `{"chip":null,"n":null}`, `{"chip":"a","chip":"b"}`, `{"device":{"serial":"a","battery":1},"device":{"battery":2}}`,
	`{"device":{"serial":"a"},"device":null}`, `{"n":1.0}`, `{"n":1e3}`, `{"n":1.5}`, `{"n":9223372036854775807}`, `{"n":9223372036854775808}`,
	`{"n":-9223372036854775808}`, `{"n":01}`, `{"n":-}`, `{"n":1.}`, `{"n":.5}`, `{"n":+1}`, `{"x":1e400}`, `{"x":-0}`, `{"x":0.1e-7}`, `{"x":123456789012345678901234567890}`,
	`{"x":0.30000000000000004}`, `{"x":2.2250738585072014e-308}`, `{"ok":true}`, `{"ok":"true"}`, `{"ok":tru}`, `{"chip":"tab	"}`, `{"chip":"a\tb\"\\\/\b\f\n\r"}`,
	`{"chip":"\x"}`, `{"chip":"ende`, `{"chip":"größe €"}`, `{"chip":1}`, `{"device":[]}`, `{"device":"x"}`, `[]`, `"x"`, `1`, `null`, `{"a":1}}`, `{"a":1} x`, `{"a":1}{}`,
	`{"a":1,}`, `{,}`, `{"a"}`, `{"a":}`, `{a:1}`, ` {"chip" : "x" , "n":5 }  `, `{"x":1,"x":null}`, `{"zz":[1,[2,{"chip":"no"}],"]"],"chip":"yes"}`, `{"zz":{"chip":"no","device":{"serial":1}},"chip":"yes"}`,
	`{"zz":[1,]}`, `{"zz":[}`, `{"zz":{"a":[}]}`, `{"chip":"x"`, `{"chip":"x","n":5,"x":1.5,"ok":false,"device":{"serial":"s","battery":0.5}}`, `{"CHIP":"x"}`, `{"chi\u0070":"x"}`,
}

func TestJSONOddMessages(t *testing.T) {
	d := newJSONDecoder(testStream, &plan.Use{All: true})
	var msgs [][]byte
	for _, m := range oddMessages {
		compare(t, newJSONDecoder(testStream, &plan.Use{All: true}), [][]byte{[]byte(m)})
		msgs = append(msgs, []byte(m))
	}
	compare(t, d, msgs) // and one decoder, which has learnt from all of them
	compare(t, d, msgs)
	for shift := range 70 { // so that everything stands at the border of a block once
		for i, m := range oddMessages {
			msgs[i] = []byte(strings.Repeat(" ", shift) + m)
		}
		compare(t, unfixed(testStream), msgs)
	}
}

// unfixed makes a decoder that takes its messages for ones without a fixed form.
func unfixed(s *plan.Stream) *jsonDecoder {
	d := newJSONDecoder(s, &plan.Use{All: true})
	d.pause = math.MaxInt
	return d
}

// TestJSONLearntLayouts mixes messages of a few fixed forms, some of them changed by a byte, so that
// the path of learnt layouts meets messages that nearly fit.
func TestJSONLearntLayouts(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	forms := []string{
		`{"chip":"%s","n":%d,"x":%s,"ok":true,"device":{"serial":"%s","battery":%s},"zz":"%s"}`,
		`{ "x" : %[3]s, "chip":"%[1]s","zz":[1,"%[4]s"],"device":{"battery":%[5]s,"more":null}, "n":%[2]d}`,
		`{"zz":{"deep":"%s"},"n":%d,"x":%s,"device":null,"chip":"%s","yy":%s}`,
	}
	texts := []string{"P00001", "", "a longer text than eight bytes", "größe", "a\\\"b", "12345678", "x{}[],:", "日本語のテキスト"}
	numbers := []string{"0", "-1", "0.5", "-81.25", "1e3", "12345678901234567890", "0.1", "100.0", "-0.0", "3.14159265358979"}
	pick := func(s []string) string { return s[r.IntN(len(s))] }
	d, index := newJSONDecoder(testStream, &plan.Use{All: true}), unfixed(testStream)
	for range 300 {
		var msgs [][]byte
		for range 40 {
			m := fmt.Appendf(nil, forms[r.IntN(len(forms))], pick(texts), r.Int64N(1e15)-5e14, pick(numbers), pick(texts), pick(numbers), pick(texts))
			if i := bytes.Index(m, []byte("%!")); i >= 0 {
				m = m[:i]
			}
			if r.IntN(4) == 0 && len(m) > 2 {
				i := r.IntN(len(m))
				switch r.IntN(3) {
				case 0:
					m[i] = `"{}[],:\0aE.- `[r.IntN(14)]
				case 1:
					m = append(m[:i:i], m[i+1:]...)
				default:
					m = m[:i+1]
				}
			}
			if usable(m) {
				msgs = append(msgs, m)
			}
		}
		compare(t, d, msgs)
		compare(t, index, msgs)
	}
	if d.hits == 0 && d.pause == 0 {
		t.Error("no message was read by a learnt layout")
	}
}

// TestJSONSurrogates: escapes beyond the basic plane, whole and broken pairs.
func TestJSONSurrogates(t *testing.T) {
	d := newJSONDecoder(testStream, &plan.Use{All: true})
	for in, want := range map[string]string{
		`\ud83c\udfc3`: "🏃", `x\u00e9`: "xé", `\ud83c`: "\ufffd", `\ud83cA`: "\ufffdA", `\udfc3\ud83c`: "\ufffd\ufffd", `\ud83c\u0041`: "\ufffdA", `\u0000`: "\x00",
	} {
		b, rejects := decodeAll(d, [][]byte{[]byte(`{"chip":"` + in + `"}`)})
		if len(rejects) > 0 || string(b.Cols[0].Text(0)) != want {
			t.Errorf("%s: %q, wanted %q (%v)", in, b.Cols[0].Text(0), want, rejects)
		}
	}
	if _, rejects := decodeAll(d, [][]byte{[]byte("{\"chip\":\"a\xff\"}"), []byte("{\"other\":\"a\xff\"}")}); len(rejects) != 1 || rejects[0].Message != 0 {
		t.Errorf("bad UTF-8 counts where the text is used: %v", rejects)
	}
}

// partsStream has values with parts, documents and exact numbers.
var partsStream = &plan.Stream{Name: "p", Time: -1, Columns: []types.Field{
	{Name: "dec", Type: types.DecimalOf(12, 3)}, {Name: "tags", Type: types.ArrayOf(types.Of(types.Varchar))},
	{Name: "doc", Type: types.Of(types.JSON)}, {Name: "m", Type: types.MapOf(types.Of(types.Varchar), types.Of(types.BigInt))},
	{Name: "at", Type: types.Of(types.Time)}, {Name: "d", Type: types.Of(types.Interval)}, {Name: "raw", Type: types.Of(types.Varbinary)},
	{Name: "rows", Type: types.ArrayOf(types.Type{Kind: types.Row, Fields: []types.Field{{Name: "a", Type: types.Of(types.Int)}, {Name: "b", Type: types.Of(types.Boolean)}}})}}}

// referenceParts reads a message of partsStream with the standard library and writes it as the encoder does.
func referenceParts(m []byte) (string, bool) {
	var o map[string]json.RawMessage
	dec := json.NewDecoder(bytes.NewReader(m))
	if dec.Decode(&o) != nil || o == nil {
		return "", false
	}
	if _, err := dec.Token(); err != io.EOF {
		return "", false
	}
	ok := true
	get := func(k string, into any) bool {
		raw, there := o[k]
		if !there || string(raw) == "null" {
			return false
		}
		if json.Unmarshal(raw, into) != nil {
			ok = false
		}
		return ok
	}
	text := func(s *string) string {
		if s == nil {
			return "null"
		}
		return string(types.AppendJSONString(nil, []byte(*s)))
	}
	out := map[string]string{}
	var num json.Number
	if raw := o["dec"]; len(raw) > 0 && raw[0] == '"' {
		ok = false // the library takes a number in quotes
	} else if get("dec", &num) {
		n, good := exactDecimal(string(num), types.DecimalOf(12, 3))
		ok = ok && good
		out["dec"] = string(types.AppendDecimal(nil, n, 3))
	}
	var tags []*string
	if get("tags", &tags) {
		var xs []string
		for _, s := range tags {
			xs = append(xs, text(s))
		}
		out["tags"] = "[" + strings.Join(xs, ",") + "]"
	}
	if raw := o["doc"]; len(raw) > 0 && string(raw) != "null" {
		var b bytes.Buffer
		_ = json.Compact(&b, raw) // it is valid
		out["doc"] = b.String()
	}
	var s string
	if get("at", &s) {
		x, good := types.ParseTimeOfDay([]byte(s))
		ok = ok && good
		out["at"] = `"` + string(types.AppendTimeOfDay(nil, x)) + `"`
	}
	s = ""
	if get("d", &s) {
		x, good := types.ParseInterval(s)
		ok = ok && good
		out["d"] = `"` + string(types.AppendInterval(nil, x)) + `"`
	}
	var raw []byte
	if get("raw", &raw) {
		out["raw"] = `"` + base64.StdEncoding.EncodeToString(raw) + `"`
	}
	var fields []string
	for _, f := range partsStream.Columns {
		if x, there := out[f.Name]; f.Name != "m" && f.Name != "rows" {
			if !there {
				x = "null"
			}
			fields = append(fields, x)
		}
	}
	return strings.Join(fields, "|"), ok
}

// FuzzJSONParts compares values with parts with what the standard library reads. Maps and arrays of rows
// are left to their own reading and writing: what was read and written reads back as the same.
func FuzzJSONParts(f *testing.F) {
	for _, m := range []string{`{"dec":1.5,"tags":["a",null,"\n"],"doc":{"a": [1, 2]},"at":"09:30:00.5","d":"PT1M30S","raw":"AAEC"}`, `{"dec":1e3,"tags":[],"doc":"x"}`,
		`{"dec":-0.001,"doc":null}`, `{"dec":1.0005}`, `{"tags":["a",1]}`, `{"m":{"a":1,"b":null,"a":2},"rows":[{"a":1,"b":true},null,{"b":false,"c":[]}]}`, `{"doc":[ ]}`, `{"doc":1.50}`} {
		f.Add([]byte(m), []byte(m))
	}
	f.Fuzz(func(t *testing.T, a, b []byte) {
		d := newJSONDecoder(partsStream, &plan.Use{All: true})
		index := unfixed(partsStream)
		var enc JSONEncoder = *NewJSONEncoder(partsStream.Columns)
		for _, m := range [][]byte{a, b, a, b} {
			if !usable(m) {
				return
			}
			want, ok := referenceParts(m)
			byIndex, others := decodeAll(index, [][]byte{m})
			out, rejects := decodeAll(d, [][]byte{m})
			if len(others) != len(rejects) || len(rejects) == 0 && string(enc.Append(nil, byIndex, 0)) != string(enc.Append(nil, out, 0)) {
				t.Fatalf("%q: the index and the scan do not agree (%v, %v)", m, others, rejects)
			}
			if len(rejects) > 0 {
				if ok && !strings.HasPrefix(rejects[0].Reason, "m: ") && !strings.HasPrefix(rejects[0].Reason, "rows: ") {
					t.Fatalf("%q: %s", m, rejects[0].Reason)
				}
				continue
			}
			if !ok {
				t.Fatalf("%q is taken, the standard library does not", m)
			}
			var got []string
			for _, c := range out.Cols {
				if k := c.Type; k.Kind != types.Map && !(k.Kind == types.Array && k.Fields[0].Type.Kind == types.Row) {
					got = append(got, string(appendValue(nil, c, 0, &types.TimeWriter{})))
				}
			}
			if g := strings.Join(got, "|"); g != want {
				t.Fatalf("%q:\n%s, wanted\n%s", m, g, want)
			}
			text := enc.Append(nil, out, 0)
			back, rejects := decodeAll(newJSONDecoder(partsStream, &plan.Use{All: true}), [][]byte{text})
			if len(rejects) > 0 {
				t.Fatalf("%q was written as %s: %s", m, text, rejects[0].Reason)
			}
			if again := enc.Append(nil, back, 0); string(again) != string(text) {
				t.Fatalf("%q was written as %s, and that as %s", m, text, again)
			}
		}
	})
}

// FuzzJSON compares the decoder with the standard library, alone and with layouts it has learnt.
func FuzzJSON(f *testing.F) {
	for _, m := range oddMessages {
		f.Add([]byte(m), []byte(m))
	}
	f.Fuzz(func(t *testing.T, a, b []byte) {
		if !usable(a) || !usable(b) {
			return
		}
		d := newJSONDecoder(testStream, &plan.Use{All: true})
		compare(t, d, [][]byte{a, b, a, b})
		compare(t, unfixed(testStream), [][]byte{a, b, a, b})
	})
}

// TestJSONRoundTrip writes rows and reads them back.
func TestJSONRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	enc := NewJSONEncoder(testStream.Columns)
	d := newJSONDecoder(testStream, &plan.Use{All: true})
	for range 200 {
		x := math.Float64frombits(r.Uint64())
		if r.IntN(2) == 0 {
			x = float64(r.IntN(100000)) / 100
		}
		if math.IsNaN(x) || math.IsInf(x, 0) {
			continue
		}
		msg := fmt.Appendf(nil, `{"chip":%q,"n":%d,"x":%s,"device":{"serial":null,"battery":%s}}`, fmt.Sprint("P", r.IntN(9)), r.Int64(), strconv.FormatFloat(x, 'g', -1, 64), strconv.FormatFloat(x/3, 'e', -1, 64))
		b, rejects := decodeAll(d, [][]byte{msg})
		if len(rejects) > 0 {
			t.Fatalf("%s: %v", msg, rejects)
		}
		first := rowText(b, 0)
		again := enc.Append(nil, b, 0)
		if !json.Valid(again) {
			t.Fatalf("%s is not valid", again)
		}
		if b, rejects = decodeAll(d, [][]byte{again}); len(rejects) > 0 || rowText(b, 0) != first {
			t.Fatalf("%s became %s", msg, again)
		}
	}
}

func benchmarkMessages() [][]byte {
	var out [][]byte
	for i := range 5000 {
		out = append(out, fmt.Appendf(nil, `{"chip":"C%05d","mat":"km-15","read_at":"2026-05-17T08:59:59.%03dZ","n":%d,"x":%.1f,"device":{"serial":"TM-%04d","battery":%.2f,"firmware":"3.2.4"},"position":{"lat":45.4327,"lon":12.3399}}`,
			i, i%1000, i, -float64(i%450)/10-45, i%64, float64(i%101)/100))
	}
	return out
}

func benchmarkDecode(b *testing.B, msgs [][]byte) {
	buf, ms := layOut(msgs)
	d := newJSONDecoder(testStream, &plan.Use{Kids: map[int]*plan.Use{0: {All: true}, 1: {All: true}, 2: {All: true}, 4: {Kids: map[int]*plan.Use{1: {All: true}}}}})
	var batch column.Batch
	b.SetBytes(int64(len(buf)))
	for b.Loop() {
		if rejects := d.Decode(buf, ms, &batch); len(rejects) > 0 {
			b.Fatal(rejects[0])
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(msgs)), "ns/row")
}

func BenchmarkJSONLearntLayout(b *testing.B) { benchmarkDecode(b, benchmarkMessages()) }

// BenchmarkJSONGeneralScan has messages whose key order varies, so that no layout fits twice.
func BenchmarkJSONGeneralScan(b *testing.B) {
	msgs := benchmarkMessages()
	r := rand.New(rand.NewPCG(1, 1))
	for i, m := range msgs {
		var fields map[string]json.RawMessage
		if err := json.Unmarshal(m, &fields); err != nil {
			b.Fatal(err)
		}
		keys := []string{"chip", "mat", "read_at", "n", "x", "device", "position"}
		r.Shuffle(len(keys), func(i, j int) { keys[i], keys[j] = keys[j], keys[i] })
		var out []string
		for _, k := range keys {
			out = append(out, strconv.Quote(k)+strings.Repeat(" ", r.IntN(3))+":"+string(fields[k]))
		}
		msgs[i] = []byte("{" + strings.Join(out, ", ") + "}")
	}
	benchmarkDecode(b, msgs)
}

// BenchmarkJSONWithoutForm has messages with other keys between those that are used, blanks and escapes, in any order.
func BenchmarkJSONWithoutForm(b *testing.B) {
	msgs := benchmarkMessages()
	r := rand.New(rand.NewPCG(2, 1))
	others := []string{`"he said \"go\", then\\or \/ caf\u00e9\n\t\u26a1"`, `[true, false , null,[ ],{ },"}]{[\"",-0.0 ]`, `{"a":[{"a":[{"a":[1]}]}]}`, `12196.24e1`, `"Z\u00fcrich 42"`, `-0`}
	blanks := func() string { return "  \t "[:r.IntN(5)] }
	for i, m := range msgs {
		var fields map[string]json.RawMessage
		if err := json.Unmarshal(m, &fields); err != nil {
			b.Fatal(err)
		}
		keys := []string{"chip", "mat", "read_at", "n", "x", "device", "position"}
		for k, o := range others {
			key := fmt.Sprint("x", k)
			keys, fields[key] = append(keys, key), json.RawMessage(o)
		}
		r.Shuffle(len(keys), func(i, j int) { keys[i], keys[j] = keys[j], keys[i] })
		var out []string
		for _, k := range keys {
			out = append(out, blanks()+strconv.Quote(k)+blanks()+":"+blanks()+string(fields[k])+blanks())
		}
		msgs[i] = []byte("{" + strings.Join(out, ",") + "}")
	}
	benchmarkDecode(b, msgs)
}
