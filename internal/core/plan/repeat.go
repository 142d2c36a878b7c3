package plan

import (
	"fmt"
	"slices"
)

// Promise says in words what the sink of an output promises, or gives "".
func (o *Op) Promise() string {
	if o.Kind != Output || o.Sink == nil || o.Sink.promise == nil {
		return ""
	}
	return o.Sink.promise(o)
}

// Differs says why the rows that an output gets may be others when a stretch of input is read a second time,
// after a crash, or gives "". Event time makes results a property of the data; what is left are the clock,
// tables that changed before they were followed, tables as they are at the moment, and results that are replaced by and by.
func (p *Plan) Differs(out *Op) string {
	seen := map[*Op]bool{}
	for _, o := range p.Ops {
		feeds := slices.Contains(o.Late, out) || slices.Contains(o.Rejected, out)
		for _, b := range o.Branches {
			feeds = feeds || slices.Contains(b.Sinks, out)
		}
		if !feeds && out.Input != o {
			continue
		}
		if o.Kind == Scan && slices.Contains(o.Rejected, out) && o.Stream.Ahead > 0 && !o.Stream.Times {
			return fmt.Sprintf("whether a row of %s lies too far ahead depends on the clock", o.Step)
		}
		why := ""
		switch {
		case o.Kind == Scan || !slices.Contains(o.Late, out) && !slices.Contains(o.Rejected, out):
			why = o.differs(seen, false)
		default: // rows set aside are those that came in, not the results
			for _, in := range o.Inputs() {
				if why == "" {
					why = in.differs(seen, true)
				}
			}
			if why == "" && o.volatile() {
				why = fmt.Sprintf("%s of %s depends on the clock", o.Kind, o.Step)
			}
		}
		if why != "" {
			return why
		}
	}
	return ""
}

// differs looks at an operator and all before it. keyed says whether a step behind it puts rows together.
func (o *Op) differs(seen map[*Op]bool, keyed bool) string {
	if seen[o] {
		return ""
	}
	switch {
	case o.Changes:
		return fmt.Sprintf("the rows of %s are replaced by and by, and which of them are given depends on how its inputs come together", o.Step)
	case o.volatile():
		return fmt.Sprintf("%s of %s depends on the clock", o.Kind, o.Step)
	case o.Kind == Lookup:
		return fmt.Sprintf("%s asks the table %s as it is at the moment", o.Step, o.OfTable.Name)
	case o.Kind == Scan && o.OfTable == nil && o.Stream.OfChanges: // before the first checkpoint its rows are read anew
		return fmt.Sprintf("what %s gave before a checkpoint may not come again as it was", o.Step)
	case o.Kind == Scan && keyed && o.Stream.Idle >= 0:
		return fmt.Sprintf("when a part of %s counts as idle depends on the clock", o.Step)
	case o.Kind == Scan && keyed && o.OfTable != nil && !o.Stream.Ends: // rows wait for it, until it says nothing for a while
		return fmt.Sprintf("when the table %s counts as quiet depends on the clock", o.OfTable.Name)
	}
	switch o.Kind {
	case Window, Unique, Over, Join, AsOf, Settle, Keep:
		keyed = true
	}
	if !keyed {
		seen[o] = true
	}
	for _, in := range o.Inputs() {
		if why := in.differs(seen, keyed); why != "" {
			return why
		}
	}
	seen[o] = true
	return ""
}
