package cli

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"

	"fiume/internal/api"
	"fiume/internal/service/access"
)

// reach is how the service is reached: at which addresses, encrypted or not, and by way of whom.
type reach struct {
	cert, key string   // files of the certificate and its key; "": nothing is encrypted here
	proxied   bool     // a proxy before it encrypts
	proxies   []string // addresses of proxies that are believed
	public    string   // where it is reached from outside
	provider  providerFlags
}

// providerFlags say by which identity provider people may sign in.
type providerFlags struct {
	issuer, client, secretFile, name, groups string
	roles                                    []string
}

// settings reads them; nil: there is none.
func (p *providerFlags) settings() (*api.Provider, error) {
	if p.issuer == "" {
		if p.client != "" || p.secretFile != "" || len(p.roles) > 0 {
			return nil, fail(exitUsage, "--oidc-issuer says which identity provider the other --oidc settings are for")
		}
		return nil, nil
	}
	u, err := url.Parse(p.issuer)
	if err != nil || u.Host == "" || u.Scheme != "https" && (u.Scheme != "http" || !loopback(u.Host+":0") && !loopback(u.Host)) {
		return nil, fail(exitUsage, "--oidc-issuer takes an https address, found %q", p.issuer)
	}
	if p.client == "" || len(p.roles) == 0 {
		return nil, fail(exitUsage, "--oidc-issuer needs --oidc-client, the id that it knows the service by, and --oidc-role GROUP=ROLE for each group that may do something")
	}
	out := &api.Provider{Name: p.name, Issuer: p.issuer, Client: p.client, Groups: p.groups, Roles: map[string][]access.Grant{}}
	if p.secretFile != "" {
		b, err := os.ReadFile(p.secretFile)
		if err != nil {
			return nil, fail(exitUsage, "--oidc-secret-file: %s", err)
		}
		out.Secret = strings.TrimSpace(string(b))
	}
	for _, r := range p.roles {
		i := strings.LastIndexByte(r, '=')
		if i <= 0 {
			return nil, fail(exitUsage, "--oidc-role takes GROUP=ROLE, such as timing-team=develop:timing, found %q", r)
		}
		g, err := access.ParseGrant(r[i+1:])
		if err != nil {
			return nil, fail(exitUsage, "--oidc-role %s: %s", r, err)
		}
		out.Roles[r[:i]] = append(out.Roles[r[:i]], g)
	}
	return out, nil
}

// check says what does not go together.
func (r *reach) check() ([]netip.Prefix, error) {
	if (r.cert == "") != (r.key == "") {
		return nil, fail(exitUsage, "--tls-cert and --tls-key go together: the files of the certificate and of its key")
	}
	if r.proxied && len(r.proxies) == 0 {
		return nil, fail(exitUsage, "--insecure-behind-proxy needs --trusted-proxy with the address of the proxy, as it is the proxy that says where requests come from")
	}
	if r.public != "" && !strings.HasPrefix(r.public, "https://") && !strings.HasPrefix(r.public, "http://") {
		return nil, fail(exitUsage, "--public takes an address such as https://fiume.example, found %q", r.public)
	}
	var out []netip.Prefix
	for _, p := range r.proxies {
		x, err := netip.ParsePrefix(p)
		if err != nil {
			var a netip.Addr
			if a, err = netip.ParseAddr(p); err == nil {
				x = netip.PrefixFrom(a, a.BitLen())
			}
		}
		if err != nil {
			return nil, fail(exitUsage, "--trusted-proxy takes an address such as 10.0.0.5 or 10.0.0.0/24, found %q", p)
		}
		out = append(out, x)
	}
	return out, nil
}

// config gives the settings of TLS; nil where nothing is encrypted here.
func (r *reach) config(log *slog.Logger) (*tls.Config, error) {
	if r.cert == "" {
		return nil, nil
	}
	c := &certificate{certFile: r.cert, keyFile: r.key, log: log}
	if err := c.load(); err != nil {
		return nil, fail(exitUsage, "--tls-cert: %s", err)
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.get, NextProtos: []string{"h2", "http/1.1"}}, nil
}

// certificate is one that is read again when its files change.
type certificate struct {
	certFile, keyFile string
	log               *slog.Logger

	mu      sync.Mutex
	now     *tls.Certificate
	changed [2]time.Time
	looked  time.Time
}

// lookAgain is how often files are looked at.
const lookAgain = 2 * time.Second

func (c *certificate) times() (out [2]time.Time, err error) {
	for i, f := range []string{c.certFile, c.keyFile} {
		st, err := os.Stat(f)
		if err != nil {
			return out, err
		}
		out[i] = st.ModTime()
	}
	return out, nil
}

// load reads the files. The caller holds mu, or is alone.
func (c *certificate) load() error {
	at, err := c.times()
	if err != nil {
		return err
	}
	x, err := tls.LoadX509KeyPair(c.certFile, c.keyFile)
	if err != nil {
		return fmt.Errorf("%s and %s are no certificate with its key: %w", c.certFile, c.keyFile, err)
	}
	c.now, c.changed, c.looked = &x, at, time.Now()
	return nil
}

func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) > lookAgain {
		c.looked = time.Now()
		if at, err := c.times(); err != nil || at != c.changed {
			if err == nil {
				err = c.load()
			}
			if err != nil { // half of it may have been written: the old one serves on
				c.log.Error("the certificate cannot be read again, and the one from before stays", "error", err)
			} else {
				c.log.Info("the certificate was read again", "file", c.certFile)
			}
		}
	}
	return c.now, nil
}

// loopback says whether an address is one that only this machine reaches.
func loopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	ip := net.ParseIP(host)
	return err == nil && (host == "localhost" || ip != nil && ip.IsLoopback())
}

// listenAt listens at an address that an option gives; at others than loopback only where that is safe.
func (r *reach) listenAt(option, address string) (net.Listener, error) {
	if _, _, err := net.SplitHostPort(address); err != nil {
		return nil, fail(exitUsage, "%s takes host:port, found %q", option, address)
	}
	if !loopback(address) && r.cert == "" && (!r.proxied || option != "--listen") {
		return nil, fail(exitUsage, "%s %s: others than this machine reach the service only when what they send is encrypted: give --tls-cert and --tls-key, or listen at 127.0.0.1", option, address)
	}
	l, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fail(exitFailed, "the address %s is already in use; stop what listens there, or choose another with %s 127.0.0.1:0", address, option)
	}
	if err == nil {
		l = &bounded{Listener: l, from: map[string]int{}}
	}
	return l, err
}

// listenAt listens at an address of loopback that an option gives: for stand-ins.
func listenAt(option, address string) (net.Listener, error) {
	if _, _, err := net.SplitHostPort(address); err == nil && !loopback(address) {
		return nil, fail(exitUsage, "%s %s: it asks nobody who he is, and so listens on loopback only; use 127.0.0.1", option, address)
	}
	return (&reach{}).listenAt(option, address)
}

// bounded bounds the connections that are open at a time, in all and from one address.
type bounded struct {
	net.Listener
	mu   sync.Mutex
	all  int
	from map[string]int
}

const (
	mostConnections = 10_000
	mostFromOne     = 2_000
)

// Accept implements net.Listener: a connection too many is closed at once.
func (b *bounded) Accept() (net.Conn, error) {
	for {
		c, err := b.Listener.Accept()
		if err != nil {
			return nil, err
		}
		host, _, _ := net.SplitHostPort(c.RemoteAddr().String())
		b.mu.Lock()
		ok := b.all < mostConnections && b.from[host] < mostFromOne
		if ok {
			b.all++
			b.from[host]++
		}
		b.mu.Unlock()
		if ok {
			return &countedConn{Conn: c, b: b, host: host}, nil
		}
		_ = c.Close()
	}
}

// countedConn is a connection that is counted until it is closed.
type countedConn struct {
	net.Conn
	b    *bounded
	host string
	once sync.Once
}

// Close implements net.Conn.
func (c *countedConn) Close() error {
	c.once.Do(func() {
		c.b.mu.Lock()
		defer c.b.mu.Unlock()
		c.b.all--
		if c.b.from[c.host]--; c.b.from[c.host] == 0 {
			delete(c.b.from, c.host)
		}
	})
	return c.Conn.Close()
}
