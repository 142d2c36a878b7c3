package step

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// rowsOf is a node that keeps what it is pushed, as text.
type rowsOf []string

func (r *rowsOf) Push(b *column.Batch) {
	for i := range b.N {
		var cells []string
		for _, c := range b.Cols {
			cells = append(cells, string(types.AppendText(nil, c.Value(i))))
		}
		*r = append(*r, strings.Join(cells, " ")+fmt.Sprintf(" @%d", b.Time[i]))
	}
}

func describe([]types.Field, *column.Batch, int) string { return "row" }

// windowOp makes a window of ten time units that counts and sums n by k.
func windowOp(t testing.TB) *plan.Op {
	t.Helper()
	k, n := eval.Column(0, types.Of(types.Varchar)), eval.Column(1, types.Of(types.BigInt))
	count, err := eval.BindAggregate(eval.AggregateCall{Name: "count", Star: true})
	if err != nil {
		t.Fatal(err)
	}
	sum, err := eval.BindAggregate(eval.AggregateCall{Name: "sum", Args: []*eval.Expr{n}})
	if err != nil {
		t.Fatal(err)
	}
	last, err := eval.BindAggregate(eval.AggregateCall{Name: "max", Args: []*eval.Expr{k}})
	if err != nil {
		t.Fatal(err)
	}
	o := &plan.Op{Kind: plan.Window, Step: "w", Input: &plan.Op{}, Agg: &plan.Aggregation{Frame: plan.Frame{Length: 10, Step: 10, Offset: 3}, Keys: []*eval.Expr{k}, Aggregates: []*eval.Aggregate{count, sum, last}}}
	for _, k := range []types.Kind{types.Varchar, types.Timestamp, types.Timestamp, types.BigInt, types.BigInt, types.Varchar} {
		o.Fields = append(o.Fields, types.Field{Name: fmt.Sprint("c", len(o.Fields)), Type: types.Of(k)})
	}
	return o
}

// batchOf makes rows of (k, n) at event times, with stamps.
func batchOf(times, stamps []int64, k []string, n []int64) *column.Batch {
	kv, nv := column.New(types.Of(types.Varchar)), column.New(types.Of(types.BigInt))
	kv.Resize(len(times))
	nv.Resize(len(times))
	for i := range times {
		kv.SetText(i, []byte(k[i]))
		nv.I[i] = n[i]
	}
	return &column.Batch{N: len(times), Cols: []*column.Vector{kv, nv}, Time: times, Stamp: stamps}
}

// TestWindowEdges: [opens, closes), the offset, negative times, and the stamp that makes a row late.
func TestWindowEdges(t *testing.T) {
	o := windowOp(t)
	c := NewContext(1, describe)
	p := &Partial{Op: o, C: c, Groups: &state.Groups{Width: EntryWords(o)}}
	var out rowsOf
	w := NewAggregator(o, c, &out, 0, 1)
	const never = types.MinTime
	p.Push(batchOf(
		[]int64{3, 12, 13, 2, -7, -8, 5, 5, 5},
		[]int64{never, never, never, never, never, never, 12, 13, 14}, // the window [3, 13) is open at the stamp 12 and closed at 13
		[]string{"a", "a", "a", "a", "a", "a", "b", "b", "b"}, []int64{1, 2, 4, 8, 16, 32, 64, 128, 256}))
	w.Merge(&Delivery{Groups: p.Groups})
	if n := c.Counts[0]; n.In != 9 || n.Late != 2 || n.Held != 7 {
		t.Errorf("%+v", n)
	}
	if len(c.Samples) != 2 || c.Samples[0].LateBy != 0 || c.Samples[1].LateBy != 1 {
		t.Errorf("%+v", c.Samples)
	}
	w.Advance(Watermarks{Of: [2]int64{2}, Newest: types.MaxTime})
	if len(out) != 1 {
		t.Errorf("at 2: %q", out)
	}
	w.Advance(Watermarks{Of: [2]int64{3}, Newest: types.MaxTime})
	w.Advance(Watermarks{Of: [2]int64{12}, Newest: types.MaxTime})
	if len(out) != 2 {
		t.Errorf("at 12: %q", out)
	}
	w.Advance(Watermarks{Of: [2]int64{13}, Newest: types.MaxTime})
	w.Advance(Watermarks{Of: [2]int64{types.MaxTime}, Newest: types.MaxTime})
	at := func(us int64) string { return string(types.AppendTimestamp(nil, us)) }
	want := []string{
		fmt.Sprintf("a %s %s 1 32 a @-8", at(-17), at(-7)), fmt.Sprintf("a %s %s 2 24 a @2", at(-7), at(3)),
		fmt.Sprintf("a %s %s 2 3 a @12", at(3), at(13)), fmt.Sprintf("b %s %s 1 64 b @12", at(3), at(13)), fmt.Sprintf("a %s %s 1 4 a @22", at(13), at(23)),
	}
	slices.Sort(want)
	slices.Sort(out)
	if !slices.Equal(out, want) {
		t.Errorf("%q\nwanted\n%q", []string(out), want)
	}
	if n := c.Counts[0]; n.Open() != 0 || n.Held != 0 || n.Absorbed != 7 || n.Made != 5 {
		t.Errorf("%+v", n)
	}
	// What comes for a window that is closed, though its stamp is early: its split was idle.
	p.Groups.Reset()
	p.Push(batchOf([]int64{5}, nil, []string{"a"}, []int64{1}))
	w.Merge(&Delivery{Groups: p.Groups})
	if n := c.Counts[0]; n.Late != 3 || n.Open() != 0 {
		t.Errorf("%+v", n)
	}
}

// TestWindowRestore writes the state of some tasks and reads it with another number of tasks: all
// results come, each once, in canonical order within a task.
func TestWindowRestore(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	o := windowOp(t)
	var times, n []int64
	var k []string
	for range 3000 {
		times, n, k = append(times, int64(r.IntN(60))), append(n, int64(r.IntN(100))), append(k, fmt.Sprint("P", r.IntN(200)))
	}
	run := func(tasks int, snaps [][]byte) (*Context, []Aggregator, *rowsOf) {
		c := NewContext(1, describe)
		out := &rowsOf{}
		var ws []Aggregator
		for task := range tasks {
			w := NewAggregator(o, c, out, task, tasks)
			for _, s := range snaps {
				if err := w.Restore(s); err != nil {
					t.Fatal(err)
				}
			}
			ws = append(ws, w)
		}
		return c, ws, out
	}
	feed := func(c *Context, ws []Aggregator, from, to int) {
		p := &Partial{Op: o, C: c, Groups: &state.Groups{Width: EntryWords(o)}}
		p.Push(batchOf(times[from:to], nil, k[from:to], n[from:to]))
		for _, w := range ws {
			w.Merge(&Delivery{Groups: p.Groups})
		}
	}
	c, ws, whole := run(1, nil)
	feed(c, ws, 0, len(times))
	ws[0].Advance(Watermarks{Of: [2]int64{types.MaxTime}, Newest: types.MaxTime})
	for _, tasks := range [][2]int{{1, 1}, {1, 4}, {3, 2}, {5, 1}, {8, 8}} {
		c, ws, _ := run(tasks[0], nil)
		feed(c, ws, 0, 1700)
		var snaps [][]byte
		held := int64(0)
		for _, w := range ws {
			snaps = append(snaps, w.Snapshot())
		}
		c2, ws2, out := run(tasks[1], snaps)
		for _, w := range ws2 {
			for _, g := range w.(*Window).slices {
				for e := range uint32(g.Len()) {
					held += int64(g.Of(e)[0])
				}
			}
		}
		if held != 1700 {
			t.Errorf("%v: %d rows are held after the restart", tasks, held)
		}
		feed(c2, ws2, 1700, len(times))
		for _, w := range ws2 {
			w.Advance(Watermarks{Of: [2]int64{types.MaxTime}, Newest: types.MaxTime})
		}
		got, want := slices.Clone(*out), slices.Clone(*whole)
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Errorf("%v: %d results, wanted %d", tasks, len(got), len(want))
		}
		for _, s := range snaps {
			for _, cut := range []int{0, 11, len(s) / 2, len(s) - 1} {
				w := NewAggregator(o, c, out, 0, 1)
				if err := w.Restore(s[:cut]); err == nil && cut < len(s) {
					t.Errorf("a state cut at %d of %d bytes is read", cut, len(s))
				}
			}
		}
	}
	other := windowOp(t)
	other.Agg.Aggregates = other.Agg.Aggregates[:1]
	if err := NewAggregator(other, c, whole, 0, 1).Restore(func() []byte {
		c, ws, _ := run(1, nil)
		feed(c, ws, 0, 10)
		return ws[0].Snapshot()
	}()); err == nil || !strings.Contains(err.Error(), "other aggregates") {
		t.Errorf("the state of other aggregates is read: %v", err)
	}
}

// TestRouteRejects: a branch whose condition cannot be computed for a row rejects the row there; the
// other rows go on, and the ledger balances.
func TestRouteRejects(t *testing.T) {
	n := eval.Column(1, types.Of(types.BigInt))
	ten := eval.Const(types.Of(types.BigInt), types.Value{Kind: types.BigInt, I: 10})
	div, err := eval.Arithmetic("DIV", ten, n)
	if err != nil {
		t.Fatal(err)
	}
	cond, err := eval.Compare(">", div, eval.Const(types.Of(types.BigInt), types.Value{Kind: types.BigInt, I: 3}))
	if err != nil {
		t.Fatal(err)
	}
	o := &plan.Op{Kind: plan.Route, Input: &plan.Op{}, Branches: []plan.Branch{{Cond: cond}, {}}}
	c := NewContext(1, describe)
	var yes, rest rowsOf
	r := &Route{Op: o, C: c, Branches: []Node{&yes, &rest}}
	r.Push(batchOf([]int64{1, 2, 3, 4}, nil, []string{"a", "b", "c", "d"}, []int64{1, 0, 5, 2}))
	if fmt.Sprint(yes, rest) != "[a 1 @1 d 2 @4] [c 5 @3]" {
		t.Errorf("%q %q", yes, rest)
	}
	if n := c.Counts[0]; n.In != 4 || n.Passed != 3 || n.Rejected != 1 || n.Open() != 0 {
		t.Errorf("%+v", n)
	}
	if len(c.Samples) != 1 || c.Samples[0].Reason != "division by zero" {
		t.Errorf("%+v", c.Samples)
	}
}

func BenchmarkPartial(b *testing.B) {
	o := windowOp(b)
	c := NewContext(1, describe)
	p := &Partial{Op: o, C: c, Groups: &state.Groups{Width: EntryWords(o)}}
	const n = 4096
	times, nums, keys := make([]int64, n), make([]int64, n), make([]string, n)
	for i := range n {
		times[i], nums[i], keys[i] = int64(i/500), int64(i), fmt.Sprintf("C%05d", i*31%1000)
	}
	batch := batchOf(times, nil, keys, nums)
	for b.Loop() {
		p.Groups.Reset()
		p.Push(batch)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*n), "ns/row")
}
