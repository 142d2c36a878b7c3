package client

import (
	"net/http"
	"net/http/httptest"
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
