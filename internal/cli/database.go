package cli

import (
	"fmt"
	"strconv"
	"strings"

	"fiume/internal/api"

	"github.com/spf13/cobra"
)

func (a *app) databaseCommand() *cobra.Command {
	database := &cobra.Command{Use: "database", Short: "Make databases on the private server, and tables in them",
		Example: "  fiume database create harbour\n  fiume database run harbour tables.sql\n  fiume database list"}
	list := &cobra.Command{
		Use: "list", Short: "List the databases on the private server", Example: "  fiume database list", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().Databases(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintln(a.out, "no databases; make one with: fiume database create NAME")
				return nil
			}
			var rows [][]string
			for _, d := range all {
				rows = append(rows, []string{d.Name, strconv.Itoa(d.Tables), number(d.Bytes), strings.Join(d.Users, ", ")})
			}
			columns(a.out, []string{"DATABASE", "TABLES", "BYTES", "USERS"}, rows)
			return nil
		},
	}
	a.outputFlag(list, "text", "json")

	var user string
	var declare bool
	create := &cobra.Command{
		Use: "create NAME", Short: "Make a database, a user who owns it, and a secret with its password", Args: arity(1, "a name"),
		Long: `Makes a database on the server that the service has started for itself, and a user who may
do everything in it. The password is made up and kept as the secret of the database's name,
which is sent to the private server alone. With --declare an endpoint of the same name is
declared, too, so that sinks and tables can go VIA it.`,
		Example: "  fiume database create harbour --declare\n  fiume database create harbour --user pilot",
		RunE: func(c *cobra.Command, args []string) error {
			made, err := a.client().CreateDatabase(c.Context(), api.DatabaseRequest{Name: args[0], User: user})
			if err != nil {
				return failed(err)
			}
			if declare {
				if _, err := a.client().Apply(c.Context(), api.ScriptRequest{SQL: made.Endpoint, File: "endpoint"}); err != nil {
					return failed(fmt.Errorf("the database %s is made, but no endpoint is declared: %w", made.Name, err))
				}
			}
			if a.output == "json" {
				return a.printJSON(made)
			}
			fmt.Fprintf(a.out, "database %s made; %s may do everything in it, with the secret '%s'\n", made.Name, made.User, made.Secret)
			if declare {
				fmt.Fprintf(a.out, "endpoint %s declared; make tables with: fiume database run %s FILE\n", made.Name, made.Name)
			} else {
				fmt.Fprintf(a.out, "declare an endpoint that leads there:\n  %s\n", made.Endpoint)
			}
			return nil
		},
	}
	create.Flags().StringVar(&user, "user", "", "who owns it (default: called as the database)")
	create.Flags().BoolVar(&declare, "declare", false, "declare an endpoint of the database's name, too")
	a.outputFlag(create, "text", "json")

	var yes bool
	drop := &cobra.Command{
		Use: "drop NAME", Short: "Delete a database of the private server with all that is in it", Example: "  fiume database drop harbour --yes", Args: arity(1, "a name"),
		RunE: func(c *cobra.Command, args []string) error {
			if ok, err := a.sure(fmt.Sprintf("The database %s is deleted with all that is in it.", args[0]), yes); err != nil || !ok {
				return err
			}
			if err := a.client().DropDatabase(c.Context(), args[0]); err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "database %s deleted\n", args[0])
			return nil
		},
	}
	drop.Flags().BoolVar(&yes, "yes", false, "do not ask")

	var text string
	run := &cobra.Command{
		Use: "run ENDPOINT [FILE]", Short: "Have a database run statements of its own, as to make the tables of sinks", Args: cobra.RangeArgs(1, 2),
		Long: `Sends statements to the database that an endpoint leads to, as the endpoint's user, and prints
what they give. They are in that database's language, not in Fiume's: CREATE TABLE, GRANT,
SELECT. The file is - for standard input. They are done one after the other, up to the first
that fails.`,
		Example: "  fiume database run harbour tables.sql\n  fiume database run harbour --execute 'SELECT * FROM calls LIMIT 5'\n  fiume database run harbour - < tables.sql",
		RunE: func(c *cobra.Command, args []string) error {
			sql := text
			switch {
			case text != "" && len(args) == 2:
				return fail(exitUsage, "give a file or --execute, not both")
			case text == "" && len(args) == 1:
				return fail(exitUsage, "give a file, - for standard input, or --execute and a statement")
			case text == "":
				var err error
				if sql, err = a.readFile(args[1]); err != nil {
					return err
				}
			}
			if strings.TrimSpace(sql) == "" {
				return fail(exitUsage, "there are no statements to run")
			}
			ran, err := a.client().RunStatements(c.Context(), args[0], sql)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				if err := a.printJSON(ran); err != nil {
					return err
				}
			} else {
				a.printRan(ran)
			}
			if ran.Problem != "" {
				return fail(exitFailed, "%s", ran.Problem)
			}
			return nil
		},
	}
	run.Flags().StringVar(&text, "execute", "", "the statements themselves")
	a.outputFlag(run, "text", "json")
	database.AddCommand(create, list, run, drop)
	return database
}

// printRan prints the rows that statements gave.
func (a *app) printRan(ran api.Ran) {
	for _, r := range ran.Results {
		var rows [][]string
		for _, cells := range r.Rows {
			row := make([]string, len(cells))
			for i, c := range cells {
				if row[i] = "NULL"; c != nil {
					row[i] = *c
				}
			}
			rows = append(rows, row)
		}
		columns(a.out, r.Columns, rows)
		if r.More {
			fmt.Fprintf(a.out, "… the first %d rows\n", len(r.Rows))
		}
	}
	if len(ran.Results) == 0 {
		fmt.Fprintln(a.out, "done")
	}
}
