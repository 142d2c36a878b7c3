package container

import (
	"bytes"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// Unpacked gives what is in data that is packed with gzip or zstd, up to most bytes, and other data as it is. packed says with
// what, "" where it was not. What is cut off ends with a whole line, where it has lines.
func Unpacked(data []byte, most int) (out []byte, packed string, err error) {
	var r io.Reader
	switch {
	case bytes.HasPrefix(data, []byte("\x1f\x8b")):
		packed = "gzip"
		r, err = gzip.NewReader(bytes.NewReader(data))
	case bytes.HasPrefix(data, []byte("\x28\xb5\x2f\xfd")):
		packed = "zstd"
		var d *zstd.Decoder
		if d, err = zstd.NewReader(bytes.NewReader(data), zstd.WithDecoderMaxMemory(64<<20), zstd.WithDecoderConcurrency(1)); err == nil {
			defer d.Close()
			r = d
		}
	default:
		return data, "", nil
	}
	if err == nil {
		out, err = io.ReadAll(io.LimitReader(r, int64(most)))
	}
	if err != nil {
		return nil, packed, fmt.Errorf("what is packed with %s cannot be read: %w", packed, err)
	}
	if len(out) == most {
		if cut := bytes.LastIndexByte(out, '\n'); cut > 0 {
			out = out[:cut+1]
		}
	}
	return out, packed, nil
}
