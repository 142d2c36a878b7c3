// Package outbox is the sink of connectors that send messages to a broker which confirms them one by one. A connector says how its broker is spoken to.
package outbox

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/spool"
	"fiume/internal/connect/text"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// Message is one to be sent.
type Message struct {
	Address string // that of the sink, with the row's columns in it
	Headers []byte // as format.AppendHeaders writes them
	Body    []byte
	ID      string // stable: what is sent again has the same
	// At is when the delivery was closed, microseconds since 1970: the same when it is sent again, and never before that of an earlier delivery of the sink. 0: not known.
	At int64
}

// Key gives the key of a message of a sink with a KEY, as a text that no other key has, and whether its row is gone.
func (m Message) Key() (key string, gone bool) {
	format.EachHeader(m.Headers, func(name, value []byte) {
		if string(name) == keyHeader {
			key = string(value)
		}
	})
	return key, len(m.Body) == 0
}

// Sender speaks to a broker.
type Sender interface {
	// Send sends messages in their order, and gives how many of the first ones are done with: the broker has them for good, or refuses them for what they are. Of those
	// refused says why, by their places.
	Send(ctx context.Context, messages []Message) (done int, refused map[int]string, err error)
	// Close ends the connection.
	Close() error
}

// Options are those of sinks of this kind, with what a format needs.
func Options() []plan.OptionSpec {
	return append(format.SinkOptions(),
		plan.OptionSpec{Name: "headers", Kind: plan.NamesOption, Doc: "columns that go beside the message, as text, and are left out of its value"},
		TemplateOption,
		plan.OptionSpec{Name: "bad rows", Kind: plan.WordOption, Words: []string{"stop", "keep"}, Doc: "what a message that the broker refuses does; stop: the job waits and tries again; keep: it is counted and a sample kept"})
}

// TemplateOption is the text of messages.
var TemplateOption = plan.OptionSpec{Name: "template", Kind: plan.WordOption, Doc: "the message, with {column} for a value, instead of the row in a format; it is not changed in any way"}

// Sink sends rows. In a run that takes checkpoints they are spooled, and sent when a checkpoint counts; how much of a delivery the broker has is kept beside the spool. What is in doubt after
// a crash is sent again, with the same id.
type Sink struct {
	*spool.Sink
	sender  Sender
	writing *format.Writing
	layout  text.Layout
	address text.Template
	title   text.Template // a header, Title; nil: there is none
	body    text.Template // nil: the row in the format
	keep    bool
	spools  bool
	run     string // names a run without checkpoints
	parts   int64  // payloads that it has written
	closed  int64  // At of the last delivery
	took    taken  // of the delivery at hand

	mu      sync.Mutex
	refused []flow.Refused
}

// taken says how much of a delivery the broker has.
type taken struct {
	Writer string `json:"writer"`
	Number int64  `json:"number"`
	Rows   int    `json:"rows"`
	All    bool   `json:"all"`
	At     int64  `json:"at,omitempty"`
}

// Open makes the sink of an output, whose address may have columns in it.
func Open(env *contract.Env, out *plan.Op, sender Sender) (*Sink, error) {
	s := &Sink{sender: sender, keep: out.Sink.Options.Word("bad rows", "stop") == "keep", run: spool.NewWriter()}
	s.Sink = &spool.Sink{FS: env.FS(), Dir: env.Spool(out), Target: s}
	var err error
	if s.address, err = text.TemplateOf("the address", out.Sink.Address, out.Fields); err != nil {
		return nil, err
	}
	for option, to := range map[string]*text.Template{"title": &s.title, "template": &s.body} {
		if t := out.Sink.Options.Word(option, ""); t != "" {
			if *to, err = text.TemplateOf(strings.ToUpper(option), t, out.Fields); err != nil {
				return nil, err
			}
		}
	}
	if s.layout, err = text.LayoutOf(out); err != nil {
		return nil, err
	}
	for _, c := range s.address.Columns() {
		if out.Changes && !slices.Contains(s.layout.Key, c) {
			return nil, fmt.Errorf("the address has {%s}: rows that are replaced or withdrawn are found by their key, so that the KEY must have it", out.Fields[c].Name)
		}
	}
	if s.writing, err = env.Writing(out, s.layout.Values()); err != nil {
		return nil, err
	}
	return s, s.writing.Check()
}

// Opened gives what opening a sink has given as a flow.Sink, which is nil where there is none.
func Opened(s *Sink, err error) (flow.Sink, error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}

// encoder writes rows so that they can be spooled: the length before each, its address, its headers and its body.
type encoder struct {
	sink *Sink
	in   *text.Keyed
	fill *text.Filler
	buf  []byte
	to   []byte
	rows int
}

// NewEncoder implements flow.Sink.
func (s *Sink) NewEncoder(fields []types.Field) (flow.Encoder, error) {
	enc, err := s.writing.NewEncoder()
	if err != nil {
		return nil, err
	}
	return &encoder{sink: s, in: text.NewKeyed(enc, s.layout), fill: text.NewFiller(fields)}, nil
}

// Add implements flow.Encoder.
func (e *encoder) Add(b *column.Batch) {
	e.in.Add(b)
	p := e.in.Take()
	sides := text.SidesOf(p)
	kept := 0
	part := func(x []byte) { e.buf = append(binary.AppendUvarint(e.buf, uint64(len(x))), x...) }
	at := 0
	for i := range b.N {
		if b.Change != nil && b.Change[i] == column.Replaced {
			continue // its replacement takes its place
		}
		e.to = e.fill.Append(e.to[:0], e.sink.address, b, i, text.Plain)
		part(e.to)
		var headers []byte
		if sides.Headers != nil {
			headers = sides.Headers[kept]
		}
		if e.sink.title != nil {
			e.to = e.fill.Append(e.to[:0], e.sink.title, b, i, text.Plain)
			headers = format.AppendHeaders(nil, 1, func(int) (string, []byte) { return Title, e.to })
		}
		if e.sink.layout.Key != nil {
			e.to = appendKey(e.to[:0], b, i, e.sink.layout.Key)
			headers = format.AppendHeaders(nil, 1, func(int) (string, []byte) { return keyHeader, e.to })
		}
		part(headers)
		end := p.Ends[kept]
		if b.Change != nil && b.Change[i].Takes() {
			part(nil)
		} else if e.sink.body != nil {
			e.to = e.fill.Append(e.to[:0], e.sink.body, b, i, text.Plain)
			part(e.to)
		} else {
			part(p.Bytes[at:end])
		}
		at = end
		kept++
	}
	e.rows += kept
	text.Recycle(p.Bytes)
}

// Held is how many bytes wait to be taken.
func (e *encoder) Held() int { return len(e.buf) }

// Take implements flow.Encoder.
func (e *encoder) Take() flow.Payload {
	p := flow.Payload{Rows: e.rows, Bytes: e.buf}
	e.buf, e.rows = nil, 0
	return p
}

// keyHeader is the header that has the key.
const keyHeader = "Key"

// appendKey writes the values of a key with | between. What would be taken for the bar, and NULL, is written with a backslash.
func appendKey(to []byte, b *column.Batch, row int, cols []int) []byte {
	for i, c := range cols {
		if i > 0 {
			to = append(to, '|')
		}
		if b.Cols[c].Null(row) {
			to = append(to, `\N`...)
			continue
		}
		at := len(to)
		to = types.AppendText(to, b.Cols[c].Value(row))
		if bytes.ContainsAny(to[at:], `|\`) {
			to = append(to[:at], escapes.Replace(string(to[at:]))...)
		}
	}
	return to
}

var escapes = strings.NewReplacer(`\`, `\\`, `|`, `\|`)

// Title is the header that the option TITLE makes, where a connector has it.
const Title = "Title"

var errForm = errors.New("spooled rows are cut short")

func messagesOf(b []byte, to []Message) ([]Message, error) {
	part := func() ([]byte, error) {
		n, k := binary.Uvarint(b)
		if k <= 0 || n > uint64(len(b)-k) {
			return nil, errForm
		}
		x := b[k : k+int(n)]
		b = b[k+int(n):]
		return x, nil
	}
	for len(b) > 0 {
		address, err := part()
		headers, err2 := part()
		body, err3 := part()
		if err := errors.Join(err, err2, err3); err != nil {
			return nil, err
		}
		to = append(to, Message{Address: string(address), Headers: headers, Body: body})
	}
	return to, nil
}

// Resume implements flow.Exact.
func (s *Sink) Resume(handle []byte) error {
	s.spools = true
	s.closed = s.read().At
	return s.Sink.Resume(handle)
}

// Write implements flow.Sink.
func (s *Sink) Write(p flow.Payload) error {
	if s.spools {
		return s.Sink.Write(p.Bytes)
	}
	place, _ := s.Place()
	err := s.Deliver(s.run, s.parts, place, [][]byte{p.Bytes})
	if err == nil {
		s.parts++
	}
	return err
}

// Place implements spool.Target: nothing is known of the broker, but when it was.
func (s *Sink) Place() ([]byte, error) {
	s.closed = max(time.Now().UnixMicro(), s.closed)
	return strconv.AppendInt(nil, s.closed, 10), nil
}

// read reads what was taken.
func (s *Sink) read() (t taken) {
	if !spool.Sent(s.FS, s.Dir, &t) {
		return taken{}
	}
	return t
}

// Has implements spool.Target.
func (s *Sink) Has(writer string, number int64, _ []byte) (bool, error) {
	t := s.read()
	return t.Writer == writer && (t.Number > number || t.Number == number && t.All), nil
}

func (s *Sink) keepTaken() error {
	if !s.spools {
		return nil
	}
	return spool.KeepSent(s.FS, s.Dir, s.took)
}

// slice is how long is sent before it is looked whether the job goes on. The rest of a delivery follows at once.
const slice = 20 * time.Second

// Deliver implements spool.Target.
func (s *Sink) Deliver(writer string, number int64, place []byte, payloads [][]byte) error {
	var all []Message
	var err error
	for _, p := range payloads {
		if all, err = messagesOf(p, all); err != nil {
			return err
		}
	}
	at, _ := strconv.ParseInt(string(place), 10, 64) // spools of earlier versions have none
	for i := range all {
		all[i].At = at
		all[i].ID = fmt.Sprintf("%s-%d-%d", writer, number, i)
	}
	if t := s.took; (t.Writer != writer || t.Number != number) && s.spools {
		s.took = s.read()
	}
	if t := s.took; t.Writer != writer || t.Number != number || t.Rows > len(all) {
		s.took = taken{Writer: writer, Number: number, At: at}
	}
	if s.took.All {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), slice)
	defer cancel()
	for err == nil && s.took.Rows < len(all) {
		var done int
		var refused map[int]string
		done, refused, err = s.sender.Send(ctx, all[s.took.Rows:])
		if len(refused) > 0 && !s.keep {
			first := slices.Min(slices.Collect(maps.Keys(refused)))
			done, err = first, errors.Join(fmt.Errorf("a message is refused: %s", refused[first]), err)
		}
		for _, i := range slices.Sorted(maps.Keys(refused)) {
			if i < done {
				s.setAside(all[s.took.Rows+i], refused[i])
			}
		}
		s.took.Rows += done
	}
	s.took.All = err == nil
	if ctx.Err() != nil && err != nil {
		err = fmt.Errorf("%d of %d messages are sent, the others follow: %w", s.took.Rows, len(all), err)
	}
	return errors.Join(err, s.keepTaken())
}

func (s *Sink) setAside(m Message, reason string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refused = append(s.refused, flow.Refused{Reason: reason, Row: string(m.Body)})
}

// Refused implements flow.Refuser.
func (s *Sink) Refused() []flow.Refused {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.refused
	s.refused = nil
	return out
}

// Passing implements spool.Target: also a broker that refuses a message may take it later, when it was mended.
func (s *Sink) Passing(error) bool { return true }

// Retry implements flow.Retrier.
func (s *Sink) Retry(err error) bool { return s.Sink.Retry(err) }

// Close implements flow.Sink.
func (s *Sink) Close(bool) error { return s.sender.Close() }
