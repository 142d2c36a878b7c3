package sql

import (
	"strings"
	"unicode/utf8"
)

// A doc is a text that may be laid out on one line or on several. The method is that of P. Wadler,
// "A prettier printer" (The Fun of Programming, 2003), with the choice made greedily, group by group.
type doc interface{}

type (
	cat    []doc
	indent struct{ d doc }
	group  struct{ d doc }
	short  struct{ d doc }       // as a group, but on one line only where that is a short one
	lineOf struct{ flat string } // a line break, or the text where its group fits on one line
	hard   struct{}              // a line break always; the groups around it are broken
	note   struct{ text string } // a comment: as hard, but the break comes with what follows
	blank  struct{}              // an empty line
)

var (
	line = lineOf{" "}
	soft = lineOf{""}
)

const (
	lineWidth  = 100
	shortWidth = 72
)

// broken says whether a doc cannot stand on one line.
func broken(d doc) bool {
	switch d := d.(type) {
	case cat:
		for _, x := range d {
			if broken(x) {
				return true
			}
		}
	case indent:
		return broken(d.d)
	case group:
		return broken(d.d)
	case short:
		return broken(d.d)
	case hard, note, blank:
		return true
	case string:
		return strings.Contains(d, "\n")
	}
	return false
}

// writer lays docs out.
type writer struct {
	b       strings.Builder
	column  int
	start   bool // nothing but blanks on the line so far
	pending bool // a comment stands at the end of the line
}

func (w *writer) newline(depth int) {
	w.b.WriteString("\n")
	w.column = 2 * depth
	w.start, w.pending = true, false
}

func (w *writer) text(s string, depth int) {
	if s == "" {
		return
	}
	if w.pending {
		w.newline(depth)
	}
	if w.start {
		s = strings.TrimLeft(s, " ")
		w.b.WriteString(strings.Repeat(" ", w.column))
		w.start = false
	}
	w.b.WriteString(s)
	if i := strings.LastIndexByte(s, '\n'); i >= 0 {
		w.column = utf8.RuneCountInString(s[i+1:])
	} else {
		w.column += utf8.RuneCountInString(s)
	}
}

func (w *writer) write(d doc, depth int, flat bool) {
	switch d := d.(type) {
	case string:
		w.text(d, depth)
	case cat:
		for _, x := range d {
			w.write(x, depth, flat)
		}
	case indent:
		w.write(d.d, depth+1, flat)
	case group:
		w.write(d.d, depth, flat || !broken(d.d) && w.column+width(d.d) <= lineWidth)
	case short:
		w.write(d.d, depth, flat || !broken(d.d) && w.column+width(d.d) <= shortWidth)
	case lineOf:
		if flat {
			w.text(d.flat, depth)
		} else if !w.start {
			w.newline(depth)
		}
	case hard:
		if !w.start {
			w.newline(depth)
		}
	case blank:
		if !w.start {
			w.newline(depth)
		}
		if w.b.Len() > 0 {
			w.newline(depth)
		}
	case note:
		if !w.start && !w.pending {
			w.b.WriteString("  ")
		}
		w.text(d.text, depth)
		w.pending = true
	}
}

// width is the length of a doc on one line.
func width(d doc) (n int) {
	switch d := d.(type) {
	case string:
		return utf8.RuneCountInString(d)
	case cat:
		for _, x := range d {
			n += width(x)
		}
	case indent:
		return width(d.d)
	case group:
		return width(d.d)
	case short:
		return width(d.d)
	case lineOf:
		return len(d.flat)
	}
	return n
}
