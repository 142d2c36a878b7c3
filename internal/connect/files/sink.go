package files

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
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

	"golang.org/x/sync/errgroup"
)

// Sink writes part files into a directory. A part is written under a hidden name and moved into place whole,
// when it is to be closed or the job ends, and a checkpoint that has it counts. A
// checkpoint keeps how long the open parts were; after a crash they are cut to that length and written on, so that
// each row is in one part. A line of the file manifest tells of each part that was moved into place.
//
// Parts for an object store grow in a directory of the service, and become objects where others are moved into place.
type Sink struct {
	fs      disk.FS
	dir     string
	ext     string
	header  []byte
	pack    func(dst, b []byte) []byte // nil: parts are not packed
	avro    string                     // how the blocks of Avro are packed; "": parts are lines
	parquet string                     // how parts of Parquet are packed; "": they are none
	fields  []types.Field
	cut     *cut // how rows are told apart by directories; nil: they are not
	options plan.Options
	durable bool // the run takes checkpoints
	writer  string
	lock    io.Closer

	roll     time.Duration
	rollRows int64
	rollSize int64         // bytes
	behind   time.Duration // how far rows must have come behind a directory's time until its part is closed; -1: that closes none

	to   target // an object store; nil: parts are moved into place
	at   string // the address there
	id   string // of the parts there, so that no two writers make the same object
	temp bool   // the directory is of this run alone

	part  int              // number of the next part
	open  map[string]*open // by directory
	newer int64            // the newest event time of all rows

	mu    sync.Mutex
	ready []part // closed parts that are not in place
}

// target is an object store that parts become objects of.
type target interface {
	Put(ctx context.Context, name string, in io.ReaderAt, size int64) error
	Abort(ctx context.Context, address string, ours func(key string) bool) error
	Retry(err error) bool
}

// open is a part that is being written.
type open struct {
	part  int
	file  disk.File
	since time.Time
	until int64 // the end of the directory's time; MaxTime where it has none
	size  int64 // whole payloads
	rows  int64
	sum   uint32
	doubt bool // a sync has failed: what it holds is to be written anew
	fresh bool // something was written, or cut off, since the last checkpoint
}

// part is what is known of a part file.
type part struct {
	Part  string `json:"part"` // its name, with the directory that tells its rows from others
	Rows  int64  `json:"rows"`
	Bytes int64  `json:"bytes"`
	Sum   string `json:"crc32c"`
}

// openPart is what a checkpoint keeps of a part that is being written.
type openPart struct {
	Part  int    `json:"part"`
	Dir   string `json:"dir,omitempty"`
	Until int64  `json:"until,omitempty"`
	Bytes int64  `json:"bytes"`
	Rows  int64  `json:"rows"`
	Sum   uint32 `json:"sum"`
}

// handle is what a checkpoint keeps.
type handle struct {
	Next  int        `json:"next,omitempty"` // number of the next part
	Open  []openPart `json:"open,omitempty"`
	ID    string     `json:"id,omitempty"`
	Ready []part     `json:"ready,omitempty"`
	// What checkpoints kept before there could be several open parts.
	Part  int    `json:"part,omitempty"`
	Bytes int64  `json:"bytes,omitempty"`
	Rows  int64  `json:"rows,omitempty"`
	Sum   uint32 `json:"sum,omitempty"`
}

const (
	// mostOpen parts are written at a time; where more directories get rows, the part that was opened first is closed.
	mostOpen = 200
	// mostSpooled bytes wait for an object store that is away.
	mostSpooled = 1 << 30
)

// OpenSink opens the directory of a sink, below the roots. writer names who writes: a job, and what of it; "" for a run that
// is not continued.
func OpenSink(fs disk.FS, out *plan.Op, within *roots.Roots, writer string) (*Sink, error) {
	dir, err := within.Path(out.Sink.Address)
	if err != nil {
		return nil, err
	}
	return openIn(fs, dir, out, writer)
}

// OpenFar opens a sink over an object store. dir is where its parts grow; "": one that is removed again.
func OpenFar(fs disk.FS, dir string, out *plan.Op, to target, writer string) (*Sink, error) {
	temp := dir == ""
	if temp {
		var err error
		if dir, err = os.MkdirTemp("", "fiume-parts-"); err != nil {
			return nil, err
		}
	}
	s, err := openIn(fs, dir, out, writer)
	if err != nil {
		return nil, err
	}
	b := make([]byte, 4)
	_, _ = rand.Read(b) // it never fails
	s.to, s.at, s.id, s.temp = to, strings.TrimSuffix(out.Sink.Address, "/"), hex.EncodeToString(b), temp
	return s, nil
}

func openIn(fs disk.FS, dir string, out *plan.Op, writer string) (*Sink, error) {
	s := out.Sink
	k := &Sink{fs: fs, dir: dir, writer: writer, ext: "." + s.Options.Word("format", "json"), options: s.Options, fields: out.Fields, open: map[string]*open{}, newer: types.MinTime,
		roll: time.Duration(s.Options.Duration("roll every", types.Minute)) * time.Microsecond, rollRows: int64(s.Options.Number("roll rows", 0)),
		rollSize: int64(s.Options.Number("roll megabytes", 0)) << 20, behind: -1}
	if d := s.Options.Duration("roll behind", -1); d >= 0 {
		k.behind = time.Duration(d) * time.Microsecond
	}
	var err error
	if k.cut, err = cutOf(s.Options, out.Fields); err != nil {
		return nil, err
	}
	if k.behind >= 0 && (k.cut == nil || k.cut.time < 0) {
		return nil, errors.New("ROLL BEHIND is for parts of a time: write PARTITION BY with a column of time")
	}
	if k.header, err = k.begins(); err != nil {
		return nil, err
	}
	if p, ok := packs[s.Options.Word("compress", "none")]; ok && k.avro == "" && k.parquet == "" {
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
	k.part = 1
	if err := k.after(""); err != nil {
		return nil, errors.Join(err, k.lock.Close())
	}
	return k, nil
}

// after has numbers of parts begin behind those that are in a directory, and in the ones below it that tell rows apart.
func (s *Sink) after(dir string) error {
	names, err := s.fs.List(filepath.Join(s.dir, dir))
	for _, n := range names {
		if i, ok := s.numberOf(strings.TrimPrefix(n, ".")); ok {
			s.part = max(s.part, i+1)
		}
		if strings.Contains(n, "=") && s.cut != nil {
			err = errors.Join(err, s.after(filepath.Join(dir, n)))
		}
	}
	return err
}

// begins says what stands before the first row of a part, and how rows that are no lines are written.
func (s *Sink) begins() ([]byte, error) {
	pack := s.options.Word("compress", "none")
	switch s.options.Word("format", "json") {
	case "parquet":
		s.parquet = pack
		probe, err := format.NewParquetWriter(io.Discard, s.fields, pack)
		if err != nil {
			return nil, fmt.Errorf("the columns cannot be written as Parquet: %w", err)
		}
		return blocksHead, probe.Close()
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

// hidden is where a part grows, whatever directory it will stand in.
func (s *Sink) hidden(name string) string { return filepath.Join(s.dir, "."+path.Base(name)) }

// object names the object that a part becomes.
func (s *Sink) object(name string) string {
	dir, file := path.Split(name)
	return s.at + "/" + dir + "part-" + s.id + strings.TrimPrefix(file, "part")
}

// Resume implements flow.Exact.
func (s *Sink) Resume(b []byte) error {
	s.durable = true
	var h handle
	if b != nil {
		if err := json.Unmarshal(b, &h); err != nil {
			return err
		}
	}
	if h.Bytes > 0 {
		h.Open = append(h.Open, openPart{Part: h.Part, Bytes: h.Bytes, Rows: h.Rows, Sum: h.Sum})
	}
	s.ready, s.id = h.Ready, cmp.Or(h.ID, s.id)
	names, err := s.fs.List(s.dir)
	if err != nil {
		return err
	}
	if err := s.own(names); err != nil {
		return err
	}
	if s.to != nil && h.ID != "" {
		if err := s.to.Abort(context.Background(), s.at, func(key string) bool { return strings.HasPrefix(path.Base(key), "part-"+s.id+"-") }); err != nil && !s.to.Retry(err) {
			return err
		}
	}
	s.part = max(s.part, h.Part, h.Next, 1)
	if s.cut == nil { // those that no checkpoint relies on are made anew
		s.part = max(h.Part, h.Next, 1)
	}
	for _, n := range names { // hidden parts that no checkpoint relies on
		name := strings.TrimPrefix(n, ".")
		i, ok := s.numberOf(name)
		if !ok || slices.ContainsFunc(h.Open, func(o openPart) bool { return o.Part == i }) {
			continue
		}
		if n == name || isReady(h.Ready, name) {
			s.part = max(s.part, i+1)
			continue
		}
		err = errors.Join(err, s.fs.Remove(filepath.Join(s.dir, n)))
	}
	if err != nil {
		return err
	}
	for _, o := range h.Open {
		if err := s.goOn(o); err != nil {
			return err
		}
	}
	return nil
}

// goOn opens a part again that is being written.
func (s *Sink) goOn(o openPart) error {
	f, err := s.fs.Open(s.growing(o.Part))
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("the open part %s is gone, on which the checkpoint relies", s.growing(o.Part))
	}
	if err != nil {
		return err
	}
	if size, err := f.Size(); err != nil || size < o.Bytes {
		return errors.Join(err, f.Close(), fmt.Errorf("the open part %s is shorter than the checkpoint says: %d of %d bytes", s.growing(o.Part), size, o.Bytes))
	}
	if err := f.Truncate(o.Bytes); err != nil {
		return errors.Join(err, f.Close())
	}
	s.open[o.Dir] = &open{part: o.Part, file: f, since: time.Now(), until: cmp.Or(o.Until, types.MaxTime), size: o.Bytes, rows: o.Rows, sum: o.Sum, fresh: true} // what was cut off is so for good once it is synced
	s.part = max(s.part, o.Part+1)
	return nil
}

// isReady says whether a part of a name, without directories, is in a list.
func isReady(ready []part, name string) bool {
	for _, p := range ready {
		if path.Base(p.Part) == path.Base(name) {
			return true
		}
	}
	return false
}

// NewEncoder implements flow.Sink.
func (s *Sink) NewEncoder(fields []types.Field) (flow.Encoder, error) {
	one := func() (flow.Encoder, error) {
		switch {
		case s.avro != "":
			return format.NewAvroBlocks(s.fields, s.avro)
		case s.parquet != "":
			return &blocksEncoder{format.NewArrowBlocks(format.ArrowSchema(s.fields))}, nil
		}
		enc, err := (&format.Writing{Options: s.options, Fields: fields}).NewEncoder()
		if err != nil || s.pack == nil {
			return text.NewLines(enc, "\n"), err
		}
		return &packer{text.NewLines(enc, "\n"), s.pack}, nil
	}
	if s.cut == nil {
		return one()
	}
	if _, err := one(); err != nil {
		return nil, err
	}
	return &cutter{cut: s.cut, encoder: one, by: map[string]*slice{}}, nil
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// errFull says that too much waits for an object store.
var errFull = fmt.Errorf("%d MB wait for the object store, and no more rows are taken", mostSpooled>>20)

// Write implements flow.Sink.
func (s *Sink) Write(p flow.Payload) error {
	if s.to != nil && s.Waiting() > mostSpooled {
		return errFull
	}
	slices, ok := p.Any.([]*slice)
	if !ok {
		return s.write("", types.MaxTime, &p)
	}
	for _, x := range slices { // what was written of them is empty, where this is tried again
		if err := s.write(x.dir, x.until, &x.payload); err != nil {
			return err
		}
		s.newer = max(s.newer, x.newest)
	}
	return nil
}

// write writes rows to the part of a directory.
func (s *Sink) write(dir string, until int64, p *flow.Payload) error {
	if p.Rows == 0 {
		return nil
	}
	o := s.open[dir]
	if o == nil {
		if len(s.open) >= mostOpen {
			if err := s.shutFirst(); err != nil {
				return err
			}
		}
		f, err := s.fs.Create(s.growing(s.part))
		if err != nil {
			return err
		}
		if _, err := f.WriteAt(s.header, 0); err != nil {
			return errors.Join(err, f.Close())
		}
		o = &open{part: s.part, file: f, since: time.Now(), until: until, size: int64(len(s.header)), sum: crc32.Checksum(s.header, castagnoli)}
		s.open[dir] = o
		s.part++
	}
	if _, err := o.file.WriteAt(p.Bytes, o.size); err != nil {
		return err // what was written of it is written over, or cut off
	}
	o.size += int64(len(p.Bytes))
	o.rows += int64(p.Rows)
	o.sum = crc32.Update(o.sum, castagnoli, p.Bytes)
	o.fresh = true
	text.Recycle(p.Bytes)
	*p = flow.Payload{}
	return nil
}

// shutFirst closes the part that was opened first, to make room.
func (s *Sink) shutFirst() error {
	first := ""
	for dir, o := range s.open {
		if f := s.open[first]; f == nil || o.part < f.part {
			first = dir
		}
	}
	if err := s.sync(s.open[first]); err != nil {
		return err
	}
	return s.shut(first)
}

// Waiting implements flow.Spooling: bytes that wait for an object store.
func (s *Sink) Waiting() (n int64) {
	if s.to == nil {
		return 0
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.ready {
		n += p.Bytes
	}
	return n
}

// Retry implements flow.Retrier: a full disk may get room, and an object store come again.
func (s *Sink) Retry(err error) bool {
	return disk.Passing(err) || errors.Is(err, errFull) || s.to != nil && s.to.Retry(err)
}

// closes says whether a part is not written on behind a checkpoint.
func (s *Sink) closes(o *open) bool {
	return time.Since(o.since) >= s.roll || s.rollRows > 0 && o.rows >= s.rollRows || s.rollSize > 0 && o.size >= s.rollSize ||
		s.behind >= 0 && o.until < types.MaxTime && s.newer >= o.until+s.behind.Microseconds()
}

// Mark implements flow.Exact.
func (s *Sink) Mark(final bool) ([]byte, error) {
	var h handle
	for _, dir := range s.dirs() {
		o := s.open[dir]
		if err := s.sync(o); err != nil {
			return nil, err
		}
		if final || s.closes(o) {
			if err := s.shut(dir); err != nil {
				return nil, err
			}
			continue
		}
		until := o.until
		if until == types.MaxTime {
			until = 0
		}
		h.Open = append(h.Open, openPart{o.part, dir, until, o.size, o.rows, o.sum})
	}
	h.Next, h.ID = s.part, s.id
	s.mu.Lock()
	defer s.mu.Unlock()
	h.Ready = s.ready
	return json.Marshal(h)
}

// dirs are the directories with open parts, in the order in which those were opened.
func (s *Sink) dirs() []string {
	var out []string
	for d := range s.open {
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b string) int { return cmp.Compare(s.open[a].part, s.open[b].part) })
	return out
}

// sync makes an open part durable. After a failed sync nobody knows what the disk holds: all of it is written
// once more.
func (s *Sink) sync(o *open) error {
	if !o.fresh && !o.doubt {
		return nil
	}
	if err := o.file.Truncate(o.size); err != nil {
		return err
	}
	if err := disk.SyncWhole(o.file, o.size, &o.doubt); err != nil {
		return err
	}
	if err := s.fs.SyncDir(s.dir); err != nil {
		return err
	}
	o.fresh = false
	return nil
}

// shut closes an open part, which is on the disk.
func (s *Sink) shut(dir string) error {
	o := s.open[dir]
	size, sum := o.size, o.sum
	if s.parquet != "" {
		var err error
		if size, sum, err = s.convert(o); err != nil {
			return err
		}
	}
	if err := o.file.Close(); err != nil {
		return err
	}
	delete(s.open, dir)
	s.mu.Lock()
	s.ready = append(s.ready[:len(s.ready):len(s.ready)], part{path.Join(dir, s.name(o.part)), o.rows, size, fmt.Sprintf("%08x", sum)})
	s.mu.Unlock()
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
	if s.to != nil {
		var sending errgroup.Group
		sending.SetLimit(mostSending)
		for _, p := range parts {
			sending.Go(func() error { return s.send(p) })
		}
		if err := sending.Wait(); err != nil {
			return err
		}
		return s.fs.SyncDir(s.dir)
	}
	if err := s.moveAll(parts); err != nil {
		return err
	}
	if err := s.tell(parts); err != nil {
		return err
	}
	if err := errors.Join(s.removeBlocks(parts), s.fs.SyncDir(s.dir)); err != nil {
		return err
	}
	s.forget(parts)
	return nil
}

// mostSending are the parts that are sent to an object store at the same time.
const mostSending = 4

// moveAll moves parts into their directories.
func (s *Sink) moveAll(parts []part) error {
	made := map[string]bool{}
	for _, p := range parts {
		if dir := path.Dir(p.Part); dir != "." && !made[dir] {
			if err := s.fs.MkdirAll(filepath.Join(s.dir, dir)); err != nil {
				return err
			}
			made[dir] = true
		}
		if err := s.fs.Rename(s.hidden(p.Part), s.visible(p.Part)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	for dir := range made { // a directory that was made is so for good once the one above is synced
		for d := dir; d != "."; d = path.Dir(d) {
			if err := s.fs.SyncDir(filepath.Join(s.dir, d)); err != nil {
				return err
			}
		}
	}
	return nil
}

// send makes a part an object. What is not there any more has become one.
func (s *Sink) send(p part) error {
	f, err := s.fs.Open(s.hidden(p.Part))
	if errors.Is(err, os.ErrNotExist) {
		s.forget([]part{p})
		return nil
	}
	if err != nil {
		return err
	}
	size, err := f.Size()
	if err == nil {
		err = s.to.Put(context.Background(), s.object(p.Part), f, size)
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err := s.fs.Remove(s.hidden(p.Part)); err != nil {
		return err
	}
	if err := s.removeBlocks([]part{p}); err != nil {
		return err
	}
	s.forget([]part{p})
	return nil
}

// forget drops parts from those that are to be put in place.
func (s *Sink) forget(parts []part) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var left []part
	for _, p := range s.ready {
		if !isReady(parts, p.Part) {
			left = append(left, p)
		}
	}
	s.ready = left
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

// Close implements flow.Sink. A run without checkpoints that comes to its end moves its parts into place; one
// that does not leaves nothing behind.
func (s *Sink) Close(complete bool) error {
	err := errors.Join(s.end(complete), s.lock.Close())
	if s.temp {
		err = errors.Join(err, s.fs.RemoveAll(s.dir))
	}
	return err
}

func (s *Sink) end(complete bool) error {
	switch {
	case complete && s.durable:
		return nil // the last checkpoint has moved the parts into place
	case complete:
		for _, dir := range s.dirs() {
			if err := s.shut(dir); err != nil {
				return err
			}
		}
		if s.to != nil {
			return s.place(s.ready)
		}
		if err := s.moveAll(s.ready); err != nil {
			return err
		}
		return s.removeBlocks(s.ready)
	}
	var errs []error
	for _, o := range s.open {
		errs = append(errs, o.file.Close())
		if !s.durable { // nobody will go on with it
			errs = append(errs, s.fs.Remove(s.growing(o.part)))
		}
	}
	if !s.durable {
		for _, p := range s.ready {
			errs = append(errs, s.fs.Remove(s.hidden(p.Part)))
		}
		errs = append(errs, s.removeBlocks(s.ready))
	}
	return errors.Join(errs...)
}
