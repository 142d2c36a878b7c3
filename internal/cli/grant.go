package cli

import (
	"fmt"
	"time"

	"fiume/internal/core/plan"
	"fiume/internal/service/people"

	"github.com/spf13/cobra"
)

// durationOf reads a length of time as SQL writes it.
func durationOf(text string) (time.Duration, error) {
	b, err := plan.ParseBound(text)
	if err != nil || b.Kind != plan.Ago {
		return 0, fmt.Errorf("write a length of time such as '90 DAYS', found %q", text)
	}
	return time.Duration(b.At) * time.Microsecond, nil
}

func (a *app) grantCommand() *cobra.Command {
	var to string
	c := &cobra.Command{
		Use: "grant KIND NAME", Short: "Have a space use something that does not stand in it", Args: arity(2, "a kind and a name"),
		Long: `Has a space use something that does not stand in it: endpoint, files (a directory of --files, by its name), secret, sink,
topic, stream, table, view, board or job. Those who develop in the space may name it in what they declare, and those who read
there may read its rows. Without a grant a space has only what is called SPACE.….`,
		Example: "  fiume grant endpoint race_db --to timing\n  fiume grant files archive --to timing",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Grant(c.Context(), people.Share{Kind: args[0], Name: args[1], Space: to}); err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "the space %s may use the %s %s\n", to, args[0], args[1])
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "the space")
	_ = c.MarkFlagRequired("to")
	return c
}

func (a *app) revokeCommand() *cobra.Command {
	var from string
	c := &cobra.Command{
		Use: "revoke KIND NAME", Short: "Have a space not use something any more; what is declared by it stays", Args: arity(2, "a kind and a name"),
		Example: "  fiume revoke endpoint race_db --from timing",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Revoke(c.Context(), people.Share{Kind: args[0], Name: args[1], Space: from}); err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "the space %s may not use the %s %s any more\n", from, args[0], args[1])
			return nil
		},
	}
	c.Flags().StringVar(&from, "from", "", "the space")
	_ = c.MarkFlagRequired("from")
	return c
}

func (a *app) grantsCommand() *cobra.Command {
	c := &cobra.Command{Use: "grants", Short: "List what spaces may use that does not stand in them", Example: "  fiume grants", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().Grants(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintln(a.out, "nothing is granted; fiume grant has a space use something that does not stand in it")
				return nil
			}
			var rows [][]string
			for _, s := range all {
				rows = append(rows, []string{s.Kind, s.Name, s.Space})
			}
			columns(a.out, []string{"KIND", "NAME", "SPACE"}, rows)
			return nil
		}}
	a.outputFlag(c, "text", "json")
	return c
}

func (a *app) spacesCommand() *cobra.Command {
	c := &cobra.Command{Use: "spaces", Short: "List the spaces that you know of", Example: "  fiume spaces", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().Spaces(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintln(a.out, "no spaces; one begins with the first name that stands in it: CREATE TOPIC timing.reads")
			}
			for _, s := range all {
				fmt.Fprintln(a.out, s)
			}
			return nil
		}}
	a.outputFlag(c, "text", "json")
	return c
}
