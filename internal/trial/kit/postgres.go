package kit

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
)

// Postgres is a private PostgreSQL server.
type Postgres struct {
	Addr, Password string // of the user timing
	dsn            string
	command        func() *exec.Cmd
	server         *exec.Cmd
	log            *os.File
}

// StartPostgres starts a server that is gone at the end of the test.
func StartPostgres(t testing.TB) *Postgres {
	t.Helper()
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		t.Fatal("PostgreSQL is not installed; run make setup-tests")
	}
	bin := filepath.Dir(found[len(found)-1])
	base := "" // where the server's user, who is another where tests run as root, comes too
	if os.Geteuid() == 0 {
		base = "/tmp"
	}
	dir, err := os.MkdirTemp(base, "fiume-pg-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	as := &syscall.SysProcAttr{}
	if os.Geteuid() == 0 { // the server does not run as root
		u, err := user.Lookup("postgres")
		if err != nil {
			t.Fatal(err)
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		if err := os.Chown(dir, uid, gid); err != nil {
			t.Fatal(err)
		}
		as.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	p := &Postgres{Password: "pl4nted-m4rker"}
	port := FreePort(t)
	p.Addr = fmt.Sprintf("127.0.0.1:%d", port)
	secret := filepath.Join(dir, "secret")
	if err := os.WriteFile(secret, []byte(p.Password+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	data := filepath.Join(dir, "data")
	command := func(name string, args ...string) *exec.Cmd {
		c := exec.Command(filepath.Join(bin, name), args...)
		c.Dir, c.SysProcAttr = dir, as
		c.Env = []string{"LC_ALL=C", "PATH=/usr/bin:/bin"}
		return c
	}
	if out, err := command("initdb", "-D", data, "-U", "timing", "--pwfile", secret, "-A", "scram-sha-256", "-E", "UTF8", "--no-sync").CombinedOutput(); err != nil {
		t.Fatalf("initdb: %v\n%s", err, out)
	}
	if p.log, err = os.Create(filepath.Join(dir, "log")); err != nil {
		t.Fatal(err)
	}
	p.command = func() *exec.Cmd {
		c := command("postgres", "-D", data, "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories="+dir, "-c", "shared_buffers=32MB", "-c", "max_connections=200",
			"-c", "wal_level=logical", "-c", "max_replication_slots=40", "-c", "max_wal_senders=40")
		c.Stdout, c.Stderr = p.log, p.log
		return c
	}
	p.dsn = fmt.Sprintf("host=127.0.0.1 port=%d user=timing password=%s dbname=postgres sslmode=disable", port, p.Password)
	t.Cleanup(func() {
		p.crash() // nobody wants its data
		p.log.Close()
	})
	p.start(t)
	return p
}

// start starts the server and waits until it answers.
func (p *Postgres) start(t testing.TB) {
	t.Helper()
	p.server = p.command()
	if err := p.server.Start(); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("pgx", p.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for deadline := time.Now().Add(Patience); ; time.Sleep(50 * time.Millisecond) {
		if err = db.PingContext(context.Background()); err == nil {
			return
		}
		if time.Now().After(deadline) {
			text, _ := os.ReadFile(p.log.Name())
			t.Fatalf("the server does not come up: %v\n%s", err, text)
		}
	}
}

// crash ends the server at once, with all its processes: it recovers when it starts.
func (p *Postgres) crash() {
	if p.server != nil && p.server.Process != nil {
		_ = p.server.Process.Signal(syscall.SIGQUIT)
		_ = p.server.Wait()
	}
}

// Kill ends the server at once, as a crash does, and starts it again.
func (p *Postgres) Kill(t testing.TB) {
	t.Helper()
	p.crash()
	p.start(t)
}

// Database makes a database, and opens it.
func (p *Postgres) Database(t testing.TB, name string) *sql.DB {
	t.Helper()
	all, err := sql.Open("pgx", p.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer all.Close()
	if _, err := all.Exec("CREATE DATABASE " + name); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("pgx", p.dsn+" dbname="+name)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}
