package e2e

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/api"
)

// sorted gives the messages of a topic, sorted.
func (p *process) sorted(topic string) []string {
	p.t.Helper()
	ms, err := p.Read(p.t.Context(), topic, url.Values{"limit": {"100000"}})
	if err != nil {
		p.t.Fatal(err)
	}
	out := []string{}
	for _, m := range ms {
		out = append(out, m.Value)
	}
	slices.Sort(out)
	return out
}

// readsBetween writes one read of each of three mats every second of event time.
func (p *process) readsBetween(from, to int) {
	p.t.Helper()
	var ms []api.MessageRequest
	for s := from; s < to; s++ {
		for m := range 3 {
			key := fmt.Sprint("M", m)
			at := time.Date(2026, 5, 17, 9, 0, s, 0, time.UTC).Format(time.RFC3339)
			ms = append(ms, api.MessageRequest{Key: &key, Value: fmt.Sprintf(`{"chip":"C%d","mat":"M%d","read_at":"%s","rssi":%d}`, s%7, m, at, -60-s%30)})
		}
	}
	if err := p.Write(p.t.Context(), "mat-reads", ms); err != nil {
		p.t.Fatal(err)
	}
}

// counts are the results of counting the reads of a mat in windows of ten seconds, of which those up to an end
// have closed.
func counts(from, end int, row func(mat string, opens, n int) string) (out []string) {
	for o := from; o < end; o += 10 {
		for m := range 3 {
			out = append(out, row(fmt.Sprint("M", m), o, 10))
		}
	}
	slices.Sort(out)
	return out
}

// TestVersions changes a running job in every way: what goes out of it changes while its windows keep their
// rows, it goes on with other numbers of tasks, it goes back to an earlier text, and begins at other places.
// Each result is there once.
func TestVersions(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC 'mat-reads' (PARTITIONS 1);
		DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, read_at TIMESTAMP, rssi DOUBLE) EVENT TIME read_at DELAY 20 SECONDS FROM TOPIC 'mat-reads';
		CREATE TOPIC counts (PARTITIONS 2); CREATE TOPIC few (PARTITIONS 1);
		DECLARE SINK counts TO TOPIC 'counts'; DECLARE SINK few TO TOPIC 'few';`)
	const window = "SELECT mat, w.opens AS opens, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 10 SECONDS)"
	job := func(how, query, sinks string) string {
		return fmt.Sprintf("CREATE %s JOB busy WITH x AS (%s) ROUTE x TO %s SET (CHECKPOINT EVERY 1 HOUR);", how, query, sinks)
	}
	row := func(mat string, o, n int) string {
		return fmt.Sprintf(`{"mat":"%s","opens":"%s","n":%d}`, mat, time.Date(2026, 5, 17, 9, 0, o, 0, time.UTC).Format("2006-01-02T15:04:05.000Z"), n)
	}
	is := func(topic string, want []string) {
		t.Helper()
		eventually(t, fmt.Sprintf("%d results in %s", len(want), topic), func() bool { return slices.Equal(p.sorted(topic), want) })
	}
	p.apply(job("", window, "counts"))
	p.readsBetween(0, 55) // the delay is 20 seconds: windows to 30 are closed, five seconds of one are open
	is("counts", counts(0, 30, row))

	// A second sink: the windows keep their rows.
	file := writeFile(t, t.TempDir(), "busy.sql", job("OR REPLACE", window, "counts, few"))
	p.fiume("", "apply", "--dry-run", file).want(t, 0, "job busy would be replaced", "kept  window  x       its state is taken over", "new   sink    few ")
	if j, _ := p.Job(t.Context(), "busy"); j.Version != 1 {
		t.Fatalf("a dry run has changed the job: %+v", j.JobInfo)
	}
	p.fiume("", "apply", file).want(t, 0, "job busy replaced")
	p.readsBetween(55, 85)
	is("counts", counts(0, 60, row))
	is("few", counts(30, 60, row))

	// More and fewer tasks, of a running and of a stopped job.
	p.fiume("", "job", "parallelism", "busy", "5").want(t, 0, "job busy runs with 5 tasks")
	p.readsBetween(85, 95)
	is("counts", counts(0, 70, row))
	p.fiume("", "job", "stop", "busy").want(t, 0)
	p.fiume("", "job", "parallelism", "busy", "1").want(t, 0)
	p.fiume("", "job", "start", "busy").want(t, 0)
	p.readsBetween(95, 105)
	is("counts", counts(0, 80, row))

	// What a new text would write, beside what the job does.
	few2 := writeFile(t, t.TempDir(), "few.sql", job("OR REPLACE", strings.Replace(window, "COUNT(*)", "COUNT(*) - 1", 1), "counts, few"))
	p.fiume("", "job", "compare", "busy", few2).want(t, 0, "counts  0      0        33       33", `  - {"mat":"M0"`, `  + {"mat":"M0","opens":"2026-05-17T09:00:00.000Z","n":9}`, "315 messages were read")
	p.fiume("", "job", "compare", "busy", file, "--since", "TIMESTAMP '2126-05-17 09:00:00'").want(t, 0, "counts  0      0        0        0")
	p.fiume("", "job", "compare", "busy", file).want(t, 0, "counts  33     0        0        0")

	// A filter before the window makes it another window; behind it, it is the same.
	strong := writeFile(t, t.TempDir(), "strong.sql", job("OR REPLACE", strings.Replace(window, "FROM reads", "FROM reads WHERE rssi > -200", 1), "counts, few"))
	p.fiume("", "apply", "--dry-run", strong).want(t, 0, "afresh  window  x", "kept    stream  reads")
	wide := writeFile(t, t.TempDir(), "wide.sql", job("OR REPLACE", "SELECT c.mat AS mat, c.opens AS opens, c.n AS n, c.n > 5 AS many FROM ("+window+") c", "few"))
	p.fiume("", "apply", "--dry-run", wide).want(t, 0, "kept  window", "gone  sink    counts")
	p.fiume("", "apply", wide).want(t, 0, "job busy replaced")
	few := p.sorted("few")
	p.readsBetween(105, 115)
	more := append(few, counts(80, 90, func(mat string, o, n int) string { return strings.TrimSuffix(row(mat, o, n), "}") + `,"many":true}` })...)
	slices.Sort(more)
	is("few", more)

	// Back to the version before, which is the one with two sinks.
	p.fiume("", "job", "revert", "busy").want(t, 0, "job busy replaced", "new   sink    counts")
	p.fiume("", "job", "versions", "busy").want(t, 0, "4        ", "1        ")
	p.readsBetween(115, 125)
	old := append(counts(0, 80, row), counts(90, 100, row)...)
	slices.Sort(old)
	is("counts", old)

	// From the beginning, and from a checkpoint: results are written once more.
	p.fiume("", "job", "start", "busy", "--from", "beginning").want(t, 1, "stop it first")
	p.fiume("", "job", "stop", "busy").want(t, 0)
	p.fiume("", "job", "start", "busy", "--from", "beginning").want(t, 0)
	again := append(slices.Clone(old), counts(0, 100, row)...)
	slices.Sort(again)
	is("counts", again)
	p.fiume("", "job", "stop", "busy").want(t, 0)
	p.fiume("", "job", "start", "busy", "--from", "9999").want(t, 4, "has no checkpoint 9999; kept are:")
	p.fiume("", "job", "checkpoints", "busy").want(t, 0, "CHECKPOINT", "VERSION")
	cs, err := p.Checkpoints(t.Context(), "busy")
	if err != nil || len(cs) < 2 {
		t.Fatalf("%v %+v", err, cs)
	}
	p.fiume("", "job", "start", "busy", "--from", fmt.Sprint(cs[len(cs)-1].Number)).want(t, 0)
	again = append(again, counts(0, 100, row)...) // the oldest kept is where it began
	slices.Sort(again)
	is("counts", again)
	p.fiume("", "job", "stop", "busy").want(t, 0)
	p.fiume("", "job", "start", "busy", "--from", "2126-05-17 09:00:00").want(t, 0)
	eventually(t, "the job to begin in the future", func() bool {
		j, err := p.Job(t.Context(), "busy")
		return err == nil && j.State == "running" && j.In == 0
	})
	p.fiume("", "job", "revert", "busy", "--to", "77").want(t, 4, "has no version 77")
}
