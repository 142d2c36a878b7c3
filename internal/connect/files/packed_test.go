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
	"fiume/internal/core/column"
	"fiume/internal/core/types"
	"fiume/internal/format"
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

// TestPackedSinks: a job that is killed over and over writes packed parts, and those of formats that hold rows by themselves; each row is there once, and
// nothing is left over beside the parts.
func TestPackedSinks(t *testing.T) {
	for _, x := range []struct{ format, pack, ext string }{{"csv", "gzip", "csv.gz"}, {"csv", "zstd", "csv.zst"}, {"avro", "none", "avro"}, {"avro", "gzip", "avro"}, {"parquet", "none", "parquet"}, {"parquet", "zstd", "parquet"}} {
		t.Run(x.format+" "+x.pack, func(t *testing.T) {
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
			job := kit.New(t, "DECLARE STREAM s (n BIGINT) FROM TOPIC 'in'; DECLARE SINK out TO FILES '"+dir+"/out' (FORMAT "+x.format+", COMPRESS "+x.pack+", ROLL EVERY 50 MILLISECONDS); CREATE JOB j AS SELECT n FROM s ROUTE TO out;", contract.Env{Topics: log})
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
			parts, err := filepath.Glob(filepath.Join(dir, "out", "part-*."+x.ext))
			if err != nil || len(parts) == 0 {
				t.Fatalf("no parts, %v", err)
			}
			got, err := rowsOf(t, "DECLARE STREAM s (n BIGINT) FROM FILES '"+dir+"/out/part-*' (FORMAT "+x.format+"); SELECT n FROM s;")
			if err != nil {
				t.Fatal(err)
			}
			if left, err := filepath.Glob(filepath.Join(dir, "out", ".part-*")); err != nil || left != nil {
				t.Errorf("left over: %v %v", left, err)
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
				told, _ := os.ReadFile(filepath.Join(dir, "out", "manifest"))
				missing := []int{}
				for k := range n {
					if !seen[k] && (k == 0 || seen[k-1] || k == n-1 || seen[k+1]) {
						missing = append(missing, k)
					}
				}
				t.Errorf("%d of %d rows are there; missing from, to: %v\n%s%s", len(seen), n, missing, told, strings.Join(job.Said(), "\n"))
			}
		})
	}
}

// TestRowFiles reads files that hold rows by themselves: by patterns, with columns in another order, of other types, or missing; as a table that is written
// anew; and says what is wrong with a file.
func TestRowFiles(t *testing.T) {
	dir := t.TempDir()
	write := func(kind, options, query string) {
		t.Helper()
		job := kit.New(t, "DECLARE STREAM s (n BIGINT, says VARCHAR) FROM FILES '"+dir+"/in.json'; DECLARE SINK out TO FILES '"+dir+"/"+kind+"' (FORMAT "+options+"); CREATE JOB j AS "+query+" ROUTE TO out;", contract.Env{})
		job.Start(t)
		job.Until(t, "all is written", func() bool { _, ended := job.Ended(); return ended })
	}
	var lines bytes.Buffer
	for i := range 20_000 {
		fmt.Fprintf(&lines, "{\"n\":%d,\"says\":\"row %d\"}\n", i, i)
	}
	if err := os.WriteFile(filepath.Join(dir, "in.json"), lines.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, kind := range []string{"avro", "parquet"} {
		write(kind, kind, "SELECT says, n, n % 7 AS seven FROM s")
		got, err := rowsOf(t, "DECLARE STREAM s (seven BIGINT, n DOUBLE, more VARCHAR) FROM FILES '"+dir+"/"+kind+"/part-*' (FORMAT "+kind+"); SELECT n, seven, more FROM s;")
		if err != nil || len(got) != 20_000 || !slices.Contains(got, `{"n":19999.0,"seven":0,"more":null}`) && !slices.Contains(got, `{"n":19999,"seven":0,"more":null}`) {
			t.Errorf("%s: %d rows, %v, %v", kind, len(got), err, got[:min(1, len(got))])
		}
		got, err = rowsOf(t, "DECLARE STREAM s (n BIGINT) FROM FILES '"+dir+"/"+kind+"/part-*' (FORMAT "+kind+"); SELECT COUNT(*) AS k, SUM(n) AS sum FROM s GROUP BY w WINDOW w AS (TUMBLING 1 HOUR);")
		if err != nil || len(got) != 1 || got[0] != `{"k":20000,"sum":199990000}` {
			t.Errorf("%s: %v, %v", kind, got, err)
		}
		part := filepath.Join(dir, kind, "part-000001."+kind)
		b, err := os.ReadFile(part)
		if err != nil {
			t.Fatal(err)
		}
		for what, x := range map[string]struct{ columns, says string }{
			"columns": {"other INT", "has none of the columns of s: it has says, n, seven"},
			"types":   {"n TIMESTAMP", "the column n is TIMESTAMP"},
			"cut":     {"n BIGINT", ""},
			"lines":   {"n BIGINT", "write FORMAT " + kind},
		} {
			file, options := filepath.Join(dir, what+"."+kind), "FORMAT "+kind
			data := b
			if what == "cut" {
				data = b[:len(b)-len(b)/3]
			}
			if what == "lines" {
				options = "FORMAT json"
			}
			if err := os.WriteFile(file, data, 0o600); err != nil {
				t.Fatal(err)
			}
			_, err := rowsOf(t, "DECLARE STREAM s ("+x.columns+") FROM FILES '"+file+"' ("+options+"); SELECT * FROM s;")
			if err == nil || !strings.Contains(err.Error(), x.says) || !strings.Contains(err.Error(), what+"."+kind) {
				t.Errorf("%s, %s: %v", kind, what, err)
			}
		}
	}
}

// TestRowFileAnew: a table in a file that holds rows by itself is read again when another file is put in its place.
func TestRowFileAnew(t *testing.T) {
	for _, kind := range format.RowFormats {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			log, err := topiclog.Open(filepath.Join(dir, "topics"))
			if err != nil {
				t.Fatal(err)
			}
			defer log.Close()
			for _, n := range []string{"in", "out"} {
				if _, err := log.Create(n, topiclog.Settings{Partitions: 1}); err != nil {
					t.Fatal(err)
				}
			}
			fields := []types.Field{{Name: "n", Type: types.Of(types.BigInt)}, {Name: "says", Type: types.Of(types.Varchar)}}
			put := func(round int) {
				t.Helper()
				b := &column.Batch{N: 3000}
				for _, f := range fields {
					v := column.New(f.Type)
					for i := range b.N {
						v.Append(types.Value{Kind: f.Type.Kind, I: int64(i), S: fmt.Sprintf("%d in round %d", i, round)})
					}
					b.Cols = append(b.Cols, v)
				}
				var out bytes.Buffer
				if kind == "avro" {
					w, err := format.NewAvroBlocks(fields, "null")
					if err != nil {
						t.Fatal(err)
					}
					out.Write(w.Header())
					w.Add(b)
					out.Write(w.Take().Bytes)
				} else {
					w, err := format.NewParquetWriter(&out, fields, "zstd")
					if err == nil {
						err = w.Write(b)
					}
					if err == nil {
						err = w.Close()
					}
					if err != nil {
						t.Fatal(err)
					}
				}
				if err := os.WriteFile(filepath.Join(dir, "next"), out.Bytes(), 0o600); err != nil {
					t.Fatal(err)
				}
				if err := os.Rename(filepath.Join(dir, "next"), filepath.Join(dir, "t")); err != nil {
					t.Fatal(err)
				}
			}
			put(0)
			job := kit.New(t, "DECLARE STREAM s (n BIGINT) FROM TOPIC 'in'; DECLARE TABLE t (n BIGINT PRIMARY KEY, says VARCHAR) FROM FILES '"+dir+"/t' (FORMAT "+kind+", REFRESH EVERY 5 MILLISECONDS); "+
				"DECLARE SINK out TO TOPIC 'out'; CREATE JOB j AS SELECT t.says AS says FROM s JOIN t ON s.n = t.n ROUTE TO out;", contract.Env{Topics: log})
			job.Start(t)
			asked := 0
			for round := range 6 {
				put(round)
				want := fmt.Sprintf(`"2999 in round %d"`, round)
				job.Until(t, want+" is joined", func() bool {
					if err := log.Topic("in").Append([]topiclog.Record{{Value: []byte(`{"n":2999}`)}}); err != nil {
						t.Fatal(err)
					}
					asked++
					time.Sleep(5 * time.Millisecond)
					p := log.Topic("out").Partitions()[0]
					b, _, err := p.Read(max(p.First(), p.Next()-1), nil, 1<<20)
					return err == nil && bytes.Contains(b, []byte(want))
				})
			}
			if err := job.Stop(); err != nil {
				t.Fatal(err)
			}
			if n := log.Topic("out").Partitions()[0].Next(); n != int64(asked) {
				t.Errorf("%d rows of %d were joined", n, asked)
			}
		})
	}
}
