package secrets_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fiume/internal/service/secrets"
	"fiume/internal/service/servicetest"
)

// TestSecrets: a secret is kept sealed, goes to one address, and cannot be opened without the key or under another name.
func TestSecrets(t *testing.T) {
	p := servicetest.New(t)
	const value = "geheim größer \x00"
	for _, name := range []string{"", "a b", "../x", strings.Repeat("x", 101), "ü"} {
		p.Says(p.Secrets.Set("ada", name, value, ""), "a secret's name has 1 to 100 letters")
	}
	for name, address := range map[string]string{"any": "", "bound": "race@127.0.0.1:3306"} {
		if err := p.Secrets.Set("ada", name, value, address); err != nil {
			t.Fatal(err)
		}
	}
	if all, err := p.Secrets.List(); err != nil || len(all) != 2 || all[0].Name != "any" || all[1].For != "race@127.0.0.1:3306" || len(all[0].UsedBy) != 0 || all[0].Changed.IsZero() {
		t.Errorf("%+v %v", all, err)
	}
	p.Apply("DECLARE ENDPOINT away MARIADB 'race@127.0.0.1:3306/race' SECRET 'bound';")
	if all, err := p.Secrets.List(); err != nil || !slices.Equal(all[1].UsedBy, []string{"away"}) {
		t.Errorf("%+v %v", all, err)
	}
	p.Says(p.Secrets.Drop("ada", "bound"), "is used by the endpoint away")
	p.Says(p.Secrets.Drop("ada", "bond"), "there is no secret 'bond'; did you mean 'bound'?")
	if err := p.Secrets.Set("ada", "brief", value, ""); err != nil {
		t.Fatal(err)
	}
	if err := p.Secrets.Drop("ada", "brief"); err != nil {
		t.Error(err)
	}
	if sealed, err := p.Records.SecretNamed("any"); err != nil || strings.Contains(string(sealed), "geheim") {
		t.Errorf("%q %v", sealed, err)
	}
	for _, a := range p.Activity() {
		if strings.Contains(a, "geheim") {
			t.Error(a)
		}
	}
	open := func(v *secrets.Vault, name, address string, parts ...string) {
		t.Helper()
		got, err := v.OpenFor(name, address)
		if len(parts) > 0 {
			p.Says(err, parts...)
			if got != "" || strings.Contains(err.Error(), "geheim") {
				t.Errorf("%q, %v", got, err)
			}
		} else if err != nil || got != value {
			t.Errorf("%q, %v", got, err)
		}
	}
	open(p.Secrets, "any", "a@first:1")
	open(p.Secrets, "any", "a@other:1", "belongs to a@first:1", "fiume secret set any --for a@other:1")
	open(p.Secrets, "any", "a@first:1")
	open(p.Secrets, "bound", "a@first:1", "belongs to race@127.0.0.1:3306")
	open(p.Secrets, "bound", "race@127.0.0.1:3306")
	open(p.Secrets, "nothing", "a@first:1", "there is no secret 'nothing'; set it with: fiume secret set nothing")

	q := p.Restart()
	open(q.Secrets, "any", "a@first:1")
	// What was sealed for one name does not open under another.
	sealed, err := q.Records.SecretNamed("any")
	if err != nil {
		t.Fatal(err)
	}
	for name, bytes := range map[string][]byte{"swapped": sealed, "short": {1, 2}, "cut": sealed[:len(sealed)-1]} {
		if err := q.Records.PutSecret(name, "", bytes); err != nil {
			t.Fatal(err)
		}
		open(q.Secrets, name, "a@first:1", "set it again")
	}
	// Without the key nothing opens, and a new one serves for what is set from then on.
	if err := os.Remove(filepath.Join(q.Base.Dir, "secrets.key")); err != nil {
		t.Fatal(err)
	}
	r := q.Restart()
	open(r.Secrets, "any", "a@first:1", "was sealed with another key; set it again")
	if err := r.Secrets.Set("ada", "any", value, ""); err != nil {
		t.Fatal(err)
	}
	open(r.Secrets, "any", "a@third:1")
	if st, err := os.Stat(filepath.Join(r.Base.Dir, "secrets.key")); err != nil || st.Mode().Perm() != 0o600 {
		t.Error(st.Mode(), err)
	}
	if err := os.WriteFile(filepath.Join(r.Base.Dir, "secrets.key"), []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := secrets.Open(r.Base); err == nil || !strings.Contains(err.Error(), "the key of the secrets") {
		t.Error(err)
	}
}

// TestOutside: secrets come from files and from the environment, change without a restart, and go to one address.
func TestOutside(t *testing.T) {
	t.Setenv("FIUME_SECRET_SHELL", "from the shell")
	t.Setenv("FIUME_SECRET_A_B", "plain")
	p := servicetest.New(t)
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("race.db", "one\n")
	write(".hidden", "no")
	write("moved", "two")
	write("moved.for", "m@there:1\n")
	write("shell", "from the file")
	if err := os.Mkdir(filepath.Join(dir, "sub"), 0o755); err != nil {
		t.Fatal(err)
	}
	write("large", strings.Repeat("x", 2<<20))
	p.Secrets.Files = dir
	if err := p.Secrets.Set("ada", "own", "kept", ""); err != nil {
		t.Fatal(err)
	}
	opens := func(name, address, want string, parts ...string) {
		t.Helper()
		got, err := p.Secrets.OpenFor(name, address)
		if len(parts) > 0 {
			p.Says(err, parts...)
		} else if err != nil || got != want {
			t.Errorf("%s: %q %v", name, got, err)
		}
	}
	opens("race.db", "a@first:1", "one")
	opens("race.db", "a@other:1", "", "belongs to a@first:1", "race.db.for of the directory for secrets")
	write("race.db", "changed")
	opens("race.db", "a@first:1", "changed")
	write("race.db.for", "a@other:1")
	opens("race.db", "a@other:1", "changed")
	opens("race.db", "a@first:1", "", "belongs to a@other:1")
	opens("moved", "x@first:1", "", "belongs to m@there:1")
	opens("moved", "m@there:1", "two")
	opens("shell", "a@first:1", "from the file")
	opens("a_b", "a@first:1", "plain")
	for _, name := range []string{"a.b", "a-b", "A_B", ".hidden", "moved.for", "..", "../race.db", "sub", "race"} { // none is written as another one is
		if got, err := p.Secrets.OpenFor(name, "a@first:1"); err == nil {
			t.Errorf("%s is %q", name, got)
		}
	}
	opens("large", "a@first:1", "", "no regular one of up to 1 MB")
	opens("own", "a@first:1", "kept")
	var told []string
	all, err := p.Secrets.List()
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range all {
		told = append(told, s.Name+" "+s.From+" "+s.For)
	}
	for _, want := range []string{"a_b environment a@first:1", "moved file m@there:1", "own  a@first:1", "race.db file a@other:1", "shell file a@first:1"} {
		if !slices.Contains(told, want) {
			t.Errorf("%q is not in %q", want, told)
		}
	}
	p.Says(p.Secrets.Set("ada", "moved", "x", ""), "comes from the directory for secrets of the service")
	p.Says(p.Secrets.Set("ada", "a_b", "x", ""), "comes from the environment")
	p.Says(p.Secrets.Drop("ada", "moved"), "comes from outside")
	for _, a := range p.Activity() {
		if strings.Contains(a, "changed\n") || strings.Contains(a, "from the") {
			t.Error(a)
		}
	}
}
