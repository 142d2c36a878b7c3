package questions_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"fiume/internal/service/base"
	"fiume/internal/service/declare"
	"fiume/internal/service/questions"
	"fiume/internal/service/samples"
	"fiume/internal/service/servicetest"
)

func script(text string) declare.Script { return declare.Script{File: "test.sql", SQL: text} }

// counting counts reads by mat in ten seconds.
const counting = `SELECT mat, w.opens AS opened, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 10 SECONDS)`

// day is a service with reads of a minute at three mats, and a job that counts them.
func day(t *testing.T) *servicetest.Parts {
	p := servicetest.New(t)
	p.Apply(servicetest.Reads + `CREATE TOPIC counts (PARTITIONS 1); DECLARE SINK counts TO TOPIC 'counts';
		CREATE JOB counting AS ` + counting + ` ROUTE TO counts SET (CHECKPOINT EVERY 100 MILLISECONDS);`)
	var ms []string
	for i := range 60 {
		ms = append(ms, fmt.Sprintf("1\t"+`{"chip":"C%d","mat":"m%d","rssi":%d,"read_at":"2026-05-17T09:00:%02dZ"}`, i%7, i%3, -90+i, i))
	}
	p.Write("reads", ms...)
	p.Write("reads", "1\tno JSON", "1\t"+`{"chip":"late","mat":"m0","read_at":"2026-05-17T09:00:01Z"}`, "1\t"+`{"chip":"end","mat":"end","read_at":"2026-05-17T09:10:00Z"}`, "2\t"+`{"chip":"end","mat":"end","read_at":"2026-05-17T09:10:00Z"}`)
	p.Wait("counts", func() bool { return len(p.Values("counts")) == 18 })
	return p
}

func texts(rows []json.RawMessage) (out []string) {
	for _, r := range rows {
		out = append(out, string(r))
	}
	slices.Sort(out)
	return out
}

// TestTry gives what the job gives, over the topic and over a sample, and keeps nothing.
func TestTry(t *testing.T) {
	p := day(t)
	before := fmt.Sprint(p.Definitions.List(""), p.Activity())
	want := p.Values("counts")
	for name, text := range map[string]string{
		"query": counting + ";", "job": "CREATE JOB other AS " + counting + " ROUTE TO counts;",
		"own declarations": `DECLARE STREAM mine (mat VARCHAR, read_at TIMESTAMP) EVENT TIME read_at DELAY 5 SECONDS FROM TOPIC 'reads'; DECLARE SINK my_counts TO TOPIC 'nowhere';
			CREATE VIEW counted AS ` + strings.Replace(counting, "FROM reads", "FROM mine", 1) + `; CREATE JOB j AS SELECT * FROM counted ROUTE TO my_counts;`,
	} {
		r, err := p.Questions.Try(t.Context(), questions.TryRequest{SQL: text})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		got := texts(r.Results[0].Rows)
		got = slices.DeleteFunc(got, func(s string) bool { return strings.Contains(s, `"end"`) }) // an end closes all windows
		if len(got) != len(want) || !slices.Equal(got, want) {
			t.Errorf("%s:\n%q\n%q", name, got, want)
		}
		if len(r.Reasons) == 0 || len(r.Shown) == 0 || r.Plan == nil {
			t.Errorf("%s: %+v", name, r)
		}
	}
	kept, err := p.Samples.Keep(t.Context(), "ada", samples.SampleRequest{Topic: "reads", Limit: 10})
	if err != nil {
		t.Fatal(err)
	}
	r, err := p.Questions.Try(t.Context(), questions.TryRequest{SQL: "SELECT chip FROM reads;", Samples: map[string]uint{"reads": kept.ID}, Rows: 3})
	if err != nil || len(r.Results[0].Rows) != 3 || r.Results[0].Total < 3 || r.Results[0].Total > 20 {
		t.Errorf("%+v %v", r, err)
	}
	if r, err := p.Questions.Try(t.Context(), questions.TryRequest{SQL: "SELECT chip FROM reads;", Since: "NOW"}); err != nil || r.Results[0].Total != 0 {
		t.Errorf("%+v %v", r, err)
	}
	for text, says := range map[string]string{"": "there is nothing to try", "SELECT nothing FROM reads;": "nothing", "DROP STREAM reads;": "this is not something to try", "DECLARE SINK x TO TOPIC 'y';": "there is nothing to try"} {
		_, err := p.Questions.Try(t.Context(), questions.TryRequest{SQL: text})
		p.Says(err, says)
	}
	_, err = p.Questions.Try(t.Context(), questions.TryRequest{SQL: "SELECT chip FROM reads;", Samples: map[string]uint{"read": 1}})
	p.Says(err, `did you mean "reads"?`)
	_, err = p.Questions.Try(t.Context(), questions.TryRequest{SQL: "SELECT chip FROM reads;", Samples: map[string]uint{"reads": 99}})
	p.Says(err, "there is no sample 99")
	_, err = p.Questions.Try(t.Context(), questions.TryRequest{SQL: "SELECT chip FROM reads;", Since: "yesterday"})
	p.Says(err, "since: ")
	if err := p.Samples.Drop(t.Context(), "ada", kept.ID); err != nil {
		t.Fatal(err)
	}
	if after := fmt.Sprint(p.Definitions.List(""), p.Activity()); !strings.HasPrefix(after, before[:len(before)-1]) {
		t.Errorf("a try keeps something: %s\n%s", before, after)
	}
}

// TestKeepTry makes a test of a try that a runner of tests can do; a name or text that would reach elsewhere is refused.
func TestKeepTry(t *testing.T) {
	p := day(t)
	b, err := p.Questions.KeepTry(t.Context(), questions.TryRequest{SQL: counting + ";"}, "my test")
	if err != nil {
		t.Fatal(err)
	}
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, f := range z.File {
		names = append(names, f.Name)
		if !filepath.IsLocal(f.Name) {
			t.Errorf("%q", f.Name)
		}
	}
	if !slices.ContainsFunc(names, func(n string) bool { return strings.HasSuffix(n, "/test.sql") }) || !slices.ContainsFunc(names, func(n string) bool { return strings.Contains(n, "/in/reads.") }) {
		t.Errorf("%q", names)
	}
	for text, says := range map[string]string{
		`DECLARE STREAM "../x" (a BIGINT) FROM TOPIC 'reads'; SELECT a FROM "../x";`: "a name that no file can have",
		"-- use: /etc/passwd\n" + counting + ";":                                     "",
	} {
		b, err := p.Questions.KeepTry(t.Context(), questions.TryRequest{SQL: text}, "t")
		if err == nil && bytes.Contains(b, []byte("root:")) || says != "" && (err == nil || !strings.Contains(err.Error(), says)) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// TestQuery: a live query sees what comes, tells how many rows it set aside, and ends with its caller or its limit.
func TestQuery(t *testing.T) {
	p := day(t)
	run := func(text string) (rows []string, last questions.QueryAside) {
		t.Helper()
		q, err := p.Questions.Query(t.Context(), script(text))
		if err != nil {
			t.Fatal(err)
		}
		var mu sync.Mutex
		if _, _, err := q.Run(t.Context(), func(row []byte) error {
			mu.Lock()
			defer mu.Unlock()
			rows = append(rows, string(row))
			return nil
		}, func(a questions.QueryAside) { last = a }); err != nil {
			t.Fatal(err)
		}
		return rows, last
	}
	rows, aside := run("SELECT chip FROM reads SINCE BEGINNING UNTIL NOW;")
	if len(rows) != 63 || aside.Rejected != 1 || aside.Reason == "" {
		t.Errorf("%d rows, %+v", len(rows), aside)
	}
	if rows, _ := run("SELECT chip FROM reads SINCE BEGINNING LIMIT 5;"); len(rows) != 5 {
		t.Errorf("%d rows", len(rows))
	}
	if rows, _ := run("SELECT chip FROM reads LIMIT 0;"); len(rows) != 0 {
		t.Errorf("%d rows", len(rows))
	}
	if _, aside := run(strings.Replace(counting, "FROM reads", "FROM reads SINCE BEGINNING", 1) + " UNTIL NOW;"); aside.Late != 1 {
		t.Errorf("%+v", aside)
	}
	q, err := p.Questions.Query(t.Context(), declare.Script{SQL: "SELECT chip FROM reads;", Begin: "BEGINNING"})
	if err != nil || len(q.Columns) != 1 || q.Columns[0].Type != "VARCHAR" || len(q.Fields()) != 1 {
		t.Fatal(q, err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	n := 0
	if _, _, err := q.Run(ctx, func([]byte) error {
		if n++; n == 10 {
			cancel()
		}
		return nil
	}, func(questions.QueryAside) {}); err != nil {
		t.Errorf("a query whose caller goes ends with %v", err)
	}
	stop := errors.New("enough")
	if _, _, err := q.Run(t.Context(), func([]byte) error { return stop }, func(questions.QueryAside) {}); !errors.Is(err, stop) {
		t.Errorf("a query whose rows nobody takes ends with %v", err)
	}
	for text, says := range map[string]string{"SELECT chip FROM reads; SELECT mat FROM reads;": "expected one SELECT, found 2 statements", "DROP STREAM reads;": "send it with fiume apply", "SELECT nothing FROM reads;": "nothing", "": "found 0 statements"} {
		_, err := p.Questions.Query(t.Context(), script(text))
		p.Says(err, says)
	}
	_, err = p.Questions.Query(t.Context(), declare.Script{SQL: "SELECT chip FROM reads;", Begin: "yesterday"})
	p.Says(err, "begin: ")
}

// TestCompare finds the rows that a new text of a job makes otherwise, against what is counted here.
func TestCompare(t *testing.T) {
	p := day(t)
	same, err := p.Questions.Compare(t.Context(), "counting", script("CREATE OR REPLACE JOB counting AS "+counting+" ROUTE TO counts;"), "")
	if err != nil || len(same.Sinks) != 1 || same.Sinks[0].Equal != 19 || same.Sinks[0].Missing+same.Sinks[0].Added+same.Sinks[0].Changed != 0 || same.Read != 64 {
		t.Errorf("%+v %v", same, err)
	}
	other, err := p.Questions.Compare(t.Context(), "counting", script("CREATE OR REPLACE JOB counting AS "+strings.Replace(counting, "FROM reads", "FROM reads WHERE mat <> 'm1'", 1)+" ROUTE TO counts;"), "")
	if err != nil || other.Sinks[0].Equal != 13 || other.Sinks[0].Missing != 6 || other.Sinks[0].Added != 0 || len(other.Sinks[0].Samples) == 0 {
		t.Errorf("%+v %v", other, err)
	}
	keyed, err := p.Questions.Compare(t.Context(), "counting", script("DECLARE SINK x TO TOPIC 'y'; CREATE OR REPLACE JOB counting AS "+counting+" ROUTE TO counts;"), "BEGINNING")
	if err != nil || keyed.Sinks[0].Equal != 19 {
		t.Errorf("%+v %v", keyed, err)
	}
	_, err = p.Questions.Compare(t.Context(), "counting", script("SELECT chip FROM reads;"), "")
	p.Says(err, "the text has no CREATE JOB counting")
	_, err = p.Questions.Compare(t.Context(), "countin", script("SELECT chip FROM reads;"), "")
	p.Says(err, `did you mean "counting"?`)
	_, err = p.Questions.Compare(t.Context(), "counting", script("CREATE JOB counting AS SELECT nothing FROM reads ROUTE TO counts;"), "")
	p.Says(err, "nothing")
	_, err = p.Questions.Compare(t.Context(), "counting", script("CREATE JOB counting AS "+counting+" ROUTE TO counts;"), "then")
	p.Says(err, "since: ")
}

// TestWhy finds the messages that made a row, and Became what became of each of them.
func TestWhy(t *testing.T) {
	p := day(t)
	for _, row := range p.Values("counts")[:6] {
		w, err := p.Questions.Why(t.Context(), "counting", "counts", json.RawMessage(row))
		if err != nil {
			t.Fatal(err)
		}
		var r struct {
			Mat string
			N   int
		}
		if err := json.Unmarshal([]byte(row), &r); err != nil {
			t.Fatal(err)
		}
		if !w.Confirmed || len(w.Streams) != 1 {
			t.Errorf("%s: %+v", row, w)
			continue
		}
		counted := 0
		for _, m := range w.Streams[0].Messages {
			if !strings.Contains(m.Value, `"mat":"`+r.Mat+`"`) {
				t.Errorf("%s comes from %s", row, m.Value)
			}
			if !m.Late {
				counted++
			}
		}
		if counted != r.N {
			t.Errorf("%s comes from %d messages", row, counted)
		}
		m := w.Streams[0].Messages[0]
		b, err := p.Questions.Became(t.Context(), "counting", "reads", m.Partition, m.Offset)
		if err != nil || !b.Read || len(b.Steps) == 0 || b.EventTime == nil {
			t.Errorf("%+v %v", b, err)
		}
	}
	verdict := func(text string) string {
		t.Helper()
		for part := range 2 {
			for offset := int64(0); ; offset++ {
				b, err := p.Questions.Became(t.Context(), "counting", "reads", part, offset)
				if err != nil {
					break
				}
				if strings.Contains(b.Message.Value, text) {
					return b.Steps[len(b.Steps)-1].Verdict
				}
			}
		}
		return "not found"
	}
	if v := verdict("no JSON"); v != "rejected" {
		t.Errorf("what is no JSON is %s", v)
	}
	if v := verdict(`"late"`); v != "late" {
		t.Errorf("what is late is %s", v)
	}
	_, err := p.Questions.Why(t.Context(), "counting", "count", json.RawMessage(`{}`))
	p.Says(err, "counts")
	_, err = p.Questions.Why(t.Context(), "counting", "counts", json.RawMessage(`[1]`))
	p.Says(err, "")
	_, err = p.Questions.Became(t.Context(), "counting", "strong", 0, 0)
	p.Says(err, "strong")
	_, err = p.Questions.Became(t.Context(), "counting", "reads", 0, 1_000_000)
	p.Says(err, "")
}

// TestLateness: the lags of a stream are those that are counted here.
func TestLateness(t *testing.T) {
	p := day(t)
	l, err := p.Questions.Lateness(t.Context(), "reads", "")
	if err != nil || l.Rows != 63 || l.Rejected != 1 || l.Most != 58_000_000 || l.EventTime != "read_at" || len(l.Proposals) != 4 || l.Delay != 5_000_000 {
		t.Errorf("%+v %v", l, err)
	}
	if want := 62.0 / 63; l.Kept < want-0.001 || l.Kept > want+0.001 {
		t.Errorf("%v of the rows are kept, want %v", l.Kept, want)
	}
	p.Apply("DECLARE STREAM bare (chip VARCHAR) FROM TOPIC 'reads';")
	_, err = p.Questions.Lateness(t.Context(), "bare", "")
	p.Says(err, "no row is late")
	_, err = p.Questions.Lateness(t.Context(), "counts", "")
	p.Says(err, `"counts" is no stream`)
	_, err = p.Questions.Lateness(t.Context(), "reads", "NOW; DROP STREAM reads")
	p.Says(err, "")
}

// TestConnections says of each place whether a job could use it, and how to mend it.
func TestConnections(t *testing.T) {
	p := day(t)
	if err := os.MkdirAll(filepath.Join(p.Base.Dir, "files", "in"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(p.Base.Dir, "files", "in", "a.csv"), []byte("chip,n\nA,1\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	p.Apply(`DECLARE STREAM gone (a BIGINT) FROM TOPIC 'gone'; DECLARE SINK nowhere TO TOPIC 'nowhere';
		DECLARE STREAM odd (chip BIGINT NOT NULL) FROM TOPIC 'reads';
		DECLARE STREAM past (chip VARCHAR, more BIGINT) FROM FILES 'in/*.csv' (FORMAT csv); DECLARE STREAM no_files (a BIGINT) FROM FILES 'none/*.json'; DECLARE SINK parts TO FILES 'out'; DECLARE SINK on_a_file TO FILES 'in/a.csv';
		DECLARE ENDPOINT away MARIADB 'race@127.0.0.1:1/race' SECRET 'away'; DECLARE SINK far TO MARIADB 't' VIA away (KEY (a));`)
	all, err := p.Questions.Connections(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	found := map[string]questions.Connection{}
	for _, c := range all {
		found[c.Name] = c
	}
	for name, want := range map[string]struct {
		ok   bool
		says string
	}{
		"reads": {true, "of the newest"}, "counts": {true, "1 partition(s)"}, "gone": {false, `create it with CREATE TOPIC gone`}, "nowhere": {false, "CREATE TOPIC"}, "odd": {false, "none of the newest"},
		"past": {true, "more"}, "no_files": {false, "none"}, "parts": {true, "files can be made"}, "on_a_file": {false, "is a file"}, "away": {false, ""}, "far": {false, ""},
	} {
		c, ok := found[name]
		if !ok || len(c.Checks) == 0 {
			t.Errorf("%s: %+v", name, c)
			continue
		}
		if c.OK != want.ok || !strings.Contains(fmt.Sprint(c.Checks), want.says) {
			t.Errorf("%s: %+v", name, c)
		}
	}
	if some, err := p.Questions.Connections(t.Context(), []string{"reads"}); err != nil || len(some) != 1 {
		t.Errorf("%+v %v", some, err)
	}
	_, err = p.Questions.Connections(t.Context(), []string{"read"})
	p.Says(err, `nothing is declared as "read"`)
	for text, ok := range map[string]bool{"": false, "CREATE TOPIC mine; ": true} { // a topic that the text makes is there when it is needed
		of, err := p.Questions.ConnectionsOf(t.Context(), script(text+"DECLARE SINK mine TO TOPIC 'mine'; CREATE JOB j AS SELECT chip FROM reads ROUTE TO mine, counts;"))
		if err != nil || len(of) != 3 || slices.ContainsFunc(of, func(c questions.Connection) bool { return !c.OK }) == ok {
			t.Errorf("%s: %+v %v", text, of, err)
		}
	}
}

// TestRowsOf shows rows of what is declared.
func TestRowsOf(t *testing.T) {
	p := day(t)
	p.Apply("CREATE VIEW near AS SELECT chip FROM reads WHERE rssi > -60;")
	for name, most := range map[string]int{"reads": 5, "near": 3} {
		r, err := p.Questions.RowsOf(t.Context(), name, most)
		if err != nil || len(r.Results) != 1 || len(r.Results[0].Rows) == 0 || len(r.Results[0].Rows) > most {
			t.Errorf("%s: %+v %v", name, r, err)
		}
	}
	_, err := p.Questions.RowsOf(t.Context(), "nothing", 5)
	p.Says(err, "nothing")
}

// TestGone: who goes while a question is answered does not hold its place.
func TestGone(t *testing.T) {
	p := day(t)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	for range 20 {
		if _, err := p.Questions.Try(gone, questions.TryRequest{SQL: counting + ";"}); err == nil {
			t.Error("a question of nobody is answered")
		}
	}
	ctx, end := context.WithTimeout(t.Context(), time.Minute)
	defer end()
	if _, err := p.Questions.Try(ctx, questions.TryRequest{SQL: counting + ";"}); err != nil || errors.Is(err, base.ErrBusy) {
		t.Error(err)
	}
}
