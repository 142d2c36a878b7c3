package e2e

import (
	"context"
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

// TestScreenshots makes the pictures of the README from the demo's data. They are kept only when it is
// told where to (make screenshots); else it looks whether the pages are drawn.
func TestScreenshots(t *testing.T) {
	t.Parallel()
	kept, into := *screenshots != "", *screenshots
	if !kept {
		into = t.TempDir() // the pages must draw, whoever looks at the pictures
	}
	if err := os.MkdirAll(into, 0o755); err != nil {
		t.Fatal(err)
	}
	late := int64(0)
	if kept {
		late = 20 // the bridge's link has been away
	}
	demo := watching(t, late)
	page := browse(t, demo.base)
	ctx := page.ctx
	shot := func(name, path string, steps ...act) {
		t.Helper()
		page.open(path)
		page.do(name, steps...)
		if !kept {
			return // it draws
		}
		time.Sleep(2500 * time.Millisecond) // so that rates and rows are there
		b, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		picture(t, into, name, b)
	}
	row := visible("tbody tr")
	tried := act(chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		page.write("SELECT mat, w.opens AS opened, COUNT(*) AS reads, AVG(rssi) AS avg_rssi\nFROM reads\nGROUP BY mat, w\nWINDOW w AS (TUMBLING 10 MINUTES);")
		return nil
	}))
	mistaken := act(chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		page.write("SELECT chip, mat, device.batery\nFROM reads\nWHERE rssi > -60 AND upp")
		return nil
	}))
	shot("console-jobs.png", "/", row)
	shot("console-job.png", "/jobs/crowding", visible(named("graph")+" .react-flow__node"))
	shot("console-state.png", "/jobs/crowding", visible("[role=tab]"), jobTab("State and sinks"), visible(named("promises")))
	shot("console-version.png", "/jobs/clean_reads", visible("[role=tab]"), jobTab("Definition"), press("edit"),
		fill("new-version", newClean+" "),
		press("what-changes"), visible(named("changes")))
	shot("console-rejected.png", "/jobs/clean_reads", visible("[role=tab]"), jobTab("Rejected ("), visible(named("open-row")))
	shot("console-why.png", "/jobs/clean_reads", visible("[role=tab]"), jobTab("Newest rows"), press("why"), visible("[role=dialog]"), visible(named("why-answer")))
	shot("console-topic.png", "/topics/mat-reads", visible(named("messages")))
	shot("console-declare.png", "/topics/medical-calls", visible(named("messages")), press("declare"), visible(named("proposal")))
	shot("console-work.png", "/work", visible(named("editor")), tried, chromedp.Sleep(time.Second), press("try"), visible(named("tried")), press("shape-series"))
	shot("console-mistake.png", "/work", visible(named("editor")), mistaken, chromedp.Sleep(time.Second))
	drawn := act(chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		evaluate[string](page, `document.querySelector("[data-testid='as-both']").click(); ""`)
		page.write("CREATE JOB strong_finishes WITH\nstrong AS (SELECT * FROM reads WHERE mat = 'km-05' AND rssi > -75),\ncounted AS (SELECT w.opens AS opened, COUNT(*) AS runners FROM strong GROUP BY w WINDOW w AS (TUMBLING 5 MINUTES))\nROUTE strong TO call_topic\nROUTE counted WHERE runners > 40 TO crowd_alerts ELSE TO missing_topic;")
		pick(page, "strong")
		evaluate[string](page, `document.querySelector("[data-testid='as-drawing']").click(); ""`)
		return nil
	}))
	shot("console-canvas.png", "/work", visible(named("editor")), drawn, visible(named("preview-counts")))
	shot("console-board.png", "/boards/race_control", visible(named("legend")))
	shot("console-lateness.png", "/streams/reads/lateness", visible(named("proposals")))

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
		picture(t, into, name, b2)
	}
	terminal("cli-jobs.png", "job list", "topic list", "job show crowding")
	clean := writeFile(t, dir, "clean.sql", newClean)
	terminal("cli-versions.png", "test ../demo/tests/crowding ../demo/tests/clean_reads", "apply --dry-run "+clean, "job compare clean_reads "+clean, "job state clean_reads")
	terminal("cli-road.png", "topic read medical-calls --last 2", "propose medical-calls", "job aside clean_reads --kind late --limit 2", "job became clean_reads mat-reads 0:100")
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
