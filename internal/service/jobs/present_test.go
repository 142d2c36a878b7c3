package jobs_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/service/base"
	"fiume/internal/service/servicetest"
)

// TestPresent: a running job tells the rows of its steps as they stand, by key and as a whole, of all kinds of state, also of what waits on disk alone; they are those
// of a plain computation, in a new process, too, and what it writes is what it would have written without having been asked.
func TestPresent(t *testing.T) {
	const chips, rounds = 4000, 10
	p := servicetest.New(t)
	p.Apply(`CREATE TOPIC reads (PARTITIONS 3); CREATE TOPIC people (PARTITIONS 2); CREATE TOPIC a (PARTITIONS 1); CREATE TOPIC b (PARTITIONS 1); CREATE TOPIC c (PARTITIONS 1); CREATE TOPIC d (PARTITIONS 1);
		DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, v BIGINT, at TIMESTAMP) EVENT TIME at DELAY 1 HOUR FROM TOPIC 'reads';
		DECLARE TABLE people (chip VARCHAR PRIMARY KEY, name VARCHAR, age INT) FROM TOPIC 'people';
		DECLARE SINK a TO TOPIC 'a' (CHANGES full); DECLARE SINK b TO TOPIC 'b' (CHANGES full); DECLARE SINK c TO TOPIC 'c' (CHANGES full); DECLARE SINK d TO TOPIC 'd' (CHANGES full);
		CREATE JOB seeing
			WITH known AS (SELECT r.chip, r.mat, r.v, r.at, p.name FROM reads r LEFT JOIN people p ON p.chip = r.chip),
			counts AS (SELECT chip, name, COUNT(*) AS n, MAX(v) AS most FROM known GROUP BY chip, name FORGET AFTER 365 DAYS),
			many AS (SELECT chip AS who, name, 2 * n AS twice FROM counts WHERE n % 2 = 0),
			minutes AS (SELECT mat, w.opens AS opened, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (SLIDING 2 MINUTES EVERY 1 MINUTE)),
			visits AS (SELECT chip, w.opens AS first, w.closes AS last, COUNT(*) AS n FROM reads GROUP BY chip, w WINDOW w AS (SESSION GAP 5 MINUTES))
			ROUTE counts TO a ROUTE many TO b ROUTE minutes TO c ROUTE visits TO d
			SET (PARALLELISM 3, MEMORY MEGABYTES 1, CHECKPOINT EVERY 100 MILLISECONDS);`)
	r := rand.New(rand.NewPCG(3, 4))
	name := func(c int) string { return fmt.Sprintf("N%d", c%7) }
	var ms []string
	for c := range chips {
		ms = append(ms, fmt.Sprintf("C%04d\t"+`{"chip":"C%04d","name":"%s","age":%d}`, c, c, name(c), c%90))
	}
	p.Write("people", ms...)
	p.Wait("the people are known", func() bool {
		x, err := p.Jobs.Present(t.Context(), "seeing", "people", nil, 10_000)
		return err == nil && len(x.Rows) == chips
	})
	type sum struct{ n, most int }
	sums := map[int]*sum{}
	minutes := map[string]map[int]int{} // by mat and minute
	stamp := func(second int) string {
		return time.Date(2026, 5, 17, 9, 0, second, 0, time.UTC).Format("2006-01-02T15:04:05.000Z")
	}
	seconds := map[int]map[int]int{} // by chip: reads in a second
	total := 0
	for round := range rounds {
		ms = ms[:0]
		for range 1000 {
			c, v, second := r.IntN(chips), r.IntN(1000), r.IntN(600)
			if c%5 == 0 {
				c = r.IntN(50) // some come often
			}
			if sums[c] == nil {
				sums[c], seconds[c] = &sum{0, -1}, map[int]int{}
			}
			mat := fmt.Sprintf("M%d", c%3)
			if minutes[mat] == nil {
				minutes[mat] = map[int]int{}
			}
			sums[c].n++
			sums[c].most = max(sums[c].most, v)
			minutes[mat][second/60]++
			seconds[c][second]++
			total++
			ms = append(ms, fmt.Sprintf("C%04d\t"+`{"chip":"C%04d","mat":"%s","v":%d,"at":"%s"}`, c, c, mat, v, stamp(second)))
		}
		p.Write("reads", ms...)
		if round%3 == 2 { // asked while it works
			present(p, "counts")
			present(p, "visits", "chip=C0001")
		}
	}
	check := func(when string) {
		t.Helper()
		var counts, many, sliding, visits []string
		for c, s := range sums {
			counts = append(counts, fmt.Sprintf(`{"chip":"C%04d","name":"%s","n":%d,"most":%d}`, c, name(c), s.n, s.most))
			if s.n%2 == 0 {
				many = append(many, fmt.Sprintf(`{"who":"C%04d","name":"%s","twice":%d}`, c, name(c), 2*s.n))
			}
			first, last, n := -1, 0, 0
			for second := range 1000 {
				k := seconds[c][second]
				if first >= 0 && (second-last >= 300) {
					visits = append(visits, fmt.Sprintf(`{"chip":"C%04d","first":"%s","last":"%s","n":%d}`, c, stamp(first), stamp(last+300), n))
					first, n = -1, 0
				}
				if k > 0 {
					if first < 0 {
						first = second
					}
					last, n = second, n+k
				}
			}
		}
		for mat, by := range minutes {
			for m := -1; m < 10; m++ {
				if n := by[m] + by[m+1]; n > 0 {
					sliding = append(sliding, fmt.Sprintf(`{"mat":"%s","opened":"%s","n":%d}`, mat, stamp(m*60), n))
				}
			}
		}
		for step, want := range map[string][]string{"counts": counts, "many": many, "minutes": sliding, "visits": visits} {
			slices.Sort(want)
			got := present(p, step)
			if !slices.Equal(got, want) {
				for i := range min(len(got), len(want)) {
					if got[i] != want[i] {
						t.Errorf("%s: %s has %s, wanted %s", when, step, got[i], want[i])
						break
					}
				}
				t.Errorf("%s: %s has %d rows, wanted %d", when, step, len(got), len(want))
			}
			for range 5 { // by key, and by another column
				row := want[r.IntN(len(want))]
				var cells map[string]any
				if err := json.Unmarshal([]byte(row), &cells); err != nil {
					t.Fatal(err)
				}
				for _, by := range [][]string{{"chip", "name"}, {"who", "name"}, {"mat"}, {"chip"}, {"n"}} {
					var where []string
					for _, column := range by {
						if x, ok := cells[column]; ok {
							where = append(where, fmt.Sprintf("%s=%v", column, x))
						}
					}
					if len(where) < len(by) {
						continue
					}
					var fits []string
					for _, w := range want {
						var other map[string]any
						_ = json.Unmarshal([]byte(w), &other)
						if !slices.ContainsFunc(by, func(c string) bool { return other[c] != cells[c] }) {
							fits = append(fits, w)
						}
					}
					if got := present(p, step, where...); !slices.Equal(got, fits) {
						t.Fatalf("%s: %s where %v: %v, wanted %v", when, step, where, got, fits)
					}
				}
			}
		}
	}
	all := func() bool { return p.State("seeing").In >= int64(total) }
	p.Wait("all rows were read", all)
	p.Wait("all rows were counted", func() bool {
		n := 0
		for _, row := range present(p, "counts") {
			var x struct{ N int }
			_ = json.Unmarshal([]byte(row), &x)
			n += x.N
		}
		return n == total
	})
	parked := 0
	if st, err := p.Jobs.State("seeing"); err == nil {
		for _, s := range st.Steps {
			parked += s.Parked
		}
	}
	if parked == 0 {
		t.Error("nothing waits on disk alone: the test asks for less than it should")
	}
	check("at first")
	check("again")
	p = p.Restart()
	p.Wait("it runs again", func() bool {
		x, err := p.Jobs.Present(t.Context(), "seeing", "counts", nil, 10_000)
		return err == nil && len(x.Rows) == len(sums)
	})
	check("in a new process")

	if x, err := p.Jobs.Present(t.Context(), "seeing", "counts", nil, 10); err != nil || len(x.Rows) != 10 || !x.More || !slices.Equal(x.Keys, []string{"chip", "name"}) || len(x.Columns) != 4 {
		t.Errorf("%+v %v", x, err)
	}
	for words, f := range map[string][2]string{"did you mean \"seeing\"?": {"seing", "counts"}, "has no step \"count\"; did you mean \"counts\"?": {"seeing", "count"}, "has no step \"of\"; it has": {"seeing", "of"}, "pass through and are not kept": {"seeing", "known"}} {
		if _, err := p.Jobs.Present(t.Context(), f[0], f[1], nil, 10); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%v: %v", f, err)
		}
	}
	for words, where := range map[string]map[string]string{`has no column "cip"; it has chip, name, n, most`: {"cip": "x"}, `n is BIGINT, and "many" is none`: {"n": "many"}} {
		if _, err := p.Jobs.Present(t.Context(), "seeing", "counts", where, 10); !errors.Is(err, base.ErrRefused) || !strings.Contains(err.Error(), words) {
			t.Errorf("%v: %v", where, err)
		}
	}
	p.Apply("STOP JOB seeing;")
	if _, err := p.Jobs.Present(t.Context(), "seeing", "counts", nil, 10); !errors.Is(err, base.ErrRefused) || !strings.Contains(err.Error(), "does not run") {
		t.Error(err)
	}
}

// present gives the rows of a step of the job seeing as they stand, in their order as texts.
func present(p *servicetest.Parts, step string, where ...string) []string {
	p.Helper()
	equal := map[string]string{}
	for _, w := range where {
		column, value, _ := strings.Cut(w, "=")
		equal[column] = value
	}
	x, err := p.Jobs.Present(p.Context(), "seeing", step, equal, 10_000)
	if err != nil {
		p.Fatal(err)
	}
	if x.More {
		p.Fatalf("%s has more than 10,000 rows", step)
	}
	var out []string
	for _, r := range x.Rows {
		out = append(out, string(r))
	}
	slices.Sort(out)
	return out
}
