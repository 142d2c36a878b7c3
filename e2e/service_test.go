package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/demo"
	"fiume/internal/api"
	"fiume/internal/service/base"

	"github.com/getkin/kin-openapi/openapi3"
)

const declareReads = `CREATE TOPIC IF NOT EXISTS "mat-reads" (PARTITIONS 2);
DECLARE STREAM reads (chip VARCHAR NOT NULL, mat VARCHAR NOT NULL, read_at TIMESTAMP NOT NULL, seq BIGINT, rssi DOUBLE, device ROW(serial VARCHAR, battery DOUBLE))
EVENT TIME read_at DELAY 5 SECONDS FROM TOPIC 'mat-reads' (FORMAT json);
`

func (p *process) apply(sql string) api.ApplyResponse {
	p.t.Helper()
	r, err := p.Apply(p.t.Context(), api.ScriptRequest{SQL: sql})
	if err != nil {
		p.t.Fatal(err)
	}
	if r.Problem != nil {
		p.t.Fatal(r.Problem)
	}
	return r
}

// write puts a day's reads into the topic.
func (p *process) write(ms []demo.Message) {
	p.t.Helper()
	var out []api.MessageRequest
	for _, m := range ms {
		if m.Topic == "mat-reads" {
			k := m.Key
			out = append(out, api.MessageRequest{Key: &k, Value: string(m.Value)})
		}
	}
	if err := p.Write(p.t.Context(), "mat-reads", out); err != nil {
		p.t.Fatal(err)
	}
}

func (p *process) values(topic string) []string {
	p.t.Helper()
	r := p.fiume("", "topic", "read", topic, "--limit", "100000", "--output", "value")
	return lines(r.out)
}

// query runs a bounded query through the client.
func (p *process) query(sql string) []string {
	p.t.Helper()
	var rows []string
	_, err := p.Query(p.t.Context(), api.ScriptRequest{SQL: sql}, func([]base.Column) error { return nil }, func(r json.RawMessage) error {
		rows = append(rows, string(r))
		return nil
	}, nil)
	if err != nil {
		p.t.Fatalf("%s: %v", sql, err)
	}
	return rows
}

// TestServiceLife goes through a working day with the client: topics, definitions, a live query, a job,
// stopping and starting it, a restart of the service, dropping.
func TestServiceLife(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p := serve(t, dir)
	h, err := p.Health(t.Context())
	if err != nil || !h.OK || !h.Private {
		t.Fatalf("%+v, %v", h, err)
	}
	if jobs, err := p.Jobs(t.Context()); err != nil || len(jobs) != 0 {
		t.Fatalf("%v, %v", jobs, err)
	}
	day := demo.Day{Seed: 3, Runners: 60}.Messages()
	p.apply(declareReads + `CREATE TOPIC "strong-reads" (PARTITIONS 1);
		DECLARE SINK strong TO TOPIC 'strong-reads' (KEY (chip));
		CREATE JOB filter AS SELECT chip, mat, read_at, seq FROM reads WHERE rssi > -60 ROUTE TO strong SET (CHECKPOINT EVERY 300 MILLISECONDS);`)
	if o := p.apply(declareReads).Outcomes; len(o) != 2 || o[0].Done != "unchanged" || o[1].Done != "unchanged" {
		t.Errorf("applied again: %+v", o)
	}

	// A live query sees what comes after it began.
	ctx, cancel := context.WithCancel(t.Context())
	live := make(chan string, 100000)
	began := make(chan bool, 1)
	go func() {
		_, _ = p.Query(ctx, api.ScriptRequest{SQL: "SELECT chip, seq FROM reads WHERE mat = 'start'"}, func([]base.Column) error { began <- true; return nil },
			func(r json.RawMessage) error { live <- string(r); return nil }, nil)
		close(live)
	}()
	<-began
	time.Sleep(200 * time.Millisecond)
	half := len(day) / 2
	p.write(day[:half])
	eventually(t, "rows of the live query", func() bool { return len(live) > 50 })
	cancel()
	for range live {
	}

	want := p.query("SELECT chip, mat, read_at, seq FROM reads SINCE BEGINNING WHERE rssi > -60 UNTIL NOW")
	eventually(t, "rows in the sink", func() bool { return len(p.values("strong-reads")) == len(want) })
	got := p.values("strong-reads")
	slices.Sort(want)
	slices.Sort(got)
	if !slices.Equal(want, got) {
		t.Fatalf("%d rows in the topic, %d wanted", len(got), len(want))
	}

	if err := p.StopJob(t.Context(), "filter"); err != nil {
		t.Fatal(err)
	}
	p.write(day[half:])
	var problem *api.Problem
	if err := p.StopJob(t.Context(), "filter"); !errors.As(err, &problem) || problem.Status != http.StatusConflict {
		t.Errorf("stopped twice: %v", err)
	}
	if d, err := p.Job(t.Context(), "filter"); err != nil || d.State != "stopped" || d.In == 0 {
		t.Errorf("a stopped job keeps its ledger: %+v, %v", d, err)
	}
	p.stop()

	p = serve(t, dir) // definitions and the stopped job are there again
	if d, err := p.Job(t.Context(), "filter"); err != nil || d.State != "stopped" {
		t.Fatalf("%+v, %v", d, err)
	}
	if err := p.StartJob(t.Context(), "filter"); err != nil {
		t.Fatal(err)
	}
	want = p.query("SELECT chip, mat, read_at, seq FROM reads SINCE BEGINNING WHERE rssi > -60 UNTIL NOW")
	eventually(t, "all rows in the sink", func() bool { return len(p.values("strong-reads")) >= len(want) })
	got = p.values("strong-reads")
	slices.Sort(want)
	slices.Sort(got)
	if !slices.Equal(want, got) { // an orderly stop repeats nothing
		t.Fatalf("%d rows in the topic, %d wanted", len(got), len(want))
	}
	if err := p.DropTopic(t.Context(), "mat-reads"); !errors.As(err, &problem) || problem.Status != http.StatusConflict || !strings.Contains(problem.Detail, "filter") {
		t.Errorf("a topic in use was dropped: %v", err)
	}
	if _, err := p.Apply(t.Context(), api.ScriptRequest{SQL: "DROP STREAM reads;"}); !errors.As(err, &problem) || len(problem.Diagnostics) != 1 || problem.Diagnostics[0].Code != "in-use" {
		t.Errorf("a stream in use was dropped: %v", err)
	}
	p.apply("DROP JOB filter; DROP SINK strong; DROP STREAM reads; DROP TOPIC \"mat-reads\";")
	if jobs, _ := p.Jobs(t.Context()); len(jobs) != 0 {
		t.Errorf("%v", jobs)
	}
	acts, err := p.Activity(t.Context(), 50)
	if err != nil || len(acts) < 8 || acts[0].Action != "dropped" {
		t.Errorf("activity: %+v, %v", acts, err)
	}
	p.stop()
}

// TestKilledService kills the service without warning, again and again, while messages come in: at
// the end no result is missing, in the topic, in the files and in the table, and no result differs
// from an uninterrupted run's.
func TestKilledService(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	archive := filepath.Join(dir, "archive")
	p := serve(t, filepath.Join(dir, "data"))
	address, db := raceDatabase(t)
	day := demo.Day{Seed: 5, Runners: 250}.Messages()
	const query = `SELECT mat, w.opens AS opened, w.closes AS closed, COUNT(*) AS runners FROM reads%s GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE)`
	r, err := p.Apply(t.Context(), api.ScriptRequest{SQL: declareReads + p.endpoint(address) + `CREATE TOPIC counts (PARTITIONS 1);
		DECLARE SINK counts_topic TO TOPIC 'counts';
		DECLARE SINK counts_files TO FILES :archive (ROLL EVERY 1 SECOND);
		DECLARE SINK counts_table TO MARIADB 'crowding' VIA race_db (KEY (mat, opened));
		CREATE JOB counting AS ` + fmt.Sprintf(query, "") + ` ROUTE TO counts_topic, counts_files, counts_table SET (CHECKPOINT EVERY 200 MILLISECONDS);`,
		Params: map[string]string{"archive": archive}})
	if err != nil || r.Problem != nil {
		t.Fatal(err, r.Problem)
	}
	parts := 8
	for i := range parts {
		p.write(day[len(day)*i/parts : len(day)*(i+1)/parts])
		time.Sleep(time.Duration(100+70*i) * time.Millisecond)
		p.kill()
		p = serve(t, filepath.Join(dir, "data"))
	}
	want := p.query(fmt.Sprintf(query, " SINCE BEGINNING") + " UNTIL NOW")
	// The windows still open when the messages end are closed by one message of the next day.
	last := demo.Day{Seed: 5, Runners: 40, Start: demo.FirstStart.AddDate(0, 0, 1)}.Messages()
	p.write(last)
	topic := map[string]bool{}
	eventually(t, "all results in the topic", func() bool {
		for _, v := range p.values("counts") {
			topic[v] = true
		}
		for _, w := range want {
			if !topic[w] {
				return false
			}
		}
		return true
	})
	if err := p.StopJob(t.Context(), "counting"); err != nil {
		t.Fatal(err)
	}
	p.stop()
	p = serve(t, filepath.Join(dir, "data")) // a part left open is moved into place when the job starts
	if err := p.StartJob(t.Context(), "counting"); err != nil {
		t.Fatal(err)
	}
	var files map[string]bool
	eventually(t, "all results in the files", func() bool {
		files = map[string]bool{}
		names, _ := filepath.Glob(filepath.Join(archive, "part-*"))
		for _, n := range names {
			b, err := os.ReadFile(n)
			if err != nil {
				t.Fatal(err)
			}
			for _, l := range lines(string(b)) {
				if !json.Valid([]byte(l)) {
					t.Fatalf("%s holds a torn row: %s", n, l)
				}
				files[l] = true
			}
		}
		for _, w := range want {
			if !files[w] {
				return false
			}
		}
		return true
	})
	table := tableRows(t, db)
	for _, w := range want {
		var row struct {
			Mat, Opened string
			Runners     int64
		}
		if err := json.Unmarshal([]byte(w), &row); err != nil {
			t.Fatal(err)
		}
		opened, err := time.Parse(time.RFC3339Nano, row.Opened)
		if err != nil {
			t.Fatal(err)
		}
		k := row.Mat + " " + opened.Format("2006-01-02 15:04:05")
		if table[k] != row.Runners {
			t.Errorf("the table has %d runners for %s, wanted %d", table[k], k, row.Runners)
		}
	}
	d, err := p.Job(t.Context(), "counting")
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range d.Status.Steps {
		if s.Kind == "scan" && s.Counts.In != int64(countReads(day)+countReads(last)) {
			t.Errorf("the ledger counts %d messages, %d were written", s.Counts.In, countReads(day)+countReads(last))
		}
	}
}

func countReads(ms []demo.Message) (n int) {
	for _, m := range ms {
		if m.Topic == "mat-reads" {
			n++
		}
	}
	return n
}

// TestWrongInput: each thing that can be wrong gives one clear message and the right status.
func TestWrongInput(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	address, _ := raceDatabase(t)
	if err := p.SetSecret(t.Context(), "away_db", "x"); err != nil {
		t.Fatal(err)
	}
	p.apply(declareReads + p.endpoint(address) + `DECLARE ENDPOINT away MARIADB 'race@127.0.0.1:1/race' SECRET 'away_db';
		DECLARE ENDPOINT no_secret MARIADB 'race@private/race' SECRET 'nothing';
		DECLARE SINK no_table TO MARIADB 'crowds' VIA race_db;
		DECLARE SINK crowding TO MARIADB 'crowding' VIA race_db (KEY (mat, opened));
		DECLARE SINK bad_key TO MARIADB 'crowding' VIA race_db (KEY (mat));
		DECLARE SINK unreachable TO MARIADB 'crowding' VIA away;
		DECLARE SINK unsecret TO MARIADB 'crowding' VIA no_secret;
		DECLARE SINK no_topic TO TOPIC 'nowhere';`)
	for _, c := range []struct{ sql, code, text string }{
		{"SELECT 1;", "syntax", "FROM"},
		{"CREATE JOB j AS SELECT chip FROM reads ROUTE TO no_table;", "misfit", "one that fits is: CREATE TABLE `crowds` (`chip` TEXT)"},
		{"CREATE JOB j AS SELECT chip, mat FROM reads ROUTE TO crowding;", "misfit", "the table crowding has no column chip"},
		{"CREATE JOB j AS SELECT mat, read_at AS opened, read_at AS closed, chip AS runners FROM reads ROUTE TO crowding;", "misfit", "the column runners is bigint, the rows have VARCHAR"},
		{"CREATE JOB j AS SELECT mat, read_at AS opened FROM reads ROUTE TO crowding;", "misfit", "the column closed is NOT NULL"},
		{"CREATE JOB j AS SELECT mat, read_at AS opened, read_at AS closed, seq AS runners FROM reads ROUTE TO bad_key;", "misfit", "no unique key over (mat)"},
		{"CREATE JOB j AS SELECT mat FROM reads ROUTE TO unreachable;", "misfit", "cannot be reached"},
		{"CREATE JOB j AS SELECT mat FROM reads ROUTE TO unsecret;", "misfit", "there is no secret 'nothing'"},
		{"CREATE JOB j AS SELECT mat FROM reads ROUTE TO no_topic;", "misfit", "there is no topic 'nowhere'"},
		{"DROP STREAM raeds;", "unknown-name", "no stream is called"},
		{"DECLARE STREAM reads (a INT) FROM TOPIC 'x';", "duplicate-name", "already a stream"},
		{"CREATE TOPIC t (PARTITONS 3);", "unknown-option", "PARTITONS"},
		{"DECLARE STREAM x (a INT) FROM TOPIC 'x'; SELECT a FROM x;", "wrong-place", "live query"},
	} {
		_, err := p.Apply(t.Context(), api.ScriptRequest{SQL: c.sql})
		var problem *api.Problem
		if !errors.As(err, &problem) || problem.Status != http.StatusUnprocessableEntity || len(problem.Diagnostics) != 1 || string(problem.Diagnostics[0].Code) != c.code || !strings.Contains(problem.Detail, c.text) {
			t.Errorf("%s: %v", c.sql, err)
		}
	}
	if jobs, _ := p.Jobs(t.Context()); len(jobs) != 0 {
		t.Errorf("a wrong job was created: %v", jobs)
	}
	get := func(method, path, body string, head map[string]string) (int, string) {
		t.Helper()
		req, err := http.NewRequest(method, p.base+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		if body != "" {
			req.Header.Set("Content-Type", "application/json")
		}
		for k, v := range head {
			if k == "Host" {
				req.Host = v
			}
			req.Header.Set(k, v)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, string(b)
	}
	for _, c := range []struct {
		method, path, body string
		head               map[string]string
		status             int
		text               string
	}{
		{"GET", "/api/jobs/nothing", "", nil, 404, `no job is called \"nothing\"`},
		{"GET", "/api/topics/mat-raeds", "", nil, 404, "did you mean 'mat-reads'?"},
		{"GET", "/api/nothing", "", nil, 404, "no such call"},
		{"GET", "/api/topics/mat-reads/messages?limit=0", "", nil, 422, "limit"},
		{"GET", "/api/topics/mat-reads/messages?partition=9", "", nil, 404, "partitions 0 to 1"},
		{"POST", "/api/topics", `{"name":"../x"}`, nil, 400, "letters"},
		{"POST", "/api/topics", `{"name":"mat-reads"}`, nil, 409, "already"},
		{"POST", "/api/apply", `{"sql":`, nil, 400, "unexpected"},
		{"POST", "/api/apply", `{"sql":"SHOW JOBS;","extra":1}`, nil, 422, "extra"},
		{"POST", "/api/query", `{"sql":"SELECT nothing FROM reads"}`, nil, 422, "unknown-name"},
		{"POST", "/api/query", `{"sql":"SHOW JOBS"}`, nil, 422, "expected a SELECT"},
		{"GET", "/api/jobs", "", map[string]string{"Host": "race.example"}, 403, "from this machine"},
		{"GET", "/api/jobs", "", map[string]string{"Origin": "http://race.example"}, 403, "from this machine"},
		{"GET", "/jobs/any/page", "", nil, 200, "<div id=\"root\">"},
	} {
		if status, body := get(c.method, c.path, c.body, c.head); status != c.status || !strings.Contains(body, c.text) {
			t.Errorf("%s %s %s: %d %s", c.method, c.path, c.body, status, body)
		}
	}
	_, doc := get("GET", "/openapi.json", "", nil)
	loaded, err := openapi3.NewLoader().LoadFromData([]byte(doc))
	if err != nil {
		t.Fatal(err)
	}
	if loaded.Paths.Find("/api/jobs/{name}") == nil || loaded.Paths.Len() < 14 {
		t.Errorf("the document lacks paths: %v", loaded.Paths.Keys())
	}
	for name, schema := range loaded.Components.Schemas { // passwords are sent, and never told
		if _, has := schema.Value.Properties["password"]; has && !slices.Contains([]string{"SignInRequest", "UserRequest", "AcceptRequest"}, name) {
			t.Errorf("the document speaks of a password in %s", name)
		}
	}
}

// TestRetry takes a sink's table away while a job runs: the job says what is wrong and tries again,
// and when the table is back nothing is missing.
func TestRetry(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	address, db := raceDatabase(t)
	p.apply(declareReads + p.endpoint(address) + `
		DECLARE SINK crowding TO MARIADB 'crowding' VIA race_db (KEY (mat, opened));
		CREATE JOB j AS SELECT mat, read_at AS opened, read_at AS closed, seq AS runners FROM reads ROUTE TO crowding SET (CHECKPOINT EVERY 200 MILLISECONDS);`)
	day := demo.Day{Seed: 1, Runners: 20}.Messages()
	p.write(day[:len(day)/2])
	eventually(t, "rows in the table", func() bool { return len(tableRows(t, db)) > 5 })
	if _, err := db.Exec("RENAME TABLE crowding TO elsewhere"); err != nil {
		t.Fatal(err)
	}
	p.write(day[len(day)/2:])
	eventually(t, "the job retries and says why", func() bool {
		d, err := p.Job(t.Context(), "j")
		return err == nil && d.State == "retrying" && strings.Contains(d.Reason, "crowding")
	})
	eventually(t, "the list says so, too", func() bool { // it may just run again, until it finds the table missing
		return strings.Contains(p.fiume("", "job", "list").out, "retrying because")
	})
	if _, err := db.Exec("RENAME TABLE elsewhere TO crowding"); err != nil {
		t.Fatal(err)
	}
	want := p.query("SELECT mat, read_at FROM reads SINCE BEGINNING UNTIL NOW")
	keys := map[string]bool{}
	for _, w := range want {
		keys[w] = true
	}
	eventually(t, "all rows in the table", func() bool {
		var n int
		return db.QueryRow("SELECT COUNT(*) FROM crowding").Scan(&n) == nil && n == len(keys)
	})
}

// TestStartErrors: what keeps a service from starting is said in one clear message.
func TestStartErrors(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	fiume(t, "", "serve", "--dir", t.TempDir(), "--listen", l.Addr().String()).want(t, 1, "already in use", "--listen 127.0.0.1:0")
	fiume(t, "", "serve", "--dir", t.TempDir(), "--listen", "0.0.0.0:0").want(t, 2, "give --tls-cert and --tls-key, or listen at 127.0.0.1")
	fiume(t, "", "serve", "--dir", t.TempDir(), "--listen", "7171").want(t, 2, "host:port")
	t.Setenv("FIUME_MARIADBD", "/nowhere/mariadbd")
	fiume(t, "", "serve", "--dir", t.TempDir(), "--listen", "127.0.0.1:0").want(t, 1, "MariaDB is not installed", "apt-get install mariadb-server", "--dsn")
	t.Setenv("FIUME_MARIADBD", "")
	fiume(t, "", "serve", "--dir", t.TempDir(), "--listen", "127.0.0.1:0", "--dsn", "a:b@tcp(127.0.0.1:1)/fiume").want(t, 1, "cannot be opened", "127.0.0.1:1")
	dir := t.TempDir()
	p := serve(t, dir)
	fiume(t, "", "serve", "--dir", dir, "--listen", "127.0.0.1:0").want(t, 1, "in use by another process")
	p.stop()
}
