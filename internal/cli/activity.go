package cli

import (
	"fmt"

	"fiume/internal/catalog"

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
				rows = append(rows, []string{x.At.Local().Format("2006-01-02 15:04:05"), whoText(x), x.Action, x.Object, firstLine(x.Detail)})
			}
			columns(a.out, []string{"AT", "WHO", "DID", "TO", "DETAIL"}, rows)
			return nil
		},
	}
	proof := &cobra.Command{
		Use: "proof", Short: "Show whether an entry of the log was changed or removed", Args: arity(0, "no arguments"),
		Long:    "Follows the chain of the activity log. Each entry has the hash of itself and of the one before; the one of the newest,\nkept elsewhere, shows later whether the newest were removed.",
		Example: "  fiume activity proof",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.client().ProveActivity(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				err = a.printJSON(p)
			} else {
				fmt.Fprintln(a.out, p)
			}
			if err == nil && p.Broken > 0 {
				err = &failure{code: exitFailed, err: fmt.Errorf("the log is broken at entry %d", p.Broken)}
			}
			return err
		},
	}
	a.outputFlag(proof, "text", "json")
	var after uint
	export := &cobra.Command{
		Use: "export", Short: "Write the log in its order, an entry of JSON in a line", Args: arity(0, "no arguments"),
		Example: "  fiume activity export > activity.ndjson\n  fiume activity export --after 1200 >> activity.ndjson",
		RunE: func(c *cobra.Command, args []string) error {
			return failed(a.client().ExportActivity(c.Context(), after, a.out))
		},
	}
	export.Flags().UintVar(&after, "after", 0, "the id of the last entry that was written before")
	c.AddCommand(proof, export)
	a.outputFlag(c, "table", "json")
	c.Flags().IntVar(&limit, "limit", 50, "how many entries")
	return c
}

// whoText says who did something, and by what, where that was no person's session.
func whoText(x catalog.Activity) string {
	if x.Via != "" && x.Via != "session" {
		return x.Actor + " (" + x.Via + ")"
	}
	return x.Actor
}
