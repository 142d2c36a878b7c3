package eval

import (
	"bytes"
	"fmt"
	"math"
	"math/bits"

	"fiume/internal/core/column"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// Aggregate is a bound aggregate function. Its state is Words 64-bit words in a state.Groups; states
// of parts of the rows merge into the state of all of them in any order, with the same result.
type Aggregate struct {
	Name string
	Arg  *Expr // nil for COUNT(*)
	Type types.Type
	kind aggregateKind
}

type aggregateKind uint8

const (
	countRows   aggregateKind = iota // n
	countValues                      // n
	sumWhole                         // low, high (128 bits), n
	avgWhole                         // as sumWhole
	sumDouble                        // sum, compensation, n
	avgDouble                        // as sumDouble
	minWhole                         // value, n
	maxWhole
	minDouble
	maxDouble
	minText
	maxText
)

// AggregateNames are the functions that BindAggregate knows.
var AggregateNames = []string{"count", "sum", "avg", "min", "max"}

// BindAggregate makes an aggregate of a bound argument, nil for COUNT(*).
func BindAggregate(name string, arg *Expr) (*Aggregate, error) {
	a := &Aggregate{Name: name, Arg: arg}
	if name == "count" {
		a.Type, a.kind = bigint, countValues
		if arg == nil {
			a.kind = countRows
		}
		return a, nil
	}
	if arg == nil {
		return nil, fmt.Errorf("only COUNT takes *")
	}
	k := arg.Type.Kind
	switch name {
	case "sum", "avg":
		switch {
		case arg.Type.IsWhole():
			a.Type, a.kind = bigint, sumWhole
		case k == types.Double:
			a.Type, a.kind = double, sumDouble
		case k == types.Interval && name == "sum":
			a.Type, a.kind = interval, sumWhole
		default:
			return nil, ErrTypes
		}
		if name == "avg" {
			a.Type = double
			a.kind++
		}
	case "min", "max":
		a.Type = arg.Type
		switch {
		case arg.Type.Words():
			a.kind = minWhole
		case k == types.Double:
			a.kind = minDouble
		case k == types.Varchar:
			a.kind = minText
		default:
			return nil, ErrTypes
		}
		if name == "max" {
			a.kind++
		}
	}
	return a, nil
}

// Words is the size of the state.
func (a *Aggregate) Words() int {
	switch a.kind {
	case countRows, countValues:
		return 1
	case sumWhole, avgWhole, sumDouble, avgDouble:
		return 3
	}
	return 2
}

// Update adds rows to their groups: row i goes to entry groups[i], whose state begins at word at.
// v is nil for COUNT(*). A group below zero takes no row.
func (a *Aggregate) Update(g *state.Groups, at int, groups []int32, v *column.Vector) {
	w, width := g.Words, g.Width
	if a.kind == countRows {
		for _, e := range groups {
			if e >= 0 {
				w[int(e)*width+at]++
			}
		}
		return
	}
	nulls := v.Nulls
	for i, e := range groups {
		if e < 0 || nulls != nil && nulls[i] {
			continue
		}
		s := w[int(e)*width+at:]
		switch a.kind {
		case countValues:
			s[0]++
		case sumWhole, avgWhole:
			addWhole(s, v.I[i])
		case sumDouble, avgDouble:
			addDouble(s, v.F[i])
			s[2]++
		case minWhole:
			if x := v.I[i]; s[1] == 0 || x < int64(s[0]) {
				s[0] = uint64(x)
			}
			s[1]++
		case maxWhole:
			if x := v.I[i]; s[1] == 0 || x > int64(s[0]) {
				s[0] = uint64(x)
			}
			s[1]++
		case minDouble:
			if x := v.F[i]; s[1] == 0 || x < math.Float64frombits(s[0]) {
				s[0] = math.Float64bits(x)
			}
			s[1]++
		case maxDouble:
			if x := v.F[i]; s[1] == 0 || x > math.Float64frombits(s[0]) {
				s[0] = math.Float64bits(x)
			}
			s[1]++
		case minText, maxText:
			a.text(g, s, v.Text(i))
			s[1]++
		}
	}
}

func (a *Aggregate) text(g *state.Groups, s []uint64, x []byte) {
	if s[1] != 0 {
		c := bytes.Compare(x, g.GetText(s[0]))
		if c == 0 || (c < 0) != (a.kind == minText) {
			return
		}
	}
	s[0] = g.PutText(x)
}

func addWhole(s []uint64, x int64) {
	var carry uint64
	s[0], carry = bits.Add64(s[0], uint64(x), 0)
	s[1], _ = bits.Add64(s[1], uint64(x>>63), carry)
	s[2]++
}

// addDouble adds to a sum kept in two parts (Knuth, The Art of Computer Programming, volume 2,
// section 4.2.2, theorem B: the exact error of an addition), so that the sum does not depend on the
// order of its terms but for its last bits.
func addDouble(s []uint64, x float64) {
	sum := math.Float64frombits(s[0])
	t := sum + x
	b := t - sum
	err := (sum - (t - b)) + (x - b)
	s[0] = math.Float64bits(t)
	s[1] = math.Float64bits(math.Float64frombits(s[1]) + err)
}

// Merge adds the state of entry f of another table to entry e.
func (a *Aggregate) Merge(g *state.Groups, e uint32, from *state.Groups, f uint32, at int) {
	s, t := g.Of(e)[at:], from.Of(f)[at:]
	switch a.kind {
	case countRows, countValues:
		s[0] += t[0]
		return
	case sumWhole, avgWhole:
		var carry uint64
		s[0], carry = bits.Add64(s[0], t[0], 0)
		s[1], _ = bits.Add64(s[1], t[1], carry)
		s[2] += t[2]
		return
	case sumDouble, avgDouble:
		addDouble(s, math.Float64frombits(t[0]))
		s[1] = math.Float64bits(math.Float64frombits(s[1]) + math.Float64frombits(t[1]))
		s[2] += t[2]
		return
	}
	if t[1] == 0 {
		return
	}
	better := s[1] == 0
	switch a.kind {
	case minWhole:
		better = better || int64(t[0]) < int64(s[0])
	case maxWhole:
		better = better || int64(t[0]) > int64(s[0])
	case minDouble:
		better = better || math.Float64frombits(t[0]) < math.Float64frombits(s[0])
	case maxDouble:
		better = better || math.Float64frombits(t[0]) > math.Float64frombits(s[0])
	case minText, maxText:
		a.text(g, s, from.GetText(t[0]))
		better = false
	}
	if better {
		s[0] = t[0]
	}
	s[1] += t[1]
}

// Final writes the results of the entries into out, which has their number of values. A result that
// does not fit its type is given to fail, by its index.
func (a *Aggregate) Final(g *state.Groups, entries []uint32, at int, out *column.Vector, fail func(i int, reason string)) {
	n := len(entries)
	for i, e := range entries {
		s := g.Of(e)[at:]
		switch a.kind {
		case countRows, countValues:
			out.I[i] = int64(s[0])
			continue
		case sumWhole, sumDouble, avgWhole, avgDouble:
			if s[2] == 0 {
				out.SetNull(i, n)
				continue
			}
		default:
			if s[1] == 0 {
				out.Set(i, n, types.Value{})
				continue
			}
		}
		switch a.kind {
		case sumWhole:
			if s[1] != uint64(int64(s[0])>>63) {
				fail(i, "overflow: the sum does not fit "+a.Type.String())
			}
			out.I[i] = int64(s[0])
		case avgWhole:
			out.F[i] = wide(s[0], s[1]) / float64(s[2])
		case sumDouble:
			out.F[i] = total(s)
		case avgDouble:
			out.F[i] = total(s) / float64(s[2])
		case minWhole, maxWhole:
			out.I[i] = int64(s[0])
		case minDouble, maxDouble:
			out.F[i] = math.Float64frombits(s[0])
		case minText, maxText:
			out.SetText(i, g.GetText(s[0]))
		}
	}
}

// wide turns a 128-bit whole number into a double. Its size is converted, not its two's complement,
// whose low half would lose the digits of small negative numbers.
func wide(lo, hi uint64) float64 {
	if hi>>63 == 0 {
		return float64(hi)*(1<<64) + float64(lo)
	}
	var borrow uint64
	lo, borrow = bits.Sub64(0, lo, 0)
	hi, _ = bits.Sub64(0, hi, borrow)
	return -(float64(hi)*(1<<64) + float64(lo))
}

func total(s []uint64) float64 {
	sum, rest := math.Float64frombits(s[0]), math.Float64frombits(s[1])
	if math.IsNaN(rest) || math.IsInf(rest, 0) {
		return sum
	}
	return sum + rest
}
