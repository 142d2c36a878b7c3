package lake

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"

	"github.com/apache/arrow-go/v18/arrow"
)

// A table is read by the library of the format, file by file, and batches of Arrow wait for the workers: a piece says which batch it is. As a table it is
// one snapshot, read again when there is a newer one. As a stream it is what a snapshot holds, in the order in which that was written, and then what each
// later one adds.

const (
	// mostBatches wait to be decoded.
	mostBatches = 8
	// batchRows are the rows of one at most.
	batchRows = 1 << 15
)

// reader is what both have in common: one split.
type reader struct {
	lake    *lake
	scan    *plan.Op
	reading *format.Reading
	every   time.Duration // between two looks; 0: it is read once
	only    int64         // the snapshot that is read; 0: the newest
	ctx     context.Context
	stop    context.CancelFunc
	done    sync.WaitGroup
	recs    sync.Map // uint64 → *batch, until all their rows are decoded
	tell    atomic.Pointer[string]

	mu     sync.Mutex
	room   *sync.Cond
	queue  []*batch
	err    error
	wake   func()
	begun  bool
	ended  bool
	pos    int64 // of the next row to hand out
	lastID uint64
	heard  time.Time
	idle   bool // nothing is known to be there that has not been handed out
}

// batch is rows to hand out.
type batch struct {
	rec             arrow.RecordBatch // nil: none
	at              int64             // when they were written
	base            int64             // position of the first, once it is handed out
	fresh, complete bool
	next            mark // of a stream: where reading goes on behind it
	left            atomic.Int64
}

// fitsSource says whether a table has the columns that are declared.
func fitsSource(t look, s *plan.Stream) error {
	cols, err := t.columns()
	if err != nil {
		return err
	}
	missing, err := format.FitsArrow(s.Columns, cols)
	if err == nil && len(missing) > 0 {
		err = fmt.Errorf("it has no column %s (it has: %s)", missing[0], names(format.ArrowColumns(cols)))
	}
	if err != nil {
		return fmt.Errorf("the table %s: %w", s.Address, err)
	}
	return nil
}

// OpenSource implements contract.Reader.
func (connector) OpenSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	s := scan.Stream
	r := &reader{scan: scan}
	r.room = sync.NewCond(&r.mu)
	var err error
	if r.reading, err = env.Reading(scan); err != nil {
		return nil, err
	}
	if scan.OfTable != nil {
		r.every = time.Duration(s.Options.Duration("refresh every", 0)) * time.Microsecond
	} else {
		r.every = time.Duration(s.Options.Duration("look every", 5_000_000)) * time.Microsecond
	}
	if scan.Until.Kind != plan.Default {
		r.every = 0 // a query that ends takes the table as it is
	}
	ctx := context.Background()
	if r.lake, err = open(ctx, env, s.Via); err != nil {
		return nil, err
	}
	t, err := r.lake.look(ctx, s.Address)
	if err == nil {
		err = fitsSource(t, s)
	}
	if n := s.Options.Word("snapshot", ""); n != "" && err == nil {
		r.every = 0
		if r.only = t.numbered(n); r.only == 0 {
			err = fmt.Errorf("SNAPSHOT is the number of a snapshot, and '%s' is none", n)
		} else if !t.has(r.only) {
			err = fmt.Errorf("the table %s has no snapshot %s (any more): it has %s", s.Address, n, t.recent())
		}
	}
	if err != nil {
		r.lake.close()
		return nil, err
	}
	r.ctx, r.stop = context.WithCancel(ctx)
	if scan.OfTable != nil {
		return &wholeTable{r}, nil
	}
	g := &growing{reader: r}
	g.until = -1
	if err := g.place(t, env.Live); err != nil {
		r.lake.close()
		return nil, err
	}
	return g, nil
}

// OnData implements flow.Source.
func (r *reader) OnData(wake func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.wake = wake
}

// Retry implements flow.Retrier.
func (r *reader) Retry(err error) bool { return r.lake.passing(err) }

// Close implements flow.Source and flow.Split, both of which it is.
func (r *reader) Close() error {
	r.mu.Lock()
	if r.ctx.Err() != nil {
		r.mu.Unlock()
		return nil
	}
	r.stop()
	r.room.Broadcast()
	r.mu.Unlock()
	r.done.Wait()
	r.lake.close()
	return nil
}

// Name implements flow.Split.
func (r *reader) Name() string { return r.scan.Stream.Address }

// Place implements flow.Split.
func (r *reader) Place(pos int64) string {
	return fmt.Sprintf("row %d of %s", pos+1, r.scan.Stream.Address)
}

// Position implements flow.Split.
func (r *reader) Position() int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.pos
}

// Endless implements flow.Endless.
func (r *reader) Endless() bool { return r.every > 0 }

// Heard implements flow.Hearing.
func (r *reader) Heard() time.Time {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.heard
}

// Left implements flow.Counting: how many rows are on their way is not known, but whether some are.
func (r *reader) Left(int64) int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.idle || r.ended {
		return 0
	}
	return 1
}

// Notice implements flow.Noticing.
func (r *reader) Notice() string {
	if t := r.tell.Load(); t != nil {
		return *t
	}
	return ""
}

// push queues rows, when there is room, and says whether it is still wanted.
func (r *reader) push(b *batch) bool {
	r.mu.Lock()
	for len(r.queue) >= mostBatches && r.ctx.Err() == nil {
		r.room.Wait()
	}
	if r.ctx.Err() == nil {
		r.queue = append(r.queue, b)
		r.idle = false
	}
	r.mu.Unlock()
	r.woken()
	return r.ctx.Err() == nil
}

func (r *reader) woken() {
	r.mu.Lock()
	wake := r.wake
	r.mu.Unlock()
	if wake != nil {
		wake()
	}
}

// looked notes that all was handed out that was there when it was asked.
func (r *reader) looked(asked time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.heard, r.idle = asked, true
}

// next hands out the next rows; read is what brings them.
func (r *reader) next(p *flow.Piece, read func() error) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.begun {
		r.begun = true
		r.done.Go(func() {
			err := read()
			r.mu.Lock()
			if err == nil {
				r.ended = true
			} else if r.ctx.Err() == nil {
				r.err, r.begun = r.lake.said(err), false
			}
			r.mu.Unlock()
			r.woken()
		})
	}
	if len(r.queue) == 0 {
		if err := r.err; err != nil {
			r.err = nil
			return err
		}
		if r.ended {
			return io.EOF
		}
		return flow.ErrNothing
	}
	b := r.queue[0]
	r.queue[0] = nil
	r.queue = r.queue[1:]
	r.room.Signal()
	n := int64(0)
	if b.rec != nil {
		n = b.rec.NumRows()
	}
	b.base = r.pos
	b.left.Store(n)
	r.lastID++
	p.Data = binary.LittleEndian.AppendUint64(p.Data[:0], r.lastID)
	p.Base, p.Next, p.Fresh, p.Complete = r.pos, r.pos+n, b.fresh, b.complete
	r.pos += n
	if n > 0 {
		r.recs.Store(r.lastID, b)
	}
	return nil
}

// Frame implements flow.Split.
func (r *reader) Frame(p *flow.Piece) error {
	p.Messages = p.Messages[:0]
	at := int64(0)
	if b, ok := r.recs.Load(binary.LittleEndian.Uint64(p.Data)); ok {
		at = b.(*batch).at
	}
	for pos := p.Base; pos < p.Next; pos++ {
		p.Messages = append(p.Messages, flow.Message{Pos: pos, At: at})
	}
	return nil
}

// NewDecoder implements flow.Split.
func (r *reader) NewDecoder() (flow.Decoder, error) {
	return &decoder{r, format.NewArrowDecoder(r.reading)}, nil
}

type decoder struct {
	r *reader
	d *format.ArrowDecoder
}

// Decode implements flow.Decoder.
func (d *decoder) Decode(data []byte, msgs []flow.Message, out *column.Batch) []flow.Reject {
	if len(msgs) == 0 || len(data) < 8 {
		*out = column.Batch{Cols: make([]*column.Vector, len(d.r.scan.Stream.Columns))}
		return nil
	}
	id := binary.LittleEndian.Uint64(data)
	x, ok := d.r.recs.Load(id)
	if !ok {
		panic("rows are decoded twice")
	}
	b := x.(*batch)
	bad := d.d.Decode(b.rec, int(msgs[0].Pos-b.base), msgs, out)
	if b.left.Add(-int64(len(msgs))) == 0 {
		d.r.recs.Delete(id)
	}
	return bad
}

// used gives the columns of the table that are used.
func (r *reader) used(t look) ([]string, error) {
	have, err := t.columns()
	if err != nil {
		return nil, err
	}
	cols := []string{}
	for i, c := range r.scan.Stream.Columns {
		if _, ok := r.scan.Used.Needs(i); ok {
			if at := format.FieldOf(have, c.Name); at >= 0 {
				cols = append(cols, have.Field(at).Name)
			}
		}
	}
	return cols, nil
}

// wait waits until it is time to look again, and says whether it is.
func (r *reader) wait() bool {
	select {
	case <-r.ctx.Done():
		return false
	case <-time.After(r.every):
		return true
	}
}

// wholeTable is a table that is read whole.
type wholeTable struct{ *reader }

// Splits implements flow.Source.
func (w *wholeTable) Splits() []flow.Split { return []flow.Split{w} }

// Resume implements flow.Split; a table is read anew.
func (w *wholeTable) Resume(int64) error { return nil }

// Next implements flow.Split.
func (w *wholeTable) Next(p *flow.Piece) error { return w.next(p, w.read) }

// read brings the rows of the newest snapshot, and of each newer one.
func (w *wholeTable) read() error {
	last, read := int64(0), false
	for {
		asked := time.Now()
		t, err := w.lake.look(w.ctx, w.scan.Stream.Address)
		if err == nil {
			err = fitsSource(t, w.scan.Stream)
		}
		if err == nil {
			now := cmp.Or(w.only, t.newest())
			if !read || now != last {
				if err = w.snapshot(t, now, asked); err == nil {
					last, read = now, true
				}
			}
		}
		switch {
		case w.ctx.Err() != nil:
			return w.ctx.Err()
		case err != nil && !read:
			return err
		case err != nil: // the rows of the last reading stand
			text := fmt.Sprintf("the table could not be read again, the rows of the last reading stand: %s", err)
			w.tell.Store(&text)
		default:
			w.tell.Store(nil)
			w.looked(asked)
		}
		if w.every == 0 {
			return nil
		}
		if !w.wait() {
			return w.ctx.Err()
		}
	}
}

// snapshot brings the rows of one.
func (w *wholeTable) snapshot(t look, id int64, asked time.Time) error {
	fresh := true
	give := func(rec arrow.RecordBatch, complete bool) bool {
		b := &batch{rec: rec, at: asked.UnixMicro(), fresh: fresh, complete: complete}
		fresh = false
		return w.push(b)
	}
	if id != 0 {
		cols, err := w.used(t)
		if err != nil {
			return err
		}
		recs, done, err := t.all(w.ctx, id, cols, 0)
		if err != nil {
			return err
		}
		defer done()
		for rec, err := range recs {
			if err != nil {
				return err
			}
			if rec.NumRows() > 0 && !give(rec, false) {
				return w.ctx.Err()
			}
		}
	}
	give(nil, true)
	return nil
}

// mark is where a stream is: rows of a file of a snapshot, and those of all files and snapshots before, are read.
type mark struct {
	Whole    bool  // of what the snapshot holds; else of what it adds
	Snapshot int64 // 0: none is there yet
	File     int
	Row      int64
}

func (m mark) String() string {
	how := "added"
	if m.Whole {
		how = "whole"
	}
	return fmt.Sprintf("%s %d %d %d", how, m.Snapshot, m.File, m.Row)
}

func parseMark(text string) (m mark, err error) {
	var how string
	_, err = fmt.Sscanf(text, "%s %d %d %d", &how, &m.Snapshot, &m.File, &m.Row)
	m.Whole = how == "whole"
	return m, err
}

// growing is a table to which rows are added.
type growing struct {
	*reader
	from  mark
	until int64 // the snapshot that it ends with; -1: none
	marks []placed
}

type placed struct {
	pos int64
	at  mark
}

// place finds where the stream begins and ends.
func (g *growing) place(t look, live bool) (err error) {
	now := t.newest()
	if g.scan.Until.Kind != plan.Default {
		g.every = 0
		if at, timed := timeOf(g.scan.Until); timed {
			if now, _, err = t.before(now, at); err != nil {
				return err
			}
		}
		g.until = now
	}
	since := g.scan.Since
	if since.Kind == plan.Default && live {
		since.Kind = plan.Now
	}
	g.from = mark{Whole: true, Snapshot: now}
	if since.Kind == plan.Now {
		g.from = mark{Snapshot: now, File: end}
	} else if at, timed := timeOf(since); timed && now != 0 {
		s, whole, err := t.before(now, at)
		switch {
		case err != nil:
			return err
		case s != 0:
			g.from = mark{Snapshot: s, File: end}
		case !whole:
			return fmt.Errorf("the table %s has no snapshots of that time any more: read it SINCE BEGINNING", g.scan.Stream.Address)
		}
	}
	return nil
}

// timeOf gives the time that a bound says, in microseconds.
func timeOf(b plan.Bound) (at int64, ok bool) {
	switch b.Kind {
	case plan.AtTime:
		return b.At, true
	case plan.Ago:
		return time.Now().UnixMicro() - b.At, true
	}
	return 0, false
}

// end stands for the number of files of a snapshot that is read.
const end = 1 << 30

// Splits implements flow.Source.
func (g *growing) Splits() []flow.Split { return []flow.Split{g} }

// Resume implements flow.Split.
func (g *growing) Resume(pos int64) error {
	return fmt.Errorf("a position in an open table is more than a number (%d)", pos)
}

// Mark implements flow.Marked.
func (g *growing) Mark(pos int64) string {
	g.mu.Lock()
	defer g.mu.Unlock()
	for len(g.marks) > 1 && g.marks[1].pos <= pos {
		g.marks = g.marks[1:]
	}
	if len(g.marks) > 0 && g.marks[0].pos <= pos {
		return g.marks[0].at.String()
	}
	return g.from.String()
}

// ResumeAt implements flow.Marked.
func (g *growing) ResumeAt(text string, pos int64) error {
	m, err := parseMark(text)
	if err != nil {
		return fmt.Errorf("the place '%s' in the table %s cannot be read: %w", text, g.scan.Stream.Address, err)
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.from, g.pos = m, pos
	return nil
}

// Next implements flow.Split.
func (g *growing) Next(p *flow.Piece) error {
	g.mu.Lock()
	var at mark
	some := len(g.queue) > 0
	if some {
		at = g.queue[0].next
	}
	g.mu.Unlock()
	err := g.next(p, g.read)
	if err == nil && some {
		g.mu.Lock()
		g.marks = append(g.marks, placed{g.pos, at})
		g.mu.Unlock()
	}
	return err
}

// behind gives the place behind all that has been queued.
func (g *growing) behind() mark {
	g.mu.Lock()
	defer g.mu.Unlock()
	switch {
	case len(g.queue) > 0:
		return g.queue[len(g.queue)-1].next
	case len(g.marks) > 0:
		return g.marks[len(g.marks)-1].at
	}
	return g.from
}

// read brings the rows behind a place, and those of each snapshot that comes. After a failure it is called again.
func (g *growing) read() error {
	at := g.behind()
	for {
		asked := time.Now()
		t, err := g.lake.look(g.ctx, g.scan.Stream.Address)
		if err == nil {
			err = fitsSource(t, g.scan.Stream)
		}
		if err == nil {
			at, err = g.upTo(t, at)
		}
		if err != nil {
			return err
		}
		if g.until >= 0 && g.every == 0 {
			return nil
		}
		g.looked(asked)
		g.woken()
		if !g.wait() {
			return g.ctx.Err()
		}
	}
}

// upTo brings what is there, and gives the place behind it.
func (g *growing) upTo(t look, at mark) (mark, error) {
	now := t.newest()
	if g.until > 0 {
		if now = g.until; !t.has(now) {
			return at, g.lost(t, now)
		}
	}
	if now == 0 || g.until == 0 {
		return at, nil
	}
	steps, there, err := t.since(at.Snapshot, now)
	if err != nil {
		return at, err
	}
	if !there {
		return at, g.lost(t, at.Snapshot)
	}
	if at.Snapshot != 0 && at.File != end {
		if !t.has(at.Snapshot) {
			return at, g.lost(t, at.Snapshot)
		}
		if at, err = g.files(t, at); err != nil {
			return at, err
		}
	}
	for _, s := range steps {
		if at, err = g.files(t, mark{Snapshot: s}); err != nil {
			return at, err
		}
	}
	return at, nil
}

func (g *growing) lost(t look, id int64) error {
	return &saying{fmt.Sprintf("the snapshot %s of the table %s, behind which reading goes on, is not there any more: it has %s. START JOB … FROM BEGINNING reads what the table holds now", t.named(id), g.scan.Stream.Address, t.recent()), errLost}
}

var (
	errLost    = errors.New("a snapshot is gone")
	errChanges = errors.New("a snapshot changes or takes away rows")
)

// files brings the rows of a snapshot behind a place, and gives the place behind them.
func (g *growing) files(t look, at mark) (mark, error) {
	cols, err := g.used(t)
	if err != nil {
		return at, err
	}
	files, err := t.files(g.ctx, at.Snapshot, at.Whole, cols)
	switch {
	case errors.Is(err, errLost):
		return at, g.lost(t, at.Snapshot)
	case errors.Is(err, errChanges):
		return at, &saying{fmt.Sprintf("the snapshot %s of the table %s changes or takes away rows (%s), and a stream is of rows that are added: DECLARE TABLE … reads it whole", t.named(at.Snapshot), g.scan.Stream.Address, err), errChanges}
	case err != nil:
		return at, err
	}
	defer files.close()
	for ; at.File < files.len(); at = (mark{Whole: at.Whole, Snapshot: at.Snapshot, File: at.File + 1}) {
		row := int64(0)
		for rec, err := range files.rows(g.ctx, at.File) {
			if err != nil {
				return at, err
			}
			n := rec.NumRows()
			if row+n <= at.Row {
				row += n
				continue
			}
			if skip := at.Row - row; skip > 0 {
				rec = rec.NewSlice(skip, n)
			}
			row += n
			at.Row = row
			if !g.push(&batch{rec: rec, at: files.at(), next: at}) {
				return at, g.ctx.Err()
			}
		}
	}
	at = mark{Snapshot: at.Snapshot, File: end}
	if !g.push(&batch{next: at}) {
		return at, g.ctx.Err()
	}
	return at, nil
}
