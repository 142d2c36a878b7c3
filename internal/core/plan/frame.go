package plan

import (
	"fmt"
	"time"

	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// FrameKind says how event time is cut into windows.
type FrameKind uint8

const (
	Fixed   FrameKind = iota // tumbling and sliding: windows of a length, a new one at every step
	Session                  // a key's rows with less than Gap between neighbours
	Running                  // no window: a key's rows until it is unseen for Gap
)

// Frame is how event time is cut into windows. Windows of a Fixed frame are numbered: window k opens at
// OpensAt(k). The pieces between their ends are slices; a row belongs to one slice, and a slice to
// Overlap windows or so.
type Frame struct {
	Kind         FrameKind
	Length, Step int64 // Fixed: microseconds
	Offset       int64
	Zone         *time.Location // of calendar days; nil: lengths of time
	Gap          int64          // Session, Running
	Max          int64          // Session; 0: none
}

const (
	day  = 24 * types.Hour
	week = 7 * day
)

// base is where the numbering begins: weeks begin on a Monday.
func (f *Frame) base() int64 {
	if f.Step%week == 0 {
		return 4 * day
	}
	return 0
}

// OpensAt gives the beginning of a window.
func (f *Frame) OpensAt(k int64) int64 {
	if f.Zone != nil {
		return dayBegins((k*f.Step+f.base())/day, f.Zone) + f.Offset
	}
	return k*f.Step + f.base() + f.Offset
}

// ClosesAt gives the end of a window.
func (f *Frame) ClosesAt(k int64) int64 {
	if f.Zone != nil {
		return dayBegins((k*f.Step+f.base()+f.Length)/day, f.Zone) + f.Offset
	}
	return f.OpensAt(k) + f.Length
}

// Last gives the latest window that opens at or before t.
func (f *Frame) Last(t int64) int64 {
	if f.Zone == nil {
		return FloorDiv(t-f.base()-f.Offset, f.Step)
	}
	local := time.UnixMicro(t - f.Offset).In(f.Zone)
	_, shift := local.Zone()
	k := FloorDiv(t-f.Offset+int64(shift)*types.Second-f.base(), f.Step)
	for f.OpensAt(k) > t {
		k--
	}
	for f.OpensAt(k+1) <= t {
		k++
	}
	return k
}

// First gives the earliest window that has t in it.
func (f *Frame) First(t int64) int64 {
	k := f.Last(t)
	if f.Zone == nil {
		return k - (f.Length-1-(t-f.OpensAt(k)))/f.Step
	}
	for f.ClosesAt(k-1) > t {
		k--
	}
	return k
}

// Slice gives the slice that t falls into.
func (f *Frame) Slice(t int64) (from, to int64) {
	if f.Kind != Fixed {
		return t, t + 1
	}
	k := f.Last(t)
	from = f.OpensAt(k)
	if f.Zone == nil && f.Length%f.Step == 0 {
		return from, from + f.Step
	}
	if to = f.OpensAt(k + 1); f.Length%f.Step == 0 {
		return from, to
	}
	for j := f.First(from); j <= k; j++ {
		if c := f.ClosesAt(j); c > t {
			return from, min(to, c)
		} else if c > from {
			from = c
		}
	}
	return from, to
}

// Overlap is the number of windows that a row is in, or one more.
func (f *Frame) Overlap() int64 {
	if f.Kind != Fixed {
		return 1
	}
	return (f.Length + f.Step - 1) / f.Step
}

// FloorDiv divides and rounds down, also below zero.
func FloorDiv(a, b int64) int64 {
	q := a / b
	if a%b != 0 && (a < 0) != (b < 0) {
		q--
	}
	return q
}

// dayBegins gives the first instant of a date, counted from 1970-01-01, in a time zone. A midnight that
// the clocks jump over is the instant of the jump.
func dayBegins(n int64, zone *time.Location) int64 {
	t := time.Date(1970, 1, 1+int(n), 0, 0, 0, 0, zone)
	want := time.Date(1970, 1, 1+int(n), 0, 0, 0, 0, time.UTC)
	before := func(x time.Time) bool {
		y, m, d := x.Date()
		return time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Before(want)
	}
	// The library gives one of the instants that could be meant. Look for the first one near it.
	lo, hi := t.Add(-3*time.Hour), t.Add(3*time.Hour)
	for hi.Sub(lo) > time.Second {
		mid := lo.Add(hi.Sub(lo) / 2)
		if before(mid) {
			lo = mid
		} else {
			hi = mid
		}
	}
	return hi.Truncate(time.Second).UnixMicro()
}

// frame reads the definition of a window.
func (b *builder) frame(w sql.Window) (f Frame, ok bool) {
	ok = true
	bad := func(at sql.Span, hint, format string, args ...any) {
		b.errs.Add(sql.BadOption, at, hint, format, args...)
		ok = false
	}
	if w.Kind == sql.Session {
		f.Kind, f.Gap = Session, w.Gap.Micros
		if w.Max != nil {
			f.Max = w.Max.Micros
		}
		if w.Offset != nil || w.Zone != nil || w.EmptyFor != nil {
			bad(w.Span, "leave it out", "a SESSION window follows its rows: it takes no OFFSET, no AT TIME ZONE and no EMPTY FOR")
		}
		if f.Max != 0 && f.Max <= f.Gap {
			bad(w.Span, "make MAX longer than GAP", "a session of at most %s cannot have gaps of %s", sql.DurationText(f.Max), sql.DurationText(f.Gap))
		}
		return f, ok
	}
	f.Length = w.Length.Micros
	f.Step = f.Length
	if w.Kind == sql.Sliding {
		f.Step = w.Every.Micros
	}
	if f.Step > f.Length {
		bad(w.Span, fmt.Sprintf("write EVERY %s, or less", sql.DurationText(f.Length)), "windows of %s every %s leave rows out between them", sql.DurationText(f.Length), sql.DurationText(f.Step))
	}
	if f.Step > 0 && f.Length/f.Step > 100_000 {
		bad(w.Span, "make EVERY longer", "a row would be in %d windows", f.Length/f.Step)
	}
	if w.Offset != nil {
		f.Offset = w.Offset.Micros % f.Step
	}
	if w.Zone != nil {
		zone, err := time.LoadLocation(w.Zone.Value)
		switch {
		case err != nil || w.Zone.Value == "":
			bad(w.Zone.Span, "write a name such as 'Europe/Rome'", "no time zone is called %q", w.Zone.Value)
		case f.Length%day != 0 || f.Step%day != 0:
			bad(w.Zone.Span, "leave AT TIME ZONE out, or use DAYS or WEEKS", "AT TIME ZONE is for windows of whole days and weeks")
		default:
			f.Zone = zone
		}
	}
	return f, ok
}

// String says for people how rows are grouped and when results are given.
func (a *Aggregation) String() string {
	d := sql.DurationText
	out := ""
	switch {
	case a.Kind == Running && a.Gap == Forever:
		return "kept up to date"
	case a.Kind == Running:
		return "for ever, forgetting what is unseen for " + d(a.Gap)
	case a.Kind == Session:
		out = "sessions with gaps below " + d(a.Gap)
		if a.Max > 0 {
			out += ", at most " + d(a.Max)
		}
	case a.Length == 1:
		out = "windows of the input"
	case a.Step == a.Length:
		out = "tumbling " + d(a.Length)
	default:
		out = "sliding " + d(a.Length) + " every " + d(a.Step)
	}
	if a.Offset != 0 {
		out += " offset " + d(a.Offset)
	}
	if a.Zone != nil {
		out += " in " + a.Zone.String()
	}
	if a.Lateness > 0 {
		out += ", lateness " + d(a.Lateness)
	}
	switch a.Report {
	case OnEvery:
		out += ", reports every " + d(a.Every)
	case OnChange:
		out += ", reports on change"
	}
	if a.EmptyFor > 0 {
		out += ", empty for " + d(a.EmptyFor)
	}
	return out
}

// Span is how much event time a row is kept for, at the most.
func (a *Aggregation) Span() int64 {
	switch a.Kind {
	case Running:
		return a.Gap
	case Session:
		return max(a.Gap, a.Max) + a.Lateness
	}
	return a.Length + a.Lateness
}

// Holds is how far behind the watermark rows are given: as far as frames reach behind them, or until the rows behind them
// that are looked at have come or the key is forgotten.
func (o *Ordering) Holds() (n int64) {
	for _, c := range o.Calls {
		switch {
		case c.Name == "lead" || c.ByRows && c.To > 0:
			n = max(n, o.Forget)
		case !c.ByRows:
			n = max(n, c.To)
		}
	}
	return n
}

// Span is how much event time a row is kept for, at the most.
func (o *Ordering) Span() int64 {
	n := max(o.Within, o.Forget)
	for _, c := range o.Calls {
		if !c.ByRows {
			n = max(n, max(-c.From, 0)+max(c.To, 0))
		}
	}
	return n
}
