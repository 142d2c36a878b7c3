package cli

import (
	"strings"

	"fiume/internal/api"
	"fiume/internal/core/types"

	"github.com/spf13/cobra"
)

func (a *app) queryCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   `query "SELECT …"`,
		Short: "Run a live query and print its rows as they come",
		Long: `Runs a SELECT in the service and prints its rows as they come, until it reaches its
LIMIT or UNTIL, its inputs end, or Ctrl-C. Topics are read from now on unless the
query says SINCE.`,
		Example: `  fiume query "SELECT chip, mat, rssi FROM reads WHERE rssi > -50 LIMIT 10"
  fiume query "SELECT mat, COUNT(*) AS n FROM reads SINCE BEGINNING
               GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE) UNTIL NOW" --output csv
  fiume query "SELECT mat, COUNT(*) AS n FROM reads GROUP BY mat, w WINDOW w AS (TUMBLING 10 SECONDS)" --output chart`,
		Args: arity(1, "one query in quotes"),
		RunE: func(c *cobra.Command, args []string) error {
			params, err := a.params()
			if err != nil {
				return err
			}
			_, err = a.runQuery(c.Context(), api.ScriptRequest{SQL: args[0], File: "query", Params: params}, a.output)
			return failed(err)
		},
	}
	a.outputFlag(c, "table", "json", "csv", "chart")
	a.setFlag(c)
	return c
}

func typeNamed(s string) types.Type {
	for k := types.Boolean; k <= types.Row; k++ {
		if types.Of(k).String() == s {
			return types.Of(k)
		}
	}
	return types.Of(types.Varchar)
}

func csvCell(s string) string {
	if strings.ContainsAny(s, ",\"\r\n") {
		return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
	}
	return s
}
