package catalog

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// TestPrivateServer starts the private server, stops it, kills it and starts it again: the records
// stay, the password changes, and nobody gets in without it.
func TestPrivateServer(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "mariadb")
	ctx := t.Context()
	s, err := StartServer(ctx, dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	store, err := Open(context.Background(), s.DSN("fiume"))
	if err != nil {
		t.Fatal(err)
	}
	if err := store.PutDefinition("stream", "größe 🏃", "DECLARE …"); err != nil {
		t.Fatal(err)
	}
	for _, user := range []string{"root", "fiume", ""} {
		if st, err := Open(ctx, fmt.Sprintf("%s@tcp(%s)/mysql", user, s.Addr)); err == nil {
			st.Close()
			t.Errorf("%q gets in without a password", user)
		}
	}
	if b, err := os.ReadDir(dir); err == nil {
		for _, e := range b {
			if e.Name() == "init.sql" {
				t.Error("the file with the password is left behind")
			}
		}
	}
	if err := store.Close(); err != nil {
		t.Fatal(err)
	}
	former := s.Password
	// The server is left behind, as when its service is killed while the server is slow to end.
	left := s
	close(left.stop) // nobody looks after it any more
	<-left.done
	if s, err = StartServer(ctx, dir, nil); err != nil {
		t.Fatal(err)
	}
	select {
	case <-left.exited:
	case <-time.After(time.Minute):
		t.Error("the former server still runs")
	}
	if s.Password == former {
		t.Error("the password is the former one")
	}
	if store, err = Open(context.Background(), s.DSN("fiume")); err != nil {
		t.Fatal(err)
	}
	if defs, err := store.Definitions(); err != nil || len(defs) != 1 || defs[0].Name != "größe 🏃" {
		t.Errorf("%+v, %v", defs, err)
	}
	if err := s.MakeDatabase(ctx, "x; DROP DATABASE fiume", "u", "p"); err == nil {
		t.Error("a name that is SQL is taken")
	}
	store.Close()
	close(s.stop) // as when the service dies with it
	<-s.done
	if err := s.process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	<-s.exited
	if s, err = StartServer(ctx, dir, nil); err != nil {
		t.Fatalf("after a kill: %v", err)
	}
	if store, err = Open(context.Background(), s.DSN("fiume")); err != nil {
		t.Fatal(err)
	}
	recordsTest(t, store)
	store.Close()
	if err := s.Stop(); err != nil {
		t.Error(err)
	}
	if err := s.Stop(); err != nil {
		t.Errorf("stopped twice: %v", err)
	}
}

func TestNoServer(t *testing.T) {
	t.Setenv("FIUME_MARIADBD", filepath.Join(t.TempDir(), "mariadbd"))
	if _, err := StartServer(t.Context(), t.TempDir(), nil); !errors.Is(err, ErrNoServer) || !strings.Contains(err.Error(), "apt-get install") {
		t.Error(err)
	}
	broken := filepath.Join(t.TempDir(), "mariadbd")
	if err := os.WriteFile(broken, []byte("#!/bin/sh\necho 'no space left'\nexit 3\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("FIUME_MARIADBD", broken)
	if _, err := StartServer(t.Context(), t.TempDir(), nil); err == nil || !strings.Contains(err.Error(), "no space left") {
		t.Errorf("a server that ends at once: %v", err)
	}
	if _, err := Open(t.Context(), "nonsense"); err == nil || !strings.Contains(err.Error(), "DSN") {
		t.Error(err)
	}
}

// TestSlowStart: a server that has much to recover is waited for as long as it says something, and one that says nothing is given up.
func TestSlowStart(t *testing.T) {
	startsWithin = 10 * time.Second
	defer func() { startsWithin = time.Minute }()
	real, err := find("mariadbd", "mysqld")
	if err != nil {
		t.Fatal(err)
	}
	program := filepath.Join(t.TempDir(), "mariadbd")
	begin := func(script string) error {
		t.Helper()
		if err := os.WriteFile(program, []byte("#!/bin/sh\n"+script), 0o755); err != nil {
			t.Fatal(err)
		}
		t.Setenv("FIUME_MARIADBD", program)
		s, err := StartServer(t.Context(), t.TempDir(), nil)
		if err == nil {
			err = s.Stop()
		}
		return err
	}
	if err := begin("for i in 1 2 3 4 5 6 7 8 9 10 11 12; do echo recovering $i; sleep 1; done\nexec " + real + ` "$@"` + "\n"); err != nil {
		t.Error(err)
	}
	if err := begin("exec sleep 600\n"); err == nil || !strings.Contains(err.Error(), "has said nothing for 10s") {
		t.Error(err)
	}
}

// TestServerIsLookedAfter: a server that dies is started again at the same address, one that hangs is killed first, and
// what a killed service left behind, also in the middle of its own start, does not keep the next one from starting.
func TestServerIsLookedAfter(t *testing.T) {
	lookEvery, hungAfter = 200*time.Millisecond, 3*time.Second
	defer func() { lookEvery, hungAfter = 2*time.Second, 40*time.Second }()
	dir := t.TempDir()
	var mu sync.Mutex
	var said []string
	s, err := StartServer(t.Context(), dir, func(text string, args ...any) {
		mu.Lock()
		defer mu.Unlock()
		said = append(said, text)
	})
	if err != nil {
		t.Fatal(err)
	}
	store, err := Open(t.Context(), s.DSN("fiume"))
	if err != nil {
		t.Fatal(err)
	}
	defer store.Close()
	works := func(what string) {
		t.Helper()
		deadline := time.Now().Add(5 * time.Minute)
		for {
			err := store.Note("test", "did", what, "")
			if err == nil {
				return
			}
			if time.Now().After(deadline) {
				t.Fatalf("after %s: %v", what, err)
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	pid := func() int {
		s.mu.Lock()
		defer s.mu.Unlock()
		return s.process.Pid
	}
	again := 0
	saidAgain := func() (n int) {
		mu.Lock()
		defer mu.Unlock()
		for _, text := range said {
			if strings.HasSuffix(text, "runs again") {
				n++
			}
		}
		return n
	}
	for what, signal := range map[string]syscall.Signal{"a kill": syscall.SIGKILL, "an end": syscall.SIGTERM, "a standstill": syscall.SIGSTOP} {
		works("nothing")
		was := pid()
		if err := syscall.Kill(was, signal); err != nil {
			t.Fatal(err)
		}
		for deadline := time.Now().Add(5 * time.Minute); pid() == was; time.Sleep(20 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatalf("after %s it was not started again", what)
			}
		}
		works(what)
		// Its start has ended, too: a server that starts is given more time to answer than one that runs.
		again++
		for deadline := time.Now().Add(5 * time.Minute); saidAgain() < again; time.Sleep(20 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatalf("after %s it was not said that it runs again", what)
			}
		}
	}
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	mu.Lock()
	if len(said) < 6 {
		t.Errorf("said was only %q", said)
	}
	mu.Unlock()
	// Left behind: a process that does not end when it is asked to, as one does that is asked in the middle of its start.
	stuck := exec.Command("bash", "-c", "trap '' TERM; while true; do sleep 0.1; done", dataArg+s.data())
	if err := stuck.Start(); err != nil {
		t.Fatal(err)
	}
	go func() { _ = stuck.Wait() }()
	next, err := StartServer(t.Context(), dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := next.Stop(); err != nil {
		t.Fatal(err)
	}
}

// TestClaim: one service at a time has a database, and the next one when it has closed it.
func TestClaim(t *testing.T) {
	server, err := StartServer(t.Context(), t.TempDir(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer server.Stop()
	open := func() *Store {
		s, err := Open(t.Context(), server.DSN("fiume"))
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	a, b := open(), open()
	defer b.Close()
	if err := a.Claim(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := b.Claim(t.Context()); err == nil || !strings.Contains(err.Error(), "another service uses this database") {
		t.Errorf("two services: %v", err)
	}
	if err := a.Close(); err != nil {
		t.Fatal(err)
	}
	if err := b.Claim(t.Context()); err != nil {
		t.Errorf("after the first has closed it: %v", err)
	}
}
