package files

import (
	"fmt"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/format"
)

// Frame implements flow.Split. A piece may have several small files.
func (s *series) Frame(p *flow.Piece) error {
	p.Messages = p.Messages[:0]
	if len(p.Data) == 0 {
		return nil
	}
	var q flow.Piece
	for at := p.Base; at < p.Next; {
		l := s.at(at)
		if l == nil {
			return fmt.Errorf("the file of position %d is not known any more", at)
		}
		end := p.Next
		if e := s.endOf(l); e >= 0 {
			end = min(end, e)
		}
		if at == p.Base && end == p.Next && l.base == 0 {
			return l.split.Frame(p)
		}
		q.Data, q.Base, q.Next = p.Data, at-l.base, end-l.base
		off := int64(0)
		if l.split.rows == nil { // else the data says which file it is
			off = at - p.Base
			q.Data = p.Data[off : end-p.Base]
		}
		if err := l.split.Frame(&q); err != nil {
			return err
		}
		for _, m := range q.Messages {
			m.Off += uint32(off)
			m.Pos += l.base
			p.Messages = append(p.Messages, m)
		}
		at = end
	}
	return nil
}

// endOf gives the position behind a file, or -1 while it is read.
func (s *series) endOf(l *link) int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return l.end
}

// NewDecoder implements flow.Split.
func (s *series) NewDecoder() (flow.Decoder, error) {
	if _, ok := slices.BinarySearch(sortedRowFormats, s.format); ok {
		return &seriesDecoder{s: s}, nil
	}
	d, err := (&format.Reading{Stream: s.stream, Used: s.used}).NewDecoder(nil)
	return &seriesDecoder{s: s, plain: d}, err
}

var sortedRowFormats = slices.Sorted(slices.Values(format.RowFormats))

// seriesDecoder decodes the pieces of all files of a series.
type seriesDecoder struct {
	s     *series
	plain flow.Decoder // of lines without a header
	of    *link        // whose decoder is dec
	dec   flow.Decoder
	moved []flow.Message
}

// Decode implements flow.Decoder.
func (d *seriesDecoder) Decode(data []byte, msgs []flow.Message, out *column.Batch) []flow.Reject {
	if len(msgs) == 0 {
		return d.refuse(msgs, "", out)
	}
	l := d.s.at(msgs[0].Pos)
	if l == nil {
		return d.refuse(msgs, "the file is not known any more", out)
	}
	if l.split.rows == nil && len(l.split.header) == 0 {
		return d.plain.Decode(data, msgs, out)
	}
	if d.of != l {
		dec, err := l.split.NewDecoder()
		if err != nil {
			return d.refuse(msgs, err.Error(), out)
		}
		d.of, d.dec = l, dec
	}
	if l.split.rows == nil || l.base == 0 {
		return d.dec.Decode(data, msgs, out)
	}
	d.moved = append(d.moved[:0], msgs...) // rows are found by their numbers in the file
	for i := range d.moved {
		d.moved[i].Pos -= l.base
	}
	bad := d.dec.Decode(data, d.moved, out)
	for i := range out.Pos {
		out.Pos[i] += l.base
	}
	return bad
}

// refuse gives no row.
func (d *seriesDecoder) refuse(msgs []flow.Message, reason string, out *column.Batch) []flow.Reject {
	out.N, out.Cols, out.Time, out.Pos, out.Stamp = 0, make([]*column.Vector, len(d.s.stream.Columns)), out.Time[:0], out.Pos[:0], nil
	var all []flow.Reject
	for i := range msgs {
		all = append(all, flow.Reject{Message: i, Reason: reason})
	}
	return all
}
