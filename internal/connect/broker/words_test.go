package broker_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/broker"
	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"
	"fiume/internal/trial/kit"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// certified makes a certificate for this machine that signs itself, and gives it in PEM.
func certified(t *testing.T) (tls.Certificate, string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "harbour"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}

// TestWords: what is wrong with a connection is said in one message, with the place and the way out, in the check of a job and in the connection
// test, and no secret is in it.
func TestWords(t *testing.T) {
	cert, ca := certified(t)
	plainOne, _ := brokers(t, 1, "reads", "results")
	start := func(opts ...kfake.Opt) *kfake.Cluster {
		c, err := kfake.NewCluster(append([]kfake.Opt{kfake.NumBrokers(1), kfake.SeedTopics(1, "reads")}, opts...)...)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(c.Close)
		return c
	}
	guarded := start(kfake.EnableSASL(), kfake.EnableACLs(), kfake.User("SCRAM-SHA-512", "race", "corridori"), kfake.Superuser("SCRAM-SHA-256", "boss", "capo"), kfake.Superuser("PLAIN", "boss", "capo"))
	sealed := start(kfake.TLS(&tls.Config{Certificates: []tls.Certificate{cert}}))
	empty := fmt.Sprintf("127.0.0.1:%d", kit.FreePort(t))
	secrets := contract.Secrets{Secret: func(name, _ string) (string, error) {
		if s, ok := map[string]string{"right": "corridori", "wrong": "geheimnis", "boss": "capo", "ca": ca, "junk": "no certificate"}[name]; ok {
			return s, nil
		}
		return "", fmt.Errorf("there is no secret '%s'", name)
	}}
	at := func(c *kfake.Cluster) string { return c.ListenAddrs()[0] }
	for what, x := range map[string]struct{ endpoint, topic, says string }{
		"well":              {"'" + at(plainOne) + "'", "reads", ""},
		"nobody there":      {"'" + empty + "'", "reads", "nobody listens there"},
		"no topic":          {"'" + at(plainOne) + "'", "reeds", "no topic 'reeds'; did you mean 'reads'?"},
		"no login":          {"'" + at(guarded) + "'", "reads", "a user and a SECRET"},
		"wrong password":    {"'boss@" + at(guarded) + "' SECRET 'wrong' (LOGIN plain)", "reads", "do not let the user boss in with this secret"},
		"wrong scram":       {"'boss@" + at(guarded) + "' SECRET 'wrong' (LOGIN scram256)", "reads", "do not let the user boss in with this secret"},
		"right password":    {"'boss@" + at(guarded) + "' SECRET 'boss' (LOGIN scram256)", "reads", ""},
		"no right":          {"'race@" + at(guarded) + "' SECRET 'right'", "reads", "the user race may not"},
		"no secret":         {"'race@" + at(guarded) + "' SECRET 'none'", "reads", "there is no secret 'none'"},
		"user alone":        {"'race@" + at(guarded) + "'", "reads", "has a user and no SECRET"},
		"not trusted":       {"'" + at(sealed) + "' (TLS on)", "reads", "signed by nobody who is trusted"},
		"trusted":           {"'" + at(sealed) + "' (TLS on, CA 'ca')", "reads", ""},
		"unverified":        {"'" + at(sealed) + "' (TLS unverified)", "reads", ""},
		"no certificate":    {"'" + at(sealed) + "' (TLS on, CA 'junk')", "reads", "holds no certificate in PEM"},
		"TLS to plain":      {"'" + at(plainOne) + "' (TLS unverified)", "reads", ""},
		"plain to TLS":      {"'" + at(sealed) + "'", "reads", "write (TLS on)"},
		"pattern of topics": {"'" + at(plainOne) + "'", "re*", ""},
	} {
		if what == "TLS to plain" {
			x.says = "do not speak TLS"
		}
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			src := "DECLARE ENDPOINT b BROKER " + x.endpoint + "; DECLARE STREAM reads (chip VARCHAR) FROM BROKER '" + x.topic + "' VIA b; SELECT chip FROM reads;"
			plans, cat, err := plan.NewCatalog(connect.Places()).Bind("q", src, nil, nil)
			if err != nil {
				t.Fatal(err)
			}
			_ = cat
			o := &connect.Opener{Env: contract.Env{Secrets: secrets}}
			err = o.Check(t.Context(), plans[0])
			if x.says == "" && err != nil || x.says != "" && (err == nil || !strings.Contains(err.Error(), x.says) || !strings.Contains(err.Error(), "endpoint b")) {
				t.Errorf("check: %v", err)
			}
			var r contract.Report
			broker.Connector.Test(t.Context(), &o.Env, contract.Tested{Stream: plans[0].Scans()[0].Stream}, &r)
			last := r.Looks[len(r.Looks)-1]
			if x.says == "" && last.Err != nil || x.says != "" && (last.Err == nil || !strings.Contains(last.Err.Error(), x.says)) {
				t.Errorf("test: %+v", r.Looks)
			}
			if all := fmt.Sprint(err, r); strings.Contains(all, "geheimnis") || strings.Contains(all, "corridori") {
				t.Errorf("a secret is told: %s", all)
			}
		})
	}
	for _, bad := range []string{"host", "a:b@host:1", "@host:1", "host:", ":9092"} {
		if err := broker.Connector.Place().Address(bad); err == nil {
			t.Errorf("the address %q is taken", bad)
		}
	}
}

// rowsOf runs a query that ends, and gives its rows, sorted.
func rowsOf(t *testing.T, src string) []string {
	t.Helper()
	out, _, err := kit.Rows(t, src, contract.Env{}, 2)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// TestBounds: reading begins and ends where SINCE, UNTIL and a group say; what transactions gave up is not read; a table has the newest message of each
// key, and an empty one deletes.
func TestBounds(t *testing.T) {
	c, cl := brokers(t, 2, "reads", "chips")
	for i := range 20 {
		send(t, cl, &kgo.Record{Topic: "reads", Partition: int32(i % 2), Value: []byte(fmt.Sprintf(`{"n":%d}`, i)), Timestamp: time.UnixMilli(base + int64(i)*1000)})
	}
	tx, err := kgo.NewClient(kgo.SeedBrokers(c.ListenAddrs()...), kgo.TransactionalID("x"), kgo.RecordPartitioner(kgo.ManualPartitioner()))
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Close()
	for _, end := range []kgo.TransactionEndTry{kgo.TryAbort, kgo.TryCommit} {
		if err := tx.BeginTransaction(); err != nil {
			t.Fatal(err)
		}
		n := 100
		if end == kgo.TryCommit {
			n = 200
		}
		for p := range int32(2) {
			send(t, tx, &kgo.Record{Topic: "reads", Partition: p, Value: []byte(fmt.Sprintf(`{"n":%d}`, n+int(p))), Timestamp: time.UnixMilli(base + 20_000)})
		}
		if err := tx.EndTransaction(t.Context(), end); err != nil {
			t.Fatal(err)
		}
	}
	var list kadm.Offsets
	list.Add(kadm.Offset{Topic: "reads", Partition: 0, At: 9})
	list.Add(kadm.Offset{Topic: "reads", Partition: 1, At: 10})
	if _, err := kadm.NewClient(cl).CommitOffsets(t.Context(), "others", list); err != nil {
		t.Fatal(err)
	}
	ask := func(options, bounds string) string {
		var ns []int
		for _, r := range rowsOf(t, endpoint(c)+"DECLARE STREAM s (n BIGINT) FROM BROKER 'reads' VIA b"+options+"; SELECT n FROM s "+bounds+";") {
			n, err := strconv.Atoi(strings.TrimSuffix(strings.TrimPrefix(r, `{"n":`), "}"))
			if err != nil {
				t.Fatal(err)
			}
			ns = append(ns, n)
		}
		slices.Sort(ns)
		return strings.Trim(fmt.Sprint(ns), "[]")
	}
	from := time.UnixMilli(base + 15_000).UTC().Format(time.RFC3339)
	until := time.UnixMilli(base + 17_000).UTC().Format(time.RFC3339)
	for _, x := range []struct{ options, bounds, want string }{
		{"", "SINCE BEGINNING UNTIL NOW", "0 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 200 201"},
		{" (UNCOMMITTED true)", "SINCE BEGINNING UNTIL NOW", "0 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 100 101 200 201"},
		{"", "SINCE TIMESTAMP '" + from + "' UNTIL NOW", "15 16 17 18 19 200 201"},
		{"", "SINCE TIMESTAMP '" + from + "' UNTIL TIMESTAMP '" + until + "'", "15 16"},
		{" (GROUP 'others')", "UNTIL NOW", "18 200 201"},
		{" (GROUP 'nobody')", "UNTIL NOW", "0 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 200 201"},
		{"", "SINCE NOW UNTIL NOW", ""},
	} {
		if got := ask(x.options, x.bounds); got != x.want {
			t.Errorf("%s %s: %s", x.options, x.bounds, got)
		}
	}
	for i, m := range []struct{ key, value string }{{"A", `{"chip":"A","name":"one"}`}, {"B", `{"chip":"B","name":"two"}`}, {"A", `{"chip":"A","name":"three"}`}, {"B", ""}, {"C", `{"chip":"C","name":"four"}`}} {
		r := &kgo.Record{Topic: "chips", Partition: int32(m.key[0]) % 2, Key: []byte(m.key), Timestamp: time.UnixMilli(base + int64(i))}
		if m.value != "" {
			r.Value = []byte(m.value)
		}
		send(t, cl, r)
	}
	got := rowsOf(t, endpoint(c)+"DECLARE TABLE chips (chip VARCHAR PRIMARY KEY, name VARCHAR) FROM BROKER 'chips' VIA b; DECLARE STREAM s (n BIGINT) FROM BROKER 'reads' VIA b;"+
		"SELECT c.chip, c.name FROM s SINCE BEGINNING JOIN chips c ON c.chip = CASE s.n WHEN 0 THEN 'A' WHEN 1 THEN 'B' WHEN 2 THEN 'C' END UNTIL NOW;")
	if want := []string{`{"chip":"A","name":"three"}`, `{"chip":"C","name":"four"}`}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
}

// TestAway: while the brokers are away a job goes on and says what it waits for; when they are there again it goes on where it was, also where they died
// in the middle of a transaction. Messages that were removed before they were read are counted as lost.
func TestAway(t *testing.T) {
	port := kit.FreePort(t)
	dir := t.TempDir()
	start := func() *kfake.Cluster {
		c, err := kfake.NewCluster(kfake.NumBrokers(1), kfake.Ports(port), kfake.DataDir(dir), kfake.SyncWrites(), kfake.SeedTopics(1, "reads", "odd"))
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	c := start()
	defer func() { c.Close() }()
	cl, err := kgo.NewClient(kgo.SeedBrokers(c.ListenAddrs()...), kgo.RecordPartitioner(kgo.ManualPartitioner()))
	if err != nil {
		t.Fatal(err)
	}
	defer cl.Close()
	write := func(from, to int) {
		for i := from; i < to; i++ {
			send(t, cl, &kgo.Record{Topic: "reads", Value: fmt.Appendf(nil, `{"n":%d}`, i)})
		}
	}
	write(0, 50)
	job := kit.New(t, endpoint(c)+"DECLARE STREAM s (n BIGINT) FROM BROKER 'reads' VIA b; DECLARE SINK odd TO BROKER 'odd' VIA b; CREATE JOB j AS SELECT n FROM s WHERE n % 2 = 1 ROUTE TO odd;", contract.Env{})
	job.Start(t)
	next := func(n int64) func() bool {
		return func() bool { st, ok := job.Status(); return ok && len(st.Splits) == 1 && st.Splits[0].Next >= n }
	}
	job.Until(t, "what is there is read", next(50))
	write(50, 60)
	c.Close()
	job.Until(t, "it is said what is waited for", func() bool {
		st, ok := job.Status()
		return ok && st.Splits[0].Waiting != nil && strings.Contains(st.Splits[0].Waiting.Reason, "nobody listens there")
	})
	c = start()
	write(60, 100)
	job.Until(t, "it goes on", next(100))
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	write(100, 140)
	var gone kadm.Offsets
	gone.Add(kadm.Offset{Topic: "reads", Partition: 0, At: 130})
	if _, err := kadm.NewClient(cl).DeleteRecords(t.Context(), gone); err != nil {
		t.Fatal(err)
	}
	job.Start(t)
	job.Until(t, "the rest is read", next(140))
	st, _ := job.Status()
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	if n := st.Steps[0].Counts; n.Lost != 30 {
		t.Errorf("%+v", n)
	}
	var got []string
	for _, m := range committed(t, c, "odd") {
		got = append(got, string(m.Value))
	}
	var want []string
	for i := range 140 {
		if i%2 == 1 && (i < 100 || i >= 130) {
			want = append(want, fmt.Sprintf(`{"n":%d}`, i))
		}
	}
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		t.Error(difference(got, want))
	}
}

// TestHangs: brokers that take calls and answer none are named, and the job goes on when they wake.
func TestHangs(t *testing.T) {
	t.Parallel()
	c, cl := brokers(t, 1, "reads", "odd")
	send(t, cl, &kgo.Record{Topic: "reads", Value: []byte(`{"n":1}`)})
	job := kit.New(t, endpoint(c)+"DECLARE STREAM s (n BIGINT) FROM BROKER 'reads' VIA b; DECLARE SINK odd TO BROKER 'odd' VIA b; CREATE JOB j AS SELECT n FROM s ROUTE TO odd;", contract.Env{})
	job.Start(t)
	job.Until(t, "a message is read", func() bool { st, ok := job.Status(); return ok && len(st.Splits) == 1 && st.Splits[0].Next == 1 })
	hangs, wakes := make(chan struct{}), make(chan struct{})
	var once sync.Once
	c.ControlKey(1, func(kmsg.Request) (kmsg.Response, error, bool) { // a fetch
		c.KeepControl()
		once.Do(func() { close(hangs) })
		c.SleepControl(func() { <-wakes })
		return nil, nil, false
	})
	<-hangs
	job.Until(t, "it is said that no answer comes", func() bool {
		st, ok := job.Status()
		return ok && st.Splits[0].Waiting != nil && strings.Contains(st.Splits[0].Waiting.Reason, "no answer came in time")
	})
	close(wakes)
	send(t, cl, &kgo.Record{Topic: "reads", Value: []byte(`{"n":2}`)})
	job.Until(t, "it goes on", func() bool {
		st, ok := job.Status()
		return ok && st.Splits[0].Next == 2 && st.Splits[0].Waiting == nil
	})
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
}
