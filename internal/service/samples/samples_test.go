package samples_test

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fiume/internal/service/base"
	"fiume/internal/service/questions"
	"fiume/internal/service/samples"
	"fiume/internal/service/servicetest"
	"fiume/internal/topiclog"
)

// TestPropose: a declaration that is proposed is one that can be made, and that reads all messages but those said to be
// unreadable.
func TestPropose(t *testing.T) {
	p := servicetest.New(t)
	many := func(format string, n int) (out []string) {
		for i := range n {
			out = append(out, fmt.Sprintf(format, i, i%60))
		}
		return out
	}
	for name, x := range map[string]struct {
		messages   []string
		columns    []string
		unreadable int
		time       string
		says       string
	}{
		"plain":    {many(`{"chip":"P%d","at":"2026-05-17T09:00:%02d.250Z"}`, 40), []string{"chip VARCHAR", `"at" TIMESTAMP`}, 0, "at", ""},
		"few":      {[]string{`{"a":1}`, `{"a":2}`}, []string{"a BIGINT"}, 0, "", "so few messages"},
		"nested":   {many(`{"n":%d,"device":{"serial":"x%d","battery":0.5},"tags":["a"],"none":null}`, 30), []string{"n BIGINT", "device ROW(serial VARCHAR, battery DOUBLE)", "tags ARRAY(VARCHAR)", "none"}, 0, "", ""},
		"mixed":    {append(many(`{"v":%d,"w":"%d"}`, 20), `{"v":"text","w":1}`, `{"v":1.5}`), []string{"v", "w"}, 0, "", ""},
		"millis":   {many(`{"n":%d,"ts":17790000000%02d}`, 30), []string{"n BIGINT", "ts BIGINT"}, 0, "ts_time", ""},
		"broken":   {append(many(`{"n":%d,"m":%d}`, 30), `{"n":`, ``, `[1]`, `null`), []string{"n BIGINT", "m BIGINT"}, 4, "", "of 34 messages are no rows"},
		"odd_name": {many(`{"a b":%d,"select":%d,"größe":1,"\"":2}`, 25), []string{`"a b" BIGINT`, `"select" BIGINT`, `größe`}, 0, "", ""},
		"big":      {[]string{`{"n":9223372036854775807}`, `{"n":9223372036854775808}`, `{"n":1e400}`}, []string{"n"}, 0, "", ""},
	} {
		p.Apply(fmt.Sprintf("CREATE TOPIC %q (PARTITIONS 1);", "in-"+name))
		p.Write("in-"+name, x.messages...)
		got, err := p.Samples.Propose(t.Context(), samples.SampleRequest{Topic: "in-" + name})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if got.Unreadable != x.unreadable || got.Messages != len(x.messages) {
			t.Errorf("%s: %d of %d messages are unreadable", name, got.Unreadable, got.Messages)
		}
		plain := strings.Join(strings.Fields(got.SQL), " ")
		for _, c := range x.columns {
			if !strings.Contains(plain, c) {
				t.Errorf("%s has no column %s:\n%s", name, c, got.SQL)
			}
		}
		if (x.time != "") != strings.Contains(got.SQL, "EVENT TIME") || x.time != "" && got.EventTimes[0].Column != x.time {
			t.Errorf("%s: the event time is not %q:\n%s", name, x.time, got.SQL)
		}
		if !strings.Contains(strings.Join(got.Notes, "\n"), x.says) {
			t.Errorf("%s: no note says %q: %q", name, x.says, got.Notes)
		}
		if out := p.Apply(got.SQL); out[0].Done != "declared" {
			t.Errorf("%s: %+v", name, out)
		}
		if p.Base.Current().Streams[got.Name] == nil {
			t.Errorf("%s: the stream %s is not there:\n%s", name, got.Name, got.SQL)
		}
	}
}

// TestFiles takes samples of files: uploaded ones and those on the machine, of each format, packed, broken and out of reach.
func TestFiles(t *testing.T) {
	p := servicetest.New(t)
	dir := filepath.Join(p.Base.Dir, "files")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	packed := func(text string) []byte {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		if _, err := z.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	csv := "chip,at,n\nA,2026-05-17 09:00:00,1\n\"B, b\",2026-05-17 09:00:01,\n"
	for name, data := range map[string][]byte{"a.csv": []byte(csv), "b.csv.gz": packed(csv), "c.json": []byte(`{"x":1}` + "\n" + `{"x":2}` + "\n"), "d.txt": []byte("one\ntwo\nthree\n")} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, x := range []struct {
		r      samples.SampleRequest
		format string
		n      int
	}{
		{samples.SampleRequest{File: "a.csv"}, "csv", 2}, {samples.SampleRequest{File: "b.csv.gz"}, "csv", 2}, {samples.SampleRequest{File: "c.json"}, "json", 2}, {samples.SampleRequest{File: "d.txt"}, "text", 3},
		{samples.SampleRequest{File: "up.csv", Data: []byte(csv)}, "csv", 2}, {samples.SampleRequest{File: "up.csv.gz", Data: packed(csv)}, "csv", 2}, {samples.SampleRequest{File: "up.csv", Data: []byte(csv), NoHeader: true}, "csv", 3},
		{samples.SampleRequest{Data: []byte("chip;at\nA;1\nB;2\n"), Format: "text"}, "text", 3}, {samples.SampleRequest{File: "semi.csv", Data: []byte("chip;at\nA;1,5\nB;2,5\n")}, "csv", 2}, {samples.SampleRequest{File: "c.json", Limit: 1}, "json", 1},
	} {
		d, err := p.Samples.Keep(t.Context(), "ada", x.r)
		if err != nil || d.Format != x.format || d.Messages != x.n || len(d.First) != x.n {
			t.Errorf("%+v: %+v %v", x.r, d, err)
			continue
		}
		info, ms, err := p.Samples.Messages(t.Context(), d.ID)
		if err != nil || len(ms) != x.n || info.Format != x.format || info.Name == "" {
			t.Errorf("%+v: %+v %v", x.r, info, err)
		}
	}
	for _, x := range []struct {
		r    samples.SampleRequest
		says string
	}{
		{samples.SampleRequest{}, "say what the sample is made of"},
		{samples.SampleRequest{File: "nothing.csv"}, "on the machine of the service"},
		{samples.SampleRequest{File: "../identity"}, ""},
		{samples.SampleRequest{File: "/etc/passwd"}, ""},
		{samples.SampleRequest{File: "x.csv", Data: bytes.Repeat([]byte("x"), 13<<20)}, "a sample at most"},
		{samples.SampleRequest{File: "x.parquet", Data: []byte("PAR1 is no parquet")}, ""},
		{samples.SampleRequest{File: "x.json", Data: []byte{}}, ""},
		{samples.SampleRequest{File: "x.csv.gz", Data: packed(csv)[:30]}, ""},
		{samples.SampleRequest{Topic: "nothing"}, "there is no topic 'nothing'"},
		{samples.SampleRequest{Table: "t", Via: "nothing"}, `no endpoint is called "nothing"`},
	} {
		if d, err := p.Samples.Keep(t.Context(), "ada", x.r); err == nil || !strings.Contains(err.Error(), x.says) {
			t.Errorf("%+v: %+v, %v", x.r.File, d, err)
		}
	}
	if err := p.Topics.Create("ada", "empty", topiclog.Settings{Partitions: 1}); err != nil {
		t.Fatal(err)
	}
	_, err := p.Samples.Keep(t.Context(), "ada", samples.SampleRequest{Topic: "empty"})
	p.Says(err, "has no messages there")
}

// TestDelimiters: what stands between fields is found, said in the proposal, and right again where a sample stands for the
// stream; a sample of CSV can stand for a stream of JSON, and any for one of lines.
func TestDelimiters(t *testing.T) {
	p := servicetest.New(t)
	want := `[{"chip":"A","n":1,"price":"1,5"} {"chip":"B; b","n":2,"price":""}]`
	for _, d := range []string{",", ";", "\t", "|"} {
		data := strings.NewReplacer(";", d, "_", ";").Replace("chip;n;price\nA;1;\"1,5\"\n\"B_ b\";2;\n")
		r := samples.SampleRequest{Name: "prices", File: "prices.csv", Data: []byte(data)}
		got, err := p.Samples.Propose(t.Context(), r)
		if err != nil {
			t.Fatal(err)
		}
		if d == "," == strings.Contains(got.SQL, "DELIMITER") || d == ";" && !strings.Contains(got.SQL, "DELIMITER ';'") {
			t.Errorf("%q: %s", d, got.SQL)
		}
		if !strings.Contains(strings.Join(strings.Fields(got.SQL), " "), "chip VARCHAR, n BIGINT, price VARCHAR") {
			t.Errorf("%q: %s", d, got.SQL)
		}
		kept, err := p.Samples.Keep(t.Context(), "ada", r)
		if err != nil {
			t.Fatal(err)
		}
		for name, text := range map[string]string{
			"as proposed": got.SQL,
			"of JSON":     "DECLARE STREAM prices (chip VARCHAR, n BIGINT, price VARCHAR) FROM TOPIC 'prices';",
		} {
			tried, err := p.Questions.Try(t.Context(), questions.TryRequest{SQL: text + " SELECT chip, n, COALESCE(price, '') AS price FROM prices;", Samples: map[string]uint{"prices": kept.ID}})
			if err != nil {
				t.Errorf("%q %s: %v", d, name, err)
				continue
			}
			var rows []string
			for _, r := range tried.Results[0].Rows {
				rows = append(rows, string(r))
			}
			if fmt.Sprint(rows) != want {
				t.Errorf("%q %s: %s, %+v", d, name, rows, tried.Reasons)
			}
		}
		tried, err := p.Questions.Try(t.Context(), questions.TryRequest{SQL: "DECLARE STREAM prices (line VARCHAR) FROM TOPIC 'prices' (FORMAT text); SELECT line FROM prices;", Samples: map[string]uint{"prices": kept.ID}})
		if err != nil || tried.Results[0].Total != 2 {
			t.Errorf("of text: %+v %v", tried, err)
		}
	}
}

// TestKept: samples are listed, found, the same in a new process, and forgotten; bytes and keys stay what they were.
func TestKept(t *testing.T) {
	p := servicetest.New(t)
	if list, err := p.Samples.List(t.Context()); err != nil || list == nil || len(list) != 0 {
		t.Error(list, err)
	}
	p.Apply("CREATE TOPIC t (PARTITIONS 1);")
	p.Write("t", "key\t\x00\xff", "k2\tgrößer")
	d, err := p.Samples.Keep(t.Context(), "ada", samples.SampleRequest{Name: "odd", Topic: "t"})
	if err != nil || d.Name != "odd" || d.Origin != "topic t" || d.Bytes != 10 {
		t.Fatalf("%+v %v", d, err)
	}
	q := p.Restart()
	_, ms, err := q.Samples.Messages(t.Context(), d.ID)
	if err != nil || len(ms) != 2 || string(ms[0].Value) != "\x00\xff" || string(ms[0].Key) != "key" || string(ms[1].Value) != "größer" || ms[1].Offset != 1 || ms[1].At == 0 {
		t.Errorf("%+v %v", ms, err)
	}
	if got, err := q.Samples.Get(t.Context(), d.ID); err != nil || len(got.First) != 2 {
		t.Error(got, err)
	}
	if list, err := q.Samples.List(t.Context()); err != nil || len(list) != 1 || list[0].ID != d.ID {
		t.Error(list, err)
	}
	if err := q.Samples.Drop(t.Context(), "ada", d.ID); err != nil {
		t.Fatal(err)
	}
	for _, err := range []error{q.Samples.Drop(t.Context(), "ada", d.ID), func() error { _, err := q.Samples.Get(t.Context(), d.ID); return err }()} {
		if !errors.Is(err, base.ErrNotFound) {
			t.Error(err)
		}
	}
	if log := q.Activity(); !slices.Contains(log, fmt.Sprintf("ada kept sample %d", d.ID)) || !slices.Contains(log, fmt.Sprintf("ada dropped sample %d", d.ID)) {
		t.Errorf("%q", log)
	}
}

// TestDrift: fields that messages have and a declaration has not, the other way round, and of other types are named, and
// the declaration that is proposed fits.
func TestDrift(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(servicetest.Reads)
	if d, err := p.Samples.Drift(t.Context(), "reads"); err != nil || len(d.Fields) != 0 {
		t.Errorf("%+v %v", d, err)
	}
	for i := range 30 {
		p.Write("reads", fmt.Sprintf(`{"chip":"A%d","mat":%d,"read_at":"2026-05-17T09:00:00Z","lap":%d}`, i, i, i%3))
	}
	p.Write("reads", "no JSON")
	d, err := p.Samples.Drift(t.Context(), "reads")
	if err != nil {
		t.Fatal(err)
	}
	what := map[string]string{}
	for _, f := range d.Fields {
		what[f.Field] = f.What
	}
	if what["lap"] != "new" || what["rssi"] != "missing" || d.Unreadable != 1 || d.Messages != 31 {
		t.Errorf("%+v", d)
	}
	if !strings.Contains(strings.Join(strings.Fields(d.SQL), " "), "lap BIGINT") || !strings.Contains(d.SQL, "OR REPLACE") {
		t.Errorf("%s", d.SQL)
	}
	p.Apply(d.SQL)
	if d, err := p.Samples.Drift(t.Context(), "reads"); err != nil || slices.ContainsFunc(d.Fields, func(f samples.DriftField) bool { return f.What == "new" }) {
		t.Errorf("%+v %v", d, err)
	}
	_, err = p.Samples.Drift(t.Context(), "read")
	p.Says(err, `no stream and no table is called "read"; did you mean "reads"?`)
	_, err = p.Samples.Drift(t.Context(), "strong")
	p.Says(err, `"strong" is no stream and no table`)
	if list := p.Samples.Drifts(); list == nil || len(list) != 0 {
		t.Errorf("what nobody looked for: %+v", list)
	}
}

// TestSampled: a declaration without columns gets those that its messages have.
func TestSampled(t *testing.T) {
	p := servicetest.New(t)
	p.Apply("CREATE TOPIC t (PARTITIONS 1);")
	p.Refused("DECLARE STREAM s COLUMNS SAMPLED FROM TOPIC 't';", "has no messages")
	p.Write("t", `{"a":1,"b":"x"}`, `{"a":2,"c":true}`)
	out := p.Apply("DECLARE STREAM s COLUMNS SAMPLED FROM TOPIC 't';")
	if !strings.Contains(out[0].Note, "columns found: a BIGINT, b VARCHAR, c BOOLEAN") {
		t.Errorf("%+v", out)
	}
	// They stay what they were found to be, also when the same text is applied again.
	p.Write("t", `{"a":1,"d":"new"}`)
	if out := p.Apply("DECLARE STREAM s COLUMNS SAMPLED FROM TOPIC 't';"); out[0].Done != "unchanged" {
		t.Errorf("%+v", out)
	}
}
