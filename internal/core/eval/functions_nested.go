package eval

import (
	"crypto/md5" //nolint:gosec // a checksum that users ask for by name
	"crypto/sha256"
	"fmt"

	"fiume/internal/core/column"
	"fiume/internal/core/types"

	"github.com/cespare/xxhash/v2"
)

func init() {
	define(&Function{Name: "cardinality", Group: "nested", Signatures: []string{"cardinality(a ARRAY(T)) → BIGINT", "cardinality(m MAP(K, V)) → BIGINT"},
		Doc: "The number of elements or pairs.", Example: "CARDINALITY(SPLIT('a b c', ' '))", Result: "3"}, func(args []*Expr) (*Expr, error) {
		if len(args) != 1 || args[0].Type.Kind != types.Array && args[0].Type.Kind != types.Map {
			return nil, ErrTypes
		}
		return safe(call(bigint, wordKernel(func(m *Machine, i int, a []*column.Vector) int64 { return int64(a[0].S[i].Len) }), args[0])), nil
	})
	define(&Function{Name: "element_at", Group: "nested", Signatures: []string{"element_at(a ARRAY(T), i BIGINT) → T", "element_at(m MAP(K, V), k K) → V"},
		Doc:     "An element by its number, from 1 or, below zero, from the end; or the value of a key. NULL where there is none. a[i] and m[k] are the same.",
		Example: "ELEMENT_AT(SPLIT('a b c', ' '), -1)", Result: "c"}, func(args []*Expr) (*Expr, error) {
		if len(args) != 2 {
			return nil, ErrTypes
		}
		return Element(args[0], args[1])
	})
	define(&Function{Name: "contains", Group: "nested", Signatures: []string{"contains(a ARRAY(T), x T) → BOOLEAN", "contains(m MAP(K, V), k K) → BOOLEAN"},
		Doc: "Whether an array has an element equal to x, or a map the key k. NULL elements equal nothing.", Example: "CONTAINS(ARRAY[1, 2], 2)", Result: "true"},
		func(args []*Expr) (*Expr, error) {
			if len(args) != 2 || args[0].Type.Kind != types.Array && args[0].Type.Kind != types.Map {
				return nil, ErrTypes
			}
			elem := args[0].Type.Fields[0].Type
			if !Implicit(args[1].Type, elem) {
				return nil, ErrTypes
			}
			step := len(args[0].Type.Fields)
			return safe(call(boolean, valueKernel(func(m *Machine, i int, a []types.Value) types.Value {
				out := types.Value{Kind: types.Boolean}
				for k := 0; k < len(a[0].Row) && out.I == 0; k += step {
					if eq, _ := equalValues(a[0].Row[k], a[1]); eq {
						out.I = 1
					}
				}
				return out
			}), args[0], Cast(args[1], elem))), nil
		})
	parts := func(name, doc, example, result string, at int) {
		define(&Function{Name: name, Group: "nested", Signatures: []string{name + "(m MAP(K, V)) → ARRAY(" + "KV"[at:at+1] + ")"}, Doc: doc, Example: example, Result: result},
			func(args []*Expr) (*Expr, error) {
				if len(args) != 1 || args[0].Type.Kind != types.Map {
					return nil, ErrTypes
				}
				return safe(call(types.ArrayOf(args[0].Type.Fields[at].Type), valueKernel(func(m *Machine, i int, a []types.Value) types.Value {
					out := types.Value{Kind: types.Array, Row: []types.Value{}}
					for k := at; k < len(a[0].Row); k += 2 {
						out.Row = append(out.Row, a[0].Row[k])
					}
					return out
				}), args[0])), nil
			})
	}
	parts("map_keys", "The keys, in their order.", "MAP_KEYS(MAP_OF('a', 1, 'b', 2))", `["a","b"]`, 0)
	parts("map_values", "The values, in the order of their keys.", "MAP_VALUES(MAP_OF('a', 1, 'b', 2))", "[1,2]", 1)
	define(&Function{Name: "map_of", Group: "nested", Signatures: []string{"map_of(key, value, key, value, …) → MAP(K, V)"},
		Doc: "A map of the pairs; of equal keys the last counts. A NULL key rejects the row.", Nulls: "values may be NULL", Example: "MAP_OF('km', 5)['km']", Result: "5"}, mapOf)
	hash := func(name, doc, example, result string, f func(dst, s []byte) []byte) {
		define(&Function{Name: name, Group: "hash", Signatures: []string{name + "(s VARCHAR) → VARBINARY", name + "(s VARBINARY) → VARBINARY"}, Doc: doc, Example: example, Result: result},
			func(args []*Expr) (*Expr, error) {
				if len(args) != 1 || args[0].Type.Kind != types.Varchar && args[0].Type.Kind != types.Varbinary {
					return nil, ErrTypes
				}
				return safe(call(varbinary, textKernel(func(m *Machine, i int, dst []byte, a []*column.Vector) []byte { return f(dst, a[0].Text(i)) }), args[0])), nil
			})
	}
	hash("sha256", "The SHA-256 hash of the bytes.", "SUBSTRING(TO_HEX(SHA256('fiume')), 1, 8)", "d2f7fe20", func(dst, s []byte) []byte {
		h := sha256.Sum256(s)
		return append(dst, h[:]...)
	})
	hash("md5", "The MD5 checksum of the bytes; it keeps no secrets.", "TO_HEX(MD5(''))", "d41d8cd98f00b204e9800998ecf8427e", func(dst, s []byte) []byte {
		h := md5.Sum(s) //nolint:gosec // as above
		return append(dst, h[:]...)
	})
	define(&Function{Name: "hash64", Group: "hash", Signatures: []string{"hash64(a, b, …) → BIGINT"}, Doc: "A 64-bit hash (XXH64) of the values written as text, the same in every run and version.",
		Nulls: "a NULL is told from every text", Example: "HASH64('a') = HASH64('a')", Result: "true"}, func(args []*Expr) (*Expr, error) {
		if len(args) == 0 {
			return nil, ErrTypes
		}
		as := make([]*Expr, len(args))
		for i, a := range args {
			as[i] = Cast(a, varchar)
		}
		e := safe(call(bigint, wordKernel(func(m *Machine, i int, a []*column.Vector) int64 {
			var b []byte
			for _, v := range a {
				if v.Null(i) {
					b = append(b, 0)
					continue
				}
				b = append(append(b, 1), v.Text(i)...)
				b = append(b, 0)
			}
			return int64(xxhash.Sum64(b))
		}), as...))
		e.TakesNull = true
		return e, nil
	})
	json := func(name, doc, example, result string, forms ...string) {
		functions[name] = &Function{Name: name, Kind: Scalar, Group: "json", Signatures: forms, Doc: doc, Nulls: "NULL where the document is NULL", Example: example, Result: result}
	}
	json("json_value", "The scalar that a path finds in a document, cast to a type (VARCHAR by default). "+
		"NULL where it finds nothing or what is no such value, unless ON EMPTY and ON ERROR say otherwise: NULL, ERROR (the row is rejected) or DEFAULT x. "+
		"A path is made of $, .name, .\"name\", [n] from 0, [*] and .*; lax (the default) or strict may stand before it.",
		`JSON_VALUE('{"a": {"b": [4, 5]}}', '$.a.b[1]' RETURNING INT)`, "5", "json_value(doc, 'path' [RETURNING type] [… ON EMPTY] [… ON ERROR]) → type")
	json("json_query", "What a path finds in a document, as JSON.", `JSON_QUERY('{"a": {"b": [4, 5]}}', '$.a')`, `{"b":[4,5]}`, "json_query(doc, 'path' [… ON EMPTY] [… ON ERROR]) → JSON")
	json("json_exists", "Whether a path finds anything in a document.", `JSON_EXISTS('{"a": null}', '$.a')`, "true", "json_exists(doc, 'path') → BOOLEAN")
	json("json_object", "An object of names and values. ABSENT ON NULL leaves out NULLs, which NULL ON NULL (the default) writes.",
		"JSON_OBJECT(KEY 'mat' VALUE 'km5', KEY 'n' VALUE 2)", `{"mat":"km5","n":2}`, "json_object([KEY] name VALUE x, … [NULL | ABSENT ON NULL]) → JSON")
	json("json_array", "An array of values. NULLs are left out unless NULL ON NULL stands behind them.", "JSON_ARRAY(1, 'a', NULL NULL ON NULL)", `[1,"a",null]`, "json_array(x, … [NULL | ABSENT ON NULL]) → JSON")
	functions["json_object"].Nulls, functions["json_array"].Nulls = "a NULL name rejects the row", "never NULL"
}

// JSONExists binds JSON_EXISTS.
func JSONExists(doc, path *Expr) (*Expr, error) {
	x, err := document(doc)
	if err != nil {
		return nil, err
	}
	steps, strict, err := jsonPath(path)
	if err != nil {
		return nil, err
	}
	e := safe(call(boolean, boolKernel(func(i int, a []*column.Vector) bool {
		found, ok := jsonFind(a[0].Text(i), steps, strict)
		return ok && len(found) > 0
	}), x))
	e.Name = "json_exists " + path.Value.S
	return e, nil
}

// Element binds x[i]: an element of an ARRAY, the value of a key of a MAP, or a part of a document.
func Element(x, i *Expr) (*Expr, error) {
	switch x.Type.Kind {
	case types.JSON:
		return JSONField(x, i)
	case types.Array:
		if !i.Type.IsWhole() && i.Type.Kind != types.Null {
			return nil, fmt.Errorf("an element is named by a whole number from 1, found %s", i.Type)
		}
		e := call(x.Type.Elem(), func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
			for r := range n {
				if out.Null(r) {
					out.Set(r, n, types.Value{})
					continue
				}
				at, k := a[0].S[r], a[1].I[r]
				if k < 0 {
					k += int64(at.Len) + 1
				}
				if k < 1 || k > int64(at.Len) {
					out.Set(r, n, types.Value{})
					continue
				}
				out.Copy(r, n, a[0].Kids[0], int(at.Off)+int(k)-1)
			}
		}, x, Cast(i, bigint))
		e.Name = "element"
		return safe(e), nil
	case types.Map:
		key := x.Type.Fields[0].Type
		if !Implicit(i.Type, key) {
			return nil, fmt.Errorf("the keys are %s, found %s", key, i.Type)
		}
		e := call(x.Type.Elem(), func(m *Machine, a []*column.Vector, out *column.Vector, n int) {
		row:
			for r := range n {
				if !out.Null(r) {
					at, want := a[0].S[r], a[1].Value(r)
					for j := int(at.Off); j < int(at.Off+at.Len); j++ {
						if CompareValues(a[0].Kids[0].Value(j), want) == 0 {
							out.Copy(r, n, a[0].Kids[1], j)
							continue row
						}
					}
				}
				out.Set(r, n, types.Value{})
			}
		}, x, Cast(i, key))
		e.Name = "element"
		return safe(e), nil
	}
	return nil, fmt.Errorf("%s has no elements", x.Type)
}

// Field binds x.name for a ROW or a JSON document that is no plain column.
func Field(x *Expr, index int) *Expr {
	return &Expr{Op: OpField, Type: x.Type.Fields[index].Type, Args: []*Expr{x}, Index: index}
}

// ArrayOf binds ARRAY[a, b, …].
func ArrayOf(items []*Expr) (*Expr, error) {
	if len(items) == 0 {
		return nil, fmt.Errorf("an empty ARRAY has no type; write CAST(NULL AS ARRAY(…)) or give it an element")
	}
	as, t, err := alike(items)
	if err != nil {
		return nil, fmt.Errorf("the elements of the ARRAY have no type in common")
	}
	if t.Kind == types.Null {
		return nil, fmt.Errorf("the elements of the ARRAY have no type; cast one of them")
	}
	e := call(types.ArrayOf(t), valueKernel(func(m *Machine, i int, a []types.Value) types.Value {
		return types.Value{Kind: types.Array, Row: append([]types.Value{}, a...)}
	}), as...)
	e.Name, e.TakesNull = "ARRAY", true
	return safe(e), nil
}

// RowOf binds ROW(a, b, …); its fields are called f1, f2, ….
func RowOf(items []*Expr) *Expr {
	t := types.Type{Kind: types.Row}
	as := make([]*Expr, len(items))
	for i, x := range items {
		as[i] = x
		if x.Type.Kind == types.Null {
			as[i] = Cast(x, varchar)
		}
		t.Fields = append(t.Fields, types.Field{Name: fmt.Sprintf("f%d", i+1), Type: as[i].Type})
	}
	return &Expr{Op: OpRow, Type: t, Args: as}
}

func mapOf(args []*Expr) (*Expr, error) {
	if len(args) == 0 || len(args)%2 != 0 {
		return nil, ErrTypes
	}
	var keys, values []*Expr
	for i := 0; i < len(args); i += 2 {
		keys, values = append(keys, args[i]), append(values, args[i+1])
	}
	keys, kt, err := alike(keys)
	if err != nil || kt.IsNested() || kt.Kind == types.JSON || kt.Kind == types.Null {
		return nil, ErrTypes
	}
	values, vt, err := alike(values)
	if err != nil || vt.Kind == types.Null {
		return nil, ErrTypes
	}
	var as []*Expr
	for i := range keys {
		as = append(as, keys[i], values[i])
	}
	e := call(types.MapOf(kt, vt), valueKernel(func(m *Machine, i int, a []types.Value) types.Value {
		out := types.Value{Kind: types.Map, Row: []types.Value{}}
		for k := 0; k < len(a); k += 2 {
			if a[k].IsNull() {
				m.Fail(i, "the key of a map is NULL")
				return types.Value{}
			}
			out.Row = putPair(out.Row, a[k], a[k+1])
		}
		return out
	}), as...)
	e.TakesNull = true
	return e, nil
}
