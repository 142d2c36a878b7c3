package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbserver"
	"fiume/internal/connect/dbtable"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
)

// binlog is a server's binary log, as a table is followed in it: its places are sets of global transaction ids. It implements dbtable.Log.
type binlog struct {
	db     *sql.DB
	server dbserver.Server
	c      *dbtable.Changes
	names  []string // of the table's columns, where the log does not tell them
}

func openChanges(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	srv, err := dbserver.Of(scan.Stream.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	return dbtable.OpenChanges(server{}, env, scan, func(c *dbtable.Changes, db *sql.DB) (dbtable.Log, error) {
		return &binlog{db: db, server: srv, c: c}, nil
	})
}

// Check implements dbtable.Log.
func (b *binlog) Check(ctx context.Context) error {
	return errors.Join(b.checkLog(ctx), b.checkColumns(ctx))
}

// Keep implements dbtable.Log: the server keeps its log as long as it was told.
func (b *binlog) Keep(string) {}

// Close implements dbtable.Log.
func (b *binlog) Close() error { return nil }

// checkColumns notes the names of the table's columns and refuses those that the log does not write as the
// server shows them.
func (b *binlog) checkColumns(ctx context.Context) error {
	var metadata string
	if err := b.db.QueryRowContext(ctx, "SELECT UPPER(@@global.binlog_row_metadata)").Scan(&metadata); err != nil {
		return err
	}
	rows, err := b.db.QueryContext(ctx, "SELECT column_name, column_type, COALESCE(character_set_name, '') FROM information_schema.columns WHERE table_schema=? AND table_name=? ORDER BY ordinal_position", b.server.Database, b.c.Name())
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var name, kind, charset string
		if err := rows.Scan(&name, &kind, &charset); err != nil {
			return err
		}
		b.names = append(b.names, name)
		if !slices.ContainsFunc(b.c.Cols, func(col int) bool { return strings.EqualFold(b.c.Scan.Stream.Columns[col].Name, name) }) {
			continue
		}
		needs := strings.Contains(kind, "unsigned") || strings.HasPrefix(kind, "enum") || strings.HasPrefix(kind, "set(")
		switch {
		case charset != "" && charset != "utf8mb4" && charset != "utf8mb3" && charset != "utf8" && charset != "ascii":
			return fmt.Errorf("the column %s of %s is written in %s, which the binary log does not translate; convert it: ALTER TABLE %s CONVERT TO CHARACTER SET utf8mb4", name, b.c.Name(), charset, b.c.Name())
		case needs && metadata != "FULL":
			return fmt.Errorf("the column %s of %s is %s, and the binary log does not say so; start the server with --binlog-row-metadata=FULL", name, b.c.Name(), kind)
		case strings.HasPrefix(kind, "bit"):
			return fmt.Errorf("the column %s of %s is %s, which cannot be followed; use BOOLEAN or a whole number", name, b.c.Name(), kind)
		}
	}
	return rows.Err()
}

// checkLog looks whether the server writes what is needed.
func (b *binlog) checkLog(ctx context.Context) error {
	want := map[string]string{"log_bin": "ON", "binlog_format": "ROW", "binlog_row_image": "FULL"}
	for name, value := range want {
		var got string
		if err := b.db.QueryRowContext(ctx, "SELECT UPPER(@@global."+name+")").Scan(&got); err != nil {
			return err
		}
		if got == "1" {
			got = "ON"
		}
		if got != value {
			return fmt.Errorf("the server tells no changes: %s is %s; start it with --log-bin --binlog-format=ROW --binlog-row-image=FULL --binlog-row-metadata=FULL --server-id=1", name, got)
		}
	}
	if b.server.LogUser != b.server.User {
		return nil // the service reads the log of its own server
	}
	grants, err := b.db.QueryContext(ctx, "SHOW GRANTS")
	if err != nil {
		return err
	}
	defer grants.Close()
	may := false
	for grants.Next() {
		var grant string
		if err := grants.Scan(&grant); err != nil {
			return err
		}
		may = may || strings.Contains(grant, "REPLICATION SLAVE") || strings.Contains(grant, "ALL PRIVILEGES ON *.*") || !strings.Contains(grant, " ON ") // what a role may is not told
	}
	if err := grants.Err(); err != nil || may {
		return err
	}
	return fmt.Errorf("the user %s may not read the server's log, which has the changes: GRANT REPLICATION SLAVE ON *.* TO %s", b.server.User, b.server.User)
}

// Snapshot implements dbtable.Log.
func (b *binlog) Snapshot(ctx context.Context) (rows *sql.Rows, place string, end func(), err error) {
	conn, err := b.db.Conn(ctx)
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
	if _, err = conn.ExecContext(ctx, "START TRANSACTION WITH CONSISTENT SNAPSHOT"); err != nil {
		return nil, "", nil, err
	}
	status := map[string]string{}
	said, err := conn.QueryContext(ctx, "SHOW STATUS LIKE 'binlog_snapshot_%'")
	if err != nil {
		return nil, "", nil, err
	}
	for said.Next() {
		var name, value string
		if err := said.Scan(&name, &value); err != nil {
			return nil, "", nil, errors.Join(err, said.Close())
		}
		status[strings.ToLower(name)] = value
	}
	if err := errors.Join(said.Err(), said.Close()); err != nil {
		return nil, "", nil, err
	}
	at, err := strconv.Atoi(status["binlog_snapshot_position"])
	if err != nil {
		return nil, "", nil, errors.New("the server does not say where the snapshot stands in its binary log")
	}
	var set sql.NullString
	if err := conn.QueryRowContext(ctx, "SELECT BINLOG_GTID_POS(?, ?)", status["binlog_snapshot_file"], at).Scan(&set); err != nil {
		return nil, "", nil, err
	}
	rows, err = conn.QueryContext(ctx, b.c.Select())
	return rows, set.String, release, err
}
