package connect_test

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
)

// event is one arrival of a generated stream.
type event struct {
	Chip string   `json:"chip"`
	Mat  *string  `json:"mat"`
	At   string   `json:"at"`
	N    int64    `json:"n"`
	X    *float64 `json:"x"`
	t    int64    // milliseconds
	bad  bool
}

// streamOf generates the splits of a stream: disorder within and beyond the delay, bursts, NULLs,
// garbled messages, duplicates, splits of different lengths.
func streamOf(r *rand.Rand) [][]event {
	splits := make([][]event, 1+r.IntN(4))
	for s := range splits {
		clock := int64(1_779_000_000_000 + r.IntN(30_000))
		for range r.IntN(400) {
			switch r.IntN(20) {
			case 0:
				clock += int64(r.IntN(60_000))
			case 1, 2, 3: // a burst at one moment
			default:
				clock += int64(r.IntN(700))
			}
			e := event{Chip: fmt.Sprintf("P%d", r.IntN(12)), N: r.Int64N(2000) - 1000, t: clock, bad: r.IntN(40) == 0}
			switch r.IntN(10) {
			case 0:
				e.t -= int64(r.IntN(40_000)) // may be late
			case 1, 2, 3:
				e.t -= int64(r.IntN(5_000))
			}
			if r.IntN(8) > 0 {
				m := []string{"start", "half", "ponte \"lungo\"", "größe", ""}[r.IntN(5)]
				e.Mat = &m
			}
			if r.IntN(6) > 0 {
				x := float64(r.IntN(2000))/16 - 50
				e.X = &x
			}
			e.At = stampMs(e.t)
			splits[s] = append(splits[s], e)
			if r.IntN(25) == 0 {
				splits[s] = append(splits[s], e)
			}
		}
	}
	return splits
}

var dates sync.Map // by day: working one out plainly takes long

func stampMs(ms int64) string {
	day := ms / 86_400_000
	date, ok := dates.Load(day)
	if !ok {
		y, m, d := 1970, 1, 1
		for range day {
			d++
			if d > []int{31, 28 + leap(y), 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}[m-1] {
				d, m = 1, m+1
			}
			if m > 12 {
				m, y = 1, y+1
			}
		}
		date = fmt.Sprintf("%04d-%02d-%02d", y, m, d)
		dates.Store(day, date)
	}
	ms %= 86_400_000
	return fmt.Sprintf("%sT%02d:%02d:%02d.%03dZ", date, ms/3_600_000, ms/60_000%60, ms/1000%60, ms%1000)
}

func leap(y int) int {
	if y%4 == 0 && (y%100 != 0 || y%400 == 0) {
		return 1
	}
	return 0
}

func writeSplits(t *testing.T, dir string, splits [][]event) {
	t.Helper()
	if err := os.MkdirAll(filepath.Join(dir, "day"), 0o755); err != nil {
		t.Fatal(err)
	}
	for s, events := range splits {
		var b strings.Builder
		for _, e := range events {
			line, err := json.Marshal(e)
			if err != nil {
				t.Fatal(err)
			}
			if e.bad {
				line = line[:len(line)/2]
			}
			b.Write(line)
			b.WriteByte('\n')
		}
		if err := os.WriteFile(filepath.Join(dir, "day", fmt.Sprintf("%d.ndjson", s)), []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// modelRow is a window's result as the plain model computes it.
type modelRow struct {
	n, sum    int64
	xs        []float64
	maxN      int64
	firstChip string
}

// model computes the windows from the whole data: a row counts in its window unless the window's end
// is at or before the row's stamp, the greatest event time of its own split before it less the delay.
func model(splits [][]event, length, delay, minN int64) (rows []string, late int) {
	windows := map[string]*modelRow{}
	for _, events := range splits {
		newest := int64(math.MinInt64 / 2)
		for _, e := range events {
			if e.bad {
				continue
			}
			stamp := newest - delay
			newest = max(newest, e.t)
			if e.N < minN {
				continue // filtered rows move the watermark too
			}
			opens := e.t / length * length
			if opens+length <= stamp {
				late++
				continue
			}
			mat := "null"
			if e.Mat != nil {
				b, _ := json.Marshal(*e.Mat)
				mat = string(b)
			}
			k := fmt.Sprintf(`{"mat":%s,"opens":"%s"`, mat, stampMs(opens))
			w := windows[k]
			if w == nil {
				w = &modelRow{maxN: e.N, firstChip: e.Chip}
				windows[k] = w
			}
			w.n++
			w.sum += e.N
			w.maxN = max(w.maxN, e.N)
			w.firstChip = min(w.firstChip, e.Chip)
			if e.X != nil {
				w.xs = append(w.xs, *e.X)
			}
		}
	}
	for k, w := range windows {
		avg := "null"
		if len(w.xs) > 0 {
			sum := 0.0 // sixteenths: exact
			for _, x := range w.xs {
				sum += x
			}
			b, _ := json.Marshal(sum / float64(len(w.xs)))
			avg = string(b)
		}
		rows = append(rows, fmt.Sprintf(`%s,"n":%d,"sum":%d,"max":%d,"first":%q,"avg":%s}`, k, w.n, w.sum, w.maxN, w.firstChip, avg))
	}
	slices.Sort(rows)
	return rows, late
}

// TestWindowsAgainstModel compares tumbling windows over generated streams with the plain model, under
// different numbers of tasks and sizes of pieces.
func TestWindowsAgainstModel(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 7))
		splits := streamOf(r)
		dir := t.TempDir()
		writeSplits(t, dir, splits)
		length := []int64{1000, 7000, 10_000, 60_000}[r.IntN(4)]
		delay := []int64{0, 2000, 20_000}[r.IntN(3)]
		minN := []int64{-1000, -200, 600}[r.IntN(3)]
		src := fmt.Sprintf(`DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, at TIMESTAMP, n BIGINT, x DOUBLE)
			EVENT TIME at DELAY %d MILLISECONDS FROM FILES :day;
			SELECT mat, w.opens, COUNT(*) AS n, SUM(n) AS sum, MAX(n) AS max, MIN(chip) AS first, AVG(x) AS avg
			FROM reads WHERE n >= %d GROUP BY mat, w WINDOW w AS (TUMBLING %d MILLISECONDS);`, delay, minN, length)
		want, late := model(splits, length, delay, minN)
		for _, set := range []setting{{1, 1 << 20}, {1 + r.IntN(8), 100 + r.IntN(4000)}} {
			got := runSQL(t, src, dir, set)
			if got.errors != "" {
				t.Fatalf("seed %d: %s", seed, got.errors)
			}
			slices.Sort(got.rows)
			if !slices.Equal(got.rows, want) {
				t.Fatalf("seed %d, %+v, length %d, delay %d: wanted\n%s\ngot\n%s", seed, set, length, delay, strings.Join(want, "\n"), strings.Join(got.rows, "\n"))
			}
			if !strings.Contains(got.ledger, fmt.Sprintf("late %d ", late)) {
				t.Fatalf("seed %d: wanted %d late rows:\n%s", seed, late, got.ledger)
			}
		}
	}
}

// TestArrivalOrder shuffles the arrivals of a stream within its delay: final results stay equal, and
// no row is late.
func TestArrivalOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	var events []event
	for i := range 1500 {
		m := []string{"start", "half", "finish"}[r.IntN(3)]
		x := r.NormFloat64() * 1e6 // a sum that depends on the order, were it not compensated
		e := event{Chip: fmt.Sprint("P", r.IntN(50)), Mat: &m, N: int64(i), X: &x, t: 1_779_000_000_000 + int64(i)*40}
		e.At = stampMs(e.t)
		events = append(events, e)
	}
	const src = `DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, at TIMESTAMP, n BIGINT, x DOUBLE)
		EVENT TIME at DELAY 5 SECONDS FROM FILES :day;
		SELECT mat, w.opens, COUNT(*) AS n, SUM(x) AS sum, AVG(x) AS avg, MIN(x) AS low,
			COUNT(DISTINCT chip) AS chips, ARG_MAX(chip, x) AS top, FIRST_VALUE(chip) AS earliest, LAST_VALUE(n) AS latest, ARRAY_AGG(n) AS rows,
			LISTAGG(chip, ' ') AS list, PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY x) AS middle, APPROX_COUNT_DISTINCT(n) AS about
		FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 4 SECONDS);`
	var first []string
	for round := range 25 {
		shuffled := slices.Clone(events)
		due := make(map[int64]int64) // arrival: up to just under the delay after the event
		for i := range shuffled {
			due[shuffled[i].N] = shuffled[i].t + r.Int64N(4999)
		}
		if round > 0 {
			slices.SortFunc(shuffled, func(a, b event) int { return int(due[a.N] - due[b.N]) })
		}
		dir := t.TempDir()
		writeSplits(t, dir, [][]event{shuffled})
		got := runSQL(t, src, dir, setting{1 + round%4, 500 + 997*round})
		if got.errors != "" || !strings.Contains(got.ledger, "late 0 ") {
			t.Fatalf("round %d: %s%s", round, got.errors, got.ledger)
		}
		slices.Sort(got.rows)
		if first == nil {
			first = got.rows
		}
		if !slices.Equal(first, got.rows) {
			t.Fatalf("round %d gives other rows:\n%s\ninstead of\n%s", round, strings.Join(got.rows, "\n"), strings.Join(first, "\n"))
		}
	}
}
