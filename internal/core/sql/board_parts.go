package sql

import (
	"errors"
	"fmt"
	"strings"
)

// BoardParts is the text of a board cut into what people move and change by hand. The text that is put together from its parts is the canonical
// one of the text that was cut, with its comments.
type BoardParts struct {
	Replace   bool            `json:"replace,omitempty"`
	Name      string          `json:"name"`
	Options   []OptionPart    `json:"options"`
	Comment   string          `json:"comment,omitempty" doc:"comments before the board, a line each"`
	Variables []VariableParts `json:"variables"`
	Panels    []PanelParts    `json:"panels"`
	End       string          `json:"end,omitempty" doc:"a comment behind the semicolon on its line"`
	After     string          `json:"after,omitempty" doc:"comments behind that, a line each"`
}

// VariableParts is the text of a variable, in parts.
type VariableParts struct {
	Comment string       `json:"comment,omitempty"`
	Name    string       `json:"name"`
	Title   string       `json:"title,omitempty"`
	Options []OptionPart `json:"options"`
	Query   string       `json:"query"`
	After   string       `json:"after,omitempty"`
}

// PanelParts is the text of a panel, in parts.
type PanelParts struct {
	Comment string       `json:"comment,omitempty" doc:"comments before the panel, a line each"`
	Title   string       `json:"title"`
	Kind    string       `json:"kind"`
	Options []OptionPart `json:"options"`
	Words   string       `json:"words,omitempty" doc:"of a panel of text"`
	Query   string       `json:"query,omitempty" doc:"laid out, with its comments"`
	After   string       `json:"after,omitempty" doc:"a comment behind the panel on its last line"`
}

// OptionPart is an option and its value.
type OptionPart struct {
	Name   string `json:"name" doc:"in lower case"`
	Value  string `json:"value" doc:"as in SQL, but a text is without its quotes"`
	Quoted bool   `json:"quoted,omitempty" doc:"the value is a text in quotes"`
}

// Cut cuts the text of a board into its parts. Parameters stay in it.
func Cut(text string) (*BoardParts, error) {
	script, err := Read("board", text)
	if err != nil {
		return nil, err
	}
	var b *CreateBoard
	if len(script.Statements) == 1 {
		b, _ = script.Statements[0].(*CreateBoard)
	}
	if b == nil {
		return nil, errors.New("the text is not one CREATE BOARD")
	}
	out := &BoardParts{Replace: b.Replace, Name: b.Name.Text, Options: optionParts(b.Options), Variables: []VariableParts{}, Panels: []PanelParts{}}
	cut := cutter{script: script, comments: script.comments}
	out.Comment = cut.before(b.At().From)
	head := b.Name.Span
	if n := len(b.Options); n > 0 {
		head = b.Options[n-1].Span
	}
	out.Comment += cut.before(head.To)
	for i := range b.Variables {
		v := &b.Variables[i]
		x := VariableParts{Comment: cut.before(v.Inner.From), Name: v.Name.Text, Options: optionParts(v.Options)}
		if v.Title != nil {
			x.Title = v.Title.Value
		}
		if x.Query, err = cut.query(v.Inner); err != nil {
			return nil, err
		}
		x.After = cut.behind(v.Span.To)
		out.Variables = append(out.Variables, x)
	}
	for i := range b.Panels {
		p := &b.Panels[i]
		x := PanelParts{Title: p.Title.Value, Kind: p.Kind.Text, Options: optionParts(p.Options)}
		if p.Words != nil {
			x.Comment, x.Words = cut.before(p.Span.To), p.Words.Value
		} else {
			x.Comment = cut.before(p.Inner.From)
			if x.Query, err = cut.query(p.Inner); err != nil {
				return nil, err
			}
		}
		x.After = cut.behind(p.Span.To)
		out.Panels = append(out.Panels, x)
	}
	toks, _, _ := scan(text, &Errors{})
	for _, t := range toks {
		if t.From >= b.At().To && t.text == ";" {
			out.End = cut.behind(t.To)
			break
		}
	}
	out.After = cut.before(len(text) + 1)
	return out, nil
}

func optionParts(options []Option) []OptionPart {
	out := []OptionPart{}
	for _, o := range options {
		part := OptionPart{Name: o.Name, Value: PrintOption(o)}
		if o.IsText {
			part.Value, part.Quoted = o.Word, true
		}
		out = append(out, part)
	}
	return out
}

// cutter takes comments from a text, in their order.
type cutter struct {
	script   *Script
	comments []comment
	taken    int // where the last one ends that stood behind a part
}

// before gives the comments before a place.
func (c *cutter) before(at int) (out string) {
	for len(c.comments) > 0 && c.comments[0].From < at {
		out += c.comments[0].text + "\n"
		c.comments = c.comments[1:]
	}
	return out
}

// behind gives the comment that begins on the line on which a part ends.
func (c *cutter) behind(at int) string {
	if len(c.comments) == 0 || c.comments[0].From < at || strings.Trim(c.script.Text[at:c.comments[0].From], " \t,") != "" {
		return ""
	}
	out := c.comments[0].text
	c.taken = c.comments[0].To
	c.comments = c.comments[1:]
	return out
}

// query lays out the query between two parentheses, with its comments.
func (c *cutter) query(inner Span) (string, error) {
	c.before(inner.To)
	script, err := Read("query", c.script.Text[inner.From:inner.To])
	if err != nil {
		return "", err
	}
	return withoutEnd(Format(script)), nil
}

// withoutEnd is the text of one statement without its semicolon. Comments behind it stay.
func withoutEnd(text string) string {
	toks, _, _ := scan(text, &Errors{})
	for _, t := range toks {
		if t.kind != str && t.kind != quoted && t.text == ";" {
			text = text[:t.From] + text[t.To:]
			break
		}
	}
	return strings.TrimRight(text, " \n")
}

// SQL puts the text of a board together and lays it out. The error tells which part is wrong.
func (b *BoardParts) SQL() (string, error) {
	var w strings.Builder
	w.WriteString(lines(b.Comment))
	fmt.Fprintf(&w, "CREATE %sBOARD %s%s\n", orReplace(b.Replace), spacedText(Name{Text: b.Name}), optionsText(b.Options))
	for i, v := range b.Variables {
		if err := isQuery(v.Query); err != nil {
			return "", fmt.Errorf("the variable %d, %s: %w", i+1, v.Name, err)
		}
		w.WriteString(lines(v.Comment) + "VARIABLE " + nameText(Name{Text: v.Name}) + " ")
		if v.Title != "" {
			w.WriteString(quoteText(v.Title))
		}
		fmt.Fprintf(&w, "%s AS (\n%s\n)%s\n", optionsText(v.Options), v.Query, behind(v.After))
	}
	for i, p := range b.Panels {
		w.WriteString(lines(p.Comment))
		fmt.Fprintf(&w, "PANEL %s %s%s ", quoteText(p.Title), nameText(Name{Text: p.Kind}), optionsText(p.Options))
		if p.Kind == PanelText {
			w.WriteString(quoteText(p.Words))
		} else {
			if err := isQuery(p.Query); err != nil {
				return "", fmt.Errorf("the panel %d, %s: %w", i+1, p.Title, err)
			}
			fmt.Fprintf(&w, "AS (\n%s\n)", p.Query)
		}
		w.WriteString(behind(p.After) + "\n")
	}
	w.WriteString(";" + behind(b.End) + "\n" + lines(b.After))
	script, err := Read("board", w.String())
	if err != nil {
		return "", err
	}
	if len(script.Statements) != 1 {
		return "", errors.New("the parts are more than one board")
	}
	return Format(script), nil
}

// isQuery says what is wrong with a text that is to be one query.
func isQuery(text string) error {
	script, err := Read("query", text)
	if err != nil {
		return err
	}
	if len(script.Statements) == 1 {
		if _, ok := script.Statements[0].(*Query); ok {
			return nil
		}
	}
	return errors.New("it is not one SELECT")
}

// lines are comments, each on its own line.
func lines(comments string) string {
	if comments == "" || strings.HasSuffix(comments, "\n") {
		return comments
	}
	return comments + "\n"
}

func behind(comment string) string {
	if comment == "" {
		return ""
	}
	return " " + comment
}

func optionsText(options []OptionPart) string {
	var out []string
	for _, o := range options {
		v := o.Value
		if o.Quoted {
			v = quoteText(v)
		}
		out = append(out, strings.ToUpper(o.Name)+" "+v)
	}
	if out == nil {
		return ""
	}
	return " (" + strings.Join(out, ", ") + ")"
}
