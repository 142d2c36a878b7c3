package sql

import (
	"strconv"
	"strings"

	"fiume/internal/core/types"
)

// Levels of binding, loosest first. A level is the lowest that an operand may have.
//
//	1 OR  2 AND  3 NOT  4 comparison, IS, IN, BETWEEN, LIKE  5 ||  6 + -  7 * / % DIV  8 unary
var levels = map[string]int{
	"or": 1, "and": 2, "=": 4, "<>": 4, "!=": 4, "<": 4, "<=": 4, ">": 4, ">=": 4, "like": 4,
	"||": 5, "+": 6, "-": 6, "*": 7, "/": 7, "%": 7, "div": 7,
}

// Bounds on a tree, so that no text can exhaust the stack of what walks it.
const (
	deepestNesting = 500
	longestChain   = 5000
)

// deeper goes one level down and gives what goes up again.
func (p *parser) deeper() (up func()) {
	if p.depth >= deepestNesting {
		p.fail(p.peek().Span, "cut it into steps", "this is nested too deep")
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
	if p.is("not") && level <= 3 {
		p.next()
		y := p.operand(3)
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
			if l == 4 {
				if n := p.peek(); levels[n.text] == 4 && n.kind == op {
					p.fail(n.Span, "join the two with AND", "comparisons cannot be chained")
				}
			}
			continue
		}
		if level > 4 {
			return x
		}
		not := false
		switch {
		case p.accept("is"):
			not = p.accept("not")
			w := p.next()
			switch w.text {
			case "null", "true", "false", "unknown":
			default:
				p.fail(w.Span, "", "IS takes NULL, TRUE, FALSE or UNKNOWN, found %s", show(w))
			}
			x = &Is{ex(), not, x, strings.ToUpper(w.text)}
			continue
		case p.is("not") && (p.isAt(1, "between") || p.isAt(1, "in") || p.isAt(1, "like")):
			p.next()
			not = true
		}
		switch {
		case p.accept("between"):
			lo := p.operand(5)
			p.expect("and", "between the two bounds")
			hi := p.operand(5)
			x = &Between{ex(), not, x, lo, hi}
		case p.accept("in"):
			p.expect("(", "and the list")
			if p.is("select") {
				p.notYet(p.peek().Span, "IN with a query")
			}
			list := p.list("a comma or ) after a value")
			x = &In{ex(), not, x, list}
		case not && p.accept("like"):
			y := p.operand(5)
			x = &Unary{ex(), "NOT", &Binary{ex(), "LIKE", x, y}}
		case p.is("within"):
			p.notYet(t.Span, "WITHIN")
		case p.words("at", "time"):
			p.notYet(t.Span, "AT TIME ZONE")
		default:
			return x
		}
	}
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
	return p.primary()
}

func (p *parser) number(at Span, text string) Expr {
	if !strings.ContainsAny(text, ".eE") {
		n, err := strconv.ParseInt(text, 10, 64)
		if err == nil {
			return &Literal{Ex{at}, types.Value{Kind: types.BigInt, I: n}}
		}
		p.fail(at, "write it with a decimal point to make it a DOUBLE", "%s does not fit BIGINT", text)
	}
	x, err := strconv.ParseFloat(text, 64)
	if err != nil {
		p.fail(at, "", "%s is too large for DOUBLE", text)
	}
	return &Literal{Ex{at}, types.Value{Kind: types.Double, F: x}}
}

func (p *parser) primary() Expr {
	t := p.peek()
	lit := func(v types.Value) Expr { return &Literal{Ex{p.since(t.From)}, v} }
	if t.kind == number || t.kind == param || p.is("interval") {
		if d, ok := p.tryDuration(); ok {
			return lit(types.Value{Kind: types.Interval, I: d})
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
				p.notYet(p.peek().Span, "a query as a value")
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
		case "timestamp", "date":
			if p.ahead(1).kind == str {
				p.next()
				s := p.next()
				if t.text == "date" {
					if d, ok := types.ParseDate([]byte(s.text)); ok {
						return lit(types.Value{Kind: types.Date, I: d})
					}
					p.fail(s.Span, "write it like DATE '2026-05-17'", "'%s' is no date", s.text)
				}
				if ts, ok := types.ParseTimestamp([]byte(s.text)); ok {
					return lit(types.Value{Kind: types.Timestamp, I: ts})
				}
				p.fail(s.Span, "write it like TIMESTAMP '2026-05-17 09:00:00'", "'%s' is no timestamp", s.text)
			}
		case "current_timestamp":
			p.next()
			return &Call{Ex: Ex{t.Span}, Name: Name{t.text, t.Span}}
		case "extract":
			if p.isAt(1, "(") {
				p.pos += 2
				f := p.next()
				p.expect("from", "in EXTRACT")
				x := p.expr()
				p.expect(")", "after EXTRACT")
				field := &Literal{Ex{f.Span}, types.Value{Kind: types.Varchar, S: f.text}}
				return &Call{Ex: Ex{p.since(t.From)}, Name: Name{"extract", t.Span}, Args: []Expr{field, x}}
			}
		case "exists":
			p.notYet(t.Span, "EXISTS")
		}
		if !reserved[t.text] {
			if p.isAt(1, "(") {
				return p.call()
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

// paramLiteral makes a literal of a parameter: a number, TRUE, FALSE or NULL where it reads as one, else text.
func (p *parser) paramLiteral(t token) Expr {
	v := p.value(t)
	note := func(s string) { p.script.edits = append(p.script.edits, edit{t.Span, s}) }
	digits := strings.TrimPrefix(v, "-")
	if digits != "" && scanNumber(digits) == len(digits) && digits[0] >= '0' && digits[0] <= '9' {
		note(v)
		return p.number(t.Span, v)
	}
	switch strings.ToLower(v) {
	case "true", "false", "null":
		note(strings.ToUpper(v))
		if strings.EqualFold(v, "null") {
			return &Literal{Ex{t.Span}, types.Value{Kind: types.Null}}
		}
		b := types.Value{Kind: types.Boolean}
		if strings.EqualFold(v, "true") {
			b.I = 1
		}
		return &Literal{Ex{t.Span}, b}
	}
	note(quoteText(v))
	return &Literal{Ex{t.Span}, types.Value{Kind: types.Varchar, S: v}}
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

func (p *parser) call() Expr {
	t := p.next()
	p.next()
	c := &Call{Name: Name{t.text, t.Span}}
	switch {
	case p.accept("*"):
		c.Star = true
		p.expect(")", "after *")
	case p.accept(")"):
	default:
		if p.accept("distinct") {
			c.Distinct = true
		}
		c.Args = p.list("a comma after an argument")
	}
	c.Span = p.since(t.From)
	if p.is("filter") && p.isAt(1, "(") {
		p.notYet(p.peek().Span, "FILTER")
	}
	if p.is("over") {
		p.notYet(p.peek().Span, "OVER")
	}
	return c
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
