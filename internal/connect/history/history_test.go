package history_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

const base = int64(1_779_000_000_000)

// world is rows of which files hold the older and a topic the newer, with some in both around the seam.
type world struct {
	dir  string
	log  *topiclog.Log
	in   *topiclog.Topic
	want map[string][2]int // by mat and window: rows, and the sum of n
	r    *rand.Rand
	live []topiclog.Record
}

const seam, last = 4000, 6000

func newWorld(t *testing.T, seed uint64) *world {
	w := &world{dir: t.TempDir(), want: map[string][2]int{}, r: rand.New(rand.NewPCG(seed, 9))}
	var err error
	if w.log, err = topiclog.Open(t.TempDir()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { w.log.Close() })
	if w.in, err = w.log.Create("in", topiclog.Settings{Partitions: 2}); err != nil {
		t.Fatal(err)
	}
	if _, err = w.log.Create("out", topiclog.Settings{Partitions: 1}); err != nil {
		t.Fatal(err)
	}
	files := map[string][]string{}
	for n := range last {
		at := base + int64(n)*20 + w.r.Int64N(300) // in disorder
		mat := fmt.Sprintf("M%d", n%3)
		row := fmt.Sprintf(`{"mat":"%s","at":%d,"n":%d}`, mat, at, n)
		key := fmt.Sprintf("%s %d", mat, at/10_000*10_000)
		x := w.want[key]
		w.want[key] = [2]int{x[0] + 1, x[1] + n}
		if n < seam+200 { // by mat and by the hour, so that names are not in the order of time; some behind the seam
			name := fmt.Sprintf("%s/%04d.json", mat, n/700)
			files[name] = append(files[name], row)
		}
		if n >= seam-500 { // some before the seam
			w.live = append(w.live, topiclog.Record{Value: []byte(row)})
		}
	}
	for name, rows := range files {
		path := filepath.Join(w.dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(strings.Join(rows, "\n")+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return w
}

func (w *world) declared(at string) string {
	return `DECLARE STREAM s (mat VARCHAR, at BIGINT, n BIGINT, t TIMESTAMP AS (FROM_UNIX_MILLIS(at))) EVENT TIME t DELAY 1 SECOND
		FROM HISTORY FILES '` + w.dir + `/**' (FORMAT json) THEN TOPIC 'in'` + at + `;
		DECLARE SINK out TO TOPIC 'out';
		`
}

const counted = `by_mat AS (SELECT mat, w.opens AS opens, COUNT(*) AS many, SUM(n) AS total FROM s GROUP BY mat, w WINDOW w AS (TUMBLING 10 SECONDS))`

// took gives the windows in the sink, and fails where one is there twice.
func (w *world) took(t *testing.T) map[string][2]int {
	t.Helper()
	got := map[string][2]int{}
	for _, v := range kit.Values(t, w.log.Topic("out")) {
		var r struct {
			Mat, Opens  string
			Many, Total int
		}
		if err := json.Unmarshal([]byte(v), &r); err != nil {
			t.Fatal(err)
		}
		at, err := time.Parse(time.RFC3339, r.Opens)
		if err != nil {
			t.Fatal(err)
		}
		key := fmt.Sprintf("%s %d", r.Mat, at.UnixMilli())
		if _, twice := got[key]; twice {
			t.Errorf("%s is there twice", key)
		}
		got[key] = [2]int{r.Many, r.Total}
	}
	return got
}

// closed are the windows that are closed when all is read: the last of each mat are open still.
func (w *world) closed() map[string][2]int {
	out := map[string][2]int{}
	for key, x := range w.want {
		var mat string
		var opens int64
		if _, err := fmt.Sscan(key, &mat, &opens); err == nil && opens+10_000 <= base+int64(last-1)*20-1000 {
			out[key] = x
		}
	}
	return out
}

// TestSeam: a job that counts over a history and what goes on behind it is killed over and over, while the history is read, at the seam and behind it. Each row counts once, though files and the
// topic share rows on both sides of the seam, by its event time, and also where a row is known by its number.
func TestSeam(t *testing.T) {
	for name, x := range map[string]struct{ at, unique string }{
		"by event time": {" AT TIMESTAMP '" + time.UnixMilli(base+seam*20).UTC().Format("2006-01-02T15:04:05.000Z") + "'", ""},
		"by number":     {"", " UNIQUE BY (n) WITHIN 1 HOUR"},
	} {
		for seed := range uint64(6) {
			t.Run(fmt.Sprint(name, " ", seed), func(t *testing.T) {
				t.Parallel()
				w := newWorld(t, seed)
				src := w.declared(x.at) + "CREATE JOB j WITH " + strings.Replace(counted, "FROM s", "FROM s"+x.unique, 1) + " ROUTE by_mat TO out;"
				j := kit.New(t, src, contract.Env{Topics: w.log})
				done := make(chan struct{})
				go func() {
					defer close(done)
					for at := 0; at < len(w.live); at += 50 {
						if err := w.in.Append(w.live[at:min(at+50, len(w.live))]); err != nil {
							t.Error(err)
						}
						time.Sleep(5 * time.Millisecond)
					}
				}()
				for i, over := 0, false; i < 6 || !over; i++ {
					j.Start(t)
					select {
					case <-done:
						over = true
						time.Sleep(time.Duration(w.r.IntN(60)) * time.Millisecond)
					case <-time.After(time.Duration(w.r.IntN(150)) * time.Millisecond):
					}
					if err := j.Kill(); err != nil {
						t.Fatal(err)
					}
				}
				j.Start(t)
				want := w.closed()
				j.Until(t, "all windows are closed", func() bool {
					st, ok := j.Status()
					return ok && len(st.Splits) >= 5 && len(kit.Values(t, w.log.Topic("out"))) >= len(want)
				})
				if err := j.Stop(); err != nil {
					t.Fatal(err)
				}
				got := w.took(t)
				for key, x := range want {
					if got[key] != x {
						t.Errorf("%s has %v, wanted %v", key, got[key], x)
					}
				}
			})
		}
	}
}

// TestParts: the whole of a stream in a query that ends, only what goes on where SINCE says so, and what cannot be a history.
func TestParts(t *testing.T) {
	w := newWorld(t, 1)
	if err := w.in.Append(w.live); err != nil {
		t.Fatal(err)
	}
	at := " AT TIMESTAMP '" + time.UnixMilli(base+seam*20).UTC().Format("2006-01-02T15:04:05.000Z") + "'"
	j := kit.New(t, w.declared(at)+"CREATE JOB j WITH every AS (SELECT n FROM s) ROUTE every TO out;", contract.Env{Topics: w.log})
	j.Start(t)
	j.Until(t, "all is there", func() bool { return len(kit.Values(t, w.log.Topic("out"))) >= last })
	st := j.Settled(t)
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	if got := kit.Values(t, w.log.Topic("out")); len(got) != last {
		t.Errorf("%d rows, wanted %d", len(got), last)
	} else if slices.Sort(got); len(slices.Compact(got)) != last {
		t.Error("some rows are there twice")
	}
	if c := st.Steps[0].Counts; c.In != int64(last+700) || c.Filtered != 700 || c.Passed != last {
		t.Errorf("%+v", c)
	}
	for src, want := range map[string]string{
		"DECLARE STREAM s (n BIGINT) FROM HISTORY FILES 'a' THEN FILES 'b';":                                     "ends, too: behind a history stands what goes on",
		"DECLARE STREAM s (n BIGINT) FROM HISTORY FILES 'a' THEN TOPIC 'b' AT TIMESTAMP '2026-05-17T09:00:00Z';": "without an event time no row is before or behind another",
		"DECLARE STREAM s (n BIGINT, t TIMESTAMP) EVENT TIME t FROM HISTORY FILES 'a' THEN TOPIC 'b' AT NOW;":    "AT is the event time at which TOPIC takes over",
		"DECLARE STREAM s (n BIGINT) FROM HISTORY FILES 'a';":                                                    "expected THEN",
		"DECLARE STREAM s (n BIGINT AS (_row)) FROM HISTORY FILES 'a' THEN GENERATOR 'g';":                       "rows that are made have no history",
		"DECLARE STREAM s (n BIGINT, k VARCHAR AS (_key)) FROM HISTORY FILES 'a' THEN TOPIC 'b';":                "FILES has no messages",
		"DECLARE STREAM s (n BIGINT) FROM HISTORY FILES 'a' (FORMATT csv) THEN TOPIC 'b';":                       "FORMATT",
		"DECLARE STREAM s (n BIGINT) FROM HISTORY LAKE 'a.b' THEN TOPIC 'b';":                                    "LAKE needs an endpoint",
	} {
		if _, _, err := plan.NewCatalog(connect.Places()).Bind("q", src+"SELECT n FROM s;", nil, nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s\nsays %v\nwanted %s", src, err, want)
		}
	}
}
