package format

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/types"
)

// avroTake is what to do with the values of a type in one place.
type avroTake struct {
	do   takeKind
	node *avroNode
	vec  *column.Vector
	name string
	must bool        // it must not be NULL
	kids []*avroTake // of a record: by its fields; of a union: by its branches; of an array or a map: of the elements
	none []*avroTake // of a record: columns that it has no fields for
	up   int64       // what a number of a time is multiplied with
	down int64       // or divided by
}

type takeKind uint8

const (
	takeSkip takeKind = iota
	takeNull
	takeBoolean
	takeWhole
	takeWholeDouble
	takeWholeDecimal
	takeTime
	takeFloat
	takeDouble
	takeText
	takeEnum
	takeBytes
	takeDecimal
	takeRecord
	takeUnion
	takeArray
	takeMap
	takeJSON
	takeParsed // a text that is read as another type
	takeMisfit // values of the branch have no place in the column
)

// avroReader reads messages of one schema.
type avroReader struct {
	root  *avroTake
	print [10]byte
	steps []avroStep // nil where records are not as usual

	data    []byte
	at, end int
	why     string
	where   string // the column in which it went wrong
}

// reader implements schemaFormat.
func (avroFormat) reader(program any, t *targets) (schemaReader, error) {
	p := program.(*avroProgram)
	root := &avroTake{do: takeRecord, node: p.root}
	if err := root.fields(t.stream.Columns, t.cols, "", func(i int) bool { return t.stream.Columns[i].NotNull || i == t.stream.Time }); err != nil {
		return nil, err
	}
	return &avroReader{root: root, print: p.print, steps: root.steps()}, nil
}

// fields makes the takes of a record's fields, which are found by their names.
func (t *avroTake) fields(columns []types.Field, cols []*column.Vector, within string, must func(i int) bool) error {
	for _, f := range t.node.fields {
		i := slices.IndexFunc(columns, func(c types.Field) bool { return c.Name == f.name })
		if i < 0 {
			i = slices.IndexFunc(columns, func(c types.Field) bool { return strings.EqualFold(c.Name, f.name) })
		}
		k := &avroTake{node: f.node, name: within + f.name}
		if i >= 0 && cols[i] != nil {
			var err error
			if k, err = newTake(f.node, cols[i], within+columns[i].Name, must(i)); err != nil {
				return err
			}
		}
		t.kids = append(t.kids, k)
	}
	for i, c := range columns {
		if cols[i] != nil && !slices.ContainsFunc(t.kids, func(k *avroTake) bool { return k.do != takeSkip && k.fills(cols[i]) }) {
			t.none = append(t.none, &avroTake{do: takeNull, vec: cols[i], name: within + c.Name, must: must(i)})
		}
	}
	return nil
}

func (t *avroTake) fills(v *column.Vector) bool {
	return t.vec == v || t.do == takeUnion && slices.ContainsFunc(t.kids, func(k *avroTake) bool { return k.vec == v })
}

// newTake says how values of a type come into a vector, or why they cannot.
func newTake(n *avroNode, v *column.Vector, name string, must bool) (*avroTake, error) {
	t := &avroTake{node: n, vec: v, name: name, must: must}
	kind := v.Type.Kind
	misfit := fmt.Errorf("the column %s is %s, and the schema's field is %s", name, v.Type, n.words())
	if kind == types.JSON && n.kind != "null" && n.kind != "string" && !n.maybe() { // a text is read as a document
		t.do = takeJSON
		return t, nil
	}
	switch n.kind {
	case "null":
		t.do = takeNull
		return t, nil
	case "union":
		t.do = takeUnion
		fit := false
		var wrong error
		for _, b := range n.branches {
			k, err := newTake(b, v, name, must)
			if err != nil {
				k, wrong = &avroTake{do: takeMisfit, node: b, vec: v, name: name}, err
			} else if b.kind != "null" {
				fit = true
			}
			t.kids = append(t.kids, k)
		}
		if !fit && wrong != nil {
			return nil, wrong
		}
		return t, nil
	case "boolean":
		if kind == types.Boolean {
			t.do = takeBoolean
			return t, nil
		}
	case "int", "long":
		switch {
		case kind == types.Timestamp || kind == types.Time || kind == types.Date && n.logical == "date":
			t.do = takeTime
			switch unit := n.logical[strings.LastIndexByte(n.logical, '-')+1:]; {
			case kind == types.Date:
				t.up = 1
			case kind == types.Time != strings.HasPrefix(n.logical, "time-"), n.logical == "" || n.logical == "date":
				return nil, misfit
			case unit == "millis":
				t.up = 1000
			case unit == "micros":
				t.up = 1
			case unit == "nanos":
				t.down = 1000
			default:
				return nil, misfit
			}
			return t, nil
		case n.logical != "":
		case v.Type.IsWhole():
			t.do = takeWhole
			return t, nil
		case kind == types.Double:
			t.do = takeWholeDouble
			return t, nil
		case kind == types.Decimal:
			t.do = takeWholeDecimal
			return t, nil
		}
	case "float", "double":
		if kind == types.Double {
			t.do = takeDouble
			if n.kind == "float" {
				t.do = takeFloat
			}
			return t, nil
		}
	case "string":
		switch {
		case kind == types.Varchar:
			t.do = takeText
			return t, nil
		case !v.Type.IsNested() && kind != types.Varbinary:
			t.do = takeParsed
			return t, nil
		}
	case "enum":
		if kind == types.Varchar {
			t.do = takeEnum
			return t, nil
		}
	case "bytes", "fixed":
		switch {
		case kind == types.Decimal && n.logical == "decimal":
			t.do = takeDecimal
			return t, nil
		case kind == types.Varbinary && n.logical != "decimal":
			t.do = takeBytes
			return t, nil
		}
	case "record":
		if kind == types.Row {
			t.do = takeRecord
			return t, t.fields(v.Type.Fields, v.Kids, name+".", func(int) bool { return false })
		}
	case "array", "map":
		if kind == types.Array && n.kind == "array" || kind == types.Map && n.kind == "map" && v.Type.Fields[0].Type.Kind == types.Varchar {
			t.do = takeArray
			if n.kind == "map" {
				t.do = takeMap
			}
			k, err := newTake(n.item, v.Kids[len(v.Kids)-1], name+"[]", false)
			t.kids = []*avroTake{k}
			return t, err
		}
	}
	return nil, misfit
}

// maybe says whether a type is a union of null and one other.
func (n *avroNode) maybe() bool {
	return n.kind == "union" && len(n.branches) == 2 && (n.branches[0].kind == "null" || n.branches[1].kind == "null")
}

// words describes a type for people.
func (n *avroNode) words() string {
	switch {
	case n.logical != "":
		return n.kind + " of the logical type " + n.logical
	case n.kind == "union":
		var of []string
		for _, b := range n.branches {
			of = append(of, b.words())
		}
		return "a union of " + strings.Join(of, ", ")
	}
	return n.kind
}

// read implements schemaReader.
func (r *avroReader) read(data []byte, from, to, row, n int) string {
	if len(r.print) <= to-from && string(data[from:from+len(r.print)]) == string(r.print[:]) {
		from += len(r.print)
	}
	if r.steps != nil {
		if end, ok := r.fast(data, from, to, row, n); ok && end == to {
			return ""
		}
	}
	r.data, r.at, r.end, r.why, r.where = data, from, to, "", ""
	if !r.take(r.root, row, n, 0) {
		if r.where != "" {
			return r.where + ": " + r.why
		}
		return r.why
	}
	if r.at != r.end {
		return fmt.Sprintf("the message has %d bytes behind what its schema says", r.end-r.at)
	}
	return ""
}

const (
	mostDepth = 64 // of types in types
	// mostEmpty is how many elements that take no bytes an array may have.
	mostEmpty = 1 << 16
)

var errShort = "the message ends in the middle of a value"

func (r *avroReader) bad(t *avroTake, format string, args ...any) bool {
	if r.why == "" {
		r.why = fmt.Sprintf(format, args...)
		if t != nil {
			r.where = t.name
		}
	}
	return false
}

// long reads a number of variable length.
func (r *avroReader) long() (int64, bool) {
	if r.at < r.end {
		if b := r.data[r.at]; b < 0x80 {
			r.at++
			return int64(b>>1) ^ -int64(b&1), true
		}
	}
	u, n := binary.Uvarint(r.data[r.at:r.end])
	if n <= 0 {
		if n < 0 {
			r.why = "a number in the message has more than 64 bits"
		} else {
			r.why = errShort
		}
		return 0, false
	}
	r.at += n
	return int64(u>>1) ^ -int64(u&1), true
}

// some gives the next bytes.
func (r *avroReader) some(n int64) ([]byte, bool) {
	if n < 0 || n > int64(r.end-r.at) {
		r.why = errShort
		return nil, false
	}
	r.at += int(n)
	return r.data[r.at-int(n) : r.at], true
}

// text gives bytes with their length before them.
func (r *avroReader) text() ([]byte, bool) {
	n, ok := r.long()
	if !ok {
		return nil, false
	}
	return r.some(n)
}

func (r *avroReader) byte() (byte, bool) {
	b, ok := r.some(1)
	if !ok {
		return 0, false
	}
	return b[0], true
}

// branch reads which branch of a union comes.
func (r *avroReader) branch(n *avroNode) (int, bool) {
	i, ok := r.long()
	if ok && (i < 0 || i >= int64(len(n.branches))) {
		r.why = fmt.Sprintf("the message names branch %d of a union of %d", i, len(n.branches))
		return 0, false
	}
	return int(i), ok
}

// take does what is to be done with the next value.
func (r *avroReader) take(t *avroTake, row, n, depth int) bool {
	v := t.vec
	switch t.do {
	case takeSkip:
		return r.skip(t.node, depth)
	case takeMisfit:
		return r.bad(t, "a value of %s has no place in %s", t.node.words(), v.Type)
	case takeUnion:
		i, ok := r.branch(t.node)
		return ok && r.take(t.kids[i], row, n, depth)
	case takeRecord:
		if v != nil {
			setNot(v, row)
		}
		for _, k := range t.kids {
			if !r.take(k, row, n, depth+1) {
				return false
			}
		}
		for _, k := range t.none {
			if !r.take(k, row, n, depth) {
				return false
			}
		}
		return true
	case takeNull:
		if t.must {
			return r.bad(nil, "%s is NULL or missing, but it is NOT NULL or the event time", t.name)
		}
		unset(v, row, n)
		return true
	}
	setNot(v, row)
	switch t.do {
	case takeText, takeBytes:
		b, ok := r.sized(t)
		if !ok {
			return false
		}
		if t.do == takeText && !utf8.Valid(b) {
			return r.bad(t, "the text is no valid UTF-8")
		}
		if len(r.data) > 0 && len(v.Data) > 0 && &v.Data[0] == &r.data[0] {
			v.S[row] = column.Str{Off: uint32(r.at - len(b)), Len: uint32(len(b))}
		} else {
			v.SetText(row, b)
		}
	case takeWhole, takeWholeDouble, takeWholeDecimal, takeTime:
		x, ok := r.long()
		if !ok {
			return false
		}
		return r.whole(t, x, row)
	case takeDouble:
		b, ok := r.some(8)
		if !ok {
			return false
		}
		v.F[row] = math.Float64frombits(binary.LittleEndian.Uint64(b))
	case takeFloat:
		b, ok := r.some(4)
		if !ok {
			return false
		}
		v.F[row] = float64(math.Float32frombits(binary.LittleEndian.Uint32(b)))
	case takeBoolean:
		b, ok := r.byte()
		if !ok {
			return false
		}
		v.B[row] = b != 0
	case takeEnum:
		s, ok := r.symbol(t.node)
		if !ok {
			return false
		}
		r.own(v)
		v.SetText(row, []byte(s))
	case takeDecimal:
		b, ok := r.sized(t)
		if !ok {
			return false
		}
		x, ok := types.NumOfBig(signed(b))
		if ok {
			x, ok = types.Rescale(x, t.node.scale, int(v.Type.Scale), int(v.Type.Precision))
		}
		if !ok {
			return r.bad(t, "%s has more digits than %s", decimalText(b, t.node.scale), v.Type)
		}
		v.D[row] = x
	case takeParsed:
		b, ok := r.text()
		if !ok {
			return false
		}
		x, ok := eval.FromText(string(b), v.Type)
		if !ok {
			return r.bad(t, "%q is no %s", clip(b), v.Type)
		}
		v.Set(row, n, x)
	case takeJSON:
		from := len(v.Data)
		var ok bool
		if v.Data, ok = r.json(v.Data, t.node, depth); !ok {
			v.Data = v.Data[:from]
			return false
		}
		v.S[row] = column.Str{Off: uint32(from), Len: uint32(len(v.Data) - from)}
	case takeArray, takeMap:
		return r.elements(t, row, depth)
	}
	return true
}

// sized gives the bytes of a type that has its length before them, or always the same.
func (r *avroReader) sized(t *avroTake) ([]byte, bool) {
	if t.node.kind == "fixed" {
		return r.some(int64(t.node.size))
	}
	return r.text()
}

// own makes a vector whose texts lie in the messages have them itself, since one comes that does not.
func (r *avroReader) own(v *column.Vector) {
	if len(r.data) > 0 && len(v.Data) > 0 && &v.Data[0] == &r.data[0] {
		v.Data = append(make([]byte, 0, 2*len(v.Data)), v.Data...)
	}
}

func (r *avroReader) whole(t *avroTake, x int64, row int) bool {
	v := t.vec
	switch t.do {
	case takeWholeDouble:
		v.F[row] = float64(x)
	case takeWholeDecimal:
		d, ok := types.Rescale(types.NumOfInt(x), 0, int(v.Type.Scale), int(v.Type.Precision))
		if !ok {
			return r.bad(t, "%d is no %s", x, v.Type)
		}
		v.D[row] = d
	case takeTime:
		switch {
		case t.down > 0:
			x = floorDiv(x, t.down)
		case t.up > 1 && (x > math.MaxInt64/t.up || x < math.MinInt64/t.up):
			return r.bad(t, "%d is no %s", x, v.Type)
		default:
			x *= t.up
		}
		if v.Type.Kind == types.Timestamp && (x < types.FirstTimestamp || x > types.LastTimestamp) ||
			v.Type.Kind == types.Date && (x < types.FirstTimestamp/dayMicros || x > types.LastTimestamp/dayMicros) ||
			v.Type.Kind == types.Time && (x < 0 || x >= dayMicros) {
			return r.bad(t, "%d is no %s", x, v.Type)
		}
		v.I[row] = x
	default:
		if v.Type.Kind == types.Int && x != int64(int32(x)) {
			return r.bad(t, "%d is no INT", x)
		}
		v.I[row] = x
	}
	return true
}

const dayMicros = 86_400_000_000

func floorDiv(x, by int64) int64 {
	q := x / by
	if x%by < 0 {
		q--
	}
	return q
}

func (r *avroReader) symbol(n *avroNode) (string, bool) {
	i, ok := r.long()
	if !ok {
		return "", false
	}
	if i < 0 || i >= int64(len(n.symbols)) {
		r.why = fmt.Sprintf("the message names symbol %d of an enum of %d", i, len(n.symbols))
		return "", false
	}
	return n.symbols[i], true
}

// blocks calls each for the elements of an array or a map, which come in blocks.
func (r *avroReader) blocks(n *avroNode, each func() bool) bool {
	room := int64(mostEmpty)
	for {
		count, ok := r.long()
		if !ok {
			return false
		}
		if count == 0 {
			return true
		}
		if count < 0 {
			if count = -count; count < 0 {
				return r.bad(nil, "the message has an array of too many elements")
			}
			if _, ok := r.long(); !ok { // bytes of the block
				return false
			}
		}
		left := int64(r.end - r.at)
		if n.item.empty && n.kind == "array" {
			room -= count
			left = room + count
		}
		if count > left || room < 0 {
			return r.bad(nil, "the message has an array of more elements than there is room for")
		}
		for range count {
			if !each() {
				return false
			}
		}
	}
}

// elements fills an ARRAY or MAP.
func (r *avroReader) elements(t *avroTake, row, depth int) bool {
	if depth > mostDepth {
		return r.bad(t, "values in values deeper than %d", mostDepth)
	}
	v, k := t.vec, t.kids[0]
	of := v.Kids[len(v.Kids)-1]
	from := of.Len()
	n := 0
	ok := r.blocks(t.node, func() bool {
		if t.do == takeMap {
			b, ok := r.text()
			if !ok {
				return false
			}
			if !utf8.Valid(b) {
				return r.bad(t, "a key is no valid UTF-8")
			}
			v.Kids[0].Append(types.Value{Kind: types.Varchar, S: string(b)})
		}
		of.Append(types.Value{})
		n++
		return r.take(k, of.Len()-1, of.Len(), depth+1)
	})
	if !ok {
		return false
	}
	v.S[row] = column.Str{Off: uint32(from), Len: uint32(n)}
	return true
}

// skip passes over a value.
func (r *avroReader) skip(n *avroNode, depth int) (ok bool) {
	if depth > mostDepth {
		return r.bad(nil, "values in values deeper than %d", mostDepth)
	}
	switch n.kind {
	case "boolean":
		_, ok = r.some(1)
	case "int", "long", "enum":
		_, ok = r.long()
	case "float":
		_, ok = r.some(4)
	case "double":
		_, ok = r.some(8)
	case "string", "bytes":
		_, ok = r.text()
	case "fixed":
		_, ok = r.some(int64(n.size))
	case "record":
		for _, f := range n.fields {
			if !r.skip(f.node, depth+1) {
				return false
			}
		}
		return true
	case "array", "map":
		return r.blocks(n, func() bool {
			if n.kind == "map" {
				if _, ok := r.text(); !ok {
					return false
				}
			}
			return r.skip(n.item, depth+1)
		})
	case "union":
		i, ok := r.branch(n)
		return ok && r.skip(n.branches[i], depth)
	default:
		return true
	}
	return ok
}

// json writes a value as JSON.
func (r *avroReader) json(dst []byte, n *avroNode, depth int) ([]byte, bool) {
	if depth > mostDepth {
		return dst, r.bad(nil, "values in values deeper than %d", mostDepth)
	}
	switch n.kind {
	case "null":
		return append(dst, "null"...), true
	case "union":
		i, ok := r.branch(n)
		if !ok {
			return dst, false
		}
		return r.json(dst, n.branches[i], depth)
	case "record":
		dst = append(dst, '{')
		for i, f := range n.fields {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = append(types.AppendJSONString(dst, []byte(f.name)), ':')
			var ok bool
			if dst, ok = r.json(dst, f.node, depth+1); !ok {
				return dst, false
			}
		}
		return append(dst, '}'), true
	case "array", "map":
		open, shut := byte('['), byte(']')
		if n.kind == "map" {
			open, shut = '{', '}'
		}
		dst = append(dst, open)
		first := true
		ok := r.blocks(n, func() (ok bool) {
			if !first {
				dst = append(dst, ',')
			}
			first = false
			if n.kind == "map" {
				b, ok := r.text()
				if !ok || !utf8.Valid(b) {
					return r.bad(nil, "a key is no valid UTF-8")
				}
				dst = append(types.AppendJSONString(dst, b), ':')
			}
			dst, ok = r.json(dst, n.item, depth+1)
			return ok
		})
		return append(dst, shut), ok
	}
	// The rest are single values: what a column of their type holds.
	t, _ := avroType(n, nil)
	v := column.New(t)
	v.Resize(1)
	k, err := newTake(n, v, "", false)
	if err != nil {
		return dst, r.bad(nil, "%s", err)
	}
	if !r.take(k, 0, 1, depth) {
		return dst, false
	}
	return types.AppendJSON(dst, v.Value(0), t), true
}

// signed reads a whole number, high byte first.
func signed(b []byte) *big.Int {
	x := new(big.Int).SetBytes(b)
	if len(b) > 0 && b[0] >= 0x80 {
		x.Sub(x, new(big.Int).Lsh(big.NewInt(1), uint(8*len(b))))
	}
	return x
}

func decimalText(b []byte, scale int) string {
	return signed(b).String() + "e-" + strconv.Itoa(scale)
}
