package base

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/service/access"
)

// TestTurns: so many questions at a time, each for so long; who waits too long is told, and who goes gives its place back.
func TestTurns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &Base{Turns: NewTurns(1 << 20)}
		var leave []func()
		for range mostAtOnce {
			_, done, err := b.Ask(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			leave = append(leave, done)
		}
		began := time.Now()
		if _, _, err := b.Ask(t.Context()); !errors.Is(err, ErrBusy) || time.Since(began) != patience {
			t.Errorf("%v after %v", err, time.Since(began))
		}
		gone, cancel := context.WithCancel(t.Context())
		cancel()
		if _, _, err := b.Ask(gone); !errors.Is(err, context.Canceled) {
			t.Error(err)
		}
		go func() { time.Sleep(time.Second); leave[0]() }()
		ctx, done, err := b.Ask(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		began = time.Now()
		<-ctx.Done()
		if took := time.Since(began); took != longestAsked || !errors.Is(ctx.Err(), context.DeadlineExceeded) {
			t.Errorf("a question ends after %v: %v", took, ctx.Err())
		}
		done()
		for _, f := range leave[1:] {
			f()
		}
		for range mostAtOnce {
			if _, _, err := b.Ask(t.Context()); err != nil {
				t.Fatal(err)
			}
		}
		var ends []func()
		for range mostLive {
			end, err := b.Listen(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			ends = append(ends, end)
		}
		if _, err := b.Listen(t.Context()); !errors.Is(err, ErrBusy) || !strings.Contains(err.Error(), "end one first") {
			t.Error(err)
		}
		ends[0]()
		if _, err := b.Listen(t.Context()); err != nil {
			t.Error(err)
		}
	})
}

// TestErrors: an error has a kind and a text, and keeps its kind when it is wrapped.
func TestErrors(t *testing.T) {
	err := errors.Join(errors.New("first"), Errorf(ErrConflict, "no %d", 1))
	if !errors.Is(err, ErrConflict) || errors.Is(err, ErrNotFound) || err.Error() != "first\nno 1" {
		t.Error(err)
	}
}

// TestNote: a text that is too long for the records is cut, between letters, and a log that cannot be written stops nothing.
func TestNote(t *testing.T) {
	m := catalog.NewMemory()
	var said strings.Builder
	b := &Base{Store: m, Log: slog.New(slog.NewTextHandler(&said, nil))}
	b.Note("me", "did", strings.Repeat("ü", 500), strings.Repeat("ö", 50_000))
	a, err := m.Activity(0, "", 1)
	if err != nil || len([]rune(a[0].Object)) != LongestName || !strings.HasSuffix(a[0].Object, "ü…") || len([]rune(a[0].Detail)) != 20_000 {
		t.Errorf("%d letters, %v", len([]rune(a[0].Object)), err)
	}
	m.Fail = func(string) error { return errors.New("away") }
	b.Note("me", "did", "it", "")
	if !strings.Contains(said.String(), "the activity log cannot be written") {
		t.Error(said.String())
	}
}

// TestWriteWhole replaces a file in one step, readable by nobody else.
func TestWriteWhole(t *testing.T) {
	path := filepath.Join(t.TempDir(), "f")
	for _, text := range []string{"one", "two"} {
		if err := WriteWhole(path, []byte(text)); err != nil {
			t.Fatal(err)
		}
		if got, err := os.ReadFile(path); err != nil || string(got) != text {
			t.Errorf("%q %v", got, err)
		}
	}
	if st, err := os.Stat(path); err != nil || st.Mode().Perm() != 0o600 {
		t.Error(st.Mode(), err)
	}
	if all, err := os.ReadDir(filepath.Dir(path)); err != nil || len(all) != 1 {
		t.Error(all, err)
	}
	if err := WriteWhole(filepath.Join(t.TempDir(), "no", "f"), nil); err == nil {
		t.Error("a file is written where there is no directory")
	}
	for name, want := range map[string]string{"a b": "checkpoints/job-a%20b", "../x": "checkpoints/job-..%2Fx", "": "checkpoints/job-"} {
		if got := StateDir(name); got != want {
			t.Errorf("%q lies in %q", name, got)
		}
	}
}

// TestTurnsOfOne: a caller takes some of the places, and leaves the others to others.
func TestTurnsOfOne(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &Base{Turns: NewTurns(1 << 20)}
		ada := access.With(t.Context(), &access.Caller{Name: "ada", Via: "session"})
		eve := access.With(t.Context(), &access.Caller{Name: "eve", Via: "session"})
		var back []func()
		for range mostAtOnceOf {
			_, done, err := b.Ask(ada)
			if err != nil {
				t.Fatal(err)
			}
			back = append(back, done)
		}
		if _, _, err := b.Ask(ada); !errors.Is(err, ErrBusy) || !strings.Contains(err.Error(), "of yours") {
			t.Error(err)
		}
		_, done, err := b.Ask(eve)
		if err != nil {
			t.Fatalf("eve has to wait for ada: %v", err)
		}
		done()
		for _, f := range back {
			f()
		}
		if _, done, err = b.Ask(ada); err != nil {
			t.Fatal(err)
		}
		done()
		for range mostOfOne {
			if _, err := b.Listen(ada); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := b.Listen(ada); !errors.Is(err, ErrBusy) {
			t.Error(err)
		}
		for range mostLive - mostOfOne { // the service itself takes what is left
			if _, err := b.Listen(t.Context()); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := b.Listen(eve); !errors.Is(err, ErrBusy) || strings.Contains(err.Error(), "you have") {
			t.Error(err)
		}
	})
}
