package format

import (
	"bytes"
	"encoding/binary"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// Origin is where the messages of a split are from.
type Origin struct {
	Topic     string // "": not known
	Partition int    // -1: not known
}

// partsDecoder puts what a message has besides its value before the columns of the value: plan.MessageColumns.
type partsDecoder struct {
	inner  flow.Decoder
	origin Origin
	parts  []*column.Vector // nil where nobody uses one
	cols   []*column.Vector
}

// WantsKeys says whether the keys of messages are needed, and their headers.
func (r *Reading) WantsKeys() (keys, headers bool) {
	keys = r.Table != nil
	if r.Stream.Parts > 0 {
		_, key := r.Used.Needs(plan.KeyPart)
		_, headers = r.Used.Needs(plan.HeadersPart)
		keys = keys || key
	}
	return keys, headers
}

// valuesOnly reads the values of messages alone.
func (r *Reading) valuesOnly() *Reading {
	return &Reading{Stream: r.Stream.WithoutParts(), Used: r.Used.From(r.Stream.Parts), Schemas: r.Schemas, given: r.given}
}

func newPartsDecoder(r *Reading, header []string, from Origin) (flow.Decoder, error) {
	inner, err := r.valuesOnly().rows(header, from)
	if err != nil {
		return nil, err
	}
	d := &partsDecoder{inner: inner, origin: from, parts: make([]*column.Vector, r.Stream.Parts), cols: make([]*column.Vector, len(r.Stream.Columns))}
	for i := range d.parts {
		if _, ok := r.Used.Needs(i); ok {
			d.parts[i] = column.New(r.Stream.Columns[i].Type)
		}
	}
	copy(d.cols, d.parts)
	if p, ok := inner.(flow.Preparing); ok {
		return &preparingParts{d, p}, nil
	}
	return d, nil
}

// preparingParts is one whose values need something before.
type preparingParts struct {
	*partsDecoder
	flow.Preparing
}

// Decode implements flow.Decoder.
func (d *partsDecoder) Decode(data []byte, msgs []flow.Message, out *column.Batch) []flow.Reject {
	rejects := d.inner.Decode(data, msgs, out)
	n := out.N
	for _, v := range d.parts {
		if v != nil {
			v.Resize(n)
			v.Clear()
		}
	}
	at := 0
	for row := range n {
		for msgs[at].Pos != out.Pos[row] { // it is no row
			at++
		}
		d.fill(&msgs[at], row, n)
		at++
	}
	copy(d.cols[len(d.parts):], out.Cols)
	out.Cols = d.cols
	return rejects
}

func (d *partsDecoder) fill(m *flow.Message, row, n int) {
	if v := d.parts[plan.KeyPart]; v != nil {
		if m.Key == nil {
			v.Set(row, n, types.Value{})
		} else {
			v.SetText(row, bytes.ToValidUTF8(m.Key, []byte("�")))
		}
	}
	if v := d.parts[plan.HeadersPart]; v != nil {
		from := v.Kids[0].Len()
		EachHeader(m.Headers, func(name, value []byte) {
			for k := from; k < v.Kids[0].Len(); k++ { // of two with one name the last counts
				if bytes.Equal(v.Kids[0].Text(k), name) {
					v.Kids[1].Set(k, v.Kids[1].Len(), textOrNull(value))
					return
				}
			}
			v.Kids[0].Append(textOrNull(name))
			v.Kids[1].Append(textOrNull(value))
		})
		v.S[row] = column.Str{Off: uint32(from), Len: uint32(v.Kids[0].Len() - from)}
	}
	if v := d.parts[plan.TopicPart]; v != nil {
		x := types.Value{Kind: types.Varchar, S: d.origin.Topic}
		if d.origin.Topic == "" {
			x = types.Value{}
		}
		v.Set(row, n, x)
	}
	if v := d.parts[plan.PartitionPart]; v != nil {
		x := types.Value{Kind: types.Int, I: int64(d.origin.Partition)}
		if d.origin.Partition < 0 {
			x = types.Value{}
		}
		v.Set(row, n, x)
	}
	if v := d.parts[plan.OffsetPart]; v != nil {
		v.I[row] = m.Pos
	}
	if v := d.parts[plan.TimePart]; v != nil {
		v.I[row] = m.At
	}
}

func textOrNull(b []byte) types.Value {
	if b == nil {
		return types.Value{}
	}
	return types.Value{Kind: types.Varchar, S: string(bytes.ToValidUTF8(b, []byte("�")))}
}

// EachHeader gives the headers of a message, which are written as the brokers' format writes them: their number, then names and values with their
// lengths. It ends with what is broken.
func EachHeader(b []byte, each func(name, value []byte)) {
	next := func() ([]byte, bool) {
		n, k := binary.Varint(b)
		if k <= 0 || n > int64(len(b)-k) {
			return nil, false
		}
		if b = b[k:]; n < 0 {
			return nil, true
		}
		x := b[:n:n]
		b = b[n:]
		return x, true
	}
	count, k := binary.Varint(b)
	if k <= 0 {
		return
	}
	b = b[k:]
	for range min(count, int64(len(b))) {
		name, ok := next()
		if !ok {
			return
		}
		value, ok := next()
		if !ok {
			return
		}
		each(name, value)
	}
}

// AppendHeaders writes headers so; nil is no value.
func AppendHeaders(dst []byte, n int, at func(i int) (name string, value []byte)) []byte {
	dst = binary.AppendVarint(dst, int64(n))
	for i := range n {
		name, value := at(i)
		dst = append(binary.AppendVarint(dst, int64(len(name))), name...)
		if value == nil {
			dst = binary.AppendVarint(dst, -1)
		} else {
			dst = append(binary.AppendVarint(dst, int64(len(value))), value...)
		}
	}
	return dst
}

// Headers gives headers that are written so, by their names.
func Headers(b []byte) map[string]string {
	var out map[string]string
	EachHeader(b, func(name, value []byte) {
		if out == nil {
			out = map[string]string{}
		}
		out[string(bytes.ToValidUTF8(name, []byte("�")))] = string(bytes.ToValidUTF8(value, []byte("�")))
	})
	return out
}
