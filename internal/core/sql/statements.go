package sql

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fiume/internal/core/types"
)

var firstWords = []string{"declare", "create", "select", "with", "show", "describe", "drop", "start", "stop", "explain"}

func (p *parser) statement() Statement {
	t := p.peek()
	from := t.From
	stmt := func() Stmt { return Stmt{p.since(from)} }
	switch {
	case p.accept("declare"):
		return p.declare(from)
	case p.accept("create"):
		return p.create(from)
	case p.is("select"), p.is("with"):
		return p.query()
	case p.accept("show"):
		k := p.next()
		kind := strings.TrimSuffix(k.text, "s")
		if !slices.Contains(kinds, kind) {
			p.fail(k.Span, DidYouMean(k.text, plural(kinds)), "SHOW takes one of %s, found %s", strings.ToUpper(strings.Join(plural(kinds), ", ")), show(k))
		}
		return &Show{stmt(), kind}
	case p.accept("describe"):
		n := p.name("the name of what to describe")
		return &Describe{stmt(), n}
	case p.accept("drop"):
		k := p.next()
		if !slices.Contains(kinds, k.text) {
			p.fail(k.Span, DidYouMean(k.text, kinds), "DROP takes one of %s, found %s", strings.ToUpper(strings.Join(kinds, ", ")), show(k))
		}
		if k.text == KindTable {
			p.notYet(k.Span, "DROP TABLE")
		}
		d := &Drop{Kind: k.text, IfExists: p.accept("if", "exists")}
		if k.text == KindTopic && p.peek().kind == str {
			x := p.text("the topic")
			d.Name = Name{x.Value, x.Span}
		} else {
			d.Name = p.name("the name of the " + k.text)
		}
		d.Stmt = stmt()
		return d
	case p.accept("start"):
		p.expect("job", "after START")
		n := p.name("the job's name")
		if p.accept("from") {
			p.notYet(p.since(from), "START JOB … FROM")
		}
		return &StartJob{stmt(), n}
	case p.accept("stop"):
		p.expect("job", "after STOP")
		n := p.name("the job's name")
		return &StopJob{stmt(), n}
	case p.accept("explain"):
		if p.accept("job") {
			n := p.name("the job's name")
			return &Explain{stmt(), nil, &n}
		}
		if p.is("select") || p.is("with") {
			q := p.query()
			return &Explain{stmt(), q, nil}
		}
		n := p.name("a query or the name of a job")
		return &Explain{stmt(), nil, &n}
	case p.is("insert"):
		p.notYet(t.Span, "INSERT INTO")
	}
	p.fail(t.Span, DidYouMean(t.text, firstWords), "a statement begins with %s, found %s", strings.ToUpper(strings.Join(firstWords, ", ")), show(t))
	return nil
}

var kinds = []string{KindEndpoint, KindStream, KindTable, KindSink, KindTopic, KindView, KindJob}

func plural(ks []string) []string {
	out := make([]string, len(ks))
	for i, k := range ks {
		out[i] = k + "s"
	}
	return out
}

func (p *parser) declare(from int) Statement {
	replace := false
	if p.accept("or") {
		p.expect("replace", "after OR")
		replace = true
	}
	k := p.next()
	switch k.text {
	case KindEndpoint:
		d := &DeclareEndpoint{Replace: replace, Name: p.name("the endpoint's name")}
		d.Place = p.name("the kind of place, such as MARIADB,")
		d.Address = p.text("the address")
		if p.accept("secret") {
			s := p.text("the secret's name")
			d.Secret = &s
		}
		d.Stmt = Stmt{p.since(from)}
		return d
	case KindStream:
		d := &DeclareStream{Replace: replace, Name: p.name("the stream's name")}
		if p.is("columns") {
			p.notYet(p.peek().Span, "COLUMNS SAMPLED")
		}
		if !p.is("(") {
			t := p.peek()
			p.fail(t.Span, "list them like (chip VARCHAR NOT NULL, read_at TIMESTAMP)", "expected the columns in parentheses, found %s", show(t))
		}
		d.Columns = p.columns()
		if p.is("event") {
			d.Time = p.eventTime()
		}
		p.expect("from", "and the place the stream reads")
		d.From = p.place("the place, such as TOPIC or FILES,")
		d.Stmt = Stmt{p.since(from)}
		return d
	case KindSink:
		d := &DeclareSink{Replace: replace, Name: p.name("the sink's name")}
		p.expect("to", "and the place the sink writes")
		d.To = p.place("the place, such as TOPIC, FILES or MARIADB,")
		d.Stmt = Stmt{p.since(from)}
		return d
	case KindTable:
		p.notYet(k.Span, "DECLARE TABLE")
	}
	ks := []string{KindEndpoint, KindStream, KindTable, KindSink}
	hint := DidYouMean(k.text, ks)
	if slices.Contains([]string{KindTopic, KindView, KindJob}, k.text) {
		hint = "it lives in Fiume: write CREATE " + strings.ToUpper(k.text)
	}
	p.fail(k.Span, hint, "DECLARE takes ENDPOINT, STREAM, TABLE or SINK, found %s", show(k))
	return nil
}

func (p *parser) columns() (out []Column) {
	p.expect("(", "and the columns")
	for {
		c := Column{Name: p.anyName("a column's name")}
		c.Type = p.typeName()
		for {
			if p.accept("not") {
				p.expect("null", "after NOT")
				c.NotNull = true
				continue
			}
			if p.is("primary") {
				p.fail(p.peek().Span, "keys belong to tables; leave it out", "a stream has no PRIMARY KEY")
			}
			if p.accept("as") {
				p.expect("(", "and the expression of a computed column")
				c.As = p.expr()
				p.expect(")", "after the expression")
				continue
			}
			break
		}
		out = append(out, c)
		if p.accept(",") {
			continue
		}
		p.expect(")", "or a comma after a column")
		return out
	}
}

var typeWords = map[string]types.Kind{
	"boolean": types.Boolean, "int": types.Int, "integer": types.Int, "bigint": types.BigInt, "double": types.Double,
	"varchar": types.Varchar, "timestamp": types.Timestamp, "date": types.Date, "interval": types.Interval,
}

var laterTypes = []string{"decimal", "numeric", "varbinary", "time", "array", "map", "json"}

func (p *parser) typeName() types.Type {
	defer p.deeper()()
	t := p.next()
	if t.kind == word {
		if k, ok := typeWords[t.text]; ok {
			if t.text == "double" {
				p.accept("precision")
			}
			if t.text == "varchar" && p.accept("(") {
				p.fail(t.Span, "write VARCHAR alone", "VARCHAR takes no length")
			}
			return types.Of(k)
		}
		if t.text == "row" {
			p.expect("(", "and the fields of the ROW")
			row := types.Type{Kind: types.Row}
			for {
				n := p.anyName("a field's name")
				if row.FieldIndex(n.Text) >= 0 {
					p.errs.Add(Duplicate, n.Span, "", "the field %q is there twice", n.Text)
				}
				row.Fields = append(row.Fields, types.Field{Name: n.Text, Type: p.typeName()})
				if p.accept(",") {
					continue
				}
				p.expect(")", "or a comma after a field")
				return row
			}
		}
		if slices.Contains(laterTypes, t.text) {
			p.notYet(t.Span, "the type "+strings.ToUpper(t.text))
		}
	}
	names := append([]string{"row"}, laterTypes...)
	for n := range typeWords {
		names = append(names, n)
	}
	slices.Sort(names)
	hint := "types are BOOLEAN, INT, BIGINT, DOUBLE, VARCHAR, TIMESTAMP, DATE, INTERVAL, ROW(…)"
	if s := Suggest(t.text, names); s != "" {
		hint = "did you mean " + strings.ToUpper(s) + "?"
	}
	p.fail(t.Span, hint, "%s is no type", show(t))
	return types.Type{}
}

func (p *parser) eventTime() *EventTime {
	from := p.next().From
	p.expect("time", "after EVENT")
	e := &EventTime{Column: p.anyName("the column of the event time"), Delay: 0, Ahead: -1, IdleAfter: -1}
	for {
		switch {
		case p.accept("delay"):
			e.Delay = p.duration("the delay")
		case p.accept("ahead"):
			e.Ahead = p.duration("how far ahead a row may be")
		case p.is("idle"):
			p.next()
			p.expect("after", "after IDLE")
			e.IdleAfter = p.duration("the time after which a silent split is idle")
		default:
			e.Span = p.since(from)
			return e
		}
	}
}

func (p *parser) place(what string) Place {
	pl := Place{Kind: p.anyName(what)}
	pl.Address = p.text("the address of the " + pl.Kind.Text)
	if p.accept("via") {
		n := p.name("the endpoint's name")
		pl.Via = &n
	}
	if p.is("(") {
		pl.Options = p.options()
	}
	return pl
}

// options reads (NAME value, NAME value …). A name is one or more words before its value; the last
// word of a run is the value where no other value follows.
func (p *parser) options() (out []Option) {
	p.expect("(", "and the options")
	for !p.is(")") {
		o := p.option()
		for _, other := range out {
			if other.Name == o.Name {
				p.errs.Add(Duplicate, o.Span, "", "the option %s is there twice", strings.ToUpper(o.Name))
			}
		}
		out = append(out, o)
		if !p.accept(",") {
			break
		}
	}
	p.expect(")", "or a comma after an option")
	return out
}

func (p *parser) option() Option {
	from := p.peek().From
	var ws []string
	for p.peek().kind == word {
		ws = append(ws, p.next().text)
	}
	if len(ws) == 0 {
		t := p.peek()
		p.fail(t.Span, "options are NAME value pairs", "expected an option's name, found %s", show(t))
	}
	o := Option{Name: strings.Join(ws, " ")}
	t := p.peek()
	switch {
	case t.kind == str, t.kind == param && !p.isDurationParam():
		o.Word = p.text("the value").Value
	case t.kind == number || t.kind == param || p.is("interval"):
		if d, ok := p.tryDuration(); ok {
			o.Duration = &d
			break
		}
		x, _ := strconv.ParseFloat(p.next().text, 64)
		o.Number = &x
	case p.accept("("):
		for {
			o.Names = append(o.Names, p.anyName("a name"))
			if !p.accept(",") {
				break
			}
		}
		p.expect(")", "after the names")
	default: // the last word is the value
		if len(ws) < 2 {
			p.fail(t.Span, "", "the option %s has no value", strings.ToUpper(ws[0]))
		}
		o.Name, o.Word = strings.Join(ws[:len(ws)-1], " "), ws[len(ws)-1]
	}
	o.Span = p.since(from)
	return o
}

func (p *parser) isDurationParam() bool {
	_, ok := unit(p.ahead(1).text)
	return p.peek().kind == param && p.ahead(1).kind == word && ok
}

func (p *parser) create(from int) Statement {
	replace := false
	if p.accept("or") {
		p.expect("replace", "after OR")
		replace = true
	}
	k := p.next()
	switch k.text {
	case KindTopic:
		t := &CreateTopic{IfNotExists: p.accept("if", "not", "exists")}
		if p.peek().kind == str {
			s := p.text("the topic's name")
			t.Name = Name{s.Value, s.Span}
		} else {
			t.Name = p.name("the topic's name")
		}
		if p.is("(") {
			t.Options = p.options()
		}
		t.Stmt = Stmt{p.since(from)}
		return t
	case KindView:
		v := &CreateView{Replace: replace, Name: p.name("the view's name")}
		p.expect("as", "and the view's query")
		v.Query = p.query()
		v.Stmt = Stmt{p.since(from)}
		return v
	case KindJob:
		return p.createJob(from, replace)
	case "function":
		p.notYet(k.Span, "CREATE FUNCTION")
	}
	hint := DidYouMean(k.text, []string{KindTopic, KindView, KindJob, "function"})
	if slices.Contains([]string{KindEndpoint, KindStream, KindTable, KindSink}, k.text) {
		hint = "it stands outside Fiume: write DECLARE " + strings.ToUpper(k.text)
	}
	p.fail(k.Span, hint, "CREATE takes TOPIC, VIEW, FUNCTION or JOB, found %s", show(k))
	return nil
}

func (p *parser) createJob(from int, replace bool) Statement {
	j := &CreateJob{Replace: replace, Name: p.name("the job's name")}
	short := p.accept("as")
	if p.is("with") {
		j.Steps = p.with()
	}
	if short {
		j.Steps = append(j.Steps, Step{j.Name, p.selectBlock()})
	}
	for p.is("route") {
		j.Routes = append(j.Routes, p.route(short, j.Name))
	}
	if len(j.Routes) == 0 {
		t := p.peek()
		p.fail(t.Span, "add ROUTE step TO sink", "expected ROUTE, found %s: a job sends at least one step to a sink", show(t))
	}
	if p.accept("set") {
		j.Set = p.options()
	}
	j.Stmt = Stmt{p.since(from)}
	return j
}

func (p *parser) with() (out []Step) {
	p.expect("with", "")
	for {
		s := Step{Name: p.name("the step's name")}
		p.expect("as", "and the step's query")
		p.expect("(", "before the step's query")
		s.Query = p.selectBlock()
		if !p.is(")") {
			t := p.peek()
			p.fail(t.Span, clauseHint(t), "expected ) after the step's query, found %s", show(t))
		}
		p.next()
		out = append(out, s)
		if !p.accept(",") {
			return out
		}
	}
}

func (p *parser) route(short bool, job Name) Route {
	from := p.next().From
	r := Route{Step: job}
	if p.is("late") && !p.isAt(1, "to") && !p.isAt(1, "where") || p.is("rejected") && !p.isAt(1, "to") && !p.isAt(1, "where") {
		p.notYet(p.peek().Span, "ROUTE "+strings.ToUpper(p.peek().text))
	}
	if !p.is("to") && !p.is("where") {
		r.Step = p.name("the step to route")
	} else if !short {
		p.fail(p.peek().Span, "name the step: ROUTE step TO sink", "a job with WITH steps routes each by its name")
	}
	branch := func() Branch {
		var b Branch
		if p.accept("where") {
			b.Where = p.expr()
		}
		p.expect("to", "and the sinks")
		for {
			b.Sinks = append(b.Sinks, p.name("a sink's name"))
			if !p.accept(",") {
				return b
			}
		}
	}
	r.Branches = append(r.Branches, branch())
	for p.is("else") {
		last := r.Branches[len(r.Branches)-1]
		at := p.next().Span
		if last.Where == nil {
			p.fail(at, "give the branch before it a WHERE", "ELSE after a branch that takes every row")
		}
		r.Branches = append(r.Branches, branch())
	}
	r.Span = p.since(from)
	return r
}

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

// mark reads what SINCE and UNTIL take.
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

func (p *parser) selectBlock() *Select {
	defer p.deeper()()
	from := p.peek().From
	p.expect("select", "and the result columns")
	s := &Select{}
	if p.is("distinct") {
		p.notYet(p.peek().Span, "SELECT DISTINCT")
	}
	for {
		s.Items = append(s.Items, p.item())
		if !p.accept(",") {
			break
		}
	}
	if !p.is("from") {
		t := p.peek()
		hint := clauseHint(t)
		if last := p.toks[p.pos-1]; Suggest(last.text, []string{"from"}) != "" { // it was read as a column's new name
			hint = fmt.Sprintf("is %q before it meant as FROM?", last.text)
		}
		p.fail(t.Span, hint, "expected FROM after the result columns, found %s", show(t))
	}
	p.next()
	s.From = p.from()
	if t := p.peek(); t.kind == word && slices.Contains([]string{"join", "left", "right", "full", "inner", "cross"}, t.text) {
		p.notYet(t.Span, "JOIN")
	}
	if p.is(",") {
		p.notYet(p.peek().Span, "a second stream in FROM")
	}
	if p.accept("where") {
		s.Where = p.expr()
	}
	if p.is("unique") {
		p.notYet(p.peek().Span, "UNIQUE BY")
	}
	if p.accept("group") {
		p.expect("by", "after GROUP")
		for {
			s.GroupBy = append(s.GroupBy, p.expr())
			if !p.accept(",") {
				break
			}
		}
		if p.is("forget") {
			p.notYet(p.peek().Span, "FORGET AFTER")
		}
	}
	if p.accept("having") {
		s.Having = p.expr()
	}
	if p.accept("window") {
		for {
			s.Windows = append(s.Windows, p.window())
			if !p.accept(",") {
				break
			}
		}
	}
	if p.is("union") {
		p.notYet(p.peek().Span, "UNION ALL")
	}
	s.Span = p.since(from)
	return s
}

func (p *parser) item() Item {
	from := p.peek().From
	if p.accept("*") {
		return Item{Star: true, Span: p.since(from)}
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

func (p *parser) from() From {
	from := p.peek().From
	var f From
	if p.accept("(") {
		f.Query = p.selectBlock()
		p.expect(")", "after the query")
	} else {
		f.Name = p.name("the stream or step to read")
	}
	if p.accept("since") {
		f.Since = p.mark()
	}
	if p.accept("as") {
		n := p.name("the alias")
		f.Alias = &n
	} else if t := p.peek(); t.kind == quoted || t.kind == word && !reserved[t.text] {
		if h := clauseHint(t); h != "" && p.ahead(1).kind != op && p.ahead(1).kind != end && !reserved[p.ahead(1).text] {
			p.fail(t.Span, h, "%s is no clause", show(t))
		}
		n := p.name("the alias")
		f.Alias = &n
	}
	if f.Since == nil && p.accept("since") {
		f.Since = p.mark()
	}
	f.Span = p.since(from)
	return f
}

// window reads w AS (TUMBLING d [OFFSET d] [ON c]).
func (p *parser) window() Window {
	from := p.peek().From
	w := Window{Name: p.name("the window's name")}
	p.expect("as", "and the window's definition")
	p.expect("(", "before the window's definition")
	for !p.is(")") {
		t := p.next()
		switch t.text {
		case "tumbling":
			w.Kind = t.text
			w.Length = p.duration("the window's length")
			if w.Length == 0 {
				p.fail(t.Span, "", "a window needs a length above zero")
			}
		case "offset":
			w.Offset = p.duration("the offset")
		case "on":
			w.On = p.operand(7)
		case "sliding", "session", "lateness", "report", "empty":
			p.notYet(t.Span, strings.ToUpper(t.text)+" in a window")
		case "at":
			p.notYet(t.Span, "AT TIME ZONE in a window")
		default:
			p.fail(t.Span, DidYouMean(t.text, []string{"tumbling", "sliding", "session", "offset", "on", "lateness", "report", "empty"}),
				"a window is defined by TUMBLING, SLIDING or SESSION, found %s", show(t))
		}
	}
	p.next()
	w.Span = p.since(from)
	if w.Kind == "" {
		p.fail(w.Span, "write TUMBLING and a duration", "the window %s has no kind", w.Name.Text)
	}
	return w
}
