package flow

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"fiume/internal/core/plan"
)

// TestCutBeforeCheckpoint: rows that waited behind rows of other keys come out although the cell that held them has been
// cut, and the run ended, before it was told another watermark.
func TestCutBeforeCheckpoint(t *testing.T) {
	const text = `DECLARE STREAM s (k VARCHAR, v BIGINT, at TIMESTAMP) EVENT TIME at DELAY 2 SECONDS FROM MEMORY 'x'; DECLARE SINK results TO MEMORY 'x' (CHANGES full);
		CREATE JOB j WITH x AS (SELECT k, v, at, LEAD(v, 2, -1) OVER (PARTITION BY k ORDER BY at FORGET AFTER 30 SECONDS) AS next FROM s) ROUTE x TO results;`
	cat := plan.NewCatalog([]plan.Place{{Kind: "memory", Source: []plan.OptionSpec{}, Sink: []plan.OptionSpec{{Name: "changes", Kind: plan.WordOption}}}})
	plans, _, err := cat.Bind("q", text, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(8, 8))
	splits := make([][]row, 2)
	by := map[string][]row{}
	for i := range 600 {
		x := row{key: fmt.Sprint("k", r.IntN(60)), v: int64(i), t: 1_792_882_800*second + int64(i)*second/5}
		splits[i%2] = append(splits[i%2], x)
		by[x.key] = append(by[x.key], x)
	}
	var want []string
	for _, list := range by {
		from := 0
		for i, x := range list {
			if i > 0 && x.t > list[i-1].t+30*second {
				from = i
			}
			next := int64(-1)
			if j := i + 2; j < len(list) && list[i+1].t <= x.t+30*second && list[j].t <= list[i+1].t+30*second && from <= i {
				next = list[j].v
			}
			want = append(want, fmt.Sprint(x, " ", next))
		}
	}
	slices.Sort(want)
	for round := range 30 {
		w := &world{splits: splits, r: r, piece: 7, sinks: map[string]*list{}, journal: newMemoryJournal(), cell: 200 + 300*(round%4)}
		status := w.run(t, plans[0], r, 1+r.IntN(3), 8)
		if got := final(t, "round", w.sinks["results"].got, -1, false); !slices.Equal(got, want) {
			t.Fatalf("round %d: %s", round, difference(got, want))
		}
		for _, s := range status.Steps {
			if s.Counts.Held != 0 {
				t.Errorf("round %d: %s %s still holds %d rows", round, s.Kind, s.Step, s.Counts.Held)
			}
		}
	}
}
