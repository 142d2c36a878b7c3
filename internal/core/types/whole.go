package types

import (
	"strconv"
	"strings"
)

// ParseWhole reads a decimal number that is whole in value, such as 5, 5.0, 5e3 or 0.5e1, exactly: it does not go by way
// of a DOUBLE. ok is false where the text is no number, its value is not whole, or a BIGINT does not hold it.
func ParseWhole(s string) (x int64, ok bool) {
	if x, err := strconv.ParseInt(s, 10, 64); err == nil {
		return x, true
	}
	mantissa, exp := s, 0
	if i := strings.IndexAny(s, "eE"); i >= 0 {
		mantissa = s[:i]
		e, err := strconv.ParseInt(s[i+1:], 10, 64)
		if err != nil && !isRange(err) {
			return 0, false
		}
		exp = int(min(max(e, -1<<40), 1<<40)) // beyond any text's length
	}
	sign := ""
	if strings.HasPrefix(mantissa, "-") || strings.HasPrefix(mantissa, "+") {
		sign, mantissa = strings.TrimPrefix(mantissa[:1], "+"), mantissa[1:]
	}
	whole, fraction, _ := strings.Cut(mantissa, ".")
	digits := whole + fraction
	if digits == "" || strings.Trim(digits, "0123456789") != "" {
		return 0, false
	}
	exp -= len(fraction)
	digits = strings.TrimLeft(digits, "0")
	short := strings.TrimRight(digits, "0")
	exp += len(digits) - len(short)
	switch {
	case short == "":
		return 0, true
	case exp < 0 || len(short)+exp > 19:
		return 0, false
	}
	x, err := strconv.ParseInt(sign+short+strings.Repeat("0", exp), 10, 64)
	return x, err == nil
}

func isRange(err error) bool {
	e, ok := err.(*strconv.NumError)
	return ok && e.Err == strconv.ErrRange
}
