package e2e

import (
	"bytes"
	"debug/elf"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestRelease makes what is shipped, installs the Debian package below a directory, starts what it has installed with its settings, and takes it away again.
func TestRelease(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("../console/dist/index.html"); err != nil {
		t.Fatal("the console is not built; run make build")
	}
	out := t.TempDir()
	run := func(env []string, name string, args ...string) string {
		t.Helper()
		c := exec.Command(name, args...)
		c.Dir, c.Env = "..", append(os.Environ(), env...)
		b, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, b)
		}
		return string(b)
	}
	run([]string{"COMPRESS=gzip", "LEVEL=1"}, "scripts/release.sh", out)
	f, err := elf.Open(filepath.Join(out, "fiume"))
	if err != nil {
		t.Fatal(err)
	}
	if libs, err := f.ImportedLibraries(); err != nil || len(libs) > 0 {
		t.Errorf("the program needs %v, %v", libs, err)
	}
	f.Close()
	run(nil, "bash", "-c", "cd "+out+" && sha256sum --check --quiet SHA256SUMS")
	debs, err := filepath.Glob(filepath.Join(out, "*.deb"))
	if err != nil || len(debs) != 1 {
		t.Fatal(debs, err)
	}
	root := t.TempDir()
	dpkg := []string{"--root=" + root, "--force-not-root", "--force-depends", "--force-script-chrootless", "--log=/dev/null"}
	for _, dir := range []string{"var/lib/dpkg/info", "var/lib/dpkg/updates"} {
		if err := os.MkdirAll(filepath.Join(root, dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	writeFile(t, filepath.Join(root, "var/lib/dpkg"), "status", "")
	run(nil, "dpkg", append(dpkg, "--install", debs[0])...)
	for _, name := range []string{"usr/bin/fiume", "usr/lib/systemd/system/fiume.service", "usr/share/man/man1/fiume.1.gz", "usr/share/man/man1/fiume-user-create.1.gz", "usr/share/bash-completion/completions/fiume", "usr/share/zsh/vendor-completions/_fiume",
		"usr/share/fish/vendor_completions.d/fiume.fish", "usr/share/doc/fiume/operate/people.md", "etc/fiume/fiume.yaml"} {
		if st, err := os.Stat(filepath.Join(root, name)); err != nil || st.Size() == 0 {
			t.Errorf("the package has no %s", name)
		}
	}
	installed := filepath.Join(root, "usr/bin/fiume")
	if text := run(nil, installed, "config", "check", filepath.Join(root, "etc/fiume/fiume.yaml")); !strings.Contains(text, "is right") {
		t.Error(text)
	}
	if text := run(nil, installed, "version"); !strings.Contains(text, "built with go") {
		t.Error(text)
	}
	unit, err := os.ReadFile(filepath.Join(root, "usr/lib/systemd/system/fiume.service"))
	if err != nil || !bytes.Contains(unit, []byte("ExecStart=/usr/bin/fiume serve --config /etc/fiume/fiume.yaml")) {
		t.Errorf("%s %v", unit, err)
	}
	// What it installed runs, with its console, and another time over what it has kept.
	state := t.TempDir()
	for range 2 {
		c := exec.Command(installed, "serve", "--config", filepath.Join(root, "etc/fiume/fiume.yaml"), "--dir", state, "--listen", "127.0.0.1:0")
		said := &output{more: make(chan struct{}, 1)}
		c.Stdout, c.Stderr = said, said
		began := time.Now()
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		ended := make(chan error, 1)
		go func() { ended <- c.Wait() }()
		eventually(t, "it is ready", func() bool { return strings.Contains(said.String(), "Fiume is ready: http://") })
		t.Logf("ready after %v", time.Since(began).Round(time.Millisecond))
		_ = c.Process.Signal(os.Interrupt)
		if err := <-ended; err != nil {
			t.Fatalf("%v\n%s", err, said)
		}
	}
	run(nil, "dpkg", append(dpkg, "--remove", "fiume")...)
	if _, err := os.Stat(installed); err == nil {
		t.Error("the program is there after it was taken away")
	}
	if _, err := os.Stat(filepath.Join(root, "etc/fiume/fiume.yaml")); err != nil {
		t.Error("the settings are gone with the program")
	}
}

// TestCompletion: the shell completes names of what the service has, and nothing where it does not answer.
func TestCompletion(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.fiume("CREATE TOPIC timing.reads (PARTITIONS 1); CREATE TOPIC timing.out (PARTITIONS 1); DECLARE STREAM timing.reads (chip VARCHAR) FROM TOPIC 'timing.reads'; DECLARE SINK timing.out TO TOPIC 'timing.out'; CREATE JOB timing.keep AS SELECT chip FROM timing.reads ROUTE TO timing.out;", "apply", "-").want(t, 0)
	for _, x := range []struct {
		args []string
		want string
	}{
		{[]string{"job", "show", ""}, "timing.keep"}, {[]string{"job", "stop", "tim"}, "timing.keep"}, {[]string{"topic", "read", "timing.r"}, "timing.reads"}, {[]string{"rows", ""}, "timing.reads\tstream"},
		{[]string{"lateness", ""}, "timing.reads"}, {[]string{"user", "create", "x", "--role", ""}, "administer\teverything"}, {[]string{"jo"}, "job\t"},
	} {
		r := p.fiume("", append([]string{"__complete"}, x.args...)...)
		if r.code != 0 || !strings.Contains(r.out, x.want) {
			t.Errorf("%v: %d %s%s", x.args, r.code, r.out, r.err)
		}
	}
	if r := p.fiume("", "__complete", "job", "show", "x"); strings.Contains(r.out, "timing.keep") {
		t.Error(r.out)
	}
	if r := fiume(t, "", "--server", "http://127.0.0.1:1", "__complete", "job", "show", ""); r.code != 0 || !strings.HasPrefix(strings.TrimSpace(r.out), ":") {
		t.Errorf("%d %q %q", r.code, r.out, r.err)
	}
}
