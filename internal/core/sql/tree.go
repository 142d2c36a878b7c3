package sql

import "fiume/internal/core/types"

// Name is an identifier, folded to lower case where it was not quoted.
type Name struct {
	Text string
	Span
}

// Statement is one statement of a text.
type Statement interface{ At() Span }

// Stmt holds what every statement has: where it stands.
type Stmt struct{ Span Span }

// At gives the statement's place, without its semicolon.
func (s Stmt) At() Span { return s.Span }

// Kinds of things that have names, as SHOW, DESCRIBE and DROP use them.
const (
	KindEndpoint = "endpoint"
	KindStream   = "stream"
	KindTable    = "table"
	KindSink     = "sink"
	KindTopic    = "topic"
	KindView     = "view"
	KindJob      = "job"
)

type (
	// DeclareEndpoint is DECLARE ENDPOINT name PLACE 'address' [SECRET 'name'].
	DeclareEndpoint struct {
		Stmt
		Replace bool
		Name    Name
		Place   Name
		Address Text
		Secret  *Text
	}

	// DeclareStream is DECLARE STREAM name (columns) [EVENT TIME …] FROM place 'address' (options).
	DeclareStream struct {
		Stmt
		Replace bool
		Name    Name
		Columns []Column
		Time    *EventTime
		From    Place
	}

	// DeclareSink is DECLARE SINK name TO place 'address' [VIA endpoint] (options).
	DeclareSink struct {
		Stmt
		Replace bool
		Name    Name
		To      Place
	}

	// CreateTopic is CREATE TOPIC name (options).
	CreateTopic struct {
		Stmt
		IfNotExists bool
		Name        Name
		Options     []Option
	}

	// CreateView is CREATE VIEW name AS query.
	CreateView struct {
		Stmt
		Replace bool
		Name    Name
		Query   *Query
	}

	// CreateJob is both forms of CREATE JOB. The short form has one step, called like the job.
	CreateJob struct {
		Stmt
		Replace bool
		Name    Name
		Steps   []Step
		Routes  []Route
		Set     []Option
	}

	// Query is a bare SELECT: a live query.
	Query struct {
		Stmt
		With  []Step
		Body  *Select
		Limit Expr // nil: none
		Until Expr // nil: never; a NowMark or an expression
	}

	// Show is SHOW STREAMS and the like; Kind is singular.
	Show struct {
		Stmt
		Kind string
	}

	// Describe is DESCRIBE name.
	Describe struct {
		Stmt
		Name Name
	}

	// Drop is DROP kind [IF EXISTS] name.
	Drop struct {
		Stmt
		Kind     string
		IfExists bool
		Name     Name
	}

	// StartJob is START JOB name; StopJob is STOP JOB name.
	StartJob struct {
		Stmt
		Name Name
	}
	StopJob struct {
		Stmt
		Name Name
	}

	// Explain is EXPLAIN of a query or of a job by name.
	Explain struct {
		Stmt
		Query *Query
		Job   *Name
	}
)

// Text is a string literal, or the parameter that stood for one.
type Text struct {
	Value string
	Span
}

// Column is a declared column; As is set for a computed one.
type Column struct {
	Name    Name
	Type    types.Type
	NotNull bool
	As      Expr
}

// EventTime is the EVENT TIME clause. Durations are in microseconds; -1 where not given.
type EventTime struct {
	Column    Name
	Delay     int64
	Ahead     int64
	IdleAfter int64
	Span
}

// Place says where something outside is: TOPIC 'reads' VIA endpoint (options).
type Place struct {
	Kind    Name
	Address Text
	Via     *Name
	Options []Option
}

// Option is one NAME value pair. Name is in lower case, its words joined with a blank ("roll every").
// Exactly one of the values is set.
type Option struct {
	Name     string
	Word     string   // a bare word or a text
	Number   *float64 // a number
	Duration *int64   // microseconds
	Names    []Name   // a list in parentheses
	Span
}

// Step is one WITH step.
type Step struct {
	Name  Name
	Query *Select
}

// Route is ROUTE step [WHERE c] TO sinks [ELSE …]. A route without branches' conditions has one
// branch with a nil condition.
type Route struct {
	Step     Name
	Branches []Branch
	Span
}

// Branch is one arm of a route; Where is nil for "all that is left".
type Branch struct {
	Where Expr
	Sinks []Name
}

// Select is one query block.
type Select struct {
	Items   []Item
	From    From
	Where   Expr
	GroupBy []Expr
	Having  Expr
	Windows []Window
	Span
}

// Item is one result column, or a star.
type Item struct {
	Star bool
	Expr Expr
	As   *Name
	Span
}

// From is what a query reads: a name or a query in parentheses.
type From struct {
	Name  Name
	Query *Select
	Alias *Name
	Since Expr // nil: the default; a NowMark, a BeginningMark, a timestamp or a duration
	Span
}

// Window is one WINDOW definition. Durations are in microseconds.
type Window struct {
	Name   Name
	Kind   string // "tumbling"
	Length int64
	Offset int64
	On     Expr
	Span
}

// Expr is an expression.
type Expr interface{ Place() Span }

// Ex holds what every expression has: where it stands.
type Ex struct{ Span Span }

// Place gives the expression's place.
func (e Ex) Place() Span { return e.Span }

type (
	// Path is a name with dots: column, step.column, column.field.
	Path struct {
		Ex
		Parts []Name
	}
	// Literal is a constant. Numbers without a point or exponent are BIGINT, others DOUBLE.
	Literal struct {
		Ex
		Value types.Value
	}
	// Unary is -x, +x or NOT x.
	Unary struct {
		Ex
		Op string
		X  Expr
	}
	// Binary is x op y; Op is upper-case: OR AND = <> < <= > >= + - * / % DIV || LIKE.
	Binary struct {
		Ex
		Op   string
		X, Y Expr
	}
	// Between is x [NOT] BETWEEN lo AND hi.
	Between struct {
		Ex
		Not       bool
		X, Lo, Hi Expr
	}
	// In is x [NOT] IN (list).
	In struct {
		Ex
		Not  bool
		X    Expr
		List []Expr
	}
	// Is is x IS [NOT] NULL, TRUE, FALSE or UNKNOWN.
	Is struct {
		Ex
		Not  bool
		X    Expr
		What string
	}
	// Case is both forms of CASE; X is nil in the searched form.
	Case struct {
		Ex
		X     Expr
		Whens []When
		Else  Expr
	}
	// Cast is CAST(x AS type); Try makes a failure NULL.
	Cast struct {
		Ex
		X   Expr
		To  types.Type
		Try bool
	}
	// Call is f(args), f(*) or f(DISTINCT x).
	Call struct {
		Ex
		Name     Name
		Star     bool
		Distinct bool
		Args     []Expr
	}
	// BeginningMark and NowMark are the words of SINCE and UNTIL.
	BeginningMark struct{ Ex }
	NowMark       struct{ Ex }
)

// When is one arm of a CASE.
type When struct{ Cond, Then Expr }

// HasAggregate says whether a result column calls one of the named functions.
func (s *Select) HasAggregate(names []string) bool {
	found := false
	for _, it := range s.Items {
		if it.Expr != nil {
			WalkExpr(it.Expr, func(e Expr) {
				if c, ok := e.(*Call); ok {
					for _, n := range names {
						found = found || c.Name.Text == n
					}
				}
			})
		}
	}
	return found
}

// WalkExpr calls f for an expression and all below it.
func WalkExpr(e Expr, f func(Expr)) {
	if e == nil {
		return
	}
	f(e)
	kids := func(es ...Expr) {
		for _, k := range es {
			if k != nil {
				WalkExpr(k, f)
			}
		}
	}
	switch e := e.(type) {
	case *Unary:
		kids(e.X)
	case *Binary:
		kids(e.X, e.Y)
	case *Between:
		kids(e.X, e.Lo, e.Hi)
	case *In:
		kids(e.X)
		kids(e.List...)
	case *Is:
		kids(e.X)
	case *Case:
		kids(e.X, e.Else)
		for _, w := range e.Whens {
			kids(w.Cond, w.Then)
		}
	case *Cast:
		kids(e.X)
	case *Call:
		kids(e.Args...)
	}
}
