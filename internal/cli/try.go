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
	"fiume/internal/service/questions"

	"github.com/spf13/cobra"
)

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
			r := questions.TryRequest{SQL: src, File: args[0], Params: params, Since: since, Rows: rows, Seconds: seconds, Samples: map[string]uint{}}
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

func (a *app) printTried(out *questions.TryResult) error {
	for _, r := range out.Results {
		if r.Sink != "" {
			fmt.Fprintf(a.out, "%s\n", r.Sink)
		}
		if err := a.printResult(r, "table"); err != nil {
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

// printResult prints rows that are all there.
func (a *app) printResult(r questions.TriedResult, format string) error {
	p := newRowPrinter(a.out, format)
	p.live = false
	if err := p.columns(r.Columns); err != nil {
		return err
	}
	for _, row := range r.Rows {
		if err := p.row(row); err != nil {
			return err
		}
	}
	return p.finish(true)
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
