package eval

import (
	"fmt"
	"strings"
	"testing"

	"fiume/internal/core/types"
)

// scriptOn runs a function in JavaScript of a BIGINT x over some values.
func scriptOn(t *testing.T, code string, returns types.Type, xs ...int64) (out []string, failed map[int]string) {
	t.Helper()
	s := &Script{Name: "f", Args: []types.Field{{Name: "x", Type: bigint}}, Returns: returns, Code: code}
	e, err := s.Function().resolve([]*Expr{Column(0, bigint)})
	if err != nil {
		t.Fatal(err)
	}
	b := batchOf(len(xs), []types.Kind{types.BigInt}, func(i, _ int) types.Value { return types.Value{Kind: types.BigInt, I: xs[i]} })
	var m Machine
	m.Begin()
	v := m.Eval(e, b)
	failed = map[int]string{}
	for _, f := range m.Failures {
		failed[f.Row] = f.Reason
	}
	for i := range xs {
		out = append(out, string(types.AppendJSON(nil, v.Value(i), returns)))
	}
	return out, failed
}

// TestScriptRows: every row is called, whatever the rows before it have run into.
func TestScriptRows(t *testing.T) {
	var xs []int64
	for x := range int64(300) {
		xs = append(xs, x)
	}
	out, failed := scriptOn(t, `if (x % 50 === 7) for (;;) {} return x * 2`, bigint, xs...)
	held := 0
	for i, x := range xs {
		slow := x%50 == 7
		switch {
		case slow && failed[i] == "", !slow && failed[i] == "" && out[i] != fmt.Sprint(2*x), failed[i] != "" && !strings.Contains(failed[i], "stopped"):
			t.Errorf("row %d: %s, %q", i, out[i], failed[i])
		case !slow && failed[i] != "":
			held++ // the machine stood still meanwhile
		}
	}
	if held == len(xs)-6 {
		t.Errorf("no row that is quick was called to its end")
	}
}

// TestScriptBounds: what a function returns cannot hold its caller up, nor take its memory.
func TestScriptBounds(t *testing.T) {
	doc := types.Of(types.JSON)
	for code, want := range map[string]string{
		`let a = {}; for (let i = 0; i < 30000; i++) a = {a}; return a`:                             "nested more than 200 deep",
		`let a = []; for (let i = 0; i < 200000; i++) a = [a]; return a`:                            "nested more than 200 deep",
		`return {toJSON() { let a = {}; for (let i = 0; i < 30000; i++) a = {a}; return a }}`:       "nested more than 200 deep",
		`return new Array(4000000000)`:                                                              "stopped",
		`const a = {}; a.a = a; return a`:                                                           "nested more than 200 deep",
		`return new Proxy({}, {ownKeys() { return Array.from({length: 1e9}, (_, i) => "k" + i) }})`: "stopped",
		`function f(n) { return f(n + 1) + 1 } return f(0)`:                                         "stack",
		`Array.prototype.toJSON = function() { for (;;) {} }; return [1]`:                           "stopped",
	} {
		if _, failed := scriptOn(t, code, doc, 1); !strings.Contains(failed[0], want) && !strings.Contains(failed[0], "stopped") && !strings.Contains(failed[0], "out of memory") { // which bound is met first depends on the machine
			t.Errorf("%s: %q, wanted %q", code, failed[0], want)
		}
	}
	for code, want := range map[string]string{
		`return 9007199254740993n`: "9007199254740993",
		`return {a: [1, null, undefined, "x"], b: undefined, c: new Date(0)}`: `{"a":[1,null,null,"x"],"c":"1970-01-01T00:00:00.000Z"}`,
		`return {"__proto__": 1, ["__proto__"]: {z: 1}, toString: 2}`:         `{"__proto__":{"z":1},"toString":2}`,
		`return [new Number(1), new String("s"), Object(true)]`:               `[1,"s",true]`,
	} {
		out, failed := scriptOn(t, code, doc, 1)
		for try := 0; try < 20 && strings.Contains(failed[0], "stopped"); try++ { // the machine stood still meanwhile
			out, failed = scriptOn(t, code, doc, 1)
		}
		if out[0] != want {
			t.Errorf("%s: %s, wanted %s (%q)", code, out[0], want, failed[0])
		}
	}
}

// TestScriptsHaveNoAddress: the name of a call says what it computes, and nothing of the process it is bound in.
func TestScriptsHaveNoAddress(t *testing.T) {
	name := func(code string) string {
		s := &Script{Name: "f", Args: []types.Field{{Name: "x", Type: bigint}}, Returns: bigint, Code: code}
		e, err := s.Function().resolve([]*Expr{Column(0, bigint)})
		if err != nil {
			t.Fatal(err)
		}
		return e.Key()
	}
	if a, b, c := name("return x"), name("return x"), name("return x + 1"); a != b || a == c {
		t.Errorf("%s, %s, %s", a, b, c)
	}
}
