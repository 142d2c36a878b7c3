package sql

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"fiume/internal/core/types"
)

// Format lays a script out in its canonical form and keeps its comments. Parsing the result gives the
// same trees, and laying it out again the same text.
func Format(s *Script) string {
	p := &printer{text: s.Text, comments: s.comments}
	var out cat
	oneLine := false // the statement before
	for i, st := range s.Statements {
		at := st.At()
		// Short statements that stand together stay together.
		together := false
		if i > 0 {
			before := s.Statements[i-1].At()
			next := at.From
			for _, c := range p.comments {
				if c.From >= before.To && strings.Contains(p.text[before.To:c.From], "\n") {
					next = min(next, c.From)
				}
			}
			together = strings.Count(p.text[before.To:next], "\n") <= 1 && oneLine
			if !together {
				out = append(out, blank{})
			}
		}
		above, d := p.above(at.From), doc(group{p.statement(st)})
		oneLine = !broken(d) && width(d) < lineWidth
		out = append(out, above, d, ";", p.trail(p.semicolon(at.To)), hard{})
	}
	if rest := p.above(len(s.Text) + 1); len(rest) > 0 {
		if len(s.Statements) > 0 {
			out = append(out, blank{})
		}
		out = append(out, rest)
	}
	var w writer
	w.start = true
	w.write(out, 0, false)
	if w.b.Len() == 0 {
		return ""
	}
	return strings.TrimRight(w.b.String(), " \n") + "\n"
}

// Print writes one statement in its canonical form, without its semicolon.
func Print(st Statement) string {
	var w writer
	w.write(group{(&printer{}).statement(st)}, 0, false)
	return w.b.String()
}

// PrintExpr writes an expression on one line.
func PrintExpr(e Expr) string {
	var w writer
	w.write((&printer{}).expr(e, 0), 0, true)
	return w.b.String()
}

// printer makes docs of trees. Comments wait in the order of the text and are put before the first
// part that stands behind them, or behind the part that ends on their line.
type printer struct {
	text     string
	comments []comment
	taken    int // where the last comment ends that is not in them any more
}

// semicolon gives the place behind the semicolon of a statement that ends at a place, or that place. Comments may stand between.
func (p *printer) semicolon(at int) int {
	from := max(at, p.taken)
	if gap := strings.IndexByte(p.text[min(from, len(p.text)):], ';'); gap >= 0 && strings.TrimSpace(p.text[from:from+gap]) == "" {
		return from + gap + 1
	}
	return at
}

// lead gives the comments before a place.
func (p *printer) lead(at int) (out cat) {
	for len(p.comments) > 0 && p.comments[0].From < at {
		out = append(out, note{p.comments[0].text}, hard{})
		p.take()
	}
	return out
}

// above is lead between statements, where an empty line behind a comment stays.
func (p *printer) above(at int) (out cat) {
	for len(p.comments) > 0 && p.comments[0].From < at {
		next := min(at, len(p.text))
		if len(p.comments) > 1 {
			next = min(next, p.comments[1].From)
		}
		gap := strings.Count(p.text[p.comments[0].To:next], "\n") > 1
		out = append(out, p.lead(p.comments[0].From+1))
		if gap && next < len(p.text) {
			out = append(out, blank{})
		}
	}
	return out
}

// trail gives the comment that stands behind a part on its last line, or inside the part.
func (p *printer) trail(end int) doc {
	if len(p.comments) == 0 {
		return nil
	}
	c := p.comments[0]
	if c.From >= end && (end > len(p.text) || strings.Trim(p.text[end:c.From], " \t,") != "") {
		return nil
	}
	p.take()
	return note{c.text}
}

func (p *printer) take() {
	p.taken = p.comments[0].To
	p.comments = p.comments[1:]
}

// words that would be read as something else where a name may stand.
var special = map[string]bool{
	"array": true, "row": true, "interval": true, "date": true, "time": true, "timestamp": true, "current_timestamp": true,
	"last": true, "first": true, "of": true, "over": true, "filter": true, "lateness": true, "forget": true, "escape": true, "flag": true,
	"unnest": true, "beginning": true, "now": true, "at": true, "outer": true, "try_cast": true, "primary": true, "event": true,
	"columns": true, "late": true, "rejected": true, "if": true, "job": true, "function": true, "delay": true, "ahead": true, "idle": true,
	"partition": true, "desc": true, "asc": true, "rows": true, "range": true, "key": true, "value": true, "leading": true, "trailing": true,
	"both": true, "preceding": true, "following": true, "unbounded": true, "current": true, "report": true, "empty": true, "offset": true,
	"absent": true, "error": true, "default": true, "returning": true, "before": true, "after": true, "checkpoint": true,
	"escaped": true, "for": true, "into": true, "via": true, "secret": true, "returns": true, "language": true,
}

func nameText(n Name) string {
	s := n.Text
	if _, isUnit := unit(s); s != "" && isWordStart(s) && scanWord(s) == len(s) && strings.ToLower(s) == s && !reserved[s] && !special[s] && !isUnit {
		return s
	}
	return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
}

// spacedText writes the name of something declared, with its space before it.
func spacedText(n Name) string {
	if space, name, ok := strings.Cut(n.Text, "."); ok {
		if a, b := nameText(Name{Text: space}), nameText(Name{Text: name}); a == space && b == name {
			return n.Text
		}
	}
	return nameText(n)
}

// aliasText writes the alias of an input: a word near a clause's would be taken for a slip of the hand.
func aliasText(n Name) string {
	if clauseHint(token{kind: word, text: n.Text}) != "" {
		return `"` + n.Text + `"`
	}
	return nameText(n)
}

// keyword writes a word of the language in capitals.
func keyword(s string) string {
	if up := strings.ToUpper(s); strings.ToLower(up) == s {
		return up
	}
	return s
}

func (t Text) sql() string {
	if t.Param != "" {
		return ":" + t.Param
	}
	return quoteText(t.Value)
}

func (d Duration) String() string {
	if d.Param != "" {
		return d.Param
	}
	return DurationText(d.Micros)
}

func orReplace(b bool) string {
	if b {
		return "OR REPLACE "
	}
	return ""
}

func (p *printer) statement(st Statement) doc {
	switch s := st.(type) {
	case *DeclareEndpoint:
		out := "DECLARE " + orReplace(s.Replace) + "ENDPOINT " + spacedText(s.Name) + " " + placeText(s.Place) + " " + s.Address.sql()
		if s.Secret != nil {
			out += " SECRET " + s.Secret.sql()
		}
		return cat{out, p.options(" ", s.Options)}
	case *DeclareStream:
		return p.declaration("DECLARE "+orReplace(s.Replace)+"STREAM "+spacedText(s.Name), s.Columns, s.Sampled, nil, s.Time, func() doc { return p.reads(s) })
	case *DeclareTable:
		return p.declaration("DECLARE "+orReplace(s.Replace)+"TABLE "+spacedText(s.Name), s.Columns, s.Sampled, s.Key, s.Time, func() doc { return p.place("FROM", s.From) })
	case *DeclareSink:
		return cat{"DECLARE " + orReplace(s.Replace) + "SINK " + spacedText(s.Name), indent{cat{line, p.place("TO", s.To)}}}
	case *CreateTopic:
		out := "CREATE TOPIC "
		if s.IfNotExists {
			out += "IF NOT EXISTS "
		}
		return cat{out + topicText(s.Name), p.options(" ", s.Options)}
	case *AlterTopic:
		return cat{"ALTER TOPIC " + topicText(s.Name), p.options(" ", s.Options)}
	case *CreateView:
		return cat{"CREATE " + orReplace(s.Replace) + "VIEW " + spacedText(s.Name) + " AS", hard{}, p.query(s.Query)}
	case *CreateBoard:
		return p.board(s)
	case *CreateAlert:
		return p.alert(s)
	case *CreateFunction:
		var args []string
		for _, a := range s.Args {
			args = append(args, nameText(a.Name)+" "+typeText(a.Type))
		}
		return cat{"CREATE " + orReplace(s.Replace) + "FUNCTION " + spacedText(s.Name) + "(" + strings.Join(args, ", ") + ") RETURNS " + typeText(s.Returns),
			line, "LANGUAGE " + nameText(s.Language) + " AS " + s.Code.sql()}
	case *CreateJob:
		return p.job(s)
	case *Insert:
		out := cat{"INSERT INTO " + spacedText(s.Into)}
		if s.Columns != nil {
			out = append(out, " ("+namesText(s.Columns)+")")
		}
		if s.Query != nil {
			return append(out, line, p.query(s.Query))
		}
		var rows []doc
		for _, r := range s.Rows {
			rows = append(rows, group{cat{"(", p.exprs(r), ")"}})
		}
		return append(out, " VALUES", group{indent{cat{line, commas(rows)}}})
	case *Query:
		return p.query(s)
	case *Show:
		return "SHOW " + strings.ToUpper(s.Kind) + "S"
	case *Describe:
		if s.Function {
			return "DESCRIBE FUNCTION " + spacedText(s.Name)
		}
		if s.Place {
			return "DESCRIBE PLACE " + nameText(s.Name)
		}
		return "DESCRIBE " + spacedText(s.Name)
	case *Drop:
		out := "DROP " + strings.ToUpper(s.Kind) + " "
		if s.IfExists {
			out += "IF EXISTS "
		}
		if s.Kind == KindTopic {
			return out + topicText(s.Name)
		}
		return out + spacedText(s.Name)
	case *StartJob:
		if s.From != nil {
			return cat{"START JOB " + spacedText(s.Name) + " FROM ", p.expr(s.From, levelTimes)}
		}
		return "START JOB " + spacedText(s.Name)
	case *StopJob:
		return "STOP JOB " + spacedText(s.Name)
	case *Explain:
		switch {
		case s.Query != nil:
			return cat{"EXPLAIN", line, p.query(s.Query)}
		case s.Create != nil:
			return cat{"EXPLAIN ", p.job(s.Create)}
		}
		return "EXPLAIN JOB " + spacedText(*s.Job)
	}
	return fmt.Sprintf("-- %T", st)
}

func placeText(n Name) string {
	if t := nameText(n); t == n.Text {
		return keyword(t)
	}
	return `"` + strings.ReplaceAll(n.Text, `"`, `""`) + `"`
}

// topicText writes a topic's name, as text where it is no plain name.
func topicText(n Name) string {
	if t := nameText(n); t == n.Text {
		return t
	}
	return quoteText(n.Text)
}

func spacedTexts(ns []Name) string {
	var out []string
	for _, n := range ns {
		out = append(out, spacedText(n))
	}
	return strings.Join(out, ", ")
}

func namesText(ns []Name) string {
	var out []string
	for _, n := range ns {
		out = append(out, nameText(n))
	}
	return strings.Join(out, ", ")
}

// TypeText writes a type so that it is read back as it is.
func TypeText(t types.Type) string { return typeText(t) }

// typeText writes a type so that the names of fields are read back as they are.
func typeText(t types.Type) string {
	switch t.Kind {
	case types.Row:
		var out []string
		for _, f := range t.Fields {
			out = append(out, nameText(Name{Text: f.Name})+" "+typeText(f.Type))
		}
		return "ROW(" + strings.Join(out, ", ") + ")"
	case types.Array:
		return "ARRAY(" + typeText(t.Fields[0].Type) + ")"
	case types.Map:
		return "MAP(" + typeText(t.Fields[0].Type) + ", " + typeText(t.Fields[1].Type) + ")"
	}
	return t.String()
}

func (p *printer) declaration(head string, cols []Column, sampled bool, key []Name, et *EventTime, from func() doc) doc {
	out := cat{head}
	if sampled {
		out = append(out, " COLUMNS SAMPLED")
	}
	if cols != nil || key != nil {
		names, kinds := 0, 0
		for _, c := range cols {
			names = max(names, width(nameText(c.Name)))
			if n := width(typeText(c.Type)); n <= 24 {
				kinds = max(kinds, n)
			}
		}
		var list cat
		for i, c := range cols {
			name, kind := nameText(c.Name), typeText(c.Type)
			tail := ""
			if c.NotNull {
				tail += " NOT NULL"
			}
			if c.Key {
				tail += " PRIMARY KEY"
			}
			if c.Sensitive {
				tail += " SENSITIVE"
			}
			d := cat{name + strings.Repeat(" ", names-width(name)) + " " + kind}
			if tail != "" || c.As != nil {
				d = append(d, strings.Repeat(" ", max(kinds-width(kind), 0))+tail)
			}
			if c.As != nil {
				d = append(d, " AS (", p.expr(c.As, 0), ")")
			}
			list = append(list, hard{}, p.lead(c.Span.From), d)
			if i < len(cols)-1 || key != nil {
				list = append(list, ",")
			}
			list = append(list, p.trail(c.Span.To))
		}
		if key != nil {
			list = append(list, hard{}, p.lead(key[0].From), "PRIMARY KEY ("+namesText(key)+")", p.trail(key[len(key)-1].To))
		}
		out = append(out, " (", indent{list}, hard{}, ")")
	}
	if et != nil {
		d := "EVENT TIME " + nameText(et.Column)
		for _, c := range []struct {
			word string
			d    *Duration
		}{{"DELAY", et.Delay}, {"AHEAD", et.Ahead}, {"IDLE AFTER", et.IdleAfter}} {
			if c.d != nil {
				d += " " + c.word + " " + c.d.String()
			}
		}
		out = append(out, hard{}, p.lead(et.Span.From), d, p.trail(et.Span.To))
	}
	return append(out, hard{}, from())
}

// reads is where a stream comes from.
func (p *printer) reads(s *DeclareStream) doc {
	if s.History == nil {
		return p.place("FROM", s.From)
	}
	out := cat{p.place("FROM HISTORY", *s.History), hard{}, p.place("THEN", s.From)}
	if s.Seam != nil {
		out = append(out, " AT "+PrintExpr(s.Seam))
	}
	return out
}

func (p *printer) place(word string, pl Place) doc {
	out := word + " " + placeText(pl.Kind) + " " + pl.Address.sql()
	if pl.Via != nil {
		out += " VIA " + spacedText(*pl.Via)
	}
	return cat{p.lead(pl.Kind.From), out, p.options(" ", pl.Options)}
}

func (p *printer) options(before string, os []Option) doc {
	if len(os) == 0 {
		return nil
	}
	var list cat
	for i, o := range os {
		d := keyword(o.Name) + " " + PrintOption(o)
		if i < len(os)-1 {
			d += ","
		}
		list = append(list, p.lead(o.From), d, p.trail(o.To))
		if i < len(os)-1 {
			list = append(list, line)
		}
	}
	return group{cat{before + "(", indent{cat{soft, list}}, soft, ")"}}
}

// PrintOption writes the value of an option.
func PrintOption(o Option) string {
	switch {
	case o.Param != "":
		return o.Param
	case o.IsText:
		return quoteText(o.Word)
	case o.Duration != nil:
		return DurationText(*o.Duration)
	case o.Number != nil:
		return strconv.FormatFloat(*o.Number, 'f', -1, 64)
	case o.Names != nil:
		return "(" + namesText(o.Names) + ")"
	}
	return o.Word
}

// commas puts a comma and a line between docs.
func commas(ds []doc) doc {
	var out cat
	for i, d := range ds {
		if i > 0 {
			out = append(out, ",", line)
		}
		out = append(out, d)
	}
	return out
}

func (p *printer) job(j *CreateJob) doc {
	out := cat{"CREATE " + orReplace(j.Replace) + "JOB " + spacedText(j.Name)}
	steps := j.Steps
	if j.Short {
		out = append(out, " AS")
		steps = steps[:len(steps)-1]
	}
	body := cat{}
	if len(steps) > 0 {
		body = append(body, hard{}, p.with(steps))
	}
	if j.Short {
		body = append(body, hard{}, short{p.block(j.Steps[len(j.Steps)-1].Query)})
	}
	for _, r := range j.Routes {
		body = append(body, hard{}, p.lead(r.Span.From), group{p.route(r, j)}, p.trail(r.Span.To))
	}
	if len(j.Set) > 0 {
		body = append(body, hard{}, p.lead(j.Set[0].From), "SET", p.options(" ", j.Set))
	}
	return append(out, indent{body})
}

func (p *printer) board(b *CreateBoard) doc {
	body := cat{}
	for _, v := range b.Variables {
		head := cat{p.lead(v.Span.From), "VARIABLE " + nameText(v.Name)}
		if v.Title != nil {
			head = append(head, " "+v.Title.sql())
		}
		body = append(body, hard{}, head, p.options(" ", v.Options), " AS (", indent{cat{hard{}, p.query(v.Query)}}, hard{}, ")", p.trail(v.Span.To))
	}
	for _, x := range b.Panels {
		head := cat{p.lead(x.Span.From), "PANEL " + x.Title.sql() + " " + keyword(nameText(x.Kind)), p.options(" ", x.Options)}
		if x.Words != nil {
			head = append(head, " "+x.Words.sql())
		} else {
			head = append(head, " AS (", indent{cat{hard{}, p.query(x.Query)}}, hard{}, ")")
		}
		body = append(body, hard{}, head, p.trail(x.Span.To))
	}
	return cat{"CREATE " + orReplace(b.Replace) + "BOARD " + spacedText(b.Name), p.options(" ", b.Options), indent{body}}
}

func (p *printer) alert(a *CreateAlert) doc {
	body := cat{}
	clause := func(text string) { body = append(body, hard{}, text) }
	if len(a.By) > 0 {
		clause("BY " + namesText(a.By))
	}
	if a.For != nil {
		clause("FOR " + a.For.String())
	}
	if a.Every != nil {
		clause("EVERY " + a.Every.String())
	}
	if a.Say != nil {
		clause("SAY " + a.Say.sql())
	}
	if len(a.Notify) > 0 {
		var names []string
		for _, n := range a.Notify {
			names = append(names, spacedText(n))
		}
		clause("NOTIFY " + strings.Join(names, ", "))
	}
	return cat{"CREATE " + orReplace(a.Replace) + "ALERT " + spacedText(a.Name) + " WHEN (", indent{cat{hard{}, p.query(a.Query)}}, hard{}, ")", indent{body}}
}

func (p *printer) with(steps []Step) doc {
	out := cat{"WITH "}
	for i, s := range steps {
		if i > 0 {
			out = append(out, hard{})
		}
		lead := p.lead(s.Name.From)
		if i == 0 && len(lead) > 0 {
			out = cat{lead, "WITH "}
			lead = nil
		}
		out = append(out, lead, nameText(s.Name)+" AS (", indent{cat{hard{}, short{p.block(s.Query)}}}, hard{}, ")")
		if i < len(steps)-1 {
			out = append(out, ",")
		}
		out = append(out, p.trail(s.Span.To))
	}
	return out
}

func (p *printer) route(r Route, j *CreateJob) doc {
	head := "ROUTE "
	if r.Kind != RouteRows {
		head += strings.ToUpper(r.Kind) + " "
	}
	if !(j.Short && r.Kind == RouteRows && r.Step.Text == j.Name.Text) {
		head += spacedText(r.Step) + " "
	}
	if r.Of != nil {
		head += "OF " + nameText(*r.Of) + " "
	}
	out := cat{head}
	var arms cat
	for i, b := range r.Branches {
		d := cat{}
		if i > 0 {
			d = append(d, line, p.lead(b.Sinks[0].From), "ELSE ")
		}
		if b.Where != nil {
			d = append(d, "WHERE ", p.expr(b.Where, 0), " ")
		}
		d = append(d, "TO "+spacedTexts(b.Sinks), p.trail(b.Sinks[len(b.Sinks)-1].To))
		arms = append(arms, d)
	}
	return append(out, indent{arms})
}

func (p *printer) query(q *Query) doc {
	out := cat{}
	if q.With != nil {
		out = append(out, p.with(q.With), hard{})
	}
	body := p.block(q.Body)
	if q.Limit != nil {
		body = cat{body, line, "LIMIT ", p.expr(q.Limit, 0)}
	}
	if q.Until != nil {
		body = cat{body, line, "UNTIL ", p.expr(q.Until, levelTimes)}
	}
	return append(out, short{body})
}

// block is one SELECT; its clauses stand on lines of their own unless all of it fits on one.
func (p *printer) block(s *Select) doc {
	head := "SELECT"
	if s.Distinct {
		head += " DISTINCT"
	}
	var items cat
	for i, it := range s.Items {
		d := cat{p.lead(it.Span.From), p.item(it)}
		if i < len(s.Items)-1 {
			d = append(d, ",")
		}
		d = append(d, p.trail(it.Span.To))
		if i < len(s.Items)-1 {
			d = append(d, line)
		}
		items = append(items, d)
	}
	out := cat{p.lead(s.Span.From), group{cat{head, indent{cat{line, items}}}}}
	out = append(out, line, p.lead(s.From.Span.From), "FROM ", p.from(s.From), p.trail(s.From.Span.To))
	for _, j := range s.Joins {
		out = append(out, indent{cat{line, p.lead(j.Span.From), group{p.join(j)}, p.trail(j.Span.To)}})
	}
	clause := func(at Span, head string, d doc) {
		out = append(out, line, p.lead(at.From), head, d, p.trail(at.To))
	}
	if s.Where != nil {
		at := s.Where.Place()
		lead := p.lead(at.From)
		out = append(out, line, lead, group{cat{"WHERE ", indent{p.chain(s.Where)}}}, p.trail(at.To))
	}
	if u := s.Unique; u != nil {
		clause(u.Span, "UNIQUE BY (", cat{group{p.exprs(u.By)}, ") WITHIN " + u.Within.String()})
	}
	if s.GroupBy != nil {
		at := Span{s.GroupBy[0].Place().From, s.GroupBy[len(s.GroupBy)-1].Place().To}
		lead := p.lead(at.From)
		d := cat{p.exprs(s.GroupBy)}
		if s.Forget != nil {
			d = append(d, " FORGET AFTER "+s.Forget.String())
		}
		out = append(out, line, lead, group{cat{"GROUP BY ", indent{d}}}, p.trail(at.To))
	}
	if s.Having != nil {
		at := s.Having.Place()
		lead := p.lead(at.From)
		out = append(out, line, lead, group{cat{"HAVING ", indent{p.chain(s.Having)}}}, p.trail(at.To))
	}
	var windows cat
	for i, w := range s.Windows {
		if i > 0 {
			windows = append(windows, line)
		}
		lead := p.lead(w.Span.From)
		if i == 0 {
			out = append(out, line, lead)
			lead = nil
		}
		windows = append(windows, lead, group{p.window(w)})
		if i < len(s.Windows)-1 {
			windows = append(windows, ",")
		}
		windows = append(windows, p.trail(w.Span.To))
	}
	if windows != nil {
		out = append(out, "WINDOW ", indent{windows})
	}
	if s.Union != nil {
		out = append(out, line, p.lead(s.Union.Span.From), "UNION ALL", line, p.block(s.Union))
	}
	return out
}

func (p *printer) item(it Item) doc {
	switch {
	case it.Of != nil:
		return nameText(*it.Of) + ".*"
	case it.Star:
		return "*"
	}
	out := cat{group{p.expr(it.Expr, 0)}}
	if it.As != nil {
		out = append(out, " AS "+nameText(*it.As))
	}
	return out
}

func (p *printer) from(f From) doc {
	var out cat
	switch {
	case f.Query != nil:
		out = cat{group{cat{"(", indent{cat{soft, p.block(f.Query)}}, soft, ")"}}}
	case f.Unnest != nil:
		out = cat{"UNNEST(", p.expr(f.Unnest, 0), ")"}
	case f.Job != nil:
		out = cat{spacedText(*f.Job) + "." + nameText(f.Name)}
	default:
		out = cat{nameText(f.Name)}
	}
	if f.Since != nil {
		out = append(out, " SINCE ", p.expr(f.Since, levelTimes))
	}
	if f.Alias != nil {
		alias := aliasText(*f.Alias)
		if f.Columns != nil {
			alias = "AS " + alias + "(" + namesText(f.Columns) + ")"
		}
		out = append(out, " "+alias)
	}
	if f.AsOf != nil {
		out = append(out, " AS OF ", p.expr(f.AsOf, levelTimes))
	}
	return out
}

func (p *printer) join(j Join) doc {
	head := "JOIN "
	if j.Kind != "INNER" {
		head = j.Kind + " JOIN "
	}
	if j.Pick != "" {
		head += j.Pick + " OF "
	}
	out := cat{head, p.from(j.With)}
	if j.On != nil {
		out = append(out, indent{cat{line, "ON ", indent{p.chain(j.On)}}})
	}
	if j.Lateness != nil {
		out = append(out, " LATENESS "+j.Lateness.String())
	}
	return out
}

func (p *printer) window(w Window) doc {
	if w.Over != nil {
		return cat{nameText(w.Name) + " AS (", p.over(w.Over), ")"}
	}
	head := keyword(w.Kind) + " "
	if w.Kind == Session {
		head += "GAP " + w.Gap.String()
	} else {
		head += w.Length.String()
	}
	parts := cat{head}
	put := func(word string, d *Duration) {
		if d != nil {
			parts = append(parts, line, word+" "+d.String())
		}
	}
	if w.Every != nil {
		parts = append(parts, " EVERY "+w.Every.String())
	}
	put("MAX", w.Max)
	put("OFFSET", w.Offset)
	if w.Zone != nil {
		parts = append(parts, line, "AT TIME ZONE "+w.Zone.sql())
	}
	if w.On != nil {
		parts = append(parts, line, "ON ", p.expr(w.On, levelTimes))
	}
	put("LATENESS", w.Lateness)
	switch w.Report {
	case ReportEvery:
		put("REPORT EVERY", w.Each)
	case ReportOnChange:
		parts = append(parts, line, "REPORT ON CHANGE")
	}
	put("EMPTY FOR", w.EmptyFor)
	return cat{nameText(w.Name) + " AS (", indent{parts}, ")"}
}

// Quoted writes a name as it may stand in a text: in double quotes where it has to.
func Quoted(name string) string { return nameText(Name{Text: name}) }

// QuotedText writes a text as a literal.
func QuotedText(s string) string { return quoteText(s) }

// QuotedWords are the words that have to be quoted to be names, in order.
func QuotedWords() []string {
	out := slices.AppendSeq(slices.Collect(maps.Keys(reserved)), maps.Keys(special))
	for u := range units {
		out = append(out, u, u+"s")
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Keywords are the words that begin clauses, and others that stand at fixed places of statements, in upper case, in
// order: for completion and for colours.
func Keywords() []string {
	var out []string
	for _, words := range []map[string]bool{reserved, special, statementWords} {
		for w := range words {
			if u := strings.ToUpper(w); !slices.Contains(out, u) {
				out = append(out, u)
			}
		}
	}
	slices.Sort(out)
	return out
}

// statementWords are keywords that may be names elsewhere.
var statementWords = map[string]bool{
	"sensitive": true, "declare": true, "create": true, "alter": true, "replace": true, "stream": true, "table": true, "sink": true, "endpoint": true, "view": true, "topic": true,
	"explain": true, "describe": true, "show": true, "drop": true, "insert": true, "start": true, "stop": true, "tumbling": true, "sliding": true,
	"session": true, "gap": true, "max": true, "every": true, "change": true, "close": true, "zone": true, "retain": true, "partitions": true,
	"parallelism": true, "memory": true, "megabytes": true, "format": true, "changes": true, "roll": true, "all": true, "files": true, "mariadb": true, "bad": true,
	"milliseconds": true, "seconds": true, "minutes": true, "hours": true, "days": true, "weeks": true,
	"boolean": true, "int": true, "bigint": true, "double": true, "decimal": true, "varchar": true, "varbinary": true, "json": true, "map": true,
}
