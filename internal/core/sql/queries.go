package sql

import (
	"fmt"
	"slices"
	"strings"
)

// query reads [WITH …] SELECT … [LIMIT n] [UNTIL x].
func (p *parser) query() *Query {
	from := p.peek().From
	q := &Query{}
	if p.is("with") {
		q.With = p.with()
	}
	q.Body = p.selectBlock()
	for {
		switch {
		case q.Limit == nil && p.accept("limit"):
			q.Limit = p.expr()
		case q.Until == nil && p.accept("until"):
			q.Until = p.mark()
		default:
			q.Stmt = Stmt{p.since(from)}
			return q
		}
	}
}

// mark reads what SINCE, UNTIL and AS OF take.
func (p *parser) mark() Expr {
	t := p.peek()
	switch {
	case p.accept("beginning"):
		return &BeginningMark{Ex{t.Span}}
	case p.accept("now"):
		return &NowMark{Ex{t.Span}}
	}
	return p.operand(7)
}

// clauses begin where one of these words stands; after an error the parser goes on there.
var clauses = []string{"from", "where", "unique", "group", "having", "window", "union", "limit", "until", "route", "set", ")"}

func (p *parser) selectBlock() *Select {
	defer p.deeper()()
	from := p.peek().From
	p.expect("select", "and the result columns")
	s := &Select{Distinct: p.accept("distinct")}
	for {
		p.try(append([]string{","}, clauses...), func() { s.Items = append(s.Items, p.item()) })
		if !p.accept(",") {
			break
		}
	}
	if !p.is("from") {
		if p.broken {
			panic(bail{}) // an item has been called wrong already
		}
		t := p.peek()
		hint := clauseHint(t)
		if last := p.toks[p.pos-1]; last.kind == word && Suggest(last.text, []string{"from"}) != "" { // it was read as a column's new name
			hint = fmt.Sprintf("is %q before it meant as FROM?", last.text)
		}
		p.fail(t.Span, hint, "expected FROM after the result columns, found %s", show(t))
	}
	p.next()
	p.try(clauses[1:], func() {
		s.From = p.from(false)
		for p.joins() {
			s.Joins = append(s.Joins, p.join())
		}
		if p.is(",") {
			p.fail(p.peek().Span, "write JOIN … ON with a key and a bound of time", "FROM reads one stream; others are joined to it")
		}
	})
	clause := func(words []string, f func()) {
		if p.accept(words...) {
			p.try(clauses[1:], f)
		}
	}
	clause([]string{"where"}, func() { s.Where = p.expr() })
	clause([]string{"unique"}, func() { s.Unique = p.unique() })
	clause([]string{"group"}, func() {
		p.expect("by", "after GROUP")
		s.GroupBy = p.commas()
		if p.accept("forget", "after") {
			s.Forget = p.above("the time after which a key is forgotten")
		}
	})
	clause([]string{"having"}, func() { s.Having = p.expr() })
	clause([]string{"window"}, func() {
		for {
			s.Windows = append(s.Windows, p.window())
			if !p.accept(",") {
				return
			}
		}
	})
	if p.accept("union") {
		p.expect("all", "after UNION: rows of a stream are not compared with all before them;")
		s.Union = p.selectBlock()
	}
	s.Span = p.since(from)
	return s
}

// commas reads expressions with commas between them.
func (p *parser) commas() (out []Expr) {
	for {
		out = append(out, p.expr())
		if !p.accept(",") {
			return out
		}
	}
}

func (p *parser) unique() *Unique {
	from := p.toks[p.pos-1].From
	p.expect("by", "after UNIQUE")
	u := &Unique{}
	p.expect("(", "and the columns that tell rows apart")
	u.By = p.list("a comma after a column")
	p.expect("within", "and the time in which repeats are dropped: UNIQUE BY (…) WITHIN 10 SECONDS;")
	u.Within = *p.above("the time in which repeats are dropped")
	u.Span = p.since(from)
	return u
}

func (p *parser) item() Item {
	from := p.peek().From
	if p.accept("*") {
		return Item{Star: true, Span: p.since(from)}
	}
	if t := p.peek(); (t.kind == quoted || t.kind == word && !reserved[t.text]) && p.isAt(1, ".") && p.isAt(2, "*") {
		p.pos += 3
		return Item{Star: true, Of: &Name{t.text, t.Span}, Span: p.since(from)}
	}
	it := Item{Expr: p.expr()}
	if p.accept("as") {
		n := p.anyName("the column's new name")
		it.As = &n
	} else if t := p.peek(); t.kind == quoted || t.kind == word && !reserved[t.text] {
		n := p.name("the column's new name")
		it.As = &n
	}
	it.Span = p.since(from)
	return it
}

// from reads one input. A joined table may say AS OF.
func (p *parser) from(joined bool) From {
	from := p.peek().From
	var f From
	switch {
	case p.accept("("):
		f.Query = p.selectBlock()
		p.expect(")", "after the query")
	case p.words("unnest", "("):
		p.pos += 2
		f.Unnest = p.expr()
		p.expect(")", "after the array")
	default:
		f.Name = p.name("the stream or step to read")
		if p.is(".") { // space.name, job.step or space.job.step
			p.next()
			job := f.Name
			f.Job, f.Name = &job, p.name("what stands behind "+job.Text+".")
			if p.is(".") {
				p.next()
				job.Text, job.To = job.Text+"."+f.Name.Text, f.Name.To
				f.Name = p.name("the step of the job " + job.Text)
			}
		}
	}
	since := func() {
		if f.Since == nil && p.accept("since") {
			f.Since = p.mark()
		}
	}
	asOf := func() {
		if joined && f.AsOf == nil && p.accept("as", "of") {
			f.AsOf = p.mark()
		}
	}
	since()
	asOf()
	if f.AsOf == nil {
		if p.accept("as") {
			n := p.name("the alias")
			f.Alias = &n
		} else if t := p.peek(); t.kind == quoted || t.kind == word && !reserved[t.text] && !(joined && t.text == "lateness") {
			if h := clauseHint(t); h != "" && p.ahead(1).kind != op && p.ahead(1).kind != end && !reserved[p.ahead(1).text] {
				p.fail(t.Span, h, "%s is no clause", show(t))
			}
			if t.text == "match_recognize" && p.words("match_recognize", "(") {
				p.fail(t.Span, "LAG and LEAD OVER (PARTITION BY … ORDER BY … FORGET AFTER …) give a row's neighbours, and a WHERE around them keeps rows that follow each other as wanted", "patterns over rows are no part of this language")
			}
			n := p.name("the alias")
			f.Alias = &n
		}
		if f.Alias != nil && p.is("(") {
			f.Columns = p.names("a column's name")
		}
		since()
		asOf()
	}
	f.Span = p.since(from)
	return f
}

var joinWords = []string{"join", "inner", "left", "right", "full", "cross"}

func (p *parser) joins() bool {
	t := p.peek()
	return t.kind == word && slices.Contains(joinWords, t.text)
}

func (p *parser) join() Join {
	from := p.peek().From
	j := Join{Kind: "INNER"}
	if t := p.next(); t.text != "join" {
		j.Kind = strings.ToUpper(t.text)
		if j.Kind != "INNER" && j.Kind != "CROSS" {
			p.accept("outer")
		}
		p.expect("join", "after "+j.Kind)
	}
	for _, pick := range []string{"last", "first"} {
		if p.is(pick) && p.isAt(1, "of") {
			p.pos += 2
			j.Pick = strings.ToUpper(pick)
			break
		}
	}
	j.With = p.from(true)
	if j.Kind == "CROSS" {
		j.Span = p.since(from)
		return j
	}
	p.expect("on", "and what the two sides have in common")
	j.On = p.expr()
	if p.accept("lateness") {
		d := p.duration("the lateness")
		j.Lateness = &d
	}
	j.Span = p.since(from)
	return j
}

var windowWords = []string{"tumbling", "sliding", "session", "offset", "at", "on", "lateness", "report", "empty"}

// window reads w AS (…): a window of event time, or a window of rows for OVER.
func (p *parser) window() Window {
	from := p.peek().From
	w := Window{Name: p.name("the window's name")}
	p.expect("as", "and the window's definition")
	p.expect("(", "before the window's definition")
	if p.is("partition") || p.is("order") {
		w.Over = p.over(from)
		w.Span = p.since(from)
		return w
	}
	seen := map[string]bool{}
	for !p.is(")") {
		t := p.next()
		if t.kind != word {
			p.fail(t.Span, "", "a window is defined by TUMBLING, SLIDING or SESSION, found %s", show(t))
		}
		if seen[t.text] {
			p.fail(t.Span, "", "%s is there twice", strings.ToUpper(t.text))
		}
		seen[t.text] = true
		switch t.text {
		case Tumbling, Sliding, Session:
			if w.Kind != "" {
				p.fail(t.Span, "", "a window is either TUMBLING, SLIDING or SESSION")
			}
			p.windowKind(&w, t.text)
		case "offset":
			d := p.duration("the offset")
			w.Offset = &d
		case "at":
			p.expect("time", "after AT")
			p.expect("zone", "after AT TIME")
			z := p.text("the time zone")
			w.Zone = &z
		case "on":
			w.On = p.operand(7)
		case "lateness":
			d := p.duration("the lateness")
			w.Lateness = &d
		case "report":
			switch {
			case p.accept("on", "close"):
			case p.accept("on", "change"):
				w.Report = ReportOnChange
			case p.accept("every"):
				w.Report, w.Each = ReportEvery, p.above("the time between reports")
			default:
				p.fail(p.peek().Span, "", "REPORT takes ON CLOSE, EVERY and a duration, or ON CHANGE, found %s", show(p.peek()))
			}
		case "empty":
			p.expect("for", "after EMPTY")
			w.EmptyFor = p.above("the time for which empty windows are given")
		default:
			p.fail(t.Span, DidYouMean(t.text, windowWords), "a window is defined by TUMBLING, SLIDING or SESSION, found %s", show(t))
		}
	}
	p.next()
	w.Span = p.since(from)
	if w.Kind == "" {
		p.fail(w.Span, "write TUMBLING and a duration", "the window %s has no kind", w.Name.Text)
	}
	return w
}

func (p *parser) windowKind(w *Window, kind string) {
	w.Kind = kind
	switch kind {
	case Tumbling:
		w.Length = p.above("the window's length")
	case Sliding:
		w.Length = p.above("the window's length")
		p.expect("every", "and how often a new window opens")
		w.Every = p.above("the time between two windows")
	default:
		p.expect("gap", "and the time between two sessions")
		w.Gap = p.above("the gap between two sessions")
		if p.accept("max") {
			w.Max = p.above("the longest session")
		}
	}
}

// over reads the parts of an OVER up to its closing parenthesis.
func (p *parser) over(from int) *Over {
	o := &Over{}
	if p.accept("partition") {
		p.expect("by", "after PARTITION")
		o.Partition = p.commas()
	}
	if p.is("order") {
		o.Order = p.orderBy()
	}
	if p.is("rows") || p.is("range") {
		f := &Frame{Unit: strings.ToUpper(p.next().text)}
		if f.Between = p.accept("between"); f.Between {
			f.From = p.frameBound()
			p.expect("and", "between the two bounds")
			f.To = p.frameBound()
		} else {
			f.From, f.To = p.frameBound(), FrameBound{Kind: "CURRENT ROW"}
		}
		o.Frame = f
	}
	if p.accept("forget", "after") {
		o.Forget = p.above("the time after which a key is forgotten")
	}
	p.expect(")", "after the rows of OVER")
	o.Span = p.since(from)
	return o
}

func (p *parser) orderBy() (out []Order) {
	p.expect("order", "")
	p.expect("by", "after ORDER")
	for {
		o := Order{By: p.expr()}
		if p.accept("desc") {
			o.Desc = true
		} else {
			p.accept("asc")
		}
		out = append(out, o)
		if !p.accept(",") {
			return out
		}
	}
}

func (p *parser) frameBound() FrameBound {
	switch {
	case p.accept("unbounded", "preceding"):
		return FrameBound{Kind: "UNBOUNDED PRECEDING"}
	case p.accept("unbounded", "following"):
		return FrameBound{Kind: "UNBOUNDED FOLLOWING"}
	case p.accept("current", "row"):
		return FrameBound{Kind: "CURRENT ROW"}
	}
	b := FrameBound{By: p.operand(5)}
	switch {
	case p.accept("preceding"):
		b.Kind = "PRECEDING"
	case p.accept("following"):
		b.Kind = "FOLLOWING"
	default:
		p.fail(p.peek().Span, "", "expected PRECEDING or FOLLOWING, found %s", show(p.peek()))
	}
	return b
}
