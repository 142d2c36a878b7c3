package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"image/color"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/service/boards"

	xfont "golang.org/x/image/font"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
)

// The picture of a board has the page's 12 columns, and its tones. Lengths are points; a pixel of the picture is half of one.
const (
	picWide  = vg.Length(1200)
	picRow   = vg.Length(88)
	picGap   = vg.Length(12)
	picHead  = vg.Length(30) // of a panel
	picTitle = vg.Length(44) // of the board
	picDPI   = 144
)

var (
	inkTone   = color.NRGBA{0x23, 0x30, 0x2f, 0xff}
	softTone  = color.NRGBA{0x56, 0x62, 0x5f, 0xff}
	lineTone  = color.NRGBA{0xe2, 0xdd, 0xd2, 0xff}
	paperTone = color.NRGBA{0xf6, 0xf4, 0xef, 0xff}
	sheetTone = color.NRGBA{0xff, 0xfe, 0xfb, 0xff}
	riverTone = color.NRGBA{0x24, 0x5b, 0x57, 0xff}
	clayTone  = color.NRGBA{0x9a, 0x45, 0x26, 0xff}
	picTones  = []color.NRGBA{riverTone, clayTone, {0x7d, 0x5a, 0x12, 0xff}, {0x59, 0x63, 0x22, 0xff}, softTone, inkTone}
	picDashes = [][]vg.Length{nil, {7, 4}, {2, 3}}
)

// pic draws on a part of the picture. What it writes is cut to its place.
type pic struct {
	draw.Canvas
	fonts *font.Cache
}

func (p pic) style(size vg.Length, tone color.Color, bold bool) text.Style {
	f := font.Font{Typeface: "Liberation", Variant: "Sans", Size: size}
	if bold {
		f.Weight = xfont.WeightBold
	}
	return text.Style{Color: tone, Font: p.fonts.Lookup(f, size).Font, Handler: text.Plain{Fonts: p.fonts}, YAlign: draw.YCenter}
}

// write writes a line of text, cut where it is too long, at a height from below; align is -1 for left, 0 for the middle and 1 for right.
func (p pic) write(s string, x, y, wide vg.Length, align float64, st text.Style) {
	s = strings.Map(func(r rune) rune {
		if r < ' ' {
			return ' '
		}
		return r
	}, s)
	for rs := []rune(s); st.Width(s) > wide && len(rs) > 0; {
		rs = rs[:len(rs)-1]
		s = string(rs) + "…"
	}
	st.XAlign = text.XAlignment(-(align + 1) / 2)
	p.FillText(st, vg.Point{X: x, Y: y}, s)
}

func (p pic) box(x0, y0, x1, y1 vg.Length, tone color.Color) {
	p.FillPolygon(tone, []vg.Point{{X: x0, Y: y0}, {X: x1, Y: y0}, {X: x1, Y: y1}, {X: x0, Y: y1}})
}

// shade is a tone for a share between 0 and 1: the darker the larger.
func shade(share float64) color.NRGBA {
	share = 0.15 + 0.85*max(0, min(1, share))
	mix := func(a, b uint8) uint8 { return uint8(float64(a) + (float64(b)-float64(a))*share) }
	return color.NRGBA{mix(sheetTone.R, riverTone.R), mix(sheetTone.G, riverTone.G), mix(sheetTone.B, riverTone.B), 0xff}
}

// placed says where the panels of a board stand, as the page has them: each in the first gap that is large enough.
func placed(panels []boards.Panel) (at [][2]int, rows int) {
	taken := map[[2]int]bool{}
	for _, p := range panels {
		fits := func(row, column int) bool {
			for r := range p.High {
				for c := range p.Wide {
					if taken[[2]int{row + r, column + c}] {
						return false
					}
				}
			}
			return true
		}
		row, column := 0, 0
		for ; !fits(row, column); column++ {
			if column+p.Wide >= 12 {
				row, column = row+1, -1
			}
		}
		for r := range p.High {
			for c := range p.Wide {
				taken[[2]int{row + r, column + c}] = true
			}
		}
		at = append(at, [2]int{row, column})
		rows = max(rows, row+p.High)
	}
	return at, rows
}

// mostPicRows is how many rows of panels a picture has at most.
const mostPicRows = 120

// boardPNG draws a board as a picture.
func boardPNG(w io.Writer, b *boards.Board, panels []panelRows) error {
	at, rows := placed(b.Panels)
	if rows > mostPicRows {
		return fmt.Errorf("the board is %d rows high, and a picture has up to %d", rows, mostPicRows)
	}
	high := picTitle + vg.Length(rows)*(picRow+picGap) + picGap
	canvas := vgimg.NewWith(vgimg.UseWH(picWide, high), vgimg.UseDPI(picDPI), vgimg.UseBackgroundColor(paperTone))
	p := pic{draw.New(canvas), font.NewCache(liberation.Collection())}
	p.write(b.Title, picGap, high-picTitle/2, picWide*2/3, -1, p.style(20, inkTone, true))
	p.write(time.Now().UTC().Format("2006-01-02 15:04:05Z"), picWide-picGap, high-picTitle/2, picWide/3, 1, p.style(12, softTone, false))
	column := (picWide - picGap) / 12
	for i := range b.Panels {
		x := &b.Panels[i]
		top := high - picTitle - vg.Length(at[i][0])*(picRow+picGap)
		left := picGap + vg.Length(at[i][1])*column
		wide, tall := vg.Length(x.Wide)*column-picGap, vg.Length(x.High)*(picRow+picGap)-picGap
		p.box(left-1, top-tall-1, left+wide+1, top+1, lineTone)
		p.box(left, top-tall, left+wide, top, sheetTone)
		p.box(left, top-picHead, left+wide, top-picHead+1, lineTone)
		p.write(x.Title, left+10, top-picHead/2, wide-20, -1, p.style(13, inkTone, true))
		in := pic{draw.Canvas{Canvas: p.Canvas.Canvas, Rectangle: vg.Rectangle{Min: vg.Point{X: left + 10, Y: top - tall + 8}, Max: vg.Point{X: left + wide - 10, Y: top - picHead - 8}}}, p.fonts}
		if err := in.panel(x, &panels[i]); err != nil {
			return err
		}
	}
	_, err := vgimg.PngCanvas{Canvas: canvas}.WriteTo(w)
	return err
}

func (p pic) size() (x, y, wide, high vg.Length) {
	return p.Min.X, p.Min.Y, p.Max.X - p.Min.X, p.Max.Y - p.Min.Y
}

// lines writes lines of text from above, as many as there is room for.
func (p pic) lines(list []string, st text.Style) {
	x, _, wide, _ := p.size()
	for i, s := range list {
		y := p.Max.Y - 8 - vg.Length(i)*18
		if y < p.Min.Y {
			return
		}
		p.write(s, x, y, wide, -1, st)
	}
}

func (p pic) panel(x *boards.Panel, rows *panelRows) error {
	body := p.style(12, inkTone, false)
	list := rows.ordered()
	switch {
	case x.Kind == "text":
		_, _, wide, _ := p.size()
		p.lines(wrapped(x.Words, func(s string) bool { return body.Width(s) <= wide }), body)
	case rows.problem != "":
		p.lines(strings.Split(rows.problem, "\n"), p.style(11, clayTone, false))
	case len(list) == 0:
		p.lines([]string{"No rows yet."}, p.style(12, softTone, false))
	case x.Kind == "number":
		points := pointsOf(x, list)
		if len(points) > 0 {
			v := points[len(points)-1]
			left, below, wide, high := p.size()
			tone := color.Color(inkTone)
			if markOf(x, v.value) != "" {
				tone = clayTone
			}
			said := strings.TrimSpace(rounded(v.value) + " " + x.Unit + signOf(x, v.value))
			p.write(said, left+wide/2, below+high/2, wide, 0, p.style(min(34, high*0.7), tone, true))
		}
	case x.Kind == "series":
		return p.series(x, pointsOf(x, list))
	case x.Kind == "bars", x.Kind == "areas":
		p.bars(x, pointsOf(x, list))
	case x.Kind == "histogram":
		p.histogram(x, pointsOf(x, list))
	case x.Kind == "heat":
		p.heat(x, pointsOf(x, list))
	case x.Kind == "states":
		p.states(x, list)
	case x.Kind == "map":
		p.places(x, list)
	default:
		p.table(x, list)
	}
	return nil
}

// wrapped breaks words into lines that fit.
func wrapped(words string, fits func(string) bool) (out []string) {
	for _, paragraph := range strings.Split(words, "\n") {
		line := ""
		for _, w := range strings.Fields(paragraph) {
			if line != "" && !fits(line+" "+w) {
				out = append(out, line)
				line = ""
			}
			line = strings.TrimSpace(line + " " + w)
		}
		out = append(out, line)
	}
	return out
}

func signOf(p *boards.Panel, v float64) string {
	switch markOf(p, v) {
	case "above":
		return " ▲"
	case "below":
		return " ▼"
	}
	return ""
}

func (p pic) bars(x *boards.Panel, points []point) {
	labels, newest := newestOf(x, points)
	left, _, wide, high := p.size()
	fits := max(1, int(high/18))
	st, most := p.style(11, inkTone, false), 0.0
	named := vg.Length(0)
	for _, l := range labels[:min(len(labels), fits)] {
		most, named = max(most, math.Abs(newest[l])), min(wide*0.35, max(named, st.Width(l)))
	}
	room := wide - named - 110
	for i, l := range labels[:min(len(labels), fits)] {
		y := p.Max.Y - 9 - vg.Length(i)*18
		p.write(l, left+named, y, named, 1, st)
		tone := color.Color(riverTone)
		if markOf(x, newest[l]) != "" {
			tone = clayTone
		}
		if most > 0 {
			p.box(left+named+8, y-5, left+named+8+room*vg.Length(math.Abs(newest[l])/most), y+5, tone)
		}
		p.write(strings.TrimSpace(rounded(newest[l])+" "+x.Unit)+signOf(x, newest[l]), p.Max.X, y, 100, 1, st)
	}
}

func (p pic) histogram(x *boards.Panel, points []point) {
	values := make([]float64, len(points))
	for i, v := range points {
		values[i] = v.value
	}
	if len(values) == 0 {
		return
	}
	low, step, counts := boards.Histogram(values, x.Bins)
	most := slices.Max(counts)
	left, below, wide, high := p.size()
	one := wide / vg.Length(len(counts))
	every := len(counts)/8 + 1
	for i, n := range counts {
		at := left + vg.Length(i)*one
		p.box(at, below+18, at+one-1, below+18+(high-18)*vg.Length(n)/vg.Length(most), riverTone)
		if i%every == 0 {
			p.write(rounded(low+float64(i)*step), at, below+7, one*vg.Length(every), -1, p.style(10, softTone, false))
		}
	}
}

func (p pic) heat(x *boards.Panel, points []point) {
	var times, labels []string
	cells := map[[2]string]float64{}
	least, most := math.Inf(1), math.Inf(-1)
	for _, v := range points {
		times, labels = append(times, v.at), append(labels, v.label)
		cells[[2]string{v.label, v.at}] = v.value
	}
	slices.Sort(times)
	slices.Sort(labels)
	times, labels = slices.Compact(times), slices.Compact(labels)
	times = times[max(0, len(times)-60):]
	left, _, wide, high := p.size()
	labels = labels[:min(len(labels), max(1, int(high/17)-1))]
	st, named := p.style(11, inkTone, false), vg.Length(0)
	for _, l := range labels {
		named = min(wide*0.3, max(named, st.Width(l)))
		for _, t := range times {
			if v, ok := cells[[2]string{l, t}]; ok {
				least, most = min(least, v), max(most, v)
			}
		}
	}
	if len(times) == 0 {
		return
	}
	one := (wide - named - 8) / vg.Length(len(times))
	for i, l := range labels {
		y := p.Max.Y - vg.Length(i+1)*17
		p.write(l, left+named, y+8, named, 1, st)
		for k, t := range times {
			if v, ok := cells[[2]string{l, t}]; ok {
				share := 1.0
				if most > least {
					share = (v - least) / (most - least)
				}
				at := left + named + 8 + vg.Length(k)*one
				p.box(at, y, at+one-1, y+16, shade(share))
			}
		}
	}
	p.write(fmt.Sprintf("%s to %s; %s to %s %s", clockOf(times[0]), clockOf(times[len(times)-1]), rounded(least), rounded(most), x.Unit), left, p.Max.Y-vg.Length(len(labels))*17-9, wide, -1, p.style(10, softTone, false))
}

func clockOf(at string) string {
	us, ok := types.ParseTimestamp([]byte(at))
	if !ok {
		return at
	}
	return time.UnixMicro(us).UTC().Format("15:04:05")
}

// series draws lines over time, each with its name below.
func (p pic) series(x *boards.Panel, points []point) error {
	lines := map[string]plotter.XYs{}
	for _, v := range points {
		if us, ok := types.ParseTimestamp([]byte(v.at)); ok && !math.IsNaN(v.value) && !math.IsInf(v.value, 0) {
			lines[v.label] = append(lines[v.label], plotter.XY{X: float64(us) / 1e6, Y: v.value})
		}
	}
	var labels []string
	for l := range lines {
		labels = append(labels, l)
	}
	slices.Sort(labels)
	left := len(labels) - len(picTones)*len(picDashes)
	labels = labels[:min(len(labels), len(picTones)*len(picDashes))]
	if len(labels) == 0 {
		return nil
	}
	chart := plot.New()
	chart.BackgroundColor = sheetTone
	chart.TextHandler = text.Plain{Fonts: p.fonts}
	for _, axis := range []*plot.Axis{&chart.X, &chart.Y} {
		axis.LineStyle.Color, axis.Tick.Color, axis.Tick.Label.Color = lineTone, lineTone, softTone
		axis.Tick.Label.Font, axis.Tick.Label.Handler = p.style(10, softTone, false).Font, text.Plain{Fonts: p.fonts}
	}
	chart.X.Tick.Marker = plot.TimeTicks{Format: "15:04:05", Time: plot.UTCUnixTime}
	grid := plotter.NewGrid()
	grid.Vertical.Color, grid.Horizontal.Color = lineTone, lineTone
	chart.Add(grid)
	sums := map[float64]float64{}
	var legend []string
	for i, l := range labels {
		xy := lines[l]
		slices.SortStableFunc(xy, func(a, b plotter.XY) int { return cmp.Compare(a.X, b.X) })
		kept := xy[:0] // of rows of one time the newest counts
		for k := range xy {
			if n := len(kept); n > 0 && kept[n-1].X == xy[k].X {
				kept[n-1] = xy[k]
			} else {
				kept = append(kept, xy[k])
			}
		}
		if x.Stacked {
			for k := range kept {
				sums[kept[k].X] += kept[k].Y
				kept[k].Y = sums[kept[k].X]
			}
		}
		line, err := plotter.NewLine(kept)
		if err != nil {
			return err
		}
		line.Color, line.Width, line.Dashes = picTones[i%len(picTones)], 1.5, picDashes[i/len(picTones)]
		chart.Add(line)
		legend = append(legend, l)
	}
	x0, y0, wide, _ := p.size()
	perLine := max(1, int(wide/130))
	high := vg.Length(0)
	if len(legend) > 1 {
		high = vg.Length((len(legend)+perLine-1)/perLine) * 15
	}
	chart.Draw(draw.Canvas{Canvas: p.Canvas.Canvas, Rectangle: vg.Rectangle{Min: vg.Point{X: x0, Y: y0 + high + 4}, Max: p.Max}})
	if len(legend) > 1 {
		for i, l := range legend {
			at := vg.Point{X: x0 + vg.Length(i%perLine)*130, Y: y0 + high - 8 - vg.Length(i/perLine)*15}
			st := draw.LineStyle{Color: picTones[i%len(picTones)], Width: 1.5, Dashes: picDashes[i/len(picTones)]}
			p.StrokeLine2(st, at.X, at.Y, at.X+20, at.Y)
			p.write(l, at.X+24, at.Y, 100, -1, p.style(10, inkTone, false))
		}
	}
	if left > 0 {
		p.write(fmt.Sprintf("%d more lines are not drawn", left), x0, y0, wide, -1, p.style(10, softTone, false))
	}
	return nil
}

// states draws how long each label stayed in which state, and what the tones stand for.
func (p pic) states(x *boards.Panel, list []json.RawMessage) {
	stays := staysOf(x, list)
	var labels, states []string
	from, end := int64(math.MaxInt64), int64(math.MinInt64)
	when := func(at string) int64 { us, _ := types.ParseTimestamp([]byte(at)); return us }
	for l, ss := range stays {
		labels = append(labels, l)
		for _, s := range ss {
			states = append(states, s.state)
			from, end = min(from, when(s.at)), max(end, when(s.at))
		}
	}
	slices.Sort(labels)
	of := func(state string) int { // in the order that the panel says, others behind
		if i := slices.Index(x.Order, state); i >= 0 {
			return i
		}
		return len(x.Order)
	}
	slices.SortFunc(states, func(a, b string) int { return cmp.Or(cmp.Compare(of(a), of(b)), cmp.Compare(a, b)) })
	states = slices.Compact(states)
	tone := func(state string) color.NRGBA {
		if i := slices.Index(x.Order, state); i >= 0 {
			return shade(float64(i) / float64(max(1, len(x.Order)-1)))
		}
		return picTones[slices.Index(states, state)%len(picTones)]
	}
	left, below, wide, high := p.size()
	labels = labels[:min(len(labels), max(1, int(high/18)-1))]
	st, named := p.style(11, inkTone, false), vg.Length(0)
	for _, l := range labels {
		named = min(wide*0.3, max(named, st.Width(l)))
	}
	room := wide - named - 90
	at := func(us int64) vg.Length {
		return left + named + 8 + room*vg.Length(float64(us-from)/float64(max(1, end-from)))
	}
	for i, l := range labels {
		y := p.Max.Y - 9 - vg.Length(i)*18
		p.write(l, left+named, y, named, 1, st)
		ss := stays[l]
		for k, s := range ss {
			to := end
			if k+1 < len(ss) {
				to = when(ss[k+1].at)
			}
			p.box(at(when(s.at)), y-7, max(at(to)-1, at(when(s.at))+2), y+7, tone(s.state))
		}
		p.write(ss[len(ss)-1].state, p.Max.X, y, 74, 1, p.style(11, softTone, false))
	}
	small := p.style(10, softTone, false)
	p.write(fmt.Sprintf("%s to %s", time.UnixMicro(from).UTC().Format("15:04:05"), time.UnixMicro(end).UTC().Format("15:04:05")), left, below+5, 140, -1, small)
	next := left + 150
	for _, s := range states {
		if next > p.Max.X-40 {
			break
		}
		p.box(next, below, next+14, below+10, tone(s))
		p.write(s, next+18, below+5, 90, -1, small)
		next += 30 + small.Width(s)
	}
}

// places draws the newest place of each label, the larger its number the larger, over the outline.
func (p pic) places(x *boards.Panel, list []json.RawMessage) {
	places, low, high := placesOf(x, list)
	left, below, wide, tall := p.size()
	const edge = 30
	at := func(s plan.Spot) vg.Point {
		scaled := func(v, low, high float64, from, room vg.Length) vg.Length {
			if high <= low {
				return from + room/2
			}
			return from + edge + (room-2*edge)*vg.Length((v-low)/(high-low))
		}
		return vg.Point{X: scaled(s.Across, low.Across, high.Across, left, wide), Y: scaled(s.Up, low.Up, high.Up, below, tall)}
	}
	var line []vg.Point
	for _, s := range x.Outline {
		line = append(line, at(s))
	}
	if len(line) > 1 {
		p.StrokeLines(draw.LineStyle{Color: lineTone, Width: 4}, line)
	}
	most := 1e-9
	for _, l := range places {
		if v, err := strconv.ParseFloat(l.value, 64); err == nil {
			most = max(most, math.Abs(v))
		}
	}
	for i, l := range places[:min(len(places), 500)] {
		size, tone, said := vg.Length(4), color.NRGBA(riverTone), l.label
		if v, err := strconv.ParseFloat(l.value, 64); err == nil {
			size = 3 + 11*vg.Length(math.Sqrt(math.Abs(v)/most))
			if markOf(x, v) != "" {
				tone = clayTone
			}
			said += " " + rounded(v) + signOf(x, v)
		}
		tone.A = 0xc0
		spot := at(l.Spot)
		p.DrawGlyph(draw.GlyphStyle{Color: tone, Radius: size, Shape: draw.CircleGlyph{}}, spot)
		if len(places) <= 40 {
			above := vg.Length(1)
			if i%2 == 1 { // neighbours on a line stand on its two sides
				above = -1
			}
			p.write(said, spot.X, spot.Y+above*(size+8), 140, 0, p.style(9, inkTone, false))
		}
	}
}

// table draws rows: the newest first, or the largest of a number.
func (p pic) table(x *boards.Panel, list []json.RawMessage) {
	var columns []string
	for _, c := range x.Columns {
		columns = append(columns, c.Name)
	}
	list = slices.Clone(list)
	slices.Reverse(list)
	if x.Value != "" {
		number := func(row json.RawMessage) float64 {
			v, err := strconv.ParseFloat(cellsOf(row)(x.Value), 64)
			if err != nil {
				return math.Inf(-1)
			}
			return v
		}
		slices.SortStableFunc(list, func(a, b json.RawMessage) int { return cmp.Compare(number(b), number(a)) })
	}
	left, below, wide, _ := p.size()
	columns = columns[:min(len(columns), max(1, int(wide/70)))]
	one := wide / vg.Length(len(columns))
	for i, c := range columns {
		p.write(c, left+vg.Length(i)*one, p.Max.Y-8, one-8, -1, p.style(10, softTone, false))
	}
	for k, row := range list[:min(len(list), cmp.Or(x.Top, 100))] {
		y := p.Max.Y - 26 - vg.Length(k)*18
		if y < below {
			return
		}
		text := cellsOf(row)
		for i, c := range columns {
			p.write(strings.TrimPrefix(text(c), "null"), left+vg.Length(i)*one, y, one-8, -1, p.style(11, inkTone, false))
		}
	}
}
