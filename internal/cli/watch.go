package cli

import (
	"context"
	"fmt"
	"math"
	"strings"
	"time"

	"fiume/internal/client"
	"fiume/internal/service/jobs"

	"github.com/spf13/cobra"
)

func (a *app) watchCommand() *cobra.Command {
	return &cobra.Command{
		Use: "watch [JOB]", Short: "Watch the jobs, or one of them, in the whole terminal",
		Long: `Shows all jobs with their rates, redrawn every second: rows a second with a line of the last minute, late
and rejected rows. With a job it shows its steps, in the order in which rows go through them, and what they
read: how much waits, and how far event time has come. Ctrl-C ends it.`,
		Example: "  fiume watch\n  fiume watch crowding", Args: atMostOne,
		RunE: func(c *cobra.Command, args []string) error {
			if !isTerminal(a.out) {
				return fail(exitUsage, "watch draws in a terminal; fiume job list and fiume job show print once")
			}
			w := &watching{app: a, was: map[string]mark{}, lines: map[string][]float64{}}
			if len(args) > 0 {
				if _, err := a.client().Job(c.Context(), args[0]); err != nil {
					return failed(err)
				}
				w.job = args[0]
			}
			return w.run(c.Context())
		},
	}
}

// watchEvery is how often the screen is drawn again.
const watchEvery = time.Second

// mark is a count at a time.
type mark struct {
	n  int64
	at time.Time
}

// watching redraws the whole terminal.
type watching struct {
	*app
	job   string // "": all
	was   map[string]mark
	lines map[string][]float64 // rates of the last minute
}

func (w *watching) run(ctx context.Context) error {
	fmt.Fprint(w.out, "\x1b[?1049h\x1b[?25l") // a screen of its own, without a cursor
	defer fmt.Fprint(w.out, "\x1b[?25h\x1b[?1049l")
	t := time.NewTicker(watchEvery)
	defer t.Stop()
	for {
		var text string
		var err error
		if w.job == "" {
			text, err = w.all(ctx, w.client())
		} else {
			text, err = w.one(ctx, w.client())
		}
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			text = fmt.Sprintf("%s\n\n%v\nIt is tried again every second.\n", w.head(""), failed(err))
		}
		text = strings.ReplaceAll(text, "\n", "\x1b[K\n") // what was longer before goes
		fmt.Fprintf(w.out, "\x1b[H%s\x1b[J", text)
		select {
		case <-ctx.Done():
			return nil
		case <-t.C:
		}
	}
}

func (w *watching) head(what string) string {
	return fmt.Sprintf("fiume%s   %s   Ctrl-C ends", what, time.Now().Format("15:04:05"))
}

// rate gives how much a count grows a second, and notes it; -1: it is not known yet.
func (w *watching) rate(of string, n int64) float64 {
	now := time.Now()
	was, ok := w.was[of]
	w.was[of] = mark{n, now}
	if !ok || n < was.n || now.Sub(was.at) <= 0 { // it has begun anew
		return -1
	}
	r := float64(n-was.n) / now.Sub(was.at).Seconds()
	line := append(w.lines[of], r)
	w.lines[of] = line[max(0, len(line)-60):]
	return r
}

func perSecond(r float64) string {
	if r < 0 {
		return ""
	}
	return number(int64(math.Round(r)))
}

// blocks draws numbers as a line of blocks, the newest on the right.
func blocks(values []float64, wide int) string {
	values = values[max(0, len(values)-wide):]
	most := 0.0
	for _, v := range values {
		most = max(most, v)
	}
	var out strings.Builder
	for _, v := range values {
		k := 0
		if most > 0 {
			k = int(v / most * 7)
		}
		out.WriteRune([]rune("▁▂▃▄▅▆▇█")[k])
	}
	return out.String()
}

func (w *watching) all(ctx context.Context, c *client.Client) (string, error) {
	list, err := c.Jobs(ctx)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	fmt.Fprintf(&out, "%s\n\n", w.head(fmt.Sprintf("   %d jobs", len(list))))
	if len(list) == 0 {
		out.WriteString("no jobs; create one with: fiume apply FILE.sql\n")
		return out.String(), nil
	}
	var rows [][]string
	for _, j := range list {
		in, made := w.rate("in "+j.Name, j.In), w.rate("out "+j.Name, j.Out)
		rows = append(rows, []string{j.Name, j.State, perSecond(in), blocks(w.lines["in "+j.Name], 30), perSecond(made), number(j.In), number(j.Out), number(j.Late), number(j.Rejects)})
	}
	columns(&out, []string{"JOB", "STATE", "IN/S", "THE LAST HALF MINUTE", "OUT/S", "ROWS IN", "ROWS OUT", "LATE", "REJECTED"}, rows)
	for _, j := range list {
		if j.Reason != "" && j.State != "running" {
			fmt.Fprintf(&out, "\n%s: %s", j.Name, firstLine(j.Reason))
		}
	}
	return out.String(), nil
}

func (w *watching) one(ctx context.Context, c *client.Client) (string, error) {
	d, err := c.Job(ctx, w.job)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	fmt.Fprintf(&out, "%s\n\n", w.head(fmt.Sprintf("   %s, %s", d.Name, d.State)))
	if d.Reason != "" {
		fmt.Fprintf(&out, "%s\n\n", firstLine(d.Reason))
	}
	var rows [][]string
	for _, s := range d.Status.Splits {
		left, state := "", ""
		if s.Left != nil {
			left = number(*s.Left)
		}
		switch {
		case s.Waiting != nil:
			state = "waits: " + firstLine(s.Waiting.Reason)
		case s.Holds != nil:
			state = "the others wait for it"
		case s.Ended:
			state = "ended"
		case s.Idle:
			state = "idle"
		}
		r := w.rate("split "+s.Stream+" "+s.Split, s.Next)
		rows = append(rows, []string{s.Stream, s.Split, perSecond(r), left, instant(s.Watermark), state})
	}
	columns(&out, []string{"READS", "SPLIT", "/S", "LEFT", "WATERMARK", ""}, rows)
	out.WriteByte('\n')
	rows = nil
	for _, s := range d.Status.Steps {
		id := fmt.Sprintf("step %s %s", s.Kind, s.Step)
		in, made := w.rate(id+" in", s.Counts.In), w.rate(id+" out", s.Out)
		note := ""
		if s.Waiting != nil {
			note = "waits: " + firstLine(s.Waiting.Reason)
		}
		rows = append(rows, []string{s.Step, s.Kind, perSecond(in), blocks(w.lines[id+" in"], 30), perSecond(made), number(s.Counts.Held), number(s.Counts.Late), number(s.Counts.Rejected), note})
	}
	columns(&out, []string{"STEP", "DOES", "IN/S", "THE LAST HALF MINUTE", "OUT/S", "HELD", "LATE", "REJECTED", ""}, rows)
	w.checkpoint(&out, d)
	return out.String(), nil
}

func (w *watching) checkpoint(out *strings.Builder, d *jobs.JobDetail) {
	if d.Abandoned != nil {
		fmt.Fprintf(out, "\ncheckpoints do not come about: %s\n", firstLine(d.Abandoned.Reason))
	} else if d.Checkpoint != nil {
		fmt.Fprintf(out, "\ncheckpoint %d, %s\n", d.Checkpoint.Number, ago(d.Checkpoint.At))
	}
}
