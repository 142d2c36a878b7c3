package files

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect/store"
)

// tail gives the editions of a file that grows: when it is rotated, the one before is read to its end first.
type tail struct {
	f    *folder
	path string
	last store.File // the edition that was read last
	anew bool       // it was cut short, and begins anew
	// former are the tags of editions that were read before and were last written in the same moment as the last one. The list is never changed.
	former []string
}

func (t *tail) began(m *mark) {
	if m != nil && m.File != "" {
		t.last.Tag, t.former, t.last.Changed = m.Tag, m.Former, time.Unix(0, m.At)
		return
	}
	// Former editions are read first: it may have been rotated before anybody looked.
	var first store.File
	for _, x := range t.editions(context.Background()) {
		if x.Name != t.path && (first.Name == "" || x.Changed.Before(first.Changed)) {
			first = x
		}
	}
	if first.Name != "" {
		t.last.Changed = first.Changed.Add(-1)
		t.last.Tag = "none"
	}
}

// editions are the file and those that it was rotated to.
func (t *tail) editions(ctx context.Context) (out []store.File) {
	_ = t.f.store.Each(ctx, escape(t.path)+"*", "", func(x store.File) bool { // where it cannot be listed now, nothing has come
		if x.Name != t.path && (current(x.Name) != t.path || slices.Contains(packedExts, path.Ext(x.Name))) {
			return true
		}
		if f, err := t.f.store.Stat(ctx, x.Name); err == nil {
			out = append(out, f)
		}
		return true
	})
	return out
}

// packedExts end the names of former editions that were packed since: what is in them was read before.
var packedExts = []string{".gz", ".zst", ".bz2", ".xz", ".zip"}

// escape makes a name a pattern for itself.
func escape(name string) string {
	var b strings.Builder
	for _, r := range name {
		if strings.ContainsRune(`*?[]{}\`, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// byTag finds an edition. One that is being renamed meanwhile is found the next time.
func (t *tail) byTag(ctx context.Context, tag string) (store.File, error) {
	for range 5 {
		for _, x := range t.editions(ctx) {
			if x.Tag == tag {
				return x, nil
			}
		}
		pause(ctx, 10*time.Millisecond)
	}
	return store.File{}, fs.ErrNotExist
}

func (t *tail) next(ctx context.Context) (*store.File, error) {
	now, err := t.f.store.Stat(ctx, t.path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	there := err == nil
	switch {
	case t.last.Tag == "" && there: // the first one
	case t.anew && there:
	case t.last.Tag == "":
		return t.none()
	default: // the one behind the last
		var after []store.File
		for _, x := range t.editions(ctx) {
			if x.Tag != t.last.Tag && !x.Changed.Before(t.last.Changed) && !slices.Contains(t.former, x.Tag) {
				after = append(after, x)
			}
		}
		if len(after) == 0 {
			return t.none()
		}
		now = slices.MinFunc(after, func(x, y store.File) int {
			if x.Name == t.path || y.Name == t.path { // it is the newest
				return cmp.Compare(b2i(x.Name == t.path), b2i(y.Name == t.path))
			}
			return x.Changed.Compare(y.Changed)
		})
		if now.Changed.Equal(t.last.Changed) {
			t.former = append(slices.Clone(t.former), t.last.Tag)
		} else {
			t.former = nil
		}
	}
	t.last, t.anew = now, false
	return &now, nil
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (t *tail) none() (*store.File, error) {
	if t.f.once {
		return nil, io.EOF
	}
	return nil, nil
}

// grows implements feed.
func (t *tail) grows(ctx context.Context, f store.File, read int64) (more, replaced bool, err error) {
	t.last.Tag = f.Tag
	if t.f.once {
		t.anew = false
		return false, false, nil
	}
	now, err := t.f.store.Stat(ctx, t.path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, false, err
	}
	if err == nil && now.Tag == f.Tag {
		if now.Size < read {
			t.anew = true
			return false, true, nil
		}
		t.last.Changed = now.Changed
		return true, false, nil
	}
	old, err := t.byTag(ctx, f.Tag)
	if err != nil {
		t.last.Changed = f.Changed
		return false, false, nil // it is gone; what is open was read
	}
	t.last.Changed = old.Changed
	// Whoever writes may go on with the former edition for a moment.
	return old.Size > read || time.Since(old.Changed) < t.f.rest, false, nil
}

// wait implements feed.
func (t *tail) wait(ctx context.Context) { pause(ctx, 100*time.Millisecond) }

// formerEnd ends the name of a former edition: .1, -20260517, .2026-05-17T10, .1.gz.
var formerEnd = regexp.MustCompile(`[.-][0-9][0-9TZ:._-]*(\.gz|\.zst|\.bz2|\.xz|\.zip)?$`)

// current gives the name of the file that one is a former edition of, or its own.
func current(name string) string {
	if i := formerEnd.FindStringIndex(name); i != nil && i[0] > strings.LastIndexByte(name, '/')+1 {
		return name[:i[0]]
	}
	return name
}
