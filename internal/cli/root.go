// Package cli is the command line: each command is a file that reads its arguments, makes one call
// and prints what comes back.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"fiume/internal/core/sql"

	"github.com/spf13/cobra"
)

// Exit codes of the command.
const (
	exitOK       = 0
	exitFailed   = 1 // the work failed: a file, the network, a job
	exitUsage    = 2 // wrong arguments
	exitSQL      = 3 // the SQL has errors
	exitNotFound = 4 // no such job, topic or definition
	exitNoServer = 5 // the service does not answer

	exitNotAllowed = 6 // the caller is not known, or may not
)

// failure is an error with an exit code.
type failure struct {
	code int
	err  error
	told bool // it has been printed
}

func (f *failure) Error() string { return f.err.Error() }
func (f *failure) Unwrap() error { return f.err }

func fail(code int, format string, args ...any) error {
	return &failure{code: code, err: fmt.Errorf(format, args...)}
}

// app is what all commands share.
type app struct {
	in     io.Reader
	out    io.Writer
	err    io.Writer
	server string
	output string
	sets   []string
	ctx    context.Context
	ca     string
	lines  *bufio.Reader // of the input, where passwords are read from it
}

// Main runs the command line and gives its exit code.
func Main(args []string, in io.Reader, out, errw io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{in: in, out: out, err: errw, ctx: ctx}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errw)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitOK
	}
	if errors.Is(err, context.Canceled) && ctx.Err() != nil {
		fmt.Fprintln(errw, "stopped")
		return 130
	}
	var f *failure
	if !errors.As(err, &f) || !f.told {
		fmt.Fprintln(errw, err)
	}
	return codeOf(err)
}

// codeOf is the exit code of an error.
func codeOf(err error) int {
	var f *failure
	if errors.As(err, &f) {
		return f.code
	}
	var s *sql.Errors
	if errors.As(err, &s) {
		return exitSQL
	}
	return exitFailed
}

// told is an error that has been printed.
func told(err error) error { return &failure{codeOf(err), err, true} }

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "fiume",
		Short: "Streaming ETL with event-time SQL",
		Long: `Fiume runs event-time SQL over message topics and files.

Exit codes: 0 done, 1 failed, 2 wrong arguments, 3 errors in the SQL, 4 not found,
5 the service does not answer, 6 not allowed, 130 stopped with Ctrl-C.`,
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return fail(exitUsage, "%w\nSee '%s --help'.", err, c.CommandPath())
	})
	root.PersistentFlags().StringVar(&a.server, "server", "", "address of the service (default $FIUME_SERVER or http://127.0.0.1:7171)")
	root.PersistentFlags().StringVar(&a.ca, "ca", "", "file with the certificate that signs the service's, where the system does not trust it (default $FIUME_CA, or that of fiume login)")
	root.AddCommand(a.doctorCommand(), a.alertCommand(), a.backupCommand(), a.restoreCommand(), a.upgradeCommand(), a.forgetCommand(), a.loginCommand(), a.logoutCommand(), a.whoCommand(), a.passwordCommand(), a.userCommand(), a.tokenCommand(), a.grantCommand(), a.revokeCommand(), a.grantsCommand(), a.spacesCommand(), a.serveCommand(), a.configCommand(), a.registryCommand(), a.objectsCommand(), a.webserviceCommand(), a.searchstoreCommand(), a.demoCommand(), a.runCommand(), a.checkCommand(), a.fmtCommand(), a.explainCommand(), a.functionsCommand(), a.testCommand(), a.benchCommand(), a.applyCommand(), a.queryCommand(), a.shellCommand(), a.tryCommand(), a.sampleCommand(), a.proposeCommand(), a.driftCommand(), a.connectionsCommand(), a.lookCommand(), a.rowsCommand(), a.boardCommand(), a.watchCommand(),
		a.jobCommand(), a.topicCommand(), a.latenessCommand(), a.secretCommand(), a.databaseCommand(), a.activityCommand(), a.versionCommand())
	root.CompletionOptions.HiddenDefaultCmd = true
	groups(root)
	a.complete(root)
	for _, c := range root.Commands() {
		if slices.Contains([]string{"serve", "registry", "demo", "run", "check", "fmt", "bench", "test", "version"}, c.Name()) { // they ask no service
			help := c.HelpFunc()
			c.SetHelpFunc(func(c *cobra.Command, args []string) {
				root.PersistentFlags().Lookup("server").Hidden = true
				root.PersistentFlags().Lookup("ca").Hidden = true
				help(c, args)
			})
		}
	}
	return root
}

// groups has commands that only hold others refuse what is none of these, instead of printing their help as if all were well.
func groups(c *cobra.Command) {
	for _, sub := range c.Commands() {
		groups(sub)
	}
	if c.Runnable() || !c.HasSubCommands() {
		return
	}
	c.Args = cobra.ArbitraryArgs
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 0 {
			return c.Help()
		}
		hint := fmt.Sprintf("See '%s --help'.", c.CommandPath())
		if near := c.SuggestionsFor(args[0]); len(near) > 0 {
			hint = fmt.Sprintf("Did you mean '%s %s'?", c.CommandPath(), near[0])
		}
		return fail(exitUsage, "'%s' has no command %q\n%s", c.CommandPath(), args[0], hint)
	}
	c.SuggestionsMinimumDistance = 2
}

// atLeast checks that there are arguments, with a message of its own; most is 0 where there may be any number.
func atLeast(n, most int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) >= n && (most == 0 || len(args) <= most) {
			return nil
		}
		return fail(exitUsage, "%s takes %s, found %d arguments\nSee '%s --help'.", c.CommandPath(), what, len(args), c.CommandPath())
	}
}

// arity checks the number of arguments with a message of its own.
func arity(n int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) == n {
			return nil
		}
		return fail(exitUsage, "%s takes %s, found %d arguments\nSee '%s --help'.", c.CommandPath(), what, len(args), c.CommandPath())
	}
}

// outputFlag adds --output with its formats; the first is the default.
func (a *app) outputFlag(c *cobra.Command, formats ...string) {
	chosen := c.Flags().StringP("output", "o", formats[0], "how to print: "+strings.Join(formats, ", "))
	c.PreRunE = func(c *cobra.Command, args []string) error {
		a.output = *chosen
		for _, f := range formats {
			if a.output == f {
				return nil
			}
		}
		return fail(exitUsage, "--output takes one of %s, found %q", strings.Join(formats, ", "), a.output)
	}
}

func (a *app) setFlag(c *cobra.Command) {
	c.Flags().StringArrayVar(&a.sets, "set", nil, "give a parameter its value: name=value")
}

// params reads the --set flags.
func (a *app) params() (map[string]string, error) {
	out := map[string]string{}
	for _, s := range a.sets {
		k, v, ok := strings.Cut(s, "=")
		if !ok || k == "" {
			return nil, fail(exitUsage, "--set takes name=value, found %q", s)
		}
		out[strings.ToLower(k)] = v
	}
	return out, nil
}

// readFile reads a file of SQL, or standard input for "-".
func (a *app) readFile(name string) (string, error) {
	if name == "-" {
		b, err := io.ReadAll(a.in)
		return string(b), err
	}
	b, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		return "", fail(exitUsage, "there is no file %s", name)
	}
	return string(b), err
}
