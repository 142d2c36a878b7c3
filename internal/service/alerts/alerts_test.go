package alerts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/core/sql"
	"fiume/internal/core/step"
	"fiume/internal/service/access"
	"fiume/internal/service/advice"
	"fiume/internal/service/jobs"
	"fiume/internal/service/servicetest"
	"fiume/internal/service/topics"
)

// bench looks at alerts at times of its own, over rows and findings that a test has made.
type bench struct {
	*servicetest.Parts
	*Alerts
	now     time.Time
	rows    []string // that the queries have
	away    error    // why they have none
	found   []advice.Finding
	records atomic.Bool // the records cannot be written
	end     func()
}

const begins = "CREATE TOPIC alarms (PARTITIONS 1); DECLARE SINK alarms TO TOPIC 'alarms';"

func setUp(t *testing.T) *bench {
	t.Helper()
	b := &bench{Parts: servicetest.New(t), now: time.Date(2026, 5, 17, 9, 0, 0, 0, time.UTC)}
	b.Records.Fail = func(string) error {
		if b.records.Load() {
			return errors.New("the records are away")
		}
		return nil
	}
	b.Apply(begins)
	b.open()
	return b
}

// open opens the alerts over what is kept, as a new process would.
func (b *bench) open() {
	b.Helper()
	a, err := New(b.Parts.Base)
	if err != nil {
		b.Fatal(err)
	}
	a.Clock = func() time.Time { return b.now }
	a.opened = b.now
	a.Now = func(context.Context, string, string, int) ([]json.RawMessage, error) {
		out := []json.RawMessage{}
		for _, r := range b.rows {
			out = append(out, json.RawMessage(r))
		}
		return out, b.away
	}
	a.Findings = func(context.Context) ([]advice.Finding, error) { return b.found, b.away }
	ctx, cancel := context.WithCancel(context.Background())
	var parts sync.WaitGroup
	parts.Go(func() { a.records.keep(ctx) })
	a.telling.begin(ctx, &parts)
	b.Alerts = a
	b.end = sync.OnceFunc(func() { cancel(); parts.Wait() })
	b.Cleanup(b.end)
}

// reopen is a restart.
func (b *bench) reopen() {
	b.end()
	b.open()
}

// after looks at all alerts when some time has passed.
func (b *bench) after(d time.Duration, rows ...string) {
	b.now, b.rows = b.now.Add(d), rows
	b.round(b.Context())
}

// told gives what the topic was told: event, alert and what gives the alarm, once so many are there.
func (b *bench) told(n int) (out []string) {
	b.Helper()
	var all []topics.Message
	b.Wait(fmt.Sprintf("%d notices", n), func() bool {
		var err error
		all, _, err = b.Topics.Read("alarms", topics.Reading{Partition: 0, From: 0, Limit: 1000})
		return err == nil && len(all) >= n && len(b.Waiting()) == 0
	})
	for _, m := range all {
		var x struct{ ID, Alert, Event, Of, What, Row string }
		if err := json.Unmarshal([]byte(m.Value), &x); err != nil || x.ID == "" {
			b.Fatalf("%s: %v", m.Value, err)
		}
		out = append(out, strings.TrimSpace(x.Event+" "+x.Alert+" "+x.Of))
	}
	return out
}

func (b *bench) wants(what string, want ...string) {
	b.Helper()
	if got := b.told(len(want)); !slices.Equal(got, want) {
		b.Errorf("%s: it was told\n%q\nand not\n%q", what, got, want)
	}
}

// TestBeginsAndEnds: what holds for long enough begins once for each of what gives it, and ends once; silences, failures, a restart and a drop
// come between.
func TestBeginsAndEnds(t *testing.T) {
	b := setUp(t)
	b.Apply("CREATE ALERT filled WHEN (SELECT topic, messages FROM fiume.topics) BY topic FOR 20 SECONDS SAY '{topic} has {messages}, {{so}' NOTIFY alarms;")
	a, c := `{"topic":"a","messages":5}`, `{"topic":"c","messages":7}`
	b.after(0, a)
	b.after(10*time.Second, a)
	b.wants("before its time")
	b.after(11*time.Second, a, c)
	b.wants("a has held for 21 s", "begins filled a")
	b.after(11*time.Second, `{"topic":"a","messages":6}`, c)
	b.after(11*time.Second, c) // c holds for 22 s, a is over
	want := []string{"begins filled a", "begins filled c", "ends filled a"}
	b.wants("both", want...)
	x, err := b.Get(t.Context(), "filled")
	if err != nil || len(x.Standing) != 1 || x.Standing[0].What != "c has 7, {so}" || x.Standing[0].Begun == nil || !x.Standing[0].Told {
		t.Errorf("%+v %v", x, err)
	}
	b.after(10*time.Second, c)
	b.wants("nothing new", want...)

	b.away = errors.New("the job does not run")
	b.after(10 * time.Second)
	if x, err = b.Get(t.Context(), "filled"); err != nil || x.Problem != "the job does not run" || len(x.Standing) != 1 {
		t.Errorf("one that cannot be looked at: %+v %v", x, err)
	}
	b.away = nil
	b.after(10*time.Second, c)
	b.wants("what cannot be looked at ends nothing", want...)

	b.reopen()
	b.after(10*time.Second, c)
	b.after(4 * time.Second) // jobs come up
	b.wants("after a restart", want...)
	b.after(2 * time.Minute)
	want = append(want, "ends filled c")
	b.wants("a minute later it is over", want...)

	if _, err := b.Silence(t.Context(), "ada", "filled", "", time.Hour, "the move"); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Silence(t.Context(), "ada", "filled", "c", 2*time.Hour, ""); err != nil {
		t.Fatal(err)
	}
	b.after(10*time.Second, a, c)
	b.after(30*time.Second, a, c)
	b.reopen()
	b.after(30*time.Second, a, c)
	b.wants("silent, also behind a restart", want...)
	if x, err = b.Get(t.Context(), "filled"); err != nil || len(x.Silences) != 2 || x.Silences[0].Why != "the move" || x.Silences[0].By != "ada" || len(x.Standing) != 2 || x.Standing[0].Told {
		t.Errorf("%+v %v", x, err)
	}
	b.after(time.Hour, a, c)
	want = append(want, "begins filled a")
	b.wants("what still holds when a silence is over", want...)
	b.after(time.Minute, a) // c ends unheard
	if _, err := b.Silence(t.Context(), "ada", "filled", "c", 0, ""); err != nil {
		t.Fatal(err)
	}
	b.Apply("DROP ALERT filled;")
	b.after(time.Minute, a)
	if n := b.Counts(); n != 0 {
		t.Errorf("%d alarms of an alert that is not there", n)
	}
	b.wants("dropped", want...) // there is nobody left who is to be told
}

// TestLongRows: rows of any length are told apart, and cost what short ones do.
func TestLongRows(t *testing.T) {
	b := setUp(t)
	b.Apply("CREATE ALERT lengthy WHEN (SELECT topic FROM fiume.topics) BY topic SAY '{topic}' NOTIFY alarms;")
	long := strings.Repeat("x", 300_000)
	b.after(time.Second, `{"topic":"`+long+`1"}`, `{"topic":"`+long+`2"}`)
	b.told(2)
	x, err := b.Get(t.Context(), "lengthy")
	if err != nil || len(x.Standing) != 2 || x.Standing[0].Of == x.Standing[1].Of {
		t.Fatalf("%d stand: %v", len(x.Standing), err)
	}
	for _, s := range x.Standing {
		if len(s.Of)+len(s.What)+len(s.Row) > 10_000 {
			t.Errorf("one has %d, %d and %d bytes", len(s.Of), len(s.What), len(s.Row))
		}
	}
	b.after(10 * time.Second)
	if got := b.told(4); len(got) != 4 {
		t.Errorf("%d notices", len(got))
	}
}

// TestTellsLater: what a sink could not be told is told when it can be, also by the next process, and with records that are away.
func TestTellsLater(t *testing.T) {
	b := setUp(t)
	b.Apply("CREATE ALERT any WHEN (SELECT topic FROM fiume.topics) NOTIFY alarms;")
	if err := b.Parts.Base.TopicLog.Drop("alarms"); err != nil {
		t.Fatal(err)
	}
	b.after(time.Second, `{"topic":"a"}`)
	b.Wait("it is said why", func() bool {
		w := b.Waiting()
		return len(w) == 1 && w[0].Tries > 0 && strings.Contains(w[0].Problem, "alarms")
	})
	b.after(time.Minute)
	b.Wait("both wait", func() bool { return len(b.Waiting()) == 2 })
	b.reopen()
	b.after(time.Minute)
	b.Apply("CREATE TOPIC alarms (PARTITIONS 1);")
	b.wants("when it is there again", "begins any", "ends any")

	b.Records.Fail("") // the flag is read by the recorder too
	b.records.Store(true)
	b.after(time.Minute, `{"topic":"a"}`)
	b.wants("with records that are away", "begins any", "ends any", "begins any")
	b.records.Store(false)
	b.Wait("it is kept when they are back", func() bool {
		all, err := b.Records.Kept(keptStanding)
		return err == nil && len(all) == 1
	})
}

// TestWrong: rows that are too many, that fail or that hang are said, and keep no other alert from being looked at.
func TestWrong(t *testing.T) {
	b := setUp(t)
	b.Apply(`CREATE ALERT one WHEN (SELECT topic FROM fiume.topics) NOTIFY alarms; CREATE ALERT two WHEN (SELECT topic FROM fiume.topics) NOTIFY alarms;
		CREATE ALERT three WHEN (SELECT topic FROM fiume.topics) NOTIFY alarms; CREATE ALERT four WHEN (SELECT topic FROM fiume.topics) NOTIFY alarms;`)
	b.Alerts.Now = func(ctx context.Context, name, _ string, most int) ([]json.RawMessage, error) {
		switch name {
		case "one":
			panic("a fault")
		case "two":
			return []json.RawMessage{json.RawMessage(`nothing`)}, nil
		case "three":
			return nil, fmt.Errorf("more than %d rows", most)
		}
		return []json.RawMessage{json.RawMessage(`{"topic":"a"}`)}, nil
	}
	b.after(time.Second)
	b.wants("the one that is well", "begins four")
	for name, says := range map[string]string{"one": "a fault of Fiume: a fault", "two": "invalid character", "three": "more than 1000 rows"} {
		if x, err := b.Get(t.Context(), name); err != nil || !strings.Contains(x.Problem, says) {
			t.Errorf("%s: %+v %v", name, x, err)
		}
	}
	b.Says(func() error { _, err := b.Get(t.Context(), "fourr"); return err }(), `did you mean "four"?`)
	b.Says(func() error { _, err := b.Silence(t.Context(), "a", "one", "", 0, ""); return err }(), "the alert one is not silent")
	b.Says(func() error { _, err := b.Silence(t.Context(), "a", "one", "", 1e9*time.Second, ""); return err }(), "up to 90 days")
	for i := range mostSilences {
		if _, err := b.Silence(t.Context(), "a", "three", fmt.Sprint(i), time.Hour, ""); err != nil {
			t.Fatal(err)
		}
	}
	b.Says(func() error { _, err := b.Silence(t.Context(), "a", "three", "more", time.Hour, ""); return err }(), "100 silences")
	b.Says(func() error { _, err := b.Tell("a", []string{"alarm"}); return err }(), `did you mean "alarms"?`)
	b.Says(func() error { _, err := b.Tell("a", []string{"alarms", "alarms"}); return err }(), "there twice")
	b.Refused("CREATE ALERT x WHEN (SELECT job FROM fiume.jobs WHERE lat > 5);", `unknown column "lat"`, `did you mean "late"?`)
	b.Refused("CREATE ALERT x WHEN (SELECT job FROM fiume.jobz);", "the service tells of itself in fiume.jobs")
	b.Refused("CREATE ALERT x WHEN (SELECT job FROM nothing.there);", "nothing")
	b.Refused("CREATE ALERT x WHEN (SELECT job FROM fiume.jobs) BY jib SAY '{y}' NOTIFY alarm;", `no column "jib"`, `column "y", which SAY names`, `no sink is called "alarm"`)
	b.Refused("CREATE ALERT x WHEN (SELECT job FROM fiume.jobs) SAY 'all {job';", "is not closed")
	b.Refused("CREATE ALERT x WHEN (SELECT job FROM fiume.jobs) EVERY 10 MILLISECONDS;", "every second at most")
	b.Refused("CREATE ALERT x WHEN (SELECT job FROM fiume.jobs LIMIT 3);", "takes no UNTIL or LIMIT")
	b.Refused("CREATE ALERT x WHEN SELECT 1;", "expected (")
	b.Refused("CREATE TOPIC fiume.x; CREATE JOB fiume AS SELECT 1 AS x FROM y ROUTE TO alarms;", "tells of itself")
	b.Refused("DROP SINK alarms;", "is used by the alert four, the alert one, the alert three, the alert two")
}

// TestBuiltIn: each alert that every service has begins with what it is about, and ends without; who may not know of a job does not hear of it.
func TestBuiltIn(t *testing.T) {
	b := setUp(t)
	away := func() *flow.Waiting {
		return &flow.Waiting{Since: b.now.Add(-time.Minute), Reason: "refused", Tries: 7}
	}
	running := func() jobs.Measure {
		return jobs.Measure{JobInfo: jobs.JobInfo{Name: "timing.j", State: "running"}, Status: flow.Status{
			Steps:  []flow.Step{{Kind: "scan", Step: "s", Counts: step.Counts{In: 100_000}}, {Kind: "output", Step: "k"}},
			Splits: []flow.SplitStatus{{Stream: "s", Split: "0"}}}}
	}
	facts := func() *advice.Facts {
		return &advice.Facts{Now: b.now, Free: 100 << 30, Size: 200 << 30, Memory: 1 << 30, Jobs: []jobs.Measure{running()}, Topics: []topics.TopicInfo{{Name: "t"}}}
	}
	cases := map[string]func(f *advice.Facts, j *jobs.Measure){
		"checkpoints-fail": func(_ *advice.Facts, j *jobs.Measure) { j.Abandoned = away() },
		"clock-back":       func(f *advice.Facts, _ *jobs.Measure) { at := b.now.Add(time.Hour); f.Topics[0].LastAt = &at },
		"database-away":    func(f *advice.Facts, _ *jobs.Measure) { f.Database = errors.New("away") },
		"disk-fills":       func(f *advice.Facts, _ *jobs.Measure) { f.Free = 1 << 20 },
		"files-open":       func(f *advice.Facts, _ *jobs.Measure) { f.Files, f.MostFiles = 1000, 1024 },
		"job-behind":       func(_ *advice.Facts, j *jobs.Measure) { j.Left = 1 << 20 },
		"job-failed":       func(_ *advice.Facts, j *jobs.Measure) { j.State = "failed" },
		"job-retries":      func(_ *advice.Facts, j *jobs.Measure) { j.State = "retrying" },
		"job-stopped":      func(_ *advice.Facts, j *jobs.Measure) { j.State, j.Since = "stopped", b.now.Add(-2*time.Hour) },
		"late-much":        func(_ *advice.Facts, j *jobs.Measure) { j.Status.Steps[0].Counts.Late = 5000 },
		"messages-lost":    func(_ *advice.Facts, j *jobs.Measure) { j.Status.Steps[0].Counts.Lost = 5 },
		"rejects-much":     func(_ *advice.Facts, j *jobs.Measure) { j.Status.Steps[0].Counts.Rejected = 5000 },
		"sink-away":        func(_ *advice.Facts, j *jobs.Measure) { j.Status.Steps[1].Waiting = away() },
		"source-away":      func(_ *advice.Facts, j *jobs.Measure) { j.Status.Splits[0].Waiting = away() },
		"split-silent":     func(_ *advice.Facts, j *jobs.Measure) { j.Status.Splits[0].Holds = &flow.Holds{Silent: 300e6} },
		"state-parked":     func(_ *advice.Facts, j *jobs.Measure) { j.Status.Steps[1].Parked = 3 },
		"topic-damaged": func(f *advice.Facts, _ *jobs.Measure) {
			f.Topics[0].Partitions = []topics.PartitionInfo{{Lost: []topics.Lost{{From: 1, To: 3}}}}
		},
	}
	if _, err := b.Tell("ada", []string{"alarms"}); err != nil {
		t.Fatal(err)
	}
	foreign := access.With(t.Context(), &access.Caller{Name: "f", Via: "token", Grants: []access.Grant{{Space: "medical", Role: access.Operate}}})
	own := access.With(t.Context(), &access.Caller{Name: "o", Via: "token", Grants: []access.Grant{{Space: "timing", Role: access.Look}}})
	of := map[string]string{"job-failed": " job timing.j", "clock-back": " topic t", "topic-damaged": " topic t", "checkpoints-fail": " job timing.j", "job-behind": " job timing.j", "job-retries": " job timing.j", "job-stopped": " job timing.j",
		"late-much": " job timing.j", "rejects-much": " job timing.j", "messages-lost": " job timing.j s", "sink-away": " job timing.j k", "source-away": " job timing.j s 0", "split-silent": " job timing.j s 0", "state-parked": " job timing.j k"}
	var want []string
	for _, x := range builtIn {
		make := cases[x.name]
		if make == nil {
			t.Errorf("%s is not tried", x.name)
			continue
		}
		for range 2 { // for as long as it must hold
			f := facts()
			make(f, &f.Jobs[0])
			b.found = advice.Look(f)
			b.after(6 * time.Minute)
		}
		want = append(want, "begins "+x.name+of[x.name])
		standing := func(ctx context.Context) int {
			i := slices.IndexFunc(b.List(ctx), func(a Alert) bool { return a.Name == x.name })
			return len(b.List(ctx)[i].Standing)
		}
		ofJob := strings.Contains(of[x.name], "job")
		if all, o, n := standing(t.Context()), standing(own), standing(foreign); all != 1 || n != 0 || (o == 1) != ofJob {
			t.Errorf("%s: all know of %d, the space's own of %d, others of %d", x.name, all, o, n)
		}
		b.found = advice.Look(facts())
		b.after(time.Minute)
		want = append(want, "ends "+x.name+of[x.name])
		b.wants(x.name, want...)
	}
	if b.Uses("alarms") != true || b.Uses("other") {
		t.Error("it is not known what is told")
	}
	if _, err := b.Tell("ada", nil); err != nil {
		t.Fatal(err)
	}
	f := facts()
	f.Jobs[0].State = "failed"
	b.found = advice.Look(f)
	b.after(time.Minute)
	b.wants("nobody is told", want...)
	if k := b.Definitions.KindOf("alarms"); k != sql.KindSink {
		t.Error(k)
	}
}
