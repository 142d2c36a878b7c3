package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"

	"fiume/internal/service/samples"

	"github.com/spf13/cobra"
)

// sampleFlags say what a sample is made of.
type sampleFlags struct {
	name, file, format, table, via string
	noHeader                       bool
	limit                          int
}

func (f *sampleFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.name, "name", "", "what it is called (default: made up from where it is from)")
	c.Flags().StringVar(&f.file, "file", "", "a file here: JSON, CSV, text, Avro or Parquet")
	c.Flags().StringVar(&f.format, "format", "", "of the file: json, csv, text, avro, parquet (default: found out)")
	c.Flags().BoolVar(&f.noHeader, "no-header", false, "the first record of a CSV file is no header")
	c.Flags().StringVar(&f.table, "table", "", "a table of a database; with --via")
	c.Flags().StringVar(&f.via, "via", "", "the endpoint of the database")
	c.Flags().IntVar(&f.limit, "limit", 1000, "messages at most")
}

// request reads the flags; a topic is the one argument.
func (f *sampleFlags) request(args []string) (r samples.SampleRequest, err error) {
	r = samples.SampleRequest{Name: f.name, Format: f.format, NoHeader: f.noHeader, Table: f.table, Via: f.via, Limit: f.limit}
	given := 0
	if len(args) > 0 {
		r.Topic, given = args[0], given+1
	}
	if f.table != "" {
		given++
		if f.via == "" {
			return r, fail(exitUsage, "--table needs --via, the endpoint of its database")
		}
	}
	if f.file != "" {
		given++
		r.File = filepath.Base(f.file)
		if r.Data, err = os.ReadFile(f.file); errors.Is(err, os.ErrNotExist) {
			return r, fail(exitUsage, "there is no file %s", f.file)
		} else if err != nil {
			return r, err
		}
	}
	if given != 1 {
		return r, fail(exitUsage, "say what to look at: the name of a topic, --file FILE, or --table TABLE --via ENDPOINT")
	}
	return r, nil
}

func atMostOne(c *cobra.Command, args []string) error {
	if len(args) > 1 {
		return fail(exitUsage, "%s takes one topic at most, found %d arguments\nSee '%s --help'.", c.CommandPath(), len(args), c.CommandPath())
	}
	return nil
}

func (a *app) sampleCommand() *cobra.Command {
	sample := &cobra.Command{Use: "sample", Short: "Keep messages to try queries on", Example: "  fiume sample keep mat-reads --limit 500\n  fiume sample list"}
	var f sampleFlags
	keep := &cobra.Command{
		Use: "keep [TOPIC]", Short: "Keep the newest messages of a topic, a file, or rows of a table", Args: atMostOne,
		Long: `Keeps messages in the service, under a number: the newest of a topic with their places
and times of arrival, the rows of a file here, or those of a table.`,
		Example: "  fiume sample keep mat-reads --limit 500\n  fiume sample keep --file reads.csv --name few_reads",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := f.request(args)
			if err != nil {
				return err
			}
			d, err := a.client().KeepSample(c.Context(), r)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(d)
			}
			fmt.Fprintf(a.out, "sample %d: %s messages (%s) of %s, called %s\n", d.ID, number(int64(d.Messages)), d.Format, d.Origin, d.Name)
			return nil
		},
	}
	f.add(keep)
	list := &cobra.Command{
		Use: "list", Short: "List the samples", Example: "  fiume sample list", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().Samples(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintln(a.out, "no samples; keep one with: fiume sample keep TOPIC")
				return nil
			}
			var rows [][]string
			for _, s := range all {
				rows = append(rows, []string{fmt.Sprint(s.ID), s.Name, s.Format, number(int64(s.Messages)), number(int64(s.Bytes)), ago(s.At), s.Origin})
			}
			columns(a.out, []string{"SAMPLE", "NAME", "FORMAT", "MESSAGES", "BYTES", "KEPT", "FROM"}, rows)
			return nil
		},
	}
	drop := &cobra.Command{
		Use: "drop NUMBER", Short: "Forget a sample", Example: "  fiume sample drop 3", Args: arity(1, "the number of a sample"),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseUint(args[0], 10, 32)
			if err != nil {
				return fail(exitUsage, "%q is no number of a sample; fiume sample list shows them", args[0])
			}
			if err := a.client().DropSample(c.Context(), uint(id)); err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "sample %d dropped\n", id)
			return nil
		},
	}
	a.outputFlag(keep, "text", "json")
	a.outputFlag(list, "table", "json")
	sample.AddCommand(keep, list, drop)
	return sample
}
