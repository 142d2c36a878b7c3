package state

import (
	"bytes"
	"cmp"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

var keyTypes = []types.Kind{types.Varchar, types.BigInt, types.Double, types.Boolean, types.Timestamp}

func randomValue(r *rand.Rand, k types.Kind) types.Value {
	if r.IntN(6) == 0 {
		return types.Value{Kind: types.Null}
	}
	v := types.Value{Kind: k}
	switch k {
	case types.Varchar:
		v.S = []string{"", "a", "ab", "a\x00", "a\x00b", "\x00", "\x00\xff", "z", "größe", "\xff", strings.Repeat("q", 40)}[r.IntN(11)]
	case types.Double:
		v.F = []float64{0, -1.5, 1.5, math.Inf(1), math.Inf(-1), 1e300, -1e-300, 42}[r.IntN(8)]
	case types.Boolean:
		v.I = r.Int64N(2)
	default:
		v.I = []int64{0, 1, -1, math.MaxInt64, math.MinInt64, 1_779_000_000_000_000}[r.IntN(6)]
	}
	return v
}

// compareRows orders rows as their keys should be: NULL first, then by value, column by column.
func compareRows(a, b []types.Value) int {
	for i := range a {
		x, y := a[i], b[i]
		c := 0
		switch {
		case x.IsNull() || y.IsNull():
			c = cmp.Compare(btoi(!x.IsNull()), btoi(!y.IsNull()))
		case x.Kind == types.Varchar:
			c = cmp.Compare(x.S, y.S)
		case x.Kind == types.Double:
			c = cmp.Compare(x.F, y.F)
		default:
			c = cmp.Compare(x.I, y.I)
		}
		if c != 0 {
			return c
		}
	}
	return 0
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// TestKeys: encoded keys compare as their values do, and read back as the same values.
func TestKeys(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 300 {
		kinds := make([]types.Kind, 1+r.IntN(3))
		for i := range kinds {
			kinds[i] = keyTypes[r.IntN(len(keyTypes))]
		}
		const n = 30
		rows := make([][]types.Value, n)
		cols := make([]*column.Vector, len(kinds))
		for c, k := range kinds {
			cols[c] = column.New(types.Of(k))
			cols[c].Resize(n)
		}
		for i := range rows {
			for c, k := range kinds {
				v := randomValue(r, k)
				rows[i] = append(rows[i], v)
				cols[c].Set(i, n, v)
			}
		}
		var keys Keys
		keys.Encode(cols, n)
		for i := range rows {
			for j := range rows {
				want := compareRows(rows[i], rows[j])
				if got := bytes.Compare(keys.Key(i), keys.Key(j)); got != want {
					t.Fatalf("%v against %v: %d, wanted %d", rows[i], rows[j], got, want)
				}
				if (keys.Hashes[i] == keys.Hashes[j]) != (want == 0) {
					t.Fatalf("hashes of %v and %v", rows[i], rows[j])
				}
			}
		}
		back := make([]*column.Vector, len(kinds))
		for c, k := range kinds {
			back[c] = column.New(types.Of(k))
			back[c].Resize(n)
		}
		for i := range rows {
			DecodeKey(keys.Key(i), back, i, n)
		}
		for i := range rows {
			var got []types.Value
			for c := range kinds {
				got = append(got, back[c].Value(i))
			}
			if compareRows(rows[i], got) != 0 {
				t.Fatalf("%v reads back as %v", rows[i], got)
			}
		}
	}
}

// TestGroups compares the table with a map, through growth, emptying and being written and read.
func TestGroups(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	g := &Groups{Width: 2}
	for round := range 6 {
		type id struct {
			tag int64
			key string
		}
		want := map[id]uint64{}
		texts := map[id]string{}
		var keys Keys
		col := column.New(types.Of(types.Varchar))
		col.Resize(1)
		for range 1 + r.IntN(20000) {
			k := id{int64(r.IntN(5)) * 1000, fmt.Sprint("P", r.IntN(1+r.IntN(3000)))}
			col.Data = col.Data[:0]
			col.SetText(0, []byte(k.key))
			keys.Encode([]*column.Vector{col}, 1)
			e := g.Find(keys.Hashes[0], k.tag, keys.Key(0))
			if (g.Of(e)[0] == 0) != (want[k] == 0) {
				t.Fatalf("%v: entry %d has %d, wanted %d", k, e, g.Of(e)[0], want[k])
			}
			g.Of(e)[0]++
			want[k]++
			if r.IntN(3) == 0 {
				s := strings.Repeat("t", r.IntN(9))
				g.Of(e)[1] = g.PutText([]byte(s))
				texts[k] = s
			}
		}
		check := func(g *Groups) {
			t.Helper()
			if g.Len() != len(want) {
				t.Fatalf("round %d: %d entries, wanted %d", round, g.Len(), len(want))
			}
			for e := range uint32(g.Len()) {
				k := id{g.Tags[e], string(g.Key(e)[1:])}
				if g.Of(e)[0] != want[k] {
					t.Fatalf("%v: %d, wanted %d", k, g.Of(e)[0], want[k])
				}
				if s, ok := texts[k]; ok && string(g.GetText(g.Of(e)[1])) != s {
					t.Fatalf("%v: %q, wanted %q", k, g.GetText(g.Of(e)[1]), s)
				}
				if again := g.Find(g.Hashes[e], g.Tags[e], g.Key(e)); again != e {
					t.Fatalf("%v is entry %d and %d", k, e, again)
				}
			}
		}
		check(g)
		b := g.AppendTo([]byte("head"))
		read, rest, err := ReadGroups(append(b[4:len(b):len(b)], "rest"...))
		if err != nil || string(rest) != "rest" {
			t.Fatalf("%q %v", rest, err)
		}
		check(read)
		for _, cut := range []int{0, 3, 15, 16, len(b) / 2, len(b) - 5} {
			if _, _, err := ReadGroups(b[4:][:cut]); err == nil {
				t.Fatalf("a state cut at %d of %d bytes is read", cut, len(b)-4)
			}
		}
		order := g.Sorted(nil)
		if !slices.IsSortedFunc(order, func(a, b uint32) int {
			return cmp.Or(cmp.Compare(RangeOf(g.Hashes[a]), RangeOf(g.Hashes[b])), bytes.Compare(g.Key(a), g.Key(b)))
		}) {
			t.Fatal("not in canonical order")
		}
		g.Reset()
		if g.Len() != 0 {
			t.Fatal("not empty")
		}
	}
}

// TestTasksShareRanges: every key range has one task, and the shares are even.
func TestTasksShareRanges(t *testing.T) {
	for n := 1; n <= 16; n++ {
		share := make([]int, n)
		for r := range KeyRanges {
			share[TaskOf(r, n)]++
		}
		if slices.Max(share)-slices.Min(share) > 1 {
			t.Errorf("%d tasks: %v", n, share)
		}
	}
}

func BenchmarkFind(b *testing.B) {
	g := &Groups{Width: 3}
	var keys Keys
	col := column.New(types.Of(types.Varchar))
	const n = 4096
	col.Resize(n)
	for i := range n {
		col.SetText(i, fmt.Appendf(nil, "C%05d", i*7919%20000))
	}
	for b.Loop() {
		keys.Encode([]*column.Vector{col}, n)
		for i := range n {
			g.Words[int(g.Find(keys.Hashes[i], 0, keys.Key(i)))*3]++
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*n), "ns/row")
}

// TestFrozen writes tables in one goroutine while another goes on changing them: what is written is the table as it
// was when it was frozen.
func TestFrozen(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	for round := range 60 {
		g := &Groups{Width: 1 + r.IntN(5)}
		key := func(i int) []byte { return []byte(fmt.Sprint("k", i)) }
		add := func(i int) {
			k := key(i)
			e := g.Find(Hash(k), int64(i%3), k)
			g.Touch(e)
			for w := range g.Of(e) {
				g.Of(e)[w] += uint64(i + w)
			}
		}
		n := 1 + r.IntN(30_000)
		for range n {
			add(r.IntN(n))
		}
		for range 3 {
			want := g.AppendTo(nil)
			f := g.Freeze()
			if f.Encoded() != len(want) {
				t.Fatalf("%d bytes, said %d", len(want), f.Encoded())
			}
			got := make(chan []byte)
			if round%5 > 0 { // else nobody writes it
				go func() { got <- f.AppendTo(nil) }()
			}
			for range r.IntN(2 * n) {
				add(r.IntN(2 * n))
			}
			if round%3 == 0 {
				g.Reset()
				for range 100 {
					add(r.IntN(n))
				}
			}
			if round%5 > 0 && !bytes.Equal(<-got, want) {
				t.Fatal("what was written is not the table as it was")
			}
		}
	}
	g := &Groups{Width: 1}
	g.PutText([]byte("text"))
	if g.Freeze() != nil {
		t.Error("a table with texts was frozen")
	}
}
