package files

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/format"
)

// Sink writes part files into a directory. A part is written under a hidden name and moved into place
// whole, when it has been open for the time of ROLL EVERY or the job ends. At every checkpoint the
// open part is synced and its length noted beside it; a part that a crash left behind is cut to that
// length and moved into place, so that what a checkpoint relies on is kept.
type Sink struct {
	dir     string
	ext     string
	header  []byte
	roll    time.Duration
	durable bool

	part   int
	file   *os.File
	opened time.Time
	good   int64 // bytes of whole payloads in the open part

	options plan.Options
}

// OpenSink opens the directory of a sink. Without durable nothing is synced: a run that can simply be
// started again does not wait for the disk.
func OpenSink(out *plan.Op, durable bool) (*Sink, error) {
	s := out.Sink
	enc, err := format.NewEncoder(s.Options, out.Fields)
	if err != nil {
		return nil, err
	}
	k := &Sink{dir: s.Address, ext: "." + s.Options.Word("format", "json"), options: s.Options, header: enc.Header(), durable: durable,
		roll: time.Duration(s.Options.Duration("roll every", types.Minute)) * time.Microsecond}
	if err := os.MkdirAll(k.dir, 0o755); err != nil {
		return nil, fmt.Errorf("the directory cannot be made: %w", err)
	}
	return k, k.recover()
}

func (s *Sink) visible() string {
	return filepath.Join(s.dir, fmt.Sprintf("part-%06d%s", s.part, s.ext))
}
func (s *Sink) hidden() string {
	return filepath.Join(s.dir, fmt.Sprintf(".part-%06d%s", s.part, s.ext))
}
func (s *Sink) noted() string { return s.hidden() + ".synced" }

// recover finds the number of the next part and rescues a part left open.
func (s *Sink) recover() error {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return err
	}
	next := 1
	for _, e := range entries {
		n := strings.TrimPrefix(e.Name(), ".")
		if !strings.HasPrefix(n, "part-") || len(n) < 11 {
			continue
		}
		k, err := strconv.Atoi(n[5:11])
		if err != nil {
			continue
		}
		next = max(next, k+1)
		if n == e.Name() || strings.HasSuffix(n, ".synced") || !strings.HasSuffix(n, s.ext) {
			continue
		}
		s.part = k
		length := int64(0)
		if b, err := os.ReadFile(s.noted()); err == nil {
			length, _ = strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
		}
		if length == 0 {
			err = os.Remove(s.hidden())
		} else if err = os.Truncate(s.hidden(), length); err == nil {
			err = os.Rename(s.hidden(), s.visible())
		}
		if rmErr := os.Remove(s.noted()); rmErr != nil && !errors.Is(rmErr, os.ErrNotExist) {
			err = errors.Join(err, rmErr)
		}
		if err != nil {
			return fmt.Errorf("a part left open cannot be rescued: %w", err)
		}
	}
	s.part = next
	return nil
}

// NewEncoder implements flow.Sink.
func (s *Sink) NewEncoder(fields []types.Field) (flow.Encoder, error) {
	enc, err := format.NewEncoder(s.options, fields)
	return text.NewLines(enc, "\n"), err
}

// Write implements flow.Sink.
func (s *Sink) Write(p flow.Payload) error {
	if s.file == nil {
		f, err := os.OpenFile(s.hidden(), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o644)
		if err != nil {
			return err
		}
		if _, err := f.Write(s.header); err != nil {
			return errors.Join(err, f.Close())
		}
		s.file, s.opened, s.good = f, time.Now(), int64(len(s.header))
	}
	if _, err := s.file.Write(p.Bytes); err != nil {
		// What was written of it is taken back, so that it can be tried again.
		_, seek := s.file.Seek(s.good, io.SeekStart)
		return errors.Join(err, s.file.Truncate(s.good), seek)
	}
	s.good += int64(len(p.Bytes))
	text.Recycle(p.Bytes)
	return nil
}

// Retry implements flow.Retrier: a full disk may get room.
func (s *Sink) Retry(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}

// Sync implements flow.Sink.
func (s *Sink) Sync() error {
	if s.file == nil {
		return nil
	}
	if time.Since(s.opened) >= s.roll {
		return s.finish()
	}
	if err := s.file.Sync(); err != nil {
		return err
	}
	st, err := s.file.Stat()
	if err != nil {
		return err
	}
	tmp := s.noted() + ".new"
	if err := os.WriteFile(tmp, []byte(strconv.FormatInt(st.Size(), 10)), 0o644); err != nil {
		return err
	}
	return os.Rename(tmp, s.noted())
}

// finish moves the open part into place.
func (s *Sink) finish() error {
	if s.file == nil {
		return nil
	}
	var err error
	if s.durable {
		err = s.file.Sync()
	}
	if err = errors.Join(err, s.file.Close()); err != nil {
		return err
	}
	s.file = nil
	if err := os.Rename(s.hidden(), s.visible()); err != nil {
		return err
	}
	if err := os.Remove(s.noted()); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	s.part++
	return nil
}

// Close implements flow.Sink. A run that did not come to its end keeps its open part hidden, for
// recover.
func (s *Sink) Close(complete bool) error {
	if complete {
		return s.finish()
	}
	if s.file == nil {
		return nil
	}
	if !s.durable { // nobody will go on with it
		return errors.Join(s.file.Close(), os.Remove(s.hidden()))
	}
	return s.file.Close()
}
