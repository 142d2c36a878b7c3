package api

import (
	"encoding/json"
	"net/http"
	"strings"
	"sync/atomic"
	"time"
)

// Starting is the network interface of a service that is not there yet: its database may take minutes to recover. Requests wait for it; /live and /ready
// are answered at once. Begin gives it the one that answers from then on.
type Starting struct {
	began   chan struct{}
	handler http.Handler
	within  time.Duration
	waiting atomic.Int64
}

// mostWaiting is how many requests wait side by side; those beyond them are refused without waiting.
const mostWaiting = 1000

// startingTitle is the title of a Problem that says that the service is starting.
const startingTitle = "Starting"

// NewStarting makes one whose requests wait for as long as within says, and then are told that the service is starting. What follows something waits to the end, as browsers do not ask again
// for what was refused.
func NewStarting(within time.Duration) *Starting {
	return &Starting{began: make(chan struct{}), within: within}
}

// Begin has h answer from now on, those that wait first. It is called once at most.
func (s *Starting) Begin(h http.Handler) {
	s.handler = h
	close(s.began)
}

// Starting says whether an error is the answer of a service that is starting: nothing was done, and the same may be asked again.
func (p *Problem) Starting() bool {
	return p.Status == http.StatusServiceUnavailable && p.Title == startingTitle
}

// ServeHTTP implements http.Handler.
func (s *Starting) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	select {
	case <-s.began:
		s.handler.ServeHTTP(w, r)
	default:
		s.wait(w, r)
	}
}

// wait has a request wait, or tells it that the service is starting.
func (s *Starting) wait(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/live" || r.URL.Path == "/ready" {
		probed(w, r)
		return
	}
	n := s.waiting.Add(1)
	defer s.waiting.Add(-1)
	if n > mostWaiting {
		startingStill(w)
		return
	}
	var late <-chan time.Time
	if !strings.Contains(r.Header.Get("Accept"), "text/event-stream") {
		t := time.NewTimer(s.within)
		defer t.Stop()
		late = t.C
	}
	select {
	case <-s.began:
		s.handler.ServeHTTP(w, r)
	case <-r.Context().Done():
	case <-late:
		startingStill(w)
	}
}

// startingStill says that the service is starting.
func startingStill(w http.ResponseWriter) {
	w.Header().Set("Content-Type", (*Problem)(nil).ContentType(""))
	w.Header().Set("Retry-After", "1")
	w.Header().Set("Refresh", "1") // browsers ask again by this one
	w.WriteHeader(http.StatusServiceUnavailable)
	_ = json.NewEncoder(w).Encode(&Problem{Status: http.StatusServiceUnavailable, Title: startingTitle,
		Detail: "the service is starting: its records or topics take longer than usual to open, and its log says why; ask again"})
}

// probed answers a monitor.
func probed(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	if r.URL.Path == "/live" {
		_, _ = w.Write([]byte("alive\n"))
		return
	}
	w.WriteHeader(http.StatusServiceUnavailable)
	_, _ = w.Write([]byte("the service is starting\n"))
}
