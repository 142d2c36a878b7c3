package service

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"

	"fiume/internal/catalog"
)

// vault keeps secrets in the catalog, sealed (AES-256-GCM) with a key that lies in the data directory
// and nowhere else. Nothing gives a secret out again but the connections that use it.
type vault struct {
	store *catalog.Store
	aead  cipher.AEAD
}

func openVault(dir string, store *catalog.Store, log *slog.Logger) (*vault, error) {
	path := filepath.Join(dir, "secrets.key")
	key, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		if names, err := store.Secrets(); err == nil && len(names) > 0 {
			log.Error("the key of the secrets is gone, and a new one is made: set the secrets again", "file", path, "secrets", len(names))
		}
		key = make([]byte, 32)
		if _, err = rand.Read(key); err == nil {
			err = writeWhole(path, key)
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
	return &vault{store, aead}, err
}

// open gives a secret for an address. A secret belongs to one: the address it was set for, or else the first that asks. So nobody has it sent
// to a server of his own.
func (v *vault) openFor(name, address string) (string, error) {
	value, err := v.open(name)
	if err != nil {
		return "", err
	}
	bound, err := v.store.BindSecret(name, address)
	if err != nil {
		return "", err
	}
	if bound != address {
		return "", fmt.Errorf("the secret '%s' belongs to %s, and is not sent to %s; set it again, for the new address: fiume secret set %s --for %s", name, bound, address, name, address)
	}
	return value, nil
}

func (v *vault) put(name, value, address string) error {
	nonce := make([]byte, v.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return err
	}
	return v.store.PutSecret(name, address, v.aead.Seal(nonce, nonce, []byte(value), []byte(name)))
}

func (v *vault) open(name string) (string, error) {
	sealed, err := v.store.SecretNamed(name)
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

// SetSecret keeps a secret, for an address user@host:port, or, where that is "", for the first that asks.
func (s *Service) SetSecret(actor, name, value, address string) error {
	if !secretName.MatchString(name) {
		return errorf(ErrRefused, "a secret's name has 1 to 100 letters, digits, dots, dashes and underscores")
	}
	if err := s.secrets.put(name, value, address); err != nil {
		return err
	}
	s.note(actor, "set secret", name, address)
	return nil
}

// Secrets gives the names of the secrets.
func (s *Service) Secrets() ([]string, error) { return s.store.Secrets() }
