package sql

import (
	"strconv"
	"strings"

	"fiume/internal/core/types"
)

// Levels of binding, loosest first. A level is the lowest that an operand may have.
//
//	1 OR  2 AND  3 NOT  4 comparison, IS, IN, BETWEEN, LIKE, WITHIN  5 ||  6 + -  7 * / % DIV
//	8 unary  9 AT TIME ZONE  10 x[1], x.field
var levels = map[string]int{
	"or": 1, "and": 2, "=": 4, "<>": 4, "!=": 4, "<": 4, "<=": 4, ">": 4, ">=": 4,
	"||": 5, "+": 6, "-": 6, "*": 7, "/": 7, "%": 7, "div": 7,
}

// Levels of what is no plain operator.
const (
	levelNot     = 3
	levelCompare = 4
	levelJoin    = 5
	levelTimes   = 7
	levelUnary   = 8
	levelZone    = 9 // x AT TIME ZONE z
	levelPart    = 10
)

// Bounds on a tree, so that no text can exhaust the stack of what walks it.
const (
	deepestNesting = 500
	longestChain   = 5000
)

// deeper goes one level down and gives what goes up again.
func (p *parser) deeper() (up func()) {
	if p.depth >= deepestNesting {
		p.errs.Add(Syntax, p.peek().Span, "cut it into steps", "this is nested too deep")
		panic(bail{fatal: true})
	}
	p.depth++
	return func() { p.depth-- }
}

func (p *parser) expr() Expr { return p.operand(1) }

// operand reads an expression whose operators bind at the level or tighter.
func (p *parser) operand(level int) Expr {
	defer p.deeper()()
	from := p.peek().From
	ex := func() Ex { return Ex{p.since(from)} }
	var x Expr
	if p.is("not") && level <= levelNot {
		p.next()
		y := p.operand(levelNot)
		x = &Unary{ex(), "NOT", y}
	} else {
		x = p.unary()
	}
	for n := 0; ; n++ {
		t := p.peek()
		if t.kind != op && t.kind != word {
			return x
		}
		if n > longestChain {
			p.fail(t.Span, "cut it into steps", "the expression is too long")
		}
		if l, ok := levels[t.text]; ok {
			if l < level {
				return x
			}
			p.next()
			y := p.operand(l + 1)
			name := strings.ToUpper(t.text)
			if name == "!=" {
				name = "<>"
			}
			x = &Binary{ex(), name, x, y}
			if l == levelCompare {
				if n := p.peek(); levels[n.text] == levelCompare && n.kind == op {
					p.fail(n.Span, "join the two with AND", "comparisons cannot be chained")
				}
			}
			continue
		}
		if level > levelCompare {
			return x
		}
		not := false
		switch {
		case p.accept("is"):
			x = p.is_(from, x)
			continue
		case p.is("not") && (p.isAt(1, "between") || p.isAt(1, "in") || p.isAt(1, "like") || p.isAt(1, "like_regex")):
			p.next()
			not = true
		}
		switch {
		case p.accept("between"):
			lo := p.operand(levelJoin)
			p.expect("and", "between the two bounds")
			hi := p.operand(levelJoin)
			x = &Between{ex(), not, x, lo, hi}
		case p.accept("in"):
			p.expect("(", "and the list")
			in := &In{Not: not, X: x}
			if p.is("select") {
				in.Query = p.selectBlock()
				p.expect(")", "after the query")
			} else {
				in.List = p.list("a comma or ) after a value")
			}
			in.Ex = ex()
			x = in
		case p.is("like"), p.is("like_regex"):
			l := &Like{Not: not, X: x, Regex: p.next().text == "like_regex"}
			l.Pattern = p.operand(levelJoin)
			if p.accept("escape") && !l.Regex || l.Regex && p.accept("flag") {
				l.Extra = p.operand(levelJoin)
			}
			l.Ex = ex()
			x = l
		case p.accept("within"):
			w := &Within{X: x, Of: p.duration("how far the two may be apart")}
			k := p.next()
			if w.Kind = strings.ToUpper(k.text); w.Kind != "OF" && w.Kind != "AFTER" && w.Kind != "BEFORE" {
				p.fail(k.Span, "write x WITHIN 10 SECONDS OF y", "WITHIN takes OF, AFTER or BEFORE behind the duration, found %s", show(k))
			}
			w.Y = p.operand(levelJoin)
			w.Ex = ex()
			x = w
		default:
			return x
		}
	}
}

// is_ reads what follows IS.
func (p *parser) is_(from int, x Expr) Expr {
	i := &Is{X: x, Not: p.accept("not")}
	w := p.next()
	switch w.text {
	case "null", "true", "false", "unknown":
		i.What = strings.ToUpper(w.text)
	case "distinct":
		p.expect("from", "after IS DISTINCT")
		i.What = "DISTINCT FROM"
		i.Y = p.operand(levelJoin)
	default:
		p.fail(w.Span, "", "IS takes NULL, TRUE, FALSE, UNKNOWN or DISTINCT FROM, found %s", show(w))
	}
	i.Ex = Ex{p.since(from)}
	return i
}

// list reads expressions up to the closing parenthesis.
func (p *parser) list(why string) (out []Expr) {
	for {
		out = append(out, p.expr())
		if !p.accept(",") {
			p.expect(")", "or "+why)
			return out
		}
	}
}

func (p *parser) unary() Expr {
	defer p.deeper()()
	t := p.peek()
	if p.is("-") || p.is("+") {
		p.next()
		if p.peek().kind == number && t.text == "-" { // so that the least BIGINT can be written
			if _, isUnit := unit(p.ahead(1).text); !isUnit {
				n := p.next()
				return p.number(Span{t.From, n.To}, "-"+n.text)
			}
		}
		x := p.unary()
		return &Unary{Ex{p.since(t.From)}, t.text, x}
	}
	x := p.primary()
	for n := 0; n <= longestChain; n++ {
		switch {
		case p.is("["):
			p.next()
			i := p.expr()
			p.expect("]", "after the index")
			x = &Index{Ex{p.since(t.From)}, x, i}
		case p.is(".") && !isPath(x):
			p.next()
			n := p.anyName("a field's name")
			x = &Field{Ex{p.since(t.From)}, x, n}
		case p.words("at", "time", "zone"):
			p.pos += 3
			z := p.primary()
			x = &Binary{Ex{p.since(t.From)}, "AT TIME ZONE", x, z}
		default:
			return x
		}
	}
	p.fail(t.Span, "cut it into steps", "the expression is too long")
	return nil
}

// isPath says whether a dot behind the expression has been read as part of it.
func isPath(x Expr) bool { _, ok := x.(*Path); return ok }

// number makes a literal: BIGINT for a whole number, DECIMAL for one with a point or of more digits,
// DOUBLE for one with an exponent.
func (p *parser) number(at Span, text string) Expr {
	l := &Literal{Ex: Ex{at}}
	l.Text = text
	if !strings.ContainsAny(text, ".eE") {
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			l.Value = types.Value{Kind: types.BigInt, I: n}
			return l
		}
	}
	if !strings.ContainsAny(text, "eE") {
		n, _, scale, ok := types.ParseDecimal(text)
		if !ok {
			p.fail(at, "write it with an exponent to make it a DOUBLE", "%s has more digits than a DECIMAL, which has %d", text, types.MaxPrecision)
		}
		l.Value = types.DecimalValue(n, uint8(scale))
		return l
	}
	x, err := strconv.ParseFloat(text, 64)
	if err != nil {
		p.fail(at, "", "%s is too large for DOUBLE", text)
	}
	l.Value = types.Value{Kind: types.Double, F: x}
	return l
}

func (p *parser) primary() Expr {
	t := p.peek()
	lit := func(v types.Value) Expr { return &Literal{Ex: Ex{p.since(t.From)}, Value: v} }
	if t.kind == number || t.kind == param || p.is("interval") {
		if d, ok := p.tryDuration(); ok {
			return &Literal{Ex{p.since(t.From)}, types.Value{Kind: types.Interval, I: d.Micros}, d.Param}
		}
	}
	switch t.kind {
	case number:
		p.next()
		return p.number(t.Span, t.text)
	case str:
		p.next()
		return lit(types.Value{Kind: types.Varchar, S: t.text})
	case param:
		p.next()
		return p.paramLiteral(t)
	case quoted:
		return p.path()
	case op:
		if p.accept("(") {
			if p.is("select") {
				q := p.selectBlock()
				p.expect(")", "after the query")
				return &Subquery{Ex{p.since(t.From)}, q}
			}
			x := p.expr()
			p.expect(")", "after the expression")
			return x
		}
	case word:
		switch t.text {
		case "null":
			p.next()
			return lit(types.Value{Kind: types.Null})
		case "true", "false":
			p.next()
			v := types.Value{Kind: types.Boolean}
			if t.text == "true" {
				v.I = 1
			}
			return lit(v)
		case "case":
			return p.caseExpr()
		case "cast", "try_cast":
			if p.isAt(1, "(") {
				p.pos += 2
				x := p.expr()
				p.expect("as", "and a type in CAST")
				to := p.typeName()
				p.expect(")", "after the type")
				return &Cast{Ex{p.since(t.From)}, x, to, t.text == "try_cast"}
			}
		case "timestamp", "date", "time":
			if p.ahead(1).kind == str {
				p.next()
				return p.timeLiteral(t.text, p.next())
			}
		case "current_timestamp":
			p.next()
			return &Call{Ex: Ex{t.Span}, Name: Name{t.text, t.Span}}
		case "array":
			if p.isAt(1, "[") {
				p.pos += 2
				b := &Build{What: "ARRAY"}
				for !p.is("]") {
					b.Items = append(b.Items, p.expr())
					if !p.accept(",") {
						break
					}
				}
				p.expect("]", "or a comma after an element")
				b.Ex = Ex{p.since(t.From)}
				return b
			}
		case "row":
			if p.isAt(1, "(") {
				p.pos += 2
				items := p.list("a comma after a field")
				return &Build{Ex{p.since(t.From)}, "ROW", items}
			}
		case "exists":
			p.next()
			p.expect("(", "and a query")
			q := p.selectBlock()
			p.expect(")", "after the query")
			return &Exists{Ex{p.since(t.From)}, q}
		}
		if !reserved[t.text] {
			if p.isAt(1, "(") {
				return p.call("", t.From)
			}
			if p.isAt(1, ".") && p.ahead(2).kind == word && p.isAt(3, "(") { // a function in a space
				p.pos += 2
				return p.call(t.text+".", t.From)
			}
			return p.path()
		}
	}
	hint := ""
	if t.kind == word {
		hint = "write a keyword in double quotes to use it as a name"
	}
	p.fail(t.Span, hint, "expected an expression, found %s", show(t))
	return nil
}

// timeLiteral reads TIMESTAMP '…', DATE '…' and TIME '…'.
func (p *parser) timeLiteral(kind string, s token) Expr {
	at := Span{p.toks[p.pos-2].From, s.To}
	v, ok, like := types.Value{}, false, ""
	switch kind {
	case "date":
		v.Kind, like = types.Date, "2026-05-17"
		v.I, ok = types.ParseDate([]byte(s.text))
	case "time":
		v.Kind, like = types.Time, "09:30:00"
		v.I, ok = types.ParseTimeOfDay([]byte(s.text))
	default:
		v.Kind, like = types.Timestamp, "2026-05-17 09:00:00"
		v.I, ok = types.ParseTimestamp([]byte(s.text))
	}
	if !ok {
		p.fail(s.Span, "write it like "+strings.ToUpper(kind)+" '"+like+"'", "'%s' is no %s", s.text, kind)
	}
	return &Literal{Ex{at}, v, strings.ToUpper(kind) + " " + quoteText(s.text)}
}

// paramLiteral makes a literal of a parameter: a number, TRUE, FALSE or NULL where it reads as one, else text.
func (p *parser) paramLiteral(t token) Expr {
	if p.keep || p.own[t.text] {
		return &Param{Ex{t.Span}, t.text}
	}
	v := p.value(t)
	digits := strings.TrimPrefix(v, "-")
	if digits != "" && scanNumber(digits) == len(digits) && digits[0] >= '0' && digits[0] <= '9' {
		p.note(t, v)
		return p.number(t.Span, v)
	}
	lit := &Literal{Ex: Ex{t.Span}}
	switch strings.ToLower(v) {
	case "true", "false", "null":
		p.note(t, strings.ToUpper(v))
		if strings.EqualFold(v, "null") {
			lit.Value = types.Value{Kind: types.Null}
			return lit
		}
		lit.Value.Kind = types.Boolean
		if strings.EqualFold(v, "true") {
			lit.Value.I = 1
		}
		return lit
	}
	p.note(t, quoteText(v))
	lit.Value = types.Value{Kind: types.Varchar, S: v}
	return lit
}

func (p *parser) path() Expr {
	from := p.peek().From
	x := &Path{Parts: []Name{p.anyName("a name")}}
	for p.is(".") {
		p.next()
		x.Parts = append(x.Parts, p.anyName("a field's name"))
	}
	x.Span = p.since(from)
	return x
}

// call reads a function call and what may stand behind it. The standard's forms with words between the
// arguments (EXTRACT, POSITION, SUBSTRING, TRIM, JSON_OBJECT) become plain calls. space, with its dot, stands before it, from where on.
func (p *parser) call(space string, from int) Expr {
	t := p.next()
	t.text, t.From = space+t.text, from
	p.next()
	c := &Call{Name: Name{t.text, t.Span}, Absent: t.text == "json_array"}
	text := func(s string, at Span) Expr {
		return &Literal{Ex: Ex{at}, Value: types.Value{Kind: types.Varchar, S: s}}
	}
	switch {
	case p.accept("*"):
		c.Star = true
		p.expect(")", "after *")
	case p.accept(")"):
	case t.text == "extract" && p.peek().kind == word && p.isAt(1, "from"):
		f := p.next()
		p.next()
		c.Args = []Expr{text(f.text, f.Span), p.expr()}
		p.expect(")", "after EXTRACT")
	case t.text == "trim" && (p.is("leading") || p.is("trailing") || p.is("both")) && !p.isAt(1, ")") && !p.isAt(1, "."):
		side := p.next()
		chars := text(" ", side.Span)
		if !p.is("from") {
			chars = p.expr()
		}
		p.expect("from", "in TRIM")
		c.Args = []Expr{p.expr(), chars, text(side.text, side.Span)}
		p.expect(")", "after TRIM")
	case t.text == "json_object":
		p.jsonObject(c)
	default:
		c.Distinct = p.accept("distinct")
		first := p.operandOr(t.text == "position", levelJoin)
		c.Args = append(c.Args, first)
		switch {
		case t.text == "position" && p.accept("in"):
			c.Args = append(c.Args, p.expr())
		case t.text == "trim" && p.accept("from"):
			c.Args = []Expr{p.expr(), first, text("both", t.Span)}
		case t.text == "substring" && p.accept("from"):
			c.Args = append(c.Args, p.expr())
			if p.accept("for") {
				c.Args = append(c.Args, p.expr())
			}
		default:
			for p.accept(",") {
				c.Args = append(c.Args, p.expr())
			}
		}
		if p.is("order") {
			c.Order = p.orderBy()
		}
		if strings.HasPrefix(t.text, "json_") {
			p.jsonClauses(c)
		}
		p.expect(")", "or a comma after an argument")
	}
	if p.words("within", "group") {
		p.pos += 2
		p.expect("(", "and ORDER BY")
		c.Order, c.InGroup = p.orderBy(), true
		p.expect(")", "after ORDER BY")
	}
	if p.is("filter") && p.isAt(1, "(") {
		p.pos += 2
		p.expect("where", "in FILTER")
		c.Filter = p.expr()
		p.expect(")", "after the condition")
	}
	if p.is("over") && (p.isAt(1, "(") || p.ahead(1).kind == word || p.ahead(1).kind == quoted) {
		at := p.next().From
		if p.accept("(") {
			c.Over = p.over(at)
		} else {
			n := p.name("the name of a window")
			c.Over = &Over{Window: &n, Span: n.Span}
		}
	}
	c.Span = p.since(t.From)
	return c
}

// operandOr reads an operand of a level where it must not take what follows, else any expression.
func (p *parser) operandOr(tight bool, level int) Expr {
	if tight {
		return p.operand(level)
	}
	return p.expr()
}

// jsonObject reads the pairs of JSON_OBJECT as names and values in turn.
func (p *parser) jsonObject(c *Call) {
	for {
		p.accept("key")
		c.Args = append(c.Args, p.operand(levelJoin))
		if !p.accept("value") && !p.accept(":") {
			p.fail(p.peek().Span, "write JSON_OBJECT('name' VALUE x, …)", "expected VALUE after the name, found %s", show(p.peek()))
		}
		c.Args = append(c.Args, p.expr())
		if !p.accept(",") {
			break
		}
	}
	p.jsonClauses(c)
	p.expect(")", "or a comma after a value")
}

// jsonClauses reads what stands behind the arguments of a JSON function.
func (p *parser) jsonClauses(c *Call) {
	for {
		switch {
		case p.accept("returning"):
			t := p.typeName()
			c.Returning = &t
		case p.accept("absent", "on", "null"):
			c.Absent = true
		case p.accept("null", "on", "null"):
			c.Absent = false
		case p.is("null"), p.is("error"), p.is("default"):
			o := &OnCase{Kind: strings.ToUpper(p.next().text)}
			if o.Kind == "DEFAULT" {
				o.Default = p.operand(levelJoin)
			}
			p.expect("on", "and EMPTY or ERROR")
			switch {
			case p.accept("empty"):
				c.OnEmpty = o
			case p.accept("error"):
				c.OnError = o
			default:
				p.fail(p.peek().Span, "", "expected EMPTY or ERROR after ON, found %s", show(p.peek()))
			}
		default:
			return
		}
	}
}

func (p *parser) caseExpr() Expr {
	from := p.next().From
	c := &Case{}
	if !p.is("when") {
		c.X = p.expr()
	}
	for p.accept("when") {
		w := When{Cond: p.expr()}
		p.expect("then", "after WHEN")
		w.Then = p.expr()
		c.Whens = append(c.Whens, w)
	}
	if len(c.Whens) == 0 {
		p.fail(p.peek().Span, "", "expected WHEN in CASE, found %s", show(p.peek()))
	}
	if p.accept("else") {
		c.Else = p.expr()
	}
	p.expect("end", "after CASE")
	c.Span = p.since(from)
	return c
}
