package cli

import (
	"errors"
	"fmt"
	"io/fs"

	"fiume/internal/trial"

	"github.com/spf13/cobra"
)

func (a *app) testCommand() *cobra.Command {
	var seed uint64
	var variants int
	var update bool
	c := &cobra.Command{
		Use:   "test DIR…",
		Short: "Run the tests of jobs: given messages, what the sinks must hold",
		Long: `Runs every test below the directories, without a service. A test is a directory with

  test.sql    the job, and what it uses. A line "-- use: FILE" takes the statements of
              another file first; "-- job: NAME" says which job is meant.
  in/NAME.*   messages of a stream or table, one a line, in the order of arrival. In a file
              NAME.keyed each line has a key, a tab and the message, which may be empty.
  out/SINK.*  what stands in a sink in the end, one row a line, in any order.

Each test runs as it is given, and then with other numbers of tasks and sizes of batches,
with arrivals shuffled within the delay, and with crashes at any point: the sinks must hold
the same each time. Where rows are late, the order of arrival stays.`,
		Example: `  fiume test demo/tests
  fiume test demo/tests/crowding --variants 50 --seed 7
  fiume test --update demo/tests/crowding   # writes what the sinks hold, to look at`,
		Args: atLeast(1, 0, "directories of tests"),
		RunE: func(c *cobra.Command, args []string) error {
			params, err := a.params()
			if err != nil {
				return err
			}
			var dirs []string
			for _, d := range args {
				found, err := trial.Find(d)
				if errors.Is(err, fs.ErrNotExist) {
					err = fmt.Errorf("there is no directory %s", d)
				}
				if err != nil {
					return &failure{code: exitUsage, err: err}
				}
				if len(found) == 0 {
					return &failure{code: exitUsage, err: fmt.Errorf("there is no test below %s: a test is a directory with a file test.sql; see fiume test --help", d)}
				}
				dirs = append(dirs, found...)
			}
			reports := []trial.Report{}
			bad := 0
			for _, d := range dirs {
				rep := trial.Report{Dir: d}
				t, err := trial.Load(d, params)
				if err == nil {
					rep, err = t.Do(c.Context(), seed, variants, update)
				}
				if c.Context().Err() != nil {
					return c.Context().Err()
				}
				if err != nil {
					rep.Failed = err.Error()
				}
				if rep.Failed != "" {
					bad++
				}
				reports = append(reports, rep)
				if a.output == "text" {
					a.printReport(rep, update)
				}
			}
			if a.output == "json" {
				if err := a.printJSON(reports); err != nil {
					return err
				}
			}
			if bad > 0 {
				return &failure{code: exitFailed, err: fmt.Errorf("%d of %d tests failed", bad, len(dirs))}
			}
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	a.setFlag(c)
	c.Flags().Uint64Var(&seed, "seed", 1, "of what is varied")
	c.Flags().IntVar(&variants, "variants", 8, "runs beside the given one")
	c.Flags().BoolVar(&update, "update", false, "write what the sinks hold as what they are to hold")
	return c
}

func (a *app) printReport(r trial.Report, update bool) {
	switch {
	case r.Failed != "":
		fmt.Fprintf(a.out, "FAILED  %s\n%s\n", r.Dir, r.Failed)
	case update:
		fmt.Fprintf(a.out, "written %s: %d rows\n", r.Dir, r.Rows)
	default:
		fmt.Fprintf(a.out, "ok      %s: %d rows in %d runs with %d crashes, %.1f s\n", r.Dir, r.Rows, r.Runs, r.Crashes, r.Took.Seconds())
	}
	for _, n := range r.Notes {
		fmt.Fprintf(a.out, "        %s\n", n)
	}
}
