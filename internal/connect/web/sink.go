package web

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/spool"
	"fiume/internal/connect/text"
	"fiume/internal/connect/webclient"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"
	"fiume/internal/topiclog"

	"golang.org/x/sync/errgroup"
)

// Sink sends rows. In a run that takes checkpoints rows are spooled, and sent when a checkpoint counts; what of a delivery the service has taken is kept beside the spool
// now and then. What is sent again has the same Idempotency-Key.
type Sink struct {
	*spool.Sink
	client *webclient.Client
	out    *plan.Op
	w      *format.Writing
	method string
	rows   int // of a request at most
	array  bool
	kind   string
	body   text.Template // nil: the row in the format
	path   text.Template
	key    []int
	keep   bool
	aside  *topiclog.Topic
	spools bool
	run    string // names a run without checkpoints
	parts  int64  // payloads that it has written

	took taken // of the delivery at hand

	mu      sync.Mutex
	refused []flow.Refused // that were not asked for
}

var kinds = map[string]string{"json": "application/json", "csv": "text/csv; charset=utf-8", "text": "text/plain; charset=utf-8"}

// sinkOf reads a declaration.
func sinkOf(env *contract.Env, out *plan.Op) (*Sink, error) {
	o := out.Sink.Options
	s := &Sink{out: out, method: strings.ToUpper(o.Word("method", "post")), rows: o.Number("rows", 1), keep: o.Word("bad rows", "stop") == "keep", run: spool.NewWriter()}
	s.Sink = &spool.Sink{FS: env.FS(), Dir: env.Spool(out), Target: s}
	var err error
	if s.w, err = env.Writing(out, out.Fields); err == nil {
		err = s.w.Check()
	}
	if err != nil {
		return nil, err
	}
	f := o.Word("format", "json")
	s.array = o.Word("body", map[bool]string{true: "array", false: "lines"}[f == "json"]) == "array"
	if s.array && f != "json" {
		return nil, errors.New("BODY array is JSON: write FORMAT json, or BODY lines")
	}
	s.kind = kinds[f]
	if f == "json" && s.rows > 1 && !s.array {
		s.kind = "application/x-ndjson"
	}
	if f == "csv" && s.rows > 1 {
		s.kind += "; header=absent"
	}
	s.kind = o.Word("type", s.kind)
	if strings.ContainsAny(s.kind, "\r\n\x00") {
		return nil, errors.New("TYPE is a content type, such as 'text/plain'")
	}
	if s.path, err = text.TemplateOf("the address", out.Sink.Address, out.Fields); err != nil {
		return nil, err
	}
	if t, ok := o["template"]; ok {
		if s.body, err = text.TemplateOf("TEMPLATE", t.Word, out.Fields); err != nil {
			return nil, err
		}
	}
	if s.rows > 1 && (s.body != nil || !s.path.Fixed()) {
		return nil, errors.New("a TEMPLATE, and an address with columns in it, are of one row: leave ROWS out")
	}
	for _, name := range o.Names("key") {
		i := types.Type{Kind: types.Row, Fields: out.Fields}.FieldIndex(name)
		if i < 0 {
			return nil, fmt.Errorf("KEY names %q, which the rows do not have", name)
		}
		s.key = append(s.key, i)
	}
	if name := o.Word("aside", ""); name != "" {
		switch {
		case !s.keep:
			return nil, errors.New("ASIDE takes what is refused: write BAD ROWS keep too")
		case env.Topics == nil:
		default:
			if s.aside = env.Topics.Topic(name); s.aside == nil && !env.Coming[name] {
				return nil, fmt.Errorf("there is no topic '%s' for ASIDE; make it with CREATE TOPIC", name)
			}
		}
	}
	return s, nil
}

// encoder writes rows so that they can be spooled: for each the hash of its key, and the length before each, its path and its body.
type encoder struct {
	sink *Sink
	enc  format.Encoder
	fill *text.Filler
	buf  []byte
	part []byte
	rows int
}

// NewEncoder implements flow.Sink.
func (s *Sink) NewEncoder(fields []types.Field) (flow.Encoder, error) {
	enc, err := s.w.NewEncoder()
	return &encoder{sink: s, enc: enc, fill: text.NewFiller(fields)}, err
}

// Add implements flow.Encoder.
func (e *encoder) Add(b *column.Batch) {
	for i := range b.N {
		h := fnv.New32a()
		for _, k := range e.sink.key {
			e.part = types.AppendText(e.part[:0], b.Cols[k].Value(i))
			_, _ = h.Write(append(e.part, 0))
		}
		e.buf = binary.LittleEndian.AppendUint32(e.buf, h.Sum32())
		e.part = e.fill.Append(e.part[:0], e.sink.path, b, i, text.Escaped)
		e.buf = append(binary.AppendUvarint(e.buf, uint64(len(e.part))), e.part...)
		e.part = e.part[:0]
		if e.sink.body == nil {
			e.part = e.enc.Append(e.part, b, i)
		} else {
			e.part = e.fill.Append(e.part, e.sink.body, b, i, e.sink.how())
		}
		e.buf = append(binary.AppendUvarint(e.buf, uint64(len(e.part))), e.part...)
		e.rows++
	}
}

// how says how values stand in the template.
func (s *Sink) how() int {
	switch {
	case strings.Contains(s.kind, "json"):
		return text.AsJSON
	case strings.HasPrefix(s.kind, "application/x-www-form-urlencoded"):
		return text.Escaped
	}
	return text.Plain
}

// Held is how many bytes wait to be taken.
func (e *encoder) Held() int { return len(e.buf) }

// Take implements flow.Encoder.
func (e *encoder) Take() flow.Payload {
	p := flow.Payload{Rows: e.rows, Bytes: e.buf}
	e.buf, e.rows = nil, 0
	return p
}

// sent is a row to be sent.
type sent struct {
	number int // of the delivery
	key    uint32
	path   string
	body   []byte
}

// rowsOf reads the rows of a payload back.
func rowsOf(b []byte, to []sent) ([]sent, error) {
	part := func() ([]byte, bool) {
		n, k := binary.Uvarint(b)
		if k <= 0 || n > uint64(len(b)-k) {
			return nil, false
		}
		x := b[k : k+int(n)]
		b = b[k+int(n):]
		return x, true
	}
	for len(b) > 0 {
		if len(b) < 4 {
			return nil, errForm
		}
		r := sent{number: len(to), key: binary.LittleEndian.Uint32(b)}
		b = b[4:]
		path, ok := part()
		body, too := part()
		if !ok || !too {
			return nil, errForm
		}
		r.path, r.body = string(path), body
		to = append(to, r)
	}
	return to, nil
}

var errForm = errors.New("spooled rows are cut short")

// Resume implements flow.Exact.
func (s *Sink) Resume(handle []byte) error {
	s.spools = true
	return s.Sink.Resume(handle)
}

// Write implements flow.Sink.
func (s *Sink) Write(p flow.Payload) error {
	if s.spools {
		return s.Sink.Write(p.Bytes)
	}
	err := s.Deliver(s.run, s.parts, nil, [][]byte{p.Bytes})
	if err == nil {
		s.parts++
	}
	return err
}

// Place implements spool.Target: nothing is known of the service.
func (s *Sink) Place() ([]byte, error) { return nil, nil }

// taken says what of a delivery the service has.
type taken struct {
	Writer string `json:"writer"`
	Number int64  `json:"number"`
	Lanes  int    `json:"lanes"` // requests at once that it was sent with
	Rows   int    `json:"rows"`  // in a request
	Sent   []int  `json:"sent"`  // requests of each lane
	All    bool   `json:"all"`
}

// Has implements spool.Target.
func (s *Sink) Has(writer string, number int64, _ []byte) (bool, error) {
	var t taken
	if !spool.Sent(s.FS, s.Dir, &t) {
		return false, nil
	}
	return t.Writer == writer && (t.Number > number || t.Number == number && t.All), nil
}

// keepTaken keeps what was sent; where that fails, what is sent again has the same keys.
func (s *Sink) keepTaken() error {
	if !s.spools {
		return nil
	}
	return spool.KeepSent(s.FS, s.Dir, s.took)
}

// slice is how long is sent before it is looked whether the job goes on. The rest of a delivery follows at once.
const slice = 20 * time.Second

// errMore says that a delivery takes long.
type errMore struct{ done, all int }

func (e *errMore) Error() string {
	return fmt.Sprintf("%d of %d requests are sent, the others follow", e.done, e.all)
}

// Deliver implements spool.Target.
func (s *Sink) Deliver(writer string, number int64, _ []byte, payloads [][]byte) error {
	var rows []sent
	var err error
	for _, p := range payloads {
		if rows, err = rowsOf(p, rows); err != nil {
			return err
		}
	}
	lanes := s.lanes(rows)
	if t := s.took; t.Writer != writer || t.Number != number {
		s.took = taken{}
		if s.spools && !spool.Sent(s.FS, s.Dir, &s.took) {
			s.took = taken{}
		}
	}
	if t := s.took; t.Writer != writer || t.Number != number || t.Lanes != len(lanes) || t.Rows != s.rows || len(t.Sent) != len(lanes) {
		s.took = taken{Writer: writer, Number: number, Lanes: len(lanes), Rows: s.rows, Sent: make([]int, len(lanes))}
	}
	if s.took.All {
		return nil
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	until := time.Now().Add(slice)
	var all, done int
	for _, l := range lanes {
		all += len(l)
	}
	g, ctx := errgroup.WithContext(ctx)
	for k, lane := range lanes {
		g.Go(func() error {
			for s.took.Sent[k] < len(lane) { // a lane's own
				if time.Now().After(until) {
					return nil
				}
				if err := s.send(ctx, fmt.Sprintf("%s-%d", writer, number), lane[s.took.Sent[k]]); err != nil {
					return err
				}
				s.took.Sent[k]++
			}
			return nil
		})
	}
	err = g.Wait()
	for _, n := range s.took.Sent {
		done += n
	}
	s.took.All = err == nil && done == all
	if kept := s.keepTaken(); kept != nil || err != nil {
		return errors.Join(err, kept)
	}
	if !s.took.All {
		return &errMore{done, all}
	}
	return nil
}

// lanes shares rows out into requests that follow each other, in as many lanes as may be under way at once. The rows of a key are in one lane.
func (s *Sink) lanes(rows []sent) [][][]sent {
	n := max(1, s.client.AtOnce)
	by := make([][]sent, n)
	for i, r := range rows {
		k := i / s.rows % n
		if s.key != nil {
			k = int(r.key % uint32(n))
		}
		by[k] = append(by[k], r)
	}
	out := make([][][]sent, n)
	for k, lane := range by {
		out[k] = slices.Collect(slices.Chunk(lane, s.rows))
	}
	return out
}

// send makes one request.
func (s *Sink) send(ctx context.Context, delivery string, rows []sent) error {
	r := webclient.Request{Method: s.method, Path: rows[0].path, Kind: s.kind, ID: fmt.Sprintf("%s-%d", delivery, rows[0].number)}
	if len(rows) > 1 {
		r.ID += fmt.Sprintf("+%d", len(rows)-1)
	}
	switch {
	case s.method == "DELETE" && s.body == nil:
	case s.rows == 1:
		r.Body = rows[0].body
	default:
		for i, x := range rows {
			switch {
			case s.array && i == 0:
				r.Body = append(r.Body, '[')
			case s.array:
				r.Body = append(r.Body, ',')
			}
			r.Body = append(r.Body, x.body...)
			if !s.array {
				r.Body = append(r.Body, '\n')
			}
		}
		if s.array {
			r.Body = append(r.Body, ']')
		}
	}
	_, err := s.client.Insist(ctx, r)
	var no *webclient.Refusal
	if err == nil || !s.keep || !errors.As(err, &no) || no.Passes || no.Code < 400 || no.Code == 401 || no.Code == 403 || no.Code == 407 {
		return err // who is not let in is not refused for what the rows are
	}
	if len(rows) > 1 && (no.Code == 400 || no.Code == 413 || no.Code == 422) { // which of them it is is not said: they are sent in halves, until the one stands alone
		if err := s.send(ctx, delivery, rows[:len(rows)/2]); err != nil {
			return err
		}
		return s.send(ctx, delivery, rows[len(rows)/2:])
	}
	return s.setAside(r.ID, rows, no)
}

// setAside keeps rows that were refused.
func (s *Sink) setAside(id string, rows []sent, no *webclient.Refusal) error {
	var recs []topiclog.Record
	for _, x := range rows {
		line, err := json.Marshal(map[string]any{"reason": no.Words, "status": no.Code, "path": x.path, "body": string(x.body), "request": id})
		if err != nil {
			return err
		}
		recs = append(recs, topiclog.Record{Key: []byte(id), Value: line})
	}
	if s.aside != nil {
		if _, err := s.aside.AppendOnce(id, recs); err != nil {
			return err
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, x := range rows {
		s.refused = append(s.refused, flow.Refused{Reason: no.Words, Row: string(x.body)})
	}
	return nil
}

// Refused implements flow.Refuser.
func (s *Sink) Refused() []flow.Refused {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.refused
	s.refused = nil
	return out
}

// Passing implements spool.Target: also where the service refuses a row it may take it later, when it was mended.
func (s *Sink) Passing(error) bool { return true }

// Retry implements flow.Retrier.
func (s *Sink) Retry(err error) bool { return s.Sink.Retry(err) }

// Close implements flow.Sink.
func (s *Sink) Close(bool) error {
	s.client.HTTP.CloseIdleConnections()
	return nil
}
