package api

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"fiume/internal/service"
	"fiume/internal/topiclog"

	"github.com/gin-gonic/gin"
)

// The front door: messages that come as they are, in a body of any length, which is written while it comes. The kind of the body says where a message
// ends:
//
//	application/x-ndjson                a line each, which is JSON
//	application/json with ?rows=true    the elements of an array each, or the one object
//	text/csv                            a record each; ?header=true: the first one names the fields, and is none
//	application/octet-stream            the body is one
//	application/cloudevents+json        the event is one (structured mode of CloudEvents 1.0, HTTP binding 3.2)
//	application/cloudevents-batch+json  the elements of the array (3.3)
//	any, with the header ce-specversion the body is one (binary mode, 3.1)
//
// The key of a message is the field that ?key= names, or of an event its partitionkey or subject. Under ?batch= a body that is sent again is
// written once; an event has its source and id for that.

// What of a body is written at a time, and the longest message.
const (
	doorMessages = 5000
	doorBytes    = 4 << 20
	longestRow   = 32 << 20
	// slowest is how long the next bytes of a body may take.
	slowest = time.Minute
)

// doorKinds are the kinds of bodies that come through. None of them can be sent by a page of another site without being asked.
var doorKinds = []string{"application/x-ndjson", "text/csv", "application/octet-stream", "application/cloudevents+json", "application/cloudevents-batch+json"}

// doorOf gives the topic that a request writes to by the front door, and the kind of its body.
func doorOf(r *http.Request) (topic, kind string, ok bool) {
	name, found := strings.CutPrefix(r.URL.EscapedPath(), "/api/topics/")
	name, ends := strings.CutSuffix(name, "/messages")
	if r.Method != http.MethodPost || !found || !ends || strings.Contains(name, "/") {
		return "", "", false
	}
	topic, err := url.PathUnescape(name)
	if err != nil {
		return "", "", false
	}
	kind, _, _ = mime.ParseMediaType(r.Header.Get("Content-Type"))
	for _, k := range doorKinds {
		if k == kind {
			return topic, kind, true
		}
	}
	if r.Header.Get("Ce-Specversion") != "" && kind != "" {
		return topic, "event", true
	}
	return topic, kind, kind == "application/json" && r.URL.Query().Get("rows") == "true"
}

// door writes what comes through the front door.
func (g *gate) door(c *gin.Context) {
	topic, kind, ok := doorOf(c.Request)
	if !ok {
		return
	}
	const op = "write-messages"
	ctx := c.Request.Context()
	if p := g.refusal(ctx, needs[op], topic); p != nil {
		g.refused(ctx, op, topic, p.Status)
		c.Writer.Header().Set("Content-Type", p.ContentType(""))
		c.Header("Connection", "close")
		c.AbortWithStatusJSON(p.Status, p)
		return
	}
	defer func() { g.did(ctx, op, http.MethodPost, needs[op], topic, c.Writer.Status()) }()
	d := &doorway{s: g.s, topic: topic, kind: kind, batch: c.Query("batch"), key: c.Query("key"), header: c.Query("header") == "true", r: c.Request}
	err := d.open(http.NewResponseController(c.Writer))
	if err == nil {
		c.AbortWithStatusJSON(http.StatusOK, Written{Written: d.written, Again: d.again && d.chunks > 0})
		return
	}
	var p *Problem
	if !errors.As(err, &p) {
		p = problem(err).(*Problem)
	}
	if d.written > 0 {
		p.Detail += fmt.Sprintf("; the %d messages before are written", d.written)
		if d.batch == "" {
			p.Detail += ", and would be there twice if the body were sent again without a batch"
		}
	}
	c.Writer.Header().Set("Content-Type", p.ContentType(""))
	c.Header("Connection", "close") // the rest of the body is not wanted
	c.AbortWithStatusJSON(p.Status, p)
}

// doorway is one body.
type doorway struct {
	s          *service.Service
	topic      string
	kind       string
	batch, key string
	header     bool
	r          *http.Request

	recs    []topiclog.Record
	bytes   int
	read    int // messages
	written int
	chunks  int
	again   bool // all that was written had been there
}

func refused(format string, args ...any) error {
	return &Problem{Status: http.StatusUnprocessableEntity, Title: http.StatusText(http.StatusUnprocessableEntity), Detail: fmt.Sprintf(format, args...)}
}

// patient reads a body as long as something comes.
type patient struct {
	in io.Reader
	c  *http.ResponseController
}

func (p *patient) Read(b []byte) (int, error) {
	_ = p.c.SetReadDeadline(time.Now().Add(slowest))
	return p.in.Read(b)
}

func (d *doorway) open(c *http.ResponseController) error {
	if _, err := d.s.Topics.Named(d.topic); err != nil {
		return err
	}
	defer func() { _ = c.SetReadDeadline(time.Time{}) }()
	var body io.Reader = &patient{d.r.Body, c}
	switch e := d.r.Header.Get("Content-Encoding"); e {
	case "", "identity":
	case "gzip":
		z, err := gzip.NewReader(body)
		if err != nil {
			return refused("the body is not packed with gzip: %s", err)
		}
		body = z
	default:
		return &Problem{Status: http.StatusUnsupportedMediaType, Title: "Unsupported Media Type", Detail: fmt.Sprintf("bodies may be packed with gzip, and this is %s", e)}
	}
	d.again = true
	var err error
	switch d.kind {
	case "application/x-ndjson":
		err = d.lines(body, false)
	case "text/csv":
		err = d.lines(body, true)
	case "application/octet-stream", "event":
		err = d.whole(body)
	default:
		err = d.elements(body)
	}
	if err != nil {
		return err
	}
	return d.flush()
}

// add takes a message. The key stands where its kind says.
func (d *doorway) add(value []byte, key []byte) error {
	d.read++
	d.recs = append(d.recs, topiclog.Record{Key: key, Value: value})
	d.bytes += len(value) + len(key)
	if len(d.recs) >= doorMessages || d.bytes >= doorBytes {
		return d.flush()
	}
	return nil
}

// flush writes what has come. The same body is always cut at the same places, so that a batch that comes again is known piece by piece.
func (d *doorway) flush() error {
	if len(d.recs) == 0 {
		return nil
	}
	name := d.batch
	if name != "" {
		name = fmt.Sprintf("%s/%d", name, d.chunks)
	}
	again, err := d.s.Topics.Write(d.topic, name, d.recs)
	if err != nil {
		return err
	}
	d.written += len(d.recs)
	d.chunks++
	d.again = d.again && again
	d.recs, d.bytes = nil, 0
	return nil
}

// keyOf gives the field of a JSON object that is the key, as text.
func keyOf(object []byte, fields ...string) []byte {
	var all map[string]json.RawMessage
	if json.Unmarshal(object, &all) != nil {
		return nil
	}
	for _, f := range fields {
		raw, ok := all[f]
		if !ok || string(raw) == "null" {
			continue
		}
		var text string
		if json.Unmarshal(raw, &text) == nil {
			return []byte(text)
		}
		return raw
	}
	return nil
}

// lines takes a message of each line that is not blank; of CSV of each record, which may have ends of lines in quotes.
func (d *doorway) lines(body io.Reader, csv bool) error {
	in := bufio.NewReaderSize(body, 1<<20)
	var row []byte
	line, first, quoted := 0, d.header, false
	for {
		part, err := in.ReadSlice('\n')
		if len(row)+len(part) > longestRow {
			return refused("line %d is longer than %d MB", line+1, longestRow>>20)
		}
		row = append(row, part...)
		if csv {
			quoted = quoted != (bytes.Count(part, []byte{'"'})%2 == 1)
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull), err == nil && quoted:
			continue
		case err != nil && !errors.Is(err, io.EOF):
			return d.broken(err)
		}
		line++
		text := bytes.TrimRight(row, "\r\n")
		if trimmed := bytes.TrimSpace(text); len(trimmed) > 0 {
			switch {
			case !utf8.Valid(text):
				return refused("line %d is no UTF-8", line)
			case !csv && !json.Valid(trimmed):
				return refused("line %d is no JSON", line)
			case csv && first:
				first = false
			default:
				var key []byte
				if d.key != "" && !csv {
					key = keyOf(trimmed, d.key)
				}
				if err := d.add(bytes.Clone(text), key); err != nil {
					return err
				}
			}
		}
		if err != nil {
			return nil
		}
		row = row[:0]
	}
}

// broken says that a body did not come to its end.
func (d *doorway) broken(err error) error {
	return &Problem{Status: http.StatusBadRequest, Title: "Bad Request", Detail: fmt.Sprintf("the body broke off behind message %d: %s", d.read, err)}
}

// whole takes the body as one message.
func (d *doorway) whole(body io.Reader) error {
	b, err := io.ReadAll(io.LimitReader(body, longestRow+1))
	if err != nil {
		return d.broken(err)
	}
	if len(b) > longestRow {
		return refused("the message is longer than %d MB", longestRow>>20)
	}
	var key []byte
	if d.kind == "event" {
		h := d.r.Header
		for _, name := range []string{"Ce-Partitionkey", "Ce-Subject"} {
			if key == nil && h.Get(name) != "" {
				key = []byte(h.Get(name))
			}
		}
		if h.Get("Ce-Id") == "" || h.Get("Ce-Source") == "" || h.Get("Ce-Type") == "" {
			return refused("an event has the headers ce-id, ce-source and ce-type")
		}
		d.name(h.Get("Ce-Source"), h.Get("Ce-Id"))
	} else if k := d.r.URL.Query().Get("key"); k != "" {
		key = []byte(k) // of bytes, the key itself
	}
	return d.add(b, key)
}

// name has an event be written once, however often it comes.
func (d *doorway) name(source, id string) {
	if d.batch == "" {
		d.batch = "event " + source + " " + id
	}
}

// elements takes the elements of an array, or one object.
func (d *doorway) elements(body io.Reader) error {
	limited := &countedReader{in: body}
	in := json.NewDecoder(limited)
	event := strings.HasPrefix(d.kind, "application/cloudevents")
	take := func() error {
		var raw json.RawMessage
		limited.left = longestRow
		if err := in.Decode(&raw); err != nil {
			var syntax *json.SyntaxError
			switch {
			case errors.Is(err, errLong):
				return refused("message %d is longer than %d MB", d.read+1, longestRow>>20)
			case errors.As(err, &syntax), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
				return refused("message %d is no JSON: %s", d.read+1, err)
			}
			return d.broken(err)
		}
		if !utf8.Valid(raw) {
			return refused("message %d is no UTF-8", d.read+1)
		}
		var key []byte
		switch {
		case event:
			var e struct{ ID, Source, Type, Specversion string }
			if err := json.Unmarshal(raw, &e); err != nil || e.ID == "" || e.Source == "" || e.Type == "" || e.Specversion == "" {
				return refused("message %d is no event: it has id, source, type and specversion", d.read+1)
			}
			if d.kind == "application/cloudevents+json" {
				d.name(e.Source, e.ID)
			}
			key = keyOf(raw, "partitionkey", "subject")
		case d.key != "":
			key = keyOf(raw, d.key)
		}
		return d.add(bytes.Clone(raw), key)
	}
	first, err := peek(limited)
	if err != nil {
		return refused("the body is no JSON: %s", err)
	}
	if first != '[' {
		if d.kind == "application/cloudevents-batch+json" {
			return refused("expected an array of events")
		}
		if err := take(); err != nil {
			return err
		}
	} else {
		if d.kind == "application/cloudevents+json" {
			return refused("expected one event; several are sent as application/cloudevents-batch+json")
		}
		if _, err := in.Token(); err != nil {
			return refused("the body is no JSON: %s", err)
		}
		for limited.left = longestRow; in.More(); limited.left = longestRow {
			if err := take(); err != nil {
				return err
			}
		}
		if _, err := in.Token(); err != nil {
			return refused("the array does not end behind message %d: %s", d.read, err)
		}
	}
	limited.left = 1 << 20
	if _, err := in.Token(); !errors.Is(err, io.EOF) {
		return refused("something stands behind the JSON")
	}
	return nil
}

// peek gives the first byte that is not blank. The decoder reads on from there.
func peek(limited *countedReader) (byte, error) {
	limited.left = longestRow
	for {
		var b [1]byte
		if _, err := io.ReadFull(limited, b[:]); err != nil {
			return 0, err
		}
		if b[0] != ' ' && b[0] != '\t' && b[0] != '\n' && b[0] != '\r' {
			limited.in = io.MultiReader(bytes.NewReader(b[:]), limited.in)
			return b[0], nil
		}
	}
}

var errLong = errors.New("too long")

// countedReader reads so many bytes and no more.
type countedReader struct {
	in   io.Reader
	left int
}

func (c *countedReader) Read(b []byte) (int, error) {
	if c.left <= 0 {
		return 0, errLong
	}
	n, err := c.in.Read(b[:min(len(b), c.left)])
	c.left -= n
	return n, err
}
