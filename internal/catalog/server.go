package catalog

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Server is a private MariaDB server on loopback, with its own data directory and a random password.
type Server struct {
	Addr     string // host:port
	User     string
	Password string
	cmd      *exec.Cmd
	exited   chan struct{}
	log      string
}

// ErrNoServer says that MariaDB is not installed.
var ErrNoServer = errors.New(`MariaDB is not installed. On Debian: apt-get install mariadb-server
Or give the address of a server of your own: fiume serve --dsn 'user:password@tcp(127.0.0.1:3306)/fiume'`)

// find looks for a program on the path and where Debian keeps servers. FIUME_MARIADBD names the
// server's program where it is somewhere else.
func find(names ...string) (string, error) {
	for _, n := range names {
		if p, err := exec.LookPath(n); err == nil {
			return p, nil
		}
		for _, dir := range []string{"/usr/sbin", "/usr/local/sbin"} {
			p := filepath.Join(dir, n)
			if st, err := os.Stat(p); err == nil && st.Mode()&0o111 != 0 {
				return p, nil
			}
		}
	}
	return "", ErrNoServer
}

// StartServer starts the private server over a directory, initialising it the first time.
func StartServer(ctx context.Context, dir string) (*Server, error) {
	programs := []string{"mariadbd", "mysqld"}
	if p := os.Getenv("FIUME_MARIADBD"); p != "" {
		programs = []string{p}
	}
	daemon, err := find(programs...)
	if err != nil {
		return nil, err
	}
	dir, err = filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "data")
	if err := waitForFormer(ctx, filepath.Join(dir, "pid"), data); err != nil {
		return nil, err
	}
	var root []string
	if os.Geteuid() == 0 {
		root = []string{"--user=root"}
	}
	if _, err := os.Stat(filepath.Join(data, "ready")); err != nil {
		if err := initialise(ctx, data, root); err != nil {
			return nil, err
		}
	}
	s := &Server{User: "fiume", Password: secretText(), exited: make(chan struct{}), log: filepath.Join(dir, "log")}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	s.Addr = net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
	// The statements run before the server takes connections, so it is never open without a password.
	initFile := filepath.Join(dir, "init.sql")
	q := func(format string, args ...any) string { return fmt.Sprintf(format, args...) + ";\n" }
	stmts := "SET sql_log_bin=0;\nCREATE DATABASE IF NOT EXISTS fiume CHARACTER SET utf8mb4;\n" +
		q("DELETE FROM mysql.global_priv WHERE User='' OR (User='root' AND Host<>'localhost')") + "FLUSH PRIVILEGES;\n" +
		q("ALTER USER 'root'@'localhost' IDENTIFIED BY '%s'", s.Password) +
		q("CREATE OR REPLACE USER '%s'@'127.0.0.1' IDENTIFIED BY '%s'", s.User, s.Password) +
		q("GRANT ALL PRIVILEGES ON *.* TO '%s'@'127.0.0.1' WITH GRANT OPTION", s.User)
	if err := os.WriteFile(initFile, []byte(stmts), 0o600); err != nil {
		return nil, err
	}
	defer os.Remove(initFile)
	logFile, err := os.OpenFile(s.log, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer logFile.Close()
	// A socket's path has to be short. Temporary tables stand there too: servers that share a directory for them
	// delete each other's when they start.
	sockets, err := os.MkdirTemp("", "fiume-db-")
	if err != nil {
		return nil, err
	}
	args := append([]string{"--no-defaults", "--datadir=" + data, "--socket=" + filepath.Join(sockets, "s"), "--tmpdir=" + sockets, "--bind-address=127.0.0.1",
		"--port=" + strconv.Itoa(port), "--skip-name-resolve", "--character-set-server=utf8mb4", "--performance-schema=OFF",
		"--init-file=" + initFile, "--pid-file=" + filepath.Join(dir, "pid"), "--innodb-flush-log-at-trx-commit=1", "--max-connections=200",
		// The changes of its tables can be followed, for as long as the log reaches back.
		"--log-bin=changes", "--binlog-format=ROW", "--binlog-row-image=FULL", "--binlog-row-metadata=FULL", "--server-id=1", "--binlog-expire-logs-seconds=86400", "--max-binlog-size=67108864"}, root...)
	s.cmd = exec.Command(daemon, args...)
	s.cmd.Stdout, s.cmd.Stderr = logFile, logFile
	// It gets no Ctrl-C of the terminal, since it must outlive the jobs that write to it; and it ends
	// when this process dies in whatever way.
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	started := make(chan error)
	go func() { // the death signal belongs to the thread that started the process
		runtime.LockOSThread()
		if err := s.cmd.Start(); err != nil {
			started <- err
			return
		}
		started <- nil
		_ = s.cmd.Wait()
		os.RemoveAll(sockets)
		close(s.exited)
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("MariaDB cannot be started: %w", err)
	}
	if err := s.ready(ctx); err != nil {
		return nil, errors.Join(err, s.Stop())
	}
	return s, nil
}

func initialise(ctx context.Context, data string, root []string) error {
	install, err := find("mariadb-install-db", "mysql_install_db")
	if err != nil {
		return err
	}
	if err := os.RemoveAll(data); err != nil { // an initialisation that did not end
		return err
	}
	args := append([]string{"--no-defaults", "--datadir=" + data, "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve"}, root...)
	temporary, err := os.MkdirTemp("", "fiume-db-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(temporary)
	var out bytes.Buffer
	cmd := exec.CommandContext(ctx, install, args...)
	cmd.Env = append(os.Environ(), "TMPDIR="+temporary)
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("MariaDB's data directory cannot be initialised: %w\n%s", err, out.String())
	}
	return os.WriteFile(filepath.Join(data, "ready"), nil, 0o600)
}

// waitForFormer waits until a server that a killed service left behind has ended.
func waitForFormer(ctx context.Context, pidFile, data string) error {
	b, err := os.ReadFile(pidFile)
	if err != nil {
		return nil
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil {
		return nil
	}
	for i := 0; ; i++ {
		line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		if err != nil || !bytes.Contains(line, []byte(data)) {
			return nil // it has ended, or the number belongs to another process
		}
		if st, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)); err == nil && bytes.Contains(st, []byte(") Z ")) {
			return nil
		}
		if i == 0 {
			_ = syscall.Kill(pid, syscall.SIGTERM)
		}
		if i > 600 {
			return fmt.Errorf("another MariaDB server (process %d) still uses %s", pid, data)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func (s *Server) ready(ctx context.Context) error {
	for range 1200 {
		c, err := net.DialTimeout("tcp", s.Addr, time.Second)
		if err == nil {
			// The server greets those it can serve.
			_ = c.SetReadDeadline(time.Now().Add(time.Second))
			var b [5]byte
			_, err = io.ReadFull(c, b[:])
			c.Close()
			if err == nil && b[4] == 10 {
				return nil
			}
		}
		select {
		case <-s.exited:
			tail, _ := os.ReadFile(s.log)
			if len(tail) > 2000 {
				tail = tail[len(tail)-2000:]
			}
			return fmt.Errorf("MariaDB ended at its start; its log says:\n%s", tail)
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(25 * time.Millisecond):
		}
	}
	return fmt.Errorf("MariaDB does not answer; see %s", s.log)
}

// DSN gives the address of one of its databases.
func (s *Server) DSN(db string) string {
	return fmt.Sprintf("%s:%s@tcp(%s)/%s", s.User, s.Password, s.Addr, db)
}

// Stop ends the server and waits for it.
func (s *Server) Stop() error {
	if s == nil || s.cmd.Process == nil {
		return nil
	}
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.exited:
		return nil
	case <-time.After(30 * time.Second):
		_ = s.cmd.Process.Kill()
		<-s.exited
		return errors.New("MariaDB had to be killed")
	}
}

func secretText() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// MakeDatabase makes a database and a user who owns it.
func (s *Server) MakeDatabase(ctx context.Context, name, user, password string) error {
	db, err := sql.Open("mysql", s.DSN(""))
	if err != nil {
		return err
	}
	defer db.Close()
	if !plainName.MatchString(name) || !plainName.MatchString(user) || !plainName.MatchString(password) {
		return fmt.Errorf("database, user and password take letters, digits and underscores")
	}
	for _, q := range []string{
		fmt.Sprintf("CREATE DATABASE IF NOT EXISTS %s CHARACTER SET utf8mb4", name),
		fmt.Sprintf("CREATE OR REPLACE USER '%s'@'127.0.0.1' IDENTIFIED BY '%s'", user, password),
		fmt.Sprintf("GRANT ALL PRIVILEGES ON %s.* TO '%s'@'127.0.0.1'", name, user),
	} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

var plainName = regexp.MustCompile(`^[A-Za-z0-9_]+$`)
