package postgres

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/dbtable"
	"fiume/internal/core/types"

	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"
)

// How often the server is told how far a checkpoint has come, and how long it may be silent: it answers each time.
const (
	toldEvery = 5 * time.Second
	maySilent = 20 * time.Second
)

// Read implements dbtable.Log.
func (l *walLog) Read(ctx context.Context, to *dbtable.Reader) error {
	at, err := pglogrepl.ParseLSN(to.At().At)
	if err != nil {
		return fmt.Errorf("%w: %q is no place in a log of this kind", dbtable.ErrBehind, to.At().At)
	}
	l.keep(at)
	conn := l.held
	l.held = nil
	switch {
	case conn != nil:
	case l.passes:
		return fmt.Errorf("%w: the connection broke that the log was kept for", dbtable.ErrBehind)
	default:
		if conn, err = l.connect(ctx, at); err != nil {
			return err
		}
	}
	defer func() { _ = closed(conn) }()
	name, _ := l.publication()
	err = pglogrepl.StartReplication(ctx, conn, l.slot, at, pglogrepl.StartReplicationOptions{PluginArgs: []string{"proto_version '1'", "publication_names '" + strings.ReplaceAll(quote(name), "'", "''") + "'"}})
	if err != nil {
		return err
	}
	return (&logReader{Reader: to, l: l, conn: conn, tables: map[uint32]*relation{}}).read(ctx)
}

// connect opens a connection on which the slot can be read from a place on.
func (l *walLog) connect(ctx context.Context, at pglogrepl.LSN) (*pgconn.PgConn, error) {
	var confirmed, status sql.NullString
	var pid sql.NullInt64
	err := l.db.QueryRowContext(ctx, "SELECT confirmed_flush_lsn::text, wal_status, active_pid FROM pg_replication_slots WHERE slot_name = $1 AND database = current_database()", l.slot).Scan(&confirmed, &status, &pid)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil, fmt.Errorf("%w: the replication slot %s is gone", dbtable.ErrBehind, l.slot)
	case err != nil:
		return nil, err
	case status.String == "lost":
		return nil, fmt.Errorf("%w: the server has removed what the replication slot %s had not read (max_slot_wal_keep_size)", dbtable.ErrBehind, l.slot)
	}
	if from, err := pglogrepl.ParseLSN(confirmed.String); err == nil && from > at {
		return nil, fmt.Errorf("%w: the replication slot %s is at %s, and %s is before", dbtable.ErrBehind, l.slot, from, at)
	}
	if pid.Valid { // of a service that was killed
		if _, err := l.db.ExecContext(ctx, "SELECT pg_terminate_backend($1)", pid.Int64); err != nil {
			return nil, err
		}
	}
	return pgconn.ConnectConfig(ctx, l.config)
}

// relation says where the columns of the stream are in the rows that the log tells of a table.
type relation struct {
	name    string
	columns []*pglogrepl.RelationMessageColumn
	places  []int // by cell; nil: it is another table
}

// logReader reads the log as long as a connection holds.
type logReader struct {
	*dbtable.Reader
	l      *walLog
	conn   *pgconn.PgConn
	tables map[uint32]*relation
	within bool  // a transaction is being told
	time   int64 // of its commit, microseconds
}

func (r *logReader) read(ctx context.Context) error {
	told, heard, quiet := time.Now(), time.Now(), true
	for {
		if time.Since(told) >= toldEvery {
			if err := r.tell(true); err != nil {
				return err
			}
			told = time.Now()
		}
		within, cancel := context.WithDeadline(ctx, told.Add(toldEvery))
		raw, err := r.conn.ReceiveMessage(within)
		cancel()
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil && pgconn.Timeout(err):
			if time.Since(heard) > maySilent {
				return fmt.Errorf("nothing was heard of the server for %s", maySilent)
			}
			continue
		case err != nil:
			return err
		}
		heard = time.Now()
		if quiet {
			quiet = false
			r.Say("")
		}
		switch m := raw.(type) {
		case *pgproto3.ErrorResponse:
			err := pgconn.ErrorResponseToPgError(m)
			if err.Code == "42704" { // it was there when the job began
				return dbtable.Lost("%s", err.Message)
			}
			return err
		case *pgproto3.CopyDone:
			return io.EOF
		case *pgproto3.CopyData:
			if err := r.data(m.Data); err != nil {
				return err
			}
		}
	}
}

// tell says how far a checkpoint that counts has come. A position of zero would be taken for the newest that was read.
func (r *logReader) tell(answer bool) error {
	if r.l.passes && !r.within { // there are no checkpoints
		if lsn, err := pglogrepl.ParseLSN(r.At().At); err == nil {
			r.l.keep(lsn)
		}
	}
	kept := pglogrepl.LSN(r.l.kept.Load())
	return pglogrepl.SendStandbyStatusUpdate(context.Background(), r.conn, pglogrepl.StandbyStatusUpdate{WALWritePosition: kept, WALFlushPosition: kept, WALApplyPosition: kept, ReplyRequested: answer})
}

var errForm = errors.New("the server sent something that is not of its protocol")

func (r *logReader) data(b []byte) error {
	if len(b) == 0 {
		return errForm
	}
	switch b[0] {
	case pglogrepl.PrimaryKeepaliveMessageByteID:
		m, err := pglogrepl.ParsePrimaryKeepaliveMessage(b[1:])
		if err != nil {
			return err
		}
		// What other tables are told is behind us too, or the server would keep its log for it. It is not told that we have it before a checkpoint counts.
		if at := r.At(); !r.within && at.Next == "" {
			if lsn, err := pglogrepl.ParseLSN(at.At); err == nil && m.ServerWALEnd > lsn {
				r.Commit(m.ServerWALEnd.String())
			}
		}
		if m.ReplyRequested {
			return r.tell(false)
		}
	case pglogrepl.XLogDataByteID:
		x, err := pglogrepl.ParseXLogData(b[1:])
		if err != nil {
			return err
		}
		m, err := pglogrepl.Parse(x.WALData)
		if err != nil {
			return fmt.Errorf("%w: %w", errForm, err)
		}
		return r.message(m)
	}
	return nil
}

func (r *logReader) message(m pglogrepl.Message) error {
	switch m := m.(type) {
	case *pglogrepl.BeginMessage:
		r.within, r.time = true, m.CommitTime.UnixMicro()
		r.Begin(m.FinalLSN.String())
	case *pglogrepl.CommitMessage:
		r.within = false
		r.Commit(m.TransactionEndLSN.String())
	case *pglogrepl.RelationMessage:
		t, err := r.relationOf(m)
		if err != nil {
			return err
		}
		r.tables[m.RelationID] = t
	case *pglogrepl.InsertMessage:
		return r.row(m.RelationID, dbtable.Insert, nil, m.Tuple)
	case *pglogrepl.UpdateMessage:
		return r.row(m.RelationID, dbtable.Replace, whole(m.OldTupleType, m.OldTuple), m.NewTuple)
	case *pglogrepl.DeleteMessage:
		return r.row(m.RelationID, dbtable.Withdraw, nil, whole(m.OldTupleType, m.OldTuple))
	case *pglogrepl.TruncateMessage:
		if slices.ContainsFunc(m.RelationIDs, func(id uint32) bool { return r.tables[id] != nil && r.tables[id].places != nil }) {
			r.Emptied("TRUNCATE")
		}
	}
	return nil
}

// whole gives a row as it was, where the server tells all of it.
func whole(kind uint8, t *pglogrepl.TupleData) *pglogrepl.TupleData {
	if kind != pglogrepl.UpdateMessageTupleTypeOld {
		return nil
	}
	return t
}

func (r *logReader) relationOf(m *pglogrepl.RelationMessage) (*relation, error) {
	s := r.l.c.Scan.Stream
	t := &relation{name: m.Namespace + "." + m.RelationName, columns: m.Columns}
	parts, err := tableOf(s.Address)
	if err != nil {
		return nil, err
	}
	if m.RelationName != parts[len(parts)-1] || len(parts) > 1 && m.Namespace != parts[0] {
		return t, nil
	}
	t.places = []int{}
	for _, c := range r.l.c.Cols {
		i := slices.IndexFunc(m.Columns, func(x *pglogrepl.RelationMessageColumn) bool { return strings.EqualFold(x.Name, s.Columns[c].Name) })
		if i < 0 {
			var names []string
			for _, x := range m.Columns {
				names = append(names, x.Name)
			}
			return nil, dbtable.Lost("it has no column %s any more, or does not publish it (it has: %s); declare %s without it", s.Columns[c].Name, strings.Join(names, ", "), s.Name)
		}
		t.places = append(t.places, i)
	}
	return t, nil
}

// row hands a change over. was is the row that it replaces.
func (r *logReader) row(id uint32, op byte, was, is *pglogrepl.TupleData) error {
	t := r.tables[id]
	switch {
	case t == nil:
		return fmt.Errorf("%w: rows of a table that was not named", errForm)
	case t.places == nil:
		return nil
	case is == nil || op == dbtable.Replace && was == nil:
		return dbtable.Lost("the server tells the keys of rows as they were, and not the rows; ALTER TABLE %s REPLICA IDENTITY FULL, drop the job and begin anew", t.name)
	case len(is.Columns) != len(t.columns) || was != nil && len(was.Columns) != len(t.columns):
		return fmt.Errorf("%w: a row of %d columns of %s, which has %d", errForm, len(is.Columns), t.name, len(t.columns))
	}
	if op == dbtable.Replace && slices.ContainsFunc(r.l.c.Key, func(k int) bool {
		a, b := was.Columns[t.places[k]], is.Columns[t.places[k]]
		return b.DataType != pglogrepl.TupleDataTypeToast && string(a.Data) != string(b.Data)
	}) {
		r.Row(dbtable.Withdraw, r.cells(t, nil, was), r.time)
	}
	r.Row(op, r.cells(t, was, is), r.time)
	return nil
}

// cells writes the columns of a row as the server gives them when it is asked for the table.
func (r *logReader) cells(t *relation, was, is *pglogrepl.TupleData) []byte {
	var out []byte
	for k, i := range t.places {
		c := is.Columns[i]
		if c.DataType == pglogrepl.TupleDataTypeToast && was != nil {
			c = was.Columns[i] // a large value that stays
		}
		out = dbtable.AppendCell(out, cell(c, t.columns[i].DataType, r.l.c.Scan.Stream.Columns[r.l.c.Cols[k]].Type))
	}
	return out
}

// cell writes a value as it is written in an answer.
func cell(c *pglogrepl.TupleDataColumn, oid uint32, t types.Type) []byte {
	if c.DataType != pglogrepl.TupleDataTypeText {
		return nil
	}
	switch {
	case oid == pgtype.BoolOID && string(c.Data) == "t":
		return []byte("true")
	case oid == pgtype.BoolOID:
		return []byte("false")
	case oid == pgtype.BPCharOID:
		return append([]byte{}, strings.TrimRight(string(c.Data), " ")...)
	case oid == pgtype.ByteaOID && t.Kind == types.Varbinary:
		if b, err := hex.DecodeString(strings.TrimPrefix(string(c.Data), `\x`)); err == nil {
			return append([]byte{}, b...)
		}
	case t.Kind == types.Array && oid != pgtype.JSONOID && oid != pgtype.JSONBOID:
		return listed(c.Data, t.Elem())
	}
	return append([]byte{}, c.Data...)
}

// arrays reads arrays, whatever they are of, as those of texts.
var arrays = pgtype.NewMap()

// listed writes an array in JSON.
func listed(b []byte, of types.Type) []byte {
	var a pgtype.Array[pgtype.Text]
	if err := arrays.Scan(pgtype.TextArrayOID, pgtype.TextFormatCode, b, &a); err != nil {
		return append([]byte{}, b...) // it does not fit, and is shown as it is
	}
	var dims []int
	for _, d := range a.Dims {
		dims = append(dims, int(d.Length))
	}
	for of.Kind == types.Array {
		of = of.Elem()
	}
	at := 0
	var write func(dims []int) json.RawMessage
	write = func(dims []int) json.RawMessage {
		if len(dims) == 0 {
			at++
			return element(a.Elements[at-1], of)
		}
		list := make([]json.RawMessage, dims[0])
		for i := range list {
			list[i] = write(dims[1:])
		}
		out, _ := json.Marshal(list)
		return out
	}
	if len(dims) == 0 {
		return []byte("[]")
	}
	return write(dims)
}

func element(e pgtype.Text, of types.Type) json.RawMessage {
	text := e.String
	switch {
	case !e.Valid:
		return json.RawMessage("null")
	case of.Kind == types.Boolean && (text == "t" || text == "f"):
		return json.RawMessage(map[string]string{"t": "true", "f": "false"}[text])
	case (of.Kind == types.Int || of.Kind == types.BigInt || of.Kind == types.Double || of.Kind == types.Decimal) && json.Valid([]byte(text)):
		return json.RawMessage(text)
	case of.Kind == types.Timestamp:
		text = strings.Replace(strings.TrimSuffix(text, "+00"), " ", "T", 1) + "Z"
	}
	out, _ := json.Marshal(text)
	return out
}
