package lake_test

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/lake"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"

	"github.com/apache/iceberg-go/table"
)

// run runs a query to its end and gives its rows as JSON.
func run(src string, env contract.Env) ([]string, error) {
	plans, _, err := plan.NewCatalog(connect.Places()).Bind("q", src, nil, nil)
	if err != nil {
		return nil, err
	}
	got := &rows.Capture{}
	j, err := flow.New(plans[0], &connect.Opener{Env: env, Rows: got}, flow.Options{Parallelism: 2, Describe: text.Describe})
	if err == nil {
		err = j.Run(context.Background())
	}
	if err != nil {
		return nil, err
	}
	return got.Rows()
}

// rowsOf is run for a query that does not fail; the rows are sorted.
func rowsOf(t testing.TB, src string, env contract.Env) []string {
	t.Helper()
	out, err := run(src, env)
	if err != nil {
		t.Fatal(err)
	}
	slices.Sort(out)
	return out
}

// opened loads a table of a catalogue in a directory; nil: there is none.
func opened(t testing.TB, dir string, name ...string) *table.Table {
	t.Helper()
	cat, done, err := lake.Directory(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(done)
	tab, err := cat.LoadTable(t.Context(), name)
	if err != nil {
		return nil
	}
	return tab
}

func newest(t testing.TB, dir string, name ...string) string {
	if tab := opened(t, dir, name...); tab != nil && tab.CurrentSnapshot() != nil {
		return strconv.FormatInt(tab.CurrentSnapshot().SnapshotID, 10)
	}
	return ""
}

func snapshots(t testing.TB, dir string, name ...string) (operations map[table.Operation]int) {
	operations = map[table.Operation]int{}
	for _, s := range opened(t, dir, name...).Metadata().Snapshots() {
		operations[s.Summary.Operation]++
	}
	return operations
}

// TestUpserts: rows that come, are replaced and are taken away go to an open table with a key, which is partitioned, put together and written by two jobs at once,
// all of which are killed over and over. It holds what a computation of its own says, old snapshots read as they did, and a table of rows that are added
// has each once, also as a stream.
func TestUpserts(t *testing.T) {
	dir := t.TempDir()
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	in, err := log.Create("in", topiclog.Settings{Partitions: 2})
	if err != nil {
		t.Fatal(err)
	}
	pond := "DECLARE ENDPOINT pond LAKE '" + dir + "';\n"
	env := contract.Env{Topics: log}
	job := func(mine, added string) *kit.Job {
		return kit.New(t, pond+`DECLARE STREAM s (chip VARCHAR, n BIGINT, price DECIMAL(10, 2), at TIMESTAMP) EVENT TIME at DELAY 1 HOUR FROM TOPIC 'in';
		DECLARE SINK kept TO LAKE 'race.kept' VIA pond (KEY (chip), BUCKET BY (chip), BUCKETS 3, COMPACT EVERY 700 MILLISECONDS, KEEP 1 DAY);
		DECLARE SINK added TO LAKE 'race.`+added+`' VIA pond (PARTITION BY (chip, at), EACH hour, SORT BY (n));
		CREATE JOB j WITH c AS (SELECT chip, COUNT(*) AS many, SUM(price) AS total, MAX(at) AS last FROM s WHERE `+mine+` GROUP BY chip FORGET AFTER 365 DAYS),
			every AS (SELECT chip, n, price, at FROM s), odd AS (SELECT chip, many, total, last FROM c WHERE many % 3 <> 0)
		ROUTE odd TO kept
		ROUTE every TO added;`, env)
	}
	jobs := []*kit.Job{job("chip < 'P20'", "added"), job("chip >= 'P20'", "added_too")}
	for _, j := range jobs {
		j.Every = 150 * time.Millisecond
	}
	type sum struct {
		many       int
		hundredths int64
		last       string
	}
	r := rand.New(rand.NewPCG(seed(t), 4))
	want, begin := map[string]*sum{}, time.Date(2026, 5, 17, 9, 0, 0, 0, time.UTC)
	const total = 6000
	var looked atomic.Int64 // old snapshots
	done := make(chan struct{})
	defer func() { <-done }()
	go func() {
		defer close(done)
		for n, began := 0, time.Now(); (n < total || looked.Load() < 2 && time.Since(began) < kit.Patience) && !t.Failed(); { // on a slow machine the first lives end before they have written
			var recs []topiclog.Record
			some := 1 + r.IntN(80)
			if n >= total {
				some = 1
			}
			for range some {
				chip, price := fmt.Sprintf("P%02d", r.IntN(40)), r.Int64N(100_000)
				at := begin.Add(time.Duration(n) * time.Second).Format("2006-01-02T15:04:05.000Z")
				x := want[chip]
				if x == nil {
					x = &sum{}
					want[chip] = x
				}
				x.many, x.hundredths, x.last = x.many+1, x.hundredths+price, max(x.last, at)
				recs = append(recs, topiclog.Record{Key: []byte(chip), Value: fmt.Appendf(nil, `{"chip":"%s","n":%d,"price":%d.%02d,"at":"%s"}`, chip, n, price/100, price%100, at)})
				n++
			}
			if err := in.Append(recs); err != nil {
				t.Error(err)
			}
			time.Sleep(20 * time.Millisecond)
		}
	}()
	read := func(more string) []string {
		return rowsOf(t, pond+`DECLARE TABLE k (chip VARCHAR PRIMARY KEY, many BIGINT, total DECIMAL(18, 2), last TIMESTAMP) FROM LAKE 'race.kept' VIA pond`+more+`;
			DECLARE STREAM one (chip VARCHAR) FROM TOPIC 'chips'; SELECT k.chip, k.many, k.total, k.last FROM one SINCE BEGINNING JOIN k ON k.chip = one.chip UNTIL NOW;`, env)
	}
	chips, err := log.Create("chips", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	for i := range 40 {
		if err := chips.Append([]topiclog.Record{{Value: fmt.Appendf(nil, `{"chip":"P%02d"}`, i)}}); err != nil {
			t.Fatal(err)
		}
	}
	old := map[string][]string{}
	chance := rand.New(rand.NewPCG(seed(t), 6))
	for life, over := 0, false; life < 12 || !over; life++ {
		for _, j := range jobs {
			j.Start(t)
		}
		select {
		case <-done:
			over = true
		case <-time.After(time.Duration((100+chance.IntN(700))*(1+life/6)) * time.Millisecond):
		}
		for _, j := range jobs {
			if err := j.Kill(); err != nil {
				t.Fatal(err)
			}
		}
		if id := newest(t, dir, "race", "kept"); id != "" && old[id] == nil {
			old[id] = read(" (SNAPSHOT '" + id + "')")
			looked.Add(1)
		}
	}
	for _, j := range jobs {
		j.Start(t)
		j.Until(t, "all is read", func() bool {
			st, ok := j.Status()
			return ok && len(st.Splits) == 2 && st.Splits[0].Next == in.Partitions()[0].Next() && st.Splits[1].Next == in.Partitions()[1].Next()
		})
		j.Until(t, "all is written", func() bool { // a job that is stopped does not wait for long, and leaves the rest to its next life
			st, ok := j.Status()
			return ok && !slices.ContainsFunc(st.Steps, func(s flow.Step) bool { return s.Spooled > 0 })
		})
		if err := j.Stop(); err != nil {
			t.Fatal(err)
		}
	}
	var rows []string
	n := 0
	for chip, x := range want {
		n += x.many
		if x.many%3 != 0 {
			rows = append(rows, fmt.Sprintf(`{"chip":"%s","many":%d,"total":%d.%02d,"last":"%s"}`, chip, x.many, x.hundredths/100, x.hundredths%100, x.last))
		}
	}
	slices.Sort(rows)
	if got := read(""); !slices.Equal(got, rows) {
		t.Errorf("the table holds\n%s\nwanted\n%s", strings.Join(got, "\n"), strings.Join(rows, "\n"))
	}
	if len(old) < 2 {
		t.Errorf("%d old snapshots were looked at", len(old))
	}
	for id, was := range old {
		if got := read(" (SNAPSHOT '" + id + "')"); !slices.Equal(got, was) {
			t.Errorf("the snapshot %s held\n%s\nand holds\n%s", id, strings.Join(was, "\n"), strings.Join(got, "\n"))
		}
	}
	for _, name := range []string{"added", "added_too"} {
		got := rowsOf(t, pond+`DECLARE STREAM k (n BIGINT) FROM LAKE 'race.`+name+`' VIA pond; SELECT n FROM k SINCE BEGINNING UNTIL NOW;`, env)
		var all []string
		for i := range n {
			all = append(all, fmt.Sprintf(`{"n":%d}`, i))
		}
		slices.Sort(all)
		if !slices.Equal(got, all) {
			t.Errorf("%s: %d rows, wanted %d", name, len(got), len(all))
		}
	}
	if did := snapshots(t, dir, "race", "kept"); did[table.OpReplace] == 0 || did[table.OpOverwrite] == 0 {
		t.Errorf("the snapshots: %v", did)
	}
}

// seed gives the number that chance begins with: SEED, or one.
func seed(t testing.TB) uint64 {
	n, err := strconv.ParseUint(cmp.Or(os.Getenv("SEED"), "1"), 10, 64)
	if err != nil {
		t.Fatal(err)
	}
	return n
}
