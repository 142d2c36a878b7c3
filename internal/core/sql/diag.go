// Package sql turns Fiume SQL text into a tree. It knows the grammar and nothing about what names
// mean: binding is the plan package's work.
package sql

import (
	"errors"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Span is a stretch of the source text, in bytes: [From, To).
type Span struct{ From, To int }

// Code is the stable short name of a kind of error.
type Code string

// The codes of the language. A code, once published, keeps its meaning.
const (
	Syntax        Code = "syntax"
	UnknownName   Code = "unknown-name"
	UnknownOption Code = "unknown-option"
	BadOption     Code = "bad-option"
	Ambiguous     Code = "ambiguous-name"
	WrongType     Code = "wrong-type"
	WrongPlace    Code = "wrong-place"
	NotGrouped    Code = "not-grouped"
	Duplicate     Code = "duplicate-name"
	NoValue       Code = "no-value"
	Unbounded     Code = "unbounded"
	NotYet        Code = "not-yet"
	Misfit        Code = "misfit"
	InUse         Code = "in-use"
	NotAllowed    Code = "not-allowed"
)

// Diagnostic is one error with its place, what is wrong and what to write instead.
type Diagnostic struct {
	Code    Code   `json:"code"`
	Span    Span   `json:"-"`
	Message string `json:"message"`
	Hint    string `json:"hint,omitempty"`
	Line    int    `json:"line"`   // from 1
	Column  int    `json:"column"` // from 1, in code points
	// The place ends before this one.
	EndLine   int `json:"end_line"`
	EndColumn int `json:"end_column"`
}

// Errors is what a text has wrong, in the order of the text. It is an error that prints as the
// command line shows it.
type Errors struct {
	File string
	Text string
	List []Diagnostic
	// Unsaid are names that no hint may tell.
	Unsaid []string
}

// Add notes one error.
func (e *Errors) Add(code Code, at Span, hint, format string, args ...any) {
	e.List = append(e.List, Diagnostic{Code: code, Span: at, Message: fmt.Sprintf(format, args...), Hint: hint})
}

// mostErrors is how many errors of a text are told.
const mostErrors = 100

// Err sorts the list, drops repeats, fills lines and columns, and gives e, or nil where nothing is wrong.
func (e *Errors) Err() error {
	if len(e.List) == 0 {
		return nil
	}
	sort.SliceStable(e.List, func(i, j int) bool { return e.List[i].Span.From < e.List[j].Span.From })
	kept := e.List[:0]
	for i, d := range e.List {
		if n := len(kept); n > 0 && kept[n-1].Span == d.Span && kept[n-1].Message == d.Message {
			continue
		}
		if len(kept) == mostErrors {
			kept[len(kept)-1].Hint = strings.TrimPrefix(fmt.Sprintf("%s; %d more errors follow", kept[len(kept)-1].Hint, len(e.List)-i), "; ")
			break
		}
		for _, n := range e.Unsaid {
			if d.Hint != "" && hasWord(d.Hint, n) {
				d.Hint = ""
			}
		}
		d.Line, d.Column = Position(e.Text, d.Span.From)
		d.EndLine, d.EndColumn = Position(e.Text, d.Span.To)
		kept = append(kept, d)
	}
	e.List = kept
	return e
}

// hasWord says whether a text has a name that does not go on before or behind it.
func hasWord(text, name string) bool {
	inside := func(b byte) bool { return isWordStart(string(b)) || '0' <= b && b <= '9' }
	for from := 0; name != ""; {
		i := strings.Index(text[from:], name)
		if i < 0 {
			break
		}
		i += from
		end := i + len(name)
		if (i == 0 || !inside(text[i-1])) && (end == len(text) || !inside(text[end])) {
			return true
		}
		from = i + 1
	}
	return false
}

// Position gives line and column, both from 1, of a byte offset.
func Position(text string, at int) (line, column int) {
	at = min(at, len(text))
	start := strings.LastIndexByte(text[:at], '\n') + 1
	return strings.Count(text[:at], "\n") + 1, utf8.RuneCountInString(text[start:at]) + 1
}

// Positions gives the positions of places of a text in their order, without counting from the beginning each time. The zero
// value with a Text is ready.
type Positions struct {
	Text         string
	at           int
	lines, chars int // before at: whole lines, and code points of the line begun
}

// Of gives line and column, both from 1, of a byte offset that does not lie before the last one asked for.
func (p *Positions) Of(at int) (line, column int) {
	at = min(max(at, p.at), len(p.Text))
	between := p.Text[p.at:at]
	if n := strings.Count(between, "\n"); n > 0 {
		p.lines, p.chars = p.lines+n, 0
		between = between[strings.LastIndexByte(between, '\n')+1:]
	}
	p.chars += utf8.RuneCountInString(between)
	p.at = at
	return p.lines + 1, p.chars + 1
}

func (e *Errors) Error() string {
	var b strings.Builder
	for i, d := range e.List {
		if i > 0 {
			b.WriteByte('\n')
		}
		e.write(&b, d)
	}
	return b.String()
}

func (e *Errors) write(b *strings.Builder, d Diagnostic) {
	file := e.File
	if file == "" {
		file = "sql"
	}
	at := min(d.Span.From, len(e.Text))
	line, column := Position(e.Text, at)
	fmt.Fprintf(b, "%s:%d:%d: %s  [%s]\n", file, line, column, d.Message, d.Code)
	start := strings.LastIndexByte(e.Text[:at], '\n') + 1
	end := len(e.Text)
	if i := strings.IndexByte(e.Text[start:], '\n'); i >= 0 {
		end = start + i
	}
	num := strconv.Itoa(line)
	text := strings.TrimRight(e.Text[start:end], "\r")
	width := max(utf8.RuneCountInString(e.Text[at:max(at, min(d.Span.To, end))]), 1)
	text, before, width := around(strings.ReplaceAll(text, "\t", " "), column-1, width)
	fmt.Fprintf(b, "  %s | %s\n", num, text)
	fmt.Fprintf(b, "  %s | %s%s", strings.Repeat(" ", len(num)), strings.Repeat(" ", before), strings.Repeat("^", width))
	if d.Hint != "" {
		b.WriteString(" " + d.Hint)
	}
}

// Of a longer line so many letters are shown, so many of them before the place.
const (
	shownLetters = 240
	shownBefore  = 80
)

// around gives what is shown of a line around a place: how many letters stand before it there, and how many of its own there are.
func around(line string, before, width int) (string, int, int) {
	letters := []rune(line)
	if len(letters) <= shownLetters {
		return line, before, width
	}
	from := max(0, min(before-shownBefore, len(letters)-shownLetters))
	to := min(len(letters), from+shownLetters)
	text := string(letters[from:to])
	before, width = before-from, min(width, to-before)
	if from > 0 {
		text, before = "…"+text, before+1
	}
	if to < len(letters) {
		text += "…"
	}
	return text, before, max(width, 1)
}

// Suggest gives the candidate nearest to a misspelt name, or "" where none is near.
func Suggest(name string, candidates []string) string {
	best, limit := "", max(1, len(name)/3)+1
	for _, c := range candidates {
		if c == name {
			continue // it is no help
		}
		if d := distance(strings.ToLower(name), strings.ToLower(c)); d < limit {
			best, limit = c, d
		}
	}
	return best
}

// DidYouMean is Suggest as a hint, "" where none is near.
func DidYouMean(name string, candidates []string) string {
	if s := Suggest(name, candidates); s != "" {
		return fmt.Sprintf("did you mean %q?", s)
	}
	return ""
}

// distance is the number of insertions, deletions, replacements and swaps of neighbours between two
// words (optimal string alignment).
func distance(a, b string) int {
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}

// First is the first error of a text with its way out, and without its place.
func First(err error) string {
	var errs *Errors
	switch {
	case !errors.As(err, &errs) || len(errs.List) == 0:
		return err.Error()
	case errs.List[0].Hint != "":
		return errs.List[0].Message + "; " + errs.List[0].Hint
	}
	return errs.List[0].Message
}
