package e2e

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/internal/api"
)

// TestWhyOfEveryStep asks where rows come from that sessions, UNIQUE BY, OVER, tables, corrections, top-N, unions and
// arrays gave. Each is confirmed by the messages that are found, and those are the ones that a plain computation over
// all messages finds.
func TestWhyOfEveryStep(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	sinks := []string{"stays", "firsts", "steps", "named", "fixed", "best", "both", "tagged"}
	var text strings.Builder
	text.WriteString(`CREATE TOPIC reads (PARTITIONS 2); CREATE TOPIC runners;
		DECLARE STREAM reads (chip VARCHAR NOT NULL, mat VARCHAR, n BIGINT, tags ARRAY(VARCHAR), at TIMESTAMP NOT NULL) EVENT TIME at DELAY 5 SECONDS FROM TOPIC 'reads';
		DECLARE TABLE runners (chip VARCHAR PRIMARY KEY, name VARCHAR, changed TIMESTAMP) EVENT TIME changed FROM TOPIC 'runners';`)
	for _, s := range sinks {
		options := "FORMAT json"
		if s == "fixed" {
			options = "KEY (mat, opened)"
		}
		fmt.Fprintf(&text, "CREATE TOPIC %[1]s (PARTITIONS 1); DECLARE SINK %[1]s TO TOPIC '%[1]s' (%[2]s);\n", s, options)
	}
	text.WriteString(`CREATE JOB j WITH
		stay AS (SELECT chip, w.opens AS opened, w.closes AS closed, COUNT(*) AS rows, SUM(n) AS total FROM reads GROUP BY chip, w WINDOW w AS (SESSION GAP 6 SECONDS)),
		first_reads AS (SELECT chip, mat, n, at FROM reads UNIQUE BY (chip, mat) WITHIN 30 SECONDS),
		stepped AS (SELECT chip, n, at, n - LAG(n) OVER (PARTITION BY chip ORDER BY at FORGET AFTER 1 MINUTE) AS step FROM reads),
		with_name AS (SELECT r.chip, r.n, p.name, r.at FROM reads r JOIN runners p ON p.chip = r.chip),
		counted AS (SELECT mat, w.opens AS opened, COUNT(*) AS rows, SUM(n) AS total FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 10 SECONDS LATENESS 1 MINUTE)),
		by_mat AS (SELECT mat, w.opens AS opens, w.closes AS closes, MAX(n) AS most FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 20 SECONDS)),
		top AS (SELECT mat, opens, most FROM (SELECT mat, opens, closes, most, ROW_NUMBER() OVER (PARTITION BY opens, closes ORDER BY most DESC) AS place FROM by_mat) q WHERE place <= 1),
		united AS (SELECT chip, n, at FROM reads WHERE n % 7 = 1 UNION ALL SELECT mat, n * 1000, at FROM reads WHERE n % 5 = 1),
		one_tag AS (SELECT r.chip, r.n, u.tag FROM reads r CROSS JOIN UNNEST(r.tags) AS u(tag))
		ROUTE stay TO stays ROUTE first_reads TO firsts ROUTE stepped TO steps ROUTE with_name TO named ROUTE counted TO fixed ROUTE top TO best ROUTE united TO both ROUTE one_tag TO tagged;`)
	p.apply(text.String())

	type read struct {
		chip, mat string
		n         int
		at        time.Time
		value     string
	}
	start := time.Date(2026, 5, 17, 9, 0, 0, 0, time.UTC)
	for i := range 4 { // each runner is renamed once
		p.send("runners", fmt.Sprintf(`{"chip":"P%d","name":"early %d","changed":"%s"}`, i, i, start.Add(-time.Hour).Format(time.RFC3339)),
			fmt.Sprintf(`{"chip":"P%d","name":"late %d","changed":"%s"}`, i, i, start.Add(100*time.Second).Format(time.RFC3339)))
	}
	var reads []read
	var ms []api.MessageRequest
	add := func(r read) {
		r.value = fmt.Sprintf(`{"chip":"%s","mat":"%s","n":%d,"tags":["t%d","u"],"at":"%s"}`, r.chip, r.mat, r.n, r.n%3, r.at.Format(time.RFC3339))
		key := r.chip
		reads, ms = append(reads, r), append(ms, api.MessageRequest{Key: &key, Value: r.value})
	}
	for i := range 160 {
		at := start.Add(time.Duration(i)*time.Second + time.Duration(i/9)*2*time.Second - time.Duration(i*7%4)*time.Second)
		add(read{fmt.Sprint("P", i*i%4), []string{"start", "km-05", "finish"}[i*5%3], i, at, ""})
	}
	add(read{"P0", "start", 900, start.Add(150 * time.Second), ""}) // corrects a window that has closed, and is late elsewhere
	if err := p.Write(t.Context(), "reads", ms); err != nil {
		t.Fatal(err)
	}
	end := start.Add(2 * time.Hour)
	for i := range 12 { // both partitions go on, so that all closes
		key := fmt.Sprint("Z", i)
		v := fmt.Sprintf(`{"chip":"%s","mat":"end","n":2,"tags":[],"at":"%s"}`, key, end.Format(time.RFC3339))
		if err := p.Write(t.Context(), "reads", []api.MessageRequest{{Key: &key, Value: v}}); err != nil {
			t.Fatal(err)
		}
	}
	p.send("runners", fmt.Sprintf(`{"chip":"Z","name":"end","changed":"%s"}`, end.Format(time.RFC3339)))
	eventually(t, "results", func() bool {
		return len(p.all("named")) >= 150 && len(p.all("stays")) > 10 && len(p.latest("fixed")) > 40 && len(p.all("best")) >= 9
	})

	asked := 0
	for _, sink := range sinks {
		rows := p.all(sink)
		if sink == "fixed" {
			rows = nil
			for _, v := range p.latest("fixed") {
				rows = append(rows, v)
			}
			slices.Sort(rows)
		}
		for i := 0; i < len(rows); i += max(1, len(rows)/15) {
			var x struct {
				Chip, Mat, Name       string
				N                     int
				Opened, Closed, Opens time.Time
			}
			if err := json.Unmarshal([]byte(rows[i]), &x); err != nil {
				t.Fatal(err)
			}
			if x.Mat == "end" || strings.HasPrefix(x.Chip, "Z") || x.Chip == "end" {
				continue
			}
			w, err := p.Why(t.Context(), "j", sink, json.RawMessage(rows[i]))
			if err != nil {
				t.Fatal(err)
			}
			if !w.Confirmed {
				t.Errorf("%s %s is not confirmed: %v %s", sink, rows[i], w.Notes, w.Gives)
			}
			var got, tables []string
			for _, s := range w.Streams {
				for _, m := range s.Messages {
					switch {
					case s.Table:
						tables = append(tables, m.Value)
					case !m.Late && !slices.Contains(got, m.Value):
						got = append(got, m.Value)
					}
				}
			}
			within := func(r read, from time.Time, d time.Duration) bool {
				return !r.at.Before(from) && r.at.Before(from.Add(d))
			}
			// needed says whether a read made the row; there may be no others unless more is said to be looked at.
			needed := func(r read) bool {
				switch sink {
				case "stays":
					return r.chip == x.Chip && !r.at.Before(x.Opened) && !r.at.After(x.Closed.Add(-6*time.Second))
				case "fixed":
					return r.mat == x.Mat && within(r, x.Opened, 10*time.Second)
				case "best":
					return r.mat == x.Mat && within(r, x.Opens, 20*time.Second) && r.n != 900
				case "both":
					return r.n == x.N && r.chip == x.Chip && r.n%7 == 1 || r.n*1000 == x.N && r.mat == x.Chip
				}
				return r.n == x.N && r.chip == x.Chip
			}
			exact := sink != "steps" && sink != "best" && sink != "stays"
			for _, r := range reads {
				if has := slices.Contains(got, r.value); needed(r) && !has && !(r.n == 900 && sink != "fixed") {
					t.Errorf("%s %s: %s is not found among %v", sink, rows[i], r.value, got)
				} else if exact && has && !needed(r) {
					t.Errorf("%s %s: %s had no part in it", sink, rows[i], r.value)
				}
			}
			if sink == "named" && !slices.ContainsFunc(tables, func(v string) bool { return strings.Contains(v, fmt.Sprintf("%q", x.Name)) }) {
				t.Errorf("%s: the table's row is not found: %v", rows[i], tables)
			}
			asked++
		}
	}
	if asked < 80 {
		t.Errorf("only %d rows were asked for", asked)
	}
}
