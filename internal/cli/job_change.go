package cli

import (
	"fmt"
	"strconv"
	"strings"

	"fiume/internal/api"
	"fiume/internal/core/plan"
	"fiume/internal/service/jobs"

	"github.com/spf13/cobra"
)

// changeCommands are the commands of fiume job that change a job or show what it was.
func (a *app) changeCommands() []*cobra.Command {
	versions := &cobra.Command{
		Use: "versions JOB", Short: "List the texts that a job has had", Example: "  fiume job versions crowding\n  fiume job versions crowding --output json | jq -r '.[1].sql'", Args: arity(1, "the name of a job"),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().Versions(c.Context(), args[0])
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			var rows [][]string
			for _, v := range all {
				rows = append(rows, []string{strconv.Itoa(v.Version), v.CreatedAt.Local().Format("2006-01-02 15:04:05"), v.Actor, clipped(strings.Join(strings.Fields(v.SQL), " "), 80)})
			}
			columns(a.out, []string{"VERSION", "SINCE", "BY", "TEXT"}, rows)
			return nil
		},
	}
	var since string
	compare := &cobra.Command{
		Use: "compare JOB FILE.sql", Short: "Compare what a new text of a job would write with what the one that runs does",
		Long: `Runs the job as it is and as the file has it beside each other, over the messages that its
topics hold now, into sinks of their own, and compares what would stand in each sink.
Nothing changes; fiume apply FILE.sql has the new text take over.`,
		Example: "  fiume job compare crowding crowding.sql --since '1 HOUR'", Args: arity(2, "the name of a job and a file"),
		RunE: func(c *cobra.Command, args []string) error {
			params, err := a.params()
			if err != nil {
				return err
			}
			src, err := a.readFile(args[1])
			if err != nil {
				return err
			}
			r, err := a.client().Compare(c.Context(), args[0], since, api.ScriptRequest{SQL: src, File: args[1], Params: params})
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(r)
			}
			var rows [][]string
			for _, s := range r.Sinks {
				rows = append(rows, []string{s.Sink, number(int64(s.Equal)), number(int64(s.Changed)), number(int64(s.Missing)), number(int64(s.Added))})
			}
			columns(a.out, []string{"SINK", "EQUAL", "CHANGED", "MISSING", "ADDED"}, rows)
			for _, s := range r.Sinks {
				if len(s.Samples) > 0 {
					fmt.Fprintf(a.out, "%s:\n", s.Sink)
				}
				for _, x := range s.Samples {
					if x.Old != "" {
						fmt.Fprintf(a.out, "  - %s\n", x.Old)
					}
					if x.New != "" {
						fmt.Fprintf(a.out, "  + %s\n", x.New)
					}
				}
			}
			fmt.Fprintf(a.out, "%s messages were read by the new text\n", number(r.Read))
			return nil
		},
	}
	compare.Flags().StringVar(&since, "since", "", "where to begin, as behind SINCE: '1 HOUR', BEGINNING, TIMESTAMP '…'; the beginning where left out")
	a.setFlag(compare)
	var to int
	revert := &cobra.Command{
		Use: "revert JOB", Short: "Go back to an earlier version of a job, as a new version",
		Long: `Gives a job the text of an earlier version again. It takes over place and state as every
new version does: steps that mean the same keep what they know.`,
		Example: "  fiume job revert crowding\n  fiume job revert crowding --to 3", Args: arity(1, "the name of a job"),
		RunE: func(c *cobra.Command, args []string) error {
			out, err := a.client().Revert(c.Context(), args[0], to)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(out)
			}
			for _, o := range out {
				a.printOutcome(o)
			}
			return nil
		},
	}
	revert.Flags().IntVar(&to, "to", 0, "the version; 0: the one before")
	parallelism := &cobra.Command{
		Use: "parallelism JOB TASKS", Short: "Change how many tasks share the work of a job",
		Long: `Changes how many tasks share the work of a job, running or stopped. It is stopped at a
checkpoint, the key ranges are shared out anew with their state, and it goes on.
0 stands for what the job's text says.`,
		Example: "  fiume job parallelism crowding 4", Args: arity(2, "the name of a job and a number of tasks"),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := strconv.Atoi(args[1])
			if err != nil {
				return &failure{code: exitUsage, err: fmt.Errorf("%q is no number of tasks", args[1])}
			}
			if err := a.client().SetParallelism(c.Context(), args[0], n); err != nil {
				return failed(err)
			}
			if n == 0 {
				fmt.Fprintf(a.out, "job %s runs with as many tasks as its text says\n", args[0])
				return nil
			}
			fmt.Fprintf(a.out, "job %s runs with %s\n", args[0], counted(int64(n), "task"))
			return nil
		},
	}
	checkpoints := &cobra.Command{
		Use: "checkpoints JOB", Short: "List the checkpoints of a job that are kept", Example: "  fiume job checkpoints crowding", Args: arity(1, "the name of a job"),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().Checkpoints(c.Context(), args[0])
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintf(a.out, "job %s has no checkpoint yet\n", args[0])
				return nil
			}
			var rows [][]string
			for _, x := range all {
				rows = append(rows, []string{number(x.Number), x.At.Local().Format("15:04:05"), strconv.Itoa(x.Version), number(x.Bytes), number(x.TookMs)})
			}
			columns(a.out, []string{"CHECKPOINT", "AT", "VERSION", "BYTES", "TOOK MS"}, rows)
			return nil
		},
	}
	state := &cobra.Command{
		Use: "state JOB", Short: "Show what the steps of a job keep, and what its sinks promise",
		Long: `Shows the keys, rows and bytes that each step keeps and how fast they grow, what each
sink promises and holds back, and the checkpoints that are kept.`,
		Example: "  fiume job state crowding", Args: arity(1, "the name of a job"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client().JobState(c.Context(), args[0])
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(s)
			}
			a.printState(s)
			return nil
		},
	}
	var from string
	start := &cobra.Command{
		Use: "start JOB", Short: "Start a stopped job where it was, or from another place",
		Long: `Starts a stopped job where it was. With --from it begins at another place: the beginning,
a checkpoint by its number, or the messages stored at an instant. Results from there on are
written once more.`,
		Example: "  fiume job start crowding\n  fiume job start crowding --from beginning\n  fiume job start crowding --from 42\n  fiume job start crowding --from '2026-05-17 09:00:00'", Args: arity(1, "the name of a job"),
		RunE: func(c *cobra.Command, args []string) error {
			var err error
			if from == "" {
				err = a.client().StartJob(c.Context(), args[0])
			} else {
				where := "TIMESTAMP '" + strings.ReplaceAll(from, "'", "''") + "'"
				if n, bad := strconv.Atoi(from); bad == nil {
					where = fmt.Sprint("CHECKPOINT ", n)
				} else if strings.EqualFold(from, "beginning") {
					where = "BEGINNING"
				}
				_, err = a.client().Apply(c.Context(), api.ScriptRequest{SQL: fmt.Sprintf("START JOB \"%s\" FROM %s;", strings.ReplaceAll(args[0], `"`, `""`), where), File: "--from"})
			}
			if err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "job %s started\n", args[0])
			return nil
		},
	}
	start.Flags().StringVar(&from, "from", "", "beginning, the number of a checkpoint, or an instant")
	for _, c := range []*cobra.Command{versions, revert, checkpoints, state, compare} {
		a.outputFlag(c, "text", "json")
	}
	return []*cobra.Command{start, state, checkpoints, versions, compare, revert, parallelism}
}

func (a *app) printState(s *jobs.JobState) {
	var rows [][]string
	for _, x := range s.Steps {
		growth := "-"
		if x.Growth != nil {
			growth = fmt.Sprintf("%+d", int64(*x.Growth))
		}
		what := x.Detail
		if x.Parked > 0 {
			what += fmt.Sprintf("; %d parts wait on disk", x.Parked)
		}
		rows = append(rows, []string{x.Step, x.Kind, number(int64(x.Keys)), number(int64(x.Rows)), number(int64(x.Bytes)), number(x.Disk), growth, what})
	}
	if len(rows) == 0 {
		fmt.Fprintln(a.out, "no step of the job keeps anything")
	} else {
		columns(a.out, []string{"STEP", "KIND", "KEYS", "ROWS", "BYTES", "ON DISK", "BYTES A MINUTE", "WHAT"}, rows)
		fmt.Fprintf(a.out, "at most %s MB of it in memory\n", number(s.Memory>>20))
	}
	fmt.Fprintln(a.out)
	for _, x := range s.Sinks {
		fmt.Fprintf(a.out, "sink %s (%s): %s\n", x.Sink, x.Place, x.Promise)
		if x.Spooled > 0 {
			fmt.Fprintf(a.out, "  %s bytes wait for their place\n", number(x.Spooled))
		}
		if x.Missing > 0 {
			fmt.Fprintf(a.out, "  %s rows from before the last start have not come again; where that stays, what was read again gave other rows\n", number(int64(x.Missing)))
		}
		if w := x.Waiting; w != nil {
			fmt.Fprintf(a.out, "  retrying since %s because %s\n", w.Since.Local().Format("15:04:05"), firstLine(w.Reason))
		}
	}
	for _, x := range s.Checkpoints {
		fmt.Fprintf(a.out, "checkpoint %d of version %d, %s, %s bytes, took %d ms\n", x.Number, x.Version, ago(x.At), number(x.Bytes), x.TookMs)
	}
}

func clipped(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

// printChanges prints what a new version of a job takes over.
func (a *app) printChanges(changes []plan.Change) {
	var rows [][]string
	for _, c := range changes {
		rows = append(rows, []string{"", c.What, c.Kind, c.Step, c.Detail})
	}
	columns(a.out, []string{"", "WHAT", "KIND", "STEP", "THAT IS"}, rows)
}
