package cli

import (
	"context"
	"io"
	"slices"
	"strings"
	"time"

	"fiume/internal/service/access"
	"fiume/internal/service/declare"

	"github.com/spf13/cobra"
)

// The shell completes names of what the service has: it asks it, as who uses the command line, and for a moment only.

// completeTakes is how long the service may take to answer.
const completeTakes = 2 * time.Second

// completions are what names there are, by what the first argument of a command is: the command's path, or its last words.
func (a *app) completions() map[string]func(ctx context.Context) []string {
	names := func(list func(ctx context.Context) ([]string, error)) func(context.Context) []string {
		return func(ctx context.Context) []string {
			all, _ := list(ctx) // where it does not answer there is nothing to complete
			return all
		}
	}
	jobs := names(func(ctx context.Context) (out []string, err error) {
		all, err := a.client().Jobs(ctx)
		for _, j := range all {
			out = append(out, j.Name+"\t"+j.State)
		}
		return out, err
	})
	topics := names(func(ctx context.Context) (out []string, err error) {
		all, err := a.client().Topics(ctx)
		for _, t := range all {
			out = append(out, t.Name)
		}
		return out, err
	})
	declared := func(kinds ...string) func(context.Context) []string {
		return names(func(ctx context.Context) (out []string, err error) {
			var all []declare.Definition
			all, err = a.client().Definitions(ctx, "")
			for _, d := range all {
				if slices.Contains(kinds, d.Kind) {
					out = append(out, d.Name+"\t"+d.Kind)
				}
			}
			return out, err
		})
	}
	secrets := names(func(ctx context.Context) (out []string, err error) {
		all, err := a.client().Secrets(ctx)
		for _, s := range all {
			out = append(out, s.Name)
		}
		return out, err
	})
	users := names(func(ctx context.Context) (out []string, err error) {
		all, err := a.client().Users(ctx)
		for _, p := range all {
			out = append(out, p.Name+"\t"+grantsText(p.Grants))
		}
		return out, err
	})
	tokens := names(func(ctx context.Context) (out []string, err error) {
		all, err := a.client().Tokens(ctx)
		for _, t := range all {
			out = append(out, t.Name+"\tof "+t.Owner)
		}
		return out, err
	})
	alerts := names(func(ctx context.Context) (out []string, err error) {
		all, err := a.client().Alerts(ctx)
		for _, x := range all {
			out = append(out, x.Name+"\t"+alertState(&x))
		}
		return out, err
	})
	out := map[string]func(context.Context) []string{
		"rows": declared("stream", "table", "view", "sink"), "lateness": declared("stream"), "drift": declared("stream", "table"), "connections": declared("endpoint", "stream", "table", "sink"),
		"board show": declared("board"), "board png": declared("board"), "watch": jobs, "propose": topics, "sample keep": topics, "database run": declared("endpoint"),
		"secret set": secrets, "secret drop": secrets, "user change": users, "user on": users, "user off": users, "user drop": users, "token drop": tokens, "alert show": alerts, "alert silence": alerts, "alert tell": declared("sink"),
	}
	for _, x := range []string{"show", "start", "stop", "drop", "state", "checkpoints", "versions", "compare", "revert", "parallelism", "aside", "why", "became"} {
		out["job "+x] = jobs
	}
	for _, x := range []string{"write", "read", "drop", "follow", "show"} {
		out["topic "+x] = topics
	}
	return out
}

// complete has commands complete the names that they take.
func (a *app) complete(root *cobra.Command) {
	all := a.completions()
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if list, ok := all[strings.TrimPrefix(c.CommandPath(), "fiume ")]; ok {
			c.ValidArgsFunction = func(_ *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
				if len(args) > 0 {
					return nil, cobra.ShellCompDirectiveDefault // files
				}
				ctx, cancel := context.WithTimeout(a.ctx, completeTakes)
				defer cancel()
				a.err = io.Discard // nothing but names
				return slices.DeleteFunc(list(ctx), func(s string) bool { return !strings.HasPrefix(s, begun) }), cobra.ShellCompDirectiveNoFileComp
			}
		}
		if f := c.Flags().Lookup("role"); f != nil {
			_ = c.RegisterFlagCompletionFunc("role", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
				var out []string
				for _, r := range access.Roles {
					out = append(out, string(r)+"\t"+access.About[r])
				}
				return out, cobra.ShellCompDirectiveNoFileComp
			})
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(root)
}
