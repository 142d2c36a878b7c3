package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/api"
)

// TestFilesAsTheyCome: files come into a folder while the service that reads them is killed over and over. What it writes, told apart by directories, is read by packages of others,
// which find each row once, where it belongs; what it sends to an object store is read again from there.
func TestFilesAsTheyCome(t *testing.T) {
	t.Parallel()
	store := start(t, "objects", "--listen", "127.0.0.1:0").base
	dir := t.TempDir()
	p := serve(t, dir)
	files := t.TempDir()
	inbox := filepath.Join(files, "inbox")
	if err := os.MkdirAll(inbox, 0o755); err != nil {
		t.Fatal(err)
	}
	r, err := p.Apply(t.Context(), api.ScriptRequest{SQL: `DECLARE ENDPOINT archive FILES '` + store + `';
		DECLARE STREAM come (n BIGINT, mat VARCHAR, says VARCHAR, at TIMESTAMP) EVENT TIME at DELAY 5 SECONDS FROM FILES '` + files + `/inbox/*.csv' (FORMAT csv, FOLLOW true, REST 100 MILLISECONDS, DONE 'move ` + files + `/read');
		DECLARE SINK by_parquet TO FILES '` + files + `/parquet' (FORMAT parquet, COMPRESS zstd, PARTITION BY (mat, at), ROLL EVERY 1 SECOND);
		DECLARE SINK by_avro TO FILES '` + files + `/avro' (FORMAT avro, COMPRESS gzip, PARTITION BY (mat, at), ROLL EVERY 1 SECOND);
		DECLARE SINK far TO FILES 's3://race/reads' VIA archive (FORMAT parquet, ROLL EVERY 1 SECOND);
		CREATE JOB keep WITH rows AS (SELECT n, mat, says, at FROM come) ROUTE rows TO by_parquet ROUTE rows TO by_avro ROUTE rows TO far SET (CHECKPOINT EVERY 200 MILLISECONDS);`})
	if err != nil || r.Problem != nil {
		t.Fatal(err, r.Problem)
	}
	want := map[string]map[string]int{}
	n := 0
	for i := range 40 {
		b := "mat,n,says,at\n"
		for range 50 {
			mat, says := fmt.Sprintf("km-0%d", n%3), strings.Repeat("è", n%5)
			b += fmt.Sprintf("%s,%d,%s,2026-05-%02dT09:00:00Z\n", mat, n, says, 17+n%2)
			d := fmt.Sprintf("mat=%s/day=2026-05-%02d", mat, 17+n%2)
			if want[d] == nil {
				want[d] = map[string]int{"rows": 0, "n": 0, "says": 0}
			}
			want[d]["rows"]++
			want[d]["n"] += n
			want[d]["says"] += n % 5
			n++
		}
		coming := filepath.Join(files, ".coming")
		if err := os.WriteFile(coming, []byte(b), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(coming, filepath.Join(inbox, fmt.Sprintf("r%03d.csv", i))); err != nil {
			t.Fatal(err)
		}
		if i%10 == 9 {
			time.Sleep(300 * time.Millisecond)
			p.kill()
			p = serve(t, dir)
		}
	}
	eventually(t, "all files are put away", func() bool {
		left, _ := os.ReadDir(inbox)
		return len(left) == 0
	})
	p.fiume("", "job", "stop", "keep").want(t, 0)
	for _, k := range []string{"by_parquet", "by_avro", "far"} { // what a sink holds is read again
		rows := strings.Split(strings.TrimSpace(p.fiume("", "rows", k, "-o", "json", "--limit", "10000").want(t, 0).out), "\n")
		slices.Sort(rows)
		if rows = slices.Compact(rows); len(rows) != n {
			t.Errorf("%s holds %d rows of %d: %.300s", k, len(rows), n, rows)
		}
	}
	wanted, err := json.Marshal(want)
	if err != nil {
		t.Fatal(err)
	}
	modules, err := filepath.Abs("../console/node_modules")
	if err != nil {
		t.Fatal(err)
	}
	for _, kind := range []string{"parquet", "avro"} {
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		cmd := exec.CommandContext(ctx, "node", "testdata/read-files.mjs", filepath.Join(files, kind), modules)
		var errs bytes.Buffer
		cmd.Stderr = &errs
		out, err := cmd.Output()
		cancel()
		var got map[string]map[string]int
		if err == nil {
			err = json.Unmarshal(out, &got)
		}
		if again, _ := json.Marshal(got); err != nil || string(again) != string(wanted) {
			t.Errorf("%s: %v\n%s\n%s\nwanted\n%s", kind, err, errs.String(), out, wanted)
		}
	}
	p.fiume("DECLARE STREAM again (n BIGINT) FROM FILES 's3://race/reads/*' VIA archive (FORMAT parquet);", "apply", "-").want(t, 0)
	p.fiume("", "query", "SELECT n FROM again WHERE n = 1999").want(t, 0, "1999")
	p.fiume("", "connections", "archive", "far", "come").want(t, 0, "1 buckets", "none has come yet", "objects can be made below s3://race/reads")
}
