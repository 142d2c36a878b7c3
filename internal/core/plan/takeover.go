package plan

import (
	"fmt"
	"slices"
	"strings"
)

// Takeover says how the state of an operator goes on as that of an operator of another plan, which means the same and keeps
// other columns of its rows.
type Takeover struct {
	Old, New *Op
	// Columns says, for each column that New keeps, where Old has it, or -1 where it has it not: it is NULL in the rows held.
	// Of a Join and an AsOf these are those of the left and of the right side, by their places in Kept; of a Settle and a Keep
	// those of the only side; of an Over and a Unique they are the columns of the input.
	Columns [2][]int
}

// Takeovers finds the operators that can go on with the state of one of an older plan once it is written anew. A column
// that the older operator does not keep has to be one that its stream or table did not have: of any other the rows held
// had a value, which is gone.
func (p *Plan) Takeovers(old *Plan) (out []Takeover) {
	m, was := p.meaning(), old.meaning()
	added := p.addedSince(old, m)
	for _, o := range p.Ops {
		if !o.remembers() || !o.Keyed() || slices.ContainsFunc(old.Ops, func(x *Op) bool { return x.Key == o.Key }) {
			continue
		}
		i := slices.IndexFunc(old.Ops, func(x *Op) bool { return x.Means == o.Means && x.Kind == o.Kind })
		if i < 0 {
			continue
		}
		t := Takeover{Old: old.Ops[i], New: o}
		fits := true
		forms, before := m.forms(o), was.forms(t.Old)
		for side := range forms {
			for _, c := range forms[side] {
				k := -1
				if c != "-" {
					k = slices.Index(before[side], c)
					fits = fits && (k >= 0 || added.has(c))
				}
				t.Columns[side] = append(t.Columns[side], k)
			}
		}
		if fits {
			out = append(out, t)
		}
	}
	return out
}

// meaning is what finds out what operators mean, whatever their form.
func (p *Plan) meaning() *meaning {
	return &meaning{bare: true, rowsOf: map[*Op]string{}, columns: map[place]string{}}
}

// forms says what the columns are that an operator keeps, of each side; "-" stands for one that is not kept.
func (m *meaning) forms(o *Op) (out [2][]string) {
	kept := func(side *Op) (out []string) {
		for _, k := range side.Kept {
			out = append(out, m.column(side.Input, k)+" "+side.Input.Fields[k].Type.String())
		}
		return out
	}
	switch o.Kind {
	case Join, AsOf:
		out[0], out[1] = kept(o.Input), kept(o.Right)
	case Settle, Keep:
		out[0] = kept(o.Input)
	case Over, Unique:
		for i, f := range o.Input.Fields {
			c := "-"
			if read(o.Input, i) {
				c = m.column(o.Input, i) + " " + f.Type.String()
			}
			out[0] = append(out[0], c)
		}
	}
	return out
}

// read says whether the rows that an operator gives have a column.
func read(o *Op, i int) bool {
	switch o.Kind {
	case Scan:
		_, ok := o.Used.Needs(i)
		return ok || i == o.Time
	case Project:
		return o.Exprs[i] != nil
	case Filter, Route, Unique:
		return read(o.Input, i)
	}
	return true
}

// additions are the columns that streams and tables have and had not, as they are written in a form.
type additions map[string]bool

// addedSince finds the columns that the streams and tables of a plan have, and that they had not in an older one.
func (p *Plan) addedSince(old *Plan, m *meaning) additions {
	out := additions{}
	had := map[string]*Stream{}
	for _, o := range old.Scans() {
		had[o.Stream.Name] = o.Stream
	}
	for _, scan := range p.Scans() {
		before := had[scan.Stream.Name]
		if before == nil {
			continue
		}
		for _, c := range scan.Stream.shown {
			if !slices.ContainsFunc(before.shown, func(x shownColumn) bool { return x.Name == c.Name }) {
				out[m.expr(c.expr, scan)+" "+c.Type.String()] = true
			}
		}
	}
	return out
}

// has says whether a column of a form is an added one, on whatever side of joins it came, or one of several that are all added.
func (a additions) has(c string) bool {
	for _, part := range strings.Split(c, eitherOf) {
		if i := strings.LastIndex(part, columnOf); i >= 0 {
			part = part[i+len(columnOf):]
		}
		if !a[part] {
			return false
		}
	}
	return true
}

// Added says whether a column that New keeps is one that the rows held have not.
func (t *Takeover) Added(side, column int) bool {
	return t.Columns[side][column] < 0 && (t.New.Kind != Over && t.New.Kind != Unique || read(t.New.Input, column))
}

// added names the columns that are NULL in the rows held.
func (t *Takeover) added() (out []string) {
	name := func(o *Op, i int) {
		if n := o.Fields[i].Name; !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	for side, columns := range t.Columns {
		for k, from := range columns {
			if from >= 0 || !t.Added(side, k) {
				continue
			}
			switch t.New.Kind {
			case Join, AsOf:
				s := []*Op{t.New.Input, t.New.Right}[side]
				name(s, s.Kept[k])
			case Settle, Keep:
				name(t.New.Input, t.New.Input.Kept[k])
			default:
				name(t.New.Input, k)
			}
		}
	}
	return out
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
	for _, o := range old.Ops {
		if o.remembers() {
			was[o.Key] = o
		}
	}
	taken := map[*Op]*Takeover{}
	for _, t := range p.Takeovers(old) {
		taken[t.New] = &t
	}
	for _, o := range p.Ops {
		if !o.remembers() {
			continue
		}
		c := Change{Kind: o.called(), Step: o.Step, What: "new", Detail: o.fate(false)}
		if _, ok := was[o.Key]; ok {
			c.What, c.Detail = "kept", o.fate(true)
			delete(was, o.Key)
		} else if t := taken[o]; t != nil {
			c.What, c.Detail = "kept", o.fate(true)
			if added := t.added(); len(added) > 0 {
				c.Detail += fmt.Sprintf("; rows that it holds have NULL in %s", strings.Join(added, ", "))
			}
			delete(was, t.Old.Key)
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
