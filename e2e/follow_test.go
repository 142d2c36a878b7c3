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
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/api"
	"fiume/internal/catalog"
	"fiume/internal/core/flow"
	"fiume/internal/service/base"
	"fiume/internal/service/jobs"
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
	if d.server, err = catalog.StartServer(context.Background(), d.dir, nil); err != nil {
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
	_, err := p.Query(p.t.Context(), api.ScriptRequest{SQL: "SELECT CONCAT(" + columns + ") AS row FROM " + table + " UNTIL NOW"}, func([]base.Column) error { return nil }, func(b json.RawMessage) error {
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
	}, nil)
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
	t.Parallel()
	d := startDatabase(t)
	d.exec("CREATE TABLE old (id INT PRIMARY KEY, name VARCHAR(10) CHARACTER SET latin1)")
	d.exec("CREATE TABLE runners (id INT PRIMARY KEY, name VARCHAR(60), score DOUBLE, points MEDIUMINT UNSIGNED, fee DECIMAL(8,2), kind ENUM('run','walk'), extras SET('bag','shirt'), seen DATETIME(6), note TEXT)")
	for i := 0; i < 2000; i += 500 {
		var rows []string
		for k := i; k < i+500; k++ {
			rows = append(rows, fmt.Sprintf("(%d, 'Läufer %d', %d.25, %d, %d.10, 'run', 'bag,shirt', '2026-05-17 09:00:00.%06d', NULL)", k, k, k, 16_000_000+k, k, k))
		}
		d.exec("INSERT INTO runners VALUES %s", strings.Join(rows, ","))
	}
	dir := t.TempDir()
	p := serve(t, dir)
	r, err := p.Apply(t.Context(), api.ScriptRequest{SQL: p.endpoint(d.address()) + `
		CREATE TOPIC copy (PARTITIONS 2);
		DECLARE TABLE runners (id INT PRIMARY KEY, name VARCHAR, score DOUBLE, points INT, fee DECIMAL(8, 2), kind VARCHAR, extras VARCHAR, seen TIMESTAMP, note VARCHAR)
		FROM MARIADB 'runners' VIA race_db (CHANGES true);
		DECLARE SINK copy_topic TO TOPIC 'copy' (KEY (id));
		DECLARE TABLE copied (id INT PRIMARY KEY, name VARCHAR, score DOUBLE, points INT, fee DECIMAL(8, 2), kind VARCHAR, extras VARCHAR, seen TIMESTAMP, note VARCHAR) FROM TOPIC 'copy';
		CREATE JOB follow AS SELECT id, name, score, points, fee, kind, extras, seen, note FROM runners ROUTE TO copy_topic SET (CHECKPOINT EVERY 200 MILLISECONDS);`})
	if err != nil || r.Problem != nil {
		t.Fatal(err, r.Problem)
	}
	p.fiume("DECLARE TABLE old (id INT PRIMARY KEY, name VARCHAR) FROM MARIADB 'old' VIA race_db (CHANGES true);\n"+
		"DECLARE SINK s TO TOPIC 'copy' (KEY (id)); CREATE JOB old_names AS SELECT id, name FROM old ROUTE TO s;", "apply", "-").want(t, 3, "written in latin1")
	if n := len(p.kept("id, '|', name", "runners")); n != 2000 {
		t.Fatalf("the table has %d rows", n)
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
				rows = append(rows, fmt.Sprintf("(%d, 'neu', 0, 1, 1.5, 'walk', 'shirt', '2026-05-17 10:00:00', 'x')", next))
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
	want := d.table("SELECT CONCAT(id, '|', name, '|', CAST(score * 4 AS INT), '|', points, '|', fee, '|', kind, '|', extras, '|', UNIX_TIMESTAMP(seen) * 1000 DIV 1, '|', COALESCE(note, '-')) FROM runners")
	columns := "id, '|', name, '|', CAST(score * 4 AS BIGINT), '|', points, '|', fee, '|', kind, '|', extras, '|', UNIX_MILLIS(seen), '|', COALESCE(note, '-')"
	var got map[string]bool
	deadline := time.Now().Add(patience)
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

// messages gives the values of a topic of one partition, in their order; that of a deletion is empty.
func (p *process) messages(topic string) (out []string) {
	p.t.Helper()
	ms, err := p.Read(p.t.Context(), topic, url.Values{"limit": {"100000"}})
	if err != nil {
		p.t.Fatal(err)
	}
	for _, m := range ms {
		out = append(out, m.Value)
	}
	return out
}

// TestFollowWholeTable empties, alters and breaks a table that is followed, and reads its changes as a stream.
func TestFollowWholeTable(t *testing.T) {
	t.Parallel()
	d := startDatabase(t)
	d.exec("CREATE TABLE fees (bib INT PRIMARY KEY, fee DECIMAL(8,2), note VARCHAR(20))")
	d.exec("INSERT INTO fees VALUES (1, 10.5, 'a'), (2, 20, NULL)")
	p := serve(t, t.TempDir())
	d.exec("REVOKE REPLICATION SLAVE ON *.* FROM 'race'@'127.0.0.1'")
	p.apply(p.endpoint(d.address()))
	p.fiume("DECLARE TABLE fees (bib INT PRIMARY KEY, fee DECIMAL(8, 2)) FROM MARIADB 'fees' VIA race_db (CHANGES true); CREATE TOPIC x; DECLARE SINK x TO TOPIC 'x' (KEY (bib)); CREATE JOB j AS SELECT bib, fee FROM fees ROUTE TO x;",
		"apply", "-", "--dry-run").want(t, 3, "the user race may not read the server's log, which has the changes: GRANT REPLICATION SLAVE ON *.* TO race")
	d.exec("GRANT REPLICATION SLAVE ON *.* TO 'race'@'127.0.0.1'")
	p.apply(`
		CREATE TOPIC copy (PARTITIONS 1); CREATE TOPIC log (PARTITIONS 1);
		DECLARE TABLE fees (bib INT PRIMARY KEY, fee DECIMAL(8, 2)) FROM MARIADB 'fees' VIA race_db (CHANGES true);
		DECLARE STREAM fee_changes (_change VARCHAR, bib INT, fee DECIMAL(8, 2)) FROM MARIADB 'fees' VIA race_db (CHANGES true);
		DECLARE SINK copy_topic TO TOPIC 'copy' (KEY (bib));
		DECLARE SINK log_topic TO TOPIC 'log';
		CREATE JOB copies AS SELECT bib, fee FROM fees ROUTE TO copy_topic SET (PARALLELISM 1, CHECKPOINT EVERY 100 MILLISECONDS);
		CREATE JOB logs AS SELECT _change, bib, fee FROM fee_changes ROUTE TO log_topic SET (PARALLELISM 1);`)
	wait := func(topic string, want ...string) {
		t.Helper()
		var got []string
		defer func() {
			if t.Failed() {
				t.Log(got)
			}
		}()
		eventually(t, fmt.Sprint(topic, " to have ", want), func() bool {
			got = p.messages(topic)
			return fmt.Sprint(got) == fmt.Sprint(want)
		})
	}
	copied := []string{`{"bib":1,"fee":10.50}`, `{"bib":2,"fee":20.00}`}
	logged := []string{`{"_change":"insert","bib":1,"fee":10.50}`, `{"_change":"insert","bib":2,"fee":20.00}`}
	wait("copy", copied...)
	wait("log", logged...)
	d.exec("UPDATE fees SET fee = 11 WHERE bib = 1")
	d.exec("UPDATE fees SET note = 'b' WHERE bib = 1") // a column that is not declared: the row is as it was
	d.exec("DELETE FROM fees WHERE bib = 2")
	copied = append(copied, `{"bib":1,"fee":11.00}`, ``)
	logged = append(logged, `{"_change":"replace","bib":1,"fee":11.00}`, `{"_change":"replace","bib":1,"fee":11.00}`, `{"_change":"withdraw","bib":2,"fee":20.00}`)
	wait("copy", copied...)
	wait("log", logged...)
	// A column more is reported and changes nothing; TRUNCATE withdraws what is there.
	d.exec("ALTER TABLE fees ADD COLUMN paid BOOLEAN AFTER bib")
	d.exec("INSERT INTO fees VALUES (3, TRUE, 5, NULL)")
	copied = append(copied, `{"bib":3,"fee":5.00}`)
	wait("copy", copied...)
	j, err := p.Job(t.Context(), "copies")
	if err != nil || !strings.Contains(j.Status.Splits[0].Notice, "was altered") {
		t.Fatal(err, j.Status.Splits)
	}
	d.exec("TRUNCATE TABLE fees")
	d.exec("INSERT INTO fees VALUES (4, FALSE, 7, NULL)")
	eventually(t, "the copy to be emptied and begun anew", func() bool {
		v := p.messages("copy")
		return len(v) == len(copied)+3 && v[len(copied)] == "" && v[len(copied)+1] == "" && v[len(copied)+2] == `{"bib":4,"fee":7.00}`
	})
	// While the job is stopped the log is thrown away: the table is read anew, and what has gone is withdrawn.
	if err := p.StopJob(t.Context(), "copies"); err != nil {
		t.Fatal(err)
	}
	d.exec("DELETE FROM fees WHERE bib = 4")
	d.exec("INSERT INTO fees VALUES (5, FALSE, 8, NULL)")
	d.exec("FLUSH BINARY LOGS")
	var file string
	var n int64
	if err := d.DB.QueryRow("SHOW MASTER STATUS").Scan(&file, &n, new(any), new(any)); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the old logs to be thrown away", func() bool {
		_, _ = d.DB.Exec("PURGE BINARY LOGS TO '" + file + "'")
		var first string
		rows, err := d.DB.Query("SHOW BINARY LOGS")
		if err != nil {
			t.Fatal(err)
		}
		defer rows.Close()
		return rows.Next() && rows.Scan(&first, &n) == nil && first == file
	})
	if err := p.StartJob(t.Context(), "copies"); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the table to be read anew", func() bool {
		v := p.messages("copy")
		return len(v) >= 2 && v[len(v)-1] == "" && v[len(v)-2] == `{"bib":5,"fee":8.00}`
	})
	// A declared column that goes ends the job, with the reason.
	d.exec("ALTER TABLE fees DROP COLUMN fee")
	d.exec("INSERT INTO fees VALUES (6, FALSE, NULL)")
	eventually(t, "the job to say what is missing", func() bool {
		j, err := p.Job(t.Context(), "copies")
		return err == nil && strings.Contains(j.Reason, "no column fee any more")
	})
}

// TestTables joins a stream with tables that are read whole and again, looked up and cached, and read from a
// file that is written anew.
func TestTables(t *testing.T) {
	t.Parallel()
	d := startDatabase(t)
	d.exec("CREATE TABLE mats (mat VARCHAR(20) PRIMARY KEY, km DOUBLE, open BOOLEAN)")
	d.exec("INSERT INTO mats VALUES ('start', 0, TRUE), ('km-5', 5, FALSE)")
	d.exec("CREATE TABLE runners (chip VARCHAR(20), edition INT, name VARCHAR(40), PRIMARY KEY (chip, edition))")
	d.exec("INSERT INTO runners VALUES ('P1', 2025, 'Alba'), ('P2', 2025, 'Bruno')")
	dir := t.TempDir()
	clubs := writeFile(t, dir, "clubs.csv", "chip,club\nP1,Remiera\n")
	p := serve(t, t.TempDir())
	p.apply(declareReads + p.endpoint(d.address()) + fmt.Sprintf(`
		CREATE TOPIC found (PARTITIONS 1);
		DECLARE TABLE mats (mat VARCHAR PRIMARY KEY, km DOUBLE, open BOOLEAN) FROM MARIADB 'mats' VIA race_db (REFRESH EVERY 100 MILLISECONDS);
		DECLARE TABLE runners (chip VARCHAR, edition INT, name VARCHAR, PRIMARY KEY (chip, edition)) FROM MARIADB 'runners' VIA race_db (CACHE ROWS 1000, CACHE FOR 300 MILLISECONDS);
		DECLARE TABLE clubs (chip VARCHAR PRIMARY KEY, club VARCHAR) FROM FILES '%s' (FORMAT csv);
		DECLARE SINK found_topic TO TOPIC 'found';
		CREATE JOB joins AS
			SELECT r.chip, m.km, m.open, e.name, (SELECT c.club FROM clubs c WHERE c.chip = r.chip) AS club
			FROM reads r JOIN mats m ON m.mat = r.mat LEFT JOIN runners e ON e.chip = r.chip AND e.edition = 2025
			ROUTE TO found_topic;`, clubs))
	sends := 0
	send := func(chip, mat string) {
		t.Helper()
		sends++
		key := "one"
		if err := p.Write(t.Context(), "mat-reads", []api.MessageRequest{{Key: &key, Value: fmt.Sprintf(`{"chip":"%s","mat":"%s","read_at":"2026-05-17T09:00:00Z"}`, chip, mat)}}); err != nil {
			t.Fatal(err)
		}
	}
	last := func(want string) {
		t.Helper()
		eventually(t, want, func() bool {
			v := p.messages("found")
			return len(v) > 0 && v[len(v)-1] == want
		})
	}
	send("P1", "start")
	last(`{"chip":"P1","km":0,"open":true,"name":"Alba","club":"Remiera"}`)
	send("P3", "km-5")
	last(`{"chip":"P3","km":5,"open":false,"name":null,"club":null}`)
	d.exec("UPDATE mats SET km = 5.1 WHERE mat = 'km-5'")
	d.exec("DELETE FROM mats WHERE mat = 'start'")
	d.exec("INSERT INTO runners VALUES ('P3', 2025, 'Carla')")
	writeFile(t, dir, "clubs.csv", "chip,club\nP3,Faro\n")
	eventually(t, "the tables to be read anew", func() bool {
		send("P3", "km-5")
		v := p.messages("found")
		return v[len(v)-1] == `{"chip":"P3","km":5.1,"open":false,"name":"Carla","club":"Faro"}`
	})
	send("P1", "start") // the mat has gone
	send("P1", "km-5")
	last(`{"chip":"P1","km":5.1,"open":false,"name":"Alba","club":null}`)
	if n := len(p.messages("found")); n > sends {
		t.Errorf("%d rows of %d messages", n, sends)
	}
	// A query that ends takes tables as they are.
	p.fiume("", "query", "SELECT mat, km FROM mats UNTIL NOW", "-o", "json").want(t, 0, `"mat":"km-5","km":5.1`)
	p.fiume("", "query", "SELECT club FROM clubs UNTIL NOW", "-o", "json").want(t, 0, `"club":"Faro"`)
	// The database goes away: what was read and cached stands, and the job goes on when it is back.
	if err := d.server.Stop(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(500 * time.Millisecond)
	eventually(t, "the job to say that the table could not be read again", func() bool {
		j, err := p.Job(t.Context(), "joins")
		return err == nil && slices.ContainsFunc(j.Status.Splits, func(s flow.SplitStatus) bool { return strings.Contains(s.Notice, "could not be read again") })
	})
	send("P2", "km-5")
	d.start()
	last(`{"chip":"P2","km":5.1,"open":false,"name":"Bruno","club":null}`)
	p.fiume("", "job", "show", "joins").want(t, 0, "joins: join mats by mat", "bound: mats as it is when a row comes", "table clubs", "ROWS HELD")
	p.fiume("SHOW TABLES; DESCRIBE runners;", "apply", "-").want(t, 0, "REFRESH EVERY 100", "edition", "key, NOT NULL", "used by the job joins")
	p.fiume("DROP TABLE runners;", "apply", "-").want(t, 3, "the job joins")
}

// TestSinkAway takes a sink's database away while rows come: the job waits, says so, and writes each row once
// when it is back, without beginning anew.
func TestSinkAway(t *testing.T) {
	t.Parallel()
	d := startDatabase(t)
	d.exec("CREATE TABLE found (chip VARCHAR(20) NOT NULL, mat VARCHAR(20))")
	p := serve(t, t.TempDir())
	p.apply(declareReads + p.endpoint(d.address()) + `
		CREATE TOPIC copy (PARTITIONS 1);
		DECLARE SINK found_table TO MARIADB 'found' VIA race_db;
		DECLARE SINK copy_topic TO TOPIC 'copy';
		CREATE JOB finds AS SELECT chip, mat FROM reads ROUTE TO found_table, copy_topic SET (CHECKPOINT EVERY 200 MILLISECONDS);`)
	sent := 0
	send := func(n int) {
		t.Helper()
		var ms []api.MessageRequest
		for range n {
			sent++
			ms = append(ms, api.MessageRequest{Value: fmt.Sprintf(`{"chip":"P%05d","mat":"start","read_at":"2026-05-17T09:00:00Z"}`, sent)})
		}
		if err := p.Write(t.Context(), "mat-reads", ms); err != nil {
			t.Fatal(err)
		}
	}
	state := func() jobs.JobInfo {
		t.Helper()
		j, err := p.Job(t.Context(), "finds")
		if err != nil {
			t.Fatal(err)
		}
		return j.JobInfo
	}
	send(500)
	eventually(t, "the first rows", func() bool { return len(d.table("SELECT chip FROM found")) == 500 })
	since := state().Since
	if err := d.server.Stop(); err != nil {
		t.Fatal(err)
	}
	send(1000)
	eventually(t, "the job to say that it waits", func() bool {
		s := state()
		return s.State == "retrying" && strings.Contains(s.Reason, "the sink found_table cannot be written")
	})
	p.fiume("", "job", "list").want(t, 0, "retrying", "found_table")
	send(1000)
	time.Sleep(time.Duration(setting("AWAY", 2)) * time.Second)
	d.start()
	eventually(t, "all rows in the table", func() bool { return len(d.table("SELECT chip FROM found")) == sent })
	var rows int
	if err := d.DB.QueryRow("SELECT COUNT(*) FROM found").Scan(&rows); err != nil || rows != sent {
		t.Errorf("%d rows, wanted %d (%v)", rows, sent, err)
	}
	if n := len(p.messages("copy")); n != sent {
		t.Errorf("%d messages, wanted %d", n, sent)
	}
	if s := state(); s.State != "running" || !s.Since.Equal(since) {
		t.Errorf("%+v, was running since %s", s, since)
	}
	// Stopped while it waits, it ends in order, and goes on when it is started again.
	if err := d.server.Stop(); err != nil {
		t.Fatal(err)
	}
	send(100)
	eventually(t, "the job to wait again", func() bool { return state().State == "retrying" })
	// It cannot be changed meanwhile: it goes on as it was.
	p.fiume("", "job", "parallelism", "finds", "2").want(t, 1, "could not be brought to a stand", "it goes on as it was")
	eventually(t, "the job to wait once more", func() bool { return state().State == "retrying" })
	if err := p.StopJob(t.Context(), "finds"); err != nil {
		t.Fatal(err)
	}
	d.start()
	if err := p.StartJob(t.Context(), "finds"); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the rest of the rows", func() bool { return len(d.table("SELECT chip FROM found")) == sent })
}
