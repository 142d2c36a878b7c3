// Package secrets keeps what opens endpoints, sealed.
package secrets

import (
	"cmp"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/core/eval"
	"fiume/internal/core/sql"
	"fiume/internal/service/base"
)

// Vault keeps secrets in the catalog, sealed (AES-256-GCM) with a key that lies in the data directory
// and nowhere else. Nothing gives a secret out again but the connections that use it.
type Vault struct {
	*base.Base
	aead cipher.AEAD
	// Files is a directory whose files are secrets; "": there is none. It is set before the vault is used.
	Files   string
	opened  time.Time
	binding sync.Mutex
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
	derived := hmac.New(sha256.New, key)
	derived.Write([]byte("masks"))
	b.Mask = eval.NewMask(derived.Sum(nil))
	return &Vault{Base: b, aead: aead, opened: time.Now()}, err
}

// OpenFor gives a secret for an address. A secret belongs to one: the address it was set for, or else the first that asks. So nobody has it sent
// to a server of his own.
func (v *Vault) OpenFor(name, address string) (string, error) {
	value, from, err := v.outside(name)
	if err == nil && from == "" {
		value, err = v.open(name)
	}
	if err != nil {
		return "", err
	}
	bind := v.Store.BindSecret
	if from != "" {
		bind = v.bindOutside
	}
	bound, err := bind(name, address)
	if err != nil {
		return "", err
	}
	if bound != address { // who asks may not know it, and the other server may be his own
		way := fmt.Sprintf("set it again, for the new address: fiume secret set %s --for %s", name, address)
		if from != "" {
			way = fmt.Sprintf("write the new address into the file %s%s of the directory for secrets", name, addressSuffix)
		}
		return "", fmt.Errorf("the secret '%s' belongs to %s, and is not sent to %s; %s", name, bound, address, way)
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
	if _, from, _ := v.outside(name); from != "" {
		return base.Errorf(base.ErrConflict, "the secret '%s' comes from the %s of the service, and is changed there", name, map[string]string{"file": "directory for secrets", "environment": "environment"}[from])
	}
	if err := v.put(name, value, address); err != nil {
		return err
	}
	v.Note(actor, "set secret", name, address)
	return nil
}

// Secret is what is told of a secret.
type Secret struct {
	Name    string    `json:"name"`
	For     string    `json:"for,omitempty" doc:"user@host:port that it is sent to; the first endpoint that uses it where left out"`
	UsedBy  []string  `json:"used_by" doc:"endpoints"`
	Changed time.Time `json:"changed"`
	From    string    `json:"from,omitempty" enum:"file,environment" doc:"where it comes from, if it was not set: a file of the directory for secrets, or the environment of the service"`
}

// List gives the secrets, without their values.
func (v *Vault) List() ([]Secret, error) {
	all, err := v.Store.Secrets()
	if err != nil {
		return nil, err
	}
	bound, err := v.addresses()
	out := []Secret{}
	outside := v.outsiders()
	for i := range outside {
		outside[i].For = cmp.Or(v.beside(outside[i].Name), bound[outside[i].Name])
	}
	for _, s := range all {
		if !slices.ContainsFunc(outside, func(x Secret) bool { return x.Name == s.Name }) { // one from outside stands before it
			outside = append(outside, Secret{Name: s.Name, For: s.Address, UsedBy: []string{}, Changed: s.UpdatedAt})
		}
	}
	slices.SortFunc(outside, func(a, b Secret) int { return strings.Compare(a.Name, b.Name) })
	for _, x := range outside {
		for n, e := range v.Current().Endpoints {
			if e.Secret == x.Name {
				x.UsedBy = append(x.UsedBy, n)
			}
		}
		slices.Sort(x.UsedBy)
		out = append(out, x)
	}
	return out, err
}

// Drop forgets a secret, unless an endpoint uses it.
func (v *Vault) Drop(actor, name string) error {
	all, err := v.List()
	if err != nil {
		return err
	}
	var names []string
	for _, s := range all {
		if s.Name == name && s.From != "" {
			return base.Errorf(base.ErrConflict, "the secret '%s' comes from outside, and is removed there", name)
		}
		if names = append(names, s.Name); s.Name == name && len(s.UsedBy) > 0 {
			return base.Errorf(base.ErrConflict, "the secret '%s' is used by the endpoint %s; drop it first, or set the secret anew", name, s.UsedBy[0])
		}
	}
	there, err := v.Store.DropSecret(name)
	if err == nil && !there {
		hint := ""
		if x := sql.Suggest(name, names); x != "" {
			hint = fmt.Sprintf("; did you mean '%s'?", x)
		}
		return base.Errorf(base.ErrNotFound, "there is no secret '%s'%s", name, hint)
	}
	if err == nil {
		v.Note(actor, "dropped secret", name, "")
	}
	return err
}
