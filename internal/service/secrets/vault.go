// Package secrets keeps what opens endpoints, sealed.
package secrets

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"

	"fiume/internal/service/base"
)

// Vault keeps secrets in the catalog, sealed (AES-256-GCM) with a key that lies in the data directory
// and nowhere else. Nothing gives a secret out again but the connections that use it.
type Vault struct {
	*base.Base
	aead cipher.AEAD
}

// Open opens the secrets of a service; the key is made where there is none.
func Open(b *base.Base) (*Vault, error) {
	path := filepath.Join(b.Dir, "secrets.key")
	key, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		if names, err := b.Store.Secrets(); err == nil && len(names) > 0 {
			b.Log.Error("the key of the secrets is gone, and a new one is made: set the secrets again", "file", path, "secrets", len(names))
		}
		key = make([]byte, 32)
		if _, err = rand.Read(key); err == nil {
			err = base.WriteWhole(path, key)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("the key of the secrets: %w", err)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("the key of the secrets in %s: %w", path, err)
	}
	aead, err := cipher.NewGCM(block)
	return &Vault{b, aead}, err
}

// OpenFor gives a secret for an address. A secret belongs to one: the address it was set for, or else the first that asks. So nobody has it sent
// to a server of his own.
func (v *Vault) OpenFor(name, address string) (string, error) {
	value, err := v.open(name)
	if err != nil {
		return "", err
	}
	bound, err := v.Store.BindSecret(name, address)
	if err != nil {
		return "", err
	}
	if bound != address {
		return "", fmt.Errorf("the secret '%s' belongs to %s, and is not sent to %s; set it again, for the new address: fiume secret set %s --for %s", name, bound, address, name, address)
	}
	return value, nil
}

func (v *Vault) put(name, value, address string) error {
	nonce := make([]byte, v.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return err
	}
	return v.Store.PutSecret(name, address, v.aead.Seal(nonce, nonce, []byte(value), []byte(name)))
}

func (v *Vault) open(name string) (string, error) {
	sealed, err := v.Store.SecretNamed(name)
	if err != nil {
		return "", err
	}
	if sealed == nil {
		return "", fmt.Errorf("there is no secret '%s'; set it with: fiume secret set %s", name, name)
	}
	n := v.aead.NonceSize()
	if len(sealed) < n {
		return "", fmt.Errorf("the secret '%s' is damaged; set it again", name)
	}
	value, err := v.aead.Open(nil, sealed[:n], sealed[n:], []byte(name))
	if err != nil {
		return "", fmt.Errorf("the secret '%s' was sealed with another key; set it again", name)
	}
	return string(value), nil
}

var secretName = regexp.MustCompile(`^[A-Za-z0-9_.-]{1,100}$`)

// Set keeps a secret, for an address user@host:port, or, where that is "", for the first that asks.
func (v *Vault) Set(actor, name, value, address string) error {
	if !secretName.MatchString(name) {
		return base.Errorf(base.ErrRefused, "a secret's name has 1 to 100 letters, digits, dots, dashes and underscores")
	}
	if err := v.put(name, value, address); err != nil {
		return err
	}
	v.Note(actor, "set secret", name, address)
	return nil
}

// List gives the names of the secrets.
func (v *Vault) List() ([]string, error) { return v.Store.Secrets() }
