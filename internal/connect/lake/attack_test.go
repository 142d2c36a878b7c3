package lake_test

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/lake"
	"fiume/internal/connect/lake/standin"
	"fiume/internal/connect/roots"
	"fiume/internal/core/flow"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

// TestHangs: a catalogue that takes requests and answers none is named, and does not hold a job for good; when it wakes, each row is there once.
func TestHangs(t *testing.T) {
	t.Parallel()
	cat, done, err := lake.Directory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer done()
	service := standin.New(cat, "")
	var hangs atomic.Bool
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if hangs.Load() {
			<-r.Context().Done()
			return
		}
		service.ServeHTTP(w, r)
	}))
	defer front.Close()
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	in, err := log.Create("in", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	pond := "DECLARE ENDPOINT pond LAKE '" + front.URL + "';\n"
	env := contract.Env{Topics: log}
	j := kit.New(t, pond+"DECLARE STREAM s (n BIGINT) FROM TOPIC 'in'; DECLARE SINK kept TO LAKE 'race.kept' VIA pond; CREATE JOB j AS SELECT n FROM s ROUTE TO kept;", env)
	j.Start(t)
	j.Until(t, "it runs", func() bool { _, ok := j.Status(); return ok })
	hangs.Store(true)
	var want []string
	for n := range 100 {
		want = append(want, fmt.Sprintf(`{"n":%d}`, n))
		if err := in.Append([]topiclog.Record{{Value: []byte(want[n])}}); err != nil {
			t.Fatal(err)
		}
	}
	j.Until(t, "it is said that no answer comes", func() bool {
		st, _ := j.Status()
		return slices.ContainsFunc(st.Steps, func(s flow.Step) bool {
			return s.Waiting != nil && strings.Contains(s.Waiting.Reason, "no answer came in time")
		})
	})
	hangs.Store(false)
	slices.Sort(want)
	j.Until(t, "the rows are there", func() bool {
		return slices.Equal(rowsOf(t, pond+"DECLARE STREAM k (n BIGINT) FROM LAKE 'race.kept' VIA pond; SELECT n FROM k SINCE BEGINNING UNTIL NOW;", env), want)
	})
	if err := j.Stop(); err != nil {
		t.Fatal(err)
	}
}

// TestDamaged: files of a table that are damaged, cut short or gone, and metadata that points out of the directories for files, are errors that name the endpoint or
// the file; none ends the process, and none gives rows that were not written.
func TestDamaged(t *testing.T) {
	t.Parallel()
	for name, do := range map[string]func(t *testing.T, dir string){
		"metadata":     func(t *testing.T, dir string) { each(t, dir, "*.metadata.json", overwrite("{")) },
		"cut metadata": func(t *testing.T, dir string) { each(t, dir, "*.metadata.json", cut) },
		"list":         func(t *testing.T, dir string) { each(t, dir, "snap-*.avro", overwrite("Obj\x01\x00\xff\xff\xff")) },
		"cut manifest": func(t *testing.T, dir string) { each(t, dir, "*-m*.avro", cut) },
		"rows":         func(t *testing.T, dir string) { each(t, dir, "*.parquet", flip) },
		"cut rows":     func(t *testing.T, dir string) { each(t, dir, "*.parquet", cut) },
		"points out": func(t *testing.T, dir string) {
			each(t, dir, "*.metadata.json", func(path string) error {
				b, err := os.ReadFile(path)
				if err == nil {
					err = os.WriteFile(path, bytes.ReplaceAll(b, []byte(dir+"/race/kept/metadata/snap-"), []byte("/etc/snap-")), 0o600)
				}
				return err
			})
		},
		"rows are gone": func(t *testing.T, dir string) { each(t, dir, "*.parquet", os.Remove) },

		"ledger":                    func(t *testing.T, dir string) { each(t, dir, "0*0.json", overwrite("{")) },
		"cut ledger":                func(t *testing.T, dir string) { each(t, dir, "0*1.json", cut) },
		"ledger of nothing":         func(t *testing.T, dir string) { each(t, dir, "0*0.json", overwrite("")) },
		"ledger whose rows":         func(t *testing.T, dir string) { each(t, dir, "*.parquet", flip) },
		"ledger whose rows are cut": func(t *testing.T, dir string) { each(t, dir, "*.parquet", cut) },
		"ledger points out": func(t *testing.T, dir string) {
			each(t, dir, "0*1.json", func(path string) error {
				b, err := os.ReadFile(path)
				if err == nil {
					err = os.WriteFile(path, bytes.ReplaceAll(b, []byte(`"path":"`), []byte(`"path":"../../../../../../../../etc/`)), 0o600)
				}
				return err
			})
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			log, err := topiclog.Open(t.TempDir())
			if err != nil {
				t.Fatal(err)
			}
			defer log.Close()
			in, err := log.Create("in", topiclog.Settings{Partitions: 1})
			if err != nil {
				t.Fatal(err)
			}
			for n := range 500 {
				if err := in.Append([]topiclog.Record{{Value: fmt.Appendf(nil, `{"n":%d,"says":"row %d"}`, n, n)}}); err != nil {
					t.Fatal(err)
				}
			}
			how := ""
			if strings.Contains(name, "ledger") {
				how = " (FORMAT delta)"
			}
			pond := "DECLARE ENDPOINT pond LAKE '" + dir + "'" + how + ";\n"
			within, err := roots.New(dir)
			if err != nil {
				t.Fatal(err)
			}
			env := contract.Env{Topics: log, Roots: within}
			j := kit.New(t, pond+"DECLARE STREAM s (n BIGINT, says VARCHAR) FROM TOPIC 'in'; DECLARE SINK kept TO LAKE 'race.kept' VIA pond; CREATE JOB j AS SELECT n, says FROM s ROUTE TO kept;", env)
			j.Start(t)
			query := pond + "DECLARE STREAM k (n BIGINT, says VARCHAR) FROM LAKE 'race.kept' VIA pond; SELECT n, says FROM k SINCE BEGINNING UNTIL NOW;"
			j.Until(t, "the rows are there", func() bool { got, err := run(query, env); return err == nil && len(got) == 500 })
			if err := j.Stop(); err != nil {
				t.Fatal(err)
			}
			do(t, dir)
			got, err := run(query, env)
			if err == nil && name != "metadata" { // a page may be flipped where nobody reads
				for _, row := range got {
					var n, m int
					if _, err := fmt.Sscanf(row, `{"n":%d,"says":"row %d"}`, &n, &m); err != nil || n != m {
						t.Errorf("it gives %s", row)
					}
				}
			}
			if err == nil && (len(got) == 500 || !strings.HasSuffix(name, "rows")) {
				t.Errorf("it says nothing, and gives %d rows", len(got))
			}
			if strings.HasSuffix(name, "points out") && (err == nil || !strings.Contains(err.Error(), "lies outside of the directories for files")) {
				t.Errorf("it says: %v", err)
			}
		})
	}
}

// each does something to the files of a table whose names fit.
func each(t *testing.T, dir, pattern string, do func(path string) error) {
	t.Helper()
	n := 0
	err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if ok, _ := filepath.Match(pattern, filepath.Base(path)); err == nil && ok {
			n++
			return do(path)
		}
		return err
	})
	if err != nil || n == 0 {
		t.Fatal(n, err)
	}
}

func overwrite(text string) func(path string) error {
	return func(path string) error { return os.WriteFile(path, []byte(text), 0o600) }
}

func cut(path string) error {
	st, err := os.Stat(path)
	if err == nil {
		err = os.Truncate(path, st.Size()/2)
	}
	return err
}

func flip(path string) error {
	b, err := os.ReadFile(path)
	if err == nil {
		for i := 8; i < len(b)/3; i += 13 {
			b[i] ^= 0x5a
		}
		err = os.WriteFile(path, b, 0o600)
	}
	return err
}
