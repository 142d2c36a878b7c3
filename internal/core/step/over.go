package step

import (
	"bytes"
	"slices"

	"fiume/internal/core/column"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
	"fiume/internal/core/state"
	"fiume/internal/core/types"
)

// over computes functions over the rows before and behind each row of a key. It keeps the rows that some
// frame may still need, with what the functions read of them, and gives rows in event order.
type over struct {
	op     *plan.Op
	inputs int           // columns of the input; what the calls read stands behind them
	hist   column.Batch  // rows kept
	next   []int32       // the key's next row + 1, by row
	gen    []uint32      // a key that was forgotten begins a new generation
	key    []uint32      // entry in dir, by row
	queue  []uint32      // rows that have not been given, in event order
	dir    *state.Groups // by key: see the words below
	acc    *state.Groups // by key: the aggregates of frames that begin with the key
	live   int           // rows kept by the last sweep
	swept  int64
	width  int   // words of a key
	span   int64 // how long a row may be needed
	rank   map[uint32][3]int64
	order  [2]int        // the extra columns that order a ranked partition: from, to
	fields []types.Field // of hist
}

// Words of a key.
const (
	overHead   = iota // row + 1
	overTail          //
	overLast          // time of its last row
	overGen           //
	overNumber        // rows given in this generation
	overRank          // number of the first row given of this instant
	overDense         // instants given
	overAt            // the instant
	overWords         // and behind them, for each frame that trails, the number of rows of this generation that it has taken
)

// trails says whether a call's frame begins with the key and does not end with the row: its state takes rows as its end
// comes to them.
func trails(c *plan.OverCall) bool { return c.Agg != nil && c.Open && c.To != 0 }

func newOver(o *plan.Op) *over {
	x := &over{op: o, width: overWords, inputs: len(o.Input.Fields), swept: types.MinTime, fields: slices.Clone(o.Input.Fields)}
	x.span = o.Order.Forget
	more := func(e *eval.Expr) {
		t := types.Of(types.Boolean)
		if e != nil {
			t = e.Type
		}
		x.fields = append(x.fields, types.Field{Type: t})
	}
	for _, c := range o.Order.Calls {
		if !c.ByRows {
			x.span = max(x.span, -c.From, c.To)
		}
		if trails(&c) {
			x.width++
		}
		for _, e := range c.Reads() {
			more(e)
		}
	}
	x.order[0] = len(x.fields) - x.inputs
	for _, e := range o.Order.By {
		more(e)
	}
	x.order[1] = len(x.fields) - x.inputs
	x.clear()
	return x
}

func (x *over) clear() {
	x.hist = column.Batch{}
	x.next, x.gen, x.key, x.queue = nil, nil, nil, nil
	x.dir, x.acc = &state.Groups{Width: x.width}, &state.Groups{Width: x.op.Order.Words()}
}

// take implements worker.
func (x *over) take(o *Ordered, b *column.Batch) {
	o.keysOf(b)
	m := &o.C.Machine
	m.Begin()
	wide := *b
	wide.Cols = slices.Clone(b.Cols)
	put := func(e *eval.Expr) {
		var v *column.Vector
		if e != nil {
			v = m.Eval(e, b)
		}
		wide.Cols = append(wide.Cols, v)
	}
	for _, c := range x.op.Order.Calls {
		for _, e := range c.Reads() {
			put(e)
		}
	}
	for _, e := range x.op.Order.By {
		put(e)
	}
	if o.C.cut(b, func(half *column.Batch) { x.take(o, half) }) {
		return
	}
	bad := o.C.rejects(x.op, b)
	n := &o.C.Counts[x.op.ID]
	for i := range b.N {
		if bad != nil && bad[i] {
			n.Held--
			continue
		}
		x.add(o.keys.Hashes[i], o.keys.Key(i), &wide, i, true)
	}
}

// add keeps row i of a batch with the extra columns.
func (x *over) add(hash uint64, key []byte, b *column.Batch, i int, waits bool) {
	before := x.dir.Len()
	e := x.dir.Find(hash, 0, key)
	w := x.dir.Of(e)
	t := b.Time[i]
	if forget := x.op.Order.Forget; x.dir.Len() > before || forget > 0 && t > int64(w[overLast])+forget {
		w[overGen]++
	}
	w[overLast] = uint64(t)
	r := uint32(x.hist.N)
	x.hist.AppendRow(b, i)
	x.next, x.gen, x.key = append(x.next, 0), append(x.gen, uint32(w[overGen])), append(x.key, e)
	if w[overTail] != 0 {
		x.next[w[overTail]-1] = int32(r) + 1
	} else {
		w[overHead] = uint64(r) + 1
	}
	w[overTail] = uint64(r) + 1
	if waits {
		x.queue = append(x.queue, r)
	}
}

// ready says whether nothing that comes can change the results of a row.
func (x *over) ready(r uint32, watermark int64) bool {
	for _, c := range x.op.Order.Calls {
		behind := int64(0) // rows that must be known
		switch {
		case c.Name == "lead":
			behind = c.Offset
		case c.Agg != nil && c.ByRows:
			behind = c.To
		case c.Agg != nil && c.To > 0:
			if watermark <= x.hist.Time[r]+c.To {
				return false
			}
		}
		if behind > 0 && watermark <= int64(x.dir.Of(x.key[r])[overLast])+x.op.Order.Forget {
			at := x.next[r]
			for ; behind > 0 && at != 0 && x.gen[at-1] == x.gen[r]; behind-- {
				at = x.next[at-1]
			}
			if behind > 0 && at == 0 {
				return false
			}
		}
	}
	return true
}

// pass implements worker.
func (x *over) pass(o *Ordered, watermark int64) int64 {
	done := 0
	for done < len(x.queue) {
		var sel []uint32
		out := make([]*column.Vector, len(x.op.Order.Calls))
		for k, c := range x.op.Order.Calls {
			out[k] = column.New(c.Type)
		}
		var failed []string
		for done < len(x.queue) && len(sel) < closeBatch && x.ready(x.queue[done], watermark) {
			r := x.queue[done]
			done++
			reason := x.give(r, out)
			sel, failed = append(sel, r), append(failed, reason)
		}
		if len(sel) == 0 {
			break
		}
		o.C.Counts[x.op.ID].Held -= int64(len(sel))
		b := column.Batch{}
		x.hist.Gather(sel, &b)
		b.Cols = append(b.Cols[:x.inputs:x.inputs], out...)
		b.Split, b.From = -1, nil
		var keep []uint32
		for i, reason := range failed {
			if reason == "" {
				keep = append(keep, uint32(i))
				continue
			}
			o.C.Counts[x.op.ID].Rejected++
			o.C.Tally(x.op.ID, reason)
			in := b
			in.Cols = b.Cols[:x.inputs]
			o.C.sample(x.op, false, reason, &in, i, 0)
		}
		o.push(&b, keep)
	}
	x.queue = x.queue[done:]
	x.sweep(watermark)
	if len(x.queue) > 0 {
		return min(watermark, x.hist.Time[x.queue[0]])
	}
	return watermark
}

// give computes the functions for a row, in event order for each key.
func (x *over) give(r uint32, out []*column.Vector) (failed string) {
	w := x.dir.Of(x.key[r])
	t := x.hist.Time[r]
	var list []uint32 // the key's rows of this generation
	at := 0
	for i := int32(w[overHead]); i != 0; i = x.next[i-1] {
		if j := uint32(i - 1); x.gen[j] == x.gen[r] {
			if j == r {
				at = len(list)
			}
			list = append(list, j)
		}
	}
	if gen := uint64(x.gen[r]) << 32; w[overNumber]&^0xffffffff != gen { // the first row of the generation
		w[overNumber], w[overRank], w[overDense] = gen, 0, 0
		e := x.acc.Find(x.dir.Hashes[x.key[r]], 0, x.dir.Key(x.key[r]))
		clear(x.acc.Of(e))
		clear(w[overWords:])
	}
	w[overNumber]++
	number := int64(w[overNumber] & 0xffffffff)
	fresh := w[overDense] == 0 || int64(w[overAt]) != t
	if fresh {
		w[overRank], w[overAt] = uint64(number), uint64(t)
		w[overDense]++
	}
	ranks := [3]int64{number, int64(w[overRank]), int64(w[overDense])}
	if x.op.Order.Ranked {
		if fresh {
			x.rankAll(list, t)
		}
		ranks = x.rank[r]
	}
	extra, word, trailing := x.inputs, 0, overWords
	for k, c := range x.op.Order.Calls {
		vals := x.hist.Cols[extra : extra+len(c.Reads())]
		extra += len(c.Reads())
		v := out[k]
		switch {
		case c.Name == "row_number":
			v.I = append(v.I, ranks[0])
		case c.Name == "rank":
			v.I = append(v.I, ranks[1])
		case c.Name == "dense_rank":
			v.I = append(v.I, ranks[2])
		case c.Name == "lag" || c.Name == "lead":
			j := at - int(c.Offset)
			if c.Name == "lead" {
				j = at + int(c.Offset)
			}
			switch {
			case j >= 0 && j < len(list):
				v.Append(vals[0].Value(int(list[j])))
			case vals[1] != nil:
				v.Append(vals[1].Value(int(r)))
			default:
				v.Append(types.Value{})
			}
		default:
			var taken *uint64
			if trails(&c) {
				taken = &w[trailing]
				trailing++
			}
			if f := x.aggregate(&c, v, vals, word, r, list, at, fresh, number-1-int64(at), taken); f != "" {
				failed = f
			}
			word += c.Agg.Words()
		}
	}
	return failed
}

// aggregate appends the result of an aggregate over the frame of a row, the at-th of list, which begins with the first-th
// row of the generation. taken is how many of them a frame that trails has taken.
func (x *over) aggregate(c *plan.OverCall, v *column.Vector, vals []*column.Vector, word int, r uint32, list []uint32, at int, fresh bool, first int64, taken *uint64) (failed string) {
	t := x.hist.Time[r]
	update := func(g *state.Groups, e uint32, word int, j uint32) {
		i := int(j)
		view := func(v *column.Vector) *column.Vector {
			if v == nil {
				return nil
			}
			y := v.View(i, i+1)
			return &y
		}
		b := column.Batch{N: 1, Time: x.hist.Time[i : i+1], Pos: x.hist.Pos[i : i+1], Split: int(x.hist.From[i])}
		c.Agg.Update(g, word, []int32{int32(e)}, eval.Rows{Values: view(vals[0]), By: view(vals[1]), Filter: view(vals[2]), Batch: &b})
	}
	last := column.New(v.Type)
	last.Resize(1)
	final := func(g *state.Groups, e uint32, word int) {
		c.Agg.Final(g, []uint32{e}, word, last, func(_ int, reason string) { failed = reason })
		v.Append(last.Value(0))
	}
	within := func(i int) bool { // the frame's end
		if c.ByRows {
			return i <= at+int(c.To)
		}
		return x.hist.Time[list[i]] <= t+c.To
	}
	if c.Open { // all rows so far: the state goes on
		e := x.acc.Find(x.dir.Hashes[x.key[r]], 0, x.dir.Key(x.key[r]))
		switch {
		case taken != nil:
			for i := max(0, int(int64(*taken)-first)); i < len(list) && within(i); i++ {
				update(x.acc, e, word, list[i])
				*taken++
			}
		case c.ByRows:
			update(x.acc, e, word, r)
		case fresh:
			for _, j := range list[at:] {
				if x.hist.Time[j] != t {
					break
				}
				update(x.acc, e, word, j)
			}
		}
		final(x.acc, e, word)
		return failed
	}
	g := &state.Groups{Width: c.Agg.Words()}
	e := g.Find(0, 0, nil)
	for i, j := range list {
		inside := x.hist.Time[j] >= t+c.From
		if c.ByRows {
			inside = i >= at+int(c.From)
		}
		if inside && within(i) {
			update(g, e, 0, j)
		}
	}
	final(g, e, 0)
	return failed
}

// rankAll numbers the rows of a key at one instant by the order that the query names.
func (x *over) rankAll(list []uint32, t int64) {
	x.rank = map[uint32][3]int64{}
	var rows []uint32
	for _, j := range list {
		if x.hist.Time[j] == t {
			rows = append(rows, j)
		}
	}
	by := x.hist.Cols[x.inputs+x.order[0] : x.inputs+x.order[1]]
	compare := func(i, j uint32) int {
		for k, v := range by {
			a, b := state.AppendKey(nil, v, int(i), true), state.AppendKey(nil, v, int(j), true)
			c := bytes.Compare(a, b) // NULL is the least
			if x.op.Order.Desc[k] {
				c = -c
			}
			if c != 0 {
				return c
			}
		}
		return 0
	}
	slices.SortStableFunc(rows, compare)
	for n, j := range rows {
		r := [3]int64{int64(n) + 1, int64(n) + 1, 1}
		if n > 0 {
			before := x.rank[rows[n-1]]
			if r[2] = before[2] + 1; compare(rows[n-1], j) == 0 {
				r[1], r[2] = before[1], before[2]
			}
		}
		x.rank[j] = r
	}
}

// sweep drops the rows and keys that no frame needs any more.
func (x *over) sweep(watermark int64) {
	if x.hist.N < 2*x.live+1024 && (watermark < x.swept || x.hist.N == 0 && x.dir.Len() == 0) {
		return
	}
	old := *x
	x.clear()
	rowsBack := int64(0) // rows before a row that a frame may need
	for _, c := range x.op.Order.Calls {
		switch {
		case c.Name == "lag":
			rowsBack = max(rowsBack, c.Offset)
		case c.Agg != nil && c.ByRows && !c.Open:
			rowsBack = max(rowsBack, -c.From)
		}
	}
	moved := make([]int32, old.hist.N)
	waits := make([]bool, old.hist.N)
	for _, r := range old.queue {
		waits[r] = true
	}
	for d, hash := range old.dir.Hashes {
		w := old.dir.Of(uint32(d))
		key := old.dir.Key(uint32(d))
		var list []uint32
		for i := int32(w[overHead]); i != 0; i = old.next[i-1] {
			list = append(list, uint32(i-1))
		}
		first := slices.IndexFunc(list, func(r uint32) bool { return waits[r] })
		if first < 0 {
			first = len(list)
		}
		from := max(0, first-int(rowsBack))
		if forget := x.op.Order.Forget; first == len(list) && forget > 0 && watermark > int64(w[overLast])+forget {
			continue // forgotten
		}
		since := watermark
		if first < len(list) {
			since = min(since, old.hist.Time[list[first]])
		}
		given, trailing := int(w[overNumber]&0xffffffff), overWords
		for _, c := range x.op.Order.Calls {
			if trails(&c) { // what it has not taken yet
				from = max(0, min(from, first-(given-int(w[trailing]))))
				trailing++
			}
			if c.Agg == nil || c.ByRows || c.Open {
				continue
			}
			i := slices.IndexFunc(list, func(r uint32) bool { return old.hist.Time[r] >= since+min(c.From, 0) })
			if i < 0 {
				i = len(list)
			}
			from = min(from, i)
		}
		if from == len(list) && x.op.Order.Forget == 0 {
			continue
		}
		e := x.dir.Find(hash, 0, key)
		copy(x.dir.Of(e), w)
		n := x.dir.Of(e)
		n[overHead], n[overTail] = 0, 0
		for _, r := range list[from:] {
			gen := n[overGen]
			n = x.dir.Of(e)
			keepLast := n[overLast]
			n[overLast] = uint64(old.hist.Time[r])
			x.add(hash, key, &old.hist, int(r), false)
			n = x.dir.Of(e)
			n[overGen], n[overLast] = gen, keepLast
			x.gen[len(x.gen)-1] = old.gen[r]
			moved[r] = int32(x.hist.N)
		}
		if a, ok := old.acc.Lookup(hash, 0, key); ok {
			b := x.acc.Find(hash, 0, key)
			word := 0
			for _, c := range x.op.Order.Calls {
				if c.Agg != nil {
					c.Agg.Merge(x.acc, b, old.acc, a, word)
					word += c.Agg.Words()
				}
			}
		}
	}
	for _, r := range old.queue {
		x.queue = append(x.queue, uint32(moved[r]-1))
	}
	if x.rank != nil {
		ranks := map[uint32][3]int64{}
		for r, v := range old.rank {
			if int(r) < len(moved) && moved[r] > 0 {
				ranks[uint32(moved[r]-1)] = v
			}
		}
		x.rank = ranks
	}
	x.live = x.hist.N
	x.swept = types.MaxTime
	if watermark < types.MaxTime-x.span {
		x.swept = watermark + max(x.span/2, types.Second)
	}
}

func (x *over) rows() (keys, bytes int) {
	return x.dir.Len(), x.dir.Bytes() + x.acc.Bytes() + x.hist.Bytes() + cap(x.next)*12
}

// snapshot implements worker: the keys, their running aggregates, the rows kept with their keys and
// generations, and those that wait.
func (x *over) snapshot(b []byte) []byte {
	b = x.dir.AppendTo(b)
	b = x.acc.AppendTo(b)
	b = appendRows(b, &x.hist)
	for r := range x.hist.N {
		b = le.AppendUint32(b, x.key[r])
		b = le.AppendUint32(b, x.gen[r])
	}
	b = le.AppendUint32(b, uint32(len(x.queue)))
	for _, r := range x.queue {
		b = le.AppendUint32(b, r)
	}
	return b
}

func (x *over) restore(o *Ordered, r *reader) {
	dir, acc := r.groups(x.width), r.groups(x.op.Order.Words())
	rows := r.rows(x.fields)
	if r.err != nil {
		return
	}
	keys, gens := make([]uint32, rows.N), make([]uint32, rows.N)
	for i := range rows.N {
		keys[i], gens[i] = uint32(r.word()), uint32(r.word())
	}
	moved := make([]int32, rows.N)
	for d, hash := range dir.Hashes {
		if !o.owns(hash) {
			continue
		}
		e := copyWords(x.dir, dir, uint32(d))
		w := x.dir.Of(e)
		w[overHead], w[overTail] = 0, 0
	}
	for i := range rows.N {
		if hash := dir.Hashes[keys[i]]; o.owns(hash) {
			key := dir.Key(keys[i])
			e, _ := x.dir.Lookup(hash, 0, key)
			w := slices.Clone(x.dir.Of(e))
			x.dir.Of(e)[overLast] = uint64(rows.Time[i])
			x.add(hash, key, rows, i, false)
			n := x.dir.Of(e)
			n[overGen], n[overLast] = w[overGen], w[overLast]
			x.gen[len(x.gen)-1] = gens[i]
			moved[i] = int32(x.hist.N)
		}
	}
	var waiting []uint32
	for range r.count() {
		if i := r.word(); r.err == nil && i < len(moved) && moved[i] > 0 {
			waiting = append(waiting, uint32(moved[i]-1))
		}
	}
	x.queue = append(x.queue, waiting...)
	slices.SortStableFunc(x.queue, func(a, b uint32) int { return int(min(1, max(-1, x.hist.Time[a]-x.hist.Time[b]))) })
	for f, hash := range acc.Hashes {
		if !o.owns(hash) {
			continue
		}
		b := x.acc.Find(hash, 0, acc.Key(uint32(f)))
		word := 0
		for _, c := range x.op.Order.Calls {
			if c.Agg != nil {
				c.Agg.Merge(x.acc, b, acc, uint32(f), word)
				word += c.Agg.Words()
			}
		}
	}
}

// copyWords copies an entry without texts.
func copyWords(g, from *state.Groups, f uint32) uint32 {
	e := g.Find(from.Hashes[f], from.Tags[f], from.Key(f))
	copy(g.Of(e), from.Of(f))
	return e
}
