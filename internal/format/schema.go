package format

import (
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// Messages of the formats avro and protobuf are read by the schema that they were written with. It stands in the declaration, or in a registry, from which
// each message names its own: a zero byte and four bytes of a number stand before it. Messages of the format json may name one, too; it says nothing that
// is needed to read them.

// Schema is a schema of a registry.
type Schema struct {
	Format string // avro, protobuf, json
	Text   string
	Parts  []SchemaPart // those it refers to, each behind those that it refers to itself
}

// SchemaPart is a schema that another one refers to by a name.
type SchemaPart struct{ Name, Text string }

// Schemas is a registry of schemas. Its methods may be called by several goroutines, and may wait for an answer.
type Schemas interface {
	// Name is that of the endpoint.
	Name() string
	// ByID gives the schema of a number; the error is an *UnknownSchema where there is none.
	ByID(id int) (*Schema, error)
	// Latest gives the newest schema of a subject; nil where it has none.
	Latest(subject string) (*Schema, error)
	// Fits says why a schema cannot be added to a subject.
	Fits(subject string, s *Schema) error
	// Add gives the number of a schema of a subject, which gets it where it does not have it.
	Add(subject string, s *Schema) (id int, err error)
}

// UnknownSchema says that a registry has no schema of a number. A message that names it is no row.
type UnknownSchema struct {
	Registry string
	ID       int
}

func (e *UnknownSchema) Error() string {
	return fmt.Sprintf("the schema %d that the message names is not in the registry %s", e.ID, e.Registry)
}

// Reading is how the messages of a scan are read.
type Reading struct {
	Stream  *plan.Stream
	Table   *plan.Table // of a table
	Used    *plan.Use
	Schemas Schemas // of a stream whose schemas are in a registry

	given *Schema // the one of all messages, where the declaration does not tell it

	mu    sync.Mutex
	known map[int]any // what has been made of the schemas, by their numbers
}

// NewDecoder makes a decoder. header is, for CSV, the names of the file's first record, or nil where it has none.
func (r *Reading) NewDecoder(header []string) (flow.Decoder, error) {
	return r.DecoderFrom(Origin{Partition: -1}, header)
}

// DecoderFrom makes a decoder of the messages of a split.
func (r *Reading) DecoderFrom(from Origin, header []string) (flow.Decoder, error) {
	if r.Table != nil {
		return newTableDecoder(r, header, from)
	}
	return r.rows(header, from)
}

func (r *Reading) rows(header []string, from Origin) (flow.Decoder, error) {
	s := r.Stream
	if s.Parts > 0 {
		return newPartsDecoder(r, header, from)
	}
	switch f := s.Options.Word("format", "json"); f {
	case "json":
		if r.Schemas != nil {
			return &framed{inner: newJSONDecoder(s, r.Used)}, nil
		}
		return newJSONDecoder(s, r.Used), nil
	case "csv":
		return newCSVDecoder(s, r.Used, header)
	case "text":
		return newTextDecoder(s, r.Used)
	case "avro":
		return newSchemaDecoder(r, avroFormat{})
	case "protobuf":
		return newSchemaDecoder(r, protoFormat{s.Options.Word("message", ""), r.Schemas != nil})
	default:
		return nil, fmt.Errorf("format %s cannot be read", f)
	}
}

// SchemaOf gives the schema of a registry that a message names; nil where it names none that can be got.
func (r *Reading) SchemaOf(message []byte) *Schema {
	id, ok := frame(message)
	if !ok || r.Schemas == nil {
		return nil
	}
	s, err := r.Schemas.ByID(id)
	if err != nil {
		return nil
	}
	return s
}

// frameBytes stand before a message that names its schema.
const frameBytes = 5

// frame reads which schema a message names.
func frame(b []byte) (id int, ok bool) {
	if len(b) < frameBytes || b[0] != 0 {
		return 0, false
	}
	return int(binary.BigEndian.Uint32(b[1:])), true
}

// appendFrame names a schema.
func appendFrame(dst []byte, id int) []byte {
	return binary.BigEndian.AppendUint32(append(dst, 0), uint32(id))
}

const unframed = "the message names no schema: a zero byte and the schema's number should stand before it; messages without them are read by a SCHEMA in the place of SCHEMAS"

// framed reads messages of a format that needs no schema, without the number of the one they name.
type framed struct {
	inner flow.Decoder
	msgs  []flow.Message
}

// Decode implements flow.Decoder.
func (d *framed) Decode(data []byte, msgs []flow.Message, out *column.Batch) []flow.Reject {
	d.msgs = append(d.msgs[:0], msgs...)
	for i, m := range d.msgs {
		if _, ok := frame(data[m.Off : m.Off+m.Len]); ok {
			d.msgs[i].Off, d.msgs[i].Len = m.Off+frameBytes, m.Len-frameBytes
		}
	}
	return d.inner.Decode(data, d.msgs, out)
}

// schemaFormat is a format whose messages are read by a schema.
type schemaFormat interface {
	// program makes what reads messages of a schema into columns. It may be used by several decoders.
	program(s *Schema) (any, error)
	// columns gives the columns that a schema's messages have.
	columns(program any) ([]types.Field, error)
	// reader makes what fills leaves from messages.
	reader(program any, t *targets) (schemaReader, error)
}

// schemaReader fills a row of the targets from messages of one schema.
type schemaReader interface {
	// read fills a row, of n, from a message that lies in data, and says why it is none.
	read(data []byte, from, to, row, n int) (bad string)
}

// targets are the columns that readers fill.
type targets struct {
	stream *plan.Stream
	used   *plan.Use
	cols   []*column.Vector
}

// schemaDecoder reads messages by their schemas.
type schemaDecoder struct {
	r       *Reading
	format  schemaFormat
	fixed   schemaReader // by the schema of the declaration
	by      map[int]schemaReader
	bad     map[int]string
	last    int // the schema of the last message
	targets targets
	texts   []*column.Vector // whose values lie in the messages
	rows    []*column.Vector
}

func newSchemaDecoder(r *Reading, f schemaFormat) (*schemaDecoder, error) {
	s := r.Stream
	d := &schemaDecoder{r: r, format: f, by: map[int]schemaReader{}, bad: map[int]string{}, last: -1}
	d.targets = targets{s, r.Used, make([]*column.Vector, len(s.Columns))}
	for i, c := range s.Columns {
		if u, ok := r.Used.Needs(i); ok {
			d.targets.cols[i] = d.vector(c.Type, u)
		}
	}
	if r.Schemas == nil {
		p, err := r.program(-1, f)
		if err != nil {
			return nil, err
		}
		d.fixed, err = f.reader(p, &d.targets)
		return d, err
	}
	return d, nil
}

// vector makes the vector of a column, with those of the fields that are used.
func (d *schemaDecoder) vector(t types.Type, u *plan.Use) *column.Vector {
	if t.Kind != types.Row {
		v := column.New(t)
		if t.Kind == types.Varchar || t.Kind == types.Varbinary {
			d.texts = append(d.texts, v)
		}
		return v
	}
	v := &column.Vector{Type: t, Kids: make([]*column.Vector, len(t.Fields))}
	for i, f := range t.Fields {
		if k, ok := u.Needs(i); ok {
			v.Kids[i] = d.vector(f.Type, k)
		}
	}
	d.rows = append(d.rows, v)
	return v
}

// program gives what reads messages of a schema: of a number, or -1, of the declaration.
func (r *Reading) program(id int, f schemaFormat) (any, error) {
	r.mu.Lock()
	p, ok := r.known[id]
	r.mu.Unlock()
	if ok {
		if err, bad := p.(error); bad {
			return nil, err
		}
		return p, nil
	}
	p, err := r.programOf(id, f)
	var unknown *UnknownSchema
	if err != nil {
		var bad *badSchema
		if id < 0 || !errors.As(err, &unknown) && !errors.As(err, &bad) {
			return nil, err // it may be there another time
		}
		p = err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known == nil {
		r.known = map[int]any{}
	}
	r.known[id] = p
	return p, err
}

func (r *Reading) programOf(id int, f schemaFormat) (any, error) {
	if id < 0 {
		if r.given != nil {
			return f.program(r.given)
		}
		s, err := DeclaredSchema(r.Stream.Options, r.Stream.InValues())
		if err != nil {
			return nil, err
		}
		return f.program(s)
	}
	s, err := r.Schemas.ByID(id)
	if err != nil {
		return nil, err
	}
	if want := r.Stream.Options.Word("format", "json"); s.Format != want {
		return nil, &badSchema{fmt.Errorf("the schema %d that the message names is one of %s, not of %s", id, s.Format, want)}
	}
	p, err := f.program(s)
	if err != nil {
		return nil, &badSchema{fmt.Errorf("the schema %d that the message names cannot be used: %w", id, err)}
	}
	return p, nil
}

// badSchema is a schema by which nothing can be read. It stays so.
type badSchema struct{ err error }

func (e *badSchema) Error() string { return e.err.Error() }

// Prepare implements flow.Preparing: it fetches the schemas that messages name.
func (d *schemaDecoder) Prepare(data []byte, msgs []flow.Message) error {
	if d.fixed != nil {
		return nil
	}
	for _, m := range msgs {
		id, ok := frame(data[m.Off : m.Off+m.Len])
		if !ok || id == d.last {
			continue
		}
		d.last = id
		_, err := d.r.program(id, d.format)
		var unknown *UnknownSchema
		var bad *badSchema
		if err != nil && !errors.As(err, &unknown) && !errors.As(err, &bad) {
			d.last = -1
			return &flow.Passing{Err: err}
		}
	}
	return nil
}

// of gives what reads the messages of a schema.
func (d *schemaDecoder) of(id int) (schemaReader, string) {
	if r := d.by[id]; r != nil {
		return r, ""
	}
	if why := d.bad[id]; why != "" {
		return nil, why
	}
	p, err := d.r.program(id, d.format)
	if err != nil {
		return nil, err.Error()
	}
	r, err := d.format.reader(p, &d.targets)
	if err != nil {
		d.bad[id] = fmt.Sprintf("the schema %d that the message names does not fit: %s", id, err)
		return nil, d.bad[id]
	}
	d.by[id] = r
	return r, ""
}

// Decode implements flow.Decoder.
func (d *schemaDecoder) Decode(data []byte, msgs []flow.Message, out *column.Batch) []flow.Reject {
	n := len(msgs)
	var rejects []flow.Reject
	for _, v := range d.targets.cols {
		if v != nil {
			v.Resize(n)
		}
	}
	for _, v := range d.rows {
		v.Nulls = nil
	}
	for _, v := range d.texts {
		v.Data = data
	}
	for _, v := range d.targets.cols {
		if v != nil {
			clearOwn(v)
		}
	}
	timeAt := d.r.Stream.Time
	out.Time, out.Pos = out.Time[:0], out.Pos[:0]
	row, last := 0, -1
	reader := d.fixed
	for i, m := range msgs {
		from, to := int(m.Off), int(m.Off+m.Len)
		bad := ""
		if d.fixed == nil {
			id, ok := frame(data[from:to])
			switch {
			case !ok:
				bad = unframed
			case id != last || reader == nil:
				reader, bad = d.of(id)
				last = id
			}
			from += frameBytes
		}
		if bad == "" {
			bad = reader.read(data, from, to, row, n)
		}
		if bad != "" {
			rejects = append(rejects, flow.Reject{Message: i, Reason: bad})
			continue
		}
		t := m.At
		if timeAt >= 0 {
			t = d.targets.cols[timeAt].I[row]
		}
		out.Time, out.Pos = append(out.Time, t), append(out.Pos, m.Pos)
		row++
	}
	out.N, out.Cols, out.Stamp = row, d.targets.cols, nil
	return rejects
}

// clearOwn drops what lies in vectors that hold their texts and elements themselves.
func clearOwn(v *column.Vector) {
	switch v.Type.Kind {
	case types.Row:
		for _, k := range v.Kids {
			if k != nil {
				clearOwn(k)
			}
		}
	case types.Varchar, types.Varbinary:
	default:
		v.Clear()
	}
}

// unset makes a value, with its parts, NULL.
func unset(v *column.Vector, row, n int) {
	v.SetNull(row, n)
	switch {
	case v.S != nil:
		v.S[row] = column.Str{}
	case v.Type.Kind == types.Row:
		for _, k := range v.Kids {
			if k != nil {
				unset(k, row, n)
			}
		}
	}
}

// setNot notes that a value is not NULL.
func setNot(v *column.Vector, row int) {
	if v.Nulls != nil {
		v.Nulls[row] = false
	}
}

// DeclaredSchema gives the schema of a declaration whose messages name none: the one it tells, or the one that a sink with the columns writes by.
func DeclaredSchema(o plan.Options, columns []types.Field) (*Schema, error) {
	f := o.Word("format", "json")
	if text := o.Word("schema", ""); text != "" {
		return &Schema{Format: f, Text: text}, nil
	}
	if columns == nil {
		return nil, fmt.Errorf("FORMAT %s without columns needs a SCHEMA, or SCHEMAS and the endpoint of a registry", f)
	}
	return schemaOf(f, columns, nil)
}

// schemaOf makes the schema of rows with columns. Where there is an older one, what it calls them is kept.
//
// All columns can be NULL in it, also those that are NOT NULL: whether they are does not change how messages look.
func schemaOf(f string, columns []types.Field, older *Schema) (*Schema, error) {
	columns = withoutNotNull(columns)
	switch f {
	case "avro":
		return avroSchemaOf(columns, older)
	case "protobuf":
		return protoSchemaOf(columns, older)
	case "json":
		return jsonSchemaOf(columns)
	}
	return nil, fmt.Errorf("FORMAT %s has no schemas", f)
}

func withoutNotNull(columns []types.Field) []types.Field {
	columns = slices.Clone(columns)
	for i := range columns {
		columns[i].NotNull = false
	}
	return columns
}

// ColumnsOf gives the columns that messages of a schema have. Those that may be missing can be NULL.
func ColumnsOf(s *Schema, o plan.Options) ([]types.Field, error) {
	var f schemaFormat = avroFormat{}
	switch s.Format {
	case "json":
		return jsonSchemaColumns(s.Text)
	case "protobuf":
		f = protoFormat{message: o.Word("message", "")}
	}
	p, err := f.program(s)
	if err != nil {
		return nil, err
	}
	return f.columns(p)
}

// FitsSchema says why messages of a schema cannot be read into the columns of a stream.
func FitsSchema(s *plan.Stream, schema *Schema) error {
	want := s.Options.Word("format", "json")
	if schema.Format != want {
		return fmt.Errorf("the messages are of %s; write FORMAT %s", schema.Format, schema.Format)
	}
	if want == "json" {
		return nil // each value is looked at by itself
	}
	o := maps.Clone(s.Options)
	delete(o, "schemas")
	plainly := *s
	plainly.Options = o
	r := &Reading{Stream: &plainly, Used: &plan.Use{All: true}, given: schema}
	_, err := r.NewDecoder(nil)
	return err
}

// SubjectOf gives the subject of a registry that the schemas of a place are under.
func SubjectOf(o plan.Options, address string) (string, error) {
	if s := o.Word("subject", ""); s != "" {
		return s, nil
	}
	if strings.ContainsAny(address, "*/ ") {
		return "", fmt.Errorf("say which SUBJECT of the registry the schemas of '%s' are under", address)
	}
	return address + "-value", nil
}

// Writing is how the rows of an output are written.
type Writing struct {
	Options plan.Options
	Address string
	Fields  []types.Field
	Schemas Schemas // of a sink whose schemas are in a registry

	mu     sync.Mutex
	schema *Schema
	id     int
}

// Check says what is wrong with the columns, and whether the registry would take their schema.
func (w *Writing) Check() error {
	if w.Schemas == nil {
		_, err := w.encoder(0, nil)
		return err
	}
	s, subject, _, err := w.own()
	if err != nil {
		return err
	}
	if _, err := w.encoder(0, s); err != nil {
		return err
	}
	return w.Schemas.Fits(subject, s)
}

// own makes the schema that rows are written by; older is the newest one of the subject, or nil.
func (w *Writing) own() (s *Schema, subject string, older *Schema, err error) {
	subject, err = SubjectOf(w.Options, w.Address)
	if err != nil {
		return nil, "", nil, err
	}
	older, err = w.Schemas.Latest(subject)
	if err != nil {
		return nil, "", nil, err
	}
	f := w.Options.Word("format", "json")
	if older != nil && older.Format != f {
		return nil, "", nil, fmt.Errorf("the schemas of the subject '%s' in the registry %s are of %s, and the sink writes %s", subject, w.Schemas.Name(), older.Format, f)
	}
	s, err = schemaOf(f, w.Fields, older)
	return s, subject, older, err
}

// Registers says whether the registry gets a schema with the first row, under which subject, and whether that is its first one.
func (w *Writing) Registers() (subject string, first, news bool, err error) {
	s, subject, older, err := w.own()
	if err != nil || s == nil {
		return "", false, false, err
	}
	return subject, older == nil, older == nil || !slices.Equal(strings.Fields(older.Text), strings.Fields(s.Text)), nil
}

// NewEncoder makes an encoder. The registry gets the schema with the first.
func (w *Writing) NewEncoder() (Encoder, error) {
	if w.Schemas == nil {
		return w.encoder(0, nil)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.schema == nil {
		s, subject, _, err := w.own()
		if err != nil {
			return nil, err
		}
		if w.id, err = w.Schemas.Add(subject, s); err != nil {
			return nil, err
		}
		w.schema = s
	}
	return w.encoder(w.id, w.schema)
}

// encoder makes an encoder of a schema of a registry, or, where that is nil, of messages that name none.
func (w *Writing) encoder(id int, s *Schema) (enc Encoder, err error) {
	switch f := w.Options.Word("format", "json"); f {
	case "json":
		enc = NewJSONEncoder(w.Fields)
	case "csv":
		c, err := CSVOf(w.Options)
		return &csvEncoder{dialect: c, fields: w.Fields}, err
	case "text":
		if len(w.Fields) != 1 || w.Fields[0].Type.Kind != types.Varchar {
			return nil, fmt.Errorf("FORMAT text writes one column, a VARCHAR; the step has %d columns", len(w.Fields))
		}
		return textEncoder{}, nil
	case "avro":
		enc, err = newAvroEncoder(w.Fields)
	case "protobuf":
		enc, err = newProtoEncoder(w.Fields, s)
	default:
		err = fmt.Errorf("format %s cannot be written", f)
	}
	if err != nil || s == nil {
		return enc, err
	}
	before := appendFrame(nil, id)
	if s.Format == "protobuf" {
		before = append(before, 0) // the first message of the schema
	}
	return &framedEncoder{enc, before}, nil
}

// framedEncoder puts the number of the schema before each message.
type framedEncoder struct {
	Encoder
	before []byte
}

// Append implements Encoder.
func (e *framedEncoder) Append(dst []byte, b *column.Batch, i int) []byte {
	return e.Encoder.Append(append(dst, e.before...), b, i)
}
