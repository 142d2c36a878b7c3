package e2e

import (
	"fmt"
	"html"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// TestScreenshots makes the pictures of the README from the demo's data. It does so only when it is
// told where to: make screenshots.
func TestScreenshots(t *testing.T) {
	kept := *screenshots != ""
	if !kept {
		*screenshots = t.TempDir() // the pages must draw, whoever looks at the pictures
	}
	if err := os.MkdirAll(*screenshots, 0o755); err != nil {
		t.Fatal(err)
	}
	demo := start(t, "demo", "--dir", t.TempDir(), "--listen", "127.0.0.1:0", "--speed", "240")
	late := int64(0)
	if kept {
		late = 20 // the bridge's link has been away
	}
	eventually(t, "rows in the crowd table", func() bool {
		j, err := demo.Job(t.Context(), "crowding")
		clean, err2 := demo.Job(t.Context(), "clean_reads")
		return err == nil && err2 == nil && j.Out > 20 && j.Rejects > 2 && clean.Late >= late
	})
	ctx := browser(t)
	shot := func(name, path string, steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		if err := chromedp.Do(ctx, append([]chromedp.Action[chromedp.Void]{chromedp.Navigate(demo.base + path)}, steps...)...); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		time.Sleep(2500 * time.Millisecond) // so that rates and rows are there
		b, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		picture(t, name, b)
	}
	row := chromedp.CSS("tbody tr")
	shot("console-jobs.png", "/", chromedp.WaitVisible(row))
	shot("console-job.png", "/jobs/crowding", chromedp.WaitVisible(row))
	tab := func(text string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(chromedp.Search(fmt.Sprintf("//button[@role='tab'][starts-with(., '%s')]", text)))
	}
	shot("console-windows.png", "/jobs/crowding", chromedp.WaitVisible(row), tab("Windows"))
	shot("console-state.png", "/jobs/crowding", chromedp.WaitVisible(row), tab("State and sinks"), chromedp.WaitVisible(chromedp.CSS("[data-testid=promises]")))
	shot("console-version.png", "/jobs/clean_reads", chromedp.WaitVisible(row), tab("Definition"), chromedp.Click(chromedp.CSS("[data-testid=edit]")),
		chromedp.SetValue(chromedp.CSS("[data-testid=new-version]"), newClean), chromedp.SendKeys(chromedp.CSS("[data-testid=new-version]"), " "),
		chromedp.Click(chromedp.CSS("[data-testid=what-changes]")), chromedp.WaitVisible(chromedp.CSS("[data-testid=changes]")))
	shot("console-joins.png", "/jobs/splits", chromedp.WaitVisible(row), tab("Joins and tables"))
	shot("console-newest.png", "/jobs/clean_reads", chromedp.WaitVisible(row), tab("Newest rows"))
	shot("console-rejected.png", "/jobs/clean_reads", chromedp.WaitVisible(row), tab("Late and rejected"))
	shot("console-query.png", "/query", chromedp.WaitVisible(chromedp.CSS("#sql")), chromedp.Click(chromedp.Search("//button[.='Reads by mat']")),
		chromedp.Click(chromedp.CSS("[data-testid=run]")), chromedp.WaitVisible(row))
	shot("console-completion.png", "/query", chromedp.WaitVisible(chromedp.CSS("#sql")), chromedp.Click(chromedp.Search("//button[.='Newest reads']")),
		chromedp.SendKeys(chromedp.CSS("#sql"), " AND app"), chromedp.WaitVisible(chromedp.CSS("[data-testid=completions]")))
	shot("console-lateness.png", "/streams/reads/lateness", chromedp.WaitVisible(chromedp.CSS("[data-testid=proposals]")))
	shot("console-streams.png", "/streams", chromedp.WaitVisible(row), chromedp.Click(chromedp.Search("//button[.='crowd-alerts']")))

	dir := t.TempDir()
	race := writeFile(t, dir, "broken.sql", "SELECT chip, device.batery, rsi\nFROM reads\nWHERE device.battery > 0.05;\n")
	decl := writeFile(t, dir, "reads.sql", "DECLARE STREAM reads (chip VARCHAR NOT NULL, mat VARCHAR, read_at TIMESTAMP, rssi DOUBLE,\n  device ROW(serial VARCHAR, battery DOUBLE))\nEVENT TIME read_at DELAY 20 SECONDS\nFROM FILES 'day/mat-reads.ndjson' (FORMAT json);\n")
	terminal := func(name string, lines ...string) {
		var b strings.Builder
		for _, l := range lines {
			args := strings.Fields(l)
			if strings.Contains(l, `"`) {
				head, q, _ := strings.Cut(l, `"`)
				args = append(strings.Fields(head), strings.TrimSuffix(q, `"`))
			}
			shown := strings.ReplaceAll(l, dir+string(filepath.Separator), "")
			r := demo.fiume("", args...)
			fmt.Fprintf(&b, "<b>$ fiume %s</b>\n%s\n", html.EscapeString(shown), html.EscapeString(strings.ReplaceAll(r.out+r.err, dir+string(filepath.Separator), "")))
		}
		page := `<body style="margin:0;background:#1d2726;color:#e6e2d6;font:12.5px/1.45 'DejaVu Sans Mono','Liberation Mono',monospace"><pre style="margin:20px;white-space:pre-wrap">` + b.String() + `</pre>`
		if err := chromedp.Do(ctx, chromedp.Navigate("data:text/html;charset=utf-8,"+url.PathEscape(page))); err != nil {
			t.Fatal(err)
		}
		b2, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			t.Fatal(err)
		}
		picture(t, name, b2)
	}
	terminal("cli-jobs.png", "job list", "topic list", "job show crowding")
	clean := writeFile(t, dir, "clean.sql", newClean)
	terminal("cli-versions.png", "test ../demo/tests/crowding ../demo/tests/clean_reads", "apply --dry-run "+clean, "job compare clean_reads "+clean, "job state clean_reads")
	terminal("cli-joins.png", "job show splits")
	terminal("cli-lateness.png", "lateness reads")
	terminal("cli-query.png", `query "SELECT mat, w.opens AS opened, COUNT(*) AS reads, AVG(rssi) AS avg_rssi FROM reads SINCE BEGINNING GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE) LIMIT 12"`, "topic read crowd-alerts --last 4")
	wild := writeFile(t, dir, "crowd.sql", "select mat,count(distinct chip) as runners,-- how many\n arg_max(chip,rssi) as nearest from reads where rssi>-75 and not(mat='finish') group by mat,w window w as(tumbling 1 minute);\n")
	terminal("cli-language.png", "fmt "+wild, "explain "+decl+" "+wild+" --rate 50000", "functions arg_max")
	terminal("cli-check.png", "check "+decl+" "+race, "activity --limit 8")
}

// newClean is another text of a job of the demo: another step behind the first one.
const newClean = `CREATE OR REPLACE JOB clean_reads
  WITH clean AS (
    SELECT chip, mat, read_at, rssi, device.serial AS reader
    FROM reads
    WHERE NOT weak
    UNIQUE BY (chip, mat) WITHIN 10 SECONDS
  )
  ROUTE clean WHERE rssi > -79 TO clean_topic
  ROUTE LATE clean TO late_reads
  ROUTE REJECTED reads TO bad_reads
  SET (CHECKPOINT EVERY 2 SECONDS);`
