// Package lake reads open tables as streams and tables, and writes sinks to them: files of Parquet in directories or object stores, with metadata of the open
// format of Iceberg, which a catalogue finds.
package lake

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbserver"
	"fiume/internal/connect/store"
	"fiume/internal/core/plan"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/iceberg-go/table"
)

// Connector is LAKE.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

var described = plan.Place{
	Kind:     "lake",
	About:    "an open table, 'namespace.table': of the format Iceberg, whose catalogue is a directory, a MariaDB database or a REST service, or of the format Delta in a directory or an object store",
	Traits:   plan.Traits{Replaces: true, Again: true},
	Endpoint: true,
	Columns:  true,
	Example: `DECLARE ENDPOINT pond LAKE '/data/lake';
DECLARE ENDPOINT far_pond LAKE 'timing@127.0.0.1:3306/race' SECRET 'race_db' (WAREHOUSE 's3://race/lake', STORE 'https://writer@10.0.0.7:9000', STORE SECRET 'store');
DECLARE ENDPOINT ledger LAKE '/data/ledger' (FORMAT delta);
DECLARE SINK crossings TO LAKE 'race.crossings' VIA pond (PARTITION BY (mat, read_at), EACH day, COMPACT EVERY 1 HOUR, KEEP 7 DAYS);
DECLARE SINK standings TO LAKE 'race.standings' VIA pond (KEY (chip));
DECLARE TABLE entrants (chip VARCHAR PRIMARY KEY, bib INT, name VARCHAR) FROM LAKE 'race.entrants' VIA pond (REFRESH EVERY 1 MINUTE);
DECLARE STREAM old_reads (chip VARCHAR, mat VARCHAR, read_at TIMESTAMP) EVENT TIME read_at DELAY 20 SECONDS FROM LAKE 'race.reads' VIA pond;`,
	Address: func(address string) error { _, err := kindOf(address); return err },
	Within:  func(address string, _ *plan.Endpoint) error { _, err := identOf(address); return err },
	Options: append([]plan.OptionSpec{
		{Name: "format", Kind: plan.WordOption, Words: []string{"iceberg", "delta"}, Doc: "that of the tables; those of delta have no catalogue: each lies in a directory below the address, which may be s3://bucket/path, and rows are added to them only", Default: "iceberg"},
		{Name: "warehouse", Kind: plan.WordOption, Doc: "below what the files of new tables lie: a directory, or s3://bucket/path; needed where the catalogue is a database"},
		{Name: "store", Kind: plan.WordOption, Doc: "the object store that s3:// is in: https://key@host:port"},
		{Name: "store secret", Kind: plan.WordOption, Doc: "the secret part of the key of the object store"},
	}, store.Options()...),
	Source: []plan.OptionSpec{
		{Name: "look every", Kind: plan.DurationOption, Doc: "how often it is looked for new snapshots", Default: "5 SECONDS"},
		badRows,
	},
	Table: []plan.OptionSpec{
		{Name: "refresh every", Kind: plan.DurationOption, Doc: "how often it is looked for a new snapshot, with which the table is read again; without it, once"},
		{Name: "snapshot", Kind: plan.WordOption, Doc: "the number of the snapshot that is read", Default: "the newest"},
		badRows,
	},
	Sink: []plan.OptionSpec{
		{Name: "key", Kind: plan.NamesOption, Doc: "columns whose row is replaced by a newer one, and taken away where a row is withdrawn; without it rows are added"},
		{Name: "partition by", Kind: plan.NamesOption, Doc: "columns by whose values the files of a table that is made are told apart; one of time by its EACH"},
		{Name: "each", Kind: plan.WordOption, Words: []string{"hour", "day", "month", "year"}, Doc: "by what a column of time in PARTITION BY is told apart", Default: "day"},
		{Name: "bucket by", Kind: plan.NamesOption, Doc: "columns by whose hash the files of a table that is made are told apart, too"},
		{Name: "buckets", Kind: plan.NumberOption, Least: 2, Doc: "how many buckets", Default: "16"},
		{Name: "sort by", Kind: plan.NamesOption, Doc: "the order of the rows in the files of a table that is made"},
		{Name: "evolve", Kind: plan.FlagOption, Doc: "true: columns that the rows have and the table has not are added to it", Default: "false"},
		{Name: "compact every", Kind: plan.DurationOption, Doc: "how often small files are put together, and what deletes nothing any more is taken away"},
		{Name: "keep", Kind: plan.DurationOption, Doc: "how long snapshots are kept that are not the newest, and files that belong to none; they are removed when files are put together", Default: "7 DAYS"},
	},
	Promise: func(out *plan.Op) string {
		how := "added"
		if len(out.Sink.Options.Names("key")) > 0 {
			how = "put in the place of the one with its key"
		}
		return "each row once, " + how + " when a checkpoint is complete, in one snapshot with its number"
	},
}

var badRows = plan.OptionSpec{Name: "bad rows", Kind: plan.WordOption, Words: []string{"keep", "stop"}, Doc: "what a row that does not fit does; keep: it is counted and a sample kept"}

// catalogueKind is what a catalogue is.
type catalogueKind int

const (
	inDirectory catalogueKind = iota
	inDatabase
	inService
	inStore // for tables that need no catalogue
)

// kindOf tells by its address what a catalogue is.
func kindOf(address string) (catalogueKind, error) {
	scheme, _, ok := strings.Cut(address, "://")
	switch {
	case ok && (scheme == "http" || scheme == "https"):
		if strings.Contains(strings.SplitN(address[len(scheme)+3:], "/", 2)[0], "@") {
			return 0, errors.New("a user or a token does not belong into the address of a REST catalogue; write SECRET 'name', and keep the token with: fiume secret set name")
		}
		return inService, nil
	case ok && scheme+"://" == store.Scheme:
		return inStore, nil
	case ok:
		return 0, fmt.Errorf("nobody serves catalogues at %s://: the address is a directory, user@host:port/database or https://host/path", scheme)
	case strings.Contains(address, "@"):
		return inDatabase, dbserver.Address(address)
	case address == "":
		return 0, errors.New("the address is empty: it is a directory, user@host:port/database or https://host/path")
	}
	return inDirectory, nil
}

// identOf takes the name of a table apart.
func identOf(address string) (table.Identifier, error) {
	parts := strings.Split(address, ".")
	bad := len(parts) < 2
	for _, p := range parts {
		bad = bad || p == "" || strings.ContainsAny(p, "/\\ '\"`\x00")
	}
	if bad {
		return nil, fmt.Errorf("'%s' names no table: write 'namespace.table'", address)
	}
	return parts, nil
}

// CheckSource implements contract.Reader.
func (connector) CheckSource(ctx context.Context, env *contract.Env, s *plan.Stream) error {
	l, err := open(ctx, env, s.Via)
	if err != nil {
		return err
	}
	defer l.close()
	t, err := l.look(ctx, s.Address)
	if err != nil {
		return err
	}
	return fitsSource(t, s)
}

// Reread implements contract.Rereader.
func (connector) Reread(k *plan.Sink) string { return k.Address }

// CheckSink implements contract.Writer.
func (connector) CheckSink(ctx context.Context, env *contract.Env, out *plan.Op) error {
	l, err := open(ctx, env, out.Sink.Via)
	if err != nil {
		return err
	}
	defer l.close()
	if _, err := l.shape(out); err != nil {
		return err
	}
	t, err := l.look(ctx, out.Sink.Address)
	if errors.Is(err, errNoTable) {
		return nil // it is made when the job starts
	}
	if err != nil {
		return err
	}
	return l.takes(out, t)
}

// Prepares implements contract.Preparer.
func (connector) Prepares(ctx context.Context, env *contract.Env, out *plan.Op) ([]string, error) {
	l, err := open(ctx, env, out.Sink.Via)
	if err != nil {
		return nil, err
	}
	defer l.close()
	t, err := l.look(ctx, out.Sink.Address)
	if errors.Is(err, errNoTable) {
		return []string{"makes its table " + out.Sink.Address}, nil
	}
	if err != nil {
		return nil, err
	}
	cols, err := t.columns()
	if err != nil {
		return nil, err
	}
	var will []string
	for _, f := range out.Fields {
		if !slices.ContainsFunc(cols.Fields(), func(c arrow.Field) bool { return strings.EqualFold(c.Name, f.Name) }) {
			will = append(will, fmt.Sprintf("adds a column to its table %s: %s %s", out.Sink.Address, f.Name, f.Type))
		}
	}
	return will, nil
}

// shape reads the options of a sink.
func (l *lake) shape(out *plan.Op) (*shape, error) {
	s, err := shapeOf(out)
	if err == nil && l.delta {
		err = s.fitsLedger(out.Sink.Options)
	}
	return s, err
}

// takes says whether a table takes the rows of an output.
func (l *lake) takes(out *plan.Op, t look) error {
	s, err := l.shape(out)
	if err != nil {
		return err
	}
	if t, ok := t.(icebergLook); ok {
		return s.fits(t.t)
	}
	return s.fitsTable(t.(*ledgerLook).t)
}
