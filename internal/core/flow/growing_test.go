package flow

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// TestGrowing is TestEventTime with splits that come while the job runs, sources that fail now and then, and crashes at any point: before and
// behind the checkpoint with which a split joins. A split begins with the watermark that its scan had there, which the checkpoint tells; with
// these beginnings the plain computation gives the results and the late rows.
func TestGrowing(t *testing.T) {
	forSeeds(t, 60, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 99))
		q := generators[seed%uint64(len(generators))](r)
		delay := lengths(r, 0, 2, 10, 30)
		base, pace := someTime(r)
		splits := streamsAt(r, delay, base, pace)
		for len(splits) < 3 { // those that come have rows of the same time
			splits = append(splits, streamsAt(r, delay, base, pace)...)
		}
		renumber(splits)
		out := "x"
		if q.more != "" {
			out = "out"
		}
		text := fmt.Sprintf("DECLARE STREAM s (k VARCHAR, v BIGINT, at TIMESTAMP) EVENT TIME at DELAY %s FROM MEMORY 'x'; DECLARE SINK results TO MEMORY 'x' (CHANGES full); DECLARE SINK late TO MEMORY 'x';\n", seconds(delay)) +
			"CREATE JOB j WITH x AS (" + fmt.Sprintf(q.sql, "") + ")" + q.more + " ROUTE " + out + " TO results"
		if q.late {
			text += " ROUTE LATE x TO late"
		}
		cat := plan.NewCatalog([]plan.Place{{Kind: "memory", Source: []plan.OptionSpec{}, Sink: []plan.OptionSpec{{Name: "changes", Kind: plan.WordOption}}}})
		plans, _, err := cat.Bind("q", text+";", nil, func(sql.Statement, *sql.Errors) {})
		if err != nil {
			t.Fatalf("%s\n%v", text, err)
		}
		w := &world{splits: splits, r: r, piece: []int{1, 7, 100}[r.IntN(3)], sinks: map[string]*list{},
			grows: &growth{r: rand.New(rand.NewPCG(seed, 3)), shown: r.IntN(len(splits)), all: len(splits), from: map[string]int64{}}}
		w.tight(r)
		crashes := r.IntN(4)
		where := fmt.Sprintf("seed %d, pieces of %d, %d crashes\n%s", seed, w.piece, crashes, text)
		status := w.grow(t, plans[0], r, crashes)
		rows := w.begun(delay)
		want, late := q.model(rows)
		slices.Sort(want)
		keys := -1
		if o := plans[0].Outputs()[0]; o.Changes {
			keys = keyCells(plans[0])
		}
		got := final(t, where, w.sinks["results"].got, keys, strings.Contains(text, "BY k FORGET AFTER"))
		if !slices.Equal(got, want) {
			t.Fatalf("%s\n%v\n%s", where, w.grows.from, difference(got, want))
		}
		if q.late {
			if gotLate, wantLate := w.late(), texts(late); !slices.Equal(gotLate, wantLate) {
				t.Fatalf("late rows, %s\n%s", where, difference(gotLate, wantLate))
			}
		}
		for _, s := range status.Steps {
			if s.Open != 0 || s.Counts.Held != 0 {
				t.Fatalf("%s\nthe ledger of %s %s does not balance: %+v", where, s.Kind, s.Step, s.Counts)
			}
		}
	})
}

// renumber gives rows the place that they have, and the greatest event time of all.
func renumber(splits [][]row) {
	end := int64(types.MinTime)
	for s := range splits {
		for i := range splits[s] {
			splits[s][i].split, splits[s][i].pos = s, i
			end = max(end, splits[s][i].t)
		}
	}
	for s := range splits {
		for i := range splits[s] {
			splits[s][i].newest = end
		}
	}
}

// begun gives all rows with the stamps that they have where their splits began.
func (w *world) begun(delay int64) (out []row) {
	for s, rows := range w.splits {
		newest, ok := w.grows.from[fmt.Sprint(s)]
		if !ok {
			newest = types.MinTime
		}
		for _, x := range rows {
			x.w = types.MinTime
			if newest > types.MinTime {
				x.w = newest - delay
			}
			newest = max(newest, x.t)
			out = append(out, x)
		}
	}
	return out
}

// grow runs a plan to its end, with checkpoints whenever splits ask for one to join with, some that do not come to count, and crashes.
func (w *world) grow(t *testing.T, p *plan.Plan, r *rand.Rand, crashes int) Status {
	t.Helper()
	var from *Snapshot
	for life := 0; ; life++ {
		arrived := make(chan struct{}, 1)
		opts := w.options(1+r.IntN(8), from)
		opts.SameVersion = from != nil
		opts.Arrived = func() {
			select {
			case arrived <- struct{}{}:
			default:
			}
		}
		j, err := New(p, w, opts)
		if err != nil {
			t.Fatal(err)
		}
		if from == nil {
			if from, err = j.Begin(); err != nil {
				t.Fatal(err)
			}
		} else {
			j.Commit(from)
		}
		ctx, cancel := context.WithCancelCause(t.Context())
		crash := errors.New("crash")
		done := make(chan error, 1)
		go func() { done <- j.Run(ctx) }()
		var dies <-chan time.Time
		if crashes > 0 {
			dies = time.After(time.Duration(r.IntN(150)) * time.Millisecond)
		}
		for over := false; !over; {
			select {
			case <-arrived:
				snap, err := j.Checkpoint(ctx)
				if err != nil {
					continue // the run is over
				}
				w.grows.note(snap, from)
				if from = snap; crashes > 0 && r.IntN(3) == 0 { // it counts, and nobody is told
					cancel(crash)
				} else {
					j.Commit(snap)
				}
			case <-dies:
				cancel(crash)
			case err = <-done:
				over = true
			}
		}
		cancel(nil)
		if errors.Is(err, crash) {
			crashes--
			_ = j.Close(false)
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		if err := j.Close(true); err != nil {
			t.Fatal(err)
		}
		return j.Status()
	}
}
