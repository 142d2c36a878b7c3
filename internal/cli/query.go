package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"fiume/internal/api"
	"fiume/internal/core/types"
	"fiume/internal/service"

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
               GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE) UNTIL NOW" --output csv`,
		Args: arity(1, "one query in quotes"),
		RunE: func(c *cobra.Command, args []string) error {
			params, err := a.params()
			if err != nil {
				return err
			}
			w := bufio.NewWriter(a.out)
			var table *tableWriter
			var names []types.Field
			end, err := a.client().Query(c.Context(), api.ScriptRequest{SQL: args[0], File: "query", Params: params},
				func(cols []service.Column) error {
					for _, col := range cols {
						names = append(names, types.Field{Name: col.Name, Type: typeNamed(col.Type)})
					}
					switch a.output {
					case "table":
						table = newTable(w, names)
						table.live = isTerminal(a.out)
					case "csv":
						for i, f := range names {
							if i > 0 {
								w.WriteByte(',')
							}
							w.WriteString(csvCell(f.Name))
						}
						w.WriteByte('\n')
					}
					return w.Flush()
				},
				func(row json.RawMessage) error {
					switch a.output {
					case "table":
						return table.row(row)
					case "csv":
						cells, err := jsonRow(row, names)
						if err != nil {
							return err
						}
						for i, cell := range cells {
							if i > 0 {
								w.WriteByte(',')
							}
							if cell != "NULL" {
								w.WriteString(csvCell(cell))
							}
						}
						w.WriteByte('\n')
					default:
						w.Write(row)
						w.WriteByte('\n')
					}
					return w.Flush()
				})
			if table != nil && (end != nil || table.rows > 0) {
				err = errors.Join(err, table.finish())
			}
			err = errors.Join(err, w.Flush())
			if end != nil {
				var late, rejected int64
				for _, s := range end.Status.Steps {
					late += s.Counts.Late
					rejected += s.Counts.Rejected
				}
				if late+rejected > 0 {
					fmt.Fprintf(a.err, "%d rows were late, %d rejected\n", late, rejected)
				}
			}
			return failed(err)
		},
	}
	a.outputFlag(c, "table", "json", "csv")
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
