package jobs_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/service/base"
	"fiume/internal/service/jobs"
	"fiume/internal/service/servicetest"
)

// read is a message of the stream reads.
func read(chip string, second int) string {
	return fmt.Sprintf(`{"chip":"%s","mat":"km-05","rssi":-50,"read_at":"2026-05-17T09:00:%02dZ"}`, chip, second)
}

func strong(chips ...string) (out []string) {
	for _, c := range chips {
		out = append(out, fmt.Sprintf(`{"chip":"%s","mat":"km-05"}`, c))
	}
	slices.Sort(out)
	return out
}

// TestLife takes a job through all that can be done to it.
func TestLife(t *testing.T) {
	p := servicetest.New(t)
	ctx := t.Context()
	p.Apply(servicetest.Reads + servicetest.Strong)
	p.Write("reads", read("A", 1), read("B", 2), `{"chip":"C","rssi":-90,"read_at":"2026-05-17T09:00:03Z"}`)
	p.WaitFor("strong_reads", "running")
	p.Wait("rows", func() bool { return slices.Equal(p.Values("strong"), strong("A", "B")) })
	p.Says(p.Jobs.Start(ctx, "ada", "strong_reads"), `"strong_reads" is already running`)
	if err := p.Jobs.Stop(ctx, "ada", "strong_reads"); err != nil {
		t.Fatal(err)
	}
	if i := p.State("strong_reads"); i.State != "stopped" || i.In != 3 || i.Out != 2 || i.Version != 1 {
		t.Errorf("%+v", i)
	}
	p.Says(p.Jobs.Stop(ctx, "ada", "strong_reads"), "is already stopped")
	p.Write("reads", read("D", 4))
	if err := p.Jobs.Start(ctx, "ada", "strong_reads"); err != nil {
		t.Fatal(err)
	}
	p.Wait("a row behind a stop", func() bool { return slices.Equal(p.Values("strong"), strong("A", "B", "D")) })
	d, err := p.Jobs.Get("strong_reads")
	if err != nil || d.Plan == nil || !strings.Contains(d.Explain, "strong") || d.SQL == "" {
		t.Errorf("%+v, %v", d, err)
	}
	p.Wait("a checkpoint", func() bool {
		all, err := p.Jobs.Checkpoints("strong_reads")
		return err == nil && len(all) > 0 && all[0].Version == 1
	})
	p.Says(p.Jobs.StartFrom(ctx, "ada", "strong_reads", jobs.Begin{Beginning: true}), "stop it first")
	dir := filepath.Join(p.Base.Dir, base.StateDir("strong_reads"))
	if _, err := os.Stat(dir); err != nil {
		t.Error(err)
	}
	if err := p.Jobs.Drop(ctx, "ada", "strong_reads"); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(dir); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the state of a dropped job is there: %v", err)
	}
	if _, err := p.Jobs.Get("strong_reads"); !errors.Is(err, base.ErrNotFound) {
		t.Error(err)
	}
	p.Says(p.Jobs.Drop(ctx, "ada", "strong_reads"), `no job is called "strong_reads"`)
	if rows, err := p.Records.Jobs(); err != nil || len(rows) != 0 {
		t.Errorf("%+v %v", rows, err)
	}
	log := p.Activity()
	for _, want := range []string{"test created strong_reads", "ada stopped strong_reads", "ada started strong_reads", "ada dropped strong_reads"} {
		if !slices.Contains(log, want) {
			t.Errorf("the activity log has no %q: %q", want, log)
		}
	}
}

// TestNames: what is not there is said with what is.
func TestNames(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(servicetest.Reads + servicetest.Strong)
	ctx := t.Context()
	_, history := p.Jobs.History("strong_read", time.Minute)
	_, aside := p.Jobs.SetAside(catalog.Looking{Job: "strong_read", Limit: 1})
	_, versions := p.Jobs.Versions("strong_read")
	_, checkpoints := p.Jobs.Checkpoints("strong_read")
	_, state := p.Jobs.State("strong_read")
	for i, err := range []error{p.Jobs.Start(ctx, "a", "strong_read"), p.Jobs.Stop(ctx, "a", "strong_read"), p.Jobs.Drop(ctx, "a", "strong_read"), p.Jobs.SetParallelism(ctx, "a", "strong_read", 2),
		p.Jobs.StartFrom(ctx, "a", "strong_read", jobs.Begin{Beginning: true}), history, aside, versions, checkpoints, state} {
		if !errors.Is(err, base.ErrNotFound) || !strings.Contains(err.Error(), `did you mean "strong_reads"?`) {
			t.Errorf("%d: %v", i, err)
		}
	}
	for _, n := range []int{-1, 257} {
		p.Says(p.Jobs.SetParallelism(ctx, "a", "strong_reads", n), "a job has 1 to 256 tasks")
	}
}

// TestRestart: a new process goes on with the jobs where they were, those that were stopped stay stopped, and one that has
// finished stays finished.
func TestRestart(t *testing.T) {
	p := servicetest.New(t)
	if err := os.MkdirAll(filepath.Join(p.Base.Dir, "files", "in"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(p.Base.Dir, "files", "in", "a.json"), []byte(read("F", 1)+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	p.Apply(servicetest.Reads + servicetest.Strong + `
		DECLARE STREAM past (chip VARCHAR, rssi DOUBLE) FROM FILES 'in'; CREATE TOPIC past (PARTITIONS 1); DECLARE SINK past_rows TO TOPIC 'past';
		CREATE JOB past_job AS SELECT chip FROM past ROUTE TO past_rows;
		CREATE TOPIC idle (PARTITIONS 1); DECLARE SINK idle_rows TO TOPIC 'idle'; CREATE JOB idle AS SELECT chip FROM reads ROUTE TO idle_rows;`)
	p.Write("reads", read("A", 1))
	p.Wait("a row", func() bool { return len(p.Values("strong")) == 1 && len(p.Values("idle")) == 1 })
	p.WaitFor("past_job", "finished")
	if i := p.State("past_job"); !strings.Contains(i.Reason, "the files of past have been read to their ends") {
		t.Errorf("%+v", i)
	}
	if err := p.Jobs.Stop(t.Context(), "a", "idle"); err != nil {
		t.Fatal(err)
	}
	q := p.Restart()
	q.Write("reads", read("B", 2))
	q.Wait("a row behind a restart", func() bool { return slices.Equal(q.Values("strong"), strong("A", "B")) })
	if s := q.State("past_job"); s.State != "finished" || s.In != 1 {
		t.Errorf("%+v", s)
	}
	q.Says(q.Jobs.Start(t.Context(), "a", "past_job"), "has finished")
	if s := q.State("idle"); s.State != "stopped" || s.In != 1 {
		t.Errorf("%+v", s)
	}
	if got := q.Values("idle"); len(got) != 1 {
		t.Errorf("a stopped job wrote %q", got)
	}
}

// TestBegin starts a job at places of its own choice.
func TestBegin(t *testing.T) {
	p := servicetest.New(t)
	ctx := t.Context()
	p.Apply(servicetest.Reads + servicetest.Strong)
	p.Write("reads", "1\t"+read("A", 1), "1\t"+read("B", 2))
	p.Wait("rows", func() bool { return len(p.Values("strong")) == 2 })
	p.Wait("a checkpoint", func() bool { all, _ := p.Jobs.Checkpoints("strong_reads"); return len(all) > 0 })
	stop := func() {
		t.Helper()
		if err := p.Jobs.Stop(ctx, "a", "strong_reads"); err != nil {
			t.Fatal(err)
		}
	}
	stop()
	p.Says(p.Jobs.StartFrom(ctx, "a", "strong_reads", jobs.Begin{Checkpoint: 9999}), "has no checkpoint 9999; kept are: ")
	if s := p.State("strong_reads"); s.State != "stopped" {
		t.Errorf("a job whose start was refused is %s", s.State)
	}
	if err := p.Jobs.StartFrom(ctx, "a", "strong_reads", jobs.Begin{Beginning: true}); err != nil {
		t.Fatal(err)
	}
	p.Wait("rows once more", func() bool { return slices.Equal(p.Values("strong"), strong("A", "A", "B", "B")) })
	stop()
	cs, err := p.Jobs.Checkpoints("strong_reads")
	if err != nil || len(cs) == 0 {
		t.Fatal(cs, err)
	}
	if err := p.Jobs.StartFrom(ctx, "a", "strong_reads", jobs.Begin{Checkpoint: cs[0].Number}); err != nil {
		t.Fatal(err)
	}
	p.Write("reads", "1\t"+read("C", 3))
	p.Wait("a row behind a checkpoint", func() bool { return slices.Equal(p.Values("strong"), strong("A", "A", "B", "B", "C")) })
	stop()
	at := time.Now()
	time.Sleep(2 * time.Millisecond) // messages know when they came to the millisecond
	p.Write("reads", "1\t"+read("D", 4))
	if err := p.Jobs.StartFrom(ctx, "a", "strong_reads", jobs.Begin{At: at}); err != nil {
		t.Fatal(err)
	}
	p.Wait("what came since", func() bool { return slices.Contains(p.Values("strong"), strong("D")[0]) })
	if got := p.Values("strong"); !slices.Equal(got, strong("A", "A", "B", "B", "C", "D")) {
		t.Errorf("%q", got)
	}
}

// TestRecordsFail: where records cannot be kept, nothing is half done, and a job that runs goes on.
func TestRecordsFail(t *testing.T) {
	p := servicetest.New(t)
	ctx := t.Context()
	p.Apply(servicetest.Reads + servicetest.Strong)
	p.WaitFor("strong_reads", "running")
	var failing atomic.Value
	failing.Store("")
	gone := errors.New("the database is away")
	p.Close() // the function is set while nothing calls
	p.Records.Fail = func(call string) error {
		if f := failing.Load().(string); f == "all" || f == call {
			return gone
		}
		return nil
	}
	q := p.Restart()
	q.WaitFor("strong_reads", "running")
	fails := func(call string, do func() error) {
		t.Helper()
		failing.Store(call)
		defer failing.Store("")
		if err := do(); !errors.Is(err, gone) {
			t.Errorf("%s: %v", call, err)
		}
	}
	fails("SetJob", func() error { return q.Jobs.Stop(ctx, "a", "strong_reads") })
	fails("DropJob", func() error { return q.Jobs.Drop(ctx, "a", "strong_reads") })
	fails("SetJob", func() error { return q.Jobs.SetParallelism(ctx, "a", "strong_reads", 2) })
	fails("CreateJob", func() error {
		return q.Jobs.Create(ctx, "a", "other", "CREATE JOB other AS SELECT chip FROM reads ROUTE TO strong;", nil)
	})
	if list := q.Jobs.List(); len(list) != 1 {
		t.Errorf("%+v", list)
	}
	q.WaitFor("strong_reads", "running")
	q.Write("reads", read("A", 1))
	q.Wait("a row", func() bool { return slices.Equal(q.Values("strong"), strong("A")) })
	// Away altogether for a while: rows flow, and nothing is there twice when it comes back.
	failing.Store("all")
	q.Write("reads", read("B", 2))
	time.Sleep(200 * time.Millisecond)
	failing.Store("")
	q.Write("reads", read("C", 3))
	q.Wait("rows behind an outage", func() bool { return slices.Equal(q.Values("strong"), strong("A", "B", "C")) })
}

// TestCommandsAtOnce has many callers do things to a few jobs. In the end each job does what was last wanted of it, and has
// written each row once.
func TestCommandsAtOnce(t *testing.T) {
	p := servicetest.New(t)
	ctx := t.Context()
	p.Apply(servicetest.Reads)
	const n = 3
	for i := range n {
		p.Apply(fmt.Sprintf(`CREATE TOPIC out%[1]d (PARTITIONS 1); DECLARE SINK out%[1]d TO TOPIC 'out%[1]d';
			CREATE JOB j%[1]d AS SELECT chip, mat FROM reads ROUTE TO out%[1]d SET (CHECKPOINT EVERY 100 MILLISECONDS);`, i))
	}
	var wg sync.WaitGroup
	var want []string
	for k := range 6 {
		wg.Go(func() {
			r := rand.New(rand.NewPCG(7, uint64(k)))
			for range 12 {
				name := fmt.Sprint("j", r.IntN(n))
				var err error
				switch r.IntN(4) {
				case 0:
					err = p.Jobs.Stop(ctx, "a", name)
				case 1:
					err = p.Jobs.Start(ctx, "a", name)
				case 2:
					err = p.Jobs.SetParallelism(ctx, "a", name, 1+r.IntN(3))
				case 3:
					_, err = p.Jobs.Get(name)
				}
				if err != nil && !errors.Is(err, base.ErrConflict) {
					t.Error(err)
				}
			}
		})
	}
	for i := range 200 {
		chip := fmt.Sprintf("C%03d", i)
		want = append(want, strong(chip)...)
		p.Write("reads", chip+"\t"+read(chip, i%50))
	}
	wg.Wait()
	rows, err := p.Records.Jobs()
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rows {
		if s := p.State(r.Name).State; (r.Wanted == "stopped") != (s == "stopped") {
			t.Errorf("%s is wanted %s, and is %s", r.Name, r.Wanted, s)
		}
		if r.Wanted == "stopped" {
			if err := p.Jobs.Start(ctx, "a", r.Name); err != nil {
				t.Error(err)
			}
		}
	}
	for i := range n {
		p.Wait("all rows", func() bool { return len(p.Values(fmt.Sprint("out", i))) >= len(want) })
		if got := p.Values(fmt.Sprint("out", i)); !slices.Equal(got, want) {
			t.Errorf("out%d has %d rows of %d", i, len(got), len(want))
		}
	}
}

// TestAside: rows that are rejected or late are counted, kept and found, and one that is mended is sent again once.
func TestAside(t *testing.T) {
	p := servicetest.New(t)
	p.Apply(servicetest.Reads + `CREATE TOPIC counts (PARTITIONS 1); DECLARE SINK counts TO TOPIC 'counts';
		CREATE JOB counting AS SELECT mat, w.opens AS opened, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 10 SECONDS) ROUTE TO counts;
		CREATE TOPIC all_reads (PARTITIONS 1); DECLARE SINK all_reads TO TOPIC 'all_reads'; CREATE JOB passing AS SELECT chip FROM reads ROUTE TO all_reads;`)
	p.Write("reads", "1\t"+read("A", 1), "1\t"+`{"chip":null}`, "1\tno JSON", "1\t"+read("B", 50), "1\t"+read("late", 2))
	seen := func() *jobs.Aside {
		a, err := p.Jobs.SetAside(catalog.Looking{Job: "counting", Limit: 10})
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	p.Wait("counts", func() bool { i := p.State("counting"); return i.Rejects == 2 && i.Late == 1 })
	p.Jobs.Look(time.Now(), true)
	p.Wait("rows set aside", func() bool { return len(seen().Rows) == 3 })
	a := seen()
	var bad, late catalog.SetAside
	for _, r := range a.Rows {
		switch {
		case r.Kind == "late":
			late = r
		case strings.Contains(r.Row, "null"):
			bad = r
		}
	}
	if late.LateBy == 0 || bad.Topic != "reads" || !strings.Contains(bad.Reason, "chip") {
		t.Errorf("%+v", a.Rows)
	}
	if len(a.Reasons) != 3 {
		t.Errorf("%+v", a.Reasons)
	}
	one, err := p.Jobs.SetAside(catalog.Looking{Job: "counting", Kind: "rejected", Limit: 1})
	if err != nil || len(one.Rows) != 1 || one.Next == "" {
		t.Errorf("%+v %v", one, err)
	}
	_, err = p.Jobs.SendAgain(t.Context(), "ada", "counting", bad.ID, "still no JSON", true)
	p.Says(err, "the message is no row of reads")
	_, err = p.Jobs.SendAgain(t.Context(), "ada", "passing", bad.ID, read("A", 1), true)
	p.Says(err, "has set no row")
	again, err := p.Jobs.SendAgain(t.Context(), "ada", "counting", bad.ID, read("mended", 51), true)
	if err != nil || !slices.Equal(again.Readers, []string{"passing"}) || again.SentBy != "ada" {
		t.Fatalf("%+v %v", again, err)
	}
	p.Wait("the mended row", func() bool { return slices.Contains(p.Values("all_reads"), `{"chip":"mended"}`) })
	_, err = p.Jobs.SendAgain(t.Context(), "ada", "counting", bad.ID, read("mended", 51), true)
	p.Says(err, "was sent again at", "--once-more")
	if _, err := p.Jobs.SendAgain(t.Context(), "ada", "counting", bad.ID, read("twice", 51), false); err != nil {
		t.Error(err)
	}
	h, err := p.Jobs.History("counting", time.Minute)
	if err != nil || h.Job != "counting" {
		t.Errorf("%+v %v", h, err)
	}
	if _, err := p.Jobs.History("counting", 24*time.Hour); err != nil {
		t.Error(err)
	}
	st, err := p.Jobs.State("counting")
	if err != nil || len(st.Steps) == 0 {
		t.Errorf("%+v %v", st, err)
	}
}
