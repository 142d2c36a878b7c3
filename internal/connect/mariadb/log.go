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

// logReader reads the log as long as a connection holds.
type logReader struct {
	*dbtable.Reader
	b     *binlog
	set   *mysql.MariadbGTIDSet // the transactions that have been read
	id    string                // of the transaction at hand
	over  bool                  // it was read before
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

// Read implements dbtable.Log.
func (b *binlog) Read(ctx context.Context, to *dbtable.Reader) error {
	r := &logReader{Reader: to, b: b, table: map[uint64]*tableMap{}}
	err := r.read(ctx)
	if own := (*mysql.MyError)(nil); errors.As(err, &own) && own.Code == 1236 {
		return fmt.Errorf("%w: %w", dbtable.ErrBehind, err)
	}
	return err
}

func (r *logReader) read(ctx context.Context) error {
	srv := r.b.server
	host, port, err := net.SplitHostPort(srv.Host)
	if err != nil {
		return err
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return err
	}
	set, err := mysql.ParseMariadbGTIDSet(r.At().At)
	if err != nil {
		return err
	}
	r.set = set.(*mysql.MariadbGTIDSet)
	s := replication.NewBinlogSyncer(replication.BinlogSyncerConfig{
		ServerID: 1<<20 + rand.Uint32N(1<<30), Flavor: mysql.MariaDBFlavor, Host: host, Port: uint16(n), User: srv.LogUser, Password: srv.LogPassword,
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
			r.Say("")
		}
		if err := r.event(ev); err != nil {
			return err
		}
	}
}

func (r *logReader) event(ev *replication.BinlogEvent) error {
	switch e := ev.Event.(type) {
	case *replication.MariadbGTIDEvent:
		id := e.GTID.String()
		one, err := mysql.ParseMariadbGTIDSet(id)
		if err != nil {
			return err
		}
		r.over, r.id = r.set.Contain(one), id
		if !r.over {
			r.Begin(id)
		}
		clear(r.table)
	case *replication.TableMapEvent:
		delete(r.table, e.TableID)
		if strings.EqualFold(string(e.Schema), r.b.server.Database) && strings.EqualFold(string(e.Table), r.b.c.Name()) {
			m, err := r.mapOf(e)
			if err != nil {
				return err
			}
			r.table[e.TableID] = m
		}
	case *replication.RowsEvent:
		if m := r.table[e.TableID]; m != nil && !r.over {
			return r.rows(ev.Header, e, m)
		}
	case *replication.XIDEvent:
		return r.commit()
	case *replication.QueryEvent:
		if err := r.query(e); err != nil {
			return err
		}
		if q := strings.ToUpper(string(e.Query)); q != "BEGIN" && q != "START TRANSACTION" {
			return r.commit()
		}
	}
	return nil
}

// commit notes that a transaction has been read whole.
func (r *logReader) commit() error {
	if r.over || r.id == "" {
		return nil
	}
	if err := r.set.Update(r.id); err != nil {
		return err
	}
	r.id = ""
	r.Commit(r.set.String())
	return nil
}

var statements = regexp.MustCompile(`(?is)^\s*(truncate|drop\s+table|rename\s+table|alter\s+table)\b(.*)`)

// query notices what is done to the table as a whole.
func (r *logReader) query(e *replication.QueryEvent) error {
	m := statements.FindStringSubmatch(string(e.Query))
	if m == nil || r.over || !strings.EqualFold(string(e.Schema), r.b.server.Database) {
		return nil
	}
	name := regexp.MustCompile(`(?i)(^|[^\w$])` + regexp.QuoteMeta(r.b.c.Name()) + `($|[^\w$])`)
	if !name.MatchString(m[2]) {
		return nil
	}
	switch what := strings.ToLower(strings.Fields(m[1])[0]); what {
	case "truncate":
		r.Emptied(string(e.Query))
	case "alter":
		r.Say("the table was altered: %.200s", e.Query)
	default:
		return dbtable.Lost("%.200s", e.Query)
	}
	return nil
}

// mapOf finds the columns of the stream in the rows of the log.
func (r *logReader) mapOf(e *replication.TableMapEvent) (*tableMap, error) {
	names := e.ColumnNameString()
	if len(names) == 0 {
		if names = r.b.names; len(names) != int(e.ColumnCount) {
			return nil, dbtable.Lost("it has %d columns in the log and had %d when it was read, and the log does not name them; start the server with --binlog-row-metadata=FULL", e.ColumnCount, len(names))
		}
	}
	m := &tableMap{kinds: e.ColumnType, unsigned: e.UnsignedMap(), words: e.EnumStrValueMap(), sets: e.SetStrValueMap()}
	s := r.b.c.Scan.Stream
	for _, c := range r.b.c.Cols {
		i := slices.IndexFunc(names, func(n string) bool { return strings.EqualFold(n, s.Columns[c].Name) })
		if i < 0 {
			return nil, dbtable.Lost("it has no column %s any more (it has: %s); declare %s without it", s.Columns[c].Name, strings.Join(names, ", "), s.Name)
		}
		m.places = append(m.places, i)
	}
	return m, nil
}

func (r *logReader) rows(h *replication.EventHeader, e *replication.RowsEvent, m *tableMap) error {
	give := func(op byte, cells []byte) { r.Row(op, cells, int64(h.Timestamp)*types.Second) }
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
			if slices.ContainsFunc(r.b.c.Key, func(k int) bool { return fmt.Sprint(old[m.places[k]]) != fmt.Sprint(row[m.places[k]]) }) {
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
