package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"
)

func (a *app) secretCommand() *cobra.Command {
	secret := &cobra.Command{Use: "secret", Short: "Look after the secrets of endpoints", Example: "  fiume secret set race_db < password.txt"}
	var address string
	set := &cobra.Command{
		Use: "set NAME", Short: "Set a secret, read from standard input", Example: "  fiume secret set race_db < password.txt\n  fiume secret set race_db --for race@127.0.0.1:3306 < password.txt", Args: arity(1, "a name"),
		Long: "Sets a secret. Its value is read from standard input, without the newline at its end,\nkept sealed, and never shown again. Endpoints refer to it with SECRET 'name'.\n\nA secret is sent to one address alone: the one that --for names, or else that of the\nfirst endpoint that uses it.",
		RunE: func(c *cobra.Command, args []string) error {
			b, err := io.ReadAll(a.in)
			if err != nil {
				return err
			}
			if err := a.client().SetSecretFor(c.Context(), args[0], strings.TrimRight(string(b), "\r\n"), address); err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "secret %s set\n", args[0])
			return nil
		},
	}
	set.Flags().StringVar(&address, "for", "", "user@host:port that the secret may be sent to")
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
