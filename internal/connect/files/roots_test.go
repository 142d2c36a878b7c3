package files

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"fiume/internal/connect/roots"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/types"
	"fiume/internal/disk"
)

// TestRoots: no address leads out of the directories for files, however it is written, and no pipe or device is read.
func TestRoots(t *testing.T) {
	base := t.TempDir()
	in, out := filepath.Join(base, "in"), filepath.Join(base, "out")
	secret := filepath.Join(out, "secret")
	for _, d := range []string{in, out, filepath.Join(base, "in2")} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for _, f := range []string{secret, filepath.Join(in, "a.json"), filepath.Join(base, "in2", "b.json")} {
		if err := os.WriteFile(f, []byte("{}\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for from, to := range map[string]string{"link": secret, "dir": out, "good": filepath.Join(in, "a.json"), "nowhere": filepath.Join(out, "none")} {
		if err := os.Symlink(to, filepath.Join(in, from)); err != nil {
			t.Fatal(err)
		}
	}
	if err := syscall.Mkfifo(filepath.Join(in, "pipe"), 0o644); err != nil {
		t.Fatal(err)
	}
	r, err := roots.New(in)
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range []string{"a.json", in, filepath.Join(in, "a.json"), "good", "a.*", filepath.Join(in, "*.json"), "[a].json"} {
		if names, err := r.Files(a); a != in && (err != nil || len(names) != 1) {
			t.Errorf("%s: %v %v", a, names, err)
		}
		if _, err := r.Path(a); err != nil {
			t.Errorf("%s: %v", a, err)
		}
	}
	if _, err := r.Path("new/deeper/still"); err != nil {
		t.Error(err)
	}
	for _, a := range []string{secret, "link", "../out/secret", "dir/secret", "dir/new", in + "2/b.json", "../in2/b.json", "../*/secret", base + "/*/secret", "/etc/passwd", "/dev/zero", "nowhere", "dir/*", "/", in + "/../out", "lin*"} {
		_, err := r.Files(a)
		if err == nil {
			t.Errorf("%s: its files are given", a)
		}
		if _, perr := r.Path(a); perr == nil && a != "lin*" {
			t.Errorf("%s: it is allowed", a)
		}
	}
	if _, err := r.Files("pipe"); err == nil || !strings.Contains(err.Error(), "a pipe") {
		t.Errorf("a pipe: %v", err)
	}
	if names, err := (*roots.Roots)(nil).Files(secret); err != nil || len(names) != 1 {
		t.Errorf("without roots: %v %v", names, err)
	}
	if _, err := (*roots.Roots)(nil).Files("/dev/zero"); err == nil {
		t.Error("a device is read")
	}
}

// TestOneWriter: while a sink writes into a directory no other does, and an open part of one is not destroyed by another
// one later; a writer that is gone gives the directory up.
func TestOneWriter(t *testing.T) {
	dir := t.TempDir()
	open := func(writer string) (*Sink, error) {
		return OpenSink(disk.OS{}, &plan.Op{Kind: plan.Output, Fields: []types.Field{{Name: "v", Type: types.Of(types.Varchar)}},
			Sink: &plan.Sink{Name: "k", Place: "files", Address: dir, Options: plan.Options{}}}, nil, writer)
	}
	a, err := open("a")
	if err == nil {
		err = a.Resume(nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	if _, err := open("b"); err == nil || !strings.Contains(err.Error(), "another job or sink is writing") {
		t.Fatalf("two at once: %v", err)
	}
	if err := a.Write(flow.Payload{Rows: 1, Bytes: []byte("1\n")}); err != nil {
		t.Fatal(err)
	}
	handle, err := a.Mark(false)
	if err == nil {
		err = a.Close(false)
	}
	if err != nil {
		t.Fatal(err)
	}
	b, err := open("b")
	if err != nil {
		t.Fatal(err)
	}
	if err := b.Resume(nil); err == nil || !strings.Contains(err.Error(), "open part") {
		t.Fatalf("another writer's part: %v", err)
	}
	_ = b.Close(false)
	if a, err = open("a"); err == nil {
		err = a.Resume(handle)
	}
	if err != nil {
		t.Fatalf("its own part is gone: %v", err)
	}
	_ = a.Close(false)
	if err := leave(disk.OS{}, dir, "a"); err != nil {
		t.Fatal(err)
	}
	if b, err = open("b"); err == nil {
		err = b.Resume(nil)
	}
	if err != nil {
		t.Fatalf("after the writer has left: %v", err)
	}
	_ = b.Close(false)
}
