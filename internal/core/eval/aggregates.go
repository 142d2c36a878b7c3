package eval

import (
	"bytes"
	"fmt"
	"math"
	"math/big"
	"math/bits"
	"slices"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// Aggregate is a bound aggregate function. Its state is Words 64-bit words in a state.Groups; states
// of parts of the rows merge into the state of all of them in any order, with the same result.
type Aggregate struct {
	Name     string // with all that is fixed in it
	Arg      *Expr  // nil for COUNT(*)
	By       *Expr  // what orders the rows: of ARG_MAX, ARG_MIN and ORDER BY; nil: event time
	Filter   *Expr  // rows where it is not true are left out; nil: none
	Distinct bool   // equal values count once
	Type     types.Type
	Unused   bool // nobody reads the result

	kind      aggregateKind
	desc      bool
	separator string  // LISTAGG
	fraction  float64 // of the percentiles
	inner     *Aggregate
}

// Rows are the columns that an update reads.
type Rows struct {
	Values *column.Vector // of Arg; nil for COUNT(*)
	By     *column.Vector // of By, or nil
	Filter *column.Vector // of Filter, or nil
	Batch  *column.Batch
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
	sumDecimal   // low, middle, high (192 bits), n
	avgDecimal   // as sumDecimal
	minDecimal   // low, high, n
	maxDecimal   //
	variance     // n, mean, sum of squared differences
	boolAnd      // value, n
	boolOr       //
	firstValue   // text (place in event order, value), room
	lastValue    //
	argMax       // text (By, place, value), room
	argMin       //
	list         // text (entries of place and value), room
	percentile   // text (doubles), room
	sketch       // text (buckets), room
	distinctHash // text (hashes or registers), room, n
	distinct     // text (slots), room, n
	bag          // as distinct; the texts end with the number of times that a value is there
)

// Counts says whether the aggregate is a number of rows or of values, whatever these are.
func (a *Aggregate) Counts() bool {
	switch a.kind {
	case countRows, countValues, distinctHash:
		return true
	case distinct:
		return a.inner.Counts()
	}
	return false
}

// AggregateCall is a call of an aggregate function with bound arguments.
type AggregateCall struct {
	Name     string
	Star     bool
	Distinct bool
	Args     []*Expr
	Order    []*Expr // ORDER BY in the call, or WITHIN GROUP
	Desc     bool
	Filter   *Expr
}

// IsAggregate says whether a function is an aggregate.
func IsAggregate(name string) bool {
	f := functions[name]
	return f != nil && f.Kind == Aggregating
}

// BindAggregate makes an aggregate of a call.
func BindAggregate(c AggregateCall) (*Aggregate, error) {
	a := &Aggregate{Name: c.Name, Filter: c.Filter}
	args := c.Args
	want := 1
	switch c.Name {
	case "arg_max", "arg_min", "approx_percentile":
		want = 2
	case "listagg":
		want = len(args)
		if want < 1 || want > 2 {
			want = 2
		}
	}
	if c.Star {
		if c.Name != "count" {
			return nil, fmt.Errorf("only COUNT takes *")
		}
		a.Type, a.kind = bigint, countRows
		return a, nil
	}
	if len(args) != want {
		return nil, ErrTypes
	}
	switch {
	case c.Name == "percentile_cont" && len(c.Order) != 1:
		return nil, fmt.Errorf("write PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY x)")
	case c.Order != nil && c.Name != "listagg" && c.Name != "array_agg" && c.Name != "percentile_cont":
		return nil, fmt.Errorf("ORDER BY stands in ARRAY_AGG, LISTAGG and PERCENTILE_CONT")
	case len(c.Order) > 1:
		return nil, fmt.Errorf("an aggregate is ordered by one value")
	case len(c.Order) == 1:
		a.By, a.desc = c.Order[0], c.Desc
	}
	a.Arg = args[0]
	if a.Arg.Type.Kind == types.Null {
		a.Arg = Cast(a.Arg, bigint)
	}
	if err := a.resolve(args); err != nil {
		return nil, err
	}
	if c.Distinct {
		switch a.kind {
		case minWhole, maxWhole, minDouble, maxDouble, minText, maxText, minDecimal, maxDecimal, boolAnd, boolOr, distinctHash:
			return a, nil // equal values make no difference
		case firstValue, lastValue, argMax, argMin:
			return nil, fmt.Errorf("DISTINCT has no meaning here")
		case list:
			if a.By != nil {
				return nil, fmt.Errorf("DISTINCT values are given in their own order; leave ORDER BY out")
			}
		}
		inner := *a
		a.inner, a.kind, a.Distinct = &inner, distinct, true
		a.Name += " distinct"
		inner.Filter = nil
	}
	return a, nil
}

// constDouble reads a constant fraction.
func constFraction(e *Expr) (float64, error) {
	d := Cast(e, double)
	if !e.Type.IsNumber() || d.Op != OpConst || !(d.Value.F >= 0 && d.Value.F <= 1) {
		return 0, fmt.Errorf("the fraction must be a number from 0 to 1 that is written out")
	}
	return d.Value.F, nil
}

func (a *Aggregate) resolve(args []*Expr) error {
	t := a.Arg.Type
	k := t.Kind
	pick := func(typ types.Type, kind aggregateKind) error {
		a.Type, a.kind = typ, kind
		return nil
	}
	switch a.Name {
	case "count":
		return pick(bigint, countValues)
	case "sum", "avg":
		avg := aggregateKind(btoi(a.Name == "avg"))
		switch {
		case t.IsWhole() && avg == 1:
			return pick(double, avgWhole)
		case t.IsWhole():
			return pick(bigint, sumWhole)
		case k == types.Double:
			return pick(double, sumDouble+avg)
		case k == types.Decimal && avg == 1:
			scale := min(int(t.Scale)+4, types.MaxPrecision)
			return pick(types.DecimalOf(min(int(t.Precision)+4, types.MaxPrecision), scale), avgDecimal)
		case k == types.Decimal:
			return pick(types.DecimalOf(types.MaxPrecision, int(t.Scale)), sumDecimal)
		case k == types.Interval && avg == 0:
			return pick(interval, sumWhole)
		}
	case "min", "max":
		more := aggregateKind(btoi(a.Name == "max"))
		switch {
		case t.Words():
			return pick(t, minWhole+more)
		case k == types.Double:
			return pick(t, minDouble+more)
		case k == types.Varchar, k == types.Varbinary:
			return pick(t, minText+more)
		case k == types.Decimal:
			return pick(t, minDecimal+more)
		}
	case "var_pop", "var_samp", "stddev_pop", "stddev_samp":
		if t.IsNumber() {
			a.Arg = Cast(a.Arg, double)
			return pick(double, variance)
		}
	case "bool_and", "bool_or":
		if k == types.Boolean {
			return pick(boolean, boolAnd+aggregateKind(btoi(a.Name == "bool_or")))
		}
	case "first_value":
		return pick(t, firstValue)
	case "last_value":
		return pick(t, lastValue)
	case "arg_max", "arg_min":
		a.By = args[1]
		if a.By.Type.IsNested() || a.By.Type.Kind == types.JSON {
			return ErrTypes
		}
		return pick(t, argMax+aggregateKind(btoi(a.Name == "arg_min")))
	case "array_agg":
		return pick(types.ArrayOf(t), list)
	case "listagg":
		if !CanCast(t, varchar) {
			return ErrTypes
		}
		a.Arg = Cast(a.Arg, varchar)
		if len(args) == 2 {
			s := args[1]
			if s.Op != OpConst || s.Type.Kind != types.Varchar {
				return fmt.Errorf("the separator must be a text that is written out")
			}
			a.separator = s.Value.S
			a.Name += " " + s.Value.S
		}
		return pick(varchar, list)
	case "percentile_cont", "approx_percentile":
		f := args[len(args)-1]
		kind := sketch
		if a.Name == "percentile_cont" {
			a.Arg, a.By, kind = a.By, nil, percentile
		}
		if !a.Arg.Type.IsNumber() {
			return ErrTypes
		}
		a.Arg = Cast(a.Arg, double)
		var err error
		if a.fraction, err = constFraction(f); err != nil {
			return err
		}
		if a.desc {
			a.fraction = 1 - a.fraction
		}
		a.Name = fmt.Sprintf("%s %v", a.Name, a.fraction)
		return pick(double, kind)
	case "approx_count_distinct":
		return pick(bigint, distinctHash)
	}
	return ErrTypes
}

// Words is the size of the state.
func (a *Aggregate) Words() int {
	switch a.kind {
	case countRows, countValues:
		return 1
	case sumDecimal, avgDecimal:
		return 4
	case sumWhole, avgWhole, sumDouble, avgDouble, minDecimal, maxDecimal, variance, distinctHash, distinct, bag:
		return 3
	}
	return 2
}

// Bounded says whether the state of a group has a fixed size, whatever the rows.
func (a *Aggregate) Bounded() bool {
	switch a.kind {
	case list, percentile, distinct, bag:
		return false
	}
	return true
}

// Rows evaluates what an update of the aggregate reads. Failures of rows that its filter leaves out do
// not count.
func (m *Machine) Rows(a *Aggregate, b *column.Batch) Rows {
	r := Rows{Batch: b}
	if a.Filter != nil {
		r.Filter = m.Eval(a.Filter, b)
	}
	from := len(m.Failures)
	if a.Arg != nil {
		r.Values = m.Eval(a.Arg, b)
	}
	if a.By != nil {
		r.By = m.Eval(a.By, b)
	}
	if f := r.Filter; f != nil && len(m.Failures) > from {
		m.keepFailures(from, func(row int) bool { return f.B[row] && !f.Null(row) })
	}
	return r
}

// Update adds rows to their groups: row i goes to entry groups[i], whose state begins at word at. A
// group below zero takes no row.
func (a *Aggregate) Update(g *state.Groups, at int, groups []int32, r Rows) {
	if a.Unused {
		return
	}
	w, width := g.Words, g.Width
	if f := r.Filter; f != nil {
		kept := make([]int32, len(groups))
		for i, e := range groups {
			if kept[i] = e; f.Null(i) || !f.B[i] {
				kept[i] = -1
			}
		}
		groups = kept
	}
	if a.kind == countRows {
		for _, e := range groups {
			if e >= 0 {
				w[int(e)*width+at]++
			}
		}
		return
	}
	v := r.Values
	nulls := v.Nulls
	switch a.kind { // the usual ones, without a choice by row
	case sumWhole, avgWhole:
		for i, e := range groups {
			if e >= 0 && (nulls == nil || !nulls[i]) {
				addWhole(w[int(e)*width+at:], v.I[i])
			}
		}
		return
	case sumDouble, avgDouble:
		for i, e := range groups {
			if e >= 0 && (nulls == nil || !nulls[i]) {
				s := w[int(e)*width+at:]
				addDouble(s, v.F[i])
				s[2]++
			}
		}
		return
	case minWhole, maxWhole:
		for i, e := range groups {
			if e >= 0 && (nulls == nil || !nulls[i]) {
				s := w[int(e)*width+at:]
				if x := v.I[i]; s[1] == 0 || x < int64(s[0]) == (a.kind == minWhole) {
					s[0] = uint64(x)
				}
				s[1]++
			}
		}
		return
	case minDouble, maxDouble:
		for i, e := range groups {
			if e >= 0 && (nulls == nil || !nulls[i]) {
				s := w[int(e)*width+at:]
				have := math.Float64frombits(s[0])
				if x := v.F[i]; s[1] == 0 || x < have && a.kind == minDouble || x > have && a.kind == maxDouble {
					s[0] = math.Float64bits(x)
				}
				s[1]++
			}
		}
		return
	}
	var buf []byte
	for i, e := range groups {
		if e < 0 || nulls != nil && nulls[i] && !(a.kind == list && a.Type.Kind == types.Array) && a.kind != argMax && a.kind != argMin {
			continue
		}
		s := w[int(e)*width+at:]
		switch a.kind {
		case countValues:
			s[0]++
		case minText, maxText:
			a.text(g, s, v.Text(i))
			s[1]++
		case sumDecimal, avgDecimal:
			addDecimal(s, uint64(v.D[i].LowBits()), uint64(v.D[i].HighBits()), uint64(v.D[i].HighBits()>>63))
			s[3]++
		case minDecimal, maxDecimal:
			a.decimal(s, v.D[i], 1)
		case variance:
			addVariance(s, 1, v.F[i], 0)
		case boolAnd, boolOr:
			a.truth(s, v.B[i], 1)
		case firstValue, lastValue:
			buf = appendPlace(buf[:0], r.Batch, i)
			buf = state.AppendKey(buf, v, i, true)
			a.keepText(g, s, buf)
		case argMax, argMin:
			if r.By.Null(i) {
				continue
			}
			buf = appendRanked(buf[:0], r, i)
			a.keepRanked(g, s, buf)
		case list:
			buf = a.appendEntry(buf[:0], r, i)
			extend(g, s, buf)
		case percentile:
			buf = le.AppendUint64(buf[:0], math.Float64bits(v.F[i]))
			extend(g, s, buf)
		case sketch:
			addBucket(g, s, bucketOf(v.F[i]), 1)
		case distinctHash:
			buf = state.AppendKey(buf[:0], v, i, true)
			addHash(g, s, hashOf(buf))
		case distinct:
			buf = state.AppendKey(buf[:0], v, i, true)
			addMember(g, s, buf)
		case bag:
			buf = state.AppendKey(buf[:0], v, i, true)
			addTimes(g, s, buf, 1)
		}
	}
}

// CanTakeBack says whether rows can be taken out of the state again.
func (a *Aggregate) CanTakeBack() bool {
	switch a.kind {
	case countRows, countValues, sumWhole, avgWhole, sumDouble, avgDouble, sumDecimal, avgDecimal, bag:
		return true
	}
	return false
}

// Bag gives an aggregate with the same results that keeps every value and the number of times it is there, so
// that rows can be taken out again, or nil where the result depends on more than the values.
func (a *Aggregate) Bag() *Aggregate {
	switch a.kind {
	case minWhole, maxWhole, minDouble, maxDouble, minText, maxText, minDecimal, maxDecimal, variance, boolAnd, boolOr, percentile, distinct:
		inner := *a
		inner.Filter = nil
		b := *a
		b.inner, b.kind = &inner, bag
		return &b
	}
	return nil
}

// TakeBack takes rows out of their groups, as Update adds them.
func (a *Aggregate) TakeBack(g *state.Groups, at int, groups []int32, r Rows) {
	if a.Unused {
		return
	}
	v := r.Values
	for i, e := range groups {
		if e < 0 || r.Filter != nil && (r.Filter.Null(i) || !r.Filter.B[i]) || v != nil && v.Null(i) {
			continue
		}
		s := g.Of(uint32(e))[at:]
		switch a.kind {
		case countRows, countValues:
			s[0]--
		case sumWhole, avgWhole:
			var borrow uint64
			s[0], borrow = bits.Sub64(s[0], uint64(v.I[i]), 0)
			s[1], _ = bits.Sub64(s[1], uint64(v.I[i]>>63), borrow)
			s[2]--
		case sumDouble, avgDouble:
			addDouble(s, -v.F[i])
			s[2]--
		case sumDecimal, avgDecimal:
			var borrow uint64
			s[0], borrow = bits.Sub64(s[0], v.D[i].LowBits(), 0)
			s[1], borrow = bits.Sub64(s[1], uint64(v.D[i].HighBits()), borrow)
			s[2], _ = bits.Sub64(s[2], uint64(v.D[i].HighBits()>>63), borrow)
			s[3]--
		case bag:
			addTimes(g, s, state.AppendKey(nil, v, i, true), -1)
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

func (a *Aggregate) decimal(s []uint64, x types.Num, n uint64) {
	have := types.NumOfWords(int64(s[1]), s[0])
	if c := x.Cmp(have); s[2] == 0 || c < 0 && a.kind == minDecimal || c > 0 && a.kind == maxDecimal {
		s[0], s[1] = x.LowBits(), uint64(x.HighBits())
	}
	s[2] += n
}

func (a *Aggregate) truth(s []uint64, x bool, n uint64) {
	switch {
	case s[1] == 0:
		s[0] = uint64(btoi(x))
	case a.kind == boolAnd:
		s[0] &= uint64(btoi(x))
	default:
		s[0] |= uint64(btoi(x))
	}
	s[1] += n
}

// addDecimal adds 192-bit numbers, so that no sum of 128-bit ones can wrap on the way.
func addDecimal(s []uint64, lo, mid, hi uint64) {
	var c uint64
	s[0], c = bits.Add64(s[0], lo, 0)
	s[1], c = bits.Add64(s[1], mid, c)
	s[2], _ = bits.Add64(s[2], hi, c)
}

// addVariance adds a part of n values with a mean and a sum of squared differences from it (Chan,
// Golub and LeVeque, Updating Formulae and a Pairwise Algorithm for Computing Sample Variances, 1979).
func addVariance(s []uint64, n uint64, mean, squares float64) {
	if n == 0 {
		return
	}
	have, m, q := float64(s[0]), math.Float64frombits(s[1]), math.Float64frombits(s[2])
	total := have + float64(n)
	d := mean - m
	s[0] += n
	s[1] = math.Float64bits(m + d*float64(n)/total)
	s[2] = math.Float64bits(q + squares + d*d*have*float64(n)/total)
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
	if a.Unused {
		return
	}
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
	case sumDecimal, avgDecimal:
		addDecimal(s, t[0], t[1], t[2])
		s[3] += t[3]
		return
	case minDecimal, maxDecimal:
		if t[2] > 0 {
			a.decimal(s, types.NumOfWords(int64(t[1]), t[0]), t[2])
		}
		return
	case variance:
		addVariance(s, t[0], math.Float64frombits(t[1]), math.Float64frombits(t[2]))
		return
	case boolAnd, boolOr:
		if t[1] > 0 {
			a.truth(s, t[0] == 1, t[1])
		}
		return
	case firstValue, lastValue:
		if t[1] > 0 {
			a.keepText(g, s, from.GetText(t[0]))
		}
		return
	case argMax, argMin:
		if t[1] > 0 {
			a.keepRanked(g, s, from.GetText(t[0]))
		}
		return
	case list, percentile:
		extend(g, s, from.GetText(t[0]))
		return
	case sketch:
		b := from.GetText(t[0])
		for ; len(b) > 0; b = b[bucketBytes:] {
			addBucket(g, s, int32(le.Uint32(b)), le.Uint64(b[4:]))
		}
		return
	case distinctHash:
		mergeHashes(g, s, from.GetText(t[0]), t[2])
		return
	case distinct:
		if t[2] == tooMany {
			forgetMembers(g, s)
		}
		slots := from.GetText(t[0])
		for ; len(slots) > 0; slots = slots[8:] {
			if w := le.Uint64(slots); w != 0 {
				addMember(g, s, from.GetText(w-1))
			}
		}
		return
	case bag:
		slots := from.GetText(t[0])
		for ; len(slots) > 0; slots = slots[8:] {
			if w := le.Uint64(slots); w != 0 {
				x := from.GetText(w - 1)
				addTimes(g, s, x[:len(x)-8], int64(le.Uint64(x[len(x)-8:])))
			}
		}
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
		if a.empty(s) {
			out.Set(i, n, types.Value{})
			continue
		}
		switch a.kind {
		case countRows, countValues:
			out.I[i] = int64(s[0])
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
		case sumDecimal, avgDecimal:
			x, ok := a.finalDecimal(s)
			if !ok {
				fail(i, "overflow: the result does not fit "+a.Type.String())
			}
			out.D[i] = x
		case minDecimal, maxDecimal:
			out.D[i] = types.NumOfWords(int64(s[1]), s[0])
		case variance:
			out.F[i] = a.finalVariance(s)
		case boolAnd, boolOr:
			out.B[i] = s[0] == 1
		default:
			if why := a.overflow(g, s); why != "" {
				fail(i, why)
				out.Set(i, n, types.Value{})
				continue
			}
			v := a.finalText(g, s)
			if count, size := parts(v); count > MaxParts || size-partBytes*count > MaxValue {
				fail(i, fmt.Sprintf("the result of %s would be above %d MB or %d elements", strings.ToUpper(a.Name), MaxValue>>20, MaxParts))
				v = types.Value{}
			}
			out.Set(i, n, v)
		}
	}
}

// empty says whether no value has been counted, so that the result is NULL.
func (a *Aggregate) empty(s []uint64) bool {
	switch {
	case a.Unused:
		return true
	case a.kind == countRows, a.kind == countValues, a.kind == distinctHash, a.kind == distinct, a.kind == bag:
		return false
	case a.kind == variance:
		return s[0] == 0 || s[0] == 1 && (a.Name == "var_samp" || a.Name == "stddev_samp")
	}
	return s[a.Words()-1] == 0
}

func (a *Aggregate) finalDecimal(s []uint64) (types.Num, bool) {
	x := big.NewInt(int64(s[2]))
	for _, w := range []uint64{s[1], s[0]} {
		x.Add(x.Lsh(x, 64), new(big.Int).SetUint64(w))
	}
	if a.kind == avgDecimal {
		x.Mul(x, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(a.Type.Scale-a.Arg.Type.Scale)), nil))
		roundQuo(x, new(big.Int).SetUint64(s[3]))
	}
	n, ok := types.NumOfBig(x)
	return n, ok && n.FitsInPrecision(int32(a.Type.Precision))
}

func (a *Aggregate) finalVariance(s []uint64) float64 {
	n, q := float64(s[0]), math.Float64frombits(s[2])
	if a.Name == "var_samp" || a.Name == "stddev_samp" {
		n--
	}
	if x := q / n; a.Name == "var_pop" || a.Name == "var_samp" {
		return x
	}
	return math.Sqrt(q / n)
}

// finalText gives the results of aggregates that keep text.
func (a *Aggregate) finalText(g *state.Groups, s []uint64) types.Value {
	b := g.GetText(s[0])
	switch a.kind {
	case firstValue, lastValue:
		v, _ := state.DecodeValue(b[placeBytes:], a.Type, true)
		return v
	case argMax, argMin:
		v, _ := state.DecodeValue(b[4+le.Uint32(b)+placeBytes:], a.Type, true)
		return v
	case list:
		return a.finalList(b)
	case percentile:
		xs := make([]float64, 0, len(b)/8)
		for ; len(b) > 0; b = b[8:] {
			xs = append(xs, math.Float64frombits(le.Uint64(b)))
		}
		slices.Sort(xs)
		at := a.fraction * float64(len(xs)-1)
		lo := int(at)
		x := xs[lo]
		if lo+1 < len(xs) {
			x += (xs[lo+1] - x) * (at - float64(lo))
		}
		return types.Value{Kind: types.Double, F: x}
	case sketch:
		return types.Value{Kind: types.Double, F: quantile(b, a.fraction)}
	case distinctHash:
		return types.Value{Kind: types.BigInt, I: countHashes(b, s[2])}
	}
	if a.kind == bag {
		return a.finalBag(g, b)
	}
	return a.finalDistinct(g, b, s[2])
}

// finalDistinct runs the aggregate over the different values, in their order.
func (a *Aggregate) finalDistinct(g *state.Groups, slots []byte, n uint64) types.Value {
	if a.inner.kind == countValues {
		return types.Value{Kind: types.BigInt, I: int64(n)}
	}
	var keys [][]byte
	for ; len(slots) > 0; slots = slots[8:] {
		if w := le.Uint64(slots); w != 0 {
			keys = append(keys, g.GetText(w-1))
		}
	}
	return a.finalOver(keys)
}

// finalBag runs the aggregate over the values that are there.
func (a *Aggregate) finalBag(g *state.Groups, slots []byte) types.Value {
	var keys [][]byte
	for ; len(slots) > 0; slots = slots[8:] {
		if w := le.Uint64(slots); w != 0 {
			x := g.GetText(w - 1)
			for range int64(le.Uint64(x[len(x)-8:])) {
				keys = append(keys, x[:len(x)-8])
			}
		}
	}
	return a.finalOver(keys)
}

// finalOver runs the inner aggregate over encoded values, in their order.
func (a *Aggregate) finalOver(keys [][]byte) types.Value {
	slices.SortFunc(keys, bytes.Compare)
	vals := column.New(a.Arg.Type)
	for _, k := range keys {
		v, _ := state.DecodeValue(k, a.Arg.Type, true)
		vals.Append(v)
	}
	one := &state.Groups{Width: a.inner.Words()}
	e := one.Find(0, 0, nil)
	b := &column.Batch{N: len(keys), Time: make([]int64, len(keys)), Pos: make([]int64, len(keys))}
	for i := range b.Pos {
		b.Pos[i] = int64(i) // the order of the values
	}
	a.inner.Update(one, 0, make([]int32, len(keys)), Rows{Values: vals, Batch: b})
	out := column.New(a.Type)
	out.Resize(1)
	a.inner.Final(one, []uint32{e}, 0, out, func(int, string) { out.SetNull(0, 1) })
	return out.Value(0)
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
