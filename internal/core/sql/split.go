package sql

import "strings"

// Split cuts a text into its statements, each with its semicolon. What stands behind the last semicolon is given apart:
// it is blank where the text is whole. Semicolons in quoted texts and comments do not count. Where a quoted text or a comment
// has no end, nothing is whole, and all is rest.
func Split(text string) (statements []string, rest string) {
	toks, _, cut := scan(text, &Errors{})
	if cut {
		return nil, text
	}
	from := 0
	for _, t := range toks {
		if t.kind == op && t.text == ";" {
			if s := strings.TrimSpace(text[from:t.To]); s != ";" {
				statements = append(statements, s)
			}
			from = t.To
		}
	}
	rest = text[from:]
	if toks, _, _ := scan(rest, &Errors{}); len(toks) == 1 { // comments alone
		rest = ""
	}
	return statements, rest
}
