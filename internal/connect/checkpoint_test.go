package connect_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/topiclog"
)

const topicSQL = `DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, at TIMESTAMP, n BIGINT)
	EVENT TIME at DELAY 3 SECONDS FROM TOPIC 'reads';`

// liveRun is a live query over a log, run in the background.
type liveRun struct {
	job    *flow.Job
	mu     sync.Mutex
	rows   []string
	cancel context.CancelFunc
	done   chan error
}

func startLive(t *testing.T, log *topiclog.Log, src string, opts flow.Options) *liveRun {
	t.Helper()
	plans, _, err := plan.NewCatalog(connect.Places()).Bind("live.sql", topicSQL+src, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	r := &liveRun{done: make(chan error, 1)}
	o := &connect.Opener{Env: contract.Env{Topics: log}, Rows: &rows.Sink{Format: "json", Limit: -1, Each: func(row []byte) error {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.rows = append(r.rows, string(row))
		return nil
	}}}
	opts.Describe = text.Describe
	if r.job, err = flow.New(plans[0], o, opts); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	r.cancel = cancel
	go func() { r.done <- r.job.Run(ctx) }()
	t.Cleanup(func() { cancel() })
	return r
}

func (r *liveRun) got() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.rows)
}

// TestCheckpoints stops a live query at random moments without warning and goes on from its last
// checkpoint, each time with another number of tasks. The rows seen in all are those of an
// uninterrupted run; a row given twice is the same both times; the ledger carries on and balances.
func TestCheckpoints(t *testing.T) {
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	topic, err := log.Create("reads", topiclog.Settings{Partitions: 3})
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(5, 5))
	const total = 20_000
	clock := int64(1_779_000_000_000)
	day := rand.New(rand.NewPCG(6, 6)) // the writer's own
	write := func(from, to int) {
		var recs []topiclog.Record
		for i := from; i < to; i++ {
			clock += int64(day.IntN(40))
			v := fmt.Sprintf(`{"chip":"P%d","mat":"m%d","at":"%s","n":%d}`, day.IntN(300), day.IntN(5), stampMs(clock-int64(day.IntN(2500))), i)
			recs = append(recs, topiclog.Record{Key: []byte(fmt.Sprint(i)), Value: []byte(v)})
		}
		if err := topic.Append(recs); err != nil {
			t.Error(err)
		}
	}
	const src = `SELECT mat, w.opens AS opened, COUNT(*) AS chips, SUM(reads) AS reads, MAX(top) AS top,
			SUM(different) AS different, LISTAGG(chip, ' ') WITHIN GROUP (ORDER BY chip) AS names, COUNT(DISTINCT top) AS tops
		FROM (SELECT chip, mat, COUNT(*) AS reads, ARG_MAX(n, n) AS top, COUNT(DISTINCT n) AS different FROM reads GROUP BY chip, mat, v WINDOW v AS (TUMBLING 2 SECONDS))
		GROUP BY mat, w WINDOW w AS (TUMBLING 10 SECONDS)`
	var writing sync.WaitGroup
	writing.Go(func() {
		for i := 0; i < total; i += 200 {
			write(i, i+200)
			time.Sleep(4 * time.Millisecond)
		}
	})
	defer writing.Wait()
	seen := map[string]string{}
	note := func(rows []string) {
		for _, row := range rows {
			var k struct{ Mat, Opened string }
			if err := json.Unmarshal([]byte(row), &k); err != nil {
				t.Fatal(err)
			}
			key := k.Mat + " " + k.Opened
			if old, ok := seen[key]; ok && old != row {
				t.Fatalf("a result came twice, and differs:\n%s\n%s", old, row)
			}
			seen[key] = row
		}
	}
	var snap *flow.Snapshot
	crashes := 0
	for {
		run := startLive(t, log, src+" ;", flow.Options{Parallelism: 1 + r.IntN(5), Restore: snap})
		for range 1 + r.IntN(3) {
			time.Sleep(time.Duration(10+r.IntN(60)) * time.Millisecond)
			next, err := run.job.Checkpoint(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			for i, c := range next.Ledger {
				if c.Open() != 0 {
					t.Fatalf("checkpoint: %d rows of operator %d are nowhere: %+v", c.Open(), i, c)
				}
			}
			b, err := next.Positions() // as it is kept
			if err != nil {
				t.Fatal(err)
			}
			windows := next.State
			snap = &flow.Snapshot{}
			if err := json.Unmarshal(b, snap); err != nil {
				t.Fatal(err)
			}
			snap.State = windows
		}
		time.Sleep(time.Duration(r.IntN(30)) * time.Millisecond)
		run.cancel()
		if err := <-run.done; !errors.Is(err, context.Canceled) {
			t.Fatal(err)
		}
		note(run.got())
		crashes++
		var read int64
		for _, p := range snap.Splits {
			read += p.Next
		}
		if read == total {
			break
		}
		if crashes > 500 {
			t.Fatalf("only %d of %d messages read after %d crashes", read, total, crashes)
		}
	}
	// The rest, to the end: what is left in the windows comes out when the input has ended.
	last := startLive(t, log, src+" UNTIL NOW;", flow.Options{Parallelism: 4, Restore: snap})
	if err := <-last.done; err != nil {
		t.Fatal(err)
	}
	note(last.got())
	st := last.job.Status()
	if st.Steps[0].Counts.In != total {
		t.Errorf("the ledger counts %d messages, %d were written", st.Steps[0].Counts.In, total)
	}
	for _, s := range st.Steps {
		if s.Open != 0 || s.Counts.Held != 0 {
			t.Errorf("the ledger does not balance: %+v", s)
		}
	}
	whole := startLive(t, log, src+" UNTIL NOW;", flow.Options{Parallelism: 2})
	if err := <-whole.done; err != nil {
		t.Fatal(err)
	}
	want := whole.got()
	var got []string
	for _, row := range seen {
		got = append(got, row)
	}
	slices.Sort(want)
	slices.Sort(got)
	if !slices.Equal(want, got) {
		t.Fatalf("after %d crashes %d results, uninterrupted %d", crashes, len(got), len(want))
	}
	t.Logf("%d crashes, %d results", crashes, len(got))
}

// TestIdleSplit: a silent partition holds the windows back, unless the stream says IDLE AFTER.
func TestIdleSplit(t *testing.T) {
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	topic, err := log.Create("reads", topiclog.Settings{Partitions: 2})
	if err != nil {
		t.Fatal(err)
	}
	part := topic.Partitions()[0]
	put := func(p *topiclog.Partition, at int64) {
		t.Helper()
		if _, err := p.Append([]topiclog.Record{{Value: []byte(fmt.Sprintf(`{"chip":"P1","at":"%s","n":1}`, stampMs(at)))}}); err != nil {
			t.Fatal(err)
		}
	}
	const start = 1_779_000_000_000
	query := `SELECT w.opens, COUNT(*) AS n FROM reads SINCE BEGINNING GROUP BY w WINDOW w AS (TUMBLING 10 SECONDS);`
	patient := startLive(t, log, query, flow.Options{Parallelism: 2})
	idle := startLive(t, log, `DECLARE STREAM idle_reads (chip VARCHAR, at TIMESTAMP, n BIGINT)
		EVENT TIME at DELAY 3 SECONDS IDLE AFTER 200 MILLISECONDS FROM TOPIC 'reads';
		SELECT w.opens, COUNT(*) AS n FROM idle_reads SINCE BEGINNING GROUP BY w WINDOW w AS (TUMBLING 10 SECONDS);`, flow.Options{Parallelism: 2})
	put(part, start)
	put(part, start+60_000)
	deadline := time.Now().Add(5 * time.Minute)
	for len(idle.got()) == 0 {
		if time.Now().After(deadline) {
			t.Fatalf("the idle split still holds the window back: %+v", idle.job.Status())
		}
		time.Sleep(10 * time.Millisecond)
	}
	if rows := patient.got(); len(rows) != 0 {
		t.Fatalf("the window closed although a split was behind: %v", rows)
	}
	// A row of the idle split that is not late by its own stamp, but whose window has been closed: it
	// is counted late, with that reason.
	put(topic.Partitions()[1], start+1000)
	for {
		var late int64
		for _, s := range idle.job.Status().Steps {
			late += s.Counts.Late
		}
		if late == 1 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("the row is nowhere: %+v", idle.job.Status())
		}
		time.Sleep(10 * time.Millisecond)
	}
	if s := idle.job.Samples(); len(s) != 1 || s[0].Kind != "late" {
		t.Fatalf("no sample of the late row: %+v", s)
	}
	apart := int64(0)
	for _, s := range idle.job.Status().Steps {
		apart += s.Counts.IdleLate
	}
	if apart != 1 {
		t.Errorf("%d rows are counted as late because their split was idle", apart)
	}

	// A run that goes on from a checkpoint goes on with what the clock had decided: here it would wait for an
	// hour to decide it anew.
	for idleAgain := false; !idleAgain; time.Sleep(10 * time.Millisecond) {
		for _, s := range idle.job.Status().Splits {
			idleAgain = idleAgain || s.Idle && s.Split == "reads/1"
		}
		if time.Now().After(deadline) {
			t.Fatalf("the split is not idle again: %+v", idle.job.Status())
		}
	}
	snap, err := idle.job.Checkpoint(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	idle.cancel()
	next := startLive(t, log, `DECLARE STREAM idle_reads (chip VARCHAR, at TIMESTAMP, n BIGINT)
		EVENT TIME at DELAY 3 SECONDS IDLE AFTER 1 HOUR FROM TOPIC 'reads';
		SELECT w.opens, COUNT(*) AS n FROM idle_reads SINCE BEGINNING GROUP BY w WINDOW w AS (TUMBLING 10 SECONDS);`, flow.Options{Parallelism: 2, Restore: snap})
	put(part, start+120_000)
	for len(next.got()) == 0 {
		if time.Now().After(deadline) {
			t.Fatalf("the restart forgot that the split was idle: %+v", next.job.Status())
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// TestTimeMarks: a stream by arrival closes its windows when nothing more comes, since what comes later
// arrives later.
func TestTimeMarks(t *testing.T) {
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	topic, err := log.Create("reads", topiclog.Settings{Partitions: 2})
	if err != nil {
		t.Fatal(err)
	}
	run := startLive(t, log, `DECLARE STREAM words (word VARCHAR) FROM TOPIC 'reads' (FORMAT text);
		SELECT word, COUNT(*) AS n FROM words SINCE BEGINNING GROUP BY word, w WINDOW w AS (SESSION GAP 100 MILLISECONDS);`, flow.Options{Parallelism: 2})
	for range 3 {
		if err := topic.Append([]topiclog.Record{{Key: []byte("k"), Value: []byte("ponte")}}); err != nil {
			t.Fatal(err)
		}
	}
	for deadline := time.Now().Add(5 * time.Minute); len(run.got()) == 0; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("the session does not end: %+v", run.job.Status())
		}
	}
	if got := run.got()[0]; got != `{"word":"ponte","n":3}` {
		t.Errorf("%s", got)
	}
}

// TestSinceUntil: where reading begins and ends, by place and by time of arrival.
func TestSinceUntil(t *testing.T) {
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	topic, err := log.Create("reads", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	base := time.Date(2026, 5, 17, 9, 0, 0, 0, time.UTC)
	for i := range 10 {
		if err := topic.Append([]topiclog.Record{{At: base.Add(time.Duration(i) * time.Minute).UnixMicro(), Value: []byte(fmt.Sprintf(`{"n":%d,"at":"2026-05-17T09:00:00Z"}`, i))}}); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		since, until string
		want         int
	}{
		{"SINCE BEGINNING", "UNTIL NOW", 10},
		{"SINCE NOW", "UNTIL NOW", 0},
		{"SINCE TIMESTAMP '2026-05-17 09:03:00'", "UNTIL NOW", 7},
		{"SINCE TIMESTAMP '2026-05-17 09:03:00'", "UNTIL TIMESTAMP '2026-05-17 09:07:30'", 5},
		{"SINCE '2026-05-17 09:08:30'", "UNTIL '2026-05-17 09:08:40'", 0},
		{"SINCE 1 HOUR", "UNTIL NOW", 0},
	} {
		run := startLive(t, log, "SELECT n FROM reads "+c.since+" "+c.until+";", flow.Options{})
		if err := <-run.done; err != nil {
			t.Fatal(err)
		}
		if rows := run.got(); len(rows) != c.want {
			t.Errorf("%s %s: %d rows, wanted %d", c.since, c.until, len(rows), c.want)
		}
	}
	_, _, err = plan.NewCatalog(connect.Places()).Bind("x", topicSQL+"SELECT n FROM reads UNTIL 5 MINUTES; SELECT n FROM reads SINCE chip;", nil, nil)
	var e *sql.Errors
	if !errors.As(err, &e) || len(e.List) != 2 {
		t.Errorf("wanted two errors, got %v", err)
	}
}
