// Package format turns messages into columns and columns into messages.
//
// A decoder is given the messages of a piece of a split and fills a batch with the columns that the
// plan uses; a message that it cannot read is a reject with a reason, and the rows around it stand.
// An encoder appends the rows of a batch to a buffer.
package format

import (
	"fmt"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// SourceOptions are the options of streams that say how messages are written.
func SourceOptions() []plan.OptionSpec {
	return []plan.OptionSpec{
		{Name: "format", Kind: plan.WordOption, Words: []string{"json", "csv", "text"}, Doc: "how messages are written: json, csv, or text, whose lines fill one VARCHAR column; json"},
		{Name: "delimiter", Kind: plan.WordOption, Doc: "CSV: the character between two fields; ','"},
		{Name: "quote", Kind: plan.WordOption, Doc: "CSV: the character round a field that has delimiters in it; '\"'"},
		{Name: "null word", Kind: plan.WordOption, Doc: "CSV: a field that reads so, not quoted, is NULL, as an empty one is"},
		{Name: "bad rows", Kind: plan.WordOption, Words: []string{"keep", "stop"}, Doc: "what a message that is no row does; keep: it is counted and a sample kept"},
	}
}

// SinkOptions are the options of sinks that say how rows are written.
func SinkOptions() []plan.OptionSpec {
	return []plan.OptionSpec{
		{Name: "format", Kind: plan.WordOption, Words: []string{"json", "csv", "text"}, Doc: "how rows are written: json, csv, or text, the value of the one VARCHAR column; json"},
		{Name: "delimiter", Kind: plan.WordOption, Doc: "CSV: the character between two fields; ','"},
		{Name: "quote", Kind: plan.WordOption, Doc: "CSV: the character round a field that has delimiters in it; '\"'"},
		{Name: "null word", Kind: plan.WordOption, Doc: "CSV: what is written for NULL; nothing"},
		{Name: "changes", Kind: plan.WordOption, Words: []string{"full"}, Doc: "full: rows that are replaced and withdrawn are written too, each with a first column _change that says insert, replace or withdraw"},
	}
}

// NewDecoder makes a decoder of a stream's format that builds what is used. header is, for CSV, the
// names of the file's first record, or nil where it has none.
func NewDecoder(s *plan.Stream, used *plan.Use, header []string) (flow.Decoder, error) {
	switch f := s.Options.Word("format", "json"); f {
	case "json":
		return newJSONDecoder(s, used), nil
	case "csv":
		return newCSVDecoder(s, used, header)
	case "text":
		return newTextDecoder(s, used)
	default:
		return nil, fmt.Errorf("format %s cannot be read", f)
	}
}

// Encoder appends rows to a buffer, one line or message each.
type Encoder interface {
	// Header is what stands before the first row of a file, or nil.
	Header() []byte
	// Append writes row i of the batch.
	Append(dst []byte, b *column.Batch, i int) []byte
}

// NewEncoder makes an encoder of rows with these columns, in the format that the options say.
func NewEncoder(o plan.Options, fields []types.Field) (Encoder, error) {
	switch f := o.Word("format", "json"); f {
	case "json":
		return NewJSONEncoder(fields), nil
	case "csv":
		c, err := CSVOf(o)
		return &csvEncoder{dialect: c, fields: fields}, err
	case "text":
		if len(fields) != 1 || fields[0].Type.Kind != types.Varchar {
			return nil, fmt.Errorf("FORMAT text writes one column, a VARCHAR; the step has %d columns", len(fields))
		}
		return textEncoder{}, nil
	default:
		return nil, fmt.Errorf("format %s cannot be written", f)
	}
}

// leaf is a column, or a field of one, that a decoder fills.
type leaf struct {
	name    string
	typ     types.Type
	notNull bool
	time    bool // the event time: NULL makes a bad row
	vec     *column.Vector
}

// deep says whether values are written as JSON with parts, or as a document.
func (l *leaf) deep() bool { return l.typ.IsNested() || l.typ.Kind == types.JSON }
