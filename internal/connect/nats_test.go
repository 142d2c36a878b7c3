package connect_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"
	"fiume/internal/trial/kit"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// relay is an ordinary client of a server whose stream keeps all subjects below told and kept.
func relay(t testing.TB, s *kit.NATS) jetstream.JetStream {
	t.Helper()
	var n *nats.Conn
	var err error
	for deadline := time.Now().Add(kit.Patience); ; time.Sleep(20 * time.Millisecond) {
		if n, err = nats.Connect("nats://"+s.Addr, nats.UserInfo("timing", s.Password), nats.MaxReconnects(-1), nats.ReconnectWait(20*time.Millisecond)); err == nil {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal(err)
		}
	}
	t.Cleanup(n.Close)
	js, err := jetstream.New(n)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := js.CreateOrUpdateStream(t.Context(), jetstream.StreamConfig{Name: "RACE", Subjects: []string{"told.>", "kept.>"}, Storage: jetstream.FileStorage}); err != nil {
		t.Fatal(err)
	}
	return js
}

// relayed reads all that a stream keeps of a subject.
func relayed(t testing.TB, js jetstream.JetStream, subject string) (out []string) {
	t.Helper()
	c, err := js.OrderedConsumer(context.Background(), "RACE", jetstream.OrderedConsumerConfig{FilterSubjects: []string{subject}})
	if err != nil {
		return nil // it is away
	}
	for {
		b, err := c.FetchNoWait(1000)
		if err != nil {
			return nil
		}
		n := 0
		for m := range b.Messages() {
			out = append(out, m.Subject()+" "+string(m.Data()))
			n++
		}
		if n == 0 {
			return out
		}
	}
}

func publish(t testing.TB, js jetstream.JetStream, subject string, messages ...string) {
	t.Helper()
	for _, m := range messages {
		if _, err := js.PublishMsg(context.Background(), &nats.Msg{Subject: subject, Data: []byte(m), Header: nats.Header{"Unit": {"mV"}}}); err != nil {
			t.Error(err)
		}
	}
}

func natsPlace(t *testing.T) *kit.Place {
	s := kit.StartNATS(t)
	proxy, js := kit.NewProxy(t, s.Addr), relay(t, s)
	return &kit.Place{
		Source: "DECLARE ENDPOINT d NATS 'timing@" + proxy.Addr + "' SECRET 'd'; DECLARE STREAM s (n BIGINT, says VARCHAR) FROM NATS 'told.>' VIA d;",
		Sink:   "DECLARE SINK kept TO NATS 'kept.{n}' VIA d;", Secret: s.Password,
		Env:   contract.Env{Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return s.Password, nil }}},
		Write: func(t testing.TB, messages []string) { publish(t, js, "told.a", messages...) },
		Away:  func(_ testing.TB, gone bool) { proxy.Cut(gone) },
		Kill: func(t testing.TB) {
			s.Kill()
			s.Start(t)
			js = relay(t, s)
		},
		Read: func(t testing.TB) (rows []string) {
			for _, r := range relayed(t, js, "kept.>") {
				_, row, _ := strings.Cut(r, " ")
				rows = append(rows, row)
			}
			return rows
		}}
}

// TestNATS: what a stream keeps is read by its sequence, through kills of the server, from a time, up to now; what is sent has its subject of columns and its headers.
func TestNATS(t *testing.T) {
	t.Parallel()
	s := kit.StartNATS(t)
	js := relay(t, s)
	log, out := topicOut(t)
	env := contract.Env{Topics: log, Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return s.Password, nil }}}
	endpoint := "DECLARE ENDPOINT d NATS 'timing@" + s.Addr + "' SECRET 'd'; "
	const stream = `DECLARE STREAM s (mat VARCHAR AS (SPLIT(_key, '.')[2]), unit VARCHAR AS (_headers['Unit']), n BIGINT) FROM NATS 'told.*.reads' VIA d; `
	j := kit.New(t, endpoint+stream+`DECLARE SINK o TO TOPIC 'out'; DECLARE SINK back TO NATS 'kept.{mat}' VIA d (HEADERS (unit), BAD ROWS keep);
		CREATE JOB j WITH a AS (SELECT mat, unit, n FROM s) ROUTE a TO o, back;`, env)
	publish(t, js, "told.km-5.reads", `{"n":1}`, `{"n":2}`)
	publish(t, js, "told.km-5.other", `{"n":100}`)
	middle := time.Now()
	publish(t, js, "told.km 10.reads") // nothing
	publish(t, js, "told.bridge.reads", `{"n":3}`, `nonsense`)
	j.Start(t)
	j.Until(t, "they are there", func() bool { return len(kit.Values(t, out)) == 3 })
	s.Kill()
	j.Until(t, "it is said that the server is away", func() bool {
		st, ok := j.Status()
		return ok && len(st.Splits) > 0 && st.Splits[0].Waiting != nil
	})
	s.Start(t)
	js = relay(t, s)
	publish(t, js, "told.finish.reads", `{"n":4}`)
	j.Until(t, "it goes on", func() bool { return len(kit.Values(t, out)) == 4 && len(relayed(t, js, "kept.>")) == 4 })
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	got := relayed(t, js, "kept.>")
	slices.Sort(got)
	if want := []string{`kept.bridge {"mat":"bridge","n":3}`, `kept.finish {"mat":"finish","n":4}`, `kept.km-5 {"mat":"km-5","n":1}`, `kept.km-5 {"mat":"km-5","n":2}`}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	for query, want := range map[string]int{
		"SELECT n FROM s SINCE BEGINNING UNTIL NOW;":                                                                   4,
		"SELECT n FROM s SINCE TIMESTAMP '" + middle.UTC().Format("2006-01-02 15:04:05.000000") + "' UNTIL NOW;":       2,
		"SELECT n FROM s SINCE BEGINNING UNTIL TIMESTAMP '" + middle.UTC().Format("2006-01-02 15:04:05.000000") + "';": 2,
		"SELECT n FROM s SINCE NOW UNTIL NOW;":                                                                         0,
	} {
		rows, _, err := kit.Rows(t, endpoint+stream+query, env, 1)
		if err != nil || len(rows) != want {
			t.Errorf("%s: %q %v, wanted %d", query, rows, err, want)
		}
	}
	// What the server removes before it is read is counted.
	keeper, err := js.Stream(t.Context(), "RACE")
	if err != nil {
		t.Fatal(err)
	}
	publish(t, js, "told.km-5.reads", `{"n":5}`, `{"n":6}`)
	info, err := keeper.Info(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if err := keeper.Purge(t.Context(), jetstream.WithPurgeSequence(info.State.LastSeq)); err != nil {
		t.Fatal(err)
	}
	j.Start(t)
	j.Until(t, "the loss is counted", func() bool {
		st, ok := j.Status()
		return ok && len(st.Steps) > 0 && st.Steps[0].Counts.Lost > 0 && len(kit.Values(t, out)) == 5
	})
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	via := &plan.Endpoint{Name: "d", Place: "nats", Address: "timing@" + s.Addr, Secret: "d"}
	sample, err := connect.Of("nats").(contract.Sampler).Sample(t.Context(), &env, contract.Wanted{Address: "kept.>", Via: via, Limit: 5, Bytes: 1 << 20, From: -1})
	if err != nil || len(sample.Messages) == 0 || !strings.HasPrefix(string(sample.Messages[0].Key), "kept.") {
		t.Errorf("%+v %v", sample, err)
	}
	// What cannot be is said before anything runs.
	for _, c := range []struct{ endpoint, rest, want string }{
		{endpoint, "FROM NATS 'nowhere.x' VIA d", "no stream of the server keeps the subject 'nowhere.x'; there are RACE"},
		{endpoint, "FROM NATS 'told.x' VIA d (KEPT BY 'MARCH')", "the server has no stream 'MARCH'; there are RACE"},
		{endpoint, "FROM NATS 'told..x' VIA d", "'told..x' is no subject"},
		{strings.Replace(endpoint, "timing@", "nobody@", 1), "FROM NATS 'told.x' VIA d", "Authorization Violation"},
		{strings.Replace(endpoint, "timing@", "timing:x@", 1), "FROM NATS 'told.x' VIA d", "a password does not belong into the address"},
		{"DECLARE ENDPOINT d NATS '127.0.0.1:1'; ", "FROM NATS 'told.x' VIA d", "endpoint d at 127.0.0.1:1"},
	} {
		plans, _, err := plan.NewCatalog(connect.Places()).Bind("j", c.endpoint+"DECLARE STREAM s (n BIGINT) "+c.rest+"; DECLARE SINK o TO TOPIC 'out'; CREATE JOB j AS SELECT n FROM s ROUTE TO o;", nil, nil)
		if err == nil {
			err = (&connect.Opener{Env: env}).Check(t.Context(), plans[0])
		}
		if err == nil || !strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), s.Password) {
			t.Errorf("%s: %v, wanted %q", c.rest, err, c.want)
		}
	}
}
