package cli

import (
	"fmt"
	"runtime"
	"runtime/debug"

	"fiume/internal/service"

	"github.com/spf13/cobra"
)

func (a *app) versionCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "version", Short: "Print the version", Example: "  fiume version", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			v := map[string]string{"version": service.Version, "go": runtime.Version(), "platform": runtime.GOOS + "/" + runtime.GOARCH}
			if b, ok := debug.ReadBuildInfo(); ok {
				for _, s := range b.Settings {
					switch s.Key {
					case "vcs.revision":
						v["commit"] = s.Value
					case "vcs.time":
						v["committed"] = s.Value
					case "vcs.modified":
						if s.Value == "true" {
							v["modified"] = "true"
						}
					}
				}
			}
			if a.output == "json" {
				return a.printJSON(v)
			}
			fmt.Fprintln(a.out, "fiume "+service.Version)
			if c := v["commit"]; c != "" {
				fmt.Fprintf(a.out, "commit %s of %s%s\n", c[:min(len(c), 12)], v["committed"], map[string]string{"true": ", with changes"}[v["modified"]])
			}
			fmt.Fprintf(a.out, "built with %s for %s\n", v["go"], v["platform"])
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	return c
}
