package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"fiume/internal/core/eval"
)

// The key of an operator says what it means: what its state is about, whatever the steps are called and
// wherever they stand. Operators of two plans with one key can take over each other's state. It is made of
// the rows that come in and of what is done with them; columns are traced back to what computes them, so that
// a column more in a step before changes nothing.

// Its meaning (Means) is the same without the form: neither which columns of a row are kept nor where they stand count.
// Of two operators that mean the same and differ in their keys one can have the state of the other written anew, see
// Takeovers.

// identify gives the operators their keys and meanings.
func (p *Plan) identify() {
	p.keys(false, func(o *Op) *string { return &o.Key })
	p.keys(true, func(o *Op) *string { return &o.Means })
	for _, o := range p.Outputs() {
		o.Differs = p.Differs(o)
	}
}

func (p *Plan) keys(bare bool, of func(*Op) *string) {
	m := &meaning{bare: bare, rowsOf: map[*Op]string{}, columns: map[place]string{}}
	seen := map[string]int{}
	for _, o := range p.Ops {
		key := of(o)
		switch {
		case o.Kind == Scan:
			*key = "stream " + o.Stream.Name
			if o.OfTable != nil {
				*key = "table " + o.Stream.Name
			}
		case o.Kind == Output:
			*key = "sink " + o.Step
			if o.Sink != nil {
				*key += " " + o.Sink.Place + " " + o.Sink.Address
			}
		case o.Kind == Side:
			*key = fmt.Sprintf("side %d of %s", o.Side, m.rows(o.Into))
		default:
			*key = o.Kind.String() + " " + m.rows(o)
		}
		seen[*key]++
		if n := seen[*key]; n > 1 {
			*key += " #" + strconv.Itoa(n)
		}
	}
}

// meaning finds out what operators mean.
type meaning struct {
	bare    bool // without the form
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
		if h := t.History; h != nil {
			s = digest(s, h.Place, h.Address, fmt.Sprint(t.Seam))
		}
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
		switch {
		case j.Cond == nil:
		case m.bare:
			parts = append(parts, j.Cond.KeyOver(func(i int) string { return m.ofSide(o, i) }))
		default:
			parts = append(parts, j.Cond.Key())
		}
	}
	if o.OfTable != nil {
		parts = append(parts, o.OfTable.Name, o.OfTable.Place, o.OfTable.Address)
	}
	if o.Of != nil {
		parts = append(parts, m.rows(o.Of))
	}
	if m.bare {
		return digest(parts...)
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
	case m.bare:
		return m.traced(o, i)
	}
	return fmt.Sprintf("%s column %d", m.rows(o), i)
}

// traced says what computes a column by where it comes from, and not by where it stands: a column more before it changes
// nothing.
func (m *meaning) traced(o *Op, i int) string {
	left := 0
	if o.Input != nil {
		left = len(o.Input.Fields)
	}
	switch o.Kind {
	case Side, Keep, Settle:
		return m.column(o.Input, i)
	case Union:
		var all []string
		for _, in := range o.Inputs() {
			all = append(all, m.column(in, i))
		}
		return strings.Join(all, eitherOf)
	case Join, AsOf, Lookup:
		return m.ofSide(o, i)
	case Over, Explode:
		if i < left {
			return m.column(o.Input, i)
		}
		i -= left
	}
	return fmt.Sprintf("%s column %d", m.rows(o), i)
}

// ofSide says what computes a column of the rows that a join puts together.
func (m *meaning) ofSide(o *Op, i int) string {
	left := len(o.Input.Fields)
	switch {
	case i < left && o.Kind == Lookup:
		return m.column(o.Input, i)
	case i < left:
		return "left" + columnOf + m.column(o.Input, i)
	case o.Right != nil:
		return "right" + columnOf + m.column(o.Right, i-left)
	case o.Of != nil:
		return o.OfTable.Name + columnOf + m.column(o.Of, i-left)
	}
	return fmt.Sprintf("%s column %d", o.OfTable.Name, i-left) // of a table that is asked where it is
}

// What stands between the parts of a traced column.
const (
	columnOf = " › "
	eitherOf = " ¦ "
)

func (m *meaning) expr(e *eval.Expr, in *Op) string {
	if e == nil {
		return "-"
	}
	return e.KeyOver(func(i int) string { return m.column(in, i) })
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
