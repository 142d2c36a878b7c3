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
	KindPlace    = "place"
	KindView     = "view"
	KindJob      = "job"
	KindFunction = "function"
	KindBoard    = "board"
	KindAlert    = "alert"
)

type (
	// DeclareEndpoint is DECLARE ENDPOINT name PLACE 'address' [SECRET 'name'] (options).
	DeclareEndpoint struct {
		Stmt
		Replace bool
		Name    Name
		Place   Name
		Address Text
		Secret  *Text
		Options []Option
	}

	// DeclareStream is DECLARE STREAM name (columns) [EVENT TIME …] FROM [HISTORY place 'address' (options) THEN] place 'address' (options) [AT time].
	DeclareStream struct {
		Stmt
		Replace bool
		Name    Name
		Columns []Column // nil: the place tells them
		Sampled bool     // COLUMNS SAMPLED
		Time    *EventTime
		History *Place // what is read before From; nil: nothing
		From    Place
		Seam    Expr // with History: the event time at which From takes over; nil: none is said
	}

	// DeclareTable is DECLARE TABLE: as a stream, with a key.
	DeclareTable struct {
		Stmt
		Replace bool
		Name    Name
		Columns []Column
		Sampled bool
		Key     []Name // PRIMARY KEY (a, b) behind the columns
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

	// AlterTopic is ALTER TOPIC name (PARTITIONS n).
	AlterTopic struct {
		Stmt
		Name    Name
		Options []Option
	}

	// CreateView is CREATE VIEW name AS query.
	CreateView struct {
		Stmt
		Replace bool
		Name    Name
		Query   *Query
	}

	// CreateBoard is CREATE BOARD name (options) VARIABLE … PANEL … PANEL ….
	CreateBoard struct {
		Stmt
		Replace   bool
		Name      Name
		Options   []Option
		Variables []Variable
		Panels    []Panel
	}

	// CreateAlert is CREATE ALERT name WHEN (query) [BY columns] [FOR time] [EVERY time] [SAY 'text'] [NOTIFY sinks].
	CreateAlert struct {
		Stmt
		Replace bool
		Name    Name
		Query   *Query
		By      []Name
		For     *Duration // nil: at once
		Every   *Duration // nil: DefaultEvery
		Say     *Text
		Notify  []Name
	}

	// CreateFunction is CREATE FUNCTION name(a T, …) RETURNS T LANGUAGE javascript AS 'code'.
	CreateFunction struct {
		Stmt
		Replace  bool
		Name     Name
		Args     []Column
		Returns  types.Type
		Language Name
		Code     Text
	}

	// CreateJob is both forms of CREATE JOB. The short form has one step, called like the job.
	CreateJob struct {
		Stmt
		Replace bool
		Short   bool // CREATE JOB j AS query
		Name    Name
		Steps   []Step
		Routes  []Route
		Set     []Option
	}

	// Insert is INSERT INTO name [(columns)] VALUES … or a query.
	Insert struct {
		Stmt
		Into    Name
		Columns []Name
		Rows    [][]Expr
		Query   *Query
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

	// Describe is DESCRIBE name, DESCRIBE FUNCTION name or DESCRIBE PLACE name.
	Describe struct {
		Stmt
		Function bool
		Place    bool
		Name     Name
	}

	// Drop is DROP kind [IF EXISTS] name.
	Drop struct {
		Stmt
		Kind     string
		IfExists bool
		Name     Name
	}

	// StartJob is START JOB name [FROM …].
	StartJob struct {
		Stmt
		Name Name
		From Expr // nil: where it stopped; a BeginningMark, a timestamp, or the number of a checkpoint
	}

	// StopJob is STOP JOB name.
	StopJob struct {
		Stmt
		Name Name
	}

	// Explain is EXPLAIN of a query, of a job by name, or of a CREATE JOB.
	Explain struct {
		Stmt
		Query  *Query
		Job    *Name
		Create *CreateJob
	}
)

// Text is a string literal, or the parameter that stands for one.
type Text struct {
	Value string
	Param string // the parameter's name where the text is read without values, else ""
	Span
}

// Duration is a length of time in microseconds.
type Duration struct {
	Micros int64
	Param  string // as in ":n SECONDS" where the text is read without values, else ""
}

// Column is a declared column; As is set for a computed one.
type Column struct {
	Name    Name
	Type    types.Type
	NotNull bool
	Key     bool // PRIMARY KEY
	// Sensitive says that its values are shown to those alone who may see them.
	Sensitive bool
	As        Expr
	Span      Span
}

// EventTime is the EVENT TIME clause.
type EventTime struct {
	Column    Name
	Delay     *Duration // nil where not given
	Ahead     *Duration
	IdleAfter *Duration
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
	IsText   bool     // Word was a text in quotes
	Number   *float64 // a number
	Duration *int64   // microseconds
	Names    []Name   // a list in parentheses
	Param    string   // as in ":n" or ":n SECONDS" where the text is read without values, else ""
	Span
}

// Panel is PANEL 'title' kind (options) AS (query), or PANEL 'title' TEXT 'words'.
type Panel struct {
	Title   Text
	Kind    Name
	Options []Option
	Words   *Text  // of TEXT; nil: there is a query
	Query   *Query // nil: there are words
	Inner   Span   // between the parentheses of the query
	Span    Span
}

// Variable is VARIABLE name 'title' (options) AS (query): what whoever looks at a board chooses, and panels read as :name.
type Variable struct {
	Name    Name
	Title   *Text // nil: it is called like its name
	Options []Option
	Query   *Query
	Inner   Span // between the parentheses of the query
	Span    Span
}

// Step is one WITH step.
type Step struct {
	Name  Name
	Query *Select
	Inner Span // between the parentheses, or the query's place where there are none
	Span  Span
}

// What a route carries.
const (
	RouteRows     = ""         // the step's rows
	RouteLate     = "late"     // the rows that came too late for it
	RouteRejected = "rejected" // the rows that could not be computed, decoded or written
)

// Route is ROUTE [LATE | REJECTED] step [OF input] [WHERE c] TO sinks [ELSE …]. A route without
// conditions has one branch with a nil condition.
type Route struct {
	Kind     string // RouteRows, RouteLate or RouteRejected
	Step     Name
	Of       *Name // LATE step OF input
	Branches []Branch
	Span
}

// Branch is one arm of a route; Where is nil for "all that is left".
type Branch struct {
	Where Expr
	Sinks []Name
}

// Select is one query block, and those that UNION ALL puts behind it.
type Select struct {
	Distinct bool
	Items    []Item
	From     From
	Joins    []Join
	Where    Expr
	Unique   *Unique
	GroupBy  []Expr
	Forget   *Duration // GROUP BY … FORGET AFTER
	Having   Expr
	Windows  []Window
	Union    *Select // UNION ALL
	Span
}

// Item is one result column, or a star; From is set for "r.*".
type Item struct {
	Star bool
	Of   *Name
	Expr Expr
	As   *Name
	Span
}

// From is what a query reads: a name, a step of a job, a query in parentheses, or UNNEST of an array.
type From struct {
	Name    Name
	Job     *Name // job.step: the rows of a running job's step as they stand; or the space of what is declared, which only the catalogue tells; nil for others
	Query   *Select
	Unnest  Expr
	Alias   *Name
	Columns []Name // AS u(x)
	Since   Expr   // nil: the default; a NowMark, a BeginningMark, a timestamp or a duration
	AsOf    Expr   // of a joined table: nil, a NowMark or an expression
	Span
}

// Read is the name of what is read, with its space; of a step of a job with the job's before it.
func (f From) Read() string {
	if f.Job != nil {
		return f.Job.Text + "." + f.Name.Text
	}
	return f.Name.Text
}

// Join is one JOIN behind FROM.
type Join struct {
	Kind     string // "INNER", "LEFT", "RIGHT", "FULL" or "CROSS"
	Pick     string // "", "LAST" or "FIRST"
	With     From
	On       Expr // nil for CROSS
	Lateness *Duration
	Span
}

// Unique is UNIQUE BY (a, b) WITHIN d.
type Unique struct {
	By     []Expr
	Within Duration
	Span
}

// When a window reports.
const (
	ReportOnClose  = "" // the default
	ReportEvery    = "every"
	ReportOnChange = "change"
)

// Kinds of windows.
const (
	Tumbling = "tumbling"
	Sliding  = "sliding"
	Session  = "session"
)

// Window is one WINDOW definition: of event time, or of rows for OVER.
type Window struct {
	Name     Name
	Over     *Over     // set for a window of rows; then nothing below is
	Kind     string    // Tumbling, Sliding or Session
	Length   *Duration // tumbling and sliding
	Every    *Duration // sliding
	Gap      *Duration // session
	Max      *Duration // session; nil: none
	Offset   *Duration
	Zone     *Text
	On       Expr
	Lateness *Duration
	Report   string    // ReportOnClose, ReportEvery or ReportOnChange
	Each     *Duration // of ReportEvery
	EmptyFor *Duration
	Span
}

// Over is what stands in OVER (…): the rows that a function sees.
type Over struct {
	Window    *Name // OVER w
	Partition []Expr
	Order     []Order
	Frame     *Frame
	Forget    *Duration
	Span
}

// Order is one term of an ORDER BY.
type Order struct {
	By   Expr
	Desc bool
}

// Frame is ROWS or RANGE with its bounds.
type Frame struct {
	Unit     string // "ROWS" or "RANGE"
	From, To FrameBound
	Between  bool // written with BETWEEN
}

// FrameBound is one end of a frame; By is nil for UNBOUNDED and for CURRENT ROW.
type FrameBound struct {
	By   Expr
	Kind string // "UNBOUNDED PRECEDING", "PRECEDING", "CURRENT ROW", "FOLLOWING", "UNBOUNDED FOLLOWING"
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
	// Literal is a constant. A number without a point or exponent is BIGINT where it fits and DECIMAL
	// where it does not, one with a point DECIMAL, one with an exponent DOUBLE.
	Literal struct {
		Ex
		Value types.Value
		Text  string // of a number or duration as it was written in one word or with a parameter, else ""
	}
	// Param is ":name" where the text is read without values.
	Param struct {
		Ex
		Name string
	}
	// Unary is -x, +x or NOT x.
	Unary struct {
		Ex
		Op string
		X  Expr
	}
	// Binary is x op y; Op is upper-case: OR AND = <> < <= > >= + - * / % DIV || AT TIME ZONE.
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
	// Within is x WITHIN d OF y, AFTER y or BEFORE y.
	Within struct {
		Ex
		X    Expr
		Of   Duration
		Kind string // "OF", "AFTER" or "BEFORE"
		Y    Expr
	}
	// In is x [NOT] IN (list), or IN (query).
	In struct {
		Ex
		Not   bool
		X     Expr
		List  []Expr
		Query *Select
	}
	// Like is x [NOT] LIKE pattern [ESCAPE e], or LIKE_REGEX pattern [FLAG f].
	Like struct {
		Ex
		Not     bool
		Regex   bool
		X       Expr
		Pattern Expr
		Extra   Expr // ESCAPE or FLAG; nil where there is none
	}
	// Is is x IS [NOT] NULL, TRUE, FALSE or UNKNOWN, or IS [NOT] DISTINCT FROM y.
	Is struct {
		Ex
		Not  bool
		X    Expr
		What string
		Y    Expr // of DISTINCT FROM
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
	// Call is f(args), f(*) or f(DISTINCT x), with what may stand behind it.
	Call struct {
		Ex
		Name      Name
		Star      bool
		Distinct  bool
		Args      []Expr
		Order     []Order     // f(x ORDER BY y), or WITHIN GROUP (ORDER BY y)
		InGroup   bool        // written as WITHIN GROUP
		Filter    Expr        // FILTER (WHERE …)
		Over      *Over       // OVER …
		Returning *types.Type // JSON functions
		OnEmpty   *OnCase     // JSON functions
		OnError   *OnCase     // JSON functions
		Absent    bool        // JSON_OBJECT and JSON_ARRAY: ABSENT ON NULL
	}
	// Index is x[i].
	Index struct {
		Ex
		X, I Expr
	}
	// Field is x.name where x is no plain name.
	Field struct {
		Ex
		X    Expr
		Name Name
	}
	// Build is ARRAY[a, b] or ROW(a, b).
	Build struct {
		Ex
		What  string // "ARRAY" or "ROW"
		Items []Expr
	}
	// Exists is EXISTS (query).
	Exists struct {
		Ex
		Query *Select
	}
	// Subquery is a query that stands for a value.
	Subquery struct {
		Ex
		Query *Select
	}
	// BeginningMark and NowMark are words of SINCE, UNTIL, AS OF and START JOB.
	BeginningMark struct{ Ex }
	NowMark       struct{ Ex }
	// CheckpointMark is CHECKPOINT n of START JOB.
	CheckpointMark struct {
		Ex
		Number int64
	}
)

// OnCase is what a JSON function gives where it finds nothing or fails.
type OnCase struct {
	Kind    string // "NULL", "ERROR" or "DEFAULT"
	Default Expr
}

// When is one arm of a CASE.
type When struct{ Cond, Then Expr }

// Walk calls block for the query and every query inside it, and expr for every expression in them.
func (s *Select) Walk(block func(*Select), expr func(Expr)) {
	block(s)
	visit := func(e Expr) {
		WalkExpr(e, func(x Expr) {
			expr(x)
			switch x := x.(type) {
			case *In:
				if x.Query != nil {
					x.Query.Walk(block, expr)
				}
			case *Exists:
				x.Query.Walk(block, expr)
			case *Subquery:
				x.Query.Walk(block, expr)
			}
		})
	}
	from := func(f From) {
		if f.Query != nil {
			f.Query.Walk(block, expr)
		}
		visit(f.Unnest)
		visit(f.AsOf)
	}
	for _, it := range s.Items {
		visit(it.Expr)
	}
	from(s.From)
	for _, j := range s.Joins {
		from(j.With)
		visit(j.On)
	}
	visit(s.Where)
	if s.Unique != nil {
		for _, e := range s.Unique.By {
			visit(e)
		}
	}
	for _, e := range s.GroupBy {
		visit(e)
	}
	visit(s.Having)
	for _, w := range s.Windows {
		visit(w.On)
	}
	if s.Union != nil {
		s.Union.Walk(block, expr)
	}
}

// JobSteps are the inputs of a query, and of all inside it, that are steps of jobs. declared says whether a name is that of something
// declared, in a space.
func (q *Query) JobSteps(declared func(name string) bool) (out []From) {
	add := func(f From) {
		if f.Job != nil && !declared(f.Read()) {
			out = append(out, f)
		}
	}
	block := func(b *Select) {
		add(b.From)
		for _, j := range b.Joins {
			add(j.With)
		}
	}
	for _, s := range q.With {
		s.Query.Walk(block, func(Expr) {})
	}
	q.Body.Walk(block, func(Expr) {})
	return out
}

// WalkExpr calls f for an expression and all below it. It does not go into queries.
func WalkExpr(e Expr, f func(Expr)) {
	if e == nil {
		return
	}
	f(e)
	for _, k := range Children(e) {
		WalkExpr(k, f)
	}
}

// Children gives the expressions right below one, in the order of the text.
func Children(e Expr) (out []Expr) {
	add := func(es ...Expr) {
		for _, k := range es {
			if k != nil {
				out = append(out, k)
			}
		}
	}
	switch e := e.(type) {
	case *Unary:
		add(e.X)
	case *Binary:
		add(e.X, e.Y)
	case *Between:
		add(e.X, e.Lo, e.Hi)
	case *Within:
		add(e.X, e.Y)
	case *In:
		add(e.X)
		add(e.List...)
	case *Like:
		add(e.X, e.Pattern, e.Extra)
	case *Is:
		add(e.X, e.Y)
	case *Case:
		add(e.X)
		for _, w := range e.Whens {
			add(w.Cond, w.Then)
		}
		add(e.Else)
	case *Cast:
		add(e.X)
	case *Call:
		add(e.Args...)
		for _, o := range e.Order {
			add(o.By)
		}
		add(e.Filter)
		if e.Over != nil {
			add(e.Over.Partition...)
			for _, o := range e.Over.Order {
				add(o.By)
			}
		}
	case *Index:
		add(e.X, e.I)
	case *Field:
		add(e.X)
	case *Build:
		add(e.Items...)
	}
	return out
}

// KindOf says in words what kind of statement one is.
func KindOf(st Statement) string {
	switch st := st.(type) {
	case *Query:
		return "select"
	case *DeclareEndpoint:
		return "declare endpoint"
	case *DeclareStream:
		return "declare stream"
	case *DeclareTable:
		return "declare table"
	case *DeclareSink:
		return "declare sink"
	case *CreateView:
		return "create view"
	case *CreateBoard:
		return "create board"
	case *CreateAlert:
		return "create alert"
	case *CreateFunction:
		return "create function"
	case *CreateTopic:
		return "create topic"
	case *AlterTopic:
		return "alter topic"
	case *CreateJob:
		return "create job"
	case *StartJob:
		return "start job"
	case *StopJob:
		return "stop job"
	case *Drop:
		return "drop " + st.Kind
	case *Show:
		return "show"
	case *Describe:
		return "describe"
	case *Explain:
		return "explain"
	case *Insert:
		return "insert"
	}
	return "statement"
}

// NameOf is the name that a statement is about, or "".
func NameOf(st Statement) string {
	switch st := st.(type) {
	case *DeclareEndpoint:
		return st.Name.Text
	case *DeclareStream:
		return st.Name.Text
	case *DeclareTable:
		return st.Name.Text
	case *DeclareSink:
		return st.Name.Text
	case *CreateView:
		return st.Name.Text
	case *CreateBoard:
		return st.Name.Text
	case *CreateAlert:
		return st.Name.Text
	case *CreateFunction:
		return st.Name.Text
	case *CreateTopic:
		return st.Name.Text
	case *AlterTopic:
		return st.Name.Text
	case *CreateJob:
		return st.Name.Text
	case *StartJob:
		return st.Name.Text
	case *StopJob:
		return st.Name.Text
	case *Drop:
		return st.Name.Text
	}
	return ""
}
