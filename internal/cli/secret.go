package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"
)

func (a *app) secretCommand() *cobra.Command {
	secret := &cobra.Command{Use: "secret", Short: "Look after the secrets of endpoints", Example: "  fiume secret set race_db < password.txt"}
	set := &cobra.Command{
		Use: "set NAME", Short: "Set a secret, read from standard input", Example: "  fiume secret set race_db < password.txt", Args: arity(1, "a name"),
		Long: "Sets a secret. Its value is read from standard input, without the newline at its end,\nkept sealed, and never shown again. Endpoints refer to it with SECRET 'name'.",
		RunE: func(c *cobra.Command, args []string) error {
			b, err := io.ReadAll(a.in)
			if err != nil {
				return err
			}
			if err := a.client().SetSecret(c.Context(), args[0], strings.TrimRight(string(b), "\r\n")); err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "secret %s set\n", args[0])
			return nil
		},
	}
	list := &cobra.Command{
		Use: "list", Short: "List the names of the secrets", Example: "  fiume secret list", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			names, err := a.client().Secrets(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(names)
			}
			if len(names) == 0 {
				fmt.Fprintln(a.out, "no secrets")
			}
			for _, n := range names {
				fmt.Fprintln(a.out, n)
			}
			return nil
		},
	}
	a.outputFlag(list, "text", "json")
	secret.AddCommand(set, list)
	return secret
}
