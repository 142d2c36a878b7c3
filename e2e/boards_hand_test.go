package e2e

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// boardWorld is a service with a stream of reads and the rows of ten minutes.
func boardWorld(t *testing.T) *process {
	p := serve(t, t.TempDir())
	p.apply(`CREATE TOPIC reads;
		DECLARE STREAM reads (chip VARCHAR, mat VARCHAR, country VARCHAR, rssi DOUBLE, lon DOUBLE, lat DOUBLE, at TIMESTAMP) EVENT TIME at DELAY 1 SECOND FROM TOPIC 'reads';`)
	var ms []string
	for i := range 60 {
		mat := i % 3
		ms = append(ms, fmt.Sprintf(`{"chip":"P%02d","mat":"M%d","country":"%s","rssi":-%d.5,"lon":12.%d,"lat":45.%d,"at":"2026-05-17T09:%02d:00Z"}`,
			i, mat, []string{"IT", "BRA", "jp"}[mat], 50+i%30, 80+mat, 60+mat, i/6))
	}
	p.send("reads", ms...)
	return p
}

// TestBoardByHand: somebody who writes no SQL makes a board in the browser, moves and sizes its panels by the pointer and by the keyboard, and keeps it: its text is
// what was drawn, and what is typed into the text is drawn.
func TestBoardByHand(t *testing.T) {
	t.Parallel()
	p := boardWorld(t)
	b := browse(t, p.base)
	b.open("/boards")
	b.shows("There are no boards yet")
	b.do("make one", press("new-board"))
	b.do("its title is asked", visible(named("board-title")))
	b.accessible("the window for a new board")
	b.fill(named("board-title"), "Who's crossing")
	b.shows("It is called who_s_crossing.")
	b.do("begin", press("begin-board"))
	b.shows("Say here what this board shows.", "being changed")
	// A panel is asked for, not written.
	add := func(kind, title string, answers ...string) {
		b.do("add a panel", press("add-panel"))
		b.do("the form", visible(named("panel-kind")))
		evaluate[string](b, choose("panel-kind", kind))
		eventually(t, "reads can be chosen", func() bool { return strings.Contains(b.text(), "reads (stream)") })
		evaluate[string](b, choose("ask-from", "reads"))
		for i := 0; i < len(answers); i += 2 {
			b.do("a question", visible(named("ask-"+answers[i])))
			evaluate[string](b, choose("ask-"+answers[i], answers[i+1]))
		}
		if title != "" {
			b.fill(named("panel-title"), title)
		}
		b.do("done", press("panel-done"))
		eventually(t, "the form is closed", func() bool {
			return evaluate[bool](b, `document.querySelector("[data-testid='panel-kind']") === null`)
		})
	}
	add("bars", "", "by", "mat")
	b.shows("Rows of reads by mat", "M0", "20")
	add("series", "Lines", "by", "mat")
	add("areas", "Countries", "by", "country")
	b.shows("Italy", "Brazil", "Japan")
	add("map", "Places", "by", "mat")
	add("states", "Where", "by", "mat", "state", "country")
	add("histogram", "Strength")
	b.shows("60 values from -79.5 to -50.5")
	titles := func() string {
		return evaluate[string](b, `[...document.querySelectorAll("[data-testid='panel'] h2")].map((h) => h.textContent).join(", ")`)
	}
	is := func(what, wanted string) {
		t.Helper()
		eventually(t, what+": "+wanted, func() bool { return titles() == wanted })
	}
	is("made", "About, Rows of reads by mat, Lines, Countries, Places, Where, Strength")
	b.accessible("a board that is being changed")
	// The pointer drags a panel before another, and its corner sizes it.
	drag := func(from, to string) {
		t.Helper()
		at := evaluate[[]float64](b, fmt.Sprintf(`(() => { const at = (s) => { const e = document.evaluate(s, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue;
			e.scrollIntoView({block: "center"}); return e; }; const a = at(%q), z = at(%q); window.scrollTo(0, 0); const [p, q] = [a.getBoundingClientRect(), z.getBoundingClientRect()];
			return [p.x + p.width / 2, p.y + p.height / 2, q.x + q.width / 2, q.y + q.height / 2]; })()`, from, to))
		b.do("drag", chromedp.MouseEvent(chromedp.MousePressed, at[0], at[1], chromedp.ButtonLeft), chromedp.MouseEvent(chromedp.MouseMoved, (at[0]+at[2])/2, (at[1]+at[3])/2, chromedp.ButtonLeft),
			chromedp.MouseEvent(chromedp.MouseMoved, at[2], at[3], chromedp.ButtonLeft), chromedp.MouseEvent(chromedp.MouseReleased, at[2], at[3], chromedp.ButtonLeft))
	}
	panel := func(title string) string { return fmt.Sprintf("//section[@aria-label='%s']", title) }
	b.do("a large window", chromedp.EmulateViewport(1280, 1800))
	drag(panel("Countries")+"//*[@data-testid='move']", panel("Rows of reads by mat"))
	is("dragged", "About, Countries, Rows of reads by mat, Lines, Places, Where, Strength")
	eventually(t, "the text follows", func() bool {
		w := b.written()
		return strings.Index(w, "'Countries'") < strings.Index(w, "'Rows of reads by mat'")
	})
	drag(panel("Countries")+"//*[@data-testid='size']", panel("Rows of reads by mat"))
	eventually(t, "the text has the size", func() bool {
		return strings.Contains(b.written(), "'Countries' AREAS (LABEL 'country', VALUE 'rows_n', WIDE 9")
	})
	b.do("undo", press("undo"))
	eventually(t, "the size is as before", func() bool { return !strings.Contains(b.written(), "WIDE 9") })
	// The keyboard does the same.
	b.do("to the handle", chromedp.Focus(chromedp.Search(panel("Countries")+"//*[@data-testid='move']")), chromedp.KeyEvent(kb.ArrowRight))
	is("moved by the keyboard", "About, Rows of reads by mat, Countries, Lines, Places, Where, Strength")
	// Keys that follow each other fast all count, and the focus stays with what is moved.
	b.do("to the handle", chromedp.Focus(chromedp.Search(panel("Lines")+"//*[@data-testid='move']")))
	for range 2 {
		b.do("wider", chromedp.KeyEvent(kb.ArrowRight, chromedp.KeyModifiers(8)))
	}
	eventually(t, "wider by the keyboard", func() bool {
		return strings.Contains(b.written(), "'Lines' SERIES (VALUE 'rows_n', LABEL 'mat', WIDE 8")
	})
	for range 2 {
		b.do("to the right", chromedp.KeyEvent(kb.ArrowRight))
	}
	is("moved twice", "About, Rows of reads by mat, Countries, Places, Where, Lines, Strength")
	for range 2 {
		b.do("and back", chromedp.KeyEvent(kb.ArrowLeft))
	}
	is("moved back", "About, Rows of reads by mat, Countries, Lines, Places, Where, Strength")
	// What is typed is drawn, with its comment, which goes where its panel goes.
	text := strings.Replace(b.written(), "  PANEL 'Lines'", "  -- for the morning\n  PANEL 'Lines in the morning'", 1)
	b.write(text)
	is("typed", "About, Rows of reads by mat, Countries, Lines in the morning, Places, Where, Strength")
	b.do("moved up", chromedp.Focus(chromedp.Search(panel("Lines in the morning")+"//*[@data-testid='move']")), chromedp.KeyEvent(kb.ArrowLeft))
	is("moved with its comment", "About, Rows of reads by mat, Lines in the morning, Countries, Places, Where, Strength")
	eventually(t, "the comment went along", func() bool {
		w := b.written()
		return strings.Index(w, "-- for the morning") > 0 && strings.Index(w, "-- for the morning") < strings.Index(w, "'Countries'")
	})
	// A text that is wrong is said, and cannot be kept.
	b.write(strings.Replace(b.written(), "SELECT rssi", "SELECT rsi", 1))
	b.shows(`did you mean "rssi"?`)
	if !evaluate[bool](b, `document.querySelector("[data-testid='keep-board']").disabled`) {
		t.Error("a wrong board can be kept")
	}
	b.do("undo", press("undo"))
	eventually(t, "it is right again", func() bool {
		return evaluate[bool](b, `!document.querySelector("[data-testid='keep-board']").disabled`)
	})
	text = b.written()
	b.do("keep", press("keep-board"))
	b.shows("Who's crossing", "60 values")
	b.accessible("the board that was made")
	kept := p.fiume("", "board", "show", "who_s_crossing").want(t, 0, "Rows of reads by mat", "Strength").out
	if !strings.Contains(kept, "IT   ████████████████████████████████████████ 20") {
		t.Error(kept)
	}
	board, err := p.Board(t.Context(), "who_s_crossing")
	if err != nil {
		t.Fatal(err)
	}
	plain := func(s string) string {
		return strings.TrimRight(strings.Replace(strings.TrimSpace(s), "OR REPLACE ", "", 1), ";")
	}
	if plain(board.SQL) != plain(text) {
		t.Errorf("%s\n%s", board.SQL, text)
	}
	b.forgive("/api/board-drafts") // a text that is wrong, or just being pasted, is refused
	b.clean()
}

// TestBoardLooks: somebody who looks at a board chooses of its variables, the time, and goes back while it is paused; the address holds all that.
func TestBoardLooks(t *testing.T) {
	t.Parallel()
	p := boardWorld(t)
	p.apply(`CREATE BOARD race (TITLE 'The race')
		VARIABLE mat 'Mat' (ALL 'every mat') AS (SELECT mat, COUNT(*) AS n FROM reads GROUP BY mat FORGET AFTER 365 DAYS)
		PANEL 'Reads' NUMBER (UNIT 'reads') AS (SELECT 'x' AS x, COUNT(*) AS n FROM reads WHERE :mat IS NULL OR mat = :mat GROUP BY 'x' FORGET AFTER 365 DAYS)
		PANEL 'Minutes' SERIES (WIDE 12) AS (SELECT w.opens AS opened, COUNT(*) AS n FROM reads WHERE :mat IS NULL OR mat = :mat GROUP BY w WINDOW w AS (TUMBLING 1 MINUTE LATENESS 1 HOUR));`)
	b := browse(t, p.base)
	b.open("/boards/race")
	b.shows("60\nreads")
	eventually(t, "mats can be chosen", func() bool { return strings.Contains(b.text(), "M2") })
	evaluate[string](b, choose("choose-mat", "M1"))
	b.shows("20\nreads")
	// A stretch of event time, whenever its rows arrived.
	evaluate[string](b, choose("time", "stretch"))
	b.do("from and to", visible(named("from")))
	b.fill(named("from"), "2026-05-17T09:02:00")
	b.fill(named("to"), "2026-05-17T09:05:00")
	b.do("show it", press("show-stretch"))
	b.shows("6\nreads")
	b.open(evaluate[string](b, "location.pathname + location.search")) // as if the address were sent to somebody
	b.shows("6\nreads")
	p.fiume("", "board", "show", "race", "--set", "mat=M1", "--from", "2026-05-17T09:02:00Z", "--to", "2026-05-17T09:05:00Z").want(t, 0, "6 reads")
	p.fiume("", "board", "png", "race", "--set", "mat=M1", "-f", filepath.Join(t.TempDir(), "race.png")).want(t, 0, "race.png written")
	p.fiume("", "board", "png", "race", "-f", "/nowhere/race.png").want(t, 1, "/nowhere/race.png")
	p.fiume("", "board", "show", "race", "--set", "mat=").want(t, 0, "60 reads")
	p.fiume("", "board", "show", "race", "--set", "mut=M1").want(t, 2, "no variable mut, but mat")
	p.fiume("", "board", "show", "race", "--since", "soon").want(t, 1, "write how far back")
	p.fiume("", "board", "show", "race", "--from", "2026-05-17T09:02:00Z").want(t, 1, "both from and to")
	evaluate[string](b, choose("time", "15 MINUTES"))
	b.shows("20\nreads")
	evaluate[string](b, choose("choose-mat", ""))
	b.shows("60\nreads")
	// While it is paused it can be gone back.
	p.send("reads", `{"chip":"P99","mat":"M1","rssi":-40,"at":"2026-05-17T09:11:00Z"}`)
	b.shows("61\nreads")
	b.do("pause", press("pause"))
	b.shows("Go back with the slider")
	b.accessible("a board that is paused")
	b.do("back to the beginning", chromedp.Focus(chromedp.CSS(named("back"))), chromedp.KeyEvent(kb.Home))
	b.shows("as it was at")
	eventually(t, "it is as it was", func() bool { return !strings.Contains(b.text(), "61\nreads") })
	b.do("go on", press("pause"))
	b.shows("61\nreads")
	// A board that is replaced is seen at once by whoever looks.
	p.apply(`CREATE OR REPLACE BOARD race (TITLE 'Another') PANEL 'Only' NUMBER (UNIT 'dBm') AS (SELECT rssi FROM reads);`)
	b.shows("Another", "dBm")
	b.forgive("/api/board-drafts") // a text that is wrong, or just being pasted, is refused
	b.clean()
}
