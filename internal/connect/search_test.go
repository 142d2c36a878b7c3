package connect_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	searchstore "fiume/internal/connect/search/standin"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

func newSearchStore(t *testing.T, s *searchstore.Store) (endpoint string) {
	t.Helper()
	s.User, s.Password = "timing", secret
	server := httptest.NewServer(s)
	t.Cleanup(server.CloseClientConnections)
	t.Cleanup(func() { s.Away(true); server.Close() })
	return "DECLARE ENDPOINT e SEARCH '" + strings.Replace(server.URL, "//", "//timing@", 1) + "' SECRET 'store';\n"
}

func newTopics(t *testing.T, names ...string) *topiclog.Log {
	t.Helper()
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { log.Close() })
	for _, n := range names {
		if _, err := log.Create(n, topiclog.Settings{Partitions: 1}); err != nil {
			t.Fatal(err)
		}
	}
	return log
}

func tellTopic(t *testing.T, topic *topiclog.Topic, messages ...string) {
	t.Helper()
	var recs []topiclog.Record
	for _, m := range messages {
		recs = append(recs, topiclog.Record{Value: []byte(m)})
	}
	if err := topic.Append(recs); err != nil {
		t.Fatal(err)
	}
}

// TestSearchKeepsTheLatest: documents of keys are what a plain computation says through kills, requests that fail, and requests that were given up and reach the store late.
func TestSearchKeepsTheLatest(t *testing.T) {
	t.Parallel()
	store := &searchstore.Store{Faulty: 0.05, Crowded: 0.005, User: "timing", Password: secret}
	r := rand.New(rand.NewPCG(3, 4))
	var late atomic.Int64
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.URL.Path == "/_bulk" && late.Add(1)%9 == 0 { // it is held up on its way, and what is sent behind it overtakes it
			body, _ := io.ReadAll(q.Body)
			again, _ := http.NewRequest(q.Method, q.URL.String(), bytes.NewReader(body))
			again.Header = q.Header.Clone()
			time.AfterFunc(50*time.Millisecond, func() { answerNobody(store, again) })
			panic(http.ErrAbortHandler)
		}
		store.ServeHTTP(w, q)
	}))
	t.Cleanup(front.Close)
	log := newTopics(t, "in")
	in := log.Topic("in")
	job := kit.New(t, "DECLARE ENDPOINT e SEARCH '"+strings.Replace(front.URL, "//", "//timing@", 1)+"' SECRET 'store';"+`
DECLARE STREAM s (chip VARCHAR, n BIGINT) FROM TOPIC 'in';
DECLARE SINK latest TO SEARCH 'latest' VIA e (KEY (chip), ROWS 50);
CREATE JOB j AS SELECT chip, COUNT(*) AS reads, MAX(n) AS newest FROM s GROUP BY chip FORGET AFTER 1 HOUR ROUTE TO latest;`, contract.Env{Topics: log, Secrets: contract.Secrets{Secret: secretly}})
	want := map[string]string{}
	reads := map[string]int{}
	n := 0
	tell := func() {
		var ms []string
		for range 40 {
			n++
			chip := fmt.Sprintf(`P|%d\`, r.IntN(30)) // what stands between the values of a key, and what is written before it
			reads[chip]++
			row := map[string]any{"chip": chip, "n": n}
			b, _ := json.Marshal(row)
			ms = append(ms, string(b))
			b, _ = json.Marshal(struct {
				Chip   string `json:"chip"`
				Reads  int    `json:"reads"`
				Newest int    `json:"newest"`
			}{chip, reads[chip], n})
			want[chip] = string(b)
		}
		tellTopic(t, in, ms...)
	}
	for life := range 12 {
		store.Away(life%4 == 2)
		job.Start(t)
		for range 3 {
			tell()
			time.Sleep(time.Duration(r.IntN(60)) * time.Millisecond)
		}
		if err := job.Kill(); err != nil {
			t.Fatal(err)
		}
	}
	store.Away(true)
	job.Start(t)
	tell() // what came before may all be there
	job.Until(t, "it is said what is waited for", func() bool {
		st, _ := job.Status()
		return slices.ContainsFunc(st.Steps, func(s flow.Step) bool { return s.Waiting != nil && s.Kind == "output" })
	})
	store.Away(false)
	right := func() bool {
		docs := store.Documents("latest")
		if len(docs) != len(want) {
			return false
		}
		for _, d := range docs {
			var x struct{ Chip string }
			if json.Unmarshal(d, &x) != nil || string(d) != want[x.Chip] {
				return false
			}
		}
		return true
	}
	job.Until(t, "the documents are the latest rows", right)
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	docs := store.Documents("latest")
	if !right() || docs[`P\|7\\`] == nil {
		t.Errorf("the store has %v", docs)
	}
}

// answerNobody carries a request out whose answer nobody reads.
func answerNobody(h http.Handler, q *http.Request) {
	defer func() { _ = recover() }() // the stand-in breaks connections in this way
	h.ServeHTTP(httptest.NewRecorder(), q)
}

// TestSearchLateRequest: a request that was given up, and is carried out behind those that were sent after it, replaces nothing that is newer.
func TestSearchLateRequest(t *testing.T) {
	t.Parallel()
	store := &searchstore.Store{User: "timing", Password: secret}
	held := make(chan struct{})
	carried := make(chan struct{})
	var first atomic.Bool
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.URL.Path == "/_bulk" && !first.Swap(true) {
			body, _ := io.ReadAll(q.Body)
			again, _ := http.NewRequest(q.Method, q.URL.String(), bytes.NewReader(body))
			again.Header = q.Header.Clone()
			go func() {
				<-held
				answerNobody(store, again)
				close(carried)
			}()
			panic(http.ErrAbortHandler)
		}
		store.ServeHTTP(w, q)
	}))
	t.Cleanup(front.Close)
	log := newTopics(t, "in")
	job := kit.New(t, "DECLARE ENDPOINT e SEARCH '"+strings.Replace(front.URL, "//", "//timing@", 1)+"' SECRET 'store';"+`
DECLARE STREAM s (chip VARCHAR, n BIGINT) FROM TOPIC 'in';
DECLARE SINK latest TO SEARCH 'latest' VIA e (KEY (chip));
CREATE JOB j AS SELECT chip, n FROM s ROUTE TO latest;`, contract.Env{Topics: log, Secrets: contract.Secrets{Secret: secretly}})
	job.Start(t)
	for n := range 2 {
		tellTopic(t, log.Topic("in"), fmt.Sprintf(`{"chip":"P1","n":%d}`, n))
		job.Until(t, "the row is there", func() bool { return string(store.Documents("latest")["P1"]) == fmt.Sprintf(`{"chip":"P1","n":%d}`, n) })
	}
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	close(held)
	<-carried
	if _, stale := store.Counts(); stale != 1 || string(store.Documents("latest")["P1"]) != `{"chip":"P1","n":1}` {
		t.Errorf("%d documents were too old, the store has %s", stale, store.Documents("latest")["P1"])
	}
}

// TestSearchRefused: documents that the store refuses are set aside one by one, those beside them are taken, and without BAD ROWS the job waits and says why.
func TestSearchRefused(t *testing.T) {
	t.Parallel()
	store := &searchstore.Store{Most: 2000}
	endpoint := newSearchStore(t, store)
	log := newTopics(t, "in")
	src := endpoint + `
DECLARE STREAM s (n BIGINT, says VARCHAR, mat VARCHAR) FROM TOPIC 'in';
DECLARE SINK kept TO SEARCH 'kept-{mat}' VIA e (%s);
CREATE JOB j AS SELECT n, says, mat FROM s ROUTE TO kept;`
	env := contract.Env{Topics: log, Secrets: contract.Secrets{Secret: secretly}}
	// The field n is a number in the store; a template makes a text of it now and then.
	job := kit.New(t, fmt.Sprintf(src, `BAD ROWS keep, TEMPLATE '{says}'`), env)
	job.Start(t)
	var ms []string
	for n := range 100 {
		says, mat := fmt.Sprintf("{\n \"n\": %d}", n), "m1"
		switch n {
		case 20:
			says = `{"n": "many"}`
		case 40:
			says = "no JSON"
		case 50:
			says = "[1]"
		case 60:
			mat = "M 1" // no index can be called so
		case 80:
			says = `{"n": 80, "long": "` + strings.Repeat("x", 3000) + `"}`
		}
		b, _ := json.Marshal(map[string]any{"n": n, "says": says, "mat": mat})
		ms = append(ms, string(b))
	}
	tellTopic(t, log.Topic("in"), ms...)
	job.Until(t, "five are refused", func() bool {
		st, ok := job.Status()
		return ok && len(st.Steps) > 0 && st.Steps[len(st.Steps)-1].Counts.Rejected == 5
	})
	said := ""
	for _, x := range job.Samples() {
		said += x.Reason + "\n"
	}
	for _, words := range []string{"failed to parse field [n] of type [long]: 'many'", "no JSON", "no JSON object", "no name of an index", "larger than the store takes"} {
		if !strings.Contains(said, words) {
			t.Errorf("nothing says %q:\n%s", words, said)
		}
	}
	if docs := store.Documents("kept-m1"); len(docs) != 95 {
		t.Errorf("%d documents", len(docs))
	}
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	job = kit.New(t, fmt.Sprintf(src, `TEMPLATE '{says}'`), env)
	job.Start(t)
	job.Until(t, "it is said why it waits", func() bool {
		st, _ := job.Status()
		return slices.ContainsFunc(st.Steps, func(s flow.Step) bool {
			return s.Waiting != nil && strings.Contains(s.Waiting.Reason, "a message is refused: document_parsing_exception: failed to parse field [n]")
		})
	})
	if err := job.Kill(); err != nil {
		t.Fatal(err)
	}
}

// TestSearchWords: what cannot be is said when it is declared or looked at, with the way out, and never with the secret.
func TestSearchWords(t *testing.T) {
	t.Parallel()
	endpoint := newSearchStore(t, &searchstore.Store{})
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "hello") }))
	t.Cleanup(other.Close)
	hello := "DECLARE ENDPOINT e SEARCH '" + other.URL + "';\n"
	job := "CREATE JOB j AS SELECT chip, COUNT(*) AS reads FROM s GROUP BY chip FORGET AFTER 1 HOUR ROUTE TO k;"
	for src, words := range map[string]string{
		endpoint + "DECLARE SINK k TO SEARCH 'Reads' VIA e;":                                                                "upper case",
		endpoint + "DECLARE SINK k TO SEARCH '-reads' VIA e;":                                                               "begins with -",
		endpoint + "DECLARE SINK k TO SEARCH 'a b' VIA e;":                                                                  "blank",
		endpoint + "DECLARE SINK k TO SEARCH 'reads' VIA e;" + job:                                                          "only adds rows",
		endpoint + "DECLARE SINK k TO SEARCH 'reads' VIA e (KEY (chip, reads));" + job:                                      "keeps the latest row of each key",
		endpoint + "DECLARE SINK k TO SEARCH 'r-{reads}' VIA e (KEY (chip));" + job:                                         "the KEY must have it",
		endpoint + "DECLARE SINK k TO SEARCH 'r' VIA e; CREATE JOB j AS SELECT chip AS _id FROM s ROUTE TO k;":              "keep for themselves",
		strings.Replace(endpoint, " SECRET 'store'", "", 1) + "DECLARE SINK k TO SEARCH 'reads' VIA e (KEY (chip));" + job:  "has a user and no SECRET",
		strings.Replace(endpoint, "'store'", "'another'", 1) + "DECLARE SINK k TO SEARCH 'reads' VIA e (KEY (chip));" + job: "nobody is let in",
		hello + "DECLARE SINK k TO SEARCH 'reads' VIA e (KEY (chip));" + job:                                                "not as a search store does",
		"DECLARE ENDPOINT e SEARCH 'http://127.0.0.1:1'; DECLARE SINK k TO SEARCH 'reads' VIA e (KEY (chip));" + job:        "refused",
	} {
		env := contract.Env{Topics: newTopics(t, "in"), Secrets: contract.Secrets{Secret: func(name, _ string) (string, error) {
			if name == "store" {
				return secret, nil
			}
			return "0ther-m4rker", nil
		}}}
		plans, _, err := plan.NewCatalog(connect.Places()).Bind("q", "DECLARE STREAM s (chip VARCHAR, n BIGINT) FROM TOPIC 'in';"+src, nil, nil)
		if err == nil {
			err = (&connect.Opener{Env: env}).Check(t.Context(), plans[0])
		}
		if err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s\n%v, wanted %q", src, err, words)
		} else if strings.Contains(err.Error(), secret) || strings.Contains(err.Error(), "0ther-m4rker") {
			t.Errorf("a secret is shown: %v", err)
		}
	}
}

// BenchmarkSearch measures how many rows of a topic become documents in a second.
func BenchmarkSearch(b *testing.B) {
	const many = 50_000
	store := &searchstore.Store{User: "timing", Password: secret}
	server := httptest.NewServer(store)
	b.Cleanup(server.Close)
	log, err := topiclog.Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { log.Close() })
	topic, err := log.Create("in", topiclog.Settings{Partitions: 2})
	if err != nil {
		b.Fatal(err)
	}
	var recs []topiclog.Record
	for n := range many {
		recs = append(recs, topiclog.Record{Value: fmt.Appendf(nil, `{"chip":"P%d","n":%d}`, n, n)})
	}
	if err := topic.Append(recs); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		job := kit.New(b, "DECLARE ENDPOINT e SEARCH '"+strings.Replace(server.URL, "//", "//timing@", 1)+"' SECRET 'store'; DECLARE STREAM s (chip VARCHAR, n BIGINT) FROM TOPIC 'in'; DECLARE SINK k TO SEARCH 'k' VIA e (KEY (chip)); CREATE JOB j AS SELECT chip, n FROM s ROUTE TO k;",
			contract.Env{Topics: log, Secrets: contract.Secrets{Secret: secretly}})
		job.Every = time.Second
		job.Start(b)
		job.Until(b, "all are there", func() bool { return len(store.Documents("k")) == many })
		if err := job.Stop(); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(many*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
}
