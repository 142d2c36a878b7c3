package lake

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/dbserver"
	"fiume/internal/connect/lake/delta"
	"fiume/internal/connect/store"
	"fiume/internal/connect/trust"
	"fiume/internal/core/plan"
	fsql "fiume/internal/core/sql"

	"github.com/apache/iceberg-go"
	"github.com/apache/iceberg-go/catalog"
	"github.com/apache/iceberg-go/catalog/hadoop"
	"github.com/apache/iceberg-go/catalog/rest"
	sqlcatalog "github.com/apache/iceberg-go/catalog/sql"
	"github.com/apache/iceberg-go/table"
)

// lake is an open catalogue with the files of its tables.
type lake struct {
	e     *plan.Endpoint
	cat   catalog.Catalog
	reach *reach
	db    *sql.DB
	dir   string // of a catalogue that is one, made with its first table
	done  func()

	delta   bool   // there is no catalogue: tables tell all of themselves
	root    string // what they lie below
	ledgers map[string]*ledgerLook
}

// mayAnswer is how long a catalogue may take to answer a question.
const mayAnswer = 15 * time.Second

// open opens the catalogue of an endpoint. What a database needs for it is made where there is none.
func open(ctx context.Context, env *contract.Env, e *plan.Endpoint) (l *lake, err error) {
	l = &lake{e: e, reach: &reach{roots: env.Roots}}
	if env.Spools != "" {
		l.reach.temp = filepath.Join(env.Spools, "objects")
	}
	if at := e.Options.Word("store", ""); at != "" {
		via := &plan.Endpoint{Name: e.Name, Address: at, Secret: e.Options.Word("store secret", ""), Options: e.Options}
		s, err := store.Of(via, env.Secret, nil)
		if err != nil {
			return nil, err
		}
		l.reach.far = s.(*store.Far)
	}
	id, done := l.reach.register()
	l.done = done
	defer func() {
		if err != nil {
			l.close()
			l = nil
		}
	}()
	props := iceberg.Properties{reachProperty: id}
	warehouse := e.Options.Word("warehouse", "")
	if l.delta = strings.EqualFold(e.Options.Word("format", "iceberg"), "delta"); l.delta {
		if warehouse != "" {
			return l, fmt.Errorf("endpoint %s: tables of the format delta lie below the address; leave WAREHOUSE out", e.Name)
		}
		return l, l.openLedgers()
	}
	if warehouse != "" {
		if _, far := object(warehouse); far && l.reach.far == nil {
			return l, fmt.Errorf("endpoint %s: the WAREHOUSE is in an object store: say which with STORE 'https://key@host:port'", e.Name)
		} else if !far {
			if warehouse, err = l.reach.path("open", warehouse); err != nil {
				return l, fmt.Errorf("endpoint %s: %w", e.Name, err)
			}
			if warehouse, err = filepath.Abs(warehouse); err != nil {
				return l, err
			}
		}
		props["warehouse"] = warehouse
	}
	kind, err := kindOf(e.Address)
	if err != nil {
		return l, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	switch kind {
	case inStore:
		return l, fmt.Errorf("endpoint %s: a catalogue of the format iceberg is a directory, user@host:port/database or https://host/path, with WAREHOUSE '%s'; tables of the format delta need none: (FORMAT delta)", e.Name, e.Address)
	case inDirectory:
		if warehouse != "" {
			return l, fmt.Errorf("endpoint %s: the files of tables lie in the directory of the catalogue; leave WAREHOUSE out", e.Name)
		}
		dir, err := l.reach.path("open", e.Address)
		if err == nil {
			dir, err = filepath.Abs(dir)
		}
		l.dir = dir
		if err != nil {
			return l, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
		cat, err := hadoop.NewCatalog("fiume", dir, props)
		return l, l.has(cat, err)
	case inDatabase:
		if warehouse == "" {
			return l, fmt.Errorf("endpoint %s: say where the files of tables lie, with WAREHOUSE '/directory' or 's3://bucket/path'", e.Name)
		}
		server, err := dbserver.Connector(e, env.Secrets)
		if err != nil {
			return l, err
		}
		ctx, cancel := context.WithTimeout(ctx, mayAnswer)
		defer cancel()
		first, err := server.Connect(ctx)
		if err != nil {
			return l, fmt.Errorf("endpoint %s cannot be reached at %s: %w", e.Name, e.Address, err)
		}
		_ = first.Close()
		l.db = sql.OpenDB(&plainly{Connector: server})
		cat, err := sqlcatalog.NewCatalog("fiume", l.db, sqlcatalog.MySQL, props)
		return l, l.has(cat, err)
	}
	opts := []rest.Option{rest.WithAdditionalProps(props)}
	if warehouse != "" {
		opts = append(opts, rest.WithWarehouseLocation(warehouse))
	}
	tls, err := trust.Always(e, env.Secret)
	if err != nil {
		return l, err
	}
	opts = append(opts, rest.WithCustomTransport(&http.Transport{TLSClientConfig: tls, Proxy: http.ProxyFromEnvironment, DialContext: (&net.Dialer{Timeout: 5 * time.Second}).DialContext,
		TLSHandshakeTimeout: 5 * time.Second, ResponseHeaderTimeout: mayAnswer, IdleConnTimeout: time.Minute}))
	if e.Secret != "" {
		token, err := env.Secret(e.Secret, e.Address)
		if err != nil {
			return l, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
		opts = append(opts, rest.WithOAuthToken(token))
	}
	ctx, cancel := context.WithTimeout(ctx, mayAnswer)
	defer cancel()
	cat, err := rest.NewCatalog(ctx, "fiume", e.Address, opts...)
	return l, l.has(cat, err)
}

// has takes a catalogue that was opened; what comes with an error is none, though it is not nil.
func (l *lake) has(cat catalog.Catalog, err error) error {
	if err != nil {
		return l.said(err)
	}
	l.cat = cat
	return nil
}

// Directory opens a catalogue that is a directory, for what stands in for other catalogues.
func Directory(dir string) (catalog.Catalog, func(), error) {
	l, err := open(context.Background(), &contract.Env{}, &plan.Endpoint{Name: "directory", Address: dir})
	if err != nil {
		return nil, nil, err
	}
	return l.cat, l.close, nil
}

// close closes the catalogue.
func (l *lake) close() {
	if c, ok := l.cat.(catalog.Closer); ok {
		_ = c.Close()
	}
	if l.db != nil {
		_ = l.db.Close()
	}
	l.done()
}

// saying is an error in words of its own.
type saying struct {
	text string
	err  error
}

func (w *saying) Error() string { return w.text }
func (w *saying) Unwrap() error { return w.err }

var errNoTable = errors.New("there is no such table")

// said puts an error into words that name the endpoint.
func (l *lake) said(err error) error {
	var own *saying
	if err == nil || errors.As(err, &own) {
		return err
	}
	var network net.Error
	if l.delta {
		return &saying{fmt.Sprintf("endpoint %s: %s", l.e.Name, err), err}
	}
	text := strings.TrimPrefix(strings.TrimPrefix(err.Error(), "hadoop catalog: "), "sql catalog: ")
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		text = "nobody listens there"
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &network) && network.Timeout():
		text = "no answer came in time"
	case errors.Is(err, rest.ErrUnauthorized), errors.Is(err, rest.ErrForbidden), errors.Is(err, rest.ErrAuthorizationExpired):
		text = "the catalogue does not let us in with this token: keep another one with: fiume secret set " + l.e.Secret
		if l.e.Secret == "" {
			text = "the catalogue wants a token: keep it with fiume secret set name, and write SECRET 'name'"
		}
	}
	return &saying{fmt.Sprintf("endpoint %s, catalogue at %s: %s", l.e.Name, l.e.Address, text), err}
}

// load opens a table. That it is not there is errNoTable, which names those that are.
func (l *lake) load(ctx context.Context, address string) (*table.Table, error) {
	ident, err := identOf(address)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, mayAnswer)
	defer cancel()
	t, err := l.cat.LoadTable(ctx, ident)
	if errors.Is(err, catalog.ErrNoSuchTable) || errors.Is(err, catalog.ErrNoSuchNamespace) {
		return nil, l.noTable(ctx, address)
	}
	return t, l.said(err)
}

// noTable says that there is no such table, and which there are.
func (l *lake) noTable(ctx context.Context, address string) error {
	names, _ := l.names(ctx)
	hint := ""
	if near := fsql.DidYouMean(address, names); near != "" {
		hint = "; " + near
	} else if len(names) > 0 {
		hint = "; there are " + strings.Join(names[:min(len(names), 12)], ", ")
	}
	where := "the catalogue"
	if l.delta {
		where = l.root
	}
	return &saying{fmt.Sprintf("endpoint %s: %s has no table '%s'%s", l.e.Name, where, address, hint), errNoTable}
}

// names lists the tables.
func (l *lake) names(ctx context.Context) (out []string, err error) {
	if l.delta {
		return l.ledgerNames(ctx)
	}
	var walk func(parent table.Identifier, depth int) error
	walk = func(parent table.Identifier, depth int) error {
		spaces, err := l.cat.ListNamespaces(ctx, parent)
		if errors.Is(err, fs.ErrNotExist) && l.dir != "" {
			return nil // it has no table yet
		}
		if err != nil {
			return err
		}
		for _, ns := range spaces {
			for t, err := range l.cat.ListTables(ctx, ns) {
				if err != nil {
					return err
				}
				out = append(out, strings.Join(t, "."))
			}
			if depth < 4 && len(ns) > len(parent) {
				if err := walk(ns, depth+1); err != nil && !errors.Is(err, catalog.ErrNoSuchNamespace) {
					return err
				}
			}
		}
		return nil
	}
	err = walk(nil, 0)
	slices.Sort(out)
	return slices.Compact(out), l.said(err)
}

// passing says whether an error may pass by itself: somebody else has written, or writes, or the catalogue or its store is away or busy. That a file of the table is
// not there, or ends too early, does not.
func (l *lake) passing(err error) bool {
	var network net.Error
	var call *url.Error
	var file *fs.PathError // whose number is a net.Error, too
	switch {
	case err == nil:
		return false
	case errors.Is(err, table.ErrCommitFailed), errors.Is(err, errMet), errors.Is(err, delta.ErrMet), errors.Is(err, delta.ErrUnfinished), strings.Contains(err.Error(), "requirement failed: "): // which has no error of its own
		return true
	case errors.Is(err, rest.ErrServiceUnavailable), errors.Is(err, rest.ErrServerError), errors.Is(err, rest.ErrCommitFailed), errors.Is(err, rest.ErrCommitStateUnknown):
		return true
	case errors.As(err, &call), errors.Is(err, context.DeadlineExceeded):
		return true
	case l.reach.far != nil && l.reach.far.Retry(err):
		return true
	case errors.As(err, &file), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return false
	}
	return errors.As(err, &network) || l.db != nil && dbserver.Passing(err)
}
