// Package files reads streams from files and writes sinks to directories of part files.
package files

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/recorded"
	"fiume/internal/connect/roots"
	"fiume/internal/connect/store"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"
	"fiume/internal/format/container"
)

// Connector is FILES.
var Connector connector

type connector struct{}

// Place implements contract.Connector.
func (connector) Place() plan.Place { return described }

// OpenSource implements contract.Reader.
func (connector) OpenSource(env *contract.Env, scan *plan.Op) (flow.Source, error) {
	watch := time.Duration(0)
	if env.Durable && scan.Aux {
		watch = time.Second
	}
	if o := scan.Stream.Options; scan.Stream.Via != nil || o.Word("follow", "false") != "false" || o["order"].Word != "" {
		return openFolder(env, scan, watch)
	}
	return Open(scan, cmp.Or(env.Piece, DefaultPiece), watch, env.Roots)
}

// Reread implements contract.Rereader: the parts are read, and not the manifest beside them.
func (connector) Reread(k *plan.Sink) string {
	return strings.TrimSuffix(k.Address, "/") + "/**/part-*"
}

// CheckSource implements contract.Reader.
func (connector) CheckSource(ctx context.Context, env *contract.Env, s *plan.Stream) error {
	if s.Via != nil {
		far, err := farOf(env, s.Via)
		if err == nil {
			err = far.Exists(ctx, s.Address)
		}
		return err
	}
	_, err := env.Roots.Path(s.Address)
	if done := s.Options.Word("done", "keep"); err == nil && strings.HasPrefix(done, "move ") {
		_, err = env.Roots.Path(strings.TrimSpace(strings.TrimPrefix(done, "move ")))
	}
	return err
}

// farOf opens the object store of an endpoint.
func farOf(env *contract.Env, via *plan.Endpoint) (*store.Far, error) {
	at, err := store.Of(via, env.Secret, nil)
	if err != nil {
		return nil, err
	}
	return at.(*store.Far), nil
}

// OpenSink implements contract.Writer.
func (connector) OpenSink(env *contract.Env, out *plan.Op) (flow.Sink, error) {
	if out.Sink.Via == nil {
		return OpenSink(env.FS(), out, env.Roots, env.WriterOf(out))
	}
	far, err := farOf(env, out.Sink.Via)
	if err != nil {
		return nil, err
	}
	dir := ""
	if env.Writer != "" {
		dir = env.Spool(out)
	}
	return OpenFar(env.FS(), dir, out, far, env.WriterOf(out))
}

// CheckSink implements contract.Writer.
func (connector) CheckSink(ctx context.Context, env *contract.Env, out *plan.Op) error {
	if _, err := cutOf(out.Sink.Options, out.Fields); err != nil {
		return err
	}
	if out.Sink.Via != nil {
		far, err := farOf(env, out.Sink.Via)
		if err == nil {
			err = far.Exists(ctx, out.Sink.Address)
		}
		return err
	}
	_, err := env.Roots.Path(out.Sink.Address)
	return err
}

// Owned implements contract.Owner: the directory, with its links followed. In an object store the parts of writers have names of their own.
func (connector) Owned(env *contract.Env, s *plan.Sink) (string, bool) {
	if s.Via != nil {
		return "", false
	}
	dir, err := env.Roots.Path(s.Address)
	if err != nil {
		return "", false // that is said elsewhere
	}
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		dir = real
	}
	return "the directory " + dir, true
}

// Leave implements contract.Owner.
func (connector) Leave(env *contract.Env, out *plan.Op) error {
	if out.Sink.Via != nil {
		return nil // what was spooled goes with the spool
	}
	dir, err := env.Roots.Path(out.Sink.Address)
	if err != nil {
		return nil // nothing was written
	}
	return leave(env.FS(), dir, env.WriterOf(out))
}

// Test implements contract.Tester.
func (c connector) Test(ctx context.Context, env *contract.Env, of contract.Tested, r *contract.Report) {
	switch {
	case of.Endpoint != nil:
		var buckets []string
		far, err := farOf(env, of.Endpoint)
		if err == nil {
			buckets, err = far.Buckets(ctx)
		}
		r.Saw("reachable", err, fmt.Sprintf("%d buckets", len(buckets)))
		return
	case of.Sink != nil && of.Sink.Via != nil:
		far, err := farOf(env, of.Sink.Via)
		if err == nil {
			err = far.Exists(ctx, of.Sink.Address)
		}
		if r.Saw("exists", err, "the bucket is there") {
			r.Saw("writable", far.Probe(ctx, of.Sink.Address), "objects can be made below "+of.Sink.Address)
		}
		return
	case of.Stream != nil && of.Stream.Via != nil:
		far, err := farOf(env, of.Stream.Via)
		n, first := 0, ""
		if err == nil {
			err = far.Each(ctx, of.Stream.Address, "", func(f store.File) bool {
				if n++; n == 1 {
					first = f.Name
				}
				return n < 1000
			})
		}
		if !r.Saw("exists", err, fmt.Sprintf("%d objects", n)) || n == 0 {
			return
		}
		s, err := c.Sample(ctx, env, contract.Wanted{Address: first, Via: of.Stream.Via, Limit: 100, Bytes: 1 << 20, Options: of.Stream.Options})
		if r.Saw("readable", err, "the first object can be read") && s.Format == of.Stream.Options.Word("format", "json") {
			r.SawRows(env, of, s.Messages, nil)
		}
		return
	}
	if of.Sink != nil {
		dir, err := env.Roots.Path(of.Sink.Address)
		if err == nil {
			err = mayWriteTo(dir)
		}
		r.Saw("writable", err, "files can be made in "+of.Sink.Address)
		return
	}
	st := of.Stream
	names, err := env.Roots.Files(st.Address)
	if _, outside := env.Roots.Path(st.Address); err != nil && outside == nil && st.Options.Word("follow", "false") != "false" {
		r.Saw("exists", nil, "none has come yet")
		return
	}
	if !r.Saw("exists", err, fmt.Sprintf("%d files", len(names))) || len(names) == 0 {
		return
	}
	if len(names) > 500 { // a few of them tell as much
		few := *st
		few.Address = names[0]
		st = &few
	}
	n, notices, err := probe(st, env.Roots)
	if r.Saw("readable", err, fmt.Sprintf("%d files can be opened", n)) && st.Options.Word("format", "") == "csv" {
		r.Saw("columns fit", nil, cmp.Or(strings.Join(notices, "; "), "the columns are there"))
	}
}

// mayWriteTo looks whether a file can be made in a directory, or in the nearest one above that is there.
func mayWriteTo(dir string) error {
	for {
		st, err := os.Stat(dir)
		if errors.Is(err, os.ErrNotExist) && filepath.Dir(dir) != dir {
			dir = filepath.Dir(dir)
			continue
		}
		if err != nil {
			return err
		}
		if !st.IsDir() {
			return fmt.Errorf("%s is a file, and a sink of FILES takes a directory", dir)
		}
		f, err := os.CreateTemp(dir, ".fiume-test-")
		if err != nil {
			return fmt.Errorf("no file can be made in %s: %w", dir, err)
		}
		return errors.Join(f.Close(), os.Remove(f.Name()))
	}
}

// List implements contract.Lister: the buckets of an object store, or what lies in the directories for files.
func (connector) List(ctx context.Context, env *contract.Env, via *plan.Endpoint) (out []string, err error) {
	if via == nil {
		return nil, nil
	}
	far, err := farOf(env, via)
	if err != nil {
		return nil, err
	}
	buckets, err := far.Buckets(ctx)
	for _, b := range buckets {
		out = append(out, store.Scheme+b+"/")
	}
	return out, err
}

// Sample implements contract.Sampler: messages of a file, of the first one of several, or of one that was uploaded.
func (connector) Sample(ctx context.Context, env *contract.Env, w contract.Wanted) (*contract.Sample, error) {
	out := &contract.Sample{Name: filepath.Base(w.Address), Origin: "file " + w.Address}
	if w.Via != nil && w.Data == nil {
		return out, farSample(ctx, env, out, w)
	}
	if w.Data == nil {
		f, kind, err := rowFile(env.Roots, w.Address)
		if err != nil {
			return nil, err
		}
		if f != nil {
			defer f.Close()
			st, err := f.Stat()
			if err != nil {
				return nil, err
			}
			return out, rowSample(out, kind, f, st.Size(), w)
		}
	}
	data := w.Data
	if data == nil {
		var err error
		if data, err = readSome(env.Roots, w.Address, w.Bytes); err != nil {
			return nil, err
		}
	} else if w.Address == "" {
		out.Origin, out.Name = "an uploaded file", "upload"
	}
	if len(data) > w.Bytes {
		return nil, fmt.Errorf("the file has %d bytes, a sample at most %d; take a part of it", len(data), w.Bytes)
	}
	data, _, err := container.Unpacked(data, w.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", out.Origin, err)
	}
	return out, sampleOf(out, data, w)
}

// farSample takes a sample of the first object of an address.
func farSample(ctx context.Context, env *contract.Env, out *contract.Sample, w contract.Wanted) error {
	out.Origin = "object " + w.Address
	far, err := farOf(env, w.Via)
	if err != nil {
		return err
	}
	name := ""
	if err := far.Each(ctx, w.Address, "", func(f store.File) bool { name = f.Name; return f.Size == 0 }); err != nil {
		return err
	}
	if name == "" {
		return noFileError(w.Address)
	}
	o, err := far.Open(ctx, name)
	if err != nil {
		return err
	}
	size := o.File().Size
	b := make([]byte, min(size, int64(w.Bytes)))
	if n, err := o.ReadAt(b, 0); err != nil && !errors.Is(err, io.EOF) {
		return err
	} else if b = b[:n]; int64(n) < size {
		if kind := container.FormatOf(name, b[:min(4, n)]); slices.Contains(format.RowFormats, kind) {
			return rowSample(out, kind, o, size, w)
		}
		if cut := bytes.LastIndexByte(b, '\n'); cut > 0 { // whole lines
			b = b[:cut+1]
		}
	}
	data, _, err := container.Unpacked(b, w.Bytes)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	w.Address = name
	return sampleOf(out, data, w)
}

// sampleOf takes a sample of bytes.
func sampleOf(out *contract.Sample, data []byte, w contract.Wanted) error {
	out.Format = w.Format
	if out.Format == "" {
		out.Format = container.FormatOf(w.Address, data)
	}
	if slices.Contains(format.RowFormats, out.Format) {
		return rowSample(out, out.Format, bytes.NewReader(data), int64(len(data)), w)
	}
	values, header, err := container.Messages(out.Format, data, !w.Headless, w.Limit)
	if err != nil {
		return fmt.Errorf("%s: %w", out.Origin, err)
	}
	if out.Header = header; out.Format == "csv" {
		out.Delimiter = container.Delimiter(data)
	}
	now := time.Now().UnixMicro()
	for i, v := range values {
		out.Messages = append(out.Messages, recorded.Message{Offset: int64(i), At: now, Value: v})
	}
	return nil
}

// rowFile opens the first file of an address where it holds rows by itself; nil where it does not, or where there is none.
func rowFile(within *roots.Roots, address string) (*os.File, string, error) {
	names, err := within.Files(address)
	if err != nil {
		return nil, "", nil // it is said by who reads it
	}
	f, err := os.Open(names[0])
	if err != nil {
		return nil, "", err
	}
	var b [4]byte
	n, err := f.ReadAt(b[:], 0)
	if kind := container.FormatOf(names[0], b[:n]); slices.Contains(format.RowFormats, kind) {
		return f, kind, nil
	}
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return nil, "", errors.Join(err, f.Close())
}

// rowSample takes a sample of a file that holds rows by itself.
func rowSample(out *contract.Sample, kind string, f io.ReaderAt, size int64, w contract.Wanted) error {
	columns, values, err := Sampled(kind, f, size, w.Limit, w.Bytes)
	if err != nil {
		return fmt.Errorf("%s: %w", out.Origin, err)
	}
	out.Format = "json"
	now := time.Now().UnixMicro()
	for i, v := range values {
		out.Messages = append(out.Messages, recorded.Message{Offset: int64(i), At: now, Value: v})
	}
	if w.Options != nil { // a declaration takes what the file tells
		for _, c := range columns {
			out.Columns = append(out.Columns, contract.Column{Name: c.Name, Type: c.Type.String(), NotNull: c.NotNull})
		}
	}
	return nil
}

// readSome reads a file, or the first of a directory or a pattern, up to so many bytes.
func readSome(within *roots.Roots, address string, most int) ([]byte, error) {
	names, err := within.Files(address)
	if err != nil {
		if path, perr := within.Path(address); perr == nil {
			if _, serr := os.Stat(path); errors.Is(serr, os.ErrNotExist) {
				return nil, noFileError(address)
			}
		}
		return nil, err
	}
	f, err := os.Open(names[0])
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b := make([]byte, most)
	n, err := f.ReadAt(b, 0)
	if n == 0 && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if n < len(b) {
		return b[:n], nil
	}
	if cut := bytes.LastIndexByte(b[:n], '\n'); cut > 0 { // whole lines
		n = cut + 1
	}
	return b[:n], nil
}

// noFileError is the address of a file that is not there.
type noFileError string

func (e noFileError) Error() string        { return "there is no file " + string(e) }
func (e noFileError) Is(target error) bool { return target == os.ErrNotExist }
