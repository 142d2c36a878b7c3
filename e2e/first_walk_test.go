package e2e

import (
	"bufio"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"fiume/internal/api"
)

// TestUnknownPaths: what is no page and no call is not found, so that a probe of another path is never told that all is well.
func TestUnknownPaths(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	get := func(path, accept string) (int, string) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), "GET", p.base+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Accept", accept)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, string(b)
	}
	for _, path := range []string{"/healthz", "/health", "/metrics.php", "/jobs.php", "/..%2f..%2fetc%2fpasswd", "/api/nothing"} {
		if code, body := get(path, "*/*"); code != 404 || !strings.Contains(body, "openapi.json") {
			t.Errorf("%s: %d %s", path, code, body)
		}
	}
	if code, body := get("/healthz", "text/html"); code != 404 || !strings.Contains(body, "<html") { // the console says that there is no such page
		t.Errorf("%d %s", code, body)
	}
	for _, path := range []string{"/", "/jobs/none", "/topics/none", "/declared", "/declared/none", "/work", "/streams/none/lateness", "/activity"} {
		if code, body := get(path, "text/html"); code != 200 || !strings.Contains(body, "<html") {
			t.Errorf("%s: %d", path, code)
		}
	}
	p.stop()
}

// TestWriteFlows: lines are in the topic soon after they were typed, and those that were read when Ctrl-C comes, too.
func TestWriteFlows(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply("CREATE TOPIC t (PARTITIONS 1);")
	cmd := exec.Command(binary, "topic", "write", "t", "--server", p.base)
	in, err := cmd.StdinPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	for i := range 3 {
		if _, err := fmt.Fprintf(in, "line %d\n", i); err != nil {
			t.Fatal(err)
		}
		eventually(t, "the line in the topic while its writer waits", func() bool { return len(p.all("t")) == i+1 })
	}
	if _, err := io.WriteString(in, "last\n"); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the last line", func() bool { return len(p.all("t")) == 4 })
	if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err == nil || cmd.ProcessState.ExitCode() != 130 {
		t.Errorf("ended with %v", err)
	}
	p.stop()
}

// TestFilesSayWhatIsWrong: files that are no rows as declared are said, and no row is lost in silence.
func TestFilesSayWhatIsWrong(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	files := t.TempDir()
	put := func(name, text string) {
		t.Helper()
		writeFile(t, files, name, text)
	}
	put("bare.csv", "P1,start,1\nP2,km-05,2\n")
	put("short.csv", "chip,mat\nP1,start\nP2,km-05\n")
	put("packed.csv", "\x1f\x8b\x08\x00\x00\x00")
	put("whole.csv", "chip,mat,n\nP1,start,1\n")
	declare := func(name, options string) string {
		return fmt.Sprintf("DECLARE STREAM %[1]s (chip VARCHAR, mat VARCHAR, n BIGINT) FROM FILES '%[3]s/%[1]s.csv' (FORMAT csv%[2]s); ", name, options, files)
	}
	p.apply(declare("bare", "") + declare("short", "") + declare("packed", "") + declare("whole", ""))
	run := func(name string) result {
		return p.fiume("", "query", "SELECT * FROM "+name)
	}
	run("bare").want(t, 1, "names none of the columns of bare", "HEADER false")
	run("packed").want(t, 1, "packed.csv", "what is packed cannot be read")
	run("short").want(t, 0, "P2")
	run("whole").want(t, 0, "P1")
	p.fiume("", "connections").want(t, 1, "names none of the columns", "what is packed cannot be read", "the header (chip, mat) does not name n", "the columns are there")
	p.apply("DECLARE OR REPLACE STREAM bare (chip VARCHAR, mat VARCHAR, n BIGINT) FROM FILES '" + filepath.Join(files, "bare.csv") + "' (FORMAT csv, HEADER false);")
	if r := run("bare").want(t, 0, "P1", "P2"); !strings.Contains(r.out, "2 rows") {
		t.Errorf("%s", r.out)
	}
	for _, q := range []string{"DECLARE SINK far TO FILES 'ftp://bucket/t'; CREATE JOB j AS SELECT chip FROM whole ROUTE TO far;",
		"DECLARE STREAM far (chip VARCHAR) FROM FILES 'gs://bucket/t' (FORMAT json); CREATE TOPIC x; DECLARE SINK x TO TOPIC 'x'; CREATE JOB j AS SELECT chip FROM far ROUTE TO x;"} {
		if r, err := p.Apply(t.Context(), api.ScriptRequest{SQL: q}); err == nil && r.Problem == nil || !strings.Contains(fmt.Sprint(err, r.Problem), "nobody serves") {
			t.Errorf("%v %+v", err, r)
		}
	}
	p.stop()
}

// TestDryRunAgrees: what a dry run says is what is done, and where one statement cannot be done none is.
func TestDryRunAgrees(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply("CREATE TOPIC reads (PARTITIONS 1); DECLARE STREAM reads (chip VARCHAR, n BIGINT) FROM TOPIC 'reads';")
	good := "CREATE TOPIC one (PARTITIONS 1); DECLARE SINK one TO TOPIC 'one' (KEY (chip)); CREATE JOB first AS SELECT chip FROM reads ROUTE TO one;"
	bad := good + "DECLARE SINK two TO TOPIC 'two'; CREATE JOB second AS SELECT chip FROM reads ROUTE TO two;"
	apply := func(text string, dry bool) string {
		t.Helper()
		r, err := p.Apply(t.Context(), api.ScriptRequest{SQL: text, DryRun: dry})
		if err != nil {
			return err.Error()
		}
		if r.Problem != nil {
			return fmt.Sprint(r.Problem)
		}
		return ""
	}
	for _, dry := range []bool{true, false} {
		if s := apply(bad, dry); !strings.Contains(s, "there is no topic 'two'") {
			t.Errorf("dry run %v: %q", dry, s)
		}
		if topics, err := p.Topics(t.Context()); err != nil || len(topics) != 1 {
			t.Errorf("dry run %v has made topics: %+v %v", dry, topics, err)
		}
		if jobs, err := p.Jobs(t.Context()); err != nil || len(jobs) != 0 {
			t.Errorf("dry run %v has made jobs: %+v %v", dry, jobs, err)
		}
	}
	for _, dry := range []bool{true, false} {
		if s := apply(good, dry); s != "" {
			t.Errorf("dry run %v: %s", dry, s)
		}
	}
	for _, text := range []string{ // the same again, with and without OR REPLACE
		"DECLARE OR REPLACE STREAM reads (chip VARCHAR,  n BIGINT) FROM TOPIC 'reads';", "DECLARE STREAM reads (chip VARCHAR, n BIGINT) FROM TOPIC 'reads';",
		"CREATE OR REPLACE JOB first AS SELECT chip FROM reads ROUTE TO one;", "DECLARE OR REPLACE SINK one TO TOPIC 'one' (KEY (chip));"} {
		for _, o := range p.apply(text).Outcomes {
			if o.Done != "unchanged" {
				t.Errorf("%s: %+v", text, o)
			}
		}
	}
	p.stop()
}

// TestUsedStreamsAreRefused: a change that does not fit what uses a stream is refused with all reasons, and all goes on.
func TestUsedStreamsAreRefused(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC reads (PARTITIONS 1); CREATE TOPIC other; CREATE TOPIC out; DECLARE SINK out TO TOPIC 'out';
		DECLARE STREAM reads (chip VARCHAR, n BIGINT, at TIMESTAMP, up VARCHAR AS (UPPER(chip))) EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'reads';
		CREATE VIEW loud AS SELECT up, n FROM reads;
		CREATE JOB j AS SELECT up, n FROM reads ROUTE TO out SET (CHECKPOINT EVERY 200 MILLISECONDS);`)
	p.send("reads", `{"chip":"a","n":1,"at":"2026-05-17T09:00:00Z"}`)
	eventually(t, "a row", func() bool { return len(p.all("out")) == 1 })
	columns := "chip VARCHAR, n BIGINT, at TIMESTAMP, up VARCHAR AS (UPPER(chip))"
	for text, reasons := range map[string][]string{
		"(chip VARCHAR, at TIMESTAMP) EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'reads'":                                                 {`"n" would be gone`, "the job j could not go on", `unknown column "up"`, "the view loud"},
		"(chip VARCHAR, n VARCHAR, at TIMESTAMP, up VARCHAR AS (UPPER(chip))) EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'reads'":         {`"n" would be VARCHAR in place of BIGINT`},
		"(chip VARCHAR, n BIGINT NOT NULL, at TIMESTAMP, up VARCHAR AS (UPPER(chip))) EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'reads'": {`"n" would be NOT NULL`},
		"(" + columns + ", x BIGINT NOT NULL) EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'reads'":                                         {`the new column "x" is NOT NULL`},
		"(" + columns + ") EVENT TIME at DELAY 9 SECONDS FROM TOPIC 'reads'":                                                            {"its event time would be at DELAY 9 SECONDS in place of at DELAY 5 SECONDS"},
		"(" + columns + ") EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'other'":                                                            {"it would read TOPIC 'other' in place of TOPIC 'reads'"},
		"(" + columns + ") EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'reads' (FORMAT csv)":                                               {"its option FORMAT would be csv in place of left out"},
	} {
		for _, dry := range []bool{true, false} {
			_, err := p.Apply(t.Context(), api.ScriptRequest{SQL: "DECLARE OR REPLACE STREAM reads " + text + ";", DryRun: dry})
			for _, why := range append(reasons, "job j") {
				if !strings.Contains(fmt.Sprint(err), why) {
					t.Errorf("%s: lacks %q: %v", text, why, err)
				}
			}
		}
	}
	r := p.apply("DECLARE OR REPLACE STREAM reads (chip VARCHAR, n BIGINT, at TIMESTAMP, up VARCHAR AS (LOWER(chip) || '!'), x DOUBLE) EVENT TIME at DELAY 5 SECONDS IDLE AFTER 5 SECONDS FROM TOPIC 'reads';")
	if len(r.Outcomes) != 1 || r.Outcomes[0].Done != "replaced" || len(r.Outcomes[0].Jobs) != 1 || r.Outcomes[0].Jobs[0].Job != "j" {
		t.Errorf("%+v", r.Outcomes)
	}
	p.send("reads", `{"chip":"B","n":2,"at":"2026-05-17T09:00:01Z","x":1.5}`)
	eventually(t, "the row as it is computed now, behind the one before", func() bool {
		rows := p.all("out")
		return len(rows) == 2 && strings.Contains(rows[0], `"A"`) && strings.Contains(rows[1], `"b!"`)
	})
	p.stop()
}

// TestSilence: a silent split that holds the others up is named; with IDLE AFTER it does not, and when all are silent what is
// due comes out.
func TestSilence(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC reads (PARTITIONS 2); CREATE TOPIC out (PARTITIONS 1); DECLARE SINK out TO TOPIC 'out';
		DECLARE STREAM reads (chip VARCHAR, at TIMESTAMP) EVENT TIME at FROM TOPIC 'reads';
		CREATE JOB j AS SELECT chip, w.opens AS opens, COUNT(*) AS n FROM reads GROUP BY chip, w WINDOW w AS (SESSION GAP 3 SECONDS) ROUTE TO out SET (CHECKPOINT EVERY 300 MILLISECONDS);`)
	at := time.Now().Add(-time.Hour).UTC()
	for i := range 5 {
		key := "a" // all in one partition
		if err := p.Write(t.Context(), "reads", []api.MessageRequest{{Key: &key, Value: fmt.Sprintf(`{"chip":"a","at":"%s"}`, at.Add(time.Duration(i)*10*time.Second).Format(time.RFC3339Nano))}}); err != nil {
			t.Fatal(err)
		}
	}
	eventually(t, "the silent split to be named", func() bool {
		j, err := p.Job(t.Context(), "j")
		return err == nil && strings.Contains(j.Reason, "waits for reads/") && strings.Contains(j.Reason, "IDLE AFTER")
	})
	p.fiume("", "job", "show", "j").want(t, 0, "the others wait for it")
	if rows := p.all("out"); len(rows) != 0 {
		t.Errorf("%v", rows)
	}
	p.apply("DECLARE OR REPLACE STREAM reads (chip VARCHAR, at TIMESTAMP) EVENT TIME at IDLE AFTER 1 SECOND FROM TOPIC 'reads';")
	eventually(t, "all five sessions, the last of which is due by the clock", func() bool { return len(p.all("out")) == 5 })
	j, err := p.Job(t.Context(), "j")
	if err != nil || j.Reason != "" {
		t.Errorf("%q %v", j.Reason, err)
	}
	// The sink holds rows back now until a checkpoint counts, and shows them at once again without IDLE AFTER: none is lost or doubled.
	p.apply("DECLARE OR REPLACE STREAM reads (chip VARCHAR, at TIMESTAMP) EVENT TIME at FROM TOPIC 'reads';")
	for i := range 16 { // both partitions go on, and the first eight rows are due
		key := string(rune('a' + i%8))
		when := at.Add(time.Duration(200*(1+i/8)) * time.Second).Format(time.RFC3339Nano)
		if err := p.Write(t.Context(), "reads", []api.MessageRequest{{Key: &key, Value: fmt.Sprintf(`{"chip":"%s","at":"%s"}`, key, when)}}); err != nil {
			t.Fatal(err)
		}
	}
	eventually(t, "the sessions of before once, and eight more", func() bool { return len(p.all("out")) == 13 })
	seen := map[string]bool{}
	for _, row := range p.all("out") {
		if seen[row] {
			t.Errorf("%s is there twice", row)
		}
		seen[row] = true
	}
	p.stop()
}

// TestQueriesSayWhy: a query whose rows are all rejected says so and why.
func TestQueriesSayWhy(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply("CREATE TOPIC orders (PARTITIONS 1); DECLARE STREAM orders (amount BIGINT) FROM TOPIC 'orders';")
	p.send("orders", `{"amount":1}`, `{"amount":2}`)
	p.fiume("", "query", "SELECT amount / 0 AS x FROM orders SINCE BEGINNING UNTIL NOW").want(t, 0, "2 rejected, such as: division by zero", "orders/0")
	cmd := exec.Command(binary, "query", "SELECT amount / 0 AS x FROM orders SINCE BEGINNING", "--server", p.base)
	said, err := cmd.StderrPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(said)
	for _, want := range []string{"no row yet", "rejected, such as: division by zero"} { // at once, and when it is ended
		if !lines.Scan() || !strings.Contains(lines.Text(), want) {
			t.Errorf("%q, wanted %q", lines.Text(), want)
		}
		if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
			t.Fatal(err)
		}
	}
	_ = cmd.Wait()
	for text, hint := range map[string]string{"SUBSTR(x, 1)": "SUBSTRING(", "NOW()": "CURRENT_TIMESTAMP", "IF(TRUE, 1, 2)": "CASE WHEN", "CAST(INTERVAL '1' HOUR AS BIGINT)": "INTERVAL_SECONDS"} {
		p.fiume("", "query", "SELECT "+strings.ReplaceAll(text, "x", "CAST(amount AS VARCHAR)")+" AS y FROM orders UNTIL NOW").want(t, 3, hint)
	}
	p.apply("CREATE VIEW seen AS SELECT amount FROM orders; CREATE VIEW twice AS SELECT amount FROM seen;")
	for _, from := range []string{"orders", "seen", "twice"} { // a view is read from where it is said, as its stream
		p.fiume("", "query", "SELECT amount FROM "+from+" SINCE BEGINNING UNTIL NOW").want(t, 0, "(2 rows)")
		p.fiume("", "query", "SELECT amount FROM "+from+" SINCE NOW UNTIL NOW").want(t, 0, "(0 rows)")
	}
	p.fiume("", "query", "WITH s AS (SELECT amount FROM orders) SELECT * FROM s SINCE BEGINNING UNTIL NOW").want(t, 3, "SINCE belongs to a stream or a view")
	p.apply("DROP VIEW twice; DROP VIEW seen;")
	r := p.fiume("DROP STREAM orders;\nDROP STREAM orders;", "shell")
	if strings.Contains(r.err, `did you mean "orders"`) {
		t.Errorf("%s", r.err)
	}
	p.stop()
}

// TestSendAgain: a mended row must be one, and is sent once, unless once more is said.
func TestSendAgain(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC orders (PARTITIONS 1); CREATE TOPIC a; CREATE TOPIC b; DECLARE SINK a TO TOPIC 'a'; DECLARE SINK b TO TOPIC 'b';
		DECLARE STREAM orders (id VARCHAR NOT NULL, amount BIGINT) FROM TOPIC 'orders';
		CREATE JOB first AS SELECT * FROM orders ROUTE TO a; CREATE JOB second AS SELECT * FROM orders ROUTE TO b;`)
	p.send("orders", `{"amount":"much"}`)
	number := ""
	eventually(t, "the row set aside", func() bool {
		out, err := p.SetAside(t.Context(), "first", nil)
		if err == nil && len(out.Rows) == 1 {
			number = fmt.Sprint(out.Rows[0].ID)
		}
		return number != ""
	})
	send := func(value string, more ...string) result {
		return p.fiume(value, append([]string{"job", "aside", "first", "--send", number}, more...)...)
	}
	send(`{"broken":`).want(t, 1, "the message is no row of orders")
	send(`{"amount":1}`).want(t, 1, "the message is no row of orders", "id")
	send(`{"id":"x","amount":1}`).want(t, 0, "sent to the topic orders again", "it is read there by second, too")
	send(`{"id":"x","amount":1}`).want(t, 1, "--once-more")
	send(`{"id":"x","amount":1}`, "--once-more").want(t, 0, "sent to the topic orders again")
	eventually(t, "both rows", func() bool { return len(p.all("a")) == 2 })
	p.stop()
}

// TestStopClosesParts: what a job has written is there to be read once it is stopped, and each row once when it goes on.
func TestStopClosesParts(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	dir := filepath.Join(t.TempDir(), "out")
	p.apply(`CREATE TOPIC orders (PARTITIONS 2); DECLARE STREAM orders (id BIGINT) FROM TOPIC 'orders'; DECLARE SINK parts TO FILES '` + dir + `' (FORMAT json, ROLL EVERY 1 HOUR);
		CREATE JOB j AS SELECT id FROM orders ROUTE TO parts SET (CHECKPOINT EVERY 200 MILLISECONDS);`)
	var want []string
	for round := range 3 {
		for i := range 10 {
			want = append(want, fmt.Sprintf(`{"id":%d}`, 10*round+i))
		}
		p.send("orders", want[10*round:]...)
		eventually(t, "the rows read", func() bool { j, err := p.Job(t.Context(), "j"); return err == nil && j.In == int64(len(want)) })
		p.fiume("", "job", "stop", "j").want(t, 0)
		entries, err := os.ReadDir(dir)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), ".part") {
				t.Errorf("%s is left open", e.Name())
			}
			if strings.HasPrefix(e.Name(), "part") {
				b, err := os.ReadFile(filepath.Join(dir, e.Name()))
				if err != nil {
					t.Fatal(err)
				}
				got = append(got, lines(string(b))...)
			}
		}
		slices.Sort(got)
		if all := slices.Sorted(slices.Values(want)); !slices.Equal(got, all) {
			t.Errorf("round %d: %v, wanted %v", round, got, all)
		}
		p.fiume("", "job", "start", "j").want(t, 0)
	}
	p.stop()
}

// TestPatternsFit: the texts to begin from are about the streams that are declared, and right as they stand.
func TestPatternsFit(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	fit := func(least int, named string) {
		t.Helper()
		w, err := p.Words(t.Context())
		if err != nil || len(w.Patterns) < least {
			t.Fatalf("%d patterns, %v", len(w.Patterns), err)
		}
		for _, x := range w.Patterns {
			c, err := p.Check(t.Context(), api.ScriptRequest{SQL: x.SQL})
			if err != nil || !c.OK || !strings.Contains(x.SQL, named) {
				t.Errorf("%s: %v %+v\n%s", x.Name, err, c, x.SQL)
			}
		}
	}
	fit(1, "DECLARE STREAM")
	p.apply(`CREATE TOPIC orders; DECLARE STREAM orders ("the id" VARCHAR, customer VARCHAR, placed TIMESTAMP, total DECIMAL(10, 2)) EVENT TIME placed FROM TOPIC 'orders';`)
	fit(8, "orders")
	p.apply(`CREATE TOPIC pays; DECLARE STREAM payments (customer VARCHAR, paid TIMESTAMP) EVENT TIME paid FROM TOPIC 'pays';
		CREATE TOPIC customers; DECLARE TABLE customers (customer VARCHAR PRIMARY KEY, city VARCHAR) FROM TOPIC 'customers';`)
	fit(10, "orders")
	p.apply(`CREATE TOPIC plain; DECLARE STREAM aaa (n BIGINT) FROM TOPIC 'plain';`) // nothing that tells rows apart, and no time
	fit(10, "orders")
	p.stop()
}
