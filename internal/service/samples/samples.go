// Package samples looks at messages: it keeps some to try queries on, finds the columns they have, proposes a declaration,
// and sees where a stream has drifted away from its own.
package samples

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"fiume/internal/catalog"
	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/recorded"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	formats "fiume/internal/format"
	"fiume/internal/format/container"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/jobs"
	"fiume/internal/service/sensitive"
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
	Space     string    `json:"space,omitempty" maxLength:"60" doc:"the space that the sample stands in; where left out that of the topic or the endpoint, or the one that the caller develops in"`
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
	*contract.Sample
	name  string
	space string
	topic string         // where it is from
	table string         // the same
	via   *plan.Endpoint // of the table
}

// gather takes together what a request asks for.
func (s *Samples) gather(ctx context.Context, r SampleRequest) (*material, error) {
	w := contract.Wanted{Limit: min(cmp.Or(r.Limit, usualMessages), MostMessages), Bytes: topics.MostBytes, Format: r.Format, Headless: r.NoHeader, Partition: -1, From: -1, Since: r.Since}
	m := &material{topic: r.Topic, table: r.Table}
	space, err := s.spaceFor(ctx, r)
	if err != nil {
		return nil, err
	}
	m.space = space
	if err := s.veilOf(ctx, r).Refuse("what is asked for"); err != nil {
		return nil, err
	}
	var from contract.Sampler
	switch {
	case r.Data != nil || r.File != "":
		from, w.Address, w.Data = connect.UploadedTo, r.File, r.Data
	case r.Topic != "":
		if r.Partition != nil {
			w.Partition = *r.Partition
		}
		if r.From != nil {
			w.From = *r.From
		}
		if _, err := s.topics.Named(r.Topic); err != nil { // it suggests another name
			return nil, err
		}
		from, w.Address, w.Format = connect.OwnTopics, r.Topic, ""
	case r.Table != "":
		if m.via = s.Current().Endpoints[r.Via]; m.via == nil {
			return nil, base.Errorf(base.ErrNotFound, "no endpoint is called %q", r.Via)
		}
		var ok bool
		if from, ok = connect.Of(m.via.Place).(contract.Sampler); !ok {
			return nil, base.Errorf(base.ErrRefused, "what lies behind %s cannot be looked at", r.Via)
		}
		w.Address, w.Via = r.Table, m.via
	default:
		return nil, base.Errorf(base.ErrRefused, "say what the sample is made of: data, file, topic or table")
	}
	if m.Sample, err = from.Sample(ctx, s.Env(), w); err != nil {
		if errors.Is(err, os.ErrNotExist) { // the caller's machine may have it
			err = fmt.Errorf("%w on the machine of the service", err)
		}
		return nil, base.Errorf(base.ErrRefused, "%s", err)
	}
	if m.name = r.Name; m.name == "" {
		otherwise := "upload"
		switch {
		case r.Topic != "":
			otherwise = "topic"
		case r.Table != "":
			otherwise = "table"
		}
		m.name = NameOf(m.Sample.Name, otherwise)
	}
	return m, nil
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
	Headers   []byte  `json:"h,omitempty"`
	Text      *string `json:"v,omitempty"`
	Bytes     []byte  `json:"b,omitempty"` // where it is no text
}

// packed writes messages as the catalog keeps them, and counts their bytes.
func packed(ms []recorded.Message) (data []byte, size int, err error) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	e := json.NewEncoder(z)
	for _, x := range ms {
		k := kept{Partition: x.Partition, Offset: x.Offset, At: x.At, Key: x.Key, Headers: x.Headers}
		if utf8.Valid(x.Value) {
			text := string(x.Value)
			k.Text = &text
		} else {
			k.Bytes = x.Value
		}
		size += len(x.Value)
		if err := e.Encode(k); err != nil {
			return nil, 0, err
		}
	}
	if err := z.Close(); err != nil {
		return nil, 0, err
	}
	if b.Len() > topics.MostBytes {
		return nil, 0, base.Errorf(base.ErrRefused, "the sample has too many bytes; take fewer messages than %d", len(ms))
	}
	return b.Bytes(), size, nil
}

// unpacked reads the messages of a sample.
func unpacked(row *catalog.Sample) (out []recorded.Message, err error) {
	z, err := gzip.NewReader(bytes.NewReader(row.Data))
	if err != nil {
		return nil, err
	}
	for d := json.NewDecoder(z); d.More(); {
		var k kept
		if err := d.Decode(&k); err != nil {
			return nil, err
		}
		m := recorded.Message{Partition: k.Partition, Offset: k.Offset, At: k.At, Key: k.Key, Headers: k.Headers, Value: k.Bytes}
		if k.Text != nil {
			m.Value = []byte(*k.Text)
		}
		out = append(out, m)
	}
	return out, nil
}

// Forget removes the messages of all samples that match, and gives how many there were; samples that have no other are dropped. try changes nothing.
func (s *Samples) Forget(try bool, match func(info SampleInfo, m *recorded.Message) bool) (n int, err error) {
	rows, err := s.Store.Samples()
	if err != nil {
		return 0, err
	}
	for _, r := range rows {
		row, err := s.Store.SampleOf(r.ID)
		if err != nil {
			return n, err
		}
		if row == nil {
			continue
		}
		all, err := unpacked(row)
		if err != nil {
			return n, fmt.Errorf("the sample %d: %w", r.ID, err)
		}
		info := sampleInfo(*row)
		left := slices.DeleteFunc(slices.Clone(all), func(m recorded.Message) bool { return match(info, &m) })
		gone := len(all) - len(left)
		if gone == 0 {
			continue
		}
		if n += gone; try {
			continue
		}
		fresh := *row
		fresh.Messages = len(left)
		if fresh.Data, fresh.Bytes, err = packed(left); err != nil {
			return n, err
		}
		if _, err := s.Store.DropSample(row.ID); err != nil {
			return n, err
		}
		if len(left) > 0 {
			if err := s.Store.PutSample(&fresh); err != nil {
				return n, err
			}
		}
	}
	return n, nil
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
	data, size, err := packed(m.Messages)
	if err != nil {
		return nil, err
	}
	row := catalog.Sample{Name: m.name, Origin: m.Origin, Format: m.Format, Messages: len(m.Messages), Bytes: size, Data: data, Space: m.space, Owner: ownerOf(ctx)}
	if all := s.sensitiveIn(r); len(all) > 0 {
		marks, _ := json.Marshal(all)
		row.Sensitive = string(marks)
	}
	if m.Header != nil {
		h, _ := json.Marshal(m.Header)
		row.Header = string(h)
	}
	if err := s.Store.PutSample(&row); err != nil {
		return nil, err
	}
	s.Note(actor, "kept", "sample "+strconv.Itoa(int(row.ID)), fmt.Sprintf("%d messages of %s", row.Messages, row.Origin))
	return &SampleDetail{sampleInfo(row), firstOf(m.Messages)}, nil
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
func (s *Samples) List(ctx context.Context) ([]SampleInfo, error) {
	rows, err := s.Store.Samples()
	out := []SampleInfo{}
	for _, r := range rows {
		if !mayRead(ctx, &r) {
			continue
		}
		out = append(out, sampleInfo(r))
	}
	return out, err
}

// Messages reads a sample with all its messages.
func (s *Samples) Messages(ctx context.Context, id uint) (SampleInfo, []recorded.Message, error) {
	row, err := s.Store.SampleOf(id)
	if err != nil {
		return SampleInfo{}, nil, err
	}
	if row == nil || !mayRead(ctx, row) {
		return SampleInfo{}, nil, base.Errorf(base.ErrNotFound, "there is no sample %d", id)
	}
	out, err := unpacked(row)
	if err != nil {
		return SampleInfo{}, nil, err
	}
	var columns []plan.SensitiveColumn
	if row.Sensitive != "" {
		if err := json.Unmarshal([]byte(row.Sensitive), &columns); err != nil {
			return SampleInfo{}, nil, fmt.Errorf("the sample %d: %w", id, err)
		}
	}
	return sampleInfo(*row), sensitive.OfColumns(ctx, s.Base, columns).Messages(out), nil
}

// Get gives one sample with its first messages.
func (s *Samples) Get(ctx context.Context, id uint) (*SampleDetail, error) {
	info, ms, err := s.Messages(ctx, id)
	if err != nil {
		return nil, err
	}
	return &SampleDetail{info, firstOf(ms)}, nil
}

// Drop forgets a sample.
func (s *Samples) Drop(ctx context.Context, actor string, id uint) error {
	row, err := s.Store.SampleOf(id)
	if err != nil {
		return err
	}
	if row != nil && !mayRead(ctx, row) {
		row = nil
	}
	if row == nil {
		return base.Errorf(base.ErrNotFound, "there is no sample %d", id)
	}
	if c := access.From(ctx); c != nil && c.Name != row.Owner && !c.In(access.Develop, row.Space) {
		return base.Errorf(base.ErrDenied, "%s", c.Missing(access.Develop, row.Space))
	}
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
	if !plan.Takes(connect.Of(st.Place).Place().Source, "format") {
		format = "json" // its rows have no format of their own
	}
	switch {
	case format == "text": // any message is a line
		return ms, nil
	case format == "json" && info.Format == "csv" && info.Header != nil:
		return asObjects(info.Header, ms, st.InValues()), nil
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
	at := make([]int, len(st.InValues()))
	for i, c := range st.InValues() {
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

// mostEntries are shown of what lies in a place.
const mostEntries = 1000

// Browse shows what lies at an address behind an endpoint, or, without one, in the directories for files.
func (s *Samples) Browse(ctx context.Context, via, address string) (*contract.Browsed, error) {
	var at *plan.Endpoint
	var place contract.Connector = connect.UploadedTo
	top := via == "" && address == ""
	if err := s.mayReach(ctx, via, address); err != nil && !top {
		return nil, err
	}
	if via != "" {
		if at = s.Current().Endpoints[via]; at == nil {
			return nil, base.Errorf(base.ErrNotFound, "no endpoint is called %q", via)
		}
		place = connect.Of(at.Place)
	}
	b, ok := place.(contract.Browser)
	if !ok {
		return nil, base.Errorf(base.ErrRefused, "what lies behind %s cannot be looked at", via)
	}
	out, err := b.Browse(ctx, s.Env(), at, address, mostEntries)
	if errors.Is(err, os.ErrNotExist) {
		return nil, base.Errorf(base.ErrNotFound, "there is no %s", address)
	}
	if err != nil {
		return nil, base.Errorf(base.ErrRefused, "%s", err)
	}
	if top { // the directories that may be looked into
		out.Entries = slices.DeleteFunc(out.Entries, func(e contract.Entry) bool { return s.mayReach(ctx, "", e.Name) != nil })
	}
	return out, nil
}
