// Package webclient asks web services: with their limits, their secret, and what they say of when to come back.
package webclient

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/trust"
	"fiume/internal/core/plan"

	"golang.org/x/time/rate"
)

const (
	MostAnswer = 64 << 20 // bytes of an answer
	mostReason = 300      // of one that says why something was refused
	LongestOff = 15 * time.Minute
)

// Parse reads an address, http(s)://[user@]host[:port][/path].
func Parse(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, errors.New("the address is not of the form https://host:port/path or https://user@host:port/path")
	}
	if _, ok := u.User.Password(); ok {
		return nil, errors.New("a password does not belong into the address; write SECRET 'name', and keep it with: fiume secret set name")
	}
	if u.RawQuery != "" || u.Fragment != "" {
		return nil, errors.New("the address of a service ends with its path: what follows stands in the addresses of streams, tables and sinks")
	}
	return u, nil
}

// Options are those of endpoints that are asked in this way.
func Options() []plan.OptionSpec {
	return append([]plan.OptionSpec{
		{Name: "secret in", Kind: plan.WordOption, Doc: "the header that has the secret; without it, it is a bearer token, or the password of the address's user", Default: "Authorization"},
		{Name: "header", Kind: plan.WordOption, Doc: "a header that every request has: 'Name: value'"},
		{Name: "timeout", Kind: plan.DurationOption, Doc: "how long an answer may take", Default: "10 SECONDS"},
		{Name: "per second", Kind: plan.NumberOption, Least: 1, Doc: "requests that may begin in a second", Default: "as many as go"},
	}, trust.Certificates()...)
}

// limits are those of an endpoint, which all who use it in this process keep together.
type limits struct {
	pace *rate.Limiter // nil: none

	mu  sync.Mutex
	off time.Time // nothing is asked before
}

// kept are the limits of all endpoints that were used, by name, address and pace.
var kept sync.Map

// limitsOf gives those of an endpoint.
func limitsOf(e *plan.Endpoint) *limits {
	n := e.Options.Number("per second", 0)
	l := &limits{}
	if n > 0 {
		l.pace = rate.NewLimiter(rate.Limit(n), max(1, n/20))
	}
	got, _ := kept.LoadOrStore(fmt.Sprintf("%s\x00%s\x00%d", e.Name, e.Address, n), l)
	return got.(*limits)
}

// Client asks the service behind an endpoint.
type Client struct {
	*limits

	e      *plan.Endpoint
	Base   *url.URL
	HTTP   *http.Client
	header http.Header
	secret string        // never to be shown, whatever the service echoes
	AtOnce int           // requests that may be under way at a time
	Within time.Duration // in which an answer is due
}

// Open makes a client. It does not connect yet.
func Open(e *plan.Endpoint, secrets contract.Secrets) (*Client, error) {
	u, err := Parse(e.Address)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	t, err := trust.Always(e, secrets.Secret)
	if err != nil {
		return nil, err
	}
	c := &Client{limits: limitsOf(e), e: e, header: http.Header{"User-Agent": {"fiume"}}, AtOnce: e.Options.Number("at once", 1), Within: time.Duration(e.Options.Duration("timeout", 10_000_000)) * time.Microsecond}
	user := u.User.Username()
	u.User = nil
	c.Base = u
	if line := e.Options.Word("header", ""); line != "" {
		name, value, ok := strings.Cut(line, ":")
		if name, value = strings.TrimSpace(name), strings.TrimSpace(value); !ok || !isToken(name) || strings.ContainsAny(value, "\r\n\x00") {
			return nil, fmt.Errorf("endpoint %s: HEADER takes 'Name: value'", e.Name)
		}
		c.header.Set(name, value)
	}
	if in := e.Options.Word("secret in", ""); in != "" && (!isToken(in) || e.Secret == "" || user != "") {
		return nil, fmt.Errorf("endpoint %s: SECRET IN names the header that has the SECRET, and the address has no user then", e.Name)
	}
	if user != "" && e.Secret == "" {
		return nil, fmt.Errorf("endpoint %s has a user and no SECRET", e.Name)
	}
	if e.Secret != "" {
		if u.Scheme == "http" && !isHere(u.Hostname()) {
			return nil, fmt.Errorf("endpoint %s: a secret is not sent where anybody on the way can read it; write https://", e.Name)
		}
		secret, err := secrets.Secret(e.Secret, e.Address)
		if err != nil {
			return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
		secret = strings.TrimSpace(secret)
		c.secret = secret
		switch in := e.Options.Word("secret in", ""); {
		case user != "":
			r := http.Request{Header: http.Header{}}
			r.SetBasicAuth(user, secret)
			c.header.Set("Authorization", r.Header.Get("Authorization"))
		case in != "":
			c.header.Set(in, secret)
		default:
			c.header.Set("Authorization", "Bearer "+secret)
		}
	}
	c.HTTP = &http.Client{
		Transport: &http.Transport{TLSClientConfig: t, Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: c.AtOnce, IdleConnTimeout: 90 * time.Second, ForceAttemptHTTP2: true,
			DialContext: (&net.Dialer{Timeout: c.Within}).DialContext, TLSHandshakeTimeout: c.Within},
		// Who is sent elsewhere would take the secret along.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	return c, nil
}

var token = regexp.MustCompile("^[!#$%&'*+.^_`|~0-9A-Za-z-]+$")

func isToken(name string) bool { return token.MatchString(name) }

// isHere says whether a host is this machine.
func isHere(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Request is a question to the service.
type Request struct {
	Method, Path string
	Body         []byte
	Kind         string // of the body
	ID           string // the Idempotency-Key, or ""
	Header       http.Header
}

// Answer is what the service says.
type Answer struct {
	Code   int
	Header http.Header
	Body   []byte
}

// Refusal is an answer that says no.
type Refusal struct {
	Code   int
	Words  string
	Passes bool // it may be otherwise later
}

func (r *Refusal) Error() string { return r.Words }

// Resting is why nothing is asked for now.
type Resting struct{ Until time.Time }

func (r *Resting) Error() string {
	return fmt.Sprintf("the service has asked to be left alone until %s", r.Until.UTC().Format(time.RFC3339))
}

// Passing says whether a failure may pass by itself: the service is away, busy or at fault.
func Passing(err error) bool {
	var no *Refusal
	return !errors.As(err, &no) || no.Passes
}

// Address gives the whole address of a path.
func (c *Client) Address(path string) string {
	base := *c.Base
	if path == "" {
		return base.String()
	}
	return strings.TrimSuffix(base.String(), "/") + path
}

// Turn waits until a request may begin.
func (c *Client) Turn(ctx context.Context) error {
	c.mu.Lock()
	off := c.off
	c.mu.Unlock()
	if time.Now().Before(off) {
		return &Resting{off}
	}
	if c.pace != nil {
		return c.pace.Wait(ctx)
	}
	return nil
}

// Make makes a request.
func (c *Client) Make(ctx context.Context, r Request) (*http.Request, error) {
	out, err := http.NewRequestWithContext(ctx, r.Method, c.Address(r.Path), bytes.NewReader(r.Body))
	if err != nil {
		return nil, err
	}
	if r.Body != nil {
		out.Header.Set("Content-Type", r.Kind)
	}
	for name, values := range c.header {
		out.Header[name] = values
	}
	for name, values := range r.Header {
		out.Header[name] = values
	}
	if r.ID != "" {
		out.Header.Set("Idempotency-Key", `"`+r.ID+`"`)
	}
	return out, nil
}

// Do asks, and reads the whole answer. One that is no success is a refusal, but for 304.
func (c *Client) Do(ctx context.Context, r Request) (*Answer, error) {
	if err := c.Turn(ctx); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, c.Within)
	defer cancel()
	q, err := c.Make(ctx, r)
	if err != nil {
		return nil, err
	}
	got, err := c.HTTP.Do(q)
	if err != nil {
		return nil, c.Said(err)
	}
	defer got.Body.Close()
	if got.StatusCode >= 300 && got.StatusCode != http.StatusNotModified {
		return nil, c.Refused(got)
	}
	b, err := read(got.Body, MostAnswer)
	if err != nil {
		return nil, c.Said(err)
	}
	return &Answer{got.StatusCode, got.Header, b}, nil
}

const (
	tries       = 6 // of a request before it counts as failed
	longestWait = 30 * time.Second
)

// Insist asks again a few times where a failure may pass: of many requests now and then one fails, and those behind it should not wait for long. It waits as the service
// asks it to, where that is not too long.
func (c *Client) Insist(ctx context.Context, r Request) (got *Answer, err error) {
	for try := range tries {
		if try > 0 {
			d := time.Duration(25<<try)*time.Millisecond + rand.N(20*time.Millisecond)
			var rest *Resting
			if errors.As(err, &rest) {
				d = time.Until(rest.Until) + rand.N(20*time.Millisecond)
			}
			if d > longestWait || !Wait(ctx, d) {
				return nil, err
			}
		}
		if got, err = c.Do(ctx, r); err == nil || !Passing(err) || ctx.Err() != nil {
			break
		}
	}
	return got, err
}

// Said puts a failure into words, without what stands in the address.
func (c *Client) Said(err error) error {
	var of *url.Error
	if errors.As(err, &of) {
		err = of.Err
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%s has not answered within %s", c.Base.Host, c.Within)
	}
	return fmt.Errorf("%s: %w", c.Base.Host, err)
}

// Quote makes words of what the service says: in a line, not too long, and without the secret.
func (c *Client) Quote(said string) string {
	words := strings.Join(strings.Fields(said), " ")
	if c.secret != "" {
		words = strings.ReplaceAll(words, c.secret, "***")
	}
	if !utf8.ValidString(words) {
		return ""
	}
	for len(words) > mostReason {
		_, n := utf8.DecodeLastRuneInString(words)
		words = words[:len(words)-n]
	}
	return words
}

// Refused makes a refusal of an answer, and heeds how long the service wants to be left alone.
func (c *Client) Refused(got *http.Response) error {
	b, _ := read(got.Body, 64<<10)
	words := c.Quote(string(b))
	no := &Refusal{Code: got.StatusCode, Words: fmt.Sprintf("%s answers %s", c.Base.Host, got.Status)}
	switch code := got.StatusCode; {
	case code < 400:
		no.Words += ": it is elsewhere"
		if at, err := got.Location(); err == nil {
			no.Words += fmt.Sprintf(", at %s://%s%s", at.Scheme, at.Host, at.Path)
		}
		no.Words += "; declare the endpoint with that address"
	case words != "":
		no.Words += ": " + words
	}
	no.Passes = got.StatusCode >= 500 && got.StatusCode != http.StatusNotImplemented ||
		got.StatusCode == http.StatusTooManyRequests || got.StatusCode == http.StatusRequestTimeout || got.StatusCode == http.StatusTooEarly
	if no.Passes {
		if d := retryAfter(got.Header.Get("Retry-After"), time.Now()); d > 0 {
			c.mu.Lock()
			c.off = time.Now().Add(min(d, LongestOff))
			c.mu.Unlock()
		}
	}
	return no
}

// retryAfter reads the header of that name (RFC 9110, 10.2.3): seconds, or an instant.
func retryAfter(text string, now time.Time) time.Duration {
	if n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 32); err == nil && n >= 0 {
		return time.Duration(n) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return at.Sub(now)
	}
	return 0
}

// wait passes some time, and says whether to go on.
func Wait(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// read takes an answer's body, up to a bound.
func read(r io.Reader, most int64) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(b)) > most {
		err = fmt.Errorf("the answer has more than %d bytes", most)
	}
	return b, err
}
