package sql

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

type kind uint8

const (
	end    kind = iota
	word        // an unquoted identifier or keyword; text is in lower case
	quoted      // a "quoted" identifier
	number
	str
	param // :name
	op    // an operator or punctuation
)

type token struct {
	kind kind
	text string
	Span
}

// comment is one comment with its marks.
type comment struct {
	text string
	Span
}

// scan cuts the text into tokens, the last of them end, and comments. cut says that a quoted text or a
// comment has no end.
func scan(text string, errs *Errors) (out []token, comments []comment, cut bool) {
	for i := 0; i < len(text); {
		c := text[i]
		start := i
		switch {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			i++
			continue
		case strings.HasPrefix(text[i:], "--"):
			for i < len(text) && text[i] != '\n' {
				i++
			}
			comments = append(comments, comment{strings.TrimRight(text[start:i], " \t\r"), Span{start, i}})
			continue
		case strings.HasPrefix(text[i:], "/*"):
			n := strings.Index(text[i+2:], "*/")
			if n < 0 {
				errs.Add(Syntax, Span{i, i + 2}, "close it with */", "this comment has no end")
				cut = true
				i = len(text)
				continue
			}
			i += n + 4
			comments = append(comments, comment{text[start:i], Span{start, i}})
			continue
		case c == '\'' || c == '"':
			s, n, ok := scanQuoted(text[i:], c)
			if !ok {
				errs.Add(Syntax, Span{i, i + 1}, "close it with "+string(c), "this text has no end")
				cut = true
				i = len(text)
				continue
			}
			i += n
			k := str
			if c == '"' {
				k = quoted
			}
			out = append(out, token{k, s, Span{start, i}})
			continue
		case c >= '0' && c <= '9' || c == '.' && i+1 < len(text) && text[i+1] >= '0' && text[i+1] <= '9':
			i += scanNumber(text[i:])
			out = append(out, token{number, text[start:i], Span{start, i}})
			continue
		case c == ':' && i+1 < len(text) && isWordStart(text[i+1:]):
			i++
			i += scanWord(text[i:])
			out = append(out, token{param, text[start+1 : i], Span{start, i}})
			continue
		case isWordStart(text[i:]):
			i += scanWord(text[i:])
			out = append(out, token{word, strings.ToLower(text[start:i]), Span{start, i}})
			continue
		}
		n := 1
		for _, two := range [...]string{"<>", "<=", ">=", "!=", "||"} {
			if strings.HasPrefix(text[i:], two) {
				n = 2
			}
		}
		if n == 1 && !strings.ContainsRune("+-*/%(),;.=<>[]:", rune(c)) {
			_, n = utf8.DecodeRuneInString(text[i:])
			errs.Add(Syntax, Span{i, i + n}, "", "the character %q has no meaning here", text[i:i+n])
			i += n
			continue
		}
		i += n
		out = append(out, token{op, text[start:i], Span{start, i}})
	}
	return append(out, token{kind: end, Span: Span{len(text), len(text)}}), comments, cut
}

// scanQuoted reads a quoted text with its quotes; a doubled quote stands for one.
func scanQuoted(s string, q byte) (string, int, bool) {
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		if s[i] != q {
			b.WriteByte(s[i])
			continue
		}
		if i+1 < len(s) && s[i+1] == q {
			b.WriteByte(q)
			i++
			continue
		}
		return b.String(), i + 1, true
	}
	return "", 0, false
}

func scanNumber(s string) int {
	i := 0
	digits := func() {
		for i < len(s) && s[i] >= '0' && s[i] <= '9' {
			i++
		}
	}
	digits()
	if i < len(s) && s[i] == '.' {
		i++
		digits()
	}
	if i < len(s) && (s[i] == 'e' || s[i] == 'E') {
		j := i
		i++
		if i < len(s) && (s[i] == '+' || s[i] == '-') {
			i++
		}
		if k := i; k < len(s) && s[k] >= '0' && s[k] <= '9' {
			digits()
		} else {
			i = j
		}
	}
	return i
}

func isWordStart(s string) bool {
	r, _ := utf8.DecodeRuneInString(s)
	return r == '_' || unicode.IsLetter(r)
}

func scanWord(s string) int {
	for i, r := range s {
		if r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			return i
		}
	}
	return len(s)
}
