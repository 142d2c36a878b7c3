package e2e

import (
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"fiume/internal/api"

	"github.com/chromedp/chromedp"
)

// BenchmarkLiveTable lets 5,000 rows a second come to a live query in the console, and measures how the page does: the time
// from a click to what it changes, and the longest time without a frame. The page must say that it shows some rows only.
func BenchmarkLiveTable(b *testing.B) {
	p := serve(b, b.TempDir())
	p.apply(declareReads)
	x := browse(b, p.base)
	const rate, every = 5000, 100 * time.Millisecond
	var written atomic.Int64
	stop := make(chan struct{})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		tick := time.NewTicker(every)
		defer tick.Stop()
		for n := 0; ; {
			select {
			case <-stop:
				return
			case <-tick.C:
			}
			ms := make([]api.MessageRequest, rate*int(every)/int(time.Second))
			for i := range ms {
				n++
				key := fmt.Sprintf("P%05d", n%20000)
				ms[i] = api.MessageRequest{Key: &key, Value: fmt.Sprintf(`{"chip":"%s","mat":"km-%02d","read_at":"2026-05-17T09:%02d:%02d.%03dZ","seq":%d,"rssi":-%d.5,"device":{"serial":"PL-0116","battery":0.5}}`, key, n%40, n/60000%60, n/1000%60, n%1000, n, 40+n%50)}
			}
			if err := p.Write(b.Context(), "mat-reads", ms); err != nil {
				return
			}
			written.Add(int64(len(ms)))
		}
	}()
	x.open("/work")
	x.write("SELECT chip, mat, read_at, rssi, device FROM reads")
	x.shows("no errors")
	x.do("run", press("run"))
	x.shows("Rows, as they come", "rows come faster than they can be looked at: some are shown")
	for b.Loop() {
		before := written.Load()
		began := time.Now()
		evaluate[bool](x, `(() => { window.gaps = []; let last = performance.now(); window.watching = true;
			const step = (t) => { window.gaps.push(t - last); last = t; if (window.watching) requestAnimationFrame(step); };
			requestAnimationFrame(step); return true; })()`)
		var clicks []float64
		for range 10 {
			time.Sleep(500 * time.Millisecond)
			ms, err := chromedp.Run(x.ctx, chromedp.Evaluate[float64](`new Promise((done) => { const from = performance.now(); const button = document.querySelector("[data-testid='pause']");
				const was = button.textContent; button.click(); const look = () => document.querySelector("[data-testid='pause']").textContent !== was ? done(performance.now() - from) : requestAnimationFrame(look); look(); })`, chromedp.EvalAwaitPromise))
			if err != nil {
				b.Fatal(err)
			}
			clicks = append(clicks, ms)
		}
		evaluate[bool](x, "(window.watching = false) || true")
		worst := evaluate[float64](x, "Math.max(...window.gaps)")
		frames := evaluate[float64](x, "window.gaps.length")
		took := time.Since(began).Seconds()
		slowest := 0.0
		for _, c := range clicks {
			slowest = max(slowest, c)
		}
		b.ReportMetric(slowest, "ms/slowest-click")
		b.ReportMetric(worst, "ms/longest-gap")
		b.ReportMetric(frames/took, "frames/s")
		b.ReportMetric(float64(written.Load()-before)/took, "rows/s")
	}
	close(stop)
	<-ended
	x.clean()
	p.stop()
}

// BenchmarkFirstLoad is the time from asking for the console to its first list standing there, in a fresh page.
func BenchmarkFirstLoad(b *testing.B) {
	p := serve(b, b.TempDir())
	x := browse(b, p.base)
	total := 0.0
	n := 0
	for b.Loop() {
		x.do("leave", chromedp.Navigate("about:blank"))
		x.open("/?fresh=" + fmt.Sprint(n))
		x.shows("No jobs yet")
		total += evaluate[float64](x, "performance.getEntriesByType('paint').find((e) => e.name === 'first-contentful-paint').startTime")
		n++
	}
	b.ReportMetric(total/float64(n), "ms/first-content")
	p.stop()
}
