package secrets

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Secrets may also come from outside: from a file of the directory for secrets that is called like one, or from the environment. They are read anew each time
// that a connection is opened, and so change without a restart. Such a one is sent to one address, too: the one in a file beside it, NAME.for, or else the first that
// asks, which the catalog keeps. Only who writes the files can have it be sent elsewhere: nobody gets a secret by pointing it at a server of his own.

// inEnvironment is what names of secrets in the environment begin with; what follows is the name in capitals.
const inEnvironment = "FIUME_SECRET_"

// plainName is one that can stand in the environment, and no other is written the same there.
var plainName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// addressSuffix is what the name of a file ends in that has the address of a secret.
const addressSuffix = ".for"

// longestFile is how many bytes a file with a secret may have.
const longestFile = 1 << 20

// boundKind is the kind under which the catalog keeps addresses of secrets from outside.
const boundKind = "secret-address"

// outside gives the value of a secret that comes from outside, and where from; "": it does not.
func (v *Vault) outside(name string) (value, from string, err error) {
	if !secretName.MatchString(name) || strings.HasPrefix(name, ".") || strings.HasSuffix(name, addressSuffix) {
		return "", "", nil
	}
	if v.Files != "" {
		path := filepath.Join(v.Files, name)
		st, err := os.Stat(path)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return "", "", fmt.Errorf("the secret '%s' cannot be read from its file: %w", name, errors.Unwrap(err))
		case !st.Mode().IsRegular() || st.Size() > longestFile:
			return "", "", fmt.Errorf("the secret '%s' cannot be read from its file, which is no regular one of up to 1 MB", name)
		default:
			b, err := os.ReadFile(path)
			if err != nil {
				return "", "", fmt.Errorf("the secret '%s' cannot be read from its file: %w", name, errors.Unwrap(err))
			}
			return strings.TrimRight(string(b), "\r\n"), "file", nil
		}
	}
	if plainName.MatchString(name) {
		if value, ok := os.LookupEnv(inEnvironment + strings.ToUpper(name)); ok {
			return value, "environment", nil
		}
	}
	return "", "", nil
}

// outsiders are the secrets that come from outside, in the order of their names.
func (v *Vault) outsiders() (out []Secret) {
	seen := map[string]bool{}
	add := func(name, from string, changed time.Time) {
		if !seen[name] {
			seen[name] = true
			out = append(out, Secret{Name: name, From: from, UsedBy: []string{}, Changed: changed})
		}
	}
	if v.Files != "" {
		entries, err := os.ReadDir(v.Files)
		if err != nil {
			v.Log.Error("the directory for secrets cannot be read", "error", err)
		}
		for _, e := range entries {
			if st, err := os.Stat(filepath.Join(v.Files, e.Name())); err == nil && st.Mode().IsRegular() && secretName.MatchString(e.Name()) && !strings.HasPrefix(e.Name(), ".") && !strings.HasSuffix(e.Name(), addressSuffix) {
				add(e.Name(), "file", st.ModTime())
			}
		}
	}
	for _, e := range os.Environ() {
		key, _, _ := strings.Cut(e, "=")
		if name, ok := strings.CutPrefix(key, inEnvironment); ok && plainName.MatchString(strings.ToLower(name)) {
			add(strings.ToLower(name), "environment", v.opened)
		}
	}
	slices.SortFunc(out, func(a, b Secret) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// beside gives the address in the file beside the one of a secret; "": there is none.
func (v *Vault) beside(name string) string {
	if v.Files == "" {
		return ""
	}
	b, err := os.ReadFile(filepath.Join(v.Files, name+addressSuffix))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}

// addresses are those that secrets from outside are for.
func (v *Vault) addresses() (map[string]string, error) {
	all, err := v.Store.Kept(boundKind)
	out := map[string]string{}
	for _, k := range all {
		out[k.ID] = k.Data
	}
	return out, err
}

// bindOutside gives the address that a secret from outside is for, which is the one given where it has none yet.
func (v *Vault) bindOutside(name, address string) (string, error) {
	v.binding.Lock()
	defer v.binding.Unlock()
	if at := v.beside(name); at != "" {
		return at, nil
	}
	all, err := v.addresses()
	if err != nil || all[name] != "" {
		return all[name], err
	}
	return address, v.Store.Keep(boundKind, name, address)
}
