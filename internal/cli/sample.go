package cli

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"fiume/internal/api"
	"fiume/internal/service"

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
func (f *sampleFlags) request(args []string) (r service.SampleRequest, err error) {
	r = service.SampleRequest{Name: f.name, Format: f.format, NoHeader: f.noHeader, Table: f.table, Via: f.via, Limit: f.limit}
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

func (a *app) tryCommand() *cobra.Command {
	var samples []string
	var since, keep string
	var rows, seconds int
	c := &cobra.Command{
		Use: "try FILE.sql", Short: "Run a query or a job over samples and what streams hold, and keep nothing", Args: arity(1, "one file of SQL, or - for standard input"),
		Long: `Runs the last query or job of a file to the end of its inputs and shows what each step
got and gave, the rows of the query or what would stand in each sink, and late and
rejected rows. Declarations of the file need not be there yet. Nothing is kept.

With --keep DIR it also writes a test: the text, the messages, and what the sinks hold.`,
		Example: "  fiume try crowding.sql --sample reads=3\n  fiume try crowding.sql --since '10 MINUTES'\n  fiume try crowding.sql --sample reads=3 --keep tests/crowding",
		RunE: func(c *cobra.Command, args []string) error {
			params, err := a.params()
			if err != nil {
				return err
			}
			src, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			r := service.TryRequest{SQL: src, File: args[0], Params: params, Since: since, Rows: rows, Seconds: seconds, Samples: map[string]uint{}}
			for _, s := range samples {
				name, number, ok := strings.Cut(s, "=")
				id, err := strconv.ParseUint(number, 10, 32)
				if !ok || err != nil {
					return fail(exitUsage, "--sample takes STREAM=NUMBER, found %q; fiume sample list shows the numbers", s)
				}
				r.Samples[name] = uint(id)
			}
			out, err := a.client().Try(c.Context(), r)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				if err := a.printJSON(out); err != nil {
					return err
				}
			} else if err := a.printTried(out); err != nil {
				return err
			}
			if keep == "" {
				return nil
			}
			data, err := a.client().KeepTry(c.Context(), api.KeepTryRequest{TryRequest: r, Name: filepath.Base(keep)})
			if err != nil {
				return failed(err)
			}
			return a.unpack(data, keep)
		},
	}
	c.Flags().StringArrayVar(&samples, "sample", nil, "a sample in the place of a stream or table: STREAM=NUMBER")
	c.Flags().StringVar(&since, "since", "", "where other topics are read from, as behind SINCE (default: the beginning)")
	c.Flags().IntVar(&rows, "rows", 20, "rows shown of each result")
	c.Flags().IntVar(&seconds, "seconds", 20, "how long it may take")
	c.Flags().StringVar(&keep, "keep", "", "write a test into this directory")
	a.setFlag(c)
	a.outputFlag(c, "table", "json")
	return c
}

func (a *app) printTried(out *service.TryResult) error {
	for _, r := range out.Results {
		if r.Sink != "" {
			fmt.Fprintf(a.out, "%s\n", r.Sink)
		}
		p := newRowPrinter(a.out, "table")
		p.live = false
		if err := p.columns(r.Columns); err != nil {
			return err
		}
		for _, row := range r.Rows {
			if err := p.row(row); err != nil {
				return err
			}
		}
		if err := p.finish(true); err != nil {
			return err
		}
		if r.Total > int64(len(r.Rows)) {
			fmt.Fprintf(a.out, "%s of %s rows; --rows shows more\n", number(int64(len(r.Rows))), number(r.Total))
		}
		fmt.Fprintln(a.out)
	}
	printLedger(a.out, out.Plan.Name, out.Status, out.Samples)
	for _, x := range out.Reasons {
		fmt.Fprintf(a.out, "%s rejected %s: %s\n", x.Step, number(x.Rows), x.Class)
	}
	if out.Stopped != "" {
		fmt.Fprintln(a.err, out.Stopped)
	}
	return nil
}

// unpack writes the files of a test into a directory that is not there, or empty.
func (a *app) unpack(data []byte, dir string) error {
	if have, err := os.ReadDir(dir); err == nil && len(have) > 0 {
		return fail(exitUsage, "%s is not empty; give the test a directory of its own", dir)
	}
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return err
	}
	for _, f := range z.File {
		_, name, ok := strings.Cut(f.Name, "/")
		if !ok || name == "" || strings.HasSuffix(name, "/") || !filepath.IsLocal(name) {
			continue
		}
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		r, err := f.Open()
		if err != nil {
			return err
		}
		b, err := io.ReadAll(r)
		if err = errors.Join(err, r.Close()); err != nil {
			return err
		}
		if err := os.WriteFile(path, b, 0o644); err != nil {
			return err
		}
	}
	fmt.Fprintf(a.err, "a test is written: fiume test %s\n", dir)
	return nil
}
