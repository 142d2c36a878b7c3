package step

import (
	"fmt"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// lateness is how far a row may lie behind its stamp. judged is false where no row is late.
func (s *Side) lateness() (d int64, judged bool) {
	if s.Op.Judges() {
		return s.Op.Into.Join.Lateness, true
	}
	return 0, false
}

// A row is late by its stamp, which is the watermark of its split just before it: so which rows are late does not depend on
// the order in which splits are read. It is judged where rows leave their splits, once:
//
//   - for windows by Partial.judge: a row is late where the last window that it belongs to has closed, and partly late where
//     some of them have;
//   - for steps that take rows in event order by Shuffle, and for joins by Side: a row is late where the watermark has
//     passed it by more than the step takes.
//
// A split that was idle is not waited for. Its rows may come when the step has already gone on, though they are not late by their
// stamps: the step itself finds them then, and they are counted beside the others as IdleLate.

// passed says why a row is late for a step in event time.
const passed = "the watermark had passed it"

// late counts a row that its stamp makes late for a step that takes rows up to lateness behind it.
func (c *Context) late(o *plan.Op, taken string, b *column.Batch, i int, lateness int64) {
	c.Counts[o.ID].Late++
	c.sample(o, true, taken+", and "+passed, b, i, b.Stamp[i]-lateness-b.Time[i])
}

// idle is why a row is late that is not by its stamp.
const idle = "it came after its time was passed while its split was idle"

// idleLate counts a row that comes by behind what the step has passed.
func (c *Context) idleLate(o *plan.Op, b *column.Batch, i int, by int64) {
	c.countIdleLate(o)
	c.sample(o, true, idle, b, i, by)
}

// idleLateRow is idleLate for an encoded row.
func (c *Context) idleLateRow(o *plan.Op, l *state.Layout, b *state.Block, i int, by int64) {
	c.countIdleLate(o)
	c.noteLate(o, idle, l, b, i, by)
}

func (c *Context) countIdleLate(o *plan.Op) {
	c.Counts[o.ID].Late++
	c.Counts[o.ID].IdleLate++
}

// judge decides about a row that its stamp makes late for its slice. It says the first window that is
// still open for the row where some before it are closed.
func (p *Partial) judge(b *column.Batch, i int) (open int64, partly bool) {
	t := p.Op.Agg
	n := &p.C.Counts[p.Op.ID]
	stamp := b.Stamp[i]
	instant := func(us int64) string { return string(types.AppendTimestamp(nil, us)) }
	if t.Kind != plan.Fixed {
		n.Late++
		n.Missed++
		if p.C.Wants(p.Op, true, "") {
			reason := passed
			if t.Lateness > 0 {
				reason += " by more than " + sql.DurationText(t.Lateness)
			}
			p.C.sample(p.Op, true, reason+": rows are taken from "+instant(stamp-t.Lateness), b, i, stamp-b.Time[i]-t.Lateness)
		}
		return 0, false
	}
	first, last := t.First(p.opens), t.Last(p.opens)
	k := first
	for k <= last && t.ClosesAt(k)+t.Lateness <= stamp {
		k++
	}
	if k == first {
		p.groups[i] = 0 // the slice is over, its windows are not
		return 0, false
	}
	n.Missed += k - first
	if k <= last {
		n.Partly++
		if !p.C.Silent && p.C.room(classOf(p.Op.ID, true, "")) {
			p.C.sampleOnly(p.Op, fmt.Sprintf("%d of its %d windows were closed; it counts in the others", k-first, last-first+1), b, i, stamp-t.ClosesAt(first)-t.Lateness)
		}
		return k, true
	}
	n.Late++
	if p.C.Wants(p.Op, true, "") {
		closes, reason := t.ClosesAt(last), "its window closed at "
		if p.covers > 1 {
			reason = "the last of its windows closed at "
		}
		reason += instant(closes)
		if t.Lateness > 0 {
			reason += " and took corrections until " + instant(closes+t.Lateness)
		}
		p.C.sample(p.Op, true, reason, b, i, stamp-closes-t.Lateness)
	}
	return 0, false
}
