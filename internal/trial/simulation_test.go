package trial_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"fiume/internal/connect"
	"fiume/internal/core/plan"
	"fiume/internal/trial"
)

// everySink has every kind of sink behind every kind of result: rows, windows, joins, late rows, results that are
// replaced.
const everySink = `
DECLARE ENDPOINT db MARIADB 'race@private/race';
DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, read_at TIMESTAMP, n BIGINT) EVENT TIME read_at DELAY 2 SECONDS FROM TOPIC 'reads';
DECLARE STREAM calls (chip VARCHAR, called_at TIMESTAMP, c BIGINT) EVENT TIME called_at DELAY 1 SECOND FROM TOPIC 'calls';
DECLARE SINK odd_topic TO TOPIC 'odd';
DECLARE SINK odd_files TO FILES 'odd' (ROLL EVERY 20 MILLISECONDS);
DECLARE SINK odd_table TO MARIADB 'odd' VIA db;
DECLARE ENDPOINT store FILES 'https://timing@10.0.0.7:9000';
DECLARE SINK odd_objects TO FILES 's3://race/odd' VIA store (ROLL EVERY 20 MILLISECONDS);
DECLARE SINK count_objects TO FILES 's3://race/counts' VIA store (ROLL EVERY 5 MILLISECONDS, PARTITION BY (mat, opens), EACH hour, COMPRESS gzip);
DECLARE SINK count_topic TO TOPIC 'counts' (KEY (mat));
DECLARE SINK count_table TO MARIADB 'counts' VIA db (KEY (mat, opens));
DECLARE SINK running_topic TO TOPIC 'running' (KEY (mat, opens));
DECLARE SINK running_full TO TOPIC 'full' (CHANGES full);
DECLARE SINK running_table TO MARIADB 'running' VIA db (KEY (mat, opens));
DECLARE SINK met_topic TO TOPIC 'met';
DECLARE SINK met_files TO FILES 'met';
DECLARE SINK late_topic TO TOPIC 'late';
CREATE JOB all_of_it WITH
	odd AS (SELECT chip, n FROM reads WHERE n % 2 = 1),
	counts AS (SELECT mat, w.opens AS opens, COUNT(*) AS reads, SUM(n) AS total FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 10 SECONDS)),
	running AS (SELECT mat, w.opens AS opens, COUNT(*) AS reads, MAX(n) AS top FROM reads GROUP BY mat, w WINDOW w AS (SLIDING 20 SECONDS EVERY 10 SECONDS LATENESS 5 SECONDS REPORT EVERY 3 SECONDS)),
	met AS (SELECT r.n AS n, c.c AS c FROM reads r LEFT JOIN calls c ON c.chip = r.chip AND c.called_at WITHIN 4 SECONDS OF r.read_at)
ROUTE odd TO odd_topic, odd_files, odd_table, odd_objects
ROUTE counts TO count_topic, count_table, count_objects
ROUTE running TO running_topic, running_full, running_table
ROUTE met TO met_topic, met_files
ROUTE LATE counts TO late_topic;`

func planOf(t testing.TB, src string) *plan.Plan {
	t.Helper()
	plans, _, err := plan.NewCatalog(connect.Places()).Bind("job.sql", src, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	return plans[0]
}

// day is a generated day, and what the sinks of its plain rows must hold.
type day struct {
	inputs map[string][]trial.Message
	odd    []string
	counts []string
	met    int // rows of the join: one for each read and call that meet, and for each read that meets none
}

func stamp(us int64) string {
	return time.UnixMicro(us).UTC().Format("2006-01-02T15:04:05.000Z")
}

func newDay(seed uint64) day {
	r := rand.New(rand.NewPCG(seed, 3))
	d := day{inputs: map[string][]trial.Message{}}
	const start = int64(946_600_000_000_000) // simulated time begins with the year 2000
	type event struct {
		chip string
		at   int64
	}
	var reads, calls []event
	type window struct {
		mat   string
		opens int64
	}
	sums := map[window][2]int{}
	at := start
	for i := range 60 + r.IntN(200) {
		at += int64(r.IntN(400)) * 1000
		e := event{fmt.Sprint("P", r.IntN(6)), at - int64(r.IntN(2000))*1000}
		mat := fmt.Sprint("M", r.IntN(3))
		reads = append(reads, e)
		d.inputs["reads"] = append(d.inputs["reads"], trial.Message{Key: []byte(e.chip), Value: []byte(fmt.Sprintf(`{"chip":"%s","mat":"%s","read_at":"%s","n":%d}`, e.chip, mat, stamp(e.at), i))})
		if i%2 == 1 {
			d.odd = append(d.odd, fmt.Sprintf(`{"chip":"%s","n":%d}`, e.chip, i))
		}
		w := window{mat, e.at / 10_000_000 * 10_000_000}
		sums[w] = [2]int{sums[w][0] + 1, sums[w][1] + i}
		if r.IntN(4) == 0 {
			c := event{fmt.Sprint("P", r.IntN(6)), at - int64(r.IntN(1000))*1000}
			calls = append(calls, c)
			d.inputs["calls"] = append(d.inputs["calls"], trial.Message{Value: []byte(fmt.Sprintf(`{"chip":"%s","called_at":"%s","c":%d}`, c.chip, stamp(c.at), i))})
		}
	}
	for w, s := range sums {
		d.counts = append(d.counts, fmt.Sprintf(`{"mat":"%s","opens":"%s","reads":%d,"total":%d}`, w.mat, stamp(w.opens), s[0], s[1]))
	}
	for _, x := range reads {
		n := 0
		for _, c := range calls {
			if c.chip == x.chip && max(c.at-x.at, x.at-c.at) <= 4_000_000 {
				n++
			}
		}
		d.met += max(n, 1)
	}
	slices.Sort(d.odd)
	slices.Sort(d.counts)
	return d
}

// check holds a run against the generated day and against a run without troubles.
func (d day) check(got, calm *trial.Result) error {
	for _, s := range []string{"odd_topic", "odd_files", "odd_table", "odd_objects"} {
		if !slices.Equal(got.Sinks[s], d.odd) {
			return fmt.Errorf("%s: %s", s, difference(got.Sinks[s], d.odd))
		}
	}
	for _, s := range []string{"count_topic", "count_table", "count_objects"} {
		if !slices.Equal(got.Sinks[s], d.counts) {
			return fmt.Errorf("%s: %s", s, difference(got.Sinks[s], d.counts))
		}
	}
	if n := len(got.Sinks["met_topic"]); n != d.met {
		return fmt.Errorf("%d rows of the join, wanted %d", n, d.met)
	}
	for s, rows := range calm.Sinks {
		if !slices.Equal(got.Sinks[s], rows) {
			return fmt.Errorf("%s: %s", s, difference(got.Sinks[s], rows))
		}
	}
	if got.Missing != 0 {
		return fmt.Errorf("%d rows from before a crash did not come again", got.Missing)
	}
	for i, s := range got.Status.Steps {
		c := s.Counts
		if c.In != c.Passed+c.Filtered+c.Absorbed+c.Late+c.Rejected+c.Held || c.Held != 0 {
			return fmt.Errorf("the ledger of %s %s does not balance: %+v", s.Kind, s.Step, c)
		}
		// How many early results there are depends on how the inputs come together.
		if w := calm.Status.Steps[i].Counts; s.Step != "running" && !strings.HasPrefix(s.Step, "running") && (c.In != w.In || c.Passed != w.Passed || c.Late != w.Late) {
			return fmt.Errorf("the ledger of %s %s counts %+v, without troubles %+v", s.Kind, s.Step, c, w)
		}
	}
	return nil
}

func difference(got, want []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%d rows, wanted %d", len(got), len(want))
	n := map[string]int{}
	for _, x := range got {
		n[x]++
	}
	for _, x := range want {
		n[x]--
	}
	for x, k := range n {
		if k != 0 && b.Len() < 600 {
			fmt.Fprintf(&b, "; %+d of %s", k, x)
		}
	}
	return b.String()
}

func setting(seed uint64) trial.Setting {
	r := rand.New(rand.NewPCG(seed, 4))
	state := rand.New(rand.NewPCG(seed, 5))
	return trial.Setting{CellBytes: []int{0, 300, 2000, 10000}[state.IntN(4)], Memory: []int64{0, 5000, 50000}[state.IntN(3)],
		Seed: seed, Parallelism: 1 + r.IntN(4), Partitions: 1 + r.IntN(3), Piece: 1 + r.IntN(40), Crashes: r.IntN(6), PowerLoss: r.IntN(2) == 0,
		Trouble: []float64{0, 0, 0.02, 0.1}[r.IntN(4)], Every: time.Duration(1+r.IntN(30)) * time.Millisecond,
		Pace: []time.Duration{0, 5 * time.Millisecond, 30 * time.Millisecond}[r.IntN(3)], Jumps: r.IntN(3) == 0}
}

// TestSimulationGrowing is TestSimulation with partitions that come while the job runs. Where a partition joins is a matter of time, and rows of it
// that are older are late for a window then. Still each row is there once: the rows of the sinks and the late ones make the sums of the
// plain rows, and sinks behind one result agree.
func TestSimulationGrowing(t *testing.T) {
	p := planOf(t, everySink)
	first, n := environment("SEED", 1), environment("GROWING", 50)
	late, lives := 0, 0
	for seed := first; seed < first+n; seed++ {
		d := newDay(uint64(seed))
		set := setting(uint64(seed))
		set.Partitions, set.Coming = 2+seed%3, 1+seed%4
		// A partition waits for a checkpoint, which hardly comes about where one of its many writes fails each time.
		if set.Trouble = min(set.Trouble, 0.005); set.CellBytes == 300 {
			set.Trouble = 0
		}
		var got *trial.Result
		var err error
		synctest.Test(t, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), time.Hour)
			defer cancel()
			got, err = trial.Run(ctx, p, d.inputs, set)
		})
		if err == nil {
			err = d.grown(got)
		}
		if err != nil {
			t.Fatalf("SEED=%d GROWING=1: %+v\n%v", seed, set, err)
		}
		late += len(got.Sinks["late_topic"])
		lives += got.Lives
	}
	t.Logf("%d seeds, %d lives, %d late rows", n, lives, late)
	if n >= 50 && late == 0 {
		t.Error("no row of a partition that came was late")
	}
}

// grown checks a run with partitions that came.
func (d day) grown(got *trial.Result) error {
	for _, s := range []string{"odd_topic", "odd_files", "odd_table", "odd_objects"} {
		if !slices.Equal(got.Sinks[s], d.odd) {
			return fmt.Errorf("%s: %s", s, difference(got.Sinks[s], d.odd))
		}
	}
	for a, b := range map[string]string{"count_topic": "count_table", "count_table": "count_objects", "running_topic": "running_table", "running_full": "running_table", "met_topic": "met_files"} {
		if !slices.Equal(got.Sinks[a], got.Sinks[b]) {
			return fmt.Errorf("%s and %s differ: %s", a, b, difference(got.Sinks[a], got.Sinks[b]))
		}
	}
	type window struct{ Mat, Opens string }
	sums := map[window][2]int{}
	add := func(mat, opens string, reads, total int) {
		w := window{mat, opens}
		sums[w] = [2]int{sums[w][0] + reads, sums[w][1] + total}
	}
	var x struct {
		Mat, Opens      string
		At              time.Time `json:"read_at"`
		Reads, Total, N int
	}
	for _, row := range got.Sinks["count_topic"] {
		if err := json.Unmarshal([]byte(row), &x); err != nil {
			return err
		}
		add(x.Mat, x.Opens, x.Reads, x.Total)
	}
	for _, row := range got.Sinks["late_topic"] {
		var aside struct{ Row json.RawMessage }
		if err := json.Unmarshal([]byte(row), &aside); err != nil {
			return err
		}
		if err := json.Unmarshal(aside.Row, &x); err != nil {
			return err
		}
		add(x.Mat, stamp(x.At.UnixMicro()/10_000_000*10_000_000), 1, x.N)
	}
	var all []string
	for w, s := range sums {
		all = append(all, fmt.Sprintf(`{"mat":"%s","opens":"%s","reads":%d,"total":%d}`, w.Mat, w.Opens, s[0], s[1]))
	}
	slices.Sort(all)
	if !slices.Equal(all, d.counts) {
		return fmt.Errorf("counts and %d late rows such as %v (%d): %s", len(got.Sinks["late_topic"]), got.Sinks["late_topic"][:min(2, len(got.Sinks["late_topic"]))], got.Late, difference(all, d.counts))
	}
	if got.Missing != 0 {
		return fmt.Errorf("%d rows from before a crash did not come again", got.Missing)
	}
	for _, s := range got.Status.Steps {
		if c := s.Counts; c.In != c.Passed+c.Filtered+c.Absorbed+c.Late+c.Rejected+c.Held || c.Held != 0 {
			return fmt.Errorf("the ledger of %s %s does not balance: %+v", s.Kind, s.Step, c)
		}
	}
	return nil
}

// simulate runs one seed with simulated time and gives what is wrong.
func simulate(t *testing.T, p *plan.Plan, seed uint64, unsafe bool) (crashes, checkpoints int, err error) {
	d := newDay(seed)
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), 24*time.Hour)
		defer cancel()
		var calm, got *trial.Result
		set := setting(seed)
		quiet := trial.Setting{Seed: seed, Parallelism: 1, Partitions: set.Partitions, Piece: set.Piece}
		if calm, err = trial.Run(ctx, p, d.inputs, quiet); err != nil {
			return
		}
		set.Unsafe = unsafe
		if got, err = trial.Run(ctx, p, d.inputs, set); err != nil {
			return
		}
		crashes, checkpoints = got.Crashes, int(got.Checkpoints)
		err = d.check(got, calm)
	})
	return crashes, checkpoints, err
}

func environment(name string, def int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return def
}

// TestSimulation runs a job with every kind of sink in simulated time, on a disk that loses power, is full and fails
// to sync, with a catalog and tables that are away and do not say what they have done, and kills it at any point.
// Each row is there once, as plain computations and an undisturbed run have it, and the ledger balances. SEED and
// SEEDS choose the seeds.
func TestSimulation(t *testing.T) {
	p := planOf(t, everySink)
	first, n := environment("SEED", 1), environment("SEEDS", 100)
	crashes, checkpoints := 0, 0
	for seed := first; seed < first+n; seed++ {
		k, c, err := simulate(t, p, uint64(seed), false)
		if err != nil {
			t.Fatalf("SEED=%d SEEDS=1: %+v\n%v", seed, setting(uint64(seed)), err)
		}
		crashes += k
		checkpoints += c
	}
	t.Logf("%d seeds, %d crashes, %d checkpoints", n, crashes, checkpoints)
	if n >= 100 && (crashes < n || checkpoints < 5*n) {
		t.Errorf("only %d crashes and %d checkpoints in %d seeds", crashes, checkpoints, n)
	}
}

// TestSimulationNotices: a table that confirms rows before the checkpoint counts is found out.
func TestSimulationNotices(t *testing.T) {
	p := planOf(t, everySink)
	for seed := range uint64(100) {
		if _, _, err := simulate(t, p, seed, true); err != nil {
			if !strings.Contains(err.Error(), "odd_table: ") {
				t.Fatalf("another sink is wrong: %v", err)
			}
			t.Logf("seed %d: %v", seed, err)
			return
		}
	}
	t.Fatal("rows that are written before their checkpoint counts are not noticed")
}

// TestSimulationDamage is TestSimulation with files of the topics that are read damaged at rest, before any life: bits,
// blocks, ends. No row is there twice or is another one, the sinks agree, and the messages that are not read are all counted as
// lost. DAMAGED and SEED choose the seeds.
func TestSimulationDamage(t *testing.T) {
	p := planOf(t, everySink)
	first, n := environment("SEED", 1), environment("DAMAGED", 60)
	hurt, lost := 0, int64(0)
	for seed := first; seed < first+n; seed++ {
		d := newDay(uint64(seed))
		set := setting(uint64(seed))
		set.Damage = 0.6
		var got *trial.Result
		var err error
		synctest.Test(t, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), 24*time.Hour)
			defer cancel()
			got, err = trial.Run(ctx, p, d.inputs, set)
		})
		if err == nil {
			var k int64
			k, err = d.damaged(got)
			lost += k
		}
		if err != nil {
			t.Fatalf("SEED=%d DAMAGED=1: %+v\n%v\n%v", seed, set, err, got)
		}
		if len(got.Damage) > 0 {
			hurt++
		}
	}
	t.Logf("%d seeds, %d of them damaged, %d messages lost", n, hurt, lost)
	if n >= 100 && (hurt < n/2 || lost == 0) {
		t.Errorf("only %d seeds were damaged, and %d messages lost", hurt, lost)
	}
}

// damaged checks a run whose inputs were damaged, and gives how many messages are lost.
func (d day) damaged(got *trial.Result) (lost int64, err error) {
	for _, s := range got.Status.Steps {
		c := s.Counts
		if c.In != c.Passed+c.Filtered+c.Absorbed+c.Late+c.Rejected+c.Held || c.Held != 0 {
			return 0, fmt.Errorf("the ledger of %s %s does not balance: %+v", s.Kind, s.Step, c)
		}
		if s.Kind != "scan" {
			continue
		}
		lost += c.Lost
		// Of a file that was cut it is not known how many records its end had: at least those that are gone are counted.
		if all := int64(len(d.inputs[s.Step])); c.In+c.Lost < all || c.In > all || c.Lost == 0 && c.In != all {
			return 0, fmt.Errorf("%s read %d of %d messages, and counts %d as lost", s.Step, c.In, all, c.Lost)
		}
	}
	known := map[string]bool{}
	for _, x := range d.odd {
		known[x] = true
	}
	for _, s := range []string{"odd_topic", "odd_files", "odd_table", "odd_objects"} {
		rows := got.Sinks[s]
		for i, x := range rows {
			if !known[x] || i > 0 && rows[i-1] == x {
				return 0, fmt.Errorf("%s has %s, which is wrong or there twice", s, x)
			}
		}
		if missing := int64(len(d.odd) - len(rows)); missing > lost {
			return 0, fmt.Errorf("%s lacks %d rows, and %d messages are counted as lost", s, missing, lost)
		}
	}
	if !slices.Equal(got.Sinks["odd_files"], got.Sinks["odd_table"]) {
		return 0, fmt.Errorf("files and table differ: %s", difference(got.Sinks["odd_files"], got.Sinks["odd_table"]))
	}
	return lost, nil
}
