package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"fiume/internal/trial/kit"
)

// asked asks for a path as a monitor does.
func asked(t testing.TB, url string) (int, string) {
	t.Helper()
	resp, err := http.Get(url)
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

// scraped reads the metrics of a service with Prometheus's own parser.
func scraped(t testing.TB, base string) map[string]*dto.MetricFamily {
	t.Helper()
	code, text := asked(t, base+"/metrics")
	parser := expfmt.NewTextParser(model.LegacyValidation)
	all, err := parser.TextToMetricFamilies(strings.NewReader(text))
	if code != 200 || err != nil {
		t.Fatalf("%d %v\n%.2000s", code, err, text)
	}
	return all
}

// measured gives the sum of those metrics of a name that have all the labels, "name=value", and whether there is one.
func measured(all map[string]*dto.MetricFamily, name string, labels ...string) (sum float64, ok bool) {
	for _, m := range all["fiume_"+name].GetMetric() {
		has := map[string]bool{}
		for _, l := range m.GetLabel() {
			has[l.GetName()+"="+l.GetValue()] = true
		}
		fits := true
		for _, l := range labels {
			fits = fits && has[l]
		}
		if fits {
			ok = true
			sum += m.GetGauge().GetValue() + m.GetCounter().GetValue() + float64(m.GetHistogram().GetSampleCount())
		}
	}
	return sum, ok
}

// TestMetrics: what monitors see is what the ledger says; they are told when the service is not ready, and why; rules and the page of charts ask for metrics that there are.
func TestMetrics(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC reads (PARTITIONS 1); CREATE TOPIC kept (PARTITIONS 1);
		DECLARE STREAM reads (chip VARCHAR, n BIGINT, at TIMESTAMP) EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'reads';
		DECLARE SINK kept TO TOPIC 'kept';
		DECLARE ENDPOINT gone WEB 'http://127.0.0.1:1';
		DECLARE SINK told TO WEB '/told' VIA gone;
		CREATE JOB "odd ""job""\n" WITH counts AS (SELECT chip, w.opens AS opens, COUNT(*) AS n FROM reads GROUP BY chip, w WINDOW w AS (TUMBLING 10 SECONDS)) ROUTE counts TO kept SET (CHECKPOINT EVERY 200 MILLISECONDS);
		CREATE TOPIC clubs (PARTITIONS 1); DECLARE TABLE clubs (chip VARCHAR PRIMARY KEY, club VARCHAR) FROM TOPIC 'clubs'; DECLARE SINK pairs TO TOPIC 'clubs'; DECLARE SINK numbers TO TOPIC 'kept';
		CREATE JOB twice WITH -- a stream, a table and a sink that it has twice
			a AS (SELECT r.chip, c.club FROM reads r LEFT JOIN clubs c AS OF NOW ON c.chip = r.chip),
			b AS (SELECT x.chip, y.n FROM reads x JOIN reads y ON y.chip = x.chip AND y.at WITHIN 5 SECONDS OF x.at),
			d AS (SELECT r.chip, c.club FROM reads SINCE NOW r LEFT JOIN clubs c AS OF NOW ON c.chip = r.chip)
			ROUTE a TO pairs ROUTE d TO pairs ROUTE b TO numbers;
		CREATE JOB telling AS SELECT chip FROM reads ROUTE TO told SET (CHECKPOINT EVERY 200 MILLISECONDS);`)
	for i := range 40 {
		p.send("reads", fmt.Sprintf(`{"chip":"P%d","n":%d,"at":"2026-05-17T09:00:%02dZ"}`, i%3, i, i), `{"n":"many"}`)
	}
	p.send("reads", `{"chip":"P1","n":1,"at":"2026-05-17T09:00:00Z"}`)
	const odd = `job=odd "job"\n`
	var all map[string]*dto.MetricFamily
	eventually(t, "the metrics are those of the ledger", func() bool {
		all = scraped(t, p.base)
		read, _ := measured(all, "step_rows_in_total", odd, "kind=scan")
		bad, _ := measured(all, "step_rows_rejected_total", odd, "kind=scan")
		late, _ := measured(all, "step_rows_late_total", odd)
		out, _ := measured(all, "step_rows_out_total", odd, "kind=output")
		waits, _ := measured(all, "sink_retrying_seconds", "job=telling")
		return read == 81 && bad == 40 && late == 1 && out > 0 && waits > 0
	})
	for name, labels := range map[string][]string{"job_state": {"job=telling", "state=retrying"}, "topic_messages_total": {"topic=reads"}, "checkpoint_number": {odd}, "database_up": nil, "disk_free_bytes": nil,
		"split_watermark_timestamp_seconds": {odd, "split=reads/0"}, "sink_waiting_bytes": {"job=telling", "sink=told"}, "request_duration_seconds": {"path=/api/apply", "status=200"}} {
		if v, ok := measured(all, name, labels...); !ok || v <= 0 {
			t.Errorf("%s of %v: %v %v", name, labels, v, ok)
		}
	}
	if n, _ := measured(all, "job_state", odd); n != 1 {
		t.Errorf("the job is in %v states", n)
	}
	for _, file := range []string{"../docs/operate/alerts.yaml", "../docs/operate/dashboard.json"} {
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		names := regexp.MustCompile(`\b(fiume|process)_[a-z_]+`).FindAllString(string(b), -1)
		if len(names) < 10 {
			t.Errorf("%s asks for %v", file, names)
		}
		for _, name := range names {
			if all[name] == nil && all[strings.TrimSuffix(name, "_bucket")] == nil {
				t.Errorf("%s asks for %s, which there is not", file, name)
			}
		}
	}
	if b, _ := os.ReadFile("../docs/operate/dashboard.json"); !json.Valid(b) {
		t.Error("the page of charts is no JSON")
	}
	if code, text := asked(t, p.base+"/live"); code != 200 || text != "alive\n" {
		t.Errorf("%d %q", code, text)
	}
	if code, text := asked(t, p.base+"/ready"); code != 200 || text != "ready\n" {
		t.Errorf("%d %q", code, text)
	}
	// The database stands still.
	out, err := exec.Command("pgrep", "-P", strconv.Itoa(p.cmd.Process.Pid), "-f", "mariadbd").Output()
	pid, perr := strconv.Atoi(strings.Fields(string(out) + " 0")[0])
	if err != nil || perr != nil || pid == 0 {
		t.Fatalf("%q %v", out, err)
	}
	if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = syscall.Kill(pid, syscall.SIGCONT) })
	eventually(t, "it is not ready, and says why", func() bool {
		code, text := asked(t, p.base+"/ready")
		return code == 503 && strings.Contains(text, "the catalog's database does not answer")
	})
	if code, _ := asked(t, p.base+"/live"); code != 200 {
		t.Errorf("it is said to be dead: %d", code)
	}
	if up, ok := measured(scraped(t, p.base), "database_up"); !ok || up != 0 {
		t.Errorf("the database is said to answer: %v", up)
	}
	if err := syscall.Kill(pid, syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it is ready again", func() bool { code, _ := asked(t, p.base+"/ready"); return code == 200 })
	p.fiume("", "job", "drop", "telling").want(t, 0)
}

// TestStarting: a service whose database takes long is alive and not ready, and what is asked of it meanwhile is answered when it is there.
func TestStarting(t *testing.T) {
	t.Parallel()
	address, _ := raceDatabase(t)
	user, rest, _ := strings.Cut(address, "@")
	at, name, _ := strings.Cut(rest, "/")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	opened := make(chan struct{})
	let := sync.OnceFunc(func() { close(opened) })
	defer l.Close()
	defer let()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				<-opened
				to, err := net.Dial("tcp", at)
				if err != nil {
					return
				}
				defer to.Close()
				go func() { _, _ = io.Copy(to, c) }()
				_, _ = io.Copy(c, to)
			}()
		}
	}()
	listen := fmt.Sprintf("127.0.0.1:%d", kit.FreePort(t))
	base, dir := "http://"+listen, t.TempDir()
	begin := func() *exec.Cmd {
		c := exec.Command(binary, "serve", "--dir", dir, "--listen", listen, "--dsn", fmt.Sprintf("%s:%s@tcp(%s)/%s", user, racePassword, l.Addr(), name))
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = c.Process.Kill() })
		eventually(t, "it is alive and not ready", func() bool {
			r, err := http.Get(base + "/ready")
			if err != nil {
				return false
			}
			defer r.Body.Close()
			text, _ := io.ReadAll(r.Body)
			return r.StatusCode == 503 && string(text) == "the service is starting\n"
		})
		if code, text := asked(t, base+"/live"); code != 200 || text != "alive\n" {
			t.Errorf("%d %q", code, text)
		}
		return c
	}
	ends := begin() // who gives up while it starts ends it at once
	if err := ends.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- ends.Wait() }()
	select {
	case <-ended:
	case <-time.After(patience):
		t.Fatal("it does not end while it starts")
	}
	served := begin()
	listed := make(chan result, 1)
	go func() { listed <- fiume(t, "", "job", "list", "--server", base) }()
	followed := make(chan string, 1)
	go func() {
		req, _ := http.NewRequest(http.MethodGet, base+"/api/jobs/nobody/live", nil)
		req.Header.Set("Accept", "text/event-stream")
		r, err := http.DefaultClient.Do(req)
		if err != nil {
			followed <- err.Error()
			return
		}
		defer r.Body.Close()
		text, _ := io.ReadAll(r.Body)
		followed <- string(text)
	}()
	select {
	case r := <-listed:
		t.Errorf("a service that starts has answered: %+v", r)
	case text := <-followed:
		t.Errorf("a service that starts has answered: %s", text)
	case <-time.After(300 * time.Millisecond):
	}
	let()
	(<-listed).want(t, 0, "no jobs")
	if text := <-followed; !strings.Contains(text, "nobody") {
		t.Errorf("who followed was answered: %s", text)
	}
	if err := served.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := served.Wait(); err != nil {
		t.Errorf("it ended with %v", err)
	}
}

// TestSettings: flags, the environment and a file give settings, in this order; what is wrong is said with its place.
func TestSettings(t *testing.T) {
	dir := t.TempDir()
	right := writeFile(t, dir, "right.yaml", "# of the race\nlisten: 127.0.0.1:0\nfiles: [/tmp, /srv]\njob-memory: 77\ndsn: timing:hush@tcp(127.0.0.1:3306)/fiume\nno-jobs: true\n")
	fiume(t, "", "config", "check", right).want(t, 0, "is right")
	t.Setenv("FIUME_JOB_MEMORY", "99")
	r := fiume(t, "", "config", "show", "--config", right).want(t, 0, "FIUME_JOB_MEMORY", "right.yaml:2", "[/tmp,/srv]", "timing:***@tcp(127.0.0.1:3306)/fiume", "default")
	if strings.Contains(r.out, "hush") {
		t.Errorf("a password is shown: %s", r.out)
	}
	var all []struct{ Name, Value, From string }
	if err := json.Unmarshal([]byte(fiume(t, "", "config", "show", "--config", right, "--output", "json").out), &all); err != nil || len(all) < 10 {
		t.Errorf("%v %v", all, err)
	}
	for text, words := range map[string]string{
		"lisen: 127.0.0.1:0":                   ":1: there is no setting lisen; did you mean listen?",
		"\njob-memory: much":                   ":2: job-memory: takes a number, found \"much\"",
		"listen: [a, b]":                       "takes one value",
		"listen: {a: b}":                       "listen takes a value",
		"- listen":                             "a name and a value in a line",
		"listen: [":                            "is no YAML",
		"dir: a\ndir: b":                       ":2: dir stands in line 1 already",
		"listen: 127.0.0.1:0\n---\ndir: x":     "a second document begins",
		"dir: x\nlisten:":                      ":2: listen has no value",
		"listen: \xff\x00":                     "is no YAML",
		"config: x":                            "there is no setting config",
		"files:\n  - /tmp\n  - {a: b}":         ":3: files takes values",
		"no-jobs: perhaps":                     "no-jobs: takes true or false",
		"nonsense-without-end: 1\nlisten: 1:1": "there are ",
	} {
		file := writeFile(t, dir, "wrong.yaml", text+"\n")
		fiume(t, "", "config", "check", file).want(t, 2, words)
		fiume(t, "", "serve", "--config", file).want(t, 2, words)
	}
	fiume(t, "", "config", "check", dir+"/nothing.yaml").want(t, 2, "there is no file of settings")
	fiume(t, "", "serve", "--log-level", "loud").want(t, 2, "--log-level takes one of")
	fiume(t, "", "serve", "--log-format", "xml").want(t, 2, "--log-format takes one of")
	t.Setenv("FIUME_LISTN", "127.0.0.1:0")
	fiume(t, "", "config", "show").want(t, 2, "there is no setting FIUME_LISTN in the environment; did you mean FIUME_LISTEN?")
	os.Unsetenv("FIUME_LISTN")
	// They hold.
	file := writeFile(t, dir, "serve.yaml", "listen: 127.0.0.1:0\nlog-format: json\nlog-level: debug\ndir: "+dir+"/state\n")
	p := start(t, "serve", "--config", file)
	p.fiume("", "topic", "create", "reads").want(t, 0)
	eventually(t, "the request is logged as JSON", func() bool {
		for _, l := range lines(p.err.String()) {
			var x struct{ Msg, Method, Path string }
			if json.Unmarshal([]byte(l), &x) == nil && x.Msg == "request" && x.Method == "POST" && x.Path == "/api/topics" {
				return true
			}
		}
		return false
	})
	p.stop()
}

// BenchmarkScrape measures what reading the metrics of a service with a hundred jobs takes.
func BenchmarkScrape(b *testing.B) {
	p := serve(b, b.TempDir())
	text := `CREATE TOPIC reads (PARTITIONS 2); CREATE TOPIC kept (PARTITIONS 1); DECLARE STREAM reads (chip VARCHAR, at TIMESTAMP) EVENT TIME at FROM TOPIC 'reads';`
	for i := range 100 {
		text += fmt.Sprintf("DECLARE SINK k%d TO TOPIC 'kept'; CREATE JOB j%d AS SELECT chip, w.opens AS opens, COUNT(*) AS n FROM reads GROUP BY chip, w WINDOW w AS (TUMBLING 10 SECONDS) ROUTE TO k%d;\n", i, i, i)
	}
	p.apply(text)
	time.Sleep(5 * time.Second)
	for b.Loop() {
		if code, _ := asked(b, p.base+"/metrics"); code != 200 {
			b.Fatal(code)
		}
	}
}
