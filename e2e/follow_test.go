package e2e

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/api"
	"fiume/internal/catalog"
	"fiume/internal/service"
)

// database is a MariaDB server of a test's own that can be restarted: it is reached by an address that stays.
type database struct {
	t      testing.TB
	dir    string
	server *catalog.Server
	addr   atomic.Pointer[string]
	listen net.Listener
	*sql.DB
}

func startDatabase(t testing.TB) *database {
	t.Helper()
	d := &database{t: t, dir: t.TempDir()}
	var err error
	if d.listen, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		t.Fatal(err)
	}
	go func() {
		for {
			in, err := d.listen.Accept()
			if err != nil {
				return
			}
			go func() {
				defer in.Close()
				out, err := net.Dial("tcp", *d.addr.Load())
				if err != nil {
					return
				}
				defer out.Close()
				go func() { _, _ = io.Copy(out, in); out.Close() }()
				_, _ = io.Copy(in, out)
			}()
		}
	}()
	d.start()
	t.Cleanup(func() {
		d.listen.Close()
		d.DB.Close()
		_ = d.server.Stop()
	})
	return d
}

func (d *database) start() {
	d.t.Helper()
	var err error
	if d.server, err = catalog.StartServer(context.Background(), d.dir); err != nil {
		d.t.Fatal(err)
	}
	d.addr.Store(&d.server.Addr)
	if err := d.server.MakeDatabase(d.t.Context(), "race", "race", racePassword); err != nil {
		d.t.Fatal(err)
	}
	if d.DB != nil {
		d.DB.Close()
	}
	if d.DB, err = sql.Open("mysql", d.server.DSN("race")); err != nil {
		d.t.Fatal(err)
	}
	d.exec("GRANT REPLICATION SLAVE, BINLOG MONITOR ON *.* TO 'race'@'127.0.0.1'")
}

// restart stops the server, leaves it away for a while, and starts it again.
func (d *database) restart(away time.Duration) {
	d.t.Helper()
	if err := d.server.Stop(); err != nil {
		d.t.Fatal(err)
	}
	time.Sleep(away)
	d.start()
}

func (d *database) exec(format string, args ...any) int64 {
	d.t.Helper()
	r, err := d.DB.Exec(fmt.Sprintf(format, args...))
	if err != nil {
		d.t.Fatal(err)
	}
	n, err := r.RowsAffected()
	if err != nil {
		d.t.Fatal(err)
	}
	return n
}

// address is that of the endpoint.
func (d *database) address() string { return "race@" + d.listen.Addr().String() + "/race" }

// table gives the rows of a query, the cells of each joined.
func (d *database) table(query string) map[string]bool {
	d.t.Helper()
	rows, err := d.DB.Query(query)
	if err != nil {
		d.t.Fatal(err)
	}
	defer rows.Close()
	out := map[string]bool{}
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			d.t.Fatal(err)
		}
		out[s] = true
	}
	if err := rows.Err(); err != nil {
		d.t.Fatal(err)
	}
	return out
}

// kept gives the rows of a table of Fiume, as the changes of a query over it leave them. The key of a row
// stands before its first bar.
func (p *process) kept(columns, table string) map[string]bool {
	p.t.Helper()
	rows := map[string]string{}
	_, err := p.Query(p.t.Context(), api.ScriptRequest{SQL: "SELECT CONCAT(" + columns + ") AS row FROM " + table + " UNTIL NOW"}, func([]service.Column) error { return nil }, func(b json.RawMessage) error {
		var x struct {
			Change string `json:"_change"`
			Row    string
		}
		if err := json.Unmarshal(b, &x); err != nil {
			return err
		}
		key, _, _ := strings.Cut(x.Row, "|")
		if rows[key] = x.Row; x.Change == "withdraw" {
			delete(rows, key)
		}
		return nil
	})
	if err != nil {
		p.t.Fatal(err)
	}
	out := map[string]bool{}
	for _, r := range rows {
		out[r] = true
	}
	return out
}

// TestFollow follows the changes of a table in a database while 100,000 of its rows change, the database
// restarts and the service is killed in the middle: the copy equals the table in the end.
func TestFollow(t *testing.T) {
	d := startDatabase(t)
	d.exec("CREATE TABLE runners (id INT PRIMARY KEY, name VARCHAR(60), score DOUBLE, points MEDIUMINT UNSIGNED, fee DECIMAL(8,2), kind ENUM('run','walk'), seen DATETIME(6), note TEXT)")
	for i := 0; i < 2000; i += 500 {
		var rows []string
		for k := i; k < i+500; k++ {
			rows = append(rows, fmt.Sprintf("(%d, 'Läufer %d', %d.25, %d, %d.10, 'run', '2026-05-17 09:00:00.%06d', NULL)", k, k, k, 16_000_000+k, k, k))
		}
		d.exec("INSERT INTO runners VALUES %s", strings.Join(rows, ","))
	}
	dir := t.TempDir()
	p := serve(t, dir)
	r, err := p.Apply(t.Context(), api.ScriptRequest{SQL: p.endpoint(d.address()) + `
		CREATE TOPIC copy (PARTITIONS 2);
		DECLARE TABLE runners (id INT PRIMARY KEY, name VARCHAR, score DOUBLE, points INT, fee DECIMAL(8, 2), kind VARCHAR, seen TIMESTAMP, note VARCHAR)
		FROM MARIADB 'runners' VIA race_db (CHANGES true);
		DECLARE SINK copy_topic TO TOPIC 'copy' (KEY (id));
		DECLARE TABLE copied (id INT PRIMARY KEY, name VARCHAR, score DOUBLE, points INT, fee DECIMAL(8, 2), kind VARCHAR, seen TIMESTAMP, note VARCHAR) FROM TOPIC 'copy';
		CREATE JOB follow AS SELECT id, name, score, points, fee, kind, seen, note FROM runners ROUTE TO copy_topic SET (CHECKPOINT EVERY 200 MILLISECONDS);`})
	if err != nil || r.Problem != nil {
		t.Fatal(err, r.Problem)
	}
	rnd := rand.New(rand.NewPCG(7, 7))
	changed, next := int64(0), 2000
	restarted, killed := false, false
	for changed < 100_000 {
		at := rnd.IntN(next)
		switch rnd.IntN(8) {
		case 0:
			var rows []string
			for range 1 + rnd.IntN(300) {
				rows = append(rows, fmt.Sprintf("(%d, 'neu', 0, 1, 1.5, 'walk', '2026-05-17 10:00:00', 'x')", next))
				next++
			}
			changed += d.exec("INSERT INTO runners VALUES %s", strings.Join(rows, ","))
		case 1:
			changed += d.exec("DELETE FROM runners WHERE id BETWEEN %d AND %d", at, at+rnd.IntN(100))
		case 2: // another key
			changed += d.exec("UPDATE IGNORE runners SET id = id + 1000000, note = 'moved' WHERE id = %d", at)
		default:
			changed += d.exec("UPDATE runners SET score = score + %d, kind = IF(kind = 'run', 'walk', 'run'), note = CONCAT('n', %d) WHERE id BETWEEN %d AND %d", 1+rnd.IntN(9), changed, at, at+rnd.IntN(800))
		}
		switch {
		case changed > 33_000 && !restarted:
			restarted = true
			d.restart(time.Second)
		case changed > 66_000 && !killed:
			killed = true
			p.kill()
			p = serve(t, dir)
		}
	}
	want := d.table("SELECT CONCAT(id, '|', name, '|', CAST(score * 4 AS INT), '|', points, '|', fee, '|', kind, '|', UNIX_TIMESTAMP(seen) * 1000 DIV 1, '|', COALESCE(note, '-')) FROM runners")
	columns := "id, '|', name, '|', CAST(score * 4 AS BIGINT), '|', points, '|', fee, '|', kind, '|', UNIX_MILLIS(seen), '|', COALESCE(note, '-')"
	var got map[string]bool
	deadline := time.Now().Add(60 * time.Second)
	for {
		if got = p.kept(columns, "copied"); maps.Equal(got, want) {
			break
		}
		if time.Now().After(deadline) {
			for k := range want {
				if !got[k] {
					t.Logf("missing: %s", k)
					break
				}
			}
			for k := range got {
				if !want[k] {
					t.Logf("not wanted: %s", k)
					break
				}
			}
			t.Fatalf("after %d changes the copy has %d rows, the table %d", changed, len(got), len(want))
		}
		time.Sleep(200 * time.Millisecond)
	}
}
