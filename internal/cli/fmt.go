package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"

	"fiume/internal/core/sql"

	"github.com/spf13/cobra"
)

func (a *app) fmtCommand() *cobra.Command {
	var write, list bool
	c := &cobra.Command{
		Use:   "fmt FILE.sql…",
		Short: "Lay out files of SQL in the one canonical form",
		Long: `Prints files of SQL in their canonical layout: keywords in capitals, a clause a
line where a query does not fit on one, columns of declarations below each other.
Comments and parameters stay. With --write the files are changed in place.

With --list only the names of the files are printed that have another layout, and
the command fails where there are any: for checks before a commit.`,
		Example: `  fiume fmt jobs/crowd.sql
  fiume fmt --write jobs/*.sql
  echo "select a from b" | fiume fmt -`,
		Args: atLeast(1, 0, "files of SQL"),
		RunE: func(c *cobra.Command, args []string) error {
			var failed []error
			other := []string{}
			for _, name := range args {
				src, err := a.readFile(name)
				if err != nil {
					return err
				}
				script, err := sql.Read(name, src)
				if err != nil {
					failed = append(failed, err)
					continue
				}
				out := sql.Format(script)
				changed := out != src
				if changed {
					other = append(other, name)
				}
				switch {
				case list:
				case write && name != "-":
					if !changed {
						continue
					}
					info, err := os.Stat(name)
					if err != nil {
						return fail(exitFailed, "%v", err)
					}
					if err := replaceFile(name, []byte(out), info.Mode()); err != nil {
						return fail(exitFailed, "%v", err)
					}
					if a.output != "json" {
						fmt.Fprintf(a.err, "%s laid out\n", name)
					}
				case a.output != "json":
					fmt.Fprint(a.out, out)
				}
			}
			if a.output == "json" {
				if err := a.printJSON(map[string]any{"changed": other}); err != nil {
					return err
				}
			} else if list && len(other) > 0 {
				fmt.Fprintln(a.out, strings.Join(other, "\n"))
			}
			if len(failed) > 0 {
				return errors.Join(failed...)
			}
			if list && len(other) > 0 {
				return fail(exitFailed, "%d files have another layout; fiume fmt --write changes them", len(other))
			}
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	c.Flags().BoolVarP(&write, "write", "w", false, "change the files in place")
	c.Flags().BoolVarP(&list, "list", "l", false, "print the names of files with another layout only")
	return c
}

// replaceFile writes a file beside another and moves it into its place, so that nothing is lost where
// writing fails.
func replaceFile(name string, data []byte, mode os.FileMode) error {
	tmp := name + ".new"
	if err := os.WriteFile(tmp, data, mode.Perm()); err != nil {
		return err
	}
	back, err := os.ReadFile(tmp)
	if err == nil && !bytes.Equal(back, data) {
		err = fmt.Errorf("%s: what was written does not read back", tmp)
	}
	if err == nil {
		err = os.Rename(tmp, name)
	}
	if err != nil {
		_ = os.Remove(tmp) // the error says what went wrong
	}
	return err
}
