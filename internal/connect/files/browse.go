package files

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/store"
	"fiume/internal/core/plan"
	"fiume/internal/format"
)

// Browse implements contract.Browser: directories below the roots, or buckets of an object store.
func (connector) Browse(ctx context.Context, env *contract.Env, via *plan.Endpoint, address string, most int) (*contract.Browsed, error) {
	if via != nil {
		return browseFar(ctx, env, via, address, most)
	}
	out := &contract.Browsed{Address: address, Entries: []contract.Entry{}}
	if address == "" {
		for _, d := range env.Roots.Dirs() {
			out.Entries = append(out.Entries, contract.Entry{Name: d, Kind: "directory"})
		}
		return out, nil
	}
	path, err := env.Roots.Path(address)
	if err != nil {
		return nil, err
	}
	st, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !st.IsDir() {
		f, err := os.Open(path)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		at := st.ModTime().UTC()
		out.Entries = append(out.Entries, contract.Entry{Name: address, Kind: "file", Size: st.Size(), Changed: &at})
		told(out, path, f, st.Size())
		return out, nil
	}
	list, err := os.ReadDir(path)
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		if len(out.Entries) == most {
			out.More = true
			break
		}
		if strings.HasPrefix(e.Name(), ".") { // a part that is being written
			continue
		}
		x := contract.Entry{Name: filepath.Join(address, e.Name()), Kind: "directory"}
		if st, err := e.Info(); err == nil && !e.IsDir() {
			at := st.ModTime().UTC()
			x.Kind, x.Size, x.Changed = "file", st.Size(), &at
		}
		out.Entries = append(out.Entries, x)
	}
	sorted(out)
	return out, nil
}

// sorted puts directories before files.
func sorted(b *contract.Browsed) {
	slices.SortStableFunc(b.Entries, func(x, y contract.Entry) int {
		return cmp.Or(cmp.Compare(x.Kind, y.Kind), cmp.Compare(x.Name, y.Name))
	})
}

// told adds what a file of rows tells of itself.
func told(b *contract.Browsed, name string, f interface {
	ReadAt(p []byte, off int64) (int, error)
}, size int64) {
	kind := strings.TrimPrefix(filepath.Ext(name), ".")
	if !slices.Contains(format.RowFormats, kind) {
		return
	}
	rows, err := format.OpenRowFile(kind, f, size)
	if err != nil {
		b.Facts = append(b.Facts, contract.Fact{Name: "cannot be read", Value: err.Error()})
		return
	}
	b.Facts = append(b.Facts, contract.Fact{Name: "rows", Value: fmt.Sprint(rows.Rows())})
	cols, err := rows.Columns()
	if err != nil {
		return
	}
	for _, c := range cols {
		b.Columns = append(b.Columns, contract.TableColumn{Name: c.Name, Type: c.Type.String(), NotNull: c.NotNull})
	}
}

func browseFar(ctx context.Context, env *contract.Env, via *plan.Endpoint, address string, most int) (*contract.Browsed, error) {
	far, err := farOf(env, via)
	if err != nil {
		return nil, err
	}
	out := &contract.Browsed{Address: address, Entries: []contract.Entry{}}
	if address == "" {
		buckets, err := far.Buckets(ctx)
		for _, b := range buckets {
			out.Entries = append(out.Entries, contract.Entry{Name: store.Scheme + b + "/", Kind: "bucket"})
		}
		return out, err
	}
	if err := store.Within(address, via); err != nil {
		return nil, err
	}
	if !strings.HasSuffix(address, "/") {
		o, err := far.Open(ctx, address)
		if err == nil {
			defer o.Close()
			st := o.File()
			at := st.Changed.UTC()
			out.Entries = append(out.Entries, contract.Entry{Name: address, Kind: "file", Size: st.Size, Changed: &at})
			told(out, address, o, st.Size)
			return out, nil
		}
		if !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
		address += "/"
	}
	dirs, files, more, err := far.Dir(ctx, address, most)
	if err != nil {
		return nil, err
	}
	if len(dirs)+len(files) == 0 {
		if err := far.Exists(ctx, address); err != nil {
			return nil, err
		}
	}
	out.Address, out.More = address, more
	for _, d := range dirs {
		out.Entries = append(out.Entries, contract.Entry{Name: d, Kind: "directory"})
	}
	for _, f := range files {
		at := f.Changed.UTC()
		out.Entries = append(out.Entries, contract.Entry{Name: f.Name, Kind: "file", Size: f.Size, Changed: &at})
	}
	sorted(out)
	return out, nil
}
