package format

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/types"

	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/reflect/protoreflect"
)

// protoTake is what to do with a field.
type protoTake struct {
	field protoreflect.FieldDescriptor
	vec   *column.Vector // of the column; of an array or a map that of the values
	whole *column.Vector // of an ARRAY or MAP
	key   *protoTake
	kids  *protoMessage // of a message that fills a ROW
	name  string
	must  bool
	wire  protowire.Type
	enum  protoreflect.EnumValueDescriptors
}

// protoMessage is how a message fills columns.
type protoMessage struct {
	takes []*protoTake
	by    []*protoTake // by their numbers, where these are small
	more  map[protowire.Number]*protoTake
	none  []*protoTake // columns that it has no field for
}

// protoReader reads messages of one schema.
type protoReader struct {
	program *protoProgram
	framed  bool
	targets *targets
	root    *protoMessage
	by      map[string]*protoMessage // by which of the schema's messages they are
	data    []byte
	why     string
}

// reader implements schemaFormat.
func (f protoFormat) reader(program any, t *targets) (schemaReader, error) {
	p := program.(*protoProgram)
	r := &protoReader{program: p, framed: f.framed, targets: t, by: map[string]*protoMessage{}}
	var err error
	r.root, err = r.of(p.message)
	return r, err
}

// of says how a message fills the columns.
func (r *protoReader) of(m protoreflect.MessageDescriptor) (*protoMessage, error) {
	s := r.targets.stream
	return newProtoMessage(m, s.Columns, r.targets.cols, "", func(i int) bool { return s.Columns[i].NotNull || i == s.Time })
}

func newProtoMessage(m protoreflect.MessageDescriptor, columns []types.Field, cols []*column.Vector, within string, must func(i int) bool) (*protoMessage, error) {
	out := &protoMessage{more: map[protowire.Number]*protoTake{}}
	for i, c := range columns {
		if cols[i] == nil {
			continue
		}
		f := m.Fields().ByName(protoreflect.Name(c.Name))
		if f == nil {
			f = m.Fields().ByJSONName(c.Name)
		}
		for k := 0; f == nil && k < m.Fields().Len(); k++ {
			if strings.EqualFold(string(m.Fields().Get(k).Name()), c.Name) {
				f = m.Fields().Get(k)
			}
		}
		if f == nil {
			out.none = append(out.none, &protoTake{vec: cols[i], name: within + c.Name, must: must(i)})
			continue
		}
		t, err := newProtoTake(f, cols[i], within+c.Name)
		if err != nil {
			return nil, err
		}
		t.must = must(i)
		out.takes = append(out.takes, t)
		if n := int(f.Number()); n < 64 {
			for len(out.by) <= n {
				out.by = append(out.by, nil)
			}
			out.by[n] = t
		} else {
			out.more[f.Number()] = t
		}
	}
	return out, nil
}

func newProtoTake(f protoreflect.FieldDescriptor, v *column.Vector, name string) (*protoTake, error) {
	misfit := fmt.Errorf("the column %s is %s, and the schema's field is %s", name, v.Type, protoType(f, nil))
	t := &protoTake{field: f, vec: v, name: name}
	switch {
	case f.IsMap():
		if v.Type.Kind != types.Map {
			return nil, misfit
		}
		t.whole, t.vec = v, v.Kids[1]
		k, err := newProtoSingle(f.MapKey(), v.Kids[0], name)
		if err != nil {
			return nil, misfit
		}
		t.key = k
		val, err := newProtoSingle(f.MapValue(), v.Kids[1], name+"[]")
		if err != nil {
			return nil, err
		}
		t.kids, t.wire, t.enum, t.field = val.kids, val.wire, val.enum, f
		return t, nil
	case f.IsList():
		if v.Type.Kind != types.Array {
			return nil, misfit
		}
		t, err := newProtoSingle(f, v.Kids[0], name+"[]")
		if err != nil {
			return nil, err
		}
		t.whole = v
		return t, nil
	}
	return newProtoSingle(f, v, name)
}

// newProtoSingle says how single values of a field come into a vector.
func newProtoSingle(f protoreflect.FieldDescriptor, v *column.Vector, name string) (*protoTake, error) {
	t := &protoTake{field: f, vec: v, name: name}
	fits := func(kinds ...types.Kind) bool { return slices.Contains(kinds, v.Type.Kind) }
	ok := false
	switch f.Kind() {
	case protoreflect.BoolKind:
		t.wire, ok = protowire.VarintType, fits(types.Boolean)
	case protoreflect.EnumKind:
		t.wire, ok = protowire.VarintType, fits(types.Varchar, types.Int, types.BigInt)
		t.enum = f.Enum().Values()
	case protoreflect.Int32Kind, protoreflect.Sint32Kind, protoreflect.Uint32Kind, protoreflect.Int64Kind, protoreflect.Sint64Kind, protoreflect.Uint64Kind:
		t.wire, ok = protowire.VarintType, fits(types.Int, types.BigInt, types.Double, types.Decimal)
	case protoreflect.Fixed32Kind, protoreflect.Sfixed32Kind:
		t.wire, ok = protowire.Fixed32Type, fits(types.Int, types.BigInt, types.Double, types.Decimal)
	case protoreflect.Fixed64Kind, protoreflect.Sfixed64Kind:
		t.wire, ok = protowire.Fixed64Type, fits(types.Int, types.BigInt, types.Double, types.Decimal)
	case protoreflect.FloatKind:
		t.wire, ok = protowire.Fixed32Type, fits(types.Double)
	case protoreflect.DoubleKind:
		t.wire, ok = protowire.Fixed64Type, fits(types.Double)
	case protoreflect.StringKind:
		t.wire, ok = protowire.BytesType, !v.Type.IsNested() && !fits(types.Varbinary)
	case protoreflect.BytesKind:
		t.wire, ok = protowire.BytesType, fits(types.Varbinary)
	case protoreflect.MessageKind:
		t.wire = protowire.BytesType
		switch {
		case f.Message().FullName() == timestampName:
			ok = fits(types.Timestamp)
		case fits(types.Row):
			var err error
			t.kids, err = newProtoMessage(f.Message(), v.Type.Fields, v.Kids, name+".", func(int) bool { return false })
			return t, err
		default:
			ok = fits(types.JSON)
		}
	}
	if !ok {
		return nil, fmt.Errorf("the column %s is %s, and the schema's field is %s", name, v.Type, protoSingle(f, nil))
	}
	return t, nil
}

// read implements schemaReader.
func (r *protoReader) read(data []byte, from, to, row, n int) string {
	m := r.root
	if r.framed {
		var bad string
		if m, from, bad = r.which(data, from, to); bad != "" {
			return bad
		}
	}
	r.data, r.why = data, ""
	if !r.message(m, from, to, row, n, 0) {
		return r.why
	}
	return ""
}

// which reads which message of the schema comes: a number of steps, and the place in each list of messages from the outermost.
func (r *protoReader) which(data []byte, from, to int) (*protoMessage, int, string) {
	begin := from
	next := func() (int64, bool) {
		x, n := binary.Varint(data[from:to])
		from += max(n, 0)
		return x, n > 0
	}
	count, ok := next()
	if !ok || count < 0 || count > mostDepth {
		return nil, 0, "the message does not say which message of its schema it is"
	}
	if count == 0 && (r.program.message.Index() == 0 && r.program.message.Parent() == protoreflect.Descriptor(r.program.file)) {
		return r.root, from, ""
	}
	list := r.program.file.Messages()
	var m protoreflect.MessageDescriptor
	if count == 0 {
		m = list.Get(0)
	}
	for range count {
		i, ok := next()
		if !ok || i < 0 || i >= int64(list.Len()) {
			return nil, 0, "the message names a message that its schema does not have"
		}
		m = list.Get(int(i))
		list = m.Messages()
	}
	if r.program.asked && m != r.program.message {
		return nil, 0, fmt.Sprintf("it is a message %s, not %s", m.FullName(), r.program.message.FullName())
	}
	key := string(data[begin:from])
	if known := r.by[key]; known != nil {
		return known, from, ""
	}
	made, err := r.of(m)
	if err != nil {
		return nil, 0, err.Error()
	}
	r.by[key] = made
	return made, from, ""
}

func (r *protoReader) bad(format string, args ...any) bool {
	if r.why == "" {
		r.why = fmt.Sprintf(format, args...)
	}
	return false
}

// message reads a message into a row.
func (r *protoReader) message(m *protoMessage, from, to, row, n, depth int) bool {
	if depth > mostDepth {
		return r.bad("messages in messages deeper than %d", mostDepth)
	}
	for _, t := range m.takes {
		r.absent(t, row, n)
	}
	for at := from; at < to; {
		num, wire, size := protowire.ConsumeTag(r.data[at:to])
		if size < 0 {
			return r.bad("byte %d of the message is no field: %s", at-from, protowire.ParseError(size))
		}
		at += size
		size = protowire.ConsumeFieldValue(num, wire, r.data[at:to])
		if size < 0 {
			return r.bad("the value of field %d cannot be read: %s", num, protowire.ParseError(size))
		}
		var t *protoTake
		if int(num) < len(m.by) {
			t = m.by[num]
		} else {
			t = m.more[num]
		}
		if t != nil && !r.field(t, wire, at, at+size, row, n, depth) {
			return false
		}
		at += size
	}
	for _, t := range m.takes {
		if t.must && t.vec.Null(row) && t.whole == nil {
			return r.bad("%s is NULL or missing, but it is NOT NULL or the event time", t.name)
		}
	}
	for _, t := range m.none {
		if t.must {
			return r.bad("%s is NULL or missing, but it is NOT NULL or the event time", t.name)
		}
		unset(t.vec, row, n)
	}
	return true
}

// absent sets what a field has that is not there.
func (r *protoReader) absent(t *protoTake, row, n int) {
	if t.whole != nil {
		setNot(t.whole, row)
		t.whole.S[row] = column.Str{Off: uint32(t.vec.Len())}
		return
	}
	if t.field.HasPresence() {
		unset(t.vec, row, n)
		return
	}
	setNot(t.vec, row)
	v := t.vec
	switch {
	case t.enum != nil && v.Type.Kind == types.Varchar:
		r.put(v, row, []byte(t.enum.Get(0).Name()))
	case v.Type.Kind == types.Double:
		v.F[row] = 0
	case v.Type.Kind == types.Boolean:
		v.B[row] = false
	case v.Type.Kind == types.Decimal:
		v.D[row] = types.Num{}
	case v.S != nil && v.Type.Kind != types.JSON:
		v.S[row] = column.Str{}
	case t.field.Kind() == protoreflect.StringKind:
		unset(v, row, n) // an empty text is no value of another type
	default:
		v.I[row] = 0
	}
}

// put makes a text that does not lie in the messages a value.
func (r *protoReader) put(v *column.Vector, row int, s []byte) {
	if len(r.data) > 0 && len(v.Data) > 0 && &v.Data[0] == &r.data[0] {
		v.Data = append(make([]byte, 0, 2*len(v.Data)), v.Data...)
	}
	v.SetText(row, s)
}

// field reads one value of a field, or those that are packed.
func (r *protoReader) field(t *protoTake, wire protowire.Type, from, to, row, n, depth int) bool {
	switch {
	case t.key != nil:
		return wire == protowire.BytesType && r.entry(t, from, to, row, depth) || r.bad("%s: it is no map on the wire", t.name)
	case t.whole != nil && wire == protowire.BytesType && t.wire != protowire.BytesType: // packed
		_, size := protowire.ConsumeVarint(r.data[from:to])
		for at := from + size; at < to; {
			k := protowire.ConsumeFieldValue(1, t.wire, r.data[at:to])
			if k < 0 {
				return r.bad("%s: an element cannot be read: %s", t.name, protowire.ParseError(k))
			}
			if !r.element(t, at, at+k, row, depth) {
				return false
			}
			at += k
		}
		return true
	case wire != t.wire:
		return r.bad("%s: the value on the wire is of another type than the schema's", t.name)
	case t.whole != nil:
		return r.element(t, from, to, row, depth)
	}
	return r.value(t, t.vec, from, to, row, n, depth)
}

// element adds an element to an ARRAY. Those of one row need not lie together on the wire, but do: others are added behind a copy.
func (r *protoReader) element(t *protoTake, from, to, row, depth int) bool {
	s := &t.whole.S[row]
	if int(s.Off+s.Len) != t.vec.Len() {
		return r.bad("%s: elements of two messages are mixed", t.name)
	}
	t.vec.Append(types.Value{})
	s.Len++
	return r.value(t, t.vec, from, to, t.vec.Len()-1, t.vec.Len(), depth+1)
}

// entry adds an entry to a MAP. Of two with one key the last counts.
func (r *protoReader) entry(t *protoTake, from, to, row, depth int) bool {
	_, size := protowire.ConsumeVarint(r.data[from:to])
	keys := t.whole.Kids[0]
	s := &t.whole.S[row]
	keys.Append(types.Value{})
	t.vec.Append(types.Value{})
	at := keys.Len() - 1
	value := *t
	value.whole, value.key, value.field = nil, nil, t.field.MapValue()
	r.absent(t.key, at, at+1)
	r.absent(&value, at, at+1)
	for p := from + size; p < to; {
		num, wire, size := protowire.ConsumeTag(r.data[p:to])
		if size < 0 {
			return false
		}
		p += size
		size = protowire.ConsumeFieldValue(num, wire, r.data[p:to])
		if size < 0 {
			return false
		}
		ok := true
		switch {
		case num == 1 && wire == t.key.wire:
			ok = r.value(t.key, keys, p, p+size, at, at+1, depth+1)
		case num == 2 && wire == t.wire:
			ok = r.value(&value, t.vec, p, p+size, at, at+1, depth+1)
		}
		if !ok {
			return false
		}
		p += size
	}
	s.Len++
	for k := int(s.Off); k < at; k++ {
		if keys.Value(k).S == keys.Value(at).S && keys.Value(k).I == keys.Value(at).I {
			t.vec.Set(k, at+1, t.vec.Value(at))
			setNot(t.vec, k)
			s.Len-- // what was added lies behind, and is seen no more
			t.whole.S[row] = *s
			return r.closeUp(t, row)
		}
	}
	return true
}

// closeUp puts the entries of a map behind what is seen no more, so that others can be added.
func (r *protoReader) closeUp(t *protoTake, row int) bool {
	s := &t.whole.S[row]
	from := t.vec.Len()
	for k := s.Off; k < s.Off+s.Len; k++ {
		t.whole.Kids[0].Append(t.whole.Kids[0].Value(int(k)))
		t.vec.Append(t.vec.Value(int(k)))
	}
	s.Off = uint32(from)
	return true
}

// value reads one value.
func (r *protoReader) value(t *protoTake, v *column.Vector, from, to, row, n, depth int) bool {
	setNot(v, row)
	b := r.data[from:to]
	if t.wire == protowire.BytesType {
		_, size := protowire.ConsumeVarint(b)
		return r.bytes(t, v, from+size, to, row, n, depth)
	}
	var u uint64
	switch t.wire {
	case protowire.Fixed32Type:
		u = uint64(binary.LittleEndian.Uint32(b))
	case protowire.Fixed64Type:
		u = binary.LittleEndian.Uint64(b)
	default:
		u, _ = protowire.ConsumeVarint(b)
	}
	var x int64
	switch t.field.Kind() {
	case protoreflect.BoolKind:
		v.B[row] = u != 0
		return true
	case protoreflect.FloatKind:
		v.F[row] = float64(math.Float32frombits(uint32(u)))
		return true
	case protoreflect.DoubleKind:
		v.F[row] = math.Float64frombits(u)
		return true
	case protoreflect.Sint32Kind, protoreflect.Sint64Kind:
		x = protowire.DecodeZigZag(u)
	case protoreflect.Int32Kind, protoreflect.Sfixed32Kind, protoreflect.EnumKind:
		x = int64(int32(u))
	case protoreflect.Uint32Kind, protoreflect.Fixed32Kind:
		x = int64(uint32(u))
	case protoreflect.Uint64Kind, protoreflect.Fixed64Kind:
		return r.whole(t, v, row, types.NumOfWords(0, u))
	default:
		x = int64(u)
	}
	if t.enum != nil && v.Type.Kind == types.Varchar {
		if e := t.enum.ByNumber(protoreflect.EnumNumber(x)); e != nil {
			r.put(v, row, []byte(e.Name()))
		} else {
			r.put(v, row, fmt.Appendf(nil, "%d", x))
		}
		return true
	}
	return r.whole(t, v, row, types.NumOfInt(x))
}

// whole sets a number.
func (r *protoReader) whole(t *protoTake, v *column.Vector, row int, x types.Num) bool {
	low := int64(x.LowBits())
	small := x.HighBits() == low>>63
	switch v.Type.Kind {
	case types.Double:
		v.F[row] = types.DecimalToDouble(x, 0)
		return true
	case types.Decimal:
		d, ok := types.Rescale(x, 0, int(v.Type.Scale), int(v.Type.Precision))
		v.D[row] = d
		if ok {
			return true
		}
	case types.Int:
		v.I[row] = low
		if small && low == int64(int32(low)) {
			return true
		}
	default:
		v.I[row] = low
		if small {
			return true
		}
	}
	return r.bad("%s: %s is no %s", t.name, types.AppendDecimal(nil, x, 0), v.Type)
}

// bytes sets a text, bytes, or a message.
func (r *protoReader) bytes(t *protoTake, v *column.Vector, from, to, row, n, depth int) bool {
	b := r.data[from:to]
	switch {
	case t.kids != nil:
		return r.message(t.kids, from, to, row, n, depth+1)
	case t.field.Kind() == protoreflect.MessageKind && v.Type.Kind == types.Timestamp:
		at, ok := protoInstant(b)
		if !ok {
			return r.bad("%s: it is no TIMESTAMP", t.name)
		}
		v.I[row] = at
		return true
	case t.field.Kind() == protoreflect.MessageKind:
		at := len(v.Data)
		var ok bool
		if v.Data, ok = r.json(v.Data, t.field.Message(), from, to, depth); !ok {
			v.Data = v.Data[:at]
			return false
		}
		v.S[row] = column.Str{Off: uint32(at), Len: uint32(len(v.Data) - at)}
		return true
	case t.field.Kind() == protoreflect.StringKind && !utf8.Valid(b):
		return r.bad("%s: the text is no valid UTF-8", t.name)
	case v.Type.Kind == types.Varchar || v.Type.Kind == types.Varbinary:
		if len(r.data) > 0 && len(v.Data) > 0 && &v.Data[0] == &r.data[0] {
			v.S[row] = column.Str{Off: uint32(from), Len: uint32(to - from)}
		} else {
			v.SetText(row, b)
		}
		return true
	}
	x, ok := eval.FromText(string(b), v.Type)
	if !ok {
		if len(b) == 0 {
			unset(v, row, n)
			return true
		}
		return r.bad("%s: %q is no %s", t.name, clip(b), v.Type)
	}
	v.Set(row, n, x)
	return true
}

// protoInstant reads a google.protobuf.Timestamp: seconds and nanoseconds.
func protoInstant(b []byte) (int64, bool) {
	var seconds, nanos int64
	for len(b) > 0 {
		num, wire, size := protowire.ConsumeTag(b)
		if size < 0 {
			return 0, false
		}
		b = b[size:]
		size = protowire.ConsumeFieldValue(num, wire, b)
		if size < 0 {
			return 0, false
		}
		if wire == protowire.VarintType && (num == 1 || num == 2) {
			u, _ := protowire.ConsumeVarint(b)
			if num == 1 {
				seconds = int64(u)
			} else {
				nanos = int64(int32(u))
			}
		}
		b = b[size:]
	}
	if seconds < types.FirstTimestamp/1e6 || seconds > types.LastTimestamp/1e6 || nanos < 0 || nanos >= 1e9 {
		return 0, false
	}
	at := seconds*1e6 + nanos/1000
	return at, at >= types.FirstTimestamp && at <= types.LastTimestamp
}

// json writes a message as a JSON object, through the columns that it would have.
func (r *protoReader) json(dst []byte, m protoreflect.MessageDescriptor, from, to, depth int) ([]byte, bool) {
	if depth > mostDepth {
		return dst, r.bad("messages in messages deeper than %d", mostDepth)
	}
	var fields []types.Field
	for i := range m.Fields().Len() {
		f := m.Fields().Get(i)
		fields = append(fields, types.Field{Name: string(f.Name()), Type: protoType(f, []protoreflect.FullName{m.FullName()})})
	}
	if fields == nil {
		return append(dst, "{}"...), true
	}
	v := column.New(types.Type{Kind: types.Row, Fields: fields})
	v.Resize(1)
	pm, err := newProtoMessage(m, fields, v.Kids, "", func(int) bool { return false })
	if err != nil {
		return dst, r.bad("%s", err)
	}
	if !r.message(pm, from, to, 0, 1, depth+1) {
		return dst, false
	}
	return types.AppendJSON(dst, v.Value(0), v.Type), true
}
