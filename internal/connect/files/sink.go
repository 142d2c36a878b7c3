package files

import (
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/roots"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/disk"
	"fiume/internal/format"
)

// Sink writes part files into a directory. A part is written under a hidden name and moved into place whole,
// when it has been open for the time of ROLL EVERY or the job ends, and a checkpoint that has it counts. A
// checkpoint keeps how long the open part was; after a crash it is cut to that length and written on, so that
// each row is in one part. A line of the file manifest tells of each part that was moved into place.
type Sink struct {
	fs      disk.FS
	dir     string
	ext     string
	header  []byte
	pack    func(dst, b []byte) []byte // nil: parts are not packed
	avro    string                     // how the blocks of Avro are packed; "": parts are lines
	parquet string                     // how parts of Parquet are packed; "": they are none
	fields  []types.Field
	roll    time.Duration
	options plan.Options
	durable bool // the run takes checkpoints
	writer  string
	lock    io.Closer

	part   int // number of the open part, or of the next
	file   disk.File
	opened time.Time
	size   int64 // of the open part: whole payloads
	rows   int64
	sum    uint32
	doubt  bool // a sync has failed: what the open part holds is to be written anew

	mu    sync.Mutex
	ready []part // closed parts that are not in place
}

// part is what is known of a part file.
type part struct {
	Part  string `json:"part"`
	Rows  int64  `json:"rows"`
	Bytes int64  `json:"bytes"`
	Sum   string `json:"crc32c"`
}

// handle is what a checkpoint keeps.
type handle struct {
	Part  int    `json:"part"`
	Bytes int64  `json:"bytes"`
	Rows  int64  `json:"rows"`
	Sum   uint32 `json:"sum"`
	Ready []part `json:"ready,omitempty"`
}

// OpenSink opens the directory of a sink, below the roots. writer names who writes: a job, and what of it; "" for a run that
// is not continued.
func OpenSink(fs disk.FS, out *plan.Op, within *roots.Roots, writer string) (*Sink, error) {
	s := out.Sink
	dir, err := within.Path(s.Address)
	if err != nil {
		return nil, err
	}
	k := &Sink{fs: fs, dir: dir, writer: writer, ext: "." + s.Options.Word("format", "json"), options: s.Options, fields: asBlocks(out.Fields),
		roll: time.Duration(s.Options.Duration("roll every", types.Minute)) * time.Microsecond}
	if k.header, err = k.begins(); err != nil {
		return nil, err
	}
	if p, ok := packs[s.Options.Word("compress", "none")]; ok && k.avro == "" {
		k.pack, k.ext = p.pack, k.ext+p.ext
		if len(k.header) > 0 {
			k.header = p.pack(nil, k.header)
		}
	}
	if err := fs.MkdirAll(k.dir); err != nil {
		return nil, fmt.Errorf("the directory cannot be made: %w", err)
	}
	if err := k.take(); err != nil {
		return nil, err
	}
	names, err := fs.List(k.dir)
	k.part = 1
	for _, n := range names {
		if i, ok := k.numberOf(strings.TrimPrefix(n, ".")); ok {
			k.part = max(k.part, i+1)
		}
	}
	if err != nil {
		return nil, errors.Join(err, k.lock.Close())
	}
	return k, nil
}

// begins says what stands before the first row of a part, and how rows that are no lines are written.
func (s *Sink) begins() ([]byte, error) {
	pack := s.options.Word("compress", "none")
	switch s.options.Word("format", "json") {
	case "parquet":
		s.avro, s.parquet = "zstandard", pack
		probe, err := format.NewParquetWriter(io.Discard, s.fields, pack)
		if err != nil {
			return nil, fmt.Errorf("the columns cannot be written as Parquet: %w", err)
		}
		if err := probe.Close(); err != nil {
			return nil, err
		}
	case "avro":
		s.avro = map[string]string{"none": "null", "gzip": "deflate", "zstd": "zstandard"}[pack]
	default:
		enc, err := (&format.Writing{Options: s.options, Fields: s.fields}).NewEncoder()
		if err != nil {
			return nil, err
		}
		return enc.Header(), nil
	}
	w, err := format.NewAvroBlocks(s.fields, s.avro)
	if err != nil {
		return nil, err
	}
	return w.Header(), nil
}

// numberOf gives the number of a part by its name.
func (s *Sink) numberOf(name string) (int, bool) {
	if !strings.HasPrefix(name, "part-") || len(name) < 11 {
		return 0, false
	}
	n, err := strconv.Atoi(name[5:11])
	return n, err == nil
}

func (s *Sink) name(part int) string       { return fmt.Sprintf("part-%06d%s", part, s.ext) }
func (s *Sink) visible(name string) string { return filepath.Join(s.dir, name) }
func (s *Sink) hidden(name string) string  { return filepath.Join(s.dir, "."+name) }

// Resume implements flow.Exact.
func (s *Sink) Resume(b []byte) error {
	s.durable = true
	var h handle
	if b != nil {
		if err := json.Unmarshal(b, &h); err != nil {
			return err
		}
	}
	s.ready = h.Ready
	names, err := s.fs.List(s.dir)
	if err != nil {
		return err
	}
	if err := s.own(names); err != nil {
		return err
	}
	s.part = max(h.Part, 1)
	for _, n := range names { // hidden parts that no checkpoint relies on
		name := strings.TrimPrefix(n, ".")
		i, ok := s.numberOf(name)
		if !ok || i == h.Part && h.Bytes > 0 {
			continue
		}
		if n == name || isReady(h.Ready, name) {
			s.part = max(s.part, i+1)
			continue
		}
		err = errors.Join(err, s.fs.Remove(filepath.Join(s.dir, n)))
	}
	if err != nil || h.Bytes == 0 {
		return err
	}
	f, err := s.fs.Open(s.growing(h.Part))
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("the open part %s is gone, on which the checkpoint relies", s.growing(h.Part))
	}
	if err != nil {
		return err
	}
	if size, err := f.Size(); err != nil || size < h.Bytes {
		return errors.Join(err, f.Close(), fmt.Errorf("the open part %s is shorter than the checkpoint says: %d of %d bytes", s.growing(h.Part), size, h.Bytes))
	}
	if err := f.Truncate(h.Bytes); err != nil {
		return errors.Join(err, f.Close())
	}
	s.part, s.file, s.opened, s.size, s.rows, s.sum = h.Part, f, time.Now(), h.Bytes, h.Rows, h.Sum
	return nil
}

func isReady(ready []part, name string) bool {
	for _, p := range ready {
		if p.Part == name {
			return true
		}
	}
	return false
}

// NewEncoder implements flow.Sink.
func (s *Sink) NewEncoder(fields []types.Field) (flow.Encoder, error) {
	if s.avro != "" {
		return format.NewAvroBlocks(s.fields, s.avro)
	}
	enc, err := (&format.Writing{Options: s.options, Fields: fields}).NewEncoder()
	if err != nil || s.pack == nil {
		return text.NewLines(enc, "\n"), err
	}
	return &packer{text.NewLines(enc, "\n"), s.pack}, nil
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Write implements flow.Sink.
func (s *Sink) Write(p flow.Payload) error {
	if s.file == nil {
		f, err := s.fs.Create(s.growing(s.part))
		if err != nil {
			return err
		}
		if _, err := f.WriteAt(s.header, 0); err != nil {
			return errors.Join(err, f.Close())
		}
		s.file, s.opened, s.size, s.rows, s.doubt = f, time.Now(), int64(len(s.header)), 0, false
		s.sum = crc32.Checksum(s.header, castagnoli)
	}
	if _, err := s.file.WriteAt(p.Bytes, s.size); err != nil {
		return err // what was written of it is written over, or cut off
	}
	s.size += int64(len(p.Bytes))
	s.rows += int64(p.Rows)
	s.sum = crc32.Update(s.sum, castagnoli, p.Bytes)
	text.Recycle(p.Bytes)
	return nil
}

// Retry implements flow.Retrier: a full disk may get room.
func (s *Sink) Retry(err error) bool { return disk.Passing(err) }

// Mark implements flow.Exact.
func (s *Sink) Mark(final bool) ([]byte, error) {
	h := handle{Part: s.part}
	if s.file != nil {
		if err := s.sync(); err != nil {
			return nil, err
		}
		if final || time.Since(s.opened) >= s.roll {
			if err := s.shut(); err != nil {
				return nil, err
			}
			h.Part = s.part
		} else {
			h.Bytes, h.Rows, h.Sum = s.size, s.rows, s.sum
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	h.Ready = s.ready
	return json.Marshal(h)
}

// sync makes the open part durable. After a failed sync nobody knows what the disk holds: all of it is written
// once more.
func (s *Sink) sync() error {
	if err := s.file.Truncate(s.size); err != nil {
		return err
	}
	if err := disk.SyncWhole(s.file, s.size, &s.doubt); err != nil {
		return err
	}
	return s.fs.SyncDir(s.dir)
}

// shut closes the open part, which is on the disk.
func (s *Sink) shut() error {
	size, sum := s.size, s.sum
	if s.parquet != "" {
		var err error
		if size, sum, err = s.convert(); err != nil {
			return err
		}
	}
	if err := s.file.Close(); err != nil {
		return err
	}
	s.file = nil
	s.mu.Lock()
	s.ready = append(s.ready[:len(s.ready):len(s.ready)], part{s.name(s.part), s.rows, size, fmt.Sprintf("%08x", sum)})
	s.mu.Unlock()
	s.part++
	return nil
}

// Commit implements flow.Exact: it moves the parts into place that the checkpoint has.
func (s *Sink) Commit(b []byte) error {
	var h handle
	if err := json.Unmarshal(b, &h); err != nil {
		return err
	}
	return s.place(h.Ready)
}

// place moves parts into place, those that are not there yet, and tells of them in the manifest.
func (s *Sink) place(parts []part) error {
	if len(parts) == 0 {
		return nil
	}
	for _, p := range parts {
		if err := s.fs.Rename(s.hidden(p.Part), s.visible(p.Part)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	if err := s.tell(parts); err != nil {
		return err
	}
	if err := errors.Join(s.removeBlocks(parts), s.fs.SyncDir(s.dir)); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	var left []part
	for _, p := range s.ready {
		if !isReady(parts, p.Part) {
			left = append(left, p)
		}
	}
	s.ready = left
	return nil
}

// manifest is the file that tells of the parts in place, a JSON object a line.
const manifest = "manifest"

// tell adds lines for the parts that the manifest does not have.
func (s *Sink) tell(parts []part) error {
	path := filepath.Join(s.dir, manifest)
	f, err := s.fs.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		f, err = s.fs.Create(path)
	}
	if err != nil {
		return err
	}
	old, err := disk.Read(s.fs, path)
	if err != nil {
		return errors.Join(err, f.Close())
	}
	whole := strings.LastIndexByte(string(old), '\n') + 1 // a line that a crash has torn is written over
	var lines []byte
	for _, p := range parts {
		if !strings.Contains(string(old[:whole]), `"part":"`+p.Part+`"`) {
			b, _ := json.Marshal(p)
			lines = append(append(lines, b...), '\n')
		}
	}
	if len(lines) > 0 || whole < len(old) {
		if err = f.Truncate(int64(whole)); err == nil {
			_, err = f.WriteAt(lines, int64(whole))
		}
	}
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// Close implements flow.Sink. A run without checkpoints that comes to its end moves its part into place; one
// that does not leaves nothing behind.
func (s *Sink) Close(complete bool) error { return errors.Join(s.end(complete), s.lock.Close()) }

func (s *Sink) end(complete bool) error {
	switch {
	case complete && s.durable:
		return nil // the last checkpoint has moved the parts into place
	case complete:
		if s.file != nil {
			if err := s.shut(); err != nil {
				return err
			}
		}
		for _, p := range s.ready {
			if err := s.fs.Rename(s.hidden(p.Part), s.visible(p.Part)); err != nil {
				return err
			}
		}
		return s.removeBlocks(s.ready)
	case s.file == nil:
		return nil
	case !s.durable: // nobody will go on with it
		return errors.Join(s.file.Close(), s.fs.Remove(s.growing(s.part)))
	}
	return s.file.Close()
}
