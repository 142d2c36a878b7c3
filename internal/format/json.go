package format

import (
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"strconv"
	"unicode/utf16"
	"unicode/utf8"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
)

// jsonDecoder reads JSON objects. A general scan takes any valid object, in any order and spacing,
// builds the used fields and validates the rest. From the objects it reads it learns layouts: the
// text between the values. A message of a known layout is read by comparing that text and parsing
// the values where they must stand (json_layout.go); any other falls back to the general scan, so
// the verdict and the values are always the same.
type jsonDecoder struct {
	root   *jsonNode
	leaves []leaf
	rows   []*jsonNode // ROW nodes, whose own NULLs are kept apart
	cols   []*column.Vector
	timeAt int // leaf of the event time, or -1

	buf    []byte // the buffer at hand, texts with escapes appended
	moved  bool   // buf is spare, a copy of the caller's
	spare  []byte // kept for the next time
	end    int    // end of the message at hand
	row    int
	size   int      // rows that the columns have room for
	seen   []uint32 // by leaf: row + 1 where a value was set
	rowSet []uint32 // by ROW node: row + 1 where an object was seen
	times  types.TimeParser
	reason string
	wrong  []mistake
	index  jsonIndex
	layouts
}

// mistake is a value of the wrong type. It makes a bad row unless the same key comes again with a
// right one.
type mistake struct {
	node   *jsonNode
	reason string
}

// jsonNode is what to do with the value of a key.
type jsonNode struct {
	key    string
	leaf   int // index in leaves, or -1
	row    int // index in rows, or -1
	vec    *column.Vector
	kids   []*jsonNode
	found  []uint32 // by kid, and one behind them for others: the token of the key in the object that is being read
	byKey  [64]keyEntry
	mul    uint64     // what spreads the keys over the slots
	begins [256]uint8 // 1 for what a key that is used may begin with, escapes too
}

func newJSONDecoder(s *plan.Stream, used *plan.Use) *jsonDecoder {
	d := &jsonDecoder{root: &jsonNode{leaf: -1, row: -1}, cols: make([]*column.Vector, len(s.Columns)), timeAt: -1}
	for i, f := range s.Columns {
		u, ok := used.Needs(i)
		if !ok {
			continue
		}
		n := d.node(f.Name, f.Name, f.Type, u)
		if n.leaf >= 0 {
			d.leaves[n.leaf].notNull = f.NotNull
			if i == s.Time {
				d.leaves[n.leaf].time, d.timeAt = true, n.leaf
			}
		} else if f.NotNull {
			n.key = f.Name
			d.leaves = append(d.leaves, leaf{name: f.Name, typ: f.Type, notNull: true})
			n.leaf = len(d.leaves) - 1 // marks that the object was there
		}
		d.root.kids = append(d.root.kids, n)
		d.cols[i] = n.vec
	}
	d.root.spread()
	d.seen, d.rowSet = make([]uint32, len(d.leaves)), make([]uint32, len(d.rows))
	return d
}

func (d *jsonDecoder) node(key, name string, t types.Type, u *plan.Use) *jsonNode {
	n := &jsonNode{key: key, leaf: -1, row: -1, vec: column.New(t)}
	if t.Kind != types.Row {
		n.leaf = len(d.leaves)
		d.leaves = append(d.leaves, leaf{name: name, typ: t, vec: n.vec})
		return n
	}
	n.row = len(d.rows)
	d.rows = append(d.rows, n)
	n.vec.Kids = make([]*column.Vector, len(t.Fields))
	for i, f := range t.Fields {
		if k, ok := u.Needs(i); ok {
			kid := d.node(f.Name, name+"."+f.Name, f.Type, k)
			n.kids = append(n.kids, kid)
			n.vec.Kids[i] = kid.vec
		}
	}
	return n
}

// Decode implements Decoder.
func (d *jsonDecoder) Decode(data []byte, msgs []flow.Message, out *column.Batch) []flow.Reject {
	n := len(msgs)
	var rejects []flow.Reject
	size := len(data)
	d.buf, d.moved = data, false
	for i := range d.leaves {
		if v := d.leaves[i].vec; v != nil {
			v.Resize(n)
			if v.Type.Kind != types.Varchar {
				v.Clear()
			}
		}
	}
	for _, r := range d.rows {
		r.vec.Nulls = nil
	}
	clear(d.seen)
	clear(d.rowSet)
	out.Time, out.Pos = out.Time[:0], out.Pos[:0]
	d.row, d.size = 0, n
	padded := data[:min(size+flow.Pad, cap(data))]
	for i := range msgs {
		m := &msgs[i]
		from, to := int(m.Off), int(m.Off+m.Len)
		d.end = to
		if !d.fast(padded, from, to, n) {
			if !(d.pause > 0 && indexPays() && d.indexed(from, n)) && !d.general(from, n) {
				rejects = append(rejects, flow.Reject{Message: i, Reason: d.reason})
				continue
			}
		}
		if d.timeAt >= 0 {
			out.Time = append(out.Time, d.leaves[d.timeAt].vec.I[d.row])
		} else {
			out.Time = append(out.Time, m.At)
		}
		out.Pos = append(out.Pos, m.Pos)
		d.row++
	}
	out.N, out.Cols, out.Stamp = d.row, d.cols, nil
	for i := range d.leaves {
		if v := d.leaves[i].vec; v != nil && v.Type.Kind == types.Varchar {
			v.Data = d.buf
		}
	}
	return rejects
}

// general reads one message by the general scan.
func (d *jsonDecoder) general(from, n int) bool {
	d.reason, d.wrong = "", d.wrong[:0]
	mark := uint32(d.row + 1)
	d.begin()
	i := d.space(from)
	if i >= d.end || d.buf[i] != '{' {
		return d.bad("a message must be one JSON object")
	}
	i, ok := d.object(i, d.root, 1, n)
	if !ok {
		d.forget(mark)
		return false
	}
	if i = d.space(i); i != d.end {
		d.forget(mark)
		return d.bad("something follows the JSON object")
	}
	if len(d.wrong) > 0 {
		d.reason = d.wrong[0].reason
		d.forget(mark)
		return false
	}
	if l := d.complete(mark, n); l != nil {
		what := "NOT NULL"
		if l.time {
			what = "the event time"
		}
		d.reason = fmt.Sprintf("%s is NULL or missing, but it is %s", l.name, what)
		d.forget(mark)
		return false
	}
	d.learn(from)
	return true
}

// complete makes NULL what a message has not set. It gives a leaf that may not be NULL, where there is one.
func (d *jsonDecoder) complete(mark uint32, n int) *leaf {
	for k := range d.leaves {
		if d.seen[k] == mark {
			continue
		}
		l := &d.leaves[k]
		if l.notNull || l.time {
			return l
		}
		l.vec.Set(d.row, n, types.Value{})
	}
	for k, r := range d.rows {
		if d.rowSet[k] != mark {
			r.vec.SetNull(d.row, n)
		} else if r.vec.Nulls != nil {
			r.vec.Nulls[d.row] = false
		}
	}
	return nil
}

// forget takes back what a bad message has set, since its row number is used again.
func (d *jsonDecoder) forget(mark uint32) {
	for k := range d.seen {
		if d.seen[k] == mark {
			d.seen[k] = 0
		}
	}
	for k := range d.rowSet {
		if d.rowSet[k] == mark {
			d.rowSet[k] = 0
		}
	}
}

func (d *jsonDecoder) bad(format string, args ...any) bool {
	if d.reason == "" {
		d.reason = fmt.Sprintf(format, args...)
	}
	return false
}

// space skips blanks: up to seven at once without a branch that depends on how many there are, since no
// processor foresees that.
func (d *jsonDecoder) space(i int) int {
	if i < d.end && d.buf[i] > ' ' {
		return i
	}
	if i+8 <= len(d.buf) {
		w := binary.LittleEndian.Uint64(d.buf[i:])
		blank, tab := w^0x20*ones, w^0x09*ones
		// A byte is marked where it is neither.
		other := ((blank&^highs + 0x7f*ones) | blank) & ((tab&^highs + 0x7f*ones) | tab) & highs
		n := bits.TrailingZeros64(other) >> 3
		if c := byte(w >> (8 * n)); n < 8 && c > ' ' {
			return min(i+n, d.end)
		}
	}
	for i < d.end && (d.buf[i] == ' ' || d.buf[i] == '\t' || d.buf[i] == '\n' || d.buf[i] == '\r') {
		i++
	}
	return i
}

const maxDepth = 10000 // as the standard library

const errCut = "the JSON object is cut short or malformed"

// object reads an object whose brace is at i. node is nil where its values are not used.
func (d *jsonDecoder) object(i int, node *jsonNode, depth, n int) (int, bool) {
	if depth > maxDepth {
		return i, d.bad("the JSON object is nested too deep")
	}
	i = d.space(i + 1)
	if i < d.end && d.buf[i] == '}' {
		return i + 1, true
	}
	for {
		if i >= d.end || d.buf[i] != '"' {
			return i, d.bad(errCut)
		}
		keyFrom := i + 1
		keyTo, escaped, _, ok := d.text(i)
		if !ok {
			return i, d.bad(errCut)
		}
		i = d.space(keyTo + 1)
		if i >= d.end || d.buf[i] != ':' {
			return i, d.bad(errCut)
		}
		i = d.space(i + 1)
		var kid *jsonNode
		if node != nil {
			key := d.buf[keyFrom:keyTo]
			if escaped {
				key, _ = unescape(nil, key)
				d.noLayout = true
			}
			for _, k := range node.kids {
				if k.key == string(key) {
					kid = k
					break
				}
			}
		}
		if i, ok = d.value(i, kid, depth, n); !ok {
			return i, false
		}
		i = d.space(i)
		if i < d.end && d.buf[i] == ',' {
			i = d.space(i + 1)
			continue
		}
		if i < d.end && d.buf[i] == '}' {
			return i + 1, true
		}
		return i, d.bad(errCut)
	}
}

// text finds the end of a string whose opening quote is at i, validating it. high says whether it
// has bytes beyond ASCII.
func (d *jsonDecoder) text(i int) (end int, escaped, high, ok bool) {
	b := d.buf[:d.end]
	i++
	for {
		for i+8 <= len(b) {
			w := binary.LittleEndian.Uint64(b[i:])
			m := special(w)
			if high {
				m = specialASCII(w)
			}
			if m != 0 {
				i += bits.TrailingZeros64(m) >> 3
				break
			}
			i += 8
		}
		if i >= len(b) {
			return i, escaped, high, false
		}
		switch c := b[i]; {
		case c == '"':
			return i, escaped, high, true
		case c == '\\':
			escaped = true
			i++
			if i >= len(b) {
				return i, escaped, high, false
			}
			switch b[i] {
			case '"', '\\', '/', 'b', 'f', 'n', 'r', 't':
			case 'u':
				if i+4 >= len(b) || !isHex(b[i+1]) || !isHex(b[i+2]) || !isHex(b[i+3]) || !isHex(b[i+4]) {
					return i, escaped, high, false
				}
				i += 4
			default:
				return i, escaped, high, false
			}
		case c < 0x20:
			return i, escaped, high, false
		case c >= 0x80:
			high = true
		}
		i++
	}
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

// unescape appends a string's text; utf8ok says whether it is valid UTF-8.
func unescape(dst, s []byte) (out []byte, utf8ok bool) {
	start := len(dst)
	hex := func(s []byte) (r rune) {
		for _, c := range s[:4] {
			r = r<<4 | rune(c&15+9*(c>>6)) // letters are 1 to 6 behind 0x40 or 0x60
		}
		return r
	}
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' {
			dst = append(dst, s[i])
			continue
		}
		i++
		switch s[i] {
		case 'b':
			dst = append(dst, '\b')
		case 'f':
			dst = append(dst, '\f')
		case 'n':
			dst = append(dst, '\n')
		case 'r':
			dst = append(dst, '\r')
		case 't':
			dst = append(dst, '\t')
		case 'u':
			r := hex(s[i+1:])
			i += 4
			if utf16.IsSurrogate(r) {
				low := rune(-1)
				if i+6 < len(s) && s[i+1] == '\\' && s[i+2] == 'u' {
					low = hex(s[i+3:])
				}
				if dec := utf16.DecodeRune(r, low); dec != utf8.RuneError {
					r = dec
					i += 6
				} else {
					r = utf8.RuneError
				}
			}
			dst = utf8.AppendRune(dst, r)
		default:
			dst = append(dst, s[i])
		}
	}
	return dst, utf8.Valid(dst[start:])
}

// value reads the value at i into the node, or validates and skips it where node is nil.
func (d *jsonDecoder) value(i int, node *jsonNode, depth, n int) (int, bool) {
	if i >= d.end {
		return i, d.bad(errCut)
	}
	if node != nil && len(d.wrong) > 0 {
		d.wrong = slices.DeleteFunc(d.wrong, func(m mistake) bool { return m.node.within(node) })
	}
	c := d.buf[i]
	if node != nil && node.leaf >= 0 && node.row < 0 && d.leaves[node.leaf].deep() && c != 'n' {
		return d.deep(i, node, depth, n)
	}
	switch {
	case c == '{':
		if node != nil && node.row < 0 {
			d.mismatch(node, "an object")
			node = nil
		}
		if node != nil {
			if d.rowSet[node.row] == uint32(d.row+1) {
				d.noLayout = true // of repeated keys the last counts: its fields begin afresh
				d.reset(node)
			}
			d.rowSet[node.row] = uint32(d.row + 1)
			if node.leaf >= 0 {
				d.seen[node.leaf] = uint32(d.row + 1)
			}
		}
		return d.object(i, node, depth+1, n)
	case c == '[':
		if node != nil {
			d.mismatch(node, "an array")
		}
		from := i
		i, ok := d.array(i, depth+1, n)
		if ok {
			d.noteValue(from, i, segAny, -1)
		}
		return i, ok
	case c == '"':
		from := i + 1
		to, escaped, high, ok := d.text(i)
		if !ok {
			return i, d.bad(errCut)
		}
		if node == nil {
			d.noteValue(from, to+1, segText, -1)
			return to + 1, true
		}
		if node.leaf < 0 || node.row >= 0 {
			d.mismatch(node, "text")
			return to + 1, true
		}
		if reason := d.setText(node.leaf, from, to, escaped, high); reason != "" {
			d.mistaken(node, reason)
		}
		d.noteValue(from, to+1, segText, node.leaf)
		return to + 1, true
	case c == '-' || c >= '0' && c <= '9':
		to, whole, ok := d.number(i)
		if !ok {
			return i, d.bad(errCut)
		}
		if node == nil {
			d.noteValue(i, to, segNumber, -1)
			return to, true
		}
		if node.leaf < 0 || node.row >= 0 {
			d.mismatch(node, "a number")
			return to, true
		}
		if reason := d.setNumber(node.leaf, d.buf[i:to], whole); reason != "" {
			d.mistaken(node, reason)
		}
		d.noteValue(i, to, segNumber, node.leaf)
		return to, true
	}
	for _, w := range [...]string{"null", "true", "false"} {
		if c != w[0] {
			continue
		}
		if i+len(w) > d.end || string(d.buf[i:i+len(w)]) != w {
			break
		}
		to := i + len(w)
		if node == nil {
			d.noteValue(i, to, segWord, -1)
			return to, true
		}
		if w == "null" {
			d.noteValue(i, to, segWord, -1)
			d.noLayout = true
			d.reset(node)
			return to, true
		}
		if node.leaf < 0 || node.row >= 0 || d.leaves[node.leaf].typ.Kind != types.Boolean {
			d.mismatch(node, w)
			return to, true
		}
		d.leaves[node.leaf].vec.B[d.row] = w == "true"
		d.set(node.leaf)
		d.noteValue(i, to, segWord, node.leaf)
		return to, true
	}
	return i, d.bad(errCut)
}

// deep reads a value of a type with parts, or a document: it is validated here, cut out and read.
func (d *jsonDecoder) deep(i int, node *jsonNode, depth, n int) (int, bool) {
	to, ok := d.skip(i, depth, n)
	if !ok {
		return to, false
	}
	if reason := d.setDeep(node.leaf, i, to, n); reason != "" {
		d.mistaken(node, reason)
	}
	d.noteValue(i, to, segDeep, node.leaf)
	return to, true
}

// skip validates a value that is not read here.
func (d *jsonDecoder) skip(i, depth, n int) (int, bool) {
	keep := d.learning
	d.learning = false
	to, ok := d.value(i, nil, depth, n)
	d.learning = keep
	return to, ok
}

func (d *jsonDecoder) setDeep(k, from, to, n int) (reason string) {
	l := &d.leaves[k]
	v, wrong := eval.ValueOfJSON(d.buf[from:to], l.typ)
	if wrong != "" {
		return l.name + ": " + wrong
	}
	if v.IsNull() { // as in any other column: it is unset, and complete decides what that means
		d.seen[k] = 0
		return ""
	}
	if !utf8.Valid(d.buf[from:to]) {
		return l.name + ": the text is no valid UTF-8"
	}
	l.vec.Set(d.row, n, v)
	d.set(k)
	return ""
}

// within says whether the node is another, or lies below it.
func (n *jsonNode) within(up *jsonNode) bool {
	return n == up || slices.ContainsFunc(up.kids, n.within)
}

func (d *jsonDecoder) mistaken(n *jsonNode, reason string) {
	d.reset(n)
	d.noLayout = true
	d.wrong = append(d.wrong, mistake{n, reason})
}

func (d *jsonDecoder) mismatch(n *jsonNode, found string) {
	want := "an object"
	name := n.key
	if n.leaf >= 0 {
		name = d.leaves[n.leaf].name
		want = d.leaves[n.leaf].typ.String()
	}
	d.mistaken(n, fmt.Sprintf("%s: expected %s, found %s", name, want, found))
}

// reset makes a value, and all below it, unset.
func (d *jsonDecoder) reset(n *jsonNode) {
	if n.leaf >= 0 {
		d.seen[n.leaf] = 0
	}
	if n.row >= 0 {
		d.rowSet[n.row] = 0
	}
	for _, k := range n.kids {
		d.reset(k)
	}
}

func (d *jsonDecoder) array(i, depth, n int) (int, bool) {
	if depth > maxDepth {
		return i, d.bad("the JSON object is nested too deep")
	}
	keep := d.learning
	d.learning = false
	defer func() { d.learning = keep }()
	i = d.space(i + 1)
	if i < d.end && d.buf[i] == ']' {
		return i + 1, true
	}
	for {
		var ok bool
		if i, ok = d.value(i, nil, depth, n); !ok {
			return i, false
		}
		i = d.space(i)
		if i < d.end && d.buf[i] == ',' {
			i = d.space(i + 1)
			continue
		}
		if i < d.end && d.buf[i] == ']' {
			return i + 1, true
		}
		return i, d.bad(errCut)
	}
}

// number finds the end of a number; whole says that it has neither point nor exponent.
func (d *jsonDecoder) number(i int) (end int, whole, ok bool) {
	b := d.buf[:d.end]
	if b[i] == '-' {
		i++
	}
	from := i
	for i < len(b) && b[i]-'0' <= 9 {
		i++
	}
	if i == from || i > from+1 && b[from] == '0' {
		return i, false, false
	}
	whole = true
	if i < len(b) && b[i] == '.' {
		whole = false
		i++
		for from = i; i < len(b) && b[i]-'0' <= 9; i++ {
		}
		if i == from {
			return i, false, false
		}
	}
	if i < len(b) && b[i]|0x20 == 'e' {
		whole = false
		i++
		if i < len(b) && (b[i] == '+' || b[i] == '-') {
			i++
		}
		for from = i; i < len(b) && b[i]-'0' <= 9; i++ {
		}
		if i == from {
			return i, false, false
		}
	}
	return i, whole, true
}

// set notes that the leaf has a value in this row.
func (d *jsonDecoder) set(k int) {
	d.seen[k] = uint32(d.row + 1)
	if v := d.leaves[k].vec; v.Nulls != nil {
		v.Nulls[d.row] = false
	}
}

func (d *jsonDecoder) setText(k, from, to int, escaped, high bool) (reason string) {
	l := &d.leaves[k]
	s := d.buf[from:to]
	if l.typ.Kind != types.Varchar {
		if escaped {
			s, _ = unescape(nil, s)
		}
		var x int64
		ok := false
		switch l.typ.Kind {
		case types.Timestamp:
			x, ok = d.times.Parse(s)
		case types.Date:
			x, ok = types.ParseDate(s)
		case types.Time:
			x, ok = types.ParseTimeOfDay(s)
		case types.Interval:
			x, ok = types.ParseInterval(string(s))
		case types.Varbinary:
			b, err := base64.StdEncoding.DecodeString(string(s))
			if err != nil {
				return fmt.Sprintf("%s: %q is no base 64", l.name, clip(s))
			}
			l.vec.SetText(d.row, b)
			d.set(k)
			return ""
		default:
			return fmt.Sprintf("%s: expected %s, found text", l.name, l.typ)
		}
		if !ok {
			return fmt.Sprintf("%s: %q is no %s", l.name, clip(s), l.typ)
		}
		l.vec.I[d.row] = x
		d.set(k)
		return ""
	}
	if escaped {
		off := len(d.buf)
		var ok bool
		if !d.moved { // what lies behind the messages is not ours to write
			d.spare = append(d.spare[:0], d.buf...)
			d.buf, d.moved = d.spare, true
		}
		d.buf, ok = unescape(d.buf, s)
		d.spare = d.buf
		if !ok {
			return fmt.Sprintf("%s: the text is no valid UTF-8", l.name)
		}
		l.vec.S[d.row] = column.Str{Off: uint32(off), Len: uint32(len(d.buf) - off)}
		d.set(k)
		return ""
	}
	if high && !utf8.Valid(s) {
		return fmt.Sprintf("%s: the text is no valid UTF-8", l.name)
	}
	l.vec.S[d.row] = column.Str{Off: uint32(from), Len: uint32(len(s))}
	d.set(k)
	return ""
}

func clip(s []byte) string {
	if len(s) > 40 {
		return string(s[:40]) + "…"
	}
	return string(s)
}

func (d *jsonDecoder) setNumber(k int, s []byte, whole bool) (reason string) {
	l := &d.leaves[k]
	switch l.typ.Kind {
	case types.Double:
		x, ok := shortDouble(s)
		if !ok {
			var err error
			if x, err = strconv.ParseFloat(string(s), 64); err != nil {
				return fmt.Sprintf("%s: %s does not fit DOUBLE", l.name, clip(s))
			}
		}
		l.vec.F[d.row] = x
	case types.Int, types.BigInt:
		x, ok := wholeNumber(s, whole)
		if !ok || l.typ.Kind == types.Int && (x < math.MinInt32 || x > math.MaxInt32) {
			return fmt.Sprintf("%s: %s is no %s", l.name, clip(s), l.typ)
		}
		l.vec.I[d.row] = x
	case types.Decimal:
		x, ok := exactDecimal(string(s), l.typ)
		if !ok {
			return fmt.Sprintf("%s: %s is no %s", l.name, clip(s), l.typ)
		}
		l.vec.D[d.row] = x
	default:
		return fmt.Sprintf("%s: expected %s, found a number", l.name, l.typ)
	}
	d.set(k)
	return ""
}

// shortDouble reads a valid number of few digits without an exponent; see exactDouble.
func shortDouble(s []byte) (float64, bool) {
	if len(s) > 18 {
		return 0, false
	}
	neg := s[0] == '-'
	var mant uint64
	frac, dot := 0, false
	for _, c := range s {
		switch {
		case c-'0' <= 9:
			mant = mant*10 + uint64(c-'0')
			if dot {
				frac++
			}
		case c == '.':
			dot = true
		case c != '-' || mant > 0 || dot:
			return 0, false
		}
	}
	return exactDouble(mant, frac, neg)
}

// wholeNumber reads a number that is whole in value: 5, 5.0, 5e3.
func wholeNumber(s []byte, whole bool) (int64, bool) {
	if whole {
		x, err := strconv.ParseInt(string(s), 10, 64)
		return x, err == nil
	}
	return types.ParseWhole(string(s))
}
