package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"

	"fiume/internal/api"
	"fiume/internal/connect"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/service/samples"

	"github.com/spf13/cobra"
)

func (a *app) explainCommand() *cobra.Command {
	var rate float64
	c := &cobra.Command{
		Use:   "explain FILE.sql… | JOB…",
		Short: "Show how the jobs and queries of files would run, or a job of the service runs",
		Long: `A name that no file has is that of a job of the service. Shows the steps of every job and query of the files, read in the order given as one
script: what each source decodes, keys and windows, what has been moved toward the
source, what is not computed, how the work is shared, and the most that each step
keeps at a rate of rows. Of files nothing outside is looked at.`,
		Example: `  fiume explain demo/sql/race.sql
  fiume explain jobs.sql --rate 50000 --output json
  fiume explain crowding`,
		Args: atLeast(1, 0, "files of SQL, or jobs"),
		RunE: func(c *cobra.Command, args []string) error {
			params, err := a.params()
			if err != nil {
				return err
			}
			cat := plan.NewCatalog(connect.Places())
			cat.Sample = samples.SampledLocally
			out := []*plan.Explanation{}
			for _, name := range args {
				if _, err := os.Stat(name); errors.Is(err, os.ErrNotExist) && !strings.HasSuffix(name, ".sql") && name != "-" {
					x, err := a.explainedJob(c.Context(), name, rate)
					if err != nil {
						return err
					}
					out = append(out, x)
					continue
				}
				src, err := a.readFile(name)
				if err != nil {
					return err
				}
				var explained []*plan.Plan
				plans, _, err := cat.Bind(name, src, params, func(st sql.Statement, errs *sql.Errors) {
					explained = append(explained, explainedPlan(cat, st, errs))
				})
				if err != nil {
					return err
				}
				for _, p := range append(plans, explained...) {
					if p != nil {
						out = append(out, p.Explain(rate))
					}
				}
			}
			if a.output == "json" {
				return a.printJSON(out)
			}
			if len(out) == 0 {
				fmt.Fprintln(a.err, "nothing to explain: the files have no CREATE JOB and no SELECT")
			}
			for i, x := range out {
				if i > 0 {
					fmt.Fprintln(a.out)
				}
				if x.Name != "" {
					fmt.Fprintf(a.out, "job %s\n", x.Name)
				}
				fmt.Fprint(a.out, x)
			}
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	a.setFlag(c)
	c.Flags().Float64Var(&rate, "rate", plan.DefaultRate, "rows a second from each source, for the bounds of the state")
	return c
}

// explainedJob asks the service how a job runs.
func (a *app) explainedJob(ctx context.Context, name string, rate float64) (*plan.Explanation, error) {
	d, err := a.client().Job(ctx, name)
	var p *api.Problem
	switch {
	case errors.As(err, &p) && p.Status == http.StatusNotFound:
		return nil, fail(exitNotFound, "there is no file %s, and %s", name, p.Detail)
	case err != nil:
		return nil, failed(err)
	case d.Plan == nil:
		return nil, fail(exitFailed, "the job %s cannot be read any more; fiume job show %[1]s says why", name)
	}
	if rate != plan.DefaultRate {
		return nil, fail(exitUsage, "--rate is for files: EXPLAIN of a job on the service reckons with %.0f rows a second", float64(plan.DefaultRate))
	}
	d.Plan.Name = name
	return d.Plan, nil
}

// explainedPlan binds what an EXPLAIN statement shows; nil for other statements and for jobs by name.
func explainedPlan(cat *plan.Catalog, st sql.Statement, errs *sql.Errors) *plan.Plan {
	switch e := st.(type) {
	case *sql.Explain:
		switch {
		case e.Query != nil:
			return cat.Query(e.Query, errs)
		case e.Create != nil:
			return cat.Clone().Job(e.Create, errs)
		}
	}
	return nil
}
