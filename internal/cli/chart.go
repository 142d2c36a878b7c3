package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"fiume/internal/core/types"

	"github.com/guptarohit/asciigraph"
)

// chart draws the rows of a numeric query in the terminal: where a column has text, bars of the newest number of each;
// else a line of the newest numbers.
type chart struct {
	w      io.Writer
	live   bool // it is drawn again in place
	name   int  // column of the bars' names, or -1
	number int
	fields []types.Field

	series []float64
	bars   map[string]float64
	order  []string // the most recent last
	lines  int      // drawn last
}

const (
	chartWidth  = 60
	chartHeight = 12
	chartBars   = 20
)

func newChart(w io.Writer, fields []types.Field, live bool) (*chart, error) {
	c := &chart{w: w, live: live, name: -1, number: -1, fields: fields, bars: map[string]float64{}}
	for i, f := range fields {
		switch {
		case f.Type.IsNumber():
			c.number = i
		case c.name < 0 && f.Type.Kind == types.Varchar:
			c.name = i
		}
	}
	if c.number < 0 {
		return nil, fail(exitUsage, "a chart needs a column of numbers; the query gives %s", fieldList(fields))
	}
	return c, nil
}

func fieldList(fields []types.Field) string {
	var out []string
	for _, f := range fields {
		out = append(out, f.Name+" "+f.Type.String())
	}
	return strings.Join(out, ", ")
}

// row takes a row.
func (c *chart) row(row json.RawMessage) error {
	cells, err := jsonRow(row, c.fields)
	if err != nil {
		return err
	}
	v, err := strconv.ParseFloat(cells[c.number], 64)
	if err != nil {
		return nil // NULL and NaN are no points
	}
	if c.name < 0 {
		if c.series = append(c.series, v); len(c.series) > chartWidth {
			c.series = c.series[1:]
		}
		return nil
	}
	name := cells[c.name]
	if i := slices.Index(c.order, name); i >= 0 {
		c.order = slices.Delete(c.order, i, i+1)
	}
	c.order = append(c.order, name)
	c.bars[name] = v
	if len(c.order) > chartBars {
		delete(c.bars, c.order[0])
		c.order = c.order[1:]
	}
	return nil
}

// text is the chart as it stands.
func (c *chart) text() string {
	title := c.fields[c.number].Name
	if c.name < 0 {
		if len(c.series) == 0 {
			return title + ": no numbers yet\n"
		}
		points := c.series
		if len(points) == 1 {
			points = append(slices.Clone(points), points[0])
		}
		return asciigraph.Plot(points, asciigraph.Height(chartHeight), asciigraph.Width(chartWidth), asciigraph.Caption(title+", the newest "+fmt.Sprint(len(c.series))+" rows")) + "\n"
	}
	if len(c.order) == 0 {
		return title + ": no numbers yet\n"
	}
	names := slices.Sorted(slices.Values(c.order))
	wide, most := 0, 0.0
	for _, n := range names {
		wide, most = max(wide, len([]rune(n))), math.Max(most, math.Abs(c.bars[n]))
	}
	wide = min(wide, 24)
	var b strings.Builder
	fmt.Fprintf(&b, "%s by %s, the newest of each\n", title, c.fields[c.name].Name)
	for _, n := range names {
		length := 0.0
		if most > 0 {
			length = math.Abs(c.bars[n]) / most * (chartWidth - 12)
		}
		bar := strings.Repeat("█", int(length))
		if part := []string{"", "▏", "▎", "▍", "▌", "▋", "▊", "▉"}[int((length-math.Floor(length))*8)]; part != "" {
			bar += part
		}
		fmt.Fprintf(&b, "%-*s %s %s\n", wide, clipped(n, wide), bar, strconv.FormatFloat(c.bars[n], 'g', 6, 64))
	}
	return b.String()
}

// draw draws the chart, in the place of the one before where it is live.
func (c *chart) draw() {
	text := c.text()
	if c.live && c.lines > 0 {
		fmt.Fprintf(c.w, "\x1b[%dA\x1b[J", c.lines)
	}
	fmt.Fprint(c.w, text)
	c.lines = strings.Count(text, "\n")
}
