package cli

import (
	"fmt"
	"strconv"
	"strings"

	"fiume/internal/connect/contract"
	"fiume/internal/core/plan"

	"github.com/spf13/cobra"
)

func (a *app) lookCommand() *cobra.Command {
	var via string
	c := &cobra.Command{
		Use: "look [ADDRESS]", Short: "Show what lies behind an endpoint, or in the directories for files",
		Long: `Lists directories and files of the service, and, with --via, the buckets and objects of an object
store or the tables of a lake. Of a table it shows columns, partitions and snapshots, of a file of
Parquet or Avro its rows and columns.`,
		Example: "  fiume look\n  fiume look data/archive\n  fiume look --via archive s3://race/reads/\n  fiume look --via pond race.crossings",
		Args:    atMostOne,
		RunE: func(c *cobra.Command, args []string) error {
			address := ""
			if len(args) > 0 {
				address = args[0]
			}
			got, err := a.client().Look(c.Context(), via, address)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(got)
			}
			a.printLook(got)
			return nil
		},
	}
	c.Flags().StringVar(&via, "via", "", "the endpoint")
	a.outputFlag(c, "text", "json")
	return c
}

// grouped lays a number out that comes as text.
func grouped(text string) string {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return number(n)
	}
	return text
}

// printLook prints what was found, a table for each kind of thing.
func (a *app) printLook(b *contract.Browsed) {
	first := true
	part := func(head []string, rows [][]string) {
		if len(rows) == 0 {
			return
		}
		if !first {
			fmt.Fprintln(a.out)
		}
		first = false
		columns(a.out, head, rows)
	}
	var rows [][]string
	for _, f := range b.Facts {
		if n, err := strconv.ParseInt(f.Value, 10, 64); err == nil {
			f.Value = number(n)
			if f.Name == "bytes" {
				f.Name, f.Value = "size", plan.BytesText(n)
			}
		}
		rows = append(rows, []string{f.Name, f.Value})
	}
	part([]string{"KNOWN", ""}, rows)
	rows = nil
	for _, e := range b.Entries {
		size, at := "", ""
		if e.Kind == "file" {
			size = plan.BytesText(e.Size)
		}
		if e.Changed != nil {
			at = e.Changed.Local().Format("2006-01-02 15:04:05")
		}
		rows = append(rows, []string{e.Kind, e.Name, size, at})
	}
	part([]string{"KIND", "ADDRESS", "SIZE", "CHANGED"}, rows)
	rows = nil
	for _, c := range b.Columns {
		var notes []string
		if c.Key {
			notes = append(notes, "key")
		}
		if c.NotNull {
			notes = append(notes, "not null")
		}
		rows = append(rows, []string{c.Name, c.Type, strings.Join(notes, ", ")})
	}
	part([]string{"COLUMN", "TYPE", ""}, rows)
	rows = nil
	for _, p := range b.Parts {
		if p.Name != "" {
			rows = append(rows, []string{p.Name, number(p.Rows), number(p.Files), plan.BytesText(p.Bytes)})
		}
	}
	part([]string{"PARTITION", "ROWS", "FILES", "SIZE"}, rows)
	rows = nil
	for _, m := range b.Snapshots {
		rows = append(rows, []string{m.ID, m.At.Local().Format("2006-01-02 15:04:05"), m.What, grouped(m.Added), grouped(m.Deletes)})
	}
	part([]string{"SNAPSHOT", "AT", "DID", "ADDED", "DELETES"}, rows)
	if first {
		fmt.Fprintln(a.out, "there is nothing in it")
	}
	if b.More {
		fmt.Fprintln(a.out, "there is more than is shown")
	}
}
