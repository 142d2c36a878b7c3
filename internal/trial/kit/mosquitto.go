package kit

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// Mosquitto is a private MQTT broker with a user, timing.
type Mosquitto struct {
	Addr, Password string
	path, conf     string
	cmd            *exec.Cmd
}

// StartMosquitto starts a broker that is gone at the end of the test.
func StartMosquitto(t testing.TB) *Mosquitto {
	t.Helper()
	m := &Mosquitto{Password: "pl4nted-m4rker", path: "/usr/sbin/mosquitto"}
	if _, err := os.Stat(m.path); err != nil {
		t.Fatal("mosquitto is not installed; run make setup-tests")
	}
	dir := t.TempDir()
	port := FreePort(t)
	m.Addr = fmt.Sprintf("127.0.0.1:%d", port)
	users := filepath.Join(dir, "users")
	if out, err := exec.Command("mosquitto_passwd", "-c", "-b", users, "timing", m.Password).CombinedOutput(); err != nil {
		t.Fatalf("mosquitto_passwd: %v\n%s", err, out)
	}
	m.conf = filepath.Join(dir, "conf")
	text := fmt.Sprintf("listener %d 127.0.0.1\nallow_anonymous false\npassword_file %s\nuser root\npersistence true\npersistence_location %s/\nmax_inflight_messages 0\nmax_queued_messages 0\nset_tcp_nodelay true\n", port, users, dir)
	if err := os.WriteFile(m.conf, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	m.Start(t)
	t.Cleanup(m.Stop)
	return m
}

// Start starts the broker, again where it was ended.
func (m *Mosquitto) Start(t testing.TB) {
	t.Helper()
	m.cmd = exec.Command(m.path, "-c", m.conf)
	if err := m.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(Patience); ; time.Sleep(20 * time.Millisecond) {
		c, err := net.Dial("tcp", m.Addr)
		if err == nil {
			c.Close()
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("the broker does not come up: %v", err)
		}
	}
}

// Stop ends the broker, which then has on the disk what it confirmed; one that is killed loses some of it.
func (m *Mosquitto) Stop() {
	_ = m.cmd.Process.Signal(syscall.SIGTERM)
	_ = m.cmd.Wait()
}
