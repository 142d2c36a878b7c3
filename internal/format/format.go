// Package format turns messages into columns and columns into messages.
//
// A decoder is given the messages of a piece of a split and fills a batch with the columns that the
// plan uses; a message that it cannot read is a reject with a reason, and the rows around it stand.
// An encoder appends the rows of a batch to a buffer.
package format

import (
	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// SourceOptions are the options of streams that say how messages are written.
func SourceOptions() []plan.OptionSpec {
	return append(sourceOptions(), schemaOptions()...)
}

func sourceOptions() []plan.OptionSpec {
	return []plan.OptionSpec{
		{Name: "format", Kind: plan.WordOption, Words: []string{"json", "csv", "text", "avro", "protobuf"}, Doc: "how messages are written: json, csv, avro, protobuf, or text, whose lines fill one VARCHAR column", Default: "json"},
		{Name: "delimiter", Kind: plan.WordOption, Doc: "CSV: the character between two fields", Default: "','"},
		{Name: "quote", Kind: plan.WordOption, Doc: "CSV: the character round a field that has delimiters in it", Default: "'\"'"},
		{Name: "null word", Kind: plan.WordOption, Doc: "CSV: a field that reads so, not quoted, is NULL, as an empty one is"},
		{Name: "bad rows", Kind: plan.WordOption, Words: []string{"keep", "stop"}, Doc: "what a message that is no row does; keep: it is counted and a sample kept"},
	}
}

// schemaOptions say where the schemas of messages are.
func schemaOptions() []plan.OptionSpec {
	return []plan.OptionSpec{
		{Name: "schema", Kind: plan.WordOption, Doc: "Avro, Protobuf: the text of the schema that all messages are written with", Default: "made of the columns"},
		{Name: "message", Kind: plan.WordOption, Doc: "Protobuf: which message of the schema they are", Default: "the first"},
		{Name: "schemas", Kind: plan.EndpointOption, Doc: "the endpoint of a registry that has the schemas which the messages name (Avro, Protobuf, JSON); it tells the columns, too"},
		{Name: "subject", Kind: plan.WordOption, Doc: "with SCHEMAS: what the registry keeps the schemas under", Default: "the topic's name and -value"},
	}
}

// LineSourceOptions are those of places whose messages are lines.
func LineSourceOptions() []plan.OptionSpec { return lines(sourceOptions()) }

// SinkOptions are the options of sinks that say how rows are written.
func SinkOptions() []plan.OptionSpec {
	return append(sinkOptions(),
		plan.OptionSpec{Name: "schemas", Kind: plan.EndpointOption, Doc: "the endpoint of a registry that gets the schema of the rows, which each message names then (Avro, Protobuf, JSON)"},
		plan.OptionSpec{Name: "subject", Kind: plan.WordOption, Doc: "with SCHEMAS: what the registry keeps the schema under", Default: "the topic's name and -value"})
}

func sinkOptions() []plan.OptionSpec {
	return []plan.OptionSpec{
		{Name: "format", Kind: plan.WordOption, Words: []string{"json", "csv", "text", "avro", "protobuf"}, Doc: "how rows are written: json, csv, avro, protobuf, or text, the value of the one VARCHAR column", Default: "json"},
		{Name: "delimiter", Kind: plan.WordOption, Doc: "CSV: the character between two fields", Default: "','"},
		{Name: "quote", Kind: plan.WordOption, Doc: "CSV: the character round a field that has delimiters in it", Default: "'\"'"},
		{Name: "null word", Kind: plan.WordOption, Doc: "CSV: what is written for NULL", Default: "nothing"},
		{Name: "changes", Kind: plan.WordOption, Words: []string{"full"}, Doc: "full: rows that are replaced and withdrawn are written too, each with a first column _change that says insert, replace or withdraw"},
	}
}

// LineSinkOptions are those of places whose messages are lines.
func LineSinkOptions() []plan.OptionSpec { return lines(sinkOptions()) }

// lines leaves out the formats whose messages are no lines.
func lines(specs []plan.OptionSpec) []plan.OptionSpec {
	specs[0].Words = []string{"json", "csv", "text"}
	specs[0].Doc = "how lines are written: json, csv, or text, which is one VARCHAR column"
	return specs
}

// Encoder appends rows to a buffer, one line or message each.
type Encoder interface {
	// Header is what stands before the first row of a file, or nil.
	Header() []byte
	// Append writes row i of the batch.
	Append(dst []byte, b *column.Batch, i int) []byte
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
