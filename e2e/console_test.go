package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"fiume/demo"
	"fiume/internal/core/plan"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestConsole goes through the console as a person would, with the mouse and with the keyboard, from the first start on.
func TestConsole(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	b := browse(t, p.base)
	b.open("/")
	b.shows("No jobs yet", "fiume apply FILE.sql")
	b.do("topics", click("//nav//a[.='Topics']"))
	b.shows("No topics yet")
	b.do("declared", click("//nav//a[.='Declared']"))
	b.shows("Nothing is declared yet", "No secrets yet")
	b.fill(named("secret-name"), "race_db")
	b.fill(named("secret-value"), "not to be seen")
	b.fill(named("secret-for"), "race@127.0.0.1:3306")
	b.do("set it", press("set-secret"))
	b.shows("race_db", "race@127.0.0.1:3306", "Forget")
	if text := evaluate[string](b, "document.documentElement.outerHTML"); strings.Contains(text, "not to be seen") {
		t.Error("the page shows a secret")
	}
	b.do("forget it", click("//button[starts-with(., 'Forget')]"), click("//button[.='Forget it']"))
	b.shows("No secrets yet")

	p.apply(declareReads + `CREATE TOPIC strong (PARTITIONS 1);
		DECLARE SINK strong_topic TO TOPIC 'strong';
		CREATE JOB strong_reads AS SELECT chip, mat, COUNT(*) AS n FROM reads WHERE rssi > -80 GROUP BY chip, mat, w WINDOW w AS (TUMBLING 10 SECONDS) ROUTE TO strong_topic;`)
	day := demo.Day{Seed: 2, Runners: 80}.Messages()
	p.write(day)
	if r := p.fiume("oops\n", "topic", "write", "mat-reads"); r.code != 0 {
		t.Fatal(r.err)
	}
	b.shows("reads", "strong_topic") // lists follow by themselves
	b.do("a stream", click("//a[.='reads']"))
	b.shows("read_at", "used by the job strong_reads", "Newest rows", "P00", "The newest messages differ") // nothing comes above the link any more
	b.do("its topic", click("//a[starts-with(., 'Raw messages of')]"))
	b.shows("Partitions", `"chip":"P0`)
	evaluate[string](b, choose("as", "hex"))
	b.shows("7b 22 63 68 69 70 22") // {"chip"
	evaluate[string](b, choose("how", "live"))
	b.shows("Waiting for messages")
	p.send("mat-reads", `{"chip":"P00077","mat":"live"}`)
	b.shows("P00077")
	b.do("write a message", press("write"), visible(named("value")))
	b.fill(named("value"), `{"chip":"P00078","mat":"by hand"}`)
	b.do("send it", press("send"))
	eventually(t, "the message in the topic", func() bool {
		return strings.Contains(strings.Join(p.all("mat-reads"), "\n"), "by hand")
	})

	b.open("/streams/reads/lateness")
	b.shows("How late the rows of reads are", "The declared delay of", "Delays to choose from", "mat-reads/0")
	b.do("jobs", click("//nav//a[.='Jobs']"))
	b.shows("strong_reads", "running")
	b.do("job", click("//a[.='strong_reads']"))
	b.shows("What flows", "no. ")
	b.do("steps", jobTab("Steps"))
	b.shows("Steps and ledger", "aggregates", "tumbling 10 SECONDS by chip, mat", "open window", "mat-reads/0")
	b.do("windows", jobTab("Windows"))
	b.shows("Windows of strong_reads", "takes rows", "watermark", "mat-reads/0")
	b.do("newest", jobTab("Newest rows"))
	b.shows("a sample of the newest rows", "P000", "rssi")
	p.write(day[:50]) // counts change while a tab is open: it stays open
	time.Sleep(2500 * time.Millisecond)
	b.shows("a sample of the newest rows")
	b.do("rejected", jobTab("Rejected"))
	b.shows("a message must be one JSON object", "mat-reads/", "oops")
	if r := p.fiume("oops again\n", "topic", "write", "mat-reads"); r.code != 0 {
		t.Fatal(r.err)
	}
	b.shows("oops again", "Rejected rows")
	b.do("open it", click("//button[@data-testid='open-row'][../..//*[contains(., 'oops again')]]"), visible(named("mend")))
	b.fill(named("mend"), `{"chip":"P00079","mat":"mended","read_at":"2026-05-17T09:00:00Z","rssi":-50}`)
	b.shows("Mended.")
	b.do("send it again", press("send-again"))
	b.shows("sent again by console")
	b.do("no joins", jobTab("Joins and tables"))
	b.shows("The job joins nothing and reads no table.")
	b.do("definition", jobTab("Definition"))
	b.shows("CREATE JOB strong_reads", "decodes chip, mat, read_at, rssi")
	b.do("stop", press("stop"))
	b.shows("stopped")
	b.do("start", press("start"))
	b.shows("running")

	// A job that joins shows what it holds.
	p.apply(`CREATE TOPIC places (PARTITIONS 1); CREATE TOPIC pairs (PARTITIONS 1);
		DECLARE TABLE places (mat VARCHAR PRIMARY KEY, place VARCHAR) FROM TOPIC 'places';
		DECLARE SINK pair_topic TO TOPIC 'pairs';
		CREATE JOB pairs AS SELECT a.chip, p.place, b.mat AS next FROM reads a JOIN places p ON p.mat = a.mat
			LEFT JOIN reads b ON b.chip = a.chip AND b.mat <> a.mat AND b.read_at WITHIN 1 HOUR AFTER a.read_at ROUTE TO pair_topic;`)
	if r := p.fiume(`{"mat":"start","place":"Porta Nuova"}`+"\n", "topic", "write", "places"); r.code != 0 {
		t.Fatal(r.err)
	}
	b.do("jobs again", click("//nav//a[.='Jobs']"))
	b.do("pairs", click("//a[.='pairs']"), jobTab("Joins and tables"))
	b.shows("Table places", "the latest row of each mat", "places as it is when a row comes", "b from a to 1 HOUR after it", "a by chip", "Rows held", "Rows given without a match")
	if err := p.DropJob(t.Context(), "pairs"); err != nil {
		t.Fatal(err)
	}
	b.do("leave the job", click("//nav//a[.='Write & try']"))
	b.clean()

	b.write("SELECT chip, mat, rssi FROM reads WHERE mat = 'finish' LIMIT 5")
	b.shows("no errors")
	evaluate[string](b, choose("begin", "BEGINNING"))
	b.do("run", press("run"))
	b.shows("All rows have come", "5 rows", "finish", "chip varchar")
	b.write("SELECT chp FROM reads")
	b.shows(`unknown column "chp" in reads`, `did you mean "chip"?`)
	b.write("SELECT chip, mat FROM reads")
	b.shows("no errors")
	evaluate[string](b, choose("begin", "NOW"))
	editor := chromedp.CSS(named("editor"))
	b.do("run with the keyboard", chromedp.Focus(editor), chromedp.KeyEvent(kb.Enter, chromedp.KeyModifiers(2)))
	b.shows("Waiting for rows")
	p.write(day[:200])
	b.shows("Rows, as they come", "P000")
	b.do("pause", press("pause"))
	b.shows("Paused; rows go on coming")
	b.do("go on", click("//button[.='Go on']"))
	b.shows("Rows, as they come")
	b.do("stop with the keyboard", chromedp.Focus(editor), chromedp.KeyEvent(kb.Escape))
	b.shows("Stopped")
	b.write("SELECT chip, mat FROM reads WHERE ")
	b.do("type", chromedp.Focus(editor), chromedp.KeyEvent(kb.End, chromedp.KeyModifiers(2)), chromedp.SendKeys(editor, "upp"))
	b.shows("upper(s VARCHAR) → VARCHAR", "The text in capital letters.")
	time.Sleep(200 * time.Millisecond) // a list that has only just opened does not take the key, so that nobody takes a word by mistake
	b.do("complete", chromedp.KeyEvent(kb.Tab))
	if s := b.written(); s != "SELECT chip, mat FROM reads WHERE upper(" {
		t.Errorf("completed to %q", s)
	}
	b.do("reload", chromedp.Reload(), visible(named("editor")))
	if s := b.written(); s != "SELECT chip, mat FROM reads WHERE upper(" {
		t.Errorf("after a reload the text is %q", s)
	}

	b.do("drop", click("//nav//a[.='Jobs']"), click("//a[.='strong_reads']"), press("drop"))
	b.shows("Drop the job strong_reads?", "What it has written stays")
	b.do("confirm", click("//button[.='Drop it']"))
	b.shows("No jobs yet")
	b.do("activity", click("//nav//a[.='Activity']"))
	b.shows("dropped", "strong_reads", "console")
	p.stop()
}

// watching starts the demo and waits until there is something to look at.
func watching(t *testing.T, late int64) *process {
	t.Helper()
	return watchingIn(t, t.TempDir(), late)
}

// watchingIn is watching in a directory.
func watchingIn(t *testing.T, dir string, late int64) *process {
	t.Helper()
	runners, speed := "3000", "600"
	if late > 1 { // for pictures
		runners, speed = "20000", "240"
	}
	p := start(t, "demo", "--dir", dir, "--listen", "127.0.0.1:0", "--runners", runners, "--speed", speed)
	eventually(t, "rows in the crowd table", func() bool {
		j, err := p.Job(t.Context(), "crowding")
		clean, err2 := p.Job(t.Context(), "clean_reads")
		return err == nil && err2 == nil && j.Out > 20 && j.Rejects > 2 && clean.Late >= late
	})
	eventually(t, "calls of several severities", func() bool {
		return len(lines(p.fiume("", "topic", "read", "medical-calls", "--last", "5").out)) >= 3
	})
	return p
}

// TestRoad goes the whole road of an engineer's day in the browser, on the demo's data: look, declare, write with a
// mistake and its correction, try on a sample, deploy, watch, open a row that was set aside, and ask why a result is there.
func TestRoad(t *testing.T) {
	t.Parallel()
	p := watching(t, 1)
	b := browse(t, p.base)

	b.open("/topics") // look
	b.shows("mat-reads", "medical-calls", "wave-starts")
	b.do("a topic", click("//a[.='medical-calls']"))
	b.shows("Partitions", "call_id", "severity")
	b.do("declare", press("declare"), visible(named("proposal"))) // declare
	b.shows("DECLARE STREAM medical_calls", "called_at", "Event time called_at")
	b.do("take it", press("take"), visible(named("editor")))
	if s := b.written(); !strings.Contains(s, "DECLARE STREAM medical_calls") {
		t.Fatalf("the editor has\n%s", s)
	}

	declared := b.declaration()
	text := func(column string) string { // write
		return strings.Replace(declared, "DECLARE STREAM medical_calls", "DECLARE STREAM urgent_calls", 1) + `
CREATE TOPIC urgent (PARTITIONS 1);
DECLARE SINK urgent TO TOPIC 'urgent';
CREATE JOB urgent_by_severity AS
  SELECT severity, w.opens AS opened, COUNT(*) AS calls
  FROM urgent_calls
  WHERE ` + column + ` >= 1
  GROUP BY severity, w
  WINDOW w AS (TUMBLING 10 MINUTES)
  ROUTE TO urgent;`
	}
	mistaken, right := text("severty"), text("severity")
	b.write(mistaken)
	b.shows(`unknown column "severty"`, `did you mean "severity"?`, "1 error")
	if n := evaluate[int](b, "document.querySelectorAll('.cm-lintRange-error').length"); n != 1 {
		t.Errorf("%d places are marked as errors", n)
	}
	if !evaluate[bool](b, "document.querySelector(\"[data-testid='deploy']\").disabled") {
		t.Error("a text with an error can be deployed")
	}
	b.write(right)
	b.shows("no errors")
	b.do("plan", click("//button[@role='tab'][.='Plan']"), visible(named("graph")))
	b.shows("How it would run", "one entry for each severity and open window")

	b.do("samples", press("samples"), visible(named("record"))) // try
	b.shows("No samples yet")
	evaluate[string](b, choose("sample-topic", "medical-calls"))
	b.do("record", press("record"), visible(named("sample-list")))
	evaluate[string](b, choose("sample-of-urgent_calls", "1"))
	b.do("try", click("//button[.='Close']"), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")), press("try"), visible(named("tried")))
	b.shows("Nothing was kept", "What would stand in urgent", "severity", "opened")
	for _, shape := range []string{"series", "table"} { // nothing in it names bars
		b.do(shape, press("shape-"+shape), chromedp.Sleep(200*time.Millisecond))
	}
	b.do("steps", click("//button[@role='tab'][.='Steps']"))
	b.shows("urgent_calls scan", "counted in results")
	b.write(text("severity > 3 AND severity")) // compare it with another
	eventually(t, "it is tried", func() bool { // the button waits until the text is checked
		return evaluate[bool](b, fmt.Sprintf(`(() => { const e = document.querySelector("%s"); if (document.querySelector("%s")) return true; if (e && !e.disabled) e.click(); return false; })()`, named("try"), named("compare-with")))
	})
	eventually(t, "it is compared", func() bool {
		if evaluate[bool](b, fmt.Sprintf(`document.querySelector("%s") !== null`, named("compare-with"))) {
			evaluate[string](b, choose("compare-with", "0"))
		}
		return strings.Contains(b.text(), "What is other in urgent")
	})
	b.shows("What is other in urgent", "went", "What each step did, before and now", "filtered")
	b.accessible("two tries, compared")
	b.do("its text", press("its-text"))
	eventually(t, "the text of before is back", func() bool { return strings.Contains(b.written(), "WHERE severity >= 1") })
	b.do("try", visible(named("try")+":enabled"), press("try"))
	eventually(t, "the same rows", func() bool { // the page is drawn anew while it is tried
		if evaluate[bool](b, fmt.Sprintf(`document.querySelector("%s") !== null`, named("compare-with"))) {
			evaluate[string](b, choose("compare-with", "0"))
		}
		return strings.Contains(b.text(), "The rows are the same.")
	})
	if _, err := p.Job(t.Context(), "urgent_by_severity"); err == nil {
		t.Fatal("trying has made a job")
	}

	b.do("deploy", press("deploy"), visible(named("would"))) // deploy
	b.shows("would be created", "What it reads and writes", "urgent_calls")
	evaluate[string](b, choose("begin", "BEGINNING"))
	b.do("do it", click("//*[@role='dialog']//button[@data-testid='apply']"), visible(named("deployed")))
	b.do("to the job", click("//*[@data-testid='deployed']//a[.='urgent_by_severity']"))

	b.shows("urgent_by_severity", "running", "What flows") // watch
	b.do("graph", visible(named("graph")+" .react-flow__node"))
	b.shows("Over time")
	b.do("charts", visible(named("charts")))
	eventually(t, "rows of the new job", func() bool {
		j, err := p.Job(t.Context(), "urgent_by_severity")
		return err == nil && j.Out > 0
	})
	b.do("log", jobTab("Activity"))
	b.shows("created", "console")

	b.open("/") // the visit leads through all that
	b.do("begin", press("visit-begin"), visible(named("visit")))
	b.shows("1 of 7", "Race control")
	b.accessible("a stop of the visit")
	for i := range 6 {
		b.do("next", press("visit-next"))
		b.shows(fmt.Sprintf("%d of 7", i+2))
		eventually(t, "the page is there", func() bool {
			return !strings.Contains(b.text(), "There is no such page") && !evaluate[bool](b, `document.querySelector("[data-testid='visit-there']") !== null`)
		})
	}
	b.do("the last one", visible(named("canvas")), press("visit-end"))
	b.open("/")
	b.do("it can be taken again", visible(named("visit-again")))

	b.open("/jobs/clean_reads") // a row that was set aside
	b.do("late rows", jobTab("Late ("), visible(named("open-row")))
	b.do("one", press("open-row"), visible("[role=dialog]"), visible(named("mend")))
	b.shows("A row that was late", "Event time", "too late")
	b.do("what became of it", click("//summary[contains(., 'What became of it')]"), visible(named("became")))
	b.shows("the watermark of its partition just before it")
	b.do("close", click("//button[.='Close']"))

	b.do("newest rows", jobTab("Newest rows"), visible(named("why"))) // why
	b.do("why", press("why"), visible("[role=dialog]"), visible(named("why-answer")))
	b.shows("Confirmed: the job, run over these messages alone, gives just this row.")
	b.do("to the message", click("//*[@data-testid='why-answer']//a"))
	b.shows("Messages", "from an offset")
	b.clean()
	p.stop()
}

// declaration is the declaration that the editor was given.
func (b *tab) declaration() string {
	s := b.written()
	return s[strings.Index(s, "DECLARE STREAM"):]
}

// TestEveryone opens each page light and dark, wide and narrow: nothing serious stands in anyone's way, nothing is cut off,
// and no page logs an error.
func TestEveryone(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	played := watchingIn(t, dir, 1)
	played.stop()
	p := serve(t, dir) // what the day has left, without the day going on
	b := browse(t, p.base)
	tabs := []string{"Graph", "Steps", "Windows", "Joins and tables", "State and sinks", "Newest rows", "Late (", "Rejected (", "Definition", "Activity"}
	drawing := act(chromedp.Func(func(context.Context, *chromedp.Target) error {
		eventually(t, "something to read can be chosen, or is", func() bool {
			return evaluate[bool](b, `(() => { const e = document.querySelector("[data-testid='read-reads']") ?? document.querySelector("[data-testid='box-reads']"); e?.click(); return e !== null; })()`)
		})
		return nil
	}))
	pages := []struct {
		path  string
		ready []act
	}{
		{"/", []act{visible(named("jobs"))}},
		{"/jobs/nothing", []act{visible("[role=alert]")}},
		{"/topics", []act{visible(named("topics"))}},
		{"/topics/mat-reads", []act{visible(named("messages"))}},
		{"/topics/mat-reads", []act{visible(named("messages")), press("declare"), visible(named("proposal"))}},
		{"/declared", []act{visible(named("definitions"))}},
		{"/declared/reads", []act{visible(named("rows"))}},
		{"/streams/reads/lateness", []act{visible(named("proposals"))}},
		{"/work", []act{visible(named("editor"))}},
		{"/work", []act{visible(named("editor")), press("samples"), visible(named("record"))}},
		{"/work?as=drawing", []act{visible(named("canvas")), drawing, visible(named("preview"))}},
		{"/boards", []act{visible(named("new-board"))}},
		{"/boards/race_control", []act{visible(named("legend"))}},
		{"/boards/race_control?change", []act{visible(named("move"))}},
		{"/activity", []act{visible(named("activity"))}},
		{"/advice", []act{visible("h1")}},
		{"/alerts", []act{visible(named("alerts"))}},
		{"/people", []act{visible(named("nobody"))}},
		{"/no/such/page", nil},
	}
	for _, name := range tabs {
		pages = append(pages, struct {
			path  string
			ready []act
		}{"/jobs/splits", []act{visible("[role=tab]"), jobTab(name), chromedp.Sleep(500 * time.Millisecond)}})
	}
	scheme := func(name string) act {
		return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: name}}})
			return err
		})
	}
	for i, page := range pages {
		b.open(page.path)
		b.do(page.path, page.ready...)
		for _, name := range []string{"light", "dark"} {
			b.do(name, scheme(name), chromedp.Sleep(200*time.Millisecond)) // colours fade over
			b.accessible(fmt.Sprintf("%s %s (%d)", name, page.path, i))
		}
		b.do("narrow", scheme("light"), chromedp.EmulateViewport(390, 800), chromedp.Sleep(200*time.Millisecond))
		if over := evaluate[int](b, "document.documentElement.scrollWidth - window.innerWidth"); over > 1 {
			t.Errorf("%s (%d) is %d pixels wider than a narrow window", page.path, i, over)
		}
		b.do("wide", chromedp.EmulateViewport(1280, 800))
	}
	b.forgive("404") // the job that is not there
	b.clean()
	p.stop()
}

// TestFirstLoad: what a browser gets before the console stands is at most 300 kB, and it is gzipped.
func TestFirstLoad(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	b := browse(t, p.base)
	for _, path := range []string{"/", "/work", "/topics", "/jobs/none"} {
		b.do("a fresh browser", chromedp.Navigate("about:blank"))
		b.open(path)
		b.do("it stands", visible("nav a"))
		time.Sleep(time.Second)
		sizes := evaluate[string](b, `JSON.stringify(performance.getEntriesByType('resource').concat(performance.getEntriesByType('navigation')).filter((e) => !e.name.includes('/api/')).map((e) => ({name: e.name, size: e.encodedBodySize})))`)
		var files []struct {
			Name string
			Size int
		}
		if err := json.Unmarshal([]byte(sizes), &files); err != nil {
			t.Fatal(err)
		}
		total := 0
		for _, f := range files {
			total += f.Size
			if !strings.HasPrefix(f.Name, p.base) {
				t.Errorf("%s is asked for", f.Name)
			}
		}
		if len(files) < 3 || total > 300_000 || total < 50_000 {
			t.Errorf("%s: %d bytes in %d files: %+v", path, total, len(files), files)
		}
		t.Logf("%s: %d files, %d bytes", path, len(files), total)
	}
	p.stop()
}

// TestDeclareForm: the form of a declaration has the options that the kinds of places have, and its statement is one that is taken.
func TestDeclareForm(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.apply("CREATE TOPIC reads;")
	b := browse(t, p.base)
	b.open("/work")
	b.do("the form", press("declare-form"), visible(named("declare-address")))
	b.shows("a built-in topic of the service", "Put it into the text")
	b.fill(named("declare-name"), "Reads")
	b.fill(named("declare-address"), "reads")
	b.fill(named("declare-columns"), "chip VARCHAR, n BIGINT")
	evaluate[string](b, choose("declare-format", "csv"))
	b.fill(named("declare-delimiter"), ";")
	b.shows(`DECLARE STREAM "Reads" (chip VARCHAR, n BIGINT) FROM TOPIC 'reads' (FORMAT csv, DELIMITER ';');`)
	b.accessible("the form of a declaration")
	if png := os.Getenv("FIUME_PICTURE"); png != "" {
		x, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
		if err == nil {
			err = os.WriteFile(png, x, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	b.do("take it", press("declare-take"))
	eventually(t, "the statement in the editor", func() bool { return strings.Contains(b.written(), `DECLARE STREAM "Reads"`) })
	b.shows("no errors")
	b.do("again", press("declare-form"), visible(named("declare-role")))
	evaluate[string](b, choose("declare-role", "endpoint"))
	evaluate[string](b, choose("declare-place", "BROKER"))
	b.fill(named("declare-name"), "harbour")
	b.fill(named("declare-address"), "timing@127.0.0.1:9093")
	b.fill(named("declare-secret"), "harbour")
	evaluate[string](b, choose("declare-tls", "on"))
	b.do("take it", press("declare-take"))
	eventually(t, "both statements in the editor", func() bool {
		return strings.HasSuffix(strings.TrimSpace(b.written()), `DECLARE ENDPOINT harbour BROKER 'timing@127.0.0.1:9093' SECRET 'harbour' (TLS on);`) && strings.Contains(b.written(), `"Reads"`)
	})
	places, err := p.Places(t.Context())
	if i := slices.IndexFunc(places, func(x plan.PlaceEntry) bool { return x.Place == "BROKER" }); err != nil || len(places) < 7 || i < 0 || len(places[i].Options) < 10 {
		t.Errorf("%+v %v", places, err)
	}
	b.clean()
}
