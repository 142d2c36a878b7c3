package dbtable

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
)

// Log is the record of changes that a server keeps, as one table is followed in it.
type Log interface {
	// Check says what of the server, the table or its columns keeps it from being followed.
	Check(ctx context.Context) error
	// Snapshot gives the rows of the table as they are at one moment, and where in the log that moment is: what Commit is given of the transactions up to there. end
	// is called when the rows have been read, or will not be.
	Snapshot(ctx context.Context) (rows *sql.Rows, at string, end func(), err error)
	// Read reads the log behind r.At and tells r what it finds, until the connection breaks. Errors are ErrBehind, ErrTable, or pass.
	Read(ctx context.Context, r *Reader) error
	// Keep is told how far a checkpoint that counts has come: nothing before is asked for again. "": it reads the rows anew.
	Keep(at string)
	// Close gives up what is held for the life of a run.
	Close() error
}

var (
	// ErrBehind says that the log does not reach back to the place where it is to be read.
	ErrBehind = errors.New("the log does not reach back")
	// ErrTable says that the table is not any more what it was when the job began.
	ErrTable = errors.New("the table has changed")
)

// Changes follows a table: its rows as they are at one moment, then what the server's log says from just that moment on. It is the one split of
// its source. Its places are those of the log: behind all transactions up to one, and behind some rows of the next one.
type Changes struct {
	Scan *plan.Op
	Cols []int // of the stream that are read, but for the column that says the change
	Key  []int // cells that are the table's key
	Log  Log

	db     *sql.DB
	server Server
	wake   func()

	n     int64 // position: rows given
	rows  *sql.Rows
	end   func()
	cells []sql.RawBytes
	start Place // where the log is read on, once the rows have been
	begun bool  // the rows are being read, or have been
	all   bool  // the rows have been read, or were before
	from  int64 // the position at which their reading began
	anew  bool  // after a failure they may be read from their beginning
	items chan item
	back  *item // that was taken too early
	stop  context.CancelFunc
	ended sync.WaitGroup

	mu     sync.Mutex
	marks  []mark
	notice string
}

// Place is a place in a log: behind all transactions up to At, and behind some rows of one more.
type Place struct {
	At   string
	Next string // that transaction
	Rows int
}

func (p Place) String() string { return fmt.Sprintf("%s|%s|%d", p.At, p.Next, p.Rows) }

// mark is the place of a position.
type mark struct {
	pos int64
	at  Place
}

// item is a row of the log, the end of a transaction, or the reason why there are no more.
type item struct {
	op    byte
	cells []byte // nil where it is no row
	time  int64  // microseconds
	at    Place  // behind it
	empty bool   // all rows are gone
	again bool   // the log does not reach back to where it was read: the rows have to be read anew
	err   error
}

// OpenChanges opens a table that is followed, once its server and its columns have been looked at. open makes its log.
func OpenChanges(server Server, env *contract.Env, scan *plan.Op, open func(c *Changes, db *sql.DB) (Log, error)) (flow.Source, error) {
	s := scan.Stream
	db, name, err := server.Connect(s.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	fail := func(err error) (flow.Source, error) { return nil, errors.Join(err, db.Close()) }
	if _, err := CheckSource(context.Background(), server, db, name, s); err != nil {
		return fail(err)
	}
	c := NewChanges(server, db, scan)
	if c.Log, err = open(c, db); err != nil {
		return fail(err)
	}
	if err := c.Log.Check(context.Background()); err != nil {
		return fail(errors.Join(err, c.Log.Close()))
	}
	return c, nil
}

// NewChanges gives the followed table of a scan, without a log.
func NewChanges(server Server, db *sql.DB, scan *plan.Op) *Changes {
	c := &Changes{Scan: scan, db: db, server: server, wake: func() {}}
	for _, col := range Wanted(scan) {
		if scan.Stream.Columns[col].Name != ChangeColumn {
			c.Cols = append(c.Cols, col)
		}
	}
	if t := scan.OfTable; t != nil {
		for _, k := range t.KeyColumns() {
			c.Key = append(c.Key, slices.Index(c.Cols, k))
		}
	}
	c.cells = make([]sql.RawBytes, max(1, len(c.Cols))) // at least the 1 that stands for no column
	return c
}

// Splits implements flow.Source.
func (c *Changes) Splits() []flow.Split { return []flow.Split{c} }

// OnData implements flow.Source.
func (c *Changes) OnData(wake func()) { c.wake = wake }

// Close implements flow.Source and flow.Split.
func (c *Changes) Close() error {
	if c.stop != nil {
		c.stop()
		c.ended.Wait()
		c.stop = nil
	}
	c.endRows()
	return errors.Join(c.Log.Close(), c.db.Close())
}

func (c *Changes) endRows() {
	if c.rows != nil {
		c.rows.Close()
		c.rows = nil
	}
	if c.end != nil {
		c.end()
		c.end = nil
	}
}

// Name implements flow.Split.
func (c *Changes) Name() string { return c.Scan.Stream.Address }

// Place implements flow.Split.
func (c *Changes) Place(pos int64) string {
	return fmt.Sprintf("change %d of %s", pos+1, c.Scan.Stream.Address)
}

// Position implements flow.Split.
func (c *Changes) Position() int64 { return c.n }

// Resume implements flow.Split; places are marks.
func (c *Changes) Resume(int64) error { return errors.New("a place in a log is no number") }

// Endless implements flow.Endless.
func (c *Changes) Endless() bool { return true }

// Commit implements flow.Committing.
func (c *Changes) Commit(at map[string]flow.SplitPosition) error {
	if p, ok := at[c.Name()]; ok {
		set, _, _ := strings.Cut(p.Mark, "|")
		c.Log.Keep(set)
	}
	return nil
}

// Notice implements flow.Noticing.
func (c *Changes) Notice() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.notice
}

func (c *Changes) say(format string, args ...any) {
	c.mu.Lock()
	c.notice = fmt.Sprintf(format, args...)
	c.mu.Unlock()
}

// Mark implements flow.Marked. While the rows are being read it is empty: they are read anew.
func (c *Changes) Mark(pos int64) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	i := len(c.marks) - 1
	for i >= 0 && c.marks[i].pos > pos {
		i--
	}
	if i < 0 {
		return ""
	}
	c.marks = slices.Delete(c.marks, 0, i)
	return c.marks[0].at.String()
}

// keptMarks is how many places are remembered; those of the pieces that are on their way are among them.
const keptMarks = 1 << 14

func (c *Changes) marked(at Place) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if n := len(c.marks); n > 0 && c.marks[n-1].pos == c.n {
		c.marks[n-1].at = at
		return
	}
	c.marks = append(c.marks, mark{c.n, at})
	if len(c.marks) > 2*keptMarks {
		c.marks = slices.Delete(c.marks, 0, keptMarks)
	}
}

// ResumeAt implements flow.Marked.
func (c *Changes) ResumeAt(text string, pos int64) error {
	if text == "" {
		return nil
	}
	part := strings.Split(text, "|")
	if len(part) != 3 {
		return fmt.Errorf("%q is no place in a log", text)
	}
	n, err := strconv.Atoi(part[2])
	if err != nil {
		return err
	}
	c.n, c.start = pos, Place{part[0], part[1], n}
	c.begun, c.all = true, true
	c.marked(c.start)
	return nil
}

// Next implements flow.Split.
func (c *Changes) Next(p *flow.Piece) error {
	if !c.begun {
		if err := c.begin(); err != nil {
			c.anew = true
			return fmt.Errorf("the table %s cannot be read: %w", c.Name(), err)
		}
		c.from = c.n
		p.Fresh = true
	}
	if !c.all {
		err := c.readRows(p)
		if err != nil {
			c.endRows()
			c.begun, c.n = false, p.Base
			c.anew = c.Scan.OfTable != nil || c.n == c.from // what came of a table stands until it is read again; rows of a stream would come twice
		}
		return err
	}
	if c.Scan.Until.Kind != plan.Default {
		return io.EOF // a query that ends takes the table as it is
	}
	if c.items == nil {
		c.follow()
	}
	return c.readLog(p)
}

// Retry implements flow.Retrier: the table is read from its beginning again, where it can be.
func (c *Changes) Retry(err error) bool { return c.anew && c.server.Passing(err) }

// begin opens the table as it is at one moment, and notes the place of that moment in the log.
func (c *Changes) begin() (err error) {
	var at string
	if c.rows, at, c.end, err = c.Log.Snapshot(context.Background()); err != nil {
		return err
	}
	c.start, c.begun = Place{At: at}, true
	return nil
}

// Select is the statement that reads the columns of the table.
func (c *Changes) Select() string {
	return "SELECT " + Columns(c.server, c.Scan.Stream, c.Cols) + " FROM " + c.server.Table(c.Scan.Stream.Address)
}

func (c *Changes) readRows(p *flow.Piece) error {
	dest := make([]any, len(c.cells))
	for i := range c.cells {
		dest[i] = &c.cells[i]
	}
	data := p.Data[:0]
	p.Base = c.n
	rows := 0
	for rows < RowsAPiece && c.rows.Next() {
		if err := c.rows.Scan(dest...); err != nil {
			return err
		}
		data = AppendHead(data, Insert, time.Now().UnixMicro())
		for _, cell := range c.cells {
			data = AppendCell(data, cell)
		}
		rows++
	}
	c.n += int64(rows)
	p.Next = c.n
	if rows < RowsAPiece {
		err := c.rows.Err()
		c.endRows()
		if err != nil {
			return err
		}
		c.all, p.Complete = true, true
		c.marked(c.start)
	}
	p.Data = Padded(data)
	return nil
}

// readLog takes what the log has told since the last piece.
func (c *Changes) readLog(p *flow.Piece) error {
	data := p.Data[:0]
	p.Base = c.n
	var at *Place
	rows := int64(0)
	for rows < RowsAPiece && len(data) < 1<<20 && !p.Complete {
		x, ok := c.take()
		if !ok {
			break
		}
		if rows > 0 && (x.err != nil || x.again || x.empty) {
			c.back = &x // it belongs to the next piece
			break
		}
		switch {
		case x.again && c.Scan.OfTable == nil:
			return fmt.Errorf("changes are lost; drop the job and begin anew: %w", x.err)
		case x.again:
			c.say("the table is read anew: %s", x.err)
			c.stop()
			c.ended.Wait()
			c.items, c.begun, c.all = nil, false, false
			return c.Next(p)
		case x.err != nil:
			return x.err
		case x.empty:
			p.Fresh, p.Complete = true, true
		case x.cells != nil:
			data = append(AppendHead(data, x.op, x.time), x.cells...)
			rows++
		}
		at = &x.at
	}
	c.n += rows
	p.Next = c.n
	if at != nil {
		c.marked(*at)
	}
	if rows == 0 && !p.Complete {
		return flow.ErrNothing
	}
	p.Data = Padded(data)
	return nil
}

// take gives the next item, if there is one.
func (c *Changes) take() (x item, ok bool) {
	if c.back != nil {
		x, c.back = *c.back, nil
		return x, true
	}
	select {
	case x = <-c.items:
		return x, true
	default:
		return x, false
	}
}

// Frame implements flow.Split.
func (c *Changes) Frame(p *flow.Piece) error { return FrameRows(p, len(c.Cols)) }

// NewDecoder implements flow.Split.
func (c *Changes) NewDecoder() (flow.Decoder, error) {
	return NewDecoder(c.Scan, c.Cols, c.server.Value), nil
}
