package state

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// TestChains adds, removes and drops rows at random, in disorder, and holds the chains of every key against a
// plain list; now and then the store is written and read back.
func TestChains(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	type row struct {
		key  string
		time int64
		text string
	}
	for _, width := range []int64{10, 100, 0} {
		c, rows, least := NewChains(width), []row{}, int64(0)
		for step := range 20_000 {
			switch n := r.IntN(100); {
			case n < 70:
				x := row{fmt.Sprint("k", r.IntN(50)), least + r.Int64N(2000), fmt.Sprint(step)}
				c.Add(Hash([]byte(x.key)), []byte(x.key), x.time, int64(step), 3, []byte(x.text))
				rows = append(rows, x)
			case n < 80 && len(rows) > 0:
				i := r.IntN(len(rows))
				x := rows[i]
				ref := c.Equal(Hash([]byte(x.key)), []byte(x.key), x.time, []byte(x.text))
				if ref == 0 {
					t.Fatalf("width %d, step %d: %v is not there", width, step, x)
				}
				c.Remove(ref)
				rows = slices.Delete(rows, i, i+1)
			case n < 90 && width > 0:
				least += r.Int64N(500)
				before := len(rows)
				limit := c.Number(least) * width
				rows = slices.DeleteFunc(rows, func(x row) bool { return x.time < limit })
				if got := c.Drop(least); got != before-len(rows) {
					t.Fatalf("dropped %d rows, wanted %d", got, before-len(rows))
				}
			case n == 99 && r.IntN(20) == 0:
				data := c.AppendTo(nil)
				c = NewChains(width)
				rest, err := ReadRows(data, func(hash uint64, key []byte, row Row, columns []byte) {
					c.Add(hash, key, row.Time, row.Pos, row.From, columns)
				})
				if err != nil || len(rest) > 0 {
					t.Fatal(err, len(rest))
				}
				for cut := range min(len(data), 64) {
					if _, err := ReadRows(data[:cut], func(uint64, []byte, Row, []byte) {}); err == nil {
						t.Fatalf("a store of %d rows, cut to %d bytes, is read", len(rows), cut)
					}
				}
			case n == 98:
				c.Compact()
			}
			if step%50 > 0 {
				continue
			}
			key := fmt.Sprint("k", r.IntN(50))
			var got, want []string
			newest := int64(1 << 62)
			for ref := c.Find(Hash([]byte(key)), []byte(key)); ref != 0; ref = c.Next(c.Get(ref)) {
				x := c.Get(ref)
				if c.Number(x.Time) > newest {
					t.Fatal("a chain goes forward in time")
				}
				if newest = c.Number(x.Time); x.Matches >= 0 {
					got = append(got, fmt.Sprint(x.Time, " ", string(c.Columns(ref)), " ", x.From))
				}
			}
			for _, x := range rows {
				if x.key == key {
					want = append(want, fmt.Sprint(x.time, " ", x.text, " 3"))
				}
			}
			slices.Sort(got)
			slices.Sort(want)
			if !slices.Equal(got, want) || c.Len() != len(rows) {
				t.Fatalf("width %d, step %d: %s has %v, wanted %v; %d rows of %d", width, step, key, got, want, c.Len(), len(rows))
			}
		}
		if width > 0 {
			c.Drop(1 << 40)
			if c.Len() != 0 || c.Bytes() > 4096 {
				t.Errorf("%d rows and %d bytes are left", c.Len(), c.Bytes())
			}
		}
	}
}

// TestTable changes the rows of a table at random and holds it against a map; what is written is read back,
// and replaced rows give their memory back.
func TestTable(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	p, want := &TablePart{}, map[string]string{}
	value := func(n int) string { return fmt.Sprintf("%0*d", 10+r.IntN(200), n) }
	check := func(p *TablePart) {
		t.Helper()
		n := 0
		p.Each(func(x TableRow) {
			n++
			if want[string(x.Key)] != string(x.Columns) || x.Generation != 7 || x.From != 2 {
				t.Fatalf("%s is %q", x.Key, x.Columns)
			}
		})
		if n != len(want) || p.Len() != n {
			t.Fatalf("%d rows, %d, wanted %d", n, p.Len(), len(want))
		}
	}
	for step := range 300_000 {
		key := fmt.Sprint("key ", r.IntN(3000))
		hash := Hash([]byte(key))
		row, ok := p.Get(hash, []byte(key))
		if x, there := want[key]; there != ok || ok && string(row.Columns) != x {
			t.Fatalf("step %d: %s is %q, %v", step, key, row.Columns, ok)
		}
		switch r.IntN(5) {
		case 0:
			if _, ok := p.Delete(hash, []byte(key)); ok != (want[key] != "") {
				t.Fatal(ok)
			}
			delete(want, key)
		case 1:
			if p.Touch(hash, []byte(key), []byte(want[key]), 7, int64(step), 2) != ok {
				t.Fatal("a row is not as it was")
			}
		default:
			want[key] = value(step)
			p.Put(TableRow{Hash: hash, Key: []byte(key), Pos: int64(step), From: 2, Generation: 7, Columns: []byte(want[key])})
		}
		if step%100_000 == 0 {
			check(p)
		}
	}
	check(p)
	if live := 3000 * 150; p.Bytes() > 20*live {
		t.Errorf("%d bytes are held for %d rows", p.Bytes(), p.Len())
	}
	data := p.AppendTo(nil)
	back := &TablePart{}
	if err := ReadTable(data, func(x TableRow) { back.Put(x) }); err != nil {
		t.Fatal(err)
	}
	check(back)
	for cut := range 200 {
		if ReadTable(data[:cut], func(TableRow) {}) == nil {
			t.Fatalf("a table cut to %d bytes is read", cut)
		}
	}
}

// TestLayout writes rows of every type and reads them back column by column.
func TestLayout(t *testing.T) {
	text := types.Of(types.Varchar)
	row := types.Type{Kind: types.Row, Fields: []types.Field{{Name: "a", Type: text}, {Name: "b", Type: types.Of(types.BigInt)}}}
	all := []types.Type{text, types.Of(types.BigInt), types.Of(types.Double), types.Of(types.Boolean), types.DecimalOf(30, 4), types.Of(types.Timestamp), types.Of(types.JSON), row,
		{Kind: types.Array, Fields: []types.Field{{Type: text}}}, types.Of(types.Varbinary)}
	values := []types.Value{{Kind: types.Varchar, S: "Ölberg"}, {Kind: types.BigInt, I: -5}, {Kind: types.Double, F: 1.25}, {Kind: types.Boolean, I: 1},
		types.DecimalValue(types.NumOfWords(-1, ^uint64(0)-4), 4), {Kind: types.Timestamp, I: 1_779_000_000_000_000}, {Kind: types.JSON, S: `{"a":1}`},
		{Kind: types.Row, Row: []types.Value{{Kind: types.Varchar, S: "x"}, {Kind: types.BigInt, I: 9}}}, {Kind: types.Array, Row: []types.Value{{Kind: types.Varchar, S: "y"}, {}}}, {Kind: types.Varbinary, S: "\x00\xff"}}
	var fields []types.Field
	b := &column.Batch{N: 3, Time: []int64{0, 0, 0}}
	var cols []int
	for i, ty := range all {
		fields = append(fields, types.Field{Name: fmt.Sprint("c", i), Type: ty})
		v := column.New(ty)
		v.Append(values[i])
		v.Append(types.Value{})
		v.Append(values[i])
		b.Cols = append(b.Cols, v)
		cols = append(cols, i)
	}
	l := NewLayout(fields, cols)
	var rows [][]byte
	for i := range b.N {
		rows = append(rows, l.Append(nil, b, i))
		if !l.Valid(rows[i]) || l.Valid(rows[i][:l.Bytes()-1]) {
			t.Error("what is a row of the layout and what is none")
		}
	}
	rows = append(rows, nil)
	for k := range cols {
		v := &column.Vector{}
		for range 2 { // the vector is used again
			l.Gather(k, rows, v)
		}
		for i, want := range []types.Value{values[k], {}, values[k], {}} {
			if got := v.Value(i); string(types.AppendText(nil, got)) != string(types.AppendText(nil, want)) || got.IsNull() != want.IsNull() {
				t.Errorf("%s: %v, wanted %v", all[k], got, want)
			}
		}
	}
}
