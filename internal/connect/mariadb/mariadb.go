// Package mariadb reads tables of a MariaDB server, whole, by key or by their changes, and writes sinks to
// them.
package mariadb

import (
	"context"
	"slices"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbserver"
	"fiume/internal/connect/dbtable"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
)

// Connector is MARIADB.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

var described = plan.Place{
	Kind:  "mariadb",
	About: "a table of a MariaDB database",
	Example: `DECLARE ENDPOINT race_db MARIADB 'timing@127.0.0.1:3306/race' SECRET 'race_db';
DECLARE TABLE entrants (chip VARCHAR PRIMARY KEY, bib INT, name VARCHAR) FROM MARIADB 'entrants' VIA race_db (REFRESH EVERY 1 MINUTE);
DECLARE STREAM entries (chip VARCHAR, bib INT, name VARCHAR) FROM MARIADB 'entrants' VIA race_db (CHANGES true);
DECLARE SINK splits TO MARIADB 'splits' VIA race_db (KEY (chip, mat));`,
	Traits:   plan.Traits{OfChanges: true, Replaces: true},
	Address:  dbserver.Address,
	Endpoint: true,
	Columns:  true,
	Source: []plan.OptionSpec{
		{Name: "changes", Kind: plan.FlagOption, Doc: "true: the rows are the changes of the table, from the server's binary log"},
		dbtable.BadRowsOption,
	},
	Table: slices.Concat([]plan.OptionSpec{
		{Name: "changes", Kind: plan.FlagOption, Doc: "true: the table is read once and then follows the server's binary log"},
	}, dbtable.TableOptions),
	Sink:    dbtable.SinkOptions,
	Promise: dbtable.Promise,
}

// OpenLookup implements contract.Looker.
func (connector) OpenLookup(env *contract.Env, o *plan.Op) (step.Rows, error) {
	return dbtable.OpenLookup(server{}, env, o)
}

// OpenSink implements contract.Writer.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	return dbtable.OpenSink(server{}, env, out)
}

// OpenSource implements contract.Reader: it opens a table that is read whole, or its changes.
func (connector) OpenSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	if scan.Stream.Options.Flag("changes", false) {
		return openChanges(env, scan)
	}
	return dbtable.OpenSource(server{}, env, scan)
}

// CheckSink implements contract.Writer: it looks whether a table takes the rows of an output.
func (connector) CheckSink(ctx context.Context, env *contract.Env, out *plan.Op) error {
	db, name, err := dbserver.Connect(out.Sink.Via, env.Secrets)
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

// CheckSource implements contract.Reader: it looks whether a table in the database has the columns of a declared one.
func (connector) CheckSource(ctx context.Context, env *contract.Env, s *plan.Stream) error {
	db, schema, err := dbserver.Connect(s.Via, env.Secrets)
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := dbtable.CheckSource(ctx, server{}, db, schema, s); err != nil || !s.Options.Flag("changes", false) {
		return err
	}
	srv, err := dbserver.Of(s.Via, env.Secrets)
	if err != nil {
		return err
	}
	return (&binlog{db: db, server: srv, c: dbtable.NewChanges(server{}, nil, &plan.Op{Stream: s, Used: &plan.Use{All: true}})}).Check(ctx)
}
