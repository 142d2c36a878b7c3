package databases_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"

	"fiume/internal/catalog"
	"fiume/internal/service/base"
	"fiume/internal/service/databases"
	"fiume/internal/service/servicetest"
)

// server keeps the names of databases.
type server struct {
	all  []catalog.Database
	fail error
}

func (s *server) Databases(context.Context) ([]catalog.Database, error) { return s.all, s.fail }

func (s *server) MakeDatabase(_ context.Context, name, user, password string) error {
	if len(password) < 20 {
		return errors.New("the password is short")
	}
	s.all = append(s.all, catalog.Database{Name: name, Users: []string{user}})
	return s.fail
}

func (s *server) DropDatabase(_ context.Context, name string) error {
	s.all = slices.DeleteFunc(s.all, func(d catalog.Database) bool { return d.Name == name })
	return s.fail
}

// TestDatabases: a database comes with a secret that is for the private server alone, and goes with it.
func TestDatabases(t *testing.T) {
	p := servicetest.New(t)
	ctx := t.Context()
	none := databases.New(p.Base, nil, p.Secrets)
	_, create := none.Create(ctx, "ada", "harbour", "")
	_, list := none.List(ctx)
	for _, err := range []error{create, list, none.Drop(ctx, "ada", "harbour")} {
		p.Says(err, "the service has no private server")
	}
	s := &server{}
	d := databases.New(p.Base, s, p.Secrets)
	made, err := d.Create(ctx, "ada", "harbour", "")
	if err != nil || made.User != "harbour" || made.Endpoint != "DECLARE ENDPOINT harbour MARIADB 'harbour@private/harbour' SECRET 'harbour';" {
		t.Fatal(made, err)
	}
	p.Apply(made.Endpoint)
	if _, err := p.Secrets.OpenFor("harbour", "harbour@127.0.0.1:3306"); err == nil {
		t.Error("the password goes to another server")
	}
	if value, err := p.Secrets.OpenFor("harbour", "harbour@private"); err != nil || len(value) < 20 {
		t.Error(value, err)
	}
	for name, says := range map[string]string{"harbour": "already a database", "HARBOUR": "already a database", "fiume": "a meaning of its own", "a-b": "letters, digits and underscores", "": "letters", strings.Repeat("x", 61): "1 to 60"} {
		_, err := d.Create(ctx, "ada", name, "")
		p.Says(err, says)
	}
	_, err = d.Create(ctx, "ada", "two", "harbour")
	p.Says(err, `already a user "harbour"`)
	if err := p.Secrets.Set("ada", "mine", "x", ""); err != nil {
		t.Fatal(err)
	}
	_, err = d.Create(ctx, "ada", "mine", "")
	p.Says(err, `already a secret "mine"`)
	p.Says(d.Drop(ctx, "ada", "harbour"), "the endpoint harbour leads to the database harbour")
	if err := d.Drop(ctx, "ada", "harbor"); !errors.Is(err, base.ErrNotFound) {
		t.Error(err)
	}
	p.Apply("DROP ENDPOINT harbour;")
	if err := d.Drop(ctx, "ada", "harbour"); err != nil {
		t.Fatal(err)
	}
	if left, err := p.Secrets.List(); err != nil || len(left) != 1 || left[0].Name != "mine" {
		t.Errorf("%+v %v", left, err)
	}
	_, err = d.Run(ctx, "ada", "nothing", "SELECT 1")
	p.Says(err, `no endpoint is called "nothing"`)
	p.Apply("DECLARE ENDPOINT away MARIADB 'a@127.0.0.1:1/b';")
	if out, err := d.Run(ctx, "ada", "away", "SELECT 1"); !errors.Is(err, base.ErrRefused) || len(out) != 0 {
		t.Error(out, err)
	}
	if log := p.Activity(); !slices.Contains(log, "ada created database harbour") || !slices.Contains(log, "ada dropped database harbour") || strings.Contains(strings.Join(log, " "), "ran statements") {
		t.Errorf("%q", log)
	}
}
