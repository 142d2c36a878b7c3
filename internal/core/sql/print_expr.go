package sql

import (
	"strings"

	"fiume/internal/core/types"
)

// exprs are expressions with commas between them.
func (p *printer) exprs(es []Expr) doc {
	var out []doc
	for _, e := range es {
		out = append(out, p.expr(e, 0))
	}
	return commas(out)
}

// levelOf is how tightly an expression binds.
func levelOf(e Expr) int {
	switch e := e.(type) {
	case *Unary:
		if e.Op == "NOT" {
			return levelNot
		}
		return levelUnary
	case *Binary:
		if e.Op == "AT TIME ZONE" {
			return levelZone
		}
		return levels[strings.ToLower(e.Op)]
	case *Between, *Within, *In, *Like, *Is:
		return levelCompare
	case *Literal:
		if e.Value.Kind == types.Interval || strings.HasPrefix(e.Text, "-") {
			return levelUnary // a sign, or a unit behind the number
		}
	}
	return levelPart
}

// chain is an expression at the top of a clause: ANDs and ORs stand on lines of their own where the
// clause does not fit on one.
func (p *printer) chain(e Expr) doc {
	b, ok := e.(*Binary)
	if !ok || b.Op != "AND" && b.Op != "OR" {
		return cat{p.expr(e, 0)}
	}
	level := levels[strings.ToLower(b.Op)]
	var terms []Expr
	for {
		terms = append(terms, b.Y)
		x, ok := b.X.(*Binary)
		if !ok || x.Op != b.Op {
			terms = append(terms, b.X)
			break
		}
		b = x
	}
	out := cat{}
	for i := len(terms) - 1; i >= 0; i-- {
		at := terms[i].Place()
		need := level + 1
		if i == len(terms)-1 {
			need = level
		} else {
			out = append(out, line, p.lead(at.From), b.Op+" ")
		}
		out = append(out, p.expr(terms[i], need))
		if i > 0 {
			out = append(out, p.trail(at.To))
		}
	}
	return out
}

// expr is an expression where its context takes what binds at the level or tighter.
func (p *printer) expr(e Expr, level int) doc {
	d := p.bare(e)
	if levelOf(e) < level {
		return cat{"(", d, ")"}
	}
	return d
}

func (p *printer) bare(e Expr) doc {
	not := func(b bool) string {
		if b {
			return " NOT"
		}
		return ""
	}
	switch e := e.(type) {
	case *Path:
		var out []string
		for _, n := range e.Parts {
			out = append(out, nameText(n))
		}
		return strings.Join(out, ".")
	case *Literal:
		return literalText(e)
	case *Param:
		return ":" + e.Name
	case *Unary:
		if e.Op == "NOT" {
			return cat{"NOT ", p.expr(e.X, levelNot)}
		}
		x := p.expr(e.X, levelUnary)
		if l, ok := e.X.(*Literal); ok && l.Value.Kind != types.Varchar || startsWithSign(e.X) {
			x = cat{"(", p.bare(e.X), ")"} // "--" begins a comment, and "-5" is one number
		}
		return cat{e.Op, x}
	case *Binary:
		switch e.Op {
		case "AND", "OR":
			return group{p.chain(e)}
		case "AT TIME ZONE":
			return cat{p.expr(e.X, levelZone), " AT TIME ZONE ", p.expr(e.Y, levelPart)}
		}
		l := levels[strings.ToLower(e.Op)]
		left := l
		if l == levelCompare {
			left++ // comparisons are not chained
		}
		return cat{p.expr(e.X, left), " " + e.Op + " ", p.expr(e.Y, l+1)}
	case *Between:
		return cat{p.expr(e.X, levelJoin), not(e.Not) + " BETWEEN ", p.expr(e.Lo, levelJoin), " AND ", p.expr(e.Hi, levelJoin)}
	case *Within:
		return cat{p.expr(e.X, levelJoin), " WITHIN " + e.Of.String() + " " + e.Kind + " ", p.expr(e.Y, levelJoin)}
	case *In:
		if e.Query != nil {
			return cat{p.expr(e.X, levelJoin), not(e.Not) + " IN (", indent{cat{soft, p.block(e.Query)}}, soft, ")"}
		}
		return cat{p.expr(e.X, levelJoin), not(e.Not) + " IN (", group{indent{cat{soft, p.exprs(e.List)}}}, ")"}
	case *Like:
		word, extra := " LIKE ", " ESCAPE "
		if e.Regex {
			word, extra = " LIKE_REGEX ", " FLAG "
		}
		out := cat{p.expr(e.X, levelJoin), not(e.Not) + word, p.expr(e.Pattern, levelJoin)}
		if e.Extra != nil {
			out = append(out, extra, p.expr(e.Extra, levelJoin))
		}
		return out
	case *Is:
		out := cat{p.expr(e.X, levelJoin), " IS" + not(e.Not) + " " + e.What}
		if e.Y != nil {
			out = append(out, " ", p.expr(e.Y, levelJoin))
		}
		return out
	case *Case:
		return p.caseDoc(e)
	case *Cast:
		word := "CAST("
		if e.Try {
			word = "TRY_CAST("
		}
		return cat{word, p.expr(e.X, 0), " AS " + typeText(e.To) + ")"}
	case *Call:
		return p.call(e)
	case *Index:
		return cat{p.base(e.X), "[", p.expr(e.I, 0), "]"}
	case *Field:
		x := p.base(e.X)
		if l, ok := e.X.(*Literal); isPath(e.X) || ok && l.Value.Kind != types.Varchar && levelOf(l) == levelPart {
			x = cat{"(", x, ")"} // a dot goes on with a path or a number
		}
		return cat{x, "." + nameText(e.Name)}
	case *Build:
		if e.What == "ARRAY" {
			return group{cat{"ARRAY[", indent{cat{soft, p.exprs(e.Items)}}, "]"}}
		}
		return group{cat{"ROW(", indent{cat{soft, p.exprs(e.Items)}}, ")"}}
	case *Exists:
		return cat{"EXISTS (", indent{cat{soft, p.block(e.Query)}}, soft, ")"}
	case *Subquery:
		return cat{"(", indent{cat{soft, p.block(e.Query)}}, soft, ")"}
	case *BeginningMark:
		return "BEGINNING"
	case *NowMark:
		return "NOW"
	case *CheckpointMark:
		return "CHECKPOINT " + string(types.AppendText(nil, types.Value{Kind: types.BigInt, I: e.Number}))
	}
	return "?"
}

// base is what stands before [ or a dot.
func (p *printer) base(e Expr) doc {
	if b, ok := e.(*Binary); ok && b.Op == "AT TIME ZONE" {
		return p.bare(e)
	}
	return p.expr(e, levelPart)
}

// startsWithSign says whether an operand of a sign begins with one.
func startsWithSign(e Expr) bool {
	switch e := e.(type) {
	case *Unary:
		return e.Op != "NOT"
	case *Literal:
		return strings.HasPrefix(e.Text, "-")
	case *Binary:
		return e.Op == "AT TIME ZONE" && startsWithNumber(e.X)
	case *Index:
		return startsWithNumber(e.X)
	case *Field:
		return startsWithNumber(e.X)
	}
	return false
}

func startsWithNumber(e Expr) bool {
	if l, ok := e.(*Literal); ok {
		return l.Value.Kind != types.Varchar
	}
	return startsWithSign(e)
}

func literalText(l *Literal) string {
	if l.Text != "" {
		return l.Text
	}
	v := l.Value
	text := string(types.AppendText(nil, v))
	switch v.Kind {
	case types.Null, types.Unknown:
		return "NULL"
	case types.Boolean:
		return strings.ToUpper(text)
	case types.Interval:
		return DurationText(v.I)
	case types.Timestamp, types.Date, types.Time:
		return v.Kind.String() + " " + quoteText(text)
	case types.Varchar:
		return quoteText(v.S)
	}
	return text
}

func (p *printer) caseDoc(e *Case) doc {
	out := cat{"CASE"}
	if e.X != nil {
		out = append(out, " ", p.expr(e.X, 0))
	}
	var arms cat
	for _, w := range e.Whens {
		at := w.Cond.Place()
		arms = append(arms, line, p.lead(at.From), "WHEN ", p.expr(w.Cond, 0), " THEN ", p.expr(w.Then, 0), p.trail(w.Then.Place().To))
	}
	if e.Else != nil {
		at := e.Else.Place()
		arms = append(arms, line, p.lead(at.From), "ELSE ", p.expr(e.Else, 0), p.trail(at.To))
	}
	return group{append(out, indent{arms}, line, "END")}
}

func (p *printer) call(e *Call) doc {
	name := e.Name.Text
	head := keyword(name)
	if name == "current_timestamp" && e.Args == nil && !e.Star && e.Over == nil && e.Filter == nil && e.Order == nil {
		return head
	}
	var args cat
	word := func(e Expr) (string, bool) {
		l, ok := e.(*Literal)
		return strings.ToUpper(l.text()), ok && l.Value.Kind == types.Varchar && scanWord(l.Value.S) == len(l.Value.S) && l.Value.S != "" &&
			isWordStart(l.Value.S) && strings.ToLower(strings.ToUpper(l.Value.S)) == l.Value.S
	}
	switch {
	case e.Star:
		args = cat{"*"}
	case name == "extract" && len(e.Args) == 2 && !e.Distinct:
		if w, ok := word(e.Args[0]); ok && e.Order == nil {
			args = cat{w + " FROM ", p.expr(e.Args[1], 0)}
		}
	case name == "trim" && len(e.Args) == 3 && !e.Distinct && e.Order == nil:
		if w, ok := word(e.Args[2]); ok && (w == "LEADING" || w == "TRAILING" || w == "BOTH") {
			args = cat{w + " ", p.expr(e.Args[1], 0), " FROM ", p.expr(e.Args[0], 0)}
		}
	case name == "json_object" && len(e.Args)%2 == 0:
		var pairs []doc
		for i := 0; i < len(e.Args); i += 2 {
			pairs = append(pairs, cat{"KEY ", p.expr(e.Args[i], levelJoin), " VALUE ", p.expr(e.Args[i+1], 0)})
		}
		args = cat{commas(pairs)}
	}
	if args == nil {
		if e.Distinct {
			args = append(args, "DISTINCT ")
		}
		if name == "position" && len(e.Args) > 0 {
			rest := e.Args[1:]
			args = append(args, p.expr(e.Args[0], levelJoin))
			if len(rest) > 0 {
				args = append(args, ",", line, p.exprs(rest))
			}
		} else {
			args = append(args, p.exprs(e.Args))
		}
	}
	if e.Order != nil && !e.InGroup {
		args = append(args, " ", p.order(e.Order))
	}
	if e.Returning != nil {
		args = append(args, " RETURNING "+typeText(*e.Returning))
	}
	switch { // the standard's default is NULL for an object and ABSENT for an array
	case e.Absent && name != "json_array":
		args = append(args, " ABSENT ON NULL")
	case !e.Absent && name == "json_array":
		args = append(args, " NULL ON NULL")
	}
	for _, o := range []struct {
		on   *OnCase
		what string
	}{{e.OnEmpty, " ON EMPTY"}, {e.OnError, " ON ERROR"}} {
		if o.on == nil {
			continue
		}
		args = append(args, " "+o.on.Kind)
		if o.on.Default != nil {
			args = append(args, " ", p.expr(o.on.Default, levelJoin))
		}
		args = append(args, o.what)
	}
	out := cat{group{cat{head + "(", indent{cat{soft, args}}, ")"}}}
	if e.InGroup {
		out = append(out, " WITHIN GROUP (", p.order(e.Order), ")")
	}
	if e.Filter != nil {
		out = append(out, " FILTER (WHERE ", p.expr(e.Filter, 0), ")")
	}
	if e.Over != nil {
		if e.Over.Window != nil {
			out = append(out, " OVER "+nameText(*e.Over.Window))
		} else {
			out = append(out, " OVER (", p.over(e.Over), ")")
		}
	}
	return out
}

func (l *Literal) text() string {
	if l == nil {
		return ""
	}
	return l.Value.S
}

func (p *printer) order(os []Order) doc {
	var out []doc
	for _, o := range os {
		d := cat{p.expr(o.By, 0)}
		if o.Desc {
			d = append(d, " DESC")
		}
		out = append(out, d)
	}
	return cat{"ORDER BY ", commas(out)}
}

func (p *printer) over(o *Over) doc {
	var parts []doc
	if o.Partition != nil {
		parts = append(parts, cat{"PARTITION BY ", group{p.exprs(o.Partition)}})
	}
	if o.Order != nil {
		parts = append(parts, p.order(o.Order))
	}
	bound := func(b FrameBound) doc {
		if b.By != nil {
			return cat{p.expr(b.By, levelJoin), " " + b.Kind}
		}
		return b.Kind
	}
	if f := o.Frame; f != nil {
		if f.Between {
			parts = append(parts, cat{f.Unit + " BETWEEN ", bound(f.From), " AND ", bound(f.To)})
		} else {
			parts = append(parts, cat{f.Unit + " ", bound(f.From)})
		}
	}
	if o.Forget != nil {
		parts = append(parts, "FORGET AFTER "+o.Forget.String())
	}
	out := cat{}
	for i, d := range parts {
		if i > 0 {
			out = append(out, " ")
		}
		out = append(out, d)
	}
	return out
}
