package connect_test

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
)

// texts makes a topic of messages with a text t and a number n.
func texts(t *testing.T, messages ...string) *topiclog.Log {
	t.Helper()
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = log.Close() })
	topic, err := log.Create("texts", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	var recs []topiclog.Record
	for _, m := range messages {
		recs = append(recs, topiclog.Record{Value: []byte(m)})
	}
	if err := topic.Append(recs); err != nil {
		t.Fatal(err)
	}
	return log
}

// ask runs a query over what the topic holds and gives its rows. The greatest memory that it takes is given in MB.
func ask(t *testing.T, ctx context.Context, log *topiclog.Log, query string, opts flow.Options) (out []string, status flow.Status, mb uint64, err error) {
	t.Helper()
	src := "DECLARE STREAM texts (t VARCHAR, u VARCHAR, n BIGINT) FROM TOPIC 'texts'; " + query + ";"
	plans, _, err := plan.NewCatalog(connect.Places()).Bind("q.sql", src, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, scan := range plans[0].Scans() {
		scan.Since, scan.Until = plan.Bound{Kind: plan.Beginning}, plan.Bound{Kind: plan.Now}
	}
	o := &connect.Opener{Env: contract.Env{Topics: log, Live: true}, Rows: &rows.Sink{Format: "json", Limit: -1, Each: func(row []byte) error {
		if len(out) < 10_000 {
			out = append(out, string(row[:min(len(row), 200)]))
		}
		return nil
	}}}
	opts.Describe = text.Describe
	job, err := flow.New(plans[0], o, opts)
	if err != nil {
		t.Fatal(err)
	}
	runtime.GC()
	var before runtime.MemStats
	runtime.ReadMemStats(&before)
	most, stop, watched := before.HeapAlloc, make(chan struct{}), make(chan struct{})
	go func() {
		defer close(watched)
		for {
			select {
			case <-stop:
				return
			case <-time.After(5 * time.Millisecond):
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				most = max(most, m.HeapAlloc)
			}
		}
	}()
	err = job.Run(ctx)
	close(stop)
	<-watched
	return out, job.Status(), (most - before.HeapAlloc) >> 20, err
}

// TestValuesAreBounded: a row whose functions make too much is rejected, the rows beside it are not, and the memory that
// all of them take stays bounded.
func TestValuesAreBounded(t *testing.T) {
	long := strings.Repeat("a", 100_000)
	log := texts(t, `{"t":"ab","u":"","n":9223372036854775807}`, fmt.Sprintf(`{"t":%q,"u":%q,"n":2}`, long, long), `{"t":"ab","u":"x","n":3}`)
	for query, want := range map[string]string{
		`SELECT CHAR_LENGTH(REPEAT(u, n)) AS c FROM texts`:                                `{"c":0}{"c":200000}{"c":3}`,
		`SELECT CHAR_LENGTH(REPLACE(t, 'a', u)) AS c FROM texts`:                          `{"c":1}{"c":2}`,
		`SELECT CHAR_LENGTH(TRANSLATE_REGEX('a', t, u)) AS c FROM texts`:                  `{"c":1}{"c":2}`,
		`SELECT n FROM texts WHERE CHAR_LENGTH(REPLACE(t, 'a', u)) < 5`:                   `{"n":9223372036854775807}{"n":3}`,
		`SELECT CARDINALITY(SPLIT(REPEAT(t, 150), '')) AS c FROM texts WHERE n < 9`:       `{"c":300}`,
		`SELECT CHAR_LENGTH(t || t || REPEAT(t, 10) || REPEAT(t, 9)) AS c FROM texts`:     `{"c":42}{"c":2100000}{"c":42}`,
		`SELECT OCTET_LENGTH(REPEAT(REPEAT(t, 10), 10) || REPEAT(t, 10)) AS c FROM texts`: `{"c":220}{"c":11000000}{"c":220}`,
	} {
		got, status, _, err := ask(t, t.Context(), log, query, flow.Options{Parallelism: 1})
		if err != nil || strings.Join(got, "") != want {
			t.Errorf("%s:\n%s, wanted\n%s (%v)", query, strings.Join(got, ""), want, err)
		}
		rejected := int64(0)
		for _, s := range status.Steps {
			rejected += s.Counts.Rejected
		}
		if int(rejected) != 3-len(got) && !strings.Contains(query, "WHERE n") {
			t.Errorf("%s: %d rows and %d rejected", query, len(got), rejected)
		}
	}
}

// TestBatchesAreCut: rows that are small by themselves, but make gigabytes together, all come, in bounded memory, and
// whether a row is rejected does not depend on those beside it.
func TestBatchesAreCut(t *testing.T) {
	var messages []string
	for i := range 500 {
		messages = append(messages, fmt.Sprintf(`{"t":"x","u":"a,b","n":%d}`, i))
	}
	log := texts(t, messages...)
	for query, want := range map[string]int{
		`SELECT n, REPEAT(t, 1000000) AS r FROM texts`:                                               500,
		`SELECT n FROM texts WHERE CHAR_LENGTH(REPEAT(t, 1000000)) > 5`:                              500,
		`SELECT n, CARDINALITY(SPLIT(REPEAT(u, 50000), ',')) AS r FROM texts WHERE n < 40`:           40,
		`SELECT n, e FROM texts CROSS JOIN UNNEST(SPLIT(REPEAT(u, 200), ',')) AS x (e) WHERE n < 40`: 40 * 201,
	} {
		got, _, mb, err := ask(t, t.Context(), log, query, flow.Options{Parallelism: 2})
		if err != nil || len(got) != want {
			t.Errorf("%s: %d rows, wanted %d (%v)", query, len(got), want, err)
		}
		t.Logf("%d MB: %s", mb, query)
		if mb > 400 {
			t.Errorf("%s took %d MB", query, mb)
		}
	}
}

// TestEndlessRow: one row that would become a million million ends with the run, and takes no memory meanwhile.
func TestEndlessRow(t *testing.T) {
	log := texts(t, `{"t":"x,","u":"y,","n":1}`)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	began := time.Now()
	_, _, mb, err := ask(t, ctx, log, `SELECT n FROM texts CROSS JOIN UNNEST(SPLIT(REPEAT(t, 500000), ',')) AS x (a) CROSS JOIN UNNEST(SPLIT(REPEAT(u, 500000), ',')) AS y (b)`, flow.Options{Parallelism: 1})
	if err == nil || time.Since(began) > time.Minute {
		t.Errorf("it ended after %s: %v", time.Since(began), err)
	}
	if mb > 400 {
		t.Errorf("it took %d MB", mb)
	}
}

// TestGroupsAreBounded: what a group keeps is bounded, and its result rejected where there is more; a run without a place
// on disk ends with a message where all groups together take more than it may.
func TestGroupsAreBounded(t *testing.T) {
	var messages []string
	long := strings.Repeat("a", 10_000)
	for i := range 4000 {
		messages = append(messages, fmt.Sprintf(`{"t":%q,"u":"%d","n":%d}`, long, i, i/3990))
	}
	log := texts(t, messages...)
	got, _, _, err := ask(t, t.Context(), log, `SELECT n, CHAR_LENGTH(LISTAGG(t)) AS l, COUNT(*) AS c FROM texts GROUP BY n FORGET AFTER 1 HOUR`, flow.Options{Parallelism: 1})
	if len(got) != 1 || got[0] != `{"_change":"insert","n":1,"l":100000,"c":10}` || err != nil {
		t.Errorf("%v (%v)", got, err)
	}
	var tooMuch *flow.ErrMemory
	if _, _, _, err = ask(t, t.Context(), log, `SELECT t || u AS k, COUNT(*) AS c FROM texts GROUP BY t || u FORGET AFTER 1 HOUR`, flow.Options{Parallelism: 1, Memory: 16 << 20}); !errors.As(err, &tooMuch) {
		t.Errorf("a query that holds more than it may: %v", err)
	}
}
