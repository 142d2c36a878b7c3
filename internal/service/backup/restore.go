package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"strings"

	"fiume/internal/catalog"
	"fiume/internal/disk"

	"github.com/klauspost/compress/zstd"
)

// ErrDamaged says that an archive is not as it was written.
var ErrDamaged = errors.New("the archive is damaged")

// ErrCut says that an archive has no end: what wrote it did not come to it.
var ErrCut = errors.New("the archive ends before its end: it was not written whole")

// damaged says what a failure to read an archive means.
func damaged(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return ErrCut
	}
	return fmt.Errorf("%w: %w", ErrDamaged, err)
}

// mostText is how large an entry may be that is read into memory.
const mostText = 64 << 20

// reader reads an archive, and what it hashes to.
type reader struct {
	t   *tar.Reader
	sum hash.Hash
	raw *counted
	z   *zstd.Decoder
}

// counted hashes what is read, but for the last entry, of which nobody knows where it begins before it is there: blocks wait until the next one is asked for.
type counted struct {
	r    io.Reader
	sum  hash.Hash
	held []byte
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.held = append(c.held, b[:n]...)
	return n, err
}

// take hashes what has been read up to so many bytes before now.
func (c *counted) take(behind int) {
	n := max(len(c.held)-behind, 0)
	c.sum.Write(c.held[:n])
	c.held = append(c.held[:0], c.held[n:]...)
}

func open(r io.Reader) (*reader, error) {
	z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
	if err != nil {
		return nil, err
	}
	x := &reader{sum: sha256.New(), z: z}
	x.raw = &counted{r: z, sum: x.sum}
	x.t = tar.NewReader(x.raw)
	return x, nil
}

// next gives the next entry; the last one is checked, and gives io.EOF.
func (x *reader) next() (*tar.Header, error) {
	h, err := x.t.Next()
	if errors.Is(err, io.EOF) {
		return nil, ErrCut
	}
	if err != nil {
		return nil, damaged(err)
	}
	if h.Name != endName {
		x.raw.take(0)
		return h, nil
	}
	x.raw.take(headerBytes)
	return nil, x.ended()
}

// headerBytes are those of the header of the last entry.
const headerBytes = 512

// ended checks the last entry.
func (x *reader) ended() error {
	want := hex.EncodeToString(x.sum.Sum(nil))
	text, err := io.ReadAll(io.LimitReader(x.t, 1<<10))
	var end struct{ SHA256 string }
	if err != nil || json.Unmarshal(text, &end) != nil || end.SHA256 == "" {
		return fmt.Errorf("%w: its end cannot be read", ErrDamaged)
	}
	if end.SHA256 != want {
		return fmt.Errorf("%w: it has another hash than it should", ErrDamaged)
	}
	return io.EOF
}

// manifest reads the first entry.
func (x *reader) manifest() (*Manifest, error) {
	h, err := x.next()
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(x.t, mostText))
	if err != nil {
		return nil, damaged(err)
	}
	m := &Manifest{}
	if h.Name != manifestName || json.Unmarshal(text, m) != nil {
		return nil, errors.New("this is no archive of fiume backup")
	}
	if m.Form > form {
		return nil, fmt.Errorf("the archive was made by version %s, in a form that this version does not know; restore it with that one", m.Version)
	}
	return m, nil
}

// Check reads an archive to its end, and says what it has.
func Check(r io.Reader) (*Manifest, error) {
	x, err := open(r)
	if err != nil {
		return nil, err
	}
	defer x.z.Close()
	m, err := x.manifest()
	if err != nil {
		return nil, err
	}
	for {
		if _, err := x.next(); errors.Is(err, io.EOF) {
			return m, nil
		} else if err != nil {
			return m, err
		}
		if _, err := io.Copy(hashing{x}, x.t); err != nil {
			return m, damaged(err)
		}
	}
}

// hashing takes what is read of an entry, and has it hashed as it goes, so that little of it is held.
type hashing struct{ x *reader }

func (h hashing) Write(b []byte) (int, error) {
	h.x.raw.take(0)
	return len(b), nil
}

// To says where a service is restored to.
type To struct {
	Dir        string // that is not there, or is empty
	DSN        string // a database for the records that has nothing; "": a private server
	Passphrase string // "": the secrets are to be set again
	// Tell is told what goes wrong with the private server.
	Tell func(text string, args ...any)
}

// Restore makes a data directory of an archive. It is there whole, or not at all.
func Restore(ctx context.Context, r io.Reader, to To) (m *Manifest, err error) {
	if names, err := os.ReadDir(to.Dir); err == nil && len(names) > 0 {
		return nil, fmt.Errorf("%s is there already, and has something in it; name a directory that is not there", to.Dir)
	} else if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	x, err := open(r)
	if err != nil {
		return nil, err
	}
	defer x.z.Close()
	if m, err = x.manifest(); err != nil {
		return nil, err
	}
	var key []byte
	if to.Passphrase != "" {
		if m.Sealed == nil {
			return m, errors.New("the archive was made without a passphrase, and has no secrets; leave the passphrase out and set them again")
		}
		if key, err = m.Sealed.open(to.Passphrase); err != nil {
			return m, err
		}
	}
	dir := strings.TrimRight(to.Dir, string(filepath.Separator))
	coming := dir + ".restoring"
	if err := os.RemoveAll(coming); err != nil {
		return m, err
	}
	if err := os.MkdirAll(coming, 0o700); err != nil {
		return m, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(coming))
		}
	}()
	if err := x.unpack(ctx, coming, to); err != nil {
		return m, err
	}
	if key != nil {
		if err := os.WriteFile(filepath.Join(coming, keyFile), key, 0o600); err != nil {
			return m, err
		}
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, os.ErrNotExist) { // an empty one
		return m, err
	}
	if err := os.Rename(coming, dir); err != nil {
		return m, err
	}
	return m, disk.OS{}.SyncDir(filepath.Dir(dir))
}

// unpack writes files and records.
func (x *reader) unpack(ctx context.Context, dir string, to To) error {
	dsn := to.DSN
	if dsn == "" {
		server, err := catalog.StartServer(ctx, filepath.Join(dir, "mariadb"), to.Tell)
		if err != nil {
			return err
		}
		defer server.Stop()
		dsn = server.DSN("")
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	// The records are one text in several entries: they are loaded as they come.
	loading, feed := io.Pipe()
	loaded := make(chan error, 1)
	go func() {
		_, err := catalog.LoadDump(ctx, dsn, loading)
		loading.CloseWithError(errors.Join(err, errors.New("the records were loaded")))
		loaded <- err
	}()
	err = x.entries(ctx, root, feed)
	if err == nil {
		feed.Close()
		return <-loaded
	}
	feed.CloseWithError(err)
	if lost := <-loaded; lost != nil && !errors.Is(lost, err) {
		return fmt.Errorf("the records: %w", lost)
	}
	return err
}

func (x *reader) entries(ctx context.Context, root *os.Root, records io.Writer) error {
	for {
		h, err := x.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if strings.HasPrefix(h.Name, recordsName) {
			if h.Size > mostText {
				return fmt.Errorf("%w: %s is too large", ErrDamaged, h.Name)
			}
			text, err := io.ReadAll(x.t)
			if err != nil {
				return damaged(err)
			}
			x.raw.take(0)
			if _, err := io.Copy(records, bytes.NewReader(text)); err != nil {
				return err
			}
			continue
		}
		name, ok := strings.CutPrefix(h.Name, filesName)
		if !ok || !filepath.IsLocal(filepath.FromSlash(name)) {
			return fmt.Errorf("%w: it has an entry %q", ErrDamaged, h.Name)
		}
		if err := x.file(root, filepath.FromSlash(name), h); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
}

// file writes a file, durably.
func (x *reader) file(root *os.Root, name string, h *tar.Header) error {
	if h.Typeflag == tar.TypeDir {
		return root.MkdirAll(strings.TrimRight(name, "/"), 0o755)
	}
	if h.Typeflag != tar.TypeReg {
		return fmt.Errorf("%w: it is no file", ErrDamaged)
	}
	if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	f, err := root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, h.FileInfo().Mode().Perm())
	if err != nil {
		return err
	}
	if _, err := io.Copy(io.MultiWriter(f, hashing{x}), x.t); err != nil {
		return errors.Join(err, f.Close())
	}
	return errors.Join(f.Sync(), f.Close())
}
