package format

import (
	"fmt"
	"strings"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// tableDecoder reads the messages of a table: an empty one deletes the row of its key.
type tableDecoder struct {
	rows  flow.Decoder
	table *plan.Table
	some  []flow.Message
}

func newTableDecoder(r *Reading, header []string, from Origin) (flow.Decoder, error) {
	rows, err := r.rows(header, from)
	d := &tableDecoder{rows: rows, table: r.Table}
	if p, ok := rows.(flow.Preparing); ok {
		return &preparingTable{d, p}, err
	}
	return d, err
}

// preparingTable is one whose rows need something before.
type preparingTable struct {
	*tableDecoder
	flow.Preparing
}

// Decode implements flow.Decoder.
func (d *tableDecoder) Decode(data []byte, msgs []flow.Message, out *column.Batch) []flow.Reject {
	empty := 0
	for _, m := range msgs {
		if m.Len == 0 {
			empty++
		}
	}
	out.Change = nil
	if empty == 0 {
		return d.rows.Decode(data, msgs, out)
	}
	d.some = d.some[:0]
	var at []int // of the messages that are rows
	for i, m := range msgs {
		if m.Len > 0 {
			d.some, at = append(d.some, m), append(at, i)
		}
	}
	in := &column.Batch{}
	rejects := d.rows.Decode(data, d.some, in)
	bad := map[int]bool{}
	for i := range rejects {
		bad[rejects[i].Message] = true
		rejects[i].Message = at[rejects[i].Message]
	}
	// The rows and the deletions, in the order of the messages.
	*out = column.Batch{Cols: make([]*column.Vector, len(in.Cols)), Split: in.Split}
	for k, c := range in.Cols {
		if c != nil {
			out.Cols[k] = column.New(c.Type)
		}
	}
	row, message := 0, 0
	for i, m := range msgs {
		if m.Len > 0 {
			if !bad[message] {
				out.AppendRow(in, row)
				out.Change = append(out.Change, column.Insert)
				row++
			}
			message++
			continue
		}
		if reason := d.delete(m, out); reason != "" {
			rejects = append(rejects, flow.Reject{Message: i, Reason: reason})
		}
	}
	out.From = nil
	return rejects
}

// delete adds the deletion of a message's key. Where the table has an event time, the deletion gets one from
// its split.
func (d *tableDecoder) delete(m flow.Message, out *column.Batch) string {
	keys := d.table.KeyColumns()
	parts := []string{string(m.Key)}
	if len(keys) > 1 {
		parts = strings.Split(string(m.Key), "|")
	}
	if m.Key == nil || len(parts) != len(keys) {
		return fmt.Sprintf("an empty message deletes the row of its key, and its key %q is not one of %d values", m.Key, len(keys))
	}
	values := map[int]types.Value{}
	for i, k := range keys {
		v, ok := eval.FromText(parts[i], d.table.Columns[k].Type)
		if !ok {
			return fmt.Sprintf("the key %q is no %s", parts[i], d.table.Columns[k].Type)
		}
		values[k] = v
	}
	for k, c := range out.Cols {
		if c != nil {
			c.Append(values[k])
		}
	}
	t := types.MinTime
	if d.table.Arrival() {
		t = m.At
	}
	out.N++
	out.Time, out.Pos, out.Change = append(out.Time, t), append(out.Pos, m.Pos), append(out.Change, column.Withdraw)
	return ""
}
