package sql

import (
	"slices"
	"strconv"
	"strings"

	"fiume/internal/core/types"
)

var firstWords = []string{"declare", "create", "select", "with", "show", "describe", "drop", "start", "stop", "explain", "insert", "alter"}

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
		if kinds := append(slices.Clone(kinds), KindPlace); !slices.Contains(kinds, kind) {
			p.fail(k.Span, DidYouMean(k.text, plural(kinds)), "SHOW takes one of %s, found %s", strings.ToUpper(strings.Join(plural(kinds), ", ")), show(k))
		}
		return &Show{stmt(), kind}
	case p.accept("describe"):
		d := &Describe{}
		if p.is("function") && (p.ahead(1).kind == word || p.ahead(1).kind == quoted) {
			p.next()
			d.Function = true
			d.Name = p.anyName("the function's name")
		} else if p.is("place") && (p.ahead(1).kind == word || p.ahead(1).kind == quoted) {
			p.next()
			d.Place = true
			d.Name = p.anyName("the place")
		} else {
			d.Name = p.spaced("the name of what to describe")
		}
		d.Stmt = stmt()
		return d
	case p.accept("drop"):
		k := p.next()
		if !slices.Contains(kinds, k.text) {
			p.fail(k.Span, DidYouMean(k.text, kinds), "DROP takes one of %s, found %s", strings.ToUpper(strings.Join(kinds, ", ")), show(k))
		}
		d := &Drop{Kind: k.text, IfExists: p.accept("if", "exists")}
		if k.text == KindTopic {
			d.Name = p.topicName()
		} else {
			d.Name = p.spaced("the name of the " + k.text)
		}
		d.Stmt = stmt()
		return d
	case p.accept("alter"):
		p.expect("topic", "after ALTER")
		a := &AlterTopic{Name: p.topicName(), Options: p.options()}
		a.Stmt = stmt()
		return a
	case p.accept("start"):
		p.expect("job", "after START")
		j := &StartJob{Name: p.spaced("the job's name")}
		if p.accept("from") {
			j.From = p.startMark()
		}
		j.Stmt = stmt()
		return j
	case p.accept("stop"):
		p.expect("job", "after STOP")
		n := p.spaced("the job's name")
		return &StopJob{stmt(), n}
	case p.accept("explain"):
		x := &Explain{}
		switch {
		case p.accept("job"):
			n := p.spaced("the job's name")
			x.Job = &n
		case p.is("select"), p.is("with"):
			x.Query = p.query()
		case p.words("create", "job"), p.words("create", "or", "replace", "job"):
			from := p.next().From
			x.Create, _ = p.create(from).(*CreateJob)
		default:
			n := p.spaced("a query or the name of a job")
			x.Job = &n
		}
		x.Stmt = stmt()
		return x
	case p.accept("insert"):
		return p.insert(from)
	}
	p.fail(t.Span, DidYouMean(t.text, firstWords), "a statement begins with %s, found %s", strings.ToUpper(strings.Join(firstWords, ", ")), show(t))
	return nil
}

var kinds = []string{KindEndpoint, KindStream, KindTable, KindSink, KindTopic, KindView, KindFunction, KindJob, KindBoard, KindAlert}

func plural(ks []string) []string {
	out := make([]string, len(ks))
	for i, k := range ks {
		out[i] = k + "s"
	}
	return out
}

// startMark reads what START JOB … FROM takes.
func (p *parser) startMark() Expr {
	t := p.peek()
	switch {
	case p.accept("beginning"):
		return &BeginningMark{Ex{t.Span}}
	case p.accept("checkpoint"):
		n := p.next()
		x, err := strconv.ParseInt(n.text, 10, 64)
		if n.kind != number || err != nil {
			p.fail(n.Span, "fiume job show lists them", "expected the number of a checkpoint, found %s", show(n))
		}
		return &CheckpointMark{Ex{p.since(t.From)}, x}
	case p.is("timestamp") && (p.ahead(1).kind == str || p.ahead(1).kind == param), t.kind == param:
		x := p.operand(7)
		switch x.(type) {
		case *Field, *Index: // parts of a time are none
		default:
			return x
		}
	}
	p.fail(t.Span, "", "expected BEGINNING, CHECKPOINT n or TIMESTAMP '…', found %s", show(t))
	return nil
}

// insert reads INSERT INTO name [(columns)] VALUES (…), (…), or a query.
func (p *parser) insert(from int) Statement {
	p.expect("into", "after INSERT")
	i := &Insert{Into: p.spaced("the stream or sink to write to")}
	if p.is("(") {
		i.Columns = p.names("a column's name")
	}
	switch {
	case p.is("select"), p.is("with"):
		i.Query = p.query()
	case p.accept("values"):
		for {
			p.expect("(", "and the values of a row")
			i.Rows = append(i.Rows, p.list("a comma after a value"))
			if !p.accept(",") {
				break
			}
		}
	default:
		t := p.peek()
		p.fail(t.Span, "", "expected VALUES or a query, found %s", show(t))
	}
	i.Stmt = Stmt{p.since(from)}
	return i
}

// names reads (a, b, …).
func (p *parser) names(what string) (out []Name) {
	p.expect("(", "and names")
	for {
		out = append(out, p.anyName(what))
		if !p.accept(",") {
			p.expect(")", "or a comma after a name")
			return out
		}
	}
}

// topicName reads the name of a topic, which may be text.
func (p *parser) topicName() Name {
	if p.peek().kind == str {
		s := p.text("the topic's name")
		return Name{s.Value, s.Span}
	}
	return p.spaced("the topic's name")
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
		d := &DeclareEndpoint{Replace: replace, Name: p.spaced("the endpoint's name")}
		d.Place = p.name("the kind of place, such as MARIADB,")
		d.Address = p.text("the address")
		if p.accept("secret") {
			s := p.text("the secret's name")
			d.Secret = &s
		}
		if p.is("(") {
			d.Options = p.options()
		}
		d.Stmt = Stmt{p.since(from)}
		return d
	case KindStream:
		d := &DeclareStream{Replace: replace, Name: p.spaced("the stream's name")}
		d.Columns, d.Sampled, _ = p.columns(false)
		if p.is("event") {
			p.try([]string{"from"}, func() { d.Time = p.eventTime() })
		}
		p.expect("from", "and the place the stream reads")
		if p.accept("history") {
			h := p.place("the place of the history, such as FILES or LAKE,")
			d.History = &h
			p.expect("then", "and the place where the stream goes on behind its history")
		}
		d.From = p.place("the place, such as TOPIC or FILES,")
		if d.History != nil && p.accept("at") {
			d.Seam = p.expr()
		}
		d.Stmt = Stmt{p.since(from)}
		return d
	case KindTable:
		d := &DeclareTable{Replace: replace, Name: p.spaced("the table's name")}
		d.Columns, d.Sampled, d.Key = p.columns(true)
		if p.is("event") {
			p.try([]string{"from"}, func() { d.Time = p.eventTime() })
		}
		p.expect("from", "and the place the table reads")
		d.From = p.place("the place, such as TOPIC, FILES or MARIADB,")
		d.Stmt = Stmt{p.since(from)}
		return d
	case KindSink:
		d := &DeclareSink{Replace: replace, Name: p.spaced("the sink's name")}
		p.expect("to", "and the place the sink writes")
		d.To = p.place("the place, such as TOPIC, FILES or MARIADB,")
		d.Stmt = Stmt{p.since(from)}
		return d
	}
	ks := []string{KindEndpoint, KindStream, KindTable, KindSink}
	hint := DidYouMean(k.text, ks)
	if slices.Contains([]string{KindTopic, KindView, KindJob, KindFunction, KindBoard, KindAlert}, k.text) {
		hint = "it lives in Fiume: write CREATE " + strings.ToUpper(k.text)
	}
	p.fail(k.Span, hint, "DECLARE takes ENDPOINT, STREAM, TABLE or SINK, found %s", show(k))
	return nil
}

// columns reads what a declaration says of its columns: a list, COLUMNS SAMPLED, or nothing.
func (p *parser) columns(table bool) (out []Column, sampled bool, key []Name) {
	switch {
	case p.accept("columns"):
		p.expect("sampled", "after COLUMNS")
		return nil, true, nil
	case p.is("from"), p.is("event"):
		return nil, false, nil
	case !p.is("("):
		t := p.peek()
		p.fail(t.Span, "list them like (chip VARCHAR NOT NULL, read_at TIMESTAMP)", "expected the columns in parentheses, found %s", show(t))
	}
	p.next()
	for {
		p.try([]string{",", ")"}, func() {
			if table && p.words("primary", "key", "(") {
				p.pos += 2
				key = p.names("a column of the key")
				return
			}
			out = append(out, p.column(table))
		})
		if p.accept(",") {
			continue
		}
		p.expect(")", "or a comma after a column")
		return out, false, key
	}
}

func (p *parser) column(table bool) (c Column) {
	from := p.peek().From
	defer func() { c.Span = p.since(from) }()
	c = Column{Name: p.anyName("a column's name")}
	c.Type = p.typeName()
	for {
		switch {
		case p.accept("not"):
			p.expect("null", "after NOT")
			c.NotNull = true
		case p.is("primary"):
			if !table {
				p.fail(p.peek().Span, "keys belong to tables; leave it out", "a stream has no PRIMARY KEY")
			}
			p.next()
			p.expect("key", "after PRIMARY")
			c.Key = true
		case p.accept("sensitive"):
			c.Sensitive = true
		case c.As == nil && p.accept("as"):
			p.expect("(", "and the expression of a computed column")
			c.As = p.expr()
			p.expect(")", "after the expression")
		default:
			if t := p.peek(); t.kind == word {
				p.fail(t.Span, DidYouMean(t.text, []string{"not null", "primary", "sensitive", "as"}), "expected NOT NULL, PRIMARY KEY, SENSITIVE, AS, a comma or ) after a column, found %s", show(t))
			}
			return c
		}
	}
}

var typeWords = map[string]types.Kind{
	"boolean": types.Boolean, "int": types.Int, "integer": types.Int, "bigint": types.BigInt, "double": types.Double,
	"varchar": types.Varchar, "timestamp": types.Timestamp, "date": types.Date, "interval": types.Interval,
	"varbinary": types.Varbinary, "time": types.Time, "json": types.JSON,
}

// typeName reads a type.
func (p *parser) typeName() types.Type {
	defer p.deeper()()
	t := p.next()
	if t.kind == word {
		if k, ok := typeWords[t.text]; ok {
			if t.text == "double" {
				p.accept("precision")
			}
			if (t.text == "varchar" || t.text == "varbinary") && p.accept("(") {
				p.fail(t.Span, "write "+strings.ToUpper(t.text)+" alone", "%s takes no length", strings.ToUpper(t.text))
			}
			return types.Of(k)
		}
		switch t.text {
		case "decimal", "numeric":
			return p.decimalType(t)
		case "array":
			p.expect("(", "and the type of the elements")
			elem := p.typeName()
			p.expect(")", "after the type of the elements")
			return types.ArrayOf(elem)
		case "map":
			p.expect("(", "and the types of keys and values")
			key := p.typeName()
			p.expect(",", "and the type of the values")
			value := p.typeName()
			p.expect(")", "after the type of the values")
			if key.IsNested() || key.Kind == types.JSON {
				p.fail(t.Span, "", "the keys of a MAP cannot be %s", key)
			}
			return types.MapOf(key, value)
		case "row":
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
	}
	names := []string{"row", "array", "map", "decimal", "numeric"}
	for n := range typeWords {
		names = append(names, n)
	}
	slices.Sort(names)
	hint := "types are BOOLEAN, INT, BIGINT, DOUBLE, DECIMAL(p, s), VARCHAR, VARBINARY, DATE, TIME, TIMESTAMP, INTERVAL, ROW(…), ARRAY(…), MAP(…), JSON"
	if s := Suggest(t.text, names); s != "" {
		hint = "did you mean " + strings.ToUpper(s) + "?"
	}
	p.fail(t.Span, hint, "%s is no type", show(t))
	return types.Type{}
}

// decimalType reads what follows DECIMAL. Without digits it holds whole numbers of 38 digits.
func (p *parser) decimalType(t token) types.Type {
	if !p.accept("(") {
		return types.DecimalOf(types.MaxPrecision, 0)
	}
	digits := func(what string) int {
		n := p.next()
		x, err := strconv.Atoi(n.text)
		if n.kind != number || err != nil {
			p.fail(n.Span, "write it like DECIMAL(10, 2)", "expected the number of digits %s, found %s", what, show(n))
		}
		return x
	}
	precision, scale := digits("of the DECIMAL"), 0
	if p.accept(",") {
		scale = digits("behind the point")
	}
	p.expect(")", "after the digits")
	if precision < 1 || precision > types.MaxPrecision || scale > precision {
		p.fail(p.since(t.From), "", "a DECIMAL has 1 to %d digits, and not more behind the point than in all", types.MaxPrecision)
	}
	return types.DecimalOf(precision, scale)
}

func (p *parser) eventTime() *EventTime {
	from := p.next().From
	p.expect("time", "after EVENT")
	e := &EventTime{Column: p.anyName("the column of the event time")}
	for {
		var at **Duration
		var what string
		switch {
		case p.accept("delay"):
			at, what = &e.Delay, "the delay"
		case p.accept("ahead"):
			at, what = &e.Ahead, "how far ahead a row may be"
		case p.is("idle"):
			p.next()
			p.expect("after", "after IDLE")
			at, what = &e.IdleAfter, "the time after which a silent split is idle"
		default:
			e.Span = p.since(from)
			return e
		}
		if *at != nil {
			p.errs.Add(Duplicate, p.toks[p.pos-1].Span, "", "%s is given twice", what)
			p.broken = true
		}
		d := p.duration(what)
		*at = &d
	}
}

func (p *parser) place(what string) Place {
	pl := Place{Kind: p.anyName(what)}
	pl.Address = p.text("the address of the " + pl.Kind.Text)
	if p.accept("via") {
		n := p.spaced("the endpoint's name")
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
	case t.kind == str:
		o.Word, o.IsText = p.text("the value").Value, true
	case t.kind == number || t.kind == param || p.is("interval"):
		if d, ok := p.tryDuration(); ok {
			o.Duration, o.Param = &d.Micros, d.Param
			break
		}
		if p.is("interval") {
			p.fail(t.Span, "write it like 30 SECONDS", "expected a value, found %s", show(t))
		}
		p.next()
		text := t.text
		if t.kind == param {
			if p.keep {
				o.Param = ":" + t.text
				break
			}
			text = p.value(t)
			if scanNumber(text) != len(text) || text == "" || text[0] < '0' || text[0] > '9' {
				p.note(t, quoteText(text))
				o.Word, o.IsText = text, true
				break
			}
			p.note(t, text)
		}
		x, err := strconv.ParseFloat(text, 64)
		if err != nil {
			p.fail(t.Span, "", "the number %s is too large", text)
		}
		o.Number = &x
	case p.is("("):
		o.Names = p.names("a name")
	default: // the last word is the value
		if len(ws) < 2 {
			p.fail(t.Span, "", "the option %s has no value", strings.ToUpper(ws[0]))
		}
		o.Name, o.Word = strings.Join(ws[:len(ws)-1], " "), ws[len(ws)-1]
	}
	o.Span = p.since(from)
	return o
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
		t.Name = p.topicName()
		if p.is("(") {
			t.Options = p.options()
		}
		t.Stmt = Stmt{p.since(from)}
		return t
	case KindView:
		v := &CreateView{Replace: replace, Name: p.spaced("the view's name")}
		p.expect("as", "and the view's query")
		v.Query = p.query()
		v.Stmt = Stmt{p.since(from)}
		return v
	case KindBoard:
		return p.createBoard(from, replace)
	case KindAlert:
		return p.createAlert(from, replace)
	case KindJob:
		return p.createJob(from, replace)
	case KindFunction:
		return p.createFunction(from, replace)
	}
	hint := DidYouMean(k.text, []string{KindTopic, KindView, KindJob, KindFunction, KindBoard, KindAlert})
	if slices.Contains([]string{KindEndpoint, KindStream, KindTable, KindSink}, k.text) {
		hint = "it stands outside Fiume: write DECLARE " + strings.ToUpper(k.text)
	}
	p.fail(k.Span, hint, "CREATE takes TOPIC, VIEW, FUNCTION, JOB, BOARD or ALERT, found %s", show(k))
	return nil
}

func (p *parser) createBoard(from int, replace bool) Statement {
	b := &CreateBoard{Replace: replace, Name: p.spaced("the board's name")}
	if p.is("(") {
		b.Options = p.options()
	}
	own := map[string]bool{}
	for p.is("variable") {
		at := p.next().From
		v := Variable{Name: p.name("the variable's name")}
		if own[v.Name.Text] {
			p.errs.Add(Duplicate, v.Name.Span, "", "the variable %s is there twice", v.Name.Text)
		}
		own[v.Name.Text] = true
		if p.peek().kind == str {
			title := p.text("the title")
			v.Title = &title
		}
		if p.is("(") {
			v.Options = p.options()
		}
		v.Query, v.Inner = p.within("the query of what can be chosen")
		v.Span = p.since(at)
		b.Variables = append(b.Variables, v)
	}
	p.own = own
	defer func() { p.own = nil }()
	for p.is("panel") {
		at := p.next().From
		x := Panel{Title: p.text("the panel's title, in quotes,")}
		x.Kind = p.anyName("what the panel shows: " + strings.ToUpper(strings.Join(PanelKinds, ", ")))
		if p.is("(") {
			x.Options = p.options()
		}
		if x.Kind.Text == PanelText {
			words := p.text("the words, in quotes,")
			x.Words = &words
		} else {
			x.Query, x.Inner = p.within("the panel's query")
		}
		x.Span = p.since(at)
		b.Panels = append(b.Panels, x)
	}
	if p.is("variable") {
		p.fail(p.peek().Span, "", "variables stand before the first panel")
	}
	if len(b.Panels) == 0 {
		t := p.peek()
		p.fail(t.Span, "write PANEL 'Reads' NUMBER AS (SELECT …)", "a board has a panel at least, found %s", show(t))
	}
	b.Stmt = Stmt{p.since(from)}
	return b
}

func (p *parser) createAlert(from int, replace bool) Statement {
	a := &CreateAlert{Replace: replace, Name: p.spaced("the alert's name")}
	p.expect("when", "and the query whose rows give the alarm, in parentheses")
	p.expect("(", "and the query whose rows give the alarm")
	a.Query = p.query()
	p.expect(")", "behind the query")
	said := map[string]bool{}
	for {
		t := p.peek()
		w := t.text
		if t.kind != word || !slices.Contains(alertClauses, w) {
			break
		}
		if said[w] {
			p.fail(t.Span, "", "%s is there twice", strings.ToUpper(w))
		}
		said[w] = true
		p.next()
		switch w {
		case "by":
			a.By = p.listed("a column that tells what gives the alarm", p.anyName)
		case "for":
			a.For = p.above("how long it must last")
		case "every":
			a.Every = p.above("how often it is looked")
		case "say":
			say := p.text("what is said, in quotes")
			a.Say = &say
		case "notify":
			a.Notify = p.listed("a sink", p.spaced)
		}
	}
	a.Stmt = Stmt{p.since(from)}
	return a
}

// alertClauses are what may stand behind an alert's query.
var alertClauses = []string{"by", "for", "every", "say", "notify"}

// listed reads names with commas between them, each once.
func (p *parser) listed(what string, one func(string) Name) (out []Name) {
	for {
		n := one(what)
		if slices.ContainsFunc(out, func(o Name) bool { return o.Text == n.Text }) {
			p.errs.Add(Duplicate, n.Span, "", "%s is there twice", n.Text)
		}
		if out = append(out, n); !p.accept(",") {
			return out
		}
	}
}

// within reads AS (query).
func (p *parser) within(what string) (q *Query, inner Span) {
	p.expect("as", "and "+what+" in parentheses")
	inner.From = p.peek().To
	p.expect("(", "and "+what)
	q = p.query()
	inner.To = p.peek().From
	p.expect(")", "behind "+what)
	return q, inner
}

// PanelText is the kind of a panel of words, PanelKinds are all kinds.
const PanelText = "text"

// PanelKinds are what panels show.
var PanelKinds = []string{"series", "bars", "number", "table", "heat", "histogram", "states", "map", "areas", PanelText}

func (p *parser) createFunction(from int, replace bool) Statement {
	f := &CreateFunction{Replace: replace, Name: p.spaced("the function's name")}
	p.expect("(", "and the arguments")
	for !p.is(")") {
		f.Args = append(f.Args, Column{Name: p.anyName("an argument's name"), Type: p.typeName()})
		if !p.accept(",") {
			break
		}
	}
	p.expect(")", "or a comma after an argument")
	p.expect("returns", "and the type of the result")
	f.Returns = p.typeName()
	p.expect("language", "and the language of the code")
	f.Language = p.anyName("the language, such as javascript,")
	p.expect("as", "and the code")
	f.Code = p.text("the code")
	f.Stmt = Stmt{p.since(from)}
	return f
}

func (p *parser) createJob(from int, replace bool) Statement {
	j := &CreateJob{Replace: replace, Name: p.spaced("the job's name")}
	j.Short = p.accept("as")
	if p.is("with") {
		j.Steps = p.with()
	}
	if j.Short {
		q := p.selectBlock()
		j.Steps = append(j.Steps, Step{j.Name, q, q.Span, q.Span})
	}
	for p.is("route") {
		p.try([]string{"route", "set"}, func() { j.Routes = append(j.Routes, p.route(j.Short, j.Name)) })
	}
	if len(j.Routes) == 0 && !p.broken {
		t := p.peek()
		hint := clauseHint(t)
		if hint == "" || t.kind != word {
			hint = "add ROUTE step TO sink"
		}
		p.fail(t.Span, hint, "expected ROUTE, found %s: a job sends at least one step to a sink", show(t))
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
		from := p.peek().From
		s := Step{Name: p.name("the step's name")}
		p.expect("as", "and the step's query")
		p.expect("(", "before the step's query")
		s.Inner.From = p.toks[p.pos-1].To
		p.try([]string{")"}, func() {
			s.Query = p.selectBlock()
			if !p.is(")") {
				t := p.peek()
				p.fail(t.Span, clauseHint(t), "expected ) after the step's query, found %s", show(t))
			}
		})
		s.Inner.To = p.next().From
		s.Span = p.since(from)
		out = append(out, s)
		if !p.accept(",") {
			return out
		}
	}
}

func (p *parser) route(short bool, job Name) Route {
	from := p.next().From
	r := Route{Step: job}
	for _, kind := range []string{RouteLate, RouteRejected} { // unless it is the name of a step
		if p.is(kind) && !p.isAt(1, "to") && !p.isAt(1, "where") {
			p.next()
			r.Kind = kind
		}
	}
	switch {
	case r.Kind != RouteRows:
		r.Step = p.spaced("the step, stream or sink")
		if r.Kind == RouteLate && p.accept("of") {
			n := p.name("an input of the step")
			r.Of = &n
		}
	case !p.is("to") && !p.is("where"):
		r.Step = p.spaced("the step to route")
	case !short:
		p.fail(p.peek().Span, "name the step: ROUTE step TO sink", "a job with WITH steps routes each by its name")
	}
	branch := func() Branch {
		var b Branch
		if p.accept("where") {
			b.Where = p.expr()
		}
		p.expect("to", "and the sinks")
		for {
			b.Sinks = append(b.Sinks, p.spaced("a sink's name"))
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
