package cli

import (
	"fmt"

	"github.com/spf13/cobra"
)

func (a *app) connectionsCommand() *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: "connections [NAME…]", Short: "Test whether sources, sinks and endpoints can be used",
		Long: `Tests what is declared, or the given names, or what a file's job reads and writes: whether
it is reachable, lets us in, exists, and has columns that fit, with the reason where not.`,
		Example: "  fiume connections\n  fiume connections reads crowd_table\n  fiume connections --file crowding.sql",
		RunE: func(c *cobra.Command, args []string) error {
			text := ""
			params, err := a.params()
			if err != nil {
				return err
			}
			if file != "" {
				if text, err = a.readFile(file); err != nil {
					return err
				}
			}
			all, err := a.client().Connections(c.Context(), text, params, args)
			if err != nil {
				return failed(err)
			}
			bad := 0
			for _, x := range all {
				if !x.OK {
					bad++
				}
			}
			if a.output == "json" {
				if err := a.printJSON(all); err != nil {
					return err
				}
			} else {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "nothing is declared")
				}
				for _, x := range all {
					state := "ok"
					if !x.OK {
						state = "FAILED"
					}
					fmt.Fprintf(a.out, "%-6s  %s %s (%s %s)\n", state, x.Kind, x.Name, x.Place, x.Address)
					for _, t := range x.Checks {
						mark := "yes"
						if !t.OK {
							mark = "no "
						}
						fmt.Fprintf(a.out, "        %s %s: %s\n", mark, t.What, t.Detail)
					}
				}
			}
			if bad > 0 {
				return &failure{code: exitFailed, err: fmt.Errorf("%d of %d cannot be used", bad, len(all))}
			}
			return nil
		},
	}
	c.Flags().StringVar(&file, "file", "", "test what the queries and jobs of this file read and write")
	a.setFlag(c)
	a.outputFlag(c, "text", "json")
	return c
}
