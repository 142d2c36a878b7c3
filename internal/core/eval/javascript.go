package eval

import (
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
	scriptStack  = 256 << 10
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
// each an array of its result, or of the result and the reason why it failed.
const scriptFrame = `
Math.random = function() { throw new Error("Math.random is not there: a result must depend on the row alone") };
globalThis.Date = (function(D) {
	function clock() { throw new Error("the clock is not there: a result must depend on the row alone") }
	function F(...a) { if (a.length === 0) clock(); return new D(...a) }
	F.prototype = D.prototype; F.UTC = D.UTC; F.parse = D.parse; F.now = clock;
	D.prototype.constructor = F;
	return F;
})(Date);
globalThis.performance = undefined;
const f = (function(%s) {"use strict";
%s
});
function run(rows) {
	return JSON.stringify(JSON.parse(rows).map(function(r) {
		try {
			const x = f(...r);
			if (typeof x === "bigint") return [Number(x)];
			if (typeof x === "number" && !isFinite(x)) return [null, "the result is " + x];
			return [x === undefined ? null : x];
		} catch (e) {
			return [null, String(e && e.message || e)];
		}
	}));
}`

func (s *Script) open() (*quickjs.VM, error) {
	vm, err := quickjs.NewVM()
	if err != nil {
		return nil, err
	}
	vm.SetMemoryLimit(ScriptMemory)
	vm.SetMaxStackSize(scriptStack)
	if err := vm.SetEvalTimeout(10 * ScriptTime); err != nil {
		return nil, err
	}
	var names []string
	for _, a := range s.Args {
		names = append(names, a.Name)
	}
	if _, err := vm.Eval(fmt.Sprintf(scriptFrame, strings.Join(names, ", "), s.Code), quickjs.EvalGlobal); err != nil {
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
		e.TakesNull, e.Name = true, fmt.Sprintf("javascript %s %p", s.Name, s)
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

// slowRows is how many rows of a batch may run into a bound before the rest of it is rejected unseen.
const slowRows = 3

// kernel runs the function over a batch in one call. Where that runs into a bound, the rows are run
// one by one, so that only those are rejected that do.
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
	slow, from := 0, 1
	for i := range n {
		row := rows[from:ends[i]]
		from = ends[i] + 1
		if slow >= slowRows {
			reject(i, "not called, since rows before it ran beyond the bounds of time or memory")
			continue
		}
		if e, err = m.engine(s); err == nil {
			results, err = e.run(append(append([]byte{'['}, row...), ']'), ScriptTime)
		}
		if err != nil || len(results) != 1 {
			slow++
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
		_ = json.Unmarshal(r[1], &why) // the frame writes text
		reject(i, why)
		return
	}
	v, wrong := ValueOfJSON(r[0], s.Returns)
	if wrong != "" {
		reject(i, "the result "+wrong)
		return
	}
	m.give(v, out, i, n)
}
