// Package contract says what a connector is: a kind of place outside, which is one folder below internal/connect and one entry in its list.
// What a connector can do besides is an interface that it implements or not, as with the drivers of database/sql. What others must know
// of a kind of place they ask here, or as a trait (plan.Traits); nobody asks for it by its name.
package contract

import (
	"context"
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"time"

	"fiume/internal/connect/recorded"
	"fiume/internal/connect/roots"
	"fiume/internal/connect/schemas"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
	"fiume/internal/disk"
	"fiume/internal/format"
	"fiume/internal/topiclog"
)

// Connector is a kind of place.
type Connector interface {
	// Place describes it: its word, its options by what it is used for, its traits. The checks of SQL, SHOW PLACES, completion and
	// the manual are made of this.
	Place() plan.Place
}

// Env is what a connector works with.
type Env struct {
	Topics  *topiclog.Log // the built-in topics; nil where there are none
	Secrets               // passwords
	Roots   *roots.Roots  // where files may lie; nil: anywhere
	Disk    disk.FS       // nil: that of the operating system
	Spools  string        // directory for what sinks hold back
	Writer  string        // who writes, the same in all runs of a job; "" for a run that is not continued
	Durable bool          // a job of the service, which goes on for long
	Live    bool          // a live query: streams begin now unless they say otherwise
	Piece   int           // bytes that a worker decodes at a time; 0: the default
	// Did is told what a connector has done by itself, beside what rows ask for: to what, what, and how much. nil: nobody keeps it.
	Did func(to, what, detail string)
	// Coming are built-in topics that are taken as there, since they are about to be made.
	Coming map[string]bool
}

// Secrets is how endpoints are let in.
type Secrets struct {
	// Secret gives a secret to authenticate with at an address, user@host:port, or says why it is not for that one.
	Secret  func(name, address string) (string, error)
	Private string // host:port of the service's own database server, which addresses call "private"
	// PrivateUser may read the log of that server, which has the changes of all databases: those who own one may not.
	PrivateUser, PrivatePassword string
}

// FS gives the disk.
func (e *Env) FS() disk.FS {
	if e.Disk != nil {
		return e.Disk
	}
	return disk.OS{}
}

// Reading says how the messages of a scan are read.
func (e *Env) Reading(scan *plan.Op) (*format.Reading, error) {
	return e.ReadingOf(scan.Stream, scan.OfTable, scan.Used)
}

// ReadingOf says how the messages of a stream, or of a table, are read into the columns that are used.
func (e *Env) ReadingOf(s *plan.Stream, t *plan.Table, used *plan.Use) (*format.Reading, error) {
	r := &format.Reading{Stream: s, Table: t, Used: used}
	var err error
	r.Schemas, err = e.SchemasOf(s.Schemas)
	return r, err
}

// Writing says how the rows of an output are written.
func (e *Env) Writing(out *plan.Op, fields []types.Field) (*format.Writing, error) {
	w := &format.Writing{Options: out.Sink.Options, Address: out.Sink.Address, Fields: fields}
	var err error
	w.Schemas, err = e.SchemasOf(out.Sink.Schemas)
	return w, err
}

// Registers says what the registry that a sink names gets before the first row.
func (e *Env) Registers(out *plan.Op) ([]string, error) {
	headers := out.Sink.Options.Names("headers")
	values := slices.DeleteFunc(slices.Clone(out.Fields), func(f types.Field) bool { return slices.Contains(headers, f.Name) })
	w, err := e.Writing(out, values)
	if err != nil {
		return nil, err
	}
	subject, first, news, err := w.Registers()
	switch {
	case err != nil || !news:
		return nil, err
	case first:
		return []string{fmt.Sprintf("begins the subject '%s' in the registry %s", subject, w.Schemas.Name())}, nil
	}
	return []string{fmt.Sprintf("adds a schema to the subject '%s' in the registry %s", subject, w.Schemas.Name())}, nil
}

// Fits implements plan.Place.Fits of places whose messages are in a format: it says what in the format does not go together with the columns.
func Fits(s *plan.Stream) error {
	if s.Schemas != nil {
		return nil // the messages tell
	}
	_, err := (&format.Reading{Stream: s, Used: &plan.Use{All: true}}).NewDecoder(nil)
	return err
}

// CheckReading looks whether the registry that a stream names is there, and whether its columns fit the newest schema of the subject.
func (e *Env) CheckReading(s *plan.Stream) error {
	at, err := e.SchemasOf(s.Schemas)
	if err != nil || at == nil {
		return err
	}
	subject, told := s.Options.Word("subject", ""), true
	if subject == "" {
		told = false
		if subject, err = format.SubjectOf(s.Options, s.Address); err != nil {
			return nil // messages name their schemas all the same
		}
	}
	newest, err := at.Latest(subject)
	switch {
	case err != nil:
		return err
	case newest == nil && told:
		return fmt.Errorf("the registry %s has no schema of the subject '%s'", at.Name(), subject)
	case newest == nil:
		return nil
	}
	return format.FitsSchema(s, newest)
}

// SchemasOf opens the registry behind an endpoint; nil gives nil.
func (e *Env) SchemasOf(at *plan.Endpoint) (format.Schemas, error) {
	if at == nil {
		return nil, nil
	}
	if e.Secret == nil && (at.Secret != "" || len(at.Options) > 0) {
		return nil, fmt.Errorf("endpoint %s needs secrets, which live in the service", at.Name)
	}
	return schemas.Open(at, e.Secret)
}

// Spool gives the directory for what the sink of an output holds back.
func (e *Env) Spool(out *plan.Op) string { return filepath.Join(e.Spools, url.PathEscape(out.Step)) }

// WriterOf names what writes an output, or gives "" in a run that is not continued.
func (e *Env) WriterOf(out *plan.Op) string {
	if e.Writer == "" {
		return ""
	}
	return e.Writer + ", sink " + out.Step
}

// Reader is a connector that streams and tables are read from.
type Reader interface {
	OpenSource(env *Env, scan *plan.Op) (flow.Source, error)
	// CheckSource looks, before anything runs, whether what a stream reads is there and fits.
	CheckSource(ctx context.Context, env *Env, s *plan.Stream) error
}

// Writer is a connector that sinks write to.
type Writer interface {
	OpenSink(env *Env, out *plan.Op) (flow.Sink, error)
	// CheckSink looks, before anything runs, whether what an output writes to is there and takes its rows.
	CheckSink(ctx context.Context, env *Env, out *plan.Op) error
}

// Preparer is a connector whose sinks have something made or changed at their place before the first row.
type Preparer interface {
	// Prepares says what that would be for an output whose rows fit: tables, columns. Nothing is done.
	Prepares(ctx context.Context, env *Env, out *plan.Op) ([]string, error)
}

// Rereader is a connector that reads what its sinks have written.
type Rereader interface {
	// Reread gives the address that rows of a sink are read from again.
	Reread(k *plan.Sink) string
}

// Looker is a connector whose tables can be looked up by key where they are.
type Looker interface {
	OpenLookup(env *Env, lookup *plan.Op) (step.Rows, error)
}

// Owner is a connector whose sinks write where nobody else may.
type Owner interface {
	// Owned names what a sink has for itself, in words. Two sinks with one name cannot be written at once; ok is false where it is not known.
	Owned(env *Env, s *plan.Sink) (name string, ok bool)
	// Leave gives up what the sink of an output holds, since its job is gone for good.
	Leave(env *Env, out *plan.Op) error
}

// Holder is a connector whose sources hold something for a job at their place, so that it can go on where it was.
type Holder interface {
	// LeaveSource gives up what is held for a scan of a job, which is gone for good or does not have it any more.
	LeaveSource(env *Env, scan *plan.Op) error
}

// Tester is a connector that tells in steps whether what is declared can be used.
type Tester interface {
	// Test reports what it looked at, and ends behind the first thing that is not as it should be.
	Test(ctx context.Context, env *Env, of Tested, r *Report)
}

// Tested is what a connection test is about: one of the three.
type Tested struct {
	Endpoint *plan.Endpoint
	Stream   *plan.Stream
	Table    *plan.Table // with Stream: it is read as a table
	Sink     *plan.Sink
	Output   *plan.Op // with Sink: what a job would write to it; nil where that is not known
}

// Report is what a test found, in order.
type Report struct {
	Looks []Look
}

// Look is one thing that was looked at.
type Look struct {
	What   string // reachable, allowed, exists, readable, writable, columns fit
	Err    error  // what is wrong and the way out, or nil
	Detail string // what was found
}

// Saw reports one thing, and says whether it is well.
func (r *Report) Saw(what string, err error, detail string) bool {
	r.Looks = append(r.Looks, Look{what, err, detail})
	return err == nil
}

// SawRows reports whether the newest messages of a place are rows of what is tested.
func (r *Report) SawRows(env *Env, of Tested, ms []recorded.Message, err error) {
	if err != nil || len(ms) == 0 {
		r.Saw("readable", err, "there are no messages yet")
		return
	}
	bad, reason := 0, ""
	reading, err := env.ReadingOf(of.Stream, of.Table, &plan.Use{All: true})
	if err == nil {
		bad, reason, err = recorded.BadRows(reading, ms)
	}
	switch {
	case err != nil:
	case bad == len(ms):
		err = fmt.Errorf("none of the newest %d messages is a row: %s", len(ms), reason)
	case bad > 0:
		reason = fmt.Sprintf("%d of the newest %d messages are rows; of the others, one: %s", len(ms)-bad, len(ms), reason)
	default:
		reason = fmt.Sprintf("the newest %d messages are rows", len(ms))
	}
	r.Saw("columns fit", err, reason)
}

// Sampler is a connector that shows some of what a place has, so that a declaration can be proposed and tried.
type Sampler interface {
	Sample(ctx context.Context, env *Env, w Wanted) (*Sample, error)
}

// Wanted says what to take a sample of.
type Wanted struct {
	Address string
	Via     *plan.Endpoint
	Options plan.Options // of the declaration, where there is one
	Limit   int          // messages at most
	Bytes   int          // of messages at most, but for the one that goes beyond them
	// Format is that of the messages; "": it is found out.
	Format string
	// Headless: the first record of CSV is no header.
	Headless bool
	// Of places that keep messages: which ones. By default the newest.
	Partition int       // -1: all
	From      int64     // an offset of the partition; -1: not by offset
	Since     time.Time // zero: not by time
	// Data stands for what lies at the address: a file that was uploaded.
	Data []byte
}

// Sample is messages, or rows of a table as JSON, and what else is known of their columns.
type Sample struct {
	Origin    string // in words
	Name      string // a name to begin with
	Format    string // of the messages; "": not known
	Header    []string
	Delimiter rune // of CSV in a file; the messages have commas
	Messages  []recorded.Message
	Columns   []Column // where the place tells them; nil: they are found in the messages
}

// Column is a column that a place tells, and how it would be declared.
type Column struct {
	Name    string
	Type    string // in Fiume SQL
	NotNull bool
	Key     bool // of the primary key
	Note    string
}

// Lister is a connector that lists what there is behind an endpoint, or in the service.
type Lister interface {
	List(ctx context.Context, env *Env, via *plan.Endpoint) ([]string, error)
}

// Commander is a connector that has what is behind an endpoint run statements in its own language.
type Commander interface {
	// Run runs statements one after the other, up to the first that fails. Of those that give rows it gives up to most of them.
	Run(ctx context.Context, env *Env, e *plan.Endpoint, text string, most int) ([]Result, error)
}

// Result is the rows that a statement gave.
type Result struct {
	Columns []string    `json:"columns"`
	Rows    [][]*string `json:"rows" doc:"as text; NULL is null"`
	More    bool        `json:"more,omitempty" doc:"there are rows that are not shown"`
}

// Browser is a connector that shows what lies behind an endpoint, or, without one, on the machine of the service.
type Browser interface {
	// Browse shows what is at an address; "" is the top. At most so many entries are listed.
	Browse(ctx context.Context, env *Env, via *plan.Endpoint, address string, most int) (*Browsed, error)
}

// Browsed is what lies at an address.
type Browsed struct {
	Address   string        `json:"address"`
	Entries   []Entry       `json:"entries" doc:"what lies in it, as in a directory"`
	More      bool          `json:"more,omitempty" doc:"there are entries that are not listed"`
	Facts     []Fact        `json:"facts,omitempty"`
	Columns   []TableColumn `json:"columns,omitempty" doc:"of a table, or of files that tell them"`
	Parts     []Partition   `json:"parts,omitempty" doc:"of a table: its partitions, largest first"`
	Snapshots []Snapshot    `json:"snapshots,omitempty" doc:"of a table: its snapshots, newest first"`
}

// Entry is something that lies at an address.
type Entry struct {
	Name    string     `json:"name" doc:"as an address"`
	Kind    string     `json:"kind" doc:"directory, file, bucket or table"`
	Size    int64      `json:"size,omitempty" doc:"bytes"`
	Changed *time.Time `json:"changed,omitempty"`
}

// TableColumn is a column of a table, or of a file that tells its columns.
type TableColumn struct {
	Name    string `json:"name"`
	Type    string `json:"type" doc:"in Fiume SQL"`
	NotNull bool   `json:"not_null,omitempty"`
	Key     bool   `json:"key,omitempty"`
}

// Fact is something that is known of what lies at an address.
type Fact struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Partition is a partition of a table.
type Partition struct {
	Name  string `json:"name"`
	Rows  int64  `json:"rows" doc:"those of its files; rows that were taken away since are counted"`
	Files int64  `json:"files"`
	Bytes int64  `json:"bytes"`
}

// Snapshot is a snapshot of a table.
type Snapshot struct {
	ID      string    `json:"id" doc:"for SNAPSHOT"`
	At      time.Time `json:"at"`
	What    string    `json:"what" doc:"append, overwrite, delete or replace"`
	Added   string    `json:"added,omitempty" doc:"rows"`
	Deletes string    `json:"deletes,omitempty" doc:"rows, or keys whose rows are taken away"`
	Writer  string    `json:"writer,omitempty" doc:"who wrote it, where that was a sink of this or another service"`
}
