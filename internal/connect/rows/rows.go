// Package rows is the sink of live queries: it gives rows to a function.
package rows

import (
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// Sink gives each row, as the bytes of a format, to Each. It ends the run after Limit rows, if that is
// not below zero.
type Sink struct {
	Format string
	Limit  int64
	Each   func(row []byte) error
	given  int64
}

// NewEncoder implements flow.Sink.
func (s *Sink) NewEncoder(fields []types.Field) (flow.Encoder, error) {
	w := &format.Writing{Options: plan.Options{"format": {Name: "format", Word: s.Format}}, Fields: fields}
	enc, err := w.NewEncoder()
	return &encoder{enc: enc}, err
}

type encoder struct {
	enc  format.Encoder
	buf  []byte
	ends []int
}

// Add implements flow.Encoder.
func (e *encoder) Add(b *column.Batch) {
	for i := range b.N {
		e.buf = e.enc.Append(e.buf, b, i)
		e.ends = append(e.ends, len(e.buf))
	}
}

// Held is how many bytes wait to be taken.
func (e *encoder) Held() int { return len(e.buf) }

// Take implements flow.Encoder.
func (e *encoder) Take() flow.Payload {
	p := flow.Payload{Rows: len(e.ends), Bytes: e.buf, Ends: e.ends}
	e.buf, e.ends = nil, nil
	return p
}

// Write implements flow.Sink.
func (s *Sink) Write(p flow.Payload) error {
	from := 0
	for _, end := range p.Ends {
		if s.Limit >= 0 && s.given >= s.Limit {
			return flow.ErrDone
		}
		if err := s.Each(p.Bytes[from:end]); err != nil {
			return err
		}
		s.given++
		from = end
	}
	if s.Limit >= 0 && s.given >= s.Limit {
		return flow.ErrDone
	}
	return nil
}

// Close implements flow.Sink.
func (s *Sink) Close(bool) error { return nil }
