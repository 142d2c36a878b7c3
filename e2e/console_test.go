package e2e

import (
	"strings"
	"testing"
	"time"

	"fiume/demo"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestConsole goes through the console as a person would, with the mouse and with the keyboard.
func TestConsole(t *testing.T) {
	p := serve(t, t.TempDir())
	ctx := browser(t)
	type step = chromedp.Action[chromedp.Void]
	do := func(what string, steps ...step) {
		t.Helper()
		if err := chromedp.Do(ctx, steps...); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
	text := func() string {
		t.Helper()
		s, err := chromedp.Run(ctx, chromedp.Evaluate[string]("document.body.innerText"))
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	shows := func(parts ...string) {
		t.Helper()
		var missing string
		for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
			missing = ""
			page := text()
			for _, part := range parts {
				if !strings.Contains(page, part) {
					missing = part
				}
			}
			if missing == "" {
				return
			}
		}
		t.Fatalf("the page lacks %q:\n%s", missing, text())
	}
	click := func(xpath string) step { return chromedp.Click(chromedp.Search(xpath)) }

	do("open", chromedp.Navigate(p.base))
	shows("No jobs yet", "fiume apply FILE.sql")
	do("streams", click("//a[.='Topics & streams']"))
	shows("No topics yet", "Nothing is declared yet")

	p.apply(declareReads + `CREATE TOPIC strong (PARTITIONS 1);
		DECLARE SINK strong_topic TO TOPIC 'strong';
		CREATE JOB strong_reads AS SELECT chip, mat, COUNT(*) AS n FROM reads WHERE rssi > -80 GROUP BY chip, mat, w WINDOW w AS (TUMBLING 10 SECONDS) ROUTE TO strong_topic;`)
	day := demo.Day{Seed: 2, Runners: 80}.Messages()
	p.write(day)
	if r := p.fiume("oops\n", "topic", "write", "mat-reads"); r.code != 0 {
		t.Fatal(r.err)
	}
	shows("mat-reads", "strong_topic") // lists follow by themselves
	do("messages", click("//button[.='mat-reads']"))
	shows("Newest messages of mat-reads", `"chip":"P0`)

	do("lateness", click("//button[contains(., 'reads')][contains(., 'stream')]"), click("//a[.='How late are its rows?']"))
	shows("How late the rows of reads are", "The declared delay of", "Delays to choose from", "mat-reads/0")

	do("jobs", click("//nav//a[.='Jobs']"))
	shows("strong_reads", "running")
	do("job", click("//a[.='strong_reads']"))
	shows("Steps and ledger", "aggregates", "tumbling 10 SECONDS by chip, mat", "open window", "mat-reads/0", "no. ")
	do("windows", click("//button[@role='tab'][.='Windows']"))
	shows("Windows of strong_reads", "takes rows", "watermark", "mat-reads/0")
	do("newest", click("//button[@role='tab'][.='Newest rows']"))
	shows("a sample of the newest rows", "P000", "rssi")
	p.write(day[:50]) // counts change while a tab is open: it stays open
	time.Sleep(2500 * time.Millisecond)
	shows("a sample of the newest rows")
	do("samples", click("//button[@role='tab'][starts-with(., 'Late and rejected')]"))
	shows("a message must be one JSON object", "mat-reads/", "oops")
	if r := p.fiume("oops again\n", "topic", "write", "mat-reads"); r.code != 0 {
		t.Fatal(r.err)
	}
	shows("oops again", "Late and rejected rows")
	do("no joins", click("//button[@role='tab'][.='Joins and tables']"))
	shows("The job joins nothing and reads no table.")
	do("definition", click("//button[@role='tab'][.='Definition']"))
	shows("CREATE JOB strong_reads", "decodes chip, mat, read_at, rssi")
	do("stop", click("//button[@data-testid='stop']"))
	shows("stopped")
	do("start", click("//button[@data-testid='start']"))
	shows("running")

	// A job that joins shows what it holds.
	p.apply(`CREATE TOPIC places (PARTITIONS 1); CREATE TOPIC pairs (PARTITIONS 1);
		DECLARE TABLE places (mat VARCHAR PRIMARY KEY, place VARCHAR) FROM TOPIC 'places';
		DECLARE SINK pair_topic TO TOPIC 'pairs';
		CREATE JOB pairs AS SELECT a.chip, p.place, b.mat AS next FROM reads a JOIN places p ON p.mat = a.mat
			LEFT JOIN reads b ON b.chip = a.chip AND b.mat <> a.mat AND b.read_at WITHIN 1 HOUR AFTER a.read_at ROUTE TO pair_topic;`)
	if r := p.fiume(`{"mat":"start","place":"Porta Nuova"}`+"\n", "topic", "write", "places"); r.code != 0 {
		t.Fatal(r.err)
	}
	do("jobs again", click("//nav//a[.='Jobs']"))
	do("pairs", click("//a[.='pairs']"), click("//button[@role='tab'][.='Joins and tables']"))
	shows("Table places", "the latest row of each mat", "places as it is when a row comes", "b from a to 1 HOUR after it", "a by chip", "Rows held", "Rows given without a match")
	if err := p.DropJob(t.Context(), "pairs"); err != nil {
		t.Fatal(err)
	}

	do("query page", click("//nav//a[.='Query']"), chromedp.WaitVisible(chromedp.CSS("#sql")))
	set := func(sql string) {
		t.Helper()
		do("select all", chromedp.Focus(chromedp.CSS("#sql")), chromedp.SendKeys(chromedp.CSS("#sql"), kb.Control+"a"))
		_, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`(() => { const t = document.querySelector('#sql');
			Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set.call(t, `+"`"+sql+"`"+`);
			t.dispatchEvent(new Event('input', {bubbles: true})); return true; })()`))
		if err != nil {
			t.Fatal(err)
		}
	}
	set("SELECT chip, mat, rssi FROM reads SINCE BEGINNING WHERE mat = 'finish' LIMIT 5")
	do("run", click("//button[@data-testid='run']"))
	shows("All rows have come", "5 rows", "finish", "chip varchar")
	set("SELECT chp FROM reads")
	do("run with the keyboard", chromedp.Focus(chromedp.CSS("#sql")), chromedp.KeyEvent(kb.Enter, chromedp.KeyModifiers(2)))
	shows(`unknown column "chp" in reads`, `did you mean "chip"?`)
	set("SELECT chip, mat FROM reads")
	do("run live", click("//button[@data-testid='run']"))
	shows("Waiting for rows")
	p.write(day[:200])
	shows("Rows, as they come", "P000")
	do("stop with the keyboard", chromedp.Focus(chromedp.CSS("#sql")), chromedp.KeyEvent(kb.Escape))
	shows("Stopped")
	set("SELECT chip, mat FROM reads")
	do("type", chromedp.Focus(chromedp.CSS("#sql")), chromedp.SendKeys(chromedp.CSS("#sql"), kb.End+" WHERE upp"))
	shows("upper(s VARCHAR) → VARCHAR", "The text in capital letters.")
	do("complete", chromedp.KeyEvent(kb.Tab))
	if s, err := chromedp.Run(ctx, chromedp.Evaluate[string]("document.querySelector('#sql').value")); err != nil || s != "SELECT chip, mat FROM reads WHERE UPPER(" {
		t.Errorf("completed to %q (%v)", s, err)
	}
	set("SELECT chip, mat FROM reads")
	do("reload", chromedp.Reload())
	if s, err := chromedp.Run(ctx, chromedp.Evaluate[string]("document.querySelector('#sql').value")); err != nil || s != "SELECT chip, mat FROM reads" {
		t.Errorf("after a reload the text is %q (%v)", s, err)
	}

	do("drop", click("//nav//a[.='Jobs']"), click("//a[.='strong_reads']"), click("//button[@data-testid='drop']"))
	shows("Drop the job strong_reads?", "What it has written stays")
	do("confirm", click("//button[.='Drop it']"))
	shows("No jobs yet")
	do("activity", click("//nav//a[.='Activity']"))
	shows("dropped", "strong_reads", "console")
	p.stop()
}
