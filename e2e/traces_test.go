package e2e

import (
	"compress/gzip"
	"encoding/hex"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"

	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	span "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"
)

// TestTraces: a collector is told what requests, checkpoints and deliveries took, requests as a part of the caller's trace; one that hangs keeps nobody waiting.
func TestTraces(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	var got []*span.Span
	hang := make(chan struct{})
	away := false
	at := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		hangs := away
		mu.Unlock()
		if hangs {
			<-hang
			return
		}
		var in io.Reader = r.Body
		if r.Header.Get("Content-Encoding") == "gzip" {
			in, _ = gzip.NewReader(r.Body)
		}
		b, err := io.ReadAll(in)
		var x collector.ExportTraceServiceRequest
		if err != nil || proto.Unmarshal(b, &x) != nil || r.URL.Path != "/v1/traces" {
			t.Errorf("%s: what came is none: %v", r.URL.Path, err)
		}
		mu.Lock()
		defer mu.Unlock()
		for _, rs := range x.ResourceSpans {
			for _, a := range rs.Resource.Attributes {
				if a.Key == "service.name" && a.Value.GetStringValue() != "fiume" {
					t.Errorf("it is of %s", a.Value)
				}
			}
			for _, s := range rs.ScopeSpans {
				got = append(got, s.Spans...)
			}
		}
	}))
	t.Cleanup(at.Close)
	t.Cleanup(func() { close(hang) })
	fiume(t, "", "serve", "--dir", t.TempDir(), "--listen", "127.0.0.1:0", "--traces", "nowhere").want(t, 1, "is like http://127.0.0.1:4318")
	p := start(t, "serve", "--dir", t.TempDir(), "--listen", "127.0.0.1:0", "--traces", at.URL)
	p.apply(`CREATE TOPIC reads (PARTITIONS 1);
		DECLARE STREAM reads (chip VARCHAR NOT NULL, at TIMESTAMP) EVENT TIME at FROM TOPIC 'reads';
		DECLARE SINK archive TO FILES 'out';
		CREATE JOB keep AS SELECT chip FROM reads ROUTE TO archive SET (CHECKPOINT EVERY 1 SECOND);`)
	p.send("reads", `{"chip":"a","at":"2026-05-17T09:00:00Z"}`)
	req, _ := http.NewRequest("GET", p.base+"/api/jobs/keep", nil)
	req.Header.Set("traceparent", "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	has := func(name string, about map[string]string, trace string) bool {
		mu.Lock()
		defer mu.Unlock()
		for _, s := range got {
			fits := s.Name == name && s.EndTimeUnixNano >= s.StartTimeUnixNano && (trace == "" || hex.EncodeToString(s.TraceId) == trace && hex.EncodeToString(s.ParentSpanId) == "b7ad6b7169203331")
			for k, want := range about {
				there := false
				for _, a := range s.Attributes {
					there = there || a.Key == k && a.Value.GetStringValue() == want
				}
				fits = fits && there
			}
			if fits {
				return true
			}
		}
		return false
	}
	eventually(t, "the request, a checkpoint and a delivery", func() bool {
		return has("GET /api/jobs/:name", map[string]string{"http.route": "/api/jobs/:name", "fiume.caller": "local"}, "0af7651916cd43dd8448eb211c80319c") &&
			has("checkpoint", map[string]string{"fiume.job": "keep"}, "") && has("delivery", map[string]string{"fiume.job": "keep", "fiume.sink": "archive"}, "") &&
			has("POST /api/apply", nil, "")
	})
	mu.Lock()
	away = true
	mu.Unlock()
	p.send("reads", `{"chip":"b","at":"2026-05-17T09:00:01Z"}`)
	p.stop() // within the time that it gives the collector
}
