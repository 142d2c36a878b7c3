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
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"fiume/internal/loopback"
)

// Server is a private MariaDB server on loopback, with its own data directory and a random password.
type Server struct {
	Addr     string // host:port
	User     string
	Password string

	dir, daemon, log string
	root             []string
	tell             func(text string, args ...any)
	stop, done       chan struct{} // to end looking after it; looking has ended

	stopping sync.Once

	mu      sync.Mutex
	process *os.Process
	exited  chan struct{}
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

// StartServer starts the private server over a directory, initialising it the first time. While it runs it is looked
// after: one that ends, or does not answer any more, is started again at the same address. tell is told of that.
func StartServer(ctx context.Context, dir string, tell func(text string, args ...any)) (*Server, error) {
	programs := []string{"mariadbd", "mysqld"}
	if p := os.Getenv("FIUME_MARIADBD"); p != "" {
		programs = []string{p}
	}
	if tell == nil {
		tell = func(string, ...any) {}
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
	s := &Server{User: "fiume", Password: secretText(), log: filepath.Join(dir, "log"), dir: dir, daemon: daemon, tell: tell, stop: make(chan struct{}), done: make(chan struct{})}
	data := s.data()
	if err := endFormer(ctx, data); err != nil {
		return nil, err
	}
	s.sweep()
	if os.Geteuid() == 0 {
		s.root = []string{"--user=root"}
	}
	if _, err := os.Stat(filepath.Join(data, "ready")); err != nil {
		if err := initialise(ctx, data, s.root); err != nil {
			return nil, err
		}
	}
	port, err := loopback.FreePort()
	if err != nil {
		return nil, err
	}
	s.Addr = net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
	if err := s.start(ctx); err != nil {
		return nil, err
	}
	go s.watch()
	return s, nil
}

func (s *Server) data() string { return filepath.Join(s.dir, "data") }

// sweep removes the directory for sockets that a service left that was killed.
func (s *Server) sweep() {
	name := filepath.Join(s.dir, "sockets")
	if b, err := os.ReadFile(name); err == nil {
		if old := strings.TrimSpace(string(b)); strings.HasPrefix(filepath.Base(old), "fiume-db-") {
			_ = os.RemoveAll(old)
		}
	}
	_ = os.Remove(name)
}

// start starts the server's process and waits until it answers.
func (s *Server) start(ctx context.Context) error {
	// The statements run before the server takes connections, so it is never open without a password.
	initFile := filepath.Join(s.dir, "init.sql")
	q := func(format string, args ...any) string { return fmt.Sprintf(format, args...) + ";\n" }
	stmts := "SET sql_log_bin=0;\nCREATE DATABASE IF NOT EXISTS fiume CHARACTER SET utf8mb4;\n" +
		q("DELETE FROM mysql.global_priv WHERE User='' OR (User='root' AND Host<>'localhost')") + "FLUSH PRIVILEGES;\n" +
		q("ALTER USER 'root'@'localhost' IDENTIFIED BY '%s'", s.Password) +
		q("CREATE OR REPLACE USER '%s'@'127.0.0.1' IDENTIFIED BY '%s'", s.User, s.Password) +
		q("GRANT ALL PRIVILEGES ON *.* TO '%s'@'127.0.0.1' WITH GRANT OPTION", s.User)
	if err := os.WriteFile(initFile, []byte(stmts), 0o600); err != nil {
		return err
	}
	defer os.Remove(initFile)
	logFile, err := os.OpenFile(s.log, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	// A socket's path has to be short. Temporary tables stand there too: servers that share a directory for them
	// delete each other's when they start.
	sockets, err := os.MkdirTemp("", "fiume-db-")
	if err != nil {
		return err
	}
	_ = os.WriteFile(filepath.Join(s.dir, "sockets"), []byte(sockets), 0o600) // for sweep
	_, port, _ := net.SplitHostPort(s.Addr)
	args := append([]string{"--no-defaults", dataArg + s.data(), "--socket=" + filepath.Join(sockets, "s"), "--tmpdir=" + sockets, "--bind-address=127.0.0.1",
		"--port=" + port, "--skip-name-resolve", "--character-set-server=utf8mb4", "--performance-schema=OFF",
		"--init-file=" + initFile, "--pid-file=" + filepath.Join(s.dir, "pid"), "--innodb-flush-log-at-trx-commit=1", "--max-connections=200",
		// The changes of its tables can be followed, for as long as the log reaches back.
		"--log-bin=changes", "--binlog-format=ROW", "--binlog-row-image=FULL", "--binlog-row-metadata=FULL", "--server-id=1", "--binlog-expire-logs-seconds=86400", "--max-binlog-size=67108864"}, s.root...)
	cmd := exec.Command(s.daemon, args...)
	cmd.Stdout, cmd.Stderr = logFile, logFile
	// It gets no Ctrl-C of the terminal, since it must outlive the jobs that write to it; and it ends
	// when this process dies in whatever way.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	exited := make(chan struct{})
	started := make(chan error)
	go func() { // the death signal belongs to the thread that started the process
		runtime.LockOSThread()
		if err := cmd.Start(); err != nil {
			started <- err
			return
		}
		started <- nil
		_ = cmd.Wait()
		os.RemoveAll(sockets)
		close(exited)
	}()
	if err := <-started; err != nil {
		os.RemoveAll(sockets)
		return fmt.Errorf("MariaDB cannot be started: %w", err)
	}
	s.mu.Lock()
	s.process, s.exited = cmd.Process, exited
	s.mu.Unlock()
	if err := s.ready(ctx, exited); err != nil {
		return errors.Join(err, end(cmd.Process, exited))
	}
	return nil
}

// How the server is looked after.
const (
	answersIn    = 5 * time.Second
	restartAfter = time.Second // and twice as long after each start that fails, up to a minute
)

// Tests look more often.
var (
	startsWithin = time.Minute // without a word in its log
	lookEvery    = 2 * time.Second
	hungAfter    = 40 * time.Second // without an answer it is killed
)

// watch starts the server again when it has ended, and kills it when it hangs.
func (s *Server) watch() {
	defer close(s.done)
	wait := restartAfter
	heard := time.Now()
	for {
		s.mu.Lock()
		process, exited := s.process, s.exited
		s.mu.Unlock()
		select {
		case <-s.stop:
			return
		case <-exited:
		case <-time.After(lookEvery):
			if s.answers(answersIn) {
				heard, wait = time.Now(), restartAfter
				continue
			}
			if time.Since(heard) < hungAfter {
				continue
			}
			s.tell("the private MariaDB does not answer, and is killed", "seconds", int(time.Since(heard).Seconds()))
			_ = process.Kill()
			<-exited
		}
		s.tell("the private MariaDB has ended, and is started again", "log", s.tail(500))
		for {
			select {
			case <-s.stop:
				return
			case <-time.After(wait):
			}
			wait = min(2*wait, time.Minute)
			ctx, cancel := context.WithCancel(context.Background())
			go func() {
				select {
				case <-s.stop:
					cancel()
				case <-ctx.Done():
				}
			}()
			err := endFormer(ctx, s.data())
			if err == nil {
				err = s.start(ctx)
			}
			cancel()
			if err == nil {
				s.tell("the private MariaDB runs again")
				heard = time.Now()
				break
			}
			s.tell("the private MariaDB cannot be started; it is tried again", "error", err)
		}
	}
}

// answers says whether the server greets who connects to it.
func (s *Server) answers(within time.Duration) bool {
	c, err := net.DialTimeout("tcp", s.Addr, within)
	if err != nil {
		return false
	}
	defer c.Close()
	_ = c.SetReadDeadline(time.Now().Add(within))
	var b [5]byte
	_, err = io.ReadFull(c, b[:])
	return err == nil // also where it says that it has too many connections
}

// tail gives the end of the server's log.
func (s *Server) tail(n int) string {
	b, _ := os.ReadFile(s.log)
	return string(b[max(0, len(b)-n):])
}

func initialise(ctx context.Context, data string, root []string) error {
	install, err := find("mariadb-install-db", "mysql_install_db")
	if err != nil {
		return err
	}
	if err := os.RemoveAll(data); err != nil { // an initialisation that did not end
		return err
	}
	args := append([]string{"--no-defaults", dataArg + data, "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve"}, root...)
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

// dataArg begins the argument by which a server over a directory is known.
const dataArg = "--datadir="

// users lists the processes that were started over a data directory: servers, and what initialises it.
func users(data string) (pids []int) {
	procs, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, p := range procs {
		line, err := os.ReadFile(p)
		if err != nil || !slices.Contains(strings.Split(string(line), "\x00"), dataArg+data) {
			continue
		}
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(p)))
		st, serr := os.ReadFile(filepath.Join(filepath.Dir(p), "stat"))
		if err == nil && serr == nil && pid != os.Getpid() && !bytes.Contains(st, []byte(") Z ")) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// How long what a killed service left behind is waited for before it is killed.
const formerMayTake = 10 * time.Second

// endFormer ends the processes that a killed service left behind over the data directory: first they are asked to, then
// they are killed, since one that is asked while it starts may wait for ever. Their data is safe either way.
func endFormer(ctx context.Context, data string) error {
	asked := map[int]bool{}
	for began := time.Now(); ; {
		pids := users(data)
		if len(pids) == 0 {
			return nil
		}
		for _, pid := range pids {
			switch {
			case time.Since(began) > formerMayTake:
				_ = syscall.Kill(pid, syscall.SIGKILL)
			case !asked[pid]:
				asked[pid] = true
				_ = syscall.Kill(pid, syscall.SIGTERM)
			}
		}
		if time.Since(began) > 6*formerMayTake {
			return fmt.Errorf("other processes still use %s, and cannot be ended: %v", data, pids)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// ready waits until the server answers. What it has to recover after a crash may take long: as long as its log goes on it is waited for.
func (s *Server) ready(ctx context.Context, exited chan struct{}) error {
	size, heard := int64(-1), time.Now()
	for time.Since(heard) < startsWithin {
		if s.answers(time.Second) {
			return nil
		}
		if st, err := os.Stat(s.log); err == nil && st.Size() != size {
			size, heard = st.Size(), time.Now()
		}
		select {
		case <-exited:
			return fmt.Errorf("MariaDB ended at its start; its log says:\n%s", s.tail(2000))
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(25 * time.Millisecond):
		}
	}
	return fmt.Errorf("MariaDB does not answer, and has said nothing for %s; see %s", startsWithin, s.log)
}

// DSN gives the address of one of its databases.
func (s *Server) DSN(db string) string {
	return fmt.Sprintf("%s:%s@tcp(%s)/%s", s.User, s.Password, s.Addr, db)
}

// Stop ends the server and waits for it.
func (s *Server) Stop() error {
	if s == nil {
		return nil
	}
	s.stopping.Do(func() { close(s.stop) })
	<-s.done
	s.mu.Lock()
	process, exited := s.process, s.exited
	s.mu.Unlock()
	return end(process, exited)
}

// end asks a process to end, and kills it where it does not.
func end(process *os.Process, exited chan struct{}) error {
	_ = process.Signal(syscall.SIGTERM)
	select {
	case <-exited:
		return nil
	case <-time.After(30 * time.Second):
		_ = process.Kill()
		<-exited
		return errors.New("MariaDB had to be killed")
	}
}

func secretText() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

// Database is one of the databases on the private server.
type Database struct {
	Name   string   `json:"name"`
	Tables int      `json:"tables"`
	Bytes  int64    `json:"bytes" doc:"of data and indexes, as the server reckons"`
	Users  []string `json:"users" doc:"who may do everything in it"`
}

// ownDatabases are the server's, and the catalog's.
var ownDatabases = []string{"mysql", "information_schema", "performance_schema", "sys", "fiume"}

// Databases lists the databases but for its own ones and the catalog.
func (s *Server) Databases(ctx context.Context) ([]Database, error) {
	db, err := sql.Open("mysql", s.DSN(""))
	if err != nil {
		return nil, err
	}
	defer db.Close()
	out := []Database{}
	rows, err := db.QueryContext(ctx, "SELECT s.schema_name, COUNT(t.table_name), COALESCE(SUM(t.data_length + t.index_length), 0) FROM information_schema.schemata s LEFT JOIN information_schema.tables t ON t.table_schema = s.schema_name GROUP BY s.schema_name ORDER BY s.schema_name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		d := Database{Users: []string{}}
		if err := rows.Scan(&d.Name, &d.Tables, &d.Bytes); err != nil {
			return nil, err
		}
		if !slices.Contains(ownDatabases, d.Name) {
			out = append(out, d)
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	for i := range out {
		users, err := db.QueryContext(ctx, "SELECT user FROM mysql.db WHERE db = ? ORDER BY user", grantable(out[i].Name))
		if err != nil {
			return nil, err
		}
		for users.Next() {
			var u string
			if err := users.Scan(&u); err != nil {
				return nil, errors.Join(err, users.Close())
			}
			out[i].Users = append(out[i].Users, u)
		}
		if err := errors.Join(users.Err(), users.Close()); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// DropDatabase deletes a database with all that is in it, and those of its users who have no other one.
func (s *Server) DropDatabase(ctx context.Context, name string) error {
	all, err := s.Databases(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(d Database) bool { return d.Name == name })
	if i < 0 {
		return fmt.Errorf("there is no database %q", name)
	}
	db, err := sql.Open("mysql", s.DSN(""))
	if err != nil {
		return err
	}
	defer db.Close()
	statements := []string{"DROP DATABASE `" + strings.ReplaceAll(name, "`", "``") + "`"}
	for _, u := range all[i].Users {
		more := slices.ContainsFunc(all, func(d Database) bool { return d.Name != name && slices.Contains(d.Users, u) })
		if plainName.MatchString(u) {
			statements = append(statements, fmt.Sprintf("REVOKE ALL PRIVILEGES ON `%s`.* FROM '%s'@'127.0.0.1'", grantable(name), u))
			if !more && u != s.User {
				statements = append(statements, fmt.Sprintf("DROP USER IF EXISTS '%s'@'127.0.0.1'", u))
			}
		}
	}
	for _, q := range statements {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
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
		// A user that is there stays it: jobs that connect just now may, and what else it owns it keeps.
		fmt.Sprintf("CREATE USER IF NOT EXISTS '%s'@'127.0.0.1' IDENTIFIED BY '%s'", user, password),
		fmt.Sprintf("ALTER USER '%s'@'127.0.0.1' IDENTIFIED BY '%s'", user, password),
		fmt.Sprintf("GRANT ALL PRIVILEGES ON `%s`.* TO '%s'@'127.0.0.1'", grantable(name), user),
	} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// grantable is the name of a database in GRANT, where an underscore stands for any letter: unescaped, the owner of f_ume would own fiume.
func grantable(name string) string { return strings.ReplaceAll(name, "_", `\_`) }

var plainName = regexp.MustCompile(`^[A-Za-z0-9_]+$`)
