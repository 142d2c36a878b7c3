package e2e

import (
	"encoding/csv"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestRunChanges runs a job over files without a service: changes go to a CSV file in full, with a header;
// late rows, and rows that an expression rejects, to files of their own.
func TestRunChanges(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	reads := writeFile(t, dir, "reads.ndjson", strings.Join([]string{
		`{"mat":"start","at":"2026-05-17T09:00:01Z","n":1}`, `{"mat":"start","at":"2026-05-17T09:00:02Z","n":2}`, `{"mat":"half","at":"2026-05-17T09:00:03Z","n":0}`,
		`{"mat":"start","at":"2026-05-17T09:02:00Z","n":4}`, `{"mat":"start","at":"2026-05-17T09:00:50Z","n":5}`, `{"mat":"half","at":"2026-05-17T09:10:00Z","n":7}`,
		`{"mat":"start","at":"2026-05-17T09:00:59Z","n":8}`, ""}, "\n"))
	job := writeFile(t, dir, "job.sql", `DECLARE STREAM reads (mat VARCHAR, at TIMESTAMP, n BIGINT) EVENT TIME at DELAY 0 SECONDS FROM FILES :reads;
		DECLARE SINK counts TO FILES :counts (FORMAT csv, CHANGES full);
		DECLARE SINK late TO FILES :late;
		DECLARE SINK bad TO FILES :bad;
		CREATE JOB j WITH shares AS (SELECT mat, at, 10 / n AS share FROM reads),
			totals AS (SELECT mat, w.opens AS opened, SUM(share) AS total, COUNT(*) AS n FROM shares GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE LATENESS 5 MINUTES))
		ROUTE totals TO counts ROUTE LATE totals TO late ROUTE REJECTED shares TO bad SET (PARALLELISM 1);`)
	out := func(n string) string { return filepath.Join(dir, n) }
	fiume(t, "", "run", job, "--set", "reads="+reads, "--set", "counts="+out("counts"), "--set", "late="+out("late"), "--set", "bad="+out("bad")).want(t, 0)
	read := func(n string) string {
		t.Helper()
		names, err := filepath.Glob(filepath.Join(out(n), "part-*"))
		if err != nil || len(names) != 1 {
			t.Fatalf("%s: %v %v", n, names, err)
		}
		b, err := os.ReadFile(names[0])
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	rows, err := csv.NewReader(strings.NewReader(read("counts"))).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(rows[0], []string{"_change", "mat", "opened", "total", "n"}) {
		t.Errorf("%v", rows[0])
	}
	// How many corrections there are depends on how the rows are read together, what remains does not.
	last := map[string]string{}
	for _, r := range rows[1:] {
		key := r[1] + " " + r[2][11:16]
		if last[key] = r[3] + " " + r[4]; r[0] == "withdraw" {
			delete(last, key)
		}
	}
	if len(last) != 3 || last["start 09:00"] != "17 3" || last["start 09:02"] != "2.5 1" || !strings.HasPrefix(last["half 09:10"], "1.42857") {
		t.Errorf("%v\n%v", last, rows)
	}
	if l := read("late"); strings.Count(l, "\n") != 1 || !strings.Contains(l, `"row":{"mat":"start","at":"2026-05-17T09:00:59`) || !strings.Contains(l, `"step":"totals"`) {
		t.Errorf("%s", l)
	}
	if b := read("bad"); strings.Count(b, "\n") != 1 || !strings.Contains(b, "division by zero") || !strings.Contains(b, `"mat":"half"`) || !strings.Contains(b, `"step":"shares"`) {
		t.Errorf("%s", b)
	}
}
