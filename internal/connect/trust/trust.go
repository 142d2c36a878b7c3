// Package trust says whom an endpoint trusts, and how it shows who we are: TLS by the options and secrets of the declaration.
package trust

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"

	"fiume/internal/core/plan"
)

// Options are the options of an endpoint that may be encrypted.
func Options() []plan.OptionSpec {
	return append([]plan.OptionSpec{
		{Name: "tls", Kind: plan.WordOption, Words: []string{"off", "on", "unverified"}, Doc: "on: encrypted, and the server's certificate is checked; unverified: encrypted alone", Default: "off"},
	}, Certificates()...)
}

// Certificates are the options of an endpoint whose address says whether it is encrypted.
func Certificates() []plan.OptionSpec {
	return []plan.OptionSpec{
		{Name: "ca", Kind: plan.WordOption, Doc: "TLS: the secret that holds the certificates of those who may sign the server's (PEM)", Default: "those of the system"},
		{Name: "certificate", Kind: plan.WordOption, Doc: "TLS: the secret that holds our certificate and its key (PEM)"},
	}
}

// Config gives the settings of TLS for an endpoint with the option TLS, or nil where that is off.
func Config(e *plan.Endpoint, secret func(name, address string) (string, error)) (*tls.Config, error) {
	mode := e.Options.Word("tls", "off")
	if mode == "off" {
		return nil, nil
	}
	c, err := Always(e, secret)
	if err == nil {
		c.InsecureSkipVerify = mode == "unverified"
	}
	return c, err
}

// Always gives the settings of TLS for an endpoint whose address says that it is encrypted.
func Always(e *plan.Endpoint, secret func(name, address string) (string, error)) (*tls.Config, error) {
	c := &tls.Config{MinVersion: tls.VersionTLS12}
	read := func(name string) ([]byte, error) {
		s, err := secret(name, e.Address)
		if err != nil {
			return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
		return []byte(s), nil
	}
	if name := e.Options.Word("ca", ""); name != "" {
		pem, err := read(name)
		if err != nil {
			return nil, err
		}
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("endpoint %s: the secret '%s' holds no certificate in PEM", e.Name, name)
		}
	}
	if name := e.Options.Word("certificate", ""); name != "" {
		pem, err := read(name)
		if err != nil {
			return nil, err
		}
		pair, err := tls.X509KeyPair(pem, pem)
		if err != nil {
			return nil, fmt.Errorf("endpoint %s: the secret '%s' does not hold a certificate and its key in PEM", e.Name, name)
		}
		c.Certificates = []tls.Certificate{pair}
	}
	return c, nil
}
