package eval

import (
	"fmt"
	"strings"

	"fiume/internal/core/types"
)

// Bounds on what functions and aggregates make, so that no row takes the memory that all others need. Whether a row
// keeps within them depends on the row alone, not on the batch it comes in.
const (
	// MaxValue is the greatest size in bytes of a value that a function or an aggregate makes.
	MaxValue = 16 << 20
	// MaxParts is the greatest number of elements, at all levels, of an ARRAY, MAP or ROW.
	MaxParts = 1 << 20
	// rowBytes is what all the values together may take that are made for one row in one step.
	rowBytes = 128 << 20
	// batchBytes is how much is made for the rows of a batch before it is cut in two.
	batchBytes = 16 << 20
	// partBytes is about what a part of a value takes in memory.
	partBytes = 64
)

// tooLarge is the reason why a row is rejected one of whose values would be above MaxValue.
func tooLarge(what string) string {
	return fmt.Sprintf("%s would make a value above %d MB", what, MaxValue>>20)
}

// tooManyParts is the reason where a value would have more parts than MaxParts.
func tooManyParts(what string) string {
	return fmt.Sprintf("%s would make a value of more than %d elements", what, MaxParts)
}

// charge takes bytes made for row i of n into account. Where the batch has too many of them its rest is left, and
// whoever evaluates cuts it in two; see Machine.Cut.
func (m *Machine) charge(i, n, size int) {
	if m.made += size; m.made <= batchBytes {
		return
	}
	switch {
	case n > 1:
		m.over = true
	case m.made > rowBytes && !m.over:
		m.over = true
		m.Fail(i, fmt.Sprintf("the values of the row would take more than %d MB", rowBytes>>20))
	}
}

// Cut says that the batch at hand, of n rows, makes more than is good to have in memory at once: what has been computed
// of it is not to be used, and it is to be taken in two halves. A batch of one row is never cut.
func (m *Machine) Cut(n int) bool {
	if !m.over || n < 2 {
		return false
	}
	m.Failures = m.Failures[:0]
	return true
}

// Whole says that the batch at hand is not to be cut: its rows have been found to be small enough before.
func (m *Machine) Whole() { m.made = -1 << 62 }

// Unwanted says whether nobody waits for the results any more. Loops that may be long ask now and then.
func (m *Machine) Unwanted() bool { return m.Ended != nil && m.Ended() }

// parts counts the parts of a value at all levels, and gives about what it takes in memory.
func parts(v types.Value) (n, size int) {
	n, size = len(v.Row), len(v.S)+partBytes*len(v.Row)
	for _, x := range v.Row {
		if x.Row != nil || x.S != "" {
			k, s := parts(x)
			n, size = n+k, size+s
		}
	}
	return n, size
}

// fitsParts says that a text of JSON has no more parts than a value may have.
func fitsParts(s string) bool { return len(s) <= MaxParts || strings.Count(s, ",") < MaxParts }
