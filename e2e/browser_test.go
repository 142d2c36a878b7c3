package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

var screenshots = flag.String("screenshots", "", "write pictures of the console and of commands into this directory")

type act = chromedp.Action[chromedp.Void]

// tab is a page of a headless browser that looks at a service's console. Whatever goes wrong in it is kept.
type tab struct {
	t    testing.TB
	ctx  context.Context
	base string

	mu     sync.Mutex
	faults []string
}

// chromium is the one headless browser of all tests, started when the first one needs it.
var chromium struct {
	once sync.Once
	ctx  context.Context
	end  context.CancelFunc
	err  error
}

func startChromium() {
	path, err := exec.LookPath("chromium")
	if err != nil {
		chromium.err = errors.New("Chromium is not installed; run make setup-tests")
		return
	}
	profile, err := os.MkdirTemp("", "fiume-chromium-")
	if err != nil {
		chromium.err = err
		return
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800), chromedp.UserDataDir(profile),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true))
	alloc, cancelAlloc := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, cancel := chromedp.NewContext(alloc)
	chromium.ctx = ctx
	chromium.end = func() {
		cancel()
		cancelAlloc()
		os.RemoveAll(profile)
	}
	_, chromium.err = chromedp.Run(ctx, chromedp.Evaluate[int]("1"))
}

// browse opens a page of a headless browser, with a profile of its own, closed at the test's end.
func browse(t testing.TB, base string) *tab {
	t.Helper()
	chromium.once.Do(startChromium)
	if chromium.err != nil {
		t.Fatal(chromium.err)
	}
	ctx, cancel := chromedp.NewContext(chromium.ctx, chromedp.WithNewBrowserContext())
	t.Cleanup(cancel)
	ctx, cancelTime := context.WithTimeout(ctx, 30*time.Minute)
	t.Cleanup(cancelTime)
	b := &tab{t: t, ctx: ctx, base: base}
	if err := chromedp.Listen(ctx, b.note); err != nil {
		t.Fatal(err)
	}
	b.do("size the window", chromedp.EmulateViewport(1280, 800), chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetFocusEmulationEnabled, emulation.SetFocusEmulationEnabledParams{Enabled: true}) // pages ask for news only while somebody looks at them
		return err
	}))
	return b
}

// wrong is what has gone wrong in the page.
func (b *tab) wrong() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return strings.Join(b.faults, "\n")
}

// forgive takes what the browser notes of answers that had to be refusals for none of the page's faults.
func (b *tab) forgive(of string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.faults = slices.DeleteFunc(b.faults, func(f string) bool { return strings.Contains(f, of) })
}

func (b *tab) note(ev any) {
	fault := ""
	switch e := ev.(type) {
	case *runtime.EventExceptionThrown:
		fault = e.ExceptionDetails.Text
		if x := e.ExceptionDetails.Exception; x != nil {
			fault += " " + x.Description
		}
	case *runtime.EventConsoleAPICalled:
		if e.Type == "error" || e.Type == "warning" {
			for _, a := range e.Args {
				fault += fmt.Sprintf("%s %s %s", e.Type, a.Value, a.Description)
			}
		}
	case *log.EventEntryAdded:
		if e.Entry.Level == "error" {
			fault = e.Entry.Text + " " + e.Entry.URL
		}
	}
	if fault != "" {
		b.mu.Lock()
		b.faults = append(b.faults, fault)
		b.mu.Unlock()
	}
}

// clean fails the test where a page has logged an error.
func (b *tab) clean() {
	b.t.Helper()
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, f := range b.faults {
		b.t.Errorf("the page logged: %s", f)
	}
	b.faults = nil
}

func (b *tab) do(what string, steps ...act) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		b.t.Fatalf("%s: %v\n%s\n%s", what, err, b.text(), b.wrong())
	}
}

func (b *tab) open(path string) {
	b.t.Helper()
	b.do("open "+path, chromedp.Navigate(b.base+path))
}

func evaluate[T any](b *tab, js string) T {
	b.t.Helper()
	v, err := chromedp.Run(b.ctx, chromedp.Evaluate[T](js))
	if err != nil {
		b.t.Fatalf("%s: %v\n%s", js, err, b.wrong())
	}
	return v
}

func (b *tab) text() string {
	s, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
	if err != nil {
		return err.Error()
	}
	return s
}

// shows waits for texts.
func (b *tab) shows(parts ...string) {
	b.t.Helper()
	var missing string
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		missing = ""
		page := b.text()
		for _, part := range parts {
			if !strings.Contains(page, part) {
				missing = part
			}
		}
		if missing == "" {
			return
		}
	}
	b.t.Fatalf("the page, %s, lacks %q:\n%s\n%s", evaluate[string](b, "document.visibilityState + (navigator.onLine ? ', online' : ', offline')"), missing, b.text(), b.wrong())
}

// click clicks at what an XPath finds.
func click(xpath string) act {
	return landing(chromedp.Click(chromedp.Search(xpath)), fmt.Sprintf(`(r => [...Array(r.snapshotLength).keys()].map(i => r.snapshotItem(i)))(document.evaluate(%q, document, null, XPathResult.ORDERED_NODE_SNAPSHOT_TYPE, null))`, xpath))
}

// press clicks at something by its test id.
func press(testid string) act {
	return landing(chromedp.Click(chromedp.CSS(named(testid))), fmt.Sprintf(`[...document.querySelectorAll(%q)]`, named(testid)))
}

// landing clicks until the click has come to one of the elements that an expression finds: the page may move them aside, or draw them anew, between looking where
// they are and the click.
func landing(once act, found string) act {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for {
			if _, err := chromedp.Evaluate[bool](fmt.Sprintf(`(() => {
				window.landed = false;
				addEventListener("click", e => { window.landed = %s.some(x => x.contains(e.target)); }, { capture: true, once: true });
				return true;
			})()`, found))(ctx, t); err != nil {
				return err
			}
			if _, err := once(ctx, t); err != nil {
				return err
			}
			landed, err := chromedp.Evaluate[bool](`window.landed !== false`)(ctx, t) // another page knows nothing of it
			if landed || err != nil && ctx.Err() == nil {
				return nil
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
			time.Sleep(50 * time.Millisecond)
		}
	})
}

func named(testid string) string { return "[data-testid='" + testid + "']" }
func visible(css string) act     { return chromedp.WaitVisible(chromedp.CSS(css)) }

// jobTab opens a tab of a job.
func jobTab(text string) act {
	return click("//button[@role='tab'][starts-with(., '" + text + "')]")
}

// fill puts a text into a field at once: the page draws itself anew each second, and would take a text back that it has not heard of.
func fill(testid, text string) act {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := visible(named(testid))(ctx, t); err != nil {
			return err
		}
		_, err := chromedp.Evaluate[string](fmt.Sprintf(`(() => { const s = document.querySelector("%s");
			Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set.call(s, %q);
			s.dispatchEvent(new Event('input', {bubbles: true})); return s.value; })()`, named(testid), text))(ctx, t)
		return err
	})
}

func choose(testid, value string) string {
	return fmt.Sprintf(`(() => { const s = document.querySelector("%s");
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(s, %q);
		s.dispatchEvent(new Event('change', {bubbles: true})); return s.value; })()`, named(testid), value)
}

// fill gives a field a text, as if it were pasted.
func (b *tab) fill(css, text string) {
	b.t.Helper()
	js, _ := json.Marshal(text)
	evaluate[bool](b, fmt.Sprintf(`(() => { const t = document.querySelector(%q);
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(t), 'value').set.call(t, %s);
		t.dispatchEvent(new Event('input', {bubbles: true})); return true; })()`, css, js))
}

// write puts a text into the editor in place of what stands there.
func (b *tab) write(sql string) {
	b.t.Helper()
	b.do("the editor", visible(named("editor")))
	eventually(b.t, "the editor is empty", func() bool { // what else happens on the page may take the focus away
		if !b.focus(named("editor")) {
			return false
		}
		b.do("select all", chromedp.KeyEvent("a", chromedp.KeyModifiers(2)), chromedp.KeyEvent(kb.Delete))
		return evaluate[bool](b, fmt.Sprintf(`(() => { const e = document.querySelector("%s"); return e.querySelector(".cm-placeholder") !== null || e.innerText.trim() === ""; })()`, named("editor")))
	})
	js, _ := json.Marshal(sql)
	evaluate[bool](b, fmt.Sprintf(`(() => { const d = new DataTransfer(); d.setData('text/plain', %s);
		document.querySelector("%s").dispatchEvent(new ClipboardEvent('paste', {clipboardData: d, bubbles: true, cancelable: true})); return true; })()`, js, named("editor")))
}

// focus gives an element the focus, and says whether it has it.
func (b *tab) focus(css string) bool {
	b.t.Helper()
	return evaluate[bool](b, fmt.Sprintf(`(() => { const e = document.querySelector(%q); e?.focus(); return e !== null && document.activeElement === e; })()`, css))
}

// written is the text in the editor.
func (b *tab) written() string {
	b.t.Helper()
	return evaluate[string](b, fmt.Sprintf(`[...document.querySelectorAll("%s .cm-line")].map((l) => l.textContent).join('\n')`, named("editor")))
}

// accessible runs the checks of axe-core over the page, and fails the test for what is serious.
func (b *tab) accessible(page string) {
	b.t.Helper()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		b.t.Fatal(err)
	}
	evaluate[bool](b, string(axe)+"; true")
	found, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`axe.run(document, {resultTypes: ['violations']}).then((r) => r.violations
		.filter((v) => v.impact === 'serious' || v.impact === 'critical')
		.map((v) => v.id + ': ' + v.help + '\n' + v.nodes.slice(0, 4).map((n) => '    ' + n.html.slice(0, 200) + '\n      ' + (n.any[0] || n.all[0] || n.none[0] || {}).message).join('\n')).join('\n'))`,
		chromedp.EvalAwaitPromise))
	if err != nil {
		b.t.Fatalf("%s: %v", page, err)
	}
	if found != "" {
		b.t.Errorf("%s is not for everyone:\n%s", page, found)
	}
}

func picture(t *testing.T, dir, name string, data []byte) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
		t.Fatal(err)
	}
}
