package files

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path"

	"fiume/internal/core/flow"
	"fiume/internal/disk"
	"fiume/internal/format"

	"github.com/apache/arrow-go/v18/arrow"
)

// A part of Parquet can neither be cut where a checkpoint ends nor written on: its end tells where all is. The rows of the open part are kept as streams of Arrow, one for
// each payload with its length before it, in a hidden file of their own, which can be both, and are made Parquet when the part is closed. They stay until the part is in
// place, for a checkpoint may still rely on them.

// blocksHead begins the file.
var blocksHead = []byte("fiume arrow 1\n")

// blocksExt is what the names of the blocks end with.
const blocksExt = ".rows"

// blocks gives the hidden file of the rows of a part.
func (s *Sink) blocks(part int) string {
	return s.hidden(fmt.Sprintf("part-%06d%s", part, blocksExt))
}

// growing gives the hidden file that a part is written to while it is open.
func (s *Sink) growing(part int) string {
	if s.parquet != "" {
		return s.blocks(part)
	}
	return s.hidden(s.name(part))
}

// blocksEncoder makes payloads of rows.
type blocksEncoder struct{ *format.ArrowBlocks }

// Take implements flow.Encoder.
func (e *blocksEncoder) Take() flow.Payload {
	p := e.ArrowBlocks.Take()
	if len(p.Bytes) > 0 {
		p.Bytes = append(binary.LittleEndian.AppendUint32(make([]byte, 0, len(p.Bytes)+4), uint32(len(p.Bytes))), p.Bytes...)
	}
	return p
}

// convert makes the rows of an open part a part of Parquet, which is on the disk then, and gives its size and sum.
func (s *Sink) convert(o *open) (size int64, sum uint32, err error) {
	f, err := s.fs.Create(s.hidden(s.name(o.part)))
	if err != nil {
		return 0, 0, err
	}
	out := &summed{file: f}
	w, err := format.NewParquetWriter(out, s.fields, s.parquet)
	if err != nil {
		return 0, 0, errors.Join(err, f.Close())
	}
	if err = s.eachBlock(o, w.WriteArrow); err == nil {
		err = w.Close()
	}
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = s.fs.SyncDir(s.dir)
	}
	return out.size, out.sum, err
}

// eachBlock hands out the rows of an open part.
func (s *Sink) eachBlock(o *open, each func(arrow.RecordBatch) error) error {
	in := bufio.NewReaderSize(io.NewSectionReader(o.file, 0, o.size), 1<<20)
	head := make([]byte, len(blocksHead))
	if _, err := io.ReadFull(in, head); err != nil || !bytes.Equal(head, blocksHead) {
		return fmt.Errorf("the open part %s was begun by another version: stop the job with that once, which closes its parts", s.blocks(o.part))
	}
	var size [4]byte
	for {
		if _, err := io.ReadFull(in, size[:]); err == io.EOF {
			return nil
		} else if err != nil {
			return fmt.Errorf("the open part %s is cut short: %w", s.blocks(o.part), err)
		}
		n := int64(binary.LittleEndian.Uint32(size[:]))
		if n > o.size {
			return fmt.Errorf("the open part %s is damaged", s.blocks(o.part))
		}
		block := make([]byte, n)
		_, err := io.ReadFull(in, block)
		if err == nil {
			err = format.ReadArrow(bytes.NewReader(block), each)
		}
		if err != nil {
			return fmt.Errorf("the open part %s cannot be read: %w", s.blocks(o.part), err)
		}
	}
}

// removeBlocks removes the rows of parts that are in place.
func (s *Sink) removeBlocks(parts []part) error {
	if s.parquet == "" {
		return nil
	}
	var errs []error
	for _, p := range parts {
		n, _ := s.numberOf(path.Base(p.Part))
		if err := s.fs.Remove(s.blocks(n)); err != nil && !errors.Is(err, os.ErrNotExist) {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// summed writes a file from its beginning.
type summed struct {
	file disk.File
	size int64
	sum  uint32
}

// Write implements io.Writer.
func (w *summed) Write(b []byte) (int, error) {
	n, err := w.file.WriteAt(b, w.size)
	w.size += int64(n)
	w.sum = crc32.Update(w.sum, castagnoli, b[:n])
	return n, err
}
