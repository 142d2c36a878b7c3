package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fiume/demo"
	"fiume/internal/api"
)

// setting reads a number of a long run.
func setting(name string, def int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return def
}

// TestKilled kills the service again and again, without warning, while the race's reads come in and jobs write to
// topics, files and MariaDB: in the end each sink holds just what that of a job holds that ran without a break.
// KILLS, EVERY (milliseconds between kills) and RATE (reads a second) make it longer.
func TestKilled(t *testing.T) {
	t.Parallel()
	kills, every, rate := setting("KILLS", 4), time.Duration(setting("EVERY", 1500))*time.Millisecond, setting("RATE", 4000)
	dir, out := t.TempDir(), t.TempDir()
	p := serve(t, dir)
	address, db := raceDatabase(t)
	job := func(name string) string {
		for _, table := range []string{"crossings", "crowds", "splits"} {
			key := map[string]string{"crossings": "", "crowds": ", PRIMARY KEY (mat, opened)", "splits": ""}[table]
			cols := map[string]string{"crossings": "chip VARCHAR(20), mat VARCHAR(20), read_at DATETIME(6)", "crowds": "mat VARCHAR(20), opened DATETIME(6), runners BIGINT", "splits": "chip VARCHAR(20), mat VARCHAR(20), took BIGINT"}[table]
			if _, err := db.Exec(fmt.Sprintf("CREATE TABLE %s_%s (%s%s)", name, table, cols, key)); err != nil {
				t.Fatal(err)
			}
		}
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
	p.apply(declareReads + p.endpoint(address) + job("broken"))

	// The reads come at a rate from one who tries again whatever fails: a part can be there twice, for both jobs.
	seconds := int((time.Duration(kills)*(every+time.Second) + 2*time.Second).Seconds())
	var reads []api.MessageRequest
	for _, m := range (demo.Day{Seed: 9, Runners: max(200, rate*seconds/36)}).Messages() {
		if m.Topic == "mat-reads" {
			key := m.Key
			reads = append(reads, api.MessageRequest{Key: &key, Value: string(m.Value)})
		}
	}
	var service atomic.Pointer[process]
	service.Store(p)
	fed := make(chan int)
	go func() {
		began, again := time.Now(), 0
		for i := 0; i < len(reads); {
			n := min(500, len(reads)-i)
			if service.Load().Write(t.Context(), "mat-reads", reads[i:i+n]) != nil {
				again++
				time.Sleep(20 * time.Millisecond)
				if t.Context().Err() != nil {
					break
				}
				continue
			}
			i += n
			time.Sleep(time.Until(began.Add(time.Duration(i) * time.Second / time.Duration(rate))))
		}
		fed <- again
	}()
	onDisk := int64(0) // the most of the state that was
	look := func() {
		for _, name := range []string{"broken", "whole"} {
			if kept, err := p.JobState(t.Context(), name); err == nil {
				sum := int64(0)
				for _, x := range kept.Steps {
					sum += x.Disk
				}
				onDisk = max(onDisk, sum)
			}
		}
	}
	for range kills {
		time.Sleep(every)
		look()
		p.kill()
		p = serve(t, dir)
		service.Store(p)
	}
	again := <-fed
	p.apply(job("whole"))

	read := func(name string) int64 {
		j, err := p.Job(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		return j.In
	}
	topic, err := p.Topics(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var written int64
	for _, x := range topic {
		if x.Name != "mat-reads" {
			continue
		}
		written = x.Messages
		for _, part := range x.Partitions {
			for _, torn := range part.Lost { // a kill in the middle of a write: its sender was not told that it is there, and sent it again
				written -= torn.To - torn.From + 1
			}
		}
	}
	defer func() {
		if !t.Failed() {
			return
		}
		for _, name := range []string{"broken", "whole"} {
			j, err := p.Job(t.Context(), name)
			t.Logf("of %d reads: %+v, %v", written, j, err)
		}
	}()
	there := map[string]bool{}
	for _, value := range p.all("mat-reads") {
		there[value] = true
	}
	for _, r := range reads {
		if !there[r.Value] {
			t.Fatalf("a read that was written is lost: %s", r.Value)
		}
	}
	eventually(t, "both jobs to have read all", func() bool {
		look()
		return read("broken") == 2*written && read("whole") == 2*written || read("broken") == written && read("whole") == written
	})
	// Parts of the state that wait on disk are worked off up to a second later.
	quiet, last := time.Now(), [2]int64{}
	eventually(t, "both jobs to have worked off what waits on disk", func() bool {
		var out [2]int64
		for i, name := range []string{"broken", "whole"} {
			j, err := p.Job(t.Context(), name)
			if err != nil {
				t.Fatal(err)
			}
			out[i] = j.Out
		}
		if out != last {
			quiet, last = time.Now(), out
		}
		return time.Since(quiet) > 2500*time.Millisecond
	})
	if onDisk == 0 {
		t.Error("the memory of the job was enough for its state")
	}
	for _, name := range []string{"broken", "whole"} { // a last checkpoint moves the open parts and delivers what is spooled
		p.fiume("", "job", "stop", name).want(t, 0)
	}
	table := func(name, cols string) (rows []string) {
		rows = texts(t, db, fmt.Sprintf("SELECT CONCAT_WS('|', %s) FROM %s", cols, name))
		slices.Sort(rows)
		return rows
	}
	archive := func(name string) (rows []string) {
		files, _ := filepath.Glob(filepath.Join(out, name, "*part-*")) // the one that is open, too
		for _, f := range files {
			b, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			rows = append(rows, strings.Split(strings.TrimSpace(string(b)), "\n")...)
		}
		slices.Sort(rows)
		return rows
	}
	same := func(what string, got, want []string) {
		t.Helper()
		if len(want) == 0 || !slices.Equal(got, want) {
			t.Errorf("%s: %d rows, without a break %d", what, len(got), len(want))
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
					t.Logf("%+d of %s", k, x)
					shown++
				}
			}
		}
	}
	same("topic", p.all("broken_clean"), p.all("whole_clean"))
	same("files", archive("broken"), archive("whole"))
	same("table without a key", table("broken_crossings", "chip, mat, read_at"), table("whole_crossings", "chip, mat, read_at"))
	same("table of changes", table("broken_crowds", "mat, opened, runners"), table("whole_crowds", "mat, opened, runners"))
	same("table of joined rows", table("broken_splits", "chip, mat, took"), table("whole_splits", "chip, mat, took"))
	same("topic, files and table", p.all("broken_clean"), archive("broken"))
	crowd := func(name string) (rows []string) {
		for _, v := range p.latest(name + "_crowd") {
			rows = append(rows, v)
		}
		slices.Sort(rows)
		return rows
	}
	same("topic of changes", crowd("broken"), crowd("whole"))
	t.Logf("%d reads, %d kills, %d parts sent again, up to %d bytes of state on disk", written, kills, again, onDisk)
}

// all gives the messages of a topic of any size, sorted.
func (p *process) all(topic string) (rows []string) {
	p.t.Helper()
	info, err := p.Topics(p.t.Context())
	if err != nil {
		p.t.Fatal(err)
	}
	for _, x := range info {
		if x.Name != topic {
			continue
		}
		for _, part := range x.Partitions {
			for at := part.First; at < part.Next; {
				ms, err := p.Read(p.t.Context(), topic, map[string][]string{"partition": {strconv.Itoa(part.Partition)}, "from": {strconv.FormatInt(at, 10)}, "limit": {"50000"}})
				if err != nil {
					p.t.Fatal(err)
				}
				if len(ms) == 0 {
					break
				}
				for _, m := range ms {
					rows = append(rows, m.Value)
				}
				at = ms[len(ms)-1].Offset + 1
			}
		}
	}
	slices.Sort(rows)
	return rows
}
