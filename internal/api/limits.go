package api

import (
	"fmt"
	"io"
	"net/http"
	"strconv"
	"sync"
	"time"

	"fiume/internal/service/access"

	"github.com/gin-gonic/gin"
	"golang.org/x/time/rate"
)

// Limits are what a caller may ask for in a second, so that no one keeps the service from the others. While nobody has been created there are none.
type Limits struct {
	Requests int   // a second, and twice as many at once; 0: no limit
	Upload   int64 // bytes of bodies a second; 0: no limit
}

// What whoever has not shown who he is may ask for, by his address: to sign in, and to fetch the console.
const (
	strangerRate  = 50
	strangerBurst = 400
)

const (
	// sweepEvery is how often callers who ask for nothing are forgotten.
	sweepEvery = time.Minute
	// mayTake is how long a client may take to take an answer, and mayPause how long to take the next of a stream.
	mayTake  = 10 * time.Minute
	mayPause = 30 * time.Second
)

// spending is what a caller asks for.
type spending struct {
	requests, bytes *rate.Limiter
	last            time.Time
}

// spenders are those who have asked for something lately.
type spenders struct {
	limits Limits
	mu     sync.Mutex
	by     map[string]*spending
	swept  time.Time
}

func (s *spenders) of(c *access.Caller) *spending {
	key, requests, burst := "a "+c.Address, rate.Limit(strangerRate), strangerBurst
	if c.Name != "" {
		key, requests, burst = "c "+c.Name+" "+c.Via, rate.Limit(s.limits.Requests), 2*s.limits.Requests
		if s.limits.Requests == 0 {
			requests = rate.Inf
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	now := time.Now()
	if s.by == nil || now.Sub(s.swept) > sweepEvery {
		fresh := map[string]*spending{}
		for k, x := range s.by {
			if now.Sub(x.last) < sweepEvery {
				fresh[k] = x
			}
		}
		s.by, s.swept = fresh, now
	}
	x := s.by[key]
	if x == nil {
		x = &spending{requests: rate.NewLimiter(requests, burst)}
		if s.limits.Upload > 0 {
			x.bytes = rate.NewLimiter(rate.Limit(s.limits.Upload), int(max(s.limits.Upload, 1<<20)))
		}
		s.by[key] = x
	}
	x.last = now
	return x
}

// limit refuses requests that are too many, and has bodies come no faster than they may.
func (g *gate) limit(c *gin.Context) {
	_ = http.NewResponseController(c.Writer).SetWriteDeadline(time.Now().Add(mayTake)) // where there is none, there is no connection either
	caller := access.From(c.Request.Context())
	if caller == nil || caller.Via == "" && caller.Name != "" || caller.Via == "token inside" {
		return // whoever uses the machine
	}
	x := g.spenders.of(caller)
	if r := x.requests.ReserveN(time.Now(), 1); !r.OK() || r.Delay() > 0 {
		wait := time.Second
		if r.OK() {
			wait = r.Delay()
			r.Cancel()
		}
		g.refused(c.Request.Context(), "too many requests", "", http.StatusTooManyRequests)
		c.Header("Retry-After", strconv.Itoa(int(wait/time.Second)+1))
		c.Header("Connection", "close")
		c.AbortWithStatusJSON(http.StatusTooManyRequests, &Problem{Status: http.StatusTooManyRequests, Title: "Too Many Requests", Detail: fmt.Sprintf("more requests than %s may make; try again in %s", g.rateText(caller), wait.Round(time.Millisecond))})
		return
	}
	if x.bytes != nil && c.Request.Body != nil && c.Request.ContentLength != 0 {
		c.Request.Body = &metered{c.Request.Body, x.bytes, c.Request}
	}
}

func (g *gate) rateText(c *access.Caller) string {
	if c.Name == "" {
		return fmt.Sprintf("who has not signed in (%d a second)", strangerRate)
	}
	return fmt.Sprintf("one caller (%d a second)", g.set.Limits.Requests)
}

// metered is a body that comes no faster than its caller may send.
type metered struct {
	io.ReadCloser
	by *rate.Limiter
	r  *http.Request
}

// Read implements io.Reader.
func (m *metered) Read(b []byte) (int, error) {
	n, err := m.ReadCloser.Read(b[:min(len(b), m.by.Burst())])
	if n > 0 {
		if werr := m.by.WaitN(m.r.Context(), n); werr != nil && err == nil {
			err = werr
		}
	}
	return n, err
}
