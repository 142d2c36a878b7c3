package files

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// Rows of a sink can be told apart by directories, mat=km-05/day=2026-05-17: by the values of columns, and by the hour, day, month or year of one of
// time. The columns stay in the rows, too, so that a file says by itself what it holds.

// cut is how.
type cut struct {
	columns []int
	names   []string
	time    int // the column of time, or -1
	each    string
}

// nobody is the directory of rows whose column is NULL.
const nobody = "_null_"

// cutOf reads PARTITION BY.
func cutOf(o plan.Options, fields []types.Field) (*cut, error) {
	by := o.Names("partition by")
	if len(by) == 0 {
		return nil, nil
	}
	c := &cut{time: -1, each: strings.ToLower(o.Word("each", "day"))}
	for _, n := range by {
		i := slices.IndexFunc(fields, func(f types.Field) bool { return f.Name == n })
		if i < 0 {
			var have []string
			for _, f := range fields {
				have = append(have, f.Name)
			}
			return nil, fmt.Errorf("PARTITION BY names %q, which the rows do not have: they have %s", n, strings.Join(have, ", "))
		}
		switch k := fields[i].Type.Kind; {
		case k == types.Timestamp && c.time >= 0:
			return nil, fmt.Errorf("PARTITION BY takes one column of time, and %s and %s are two", fields[c.time].Name, n)
		case k == types.Timestamp:
			c.time = i
		case k == types.Varchar, k == types.Boolean, k == types.Int, k == types.BigInt, k == types.Decimal, k == types.Date:
		default:
			return nil, fmt.Errorf("PARTITION BY takes texts, whole numbers, decimals, truth and times, and %s is %s", n, fields[i].Type)
		}
		c.columns, c.names = append(c.columns, i), append(c.names, url.PathEscape(n))
	}
	if _, ok := o["each"]; ok && c.time < 0 {
		return nil, fmt.Errorf("EACH %s is for a column of time in PARTITION BY", c.each)
	}
	return c, nil
}

// slice is the rows of one directory.
type slice struct {
	dir     string
	until   int64 // the end of the directory's time; MaxTime where it has none
	newest  int64 // event time of its rows
	enc     flow.Encoder
	rows    []uint32
	payload flow.Payload
}

// cutter is a flow.Encoder that tells rows apart.
type cutter struct {
	cut     *cut
	encoder func() (flow.Encoder, error)
	by      map[string]*slice
	order   []*slice
	touched []*slice
	batch   column.Batch
	key     []byte
	rows    int

	// The stretch of time that the last row was in.
	from, until int64
	span        []byte
}

// Add implements flow.Encoder.
func (c *cutter) Add(b *column.Batch) {
	c.touched = c.touched[:0]
	var last *slice
	for i := range b.N {
		c.key = c.dir(c.key[:0], b, i)
		if last == nil || last.dir != string(c.key) {
			last = c.by[string(c.key)]
			if last == nil {
				enc, err := c.encoder()
				if err != nil { // it was made once
					panic(err)
				}
				last = &slice{dir: string(c.key), until: types.MaxTime, newest: types.MinTime, enc: enc}
				if t := c.cut.time; t >= 0 && !b.Cols[t].Null(i) {
					last.until = c.until
				}
				c.by[last.dir] = last
				c.order = append(c.order, last)
			}
			if len(last.rows) == 0 {
				c.touched = append(c.touched, last)
			}
		}
		last.rows = append(last.rows, uint32(i))
		t := b.Time[i]
		if k := c.cut.time; k >= 0 && !b.Cols[k].Null(i) {
			t = b.Cols[k].I[i]
		}
		last.newest = max(last.newest, t)
	}
	for _, x := range c.touched {
		if len(x.rows) == b.N {
			x.enc.Add(b)
		} else {
			b.Gather(x.rows, &c.batch)
			x.enc.Add(&c.batch)
		}
		x.rows = x.rows[:0]
	}
	c.rows += b.N
}

// Held is how many bytes wait to be taken.
func (c *cutter) Held() (n int) {
	for _, x := range c.order {
		if h, ok := x.enc.(interface{ Held() int }); ok {
			n += h.Held()
		}
	}
	return n
}

// Take implements flow.Encoder.
func (c *cutter) Take() flow.Payload {
	p := flow.Payload{Rows: c.rows}
	if len(c.order) > 0 {
		all := make([]*slice, len(c.order))
		for i, x := range c.order {
			all[i] = &slice{dir: x.dir, until: x.until, newest: x.newest, payload: x.enc.Take()}
		}
		p.Any = all
	}
	clear(c.by)
	c.order, c.rows = c.order[:0], 0
	return p
}

// dir appends the directory of a row.
func (c *cutter) dir(dst []byte, b *column.Batch, row int) []byte {
	for i, k := range c.cut.columns {
		if len(dst) > 0 {
			dst = append(dst, '/')
		}
		v := b.Cols[k]
		if k == c.cut.time {
			dst = c.timed(dst, v, row)
			continue
		}
		dst = append(append(dst, c.cut.names[i]...), '=')
		switch {
		case v.Null(row):
			dst = append(dst, nobody...)
		case v.Type.Kind == types.Varchar:
			dst = escaped(dst, v.Text(row))
		default:
			dst = types.AppendText(dst, v.Value(row))
		}
	}
	return dst
}

// timed appends the directories of a time.
func (c *cutter) timed(dst []byte, v *column.Vector, row int) []byte {
	if v.Null(row) {
		return append(append(append(dst, c.cut.each...), '='), nobody...)
	}
	at := v.I[row]
	if c.span != nil && at >= c.from && at < c.until {
		return append(dst, c.span...)
	}
	t := time.UnixMicro(at).UTC()
	year, month, day := t.Date()
	var from, until time.Time
	layout := "day=2006-01-02"
	switch c.cut.each {
	case "year":
		from, layout = time.Date(year, 1, 1, 0, 0, 0, 0, time.UTC), "year=2006"
		until = from.AddDate(1, 0, 0)
	case "month":
		from, layout = time.Date(year, month, 1, 0, 0, 0, 0, time.UTC), "month=2006-01"
		until = from.AddDate(0, 1, 0)
	case "hour":
		from, layout = t.Truncate(time.Hour), "day=2006-01-02/hour=15"
		until = from.Add(time.Hour)
	default:
		from = time.Date(year, month, day, 0, 0, 0, 0, time.UTC)
		until = from.AddDate(0, 0, 1)
	}
	c.from, c.until, c.span = from.UnixMicro(), until.UnixMicro(), t.AppendFormat(c.span[:0], layout)
	return append(dst, c.span...)
}

// longestName is how long the name of a directory may become on disks, in bytes.
const longestName = 200

// escaped appends a text as the name of a directory.
func escaped(dst, s []byte) []byte {
	if len(s) == 0 {
		return append(dst, "_empty_"...)
	}
	from := len(dst)
	for _, x := range s {
		if x < ' ' || x == 0x7f || strings.IndexByte(`/\%=:*?"<>|#[]{}^`, x) >= 0 || x == '.' && len(dst) == from {
			dst = append(dst, '%', hexDigits[x>>4], hexDigits[x&15])
		} else {
			dst = append(dst, x)
		}
		if len(dst)-from > longestName {
			return append(dst[:from+longestName], "..."...)
		}
	}
	return dst
}

const hexDigits = "0123456789ABCDEF"
