package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/jobs"

	"github.com/spf13/cobra"
)

func (a *app) jobCommand() *cobra.Command {
	job := &cobra.Command{Use: "job", Short: "Look after jobs", Example: "  fiume job list\n  fiume job show clean_reads"}
	list := &cobra.Command{
		Use: "list", Short: "List the jobs with their states", Example: "  fiume job list --output json", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			jobs, err := a.client().Jobs(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(jobs)
			}
			if len(jobs) == 0 {
				fmt.Fprintln(a.out, "no jobs; create one with: fiume apply FILE.sql")
				return nil
			}
			var rows [][]string
			for _, j := range jobs {
				state := j.State
				switch {
				case j.Reason == "":
				case j.State == "running" || j.State == "finished":
					state += ": " + firstLine(j.Reason)
				default:
					state += " because " + clipped(firstLine(j.Reason), 90) // fiume job show has all of it
				}
				rows = append(rows, []string{j.Name, state, number(j.In), number(j.Out), number(j.Late), number(j.Rejects), ago(j.Since)})
			}
			columns(a.out, []string{"JOB", "STATE", "ROWS IN", "ROWS OUT", "LATE", "REJECTED", "SINCE"}, rows)
			return nil
		},
	}
	show := &cobra.Command{
		Use: "show JOB", Short: "Show a job: its ledger, watermarks, late and rejected rows", Example: "  fiume job show crowding", Args: arity(1, "the name of a job"),
		RunE: func(c *cobra.Command, args []string) error {
			d, err := a.client().Job(c.Context(), args[0])
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(d)
			}
			a.printJob(d)
			return nil
		},
	}
	change := func(use, short, example, done string, do func(c *cobra.Command, name string) error) *cobra.Command {
		return &cobra.Command{Use: use + " JOB", Short: short, Example: example, Args: arity(1, "the name of a job"),
			RunE: func(c *cobra.Command, args []string) error {
				if err := do(c, args[0]); err != nil {
					return failed(err)
				}
				fmt.Fprintf(a.out, "job %s %s\n", args[0], done)
				return nil
			}}
	}
	a.outputFlag(list, "table", "json")
	a.outputFlag(show, "text", "json")
	job.AddCommand(list, show,
		change("stop", "Stop a job; it keeps its place and state", "  fiume job stop crowding", "stopped", func(c *cobra.Command, n string) error { return a.client().StopJob(c.Context(), n) }),
		change("drop", "Stop a job and forget it; what it has written stays", "  fiume job drop crowding", "dropped", func(c *cobra.Command, n string) error { return a.client().DropJob(c.Context(), n) }))
	job.AddCommand(a.changeCommands()...)
	job.AddCommand(a.findCommands()...)
	return job
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(s, "\n")
	return s
}

// number writes a count with thin groups of three digits.
func number(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%ds ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%dm ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%dh ago", int(d.Hours()))
	}
	return t.Format("2006-01-02")
}

func instant(us *int64) string {
	if us == nil {
		return "-"
	}
	return string(types.AppendTimestamp(nil, *us))
}

func (a *app) printJob(d *jobs.JobDetail) {
	fmt.Fprintf(a.out, "job %s: %s since %s", d.Name, d.State, d.Since.Local().Format("15:04:05"))
	if d.Reason != "" {
		word := " because"
		if d.State == "running" || d.State == "finished" {
			word = ":"
		}
		fmt.Fprintf(a.out, "%s %s", word, d.Reason)
	}
	fmt.Fprintln(a.out)
	if c := d.Checkpoint; c != nil {
		fmt.Fprintf(a.out, "checkpoint %d, %s, %s bytes of state, took %d ms\n", c.Number, ago(c.At), number(c.Bytes), c.TookMs)
	}
	if d.Lost > 0 {
		fmt.Fprintf(a.out, "%s messages are lost: they, or files of them, were damaged or gone before they were read\n", number(d.Lost))
	}
	if w := d.Abandoned; w != nil {
		fmt.Fprintf(a.out, "no checkpoint since %s because %s (tried %d times; the job goes on)\n", w.Since.Local().Format("15:04:05"), firstLine(w.Reason), w.Tries)
	}
	if len(d.Status.Splits) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, s := range d.Status.Splits {
			state := "reading"
			if w := s.Waiting; w != nil {
				state = fmt.Sprintf("waiting since %s because %s (tried %d times)", w.Since.Local().Format("15:04:05"), firstLine(w.Reason), w.Tries)
			} else if s.Notice != "" {
				state = s.Notice
			} else if s.Ended {
				state = "ended"
			} else if s.Idle {
				state = "idle"
			} else if s.Holds != nil {
				state = "silent; the others wait for it"
			}
			rows = append(rows, []string{s.Stream, s.Split, number(s.Next), instant(s.NewestAt), instant(s.Watermark), state})
		}
		columns(a.out, []string{"STREAM", "SPLIT", "NEXT", "NEWEST EVENT", "WATERMARK", "STATE"}, rows)
	}
	for _, s := range d.Status.Steps {
		if s.Kind == "window" {
			a.printWindows(s)
		}
	}
	a.printJoins(d.Status.Steps)
	printLedger(a.out, d.Name, d.Status, d.Samples)
}

// printJoins lists what joins and tables hold and what they have given.
func (a *app) printJoins(steps []flow.Step) {
	for _, s := range steps {
		switch s.Kind {
		case "join", "as of", "lookup":
			fmt.Fprintf(a.out, "\n%s: %s\n  bound: %s\n  %s matches, %s rows without one given\n", s.Step, s.Detail, s.Bound, number(s.Counts.Matched), number(s.Counts.Unmatched))
		case "table":
			fmt.Fprintf(a.out, "\ntable %s: %s\n", s.Step, s.Detail)
		default:
			continue
		}
		var rows [][]string
		for _, side := range steps {
			if side.Into != nil && *side.Into == s.ID {
				rows = append(rows, []string{"  " + side.Alias, number(side.Counts.In), number(side.Counts.Late), number(int64(side.Rows)), number(int64(side.Bytes))})
			}
		}
		if rows != nil {
			columns(a.out, []string{"  SIDE", "ROWS IN", "LATE", "ROWS HELD", "BYTES HELD"}, rows)
		}
	}
}

// shownWindows is how many open windows of a step are printed.
const shownWindows = 8

// printWindows lists some of the open windows of a step, the latest first.
func (a *app) printWindows(s flow.Step) {
	fmt.Fprintf(a.out, "\nwindows of %s: %s open, %s keys, watermark %s", s.Step, number(int64(s.Windows)), number(int64(s.Keys)), instant(s.Watermark))
	if s.Lateness > 0 {
		fmt.Fprintf(a.out, ", corrections for %s", strings.ToLower(sql.DurationText(s.Lateness)))
	}
	if n := s.Counts.Partly; n > 0 {
		fmt.Fprintf(a.out, "; %s rows were late for some of their windows", number(n))
	}
	fmt.Fprintln(a.out)
	var rows [][]string
	for _, w := range s.OpenWindows[:min(shownWindows, len(s.OpenWindows))] {
		state := "open"
		if w.Closed {
			state = "takes corrections"
		}
		row := []string{instant(&w.Opens), instant(&w.Closes), number(w.Rows), state}
		if w.Key != "" {
			row = append(row, w.Key)
		}
		rows = append(rows, row)
	}
	if rows != nil {
		columns(a.out, []string{"OPENS", "CLOSES", "ROWS", "STATE", "KEY"}[:len(rows[0])], rows)
	}
}
