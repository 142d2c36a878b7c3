package format

import (
	"bytes"
	"encoding/base64"
	"fiume/internal/core/eval"
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

// CSV is how CSV is written: RFC 4180, or with other marks.
type CSV struct {
	Delimiter byte
	Quote     byte
	Null      string // a field that is not quoted and reads so is NULL, as an empty one is
}

// CSVOf reads the options of a stream or sink.
func CSVOf(o plan.Options) (CSV, error) {
	c := CSV{',', '"', o.Word("null word", "")}
	one := func(name string, at *byte) error {
		w := o.Word(name, string(*at))
		if w == `\t` {
			w = "\t"
		}
		if len(w) != 1 || w == "\n" || w == "\r" || w[0] >= 0x80 {
			return fmt.Errorf("%s takes one ASCII character, found '%s'", strings.ToUpper(name), w)
		}
		*at = w[0]
		return nil
	}
	if err := one("delimiter", &c.Delimiter); err != nil {
		return c, err
	}
	if err := one("quote", &c.Quote); err != nil {
		return c, err
	}
	if c.Delimiter == c.Quote {
		return c, fmt.Errorf("DELIMITER and QUOTE are the same")
	}
	return c, nil
}

// longestQuoted is how far a quoted field may reach over ends of lines. A quote that is not closed by
// then was none: the record ends with its line and is a bad one, and those behind it stand.
const longestQuoted = 1 << 20

// RecordEnd gives the end of the record that begins at from, its newline included. more says that the
// end may lie beyond b; last says that nothing comes behind b.
func (c CSV) RecordEnd(b []byte, from int, last bool) (end int, more bool) {
	for i := from; ; {
		if i < len(b) && b[i] == c.Quote { // a quoted field
			i++
			for {
				q := bytes.IndexByte(b[i:], c.Quote)
				if q < 0 || i+q-from > longestQuoted {
					if !last && len(b)-from <= longestQuoted {
						return len(b), true
					}
					if nl := bytes.IndexByte(b[from:], '\n'); nl >= 0 {
						return from + nl + 1, false
					}
					return len(b), !last
				}
				i += q + 1
				if i >= len(b) || b[i] != c.Quote {
					break
				}
				i++
			}
		}
		for ; i < len(b) && b[i] != '\n' && b[i] != c.Delimiter; i++ {
		}
		if i >= len(b) {
			return len(b), !last
		}
		if b[i] == '\n' {
			return i + 1, false
		}
		i++
	}
}

// csvDecoder reads CSV records. An empty field is NULL, a quoted empty one is ”.
type csvDecoder struct {
	dialect CSV
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
	var err error
	if d.dialect, err = CSVOf(s.Options); err != nil {
		return nil, err
	}
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
		d.leaves[i].vec.Clear()
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
	d.fields, d.text, bad = d.dialect.split(rec, d.fields[:0], d.text[:0])
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
	if !f.quoted && (len(f.text) == 0 || string(f.text) == d.dialect.Null) {
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
	case types.Time:
		l.vec.I[row], ok = types.ParseTimeOfDay(f.text)
	case types.Interval:
		l.vec.I[row], ok = types.ParseInterval(s)
	case types.Decimal:
		l.vec.D[row], ok = exactDecimal(s, l.typ)
	case types.Varbinary:
		b, err := base64.StdEncoding.DecodeString(s)
		l.vec.SetText(row, b)
		ok = err == nil
	default: // nested values and documents are written as JSON
		v, wrong := eval.ValueOfJSON(f.text, l.typ)
		if wrong != "" {
			return l.name + ": " + wrong
		}
		l.vec.Set(row, n, v)
	}
	if !ok {
		return fmt.Sprintf("%s: %q is no %s", l.name, clip(f.text), l.typ)
	}
	return ""
}

// exactDecimal reads a number that a DECIMAL holds without rounding.
func exactDecimal(s string, t types.Type) (types.Num, bool) {
	n, _, scale, ok := types.ParseDecimal(s)
	if !ok {
		return n, false
	}
	out, ok := types.Rescale(n, scale, int(t.Scale), int(t.Precision))
	if !ok || scale <= int(t.Scale) {
		return out, ok
	}
	back, ok := types.Rescale(out, int(t.Scale), scale, types.MaxPrecision)
	return out, ok && back == n
}

// split cuts a record into fields. Quoted fields with doubled quotes are written to text.
func (c CSV) split(rec []byte, fields []csvField, text []byte) ([]csvField, []byte, string) {
	for {
		if len(rec) == 0 || rec[0] != c.Quote {
			end := bytes.IndexByte(rec, c.Delimiter)
			f := rec
			if end >= 0 {
				f = rec[:end]
			}
			if bytes.IndexByte(f, c.Quote) >= 0 {
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
			q := bytes.IndexByte(rec, c.Quote)
			if q < 0 {
				return fields, text, "a quoted field has no end"
			}
			text = append(text, rec[:q]...)
			rec = rec[q+1:]
			if len(rec) == 0 || rec[0] != c.Quote {
				break
			}
			text = append(text, c.Quote)
			rec = rec[1:]
		}
		fields = append(fields, csvField{slices.Clone(text[from:]), true})
		if len(rec) == 0 {
			return fields, text, ""
		}
		if rec[0] != c.Delimiter {
			return fields, text, "text follows the closing quote of a field"
		}
		rec = rec[1:]
	}
}

// Header reads the names of a header record.
func (c CSV) Header(rec []byte) ([]string, error) {
	fs, _, bad := c.split(rec, nil, nil)
	if bad != "" {
		return nil, fmt.Errorf("the CSV header cannot be read: %s", bad)
	}
	var out []string
	for _, f := range fs {
		out = append(out, strings.TrimSpace(string(f.text)))
	}
	return out, nil
}

type csvEncoder struct {
	dialect CSV
	fields  []types.Field
	text    []byte
	times   types.TimeWriter
}

// Header implements Encoder.
func (e *csvEncoder) Header() []byte {
	var b []byte
	for i, f := range e.fields {
		if i > 0 {
			b = append(b, e.dialect.Delimiter)
		}
		b = e.dialect.append(b, []byte(f.Name))
	}
	return append(b, '\n')
}

// Append implements Encoder.
func (e *csvEncoder) Append(dst []byte, b *column.Batch, i int) []byte {
	for c, v := range b.Cols[:len(e.fields)] {
		if c > 0 {
			dst = append(dst, e.dialect.Delimiter)
		}
		switch {
		case v.Null(i):
			dst = append(dst, e.dialect.Null...)
		case v.Type.Kind == types.Varchar:
			dst = e.dialect.append(dst, v.Text(i))
		case v.Type.Kind == types.Varbinary:
			e.text = base64.StdEncoding.AppendEncode(e.text[:0], v.Text(i))
			dst = e.dialect.append(dst, e.text)
		case v.Type.IsNested(), v.Type.Kind == types.JSON:
			e.text = appendValue(e.text[:0], v, i, &e.times)
			dst = e.dialect.append(dst, e.text)
		default:
			e.text = types.AppendText(e.text[:0], v.Value(i))
			dst = e.dialect.append(dst, e.text)
		}
	}
	return dst
}

// append writes a field, in quotes where it would be read as something else without.
func (c CSV) append(dst, s []byte) []byte {
	if len(s) > 0 && s[0] != ' ' && s[len(s)-1] != ' ' && bytes.IndexByte(s, c.Delimiter) < 0 && bytes.IndexByte(s, c.Quote) < 0 &&
		!bytes.ContainsAny(s, "\r\n") && string(s) != c.Null {
		return append(dst, s...)
	}
	dst = append(dst, c.Quote)
	for _, x := range s {
		if x == c.Quote {
			dst = append(dst, x)
		}
		dst = append(dst, x)
	}
	return append(dst, c.Quote)
}
