// Package nats reads messages that streams of NATS keep, by their sequence, and sends messages to them.
package nats

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/outbox"
	"fiume/internal/connect/recorded"
	"fiume/internal/connect/trust"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// Connector is NATS.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

var described = plan.Place{
	Kind:  "nats",
	About: "subjects of a NATS server, as its streams keep them; * stands for one part of a subject, and > for all that follow",
	Example: `DECLARE ENDPOINT relay NATS 'timing@10.0.0.9:4222' SECRET 'relay';
DECLARE STREAM passages (mat VARCHAR AS (SPLIT(_key, '.')[2]), chip VARCHAR, at TIMESTAMP)
	EVENT TIME at DELAY 20 SECONDS FROM NATS 'mats.*.passages' VIA relay;
DECLARE SINK warnings TO NATS 'warnings.{mat}' VIA relay;`,
	Traits:   plan.Traits{Messages: true, Times: true, Again: true, Appends: true},
	Endpoint: true,
	Address:  func(address string) error { _, _, err := parse(address); return err },
	Options:  trust.Options(),
	Source: append(format.SourceOptions(),
		plan.OptionSpec{Name: "kept by", Kind: plan.WordOption, Doc: "the server's stream that keeps the subject", Default: "the one that does"}),
	Sink:   outbox.Options(),
	Within: func(address string, _ *plan.Endpoint) error { return within(address) },
	Fits:   contract.Fits,
	Promise: func(*plan.Op) string {
		return "a stream of the server has each message before it counts as sent, when a checkpoint is complete; what is sent again has the same message id, by which the server drops repeats (for as long as the stream looks back for them, 2 minutes unless it says otherwise)"
	},
}

// within says what is wrong with a subject.
func within(address string) error {
	parts := strings.Split(address, ".")
	for i, p := range parts {
		if p == "" || strings.ContainsAny(p, " \t\r\n\x00") || strings.Contains(p, "*") && p != "*" || strings.Contains(p, ">") && (p != ">" || i < len(parts)-1) {
			return fmt.Errorf("'%s' is no subject: parts stand between dots, a * for one part, and a > at the end for all that follow", address)
		}
	}
	return nil
}

// parse reads [user@]host:port[,host:port…].
func parse(address string) (user string, servers []string, err error) {
	rest := address
	if i := strings.LastIndexByte(address, '@'); i >= 0 {
		user, rest = address[:i], address[i+1:]
		if strings.Contains(user, ":") {
			return "", nil, errors.New("a password does not belong into the address; write SECRET 'name', and keep it with: fiume secret set name")
		}
		if user == "" {
			return "", nil, errors.New("before the @ of the address stands a user")
		}
	}
	for s := range strings.SplitSeq(rest, ",") {
		s = strings.TrimSpace(s)
		if host, port, err := net.SplitHostPort(s); err != nil || host == "" || port == "" {
			return "", nil, errors.New("the address is not of the form host:port, or user@host:port, with further host:port behind commas")
		}
		servers = append(servers, s)
	}
	return user, servers, nil
}

const mayAnswer = 5 * time.Second

// connect opens a connection that is made again by itself where it breaks. A secret without a user is a token.
func connect(e *plan.Endpoint, access contract.Secrets, again func()) (*nats.Conn, jetstream.JetStream, error) {
	user, servers, err := parse(e.Address)
	if err != nil {
		return nil, nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	opts := []nats.Option{nats.Name("fiume"), nats.Timeout(mayAnswer), nats.MaxReconnects(-1), nats.ReconnectWait(200 * time.Millisecond), nats.PingInterval(10 * time.Second), nats.MaxPingsOutstanding(2),
		nats.ErrorHandler(func(*nats.Conn, *nats.Subscription, error) {}), nats.ReconnectHandler(func(*nats.Conn) { again() }), nats.DisconnectErrHandler(func(*nats.Conn, error) { again() })}
	c, err := trust.Config(e, access.Secret)
	if err != nil {
		return nil, nil, err
	}
	if c != nil {
		opts = append(opts, nats.Secure(c))
	}
	if e.Secret != "" {
		secret, err := access.Secret(e.Secret, strings.TrimPrefix(user+"@"+servers[0], "@"))
		switch {
		case err != nil:
			return nil, nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
		case user == "":
			opts = append(opts, nats.Token(secret))
		default:
			opts = append(opts, nats.UserInfo(user, secret))
		}
	}
	n, err := nats.Connect("nats://"+strings.Join(servers, ",nats://"), opts...)
	if err != nil {
		return nil, nil, fmt.Errorf("endpoint %s at %s: %w", e.Name, strings.Join(servers, ","), err)
	}
	js, err := jetstream.New(n, jetstream.WithPublishAsyncMaxPending(mostSending))
	if err != nil {
		n.Close()
	}
	return n, js, err
}

// keeperOf finds the server's stream that keeps a subject.
func keeperOf(ctx context.Context, js jetstream.JetStream, e *plan.Endpoint, subject, named string) (jetstream.Stream, error) {
	ctx, cancel := context.WithTimeout(ctx, mayAnswer)
	defer cancel()
	if named == "" {
		var err error
		if named, err = js.StreamNameBySubject(ctx, subject); errors.Is(err, jetstream.ErrStreamNotFound) {
			return nil, fmt.Errorf("endpoint %s: no stream of the server keeps the subject '%s'; there are %s", e.Name, subject, orNone(streams(ctx, js)))
		} else if err != nil {
			return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
	}
	s, err := js.Stream(ctx, named)
	if errors.Is(err, jetstream.ErrStreamNotFound) {
		return nil, fmt.Errorf("endpoint %s: the server has no stream '%s'; there are %s", e.Name, named, orNone(streams(ctx, js)))
	}
	return s, err
}

func streams(ctx context.Context, js jetstream.JetStream) (names []string) {
	for n := range js.StreamNames(ctx).Name() {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

func orNone(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names[:min(len(names), 12)], ", ")
}

// looked opens a connection for a question.
func looked(env *contract.Env, e *plan.Endpoint) (jetstream.JetStream, func(), error) {
	n, js, err := connect(e, env.Secrets, func() {})
	if err != nil {
		return nil, nil, err
	}
	return js, n.Close, nil
}

// CheckSource implements contract.Reader.
func (connector) CheckSource(ctx context.Context, env *contract.Env, s *plan.Stream) error {
	js, end, err := looked(env, s.Via)
	if err != nil {
		return err
	}
	defer end()
	if _, err := keeperOf(ctx, js, s.Via, s.Address, s.Options.Word("kept by", "")); err != nil {
		return err
	}
	return env.CheckReading(s)
}

// OpenSink implements contract.Writer.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	return outbox.Opened(sinkOf(env, out))
}

func sinkOf(env *contract.Env, out *plan.Op) (*outbox.Sink, error) {
	if strings.ContainsAny(out.Sink.Address, "*>") {
		return nil, fmt.Errorf("the subject '%s' of a sink has no * and >; {column} stands for a value", out.Sink.Address)
	}
	return outbox.Open(env, out, &sender{e: out.Sink.Via, access: env.Secrets})
}

// CheckSink implements contract.Writer.
func (connector) CheckSink(ctx context.Context, env *contract.Env, out *plan.Op) error {
	if _, err := sinkOf(env, out); err != nil {
		return err
	}
	js, end, err := looked(env, out.Sink.Via)
	if err != nil {
		return err
	}
	defer end()
	subject := out.Sink.Address
	if strings.Contains(subject, "{") {
		return nil // which it is the rows say
	}
	_, err = keeperOf(ctx, js, out.Sink.Via, subject, "")
	return err
}

// List implements contract.Lister: the subjects that streams keep.
func (connector) List(ctx context.Context, env *contract.Env, via *plan.Endpoint) (names []string, err error) {
	js, end, err := looked(env, via)
	if err != nil {
		return nil, err
	}
	defer end()
	ctx, cancel := context.WithTimeout(ctx, mayAnswer)
	defer cancel()
	l := js.ListStreams(ctx)
	for s := range l.Info() {
		names = append(names, s.Config.Subjects...)
	}
	slices.Sort(names)
	return names, l.Err()
}

// Test implements contract.Tester.
func (x connector) Test(ctx context.Context, env *contract.Env, of contract.Tested, r *contract.Report) {
	e := of.Endpoint
	switch {
	case of.Stream != nil:
		e = of.Stream.Via
	case of.Sink != nil:
		e = of.Sink.Via
	}
	js, end, err := looked(env, e)
	if errors.Is(err, nats.ErrAuthorization) || errors.Is(err, nats.ErrAuthExpired) {
		r.Saw("reachable", nil, "a server answers")
		r.Saw("allowed", err, "")
		return
	}
	if !r.Saw("reachable", err, "a server answers") || !r.Saw("allowed", nil, "it lets us in") {
		return
	}
	defer end()
	switch {
	case of.Stream != nil:
		s, err := keeperOf(ctx, js, e, of.Stream.Address, of.Stream.Options.Word("kept by", ""))
		detail := ""
		if err == nil {
			detail = fmt.Sprintf("the stream %s keeps it, with %d messages", s.CachedInfo().Config.Name, s.CachedInfo().State.Msgs)
		}
		if !r.Saw("exists", err, detail) {
			return
		}
		sample, err := x.Sample(ctx, env, contract.Wanted{Address: of.Stream.Address, Via: e, Options: of.Stream.Options, Limit: 20, Bytes: 1 << 20})
		var ms []recorded.Message
		if sample != nil {
			ms = sample.Messages
		}
		r.SawRows(env, of, ms, err)
	case of.Output != nil:
		r.Saw("columns fit", x.CheckSink(ctx, env, of.Output), "the rows can be written")
	}
}

// Sample implements contract.Sampler.
func (connector) Sample(ctx context.Context, env *contract.Env, w contract.Wanted) (*contract.Sample, error) {
	js, end, err := looked(env, w.Via)
	if err != nil {
		return nil, err
	}
	defer end()
	if err := within(w.Address); err != nil {
		return nil, err
	}
	s, err := keeperOf(ctx, js, w.Via, w.Address, w.Options.Word("kept by", ""))
	if err != nil {
		return nil, err
	}
	out := &contract.Sample{Origin: fmt.Sprintf("messages of %s", w.Address), Name: strings.NewReplacer(".", "_", "*", "all", ">", "all").Replace(w.Address)}
	first := w.From
	if state := s.CachedInfo().State; first < 0 { // the newest, where the stream has nothing else
		first = int64(max(state.FirstSeq, state.LastSeq+1-min(state.LastSeq, uint64(w.Limit))))
	}
	ctx, cancel := context.WithTimeout(ctx, mayAnswer)
	defer cancel()
	c, err := s.OrderedConsumer(ctx, jetstream.OrderedConsumerConfig{FilterSubjects: []string{w.Address}, DeliverPolicy: jetstream.DeliverByStartSequencePolicy, OptStartSeq: uint64(max(first, 1))})
	if err != nil {
		return nil, err
	}
	b, err := c.FetchNoWait(w.Limit)
	if err != nil {
		return nil, err
	}
	size := 0
	for m := range b.Messages() {
		meta, err := m.Metadata()
		if err != nil || size > w.Bytes {
			continue
		}
		size += len(m.Data())
		out.Messages = append(out.Messages, recorded.Message{Offset: int64(meta.Sequence.Stream), At: meta.Timestamp.UnixMicro(), Key: []byte(m.Subject()), Headers: headersOf(m.Headers()), Value: m.Data()})
	}
	return out, b.Error()
}

// headersOf writes headers; of several with one name all are there.
func headersOf(h nats.Header) []byte {
	type pair struct{ name, value string }
	var all []pair
	for name, values := range h {
		for _, v := range values {
			all = append(all, pair{name, v})
		}
	}
	if all == nil {
		return nil
	}
	slices.SortStableFunc(all, func(a, b pair) int { return strings.Compare(a.name, b.name) })
	return format.AppendHeaders(nil, len(all), func(i int) (string, []byte) { return all[i].name, []byte(all[i].value) })
}
