package client_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/api"
	"fiume/internal/catalog"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/people"
)

// What each operation needs, as the manual says it: a role, and where it must hold. This table stands beside the one of the service, and was written by hand.
const allowed = `
open:                   session sign-in sign-out accept
look somewhere:         health spaces advice alerts activity places functions panel-kinds words patterns check draw format file definitions jobs boards topics drifts apply tokens new-token drop-token change-password
look timing:            definition job job-state versions checkpoints live-job history board alert topic drift
read somewhere:         query samples sample
read timing:            lateness present set-aside set-aside-file why became board-rows live-board read-messages follow-topic rows
write timing:           write-messages send-again
develop somewhere:      try keep-try keep-sample drop-sample propose look test-connections board-draft create-topic
develop timing:         compare-job revert-job drop-job drop-topic board-links new-board-link drop-board-link
operate somewhere:      secrets
operate timing:         start-job stop-job parallelism silence-alert set-secret drop-secret
operate everywhere:     alerts-told alert-notices
administer everywhere:  run-statements databases create-database drop-database users put-user drop-user grants grant revoke prove-activity export-activity backup forget
`

// includes are the roles that a role has in it.
var includes = map[string][]string{
	"look": {"look"}, "read": {"look", "read"}, "disclose": {"look", "read", "disclose"}, "write": {"look", "write"}, "develop": {"look", "read", "develop"}, "operate": {"look", "operate"},
	"administer": {"look", "read", "disclose", "write", "develop", "operate", "administer"},
}

// caller is one of the matrix.
type caller struct {
	name   string
	token  string
	cookie string
	grants []string // role:space
	board  bool     // by a link to the board timing.b
}

func (c caller) has(role, space string) bool {
	return slices.ContainsFunc(c.grants, func(g string) bool {
		r, s, _ := strings.Cut(g, ":")
		return slices.Contains(includes[r], role) && (s == "" || s == space || space == "anywhere")
	})
}

// inhabited is a service with something of each kind in the space timing, and people of all kinds.
func inhabited(t *testing.T) (*world, []caller) {
	w := open(t)
	w.Parts.Apply(`
		CREATE TOPIC timing.t (PARTITIONS 1);
		CREATE TOPIC medical.t (PARTITIONS 1);
		CREATE TOPIC plain (PARTITIONS 1);
		CREATE TOPIC timing.hidden (PARTITIONS 1);
		DECLARE STREAM timing.marked (chip VARCHAR SENSITIVE) FROM TOPIC 'timing.hidden';
		DECLARE STREAM timing.s (chip VARCHAR, at TIMESTAMP) EVENT TIME at FROM TOPIC 'timing.t';
		DECLARE STREAM medical.s (chip VARCHAR, at TIMESTAMP) EVENT TIME at FROM TOPIC 'medical.t';
		DECLARE STREAM plain_s (chip VARCHAR, at TIMESTAMP) EVENT TIME at FROM TOPIC 'plain';
		DECLARE SINK timing.k TO TOPIC 'timing.t';
		DECLARE SINK medical.k TO TOPIC 'medical.t';
		DECLARE ENDPOINT outside WEB 'http://127.0.0.1:9';
		DECLARE ENDPOINT timing.e WEB 'http://127.0.0.1:9';
		DECLARE ENDPOINT medical.e WEB 'http://127.0.0.1:9';
		CREATE BOARD timing.b PANEL 'n' TABLE AS (SELECT chip FROM timing.s);
		CREATE BOARD medical.b PANEL 'n' TABLE AS (SELECT chip FROM medical.s);
		CREATE ALERT timing.a WHEN (SELECT chip FROM timing.s SINCE 1 MINUTE) NOTIFY timing.k;
		CREATE ALERT medical.a WHEN (SELECT chip FROM medical.s SINCE 1 MINUTE) NOTIFY medical.k;
		CREATE JOB timing.j AS SELECT chip FROM timing.s ROUTE TO timing.k;`)
	put := func(name string, grants ...string) {
		var all []access.Grant
		for _, g := range grants {
			x, err := access.ParseGrant(g)
			if err != nil {
				t.Fatal(err)
			}
			all = append(all, x)
		}
		word := "the password of " + name
		if _, _, err := w.People.Put("test", name, people.Change{Grants: all, Password: &word}); err != nil {
			t.Fatal(err)
		}
	}
	put("root", "administer")
	out := []caller{{name: "nobody"}, {name: "stranger", token: "fiume-token-AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"}}
	for _, where := range []string{"", ":timing", ":medical"} {
		for _, role := range []string{"look", "read", "disclose", "write", "develop", "operate", "administer"} {
			if role == "administer" && where != "" {
				continue
			}
			name := "p-" + role + strings.ReplaceAll(where, ":", "-")
			put(name, role+where)
			text, _, err := w.People.SignIn(name, "the password of "+name, "test", "127.0.0.1")
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, caller{name: name, token: text, grants: []string{role + where}})
			if role == "administer" {
				continue
			}
			g, _ := access.ParseGrant(role + where)
			c := w.People.Known(text, "127.0.0.1")
			token, _, err := w.People.NewToken(c, name, "t-"+name, []access.Grant{g}, time.Hour)
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, caller{name: "token of " + name, token: token, grants: []string{role + where}})
		}
	}
	code, _, err := w.People.NewLink("root", "timing.b", time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	return w, append(out, caller{name: "link", cookie: "fiume-link=" + code, board: true})
}

// TestMatrix calls every operation of the OpenAPI document as everybody, and holds the answers against the table.
func TestMatrix(t *testing.T) {
	w, callers := inhabited(t)
	needs := map[string][2]string{}
	for line := range strings.Lines(strings.TrimSpace(allowed)) {
		what, ops, _ := strings.Cut(line, ":")
		role, where, _ := strings.Cut(what, " ")
		for _, op := range strings.Fields(ops) {
			needs[op] = [2]string{role, where}
		}
	}
	resp, err := http.Get(w.server.URL + "/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
			Role        string `json:"x-role"`
		} `json:"paths"`
	}
	if err := json.NewDecoder(resp.Body).Decode(&doc); err != nil {
		t.Fatal(err)
	}
	names := map[string]string{"topics": "timing.t", "boards": "timing.b", "alerts": "timing.a", "jobs": "timing.j", "definitions": "timing.s", "streams": "timing.s", "secrets": "timing.secret", "endpoints": "outside", "users": "nobody-at-all", "databases": "none", "tokens": "none"}
	called := 0
	for path, methods := range doc.Paths {
		for method, op := range methods {
			need, known := needs[op.OperationID]
			if !known {
				t.Errorf("nothing says who may do %s", op.OperationID)
				continue
			}
			delete(needs, op.OperationID)
			if want := strings.TrimPrefix(need[0], "open"); op.Role != want {
				t.Errorf("%s: the document asks for the role %q, not %q", op.OperationID, op.Role, want)
			}
			url := strings.NewReplacer("{name}", names[strings.Split(path, "/")[2]], "{id}", "1", "{step}", "j", "{panel}", "0").Replace(path)
			if op.OperationID == "sign-out" {
				continue // it is done by anybody, and would end the sessions below
			}
			if op.OperationID == "board-rows" {
				url += "?wait=x"
			}
			for _, c := range callers {
				called++
				got, detail := w.try(t, strings.ToUpper(method), url, c)
				want := "passes"
				switch {
				case need[0] == "open":
				case len(c.grants) == 0 && !c.board:
					want = "401"
				case c.board:
					want = "403 404"
					if slices.Contains([]string{"board", "board-rows", "live-board"}, op.OperationID) {
						want = "passes"
					}
				case need[1] == "somewhere" && c.has(need[0], "anywhere"), need[1] == "everywhere" && c.has(need[0], ""), need[1] == "timing" && c.has(need[0], "timing"):
				case need[1] == "timing" && !c.has("look", "timing"):
					want = "404"
				default:
					want = "403"
				}
				passes := got != 401 && got != 403 && (got != 404 || !strings.Contains(detail, "there is no ") && !strings.Contains(detail, "nothing is declared as"))
				if op.OperationID == "activity" || op.OperationID == "new-token" || op.OperationID == "change-password" || op.OperationID == "create-topic" || need[0] == "open" {
					passes = passes || want == "passes" && got == 403 && !strings.Contains(detail, "ask an administrator") || need[0] == "open" // they look closer at what is asked
				}
				if op.OperationID == "drop-token" || op.OperationID == "sample" || op.OperationID == "drop-sample" {
					passes = passes || got == 404 && strings.HasPrefix(detail, "there is no ") && want == "passes" // there is none
				}
				if want == "passes" && !passes || want != "passes" && !strings.Contains(want, fmt.Sprint(got)) {
					t.Errorf("%s (%s %s) as %s %v: %d %s, wanted: %s", op.OperationID, method, url, c.name, c.grants, got, detail, want)
				}
			}
		}
	}
	for op := range needs {
		t.Errorf("there is no operation %s", op)
	}
	// What does not go through the operations.
	for _, c := range callers {
		for path, need := range map[string]string{"/metrics": "look", "/live": "", "/": "", "/openapi.json": ""} {
			got, _ := w.try(t, "GET", path, c)
			if want := need == "" || c.has(need, ""); (got == 200) != want {
				t.Errorf("%s as %s: %d", path, c.name, got)
			}
		}
	}
	if called < 1000 {
		t.Errorf("only %d calls", called)
	}
}

// try makes a request that changes nothing where it is let through: what it sends is no right request.
func (w *world) try(t *testing.T, method, path string, c caller) (status int, detail string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	var body io.Reader
	if method != "GET" && method != "DELETE" {
		body = strings.NewReader(`"nonsense"`)
	}
	req, err := http.NewRequestWithContext(ctx, method, w.server.URL+path, body)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Fiume-Actor", strings.Repeat("x", 500)) // longer than it may be
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	if c.cookie != "" {
		req.Header.Set("Cookie", c.cookie)
	}
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		t.Fatalf("%s %s: %v", method, path, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode < 300 {
		return resp.StatusCode, ""
	}
	b, _ := io.ReadAll(resp.Body)
	var p api.Problem
	_ = json.Unmarshal(b, &p)
	return resp.StatusCode, p.Detail
}

// TestMatrixOfSQL has everybody apply each kind of statement, and ask each kind of question.
func TestMatrixOfSQL(t *testing.T) {
	w, callers := inhabited(t)
	if err := w.People.Grant("root", people.Share{Kind: "endpoint", Name: "outside", Space: "timing"}); err != nil {
		t.Fatal(err)
	}
	if err := w.People.Grant("root", people.Share{Kind: "stream", Name: "plain_s", Space: "timing"}); err != nil {
		t.Fatal(err)
	}
	if err := w.People.Grant("root", people.Share{Kind: "files", Name: "files", Space: "timing"}); err != nil {
		t.Fatal(err)
	}
	// Each with the roles that are needed, all of them, and what is seen in place of a refusal by who may not know of it.
	for _, x := range []struct{ sql, needs string }{
		{"CREATE TOPIC timing.new;", "develop:timing"},
		{"CREATE TOPIC new;", "develop:"},
		{"ALTER TOPIC timing.t (PARTITIONS 2);", "develop:timing"},
		{"DROP TOPIC medical.t;", "develop:medical"},
		{"DECLARE STREAM timing.n (chip VARCHAR) FROM TOPIC 'timing.t';", "develop:timing"},
		{"DECLARE STREAM timing.n (chip VARCHAR) FROM TOPIC 'medical.t';", "develop:timing develop:medical"},
		{"DECLARE STREAM timing.n (chip VARCHAR) FROM TOPIC 'plain';", "develop:timing develop:"},
		{"DECLARE STREAM timing.n (chip VARCHAR) FROM FILES 'a.json';", "develop:timing"},
		{"DECLARE STREAM medical.n (chip VARCHAR) FROM FILES 'a.json';", "develop:medical develop:"},
		{"DECLARE STREAM timing.n (chip VARCHAR) FROM HISTORY FILES 'a.json' THEN TOPIC 'medical.t';", "develop:timing develop:medical"},
		{"DECLARE STREAM timing.n (chip VARCHAR) FROM TCP '127.0.0.1:9';", "develop:timing operate:timing"},
		{"DECLARE STREAM timing.n (i BIGINT AS (_row)) FROM GENERATOR 'g';", "develop:timing"},
		{"DECLARE TABLE timing.n (chip VARCHAR PRIMARY KEY) FROM TOPIC 'medical.t';", "develop:timing develop:medical"},
		{"DECLARE SINK timing.n TO WEB '/x' VIA outside;", "develop:timing"},
		{"DECLARE SINK medical.n TO WEB '/x' VIA outside;", "develop:medical operate:"},
		{"DECLARE SINK timing.n TO WEB '/x' VIA timing.e;", "develop:timing"},
		{"DECLARE SINK timing.n TO WEB '/x' VIA medical.e;", "develop:timing operate:medical"},
		{"DECLARE SINK timing.n TO FILES 'out';", "develop:timing"},
		{"DECLARE SINK timing.n TO TOPIC 'medical.t';", "develop:timing develop:medical"},
		{"DECLARE ENDPOINT timing.n WEB 'http://127.0.0.1:9';", "develop:timing operate:timing"},
		{"DECLARE ENDPOINT timing.n WEB 'http://127.0.0.1:9' SECRET 'medical.secret';", "develop:timing operate:timing operate:medical"},
		{"DECLARE STREAM timing.n (chip VARCHAR) FROM TOPIC 'timing.hidden';", "develop:timing disclose:timing"},
		{"DECLARE OR REPLACE STREAM timing.marked (chip VARCHAR SENSITIVE) FROM TOPIC 'timing.hidden';", "develop:timing disclose:timing"},
		{"DROP STREAM timing.marked;", "develop:timing disclose:timing"},
		{"CREATE VIEW timing.n AS SELECT chip FROM timing.marked;", "develop:timing"},
		{"CREATE VIEW timing.n AS SELECT chip FROM timing.s;", "develop:timing"},
		{"CREATE VIEW timing.n AS SELECT chip FROM medical.s;", "develop:timing develop:medical"},
		{"CREATE VIEW timing.n AS SELECT chip FROM plain_s;", "develop:timing"},
		{"CREATE VIEW medical.n AS SELECT chip FROM plain_s;", "develop:medical develop:"},
		{"CREATE VIEW timing.n AS SELECT chip FROM (SELECT chip FROM medical.s);", "develop:timing develop:medical"},
		{"CREATE VIEW timing.n AS SELECT chip FROM timing.s UNION ALL SELECT chip FROM medical.s;", "develop:timing develop:medical"},
		{"CREATE FUNCTION timing.f(a INT) RETURNS INT LANGUAGE javascript AS 'return a';", "develop:timing"},
		{"CREATE BOARD timing.n PANEL 'x' TABLE AS (SELECT chip FROM medical.s);", "develop:timing develop:medical"},
		{"CREATE ALERT timing.n WHEN (SELECT chip FROM timing.s SINCE 1 MINUTE) NOTIFY timing.k;", "develop:timing"},
		{"CREATE ALERT timing.n WHEN (SELECT chip FROM medical.s SINCE 1 MINUTE);", "develop:timing develop:medical"},
		{"CREATE ALERT medical.n WHEN (SELECT chip FROM timing.j.j);", "develop:timing develop:medical"},
		{"CREATE ALERT timing.n WHEN (SELECT job FROM fiume.jobs) NOTIFY medical.k;", "develop:timing develop:medical"},
		{"CREATE ALERT n WHEN (SELECT job FROM fiume.jobs);", "develop:"},
		{"CREATE JOB timing.n AS SELECT chip FROM timing.s ROUTE TO timing.k;", "develop:timing"},
		{"CREATE JOB timing.n AS SELECT chip FROM timing.s ROUTE TO medical.k;", "develop:timing develop:medical"},
		{"CREATE JOB timing.n WITH a AS (SELECT chip FROM medical.s) ROUTE a TO timing.k;", "develop:timing develop:medical"},
		{`CREATE JOB timing.n WITH "medical.s" AS (SELECT chip FROM medical.s) ROUTE "medical.s" TO timing.k;`, "develop:timing develop:medical"},
		{"START JOB timing.j;", "operate:timing"},
		{"STOP JOB timing.j;", "operate:timing"},
		{"DROP JOB timing.j;", "develop:timing"},
		{"DROP VIEW IF EXISTS medical.n;", "develop:medical"},
		{"INSERT INTO timing.s (chip) VALUES ('a');", "write:timing"},
		{"INSERT INTO timing.s (chip) SELECT chip FROM medical.s;", "write:timing read:medical"},
		{"EXPLAIN SELECT chip FROM medical.s;", "read:medical"},
		{"EXPLAIN JOB timing.j;", "look:timing"},
		{"DESCRIBE medical.s;", "look:medical"},
		{"SHOW STREAMS;", "look:anywhere"},
	} {
		for _, c := range callers {
			if len(c.grants) == 0 {
				continue // the operation refuses them
			}
			may := true
			for _, n := range strings.Fields(x.needs) {
				role, space, _ := strings.Cut(n, ":")
				may = may && c.has(role, space)
			}
			_, err := w.Client.With(c.token).Apply(t.Context(), api.ScriptRequest{SQL: x.sql, DryRun: true})
			refused := err != nil && (strings.Contains(err.Error(), "lacks the role") || strings.Contains(err.Error(), "is called \"") || strings.Contains(err.Error(), "not granted") ||
				strings.Contains(err.Error(), "is granted to") || strings.Contains(err.Error(), "stands in another space") || strings.Contains(err.Error(), "ask an administrator"))
			if refused == may {
				t.Errorf("%s as %s %v: %v", x.sql, c.name, c.grants, err)
			}
		}
	}
	// Questions.
	for _, x := range []struct{ sql, needs string }{
		{"SELECT chip FROM timing.s UNTIL NOW;", "read:timing"}, {"SELECT chip FROM plain_s UNTIL NOW;", "read:"}, {"SELECT m.chip FROM timing.s m UNION ALL SELECT chip FROM medical.s UNTIL NOW;", "read:timing read:medical"},
		{"WITH timing AS (SELECT chip FROM medical.s) SELECT chip FROM timing UNTIL NOW;", "read:medical"}, {"SELECT * FROM timing.j.j UNTIL NOW;", "read:timing"},
	} {
		for _, c := range callers {
			if len(c.grants) == 0 {
				continue
			}
			may := true
			for _, n := range strings.Fields(x.needs) {
				role, space, _ := strings.Cut(n, ":")
				may = may && (c.has(role, space) || strings.Contains(x.sql, "plain_s") && c.has(role, "timing"))
			}
			_, err := w.Client.With(c.token).Query(t.Context(), api.ScriptRequest{SQL: x.sql}, func([]base.Column) error { return nil }, func(json.RawMessage) error { return nil }, nil)
			refused := err != nil && (status(err) == 403 || strings.Contains(err.Error(), "is called \""))
			if refused == may {
				t.Errorf("%s as %s %v: %v", x.sql, c.name, c.grants, err)
			}
		}
	}
}

// TestSeesOnlyItsSpace: lists, completion and texts have nothing of a space that a caller does not know.
func TestSeesOnlyItsSpace(t *testing.T) {
	w, callers := inhabited(t)
	for _, c := range callers {
		if !strings.HasSuffix(c.name, "develop-timing") || !strings.HasPrefix(c.name, "p-") {
			continue
		}
		for _, path := range []string{"/api/definitions", "/api/jobs", "/api/topics", "/api/boards", "/api/alerts", "/api/words", "/api/drifts", "/api/spaces", "/api/samples", "/api/functions"} {
			req, _ := http.NewRequest("GET", w.server.URL+path, nil)
			req.Header.Set("Authorization", "Bearer "+c.token)
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			b, _ := io.ReadAll(resp.Body)
			resp.Body.Close()
			if resp.StatusCode != 200 || strings.Contains(string(b), "medical") || strings.Contains(string(b), "plain") {
				t.Errorf("%s: %d %s", path, resp.StatusCode, b)
			}
		}
		for _, sql := range []string{"SHOW STREAMS;", "SHOW TOPICS;", "SHOW JOBS;", "SHOW SINKS;", "SHOW BOARDS;", "SHOW ALERTS;", "CREATE ALERT timing.y WHEN (SELECT job FROM fiume.jobs) NOTIFY timing.q;", "SELECT chip FROM timing.nothing;", "SELECT chip FROM nothing;", "CREATE VIEW timing.v AS SELECT chip FROM plan_s;", "CREATE VIEW timing.v AS SELECT chip FROM timing.x;", "CREATE JOB timing.y AS SELECT chip FROM timing.s ROUTE TO timing.q;", "DECLARE SINK timing.y TO WEB '/x' VIA outsid;"} {
			out, err := w.Client.With(c.token).Apply(t.Context(), api.ScriptRequest{SQL: sql})
			if s := fmt.Sprint(out, err); strings.Contains(s, "medical") || strings.Contains(s, "plain") || strings.Contains(s, "\"outside\"") {
				t.Errorf("%s\n%s", sql, s)
			}
		}
		for _, table := range []string{"jobs", "topics", "steps", "sinks", "splits"} { // what the service tells of itself
			var rows []string
			_, err := w.Client.With(c.token).Query(t.Context(), api.ScriptRequest{SQL: "SELECT * FROM fiume." + table + " UNTIL NOW"}, func([]base.Column) error { return nil }, func(r json.RawMessage) error { rows = append(rows, string(r)); return nil }, nil)
			if s := strings.Join(rows, "\n"); err != nil || !strings.Contains(s, "timing") || strings.Contains(s, "medical") || strings.Contains(s, "plain") {
				t.Errorf("fiume.%s: %v\n%s", table, err, s)
			}
		}
		return
	}
	t.Fatal("there is no such caller")
}

// TestSendsWhereHeMay: a mended row goes back to its topic by who may write there, which is not said by that a job reads it.
func TestSendsWhereHeMay(t *testing.T) {
	w, callers := inhabited(t)
	if err := w.People.Grant("root", people.Share{Kind: "stream", Name: "plain_s", Space: "timing"}); err != nil {
		t.Fatal(err)
	}
	w.Parts.Apply(`CREATE JOB timing.of_plain AS SELECT chip FROM plain_s ROUTE TO timing.k SET (CHECKPOINT EVERY 1 SECOND);`)
	if err := w.Records.AddSetAside([]catalog.SetAside{{Job: "timing.of_plain", Kind: "rejected", Step: "plain_s", Reason: "no JSON", Topic: "plain", Row: "x", Raw: true}}, 10); err != nil {
		t.Fatal(err)
	}
	rows, err := w.Records.SetAsides(catalog.Looking{Job: "timing.of_plain", Limit: 1})
	if err != nil || len(rows) != 1 {
		t.Fatal(rows, err)
	}
	for _, c := range callers {
		if !c.has("write", "timing") {
			continue
		}
		_, err := w.Client.With(c.token).SendAgain(t.Context(), "timing.of_plain", rows[0].ID, `{"chip":"mended","at":"2026-05-17T09:00:00Z"}`, true)
		if (err == nil) != c.has("write", "") {
			t.Errorf("%s %v: %v", c.name, c.grants, err)
		}
	}
	// Who uses a stream is told to who may know of it.
	for _, c := range callers {
		if !c.has("look", "") {
			continue
		}
		d, err := w.Client.With(c.token).Definition(t.Context(), "plain_s")
		if err != nil || !slices.Contains(d.Users, "the job timing.of_plain") {
			t.Errorf("%s: %v %v", c.name, d, err)
		}
	}
}
