// Package postgres reads tables of a PostgreSQL server, whole, by key or by their changes, and writes sinks to them.
package postgres

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbtable"
	"fiume/internal/connect/trust"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
)

// Connector is POSTGRES.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

var described = plan.Place{
	Kind:  "postgres",
	About: "a table of a PostgreSQL database",
	Example: `DECLARE ENDPOINT race_pg POSTGRES 'timing@127.0.0.1:5432/race' SECRET 'race_pg';
DECLARE TABLE entrants (chip VARCHAR PRIMARY KEY, bib INT, name VARCHAR) FROM POSTGRES 'entrants' VIA race_pg (CACHE FOR 1 MINUTE);
DECLARE STREAM entries (chip VARCHAR, bib INT, name VARCHAR) FROM POSTGRES 'entrants' VIA race_pg (CHANGES true);
DECLARE SINK splits TO POSTGRES 'timing.splits' VIA race_pg (KEY (chip, mat), CREATE true);`,
	Traits:   plan.Traits{OfChanges: true, Replaces: true},
	Address:  func(address string) error { _, err := parse(address); return err },
	Within:   func(address string, _ *plan.Endpoint) error { _, err := tableOf(address); return err },
	Endpoint: true,
	Columns:  true,
	Options:  trust.Options(),
	Source: []plan.OptionSpec{
		{Name: "changes", Kind: plan.FlagOption, Doc: "true: the rows are the changes of the table, by logical replication"},
		publicationOption,
		dbtable.BadRowsOption,
	},
	Table: slices.Concat([]plan.OptionSpec{
		{Name: "changes", Kind: plan.FlagOption, Doc: "true: the table is read once and then follows the server's log, by logical replication"},
		publicationOption,
	}, dbtable.TableOptions),
	Sink:    dbtable.SinkOptions,
	Promise: dbtable.Promise,
}

var publicationOption = plan.OptionSpec{Name: "publication", Kind: plan.WordOption, Doc: "with CHANGES: the publication of the server that has the table; by default one of its own, fiume_ and the table's name, which is made where it is not there"}

// place is what an address says.
type place struct {
	user, host, database string
	port                 uint16
}

// parse reads an address, user@host:port/database. What it says of a wrong one tells nothing that may be a password.
func parse(address string) (p place, err error) {
	at := strings.LastIndexByte(address, '@')
	if at > 0 && strings.Contains(address[:at], ":") {
		return p, errors.New("a password does not belong into the address; write SECRET 'name', and keep it with: fiume secret set name")
	}
	wrong := errors.New("the address is not of the form user@host:port/database")
	server, db, ok := strings.Cut(address[at+1:], "/")
	if at <= 0 || !ok || db == "" || strings.ContainsAny(db, "/?") {
		return p, wrong
	}
	host, port, err := net.SplitHostPort(server)
	n, perr := strconv.ParseUint(port, 10, 16)
	if err != nil || perr != nil || n == 0 || host == "" {
		return p, wrong
	}
	return place{address[:at], host, db, uint16(n)}, nil
}

// mayConnect is how long a server may take to let us in, and mayTake how long it may take for anything.
const (
	mayConnect = 5 * time.Second
	mayTake    = 5 * time.Minute
)

// configOf says how an endpoint's database is opened. Nothing of it is taken from the environment.
func configOf(e *plan.Endpoint, access contract.Secrets) (*pgx.ConnConfig, error) {
	p, err := parse(e.Address)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	c, err := pgx.ParseConfig("host=localhost port=5432 user=nobody dbname=nothing password='' sslmode=disable passfile=/dev/null")
	if err != nil {
		return nil, err
	}
	c.Host, c.Port, c.User, c.Database, c.Password, c.Fallbacks = p.host, p.port, p.user, p.database, "", nil
	c.ConnectTimeout = mayConnect
	if c.TLSConfig, err = trust.Config(e, access.Secret); err != nil {
		return nil, err
	}
	if c.TLSConfig != nil && c.TLSConfig.ServerName == "" {
		c.TLSConfig.ServerName = p.host
	}
	if e.Secret != "" {
		if c.Password, err = access.Secret(e.Secret, p.user+"@"+net.JoinHostPort(p.host, strconv.Itoa(int(p.port)))); err != nil {
			return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
	}
	c.RuntimeParams = map[string]string{"timezone": "UTC", "application_name": "fiume", "datestyle": "ISO", "intervalstyle": "iso_8601", "extra_float_digits": "3",
		"statement_timeout": strconv.Itoa(int(mayTake.Milliseconds())), "idle_in_transaction_session_timeout": strconv.Itoa(int(mayTake.Milliseconds()))}
	return c, nil
}

// Connect implements dbtable.Server.
func (server) Connect(e *plan.Endpoint, access contract.Secrets) (*sql.DB, string, error) {
	c, err := configOf(e, access)
	if err != nil {
		return nil, "", err
	}
	db := stdlib.OpenDB(*c)
	db.SetConnMaxLifetime(10 * time.Minute)
	db.SetMaxIdleConns(2)
	return db, c.Database, nil
}

// OpenLookup implements contract.Looker.
func (connector) OpenLookup(env *contract.Env, o *plan.Op) (step.Rows, error) {
	return dbtable.OpenLookup(server{}, env, o)
}

// OpenSink implements contract.Writer.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	return dbtable.OpenSink(server{}, env, out)
}

// OpenSource implements contract.Reader.
func (connector) OpenSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	if scan.Stream.Options.Flag("changes", false) {
		return openChanges(env, scan)
	}
	return dbtable.OpenSource(server{}, env, scan)
}

// CheckSink implements contract.Writer.
func (connector) CheckSink(ctx context.Context, env *contract.Env, out *plan.Op) error {
	db, name, err := server{}.Connect(out.Sink.Via, env.Secrets)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = dbtable.CheckSink(ctx, server{}, db, name, out)
	return err
}

// Prepares implements contract.Preparer.
func (connector) Prepares(ctx context.Context, env *contract.Env, out *plan.Op) ([]string, error) {
	return dbtable.Prepares(ctx, server{}, env, out)
}

// CheckSource implements contract.Reader.
func (connector) CheckSource(ctx context.Context, env *contract.Env, s *plan.Stream) error {
	db, name, err := server{}.Connect(s.Via, env.Secrets)
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err = dbtable.CheckSource(ctx, server{}, db, name, s); err != nil || !s.Options.Flag("changes", false) {
		return err
	}
	return (&walLog{db: db, c: dbtable.NewChanges(server{}, nil, &plan.Op{Stream: s, Used: &plan.Use{All: true}})}).Check(ctx)
}

// Test implements contract.Tester.
func (c connector) Test(ctx context.Context, env *contract.Env, of contract.Tested, r *contract.Report) {
	e := of.Endpoint
	switch {
	case of.Stream != nil:
		e = of.Stream.Via
	case of.Sink != nil:
		e = of.Sink.Via
	}
	db, name, err := server{}.Connect(e, env.Secrets)
	if err != nil {
		r.Saw("allowed", err, "")
		return
	}
	defer db.Close()
	within, cancel := context.WithTimeout(ctx, mayConnect)
	defer cancel()
	var says *pgconn.PgError
	err = db.PingContext(within)
	no := errors.As(err, &says)
	if no {
		err = nil
	}
	if !r.Saw("reachable", err, "the server answers") {
		return
	}
	if no {
		err = errors.New(says.Message)
	}
	if !r.Saw("allowed", err, "it lets us in") {
		return
	}
	switch {
	case of.Stream != nil:
		r.Saw("columns fit", c.CheckSource(ctx, env, of.Stream), fmt.Sprintf("the table %s has the columns that are declared", of.Stream.Address))
	case of.Sink != nil:
		table := of.Sink.Address
		cols, err := server{}.Columns(ctx, db, name, table)
		create := of.Sink.Options.Flag("create", false)
		if err == nil && len(cols) == 0 && !create {
			err = fmt.Errorf("there is no table %s in %s, or it may not be seen", table, name)
		}
		detail := "the table " + table + " is there"
		if len(cols) == 0 {
			detail = "the job makes it"
		}
		if !r.Saw("exists", err, detail) {
			return
		}
		if of.Output != nil {
			words := "the table " + table + " takes the rows"
			if will, err := c.Prepares(ctx, env, of.Output); err == nil && len(will) > 0 {
				words = "the job " + strings.Join(will, "; ")
			}
			if !r.Saw("columns fit", c.CheckSink(ctx, env, of.Output), words) {
				return
			}
		}
		if len(cols) == 0 {
			return
		}
		may := false
		err = db.QueryRowContext(ctx, "SELECT has_table_privilege(to_regclass($1), 'INSERT')", server{}.Table(table)).Scan(&may)
		if err == nil && !may {
			err = fmt.Errorf("the user may not write to it: GRANT INSERT, UPDATE, DELETE ON %s", table)
		}
		r.Saw("writable", err, "rows may be written to it")
	}
}
