package cli

import (
	"fmt"

	"fiume/internal/service/advice"

	"github.com/spf13/cobra"
)

func (a *app) doctorCommand() *cobra.Command {
	var quick bool
	c := &cobra.Command{
		Use: "doctor", Short: "Say what in the running service wants somebody, and what to do", Args: arity(0, "no arguments"),
		Long: `Looks at the running service: its disk, open files and clock, jobs that fail or fall behind, places that are away or slow,
splits that hold others up, rows that are lost, late or rejected, DELAYs that lose rows or cost time, state that grows, topics
that nobody reads. Each finding says what can be done, and with which statement or command. Nothing is changed.

Its exit code is 1 where something is broken.`,
		Example: "  fiume doctor\n  fiume doctor --quick --output json",
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().Advice(c.Context(), !quick)
			if err != nil {
				return failed(err)
			}
			broken := 0
			for _, f := range all {
				if f.Grave == advice.Broken {
					broken++
				}
			}
			if a.output == "json" {
				err = a.printJSON(all)
			} else {
				a.printAdvice(all)
			}
			if err == nil && broken > 0 {
				return &failure{exitFailed, fmt.Errorf("%d findings are of what is broken", broken), a.output == "json"}
			}
			return err
		},
	}
	c.Flags().BoolVar(&quick, "quick", false, "do not look at how late the newest rows are, which reads topics")
	a.outputFlag(c, "text", "json")
	return c
}

func (a *app) printAdvice(all []advice.Finding) {
	if len(all) == 0 {
		fmt.Fprintln(a.out, "nothing wants anybody")
		return
	}
	for _, f := range all {
		about := ""
		if f.Of != "" {
			about = " the " + f.Of + " " + f.Name + ":"
		}
		fmt.Fprintf(a.out, "%s  %s%s\n    %s\n    → %s\n", f.Grave, f.Kind, about, f.What, f.Do)
		if f.Run != "" {
			fmt.Fprintf(a.out, "      %s\n", f.Run)
		}
	}
}
