package cli

import (
	"encoding/json"
	"errors"
	"fmt"

	"fiume/internal/connect"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"

	"github.com/spf13/cobra"
)

func (a *app) checkCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "check FILE.sql…",
		Short: "Find the errors of files of SQL without running anything",
		Long: `Parses files and binds their names and types, in the order given, as one script.
Nothing outside is looked at. All errors are printed, each once, in order.`,
		Example: `  fiume check demo/sql/race.sql
  fiume check --output json streams.sql jobs.sql`,
		Args: atLeast(1, 0, "files of SQL"),
		RunE: func(c *cobra.Command, args []string) error {
			params, err := a.params()
			if err != nil {
				return err
			}
			cat := plan.NewCatalog(connect.Places())
			list := []fileError{}
			statements := 0
			var failed []error
			for _, name := range args {
				src, err := a.readFile(name)
				if err != nil {
					return err
				}
				n, err := check(cat, name, src, params)
				statements += n
				var e *sql.Errors
				if errors.As(err, &e) {
					failed = append(failed, err)
					for _, d := range e.List {
						list = append(list, fileError{name, d})
					}
				}
			}
			if a.output == "json" {
				enc := json.NewEncoder(a.out)
				enc.SetIndent("", "  ")
				if err := enc.Encode(map[string]any{"statements": statements, "errors": list}); err != nil {
					return err
				}
				if len(failed) > 0 {
					return fail(exitSQL, "%d errors", len(list))
				}
				return nil
			}
			if len(failed) > 0 {
				return errors.Join(failed...)
			}
			fmt.Fprintf(a.out, "%d statements, no errors\n", statements)
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	a.setFlag(c)
	return c
}

// fileError is an error with its file, for --output json.
type fileError struct {
	File string `json:"file"`
	sql.Diagnostic
}

// check binds a text and adds its declarations to the catalog.
func check(cat *plan.Catalog, file, src string, params map[string]string) (int, error) {
	_, script, err := cat.Bind(file, src, params, func(st sql.Statement, errs *sql.Errors) {
		if in, ok := st.(*sql.Insert); ok {
			cat.Insert(in, errs)
			return
		}
		explainedPlan(cat, st, errs)
	})
	return len(script.Statements), err
}
