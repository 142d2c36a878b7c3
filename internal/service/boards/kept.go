package boards

import (
	"bytes"
	"cmp"
	"container/list"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"slices"
	"strconv"
	"sync"
	"time"

	"fiume/internal/connect/text"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/format"
	"fiume/internal/service/base"
	"fiume/internal/service/sensitive"
)

// A kept result is the rows of a query as they stand. The query runs once for all who look. Of a query whose rows are replaced the newest of each key is kept, of
// others the newest rows, up to a number of rows and of bytes: the oldest go, and it is counted how many. A newcomer gets the rows as they stand, and then
// what changes; who is slow gets less often what has changed since, and nobody waits for him.

const (
	// mostBytes are those of the rows of one result.
	mostBytes = 16 << 20
	// mostKept are the results that are kept at once.
	mostKept = 400
	// lingers is how long a query runs on when nobody looks any more: somebody may load a page anew.
	lingers = 20 * time.Second
	// betweenUpdates is how often somebody who looks is told what has changed, at most.
	betweenUpdates = 100 * time.Millisecond
	// ahead is how far a clock may be ahead, where a stretch of event time is looked for in what arrived, microseconds.
	ahead = 10 * types.Minute

	// again is after how long a query that has failed is run again.
	again = 5 * time.Second
)

// query says what is kept.
type query struct {
	sql      string
	values   string // of its variables
	since    int64  // how far back it begins, microseconds
	from, to int64  // the stretch of event time that it looks at; to 0: none
	rows     int    // that are kept at most
	hidden   string // what is masked in it: a key of sensitive

	look *plan.Look // the same, for whoever plans it; nil: nothing of that
}

// key is what is equal for equal queries.
func (q query) key() query {
	q.look = nil
	return q
}

// Row is a row of a kept result.
type Row struct {
	Key string          `json:"key" doc:"the same for a row that takes the place of another"`
	Row json.RawMessage `json:"row,omitempty" doc:"left out where the row is not there any more"`
}

// Update is what somebody who looks at a kept result is told.
type Update struct {
	Panel    int    `json:"panel" doc:"which panel of the board, from 0; -1: none"`
	Variable string `json:"variable,omitempty" doc:"the variable whose choices these rows are, instead of a panel"`
	Full     bool   `json:"full,omitempty" doc:"these are all rows; what was told before is forgotten"`
	Rows     []Row  `json:"rows" doc:"the newest change last"`
	Dropped  int64  `json:"dropped,omitempty" doc:"rows that are not kept any more, since there are too many"`
	Late     int64  `json:"late,omitempty" doc:"rows of the query that came too late"`
	Reject   int64  `json:"rejected,omitempty" doc:"messages that are no rows"`
	Problem  string `json:"problem,omitempty" doc:"why there is nothing new"`
	seq      uint64
}

// AppendJSON appends the update as encoding/json writes it. Thousands of rows a second are told to everybody who looks: they are JSON already.
func (u *Update) AppendJSON(dst []byte) []byte {
	number := func(name string, n int64) {
		if n != 0 {
			dst = strconv.AppendInt(append(append(append(dst, `,"`...), name...), `":`...), n, 10)
		}
	}
	text := func(name, s string) {
		if s != "" {
			dst = appendText(append(append(append(dst, `,"`...), name...), `":`...), s)
		}
	}
	dst = strconv.AppendInt(append(dst, `{"panel":`...), int64(u.Panel), 10)
	text("variable", u.Variable)
	if u.Full {
		dst = append(dst, `,"full":true`...)
	}
	dst = append(dst, `,"rows":[`...)
	for i, r := range u.Rows {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = appendText(append(dst, `{"key":`...), r.Key)
		if len(r.Row) > 0 {
			dst = append(append(dst, `,"row":`...), r.Row...)
		}
		dst = append(dst, '}')
	}
	dst = append(dst, ']')
	number("dropped", u.Dropped)
	number("late", u.Late)
	number("rejected", u.Reject)
	text("problem", u.Problem)
	return append(dst, '}')
}

// appendText appends a text as JSON.
func appendText(dst []byte, s string) []byte {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			b, _ := json.Marshal(s)
			return append(dst, b...)
		}
	}
	return append(append(append(dst, '"'), s...), '"')
}

// entry is a row, or one that is gone.
type entry struct {
	key  string
	row  []byte
	gone bool
	seq  uint64
}

// result is a kept result. Those that stand, and those that are gone, are in the order of their changes, the newest last.
type result struct {
	q      query
	fields []types.Field

	mu      sync.Mutex
	stand   *list.List // of *entry
	gone    *list.List // the same; whoever has them must hear of it
	byKey   map[string]*list.Element
	byText  map[string][]string // of rows without a key that may be withdrawn: their keys
	seq     uint64
	lost    uint64 // who was told nothing newer must be told all
	bytes   int64
	dropped int64
	late    int64
	reject  int64
	problem string
	changed chan struct{} // closed with the next change

	lookers int
	end     context.CancelFunc
	leaving *time.Timer
}

func newResult(q query) *result {
	r := &result{q: q, changed: make(chan struct{})}
	r.reset()
	return r
}

// reset forgets all rows; the caller holds mu, or nobody else has it yet.
func (r *result) reset() {
	r.stand, r.gone, r.byKey, r.byText = list.New(), list.New(), map[string]*list.Element{}, map[string][]string{}
	r.bytes, r.dropped = 0, 0
	r.seq++
	r.lost = r.seq
}

// tell wakes those who look; the caller holds mu.
func (r *result) tell() {
	close(r.changed)
	r.changed = make(chan struct{})
}

// apply does changes, as an encoder has written them.
func (r *result) apply(changes []byte, keyed, changing bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for len(changes) > 0 {
		takes := changes[0] == '-'
		k, n := binary.Uvarint(changes[1:])
		size, m := binary.Uvarint(changes[1+n:])
		at := 1 + n + m
		key, row := changes[at:at+int(k)], changes[at+int(k):at+int(k+size)]
		changes = changes[at+int(k+size):]
		r.seq++
		switch {
		case keyed:
			r.put(string(key), bytes.Clone(row), takes)
		case !changing:
			r.put(strconv.FormatUint(r.seq, 10), bytes.Clone(row), false)
		case !takes:
			k := strconv.FormatUint(r.seq, 10)
			r.byText[string(row)] = append(r.byText[string(row)], k)
			r.put(k, bytes.Clone(row), false)
		default:
			if ks := r.byText[string(row)]; len(ks) > 0 {
				r.put(ks[len(ks)-1], nil, true)
				r.forgetText(row, ks[len(ks)-1])
			}
		}
		r.bound()
	}
	r.tell()
}

// bound forgets what is too much; the caller holds mu.
func (r *result) bound() {
	for r.stand.Len() > r.q.rows || r.bytes > mostBytes && r.stand.Len() > 1 {
		e := r.stand.Front().Value.(*entry)
		r.seq++
		if _, ok := r.byText[string(e.row)]; ok {
			r.forgetText(e.row, e.key)
		}
		r.put(e.key, nil, true)
		r.dropped++
	}
	for r.gone.Len() > r.q.rows {
		e := r.gone.Remove(r.gone.Front()).(*entry)
		delete(r.byKey, e.key)
		r.lost = max(r.lost, e.seq)
	}
}

// put has a row stand, or go; the caller holds mu.
func (r *result) put(key string, row []byte, gone bool) {
	old := r.byKey[key]
	if old == nil && gone {
		return // it is not kept any more
	}
	if old != nil {
		e := old.Value.(*entry)
		if e.gone {
			r.gone.Remove(old)
		} else {
			r.stand.Remove(old)
			r.bytes -= int64(len(e.key) + len(e.row))
		}
	}
	e := &entry{key, row, gone, r.seq}
	if gone {
		e.row = nil
		r.byKey[key] = r.gone.PushBack(e)
		return
	}
	r.byKey[key] = r.stand.PushBack(e)
	r.bytes += int64(len(key) + len(row))
}

func (r *result) forgetText(row []byte, key string) {
	ks := slices.DeleteFunc(r.byText[string(row)], func(k string) bool { return k == key })
	if len(ks) == 0 {
		delete(r.byText, string(row))
		return
	}
	r.byText[string(row)] = ks
}

// update gives what has changed since somebody was told, or all; false: nothing has.
func (r *result) update(since uint64) (Update, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if since == r.seq {
		return Update{}, false
	}
	u := Update{Full: since < r.lost || since == 0, Rows: []Row{}, Dropped: r.dropped, Late: r.late, Reject: r.reject, Problem: r.problem, seq: r.seq}
	var found []*entry
	lists := []*list.List{r.stand, r.gone}
	if u.Full {
		lists, since = lists[:1], 0
	}
	for _, l := range lists {
		for el := l.Back(); el != nil && el.Value.(*entry).seq > since; el = el.Prev() {
			found = append(found, el.Value.(*entry))
		}
	}
	slices.SortFunc(found, func(a, b *entry) int { return cmp.Compare(a.seq, b.seq) })
	u.Rows = make([]Row, 0, len(found))
	for _, e := range found {
		u.Rows = append(u.Rows, Row{e.key, e.row})
	}
	return u, true
}

// waiting gives what is closed with the next change.
func (r *result) waiting() <-chan struct{} {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.changed
}

// says notes how the query goes.
func (r *result) says(late, reject int64, problem string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.late != late || r.reject != reject || r.problem != problem {
		r.late, r.reject, r.problem = late, reject, problem
		r.seq++
		r.tell()
	}
}

// sink is the flow.Sink of a kept result.
type sink struct {
	r        *result
	fields   []types.Field
	keys     []int
	changing bool
}

// encoder is its flow.Encoder. It writes changes one behind the other: + or -, the lengths of key and row as uvarints, and both.
type encoder struct {
	rows  format.Encoder
	key   format.Encoder // nil: rows have none
	keys  []int
	batch column.Batch
	cell  []byte
	buf   []byte
	n     int
}

// NewEncoder implements flow.Sink.
func (s *sink) NewEncoder([]types.Field) (flow.Encoder, error) {
	e := &encoder{rows: format.NewJSONEncoder(s.fields), keys: s.keys}
	if s.keys != nil {
		var fields []types.Field
		for _, k := range s.keys {
			fields = append(fields, s.fields[k])
		}
		e.key = format.NewJSONEncoder(fields)
	}
	return e, nil
}

// Add implements flow.Encoder.
func (e *encoder) Add(b *column.Batch) {
	if e.key != nil {
		e.batch = column.Batch{N: b.N}
		for _, k := range e.keys {
			e.batch.Cols = append(e.batch.Cols, b.Cols[k])
		}
	}
	for i := range b.N {
		sign := byte('+')
		if b.Change != nil && b.Change[i].Takes() {
			sign = '-'
		}
		e.cell = e.cell[:0]
		if e.key != nil {
			e.cell = e.key.Append(e.cell, &e.batch, i)
		}
		key := len(e.cell)
		e.cell = e.rows.Append(e.cell, b, i)
		e.buf = binary.AppendUvarint(append(e.buf, sign), uint64(key))
		e.buf = append(binary.AppendUvarint(e.buf, uint64(len(e.cell)-key)), e.cell...)
		e.n++
	}
}

// Held is how many bytes wait to be taken.
func (e *encoder) Held() int { return len(e.buf) }

// Take implements flow.Encoder.
func (e *encoder) Take() flow.Payload {
	p := flow.Payload{Rows: e.n, Bytes: e.buf}
	e.buf, e.n = nil, 0
	return p
}

// Write implements flow.Sink.
func (s *sink) Write(p flow.Payload) error {
	if len(p.Bytes) > 0 {
		s.r.apply(p.Bytes, s.keys != nil, s.changing)
	}
	return nil
}

// Close implements flow.Sink.
func (s *sink) Close(bool) error { return nil }

// bound binds the query of a result.
func (b *Boards) bound(q query) (*plan.Plan, error) {
	script, err := sql.Read("panel", q.sql)
	if err != nil {
		return nil, err
	}
	errs := &sql.Errors{File: "panel", Text: q.sql}
	st, ok := script.Statements[0].(*sql.Query)
	if !ok {
		return nil, base.Errorf(base.ErrRefused, "a panel shows a SELECT")
	}
	var look plan.Look
	if q.look != nil {
		look = *q.look
	}
	p := sensitive.In(b.Base, b.Current(), q.hidden).Standing(st, look, errs)
	if err := errs.Err(); err != nil {
		return nil, err
	}
	for _, o := range p.Scans() {
		if o.OfTable != nil || !o.Stream.Times {
			continue
		}
		switch {
		case q.to != 0: // what happened then may have arrived much later
			o.Since, o.Until = plan.Bound{Kind: plan.AtTime, At: q.from - ahead}, plan.Bound{Kind: plan.Now}
		case o.Since.Kind == plan.Default:
			o.Since = plan.Bound{Kind: plan.Ago, At: q.since}
		}
	}
	return p, nil
}

// look gives the kept result of a query, which begins to run where nobody looks at it yet. Leave is called when it is not looked at any more.
func (b *Boards) look(q query) (r *result, leave func(), err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if r = b.kept[q.key()]; r == nil {
		if b.closed {
			return nil, nil, base.Errorf(base.ErrBusy, "the service is about to end")
		}
		if len(b.kept) >= mostKept {
			return nil, nil, base.Errorf(base.ErrBusy, "the results of %d panels are kept; close a board first", mostKept)
		}
		p, err := b.bound(q)
		if err != nil {
			return nil, nil, err
		}
		r = newResult(q)
		r.fields = p.Outputs()[0].Fields
		b.kept[q.key()] = r
		var ctx context.Context
		ctx, r.end = context.WithCancel(context.Background())
		b.running.Go(func() { b.run(ctx, r) })
	}
	r.lookers++
	if r.leaving != nil {
		r.leaving.Stop()
		r.leaving = nil
	}
	return r, sync.OnceFunc(func() { b.leave(r) }), nil
}

func (b *Boards) leave(r *result) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if r.lookers--; r.lookers > 0 {
		return
	}
	r.leaving = time.AfterFunc(b.Lingers, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		if r.lookers == 0 && b.kept[r.q.key()] == r {
			delete(b.kept, r.q.key())
			r.end()
		}
	})
}

// run runs the query of a result until nobody looks any more. After a failure it begins anew.
func (b *Boards) run(ctx context.Context, r *result) {
	for ctx.Err() == nil {
		err := b.once(ctx, r)
		if ctx.Err() != nil {
			return
		}
		if err == nil { // its inputs have ended: what stands, stands
			<-ctx.Done()
			return
		}
		r.says(0, 0, err.Error())
		select {
		case <-ctx.Done():
		case <-time.After(again):
		}
	}
}

func (b *Boards) once(ctx context.Context, r *result) error {
	p, err := b.bound(r.q)
	if err != nil {
		return err
	}
	out := p.Outputs()[0]
	s := &sink{r: r, fields: out.Fields, changing: out.Changes}
	if out.Changes && len(out.Keys) > 0 {
		s.keys = out.Keys
	}
	o := b.Opener()
	o.Live, o.Rows = true, s
	if err := o.Check(ctx, p); err != nil {
		return err
	}
	run, err := flow.New(p, o, b.Asked(flow.Options{Describe: text.Describe, Parallelism: 1}))
	if err != nil {
		return err
	}
	r.mu.Lock()
	r.reset()
	r.fields, r.problem = out.Fields, ""
	r.tell()
	r.mu.Unlock()
	ended := make(chan struct{})
	var telling sync.WaitGroup
	telling.Go(func() {
		t := time.NewTicker(time.Second)
		defer t.Stop()
		for {
			select {
			case <-ended:
				return
			case <-t.C:
				var late, reject int64
				for _, x := range run.Status().Steps {
					late, reject = late+x.Counts.Late, reject+x.Counts.Rejected
				}
				r.says(late, reject, "")
			}
		}
	})
	err = run.Run(ctx)
	close(ended)
	telling.Wait()
	if ctx.Err() != nil && errors.Is(err, context.Cause(ctx)) {
		return nil
	}
	return err
}
