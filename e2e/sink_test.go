package e2e

import (
	"bufio"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"fiume/internal/api"
	"fiume/internal/service/jobs"
)

// texts gives the only column of a query.
func texts(t testing.TB, db *sql.DB, query string) (out []string) {
	t.Helper()
	rs, err := db.Query(query)
	if err != nil {
		t.Fatal(err)
	}
	defer rs.Close()
	for rs.Next() {
		var s string
		if err := rs.Scan(&s); err != nil {
			t.Fatal(err)
		}
		out = append(out, s)
	}
	return out
}

// TestTableTypes writes values of every type to a table and reads them back from the server.
func TestTableTypes(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	address, db := raceDatabase(t)
	if _, err := db.Exec(`CREATE TABLE everything (id BIGINT PRIMARY KEY, i INT, x DOUBLE, s VARCHAR(50), b BOOLEAN, at DATETIME(6), d DATE, took BIGINT, device JSON, extra INT DEFAULT 7) CHARACTER SET utf8mb4`); err != nil {
		t.Fatal(err)
	}
	p.apply(p.endpoint(address) + `CREATE TOPIC t (PARTITIONS 1);
		DECLARE STREAM s (id BIGINT, i INT, x DOUBLE, s VARCHAR, b BOOLEAN, at TIMESTAMP, device ROW(serial VARCHAR, battery DOUBLE)) FROM TOPIC 't';
		DECLARE SINK k TO MARIADB 'everything' VIA race_db (KEY (id));
		CREATE JOB j AS SELECT id, i, x, s, b, at, CAST(at AS DATE) AS d, at - TIMESTAMP '2026-05-17' AS took, device FROM s ROUTE TO k;`)
	messages := []string{
		`{"id":1,"i":-5,"x":-81.25,"s":"größe 🏃 'quoted' \\ \"","b":true,"at":"2026-05-17T09:00:00.123456Z","device":{"serial":"PL-1","battery":0.5}}`,
		`{"id":2}`,
		`{"id":3,"i":2147483647,"x":1e300,"s":"","b":false,"at":"1970-01-02T00:00:00Z","device":{"serial":null}}`,
		`{"id":1,"i":6,"x":0.1,"s":"replaced","b":false,"at":"2026-05-17T10:00:00Z","device":null}`,
	}
	var ms []api.MessageRequest
	for _, m := range messages {
		ms = append(ms, api.MessageRequest{Value: m})
	}
	if err := p.Write(t.Context(), "t", ms[:3]); err != nil {
		t.Fatal(err)
	}
	rows := func() []string {
		return texts(t, db, "SELECT CONCAT_WS('|', id, COALESCE(i,'-'), COALESCE(x,'-'), COALESCE(s,'-'), COALESCE(b,'-'), COALESCE(at,'-'), COALESCE(d,'-'), COALESCE(took,'-'), COALESCE(device,'-'), extra) FROM everything ORDER BY id")
	}
	is := func(want ...string) {
		t.Helper()
		eventually(t, fmt.Sprintf("the table holds %q, not %q", want, rows()), func() bool { return strings.Join(rows(), "\n") == strings.Join(want, "\n") })
	}
	second := `2|-|-|-|-|-|-|-|-|7`
	third := `3|2147483647|1e300||0|1970-01-02 00:00:00.000000|1970-01-02|-1778889600000000|{"serial":null,"battery":null}|7`
	is(`1|-5|-81.25|größe 🏃 'quoted' \ "|1|2026-05-17 09:00:00.123456|2026-05-17|32400123456|{"serial":"PL-1","battery":0.5}|7`, second, third)
	if err := p.Write(t.Context(), "t", ms[3:]); err != nil {
		t.Fatal(err)
	}
	is(`1|6|0.1|replaced|0|2026-05-17 10:00:00.000000|2026-05-17|36000000000|-|7`, second, third)
}

// TestEventStreams reads the raw server-sent events of a job and of a query, and leaves in the middle:
// the service notices and goes on.
func TestEventStreams(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(declareReads + `CREATE TOPIC out (PARTITIONS 1); DECLARE SINK k TO TOPIC 'out';
		CREATE JOB j AS SELECT chip FROM reads ROUTE TO k;`)
	resp, err := http.Get(p.base + "/api/jobs/j/live")
	if err != nil {
		t.Fatal(err)
	}
	if ct := resp.Header.Get("Content-Type"); ct != "text/event-stream" {
		t.Errorf("content type %s", ct)
	}
	buf := make([]byte, 1<<16)
	events := bufio.NewScanner(resp.Body)
	events.Buffer(buf, 1<<20)
	var d jobs.JobDetail
	for seen := 0; seen < 2 || len(d.Status.Steps) == 0; { // the first may show the job as it starts
		if !events.Scan() {
			t.Fatal(events.Err())
		}
		data, ok := strings.CutPrefix(events.Text(), "data: ")
		if !ok {
			continue
		}
		if err := json.Unmarshal([]byte(data), &d); err != nil || d.Name != "j" {
			t.Fatalf("%v\n%s", err, data)
		}
		seen++
	}
	resp.Body.Close()
	// Many queries that are left alone must not add up.
	for range 20 {
		resp, err := http.Post(p.base+"/api/query", "application/json", strings.NewReader(`{"sql":"SELECT chip FROM reads"}`))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.ReadFull(resp.Body, buf[:20]); err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
	}
	time.Sleep(200 * time.Millisecond)
	p.write(nil)
	if h, err := p.Health(t.Context()); err != nil || !h.OK || h.Running != 1 {
		t.Errorf("%+v, %v", h, err)
	}
	began := time.Now()
	p.stop()
	if d := time.Since(began); d > 5*time.Second {
		t.Errorf("stopping took %s", d)
	}
}

// TestFinishedJob: a job over files comes to its end, keeps its ledger, and stays finished after a restart.
func TestFinishedJob(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	data := t.TempDir()
	reads := writeFile(t, data, "reads.ndjson", strings.Repeat(`{"chip":"P1","n":1}`+"\n", 5000))
	p := serve(t, dir)
	p.apply(fmt.Sprintf(`CREATE TOPIC out (PARTITIONS 1); DECLARE STREAM r (chip VARCHAR, n INT) FROM FILES '%s'; DECLARE SINK k TO TOPIC 'out';
		CREATE JOB j AS SELECT chip, SUM(n) AS n FROM r GROUP BY chip, w WINDOW w AS (TUMBLING 1 DAY) ROUTE TO k;`, reads))
	check := func() {
		t.Helper()
		eventually(t, "the job has finished", func() bool {
			d, err := p.Job(t.Context(), "j")
			return err == nil && d.State == "finished" && d.In == 5000 && d.Out == 1
		})
		if got := p.values("out"); len(got) != 1 || got[0] != `{"chip":"P1","n":5000}` {
			t.Errorf("%v", got)
		}
	}
	check()
	p.fiume("", "job", "start", "j").want(t, 1, "has finished")
	p.fiume("", "job", "stop", "j").want(t, 1, "already finished")
	p.stop()
	p = serve(t, dir)
	check()
	p.fiume("", "job", "drop", "j").want(t, 0, "dropped")
}

// TestRefusedRows: a row that MariaDB does not take stops the job, which says why and loses nothing, or is set aside with
// the reason where the sink says so.
func TestRefusedRows(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	address, db := raceDatabase(t)
	for _, name := range []string{"strict", "kind"} {
		if _, err := db.Exec("CREATE TABLE " + name + " (chip VARCHAR(4) NOT NULL, n INT)"); err != nil {
			t.Fatal(err)
		}
	}
	p.apply(p.endpoint(address) + `CREATE TOPIC t (PARTITIONS 1); DECLARE STREAM s (chip VARCHAR, n BIGINT) FROM TOPIC 't';
		DECLARE SINK strict TO MARIADB 'strict' VIA race_db;
		DECLARE SINK kind TO MARIADB 'kind' VIA race_db (BAD ROWS keep);
		CREATE JOB strict_job AS SELECT chip, n FROM s ROUTE TO strict SET (CHECKPOINT EVERY 200 MILLISECONDS);
		CREATE JOB kind_job AS SELECT chip, n FROM s ROUTE TO kind SET (CHECKPOINT EVERY 200 MILLISECONDS);`)
	var ms []api.MessageRequest
	for i := range 300 {
		chip := fmt.Sprintf("C%d", i%100)
		switch i {
		case 70:
			chip = "much too long"
		case 200:
			chip = ""
		}
		v := fmt.Sprintf(`{"chip":"%s","n":%d}`, chip, i)
		if i == 200 {
			v = `{"n":200}`
		}
		ms = append(ms, api.MessageRequest{Value: v})
	}
	if err := p.Write(t.Context(), "t", ms); err != nil {
		t.Fatal(err)
	}
	count := func(q string) (n int) {
		_ = db.QueryRow(q).Scan(&n)
		return n
	}
	eventually(t, "the good rows", func() bool { return count("SELECT COUNT(*) FROM kind") == 298 })
	if n := count("SELECT COUNT(*) FROM fiume_set_aside WHERE sink='kind' AND (reason LIKE '%Data too long%' AND content LIKE '%much too long%' OR reason LIKE '%cannot be null%')"); n != 2 {
		t.Errorf("%d rows are set aside with their reason", n)
	}
	eventually(t, "the ledger to count them", func() bool {
		j, err := p.Job(t.Context(), "kind_job")
		return err == nil && j.Rejects == 2 && j.Out == 298 && len(j.Samples) == 2 && j.State == "running"
	})
	eventually(t, "the strict job to say why it waits", func() bool {
		j, err := p.Job(t.Context(), "strict_job")
		return err == nil && j.State == "retrying" && strings.Contains(j.Reason, "Data too long")
	})
	if n := count("SELECT COUNT(*) FROM strict"); n != 0 {
		t.Errorf("%d rows of a transaction that failed are there", n)
	}
	if _, err := db.Exec("ALTER TABLE strict MODIFY chip VARCHAR(40) NULL"); err != nil {
		t.Fatal(err)
	}
	eventually(t, "all rows, once the table takes them", func() bool { return count("SELECT COUNT(*) FROM strict") == 300 })
}
