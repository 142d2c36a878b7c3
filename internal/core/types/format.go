package types

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"math"
	"strconv"
	"unicode/utf8"
)

var pow10 = [...]float64{1, 10, 100, 1000, 10000, 100000}

// AppendDouble appends the shortest decimal text that reads back as the same number. NaN and the
// infinities are written as words.
func AppendDouble(b []byte, x float64) []byte {
	// Most measured values have few decimals. A decimal of at most 15 digits reads back as exactly
	// one double, so the first scale at which the value is whole gives the shortest form.
	if a := math.Abs(x); a < 1e9 && (a >= 1e-5 || x == 0) {
		for k, p := range pow10 {
			r := math.Round(x * p)
			if r/p != x {
				continue
			}
			if r == 0 {
				return append(b, '0')
			}
			n := int64(r)
			if n < 0 {
				b = append(b, '-')
				n = -n
			}
			if k == 0 {
				return strconv.AppendInt(b, n, 10)
			}
			ip := int64(p)
			b = strconv.AppendInt(b, n/ip, 10)
			f := n % ip
			b = append(b, '.')
			for ip /= 10; ip > 0; ip /= 10 {
				b = append(b, byte('0'+f/ip%10))
			}
			return b
		}
	}
	switch {
	case math.IsNaN(x):
		return append(b, "NaN"...)
	case math.IsInf(x, 1):
		return append(b, "Infinity"...)
	case math.IsInf(x, -1):
		return append(b, "-Infinity"...)
	}
	if a := math.Abs(x); a < 1e-6 || a >= 1e21 {
		return strconv.AppendFloat(b, x, 'e', -1, 64)
	}
	return strconv.AppendFloat(b, x, 'f', -1, 64)
}

// DoubleWriter is AppendDouble for runs of numbers with as many decimals: it tries those of the last
// one first. The zero value is ready; it is not safe for use by several goroutines.
type DoubleWriter struct{ scale int }

// Append appends one number.
func (w *DoubleWriter) Append(b []byte, x float64) []byte {
	if a := math.Abs(x); a < 1e9 && a >= 1e-5 {
		p := pow10[w.scale]
		n := int64(a*p + 0.5)
		if float64(n)/p == a { // see AppendDouble
			k, unit := w.scale, int64(p)
			for k > 0 && n%10 == 0 {
				n, k, unit = n/10, k-1, unit/10
			}
			if x < 0 {
				b = append(b, '-')
			}
			b = strconv.AppendInt(b, n/unit, 10)
			if k == 0 {
				return b
			}
			b = append(b, '.')
			for n %= unit; unit > 1; {
				unit /= 10
				b = append(b, byte('0'+n/unit%10))
			}
			return b
		}
	}
	at := len(b)
	b = AppendDouble(b, x)
	if i := bytes.IndexByte(b[at:], '.'); i >= 0 && len(b)-at-i-1 < len(pow10) {
		w.scale = len(b) - at - i - 1
	}
	return b
}

const hexDigits = "0123456789abcdef"

// AppendJSONString appends text as a JSON string. Bytes that are no UTF-8 become U+FFFD.
func AppendJSONString(b, s []byte) []byte {
	b = append(b, '"')
	start := 0
	for i := 0; i < len(s); {
		c := s[i]
		if c >= 0x20 && c < utf8.RuneSelf && c != '"' && c != '\\' {
			i++
			continue
		}
		if c >= utf8.RuneSelf {
			r, n := utf8.DecodeRune(s[i:])
			if r == utf8.RuneError && n == 1 {
				b = append(append(b, s[start:i]...), "\ufffd"...)
				start = i + 1
			}
			i += n
			continue
		}
		b = append(b, s[start:i]...)
		switch c {
		case '"', '\\':
			b = append(b, '\\', c)
		case '\n':
			b = append(b, '\\', 'n')
		case '\r':
			b = append(b, '\\', 'r')
		case '\t':
			b = append(b, '\\', 't')
		default:
			b = append(b, '\\', 'u', '0', '0', hexDigits[c>>4], hexDigits[c&15])
		}
		i++
		start = i
	}
	return append(append(b, s[start:]...), '"')
}

// AppendText appends a value as plain text, the way CAST to VARCHAR writes it. NULL appends nothing.
func AppendText(b []byte, v Value) []byte {
	switch v.Kind {
	case Boolean:
		if v.I != 0 {
			return append(b, "true"...)
		}
		return append(b, "false"...)
	case Int, BigInt:
		return strconv.AppendInt(b, v.I, 10)
	case Double:
		return AppendDouble(b, v.F)
	case Varchar, JSON:
		return append(b, v.S...)
	case Varbinary:
		return hex.AppendEncode(b, []byte(v.S))
	case Decimal:
		return AppendDecimal(b, v.Num(), int(v.Scale))
	case Time:
		return AppendTimeOfDay(b, v.I)
	case Row, Array, Map:
		return AppendJSON(b, v, Type{})
	case Timestamp:
		return AppendTimestamp(b, v.I)
	case Date:
		return AppendDate(b, v.I)
	case Interval:
		return AppendInterval(b, v.I)
	}
	return b
}

// AppendJSON appends a value as JSON. The type names the fields of a ROW; without it they are numbered.
// Numbers are exact, instants and the like are text, VARBINARY is base64, and a MAP is an object.
func AppendJSON(b []byte, v Value, t Type) []byte {
	kid := func(i int) Type {
		if i < len(t.Fields) {
			return t.Fields[i].Type
		}
		return Type{}
	}
	switch v.Kind {
	case Unknown, Null:
		return append(b, "null"...)
	case Boolean, Int, BigInt, Decimal, JSON:
		return AppendText(b, v)
	case Double:
		if math.IsNaN(v.F) || math.IsInf(v.F, 0) {
			return AppendJSONString(b, AppendDouble(nil, v.F))
		}
		return AppendDouble(b, v.F)
	case Varchar:
		return AppendJSONString(b, []byte(v.S))
	case Varbinary:
		return append(base64.StdEncoding.AppendEncode(append(b, '"'), []byte(v.S)), '"')
	case Row:
		b = append(b, '{')
		for i, x := range v.Row {
			if i > 0 {
				b = append(b, ',')
			}
			name := "f" + strconv.Itoa(i+1)
			if i < len(t.Fields) {
				name = t.Fields[i].Name
			}
			b = append(AppendJSONString(b, []byte(name)), ':')
			b = AppendJSON(b, x, kid(i))
		}
		return append(b, '}')
	case Array:
		b = append(b, '[')
		for i, x := range v.Row {
			if i > 0 {
				b = append(b, ',')
			}
			b = AppendJSON(b, x, kid(0))
		}
		return append(b, ']')
	case Map:
		b = append(b, '{')
		for i := 0; i+1 < len(v.Row); i += 2 {
			if i > 0 {
				b = append(b, ',')
			}
			b = append(AppendJSONString(b, AppendText(nil, v.Row[i])), ':')
			b = AppendJSON(b, v.Row[i+1], kid(1))
		}
		return append(b, '}')
	}
	b = append(b, '"')
	return append(AppendText(b, v), '"')
}
