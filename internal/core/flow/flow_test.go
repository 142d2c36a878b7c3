package flow

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// memory is a source of whole numbers, one a message; the event time of n is n seconds.
type memory struct {
	splits []Split
	mu     sync.Mutex
	wake   func()

	// Of generated rows:
	split func(i int) Split
	grows *growth
}

func (m *memory) Splits() []Split { return m.splits }
func (m *memory) Close() error    { return nil }
func (m *memory) OnData(f func()) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.wake = f
}

type memorySplit struct {
	name  string
	n     int64 // numbers 0 … n-1
	pos   int64
	piece int64
	fail  int64 // fails when reading at this position; -1: never
	live  bool
}

func (s *memorySplit) Name() string           { return s.name }
func (s *memorySplit) Place(pos int64) string { return fmt.Sprint(s.name, " ", pos) }
func (s *memorySplit) Position() int64        { return s.pos }
func (s *memorySplit) Resume(pos int64) error { s.pos = pos; return nil }
func (s *memorySplit) Close() error           { return nil }
func (s *memorySplit) NewDecoder() (Decoder, error) {
	return &memoryDecoder{}, nil
}

func (s *memorySplit) Next(p *Piece) error {
	if s.fail >= 0 && s.pos >= s.fail {
		return errors.New("the disk is gone")
	}
	if s.pos >= s.n {
		if s.live {
			return ErrNothing
		}
		return io.EOF
	}
	p.Base = s.pos
	s.pos = min(s.pos+s.piece, s.n)
	p.Next = s.pos
	return nil
}

func (s *memorySplit) Frame(p *Piece) error {
	p.Messages = p.Messages[:0]
	for n := p.Base; n < p.Next; n++ {
		p.Messages = append(p.Messages, Message{Pos: n})
	}
	return nil
}

type memoryDecoder struct{ v column.Vector }

func (d *memoryDecoder) Decode(_ []byte, msgs []Message, out *column.Batch) []Reject {
	d.v.Type = types.Of(types.BigInt)
	d.v.Resize(len(msgs))
	out.N, out.Cols, out.Stamp = len(msgs), []*column.Vector{&d.v, nil}, nil
	out.Time, out.Pos = out.Time[:0], out.Pos[:0]
	for i, m := range msgs {
		d.v.I[i] = m.Pos
		out.Time, out.Pos = append(out.Time, m.Pos*types.Second), append(out.Pos, m.Pos)
	}
	return nil
}

// list is a sink that keeps what it gets, as text.
type list struct {
	mu     sync.Mutex
	got    []string
	block  chan struct{} // writing waits for it, where set
	err    error
	synced int
	closed *bool
}

type listEncoder struct{ rows []string }

func (l *list) NewEncoder([]types.Field) (Encoder, error) { return &listEncoder{}, nil }
func (e *listEncoder) Add(b *column.Batch) {
	for i := range b.N {
		var cells []string
		for _, c := range b.Cols {
			cells = append(cells, string(types.AppendText(nil, c.Value(i))))
		}
		e.rows = append(e.rows, strings.Join(cells, " "))
	}
}
func (e *listEncoder) Take() Payload {
	p := Payload{Rows: len(e.rows), Any: e.rows}
	e.rows = nil
	return p
}
func (l *list) Write(p Payload) error {
	if l.block != nil {
		<-l.block
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.err != nil {
		return l.err
	}
	l.got = append(l.got, p.Any.([]string)...)
	return nil
}

// Mark implements Exact.
func (l *list) Mark(bool) ([]byte, error) {
	l.synced = len(l.got)
	return []byte(strconv.Itoa(l.synced)), nil
}

func (l *list) Resume(handle []byte) error {
	n, err := strconv.Atoi(string(handle))
	if err == nil {
		l.got = l.got[:n] // what came after the checkpoint comes again
	}
	return nil
}
func (l *list) Commit([]byte) error       { return nil }
func (l *list) Close(complete bool) error { l.closed = &complete; return nil }

type opener struct {
	source Source
	sink   Sink
}

func (o opener) OpenSource(*plan.Op) (Source, error)    { return o.source, nil }
func (o opener) OpenSink(*plan.Op) (Sink, error)        { return o.sink, nil }
func (o opener) OpenLookup(*plan.Op) (step.Rows, error) { return nil, errors.New("no lookups") }

// planOf binds a query over a stream of whole numbers.
func planOf(t testing.TB, query string) *plan.Plan {
	t.Helper()
	cat := plan.NewCatalog([]plan.Place{{Kind: "memory", Source: []plan.OptionSpec{}}})
	plans, _, err := cat.Bind("t", "DECLARE STREAM s (n BIGINT, at TIMESTAMP) EVENT TIME at DELAY 0 SECONDS FROM MEMORY 'x';"+query+";", nil, func(sql.Statement, *sql.Errors) {})
	if err != nil {
		t.Fatal(err)
	}
	return plans[0]
}

func describe([]types.Field, *column.Batch, int) string { return "" }

func run(t *testing.T, query string, o opener, parallelism int) (*Job, error) {
	t.Helper()
	j, err := New(planOf(t, query), o, Options{Parallelism: parallelism, Describe: describe})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
	defer cancel()
	return j, j.Run(ctx)
}

// TestOrder: row-wise results of a split come in its order, however many workers decode its pieces.
func TestOrder(t *testing.T) {
	for _, workers := range []int{1, 2, 5} {
		sink := &list{}
		sp := &memorySplit{name: "a", n: 5000, piece: 7, fail: -1}
		if _, err := run(t, "SELECT n FROM s WHERE n % 3 <> 0", opener{&memory{splits: []Split{sp}}, sink}, workers); err != nil {
			t.Fatal(err)
		}
		last := -1
		for _, g := range sink.got {
			n, _ := strconv.Atoi(g)
			if n <= last || n%3 == 0 {
				t.Fatalf("%d workers: %d after %d", workers, n, last)
			}
			last = n
		}
		if len(sink.got) != 3333 || sink.closed == nil || !*sink.closed {
			t.Fatalf("%d workers: %d rows, closed %v", workers, len(sink.got), sink.closed)
		}
	}
}

// TestFailures: whatever fails, the run ends with its reason, and the sink is told that it is not complete.
func TestFailures(t *testing.T) {
	const window = "SELECT n % 4 AS k, COUNT(*) AS c FROM s GROUP BY n % 4, w WINDOW w AS (TUMBLING 10 SECONDS)"
	for _, query := range []string{"SELECT n FROM s", window} {
		sink := &list{}
		if _, err := run(t, query, opener{&memory{splits: []Split{&memorySplit{name: "a", n: 1e6, piece: 10, fail: 5000}}}, sink}, 3); err == nil || !strings.Contains(err.Error(), "stream s, a: the disk is gone") {
			t.Errorf("%s: %v", query, err)
		}
		if sink.closed == nil || *sink.closed {
			t.Error("the sink thinks that all has come")
		}
		sink = &list{err: errors.New("no room")}
		if _, err := run(t, query, opener{&memory{splits: []Split{&memorySplit{name: "a", n: 1e6, piece: 10, fail: -1}}}, sink}, 3); err == nil || !strings.Contains(err.Error(), "sink result: no room") {
			t.Errorf("%s: %v", query, err)
		}
		sink = &list{err: ErrDone}
		if _, err := run(t, query, opener{&memory{splits: []Split{&memorySplit{name: "a", n: 1e5, piece: 10, fail: -1}}}, sink}, 2); err != nil {
			t.Errorf("%s: a query that has all its rows ends with %v", query, err)
		}
	}
}

// TestBackPressure: a sink that stands still stops the reading; nothing piles up.
func TestBackPressure(t *testing.T) {
	sink := &list{block: make(chan struct{})}
	sp := &memorySplit{name: "a", n: 1e6, piece: 10, fail: -1}
	j, err := New(planOf(t, "SELECT n FROM s"), opener{&memory{splits: []Split{sp}}, sink}, Options{Parallelism: 2, Describe: describe})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancelCause(t.Context())
	done := make(chan error, 1)
	go func() { done <- j.Run(ctx) }()
	time.Sleep(300 * time.Millisecond)
	read := j.Status().Steps[0].Counts.In
	if read > 10*(queueLength+6) {
		t.Errorf("%d messages were read while the sink stood still", read)
	}
	// A checkpoint that cannot be finished is abandoned in time, and looking at the job does not wait.
	brief, cancelBrief := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancelBrief()
	if _, err := j.Checkpoint(brief); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a checkpoint while the sink stands still: %v", err)
	}
	stopped := errors.New("stopped by hand")
	cancel(stopped)
	close(sink.block)
	if err := <-done; !errors.Is(err, stopped) {
		t.Errorf("ended with %v", err)
	}
}

// endsInMark is a sink during whose Mark the job is ended.
type endsInMark struct {
	list
	end func()
}

// Mark implements Exact.
func (s *endsInMark) Mark(final bool) ([]byte, error) {
	s.end()
	return s.list.Mark(final)
}

// TestEndedInCheckpoint: a job that is ended, or fails, in the middle of a checkpoint gives none that lacks what a sink would have told. From such a one a run
// would begin behind rows that the sink does not have.
func TestEndedInCheckpoint(t *testing.T) {
	for i := range 300 {
		sink := &endsInMark{}
		sp := &memorySplit{name: "a", n: 100, piece: 10, fail: -1, live: true}
		j, err := New(planOf(t, "SELECT n FROM s"), opener{&memory{splits: []Split{sp}}, sink}, Options{Parallelism: 2, Describe: describe, Checkpoints: true})
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithCancel(t.Context())
		sink.end = func() { cancel(); <-j.ctx.Done() }
		done := make(chan error, 1)
		go func() { done <- j.Run(ctx) }()
		snap, err := j.Checkpoint(t.Context())
		<-done
		if err == nil && len(snap.Sinks) == 0 {
			t.Fatalf("round %d: a checkpoint of the positions %v without the sink's handle", i, snap.Splits)
		}
		if err != nil && !errors.Is(err, ErrEnded) {
			t.Fatalf("round %d: %v", i, err)
		}
		_ = j.Close(false)
	}
}

// TestSplitsKeepStep: of several splits the one that is furthest behind is read first, so that a long
// replay does not pile one side up.
func TestSplitsKeepStep(t *testing.T) {
	var splits []Split
	for i := range 4 {
		splits = append(splits, &memorySplit{name: fmt.Sprint(i), n: 4000, piece: int64(10 + 30*i), fail: -1})
	}
	sink := &list{}
	j, err := run(t, "SELECT COUNT(*) AS c FROM s GROUP BY w WINDOW w AS (TUMBLING 100 SECONDS)", opener{&memory{splits: splits}, sink}, 2)
	if err != nil {
		t.Fatal(err)
	}
	if len(sink.got) != 40 {
		t.Fatalf("%d windows", len(sink.got))
	}
	for _, g := range sink.got {
		if g != "400" {
			t.Fatalf("a window counts %s", g)
		}
	}
	for _, s := range j.Status().Splits {
		if !s.Ended || s.Next != 4000 {
			t.Errorf("%+v", s)
		}
	}
}

// TestInboxAlignment: packets of a producer that is ahead of a marker wait until the marker has come
// from all others that are still there.
func TestInboxAlignment(t *testing.T) {
	b := newInbox()
	b.ch = make(chan packet, 100)
	x, y, z := b.newProducer(), b.newProducer(), b.newProducer()
	b.admit()
	b.admit()
	b.admit()
	m, abandoned := &barrier{number: 2}, &barrier{number: 1}
	put := func(from int, mark int64) { b.ch <- packet{from: from, progress: progress{watermark: mark}} }
	put(x, 0)
	b.ch <- packet{from: x, marker: abandoned}
	put(x, 1) // kept back until the next marker shows that the first checkpoint was abandoned
	b.ch <- packet{from: x, marker: m}
	b.ch <- packet{from: z, marker: abandoned}
	put(x, 2) // behind the marker
	put(y, 3) // before it
	b.ch <- packet{from: z, progress: progress{end: true}}
	put(y, 4)
	b.ch <- packet{from: y, marker: m}
	put(y, 5)
	b.ch <- packet{from: x, progress: progress{end: true}}
	b.ch <- packet{from: y, progress: progress{end: true}}
	var got []string
	for {
		p, marker, ok := b.next(t.Context())
		if !ok {
			break
		}
		switch {
		case marker != nil:
			got = append(got, "marker")
		case p.end:
			got = append(got, "end")
		default:
			got = append(got, fmt.Sprint(p.watermark))
		}
	}
	if s := strings.Join(got, " "); s != "0 1 3 end 4 marker 2 5 end end" {
		t.Error(s)
	}
}
