package types

import (
	"math/big"
	"math/bits"
	"strconv"

	"github.com/apache/arrow-go/v18/arrow/decimal128"
)

// Num is the digits of a DECIMAL as a signed 128-bit whole number; the point stands in the type.
type Num = decimal128.Num

// MaxPrecision is the most digits that a DECIMAL has.
const MaxPrecision = 38

// ParseDecimal reads digits with at most one point and an optional exponent, exactly. It gives the
// digits as a whole number and how many stand before and behind the point. ok is false where the text
// is no number or has more than 38 digits.
func ParseDecimal(s string) (n Num, precision, scale int, ok bool) {
	i, neg := 0, false
	if i < len(s) && (s[i] == '-' || s[i] == '+') {
		neg = s[i] == '-'
		i++
	}
	var lo, hi uint64
	digits, significant, point, exp := 0, 0, -1, 0
	for ; i < len(s); i++ {
		c := s[i]
		if c == '.' && point < 0 {
			point = digits
			continue
		}
		if c == 'e' || c == 'E' {
			x, err := strconv.Atoi(s[i+1:])
			if err != nil || x > 1000 || x < -1000 {
				return n, 0, 0, false
			}
			exp = x
			break
		}
		if c < '0' || c > '9' {
			return n, 0, 0, false
		}
		digits++
		if significant > 0 || c != '0' {
			significant++
		}
		if significant > MaxPrecision {
			return n, 0, 0, false
		}
		h, l := bits.Mul64(lo, 10)
		l, carry := bits.Add64(l, uint64(c-'0'), 0)
		lo, hi = l, hi*10+h+carry
	}
	if digits == 0 {
		return n, 0, 0, false
	}
	if point >= 0 {
		scale = digits - point
	}
	scale -= exp
	n = decimal128.New(int64(hi), lo)
	if scale < 0 {
		if significant-scale > MaxPrecision && significant > 0 {
			return n, 0, 0, false
		}
		if significant > 0 {
			n = n.IncreaseScaleBy(int32(-scale))
			significant -= scale
		}
		scale = 0
	}
	if neg {
		n = n.Negate()
	}
	return n, max(significant, scale, 1), scale, scale <= MaxPrecision
}

// AppendDecimal appends a DECIMAL with all its digits behind the point.
func AppendDecimal(b []byte, n Num, scale int) []byte {
	var text string
	if h, l := n.HighBits(), int64(n.LowBits()); h == l>>63 {
		text = strconv.FormatInt(l, 10)
	} else {
		text = n.BigInt().String()
	}
	if text[0] == '-' {
		b = append(b, '-')
		text = text[1:]
	}
	if scale == 0 {
		return append(b, text...)
	}
	for len(text) <= scale {
		text = "0" + text
	}
	b = append(b, text[:len(text)-scale]...)
	b = append(b, '.')
	return append(b, text[len(text)-scale:]...)
}

// Rescale changes the number of digits behind the point, rounding halves away from zero. ok is false
// where the result has more digits than precision.
func Rescale(n Num, from, to, precision int) (Num, bool) {
	switch {
	case to > from:
		if n.Sign() != 0 && !n.FitsInPrecision(int32(max(precision-(to-from), 0))) {
			return n, false
		}
		if to-from > MaxPrecision {
			return n, n.Sign() == 0
		}
		n = n.IncreaseScaleBy(int32(to - from))
	case from-to > MaxPrecision:
		return Num{}, true
	case to < from:
		n = n.ReduceScaleBy(int32(from-to), true)
	}
	return n, n.Sign() == 0 || precision > 0 && n.FitsInPrecision(int32(precision))
}

// NumOfBig makes digits of a big whole number. ok is false where it has more than 38 digits.
func NumOfBig(x *big.Int) (Num, bool) {
	if x.BitLen() > 127 {
		return Num{}, false
	}
	n := decimal128.FromBigInt(x)
	return n, n.FitsInPrecision(MaxPrecision)
}

// NumOfInt makes digits of a whole number.
func NumOfInt(x int64) Num { return decimal128.FromI64(x) }

// NumOfWords makes digits of the two halves of a 128-bit number in two's complement.
func NumOfWords(hi int64, lo uint64) Num { return decimal128.New(hi, lo) }

// DecimalToDouble gives the nearest double.
func DecimalToDouble(n Num, scale int) float64 {
	if h, l := n.HighBits(), int64(n.LowBits()); h == l>>63 && l < 1<<53 && l > -1<<53 && scale <= 22 {
		return float64(l) / exactPow10[scale] // both are exact, so that the division rounds once
	}
	x, _ := strconv.ParseFloat(string(AppendDecimal(nil, n, scale)), 64)
	return x
}

var exactPow10 = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19,
	1e20, 1e21, 1e22}
