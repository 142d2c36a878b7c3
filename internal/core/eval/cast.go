package eval

import (
	"encoding/hex"
	"fmt"
	"math"
	"math/big"
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
	if from.Kind == types.JSON && to.Kind != types.Varbinary && to.Kind != types.Interval {
		return true
	}
	switch to.Kind {
	case types.Varchar:
		return true
	case types.JSON:
		return true
	case types.Int, types.BigInt, types.Double, types.Decimal:
		return from.IsNumber() || from.Kind == types.Varchar
	case types.Boolean:
		return from.Kind == types.Varchar
	case types.Timestamp:
		return from.Kind == types.Varchar || from.Kind == types.Date
	case types.Date, types.Time:
		return from.Kind == types.Varchar || from.Kind == types.Timestamp
	case types.Interval:
		return from.Kind == types.Varchar
	case types.Varbinary:
		return from.Kind == types.Varchar
	case types.Array, types.Map, types.Row:
		if from.Kind != to.Kind || len(from.Fields) != len(to.Fields) {
			return false
		}
		for i := range from.Fields {
			if !CanCast(from.Fields[i].Type, to.Fields[i].Type) {
				return false
			}
		}
		return true
	}
	return false
}

// Implicit says whether a value of one type stands for the other without a CAST.
func Implicit(from, to types.Type) bool {
	switch {
	case from.Equal(to), from.Kind == types.Null:
		return true
	case from.Kind == types.Int:
		return to.Kind == types.BigInt || to.Kind == types.Double || to.Kind == types.Decimal
	case from.Kind == types.BigInt:
		return to.Kind == types.Double || to.Kind == types.Decimal
	case from.Kind == types.Decimal:
		return to.Kind == types.Double || to.Kind == types.Decimal && to.Scale >= from.Scale && to.Precision-to.Scale >= from.Precision-from.Scale
	case from.Kind == types.Date:
		return to.Kind == types.Timestamp
	case from.IsNested() && from.Kind == to.Kind && len(from.Fields) == len(to.Fields):
		for i := range from.Fields {
			if from.Fields[i].Name != to.Fields[i].Name && from.Fields[i].Name != "" || !Implicit(from.Fields[i].Type, to.Fields[i].Type) {
				return false
			}
		}
		return true
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
	if e.Op == OpConst && !to.IsNested() {
		if v, ok := castValue(e.Value, to); ok {
			return Const(to, v)
		}
	}
	return &Expr{Op: OpCast, Type: to, Args: []*Expr{e}}
}

func (m *Machine) cast(e *Expr, x *column.Vector, s *slot, n int) {
	from, to := x.Type.Kind, e.Type.Kind
	out := &s.vec
	out.Nulls = x.Nulls
	switch {
	case to == types.Decimal && (from == types.Int || from == types.BigInt) && e.Type.Precision-e.Type.Scale >= 19:
		scale := types.NumOfInt(1).IncreaseScaleBy(int32(e.Type.Scale))
		for i, v := range x.I[:n] {
			out.D[i] = types.NumOfInt(v).Mul(scale)
		}
		return
	case to == types.Double && from == types.Decimal:
		for i, v := range x.D[:n] {
			out.F[i] = types.DecimalToDouble(v, int(x.Type.Scale))
		}
		return
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
		if to == types.Varchar && from != types.JSON {
			if buf = types.AppendText(buf[:0], v); x.Type.IsNested() {
				buf = types.AppendJSON(buf[:0], v, x.Type)
			}
			out.SetText(i, buf)
			continue
		}
		if to == types.JSON {
			v = types.Value{Kind: types.JSON, S: string(types.AppendJSON(nil, v, x.Type))}
			if from == types.Varchar {
				v.S = x.Value(i).S
			}
		}
		w, ok := castValue(v, e.Type)
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

// FromText reads a text as a value of a type, as CAST does; what has parts is read as JSON.
func FromText(s string, t types.Type) (types.Value, bool) {
	if t.Kind == types.Varchar {
		return types.Value{Kind: types.Varchar, S: s}, true
	}
	if t.IsNested() {
		if s, ok := compactJSON(s); ok {
			return castJSON(s, t)
		}
		return types.Value{}, false
	}
	return castValue(types.Value{Kind: types.Varchar, S: s}, t)
}

// castValue casts one value that is not NULL. ok is false where it has no value of the type.
func castValue(v types.Value, t types.Type) (out types.Value, ok bool) {
	to := t.Kind
	out.Kind = to
	switch {
	case to == types.Varchar && v.Kind != types.JSON:
		out.S = string(types.AppendText(nil, v))
		return out, v.Row == nil
	case to == types.JSON:
		out.S, ok = compactJSON(v.S)
		return out, ok && (v.Kind == types.JSON || v.Kind == types.Varchar)
	case v.Kind == types.JSON:
		return castJSON(v.S, t)
	case v.Kind == types.Varchar:
		return castText(v.S, t)
	}
	switch to {
	case types.Int, types.BigInt:
		switch v.Kind {
		case types.Double:
			x := math.Round(v.F)
			if !(x >= -1<<63 && x < 1<<63) {
				return out, false
			}
			out.I = int64(x)
		case types.Decimal:
			n, _ := types.Rescale(v.Num(), int(v.Scale), 0, types.MaxPrecision)
			if out.I = int64(n.LowBits()); n.HighBits() != out.I>>63 {
				return out, false
			}
		default:
			out.I = v.I
		}
		return out, to == types.BigInt || out.I >= math.MinInt32 && out.I <= math.MaxInt32
	case types.Double:
		switch v.Kind {
		case types.Decimal:
			out.F = types.DecimalToDouble(v.Num(), int(v.Scale))
		case types.Double:
			out.F = v.F
		default:
			out.F = float64(v.I)
		}
		return out, true
	case types.Decimal:
		switch v.Kind {
		case types.Double:
			if v.F-v.F != 0 {
				return out, false
			}
			return castText(strconv.FormatFloat(v.F, 'f', -1, 64), t)
		case types.Decimal:
			n, ok := types.Rescale(v.Num(), int(v.Scale), int(t.Scale), int(t.Precision))
			return types.DecimalValue(n, t.Scale), ok
		}
		n, ok := types.Rescale(types.NumOfInt(v.I), 0, int(t.Scale), int(t.Precision))
		return types.DecimalValue(n, t.Scale), ok
	case types.Date:
		out.I = floorDiv(v.I, types.Day)
		return out, true
	case types.Time:
		out.I = v.I - floorDiv(v.I, types.Day)*types.Day
		return out, true
	case types.Timestamp:
		if out.I = v.I; v.Kind == types.Date {
			out.I *= types.Day
		}
		return out, true
	case types.Array, types.Map, types.Row:
		for i, x := range v.Row {
			elem := t.Fields[i%len(t.Fields)].Type
			if !x.IsNull() && (x.Kind != elem.Kind || elem.Kind == types.Decimal || elem.IsNested()) {
				if x, ok = castValue(x, elem); !ok {
					return out, false
				}
			}
			out.Row = append(out.Row, x)
		}
		if out.Row == nil {
			out.Row = []types.Value{}
		}
		return out, true
	}
	return out, false
}

// castText reads a text as a value.
func castText(s string, t types.Type) (out types.Value, ok bool) {
	out.Kind = t.Kind
	s = strings.TrimSpace(s)
	switch t.Kind {
	case types.Int, types.BigInt:
		if n, err := strconv.ParseInt(s, 10, 64); err == nil {
			return castValue(types.Value{Kind: types.BigInt, I: n}, t)
		}
		if n, _, scale, ok := types.ParseDecimal(s); ok {
			return castValue(types.DecimalValue(n, uint8(scale)), t)
		}
		x, err := strconv.ParseFloat(s, 64)
		if err != nil {
			return out, false
		}
		return castValue(types.Value{Kind: types.Double, F: x}, t)
	case types.Double:
		x, err := strconv.ParseFloat(s, 64)
		out.F, ok = x, err == nil
	case types.Decimal:
		n, _, scale, ok := types.ParseDecimal(s)
		if !ok {
			n, scale, ok = longDecimal(s, int(t.Scale))
		}
		if ok {
			n, ok = types.Rescale(n, scale, int(t.Scale), int(t.Precision))
		}
		return types.DecimalValue(n, t.Scale), ok
	case types.Boolean:
		switch strings.ToLower(s) {
		case "true":
			out.I, ok = 1, true
		case "false":
			ok = true
		}
	case types.Timestamp:
		out.I, ok = types.ParseTimestamp([]byte(s))
	case types.Date:
		out.I, ok = types.ParseDate([]byte(s))
	case types.Time:
		out.I, ok = types.ParseTimeOfDay([]byte(s))
	case types.Interval:
		out.I, ok = types.ParseInterval(s)
	case types.Varbinary:
		b, err := hex.DecodeString(s)
		out.S, ok = string(b), err == nil
	}
	return out, ok
}

// longDecimal reads a number of more digits than a DECIMAL has, most of them behind the point.
func longDecimal(s string, scale int) (types.Num, int, bool) {
	if len(s) > 2000 {
		return types.Num{}, 0, false
	}
	x, ok := new(big.Rat).SetString(s)
	if !ok || strings.ContainsAny(s, "/_xXpP") {
		return types.Num{}, 0, false
	}
	p := new(big.Int).Mul(x.Num(), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(scale)), nil))
	roundQuo(p, x.Denom())
	n, ok := types.NumOfBig(p)
	return n, scale, ok
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b != 0 && (a < 0) != (b < 0) {
		q--
	}
	return q
}

// like matches text against a pattern of % and _ with an escape, by code points. On a mismatch
// only the last % is tried again with one more code point: earlier ones need not give back what they
// took, so the time is at most the product of the lengths.
func like(s, pat []byte, escape byte) bool {
	i, p := 0, 0
	star, from := -1, 0 // behind the last %, and where in s it was tried last
	for i < len(s) || p < len(pat) {
		if p < len(pat) {
			switch c := pat[p]; {
			case c == escape && p+1 < len(pat):
				if i < len(s) && pat[p+1] == s[i] {
					i++
					p += 2
					continue
				}
			case c == '%':
				p++
				star, from = p, i
				continue
			case c == '_' && i < len(s):
				i += runeLength(s[i:])
				p++
				continue
			case i < len(s) && c == s[i]:
				i++
				p++
				continue
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
