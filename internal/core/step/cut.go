package step

import (
	"fiume/internal/core/column"
	"fiume/internal/core/eval"
)

// Functions can make a thousand times what they are given. A batch of which they make more than is good to have in
// memory at once is taken in two halves, and those again, down to single rows, which have a bound of their own
// (eval.Machine.Cut). So what a step gives does not depend on where its batches begin and end.

// halves cuts a batch in two.
func halves(b *column.Batch) (out [2]*column.Batch) {
	at := 0
	for k, n := range [2]int{b.N / 2, b.N - b.N/2} {
		sel := make([]uint32, n)
		for i := range sel {
			sel[i] = uint32(at + i)
		}
		at += n
		out[k] = &column.Batch{}
		b.Gather(sel, out[k])
		if b.From != nil {
			out[k].From = b.From[at-n : at]
		}
	}
	return out
}

// cut says that what has been computed of a batch is too much; its halves have been given to take then.
func (c *Context) cut(b *column.Batch, take func(b *column.Batch)) bool {
	if !c.Machine.Cut(b.N) {
		return false
	}
	if c.Machine.Unwanted() {
		return true // nobody waits for it any more
	}
	for _, half := range halves(b) {
		take(half)
		c.relieve()
	}
	return true
}

func (c *Context) relieve() {
	if c.Relieve != nil {
		c.Relieve()
	}
}

// selects lists the rows of a batch for which a condition is true. The failures of all its rows are the Machine's then.
func (c *Context) selects(cond *eval.Expr, b *column.Batch, sel []uint32) []uint32 {
	c.Machine.Begin()
	sel = c.Machine.Select(cond, b, sel)
	if !c.Machine.Cut(b.N) {
		return sel
	}
	sel = sel[:0]
	if c.Machine.Unwanted() {
		return sel
	}
	var failures []eval.Failure
	at := 0
	for _, half := range halves(b) {
		for _, r := range c.selects(cond, half, nil) {
			sel = append(sel, r+uint32(at))
		}
		for _, f := range c.Machine.Failures {
			failures = append(failures, eval.Failure{Row: f.Row + at, Reason: f.Reason})
		}
		c.Machine.Failures = c.Machine.Failures[:0]
		at += half.N
	}
	c.Machine.Failures = failures
	return sel
}
