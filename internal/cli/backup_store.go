package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"fiume/internal/connect/store"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"

	"github.com/spf13/cobra"
)

// far says where an object store is that archives lie in, and who asks it.
type far struct {
	address, secretFile, region, style, ca string
}

func (f *far) flags(c *cobra.Command) {
	c.Flags().StringVar(&f.address, "store", "", "of s3://…: where the object store is, https://key@host[:port]")
	c.Flags().StringVar(&f.secretFile, "store-secret-file", "", "of s3://…: file with the secret part of the key")
	c.Flags().StringVar(&f.region, "store-region", "us-east-1", "of s3://…: region that requests are signed for")
	c.Flags().StringVar(&f.style, "store-style", "path", "of s3://…: path or host, where the bucket stands")
	c.Flags().StringVar(&f.ca, "store-ca", "", "of s3://…: file with the certificates of those who may sign the store's (default: those of the system)")
}

// isFar says whether an archive lies in an object store.
func isFar(name string) bool { return strings.HasPrefix(name, store.Scheme) }

// open gives the object store; it does not connect yet.
func (f *far) open(name string) (*store.Far, error) {
	if f.address == "" {
		return nil, fail(exitUsage, "say where the object store of %s is: --store https://key@host:port, and --store-secret-file FILE", name)
	}
	if _, err := store.Address(f.address); err != nil {
		return nil, fail(exitUsage, "--store: %s", err)
	}
	if f.style != "path" && f.style != "host" {
		return nil, fail(exitUsage, "--store-style is path or host, and not %s", f.style)
	}
	e := &plan.Endpoint{Name: "of --store", Place: "files", Address: f.address, Options: plan.Options{"region": sql.Option{Word: f.region}, "style": sql.Option{Word: f.style}}}
	if f.secretFile != "" {
		e.Secret = f.secretFile
	}
	if f.ca != "" {
		e.Options["ca"] = sql.Option{Word: f.ca}
	}
	if err := store.Within(name, e); err != nil {
		return nil, fail(exitUsage, "%s", err)
	}
	s, err := store.Of(e, func(file, _ string) (string, error) {
		b, err := os.ReadFile(file)
		return strings.TrimSpace(string(b)), err
	}, nil)
	if err != nil {
		return nil, fail(exitUsage, "%s", err)
	}
	out, ok := s.(*store.Far)
	if !ok {
		return nil, fail(exitUsage, "%s is no object store", f.address)
	}
	return out, nil
}

// named gives the name that an archive gets: that of an object, or, below a bucket or what ends with a slash, one of its own.
func (f *far) named(ctx context.Context, s *store.Far, to, otherwise string) (string, error) {
	if rest := strings.TrimPrefix(to, store.Scheme); !strings.Contains(rest, "/") || strings.HasSuffix(rest, "/") {
		to = store.Scheme + path.Join(rest, otherwise)
	}
	if err := s.Exists(ctx, to); err != nil {
		return "", failed(err)
	}
	switch _, err := s.Stat(ctx, to); {
	case err == nil:
		return "", fail(exitUsage, "%s is there already", to)
	case !errors.Is(err, os.ErrNotExist):
		return "", failed(err)
	}
	return to, nil
}

// put sends a file that is whole, which is there whole then, or not at all.
func (f *far) put(ctx context.Context, s *store.Far, file, to string, size int64) error {
	in, err := os.Open(file)
	if err != nil {
		return failed(err)
	}
	defer in.Close()
	return failed(s.Put(ctx, to, in, size))
}

// get gives an archive to read.
func (f *far) get(ctx context.Context, name string) (io.Reader, error) {
	s, err := f.open(name)
	if err != nil {
		return nil, err
	}
	o, err := s.Open(ctx, name)
	if err != nil {
		return nil, failed(err)
	}
	return io.NewSectionReader(o, 0, o.File().Size), nil
}

// backupFar writes an archive beside what is temporary, and sends it to an object store when it is whole.
func (a *app) backupFar(ctx context.Context, f *far, to, otherwise, passphrase string) (*taken, error) {
	s, err := f.open(to)
	if err != nil {
		return nil, err
	}
	if to, err = f.named(ctx, s, to, otherwise); err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "fiume-backup-")
	if err != nil {
		return nil, failed(err)
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, otherwise)
	m, n, err := a.backupTo(ctx, file, passphrase)
	if err != nil {
		return nil, err
	}
	return &taken{to, m, n}, f.put(ctx, s, file, to, n)
}
