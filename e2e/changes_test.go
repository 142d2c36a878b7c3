package e2e

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"testing"
	"time"

	"fiume/internal/api"
	"fiume/internal/service/questions"
)

// TestChanges sends results that are replaced and withdrawn to a table, to a topic that keeps the latest row
// of each key, and to one that has every change: all three say the same in the end. Late and bad rows go to
// topics of their own. The job is stopped and started in between.
func TestChanges(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	address, db := raceDatabase(t)
	r, err := p.Apply(t.Context(), api.ScriptRequest{SQL: declareReads + p.endpoint(address) + `
		CREATE TOPIC latest (PARTITIONS 1); CREATE TOPIC changes (PARTITIONS 1); CREATE TOPIC late (PARTITIONS 1); CREATE TOPIC bad (PARTITIONS 1);
		DECLARE SINK latest_topic TO TOPIC 'latest' (KEY (mat, opened));
		DECLARE SINK change_topic TO TOPIC 'changes' (CHANGES full);
		DECLARE SINK crowd_table TO MARIADB 'crowding' VIA race_db (KEY (mat, opened));
		DECLARE SINK late_topic TO TOPIC 'late';
		DECLARE SINK bad_topic TO TOPIC 'bad';
		CREATE JOB quiet WITH counts AS (
			SELECT mat, w.opens AS opened, w.closes AS closed, COUNT(*) AS runners FROM reads
			GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE LATENESS 1 MINUTE REPORT ON CHANGE)
		), few AS (SELECT mat, opened, closed, runners FROM counts WHERE runners < 3)
		ROUTE few TO latest_topic, change_topic, crowd_table
		ROUTE LATE counts TO late_topic ROUTE REJECTED reads TO bad_topic SET (CHECKPOINT EVERY 200 MILLISECONDS);`})
	if err != nil || r.Problem != nil {
		t.Fatal(err, r.Problem)
	}
	read := func(mat, at string) string {
		return fmt.Sprintf(`{"chip":"P00001","mat":"%s","read_at":"2026-05-17T%sZ","rssi":-60}`, mat, at)
	}
	send := func(values ...string) {
		t.Helper()
		var ms []api.MessageRequest
		key := "one" // all in one partition, so that the order is known
		for _, v := range values {
			ms = append(ms, api.MessageRequest{Key: &key, Value: v})
		}
		if err := p.Write(t.Context(), "mat-reads", ms); err != nil {
			t.Fatal(err)
		}
	}
	table := func(want map[string]int64) {
		t.Helper()
		eventually(t, fmt.Sprint("the table to be ", want), func() bool { return maps.Equal(tableRows(t, db), want) })
	}
	send(read("start", "09:00:01"), read("half", "09:00:02"))
	table(map[string]int64{"start 2026-05-17 09:00:00": 1, "half 2026-05-17 09:00:00": 1})
	send(read("start", "09:00:03"), "no row at all")
	table(map[string]int64{"start 2026-05-17 09:00:00": 2, "half 2026-05-17 09:00:00": 1})
	if err := p.StopJob(t.Context(), "quiet"); err != nil {
		t.Fatal(err)
	}
	if err := p.StartJob(t.Context(), "quiet"); err != nil {
		t.Fatal(err)
	}
	send(read("start", "09:00:04"), read("km-05", "09:01:30")) // three: no longer few
	table(map[string]int64{"half 2026-05-17 09:00:00": 1, "km-05 2026-05-17 09:01:00": 1})
	send(read("finish", "09:05:00"), read("half", "09:00:30")) // far behind the stamp
	table(map[string]int64{"half 2026-05-17 09:00:00": 1, "km-05 2026-05-17 09:01:00": 1, "finish 2026-05-17 09:05:00": 1})

	type change struct {
		Change      string `json:"_change"`
		Mat, Opened string
		Runners     int64
	}
	rows := map[string]int64{}
	words := ""
	eventually(t, "all changes in the topic", func() bool { return len(p.values("changes")) >= 6 })
	for _, v := range p.values("changes") {
		var c change
		if err := json.Unmarshal([]byte(v), &c); err != nil {
			t.Fatal(err)
		}
		words += c.Change + " " + c.Mat + "\n"
		if rows[c.Mat] = c.Runners; c.Change == "withdraw" {
			delete(rows, c.Mat)
		}
	}
	if !maps.Equal(rows, map[string]int64{"half": 1, "km-05": 1, "finish": 1}) {
		t.Errorf("%v\n%s", rows, words)
	}
	ms, err := p.Read(t.Context(), "latest", url.Values{})
	if err != nil {
		t.Fatal(err)
	}
	latest := map[string]string{}
	for _, m := range ms {
		if latest[*m.Key] = m.Value; m.Value == "" {
			delete(latest, *m.Key)
		}
	}
	if len(latest) != 3 {
		t.Errorf("%v", latest)
	}
	eventually(t, "the late and the bad row", func() bool { return len(p.values("late")) == 1 && len(p.values("bad")) == 1 })
	var late struct {
		Reason, Step, Origin, LateBy string
		EventTime                    time.Time `json:"event_time"`
		By                           string    `json:"late_by"`
		Row                          struct{ Mat string }
	}
	if err := json.Unmarshal([]byte(p.values("late")[0]), &late); err != nil {
		t.Fatal(err)
	}
	if late.Step != "counts" || late.Row.Mat != "half" || late.By != "PT2M55S" || late.EventTime.Format(time.TimeOnly) != "09:00:30" || late.Origin == "" {
		t.Errorf("%s", p.values("late")[0])
	}
	var bad struct{ Reason, Step, Raw string }
	if err := json.Unmarshal([]byte(p.values("bad")[0]), &bad); err != nil || bad.Step != "reads" || bad.Raw != "no row at all" {
		t.Errorf("%s (%v)", p.values("bad")[0], err)
	}

	// What a sink cannot take is refused when the job is created.
	for text, want := range map[string]string{
		"CREATE JOB x AS SELECT mat, w.opens AS opened, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE REPORT ON CHANGE) ROUTE TO late_topic;":               "only adds rows",
		"CREATE JOB x AS SELECT mat, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE REPORT ON CHANGE) ROUTE TO change_topic;":                                "nothing in them tells which",
		"CREATE JOB x AS SELECT mat, chip, w.opens AS opened, COUNT(*) AS n FROM reads GROUP BY mat, chip, w WINDOW w AS (TUMBLING 1 MINUTE LATENESS 1 MINUTE) ROUTE TO crowd_table;": "chip is missing",
	} {
		if out := p.fiume(text, "apply", "-"); out.code != 3 {
			t.Errorf("%s\n%d %s", text, out.code, out.err)
		} else {
			out.want(t, 3, want)
		}
	}

	// How late the rows are, from the interface and the command line.
	var l *questions.Lateness
	if l, err = p.Lateness(t.Context(), "reads", url.Values{}); err != nil {
		t.Fatal(err)
	}
	if l.Rows != 7 || l.Rejected != 1 || l.Most != 270_000_000 || len(l.Proposals) != 4 || l.Proposals[3].Delay != l.Most || len(l.Splits) != 2 {
		t.Errorf("%+v", l)
	}
	p.fiume("", "lateness", "reads").want(t, 0, "7 rows", "4m 30s behind", "DELAY 4 MINUTES 30 SECONDS", "mat-reads/0")
	p.fiume("", "lateness", "reads", "--since", "soon").want(t, 3, "no place in time")
	p.fiume("", "lateness", "raeds").want(t, 4, "reads")
	d, err := p.Job(t.Context(), "quiet")
	if err != nil {
		t.Fatal(err)
	}
	open := 0
	for _, s := range d.Status.Steps {
		open += len(s.OpenWindows)
	}
	if open == 0 {
		t.Error("no open window is listed")
	}
}
