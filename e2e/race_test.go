package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"sync"
	"sync/atomic"
	"testing"

	"fiume/demo"
	"fiume/internal/catalog"

	_ "github.com/go-sql-driver/mysql"
)

// raceServer is a MariaDB server of the race's own, outside the service, started once for all tests.
var raceServer struct {
	once   sync.Once
	server *catalog.Server
	dir    string
	err    error
	n      atomic.Int64
}

func stopRaceServer() {
	if raceServer.server != nil {
		_ = raceServer.server.Stop()
	}
	os.RemoveAll(raceServer.dir)
}

const racePassword = "pontelago"

// raceDatabase makes a database with the race's tables and gives its address for an endpoint.
func raceDatabase(t testing.TB) (address string, db *sql.DB) {
	t.Helper()
	raceServer.once.Do(func() {
		raceServer.dir, raceServer.err = os.MkdirTemp("", "fiume-race-")
		if raceServer.err == nil {
			raceServer.server, raceServer.err = catalog.StartServer(context.Background(), raceServer.dir, nil)
		}
	})
	if raceServer.err != nil {
		t.Fatal(raceServer.err)
	}
	name := fmt.Sprintf("race%d", raceServer.n.Add(1))
	if err := raceServer.server.MakeDatabase(t.Context(), name, name, racePassword); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("mysql", raceServer.server.DSN(name))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	for _, table := range demo.Tables() {
		if _, err := db.Exec(table); err != nil {
			t.Fatal(err)
		}
	}
	return fmt.Sprintf("%s@%s/%s", name, raceServer.server.Addr, name), db
}

// endpoint declares the race's database as race_db and sets its secret.
func (p *process) endpoint(address string) string {
	p.t.Helper()
	if err := p.SetSecret(p.t.Context(), "race_db", racePassword); err != nil {
		p.t.Fatal(err)
	}
	return fmt.Sprintf("DECLARE ENDPOINT race_db MARIADB '%s' SECRET 'race_db';\n", address)
}

// tableRows gives the runners by mat and opening.
func tableRows(t testing.TB, db *sql.DB) map[string]int64 {
	t.Helper()
	rows, err := db.Query("SELECT CONCAT(mat, ' ', DATE_FORMAT(opened, '%Y-%m-%d %H:%i:%s')), runners FROM crowding")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	out := map[string]int64{}
	for rows.Next() {
		var k string
		var n int64
		if err := rows.Scan(&k, &n); err != nil {
			t.Fatal(err)
		}
		out[k] = n
	}
	if err := rows.Err(); err != nil {
		t.Fatal(err)
	}
	return out
}
