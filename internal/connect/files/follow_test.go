package files_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/trial/kit"
)

// followed starts a job that copies rows n from a place to a topic, and gives the job, and what has come out.
func followed(t *testing.T, from string, env contract.Env, before ...string) (*kit.Job, func() []int) {
	t.Helper()
	out := t.TempDir()
	job := kit.New(t, strings.Join(before, "")+"DECLARE STREAM s (n BIGINT) FROM FILES "+from+"; DECLARE SINK kept TO FILES '"+out+"' (ROLL EVERY 1 SECOND); CREATE JOB j AS SELECT n FROM s ROUTE TO kept;", env)
	job.Env.Piece = 4096
	return job, func() (ns []int) {
		names, _ := filepath.Glob(out + "/part-*")
		for _, n := range names {
			b, err := os.ReadFile(n)
			if err != nil {
				t.Fatal(err)
			}
			for line := range bytes.Lines(b) {
				var row struct{ N int }
				if err := json.Unmarshal(line, &row); err != nil {
					t.Fatalf("%s: %q", n, line)
				}
				ns = append(ns, row.N)
			}
		}
		return ns
	}
}

// lives has a job killed over and over while do runs.
func lives(t *testing.T, job *kit.Job, rnd *rand.Rand, kills int, do func()) {
	t.Helper()
	chance := rand.New(rand.NewPCG(rnd.Uint64(), 1)) // the other is used by do
	done := make(chan struct{})
	go func() { defer close(done); do() }()
	for i := 0; ; i++ {
		job.Start(t)
		select {
		case <-done:
			if i >= kills {
				return
			}
		case <-time.After(time.Duration(20+chance.IntN(300)) * time.Millisecond):
		}
		if err := job.Kill(); err != nil {
			t.Fatal(err)
		}
	}
}

// once checks that the numbers up to many are there once each.
func once(t *testing.T, got []int, many int) {
	t.Helper()
	slices.Sort(got)
	lost, twice := 0, 0
	for i := range many {
		at, ok := slices.BinarySearch(got, i)
		if !ok {
			if lost++; lost < 5 {
				t.Errorf("%d is lost", i)
			}
		} else if at+1 < len(got) && got[at+1] == i {
			if twice++; twice < 5 {
				t.Errorf("%d is there twice", i)
			}
		}
	}
	if len(got) != many || lost+twice > 0 {
		t.Fatalf("%d rows of %d: %d lost, %d twice", len(got), many, lost, twice)
	}
}

// lines are rows as a file.
func lines(from, to int) []byte {
	var b bytes.Buffer
	for i := from; i < to; i++ {
		fmt.Fprintf(&b, "{\"n\":%d}\n", i)
	}
	return b.Bytes()
}

// TestFollow: files come into a folder while a job reads it and is killed over and over: moved in, written slowly, packed, empty, below directories that come; each
// is read once, whatever becomes of those that were read.
func TestFollow(t *testing.T) {
	for _, how := range []string{"", ", ORDER time", ", DONE 'move %s'", ", DONE delete, ORDER time"} {
		t.Run(strings.Trim(how, ", "), func(t *testing.T) {
			t.Parallel()
			dir, gone := t.TempDir(), t.TempDir()
			if strings.Contains(how, "%s") {
				how = fmt.Sprintf(how, gone)
			}
			job, got := followed(t, "'"+dir+"/**/*.json*' (FOLLOW true, REST 200 MILLISECONDS, LOOK EVERY 50 MILLISECONDS"+how+")", contract.Env{})
			rnd := rand.New(rand.NewPCG(1, uint64(len(how))))
			many := 0
			write := func(name string, b []byte) {
				if err := os.WriteFile(name, b, 0o600); err != nil {
					t.Error(err)
				}
			}
			files := 0
			lives(t, job, rnd, 8, func() {
				for i := range 120 {
					sub := dir
					if i%3 == 0 {
						sub = filepath.Join(dir, fmt.Sprintf("day=%d", i/30))
						if err := os.MkdirAll(sub, 0o700); err != nil {
							t.Error(err)
						}
					}
					name := filepath.Join(sub, fmt.Sprintf("f%04d.json", i))
					rows := rnd.IntN(400)
					b := lines(many, many+rows)
					many += rows
					files++
					switch rnd.IntN(4) {
					case 0: // half of it at first, then the rest
						write(name, b[:len(b)/2])
						time.Sleep(time.Duration(rnd.IntN(60)) * time.Millisecond)
						write(name, b)
					case 1:
						write(name+".gz", packedWith(t, "gzip", b))
					default:
						write(filepath.Join(dir, ".coming"), b)
						if err := os.Rename(filepath.Join(dir, ".coming"), name); err != nil {
							t.Error(err)
						}
					}
					time.Sleep(time.Duration(rnd.IntN(30)) * time.Millisecond)
				}
			})
			left := func() int {
				n := 0
				_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
					if err == nil && !d.IsDir() {
						n++
					}
					return nil
				})
				return n
			}
			job.Until(t, "all rows have come, and all files are put away", func() bool {
				return len(got()) >= many && (!strings.Contains(how, "DONE") || left() == 0)
			})
			if err := job.Stop(); err != nil {
				t.Fatal(err)
			}
			once(t, got(), many)
			if strings.Contains(how, "move") {
				moved := 0
				_ = filepath.WalkDir(gone, func(path string, d os.DirEntry, err error) error {
					if err == nil && !d.IsDir() {
						moved++
					}
					return nil
				})
				if moved != files {
					t.Errorf("%d files of %d were moved", moved, files)
				}
			}
		})
	}
}

// TestFollowLines: files grow, are rotated by name, cut short, and come anew, while the job that reads them is killed over and over.
func TestFollowLines(t *testing.T) {
	dir := t.TempDir()
	job, got := followed(t, "'"+dir+"/*.log' (FOLLOW lines, REST 300 MILLISECONDS, LOOK EVERY 50 MILLISECONDS)", contract.Env{})
	rnd := rand.New(rand.NewPCG(2, 3))
	many := 0
	lives(t, job, rnd, 10, func() {
		open := map[string]*os.File{}
		rotated := map[string]int{}
		for range 400 {
			name := filepath.Join(dir, fmt.Sprintf("host%d.log", rnd.IntN(3)))
			f := open[name]
			if f == nil {
				var err error
				if f, err = os.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600); err != nil {
					t.Error(err)
					return
				}
				open[name] = f
			}
			rows := rnd.IntN(60)
			b := lines(many, many+rows)
			many += rows
			if cut := rnd.IntN(len(b) + 1); rnd.IntN(2) == 0 { // a line in two writes
				_, _ = f.Write(b[:cut])
				time.Sleep(time.Millisecond)
				b = b[cut:]
			}
			if _, err := f.Write(b); err != nil {
				t.Error(err)
			}
			if rnd.IntN(12) == 0 {
				rotated[name]++
				if err := os.Rename(name, fmt.Sprintf("%s.%d", name, rotated[name])); err != nil {
					t.Error(err)
				}
				if rnd.IntN(2) == 0 { // it goes on with the former edition for a moment
					b := lines(many, many+3)
					many += 3
					if _, err := f.Write(b); err != nil {
						t.Error(err)
					}
				}
				f.Close()
				delete(open, name)
			}
			time.Sleep(time.Duration(rnd.IntN(12)) * time.Millisecond)
		}
		for _, f := range open {
			f.Close()
		}
	})
	job.Until(t, "all rows have come", func() bool { return len(got()) >= many })
	// A file that is cut short begins anew.
	name := filepath.Join(dir, "short.log")
	if err := os.WriteFile(name, lines(many, many+500), 0o600); err != nil {
		t.Fatal(err)
	}
	many += 500
	job.Until(t, "all rows have come", func() bool { return len(got()) >= many })
	if err := os.WriteFile(name, lines(many, many+10), 0o600); err != nil {
		t.Fatal(err)
	}
	many += 10
	job.Until(t, "what was written anew has come", func() bool { return len(got()) >= many })
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	once(t, got(), many)
}

// BenchmarkManyFiles reads a folder with many small files, in order.
func BenchmarkManyFiles(b *testing.B) {
	dir := b.TempDir()
	const many = 20_000
	for i := range many {
		if err := os.WriteFile(fmt.Sprintf("%s/f%06d.json", dir, i), lines(i*5, i*5+5), 0o600); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		job := kit.New(b, "DECLARE STREAM s (n BIGINT) FROM FILES '"+dir+"' (FOLLOW true, REST 10 MILLISECONDS); DECLARE SINK kept TO FILES '"+b.TempDir()+"'; CREATE JOB j AS SELECT n FROM s ROUTE TO kept;", contract.Env{})
		job.Every = time.Second
		job.Start(b)
		job.Until(b, "all rows are read", func() bool {
			st, ok := job.Status()
			return ok && len(st.Steps) > 0 && st.Steps[0].Counts.In == many*5
		})
		if err := job.Stop(); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.N)*many/b.Elapsed().Seconds(), "files/s")
}

// TestFollowBehind: of very many files those at the end of the order are known one by one, and the others by a low mark, also in a new process: none is read twice, and one that comes before
// the mark is said, counted, and not read.
func TestFollowBehind(t *testing.T) {
	dir := t.TempDir()
	job, got := followed(t, "'"+dir+"' (FOLLOW true, REST 10 MILLISECONDS, LOOK EVERY 50 MILLISECONDS)", contract.Env{})
	job.Env.Piece = 256 // many pieces, so that files are forgotten
	const many = 16_000
	for i := range many {
		if err := os.WriteFile(fmt.Sprintf("%s/f%06d.json", dir, i), lines(i, i+1), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	come := func(name string, n int) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), lines(n, n+1), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	lost := func() int64 {
		st, ok := job.Status()
		if !ok || len(st.Steps) == 0 {
			return -1
		}
		return st.Steps[0].Counts.Lost
	}
	job.Start(t)
	job.Until(t, "all files are read", func() bool { return len(got()) == many })
	come("e.json", -1)      // before all of them, and before the mark
	come("f999.json", many) // behind all of them
	job.Until(t, "the file before the mark is counted", func() bool { return lost() == 1 && len(got()) == many+1 })
	st, _ := job.Status()
	if n := st.Splits[0].Notice; !strings.Contains(n, "e.json has come behind the files that are remembered") {
		t.Errorf("%q", n)
	}
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	come("e2.json", -2)
	job.Start(t)
	come("g.json", many+1)
	job.Until(t, "what came meanwhile is counted, and the rest read", func() bool { return lost() == 2 && len(got()) == many+2 })
	if err := job.Stop(); err != nil {
		t.Fatal(err)
	}
	once(t, got(), many+2)
}
