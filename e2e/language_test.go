package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fiume/internal/core/plan"
)

// TestFmt lays files out, in place and for checks, and leaves those with errors alone.
func TestFmt(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	const wild, tidy = "select a,-- first\n b from r where a>1 and not b ;", "SELECT\n  a,  -- first\n  b\nFROM r\nWHERE a > 1 AND NOT b;\n"
	name := writeFile(t, dir, "a.sql", wild)
	broken := writeFile(t, dir, "b.sql", "SELECT FROM r; -- kept")
	if r := fiume(t, "", "fmt", name).want(t, 0); r.out != tidy {
		t.Errorf("%s", r.out)
	}
	if r := fiume(t, wild, "fmt", "-").want(t, 0); r.out != tidy {
		t.Errorf("%s", r.out)
	}
	fiume(t, "", "fmt", "--list", name).want(t, 1, name)
	fiume(t, "", "fmt", "--write", name, broken).want(t, 3, "expected an expression")
	for n, want := range map[string]string{name: tidy, broken: "SELECT FROM r; -- kept"} {
		if b, err := os.ReadFile(n); err != nil || string(b) != want {
			t.Errorf("%s: %q %v", n, b, err)
		}
	}
	if r := fiume(t, "", "fmt", "--list", name).want(t, 0); r.out != "" {
		t.Errorf("%s", r.out)
	}
	if r := fiume(t, "", "fmt", "--list", "-o", "json", name).want(t, 0); strings.TrimSpace(r.out) == "" || !strings.Contains(r.out, `"changed": []`) {
		t.Errorf("%s", r.out)
	}
	// The demo's own files are laid out.
	for _, n := range []string{"race", "strong-reads", "reads-by-mat", "reads-by-chip", "crowd-by-mat", "calls-with-reads", "reads-with-entrants"} {
		fiume(t, "", "fmt", "--list", "../demo/sql/"+n+".sql").want(t, 0)
	}
}

// TestExplain shows plans without running anything, with bounds for a rate.
func TestExplain(t *testing.T) {
	t.Parallel()
	fiume(t, "", "explain", "../demo/sql/reads-by-mat.sql", "--set", "reads=r", "--set", "out=o", "--rate", "50000").want(t, 0,
		"job reads_by_mat", "decodes mat, read_at, rssi", "at 50,000 rows/s at most 1,500,000 entries", "a window is open for 30 SECONDS")
	r := fiume(t, "", "explain", "../demo/sql/reads-by-mat.sql", "--set", "reads=r", "--set", "out=o", "-o", "json").want(t, 0)
	var xs []plan.Explanation
	if err := json.Unmarshal([]byte(r.out), &xs); err != nil || len(xs) != 1 {
		t.Fatalf("%v\n%s", err, r.out)
	}
	for _, s := range xs[0].Steps {
		if s.Kind == "window" && (s.State == nil || s.State.Entries != 300_000 || s.Output != "append" || strings.Join(s.Keys, " ") != "mat opens") {
			t.Errorf("%+v %+v", s, s.State)
		}
	}
	fiume(t, "SELECT a FROM nothing;", "explain", "-").want(t, 3, "no stream, table, view or step is called")
}

// TestFunctionCommand lists and describes the functions.
func TestFunctionCommand(t *testing.T) {
	t.Parallel()
	fiume(t, "", "functions").want(t, 0, "approx_count_distinct", "substring(s VARCHAR")
	fiume(t, "", "functions", "date_trunc").want(t, 0, "Example: DATE_TRUNC('hour'", "Gives:")
	fiume(t, "", "functions", "dat_trunc").want(t, 1, `did you mean "date_trunc"?`)
	var list []struct{ Name, Kind string }
	r := fiume(t, "", "functions", "--kind", "aggregate", "-o", "json").want(t, 0)
	if err := json.Unmarshal([]byte(r.out), &list); err != nil || len(list) < 15 || list[0].Kind != "aggregate" {
		t.Errorf("%v %v", err, list)
	}
	fiume(t, "SHOW FUNCTIONS; DESCRIBE FUNCTION upper;", "run", "-").want(t, 0, "listagg", "UPPER('finish')")
}

// TestBench measures a small day.
func TestBench(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	r := fiume(t, "", "bench", "--size", "3000", "--rounds", "1", "--work", "W1,w2b,W4,W5", "-o", "json", "--cpu-profile", dir).want(t, 0)
	var results []struct {
		Workload string  `json:"workload"`
		Rows     float64 `json:"rows_per_second"`
		NotRun   string  `json:"not_run"`
	}
	if err := json.Unmarshal([]byte(r.out), &results); err != nil || len(results) != 4 {
		t.Fatalf("%v\n%s", err, r.out)
	}
	for _, w := range results {
		if w.Rows <= 0 || w.NotRun != "" {
			t.Errorf("%+v", w)
		}
	}
	if st, err := os.Stat(filepath.Join(dir, "W2b.pprof")); err != nil || st.Size() == 0 {
		t.Errorf("no profile: %v", err)
	}
	fiume(t, "", "bench", "--work", "W9").want(t, 2, "there are W1, W2")
}

// TestOwnFunctions makes functions in JavaScript, uses them in a job, and holds them to their bounds.
func TestOwnFunctions(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p := serve(t, dir)
	p.apply(declareReads + `CREATE FUNCTION half(x BIGINT) RETURNS DOUBLE LANGUAGE javascript AS 'return x === null ? -1 : x / 2';
		CREATE FUNCTION stubborn(x BIGINT) RETURNS BIGINT LANGUAGE javascript AS 'if (x === 2) for (;;) {}
			if (x === 3) { const a = []; for (;;) a.push(new Array(100000).fill(x)) }
			if (x === 4) throw new Error("not four");
			if (x === 5) return "five";
			if (x === 6) return Math.random();
			return x * 10';
		CREATE TOPIC halves (PARTITIONS 1); DECLARE SINK halves_sink TO TOPIC 'halves' (FORMAT json);
		CREATE JOB halver AS SELECT chip, HALF(seq) AS h FROM reads WHERE HALF(seq) <> 1.5 ROUTE TO halves_sink;`)
	message := func(seq string) string {
		return `{"chip":"P1","mat":"a","read_at":"2026-05-17T09:00:00Z","seq":` + seq + `}`
	}
	for _, seq := range []string{"1", "2", "3", "4", "5", "6", "7", "null"} {
		p.fiume(message(seq), "topic", "write", "mat-reads").want(t, 0)
	}
	eventually(t, "the job to give its rows", func() bool { return len(p.values("halves")) == 7 })
	if got := strings.Join(p.values("halves"), ""); strings.Contains(got, "1.5") || !strings.Contains(got, `"h":-1`) || !strings.Contains(got, `"h":3.5`) {
		t.Errorf("%s", got)
	}
	rows := p.query("SELECT seq, STUBBORN(seq) AS y FROM reads SINCE BEGINNING UNTIL NOW;")
	got := map[string]bool{}
	for _, r := range rows {
		got[r] = true
	}
	for _, want := range []string{`{"seq":1,"y":10}`, `{"seq":7,"y":70}`} {
		if !got[want] {
			t.Errorf("%s is missing in %v", want, rows)
		}
	}
	if len(rows) > 4 { // 1, 7, NULL; what was stopped, threw, or did not fit is rejected
		t.Errorf("%v", rows)
	}
	drop := writeFile(t, t.TempDir(), "drop.sql", "DROP FUNCTION half;")
	p.fiume("", "apply", drop).want(t, 3, "used by the job halver")
	show := writeFile(t, t.TempDir(), "show.sql", "SHOW FUNCTIONS; DESCRIBE FUNCTION half; DESCRIBE FUNCTION avg; EXPLAIN halver;")
	p.fiume("", "apply", show).want(t, 0, "half(x BIGINT) → DOUBLE", "listagg", "x / 2", "AVG(DISTINCT x)", "scan  reads")
	bad := writeFile(t, t.TempDir(), "bad.sql", "CREATE FUNCTION f(x INT) RETURNS INT LANGUAGE javascript AS 'return (';")
	p.fiume("", "apply", bad).want(t, 3, "the code cannot be read")
	p.stop()
	q := serve(t, dir) // functions are kept
	q.apply("DROP JOB halver; DROP FUNCTION half;")
}
