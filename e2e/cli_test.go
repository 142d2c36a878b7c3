package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// TestRun runs files of SQL without a service.
func TestRun(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	reads := writeFile(t, dir, "reads.ndjson", `{"chip":"P1","mat":"start","read_at":"2026-05-17T09:00:01Z","rssi":-60.5}
{"chip":"P2","mat":"start","read_at":"2026-05-17T09:00:02Z","rssi":-82}
oops
{"chip":"P3","mat":"half","read_at":"2026-05-17T09:00:12Z","rssi":-70}
`)
	const stream = `DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, read_at TIMESTAMP, rssi DOUBLE) EVENT TIME read_at DELAY 5 SECONDS FROM FILES :reads (FORMAT json);
`
	query := writeFile(t, dir, "query.sql", stream+"SELECT chip, rssi FROM reads WHERE rssi > :least;")
	r := fiume(t, "", "run", query, "--set", "reads="+reads, "--set", "least=-75").want(t, 0)
	if want := "chip   rssi\n────  ─────\nP1    -60.5\nP3      -70\n(2 rows)\n"; r.out != want {
		t.Errorf("got\n%s\nwanted\n%s", r.out, want)
	}
	for _, part := range []string{"ledger of query", "reads  rejected: a message must be one JSON object", "reads.ndjson:3"} {
		if !strings.Contains(strings.ReplaceAll(r.err, "reads rejected", "reads  rejected"), part) {
			t.Errorf("the ledger lacks %q:\n%s", part, r.err)
		}
	}
	if r := fiume(t, "", "run", query, "-q", "-o", "json", "--set", "reads="+reads, "--set", "least=-75"); r.out != "{\"chip\":\"P1\",\"rssi\":-60.5}\n{\"chip\":\"P3\",\"rssi\":-70}\n" || r.err != "" {
		t.Errorf("%+v", r)
	}
	if r := fiume(t, stream+"SELECT chip, rssi FROM reads;", "run", "-", "-q", "-o", "csv", "--set", "reads="+reads); r.out != "chip,rssi\nP1,-60.5\nP2,-82\nP3,-70\n" {
		t.Errorf("%+v", r)
	}

	out := filepath.Join(dir, "out")
	job := writeFile(t, dir, "job.sql", stream+`DECLARE SINK strong TO FILES :out;
		CREATE JOB j AS SELECT chip FROM reads WHERE rssi > -75 ROUTE TO strong;`)
	fiume(t, "", "run", job, "--set", "reads="+reads, "--set", "out="+out).want(t, 0, "ledger of j")
	if b, err := os.ReadFile(filepath.Join(out, "part-000001.json")); err != nil || string(b) != "{\"chip\":\"P1\"}\n{\"chip\":\"P3\"}\n" {
		t.Errorf("%s %v", b, err)
	}
	if entries, _ := os.ReadDir(out); len(entries) != 1 {
		t.Errorf("something is left beside the part: %v", entries)
	}

	fiume(t, "", "run", filepath.Join(dir, "nothing.sql")).want(t, 2, "there is no file")
	fiume(t, "", "run", query, "--set", "reads="+reads).want(t, 3, "the parameter :least has no value", "--set least=")
	fiume(t, "", "run", query, "--set", "reads=/nowhere.json", "--set", "least=1").want(t, 1, "there is no file or directory /nowhere.json")
	fiume(t, "", "run", query, "--set", "least").want(t, 2, "--set takes name=value")
	fiume(t, "", "run", query, "-o", "xml").want(t, 2, "table, json, csv")
	fiume(t, "", "run").want(t, 2, "one file", "--help")
	fiume(t, "", "run", query, "--nonsense").want(t, 2, "--nonsense", "--help")
	fiume(t, "DECLARE STREAM r (a INT) FROM TOPIC 'r'; SELECT a FROM r;", "run", "-").want(t, 1, "topics live in the service")
	fiume(t, "SHOW JOBS;", "run", "-").want(t, 3, "fiume apply")
	fiume(t, stream, "run", "-", "--set", "reads="+reads).want(t, 0, "nothing to run")
	stop := writeFile(t, dir, "stop.sql", strings.Replace(stream, "FORMAT json", "FORMAT json, BAD ROWS stop", 1)+"SELECT chip FROM reads;")
	fiume(t, "", "run", stop, "--set", "reads="+reads).want(t, 1, "reads.ndjson:3", "BAD ROWS stop")
	fiume(t, stream+"EXPLAIN SELECT chip FROM reads WHERE rssi > 1;", "run", "-", "--set", "reads="+reads).want(t, 0, "scan  reads", "decodes chip, read_at, rssi", "where rssi > 1")
}

// TestQueryStops: Ctrl-C ends a live query cleanly.
func TestQueryStops(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(declareReads)
	cmd := exec.Command(binary, "--server", p.base, "query", "SELECT chip FROM reads")
	out := &output{more: make(chan struct{}, 1)}
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	eventually(t, "a row", func() bool { // it runs, and would go on
		p.fiume(`{"chip":"C1","mat":"start","read_at":"2026-05-17T09:00:00Z"}`+"\n", "topic", "write", "mat-reads").want(t, 0)
		return strings.Contains(out.String(), "C1")
	})
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	if code := cmd.ProcessState.ExitCode(); code != 130 || !strings.Contains(out.String(), "stopped") {
		t.Errorf("exit code %d: %s", code, out)
	}
	p.stop()
}

// TestCheck finds all errors of files, as text and for scripts.
func TestCheck(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	good := writeFile(t, dir, "streams.sql", "DECLARE STREAM reads (chip VARCHAR, rssi DOUBLE) FROM TOPIC 'reads';\n")
	bad := writeFile(t, dir, "bad.sql", "SELECT chp FROM reads;\nSELECT rssi FRM reads;\nSELECT chip FROM reads WHERE rssi > 'x';\n")
	fiume(t, "", "check", good).want(t, 0, "1 statements, no errors")
	r := fiume(t, "", "check", good, bad).want(t, 3, "bad.sql:1:8: unknown column \"chp\" in reads  [unknown-name]", `did you mean "chip"?`, "bad.sql:2:17", "bad.sql:3:30")
	if n := strings.Count(r.err, "  ["); n != 3 {
		t.Errorf("%d errors:\n%s", n, r.err)
	}
	r = fiume(t, "", "check", "-o", "json", good, bad).want(t, 3)
	var got struct {
		Statements int
		Errors     []struct {
			File, Code, Message, Hint string
			Line, Column              int
		}
	}
	if err := json.Unmarshal([]byte(r.out), &got); err != nil || len(got.Errors) != 3 || got.Errors[0].Line != 1 || got.Errors[0].Column != 8 || got.Errors[0].Code != "unknown-name" || got.Errors[0].File != bad {
		t.Errorf("%v\n%s", err, r.out)
	}
}

// TestClientCommands calls a service through the command line.
func TestClientCommands(t *testing.T) {
	t.Parallel()
	fiume(t, "", "--server", "http://127.0.0.1:1", "job", "list").want(t, 5, "does not answer", "fiume serve")
	p := serve(t, t.TempDir())
	p.fiume("", "job", "list").want(t, 0, "no jobs")
	p.fiume("", "topic", "list").want(t, 0, "no topics")
	p.fiume("", "secret", "list").want(t, 0, "no secrets")
	p.fiume("", "activity").want(t, 0, "nothing has been done")
	p.fiume("", "topic", "create", "mat-reads", "--partitions", "2").want(t, 0, "topic mat-reads created")
	p.fiume("", "topic", "create", "mat-reads").want(t, 1, "already a topic")
	p.fiume("{\"chip\":\"P1\",\"mat\":\"start\",\"read_at\":\"2026-05-17T09:00:00Z\",\"rssi\":-50}\n\n{\"chip\":\"P2\",\"mat\":\"half\",\"read_at\":\"2026-05-17T09:00:01Z\",\"rssi\":-90}\n", "topic", "write", "mat-reads", "--key", "chip").want(t, 0, "2 messages written")
	p.fiume("no json\n", "topic", "write", "mat-reads", "--key", "chip").want(t, 1, "line 1 is no JSON object")
	p.fiume("x\n", "topic", "write", "nowhere").want(t, 4, "there is no topic 'nowhere'")
	if r := p.fiume("", "topic", "read", "mat-reads", "-o", "json").want(t, 0); len(lines(r.out)) != 2 || !strings.Contains(r.out, `"key":"P1"`) {
		t.Errorf("%s", r.out)
	}
	p.fiume("", "topic", "read", "mat-reads", "--from", "0").want(t, 2, "--partition")
	p.fiume("", "topic", "read", "mat-reads", "--since", "yesterday").want(t, 2, "2026-05-17T09:00:00Z")
	p.fiume("", "topic", "read", "mat-reads", "--since", "2999-01-01").want(t, 0, "no messages there")
	p.fiume("pontelago\n", "secret", "set", "race_db").want(t, 0, "secret race_db set")
	p.fiume("", "secret", "list").want(t, 0, "SECRET", "race_db", "the first that uses it")

	dir := t.TempDir()
	jobs := writeFile(t, dir, "jobs.sql", declareReads+`CREATE TOPIC strong (PARTITIONS 1);
		DECLARE SINK strong_topic TO TOPIC :sink;
		CREATE JOB strong_reads AS SELECT chip, rssi FROM reads WHERE rssi > -75 ROUTE TO strong_topic;`)
	p.fiume("", "apply", jobs).want(t, 3, "the parameter :sink has no value")
	p.fiume("", "apply", jobs, "--set", "sink=strong", "--dry-run").want(t, 0, "nothing was done")
	p.fiume("", "job", "list").want(t, 0, "no jobs")
	p.fiume("", "apply", jobs, "--set", "sink=strong").want(t, 0, "stream reads declared", "topic strong created", "job strong_reads created")
	eventually(t, "a row in the sink", func() bool { return len(p.values("strong")) == 1 })
	if got := p.values("strong"); got[0] != `{"chip":"P1","rssi":-50}` {
		t.Errorf("%v", got)
	}
	p.fiume("", "job", "list").want(t, 0, "strong_reads  running")
	p.fiume("", "job", "show", "strong_reads").want(t, 0, "job strong_reads: running", "mat-reads/0", "2026-05-17T08:59:5", "ledger of strong_reads")
	var d struct {
		State  string
		RowsIn int64 `json:"rows_in"`
	}
	if r := p.fiume("", "job", "show", "strong_reads", "-o", "json"); json.Unmarshal([]byte(r.out), &d) != nil || d.State != "running" || d.RowsIn != 2 {
		t.Errorf("%s", r.out)
	}
	p.fiume("", "job", "show", "strong_raeds").want(t, 4, `did you mean "strong_reads"?`)
	p.fiume("", "job", "stop", "strong_reads").want(t, 0, "job strong_reads stopped")
	p.fiume("", "job", "start", "strong_reads").want(t, 0, "job strong_reads started")
	p.fiume("", "query", "SELECT chip, mat FROM reads SINCE BEGINNING WHERE mat = 'half' UNTIL NOW").want(t, 0, "chip  mat", "P2    half", "(1 row)")
	if r := p.fiume("", "query", "SELECT chip, rssi FROM reads SINCE BEGINNING WHERE mat = :m LIMIT 1", "--set", "m=start", "-o", "csv"); r.out != "chip,rssi\nP1,-50\n" {
		t.Errorf("%+v", r)
	}
	p.fiume("", "query", "SELECT nothing FROM reads").want(t, 3, `unknown column "nothing" in reads`)
	p.fiume("SHOW STREAMS; DESCRIBE reads; SHOW TOPICS; SHOW JOBS; SHOW SINKS; EXPLAIN strong_reads; DESCRIBE strong_topic; SHOW VIEWS;", "apply", "-").want(t, 0,
		"DECLARE STREAM reads", "event time, delay 5 SECONDS", "strong_reads  running", "output  strong_topic", "used by the job strong_reads", "no views")
	p.fiume("", "activity", "--limit", "5").want(t, 0, "created", "strong_reads")
	p.fiume("", "job", "drop", "strong_reads").want(t, 0, "dropped")
	p.fiume("", "topic", "drop", "strong").want(t, 0, "dropped")
	p.fiume("", "topic", "drop", "strong").want(t, 4, "no topic")
	p.stop()
}

// TestHelp: every command has a help text with an example, and says its version.
func TestHelp(t *testing.T) {
	t.Parallel()
	var walk func(args []string)
	seen := 0
	walk = func(args []string) {
		r := fiume(t, "", append(slices.Clone(args), "--help")...).want(t, 0, "Usage:")
		_, list, ok := strings.Cut(r.out, "Available Commands:\n")
		if len(args) > 0 {
			seen++
			if !strings.Contains(r.out, "Examples:\n") {
				t.Errorf("fiume %s has no example", strings.Join(args, " "))
			}
		}
		if !ok {
			return
		}
		list, _, _ = strings.Cut(list, "\n\n")
		for _, l := range lines(list) {
			if name := strings.Fields(l)[0]; name != "help" {
				walk(append(slices.Clone(args), name))
			}
		}
	}
	walk(nil)
	if seen < 20 {
		t.Errorf("only %d commands", seen)
	}
	fiume(t, "", "version").want(t, 0, "fiume 0.")
	fiume(t, "", "nonsense").want(t, 2, `'fiume' has no command "nonsense"`, "--help")
	fiume(t, "", "quere").want(t, 2, "Did you mean 'fiume query'?")
	fiume(t, "", "job", "strat", "x").want(t, 2, `'fiume job' has no command "strat"`, "Did you mean 'fiume job start'?")
	fiume(t, "", "topic", "crate", "x").want(t, 2, "Did you mean 'fiume topic create'?")
	fiume(t, "", "apply").want(t, 2, "fiume apply takes files of SQL")
}

// TestDemo plays a short race day and looks at what it says arrived, where it says so.
func TestDemo(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "demo")
	// figures plays the day until there are enough clean reads and rows of crowding, ends it, and gives what it says of both.
	figures := func(enough int) (clean, archived, crowding int) {
		t.Helper()
		p := start(t, "demo", "--dir", dir, "--listen", "127.0.0.1:0", "--runners", "400", "--speed", "1200")
		eventually(t, "clean reads and crowding", func() bool {
			ts, err := p.Topics(t.Context())
			j, err2 := p.Job(t.Context(), "crowding")
			for _, x := range ts {
				if x.Name == "clean-reads" && x.Messages > int64(enough) {
					manifest, _ := os.ReadFile(filepath.Join(dir, "archive", "manifest")) // of the parts that are closed
					return err == nil && err2 == nil && j.Out > 60 && strings.Count(string(manifest), "\n") >= 5
				}
			}
			return false
		})
		p.stop()
		out := p.out.String()
		result{out: out}.want(t, 0, "Three Bridges Marathon", "http://127.0.0.1:", "what arrived where", "clean-reads", "race.crowding", "race.splits", "ledger of clean_reads", "ledger of crowding")
		for _, l := range lines(out) {
			f := strings.Fields(strings.ReplaceAll(l, ",", ""))
			switch {
			case strings.HasPrefix(l, "topic  clean-reads"):
				fmt.Sscan(f[2], &clean)
			case strings.HasPrefix(l, "files "):
				fmt.Sscan(f[2], &archived)
			case strings.HasPrefix(l, "table  race.crowding"):
				fmt.Sscan(f[2], &crowding)
			}
		}
		if clean <= enough || archived == 0 || crowding == 0 { // of crowding later rows replace earlier ones, more of them on a busy machine
			t.Errorf("%d clean reads, %d archived, %d rows of crowding:\n%s", clean, archived, crowding, out)
		}
		return clean, archived, crowding
	}
	clean, _, _ := figures(600)
	figures(clean) // again over the same directory: it goes on where it stopped
	// Killed in the middle, and played to the end of the day: the topic holds the day's reads, each once.
	p := start(t, "demo", "--dir", dir, "--listen", "127.0.0.1:0", "--runners", "400", "--speed", "3000")
	time.Sleep(1500 * time.Millisecond) // somewhere in the middle
	p.kill()
	p = start(t, "demo", "--dir", dir, "--listen", "127.0.0.1:0", "--runners", "400", "--speed", "1e6")
	whole := lines(fiume(t, "", "demo", "data", "--runners", "400").out)
	eventually(t, "the whole day is in the topic", func() bool { return len(p.values("mat-reads")) >= len(whole) })
	count := map[string]int{}
	for _, v := range p.values("mat-reads") {
		count[v]++
	}
	for _, v := range whole {
		if count[v] == 0 {
			t.Fatalf("the topic lacks %s", v)
		}
		count[v]--
	}
	// So are the registrations in their table, and jobs have followed them. Nobody was kept from the database while the demo began.
	for q, want := range map[string]string{"SELECT COUNT(*) AS n FROM entrants WHERE chip LIKE 'P%'": "400", "SELECT COUNT(*) AS n FROM splits WHERE name IS NULL": "0", "SELECT COUNT(*) > 0 AS n FROM radio_words": "1"} {
		eventually(t, q, func() bool {
			r := p.fiume("", "database", "run", "race_db", "--execute", q)
			l := lines(r.out)
			return r.code == 0 && len(l) > 1 && strings.TrimSpace(l[1]) == want
		})
	}
	if r := p.fiume("", "activity"); r.code != 0 || strings.Contains(r.out, "Access denied") {
		t.Error(r.out + r.err)
	}
	p.end()

	day := filepath.Join(dir, "day")
	fiume(t, "", "demo", "data", "--runners", "30", "--out", day).want(t, 0, "mat-reads.ndjson")
	a := fiume(t, "", "demo", "data", "--runners", "30").out
	b, err := os.ReadFile(filepath.Join(day, "mat-reads.ndjson"))
	if err != nil || string(b) != a || len(a) == 0 {
		t.Errorf("the same seed gives another day (%v)", err)
	}
}
