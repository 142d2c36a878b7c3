package files

import (
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/disk"
	"fiume/internal/format"
)

// A part of Parquet can neither be cut where a checkpoint ends nor written on: its end tells where all is. The rows of the open part are kept as blocks
// of Avro in a hidden file of their own, which can be both, and are made Parquet when the part is closed. The blocks stay until the part is in place, for
// a checkpoint may still rely on them.

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

// convert makes the blocks of an open part a part of Parquet, which is on the disk then, and gives its size and sum.
func (s *Sink) convert(o *open) (size int64, sum uint32, err error) {
	rows, err := format.OpenRowFile("avro", o.file, o.size)
	if err != nil {
		return 0, 0, err
	}
	st := &plan.Stream{Name: "part", Time: -1, Columns: s.fields}
	dec, err := rows.NewDecoder(&format.Reading{Stream: st, Used: &plan.Use{All: true}})
	if err != nil {
		return 0, 0, err
	}
	f, err := s.fs.Create(s.hidden(s.name(o.part)))
	if err != nil {
		return 0, 0, err
	}
	out := &summed{file: f}
	w, err := format.NewParquetWriter(out, s.fields, s.parquet)
	if err != nil {
		return 0, 0, errors.Join(err, f.Close())
	}
	var ms []flow.Message
	for at := int64(0); at < rows.Rows() && err == nil; {
		ms = ms[:0]
		for end := rows.Piece(at); at < end; at++ {
			ms = append(ms, flow.Message{Pos: at})
		}
		var b column.Batch
		if bad := dec.Decode(nil, ms, &b); len(bad) > 0 {
			err = fmt.Errorf("row %d of the open part cannot be read: %s", ms[bad[0].Message].Pos+1, bad[0].Reason)
			break
		}
		err = w.Write(&b)
	}
	if err == nil {
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

// asBlocks gives the columns as they are read back from blocks of Avro.
func asBlocks(fields []types.Field) []types.Field {
	out := append([]types.Field{}, fields...)
	for i := range out {
		out[i].NotNull = false
	}
	return out
}
