// Package plan binds names and types and turns queries and jobs into plans of operators.
package plan

import (
	"maps"
	"slices"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// Place describes a kind of place outside: which options it takes as a stream, as a table and as a sink. A
// nil list means that it cannot be one.
type Place struct {
	Kind     string
	About    string // in a few words
	Example  string // statements that declare what the kind can be
	Source   []OptionSpec
	Table    []OptionSpec
	Sink     []OptionSpec
	Endpoint bool         // needs VIA
	Here     bool         // with Endpoint: without VIA it is the machine that the service runs on
	Options  []OptionSpec // of an endpoint
	// Address says what is wrong with the address of an endpoint, without telling what may be a secret in it; nil: none is looked at.
	Address func(address string) error
	// Within says what is wrong with the address of a stream, table or sink behind an endpoint, or, nil, without one; nil: none is looked at.
	Within  func(address string, via *Endpoint) error
	Insert  bool // INSERT writes to it
	Columns bool // it tells the columns, and the key of a table
	Traits
	// Given says what options change of the traits; nil: nothing.
	Given func(t Traits, o Options) Traits
	// Fits says what of the columns and options of a stream or table does not go together, beyond each by itself; nil: all does.
	Fits func(s *Stream) error
	// Promise says in words what a sink of the kind promises an output.
	Promise func(out *Op) string
}

// Traits are what others must know of a kind of place, which they do not know by its name. Where none is set, a place gives
// rows that go on coming, once, and takes rows in any way.
type Traits struct {
	// Of a source:
	Ends       bool // it gives what is there, and ends
	Times      bool // it knows when each message came, for good: reading can begin and end at a time
	Again      bool // it can be read again, and gives the same
	OfChanges  bool // as a stream it is the changes of a table; as a table that does not follow them it has no event time
	Latest     bool // as a table its messages are the latest rows of keys, read on from where a run was
	OwnTopics  bool // its addresses are topics of the service itself; of a sink, too
	Made       bool // its rows are made: all columns are computed, from MadeColumns
	Messages   bool // it has messages: computed columns may use what they have besides their values, MessageColumns
	LaterSplit bool // as a table, a split that is named later wins over one before it
	// Of a sink:
	Appends  bool // it only adds rows: a KEY cannot replace any
	WholeKey bool // who reads it takes the latest row of a key, so that a KEY must be the whole of one
	Replaces bool // a row replaces the one of its KEY
	OneWay   bool // what was sent there cannot be looked at
	// Of an endpoint:
	HasSchemas bool // it has the schemas of messages that are elsewhere
}

// MadeColumns are what rows that are made begin with: the row's number, its time, and what chance draws for it; then the seed.
var MadeColumns = []types.Field{{Name: "_row", Type: types.Of(types.BigInt)}, {Name: "_time", Type: types.Of(types.Timestamp)},
	{Name: "_draw", Type: types.Of(types.BigInt)}, {Name: "_seed", Type: types.Of(types.BigInt)}}

// MessageColumns are what messages have besides their values, for computed columns. Where one of them is used, all stand before the columns of the stream.
var MessageColumns = []types.Field{KeyPart: {Name: "_key", Type: types.Of(types.Varchar)}, HeadersPart: {Name: "_headers", Type: types.MapOf(types.Of(types.Varchar), types.Of(types.Varchar))},
	TopicPart: {Name: "_topic", Type: types.Of(types.Varchar)}, PartitionPart: {Name: "_partition", Type: types.Of(types.Int)},
	OffsetPart: {Name: "_offset", Type: types.Of(types.BigInt)}, TimePart: {Name: "_time", Type: types.Of(types.Timestamp)}}

// The places of MessageColumns.
const (
	KeyPart = iota
	HeadersPart
	TopicPart
	PartitionPart
	OffsetPart
	TimePart
)

// Endpoint is a declared system outside.
type Endpoint struct {
	Name, Place, Address string
	Secret               string // the name of the secret, or ""
	Options              Options
}

// Stream is a declared stream.
type Stream struct {
	Traits
	Name    string
	Columns []types.Field // those in the messages, in order of declaration
	Parts   int           // so many before them are MessageColumns
	shown   []shownColumn // all of them, computed ones too
	Time    int           // column of the event time, or -1 where it is computed or the time of arrival
	TimeOf  *eval.Expr    // what computes the event time from Columns, or nil; the scan puts it behind them
	TimeIs  string        // name of the event time, or ""
	Delay   int64
	Ahead   int64 // -1: the default
	Idle    int64 // -1: never idle
	Place   string
	Address string
	Via     *Endpoint
	Schemas *Endpoint // has the schemas of its messages; nil where none are asked for
	Options Options
	History *Stream // the same columns, read to their end before this place is; nil: there is none
	Seam    int64   // with History: rows of it from this event time on, and of this place before, are passed over; NoSeam: none are
}

// Uses says whether the stream needs an endpoint.
func (s *Stream) Uses(endpoint string) bool {
	for _, e := range []*Endpoint{s.Via, s.Schemas} {
		if e != nil && e.Name == endpoint {
			return true
		}
	}
	return s.History != nil && s.History.Uses(endpoint)
}

// HasOwnTopic says whether the stream reads a topic of the service.
func (s *Stream) HasOwnTopic(name string) bool {
	return s.OwnTopics && s.Address == name || s.History != nil && s.History.HasOwnTopic(name)
}

// NoSeam says that all rows of a history, and of the place that goes on behind it, belong to a stream.
const NoSeam = types.MinTime

type shownColumn struct {
	types.Field
	expr *eval.Expr // over Columns
	mask *eval.Expr // the same where its values are masked; nil: they are not
}

// given is what queries are given of the column.
func (c shownColumn) given() *eval.Expr {
	if c.mask != nil {
		return c.mask
	}
	return c.expr
}

// WithoutParts is the stream with the columns alone that are in the values of messages.
func (s *Stream) WithoutParts() *Stream {
	if s.Parts == 0 {
		return s
	}
	out := *s
	out.Columns, out.Parts = s.Columns[s.Parts:], 0
	if out.Time >= 0 {
		out.Time -= s.Parts
	}
	return &out
}

// InValues are the columns that are in the values of messages.
func (s *Stream) InValues() []types.Field { return s.Columns[s.Parts:] }

// Arrival says whether the event time is the time of arrival.
func (s *Stream) Arrival() bool { return s.Time < 0 && s.TimeOf == nil }

// scanned gives the columns of the rows that a scan passes on, and which of them is the event time.
func (s *Stream) scanned() ([]types.Field, int) {
	if s.TimeOf == nil {
		return s.Columns, s.Time
	}
	return append(slices.Clone(s.Columns), types.Field{Name: s.TimeIs, Type: s.TimeOf.Type}), len(s.Columns)
}

// Shown gives the columns that queries see, computed ones included.
func (s *Stream) Shown() []types.Field {
	out := make([]types.Field, len(s.shown))
	for i, c := range s.shown {
		out[i] = c.Field
	}
	return out
}

// Sink is a declared sink.
type Sink struct {
	Traits
	Name    string
	Place   string
	Address string
	Via     *Endpoint
	Schemas *Endpoint // gets the schemas of its rows; nil where none are told
	Options Options
	promise func(out *Op) string
}

// Catalog is what has been declared, by name. Streams, sinks, endpoints and views share one space of
// names with the steps of jobs.
type Catalog struct {
	Places    map[string]Place
	Endpoints map[string]*Endpoint
	Streams   map[string]*Stream
	Tables    map[string]*Table
	Sinks     map[string]*Sink
	Views     map[string]*sql.CreateView
	Functions map[string]*UserFunction
	Boards    map[string]*Board
	Alerts    map[string]*Alert

	// Sample finds the columns of a declaration that does not list them, and a table's key where the place tells it. nil:
	// nothing outside is looked at, and what uses the name is not checked.
	Sample func(d Sampled) (columns []sql.Column, key []sql.Name, err error)
	// Steps gives the columns of jobs' steps as they stand. nil: they are not known, and what reads them is not checked.
	Steps  StepsOf
	masked map[string]bool // tables that cannot be read with masked values
	broken map[string]bool // names whose declarations are wrong: what uses them is not called wrong, too
	look   Look            // how a query is looked at
}

// UserFunction is a function that users have made.
type UserFunction struct {
	Name     string
	function *eval.Function
}

// Entry describes the function as those of the language.
func (f *UserFunction) Entry() *eval.Function { return f.function }

// NewCatalog makes an empty catalog that knows some kinds of places.
func NewCatalog(places []Place) *Catalog {
	c := &Catalog{Places: map[string]Place{}, Endpoints: map[string]*Endpoint{}, Streams: map[string]*Stream{}, Tables: map[string]*Table{}, Sinks: map[string]*Sink{}, Views: map[string]*sql.CreateView{},
		Functions: map[string]*UserFunction{}, Boards: map[string]*Board{}, Alerts: map[string]*Alert{}, broken: map[string]bool{}}
	for _, p := range places {
		c.Places[p.Kind] = p
	}
	return c
}

// Clone makes a copy that can be added to.
func (c *Catalog) Clone() *Catalog {
	return &Catalog{c.Places, maps.Clone(c.Endpoints), maps.Clone(c.Streams), maps.Clone(c.Tables), maps.Clone(c.Sinks), maps.Clone(c.Views), maps.Clone(c.Functions), maps.Clone(c.Boards), maps.Clone(c.Alerts), c.Sample, c.Steps, c.masked, maps.Clone(c.broken), c.look}
}

// KindOf says what kind of thing a name stands for, or "".
func (c *Catalog) KindOf(name string) string {
	switch {
	case c.Streams[name] != nil:
		return sql.KindStream
	case c.Tables[name] != nil:
		return sql.KindTable
	case c.Sinks[name] != nil:
		return sql.KindSink
	case c.Endpoints[name] != nil:
		return sql.KindEndpoint
	case c.Views[name] != nil:
		return sql.KindView
	case c.Functions[name] != nil:
		return sql.KindFunction
	case c.Boards[name] != nil:
		return sql.KindBoard
	case c.Alerts[name] != nil:
		return sql.KindAlert
	}
	return ""
}

// Knows says whether something is declared under a name.
func (c *Catalog) Knows(name string) bool { return c.KindOf(name) != "" }

// Remove forgets a name.
func (c *Catalog) Remove(name string) {
	delete(c.Streams, name)
	delete(c.Tables, name)
	delete(c.Sinks, name)
	delete(c.Endpoints, name)
	delete(c.Views, name)
	delete(c.Functions, name)
	delete(c.Boards, name)
	delete(c.Alerts, name)
}

func keys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
