package e2e

import (
	"bytes"
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
)

// terminal is a shell in a pseudo-terminal.
type terminal struct {
	t    testing.TB
	cmd  *exec.Cmd
	keys interface{ Write([]byte) (int, error) }

	mu   sync.Mutex
	seen bytes.Buffer
	at   int // where the next text is looked for
}

// inTerminal starts fiume shell in a terminal of 120 columns.
func (p *process) inTerminal() *terminal {
	p.t.Helper()
	return p.inTerminalOf("xterm")
}

// inTerminalOf is that of a kind of terminal. None of them says where its cursor is.
func (p *process) inTerminalOf(kind string) *terminal {
	p.t.Helper()
	return p.runsInTerminal(kind, "shell", "--server", p.base, "--history", filepath.Join(p.t.TempDir(), "history"))
}

// runsInTerminal starts a command in a kind of terminal.
func (p *process) runsInTerminal(kind string, args ...string) *terminal {
	p.t.Helper()
	cmd := exec.Command(binary, args...)
	cmd.Env = append(cmd.Environ(), "TERM="+kind, "HOME="+p.t.TempDir())
	f, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: 120})
	if err != nil {
		p.t.Fatal(err)
	}
	x := &terminal{t: p.t, cmd: cmd, keys: f}
	p.t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = f.Close()
	})
	go func() {
		buf := make([]byte, 1<<14)
		for {
			n, err := f.Read(buf)
			x.mu.Lock()
			x.seen.Write(buf[:n])
			x.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	return x
}

var escapes = regexp.MustCompile(`\x1b\[[0-9;? ]*[a-zA-Z]|\x1b[()][A-Z0-9]|\x1b[=>78]|\r`)

func (x *terminal) text() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return escapes.ReplaceAllString(x.seen.String(), "")
}

// shows waits for texts, in this order, behind those that were waited for before.
func (x *terminal) shows(parts ...string) {
	x.t.Helper()
	for _, part := range parts {
		found := false
		for deadline := time.Now().Add(patience); !found && time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
			all := x.text()
			if i := strings.Index(all[min(x.at, len(all)):], part); i >= 0 {
				x.at, found = min(x.at, len(all))+i+len(part), true
			}
		}
		if !found {
			all := x.text()
			x.t.Fatalf("the terminal lacks %q; it ends with\n%s", part, all[max(0, len(all)-3000):])
		}
	}
}

func (x *terminal) press(keys string) {
	x.t.Helper()
	if _, err := x.keys.Write([]byte(keys)); err != nil {
		x.t.Fatal(err)
	}
	time.Sleep(150 * time.Millisecond)
}

// enter types a line and ends it.
func (x *terminal) enter(line string) {
	x.t.Helper()
	x.press(line)
	x.press("\r")
}

// TestShellRoad goes the road of an engineer's day in the shell, in a terminal, on the demo's data: look, declare, write with
// a mistake and its correction, try on a sample, deploy, watch, look at a row that was set aside, and ask why a result is there.
func TestShellRoad(t *testing.T) {
	t.Parallel()
	p := watching(t, 1)
	x := p.inTerminal()
	x.shows("jobs running", "help says what can be typed", "fiume> ")
	x.enter("help")
	x.shows("Statements end with a semicolon", "Ctrl-R")

	eventually(t, "calls come", func() bool {
		return strings.Contains(p.fiume("", "topic", "read", "medical-calls", "--last", "1").out, "severity")
	})
	x.enter("topic read medical-calls --last 2") // look
	x.shows("severity")
	x.enter("topic read medical-calls --follow")
	x.shows("severity")
	x.press("\x03")
	x.shows("stopped", "fiume> ")
	x.enter("propose medical-calls") // declare
	x.shows("DECLARE STREAM medical_calls", "EVENT TIME called_at")
	dir := t.TempDir()
	file := writeFile(t, dir, "urgent.sql", `DECLARE STREAM urgent_calls (call_id VARCHAR, chip VARCHAR, called_at TIMESTAMP, severity BIGINT)
  EVENT TIME called_at FROM TOPIC 'medical-calls' (FORMAT json);
CREATE TOPIC urgent (PARTITIONS 1);
DECLARE SINK urgent TO TOPIC 'urgent';
CREATE JOB urgent_by_severity AS
  SELECT severity, w.opens AS opened, COUNT(*) AS calls FROM urgent_calls WHERE severity >= 1
  GROUP BY severity, w WINDOW w AS (TUMBLING 10 MINUTES)
  ROUTE TO urgent;
`)
	x.enter("SELECT chip, severty") // write, over several lines, with a mistake
	x.enter("FROM calls SINCE BEGINNING UNTIL NOW LIMIT 3;")
	x.shows(`unknown column "severty"`, `did you mean "severity"?`)
	x.enter("SELECT chip, severity FROM calls SINCE BEGINNING UNTIL NOW LIMIT 3;")
	x.shows("severity", "rows)")
	x.enter("sample keep medical-calls --limit 100") // try
	x.shows("sample 1")
	x.enter("try " + file + " --sample urgent_calls=1")
	x.shows("calls", "ledger of urgent_by_severity")
	x.enter("run " + file) // deploy
	x.shows("stream urgent_calls declared", "job urgent_by_severity created")
	eventually(t, "the job runs", func() bool {
		j, err := p.Job(t.Context(), "urgent_by_severity")
		return err == nil && j.State == "running"
	})
	x.enter("job show urgent_by_severity") // watch
	x.shows("running", "ledger")
	x.enter("SELECT mat, rssi FROM reads;")
	x.shows("mat", "rssi", "km-") // live rows
	x.press("\x03")
	x.shows("stopped", "fiume> ")
	x.enter("job aside clean_reads --kind late --limit 3") // a row that was set aside
	x.shows("late", "clean")
	x.enter(fmt.Sprintf("job why clean_reads clean_topic '%s'", strings.TrimSpace(p.all("clean-reads")[5]))) // why
	x.shows("mat-reads", "gives just this row")

	x.enter("DROP JOB urgent_by_severity;")
	x.shows("its place and its state are forgotten", "Type yes to go on")
	x.enter("no")
	x.shows("left as it is")
	x.enter("topic drop urgent")
	x.shows("This deletes the topic urgent", "Type yes to go on")
	x.enter("no")
	x.shows("left as it is")
	x.press("SELECT cou\t")
	for range 60 { // the service has a second to say the words, and whoever types presses again
		time.Sleep(time.Second)
		if all := x.text(); strings.Contains(all[min(x.at, len(all)):], "count") {
			break
		}
		x.press("\t")
	}
	x.shows("count")
	x.press("\x03")
	x.enter("chart")
	x.enter("SELECT mat, COUNT(*) AS n FROM reads SINCE BEGINNING GROUP BY mat, w WINDOW w AS (TUMBLING 1 DAY) UNTIL NOW;")
	x.shows("█")
	x.enter("quit")
	done := make(chan error, 1)
	go func() { done <- x.cmd.Wait() }()
	select {
	case err := <-done:
		if err != nil {
			t.Error(err)
		}
	case <-time.After(patience):
		t.Error("quit does not end the shell")
	}
	p.stop()
}

// TestShellPlainly types into a terminal that can do nothing but show lines.
func TestShellPlainly(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	x := p.inTerminalOf("dumb")
	x.shows("fiume> ")
	x.enter("CREATE TOPIC reads")
	x.shows("...> ")
	x.enter("(PARTITIONS 1);")
	x.shows("topic reads created", "fiume> ")
	x.enter("SHOW TOPIX;")
	x.shows("TOPIX", "fiume> ")
	x.enter("topic list")
	x.shows("PARTITIONS", "reads", "fiume> ")
	x.enter("DROP TOPIC reads;")
	x.shows("Type yes to go on")
	x.enter("yes")
	x.shows("topic reads dropped", "fiume> ")
	x.enter("quit")
	if err := x.cmd.Wait(); err != nil {
		t.Error(err)
	}
	p.stop()
}

// TestShellScript does scripts: statements and words, in several formats, up to the first that fails.
func TestShellScript(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	script := `-- a script
		CREATE TOPIC reads (PARTITIONS 1);
		DECLARE STREAM reads (chip VARCHAR,
			n BIGINT) FROM TOPIC 'reads';
		topic list
		timing on
		SHOW STREAMS;
		output json
		`
	p.fiume(script, "shell").want(t, 0, "topic reads created", "stream reads declared", "PARTITIONS", "reads")
	p.send("reads", `{"chip":"P1","n":1}`, `{"chip":"P2","n":22}`)
	q := "SELECT chip, n FROM reads SINCE BEGINNING UNTIL NOW;"
	p.fiume(q, "shell", "--output", "json").want(t, 0, `{"chip":"P1","n":1}`)
	p.fiume("output csv\n"+q, "shell").want(t, 0, "chip,n", "P2,22")
	p.fiume(q, "shell", "--chart").want(t, 0, "P2", "█")
	r := p.fiume("SELECT nothing FROM reads SINCE BEGINNING UNTIL NOW;\nCREATE TOPIC never;", "shell")
	r.want(t, 3, "unknown-name")
	r = p.fiume("SELECT nothing FROM reads SINCE BEGINNING UNTIL NOW;\nCREATE TOPIC later;", "shell", "--go-on")
	if !strings.Contains(r.out, "topic later created") || r.code == 0 {
		t.Errorf("%d %s %s", r.code, r.out, r.err)
	}
	topics, err := p.Topics(t.Context())
	if err != nil || len(topics) != 2 {
		t.Errorf("%d topics, %v", len(topics), err)
	}
	for _, flag := range []string{"--go-on=false", "--go-on"} { // told once, with its line in the file
		r = p.fiume("-- first\nSHOW STREAMS;\n\nSELECT chip,\n  nothing\nFROM reads SINCE BEGINNING UNTIL NOW;\nSHOW TOPICS;\n", "shell", flag)
		if n := strings.Count(r.err, `unknown column "nothing"`); n != 1 || !strings.Contains(r.err, ":5:3:") || r.code != 3 {
			t.Errorf("%q: told %d times, code %d\n%s", flag, n, r.code, r.err)
		}
	}
	p.fiume("topic read 'reads", "shell").want(t, 2, "a quote has no end")
	p.fiume("job show none", "shell").want(t, 4, "none")
	p.stop()
}
