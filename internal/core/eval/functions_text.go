package eval

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math"
	"regexp"
	"regexp/syntax"
	"strings"
	"unicode/utf8"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

func init() {
	text := func(name, doc, example, result string, f func(dst, s []byte) []byte) {
		plain(&Function{Name: name, Group: "text", Signatures: []string{name + "(s VARCHAR) → VARCHAR"}, Doc: doc, Example: example, Result: result},
			varchar, textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte { return f(dst, a[0].Text(i)) }), varchar)
	}
	text("upper", "The text in capital letters.", "UPPER('finish')", "FINISH", func(dst, s []byte) []byte { return append(dst, bytes.ToUpper(s)...) })
	text("lower", "The text in small letters.", "LOWER('Finish')", "finish", func(dst, s []byte) []byte { return append(dst, bytes.ToLower(s)...) })
	text("reverse", "The code points in the other order.", "REVERSE('mat')", "tam", func(dst, s []byte) []byte {
		for len(s) > 0 {
			_, n := utf8.DecodeLastRune(s)
			dst = append(dst, s[len(s)-n:]...)
			s = s[:len(s)-n]
		}
		return dst
	})
	define(&Function{Name: "trim", Group: "text", Signatures: []string{"trim(s VARCHAR) → VARCHAR", "trim(LEADING | TRAILING | BOTH chars FROM s) → VARCHAR"},
		Doc: "The text without blanks, or without any of the characters given, at its ends.", Example: "TRIM(LEADING '0' FROM '0042')", Result: "42"}, trim)
	define(&Function{Name: "concat", Group: "text", Signatures: []string{"concat(a, b, …) → VARCHAR"}, Doc: "The values joined, each written as CAST to VARCHAR would.",
		Example: "CONCAT('km', 5)", Result: "km5"}, func(args []*Expr) (*Expr, error) { return Concat(args...) })
	plain(&Function{Name: "replace", Group: "text", Signatures: []string{"replace(s, old, new VARCHAR) → VARCHAR"}, Doc: "s with every old replaced by new.",
		Example: "REPLACE('bridge-2', '-', ' ')", Result: "bridge 2"}, varchar,
		textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
			if len(a[1].Text(i)) == 0 {
				return append(dst, a[0].Text(i)...)
			}
			if more := len(a[2].Text(i)) - len(a[1].Text(i)); more > 0 && len(a[0].Text(i))+bytes.Count(a[0].Text(i), a[1].Text(i))*more > MaxValue {
				m.Fail(i, tooLarge("REPLACE"))
				return dst
			}
			return append(dst, bytes.ReplaceAll(a[0].Text(i), a[1].Text(i), a[2].Text(i))...)
		}), varchar, varchar, varchar)
	plain(&Function{Name: "char_length", Group: "text", Signatures: []string{"char_length(s VARCHAR) → BIGINT"}, Doc: "The number of code points.",
		Example: "CHAR_LENGTH('già')", Result: "3"}, bigint, wordKernel(func(m *Machine, i int, a []*column.Vector) int64 { return int64(utf8.RuneCount(a[0].Text(i))) }), varchar)
	define(&Function{Name: "octet_length", Group: "text", Signatures: []string{"octet_length(s VARCHAR) → BIGINT", "octet_length(s VARBINARY) → BIGINT"}, Doc: "The number of bytes.",
		Example: "OCTET_LENGTH('già')", Result: "4"}, func(args []*Expr) (*Expr, error) {
		if len(args) != 1 || !args[0].Type.IsText() {
			return nil, ErrTypes
		}
		return safe(call(bigint, wordKernel(func(m *Machine, i int, a []*column.Vector) int64 { return int64(a[0].S[i].Len) }), args[0])), nil
	})
	plain(&Function{Name: "position", Group: "text", Signatures: []string{"position(part IN s) → BIGINT", "position(part, s VARCHAR) → BIGINT"},
		Doc: "Where part first stands in s, from 1, in code points; 0 where it does not.", Example: "POSITION('mat' IN 'km5-mat')", Result: "5"}, bigint,
		wordKernel(func(m *Machine, i int, a []*column.Vector) int64 {
			s := a[1].Text(i)
			if k := bytes.Index(s, a[0].Text(i)); k >= 0 {
				return int64(utf8.RuneCount(s[:k])) + 1
			}
			return 0
		}), varchar, varchar)
	define(&Function{Name: "substring", Group: "text", Signatures: []string{"substring(s VARCHAR, from BIGINT [, length BIGINT]) → VARCHAR", "substring(s FROM from [FOR length]) → VARCHAR"},
		Doc: "A part of s; from counts from 1, in code points. A length below zero rejects the row.", Example: "SUBSTRING('bridge' FROM 3 FOR 2)", Result: "id"}, substring)
	test := func(name, doc, example, result string, f func(s, part []byte) bool) {
		plain(&Function{Name: name, Group: "text", Signatures: []string{name + "(s, part VARCHAR) → BOOLEAN"}, Doc: doc, Example: example, Result: result}, boolean,
			boolKernel(func(i int, a []*column.Vector) bool { return f(a[0].Text(i), a[1].Text(i)) }), varchar, varchar)
	}
	test("starts_with", "Whether s begins with part.", "STARTS_WITH('km5', 'km')", "true", bytes.HasPrefix)
	test("ends_with", "Whether s ends with part.", "ENDS_WITH('km5', 'km')", "false", bytes.HasSuffix)
	pad := func(name, side, example, result string, left bool) {
		define(&Function{Name: name, Group: "text", Signatures: []string{name + "(s VARCHAR, length BIGINT [, fill VARCHAR]) → VARCHAR"},
			Doc: "s made length code points long: filled with blanks or fill " + side + ", or cut at its end.", Example: example, Result: result},
			func(args []*Expr) (*Expr, error) {
				if len(args) == 2 {
					args = append(args, Const(varchar, types.Value{Kind: types.Varchar, S: " "}))
				}
				as, ok := fit(args, varchar, bigint, varchar)
				if !ok {
					return nil, ErrTypes
				}
				return call(varchar, padKernel(left), as...), nil
			})
	}
	pad("lpad", "on the left", "LPAD('42', 5, '0')", "00042", true)
	pad("rpad", "on the right", "RPAD('km', 4, '.')", "km..", false)
	failing(&Function{Name: "repeat", Group: "text", Signatures: []string{"repeat(s VARCHAR, n BIGINT) → VARCHAR"}, Doc: "s n times. A result above 16 MB rejects the row.",
		Example: "REPEAT('ab', 3)", Result: "ababab"}, varchar,
		textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
			s, n := a[0].Text(i), a[1].I[i]
			if len(s) == 0 {
				return dst
			}
			if n > int64(MaxValue/len(s)) {
				m.Fail(i, "REPEAT would make a text above 16 MB")
				return dst
			}
			return append(dst, bytes.Repeat(s, int(max(n, 0)))...)
		}), varchar, bigint)
	plain(&Function{Name: "split", Group: "text", Signatures: []string{"split(s, separator VARCHAR) → ARRAY(VARCHAR)"},
		Doc: "The parts of s between the separators; an empty separator parts the code points.", Example: "SPLIT('a,b,,c', ',')", Result: `["a","b","","c"]`},
		types.ArrayOf(varchar), valueKernel(func(m *Machine, i int, a []types.Value) types.Value {
			out := types.Value{Kind: types.Array, Row: []types.Value{}}
			if strings.Count(a[0].S, a[1].S) >= MaxParts {
				m.Fail(i, tooManyParts("SPLIT"))
				return types.Value{}
			}
			for _, p := range strings.Split(a[0].S, a[1].S) {
				out.Row = append(out.Row, types.Value{Kind: types.Varchar, S: p})
			}
			return out
		}), varchar, varchar)
	regexFunctions()
	plain(&Function{Name: "to_hex", Group: "text", Signatures: []string{"to_hex(b VARBINARY) → VARCHAR"}, Doc: "The bytes as hexadecimal digits.",
		Example: "TO_HEX(FROM_BASE64('Rk0='))", Result: "464d"}, varchar,
		textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
			return hex.AppendEncode(dst, a[0].Text(i))
		}), varbinary)
	plain(&Function{Name: "to_base64", Group: "text", Signatures: []string{"to_base64(b VARBINARY) → VARCHAR"}, Doc: "The bytes in base 64.",
		Example: "TO_BASE64(FROM_HEX('464d'))", Result: "Rk0="}, varchar,
		textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
			return base64.StdEncoding.AppendEncode(dst, a[0].Text(i))
		}), varbinary)
	from := func(name, doc, example, result string, f func(dst, s []byte) ([]byte, error)) {
		failing(&Function{Name: name, Group: "text", Signatures: []string{name + "(s VARCHAR) → VARBINARY"}, Doc: doc, Example: example, Result: result}, varbinary,
			textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
				out, err := f(dst, a[0].Text(i))
				if err != nil {
					m.Fail(i, fmt.Sprintf("%s cannot read '%.40s'", strings.ToUpper(name), a[0].Text(i)))
					return dst
				}
				return out
			}), varchar)
	}
	from("from_hex", "The bytes that hexadecimal digits stand for.", "TO_HEX(FROM_HEX('00fF'))", "00ff", func(dst, s []byte) ([]byte, error) { return hex.AppendDecode(dst, s) })
	from("from_base64", "The bytes that a text in base 64 stands for.", "TO_HEX(FROM_BASE64('Rk0='))", "464d", func(dst, s []byte) ([]byte, error) { return base64.StdEncoding.AppendDecode(dst, s) })
}

// trim takes s, and the characters and the side where the longer form is used.
func trim(args []*Expr) (*Expr, error) {
	side, chars := "both", " "
	if len(args) == 3 {
		s, ok := constText(args[2])
		c := args[1]
		if !ok || c.Op != OpConst || c.Type.Kind != types.Varchar || s != "leading" && s != "trailing" && s != "both" {
			return nil, fmt.Errorf("TRIM takes LEADING, TRAILING or BOTH and the characters as a text that is written out")
		}
		side, chars, args = s, c.Value.S, args[:1]
	}
	as, ok := fit(args, varchar)
	if !ok {
		return nil, ErrTypes
	}
	e := call(varchar, textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
		s := a[0].Text(i)
		if side != "trailing" {
			s = bytes.TrimLeft(s, chars)
		}
		if side != "leading" {
			s = bytes.TrimRight(s, chars)
		}
		return append(dst, s...)
	}), as...)
	e.Name = "trim " + side + " " + chars
	return safe(e), nil
}

func padKernel(left bool) Kernel {
	return textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
		s, want, fill := a[0].Text(i), a[1].I[i], a[2].Text(i)
		have := int64(utf8.RuneCount(s))
		if want > MaxValue {
			m.Fail(i, "LPAD and RPAD make texts up to 16 MB")
			return dst
		}
		if want <= have {
			for ; want > 0; want-- {
				_, n := utf8.DecodeRune(s)
				dst, s = append(dst, s[:n]...), s[n:]
			}
			return dst
		}
		if !left {
			dst = append(dst, s...)
		}
		for rest := fill; have < want && len(fill) > 0; have++ {
			if len(rest) == 0 {
				rest = fill
			}
			_, n := utf8.DecodeRune(rest)
			dst, rest = append(dst, rest[:n]...), rest[n:]
		}
		if left {
			dst = append(dst, s...)
		}
		return dst
	})
}

// matcher gives the matches of a pattern in the text of a row.
type matcher func(m *Machine, row int, s []byte) [][]int

// matchSteps bounds the work that a pattern may make of one text: its size in instructions times the bytes of the text.
// Matching is linear in both (package regexp), so that this is a bound on time, some seconds at most.
const matchSteps = 400_000_000

// patternSize is the number of instructions of a pattern's program.
func patternSize(re *regexp.Regexp) int {
	tree, err := syntax.Parse(re.String(), syntax.Perl)
	if err != nil {
		return 1
	}
	prog, err := syntax.Compile(tree.Simplify())
	if err != nil {
		return 1
	}
	return len(prog.Inst)
}

// bounded says whether a text is not too long for a pattern of a size, and rejects the row where it is.
func bounded(m *Machine, row, size int, s []byte) bool {
	if len(s) == 0 || size <= matchSteps/len(s) {
		return true
	}
	m.Fail(row, fmt.Sprintf("a pattern of %d steps is too much for a text of %d bytes; together they may be %d", size, len(s), matchSteps))
	return false
}

// matching finds up to a number of matches, -1 for all of them.
func matching(re *regexp.Regexp, most int) matcher {
	size := patternSize(re)
	return func(m *Machine, row int, s []byte) [][]int {
		if !bounded(m, row, size, s) {
			return nil
		}
		return re.FindAllSubmatchIndex(s, most)
	}
}

// regexFunctions are those with a pattern of package regexp, which is written out.
func regexFunctions() {
	regex := func(f *Function, ret types.Type, args, most int, k func(match matcher) Kernel) {
		f.Group = "text"
		define(f, func(as []*Expr) (*Expr, error) {
			if len(as) != args {
				return nil, ErrTypes
			}
			re, err := compileRegex(as[0], "")
			if err != nil {
				return nil, err
			}
			ts := []types.Type{varchar, varchar}[:args-1]
			rest, ok := fit(as[1:], ts...)
			if !ok {
				return nil, ErrTypes
			}
			e := safe(call(ret, k(matching(re, most)), rest...))
			e.Name = f.Name + " " + re.String()
			return e, nil
		})
	}
	regex(&Function{Name: "substring_regex", Signatures: []string{"substring_regex(pattern, s VARCHAR) → VARCHAR"},
		Doc: "The first part of s that the pattern matches, or its first group where it has one; NULL where nothing matches.", Example: `SUBSTRING_REGEX('km([0-9]+)', 'at km15')`, Result: "15"},
		varchar, 2, 1, func(match matcher) Kernel {
			return func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
				for i := range n {
					if out.Null(i) {
						out.S[i] = column.Str{}
						continue
					}
					s := a[0].Text(i)
					at := match(m, i, s)
					if len(at) == 0 {
						out.Set(i, n, types.Value{})
						continue
					}
					g := at[0]
					if len(g) > 2 {
						g = g[2:]
					}
					if g[0] < 0 {
						out.Set(i, n, types.Value{})
						continue
					}
					out.SetText(i, s[g[0]:g[1]])
				}
			}
		})
	regex(&Function{Name: "occurrences_regex", Signatures: []string{"occurrences_regex(pattern, s VARCHAR) → BIGINT"}, Doc: "How often the pattern matches in s.",
		Example: "OCCURRENCES_REGEX('[0-9]', 'km 15')", Result: "2"}, bigint, 2, -1, func(match matcher) Kernel {
		return wordKernel(func(m *Machine, i int, a []*column.Vector) int64 { return int64(len(match(m, i, a[0].Text(i)))) })
	})
	regex(&Function{Name: "translate_regex", Signatures: []string{"translate_regex(pattern, s, new VARCHAR) → VARCHAR"}, Doc: "s with everything that the pattern matches replaced by new.",
		Example: "TRANSLATE_REGEX('[0-9]+', 'km 15', 'n')", Result: "km n"}, varchar, 3, -1, func(match matcher) Kernel {
		return textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
			s, from := a[0].Text(i), 0
			begin := len(dst)
			for _, g := range match(m, i, s) {
				if len(dst)-begin+len(a[1].Text(i)) > MaxValue {
					m.Fail(i, tooLarge("TRANSLATE_REGEX"))
					return dst[:begin]
				}
				dst = append(append(dst, s[from:g[0]]...), a[1].Text(i)...)
				from = g[1]
			}
			return append(dst, s[from:]...)
		})
	})
}

func substring(args []*Expr) (*Expr, error) {
	as, ok := fit(args, varchar, bigint, bigint)
	if !ok {
		if as, ok = fit(args, varchar, bigint); !ok {
			return nil, ErrTypes
		}
	}
	return call(varchar, textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte {
		s, from := a[0].Text(i), a[1].I[i]-1
		to := int64(math.MaxInt64)
		if len(a) == 3 {
			l := a[2].I[i]
			if l < 0 {
				m.Fail(i, "SUBSTRING with a length below zero")
				return dst
			}
			if from < math.MaxInt64-l {
				to = from + l
			}
		}
		k := int64(0)
		for len(s) > 0 && k < to {
			_, w := utf8.DecodeRune(s)
			if k >= from {
				dst = append(dst, s[:w]...)
			}
			s = s[w:]
			k++
		}
		return dst
	}), as...), nil
}
