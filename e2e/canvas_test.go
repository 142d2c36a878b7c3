package e2e

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

var pictures = flag.String("pictures", "", "write the pictures of the manual into this directory")

// TestCanvas: somebody who writes no SQL goes from an empty service to a running job with two sinks and a board, by drawing and answering alone.
func TestCanvas(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	b := browse(t, p.base)
	look := func(name string) {
		if *pictures != "" {
			time.Sleep(time.Second)
			x, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
			if err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(*pictures, name), x, 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	began := time.Now()
	b.open("/")
	b.do("declare", press("welcome-rows"))
	b.shows("or draw one of your own")
	b.do("draw", press("welcome-draw"), visible(named("canvas-empty")))
	b.shows("Where do the rows come from?", "steps")
	b.accessible("the empty canvas")
	b.do("read", press("read-steps"), visible(named("box-steps")))
	b.shows("metres", "DOUBLE")
	eventually(t, "its rows are shown", func() bool { return rowsOf(b, "preview") > 0 })
	look("drawing-read.png")

	then := func(what string) {
		t.Helper()
		b.do("then", press("add-step"), visible(named("do-"+what)), press("do-"+what))
	}
	tell := func(testid, text string) { // as typed, and taken with Enter
		t.Helper()
		b.do("go to "+testid, visible(named(testid)))
		eventually(t, testid+" has the focus", func() bool { return b.focus(named(testid)) })
		b.fill(named(testid), text)
		b.do("take it", chromedp.KeyEvent(kb.Enter))
	}
	then("keep")
	b.shows("Keeps rows of which all this holds", "is there")
	evaluate[string](b, choose("condition-column", "metres"))
	eventually(t, "numbers are compared", func() bool {
		return evaluate[bool](b, `[...document.querySelectorAll("[data-testid='condition-is'] option")].some((o) => o.value === ">")`)
	})
	evaluate[string](b, choose("condition-is", ">"))
	tell("condition-value", "2.5")
	b.shows("keeps metres > 2.5")
	eventually(t, "rows are kept out, and counted", func() bool { return strings.Contains(b.text(), "kept out by conditions") })
	b.accessible("a step on the canvas")
	look("drawing-keep.png")
	then("windows")
	b.shows("tumbling windows of 1 minute", "One group for each")
	tell("window-length", "5")
	b.shows("tumbling windows of 5 minute")
	evaluate[string](b, choose("more-measure", "SUM metres"))
	b.shows("grouped by runner")
	eventually(t, "it is written", func() bool { return strings.Contains(drawnText(b), "SUM(metres) AS sum_metres") })
	tell("window-length", "1")
	b.shows("tumbling windows of 1 minute")
	look("drawing-windows.png")

	// Two sinks by a condition.
	b.do("send", press("send-to"), visible(named("sink-name")))
	b.fill(named("sink-name"), "far_ones")
	b.fill(named("new-job-name"), "striding")
	b.do("only some", press("some-rows"), visible(named("condition-column")))
	evaluate[string](b, fmt.Sprintf(`(() => { const d = document.querySelector("[role=dialog] %s"); d.setAttribute("data-testid", "dialog-column"); return ""; })()`, named("condition-column")))
	evaluate[string](b, choose("dialog-column", "sum_metres"))
	eventually(t, "numbers are compared", func() bool {
		return evaluate[bool](b, `[...document.querySelectorAll("[role=dialog] [data-testid='condition-is'] option")].some((o) => o.value === ">=")`)
	})
	evaluate[string](b, `(() => { document.querySelector("[role=dialog] [data-testid='condition-is']").setAttribute("data-testid", "dialog-is"); return ""; })()`)
	evaluate[string](b, choose("dialog-is", ">="))
	look("drawing-send.png")
	b.do("value", visible("[role=dialog] [data-testid='condition-value']"))
	eventually(t, "the value has the focus", func() bool { return b.focus("[role=dialog] [data-testid='condition-value']") })
	b.fill("[role=dialog] [data-testid='condition-value']", "10")
	b.do("take it", chromedp.KeyEvent(kb.Enter))
	b.accessible("where rows go")
	b.do("send them", press("send"), visible(named("box-far_ones")))
	pick(b, "counted")
	b.do("send the rest", press("send-to"), visible(named("to-own")), press("to-own"))
	b.fill(named("sink-name"), "others")
	b.do("send them", press("send"), visible(named("box-others")))
	b.shows("all others", "sum_metres >= 10")
	pick(b, "others")
	b.do("a sink", visible(named("sink-columns")))
	b.shows("What would be written", "sum_metres")
	b.do("as text, too", press("as-both"))
	eventually(t, "the text is there", func() bool {
		text := b.written()
		return strings.Contains(text, "CREATE JOB striding") && strings.Contains(text, "ROUTE counted") && strings.Contains(text, "TO far_ones") && strings.Contains(text, "ELSE TO others")
	})
	look("drawing-sinks.png")

	b.do("deploy", visible(named("deploy")+":enabled"), press("deploy"), visible(named("would")))
	b.shows("would be created")
	b.do("do it", click("//*[@role='dialog']//button[@data-testid='apply']"), visible(named("deployed")))
	b.do("to the job", click("//*[@data-testid='deployed']//a[.='striding']"))
	b.shows("striding", "running")
	eventually(t, "the job is at work", func() bool { j, err := p.Job(t.Context(), "striding"); return err == nil && j.In > 0 })

	b.open("/boards")
	b.do("make a board", press("new-board"), visible(named("board-title")))
	b.fill(named("board-title"), "Runners")
	b.do("begin", press("begin-board"))
	b.shows("being changed")
	b.do("add a panel", press("add-panel"), visible(named("panel-kind")))
	evaluate[string](b, choose("panel-kind", "bars"))
	b.do("a question", visible(named("ask-from")))
	evaluate[string](b, choose("ask-from", "steps"))
	b.do("a question", visible(named("ask-by")))
	evaluate[string](b, choose("ask-by", "runner"))
	b.do("done", press("panel-done"))
	b.shows("Rows of steps by runner")
	b.do("keep", press("keep-board"))
	eventually(t, "the board is kept", func() bool { return evaluate[string](b, "location.pathname") == "/boards/runners" })
	b.shows("Rows of steps by runner", "R1")
	t.Logf("the whole way took %s", time.Since(began).Round(time.Second))
	b.clean()
}

// TestCanvasAndText: what is typed is drawn and what is drawn is written, with its comments; steps are connected, renamed, copied, dropped and taken back by the
// pointer and by the keyboard; what cannot be is said, and changes nothing.
func TestCanvasAndText(t *testing.T) {
	t.Parallel()
	p := boardWorld(t)
	p.apply(`CREATE TOPIC strong; CREATE TOPIC weak; DECLARE SINK strong TO TOPIC 'strong'; DECLARE SINK weak TO TOPIC 'weak';`)
	b := browse(t, p.base)
	b.open("/work?as=both")
	b.do("the canvas", visible(named("canvas")))
	b.write(`-- who is strong
CREATE JOB signals WITH near AS ( -- the first mats
  SELECT * FROM reads WHERE mat IN ('M0', 'M1') AND rssi > -70 -- in dBm
), counted AS (SELECT mat, w.opens AS opened, COUNT(*) AS n FROM near GROUP BY mat, w WINDOW w AS (TUMBLING 2 MINUTES))
ROUTE counted WHERE n > 2 TO strong ELSE TO weak;`)
	b.do("it is drawn", visible(named("box-near")), visible(named("box-counted")), visible(named("box-strong")), visible(named("box-weak")), visible(named("box-reads")))
	has := func(what string, parts ...string) {
		t.Helper()
		eventually(t, what, func() bool {
			text := drawnText(b)
			for _, part := range parts {
				if !strings.Contains(text, part) {
					return false
				}
			}
			return true
		})
	}
	key := func(k string, mods chromedp.Modifier) act { return chromedp.KeyEvent(k, chromedp.KeyModifiers(mods)) }
	pick(b, "near")
	b.do("its form", visible(named("step-name")))
	b.shows("Keeps rows of which all this holds", "mat IN ('M0', 'M1')")
	eventually(t, "its rows are shown, and what was left out", func() bool {
		return rowsOf(b, "preview") > 0 && strings.Contains(b.text(), "kept out by conditions")
	})
	b.do("what comes in", press("rows-in"))
	b.shows("the first rows of reads")
	b.accessible("a drawing beside its text")

	tell := func(testid, text string) {
		t.Helper()
		b.do("go to "+testid, visible(named(testid)))
		eventually(t, testid+" has the focus", func() bool { return b.focus(named(testid)) })
		b.fill(named(testid), text)
		b.do("take it", chromedp.KeyEvent(kb.Enter))
	}
	tell("condition-value", "-65")
	has("the condition is changed, and the comments are there", "rssi > -65", "-- in dBm", "-- the first mats", "-- who is strong", "mat IN ('M0', 'M1')")
	tell("condition", "mat = 'M0' OR (mat")
	b.shows("the condition 1: in")
	has("what is wrong changes nothing", "mat IN ('M0', 'M1')", "rssi > -65")
	tell("condition", "mat = 'M0' OR mat = 'M2'")
	has("two that hold together stay together", "(mat = 'M0' OR mat = 'M2')", "AND rssi > -65")
	tell("step-name", "close")
	has("it is renamed where it is read, too", "close AS (", "FROM close near")
	b.do("the box has the name", visible(named("box-close")))
	focused := func(box string) {
		t.Helper()
		eventually(t, box+" has the focus", func() bool { return b.focus(fmt.Sprintf(".react-flow__node[data-id='%s']", box)) })
	}
	focused("step close")
	b.do("undo by the keyboard", key("z", 2))
	has("taken back", "near AS (", "FROM near\n")
	b.do("and done again", press("redo"))
	has("renamed", "close AS (")

	// A step that is read cannot be dropped; a sink can.
	focused("step close")
	b.do("choose by the keyboard", key(kb.Enter, 0))
	b.do("drop", key(kb.Delete, 0))
	b.shows("close cannot be dropped: counted reads it.")
	pick(b, "weak")
	b.do("a sink", visible(named("test-sink")), press("test-sink"))
	b.shows("✓")
	b.do("drop it", press("drop-box"))
	eventually(t, "it is gone", func() bool { return !strings.Contains(drawnText(b), "weak") })
	has("the other stays", "TO strong")

	// The rows of a step go where a line is drawn to.
	b.do("undo", press("undo"))
	has("both sinks", "ELSE TO weak")
	focused("step counted")
	evaluate[bool](b, `(() => { const d = new DataTransfer(); d.setData('text/plain', "many AS (SELECT mat, n FROM counted WHERE n > 3)");
		return document.querySelector("[data-testid='canvas'] .react-flow__node[data-id='step counted']").dispatchEvent(new ClipboardEvent('paste', {clipboardData: d, bubbles: true, cancelable: true})); })()`)
	b.do("it is there", visible(named("box-many")))
	has("it is written", "many AS (")
	drag := func(from, to string) {
		t.Helper()
		places := func() []float64 {
			return evaluate[[]float64](b, fmt.Sprintf(`["[data-id='%s'] .react-flow__handle.source", "[data-id='%s'] .react-flow__handle.target"].flatMap((css) => {
				const r = document.querySelector(css).getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]; })`, from, to))
		}
		var at []float64
		eventually(t, "the boxes stand still", func() bool {
			before := places()
			time.Sleep(300 * time.Millisecond)
			at = places()
			return slices.Equal(before, at)
		})
		b.do("drag", chromedp.MouseEvent(chromedp.MousePressed, at[0], at[1], chromedp.ButtonLeft), chromedp.MouseEvent(chromedp.MouseMoved, (at[0]+at[2])/2, (at[1]+at[3])/2, chromedp.ButtonLeft),
			chromedp.MouseEvent(chromedp.MouseMoved, at[2], at[3], chromedp.ButtonLeft), chromedp.MouseEvent(chromedp.MouseReleased, at[2], at[3], chromedp.ButtonLeft))
	}
	eventually(t, "a way was drawn", func() bool { // where the machine is slow a box may move while it is dragged from
		drag("step many", "sink strong")
		for range 50 {
			if strings.Contains(drawnText(b), "ROUTE many TO strong") {
				return true
			}
			time.Sleep(100 * time.Millisecond)
		}
		return false
	})

	// What cannot be drawn is said, and the drawing stays until it can.
	b.write("SELECT FROM")
	b.shows("As it stands in the text it cannot be drawn")
	b.write("SELECT mat, rssi FROM reads WHERE rssi < -60;")
	b.shows("result")
	eventually(t, "it can be", func() bool { return !strings.Contains(b.text(), "it cannot be drawn") })
	b.do("only look", press("only-look"))
	b.shows("Change it")
	if evaluate[bool](b, `document.querySelector("[data-testid='add-step']") !== null`) {
		t.Error("what is only looked at can be changed")
	}
	b.do("narrow", chromedp.EmulateViewport(390, 800))
	eventually(t, "nothing is wider than the page", func() bool {
		return evaluate[bool](b, "document.documentElement.scrollWidth <= innerWidth")
	})
	b.forgive("/api/draw") // what is wrong is refused
	b.clean()
}

// pick chooses a box of the canvas. It may move while the canvas makes room: then it is pressed again.
func pick(b *tab, name string) {
	b.t.Helper()
	b.do("the box "+name, visible(named("box-"+name)))
	eventually(b.t, name+" is chosen", func() bool {
		if evaluate[bool](b, fmt.Sprintf(`document.querySelector("%s").className.includes("ring-2")`, named("box-"+name))) {
			return true
		}
		b.do("choose "+name, click("//*[@data-testid='box-"+name+"']"))
		return false
	})
}

// rowsOf counts the rows of a table on the page.
func rowsOf(b *tab, testid string) int {
	return evaluate[int](b, fmt.Sprintf(`document.querySelectorAll("[data-testid='%s'] tbody tr").length`, testid))
}

// drawnText is the text of what is drawn, as it is kept.
func drawnText(b *tab) string { return evaluate[string](b, `localStorage.getItem("fiume.draft")`) }
