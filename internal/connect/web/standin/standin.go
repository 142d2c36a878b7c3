// Package standin is a web service for tests and the demo: it takes what is sent to it, answers questions, gives pages and events, and can be slow, busy, at fault or away.
package standin

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Service is the stand-in. It heeds the Idempotency-Key: what comes again with one that it has taken is not taken again. The zero value works; its fields are set before it serves.
type Service struct {
	Token  string        // whoever does not have it as a bearer token is sent away; "": nobody is
	Slow   time.Duration // before each answer
	Faulty float64       // the share of requests that fail: half of them before they are taken, half of them behind it
	Keep   int           // requests that are kept, the newest; 0: all
	// Took is told of each request that is taken; nil: nobody is.
	Took func(r Request)
	// Refuse says which requests are refused, and how; 0: it is taken.
	Refuse func(r Request) (code int)

	mu      sync.Mutex
	away    bool
	busy    time.Time
	taken   []Request
	total   int64
	newest  int64 // N of the last one
	keys    map[string]bool
	repeats int64
	asked   int64
	things  map[string]string
	page    []string
	events  []string
	more    chan struct{}
}

// Request is one that was taken.
type Request struct {
	N      int64       `json:"n"` // ascends, also when the stand-in begins anew: microseconds since 1970
	At     time.Time   `json:"at"`
	Method string      `json:"method"`
	Path   string      `json:"path"`
	Key    string      `json:"key,omitempty"` // the Idempotency-Key
	Header http.Header `json:"-"`
	Body   string      `json:"body"`
}

// Away has it break all connections, or not any more.
func (s *Service) Away(away bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.away = away
}

// Busy has it answer 429, with Retry-After, for a while.
func (s *Service) Busy(d time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.busy = time.Now().Add(d)
}

// Taken gives the requests that it has taken, in order.
func (s *Service) Taken() []Request {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.taken)
}

// Counts says how many requests were taken, how many of those that came were known already, and how many questions were asked.
func (s *Service) Counts() (taken, repeats, asked int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.total, s.repeats, s.asked
}

// Put has GET /things/{key} answer with a JSON text; "" takes it away.
func (s *Service) Put(key, text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.things == nil {
		s.things = map[string]string{}
	}
	s.things[key] = text
}

// Page puts rows, JSON texts, at the end of the page.
func (s *Service) Page(rows ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.page = append(s.page, rows...)
}

// Tell adds events. Their ids count them, from 1.
func (s *Service) Tell(data ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.events = append(s.events, data...)
	if s.more != nil {
		close(s.more)
	}
	s.more = make(chan struct{})
}

// ServeHTTP implements http.Handler.
func (s *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	away, busy := s.away, time.Until(s.busy)
	s.mu.Unlock()
	if away {
		panic(http.ErrAbortHandler)
	}
	if s.Slow > 0 {
		time.Sleep(s.Slow)
	}
	switch {
	case s.Token != "" && r.Header.Get("Authorization") != "Bearer "+s.Token:
		http.Error(w, "who are you, with "+r.Header.Get("Authorization"), http.StatusUnauthorized)
		return
	case busy > 0:
		w.Header().Set("Retry-After", strconv.Itoa(int(busy.Seconds())+1))
		http.Error(w, "too many", http.StatusTooManyRequests)
		return
	}
	fault := rand.Float64() < s.Faulty
	if fault && rand.IntN(2) == 0 {
		http.Error(w, "at fault", http.StatusInternalServerError)
		return
	}
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		s.answer(w, r)
		return
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	q := Request{At: time.Now(), Method: r.Method, Path: r.URL.RequestURI(), Key: r.Header.Get("Idempotency-Key"), Header: r.Header, Body: string(body)}
	if s.Refuse != nil {
		if code := s.Refuse(q); code != 0 {
			http.Error(w, fmt.Sprintf("it does not take %.40s", q.Body), code)
			return
		}
	}
	s.take(q)
	if fault {
		panic(http.ErrAbortHandler)
	}
	w.WriteHeader(http.StatusAccepted)
}

func (s *Service) take(q Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if q.Key != "" && s.keys[q.Key] {
		s.repeats++
		return
	}
	if s.keys == nil {
		s.keys = map[string]bool{}
	}
	if q.Key != "" {
		s.keys[q.Key] = true
	}
	s.total++
	q.N = max(time.Now().UnixMicro(), s.newest+1)
	s.newest = q.N
	if s.Took != nil {
		s.Took(q)
	}
	s.taken = append(s.taken, q)
	if s.Keep > 0 && len(s.taken) > s.Keep {
		delete(s.keys, s.taken[0].Key)
		s.taken = s.taken[1:]
	}
}

// rowsAPage are those of one answer.
const rowsAPage = 100

// answer answers questions: /things/{key}, /things?keys=a,b, /page, /events, and /taken.
func (s *Service) answer(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	s.asked++
	s.mu.Unlock()
	key, thing := strings.CutPrefix(r.URL.Path, "/things/")
	switch {
	case thing:
		s.mu.Lock()
		text := s.things[key]
		s.mu.Unlock()
		if text == "" {
			http.Error(w, "there is none", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, text)
	case r.URL.Path == "/things":
		var found []string
		s.mu.Lock()
		for key := range strings.SplitSeq(r.URL.Query().Get("keys"), ",") {
			if text := s.things[key]; text != "" {
				found = append(found, text)
			}
		}
		s.mu.Unlock()
		_, _ = fmt.Fprintf(w, `{"data":{"items":[%s]}}`, strings.Join(found, ","))
	case r.URL.Path == "/page":
		s.mu.Lock()
		all := s.page
		s.mu.Unlock()
		tag := fmt.Sprintf(`"%d"`, len(all))
		if r.Header.Get("If-None-Match") == tag {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		from, _ := strconv.Atoi(r.URL.Query().Get("from"))
		from = max(0, min(from, len(all)))
		to := min(from+rowsAPage, len(all))
		w.Header().Set("ETag", tag)
		if to < len(all) {
			w.Header().Set("Link", fmt.Sprintf(`</page?from=%d>; rel="next"`, to))
		}
		_, _ = fmt.Fprintf(w, `{"items":[%s]}`, strings.Join(all[from:to], ","))
	case r.URL.Path == "/events":
		s.tell(w, r)
	case r.URL.Path == "/taken":
		s.mu.Lock()
		b, err := json.Marshal(map[string]any{"total": s.total, "repeats": s.repeats, "newest": s.taken[max(0, len(s.taken)-100):]})
		s.mu.Unlock()
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(b)
	default:
		http.NotFound(w, r)
	}
}

// tell gives the events behind Last-Event-ID, and those that come.
func (s *Service) tell(w http.ResponseWriter, r *http.Request) {
	at, _ := strconv.Atoi(r.Header.Get("Last-Event-ID"))
	w.Header().Set("Content-Type", "text/event-stream")
	out := http.NewResponseController(w)
	_, _ = io.WriteString(w, ": welcome\nretry: 20\n\n")
	_ = out.Flush()
	for {
		s.mu.Lock()
		if s.more == nil {
			s.more = make(chan struct{})
		}
		events, more, away := s.events, s.more, s.away
		s.mu.Unlock()
		if away {
			panic(http.ErrAbortHandler)
		}
		for ; at < len(events); at++ {
			_, _ = fmt.Fprintf(w, "id: %d\nevent: row\n", at+1)
			for line := range strings.SplitSeq(events[at], "\n") {
				_, _ = fmt.Fprintf(w, "data: %s\n", line)
			}
			_, _ = io.WriteString(w, "\n")
		}
		if out.Flush() != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-more:
		case <-time.After(100 * time.Millisecond): // where it goes away meanwhile
		}
	}
}
