package e2e

import (
	"fmt"
	"testing"
	"time"
)

// TestWatch: jobs, one job and a board are drawn in a terminal, again and again, also while the service is away, until Ctrl-C.
func TestWatch(t *testing.T) {
	t.Parallel()
	p := serve(t, t.TempDir())
	p.fiume("", "watch").want(t, 2, "watch draws in a terminal")
	x := p.runsInTerminal("xterm", "watch", "--server", p.base)
	x.shows("0 jobs", "Ctrl-C ends", "no jobs; create one")
	p.apply(`CREATE TOPIC reads (PARTITIONS 1); CREATE TOPIC strong;
		DECLARE STREAM reads (n BIGINT) FROM TOPIC 'reads'; DECLARE SINK strong TO TOPIC 'strong'; CREATE JOB strong_reads AS SELECT n FROM reads WHERE n > 2 ROUTE TO strong;
		CREATE BOARD b PANEL 'How many' NUMBER AS (SELECT n FROM reads);`)
	x.shows("1 jobs", "IN/S", "strong_reads", "running")
	one := p.runsInTerminal("xterm", "watch", "--server", p.base, "strong_reads")
	board := p.runsInTerminal("xterm", "board", "show", "b", "--watch", "--server", p.base)
	one.shows("strong_reads, running", "READS", "WATERMARK", "reads/0", "STEP", "filter")
	for n := range 50 {
		p.send("reads", fmt.Sprintf(`{"n":%d}`, n))
	}
	x.shows("strong_reads", "50", "47")
	one.shows("scan", "route")
	board.shows("How many", "49")
	p.fiume("", "watch", "strong_reds").want(t, 2, "draws in a terminal")
	p.runsInTerminal("xterm", "watch", "--server", p.base, "strong_reds").shows(`did you mean "strong_reads"`)
	for _, ends := range []*terminal{one, board} {
		ends.interrupted()
	}
	p.stop()
	x.shows("It is tried again every second")
	x.interrupted()
}

// interrupted has Ctrl-C pressed, after which the program ends in order.
func (x *terminal) interrupted() {
	x.t.Helper()
	x.press("\x03")
	done := make(chan error, 1)
	go func() { done <- x.cmd.Wait() }()
	select {
	case err := <-done:
		if err != nil {
			x.t.Errorf("it ended with %v\n%s", err, x.text())
		}
	case <-time.After(patience):
		x.t.Errorf("Ctrl-C does not end it\n%s", x.text())
	}
}
