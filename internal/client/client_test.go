package client_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"fiume/internal/api"
	"fiume/internal/client"
	"fiume/internal/service"
	"fiume/internal/service/alerts"
	"fiume/internal/service/base"
	"fiume/internal/service/databases"
	"fiume/internal/service/questions"
	"fiume/internal/service/samples"
	"fiume/internal/service/servicetest"
)

// world is the network interface over the parts of a service, and a client of it.
type world struct {
	*servicetest.Parts
	*client.Client
	server *httptest.Server
}

func open(t *testing.T) *world {
	p := servicetest.New(t)
	s := &service.Service{Topics: p.Topics, Jobs: p.Jobs, Samples: p.Samples, Definitions: p.Definitions, Questions: p.Questions, Secrets: p.Secrets, People: p.People, Boards: p.Boards, Databases: databases.New(p.Base, nil, p.Secrets)}
	var err error
	if s.Alerts, err = alerts.New(p.Base); err != nil {
		t.Fatal(err)
	}
	s.Alerts.Now, s.Questions.Own = s.Questions.Now, s.Own
	ctx, end := context.WithCancel(t.Context())
	console := fstest.MapFS{"index.html": {Data: []byte("<title>console</title>")}, "assets/a.js": {Data: []byte("1")}}
	server := httptest.NewServer(api.New(ctx, s, console, slog.New(slog.DiscardHandler), api.Settings{}))
	t.Cleanup(func() { end(); server.Close() })
	return &world{p, client.New(server.URL + "/"), server}
}

// status gives the status of a problem, 0 where there is none.
func status(err error) int {
	var p *api.Problem
	if errors.As(err, &p) {
		return p.Status
	}
	return 0
}

// TestClient calls all that a client can, and compares what comes over the network with what the parts themselves say.
func TestClient(t *testing.T) {
	w := open(t)
	ctx := t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	same := func(a, b any) {
		t.Helper()
		x, err := json.Marshal(a)
		must(err)
		y, err := json.Marshal(b)
		must(err)
		if !bytes.Equal(x, y) {
			t.Errorf("%s\n%s", x, y)
		}
	}
	info, err := w.CreateTopic(ctx, api.TopicRequest{Name: "reads", Partitions: 2})
	if err != nil || info.Name != "reads" || len(info.Partitions) != 2 {
		t.Fatal(info, err)
	}
	script := strings.Replace(servicetest.Reads, "CREATE TOPIC reads (PARTITIONS 2);", "", 1)
	dry, err := w.Client.Apply(ctx, api.ScriptRequest{SQL: script, DryRun: true})
	if err != nil || len(dry.Outcomes) != 3 || dry.Outcomes[0].Done != "would be declared" {
		t.Fatal(dry, err)
	}
	done, err := w.Client.Apply(ctx, api.ScriptRequest{SQL: script + servicetest.Strong})
	if err != nil || len(done.Outcomes) != 4 || done.Problem != nil {
		t.Fatal(done, err)
	}
	key := "A"
	must(w.Client.Write(ctx, "reads", []api.MessageRequest{{Key: &key, Value: `{"chip":"A","mat":"m","rssi":-50,"read_at":"2026-05-17T09:00:01Z"}`}, {Key: &key, Value: "no JSON"}}))
	for range 2 {
		must(w.WriteBatch(ctx, "reads", "one", []api.MessageRequest{{Key: &key, Value: `{"chip":"B","mat":"m","rssi":-50,"read_at":"2026-05-17T09:00:02Z"}`}}))
	}
	w.Wait("rows", func() bool { return len(w.Values("strong")) == 2 })
	w.WaitFor("strong_reads", "running")
	w.Wait("the rejected row", func() bool { return w.State("strong_reads").Rejects == 1 })
	w.Parts.Jobs.Look(time.Now(), true)

	list, err := w.Client.Jobs(ctx)
	if err != nil || len(list) != 1 || list[0].Name != "strong_reads" {
		t.Error(list, err)
	}
	job, err := w.Job(ctx, "strong_reads")
	if err != nil || job.Out != 2 || job.Rejects != 1 || job.Plan == nil {
		t.Error(job, err)
	}
	state, err := w.JobState(ctx, "strong_reads")
	if err != nil || len(state.Sinks) != 1 {
		t.Error(state, err)
	}
	versions, err := w.Versions(ctx, "strong_reads")
	own, _ := w.Parts.Jobs.Versions("strong_reads")
	must(err)
	same(versions, own)
	w.Wait("a checkpoint", func() bool { all, err := w.Checkpoints(ctx, "strong_reads"); return err == nil && len(all) > 0 })
	must(w.SetParallelism(ctx, "strong_reads", 2))
	must(w.StopJob(ctx, "strong_reads"))
	if err := w.StopJob(ctx, "strong_reads"); status(err) != http.StatusConflict {
		t.Error(err)
	}
	must(w.StartJob(ctx, "strong_reads"))
	if _, err := w.Revert(ctx, "strong_reads", 0); status(err) != http.StatusConflict {
		t.Error(err)
	}
	cmp, err := w.Compare(ctx, "strong_reads", "BEGINNING", api.ScriptRequest{SQL: strings.Replace(servicetest.Strong, "-60", "-40", 1)})
	if err != nil || cmp.Sinks[0].Missing != 2 {
		t.Error(cmp, err)
	}
	if h, err := w.History(ctx, "strong_reads", 5); err != nil || h.Job != "strong_reads" {
		t.Error(h, err)
	}
	aside, err := w.SetAside(ctx, "strong_reads", url.Values{"kind": {"rejected"}})
	if err != nil || len(aside.Rows) != 1 || aside.Rows[0].Row != "no JSON" {
		t.Fatal(aside, err)
	}
	if b, err := w.SetAsideFile(ctx, "strong_reads", url.Values{"kind": {"rejected"}}); err != nil || !bytes.Contains(b, []byte("no JSON")) {
		t.Errorf("%s %v", b, err)
	}
	if again, err := w.SendAgain(ctx, "strong_reads", aside.Rows[0].ID, `{"chip":"C","mat":"m","rssi":-50,"read_at":"2026-05-17T09:00:03Z"}`, false); err != nil || again.SentAt == nil {
		t.Error(again, err)
	}
	w.Wait("the mended row", func() bool { return len(w.Values("strong")) == 3 })
	if why, err := w.Why(ctx, "strong_reads", "strong", json.RawMessage(`{"chip":"B","mat":"m"}`)); err != nil || !why.Confirmed {
		t.Error(why, err)
	}
	if b, err := w.Became(ctx, "strong_reads", "reads", part(t, w, "no JSON"), 1); err != nil || b.Message.Value != "no JSON" {
		t.Error(b, err)
	}

	topics, err := w.Client.Topics(ctx)
	must(err)
	same(topics, w.Parts.Topics.List())
	if ms, err := w.Client.Read(ctx, "reads", url.Values{"text": {"no JSON"}}); err != nil || len(ms) != 1 {
		t.Error(ms, err)
	}
	defs, err := w.Client.Definitions(ctx, "stream")
	must(err)
	same(defs, w.Parts.Definitions.List("stream"))
	def, err := w.Definition(ctx, "reads")
	mine, _ := w.Parts.Definitions.Get("reads")
	must(err)
	same(def, mine)
	if rows, err := w.Rows(ctx, "reads", 20); err != nil || len(rows.Results[0].Rows) != 3 {
		t.Error(rows, err)
	}
	if f, err := w.Functions(ctx); err != nil || len(f) != len(w.Parts.Definitions.Functions()) {
		t.Error(len(f), err)
	}
	if x, err := w.Words(ctx); err != nil || len(x.Keywords) == 0 {
		t.Error(x, err)
	}
	if c, err := w.Check(ctx, api.ScriptRequest{SQL: "SELECT x FROM reads;"}); err != nil || c.OK || len(c.Errors) != 1 {
		t.Error(c, err)
	}
	if text, err := w.Format(ctx, api.ScriptRequest{SQL: "select chip from reads;"}); err != nil || !strings.HasPrefix(text, "SELECT chip") {
		t.Error(text, err)
	}
	if l, err := w.Lateness(ctx, "reads", url.Values{"since": {"BEGINNING"}}); err != nil || l.Rows != 3 {
		t.Error(l, err)
	}
	if d, err := w.Drift(ctx, "reads"); err != nil || d.Stream != "reads" {
		t.Error(d, err)
	}
	if d, err := w.Drifts(ctx); err != nil || len(d) != 0 {
		t.Error(d, err)
	}
	if p, err := w.Propose(ctx, samples.SampleRequest{Topic: "reads"}); err != nil || !strings.Contains(p.SQL, "DECLARE") {
		t.Error(p, err)
	}
	kept, err := w.KeepSample(ctx, samples.SampleRequest{Topic: "strong", Name: "three"})
	if err != nil || kept.Messages != 3 {
		t.Fatal(kept, err)
	}
	if all, err := w.Client.Samples(ctx); err != nil || len(all) != 1 {
		t.Error(all, err)
	}
	if one, err := w.Sample(ctx, kept.ID); err != nil || len(one.First) != 3 {
		t.Error(one, err)
	}
	if r, err := w.Try(ctx, questions.TryRequest{SQL: "SELECT chip FROM reads;"}); err != nil || r.Results[0].Total != 3 {
		t.Error(r, err)
	}
	b, err := w.KeepTry(ctx, api.KeepTryRequest{TryRequest: questions.TryRequest{SQL: "SELECT chip FROM reads;"}, Name: "t"})
	must(err)
	if _, err := zip.NewReader(bytes.NewReader(b), int64(len(b))); err != nil {
		t.Error(err)
	}
	must(w.DropSample(ctx, kept.ID))
	if err := w.DropSample(ctx, kept.ID); status(err) != http.StatusNotFound {
		t.Error(err)
	}
	if c, err := w.Connections(ctx, "", nil, []string{"reads", "strong"}); err != nil || len(c) != 2 || !c[0].OK {
		t.Error(c, err)
	}
	must(w.SetSecret(ctx, "s", "hidden"))
	must(w.SetSecretFor(ctx, "s2", "hidden", "a@b:1"))
	if all, err := w.Client.Secrets(ctx); err != nil || len(all) != 2 || all[1].For != "a@b:1" {
		t.Error(all, err)
	}
	must(w.DropSecret(ctx, "s"))
	if _, err := w.Client.Databases(ctx); status(err) != http.StatusBadRequest || !strings.Contains(err.Error(), "no private server") {
		t.Error(err)
	}
	if _, err := w.RunStatements(ctx, "nothing", "SELECT 1"); status(err) != http.StatusNotFound {
		t.Error(err)
	}

	// Events: a query to its end, and a topic that is followed.
	var columns []base.Column
	var rows []string
	end, err := w.Client.Query(ctx, api.ScriptRequest{SQL: "SELECT chip FROM reads SINCE BEGINNING UNTIL NOW;"}, func(c []base.Column) error { columns = c; return nil },
		func(r json.RawMessage) error { rows = append(rows, string(r)); return nil }, func(questions.QueryAside) {})
	slices.Sort(rows)
	if err != nil || len(columns) != 1 || !slices.Equal(rows, []string{`{"chip":"A"}`, `{"chip":"B"}`, `{"chip":"C"}`}) || end.Rows != 3 {
		t.Error(rows, end, err)
	}
	enough := errors.New("enough")
	if _, err := w.Client.Query(ctx, api.ScriptRequest{SQL: "SELECT chip FROM reads SINCE BEGINNING;"}, func([]base.Column) error { return nil }, func(json.RawMessage) error { return enough }, func(questions.QueryAside) {}); !errors.Is(err, enough) {
		t.Error(err)
	}
	var seen []string
	err = w.Client.Follow(ctx, "reads", url.Values{"partition": {"-1"}}, func(f api.Followed) error {
		if len(seen) == 0 && len(f.Messages) == 0 {
			return w.Client.Write(ctx, "reads", []api.MessageRequest{{Value: "followed"}}) // from now on nothing is missed
		}
		for _, m := range f.Messages {
			seen = append(seen, m.Value)
		}
		return enough
	})
	if !errors.Is(err, enough) || !slices.Equal(seen, []string{"followed"}) {
		t.Error(seen, err)
	}

	must(w.DropJob(ctx, "strong_reads"))
	if err := w.DropTopic(ctx, "nothing"); status(err) != http.StatusNotFound {
		t.Error(err)
	}
	w.Parts.Apply("DROP SINK strong; DROP STREAM reads;")
	must(w.DropTopic(ctx, "reads"))

	w.server.Close()
	if _, err := w.Client.Topics(ctx); !errors.Is(err, client.ErrNoService) || !strings.Contains(err.Error(), "start it with: fiume serve") {
		t.Error(err)
	}
}

// part finds the partition of a message.
func part(t *testing.T, w *world, text string) int {
	ms, err := w.Client.Read(t.Context(), "reads", url.Values{"text": {text}})
	if err != nil || len(ms) != 1 {
		t.Fatal(ms, err)
	}
	return ms[0].Partition
}

// TestPages: lists come page by page, and one whose next element is dropped meanwhile goes on behind it.
func TestPages(t *testing.T) {
	w := open(t)
	var want []string
	for i := range 25 {
		n := "t" + strconv.Itoa(100+i)
		want = append(want, n)
		w.Parts.Apply("CREATE TOPIC " + n + " (PARTITIONS 1);")
	}
	all, err := w.Client.Topics(t.Context())
	var got []string
	for _, x := range all {
		got = append(got, x.Name)
	}
	if err != nil || !slices.Equal(got, want) {
		t.Error(got, err)
	}
	page := func(after string) (p struct {
		Items []struct{ Name string }
		Next  string
	}) {
		r, err := http.Get(w.server.URL + "/api/topics?limit=10&after=" + url.QueryEscape(after))
		if err != nil {
			t.Fatal(err)
		}
		defer r.Body.Close()
		if err := json.NewDecoder(r.Body).Decode(&p); err != nil {
			t.Fatal(err)
		}
		return p
	}
	first := page("")
	if len(first.Items) != 10 || first.Next == "" {
		t.Fatalf("%+v", first)
	}
	w.Parts.Apply("DROP TOPIC t109; DROP TOPIC t110;")
	if second := page(first.Next); len(second.Items) != 10 || second.Items[0].Name != "t111" {
		t.Errorf("%+v", second)
	}
}

// TestRefused: what is no request of ours is a problem that says what is wrong; nothing of it is a page, and none ends the service.
func TestRefused(t *testing.T) {
	w := open(t)
	w.Parts.Apply(servicetest.Reads)
	for _, x := range []struct {
		method, path, body string
		header             []string
		status             int
		says               string
	}{
		{"GET", "/api/nothing", "", nil, 404, "there is no such call"},
		{"GET", "/nothing", "", nil, 404, "there is no /nothing"},
		{"GET", "/api/jobs/none", "", nil, 404, "no job is called"},
		{"POST", "/api/apply", `{"sql":"`, nil, 400, ""},
		{"POST", "/api/apply", `{"sql":"SELEC;"}`, nil, 422, "SELEC"},
		{"POST", "/api/apply", `{"nothing":1}`, nil, 422, "sql is missing"},
		{"POST", "/api/apply", `{"sql":"CREATE TOPIC x;"}`, []string{"Content-Type", "text/plain"}, 415, "application/json"},
		{"POST", "/api/apply", `{"sql":"CREATE TOPIC x;"}`, []string{"Origin", "http://elsewhere.example"}, 403, "from this machine"},
		{"POST", "/api/apply", `{"sql":"CREATE TOPIC x;"}`, []string{"Sec-Fetch-Site", "cross-site"}, 403, ""},
		{"POST", "/api/topics", `{"name":"x","partitions":2000}`, nil, 422, "partitions takes a number up to 1000"},
		{"POST", "/api/topics", `{"name":"x","more":1}`, nil, 422, "there is no more"},
		{"POST", "/api/topics", `{"name":"reads"}`, nil, 409, "already"},
		{"GET", "/api/topics/reads/messages?from=x", "", nil, 422, "from"},
		{"GET", "/api/topics/reads/messages?limit=-1", "", nil, 422, "limit"},
		{"GET", "/api/topics/..%2F..%2Fidentity", "", nil, 404, "there is no topic"},
		{"PUT", "/api/jobs/none/parallelism", `{"tasks":"many"}`, nil, 422, "tasks"},
		{"PUT", "/api/secrets/a%20b", `{"value":"hidden"}`, nil, 400, "a secret's name"},
		{"DELETE", "/api/samples/x", "", nil, 422, "id"},
	} {
		r, err := http.NewRequest(x.method, w.server.URL+x.path, strings.NewReader(x.body))
		if err != nil {
			t.Fatal(err)
		}
		if x.body != "" {
			r.Header.Set("Content-Type", "application/json")
		}
		for i := 0; i+1 < len(x.header); i += 2 {
			r.Header.Set(x.header[i], x.header[i+1])
		}
		a, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Errorf("%s %s: %v", x.method, x.path, err)
			continue
		}
		var p api.Problem
		err = json.NewDecoder(a.Body).Decode(&p)
		a.Body.Close()
		if a.StatusCode != x.status || err != nil || p.Detail == "" || !strings.Contains(p.Detail, x.says) || strings.Contains(p.Detail, "hidden") {
			t.Errorf("%s %s %s: %d %+v %v", x.method, x.path, x.body, a.StatusCode, p, err)
		}
	}
	if n := len(w.Parts.Topics.List()); n != 2 {
		t.Errorf("there are %d topics", n)
	}
	for path, want := range map[string]string{"/": "<title>console</title>", "/jobs/x": "<title>console</title>", "/assets/a.js": "1"} {
		a, err := http.Get(w.server.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		var b bytes.Buffer
		_, err = b.ReadFrom(a.Body)
		a.Body.Close()
		if a.StatusCode != 200 || b.String() != want || err != nil {
			t.Errorf("%s: %d %s %v", path, a.StatusCode, b.String(), err)
		}
	}
}
