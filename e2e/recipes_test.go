package e2e

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"fiume/internal/trial/kit"
)

// step is a command of a recipe, and what it prints.
type step struct {
	command, prints string
	line            int // of the text
}

// recipe is a section of the manual's recipes.
type recipe struct {
	title string
	steps []step
}

// recipesOf reads the recipes of a text: in blocks of the kind console a command stands behind "$ ", with what a << says below it, and what it prints below that.
func recipesOf(text string) (out []recipe) {
	inside, here := false, ""
	for i, line := range strings.Split(text, "\n") {
		switch {
		case strings.HasPrefix(line, "## "):
			out = append(out, recipe{title: strings.TrimPrefix(line, "## ")})
		case strings.HasPrefix(line, "```"):
			inside = line == "```console"
		case !inside:
		case here != "":
			r := &out[len(out)-1]
			r.steps[len(r.steps)-1].command += "\n" + line
			if line == here {
				here = ""
			}
		case strings.HasPrefix(line, "$ "):
			r := &out[len(out)-1]
			r.steps = append(r.steps, step{command: line[2:], line: i + 1})
			if m := hereText.FindStringSubmatch(line); m != nil {
				here = m[1]
			}
		default:
			r := &out[len(out)-1]
			r.steps[len(r.steps)-1].prints += line + "\n"
		}
	}
	return out
}

var (
	hereText = regexp.MustCompile(`<<'(\w+)'`)
	loopback = regexp.MustCompile(`127\.0\.0\.1(:| -p )(\d+)`)
	// looks are commands that change nothing: what they show may take a while to be there.
	looks = regexp.MustCompile(`^(cat|curl|kcat|fiume (rows|query|job|database run \w+ --execute "SELECT)) `)
)

// TestRecipes types what the manual's recipes say, and compares what comes. RECORD writes what comes into the manual.
func TestRecipes(t *testing.T) {
	t.Parallel()
	typedPage(t, "../docs/manual/recipes.md", 21, func(dir string, ports map[string]string) []string {
		p := startIn(t, dir, "serve", "--files", ".", "--dir", t.TempDir(), "--listen", "127.0.0.1:0", "--mqtt-listen", "127.0.0.1:"+ports["1883"], "--brokers-listen", "127.0.0.1:"+ports["9092"])
		return []string{"FIUME_SERVER=" + p.base}
	})
}

// TestTeam types the page on a service for more than one: TLS, people, spaces, tokens.
func TestTeam(t *testing.T) {
	t.Parallel()
	typedPage(t, "../docs/operate/people.md", 5, func(dir string, ports map[string]string) []string {
		return []string{"FIUME_SERVER=https://127.0.0.1:" + ports["8443"], "FIUME_CA=" + filepath.Join(dir, "fiume.crt")}
	})
}

// typedPage types what a page of the manual says in its own directory. Its ports become free ones, so that it can be tried beside everything else; begin starts what it
// needs, and gives what stands in the environment of the commands.
func typedPage(t *testing.T, name string, least int, begin func(dir string, ports map[string]string) []string) {
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	ports := map[string]string{}
	for _, m := range loopback.FindAllStringSubmatch(string(text), -1) {
		if ports[m[2]] == "" {
			ports[m[2]] = strconv.Itoa(kit.FreePort(t))
		}
	}
	moved := func(s string) string {
		return loopback.ReplaceAllStringFunc(s, func(m string) string {
			x := loopback.FindStringSubmatch(m)
			return "127.0.0.1" + x[1] + ports[x[2]]
		})
	}
	dir, bin := t.TempDir(), t.TempDir()
	env := append(begin(dir, ports), "PATH="+bin+":"+os.Getenv("PATH"), "HOME="+dir, "XDG_CONFIG_HOME=", "LC_ALL=C", "TZ=UTC")
	if err := os.Symlink(binary, filepath.Join(bin, "fiume")); err != nil {
		t.Fatal(err)
	}
	record := os.Getenv("RECORD") != ""
	recipes := recipesOf(string(text))
	if len(recipes) < least {
		t.Fatalf("only %d recipes", len(recipes))
	}
	var came [][]string
	for _, r := range recipes {
		var prints []string
		for _, s := range r.steps { // what is begun goes on to the end of the page
			prints = append(prints, typed(t, dir, env, moved, s, record))
		}
		came = append(came, prints)
	}
	if record {
		for i := range came {
			for k := range came[i] {
				for was, is := range ports {
					came[i][k] = strings.ReplaceAll(came[i][k], "127.0.0.1:"+is, "127.0.0.1:"+was)
				}
			}
		}
		recordRecipes(t, name, string(text), recipes, came)
	}
}

// typed types a command, waits for what it is to print, and gives what it has printed.
func typed(t *testing.T, dir string, env []string, moved func(string) string, s step, record bool) string {
	t.Helper()
	command := moved(s.command)
	run := func(ctx context.Context, text string) *exec.Cmd {
		c := exec.CommandContext(ctx, "bash", "-c", text)
		c.Dir, c.Env = dir, append(os.Environ(), env...)
		return c
	}
	if behind, ok := strings.CutSuffix(command, "&"); ok {
		c := run(context.Background(), "exec "+behind)
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			_ = c.Process.Signal(syscall.SIGTERM) // what it has started ends with it
			_ = c.Wait()
		})
		at := regexp.MustCompile(`127\.0\.0\.1:\d+`).FindString(command)
		eventually(t, "somebody listens at "+at, func() bool {
			n, err := net.Dial("tcp", at)
			if err == nil {
				n.Close()
			}
			if err != nil || !strings.HasPrefix(behind, "fiume serve ") {
				return err == nil
			}
			// A service is reached before it is ready.
			plain := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, DisableKeepAlives: true}}
			r, err := plain.Get("https://" + at + "/ready")
			if err == nil {
				r.Body.Close()
			}
			return err == nil && r.StatusCode == http.StatusOK
		})
		return ""
	}
	want, last, since := moved(s.prints), "", time.Now()
	for deadline := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		c := run(ctx, command)
		var out bytes.Buffer
		c.Stdout, c.Stderr = &out, &out
		err := c.Run()
		cancel()
		got := out.String()
		switch {
		case record && looks.MatchString(s.command):
			if got != last {
				last, since = got, time.Now()
			}
			if time.Since(since) > 6*time.Second { // it changes no more
				return got
			}
		case record:
			if err != nil {
				t.Errorf("line %d: %s\n%v\n%s", s.line, command, err, got)
			}
			return got
		case err == nil && got == want:
			return got
		case !looks.MatchString(s.command) || time.Now().After(deadline):
			t.Fatalf("line %d: %s\n%v\nprints\n%s\nand is to print\n%s", s.line, command, err, got, want)
		}
	}
}

// recordRecipes writes what came into the manual.
func recordRecipes(t *testing.T, name, text string, recipes []recipe, came [][]string) {
	t.Helper()
	at := map[int]string{} // what a command printed, by its line
	for i, r := range recipes {
		for k, s := range r.steps {
			if at[s.line] = s.prints; k < len(came[i]) {
				at[s.line] = came[i][k]
			}
		}
	}
	var b strings.Builder
	inside, prints, here := false, "", ""
	for i, line := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		switch {
		case strings.HasPrefix(line, "```"):
			b.WriteString(prints)
			inside, prints = line == "```console", ""
			fmt.Fprintln(&b, line)
		case !inside:
			fmt.Fprintln(&b, line)
		case here != "":
			fmt.Fprintln(&b, line)
			if line == here {
				here = ""
			}
		case strings.HasPrefix(line, "$ "):
			b.WriteString(prints)
			fmt.Fprintln(&b, line)
			prints = at[i+1]
			if m := hereText.FindStringSubmatch(line); m != nil {
				here = m[1]
			}
		}
	}
	if err := os.WriteFile(name, []byte(b.String()), 0o644); err != nil {
		t.Fatal(err)
	}
}
