// Package backup takes a copy of a service while it runs, and makes a data directory of one.
//
// A copy is what a machine would have left that lost power at one moment: all files stand still for an instant, in which they get a second name and a snapshot of the
// databases is taken; then they are copied at leisure. A service over it goes on as after a crash: from the newest checkpoints, each row once.
package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/disk"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/chacha20poly1305"
)

// form is the version of the form of archives.
const form = 1

// Manifest says what an archive has. It is its first entry.
type Manifest struct {
	Form      int         `json:"form"`
	Version   string      `json:"version" doc:"of the program that made it"`
	At        time.Time   `json:"at" doc:"the moment that it is of"`
	Identity  string      `json:"identity" doc:"of the service"`
	Jobs      []JobAt     `json:"jobs"`
	Topics    []TopicAt   `json:"topics"`
	Databases []string    `json:"databases" doc:"on the private server"`
	Files     int         `json:"files"`
	Bytes     int64       `json:"bytes" doc:"of the files"`
	Secrets   bool        `json:"secrets" doc:"whether the key of the secrets is in it, sealed with a passphrase"`
	Left      []string    `json:"left,omitempty" doc:"directories for files that lie elsewhere, and are not in it"`
	Stood     DurationMs  `json:"stood_still_ms" doc:"how long writing stood still"`
	Sealed    *sealedText `json:"sealed,omitempty"`
}

// DurationMs is a length of time in milliseconds.
type DurationMs float64

// JobAt is a job, and the checkpoint from which it goes on.
type JobAt struct {
	Name       string `json:"name"`
	State      string `json:"state"`
	Checkpoint int64  `json:"checkpoint,omitempty"`
}

// TopicAt is a topic, and how far it reaches.
type TopicAt struct {
	Name string  `json:"name"`
	Next []int64 `json:"next" doc:"of each partition, the offset behind the newest message just before"`
}

// sealedText is a text that a passphrase opens: argon2id makes a key of it, XChaCha20-Poly1305 seals with that.
type sealedText struct {
	Salt  []byte `json:"salt"`
	Nonce []byte `json:"nonce"`
	Text  []byte `json:"text"`
}

// Names in an archive.
const (
	manifestName = "manifest.json"
	filesName    = "files/"
	recordsName  = "records/"
	endName      = "end.json"

	keyFile = "secrets.key" // of the data directory
	linked  = "backup-"     // directories in it that hold second names
)

// Source is a service that is copied.
type Source struct {
	Dir      string
	Version  string
	Identity string
	DSN      string // of the records; without a database: of all of the private server
	Left     []string
	// Describe says what jobs and topics there are. It is asked just before all stands still: then some wait with locks that it would need.
	Describe func() ([]JobAt, []TopicAt)
}

// link is a file that is to be copied.
type link struct {
	name string // below the data directory
	path string // of its second name
	size int64
	mode fs.FileMode
}

// ErrTaken says that a copy is being taken.
var ErrTaken = errors.New("another backup is being taken")

// Take writes an archive of a service. passphrase seals the key of its secrets, which is left out without one.
func Take(ctx context.Context, s Source, passphrase string, w io.Writer) (m *Manifest, err error) {
	one, err := disk.OS{}.Lock(filepath.Join(s.Dir, "backup.lock"))
	if errors.Is(err, disk.ErrLocked) {
		return nil, ErrTaken
	}
	if err != nil {
		return nil, err
	}
	defer one.Close()
	Sweep(s.Dir)
	m = &Manifest{Form: form, Version: s.Version, Identity: s.Identity, Left: s.Left, Secrets: passphrase != ""}
	if passphrase != "" {
		key, err := os.ReadFile(filepath.Join(s.Dir, keyFile))
		if err != nil {
			return nil, err
		}
		if m.Sealed, err = seal(passphrase, key); err != nil {
			return nil, err
		}
	}
	held, err := os.MkdirTemp(s.Dir, linked)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(held)) }()
	m.Jobs, m.Topics = s.Describe()
	snapshot, links, err := s.freeze(ctx, held, m)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, snapshot.Close()) }()
	m.Databases = snapshot.Databases()
	m.Files = len(links)
	for _, l := range links {
		m.Bytes += l.size
	}
	z, err := zstd.NewWriter(w, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil { // what is written has no end, and nobody takes it for whole
			_ = z.Close()
		}
	}()
	sum := sha256.New()
	t := tar.NewWriter(io.MultiWriter(z, sum))
	text, err := json.MarshalIndent(m, "", " ")
	if err != nil {
		return nil, err
	}
	if err := entry(t, manifestName, text, m.At); err != nil {
		return nil, err
	}
	records := &parts{t: t, at: m.At}
	if err := errors.Join(snapshot.Dump(ctx, records), records.flush()); err != nil {
		return nil, fmt.Errorf("the records: %w", err)
	}
	for _, l := range links {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := l.copy(t, m.At); err != nil {
			return nil, fmt.Errorf("%s: %w", l.name, err)
		}
	}
	if err := t.Flush(); err != nil {
		return nil, err
	}
	if err := entry(t, endName, ended(sum), m.At); err != nil { // its header has one block: see reader.next
		return nil, err
	}
	return m, errors.Join(t.Close(), z.Close())
}

// Sweep removes what a process that was killed has left of a backup.
func Sweep(dir string) {
	old, _ := filepath.Glob(filepath.Join(dir, linked+"*")) // its pattern is right
	for _, o := range old {
		if st, err := os.Stat(o); err == nil && st.IsDir() {
			_ = os.RemoveAll(o)
		}
	}
}

// freeze has all stand still, gives all files a second name, and takes a snapshot of the records.
func (s *Source) freeze(ctx context.Context, held string, m *Manifest) (snapshot *catalog.Snapshot, links []link, err error) {
	within, cancel := context.WithTimeout(ctx, catalog.SnapshotWithin)
	defer cancel()
	release, err := disk.Freeze(within)
	if err != nil {
		return nil, nil, fmt.Errorf("what writes does not stand still: %w", err)
	}
	defer release()
	m.At = time.Now().UTC().Truncate(time.Microsecond)
	if snapshot, err = catalog.TakeSnapshot(within, s.DSN); err != nil {
		return nil, nil, fmt.Errorf("the catalog's database gives no snapshot: %w", err)
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, snapshot.Close())
		}
	}()
	n := 0
	err = filepath.WalkDir(s.Dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) { // it was removed by who does not ask
				return nil
			}
			return err
		}
		name, err := filepath.Rel(s.Dir, path)
		if err != nil {
			return err
		}
		if d.IsDir() {
			if name == "mariadb" || !strings.Contains(name, string(filepath.Separator)) && strings.HasPrefix(name, linked) || strings.HasPrefix(name, "notice-") {
				return fs.SkipDir
			}
			links = append(links, link{name: name + "/", mode: 0o755})
			return nil
		}
		if !d.Type().IsRegular() || name == keyFile || name == "backup.lock" {
			return nil
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		n++
		to := filepath.Join(held, fmt.Sprint(n))
		if err := os.Link(path, to); err != nil {
			return fmt.Errorf("%s gets no second name, as the file system must allow: %w", name, err)
		}
		links = append(links, link{name, to, info.Size(), info.Mode().Perm()})
		return nil
	})
	m.Stood = DurationMs(float64(time.Since(m.At).Microseconds()) / 1000)
	if links = slices.DeleteFunc(links, func(l link) bool { return l.name == "./" }); err != nil {
		return nil, nil, err
	}
	return snapshot, links, nil
}

func entry(t *tar.Writer, name string, text []byte, at time.Time) error {
	if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(text)), ModTime: at.Truncate(time.Second), Format: tar.FormatUSTAR}); err != nil {
		return err
	}
	_, err := t.Write(text)
	return err
}

// copy writes a file as it was: what was written behind its end since then is left out.
func (l link) copy(t *tar.Writer, at time.Time) error {
	if l.path == "" {
		return t.WriteHeader(&tar.Header{Name: filesName + filepath.ToSlash(l.name), Mode: int64(l.mode), Typeflag: tar.TypeDir, ModTime: at.Truncate(time.Second)})
	}
	f, err := os.Open(l.path)
	if err != nil {
		return err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	size := min(l.size, st.Size()) // what was cut since then had not been there for good
	if err := t.WriteHeader(&tar.Header{Name: filesName + filepath.ToSlash(l.name), Mode: int64(l.mode), Size: size, ModTime: at.Truncate(time.Second)}); err != nil {
		return err
	}
	if _, err := io.CopyN(t, f, size); err != nil {
		return err
	}
	return os.Remove(l.path)
}

// parts are entries of records, each of which fits into memory.
type parts struct {
	t   *tar.Writer
	at  time.Time
	n   int
	buf bytes.Buffer
}

const partBytes = 4 << 20

func (p *parts) Write(b []byte) (int, error) {
	p.buf.Write(b)
	if p.buf.Len() < partBytes {
		return len(b), nil
	}
	return len(b), p.flush()
}

func (p *parts) flush() error {
	if p.buf.Len() == 0 {
		return nil
	}
	p.n++
	err := entry(p.t, fmt.Sprintf("%s%06d.ndjson", recordsName, p.n), p.buf.Bytes(), p.at)
	p.buf.Reset()
	return err
}

// ended is the last entry: the hash of all before it.
func ended(sum hash.Hash) []byte {
	text, _ := json.Marshal(map[string]string{"sha256": hex.EncodeToString(sum.Sum(nil))})
	return text
}

// aeadOf makes the key of a passphrase: argon2id with 3 passes over 64 MiB (RFC 9106, section 4, second choice).
func aeadOf(passphrase string, salt []byte) (cipher.AEAD, error) {
	return chacha20poly1305.NewX(argon2.IDKey([]byte(passphrase), salt, 3, 64<<10, 4, chacha20poly1305.KeySize))
}

func seal(passphrase string, text []byte) (*sealedText, error) {
	s := &sealedText{Salt: make([]byte, 16), Nonce: make([]byte, chacha20poly1305.NonceSizeX)}
	_, _ = rand.Read(s.Salt)
	_, _ = rand.Read(s.Nonce)
	aead, err := aeadOf(passphrase, s.Salt)
	if err != nil {
		return nil, err
	}
	s.Text = aead.Seal(nil, s.Nonce, text, nil)
	return s, nil
}

// ErrPassphrase says that a passphrase does not open the key of the secrets.
var ErrPassphrase = errors.New("the passphrase does not open the key of the secrets")

func (s *sealedText) open(passphrase string) ([]byte, error) {
	if len(s.Nonce) != chacha20poly1305.NonceSizeX {
		return nil, ErrPassphrase
	}
	aead, err := aeadOf(passphrase, s.Salt)
	if err != nil {
		return nil, err
	}
	text, err := aead.Open(nil, s.Nonce, s.Text, nil)
	if err != nil {
		return nil, ErrPassphrase
	}
	return text, nil
}
