// Package checkpoint keeps the checkpoints of jobs and runs jobs from them. The state of the steps goes to a
// file; an entry in a catalog makes it count.
package checkpoint

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/disk"

	"github.com/zeebo/xxh3"
)

// Entry is what the catalog keeps of a checkpoint.
type Entry struct {
	Number    int64
	Version   int    // of the job
	Positions string // of the splits, handles of the sinks and the ledger, as JSON
	File      string // of the state
	Bytes     int64  // written for it
	Took      time.Duration
	At        time.Time
}

// Catalog keeps entries. An entry that was added counts, whatever happens afterwards.
type Catalog interface {
	// Add keeps an entry and removes those older than the newest keep, all at once. It gives the files of those
	// removed.
	Add(e Entry, keep int) (removed []string, err error)
	// All gives the entries, the newest first.
	All() ([]Entry, error)
}

// kept is how many checkpoints are kept.
const kept = 3

// Keeper keeps the checkpoints of a job.
type Keeper struct {
	FS      disk.FS
	Dir     string // of the state files
	Catalog Catalog
	Version int                            // of the job, noted in the entries
	Log     func(text string, args ...any) // of what went wrong and was made good; args are names and values
	Now     func() time.Time

	// Journal, where set, has what most of the state is in.
	Journal *Journal

	number  int64 // of the newest checkpoint
	needed  []journalNeed
	written int64 // of the journal, when the newest checkpoint was taken
	newest  newest
}

// newest is what the newest checkpoint says, that this process has saved.
type newest struct {
	positions string
	digest    xxh3.Uint128 // of its state
	known     bool         // the digest is: of jobs that are at work nobody asks for it
}

// Same says whether a snapshot says what the newest checkpoint does, which therefore stands for it.
func (k *Keeper) Same(snap *flow.Snapshot) bool {
	positions, err := snap.Positions()
	return err == nil && k.newest.known && k.newest.positions == string(positions) && (k.Journal == nil || k.Journal.Written() == k.written) && k.newest.digest == digest(snap.State)
}

// digest is a hash of a state.
func digest(state map[string][][]byte) xxh3.Uint128 {
	h := xxh3.New()
	length := make([]byte, 8)
	put := func(b []byte) {
		binary.LittleEndian.PutUint64(length, uint64(len(b)))
		_, _ = h.Write(length)
		_, _ = h.Write(b)
	}
	for _, k := range slices.Sorted(maps.Keys(state)) {
		put([]byte(k))
		for _, p := range state[k] {
			put(p)
		}
		put(nil)
	}
	return h.Sum128()
}

// journalNeed says which files of the journal a checkpoint needs.
type journalNeed struct {
	number int64
	files  []int64
}

// keptNeeds are known: more than checkpoints are kept, since of some it is not known whether they count.
const keptNeeds = 2 * kept

// need notes what a checkpoint needs, and gives what all do that may count.
func (k *Keeper) need(number int64, files []int64) (all []int64) {
	k.needed = append(k.needed, journalNeed{number, files})
	k.needed = k.needed[max(0, len(k.needed)-keptNeeds):]
	for _, n := range k.needed {
		all = append(all, n.files...)
	}
	return all
}

// OpenJournal makes the journal ready for a run.
func (k *Keeper) OpenJournal() error {
	entries, err := k.Catalog.All()
	if err != nil {
		return err
	}
	var all []int64
	for _, e := range slices.Backward(entries) {
		var needs struct{ Journal []int64 }
		if err := json.Unmarshal([]byte(e.Positions), &needs); err != nil {
			return err
		}
		all = k.need(e.Number, needs.Journal)
	}
	k.written = k.Journal.Written()
	return k.Journal.Open(all)
}

// numberKey is the key, in a file of state, of the number of its checkpoint. No operator's key is like it.
const numberKey = "number of the checkpoint"

// Save keeps a snapshot, behind what it needs of the journal. When it gives no error the checkpoint counts.
func (k *Keeper) Save(snap *flow.Snapshot, began time.Time) (e Entry, err error) {
	positions, err := snap.Positions()
	if err != nil {
		return e, err
	}
	before := k.newest.positions
	k.newest = newest{}
	// Of an entry that could not be added it is not known whether it was: its number is not used again.
	k.number++
	n := k.number
	e = Entry{Number: n, Version: k.Version, Positions: string(positions), File: fmt.Sprintf("%012d.state", n), At: k.Now().UTC()}
	var needed []int64
	if k.Journal != nil {
		needed = k.need(n, snap.Journal)
		if err := k.Journal.Sync(); err != nil {
			return e, err
		}
	}
	// The file says of which checkpoint it is: one that was put in its place from elsewhere is found out.
	snap.State[numberKey] = [][]byte{[]byte(strconv.FormatInt(n, 10))}
	e.Bytes, err = k.write(e.File, snap.State)
	delete(snap.State, numberKey)
	if err != nil {
		return e, err
	}
	if k.Journal != nil {
		written := k.Journal.Written()
		e.Bytes += written - k.written
		k.written = written
	}
	e.Took = k.Now().Sub(began)
	removed, err := k.Catalog.Add(e, kept)
	if err != nil {
		return e, err
	}
	for _, f := range removed {
		if err := k.FS.Remove(filepath.Join(k.Dir, f)); err != nil && !errors.Is(err, os.ErrNotExist) {
			k.Log("an old checkpoint cannot be removed", "file", f, "error", err)
		}
	}
	if k.Journal != nil {
		if err := k.Journal.Trim(needed); err != nil {
			k.Log("old files of the journal cannot be removed", "error", err)
		}
	}
	if k.newest.positions = e.Positions; before == e.Positions { // the job rests, or begins to
		k.newest.digest, k.newest.known = digest(snap.State), true
	}
	return e, nil
}

// write writes a state to a file that is there whole or not at all, and gives its size.
func (k *Keeper) write(name string, state map[string][][]byte) (size int64, err error) {
	if err := k.FS.MkdirAll(k.Dir); err != nil {
		return 0, err
	}
	path := filepath.Join(k.Dir, name)
	f, err := k.FS.Create(path + ".new")
	if err != nil {
		return 0, err
	}
	size, err = encodeState(f, state)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return 0, err
	}
	return size, errors.Join(k.FS.Rename(path+".new", path), k.FS.SyncDir(k.Dir))
}

// ErrNone says that a job has no checkpoint of the number that was asked for.
var ErrNone = errors.New("no such checkpoint")

// Load reads the newest checkpoint that can be read, or with a number that one. It gives nil where there is
// none at all.
func (k *Keeper) Load(number int64) (*flow.Snapshot, Entry, error) {
	all, err := k.Catalog.All()
	if err != nil {
		return nil, Entry{}, err
	}
	if len(all) > 0 {
		k.number = max(k.number, all[0].Number)
	}
	var failed error
	for _, e := range all {
		if number != 0 && e.Number != number {
			continue
		}
		snap := &flow.Snapshot{}
		data, err := disk.Read(k.FS, filepath.Join(k.Dir, e.File))
		if err == nil {
			snap.State, err = decodeState(data)
		}
		if at, ok := snap.State[numberKey]; err == nil && ok { // files of earlier versions do not say
			if delete(snap.State, numberKey); len(at) != 1 || string(at[0]) != strconv.FormatInt(e.Number, 10) {
				err = fmt.Errorf("the file %s is not the one of this checkpoint: it holds the state of another", e.File)
			}
		}
		if err == nil {
			err = json.Unmarshal([]byte(e.Positions), snap)
		}
		if err == nil && failed != nil {
			// The sinks may have got more than this one knows of.
			k.Log("rows behind an older checkpoint may be written twice", "number", e.Number)
			snap.Sinks = nil
		}
		if err == nil {
			return snap, e, nil
		}
		k.Log("a checkpoint cannot be read", "number", e.Number, "error", err)
		failed = fmt.Errorf("checkpoint %d: %w", e.Number, err)
	}
	switch {
	case failed != nil:
		return nil, Entry{}, fmt.Errorf("no checkpoint can be read: %w", failed)
	case number != 0:
		return nil, Entry{}, ErrNone
	}
	return nil, Entry{}, nil
}

// Tidy removes files of checkpoints that never counted, or count no more.
func (k *Keeper) Tidy() error {
	names, err := k.FS.List(k.Dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	all, err := k.Catalog.All()
	if err != nil {
		return err
	}
	for _, n := range names {
		if !strings.HasSuffix(n, ".state") && !strings.HasSuffix(n, ".new") {
			continue
		}
		if !slices.ContainsFunc(all, func(e Entry) bool { return e.File == n }) {
			err = errors.Join(err, k.FS.Remove(filepath.Join(k.Dir, n)))
		}
	}
	return err
}

// stateMark stands before a state with its checksum.
const stateMark = 0x33_74_53_f1

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// encodeState writes the state of the steps into a file and gives its size: a mark and a CRC-32C of what follows,
// then for each step the length of its key, the key, the number of its pieces, and each piece behind its length; all
// little-endian uint32 but the lengths of pieces, which are uint64.
func encodeState(f io.WriterAt, state map[string][][]byte) (size int64, err error) {
	le := binary.LittleEndian
	sum, at := uint32(0), int64(8)
	put := func(b []byte) {
		if err != nil {
			return
		}
		_, err = f.WriteAt(b, at)
		sum = crc32.Update(sum, castagnoli, b)
		at += int64(len(b))
	}
	keys := make([]string, 0, len(state))
	for k := range state {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		head := append(le.AppendUint32(nil, uint32(len(k))), k...)
		put(le.AppendUint32(head, uint32(len(state[k]))))
		for _, p := range state[k] {
			put(le.AppendUint64(nil, uint64(len(p))))
			put(p)
		}
	}
	if err == nil {
		_, err = f.WriteAt(le.AppendUint32(le.AppendUint32(nil, stateMark), sum), 0)
	}
	return at, err
}

func decodeState(b []byte) (map[string][][]byte, error) {
	le := binary.LittleEndian
	cut := errors.New("the state is cut short")
	if len(b) < 8 || le.Uint32(b) != stateMark {
		return nil, cut
	}
	if crc32.Checksum(b[8:], castagnoli) != le.Uint32(b[4:]) {
		return nil, errors.New("the state is damaged: its checksum differs")
	}
	b = b[8:]
	out := map[string][][]byte{}
	for len(b) > 0 {
		if len(b) < 4 || uint64(len(b)) < uint64(le.Uint32(b))+8 {
			return nil, cut
		}
		size := 4 + int(le.Uint32(b))
		key, n := string(b[4:size]), le.Uint32(b[size:])
		b = b[size+4:]
		for range n {
			if len(b) < 8 || uint64(len(b)-8) < le.Uint64(b) {
				return nil, cut
			}
			size := le.Uint64(b)
			out[key] = append(out[key], b[8:8+size])
			b = b[8+size:]
		}
	}
	return out, nil
}
