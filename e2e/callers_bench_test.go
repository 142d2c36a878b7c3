package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"fiume/internal/api"
	"fiume/internal/client"
)

// BenchmarkCallers measures what a small request takes, from asking to the last byte: while nobody has been created, and by a token.
func BenchmarkCallers(b *testing.B) {
	p := &peopled{process: start(b, "serve", "--dir", b.TempDir(), "--listen", "127.0.0.1:0", "--request-rate", "0")}
	ask := func(b *testing.B, c *client.Client) {
		for range b.N {
			if _, err := c.Session(context.Background()); err != nil {
				b.Fatal(err)
			}
		}
	}
	b.Run("while nobody has been created", func(b *testing.B) { ask(b, p.Client) })
	if _, err := p.PutUser(context.Background(), "ada", api.UserRequest{Grants: grantsOf(b, "administer"), Password: password("ada")}); err != nil {
		b.Fatal(err)
	}
	p.ada = p.as(b, "ada")
	x, err := p.ada.NewToken(context.Background(), api.TokenRequest{Name: "t", Grants: grantsOf(b, "look:timing")})
	if err != nil {
		b.Fatal(err)
	}
	b.Run("by a token", func(b *testing.B) { ask(b, p.Client.With(x.Text)) })
}

// BenchmarkUnderAttack measures how fast a job reads a topic, alone and beside floods: guesses of passwords, requests of nobody and of a caller, connections that hang.
func BenchmarkUnderAttack(b *testing.B) {
	p := populate(b)
	ctx := context.Background()
	const messages = 2_000_000
	if _, err := p.ada.Apply(ctx, api.ScriptRequest{SQL: fmt.Sprintf(`CREATE TOPIC t (PARTITIONS 2); CREATE TOPIC out (PARTITIONS 1);
		DECLARE STREAM made (n BIGINT AS (_row), k VARCHAR AS ('k' || CAST(RANDOM_INT(1, 500) AS VARCHAR)), at TIMESTAMP AS (_time)) FROM GENERATOR 'g' (ROWS %d);
		DECLARE SINK t TO TOPIC 't'; CREATE JOB fill AS SELECT n, k, at FROM made ROUTE TO t;
		DECLARE STREAM r (n BIGINT, k VARCHAR, at TIMESTAMP) EVENT TIME at DELAY 1 SECOND FROM TOPIC 't'; DECLARE SINK out TO TOPIC 'out';`, messages)}); err != nil {
		b.Fatal(err)
	}
	eventually(b, "the topic is filled", func() bool {
		t, err := p.ada.Topics(ctx)
		if err != nil {
			return false
		}
		n := int64(0)
		for _, x := range t {
			if x.Name == "t" {
				n = x.Messages
			}
		}
		return n >= messages
	})
	read := func(b *testing.B, name string) {
		for i := range b.N {
			job := fmt.Sprintf("%s_%d_%d", name, b.N, i)
			began := time.Now()
			if _, err := p.ada.Apply(ctx, api.ScriptRequest{SQL: fmt.Sprintf("CREATE JOB %s AS SELECT k, w.closes AS until, COUNT(*) AS n FROM r SINCE BEGINNING GROUP BY k, w WINDOW w AS (TUMBLING 10 SECONDS) ROUTE TO out;", job)}); err != nil {
				b.Fatal(err)
			}
			eventually(b, "all is read", func() bool {
				d, err := p.ada.Job(ctx, job)
				return err == nil && d.In >= messages
			})
			b.ReportMetric(messages/time.Since(began).Seconds(), "rows/s")
			if err := p.ada.DropJob(ctx, job); err != nil {
				b.Fatal(err)
			}
		}
	}
	b.Run("alone", func(b *testing.B) { read(b, "alone") })
	b.Run("beside floods", func(b *testing.B) {
		stop, end := context.WithCancel(ctx)
		var floods sync.WaitGroup
		send := func(method, path, body string, pause time.Duration) {
			floods.Go(func() {
				for stop.Err() == nil {
					req, _ := http.NewRequestWithContext(stop, method, p.base+path, strings.NewReader(body))
					req.Header.Set("Content-Type", "application/json")
					if resp, err := http.DefaultTransport.RoundTrip(req); err == nil {
						_, _ = io.Copy(io.Discard, resp.Body)
						resp.Body.Close()
					}
					time.Sleep(pause)
				}
			})
		}
		for i := range 4 {
			send("POST", "/api/session", fmt.Sprintf(`{"name":"someone%d","password":"a guess at it"}`, i), 5*time.Millisecond)
			send("GET", "/api/jobs", "", 5*time.Millisecond)
			send("POST", "/api/apply", `{"sql":"`+strings.Repeat("SELECT ", 1000)+`"}`, 5*time.Millisecond)
		}
		read(b, "flooded")
		end()
		floods.Wait()
	})
}
