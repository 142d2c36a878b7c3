package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/service/boards"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"
)

func (a *app) boardCommand() *cobra.Command {
	board := &cobra.Command{Use: "board", Short: "Show boards: panels over live queries", Args: arity(0, "a subcommand"),
		Example: "  fiume board list\n  fiume board show race_control\n  fiume board show race_control --watch"}
	list := &cobra.Command{
		Use: "list", Short: "List the boards", Example: "  fiume board list", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().Boards(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintln(a.out, "there are no boards; CREATE BOARD makes one")
				return nil
			}
			var rows [][]string
			for _, b := range all {
				rows = append(rows, []string{b.Name, b.Title, strconv.Itoa(len(b.Panels))})
			}
			columns(a.out, []string{"BOARD", "TITLE", "PANELS"}, rows)
			return nil
		},
	}
	a.outputFlag(list, "table", "json")
	var watch bool
	var look boardLook
	show := &cobra.Command{
		Use: "show BOARD", Short: "Draw a board in the terminal",
		Long:    "Draws the panels of a board as they stand. With --watch they are drawn again as they change, until Ctrl-C.",
		Example: "  fiume board show race_control\n  fiume board show race_control --watch\n  fiume board show race_control --set wave=B --since '15 MINUTES'\n  fiume board show race_control -o json", Args: arity(1, "the name of a board"),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := a.client().Board(c.Context(), args[0])
			if err != nil {
				return failed(err)
			}
			view, err := look.query(a, b)
			if err != nil {
				return err
			}
			if watch {
				return a.watchBoard(c.Context(), b, view)
			}
			panels, err := a.standing(c.Context(), b, view)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				type shown struct {
					boards.Panel
					Rows    []json.RawMessage `json:"rows"`
					Dropped int64             `json:"dropped,omitempty"`
					Problem string            `json:"problem,omitempty"`
				}
				out := []shown{}
				for i, p := range b.Panels {
					out = append(out, shown{p, panels[i].ordered(), panels[i].dropped, panels[i].problem})
				}
				return a.printJSON(map[string]any{"name": b.Name, "title": b.Title, "panels": out})
			}
			a.drawBoard(a.out, b, panels)
			return nil
		},
	}
	show.Flags().BoolVar(&watch, "watch", false, "draw it again as it changes, until Ctrl-C")
	show.Flags().StringArrayVar(&a.sets, "set", nil, "choose for a variable of the board: name=value; an empty value stands for all")
	look.flags(show)
	a.outputFlag(show, "text", "json")
	var file string
	var pngLook boardLook
	png := &cobra.Command{
		Use: "png BOARD", Short: "Draw a board as a picture",
		Long: `Draws the panels of a board as they stand as a PNG, for a mail or a page. Countries are drawn as
bars.`,
		Example: "  fiume board png race_control -f race.png\n  fiume board png machines --set mat=km-05 -f - > mat.png", Args: arity(1, "the name of a board"),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := a.client().Board(c.Context(), args[0])
			if err != nil {
				return failed(err)
			}
			view, err := pngLook.query(a, b)
			if err != nil {
				return err
			}
			panels, err := a.standing(c.Context(), b, view)
			if err != nil {
				return failed(err)
			}
			var out bytes.Buffer
			if err := boardPNG(&out, b, panels); err != nil {
				return fail(exitFailed, "%s", err)
			}
			if file == "-" {
				_, err := out.WriteTo(a.out)
				return err
			}
			name := cmp.Or(file, b.Name+".png")
			if err := os.WriteFile(name, out.Bytes(), 0o644); err != nil {
				return fail(exitFailed, "%s", err)
			}
			fmt.Fprintf(a.out, "%s written\n", name)
			return nil
		},
	}
	png.Flags().StringVarP(&file, "file", "f", "", "where to; - for the standard output (default: the board's name and .png)")
	png.Flags().StringArrayVar(&a.sets, "set", nil, "choose for a variable of the board: name=value; an empty value stands for all")
	pngLook.flags(png)
	board.AddCommand(list, show, png)
	return board
}

// boardLook says how a board is looked at.
type boardLook struct{ since, from, to string }

func (l *boardLook) flags(c *cobra.Command) {
	c.Flags().StringVar(&l.since, "since", "", "how far back, as '15 MINUTES' (default: as the board says)")
	c.Flags().StringVar(&l.from, "from", "", "with --to: a stretch of event time instead, such as 2026-05-17T09:00:00Z")
	c.Flags().StringVar(&l.to, "to", "", "its end")
}

// query gives it as the query of a call.
func (l *boardLook) query(a *app, b *boards.Board) (url.Values, error) {
	out := url.Values{}
	for _, s := range a.sets {
		name, _, ok := strings.Cut(s, "=")
		if !ok {
			return nil, fail(exitUsage, "--set %s: write name=value", s)
		}
		if !slices.ContainsFunc(b.Variables, func(v boards.Variable) bool { return v.Name == name }) {
			var have []string
			for _, v := range b.Variables {
				have = append(have, v.Name)
			}
			if len(have) == 0 {
				return nil, fail(exitUsage, "--set %s: the board %s has no variables", s, b.Name)
			}
			return nil, fail(exitUsage, "--set %s: the board %s has no variable %s, but %s", s, b.Name, name, strings.Join(have, ", "))
		}
		out.Add("choose", s)
	}
	for name, text := range map[string]string{"since": l.since, "from": l.from, "to": l.to} {
		if text == "" {
			continue
		}
		if name != "since" {
			us, ok := types.ParseTimestamp([]byte(text))
			if !ok {
				return nil, fail(exitUsage, "--%s %s: write an instant, such as 2026-05-17T09:00:00Z", name, text)
			}
			text = time.UnixMicro(us).UTC().Format(time.RFC3339Nano)
		}
		out.Set(name, text)
	}
	return out, nil
}

// panelRows are the rows of a panel, the newest change last.
type panelRows struct {
	rows    map[string]json.RawMessage
	order   []string
	dropped int64
	problem string
}

func (p *panelRows) take(u boards.Update) {
	if u.Full || p.rows == nil {
		p.rows, p.order = map[string]json.RawMessage{}, nil
	}
	for _, r := range u.Rows {
		if _, ok := p.rows[r.Key]; ok {
			p.order = slices.DeleteFunc(p.order, func(k string) bool { return k == r.Key })
			delete(p.rows, r.Key)
		}
		if r.Row != nil {
			p.rows[r.Key] = r.Row
			p.order = append(p.order, r.Key)
		}
	}
	p.dropped, p.problem = u.Dropped, u.Problem
}

func (p *panelRows) ordered() []json.RawMessage {
	out := []json.RawMessage{}
	for _, k := range p.order {
		out = append(out, p.rows[k])
	}
	return out
}

// standing gets the rows of all panels.
func (a *app) standing(ctx context.Context, b *boards.Board, view url.Values) ([]panelRows, error) {
	out := make([]panelRows, len(b.Panels))
	var asking errgroup.Group
	asking.SetLimit(8)
	for i, p := range b.Panels {
		if p.SQL == "" {
			continue
		}
		asking.Go(func() error {
			u, err := a.client().BoardRows(ctx, b.Name, i, view, 3)
			if err == nil {
				u.Full = true
				out[i].take(*u)
			}
			return err
		})
	}
	return out, asking.Wait()
}

// drawnEvery is how often a board is drawn again at most.
const drawnEvery = 500 * time.Millisecond

func (a *app) watchBoard(ctx context.Context, b *boards.Board, view url.Values) error {
	if !isTerminal(a.out) {
		return fail(exitUsage, "--watch draws in a terminal; without it the board is shown once")
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	updates, replaced, ended := make(chan boards.Update), make(chan *boards.Board), make(chan error, 1)
	go func() {
		ended <- a.client().WatchBoard(ctx, b.Name, view, func(b *boards.Board) error {
			select {
			case replaced <- b:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}, func(u boards.Update) error {
			select {
			case updates <- u:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	}()
	panels := make([]panelRows, len(b.Panels))
	t := time.NewTicker(drawnEvery)
	defer t.Stop()
	changed := true
	for {
		select {
		case err := <-ended:
			return failed(err)
		case b = <-replaced:
			panels = make([]panelRows, len(b.Panels))
			changed = true
		case u := <-updates:
			if u.Panel >= 0 && u.Panel < len(panels) {
				panels[u.Panel].take(u)
				changed = true
			}
		case <-t.C:
			if changed {
				var out strings.Builder
				a.drawBoard(&out, b, panels)
				fmt.Fprintf(a.out, "\x1b[H\x1b[2J%s", out.String())
				changed = false
			}
		}
	}
}

// drawBoard draws all panels, one below the other.
func (a *app) drawBoard(w io.Writer, b *boards.Board, panels []panelRows) {
	fmt.Fprintln(w, b.Title)
	for i, p := range b.Panels {
		fmt.Fprintf(w, "\n%s\n%s\n", p.Title, strings.Repeat("─", max(8, utf8.RuneCountInString(p.Title))))
		if p.Kind == "text" {
			fmt.Fprintln(w, p.Words)
			continue
		}
		rows := panels[i].ordered()
		if panels[i].problem != "" {
			fmt.Fprintln(w, panels[i].problem)
		}
		if len(rows) == 0 {
			fmt.Fprintln(w, "no rows yet")
			continue
		}
		drawPanel(w, &p, rows)
		if panels[i].dropped > 0 {
			fmt.Fprintf(w, "%s older rows are not kept\n", number(panels[i].dropped))
		}
	}
}

// point is what a row says in a drawing.
type point struct {
	at    string
	label string
	value float64
	text  string
}

// pointsOf are the points of rows; of a panel that draws numbers only those that have one.
func pointsOf(p *boards.Panel, rows []json.RawMessage) (points []point) {
	for _, row := range rows {
		text := cellsOf(row)
		v, err := strconv.ParseFloat(text(p.Value), 64)
		if err != nil && p.Kind != "table" && p.Kind != "map" {
			continue // NULL and NaN are no points
		}
		points = append(points, point{text(p.Time), text(p.Label), v, text(p.Value)})
	}
	return points
}

// markOf says how a value stands out: above, below, or "".
func markOf(p *boards.Panel, v float64) string {
	switch {
	case p.Above != nil && v >= *p.Above:
		return "above"
	case p.Below != nil && v <= *p.Below:
		return "below"
	}
	return ""
}

// newestOf gives the newest number of each label, and the labels, the largest first, as many as are shown.
func newestOf(p *boards.Panel, points []point) (labels []string, newest map[string]float64) {
	newest = map[string]float64{}
	for _, x := range points {
		newest[x.label] = x.value
	}
	for l := range newest {
		labels = append(labels, l)
	}
	slices.SortFunc(labels, func(a, b string) int { return cmp.Or(cmp.Compare(newest[b], newest[a]), cmp.Compare(a, b)) })
	return labels[:min(len(labels), cmp.Or(p.Top, chartBars))], newest
}

func drawPanel(w io.Writer, p *boards.Panel, rows []json.RawMessage) {
	points := pointsOf(p, rows)
	marked := func(v float64) string { return signOf(p, v) }
	unit := ""
	if p.Unit != "" {
		unit = " " + p.Unit
	}
	switch p.Kind {
	case "histogram":
		drawHistogram(w, p, points, unit)
	case "states":
		drawStates(w, p, rows)
	case "map":
		drawMap(w, p, rows, unit, marked)
	case "number":
		if len(points) > 0 {
			x := points[len(points)-1]
			fmt.Fprintf(w, "%s%s%s\n", rounded(x.value), unit, marked(x.value))
		}
	case "bars", "areas":
		labels, newest := newestOf(p, points)
		widest, most := 0, 0.0
		for _, l := range labels {
			most = max(most, math.Abs(newest[l]))
			widest = max(widest, utf8.RuneCountInString(l))
		}
		for _, l := range labels {
			n := 0
			if most > 0 {
				n = int(math.Round(math.Abs(newest[l]) / most * 40))
			}
			fmt.Fprintf(w, "%s%s  %s %s%s%s\n", l, strings.Repeat(" ", widest-utf8.RuneCountInString(l)), strings.Repeat("█", n), rounded(newest[l]), unit, marked(newest[l]))
		}
	case "series", "heat":
		drawTimes(w, p, points, unit)
	default:
		if p.Value != "" {
			order := make([]int, len(rows))
			for i := range order {
				order[i] = i
			}
			slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(points[b].value, points[a].value) })
			sorted := make([]json.RawMessage, len(rows))
			for i, k := range order {
				sorted[i] = rows[k]
			}
			rows = sorted
			rows = rows[:min(len(rows), cmp.Or(p.Top, chartBars))]
		} else if n := cmp.Or(p.Top, chartBars); len(rows) > n {
			rows = rows[len(rows)-n:]
		}
		var fields []types.Field
		for _, c := range p.Columns {
			fields = append(fields, types.Field{Name: c.Name, Type: typeNamed(c.Type)})
		}
		buf := bufio.NewWriter(w)
		defer buf.Flush()
		t := newTable(buf, fields)
		for _, r := range rows {
			if t.row(r) != nil {
				return
			}
		}
		_ = t.finish()
	}
}

// cellsOf gives the texts of a row's columns.
func cellsOf(row json.RawMessage) func(column string) string {
	var cells map[string]json.RawMessage
	if json.Unmarshal(row, &cells) != nil {
		return func(string) string { return "" }
	}
	return func(column string) string {
		var s string
		if raw := cells[column]; json.Unmarshal(raw, &s) != nil {
			return string(raw)
		}
		return s
	}
}

// drawHistogram draws how many values there are in each stretch.
func drawHistogram(w io.Writer, p *boards.Panel, points []point, unit string) {
	if len(points) == 0 {
		return
	}
	values := make([]float64, len(points))
	for i, x := range points {
		values[i] = x.value
	}
	low, step, counts := boards.Histogram(values, p.Bins)
	most, widest := slices.Max(counts), 0
	label := func(i int) string {
		return rounded(low+float64(i)*step) + " to " + rounded(low+float64(i+1)*step) + unit
	}
	for i := range counts {
		widest = max(widest, utf8.RuneCountInString(label(i)))
	}
	for i, n := range counts {
		fmt.Fprintf(w, "%s%s  %s %s\n", strings.Repeat(" ", widest-utf8.RuneCountInString(label(i))), label(i), strings.Repeat("█", int(math.Round(float64(n)/float64(most)*40))), number(int64(n)))
	}
}

// stay is a state from a time on.
type stay struct{ at, state string }

// staysOf gives the states of each label in the order of time.
func staysOf(p *boards.Panel, rows []json.RawMessage) map[string][]stay {
	out := map[string][]stay{}
	for _, row := range rows {
		text := cellsOf(row)
		if at := text(p.Time); at != "null" {
			out[text(p.Label)] = append(out[text(p.Label)], stay{at, text(p.State)})
		}
	}
	for label, list := range out {
		slices.SortStableFunc(list, func(a, b stay) int { return cmp.Compare(a.at, b.at) })
		out[label] = slices.CompactFunc(list, func(a, b stay) bool { return a.state == b.state })
	}
	return out
}

// place is where a label is on a plane, with its number as text.
type place struct {
	plan.Spot
	label, value string
}

// placesOf gives the newest place of each label in the order of the labels, and the corners of what is around them and the outline.
func placesOf(p *boards.Panel, rows []json.RawMessage) (out []place, low, high plan.Spot) {
	places := map[string]place{}
	for _, row := range rows {
		text := cellsOf(row)
		x := place{label: text(p.Label), value: text(p.Value)}
		var err, err2 error
		x.Across, err = strconv.ParseFloat(text(p.Across), 64)
		x.Up, err2 = strconv.ParseFloat(text(p.Up), 64)
		if err != nil || err2 != nil {
			continue
		}
		if p.Label == "" {
			x.label = fmt.Sprintf("%v, %v", x.Across, x.Up)
		}
		places[x.label] = x
	}
	box := append([]plan.Spot(nil), p.Outline...)
	for _, x := range places {
		out = append(out, x)
		box = append(box, x.Spot)
	}
	slices.SortFunc(out, func(a, b place) int { return cmp.Compare(a.label, b.label) })
	for i, x := range box {
		if i == 0 {
			low, high = x, x
		}
		low, high = plan.Spot{Across: min(low.Across, x.Across), Up: min(low.Up, x.Up)}, plan.Spot{Across: max(high.Across, x.Across), Up: max(high.Up, x.Up)}
	}
	return out, low, high
}

// drawStates says for each label which state it is in, since when, and what came before.
func drawStates(w io.Writer, p *boards.Panel, rows []json.RawMessage) {
	var lines [][]string
	for label, list := range staysOf(p, rows) {
		last := list[len(list)-1]
		before := ""
		if len(list) > 1 {
			before = list[len(list)-2].state
		}
		lines = append(lines, []string{label, last.state, last.at, before})
	}
	slices.SortFunc(lines, func(a, b []string) int { return cmp.Compare(a[0], b[0]) })
	left := len(lines) - chartBars
	columns(w, []string{strings.ToUpper(p.Label), strings.ToUpper(p.State), "SINCE", "BEFORE"}, lines[:min(len(lines), chartBars)])
	if left > 0 {
		fmt.Fprintf(w, "%d more are not drawn\n", left)
	}
}

// The places of a map are drawn on so many lines and columns, and told by so many letters.
const (
	mapWide, mapHigh = 60, 16
	mapLetters       = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
)

// drawMap draws the newest place of each label as a letter, with the outline as dots, and says what the letters stand for.
func drawMap(w io.Writer, p *boards.Panel, rows []json.RawMessage, unit string, marked func(float64) string) {
	places, low, high := placesOf(p, rows)
	if len(places) == 0 {
		return
	}
	grid := make([][]rune, mapHigh)
	for i := range grid {
		grid[i] = []rune(strings.Repeat(" ", mapWide))
	}
	put := func(x plan.Spot, r rune) {
		scaled := func(v, low, high float64, n int) int {
			if high <= low {
				return n / 2
			}
			return int(math.Round((v - low) / (high - low) * float64(n-1)))
		}
		grid[mapHigh-1-scaled(x.Up, low.Up, high.Up, mapHigh)][scaled(x.Across, low.Across, high.Across, mapWide)] = r
	}
	for i := 1; i < len(p.Outline); i++ {
		a, b := p.Outline[i-1], p.Outline[i]
		for k := range mapWide + 1 {
			s := float64(k) / mapWide
			put(plan.Spot{Across: a.Across + (b.Across-a.Across)*s, Up: a.Up + (b.Up-a.Up)*s}, '·')
		}
	}
	shown := places[:min(len(places), len(mapLetters))]
	for i, x := range shown {
		put(x.Spot, rune(mapLetters[i]))
	}
	for _, line := range grid {
		fmt.Fprintln(w, strings.TrimRight(string(line), " "))
	}
	for i, x := range shown {
		value := ""
		if v, err := strconv.ParseFloat(x.value, 64); err == nil {
			value = "  " + rounded(v) + unit + marked(v)
		}
		fmt.Fprintf(w, "%c  %s%s\n", mapLetters[i], x.label, value)
	}
	if left := len(places) - len(shown); left > 0 {
		fmt.Fprintf(w, "%d more are not drawn\n", left)
	}
}

// drawTimes draws a line of blocks over time for each label, the newest on the right.
func drawTimes(w io.Writer, p *boards.Panel, points []point, unit string) {
	var times, labels []string
	at := map[[2]string]float64{}
	for _, x := range points {
		if !slices.Contains(labels, x.label) {
			labels = append(labels, x.label)
		}
		at[[2]string{x.label, x.at}] = x.value
		times = append(times, x.at)
	}
	slices.Sort(times)
	times = slices.Compact(times)
	times = times[max(0, len(times)-chartWidth):]
	slices.Sort(labels)
	blocks := []rune("▁▂▃▄▅▆▇█")
	if p.Kind == "heat" {
		blocks = []rune("░▒▓█")
	}
	least, most, widest := math.Inf(1), math.Inf(-1), 0
	for _, l := range labels {
		widest = max(widest, utf8.RuneCountInString(l))
		for _, t := range times {
			if v, ok := at[[2]string{l, t}]; ok {
				least, most = min(least, v), max(most, v)
			}
		}
	}
	for _, l := range labels[:min(len(labels), chartBars)] {
		var line strings.Builder
		last := ""
		for _, t := range times {
			v, ok := at[[2]string{l, t}]
			if !ok {
				line.WriteByte(' ')
				continue
			}
			last = rounded(v)
			k := 0
			if most > least {
				k = int((v - least) / (most - least) * float64(len(blocks)-1))
			}
			line.WriteRune(blocks[k])
		}
		fmt.Fprintf(w, "%s%s  %s  %s%s\n", l, strings.Repeat(" ", widest-utf8.RuneCountInString(l)), line.String(), last, unit)
	}
	if len(labels) > chartBars {
		fmt.Fprintf(w, "%d more are not drawn\n", len(labels)-chartBars)
	}
	if len(times) > 0 {
		fmt.Fprintf(w, "from %s to %s, values from %s to %s%s\n", times[0], times[len(times)-1], rounded(least), rounded(most), unit)
	}
}

// rounded says a number as people read it.
func rounded(v float64) string {
	if v == math.Trunc(v) && math.Abs(v) < 1e15 {
		return number(int64(v))
	}
	return strconv.FormatFloat(v, 'f', 2, 64)
}
