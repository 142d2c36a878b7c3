package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fiume/internal/core/eval"
)

// The key of an operator says what it means: what its state is about, whatever the steps are called and
// wherever they stand. Operators of two plans with one key can take over each other's state. It is made of
// the rows that come in and of what is done with them; columns are traced back to what computes them, so that
// a column more in a step before changes nothing.

// identify gives the operators their keys.
func (p *Plan) identify() {
	m := &meaning{rowsOf: map[*Op]string{}, columns: map[place]string{}}
	seen := map[string]int{}
	for _, o := range p.Ops {
		switch {
		case o.Kind == Scan:
			o.Key = "stream " + o.Stream.Name
			if o.OfTable != nil {
				o.Key = "table " + o.Stream.Name
			}
		case o.Kind == Output:
			o.Differs = p.Differs(o)
			o.Key = "sink " + o.Step
			if o.Sink != nil {
				o.Key += " " + o.Sink.Place + " " + o.Sink.Address
			}
		case o.Kind == Side:
			o.Key = fmt.Sprintf("side %d of %s", o.Side, m.rows(o.Into))
		default:
			o.Key = o.Kind.String() + " " + m.rows(o)
		}
		seen[o.Key]++
		if n := seen[o.Key]; n > 1 {
			o.Key += " #" + strconv.Itoa(n)
		}
	}
}

// meaning finds out what operators mean.
type meaning struct {
	rowsOf  map[*Op]string
	columns map[place]string
}

// place is a column of an operator.
type place struct {
	op     *Op
	column int
}

// longestMeaning is how long the text of what computes a column may get before it is written as its digest: a column
// that stands twice in each of twenty steps would have a text of megabytes.
const longestMeaning = 64 << 10

func digest(parts ...string) string {
	h := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(h, "%d %s", len(p), p)
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}

// rows says which rows an operator gives.
func (m *meaning) rows(o *Op) string {
	if s, ok := m.rowsOf[o]; ok {
		return s
	}
	var s string
	switch o.Kind {
	case Scan:
		t := o.Stream
		s = digest("scan", t.Name, t.Place, t.Address, t.TimeIs, fmt.Sprint(t.Delay))
	case Project:
		s = m.rows(o.Input)
		for _, e := range o.Exprs {
			if e != nil && e.CanFail() { // its rows may be rejected
				s = digest(s, m.expr(e, o.Input))
			}
		}
	case Route, Output:
		s = m.rows(o.Input)
	case Filter:
		s = digest(m.rows(o.Input), "where", m.expr(o.Cond, o.Input))
	default:
		s = m.other(o)
	}
	m.rowsOf[o] = s
	return s
}

// other says what a step does that keeps something, or that gives other rows than it gets.
func (m *meaning) other(o *Op) string {
	parts := []string{o.Kind.String(), fmt.Sprint(o.Side)}
	for _, in := range o.Inputs() {
		parts = append(parts, m.rows(in), fmt.Sprint(in.Changes))
	}
	in := o.Input
	exprs := func(es ...*eval.Expr) {
		for _, e := range es {
			parts = append(parts, m.expr(e, in))
		}
	}
	exprs(o.Exprs...)
	exprs(o.Cond, o.Array)
	aggregate := func(a *eval.Aggregate) {
		parts = append(parts, a.Name, fmt.Sprint(a.Distinct, a.Unused), a.Type.String())
		exprs(a.Arg, a.By, a.Filter)
	}
	if a := o.Agg; a != nil {
		zone := ""
		if a.Zone != nil {
			zone = a.Zone.String()
		}
		parts = append(parts, fmt.Sprint(a.Kind, a.Length, a.Step, a.Offset, zone, a.Gap, a.Max, a.Lateness, a.Report, a.Every, a.EmptyFor))
		exprs(a.Keys...)
		for _, x := range a.Aggregates {
			aggregate(x)
		}
	}
	if r := o.Order; r != nil {
		parts = append(parts, fmt.Sprint(r.Within, r.Forget, r.Ranked, r.Desc))
		exprs(r.Keys...)
		exprs(r.By...)
		for _, c := range r.Calls {
			parts = append(parts, c.Name, fmt.Sprint(c.Offset, c.ByRows)+" "+c.frame(), c.Type.String())
			exprs(c.Arg, c.Default)
			if c.Agg != nil {
				aggregate(c.Agg)
			}
		}
	}
	if j := o.Join; j != nil {
		parts = append(parts, fmt.Sprint(j.Kind, j.Pick, j.Tables, j.Lo, j.Hi, j.Lateness, j.Slack, j.Time, j.After, j.Valid), j.On)
		if j.Cond != nil {
			parts = append(parts, j.Cond.Key())
		}
	}
	if o.OfTable != nil {
		parts = append(parts, o.OfTable.Name, o.OfTable.Place, o.OfTable.Address)
	}
	if o.Of != nil {
		parts = append(parts, m.rows(o.Of))
	}
	// What is kept of a row is part of the state's form.
	for _, k := range o.Kept {
		parts = append(parts, m.column(in, k), in.Fields[min(k, len(in.Fields)-1)].Type.String())
	}
	switch o.Kind {
	case Over, Unique, Settle, Keep:
		parts = append(parts, "of", strings.Join(m.used(in), " "))
	}
	return digest(parts...)
}

// used lists the columns of an operator's output that anybody reads, in order.
func (m *meaning) used(o *Op) (out []string) {
	switch o.Kind {
	case Scan:
		for i, f := range o.Fields {
			if _, ok := o.Used.Needs(i); ok {
				out = append(out, f.Name+" "+f.Type.String())
			} else {
				out = append(out, "-")
			}
		}
	case Project:
		for _, e := range o.Exprs {
			out = append(out, m.expr(e, o.Input))
		}
	case Filter, Route, Unique:
		return m.used(o.Input)
	default:
		for i := range o.Fields {
			out = append(out, m.column(o, i))
		}
	}
	return out
}

// column says what computes a column.
func (m *meaning) column(o *Op, i int) string {
	if s, ok := m.columns[place{o, i}]; ok {
		return s
	}
	s := m.computes(o, i)
	if len(s) > longestMeaning {
		s = "computed " + digest(s)
	}
	m.columns[place{o, i}] = s
	return s
}

func (m *meaning) computes(o *Op, i int) string {
	switch {
	case i >= len(o.Fields):
		return fmt.Sprintf("%s column %d", m.rows(o), i)
	case o.Kind == Project:
		return m.expr(o.Exprs[i], o.Input)
	case o.Kind == Filter || o.Kind == Route || o.Kind == Unique:
		return m.column(o.Input, i)
	case o.Kind == Scan:
		return o.Stream.Name + "." + o.Fields[i].Name
	}
	return fmt.Sprintf("%s column %d", m.rows(o), i)
}

func (m *meaning) expr(e *eval.Expr, in *Op) string {
	if e == nil {
		return "-"
	}
	return e.KeyOver(func(i int) string { return m.column(in, i) })
}

// Change says what becomes of a step, a stream or a sink when one version of a job takes over from another.
type Change struct {
	Kind   string `json:"kind"` // stream, table, sink, or the kind of a step that keeps something
	Step   string `json:"step"`
	What   string `json:"what" enum:"kept,afresh,new,gone" doc:"kept: goes on where it was; afresh: a step of this name was there, but it means something else now"`
	Detail string `json:"detail,omitempty"`
}

// Changes compares a plan with the one whose place and state it is to take over.
func (p *Plan) Changes(old *Plan) (out []Change) {
	was := map[string]*Op{}
	names := map[string]bool{}
	for _, o := range old.Ops {
		if o.remembers() {
			was[o.Key] = o
			names[o.called()] = true
		}
	}
	for _, o := range p.Ops {
		if !o.remembers() {
			continue
		}
		c := Change{Kind: o.called(), Step: o.Step, What: "new", Detail: o.fate(false)}
		if _, ok := was[o.Key]; ok {
			c.What, c.Detail = "kept", o.fate(true)
			delete(was, o.Key)
		} else if slices.ContainsFunc(old.Ops, func(x *Op) bool { return x.Kind == o.Kind && x.Step == o.Step }) {
			c.What = "afresh"
		}
		out = append(out, c)
	}
	for _, o := range old.Ops {
		if was[o.Key] != nil {
			c := Change{Kind: o.called(), Step: o.Step, What: "gone", Detail: "what it kept is thrown away"}
			if o.Kind == Scan || o.Kind == Output {
				c.Detail = "its place is forgotten"
			}
			if !slices.ContainsFunc(out, func(x Change) bool { return x.Kind == c.Kind && x.Step == c.Step && x.What == "afresh" }) {
				out = append(out, c)
			}
		}
	}
	return out
}

// remembers says whether an operator has something that a checkpoint keeps.
func (o *Op) remembers() bool {
	switch o.Kind {
	case Scan, Output, Window, Unique, Over, Join, AsOf, Keep, Settle:
		return true
	}
	return false
}

func (o *Op) called() string {
	switch {
	case o.Kind == Scan && o.OfTable != nil:
		return "table"
	case o.Kind == Scan:
		return "stream"
	case o.Kind == Output:
		return "sink"
	}
	return o.Kind.String()
}

// fate says in words what becomes of what an operator keeps.
func (o *Op) fate(kept bool) string {
	switch {
	case kept && o.Kind == Scan:
		return "read on where the version before stops"
	case kept && o.Kind == Output:
		return "written on"
	case kept:
		return "its state is taken over"
	case o.Kind == Scan && o.OfTable != nil:
		return "read from its beginning"
	case o.Kind == Scan && o.Since.Kind == Now:
		return "read from now on"
	case o.Kind == Scan && (o.Since.Kind == AtTime || o.Since.Kind == Ago):
		return "read from where SINCE says"
	case o.Kind == Scan:
		return "read from the oldest message"
	case o.Kind == Output:
		return "gets rows from now on"
	case o.Kind == Window:
		return "begins empty: windows that are open now have only the rows from the change on"
	case o.Kind == Keep:
		return "read anew"
	}
	return "begins empty: it knows the rows from the change on"
}

// frame says what the frame is. One that begins at or before its row, or with the key, and ends at the row is written as
// ever, so that jobs keep their state.
func (c *OverCall) frame() string {
	back := -c.From
	if c.Open {
		back = -1
	}
	out := fmt.Sprint(back, " ", c.To)
	if c.From > 0 || c.To < 0 || c.Open && c.To != 0 {
		out += " anywhere"
	}
	return out
}
