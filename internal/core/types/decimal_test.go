package types

import (
	"fmt"
	"math"
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"
)

// randomDecimal writes a number of up to 38 digits, with a point somewhere and now and then an exponent.
func randomDecimal(r *rand.Rand) string {
	n := 1 + r.IntN(MaxPrecision)
	var b strings.Builder
	for range n {
		b.WriteByte(byte('0' + r.IntN(10)))
	}
	s := b.String()
	if k := r.IntN(n + 1); r.IntN(3) > 0 {
		s = s[:k] + "." + s[k:]
	}
	if r.IntN(5) == 0 {
		s += fmt.Sprintf("e%d", r.IntN(9)-4)
	}
	if r.IntN(2) == 0 {
		s = "-" + s
	}
	return s
}

// TestDecimalText reads and writes exact numbers, and compares with unbounded ones.
func TestDecimalText(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	for range 15_000 {
		text := randomDecimal(r)
		want, _ := new(big.Rat).SetString(text)
		n, precision, scale, ok := ParseDecimal(text)
		if !ok {
			// Refused only where it has more digits than there are.
			if digits := len(strings.TrimLeft(strings.NewReplacer("-", "", ".", "").Replace(strings.Split(text, "e")[0]), "0")); digits <= MaxPrecision-8 {
				t.Fatalf("%s is refused", text)
			}
			continue
		}
		if precision < 1 || scale < 0 || scale > precision && precision < MaxPrecision {
			t.Fatalf("%s has %d digits, %d behind the point", text, precision, scale)
		}
		out := string(AppendDecimal(nil, n, scale))
		if got, fine := new(big.Rat).SetString(out); !fine || got.Cmp(want) != 0 {
			t.Fatalf("%s is written as %s", text, out)
		}
		if x, _ := want.Float64(); DecimalToDouble(n, scale) != x && math.Abs(DecimalToDouble(n, scale)-x) > 0 {
			t.Fatalf("%s is the double %v, wanted %v", text, DecimalToDouble(n, scale), x)
		}
	}
	for _, bad := range []string{"", ".", "-", "1e", "1e5000", "1..2", "1a", "+-1", "0x1", strings.Repeat("9", 39)} {
		if _, _, _, ok := ParseDecimal(bad); ok {
			t.Errorf("%q is read", bad)
		}
	}
}

// TestRescale compares rounding with unbounded numbers: halves go away from zero, what does not fit is said.
func TestRescale(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	pow := func(n int) *big.Int { return new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(n)), nil) }
	for range 15_000 {
		n, _, from, ok := ParseDecimal(randomDecimal(r))
		if !ok {
			continue
		}
		to, precision := r.IntN(MaxPrecision+1), 1+r.IntN(MaxPrecision)
		want := n.BigInt()
		if to >= from {
			want.Mul(want, pow(to-from))
		} else {
			half, d := new(big.Int).Div(pow(from-to), big.NewInt(2)), pow(from-to)
			if want.Sign() < 0 {
				half.Neg(half)
			}
			want.Quo(want.Add(want, half), d)
		}
		fits := want.CmpAbs(pow(precision)) < 0
		got, ok := Rescale(n, from, to, precision)
		if ok != fits || ok && got.BigInt().Cmp(want) != 0 {
			t.Fatalf("%s from %d to %d digits behind the point, %d in all: %s %v, wanted %s %v", n.BigInt(), from, to, precision, got.BigInt(), ok, want, fits)
		}
	}
}

// TestIntervalText writes lengths of time and reads them back.
func TestIntervalText(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for range 20_000 {
		d := r.Int64N(1<<uint(1+r.IntN(60))) - r.Int64N(1<<20)
		if got, ok := ParseInterval(string(AppendInterval(nil, d))); !ok || got != d {
			t.Fatalf("%d is written as %s, which is %d, %v", d, AppendInterval(nil, d), got, ok)
		}
	}
	for _, bad := range []string{"", "P", "PT", "T1S", "PT1D", "P1M", "PT1.S.", "1S", "PT1", "P1DT", "PT99999999999999999999S"} {
		if d, ok := ParseInterval(bad); ok {
			t.Errorf("%q is read as %d", bad, d)
		}
	}
}
