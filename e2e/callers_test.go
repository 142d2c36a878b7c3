package e2e

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/big"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fiume/internal/api"
	"fiume/internal/client"
	"fiume/internal/service/access"
	"fiume/internal/service/people"

	"github.com/eclipse/paho.golang/paho"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/sasl/plain"
)

// peopled is a service with an administrator, ada.
type peopled struct {
	*process
	ada *client.Client
}

func password(name string) *string {
	w := "the password of " + name
	return &w
}

func grantsOf(t testing.TB, texts ...string) (out []access.Grant) {
	t.Helper()
	for _, x := range texts {
		g, err := access.ParseGrant(x)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, g)
	}
	return out
}

func populate(t testing.TB, args ...string) *peopled {
	t.Helper()
	p := &peopled{process: start(t, append([]string{"serve", "--dir", t.TempDir(), "--listen", "127.0.0.1:0"}, args...)...)}
	if _, err := p.PutUser(t.Context(), "ada", api.UserRequest{Grants: grantsOf(t, "administer"), Password: password("ada")}); err != nil {
		t.Fatal(err)
	}
	p.ada = p.as(t, "ada")
	return p
}

// as signs somebody in.
func (p *peopled) as(t testing.TB, name string) *client.Client {
	t.Helper()
	in, err := p.SignIn(t.Context(), name, *password(name))
	if err != nil {
		t.Fatal(err)
	}
	return p.Client.With(in.Token)
}

// with makes somebody and signs him in.
func (p *peopled) with(t testing.TB, name string, roles ...string) *client.Client {
	t.Helper()
	if _, err := p.ada.PutUser(t.Context(), name, api.UserRequest{Grants: grantsOf(t, roles...), Password: password(name)}); err != nil {
		t.Fatal(err)
	}
	return p.as(t, name)
}

func statusOf(err error) int {
	var p *api.Problem
	if errors.As(err, &p) {
		return p.Status
	}
	return 0
}

// TestWalkOfCallers: in the console somebody becomes the first administrator, lets another in, who sees his space alone, and shares a board by a link.
func TestWalkOfCallers(t *testing.T) {
	t.Parallel()
	p := &peopled{process: serve(t, t.TempDir())}
	if _, err := p.Apply(t.Context(), api.ScriptRequest{SQL: `CREATE TOPIC timing.reads (PARTITIONS 1); CREATE TOPIC secret_one (PARTITIONS 1);
		DECLARE STREAM timing.reads (chip VARCHAR) FROM TOPIC 'timing.reads';
		CREATE BOARD timing.now PANEL 'Chips' TABLE AS (SELECT chip FROM timing.reads);`}); err != nil {
		t.Fatal(err)
	}
	b := browse(t, p.base)
	b.open("/")
	b.do("open the menu", press("choices"), press("people-page"))
	b.shows("Nobody has been created")
	b.accessible("people, while there are none")
	b.do("create somebody", press("new-person"), visible(named("person-name")))
	b.fill(named("person-name"), "ada")
	b.fill(named("person-password"), *password("ada"))
	b.do("save", press("save-person"))
	b.do("sign in", visible(named("sign-in-name")))
	b.accessible("the page to sign in")
	b.fill(named("sign-in-name"), "ada")
	b.fill(named("sign-in-password"), "not the password")
	b.do("sign in wrongly", press("sign-in"))
	b.shows("the name or the password is wrong")
	b.fill(named("sign-in-password"), *password("ada"))
	b.do("sign in", press("sign-in"))
	b.shows("People and tokens", "administer", "No tokens. A program, a device or a client of brokers shows one instead of a password.")
	b.do("create bo", press("new-person"), visible(named("person-name")))
	b.fill(named("person-name"), "bo")
	evaluate[string](b, choose("role", "develop"))
	b.fill(named("space"), "timing")
	b.do("add the role", press("add-role"))
	b.shows("develop:timing")
	b.do("save", press("save-person"), visible(named("once")))
	link := evaluate[string](b, `document.querySelector("`+named("once")+`").textContent`)
	if !strings.HasPrefix(link, p.base+"/welcome#fiume-invite-") {
		t.Fatalf("the link is %s", link)
	}
	b.forgive("401")
	b.forgive("429")
	b.clean()

	// bo comes by the link.
	x := browse(t, "")
	x.open(link)
	x.do("his page", visible(named("new-password")))
	x.fill(named("new-password"), *password("bo"))
	x.fill(named("new-password-again"), *password("bo"))
	x.do("choose", press("choose-password"))
	x.shows("Jobs")
	x.base = p.base
	x.open("/topics")
	x.shows("timing.reads")
	if text := x.text(); strings.Contains(text, "secret_one") || strings.Contains(text, "Activity") {
		t.Errorf("bo sees what is not his:\n%s", text)
	}
	x.open("/topics/secret_one")
	x.shows("there is no topic")
	x.open("/boards/timing.now")
	x.do("share it", press("share-board"), press("make-link"), visible(named("link")))
	board := evaluate[string](x, `document.querySelector("`+named("link")+`").textContent`)
	x.forgive("404")
	x.clean()

	y := browse(t, "")
	y.open(board)
	y.shows("Chips")
	y.base = p.base
	y.accessible("a board by a link")
	y.open("/topics")
	y.shows("lacks the role look")
	y.forgive("403")
	y.forgive("404")
	y.clean()
	// bo is kept out: what he has open asks who he is.
	off := true
	if _, err := p.as(t, "ada").PutUser(t.Context(), "bo", api.UserRequest{Off: &off}); err != nil {
		t.Fatal(err)
	}
	x.do("he is asked", visible(named("sign-in-name")))
}

// TestEndedIsOver: what was opened with a token ends with it, and with the rights of its owner.
func TestEndedIsOver(t *testing.T) {
	t.Parallel()
	p := populate(t)
	if _, err := p.ada.CreateTopic(t.Context(), api.TopicRequest{Name: "timing.t", Partitions: 1}); err != nil {
		t.Fatal(err)
	}
	bo := p.with(t, "bo", "read:timing")
	follow := func(token string) (ended chan struct{}) {
		req, _ := http.NewRequestWithContext(t.Context(), "GET", p.base+"/api/topics/timing.t/follow", nil)
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultTransport.RoundTrip(req)
		if err != nil || resp.StatusCode != 200 {
			t.Fatal(resp.StatusCode, err)
		}
		ended = make(chan struct{})
		go func() {
			_, _ = io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
			close(ended)
		}()
		return ended
	}
	over := func(what string, ended chan struct{}) {
		t.Helper()
		select {
		case <-ended:
		case <-time.After(patience):
			t.Errorf("%s, and what was open goes on", what)
		}
	}
	token := func(name string) string {
		x, err := bo.NewToken(t.Context(), api.TokenRequest{Name: name, Grants: grantsOf(t, "read:timing")})
		if err != nil {
			t.Fatal(err)
		}
		return x.Text
	}
	one := token("one")
	ended := follow(one)
	if err := bo.DropToken(t.Context(), "one"); err != nil {
		t.Fatal(err)
	}
	over("a token has ended", ended)
	if _, err := p.Client.With(one).Topics(t.Context()); statusOf(err) != 401 {
		t.Error(err)
	}
	ended = follow(token("two"))
	if _, err := p.ada.PutUser(t.Context(), "bo", api.UserRequest{Grants: grantsOf(t, "look:timing")}); err != nil {
		t.Fatal(err)
	}
	over("its owner reads no more", ended)
	// Nobody does anything in another's name.
	req, _ := http.NewRequestWithContext(t.Context(), "POST", p.base+"/api/tokens", strings.NewReader(`{"name":"three","grants":[{"role":"look","space":"timing"}]}`))
	in, err := p.SignIn(t.Context(), "bo", *password("bo"))
	if err != nil {
		t.Fatal(err)
	}
	for k, v := range map[string]string{"Authorization": "Bearer " + in.Token, "Content-Type": "application/json", "Fiume-Actor": "ada", "X-Forwarded-For": "203.0.113.9"} {
		req.Header.Set(k, v)
	}
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err != nil || resp.StatusCode != 200 {
		t.Fatal(resp.StatusCode, err)
	}
	resp.Body.Close()
	all, err := p.ada.Activity(t.Context(), 50)
	if err != nil {
		t.Fatal(err)
	}
	found := false
	for _, a := range all {
		if a.Object == "token three" {
			found = true
			if a.Actor != "bo" || a.Address != "127.0.0.1" || a.Via != "session" {
				t.Errorf("%+v", a)
			}
		}
	}
	if !found {
		t.Error("a token was made that is not in the log")
	}
	if proof, err := p.ada.ProveActivity(t.Context()); err != nil || proof.Broken != 0 || proof.Entries < 8 {
		t.Errorf("%+v %v", proof, err)
	}
	var export bytes.Buffer
	if err := p.ada.ExportActivity(t.Context(), 0, &export); err != nil || strings.Count(export.String(), "\n") < 8 || strings.Contains(export.String(), "fiume-token-") || strings.Contains(export.String(), "fiume-session-") {
		t.Errorf("%v\n%s", err, &export)
	}
	if err := p.ada.SignOut(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := p.ada.Jobs(t.Context()); statusOf(err) != 401 {
		t.Error(err)
	}
}

// TestFirstPersonEndsWhatIsOpen: what somebody has opened while nobody was asked ends when everybody is.
func TestFirstPersonEndsWhatIsOpen(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	if _, err := p.CreateTopic(t.Context(), api.TopicRequest{Name: "t", Partitions: 1}); err != nil {
		t.Fatal(err)
	}
	resp, err := http.Get(p.base + "/api/topics/t/follow")
	if err != nil || resp.StatusCode != 200 {
		t.Fatal(resp, err)
	}
	ended := make(chan struct{})
	go func() {
		_, _ = io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
		close(ended)
	}()
	if _, err := p.PutUser(t.Context(), "ada", api.UserRequest{Grants: grantsOf(t, "administer"), Password: password("ada")}); err != nil {
		t.Fatal(err)
	}
	select {
	case <-ended:
	case <-time.After(patience):
		t.Error("a topic is followed by nobody")
	}
}

// certify writes a certificate for 127.0.0.1, and the key that it has.
func certify(t testing.TB, dir string, serial int64) (cert, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	of := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "fiume"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, IPAddresses: []net.IP{net.ParseIP("127.0.0.1")}}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &k.PublicKey, k)
	if err != nil {
		t.Fatal(err)
	}
	b, err := x509.MarshalECPrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	key = writeFile(t, dir, "key.pem", string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: b})))
	return writeFile(t, dir, "cert.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))), key
}

// TestBeyondLoopback: at another address the service listens encrypted and with an administrator alone; a certificate that changes is shown anew.
func TestBeyondLoopback(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cert, key := certify(t, dir, 1)
	run := func(args ...string) result {
		return fiume(t, "", append([]string{"serve", "--dir", filepath.Join(dir, "state")}, args...)...)
	}
	run("--listen", "0.0.0.0:0").want(t, 2, "give --tls-cert and --tls-key, or listen at 127.0.0.1")
	run("--listen", "127.0.0.1:0", "--brokers-listen", "0.0.0.0:0").want(t, 2, "--brokers-listen 0.0.0.0:0: others than this machine")
	run("--listen", "0.0.0.0:0", "--tls-cert", cert).want(t, 2, "--tls-cert and --tls-key go together")
	run("--listen", "0.0.0.0:0", "--tls-cert", cert, "--tls-key", key).want(t, 2, "nobody has been created", "--invite NAME")
	run("--listen", "127.0.0.1:0", "--tls-cert", key, "--tls-key", cert).want(t, 2, "are no certificate with its key")
	run("--listen", "0.0.0.0:0", "--insecure-behind-proxy").want(t, 2, "needs --trusted-proxy")
	run("--listen", "0.0.0.0:0", "--insecure-behind-proxy", "--trusted-proxy", "here").want(t, 2, "--trusted-proxy takes an address")
	run("--public", "fiume.example").want(t, 2, "--public takes an address such as")
	run("--oidc-issuer", "http://id.example", "--oidc-client", "x", "--oidc-role", "a=look").want(t, 2, "takes an https address")
	run("--oidc-issuer", "https://id.example").want(t, 2, "needs --oidc-client")
	run("--oidc-issuer", "https://id.example", "--oidc-client", "x", "--oidc-role", "a=king").want(t, 2, `there is no role "king"`)

	p := start(t, "serve", "--dir", filepath.Join(dir, "state"), "--listen", "0.0.0.0:0", "--tls-cert", cert, "--tls-key", key, "--invite", "ada", "--public", "http://fiume.example")
	code := p.out.String()[strings.Index(p.out.String(), "/welcome#")+len("/welcome#"):]
	code = strings.Fields(code)[0]
	_, port, err := net.SplitHostPort(strings.TrimPrefix(strings.Fields(p.out.String()[strings.Index(p.out.String(), "https://"):])[0], "https://"))
	if err != nil {
		t.Fatal(p.out, err)
	}
	base := "https://127.0.0.1:" + port
	plain := client.New(base)
	if _, err := plain.Session(t.Context()); err == nil || !strings.Contains(err.Error(), "is not trusted; give the one that signs it with --ca") {
		t.Error(err)
	}
	c, err := plain.Trusting(cert)
	if err != nil {
		t.Fatal(err)
	}
	s, err := c.Session(t.Context())
	if err != nil || !s.Needed || s.Name != "" {
		t.Fatalf("%+v %v", s, err)
	}
	pool := x509.NewCertPool()
	b, _ := os.ReadFile(cert)
	pool.AppendCertsFromPEM(b)
	web := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, ForceAttemptHTTP2: true}}
	resp, err := web.Post(base+"/api/session/invitation", "application/json", strings.NewReader(fmt.Sprintf(`{"code":%q,"password":%q}`, code, *password("ada"))))
	if err != nil || resp.StatusCode != 200 || resp.ProtoMajor != 2 {
		t.Fatal(resp, err)
	}
	resp.Body.Close()
	if set := resp.Header.Get("Set-Cookie"); !strings.Contains(set, "Secure") || !strings.Contains(set, "HttpOnly") || !strings.Contains(set, "SameSite=Lax") || resp.Header.Get("Strict-Transport-Security") == "" {
		t.Errorf("%q", resp.Header)
	}
	serial := func() int64 {
		conn, err := tls.Dial("tcp", "127.0.0.1:"+port, &tls.Config{InsecureSkipVerify: true})
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64()
	}
	if n := serial(); n != 1 {
		t.Errorf("the certificate %d", n)
	}
	writeFile(t, dir, "cert.pem", "half of one")
	for range 3 {
		time.Sleep(time.Second) // it is looked at every two
		if n := serial(); n != 1 {
			t.Errorf("the certificate %d while it is written", n)
		}
	}
	certify(t, dir, 2)
	eventually(t, "the new certificate is shown", func() bool { return serial() == 2 })
	if old, err := tls.Dial("tcp", "127.0.0.1:"+port, &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS11}); err == nil {
		old.Close()
		t.Error("TLS 1.1 is spoken")
	}
	if resp, err := http.Get("http://127.0.0.1:" + port + "/"); err == nil && resp.StatusCode < 400 {
		t.Error("what is not encrypted is answered")
	}
}

// TestListenersAsk: clients of brokers and devices show a token, and do what it may do, until it ends.
func TestListenersAsk(t *testing.T) {
	t.Parallel()
	p := populate(t, "--brokers-listen", "127.0.0.1:0", "--mqtt-listen", "127.0.0.1:0")
	at := func(what string) string {
		_, after, _ := strings.Cut(p.out.String(), what)
		return strings.TrimRight(strings.Fields(after)[0], ",.")
	}
	eventually(t, "all listen", func() bool { return strings.Contains(p.out.String(), "Devices publish at") })
	brokers, devices := at("topics at "), at("Devices publish at ")
	for _, name := range []string{"timing.t", "medical.t", "plain"} {
		if _, err := p.ada.CreateTopic(t.Context(), api.TopicRequest{Name: name, Partitions: 1}); err != nil {
			t.Fatal(err)
		}
		if err := p.ada.Write(t.Context(), name, []api.MessageRequest{{Value: "1"}}); err != nil {
			t.Fatal(err)
		}
	}
	p.with(t, "bo", "read:timing", "write:timing")
	bo := p.as(t, "bo")
	token := func(name string, roles ...string) string {
		x, err := bo.NewToken(t.Context(), api.TokenRequest{Name: name, Grants: grantsOf(t, roles...)})
		if err != nil {
			t.Fatal(err)
		}
		return x.Text
	}
	both, reads, writes := token("both", "read:timing", "write:timing"), token("reads", "read:timing"), token("writes", "write:timing")
	connect := func(user, pass string, opts ...kgo.Opt) *kgo.Client {
		opts = append(opts, kgo.SeedBrokers(brokers), kgo.RetryTimeout(3*time.Second), kgo.RecordDeliveryTimeout(5*time.Second), kgo.RecordRetries(2))
		if user != "" {
			opts = append(opts, kgo.SASL(plain.Auth{User: user, Pass: pass}.AsMechanism()))
		}
		k, err := kgo.NewClient(opts...)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(k.Close)
		return k
	}
	write := func(k *kgo.Client, topic string) error {
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		defer cancel()
		return k.ProduceSync(ctx, &kgo.Record{Topic: topic, Value: []byte("2")}).FirstErr()
	}
	for name, k := range map[string]*kgo.Client{"nobody": connect("", ""), "a wrong token": connect("both", "fiume-token-x"), "another name": connect("reads", both), "a password": connect("bo", *password("bo"))} {
		if err := write(k, "timing.t"); err == nil {
			t.Errorf("%s writes", name)
		}
	}
	if err := write(connect("writes", writes), "timing.t"); err != nil {
		t.Error(err)
	}
	for _, x := range []struct{ user, token, topic string }{{"reads", reads, "timing.t"}, {"writes", writes, "medical.t"}, {"both", both, "plain"}, {"both", both, "nothing"}} {
		if err := write(connect(x.user, x.token), x.topic); !errors.Is(err, kerr.TopicAuthorizationFailed) && !errors.Is(err, kerr.ClusterAuthorizationFailed) {
			t.Errorf("%s writes to %s: %v", x.user, x.topic, err)
		}
	}
	read := func(k *kgo.Client) (n int, err error) {
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		defer cancel()
		f := k.PollFetches(ctx)
		for _, e := range f.Errors() {
			err = e.Err
		}
		return f.NumRecords(), err
	}
	if n, err := read(connect("both", both, kgo.ConsumeTopics("timing.t"), kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()))); n < 2 || err != nil {
		t.Errorf("%d messages, %v", n, err)
	}
	if n, err := read(connect("writes", writes, kgo.ConsumePartitions(map[string]map[int32]kgo.Offset{"timing.t": {0: kgo.NewOffset().At(0)}}))); n != 0 || !errors.Is(err, kerr.TopicAuthorizationFailed) {
		t.Errorf("who only writes reads %d messages, %v", n, err)
	}
	if n, err := read(connect("both", both, kgo.ConsumePartitions(map[string]map[int32]kgo.Offset{"medical.t": {0: kgo.NewOffset().At(0)}}))); n != 0 || !errors.Is(err, kerr.TopicAuthorizationFailed) {
		t.Errorf("%d messages of another space, %v", n, err)
	}
	if n, err := read(connect("both", both, kgo.ConsumeTopics("timing.t"), kgo.ConsumerGroup("mine"))); n != 0 || !errors.Is(err, kerr.GroupAuthorizationFailed) {
		t.Errorf("%d messages in a group that stands in no space, %v", n, err)
	}
	grouped := connect("both", both, kgo.ConsumeTopics("timing.t"), kgo.ConsumerGroup("timing.mine"), kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()))
	if n, err := read(grouped); n < 2 || err != nil {
		t.Errorf("%d messages in a group, %v", n, err)
	}

	publish := func(user, pass, topic string) error {
		conn, err := net.Dial("tcp", devices)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		c := paho.NewClient(paho.ClientConfig{Conn: conn, PacketTimeout: patience})
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		defer cancel()
		in := &paho.Connect{ClientID: "d" + user + topic, CleanStart: true}
		if user != "" {
			in.UsernameFlag, in.Username, in.PasswordFlag, in.Password = true, user, true, []byte(pass)
		}
		if _, err := c.Connect(ctx, in); err != nil {
			return fmt.Errorf("connect: %w", err)
		}
		_, err = c.Publish(ctx, &paho.Publish{Topic: topic, QoS: 1, Payload: []byte("3")})
		return err
	}
	if err := publish("writes", writes, "timing.t/mat-1"); err != nil {
		t.Error(err)
	}
	for _, x := range [][3]string{{"", "", "timing.t"}, {"writes", "wrong", "timing.t"}, {"reads", writes, "timing.t"}} {
		if err := publish(x[0], x[1], x[2]); err == nil || !strings.HasPrefix(err.Error(), "connect: ") {
			t.Errorf("%v: %v", x, err)
		}
	}
	for _, x := range [][3]string{{"reads", reads, "timing.t"}, {"writes", writes, "medical.t"}, {"both", both, "plain/x"}} {
		if err := publish(x[0], x[1], x[2]); err == nil || strings.HasPrefix(err.Error(), "connect: ") {
			t.Errorf("%v: %v", x, err)
		}
	}
	for topic, want := range map[string]int{"medical.t": 1, "plain": 1} {
		if all, err := p.ada.Read(t.Context(), topic, url.Values{}); err != nil || len(all) != want {
			t.Errorf("%s has %d messages, %v", topic, len(all), err)
		}
	}
	// It ends, and what is connected with it.
	if err := bo.DropToken(t.Context(), "both"); err != nil {
		t.Fatal(err)
	}
	if err := write(grouped, "timing.t"); err == nil {
		t.Error("a token that has ended writes on")
	}
}

// TestSecretsStayInside: no secret comes out in an answer, an error, a log, the process list, a file, or a metric.
func TestSecretsStayInside(t *testing.T) {
	t.Parallel()
	const marker = "MARKERmarkerMARKER"
	secrets := t.TempDir()
	dir := t.TempDir()
	p := start(t, "serve", "--dir", dir, "--listen", "127.0.0.1:0", "--log-level", "debug", "--secrets-dir", secrets)
	ctx := t.Context()
	var out bytes.Buffer
	note := func(v ...any) { fmt.Fprintln(&out, v...) }
	// Somebody who does not answer, at which everything fails.
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				_ = c.SetDeadline(time.Now().Add(2 * time.Second))
				b := make([]byte, 1)
				if _, err := io.ReadFull(c, b); err != nil || b[0] < 'A' || b[0] > 'Z' {
					_, _ = c.Write([]byte("nonsense\r\n"))
					return
				}
				r, err := http.ReadRequest(bufio.NewReader(io.MultiReader(bytes.NewReader(b), c)))
				if err != nil {
					return
				}
				told, _ := httputil.DumpRequest(r, false) // it tells what it was told, as servers do that are to be searched for faults
				_, _ = fmt.Fprintf(c, "HTTP/1.1 500 Broken\r\nContent-Type: text/plain\r\nContent-Length: %d\r\n\r\n%s", len(told), told)
			}()
		}
	}()
	at := l.Addr().String()
	for i, place := range []string{"MARIADB 'user@%s/db'", "POSTGRES 'user@%s/db'", "BROKER 'user@%s'", "WEB 'http://%s'", "MQTT 'user@%s'", "AMQP 'user@%s'", "NATS 'user@%s'", "MAIL 'user@%s'", "SEARCH 'http://%s'", "REGISTRY 'http://%s'", "LAKE 'http://%s'", "FILES 'http://%s'"} {
		kept, filed := fmt.Sprintf("kept_%d", i), fmt.Sprintf("filed_%d", i) // each for an address of its own
		if err := p.SetSecret(ctx, kept, marker+"1"); err != nil {
			t.Fatal(err)
		}
		writeFile(t, secrets, filed, marker+"2")
		for k, secret := range []string{kept, filed} {
			name := fmt.Sprintf("e%d_%d", i, k)
			r, err := p.Apply(ctx, api.ScriptRequest{SQL: fmt.Sprintf("DECLARE ENDPOINT %s %s SECRET '%s';", name, fmt.Sprintf(place, at), secret)})
			note(r, err)
			look, err := p.Look(ctx, name, "")
			note(look, err)
			d, err := p.RunStatements(ctx, name, "SELECT 1")
			note(d, err)
		}
	}
	conns, err := p.Connections(ctx, "", nil, nil)
	note(conns, err)
	for _, sql := range []string{"CREATE TOPIC t (PARTITIONS 1);", "DECLARE SINK s0 TO WEB '/x' VIA e3_0; DECLARE STREAM r (x VARCHAR) FROM TOPIC 't'; INSERT INTO r VALUES ('1'); CREATE JOB j AS SELECT x FROM r ROUTE TO s0 SET (CHECKPOINT EVERY 1 SECOND);",
		"DECLARE TABLE l (x VARCHAR PRIMARY KEY, y VARCHAR) FROM WEB '/x?x={x}' VIA e3_1 (CACHE 1 SECOND); CREATE VIEW v AS SELECT r.x, l.y FROM r JOIN l ON l.x = r.x;", "DECLARE SINK s2 TO SEARCH 'x' VIA e8_0; CREATE JOB m AS SELECT x FROM r ROUTE TO s2;",
		"DECLARE SINK s3 TO TOPIC 't' (FORMAT avro, SCHEMAS e9_0); CREATE JOB n AS SELECT x FROM r ROUTE TO s3;", "DECLARE SINK s4 TO LAKE 'a.b' VIA e10_0; CREATE JOB o AS SELECT x FROM r ROUTE TO s4;", "DECLARE STREAM u COLUMNS SAMPLED FROM FILES 's3://b/x.json' VIA e11_0;",
		"DECLARE SINK s1 TO MARIADB 'x' VIA e0_0; CREATE JOB k AS SELECT x FROM r ROUTE TO s1;", "DECLARE STREAM q (x VARCHAR) FROM BROKER 'x' VIA e2_1; SELECT * FROM q;", "SHOW ENDPOINTS;", "DESCRIBE e0_0;", "EXPLAIN JOB j;",
		"DECLARE ENDPOINT bad MARIADB 'user:" + marker + "3@127.0.0.1/db';"} {
		r, err := p.Apply(ctx, api.ScriptRequest{SQL: sql})
		note(r, err)
	}
	eventually(t, "the job tells why it waits", func() bool {
		d, err := p.Job(ctx, "j")
		note(fmt.Sprintf("%+v", d), err)
		b, jerr := json.Marshal(d)
		note(string(b), jerr)
		return strings.Contains(string(b), "500")
	})
	rows, err := p.Rows(ctx, "v", 5)
	note(rows, err)
	for _, path := range []string{"/api/secrets", "/api/definitions", "/api/activity", "/api/jobs/j", "/api/jobs/j/state", "/metrics", "/api/words", "/openapi.json", "/api/definitions/e0_0", "/api/look?via=e2_0", "/ready"} {
		resp, err := http.Get(p.base + path)
		if err != nil {
			t.Fatal(err)
		}
		b, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		note(string(b))
	}
	for _, args := range [][]string{{"secret", "list"}, {"connections"}, {"config", "show"}, {"activity"}} {
		r := p.fiume("", args...)
		note(r.out, r.err)
	}
	processes, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range processes {
		b, _ := os.ReadFile(f) // it may have ended
		if !bytes.Contains(b, []byte("e2e.test")) {
			note(string(b))
		}
	}
	p.stop()
	note(p.out, p.err)
	if told := out.String(); !strings.Contains(told, "500 Broken") && !strings.Contains(told, "answered 500") {
		t.Errorf("nothing has come back from the server that tells what it was told:\n%s", told)
	}
	all := strings.ReplaceAll(out.String(), "'user:"+marker+"3@127.0.0.1/db'", "") // what somebody has written himself is shown to him at its place
	for _, line := range strings.Split(all, "\n") {
		if i := strings.Index(line, marker); i >= 0 && !strings.Contains(line, "DECLARE ENDPOINT bad") {
			t.Errorf("…%s", line[max(0, i-200):min(len(line), i+60)])
		}
	}
	if err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		if err == nil && bytes.Contains(b, []byte(marker)) {
			t.Errorf("it stands in %s", path)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
}

// TestHostileCallers: floods, slow ones, guesses and large requests leave the service to those who use it.
func TestHostileCallers(t *testing.T) {
	t.Parallel()
	p := populate(t, "--request-rate", "20")
	if _, err := p.ada.CreateTopic(t.Context(), api.TopicRequest{Name: "t", Partitions: 1}); err != nil {
		t.Fatal(err)
	}
	bo := p.with(t, "bo", "look", "write")
	in, err := p.SignIn(t.Context(), "bo", *password("bo"))
	if err != nil {
		t.Fatal(err)
	}
	// One who floods is told to wait, and keeps nobody else from the service.
	many := 0
	for range 200 {
		if _, err := bo.Session(t.Context()); statusOf(err) == 429 {
			many++
		}
	}
	if many == 0 {
		t.Error("200 requests in a row are no flood")
	}
	if _, err := p.ada.Jobs(t.Context()); err != nil {
		t.Errorf("while bo floods: %v", err)
	}
	// Nobody is asked for by guesses.
	refused, kept := 0, 0
	for i := range 30 {
		switch _, err := p.SignIn(t.Context(), "bo", fmt.Sprintf("a guess %d at it", i)); statusOf(err) {
		case 401:
			refused++
		case 429:
			kept++
		default:
			t.Fatal(err)
		}
	}
	if refused > 8 || kept < 20 {
		t.Errorf("%d guesses were looked at, %d not", refused, kept)
	}
	// Connections that send nothing, or half of a request.
	for i := range 100 {
		c, err := net.Dial("tcp", strings.TrimPrefix(p.base, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if i%2 == 0 {
			fmt.Fprintf(c, "POST /api/apply HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n")
		}
	}
	if _, err := p.ada.Jobs(t.Context()); err != nil {
		t.Errorf("beside connections that hang: %v", err)
	}
	// What is too large, too deep, or written to lead elsewhere.
	send := func(method, path, body string, head map[string]string) (int, string) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, p.base+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		for k, v := range head {
			req.Header.Set(k, v)
		}
		resp, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			return 0, err.Error() // the connection was ended
		}
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(b)
	}
	ada, err := p.SignIn(t.Context(), "ada", *password("ada"))
	if err != nil {
		t.Fatal(err)
	}
	admin := map[string]string{"Authorization": "Bearer " + ada.Token}
	for _, x := range []struct {
		what, method, path, body string
		head                     map[string]string
		want                     int
	}{
		{"a large sign-in", "POST", "/api/session", `{"name":"ada","password":"` + strings.Repeat("x", 9<<20) + `"}`, nil, 413},
		{"a long password", "POST", "/api/session", `{"name":"eve","password":"` + strings.Repeat("x", 900) + `"}`, nil, 401},
		{"deep JSON", "POST", "/api/apply", strings.Repeat("[", 1<<20), admin, 400},
		{"a large header", "GET", "/api/jobs", "", map[string]string{"Authorization": "Bearer " + strings.Repeat("x", 100<<10)}, 431},
		{"a foreign page with the cookie", "POST", "/api/apply", `{"sql":"DROP TOPIC t;"}`, map[string]string{"Cookie": "fiume-session=" + ada.Token, "Origin": "https://evil.example"}, 403},
		{"a page of the same site", "POST", "/api/apply", `{"sql":"DROP TOPIC t;"}`, map[string]string{"Cookie": "fiume-session=" + ada.Token, "Sec-Fetch-Site": "same-site"}, 403},
		{"a form", "POST", "/api/apply", `sql=DROP`, map[string]string{"Cookie": "fiume-session=" + ada.Token, "Content-Type": "application/x-www-form-urlencoded"}, 415},
		{"another host", "GET", "/api/jobs", "", map[string]string{"Cookie": "fiume-session=" + ada.Token, "Origin": "http://rebound.example"}, 403},
		{"basic credentials", "GET", "/api/jobs", "", map[string]string{"Authorization": "Basic YWRhOng="}, 401},
		{"two credentials", "GET", "/api/users", "", map[string]string{"Authorization": "Bearer " + in.Token, "Cookie": "fiume-session=" + ada.Token}, 403},
		{"a way up", "GET", "/api/topics/..%2f..%2fusers", "", admin, 404},
		{"a name that is HTML", "PUT", "/api/users/%3Cscript%3E", `{"grants":[{"role":"look"}],"password":"a long password"}`, admin, 400},
		{"a name that is SQL", "PUT", "/api/users/x';DROP%20TABLE%20kept;--", `{"grants":[{"role":"look"}],"password":"a long password"}`, admin, 400},
		{"a role that is none", "PUT", "/api/users/eve", `{"grants":[{"role":"root"}],"password":"a long password"}`, admin, 422},
		{"a space that is a way", "PUT", "/api/users/eve", `{"grants":[{"role":"look","space":"../x"}],"password":"a long password"}`, admin, 400},
		{"a link that was guessed", "GET", "/link/fiume-link-AAAAAAAA", "", nil, 404},
	} {
		for range 50 { // ada may make few requests here, too
			got, text := send(x.method, x.path, x.body, x.head)
			if got == 429 {
				time.Sleep(100 * time.Millisecond)
				continue
			}
			if got != x.want && (got != 0 || x.want != 413 && x.want != 431) {
				t.Errorf("%s: %d %.200s, wanted %d", x.what, got, text, x.want)
			}
			break
		}
	}
	if all, err := p.ada.Users(t.Context()); err != nil && statusOf(err) != 429 || err == nil && len(all) != 2 {
		t.Errorf("%+v %v", all, err)
	}
	if err := p.ada.Grant(t.Context(), people.Share{Kind: "topic", Name: "t", Space: "x"}); err != nil && statusOf(err) != 429 {
		t.Error(err)
	}
}

// TestDoctor: what wants somebody is said, with what to do, to who may know of it, in the terminal and in the console.
func TestDoctor(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.fiume("", "doctor").want(t, 0, "nothing wants anybody")
	p.apply(`CREATE TOPIC timing.reads (PARTITIONS 1); CREATE TOPIC timing.out (PARTITIONS 1);
		DECLARE STREAM timing.reads (chip VARCHAR NOT NULL, at TIMESTAMP) EVENT TIME at DELAY 1 SECOND FROM TOPIC 'timing.reads';
		DECLARE SINK timing.out TO TOPIC 'timing.out';
		CREATE JOB timing.keep AS SELECT chip FROM timing.reads ROUTE TO timing.out SET (CHECKPOINT EVERY 1 SECOND);`)
	var ms []string
	for i := range 3000 {
		m := fmt.Sprintf(`{"chip":"C-%d","at":"2026-05-17T09:%02d:%02dZ"}`, i, i/60%60, i%60)
		if i%10 == 0 {
			m = `{"chip":null}`
		}
		ms = append(ms, m)
	}
	p.send("timing.reads", ms...)
	eventually(t, "it is said that a tenth is rejected", func() bool {
		r := p.fiume("", "doctor")
		return r.code == 0 && strings.Contains(r.out, "costly  rejects-much the job timing.keep:") && strings.Contains(r.out, "300 of 3000 messages, 10.0 %, were rejected") &&
			strings.Contains(r.out, "tidying  topic-unread the topic timing.out:") && strings.Contains(r.out, "fiume job aside timing.keep --kind rejected")
	})
	b := browse(t, p.base)
	b.open("/")
	b.do("open the menu", press("choices"), press("advice-page"))
	b.shows("300 of 3000 messages", "no job, board or group of readers reads it", "Costly", "To tidy")
	b.accessible("the page of advice")
	b.clean()
	q := &peopled{process: p}
	if _, err := p.PutUser(t.Context(), "ada", api.UserRequest{Grants: grantsOf(t, "administer"), Password: password("ada")}); err != nil {
		t.Fatal(err)
	}
	q.ada = q.as(t, "ada")
	for name, want := range map[string]int{"look:timing": 2, "look": 2, "look:medical": 0} {
		c := q.with(t, "p"+strings.ReplaceAll(name, ":", "-"), name)
		if all, err := c.Advice(t.Context(), true); err != nil || len(all) != want {
			t.Errorf("%s: %+v %v", name, all, err)
		}
	}
}
