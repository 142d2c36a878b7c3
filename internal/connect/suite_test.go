package connect_test

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/lake"
	"fiume/internal/connect/lake/standin"
	"fiume/internal/connect/rows"
	searchstore "fiume/internal/connect/search/standin"
	objectstore "fiume/internal/connect/store/standin"
	"fiume/internal/connect/text"
	webservice "fiume/internal/connect/web/standin"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"

	"github.com/go-sql-driver/mysql"
	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
)

const secret = "pl4nted-m4rker"

func secretly(string, string) (string, error) { return secret, nil }

// everyPlace gives how each place is opened.
func everyPlace(t *testing.T) map[string]func(*testing.T) *kit.Place {
	server := databaseServer(t)
	queues := sync.OnceValue(func() *kit.AMQP { return kit.StartAMQP(t) }) // it is slow to start
	return map[string]func(*testing.T) *kit.Place{"lake": lakePlace, "lake without a catalogue": ledgerPlace, "lake without a catalogue in an object store": farLedgerPlace, "lake of a service": restLakePlace, "lake in a database and an object store": farLakePlace(server), "search": searchPlace, "web": webPlace(false), "web events": webPlace(true), "topics": topicsPlace, "files": filesPlace, "object store": objectsPlace, "broker": brokerPlace, "mariadb": databasePlace(server), "amqp": amqpPlace(queues), "mqtt": mqttPlace, "nats": natsPlace, "postgres": postgresPlace(kit.StartPostgres(t))}
}

// TestSuite: every place that is read and written keeps what all promise.
func TestSuite(t *testing.T) {
	t.Parallel()
	for name, open := range everyPlace(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			kit.Suite(t, open)
		})
	}
}

// TestGone: a sink whose place is away for long, $AWAY, waits without memory for what comes meanwhile, and loses nothing.
func TestGone(t *testing.T) {
	long := time.Second
	if d, err := time.ParseDuration(os.Getenv("AWAY")); err == nil {
		long = d
	}
	for name, open := range everyPlace(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel() // so that the memory is that of several
			p := open(t)
			if p.Away == nil { // what is on the disk is not away
				return
			}
			if p.Env.Topics == nil {
				p.Env.Topics, _ = topicOut(t)
			}
			feed, err := p.Env.Topics.Create("feed", topiclog.Settings{Partitions: 1})
			if err != nil {
				t.Fatal(err)
			}
			kit.Gone(t, p, feed, long)
		})
	}
}

// TestKilledPeers: databases and brokers that are killed while jobs read and write there lose nothing, and double nothing that they do not send twice.
func TestKilledPeers(t *testing.T) {
	t.Parallel()
	kills := 3
	if kit.Brief {
		kills = 1
	}
	if n, err := strconv.Atoi(os.Getenv("KILLS")); err == nil {
		kills = n
	}
	for name, open := range map[string]func(*testing.T) *kit.Place{
		"mariadb":  func(t *testing.T) *kit.Place { return databasePlace(databaseServer(t))(t) },
		"postgres": func(t *testing.T) *kit.Place { return postgresPlace(kit.StartPostgres(t))(t) },
		"amqp": func(t *testing.T) *kit.Place {
			a := kit.StartAMQP(t)
			return amqpPlace(func() *kit.AMQP { return a })(t)
		},
		"nats": natsPlace,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			kit.Killed(t, open(t), kills)
		})
	}
}

func topicsPlace(t *testing.T) *kit.Place {
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { log.Close() })
	in, err := log.Create("in", topiclog.Settings{Partitions: 2})
	if err != nil {
		t.Fatal(err)
	}
	out, err := log.Create("out", topiclog.Settings{Partitions: 2})
	if err != nil {
		t.Fatal(err)
	}
	return &kit.Place{Source: "DECLARE STREAM s (n BIGINT, says VARCHAR) FROM TOPIC 'in';", Sink: "DECLARE SINK kept TO TOPIC 'out';", Env: contract.Env{Topics: log},
		Write: func(t testing.TB, messages []string) {
			var recs []topiclog.Record
			for _, m := range messages {
				recs = append(recs, topiclog.Record{Value: []byte(m)})
			}
			if err := in.Append(recs); err != nil {
				t.Error(err)
			}
		},
		Grow: func(t testing.TB) {
			if _, err := log.Grow("in", len(in.Partitions())+1); err != nil {
				t.Error(err)
			}
		},
		Read: func(t testing.TB) []string { return kit.Values(t, out) }}
}

func filesPlace(t *testing.T) *kit.Place {
	in, out, n := t.TempDir(), t.TempDir(), 0
	return &kit.Place{Source: "DECLARE STREAM s (n BIGINT, says VARCHAR) FROM FILES '" + in + "' (FOLLOW true, REST 50 MILLISECONDS, LOOK EVERY 20 MILLISECONDS);",
		Sink: "DECLARE SINK kept TO FILES '" + out + "' (ROLL EVERY 100 MILLISECONDS);",
		Write: func(t testing.TB, messages []string) {
			n++
			name := filepath.Join(in, fmt.Sprintf("%06d.json", n))
			if err := os.WriteFile(filepath.Join(in, ".coming"), []byte(strings.Join(messages, "\n")+"\n"), 0o600); err != nil {
				t.Error(err)
			}
			if err := os.Rename(filepath.Join(in, ".coming"), name); err != nil {
				t.Error(err)
			}
		},
		Read: func(t testing.TB) (rows []string) {
			names, _ := filepath.Glob(out + "/part-*")
			for _, n := range names {
				b, err := os.ReadFile(n)
				if err != nil {
					t.Fatal(err)
				}
				for line := range bytes.Lines(b) {
					rows = append(rows, string(line))
				}
			}
			return rows
		}}
}

// objects is an object store with a bucket, race, that can go away, and a client that it never goes away from.
func objects(t *testing.T) (address string, c *minio.Client, away func(bool)) {
	s, err := objectstore.New("timing", secret, "race")
	if err != nil {
		t.Fatal(err)
	}
	var gone atomic.Bool
	good := httptest.NewServer(s)
	t.Cleanup(good.Close)
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if gone.Load() {
			panic(http.ErrAbortHandler)
		}
		s.ServeHTTP(w, r)
	}))
	t.Cleanup(front.Close)
	if c, err = minio.New(strings.TrimPrefix(good.URL, "http://"), &minio.Options{Creds: credentials.NewStaticV4("timing", secret, ""), Region: "us-east-1"}); err != nil {
		t.Fatal(err)
	}
	return strings.Replace(front.URL, "//", "//timing@", 1), c, gone.Store
}

func objectsPlace(t *testing.T) *kit.Place {
	address, c, away := objects(t)
	n := 0
	return &kit.Place{
		Source: "DECLARE ENDPOINT far FILES '" + address + "' SECRET 'far'; DECLARE STREAM s (n BIGINT, says VARCHAR) FROM FILES 's3://race/in/' VIA far (FOLLOW true, LOOK EVERY 50 MILLISECONDS);",
		Sink:   "DECLARE SINK kept TO FILES 's3://race/out' VIA far (ROLL EVERY 100 MILLISECONDS);", Env: contract.Env{Secrets: contract.Secrets{Secret: secretly}}, Secret: secret,
		Write: func(t testing.TB, messages []string) {
			n++
			b := []byte(strings.Join(messages, "\n") + "\n")
			if _, err := c.PutObject(context.Background(), "race", fmt.Sprintf("in/%06d.json", n), bytes.NewReader(b), int64(len(b)), minio.PutObjectOptions{DisableContentSha256: true}); err != nil {
				t.Error(err)
			}
		},
		Away: func(_ testing.TB, gone bool) { away(gone) },
		Read: func(t testing.TB) (rows []string) {
			for o := range c.ListObjects(context.Background(), "race", minio.ListObjectsOptions{Prefix: "out/"}) {
				r, err := c.GetObject(context.Background(), "race", o.Key, minio.GetObjectOptions{})
				if err != nil {
					t.Fatal(err)
				}
				b, err := io.ReadAll(r)
				if err != nil {
					t.Fatal(err)
				}
				for line := range bytes.Lines(b) {
					rows = append(rows, string(line))
				}
			}
			return rows
		}}
}

// lakeOver is open tables of a catalogue; near is the same one, that never goes away.
func lakeOver(t *testing.T, pond, near, how string, env contract.Env) *kit.Place {
	dir := t.TempDir()
	pour := func(t testing.TB, messages []string) {
		if err := os.WriteFile(filepath.Join(dir, "in.json"), []byte(strings.Join(messages, "\n")+"\n"), 0o600); err != nil {
			t.Error(err)
		}
		_, err := run(near+"DECLARE STREAM f (n BIGINT, says VARCHAR) FROM FILES '"+dir+"/in.json'; DECLARE SINK told TO LAKE 'race.told' VIA pond; CREATE JOB p AS SELECT n, says FROM f ROUTE TO told;", env)
		if err != nil {
			t.Error(err)
		}
	}
	pour(t, nil)
	return &kit.Place{Env: env, OnlyRows: true, Write: pour,
		Source: pond + "DECLARE STREAM s (n BIGINT, says VARCHAR) FROM LAKE 'race.told' VIA pond (LOOK EVERY 30 MILLISECONDS);", Sink: "DECLARE SINK kept TO LAKE 'race.kept' VIA pond (" + how + ");",
		Read: func(t testing.TB) []string {
			rows, err := run(near+"DECLARE STREAM k (n BIGINT, says VARCHAR) FROM LAKE 'race.kept' VIA pond; SELECT n, says FROM k SINCE BEGINNING UNTIL NOW;", env)
			if err != nil && !strings.Contains(err.Error(), "has no table 'race.kept'") { // it is about to be made
				t.Fatal(err)
			}
			return rows
		}}
}

// run runs a query or a job to its end, and gives the rows of a query.
func run(src string, env contract.Env) ([]string, error) {
	plans, _, err := plan.NewCatalog(connect.Places()).Bind("q", src, nil, nil)
	if err != nil {
		return nil, err
	}
	got := &rows.Capture{}
	j, err := flow.New(plans[0], &connect.Opener{Env: env, Rows: got}, flow.Options{Parallelism: 2, Describe: text.Describe})
	if err == nil {
		err = j.Run(context.Background())
	}
	if err != nil {
		return nil, err
	}
	return got.Rows()
}

func lakePlace(t *testing.T) *kit.Place {
	pond := "DECLARE ENDPOINT pond LAKE '" + t.TempDir() + "';\n"
	return lakeOver(t, pond, pond, "BUCKET BY (n), BUCKETS 2", contract.Env{})
}

// restLakePlace is open tables of a REST catalogue, which now and then does what it is asked and does not say so.
func restLakePlace(t *testing.T) *kit.Place {
	dir := t.TempDir()
	cat, done, err := lake.Directory(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(done)
	service := standin.New(cat, secret)
	good := httptest.NewServer(service)
	t.Cleanup(good.Close)
	var gone atomic.Bool
	var commits atomic.Int64
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if gone.Load() {
			panic(http.ErrAbortHandler)
		}
		if r.Method == http.MethodPost && strings.Contains(r.URL.Path, "/tables/") && commits.Add(1)%5 == 0 {
			service.ServeHTTP(httptest.NewRecorder(), r)
			panic(http.ErrAbortHandler)
		}
		service.ServeHTTP(w, r)
	}))
	t.Cleanup(front.Close)
	pond := func(at string) string { return "DECLARE ENDPOINT pond LAKE '" + at + "' SECRET 'token';\n" }
	p := lakeOver(t, pond(front.URL), pond(good.URL), "BUCKET BY (n), BUCKETS 2", contract.Env{Secrets: contract.Secrets{Secret: secretly}})
	p.Secret = secret
	p.Away = func(_ testing.TB, away bool) { gone.Store(away) }
	return p
}

func ledgerPlace(t *testing.T) *kit.Place {
	pond := "DECLARE ENDPOINT pond LAKE '" + t.TempDir() + "' (FORMAT delta);\n"
	return lakeOver(t, pond, pond, "EVOLVE true", contract.Env{})
}

// farLedgerPlace is open tables without a catalogue in an object store, which now and then makes an entry of a log and does not say so.
func farLedgerPlace(t *testing.T) *kit.Place {
	address, c, away := objects(t)
	target, err := url.Parse(strings.Replace(address, "timing@", "", 1))
	if err != nil {
		t.Fatal(err)
	}
	var entries atomic.Int64
	store := &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.Out.URL.Scheme, r.Out.URL.Host, r.Out.Host = target.Scheme, target.Host, r.In.Host
		}, // the name of the host is signed
		ErrorHandler: func(http.ResponseWriter, *http.Request, error) { panic(http.ErrAbortHandler) },
	}
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut && strings.Contains(r.URL.Path, "/_delta_log/") && entries.Add(1)%5 == 0 {
			store.ServeHTTP(httptest.NewRecorder(), r)
			panic(http.ErrAbortHandler)
		}
		store.ServeHTTP(w, r)
	}))
	t.Cleanup(front.Close)
	pond := func(at string) string {
		return "DECLARE ENDPOINT pond LAKE 's3://race/ledger' (FORMAT delta, STORE '" + strings.Replace(at, "//", "//timing@", 1) + "', STORE SECRET 'far');\n"
	}
	p := lakeOver(t, pond(front.URL), pond(c.EndpointURL().String()), "EVOLVE true", contract.Env{Secrets: contract.Secrets{Secret: secretly}})
	p.Secret = secret
	p.Away = func(_ testing.TB, gone bool) { away(gone) }
	return p
}

func farLakePlace(server *testServer) func(*testing.T) *kit.Place {
	return func(t *testing.T) *kit.Place {
		name, _ := server.database(t)
		proxy := kit.NewProxy(t, server.dsn.Addr)
		address, c, away := objects(t)
		secrets := func(name, _ string) (string, error) {
			return map[string]string{"d": server.dsn.Passwd, "far": secret}[name], nil
		}
		pond := func(at, store string) string {
			return "DECLARE ENDPOINT pond LAKE '" + server.dsn.User + "@" + at + "/" + name + "' SECRET 'd' (WAREHOUSE 's3://race/lake', STORE '" + store + "', STORE SECRET 'far');\n"
		}
		p := lakeOver(t, pond(proxy.Addr, address), pond(server.dsn.Addr, strings.Replace(c.EndpointURL().String(), "//", "//timing@", 1)), "BUCKET BY (n), BUCKETS 2", contract.Env{Secrets: contract.Secrets{Secret: secrets}})
		p.Secret = secret
		p.Away = func(_ testing.TB, gone bool) { proxy.Cut(gone); away(gone) }
		return p
	}
}

// webPlace is a service that fails now and then, before it has taken a request or behind it, and heeds what was sent before.
func webPlace(events bool) func(*testing.T) *kit.Place {
	return func(t *testing.T) *kit.Place {
		s := &webservice.Service{Token: secret, Faulty: 0.03}
		server := httptest.NewServer(s)
		t.Cleanup(server.CloseClientConnections)
		t.Cleanup(func() { s.Away(true); server.Close() })
		from := "'/page?from={last}' VIA w (ROWS AT 'items', NEW BY n, LOOK EVERY 20 MILLISECONDS)"
		if events {
			from = "'/events' VIA w (EVENTS true)"
		}
		return &kit.Place{
			Source: "DECLARE ENDPOINT w WEB '" + server.URL + "' SECRET 'token' (AT ONCE 3); DECLARE STREAM s (n BIGINT, says VARCHAR) FROM WEB " + from + ";",
			Sink:   "DECLARE SINK kept TO WEB '/kept' VIA w;", OnlyRows: !events, Env: contract.Env{Secrets: contract.Secrets{Secret: secretly}}, Secret: secret,
			Write: func(_ testing.TB, messages []string) {
				if events {
					s.Tell(messages...)
				} else {
					s.Page(messages...)
				}
			},
			Away: func(_ testing.TB, gone bool) { s.Away(gone) },
			Read: func(t testing.TB) (rows []string) {
				for _, r := range s.Taken() {
					rows = append(rows, r.Body)
				}
				return rows
			}}
	}
}

// searchPlace is a search store that fails now and then, before it has taken documents or behind it, and has no time for some of them. A topic is read.
func searchPlace(t *testing.T) *kit.Place {
	s := &searchstore.Store{User: "timing", Password: secret, Faulty: 0.05, Crowded: 0.002}
	server := httptest.NewServer(s)
	t.Cleanup(server.CloseClientConnections)
	t.Cleanup(func() { s.Away(true); server.Close() })
	p := topicsPlace(t)
	p.Source += "DECLARE ENDPOINT e SEARCH '" + strings.Replace(server.URL, "//", "//timing@", 1) + "' SECRET 'store';"
	p.Sink = "DECLARE SINK kept TO SEARCH 'kept' VIA e (ROWS 100);"
	p.Env.Secrets = contract.Secrets{Secret: secretly}
	p.Read = func(t testing.TB) (rows []string) {
		for _, d := range s.Documents("kept") {
			rows = append(rows, string(d))
		}
		return rows
	}
	return p
}

func brokerPlace(t *testing.T) *kit.Place {
	c, err := kfake.NewCluster(kfake.NumBrokers(2), kfake.SeedTopics(2, "in", "out"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	var away atomic.Bool
	var there sync.Mutex // held while the brokers are away, and while they are written to
	c.Control(func(kmsg.Request) (kmsg.Response, error, bool) {
		c.KeepControl()
		return nil, errors.New("away"), away.Load()
	})
	cl, err := kgo.NewClient(kgo.SeedBrokers(c.ListenAddrs()...))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cl.Close)
	parts := 2
	return &kit.Place{
		Source: "DECLARE ENDPOINT b BROKER '" + strings.Join(c.ListenAddrs(), ",") + "'; DECLARE STREAM s (n BIGINT, says VARCHAR) FROM BROKER 'in' VIA b;", Sink: "DECLARE SINK kept TO BROKER 'out' VIA b;",
		Write: func(t testing.TB, messages []string) {
			there.Lock()
			defer there.Unlock()
			var recs []*kgo.Record
			for _, m := range messages {
				recs = append(recs, &kgo.Record{Topic: "in", Value: []byte(m)})
			}
			if err := cl.ProduceSync(context.Background(), recs...).FirstErr(); err != nil {
				t.Error(err)
			}
		},
		Grow: func(t testing.TB) {
			there.Lock()
			defer there.Unlock()
			parts++
			if _, err := kadm.NewClient(cl).UpdatePartitions(context.Background(), parts, "in"); err != nil {
				t.Error(err)
			}
		},
		Away: func(_ testing.TB, gone bool) {
			if gone {
				there.Lock()
			}
			if away.Swap(gone) && !gone {
				there.Unlock()
			}
		},
		Read: func(t testing.TB) (rows []string) {
			there.Lock()
			defer there.Unlock()
			for _, r := range kit.Committed(t, c.ListenAddrs(), "out") {
				rows = append(rows, string(r.Value))
			}
			return rows
		}}
}

// testServer is a private server; each test has a database of its own.
type testServer struct {
	*catalog.Server
	dir  string
	dsn  *mysql.Config
	made atomic.Int64
}

func databaseServer(t *testing.T) *testServer {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "mariadb")
	server, err := catalog.StartServer(t.Context(), dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = server.Stop() })
	dsn, err := mysql.ParseDSN(server.DSN("fiume"))
	if err != nil {
		t.Fatal(err)
	}
	return &testServer{Server: server, dir: dir, dsn: dsn}
}

// kill ends the server at once; who looks after it starts it again.
func (s *testServer) kill(t testing.TB) {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(s.dir, "pid"))
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil || syscall.Kill(pid, syscall.SIGKILL) != nil {
		t.Fatalf("%q: %v", b, err)
	}
	db, err := sql.Open("mysql", s.DSN("fiume"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for deadline := time.Now().Add(kit.Patience); db.Ping() != nil; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("the server does not come up again")
		}
	}
}

// database makes a database.
func (s *testServer) database(t *testing.T) (name string, db *sql.DB) {
	t.Helper()
	name = fmt.Sprintf("suite%d", s.made.Add(1))
	db, err := sql.Open("mysql", s.DSN("fiume"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	if _, err := db.Exec("CREATE DATABASE " + name); err != nil {
		t.Fatal(err)
	}
	return name, db
}

// postgresPlace is a table whose changes are followed, and a sink over another.
func postgresPlace(server *kit.Postgres) func(*testing.T) *kit.Place {
	var made atomic.Int64
	return func(t *testing.T) *kit.Place {
		name := fmt.Sprintf("suite%d", made.Add(1))
		db, proxy := server.Database(t, name), kit.NewProxy(t, server.Addr)
		db.SetMaxIdleConns(0) // one that is kept would not know that the server was killed
		if _, err := db.Exec("CREATE TABLE told (n BIGINT PRIMARY KEY, says TEXT); ALTER TABLE told REPLICA IDENTITY FULL"); err != nil {
			t.Fatal(err)
		}
		return &kit.Place{
			Source: "DECLARE ENDPOINT d POSTGRES 'timing@" + proxy.Addr + "/" + name + "' SECRET 'd'; DECLARE STREAM s (n BIGINT, says VARCHAR) FROM POSTGRES 'told' VIA d (CHANGES true);",
			Sink:   "DECLARE SINK kept TO POSTGRES 'kept' VIA d (CREATE true);", OnlyRows: true, Secret: server.Password,
			Env:   contract.Env{Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return server.Password, nil }}},
			Write: func(t testing.TB, messages []string) { tell(t, db, "told", messages) },
			Away:  func(_ testing.TB, gone bool) { proxy.Cut(gone) },
			Kill:  server.Kill,
			Read: func(t testing.TB) []string {
				var there bool
				if err := db.QueryRow("SELECT to_regclass('kept') IS NOT NULL").Scan(&there); err != nil {
					t.Fatal(err)
				}
				if !there {
					return nil // it is about to be made
				}
				return numbered(t, db, "kept")
			}}
	}
}

// tell writes messages of numbers into a table.
func tell(t testing.TB, db *sql.DB, table string, messages []string) {
	t.Helper()
	var rows []string
	for _, m := range messages {
		var r struct {
			N    int
			Says string
		}
		if err := json.Unmarshal([]byte(m), &r); err != nil {
			t.Fatal(err)
		}
		rows = append(rows, fmt.Sprintf("(%d, '%s')", r.N, r.Says))
	}
	if _, err := db.Exec("INSERT INTO " + table + " VALUES " + strings.Join(rows, ",")); err != nil {
		t.Error(err)
	}
}

// numbered reads a table of numbers.
func numbered(t testing.TB, db *sql.DB, table string) (out []string) {
	t.Helper()
	rows, err := db.Query("SELECT n, says FROM " + table)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var n int
		var says string
		if err := rows.Scan(&n, &says); err != nil {
			t.Fatal(err)
		}
		out = append(out, fmt.Sprintf(`{"n":%d,"says":"%s"}`, n, says))
	}
	return out
}

func databasePlace(server *testServer) func(*testing.T) *kit.Place {
	return func(t *testing.T) *kit.Place {
		name, db := server.database(t)
		dsn, proxy := server.dsn, kit.NewProxy(t, server.dsn.Addr)
		for _, q := range []string{"CREATE TABLE " + name + ".told (n BIGINT PRIMARY KEY, says VARCHAR(40))", "CREATE TABLE " + name + ".kept (n BIGINT, says VARCHAR(40))"} {
			if _, err := db.Exec(q); err != nil {
				t.Fatal(err)
			}
		}
		return &kit.Place{
			Source: "DECLARE ENDPOINT d MARIADB '" + dsn.User + "@" + proxy.Addr + "/" + name + "' SECRET 'd'; DECLARE STREAM s (n BIGINT, says VARCHAR) FROM MARIADB 'told' VIA d (CHANGES true);",
			Sink:   "DECLARE SINK kept TO MARIADB 'kept' VIA d;", OnlyRows: true, Secret: dsn.Passwd,
			Env:   contract.Env{Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return dsn.Passwd, nil }}},
			Write: func(t testing.TB, messages []string) { tell(t, db, name+".told", messages) },
			Away:  func(_ testing.TB, gone bool) { proxy.Cut(gone) },
			Kill:  server.kill,
			Read:  func(t testing.TB) []string { return numbered(t, db, name+".kept") }}
	}
}
