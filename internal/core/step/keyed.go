package step

import (
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// Keyed is a step that has its rows shared out by key, for some of the key ranges. It belongs to one goroutine; what it
// gives it pushes to the node behind it.
type Keyed interface {
	// Merge takes what a turn brings for its key ranges.
	Merge(d *Delivery)
	// Advance tells the watermarks, does what is due at them, and gives the watermark of what it has pushed so far.
	Advance(w Watermarks) (results int64)
	// Passed gives the watermarks that it was told: of both sides of a join, else the first.
	Passed() [2]int64
	// Closed is the watermark up to which it has given its results; types.MinTime where it has none.
	Closed() int64
	// Size gives what waits for a watermark, what it keeps, and the bytes that takes.
	Size() (open, keys, bytes int)
	// Held gives what it holds of a side of a join; other steps hold nothing of a side.
	Held(side int) (rows, bytes int)
	// Snapshot writes its state.
	Snapshot() []byte
	// Image notes the state as it is now and gives what writes it, which another goroutine may do while the step goes on.
	Image() func() []byte
	// Restore reads what any task of the step wrote, and keeps what belongs to this one.
	Restore(b []byte) error
}

// Watermarks are those that a step has got: of both sides of a join, else the first; and the greatest event time of its rows.
type Watermarks struct {
	Of     [2]int64
	Newest int64
}

// NoWatermarks is before the first.
var NoWatermarks = Watermarks{Of: [2]int64{types.MinTime, types.MinTime}, Newest: types.MinTime}

// NewKeyed makes one of the tasks of a step that has its rows shared out by key. table is where a step that keeps a table has
// it.
func NewKeyed(o *plan.Op, c *Context, next Node, table *state.Table, task, tasks int) Keyed {
	switch o.Kind {
	case plan.Window:
		return NewAggregator(o, c, next, task, tasks)
	case plan.Join:
		return NewJoin(o, c, next, task, tasks)
	case plan.AsOf:
		return NewAsOf(o, c, next, task, tasks)
	case plan.Settle:
		return NewSettle(o, c, next, task, tasks)
	case plan.Keep:
		if len(o.Next) == 0 {
			next = nil
		}
		return NewKeep(o, c, next, table, task, tasks)
	}
	return NewOrdered(o, c, next, task, tasks)
}

// written gives a state that was written at once.
func written(b []byte) func() []byte { return func() []byte { return b } }
