package sql

import (
	"math/big"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"fiume/internal/core/types"
)

// Script is a parsed text.
type Script struct {
	Text       string
	Statements []Statement
	Broken     []string // names whose declarations could not be read
	edits      []edit
	comments   []comment
}

// edit says that a parameter stood at a place and what was written for it.
type edit struct {
	Span
	text string
}

// Parse reads all statements of a text. Parameters (":name") take their values from params. The
// error, where there is one, is an *Errors with everything that is wrong, in order.
func Parse(file, text string, params map[string]string) (*Script, error) {
	return parse(file, text, &parser{params: params})
}

// Read is Parse without values for the parameters: they stay in the tree, as what lays out a text needs.
func Read(file, text string) (*Script, error) {
	return parse(file, text, &parser{keep: true})
}

// Parameters lists the names of the parameters in a text. Variables of boards are none.
func Parameters(text string) (names []string) {
	toks, _, _ := scan(text, &Errors{Text: text})
	own := map[string]bool{} // variables of the board that is being read
	for i, t := range toks {
		switch {
		case t.kind == word && t.text == "variable" && toks[i+1].kind == word:
			own[toks[i+1].text] = true
		case t.text == ";" && t.kind != str && t.kind != quoted:
			clear(own)
		case t.kind == param && !own[t.text] && !slices.Contains(names, t.text):
			names = append(names, t.text)
		}
	}
	return names
}

// MaxText is the greatest length of a text in bytes.
const MaxText = 1 << 20

func parse(file, text string, p *parser) (*Script, error) {
	p.errs = &Errors{File: file, Text: text}
	p.script = &Script{Text: text}
	if len(text) > MaxText {
		p.errs.Text = ""
		p.errs.Add(Syntax, Span{}, "cut it into several", "the text has %d bytes, and one may have %d", len(text), MaxText)
		return p.script, p.errs.Err()
	}
	if at := badUTF8(text); at >= 0 {
		p.errs.Add(Syntax, Span{at, at + 1}, "save the file as UTF-8", "this is no UTF-8")
		return p.script, p.errs.Err()
	}
	p.toks, p.script.comments, p.cut = scan(text, p.errs)
	p.script.Statements = p.statements()
	return p.script, p.errs.Err()
}

// badUTF8 gives the place of the first byte that is no UTF-8, or -1.
func badUTF8(text string) int {
	if utf8.ValidString(text) {
		return -1
	}
	for i, r := range text {
		if _, n := utf8.DecodeRuneInString(text[i:]); r == utf8.RuneError && n == 1 {
			return i
		}
	}
	return -1
}

// Source gives a statement's own text with its parameters filled in, as it is kept and shown.
func (s *Script) Source(st Statement) string {
	at := st.At()
	var b strings.Builder
	from := at.From
	for _, e := range s.edits {
		if e.From >= at.From && e.To <= at.To {
			b.WriteString(s.Text[from:e.From])
			// What was apart must not grow together: "SELECT:n", "a -:n" with n = -1, ":n'x'".
			if e.From > at.From && !strings.ContainsRune(" \t\r\n(,", rune(s.Text[e.From-1])) {
				b.WriteByte(' ')
			}
			b.WriteString(e.text)
			if e.To < at.To && !strings.ContainsRune(" \t\r\n),;", rune(s.Text[e.To])) {
				b.WriteByte(' ')
			}
			from = e.To
		}
	}
	b.WriteString(s.Text[from:at.To])
	return b.String()
}

type parser struct {
	toks   []token
	pos    int
	errs   *Errors
	params map[string]string
	script *Script
	keep   bool            // parameters stay in the tree
	own    map[string]bool // variables of the board that is being read: they stay in the tree
	cut    bool            // a quoted text or a comment has no end
	broken bool            // the statement has errors, of which reading has recovered
	depth  int             // of what is being read
}

// bail is thrown at an error inside a statement; the parser goes on after the next semicolon.
type bail struct{ fatal bool } // fatal: of the whole statement

func (p *parser) peek() token { return p.toks[p.pos] }
func (p *parser) ahead(n int) token {
	return p.toks[min(p.pos+n, len(p.toks)-1)]
}

func (p *parser) next() token {
	t := p.toks[p.pos]
	if t.kind != end {
		p.pos++
	}
	return t
}

func (p *parser) fail(at Span, hint, format string, args ...any) {
	if p.cut && at.From >= len(p.errs.Text) {
		panic(bail{}) // the text or comment without an end is what is wrong
	}
	p.errs.Add(Syntax, at, hint, format, args...)
	panic(bail{})
}

// try runs f. After an error in it, it goes on before the next of the words at the same depth of
// parentheses, so that the rest of the statement is looked at too; the statement itself is lost.
func (p *parser) try(words []string, f func()) {
	from, depth := p.pos, p.depth
	defer func() {
		r := recover()
		if r == nil {
			return
		}
		if b, ok := r.(bail); !ok || b.fatal {
			panic(r)
		}
		p.broken, p.depth = true, depth
		open := 0
		for i := from; i < p.pos; i++ { // what the failed part opened and did not close
			open += nesting(p.toks[i])
		}
		for open = max(open, 0); ; p.next() {
			t := p.peek()
			if t.kind == end || t.kind == op && t.text == ";" {
				panic(bail{})
			}
			if open == 0 && (t.kind == word || t.kind == op) && slices.Contains(words, t.text) {
				return
			}
			if open += nesting(t); open < 0 {
				panic(bail{}) // the part ends here; its owner goes on
			}
		}
	}()
	f()
}

func nesting(t token) int {
	switch {
	case t.kind != op:
	case t.text == "(" || t.text == "[":
		return 1
	case t.text == ")" || t.text == "]":
		return -1
	}
	return 0
}

func show(t token) string {
	switch t.kind {
	case end:
		return "the end of the text"
	case str:
		return "'" + t.text + "'"
	case param:
		return ":" + t.text
	}
	return strconv.Quote(t.text)
}

// is says whether the next token is the word or operator.
func (p *parser) is(s string) bool { return p.isAt(0, s) }

func (p *parser) isAt(n int, s string) bool {
	t := p.ahead(n)
	return (t.kind == word || t.kind == op) && t.text == s
}

// words says whether the next tokens are these words.
func (p *parser) words(ws ...string) bool {
	for i, w := range ws {
		if !p.isAt(i, w) {
			return false
		}
	}
	return true
}

// accept takes the words if all of them come next.
func (p *parser) accept(ws ...string) bool {
	if !p.words(ws...) {
		return false
	}
	p.pos += len(ws)
	return true
}

func (p *parser) expect(s, why string) token {
	if !p.is(s) {
		t := p.peek()
		p.fail(t.Span, "", "expected %s %s, found %s", strings.ToUpper(s), why, show(t))
	}
	return p.next()
}

func (p *parser) since(from int) Span {
	return Span{from, p.toks[max(p.pos-1, 0)].To}
}

// reserved words cannot be names unless quoted: a clause begins with each of them.
var reserved = map[string]bool{
	"select": true, "from": true, "where": true, "group": true, "having": true, "window": true, "limit": true,
	"until": true, "since": true, "with": true, "as": true, "on": true, "and": true, "or": true, "not": true,
	"route": true, "to": true, "else": true, "set": true, "join": true, "left": true, "right": true, "full": true,
	"inner": true, "cross": true, "union": true, "unique": true, "case": true, "when": true, "then": true,
	"end": true, "between": true, "in": true, "is": true, "like": true, "null": true, "true": true, "false": true,
	"by": true, "order": true, "cast": true, "distinct": true, "within": true, "div": true, "exists": true,
	"like_regex": true, "values": true,
}

func (p *parser) name(what string) Name {
	t := p.peek()
	switch {
	case t.kind == quoted:
		if t.text == "" {
			p.fail(t.Span, "", "%s cannot be empty", what)
		}
	case t.kind == word && !reserved[t.text]:
	case t.kind == word:
		p.fail(t.Span, "write it in double quotes to use it as a name", "expected %s, found the keyword %s", what, strings.ToUpper(t.text))
	default:
		p.fail(t.Span, "", "expected %s, found %s", what, show(t))
	}
	p.next()
	return Name{t.text, t.Span}
}

// spaced reads the name of something declared, which may stand in a space: space.name.
func (p *parser) spaced(what string) Name {
	n := p.name(what)
	if p.is(".") {
		p.next()
		m := p.name(what + " behind its space")
		n = Name{n.Text + "." + m.Text, Span{n.From, m.To}}
	}
	return n
}

// anyName takes any word: after a dot, and for columns.
func (p *parser) anyName(what string) Name {
	if t := p.peek(); t.kind == word {
		p.next()
		return Name{t.text, t.Span}
	}
	return p.name(what)
}

// value gives what was set for a parameter.
func (p *parser) value(t token) string {
	if p.own[t.text] {
		p.fail(t.Span, "", "the variable :%s of a board stands where an expression may", t.text)
	}
	v, ok := p.params[t.text]
	if !ok {
		p.errs.Add(NoValue, t.Span, "set it with --set "+t.text+"=…", "the parameter :%s has no value", t.text)
		panic(bail{})
	}
	return v
}

func (p *parser) text(what string) Text {
	t := p.peek()
	switch t.kind {
	case str:
		p.next()
		return Text{Value: t.text, Span: t.Span}
	case param:
		p.next()
		if p.keep {
			return Text{Param: t.text, Span: t.Span}
		}
		v := p.value(t)
		p.note(t, quoteText(v))
		return Text{Value: v, Span: t.Span}
	case quoted:
		p.fail(t.Span, "write it in single quotes", "expected %s as text; double quotes make a name", what)
	}
	p.fail(t.Span, "", "expected %s as text in single quotes, found %s", what, show(t))
	return Text{}
}

// note keeps what was written for a parameter.
func (p *parser) note(t token, text string) {
	p.script.edits = append(p.script.edits, edit{t.Span, text})
}

func quoteText(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// statements reads all statements; after an error it goes on behind the next semicolon.
func (p *parser) statements() (out []Statement) {
	for {
		for p.accept(";") {
		}
		if p.peek().kind == end {
			return out
		}
		if st := p.guarded(); st != nil {
			out = append(out, st)
		}
	}
}

func (p *parser) guarded() (st Statement) {
	first := p.pos
	p.broken, p.depth = false, 0
	defer func() {
		if r := recover(); r != nil {
			if _, ok := r.(bail); !ok {
				panic(r)
			}
			for p.peek().kind != end && !p.is(";") {
				p.next()
			}
			p.lost(first)
			st = nil
		}
	}()
	st = p.statement()
	if p.broken {
		panic(bail{})
	}
	if t := p.peek(); t.kind != end && !p.is(";") {
		p.fail(t.Span, clauseHint(t), "expected the end of the statement, found %s", show(t))
	}
	return st
}

// lost notes the name that a broken declaration would have given, so that those who use it are not
// called wrong, too.
func (p *parser) lost(first int) {
	t := func(i int) token { return p.toks[min(first+i, len(p.toks)-1)] }
	if t(0).text != "declare" && t(0).text != "create" {
		return
	}
	i := 2
	if t(1).text == "or" {
		i = 4
	}
	if t(i).text == "if" {
		i += 3
	}
	if n := t(i); n.kind == word || n.kind == quoted {
		p.script.Broken = append(p.script.Broken, n.text)
	}
}

// clauseHint helps where a clause stands in the wrong place or is misspelt.
func clauseHint(t token) string {
	if t.kind != word {
		return "statements end with ;"
	}
	clauses := []string{"where", "group", "having", "window", "limit", "until", "since", "route", "set", "from", "delay", "ahead", "idle"}
	if s := Suggest(t.text, clauses); s != "" && s != t.text {
		return "did you mean " + strings.ToUpper(s) + "?"
	}
	switch t.text {
	case "where", "group", "having", "window", "limit", "until":
		return "clauses stand in the order WHERE, GROUP BY, HAVING, WINDOW, LIMIT, UNTIL"
	case "since":
		return "SINCE stands behind the stream that it is about: FROM reads SINCE BEGINNING WHERE …"
	case "order":
		return "rows of a stream come in the order of their event times; there is no ORDER BY"
	}
	return ""
}

// duration reads "30 SECONDS", "1 HOUR 30 MINUTES" or INTERVAL '30' SECOND.
func (p *parser) duration(what string) Duration {
	from := p.peek().From
	d, ok := p.tryDuration()
	if !ok {
		t := p.peek()
		p.fail(t.Span, "write it like 30 SECONDS", "expected %s, a duration, found %s", what, show(t))
	}
	if d.Micros < 0 {
		p.fail(p.since(from), "", "%s cannot be negative", what)
	}
	return d
}

// above is duration for lengths that cannot be zero.
func (p *parser) above(what string) *Duration {
	from := p.peek().From
	d := p.duration(what)
	if d.Micros == 0 && d.Param == "" {
		p.fail(p.since(from), "", "%s must be above zero", what)
	}
	return &d
}

var units = map[string]int64{
	"millisecond": types.Millisecond, "second": types.Second, "minute": types.Minute, "hour": types.Hour,
	"day": types.Day, "week": types.Week,
}

func unit(w string) (int64, bool) {
	u, ok := units[strings.TrimSuffix(w, "s")]
	return u, ok
}

func (p *parser) tryDuration() (d Duration, ok bool) {
	if p.is("interval") && (p.ahead(1).kind == str || p.isAt(1, "-") && p.ahead(2).kind == str) {
		p.next()
		sign := int64(1)
		if p.accept("-") {
			sign = -1
		}
		t := p.next()
		u := p.next()
		scale, ok := unit(u.text)
		if u.kind != word || !ok {
			p.fail(u.Span, "units are MILLISECOND, SECOND, MINUTE, HOUR, DAY, WEEK", "%s is no unit of time", show(u))
		}
		n, _, digits, ok := types.ParseDecimal(strings.TrimSpace(t.text))
		x := new(big.Int).Mul(n.BigInt(), big.NewInt(scale))
		x.Quo(x, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(digits)), nil)) // past microseconds cut, as in instants
		if !ok || !x.IsInt64() || x.Int64() > types.MaxTime || x.Int64() < -types.MaxTime {
			p.fail(t.Span, "", "'%s' is no length of time", t.text)
		}
		d.Micros = sign * x.Int64()
		return d, true
	}
	for {
		t, val := p.peek(), ""
		u := p.ahead(1)
		scale, isUnit := unit(u.text)
		if t.kind != number && (t.kind != param || ok) || u.kind != word || !isUnit || d.Param != "" {
			return d, ok
		}
		if val = t.text; t.kind == param {
			if p.keep {
				p.pos += 2
				d.Param, ok = ":"+t.text+" "+strings.ToUpper(strings.TrimSuffix(u.text, "s"))+"S", true
				continue
			}
			val = p.value(t)
		}
		n, err := strconv.ParseInt(val, 10, 64)
		if err != nil || n < 0 || n > types.MaxTime/scale || d.Micros+n*scale > types.MaxTime {
			p.fail(t.Span, "", "a duration takes a whole number of its unit, found %s", val)
		}
		if t.kind == param {
			p.note(t, val)
		}
		p.pos += 2
		d.Micros, ok = d.Micros+n*scale, true
	}
}

// DurationText writes microseconds the way SQL does, such as 1 MINUTE 30 SECONDS.
func DurationText(d int64) string {
	if d < 0 || d%types.Millisecond != 0 {
		text := strings.TrimRight(string(types.AppendDecimal(nil, types.NumOfInt(d), 6)), "0")
		return "INTERVAL '" + strings.TrimSuffix(text, ".") + "' SECOND"
	}
	var out []string
	for _, u := range []struct {
		n    int64
		name string
	}{{types.Day, "DAY"}, {types.Hour, "HOUR"}, {types.Minute, "MINUTE"}, {types.Second, "SECOND"}, {types.Millisecond, "MILLISECOND"}} {
		if n := d / u.n; n > 0 {
			s := strconv.FormatInt(n, 10) + " " + u.name
			if n > 1 {
				s += "S"
			}
			out = append(out, s)
			d %= u.n
		}
	}
	if out == nil {
		return "0 SECONDS"
	}
	return strings.Join(out, " ")
}
