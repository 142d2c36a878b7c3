// Package dbserver reaches databases of MariaDB servers behind endpoints.
package dbserver

import (
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"

	"github.com/go-sql-driver/mysql"
)

// Address says what is wrong with the address of an endpoint.
func Address(address string) error {
	_, err := Parse(address)
	return err
}

// Server is where an endpoint is, and who asks.
type Server struct {
	User, Password, Host, Database, tls string

	LogUser, LogPassword string // who reads the server's log: of the service's own server the service itself
}

// tlsModes are what an address may ask for, by what the driver calls them.
var tlsModes = map[string]string{"none": "false", "required": "skip-verify", "verified": "true"}

// Parse reads an address, user@host:port/database[?tls=none|required|verified]. What it says of a wrong one tells nothing that may
// be a password.
func Parse(address string) (s Server, err error) {
	address, query, _ := strings.Cut(address, "?")
	at := strings.LastIndexByte(address, '@') // a password may have one, too
	if at > 0 && strings.Contains(address[:at], ":") {
		return s, errors.New("a password does not belong into the address; write SECRET 'name', and keep it with: fiume secret set name")
	}
	host, db, ok := strings.Cut(address[at+1:], "/")
	if at <= 0 || !ok || host == "" || db == "" {
		return s, errors.New("the address is not of the form user@host:port/database")
	}
	s = Server{User: address[:at], Host: host, Database: db}
	if query != "" {
		mode, ok := strings.CutPrefix(query, "tls=")
		if s.tls = tlsModes[mode]; !ok || s.tls == "" {
			return s, errors.New("behind the ? of the address stands tls=none, tls=required (encrypted) or tls=verified (and the server's certificate is checked)")
		}
	}
	return s, nil
}

// Of reads an endpoint's address and finds the password of its secret, which is given for this server alone.
func Of(e *plan.Endpoint, access contract.Secrets) (s Server, err error) {
	if s, err = Parse(e.Address); err != nil {
		return s, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	named := s.Host
	if s.Host == "private" {
		if s.Host = access.Private; s.Host == "" {
			return s, fmt.Errorf("endpoint %s: there is no private server here; write host:port", e.Name)
		}
	}
	if e.Secret != "" {
		if s.Password, err = access.Secret(e.Secret, s.User+"@"+named); err != nil {
			return s, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
	}
	s.LogUser, s.LogPassword = s.User, s.Password
	if named == "private" && access.PrivateUser != "" {
		s.LogUser, s.LogPassword = access.PrivateUser, access.PrivatePassword
	}
	if s.tls == "" {
		s.tls = "preferred"
		if name, _, err := net.SplitHostPort(s.Host); err == nil {
			if ip := net.ParseIP(name); name == "localhost" || ip != nil && ip.IsLoopback() {
				s.tls = "false"
			}
		}
	}
	return s, nil
}

// Connect opens an endpoint's database, and gives its name.
func Connect(e *plan.Endpoint, access contract.Secrets) (*sql.DB, string, error) {
	c, err := Config(e, access)
	if err != nil {
		return nil, "", err
	}
	db, err := Open(c, e)
	return db, c.DBName, err
}

// Connector makes connections to an endpoint's database.
func Connector(e *plan.Endpoint, access contract.Secrets) (driver.Connector, error) {
	c, err := Config(e, access)
	if err != nil {
		return nil, err
	}
	return connector(c, e)
}

func connector(c *mysql.Config, e *plan.Endpoint) (driver.Connector, error) {
	conn, err := mysql.NewConnector(c)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	return conn, nil
}

// Config tells the driver how an endpoint's database is opened.
func Config(e *plan.Endpoint, access contract.Secrets) (*mysql.Config, error) {
	s, err := Of(e, access)
	if err != nil {
		return nil, err
	}
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Addr, c.DBName, c.Net = s.User, s.Password, s.Host, s.Database, "tcp"
	c.TLSConfig = s.tls
	c.Params = map[string]string{"time_zone": "'+00:00'"}
	c.Collation = "utf8mb4_general_ci"
	c.InterpolateParams = true
	c.Timeout, c.ReadTimeout, c.WriteTimeout = 5*time.Second, time.Minute, time.Minute
	c.Logger = quiet{}
	return c, nil
}

// Open opens a database as the driver was told.
func Open(c *mysql.Config, e *plan.Endpoint) (*sql.DB, error) {
	conn, err := connector(c, e)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(conn), nil
}

type quiet struct{}

func (quiet) Print(...any) {}

// passing are the errors of a server that is away, stopping, full or busy, and of transactions that met.
var passing = []uint16{1021, 1040, 1053, 1114, 1205, 1206, 1213, 1927, 3024, 4166}

// Passing says whether an error of a server may pass by itself.
func Passing(err error) bool {
	var own *mysql.MySQLError
	if errors.As(err, &own) {
		return slices.Contains(passing, own.Number)
	}
	var network net.Error
	return errors.As(err, &network) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
}
