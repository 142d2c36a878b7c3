package lake

import (
	"context"
	"database/sql/driver"
	"errors"
	"io"
	"sync/atomic"
)

// The library of the format keeps one description of a server's dialect for the whole process, and adds to it what a server's version can do each
// time a catalogue is opened, while others read it. So a catalogue's connections begin with one that answers the question for the version by
// itself, with one to which nothing is added: what the catalogue asks is understood by every version there is.

// plainly are the connections of a catalogue in a database.
type plainly struct {
	driver.Connector
	asked atomic.Bool
}

// Connect implements driver.Connector.
func (p *plainly) Connect(ctx context.Context) (driver.Conn, error) {
	if p.asked.CompareAndSwap(false, true) {
		return versionOnly{}, nil
	}
	return p.Connector.Connect(ctx)
}

// versionOnly is a connection that tells its version, and is not used again.
type versionOnly struct{}

var errVersionOnly = errors.New("this connection tells nothing but a version")

// QueryContext implements driver.QueryerContext.
func (versionOnly) QueryContext(context.Context, string, []driver.NamedValue) (driver.Rows, error) {
	return &version{}, nil
}

// IsValid implements driver.Validator: the pool drops it.
func (versionOnly) IsValid() bool { return false }

// Prepare implements driver.Conn.
func (versionOnly) Prepare(string) (driver.Stmt, error) { return nil, errVersionOnly }

// Begin implements driver.Conn.
func (versionOnly) Begin() (driver.Tx, error) { return nil, errVersionOnly }

// Close implements driver.Conn.
func (versionOnly) Close() error { return nil }

// version is the one row that a server of no special abilities answers.
type version struct{ told bool }

// Columns implements driver.Rows.
func (*version) Columns() []string { return []string{"version"} }

// Close implements driver.Rows.
func (*version) Close() error { return nil }

// Next implements driver.Rows.
func (v *version) Next(row []driver.Value) error {
	if v.told {
		return io.EOF
	}
	v.told, row[0] = true, "5.5.0"
	return nil
}
