package text

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// Placeholder is a place in a text for a value: the name of a column in braces, and nothing else, so that JSON stays what it is.
var Placeholder = regexp.MustCompile(`\{([A-Za-z_][A-Za-z0-9_]*)\}`)

// Template is a text with columns in it.
type Template []piece

// piece of a template: a text, or a column.
type piece struct {
	text   string
	column int // -1: a text
}

// TemplateOf cuts a template, which is called as it is in errors.
func TemplateOf(called, text string, fields []types.Field) (out Template, err error) {
	at := 0
	for _, m := range Placeholder.FindAllStringSubmatchIndex(text, -1) {
		name := text[m[2]:m[3]]
		i := types.Type{Kind: types.Row, Fields: fields}.FieldIndex(name)
		if i < 0 {
			return nil, fmt.Errorf("%s names {%s}, which the rows do not have", called, name)
		}
		out = append(out, piece{text[at:m[0]], -1}, piece{"", i})
		at = m[1]
	}
	return append(out, piece{text[at:], -1}), nil
}

// Fixed says whether a template has no columns.
func (t Template) Fixed() bool { return len(t) == 1 }

// Columns gives the places of the columns in it.
func (t Template) Columns() (out []int) {
	for _, p := range t {
		if p.column >= 0 {
			out = append(out, p.column)
		}
	}
	return out
}

// How values stand in a template.
const (
	Plain = iota
	AsJSON
	Escaped // as in a URL
)

// Filler fills templates with rows; one goroutine uses it.
type Filler struct{ one []*format.JSONEncoder } // of a column by itself

// NewFiller makes one for rows of columns.
func NewFiller(fields []types.Field) *Filler {
	f := &Filler{}
	for _, x := range fields {
		f.one = append(f.one, format.NewJSONEncoder([]types.Field{{Name: "v", Type: x.Type}}))
	}
	return f
}

// Append writes a template with the values of a row.
func (f *Filler) Append(dst []byte, of Template, b *column.Batch, i int, how int) []byte {
	for _, p := range of {
		if p.column < 0 {
			dst = append(dst, p.text...)
			continue
		}
		v := b.Cols[p.column]
		switch {
		case how == AsJSON && v.Null(i):
			dst = append(dst, "null"...)
		case how == AsJSON:
			at := len(dst)
			dst = f.one[p.column].Append(dst, &column.Batch{Cols: []*column.Vector{v}}, i)
			inner := dst[at+len(`{"v":`) : len(dst)-1]
			dst = append(dst[:at], inner...)
		case v.Null(i):
		case how == Escaped:
			dst = append(dst, strings.ReplaceAll(url.QueryEscape(string(types.AppendText(nil, v.Value(i)))), "+", "%20")...)
		default:
			dst = types.AppendText(dst, v.Value(i))
		}
	}
	return dst
}
