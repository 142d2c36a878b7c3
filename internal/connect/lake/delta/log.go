// Package delta reads and writes open tables of the format Delta: files of Parquet, and a log that says which of them are rows of the table. Each entry of the
// log is a file with its version for a name, which nobody makes a second time; now and then a checkpoint sums the entries up. Source: the protocol of the
// format (sections Actions, Checkpoints, Requirements for Readers and Writers), versions 1 to 3 of readers and 1 to 7 of writers, without what changes how
// rows lie in files: mapped columns and vectors of deleted rows are refused.
package delta

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
)

// Files is where tables lie. Names are paths, or addresses of objects.
type Files interface {
	// ReadFile gives the content of a file. That it is not there is fs.ErrNotExist.
	ReadFile(name string) ([]byte, error)
	// PutNew makes a file whole, with all that was written before it on the disk, unless there is one: that is fs.ErrExist.
	PutNew(name string, content []byte) error
	// Put makes a file whole, in place of the one there was.
	Put(name string, content []byte) error
	// Names gives the names of the files of a directory, in their order, from one on.
	Names(dir, from string) ([]string, error)
}

// Table is a table as it stood at a version.
type Table struct {
	Location string
	Version  int64
	Protocol Protocol
	Metadata Metadata
	Writers  map[string]Writer // what each writer has told of itself last
	Adds     map[string]*Add   // the files of its rows, by path
	gone     map[string]*Remove
	files    Files
}

// Protocol says what who reads and who writes must know.
type Protocol struct {
	MinReader int      `json:"minReaderVersion"`
	MinWriter int      `json:"minWriterVersion"`
	Reader    []string `json:"readerFeatures,omitempty"`
	Writer    []string `json:"writerFeatures,omitempty"`
}

// Metadata says what a table is.
type Metadata struct {
	ID            string            `json:"id"`
	Name          string            `json:"name,omitempty"`
	Description   string            `json:"description,omitempty"`
	Format        Format            `json:"format"`
	Schema        string            `json:"schemaString"`
	PartitionBy   []string          `json:"partitionColumns"`
	Configuration map[string]string `json:"configuration"`
	Created       *int64            `json:"createdTime,omitempty"` // milliseconds
}

// Format is that of the files.
type Format struct {
	Provider string            `json:"provider"`
	Options  map[string]string `json:"options"`
}

// Writer is what a writer tells of itself: the number of what it has written last.
type Writer struct {
	ID      string `json:"appId"`
	Number  int64  `json:"version"`
	Updated *int64 `json:"lastUpdated,omitempty"` // milliseconds
}

// Add makes a file part of the table.
type Add struct {
	Path            string             `json:"path"` // an URI, relative to the table
	PartitionValues map[string]*string `json:"partitionValues"`
	Size            int64              `json:"size"`             // bytes
	Changed         int64              `json:"modificationTime"` // milliseconds
	DataChange      bool               `json:"dataChange"`
	Stats           string             `json:"stats,omitempty"`
	Vector          json.RawMessage    `json:"deletionVector,omitempty"`
}

// Remove takes a file out of the table.
type Remove struct {
	Path       string          `json:"path"`
	Deleted    *int64          `json:"deletionTimestamp,omitempty"` // milliseconds
	DataChange bool            `json:"dataChange"`
	Vector     json.RawMessage `json:"deletionVector,omitempty"`
}

// Info tells whoever looks what an entry did.
type Info struct {
	At         int64          `json:"timestamp"` // milliseconds
	Operation  string         `json:"operation,omitempty"`
	Parameters map[string]any `json:"operationParameters,omitempty"`
	Engine     string         `json:"engineInfo,omitempty"`
	Blind      bool           `json:"isBlindAppend,omitempty"`
	Delivery   int64          `json:"delivery,omitempty"`
	Writer     string         `json:"writer,omitempty"`
}

// action is one line of an entry.
type action struct {
	Info     *Info     `json:"commitInfo,omitempty"`
	Protocol *Protocol `json:"protocol,omitempty"`
	Metadata *Metadata `json:"metaData,omitempty"`
	Writer   *Writer   `json:"txn,omitempty"`
	Add      *Add      `json:"add,omitempty"`
	Remove   *Remove   `json:"remove,omitempty"`
}

// Entry is what a version of a table changed.
type Entry struct {
	Version  int64
	Info     Info
	Protocol *Protocol
	Metadata *Metadata
	Writers  []Writer
	Adds     []*Add
	Removes  []*Remove
}

// Changes says whether an entry takes rows away.
func (e *Entry) Changes() bool {
	return slices.ContainsFunc(e.Removes, func(r *Remove) bool { return r.DataChange })
}

// Added gives the files with rows that were not there before.
func (e *Entry) Added() (out []*Add) {
	for _, a := range e.Adds {
		if a.DataChange {
			out = append(out, a)
		}
	}
	return out
}

var (
	// ErrNoTable says that there is no table at a place.
	ErrNoTable = errors.New("there is no table of the format delta")
	// ErrGone says that the entries of a version are not kept any more.
	ErrGone = errors.New("the entries of that version are not kept any more")
	// ErrMet says that somebody else made the version.
	ErrMet = errors.New("somebody else has written at the same time")
	// ErrUnfinished says that an entry of the log is there, and not whole: somebody writes it in place.
	ErrUnfinished = errors.New("whoever writes it has not ended, or ended in the middle")
)

func dir(location string) string { return strings.TrimSuffix(location, "/") + "/_delta_log/" }

func entryName(version int64) string { return fmt.Sprintf("%020d.json", version) }

// Newest stands for the newest version.
const Newest = int64(1<<62 - 1)

// Load reads a table as it stood at a version.
func Load(files Files, location string, version int64) (*Table, error) {
	t := &Table{Location: strings.TrimSuffix(location, "/"), Version: -1, Writers: map[string]Writer{}, Adds: map[string]*Add{}, gone: map[string]*Remove{}, files: files}
	cp, err := t.checkpointBefore(version)
	if err != nil {
		return nil, err
	}
	if cp != nil {
		if err := t.readCheckpoint(cp); err != nil {
			return nil, err
		}
	}
	if err := t.refresh(version); err != nil {
		return nil, err
	}
	switch {
	case t.Version < 0:
		return nil, ErrNoTable
	case version != Newest && t.Version != version:
		return nil, fmt.Errorf("version %d: %w", version, ErrGone)
	case t.Metadata.Schema == "" || t.Protocol.MinReader == 0:
		return nil, fmt.Errorf("the log of the table at %s says neither its columns nor its protocol at version %d", t.Location, t.Version)
	}
	return t, t.readable()
}

// Refresh takes what was written since.
func (t *Table) Refresh() error {
	if err := t.refresh(Newest); err != nil {
		return err
	}
	return t.readable()
}

// Empty is a table that is about to be made.
func Empty(files Files, location string) *Table {
	return &Table{Location: strings.TrimSuffix(location, "/"), Version: -1, Writers: map[string]Writer{}, Adds: map[string]*Add{}, gone: map[string]*Remove{}, files: files}
}

func (t *Table) refresh(upTo int64) error {
	for t.Version < upTo {
		e, err := t.Entry(t.Version + 1)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		t.apply(e)
	}
	return nil
}

// Entry reads what a version changed. That it is not there is fs.ErrNotExist.
func (t *Table) Entry(version int64) (*Entry, error) {
	b, err := t.files.ReadFile(dir(t.Location) + entryName(version))
	if err != nil {
		return nil, err
	}
	if len(bytes.TrimSpace(b)) == 0 { // an entry says something, if it is only who wrote it
		return nil, fmt.Errorf("the log of the table at %s, version %d, is empty: %w", t.Location, version, ErrUnfinished)
	}
	e := &Entry{Version: version}
	for n, line := range bytes.Split(b, []byte("\n")) {
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		var a action
		if err := json.Unmarshal(line, &a); err != nil {
			if bytes.HasSuffix(b, line) { // without an end of the line behind it
				err = fmt.Errorf("%w (%w)", ErrUnfinished, err)
			}
			return nil, fmt.Errorf("the log of the table at %s, version %d, line %d: %w", t.Location, version, n+1, err)
		}
		switch {
		case a.Info != nil:
			e.Info = *a.Info
		case a.Protocol != nil:
			e.Protocol = a.Protocol
		case a.Metadata != nil:
			e.Metadata = a.Metadata
		case a.Writer != nil:
			e.Writers = append(e.Writers, *a.Writer)
		case a.Add != nil:
			e.Adds = append(e.Adds, a.Add)
		case a.Remove != nil:
			e.Removes = append(e.Removes, a.Remove)
		}
	}
	if e.Info.At == 0 { // it need not say when it was; its files do
		for _, a := range e.Adds {
			e.Info.At = max(e.Info.At, a.Changed)
		}
	}
	return e, nil
}

func (t *Table) apply(e *Entry) {
	if e.Protocol != nil {
		t.Protocol = *e.Protocol
	}
	if e.Metadata != nil {
		t.Metadata = *e.Metadata
	}
	for _, w := range e.Writers {
		t.Writers[w.ID] = w
	}
	for _, r := range e.Removes {
		delete(t.Adds, r.Path)
		t.gone[r.Path] = r
	}
	for _, a := range e.Adds {
		t.Adds[a.Path] = a
		delete(t.gone, a.Path)
	}
	t.Version = e.Version
}

// Sorted gives the files of the table in an order that is always the same: that in which they were written, as far as that is known.
func (t *Table) Sorted() []*Add {
	return slices.SortedFunc(maps.Values(t.Adds), func(a, b *Add) int { return cmp.Or(cmp.Compare(a.Changed, b.Changed), cmp.Compare(a.Path, b.Path)) })
}

// First gives the first version whose entry is kept.
func (t *Table) First() (int64, error) {
	names, err := t.files.Names(dir(t.Location), "")
	if err != nil {
		return 0, err
	}
	for _, n := range names {
		var v int64
		if len(n) == 25 && strings.HasSuffix(n, ".json") {
			if _, err := fmt.Sscanf(n, "%020d.json", &v); err == nil {
				return v, nil
			}
		}
	}
	return 0, ErrNoTable
}

// Columns gives the columns of the table, those of partitions among them.
func (t *Table) Columns() (*arrow.Schema, error) {
	s, err := parseSchema(t.Metadata.Schema)
	if err != nil {
		return nil, fmt.Errorf("the columns of the table at %s: %w", t.Location, err)
	}
	return s.arrow()
}

// Features that who reads or writes need not do anything for, as long as the table has nothing of theirs; what it has is looked for.
var bearable = []string{"appendOnly", "invariants", "checkConstraints", "changeDataFeed", "generatedColumns", "columnMapping", "deletionVectors", "timestampNtz", "vacuumProtocolCheck", "identityColumns", "inCommitTimestamp"}

// readable says what about a table cannot be read here.
func (t *Table) readable() error {
	unknown := func(features []string) string {
		var out []string
		for _, f := range features {
			if !slices.Contains(bearable, f) {
				out = append(out, f)
			}
		}
		return strings.Join(out, ", ")
	}
	switch p := t.Protocol; {
	case p.MinReader > 3:
		return fmt.Errorf("the table at %s wants readers of protocol %d, and this one knows 3", t.Location, p.MinReader)
	case p.MinReader == 3 && unknown(p.Reader) != "":
		return fmt.Errorf("the table at %s wants readers that know: %s", t.Location, unknown(p.Reader))
	}
	if mode := t.Metadata.Configuration["delta.columnMapping.mode"]; mode != "" && mode != "none" {
		return fmt.Errorf("the columns of the table at %s have other names in its files (mapped by %s), which cannot be read", t.Location, mode)
	}
	if p := t.Metadata.Format.Provider; p != "" && p != "parquet" {
		return fmt.Errorf("the files of the table at %s are %s, and only parquet can be read", t.Location, p)
	}
	for _, a := range t.Adds {
		if len(a.Vector) > 0 && string(a.Vector) != "null" {
			return fmt.Errorf("the table at %s has files with vectors of deleted rows, which cannot be read: have whoever writes it put them together without", t.Location)
		}
	}
	return nil
}

// Writable says what about a table cannot be written here.
func (t *Table) Writable() error {
	no := func(why string) error {
		return fmt.Errorf("the table at %s cannot be written to: %s", t.Location, why)
	}
	p := t.Protocol
	if p.MinWriter > 7 {
		return no(fmt.Sprintf("it wants writers of protocol %d, and this one knows 7", p.MinWriter))
	}
	for _, f := range p.Writer {
		if !slices.Contains(bearable, f) {
			return no("it wants writers that know " + f)
		}
		if f == "inCommitTimestamp" && t.Metadata.Configuration["delta.enableInCommitTimestamps"] == "true" {
			return no("it wants times in its log that ascend (delta.enableInCommitTimestamps)")
		}
	}
	for k := range t.Metadata.Configuration {
		if strings.HasPrefix(k, "delta.constraints.") {
			return no("it checks rows by " + strings.TrimPrefix(k, "delta.constraints."))
		}
	}
	s, err := parseSchema(t.Metadata.Schema)
	if err != nil {
		return no(err.Error())
	}
	for _, f := range s.Fields {
		for _, k := range []string{"delta.invariants", "delta.generationExpression", "delta.identity.start"} {
			if _, ok := f.Metadata[k]; ok {
				return no(fmt.Sprintf("its column %s has a rule (%s)", f.Name, k))
			}
		}
	}
	return nil
}

// Commit makes the next version of the table. That somebody else made it is ErrMet; the table is as it was then. What came of it where another error is
// given is not known: the entry may be there.
func (t *Table) Commit(e *Entry) error {
	e.Version = t.Version + 1
	var out bytes.Buffer
	put := func(a action) error {
		b, err := json.Marshal(a)
		out.Write(append(b, '\n'))
		return err
	}
	errs := []error{put(action{Info: &e.Info})}
	if e.Protocol != nil {
		errs = append(errs, put(action{Protocol: e.Protocol}))
	}
	if e.Metadata != nil {
		errs = append(errs, put(action{Metadata: e.Metadata}))
	}
	for i := range e.Writers {
		errs = append(errs, put(action{Writer: &e.Writers[i]}))
	}
	for _, r := range e.Removes {
		errs = append(errs, put(action{Remove: r}))
	}
	for _, a := range e.Adds {
		errs = append(errs, put(action{Add: a}))
	}
	if err := errors.Join(errs...); err != nil {
		return err
	}
	err := t.files.PutNew(dir(t.Location)+entryName(e.Version), out.Bytes())
	if errors.Is(err, fs.ErrExist) {
		return ErrMet
	}
	if err != nil {
		return err
	}
	t.apply(e)
	return nil
}

// Make makes a table with these columns.
func Make(files Files, location, id string, columns *arrow.Schema, partitionBy []string) error {
	schema, err := schemaText(columns)
	if err != nil {
		return err
	}
	now := time.Now().UnixMilli()
	if partitionBy == nil {
		partitionBy = []string{}
	}
	return Empty(files, location).Commit(&Entry{
		Info:     Info{At: now, Operation: "CREATE TABLE", Parameters: map[string]any{}, Engine: engine},
		Protocol: &Protocol{MinReader: 1, MinWriter: 2},
		Metadata: &Metadata{ID: id, Format: Format{"parquet", map[string]string{}}, Schema: schema, PartitionBy: partitionBy, Configuration: map[string]string{}, Created: &now},
	})
}

const engine = "fiume"

// Append gives an entry that adds files, in the name of a writer.
func Append(writer string, number int64, adds []*Add) *Entry {
	now := time.Now().UnixMilli()
	return &Entry{
		Info:    Info{At: now, Operation: "WRITE", Parameters: map[string]any{"mode": "Append"}, Engine: engine, Blind: true, Writer: writer, Delivery: number},
		Writers: []Writer{{writer, number, &now}},
		Adds:    adds,
	}
}

// With gives the metadata of the table with more columns, which may be NULL.
func (t *Table) With(added *arrow.Schema) (*Metadata, error) {
	have, err := parseSchema(t.Metadata.Schema)
	if err != nil {
		return nil, err
	}
	more, err := fieldsOf(added.Fields())
	if err != nil {
		return nil, err
	}
	have.Fields = append(have.Fields, more...)
	text, err := json.Marshal(have)
	m := t.Metadata
	m.Schema = string(text)
	return &m, err
}

// Columns gives an entry that changes what the columns are.
func Columns(m *Metadata) *Entry {
	return &Entry{Info: Info{At: time.Now().UnixMilli(), Operation: "ADD COLUMNS", Parameters: map[string]any{}, Engine: engine}, Metadata: m}
}
