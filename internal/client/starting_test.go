package client

import (
	"context"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/api"
)

// TestStarting: a call waits for a service that is starting, and is told so after a while.
func TestStarting(t *testing.T) {
	s := api.NewStarting(time.Millisecond)
	server := httptest.NewServer(s)
	defer server.Close()
	if _, err := New(server.URL).Health(t.Context()); err == nil || err.Error() != "the service is starting: its records or topics take longer than usual to open, and its log says why; ask again" {
		t.Errorf("%v", err)
	}
	var waited atomic.Int64
	var answered atomic.Int64
	c := New(server.URL).Waiting(func() {
		if waited.Add(1) == 3 {
			s.Begin(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				answered.Add(1)
				_, _ = w.Write([]byte(`{"results":[]}`))
			}))
		}
	})
	if _, err := c.Apply(t.Context(), api.ScriptRequest{SQL: "SHOW JOBS;"}); err != nil {
		t.Error(err)
	}
	if waited.Load() != 3 || answered.Load() != 1 {
		t.Errorf("it waited %d times, and was answered %d times", waited.Load(), answered.Load())
	}
}

// TestManyWait: so many requests wait for a service that is starting, and no more; all of them are answered when it is there.
func TestManyWait(t *testing.T) {
	s := api.NewStarting(time.Hour)
	var answered sync.WaitGroup
	var codes sync.Map
	ask := func(ctx context.Context) int {
		w := httptest.NewRecorder()
		s.ServeHTTP(w, httptest.NewRequestWithContext(ctx, "GET", "/api/jobs", nil))
		return w.Code
	}
	var refused atomic.Int64
	for i := range 1200 {
		answered.Go(func() {
			code := ask(t.Context())
			codes.Store(i, code)
			if code == http.StatusServiceUnavailable {
				refused.Add(1)
			}
		})
	}
	for deadline := time.Now().Add(5 * time.Minute); refused.Load() < 200; time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%d are refused", refused.Load())
		}
	}
	s.Begin(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusTeapot) }))
	answered.Wait()
	all := map[int]int{}
	codes.Range(func(_, code any) bool { all[code.(int)]++; return true })
	if all[http.StatusServiceUnavailable] != 200 || all[http.StatusTeapot] != 1000 || ask(t.Context()) != http.StatusTeapot {
		t.Errorf("%v", all)
	}
}
