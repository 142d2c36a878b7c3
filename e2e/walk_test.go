package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestFirstVisit is somebody's first hour: an empty service, a topic of one's own with CSV in it, and from there, without a word of
// the manual, to a job that runs with two sinks.
func TestFirstVisit(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	b := browse(t, p.base)
	n := 0
	shot := func() {
		if dir := os.Getenv("WALK"); dir != "" {
			n++
			png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
			if err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(fmt.Sprintf("%s/%02d.png", dir, n), png, 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	b.open("/")
	b.shows("No jobs yet")
	shot()
	b.do("topics", click("//nav//a[.='Topics']"))
	b.shows("No topics yet")
	b.fill("main form input[placeholder='name']", "cups")
	b.do("make it", click("//button[.='Create']"))
	b.do("open it", click("//a[.='cups']"))
	b.shows("The topic is empty")
	var lines strings.Builder
	for i := range 120 {
		fmt.Fprintf(&lines, "km-%02d,%s,%d,2026-05-17 09:%02d:%02d\n", 5*(i%4+1), []string{"water", "tea", "broth"}[i%3], 1+i*7%5, i/2%60, i%2*30)
	}
	p.fiume(lines.String(), "topic", "write", "cups").want(t, 0, "120")
	b.shows("km-05,water")
	shot()
	b.do("declare", press("declare"), visible(named("proposal")))
	b.shows("DECLARE STREAM cups")
	shot()
	b.do("take it", press("take"), visible(named("editor")))
	b.shows("no errors")
	shot()
	b.do("deploy", visible(named("deploy")+":not([disabled])"), press("deploy"), visible(named("would")))
	b.shows("would be declared")
	shot()
	b.do("do it", click("//*[@role='dialog']//button[@data-testid='apply']"), visible(named("deployed")))
	shot()
	b.do("close", click("//button[.='Close']"), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")))
	b.do("patterns", press("patterns"))
	b.shows("Route by condition", "GROUP BY column2, w")
	evaluate[string](b, choose("pattern-key", "column1"))
	b.shows("GROUP BY column1, w")
	b.accessible("what a text begins from")
	shot()
	b.do("two sinks", click("//button[.//span[.='Route by condition']]"), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")))
	b.shows("no errors")
	shot()
	b.do("try", visible(named("try")+":not([disabled])"), press("try"), visible(named("tried")))
	b.shows("What would stand in chosen_rows", "What would stand in other_rows", "Nothing was kept")
	shot()
	b.do("deploy", press("deploy"), visible(named("would")))
	b.shows("the text makes it")
	if strings.Contains(b.text(), "cannot be used") {
		t.Error("what the text makes itself is said to be missing")
	}
	evaluate[string](b, choose("begin", "BEGINNING"))
	shot()
	b.do("do it", click("//*[@role='dialog']//button[@data-testid='apply']"), visible(named("deployed")))
	b.do("to the job", click("//*[@data-testid='deployed']//a[.='chosen_and_others']"))
	b.shows("chosen_and_others", "running")
	eventually(t, "rows in both sinks", func() bool {
		return len(p.all("chosen_rows")) > 0 && len(p.all("chosen_rows"))+len(p.all("other_rows")) == 120
	})
	shot()
	b.clean()
	p.stop()
}
