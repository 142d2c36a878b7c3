package rows

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// Table is what stands in a sink once all changes are done: the newest row of each key, or without a key every row
// as often as it is there. Rows are JSON objects.
type Table struct {
	Key []string

	byKey map[string]string
	rows  map[string]int
	n     int
}

// Put adds a row or takes one back.
func (t *Table) Put(add bool, row string) {
	if t.Key == nil {
		if t.rows == nil {
			t.rows = map[string]int{}
		}
		if add {
			t.rows[row]++
			t.n++
		} else {
			t.rows[row]--
			t.n--
		}
		return
	}
	if t.byKey == nil {
		t.byKey = map[string]string{}
	}
	k := KeyOf(row, t.Key)
	if add {
		t.byKey[k] = row
	} else {
		delete(t.byKey, k)
	}
	t.n = len(t.byKey)
}

// KeyOf gives the values of some columns of a row, as JSON.
func KeyOf(row string, key []string) string {
	var cells map[string]json.RawMessage
	_ = json.Unmarshal([]byte(row), &cells)
	parts := make([]string, len(key))
	for i, k := range key {
		parts[i] = string(cells[k])
	}
	return strings.Join(parts, "|")
}

// Len is the number of rows.
func (t *Table) Len() int { return t.n }

// Rows gives the rows, sorted. It fails where a row was taken back that was not there.
func (t *Table) Rows() ([]string, error) {
	out := []string{}
	for _, row := range t.byKey {
		out = append(out, row)
	}
	for row, n := range t.rows {
		if n < 0 {
			return nil, fmt.Errorf("a row is taken back that is not there: %s", row)
		}
		for range n {
			out = append(out, row)
		}
	}
	slices.Sort(out)
	return out, nil
}

// Changes is a flow.Encoder that writes rows as JSON, a line each, behind a sign: + for a row that comes, - for one
// that is taken back.
type Changes struct {
	enc  format.Encoder
	buf  []byte
	rows int
}

// NewChanges makes the encoder.
func NewChanges(fields []types.Field) *Changes { return &Changes{enc: format.NewJSONEncoder(fields)} }

// Add implements flow.Encoder.
func (e *Changes) Add(b *column.Batch) {
	for i := range b.N {
		sign := byte('+')
		if b.Change != nil && b.Change[i].Takes() {
			sign = '-'
		}
		e.buf = append(e.enc.Append(append(e.buf, sign), b, i), '\n')
		e.rows++
	}
}

// Take implements flow.Encoder.
func (e *Changes) Take() flow.Payload {
	p := flow.Payload{Rows: e.rows, Bytes: e.buf}
	e.buf, e.rows = nil, 0
	return p
}

// PutAll does what Changes has written.
func (t *Table) PutAll(changes []byte) {
	for line := range strings.Lines(string(changes)) {
		t.Put(line[0] == '+', strings.TrimSuffix(line[1:], "\n"))
	}
}

// Capture is a sink that keeps what stands in it.
type Capture struct {
	Table
	Limit int // rows; 0: none
	mu    sync.Mutex
}

// ErrTooMany says that more rows stand in a Capture than it may hold.
var ErrTooMany = errors.New("there are too many rows to hold")

// NewEncoder implements flow.Sink.
func (c *Capture) NewEncoder(fields []types.Field) (flow.Encoder, error) {
	return NewChanges(fields), nil
}

// Write implements flow.Sink.
func (c *Capture) Write(p flow.Payload) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.PutAll(p.Bytes)
	if c.Limit > 0 && c.Len() > c.Limit {
		return ErrTooMany
	}
	return nil
}

// Close implements flow.Sink.
func (c *Capture) Close(bool) error { return nil }
