package dbtable

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Reader is told what a log has, and hands it to the job. When the connection breaks, the log is read again behind the last row that was handed over.
type Reader struct {
	c    *Changes
	ctx  context.Context
	at   Place
	skip int // rows of the transaction at hand that were given before
}

// follow begins to read the log.
func (c *Changes) follow() {
	ctx, cancel := context.WithCancel(context.Background())
	c.items, c.stop = make(chan item, 4096), cancel
	r := &Reader{c: c, ctx: ctx, at: c.start}
	c.ended.Go(r.run)
}

func (r *Reader) run() {
	wait := 100 * time.Millisecond
	for {
		before := r.at
		err := r.c.Log.Read(r.ctx, r)
		if r.ctx.Err() != nil {
			return
		}
		switch {
		case errors.Is(err, ErrBehind):
			r.send(item{again: true, err: err})
			return
		case errors.Is(err, ErrTable):
			r.send(item{err: err})
			return
		}
		if r.at != before {
			wait = 100 * time.Millisecond
		}
		r.Say("waiting for the server, the connection broke: %s", err)
		select {
		case <-r.ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = min(2*wait, 5*time.Second)
	}
}

func (r *Reader) send(x item) {
	select {
	case r.c.items <- x:
		if len(r.c.items) == 1 {
			r.c.wake()
		}
	case <-r.ctx.Done():
	}
}

// At is where the log is to be read on.
func (r *Reader) At() Place { return r.at }

// Say tells people something; "" takes it back.
func (r *Reader) Say(format string, args ...any) { r.c.say(format, args...) }

// Begin says that a transaction begins.
func (r *Reader) Begin(id string) {
	r.skip = 0
	if id == r.at.Next {
		r.skip = r.at.Rows
	}
	r.at.Next, r.at.Rows = id, 0
}

// past counts a row of the transaction at hand, and says whether it was given before.
func (r *Reader) past() bool {
	r.at.Rows++
	if r.skip == 0 {
		return false
	}
	r.skip--
	return true
}

// Row gives a row: what it does, its cells, and when, in microseconds.
func (r *Reader) Row(op byte, cells []byte, at int64) {
	if !r.past() {
		r.send(item{op: op, cells: cells, time: at, at: r.at})
	}
}

// Emptied says that a statement has taken all rows of the table away.
func (r *Reader) Emptied(statement string) {
	switch {
	case r.past():
	case r.c.Scan.OfTable != nil:
		r.send(item{empty: true, at: r.at})
	default:
		r.Say("the table was emptied, which tells no row: %.200s", statement)
	}
}

// Commit says that everything up to a place in the log has been read, with the transaction that was begun.
func (r *Reader) Commit(at string) {
	r.at = Place{At: at}
	r.send(item{at: r.at})
}

// Lost is the error of a table that is not any more what it was.
func Lost(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrTable, fmt.Sprintf(format, args...))
}
