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
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

func rowsOf(t *testing.T, src string) ([]string, error) {
	t.Helper()
	out, _, err := kit.Rows(t, src, contract.Env{Piece: 4096}, 2)
	return out, err
}

func packedWith(t *testing.T, how string, b []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	switch how {
	case "gzip":
		z := gzip.NewWriter(&out)
		if _, err := z.Write(b); err != nil {
			t.Fatal(err)
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
	case "zstd":
		z, err := zstd.NewWriter(&out)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := z.Write(b); err != nil {
			t.Fatal(err)
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
	default:
		out.Write(b)
	}
	return out.Bytes()
}

// TestPackedSources: a packed file gives the rows of what is in it, in every format, with header and quotes, and one that is cut off or hides another form says so.
func TestPackedSources(t *testing.T) {
	var lines, csv bytes.Buffer
	csv.WriteString("n,says\n")
	for i := range 5000 {
		fmt.Fprintf(&lines, "{\"n\":%d,\"says\":\"row %d\"}\n", i, i)
		fmt.Fprintf(&csv, "%d,\"row\n%d\"\n", i, i)
	}
	for _, how := range []string{"none", "gzip", "zstd"} {
		dir := t.TempDir()
		for name, b := range map[string][]byte{"a.json": lines.Bytes(), "b.csv": csv.Bytes()} {
			if err := os.WriteFile(filepath.Join(dir, name), packedWith(t, how, b), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		got, err := rowsOf(t, "DECLARE STREAM s (n BIGINT, says VARCHAR) FROM FILES '"+dir+"/a.json'; SELECT n, says FROM s;")
		if err != nil || len(got) != 5000 || !slices.Contains(got, `{"n":4999,"says":"row 4999"}`) {
			t.Errorf("%s: %d rows, %v", how, len(got), err)
		}
		got, err = rowsOf(t, "DECLARE STREAM s (says VARCHAR, n BIGINT) FROM FILES '"+dir+"/b.csv' (FORMAT csv); SELECT n, says FROM s;")
		if err != nil || len(got) != 5000 || !slices.Contains(got, `{"n":4999,"says":"row\n4999"}`) {
			t.Errorf("%s, CSV: %d rows, %v", how, len(got), err)
		}
		if how == "none" {
			continue
		}
		whole := packedWith(t, how, lines.Bytes())
		if err := os.WriteFile(filepath.Join(dir, "cut.json"), whole[:len(whole)*2/3], 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := rowsOf(t, "DECLARE STREAM s (n BIGINT) FROM FILES '"+dir+"/cut.json'; SELECT n FROM s;"); err == nil || !strings.Contains(err.Error(), "what is packed cannot be read") || !strings.Contains(err.Error(), "cut.json") {
			t.Errorf("%s, cut off: %v", how, err)
		}
		if err := os.WriteFile(filepath.Join(dir, "inner"), packedWith(t, how, []byte("PAR1...")), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := rowsOf(t, "DECLARE STREAM s (n BIGINT) FROM FILES '"+dir+"/inner'; SELECT n FROM s;"); err == nil || !strings.Contains(err.Error(), "the file is Parquet") {
			t.Errorf("%s, Parquet in it: %v", how, err)
		}
	}
}

// TestPackedSinks: a job that is killed over and over reads a packed file to its end and writes packed parts, which any unpacker reads; each row is there
// once.
func TestPackedSinks(t *testing.T) {
	for _, how := range []string{"gzip", "zstd"} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			log, err := topiclog.Open(filepath.Join(dir, "topics"))
			if err != nil {
				t.Fatal(err)
			}
			defer log.Close()
			topic, err := log.Create("in", topiclog.Settings{Partitions: 2})
			if err != nil {
				t.Fatal(err)
			}
			r := rand.New(rand.NewPCG(3, 3))
			job := kit.New(t, "DECLARE STREAM s (n BIGINT) FROM TOPIC 'in'; DECLARE SINK out TO FILES '"+dir+"/out' (FORMAT csv, COMPRESS "+how+", ROLL EVERY 200 MILLISECONDS); CREATE JOB j AS SELECT n FROM s ROUTE TO out;", contract.Env{Topics: log})
			n := 0
			for range 8 {
				job.Start(t)
				for range 4 {
					var recs []topiclog.Record
					for range 500 {
						recs = append(recs, topiclog.Record{Key: fmt.Append(nil, n), Value: fmt.Appendf(nil, `{"n":%d}`, n)})
						n++
					}
					if err := topic.Append(recs); err != nil {
						t.Fatal(err)
					}
					time.Sleep(time.Duration(r.IntN(90)) * time.Millisecond)
				}
				if err := job.Kill(); err != nil {
					t.Fatal(err)
				}
			}
			job.Start(t)
			job.Until(t, "all is read", func() bool {
				st, ok := job.Status()
				sum := int64(0)
				for _, s := range st.Splits {
					sum += s.Next
				}
				return ok && sum >= int64(n)
			})
			if err := job.Stop(); err != nil {
				t.Fatal(err)
			}
			parts, err := filepath.Glob(filepath.Join(dir, "out", "part-*.csv."+map[string]string{"gzip": "gz", "zstd": "zst"}[how]))
			if err != nil || len(parts) < 2 {
				t.Fatalf("%d parts, %v", len(parts), err)
			}
			got, err := rowsOf(t, "DECLARE STREAM s (n BIGINT) FROM FILES '"+dir+"/out/part-*' (FORMAT csv); SELECT n FROM s;")
			if err != nil {
				t.Fatal(err)
			}
			seen := map[int]bool{}
			for _, row := range got {
				var x struct{ N int }
				if err := json.Unmarshal([]byte(row), &x); err != nil {
					t.Fatal(err)
				}
				if seen[x.N] {
					t.Errorf("%d is there twice", x.N)
				}
				seen[x.N] = true
			}
			if len(seen) != n {
				t.Errorf("%d of %d rows", len(seen), n)
			}
		})
	}
}
