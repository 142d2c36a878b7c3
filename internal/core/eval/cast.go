package eval

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// CanCast says whether CAST from one type to the other is defined.
func CanCast(from, to types.Type) bool {
	if from.Equal(to) || from.Kind == types.Null {
		return true
	}
	switch to.Kind {
	case types.Varchar:
		return from.Kind != types.Row
	case types.Int, types.BigInt, types.Double:
		return from.IsNumber() || from.Kind == types.Varchar
	case types.Boolean:
		return from.Kind == types.Varchar
	case types.Timestamp:
		return from.Kind == types.Varchar || from.Kind == types.Date
	case types.Date:
		return from.Kind == types.Varchar || from.Kind == types.Timestamp
	}
	return false
}

// Implicit says whether a value of one type stands for the other without a CAST.
func Implicit(from, to types.Type) bool {
	switch {
	case from.Equal(to), from.Kind == types.Null:
		return true
	case from.Kind == types.Int:
		return to.Kind == types.BigInt || to.Kind == types.Double
	case from.Kind == types.BigInt:
		return to.Kind == types.Double
	case from.Kind == types.Date:
		return to.Kind == types.Timestamp
	}
	return false
}

// Cast wraps an expression so that it has the type. A constant is cast at once where that works.
func Cast(e *Expr, to types.Type) *Expr {
	if e.Type.Equal(to) {
		return e
	}
	if e.Op == OpConst && e.Value.IsNull() {
		return Const(to, types.Value{Kind: types.Null})
	}
	if e.Op == OpConst && to.Kind == types.Double && e.Type.IsWhole() {
		return Const(to, types.Value{Kind: types.Double, F: float64(e.Value.I)})
	}
	if e.Op == OpConst && to.Kind == types.BigInt && e.Type.Kind == types.Int {
		return Const(to, types.Value{Kind: types.BigInt, I: e.Value.I})
	}
	return &Expr{Op: OpCast, Type: to, Args: []*Expr{e}}
}

func (m *Machine) cast(e *Expr, x *column.Vector, s *slot, n int) {
	from, to := x.Type.Kind, e.Type.Kind
	out := &s.vec
	out.Nulls = x.Nulls
	switch {
	case to == types.Double && (from == types.Int || from == types.BigInt):
		for i, v := range x.I[:n] {
			out.F[i] = float64(v)
		}
		return
	case to == types.BigInt && from == types.Int:
		copy(out.I, x.I[:n])
		return
	case to == types.Timestamp && from == types.Date:
		for i, v := range x.I[:n] {
			out.I[i] = v * types.Day
		}
		return
	}
	nulls := s.clearNulls(n)
	if x.Nulls != nil {
		copy(nulls, x.Nulls)
	}
	out.Nulls = nulls
	var buf []byte
	for i := range n {
		if nulls[i] {
			out.Set(i, n, types.Value{})
			continue
		}
		v := x.Value(i)
		if to == types.Varchar {
			buf = types.AppendText(buf[:0], v)
			out.SetText(i, buf)
			continue
		}
		w, ok := castValue(v, to)
		switch {
		case ok:
			out.Set(i, n, w)
		case e.Try:
			nulls[i] = true
		default:
			nulls[i] = true
			m.Fail(i, fmt.Sprintf("CAST of %s to %s failed", quoteValue(v), e.Type))
		}
	}
}

func quoteValue(v types.Value) string {
	s := string(types.AppendText(nil, v))
	if len(s) > 40 {
		s = s[:40] + "…"
	}
	return "'" + s + "'"
}

// castValue casts to anything but VARCHAR.
func castValue(v types.Value, to types.Kind) (types.Value, bool) {
	out := types.Value{Kind: to}
	if v.Kind == types.Varchar {
		t := strings.TrimSpace(v.S)
		ok := false
		switch to {
		case types.Int, types.BigInt:
			n, err := strconv.ParseInt(t, 10, 64)
			if err != nil {
				x, err := strconv.ParseFloat(t, 64)
				if err != nil {
					return out, false
				}
				return castValue(types.Value{Kind: types.Double, F: x}, to)
			}
			return castValue(types.Value{Kind: types.BigInt, I: n}, to)
		case types.Double:
			x, err := strconv.ParseFloat(t, 64)
			out.F, ok = x, err == nil
		case types.Boolean:
			switch strings.ToLower(t) {
			case "true":
				out.I, ok = 1, true
			case "false":
				ok = true
			}
		case types.Timestamp:
			out.I, ok = types.ParseTimestamp([]byte(t))
		case types.Date:
			out.I, ok = types.ParseDate([]byte(t))
		}
		return out, ok
	}
	switch to {
	case types.Int:
		if v.Kind == types.Double {
			x := math.Round(v.F)
			if !(x >= math.MinInt32 && x <= math.MaxInt32) {
				return out, false
			}
			out.I = int64(x)
			return out, true
		}
		out.I = v.I
		return out, v.I >= math.MinInt32 && v.I <= math.MaxInt32
	case types.BigInt:
		if v.Kind == types.Double {
			x := math.Round(v.F)
			if !(x >= -1<<63 && x < 1<<63) {
				return out, false
			}
			out.I = int64(x)
			return out, true
		}
		out.I = v.I
		return out, true
	case types.Double:
		out.F = float64(v.I)
		return out, true
	case types.Date:
		out.I = floorDiv(v.I, types.Day)
		return out, true
	}
	return out, false
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b != 0 && (a < 0) != (b < 0) {
		q--
	}
	return q
}

// like matches text against a pattern of % and _ with \ as the escape, by code points. On a mismatch
// only the last % is tried again with one more code point: earlier ones need not give back what they
// took, so the time is at most the product of the lengths.
func like(s, pat []byte) bool {
	i, p := 0, 0
	star, from := -1, 0 // behind the last %, and where in s it was tried last
	for i < len(s) || p < len(pat) {
		if p < len(pat) {
			switch c := pat[p]; {
			case c == '%':
				p++
				star, from = p, i
				continue
			case c == '_' && i < len(s):
				i += runeLength(s[i:])
				p++
				continue
			case c != '_' && i < len(s):
				k := p
				if c == '\\' && p+1 < len(pat) {
					k++
				}
				if pat[k] == s[i] {
					i++
					p = k + 1
					continue
				}
			}
		}
		if star < 0 || from >= len(s) {
			return false
		}
		from += runeLength(s[from:])
		i, p = from, star
	}
	return true
}

// runeLength is the number of bytes of the code point that s begins with.
func runeLength(s []byte) int {
	k := 1
	for k < len(s) && s[k]&0xc0 == 0x80 {
		k++
	}
	return k
}
