// Package service is what the service does: it keeps definitions, runs jobs and live queries, takes
// checkpoints, and looks after topics and secrets. It knows nothing of HTTP or of the terminal.
package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/connect"
	"fiume/internal/connect/files"
	"fiume/internal/connect/mariadb"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/disk"
	"fiume/internal/topiclog"
)

// Config is how a service is opened.
type Config struct {
	Dir string // data directory
	DSN string // a database for the catalog; "" starts a private server
	Log *slog.Logger
	// Memory is how many bytes of state a job may hold in memory where it does not say so itself; 0: 1 GiB. More of it
	// waits on disk.
	Memory int64
	// QueryMemory is how many bytes of state all live queries, tries and other questions may hold together; 0: 1 GiB.
	QueryMemory int64
	// Files are the directories below which addresses of FILES lie; the first is where relative ones begin. None: the
	// directory files of the data directory.
	Files []string
}

// Service is an open service.
type Service struct {
	dir    string
	log    *slog.Logger
	server *catalog.Server // nil with a DSN of one's own
	store  *catalog.Store
	topics *topiclog.Log
	files  *files.Roots
	// identity tells the services apart that write into one place.
	identity  string
	secrets   *vault
	memory    int64 // of the state of a job
	questions *questions
	opened    time.Time

	defining sync.Mutex // one change of the definitions and of jobs' texts at a time; held while the catalog is written

	mu    sync.Mutex
	cat   *plan.Catalog
	defs  []catalog.Definition
	jobs  map[string]*job
	drift drifts
	rates map[string]topicRate

	background context.CancelFunc // ends what looks at jobs and topics now and then
	idle       sync.WaitGroup
}

// Kinds of errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("conflict")
	ErrRefused  = errors.New("refused")
	ErrBusy     = errors.New("busy")
)

// kindError gives an error a kind without changing its text.
type kindError struct {
	kind error
	text string
}

func (e *kindError) Error() string        { return e.text }
func (e *kindError) Is(target error) bool { return target == e.kind }

func errorf(kind error, format string, args ...any) error {
	return &kindError{kind, fmt.Sprintf(format, args...)}
}

// Open opens a service: its database, its topics and its definitions. Jobs that should run are
// started by Resume.
func Open(ctx context.Context, c Config) (*Service, error) {
	s := &Service{dir: c.Dir, log: c.Log, jobs: map[string]*job{}, memory: cmp.Or(c.Memory, 1<<30), opened: time.Now(), drift: drifts{}, rates: map[string]topicRate{}}
	s.questions = newQuestions(cmp.Or(c.QueryMemory, 1<<30))
	if s.log == nil {
		s.log = slog.New(slog.DiscardHandler)
	}
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return nil, err
	}
	var err error
	if len(c.Files) == 0 {
		c.Files = []string{filepath.Join(c.Dir, "files")}
	}
	if s.files, err = files.NewRoots(c.Files...); err != nil {
		return nil, err
	}
	// The topics' lock also keeps a second service out of the directory.
	if s.topics, err = topiclog.OpenOn(disk.OS{}, filepath.Join(c.Dir, "topics"), func(text string, args ...any) { s.log.Error(text, args...) }); err != nil {
		return nil, err
	}
	if s.identity, err = identityOf(c.Dir); err != nil {
		return nil, errors.Join(err, s.close())
	}
	dsn := c.DSN
	if dsn == "" {
		if s.server, err = catalog.StartServer(ctx, filepath.Join(c.Dir, "mariadb"), func(text string, args ...any) { s.log.Error(text, args...) }); err != nil {
			return nil, errors.Join(err, s.close())
		}
		dsn = s.server.DSN("fiume")
	}
	if s.store, err = catalog.Open(context.WithoutCancel(ctx), dsn); err != nil {
		return nil, errors.Join(err, s.close())
	}
	if c.DSN != "" {
		if err := s.store.Claim(ctx); err != nil {
			return nil, errors.Join(err, s.close())
		}
	}
	if s.secrets, err = openVault(c.Dir, s.store, s.log); err != nil {
		return nil, errors.Join(err, s.close())
	}
	if err := s.load(); err != nil {
		return nil, errors.Join(err, s.close())
	}
	looking, end := context.WithCancel(context.Background())
	s.background = end
	s.idle.Go(func() { s.watchDrift(looking, time.Minute) })
	s.idle.Go(func() { s.keepHistory(looking) })
	return s, nil
}

// identityOf gives the name that a data directory got when it was first used.
func identityOf(dir string) (string, error) {
	path := filepath.Join(dir, "identity")
	b, err := os.ReadFile(path)
	if name := strings.TrimSpace(string(b)); err == nil && name != "" {
		return name, nil
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	name := rand.Text()
	return name, writeWhole(path, []byte(name+"\n"))
}

// writeWhole writes a file so that after a crash it is there whole, or as it was.
func writeWhole(path string, b []byte) error {
	fs := disk.OS{}
	if err := disk.Write(fs, path+".new", b); err != nil {
		return err
	}
	if err := os.Chmod(path+".new", 0o600); err != nil {
		return err
	}
	return errors.Join(fs.Rename(path+".new", path), fs.SyncDir(filepath.Dir(path)))
}

// load binds the definitions and the jobs kept in the catalog.
func (s *Service) load() error {
	defs, err := s.store.Definitions()
	if err != nil {
		return err
	}
	s.defs = defs
	s.cat = plan.NewCatalog(connect.Places())
	for _, d := range defs {
		script, err := sql.Parse(d.Name, d.SQL, nil)
		if err == nil {
			errs := &sql.Errors{File: d.Name, Text: d.SQL}
			for _, st := range script.Statements {
				s.cat.Define(st, errs)
			}
			err = errs.Err()
		}
		if err != nil {
			s.log.Error("a definition cannot be read any more", "name", d.Name, "error", err)
		}
	}
	jobs, err := s.store.Jobs()
	if err != nil {
		return err
	}
	for _, j := range jobs {
		s.jobs[j.Name] = s.newJob(j)
	}
	return nil
}

// current gives what is declared. It is never changed: a change puts another one in its place. So plans are made of it
// without a lock, however long that takes.
func (s *Service) current() *plan.Catalog {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.cat
}

// Resume starts the jobs that were running when the service last ended.
func (s *Service) Resume() {
	for _, j := range s.all() {
		if row := j.record(); row.Wanted == wantRunning && row.State != stateFinished {
			_ = j.tell(context.Background(), func() error { j.start(); return nil })
		}
	}
}

// Close stops all jobs, each after a last checkpoint, then closes topics and database.
func (s *Service) Close() error {
	if s.background != nil {
		s.background()
		s.idle.Wait()
	}
	var wg sync.WaitGroup
	for _, j := range s.all() {
		wg.Go(j.leave)
	}
	wg.Wait()
	return s.close()
}

func (s *Service) close() error {
	var errs []error
	if s.topics != nil {
		errs = append(errs, s.topics.Close())
	}
	if s.store != nil {
		errs = append(errs, s.store.Close())
	}
	return errors.Join(append(errs, s.server.Stop())...)
}

// Database gives a DSN of a database on the private server, making it where it is not there. It is
// for the demo, which plays the race's own database.
func (s *Service) Database(ctx context.Context, name, user, password string) (string, error) {
	if s.server == nil {
		return "", errorf(ErrRefused, "the service has no private server")
	}
	return s.server.DSN(name), s.server.MakeDatabase(ctx, name, user, password)
}

func (s *Service) access() mariadb.Access {
	a := mariadb.Access{Secret: s.secrets.openFor}
	if s.server != nil {
		a.Private = s.server.Addr
	}
	return a
}

// jobOpener opens what a job reads and writes.
func (s *Service) jobOpener(name string) *connect.Opener {
	o := s.opener()
	o.Spools = filepath.Join(s.dir, stateDir(name), "spools")
	o.Writer = fmt.Sprintf("job %s of service %s", name, s.identity)
	return o
}

func (s *Service) opener() *connect.Opener {
	return &connect.Opener{Topics: s.topics, MariaDB: s.access(), Files: s.files, Durable: true}
}

// Health says how the service is.
type Health struct {
	OK       bool   `json:"ok" doc:"whether the service can do its work"`
	Version  string `json:"version"`
	Database string `json:"database" doc:"ok, or what is wrong with the catalog's database"`
	Private  bool   `json:"private_database" doc:"whether the service started the database itself"`
	Jobs     int    `json:"jobs"`
	Running  int    `json:"running"`
	Uptime   int64  `json:"uptime_seconds"`
}

// Version is the version of the program.
const Version = "0.1.0"

// Health looks at the service.
func (s *Service) Health(ctx context.Context) Health {
	h := Health{OK: true, Version: Version, Database: "ok", Private: s.server != nil, Uptime: int64(time.Since(s.opened).Seconds())}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if err := s.store.Ping(ctx); err != nil {
		h.OK, h.Database = false, err.Error()
	}
	for _, j := range s.Jobs() {
		h.Jobs++
		if j.State == stateRunning {
			h.Running++
		}
	}
	return h
}

// Activity gives entries of the activity log, the newest first: those before an entry, 0 for all, and about an object,
// "" for all.
func (s *Service) Activity(before uint, object string, limit int) ([]catalog.Activity, error) {
	return s.store.Activity(before, object, min(max(limit, 1), 1000))
}

// note adds to the activity log. A log that cannot be written stops nothing.
func (s *Service) note(actor, action, object, detail string) {
	if err := s.store.Note(actor, action, clipText(object, longestName), clipText(detail, 20_000)); err != nil { // as much as the catalog takes
		s.log.Error("the activity log cannot be written", "error", err)
	}
}
