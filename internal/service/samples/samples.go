// Package samples looks at messages: it keeps some to try queries on, finds the columns they have, proposes a declaration,
// and sees where a stream has drifted away from its own.
package samples

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"fiume/internal/catalog"
	"fiume/internal/connect/files"
	"fiume/internal/connect/mariadb"
	"fiume/internal/connect/recorded"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	formats "fiume/internal/format"
	"fiume/internal/format/container"
	"fiume/internal/service/base"
	"fiume/internal/service/jobs"
	"fiume/internal/service/topics"
)

// Samples are messages that are looked at, to find out what columns they have, and those that are kept.
type Samples struct {
	*base.Base
	topics *topics.Topics
	jobs   *jobs.Jobs

	mu    sync.Mutex
	drift drifts
}

// New gives the samples of a service.
func New(b *base.Base, topics *topics.Topics, jobs *jobs.Jobs) *Samples {
	return &Samples{Base: b, topics: topics, jobs: jobs, drift: drifts{}}
}

// SampleInfo is about a number of messages that somebody has recorded or uploaded.
type SampleInfo struct {
	ID       uint      `json:"id"`
	Name     string    `json:"name"`
	Origin   string    `json:"origin" doc:"where the messages are from, in words"`
	Format   string    `json:"format" enum:"json,csv,text"`
	Header   []string  `json:"header,omitempty" doc:"of CSV: the names of the fields"`
	Messages int       `json:"messages"`
	Bytes    int       `json:"bytes"`
	At       time.Time `json:"at"`
}

// SampleDetail is a sample with some of its messages.
type SampleDetail struct {
	SampleInfo
	First []topics.Message `json:"first" doc:"the first messages"`
}

// SampleRequest says what a sample is made of: an uploaded file, messages of a topic, a file on the service's machine, or
// a table of a database.
type SampleRequest struct {
	Name      string    `json:"name,omitempty" maxLength:"190" doc:"what it is called; made up where left out"`
	Data      []byte    `json:"data,omitempty" doc:"an uploaded file, in base64"`
	File      string    `json:"file,omitempty" doc:"the name of the uploaded file; without data: a file on the machine of the service"`
	Format    string    `json:"format,omitempty" enum:"json,csv,text,avro,parquet," doc:"of the file; found out where left out"`
	NoHeader  bool      `json:"no_header,omitempty" doc:"of CSV: the first record is no header"`
	Topic     string    `json:"topic,omitempty"`
	Partition *int      `json:"partition,omitempty" doc:"of the topic; all where left out"`
	From      *int64    `json:"from,omitempty" doc:"an offset of the partition"`
	Since     time.Time `json:"since,omitzero" doc:"messages of the topic that arrived then or later"`
	Table     string    `json:"table,omitempty" doc:"a table of a database"`
	Via       string    `json:"via,omitempty" doc:"the endpoint of the database"`
	Limit     int       `json:"limit,omitempty" minimum:"0" doc:"messages at most, 1000 where left out; of a topic the newest where neither from nor since is given"`
}

// What a sample may hold.
const (
	usualMessages = 1000
	MostMessages  = 50_000
	firstMessages = 50
)

// material is what a sample is made of, before it is kept.
type material struct {
	name, origin, format string
	header               []string
	messages             []recorded.Message
	delimiter            rune   // of CSV in a file; its messages have commas
	packed               string // what its file is packed with
	topic                string // where it is from
	table                *tableMaterial
}

// tableMaterial is a table of a database: its columns tell what a declaration needs.
type tableMaterial struct {
	via, name string
	columns   []mariadb.TableColumn
}

// gather takes together what a request asks for.
func (s *Samples) gather(ctx context.Context, r SampleRequest) (*material, error) {
	limit := r.Limit
	if limit == 0 {
		limit = usualMessages
	}
	limit = min(limit, MostMessages)
	m := &material{name: r.Name}
	switch {
	case r.Data != nil || r.File != "":
		m, err := gatherFile(s.Files, r, limit)
		if errors.Is(err, errNoFile) {
			err = base.Errorf(base.ErrRefused, "%s on the machine of the service", err)
		}
		return m, err
	case r.Topic != "":
		read := topics.Reading{Partition: -1, From: -1, Since: r.Since, Limit: limit}
		if r.Partition != nil {
			read.Partition = *r.Partition
		}
		if r.From != nil {
			read.From = *r.From
		}
		t, err := s.topics.Named(r.Topic)
		if err != nil {
			return nil, err
		}
		if r.Since.IsZero() && read.From < 0 {
			read.Last = max(1, limit/len(t.Partitions()))
		}
		all, err := s.topics.Recorded(r.Topic, read)
		if err != nil {
			return nil, err
		}
		if len(all) == 0 {
			return nil, base.Errorf(base.ErrRefused, "the topic '%s' has no messages there", r.Topic)
		}
		m.origin, m.topic, m.messages, m.format = "topic "+r.Topic, r.Topic, all, formatOf(all)
		if m.name == "" {
			m.name = NameOf(r.Topic, "topic")
		}
	case r.Table != "":
		e := s.Current().Endpoints[r.Via]
		if e == nil {
			return nil, base.Errorf(base.ErrNotFound, "no endpoint is called %q", r.Via)
		}
		var err error
		if m, err = s.gatherTable(ctx, e, r.Table, limit); err != nil {
			return nil, err
		}
		m.name = r.Name
		if m.name == "" {
			m.name = NameOf(r.Table, "table")
		}
	default:
		return nil, base.Errorf(base.ErrRefused, "say what the sample is made of: data, file, topic or table")
	}
	return m, nil
}

// gatherTable takes the columns and the first rows of a table.
func (s *Samples) gatherTable(ctx context.Context, e *plan.Endpoint, table string, limit int) (*material, error) {
	columns, rows, err := mariadb.Sample(ctx, e, table, limit, s.Databases)
	if err != nil {
		return nil, base.Errorf(base.ErrRefused, "%s", err)
	}
	m := &material{origin: fmt.Sprintf("table %s via %s", table, e.Name), format: "json", table: &tableMaterial{e.Name, table, columns}}
	for i, v := range rows {
		m.messages = append(m.messages, recorded.Message{Offset: int64(i), At: time.Now().UnixMicro(), Value: v})
	}
	return m, nil
}

// gatherFile takes the messages of a file, or of one that was uploaded.
func gatherFile(roots *files.Roots, r SampleRequest, limit int) (*material, error) {
	m := &material{name: r.Name}
	data := r.Data
	m.origin = "file " + r.File
	if data == nil {
		var err error
		if data, err = readSome(roots, r.File); errors.Is(err, errNoFile) {
			return nil, err
		} else if err != nil {
			return nil, base.Errorf(base.ErrRefused, "%s", err)
		}
	} else if r.File == "" {
		m.origin = "an uploaded file"
	}
	if len(data) > topics.MostBytes {
		return nil, base.Errorf(base.ErrRefused, "the file has %d bytes, a sample at most %d; take a part of it", len(data), topics.MostBytes)
	}
	data, packed, err := container.Unpacked(data, topics.MostBytes)
	if err != nil {
		return nil, base.Errorf(base.ErrRefused, "%s: %s", m.origin, err)
	}
	m.packed = packed
	f := r.Format
	if f == "" {
		f = container.FormatOf(r.File, data)
	}
	values, header, err := container.Messages(f, data, !r.NoHeader, limit)
	if err != nil {
		return nil, base.Errorf(base.ErrRefused, "%s: %s", m.origin, err)
	}
	if m.format = f; f == "avro" || f == "parquet" {
		m.format = "json"
	}
	m.header = header
	if f == "csv" {
		m.delimiter = container.Delimiter(data)
	}
	now := time.Now().UnixMicro()
	for i, v := range values {
		m.messages = append(m.messages, recorded.Message{Offset: int64(i), At: now, Value: v})
	}
	if m.name == "" {
		m.name = NameOf(filepath.Base(r.File), "upload")
	}
	return m, nil
}

var errNoFile = errors.New("there is no file")

// readSome reads a file, or the first of a directory or a pattern, up to what a sample may hold.
func readSome(roots *files.Roots, address string) ([]byte, error) {
	names, err := roots.Names(address)
	if err != nil {
		if path, perr := roots.Path(address); perr == nil {
			if _, serr := os.Stat(path); errors.Is(serr, os.ErrNotExist) {
				return nil, fmt.Errorf("%w %s", errNoFile, address)
			}
		}
		return nil, err
	}
	path := names[0]
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b := make([]byte, topics.MostBytes)
	n, err := f.ReadAt(b, 0)
	if n == 0 && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if n < len(b) {
		return b[:n], nil
	}
	if cut := bytes.LastIndexByte(b[:n], '\n'); cut > 0 { // whole lines
		n = cut + 1
	}
	return b[:n], nil
}

// formatOf guesses the format of messages.
func formatOf(ms []recorded.Message) string {
	object, commas := 0, 0
	for _, m := range ms {
		if t := bytes.TrimLeft(m.Value, " \t"); len(t) > 0 && t[0] == '{' {
			object++
		} else if bytes.IndexByte(t, ',') >= 0 {
			commas++
		}
	}
	switch {
	case 2*object >= len(ms):
		return "json"
	case 10*commas >= 9*len(ms):
		return "csv"
	}
	return "text"
}

// NameOf makes an identifier of something's name.
func NameOf(text, otherwise string) string {
	if i := strings.IndexByte(text, '.'); i > 0 {
		text = text[:i]
	}
	var b strings.Builder
	for _, r := range strings.ToLower(text) {
		if r == '_' || 'a' <= r && r <= 'z' || '0' <= r && r <= '9' && b.Len() > 0 {
			b.WriteRune(r)
		} else if b.Len() > 0 {
			b.WriteByte('_')
		}
	}
	if name := strings.Trim(b.String(), "_"); name != "" && sql.Quoted(name) == name {
		return name
	}
	return otherwise
}

// kept is how a message is written in the catalog.
type kept struct {
	Partition int     `json:"p,omitempty"`
	Offset    int64   `json:"o"`
	At        int64   `json:"t"`
	Key       []byte  `json:"k,omitempty"`
	Text      *string `json:"v,omitempty"`
	Bytes     []byte  `json:"b,omitempty"` // where it is no text
}

// Keep keeps messages to try queries on.
func (s *Samples) Keep(ctx context.Context, actor string, r SampleRequest) (*SampleDetail, error) {
	ctx, answered, err := s.Ask(ctx)
	if err != nil {
		return nil, err
	}
	defer answered()
	m, err := s.gather(ctx, r)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	e := json.NewEncoder(z)
	size := 0
	for _, x := range m.messages {
		k := kept{Partition: x.Partition, Offset: x.Offset, At: x.At, Key: x.Key}
		if utf8.Valid(x.Value) {
			text := string(x.Value)
			k.Text = &text
		} else {
			k.Bytes = x.Value
		}
		size += len(x.Value)
		if err := e.Encode(k); err != nil {
			return nil, err
		}
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	if b.Len() > topics.MostBytes {
		return nil, base.Errorf(base.ErrRefused, "the sample has too many bytes; take fewer messages than %d", len(m.messages))
	}
	row := catalog.Sample{Name: m.name, Origin: m.origin, Format: m.format, Messages: len(m.messages), Bytes: size, Data: b.Bytes()}
	if m.header != nil {
		h, _ := json.Marshal(m.header)
		row.Header = string(h)
	}
	if err := s.Store.PutSample(&row); err != nil {
		return nil, err
	}
	s.Note(actor, "kept", "sample "+strconv.Itoa(int(row.ID)), fmt.Sprintf("%d messages of %s", row.Messages, row.Origin))
	return &SampleDetail{sampleInfo(row), firstOf(m.messages)}, nil
}

func firstOf(ms []recorded.Message) []topics.Message {
	out := []topics.Message{}
	for _, m := range ms[:min(len(ms), firstMessages)] {
		out = append(out, topics.MessageOf(m))
	}
	return out
}

func sampleInfo(row catalog.Sample) SampleInfo {
	out := SampleInfo{ID: row.ID, Name: row.Name, Origin: row.Origin, Format: row.Format, Messages: row.Messages, Bytes: row.Bytes, At: row.CreatedAt}
	if row.Header != "" {
		_ = json.Unmarshal([]byte(row.Header), &out.Header) // it was written so
	}
	return out
}

// List gives all samples, the newest first.
func (s *Samples) List() ([]SampleInfo, error) {
	rows, err := s.Store.Samples()
	out := []SampleInfo{}
	for _, r := range rows {
		out = append(out, sampleInfo(r))
	}
	return out, err
}

// Messages reads a sample with all its messages.
func (s *Samples) Messages(id uint) (SampleInfo, []recorded.Message, error) {
	row, err := s.Store.SampleOf(id)
	if err != nil {
		return SampleInfo{}, nil, err
	}
	if row == nil {
		return SampleInfo{}, nil, base.Errorf(base.ErrNotFound, "there is no sample %d", id)
	}
	z, err := gzip.NewReader(bytes.NewReader(row.Data))
	if err != nil {
		return SampleInfo{}, nil, err
	}
	var out []recorded.Message
	for d := json.NewDecoder(z); d.More(); {
		var k kept
		if err := d.Decode(&k); err != nil {
			return SampleInfo{}, nil, err
		}
		m := recorded.Message{Partition: k.Partition, Offset: k.Offset, At: k.At, Key: k.Key, Value: k.Bytes}
		if k.Text != nil {
			m.Value = []byte(*k.Text)
		}
		out = append(out, m)
	}
	return sampleInfo(*row), out, nil
}

// Get gives one sample with its first messages.
func (s *Samples) Get(id uint) (*SampleDetail, error) {
	info, ms, err := s.Messages(id)
	if err != nil {
		return nil, err
	}
	return &SampleDetail{info, firstOf(ms)}, nil
}

// Drop forgets a sample.
func (s *Samples) Drop(actor string, id uint) error {
	ok, err := s.Store.DropSample(id)
	if err == nil && !ok {
		return base.Errorf(base.ErrNotFound, "there is no sample %d", id)
	}
	if err == nil {
		s.Note(actor, "dropped", "sample "+strconv.Itoa(int(id)), "")
	}
	return err
}

// Fitted gives a sample's messages as a stream reads them.
func Fitted(info SampleInfo, ms []recorded.Message, st *plan.Stream) ([]recorded.Message, error) {
	format := st.Options.Word("format", "json")
	if st.Place == "mariadb" {
		format = "json"
	}
	switch {
	case format == "text": // any message is a line
		return ms, nil
	case format == "json" && info.Format == "csv" && info.Header != nil:
		return asObjects(info.Header, ms, st.Columns), nil
	case info.Format != format:
		return nil, base.Errorf(base.ErrRefused, "the sample %s is %s, and %s reads %s", info.Name, strings.ToUpper(info.Format), st.Name, strings.ToUpper(format))
	}
	if format != "csv" || info.Header == nil {
		return ms, nil
	}
	dialect, err := formats.CSVOf(st.Options)
	if err != nil {
		return nil, err
	}
	// A topic's records have no header: the fields are put into the order of the columns.
	at := make([]int, len(st.Columns))
	for i, c := range st.Columns {
		at[i] = slices.IndexFunc(info.Header, func(h string) bool { return strings.EqualFold(strings.TrimSpace(h), c.Name) })
	}
	out := slices.Clone(ms)
	for i, m := range out {
		rec, err := container.CSVFields(m.Value)
		if err != nil {
			continue // it is a bad row there, too
		}
		fields := make([]string, len(at))
		for k, f := range at {
			if f >= 0 && f < len(rec) {
				fields[k] = rec[f]
			}
		}
		out[i].Value = container.CSVRecordWith(fields, rune(dialect.Delimiter))
	}
	return out, nil
}

// asObjects makes JSON of records with a header: each column that the header names gets its field, an empty one is null.
func asObjects(header []string, ms []recorded.Message, columns []types.Field) []recorded.Message {
	out := slices.Clone(ms)
	for i, m := range ms {
		rec, err := container.CSVFields(m.Value)
		if err != nil {
			continue // it is a bad row there, too
		}
		b := []byte{'{'}
		for k, h := range header {
			h = strings.TrimSpace(h)
			if k >= len(rec) {
				break
			}
			kind := types.Varchar
			if c := slices.IndexFunc(columns, func(f types.Field) bool { return strings.EqualFold(f.Name, h) }); c >= 0 {
				h, kind = columns[c].Name, columns[c].Type.Kind
			}
			if len(b) > 1 {
				b = append(b, ',')
			}
			name, _ := json.Marshal(h) // a text can be written
			b = append(append(b, name...), ':')
			b = append(b, jsonField(rec[k], kind)...)
		}
		out[i].Value = append(b, '}')
	}
	return out
}

// jsonField is a field of CSV as a JSON value for a column of a kind.
func jsonField(text string, kind types.Kind) []byte {
	trimmed := strings.TrimSpace(text)
	switch {
	case trimmed == "":
		return []byte("null")
	case kind != types.Varchar && kind != types.Timestamp && json.Valid([]byte(trimmed)): // a number, a truth value, an array
		return []byte(trimmed)
	}
	b, _ := json.Marshal(text)
	return b
}
