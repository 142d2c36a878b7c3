// Package text turns batches into lines or messages of bytes, for sinks that write bytes.
package text

import (
	"sync"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/format"
)

// Lines is a flow.Encoder that writes each row by a format, with something behind it.
type Lines struct {
	enc  format.Encoder
	tail string
	buf  []byte
	ends []int
	rows int
}

// NewLines makes an encoder; tail stands behind each row.
func NewLines(enc format.Encoder, tail string) *Lines { return &Lines{enc: enc, tail: tail} }

var buffers sync.Pool

// Recycle gives back the bytes of a payload that has been written.
func Recycle(b []byte) {
	if cap(b) > 0 && cap(b) < 8<<20 {
		b = b[:0]
		buffers.Put(&b)
	}
}

// start takes a buffer that was used before.
func (l *Lines) start() {
	if l.buf == nil {
		if x, ok := buffers.Get().(*[]byte); ok {
			l.buf = *x
		}
	}
}

// AddRow writes one row.
func (l *Lines) AddRow(b *column.Batch, i int) {
	l.start()
	l.buf = append(l.enc.Append(l.buf, b, i), l.tail...)
	l.end()
}

// AddEmpty writes nothing in the place of a row: in a topic it says that the row of the key is gone.
func (l *Lines) AddEmpty() { l.end() }

func (l *Lines) end() {
	l.rows++
	if l.tail == "" {
		l.ends = append(l.ends, len(l.buf))
	}
}

// Add implements flow.Encoder.
func (l *Lines) Add(b *column.Batch) {
	l.start()
	for i := range b.N {
		l.buf = append(l.enc.Append(l.buf, b, i), l.tail...)
		if l.tail == "" {
			l.ends = append(l.ends, len(l.buf))
		}
	}
	l.rows += b.N
}

// Held is how many bytes wait to be taken.
func (l *Lines) Held() int { return len(l.buf) }

// Take implements flow.Encoder.
func (l *Lines) Take() flow.Payload {
	p := flow.Payload{Rows: l.rows, Bytes: l.buf, Ends: l.ends}
	l.buf, l.ends, l.rows = nil, nil, 0
	return p
}
