// Package schemas asks registries of schemas, over their usual HTTP interface.
package schemas

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/trust"
	"fiume/internal/core/plan"
	"fiume/internal/format"

	"github.com/twmb/franz-go/pkg/sr"
)

// MayAnswer is how long a registry may take to answer.
const MayAnswer = 5 * time.Second

// mostParts is how many schemas one may refer to, by way of others too.
const mostParts = 200

// Registry is the registry behind an endpoint. It implements format.Schemas, and remembers schemas: what has a number does not change.
type Registry struct {
	e  *plan.Endpoint
	c  *sr.Client
	mu sync.Mutex
	by map[int]*format.Schema
}

// Address reads an address, http(s)://[user@]host[:port][/path].
func Address(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, errors.New("the address is not of the form https://host:port or https://user@host:port")
	}
	if _, ok := u.User.Password(); ok {
		return nil, errors.New("a password does not belong into the address; write SECRET 'name', and keep it with: fiume secret set name")
	}
	if u.RawQuery != "" || u.Fragment != "" {
		return nil, errors.New("the address of a registry ends with its path")
	}
	return u, nil
}

// Open makes a client. It does not connect yet.
func Open(e *plan.Endpoint, secret func(name, address string) (string, error)) (*Registry, error) {
	u, err := Address(e.Address)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	opts := []sr.ClientOpt{sr.UserAgent("fiume")}
	t, err := trust.Always(e, secret)
	if err != nil {
		return nil, err
	}
	user := u.User.Username()
	u.User = nil
	if user == "" && e.Secret != "" {
		return nil, fmt.Errorf("endpoint %s has a secret and no user: write the user before the address, https://user@host", e.Name)
	}
	if user != "" {
		if e.Secret == "" {
			return nil, fmt.Errorf("endpoint %s has a user and no SECRET", e.Name)
		}
		password, err := secret(e.Secret, e.Address)
		if err != nil {
			return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
		opts = append(opts, sr.BasicAuth(user, password))
	}
	h := &http.Client{Timeout: MayAnswer, Transport: &http.Transport{TLSClientConfig: t, Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: 2, IdleConnTimeout: time.Minute}}
	c, err := sr.NewClient(append(opts, sr.URLs(u.String()), sr.HTTPClient(h))...)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	return &Registry{e: e, c: c, by: map[int]*format.Schema{}}, nil
}

// Name implements format.Schemas.
func (r *Registry) Name() string { return r.e.Name }

// within bounds a question.
func within() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), MayAnswer)
}

// ByID implements format.Schemas.
func (r *Registry) ByID(id int) (*format.Schema, error) {
	r.mu.Lock()
	known := r.by[id]
	r.mu.Unlock()
	if known != nil {
		return known, nil
	}
	ctx, done := within()
	defer done()
	got, err := r.c.SchemaByID(ctx, id)
	if code(err) == 40403 {
		return nil, &format.UnknownSchema{Registry: r.e.Name, ID: id}
	}
	if err != nil {
		return nil, r.said(err)
	}
	s, err := r.schema(ctx, got)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.by[id] = s
	return s, nil
}

// schema gives a schema with those that it refers to.
func (r *Registry) schema(ctx context.Context, got sr.Schema) (*format.Schema, error) {
	s := &format.Schema{Format: words[got.Type], Text: got.Schema}
	seen := map[string]bool{}
	var follow func(refs []sr.SchemaReference) error
	follow = func(refs []sr.SchemaReference) error {
		for _, ref := range refs {
			if seen[ref.Name] {
				continue
			}
			if seen[ref.Name] = true; len(seen) > mostParts {
				return fmt.Errorf("endpoint %s: a schema refers to more than %d others", r.e.Name, mostParts)
			}
			part, err := r.c.SchemaByVersion(ctx, ref.Subject, ref.Version)
			if err != nil {
				return r.said(fmt.Errorf("the schema %s that another one refers to: %w", ref.Name, err))
			}
			if err := follow(part.References); err != nil {
				return err
			}
			s.Parts = append(s.Parts, format.SchemaPart{Name: ref.Name, Text: part.Schema.Schema})
		}
		return nil
	}
	return s, follow(got.References)
}

var words = map[sr.SchemaType]string{sr.TypeAvro: "avro", sr.TypeProtobuf: "protobuf", sr.TypeJSON: "json"}

var kinds = map[string]sr.SchemaType{"avro": sr.TypeAvro, "protobuf": sr.TypeProtobuf, "json": sr.TypeJSON}

// Latest implements format.Schemas.
func (r *Registry) Latest(subject string) (*format.Schema, error) {
	ctx, done := within()
	defer done()
	got, err := r.c.SchemaByVersion(ctx, subject, -1)
	switch code(err) {
	case 40401, 40402:
		return nil, nil
	}
	if err != nil {
		return nil, r.said(err)
	}
	return r.schema(ctx, got.Schema)
}

// Fits implements format.Schemas.
func (r *Registry) Fits(subject string, s *format.Schema) error {
	ctx, done := within()
	defer done()
	got, err := r.c.CheckCompatibility(ctx, subject, -1, sr.Schema{Schema: s.Text, Type: kinds[s.Format]})
	switch code(err) {
	case 40401, 40402: // it is the first
		return nil
	}
	if err != nil {
		return r.said(err)
	}
	if !got.Is {
		why := ""
		if len(got.Messages) > 0 {
			why = ": " + strings.Join(got.Messages, "; ")
		}
		return r.incompatible(subject, why)
	}
	return nil
}

func (r *Registry) incompatible(subject, why string) error {
	return fmt.Errorf("the rows' schema does not fit the subject '%s' of the registry %s%s; write the columns that are there, with their types, or take another SUBJECT", subject, r.e.Name, why)
}

// Add implements format.Schemas.
func (r *Registry) Add(subject string, s *format.Schema) (int, error) {
	ctx, done := within()
	defer done()
	got, err := r.c.CreateSchema(ctx, subject, sr.Schema{Schema: s.Text, Type: kinds[s.Format]})
	if code(err) == 409 {
		var re *sr.ResponseError
		_ = errors.As(err, &re)
		return 0, r.incompatible(subject, ": "+re.Message)
	}
	return got.ID, r.said(err)
}

// Subjects lists the subjects there are.
func (r *Registry) Subjects(ctx context.Context) ([]string, error) {
	ctx, done := context.WithTimeout(ctx, MayAnswer)
	defer done()
	list, err := r.c.Subjects(ctx)
	slices.Sort(list)
	return list, r.said(err)
}

// code gives the number of a registry's refusal, or that of HTTP; 0 where it is another failure.
func code(err error) int {
	var re *sr.ResponseError
	if !errors.As(err, &re) {
		return 0
	}
	if re.ErrorCode != 0 {
		return re.ErrorCode
	}
	return re.StatusCode
}

// said says in words what went wrong, without what may be secret in it.
func (r *Registry) said(err error) error {
	if err == nil {
		return nil
	}
	at := fmt.Sprintf("endpoint %s: the registry at %s", r.e.Name, r.e.Address)
	var re *sr.ResponseError
	var op *net.OpError
	var cert *tls.CertificateVerificationError
	switch {
	case errors.As(err, &re):
		switch re.StatusCode {
		case http.StatusUnauthorized:
			return fmt.Errorf("%s lets nobody in without the right user and password: write user@ into the address, and SECRET", at)
		case http.StatusForbidden:
			return fmt.Errorf("%s does not allow that to the user", at)
		case http.StatusNotFound:
			return fmt.Errorf("%s does not have it: %s", at, re.Message)
		}
		return fmt.Errorf("%s says: %s (%d)", at, re.Message, code(err))
	case errors.As(err, &cert):
		return fmt.Errorf("%s shows a certificate that is not trusted: %w; give the certificates of those who sign it with CA 'secret'", at, cert.Err)
	case errors.Is(err, context.DeadlineExceeded) || isTimeout(err):
		return fmt.Errorf("%s has not answered for %d seconds", at, int(MayAnswer.Seconds()))
	case errors.As(err, &op):
		return fmt.Errorf("%s cannot be reached: %w", at, op.Err)
	}
	return fmt.Errorf("%s: %w", at, err)
}

func isTimeout(err error) bool {
	var n net.Error
	return errors.As(err, &n) && n.Timeout()
}
