package topics_test

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

// TestGrows: topics that a job reads and writes get partitions while it runs and is killed. Each row is there once, in windows, too, and a batch that comes again under
// its name is known, whatever the number of partitions was; all is so after the log was opened anew.
func TestGrows(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "topics")
	log, err := topiclog.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	for name, n := range map[string]int{"in": 1, "odd": 2, "counts": 1} {
		if _, err := log.Create(name, topiclog.Settings{Partitions: n}); err != nil {
			t.Fatal(err)
		}
	}
	const base = int64(1_779_000_000_000)
	src := `DECLARE STREAM s (n BIGINT, at BIGINT, t TIMESTAMP AS (FROM_UNIX_MILLIS(at))) EVENT TIME t DELAY 1 MINUTE FROM TOPIC 'in';
		DECLARE SINK odd TO TOPIC 'odd' (KEY (n)); DECLARE SINK counts TO TOPIC 'counts';
		CREATE JOB j WITH o AS (SELECT n FROM s WHERE n % 2 = 1), c AS (SELECT w.opens AS opens, COUNT(*) AS k FROM s GROUP BY w WINDOW w AS (TUMBLING 10 SECONDS)) ROUTE o TO odd ROUTE c TO counts;`
	job := kit.New(t, src, contract.Env{Topics: log})
	r := rand.New(rand.NewPCG(1, 9))
	n, batch := 0, 0
	type sent struct {
		name string
		recs []topiclog.Record
	}
	var all []sent
	write := func(many int) {
		var recs []topiclog.Record
		for range many {
			var key []byte
			if n%3 > 0 {
				key = fmt.Append(nil, n%17)
			}
			recs = append(recs, topiclog.Record{Key: key, Value: fmt.Appendf(nil, `{"n":%d,"at":%d}`, n, base+int64(n)*20)})
			n++
		}
		batch++
		x := sent{fmt.Sprint("batch ", batch), recs}
		all = append(all, x)
		if again, err := log.Topic("in").AppendOnce(x.name, recs); err != nil || again {
			t.Fatal(again, err)
		}
	}
	repeat := func() {
		x := all[r.IntN(len(all))]
		if again, err := log.Topic("in").AppendOnce(x.name, x.recs); err != nil || !again {
			t.Errorf("%s is written again: %v", x.name, err)
		}
	}
	parts := 1
	job.Start(t)
	for step := range 40 {
		write(100)
		repeat()
		if step%10 == 5 {
			parts += 1 + r.IntN(3)
			if changed, err := log.Grow("in", parts); err != nil || !changed {
				t.Fatal(changed, err)
			}
			if _, err := log.Grow("odd", parts+1); err != nil {
				t.Fatal(err)
			}
			if step%20 == 5 { // it is read before anything else happens, or not
				job.Until(t, "the partitions are read", func() bool { st, ok := job.Status(); return ok && len(st.Splits) == parts })
			}
		}
		time.Sleep(time.Duration(r.IntN(30)) * time.Millisecond)
		if r.IntN(4) == 0 {
			if err := job.Kill(); err != nil {
				t.Fatal(err)
			}
			if r.IntN(3) == 0 {
				if err := log.Close(); err != nil {
					t.Fatal(err)
				}
				if log, err = topiclog.Open(dir); err != nil {
					t.Fatal(err)
				}
				job.Env.Topics = log
			}
			job.Start(t)
		}
	}
	defer func() { log.Close() }()
	job.Until(t, "all is read", func() bool {
		st, ok := job.Status()
		sum := int64(0)
		for _, s := range st.Splits {
			sum += s.Next
		}
		return ok && sum >= int64(n)
	})
	st := job.Settled(t)
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	late := int64(0)
	for _, s := range st.Steps {
		late += s.Counts.Late
	}
	if late > 0 {
		t.Errorf("%d rows are late", late)
	}
	if got := kit.Values(t, log.Topic("in")); len(got) != n {
		t.Errorf("%d messages, wanted %d", len(got), n)
	}
	var want []string
	for i := range n {
		if i%2 == 1 {
			want = append(want, fmt.Sprintf(`{"n":%d}`, i))
		}
	}
	slices.Sort(want)
	if got := kit.Values(t, log.Topic("odd")); !slices.Equal(got, want) {
		t.Errorf("%d odd rows, wanted %d", len(got), len(want))
	}
	counts := kit.Values(t, log.Topic("counts"))
	for i, c := range counts {
		if i > 0 && c == counts[i-1] || !strings.HasSuffix(c, `"k":500}`) {
			t.Errorf("a window: %s", c)
		}
	}
	if full := n*20/10_000 - 7; len(counts) < full-1 {
		t.Errorf("%d windows, wanted about %d", len(counts), full)
	}
	for what, x := range map[string]struct {
		topic string
		n     int
	}{"fewer": {"in", 1}, "too many": {"in", 1001}, "none": {"nowhere", 2}} {
		if _, err := log.Grow(x.topic, x.n); err == nil {
			t.Errorf("%s partitions are taken", what)
		}
	}
}
