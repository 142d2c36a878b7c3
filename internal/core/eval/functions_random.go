package eval

import (
	"errors"
	"math"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// Functions of chance. They are functions: what they give depends on their first argument alone, the draw, so that a row that is read again gets the
// same. In the columns of a generator the draw is left out: each call there has one of its own for each row (Drawn).

// mix is the finalizer of SplitMix64 (Steele, Lea, Flood: Fast splittable pseudorandom number generators, OOPSLA 2014).
func mix(x uint64) uint64 {
	x += 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// Draw gives the draw of a row under a seed.
func Draw(seed, row int64) int64 { return int64(mix(uint64(seed) ^ mix(uint64(row)))) }

// Drawn is the draw of the call of that number, made of the draw of the row.
func Drawn(draw *Expr, number int) *Expr {
	e := safe(call(bigint, func(_ *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i, x := range a[0].I[:n] {
			out.I[i] = int64(mix(uint64(x) ^ mix(uint64(a[1].I[i]))))
		}
	}, draw, Const(bigint, types.Value{Kind: types.BigInt, I: int64(number)})))
	e.Name = "drawn"
	return e
}

// unit is a number in (0, 1) made of a draw; of different numbers of one draw it gives independent ones.
func unit(draw int64, number uint64) float64 {
	return (float64(mix(uint64(draw)+number*0xd1342543de82ef95)>>11) + 0.5) / (1 << 53)
}

func normal(draw int64, number uint64) float64 { // Box and Muller, 1958
	return math.Sqrt(-2*math.Log(unit(draw, number))) * math.Cos(2*math.Pi*unit(draw, number+1))
}

// RandomGroup is the group of the functions of chance.
const RandomGroup = "random"

func init() {
	number := func(name, form, doc, example, result string, f func(draw int64, a []float64) float64, args int) {
		ts := []types.Type{bigint}
		for range args {
			ts = append(ts, double)
		}
		plain(&Function{Name: name, Group: RandomGroup, Signatures: []string{form}, Doc: doc, Example: example, Result: result}, double,
			func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
				x := make([]float64, args)
				for i := range n {
					for k := range x {
						x[k] = a[k+1].F[i]
					}
					out.F[i] = f(a[0].I[i], x)
				}
			}, ts...)
	}
	number("random_uniform", "random_uniform(draw BIGINT, low DOUBLE, high DOUBLE) → DOUBLE", "A number from low to below high, each as likely as the others.", "ROUND(RANDOM_UNIFORM(7, 0, 10), 3)", "3.898",
		func(d int64, a []float64) float64 { return a[0] + (a[1]-a[0])*unit(d, 0) }, 2)
	number("random_normal", "random_normal(draw BIGINT, mean DOUBLE, deviation DOUBLE) → DOUBLE", "A number of the normal distribution.", "ROUND(RANDOM_NORMAL(7, 20, 3), 3)", "16.477",
		func(d int64, a []float64) float64 { return a[0] + a[1]*normal(d, 0) }, 2)
	number("random_exponential", "random_exponential(draw BIGINT, mean DOUBLE) → DOUBLE", "A number of the exponential distribution, such as the time to the next event.", "ROUND(RANDOM_EXPONENTIAL(7, 5), 3)", "4.71",
		func(d int64, a []float64) float64 { return -a[0] * math.Log(unit(d, 0)) }, 1)
	// Noise of all wave lengths, each as high as its length is long to the half: what a walk looks like.
	plain(&Function{Name: "random_walk", Group: RandomGroup, Signatures: []string{"random_walk(seed BIGINT, n BIGINT, step DOUBLE) → DOUBLE"},
		Doc:     "Where a walk with steps of about that size is at its step n; it begins at 0. In a generator the seed is left out: RANDOM_WALK(_row, 0.5).",
		Example: "ROUND(RANDOM_WALK(7, 100, 1), 3)", Result: "3.609"}, double,
		func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			at := func(seed, k int64) float64 {
				sum := 0.0
				for level := range uint64(24) {
					size := int64(1) << level
					cell, within := floorDiv(k, size), float64(k-floorDiv(k, size)*size)/float64(size)
					corner := func(c int64) float64 { return 2*unit(seed^int64(mix(uint64(c))), level) - 1 }
					sum += math.Sqrt(float64(size)) * (corner(cell)*(1-within) + corner(cell+1)*within)
				}
				return sum
			}
			for i := range n {
				seed := a[0].I[i]
				out.F[i] = a[2].F[i] * (at(seed, a[1].I[i]) - at(seed, 0))
			}
		}, bigint, bigint, double)
	failing(&Function{Name: "random_int", Group: RandomGroup, Signatures: []string{"random_int(draw BIGINT, low BIGINT, high BIGINT) → BIGINT"},
		Doc: "A whole number from low to high, each as likely as the others.", Example: "RANDOM_INT(7, 1, 6)", Result: "3"}, bigint,
		wordKernel(func(m *Machine, i int, a []*column.Vector) int64 {
			low, high := a[1].I[i], a[2].I[i]
			if low > high || high-low < 0 {
				m.Fail(i, "the lowest number is above the highest, or they are too far apart")
				return 0
			}
			return low + int64(unit(a[0].I[i], 0)*float64(uint64(high-low)+1))
		}), bigint, bigint, bigint)
	failing(&Function{Name: "random_skewed", Group: RandomGroup, Signatures: []string{"random_skewed(draw BIGINT, n BIGINT) → BIGINT"},
		Doc: "A whole number from 1 to n, small ones more often: k about as often as 1/k.", Example: "RANDOM_SKEWED(7, 1000)", Result: "14"}, bigint,
		wordKernel(func(m *Machine, i int, a []*column.Vector) int64 {
			n := a[1].I[i]
			if n < 1 {
				m.Fail(i, "there must be at least one number")
				return 0
			}
			return min(n, int64(math.Exp(unit(a[0].I[i], 0)*math.Log(float64(n)+1))))
		}), bigint, bigint)
	const digits, letters = "0123456789", "ABCDEFGHJKLMNPQRSTUVWXYZ"
	plain(&Function{Name: "random_text", Group: RandomGroup, Signatures: []string{"random_text(draw BIGINT, pattern VARCHAR) → VARCHAR"},
		Doc: "The pattern with a digit for each #, a capital letter for each ? and either for each *.", Example: "RANDOM_TEXT(7, 'P###-?*')", Result: "P473-JN"}, varchar,
		textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
			pick := func(of string, k uint64) byte { return of[int(unit(a[0].I[i], k)*float64(len(of)))] }
			for k, c := range []byte(a[1].Text(i)) {
				switch c {
				case '#':
					c = pick(digits, uint64(k))
				case '?':
					c = pick(letters, uint64(k))
				case '*':
					c = pick(digits+letters, uint64(k))
				}
				dst = append(dst, c)
			}
			return dst
		}), bigint, varchar)
	syllables := []string{"ba", "co", "di", "fe", "ga", "li", "ma", "ne", "no", "pe", "ri", "sa", "te", "va", "zu", "ro"}
	plain(&Function{Name: "random_name", Group: RandomGroup, Signatures: []string{"random_name(draw BIGINT) → VARCHAR"},
		Doc: "A made-up name of three syllables.", Example: "RANDOM_NAME(7)", Result: "Mamasa"}, varchar,
		textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
			from := len(dst)
			for k := range uint64(3) {
				dst = append(dst, syllables[int(unit(a[0].I[i], k)*float64(len(syllables)))]...)
			}
			dst[from] -= 'a' - 'A'
			return dst
		}), bigint)
	define(&Function{Name: "random_choice", Group: RandomGroup, Signatures: []string{"random_choice(draw BIGINT, text VARCHAR, text VARCHAR, …) → VARCHAR", "random_choice(draw BIGINT, text VARCHAR, weight DOUBLE, text VARCHAR, weight DOUBLE, …) → VARCHAR"},
		Doc: "One of the texts, each as likely as the others, or by their weights.", Example: "RANDOM_CHOICE(7, 'start', 8, 'finish', 2)", Result: "start"}, func(args []*Expr) (*Expr, error) {
		if len(args) < 2 {
			return nil, ErrTypes
		}
		weighted := len(args)%2 == 1 && len(args) > 2
		ts := []types.Type{bigint}
		for k := 1; k < len(args); k++ {
			if weighted = weighted && (k%2 == 1 || args[k].Type.IsNumber()); weighted && k%2 == 0 {
				ts = append(ts, double)
			} else {
				ts = append(ts, varchar)
			}
		}
		as, ok := fit(args, ts...)
		if !ok {
			return nil, ErrTypes
		}
		if !weighted {
			return safe(call(varchar, textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
				return append(dst, a[1+int(unit(a[0].I[i], 0)*float64(len(a)-1))].Text(i)...)
			}), as...)), nil
		}
		for k := 2; k < len(as); k += 2 {
			if w := as[k]; w.Op == OpConst && !(w.Value.F >= 0) {
				return nil, errors.New("a weight is below 0")
			}
		}
		return safe(call(varchar, textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
			sum := 0.0
			for k := 2; k < len(a); k += 2 {
				sum += max(0, a[k].F[i])
			}
			x := sum * unit(a[0].I[i], 0)
			for k := 2; k < len(a); k += 2 {
				if x -= max(0, a[k].F[i]); x < 0 || k == len(a)-1 {
					return append(dst, a[k-1].Text(i)...)
				}
			}
			return dst
		}), as...)), nil
	})
}
