package e2e

import (
	"context"
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

var screenshots = flag.String("screenshots", "", "write pictures of the console and of commands into this directory")

// browser opens a headless browser with one page, closed at the test's end.
func browser(t *testing.T) context.Context {
	t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Fatal("Chromium is not installed; run make setup")
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800), chromedp.UserDataDir(t.TempDir()),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true))
	alloc, cancelAlloc := chromedp.NewExecAllocator(context.Background(), opts...)
	t.Cleanup(cancelAlloc)
	ctx, cancel := chromedp.NewContext(alloc)
	t.Cleanup(cancel)
	ctx, cancelTime := context.WithTimeout(ctx, 3*time.Minute)
	t.Cleanup(cancelTime)
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.Fatal(err)
	}
	return ctx
}

func picture(t *testing.T, name string, data []byte) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(*screenshots, name), data, 0o644); err != nil {
		t.Fatal(err)
	}
}
