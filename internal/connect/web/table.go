package web

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/webclient"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"
)

// table is a page that is read whole, and again now and then. It is one split.
type table struct {
	scan    *plan.Op
	reading *format.Reading
	page    *page
	every   time.Duration // between two readings; 0: it is read once
	ctx     context.Context
	stop    context.CancelFunc
	done    sync.WaitGroup

	mu    sync.Mutex
	wake  func()
	begun bool
	read  bool // at least once
	rows  [][]byte
	at    int // of rows, those that were handed out
	ready bool
	next  int64
	err   error
}

func openTable(c *webclient.Client, env *contract.Env, scan *plan.Op) (flow.Source, error) {
	s := scan.Stream
	t := &table{scan: scan, every: time.Duration(s.Options.Duration("refresh every", 0)) * time.Microsecond,
		page: &page{client: c, path: s.Address, at: s.Options.Word("rows at", ""), format: s.Options.Word("format", "json")}}
	if scan.Until.Kind != plan.Default {
		t.every = 0 // a query that ends takes the table as it is
	}
	var err error
	if t.reading, err = env.Reading(scan); err != nil {
		return nil, err
	}
	t.ctx, t.stop = context.WithCancel(context.Background())
	return t, nil
}

// Splits implements flow.Source.
func (t *table) Splits() []flow.Split { return []flow.Split{t} }

// OnData implements flow.Source.
func (t *table) OnData(wake func()) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.wake = wake
}

// Retry implements flow.Retrier.
func (t *table) Retry(error) bool { return true }

func (t *table) Name() string { return t.scan.Stream.Address }
func (t *table) Place(pos int64) string {
	return fmt.Sprintf("row %d of %s", pos+1, t.scan.Stream.Address)
}
func (t *table) Position() int64                   { return t.next }
func (t *table) Resume(int64) error                { return nil } // it is read anew
func (t *table) Endless() bool                     { return t.every > 0 }
func (t *table) Frame(*flow.Piece) error           { return nil }
func (t *table) NewDecoder() (flow.Decoder, error) { return t.reading.NewDecoder(nil) }

// bring reads the page until nobody wants it any more.
func (t *table) bring() {
	for {
		rows, err := t.page.all(t.ctx)
		if t.ctx.Err() != nil {
			return
		}
		t.mu.Lock()
		switch {
		case errors.Is(err, errSame):
			t.err = nil
		case err != nil:
			t.err = err
		default:
			t.rows, t.at, t.ready, t.err = rows, 0, true, nil
		}
		wake, read := t.wake, t.read
		failed := t.err
		t.mu.Unlock()
		if wake != nil {
			wake()
		}
		every := t.every
		if failed != nil && !read || every == 0 {
			if failed == nil {
				return
			}
			every = soonAgain
		}
		if !webclient.Wait(t.ctx, pause(every, failed)) {
			return
		}
	}
}

// rowsAPiece is how many rows a worker turns into columns at a time.
const rowsAPiece = 4096

// Next implements flow.Split.
func (t *table) Next(p *flow.Piece) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !t.begun {
		t.begun = true
		t.done.Go(t.bring)
	}
	if !t.ready {
		switch {
		case t.err != nil && !t.read:
			return fmt.Errorf("the table %s cannot be read: %w", t.scan.Stream.Address, t.err)
		case t.read && t.every == 0:
			return io.EOF
		}
		return flow.ErrNothing
	}
	p.Fresh = t.at == 0
	p.Base = t.next
	n := min(rowsAPiece, len(t.rows)-t.at)
	data, msgs := messages(t.rows[t.at : t.at+n])
	p.Data, p.Messages = append(p.Data[:0], data...), append(p.Messages[:0], msgs...)
	p.Data = slices.Grow(p.Data, flow.Pad)
	for i := range p.Messages {
		p.Messages[i].Pos = t.next + int64(i)
	}
	t.at += n
	t.next += int64(n)
	p.Next = t.next
	if t.at == len(t.rows) {
		p.Complete, t.read, t.ready, t.rows = true, true, false, nil
	}
	return nil
}

// Notice implements flow.Noticing.
func (t *table) Notice() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.err != nil && t.read {
		return fmt.Sprintf("the table could not be read again, the rows of the last reading stand: %s", t.err)
	}
	return ""
}

// Close implements flow.Source and flow.Split.
func (t *table) Close() error {
	t.stop()
	t.done.Wait()
	return nil
}
