package cli

import (
	"fmt"

	"github.com/spf13/cobra"
)

func (a *app) activityCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "activity", Short: "Show who did what, the newest first", Example: "  fiume activity --limit 20", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			list, err := a.client().Activity(c.Context(), limit)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(list)
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "nothing has been done yet")
				return nil
			}
			var rows [][]string
			for _, x := range list {
				rows = append(rows, []string{x.At.Local().Format("2006-01-02 15:04:05"), x.Actor, x.Action, x.Object, firstLine(x.Detail)})
			}
			columns(a.out, []string{"AT", "WHO", "DID", "TO", "DETAIL"}, rows)
			return nil
		},
	}
	a.outputFlag(c, "table", "json")
	c.Flags().IntVar(&limit, "limit", 50, "how many entries")
	return c
}
