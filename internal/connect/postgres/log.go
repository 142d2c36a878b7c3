package postgres

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbtable"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"

	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5/pgconn"
)

// walLog is what logical replication tells of one table, through a slot that a job has for itself: the server keeps its log until the slot has been told that it
// may go. Its places are LSNs: behind all transactions whose commit ends there or before. A run that is not continued has a slot that ends with its connection.
// It implements dbtable.Log.
type walLog struct {
	db     *sql.DB
	config *pgconn.Config // of connections for replication
	c      *dbtable.Changes
	slot   string
	passes bool // the slot ends with its connection

	held *pgconn.PgConn // has the slot that ends with it, until the log is read
	kept atomic.Uint64  // the LSN up to which a checkpoint that counts has come
}

// slotOf names the slot of a job's stream. Slots of all databases of a server share their names.
func slotOf(env *contract.Env, s *plan.Stream) string {
	at, _ := parse(s.Via.Address) // where it is wrong, nothing is opened
	return fmt.Sprintf("fiume_%x", sha256.Sum256(fmt.Appendf(nil, "%s|%s|%s|%s", env.Writer, at.database, s.Name, s.Address)))[:38]
}

func openChanges(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	s := scan.Stream
	return dbtable.OpenChanges(server{}, env, scan, func(c *dbtable.Changes, db *sql.DB) (dbtable.Log, error) {
		l := &walLog{db: db, c: c, slot: slotOf(env, s), passes: env.Writer == ""}
		if l.passes {
			l.slot = fmt.Sprintf("fiume_%x", time.Now().UnixNano())
		}
		config, err := configOf(s.Via, env.Secrets)
		if err != nil {
			return nil, err
		}
		l.config = &config.Config
		l.config.RuntimeParams["replication"] = "database"
		delete(l.config.RuntimeParams, "statement_timeout")
		delete(l.config.RuntimeParams, "idle_in_transaction_session_timeout")
		return l, nil
	})
}

// Check implements dbtable.Log.
func (l *walLog) Check(ctx context.Context) error {
	s := l.c.Scan.Stream
	table := server{}.Table(s.Address)
	var level, kind, user string
	var may bool
	if err := l.db.QueryRowContext(ctx, "SELECT current_setting('wal_level'), rolreplication OR rolsuper, rolname FROM pg_roles WHERE rolname = current_user").Scan(&level, &may, &user); err != nil {
		return err
	}
	if level != "logical" {
		return fmt.Errorf("the server tells no changes: wal_level is %s; set it with ALTER SYSTEM SET wal_level = logical, and start the server again", level)
	}
	if !may {
		return fmt.Errorf("the user %s may not follow changes; ALTER ROLE %s REPLICATION", user, quote(user))
	}
	if err := l.db.QueryRowContext(ctx, "SELECT relkind FROM pg_class WHERE oid = to_regclass($1)", table).Scan(&kind); err != nil {
		return err
	}
	if kind != "r" && kind != "p" {
		return fmt.Errorf("%s is no table but a view or the like, whose changes the server does not tell", s.Address)
	}
	var part string
	err := l.db.QueryRowContext(ctx, `SELECT oid::regclass::text FROM pg_class WHERE (oid = to_regclass($1) AND relkind = 'r' OR oid IN (SELECT relid FROM pg_partition_tree(to_regclass($1)) WHERE isleaf))
		AND relreplident <> 'f' LIMIT 1`, table).Scan(&part)
	if err == nil {
		return fmt.Errorf("the server does not tell what the rows of %s were before they changed, nor large values that stay; ALTER TABLE %s REPLICA IDENTITY FULL", s.Address, part)
	} else if !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	for _, i := range l.c.Cols {
		var generated bool
		err := l.db.QueryRowContext(ctx, "SELECT attgenerated <> '' FROM pg_attribute WHERE attrelid = to_regclass($1) AND lower(attname) = lower($2) AND NOT attisdropped", table, s.Columns[i].Name).Scan(&generated)
		if err != nil {
			return err
		}
		if generated {
			return fmt.Errorf("the column %s of %s is generated, and the server does not tell it; declare the stream without it and compute it here", s.Columns[i].Name, s.Address)
		}
	}
	_, err = l.published(ctx)
	return err
}

// publication is the name of what has the server publish the table.
func (l *walLog) publication() (name string, own bool) {
	s := l.c.Scan.Stream
	if name := s.Options.Word("publication", ""); name != "" {
		return name, false
	}
	name = "fiume_" + strings.ReplaceAll(s.Address, ".", "_")
	if len(name) > 63 {
		name = fmt.Sprintf("fiume_%x", sha256.Sum256([]byte(s.Address)))[:38]
	}
	return name, true
}

// published says whether the publication is there. Where it is not, it gives the error of who may not make it.
func (l *walLog) published(ctx context.Context) (bool, error) {
	s := l.c.Scan.Stream
	name, own := l.publication()
	table := server{}.Table(s.Address)
	var there, whole, has bool
	err := l.db.QueryRowContext(ctx, `SELECT true, p.pubinsert AND p.pubupdate AND p.pubdelete AND p.pubtruncate,
		EXISTS (SELECT 1 FROM pg_publication_tables t WHERE t.pubname = p.pubname AND (quote_ident(t.schemaname) || '.' || quote_ident(t.tablename))::regclass
			IN (SELECT to_regclass($2) UNION ALL SELECT relid FROM pg_partition_tree(to_regclass($2))))
		FROM pg_publication p WHERE p.pubname = $1`, name, table).Scan(&there, &whole, &has)
	make := fmt.Sprintf("CREATE PUBLICATION %s FOR TABLE %s", quote(name), table)
	switch {
	case errors.Is(err, sql.ErrNoRows) && !own:
		return false, fmt.Errorf("there is no publication %s; %s", name, make)
	case errors.Is(err, sql.ErrNoRows):
		var may bool
		err := l.db.QueryRowContext(ctx, "SELECT has_database_privilege(current_database(), 'CREATE') AND pg_has_role(relowner, 'USAGE') FROM pg_class WHERE oid = to_regclass($1)", table).Scan(&may)
		if err == nil && !may {
			err = fmt.Errorf("the changes of %s are not published, and the user may not have them so; somebody who may: %s", s.Address, make)
		}
		return false, err
	case err != nil:
		return false, err
	case !has:
		return false, fmt.Errorf("the publication %s does not have the table %s; ALTER PUBLICATION %s ADD TABLE %s", name, s.Address, quote(name), table)
	case !whole:
		return false, fmt.Errorf("the publication %s leaves changes out; ALTER PUBLICATION %s SET (publish = 'insert, update, delete, truncate')", name, quote(name))
	}
	return true, nil
}

// Snapshot implements dbtable.Log: the slot begins at the moment of the snapshot that comes with it.
func (l *walLog) Snapshot(ctx context.Context) (rows *sql.Rows, at string, end func(), err error) {
	if l.c.Scan.Until.Kind != plan.Default { // the table as it is, and nothing behind
		rows, err = l.db.QueryContext(ctx, l.c.Select())
		return rows, "", func() {}, err
	}
	there, err := l.published(ctx)
	if err != nil {
		return nil, "", nil, err
	}
	if !there {
		name, _ := l.publication()
		_, err := l.db.ExecContext(ctx, fmt.Sprintf("CREATE PUBLICATION %s FOR TABLE %s WITH (publish_via_partition_root = true)", quote(name), server{}.Table(l.c.Scan.Stream.Address)))
		if own := (*pgconn.PgError)(nil); err != nil && !(errors.As(err, &own) && (own.Code == "42710" || own.Code == "23505")) { // somebody else made it meanwhile
			return nil, "", nil, err
		}
	}
	l.letGo()
	if err := dropSlot(ctx, l.db, l.slot); err != nil { // of a reading that did not come to its end
		return nil, "", nil, err
	}
	limited, cancel := context.WithTimeout(ctx, mayTake)
	defer cancel()
	repl, err := pgconn.ConnectConfig(limited, l.config)
	if err != nil {
		return nil, "", nil, err
	}
	made, err := pglogrepl.CreateReplicationSlot(limited, repl, l.slot, "pgoutput", pglogrepl.CreateReplicationSlotOptions{Temporary: l.passes, SnapshotAction: "EXPORT_SNAPSHOT"})
	if err != nil {
		if own := (*pgconn.PgError)(nil); errors.As(err, &own) && own.Code == "53400" {
			err = fmt.Errorf("%w; each job that follows a table needs a slot: raise max_replication_slots and max_wal_senders, or drop a slot that nobody uses (SELECT slot_name, active FROM pg_replication_slots)", err)
		}
		return nil, "", nil, errors.Join(err, closed(repl))
	}
	l.held = repl // the snapshot is there as long as it stands idle
	conn, err := l.db.Conn(ctx)
	if err != nil {
		return nil, "", nil, err
	}
	release := func() {
		_, _ = conn.ExecContext(context.Background(), "ROLLBACK")
		conn.Close()
	}
	defer func() {
		if err != nil {
			release()
		}
	}()
	if _, err = conn.ExecContext(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
		return nil, "", nil, err
	}
	if _, err = conn.ExecContext(ctx, "SET TRANSACTION SNAPSHOT '"+made.SnapshotName+"'"); err != nil {
		return nil, "", nil, err
	}
	if _, err = conn.ExecContext(ctx, "SET LOCAL statement_timeout = 0; SET LOCAL idle_in_transaction_session_timeout = 0"); err != nil { // a job may be slow to take the rows
		return nil, "", nil, err
	}
	if rows, err = conn.QueryContext(ctx, l.c.Select()); err != nil {
		return nil, "", nil, err
	}
	if !l.passes {
		l.letGo()
	}
	return rows, made.ConsistentPoint, release, nil
}

// dropSlot gives a slot up, where it is there; who reads it is ended.
func dropSlot(ctx context.Context, db *sql.DB, slot string) error {
	for wait := 20 * time.Millisecond; ; wait *= 2 {
		var pid sql.NullInt64
		err := db.QueryRowContext(ctx, "SELECT active_pid FROM pg_replication_slots WHERE slot_name = $1", slot).Scan(&pid)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err == nil && pid.Valid {
			_, err = db.ExecContext(ctx, "SELECT pg_terminate_backend($1)", pid.Int64)
		} else if err == nil {
			_, err = db.ExecContext(ctx, "SELECT pg_drop_replication_slot($1)", slot)
		}
		if own := (*pgconn.PgError)(nil); err != nil && !(errors.As(err, &own) && (own.Code == "55006" || own.Code == "42704")) {
			return err // neither in use nor gone
		}
		if wait > 2*time.Second {
			return fmt.Errorf("the replication slot %s is in use and cannot be dropped; SELECT pg_drop_replication_slot('%s')", slot, slot)
		}
		time.Sleep(wait)
	}
}

// Keep implements dbtable.Log.
func (l *walLog) Keep(at string) {
	if lsn, err := pglogrepl.ParseLSN(at); err == nil {
		l.keep(lsn)
	}
}

func (l *walLog) keep(lsn pglogrepl.LSN) {
	for {
		before := l.kept.Load()
		if uint64(lsn) <= before || l.kept.CompareAndSwap(before, uint64(lsn)) {
			return
		}
	}
}

func (l *walLog) letGo() {
	if l.held != nil {
		_ = closed(l.held)
		l.held = nil
	}
}

// closed ends a connection, and does not wait for long.
func closed(conn *pgconn.PgConn) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	return conn.Close(ctx)
}

// Close implements dbtable.Log.
func (l *walLog) Close() error {
	l.letGo()
	return nil
}

// LeaveSource implements contract.Holder: the slot of a job that is gone is given up, since the server would keep its log for it for ever.
func (connector) LeaveSource(env *contract.Env, scan *plan.Op) error {
	s := scan.Stream
	if !s.Options.Flag("changes", false) || env.Writer == "" {
		return nil
	}
	slot := slotOf(env, s)
	db, _, err := server{}.Connect(s.Via, env.Secrets)
	if err != nil {
		return err
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	defer cancel()
	if err := dropSlot(ctx, db, slot); err != nil {
		return fmt.Errorf("the replication slot of %s stays, and the server keeps its log for it; run there: SELECT pg_drop_replication_slot('%s'): %w", s.Name, slot, err)
	}
	return nil
}
