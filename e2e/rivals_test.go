package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Two jobs of one text, broken and whole, read the same reads and write to topics, files and tables of their own: what breaks one of them must leave its sinks
// as those of the other.

// rivalTables are what makes the tables of one.
func rivalTables(name string) []string {
	return []string{
		fmt.Sprintf("CREATE TABLE %s_crossings (chip VARCHAR(20), mat VARCHAR(20), read_at DATETIME(6))", name),
		fmt.Sprintf("CREATE TABLE %s_crowds (mat VARCHAR(20), opened DATETIME(6), runners BIGINT, PRIMARY KEY (mat, opened))", name),
		fmt.Sprintf("CREATE TABLE %s_splits (chip VARCHAR(20), mat VARCHAR(20), took BIGINT)", name),
	}
}

// rivalJob is the text of one, whose files lie below a directory.
func rivalJob(name, out string) string {
	return strings.NewReplacer("{name}", name, "{dir}", filepath.Join(out, name)).Replace(`
		CREATE TOPIC {name}_clean (PARTITIONS 2); CREATE TOPIC {name}_crowd (PARTITIONS 1); CREATE TOPIC {name}_late (PARTITIONS 1);
		DECLARE SINK {name}_clean TO TOPIC '{name}_clean' (KEY (chip));
		DECLARE SINK {name}_archive TO FILES '{dir}' (ROLL EVERY 1 SECOND);
		DECLARE SINK {name}_crossings TO MARIADB '{name}_crossings' VIA race_db;
		DECLARE SINK {name}_crowds TO MARIADB '{name}_crowds' VIA race_db (KEY (mat, opened));
		DECLARE SINK {name}_crowd TO TOPIC '{name}_crowd' (KEY (mat, opened));
		DECLARE SINK {name}_splits TO MARIADB '{name}_splits' VIA race_db;
		DECLARE SINK {name}_late TO TOPIC '{name}_late';
		CREATE JOB {name} WITH
			{name}_first AS (SELECT chip, mat, read_at FROM reads UNIQUE BY (chip, mat) WITHIN 10 SECONDS),
			{name}_busy AS (SELECT mat, w.opens AS opened, COUNT(*) AS runners FROM reads GROUP BY mat, w WINDOW w AS (SLIDING 5 MINUTES EVERY 1 MINUTE LATENESS 2 MINUTES)),
			{name}_legs AS (SELECT a.chip AS chip, a.mat AS mat, a.read_at - b.read_at AS took FROM reads a JOIN reads b ON b.chip = a.chip AND b.read_at WITHIN 1 HOUR BEFORE a.read_at WHERE a.mat = 'km-05' AND b.mat <> a.mat)
		ROUTE {name}_first TO {name}_clean, {name}_archive, {name}_crossings
		ROUTE {name}_busy TO {name}_crowds, {name}_crowd
		ROUTE {name}_legs TO {name}_splits
		ROUTE LATE {name}_first TO {name}_late
		SET (CHECKPOINT EVERY 300 MILLISECONDS, MEMORY MEGABYTES 1);`)
}

// rivalsSettle waits until both have read so many messages, and given what they have to give.
func (p *process) rivalsSettle(written int64, look func()) {
	p.t.Helper()
	read := func(name string) int64 {
		j, err := p.Job(p.t.Context(), name)
		if err != nil {
			p.t.Fatal(err)
		}
		return j.In
	}
	eventually(p.t, "both jobs to have read all", func() bool {
		look()
		return read("broken") == 2*written && read("whole") == 2*written || read("broken") == written && read("whole") == written
	})
	// Parts of the state that wait on disk are worked off up to a second later.
	quiet, last := time.Now(), [2]int64{}
	eventually(p.t, "both jobs to have worked off what waits on disk", func() bool {
		var out [2]int64
		for i, name := range []string{"broken", "whole"} {
			j, err := p.Job(p.t.Context(), name)
			if err != nil {
				p.t.Fatal(err)
			}
			out[i] = j.Out
		}
		if out != last {
			quiet, last = time.Now(), out
		}
		return time.Since(quiet) > 2500*time.Millisecond
	})
}

// rivalsAgree holds the sinks of both against each other. table gives columns of all rows of a table.
func (p *process) rivalsAgree(out string, table func(cols, name string) []string) {
	p.t.Helper()
	sorted := func(name, cols string) []string {
		rows := table(cols, name)
		slices.Sort(rows)
		return rows
	}
	archive := func(name string) (rows []string) {
		files, _ := filepath.Glob(filepath.Join(out, name, "*part-*")) // the one that is open, too
		for _, f := range files {
			b, err := os.ReadFile(f)
			if err != nil {
				p.t.Fatal(err)
			}
			rows = append(rows, strings.Split(strings.TrimSpace(string(b)), "\n")...)
		}
		slices.Sort(rows)
		return rows
	}
	same := func(what string, got, want []string) {
		p.t.Helper()
		if len(want) == 0 || !slices.Equal(got, want) {
			p.t.Errorf("%s: %d rows, without a break %d", what, len(got), len(want))
			n := map[string]int{}
			for _, x := range got {
				n[x]++
			}
			for _, x := range want {
				n[x]--
			}
			shown := 0
			for x, k := range n {
				if k != 0 && shown < 5 {
					p.t.Logf("%+d of %s", k, x)
					shown++
				}
			}
		}
	}
	same("topic", p.all("broken_clean"), p.all("whole_clean"))
	same("files", archive("broken"), archive("whole"))
	same("table without a key", sorted("broken_crossings", "chip, mat, read_at"), sorted("whole_crossings", "chip, mat, read_at"))
	same("table of changes", sorted("broken_crowds", "mat, opened, runners"), sorted("whole_crowds", "mat, opened, runners"))
	same("table of joined rows", sorted("broken_splits", "chip, mat, took"), sorted("whole_splits", "chip, mat, took"))
	same("topic, files and table", p.all("broken_clean"), archive("broken"))
	crowd := func(name string) (rows []string) {
		for _, v := range p.latest(name + "_crowd") {
			rows = append(rows, v)
		}
		slices.Sort(rows)
		return rows
	}
	same("topic of changes", crowd("broken"), crowd("whole"))
}
