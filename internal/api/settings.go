package api

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
)

// Settings are how the network interface is reached.
type Settings struct {
	// Encrypted says that browsers reach it by HTTPS: it serves TLS itself, or stands behind a proxy that does.
	Encrypted bool
	// Proxies are the addresses of proxies that say where a request comes from; none: nobody is believed.
	Proxies []netip.Prefix
	// Public is where the service is reached from outside, as https://fiume.example:8443, for links; "": as a request says.
	Public string
	Limits Limits
	// Provider is the identity provider that people may sign in by; nil: there is none.
	Provider *Provider
}

// client gives the address that a request comes from.
func (s Settings) client(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	if !s.trusted(host) {
		return host
	}
	// The last one that is none of ours: what stands before it anybody may have written.
	hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for _, h := range slices.Backward(hops) {
		h = strings.TrimSpace(h)
		if _, err := netip.ParseAddr(h); err != nil {
			break
		}
		if host = h; !s.trusted(h) {
			break
		}
	}
	return host
}

func (s Settings) trusted(host string) bool {
	ip, err := netip.ParseAddr(host)
	return err == nil && slices.ContainsFunc(s.Proxies, func(p netip.Prefix) bool { return p.Contains(ip.Unmap()) })
}

// base gives where the service is reached, as a request says where it was not told.
func (s Settings) base(r *http.Request) string {
	if s.Public != "" {
		return strings.TrimSuffix(s.Public, "/")
	}
	if s.Encrypted {
		return "https://" + r.Host
	}
	return "http://" + r.Host
}
