package lake_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fiume/internal/connect/contract"
	"fiume/internal/topiclog"
	"fiume/internal/trial/kit"
)

// TestLedgerOfOthers: tables of the format Delta that another library has written, with a checkpoint, partitions of texts and times, and rows that were taken away.
func TestLedgerOfOthers(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS("testdata/ledger")); err != nil {
		t.Fatal(err)
	}
	pond := "DECLARE ENDPOINT pond LAKE '" + dir + "' (FORMAT delta);\n"
	var want []string
	for n := range 25 {
		mat := fmt.Sprintf(`"km %d / é"`, n%2)
		if n%9 == 0 {
			mat = "null"
		}
		want = append(want, fmt.Sprintf(`{"n":%d,"small":%d,"mat":%s,"at":"2026-05-17T09:00:%02d.000005Z","hour":"2026-05-17T%02d:00:00.000Z","tags":[%s]}`, n, n, mat, n, 9+n%2, strings.Join(slices.Repeat([]string{`"a"`}, n%3), ",")))
	}
	slices.Sort(want)
	reads := pond + `DECLARE STREAM reads (n BIGINT, small INT, mat VARCHAR, at TIMESTAMP, hour TIMESTAMP, tags ARRAY(VARCHAR)) EVENT TIME at DELAY 1 HOUR FROM LAKE 'race.reads' VIA pond;
		DECLARE STREAM fixed (n BIGINT) FROM LAKE 'race.fixed' VIA pond;`
	if got := rowsOf(t, reads+"SELECT n, small, mat, at, hour, tags FROM reads SINCE BEGINNING UNTIL NOW;", contract.Env{}); !slices.Equal(got, want) {
		t.Errorf("it gives\n%s\nwanted\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if got := rowsOf(t, reads+"SELECT n FROM fixed SINCE BEGINNING UNTIL NOW;", contract.Env{}); len(got) != 7 || slices.Contains(got, `{"n":2}`) {
		t.Errorf("without the rows that were taken away it gives %s", got)
	}
	// As it stood before rows were taken away.
	log, err := topiclog.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	ones, err := log.Create("ones", topiclog.Settings{Partitions: 1})
	if err != nil {
		t.Fatal(err)
	}
	if err := ones.Append([]topiclog.Record{{Value: []byte(`{"k":1}`)}, {Value: []byte(`{"k":4}`)}}); err != nil {
		t.Fatal(err)
	}
	env := contract.Env{Topics: log}
	looked := func(how string) ([]string, error) {
		return run(pond+"DECLARE STREAM ones (k BIGINT) FROM TOPIC 'ones'; DECLARE TABLE f (n BIGINT PRIMARY KEY, small INT) FROM LAKE 'race.fixed' VIA pond"+how+
			"; SELECT k, f.small FROM ones SINCE BEGINNING LEFT JOIN f ON f.n = k UNTIL NOW;", env)
	}
	for how, want := range map[string]string{"": `{"k":1,"small":null} {"k":4,"small":4}`, " (SNAPSHOT '2')": `{"k":1,"small":null} {"k":4,"small":4}`, " (SNAPSHOT '1')": `{"k":1,"small":1} {"k":4,"small":4}`} {
		if got, err := looked(how); err != nil || strings.Join(got, " ") != want {
			t.Errorf("%s: %s, wanted %s: %v", how, got, want, err)
		}
	}
	for how, want := range map[string]string{" (SNAPSHOT '9')": "has no snapshot 9 (any more): it has 0 to 2", " (SNAPSHOT 'x')": "'x' is none"} {
		if _, err := looked(how); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", how, err)
		}
	}
	// A stream of rows that are added meets some that are taken away.
	last := filepath.Join(dir, "race", "fixed", "_delta_log", fmt.Sprintf("%020d.json", 2))
	entry, err := os.ReadFile(last)
	if err == nil {
		err = os.Remove(last)
	}
	if err != nil {
		t.Fatal(err)
	}
	j := kit.New(t, pond+"DECLARE STREAM fixed (n BIGINT) FROM LAKE 'race.fixed' VIA pond (LOOK EVERY 20 MILLISECONDS); DECLARE SINK out TO LAKE 'race.copy' VIA pond; CREATE JOB j AS SELECT n FROM fixed ROUTE TO out;", env)
	j.Start(t)
	copied := func() []string {
		got, _ := run(pond+"DECLARE STREAM c (n BIGINT) FROM LAKE 'race.copy' VIA pond; SELECT n FROM c SINCE BEGINNING UNTIL NOW;", env)
		return got
	}
	j.Until(t, "the rows are copied", func() bool { return len(copied()) == 10 })
	// It is no entry before it is whole.
	for part, want := range map[string]string{"": "version 2, is empty: whoever writes it has not ended", string(entry[:len(entry)/2]): "version 2, line"} {
		if err := os.WriteFile(last, []byte(part), 0o600); err != nil {
			t.Fatal(err)
		}
		j.Until(t, "it waits for the rest", func() bool {
			st, ok := j.Status()
			return ok && len(st.Splits) > 0 && st.Splits[0].Waiting != nil && strings.Contains(st.Splits[0].Waiting.Reason, want)
		})
	}
	whole := filepath.Join(dir, "whole")
	err = os.WriteFile(whole, entry, 0o600)
	if err == nil {
		err = os.Rename(whole, last)
	}
	if err != nil {
		t.Fatal(err)
	}
	j.Until(t, "it ends", func() bool { _, ended := j.Ended(); return ended })
	if err, _ := j.Ended(); err == nil || !strings.Contains(err.Error(), "the snapshot 2 of the table race.fixed changes or takes away rows (delete)") {
		t.Errorf("it says: %v", err)
	}
	if got := copied(); len(got) != 10 {
		t.Errorf("%d rows are copied", len(got))
	}
}

// TestLedgerWords: what cannot be written to a table without a catalogue is said with the way out, and columns are added where that is wanted.
func TestLedgerWords(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "in.json"), []byte(`{"n":1,"says":"a","at":"2026-05-17T09:00:00Z","day":"2026-05-17","tod":"09:00:00"}`+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	write := func(columns, address, how string) error {
		_, err := run("DECLARE ENDPOINT pond LAKE '"+dir+"/pond' (FORMAT delta); DECLARE STREAM f (n BIGINT, says VARCHAR, at TIMESTAMP, day DATE, tod TIME) FROM FILES '"+dir+"/in.json'; DECLARE SINK o TO LAKE '"+address+"' VIA pond"+how+
			"; CREATE JOB p AS SELECT "+columns+" FROM f ROUTE TO o;", contract.Env{})
		return err
	}
	for _, x := range [][4]string{
		{"n, says", "race.a", " (KEY (n))", "KEY is for tables of the format iceberg: to those of delta rows are added"},
		{"n, says", "race.a", " (COMPACT EVERY 1 HOUR)", "COMPACT EVERY is for tables of the format iceberg"},
		{"n, at", "race.a", " (PARTITION BY (at))", "CAST(at AS DATE) AS day"},
		{"n", "race.a", " (PARTITION BY (n))", "names all columns"},
		{"n, tod", "race.a", "", "no type for a time of day"},
		{"n, says", "race.a", "", ""},
		{"n, says, day", "race.a", "", "the table has no column day (it has: n, says); with (EVOLVE true) it is added"},
		{"n, says, day", "race.a", " (EVOLVE true)", ""},
		{"n, CAST(says AS VARCHAR) AS day", "race.a", "", "the column day is VARCHAR, and the table's is DATE"},
	} {
		err := write(x[0], x[1], x[2])
		if x[3] == "" && err != nil || x[3] != "" && (err == nil || !strings.Contains(err.Error(), x[3])) {
			t.Errorf("%v: %v", x, err)
		}
	}
	got := rowsOf(t, "DECLARE ENDPOINT pond LAKE '"+dir+"/pond' (FORMAT delta); DECLARE STREAM a (n BIGINT, says VARCHAR, day DATE) FROM LAKE 'race.a' VIA pond; SELECT n, says, day FROM a SINCE BEGINNING UNTIL NOW;", contract.Env{})
	if want := []string{`{"n":1,"says":"a","day":"2026-05-17"}`, `{"n":1,"says":"a","day":null}`}; !slices.Equal(got, want) {
		t.Errorf("it holds %s", got)
	}
	for endpoint, want := range map[string]string{
		"'s3://race/x' (FORMAT delta)":                "say which with STORE",
		"'s3://race/x'":                               "tables of the format delta need none",
		"'me@127.0.0.1:3306/race' (FORMAT delta)":     "lie in a directory, or in s3://bucket/path",
		"'" + dir + "' (FORMAT delta, WAREHOUSE 'x')": "leave WAREHOUSE out",
	} {
		_, err := run("DECLARE ENDPOINT pond LAKE "+endpoint+"; DECLARE STREAM a (n BIGINT) FROM LAKE 'race.a' VIA pond; SELECT n FROM a UNTIL NOW;", contract.Env{})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", endpoint, err)
		}
	}
	_, err := run("DECLARE ENDPOINT pond LAKE '"+dir+"/pond' (FORMAT delta); DECLARE STREAM a (n BIGINT) FROM LAKE 'race.b' VIA pond; SELECT n FROM a UNTIL NOW;", contract.Env{})
	if err == nil || !strings.Contains(err.Error(), `has no table 'race.b'; did you mean "race.a"`) {
		t.Errorf("%v", err)
	}
}
