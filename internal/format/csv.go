package format

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// csvDecoder reads CSV records (RFC 4180). An empty field is NULL, a quoted empty one is ”.
type csvDecoder struct {
	columns []int // leaf by field of the record; -1 where it is not used
	leaves  []leaf
	cols    []*column.Vector
	timeAt  int
	absent  []int // leaves the file has no field for
	times   types.TimeParser
	fields  []csvField
	text    []byte
}

type csvField struct {
	text   []byte
	quoted bool
}

func newCSVDecoder(s *plan.Stream, used *plan.Use, header []string) (*csvDecoder, error) {
	d := &csvDecoder{cols: make([]*column.Vector, len(s.Columns)), timeAt: -1}
	order := header
	if order == nil {
		for _, f := range s.Columns {
			order = append(order, f.Name)
		}
	}
	d.columns = make([]int, len(order))
	for i := range d.columns {
		d.columns[i] = -1
	}
	for i, f := range s.Columns {
		if _, ok := used.Needs(i); !ok {
			continue
		}
		if f.Type.Kind == types.Row {
			return nil, fmt.Errorf("the column %s is a ROW, which CSV cannot hold", f.Name)
		}
		d.cols[i] = column.New(f.Type)
		d.leaves = append(d.leaves, leaf{name: f.Name, typ: f.Type, notNull: f.NotNull, time: i == s.Time, vec: d.cols[i]})
		k := len(d.leaves) - 1
		if i == s.Time {
			d.timeAt = k
		}
		at := slices.IndexFunc(order, func(n string) bool { return strings.EqualFold(n, f.Name) })
		if at < 0 {
			d.absent = append(d.absent, k)
		} else {
			d.columns[at] = k
		}
	}
	return d, nil
}

// Decode implements Decoder.
func (d *csvDecoder) Decode(data []byte, msgs []flow.Message, out *column.Batch) []flow.Reject {
	var rejects []flow.Reject
	n := len(msgs)
	for i := range d.leaves {
		d.leaves[i].vec.Resize(n)
		d.leaves[i].vec.Data = d.leaves[i].vec.Data[:0]
	}
	out.Time, out.Pos = out.Time[:0], out.Pos[:0]
	row := 0
	for i, m := range msgs {
		if reason := d.record(data[m.Off:m.Off+m.Len], row, n); reason != "" {
			rejects = append(rejects, flow.Reject{Message: i, Reason: reason})
			continue
		}
		t := m.At
		if d.timeAt >= 0 {
			t = d.leaves[d.timeAt].vec.I[row]
		}
		out.Time, out.Pos = append(out.Time, t), append(out.Pos, m.Pos)
		row++
	}
	out.N, out.Cols, out.Stamp = row, d.cols, nil
	return rejects
}

func (d *csvDecoder) record(rec []byte, row, n int) string {
	var bad string
	d.fields, d.text, bad = SplitCSV(rec, d.fields[:0], d.text[:0])
	if bad != "" {
		return bad
	}
	if len(d.fields) != len(d.columns) {
		return fmt.Sprintf("expected %d fields, found %d", len(d.columns), len(d.fields))
	}
	for i, c := range d.columns {
		if c < 0 {
			continue
		}
		if bad := d.set(&d.leaves[c], d.fields[i], row, n); bad != "" {
			return bad
		}
	}
	for _, k := range d.absent {
		if bad := d.set(&d.leaves[k], csvField{}, row, n); bad != "" {
			return bad
		}
	}
	return ""
}

func (d *csvDecoder) set(l *leaf, f csvField, row, n int) string {
	if len(f.text) == 0 && !f.quoted {
		if l.notNull || l.time {
			return l.name + " is NULL or missing, but it is NOT NULL or the event time"
		}
		l.vec.Set(row, n, types.Value{})
		return ""
	}
	if l.vec.Nulls != nil {
		l.vec.Nulls[row] = false
	}
	ok := true
	s := string(f.text)
	switch l.typ.Kind {
	case types.Varchar:
		if ok = utf8.Valid(f.text); ok {
			l.vec.SetText(row, f.text)
		}
	case types.Double:
		x, err := strconv.ParseFloat(s, 64)
		l.vec.F[row], ok = x, err == nil
	case types.Int, types.BigInt:
		var x int64
		x, ok = wholeNumber(f.text, !strings.ContainsAny(s, ".eE"))
		ok = ok && (l.typ.Kind == types.BigInt || x == int64(int32(x)))
		l.vec.I[row] = x
	case types.Boolean:
		l.vec.B[row] = strings.EqualFold(s, "true")
		ok = l.vec.B[row] || strings.EqualFold(s, "false")
	case types.Timestamp:
		l.vec.I[row], ok = d.times.Parse(f.text)
	case types.Date:
		l.vec.I[row], ok = types.ParseDate(f.text)
	default:
		ok = false
	}
	if !ok {
		return fmt.Sprintf("%s: %q is no %s", l.name, clip(f.text), l.typ)
	}
	return ""
}

// SplitCSV cuts a record into fields. Quoted fields with doubled quotes are written to text.
func SplitCSV(rec []byte, fields []csvField, text []byte) ([]csvField, []byte, string) {
	for {
		if len(rec) == 0 || rec[0] != '"' {
			end := bytes.IndexByte(rec, ',')
			f := rec
			if end >= 0 {
				f = rec[:end]
			}
			if bytes.IndexByte(f, '"') >= 0 {
				return fields, text, "a quote stands inside a field that is not quoted"
			}
			fields = append(fields, csvField{text: f})
			if end < 0 {
				return fields, text, ""
			}
			rec = rec[end+1:]
			continue
		}
		from := len(text)
		rec = rec[1:]
		for {
			q := bytes.IndexByte(rec, '"')
			if q < 0 {
				return fields, text, "a quoted field has no end"
			}
			text = append(text, rec[:q]...)
			rec = rec[q+1:]
			if len(rec) == 0 || rec[0] != '"' {
				break
			}
			text = append(text, '"')
			rec = rec[1:]
		}
		fields = append(fields, csvField{slices.Clone(text[from:]), true})
		if len(rec) == 0 {
			return fields, text, ""
		}
		if rec[0] != ',' {
			return fields, text, "text follows the closing quote of a field"
		}
		rec = rec[1:]
	}
}

// HeaderOf reads the names of a CSV header record.
func HeaderOf(rec []byte) ([]string, error) {
	fs, _, bad := SplitCSV(bytes.TrimPrefix(rec, []byte("\xef\xbb\xbf")), nil, nil)
	if bad != "" {
		return nil, fmt.Errorf("the CSV header cannot be read: %s", bad)
	}
	var out []string
	for _, f := range fs {
		out = append(out, strings.TrimSpace(string(f.text)))
	}
	return out, nil
}

type csvEncoder struct{ fields []types.Field }

// Header implements Encoder.
func (e *csvEncoder) Header() []byte {
	var b []byte
	for i, f := range e.fields {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendCSV(b, []byte(f.Name))
	}
	return append(b, '\n')
}

// Append implements Encoder.
func (e *csvEncoder) Append(dst []byte, b *column.Batch, i int) []byte {
	var text []byte
	for c, v := range b.Cols[:len(e.fields)] {
		if c > 0 {
			dst = append(dst, ',')
		}
		switch {
		case v.Null(i):
		case v.Type.Kind == types.Varchar:
			dst = appendCSV(dst, v.Text(i))
		case v.Type.Kind == types.Row:
			text = appendValue(text[:0], v, i, &types.TimeWriter{})
			dst = appendCSV(dst, text)
		default:
			dst = types.AppendText(dst, v.Value(i))
		}
	}
	return dst
}

func appendCSV(dst, s []byte) []byte {
	if len(s) > 0 && !bytes.ContainsAny(s, ",\"\r\n") && s[0] != ' ' && s[len(s)-1] != ' ' {
		return append(dst, s...)
	}
	dst = append(dst, '"')
	dst = append(dst, bytes.ReplaceAll(s, []byte(`"`), []byte(`""`))...)
	return append(dst, '"')
}
