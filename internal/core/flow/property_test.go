package flow

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// shuffledSplit gives generated rows in pieces of random sizes, now and then none, so that the splits
// interleave in another way each time.
type shuffledSplit struct {
	name  string
	rows  []row
	pos   int64
	mu    sync.Mutex
	r     *rand.Rand
	piece int
	of    *memory
}

func (s *shuffledSplit) Name() string                 { return s.name }
func (s *shuffledSplit) Place(pos int64) string       { return fmt.Sprint(s.name, " ", pos) }
func (s *shuffledSplit) Position() int64              { return s.pos }
func (s *shuffledSplit) Resume(pos int64) error       { s.pos = pos; return nil }
func (s *shuffledSplit) Close() error                 { return nil }
func (s *shuffledSplit) NewDecoder() (Decoder, error) { return &rowDecoder{s: s}, nil }

func (s *shuffledSplit) Next(p *Piece) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.pos == int64(len(s.rows)) {
		return io.EOF
	}
	if s.of.grows != nil && s.r.IntN(100) == 0 {
		return errAway
	}
	if s.r.IntN(4) == 0 {
		s.of.mu.Lock()
		defer s.of.mu.Unlock()
		go s.of.wake() // there is more already
		return ErrNothing
	}
	p.Base = s.pos
	s.pos = min(s.pos+1+int64(s.r.IntN(s.piece)), int64(len(s.rows)))
	p.Next = s.pos
	return nil
}

func (s *shuffledSplit) Frame(p *Piece) error {
	p.Messages = p.Messages[:0]
	for n := p.Base; n < p.Next; n++ {
		p.Messages = append(p.Messages, Message{Pos: n})
	}
	return nil
}

type rowDecoder struct{ s *shuffledSplit }

func (d *rowDecoder) Decode(_ []byte, msgs []Message, out *column.Batch) []Reject {
	k, v, at := column.New(types.Of(types.Varchar)), column.New(types.Of(types.BigInt)), column.New(types.Of(types.Timestamp))
	out.N, out.Cols, out.Stamp, out.Time, out.Pos, out.Change = len(msgs), []*column.Vector{k, v, at}, nil, nil, nil, nil
	for _, m := range msgs {
		x := d.s.rows[m.Pos]
		key := types.Value{Kind: types.Varchar, S: x.key}
		if x.key == "" {
			key = types.Value{}
		}
		k.Append(key)
		v.Append(types.Value{Kind: types.BigInt, I: x.v})
		at.Append(types.Value{Kind: types.Timestamp, I: x.t})
		out.Time, out.Pos = append(out.Time, x.t), append(out.Pos, m.Pos)
		if x.gone && out.Change == nil {
			out.Change = make([]column.Change, len(msgs))
		}
		if x.gone {
			out.Change[len(out.Time)-1], out.Time[len(out.Time)-1] = column.Withdraw, types.MinTime
		}
	}
	return nil
}

// streams makes the splits of a stream: disorder within and beyond the delay, bursts of rows that were held
// back, duplicates, silent stretches, splits without rows; with stamps.
func streams(r *rand.Rand, delay int64) [][]row {
	base, pace := someTime(r)
	return streamsAt(r, delay, base, pace)
}

// someTime gives where generated streams begin and how far their rows lie apart.
func someTime(r *rand.Rand) (base, pace int64) {
	base = int64(1_774_742_400) * second // the night when the clocks of Rome go forward
	if r.IntN(2) == 0 {
		base = 1_792_882_800 * second // and the one when they go back
	}
	return base, []int64{second / 10, second, 20 * second, 6 * types.Hour}[min(r.IntN(7), 3)]
}

func streamsAt(r *rand.Rand, delay, base, pace int64) [][]row {
	splits := make([][]row, 1+r.IntN(4))
	keys := 1 + r.IntN(6)
	end := int64(types.MinTime)
	for s := range splits {
		clock := base + r.Int64N(30*second)
		n := r.IntN(250)
		if r.IntN(8) == 0 {
			n = 0
		}
		var held []row
		for range n {
			switch r.IntN(12) {
			case 0:
				clock += r.Int64N(20 * pace)
			case 1, 2: // at one moment
			default:
				clock += r.Int64N(pace)
			}
			x := row{key: string(rune('a' + r.IntN(keys))), v: r.Int64N(100) - 30, t: clock / 100_000 * 100_000}
			switch r.IntN(10) {
			case 0:
				x.t -= r.Int64N(60) * second
			case 1, 2, 3:
				x.t -= r.Int64N(6) * second
			}
			switch {
			case r.IntN(30) == 0 || len(held) > 0 && r.IntN(20) > 0:
				held = append(held, x)
				continue
			case len(held) > 0:
				splits[s] = append(splits[s], held...)
				held = nil
			}
			splits[s] = append(splits[s], x)
			if r.IntN(20) == 0 {
				splits[s] = append(splits[s], x)
			}
		}
		splits[s] = append(splits[s], held...)
		newest := int64(types.MinTime)
		for i := range splits[s] {
			x := &splits[s][i]
			x.split, x.pos, x.w = s, i, types.MinTime
			if newest > types.MinTime {
				x.w = newest - delay
			}
			newest = max(newest, x.t)
		}
		end = max(end, newest)
	}
	for s := range splits {
		for i := range splits[s] {
			splits[s][i].newest = end
		}
	}
	return splits
}

// errAway passes by itself, though what was closed with a connection has come to an end.
var errAway = fmt.Errorf("the place is away: %w", io.EOF)

// Retry implements Retrier.
func (m *memory) Retry(err error) bool { return errors.Is(err, errAway) }

// growth is what is known of splits that come while a job runs, over all its runs.
type growth struct {
	mu    sync.Mutex
	r     *rand.Rand
	shown int // splits that are there
	all   int
	from  map[string]int64 // where those that came began, by name: the newest event time they were given
}

// arrived shows some of the splits that are not there yet.
func (g *growth) arrived() (from, to int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	from = g.shown
	if g.shown < g.all {
		g.shown += g.r.IntN(min(2, g.all-g.shown) + 1)
	}
	return from, g.shown
}

// note keeps where splits began that a snapshot is the first to know.
func (g *growth) note(s *Snapshot, known *Snapshot) {
	for key, at := range s.Splits {
		if _, ok := known.Splits[key]; !ok {
			g.from[key[strings.LastIndexByte(key, '/')+1:]] = at.Newest
		}
	}
}

// Arrived implements Growing.
func (m *memory) Arrived() (out []Split) {
	if m.grows == nil {
		return nil
	}
	from, to := m.grows.arrived()
	for i := from; i < to; i++ {
		out = append(out, m.split(i))
	}
	return out
}

// Grows implements Growing.
func (m *memory) Grows() bool {
	if m.grows == nil {
		return false
	}
	m.grows.mu.Lock()
	defer m.grows.mu.Unlock()
	return m.grows.shown < m.grows.all
}

// world is a source and the sinks of one run; several runs may follow each other, each from the snapshot
// of the one before.
type world struct {
	splits [][]row
	of     map[string][][]row // by stream or table, where there are several
	r      *rand.Rand
	piece  int
	sinks  map[string]*list
	grows  *growth // nil: all splits are there from the beginning

	// How state is held: on disk beyond so much memory, in parts of some size.
	journal *memoryJournal
	memory  int64
	cell    int
}

// tight gives the world a journal, and little room or much.
func (w *world) tight(r *rand.Rand) {
	w.journal, w.cell, w.memory = newMemoryJournal(), []int{0, 200, 1500, 6000}[r.IntN(4)], []int64{0, 1000, 20000}[r.IntN(3)]
}

func (w *world) OpenSource(scan *plan.Op) (Source, error) {
	m := &memory{}
	splits := w.splits
	if w.of != nil {
		splits = w.of[scan.Stream.Name]
	}
	seeds := rand.New(rand.NewPCG(w.r.Uint64(), 2))
	m.split = func(i int) Split {
		return &shuffledSplit{name: fmt.Sprint(i), rows: splits[i], r: rand.New(rand.NewPCG(seeds.Uint64(), 1)), piece: w.piece, of: m}
	}
	shown := len(splits)
	if m.grows = w.grows; m.grows != nil {
		m.grows.mu.Lock()
		shown = m.grows.shown
		m.grows.mu.Unlock()
	}
	for i := range shown {
		m.splits = append(m.splits, m.split(i))
	}
	return m, nil
}

func (w *world) OpenLookup(*plan.Op) (step.Rows, error) { return nil, errors.New("no lookups") }

func (w *world) OpenSink(o *plan.Op) (Sink, error) {
	old := w.sinks[o.Step]
	if old == nil {
		old = &list{}
	}
	old.got = old.got[:old.synced] // what came after the checkpoint comes again
	w.sinks[o.Step] = old
	return old, nil
}

func rowOf(fields []types.Field, b *column.Batch, i int) string {
	var cells []string
	for k := range fields {
		if b.Cols[k] == nil { // nobody reads it
			continue
		}
		cells = append(cells, string(types.AppendText(nil, b.Cols[k].Value(i))))
	}
	return strings.Join(cells, " ")
}

// TestEventTime holds every kind of window and ordered step against plain computations from the whole
// data: for generated streams and queries, at several degrees of parallelism, batch sizes and
// interleavings of the splits, some of them with crashes, the final results and the late rows are the same,
// and the ledger balances. SEEDS and SEED in the environment say how many seeds and which is the first.
func TestEventTime(t *testing.T) {
	forSeeds(t, 90, oneSeed)
}

// forSeeds runs a test for so many seeds, or as the environment says.
func forSeeds(t *testing.T, seeds int, test func(t *testing.T, seed uint64)) {
	first := uint64(1)
	if s := os.Getenv("SEEDS"); s != "" {
		seeds, _ = strconv.Atoi(s)
	}
	if s := os.Getenv("SEED"); s != "" {
		first, _ = strconv.ParseUint(s, 10, 64)
	}
	for seed := first; seed < first+uint64(seeds); seed++ {
		if !t.Run(fmt.Sprint(seed), func(t *testing.T) { test(t, seed) }) {
			return
		}
	}
}

func oneSeed(t *testing.T, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 77))
	q := generators[seed%uint64(len(generators))](r)
	delay := lengths(r, 0, 2, 10, 30)
	splits := streams(r, delay)
	where, rows := "", slices.Concat(splits...)
	if r.IntN(3) == 0 {
		where = "WHERE v % 3 <> 0"
		kept := rows[:0:0]
		for _, x := range rows {
			if x.v%3 != 0 {
				kept = append(kept, x)
			}
		}
		rows = kept
	}
	out := "x"
	if q.more != "" {
		out = "out"
	}
	text := fmt.Sprintf("DECLARE STREAM s (k VARCHAR, v BIGINT, at TIMESTAMP) EVENT TIME at DELAY %s FROM MEMORY 'x'; DECLARE SINK results TO MEMORY 'x' (CHANGES full); DECLARE SINK late TO MEMORY 'x';\n", seconds(delay)) +
		"CREATE JOB j WITH x AS (" + fmt.Sprintf(q.sql, where) + ")" + q.more + " ROUTE " + out + " TO results"
	if q.late {
		text += " ROUTE LATE x TO late"
	}
	cat := plan.NewCatalog([]plan.Place{{Kind: "memory", Source: []plan.OptionSpec{}, Sink: []plan.OptionSpec{{Name: "changes", Kind: plan.WordOption}}}})
	plans, _, err := cat.Bind("q", text+";", nil, func(sql.Statement, *sql.Errors) {})
	if err != nil {
		t.Fatalf("%s\n%v", text, err)
	}
	want, late := q.model(rows)
	slices.Sort(want)
	wantLate := texts(late)
	for round := range 3 {
		parallelism, piece := 1+r.IntN(8), []int{1, 7, 100, 4096}[r.IntN(4)]
		w := &world{splits: splits, r: r, piece: piece, sinks: map[string]*list{}}
		crashes := 0
		if round > 0 {
			w.tight(r)
			crashes = r.IntN(3)
		}
		where := fmt.Sprintf("seed %d, round %d, parallelism %d, pieces of %d, %d crashes\n%s", seed, round, parallelism, piece, crashes, text)
		status := w.run(t, plans[0], r, parallelism, crashes)
		keys := -1
		if o := plans[0].Outputs()[0]; o.Changes {
			keys = keyCells(plans[0])
		}
		got := final(t, where, w.sinks["results"].got, keys, strings.Contains(text, "BY k FORGET AFTER"))
		if !slices.Equal(got, want) {
			t.Fatalf("%s\n%s", where, difference(got, want))
		}
		if q.late {
			gotLate := w.late()
			if !slices.Equal(gotLate, wantLate) {
				t.Fatalf("late rows, %s\n%s", where, difference(gotLate, wantLate))
			}
		}
		for _, s := range status.Steps {
			if s.Open != 0 || s.Counts.Held != 0 {
				t.Fatalf("%s\nthe ledger of %s %s does not balance: %+v", where, s.Kind, s.Step, s.Counts)
			}
			if c := s.Counts; s.Kind == "window" && c.Covered != c.Counted+c.Missed {
				t.Fatalf("%s\nthe contributions to %s do not balance: %+v", where, s.Step, c)
			}
		}
	}
}

// late gives the late rows that were sent on, sorted.
func (w *world) late() (out []string) {
	for _, g := range w.sinks["late"].got {
		out = append(out, g[strings.LastIndex(g, "{")+1:strings.LastIndex(g, "}")])
	}
	slices.Sort(out)
	return out
}

func (w *world) options(parallelism int, from *Snapshot) Options {
	o := Options{Parallelism: parallelism, Restore: from, Checkpoints: true, Memory: w.memory, CellBytes: w.cell, Now: func() time.Time { return time.Unix(1_900_000_000, 0) },
		Describe: func(f []types.Field, b *column.Batch, i int) string { return "{" + rowOf(f, b, i) + "}" }}
	if w.journal != nil {
		w.journal.forget()
		o.Journal = w.journal
	}
	return o
}

// run runs a plan to its end, with crashes on the way: each ends the run after a checkpoint, and the next
// one begins there with another number of tasks.
func (w *world) run(t *testing.T, p *plan.Plan, r *rand.Rand, parallelism, crashes int) Status {
	t.Helper()
	var from *Snapshot
	for {
		j, err := New(p, w, w.options(parallelism, from))
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithCancelCause(t.Context())
		crash := errors.New("crash")
		done := make(chan error, 1)
		go func() { done <- j.Run(ctx) }()
		if crashes > 0 {
			crashes--
			time.Sleep(time.Duration(r.IntN(1500)) * time.Microsecond)
			if snap, err := j.Checkpoint(ctx); err == nil {
				from = snap
				time.Sleep(time.Duration(r.IntN(500)) * time.Microsecond)
				cancel(crash)
				if err := <-done; err != nil && !errors.Is(err, crash) {
					t.Fatal(err)
				} else if err != nil {
					parallelism = 1 + r.IntN(8)
					continue
				}
			} else if !errors.Is(err, ErrEnded) {
				t.Fatal(err)
			} else if err := <-done; err != nil {
				t.Fatal(err)
			}
		} else if err := <-done; err != nil {
			t.Fatal(err)
		}
		cancel(nil)
		if err := j.Close(true); err != nil {
			t.Fatal(err)
		}
		return j.Status()
	}
}

// final applies changes and gives the rows that remain, sorted. Every change must fit what is there. The
// first cells of a row are its key. fresh says that a key that was forgotten is inserted anew.
func final(t *testing.T, where string, got []string, keys int, fresh bool) []string {
	t.Helper()
	rows := map[string]string{}
	var out []string
	for _, g := range got {
		change, rest, _ := strings.Cut(g, " ")
		if keys < 0 {
			if change != "insert" {
				t.Fatalf("%s\na row that stays is changed: %s", where, g)
			}
			out = append(out, rest)
			continue
		}
		cells := strings.SplitN(rest, " ", keys+1)
		key := strings.Join(cells[:keys], " ")
		old, there := rows[key]
		if there == (change == "insert") && !fresh || change == "withdraw" && old != rest {
			t.Fatalf("%s\n%s of %q, where there is %q", where, change, rest, old)
		}
		if rows[key] = rest; change == "withdraw" {
			delete(rows, key)
		}
	}
	for _, row := range rows {
		out = append(out, row)
	}
	slices.Sort(out)
	return out
}

// keyCells is the number of a result's columns up to the last one of its key.
func keyCells(p *plan.Plan) int {
	for _, o := range p.Ops {
		if o.Kind == plan.Project && len(o.Next) > 0 && o.Next[0].Kind == plan.Route {
			return slices.Max(append(slices.Clone(o.Keys), -1)) + 1
		}
	}
	return -1
}

func difference(got, want []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%d rows, wanted %d\n", len(got), len(want))
	shown := 0
	for i, j := 0, 0; (i < len(got) || j < len(want)) && shown < 12; {
		switch {
		case j == len(want) || i < len(got) && got[i] < want[j]:
			fmt.Fprintf(&b, "  not wanted: %s\n", got[i])
			i++
			shown++
		case i == len(got) || got[i] > want[j]:
			fmt.Fprintf(&b, "  missing:    %s\n", want[j])
			j++
			shown++
		default:
			i++
			j++
		}
	}
	return b.String()
}
