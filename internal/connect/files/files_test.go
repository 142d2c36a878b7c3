package files

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fiume/internal/connect/roots"
	"fiume/internal/connect/store"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/disk"

	"github.com/klauspost/compress/gzip"
)

// scanOf makes the scan of a stream over an address.
func scanOf(address, format string) *plan.Op {
	s := &plan.Stream{Name: "s", Time: -1, Place: "files", Address: address, Columns: []types.Field{{Name: "v", Type: types.Of(types.Varchar)}},
		Options: plan.Options{"format": sql.Option{Name: "format", Word: format}}}
	return &plan.Op{Kind: plan.Scan, Stream: s, Used: &plan.Use{All: true}, Fields: s.Columns}
}

// readAll reads a split to its end and gives its messages, each with its place.
func readAll(t *testing.T, sp flow.Split) (out []string) {
	t.Helper()
	var p flow.Piece
	for {
		err := sp.Next(&p)
		if errors.Is(err, io.EOF) {
			return out
		}
		if err != nil {
			t.Fatal(err)
		}
		if cap(p.Data) < len(p.Data)+flow.Pad {
			t.Fatalf("a piece of %d bytes has only %d behind it", len(p.Data), cap(p.Data)-len(p.Data))
		}
		if err := sp.Frame(&p); err != nil {
			t.Fatal(err)
		}
		for _, m := range p.Messages {
			place := sp.Place(m.Pos)
			out = append(out, place[strings.LastIndexByte(place, ':')+1:]+" "+string(p.Data[m.Off:m.Off+m.Len]))
		}
	}
}

// TestPieces cuts files of random lines into pieces of every size: the same messages at the same
// lines come out, whatever the size, and also after going on in the middle.
func TestPieces(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for round := range 60 {
		csv := round%2 == 1
		var text strings.Builder
		var want []string
		line := 1
		if csv {
			text.WriteString("v\n")
			line++
		}
		for range r.IntN(40) {
			body := strings.Repeat("x", r.IntN(30))
			if csv {
				if body += `,"`; r.IntN(5) == 0 {
					body = `x" stray,"` // a quote inside a field opens nothing
				}
				body += strings.Repeat("a\n", r.IntN(3)) + `""q"`
			}
			if r.IntN(6) == 0 {
				body = strings.Repeat(" ", r.IntN(3))
			}
			if strings.TrimSpace(body) != "" {
				want = append(want, fmt.Sprintf("%d %s", line, body))
			}
			line += 1 + strings.Count(body, "\n")
			text.WriteString(body + []string{"\n", "\r\n"}[r.IntN(2)])
		}
		if r.IntN(2) == 0 {
			want = append(want, fmt.Sprintf("%d last", line))
			text.WriteString("last")
		}
		path := filepath.Join(t.TempDir(), "f")
		if err := os.WriteFile(path, []byte(text.String()), 0o644); err != nil {
			t.Fatal(err)
		}
		format := "json"
		if csv {
			format = "csv"
		}
		for _, size := range []int{1, 7, 50, 1 << 20} {
			src, err := Open(scanOf(path, format), size, 0, nil)
			if err != nil {
				t.Fatal(err)
			}
			if got := readAll(t, src.Splits()[0]); !slices.Equal(got, want) {
				t.Fatalf("round %d, pieces of %d:\n%q\nwanted\n%q", round, size, got, want)
			}
			// Again, stopping after each piece and going on with a new split.
			var got []string
			pos := src.Splits()[0].Position()
			if err := src.Splits()[0].Close(); err != nil {
				t.Fatal(err)
			}
			for first := true; ; first = false {
				src, err := Open(scanOf(path, format), size, 0, nil)
				if err != nil {
					t.Fatal(err)
				}
				sp := src.Splits()[0]
				if !first {
					if err := sp.Resume(pos); err != nil {
						t.Fatal(err)
					}
				}
				var p flow.Piece
				err = sp.Next(&p)
				if err == nil {
					err = sp.Frame(&p)
				}
				for _, m := range p.Messages {
					place := sp.Place(m.Pos)
					got = append(got, place[strings.LastIndexByte(place, ':')+1:]+" "+string(p.Data[m.Off:m.Off+m.Len]))
				}
				pos = p.Next
				sp.Close()
				if errors.Is(err, io.EOF) {
					break
				}
				if err != nil {
					t.Fatal(err)
				}
			}
			if !slices.Equal(got, want) {
				t.Fatalf("round %d, pieces of %d, one at a time:\n%q\nwanted\n%q", round, size, got, want)
			}
		}
	}
}

func TestAddresses(t *testing.T) {
	dir := t.TempDir()
	for _, n := range []string{"b.json", "a.json", ".hidden.json", "c.csv"} {
		if err := os.WriteFile(filepath.Join(dir, n), []byte("{}\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Mkdir(filepath.Join(dir, "sub"), 0o755); err != nil {
		t.Fatal(err)
	}
	for address, want := range map[string]string{
		dir: "a.json b.json c.csv", filepath.Join(dir, "*.json"): "a.json b.json", filepath.Join(dir, "b.json"): "b.json",
		filepath.Join(dir, "nothing"): "there is no file or directory", filepath.Join(dir, "*.xml"): "no file matches", filepath.Join(dir, "sub"): "has no files", filepath.Join(dir, "[*"): "cannot be read",
	} {
		names, err := roots.List(address)
		got := ""
		for _, n := range names {
			got += " " + filepath.Base(n)
		}
		if err != nil {
			got = " " + err.Error()
		}
		if got = got[1:]; got != want && (err == nil || !strings.Contains(got, want)) {
			t.Errorf("%s: %s, wanted %s", address, got, want)
		}
	}
	if src, err := Open(scanOf(filepath.Join(dir, "a.json"), "json"), 10, 0, nil); err != nil {
		t.Fatal(err)
	} else if err := src.Splits()[0].Resume(99); err == nil || !strings.Contains(err.Error(), "had been read up to 99") {
		t.Errorf("a file that has become shorter: %v", err)
	}
}

// sinkOf opens a sink over a directory.
func sinkOf(t *testing.T, dir, roll string) *Sink {
	t.Helper()
	o := plan.Options{}
	if roll != "" {
		d := int64(1)
		o["roll every"] = sql.Option{Name: "roll every", Duration: &d}
	}
	s, err := OpenSink(disk.OS{}, &plan.Op{Kind: plan.Output, Fields: []types.Field{{Name: "v", Type: types.Of(types.Varchar)}}, Sink: &plan.Sink{Name: "k", Place: "files", Address: dir, Options: o}}, nil, "test")
	if err != nil {
		t.Fatal(err)
	}
	_ = s.lock.Close() // a crash of the process would do that
	s.lock = io.NopCloser(nil)
	return s
}

func put(t *testing.T, s *Sink, text string) {
	t.Helper()
	if err := s.Write(flow.Payload{Rows: 1, Bytes: []byte(text + "\n")}); err != nil {
		t.Fatal(err)
	}
}

// tree gives the files of a directory with their texts.
func tree(t *testing.T, dir string) string {
	t.Helper()
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, e := range entries {
		if e.Name() == ownerFile {
			continue
		}
		b, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, e.Name()+"="+strings.ReplaceAll(strings.TrimSpace(string(b)), "\n", ","))
	}
	return strings.Join(out, " ")
}

// TestSinkParts: parts appear whole, at the roll and at the end, once a checkpoint counts that has them; what a
// crash leaves open is cut to the checkpoint and written on.
func TestSinkParts(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "new", "out")
	want := func(s string) {
		t.Helper()
		if got := tree(t, dir); got != s {
			t.Fatalf("%s, wanted %s", got, s)
		}
	}
	check := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	mark := func(s *Sink, final bool) []byte {
		t.Helper()
		h, err := s.Mark(final)
		check(err)
		return h
	}
	sum := func(s string) string {
		return fmt.Sprintf("%08x", crc32.Checksum([]byte(s), crc32.MakeTable(crc32.Castagnoli)))
	}
	s := sinkOf(t, dir, "")
	check(s.Resume(nil))
	put(t, s, "a")
	put(t, s, "b")
	want(".part-000001.json=a,b")
	first := mark(s, false) // a checkpoint relies on a and b
	put(t, s, "c")
	check(s.Close(false)) // and then the process is killed
	want(".part-000001.json=a,b,c")
	s = sinkOf(t, dir, "")
	check(s.Resume(first))
	want(".part-000001.json=a,b")
	put(t, s, "d")
	check(s.Close(false))
	s = sinkOf(t, dir, "rolls")
	check(s.Resume(first))
	put(t, s, "e")
	second := mark(s, false) // the part is closed, and waits for the checkpoint to count
	want(".part-000001.json=a,b,e")
	put(t, s, "f")
	check(s.Commit(second))
	told := `manifest={"part":"part-000001.json","rows":3,"bytes":6,"crc32c":"` + sum("a\nb\ne\n") + `"} `
	want(".part-000002.json=f " + told + "part-000001.json=a,b,e")
	check(s.Close(false))
	s = sinkOf(t, dir, "rolls")
	check(s.Resume(second)) // no checkpoint has f
	check(s.Commit(second)) // it may be told twice
	want(told + "part-000001.json=a,b,e")
	put(t, s, "f")
	last := mark(s, true)
	check(s.Commit(last))
	check(s.Close(true))
	told = strings.TrimSpace(told) + `,{"part":"part-000002.json","rows":1,"bytes":2,"crc32c":"` + sum("f\n") + `"} `
	want(told + "part-000001.json=a,b,e part-000002.json=f")

	s = sinkOf(t, dir, "") // a run without checkpoints that is stopped leaves nothing behind
	put(t, s, "g")
	check(s.Close(false))
	s = sinkOf(t, dir, "")
	put(t, s, "h")
	check(s.Close(true))
	check(os.WriteFile(filepath.Join(dir, "notes.txt"), nil, 0o644)) // what others put there is left alone
	s = sinkOf(t, dir, "")
	check(s.Resume(nil))
	want(told + "notes.txt= part-000001.json=a,b,e part-000002.json=f part-000003.json=h")
	s = sinkOf(t, dir, "")
	if err := s.Resume(first); err == nil {
		t.Error("an open part that is gone is not missed")
	}
}

// TestPackedOnce: a packed file is unpacked once, though its pieces are cut at the ends of lines.
func TestPackedOnce(t *testing.T) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	for i := range 100_000 {
		fmt.Fprintf(z, "{\"n\":%d}\n", i)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	opened := 0
	p := &packed{file: bytes.NewReader(b.Bytes()), open: func(in io.Reader) (io.Reader, func(), error) {
		opened++
		z, err := gzip.NewReader(in)
		return z, func() {}, err
	}}
	s := &split{name: "x", in: p, format: "json", piece: 4000}
	lines := 0
	for {
		var piece flow.Piece
		err := s.read(&piece)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		if want := fmt.Sprintf("{\"n\":%d}\n", lines); !bytes.HasPrefix(piece.Data, []byte(want)) {
			t.Fatalf("%q, wanted %q", piece.Data[:20], want)
		}
		lines += bytes.Count(piece.Data, []byte{'\n'})
	}
	if lines != 100_000 || opened != 1 {
		t.Errorf("%d lines, unpacked %d times", lines, opened)
	}
}

// TestReadAndNotEnded: a checkpoint that is taken when an object was read, and before its split has ended, says that nothing of it is left.
func TestReadAndNotEnded(t *testing.T) {
	name := filepath.Join(t.TempDir(), "x.json")
	if err := os.WriteFile(name, []byte("{\"n\":1}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	at, err := store.Of(nil, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	begin := func() *series {
		r := &reading{store: at, stream: scanOf(name, "json").Stream, used: &plan.Use{All: true}, format: "json", piece: 1000}
		f := &folder{reading: r}
		s := newSeries(r, name, &single{f: f, file: store.File{Name: name}}, f.key)
		t.Cleanup(func() { _ = s.Close() })
		return s
	}
	next := func(s *series) (rows int, err error) {
		for {
			var p flow.Piece
			if err = s.Next(&p); !errors.Is(err, flow.ErrNothing) {
				return len(p.Data), err
			}
		}
	}
	s := begin()
	if n, err := next(s); n == 0 || err != nil {
		t.Fatal(n, err)
	}
	for { // it has been read to its end, and nobody has been told
		s.mu.Lock()
		over := s.over
		s.mu.Unlock()
		if over {
			break
		}
	}
	pos := s.Position()
	again := begin()
	if err := again.ResumeAt(s.Mark(pos), pos); err != nil {
		t.Fatal(err)
	}
	if n, err := next(again); err != io.EOF {
		t.Errorf("%d bytes come again, %v", n, err)
	}
}
