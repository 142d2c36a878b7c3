package cli

import (
	"fmt"
	"strings"

	"fiume/internal/api"
	"fiume/internal/service/declare"

	"github.com/spf13/cobra"
)

func (a *app) applyCommand() *cobra.Command {
	var dryRun bool
	c := &cobra.Command{
		Use:   "apply FILE.sql…",
		Short: "Send declarations and jobs to the service",
		Long: `Has the statements of files done by the service, in order. Each file is checked as
a whole first: where a statement has errors, nothing of the file is done. Where the
service's database fails in between, what was done is printed and stays. Applying a
file again changes nothing.`,
		Example: `  fiume apply demo/sql/race.sql --set archive=archive/reads --set editions='editions/*.csv' --set older_editions='editions/*.parquet' --set lake=lake
  fiume apply --dry-run jobs.sql      # what would a new version of a job take over?
  echo 'SHOW JOBS;' | fiume apply -`,
		Args: atLeast(1, 0, "files of SQL"),
		RunE: func(c *cobra.Command, args []string) error {
			params, err := a.params()
			if err != nil {
				return err
			}
			var all []declare.Outcome
			for _, name := range args {
				src, err := a.readFile(name)
				if err != nil {
					return err
				}
				r, err := a.client().Apply(c.Context(), api.ScriptRequest{SQL: src, File: name, Params: params, DryRun: dryRun})
				if err != nil {
					return failed(err)
				}
				all = append(all, r.Outcomes...)
				if a.output == "text" {
					for _, o := range r.Outcomes {
						a.printOutcome(o)
					}
					if dryRun {
						fmt.Fprintf(a.out, "%s has no errors; nothing was done\n", name)
					}
				}
				if r.Problem != nil {
					return failed(r.Problem)
				}
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	a.setFlag(c)
	c.Flags().BoolVar(&dryRun, "dry-run", false, "check only, and say what would be done")
	return c
}

func (a *app) printOutcome(o declare.Outcome) {
	if o.Done == "shown" {
		if o.Columns != nil {
			if len(o.Rows) == 0 {
				fmt.Fprintf(a.out, "no %ss\n", o.Kind)
			} else {
				columns(a.out, o.Columns, o.Rows)
			}
		}
		if o.Note != "" {
			fmt.Fprintln(a.out, strings.TrimRight(o.Note, "\n"))
		}
		return
	}
	fmt.Fprintf(a.out, "%s %s %s", o.Kind, o.Name, o.Done)
	if o.Note != "" {
		fmt.Fprintf(a.out, " (%s)", o.Note)
	}
	fmt.Fprintln(a.out)
	if len(o.Changes) > 0 {
		a.printChanges(o.Changes)
	}
	for _, w := range o.Prepares {
		fmt.Fprintf(a.out, "  %s\n", w)
	}
	for _, j := range o.Jobs {
		fmt.Fprintf(a.out, "  the job %s goes along\n", j.Job)
		a.printChanges(j.Changes)
		for _, w := range j.Prepares {
			fmt.Fprintf(a.out, "    %s\n", w)
		}
	}
}
