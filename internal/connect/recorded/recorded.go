// Package recorded reads streams and tables from messages that are held in memory: samples that somebody has recorded
// or uploaded.
package recorded

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/format"
)

// Message is a message with the place that it came from.
type Message struct {
	Partition int
	Offset    int64
	At        int64 // arrival, microseconds
	Key       []byte
	Headers   []byte // as the log writes them
	Value     []byte
}

// Open makes a source of messages, a split for each partition. name is what the splits are called after.
func Open(r *format.Reading, name string, messages []Message) flow.Source {
	by := map[int][]Message{}
	for _, m := range messages {
		by[m.Partition] = append(by[m.Partition], m)
	}
	var parts []int
	for p := range by {
		parts = append(parts, p)
	}
	slices.Sort(parts)
	if len(parts) == 0 {
		parts = []int{0}
	}
	s := &source{}
	for _, p := range parts {
		list := by[p]
		slices.SortStableFunc(list, func(a, b Message) int { return cmp.Compare(a.Offset, b.Offset) })
		s.splits = append(s.splits, &split{name: fmt.Sprintf("%s/%d", name, p), reading: r, origin: format.Origin{Topic: name, Partition: p}, messages: list})
	}
	return s
}

type source struct{ splits []flow.Split }

// Splits implements flow.Source.
func (s *source) Splits() []flow.Split { return s.splits }

// OnData implements flow.Source.
func (s *source) OnData(func()) {}

// Close implements flow.Source.
func (s *source) Close() error { return nil }

// split is one partition. Positions count messages; places are offsets.
type split struct {
	name     string
	reading  *format.Reading
	origin   format.Origin
	messages []Message
	next     int64
}

// pieceMessages are handed out at a time.
const pieceMessages = 4096

func (s *split) Name() string            { return s.name }
func (s *split) Place(pos int64) string  { return fmt.Sprintf("%s offset %d", s.name, pos) }
func (s *split) Position() int64         { return 0 }
func (s *split) Close() error            { return nil }
func (s *split) Resume(pos int64) error  { s.next = pos; return nil }
func (s *split) Left(pos int64) int64    { return int64(len(s.messages)) - pos }
func (s *split) Frame(*flow.Piece) error { return nil }

func (s *split) NewDecoder() (flow.Decoder, error) {
	return s.reading.DecoderFrom(s.origin, nil)
}

// Next implements flow.Split.
func (s *split) Next(p *flow.Piece) error {
	if s.next >= int64(len(s.messages)) {
		return io.EOF
	}
	end := min(s.next+pieceMessages, int64(len(s.messages)))
	p.Base, p.Next, p.Data, p.Messages = s.next, end, p.Data[:0], p.Messages[:0]
	for _, m := range s.messages[s.next:end] {
		p.Messages = append(p.Messages, flow.Message{Off: uint32(len(p.Data)), Len: uint32(len(m.Value)), Pos: m.Offset, At: m.At, Key: m.Key, Headers: m.Headers})
		p.Data = append(p.Data, m.Value...)
	}
	p.Data = slices.Grow(p.Data, flow.Pad)
	s.next = end
	return nil
}

// BadRows counts the messages that are no rows, and gives a reason.
func BadRows(r *format.Reading, ms []Message) (bad int, reason string, err error) {
	dec, err := r.NewDecoder(nil)
	if err != nil {
		return 0, "", err
	}
	src := Open(r, r.Stream.Name, ms)
	for _, sp := range src.Splits() {
		var p flow.Piece
		for {
			if err := sp.Next(&p); err != nil {
				break
			}
			var b column.Batch
			for _, r := range dec.Decode(p.Data, p.Messages, &b) {
				bad, reason = bad+1, r.Reason
			}
		}
	}
	return bad, reason, nil
}

// FormatOf guesses the format of messages.
func FormatOf(ms []Message) string {
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
