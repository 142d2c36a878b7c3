package eval

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// Values of the type JSON are always valid and compact: whoever makes one has checked it. So what
// walks over them only looks for where a part ends.

var jsonType = types.Of(types.JSON)

// compactJSON checks a document and takes out its blanks.
func compactJSON(s string) (string, bool) {
	var b bytes.Buffer
	if json.Compact(&b, []byte(s)) != nil {
		return "", false
	}
	return b.String(), true
}

// jsonEnd gives the end of the value that begins at i.
func jsonEnd(s []byte, i int) int {
	depth := 0
	for ; i < len(s); i++ {
		switch s[i] {
		case '"':
			for i++; s[i] != '"'; i++ {
				if s[i] == '\\' {
					i++
				}
			}
		case '{', '[':
			depth++
		case '}', ']':
			if depth == 0 {
				return i
			}
			depth--
		case ',', ':':
			if depth == 0 {
				return i
			}
			continue
		default:
			continue
		}
		if depth == 0 {
			return i + 1
		}
	}
	return i
}

// jsonParts calls f for each element of an array (key is nil) or member of an object, until it gives false.
func jsonParts(s []byte, f func(key, value []byte) bool) {
	if len(s) < 2 || s[0] != '{' && s[0] != '[' {
		return
	}
	for i := 1; i < len(s) && s[i] != '}' && s[i] != ']'; {
		var key []byte
		if s[0] == '{' {
			end := jsonEnd(s, i)
			key = s[i:end]
			i = end + 1
		}
		end := jsonEnd(s, i)
		if !f(key, s[i:end]) {
			return
		}
		if i = end; i < len(s) && s[i] == ',' {
			i++
		}
	}
}

// jsonText gives the text of a JSON string.
func jsonText(s []byte) string {
	if bytes.IndexByte(s, '\\') < 0 {
		return string(s[1 : len(s)-1])
	}
	var out string
	_ = json.Unmarshal(s, &out) // it is valid
	return out
}

func jsonMember(s []byte, name string) (found []byte) {
	if len(s) == 0 || s[0] != '{' {
		return nil
	}
	jsonParts(s, func(key, value []byte) bool {
		if jsonText(key) == name {
			found = value // of repeated keys the last counts
		}
		return true
	})
	return found
}

func jsonElement(s []byte, n int64) (found []byte) {
	if len(s) == 0 || s[0] != '[' {
		return nil
	}
	jsonParts(s, func(_, value []byte) bool {
		if n == 0 {
			found = value
		}
		n--
		return n >= 0
	})
	return found
}

// castJSON reads a document as a value of a type; null is NULL.
func castJSON(s string, t types.Type) (out types.Value, ok bool) {
	out.Kind = t.Kind
	if t.IsNested() && !fitsParts(s) {
		return out, false
	}
	if s == "null" {
		return types.Value{Kind: types.Null}, true
	}
	if s == "" { // no document: whoever made it was wrong, and that is one row's trouble
		return out, false
	}
	switch t.Kind {
	case types.JSON:
		out.S = s
		return out, true
	case types.Array:
		out.Row, ok = []types.Value{}, s[0] == '['
		jsonParts([]byte(s), func(_, value []byte) bool {
			var x types.Value
			x, ok = castJSON(string(value), t.Fields[0].Type)
			out.Row = append(out.Row, x)
			return ok
		})
		return out, ok
	case types.Map:
		out.Row, ok = []types.Value{}, s[0] == '{'
		jsonParts([]byte(s), func(key, value []byte) bool {
			var k, x types.Value
			if k, ok = castText2(jsonText(key), t.Fields[0].Type); ok {
				x, ok = castJSON(string(value), t.Fields[1].Type)
			}
			out.Row = putPair(out.Row, k, x)
			return ok
		})
		return out, ok
	case types.Row:
		ok = s[0] == '{'
		for _, f := range t.Fields {
			x := types.Value{}
			if m := jsonMember([]byte(s), f.Name); m != nil && ok {
				x, ok = castJSON(string(m), f.Type)
			}
			out.Row = append(out.Row, x)
		}
		return out, ok
	case types.Varchar:
		if s[0] == '"' {
			s = jsonText([]byte(s))
		}
		out.S = s
		return out, true
	}
	if s[0] == '{' || s[0] == '[' {
		return out, false
	}
	if s[0] == '"' {
		s = jsonText([]byte(s))
	}
	return castText(s, t)
}

// castText2 is castText for types that VARCHAR is one of.
func castText2(s string, t types.Type) (types.Value, bool) {
	if t.Kind == types.Varchar {
		return types.Value{Kind: types.Varchar, S: s}, true
	}
	return castText(s, t)
}

// putPair adds a pair to the row of a MAP; of repeated keys the last counts.
func putPair(row []types.Value, k, x types.Value) []types.Value {
	for i := 0; i < len(row); i += 2 {
		if row[i].Kind == k.Kind && CompareValues(row[i], k) == 0 {
			row[i+1] = x
			return row
		}
	}
	return append(row, k, x)
}

// ValueOfJSON reads one JSON value as a decoder does: stricter than CAST, a text is no number. wrong
// says what is wrong, or is "".
func ValueOfJSON(s []byte, t types.Type) (out types.Value, wrong string) {
	var b bytes.Buffer
	if err := json.Compact(&b, s); err != nil {
		return out, "the JSON is malformed"
	}
	if t.IsNested() && !fitsParts(b.String()) {
		return out, fmt.Sprintf("has more than %d elements", MaxParts)
	}
	return valueOfJSON(b.Bytes(), t)
}

func valueOfJSON(s []byte, t types.Type) (out types.Value, wrong string) {
	out.Kind = t.Kind
	if string(s) == "null" {
		return types.Value{Kind: types.Null}, ""
	}
	bad := func() (types.Value, string) {
		text := string(s)
		if len(text) > 40 {
			text = text[:40] + "…"
		}
		return out, fmt.Sprintf("%s is no %s", text, t)
	}
	first := s[0]
	switch t.Kind {
	case types.JSON:
		out.S = string(s)
		return out, ""
	case types.Array:
		if first != '[' {
			return bad()
		}
		out.Row = []types.Value{}
		jsonParts(s, func(_, value []byte) bool {
			var x types.Value
			x, wrong = valueOfJSON(value, t.Fields[0].Type)
			out.Row = append(out.Row, x)
			return wrong == ""
		})
		return out, wrong
	case types.Map:
		if first != '{' {
			return bad()
		}
		out.Row = []types.Value{}
		jsonParts(s, func(key, value []byte) bool {
			k, ok := castText2(jsonText(key), t.Fields[0].Type)
			if !ok {
				wrong = fmt.Sprintf("the key %s is no %s", key, t.Fields[0].Type)
				return false
			}
			var x types.Value
			x, wrong = valueOfJSON(value, t.Fields[1].Type)
			out.Row = putPair(out.Row, k, x)
			return wrong == ""
		})
		return out, wrong
	case types.Row:
		if first != '{' {
			return bad()
		}
		for _, f := range t.Fields {
			x := types.Value{}
			if m := jsonMember(s, f.Name); m != nil && wrong == "" {
				x, wrong = valueOfJSON(m, f.Type)
			}
			out.Row = append(out.Row, x)
		}
		return out, wrong
	case types.Varchar:
		if first != '"' {
			return bad()
		}
		out.S = jsonText(s)
		return out, ""
	case types.Varbinary:
		var b []byte
		if first != '"' || json.Unmarshal(s, &b) != nil {
			return bad()
		}
		out.S = string(b)
		return out, ""
	}
	number := first == '-' || first >= '0' && first <= '9'
	ok := false
	switch {
	case t.IsNumber() && number:
		if t.IsWhole() { // a whole value only
			out.I, ok = types.ParseWhole(string(s))
			ok = ok && (t.Kind == types.BigInt || out.I >= math.MinInt32 && out.I <= math.MaxInt32)
			break
		}
		out, ok = castText(string(s), t)
	case t.Kind == types.Boolean && !number && first != '"', !t.IsNumber() && t.Kind != types.Boolean && first == '"':
		text := string(s)
		if first == '"' {
			text = jsonText(s)
		}
		out, ok = castText(text, t)
	}
	if !ok {
		return bad()
	}
	return out, ""
}

// pathStep is one step of a JSON path.
type pathStep struct {
	name  string // a member
	index int64  // an element, from 0
	all   bool   // every element or member
	array bool
}

// jsonPath reads a path of the standard's simple form: $, .name, ."name", .*, [n], [*]; lax or strict
// may stand before it. In lax mode an element is found in what is no array as if it were one of one
// element, and a member in the elements of an array.
func jsonPath(e *Expr) (steps []pathStep, strict bool, err error) {
	if e.Op != OpConst || e.Type.Kind != types.Varchar {
		return nil, false, fmt.Errorf("the path must be a text that is written out, such as '$.device.serial'")
	}
	s := strings.TrimSpace(e.Value.S)
	if rest, ok := strings.CutPrefix(s, "strict "); ok {
		s, strict = strings.TrimSpace(rest), true
	}
	s = strings.TrimSpace(strings.TrimPrefix(s, "lax "))
	bad := fmt.Errorf("the path '%s' cannot be read; write it like '$.device.tags[0]'", e.Value.S)
	if !strings.HasPrefix(s, "$") {
		return nil, false, bad
	}
	for s = s[1:]; s != ""; {
		switch {
		case strings.HasPrefix(s, ".*"):
			steps = append(steps, pathStep{all: true})
			s = s[2:]
		case strings.HasPrefix(s, `."`):
			end := strings.IndexByte(s[2:], '"')
			if end < 0 {
				return nil, false, bad
			}
			steps = append(steps, pathStep{name: s[2 : 2+end]})
			s = s[3+end:]
		case s[0] == '.':
			end := strings.IndexAny(s[1:], ".[")
			if end < 0 {
				end = len(s) - 1
			}
			if end == 0 || strings.ContainsAny(s[1:1+end], " ?@()*\"'") {
				return nil, false, bad
			}
			steps = append(steps, pathStep{name: s[1 : 1+end]})
			s = s[1+end:]
		case strings.HasPrefix(s, "[*]"):
			steps = append(steps, pathStep{all: true, array: true})
			s = s[3:]
		case s[0] == '[':
			end := strings.IndexByte(s, ']')
			if end < 0 {
				return nil, false, bad
			}
			n, err := strconv.ParseInt(strings.TrimSpace(s[1:end]), 10, 32)
			if err != nil || n < 0 {
				return nil, false, bad
			}
			steps = append(steps, pathStep{index: n, array: true})
			s = s[end+1:]
		default:
			return nil, false, bad
		}
	}
	return steps, strict, nil
}

// jsonFind gives what a path finds. ok is false where strict mode finds the document of another shape.
func jsonFind(s []byte, steps []pathStep, strict bool) (found [][]byte, ok bool) {
	if len(steps) == 0 {
		return [][]byte{s}, true
	}
	st, rest := steps[0], steps[1:]
	ok = true
	down := func(v []byte) {
		more, fits := jsonFind(v, rest, strict)
		found, ok = append(found, more...), ok && fits
	}
	isArray := s[0] == '['
	switch {
	case st.array && !isArray:
		if strict {
			return nil, false
		}
		if st.all || st.index == 0 {
			down(s)
		}
	case st.array && st.all:
		jsonParts(s, func(_, v []byte) bool { down(v); return true })
	case st.array:
		if v := jsonElement(s, st.index); v != nil {
			down(v)
		} else if strict {
			return nil, false
		}
	case isArray && !strict:
		jsonParts(s, func(_, v []byte) bool {
			more, _ := jsonFind(v, steps, strict)
			found = append(found, more...)
			return true
		})
	case s[0] != '{':
		return nil, !strict
	case st.all:
		jsonParts(s, func(_, v []byte) bool { down(v); return true })
	default:
		if v := jsonMember(s, st.name); v != nil {
			down(v)
		} else if strict {
			return nil, false
		}
	}
	return found, ok
}

// OnCase is what a JSON function gives where it finds nothing, or fails.
type OnCase struct {
	Error   bool
	Default *Expr // nil: NULL
}

// document casts the first argument of a JSON function.
func document(x *Expr) (*Expr, error) {
	switch x.Type.Kind {
	case types.JSON, types.Null:
		return Cast(x, jsonType), nil
	case types.Varchar:
		return Cast(x, jsonType), nil
	}
	return nil, fmt.Errorf("a document is JSON or VARCHAR, found %s", x.Type)
}

// JSONValue binds JSON_VALUE (one scalar, cast to t) and JSON_QUERY (any value, as JSON).
func JSONValue(name string, doc, path *Expr, t types.Type, empty, failed OnCase) (*Expr, error) {
	x, err := document(doc)
	if err != nil {
		return nil, err
	}
	steps, strict, err := jsonPath(path)
	if err != nil {
		return nil, err
	}
	query := name == "json_query"
	args := []*Expr{x}
	fill := func(o OnCase) (at int, err error) {
		if o.Default == nil {
			return -1, nil
		}
		if d := Cast(o.Default, t); !Implicit(o.Default.Type, t) && d.Op != OpConst { // a constant that fits
			return -1, fmt.Errorf("the DEFAULT is %s, not %s", o.Default.Type, t)
		}
		args = append(args, Cast(o.Default, t))
		return len(args) - 1, nil
	}
	onEmpty, err := fill(empty)
	if err != nil {
		return nil, err
	}
	onError, err := fill(failed)
	if err != nil {
		return nil, err
	}
	e := call(t, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			if a[0].Null(i) {
				out.Set(i, n, types.Value{})
				continue
			}
			give := func(o OnCase, at int, why string) {
				switch {
				case o.Error:
					m.Fail(i, why)
					out.Set(i, n, types.Value{})
				case at >= 0:
					out.Copy(i, n, a[at], i)
				default:
					out.Set(i, n, types.Value{})
				}
			}
			found, ok := jsonFind(a[0].Text(i), steps, strict)
			switch {
			case !ok:
				give(failed, onError, "the document has another shape than the path "+path.Value.S)
			case len(found) == 0:
				give(empty, onEmpty, "the path "+path.Value.S+" finds nothing")
			case len(found) > 1:
				give(failed, onError, "the path "+path.Value.S+" finds several values")
			case !query && (found[0][0] == '{' || found[0][0] == '['):
				give(failed, onError, "the path "+path.Value.S+" finds no scalar")
			default:
				v, ok := castJSON(string(found[0]), t)
				if !ok {
					give(failed, onError, fmt.Sprintf("the path %s finds %s, which is no %s", path.Value.S, found[0], t))
					continue
				}
				out.Set(i, n, v)
			}
		}
	}, args...)
	e.TakesNull = true
	e.Name = fmt.Sprintf("%s %s %v %v", name, path.Value.S, empty.Error, failed.Error)
	e.Safe = !empty.Error && !failed.Error
	return e, nil
}

// JSONField binds document.name, and document[n] and document['name']: NULL where it is not there.
func JSONField(doc, key *Expr) (*Expr, error) {
	text := key.Type.Kind == types.Varchar
	if !text && !key.Type.IsWhole() {
		return nil, fmt.Errorf("a part of a JSON document is named by a number from 1 or a text, found %s", key.Type)
	}
	e := call(jsonType, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		for i := range n {
			if out.Null(i) {
				out.S[i] = column.Str{}
				continue
			}
			var v []byte
			if text {
				v = jsonMember(a[0].Text(i), string(a[1].Text(i)))
			} else {
				v = jsonElement(a[0].Text(i), a[1].I[i]-1)
			}
			if v == nil || string(v) == "null" {
				out.Set(i, n, types.Value{})
				continue
			}
			out.SetText(i, v)
		}
	}, doc, key)
	e.Name, e.Safe = "part", true
	return e, nil
}

// JSONBuild binds JSON_OBJECT (names and values in turn) and JSON_ARRAY. absent leaves NULLs out.
func JSONBuild(name string, args []*Expr, absent bool) (*Expr, error) {
	object := name == "json_object"
	as := make([]*Expr, len(args))
	for i, a := range args {
		as[i] = a
		if object && i%2 == 0 {
			if a.Type.Kind != types.Varchar {
				return nil, fmt.Errorf("the name of a member is VARCHAR, found %s", a.Type)
			}
		} else if a.Type.Kind == types.Null {
			as[i] = Cast(a, jsonType)
		}
	}
	e := call(jsonType, func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		var b []byte
		for i := range n {
			b = append(b[:0], "{["[btoi(!object)])
			for k := 0; k < len(a); k++ {
				var key []byte
				if object {
					if a[k].Null(i) {
						m.Fail(i, "the name of a member is NULL")
					} else {
						key = a[k].Text(i)
					}
					k++
				}
				if absent && a[k].Null(i) {
					continue
				}
				if len(b) > 1 {
					b = append(b, ',')
				}
				if object {
					b = append(types.AppendJSONString(b, key), ':')
				}
				b = types.AppendJSON(b, a[k].Value(i), a[k].Type)
			}
			out.SetText(i, append(b, "}]"[btoi(!object)]))
		}
	}, as...)
	e.TakesNull = true
	e.Name = fmt.Sprintf("%s %v", name, absent)
	return e, nil
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}
