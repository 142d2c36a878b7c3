package eval

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"sort"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/state"
	"fiume/internal/core/types"

	"github.com/cespare/xxhash/v2"
)

// What aggregates keep beyond words is text of the table: little-endian numbers, and values in the
// form of keys, whose bytes compare as they do.

var le = binary.LittleEndian

// placeBytes is the length of a place in event order: event time, split, place in the split.
const placeBytes = 20

// appendPlace writes where row i stands in event order; equal times are ordered by origin.
func appendPlace(b []byte, rows *column.Batch, i int) []byte {
	b = binary.BigEndian.AppendUint64(b, uint64(rows.Time[i])^1<<63)
	split := int32(rows.Split)
	if rows.From != nil {
		split = rows.From[i]
	}
	b = binary.BigEndian.AppendUint32(b, uint32(split)^1<<31)
	pos := int64(0)
	if rows.Pos != nil {
		pos = rows.Pos[i]
	}
	return binary.BigEndian.AppendUint64(b, uint64(pos)^1<<63)
}

// keepText keeps the first or the last of the texts that begin with a place.
func (a *Aggregate) keepText(g *state.Groups, s []uint64, x []byte) {
	if s[1] != 0 {
		if c := bytes.Compare(x, g.GetText(s[0])); c == 0 || (c < 0) != (a.kind == firstValue) {
			return
		}
	}
	s[0], s[1] = g.ChangeText(s[0], s[1], x)
}

// appendRanked writes the length of By's key, the key, the place, and the value.
func appendRanked(b []byte, r Rows, i int) []byte {
	b = append(b, 0, 0, 0, 0)
	b = state.AppendKey(b, r.By, i, true)
	le.PutUint32(b, uint32(len(b)-4))
	return state.AppendKey(appendPlace(b, r.Batch, i), r.Values, i, true)
}

// keepRanked keeps the text with the greatest or the least key; of equal ones the first in event order.
func (a *Aggregate) keepRanked(g *state.Groups, s []uint64, x []byte) {
	if s[1] != 0 {
		y := g.GetText(s[0])
		n, m := 4+le.Uint32(x), 4+le.Uint32(y)
		c := bytes.Compare(x[4:n], y[4:m])
		if a.kind == argMax {
			c = -c
		}
		if c == 0 {
			c = bytes.Compare(x[n:], y[m:])
		}
		if c >= 0 {
			return
		}
	}
	s[0], s[1] = g.ChangeText(s[0], s[1], x)
}

// appendEntry writes an entry of a list: the lengths of its order and its value, the order (By and
// the place), the value.
func (a *Aggregate) appendEntry(b []byte, r Rows, i int) []byte {
	b = append(b, 0, 0, 0, 0, 0, 0, 0, 0)
	if r.By != nil {
		b = state.AppendKey(b, r.By, i, false)
		if a.desc {
			for k := 8; k < len(b); k++ {
				b[k] = ^b[k]
			}
		}
	}
	b = appendPlace(b, r.Batch, i)
	order := len(b) - 8
	b = state.AppendKey(b, r.Values, i, true)
	le.PutUint32(b, uint32(order))
	le.PutUint32(b[4:], uint32(len(b)-8-order))
	return b
}

// Aggregates that keep all values of a group keep up to a bound. Where a group has more, they are forgotten, and its
// result is rejected: whether it is depends on the group alone, not on how it came together.
const (
	listBytes    = 48 << 20   // of the entries of a list
	mostDistinct = 4 << 20    // members of a set
	tooMany      = ^uint64(0) // in place of the number of members
)

// overflown stands in place of a list that had more than listBytes; no list is one byte long.
var overflown = []byte{0}

// extend adds entries to a list.
func extend(g *state.Groups, s []uint64, entries []byte) {
	switch {
	case s[1] != 0 && len(g.GetText(s[0])) == 1: // more than that does not fit
	case len(entries) == 1 || s[1] != 0 && len(g.GetText(s[0]))+len(entries) > listBytes:
		s[0], s[1] = g.ChangeText(s[0], s[1], overflown)
	default:
		s[0], s[1] = g.ExtendText(s[0], s[1], entries)
	}
}

// forgetMembers makes a set one of too many members.
func forgetMembers(g *state.Groups, s []uint64) {
	s[0], s[1] = g.ChangeText(s[0], s[1], nil)
	s[2] = tooMany
}

// overflow says why an entry has no result, or gives "".
func (a *Aggregate) overflow(g *state.Groups, s []uint64) string {
	name, _, _ := strings.Cut(a.Name, " ")
	switch {
	case (a.kind == list || a.kind == percentile) && len(g.GetText(s[0])) == 1:
		return fmt.Sprintf("%s of a group keeps up to %d MB of values, and there are more", strings.ToUpper(name), listBytes>>20)
	case a.kind == distinct && s[2] == tooMany:
		return fmt.Sprintf("%s of a group keeps up to %d different values, and there are more; APPROX_COUNT_DISTINCT needs little memory", strings.ToUpper(name), mostDistinct)
	}
	return ""
}

func (a *Aggregate) finalList(b []byte) types.Value {
	type entry struct{ order, value []byte }
	var es []entry
	for len(b) > 0 {
		n, m := 8+le.Uint32(b), le.Uint32(b[4:])
		es = append(es, entry{b[8:n], b[n : n+m]})
		b = b[n+m:]
	}
	slices.SortFunc(es, func(x, y entry) int {
		if c := bytes.Compare(x.order, y.order); c != 0 {
			return c
		}
		return bytes.Compare(x.value, y.value)
	})
	out := types.Value{Kind: a.Type.Kind}
	if a.Type.Kind == types.Array {
		out.Row = make([]types.Value, len(es))
	}
	var text []byte
	for i, e := range es {
		if a.Type.Kind == types.Array {
			out.Row[i], _ = state.DecodeValue(e.value, a.Type.Fields[0].Type, true)
			continue
		}
		if i > 0 {
			text = append(text, a.separator...)
		}
		text = append(text, e.value[1:]...)
	}
	out.S = string(text)
	return out
}

// addMember adds a value to a set: a hash table of eight-byte slots, each 0 or one more than the word
// of a text.
func addMember(g *state.Groups, s []uint64, x []byte) bool {
	if s[2] >= mostDistinct {
		if s[2] == tooMany {
			return false
		}
		if _, found := findSlot(g, g.GetText(s[0]), x); !found {
			forgetMembers(g, s)
		}
		return false
	}
	slots := g.GetText(s[0])
	if int(s[2])*2 >= len(slots)/8 {
		bigger := make([]byte, max(64, 2*len(slots)))
		for old := slots; len(old) > 0; old = old[8:] {
			if w := le.Uint64(old); w != 0 {
				putSlot(g, bigger, g.GetText(w-1), w)
			}
		}
		s[0], s[1] = g.ChangeText(s[0], s[1], bigger)
		slots = g.GetText(s[0])
	}
	at, found := findSlot(g, slots, x)
	if found {
		return false
	}
	w := g.PutText(x)
	le.PutUint64(g.GetText(s[0])[at:], w+1) // the texts may have moved
	s[2]++
	return true
}

func findSlot(g *state.Groups, slots, x []byte) (at int, found bool) {
	mask := uint64(len(slots)/8 - 1)
	for i := hashOf(x) & mask; ; i = (i + 1) & mask {
		w := le.Uint64(slots[8*i:])
		if w == 0 {
			return int(8 * i), false
		}
		if bytes.Equal(g.GetText(w-1), x) {
			return int(8 * i), true
		}
	}
}

// addTimes changes the number of times that a value is in a bag.
func addTimes(g *state.Groups, s []uint64, x []byte, times int64) {
	slots := g.GetText(s[0])
	if int(s[2])*2 >= len(slots)/8 {
		bigger := make([]byte, max(64, 2*len(slots)))
		for old := slots; len(old) > 0; old = old[8:] {
			if w := le.Uint64(old); w != 0 {
				y := g.GetText(w - 1)
				at, _ := findTimes(g, bigger, y[:len(y)-8])
				le.PutUint64(bigger[at:], w)
			}
		}
		s[0], s[1] = g.ChangeText(s[0], s[1], bigger)
		slots = g.GetText(s[0])
	}
	at, found := findTimes(g, slots, x)
	if found {
		y := g.GetText(le.Uint64(slots[at:]) - 1)
		n := y[len(y)-8:]
		le.PutUint64(n, le.Uint64(n)+uint64(times))
		return
	}
	w := g.PutText(le.AppendUint64(append([]byte{}, x...), uint64(times)))
	le.PutUint64(g.GetText(s[0])[at:], w+1) // the texts may have moved
	s[2]++
}

func findTimes(g *state.Groups, slots, x []byte) (at int, found bool) {
	mask := uint64(len(slots)/8 - 1)
	for i := hashOf(x) & mask; ; i = (i + 1) & mask {
		w := le.Uint64(slots[8*i:])
		if w == 0 {
			return int(8 * i), false
		}
		if y := g.GetText(w - 1); bytes.Equal(y[:len(y)-8], x) {
			return int(8 * i), true
		}
	}
}

func putSlot(g *state.Groups, slots, x []byte, w uint64) {
	at, _ := findSlot(g, slots, x)
	le.PutUint64(slots[at:], w)
}

func hashOf(x []byte) uint64 { return xxhash.Sum64(x) }

// The number of different values is estimated from their hashes: up to exactHashes are kept as they
// are, then registers of HyperLogLog (Flajolet et al. 2007) with the estimator of O. Ertl, New
// cardinality estimation algorithms for HyperLogLog sketches, 2017, section 4. Its standard error is
// 1.6 % with 4096 registers.
const (
	exactHashes  = 256
	registerBits = 12
	registers    = 1 << registerBits
	inRegisters  = ^uint64(0) // in place of the number of hashes
	hashBits     = 64 - registerBits
)

func addHash(g *state.Groups, s []uint64, h uint64) {
	b := g.GetText(s[0])
	if s[2] == inRegisters {
		putRegister(b, h)
		return
	}
	i := sort.Search(len(b)/8, func(i int) bool { return le.Uint64(b[8*i:]) >= h })
	if i < len(b)/8 && le.Uint64(b[8*i:]) == h {
		return
	}
	if s[2] == exactHashes {
		regs := make([]byte, registers)
		for ; len(b) > 0; b = b[8:] {
			putRegister(regs, le.Uint64(b))
		}
		putRegister(regs, h)
		s[0], s[1] = g.ChangeText(s[0], s[1], regs)
		s[2] = inRegisters
		return
	}
	var w [8]byte
	s[0], s[1] = g.ExtendText(s[0], s[1], w[:])
	b = g.GetText(s[0])
	copy(b[8*i+8:], b[8*i:len(b)-8])
	le.PutUint64(b[8*i:], h)
	s[2]++
}

func putRegister(regs []byte, h uint64) {
	r := byte(bits.LeadingZeros64(h<<registerBits|1<<(registerBits-1)) + 1)
	if i := h >> hashBits; regs[i] < r {
		regs[i] = r
	}
}

func mergeHashes(g *state.Groups, s []uint64, from []byte, n uint64) {
	if n != inRegisters {
		for ; len(from) > 0; from = from[8:] {
			addHash(g, s, le.Uint64(from))
		}
		return
	}
	if s[2] != inRegisters {
		regs := make([]byte, registers)
		for b := g.GetText(s[0]); len(b) > 0; b = b[8:] {
			putRegister(regs, le.Uint64(b))
		}
		s[0], s[1] = g.ChangeText(s[0], s[1], regs)
		s[2] = inRegisters
	}
	for i, r := range g.GetText(s[0]) {
		if from[i] > r {
			g.GetText(s[0])[i] = from[i]
		}
	}
}

func countHashes(b []byte, n uint64) int64 {
	if n != inRegisters {
		return int64(n)
	}
	var counts [hashBits + 2]float64
	for _, r := range b {
		counts[r]++
	}
	m := float64(registers)
	z := m * tau(1-counts[hashBits+1]/m)
	for k := hashBits; k >= 1; k-- {
		z = 0.5 * (z + counts[k])
	}
	z += m * sigma(counts[0]/m)
	return int64(math.Round(m * m / (2 * math.Ln2 * z)))
}

func sigma(x float64) float64 {
	if x == 1 {
		return math.Inf(1)
	}
	y, z := 1.0, x
	for {
		x *= x
		before := z
		z += x * y
		y += y
		if z == before {
			return z
		}
	}
}

func tau(x float64) float64 {
	if x == 0 || x == 1 {
		return 0
	}
	y, z := 1.0, 1-x
	for {
		x = math.Sqrt(x)
		before := z
		y *= 0.5
		z -= (1 - x) * (1 - x) * y
		if z == before {
			return z / 3
		}
	}
}

// Percentiles are estimated from counts in buckets whose bounds grow by a fixed factor, so that every
// value of a bucket is within 1 % of its middle, and parts merge by adding (Masson, Rim and Lee,
// DDSketch, VLDB 2019). An entry is the bucket's number and its count.
const (
	bucketBytes  = 12
	bucketError  = 0.01
	bucketMiddle = 40000 // the number of the bucket of 1; that of 0 is 0, those of negative ones are negative
)

var bucketBase = math.Log((1 + bucketError) / (1 - bucketError))

func bucketOf(x float64) int32 {
	a := math.Abs(x)
	switch {
	case a < 1e-300:
		return 0
	case math.IsNaN(x):
		return math.MaxInt32
	case math.IsInf(x, 0):
		a = math.MaxFloat64
	}
	k := int32(math.Ceil(math.Log(a)/bucketBase)) + bucketMiddle
	if x < 0 {
		return -k
	}
	return k
}

func bucketValue(k int32) float64 {
	switch {
	case k == 0:
		return 0
	case k == math.MaxInt32:
		return math.NaN()
	case k < 0:
		return -bucketValue(-k)
	}
	return math.Exp(float64(k-bucketMiddle)*bucketBase) * (1 - bucketError)
}

func addBucket(g *state.Groups, s []uint64, k int32, n uint64) {
	b := g.GetText(s[0])
	i := sort.Search(len(b)/bucketBytes, func(i int) bool { return int32(le.Uint32(b[i*bucketBytes:])) >= k }) * bucketBytes
	if i < len(b) && int32(le.Uint32(b[i:])) == k {
		le.PutUint64(b[i+4:], le.Uint64(b[i+4:])+n)
		return
	}
	var e [bucketBytes]byte
	s[0], s[1] = g.ExtendText(s[0], s[1], e[:])
	b = g.GetText(s[0])
	copy(b[i+bucketBytes:], b[i:len(b)-bucketBytes])
	le.PutUint32(b[i:], uint32(k))
	le.PutUint64(b[i+4:], n)
}

func quantile(b []byte, fraction float64) float64 {
	total := uint64(0)
	for i := 0; i < len(b); i += bucketBytes {
		total += le.Uint64(b[i+4:])
	}
	rank, seen := fraction*float64(total-1), uint64(0)
	for i := 0; i < len(b); i += bucketBytes {
		if seen += le.Uint64(b[i+4:]); float64(seen) > rank {
			return bucketValue(int32(le.Uint32(b[i:])))
		}
	}
	return math.NaN()
}

// forms gives the entry of an aggregate in the catalogue.
func aggregateEntry(name, doc, example, result string, forms ...string) {
	functions[name] = &Function{Name: name, Kind: Aggregating, Group: "aggregate", Signatures: forms, Doc: doc,
		Nulls: "NULLs are left out; NULL where no value is left", Example: example, Result: result}
}

func init() {
	aggregateEntry("count", "The number of rows, of values that are not NULL, or of different values.", "COUNT(DISTINCT x)", "2", "count(*) → BIGINT", "count([DISTINCT] x) → BIGINT")
	aggregateEntry("sum", "The sum. A sum that does not fit its type rejects the result.", "SUM(x)", "5", "sum([DISTINCT] x INT | BIGINT) → BIGINT",
		"sum([DISTINCT] x DECIMAL(p, s)) → DECIMAL(38, s)", "sum([DISTINCT] x DOUBLE) → DOUBLE", "sum([DISTINCT] x INTERVAL) → INTERVAL")
	aggregateEntry("avg", "The mean.", "AVG(DISTINCT x)", "1.5", "avg([DISTINCT] x INT | BIGINT | DOUBLE) → DOUBLE", "avg([DISTINCT] x DECIMAL(p, s)) → DECIMAL(p + 4, s + 4)")
	aggregateEntry("min", "The least value.", "MIN(x)", "1", "min(x T) → T")
	aggregateEntry("max", "The greatest value.", "MAX(x)", "2", "max(x T) → T")
	aggregateEntry("var_pop", "The variance of all values.", "ROUND(VAR_POP(x), 3)", "0.222", "var_pop([DISTINCT] x number) → DOUBLE")
	aggregateEntry("var_samp", "The variance of a sample; NULL of one value.", "ROUND(VAR_SAMP(x), 3)", "0.333", "var_samp([DISTINCT] x number) → DOUBLE")
	aggregateEntry("stddev_pop", "The standard deviation of all values.", "ROUND(STDDEV_POP(x), 3)", "0.471", "stddev_pop([DISTINCT] x number) → DOUBLE")
	aggregateEntry("stddev_samp", "The standard deviation of a sample; NULL of one value.", "ROUND(STDDEV_SAMP(x), 3)", "0.577", "stddev_samp([DISTINCT] x number) → DOUBLE")
	aggregateEntry("first_value", "The first value in event time; equal times are ordered by origin.", "FIRST_VALUE(x)", "1", "first_value(x T) → T")
	aggregateEntry("last_value", "The last value in event time; equal times are ordered by origin.", "LAST_VALUE(x)", "2", "last_value(x T) → T")
	aggregateEntry("arg_max", "x of the row with the greatest y; of equal ones the first in event time.", "ARG_MAX(x, -x)", "1", "arg_max(x T, y) → T")
	aggregateEntry("arg_min", "x of the row with the least y; of equal ones the first in event time.", "ARG_MIN(x, -x)", "2", "arg_min(x T, y) → T")
	functions["arg_max"].Nulls = "rows where y is NULL are left out; NULL where x is NULL there"
	functions["arg_min"].Nulls = functions["arg_max"].Nulls
	aggregateEntry("array_agg", "All values, in the order of event time or of y; DISTINCT values in their own order.", "ARRAY_AGG(x ORDER BY x DESC)", "[2,2,1,null]",
		"array_agg([DISTINCT] x T [ORDER BY y [DESC]]) → ARRAY(T)")
	functions["array_agg"].Nulls = "NULLs are elements, and the least in order; DISTINCT leaves them out"
	aggregateEntry("listagg", "The values as one text with the separator between them, in the order of event time or of y.", "LISTAGG(x, '+')", "1+2+2",
		"listagg([DISTINCT] x [, 'separator']) [WITHIN GROUP (ORDER BY y [DESC])] → VARCHAR")
	aggregateEntry("bool_and", "Whether the condition is true for all.", "BOOL_AND(x > 1)", "false", "bool_and(c BOOLEAN) → BOOLEAN")
	aggregateEntry("bool_or", "Whether the condition is true for any.", "BOOL_OR(x > 1)", "true", "bool_or(c BOOLEAN) → BOOLEAN")
	aggregateEntry("percentile_cont", "The value at a fraction of the ordered values, interpolated between two. It keeps all values.", "PERCENTILE_CONT(0.25) WITHIN GROUP (ORDER BY x)", "1.5",
		"percentile_cont(fraction) WITHIN GROUP (ORDER BY x [DESC]) → DOUBLE")
	aggregateEntry("approx_percentile", "The value at a fraction of the ordered values, within 1 % of its size. It keeps counts of some hundred buckets.", "ROUND(APPROX_PERCENTILE(x, 0.5))", "2",
		"approx_percentile(x number, fraction) → DOUBLE")
	aggregateEntry("approx_count_distinct", "The number of different values: exact up to 256, then with a standard error of 1.6 %. It keeps at most 4 kB.", "APPROX_COUNT_DISTINCT(x)", "2",
		"approx_count_distinct(x) → BIGINT")
	functions["count"].Nulls, functions["approx_count_distinct"].Nulls = "NULLs are not counted; 0 where nothing is left", "NULLs are not counted; 0 where nothing is left"
	over := func(name, doc string, forms ...string) {
		functions[name] = &Function{Name: name, Kind: OverRows, Group: "over", Signatures: forms, Doc: doc, Nulls: "NULL where there is no such row"}
	}
	over("row_number", "The number of the row in its partition, from 1.", "row_number() OVER (…) → BIGINT")
	over("rank", "The number of the row in its partition, from 1; equal rows have the same one.", "rank() OVER (…) → BIGINT")
	over("dense_rank", "The number of the row in its partition, from 1; equal rows count as one.", "dense_rank() OVER (…) → BIGINT")
	over("lag", "x of the row before, or of the n-th before; where there is none, the third argument or NULL.", "lag(x T [, n [, other T]]) OVER (…) → T")
	over("lead", "x of the row after, or of the n-th after.", "lead(x T [, n]) OVER (…) → T")
}
