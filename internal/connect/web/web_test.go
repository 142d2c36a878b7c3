package web_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/web/standin"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

const secret = "pl4nted-m4rker"

// world is a service and a log with the topics in and aside.
func world(t *testing.T, s *standin.Service) (at string, env contract.Env, in, aside *topiclog.Topic) {
	t.Helper()
	server := httptest.NewServer(s)
	t.Cleanup(func() { s.Away(true); server.CloseClientConnections(); server.Close() })
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { log.Close() })
	var topics []*topiclog.Topic
	for _, name := range []string{"in", "aside"} {
		x, err := log.Create(name, topiclog.Settings{Partitions: 1})
		if err != nil {
			t.Fatal(err)
		}
		topics = append(topics, x)
	}
	return server.URL, contract.Env{Topics: log, Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return secret, nil }}}, topics[0], topics[1]
}

func put(t *testing.T, topic *topiclog.Topic, rows ...string) {
	t.Helper()
	var recs []topiclog.Record
	for _, r := range rows {
		recs = append(recs, topiclog.Record{Value: []byte(r)})
	}
	if err := topic.Append(recs); err != nil {
		t.Fatal(err)
	}
}

const source = "DECLARE STREAM s (chip VARCHAR, n BIGINT, says VARCHAR) FROM TOPIC 'in'; "

// bodies are what the service has taken, sorted.
func bodies(s *standin.Service) (out []string) {
	for _, r := range s.Taken() {
		out = append(out, r.Method+" "+r.Path+" "+r.Header.Get("Content-Type")+" "+r.Body)
	}
	slices.Sort(out)
	return out
}

// TestRequests: what a sink sends is what its declaration says.
func TestRequests(t *testing.T) {
	rows := []string{`{"chip":"P/1 ä","n":1,"says":"\"hi\" & {n}"}`, `{"chip":"P2","n":2}`, `{"chip":"P3","n":3,"says":"c"}`}
	for name, x := range map[string]struct {
		sink string
		want []string
	}{
		"each a row":      {"'/rows?a=1' VIA w", []string{`POST /rows?a=1 application/json {"chip":"P/1 ä","n":1,"says":"\"hi\" & {n}"}`, `POST /rows?a=1 application/json {"chip":"P2","n":2,"says":null}`, `POST /rows?a=1 application/json {"chip":"P3","n":3,"says":"c"}`}},
		"the address":     {"'/' VIA w (METHOD patch, FORMAT csv)", []string{"PATCH /base/ text/csv; charset=utf-8 P/1 ä,1,\"\"\"hi\"\" & {n}\"", "PATCH /base/ text/csv; charset=utf-8 P2,2,", "PATCH /base/ text/csv; charset=utf-8 P3,3,c"}},
		"an array":        {"'/rows' VIA w (ROWS 2)", []string{`POST /rows application/json [{"chip":"P/1 ä","n":1,"says":"\"hi\" & {n}"},{"chip":"P2","n":2,"says":null}]`, `POST /rows application/json [{"chip":"P3","n":3,"says":"c"}]`}},
		"lines":           {"'/rows' VIA w (ROWS 100, BODY lines)", []string{"POST /rows application/x-ndjson {\"chip\":\"P/1 ä\",\"n\":1,\"says\":\"\\\"hi\\\" & {n}\"}\n{\"chip\":\"P2\",\"n\":2,\"says\":null}\n{\"chip\":\"P3\",\"n\":3,\"says\":\"c\"}\n"}},
		"a template":      {`'/rooms/{chip}' VIA w (METHOD put, TEMPLATE '{"text": {says}, "n": {n}}')`, []string{`PUT /rooms/P%2F1%20%C3%A4 application/json {"text": "\"hi\" & {n}", "n": 1}`, `PUT /rooms/P2 application/json {"text": null, "n": 2}`, `PUT /rooms/P3 application/json {"text": "c", "n": 3}`}},
		"plain text":      {`'/t' VIA w (TYPE 'text/plain', TEMPLATE '{chip}: {says}')`, []string{"POST /t text/plain P/1 ä: \"hi\" & {n}", "POST /t text/plain P2: ", "POST /t text/plain P3: c"}},
		"a form":          {`'/t' VIA w (TYPE 'application/x-www-form-urlencoded', TEMPLATE 'chip={chip}&says={says}')`, []string{"POST /t application/x-www-form-urlencoded chip=P%2F1%20%C3%A4&says=%22hi%22%20%26%20%7Bn%7D", "POST /t application/x-www-form-urlencoded chip=P2&says=", "POST /t application/x-www-form-urlencoded chip=P3&says=c"}},
		"what is dropped": {"'/rows/{n}' VIA w (METHOD delete)", []string{"DELETE /rows/1  ", "DELETE /rows/2  ", "DELETE /rows/3  "}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := &standin.Service{Token: secret}
			at, env, in, _ := world(t, s)
			put(t, in, rows...)
			j := kit.New(t, "DECLARE ENDPOINT w WEB '"+at+"/base' SECRET 'x' (HEADER 'X-Team: timing'); "+source+"DECLARE SINK k TO WEB "+x.sink+"; CREATE JOB j AS SELECT chip, n, says FROM s ROUTE TO k;", env)
			j.Start(t)
			var want []string
			for _, w := range x.want {
				verb, rest, _ := strings.Cut(w, " ")
				want = append(want, verb+" /base"+strings.TrimPrefix(rest, "/base"))
			}
			j.Until(t, "all are there", func() bool { return len(s.Taken()) >= len(want) })
			if err := j.Stop(); err != nil {
				t.Fatal(err)
			}
			if got := bodies(s); !slices.Equal(got, want) {
				t.Errorf("%q\nwanted %q", got, want)
			}
			for _, r := range s.Taken() {
				if r.Header.Get("X-Team") != "timing" || r.Key == "" {
					t.Errorf("%+v", r.Header)
				}
			}
		})
	}
}

// TestRefused: what the service refuses for what it is goes aside, once, with the reason, and what stands beside it is taken; nobody is refused for a token that is wrong.
func TestRefused(t *testing.T) {
	t.Parallel()
	s := &standin.Service{Token: secret, Refuse: func(r standin.Request) int {
		if strings.Contains(r.Body, `"says":"bad"`) {
			return http.StatusUnprocessableEntity
		}
		return 0
	}}
	at, env, in, aside := world(t, s)
	j := kit.New(t, "DECLARE ENDPOINT w WEB '"+at+"' SECRET 'x' (AT ONCE 3); "+source+"DECLARE SINK k TO WEB '/rows' VIA w (ROWS 7, BAD ROWS keep, ASIDE aside, KEY (chip)); CREATE JOB j AS SELECT chip, n, says FROM s ROUTE TO k;", env)
	j.Start(t)
	bad := 0
	for i := range 200 {
		says := "good"
		if i%31 == 5 {
			says, bad = "bad", bad+1
		}
		put(t, in, fmt.Sprintf(`{"chip":"P%d","n":%d,"says":"%s"}`, i%5, i, says))
		if i%60 == 59 {
			if err := j.Kill(); err != nil {
				t.Fatal(err)
			}
			j.Start(t)
		}
	}
	last := map[string]float64{}
	rows := func() (n int) {
		clear(last)
		for _, r := range s.Taken() {
			var list []map[string]any
			if err := json.Unmarshal([]byte(r.Body), &list); err != nil {
				t.Fatal(err)
			}
			for _, x := range list {
				chip, at := x["chip"].(string), x["n"].(float64)
				if before, ok := last[chip]; ok && at <= before {
					t.Fatalf("%s: %v came behind %v", chip, at, before)
				}
				last[chip] = at
			}
			n += len(list)
		}
		return n
	}
	j.Until(t, "all are there", func() bool { return rows() == 200-bad && len(kit.Values(t, aside)) >= bad })
	j.Until(t, "they are counted", func() bool { st, ok := j.Status(); return ok && st.Steps[len(st.Steps)-1].Counts.Rejected > 0 })
	if got := kit.Values(t, aside); len(got) != bad || !strings.Contains(got[0], "422") || !strings.Contains(got[0], "it does not take") || !strings.Contains(got[0], `\"says\":\"bad\"`) {
		t.Errorf("%d aside: %s", len(got), got)
	}
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}

	// A service that lets nobody in is waited for, and does not say the secret.
	s = &standin.Service{Token: "another"}
	at, env, in, aside = world(t, s)
	put(t, in, `{"chip":"P","n":1}`)
	j = kit.New(t, "DECLARE ENDPOINT w WEB '"+at+"' SECRET 'x'; "+source+"DECLARE SINK k TO WEB '/rows' VIA w (BAD ROWS keep, ASIDE aside); CREATE JOB j AS SELECT chip, n, says FROM s ROUTE TO k;", env)
	j.Start(t)
	j.Until(t, "it is said", func() bool {
		st, ok := j.Status()
		return ok && st.Steps[len(st.Steps)-1].Waiting != nil && strings.Contains(st.Steps[len(st.Steps)-1].Waiting.Reason, "401")
	})
	if st, _ := j.Status(); strings.Contains(fmt.Sprintf("%+v %q", st, j.Said()), secret) || len(kit.Values(t, aside)) != 0 {
		t.Errorf("%+v", st.Steps[len(st.Steps)-1].Waiting)
	}
	if err := j.Kill(); err != nil {
		t.Fatal(err)
	}
}

// TestLeftAlone: a service that asks for a pause gets it, and rows wait meanwhile.
func TestLeftAlone(t *testing.T) {
	t.Parallel()
	s := &standin.Service{}
	at, env, in, _ := world(t, s)
	j := kit.New(t, "DECLARE ENDPOINT w WEB '"+at+"' (PER SECOND 1000); "+source+"DECLARE SINK k TO WEB '/rows' VIA w; CREATE JOB j AS SELECT chip, n, says FROM s ROUTE TO k;", env)
	j.Start(t)
	s.Busy(1500 * time.Millisecond)
	busy := time.Now()
	for i := range 50 {
		put(t, in, fmt.Sprintf(`{"chip":"P","n":%d}`, i))
	}
	j.Until(t, "all are there", func() bool { return len(s.Taken()) >= 50 })
	if got := s.Taken()[0].At.Sub(busy); got < time.Second {
		t.Errorf("it was asked again after %s", got)
	}
	for i, r := range s.Taken() {
		if !strings.Contains(r.Body, fmt.Sprintf(`"n":%d,`, i)) {
			t.Fatalf("%d: %s", i, r.Body)
		}
	}
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
}

// TestLookups: rows are asked for by key, once each, also those that are not there; by one or by many; and pages are read whole, and again.
func TestLookups(t *testing.T) {
	t.Parallel()
	s := &standin.Service{Token: secret, Faulty: 0.1}
	at, env, in, _ := world(t, s)
	for i := range 40 {
		s.Put(fmt.Sprintf("P%d", i), fmt.Sprintf(`{"chip":"P%d","name":"runner %d","bib":%d}`, i, i, i))
	}
	s.Put("P7", `{ }`)
	s.Put("P8", `{"name":"eight"}`)
	s.Put("P9", `null`)
	var rows []string
	for i := range 300 {
		rows = append(rows, fmt.Sprintf(`{"chip":"P%d","n":%d}`, i%50, i))
	}
	put(t, in, rows...)
	for from, asked := range map[string]int64{"'/things/{chip}' VIA w (CACHE FOR 1 HOUR": 50, "'/things?keys={chip}' VIA w (CACHE FOR 1 HOUR, KEYS 20, ROWS AT 'data.items'": 3} {
		_, _, before := s.Counts()
		src := "DECLARE ENDPOINT w WEB '" + at + "' SECRET 'x' (AT ONCE 4); " + source + "DECLARE TABLE r (chip VARCHAR PRIMARY KEY, name VARCHAR, bib INT) FROM WEB " + from + "); "
		if asked == 3 { // answers have their keys
			s.Put("P7", "")
			s.Put("P8", `{"chip":"P8","name":"eight"}`)
			s.Put("P9", "")
		}
		got, _, err := kit.Rows(t, src+"SELECT s.n, r.name, r.bib FROM s SINCE BEGINNING LEFT JOIN r AS OF NOW ON r.chip = s.chip UNTIL NOW;", env, 2)
		if err != nil {
			t.Fatal(err)
		}
		n := map[string]int{}
		for _, row := range got {
			var x struct {
				N    int
				Name *string
				Bib  *int
			}
			if err := json.Unmarshal([]byte(row), &x); err != nil {
				t.Fatal(err)
			}
			switch chip := x.N % 50; {
			case chip == 8:
				if x.Name == nil || *x.Name != "eight" || x.Bib != nil {
					t.Errorf("%s", row)
				}
				n["eight"]++
			case chip == 7 || chip == 9 || chip >= 40:
				if x.Name != nil {
					t.Errorf("%s", row)
				}
				n["none"]++
			default:
				if x.Name == nil || *x.Name != fmt.Sprintf("runner %d", chip) || *x.Bib != chip {
					t.Errorf("%s", row)
				}
				n["there"]++
			}
		}
		if n["eight"] != 6 || n["none"] != 72 || n["there"] != 222 {
			t.Errorf("%v", n)
		}
		if _, _, after := s.Counts(); after-before > asked+2 { // what fails behind having been counted is asked again
			t.Errorf("%s: asked %d times for %d", from, after-before, asked)
		}
	}
	if _, _, err := kit.Rows(t, "DECLARE ENDPOINT w WEB '"+at+"' SECRET 'x'; "+source+"DECLARE TABLE r (chip VARCHAR PRIMARY KEY, bib INT) FROM WEB '/things/{chip}' VIA w (CACHE FOR 1 HOUR); SELECT s.n, r.bib FROM s SINCE BEGINNING LEFT JOIN r AS OF NOW ON r.chip = s.chip UNTIL NOW;",
		env, 1); err != nil {
		t.Errorf("%v", err)
	}
	s.Put("P3", `{"chip":"P3","bib":"many"}`)
	if _, _, err := kit.Rows(t, "DECLARE ENDPOINT w WEB '"+at+"' SECRET 'x'; "+source+"DECLARE TABLE r (chip VARCHAR PRIMARY KEY, bib INT) FROM WEB '/things/{chip}' VIA w (CACHE FOR 1 HOUR); SELECT s.n, r.bib FROM s SINCE BEGINNING LEFT JOIN r AS OF NOW ON r.chip = s.chip UNTIL NOW;",
		env, 1); err == nil || !strings.Contains(err.Error(), "the answer is no row") {
		t.Errorf("%v", err)
	}
}

// TestPages: a table that is read again has the rows that came, and a stream over a page without NEW BY gives those of a page that changed.
func TestPages(t *testing.T) {
	t.Parallel()
	s := &standin.Service{Faulty: 0.05}
	at, env, in, _ := world(t, s)
	for i := range 250 { // three answers
		s.Page(fmt.Sprintf(`{"chip":"P%d","name":"runner %d"}`, i, i))
	}
	log := env.Topics
	out, err := log.Create("out", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	j := kit.New(t, "DECLARE ENDPOINT w WEB '"+at+"'; "+source+"DECLARE TABLE r (chip VARCHAR PRIMARY KEY, name VARCHAR) FROM WEB '/page' VIA w (ROWS AT 'items', REFRESH EVERY 50 MILLISECONDS); DECLARE SINK k TO TOPIC 'out'; CREATE JOB j AS SELECT s.chip, r.name FROM s LEFT JOIN r AS OF NOW ON r.chip = s.chip ROUTE TO k;", env)
	j.Start(t)
	named := func(chip string) func() bool {
		return func() bool {
			put(t, in, fmt.Sprintf(`{"chip":"%s"}`, chip))
			return slices.ContainsFunc(kit.Values(t, out), func(x string) bool { return strings.Contains(x, chip) && strings.Contains(x, "runner") })
		}
	}
	j.Until(t, "the last of the third answer is known", named("P249"))
	s.Page(`{"chip":"P999","name":"runner 999"}`)
	j.Until(t, "who came later is known", named("P999"))
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	rows, _, err := kit.Rows(t, "DECLARE ENDPOINT w WEB '"+at+"'; DECLARE STREAM p (chip VARCHAR) FROM WEB '/page?from={last}' VIA w (ROWS AT 'items', NEW BY chip, BEGINS 'P9'); SELECT chip FROM p SINCE BEGINNING UNTIL NOW;", env, 1)
	if err != nil || len(rows) != 11+1 { // P90 to P99, and P999; texts beyond P9
		if len(rows) != 11 {
			t.Errorf("%d rows, %v", len(rows), err)
		}
	}
}

// TestHangs: a service that takes connections and says nothing holds nobody up for longer than TIMEOUT, and a job that waits for it ends at once.
func TestHangs(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	_, env, in, _ := world(t, &standin.Service{})
	put(t, in, `{"chip":"P","n":1}`)
	j := kit.New(t, "DECLARE ENDPOINT w WEB 'http://"+l.Addr().String()+"' (TIMEOUT 200 MILLISECONDS); "+source+"DECLARE STREAM e (text VARCHAR) FROM WEB '/events' VIA w (EVENTS true); DECLARE SINK k TO WEB '/rows' VIA w; DECLARE SINK l TO WEB '/lines' VIA w; CREATE JOB j WITH a AS (SELECT chip, n, says FROM s), b AS (SELECT text FROM e) ROUTE a TO k ROUTE b TO l;", env)
	j.Start(t)
	j.Until(t, "it is said", func() bool {
		st, ok := j.Status()
		said := 0
		for _, x := range st.Steps {
			if x.Waiting != nil && strings.Contains(x.Waiting.Reason, "has not answered within 200ms") {
				said++
			}
		}
		for _, x := range st.Splits {
			if x.Waiting != nil {
				said++
			}
		}
		return ok && said >= 2
	})
	if err := j.Kill(); err != nil {
		t.Fatal(err)
	}
}

// TestOddAnswers: answers that are too large, no JSON, of another kind, elsewhere, or without end.
func TestOddAnswers(t *testing.T) {
	t.Parallel()
	var how atomic.Value
	how.Store("")
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch how.Load() {
		case "elsewhere":
			http.Redirect(w, r, "http://elsewhere.example/page", http.StatusMovedPermanently)
		case "no JSON":
			_, _ = io.WriteString(w, `[{"n":1},`)
		case "not there":
			_, _ = io.WriteString(w, `{"rows":[]}`)
		case "endless":
			w.Header().Set("Link", `</page?again>; rel=next`)
			_, _ = io.WriteString(w, `{"items":[{"n":1}]}`)
		case "next elsewhere":
			w.Header().Set("Link", `<http://elsewhere.example/page>; rel="next"`)
			_, _ = io.WriteString(w, `{"items":[{"n":1}]}`)
		case "large":
			for range 70 {
				if _, err := io.WriteString(w, strings.Repeat(" ", 1<<20)); err != nil {
					return
				}
			}
		}
	}))
	defer server.Close()
	env := contract.Env{}
	c := connect.Of("web").(contract.Sampler)
	e := &plan.Endpoint{Name: "w", Place: "web", Address: server.URL}
	for x, words := range map[string]string{"elsewhere": "it is elsewhere, at http://elsewhere.example/page", "no JSON": "the answer is no JSON", "not there": "the answer has no 'items'", "large": "more than 67108864 bytes", "next elsewhere": "the next page is said to be elsewhere"} {
		how.Store(x)
		plans, _, err := plan.NewCatalog(connect.Places()).Bind("q", "DECLARE ENDPOINT w WEB '"+server.URL+"'; DECLARE STREAM p (n BIGINT) FROM WEB '/page' VIA w (ROWS AT 'items'); SELECT n FROM p;", nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		_, err = c.Sample(context.Background(), &env, contract.Wanted{Via: e, Address: "/page", Options: plans[0].Scans()[0].Stream.Options, Limit: 10, Bytes: 1 << 20})
		if x == "no JSON" && err == nil {
			continue
		}
		if err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", x, err)
		}
	}
	how.Store("endless")
	if got, err := c.Sample(context.Background(), &env, contract.Wanted{Via: e, Address: "/page", Limit: 10, Bytes: 1 << 20}); err != nil || len(got.Messages) != 2 {
		t.Errorf("%v %v", got, err)
	}
}

// TestDeclared: what is declared wrongly is refused, and says what to write.
func TestDeclared(t *testing.T) {
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	if _, err := log.Create("in", topiclog.Settings{Partitions: 1}); err != nil {
		t.Fatal(err)
	}
	env := contract.Env{Topics: log, Secrets: contract.Secrets{Secret: func(name, _ string) (string, error) {
		if name == "none" {
			return "", errors.New("there is no secret 'none'")
		}
		return secret, nil
	}}}
	for text, words := range map[string]string{
		"DECLARE ENDPOINT w WEB 'ftp://x'":                             "not of the form https://host",
		"DECLARE ENDPOINT w WEB 'https://a:" + secret + "@x'":          "a password does not belong into the address",
		"DECLARE ENDPOINT w WEB 'https://x/?a=1'":                      "ends with its path",
		"w SECRET 'x' k '/a'|http://far.example":                       "write https://",
		"w SECRET 'none' k '/a'|https://far.example":                   "there is no secret 'none'",
		"w SECRET 'x' (SECRET IN 'X Key') k '/a'|https://far.example":  "SECRET IN names the header",
		"w SECRET 'x' (HEADER 'nothing') k '/a'|https://far.example":   "HEADER takes 'Name: value'",
		"w  k '/a'|https://me@far.example":                             "has a user and no SECRET",
		"w  k 'a'|https://far.example":                                 "begins with / or ?",
		"w  k '/a{x y}'|https://far.example":                           "braces without the name of a column",
		"w  k '/a/{x}'|https://far.example":                            "the address names {x}, which the rows do not have",
		"w  k '/a' (TEMPLATE '{x}')|https://far.example":               "TEMPLATE names {x}, which the rows do not have",
		"w  k '/a' (TEMPLATE '{n}', ROWS 2)|https://far.example":       "leave ROWS out",
		"w  k '/a' (FORMAT csv, BODY array)|https://far.example":       "BODY array is JSON",
		"w  k '/a' (KEY (m))|https://far.example":                      `KEY names "m"`,
		"w  k '/a' (ASIDE x)|https://far.example":                      "write BAD ROWS keep too",
		"w  k '/a' (ASIDE x, BAD ROWS keep)|https://far.example":       "there is no topic 'x'",
		"w  stream '/a/{n}'|https://far.example":                       "it may be {last}, with NEW BY",
		"w  stream '/a' (BEGINS '3')|https://far.example":              "write NEW BY too",
		"w  table '/a' (CACHE FOR 1 HOUR)|https://far.example":         "write {n} into it",
		"w  table '/a/{n}/{m}' (CACHE FOR 1 HOUR)|https://far.example": "",
		"w  table '/a/{n}'|https://far.example":                        "of a table with CACHE FOR, columns of its key",
	} {
		var src string
		if head, at, ok := strings.Cut(text, "|"); !ok {
			src = text + ";"
		} else {
			head = strings.TrimPrefix(head, "w ")
			var with, what string
			for _, kind := range []string{" k ", " stream ", " table "} {
				if before, after, ok := strings.Cut(" "+head, kind); ok {
					with = before
					from, opts, _ := strings.Cut(after, " (")
					if opts != "" {
						opts = " (" + opts
					}
					switch kind {
					case " k ":
						what = "DECLARE STREAM s (n BIGINT) FROM TOPIC 'in'; DECLARE SINK k TO WEB " + from + " VIA w" + opts + "; CREATE JOB j AS SELECT n FROM s ROUTE TO k"
					case " stream ":
						what = "DECLARE STREAM q (n BIGINT) FROM WEB " + from + " VIA w" + opts + "; SELECT n FROM q"
					case " table ":
						what = "DECLARE STREAM s (n BIGINT) FROM TOPIC 'in'; DECLARE TABLE q (n BIGINT PRIMARY KEY, m BIGINT) FROM WEB " + from + " VIA w" + opts + "; SELECT s.n, q.m FROM s JOIN q AS OF NOW ON q.n = s.n"
					}
					break
				}
			}
			src = "DECLARE ENDPOINT w WEB '" + at + "' " + with + "; " + what + ";"
		}
		plans, _, err := plan.NewCatalog(connect.Places()).Bind("q", src, nil, nil)
		if err == nil && len(plans) > 0 {
			o := &connect.Opener{Env: env}
			if err = o.Check(context.Background(), plans[0]); err == nil {
				for _, op := range plans[0].Ops {
					if op.Kind == plan.Lookup && op.OfTable.Lookup {
						_, err = o.OpenLookup(op)
					} else if op.Kind == plan.Scan && op.OfTable != nil && op.Stream.Place == "web" {
						_, err = o.OpenSource(op)
					}
				}
			}
		}
		if words == "" {
			words = "which is no column of the key"
		}
		if err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", src, err)
		}
	}
}
