package cli

import (
	"fmt"
	"strings"

	"fiume/internal/service/forget"

	"github.com/spf13/cobra"
)

func (a *app) forgetCommand() *cobra.Command {
	var r forget.Request
	var yes bool
	c := &cobra.Command{
		Use: "forget COLUMN=VALUE", Short: "Remove what the service keeps of somebody: messages, samples, rows set aside", Args: arity(1, "a column and its value, as in chip=P00017"),
		Long: `Removes all messages of topics that have a value in a column, from the files too, and so from samples and from rows that were set aside. A
column is one of the messages, as JSON or as a stream or table over the topic reads it, a path in them, such as device.serial, or the key of a topic. Messages that cannot
be read go where they have the value in them as a word. The others keep their offsets; at the end of a file one may stay as an empty message.

It says what it does not reach: the state of jobs, what was written outside, backups. --dry-run counts, and changes nothing.`,
		Example: "  fiume forget chip=P00017 --dry-run\n  fiume forget chip=P00017 --yes",
		RunE: func(c *cobra.Command, args []string) error {
			column, value, ok := strings.Cut(args[0], "=")
			if !ok || column == "" || value == "" {
				return fail(exitUsage, "say what is to be forgotten: COLUMN=VALUE, as in chip=P00017")
			}
			r.Column, r.Value = column, value
			if !r.Try {
				if ok, err := a.sure(fmt.Sprintf("All messages and rows with %s are removed for good.", args[0]), yes); err != nil || !ok {
					return err
				}
			}
			problems := 0
			all := []forget.Step{}
			said := map[bool]string{true: "has", false: "had"}[r.Try]
			err := a.client().Forget(c.Context(), r, func(s forget.Step) error {
				if all = append(all, s); s.Problem != "" {
					problems++
				}
				if a.output == "json" {
					return nil
				}
				switch {
				case s.Finished && r.Try:
					fmt.Fprintf(a.out, "%s in all; nothing was changed\n", things(s.Found))
				case s.Finished:
					fmt.Fprintf(a.out, "%s were removed in all\n", things(s.Found))
				case s.Left != "":
					fmt.Fprintf(a.out, "not reached: %s\n", s.Left)
				case s.Found > 0 || s.Problem != "":
					name := s.Place
					if s.Topic {
						name = "topic " + name
					}
					fmt.Fprintf(a.out, "%s %s %s of %s", name, said, number(s.Found), number(s.Looked))
					if s.Problem != "" {
						fmt.Fprintf(a.out, "; %s", s.Problem)
					}
					fmt.Fprintln(a.out)
				}
				return nil
			})
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				err = a.printJSON(all)
			}
			if err == nil && problems > 0 {
				return &failure{exitFailed, fmt.Errorf("%d places could not be forgotten whole", problems), a.output == "json"}
			}
			return err
		},
	}
	c.Flags().StringArrayVar(&r.Topics, "topic", nil, "only this topic; may be given several times")
	c.Flags().BoolVar(&r.Try, "dry-run", false, "count, and change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	a.outputFlag(c, "text", "json")
	return c
}

func things(n int64) string {
	if n == 1 {
		return "1 message or row"
	}
	return number(n) + " messages and rows"
}
