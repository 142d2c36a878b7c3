// Package spool holds rows back until a checkpoint counts, and then gives each row once to a target that takes
// many rows at once or tells which it has. It is the sink protocol of places that show rows only when they are
// certain: a checkpoint keeps what was spooled until the target has confirmed it.
package spool

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"fiume/internal/core/flow"
	"fiume/internal/disk"
)

// Target takes deliveries: the payloads that were written between two checkpoints.
type Target interface {
	// Place says where the target stands before a delivery; the delivery's rows are behind it.
	Place() ([]byte, error)
	// Deliver writes the payloads of a delivery, unless, or as far as, the target has them. Writer and number name
	// the delivery; numbers of a writer ascend. Where it fails it is called again with the same.
	Deliver(writer string, number int64, place []byte, payloads [][]byte) error
	// Has says whether something of a delivery is there. It is asked where its spool file has gone, which is removed
	// once all of it is.
	Has(writer string, number int64, place []byte) (bool, error)
	// Passing says whether a failure may pass by itself.
	Passing(err error) bool
}

// Sink is the part of a flow.Sink that spools: all but the encoder and Close.
type Sink struct {
	FS     disk.FS
	Dir    string // of its own
	Target Target
	Limit  int64 // bytes that may wait for the target; 0: DefaultLimit

	writer string
	file   disk.File
	name   string
	size   int64 // of the file, whole payloads
	buf    []byte
	doubt  bool // a sync has failed: what the file holds is to be written anew
	next   int  // number of the next file

	mu      sync.Mutex
	number  int64
	pending []delivery // those that the target may not have, oldest first
	waiting int64      // their bytes
}

// DefaultLimit is how many bytes may wait for a target that is away.
const DefaultLimit = 1 << 30

// flushBytes are written to the file at a time.
const flushBytes = 256 << 10

// delivery is a spool file.
type delivery struct {
	Number int64  `json:"number"`
	File   string `json:"file"`
	Bytes  int64  `json:"bytes"`
	Place  []byte `json:"place,omitempty"`
}

// handle is what a checkpoint keeps.
type handle struct {
	Writer  string     `json:"writer"`
	Number  int64      `json:"number"`
	Next    int        `json:"next"`
	Pending []delivery `json:"pending,omitempty"`
}

// NewWriter gives a name that nobody has.
func NewWriter() string {
	b := make([]byte, 12)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

var errWaiting = errors.New("as much waits for the target as may")

// Resume implements flow.Exact.
func (s *Sink) Resume(b []byte) error {
	h := handle{Writer: NewWriter()}
	if b != nil {
		if err := json.Unmarshal(b, &h); err != nil {
			return err
		}
	}
	s.writer, s.number, s.next, s.pending = h.Writer, h.Number, h.Next, h.Pending
	s.waiting = 0
	for _, d := range s.pending {
		s.waiting += d.Bytes
	}
	if err := s.FS.MkdirAll(s.Dir); err != nil {
		return err
	}
	names, err := s.FS.List(s.Dir)
	if err != nil {
		return err
	}
	for _, n := range names { // what no checkpoint relies on
		if strings.HasSuffix(n, ".spool") && !slices.ContainsFunc(s.pending, func(d delivery) bool { return d.File == n }) {
			err = errors.Join(err, s.FS.Remove(filepath.Join(s.Dir, n)))
		}
	}
	return err
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Write keeps a payload: its length and its CRC-32C, little-endian uint32, stand before it.
func (s *Sink) Write(payload []byte) error {
	s.mu.Lock()
	waiting := s.waiting
	s.mu.Unlock()
	if s.file != nil {
		waiting += s.size
	}
	limit := s.Limit
	if limit == 0 {
		limit = DefaultLimit
	}
	if waiting > limit {
		return fmt.Errorf("%w: %d bytes", errWaiting, waiting)
	}
	if len(s.buf) >= flushBytes {
		if err := s.flush(); err != nil {
			return err
		}
	}
	le := binary.LittleEndian
	s.buf = le.AppendUint32(s.buf, uint32(len(payload)))
	s.buf = le.AppendUint32(s.buf, crc32.Checksum(payload, castagnoli))
	s.buf = append(s.buf, payload...)
	return nil
}

func (s *Sink) create() error {
	if err := s.FS.MkdirAll(s.Dir); err != nil {
		return err
	}
	name := fmt.Sprintf("%08d.spool", s.next)
	f, err := s.FS.Create(filepath.Join(s.Dir, name))
	if err != nil {
		return err
	}
	s.file, s.name, s.next = f, name, s.next+1
	return nil
}

func (s *Sink) flush() error {
	if len(s.buf) == 0 {
		return nil
	}
	if s.file == nil {
		if err := s.create(); err != nil {
			return err
		}
		s.size = 0
	}
	if _, err := s.file.WriteAt(s.buf, s.size); err != nil {
		return err // what was written of it is written over
	}
	s.size += int64(len(s.buf))
	s.buf = s.buf[:0]
	return nil
}

// Mark implements flow.Exact: what was written since the last one becomes a delivery.
func (s *Sink) Mark(bool) ([]byte, error) {
	if err := s.flush(); err != nil {
		return nil, err
	}
	if s.file != nil {
		if err := s.settle(); err != nil {
			return nil, err
		}
		place, err := s.Target.Place()
		if err != nil {
			return nil, err
		}
		if err := s.file.Close(); err != nil {
			return nil, err
		}
		s.mu.Lock()
		s.number++
		s.pending = append(s.pending, delivery{s.number, s.name, s.size, place})
		s.waiting += s.size
		s.mu.Unlock()
		s.file = nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return json.Marshal(handle{s.writer, s.number, s.next, s.pending})
}

// settle makes the open file durable. After a failed sync nobody knows what the disk holds, so that the file is
// written once more.
func (s *Sink) settle() error {
	if err := disk.SyncWhole(s.file, s.size, &s.doubt); err != nil {
		return err
	}
	return s.FS.SyncDir(s.Dir)
}

// Commit implements flow.Exact: it delivers what the checkpoint covers.
func (s *Sink) Commit(b []byte) error {
	var h handle
	if err := json.Unmarshal(b, &h); err != nil {
		return err
	}
	for {
		s.mu.Lock()
		if len(s.pending) == 0 || s.pending[0].Number > h.Number {
			s.mu.Unlock()
			return nil
		}
		d := s.pending[0]
		s.mu.Unlock()
		payloads, err := s.read(d)
		if errors.Is(err, os.ErrNotExist) {
			has, asked := s.Target.Has(s.writer, d.Number, d.Place)
			if asked != nil {
				return asked
			}
			if !has {
				return fmt.Errorf("the spool file %s is gone, and the target does not have its rows", d.File)
			}
		} else if err != nil {
			return err
		} else if err := s.Target.Deliver(s.writer, d.Number, d.Place, payloads); err != nil {
			return err
		}
		s.mu.Lock()
		s.pending = slices.Clone(s.pending[1:])
		s.waiting -= d.Bytes
		s.mu.Unlock()
		if err := s.FS.Remove(filepath.Join(s.Dir, d.File)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
}

func (s *Sink) read(d delivery) (payloads [][]byte, err error) {
	b, err := disk.Read(s.FS, filepath.Join(s.Dir, d.File))
	if err != nil {
		return nil, err
	}
	if int64(len(b)) < d.Bytes {
		return nil, fmt.Errorf("the spool file %s is cut short: %d of %d bytes", d.File, len(b), d.Bytes)
	}
	le := binary.LittleEndian
	for b = b[:d.Bytes]; len(b) > 0; {
		if len(b) < 8 || uint64(len(b)-8) < uint64(le.Uint32(b)) || crc32.Checksum(b[8:8+le.Uint32(b)], castagnoli) != le.Uint32(b[4:]) {
			return nil, fmt.Errorf("the spool file %s is damaged", d.File)
		}
		n := 8 + le.Uint32(b)
		payloads = append(payloads, b[8:n])
		b = b[n:]
	}
	return payloads, nil
}

// Retry implements flow.Retrier.
func (s *Sink) Retry(err error) bool {
	return errors.Is(err, errWaiting) || disk.Passing(err) || s.Target.Passing(err)
}

// Waiting implements flow.Spooling: deliveries that the target may not have yet.
func (s *Sink) Waiting() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.waiting
}

var _ flow.Exact = (*Sink)(nil)

// A message that is spooled begins with the length of its key. One that has headers begins with a length that no other has, written in two bytes where
// one would do, and the headers.
var sideMark = []byte{0x80, 0}

// AppendSide writes headers before a message.
func AppendSide(b, headers []byte) []byte {
	return append(binary.AppendUvarint(append(b, sideMark...), uint64(len(headers))), headers...)
}

// TakeSide reads the headers before a message, nil where it has none, and gives what follows them.
func TakeSide(b []byte) (headers, rest []byte, err error) {
	if !bytes.HasPrefix(b, sideMark) {
		return nil, b, nil
	}
	n, k := binary.Uvarint(b[2:])
	if k <= 0 || n > uint64(len(b)-2-k) {
		return nil, nil, errors.New("spooled messages are cut short")
	}
	return b[2+k : 2+k+int(n)], b[2+k+int(n):], nil
}
