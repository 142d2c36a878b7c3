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

// NewDecoder makes a decoder for a stream's format that builds what is used. header is, for CSV, the
// names of the file's first record, or nil where it has none.
func NewDecoder(name string, s *plan.Stream, used *plan.Use, header []string) (flow.Decoder, error) {
	switch name {
	case "json":
		return newJSONDecoder(s, used), nil
	case "csv":
		return newCSVDecoder(s, used, header)
	}
	return nil, fmt.Errorf("format %s cannot be read", name)
}

// Encoder appends rows to a buffer, one line or message each.
type Encoder interface {
	// Header is what stands before the first row of a file, or nil.
	Header() []byte
	// Append writes row i of the batch.
	Append(dst []byte, b *column.Batch, i int) []byte
}

// NewEncoder makes an encoder of rows with these columns.
func NewEncoder(name string, fields []types.Field) (Encoder, error) {
	switch name {
	case "json":
		return NewJSONEncoder(fields), nil
	case "csv":
		return &csvEncoder{fields: fields}, nil
	}
	return nil, fmt.Errorf("format %s cannot be written", name)
}

// leaf is a column, or a field of one, that a decoder fills.
type leaf struct {
	name    string
	typ     types.Type
	notNull bool
	time    bool // the event time: NULL makes a bad row
	vec     *column.Vector
}
