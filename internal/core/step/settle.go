package step

import (
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// Settle puts the changes of each key of a change stream into one order again. A row of a table that is
// replaced by one with another join key goes from one task of the join to another one, so that the new
// result may come before the old one is taken back. Settle gives the new one when the old one has gone.
type Settle struct {
	Op   *plan.Op
	C    *Context
	Next Node

	task, tasks int
	layout      *state.Layout
	rows        *state.Chains // Matches is 1 for the row that has been given
	out         column.Batch
	cols        [][]byte
	changes     []column.Change
}

// NewSettle makes one of the tasks.
func NewSettle(o *plan.Op, c *Context, next Node, task, tasks int) *Settle {
	return &Settle{Op: o, C: c, Next: next, task: task, tasks: tasks, layout: state.NewLayout(o.Input.Input.Fields, o.Input.Kept), rows: state.NewChains(0)}
}

// Merge implements Keyed: it takes the changes of a turn.
func (s *Settle) Merge(d *Delivery) {
	b := d.Block
	if b == nil {
		return
	}
	s.C.Counts[s.Op.Input.ID].Absorbed += int64(b.N())
	for i := range b.N() {
		hash, key, cols := b.Hashes[i], b.Key(i), b.Row(i)
		if b.Change == nil || !b.Change[i].Takes() {
			given := s.other(hash, key, 0, 1)
			r := s.rows.Add(hash, key, 0, 0, -1, cols)
			if given == 0 {
				s.show(r, column.Insert)
			}
			continue
		}
		r := s.rows.Equal(hash, key, 0, cols)
		if r == 0 {
			continue
		}
		if s.rows.Get(r).Matches == 0 {
			s.rows.Remove(r)
			continue
		}
		old := s.rows.Columns(r)
		s.rows.Remove(r)
		if next := s.other(hash, key, r, 0); next != 0 {
			s.change(column.Replaced, old)
			s.show(next, column.Replace)
		} else {
			s.change(column.Withdraw, old)
		}
	}
	s.give()
	s.rows.Compact()
}

// other finds a row of a key that has been given (1) or not (0).
func (s *Settle) other(hash uint64, key []byte, but state.Ref, matches int32) state.Ref {
	for r := s.rows.Find(hash, key); r != 0; {
		row := s.rows.Get(r)
		if r != but && row.Matches == matches {
			return r
		}
		r = s.rows.Next(row)
	}
	return 0
}

func (s *Settle) show(r state.Ref, c column.Change) {
	s.rows.Get(r).Matches = 1
	s.change(c, s.rows.Columns(r))
}

func (s *Settle) change(c column.Change, cols []byte) {
	s.cols, s.changes = append(s.cols, cols), append(s.changes, c)
}

func (s *Settle) give() {
	if len(s.cols) == 0 {
		return
	}
	b := &s.out
	if b.Cols == nil {
		b.Cols = make([]*column.Vector, len(s.Op.Fields))
		for _, c := range s.layout.Columns() {
			b.Cols[c] = &column.Vector{}
		}
	}
	for k, c := range s.layout.Columns() {
		s.layout.Gather(k, s.cols, b.Cols[c])
	}
	b.N, b.Split, b.Change = len(s.cols), -1, s.changes
	b.Time = slices.Grow(b.Time[:0], b.N)[:b.N]
	clear(b.Time)
	s.C.Counts[s.Op.ID].changed(s.changes)
	out := *b
	s.Next.Push(&out)
	s.cols, s.changes = s.cols[:0], s.changes[:0]
}

// changed counts changes that are given.
func (c *Counts) changed(changes []column.Change) {
	for _, x := range changes {
		if x.Takes() {
			c.Withdrawn++
		} else {
			c.Made++
		}
	}
}

// Advance implements Keyed: what it settles has no watermark.
func (s *Settle) Advance(Watermarks) int64 { return types.MinTime }

// Passed implements Keyed.
func (s *Settle) Passed() [2]int64 { return NoWatermarks.Of }

// Closed implements Keyed.
func (s *Settle) Closed() int64 { return types.MinTime }

// Image implements Keyed.
func (s *Settle) Image() func() []byte { return written(s.Snapshot()) }

// Size gives the rows and the bytes they take.
func (s *Settle) Size() (open, keys, bytes int) { return 0, s.rows.Len(), s.rows.Bytes() }

// Held gives the same of its one side.
func (s *Settle) Held(side int) (rows, bytes int) {
	if side == 0 {
		return s.rows.Len(), s.rows.Bytes()
	}
	return 0, 0
}

// Snapshot writes the rows.
func (s *Settle) Snapshot() []byte { return s.rows.AppendTo(nil) }

// Restore reads what any task of the step wrote and keeps what belongs to this one.
func (s *Settle) Restore(b []byte) error {
	_, err := state.ReadRows(b, func(hash uint64, key []byte, row state.Row, cols []byte) {
		if state.TaskOf(state.RangeOf(hash), s.tasks) == s.task && s.layout.Valid(cols) {
			s.rows.Get(s.rows.Add(hash, key, 0, 0, -1, cols)).Matches = row.Matches
		}
	})
	return err
}
