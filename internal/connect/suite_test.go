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
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/store/standin"
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

// TestSuite: every place that is read and written keeps what all promise.
func TestSuite(t *testing.T) {
	for name, open := range map[string]func(*testing.T) *kit.Place{"topics": topicsPlace, "files": filesPlace, "object store": objectsPlace, "broker": brokerPlace, "mariadb": databasePlace(t)} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			kit.Suite(t, open)
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

func objectsPlace(t *testing.T) *kit.Place {
	s, err := standin.New("timing", secret, "race")
	if err != nil {
		t.Fatal(err)
	}
	var away atomic.Bool
	good := httptest.NewServer(s)
	t.Cleanup(good.Close)
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if away.Load() {
			panic(http.ErrAbortHandler)
		}
		s.ServeHTTP(w, r)
	}))
	t.Cleanup(front.Close)
	c, err := minio.New(strings.TrimPrefix(good.URL, "http://"), &minio.Options{Creds: credentials.NewStaticV4("timing", secret, ""), Region: "us-east-1"})
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	return &kit.Place{
		Source: "DECLARE ENDPOINT far FILES '" + strings.Replace(front.URL, "//", "//timing@", 1) + "' SECRET 'far'; DECLARE STREAM s (n BIGINT, says VARCHAR) FROM FILES 's3://race/in/' VIA far (FOLLOW true, LOOK EVERY 50 MILLISECONDS);",
		Sink:   "DECLARE SINK kept TO FILES 's3://race/out' VIA far (ROLL EVERY 100 MILLISECONDS);", Env: contract.Env{Secrets: contract.Secrets{Secret: secretly}}, Secret: secret,
		Write: func(t testing.TB, messages []string) {
			n++
			b := []byte(strings.Join(messages, "\n") + "\n")
			if _, err := c.PutObject(context.Background(), "race", fmt.Sprintf("in/%06d.json", n), bytes.NewReader(b), int64(len(b)), minio.PutObjectOptions{DisableContentSha256: true}); err != nil {
				t.Error(err)
			}
		},
		Away: func(_ testing.TB, gone bool) { away.Store(gone) },
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

func brokerPlace(t *testing.T) *kit.Place {
	c, err := kfake.NewCluster(kfake.NumBrokers(2), kfake.SeedTopics(2, "in", "out"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	var away atomic.Bool
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
			var recs []*kgo.Record
			for _, m := range messages {
				recs = append(recs, &kgo.Record{Topic: "in", Value: []byte(m)})
			}
			if err := cl.ProduceSync(context.Background(), recs...).FirstErr(); err != nil {
				t.Error(err)
			}
		},
		Grow: func(t testing.TB) {
			parts++
			if _, err := kadm.NewClient(cl).UpdatePartitions(context.Background(), parts, "in"); err != nil {
				t.Error(err)
			}
		},
		Away: func(_ testing.TB, gone bool) { away.Store(gone) },
		Read: func(t testing.TB) (rows []string) {
			r, err := kgo.NewClient(kgo.SeedBrokers(c.ListenAddrs()...), kgo.ConsumeTopics("out"), kgo.FetchIsolationLevel(kgo.ReadCommitted()), kgo.FetchMaxWait(50*time.Millisecond))
			if err != nil {
				t.Fatal(err)
			}
			defer r.Close()
			for empty := 0; empty < 3; {
				ctx, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
				got := r.PollFetches(ctx)
				cancel()
				if got.NumRecords() == 0 {
					empty++
				}
				got.EachRecord(func(x *kgo.Record) { rows = append(rows, string(x.Value)) })
			}
			return rows
		}}
}

// databasePlace is a private server for all tests of it; each has a database of its own.
func databasePlace(t *testing.T) func(*testing.T) *kit.Place {
	t.Helper()
	server, err := catalog.StartServer(t.Context(), filepath.Join(t.TempDir(), "mariadb"), nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = server.Stop() })
	dsn, err := mysql.ParseDSN(server.DSN("fiume"))
	if err != nil {
		t.Fatal(err)
	}
	var made atomic.Int64
	return func(t *testing.T) *kit.Place {
		name := fmt.Sprintf("suite%d", made.Add(1))
		proxy := kit.NewProxy(t, dsn.Addr)
		db, err := sql.Open("mysql", server.DSN("fiume"))
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { db.Close() })
		for _, q := range []string{"CREATE DATABASE " + name, "CREATE TABLE " + name + ".told (n BIGINT PRIMARY KEY, says VARCHAR(40))", "CREATE TABLE " + name + ".kept (n BIGINT, says VARCHAR(40))"} {
			if _, err := db.Exec(q); err != nil {
				t.Fatal(err)
			}
		}
		return &kit.Place{
			Source: "DECLARE ENDPOINT d MARIADB '" + dsn.User + "@" + proxy.Addr + "/" + name + "' SECRET 'd'; DECLARE STREAM s (n BIGINT, says VARCHAR) FROM MARIADB 'told' VIA d (CHANGES true);",
			Sink:   "DECLARE SINK kept TO MARIADB 'kept' VIA d;", OnlyRows: true, Secret: dsn.Passwd,
			Env: contract.Env{Secrets: contract.Secrets{Secret: func(string, string) (string, error) { return dsn.Passwd, nil }}},
			Write: func(t testing.TB, messages []string) {
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
				if _, err := db.Exec("INSERT INTO " + name + ".told VALUES " + strings.Join(rows, ",")); err != nil {
					t.Error(err)
				}
			},
			Away: func(_ testing.TB, gone bool) { proxy.Cut(gone) },
			Read: func(t testing.TB) (out []string) {
				rows, err := db.Query("SELECT n, says FROM " + name + ".kept")
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
			}}
	}
}
