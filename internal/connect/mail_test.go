package connect_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"io"
	"math/big"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// post is a mail server that keeps what it takes.
type post struct {
	*smtp.Server
	addr, ca string
	mu       sync.Mutex
	mails    []*mail.Message
	bodies   []string
	to       []string
}

// newPost starts a mail server that knows the user timing and refuses mails to nobody.
func newPost(t *testing.T) *post {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	cert := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, cert, cert, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	p := &post{ca: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))}
	p.Server = smtp.NewServer(p)
	p.TLSConfig = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
	p.AllowInsecureAuth = true
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p.addr = l.Addr().String()
	go func() { _ = p.Serve(l) }()
	t.Cleanup(func() { p.Server.Close() })
	return p
}

// NewSession implements smtp.Backend.
func (p *post) NewSession(*smtp.Conn) (smtp.Session, error) { return &letters{post: p}, nil }

type letters struct {
	*post
	in bool
	to []string
}

func (l *letters) AuthMechanisms() []string { return []string{sasl.Plain} }
func (l *letters) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if l.in = user == "timing" && password == secret; !l.in {
			return &smtp.SMTPError{Code: 535, Message: "wrong user or password"}
		}
		return nil
	}), nil
}
func (l *letters) Mail(string, *smtp.MailOptions) error {
	if !l.in {
		return smtp.ErrAuthRequired
	}
	return nil
}
func (l *letters) Rcpt(to string, _ *smtp.RcptOptions) error {
	if strings.HasPrefix(to, "nobody@") {
		return &smtp.SMTPError{Code: 550, Message: "nobody of that name"}
	}
	l.to = append(l.to, to)
	return nil
}
func (l *letters) Data(r io.Reader) error {
	m, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	b, err := io.ReadAll(quotedprintable.NewReader(m.Body))
	if err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.mails, l.bodies, l.post.to = append(l.mails, m), append(l.bodies, string(b)), append(l.post.to, l.to...)
	return nil
}
func (l *letters) Reset()        { l.to = nil }
func (l *letters) Logout() error { return nil }

func (p *post) count() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.mails)
}

// TestMail: a row is a mail, once, with its subject and text; what the server refuses is set aside; a server that is away is waited for; and no row can make a header.
func TestMail(t *testing.T) {
	p := newPost(t)
	proxy := kit.NewProxy(t, p.addr)
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { log.Close() })
	in, err := log.Create("in", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	secrets := map[string]string{"post": secret, "ca": p.ca}
	env := contract.Env{Topics: log, Secrets: contract.Secrets{Secret: func(name, _ string) (string, error) { return secrets[name], nil }}}
	endpoint := func(options string) string {
		return "DECLARE ENDPOINT d MAIL 'timing@" + proxy.Addr + "' SECRET 'post' (" + options + "SENDER 'Timing desk ä <timing@race.example>'); DECLARE STREAM s (mat VARCHAR, who VARCHAR) FROM TOPIC 'in'; "
	}
	j := kit.New(t, endpoint("TLS on, CA 'ca', ")+`DECLARE SINK alarms TO MAIL '{who}@race.example' VIA d (TITLE 'Mat {mat} is silent', TEMPLATE 'No reads of {mat}.', BAD ROWS keep);
		CREATE JOB j AS SELECT mat, who FROM s ROUTE TO alarms;`, env)
	j.Start(t)
	writeTo(t, in, `{"mat":"km-5","who":"control"}`, `{"mat":"brücke\r\nBcc: all@race.example","who":"control"}`, `{"mat":"finish","who":"nobody"}`, `{"mat":"x","who":"no body"}`, `{"mat":"start","who":"control"}`)
	j.Until(t, "they are there", func() bool { return p.count() == 3 })
	j.Until(t, "the others are set aside", func() bool {
		st, ok := j.Status()
		return ok && len(st.Steps) > 0 && st.Steps[len(st.Steps)-1].Counts.Rejected == 2
	})
	proxy.Cut(true)
	writeTo(t, in, `{"mat":"late","who":"control"}`)
	j.Until(t, "it is said that the server is away", func() bool {
		st, ok := j.Status()
		return ok && len(st.Steps) > 0 && st.Steps[len(st.Steps)-1].Waiting != nil
	})
	if err := j.Kill(); err != nil {
		t.Fatal(err)
	}
	proxy.Cut(false)
	j.Start(t)
	j.Until(t, "the late one is there", func() bool { return p.count() >= 4 })
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	ids := map[string]bool{}
	var titles []string
	for i, m := range p.mails {
		title, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
		if err != nil {
			t.Error(err)
		}
		titles = append(titles, title+" | "+strings.TrimSpace(p.bodies[i]))
		ids[m.Header.Get("Message-ID")] = true
		if from, err := mail.ParseAddress(m.Header.Get("From")); err != nil || from.Name != "Timing desk ä" || m.Header.Get("Bcc") != "" || m.Header.Get("To") != "<control@race.example>" {
			t.Errorf("%+v %v", m.Header, err)
		}
	}
	want := []string{"Mat km-5 is silent | No reads of km-5.", "Mat brücke  Bcc: all@race.example is silent | No reads of brücke\r\nBcc: all@race.example.", "Mat start is silent | No reads of start.", "Mat late is silent | No reads of late."}
	if !slices.Equal(titles, want) || len(ids) != 4 || !slices.Equal(p.to, []string{"control@race.example", "control@race.example", "control@race.example", "control@race.example"}) {
		t.Errorf("%q\n%v %q", titles, ids, p.to)
	}
	silent, err := net.Listen("tcp", "127.0.0.1:0") // it takes connections and says nothing
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	for _, c := range []struct{ endpoint, sink, want string }{
		{strings.Replace(endpoint(""), proxy.Addr, silent.Addr().String(), 1), "'control@race.example' VIA d", "timeout"},
		{endpoint("TLS on, CA 'ca', "), "'control@race.example' VIA d", ""},
		{endpoint("TLS on, "), "'control@race.example' VIA d", "CA names a secret"},
		{endpoint("TLS on, CA 'ca', "), "'control' VIA d", "is no address of a mail"},
		{endpoint("TLS on, CA 'ca', "), "'{m}@race.example' VIA d", "{m}, which the rows do not have"},
		{strings.Replace(endpoint("TLS on, CA 'ca', "), "timing@", "nobody@", 1), "'control@race.example' VIA d", "wrong user or password"},
		{strings.Replace(endpoint(""), "127.0.0.1:", "10.255.255.1:", 1), "'control@race.example' VIA d", "the secret would go over the network as it is; write TLS on"},
		{strings.Replace(endpoint(""), "SENDER 'Timing desk ä <timing@race.example>'", "TLS off", 1), "'control@race.example' VIA d", "add SENDER"},
	} {
		plans, _, err := plan.NewCatalog(connect.Places()).Bind("j", c.endpoint+"DECLARE SINK o TO MAIL "+c.sink+"; CREATE JOB j AS SELECT mat FROM s ROUTE TO o;", nil, nil)
		if err == nil {
			err = (&connect.Opener{Env: env}).Check(t.Context(), plans[0])
		}
		if (err == nil) != (c.want == "") || err != nil && (!strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), secret)) {
			t.Errorf("%s: %v, wanted %q", c.sink, err, c.want)
		}
	}
}
