package mariadb

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"fiume/internal/connect/dbtable"
	"fiume/internal/core/types"

	"github.com/go-mysql-org/go-mysql/mysql"
	"github.com/go-mysql-org/go-mysql/replication"
)

// follow begins to read the log.
func (c *changes) follow() {
	ctx, cancel := context.WithCancel(context.Background())
	c.items, c.stop = make(chan item, 4096), cancel
	r := &logReader{c: c, items: c.items, at: c.start}
	c.ended.Go(func() { r.run(ctx) })
}

// logReader reads the log and turns it into items. When the connection breaks it goes on behind the last row
// that it gave.
type logReader struct {
	c     *changes
	items chan item
	at    place
	set   *mysql.MariadbGTIDSet // the transactions that have been read
	skip  int                   // rows of the transaction at hand that were given before
	over  bool                  // the transaction at hand was read before
	table map[uint64]*tableMap
}

// tableMap says where the columns of the stream are in the rows of the log.
type tableMap struct {
	places   []int // by cell
	kinds    []byte
	unsigned map[int]bool
	words    map[int][]string // of ENUM columns
	sets     map[int][]string // of SET columns
}

var errPurged = errors.New("purged")

func (r *logReader) run(ctx context.Context) {
	wait := 100 * time.Millisecond
	for {
		before := r.at
		err := r.read(ctx)
		if ctx.Err() != nil {
			return
		}
		var own *mysql.MyError
		switch {
		case errors.Is(err, errPurged), errors.As(err, &own) && own.Code == 1236:
			r.send(ctx, item{again: true})
			return
		case errors.Is(err, errSchema):
			r.send(ctx, item{err: err})
			return
		}
		if r.at != before {
			wait = 100 * time.Millisecond
		}
		r.c.say("waiting for the server, the connection broke: %s", err)
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = min(2*wait, 5*time.Second)
	}
}

func (r *logReader) send(ctx context.Context, x item) {
	select {
	case r.items <- x:
		if len(r.items) == 1 {
			r.c.wake()
		}
	case <-ctx.Done():
	}
}

// read reads the log until the connection breaks.
func (r *logReader) read(ctx context.Context) error {
	host, port, err := net.SplitHostPort(r.c.server.Host)
	if err != nil {
		return err
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return err
	}
	set, err := mysql.ParseMariadbGTIDSet(r.at.set)
	if err != nil {
		return err
	}
	r.set = set.(*mysql.MariadbGTIDSet)
	r.table = map[uint64]*tableMap{}
	s := replication.NewBinlogSyncer(replication.BinlogSyncerConfig{
		ServerID: 1<<20 + rand.Uint32N(1<<30), Flavor: mysql.MariaDBFlavor, Host: host, Port: uint16(n), User: r.c.server.User, Password: r.c.server.Password,
		Charset: "utf8mb4", TimestampStringLocation: time.UTC, HeartbeatPeriod: 5 * time.Second, ReadTimeout: 20 * time.Second, DisableRetrySync: true,
		Logger: slog.New(slog.DiscardHandler),
	})
	defer s.Close()
	stream, err := s.StartSyncGTID(r.set.Clone())
	if err != nil {
		return err
	}
	for first := true; ; {
		ev, err := stream.GetEvent(ctx)
		if err != nil {
			return err
		}
		if first && ev.Header.Timestamp > 0 {
			first = false
			r.c.say("")
		}
		if err := r.event(ctx, ev); err != nil {
			return err
		}
	}
}

func (r *logReader) event(ctx context.Context, ev *replication.BinlogEvent) error {
	switch e := ev.Event.(type) {
	case *replication.MariadbGTIDEvent:
		id := e.GTID.String()
		one, err := mysql.ParseMariadbGTIDSet(id)
		if err != nil {
			return err
		}
		r.over = r.set.Contain(one)
		r.skip = 0
		if id == r.at.next {
			r.skip = r.at.rows
		}
		if !r.over {
			r.at.next, r.at.rows = id, 0
		}
		clear(r.table)
	case *replication.TableMapEvent:
		delete(r.table, e.TableID)
		if strings.EqualFold(string(e.Schema), r.c.server.Database) && strings.EqualFold(string(e.Table), r.c.Name()) {
			m, err := r.mapOf(e)
			if err != nil {
				return err
			}
			r.table[e.TableID] = m
		}
	case *replication.RowsEvent:
		if m := r.table[e.TableID]; m != nil && !r.over {
			return r.rows(ctx, ev.Header, e, m)
		}
	case *replication.XIDEvent:
		return r.commit(ctx)
	case *replication.QueryEvent:
		if err := r.query(ctx, e); err != nil {
			return err
		}
		if q := strings.ToUpper(string(e.Query)); q != "BEGIN" && q != "START TRANSACTION" {
			return r.commit(ctx)
		}
	}
	return nil
}

// commit notes that a transaction has been read whole.
func (r *logReader) commit(ctx context.Context) error {
	if r.over || r.at.next == "" {
		return nil
	}
	if err := r.set.Update(r.at.next); err != nil {
		return err
	}
	r.at = place{set: r.set.String()}
	r.send(ctx, item{at: r.at})
	return nil
}

var errSchema = errors.New("the table has changed")

var statements = regexp.MustCompile(`(?is)^\s*(truncate|drop\s+table|rename\s+table|alter\s+table)\b(.*)`)

// query notices what is done to the table as a whole.
func (r *logReader) query(ctx context.Context, e *replication.QueryEvent) error {
	m := statements.FindStringSubmatch(string(e.Query))
	if m == nil || r.over || !strings.EqualFold(string(e.Schema), r.c.server.Database) {
		return nil
	}
	name := regexp.MustCompile(`(?i)(^|[^\w$])` + regexp.QuoteMeta(r.c.Name()) + `($|[^\w$])`)
	if !name.MatchString(m[2]) {
		return nil
	}
	switch what := strings.ToLower(strings.Fields(m[1])[0]); what {
	case "truncate":
		at := r.at
		at.rows++
		r.at.rows++
		if r.skip > 0 {
			r.skip--
			return nil
		}
		if r.c.scan.OfTable != nil {
			r.send(ctx, item{empty: true, at: at})
		} else {
			r.c.say("the table was emptied, which tells no row: %.200s", e.Query)
		}
	case "alter":
		r.c.say("the table was altered: %.200s", e.Query)
	default:
		return fmt.Errorf("%w: %.200s", errSchema, e.Query)
	}
	return nil
}

// mapOf finds the columns of the stream in the rows of the log.
func (r *logReader) mapOf(e *replication.TableMapEvent) (*tableMap, error) {
	names := e.ColumnNameString()
	if len(names) == 0 {
		if names = r.c.names; len(names) != int(e.ColumnCount) {
			return nil, fmt.Errorf("%w: it has %d columns in the log and had %d when it was read, and the log does not name them; start the server with --binlog-row-metadata=FULL", errSchema, e.ColumnCount, len(names))
		}
	}
	m := &tableMap{kinds: e.ColumnType, unsigned: e.UnsignedMap(), words: e.EnumStrValueMap(), sets: e.SetStrValueMap()}
	s := r.c.scan.Stream
	for _, c := range r.c.cols {
		i := slices.IndexFunc(names, func(n string) bool { return strings.EqualFold(n, s.Columns[c].Name) })
		if i < 0 {
			return nil, fmt.Errorf("%w: it has no column %s any more (it has: %s); declare %s without it", errSchema, s.Columns[c].Name, strings.Join(names, ", "), s.Name)
		}
		m.places = append(m.places, i)
	}
	return m, nil
}

func (r *logReader) rows(ctx context.Context, h *replication.EventHeader, e *replication.RowsEvent, m *tableMap) error {
	at := int64(h.Timestamp) * types.Second
	give := func(op byte, cells []byte) {
		r.at.rows++
		if r.skip > 0 {
			r.skip--
			return
		}
		r.send(ctx, item{op: op, cells: cells, time: at, at: r.at})
	}
	switch e.Type() {
	case replication.EnumRowsEventTypeInsert:
		for _, row := range e.Rows {
			give(dbtable.Insert, m.cells(row))
		}
	case replication.EnumRowsEventTypeDelete:
		for _, row := range e.Rows {
			give(dbtable.Withdraw, m.cells(row))
		}
	case replication.EnumRowsEventTypeUpdate:
		for i := 0; i+1 < len(e.Rows); i += 2 {
			old, row := e.Rows[i], e.Rows[i+1]
			if slices.ContainsFunc(r.c.key, func(k int) bool { return fmt.Sprint(old[m.places[k]]) != fmt.Sprint(row[m.places[k]]) }) {
				give(dbtable.Withdraw, m.cells(old))
			}
			give(dbtable.Replace, m.cells(row))
		}
	}
	return nil
}

// cells writes the columns of a row as the server would.
func (m *tableMap) cells(row []any) []byte {
	var out []byte
	for _, i := range m.places {
		if i >= len(row) {
			out = dbtable.AppendCell(out, nil)
			continue
		}
		out = dbtable.AppendCell(out, m.cell(i, row[i]))
	}
	return out
}

func (m *tableMap) cell(i int, v any) []byte {
	unsigned := m.unsigned[i]
	whole := func(x int64, bits uint) []byte {
		if unsigned && x < 0 {
			return strconv.AppendUint(nil, uint64(x)&(1<<bits-1), 10)
		}
		return strconv.AppendInt(nil, x, 10)
	}
	switch v := v.(type) {
	case nil:
		return nil
	case []byte:
		return append([]byte{}, v...)
	case string:
		return []byte(v)
	case int8:
		return whole(int64(v), 8)
	case int16:
		return whole(int64(v), 16)
	case int32:
		if m.kinds[i] == mysql.MYSQL_TYPE_INT24 {
			return whole(int64(v), 24)
		}
		return whole(int64(v), 32)
	case int64:
		if set := m.sets[i]; set != nil {
			var in []string
			for k, w := range set {
				if v&(1<<k) != 0 {
					in = append(in, w)
				}
			}
			return []byte(strings.Join(in, ","))
		}
		if words := m.words[i]; v >= 1 && int(v) <= len(words) {
			return []byte(words[v-1])
		}
		if unsigned && v < 0 {
			return strconv.AppendUint(nil, uint64(v), 10)
		}
		return strconv.AppendInt(nil, v, 10)
	case float32:
		return strconv.AppendFloat(nil, float64(v), 'g', -1, 32)
	case float64:
		return strconv.AppendFloat(nil, v, 'g', -1, 64)
	}
	return fmt.Append(nil, v)
}
