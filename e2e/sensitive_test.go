package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"fiume/internal/api"
	"fiume/internal/service/base"

	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/sasl/plain"
)

// TestSensitive: values of sensitive columns come out of the service nowhere but for those who may see them. Everything that shows rows is asked as somebody who may, whose
// answer must have them, so that it would be noticed where a question is none, and as somebody who may not.
func TestSensitive(t *testing.T) {
	t.Parallel()
	p := populate(t, "--brokers-listen", "127.0.0.1:0", "--log-level", "debug")
	// The mark of what must not come out: in texts, keys, and as a number.
	const mark, number = "VERBORGEN", "7712345"
	bo := p.with(t, "bo", "develop:timing", "read:timing", "write:timing", "operate:timing")
	mo := p.with(t, "mo", "develop:timing", "read:timing", "write:timing", "operate:timing", "disclose:timing")
	const declarations = `
		CREATE TOPIC timing.reads (PARTITIONS 1); CREATE TOPIC timing.people (PARTITIONS 1); CREATE TOPIC timing.out (PARTITIONS 1); CREATE TOPIC timing.counts (PARTITIONS 1); CREATE TOPIC timing.bad (PARTITIONS 1); CREATE TOPIC timing.out2 (PARTITIONS 1);
		DECLARE STREAM timing.reads (chip VARCHAR SENSITIVE, mat VARCHAR, pulse INT SENSITIVE, sent VARCHAR AS (_key) SENSITIVE, read_at TIMESTAMP NOT NULL) EVENT TIME read_at DELAY 1 SECOND FROM TOPIC 'timing.reads';
		DECLARE TABLE timing.people (chip VARCHAR PRIMARY KEY SENSITIVE, club VARCHAR, name VARCHAR SENSITIVE) FROM TOPIC 'timing.people';
		CREATE TOPIC timing.lines (PARTITIONS 1);
		DECLARE STREAM timing.lines (chip VARCHAR SENSITIVE, mat VARCHAR) FROM TOPIC 'timing.lines' (FORMAT csv);
		DECLARE SINK timing.out TO TOPIC 'timing.out';
		DECLARE SINK timing.out2 TO TOPIC 'timing.out2';
		DECLARE SINK timing.counts TO TOPIC 'timing.counts';
		DECLARE SINK timing.bad TO TOPIC 'timing.bad';
		DECLARE SINK timing.copies TO FILES 'copies' (FORMAT json, ROLL EVERY 1 SECOND);
		CREATE FUNCTION timing_loud(s VARCHAR) RETURNS INT LANGUAGE javascript AS 'throw new Error("no: " + s)';
		CREATE VIEW timing.seen AS SELECT chip AS who, mat, read_at FROM timing.reads;
		CREATE BOARD timing.board PANEL 'Chips' TABLE AS (SELECT who, mat FROM timing.seen) PANEL 'Names' TABLE AS (SELECT chip, name, club FROM timing.people);
		CREATE JOB timing.job WITH
			named AS (SELECT r.chip || '/' || p.name AS runner, r.mat, p.club, r.pulse * 2 AS double_pulse, r.read_at FROM timing.reads r LEFT JOIN timing.people p AS OF NOW ON p.chip = r.chip),
			loud AS (SELECT timing_loud(chip) AS x, read_at FROM timing.reads),
			counts AS (SELECT mat, COUNT(*) AS n, COUNT(DISTINCT chip) AS runners, MAX(chip) AS last, w.closes AS closes FROM timing.reads GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE))
			ROUTE named TO timing.out, timing.copies ROUTE loud TO timing.out2 ROUTE counts TO timing.counts ROUTE REJECTED timing.reads TO timing.bad SET (CHECKPOINT EVERY 1 SECOND);`
	if _, err := mo.Apply(t.Context(), api.ScriptRequest{SQL: declarations}); err == nil || !strings.Contains(err.Error(), "lies below no directory") {
		t.Fatalf("files that are not granted: %v", err)
	}
	if _, err := p.ada.Apply(t.Context(), api.ScriptRequest{SQL: declarations}); err != nil {
		t.Fatal(err)
	}
	write := func(topic, key, value string) {
		t.Helper()
		m := api.MessageRequest{Value: value}
		if key != "" {
			m.Key = &key
		}
		if err := bo.Write(t.Context(), topic, []api.MessageRequest{m}); err != nil {
			t.Fatal(err)
		}
	}
	write("timing.people", mark+"-1", fmt.Sprintf(`{"chip":"%s-1","club":"Aquila","name":"%s Rossi"}`, mark, mark))
	for i := range 3 {
		write("timing.reads", mark+"-1", fmt.Sprintf(`{"chip":"%s-1","mat":"start","pulse":%s,"read_at":"2026-05-17T09:0%d:00Z"}`, mark, number, 3*i))
	}
	write("timing.reads", mark+"-2", fmt.Sprintf(`{"chip":"%s-2","mat":"start","pulse":%s,"read_at":"2026-05-17T08:00:00Z"}`, mark, number))            // late
	write("timing.reads", mark+"-2", fmt.Sprintf(`{"chip":"%s-2","mat":"start","pulse":"%s %s","read_at":"2026-05-17T09:06:30Z"}`, mark, mark, number)) // no INT
	write("timing.reads", mark+"-2", fmt.Sprintf(`{"chip":"%s-2", cut %s`, mark, number))                                                               // no JSON

	ask := func(who *peopledCaller, method, path string, in any) (string, error) {
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		defer cancel()
		var body bytes.Buffer
		if in != nil {
			_ = json.NewEncoder(&body).Encode(in)
		}
		req, err := http.NewRequestWithContext(ctx, method, p.base+path, &body)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+who.token)
		req.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return "", err
		}
		defer resp.Body.Close()
		var out []byte
		piece := make([]byte, 1<<16)
		for first := true; ; {
			n, err := resp.Body.Read(piece)
			out = append(out, piece[:n]...)
			live := strings.HasSuffix(path, "/live")
			if err != nil || live && strings.Contains(string(out), mark) {
				break
			}
			if live && !who.may && first && strings.Contains(string(out), "data:") { // it goes on, and is looked at for so long
				first = false
				time.AfterFunc(3*time.Second, cancel)
			}
		}
		if resp.StatusCode >= 400 {
			return string(out), &api.Problem{Status: resp.StatusCode, Detail: string(out)}
		}
		return string(out), nil
	}
	get := func(who *peopledCaller, path string) (string, error) { return ask(who, "GET", path, nil) }
	post := func(who *peopledCaller, path string, in any) (string, error) { return ask(who, "POST", path, in) }
	write("timing.lines", "", mark+"-9,start")
	write("timing.lines", "", mark+"-9,start,"+mark) // has a field too many
	caller := func(name string) *peopledCaller {
		in, err := p.SignIn(t.Context(), name, *password(name))
		if err != nil {
			t.Fatal(err)
		}
		return &peopledCaller{in.Token, name == "mo"}
	}
	may, mayNot := caller("mo"), caller("bo")
	eventually(t, "the job has worked", func() bool {
		j, err := mo.Job(t.Context(), "timing.job")
		return err == nil && j.In >= 6 && len(j.Samples) >= 3
	})
	eventually(t, "its sinks have rows", func() bool {
		a, _ := mo.Read(t.Context(), "timing.out", url.Values{})
		b, _ := mo.Read(t.Context(), "timing.counts", url.Values{})
		c, _ := mo.Read(t.Context(), "timing.bad", url.Values{})
		return len(a) >= 4 && len(b) >= 2 && len(c) >= 2
	})
	eventually(t, "rows set aside are kept", func() bool {
		s, err := get(may, "/api/jobs/timing.job/aside")
		return err == nil && strings.Count(s, `"id"`) >= 3
	})
	eventually(t, "its file is there", func() bool {
		s, err := get(may, "/api/definitions/timing.copies/rows")
		return err == nil && strings.Contains(s, mark)
	})
	row, err := get(may, "/api/topics/timing.counts/messages?limit=1")
	if err != nil {
		t.Fatal(err)
	}
	var page struct {
		Items []struct {
			Value string `json:"value"`
		} `json:"items"`
	}
	if err := json.Unmarshal([]byte(row), &page); err != nil || len(page.Items) == 0 {
		t.Fatal(row, err)
	}
	query := func(text string) func(*peopledCaller) (string, error) {
		return func(who *peopledCaller) (string, error) {
			return post(who, "/api/query", map[string]any{"sql": text, "begin": "BEGINNING"})
		}
	}
	at := func(path string) func(*peopledCaller) (string, error) {
		return func(who *peopledCaller) (string, error) { return get(who, path) }
	}
	try := func(text string) func(*peopledCaller) (string, error) {
		return func(who *peopledCaller) (string, error) {
			return post(who, "/api/try", map[string]any{"sql": text})
		}
	}
	sample, err := post(may, "/api/samples", map[string]any{"topic": "timing.reads", "space": "timing"})
	if err != nil {
		t.Fatal(sample, err)
	}
	var kept struct {
		ID uint `json:"id"`
	}
	_ = json.Unmarshal([]byte(sample), &kept)
	for _, x := range []struct {
		what    string
		ask     func(*peopledCaller) (string, error)
		refused bool // for who may not see the values; otherwise it is answered, masked
	}{
		{"a query", query("SELECT * FROM timing.reads UNTIL NOW"), false},
		{"a query of a view", query("SELECT who FROM timing.seen UNTIL NOW"), false},
		{"a query that groups", query("SELECT chip, COUNT(*) AS n, MAX(pulse) AS p FROM timing.reads GROUP BY chip, w WINDOW w AS (TUMBLING 1 HOUR) UNTIL NOW"), false},
		{"a query of a table", query("SELECT * FROM timing.people UNTIL NOW"), false},
		{"a query that joins", query("SELECT r.chip, p.name, p.club FROM timing.reads r JOIN timing.people p AS OF NOW ON p.chip = r.chip UNTIL NOW"), false},
		{"a query of keys", query("SELECT sent FROM timing.reads UNTIL NOW"), false},
		{"a query that says what is wrong", query("SELECT CAST(chip AS INT) AS x FROM timing.reads UNTIL NOW"), false},
		{"a query whose function tells", query("SELECT timing_loud(chip) AS x FROM timing.reads UNTIL NOW"), false},
		{"a query of a step", query("SELECT * FROM timing.job.counts UNTIL NOW"), false},
		{"a query of a step by a value", query("SELECT * FROM timing.job.counts WHERE last LIKE '%ORGEN-1' UNTIL NOW"), false},
		{"a query of CSV", query("SELECT * FROM timing.lines UNTIL NOW"), false},
		{"a topic of CSV", at("/api/topics/timing.lines/messages"), false},
		{"rows of CSV", at("/api/definitions/timing.lines/rows"), false},
		{"a try of CSV", try("SELECT * FROM timing.lines"), false},
		{"a try", try("SELECT * FROM timing.reads"), false},
		{"a try of a job", try("CREATE JOB timing.tried AS SELECT chip, mat, pulse FROM timing.reads WHERE pulse > 0 ROUTE TO timing.out"), false},
		{"a sample", at(fmt.Sprintf("/api/samples/%d", kept.ID)), false},
		{"another sample", func(who *peopledCaller) (string, error) {
			return post(who, "/api/samples", map[string]any{"topic": "timing.reads", "space": "timing"})
		}, true},
		{"a try of a sample under another name", func(who *peopledCaller) (string, error) {
			return post(who, "/api/try", map[string]any{"sql": "DECLARE STREAM timing.other (chip VARCHAR, pulse INT) FROM TOPIC 'timing.none'; SELECT chip, pulse FROM timing.other", "samples": map[string]uint{"timing.other": kept.ID}})
		}, false},
		{"a proposal", func(who *peopledCaller) (string, error) {
			return post(who, "/api/propose", map[string]any{"topic": "timing.reads"})
		}, true},
		{"a topic", at("/api/topics/timing.reads/messages"), false},
		{"a topic searched by text", at("/api/topics/timing.reads/messages?text=" + mark), true},
		{"a topic searched by key", at("/api/topics/timing.reads/messages?key=" + mark + "-1"), true},
		{"the topic of a sink", at("/api/topics/timing.out/messages"), false},
		{"the topic of a sink that counts", at("/api/topics/timing.counts/messages"), false},
		{"the topic of rejected rows", at("/api/topics/timing.bad/messages"), false},
		{"rows of a stream", at("/api/definitions/timing.reads/rows"), false},
		{"rows of a table", at("/api/definitions/timing.people/rows"), false},
		{"rows of a view", at("/api/definitions/timing.seen/rows"), false},
		{"rows of a sink", at("/api/definitions/timing.out/rows"), false},
		{"rows of a sink of files", at("/api/definitions/timing.copies/rows"), false},
		{"a job", at("/api/jobs/timing.job"), false},
		{"a job as it runs", at("/api/jobs/timing.job/live"), false},
		{"rows set aside", at("/api/jobs/timing.job/aside"), false},
		{"rows set aside, searched", at("/api/jobs/timing.job/aside?text=" + mark), true},
		{"a file of rows set aside", at("/api/jobs/timing.job/aside/file?format=csv"), false},
		{"a step as it stands", at("/api/jobs/timing.job/steps/counts/rows"), false},
		{"a step by a value", at("/api/jobs/timing.job/steps/counts/rows?where=last=" + mark + "-1"), true},
		{"why", func(who *peopledCaller) (string, error) {
			return post(who, "/api/jobs/timing.job/why", map[string]any{"sink": "timing.counts", "row": json.RawMessage(page.Items[0].Value)})
		}, true},
		{"what became of a message", at("/api/jobs/timing.job/became?topic=timing.reads&partition=0&offset=0"), false},
		{"what became of a message that is no row", at("/api/jobs/timing.job/became?topic=timing.reads&partition=0&offset=4"), false},
		{"a comparison", func(who *peopledCaller) (string, error) {
			return post(who, "/api/jobs/timing.job/compare", map[string]any{"sql": "CREATE JOB timing.job AS SELECT chip || 'x' AS runner, mat, 'a' AS club, pulse AS double_pulse, read_at FROM timing.reads ROUTE TO timing.out"})
		}, false},
		{"a board", at("/api/boards/timing.board/panels/0/rows?wait=3"), false},
		{"a board as it changes", at("/api/boards/timing.board/live"), false},
	} {
		out, err := x.ask(may)
		if err != nil || !strings.Contains(out, mark) && !strings.Contains(out, number) {
			t.Errorf("%s, by who may: %v\n%.600s", x.what, err, out)
		}
		out, err = x.ask(mayNot)
		if strings.Contains(strings.ReplaceAll(out, "="+mark, ""), mark) || strings.Contains(out, number) || strings.Contains(out, "15424690") {
			t.Errorf("%s shows what it must not:\n%.2000s", x.what, out)
		}
		if status := statusOf(err); x.refused != (status == http.StatusForbidden) || !x.refused && err != nil {
			t.Errorf("%s, by who may not: %d %v", x.what, status, err)
		}
	}
	if out, err := query("SELECT chip, mat, pulse FROM timing.reads UNTIL NOW")(mayNot); err != nil || !strings.Contains(out, `[{"name":"chip","type":"VARCHAR","masked":true},{"name":"mat","type":"VARCHAR"},{"name":"pulse","type":"INT","masked":true}]`) {
		t.Errorf("it is not said what is masked: %v\n%.300s", err, out)
	}
	// What is masked can still be grouped, counted and joined.
	same := func(text, want string) {
		t.Helper()
		var rows []string
		if _, err := bo.Query(t.Context(), api.ScriptRequest{SQL: text, Begin: "BEGINNING"}, func([]base.Column) error { return nil }, func(r json.RawMessage) error { rows = append(rows, string(r)); return nil }, nil); err != nil || strings.Join(rows, "") != want {
			t.Errorf("%s: %v %v, wanted %s", text, rows, err, want)
		}
	}
	same("SELECT p.club, COUNT(*) AS n, COUNT(DISTINCT r.chip) AS m FROM timing.reads r JOIN timing.people p AS OF NOW ON p.chip = r.chip GROUP BY p.club FORGET AFTER 1 HOUR UNTIL NOW", `{"club":"Aquila","n":3,"m":1}`)
	same("SELECT mat FROM timing.reads WHERE chip = '"+mark+"-1' OR pulse = "+number+" UNTIL NOW", "")

	// What would go round the marks.
	for text, want := range map[string]string{
		"DECLARE STREAM timing.mine (chip VARCHAR) FROM TOPIC 'timing.reads';":                           "has the sensitive column",
		"DECLARE STREAM timing.mine (line VARCHAR) FROM TOPIC 'timing.reads' (FORMAT text);":             "has the sensitive column",
		"DECLARE TABLE timing.mine (runner VARCHAR PRIMARY KEY) FROM TOPIC 'timing.out';":                "has the sensitive column",
		"DECLARE OR REPLACE STREAM timing.reads (chip VARCHAR, mat VARCHAR) FROM TOPIC 'timing.people';": "is changed by those alone who may see them",
		"DECLARE STREAM timing.mine (a VARCHAR) FROM HISTORY FILES 'x' THEN TOPIC 'timing.people';":      "",
		"DROP VIEW timing.seen; DROP STREAM timing.reads;":                                               "is changed by those alone who may see them",
		"DECLARE STREAM timing.mine (runner VARCHAR) FROM FILES 'copies/*' (FORMAT json);":               "has the sensitive column",
		"DROP TABLE timing.people;": "is changed by those alone who may see them",
		"DECLARE STREAM timing.mine (chip VARCHAR) FROM TOPIC 'timing.reads'; SELECT chip FROM timing.mine UNTIL NOW;": "",
	} {
		_, err := bo.Apply(t.Context(), api.ScriptRequest{SQL: text, DryRun: true})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, wanted %q", text, err, want)
		}
	}
	if out, err := try("DECLARE STREAM timing.mine (chip VARCHAR) FROM TOPIC 'timing.reads'; SELECT chip FROM timing.mine;")(mayNot); statusOf(err) != 403 && statusOf(err) != 422 || strings.Contains(out, mark) {
		t.Errorf("a try of another declaration: %v %s", err, out)
	}
	// Who is told of an alert is not known: its rows are masked for everybody.
	if _, err := p.ada.Apply(t.Context(), api.ScriptRequest{SQL: `CREATE ALERT timing.last WHEN (SELECT last FROM timing.job.counts) BY last EVERY 1 SECOND SAY 'it is {last}';
		CREATE ALERT timing.chip WHEN (SELECT chip, name FROM timing.people) BY chip EVERY 1 SECOND SAY '{name} has {chip}';`}); err != nil {
		t.Fatal(err)
	}
	eventually(t, "alerts are on", func() bool {
		for _, who := range []*peopledCaller{may, mayNot} {
			out, err := get(who, "/api/alerts")
			if err != nil || strings.Contains(out, mark) {
				t.Fatalf("%v\n%s", err, out)
			}
			if !strings.Contains(out, "it is ~") || !strings.Contains(out, " has ~") {
				return false
			}
		}
		return true
	})
	// The marks of a job's topics stay when it has gone.
	if err := bo.DropJob(t.Context(), "timing.job"); err != nil {
		t.Fatal(err)
	}
	if out, err := get(mayNot, "/api/topics/timing.out/messages"); err != nil || strings.Contains(out, mark) {
		t.Errorf("the topic of a job that has gone: %v\n%s", err, out)
	}
	// Clients of brokers get messages as they are, or none.
	eventually(t, "brokers are listened for", func() bool { return strings.Contains(p.out.String(), "topics at ") })
	_, after, _ := strings.Cut(p.out.String(), "topics at ")
	brokers := strings.TrimRight(strings.Fields(after)[0], ",.")
	for who, name := range map[string]string{"bo": "masked", "mo": "plainly"} {
		grants := []string{"read:timing"}
		if who == "mo" {
			grants = append(grants, "disclose:timing")
		}
		token, err := p.as(t, who).NewToken(t.Context(), api.TokenRequest{Name: name, Grants: grantsOf(t, grants...)})
		if err != nil {
			t.Fatal(err)
		}
		k, err := kgo.NewClient(kgo.SeedBrokers(brokers), kgo.SASL(plain.Auth{User: name, Pass: token.Text}.AsMechanism()), kgo.ConsumePartitions(map[string]map[int32]kgo.Offset{"timing.reads": {0: kgo.NewOffset().At(0)}}))
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		f := k.PollFetches(ctx)
		cancel()
		k.Close()
		var failed error
		for _, e := range f.Errors() {
			failed = e.Err
		}
		if who == "mo" && f.NumRecords() == 0 || who == "bo" && (f.NumRecords() > 0 || !errors.Is(failed, kerr.TopicAuthorizationFailed)) {
			t.Errorf("%s reads %d messages, %v", who, f.NumRecords(), failed)
		}
	}
	// Nobody but the people who asked has written down a value.
	if log := p.out.String(); strings.Contains(log, mark+"-") || strings.Contains(log, number) {
		t.Errorf("the log has a value:\n%s", log)
	}
}

// peopledCaller is who asks by the bare network interface.
type peopledCaller struct {
	token string
	may   bool
}
