// Package broker reads streams and tables from the topics of external brokers and writes sinks to them, over the brokers' open wire protocol.
package broker

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/text"
	"fiume/internal/connect/trust"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"

	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/sasl/plain"
	"github.com/twmb/franz-go/pkg/sasl/scram"
)

// Connector is BROKER.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

// Reread implements contract.Rereader.
func (connector) Reread(k *plan.Sink) string { return k.Address }

var described = plan.Place{
	Kind:   "broker",
	About:  "a topic of an external broker, over the brokers' open wire protocol; '*' in it stands for any letters",
	Traits: plan.Traits{Messages: true, Times: true, Again: true, Latest: true, WholeKey: true},
	Example: `DECLARE ENDPOINT harbour BROKER 'timing@10.0.0.5:9093,10.0.0.6:9093' SECRET 'harbour' (TLS on, CA 'harbour_ca');
DECLARE STREAM far_reads (chip VARCHAR, mat VARCHAR, read_at TIMESTAMP)
	EVENT TIME read_at DELAY 20 SECONDS IDLE AFTER 30 SECONDS
	FROM BROKER 'reads-*' VIA harbour (GROUP 'timing');
DECLARE TABLE chips (chip VARCHAR PRIMARY KEY, bib INT) FROM BROKER 'chips' VIA harbour;
DECLARE SINK far_strong TO BROKER 'strong-reads' VIA harbour (KEY (chip), COMPRESS zstd);`,
	Endpoint: true,
	Address:  func(address string) error { _, err := parseAddress(address); return err },
	Options: append(trust.Options(),
		plan.OptionSpec{Name: "login", Kind: plan.WordOption, Words: []string{"plain", "scram256", "scram512"}, Doc: "how the user of the address shows the secret", Default: "scram512"}),
	Source: append(format.SourceOptions(), sourceOptions...),
	Table:  append(format.SourceOptions(), sourceOptions...),
	Sink: append(format.SinkOptions(),
		plan.OptionSpec{Name: "key", Kind: plan.NamesOption, Doc: "the columns that make the message's key, joined with |; rows of a key go to the partition where other clients put it"},
		plan.OptionSpec{Name: "headers", Kind: plan.NamesOption, Doc: "columns that become headers of the messages, as text, and are left out of their values"},
		plan.OptionSpec{Name: "compress", Kind: plan.WordOption, Words: []string{"none", "gzip", "snappy", "lz4", "zstd"}, Doc: "how batches are packed", Default: "none"},
		plan.OptionSpec{Name: "repeats", Kind: plan.WordOption, Words: []string{"none", "possible"}, Doc: "possible: rows are sent at once, and after a crash some come twice; none: each row is there once"}),
	Fits: contract.Fits,
	Promise: func(out *plan.Op) string {
		if repeats(out) {
			return "rows are sent at once; after a crash some may come twice (REPEATS possible)"
		}
		return "each row once, in a transaction for each checkpoint: readers that take committed messages see them when it is complete"
	},
}

var sourceOptions = []plan.OptionSpec{
	{Name: "group", Kind: plan.WordOption, Doc: "a group of the brokers': where it has committed, reading begins unless SINCE says where; and when a checkpoint counts our position is committed to it, for monitors"},
	{Name: "uncommitted", Kind: plan.FlagOption, Doc: "true: messages of transactions that are open or were given up are read, too", Default: "false"},
}

// mayAnswer is how long brokers may take to answer a question.
const mayAnswer = 10 * time.Second

// address is where brokers are, and who asks.
type address struct {
	user  string
	seeds []string
}

// parseAddress reads [user@]host:port[,host:port…].
func parseAddress(text string) (a address, err error) {
	if i := strings.LastIndexByte(text, '@'); i >= 0 {
		a.user, text = text[:i], text[i+1:]
		if strings.Contains(a.user, ":") {
			return a, errors.New("a password does not belong into the address; write SECRET 'name', and keep it with: fiume secret set name")
		}
		if a.user == "" {
			return a, errors.New("before the @ of the address stands a user")
		}
	}
	for s := range strings.SplitSeq(text, ",") {
		s = strings.TrimSpace(s)
		if host, port, err := net.SplitHostPort(s); err != nil || host == "" || port == "" {
			return a, fmt.Errorf("the address is not of the form host:port, or user@host:port, with further host:port behind commas")
		}
		a.seeds = append(a.seeds, s)
	}
	return a, nil
}

// options gives what a client of an endpoint needs.
func options(e *plan.Endpoint, access contract.Secrets) ([]kgo.Opt, error) {
	a, err := parseAddress(e.Address)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	opts := []kgo.Opt{kgo.SeedBrokers(a.seeds...), kgo.ClientID("fiume"), kgo.DialTimeout(5 * time.Second), kgo.RequestTimeoutOverhead(mayAnswer),
		kgo.RetryTimeout(mayAnswer), kgo.MetadataMinAge(50 * time.Millisecond)}
	c, err := trust.Config(e, access.Secret)
	if err != nil {
		return nil, err
	}
	if c != nil {
		opts = append(opts, kgo.DialTLSConfig(c))
	}
	if a.user == "" && e.Secret != "" {
		return nil, fmt.Errorf("endpoint %s has a secret and no user: write the user before the address, user@host:port", e.Name)
	}
	if a.user != "" {
		if e.Secret == "" {
			return nil, fmt.Errorf("endpoint %s has a user and no SECRET", e.Name)
		}
		password, err := access.Secret(e.Secret, e.Address)
		if err != nil {
			return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
		switch e.Options.Word("login", "scram512") {
		case "plain":
			opts = append(opts, kgo.SASL(plain.Auth{User: a.user, Pass: password}.AsMechanism()))
		case "scram256":
			opts = append(opts, kgo.SASL(scram.Auth{User: a.user, Pass: password}.AsSha256Mechanism()))
		default:
			opts = append(opts, kgo.SASL(scram.Auth{User: a.user, Pass: password}.AsSha512Mechanism()))
		}
	}
	return opts, nil
}

// client makes a client of an endpoint. It does not connect yet.
func client(e *plan.Endpoint, access contract.Secrets, more ...kgo.Opt) (*kgo.Client, error) {
	opts, err := options(e, access)
	if err != nil {
		return nil, err
	}
	c, err := kgo.NewClient(append(opts, more...)...)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	return c, nil
}

// reached makes a client and looks whether a broker answers and lets us in.
func reached(ctx context.Context, e *plan.Endpoint, access contract.Secrets, more ...kgo.Opt) (*kgo.Client, error) {
	c, err := client(e, access, more...)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, mayAnswer)
	defer cancel()
	if err := c.Ping(ctx); err != nil {
		c.Close()
		return nil, said(e, err)
	}
	return c, nil
}

func repeats(out *plan.Op) bool { return out.Sink.Options.Word("repeats", "none") == "possible" }

// CheckSource implements contract.Reader.
func (connector) CheckSource(ctx context.Context, env *contract.Env, s *plan.Stream) error {
	c, err := reached(ctx, s.Via, env.Secrets)
	if err != nil {
		return err
	}
	defer c.Close()
	ctx, cancel := context.WithTimeout(ctx, mayAnswer)
	defer cancel()
	if _, err = topicsOf(ctx, c, s.Via, s.Address); err != nil {
		return err
	}
	return env.CheckReading(s)
}

// CheckSink implements contract.Writer.
func (connector) CheckSink(ctx context.Context, env *contract.Env, out *plan.Op) error {
	if err := plainName(out.Sink.Address); err != nil {
		return err
	}
	layout, err := text.LayoutOf(out)
	if err != nil {
		return err
	}
	w, err := env.Writing(out, layout.Values())
	if err == nil {
		err = w.Check()
	}
	if err != nil {
		return err
	}
	c, err := reached(ctx, out.Sink.Via, env.Secrets)
	if err != nil {
		return err
	}
	defer c.Close()
	ctx, cancel := context.WithTimeout(ctx, mayAnswer)
	defer cancel()
	_, err = topicsOf(ctx, c, out.Sink.Via, out.Sink.Address)
	return err
}

// plainName refuses a pattern where one topic is needed.
func plainName(topic string) error {
	if strings.Contains(topic, "*") {
		return fmt.Errorf("a sink writes to one topic, and '%s' may be several", topic)
	}
	return nil
}

// OpenSource implements contract.Reader.
func (connector) OpenSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	return openSource(env, scan)
}

// OpenSink implements contract.Writer.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	return openSink(env, out)
}
