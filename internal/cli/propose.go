package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
)

func (a *app) proposeCommand() *cobra.Command {
	var f sampleFlags
	c := &cobra.Command{
		Use: "propose [TOPIC]", Short: "Propose a declaration for the messages of a topic, a file or a table", Args: atMostOne,
		Long: `Looks at messages and writes the DECLARE statement that fits them: columns with types,
which are NOT NULL, the event time, and the DELAY that keeps 999 of 1000 rows. The
statement goes to standard output, what there is to know about it to standard error.`,
		Example: "  fiume propose mat-reads\n  fiume propose --file editions/2025.parquet\n  fiume propose --table mats --via race_db\n  fiume propose mat-reads > reads.sql   # to change, and to apply",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := f.request(args)
			if err != nil {
				return err
			}
			p, err := a.client().Propose(c.Context(), r)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(p)
			}
			fmt.Fprintln(a.out, p.SQL)
			var rows [][]string
			for _, x := range p.Columns {
				rows = append(rows, []string{x.Name, x.Type, number(int64(x.Missing)), clipped(strings.Join(x.Examples, ", "), 50), x.Note})
			}
			fmt.Fprintf(a.err, "\n%s messages looked at, %s of them no rows\n", number(int64(p.Messages)), number(int64(p.Unreadable)))
			columns(a.err, []string{"COLUMN", "TYPE", "MISSING", "EXAMPLES", ""}, rows)
			for _, t := range p.EventTimes {
				fmt.Fprintf(a.err, "event time %s: %s\n", t.Column, t.Why)
			}
			for _, n := range p.Notes {
				fmt.Fprintln(a.err, "note: "+n)
			}
			return nil
		},
	}
	f.add(c)
	a.outputFlag(c, "text", "json")
	return c
}

func (a *app) driftCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "drift STREAM", Short: "Show how the newest messages of a stream differ from its declaration", Args: arity(1, "the name of a stream or table"),
		Long: `Compares the newest messages of a stream's topic with its declaration: fields that are
new, missing, or of another type, with counts and examples, and the declaration that
would fit.`,
		Example: "  fiume drift reads",
		RunE: func(c *cobra.Command, args []string) error {
			d, err := a.client().Drift(c.Context(), args[0])
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(d)
			}
			fmt.Fprintf(a.out, "%s messages looked at, %s of them no rows\n", number(int64(d.Messages)), number(int64(d.Unreadable)))
			if len(d.Fields) == 0 {
				fmt.Fprintln(a.out, "they are as declared")
				return nil
			}
			var rows [][]string
			for _, f := range d.Fields {
				rows = append(rows, []string{f.Field, f.What, number(int64(f.Messages)), f.Declared, f.Found, clipped(strings.Join(f.Examples, ", "), 50)})
			}
			columns(a.out, []string{"FIELD", "WHAT", "MESSAGES", "DECLARED", "FOUND", "EXAMPLES"}, rows)
			if d.SQL != "" {
				fmt.Fprintf(a.out, "\n%s\n", d.SQL)
			}
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	return c
}
