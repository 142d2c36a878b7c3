package web

import (
	"bytes"
	"context"
	"errors"
	"fmt"
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
	"fiume/internal/connect/text"
	"fiume/internal/connect/trust"
	"fiume/internal/core/plan"

	"golang.org/x/time/rate"
)

const (
	mostAnswer = 64 << 20 // bytes of an answer
	mostReason = 300      // of one that says why something was refused
	longestOff = 15 * time.Minute
)

// parse reads an address, http(s)://[user@]host[:port][/path].
func parse(text string) (*url.URL, error) {
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

// within looks at an address behind an endpoint.
func within(address string) error {
	if address != "" && address[0] != '/' && address[0] != '?' {
		return fmt.Errorf("'%s' stands behind the endpoint's address: it begins with / or ?", address)
	}
	_, err := namesIn(address)
	return err
}

// namesIn gives the names in an address, in their order.
func namesIn(address string) (names []string, err error) {
	for _, m := range text.Placeholder.FindAllStringSubmatch(address, -1) {
		names = append(names, m[1])
	}
	if rest := text.Placeholder.ReplaceAllString(address, ""); strings.ContainsAny(rest, "{}# \t\r\n") {
		return nil, fmt.Errorf("the address '%s' has braces without the name of a column in them, a #, or a blank; write %%7B, %%7D, %%23, %%20", address)
	}
	return names, nil
}

// filled puts values into an address.
func filled(address string, value func(name string) string) string {
	return text.Placeholder.ReplaceAllStringFunc(address, func(m string) string {
		return strings.ReplaceAll(url.QueryEscape(value(m[1:len(m)-1])), "+", "%20")
	})
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

// client asks the service behind an endpoint.
type client struct {
	*limits

	e      *plan.Endpoint
	base   *url.URL
	http   *http.Client
	header http.Header
	secret string // never to be shown, whatever the service echoes
	atOnce int
	within time.Duration
}

// open makes a client. It does not connect yet.
func open(e *plan.Endpoint, secrets contract.Secrets) (*client, error) {
	u, err := parse(e.Address)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	t, err := trust.Always(e, secrets.Secret)
	if err != nil {
		return nil, err
	}
	c := &client{limits: limitsOf(e), e: e, header: http.Header{"User-Agent": {"fiume"}}, atOnce: e.Options.Number("at once", 1), within: time.Duration(e.Options.Duration("timeout", 10_000_000)) * time.Microsecond}
	user := u.User.Username()
	u.User = nil
	c.base = u
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
	c.http = &http.Client{
		Transport: &http.Transport{TLSClientConfig: t, Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: c.atOnce, IdleConnTimeout: 90 * time.Second, ForceAttemptHTTP2: true,
			DialContext: (&net.Dialer{Timeout: c.within}).DialContext, TLSHandshakeTimeout: c.within},
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

// request is a question to the service.
type request struct {
	method, path string
	body         []byte
	kind         string // of the body
	id           string // the Idempotency-Key, or ""
	header       http.Header
}

type answer struct {
	code   int
	header http.Header
	body   []byte
}

// refusal is an answer that says no.
type refusal struct {
	code   int
	words  string
	passes bool // it may be otherwise later
}

func (r *refusal) Error() string { return r.words }

// resting is why nothing is asked for now.
type resting struct{ until time.Time }

func (r *resting) Error() string {
	return fmt.Sprintf("the service has asked to be left alone until %s", r.until.UTC().Format(time.RFC3339))
}

// passing says whether a failure may pass by itself: the service is away, busy or at fault.
func passing(err error) bool {
	var no *refusal
	return !errors.As(err, &no) || no.passes
}

// address gives the whole address of a path.
func (c *client) address(path string) string {
	base := *c.base
	if path == "" {
		return base.String()
	}
	return strings.TrimSuffix(base.String(), "/") + path
}

// turn waits until a request may begin.
func (c *client) turn(ctx context.Context) error {
	c.mu.Lock()
	off := c.off
	c.mu.Unlock()
	if time.Now().Before(off) {
		return &resting{off}
	}
	if c.pace != nil {
		return c.pace.Wait(ctx)
	}
	return nil
}

// make makes a request.
func (c *client) make(ctx context.Context, r request) (*http.Request, error) {
	out, err := http.NewRequestWithContext(ctx, r.method, c.address(r.path), bytes.NewReader(r.body))
	if err != nil {
		return nil, err
	}
	if r.body != nil {
		out.Header.Set("Content-Type", r.kind)
	}
	for name, values := range c.header {
		out.Header[name] = values
	}
	for name, values := range r.header {
		out.Header[name] = values
	}
	if r.id != "" {
		out.Header.Set("Idempotency-Key", `"`+r.id+`"`)
	}
	return out, nil
}

// do asks, and reads the whole answer. One that is no success is a refusal, but for 304.
func (c *client) do(ctx context.Context, r request) (*answer, error) {
	if err := c.turn(ctx); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, c.within)
	defer cancel()
	q, err := c.make(ctx, r)
	if err != nil {
		return nil, err
	}
	got, err := c.http.Do(q)
	if err != nil {
		return nil, c.said(err)
	}
	defer got.Body.Close()
	if got.StatusCode >= 300 && got.StatusCode != http.StatusNotModified {
		return nil, c.refused(got)
	}
	b, err := read(got.Body, mostAnswer)
	if err != nil {
		return nil, c.said(err)
	}
	return &answer{got.StatusCode, got.Header, b}, nil
}

const (
	tries       = 6 // of a request before it counts as failed
	longestWait = 30 * time.Second
)

// insist asks again a few times where a failure may pass: of many requests now and then one fails, and those behind it should not wait for long. It waits as the service
// asks it to, where that is not too long.
func (c *client) insist(ctx context.Context, r request) (got *answer, err error) {
	for try := range tries {
		if try > 0 {
			d := time.Duration(25<<try)*time.Millisecond + rand.N(20*time.Millisecond)
			var rest *resting
			if errors.As(err, &rest) {
				d = time.Until(rest.until) + rand.N(20*time.Millisecond)
			}
			if d > longestWait || !wait(ctx, d) {
				return nil, err
			}
		}
		if got, err = c.do(ctx, r); err == nil || !passing(err) || ctx.Err() != nil {
			break
		}
	}
	return got, err
}

// said puts a failure into words, without what stands in the address.
func (c *client) said(err error) error {
	var of *url.Error
	if errors.As(err, &of) {
		err = of.Err
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%s has not answered within %s", c.base.Host, c.within)
	}
	return fmt.Errorf("%s: %w", c.base.Host, err)
}

// refused makes a refusal of an answer, and heeds how long the service wants to be left alone.
func (c *client) refused(got *http.Response) error {
	b, _ := read(got.Body, 64<<10)
	words := strings.Join(strings.Fields(string(b)), " ")
	if c.secret != "" {
		words = strings.ReplaceAll(words, c.secret, "***")
	}
	if !utf8.ValidString(words) {
		words = ""
	}
	for len(words) > mostReason {
		_, n := utf8.DecodeLastRuneInString(words)
		words = words[:len(words)-n]
	}
	no := &refusal{code: got.StatusCode, words: fmt.Sprintf("%s answers %s", c.base.Host, got.Status)}
	switch code := got.StatusCode; {
	case code < 400:
		no.words += ": it is elsewhere"
		if at, err := got.Location(); err == nil {
			no.words += fmt.Sprintf(", at %s://%s%s", at.Scheme, at.Host, at.Path)
		}
		no.words += "; declare the endpoint with that address"
	case words != "":
		no.words += ": " + words
	}
	no.passes = got.StatusCode >= 500 && got.StatusCode != http.StatusNotImplemented ||
		got.StatusCode == http.StatusTooManyRequests || got.StatusCode == http.StatusRequestTimeout || got.StatusCode == http.StatusTooEarly
	if no.passes {
		if d := retryAfter(got.Header.Get("Retry-After"), time.Now()); d > 0 {
			c.mu.Lock()
			c.off = time.Now().Add(min(d, longestOff))
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
