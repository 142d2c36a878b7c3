package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"fiume/internal/api"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
	"fiume/internal/service/questions"
)

// rowPrinter prints the rows of a query as they come.
type rowPrinter struct {
	w      *bufio.Writer
	format string // table, json, csv or chart
	live   bool   // to a terminal
	fields []types.Field
	table  *tableWriter
	chart  *chart
	drawn  time.Time
	rows   int64
}

// drawEvery is how often a chart is drawn anew.
const drawEvery = 200 * time.Millisecond

func newRowPrinter(out io.Writer, format string) *rowPrinter {
	return &rowPrinter{w: bufio.NewWriter(out), format: format, live: isTerminal(out)}
}

func (p *rowPrinter) columns(cols []base.Column) error {
	for _, c := range cols {
		p.fields = append(p.fields, types.Field{Name: c.Name, Type: typeNamed(c.Type)})
	}
	switch p.format {
	case "table":
		p.table = newTable(p.w, p.fields)
		p.table.live = p.live
	case "chart":
		var err error
		if p.chart, err = newChart(p.w, p.fields, p.live); err != nil {
			return err
		}
	case "csv":
		for i, f := range p.fields {
			if i > 0 {
				p.w.WriteByte(',')
			}
			p.w.WriteString(csvCell(f.Name))
		}
		p.w.WriteByte('\n')
	}
	return p.w.Flush()
}

func (p *rowPrinter) row(row json.RawMessage) error {
	p.rows++
	switch p.format {
	case "table":
		if err := p.table.row(row); err != nil {
			return err
		}
	case "chart":
		if err := p.chart.row(row); err != nil {
			return err
		}
		if !p.live || time.Since(p.drawn) < drawEvery {
			return nil
		}
		p.drawn = time.Now()
		p.chart.draw()
	case "csv":
		cells, err := jsonRow(row, p.fields)
		if err != nil {
			return err
		}
		for i, cell := range cells {
			if i > 0 {
				p.w.WriteByte(',')
			}
			if cell != "NULL" {
				p.w.WriteString(csvCell(cell))
			}
		}
		p.w.WriteByte('\n')
	default:
		p.w.Write(row)
		p.w.WriteByte('\n')
	}
	return p.w.Flush()
}

// finish prints what is left. ended says that the query came to its end, so that an empty table is shown, too.
func (p *rowPrinter) finish(ended bool) error {
	var err error
	if p.table != nil && (ended || p.rows > 0) {
		err = p.table.finish()
	}
	if p.chart != nil {
		p.chart.draw()
	}
	return errors.Join(err, p.w.Flush())
}

// hintAfter is when it is said that a query that does not end is live.
const hintAfter = 10 * time.Second

// asideText says how many rows were set aside, and why one of them.
func asideText(a questions.QueryAside) string {
	out := fmt.Sprintf("%d rows were late, %d rejected", a.Late, a.Rejected)
	if a.Reason != "" {
		out += ", such as: " + a.Reason
	}
	return out
}

// runQuery runs a query and prints its rows.
func (a *app) runQuery(ctx context.Context, in api.ScriptRequest, format string) (rows int64, err error) {
	p := newRowPrinter(a.out, format)
	var aside questions.QueryAside
	if !p.live { // somebody may wait for the end of what has none
		hint := time.AfterFunc(hintAfter, func() {
			fmt.Fprintln(a.err, "the query is live and goes on: UNTIL NOW or LIMIT n would end it, Ctrl-C does")
		})
		defer hint.Stop()
	}
	end, err := a.client().Query(ctx, in, p.columns, p.row, func(x questions.QueryAside) {
		if aside == (questions.QueryAside{}) && p.rows == 0 { // nothing is seen, and this is why
			fmt.Fprintf(a.err, "no row yet; %s\n", asideText(x))
		}
		aside = x
	})
	err = errors.Join(err, p.finish(end != nil))
	if aside != (questions.QueryAside{}) {
		fmt.Fprintln(a.err, asideText(aside))
	}
	return p.rows, err
}
