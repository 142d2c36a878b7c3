package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/disk"
	"fiume/internal/service/backup"

	"github.com/spf13/cobra"
)

// passphraseOf reads a passphrase from a file; "" without one.
func passphraseOf(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return "", fail(exitUsage, "--passphrase-file: %s", err)
	}
	p := strings.TrimRight(string(b), "\r\n")
	if len(p) < 12 {
		return "", fail(exitUsage, "--passphrase-file: a passphrase has 12 letters at least; fiume backup is only as safe as it is")
	}
	return p, nil
}

// passing counts what goes through it, for whoever waits.
type passing struct {
	io.Writer
	n atomic.Int64
}

func (p *passing) Write(b []byte) (int, error) {
	n, err := p.Writer.Write(b)
	p.n.Add(int64(n))
	return n, err
}

// size writes a number of bytes.
func size(n int64) string {
	for _, u := range []struct {
		of   int64
		name string
	}{{1 << 30, "GB"}, {1 << 20, "MB"}, {1 << 10, "kB"}} {
		if n >= u.of {
			return fmt.Sprintf("%.1f %s", float64(n)/float64(u.of), u.name)
		}
	}
	return fmt.Sprintf("%d bytes", n)
}

// telling says on the terminal how far something is, until it is called off.
func (a *app) telling(what string, n *atomic.Int64) (done func()) {
	if !isTerminal(a.err) {
		return func() {}
	}
	stop := make(chan struct{})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		t := time.NewTicker(time.Second)
		defer t.Stop()
		for {
			select {
			case <-stop:
				fmt.Fprint(a.err, "\r\x1b[K")
				return
			case <-t.C:
				fmt.Fprintf(a.err, "\r\x1b[K%s %s", what, size(n.Load()))
			}
		}
	}()
	return func() { close(stop); <-ended }
}

func (a *app) backupCommand() *cobra.Command {
	var passphrase string
	var at far
	c := &cobra.Command{
		Use: "backup FILE|DIR|s3://BUCKET/…|-", Short: "Take a copy of the service as it is now, while it runs", Args: arity(1, "a file, a directory, an object in an object store, or - for standard output"),
		Long: `Takes a copy of the service as it is at one moment, while it runs: its records, the databases of its private server, its topics, the
checkpoints and state of its jobs, and the files below its data directory. Writing stands still for that moment, as a rule for some milliseconds.
fiume restore makes a data directory of it, over which jobs go on as after a crash: from their newest checkpoints, each row once.

The key of the secrets goes along where --passphrase-file names a file with a passphrase that seals it; without one the secrets have
to be set again. What an archive has besides is not sealed: keep it as you keep the data. Directories of --files elsewhere, and what
lies outside, are not in it.

For s3://bucket/name the archive is written to a temporary file of this machine ($TMPDIR), and sent when it is whole; s3://bucket/dir/
has it be called after the time.`,
		Example: "  fiume backup /var/backups/fiume --passphrase-file /etc/fiume/passphrase\n  fiume backup - | ssh archive 'cat > fiume.backup'\n  fiume backup s3://backups/fiume/ --store https://fiume@store.example:9000 --store-secret-file /etc/fiume/store",
		RunE: func(c *cobra.Command, args []string) error {
			secret, err := passphraseOf(passphrase)
			if err != nil {
				return err
			}
			if args[0] == "-" {
				return failed(a.client().Backup(c.Context(), secret, a.out))
			}
			to, called := args[0], "fiume-"+time.Now().UTC().Format("2006-01-02T150405Z")+".backup"
			var w *taken
			if isFar(to) {
				if w, err = a.backupFar(c.Context(), &at, to, called, secret); err != nil {
					return err
				}
			} else {
				if st, err := os.Stat(to); err == nil && st.IsDir() {
					to = filepath.Join(to, called)
				} else if err == nil {
					return fail(exitUsage, "%s is there already", to)
				}
				m, n, err := a.backupTo(c.Context(), to, secret)
				if err != nil {
					return err
				}
				w = &taken{to, m, n}
			}
			if a.output == "json" {
				return a.printJSON(w)
			}
			fmt.Fprintf(a.out, "%s, %s: the service as it was at %s\n", w.File, size(w.Bytes), w.Manifest.At.Format("2006-01-02 15:04:05.000Z"))
			a.printManifest(w.Manifest)
			return nil
		},
	}
	c.Flags().StringVar(&passphrase, "passphrase-file", "", "file with a passphrase that seals the key of the secrets (default: they are left out)")
	at.flags(c)
	a.outputFlag(c, "text", "json")
	return c
}

// taken is an archive that was written.
type taken struct {
	File     string           `json:"file"`
	Manifest *backup.Manifest `json:"manifest"`
	Bytes    int64            `json:"bytes"`
}

// backupTo writes an archive to a file, which is there whole or not at all, and reads it as it comes.
func (a *app) backupTo(ctx context.Context, to, passphrase string) (m *backup.Manifest, n int64, err error) {
	part := to + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, 0, fail(exitUsage, "%s", err)
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(part))
		}
	}()
	reading, copied := io.Pipe()
	type read struct {
		m   *backup.Manifest
		err error
	}
	seen := make(chan read, 1)
	go func() {
		m, err := backup.Check(reading)
		if err == nil {
			_, err = io.Copy(io.Discard, reading) // what stands behind its end
		}
		reading.CloseWithError(errors.Join(err, errors.New("it is not read any more")))
		seen <- read{m, err}
	}()
	w := &passing{Writer: io.MultiWriter(f, copied)}
	done := a.telling("copied", &w.n)
	err = a.client().Backup(ctx, passphrase, w)
	done()
	copied.CloseWithError(err)
	r := <-seen
	if err == nil {
		err = r.err
	}
	if err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		if errors.Is(err, backup.ErrCut) || errors.Is(err, io.ErrUnexpectedEOF) {
			err = errors.New("the service has not written it whole; its log says why")
		}
		return nil, 0, failed(err)
	}
	if err := (disk.OS{}).Rename(part, to); err != nil {
		return nil, 0, failed(err)
	}
	return r.m, w.n.Load(), failed(disk.OS{}.SyncDir(filepath.Dir(to)))
}

func (a *app) printManifest(m *backup.Manifest) {
	fmt.Fprintf(a.out, "  %d jobs, %d topics, %d files of %s, the records%s\n", len(m.Jobs), len(m.Topics), m.Files, size(m.Bytes), map[bool]string{true: " and the databases " + strings.Join(m.Databases, ", ")}[len(m.Databases) > 1])
	if m.Secrets {
		fmt.Fprintln(a.out, "  the key of the secrets, sealed")
	} else {
		fmt.Fprintln(a.out, "  no secrets: they have to be set again; --passphrase-file takes them along")
	}
	for _, d := range m.Left {
		fmt.Fprintf(a.out, "  not in it: the files in %s\n", d)
	}
	fmt.Fprintf(a.out, "  writing stood still for %.1f ms\n", float64(m.Stood))
}

func (a *app) restoreCommand() *cobra.Command {
	var dir, dsn, dsnFile, passphrase string
	var check bool
	var at far
	c := &cobra.Command{
		Use: "restore FILE|s3://BUCKET/NAME|-", Short: "Make a data directory of a backup", Args: arity(1, "a file, an object in an object store, or - for standard input"),
		Long: `Makes a data directory of what fiume backup has written: of a service that is not there yet. It is there whole, or not at all. Then
fiume serve --dir DIR starts it, and jobs go on from their checkpoints.

The restored service is the same one: the sinks outside know its jobs again. So do not let both run. Addresses of files that are
absolute lead where they led. --check reads an archive to its end, and restores nothing.`,
		Example: "  fiume restore fiume-2026-05-17T090000Z.backup --dir /var/lib/fiume --passphrase-file /etc/fiume/passphrase\n  fiume restore --check fiume-2026-05-17T090000Z.backup",
		RunE: func(c *cobra.Command, args []string) error {
			var in io.Reader = a.in
			switch {
			case args[0] == "-":
			case isFar(args[0]):
				var err error
				if in, err = at.get(c.Context(), args[0]); err != nil {
					return err
				}
			default:
				f, err := os.Open(args[0])
				if err != nil {
					return fail(exitUsage, "%s", err)
				}
				defer f.Close()
				in = f
			}
			var n atomic.Int64
			in = io.TeeReader(in, &passing{Writer: counting{&n}})
			done := a.telling("read", &n)
			if check {
				m, err := backup.Check(in)
				done()
				if err != nil {
					return failed(fmt.Errorf("%s: %w", args[0], err))
				}
				if a.output == "json" {
					return a.printJSON(m)
				}
				fmt.Fprintf(a.out, "%s is whole: the service as it was at %s, by version %s\n", args[0], m.At.Format("2006-01-02 15:04:05.000Z"), m.Version)
				a.printManifest(m)
				return nil
			}
			secret, err := passphraseOf(passphrase)
			if err == nil && dir == "" {
				err = fail(exitUsage, "say where to: --dir DIR, a directory that is not there yet")
			}
			if err == nil && dsnFile != "" {
				var b []byte
				if b, err = os.ReadFile(dsnFile); err != nil {
					err = fail(exitUsage, "--dsn-file: %s", err)
				}
				dsn = strings.TrimSpace(string(b))
			}
			if err != nil {
				done()
				return err
			}
			m, err := backup.Restore(c.Context(), in, backup.To{Dir: dir, DSN: dsn, Passphrase: secret})
			done()
			if err != nil {
				return failed(fmt.Errorf("nothing was restored: %w", err))
			}
			if a.output == "json" {
				return a.printJSON(m)
			}
			fmt.Fprintf(a.out, "%s is the service as it was at %s; start it with: fiume serve --dir %s\n", dir, m.At.Format("2006-01-02 15:04:05.000Z"), dir)
			if secret == "" && m.Secrets {
				fmt.Fprintln(a.out, "its secrets were left sealed; set them again, or restore it with --passphrase-file")
			}
			return nil
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "data directory that is made")
	c.Flags().StringVar(&dsn, "dsn", "", "empty database for the records (default: a private server)")
	c.Flags().StringVar(&dsnFile, "dsn-file", "", "file with that, so that it is in no list of processes")
	c.Flags().StringVar(&passphrase, "passphrase-file", "", "file with the passphrase that the key of the secrets was sealed with")
	c.Flags().BoolVar(&check, "check", false, "read it to its end, and restore nothing")
	at.flags(c)
	a.outputFlag(c, "text", "json")
	return c
}

type counting struct{ n *atomic.Int64 }

func (c counting) Write(b []byte) (int, error) {
	c.n.Add(int64(len(b)))
	return len(b), nil
}

func (a *app) upgradeCommand() *cobra.Command {
	var dir, dsn string
	var check bool
	c := &cobra.Command{
		Use: "upgrade", Short: "Bring the records of a service up to date with this version, or say what that would change", Args: arity(0, "no arguments"),
		Long: `Brings the records of a service that does not run up to date with this version of the program, as fiume serve does when it starts. --check says
what that would change, and changes nothing. An older version does not start over records that a newer one has changed: take a backup first.`,
		Example: "  fiume upgrade --check --dir /var/lib/fiume\n  fiume upgrade --dir /var/lib/fiume",
		RunE: func(c *cobra.Command, args []string) error {
			if dsn == "" {
				if st, err := os.Stat(filepath.Join(dir, "mariadb")); err != nil || !st.IsDir() {
					return fail(exitUsage, "%s is no data directory of a service with a private server; --dsn names the database of another", dir)
				}
				lock, err := disk.OS{}.Lock(filepath.Join(dir, "topics", ".lock"))
				if errors.Is(err, disk.ErrLocked) {
					return failed(fmt.Errorf("the service over %s runs; stop it first", dir))
				}
				if err != nil {
					return failed(err)
				}
				defer lock.Close()
				server, err := catalog.StartServer(c.Context(), filepath.Join(dir, "mariadb"), nil)
				if err != nil {
					return failed(err)
				}
				defer server.Stop()
				dsn = server.DSN("fiume")
			}
			changes, err := catalog.Pending(c.Context(), dsn)
			if err == nil && !check && len(changes) > 0 {
				var s *catalog.Store
				if s, err = catalog.Open(c.Context(), dsn); err == nil {
					err = s.Close()
				}
			}
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(map[string]any{"changes": append([]string{}, changes...), "done": !check})
			}
			switch {
			case len(changes) == 0:
				fmt.Fprintln(a.out, "the records are up to date")
			case check:
				fmt.Fprintf(a.out, "%d changes of the records would be made:\n", len(changes))
			default:
				fmt.Fprintf(a.out, "%d changes of the records were made:\n", len(changes))
			}
			for _, x := range changes {
				fmt.Fprintln(a.out, "  "+x)
			}
			return nil
		},
	}
	c.Flags().StringVar(&dir, "dir", "fiume-data", "data directory")
	c.Flags().StringVar(&dsn, "dsn", "", "database of the records (default: that of the private server)")
	c.Flags().BoolVar(&check, "check", false, "say what would change, and change nothing")
	a.outputFlag(c, "text", "json")
	return c
}
