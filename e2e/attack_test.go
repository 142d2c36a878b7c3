package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"fiume/internal/api"
)

// send makes a request as anybody could, and gives status and body.
func (p *process) request(method, path, body string, headers ...string) (int, string) {
	p.t.Helper()
	req, err := http.NewRequestWithContext(p.t.Context(), method, p.base+path, strings.NewReader(body))
	if err != nil {
		p.t.Fatal(err)
	}
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		if req.Header.Del(headers[i]); headers[i+1] != "" {
			req.Header.Set(headers[i], headers[i+1])
		}
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		p.t.Fatalf("%s %s: %v\n%s", method, path, err, p.err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, 64<<20))
	if err != nil {
		p.t.Fatal(err)
	}
	return resp.StatusCode, string(b)
}

// memory is what the process takes, in MB.
func (p *process) memory() int {
	b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	for line := range strings.Lines(string(b)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.Atoi(strings.Fields(rest)[0])
			return kb >> 10
		}
	}
	return 0
}

// TestPoison: rows and questions that make too much, or that could be worked on for ever, end themselves. The service, the
// jobs beside them and their own jobs go on, and come up again.
func TestPoison(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p := serve(t, dir)
	p.apply(`CREATE TOPIC p (PARTITIONS 1); CREATE TOPIC po (PARTITIONS 1); CREATE TOPIC q (PARTITIONS 1);
		DECLARE STREAM p (id BIGINT, t VARCHAR, u VARCHAR, n BIGINT, note JSON) FROM TOPIC 'p'; DECLARE SINK po TO TOPIC 'po'; DECLARE SINK q TO TOPIC 'q';
		CREATE JOB pj AS SELECT id, CHAR_LENGTH(REPLACE(t, 'a', u)) AS r, CHAR_LENGTH(REPEAT(t, n)) AS e, CAST(note AS VARCHAR) AS note FROM p ROUTE TO po;
		CREATE JOB unnests AS SELECT id, a, b FROM p CROSS JOIN UNNEST(SPLIT(REPEAT(u, 1000000), ',')) AS x (a) CROSS JOIN UNNEST(SPLIT(REPEAT(u, 1000000), ',')) AS y (b) WHERE id = 7 AND a = b AND n = -5 ROUTE TO q;`)
	long := strings.Repeat("a", 1_000_000)
	rows := []string{`{"id":1,"t":"ab","u":"x","n":2,"note":5}`, `{"id":2,"t":"ab","u":"x","n":2,"note":null}`,
		fmt.Sprintf(`{"id":3,"t":%q,"u":%q,"n":1}`, long, strings.ReplaceAll(long, "a", "b")), `{"id":4,"t":"","u":"","n":9223372036854775807}`,
		`{"id":5,"t":"ab","u":"x","n":9223372036854775807}`, `{"id":6,"t":"ab","u":"x","n":1,"note":{"a":[null]}}`, `{"id":7,"t":"a","u":"a,","n":1}`}
	for _, r := range rows {
		if err := p.Write(t.Context(), "p", []api.MessageRequest{{Value: r}}); err != nil {
			t.Fatal(err)
		}
	}
	want := `{"id":1,"r":2,"e":4,"note":"5"}{"id":2,"r":2,"e":4,"note":null}{"id":4,"r":0,"e":0,"note":null}{"id":6,"r":2,"e":2,"note":"{\"a\":[null]}"}{"id":7,"r":2,"e":1,"note":null}`
	eventually(t, "the job to give the good rows", func() bool { return strings.Join(p.values("po"), "") == want })
	job, err := p.Job(t.Context(), "pj")
	if err != nil || job.Rejects != 2 || job.State != "running" {
		t.Errorf("%+v %v", job.JobInfo, err)
	}
	// A row that becomes a million million is worked on for as long as it is wanted, and no longer.
	p.fiume("", "job", "stop", "unnests").want(t, 0)
	p.fiume("", "job", "drop", "unnests").want(t, 0)
	for _, q := range []string{
		`SELECT REPLACE(REPEAT('a',1000000),'a',REPEAT('b',100000)) AS c FROM p;`,
		`SELECT TRANSLATE_REGEX('a', REPEAT('a',1000000), REPEAT('b',100000)) AS c FROM p;`,
		"SELECT " + strings.Repeat("CONCAT(", 60) + "t" + strings.Repeat(",t)", 60) + " AS c FROM p;",
		"SELECT " + strings.TrimSuffix(strings.Repeat("REPEAT('a',16000000) || t,", 400), ",") + " FROM p;",
		"SELECT " + strings.Repeat("NULLIF(", 60) + "id" + strings.Repeat(",1)", 60) + " AS c FROM p;",
		"SELECT id" + strings.Repeat(".a", 250_000) + " FROM p;", strings.Repeat("\x01", 900_000), strings.Repeat(";", 1_000_000), strings.Repeat("SELECT 1;", 100_000),
		"SELECT id FROM p WHERE id IN (" + strings.TrimSuffix(strings.Repeat("1234567,", 40_000), ",") + ");",
	} {
		body, _ := json.Marshal(map[string]string{"sql": q})
		if status, answer := p.request("POST", "/api/check", string(body)); status != 200 {
			t.Errorf("%.60s: %d %.300s", q, status, answer)
		}
	}
	q := "SELECT c FROM p"
	for range 40 {
		q = "SELECT c + c AS c FROM (" + strings.Replace(q, "SELECT c FROM p", "SELECT id AS c FROM p", 1) + ")"
	}
	p.query(q + " UNTIL NOW;")
	for _, bad := range []string{`{"sql":` + strings.Repeat("[", 100_000), strings.Repeat(`{"a":`, 300_000), `{"sql":"` + strings.Repeat("x", 9<<20) + `"}`} {
		if status, answer := p.request("POST", "/api/check", bad); status < 400 || status >= 500 || len(answer) > 10_000 {
			t.Errorf("%.30s: %d, %d bytes of answer", bad, status, len(answer))
		}
	}
	for _, bad := range []string{"[" + strings.TrimSuffix(strings.Repeat("{},", 80_000), ",") + "]", "[" + strings.TrimSuffix(strings.Repeat("0,", 1_000_000), ",") + "]", `{}`, `[{"value":"a","hidden":"geheim"}]`} {
		if status, answer := p.request("POST", "/api/topics/q/messages", bad); status != 400 && status != 422 || len(answer) > 2000 || strings.Contains(answer, "geheim") {
			t.Errorf("%.30s: %d %.300s", bad, status, answer)
		}
	}
	if mb := p.memory(); mb > 1500 {
		t.Errorf("the service takes %d MB", mb)
	}
	p.kill()
	p = serve(t, dir)
	eventually(t, "the job to run again", func() bool { j, err := p.Job(t.Context(), "pj"); return err == nil && j.State == "running" })
	if got := strings.Join(p.values("po"), ""); got != want {
		t.Errorf("after a kill: %s", got)
	}
}

// TestDamagedTopic flips a bit in a topic's file while the service is down: what lies behind is kept, a job that reads on
// counts what is lost, new messages are all read, and everybody is told.
func TestDamagedTopic(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p := serve(t, dir)
	p.apply(`CREATE TOPIC t (PARTITIONS 1); CREATE TOPIC o (PARTITIONS 1); CREATE TOPIC other (PARTITIONS 1);
		DECLARE STREAM t (n BIGINT) FROM TOPIC 't'; DECLARE SINK o TO TOPIC 'o'; CREATE JOB j AS SELECT n FROM t ROUTE TO o SET (CHECKPOINT EVERY 100 MILLISECONDS);`)
	n := 0
	write := func(count int) {
		t.Helper()
		for range count / 10 {
			var ms []api.MessageRequest
			for range 10 {
				ms = append(ms, api.MessageRequest{Value: fmt.Sprintf(`{"n":%d}`, n)})
				n++
			}
			if err := p.Write(t.Context(), "t", ms); err != nil {
				t.Fatal(err)
			}
		}
	}
	write(500)
	eventually(t, "the job to read", func() bool { return len(p.values("o")) == 500 })
	p.fiume("", "job", "stop", "j").want(t, 0)
	write(500)
	p.stop()
	file := filepath.Join(dir, "topics", "t", "0", fmt.Sprintf("%020d.log", 0))
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	b[len(b)*3/4] ^= 4
	if err := os.WriteFile(file, b, 0o644); err != nil {
		t.Fatal(err)
	}
	p = serve(t, dir)
	write(500)
	p.fiume("", "job", "start", "j").want(t, 0)
	eventually(t, "the job to read what is left and what is new", func() bool { return len(p.values("o")) == 1490 })
	j, err := p.Job(t.Context(), "j")
	if err != nil || j.Lost != 10 || j.State != "running" {
		t.Errorf("%+v %v", j.JobInfo, err)
	}
	if !strings.Contains(p.err.String(), "messages of a topic are lost") || !strings.Contains(p.err.String(), "topic=t") {
		t.Errorf("nothing is said: %s", p.err)
	}
	if _, answer := p.request("GET", "/api/topics/t", ""); !strings.Contains(answer, `"lost":[{"from":`) {
		t.Errorf("%s", answer)
	}
}

// TestWritesOnce: a batch with a name is there once, bytes stay what they are, and answers and calls are bounded by bytes.
func TestWritesOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p := serve(t, dir)
	p.apply(`CREATE TOPIC t (PARTITIONS 3);`)
	body := `[{"value":"a"},{"key":"k","value":"b"},{"bytes":"QW5kcuk="}]`
	for i := range 3 {
		status, answer := p.request("POST", "/api/topics/t/messages?batch=x/1", body)
		if status != 200 || strings.Contains(answer, `"again":true`) != (i > 0) {
			t.Errorf("%d %s", status, answer)
		}
		if i == 1 {
			p.kill()
			p = serve(t, dir)
		}
	}
	ms, err := p.Read(t.Context(), "t", url.Values{})
	if err != nil || len(ms) != 3 {
		t.Fatalf("%+v %v", ms, err)
	}
	for _, m := range ms {
		if m.Bytes != nil && string(m.Bytes) != "Andr\xe9" {
			t.Errorf("%q", m.Bytes)
		}
	}
	// From the command line: bytes as they are, large lines, and no line without an answer.
	p.fiume("Andr\xe9\nplain\n", "topic", "write", "t").want(t, 0, "2 messages written")
	if status, answer := p.request("POST", "/api/topics/t/messages", "[{\"value\":\"Andr\xe9\"}]"); status < 400 || !strings.Contains(answer, "no UTF-8") {
		t.Errorf("%d %s", status, answer)
	}
	large := strings.Repeat(strings.Repeat("x", 1<<20)+"\n", 100)
	p.fiume(large, "topic", "write", "t").want(t, 0, "100 messages written")
	if status, answer := p.request("GET", "/api/topics/t/messages?limit=100000", ""); status != 200 || len(answer) > 12<<20 || !strings.Contains(answer[len(answer)-100:], `"cut":true`) {
		t.Errorf("%d, %d bytes", status, len(answer))
	}
	p.fiume(strings.Repeat("x", 33<<20)+"\n", "topic", "write", "t").want(t, 1, "longer than 32 MB")
}

// TestGuarded: what pages of other sites could have a browser send is refused, files outside of the directories are not read
// or written, a secret goes to one address, and nothing that may be a secret is echoed.
func TestGuarded(t *testing.T) {
	t.Parallel()
	files := t.TempDir()
	outside := writeFile(t, t.TempDir(), "secret.txt", "geheim\n")
	inside := writeFile(t, files, "in.json", `{"a":1}`+"\n")
	p := start(t, "serve", "--dir", t.TempDir(), "--listen", "127.0.0.1:0", "--files", files)
	own := strings.TrimPrefix(p.base, "http://")
	for _, c := range []struct {
		method, path, body string
		headers            []string
		status             int
	}{
		{"POST", "/api/apply", `{"sql":"CREATE TOPIC a (PARTITIONS 1);"}`, []string{"Origin", "http://127.0.0.1:1"}, 403},
		{"POST", "/api/apply", `{"sql":"CREATE TOPIC a (PARTITIONS 1);"}`, []string{"Origin", "null"}, 403},
		{"POST", "/api/apply", `{"sql":"CREATE TOPIC a (PARTITIONS 1);"}`, []string{"Content-Type", ""}, 415},
		{"POST", "/api/apply", `{"sql":"CREATE TOPIC a (PARTITIONS 1);"}`, []string{"Content-Type", "text/plain"}, 415},
		{"POST", "/api/jobs/x/stop", "", []string{"Origin", "http://localhost:3000"}, 403},
		{"GET", "/api/topics", "", []string{"Sec-Fetch-Site", "cross-site"}, 403},
		{"GET", "/api/topics", "", []string{"Sec-Fetch-Site", "same-site"}, 403},
		{"GET", "/", "", []string{"Sec-Fetch-Site", "cross-site"}, 200},
		{"GET", "/api/topics", "", []string{"Sec-Fetch-Site", "same-origin", "Origin", "http://" + own}, 200},
		{"POST", "/api/apply", `{"sql":"CREATE TOPIC a (PARTITIONS 1);"}`, []string{"Origin", "http://" + own, "Sec-Fetch-Site", "same-origin"}, 200},
	} {
		if status, answer := p.request(c.method, c.path, c.body, c.headers...); status != c.status {
			t.Errorf("%s %s %v: %d, wanted %d: %.200s", c.method, c.path, c.headers, status, c.status, answer)
		}
	}
	for _, address := range []string{outside, "/etc/passwd", files + "/../../etc/passwd", "/dev/zero"} {
		for _, path := range []string{"/api/samples", "/api/propose"} {
			body, _ := json.Marshal(map[string]string{"file": address, "format": "text"})
			if status, answer := p.request("POST", path, string(body)); status < 400 || strings.Contains(answer, "geheim") || !strings.Contains(answer, "outside of the directories") {
				t.Errorf("%s %s: %d %s", path, address, status, answer)
			}
		}
		sampled, _ := json.Marshal(map[string]string{"sql": fmt.Sprintf("DECLARE STREAM z COLUMNS SAMPLED FROM FILES '%s' (FORMAT text);", address)})
		if _, answer := p.request("POST", "/api/apply", string(sampled)); !strings.Contains(answer, "outside of the directories") {
			t.Errorf("%s: %s", address, answer)
		}
		declared := fmt.Sprintf("DECLARE STREAM z%d (a VARCHAR) FROM FILES '%s' (FORMAT text); DECLARE SINK k%[1]d TO FILES '%[2]s';", rand.IntN(1e9), address)
		job := writeFile(t, t.TempDir(), "j.sql", declared+" CREATE JOB bad AS SELECT a FROM "+strings.Fields(declared)[2]+" ROUTE TO "+strings.Fields(strings.SplitN(declared, ";", 2)[1])[2]+";")
		p.fiume("", "apply", job).want(t, 3, "outside of the directories")
	}
	if err := syscall.Mkfifo(filepath.Join(files, "pipe"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, answer := p.request("POST", "/api/samples", `{"file":"pipe"}`); !strings.Contains(answer, "no regular file") {
		t.Errorf("a pipe: %s", answer)
	}
	if status, answer := p.request("POST", "/api/samples", fmt.Sprintf(`{"file":%q}`, inside)); status != 200 {
		t.Errorf("%d %s", status, answer)
	}
	// Two jobs into one directory.
	two := writeFile(t, t.TempDir(), "two.sql", fmt.Sprintf(`CREATE TOPIC IF NOT EXISTS a (PARTITIONS 1); DECLARE STREAM s (a BIGINT) FROM TOPIC 'a'; DECLARE SINK f TO FILES '%[1]s/out'; DECLARE SINK g TO FILES '%[1]s/./out';
		CREATE JOB one AS SELECT a FROM s ROUTE TO f;`, files))
	p.fiume("", "apply", two).want(t, 0)
	for _, sink := range []string{"f", "g"} {
		second := writeFile(t, t.TempDir(), "second.sql", "CREATE JOB two AS SELECT a FROM s ROUTE TO "+sink+";")
		p.fiume("", "apply", second).want(t, 3, `the job "one" writes into the directory`)
	}
	// Secrets.
	p.fiume("Geheim-42", "secret", "set", "prod").want(t, 0)
	endpoint := func(name, address string) string {
		return fmt.Sprintf("DECLARE ENDPOINT %s MARIADB '%s' SECRET 'prod';", name, address)
	}
	p.apply(endpoint("good", "u@127.0.0.1:1/d") + endpoint("rogue", "u@127.0.0.1:2/d"))
	test := func(name string) string {
		_, answer := p.request("POST", "/api/connections", fmt.Sprintf(`{"names":[%q]}`, name))
		return answer
	}
	if answer := test("good"); !strings.Contains(answer, "refused") {
		t.Errorf("%s", answer)
	}
	if answer := test("rogue"); !strings.Contains(answer, "belongs to u@127.0.0.1:1") {
		t.Errorf("%s", answer)
	}
	passwords := writeFile(t, t.TempDir(), "p.sql", "DECLARE ENDPOINT e MARIADB 'u:PASS@h/d';")
	if r := p.fiume("", "apply", passwords).want(t, 3, "a password does not belong into the address"); strings.Contains(r.err, "u:PASS@h/d]") {
		t.Errorf("%s", r.err)
	}
	if status, answer := p.request("PUT", "/api/secrets/x", `{"value":5,"other":"Geheim-43"}`); status < 400 || strings.Contains(answer, "Geheim") {
		t.Errorf("%d %s", status, answer)
	}
	for _, path := range []string{"/api/activity", "/api/definitions", "/api/secrets"} {
		if _, answer := p.request("GET", path, ""); strings.Contains(answer, "Geheim") || strings.Contains(answer, "PASS") {
			t.Errorf("%s: %s", path, answer)
		}
	}
	if _, answer := p.request("POST", "/api/try/test", `{"name":"x","sql":"DECLARE STREAM \"../../../x\" (a BIGINT) FROM TOPIC 'a'; SELECT a FROM \"../../../x\";"}`); !strings.Contains(answer, "no file can have") {
		t.Errorf("%s", answer)
	}
}

// TestKilledStarts kills the service in the first half second of its start, again and again (KILLS; a dozen where it is
// not set), and then it starts.
func TestKilledStarts(t *testing.T) {
	t.Parallel()
	kills := 12
	if n, err := strconv.Atoi(os.Getenv("KILLS")); err == nil {
		kills = n
	}
	dir := t.TempDir()
	r := rand.New(rand.NewPCG(7, 7))
	for range kills {
		cmd := exec.Command(binary, "serve", "--dir", dir, "--listen", "127.0.0.1:0")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(20+r.IntN(480)) * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	p := serve(t, dir)
	p.apply("CREATE TOPIC a (PARTITIONS 1);")
	p.stop()
	if left, _ := filepath.Glob(filepath.Join(os.TempDir(), "fiume-db-*")); len(left) > 8 {
		t.Logf("directories of servers: %d", len(left))
	}
}

// TestHungCatalog stops the catalog's database for a while: questions are answered and jobs go on meanwhile, and what was asked to be
// declared is declared, or not, but said.
func TestHungCatalog(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p := serve(t, dir)
	p.apply(`CREATE TOPIC t (PARTITIONS 1); CREATE TOPIC o (PARTITIONS 1); DECLARE STREAM t (n BIGINT) FROM TOPIC 't'; DECLARE SINK o TO TOPIC 'o';
		CREATE JOB j AS SELECT n FROM t ROUTE TO o SET (CHECKPOINT EVERY 200 MILLISECONDS);`)
	eventually(t, "the job to run", func() bool { j, err := p.Job(t.Context(), "j"); return err == nil && j.State == "running" })
	b, err := os.ReadFile(filepath.Join(dir, "mariadb", "pid"))
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(string(bytes.TrimSpace(b)))
	if err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = syscall.Kill(pid, syscall.SIGCONT) }) // one that stands still does not end with the service
	declared := make(chan result, 1)
	file := writeFile(t, t.TempDir(), "d.sql", "DECLARE SINK x TO TOPIC 'o';")
	go func() { declared <- p.fiume("", "apply", file) }()
	time.Sleep(300 * time.Millisecond)
	for _, path := range []string{"/api/jobs", "/api/topics", "/api/definitions", "/api/jobs/j", "/api/health", "/api/words"} {
		began := time.Now()
		if status, _ := p.request("GET", path, ""); status != 200 || time.Since(began) > time.Minute {
			t.Errorf("%s: %d after %s", path, status, time.Since(began))
		}
	}
	if err := p.Write(t.Context(), "t", []api.MessageRequest{{Value: `{"n":1}`}}); err != nil {
		t.Error(err)
	}
	eventually(t, "a row to come through while the catalog stands still", func() bool { return len(p.values("o")) == 1 })
	if err := syscall.Kill(pid, syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	r := <-declared
	again := p.fiume("", "apply", file)
	if r.code != 0 && again.code != 0 {
		t.Errorf("%d %s, then %d %s", r.code, r.err, again.code, again.err)
	}
	// The private server dies: it is started again.
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the catalog to be there again", func() bool {
		status, answer := p.request("GET", "/api/health", "")
		return status == 200 && strings.Contains(answer, `"database":"ok"`)
	})
	if !strings.Contains(p.err.String(), "the private MariaDB has ended") {
		t.Errorf("nothing is said: %s", p.err)
	}
}
