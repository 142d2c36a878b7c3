package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"fiume/internal/api"
	"fiume/internal/service/boards"
)

// TestBoards: a board shows rows as they stand and changes in place, in the browser and in the terminal, through a service that is killed; its panels can be read as
// tables and saved, by the keyboard alone, and are accessible in both schemes.
func TestBoards(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p := serve(t, dir)
	b := browse(t, p.base)
	b.open("/boards")
	b.shows("There are no boards yet")
	b.accessible("the empty list of boards")
	p.fiume("", "board", "list").want(t, 0, "there are no boards")
	p.apply(`CREATE TOPIC reads (PARTITIONS 2);
		DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, rssi DOUBLE, at TIMESTAMP) EVENT TIME at DELAY 1 SECOND FROM TOPIC 'reads';
		CREATE BOARD race (TITLE 'The race', SINCE 1 HOUR)
			PANEL 'By mat' BARS (LABEL mat, VALUE n, ABOVE 3, UNIT 'reads') AS (SELECT mat, COUNT(*) AS n FROM reads GROUP BY mat FORGET AFTER 365 DAYS)
			PANEL 'Newest' NUMBER (WIDE 3, UNIT 'dBm') AS (SELECT rssi FROM reads)
			PANEL 'Minutes' SERIES AS (SELECT mat, w.opens AS opened, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE LATENESS 1 HOUR))
			PANEL 'Cells' HEAT AS (SELECT mat, w.opens AS opened, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE LATENESS 1 HOUR))
			PANEL 'Strongest' TABLE (VALUE rssi, TOP 3) AS (SELECT chip, rssi FROM reads)
			PANEL 'Words' TEXT 'What <b>this</b> is.';`)
	b.open("/boards/race")
	b.shows("The race", "By mat", "No rows yet.", "What <b>this</b> is.")
	at := func(minute int) string { return fmt.Sprintf("2026-05-17T09:%02d:00Z", minute) }
	for i := range 8 {
		p.send("reads", fmt.Sprintf(`{"chip":"P%d","mat":"%s","rssi":-%d.5,"at":"%s"}`, i, []string{"start", "finish"}[i%2], 60+i, at(i)))
	}
	p.send("reads", `{"chip":"bad`, `{"chip":"P9","mat":"start","rssi":-40,"at":"`+at(10)+`"}`)
	b.shows("1 rejected", "5 reads ▲", "4 reads ▲", "-40")
	said := p.fiume("", "board", "show", "race").want(t, 0, "The race", "start   ████████████████████████████████████████ 5 reads ▲", "finish  ████████████████████████████████ 4 reads ▲", "-40", "What <b>this</b> is.")
	if strings.Contains(said.out, "-66.5") { // the largest three alone
		t.Error(said.out)
	}
	var shown struct {
		Panels []struct{ Rows []map[string]any }
	}
	if err := json.Unmarshal([]byte(p.fiume("", "board", "show", "race", "-o", "json").want(t, 0).out), &shown); err != nil || len(shown.Panels) != 6 || len(shown.Panels[0].Rows) != 2 {
		t.Errorf("%+v %v", shown, err)
	}
	p.fiume("", "board", "show", "rase").want(t, 4, `did you mean "race"?`)
	p.fiume("", "board", "show", "race", "--watch").want(t, 2, "draws in a terminal")
	p.fiume("DROP STREAM reads;", "apply", "-").want(t, 3, "is used by the board race")
	// A drawing is a table for whoever wants that, by the keyboard.
	b.do("the drawing as a table", press("as-table"))
	b.shows("Drawing")
	b.accessible("a board")
	// A row that comes late corrects what was drawn, and while it is paused nothing moves.
	b.do("pause", press("pause"))
	b.shows("paused; rows are still taken")
	p.send("reads", `{"chip":"P10","mat":"start","rssi":-30,"at":"`+at(11)+`"}`)
	eventually(t, "it is there for others", func() bool {
		return strings.Contains(p.fiume("", "board", "show", "race").out, "6 reads")
	})
	if strings.Contains(b.text(), "-30") {
		t.Error("a paused board has changed")
	}
	b.do("go on", press("pause"))
	b.shows("-30")
	// A service that is killed and comes again has the board, and whoever looks sees it without doing anything.
	b.clean()
	p.kill()
	p = start(t, "serve", "--dir", dir, "--listen", strings.TrimPrefix(p.base, "http://"), "--files", os.TempDir())
	p.send("reads", `{"chip":"P11","mat":"start","rssi":-20,"at":"`+at(12)+`"}`)
	b.shows("-20")
	b.open("/boards")
	b.shows("The race", "By mat, Newest, Minutes")
	b.accessible("the list of boards")
	p.apply(`CREATE OR REPLACE BOARD race PANEL 'Only' NUMBER AS (SELECT rssi FROM reads);`)
	p.fiume("", "board", "list").want(t, 0, "race", "1")
	p.apply("DROP BOARD race; DROP STREAM reads;")
}

// BenchmarkBoard has 20 panels changed a thousand times a second each, and says what share of a core the service takes for that.
func BenchmarkBoard(b *testing.B) {
	p := serve(b, b.TempDir())
	text := "CREATE TOPIC reads (PARTITIONS 1); DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, n BIGINT, at TIMESTAMP) EVENT TIME at DELAY 1 SECOND FROM TOPIC 'reads'; CREATE BOARD many "
	for i := range 20 {
		text += fmt.Sprintf("PANEL 'p%d' BARS AS (SELECT chip, COUNT(*) AS many FROM reads WHERE n %% 20 >= %d GROUP BY chip FORGET AFTER 365 DAYS) ", i, i/20)
	}
	if r, err := p.Apply(b.Context(), api.ScriptRequest{SQL: text + ";"}); err != nil || r.Problem != nil {
		b.Fatal(err, r.Problem)
	}
	ctx, end := context.WithCancel(b.Context())
	defer end()
	told := 0
	done := make(chan error, 1)
	go func() {
		done <- p.WatchBoard(ctx, "many", nil, func(*boards.Board) error { return nil }, func(u boards.Update) error { told += len(u.Rows); return nil })
	}()
	usage := func() time.Duration { return processorTime(b, p.cmd.Process.Pid) }
	write := func(seconds int) {
		n := 0
		for begun := time.Now(); time.Since(begun) < time.Duration(seconds)*time.Second; {
			var ms []api.MessageRequest
			for range 100 {
				ms = append(ms, api.MessageRequest{Value: fmt.Sprintf(`{"chip":"P%03d","mat":"M","n":%d,"at":"2026-05-17T09:00:00Z"}`, n%200, n)})
				n++
			}
			if err := p.Write(b.Context(), "reads", ms); err != nil {
				b.Fatal(err)
			}
			time.Sleep(time.Until(begun.Add(time.Duration(n) * time.Millisecond)))
		}
	}
	write(3)
	for b.Loop() {
		before, at := usage(), time.Now()
		write(10)
		b.ReportMetric(100*float64(usage()-before)/float64(time.Since(at)), "%core")
	}
	end()
	<-done
	b.ReportMetric(float64(told), "rows-told")
}

// processorTime is what a process has used so far.
func processorTime(t testing.TB, pid int) time.Duration {
	t.Helper()
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		t.Fatal(err)
	}
	f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	var user, system int64
	if _, err := fmt.Sscan(f[11]+" "+f[12], &user, &system); err != nil {
		t.Fatal(err)
	}
	return time.Duration(user+system) * 10 * time.Millisecond
}
