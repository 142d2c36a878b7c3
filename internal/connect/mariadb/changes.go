package mariadb

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
	"fiume/internal/connect/dbserver"
	"fiume/internal/connect/dbtable"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
)

// changes follows a table: its rows as they are at one moment, then what the server's binary log says from
// just that moment on. It is the one split of its source. Its places are sets of global transaction ids: all
// transactions up to there, and some rows of the next one.
type changes struct {
	db     *sql.DB
	server dbserver.Server
	scan   *plan.Op
	cols   []int    // of the stream that are read, but for the column that says the change
	key    []int    // cells that are the table's key
	names  []string // of the table's columns, where the log does not tell them
	wake   func()

	n     int64 // position: rows given
	rows  *sql.Rows
	conn  *sql.Conn
	cells []sql.RawBytes
	start place // where the log is read on, once the rows have been
	begun bool  // the rows are being read, or have been
	all   bool  // the rows have been read, or were before
	items chan item
	back  *item // that was taken too early
	stop  context.CancelFunc
	ended sync.WaitGroup

	mu     sync.Mutex
	marks  []mark
	notice string
}

// place is a place in the log: behind the transactions of a set, and behind some rows of one more.
type place struct {
	set  string
	next string
	rows int
}

func (p place) String() string { return fmt.Sprintf("%s|%s|%d", p.set, p.next, p.rows) }

// mark is the place of a position.
type mark struct {
	pos int64
	at  place
}

// item is a row of the log, the end of a transaction, or the reason why there are no more.
type item struct {
	op    byte
	cells []byte // nil where it is no row
	time  int64  // microseconds
	at    place  // behind it
	empty bool   // all rows are gone
	again bool   // the log does not reach back to where it was read: the rows have to be read anew
	err   error
}

func openChanges(scan *plan.Op, access contract.Secrets) (flow.Source, error) {
	s := scan.Stream
	srv, err := dbserver.Of(s.Via, access)
	if err != nil {
		return nil, err
	}
	db, schema, err := dbserver.Connect(s.Via, access)
	if err != nil {
		return nil, err
	}
	c := &changes{db: db, server: srv, scan: scan, wake: func() {}}
	fail := func(err error) (flow.Source, error) { return nil, errors.Join(err, db.Close()) }
	if _, err := dbtable.CheckSource(context.Background(), server{}, db, schema, s); err != nil {
		return fail(err)
	}
	if err := c.checkLog(); err != nil {
		return fail(err)
	}
	for _, col := range dbtable.Wanted(scan) {
		if s.Columns[col].Name != dbtable.ChangeColumn {
			c.cols = append(c.cols, col)
		}
	}
	if t := scan.OfTable; t != nil {
		for _, k := range t.KeyColumns() {
			c.key = append(c.key, slices.Index(c.cols, k))
		}
	}
	c.cells = make([]sql.RawBytes, len(c.cols))
	if err := c.checkColumns(schema); err != nil {
		return fail(err)
	}
	return c, nil
}

// checkColumns notes the names of the table's columns and refuses those that the log does not write as the
// server shows them.
func (c *changes) checkColumns(schema string) error {
	var metadata string
	if err := c.db.QueryRow("SELECT UPPER(@@global.binlog_row_metadata)").Scan(&metadata); err != nil {
		return err
	}
	rows, err := c.db.Query("SELECT column_name, column_type, COALESCE(character_set_name, '') FROM information_schema.columns WHERE table_schema=? AND table_name=? ORDER BY ordinal_position", schema, c.Name())
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var name, kind, charset string
		if err := rows.Scan(&name, &kind, &charset); err != nil {
			return err
		}
		c.names = append(c.names, name)
		if !slices.ContainsFunc(c.cols, func(col int) bool { return strings.EqualFold(c.scan.Stream.Columns[col].Name, name) }) {
			continue
		}
		needs := strings.Contains(kind, "unsigned") || strings.HasPrefix(kind, "enum") || strings.HasPrefix(kind, "set(")
		switch {
		case charset != "" && charset != "utf8mb4" && charset != "utf8mb3" && charset != "utf8" && charset != "ascii":
			return fmt.Errorf("the column %s of %s is written in %s, which the binary log does not translate; convert it: ALTER TABLE %s CONVERT TO CHARACTER SET utf8mb4", name, c.Name(), charset, c.Name())
		case needs && metadata != "FULL":
			return fmt.Errorf("the column %s of %s is %s, and the binary log does not say so; start the server with --binlog-row-metadata=FULL", name, c.Name(), kind)
		case strings.HasPrefix(kind, "bit"):
			return fmt.Errorf("the column %s of %s is %s, which cannot be followed; use BOOLEAN or a whole number", name, c.Name(), kind)
		}
	}
	return rows.Err()
}

// checkLog looks whether the server writes what is needed.
func (c *changes) checkLog() error {
	want := map[string]string{"log_bin": "ON", "binlog_format": "ROW", "binlog_row_image": "FULL"}
	for name, value := range want {
		var got string
		if err := c.db.QueryRow("SELECT UPPER(@@global." + name + ")").Scan(&got); err != nil {
			return err
		}
		if got == "1" {
			got = "ON"
		}
		if got != value {
			return fmt.Errorf("the server tells no changes: %s is %s; start it with --log-bin --binlog-format=ROW --binlog-row-image=FULL --binlog-row-metadata=FULL --server-id=1", name, got)
		}
	}
	return nil
}

// Splits implements flow.Source.
func (c *changes) Splits() []flow.Split { return []flow.Split{c} }

// OnData implements flow.Source.
func (c *changes) OnData(wake func()) { c.wake = wake }

// Close implements flow.Source and flow.Split.
func (c *changes) Close() error {
	if c.stop != nil {
		c.stop()
		c.ended.Wait()
		c.stop = nil
	}
	c.endRows()
	return c.db.Close()
}

func (c *changes) endRows() {
	if c.rows != nil {
		c.rows.Close()
		c.rows = nil
	}
	if c.conn != nil {
		_, _ = c.conn.ExecContext(context.Background(), "ROLLBACK")
		c.conn.Close()
		c.conn = nil
	}
}

// Name implements flow.Split.
func (c *changes) Name() string { return c.scan.Stream.Address }

// Place implements flow.Split.
func (c *changes) Place(pos int64) string {
	return fmt.Sprintf("change %d of %s", pos+1, c.scan.Stream.Address)
}

// Position implements flow.Split.
func (c *changes) Position() int64 { return c.n }

// Resume implements flow.Split; places are marks.
func (c *changes) Resume(int64) error { return errors.New("a place in a binary log is no number") }

// Endless implements flow.Endless.
func (c *changes) Endless() bool { return true }

// Notice implements flow.Noticing.
func (c *changes) Notice() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.notice
}

func (c *changes) say(format string, args ...any) {
	c.mu.Lock()
	c.notice = fmt.Sprintf(format, args...)
	c.mu.Unlock()
}

// Mark implements flow.Marked. While the rows are being read it is empty: they are read anew.
func (c *changes) Mark(pos int64) string {
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

func (c *changes) marked(at place) {
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
func (c *changes) ResumeAt(text string, pos int64) error {
	if text == "" {
		return nil
	}
	part := strings.Split(text, "|")
	if len(part) != 3 {
		return fmt.Errorf("%q is no place in a binary log", text)
	}
	n, err := strconv.Atoi(part[2])
	if err != nil {
		return err
	}
	c.n, c.start = pos, place{part[0], part[1], n}
	c.begun, c.all = true, true
	c.marked(c.start)
	return nil
}

// Next implements flow.Split.
func (c *changes) Next(p *flow.Piece) error {
	if !c.begun {
		if err := c.begin(); err != nil {
			return fmt.Errorf("the table %s cannot be read: %w", c.Name(), err)
		}
		p.Fresh = true
	}
	if !c.all {
		return c.readRows(p)
	}
	if c.scan.Until.Kind != plan.Default {
		return io.EOF // a query that ends takes the table as it is
	}
	if c.items == nil {
		c.follow()
	}
	return c.readLog(p)
}

// begin opens the table as it is at one moment, and notes the place of that moment in the log.
func (c *changes) begin() (err error) {
	ctx := context.Background()
	if c.conn, err = c.db.Conn(ctx); err != nil {
		return err
	}
	if _, err = c.conn.ExecContext(ctx, "START TRANSACTION WITH CONSISTENT SNAPSHOT"); err != nil {
		return err
	}
	status := map[string]string{}
	rows, err := c.conn.QueryContext(ctx, "SHOW STATUS LIKE 'binlog_snapshot_%'")
	if err != nil {
		return err
	}
	for rows.Next() {
		var name, value string
		if err := rows.Scan(&name, &value); err != nil {
			return errors.Join(err, rows.Close())
		}
		status[strings.ToLower(name)] = value
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	at, err := strconv.Atoi(status["binlog_snapshot_position"])
	if err != nil {
		return fmt.Errorf("the server does not say where the snapshot stands in its binary log")
	}
	var set sql.NullString
	if err := c.conn.QueryRowContext(ctx, "SELECT BINLOG_GTID_POS(?, ?)", status["binlog_snapshot_file"], at).Scan(&set); err != nil {
		return err
	}
	c.start = place{set: set.String}
	c.begun = true
	c.rows, err = c.conn.QueryContext(ctx, "SELECT "+dbtable.Columns(server{}, c.scan.Stream, c.cols)+" FROM "+quote(c.Name()))
	return err
}

func (c *changes) readRows(p *flow.Piece) error {
	dest := make([]any, len(c.cells))
	for i := range c.cells {
		dest[i] = &c.cells[i]
	}
	data := p.Data[:0]
	p.Base = c.n
	rows := 0
	for rows < dbtable.RowsAPiece && c.rows.Next() {
		if err := c.rows.Scan(dest...); err != nil {
			return err
		}
		data = dbtable.AppendHead(data, dbtable.Insert, time.Now().UnixMicro())
		for _, cell := range c.cells {
			data = dbtable.AppendCell(data, cell)
		}
		rows++
	}
	c.n += int64(rows)
	p.Next = c.n
	if rows < dbtable.RowsAPiece {
		err := c.rows.Err()
		c.endRows()
		if err != nil {
			return err
		}
		c.all, p.Complete = true, true
		c.marked(c.start)
	}
	p.Data = dbtable.Padded(data)
	return nil
}

// readLog takes what the log has told since the last piece.
func (c *changes) readLog(p *flow.Piece) error {
	data := p.Data[:0]
	p.Base = c.n
	var at *place
	rows := int64(0)
	for rows < dbtable.RowsAPiece && len(data) < 1<<20 && !p.Complete {
		x, ok := c.take()
		if !ok {
			break
		}
		if rows > 0 && (x.err != nil || x.again || x.empty) {
			c.back = &x // it belongs to the next piece
			break
		}
		switch {
		case x.err != nil:
			return x.err
		case x.again && c.scan.OfTable == nil:
			return fmt.Errorf("the server's binary log does not reach back to %s any more: changes are lost; drop the job and begin anew", c.start)
		case x.again:
			c.say("the binary log does not reach back to where it was read; the table is read anew")
			c.stop()
			c.ended.Wait()
			c.items, c.begun, c.all = nil, false, false
			return c.Next(p)
		case x.empty:
			p.Fresh, p.Complete = true, true
		case x.cells != nil:
			data = append(dbtable.AppendHead(data, x.op, x.time), x.cells...)
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
	p.Data = dbtable.Padded(data)
	return nil
}

// take gives the next item, if there is one.
func (c *changes) take() (x item, ok bool) {
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
func (c *changes) Frame(p *flow.Piece) error { return dbtable.FrameRows(p, len(c.cols)) }

// NewDecoder implements flow.Split.
func (c *changes) NewDecoder() (flow.Decoder, error) {
	return dbtable.NewDecoder(c.scan, c.cols, server{}.Value), nil
}
