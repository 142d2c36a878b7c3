package sql

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Drawing is the text of a job, or of a query, cut into what is drawn and changed by hand. The text that is put together from it is the canonical one
// of the text that was cut, with its comments. What stands around the job in the text stays as it is.
type Drawing struct {
	Before  string       `json:"before,omitempty" doc:"the text before it, with the comments above it"`
	Job     bool         `json:"job" doc:"it is a job; else a query"`
	Replace bool         `json:"replace,omitempty"`
	Name    string       `json:"name,omitempty" doc:"of a job"`
	Steps   []StepParts  `json:"steps" doc:"in their order; a last one without a name is the result of a query, and in a job it is called like the job"`
	Limit   string       `json:"limit,omitempty" doc:"of a query"`
	Until   string       `json:"until,omitempty" doc:"of a query"`
	Routes  []RouteParts `json:"routes" doc:"of a job"`
	Set     []OptionPart `json:"set" doc:"of a job"`
	Comment string       `json:"comment,omitempty" doc:"comments in SET, a line each"`
	Behind  string       `json:"behind,omitempty" doc:"the text behind it, with its semicolon"`
}

// StepParts is a step of WITH, or the query that has no name.
type StepParts struct {
	Comment string       `json:"comment,omitempty" doc:"comments before the step, a line each"`
	Name    string       `json:"name"`
	Query   string       `json:"query" doc:"laid out, with its comments; empty: it is made of the blocks"`
	Blocks  []BlockParts `json:"blocks" doc:"the query in parts; more than one is UNION ALL"`
	After   string       `json:"after,omitempty" doc:"a comment behind the step on its last line"`
	Reads   []string     `json:"reads,omitempty" doc:"what the step reads, in the order of the text"`
	Preview string       `json:"preview,omitempty" doc:"a query that gives the rows of the step; empty where those of the drawing would be too long"`
}

// BlockParts is one SELECT in parts. A comment inside a part stands before it.
type BlockParts struct {
	Comment  string        `json:"comment,omitempty" doc:"comments before SELECT, a line each"`
	Distinct bool          `json:"distinct,omitempty"`
	Columns  []ColumnParts `json:"columns"`
	From     InputParts    `json:"from"`
	Joins    []JoinParts   `json:"joins"`
	Where    []Condition   `json:"where" doc:"all of them hold"`
	Unique   *UniqueParts  `json:"unique,omitempty"`
	GroupBy  []string      `json:"group_by"`
	Forget   string        `json:"forget,omitempty" doc:"after which time a group is forgotten, as in 3 DAYS"`
	Grouping string        `json:"grouping,omitempty" doc:"comments before GROUP BY, a line each"`
	Having   []Condition   `json:"having" doc:"all of them hold"`
	Windows  []WindowParts `json:"windows"`
	After    string        `json:"after,omitempty" doc:"comments behind it, a line each"`
}

// ColumnParts is a result column.
type ColumnParts struct {
	Comment string `json:"comment,omitempty"`
	Expr    string `json:"expr" doc:"also * and r.*"`
	As      string `json:"as,omitempty" doc:"its name, where it is given one"`
}

// Condition is one of several that hold together.
type Condition struct {
	Comment string `json:"comment,omitempty"`
	Expr    string `json:"expr"`
}

// InputParts is what a query reads; one of name, query and unnest is set.
type InputParts struct {
	Comment string   `json:"comment,omitempty"`
	Name    string   `json:"name,omitempty"`
	Job     string   `json:"job,omitempty" doc:"the name is a step of this job"`
	Query   string   `json:"query,omitempty" doc:"a query in parentheses"`
	Unnest  string   `json:"unnest,omitempty" doc:"an array"`
	Alias   string   `json:"alias,omitempty"`
	Columns []string `json:"columns,omitempty" doc:"names behind the alias"`
	Since   string   `json:"since,omitempty"`
	AsOf    string   `json:"as_of,omitempty"`
}

// JoinParts is a JOIN.
type JoinParts struct {
	Comment  string     `json:"comment,omitempty"`
	Kind     string     `json:"kind" enum:"INNER,LEFT,RIGHT,FULL,CROSS"`
	Pick     string     `json:"pick,omitempty" enum:"LAST,FIRST,"`
	With     InputParts `json:"with"`
	On       []string   `json:"on" doc:"all of them hold"`
	Lateness string     `json:"lateness,omitempty"`
}

// UniqueParts is UNIQUE BY.
type UniqueParts struct {
	Comment string   `json:"comment,omitempty"`
	By      []string `json:"by"`
	Within  string   `json:"within"`
}

// WindowParts is a window: of event time, or of rows where over is set.
type WindowParts struct {
	Comment  string `json:"comment,omitempty"`
	Name     string `json:"name"`
	Over     string `json:"over,omitempty" doc:"what stands in the parentheses of a window of rows"`
	Kind     string `json:"kind,omitempty" enum:"tumbling,sliding,session,"`
	Length   string `json:"length,omitempty"`
	Every    string `json:"every,omitempty"`
	Gap      string `json:"gap,omitempty"`
	Max      string `json:"max,omitempty"`
	Offset   string `json:"offset,omitempty"`
	Zone     string `json:"zone,omitempty"`
	On       string `json:"on,omitempty"`
	Lateness string `json:"lateness,omitempty"`
	Report   string `json:"report,omitempty" doc:"change, or how often, as in 10 SECONDS; empty: when it closes"`
	EmptyFor string `json:"empty_for,omitempty"`
}

// RouteParts is a ROUTE.
type RouteParts struct {
	Comment  string        `json:"comment,omitempty"`
	Kind     string        `json:"kind,omitempty" enum:"late,rejected," doc:"empty: rows"`
	Step     string        `json:"step"`
	Of       string        `json:"of,omitempty" doc:"of late rows: those of this input"`
	Branches []BranchParts `json:"branches"`
	After    string        `json:"after,omitempty"`
}

// BranchParts is an arm of a route; without a condition it takes all that is left.
type BranchParts struct {
	Where string   `json:"where,omitempty"`
	Sinks []string `json:"sinks"`
}

// A step's preview has the steps before it that it needs, so that all of them may take the square of the text: they are bounded.
const (
	mostDrawn    = 1000    // steps
	mostPreviews = 4 << 20 // bytes of the text that all previews are made of
)

// Draw cuts the text of a job into its parts: of its last CREATE JOB, or of its last query where it has none. A text without one has no steps. Parameters stay in it.
func Draw(text string) (*Drawing, error) {
	script, err := Read("text", text)
	if err != nil {
		return nil, err
	}
	if script, err = Read("text", Format(script)); err != nil {
		return nil, err
	}
	var st Statement
	for _, x := range script.Statements {
		_, isJob := x.(*CreateJob)
		_, isQuery := x.(*Query)
		_, have := st.(*CreateJob)
		if isJob || isQuery && !have {
			st = x
		}
	}
	d := &Drawing{Steps: []StepParts{}, Routes: []RouteParts{}, Set: []OptionPart{}}
	if st == nil {
		d.Before = script.Text
		return d, nil
	}
	d.Before = script.Text[:st.At().From]
	cut := cutter{script: script, comments: script.comments}
	cut.before(st.At().From)
	switch st := st.(type) {
	case *CreateJob:
		d.Job, d.Replace, d.Name = true, st.Replace, st.Name.Text
		err = d.steps(&cut, st.Steps, st.Short)
		for _, r := range st.Routes {
			x := RouteParts{Comment: cut.before(r.Span.To), Kind: r.Kind, Step: r.Step.Text, Branches: []BranchParts{}, After: cut.behind(r.Span.To)}
			if r.Of != nil {
				x.Of = r.Of.Text
			}
			for _, b := range r.Branches {
				arm := BranchParts{Sinks: names(b.Sinks)}
				if b.Where != nil {
					arm.Where = PrintExpr(b.Where)
				}
				x.Branches = append(x.Branches, arm)
			}
			d.Routes = append(d.Routes, x)
		}
		d.Set = optionParts(st.Set)
		d.Comment = cut.before(st.At().To)
	case *Query:
		steps := slices.Concat(st.With, []Step{{Query: st.Body, Inner: st.Body.Span, Span: st.Body.Span}})
		err = d.steps(&cut, steps, true)
		if st.Limit != nil {
			d.Limit = PrintExpr(st.Limit)
		}
		if st.Until != nil {
			d.Until = PrintExpr(st.Until)
		}
	}
	if err != nil {
		return nil, err
	}
	d.Behind = script.Text[max(st.At().To, cut.taken):]
	return d, nil
}

func names(ns []Name) (out []string) {
	for _, n := range ns {
		out = append(out, n.Text)
	}
	return out
}

func (d *Drawing) steps(cut *cutter, steps []Step, last bool) error {
	if len(steps) > mostDrawn {
		return fmt.Errorf("it has %d steps, and up to %d are drawn", len(steps), mostDrawn)
	}
	reads := make([][]string, len(steps))
	for i, s := range steps {
		reads[i] = readsOf(s.Query)
	}
	room := mostPreviews
	for i, s := range steps {
		x := StepParts{Name: s.Name.Text, Blocks: []BlockParts{}, Reads: reads[i]}
		if before, size := needed(steps, reads, i); size <= room {
			room -= size
			x.Preview = preview(before, s)
		}
		if last && i == len(steps)-1 {
			x.Name = ""
		}
		x.Comment = cut.before(s.Inner.From)
		inner := cutter{script: cut.script, comments: slices.Clone(cut.comments)}
		var err error
		if x.Query, err = cut.query(s.Inner); err != nil {
			return err
		}
		for q := s.Query; q != nil; q = q.Union {
			x.Blocks = append(x.Blocks, inner.block(q))
		}
		x.Blocks[len(x.Blocks)-1].After = inner.before(s.Inner.To)
		x.After = cut.behind(s.Span.To)
		d.Steps = append(d.Steps, x)
	}
	return nil
}

// readsOf lists what a query reads, each once.
func readsOf(s *Select) (out []string) {
	add := func(f From) {
		if name := f.Read(); name != "" && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	s.Walk(func(b *Select) {
		add(b.From)
		for _, j := range b.Joins {
			add(j.With)
		}
	}, func(Expr) {})
	return out
}

// needed are the steps before one that it reads, directly or through others, and how long their text and its own is.
func needed(steps []Step, reads [][]string, i int) (before []Step, size int) {
	wanted := map[string]bool{}
	take := func(k int) {
		size += steps[k].Span.To - steps[k].Span.From
		for _, n := range reads[k] {
			wanted[n] = true
		}
	}
	take(i)
	for k := i - 1; k >= 0; k-- {
		if wanted[steps[k].Name.Text] {
			take(k)
			before = append(before, steps[k])
		}
	}
	slices.Reverse(before)
	return before, size
}

// preview is a query that gives the rows of a step.
func preview(before []Step, s Step) string {
	q := &Query{With: before, Body: s.Query}
	if s.Name.Text != "" {
		q.With = append(before, s)
		q.Body = &Select{Items: []Item{{Star: true}}, From: From{Name: s.Name}}
	}
	return Print(q)
}

// block cuts a SELECT.
func (c *cutter) block(s *Select) BlockParts {
	b := BlockParts{Comment: c.before(s.Span.From), Distinct: s.Distinct, Columns: []ColumnParts{}, Joins: []JoinParts{}, Where: []Condition{}, GroupBy: []string{}, Having: []Condition{}, Windows: []WindowParts{}}
	for _, it := range s.Items {
		x := ColumnParts{Comment: c.before(it.Span.To)}
		switch {
		case it.Of != nil:
			x.Expr = nameText(*it.Of) + ".*"
		case it.Star:
			x.Expr = "*"
		default:
			x.Expr = PrintExpr(it.Expr)
		}
		if it.As != nil {
			x.As = it.As.Text
		}
		b.Columns = append(b.Columns, x)
	}
	b.From = c.input(s.From)
	for _, j := range s.Joins {
		x := JoinParts{Comment: c.before(j.Span.To), Kind: j.Kind, Pick: j.Pick, With: c.input(j.With), On: []string{}}
		for _, e := range terms(j.On) {
			x.On = append(x.On, term(e))
		}
		if j.Lateness != nil {
			x.Lateness = j.Lateness.String()
		}
		b.Joins = append(b.Joins, x)
	}
	conditions := func(e Expr) []Condition {
		out := []Condition{}
		for _, t := range terms(e) {
			out = append(out, Condition{c.before(t.Place().To), term(t)})
		}
		return out
	}
	b.Where = conditions(s.Where)
	if u := s.Unique; u != nil {
		b.Unique = &UniqueParts{Comment: c.before(u.Span.To), By: exprTexts(u.By), Within: u.Within.String()}
	}
	if s.GroupBy != nil {
		b.Grouping, b.GroupBy = c.before(s.GroupBy[len(s.GroupBy)-1].Place().To), exprTexts(s.GroupBy)
		if s.Forget != nil {
			b.Forget = s.Forget.String()
		}
	}
	b.Having = conditions(s.Having)
	for _, w := range s.Windows {
		x := windowParts(w)
		x.Comment = c.before(w.Span.To)
		b.Windows = append(b.Windows, x)
	}
	return b
}

func exprTexts(es []Expr) []string {
	out := []string{}
	for _, e := range es {
		out = append(out, PrintExpr(e))
	}
	return out
}

// terms are the conditions that AND puts together.
func terms(e Expr) []Expr {
	if e == nil {
		return nil
	}
	if b, ok := e.(*Binary); ok && b.Op == "AND" {
		return append(terms(b.X), b.Y)
	}
	return []Expr{e}
}

// term writes a condition so that AND may stand before and behind it.
func term(e Expr) string {
	var w writer
	w.write((&printer{}).expr(e, levels["and"]+1), 0, true)
	return w.b.String()
}

func (c *cutter) input(f From) InputParts {
	x := InputParts{Comment: c.before(f.Span.To), Name: f.Name.Text}
	if f.Job != nil {
		x.Job = f.Job.Text
	}
	switch {
	case f.Query != nil:
		x.Query = Print(&Query{Body: f.Query})
	case f.Unnest != nil:
		x.Unnest = PrintExpr(f.Unnest)
	}
	if f.Alias != nil {
		x.Alias, x.Columns = f.Alias.Text, names(f.Columns)
	}
	if f.Since != nil {
		x.Since = markText(f.Since)
	}
	if f.AsOf != nil {
		x.AsOf = markText(f.AsOf)
	}
	return x
}

func markText(e Expr) string {
	var w writer
	w.write((&printer{}).expr(e, levelTimes), 0, true)
	return w.b.String()
}

func windowParts(w Window) WindowParts {
	x := WindowParts{Name: w.Name.Text}
	if w.Over != nil {
		var over writer
		over.write((&printer{}).over(w.Over), 0, true)
		x.Over = over.b.String()
		return x
	}
	x.Kind = w.Kind
	for to, d := range map[*string]*Duration{&x.Length: w.Length, &x.Every: w.Every, &x.Gap: w.Gap, &x.Max: w.Max, &x.Offset: w.Offset, &x.Lateness: w.Lateness, &x.Report: w.Each, &x.EmptyFor: w.EmptyFor} {
		if d != nil {
			*to = d.String()
		}
	}
	if w.Report == ReportOnChange {
		x.Report = ReportOnChange
	}
	if w.Zone != nil {
		x.Zone = w.Zone.sql()
	}
	if w.On != nil {
		x.On = markText(w.On)
	}
	return x
}

// SQL puts the text together and lays it out. The error tells which part is wrong. A query whose last step has a name gives that step's rows.
func (d *Drawing) SQL() (string, error) {
	var w strings.Builder
	w.WriteString(d.Before)
	if len(d.Steps) == 0 && !d.Job {
		return d.laidOut(d.Before + strings.TrimPrefix(d.Behind, ";"))
	}
	steps, short := d.Steps, false
	if n := len(steps); n > 0 {
		short = steps[n-1].Name == ""
	}
	if d.Job {
		fmt.Fprintf(&w, "CREATE %sJOB %s", orReplace(d.Replace), spacedText(Name{Text: d.Name}))
		if short {
			w.WriteString(" AS")
		}
		w.WriteString("\n")
	} else if !short {
		steps = append(slices.Clone(steps), StepParts{Query: "SELECT * FROM " + nameText(Name{Text: steps[len(steps)-1].Name})})
		short = true
	}
	for i, s := range steps {
		query, err := s.text()
		if err != nil {
			return "", err
		}
		last := i == len(steps)-1
		if s.Name == "" && !last {
			return "", fmt.Errorf("the step %d has no name; only the last one may have none", i+1)
		}
		if short && last {
			fmt.Fprintf(&w, "%s%s%s\n", lines(s.Comment), query, behind(s.After))
			continue
		}
		if i == 0 {
			w.WriteString("WITH ")
		}
		comma := ","
		if last || short && i == len(steps)-2 {
			comma = ""
		}
		fmt.Fprintf(&w, "%s%s AS (\n%s\n)%s%s\n", lines(s.Comment), nameText(Name{Text: s.Name}), query, comma, behind(s.After))
	}
	for _, part := range []struct{ word, text string }{{"LIMIT", d.Limit}, {"UNTIL", d.Until}} {
		if part.text != "" {
			if d.Job {
				return "", fmt.Errorf("a job has no %s", part.word)
			}
			w.WriteString(part.word + " " + part.text + "\n")
		}
	}
	for i, r := range d.Routes {
		text, err := r.text(short && r.Step == d.Name)
		if err != nil {
			return "", fmt.Errorf("the route %d, of %s: %w", i+1, r.Step, err)
		}
		w.WriteString(text)
	}
	if len(d.Set) > 0 {
		w.WriteString(lines(d.Comment) + "SET" + optionsText(d.Set))
	} else if d.Comment != "" {
		w.WriteString(lines(d.Comment))
	}
	rest := d.Behind
	if !strings.HasPrefix(rest, ";") {
		rest = ";\n" + rest
	}
	return d.laidOut(w.String() + rest)
}

// laidOut lays the whole text out, if it has not become more than it was.
func (d *Drawing) laidOut(text string) (string, error) {
	script, err := Read("text", text)
	if err != nil {
		return "", err
	}
	around, err := Read("text", d.Before+strings.TrimPrefix(d.Behind, ";"))
	if err != nil {
		return "", err
	}
	if len(script.Statements) > len(around.Statements)+1 {
		return "", errors.New("the parts are more than one statement")
	}
	return Format(script), nil
}

// text is the query of a step.
func (s *StepParts) text() (string, error) {
	name := "the step " + s.Name
	if s.Name == "" {
		name = "the result"
	}
	text := s.Query
	if text == "" {
		if len(s.Blocks) == 0 {
			return "", fmt.Errorf("%s has no query", name)
		}
		var all []string
		for _, b := range s.Blocks {
			t, err := b.text()
			if err != nil {
				return "", fmt.Errorf("%s: %w", name, err)
			}
			all = append(all, t)
		}
		text = strings.Join(all, "\nUNION ALL\n")
	}
	q, _, err := readQuery(text)
	if err != nil {
		return "", fmt.Errorf("%s: %w", name, err)
	}
	if q.With != nil || q.Limit != nil || q.Until != nil {
		return "", fmt.Errorf("%s: a step is one SELECT, without WITH, LIMIT and UNTIL", name)
	}
	return text, nil
}

// readQuery reads a text that is to be one query, and gives its comments, a line each.
func readQuery(text string) (*Query, string, error) {
	script, err := Read("part", text+"\n;")
	if err != nil {
		return nil, "", errors.New(First(err))
	}
	if len(script.Statements) == 1 {
		if q, ok := script.Statements[0].(*Query); ok {
			comments := ""
			for _, c := range script.comments {
				comments += c.text + "\n"
			}
			return q, comments, nil
		}
	}
	return nil, "", errors.New("it is not one SELECT")
}

// readExpr reads a text that is to be one expression.
func readExpr(text string) (Expr, string, error) {
	if strings.TrimSpace(text) == "" {
		return nil, "", errors.New("it is empty")
	}
	q, comments, err := readQuery("SELECT " + text + "\nFROM x")
	if err != nil {
		return nil, "", fmt.Errorf("in %q: %w", text, err)
	}
	if b := q.Body; len(b.Items) != 1 || b.Items[0].Expr == nil || b.Items[0].As != nil || clausesOf(q) != 0 || b.From.Name.Text != "x" || b.From.Alias != nil || b.From.Since != nil || b.Distinct {
		return nil, "", fmt.Errorf("%q is not one expression", text)
	}
	return q.Body.Items[0].Expr, comments, nil
}

// clausesOf counts what stands behind FROM.
func clausesOf(q *Query) (n int) {
	b := q.Body
	for _, is := range []bool{b.Where != nil, b.Unique != nil, b.GroupBy != nil, b.Having != nil, b.Union != nil, q.With != nil, q.Limit != nil, q.Until != nil} {
		if is {
			n++
		}
	}
	return n + len(b.Joins) + len(b.Windows)
}

// clause checks that a text is one clause, and writes it with its comments before it.
func clause(comment, text string) (string, error) {
	q, comments, err := readQuery("SELECT a FROM x\n" + text)
	if err == nil && clausesOf(q) != 1 {
		err = errors.New("it is not one clause")
	}
	if err != nil {
		return "", fmt.Errorf("in %q: %w", text, err)
	}
	if comments != "" {
		text = printClause(q.Body)
	}
	return lines(comment) + comments + text + "\n", nil
}

// printClause writes what stands behind FROM.
func printClause(s *Select) string {
	text := Print(&Query{Body: s})
	_, rest, _ := strings.Cut(text, "FROM x")
	return strings.TrimSpace(rest)
}

func (b *BlockParts) text() (string, error) {
	var w strings.Builder
	w.WriteString(lines(b.Comment) + "SELECT ")
	if b.Distinct {
		w.WriteString("DISTINCT ")
	}
	if len(b.Columns) == 0 {
		return "", errors.New("it has no columns")
	}
	for i, c := range b.Columns {
		expr := strings.TrimSpace(c.Expr)
		comments := ""
		if !isStar(expr) {
			e, more, err := readExpr(expr)
			if err != nil {
				return "", fmt.Errorf("the column %d: %w", i+1, err)
			}
			expr, comments = PrintExpr(e), more
		}
		if c.As != "" {
			expr += " AS " + nameText(Name{Text: c.As})
		}
		if i < len(b.Columns)-1 {
			expr += ","
		}
		w.WriteString("\n" + lines(c.Comment) + comments + expr)
	}
	from, err := b.From.text()
	if err != nil {
		return "", err
	}
	q, comments, err := readQuery("SELECT a FROM " + from)
	if err != nil || clausesOf(q) != 0 {
		return "", fmt.Errorf("what it reads, %q, is not right: %w", from, orElse(err, "it is more than one input"))
	}
	if comments != "" {
		from = strings.TrimPrefix(Print(q), "SELECT a FROM ")
	}
	fmt.Fprintf(&w, "\n%s%sFROM %s\n", lines(b.From.Comment), comments, from)
	add := func(comment, text string) {
		if err != nil {
			return
		}
		var part string
		if part, err = clause(comment, text); err == nil {
			w.WriteString(part)
		}
	}
	for _, j := range b.Joins {
		with, inputErr := j.With.text()
		if inputErr != nil {
			return "", inputErr
		}
		text := "JOIN "
		if j.Kind != "" && j.Kind != "INNER" {
			text = keyword(strings.ToLower(j.Kind)) + " JOIN "
		}
		if j.Pick != "" {
			text += j.Pick + " OF "
		}
		text += with
		if j.Kind != "CROSS" {
			on, comments, onErr := together(j.On)
			if onErr != nil {
				return "", fmt.Errorf("the join with %s: %w", with, onErr)
			}
			text += " ON " + on
			j.Comment = lines(j.Comment) + comments
		}
		if j.Lateness != "" {
			text += " LATENESS " + j.Lateness
		}
		add(lines(j.Comment)+lines(j.With.Comment), text)
	}
	conditions := func(word string, list []Condition) error {
		for i, c := range list {
			e, comments, err := readExpr(c.Expr)
			if err != nil {
				return fmt.Errorf("the condition %d: %w", i+1, err)
			}
			w.WriteString(lines(c.Comment) + comments + word + " " + term(e) + "\n")
			word = "AND"
		}
		return nil
	}
	if err := conditions("WHERE", b.Where); err != nil {
		return "", err
	}
	if u := b.Unique; u != nil {
		by, byErr := exprList(u.By)
		if byErr != nil {
			return "", byErr
		}
		add(u.Comment, "UNIQUE BY ("+by+") WITHIN "+u.Within)
	}
	if len(b.GroupBy) > 0 {
		by, byErr := exprList(b.GroupBy)
		if byErr != nil {
			return "", byErr
		}
		if b.Forget != "" {
			by += " FORGET AFTER " + b.Forget
		}
		add(b.Grouping, "GROUP BY "+by)
	}
	if err := conditions("HAVING", b.Having); err != nil {
		return "", err
	}
	for i, x := range b.Windows {
		text, word := x.text(), "WINDOW "
		part, windowErr := clause("", word+text)
		if windowErr != nil {
			return "", windowErr
		}
		if i > 0 {
			word = ""
		}
		part = strings.TrimSuffix(word+strings.TrimPrefix(part, "WINDOW "), "\n")
		if i < len(b.Windows)-1 {
			part += ","
		}
		w.WriteString(lines(x.Comment) + part + "\n")
	}
	if err != nil {
		return "", err
	}
	return strings.TrimRight(w.String()+lines(b.After), "\n"), nil
}

func orElse(err error, words string) error {
	if err != nil {
		return err
	}
	return errors.New(words)
}

// isStar says whether a result column is * or r.*.
func isStar(text string) bool {
	q, comments, err := readQuery("SELECT " + text + "\nFROM x")
	return err == nil && comments == "" && len(q.Body.Items) == 1 && q.Body.Items[0].Star && clausesOf(q) == 0 && q.Body.From.Name.Text == "x"
}

// exprList writes expressions with commas between them.
func exprList(texts []string) (string, error) {
	var out []string
	for _, t := range texts {
		e, _, err := readExpr(t)
		if err != nil {
			return "", err
		}
		out = append(out, PrintExpr(e))
	}
	return strings.Join(out, ", "), nil
}

// together writes conditions that hold together.
func together(texts []string) (out, comments string, err error) {
	if len(texts) == 0 {
		return "", "", errors.New("what the two sides have in common is missing")
	}
	var all []string
	for _, t := range texts {
		e, more, err := readExpr(t)
		if err != nil {
			return "", "", err
		}
		all = append(all, term(e))
		comments += more
	}
	return strings.Join(all, " AND "), comments, nil
}

func (f *InputParts) text() (string, error) {
	out := ""
	switch {
	case f.Query != "":
		q, _, err := readQuery(f.Query)
		if err != nil {
			return "", fmt.Errorf("the query in FROM: %w", err)
		}
		if q.With != nil || q.Limit != nil || q.Until != nil {
			return "", errors.New("the query in FROM is one SELECT, without WITH, LIMIT and UNTIL")
		}
		out = "(" + Print(q) + ")"
	case f.Unnest != "":
		e, _, err := readExpr(f.Unnest)
		if err != nil {
			return "", err
		}
		out = "UNNEST(" + PrintExpr(e) + ")"
	case f.Name != "":
		out = nameText(Name{Text: f.Name})
		if f.Job != "" {
			out = spacedText(Name{Text: f.Job}) + "." + out
		}
	default:
		return "", errors.New("it reads nothing: choose a stream, a table or a step")
	}
	if f.Since != "" {
		out += " SINCE " + f.Since
	}
	if f.Alias != "" {
		alias := aliasText(Name{Text: f.Alias})
		if len(f.Columns) > 0 {
			var list []string
			for _, c := range f.Columns {
				list = append(list, nameText(Name{Text: c}))
			}
			alias = "AS " + alias + "(" + strings.Join(list, ", ") + ")"
		}
		out += " " + alias
	}
	if f.AsOf != "" {
		out += " AS OF " + f.AsOf
	}
	return out, nil
}

func (x *WindowParts) text() string {
	if x.Over != "" {
		return nameText(Name{Text: x.Name}) + " AS (" + x.Over + ")"
	}
	text := strings.ToUpper(x.Kind) + " "
	if x.Kind == Session {
		text += "GAP " + x.Gap
	} else {
		text += x.Length
	}
	report := x.Report
	if report == ReportOnChange {
		report = "ON CHANGE"
	} else if report != "" {
		report = "EVERY " + report
	}
	for _, part := range []struct{ word, text string }{
		{"EVERY", x.Every}, {"MAX", x.Max}, {"OFFSET", x.Offset}, {"AT TIME ZONE", x.Zone}, {"ON", x.On}, {"LATENESS", x.Lateness}, {"REPORT", report}, {"EMPTY FOR", x.EmptyFor},
	} {
		if part.text != "" {
			text += " " + part.word + " " + part.text
		}
	}
	return nameText(Name{Text: x.Name}) + " AS (" + text + ")"
}

func (r *RouteParts) text(short bool) (string, error) {
	text := lines(r.Comment) + "ROUTE "
	if r.Kind != RouteRows {
		text += strings.ToUpper(r.Kind) + " "
	}
	if !(short && r.Kind == RouteRows) {
		text += spacedText(Name{Text: r.Step}) + " "
	}
	if r.Of != "" {
		text += "OF " + nameText(Name{Text: r.Of}) + " "
	}
	if len(r.Branches) == 0 {
		return "", errors.New("it leads nowhere: choose a sink")
	}
	for i, b := range r.Branches {
		if i > 0 {
			text += " ELSE "
		}
		if b.Where != "" {
			e, comments, err := readExpr(b.Where)
			if err != nil {
				return "", err
			}
			text = comments + text + "WHERE " + PrintExpr(e) + " "
		}
		if len(b.Sinks) == 0 {
			return "", errors.New("an arm of it leads nowhere: choose a sink")
		}
		var sinks []string
		for _, s := range b.Sinks {
			sinks = append(sinks, spacedText(Name{Text: s}))
		}
		text += "TO " + strings.Join(sinks, ", ")
	}
	return text + behind(r.After) + "\n", nil
}
