package plan

import (
	"fiume/internal/core/eval"
	"fiume/internal/core/types"
)

// Kind says what an operator does.
type Kind uint8

const (
	Scan    Kind = iota // reads a stream
	Filter              // keeps the rows where Cond is true
	Project             // computes Exprs
	Window              // aggregates by key and tumbling window
	Route               // sends each row to the sinks of the first branch that takes it
	Output              // writes to a sink, or gives rows to the caller where Sink is nil
)

var kindNames = [...]string{"scan", "filter", "project", "window", "route", "output"}

func (k Kind) String() string { return kindNames[k] }

// Op is one operator of a plan. Operators form a tree for each scan: every operator but a scan has
// one input, and may have several consumers.
type Op struct {
	ID     int
	Kind   Kind
	Step   string // the stream, step or sink of the user's text it belongs to
	Detail string // for people: what it does
	Fields []types.Field
	Time   int // the output column that holds the event time, or -1
	Input  *Op
	Next   []*Op

	Stream   *Stream // Scan
	Since    Bound   // Scan
	Until    Bound   // Scan
	Used     *Use    // Scan: what of each column is read
	Cond     *eval.Expr
	Pushed   bool // Filter: it was written further from the source
	Exprs    []*eval.Expr
	Tumbling *Tumbling
	Branches []Branch
	Sink     *Sink
	Limit    int64 // Output: rows after which the query ends; -1 for none
}

// Named says whether the operator's output is what the user's text calls by the step's name.
func (o *Op) Named() bool { return o.Kind == Project || o.Kind == Scan }

// Tumbling is an aggregation by key and tumbling window. Its output columns are the keys, the
// window's two ends, and the aggregates.
type Tumbling struct {
	Length, Offset int64
	Keys           []*eval.Expr
	Names          []string // of the keys, as they were written
	Aggregates     []*eval.Aggregate
}

// Words is the number of state words of all aggregates.
func (t *Tumbling) Words() (n int) {
	for _, a := range t.Aggregates {
		n += a.Words()
	}
	return n
}

// Branch is one arm of a route; Cond is nil where it takes all.
type Branch struct {
	Cond  *eval.Expr
	Sinks []*Op
}

// Bound says where reading begins or ends.
type Bound struct {
	Kind BoundKind
	At   int64 // microseconds: an instant, or a length of time back
}

// BoundKind is a kind of Bound.
type BoundKind uint8

const (
	Default   BoundKind = iota // jobs begin at the beginning, live queries now; nothing ends
	Beginning                  // the oldest message kept
	Now                        // when the query starts
	AtTime                     // messages stored at an instant
	Ago                        // messages stored a length of time before the start
)

// Plan is a query or a job, ready to run.
type Plan struct {
	Name        string
	Ops         []*Op // each behind its input
	Parallelism int   // 0: as many as there are processors
	Checkpoint  int64 // microseconds between checkpoints; 0: the service's default
}

// Scans gives the operators that read streams.
func (p *Plan) Scans() []*Op { return p.ofKind(Scan) }

// Outputs gives the operators that write to sinks.
func (p *Plan) Outputs() []*Op { return p.ofKind(Output) }

func (p *Plan) ofKind(k Kind) (out []*Op) {
	for _, o := range p.Ops {
		if o.Kind == k {
			out = append(out, o)
		}
	}
	return out
}

// Use says which parts of a stream's columns a plan reads, so that the decoder builds no more.
type Use struct {
	All  bool         // the whole value
	Kids map[int]*Use // columns, or fields of a ROW, by index
}

func (u *Use) kid(i int) *Use {
	if u.Kids == nil {
		u.Kids = map[int]*Use{}
	}
	if u.Kids[i] == nil {
		u.Kids[i] = &Use{}
	}
	return u.Kids[i]
}

// Needs says whether column or field i is read at all, and what of it.
func (u *Use) Needs(i int) (*Use, bool) {
	if u == nil {
		return nil, false
	}
	if u.All {
		return u, true
	}
	k, ok := u.Kids[i]
	return k, ok
}

// note adds what an expression reads.
func (u *Use) note(e *eval.Expr) {
	if at := u.at(e); at != nil {
		at.All = true
		return
	}
	for _, a := range e.Args {
		u.note(a)
	}
}

// at gives the place of a column or of a field of one, or nil for other expressions.
func (u *Use) at(e *eval.Expr) *Use {
	switch e.Op {
	case eval.OpColumn:
		return u.kid(e.Index)
	case eval.OpField:
		if up := u.at(e.Args[0]); up != nil {
			return up.kid(e.Index)
		}
	}
	return nil
}
