// Package mail sends rows as mails.
package mail

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"strconv"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/outbox"
	"fiume/internal/connect/trust"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"

	smtp "github.com/wneessen/go-mail"
)

// Connector is MAIL.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

var described = plan.Place{
	Kind:  "mail",
	About: "mails over a mail server, a mail for each row: for warnings",
	Example: `DECLARE ENDPOINT post MAIL 'timing@mail.race.example:587' SECRET 'post' (TLS on, SENDER 'Timing desk <timing@race.example>');
DECLARE SINK alarms TO MAIL 'control@race.example' VIA post (TITLE 'Mat {mat} is silent', TEMPLATE 'No reads since {since}.');`,
	Traits:   plan.Traits{Appends: true, OneWay: true},
	Endpoint: true,
	Address:  func(address string) error { _, _, _, err := parse(address); return err },
	Options: append(trust.Options(),
		plan.OptionSpec{Name: "sender", Kind: plan.WordOption, Doc: "whom mails are from, 'name@host' or 'Name <name@host>'", Default: "the user of the address, where that is one of a mail"}),
	Sink: append(format.SinkOptions(),
		plan.OptionSpec{Name: "title", Kind: plan.WordOption, Doc: "the subject, with {column} for a value", Default: "the job's name for the rows"},
		outbox.TemplateOption,
		plan.OptionSpec{Name: "bad rows", Kind: plan.WordOption, Words: []string{"stop", "keep"}, Doc: "what a mail that the server refuses does; stop: the job waits and tries again; keep: it is counted and a sample kept"}),
	Promise: func(*plan.Op) string {
		return "a mail server takes each mail, when a checkpoint is complete; after a crash some are sent twice, with the same Message-ID"
	},
}

// parse reads [user@]host:port; a user may be the address of a mail itself.
func parse(address string) (user, host string, port int, err error) {
	server := address
	if i := strings.LastIndexByte(address, '@'); i >= 0 {
		user, server = address[:i], address[i+1:]
		if strings.Contains(user, ":") {
			return "", "", 0, errors.New("a password does not belong into the address; write SECRET 'name', and keep it with: fiume secret set name")
		}
		if user == "" {
			return "", "", 0, errors.New("before the @ of the address stands a user")
		}
	}
	host, p, err := net.SplitHostPort(server)
	port, perr := strconv.Atoi(p)
	if err != nil || perr != nil || host == "" || port < 1 || port > 65535 {
		return "", "", 0, errors.New("the address is not of the form host:port, or user@host:port")
	}
	return user, host, port, nil
}

const mayAnswer = 10 * time.Second

// implicit is the port of servers that speak TLS from the first byte. Of others it is asked for (STARTTLS).
const implicit = 465

// sender implements outbox.Sender.
type sender struct {
	e      *plan.Endpoint
	access contract.Secrets
	from   *mail.Address
	title  string // of mails that have none
	client *smtp.Client
	sent   time.Time
}

// open connects to the server, and says who we are.
func (s *sender) open(ctx context.Context) error {
	user, host, port, err := parse(s.e.Address)
	if err != nil {
		return fmt.Errorf("endpoint %s: %w", s.e.Name, err)
	}
	c, err := trust.Config(s.e, s.access.Secret)
	if err != nil {
		return err
	}
	opts := []smtp.Option{smtp.WithPort(port), smtp.WithTimeout(mayAnswer), smtp.WithTLSPolicy(smtp.NoTLS), smtp.WithDialContextFunc(func(ctx context.Context, network, address string) (net.Conn, error) {
		d := net.Dialer{Timeout: mayAnswer}
		n, err := d.DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		n = &limited{n}
		if c != nil && port == implicit {
			n = tls.Client(n, c) // it shakes hands when it is first read
		}
		return n, nil
	})}
	if c != nil {
		if c.ServerName == "" {
			c.ServerName = host
		}
		opts = append(opts, smtp.WithTLSConfig(c), smtp.WithTLSPolicy(smtp.TLSMandatory))
		if port == implicit {
			opts = append(opts, smtp.WithSSL())
		}
	}
	if s.e.Secret != "" {
		secret, err := s.access.Secret(s.e.Secret, strings.TrimPrefix(user+"@"+net.JoinHostPort(host, strconv.Itoa(port)), "@"))
		if err != nil {
			return fmt.Errorf("endpoint %s: %w", s.e.Name, err)
		}
		if ip := net.ParseIP(host); c == nil && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return fmt.Errorf("endpoint %s: the secret would go over the network as it is; write TLS on", s.e.Name)
		}
		auth := smtp.SMTPAuthPlain
		if c == nil {
			auth = smtp.SMTPAuthPlainNoEnc // to this machine alone
		}
		opts = append(opts, smtp.WithSMTPAuth(auth), smtp.WithUsername(user), smtp.WithPassword(secret))
	}
	if s.client, err = smtp.NewClient(host, opts...); err != nil {
		return fmt.Errorf("endpoint %s: %w", s.e.Name, err)
	}
	if err := s.client.DialWithContext(ctx); err != nil {
		s.client = nil
		var unknown *tls.CertificateVerificationError
		if errors.As(err, &unknown) {
			err = fmt.Errorf("%w; CA names a secret with the certificates of those who may sign it", err)
		}
		return fmt.Errorf("endpoint %s: %w", s.e.Name, err)
	}
	return nil
}

// limited is a connection whose other side may be silent for a while at most.
type limited struct{ net.Conn }

// Read implements net.Conn.
func (l *limited) Read(b []byte) (int, error) {
	_ = l.SetReadDeadline(time.Now().Add(mayAnswer))
	return l.Conn.Read(b)
}

// Write implements net.Conn.
func (l *limited) Write(b []byte) (int, error) {
	_ = l.SetWriteDeadline(time.Now().Add(mayAnswer))
	return l.Conn.Write(b)
}

// mayRest is how long a connection is used again; servers end those that say nothing.
const mayRest = 20 * time.Second

// Send implements outbox.Sender.
func (s *sender) Send(ctx context.Context, messages []outbox.Message) (done int, refused map[int]string, err error) {
	refused = map[int]string{}
	if s.client != nil && time.Since(s.sent) > mayRest {
		_ = s.Close()
	}
	for _, m := range messages {
		if ctx.Err() != nil {
			return done, refused, ctx.Err()
		}
		msg, why := s.compose(m)
		if why != "" {
			refused[done] = why
			done++
			continue
		}
		if s.client == nil {
			if err := s.open(ctx); err != nil {
				return done, refused, err
			}
		}
		err := s.client.Send(msg)
		s.sent = time.Now()
		if err == nil {
			done++
			continue
		}
		_ = s.Close()
		var no *smtp.SendError
		if !errors.As(err, &no) || no.ErrorCode() < 500 || no.ErrorCode() == 521 || no.Reason != smtp.ErrSMTPRcptTo && no.Reason != smtp.ErrSMTPData && no.Reason != smtp.ErrSMTPDataClose {
			return done, refused, err
		}
		refused[done] = err.Error()
		done++
	}
	return done, refused, nil
}

// compose makes a mail of a message, or says why there is none.
func (s *sender) compose(m outbox.Message) (msg *smtp.Msg, why string) {
	to, err := mail.ParseAddressList(m.Address)
	if err != nil {
		return nil, fmt.Sprintf("%q is no address of a mail", m.Address)
	}
	msg = smtp.NewMsg(smtp.WithCharset(smtp.CharsetUTF8))
	msg.FromMailAddress(s.from)
	msg.ToMailAddress(to...)
	title := s.title
	format.EachHeader(m.Headers, func(name, value []byte) {
		if string(name) == outbox.Title {
			title = string(value)
		}
	})
	msg.Subject(strings.Map(func(r rune) rune { // a header is one line
		if r < ' ' {
			return ' '
		}
		return r
	}, title))
	_, host, _ := strings.Cut(s.from.Address, "@")
	h := sha256.Sum256([]byte(m.ID))
	msg.SetMessageIDWithValue(hex.EncodeToString(h[:16]) + "@" + host)
	msg.SetDate()
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // nobody's absence is answered to it
	msg.SetBodyString(smtp.TypeTextPlain, string(m.Body))
	return msg, ""
}

// Close implements outbox.Sender.
func (s *sender) Close() error {
	if s.client != nil {
		_ = s.client.Close() // it may have gone
		s.client = nil
	}
	return nil
}

func sinkOf(env *contract.Env, out *plan.Op) (*outbox.Sink, error) {
	s, err := senderOf(out.Sink.Via, env.Secrets)
	if err != nil {
		return nil, err
	}
	s.title = "Fiume: " + out.Step
	if !strings.Contains(out.Sink.Address, "{") {
		if _, err := mail.ParseAddressList(out.Sink.Address); err != nil {
			return nil, fmt.Errorf("'%s' is no address of a mail, nor several with commas between", out.Sink.Address)
		}
	}
	return outbox.Open(env, out, s)
}

func senderOf(e *plan.Endpoint, access contract.Secrets) (*sender, error) {
	user, _, _, err := parse(e.Address)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	from, err := mail.ParseAddress(e.Options.Word("sender", user))
	if err != nil {
		return nil, fmt.Errorf("endpoint %s does not say whom mails are from: add SENDER 'name@host'", e.Name)
	}
	return &sender{e: e, access: access, from: from}, nil
}

// OpenSink implements contract.Writer.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	return outbox.Opened(sinkOf(env, out))
}

// CheckSink implements contract.Writer.
func (connector) CheckSink(ctx context.Context, env *contract.Env, out *plan.Op) error {
	if _, err := sinkOf(env, out); err != nil {
		return err
	}
	return reach(ctx, env, out.Sink.Via)
}

func reach(ctx context.Context, env *contract.Env, e *plan.Endpoint) error {
	s, err := senderOf(e, env.Secrets)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, mayAnswer)
	defer cancel()
	if err := s.open(ctx); err != nil {
		return err
	}
	return s.Close()
}

// Test implements contract.Tester.
func (x connector) Test(ctx context.Context, env *contract.Env, of contract.Tested, r *contract.Report) {
	e := of.Endpoint
	if of.Sink != nil {
		e = of.Sink.Via
	}
	if !r.Saw("reachable", reach(ctx, env, e), "a mail server answers, and lets us in") || of.Output == nil {
		return
	}
	_, err := sinkOf(env, of.Output)
	r.Saw("columns fit", err, "the rows can be sent")
}
