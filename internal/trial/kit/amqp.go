package kit

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"
)

// AMQP is a private AMQP broker with a user, timing.
type AMQP struct {
	Addr, Password string
	env            []string
	cmd            *exec.Cmd
	names          *exec.Cmd // the list of brokers on the machine, which one would start by itself, and leave
	dir            string
}

// StartAMQP starts a broker that is gone at the end of the test.
func StartAMQP(t testing.TB) *AMQP {
	t.Helper()
	dir := t.TempDir()
	ports := []int{FreePort(t), FreePort(t), FreePort(t)}
	a := &AMQP{Addr: fmt.Sprintf("127.0.0.1:%d", ports[0]), Password: "pl4nted-m4rker", dir: dir}
	conf := fmt.Sprintf("listeners.tcp.1 = %s\ndefault_user = timing\ndefault_pass = %s\nlog.console = false\nvm_memory_high_watermark.absolute = 1GB\ndisk_free_limit.absolute = 50MB\n", a.Addr, a.Password)
	for name, text := range map[string]string{"broker.conf": conf, "plugins": "[].\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	a.env = append(os.Environ(), "HOME="+dir, "RABBITMQ_MNESIA_BASE="+filepath.Join(dir, "data"), "RABBITMQ_LOG_BASE="+filepath.Join(dir, "log"), "RABBITMQ_CONFIG_FILE="+filepath.Join(dir, "broker"),
		"RABBITMQ_ENABLED_PLUGINS_FILE="+filepath.Join(dir, "plugins"), fmt.Sprintf("RABBITMQ_NODENAME=n%d@localhost", ports[0]), fmt.Sprintf("RABBITMQ_DIST_PORT=%d", ports[1]), fmt.Sprintf("ERL_EPMD_PORT=%d", ports[2]), "ERL_EPMD_ADDRESS=127.0.0.1",
		"RABBITMQ_PID_FILE="+filepath.Join(dir, "pid"), "RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS=+S 1:1 +sbwt none")
	a.names = exec.Command("epmd", "-address", "127.0.0.1", "-port", strconv.Itoa(ports[2]))
	if err := a.names.Start(); err != nil {
		t.Fatal("the AMQP broker is not installed; run make setup-tests")
	}
	t.Cleanup(a.end)
	a.start(t)
	return a
}

// start starts the broker.
func (a *AMQP) start(t testing.TB) {
	t.Helper()
	const program = "/usr/lib/rabbitmq/bin/rabbitmq-server"
	if _, err := os.Stat(program); err != nil {
		t.Fatal("the AMQP broker is not installed; run make setup-tests")
	}
	log, err := os.Create(filepath.Join(a.dir, "out"))
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	a.cmd = exec.Command(program)
	a.cmd.Env, a.cmd.Stdout, a.cmd.Stderr, a.cmd.SysProcAttr = a.env, log, log, &syscall.SysProcAttr{Setpgid: true}
	if err := a.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(Patience); ; time.Sleep(50 * time.Millisecond) {
		c, err := net.Dial("tcp", a.Addr)
		if err == nil {
			c.Close()
			return
		}
		if time.Now().After(deadline) {
			text, _ := os.ReadFile(log.Name())
			t.Fatalf("the broker does not come up: %v\n%s", err, text)
		}
	}
}

// Kill ends the broker at once, and starts it again over what it has on the disk.
func (a *AMQP) Kill(t testing.TB) {
	t.Helper()
	a.kill()
	a.start(t)
}

func (a *AMQP) kill() {
	if a.cmd != nil {
		_ = syscall.Kill(-a.cmd.Process.Pid, syscall.SIGKILL)
		_ = a.cmd.Wait()
	}
}

// end ends the broker, and the list.
func (a *AMQP) end() {
	a.kill() // nobody wants its data
	_ = a.names.Process.Kill()
	_ = a.names.Wait()
}
