package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestFirstJob: whoever comes to an empty service makes rows, sees them, has a job run over them and finds it in the list, where he filters; and finds everything by the search, with
// the keyboard alone.
func TestFirstJob(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	b := browse(t, p.base)
	b.open("/")
	b.shows("No jobs yet", "1. Rows to read")
	b.accessible("the first visit")
	b.do("declare", press("welcome-rows"))
	b.shows("Open it in the editor")
	b.do("see them", click("//a[.='Open it in the editor']"), visible(named("editor")))
	eventually(t, "the query is there", func() bool { return strings.Contains(b.written(), "SELECT * FROM steps") })
	b.open("/")
	b.do("the job", press("welcome-job"))
	b.shows("running", "1 of 1 running")
	eventually(t, "rows come out", func() bool { j, err := p.Job(t.Context(), "running"); return err == nil && j.Out > 0 })
	eventually(t, "a line is drawn", func() bool {
		return evaluate[bool](b, `document.querySelector("[data-testid='jobs'] svg polyline") !== null`)
	})
	b.accessible("the list of jobs")
	b.fill(named("filter"), "walking")
	b.shows("No job is like that.")
	b.fill(named("filter"), "RUN")
	evaluate[string](b, choose("only", "trouble"))
	b.shows("No job is like that.")
	evaluate[string](b, choose("only", "running"))
	b.shows("1 of 1 running")
	eventually(t, "it is listed", func() bool { return evaluate[bool](b, `document.querySelector("[data-testid='jobs']") !== null`) })
	// The search finds what there is.
	b.do("search", chromedp.KeyEvent("k", chromedp.KeyModifiers(2)), visible(named("search-text")))
	b.accessible("the search")
	b.fill(named("search-text"), "dist sink")
	eventually(t, "the sink alone is found", func() bool {
		return evaluate[string](b, `[...document.querySelectorAll("[data-testid='found'] [role='option']")].map((o) => o.innerText.replace(/\s+/g, " ").trim().slice(0, 14)).join()`) == "sink distances"
	})
	b.do("go there", chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.Enter))
	eventually(t, "its page is open", func() bool { return evaluate[string](b, "location.pathname") == "/declared/distances" })
	b.do("search again", press("search"), visible(named("search-text")))
	b.fill(named("search-text"), "nothing like this")
	b.shows("Nothing is called like that.")
	b.do("close", chromedp.KeyEvent(kb.Escape))
	b.clean()
}
