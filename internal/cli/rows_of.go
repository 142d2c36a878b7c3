package cli

import (
	"fmt"
	"strings"

	"fiume/internal/service/questions"

	"github.com/spf13/cobra"
)

func (a *app) rowsCommand() *cobra.Command {
	var limit int
	var where []string
	c := &cobra.Command{
		Use: "rows NAME", Short: "Show rows of a stream, table or view, those that a sink holds, or those of a job's step as they stand",
		Long: `Shows rows of something declared: of what stands over a topic the newest, of other places the first. Those of a
sink are read from where it writes. Nothing runs on.

Of a running job, JOB.STEP shows the rows of a step as they stand: of one that groups, what it would give if all its
windows ended now, of a table its rows. With --where for all of its keys a row is found at once.`,
		Example: "  fiume rows clean_topic\n  fiume rows split_lake --limit 10000 -o csv > splits.csv\n  fiume rows crowding.crowds --where mat=km-05",
		Args:    arity(1, "the name of a stream, table, view or sink, or JOB.STEP"),
		RunE: func(c *cobra.Command, args []string) error {
			if limit < 1 || limit > 10_000 {
				return fail(exitUsage, "--limit is a number of rows from 1 to 10000")
			}
			dot := strings.LastIndexByte(args[0], '.')
			ofJob := len(where) > 0
			if dot >= 0 && !ofJob { // space.name, or job.step
				_, err := a.client().Definition(c.Context(), args[0])
				ofJob = codeOf(failed(err)) == exitNotFound
			}
			if dot >= 0 && ofJob {
				job, step := args[0][:dot], args[0][dot+1:]
				p, err := a.client().Present(c.Context(), job, step, where, limit)
				if err != nil && len(where) == 0 && codeOf(failed(err)) == exitNotFound {
					return fail(exitNotFound, "nothing is declared as %q; %w", args[0], err)
				}
				if err != nil {
					return failed(err)
				}
				if err := a.printResult(questions.TriedResult{Columns: p.Columns, Rows: p.Rows, Total: int64(len(p.Rows))}, a.output); err != nil {
					return err
				}
				if p.More {
					fmt.Fprintln(a.err, "there are more rows; --limit takes up to 10,000")
				}
				return nil
			}
			if len(where) > 0 {
				return fail(exitUsage, "--where finds rows of a job's step, JOB.STEP; of what is declared ask with: fiume query")
			}
			got, err := a.client().Rows(c.Context(), args[0], limit)
			if err != nil {
				return failed(err)
			}
			if len(got.Results) == 0 {
				return nil
			}
			r := got.Results[0]
			if err := a.printResult(r, a.output); err != nil {
				return err
			}
			if r.Total > int64(len(r.Rows)) {
				fmt.Fprintln(a.err, "there are more rows; --limit takes up to 10,000")
			}
			for _, x := range got.Samples {
				fmt.Fprintf(a.err, "%s: %s\n", x.Kind, x.Reason)
			}
			if got.Stopped != "" {
				fmt.Fprintln(a.err, got.Stopped)
			}
			return nil
		},
	}
	c.Flags().StringArrayVar(&where, "where", nil, "of a job's step: only rows whose column has this value: column=value")
	c.Flags().IntVar(&limit, "limit", 20, "how many rows at most")
	a.outputFlag(c, "table", "json", "csv")
	return c
}
