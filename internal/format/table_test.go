package format

import (
	"fmt"
	"slices"
	"testing"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// TestTableMessages reads rows, deletions and bad messages of tables in one piece: all come in the order of the
// messages, each with its place.
func TestTableMessages(t *testing.T) {
	option := []plan.OptionSpec{{Name: "format", Kind: plan.WordOption}}
	cat := plan.NewCatalog([]plan.Place{{Kind: "memory", Table: option}})
	plans, _, err := cat.Bind("t", `DECLARE TABLE a (chip VARCHAR PRIMARY KEY, bib INT) FROM MEMORY 'x' (FORMAT csv);
		DECLARE TABLE b (edition INT, place VARCHAR, at TIMESTAMP, PRIMARY KEY (edition, at)) EVENT TIME at FROM MEMORY 'x' (FORMAT json);
		SELECT * FROM a; SELECT * FROM b;`, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	type message struct{ key, value string }
	for n, c := range []struct {
		messages []message
		rows     []string
		rejects  []string
	}{
		{[]message{{"P1", "P1,7"}, {"P2", ""}, {"P3", "P3,x"}, {"", ""}, {"P4", "P4,"}},
			[]string{"insert P1 7 @1000 #0", "withdraw P2  @1001 #1", "insert P4  @1004 #4"}, []string{"2", "3"}},
		{[]message{{"2025|2026-05-17T09:00:00Z", ""}, {"x", `{"edition":2025,"place":"Faro","at":"2026-05-17T10:00:00Z"}`}, {"2025", ""}, {"many|2026-05-17", ""}},
			[]string{"withdraw 2025  2026-05-17T09:00:00.000Z @least #0", "insert 2025 Faro 2026-05-17T10:00:00.000Z @1779012000000000 #1"}, []string{"2", "3"}},
	} {
		scan := plans[n].Scans()[0]
		dec, err := (&Reading{Stream: scan.Stream, Table: scan.OfTable, Used: scan.Used}).NewDecoder(nil)
		if err != nil {
			t.Fatal(err)
		}
		var data []byte
		var ms []flow.Message
		for i, m := range c.messages {
			x := flow.Message{Off: uint32(len(data)), Len: uint32(len(m.value)), Pos: int64(i), At: int64(1000 + i)}
			if m.key != "" {
				x.Key = []byte(m.key)
			}
			ms = append(ms, x)
			data = append(data, m.value...)
		}
		data = append(data, make([]byte, flow.Pad)...)[:len(data)]
		for range 2 { // scratch memory is used again
			var out column.Batch
			var rejects, rows []string
			for _, r := range dec.Decode(data, ms, &out) {
				rejects = append(rejects, fmt.Sprint(r.Message))
			}
			slices.Sort(rejects)
			for i := range out.N {
				row := out.Change[i].String()
				for k := range scan.Stream.Columns {
					row += " " + string(types.AppendText(nil, out.Cols[k].Value(i)))
				}
				at := fmt.Sprint(out.Time[i])
				if out.Time[i] == types.MinTime {
					at = "least" // its split gives it a time
				}
				rows = append(rows, fmt.Sprintf("%s @%s #%d", row, at, out.Pos[i]))
			}
			if !slices.Equal(rows, c.rows) || !slices.Equal(rejects, c.rejects) {
				t.Errorf("rows %q, wanted %q\nrejects %v, wanted %v", rows, c.rows, rejects, c.rejects)
			}
		}
		// Without deletions nothing is put in order anew, and no row says that it is a change.
		var out column.Batch
		if dec.Decode(data, ms[1:2], &out); n == 1 && out.Change != nil {
			t.Error("rows are marked as changes")
		}
	}
}
