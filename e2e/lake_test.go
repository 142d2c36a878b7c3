package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/api"
	"fiume/internal/connect/lake"

	"github.com/apache/arrow-go/v18/arrow/array"
)

// TestLake: an open table with a key takes changes, 5,000 a second or as many as the machine does, while the service is killed over and over, and files are put
// together; a table without a catalogue takes each change. Packages of others read from them what was written last, and all. ROWS and KILLS make it larger.
func TestLake(t *testing.T) {
	t.Parallel()
	rows, kills := number("ROWS", 20_000), number("KILLS", 4)
	dir, pond, ledger := t.TempDir(), t.TempDir(), t.TempDir()
	p := serve(t, dir)
	r, err := p.Apply(t.Context(), api.ScriptRequest{SQL: `CREATE TOPIC changes (PARTITIONS 2);
		DECLARE ENDPOINT pond LAKE '` + pond + `';
		DECLARE STREAM changes (k VARCHAR, v BIGINT, says VARCHAR) FROM TOPIC 'changes';
		DECLARE SINK kept TO LAKE 'race.kept' VIA pond (KEY (k), COMPACT EVERY 5 SECONDS);
		DECLARE ENDPOINT ledger LAKE '` + ledger + `' (FORMAT delta);
		DECLARE SINK told TO LAKE 'race.told' VIA ledger (PARTITION BY (part));
		CREATE JOB keep WITH c AS (SELECT k, v, says, v % 3 AS part FROM changes), kept_rows AS (SELECT k, v, says FROM c)
		ROUTE kept_rows TO kept ROUTE c TO told SET (CHECKPOINT EVERY 500 MILLISECONDS);`})
	if err != nil || r.Problem != nil {
		t.Fatal(err, r.Problem)
	}
	want := map[string]int{}
	chance, n := rand.New(rand.NewPCG(7, 8)), 0
	write := func(many int, key func() string) {
		var ms []api.MessageRequest
		for range many {
			k := key()
			n++
			want[k] = n
			ms = append(ms, api.MessageRequest{Key: &k, Value: fmt.Sprintf(`{"k":"%s","v":%d,"says":"%s"}`, k, n, strings.Repeat("è", n%4))})
		}
		batch := fmt.Sprint("batch ", n)
		eventually(t, "they are written", func() bool { return p.WriteBatch(t.Context(), "changes", batch, ms) == nil })
	}
	next := 0
	for next < rows {
		write(min(5000, rows-next), func() string { next++; return fmt.Sprint("K", next) })
	}
	for range kills {
		for end := time.Now().Add(time.Duration(500+chance.IntN(3000)) * time.Millisecond); time.Now().Before(end); {
			begun := time.Now()
			write(500, func() string { return fmt.Sprint("K", 1+chance.IntN(rows+rows/50)) })
			time.Sleep(max(0, 100*time.Millisecond-time.Since(begun)))
		}
		p.kill()
		p = serve(t, dir)
	}
	eventually(t, "all is read", func() bool {
		j, err := p.Job(t.Context(), "keep")
		if err != nil {
			return false
		}
		var at int64
		for _, s := range j.Status.Splits {
			at += s.Next
		}
		return at >= int64(n)
	})
	p.fiume("", "job", "stop", "keep").want(t, 0)
	got := map[string]int{}
	saw := func(k string, v int, says string) {
		if got[k] != 0 {
			t.Errorf("%s is there twice, with %d and %d", k, got[k], v)
		}
		if got[k] = v; says != strings.Repeat("è", v%4) {
			t.Errorf("%s: %q", k, says)
		}
	}
	if rows > 50_000 { // which the package does not hold, that compares each row with each that is taken away
		readLake(t, pond, saw)
	} else {
		readLakeElsewhere(t, pond, saw)
	}
	wrong := 0
	for k, v := range want {
		if got[k] != v {
			if wrong++; wrong < 10 {
				t.Errorf("%s is %d, wanted %d", k, got[k], v)
			}
		}
	}
	if len(got) != len(want) || wrong > 0 {
		t.Errorf("%d rows, wanted %d; %d are others", len(got), len(want), wrong)
	}
	seen := make([]bool, n+1)
	elsewhere(t, "read-ledger.mjs", filepath.Join(ledger, "race", "told"), func(line []byte) {
		var r struct {
			K, Says, Part string
			V             int
		}
		if err := json.Unmarshal(line, &r); err != nil {
			t.Fatal(err)
		}
		if r.V < 1 || r.V > n || seen[r.V] || r.Says != strings.Repeat("è", r.V%4) || r.Part != fmt.Sprint(r.V%3) {
			t.Fatalf("the table without a catalogue has %s", line)
		}
		seen[r.V] = true
	})
	if i := slices.Index(seen[1:], false); i >= 0 {
		t.Errorf("the table without a catalogue has no change %d of %d", i+1, n)
	}
	t.Logf("%d changes", n)
	p.fiume("", "activity", "--limit", "100").want(t, 0, "job keep", "tended", "table race.kept via pond", "files were put together in")
	p.fiume("", "rows", "kept", "--limit", "3").want(t, 0, "k  ", "(3 rows)", "there are more rows")
	if lines := strings.Count(p.fiume("", "rows", "told", "-o", "json", "--limit", "10000").want(t, 0, `"part":2`).out, "\n"); lines != 10_000 {
		t.Errorf("%d rows of the table without a catalogue", lines)
	}
	p.fiume("", "look", "--via", "ledger").want(t, 0, "race.told")
	p.fiume("", "look", "--via", "ledger", "race.told").want(t, 0, "lies at", ledger+"/race/told", "Delta, for readers of protocol 1", "part=2", "partitioned by  part", "write")
	p.fiume("", "connections", "ledger", "told").want(t, 0, "what the tables lie below can be looked at", "1 table(s)", "the table is there")
	p.fiume("", "connections", "pond", "kept").want(t, 0, "the catalogue answers", "1 table(s)", "the table is there")
	p.fiume("", "look", "--via", "pond").want(t, 0, "race.kept")
	p.fiume("", "look", "--via", "pond", "race.kept").want(t, 0, "lies at", pond+"/race/kept", "Iceberg, version 2", "k       VARCHAR  key", "overwrite", "append")
	p.fiume("", "look", "--via", "pond", "race.kepd").want(t, 1, "did you mean \"race.kept\"")
	p.fiume("", "look", "--via", "pont").want(t, 4, `no endpoint is called "pont"`)
	p.fiume("", "propose", "--table", "race.kept", "--via", "pond").want(t, 0, "FROM LAKE 'race.kept' VIA pond", "PRIMARY KEY", "BIGINT")
}

// readLakeElsewhere reads the table with a package of others.
func readLakeElsewhere(t *testing.T, pond string, saw func(k string, v int, says string)) {
	t.Helper()
	elsewhere(t, "read-lake.mjs", filepath.Join(pond, "race", "kept"), func(line []byte) {
		var r struct {
			K, Says string
			V       int
		}
		if err := json.Unmarshal(line, &r); err != nil {
			t.Fatal(err)
		}
		saw(r.K, r.V, r.Says)
	})
}

// elsewhere has a program read a table, and hands out its rows as JSON.
func elsewhere(t *testing.T, program, table string, each func(line []byte)) {
	t.Helper()
	modules, err := filepath.Abs("../console/node_modules")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, "node", filepath.Join("testdata", program), table, modules)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err, errs.String())
	}
	for lines := bufio.NewScanner(bytes.NewReader(out)); lines.Scan(); {
		each(lines.Bytes())
	}
}

// readLake reads the table with the library that wrote it.
func readLake(t *testing.T, pond string, saw func(k string, v int, says string)) {
	t.Helper()
	cat, done, err := lake.Directory(pond)
	if err != nil {
		t.Fatal(err)
	}
	defer done()
	table, err := cat.LoadTable(t.Context(), []string{"race", "kept"})
	if err != nil {
		t.Fatal(err)
	}
	_, recs, err := table.Scan().ToArrowRecords(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for rec, err := range recs {
		if err != nil {
			t.Fatal(err)
		}
		for i := range int(rec.NumRows()) {
			saw(rec.Column(0).(*array.String).Value(i), int(rec.Column(1).(*array.Int64).Value(i)), rec.Column(2).(*array.String).Value(i))
		}
	}
}
