package files

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"

	"fiume/internal/core/flow"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// Files that are packed with gzip or zstd are read as what is in them: positions are bytes of that. Such a file is read from front to back; whoever
// goes on in the middle unpacks what is before once more. Parts that a sink packs are frames one behind the other, one for each
// payload, so that a part can be cut where a checkpoint ends, and any unpacker reads it.

// unpackers read what is packed, by the first bytes.
var unpackers = map[string]func(in io.Reader) (io.Reader, func(), error){
	"\x1f\x8b": func(in io.Reader) (io.Reader, func(), error) {
		z, err := gzip.NewReader(in)
		return z, func() {}, err
	},
	"\x28\xb5\x2f\xfd": func(in io.Reader) (io.Reader, func(), error) {
		z, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxWindow(128<<20))
		if err != nil {
			return nil, nil, err
		}
		return z, z.Close, nil
	},
}

// unpackerOf gives what unpacks a file that begins so, or nil.
func unpackerOf(begins string) func(in io.Reader) (io.Reader, func(), error) {
	for mark, open := range unpackers {
		if strings.HasPrefix(begins, mark) {
			return open
		}
	}
	return nil
}

// packed is a packed file, as what is in it. It is an io.ReaderAt that goes forward at no cost, and back by beginning anew.
type packed struct {
	file io.ReaderAt
	open func(in io.Reader) (io.Reader, func(), error)
	in   io.Reader
	end  func()
	at   int64
	last []byte // what was read last, up to at: whoever cuts it at the end of a line goes back a little
}

// ReadAt implements io.ReaderAt. One goroutine uses it.
func (p *packed) ReadAt(b []byte, pos int64) (n int, err error) {
	if from := p.at - int64(len(p.last)); p.in != nil && pos >= from && pos < p.at {
		if n = copy(b, p.last[pos-from:]); n == len(b) {
			return n, nil
		}
		pos = p.at
	}
	defer func() { p.last = append(p.last[:0], b[:n]...) }()
	if p.in == nil || pos < p.at {
		p.shut()
		in, end, err := p.open(bufio.NewReaderSize(io.NewSectionReader(p.file, 0, 1<<62), 256<<10))
		if err != nil {
			return 0, unpacking(err)
		}
		p.in, p.end, p.at = in, end, 0
	}
	if pos > p.at {
		skipped, err := io.CopyN(io.Discard, p.in, pos-p.at)
		p.at += skipped
		if errors.Is(err, io.EOF) {
			return 0, fmt.Errorf("%d bytes are in the file, but it had been read up to %d", p.at, pos)
		}
		if err != nil {
			return 0, unpacking(err)
		}
	}
	for n < len(b) {
		k, err := p.in.Read(b[n:])
		n, p.at = n+k, p.at+int64(k)
		if errors.Is(err, io.EOF) {
			return n, io.EOF
		}
		if err != nil {
			return n, unpacking(err)
		}
	}
	return n, nil
}

func unpacking(err error) error { return fmt.Errorf("what is packed cannot be read: %w", err) }

func (p *packed) shut() {
	if p.end != nil {
		p.end()
	}
	p.in, p.end = nil, nil
}

// packer packs each payload of an encoder into a frame of its own.
type packer struct {
	flow.Encoder
	pack func(dst, b []byte) []byte
}

// packs are how a sink packs, by the word of its option.
var packs = map[string]struct {
	ext  string
	pack func(dst, b []byte) []byte
}{
	"gzip": {".gz", func(dst, b []byte) []byte {
		out := &appender{dst}
		z, _ := gzip.NewWriterLevel(out, gzip.DefaultCompression) // the level is one
		_, _ = z.Write(b)                                         // memory takes all
		_ = z.Close()
		return out.b
	}},
	"zstd": {".zst", func(dst, b []byte) []byte { return zstdWriter.EncodeAll(b, dst) }},
}

var zstdWriter, _ = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(2)) // the options are right

type appender struct{ b []byte }

func (a *appender) Write(b []byte) (int, error) {
	a.b = append(a.b, b...)
	return len(b), nil
}

// Held is how many bytes wait to be taken, before they are packed.
func (p *packer) Held() int {
	if h, ok := p.Encoder.(interface{ Held() int }); ok {
		return h.Held()
	}
	return 0
}

// Take implements flow.Encoder.
func (p *packer) Take() flow.Payload {
	x := p.Encoder.Take()
	if len(x.Bytes) > 0 {
		x.Bytes = p.pack(nil, x.Bytes)
	}
	return x
}
