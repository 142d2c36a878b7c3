package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"fiume/internal/api"
)

// wideJobs keep whole rows, or what is made of them; each has all columns that its streams have.
var wideJobs = map[string]string{
	"every":    `SELECT * FROM reads WHERE rssi < -60`,
	"tumbling": `SELECT mat, w.opens AS opens, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 20 SECONDS)`,
	"sessions": `SELECT chip, w.opens AS opens, w.closes AS closes, COUNT(*) AS n FROM reads GROUP BY chip, w WINDOW w AS (SESSION GAP 15 SECONDS)`,
	"firsts":   `SELECT * FROM reads UNIQUE BY (chip, mat) WITHIN 45 SECONDS`,
	"ranks":    `SELECT *, ROW_NUMBER() OVER (PARTITION BY chip ORDER BY read_at FORGET AFTER 1 HOUR) AS n FROM reads`,
	"sums":     `SELECT *, SUM(rssi) OVER (PARTITION BY chip ORDER BY read_at RANGE BETWEEN INTERVAL '1' MINUTE PRECEDING AND CURRENT ROW) AS s, COUNT(*) OVER (PARTITION BY chip ORDER BY read_at RANGE BETWEEN CURRENT ROW AND INTERVAL '10' SECONDS FOLLOWING) AS next FROM reads`,
	"pairs":    `SELECT r.*, c.word FROM reads r JOIN calls c ON c.place = r.mat AND c.called_at WITHIN 30 SECONDS OF r.read_at`,
	"outer":    `SELECT c.*, r.chip FROM calls c LEFT JOIN reads r ON c.place = r.mat AND r.rssi < -80 AND r.read_at WITHIN 10 SECONDS AFTER c.called_at`,
	"asof":     `SELECT e.*, r.read_at, r.rssi FROM reads r LEFT JOIN entrants e AS OF r.read_at ON e.chip = r.chip`,
	"lookup":   `SELECT r.*, e.club FROM reads r JOIN entrants e ON e.chip = r.chip WHERE r.rssi > -65`,
	"behind":   `SELECT mat, w.opens AS opens, COUNT(*) AS n FROM (SELECT r.*, c.word FROM reads r JOIN calls c ON c.place = r.mat AND c.called_at WITHIN 10 SECONDS OF r.read_at) GROUP BY mat, w WINDOW w AS (TUMBLING 40 SECONDS)`,
}

// TestStreamsEvolve gives streams and a table one column more again and again, while jobs of every kind read them, and ends
// the service without warning between. Messages have a column from its declaration on, so that what a row has there does
// not depend on when it was read: in the end the jobs have written what jobs write that read all messages at once, and
// what a plain computation gives. ROUNDS says how often (6).
func TestStreamsEvolve(t *testing.T) {
	t.Parallel()
	rounds := 6
	if n, err := strconv.Atoi(os.Getenv("ROUNDS")); err == nil {
		rounds = n
	}
	dir := t.TempDir()
	p := serve(t, dir)
	declared := func(or string, n int) string {
		more := ""
		for i := range n {
			more += fmt.Sprintf(", c%d %s", i, []string{"VARCHAR", "BIGINT", "DECIMAL(10, 2)", "ARRAY(VARCHAR)"}[i%4])
		}
		return fmt.Sprintf(`DECLARE %[1]sSTREAM reads (chip VARCHAR%[2]s, mat VARCHAR, read_at TIMESTAMP, rssi DOUBLE) EVENT TIME read_at DELAY 5 SECONDS FROM TOPIC 'mat-reads';
			DECLARE %[1]sSTREAM calls (place VARCHAR, word VARCHAR, called_at TIMESTAMP%[2]s) EVENT TIME called_at DELAY 5 SECONDS FROM TOPIC 'calls';
			DECLARE %[1]sTABLE entrants (chip VARCHAR PRIMARY KEY%[2]s, club VARCHAR, updated_at TIMESTAMP) EVENT TIME updated_at FROM TOPIC 'entrants';`, or, more)
	}
	p.apply(`CREATE TOPIC 'mat-reads' (PARTITIONS 2); CREATE TOPIC calls (PARTITIONS 1); CREATE TOPIC entrants (PARTITIONS 1);` + declared("", 0))
	job := func(name, suffix string) string {
		return fmt.Sprintf(`CREATE TOPIC %[1]s%[2]s (PARTITIONS 1); DECLARE SINK %[1]s%[2]s TO TOPIC '%[1]s%[2]s';
			CREATE JOB %[1]s%[2]s WITH %[1]s%[2]s_rows AS (%[3]s) ROUTE %[1]s%[2]s_rows TO %[1]s%[2]s SET (CHECKPOINT EVERY 300 MILLISECONDS);`, name, suffix, wideJobs[name])
	}
	var names []string
	for name := range wideJobs {
		names = append(names, name)
	}
	slices.Sort(names)
	type row map[string]any
	all := map[string][]row{}
	at := func(s int) string { return time.Date(2026, 5, 17, 9, 0, s, 0, time.UTC).Format(time.RFC3339) }
	write := func(topic string, columns, n int, message func(i int) row) {
		t.Helper()
		var ms []api.MessageRequest
		for i := range n {
			m := message(i)
			for c := range columns {
				if (i+c)%3 > 0 {
					m[fmt.Sprint("c", c)] = []any{fmt.Sprint("v", i), i, json.Number(fmt.Sprintf("%d.25", i)), []string{"a", fmt.Sprint(i)}}[c%4]
				}
			}
			b, err := json.Marshal(m)
			if err != nil {
				t.Fatal(err)
			}
			key := fmt.Sprint(m["chip"])
			ms = append(ms, api.MessageRequest{Key: &key, Value: string(b)})
			all[topic] = append(all[topic], m)
		}
		if err := p.Write(t.Context(), topic, ms); err != nil {
			t.Fatal(err)
		}
	}
	entrants := func(from, columns int) {
		write("entrants", columns, 3, func(i int) row {
			return row{"chip": fmt.Sprint("C", i), "club": fmt.Sprint("club ", from+i), "updated_at": at(from - 2*i)}
		})
	}
	entrants(0, 0) // who is looked up is there before the jobs
	for _, name := range names {
		p.apply(job(name, ""))
	}
	stretch := func(from, columns int) { // ten seconds of event time
		entrants(from, columns)
		write("calls", columns, 3, func(i int) row {
			return row{"place": fmt.Sprint("M", i), "word": fmt.Sprint("w", from+i), "called_at": at(from + 3*i)}
		})
		write("mat-reads", columns, 40, func(i int) row {
			return row{"chip": fmt.Sprint("C", i%7), "mat": fmt.Sprint("M", i%3), "read_at": at(from + i/4), "rssi": -60 - i%30}
		})
	}
	rnd := rand.New(rand.NewPCG(uint64(rounds), 3))
	for k := range rounds {
		stretch(10*k, k)
		if rnd.IntN(3) == 0 {
			time.Sleep(time.Duration(rnd.IntN(600)) * time.Millisecond)
		}
		text := declared("OR REPLACE ", k+1)
		if rnd.IntN(3) > 0 {
			p.apply(text)
		} else { // it is ended while the change is on its way
			done, former := make(chan bool), p
			go func() {
				_, _ = former.Apply(t.Context(), api.ScriptRequest{SQL: text}) // it may be cut off
				close(done)
			}()
			time.Sleep(time.Duration(rnd.IntN(1500)) * time.Millisecond)
			p.kill()
			<-done
			p = serve(t, dir)
			p.apply(text) // what has been done is unchanged
		}
		if rnd.IntN(4) == 0 {
			p.kill()
			p = serve(t, dir)
		}
	}
	for _, o := range p.apply(declared("", rounds)).Outcomes {
		if o.Done != "unchanged" {
			t.Errorf("%s %s is %s, and the same text was declared before", o.Kind, o.Name, o.Done)
		}
	}
	stretch(10*rounds, rounds)
	for _, name := range names {
		p.apply(job(name, "_whole"))
	}
	stretch(10*rounds+300, rounds) // what is held is given
	for _, name := range names {
		var got, want []string
		defer func() { // what became of the jobs, where one is not as it should be
			if t.Failed() {
				for _, of := range []string{name, name + "_whole"} {
					if j, err := p.Job(context.Background(), of); err == nil {
						t.Logf("%s: %s %s, %d in, %d out, %d late, %d rejected", of, j.State, j.Reason, j.In, j.Out, j.Late, j.Rejects)
					}
				}
			}
		}()
		eventually(t, name+" to give what a job gives that reads all at once", func() bool {
			got, want = withoutNulls(t, p.all(name)), withoutNulls(t, p.all(name+"_whole"))
			// Which row of the table is met depends on when it is read (AS OF waits for a silent table for a second); how many are,
			// does not.
			if name == "lookup" || name == "asof" {
				return len(got) > 0 && len(got) == len(want)
			}
			return len(got) > 0 && slices.Equal(got, want)
		})
		if len(want) < 5 {
			t.Errorf("%s gives only %v", name, want)
		}
	}
	var every, pairs []string
	when := func(s any) time.Time { x, _ := time.Parse(time.RFC3339, s.(string)); return x }
	for _, r := range all["mat-reads"] {
		if r["rssi"].(int) < -60 {
			b, _ := json.Marshal(r)
			every = append(every, string(b))
		}
		for _, c := range all["calls"] {
			if c["place"] == r["mat"] && when(c["called_at"]).Sub(when(r["read_at"])).Abs() <= 30*time.Second {
				pair := row{"word": c["word"]}
				for k, v := range r {
					pair[k] = v
				}
				b, _ := json.Marshal(pair)
				pairs = append(pairs, string(b))
			}
		}
	}
	for name, want := range map[string][]string{"every": withoutNulls(t, every), "pairs": withoutNulls(t, pairs)} {
		if got := withoutNulls(t, p.all(name)); !slices.Equal(got, want) {
			t.Errorf("%s gives %d rows, and %d are right:\n%s\n%s", name, len(got), len(want), strings.Join(differing(got, want), "\n"), strings.Join(differing(want, got), "\n"))
		}
	}
}

// differing gives the first rows of a list that another has not.
func differing(a, b []string) (out []string) {
	for _, x := range a {
		if _, ok := slices.BinarySearch(b, x); !ok && len(out) < 3 {
			out = append(out, x)
		}
	}
	return out
}

// withoutNulls gives rows in one form: sorted, without columns that are NULL, and instants in one format.
func withoutNulls(t *testing.T, rows []string) []string {
	t.Helper()
	out := []string{}
	for _, s := range rows {
		var m map[string]any
		if err := json.Unmarshal([]byte(s), &m); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
		for k, v := range m {
			if v == nil {
				delete(m, k)
			} else if s, ok := v.(string); ok && strings.HasPrefix(s, "2026-") {
				if x, err := time.Parse(time.RFC3339, s); err == nil {
					m[k] = x.UnixMilli()
				}
			}
		}
		b, _ := json.Marshal(m)
		out = append(out, string(b))
	}
	slices.Sort(out)
	return out
}

// TestQuietTable: a row that was let through because a table was quiet is there once through kill -9, also where it meets another version of the table when it is read again.
func TestQuietTable(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p := serve(t, dir)
	p.apply(`CREATE TOPIC reads (PARTITIONS 1); CREATE TOPIC people (PARTITIONS 1); CREATE TOPIC out (PARTITIONS 1);
		DECLARE STREAM reads (chip VARCHAR, read_at TIMESTAMP) EVENT TIME read_at FROM TOPIC 'reads';
		DECLARE TABLE people (chip VARCHAR PRIMARY KEY, name VARCHAR, updated_at TIMESTAMP) EVENT TIME updated_at FROM TOPIC 'people';
		DECLARE SINK out TO TOPIC 'out';`)
	person := func(name, at string) {
		key := "C1"
		if err := p.Write(t.Context(), "people", []api.MessageRequest{{Key: &key, Value: fmt.Sprintf(`{"chip":"C1","name":%q,"updated_at":"2026-05-17T09:%s:00Z"}`, name, at)}}); err != nil {
			t.Fatal(err)
		}
	}
	person("before", "00")
	p.apply(`CREATE JOB naming AS SELECT r.chip, p.name FROM reads r LEFT JOIN people p AS OF r.read_at ON p.chip = r.chip ROUTE TO out SET (CHECKPOINT EVERY 1 HOUR);`)
	p.send("reads", `{"chip":"C1","read_at":"2026-05-17T09:10:00Z"}`)
	eventually(t, "the row is let through", func() bool {
		j, err := p.Job(t.Context(), "naming")
		return err == nil && j.Out > 0
	})
	if rows := p.all("out"); len(rows) > 0 {
		t.Errorf("%v is shown before a checkpoint counts", rows)
	}
	person("after", "05")
	p.kill()
	p = serve(t, dir)
	eventually(t, "it is let through once more", func() bool {
		j, err := p.Job(t.Context(), "naming")
		return err == nil && j.Out > 0
	})
	p.apply("STOP JOB naming;") // with a checkpoint
	eventually(t, "it is there", func() bool { return len(p.all("out")) > 0 })
	if rows := p.all("out"); len(rows) != 1 || !strings.Contains(rows[0], `"after"`) {
		t.Errorf("%v", rows)
	}
}
