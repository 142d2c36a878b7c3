package plan

import (
	"maps"
	"slices"
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/types"
)

// Columns that are declared SENSITIVE are masked for those who may not see their values: where such a person asks, what is read is masked before the query gets it,
// so that no condition finds a value out; and of what jobs hold and write, which is read unmasked, those columns are masked when they are shown that can have a
// value of a sensitive one in them.

// spread has all columns be sensitive that a sensitive one is computed from, and all that are computed from a sensitive one.
func (s *Stream) spread() {
	reads := func(c shownColumn, f func(declared *types.Field)) {
		c.expr.Walk(func(x *eval.Expr) {
			if x.Op == eval.OpColumn && x.Index < len(s.Columns) {
				f(&s.Columns[x.Index])
			}
		})
	}
	for range s.shown { // each time one more may be found
		for i := range s.shown {
			c := &s.shown[i]
			reads(*c, func(declared *types.Field) { c.Sensitive = c.Sensitive || declared.Sensitive })
			if c.Sensitive {
				reads(*c, func(declared *types.Field) { declared.Sensitive = true })
			}
		}
	}
}

// Sensitive gives the names of the columns that are sensitive, computed ones included.
func (s *Stream) Sensitive() (out []types.Field) {
	for _, c := range s.shown {
		if c.Sensitive {
			out = append(out, c.Field)
		}
	}
	return out
}

// HasSensitive says whether anything that is declared has a sensitive column.
func (c *Catalog) HasSensitive() bool {
	for _, s := range c.Streams {
		if len(s.Sensitive()) > 0 {
			return true
		}
	}
	for _, t := range c.Tables {
		if len(t.Sensitive()) > 0 {
			return true
		}
	}
	return false
}

// Masked gives the catalog to somebody from whom the sensitive columns of some streams and tables are hidden. It is for binding queries alone.
func (c *Catalog) Masked(hidden func(name string) bool, m *eval.Mask) *Catalog {
	out := c.Clone()
	out.masked = map[string]bool{}
	maps.Copy(out.masked, c.masked)
	for n, s := range c.Streams {
		if len(s.Sensitive()) > 0 && hidden(n) {
			out.Streams[n] = s.masked(m)
		}
	}
	for n, t := range c.Tables {
		if len(t.Sensitive()) == 0 || !hidden(n) {
			continue
		}
		own := *t
		own.Stream = t.Stream.masked(m)
		out.Tables[n] = &own
		out.masked[n] = t.Lookup
	}
	return out
}

func (s *Stream) masked(m *eval.Mask) *Stream {
	own := *s
	own.shown = slices.Clone(s.shown)
	for i, c := range own.shown {
		if !c.Sensitive {
			continue
		}
		own.shown[i].NotNull = c.NotNull && c.Type.Kind == types.Varchar
		own.shown[i].mask = m.Of(c.expr)
	}
	return &own
}

// Sources are the streams and tables whose sensitive columns a value may come from, in order.
type Sources []string

func (s Sources) with(more Sources) Sources {
	if len(more) == 0 {
		return s
	}
	return slices.Compact(slices.Sorted(slices.Values(slices.Concat(s, more))))
}

// Sensitive gives, for each operator that has such, which sensitive columns the values of its columns may come from. How many rows there are of something tells
// no value. What only decides which rows there are is not followed: a job works with the values themselves.
func (p *Plan) Sensitive() map[*Op][]Sources {
	of := map[*Op][]Sources{}
	for _, o := range p.Ops { // each behind its input
		cols := make([]Sources, len(o.Fields))
		given := func(in *Op) []Sources {
			if in == nil || of[in] == nil {
				return nil
			}
			return of[in]
		}
		reads := func(in []Sources, es ...*eval.Expr) (s Sources) {
			for _, e := range es {
				if e == nil {
					continue
				}
				e.Walk(func(x *eval.Expr) {
					if x.Op == eval.OpColumn && x.Index < len(in) {
						s = s.with(in[x.Index])
					}
				})
			}
			return s
		}
		in := given(o.Input)
		switch o.Kind {
		case Scan:
			for i, c := range o.Stream.Columns {
				if c.Sensitive && i < len(cols) {
					cols[i] = Sources{o.Stream.Name}
				}
			}
		case Project:
			for i, e := range o.Exprs {
				cols[i] = reads(in, e)
			}
		case Window:
			for i, k := range o.Agg.Keys {
				cols[i] = reads(in, k)
			}
			for i, a := range o.Agg.Aggregates {
				cols[len(o.Agg.Keys)+2+i] = ofAggregate(a, in, reads)
			}
		case Over:
			copy(cols, in)
			for i, c := range o.Order.Calls {
				if c.Agg != nil {
					cols[len(o.Input.Fields)+i] = ofAggregate(c.Agg, in, reads)
				} else {
					cols[len(o.Input.Fields)+i] = reads(in, c.Reads()...)
				}
			}
		case Explode:
			copy(cols, in)
			for i := len(o.Input.Fields); i < len(cols); i++ {
				cols[i] = reads(in, o.Array)
			}
		case Join, AsOf, Lookup:
			n := len(o.Input.Fields)
			copy(cols, in)
			switch right := given(cmpOp(o.Right, o.Of)); {
			case o.Kind == Lookup && o.Of == nil:
				for i := n; i < len(cols) && i-n < len(o.OfTable.shown); i++ {
					if o.OfTable.shown[i-n].Sensitive {
						cols[i] = Sources{o.OfTable.Name}
					}
				}
			default:
				if n < len(cols) {
					copy(cols[n:], right)
				}
			}
			// What is equal to a sensitive value says what it is.
			left, other := o.joinedBy()
			for i := range min(len(left), len(other)) {
				both := reads(in, left[i]).with(reads(given(cmpOp(o.Right, o.Of)), other[i]))
				for from, e := range map[int]*eval.Expr{0: left[i], n: other[i]} {
					e.Walk(func(x *eval.Expr) {
						if at := from + x.Index; x.Op == eval.OpColumn && at < len(cols) {
							cols[at] = cols[at].with(both)
						}
					})
				}
			}
		case Output:
			copy(cols, in)
			if o.Aside != "" {
				var all Sources
				for _, at := range p.Ops {
					if slices.Contains(at.Late, o) || slices.Contains(at.Rejected, o) {
						for _, s := range slices.Concat(of[at], of[at.Input]) {
							all = all.with(s)
						}
					}
				}
				for i, f := range o.Fields {
					if f.Name == "reason" || f.Name == "row" || f.Name == "raw" {
						cols[i] = all
					}
				}
			} else {
				for _, from := range p.feeding(o) {
					for i, s := range of[from] {
						if i < len(cols) {
							cols[i] = cols[i].with(s)
						}
					}
				}
			}
		default: // the rows are those of the inputs
			for _, from := range o.Inputs() {
				for i, s := range given(from) {
					if i < len(cols) {
						cols[i] = cols[i].with(s)
					}
				}
			}
		}
		if slices.ContainsFunc(cols, func(s Sources) bool { return len(s) > 0 }) {
			of[o] = cols
		}
	}
	return of
}

// joinedBy gives what has to be equal on the two sides of a join, over the columns of each.
func (o *Op) joinedBy() (left, right []*eval.Expr) {
	if o.Kind == Lookup {
		for _, k := range o.OfTable.Key {
			right = append(right, eval.Column(k, o.OfTable.shown[k].Type))
		}
		return o.Order.Keys, right
	}
	if o.Input.Order != nil && o.Right != nil && o.Right.Order != nil {
		return o.Input.Order.Keys, o.Right.Order.Keys
	}
	return nil, nil
}

// cmpOp gives the first of two operators that is there.
func cmpOp(a, b *Op) *Op {
	if a != nil {
		return a
	}
	return b
}

// ofAggregate is what an aggregate may show of the values that it takes: of a number of rows nothing but what its filter reads.
func ofAggregate(a *eval.Aggregate, in []Sources, reads func([]Sources, ...*eval.Expr) Sources) Sources {
	if a.Counts() {
		return reads(in, a.Filter)
	}
	return reads(in, a.Arg, a.By, a.Filter)
}

// SensitiveColumn is a column that may have values of sensitive ones in it.
type SensitiveColumn struct {
	Name string  `json:"name"`
	Text bool    `json:"text,omitempty"` // it is a VARCHAR
	From Sources `json:"from"`
}

// SensitiveColumns gives the columns of an operator's rows that are sensitive; of all operators of the plan where none is given, each name once.
func (p *Plan) SensitiveColumns(of *Op) []SensitiveColumn {
	by := map[string]SensitiveColumn{}
	for o, cols := range p.Sensitive() {
		if of != nil && o != of {
			continue
		}
		for i, s := range cols {
			if len(s) == 0 {
				continue
			}
			f := o.Fields[i]
			c, again := by[f.Name]
			by[f.Name] = SensitiveColumn{f.Name, f.Type.Kind == types.Varchar && (c.Text || !again), c.From.with(s)}
		}
	}
	return listed(by)
}

// SensitiveAt gives the sensitive columns of what is declared over a place: over the same address of a kind and an endpoint, or one that has it in it or lies in it.
func (c *Catalog) SensitiveAt(kind, via, address string) []SensitiveColumn {
	by := map[string]SensitiveColumn{}
	note := func(s *Stream) {
		for at := s; at != nil; at = at.History {
			if at.Place != kind || (at.Via == nil) != (via == "") || at.Via != nil && at.Via.Name != via || !overlap(at.Address, address, at.OwnTopics) {
				continue
			}
			for _, f := range s.Sensitive() {
				by[f.Name] = SensitiveColumn{f.Name, f.Type.Kind == types.Varchar, by[f.Name].From.with(Sources{s.Name})}
			}
		}
	}
	for _, s := range c.Streams {
		note(s)
	}
	for _, t := range c.Tables {
		note(t.Stream)
	}
	return listed(by)
}

// At says whether what is written to the sink may lie at an address of a kind, behind an endpoint or "".
func (k *Sink) At(kind, via, address string) bool {
	return k.Place == kind && (k.Via == nil) == (via == "") && (k.Via == nil || k.Via.Name == via) && overlap(k.Address, address, k.OwnTopics)
}

// overlap says whether what lies at two addresses may be the same. Names of topics are compared as they are; of others one may have a pattern, or be a directory.
func overlap(a, b string, exact bool) bool {
	if exact || a == b {
		return a == b
	}
	fixed := func(s string) string {
		if i := strings.IndexAny(s, "*?[{"); i >= 0 {
			s = s[:i]
		}
		return strings.ToLower(s)
	}
	a, b = fixed(a), fixed(b)
	return strings.HasPrefix(a, b) || strings.HasPrefix(b, a)
}

func listed(by map[string]SensitiveColumn) (out []SensitiveColumn) {
	for _, n := range keys(by) {
		out = append(out, by[n])
	}
	return out
}
