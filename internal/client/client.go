// Package client is the typed Go client of the service's network interface.
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"fiume/internal/api"
	"fiume/internal/catalog"
	"fiume/internal/service"
	"fiume/internal/service/base"
	"fiume/internal/service/databases"
	"fiume/internal/service/declare"
	"fiume/internal/service/jobs"
	"fiume/internal/service/questions"
	"fiume/internal/service/secrets"
	"fiume/internal/service/topics"
)

// Client calls a service. The zero value is not usable; see New.
type Client struct {
	base  string
	http  *http.Client
	token string
	waits func()
}

// New makes a client of the service at an address such as http://127.0.0.1:7171.
func New(base string) *Client {
	return &Client{base: strings.TrimSuffix(base, "/"), http: &http.Client{}}
}

// With gives a client that shows a token, or the text of a session; "" shows nothing.
func (c *Client) With(token string) *Client {
	out := *c
	out.token = token
	return &out
}

// Waiting gives a client that waits for a service that is starting, and calls waits each time that it says so.
func (c *Client) Waiting(waits func()) *Client {
	out := *c
	out.waits = waits
	return &out
}

// Trusting gives a client that trusts the certificates of a file (PEM), beside those of the system.
func (c *Client) Trusting(file string) (*Client, error) {
	pem, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("%s holds no certificate in PEM", file)
	}
	out := *c
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	out.http = &http.Client{Transport: transport}
	return &out, nil
}

// askAgain is the pause before a service that is starting is asked again. It has had the request wait already, unless too many do.
const askAgain = 200 * time.Millisecond

// ErrNoService says that nothing answers at the address.
var ErrNoService = errors.New("the service does not answer")

// call makes a request and decodes its answer into out, unless that is nil. An error of the service is
// an *api.Problem.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	resp, err := c.do(ctx, method, path, in)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		return nil
	}
	return json.NewDecoder(resp.Body).Decode(out)
}

func (c *Client) do(ctx context.Context, method, path string, in any) (*http.Response, error) {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return nil, err
		}
	}
	for {
		resp, err := c.once(ctx, method, path, body)
		var p *api.Problem
		if c.waits == nil || !errors.As(err, &p) || !p.Starting() {
			return resp, err
		}
		c.waits()
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(askAgain):
		}
	}
}

func (c *Client) once(ctx context.Context, method, path string, body []byte) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		var unknown *tls.CertificateVerificationError
		if errors.As(err, &unknown) {
			return nil, fmt.Errorf("the certificate of %s is not trusted; give the one that signs it with --ca FILE (%s)", c.base, unknown.Err)
		}
		return nil, fmt.Errorf("%w at %s; start it with: fiume serve\n(%s)", ErrNoService, c.base, err)
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	p := &api.Problem{Status: resp.StatusCode}
	b, _ := io.ReadAll(resp.Body)
	if json.Unmarshal(b, p) != nil || p.Detail == "" {
		p.Detail = fmt.Sprintf("%s answered %s", c.base, resp.Status)
	}
	return nil, p
}

// Health asks how the service is.
func (c *Client) Health(ctx context.Context) (out service.Health, err error) {
	return out, c.call(ctx, "GET", "/api/health", nil, &out)
}

// Apply has the statements of a script done in order.
func (c *Client) Apply(ctx context.Context, in api.ScriptRequest) (out api.ApplyResponse, err error) {
	return out, c.call(ctx, "POST", "/api/apply", in, &out)
}

// pages gives all elements of a list, page by page.
func pages[T any](ctx context.Context, c *Client, path string, query url.Values) (out []T, err error) {
	out = []T{}
	if query == nil {
		query = url.Values{}
	}
	for {
		var p api.Page[T]
		if err := c.call(ctx, "GET", path+"?"+query.Encode(), nil, &p); err != nil {
			return nil, err
		}
		out = append(out, p.Items...)
		if p.Next == "" {
			return out, nil
		}
		query.Set("after", p.Next)
	}
}

// Jobs gives all jobs.
func (c *Client) Jobs(ctx context.Context) ([]jobs.JobInfo, error) {
	return pages[jobs.JobInfo](ctx, c, "/api/jobs", nil)
}

// Job gives one job.
func (c *Client) Job(ctx context.Context, name string) (out *jobs.JobDetail, err error) {
	return out, c.call(ctx, "GET", "/api/jobs/"+url.PathEscape(name), nil, &out)
}

// StartJob starts a stopped job.
func (c *Client) StartJob(ctx context.Context, name string) error {
	return c.call(ctx, "POST", "/api/jobs/"+url.PathEscape(name)+"/start", nil, nil)
}

// JobState gives what the steps of a job keep, what its sinks promise and hold back, and its checkpoints.
func (c *Client) JobState(ctx context.Context, name string) (out *jobs.JobState, err error) {
	return out, c.call(ctx, "GET", "/api/jobs/"+url.PathEscape(name)+"/state", nil, &out)
}

// Versions gives the texts that a job has had, the newest first.
func (c *Client) Versions(ctx context.Context, name string) ([]catalog.Version, error) {
	return pages[catalog.Version](ctx, c, "/api/jobs/"+url.PathEscape(name)+"/versions", nil)
}

// Revert goes back to an earlier version of a job; 0: the one before.
func (c *Client) Revert(ctx context.Context, name string, to int) (out []declare.Outcome, err error) {
	return out, c.call(ctx, "POST", fmt.Sprintf("/api/jobs/%s/revert?to=%d", url.PathEscape(name), to), nil, &out)
}

// Compare runs a job and a new text of it over the same messages, and compares what would stand in the sinks.
func (c *Client) Compare(ctx context.Context, name, since string, in api.ScriptRequest) (out *questions.Comparison, err error) {
	return out, c.call(ctx, "POST", "/api/jobs/"+url.PathEscape(name)+"/compare?"+url.Values{"since": {since}}.Encode(), in, &out)
}

// SetParallelism changes how many tasks share the work of a job; 0: as its text says.
func (c *Client) SetParallelism(ctx context.Context, name string, tasks int) error {
	return c.call(ctx, "PUT", "/api/jobs/"+url.PathEscape(name)+"/parallelism", map[string]int{"tasks": tasks}, nil)
}

// Checkpoints gives the checkpoints of a job that are kept, the newest first.
func (c *Client) Checkpoints(ctx context.Context, name string) ([]jobs.CheckpointInfo, error) {
	return pages[jobs.CheckpointInfo](ctx, c, "/api/jobs/"+url.PathEscape(name)+"/checkpoints", nil)
}

// StopJob stops a job.
func (c *Client) StopJob(ctx context.Context, name string) error {
	return c.call(ctx, "POST", "/api/jobs/"+url.PathEscape(name)+"/stop", nil, nil)
}

// DropJob stops a job and forgets it.
func (c *Client) DropJob(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", "/api/jobs/"+url.PathEscape(name), nil, nil)
}

// Lateness says how late the rows of a stream are. query holds the parameters of the call.
func (c *Client) Lateness(ctx context.Context, stream string, query url.Values) (out *questions.Lateness, err error) {
	return out, c.call(ctx, "GET", "/api/streams/"+url.PathEscape(stream)+"/lateness?"+query.Encode(), nil, &out)
}

// Topics gives all topics.
func (c *Client) Topics(ctx context.Context) ([]topics.TopicInfo, error) {
	return pages[topics.TopicInfo](ctx, c, "/api/topics", nil)
}

// CreateTopic makes a topic.
func (c *Client) CreateTopic(ctx context.Context, in api.TopicRequest) (out topics.TopicInfo, err error) {
	return out, c.call(ctx, "POST", "/api/topics", in, &out)
}

// DropTopic deletes a topic.
func (c *Client) DropTopic(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", "/api/topics/"+url.PathEscape(name), nil, nil)
}

// Write appends messages to a topic.
func (c *Client) Write(ctx context.Context, topic string, msgs []api.MessageRequest) error {
	return c.WriteBatch(ctx, topic, "", msgs)
}

// WriteBatch is Write for messages that have a name together: sent again under it they are written once.
func (c *Client) WriteBatch(ctx context.Context, topic, batch string, msgs []api.MessageRequest) error {
	if msgs == nil {
		msgs = []api.MessageRequest{}
	}
	path := "/api/topics/" + url.PathEscape(topic) + "/messages"
	if batch != "" {
		path += "?" + url.Values{"batch": {batch}}.Encode()
	}
	return c.call(ctx, "POST", path, msgs, nil)
}

// Read reads messages of a topic. query holds the parameters of the call.
func (c *Client) Read(ctx context.Context, topic string, query url.Values) ([]topics.Message, error) {
	var p api.MessagePage
	err := c.call(ctx, "GET", "/api/topics/"+url.PathEscape(topic)+"/messages?"+query.Encode(), nil, &p)
	return p.Items, err
}

// Activity gives the newest entries of the activity log.
func (c *Client) Activity(ctx context.Context, limit int) ([]catalog.Activity, error) {
	var p api.Page[catalog.Activity]
	err := c.call(ctx, "GET", fmt.Sprintf("/api/activity?limit=%d", limit), nil, &p)
	return p.Items, err
}

// SetSecret sets a secret, for the first endpoint that uses it.
func (c *Client) SetSecret(ctx context.Context, name, value string) error {
	return c.SetSecretFor(ctx, name, value, "")
}

// SetSecretFor sets a secret for an address, user@host:port.
func (c *Client) SetSecretFor(ctx context.Context, name, value, address string) error {
	return c.call(ctx, "PUT", "/api/secrets/"+url.PathEscape(name), map[string]string{"value": value, "for": address}, nil)
}

// Secrets gives the secrets, without their values.
func (c *Client) Secrets(ctx context.Context) ([]secrets.Secret, error) {
	return pages[secrets.Secret](ctx, c, "/api/secrets", nil)
}

// DropSecret forgets a secret that no endpoint uses.
func (c *Client) DropSecret(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", "/api/secrets/"+url.PathEscape(name), nil, nil)
}

// Databases gives the databases on the service's private server.
func (c *Client) Databases(ctx context.Context) ([]catalog.Database, error) {
	return pages[catalog.Database](ctx, c, "/api/databases", nil)
}

// CreateDatabase makes a database on the private server.
func (c *Client) CreateDatabase(ctx context.Context, in api.DatabaseRequest) (out *databases.Made, err error) {
	return out, c.call(ctx, "POST", "/api/databases", in, &out)
}

// DropDatabase deletes a database of the private server.
func (c *Client) DropDatabase(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", "/api/databases/"+url.PathEscape(name), nil, nil)
}

// RunStatements has the server of an endpoint run statements of its own.
func (c *Client) RunStatements(ctx context.Context, endpoint, text string) (out api.Ran, err error) {
	return out, c.call(ctx, "POST", "/api/endpoints/"+url.PathEscape(endpoint)+"/run", map[string]string{"sql": text}, &out)
}

// Query runs a SELECT. columns is called once, then row for each row as it comes, until the query
// ends or the context is cancelled.
func (c *Client) Query(ctx context.Context, in api.ScriptRequest, columns func([]base.Column) error, row func(json.RawMessage) error, aside func(questions.QueryAside)) (*api.QueryEnd, error) {
	resp, err := c.do(ctx, "POST", "/api/query", in)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	var end *api.QueryEnd
	err = eachEvent(resp.Body, func(name string, data []byte) error {
		switch name {
		case "columns":
			var cols []base.Column
			if err := json.Unmarshal(data, &cols); err != nil {
				return err
			}
			return columns(cols)
		case "rows":
			var rows []json.RawMessage
			if err := json.Unmarshal(data, &rows); err != nil {
				return err
			}
			for _, r := range rows {
				if err := row(r); err != nil {
					return err
				}
			}
		case "aside":
			var a questions.QueryAside
			if err := json.Unmarshal(data, &a); err != nil {
				return err
			}
			if aside != nil {
				aside(a)
			}
		case "problem":
			p := &api.Problem{}
			if err := json.Unmarshal(data, p); err != nil {
				return err
			}
			return p
		case "end":
			end = &api.QueryEnd{}
			return json.Unmarshal(data, end)
		}
		return nil
	})
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err == nil && end == nil {
		err = errors.New("the service ended the query")
	}
	return end, err
}

// eachEvent reads server-sent events.
func eachEvent(r io.Reader, each func(name string, data []byte) error) error {
	br := bufio.NewReaderSize(r, 64<<10)
	name := ""
	for {
		line, err := br.ReadBytes('\n')
		if err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		line = bytes.TrimRight(line, "\r\n")
		switch {
		case bytes.HasPrefix(line, []byte("event: ")):
			name = string(line[7:])
		case bytes.HasPrefix(line, []byte("data: ")):
			if err := each(name, line[6:]); err != nil {
				return err
			}
		}
	}
}
