package cli

import (
	"fmt"

	"fiume/internal/service"

	"github.com/spf13/cobra"
)

func (a *app) versionCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "version", Short: "Print the version", Example: "  fiume version", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			if a.output == "json" {
				return a.printJSON(map[string]string{"version": service.Version})
			}
			fmt.Fprintln(a.out, "fiume "+service.Version)
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	return c
}
