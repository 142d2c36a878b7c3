package format

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"slices"
	"sort"

	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/types"

	"github.com/twmb/avro/ocf"
)

// Files of Avro (specification 1.12, "Object Container Files"): a header with the schema, then blocks of rows, each with how many there are and how long it
// is before it, and the file's mark behind it.

// avroFile is an open file. Its blocks are known from the beginning: a piece is some of them.
type avroFile struct {
	f       io.ReaderAt
	size    int64
	schema  *Schema
	program *avroProgram
	codec   ocf.BoundedDecompressor // nil: blocks are not packed
	mark    [16]byte
	blocks  []avroBlock
	rows    int64
}

type avroBlock struct {
	first int64 // row
	rows  int64
	at    int64 // byte of what is packed
	size  int64
}

const (
	// mostBlock is how long a block may be, packed or not.
	mostBlock = 256 << 20
	// pieceRows are decoded at a time, at least: blocks are not taken apart.
	pieceRows = 4096
	// mostHeader is how long a header may be.
	mostHeader = 16 << 20
)

func openAvroFile(f io.ReaderAt, size int64) (*avroFile, error) {
	a := &avroFile{f: f, size: size}
	at, err := a.header()
	if err != nil {
		return nil, err
	}
	var b [20]byte
	for at < size {
		n, err := f.ReadAt(b[:], at)
		if n == 0 {
			return nil, err
		}
		rows, k := binary.Varint(b[:n])
		length, l := int64(0), 0
		if k > 0 {
			length, l = binary.Varint(b[k:n])
		}
		begin := at + int64(k+l)
		if k <= 0 || l <= 0 || rows < 0 || length < 0 || length > mostBlock || begin+length+16 > size {
			return nil, fmt.Errorf("the file is cut off or damaged in the block at byte %d, behind row %d", at, a.rows)
		}
		var mark [16]byte
		if _, err := f.ReadAt(mark[:], begin+length); err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		if mark != a.mark {
			return nil, fmt.Errorf("the file is damaged: the block at byte %d, behind row %d, does not end with the file's mark", at, a.rows)
		}
		if rows > 0 {
			a.blocks = append(a.blocks, avroBlock{a.rows, rows, begin, length})
		}
		a.rows += rows
		at = begin + length + 16
	}
	return a, nil
}

// header reads what stands before the first block, and gives where that begins.
func (a *avroFile) header() (int64, error) {
	bad := errors.New("the file is no Avro file: its header cannot be read")
	b := make([]byte, min(a.size, 4096))
	for {
		if _, err := a.f.ReadAt(b, 0); err != nil && !errors.Is(err, io.EOF) {
			return 0, err
		}
		if !bytes.HasPrefix(b, []byte("Obj\x01")) {
			return 0, bad
		}
		r := &avroReader{data: b, at: 4, end: len(b)}
		meta := map[string]string{}
		ok := r.blocks(&avroNode{kind: "map", item: &avroNode{kind: "bytes"}}, func() bool {
			k, ok := r.text()
			if !ok {
				return false
			}
			v, ok := r.text()
			meta[string(k)] = string(v)
			return ok
		})
		if ok {
			var mark []byte
			if mark, ok = r.some(16); ok {
				copy(a.mark[:], mark)
				return int64(r.at), a.told(meta)
			}
		}
		if int64(len(b)) == a.size || len(b) >= mostHeader {
			return 0, bad
		}
		b = make([]byte, min(a.size, int64(4*len(b))))
	}
}

// told takes what the header tells.
func (a *avroFile) told(meta map[string]string) error {
	a.schema = &Schema{Format: "avro", Text: meta["avro.schema"]}
	p, err := avroFormat{}.program(a.schema)
	if err != nil {
		return err
	}
	a.program = p.(*avroProgram)
	a.codec, err = avroCodec(meta["avro.codec"])
	return err
}

// avroCodec gives what unpacks blocks.
func avroCodec(name string) (ocf.BoundedDecompressor, error) {
	switch name {
	case "", "null":
		return nil, nil
	case "deflate":
		return ocf.DeflateCodec(1).(ocf.BoundedDecompressor), nil
	case "snappy":
		return ocf.SnappyCodec().(ocf.BoundedDecompressor), nil
	case "zstandard":
		z, err := ocf.ZstdCodec(nil, nil)
		if err != nil {
			return nil, err
		}
		return z.(ocf.BoundedDecompressor), nil
	}
	return nil, fmt.Errorf("the file's blocks are packed with %s, which cannot be read; deflate, snappy and zstandard can", name)
}

// Rows implements RowFile.
func (a *avroFile) Rows() int64 { return a.rows }

// Columns implements RowFile.
func (a *avroFile) Columns() ([]types.Field, error) { return avroFormat{}.columns(a.program) }

// block finds the block of a row.
func (a *avroFile) block(row int64) int {
	return sort.Search(len(a.blocks), func(i int) bool { return a.blocks[i].first > row }) - 1
}

// Piece implements RowFile.
func (a *avroFile) Piece(from int64) int64 {
	i := a.block(from)
	end := from
	for ; i < len(a.blocks) && end-from < pieceRows; i++ {
		end = a.blocks[i].first + a.blocks[i].rows
	}
	return end
}

// NewDecoder implements RowFile.
func (a *avroFile) NewDecoder(r *Reading) (flow.Decoder, error) {
	t := newTargets(r)
	made, err := avroFormat{}.reader(a.program, t)
	if err != nil {
		return nil, err
	}
	f := &avroFiller{file: a, reader: made.(*avroReader)}
	if a.codec != nil { // one keeps memory
		if f.codec, err = avroCodecLike(a.codec); err != nil {
			return nil, err
		}
	}
	return &rowDecoder{r.Stream, t, f}, nil
}

// avroCodecLike makes another codec of the same kind.
func avroCodecLike(c ocf.BoundedDecompressor) (ocf.BoundedDecompressor, error) {
	return avroCodec(c.(ocf.Codec).Name())
}

type avroFiller struct {
	file   *avroFile
	reader *avroReader
	codec  ocf.BoundedDecompressor
	buf    []byte
}

// fill implements rowFiller.
func (f *avroFiller) fill(from, to int64) (bad map[int]string, err error) {
	n := int(to - from)
	refuse := func(row int64, why string) {
		if bad == nil {
			bad = map[int]string{}
		}
		bad[int(row-from)] = why
	}
	for i := f.file.block(from); i < len(f.file.blocks) && f.file.blocks[i].first < to; i++ {
		b := f.file.blocks[i]
		data, err := f.read(b)
		at := 0
		for row := b.first; row < min(to, b.first+b.rows); row++ {
			if err != nil {
				if row >= from {
					refuse(row, err.Error())
				}
				continue
			}
			into := max(0, int(row-from)) // those before are read to get past them
			end, why := f.reader.next(data, at, into, n)
			if why != "" && row >= from {
				refuse(row, why)
			}
			if at = end; why != "" && end == 0 {
				err = fmt.Errorf("it stands in a block behind a row that cannot be read: %s", why)
			}
		}
	}
	return bad, nil
}

// read reads and unpacks a block.
func (f *avroFiller) read(b avroBlock) ([]byte, error) {
	if int64(cap(f.buf)) < b.size+flow.Pad {
		f.buf = make([]byte, b.size+flow.Pad)
	}
	raw := f.buf[:b.size]
	if _, err := f.file.f.ReadAt(raw, b.at); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if f.codec == nil {
		return raw, nil
	}
	out, err := f.codec.DecompressBounded(raw, mostBlock)
	if err != nil {
		return nil, fmt.Errorf("the block at byte %d cannot be unpacked: %w", b.at, err)
	}
	return slices.Grow(out, flow.Pad), nil
}

// next reads a row that stands among others, and gives where the one behind it begins; 0 where that is not known.
func (r *avroReader) next(data []byte, at, row, n int) (end int, bad string) {
	if r.steps != nil {
		if end, ok := r.fast(data, at, len(data), row, n); ok {
			return end, ""
		}
	}
	r.data, r.at, r.end, r.why, r.where = data, at, len(data), "", ""
	if r.take(r.root, row, n, 0) {
		return r.at, ""
	}
	bad = r.why
	if r.where != "" {
		bad = r.where + ": " + r.why
	}
	if r.at = at; !r.skip(r.root.node, 0) {
		return 0, bad
	}
	return r.at, bad
}

// AvroBlocks writes rows as blocks of a file of Avro.
type AvroBlocks struct {
	enc   *avroEncoder
	codec ocf.Codec
	mark  [16]byte
	head  []byte
	buf   []byte
	rows  int
}

// NewAvroBlocks makes a writer of rows with these columns; codec is null, deflate or zstandard.
func NewAvroBlocks(fields []types.Field, codec string) (*AvroBlocks, error) {
	s, err := avroSchemaOf(withoutNotNull(fields), nil)
	if err != nil {
		return nil, err
	}
	w := &AvroBlocks{enc: &avroEncoder{fields}}
	c, err := avroCodec(codec)
	if err != nil {
		return nil, err
	}
	if c != nil {
		w.codec = c.(ocf.Codec)
	}
	// The mark of one sink is always the same, so that it can write on a file after a restart.
	h := fnv.New128a()
	h.Write([]byte("fiume\x00" + s.Text))
	h.Sum(w.mark[:0])
	w.head = append(w.head, "Obj\x01"...)
	w.head = binary.AppendVarint(w.head, 2)
	for _, kv := range [][2]string{{"avro.schema", s.Text}, {"avro.codec", codec}} {
		w.head = appendAvroText(appendAvroText(w.head, []byte(kv[0])), []byte(kv[1]))
	}
	w.head = append(append(w.head, 0), w.mark[:]...)
	return w, nil
}

// Header is what stands before the first block.
func (w *AvroBlocks) Header() []byte { return w.head }

// Add implements flow.Encoder.
func (w *AvroBlocks) Add(b *column.Batch) {
	for i := range b.N {
		w.buf = w.enc.Append(w.buf, b, i)
	}
	w.rows += b.N
}

// Held is how many bytes wait to be taken.
func (w *AvroBlocks) Held() int { return len(w.buf) }

// Take implements flow.Encoder: what was added is one block.
func (w *AvroBlocks) Take() flow.Payload {
	p := flow.Payload{Rows: w.rows}
	if w.rows == 0 {
		return p
	}
	data := w.buf
	if w.codec != nil {
		packed, err := w.codec.Compress(data)
		if err != nil { // it writes into memory, which takes all
			panic(err)
		}
		data = packed
	}
	p.Bytes = binary.AppendVarint(nil, int64(w.rows))
	p.Bytes = binary.AppendVarint(p.Bytes, int64(len(data)))
	p.Bytes = append(append(p.Bytes, data...), w.mark[:]...)
	w.buf, w.rows = w.buf[:0], 0
	return p
}
