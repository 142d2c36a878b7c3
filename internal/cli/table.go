package cli

import (
	"bufio"
	"fmt"
	"strings"
	"unicode/utf8"

	"fiume/internal/core/types"
)

// tableWriter prints rows in columns. It looks at the first rows to find the widths, then prints each
// row as it comes, so that a live query is seen live.
type tableWriter struct {
	w      *bufio.Writer
	fields []types.Field
	widths []int
	held   [][]string
	begun  bool
	rows   int
	live   bool // print each row at once
}

const rowsToMeasure = 50

func newTable(w *bufio.Writer, fields []types.Field) *tableWriter {
	t := &tableWriter{w: w, fields: fields}
	for _, f := range fields {
		n := utf8.RuneCountInString(f.Name)
		if f.Type.Kind == types.Timestamp {
			n = max(n, 24)
		}
		t.widths = append(t.widths, n)
	}
	return t
}

func (t *tableWriter) row(row []byte) error {
	cells, err := jsonRow(row, t.fields)
	if err != nil {
		return err
	}
	t.rows++
	if t.begun {
		return t.print(cells)
	}
	t.held = append(t.held, cells)
	for i, c := range cells {
		t.widths[i] = max(t.widths[i], min(utf8.RuneCountInString(c), 60))
	}
	if t.live || len(t.held) >= rowsToMeasure {
		return t.begin()
	}
	return nil
}

func (t *tableWriter) begin() error {
	t.begun = true
	var head, line []string
	for i, f := range t.fields {
		head = append(head, f.Name)
		line = append(line, strings.Repeat("─", t.widths[i]))
	}
	if err := t.print(head); err != nil {
		return err
	}
	if err := t.print(line); err != nil {
		return err
	}
	for _, r := range t.held {
		if err := t.print(r); err != nil {
			return err
		}
	}
	t.held = nil
	return nil
}

func (t *tableWriter) print(cells []string) error {
	for i, c := range cells {
		if i > 0 {
			t.w.WriteString("  ")
		}
		pad := strings.Repeat(" ", max(0, t.widths[i]-utf8.RuneCountInString(c)))
		right := t.fields[i].Type.IsNumber()
		switch {
		case right:
			t.w.WriteString(pad + c)
		case i == len(cells)-1:
			t.w.WriteString(c)
		default:
			t.w.WriteString(c + pad)
		}
	}
	t.w.WriteByte('\n')
	if t.live {
		return t.w.Flush()
	}
	return nil
}

func (t *tableWriter) finish() error {
	if !t.begun {
		if err := t.begin(); err != nil {
			return err
		}
	}
	s := "s"
	if t.rows == 1 {
		s = ""
	}
	_, err := fmt.Fprintf(t.w, "(%d row%s)\n", t.rows, s)
	return err
}

// counted is a number of things, such as "1 message" and "2,000 messages".
func counted(n int64, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return number(n) + " " + thing + "s"
}
