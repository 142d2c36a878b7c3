// Package amqp reads queues of AMQP 0-9-1 brokers, whose messages are acknowledged when a checkpoint has them, and sends messages to their exchanges.
package amqp

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/inbox"
	"fiume/internal/connect/outbox"
	"fiume/internal/connect/trust"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"

	amqp "github.com/rabbitmq/amqp091-go"
)

// Connector is AMQP.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

var described = plan.Place{
	Kind:  "amqp",
	About: "a queue of an AMQP 0-9-1 broker; as a sink, what its address routes to",
	Example: `DECLARE ENDPOINT office AMQP 'timing@10.0.0.7:5672/race' SECRET 'office';
DECLARE STREAM entries (chip VARCHAR, bib INT, name VARCHAR) FROM AMQP 'entries' VIA office;
DECLARE SINK results TO AMQP 'results.{mat}' VIA office (EXCHANGE 'race');`,
	Traits:   plan.Traits{Messages: true, Appends: true},
	Endpoint: true,
	Address:  func(address string) error { _, err := parse(address); return err },
	Options:  trust.Options(),
	Source: append(format.SourceOptions(),
		plan.OptionSpec{Name: "under way", Kind: plan.NumberOption, Least: 1, Doc: "how many messages the broker hands out before a checkpoint has the first of them, 65535 at most", Default: "20000"}),
	Sink: append(outbox.Options(),
		plan.OptionSpec{Name: "exchange", Kind: plan.WordOption, Doc: "where messages are handed in; by default the one that takes the address for the name of a queue"}),
	Fits: contract.Fits,
	Promise: func(*plan.Op) string {
		return "the broker confirms each message, when a checkpoint is complete; after a crash some come twice, with the same message id"
	},
}

// place is what an address says.
type place struct{ user, server, vhost string }

// parse reads [user@]host:port[/vhost].
func parse(address string) (p place, err error) {
	if i := strings.LastIndexByte(address, '@'); i >= 0 {
		p.user, address = address[:i], address[i+1:]
		if strings.Contains(p.user, ":") {
			return p, errors.New("a password does not belong into the address; write SECRET 'name', and keep it with: fiume secret set name")
		}
		if p.user == "" {
			return p, errors.New("before the @ of the address stands a user")
		}
	}
	p.server, p.vhost, _ = strings.Cut(address, "/")
	if p.vhost == "" {
		p.vhost = "/"
	}
	if host, port, err := net.SplitHostPort(p.server); err != nil || host == "" || port == "" {
		return p, errors.New("the address is not of the form host:port, user@host:port or user@host:port/vhost")
	}
	return p, nil
}

const mayAnswer = 5 * time.Second

// connect opens a connection and a channel.
func connect(e *plan.Endpoint, access contract.Secrets) (*amqp.Connection, *amqp.Channel, error) {
	p, err := parse(e.Address)
	if err != nil {
		return nil, nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	var c *tls.Config
	if c, err = trust.Config(e, access.Secret); err != nil {
		return nil, nil, err
	}
	user, password, scheme := "guest", "guest", "amqp"
	if p.user != "" {
		user, password = p.user, ""
	}
	if e.Secret != "" {
		if password, err = access.Secret(e.Secret, strings.TrimPrefix(p.user+"@"+p.server, "@")); err != nil {
			return nil, nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
	}
	if c != nil {
		scheme = "amqps"
		if c.ServerName == "" {
			c.ServerName, _, _ = net.SplitHostPort(p.server)
		}
	}
	conn, err := amqp.DialConfig(scheme+"://"+p.server, amqp.Config{SASL: []amqp.Authentication{&amqp.PlainAuth{Username: user, Password: password}}, Vhost: p.vhost, Heartbeat: 10 * time.Second,
		TLSClientConfig: c, Dial: amqp.DefaultDial(mayAnswer), Properties: amqp.Table{"connection_name": "fiume"}})
	if err != nil {
		return nil, nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	ch, err := conn.Channel()
	if err != nil {
		return nil, nil, errors.Join(fmt.Errorf("endpoint %s: %w", e.Name, err), conn.Close())
	}
	return conn, ch, nil
}

// reach looks whether the broker lets us in, and has a queue, where one is named.
func reach(env *contract.Env, e *plan.Endpoint, look func(ch *amqp.Channel) error) error {
	conn, ch, err := connect(e, env.Secrets)
	if err != nil {
		return err
	}
	err = look(ch)
	_ = conn.CloseDeadline(time.Now().Add(mayAnswer)) // it was only asked
	return err
}

func hasQueue(e *plan.Endpoint, name string) func(*amqp.Channel) error {
	return func(ch *amqp.Channel) error {
		_, err := ch.QueueDeclarePassive(name, false, false, false, false, nil)
		if no := (*amqp.Error)(nil); errors.As(err, &no) && no.Code == amqp.NotFound {
			return fmt.Errorf("endpoint %s: the broker has no queue '%s'", e.Name, name)
		}
		return err
	}
}

func hasExchange(e *plan.Endpoint, name string) func(*amqp.Channel) error {
	return func(ch *amqp.Channel) error {
		if name == "" {
			return nil // it is always there
		}
		err := ch.ExchangeDeclarePassive(name, "direct", false, false, false, false, nil)
		if no := (*amqp.Error)(nil); errors.As(err, &no) && no.Code == amqp.NotFound {
			return fmt.Errorf("endpoint %s: the broker has no exchange '%s'", e.Name, name)
		}
		return err
	}
}

// OpenSource implements contract.Reader.
func (connector) OpenSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	st := scan.Stream
	n := min(st.Options.Number("under way", 20000), 65535)
	return inbox.Open(env, scan, &receiver{e: st.Via, access: env.Secrets, queue: st.Address, window: n}, "queue "+st.Address, n)
}

// CheckSource implements contract.Reader.
func (connector) CheckSource(_ context.Context, env *contract.Env, s *plan.Stream) error {
	if err := reach(env, s.Via, hasQueue(s.Via, s.Address)); err != nil {
		return err
	}
	return env.CheckReading(s)
}

// OpenSink implements contract.Writer.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	return outbox.Opened(sinkOf(env, out))
}

func sinkOf(env *contract.Env, out *plan.Op) (*outbox.Sink, error) {
	return outbox.Open(env, out, &sender{e: out.Sink.Via, access: env.Secrets, exchange: out.Sink.Options.Word("exchange", "")})
}

// CheckSink implements contract.Writer.
func (connector) CheckSink(_ context.Context, env *contract.Env, out *plan.Op) error {
	if _, err := sinkOf(env, out); err != nil {
		return err
	}
	e, exchange := out.Sink.Via, out.Sink.Options.Word("exchange", "")
	if exchange == "" && !strings.Contains(out.Sink.Address, "{") {
		return reach(env, e, hasQueue(e, out.Sink.Address))
	}
	return reach(env, e, hasExchange(e, exchange))
}

// Test implements contract.Tester.
func (x connector) Test(ctx context.Context, env *contract.Env, of contract.Tested, r *contract.Report) {
	e, look := of.Endpoint, func(*amqp.Channel) error { return nil }
	switch {
	case of.Stream != nil:
		e, look = of.Stream.Via, hasQueue(of.Stream.Via, of.Stream.Address)
	case of.Sink != nil:
		e, look = of.Sink.Via, hasExchange(of.Sink.Via, of.Sink.Options.Word("exchange", ""))
	}
	err := reach(env, e, func(*amqp.Channel) error { return nil })
	if errors.Is(err, amqp.ErrCredentials) || errors.Is(err, amqp.ErrVhost) {
		r.Saw("reachable", nil, "a broker answers")
		r.Saw("allowed", err, "")
		return
	}
	if !r.Saw("reachable", err, "a broker answers") || !r.Saw("allowed", nil, "it lets us in") || of.Stream == nil && of.Sink == nil {
		return
	}
	if r.Saw("exists", reach(env, e, look), "it is there") && of.Output != nil {
		r.Saw("columns fit", x.CheckSink(ctx, env, of.Output), "the rows can be written")
	}
}

// receiver implements inbox.Client.
type receiver struct {
	e      *plan.Endpoint
	access contract.Secrets
	queue  string
	window int
}

// Receive implements inbox.Client.
func (r *receiver) Receive(ctx context.Context, in *inbox.Source) error {
	conn, ch, err := connect(r.e, r.access)
	if err != nil {
		return err
	}
	defer func() { _ = conn.CloseDeadline(time.Now().Add(time.Second)) }()
	if err := ch.Qos(r.window, 0, false); err != nil {
		return err
	}
	closed := ch.NotifyClose(make(chan *amqp.Error, 1))
	coming, err := ch.Consume(r.queue, "", false, false, false, false, nil)
	if err != nil {
		return err
	}
	in.Connected(false)
	acks := &acker{ch: ch, queue: r.queue, ready: make(chan struct{}, 1), settled: in.Settled}
	ended := make(chan struct{})
	defer close(ended)
	go acks.run(ended)
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-closed:
			if err == nil {
				return errors.New("the broker has closed the connection")
			}
			return err
		case d, ok := <-coming:
			if !ok {
				select {
				case err := <-closed:
					if err != nil {
						return err
					}
				default:
				}
				return fmt.Errorf("the broker sends nothing of the queue '%s' any more", r.queue)
			}
			tag := d.DeliveryTag
			if !in.Give(inbox.Message{Key: []byte(d.RoutingKey), Value: d.Body, Headers: headersOf(d.Headers), Name: strings.ReplaceAll(d.MessageId, " ", "_"), Repeated: d.Redelivered, Ack: func() { acks.add(tag) }}) {
				return nil
			}
		}
	}
}

// acker acknowledges messages, all up to one at a time, and asks something behind it: the answer shows that the broker knows.
type acker struct {
	ch      *amqp.Channel
	queue   string
	ready   chan struct{}
	settled func(acks int)
	mu      sync.Mutex
	last    uint64
	acks    int
}

func (a *acker) add(tag uint64) {
	a.mu.Lock()
	a.last = max(a.last, tag)
	a.acks++
	a.mu.Unlock()
	select {
	case a.ready <- struct{}{}:
	default:
	}
}

func (a *acker) run(ended chan struct{}) {
	for told := 0; ; {
		select {
		case <-ended:
			return
		case <-a.ready:
		}
		a.mu.Lock()
		last, acks := a.last, a.acks
		a.mu.Unlock()
		if acks == told {
			continue // a tag is acknowledged once
		}
		if a.ch.Ack(last, true) != nil {
			return // it is seen where messages are awaited
		}
		if _, err := a.ch.QueueDeclarePassive(a.queue, false, false, false, false, nil); err != nil {
			return
		}
		told = acks
		a.settled(acks)
	}
}

func headersOf(t amqp.Table) []byte {
	if len(t) == 0 {
		return nil
	}
	var names []string
	for n := range t {
		names = append(names, n)
	}
	slices.Sort(names)
	return format.AppendHeaders(nil, len(names), func(i int) (string, []byte) {
		v := t[names[i]]
		if v == nil {
			return names[i], nil
		}
		return names[i], fmt.Append(nil, v)
	})
}

// sender implements outbox.Sender.
type sender struct {
	e        *plan.Endpoint
	access   contract.Secrets
	exchange string
	conn     *amqp.Connection
	ch       *amqp.Channel
	returned chan amqp.Return
}

// mostSending are the messages that are under way at a time.
const mostSending = 1000

// Send implements outbox.Sender.
func (s *sender) Send(ctx context.Context, messages []outbox.Message) (done int, no map[int]string, err error) {
	if s.conn == nil || s.conn.IsClosed() || s.ch.IsClosed() {
		_ = s.Close()
		if s.conn, s.ch, err = connect(s.e, s.access); err != nil {
			s.conn = nil
			return 0, nil, err
		}
		s.returned = s.ch.NotifyReturn(make(chan amqp.Return, mostSending))
		if err := s.ch.Confirm(false); err != nil {
			return 0, nil, errors.Join(err, s.Close())
		}
	}
	no = map[int]string{}
	for some := range slices.Chunk(messages, mostSending) {
		n, err := s.send(ctx, some, func(i int, why string) { no[done+i] = why })
		done += n
		if err != nil {
			_ = s.Close()
			return done, no, err
		}
	}
	return done, no, nil
}

func (s *sender) send(ctx context.Context, messages []outbox.Message, refuse func(i int, why string)) (int, error) {
	confirms := make([]*amqp.DeferredConfirmation, len(messages))
	for i, m := range messages {
		if len(m.Address) > 255 {
			refuse(i, "a routing key has 255 bytes at most")
			continue
		}
		headers := amqp.Table{}
		format.EachHeader(m.Headers, func(name, value []byte) {
			if value == nil {
				headers[string(name)] = nil
			} else {
				headers[string(name)] = string(value)
			}
		})
		var err error
		confirms[i], err = s.ch.PublishWithDeferredConfirmWithContext(ctx, s.exchange, m.Address, true, false, amqp.Publishing{Headers: headers, DeliveryMode: amqp.Persistent, MessageId: m.ID, Timestamp: time.Now(), Body: m.Body})
		if err != nil {
			return 0, err
		}
	}
	waits, cancel := context.WithTimeout(ctx, 3*mayAnswer)
	defer cancel()
	for i, c := range confirms {
		if c == nil {
			continue
		}
		ok, err := c.WaitContext(waits)
		switch {
		case err != nil:
			return i, fmt.Errorf("the broker does not confirm: %w", err)
		case s.ch.IsClosed():
			return i, errors.New("the broker has closed the channel")
		case !ok:
			return i, errors.New("the broker could not take a message")
		}
	}
	for more := true; more; { // what is not routed comes back before it is confirmed
		select {
		case r, ok := <-s.returned:
			if more = ok; ok {
				if i := slices.IndexFunc(messages, func(m outbox.Message) bool { return m.ID == r.MessageId }); i >= 0 {
					refuse(i, fmt.Sprintf("no queue is bound for '%s' (%s)", messages[i].Address, r.ReplyText))
				}
			}
		default:
			more = false
		}
	}
	return len(messages), nil
}

// Close implements outbox.Sender.
func (s *sender) Close() error {
	if s.conn != nil {
		_ = s.conn.CloseDeadline(time.Now().Add(time.Second))
		s.conn = nil
	}
	return nil
}
