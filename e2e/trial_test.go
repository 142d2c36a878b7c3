package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fiume/internal/trial"
)

// TestJobTests runs the tests of the demo's jobs, and tests that must fail, with what they say.
func TestJobTests(t *testing.T) {
	t.Parallel()
	r := fiume(t, "", "test", "../demo/tests", "--output", "json").want(t, 0)
	var reports []trial.Report
	if err := json.Unmarshal([]byte(r.out), &reports); err != nil {
		t.Fatal(err)
	}
	crashes := 0
	for _, rep := range reports {
		crashes += rep.Crashes
		if rep.Runs != 9 || rep.Rows == 0 {
			t.Errorf("%+v", rep)
		}
	}
	if len(reports) != 8 || crashes < 5 {
		t.Errorf("%d tests with %d crashes", len(reports), crashes)
	}

	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	fiume(t, "", "test", dir).want(t, 2, "there is no test below")
	const job = `DECLARE STREAM reads (chip VARCHAR, at TIMESTAMP) EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'reads';
		DECLARE SINK out TO TOPIC 'out';
		CREATE JOB chips AS SELECT chip FROM reads WHERE chip <> 'P0' ROUTE TO out;`
	write("a/test.sql", job)
	write("a/in/reads.json", `{"chip":"P0","at":"2026-05-17T09:00:00Z"}`+"\n"+`{"chip":"P1","at":"2026-05-17T09:00:01Z"}`+"\n")
	fiume(t, "", "test", dir).want(t, 1, "there is no file out/out.json for the sink out, which holds 1 rows", "1 of 1 tests failed")
	fiume(t, "", "test", "--update", dir).want(t, 0, "1 rows")
	fiume(t, "", "test", dir, "--variants", "3").want(t, 0, "ok", "1 rows in 4 runs")
	write("a/out/out.json", `{ "chip": "P1" }`+"\n"+`{"chip":"P2"}`+"\n")
	fiume(t, "", "test", dir).want(t, 1, "run 1 of 9 (as given; --seed 1)", "sink out: 1 of 2 rows missing", `{"chip":"P2"}`)
	write("a/in/raeds.json", "")
	fiume(t, "", "test", dir).want(t, 1, `no stream or table "raeds"`, `did you mean`)
	os.Remove(filepath.Join(dir, "a/in/raeds.json"))
	write("a/test.sql", "-- job: nobody\n"+job)
	fiume(t, "", "test", dir).want(t, 1, `no job is called "nobody"; there are: chips`)
	write("a/test.sql", strings.Replace(job, "SELECT chip", "SELECT chop", 1))
	fiume(t, "", "test", dir).want(t, 1, "chop")

	// A result that depends on the order of arrival is found: which read of a chip is the newest by arrival.
	write("a/test.sql", `DECLARE STREAM reads (chip VARCHAR, at TIMESTAMP) EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'reads';
		DECLARE SINK out TO TOPIC 'out' (KEY (chip)); CREATE FUNCTION mark(x VARCHAR) RETURNS VARCHAR LANGUAGE javascript AS 'globalThis.n = (globalThis.n || 0) + 1; return x + globalThis.n';
		CREATE JOB chips AS SELECT mark(chip) AS chip FROM reads ROUTE TO out;`)
	fiume(t, "", "test", "--update", dir).want(t, 0)
	fiume(t, "", "test", dir, "--variants", "40").want(t, 1, "sink out:", "rows missing", "rows too many")
}
