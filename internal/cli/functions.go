package cli

import (
	"fmt"

	"fiume/internal/connect"
	"fiume/internal/core/eval"
	"fiume/internal/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) functionsCommand() *cobra.Command {
	var kind string
	c := &cobra.Command{
		Use:   "functions [NAME]",
		Short: "List the functions of the language, or describe one",
		Long: `Lists the functions and aggregates of the language with their forms, or tells all
about one: its forms, what NULLs do, and an example with its result. It needs no
service; functions that users have made are listed by SHOW FUNCTIONS.`,
		Example: `  fiume functions
  fiume functions --kind aggregate
  fiume functions date_trunc --output json`,
		Args: atLeast(0, 1, "at most one name"),
		RunE: func(c *cobra.Command, args []string) error {
			cat := plan.NewCatalog(connect.Places())
			if len(args) == 1 {
				f, err := cat.Function(args[0])
				if err != nil {
					return fail(exitFailed, "%v", err)
				}
				if a.output == "json" {
					return a.printJSON(plan.Entry(f))
				}
				text, err := cat.DescribeFunction(args[0])
				fmt.Fprint(a.out, text)
				return err
			}
			list := []plan.FunctionEntry{}
			var rows [][]string
			for _, f := range eval.Functions() {
				if kind == "" || string(f.Kind) == kind {
					list = append(list, plan.Entry(f))
					rows = append(rows, []string{f.Name, string(f.Kind), f.Signatures[0]})
				}
			}
			if a.output == "json" {
				return a.printJSON(list)
			}
			if len(rows) == 0 {
				return fail(exitUsage, "there are no functions of the kind %q; kinds are scalar, aggregate and over", kind)
			}
			columns(a.out, []string{"function", "kind", "form"}, rows)
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	c.Flags().StringVar(&kind, "kind", "", "only those of a kind: scalar, aggregate, over")
	return c
}
