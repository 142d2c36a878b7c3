package service

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
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

func openVault(dir string, store *catalog.Store) (*vault, error) {
	path := filepath.Join(dir, "secrets.key")
	key, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		key = make([]byte, 32)
		if _, err = rand.Read(key); err == nil {
			err = os.WriteFile(path, key, 0o600)
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

func (v *vault) put(name, value string) error {
	nonce := make([]byte, v.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return err
	}
	return v.store.PutSecret(name, v.aead.Seal(nonce, nonce, []byte(value), []byte(name)))
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

// SetSecret keeps a secret.
func (s *Service) SetSecret(actor, name, value string) error {
	if !secretName.MatchString(name) {
		return errorf(ErrRefused, "a secret's name has 1 to 100 letters, digits, dots, dashes and underscores")
	}
	if err := s.secrets.put(name, value); err != nil {
		return err
	}
	s.note(actor, "set secret", name, "")
	return nil
}

// Secrets gives the names of the secrets.
func (s *Service) Secrets() ([]string, error) { return s.store.Secrets() }
