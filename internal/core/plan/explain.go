package plan

import (
	"fmt"
	"strings"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
)

// Explanation says what a plan does, for people and for programs.
type Explanation struct {
	Name        string          `json:"name"`
	Parallelism int             `json:"parallelism"` // 0: as many tasks as there are processors
	Checkpoint  int64           `json:"checkpoint_every_micros,omitempty"`
	Memory      int64           `json:"memory_bytes,omitempty"` // of state; 0: as the service says
	Rate        float64         `json:"rows_per_second"`        // the bounds of the state are given for
	Steps       []ExplainedStep `json:"steps"`
	Notes       []string        `json:"notes,omitempty"` // what does not depend on the data alone
}

// ExplainedStep is one operator.
type ExplainedStep struct {
	ID      int      `json:"id"`
	Kind    string   `json:"kind"`
	Step    string   `json:"step"`
	Detail  string   `json:"detail"`
	Inputs  []int    `json:"inputs"`
	Looks   *int     `json:"looks,omitempty"` // the table that it looks into
	Columns []string `json:"columns"`
	// Output is "append" (a row once given stays) or "change" (later rows replace or withdraw it).
	Output string `json:"output,omitempty"`
	// Keys tell the rows of the output apart.
	Keys []string `json:"keys,omitempty"`
	// Reads are the columns and fields that a source builds; the rest of a message is checked and skipped.
	Reads  []string    `json:"reads,omitempty"`
	Window string      `json:"window,omitempty"`
	Moved  bool        `json:"moved,omitempty"`  // a condition that was written further from the source
	Unused []string    `json:"unused,omitempty"` // results that nobody reads and that are not computed
	Shared bool        `json:"shared,omitempty"` // several operators read it
	Tasks  string      `json:"tasks,omitempty"`
	State  *StateBound `json:"state,omitempty"`
	// Of a join: the bound between the event times of both sides, and its condition.
	Bound string `json:"bound,omitempty"`
	On    string `json:"on,omitempty"`
	// The sinks that get its late and its rejected rows.
	Promise    string   `json:"promise,omitempty"` // of a sink: whether each row is there once, and when it is shown
	LateTo     []string `json:"late_to,omitempty"`
	RejectedTo []string `json:"rejected_to,omitempty"`
}

// StateBound is the most that an operator keeps.
type StateBound struct {
	Words      string `json:"words"`
	EntryBytes int    `json:"entry_bytes"` // of one key in one window
	Entries    int64  `json:"entries"`     // at the rate given, were every row's key new
	Bytes      int64  `json:"bytes"`
}

// DefaultRate is the rate, in rows a second, that bounds of the state are given for unless told otherwise.
const DefaultRate = 10_000

// Explain describes a plan. rate is in rows a second from each source; 0 stands for DefaultRate.
func (p *Plan) Explain(rate float64) *Explanation {
	if rate <= 0 {
		rate = DefaultRate
	}
	x := &Explanation{Name: p.Name, Parallelism: p.Parallelism, Checkpoint: p.Checkpoint, Memory: p.Memory, Rate: rate, Steps: []ExplainedStep{}}
	for _, o := range p.Ops {
		s := ExplainedStep{ID: o.ID, Kind: o.Kind.String(), Step: o.Step, Detail: o.Detail, Moved: o.Pushed, Shared: len(o.Next) > 1, Inputs: []int{}, Columns: []string{}}
		for _, in := range o.Inputs() {
			s.Inputs = append(s.Inputs, in.ID)
		}
		if o.Of != nil && !o.OfTable.Lookup {
			s.Looks = &o.Of.ID
		}
		for _, r := range p.Ops {
			for _, br := range r.Branches {
				for _, k := range br.Sinks {
					if k == o {
						s.Inputs = append(s.Inputs, r.ID)
					}
				}
			}
		}
		for _, f := range o.Fields {
			s.Columns = append(s.Columns, f.Name)
		}
		switch o.Kind {
		case Scan:
			s.Output = "append"
			s.Reads = o.Used.describe(o.Stream.Columns)
			s.Tasks = "one for each split"
		case Project:
			s.output(o)
			for i, e := range o.Exprs {
				if e == nil {
					s.Unused = append(s.Unused, o.Fields[i].Name)
				}
			}
		case Window:
			t := o.Agg
			s.output(o)
			s.Window = t.String()
			s.Tasks = "rows are reduced where they are read, then shared out by key"
			for _, a := range t.Aggregates {
				if a.Unused {
					s.Unused = append(s.Unused, a.Name)
				}
			}
			s.State = stateBound(o, rate)
		}
		switch o.Kind {
		case Unique, Over, Explode, Filter, Keep, Join, AsOf, Lookup, Union, Settle:
			s.output(o)
		}
		s.joins(o, rate)
		if o.Kind == Lookup {
			x.Notes = append(x.Notes, fmt.Sprintf("%s joins %s as it is when a row comes: the result depends on when it runs, unless the table does not change", o.Step, o.OfTable.Name))
		}
		if o.Kind == Unique || o.Kind == Over {
			s.Tasks = "rows are shared out by key and taken in event order"
			s.State = orderBound(o, rate)
		}
		s.Promise = o.Promise()
		for _, x := range o.Late {
			s.LateTo = append(s.LateTo, x.Step)
		}
		for _, x := range o.Rejected {
			s.RejectedTo = append(s.RejectedTo, x.Step)
		}
		if o.Agg != nil && o.Agg.Report != OnClose && o.Agg.Kind != Running {
			x.Notes = append(x.Notes, fmt.Sprintf("%s reports early: how many early rows there are depends on the order of arrival, the last row of each key does not", o.Step))
		}
		if o.volatile() {
			x.Notes = append(x.Notes, fmt.Sprintf("%s of %s depends on when it runs: CURRENT_TIMESTAMP is no function of the data", o.Kind, o.Step))
		}
		x.Steps = append(x.Steps, s)
	}
	return x
}

// output says whether rows stay, and by what they are told apart.
func (s *ExplainedStep) output(o *Op) {
	s.Output = "append"
	if o.Changes {
		s.Output = "change"
	}
	for _, k := range o.Keys {
		s.Keys = append(s.Keys, o.Fields[k].Name)
	}
}

func (o *Op) volatile() bool {
	es := append([]*eval.Expr{o.Cond}, o.Exprs...)
	if o.Join != nil {
		es = append(es, o.Join.Cond)
	}
	if o.Agg != nil {
		es = append(es, o.Agg.reads()...)
	}
	if o.Order != nil || o.Array != nil {
		es = append(es, o.reads()...)
	}
	for _, b := range o.Branches {
		es = append(es, b.Cond)
	}
	for _, e := range es {
		if e != nil && e.IsVolatile() {
			return true
		}
	}
	return false
}

// Behind is how far the watermark of an operator's output may lie behind its newest row.
func Behind(o *Op) int64 {
	total := int64(0)
	for _, in := range o.Inputs() {
		total = max(total, Behind(in))
	}
	switch o.Kind {
	case Scan:
		total += o.Stream.Delay
	case Window:
		if o.Agg.Kind == Running && o.Agg.Gap == Forever {
			return 0
		}
		total += o.Agg.Span()
	case Over:
		total += o.Order.Holds()
	case Join:
		total += o.Join.Held()
	}
	return total
}

// stateBound bounds what an aggregation keeps: one entry for each key and open window.
func stateBound(o *Op, rate float64) *StateBound {
	t := o.Agg
	delay := Behind(o.Input)
	b := &StateBound{EntryBytes: 8*(1+t.Words()) + 8 + 8 + 4 + 8} // words; hash, tag, end of the key, index at half load
	for _, k := range t.Keys {
		switch {
		case k.Type.IsText(), k.Type.IsNested():
			b.EntryBytes += 24
		default:
			b.EntryBytes += 9
		}
	}
	perRow := 0
	var grow []string
	for _, a := range t.Aggregates {
		if !a.Bounded() && !a.Unused {
			perRow += 48
			grow = append(grow, strings.ToUpper(a.Name))
		}
	}
	span := t.Span()
	seconds := float64(span+delay) / float64(types.Second)
	b.Entries = int64(rate * seconds)
	if len(t.Keys) == 0 && t.Kind == Fixed {
		b.Entries = (delay+span-1)/t.Step + 2
	}
	b.Bytes = b.Entries*int64(b.EntryBytes) + int64(rate*seconds)*int64(perRow)
	keys := "one entry"
	if len(t.Keys) > 0 {
		keys = "one entry for each " + strings.Join(t.Names, ", ")
	}
	if t.Kind == Running && t.Gap == Forever {
		b.Words = keys + " that the table has or had; and the result that was given"
		if grow != nil {
			b.Words += "; every value for " + strings.Join(grow, ", ")
		}
		b.Entries, b.Bytes = 0, 0
		b.EntryBytes += 64
		return b
	}
	switch {
	case t.Kind == Running:
		b.Words = fmt.Sprintf("%s; a key is kept until it is unseen for %s of event time", keys, sql.DurationText(t.Gap+delay))
	case t.Kind == Session && t.Max == 0:
		b.Words = fmt.Sprintf("%s and session; a session is open until its rows stop for %s of event time", keys, sql.DurationText(span+delay))
	case t.Kind == Session:
		b.Words = fmt.Sprintf("one entry for each row; a session is open for %s of event time at most", sql.DurationText(span+delay))
	case t.Overlap() > 1:
		b.Words = fmt.Sprintf("%s and slice between two windows' ends; a slice is kept for %s of event time", keys, sql.DurationText(span+delay))
	default:
		b.Words = fmt.Sprintf("%s and open window; a window is open for %s of event time", keys, sql.DurationText(span+delay))
	}
	if t.Corrects() {
		b.Words += "; and each result that was given"
		b.EntryBytes += 64
		b.Bytes = b.Entries*int64(b.EntryBytes) + int64(rate*seconds)*int64(perRow)
	}
	if grow != nil {
		b.Words += "; every value of an open window is kept for " + strings.Join(grow, ", ")
	}
	return b
}

// joins says what is to be said of joins and tables.
func (s *ExplainedStep) joins(o *Op, rate float64) {
	switch o.Kind {
	case Join:
		s.Tasks, s.On, s.Bound = "rows of both sides are shared out by key", o.Join.On, o.Bound()
	case AsOf:
		s.Tasks, s.On, s.Bound = "rows and changes are shared out by key", o.Join.On, o.Bound()
	case Lookup:
		s.On, s.Bound = o.Join.On, o.Bound()
		if t := o.OfTable; t.Lookup {
			s.State = &StateBound{Words: "a cache of the rows that were asked for, and of the keys that are not there", EntryBytes: o.rowBytes(o.Of.Fields, o.Kept) + 32,
				Entries: int64(t.Options.Number("cache rows", DefaultCacheRows))}
			s.State.Bytes = s.State.Entries * int64(s.State.EntryBytes)
		}
	case Side:
		s.State = o.sideBound(rate)
	}
}

// Bound says for people what bounds a join in time; "" for other operators.
func (o *Op) Bound() string {
	switch o.Kind {
	case Join:
		return o.Join.between(o.Right.Alias, o.Input.Alias)
	case AsOf:
		if o.OfTable == nil {
			return fmt.Sprintf("the windows of %s as of the event time of %s, which waits for their watermark", o.Right.Alias, o.Input.Alias)
		}
		return fmt.Sprintf("%s as of the event time of %s, which waits for the table's watermark", o.OfTable.Name, o.Input.Alias)
	case Lookup:
		if o.OfTable.Lookup {
			return o.OfTable.Name + " is asked when a row comes, and the answer kept for a while"
		}
		return o.OfTable.Name + " as it is when a row comes"
	}
	return ""
}

// DefaultCacheRows is how many rows of a table that is looked up are cached.
const DefaultCacheRows = 100_000

// rowBytes is about what a row takes where it is kept, with its key.
func (o *Op) rowBytes(fields []types.Field, kept []int) int {
	n := 16
	for _, k := range kept {
		n += 8
		switch t := fields[k].Type; {
		case t.Kind == types.Decimal:
			n += 8
		case t.IsText() || t.IsNested() || t.Kind == types.JSON:
			n += 16
		}
	}
	return n
}

// sideBound bounds what is kept of one input of a join, or of a table.
func (o *Op) sideBound(rate float64) *StateBound {
	b := &StateBound{EntryBytes: o.rowBytes(o.Input.Fields, o.Kept)}
	// Rows by time have a head, room that slices keep for more, and a place in the directory of keys.
	chained := b.EntryBytes + 48
	for _, k := range o.Order.Keys[1:] {
		chained += 9
		if k.Type.IsText() {
			chained += 7
		}
	}
	chained = chained*3/2 + 64
	j := o.Into.Join
	span := int64(0)
	switch {
	case o.Into.Kind == Keep || o.Into.Kind == Settle || j.Tables:
		b.EntryBytes += 32 + 16
		b.Words = fmt.Sprintf("the latest row of each %s, for as long as it is there", strings.Join(o.Order.Names, ", "))
		if o.Into.Kind == Join {
			b.Words = "all rows of " + o.Alias
		}
		return b
	case o.Into.Kind == AsOf && o.Side == 1:
		b.EntryBytes = chained + 14
		b.Words = fmt.Sprintf("the versions of each %s that a row can ask for: the last one, and those of the %s before", strings.Join(o.Order.Names, ", "), sql.DurationText(j.Lateness))
		return b
	case o.Into.Kind == AsOf:
		b.Words = fmt.Sprintf("the rows of %s that wait for the table", o.Alias)
		span = Behind(o.Into.Right)
	default:
		span = j.Span(o.Side) + Behind(o.Into.Inputs()[1-o.Side])
		b.Words = fmt.Sprintf("the rows of %s for %s of event time", o.Alias, sql.DurationText(span+Behind(o.Input)))
	}
	b.EntryBytes = chained
	b.Entries = int64(rate * float64(span+Behind(o.Input)) / float64(types.Second))
	b.Bytes = b.Entries * int64(b.EntryBytes)
	return b
}

// orderBound bounds what a step in event order keeps: its rows until the watermark has passed them, and
// what it remembers of each key.
func orderBound(o *Op, rate float64) *StateBound {
	delay, span := Behind(o.Input), o.Order.Span()
	b := &StateBound{EntryBytes: 24 + 16*len(o.Input.Fields)}
	b.Entries = int64(rate * float64(delay+span) / float64(types.Second))
	b.Bytes = b.Entries * int64(b.EntryBytes)
	b.Words = fmt.Sprintf("the rows of %s until the watermark has passed them", sql.DurationText(delay))
	switch {
	case o.Kind == Unique:
		b.Words += fmt.Sprintf("; one instant for each %s seen within %s", strings.Join(o.Order.Names, ", "), sql.DurationText(o.Order.Within))
	case !o.Order.Ranked:
		b.Words += fmt.Sprintf("; the rows and keys of the %s before", sql.DurationText(span))
	}
	return b
}

// describe names the columns and fields that are read.
func (u *Use) describe(fields []types.Field) []string {
	out := []string{}
	var walk func(u *Use, fields []types.Field, prefix string)
	walk = func(u *Use, fields []types.Field, prefix string) {
		for i, f := range fields {
			k, ok := u.Needs(i)
			switch {
			case !ok:
			case f.Type.Kind == types.Row && !k.All:
				walk(k, f.Type.Fields, prefix+f.Name+".")
			default:
				out = append(out, prefix+f.Name)
			}
		}
	}
	walk(u, fields, "")
	return out
}

// String gives the explanation as text: an operator a line, with what there is to say below it; what
// reads it stands indented under it.
func (x *Explanation) String() string {
	var b strings.Builder
	next := map[int][]int{}
	for i, s := range x.Steps {
		for _, in := range s.Inputs {
			next[in] = append(next[in], i)
		}
	}
	seen := map[int]bool{}
	var walk func(i, depth int)
	walk = func(i, depth int) {
		s := x.Steps[i]
		pad := strings.Repeat("  ", depth)
		fmt.Fprintf(&b, "%s%s  %s: %s\n", pad, s.Kind, s.Step, s.Detail)
		if seen[i] {
			return
		}
		seen[i] = true
		note := func(format string, args ...any) { fmt.Fprintf(&b, pad+"      "+format+"\n", args...) }
		if s.Kind == "scan" {
			reads := strings.Join(s.Reads, ", ")
			if reads == "" {
				reads = "no column"
			}
			note("decodes %s", reads)
		}
		if s.Moved {
			note("moved here, toward the source")
		}
		switch {
		case s.Output == "change":
			note("change, keys %s: later rows replace or withdraw earlier ones", strings.Join(s.Keys, ", "))
		case s.Window != "":
			note("append, keys %s: a row once the watermark passes a window's end", strings.Join(s.Keys, ", "))
		}
		if s.On != "" {
			note("on %s", s.On)
		}
		if s.Bound != "" {
			note("bound: %s", s.Bound)
		}
		if s.Tasks != "" && s.Kind != "scan" {
			note("tasks: %s", s.Tasks)
		}
		if s.Promise != "" {
			note("%s", s.Promise)
		}
		if s.LateTo != nil {
			note("late rows go to %s", strings.Join(s.LateTo, ", "))
		}
		if s.RejectedTo != nil {
			note("rejected rows go to %s", strings.Join(s.RejectedTo, ", "))
		}
		if s.Unused != nil {
			note("not computed, since nobody reads it: %s", strings.Join(s.Unused, ", "))
		}
		if st := s.State; st != nil {
			note("state: %s", strings.ReplaceAll(st.Words, "; ", ",\n"+pad+"             "))
			if st.Entries == 0 {
				note("       %d bytes an entry, %s for a million", st.EntryBytes, BytesText(int64(st.EntryBytes)*1_000_000))
			} else {
				note("       at %s rows/s at most %s entries of %d bytes, %s", grouped(int64(x.Rate)), grouped(st.Entries), st.EntryBytes, BytesText(st.Bytes))
			}
		}
		for _, n := range next[s.ID] {
			walk(n, depth+1)
		}
	}
	for i, s := range x.Steps {
		if len(s.Inputs) == 0 {
			walk(i, 0)
		}
	}
	tasks := "as many tasks as there are processors"
	if x.Parallelism > 0 {
		tasks = fmt.Sprintf("%d tasks", x.Parallelism)
	}
	fmt.Fprintf(&b, "parallelism: %s\n", tasks)
	if x.Memory > 0 {
		fmt.Fprintf(&b, "memory: %s of state; more of it waits on disk\n", BytesText(x.Memory))
	}
	for _, n := range x.Notes {
		fmt.Fprintf(&b, "note: %s\n", n)
	}
	return b.String()
}

// grouped writes a whole number with commas between thousands.
func grouped(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// BytesText is a number of bytes for people.
func BytesText(n int64) string {
	switch {
	case n >= 10<<30:
		return fmt.Sprintf("%d GB", n>>30)
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MB", float64(n)/(1<<20))
	case n >= 1<<10:
		return fmt.Sprintf("%.1f kB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%d bytes", n)
}
