// Package flow runs plans: it reads splits with several workers, carries batches through the steps of
// a stage, exchanges partial results between stages by key range, keeps watermarks, and takes
// checkpoints by markers that flow with the rows.
package flow

import (
	"errors"
	"time"

	"fiume/internal/core/column"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
)

// Message is one message in a buffer.
type Message struct {
	Off, Len uint32
	Pos      int64 // its place in the split: the byte of a file, the offset in a partition
	At       int64 // arrival, microseconds
	Key      []byte
	Headers  []byte // as the brokers' format writes them, where somebody uses them
}

// Pad is the number of bytes that must be readable behind a piece's data.
const Pad = 32

// Piece is a stretch of a split that one worker decodes at a time. Its slices are used again.
type Piece struct {
	Data     []byte // with Pad bytes of capacity behind it
	Base     int64  // Pos of the first message
	Next     int64  // the position behind the piece, where reading can go on after a restart
	Messages []Message
	Fresh    bool // of a table: the split is read from its beginning; rows that do not come again are gone
	Complete bool // of a table: all rows of the split have come
	// Lost is how many messages before the piece cannot be read any more, and Why says why, and which they are.
	Lost int64
	Why  string
}

// ErrNothing says that a live split has no more data for now. io.EOF, not wrapped in another error, says that it has ended.
var ErrNothing = errors.New("nothing to read for now")

// Split is a part of a source that is read in order. Next is called by one goroutine at a time; Frame
// may be called for several pieces at once.
type Split interface {
	Name() string           // stable over restarts
	Place(pos int64) string // for people: where a message stands
	Position() int64        // where the next piece begins
	Resume(pos int64) error // goes on at a position that a Piece gave as Next
	Next(p *Piece) error
	Frame(p *Piece) error
	NewDecoder() (Decoder, error)
	Close() error
}

// Endless is what a split can say of itself: that it goes on for ever. Where it belongs to a table that is
// only looked into, a run ends without it.
type Endless interface{ Endless() bool }

// Marked is a split whose places are more than a number: what a checkpoint keeps of one is a text.
type Marked interface {
	// Mark gives the text of a position that a Piece gave as Next, the last one that was delivered or a later one.
	Mark(pos int64) string
	// ResumeAt goes on at a mark; the position there is called pos.
	ResumeAt(mark string, pos int64) error
}

// Noticing is a split that has something to say for people, such as that it waits for its server.
type Noticing interface{ Notice() string }

// Counting is a split that knows how many messages lie behind a position. While some do, that Next has nothing means that they are on their way: the
// split is not idle, and a table is not loaded.
type Counting interface{ Left(pos int64) int64 }

// Hearing is a split whose place is asked over a network: what came up to then has been heard of. Zero: nothing was heard yet.
type Hearing interface{ Heard() time.Time }

// Source is what a scan reads. Next of its splits does not block. A source may be a Retrier, too: a split whose Next fails with an error
// that may pass by itself is tried again, while the others go on.
type Source interface {
	Splits() []Split
	// OnData registers what to call when a split that had nothing may have more, or when a split has come.
	OnData(wake func())
	Close() error
}

// Growing is a source whose splits may come while it is read, such as new partitions. Neither method blocks.
type Growing interface {
	// Arrived gives the splits that have come since it was asked last, at first since Splits.
	Arrived() []Split
	// Grows says whether more may come. Until it says no, the end of all splits is not the end of the source.
	Grows() bool
}

// Knowing is a source that is told, before it gives its splits, which of them the checkpoint knows at which a run goes on. It is not asked where a run begins.
type Knowing interface {
	Known(split func(name string) (there, ended bool))
}

// Bordered is a source of whose rows only those in a stretch of event time belong to the stream. The others are passed over, and nothing is made of them.
type Bordered interface {
	// Borders gives the stretch for a split: from its first microsecond to the first behind it.
	Borders(split Split) (from, until int64)
}

// Committing is a source that is told which checkpoints count, so that it can acknowledge what was read, or note for others how far
// it is.
type Committing interface {
	// Commit gives the positions of the splits, by their names, in a checkpoint that counts. Those before it may not have been told. It is
	// called by another goroutine than the rest, and again where it failed.
	Commit(at map[string]SplitPosition) error
}

// Reject is a message that is no row.
type Reject struct {
	Message int // index
	Reason  string
}

// Decoder fills batches from messages. It keeps scratch memory: one goroutine uses it at a time.
type Decoder interface {
	// Decode makes out the rows of the messages in data. Columns that nobody uses are nil. The data is
	// not changed before out has been used.
	Decode(data []byte, msgs []Message, out *column.Batch) []Reject
}

// Preparing is a decoder that needs something from elsewhere before it decodes messages, such as their schemas. Who reads a split asks one of its decoders to
// prepare each piece, for all of them; a failure is one of reading the split, and the piece is kept.
type Preparing interface {
	Prepare(data []byte, msgs []Message) error
}

// Passing is a failure that may pass by itself, whatever the source that it comes from: it is tried again.
type Passing struct{ Err error }

func (e *Passing) Error() string { return e.Err.Error() }

// Unwrap gives the failure.
func (e *Passing) Unwrap() error { return e.Err }

// Payload is a number of rows encoded for a sink.
type Payload struct {
	Rows  int
	Bytes []byte
	Ends  []int // where each row ends in Bytes, where the sink wants to know
	Any   any
}

// Encoder turns batches into payloads; one goroutine uses it.
type Encoder interface {
	Add(b *column.Batch)
	// Take gives what has been added since the last Take.
	Take() Payload
}

// Sink takes the rows of an output. NewEncoder may be called by several goroutines; the rest is
// called by one.
type Sink interface {
	NewEncoder(fields []types.Field) (Encoder, error)
	Write(p Payload) error
	// Close ends the sink. complete says that the input has come to its end.
	Close(complete bool) error
}

// Exact is a sink that takes part in checkpoints, so that it holds each row once whatever happens. Rows that
// were written behind the last checkpoint come again after a crash; how the sink holds them once is its own
// matter: it may know them again, or show no row before the checkpoint counts.
type Exact interface {
	// Resume is called once before all else in a run that takes checkpoints. The handle is the one that Mark gave
	// for the checkpoint where the run goes on, or nil where the sink begins.
	Resume(handle []byte) error
	// Mark makes durable what was written, and gives what a checkpoint needs to know of it. final says that no row
	// follows in this run.
	Mark(final bool) (handle []byte, err error)
	// Commit says that the checkpoint of a handle counts. Those before it may not have been told. It is called by
	// another goroutine than the rest, and again where it failed.
	Commit(handle []byte) error
}

// Retrier is a sink whose Write, Mark and Commit can be tried again with the same arguments: either all of a
// payload was written, or the sink knows what of it was. It is a source whose Next can be tried again.
type Retrier interface {
	// Retry says whether a failure may pass by itself: the place is away, or full.
	Retry(err error) bool
}

// Spooling is a sink that holds rows back for its place.
type Spooling interface {
	// Waiting gives how many bytes wait.
	Waiting() int64
}

// Repeater is a sink that knows the rows again that it got before a crash.
type Repeater interface {
	// Missing is how many of them have not come again. Where that stays above zero the replay differs.
	Missing() int
}

// Refused is a row that a sink's place did not take, and that was set aside.
type Refused struct {
	Reason string
	Row    string // as JSON
}

// Refuser is a sink whose place may refuse rows that were written: they were set aside.
type Refuser interface {
	// Refused gives the rows since the last time.
	Refused() []Refused
}

// Opener opens what a plan reads and writes.
type Opener interface {
	OpenSource(scan *plan.Op) (Source, error)
	OpenSink(out *plan.Op) (Sink, error)
	// OpenLookup opens a table whose rows are looked up where they are.
	OpenLookup(lookup *plan.Op) (step.Rows, error)
}
