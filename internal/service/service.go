// Package service opens a service: its database, its topics, and its parts, each of which has a package below: topics, jobs,
// samples, declare, questions and secrets, all over base. It knows nothing of HTTP or of the terminal.
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
	"sync/atomic"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/connect/roots"
	"fiume/internal/core/sql"
	"fiume/internal/disk"
	"fiume/internal/service/alerts"
	"fiume/internal/service/backup"
	"fiume/internal/service/base"
	"fiume/internal/service/boards"
	"fiume/internal/service/databases"
	"fiume/internal/service/declare"
	"fiume/internal/service/forget"
	"fiume/internal/service/jobs"
	"fiume/internal/service/people"
	"fiume/internal/service/questions"
	"fiume/internal/service/samples"
	"fiume/internal/service/secrets"
	"fiume/internal/service/topics"
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
	// ActivityDays is how long entries of the activity log are kept; 0: for ever.
	ActivityDays int
	// Secrets is a directory whose files are secrets, beside those that are set; "": there is none.
	Secrets string
}

// Service is an open service: its parts, each with its own work.
type Service struct {
	Topics      *topics.Topics
	Jobs        *jobs.Jobs
	Samples     *samples.Samples
	Definitions *declare.Definitions
	Questions   *questions.Questions
	Boards      *boards.Boards
	Alerts      *alerts.Alerts
	Forgetter   *forget.Forgetter
	Secrets     *secrets.Vault
	Databases   *databases.Databases
	People      *people.People

	base      *base.Base
	dsn       string // of the records
	store     *catalog.Store
	server    *catalog.Server // nil with a DSN of one's own
	opened    time.Time
	jobMemory int64
	ending    atomic.Bool

	background context.CancelFunc // ends what looks at jobs and topics now and then
	idle       sync.WaitGroup
}

// Open opens a service: its database, its topics and its definitions. Jobs that should run are
// started by Resume.
func Open(ctx context.Context, c Config) (*Service, error) {
	b := &base.Base{Dir: c.Dir, Log: cmp.Or(c.Log, slog.New(slog.DiscardHandler)), Turns: base.NewTurns(cmp.Or(c.QueryMemory, 1<<30))}
	s := &Service{base: b, opened: time.Now(), jobMemory: cmp.Or(c.Memory, 1<<30)}
	if err := s.open(ctx, c); err != nil {
		return nil, errors.Join(err, s.close())
	}
	looking, end := context.WithCancel(context.Background())
	s.background = end
	s.idle.Go(func() { s.Samples.WatchDrift(looking, time.Minute) })
	s.idle.Go(func() { s.Jobs.KeepHistory(looking) })
	s.idle.Go(func() { s.Topics.Measure(looking) })
	s.idle.Go(func() { s.People.Maintain(looking) })
	s.idle.Go(func() { s.Alerts.Watch(looking) })
	if c.ActivityDays > 0 {
		s.idle.Go(func() { s.forgetActivity(looking, time.Duration(c.ActivityDays)*24*time.Hour) })
	}
	return s, nil
}

func (s *Service) open(ctx context.Context, c Config) (err error) {
	b := s.base
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return err
	}
	if len(c.Files) == 0 {
		c.Files = []string{filepath.Join(c.Dir, "files")}
	}
	if b.Files, err = roots.New(c.Files...); err != nil {
		return err
	}
	said := func(text string, args ...any) { b.Log.Error(text, args...) }
	// The topics' lock also keeps a second service out of the directory.
	if b.TopicLog, err = topiclog.OpenOn(disk.OS{}, filepath.Join(c.Dir, "topics"), said); err != nil {
		return err
	}
	backup.Sweep(c.Dir)
	if b.Identity, err = identityOf(c.Dir); err != nil {
		return err
	}
	dsn := c.DSN
	if dsn == "" {
		if s.server, err = catalog.StartServer(ctx, filepath.Join(c.Dir, "mariadb"), said); err != nil {
			return err
		}
		dsn = s.server.DSN("fiume")
		b.Databases.Private, b.Databases.PrivateUser, b.Databases.PrivatePassword = s.server.Addr, s.server.User, s.server.Password
	}
	if s.store, err = catalog.Open(context.WithoutCancel(ctx), dsn); err != nil {
		return err
	}
	if c.DSN != "" {
		if err := s.store.Claim(ctx); err != nil {
			return err
		}
	}
	s.dsn = dsn
	b.Store = s.store
	if s.Secrets, err = secrets.Open(b); err != nil {
		return err
	}
	s.Secrets.Files = c.Secrets
	b.Databases.Secret = s.Secrets.OpenFor
	if s.People, err = people.Open(b); err != nil {
		return err
	}
	var private databases.Server
	if s.server != nil {
		private = s.server
	}
	s.Databases = databases.New(b, private, s.Secrets)
	if err := declare.Load(b); err != nil {
		return err
	}
	s.Topics = topics.New(b)
	if s.Jobs, err = jobs.New(b, s.Topics, cmp.Or(c.Memory, 1<<30)); err != nil {
		return err
	}
	s.Samples = samples.New(b, s.Topics, s.Jobs)
	s.Definitions = declare.New(b, s.Topics, s.Samples, s.Jobs)
	s.Questions = questions.New(b, s.Topics, s.Samples, s.Jobs, s.Definitions)
	s.Forgetter = forget.New(b, s.Samples, s.Jobs)
	s.Questions.Own = s.Own
	s.Boards = boards.New(b)
	if s.Alerts, err = alerts.New(b); err != nil {
		return err
	}
	s.Alerts.Now, s.Alerts.Findings = s.Questions.Now, s.findings()
	s.Definitions.Users = func(kind, name string) []string {
		if kind == sql.KindSink && s.Alerts.Uses(name) {
			return []string{"the alerts that every service has (fiume alert tell)"}
		}
		return nil
	}
	return nil
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
	return name, base.WriteWhole(path, []byte(name+"\n"))
}

// Identity is the name that the service has had since its data directory was first used.
func (s *Service) Identity() string { return s.base.Identity }

// Resume starts the jobs that were running when the service last ended.
func (s *Service) Resume() { s.Jobs.Resume() }

// Close stops all jobs, each after a last checkpoint, then closes topics and database.
func (s *Service) Close() error {
	s.ending.Store(true)
	if s.background != nil {
		s.background()
		s.idle.Wait()
	}
	s.Boards.Close()
	s.Jobs.Close()
	return s.close()
}

func (s *Service) close() error {
	var errs []error
	if s.base.TopicLog != nil {
		errs = append(errs, s.base.TopicLog.Close())
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
		return "", base.Errorf(base.ErrRefused, "the service has no private server")
	}
	return s.server.DSN(name), s.server.MakeDatabase(ctx, name, user, password)
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
	for _, j := range s.Jobs.List() {
		h.Jobs++
		if j.State == jobs.StateRunning {
			h.Running++
		}
	}
	return h
}

// Vitals say whether the service lives.
type Vitals struct {
	Uptime   time.Duration
	Database error // why the catalog's database does not answer; nil: it does
	Free     int64 // bytes on the disk of the service's directory; -1: not known
}

// Vitals measures them.
func (s *Service) Vitals(ctx context.Context) Vitals {
	v := Vitals{Uptime: time.Since(s.opened), Database: s.store.Ping(ctx), Free: -1}
	if free, err := disk.Free(s.base.Dir); err == nil {
		v.Free = free
	}
	return v
}

// leastFree is how much of the disk must be free: below it checkpoints and topics may fail at any moment.
const leastFree = 64 << 20

// Unready says why the service cannot do its work just now; nothing where it can.
func (s *Service) Unready(ctx context.Context) (reasons []string) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	v := s.Vitals(ctx)
	if s.ending.Load() {
		reasons = append(reasons, "the service is ending")
	}
	if v.Database != nil {
		reasons = append(reasons, "the catalog's database does not answer: "+v.Database.Error())
	}
	if v.Free >= 0 && v.Free < leastFree {
		reasons = append(reasons, fmt.Sprintf("only %d MB are free on the disk of the service's directory", v.Free>>20))
	}
	return reasons
}

// Activity gives entries of the activity log, the newest first: those before an entry, 0 for all, and about an object,
// "" for all.
func (s *Service) Activity(before uint, object string, limit int) ([]catalog.Activity, error) {
	return s.store.Activity(before, object, min(max(limit, 1), 1000))
}

// forgetActivity removes what is older than an age from the activity log, now and every hour.
func (s *Service) forgetActivity(ctx context.Context, age time.Duration) {
	tick := time.NewTicker(time.Hour)
	defer tick.Stop()
	for {
		n, err := s.store.ForgetActivity(time.Now().Add(-age))
		if err != nil {
			s.base.Log.Error("old entries of the activity log cannot be removed", "error", err)
		} else if n > 0 {
			s.base.Log.Info("old entries of the activity log were removed", "entries", n)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// ActivityBehind gives entries of the activity log in their order, those behind an entry.
func (s *Service) ActivityBehind(id uint, limit int) ([]catalog.Activity, error) {
	return s.store.ActivityBehind(id, limit)
}

// ProveActivity follows the chain of the activity log.
func (s *Service) ProveActivity() (catalog.Proof, error) { return s.store.Prove() }

// Roots are the names of the directories for files.
func (s *Service) Roots() []string { return s.base.Files.Names() }
