package flow

import (
	"fiume/internal/core/plan"
	"fmt"
	"strings"
	"testing"
	"time"
)

// BenchmarkOverlap aggregates a million rows of twelve keys, ten thousand a step, in windows that overlap more
// and more: a row costs the same.
func BenchmarkOverlap(b *testing.B) {
	for _, overlap := range []int{1, 30, 120} {
		b.Run(fmt.Sprint(overlap), func(b *testing.B) {
			p := planOf(b, fmt.Sprintf("SELECT n %% 12 AS k, w.opens AS o, COUNT(*) AS c, AVG(n) AS a FROM s GROUP BY n %% 12, w WINDOW w AS (SLIDING %d SECONDS EVERY 10000 SECONDS)", overlap*10_000))
			perRow(b, p, 1_000_000)
		})
	}
}

// BenchmarkManyKeys gives each row a session, and a group, of its own: a row costs the same however many there are.
func BenchmarkManyKeys(b *testing.B) {
	for name, group := range map[string]string{"sessions": "w WINDOW w AS (SESSION GAP 1000 SECONDS)", "groups": "FORGET AFTER 1 DAY"} {
		for _, rows := range []int{10_000, 100_000, 1_000_000} {
			b.Run(fmt.Sprint(name, " ", rows), func(b *testing.B) {
				group, ok := strings.CutPrefix(group, "w ")
				more := ""
				if ok {
					more = ", w "
				}
				perRow(b, planOf(b, "SELECT n, COUNT(*) AS c FROM s GROUP BY n"+more+" "+group), rows)
			})
		}
	}
}

// perRow runs a plan over so many generated rows and says what one costs.
func perRow(b *testing.B, p *plan.Plan, rows int) {
	for b.Loop() {
		sp := &memorySplit{name: "a", n: int64(rows), piece: 4096, fail: -1}
		j, err := New(p, opener{&memory{splits: []Split{sp}}, &nowhere{}}, Options{Parallelism: 1, Describe: describe, Now: func() time.Time { return time.Unix(1<<33, 0) }})
		if err != nil {
			b.Fatal(err)
		}
		if err := j.Run(b.Context()); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*rows), "ns/row")
}
