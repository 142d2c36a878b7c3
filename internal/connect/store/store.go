// Package store knows where files lie: in directories of the machine, or in the buckets of an object store. What reads and writes files uses
// both in the same way.
package store

import (
	"context"
	"errors"
	"io"
	"strings"
	"time"

	"fiume/internal/connect/roots"
	"fiume/internal/core/plan"
)

// File is a file, or an object.
type File struct {
	Name    string // as Open takes it: a path, or s3://bucket/key
	Size    int64  // bytes
	Changed time.Time
	Tag     string // another one says that the content is another
}

// Object is an open file. Where it lies elsewhere, ReadAt waits for that.
type Object interface {
	io.ReaderAt
	io.Closer
	// File says what was opened.
	File() File
}

// Store is where files lie.
type Store interface {
	// Each gives the names of the files of an address, those behind after, until give says no: one file, all of a directory, or those that fit a
	// pattern; hidden ones are left out. Only where listing tells all of a file its other fields are set. That there is none is no failure.
	Each(ctx context.Context, address, after string, give func(File) bool) error
	// Fits says whether an address names a file, if that is there.
	Fits(address, name string) bool
	// Stat looks at one file. That it is not there is os.ErrNotExist.
	Stat(ctx context.Context, name string) (File, error)
	Open(ctx context.Context, name string) (Object, error)
	Remove(ctx context.Context, name string) error
	// Move puts a file into a directory, below which it keeps the path that it has below the address.
	Move(ctx context.Context, address, name, dir string) error
	// Watch calls changed with names of files that came or were written, soon after, until ctx is over. It gives false where nobody tells.
	Watch(ctx context.Context, address string, changed func(name string)) bool
	// Far says whether the files lie elsewhere, so that whoever reads them waits.
	Far() bool
	// Retry says whether a failure may pass by itself.
	Retry(err error) bool
}

// Scheme begins the addresses of an object store.
const Scheme = "s3://"

// Within says what is wrong with an address behind an endpoint, or without one.
func Within(address string, via *plan.Endpoint) error {
	far := strings.HasPrefix(address, Scheme)
	switch {
	case far && via == nil:
		return errors.New("an address s3://bucket/… needs the endpoint of an object store: add VIA and its name")
	case !far && via != nil:
		return errors.New("behind an endpoint files have addresses like s3://bucket/reads/*.json")
	case !far:
		return nil
	}
	_, _, err := split(address)
	return err
}

// Of gives the store of an address: an object store behind an endpoint, or, nil, directories below roots.
func Of(via *plan.Endpoint, secret func(name, address string) (string, error), within *roots.Roots) (Store, error) {
	if via == nil {
		return &local{within}, nil
	}
	return openFar(via, secret)
}

// constant gives the part of a pattern before its first special letter, up to a slash.
func constant(pattern string) string {
	if i := strings.IndexAny(pattern, `*?[{\`); i >= 0 {
		pattern = pattern[:i]
		return pattern[:strings.LastIndexByte(pattern, '/')+1]
	}
	return pattern
}

// hidden says whether a part of a path behind the first bytes begins with a dot.
func hidden(path string) bool {
	return strings.HasPrefix(path, ".") || strings.Contains(path, "/.")
}
