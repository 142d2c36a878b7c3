package kit

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"syscall"
	"testing"
	"time"
)

// NATS is a private NATS server that keeps streams, with a user, timing.
type NATS struct {
	Addr, Password string
	path           string
	args           []string
	cmd            *exec.Cmd
}

// StartNATS starts a server that is gone at the end of the test.
func StartNATS(t testing.TB) *NATS {
	t.Helper()
	const program = "/usr/sbin/nats-server"
	if _, err := os.Stat(program); err != nil {
		t.Fatal("nats-server is not installed; run make setup-tests")
	}
	port := FreePort(t)
	s := &NATS{Addr: fmt.Sprintf("127.0.0.1:%d", port), Password: "pl4nted-m4rker", path: program}
	s.args = []string{"-a", "127.0.0.1", "-p", fmt.Sprint(port), "-js", "-sd", t.TempDir(), "--user", "timing", "--pass", s.Password}
	s.Start(t)
	t.Cleanup(func() { s.end(syscall.SIGTERM) })
	return s
}

// Start starts the server, again where it was killed.
func (s *NATS) Start(t testing.TB) {
	t.Helper()
	s.cmd = exec.Command(s.path, s.args...)
	if err := s.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(Patience); ; time.Sleep(20 * time.Millisecond) {
		c, err := net.Dial("tcp", s.Addr)
		if err == nil {
			c.Close()
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("the server does not come up: %v", err)
		}
	}
}

// Kill ends the server at once.
func (s *NATS) Kill() { s.end(syscall.SIGKILL) }

func (s *NATS) end(by syscall.Signal) {
	_ = s.cmd.Process.Signal(by)
	_ = s.cmd.Wait()
}
