// Package mqtt reads messages of MQTT 5 brokers, which are acknowledged when a checkpoint has them, and sends messages to them.
package mqtt

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/inbox"
	"fiume/internal/connect/outbox"
	"fiume/internal/connect/recorded"
	"fiume/internal/connect/trust"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// Connector is MQTT.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

var described = plan.Place{
	Kind:  "mqtt",
	About: "topics of an MQTT 5 broker: messages of devices; the address is a filter, in which + and # stand for levels",
	Example: `DECLARE ENDPOINT devices MQTT 'timing@10.0.0.8:8883' SECRET 'devices' (TLS on);
DECLARE STREAM mats (serial VARCHAR AS (SPLIT(_key, '/')[2]), battery DOUBLE, read_at TIMESTAMP)
	FROM MQTT 'mats/+/state' VIA devices (GROUP 'timing');
DECLARE SINK orders TO MQTT 'mats/{serial}/order' VIA devices (RETAIN true);`,
	Traits:   plan.Traits{Messages: true, Appends: true},
	Endpoint: true,
	Address:  func(address string) error { _, _, err := parse(address); return err },
	Options:  trust.Options(),
	Source: append(format.SourceOptions(),
		plan.OptionSpec{Name: "group", Kind: plan.WordOption, Doc: "the messages are shared out among all who read with this name; by default this stream gets all of them"},
		plan.OptionSpec{Name: "kept for", Kind: plan.DurationOption, Doc: "how long the broker keeps messages for a job that is not there", Default: "1 DAY"},
		plan.OptionSpec{Name: "retained", Kind: plan.FlagOption, Doc: "false: what the broker retains of topics is not read when a job begins", Default: "true"}),
	Sink: append(outbox.Options(),
		plan.OptionSpec{Name: "retain", Kind: plan.FlagOption, Doc: "true: the broker retains the newest message of each topic", Default: "false"}),
	Within: func(address string, _ *plan.Endpoint) error { return within(address) },
	Fits:   contract.Fits,
	Promise: func(*plan.Op) string {
		return "messages are confirmed by the broker (QoS 1), when a checkpoint is complete; after a crash some come twice, with the same user property fiume-id"
	},
}

// within says what is wrong with the filter of a stream, or with a sink's topic.
func within(address string) error {
	if address == "" || len(address) > 65535 || strings.ContainsRune(address, 0) {
		return fmt.Errorf("'%s' is no topic", address)
	}
	levels := strings.Split(address, "/")
	for i, l := range levels {
		if strings.Contains(l, "+") && l != "+" || strings.Contains(l, "#") && (l != "#" || i < len(levels)-1) {
			return fmt.Errorf("in '%s' a + stands for one level, and a # at the end for all that follow: each is a level by itself", address)
		}
	}
	return nil
}

// parse reads [user@]host:port.
func parse(address string) (user, server string, err error) {
	server = address
	if i := strings.LastIndexByte(address, '@'); i >= 0 {
		user, server = address[:i], address[i+1:]
		if strings.Contains(user, ":") {
			return "", "", errors.New("a password does not belong into the address; write SECRET 'name', and keep it with: fiume secret set name")
		}
		if user == "" {
			return "", "", errors.New("before the @ of the address stands a user")
		}
	}
	if host, port, err := net.SplitHostPort(server); err != nil || host == "" || port == "" {
		return "", "", errors.New("the address is not of the form host:port, or user@host:port")
	}
	return user, server, nil
}

// who asks at an endpoint.
func settingsOf(e *plan.Endpoint, access contract.Secrets) (s settings, err error) {
	if s.user, s.server, err = parse(e.Address); err != nil {
		return s, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	if s.tls, err = trust.Config(e, access.Secret); err != nil {
		return s, err
	}
	if s.tls != nil && s.tls.ServerName == "" {
		s.tls.ServerName, _, _ = net.SplitHostPort(s.server)
	}
	if e.Secret != "" {
		if s.password, err = access.Secret(e.Secret, strings.TrimPrefix(s.user+"@"+s.server, "@")); err != nil {
			return s, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
	}
	s.id = "fiume-" + random()
	return s, nil
}

func random() string {
	b := make([]byte, 8)
	_, _ = rand.Read(b) // it never fails
	return hex.EncodeToString(b)
}

// sessionOf names the session of a job's stream, which the broker keeps between its runs.
func sessionOf(env *contract.Env, s *plan.Stream) string {
	h := sha256.Sum256(fmt.Appendf(nil, "%s|%s|%s", env.Writer, s.Name, s.Address))
	return "fiume-" + hex.EncodeToString(h[:8])
}

// window is how many messages the broker may send before one is acknowledged: all that the protocol allows.
const window = 65535

// OpenSource implements contract.Reader.
func (connector) OpenSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	st := scan.Stream
	set, err := settingsOf(st.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	r := &receiver{settings: set, filter: st.Address, retained: st.Options.Flag("retained", true)}
	if g := st.Options.Word("group", ""); g != "" {
		if strings.ContainsAny(g, "/+#") {
			return nil, fmt.Errorf("GROUP '%s' is a name, without /, + and #", g)
		}
		r.filter = "$share/" + g + "/" + st.Address
	}
	if env.Writer != "" {
		r.id = sessionOf(env, st)
		r.expiry = uint32(min(st.Options.Duration("kept for", types.Day)/types.Second, 1<<32-2))
	}
	return inbox.Open(env, scan, r, st.Address+" at "+set.server, window)
}

// CheckSource implements contract.Reader.
func (connector) CheckSource(ctx context.Context, env *contract.Env, s *plan.Stream) error {
	if err := reach(ctx, env, s.Via); err != nil {
		return err
	}
	return env.CheckReading(s)
}

// reach looks whether a broker lets us in.
func reach(ctx context.Context, env *contract.Env, e *plan.Endpoint) error {
	set, err := settingsOf(e, env.Secrets)
	if err != nil {
		return err
	}
	c, _, err := connect(ctx, set, true)
	if err != nil {
		return fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	return c.leave()
}

// LeaveSource implements contract.Holder: the broker keeps no messages for a job that is gone.
func (connector) LeaveSource(env *contract.Env, scan *plan.Op) error {
	if env.Writer == "" {
		return nil
	}
	set, err := settingsOf(scan.Stream.Via, env.Secrets)
	if err != nil {
		return err
	}
	set.id = sessionOf(env, scan.Stream)
	ctx, cancel := context.WithTimeout(context.Background(), mayConnect)
	defer cancel()
	c, _, err := connect(ctx, set, true)
	if err != nil {
		return fmt.Errorf("the broker keeps messages for %s until KEPT FOR is over: %w", scan.Stream.Name, err)
	}
	return c.leave()
}

// OpenSink implements contract.Writer.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	return outbox.Opened(sinkOf(env, out))
}

func sinkOf(env *contract.Env, out *plan.Op) (*outbox.Sink, error) {
	if strings.ContainsAny(out.Sink.Address, "+#") {
		return nil, fmt.Errorf("the topic '%s' of a sink has no + and #; {column} stands for a value", out.Sink.Address)
	}
	set, err := settingsOf(out.Sink.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	return outbox.Open(env, out, &sender{settings: set, retain: out.Sink.Options.Flag("retain", false)})
}

// CheckSink implements contract.Writer.
func (connector) CheckSink(ctx context.Context, env *contract.Env, out *plan.Op) error {
	if _, err := sinkOf(env, out); err != nil {
		return err
	}
	return reach(ctx, env, out.Sink.Via)
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
	ctx, cancel := context.WithTimeout(ctx, 2*mayConnect)
	defer cancel()
	err := reach(ctx, env, e)
	if no := (*refused)(nil); errors.As(err, &no) {
		r.Saw("reachable", nil, "a broker answers")
		r.Saw("allowed", err, "")
		return
	}
	if !r.Saw("reachable", err, "a broker answers") || !r.Saw("allowed", nil, "it lets us in") {
		return
	}
	if of.Stream != nil {
		sample, err := x.Sample(ctx, env, contract.Wanted{Address: of.Stream.Address, Via: e, Limit: 20, Bytes: 1 << 20})
		var ms []recorded.Message
		if sample != nil {
			ms = sample.Messages
		}
		r.SawRows(env, of, ms, err)
	}
	if of.Output != nil {
		_, err := sinkOf(env, of.Output)
		r.Saw("columns fit", err, "the rows can be written")
	}
}

// waitsFor is how long a sample waits for messages where the broker retains none.
const waitsFor = 3 * time.Second

// Sample implements contract.Sampler: what the broker retains, and what comes in a few seconds.
func (connector) Sample(ctx context.Context, env *contract.Env, w contract.Wanted) (*contract.Sample, error) {
	set, err := settingsOf(w.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	if err := within(w.Address); err != nil {
		return nil, err
	}
	out := &contract.Sample{Origin: fmt.Sprintf("messages of %s at %s", w.Address, set.server), Name: strings.NewReplacer("/", "_", "+", "all", "#", "all").Replace(w.Address)}
	ctx, cancel := context.WithTimeout(ctx, mayConnect+waitsFor)
	defer cancel()
	c, _, err := connect(ctx, set, true)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s: %w", w.Via.Name, err)
	}
	defer func() { _ = c.leave() }()
	size := 0
	time.AfterFunc(waitsFor, func() { _ = c.leave() })
	if err := c.subscribe(w.Address, 0, true); err != nil {
		return nil, err
	}
	for len(out.Messages) < w.Limit && size < w.Bytes {
		m, err := c.next()
		if err != nil {
			break // the time is over
		}
		if m == nil {
			continue
		}
		size += len(m.Payload)
		out.Messages = append(out.Messages, recorded.Message{Offset: int64(len(out.Messages)), At: time.Now().UnixMicro(), Key: []byte(m.Topic), Headers: headersOf(m), Value: m.Payload})
	}
	return out, nil
}
