// Package e2e drives the whole: the built program and its service on loopback, called through its
// client, its command line, its network interface, and its console in a browser.
package e2e

import (
	"bufio"
	"bytes"
	"context"
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"fiume/internal/client"
	"fiume/internal/trial/kit"
)

var binary string

func TestMain(m *testing.M) {
	flag.Parse()
	dir, err := os.MkdirTemp("", "fiume-e2e-")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "fiume")
	args := []string{"build", "-ldflags=-s -w", "-o", binary}
	if os.Getenv("RACED") != "" { // what races is then reported by the program, which fails
		args = append(args, "-race")
		_ = os.Setenv("GORACE", "halt_on_error=1")
	}
	build := exec.Command("go", append(args, "../cmd/fiume")...)
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		panic(err)
	}
	code := m.Run()
	stopRaceServer()
	if chromium.end != nil {
		chromium.end()
	}
	os.RemoveAll(dir)
	os.Exit(code)
}

// output is what a process prints, to read while it runs.
type output struct {
	mu   sync.Mutex
	buf  bytes.Buffer
	more chan struct{}
}

func (o *output) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	n, err := o.buf.Write(b)
	select {
	case o.more <- struct{}{}:
	default:
	}
	return n, err
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.buf.String()
}

// process is the program running.
type process struct {
	t        testing.TB
	cmd      *exec.Cmd
	out, err *output
	base     string // address of its service
	*client.Client
	done chan error
}

// start runs the program and waits for the address in its output.
func start(t testing.TB, args ...string) *process {
	t.Helper()
	return startIn(t, "", args...)
}

// startIn is start in a directory.
func startIn(t testing.TB, dir string, args ...string) *process {
	t.Helper()
	p := &process{t: t, cmd: exec.Command(binary, args...), out: &output{more: make(chan struct{}, 1)}, err: &output{more: make(chan struct{}, 1)}, done: make(chan error, 1)}
	p.cmd.Dir, p.cmd.Stdout, p.cmd.Stderr = dir, p.out, p.err
	if err := p.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	go func() { p.done <- p.cmd.Wait() }()
	t.Cleanup(p.end)
	deadline := time.After(patience)
	for p.base == "" {
		select {
		case <-p.out.more:
			sc := bufio.NewScanner(strings.NewReader(p.out.String()))
			for sc.Scan() {
				if _, after, ok := strings.Cut(sc.Text(), "http://"); ok {
					p.base = "http://" + strings.TrimRight(strings.Fields(after)[0], ",.")
					break
				}
			}
		case err := <-p.done:
			p.done <- err
			t.Fatalf("the program ended: %v\n%s%s", err, p.out, p.err)
		case <-deadline:
			t.Fatalf("no address after a minute:\n%s%s", p.out, p.err)
		}
	}
	p.Client = client.New(p.base)
	return p
}

// serve starts a service over a directory.
func serve(t testing.TB, dir string) *process {
	t.Helper()
	return start(t, "serve", "--dir", dir, "--listen", "127.0.0.1:0", "--files", os.TempDir())
}

// stop ends the process in order and checks that it says so.
func (p *process) stop() {
	p.t.Helper()
	if err := p.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		p.t.Fatal(err)
	}
	select {
	case err := <-p.done:
		p.done <- err
		if err != nil {
			p.t.Fatalf("the service did not end cleanly: %v\n%s", err, p.err)
		}
	case <-time.After(patience):
		p.t.Fatalf("the service did not end:\n%s", p.err)
	}
}

// end ends the process at the end of a test, in order, so that its database server is gone before
// its directory is.
func (p *process) end() {
	_ = p.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case err := <-p.done:
		p.done <- err
	case <-time.After(patience):
		p.kill()
	}
}

// kill ends the process without warning.
func (p *process) kill() {
	_ = p.cmd.Process.Kill()
	err := <-p.done
	p.done <- err
}

// result is what a command printed and its exit code.
type result struct {
	out, err string
	code     int
}

// fiume runs a command of the program to its end.
func fiume(t testing.TB, in string, args ...string) result {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, args...)
	cmd.Stdin = strings.NewReader(in)
	var out, errw bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errw
	err := cmd.Run()
	r := result{out.String(), errw.String(), cmd.ProcessState.ExitCode()}
	if ctx.Err() != nil {
		t.Fatalf("fiume %s did not end: %v\n%s%s", strings.Join(args, " "), err, r.out, r.err)
	}
	return r
}

// fiume runs a client command against the process's service.
func (p *process) fiume(in string, args ...string) result {
	p.t.Helper()
	return fiume(p.t, in, append([]string{"--server", p.base}, args...)...)
}

// want fails the test unless the command did what it should.
func (r result) want(t testing.TB, code int, parts ...string) result {
	t.Helper()
	all := r.out + r.err
	if r.code != code {
		t.Errorf("exit code %d, wanted %d\n%s", r.code, code, all)
	}
	for _, p := range parts {
		if !strings.Contains(all, p) {
			t.Errorf("the output lacks %q:\n%s", p, all)
		}
	}
	return r
}

// eventually waits until a condition holds.
// patience is how long tests wait for what is bound to come. No test depends on how fast the machine is: where it is busy
// with other things, seconds become minutes. PATIENCE says how long for who waits at the screen.
var patience = kit.Patience

func eventually(t testing.TB, what string, ok func() bool) {
	t.Helper()
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); {
		looked := time.Now()
		if ok() {
			return
		}
		time.Sleep(max(50*time.Millisecond, time.Since(looked))) // looking takes half of the time at most
	}
	t.Fatalf("after %s: still not: %s", patience, what)
}

func writeFile(t testing.TB, dir, name, text string) string {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

func lines(s string) []string {
	var out []string
	for _, l := range strings.Split(s, "\n") {
		if strings.TrimSpace(l) != "" {
			out = append(out, l)
		}
	}
	return out
}
