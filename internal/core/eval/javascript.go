package eval

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/types"

	"modernc.org/quickjs"
)

// Bounds on a function in JavaScript. A row whose call goes beyond them is rejected.
const (
	ScriptTime   = 100 * time.Millisecond
	ScriptMemory = 64 << 20
	// scriptCalls is how deep calls may nest. The engine counts its stack by calls, and a call takes some 4 kB of ours.
	scriptCalls = 4096
	// scriptDepth is how deep a result may be nested.
	scriptDepth = 200
)

// Script is a function in JavaScript. Its code is the body of a function of its arguments; it sees
// neither the clock nor chance, so that its result depends on the arguments alone. Numbers and truths
// come as such, ROW, MAP and JSON as objects, ARRAY as arrays, everything else as text.
type Script struct {
	Name    string
	Args    []types.Field
	Returns types.Type
	Code    string
}

// scriptFrame runs the function over the rows of a batch, written as an array of arrays, and gives for
// each an array of its result, or of the result and the reason why it failed. A result is first made plain, by code that
// the limits on time can stop: the engine writes JSON in one go, which nothing stops, and in time that grows with the
// square of the depth.
const scriptFrame = `
const {stringify, parse} = JSON, {keys, create, setPrototypeOf} = Object, {isArray} = Array;
function plain(x, key, depth) {
	if (x !== null && typeof x === "object" && typeof x.toJSON === "function") x = x.toJSON(key);
	if (x instanceof Number || x instanceof String || x instanceof Boolean) x = x.valueOf();
	switch (typeof x) {
	case "function": case "symbol": case "undefined": return undefined;
	case "object": break;
	default: return x;
	}
	if (x === null) return null;
	if (depth === 0) throw new Error("the result is nested more than %[3]d deep");
	let out;
	if (isArray(x)) {
		out = setPrototypeOf([], null);
		for (let i = 0; i < x.length; i++) out[i] = plain(x[i], String(i), depth - 1);
	} else {
		out = create(null);
		const names = keys(x);
		for (let i = 0; i < names.length; i++) out[names[i]] = plain(x[names[i]], names[i], depth - 1);
	}
	return out;
}
Math.random = function() { throw new Error("Math.random is not there: a result must depend on the row alone") };
globalThis.Date = (function(D) {
	function clock() { throw new Error("the clock is not there: a result must depend on the row alone") }
	function F(...a) { if (a.length === 0) clock(); return new D(...a) }
	F.prototype = D.prototype; F.UTC = D.UTC; F.parse = D.parse; F.now = clock;
	D.prototype.constructor = F;
	return F;
})(Date);
globalThis.performance = undefined;
const f = (function(%[1]s) {"use strict";
%[2]s
});
function one(r) {
	try {
		const x = f(...r);
		if (typeof x === "bigint") return "[" + x + "]";
		if (typeof x === "number" && !isFinite(x)) return stringify([null, "the result is " + x]);
		const y = plain(x, "", %[3]d);
		return stringify([y === undefined ? null : y]);
	} catch (e) {
		return stringify([null, String(e && e.message || e)]);
	}
}
function run(rows) {
	const all = parse(rows);
	let out = "";
	for (let i = 0; i < all.length; i++) out += (i > 0 ? "," : "[") + one(all[i]);
	return out + "]";
}`

func (s *Script) open() (*quickjs.VM, error) {
	vm, err := quickjs.NewVM()
	if err != nil {
		return nil, err
	}
	vm.SetMemoryLimit(ScriptMemory)
	vm.SetMaxStackSize(scriptCalls)
	if err := vm.SetEvalTimeout(10 * ScriptTime); err != nil {
		return nil, err
	}
	var names []string
	for _, a := range s.Args {
		names = append(names, a.Name)
	}
	if _, err := vm.Eval(fmt.Sprintf(scriptFrame, strings.Join(names, ", "), s.Code, scriptDepth), quickjs.EvalGlobal); err != nil {
		_ = vm.Close()
		return nil, err
	}
	return vm, nil
}

// Check says what is wrong with the code, where it cannot be read.
func (s *Script) Check() error {
	vm, err := s.open()
	if err != nil {
		return errors.New(firstLine(err.Error()))
	}
	return vm.Close()
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(s, "\n")
	return s
}

// digest names all that the result depends on but the arguments of a call: functions with equal ones compute the same.
func (s *Script) digest() string {
	h := sha256.New()
	for _, p := range append([]string{s.Name, s.Returns.String(), s.Code}, argNames(s.Args)...) {
		fmt.Fprintf(h, "%d %s", len(p), p)
	}
	return s.Name + " " + hex.EncodeToString(h.Sum(nil)[:12])
}

func argNames(args []types.Field) (out []string) {
	for _, a := range args {
		out = append(out, a.Name+" "+a.Type.String())
	}
	return out
}

// Function gives the entry through which calls are bound.
func (s *Script) Function() *Function {
	var ts []types.Type
	var args []string
	for _, a := range s.Args {
		ts = append(ts, a.Type)
		args = append(args, a.Name+" "+a.Type.String())
	}
	f := &Function{Name: s.Name, Kind: Scalar, Group: "own", Signatures: []string{s.Name + "(" + strings.Join(args, ", ") + ") → " + s.Returns.String()},
		Doc: "A function in JavaScript.", Nulls: "the code sees null"}
	f.resolve = func(given []*Expr) (*Expr, error) {
		as, ok := fit(given, ts...)
		if !ok {
			return nil, ErrTypes
		}
		e := call(s.Returns, s.kernel, as...)
		e.TakesNull, e.Name = true, "javascript "+s.digest()
		return e, nil
	}
	return f
}

// engine is the interpreter of one Machine for one function.
type engine struct{ vm *quickjs.VM }

func (m *Machine) engine(s *Script) (*engine, error) {
	if e := m.engines[s]; e != nil {
		return e, nil
	}
	vm, err := s.open()
	if err != nil {
		return nil, err
	}
	e := &engine{vm}
	runtime.AddCleanup(e, func(vm *quickjs.VM) { _ = vm.Close() }, vm)
	if m.engines == nil {
		m.engines = map[*Script]*engine{}
	}
	m.engines[s] = e
	return e, nil
}

// scriptResult is what one row gave: its result, and the reason why it failed.
type scriptResult []json.RawMessage

func (e *engine) run(rows []byte, limit time.Duration) (out []scriptResult, err error) {
	if err := e.vm.SetEvalTimeout(limit); err != nil {
		return nil, err
	}
	x, err := e.vm.Call("run", string(rows))
	if err != nil {
		return nil, err
	}
	text, _ := x.(string)
	return out, json.Unmarshal([]byte(text), &out)
}

// kernel runs the function over a batch in one call. Where that runs into a bound, the rows are run
// one by one, all of them, so that just those are rejected that do, wherever the batch begins and ends.
func (s *Script) kernel(m *Machine, a []*column.Vector, out *column.Vector, n int) {
	if n == 0 {
		return
	}
	reject := func(i int, why string) {
		m.Fail(i, strings.ToUpper(s.Name)+": "+why)
		out.Set(i, n, types.Value{})
	}
	e, err := m.engine(s)
	if err != nil {
		for i := range n {
			reject(i, firstLine(err.Error()))
		}
		return
	}
	rows := []byte{'['}
	ends := make([]int, n)
	for i := range n {
		if i > 0 {
			rows = append(rows, ',')
		}
		rows = append(rows, '[')
		for k, v := range a {
			if k > 0 {
				rows = append(rows, ',')
			}
			rows = types.AppendJSON(rows, v.Value(i), v.Type)
		}
		rows = append(rows, ']')
		ends[i] = len(rows)
	}
	rows = append(rows, ']')
	results, err := e.run(rows, 10*ScriptTime)
	if err == nil && len(results) == n {
		for i, r := range results {
			s.give(m, r, out, i, n, reject)
		}
		return
	}
	from := 1
	for i := range n {
		row := rows[from:ends[i]]
		from = ends[i] + 1
		if m.Unwanted() {
			m.over = true
			return
		}
		if e, err = m.engine(s); err == nil {
			results, err = e.run(append(append([]byte{'['}, row...), ']'), ScriptTime)
		}
		if err != nil || len(results) != 1 {
			delete(m.engines, s) // what it has kept is gone with it
			why := "no result"
			if err != nil {
				why = firstLine(err.Error())
			}
			reject(i, fmt.Sprintf("stopped (%s); a call may take %d ms and %d MB", why, ScriptTime.Milliseconds(), ScriptMemory>>20))
			continue
		}
		s.give(m, results[0], out, i, n, reject)
	}
}

func (s *Script) give(m *Machine, r scriptResult, out *column.Vector, i, n int, reject func(i int, why string)) {
	if len(r) == 2 {
		var why string
		_ = json.Unmarshal(r[1], &why)                       // the frame writes text
		reject(i, `"`+strings.ReplaceAll(why, `"`, "'")+`"`) // in quotes, as a value is: it may have some in it, and reasons that are counted have none
		return
	}
	v, wrong := ValueOfJSON(r[0], s.Returns)
	if wrong != "" {
		reject(i, "the result "+wrong)
		return
	}
	m.give(v, out, i, n)
}
