package generator_test

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

// run runs a query that ends and gives its rows, sorted, and what it counted.
func run(t testing.TB, src string, parallelism int) ([]string, flow.Status) {
	t.Helper()
	out, st, err := kit.Rows(t, src, contract.Env{}, parallelism)
	if err != nil {
		t.Fatal(err)
	}
	return out, st
}

const columns = `n BIGINT AS (_row), at TIMESTAMP AS (_time), u DOUBLE AS (RANDOM_UNIFORM(0, 10)), v DOUBLE AS (RANDOM_UNIFORM(0, 10)), g DOUBLE AS (RANDOM_NORMAL(20, 3)),
	e DOUBLE AS (RANDOM_EXPONENTIAL(5)), d BIGINT AS (RANDOM_INT(1, 6)), k BIGINT AS (RANDOM_SKEWED(1000)), c VARCHAR AS (RANDOM_CHOICE('a', 'b', 'c')),
	w VARCHAR AS (RANDOM_CHOICE('often', 9, 'seldom', 1)), x VARCHAR AS (RANDOM_TEXT('P##-?*')), who VARCHAR AS (RANDOM_NAME()), walk DOUBLE AS (RANDOM_WALK(_row, 1))`

func stream(options string) string {
	return "DECLARE STREAM made (" + columns + ") EVENT TIME at DELAY 1 MINUTE FROM GENERATOR 'made' (BEGINS '2026-05-17T06:00:00Z', ROWS PER SECOND 100, " + options + ");"
}

type made struct {
	N, D, K      int64
	At           time.Time
	U, V, G, E   float64
	C, W, X, Who string
	Walk         float64
}

func read(t *testing.T, rows []string) (out []made) {
	t.Helper()
	for _, r := range rows {
		var m made
		if err := json.Unmarshal([]byte(r), &m); err != nil {
			t.Fatalf("%s: %v", r, err)
		}
		out = append(out, m)
	}
	slices.SortFunc(out, func(a, b made) int { return int(a.N - b.N) })
	return out
}

// TestSameSeed: the same seed makes the same rows, in any number of splits and workers, and another seed others.
func TestSameSeed(t *testing.T) {
	const all = "SELECT * FROM made UNTIL NOW;"
	want, _ := run(t, stream("ROWS 5000, SEED 3, DISORDER 5 SECONDS")+all, 1)
	if len(want) != 5000 {
		t.Fatalf("%d rows", len(want))
	}
	for _, splits := range []int{1, 2, 7} {
		got, _ := run(t, stream(fmt.Sprintf("ROWS 5000, SEED 3, DISORDER 5 SECONDS, SPLITS %d", splits))+all, 3)
		if !slices.Equal(got, want) {
			t.Errorf("other rows from %d splits", splits)
		}
	}
	if other, _ := run(t, stream("ROWS 5000, SEED 4, DISORDER 5 SECONDS")+all, 1); slices.Equal(other, want) {
		t.Error("another seed makes the same rows")
	}
}

// TestChance holds what is drawn against the distributions, and the times against what was asked for.
func TestChance(t *testing.T) {
	const n = 20_000
	lines, st := run(t, stream(fmt.Sprintf("ROWS %d, DISORDER 5 SECONDS, LATE 0.1, BAD 0.05", n))+"SELECT * FROM made UNTIL NOW;", 2)
	bad := st.Steps[0].Counts.Rejected
	if math.Abs(float64(bad)-0.05*n) > 200 || int64(len(lines))+bad != n {
		t.Errorf("%d rows are bad, %d are there", bad, len(lines))
	}
	rows := read(t, lines)
	count := float64(len(rows))
	mean := func(what string, want, off float64, of func(m made) float64) {
		sum := 0.0
		for _, m := range rows {
			sum += of(m)
		}
		if got := sum / count; math.Abs(got-want) > off {
			t.Errorf("%s is %.3f on average, wanted %.3f", what, got, want)
		}
	}
	is := func(b bool) float64 {
		if b {
			return 1
		}
		return 0
	}
	mean("uniform", 5, 0.1, func(m made) float64 { return m.U })
	mean("uniform squared", 100.0/3, 1, func(m made) float64 { return m.U * m.U })
	mean("two draws of a row together", 25, 0.7, func(m made) float64 { return m.U * m.V })
	mean("normal", 20, 0.1, func(m made) float64 { return m.G })
	mean("normal's variance", 9, 0.4, func(m made) float64 { return (m.G - 20) * (m.G - 20) })
	mean("exponential", 5, 0.15, func(m made) float64 { return m.E })
	mean("exponential above its mean", math.Exp(-1), 0.02, func(m made) float64 { return is(m.E > 5) })
	for d := range int64(6) {
		mean(fmt.Sprint("the die shows ", d+1), 1.0/6, 0.015, func(m made) float64 { return is(m.D == d+1) })
	}
	mean("the first of 1000 skewed", math.Log(2)/math.Log(1001), 0.015, func(m made) float64 { return is(m.K == 1) })
	mean("below 32 of 1000 skewed", math.Log(32)/math.Log(1001), 0.015, func(m made) float64 { return is(m.K < 32) })
	mean("a of a, b, c", 1.0/3, 0.015, func(m made) float64 { return is(m.C == "a") })
	mean("often", 0.9, 0.01, func(m made) float64 { return is(m.W == "often") })
	begins := time.Date(2026, 5, 17, 6, 0, 0, 0, time.UTC)
	late := 0
	for _, m := range rows {
		turn := begins.Add(time.Duration(m.N) * 10 * time.Millisecond)
		behind := turn.Sub(m.At)
		switch {
		case behind >= 65*time.Second && behind <= 135*time.Second:
			late++
		case behind < 0 || behind > 5*time.Second:
			t.Fatalf("row %d is %s behind its turn", m.N, behind)
		}
		if m.K < 1 || m.K > 1000 || m.D < 1 || m.D > 6 || len(m.X) != 6 || m.X[0] != 'P' || len(m.Who) != 6 {
			t.Fatalf("%+v", m)
		}
	}
	if share := float64(late) / count; math.Abs(share-0.1) > 0.01 {
		t.Errorf("%.3f of the rows are late", share)
	}
	// A walk of n steps goes about as far as the root of n.
	far := 0.0
	for i, m := range rows[1:] {
		if step := math.Abs(m.Walk-rows[i].Walk) / float64(m.N-rows[i].N); step > 8 {
			t.Fatalf("the walk makes a step of %.1f", step)
		}
		far = max(far, math.Abs(m.Walk))
	}
	if far < 20 || far > 3000 {
		t.Errorf("the walk went %.1f far", far)
	}
}

// TestGoesOn: a job that is killed over and over goes on at the row where it was, with the same rows.
func TestGoesOn(t *testing.T) {
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	topic, err := log.Create("out", topiclog.Settings{Partitions: 2})
	if err != nil {
		t.Fatal(err)
	}
	src := "DECLARE STREAM made (n BIGINT AS (_row), x VARCHAR AS (RANDOM_TEXT('####')), at TIMESTAMP AS (_time)) EVENT TIME at DELAY 1 SECOND FROM GENERATOR 'made' (ROWS PER SECOND 20000, SPLITS 3);" +
		"DECLARE SINK out TO TOPIC 'out'; CREATE JOB j AS SELECT n, x FROM made ROUTE TO out;"
	job := kit.New(t, src, contract.Env{Topics: log})
	for range 8 {
		job.Start(t)
		time.Sleep(120 * time.Millisecond)
		if err := job.Kill(); err != nil {
			t.Fatal(err)
		}
	}
	job.Start(t)
	job.Until(t, "10,000 rows are made", func() bool {
		st, ok := job.Status()
		sum := int64(0)
		for _, s := range st.Splits {
			sum += s.Next
		}
		return ok && sum > 10_000
	})
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	texts := map[int64]string{}
	for _, p := range topic.Partitions() {
		for at := p.First(); ; {
			b, next, err := p.Read(at, nil, 1<<20)
			if err != nil {
				t.Fatal(err)
			}
			if next == at {
				break
			}
			if err := topiclog.Views(b, at, func(v topiclog.View) {
				var m struct {
					N int64
					X string
				}
				if err := json.Unmarshal(b[v.From:v.To], &m); err != nil {
					t.Error(err)
				}
				if _, ok := texts[m.N]; ok {
					t.Errorf("row %d is there twice", m.N)
				}
				texts[m.N] = m.X
			}); err != nil {
				t.Fatal(err)
			}
			at = next
		}
	}
	again, _ := run(t, fmt.Sprintf("DECLARE STREAM made (n BIGINT AS (_row), x VARCHAR AS (RANDOM_TEXT('####'))) FROM GENERATOR 'made' (ROWS %d); SELECT n, x FROM made;", len(texts)+1000), 2)
	for _, r := range again {
		var m struct {
			N int64
			X string
		}
		if err := json.Unmarshal([]byte(r), &m); err != nil {
			t.Fatal(err)
		}
		if x, ok := texts[m.N]; ok && x != m.X {
			t.Errorf("row %d was %s and is %s", m.N, x, m.X)
		}
	}
}

// TestWrongWords: what cannot be made is said where it is declared.
func TestWrongWords(t *testing.T) {
	for src, says := range map[string]string{
		"DECLARE STREAM g (n BIGINT) FROM GENERATOR 'g';":                                      "does not say how it is made",
		"DECLARE STREAM g (n BIGINT AS (_row)) FROM GENERATOR 'g' (LATE 2);":                   "a share from 0 to 1",
		"DECLARE STREAM g (n BIGINT AS (_row)) FROM GENERATOR 'g' (ROWS PER SECOND 0);":        "from 1 up",
		"DECLARE STREAM g (n DOUBLE AS (RANDOM_NORMAL('a', 2))) FROM GENERATOR 'g';":           "random_normal",
		"DECLARE STREAM g (n VARCHAR AS (RANDOM_CHOICE('a', -1, 'b', 2))) FROM GENERATOR 'g';": "a weight is below 0",
		"DECLARE STREAM g (n BIGINT AS (_row)) FROM GENERATOR 'g' (SEDE 3);":                   "did you mean \"SEED\"",
		"DECLARE TABLE g (n BIGINT PRIMARY KEY AS (_row)) FROM GENERATOR 'g';":                 "",
	} {
		_, _, err := plan.NewCatalog(connect.Places()).Bind("q", src, nil, nil)
		if err == nil || !strings.Contains(strings.ToLower(err.Error()), strings.ToLower(says)) {
			t.Errorf("%s: %v", src, err)
		}
	}
}

func BenchmarkMade(b *testing.B) {
	run(b, fmt.Sprintf("DECLARE STREAM g (chip VARCHAR AS ('P' || CAST(RANDOM_SKEWED(1000) AS VARCHAR)), rssi DOUBLE AS (RANDOM_NORMAL(-60, 8)), at TIMESTAMP AS (_time)) EVENT TIME at DELAY 5 SECONDS FROM GENERATOR 'g' (ROWS %d);"+
		"SELECT chip, COUNT(*) AS n, SUM(rssi) AS s FROM g GROUP BY chip, w WINDOW w AS (TUMBLING 1 DAY);", b.N*1000), 1)
	b.ReportMetric(float64(b.N)*1000/b.Elapsed().Seconds(), "rows/s")
}
