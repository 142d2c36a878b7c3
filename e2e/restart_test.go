package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/api"
)

// keyedJobs are jobs whose steps keep something, one a kind; each has a function in JavaScript on its way.
var keyedJobs = map[string]string{
	"tumbling": `SELECT CALLED(mat) AS mat, w.opens AS opens, COUNT(*) AS n, SUM(HALF(rssi)) AS h FROM reads GROUP BY CALLED(mat), w WINDOW w AS (TUMBLING 20 SECONDS)`,
	"sliding":  `SELECT mat, w.opens AS opens, MAX(HALF(rssi)) AS h FROM reads WHERE HALF(rssi) < 0 GROUP BY mat, w WINDOW w AS (SLIDING 1 MINUTE EVERY 20 SECONDS)`,
	"sessions": `SELECT CALLED(chip) AS chip, w.opens AS opens, w.closes AS closes, COUNT(*) AS n FROM reads GROUP BY CALLED(chip), w WINDOW w AS (SESSION GAP 15 SECONDS)`,
	"firsts":   `SELECT chip, mat, HALF(rssi) AS h, read_at FROM reads UNIQUE BY (CALLED(chip), mat) WITHIN 45 SECONDS`,
	"ranks":    `SELECT chip, read_at, HALF(rssi) AS h, LAG(CALLED(mat)) OVER (PARTITION BY chip ORDER BY read_at FORGET AFTER 1 HOUR) AS before, ROW_NUMBER() OVER (PARTITION BY chip ORDER BY read_at FORGET AFTER 1 HOUR) AS n FROM reads`,
	"lookback": `SELECT chip, read_at, SUM(HALF(rssi)) OVER (PARTITION BY chip ORDER BY read_at RANGE BETWEEN INTERVAL '1' MINUTE PRECEDING AND CURRENT ROW) AS s FROM reads`,
	"pairs":    `SELECT r.chip, r.read_at, HALF(r.rssi) AS h, c.word FROM reads r JOIN calls c ON c.place = CALLED(r.mat) AND c.called_at WITHIN 30 SECONDS OF r.read_at`,
	"leftjoin": `SELECT r.chip, r.read_at, c.word FROM reads r LEFT JOIN calls c ON c.place = CALLED(r.mat) AND HALF(r.rssi) < -40 AND c.called_at WITHIN 10 SECONDS AFTER r.read_at`,
	"asof":     `SELECT r.chip, r.read_at, HALF(r.rssi) AS h, e.club FROM reads r LEFT JOIN entrants e AS OF r.read_at ON e.chip = r.chip`,
	"lookup":   `SELECT r.chip, r.read_at, CALLED(e.club) AS club FROM reads r JOIN entrants e ON e.chip = r.chip WHERE r.rssi > -65`,
	"nested":   `SELECT mat, v.opens AS opens, SUM(n) AS n FROM (SELECT CALLED(mat) AS mat, w.closes AS at, COUNT(*) AS n FROM reads GROUP BY CALLED(mat), w WINDOW w AS (TUMBLING 10 SECONDS)) GROUP BY mat, v WINDOW v AS (TUMBLING 40 SECONDS)`,
}

// TestNewProcessKeepsState ends the service, in order and without warning, while every kind of step holds something, and
// goes on in a new process: what the jobs have written in the end is what jobs of the same texts write that read all
// messages without a break.
func TestNewProcessKeepsState(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p := serve(t, dir)
	p.apply(`CREATE TOPIC 'mat-reads' (PARTITIONS 2); CREATE TOPIC calls (PARTITIONS 1); CREATE TOPIC entrants (PARTITIONS 1);
		DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, read_at TIMESTAMP, rssi DOUBLE) EVENT TIME read_at DELAY 5 SECONDS FROM TOPIC 'mat-reads';
		DECLARE STREAM calls (place VARCHAR, word VARCHAR, called_at TIMESTAMP) EVENT TIME called_at DELAY 5 SECONDS FROM TOPIC 'calls';
		DECLARE TABLE entrants (chip VARCHAR PRIMARY KEY, club VARCHAR, updated_at TIMESTAMP) EVENT TIME updated_at FROM TOPIC 'entrants';
		CREATE FUNCTION half(x DOUBLE) RETURNS DOUBLE LANGUAGE javascript AS 'return x / 2';
		CREATE FUNCTION called(x VARCHAR) RETURNS VARCHAR LANGUAGE javascript AS 'return "the " + x';`)
	job := func(name, suffix string) string {
		return fmt.Sprintf(`CREATE TOPIC %[1]s%[2]s (PARTITIONS 1); DECLARE SINK %[1]s%[2]s TO TOPIC '%[1]s%[2]s';
			CREATE JOB %[1]s%[2]s WITH %[1]s%[2]s_rows AS (%[3]s) ROUTE %[1]s%[2]s_rows TO %[1]s%[2]s SET (CHECKPOINT EVERY 200 MILLISECONDS);`, name, suffix, keyedJobs[name])
	}
	var names []string
	for name := range keyedJobs {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		p.apply(job(name, ""))
	}
	at := func(s int) string { return time.Date(2026, 5, 17, 9, 0, s, 0, time.UTC).Format(time.RFC3339) }
	write := func(topic string, n int, message func(i int) (key, value string)) {
		t.Helper()
		var ms []api.MessageRequest
		for i := range n {
			key, value := message(i)
			ms = append(ms, api.MessageRequest{Key: &key, Value: value})
		}
		if err := p.Write(t.Context(), topic, ms); err != nil {
			t.Fatal(err)
		}
	}
	stretch := func(from int) { // half a minute of event time
		write("entrants", 3, func(i int) (string, string) {
			key := fmt.Sprint("C", i)
			return key, fmt.Sprintf(`{"chip":"%s","club":"club %d","updated_at":"%s"}`, key, from+i, at(from-5*i))
		})
		write("calls", 6, func(i int) (string, string) {
			return "k", fmt.Sprintf(`{"place":"the M%d","word":"w%d","called_at":"%s"}`, i%3, from+i, at(from+5*i))
		})
		write("mat-reads", 90, func(i int) (string, string) {
			key := fmt.Sprint("C", i%7)
			return key, fmt.Sprintf(`{"chip":"%s","mat":"M%d","read_at":"%s","rssi":%d}`, key, i%3, at(from+i/3), -60-i%30)
		})
	}
	read := func(name string, n int64) func() bool {
		return func() bool {
			j, err := p.Job(t.Context(), name)
			return err == nil && j.In >= n && j.Checkpoint != nil && j.State == "running"
		}
	}
	inputs := func(name string, stretches int64) int64 {
		n := 90 * stretches
		if strings.Contains(keyedJobs[name], "calls") {
			n += 6 * stretches
		}
		return n
	}
	for k, end := range []func(){p.kill, nil, p.kill} {
		stretch(30 * k)
		for _, name := range names {
			eventually(t, fmt.Sprintf("%s to read stretch %d", name, k), read(name, inputs(name, int64(k+1))))
		}
		time.Sleep(500 * time.Millisecond) // so that checkpoints stand behind what was read, as a rule
		if end == nil {
			p.stop()
		} else {
			p.kill()
		}
		p = serve(t, dir)
	}
	stretch(90)
	for _, name := range names {
		p.apply(job(name, "_whole")) // reads all there is
	}
	stretch(300) // what is held is given
	for _, name := range names {
		var got, want []string
		eventually(t, name+" to give what a job without breaks gives", func() bool {
			got, want = p.sorted(name), p.sorted(name+"_whole")
			if name == "lookup" { // which row of the table is met depends on when it is read; how many are, does not
				return len(got) > 0 && len(got) == len(want)
			}
			return len(got) > 0 && slices.Equal(got, want)
		})
		if len(want) < 5 {
			t.Errorf("%s gives only %v", name, want)
		}
	}
}
