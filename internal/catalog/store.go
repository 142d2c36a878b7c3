// Package catalog is what the service remembers, in MariaDB: definitions, jobs and their versions,
// checkpoints' entries, activity and secrets.
package catalog

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	driver "github.com/go-sql-driver/mysql"
	"gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"
)

// Definition is a declaration or a view, as it was written.
type Definition struct {
	ID        uint   `gorm:"primaryKey"` // in the order of declaration
	Kind      string `gorm:"size:20;not null"`
	Name      string `gorm:"size:190;not null;uniqueIndex"`
	SQL       string `gorm:"type:longtext;not null"`
	CreatedAt time.Time
	UpdatedAt time.Time
}

// Job is a job: what it should be doing, and what it was last seen doing.
type Job struct {
	Name    string `gorm:"primaryKey;size:190"`
	SQL     string `gorm:"type:longtext;not null"`
	Version int    `gorm:"not null"`
	Wanted  string `gorm:"size:20;not null"` // running or stopped
	State   string `gorm:"size:20;not null"`
	Reason  string `gorm:"type:text"`
	Status  string `gorm:"type:longtext"` // the ledger when it last stopped, as JSON
	// Settled says that the job stands still at its newest checkpoint: nothing was shown behind it.
	Settled bool `gorm:"not null;default:false"`
	// Parallelism is what was asked for last, in place of what the text says; 0: what the text says.
	Parallelism int `gorm:"not null;default:0"`
	CreatedAt   time.Time
	UpdatedAt   time.Time
}

// Version is one text of a job.
type Version struct {
	ID        uint      `gorm:"primaryKey" json:"-"`
	Job       string    `gorm:"size:190;not null;uniqueIndex:of_job" json:"job"`
	Version   int       `gorm:"not null;uniqueIndex:of_job" json:"version"`
	SQL       string    `gorm:"type:longtext;not null" json:"sql"`
	Actor     string    `gorm:"size:100;not null" json:"actor"`
	CreatedAt time.Time `json:"created_at"`
}

// Checkpoint is the entry of a checkpoint; its state is a file.
type Checkpoint struct {
	ID        uint   `gorm:"primaryKey"`
	Job       string `gorm:"size:190;not null;index"`
	Version   int    `gorm:"not null"`
	Number    int64  `gorm:"not null"`
	Positions string `gorm:"type:longtext;not null"` // positions of the splits and the ledger, as JSON
	File      string `gorm:"size:500;not null"`      // of the state, relative to the data directory
	Bytes     int64  `gorm:"not null"`
	TookMs    int64  `gorm:"not null"`
	CreatedAt time.Time
}

// Secret is a sealed secret.
type Secret struct {
	Name      string `gorm:"primaryKey;size:190"`
	Sealed    []byte `gorm:"type:blob;not null"`
	Address   string `gorm:"size:500;not null;default:''"` // user@host:port that it is for; "": the first that asks
	UpdatedAt time.Time
}

// Sample is a number of messages that somebody has recorded or uploaded.
type Sample struct {
	ID        uint   `gorm:"primaryKey"`
	Name      string `gorm:"size:190;not null"`
	Origin    string `gorm:"size:500;not null"` // where they are from, in words
	Format    string `gorm:"size:20;not null"`
	Header    string `gorm:"type:text"` // of CSV: the names of the fields, as JSON
	Messages  int    `gorm:"not null"`
	Bytes     int    `gorm:"not null"`
	Data      []byte `gorm:"type:longblob;not null"`       // the messages as JSON, compressed
	Space     string `gorm:"size:60;not null;default:''"`  // that it stands in
	Owner     string `gorm:"size:100;not null;default:''"` // who has kept it
	Sensitive string `gorm:"type:text"`                    // the columns that are masked for others, as JSON
	CreatedAt time.Time
}

// GroupOffset is how far a group of readers has read a partition of a topic.
type GroupOffset struct {
	Group     string `gorm:"primaryKey;size:190;column:group_name"`
	Topic     string `gorm:"primaryKey;size:200"`
	Partition int    `gorm:"primaryKey;autoIncrement:false;column:partition_number"`
	Offset    int64  `gorm:"not null;column:next_offset"` // of the next message to read
	Metadata  string `gorm:"type:text"`                   // the readers' own
	UpdatedAt time.Time
}

// SetAside is a late or rejected row of a job.
type SetAside struct {
	ID        uint       `gorm:"primaryKey" json:"id"`
	Job       string     `gorm:"size:190;not null;index:of_job_kind" json:"job"`
	Kind      string     `gorm:"size:10;not null;index:of_job_kind" json:"kind" enum:"late,rejected"`
	At        time.Time  `gorm:"precision:6" json:"at" doc:"when it was set aside"`
	Step      string     `gorm:"size:190;not null" json:"step"`
	Reason    string     `gorm:"type:text;not null" json:"reason"`
	Class     string     `gorm:"size:190;not null" json:"class" doc:"the reason without values"`
	Origin    string     `gorm:"size:500" json:"origin,omitempty"`
	Topic     string     `gorm:"size:200" json:"topic,omitempty" doc:"where the message lies, if it is in a topic"`
	Partition int        `json:"partition"`
	Offset    int64      `json:"offset"`
	EventTime *int64     `json:"event_time,omitempty" doc:"microseconds"`
	LateBy    int64      `json:"late_by,omitempty" doc:"microseconds"`
	Row       string     `gorm:"type:mediumtext;not null" json:"row" doc:"as JSON, or the message where raw is set"`
	Raw       bool       `json:"raw,omitempty"`
	SentAt    *time.Time `json:"sent_at,omitempty" doc:"when it was mended and sent again"`
	SentBy    string     `gorm:"size:100" json:"sent_by,omitempty"`
}

// ReasonCount is how many rows of a step were rejected for a kind of reason.
type ReasonCount struct {
	ID    uint   `gorm:"primaryKey"`
	Job   string `gorm:"size:190;not null;uniqueIndex:of_reason"`
	Step  string `gorm:"size:190;not null;uniqueIndex:of_reason"`
	Class string `gorm:"size:190;not null;uniqueIndex:of_reason"`
	Count int64  `gorm:"not null"`
}

// Minute is what a job did in a minute.
type Minute struct {
	ID    uint      `gorm:"primaryKey"`
	Job   string    `gorm:"size:190;not null;index:of_minute"`
	At    time.Time `gorm:"index:of_minute"`
	Point string    `gorm:"type:text;not null"` // as JSON
}

// How long the catalog's database may take, unless its DSN says otherwise (timeout, readTimeout, writeTimeout).
const (
	dialTimeout   = 5 * time.Second
	answerTimeout = 15 * time.Second
)

// Store is the open catalog.
type Store struct {
	db    *gorm.DB
	claim *sql.Conn // holds the lock of Claim; nil: there is none

	noting  sync.Mutex // one entry of the activity log at a time
	chain   string     // of the last one
	chained bool       // it is known
}

// changes are those of the records, in their order. What one has done is noted under its name, and never changed.
var changes = []*gormigrate.Migration{{
	ID: "0001 first tables",
	Migrate: func(tx *gorm.DB) error {
		return tx.Set("gorm:table_options", "CHARACTER SET utf8mb4 COLLATE utf8mb4_bin").
			AutoMigrate(&Definition{}, &Job{}, &Checkpoint{}, &Activity{}, &Secret{})
	},
}, {
	ID: "0002 versions of jobs",
	Migrate: func(tx *gorm.DB) error {
		return tx.Set("gorm:table_options", "CHARACTER SET utf8mb4 COLLATE utf8mb4_bin").AutoMigrate(&Job{}, &Version{})
	},
}, {
	ID: "0003 samples, rows set aside and history",
	Migrate: func(tx *gorm.DB) error {
		return tx.Set("gorm:table_options", "CHARACTER SET utf8mb4 COLLATE utf8mb4_bin").AutoMigrate(&Sample{}, &SetAside{}, &ReasonCount{}, &Minute{})
	},
}, {
	ID: "0004 addresses of secrets",
	Migrate: func(tx *gorm.DB) error {
		return tx.Set("gorm:table_options", "CHARACTER SET utf8mb4 COLLATE utf8mb4_bin").AutoMigrate(&Secret{})
	},
}, {
	ID: "0005 offsets of groups",
	Migrate: func(tx *gorm.DB) error {
		return tx.Set("gorm:table_options", "CHARACTER SET utf8mb4 COLLATE utf8mb4_bin").AutoMigrate(&GroupOffset{})
	},
}, {
	ID: "0006 callers and chained activity",
	Migrate: func(tx *gorm.DB) error {
		return tx.Set("gorm:table_options", "CHARACTER SET utf8mb4 COLLATE utf8mb4_bin").AutoMigrate(&Activity{}, &Kept{}, &Sample{})
	},
}, {
	ID: "0007 sensitive columns of samples",
	Migrate: func(tx *gorm.DB) error {
		return tx.Set("gorm:table_options", "CHARACTER SET utf8mb4 COLLATE utf8mb4_bin").AutoMigrate(&Sample{})
	},
}}

// Open connects to a database, given as the driver's DSN, and brings its tables up to date.
func Open(ctx context.Context, dsn string) (*Store, error) {
	c, err := driver.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("the DSN cannot be read: %w", err)
	}
	c.ParseTime, c.Loc = true, time.UTC
	// A database that hangs is as one that is away: nobody waits for it for ever.
	for limit, usual := range map[*time.Duration]time.Duration{&c.Timeout: dialTimeout, &c.ReadTimeout: answerTimeout, &c.WriteTimeout: answerTimeout} {
		*limit = cmp.Or(*limit, usual)
	}
	c.Collation = "utf8mb4_bin"
	db, err := gorm.Open(mysql.New(mysql.Config{DSNConfig: c, DefaultStringSize: 190}), &gorm.Config{Logger: logger.Discard, NowFunc: func() time.Time { return time.Now().UTC() }})
	if err != nil {
		return nil, fmt.Errorf("the database at %s cannot be opened: %w", c.Addr, err)
	}
	s := &Store{db: db.WithContext(ctx)}
	if err := tooNew(db, changes); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := gormigrate.New(db, gormigrate.DefaultOptions, changes).Migrate(); err != nil {
		return nil, errors.Join(fmt.Errorf("the catalog's tables cannot be brought up to date: %w", err), s.Close())
	}
	return s, nil
}

// Pending names the changes of the records in a database that are still to be made. It makes none.
func Pending(ctx context.Context, dsn string) (out []string, err error) {
	c, err := driver.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("the DSN cannot be read: %w", err)
	}
	db, err := gorm.Open(mysql.New(mysql.Config{DSNConfig: c}), &gorm.Config{Logger: logger.Discard})
	if err != nil {
		return nil, fmt.Errorf("the database at %s cannot be opened: %w", c.Addr, err)
	}
	s := &Store{db: db.WithContext(ctx)}
	defer func() { err = errors.Join(err, s.Close()) }()
	if err := tooNew(s.db, changes); err != nil {
		return nil, err
	}
	var done []string
	if s.db.Migrator().HasTable(gormigrate.DefaultOptions.TableName) {
		if err := s.db.Table(gormigrate.DefaultOptions.TableName).Pluck(gormigrate.DefaultOptions.IDColumnName, &done).Error; err != nil {
			return nil, err
		}
	}
	for _, m := range changes {
		if !slices.Contains(done, m.ID) {
			out = append(out, m.ID)
		}
	}
	return out, nil
}

// tooNew refuses records that a newer version has changed: this one would not know who may do what, or what else it would leave out.
func tooNew(db *gorm.DB, known []*gormigrate.Migration) error {
	if !db.Migrator().HasTable(gormigrate.DefaultOptions.TableName) {
		return nil
	}
	var done []string
	if err := db.Table(gormigrate.DefaultOptions.TableName).Order("id").Pluck(gormigrate.DefaultOptions.IDColumnName, &done).Error; err != nil {
		return err
	}
	for _, id := range done {
		if !slices.ContainsFunc(known, func(m *gormigrate.Migration) bool { return m.ID == id }) {
			return fmt.Errorf("the records were changed by a newer version (%q), which this one does not know; start that one", id)
		}
	}
	return nil
}

// Claim keeps other services out of the database, for as long as the store is open: it holds a lock of the server, on a connection
// of its own. Another that has it already is the error.
func (s *Store) Claim(ctx context.Context) error {
	db, err := s.db.DB()
	if err != nil {
		return err
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	var got *int
	err = conn.QueryRowContext(ctx, "SELECT GET_LOCK(LEFT(CONCAT('fiume ', DATABASE()), 64), 2)").Scan(&got)
	if err == nil && (got == nil || *got != 1) {
		err = errors.New("another service uses this database; give each one of its own")
	}
	if err != nil {
		return errors.Join(err, conn.Close())
	}
	s.claim = conn
	go func() { // an idle connection would be closed
		for conn.PingContext(context.Background()) == nil {
			time.Sleep(time.Minute)
		}
	}()
	return nil
}

// Close closes the connections.
func (s *Store) Close() error {
	if s.claim != nil {
		_ = s.claim.Close()
	}
	db, err := s.db.DB()
	if err != nil {
		return err
	}
	return db.Close()
}

// Ping says whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	db, err := s.db.DB()
	if err != nil {
		return err
	}
	return db.PingContext(ctx)
}

// Definitions gives all definitions in the order in which they can be bound.
func (s *Store) Definitions() (out []Definition, err error) {
	return out, s.db.Order("id").Find(&out).Error
}

// PutDefinition keeps a definition, in place of one of the same name.
func (s *Store) PutDefinition(kind, name, text string) error {
	d := Definition{Kind: kind, Name: name, SQL: text}
	return s.db.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "name"}}, DoUpdates: clause.AssignmentColumns([]string{"kind", "sql", "updated_at"})}).Create(&d).Error
}

// Redefine keeps a definition together with new versions of the jobs that go along with it, whose texts stay: all of it or
// nothing.
func (s *Store) Redefine(kind, name, text, actor string, versions []Version) error {
	return s.db.Transaction(func(tx *gorm.DB) error {
		if err := tx.Model(&Definition{}).Where("name = ?", name).Updates(map[string]any{"kind": kind, "sql": text}).Error; err != nil {
			return err
		}
		for _, v := range versions {
			v.Actor = actorName(actor)
			if err := tx.Model(&Job{}).Where("name = ?", v.Job).Update("version", v.Version).Error; err != nil {
				return err
			}
			if err := tx.Create(&v).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// DropDefinition forgets a definition.
func (s *Store) DropDefinition(name string) error {
	return s.db.Where("name = ?", name).Delete(&Definition{}).Error
}

// Jobs gives all jobs in the order of their names.
func (s *Store) Jobs() (out []Job, err error) { return out, s.db.Order("name").Find(&out).Error }

// CreateJob keeps a new job and its first version.
func (s *Store) CreateJob(j *Job, actor string) error {
	return s.db.Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(j).Error; err != nil {
			return err
		}
		return tx.Create(&Version{Job: j.Name, Version: j.Version, SQL: j.SQL, Actor: actorName(actor)}).Error
	})
}

// ReplaceJob gives a job a new version.
func (s *Store) ReplaceJob(name string, version int, sql, actor string) error {
	return s.db.Transaction(func(tx *gorm.DB) error {
		if err := tx.Model(&Job{}).Where("name = ?", name).Updates(map[string]any{"sql": sql, "version": version}).Error; err != nil {
			return err
		}
		return tx.Create(&Version{Job: name, Version: version, SQL: sql, Actor: actorName(actor)}).Error
	})
}

// Versions gives the versions of a job, the newest first.
func (s *Store) Versions(job string) (out []Version, err error) {
	return out, s.db.Where("job = ?", job).Order("version DESC").Find(&out).Error
}

// DropCheckpoints forgets a job's checkpoints and gives the files of their state.
func (s *Store) DropCheckpoints(job string) (files []string, err error) {
	return files, s.db.Transaction(func(tx *gorm.DB) error {
		if err := tx.Model(&Checkpoint{}).Where("job = ?", job).Pluck("file", &files).Error; err != nil {
			return err
		}
		return tx.Where("job = ?", job).Delete(&Checkpoint{}).Error
	})
}

// SetJob notes what a job should do, and what it does.
func (s *Store) SetJob(name string, fields map[string]any) error {
	return s.db.Model(&Job{}).Where("name = ?", name).Updates(fields).Error
}

// DropJob forgets a job and its checkpoints' entries.
func (s *Store) DropJob(name string) error {
	return s.db.Transaction(func(tx *gorm.DB) error {
		for _, of := range []any{&Checkpoint{}, &Version{}, &SetAside{}, &ReasonCount{}, &Minute{}} {
			if err := tx.Where("job = ?", name).Delete(of).Error; err != nil {
				return err
			}
		}
		return tx.Where("name = ?", name).Delete(&Job{}).Error
	})
}

// AddCheckpoint keeps a checkpoint's entry, removes those that are older than the newest keep, and
// gives the files of the ones removed.
func (s *Store) AddCheckpoint(c *Checkpoint, keep int) (removed []string, err error) {
	err = s.db.Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(c).Error; err != nil {
			return err
		}
		var all []Checkpoint
		if err := tx.Select("id", "file").Where("job = ?", c.Job).Order("number DESC").Find(&all).Error; err != nil {
			return err
		}
		for i, old := range all {
			if i < keep {
				continue
			}
			removed = append(removed, old.File)
			if err := tx.Delete(&Checkpoint{}, old.ID).Error; err != nil {
				return err
			}
		}
		return nil
	})
	return removed, err
}

// Checkpoints gives a job's checkpoints, the newest first.
func (s *Store) Checkpoints(job string) (out []Checkpoint, err error) {
	return out, s.db.Where("job = ?", job).Order("number DESC").Find(&out).Error
}

// PutSecret keeps a sealed secret.
func (s *Store) PutSecret(name, address string, sealed []byte) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&Secret{Name: name, Address: address, Sealed: sealed}).Error
}

// BindSecret gives the address that a secret is for, which is the one given where it has none yet.
func (s *Store) BindSecret(name, address string) (bound string, err error) {
	if err := s.db.Model(&Secret{}).Where("name = ? AND address = ''", name).Update("address", address).Error; err != nil {
		return "", err
	}
	var out Secret
	err = s.db.Select("address").Where("name = ?", name).Take(&out).Error
	return out.Address, err
}

// SecretNamed finds a sealed secret; nil where there is none.
func (s *Store) SecretNamed(name string) ([]byte, error) {
	var out Secret
	err := s.db.Where("name = ?", name).Take(&out).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, nil
	}
	return out.Sealed, err
}

// Secrets gives the secrets in the order of their names, without what is sealed.
func (s *Store) Secrets() (out []Secret, err error) {
	return out, s.db.Omit("sealed").Order("name").Find(&out).Error
}

// DropSecret forgets a secret and says whether it was there.
func (s *Store) DropSecret(name string) (bool, error) {
	r := s.db.Where("name = ?", name).Delete(&Secret{})
	return r.RowsAffected > 0, r.Error
}
