// Package base is what all parts of the service stand on: where records and data are kept, what is declared now, what
// opens places, whose turn it is to ask a question, and the kinds of errors.
package base

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"fiume/internal/catalog"
	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/roots"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/disk"
	"fiume/internal/service/access"
	"fiume/internal/topiclog"
)

// Kinds of errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("conflict")
	ErrRefused  = errors.New("refused")
	ErrBusy     = errors.New("busy")
	ErrUnknown  = errors.New("unknown caller") // who it is was not shown
	ErrDenied   = errors.New("denied")         // he may not
)

// kindError gives an error a kind without changing its text.
type kindError struct {
	kind error
	text string
}

func (e *kindError) Error() string { return e.text }

func (e *kindError) Is(target error) bool { return target == e.kind }

// Errorf makes an error of a kind.
func Errorf(kind error, format string, args ...any) error {
	return &kindError{kind, fmt.Sprintf(format, args...)}
}

// Base is shared by the parts of a service. Its exported fields are set before the parts are made, and not changed then.
type Base struct {
	Dir      string // data directory
	Log      *slog.Logger
	Store    catalog.Records
	TopicLog *topiclog.Log
	Files    *roots.Roots
	// Identity tells the services apart that write into one place.
	Identity string
	// Databases is how databases are reached.
	Databases contract.Secrets
	// Turns are those of questions.
	Turns *Turns
	// Written gives the sensitive columns that jobs write to an address of a kind, behind an endpoint or ""; nil: there are no jobs.
	Written func(kind, via, address string) []plan.SensitiveColumn
	// Mask is what stands in the place of values that are not to be seen.
	Mask *eval.Mask

	mu      sync.Mutex
	cat     *plan.Catalog
	defined []catalog.Definition
}

// Current gives what is declared. It is never changed: a change puts another one in its place. So plans are made of it
// without a lock, however long that takes.
func (b *Base) Current() *plan.Catalog {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.cat
}

// Defined gives the texts of what is declared, in the order of declaration. The list is never changed.
func (b *Base) Defined() []catalog.Definition {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.defined
}

// Define has something else be declared from now on. Neither is changed any more.
func (b *Base) Define(cat *plan.Catalog, defined []catalog.Definition) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.cat, b.defined = cat, defined
}

// Env is what connectors work with.
func (b *Base) Env() *contract.Env {
	return &contract.Env{Topics: b.TopicLog, Secrets: b.Databases, Roots: b.Files, Durable: true}
}

// Allowed checks that the caller of a context may do what a text says, and adds an error for each place where he may not. It is asked before names
// are bound, as binding may look at data.
func (b *Base) Allowed(ctx context.Context, script *sql.Script, errs *sql.Errors) {
	if c := access.From(ctx); !c.Everywhere(access.Look) {
		for _, d := range b.Defined() {
			if !c.May(access.Look, d.Kind, d.Name) {
				errs.Unsaid = append(errs.Unsaid, d.Name)
			}
		}
		for _, t := range b.TopicLog.Topics() {
			if !c.May(access.Look, sql.KindTopic, t.Name) {
				errs.Unsaid = append(errs.Unsaid, t.Name)
			}
		}
	}
	access.Text(access.From(ctx), script, access.World{Catalog: b.Current(), Root: b.Files.Root, Sensitive: b.SensitiveAt}, errs)
}

// SensitiveAt gives the sensitive columns of what lies at an address of a kind, behind an endpoint or "": of what is declared over it, of what jobs write there, and, of a
// topic, of what jobs have written there.
func (b *Base) SensitiveAt(kind, via, address string) []plan.SensitiveColumn {
	out := b.Current().SensitiveAt(kind, via, address)
	if b.Written != nil && b.Current().HasSensitive() {
		out = append(out, b.Written(kind, via, address)...)
	}
	if p := connect.Of(kind); p != nil && p.Place().OwnTopics {
		out = append(out, b.Marked(address)...)
	}
	return out
}

// Marked gives the sensitive columns that a topic has in its messages since a job has written there.
func (b *Base) Marked(topic string) (out []plan.SensitiveColumn) {
	if t := b.TopicLog.Topic(topic); t != nil {
		if mark := t.Mark(); mark != nil {
			_ = json.Unmarshal(mark, &out) // it was written so
		}
	}
	return out
}

// Mark notes that a topic has sensitive columns in its messages from now on, beside those it has.
func (b *Base) Mark(topic string, columns []plan.SensitiveColumn) error {
	all := b.Marked(topic)
	had := len(all)
	for _, c := range columns {
		if !slices.ContainsFunc(all, func(x plan.SensitiveColumn) bool {
			return x.Name == c.Name && slices.Equal(x.From, c.From) && x.Text == c.Text
		}) {
			all = append(all, c)
		}
	}
	if len(all) == had {
		return nil
	}
	mark, err := json.Marshal(all)
	if err != nil {
		return err
	}
	return b.TopicLog.SetMark(topic, mark)
}

// Opener opens what questions read.
func (b *Base) Opener() *connect.Opener {
	return &connect.Opener{Env: *b.Env()}
}

// JobOpener opens what a job reads and writes.
func (b *Base) JobOpener(name string) *connect.Opener {
	o := b.Opener()
	o.Spools = filepath.Join(b.Dir, StateDir(name), "spools")
	o.Writer = fmt.Sprintf("job %s of service %s", name, b.Identity)
	o.Did = func(to, what, detail string) { b.Note("job "+name, what, to, detail) }
	return o
}

// LongestName is how many letters the catalog keeps of a name.
const LongestName = 190

// Note adds to the activity log. A log that cannot be written stops nothing.
func (b *Base) Note(actor, action, object, detail string) {
	name, via, address := catalog.ActorOf(actor)
	actor = catalog.Actor(ClipText(name, 100), ClipText(via, 100), ClipText(address, 60))
	if err := b.Store.Note(actor, ClipText(action, 60), ClipText(object, LongestName), ClipText(detail, 20_000)); err != nil { // as much as the catalog takes
		b.Log.Error("the activity log cannot be written", "error", err)
	}
}

// ClipText cuts a text that has more letters than n.
func ClipText(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

// WriteWhole writes a file so that after a crash it is there whole, or as it was.
func WriteWhole(path string, b []byte) error {
	fs := disk.OS{}
	if err := disk.Write(fs, path+".new", b); err != nil {
		return err
	}
	if err := os.Chmod(path+".new", 0o600); err != nil {
		return err
	}
	return errors.Join(fs.Rename(path+".new", path), fs.SyncDir(filepath.Dir(path)))
}

// StateDir is where a job's state lies in the data directory. A name can be any text.
func StateDir(job string) string { return filepath.Join("checkpoints", "job-"+url.PathEscape(job)) }
