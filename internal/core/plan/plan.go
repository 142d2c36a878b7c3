package plan

import (
	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// Kind says what an operator does.
type Kind uint8

const (
	Scan    Kind = iota // reads a stream
	Filter              // keeps the rows where Cond is true
	Project             // computes Exprs
	Window              // aggregates by key and window
	Route               // sends each row to the sinks of the first branch that takes it
	Output              // writes to a sink, or gives rows to the caller where Sink is nil
	Unique              // keeps the first row of each key, in event order
	Over                // computes functions over the rows before and behind each row, in event order
	Explode             // gives a row for each element of an array
	Side                // shares the rows of one input of a join, or of a table, out by key
	Join                // pairs the rows of two inputs
	Keep                // holds the latest row of each key of a table
	Lookup              // joins rows with a table as it is when they come
	AsOf                // joins rows with a table as it was at their event time
	Union               // gives the rows of several inputs
	Settle              // puts the changes of each key into one order
)

var kindNames = [...]string{"scan", "filter", "project", "window", "route", "output", "unique", "over", "explode", "side", "join", "table", "lookup", "as of", "union", "settle"}

func (k Kind) String() string { return kindNames[k] }

// Op is one operator of a plan. Every operator but a scan has an input, a join two and a union more, and
// may have several consumers.
type Op struct {
	ID     int
	Key    string // what it means, and the form of its state: equal keys of two plans have equal state
	Means  string // what it means, whatever the form
	Kind   Kind
	Step   string // the stream, step or sink of the user's text it belongs to
	Detail string // for people: what it does
	Fields []types.Field
	Time   int // the output column that holds the event time, or -1
	Input  *Op
	Right  *Op   // Join, AsOf: the other input
	More   []*Op // Union: the inputs behind the first
	Next   []*Op

	Stream   *Stream // Scan
	Since    Bound   // Scan
	Until    Bound   // Scan
	Used     *Use    // Scan: what of each column is read
	Cond     *eval.Expr
	Pushed   bool // Filter: it was written further from the source
	Exprs    []*eval.Expr
	Agg      *Aggregation
	Order    *Ordering
	Array    *eval.Expr // Explode
	Join     *Joining   // Join, Lookup, AsOf
	Side     int        // Side: 0 for the left input, 1 for the right
	Into     *Op        // Side: the operator that gets the rows
	Of       *Op        // Lookup: the table's Keep
	OfTable  *Table     // Scan of a table, Keep, Lookup, AsOf
	Alias    string     // Side, Lookup: what the query calls the input
	Kept     []int      // Side, Lookup: columns of the input, or of the table, that are needed behind it
	Aux      bool       // Scan: of a table that is only looked into, so that it does not keep a run going
	Branches []Branch
	Sink     *Sink
	Differs  string // Output: why its rows may be others when input is read again after a crash; "": they are the same
	Full     bool   // Output: rows say whether they are inserts, replacements or withdrawals
	Limit    int64  // Output: rows after which the query ends; -1 for none

	Changes  bool   // later rows of the output replace or withdraw earlier ones
	Keys     []int  // output columns that tell its rows apart; nil where that is not known
	Lateness int64  // how long after its event time a row of a change output may still change
	Aside    string // Output: AsideLate or AsideRejected where it gets such rows
	Late     []*Op  // outputs of rows set aside that get the rows that are late here
	Rejected []*Op  // outputs of rows set aside that get the rows that are rejected here
	Table    bool   // the rows are those of a table: nothing bounds them in time
	Times    []TimeColumn
	opens    int // output column of a window's beginning, or -1
	closes   int // output column of a window's end, or -1
}

// Kinds of outputs of rows set aside.
const (
	AsideLate     = "late"
	AsideRejected = "rejected"
)

// Named says whether the operator's output is what the user's text calls by the step's name.
func (o *Op) Named() bool { return o.Kind == Project || o.Kind == Scan }

// Keyed says whether the operator's rows are shared out by key to tasks.
func (o *Op) Keyed() bool {
	switch o.Kind {
	case Window, Unique, Over, Side, Join, AsOf, Keep, Settle:
		return true
	}
	return false
}

// Judges says whether rows can be late at the operator.
func (o *Op) Judges() bool {
	switch o.Kind {
	case Window, Unique, Over:
		return true
	case Side:
		return o.Into.Kind == Join && !o.Into.Join.Tables || o.Into.Kind == AsOf && o.Side == 0
	}
	return false
}

// Reread says whether the rows of a table are read anew when a run begins again, instead of going on where
// it was: a file or a table in a database tells no changes.
func (t *Table) Reread() bool { return !t.Latest && !t.Changes && t.Arrival() }

// Inputs gives the operators that an operator gets rows from, but for the routes to a sink.
func (o *Op) Inputs() (out []*Op) {
	for _, in := range append([]*Op{o.Input, o.Right}, o.More...) {
		if in != nil {
			out = append(out, in)
		}
	}
	return out
}

// When an aggregation reports.
const (
	OnClose  = sql.ReportOnClose
	OnEvery  = sql.ReportEvery
	OnChange = sql.ReportOnChange
)

// Aggregation is an aggregation by key and window. Its output columns are the keys, the window's two
// ends, and the aggregates.
type Aggregation struct {
	Frame
	Lateness   int64 // closed windows take corrections for so long, microseconds of event time
	Report     string
	Every      int64 // of OnEvery
	EmptyFor   int64 // a key's windows without rows are given for so long; 0: not at all
	Keys       []*eval.Expr
	Names      []string // of the keys, as they were written
	Aggregates []*eval.Aggregate
}

// Words is the number of state words of all aggregates.
func (a *Aggregation) Words() (n int) {
	for _, x := range a.Aggregates {
		n += x.Words()
	}
	return n
}

// Corrects says whether results once given can change.
func (a *Aggregation) Corrects() bool {
	return a.Lateness > 0 || a.Report != OnClose || a.Kind == Running
}

// Ordering is what a step does that takes its rows in event order. The output columns of a Unique are
// those of its input; those of an Over are those of its input and the functions.
type Ordering struct {
	Keys   []*eval.Expr
	Names  []string
	Within int64 // Unique: repeats are dropped for so long, microseconds
	Calls  []OverCall
	Forget int64 // Over: what a key needs to remember is dropped when it is unseen for so long; 0: the frames bound it
	Ranked bool  // Over: a partition is the rows of one instant, and its order is By
	By     []*eval.Expr
	Desc   []bool
}

// OverCall is a function over the rows of a key.
type OverCall struct {
	Name    string // row_number, rank, dense_rank, lag, lead, or aggregate
	Agg     *eval.Aggregate
	Arg     *eval.Expr // of lag and lead
	Default *eval.Expr
	Offset  int64 // of lag and lead
	Type    types.Type
	// The frame: from From to To, both included, below 0 before the row; rows or microseconds. An open one begins with
	// the key's first row.
	ByRows   bool
	Open     bool
	From, To int64
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
	Memory      int64 // bytes of state that the steps may hold in memory; 0: the default of who runs it
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

// From gives what is used of the columns from one on, which are numbered from 0 then.
func (u *Use) From(first int) *Use {
	if u == nil || u.All || first == 0 {
		return u
	}
	out := &Use{Kids: map[int]*Use{}}
	for i, k := range u.Kids {
		if i >= first {
			out.Kids[i-first] = k
		}
	}
	return out
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

// AsideFields are the columns of ROUTE LATE and ROUTE REJECTED.
var AsideFields = []types.Field{
	{Name: "reason", Type: types.Of(types.Varchar)}, {Name: "step", Type: types.Of(types.Varchar)}, {Name: "origin", Type: types.Of(types.Varchar)},
	{Name: "event_time", Type: types.Of(types.Timestamp)}, {Name: "late_by", Type: types.Of(types.Interval)},
	{Name: "row", Type: types.Of(types.JSON)}, {Name: "raw", Type: types.Of(types.Varchar)},
}

// Reads gives what a call evaluates of each row, nil for what it has not: the value and the default of lag
// and lead; the value, the order and the filter of an aggregate.
func (c *OverCall) Reads() []*eval.Expr {
	switch {
	case c.Agg != nil:
		return []*eval.Expr{c.Agg.Arg, c.Agg.By, c.Agg.Filter}
	case c.Name == "lag" || c.Name == "lead":
		return []*eval.Expr{c.Arg, c.Default}
	}
	return nil
}

// Words is the number of state words of all aggregates.
func (o *Ordering) Words() (n int) {
	for _, c := range o.Calls {
		if c.Agg != nil {
			n += c.Agg.Words()
		}
	}
	return n
}
