package broker_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"fiume/internal/connect/contract"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

// TestHeaders: columns become headers and are left out of values, in topics, in external brokers, and where rows are held back in a spool until their checkpoint
// counts; streams over either see them again, with keys and places, through a crash.
func TestHeaders(t *testing.T) {
	c, _ := brokers(t, 2, "out")
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	for _, n := range []string{"in", "mid", "held", "last"} {
		if _, err := log.Create(n, topiclog.Settings{Partitions: 1}); err != nil {
			t.Fatal(err)
		}
	}
	env := contract.Env{Topics: log}
	const seen = "(n BIGINT, k VARCHAR AS (_key), a VARCHAR AS (_headers['a']), b VARCHAR AS (_headers['b']), many BIGINT AS (CARDINALITY(_headers)), t VARCHAR AS (_topic))"
	first := kit.New(t, `DECLARE STREAM s (n BIGINT, a VARCHAR, b DOUBLE) FROM TOPIC 'in';
		DECLARE SINK mid TO TOPIC 'mid' (KEY (n), HEADERS (a, b));
		CREATE JOB j AS SELECT n, a, b FROM s ROUTE TO mid;`, env)
	held := kit.New(t, `DECLARE STREAM s (n BIGINT, a VARCHAR, b DOUBLE) FROM TOPIC 'in';
		DECLARE SINK held TO TOPIC 'held' (KEY (n), HEADERS (a, b));
		CREATE JOB h AS SELECT n, a, b, CURRENT_TIMESTAMP AS now FROM s ROUTE TO held;`, env)
	second := kit.New(t, endpoint(c)+"DECLARE STREAM s "+seen+" FROM TOPIC 'mid'; DECLARE SINK out TO BROKER 'out' VIA b (KEY (k), HEADERS (a, b)); CREATE JOB k AS SELECT n, k, a, b FROM s ROUTE TO out;", env)
	third := kit.New(t, endpoint(c)+"DECLARE STREAM s "+seen+" FROM BROKER 'out' VIA b; DECLARE SINK last TO TOPIC 'last'; CREATE JOB l AS SELECT n, k, a, b, t FROM s ROUTE TO last;", env)
	fourth := kit.New(t, "DECLARE STREAM s "+seen+" FROM TOPIC 'held'; DECLARE SINK last TO TOPIC 'last'; CREATE JOB m AS SELECT n, k, a, b, t FROM s ROUTE TO last;", env)
	jobs := []*kit.Job{first, held, second, third, fourth}
	for _, j := range jobs {
		j.Start(t)
	}
	var want []string
	for n := range 200 {
		row, b := fmt.Sprintf(`{"n":%d,"a":"größe %d","b":%d.5}`, n, n, n), fmt.Sprintf(`"%d.5"`, n)
		if n%3 == 0 {
			row, b = fmt.Sprintf(`{"n":%d,"a":"größe %d"}`, n, n), "null"
		}
		if err := log.Topic("in").Append([]topiclog.Record{{Value: []byte(row)}}); err != nil {
			t.Fatal(err)
		}
		for _, from := range []string{"out", "held"} {
			want = append(want, fmt.Sprintf(`{"n":%d,"k":"%d","a":"größe %d","b":%s,"t":"%s"}`, n, n, n, b, from))
		}
		if n == 100 {
			for _, j := range []*kit.Job{second, held} {
				if err := j.Kill(); err != nil {
					t.Fatal(err)
				}
				j.Start(t)
			}
		}
	}
	slices.Sort(want)
	fourth.Until(t, "all rows are there", func() bool { return len(kit.Values(t, log.Topic("last"))) >= len(want) })
	if got := kit.Values(t, log.Topic("last")); !slices.Equal(got, want) {
		t.Errorf("%d rows of %d: %s", len(got), len(want), difference(got, want))
	}
	for _, v := range kit.Values(t, log.Topic("mid")) {
		if strings.Contains(v, "größe") || !strings.HasPrefix(v, `{"n":`) {
			t.Errorf("the value %s has what its headers have", v)
		}
	}
	for _, j := range jobs {
		if err := j.Stop(); err != nil {
			t.Error(err)
		}
	}
}
