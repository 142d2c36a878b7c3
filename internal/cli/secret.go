package cli

import (
	"cmp"
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
		Long: "Sets a secret. Its value is read from standard input, without the newline at its end,\nkept sealed, and never shown again. Endpoints refer to it with SECRET 'name'.\n\nSecrets may also come from outside: from a file of the directory that the service has for\nthem (--secrets-dir), called like the secret, or, where its name is a plain word, from\nFIUME_SECRET_NAME in the environment of the service. A file NAME.for has the address.\n\nA secret is sent to one address alone: the one that --for names, or else that of the\nfirst endpoint that uses it.",
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
		Use: "list", Short: "List the secrets, without their values", Example: "  fiume secret list", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().Secrets(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintln(a.out, "no secrets; set one with: fiume secret set NAME < FILE")
				return nil
			}
			var rows [][]string
			for _, s := range all {
				rows = append(rows, []string{s.Name, cmp.Or(s.From, "set"), cmp.Or(s.For, "the first that uses it"), cmp.Or(strings.Join(s.UsedBy, ", "), "-"), ago(s.Changed)})
			}
			columns(a.out, []string{"SECRET", "FROM", "SENT TO", "ENDPOINTS", "SET"}, rows)
			return nil
		},
	}
	var yes bool
	drop := &cobra.Command{
		Use: "drop NAME", Short: "Forget a secret that no endpoint uses", Example: "  fiume secret drop race_db --yes", Args: arity(1, "a name"),
		RunE: func(c *cobra.Command, args []string) error {
			if ok, err := a.sure(fmt.Sprintf("The secret %s is forgotten for good.", args[0]), yes); err != nil || !ok {
				return err
			}
			if err := a.client().DropSecret(c.Context(), args[0]); err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "secret %s forgotten\n", args[0])
			return nil
		},
	}
	drop.Flags().BoolVar(&yes, "yes", false, "do not ask")
	a.outputFlag(list, "text", "json")
	secret.AddCommand(set, list, drop)
	return secret
}
