// Package databases makes databases on the service's private server, and runs statements where endpoints lead: so that there
// are tables for sinks to write to.
package databases

import (
	"context"
	"crypto/rand"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"fiume/internal/catalog"
	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/core/sql"
	"fiume/internal/service/base"
	"fiume/internal/service/secrets"
)

// Server is the private server.
type Server interface {
	Databases(ctx context.Context) ([]catalog.Database, error)
	MakeDatabase(ctx context.Context, name, user, password string) error
	DropDatabase(ctx context.Context, name string) error
}

// Databases are those on the private server of a service.
type Databases struct {
	*base.Base
	server Server // nil: there is none
	vault  *secrets.Vault
}

// New gives the databases of a service. server is nil where it has none of its own.
func New(b *base.Base, server Server, vault *secrets.Vault) *Databases {
	return &Databases{b, server, vault}
}

// Made is a database that was made.
type Made struct {
	Name     string `json:"name"`
	User     string `json:"user" doc:"who may do everything in it"`
	Secret   string `json:"secret" doc:"what the password is kept as"`
	Endpoint string `json:"endpoint" doc:"a declaration that leads there"`
}

var plainName = regexp.MustCompile(`^[A-Za-z0-9_]{1,60}$`)

// taken are names that have a meaning of their own.
var taken = []string{"fiume", "mysql", "information_schema", "performance_schema", "sys", "root", "mariadb", "private"}

func (s *Databases) private() error {
	if s.server == nil {
		return base.Errorf(base.ErrRefused, "the service has no private server: its records are kept in a database of yours, where you make others")
	}
	return nil
}

// Create makes a database, and a user who owns it, with a password that is made up and kept as the secret of the database's name.
// user "" is called as the database.
func (s *Databases) Create(ctx context.Context, actor, name, user string) (*Made, error) {
	if err := s.private(); err != nil {
		return nil, err
	}
	if user == "" {
		user = name
	}
	for what, x := range map[string]string{"database": name, "user": user} {
		if !plainName.MatchString(x) {
			return nil, base.Errorf(base.ErrRefused, "the name of a %s has 1 to 60 letters, digits and underscores", what)
		}
		if slices.Contains(taken, strings.ToLower(x)) {
			return nil, base.Errorf(base.ErrRefused, "the name %q has a meaning of its own; choose another one for the %s", x, what)
		}
	}
	all, err := s.server.Databases(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range all {
		if strings.EqualFold(d.Name, name) {
			return nil, base.Errorf(base.ErrConflict, "there is already a database %q; its user is %s", d.Name, strings.Join(d.Users, ", "))
		}
		if slices.Contains(d.Users, user) {
			return nil, base.Errorf(base.ErrConflict, "there is already a user %q, of the database %s; choose another one", user, d.Name)
		}
	}
	if kept, err := s.vault.List(); err != nil {
		return nil, err
	} else if slices.ContainsFunc(kept, func(x secrets.Secret) bool { return x.Name == name }) {
		return nil, base.Errorf(base.ErrConflict, "there is already a secret %q, as which the password would be kept; choose another name", name)
	}
	password := rand.Text()
	if err := s.server.MakeDatabase(ctx, name, user, password); err != nil {
		return nil, err
	}
	if err := s.vault.Set(actor, name, password, user+"@private"); err != nil {
		return nil, fmt.Errorf("the database is there, but its password cannot be kept: %w; drop it and make it again", err)
	}
	s.Note(actor, "created", "database "+name, "user "+user)
	return &Made{Name: name, User: user, Secret: name, Endpoint: fmt.Sprintf("DECLARE ENDPOINT %s MARIADB '%s@private/%s' SECRET '%s';", sql.Quoted(name), user, name, name)}, nil
}

// List gives the databases, but for that of the service's records.
func (s *Databases) List(ctx context.Context) ([]catalog.Database, error) {
	if err := s.private(); err != nil {
		return nil, err
	}
	return s.server.Databases(ctx)
}

// Drop deletes a database with all that is in it, unless an endpoint leads there.
func (s *Databases) Drop(ctx context.Context, actor, name string) error {
	if err := s.private(); err != nil {
		return err
	}
	all, err := s.server.Databases(ctx)
	if err != nil {
		return err
	}
	var names []string
	for _, d := range all {
		names = append(names, d.Name)
	}
	if !slices.Contains(names, name) {
		hint := ""
		if x := sql.Suggest(name, names); x != "" {
			hint = fmt.Sprintf("; did you mean %q?", x)
		}
		return base.Errorf(base.ErrNotFound, "there is no database %q on the private server%s", name, hint)
	}
	for _, e := range s.Current().Endpoints {
		if address, _, _ := strings.Cut(e.Address, "?"); strings.HasSuffix(address, "@private/"+name) {
			return base.Errorf(base.ErrConflict, "the endpoint %s leads to the database %s; drop it first", e.Name, name)
		}
	}
	if err := s.server.DropDatabase(ctx, name); err != nil {
		return err
	}
	s.Note(actor, "dropped", "database "+name, "")
	kept, err := s.vault.List()
	for _, x := range kept { // the password that was made up for it
		if x.Name == name && strings.HasSuffix(x.For, "@private") && len(x.UsedBy) == 0 {
			err = s.vault.Drop(actor, name)
		}
	}
	return err
}

// shownRows is how many rows are shown of a statement.
const shownRows = 1000

// Run has the server of an endpoint run statements, as the endpoint's user. It takes the turn of a question.
func (s *Databases) Run(ctx context.Context, actor, endpoint, text string) ([]contract.Result, error) {
	e := s.Current().Endpoints[endpoint]
	if e == nil {
		var names []string
		for n := range s.Current().Endpoints {
			names = append(names, n)
		}
		hint := ""
		if x := sql.Suggest(endpoint, names); x != "" {
			hint = fmt.Sprintf("; did you mean %q?", x)
		}
		return nil, base.Errorf(base.ErrNotFound, "no endpoint is called %q%s", endpoint, hint)
	}
	ctx, answered, err := s.Ask(ctx)
	if err != nil {
		return nil, err
	}
	defer answered()
	by, ok := connect.Of(e.Place).(contract.Commander)
	if !ok {
		return nil, base.Errorf(base.ErrRefused, "%s takes no statements", endpoint)
	}
	out, err := by.Run(ctx, s.Env(), e, text, shownRows)
	if err == nil || len(out) > 0 {
		s.Note(actor, "ran statements", "endpoint "+endpoint, text)
	}
	if out == nil {
		out = []contract.Result{}
	}
	if err != nil {
		return out, base.Errorf(base.ErrRefused, "%s", err)
	}
	return out, nil
}
