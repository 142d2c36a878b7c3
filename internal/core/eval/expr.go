// Package eval computes expressions and aggregates over columns.
//
// A bound expression is a tree of Expr. A Machine evaluates trees over batches, one column at a time,
// with scratch memory that it keeps; each goroutine has a Machine of its own. Logic has three values.
// A value that cannot be computed (overflow, a failed CAST, a division by zero) is that row's error:
// the Machine lists it and the step rejects the row.
package eval

import (
	"fmt"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
)

// Op says what a node does.
type Op uint8

const (
	OpColumn   Op = iota // column Index of the batch
	OpField              // field Index of the ROW Args[0]
	OpConst              // Value
	OpAnd                // Args[0] AND Args[1]
	OpOr                 // Args[0] OR Args[1]
	OpNot                // NOT Args[0]
	OpIsNull             // Args[0] IS NULL
	OpIsTrue             // Args[0] IS TRUE
	OpCase               // Args: cond, then, cond, then, …, else
	OpCoalesce           // the first of Args that is not NULL
	OpCast               // CAST; NULL on failure where Try
	OpCall               // Kernel over Args; NULL where an argument is NULL, unless TakesNull
	OpTime               // the row's event time
	OpRow                // a ROW of Args
)

// Kernel fills out, which has n values, from the arguments. Rows that are NULL in out have undefined
// arguments: a kernel that can fail must leave them out.
type Kernel func(m *Machine, args []*column.Vector, out *column.Vector, n int)

// Expr is a bound expression. It is not changed after binding and may be shared by goroutines.
type Expr struct {
	Op        Op
	Type      types.Type
	Args      []*Expr
	Index     int
	Value     types.Value
	Try       bool
	TakesNull bool   // OpCall: the kernel sees NULL arguments
	Volatile  bool   // the result is no function of the arguments
	Safe      bool   // OpCall: it cannot fail
	Shared    bool   // stands in several places: computed once a batch
	Name      string // of a function with all that is fixed in it: equal names compute the same
	Kernel    Kernel
}

// Column makes a reference to a column of the batch.
func Column(i int, t types.Type) *Expr { return &Expr{Op: OpColumn, Type: t, Index: i} }

// Const makes a constant.
func Const(t types.Type, v types.Value) *Expr { return &Expr{Op: OpConst, Type: t, Value: v} }

// And binds x AND y.
func And(x, y *Expr) *Expr { return &Expr{Op: OpAnd, Type: boolean, Args: []*Expr{x, y}} }

// A part may stand in several places of a tree: what walks over it goes into each part once, since a tree whose parts
// are shared at every level is exponentially larger than what is in memory of it.

// Walk calls f for the node and all below it, for each once.
func (e *Expr) Walk(f func(*Expr)) {
	e.any(func(x *Expr) bool { f(x); return false })
}

// any says whether something holds for the node or one below it.
func (e *Expr) any(holds func(*Expr) bool) bool {
	if holds(e) {
		return true
	}
	if len(e.Args) == 0 {
		return false
	}
	seen := map[*Expr]bool{e: true}
	var walk func(args []*Expr) bool
	walk = func(args []*Expr) bool {
		for _, a := range args {
			if seen[a] {
				continue
			}
			if len(a.Args) > 0 {
				seen[a] = true
			}
			if holds(a) || walk(a.Args) {
				return true
			}
		}
		return false
	}
	return walk(e.Args)
}

// Failure is the error of one row.
type Failure struct {
	Row    int
	Reason string
}

// Machine evaluates expressions. The zero value is ready.
type Machine struct {
	Failures []Failure // of the batch at hand; the caller empties it
	Now      int64     // CURRENT_TIMESTAMP, microseconds

	// Ended says that nobody waits for the results any more; nil: somebody always does.
	Ended func() bool

	made    int  // bytes that functions have made of the batch at hand
	over    bool // they are too many
	scratch map[*Expr]*slot
	engines map[*Script]*engine
	batch   uint64 // number of the batch at hand
}

// Begin tells the Machine that another batch is at hand.
func (m *Machine) Begin() {
	m.batch++
	m.made, m.over = 0, false
}

// slot is what a Machine keeps for a node: its result, and the storage of its nulls.
type slot struct {
	vec   column.Vector
	nulls []bool
	args  []*column.Vector

	batch    uint64 // of a shared node: the batch it was computed for
	result   *column.Vector
	failures []Failure
}

// Fail notes that a row cannot be computed.
func (m *Machine) Fail(row int, reason string) {
	m.Failures = append(m.Failures, Failure{row, reason})
}

func (m *Machine) slot(e *Expr, n int) *slot {
	if m.scratch == nil {
		m.scratch = map[*Expr]*slot{}
	}
	s := m.scratch[e]
	if s == nil {
		s = &slot{args: make([]*column.Vector, len(e.Args))}
		if e.Op == OpField || e.Op == OpRow {
			s.vec = column.Vector{Type: e.Type} // its parts belong to others
		} else {
			s.vec = *column.New(e.Type)
		}
		m.scratch[e] = s
	}
	if e.Op != OpConst && e.Op != OpField && e.Op != OpRow {
		if cap(s.vec.Data) > keptScratch {
			s.vec.Data = nil
		}
		s.vec.Resize(n)
		s.vec.Clear()
	}
	return s
}

// keptScratch is the size of a buffer above which it is not kept for the next batch.
const keptScratch = batchBytes

// clearNulls gives n false values to mark NULLs in.
func (s *slot) clearNulls(n int) []bool {
	if cap(s.nulls) < n {
		s.nulls = make([]bool, n)
	}
	s.nulls = s.nulls[:n]
	clear(s.nulls)
	return s.nulls
}

// Eval computes an expression for all rows of a batch. The result belongs to the Machine (or to the
// batch) and is good until the same expression is evaluated again.
func (m *Machine) Eval(e *Expr, b *column.Batch) *column.Vector {
	if !e.Shared {
		return m.compute(e, b)
	}
	if s := m.scratch[e]; s != nil && s.result != nil && s.batch == m.batch {
		m.Failures = append(m.Failures, s.failures...)
		return s.result
	}
	from := len(m.Failures)
	v := m.compute(e, b)
	s := m.scratch[e]
	if s == nil {
		s = m.slot(e, 0)
	}
	s.batch, s.result = m.batch, v
	s.failures = append(s.failures[:0], m.Failures[from:]...)
	return v
}

func (m *Machine) compute(e *Expr, b *column.Batch) *column.Vector {
	n := b.N
	switch e.Op {
	case OpColumn:
		return b.Cols[e.Index]
	case OpTime:
		s := m.slot(e, n)
		s.vec.I = b.Time
		return &s.vec
	case OpConst:
		return m.constant(e, n)
	case OpField:
		return m.field(e, b)
	case OpAnd, OpOr:
		return m.logic(e, b)
	case OpCase, OpCoalesce:
		return m.choose(e, b)
	}
	s := m.slot(e, n)
	for i, a := range e.Args {
		s.args[i] = m.Eval(a, b)
	}
	x := s.args
	switch e.Op {
	case OpNot:
		for i := range n {
			s.vec.B[i] = !x[0].B[i]
		}
		s.vec.Nulls = x[0].Nulls
	case OpIsNull:
		for i := range n {
			s.vec.B[i] = x[0].Null(i)
		}
	case OpIsTrue:
		for i := range n {
			s.vec.B[i] = x[0].B[i] && !x[0].Null(i)
		}
	case OpCast:
		m.cast(e, x[0], s, n)
	case OpRow:
		s.vec.Kids, s.vec.Rows, s.vec.Nulls = x, n, nil
	case OpCall:
		for _, a := range x {
			if a.Nulls == nil || e.TakesNull {
				continue
			}
			if s.vec.Nulls == nil {
				s.vec.Nulls = s.clearNulls(n)
			}
			for i, null := range a.Nulls[:n] {
				if null {
					s.vec.Nulls[i] = true
				}
			}
		}
		e.Kernel(m, x, &s.vec, n)
	}
	return &s.vec
}

// constant gives a vector filled with the constant. It is filled once and only grows.
func (m *Machine) constant(e *Expr, n int) *column.Vector {
	s := m.slot(e, n)
	have := s.vec.Len()
	if have >= n {
		return &s.vec
	}
	n = max(n, 1024, 2*have)
	s.vec = *column.New(e.Type)
	s.vec.Resize(n)
	if e.Value.IsNull() {
		if e.Type.Kind == types.Row {
			for _, k := range s.vec.Kids {
				k.Resize(n)
			}
		}
		s.vec.Nulls = make([]bool, n)
		for i := range s.vec.Nulls {
			s.vec.Nulls[i] = true
		}
		return &s.vec
	}
	switch e.Type.Kind {
	case types.Varchar, types.Varbinary, types.JSON:
		s.vec.Data = []byte(e.Value.S)
		for i := range s.vec.S {
			s.vec.S[i] = column.Str{Len: uint32(len(e.Value.S))}
		}
	default:
		for i := range n {
			s.vec.Set(i, n, e.Value)
		}
	}
	return &s.vec
}

// field takes a field out of a ROW; a field of a NULL row is NULL.
func (m *Machine) field(e *Expr, b *column.Batch) *column.Vector {
	row := m.Eval(e.Args[0], b)
	kid := row.Kids[e.Index]
	if row.Nulls == nil {
		return kid
	}
	s := m.slot(e, b.N)
	s.vec = *kid
	s.vec.Nulls = s.clearNulls(b.N)
	for i := range b.N {
		s.vec.Nulls[i] = row.Nulls[i] || kid.Null(i)
	}
	return &s.vec
}

// keepFailures drops those failures since from whose row does not matter.
func (m *Machine) keepFailures(from int, matters func(row int) bool) {
	kept := m.Failures[:from]
	for _, f := range m.Failures[from:] {
		if matters(f.Row) {
			kept = append(kept, f)
		}
	}
	m.Failures = kept
}

// logic is AND and OR. A failure on one side does not count where the other side decides.
func (m *Machine) logic(e *Expr, b *column.Batch) *column.Vector {
	n := b.N
	decides := e.Op == OpOr // the value that decides alone
	from := len(m.Failures)
	x := m.Eval(e.Args[0], b)
	mid := len(m.Failures)
	y := m.Eval(e.Args[1], b)
	if len(m.Failures) > from {
		left := append([]Failure(nil), m.Failures[from:mid]...)
		right := append([]Failure(nil), m.Failures[mid:]...)
		failed := func(fs []Failure, row int) bool {
			for _, f := range fs {
				if f.Row == row {
					return true
				}
			}
			return false
		}
		sure := func(v *column.Vector, fs []Failure, row int) bool {
			return v.B[row] == decides && !v.Null(row) && !failed(fs, row)
		}
		m.Failures = m.Failures[:from]
		for _, f := range left {
			if !sure(y, right, f.Row) {
				m.Failures = append(m.Failures, f)
			}
		}
		for _, f := range right {
			if !sure(x, left, f.Row) {
				m.Failures = append(m.Failures, f)
			}
		}
		s := m.slot(e, n)
		nulls := s.clearNulls(n)
		for i := range n {
			switch {
			case sure(x, left, i) || sure(y, right, i):
				s.vec.B[i] = decides
			default:
				s.vec.B[i] = !decides
				nulls[i] = x.Null(i) || y.Null(i)
			}
		}
		s.vec.Nulls = nulls
		return &s.vec
	}
	s := m.slot(e, n)
	out, p, q := s.vec.B[:n], x.B[:n], y.B[:n]
	if x.Nulls == nil && y.Nulls == nil {
		if decides {
			for i := range out {
				out[i] = p[i] || q[i]
			}
		} else {
			for i := range out {
				out[i] = p[i] && q[i]
			}
		}
		return &s.vec
	}
	nulls := s.clearNulls(n)
	for i := range n {
		xn, yn := x.Null(i), y.Null(i)
		switch {
		case !xn && p[i] == decides, !yn && q[i] == decides:
			out[i] = decides
		default:
			out[i] = !decides
			nulls[i] = xn || yn
		}
	}
	s.vec.Nulls = nulls
	return &s.vec
}

// choose is CASE and COALESCE: each row takes its value from one of several results. A failure in a
// result does not count for rows that take another.
func (m *Machine) choose(e *Expr, b *column.Batch) *column.Vector {
	n := b.N
	left := make([]uint32, n) // rows without a result so far
	for i := range left {
		left[i] = uint32(i)
	}
	s := m.slot(e, n)
	out := &s.vec
	out.Nulls = nil
	take := func(v *column.Vector, rows []uint32) {
		for _, r := range rows {
			out.Copy(int(r), n, v, int(r))
		}
	}
	within := func(rows []uint32) func(int) bool {
		in := make([]bool, n)
		for _, r := range rows {
			in[r] = true
		}
		return func(row int) bool { return in[row] }
	}
	step := 2
	if e.Op == OpCoalesce {
		step = 1
	}
	for k := 0; k < len(e.Args) && len(left) > 0; k += step {
		from := len(m.Failures)
		var yes, no []uint32
		if e.Op == OpCase && k == len(e.Args)-1 {
			yes = left
			v := m.Eval(e.Args[k], b)
			m.keepFailures(from, within(yes))
			take(v, yes)
			left = nil
			break
		}
		c := m.Eval(e.Args[k], b)
		m.keepFailures(from, within(left))
		for _, r := range left {
			ok := !c.Null(int(r)) && (e.Op == OpCoalesce || c.B[r])
			if ok {
				yes = append(yes, r)
			} else {
				no = append(no, r)
			}
		}
		if e.Op == OpCase && len(yes) > 0 {
			from = len(m.Failures)
			c = m.Eval(e.Args[k+1], b)
			m.keepFailures(from, within(yes))
		}
		take(c, yes)
		left = no
	}
	for _, r := range left {
		out.Set(int(r), n, types.Value{})
	}
	return out
}

// Select lists the rows where a condition is true, and empties and gives the failures.
func (m *Machine) Select(cond *Expr, b *column.Batch, sel []uint32) []uint32 {
	v := m.Eval(cond, b)
	sel = sel[:0]
	if v.Nulls == nil {
		for i, ok := range v.B[:b.N] {
			if ok {
				sel = append(sel, uint32(i))
			}
		}
		return sel
	}
	for i, ok := range v.B[:b.N] {
		if ok && !v.Nulls[i] {
			sel = append(sel, uint32(i))
		}
	}
	return sel
}

// Key writes what the expression computes: expressions with equal keys give equal results.
func (e *Expr) Key() string { return e.KeyOver(nil) }

// KeyOver is Key with each column in the words of a function.
func (e *Expr) KeyOver(column func(i int) string) string {
	var b strings.Builder
	e.key(&b, column)
	return b.String()
}

func (e *Expr) key(b *strings.Builder, column func(i int) string) {
	if e.Op == OpColumn && column != nil {
		b.WriteString(column(e.Index))
		return
	}
	b.Write(e.appendHead(nil))
	for _, a := range e.Args {
		a.key(b, column)
	}
	b.WriteByte(')')
}

// appendHead writes what the node does, without its arguments.
func (e *Expr) appendHead(b []byte) []byte {
	b = fmt.Appendf(b, "(%d %q %s", e.Op, e.Name, e.Type)
	switch e.Op {
	case OpColumn, OpField:
		b = fmt.Appendf(b, " #%d", e.Index)
	case OpConst:
		if e.Value.IsNull() {
			b = append(b, " NULL"...)
		} else {
			b = fmt.Appendf(b, " %q", types.AppendJSON(nil, e.Value, e.Type))
		}
	case OpCast:
		b = fmt.Appendf(b, " %v", e.Try)
	}
	return b
}

// CanFail says whether a row may be rejected by the expression.
func (e *Expr) CanFail() bool {
	return e.any(func(e *Expr) bool {
		return e.Op == OpCall && !e.Safe || e.Op == OpCast && !e.Try && !Implicit(e.Args[0].Type, e.Type) && e.Type.Kind != types.Varchar
	})
}

// IsVolatile says whether the result is no function of the row.
func (e *Expr) IsVolatile() bool {
	return e.any(func(e *Expr) bool { return e.Volatile })
}

// Size is the number of nodes of the tree, a part that stands in several places counted for each, as in its Key. It is
// at most MaxSize + 1.
func (e *Expr) Size() int {
	sizes := map[*Expr]int{}
	var size func(e *Expr) int
	size = func(e *Expr) int {
		if len(e.Args) == 0 {
			return 1
		}
		if n, ok := sizes[e]; ok {
			return n
		}
		n := 1
		for _, a := range e.Args {
			n = min(n+size(a), MaxSize+1)
		}
		sizes[e] = n
		return n
	}
	return size(e)
}

// MaxSize is the greatest size of an expression that is bound.
const MaxSize = 100_000

// mostFolded is how many bytes a constant may have that is computed once and for all. A larger one is made when it is
// needed: many of them would fill the memory while a text is looked at.
const mostFolded = 64 << 10

// Fold computes what does not depend on the row. A part that fails is left, so that it fails for the
// rows that reach it.
func Fold(e *Expr) *Expr { return fold(e, map[*Expr]*Expr{}) }

// fold is Fold; done has the parts that have been folded.
func fold(e *Expr, done map[*Expr]*Expr) (folded *Expr) {
	if e == nil || e.Op == OpConst || len(e.Args) == 0 {
		return e
	}
	if x, ok := done[e]; ok {
		return x
	}
	defer func(of *Expr) { done[of] = folded }(e)
	out := *e
	out.Args = make([]*Expr, len(e.Args))
	constant := e.Op != OpColumn && e.Op != OpTime && !e.Volatile && e.Op != OpRow && !e.Type.IsNested()
	for i, a := range e.Args {
		out.Args[i] = fold(a, done)
		constant = constant && out.Args[i].Op == OpConst
	}
	e = &out
	if constant {
		var m Machine
		v := m.Eval(e, &column.Batch{N: 1, Time: []int64{0}})
		if len(m.Failures) == 0 && m.made <= mostFolded {
			return Const(e.Type, v.Value(0))
		}
		return e
	}
	if e.Op == OpAnd || e.Op == OpOr {
		for i, a := range e.Args {
			if a.Op == OpConst && !a.Value.IsNull() {
				if (a.Value.I != 0) == (e.Op == OpAnd) {
					return e.Args[1-i]
				}
				return a // it decides alone; a failure on the other side would not count
			}
		}
	}
	if e.Op == OpCase && e.Args[0].Op == OpConst { // the first arm is taken always or never
		switch c := e.Args[0].Value; {
		case !c.IsNull() && c.I != 0:
			return e.Args[1]
		case len(e.Args) == 3:
			return e.Args[2]
		default:
			e.Args = e.Args[2:]
			return e
		}
	}
	return e
}

// Share makes equal parts of some expressions one part each, so that it is computed once a batch. The
// expressions are replaced by copies.
func Share(es []*Expr) {
	// Each part gets a number, equal ones the same: a part is what it does and the numbers of its arguments.
	type part struct {
		e        *Expr
		number   int
		volatile bool
	}
	known, done := map[string]part{}, map[*Expr]part{}
	next := 0
	again := func(p part) part {
		p.e.Shared = p.e.Shared || p.e.Op != OpField
		return p
	}
	var key []byte
	var walk func(e *Expr) part
	walk = func(e *Expr) part {
		if p, ok := done[e]; ok {
			if p.volatile || len(e.Args) == 0 && e.Op != OpCall {
				return p
			}
			return again(p)
		}
		p := part{e: e, volatile: e.Volatile}
		args := make([]part, len(e.Args))
		for i, a := range e.Args {
			args[i] = walk(a)
			p.volatile = p.volatile || args[i].volatile
		}
		key = e.appendHead(key[:0])
		for _, a := range args {
			key = fmt.Appendf(key, " #%d", a.number)
		}
		leaf := e.Op == OpColumn || e.Op == OpConst || e.Op == OpTime
		if k, ok := known[string(key)]; ok && !p.volatile {
			if !leaf {
				k = again(k)
			}
			done[e] = k
			return k
		}
		next++
		p.number = next
		if !leaf && !p.volatile {
			c := *e
			c.Args = make([]*Expr, len(e.Args))
			for i, a := range args {
				c.Args[i] = a.e
			}
			p.e = &c
		}
		if !p.volatile {
			known[string(key)] = p
		}
		done[e] = p
		return p
	}
	for i, e := range es {
		if e != nil {
			es[i] = walk(e).e
		}
	}
}
