package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/demo"
	"fiume/internal/api"
	"fiume/internal/catalog"
	"fiume/internal/core/types"
	"fiume/internal/format"
	"fiume/internal/service/jobs"
	"fiume/internal/service/questions"
	"fiume/internal/service/samples"

	"github.com/twmb/avro"
	"github.com/twmb/avro/ocf"
)

// send writes messages to one topic.
func (p *process) send(topic string, values ...string) {
	p.t.Helper()
	var ms []api.MessageRequest
	for _, v := range values {
		ms = append(ms, api.MessageRequest{Value: v})
	}
	if err := p.Write(p.t.Context(), topic, ms); err != nil {
		p.t.Fatal(err)
	}
}

// TestSamples keeps messages of topics and files of all kinds, and tries a query on each: it must give the same rows.
func TestSamples(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC mats (PARTITIONS 2);
		DECLARE STREAM mats (mat VARCHAR NOT NULL, km DOUBLE, seen_at TIMESTAMP, n BIGINT) EVENT TIME seen_at FROM TOPIC 'mats';
		DECLARE STREAM mats_csv (mat VARCHAR NOT NULL, km DOUBLE, seen_at TIMESTAMP, n BIGINT) EVENT TIME seen_at FROM TOPIC 'mats' (FORMAT csv);`)
	type row struct {
		Mat    string    `json:"mat" avro:"mat"`
		Km     float64   `json:"km" avro:"km"`
		SeenAt time.Time `json:"seen_at" avro:"seen_at"`
		N      int64     `json:"n" avro:"n"`
	}
	var rows []row
	for i := range 30 {
		rows = append(rows, row{fmt.Sprintf("km-%02d", i), float64(i) + 0.5, time.Date(2026, 5, 17, 9, 0, i, 0, time.UTC), int64(1) << i})
	}
	var lines, raw []string
	var objects []json.RawMessage
	for _, r := range rows {
		b, _ := json.Marshal(r)
		lines, objects = append(lines, string(b)), append(objects, b)
		raw = append(raw, fmt.Sprintf("%d,%s,%s,%g", r.N, r.Mat, r.SeenAt.Format(time.RFC3339), r.Km))
	}
	schema := avro.MustParse(`{"type":"record","name":"mat","fields":[{"name":"mat","type":"string"},{"name":"km","type":"double"},
		{"name":"seen_at","type":{"type":"long","logicalType":"timestamp-micros"}},{"name":"n","type":"long"}]}`)
	var object bytes.Buffer
	w, err := ocf.NewWriter(&object, schema)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rows {
		if err := w.Encode(&r); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	parquet, err := format.ParquetOf([]types.Field{{Name: "mat", Type: types.Of(types.Varchar)}, {Name: "km", Type: types.Of(types.Double)},
		{Name: "seen_at", Type: types.Of(types.Timestamp)}, {Name: "n", Type: types.Of(types.BigInt)}}, objects)
	if err != nil {
		t.Fatal(err)
	}
	p.send("mats", lines...)
	tried := func(stream string, id uint) []string {
		t.Helper()
		r, err := p.Try(t.Context(), questions.TryRequest{SQL: "SELECT mat, km, seen_at, n FROM " + stream + " WHERE km > 3;", Samples: map[string]uint{stream: id}})
		if err != nil {
			t.Fatal(err)
		}
		if r.Status.Steps[0].Counts.In != int64(len(rows)) || len(r.Results) != 1 || r.Stopped != "" {
			t.Errorf("%+v", r)
		}
		var out []string
		for _, x := range r.Results[0].Rows {
			out = append(out, string(x))
		}
		slices.Sort(out)
		return out
	}
	want := tried("mats", keep(t, p, samples.SampleRequest{Topic: "mats"}))
	if len(want) != 27 {
		t.Fatalf("%d rows: %v", len(want), want)
	}
	for name, r := range map[string]samples.SampleRequest{
		"lines":   {File: "mats.ndjson", Data: []byte(strings.Join(lines, "\n") + "\n")},
		"array":   {File: "mats.json", Data: []byte("[" + strings.Join(lines, ",\n") + "]")},
		"objects": {File: "mats.json", Data: []byte(strings.ReplaceAll(strings.Join(lines, "\n"), ",\"km\"", ",\n \"km\""))},
		"avro":    {File: "mats.avro", Data: object.Bytes()},
		"parquet": {File: "mats.parquet", Data: parquet},
	} {
		if got := tried("mats", keep(t, p, r)); !slices.Equal(got, want) {
			t.Errorf("%s: %v\nwanted %v", name, got, want)
		}
	}
	// The fields of a CSV file stand in another order than the columns.
	csv := samples.SampleRequest{File: "mats.csv", Data: []byte("\xef\xbb\xbfn,mat,seen_at,km\n" + strings.Join(raw, "\r\n"))}
	if got := tried("mats_csv", keep(t, p, csv)); !slices.Equal(got, want) {
		t.Errorf("csv: %v\nwanted %v", got, want)
	}
	for text, r := range map[string]samples.SampleRequest{
		"there are no rows":          {File: "x.json", Data: []byte("[]")},
		"Parquet file cannot":        {File: "x", Data: []byte("PAR1 and no more")},
		"no Avro file":               {File: "x", Data: []byte("Obj\x01 and no more")},
		"did you mean 'mats'":        {Topic: "matz"},
		"no endpoint is called":      {Table: "mats", Via: "nowhere"},
		"say what the sample is":     {},
		"outside of the directories": {File: "/nowhere/a.json"},
		"no file ":                   {File: filepath.Join(os.TempDir(), "nowhere", "a.json")},
	} {
		if _, err := p.KeepSample(t.Context(), r); err == nil || !strings.Contains(err.Error(), text) {
			t.Errorf("%+v: %v, wanted %s", r, err, text)
		}
	}
	all, err := p.Samples(t.Context())
	if err != nil || len(all) != 7 {
		t.Fatalf("%d samples, %v", len(all), err)
	}
	if _, err := p.Try(t.Context(), questions.TryRequest{SQL: "SELECT mat FROM mats;", Samples: map[string]uint{"mats": all[0].ID + 99}}); err == nil || !strings.Contains(err.Error(), "no sample") {
		t.Errorf("%v", err)
	}
	if _, err := p.Try(t.Context(), questions.TryRequest{SQL: "SELECT mat FROM mats;", Samples: map[string]uint{"matz": all[0].ID}}); err == nil || !strings.Contains(err.Error(), `did you mean "mats"`) {
		t.Errorf("%v", err)
	}
	p.fiume("", "sample", "list").want(t, 0, "topic mats", "mats.parquet")
	p.fiume("", "sample", "drop", fmt.Sprint(all[0].ID)).want(t, 0, "dropped")
	p.fiume("", "sample", "drop", fmt.Sprint(all[0].ID)).want(t, 4, "there is no sample")
}

func keep(t *testing.T, p *process, r samples.SampleRequest) uint {
	t.Helper()
	d, err := p.KeepSample(t.Context(), r)
	if err != nil {
		t.Fatal(err)
	}
	return d.ID
}

// TestPropose takes what is proposed for the race's topics, files and tables as it is, and reads all rows with it.
func TestPropose(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	address, _ := raceDatabase(t)
	p.apply(p.endpoint(address) + "CREATE TOPIC \"mat-reads\" (PARTITIONS 2); CREATE TOPIC \"medical-calls\"; CREATE TOPIC radio; CREATE TOPIC ticks;")
	day := map[string][]string{}
	for _, m := range (demo.Day{Seed: 4, Runners: 60}).Messages() {
		day[m.Topic] = append(day[m.Topic], string(m.Value))
	}
	for _, topic := range []string{"mat-reads", "medical-calls", "radio"} {
		p.send(topic, day[topic]...)
	}
	var ticks []string
	for i := range 40 {
		ticks = append(ticks, fmt.Sprintf(`{"ts":%d,"v":%d,"tags":["a"],"open":%v,"odd":%s}`, 1_779_000_000_000+int64(i)*1000, i, i%2 == 0, []string{"1", `"x"`}[i%2]))
	}
	p.send("ticks", ticks...)
	for topic, parts := range map[string][]string{
		"mat-reads":     {"chip VARCHAR NOT NULL", "read_at TIMESTAMP NOT NULL", "device ROW(serial VARCHAR, battery DOUBLE, firmware VARCHAR) NOT NULL", "EVENT TIME read_at DELAY"},
		"medical-calls": {"called_at TIMESTAMP", "severity BIGINT", "EVENT TIME called_at"},
		"radio":         {"line VARCHAR NOT NULL", "FORMAT text"},
		"ticks":         {"odd JSON NOT NULL", "tags ARRAY(VARCHAR)", "open BOOLEAN NOT NULL", "ts_time TIMESTAMP AS (FROM_UNIX_MILLIS(ts))", "EVENT TIME ts_time"},
	} {
		r, err := p.Propose(t.Context(), samples.SampleRequest{Topic: topic, Limit: 2000})
		if err != nil {
			t.Fatal(err)
		}
		text := strings.Join(strings.Fields(r.SQL), " ")
		for _, part := range parts {
			if !strings.Contains(text, part) {
				t.Errorf("%s: the proposal lacks %q:\n%s", topic, part, r.SQL)
			}
		}
		p.apply(r.SQL)
		rows, err := p.Rows(t.Context(), r.Name, 50)
		if err != nil {
			t.Fatalf("%s: %v", topic, err)
		}
		if c := rows.Status.Steps[0].Counts; c.Passed == 0 || c.Rejected > 3 {
			t.Errorf("%s: %+v", topic, c)
		}
	}
	r := p.fiume("", "propose", "--table", "mats", "--via", "race_db").want(t, 0, "DECLARE TABLE mats", "mat        VARCHAR PRIMARY KEY", "capacity   INT")
	p.apply(r.out)
	rows, err := p.Rows(t.Context(), "mats", 50)
	if err != nil || rows.Results[0].Total != 14 || !slices.ContainsFunc(rows.Results[0].Rows, func(r json.RawMessage) bool { return strings.Contains(string(r), "place\":\"Porta Nuova") }) {
		t.Errorf("%d rows, %v", rows.Results[0].Total, err)
	}
	csv := writeFile(t, t.TempDir(), "teams.csv", "team,size,founded\nRemi,12,2001-05-01\nVoga,9,1998-03-12\n")
	p.fiume("", "propose", "--file", csv).want(t, 0, "DECLARE STREAM teams", "size    BIGINT", "founded DATE", "so few messages do not tell")
	p.fiume("", "propose").want(t, 2, "say what to look at")
	p.fiume("", "propose", "nothing").want(t, 4, "there is no topic 'nothing'")
}

// TestDrift: messages that differ from their declaration are counted by field, and the declaration that is proposed fits.
func TestDrift(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC reads (PARTITIONS 1);
		DECLARE STREAM reads (chip VARCHAR NOT NULL, seq BIGINT, rssi DOUBLE, device ROW(serial VARCHAR)) FROM TOPIC 'reads';`)
	for i := range 20 {
		p.send("reads", fmt.Sprintf(`{"chip":"P%d","seq":%d,"rssi":-60.5,"device":{"serial":"a"}}`, i, i))
	}
	p.fiume("", "drift", "reads").want(t, 0, "they are as declared")
	for i := range 10 {
		p.send("reads", fmt.Sprintf(`{"chip":"P%d","seq":"%d-a","rssi":-60.5,"device":{"serial":"a","battery":0.5},"lane":%d}`, i, i, i))
	}
	p.send("reads", `{"seq":1,"rssi":null,"device":{"serial":"a"}}`, `no object`)
	d, err := p.Drift(t.Context(), "reads")
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]int{}
	for _, f := range d.Fields {
		got[f.What+" "+f.Field] = f.Messages
	}
	want := map[string]int{"new lane": 10, "new device.battery": 10, "type seq": 10, "missing chip": 1}
	if !reflect.DeepEqual(got, want) || d.Messages != 32 || d.Unreadable != 1 {
		t.Errorf("%v of %d, %d unreadable; wanted %v", got, d.Messages, d.Unreadable, want)
	}
	p.apply(d.SQL)
	if d, err = p.Drift(t.Context(), "reads"); err != nil || len(d.Fields) != 0 {
		t.Errorf("with what was proposed there are still differences: %+v %v", d, err)
	}
	p.fiume("", "drift", "nothing").want(t, 4, `no stream and no table is called "nothing"`)
}

// TestTry runs a job with declarations that are not there over a sample, keeps it as a test, and runs that.
func TestTry(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC "mat-reads" (PARTITIONS 2);`)
	day := (demo.Day{Seed: 5, Runners: 40}).Messages()
	p.write(day)
	p.send("mat-reads", "~~ noise ~~")
	id := keep(t, p, samples.SampleRequest{Topic: "mat-reads", Limit: 5000})
	text := `DECLARE STREAM reads (chip VARCHAR NOT NULL, mat VARCHAR NOT NULL, read_at TIMESTAMP NOT NULL, rssi DOUBLE) EVENT TIME read_at DELAY 20 SECONDS FROM TOPIC 'mat-reads';
		DECLARE SINK counts TO TOPIC 'counts'; DECLARE SINK strong TO TOPIC 'strong';
		CREATE JOB tried_job WITH
			good AS (SELECT chip, mat, read_at, rssi FROM reads WHERE rssi > -70),
			counted AS (SELECT mat, w.opens AS opened, COUNT(*) AS n FROM good GROUP BY mat, w WINDOW w AS (TUMBLING 10 MINUTES))
		ROUTE counted TO counts ROUTE good WHERE mat = 'finish' TO strong;`
	r, err := p.Try(t.Context(), questions.TryRequest{SQL: text, Samples: map[string]uint{"reads": id}, Rows: 5000})
	if err != nil {
		t.Fatal(err)
	}
	finish, good := 0, 0
	for _, m := range day {
		var x struct {
			Mat  string  `json:"mat"`
			Rssi float64 `json:"rssi"`
		}
		if m.Topic == "mat-reads" && json.Unmarshal(m.Value, &x) == nil && x.Rssi > -70 {
			good++
			if x.Mat == "finish" {
				finish++
			}
		}
	}
	counted := 0
	for _, x := range r.Results {
		if x.Sink != "counts" {
			if int(x.Total) != finish {
				t.Errorf("%d strong reads at the finish, wanted %d", x.Total, finish)
			}
			continue
		}
		for _, row := range x.Rows {
			var n struct{ N int }
			if err := json.Unmarshal(row, &n); err != nil {
				t.Fatal(err)
			}
			counted += n.N
		}
	}
	late := 0
	for _, s := range r.Status.Steps {
		late += int(s.Counts.Late)
	}
	if counted+late != good || good == 0 {
		t.Errorf("%d counted and %d late of %d", counted, late, good)
	}
	if len(r.Reasons) == 0 || len(r.Samples) == 0 || len(r.Shown["0"]) == 0 {
		t.Errorf("what was rejected, or rows of the steps, are not shown: %+v %v", r.Reasons, r.Shown)
	}
	if jobs, _ := p.Jobs(t.Context()); len(jobs) != 0 {
		t.Error("trying has left a job")
	}
	file := writeFile(t, t.TempDir(), "job.sql", text)
	dir := filepath.Join(t.TempDir(), "kept")
	p.fiume("", "try", file, "--sample", fmt.Sprintf("reads=%d", id), "--keep", dir).want(t, 0, "ledger of tried_job", "strong", "a test is written")
	fiume(t, "", "test", dir).want(t, 0, "ok ")
	if b, err := os.ReadFile(filepath.Join(dir, "test.sql")); err != nil || !strings.HasPrefix(string(b), "-- job: tried_job") {
		t.Errorf("%s %v", b, err)
	}
	p.fiume("", "try", file, "--sample", "reads").want(t, 2, "STREAM=NUMBER")
	p.fiume("SELECT nothing FROM nowhere;", "try", "-").want(t, 3, "unknown-name")
}

// TestAside counts rejected rows by reason, shows them, and sends a mended one again.
func TestAside(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC reads (PARTITIONS 2); CREATE TOPIC halves; CREATE TOPIC counts;
		DECLARE STREAM reads (chip VARCHAR NOT NULL, n BIGINT, at TIMESTAMP) EVENT TIME at FROM TOPIC 'reads';
		DECLARE SINK halves TO TOPIC 'halves'; DECLARE SINK counts TO TOPIC 'counts';
		CREATE JOB halve WITH half AS (SELECT chip, 100 DIV n AS h, at FROM reads), counted AS (SELECT chip, w.opens AS opened, COUNT(*) AS n FROM half GROUP BY chip, w WINDOW w AS (TUMBLING 1 MINUTE))
			ROUTE half TO halves ROUTE counted TO counts;`)
	var values []string
	for i := range 300 {
		switch {
		case i%10 == 3:
			values = append(values, fmt.Sprintf(`{"chip":"P%d","n":0,"at":"2026-05-17T09:%02d:00Z"}`, i, i/10))
		case i%10 == 7:
			values = append(values, fmt.Sprintf(`{"chip":"P%d","n":"%d"`, i, i))
		case i == 295:
			values = append(values, `{"chip":"P295","n":1,"at":"2026-05-17T08:00:00Z"}`)
		default:
			values = append(values, fmt.Sprintf(`{"chip":"P%d","n":1,"at":"2026-05-17T09:%02d:00Z"}`, i, i/10))
		}
	}
	p.send("reads", values...)
	var a *jobs.Aside
	eventually(t, "rows set aside", func() bool {
		var err error
		a, err = p.SetAside(t.Context(), "halve", url.Values{"limit": {"1000"}})
		total := int64(0)
		if err == nil {
			for _, r := range a.Reasons {
				total += r.Rows
			}
		}
		return err == nil && total >= 61
	})
	rows := map[string]int64{}
	for _, r := range a.Reasons {
		rows[r.Kind] += r.Rows
	}
	if rows["rejected"] != 60 || rows["late"] != 1 || len(a.Reasons) < 3 {
		t.Errorf("%+v", a.Reasons)
	}
	one := a.Rows[slices.IndexFunc(a.Rows, func(r catalog.SetAside) bool { return r.Step == "half" })]
	some, err := p.SetAside(t.Context(), "halve", url.Values{"kind": {"rejected"}, "text": {one.Row}})
	if err != nil || len(some.Rows) != 1 || some.Rows[0].ID != one.ID || !strings.Contains(one.Row, `"n":0`) {
		t.Fatalf("%+v %v", some, err)
	}
	bad, err := p.SetAside(t.Context(), "halve", url.Values{"kind": {"rejected"}, "step": {"reads"}, "limit": {"1"}})
	if err != nil || len(bad.Rows) != 1 || bad.Rows[0].Topic != "reads" || bad.Next == "" {
		t.Fatalf("%+v %v", bad, err)
	}
	more, err := p.SetAside(t.Context(), "halve", url.Values{"kind": {"rejected"}, "step": {"reads"}, "limit": {"1"}, "before": {bad.Next}})
	if err != nil || len(more.Rows) != 1 || more.Rows[0].ID >= bad.Rows[0].ID {
		t.Errorf("the next page: %+v %v", more, err)
	}
	p.fiume(`{"chip":"mended","n":4,"at":"2026-05-17T09:40:00Z"}`, "job", "aside", "halve", "--send", fmt.Sprint(bad.Rows[0].ID)).want(t, 0, "sent to the topic reads again")
	eventually(t, "the mended row in the sink", func() bool {
		return slices.ContainsFunc(p.all("halves"), func(v string) bool { return strings.Contains(v, `"chip":"mended","h":25`) })
	})
	p.fiume("", "job", "aside", "halve", "--kind", "rejected").want(t, 0, "sent again by", "division by zero")
	file := filepath.Join(t.TempDir(), "rows.csv")
	p.fiume("", "job", "aside", "halve", "--file", file).want(t, 0, "written")
	if b, err := os.ReadFile(file); err != nil || !strings.HasPrefix(string(b), "kind,at,step,reason") || strings.Count(string(b), "\r\n") < 20 {
		t.Errorf("%.200s %v", b, err)
	}
	p.fiume("", "job", "aside", "halve", "--send", "999999").want(t, 2, "standard input, which is empty")
	p.fiume("x", "job", "aside", "halve", "--send", "999999").want(t, 4, "has set no row 999999 aside")
	h, err := p.History(t.Context(), "halve", 15)
	if err != nil || h.Step != 5 {
		t.Errorf("%+v %v", h, err)
	}
	eventually(t, "points of the history", func() bool {
		h, err := p.History(t.Context(), "halve", 15)
		return err == nil && len(h.Points) > 1 && h.Points[len(h.Points)-1].Running
	})
}

// TestWhy asks for every result row of filters, windows and joins which messages made it, and holds the answer
// against a plain computation.
func TestWhy(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC reads (PARTITIONS 3); CREATE TOPIC calls; CREATE TOPIC strong; CREATE TOPIC counts; CREATE TOPIC met;
		DECLARE STREAM reads (chip VARCHAR NOT NULL, mat VARCHAR, n BIGINT, at TIMESTAMP NOT NULL) EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'reads';
		DECLARE STREAM calls (chip VARCHAR NOT NULL, c BIGINT, at TIMESTAMP NOT NULL) EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'calls';
		DECLARE SINK strong TO TOPIC 'strong'; DECLARE SINK counts TO TOPIC 'counts'; DECLARE SINK met TO TOPIC 'met';
		CREATE JOB j WITH
			odd AS (SELECT chip, mat, n * 2 AS twice, at FROM reads WHERE n % 2 = 1),
			counted AS (SELECT UPPER(mat) AS place, w.opens AS opened, COUNT(*) AS rows, SUM(twice) AS total FROM odd GROUP BY UPPER(mat), w WINDOW w AS (SLIDING 20 SECONDS EVERY 10 SECONDS)),
			pairs AS (SELECT r.chip, r.n, c.c FROM reads r JOIN calls c ON c.chip = r.chip AND c.at WITHIN 3 SECONDS OF r.at)
		ROUTE odd TO strong ROUTE counted TO counts ROUTE pairs TO met;`)
	type read struct {
		chip, mat string
		n         int
		at        time.Time
		value     string
	}
	var reads []read
	start := time.Date(2026, 5, 17, 9, 0, 0, 0, time.UTC)
	var ms []api.MessageRequest
	for i := range 240 {
		at := start.Add(time.Duration(i)*time.Second - time.Duration(i*7%4)*time.Second)
		r := read{fmt.Sprint("P", i%6), []string{"start", "km-05", "finish"}[i%3], i, at, ""}
		r.value = fmt.Sprintf(`{"chip":"%s","mat":"%s","n":%d,"at":"%s"}`, r.chip, r.mat, r.n, at.Format(time.RFC3339))
		reads = append(reads, r)
		key := r.chip
		ms = append(ms, api.MessageRequest{Key: &key, Value: r.value})
	}
	if err := p.Write(t.Context(), "reads", ms); err != nil {
		t.Fatal(err)
	}
	for i := range 20 {
		p.send("calls", fmt.Sprintf(`{"chip":"P%d","c":%d,"at":"%s"}`, i%6, i, start.Add(time.Duration(i*11)*time.Second).Format(time.RFC3339)))
	}
	later := start.Add(time.Hour)
	for i := range 30 { // all partitions go on, so that windows close
		key := fmt.Sprint("Z", i)
		if err := p.Write(t.Context(), "reads", []api.MessageRequest{{Key: &key, Value: fmt.Sprintf(`{"chip":"%s","mat":"later","n":2,"at":"%s"}`, key, later.Format(time.RFC3339))}}); err != nil {
			t.Fatal(err)
		}
	}
	p.send("calls", fmt.Sprintf(`{"chip":"Z","c":0,"at":"%s"}`, later.Format(time.RFC3339)))
	eventually(t, "results", func() bool { return len(p.all("counts")) >= 60 && len(p.all("met")) > 10 })
	asked := 0
	for _, sink := range []string{"strong", "counts", "met"} {
		all := p.all(sink)
		for i := 0; i < len(all); i += max(1, len(all)/12) {
			w, err := p.Why(t.Context(), "j", sink, json.RawMessage(all[i]))
			if err != nil {
				t.Fatal(err)
			}
			if !w.Confirmed {
				t.Errorf("%s %s is not confirmed: %v %s", sink, all[i], w.Notes, w.Gives)
			}
			var got, want []string
			for _, s := range w.Streams {
				for _, m := range s.Messages {
					if s.Stream == "reads" && !m.Late {
						got = append(got, m.Value)
					}
				}
			}
			var x struct {
				Place  string
				Opened time.Time
				Chip   string
				N      int
				Twice  int
			}
			if err := json.Unmarshal([]byte(all[i]), &x); err != nil {
				t.Fatal(err)
			}
			for _, r := range reads {
				switch sink {
				case "counts":
					if r.n%2 == 1 && strings.ToUpper(r.mat) == x.Place && !r.at.Before(x.Opened) && r.at.Before(x.Opened.Add(20*time.Second)) {
						want = append(want, r.value)
					}
				case "strong":
					if r.n*2 == x.Twice && r.chip == x.Chip {
						want = append(want, r.value)
					}
				case "met":
					if r.n == x.N && r.chip == x.Chip {
						want = append(want, r.value)
					}
				}
			}
			slices.Sort(got)
			slices.Sort(want)
			if !slices.Equal(got, want) {
				t.Errorf("%s %s: made of %v, wanted %v", sink, all[i], got, want)
			}
			asked++
		}
	}
	if asked < 30 {
		t.Errorf("only %d rows were asked for", asked)
	}
	// Part of a row: what is found is not confirmed, and said so.
	if w, err := p.Why(t.Context(), "j", "counts", json.RawMessage(`{"place":"FINISH"}`)); err != nil || w.Confirmed || w.Streams[0].Found < 30 {
		t.Errorf("%+v %v", w, err)
	}
	for text, args := range map[string][3]string{"no sink": {"j", "cuonts", "{}"}, "no column": {"j", "counts", `{"plaze":1}`}, "no job": {"k", "counts", "{}"}, "does not fit": {"j", "counts", `{"rows":"many"}`}} {
		if _, err := p.Why(t.Context(), args[0], args[1], json.RawMessage(args[2])); err == nil || !strings.Contains(err.Error(), text) {
			t.Errorf("%v: %v, wanted %s", args, err, text)
		}
	}

	// And the other way: what became of messages.
	verdict := func(value, step, kind string) string {
		t.Helper()
		ms, err := p.Read(t.Context(), "reads", url.Values{"text": {value}, "limit": {"10"}})
		if err != nil || len(ms) != 1 {
			t.Fatalf("%d messages have %s, %v", len(ms), value, err)
		}
		b, err := p.Became(t.Context(), "j", "reads", ms[0].Partition, ms[0].Offset)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range b.Steps {
			if s.Step == step && s.Kind == kind {
				return s.Verdict
			}
		}
		return "did not come there"
	}
	for _, c := range []struct{ value, step, kind, want string }{
		{`"n":31,`, "odd", "filter", "passed"}, {`"n":31,`, "counted", "window", "counted"}, {`"n":31,`, "counts", "output", "written"},
		{`"n":30,`, "odd", "filter", "filtered"}, {`"n":30,`, "counted", "window", "did not come there"},
	} {
		if got := verdict(c.value, c.step, c.kind); got != c.want {
			t.Errorf("%s in %s %s: %s, wanted %s", c.value, c.step, c.kind, got, c.want)
		}
	}
	key := "Z1"
	for _, v := range []string{`{"chip":"Z1","mat":"start","n":777,"at":"2026-05-17T09:00:01Z"}`, `{"chip":"Z1","n":778}`} {
		if err := p.Write(t.Context(), "reads", []api.MessageRequest{{Key: &key, Value: v}}); err != nil {
			t.Fatal(err)
		}
	}
	if got := verdict(`"n":777,`, "counted", "window"); got != "late" {
		t.Errorf("the late row: %s", got)
	}
	if got := verdict(`"n":778`, "reads", "scan"); got != "rejected" {
		t.Errorf("the bad row: %s", got)
	}
	p.fiume("", "job", "became", "j", "reads", "0:0").want(t, 0, "STEP", "VERDICT", "event time")
	p.fiume("", "job", "became", "j", "reads", "zero").want(t, 2, "PARTITION:OFFSET")
	p.fiume("", "job", "why", "j", "met", p.all("met")[0]).want(t, 0, "gives just this row")
}

// TestConnections: what a job would read and write is tested, and each failure says what is wrong and the way out.
func TestConnections(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	address, db := raceDatabase(t)
	if _, err := db.Exec("CREATE TABLE narrow (chip VARCHAR(20))"); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	p.apply(declareReads + p.endpoint(address) + `
		DECLARE ENDPOINT nowhere MARIADB 'race@127.0.0.1:1/race'; DECLARE ENDPOINT stranger MARIADB '` + strings.Replace(address, "race", "nobody", 1) + `';
		DECLARE SINK away TO MARIADB 'x' VIA nowhere; DECLARE SINK narrow TO MARIADB 'narrow' VIA race_db; DECLARE SINK crowding TO MARIADB 'crowding' VIA race_db;
		DECLARE SINK no_topic TO TOPIC 'no-topic'; DECLARE SINK archive TO FILES '` + dir + `/new/files';
		DECLARE STREAM no_files (a VARCHAR) FROM FILES '/nowhere/at/all.json';`)
	p.send("mat-reads", `{"chip":"P1","mat":"start","read_at":"2026-05-17T09:00:00Z"}`, "noise")
	r := p.fiume("", "connections")
	for _, part := range []string{"FAILED  endpoint nowhere", "no  reachable: the server does not answer", "FAILED  endpoint stranger", "no  allowed: Access denied",
		"FAILED  sink no_topic", "create it with CREATE TOPIC", "ok      sink archive", "FAILED  stream no_files", "1 of the newest 2 messages are rows", "ok      sink crowding"} {
		if !strings.Contains(r.out, part) {
			t.Errorf("it lacks %q:\n%s", part, r.out)
		}
	}
	if r.code != 1 || !strings.Contains(r.err, "cannot be used") {
		t.Errorf("exit code %d: %s", r.code, r.err)
	}
	all, err := p.Connections(t.Context(), "CREATE JOB j AS SELECT chip, mat FROM reads ROUTE TO narrow, crowding, no_topic;", nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	found := map[string]string{}
	for _, c := range all {
		last := c.Checks[len(c.Checks)-1]
		found[c.Name] = fmt.Sprintf("%v %s", c.OK, last.What)
	}
	want := map[string]string{"reads": "true columns fit", "narrow": "false columns fit", "crowding": "false columns fit", "no_topic": "false exists"}
	if !reflect.DeepEqual(found, want) {
		t.Errorf("%v, wanted %v: %+v", found, want, all)
	}
	p.fiume("", "connections", "reads").want(t, 0, "ok      stream reads")
	p.fiume("", "connections", "raeds").want(t, 4, "nothing is declared")
}

// TestFollowTopic follows a topic: what comes is shown, by key too.
func TestFollowTopic(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply("CREATE TOPIC reads (PARTITIONS 2);")
	p.send("reads", "before")
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	var got []string
	ready := make(chan struct{})
	go func() {
		<-ready
		time.Sleep(300 * time.Millisecond)
		for i := range 5 {
			key := fmt.Sprint("k", i%2)
			if err := p.Write(ctx, "reads", []api.MessageRequest{{Key: &key, Value: fmt.Sprint("v", i)}}); err != nil {
				t.Error(err)
			}
		}
	}()
	close(ready)
	err := p.Follow(ctx, "reads", url.Values{"key": {"k1"}}, func(f api.Followed) error {
		for _, m := range f.Messages {
			got = append(got, m.Value)
		}
		if len(got) == 2 {
			cancel()
		}
		return nil
	})
	if err != nil || !slices.Equal(got, []string{"v1", "v3"}) {
		t.Errorf("%v %v", got, err)
	}
	p.fiume("", "topic", "read", "reads", "--key", "k0", "--output", "value").want(t, 0, "v0\nv2\nv4")
	p.fiume("", "topic", "read", "reads", "--text", "before", "--output", "hex").want(t, 0, "62 65 66 6f 72 65", "|before|")
}
