package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"fiume/internal/core/sql"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"go.yaml.in/yaml/v3"
)

// The settings of the service stand in flags, in the environment, or in a file, in this order. Each has one name: --job-memory, FIUME_JOB_MEMORY and job-memory are the same.

// noSetting are flags of fiume serve that are none.
var noSetting = []string{"help", "config", "server", "ca"}

// setting is one, and where its value comes from.
type setting struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	From  string `json:"from"` // default, a flag, a name in the environment, or a file with the line
}

// given is what a file gives a setting.
type given struct {
	values []string
	line   int
}

// inEnvironment is the name of a setting in the environment.
func inEnvironment(name string) string {
	return "FIUME_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
}

// settle gives the flags the values of the environment and of a file, "" for none, where they are not set themselves, and says what comes from where.
func settle(flags *pflag.FlagSet, file string) (all []setting, err error) {
	told, err := readSettings(flags, file)
	if err != nil {
		return nil, err
	}
	var names []string
	flags.VisitAll(func(f *pflag.Flag) {
		if slices.Contains(noSetting, f.Name) || f.Hidden {
			return
		}
		names = append(names, inEnvironment(f.Name))
		x := setting{Name: f.Name, From: "default"}
		value, environment := os.LookupEnv(inEnvironment(f.Name))
		g, filed := told[f.Name]
		var failed error
		switch {
		case f.Changed:
			x.From = "--" + f.Name
		case environment:
			x.From = inEnvironment(f.Name)
			values := []string{value}
			if _, ok := f.Value.(pflag.SliceValue); ok {
				values = filepath.SplitList(value)
			}
			if failed = set(f, values); failed != nil {
				failed = fail(exitUsage, "%s=%q: %s", x.From, value, failed)
			}
		case filed:
			x.From = fmt.Sprintf("%s:%d", file, g.line)
			if failed = set(f, g.values); failed != nil {
				failed = fail(exitUsage, "%s: %s: %s", x.From, f.Name, failed)
			}
		}
		err = errors.Join(err, failed)
		if x.Value = f.Value.String(); x.Name == "dsn" {
			x.Value = withoutPassword(x.Value)
		}
		all = append(all, x)
	})
	for _, e := range os.Environ() { // what is misspelt would be left out without a word
		name, _, _ := strings.Cut(e, "=")
		if near := sql.Suggest(name, names); strings.HasPrefix(name, "FIUME_") && !strings.HasPrefix(name, "FIUME_SECRET_") && !slices.Contains(names, name) && near != "" && !slices.Contains(otherNames, name) {
			err = errors.Join(err, fail(exitUsage, "there is no setting %s in the environment; did you mean %s?", name, near))
		}
	}
	return all, err
}

// otherNames are those in the environment that are no settings of the service.
var otherNames = []string{"FIUME_SERVER", "FIUME_CONFIG", "FIUME_TOKEN", "FIUME_CA"}

func set(f *pflag.Flag, values []string) error {
	if s, ok := f.Value.(pflag.SliceValue); ok {
		return s.Replace(values)
	}
	if len(values) != 1 {
		return errors.New("takes one value")
	}
	if err := misfit(f, values[0]); err != nil {
		return err
	}
	return f.Value.Set(values[0])
}

// misfit says why a text is no value of a flag.
func misfit(f *pflag.Flag, value string) (err error) {
	switch f.Value.Type() {
	case "int":
		if _, err = strconv.Atoi(value); err != nil {
			err = fmt.Errorf("takes a number, found %q", value)
		}
	case "bool":
		if _, err = strconv.ParseBool(value); err != nil {
			err = fmt.Errorf("takes true or false, found %q", value)
		}
	}
	return err
}

var password = regexp.MustCompile(`^([^:@/]*):.*@`)

// withoutPassword is the address of a database as it may be shown.
func withoutPassword(dsn string) string { return password.ReplaceAllString(dsn, "$1:***@") }

// readSettings reads a file of settings, YAML: a name and its value in a line, a list for what may be given several times.
func readSettings(flags *pflag.FlagSet, file string) (map[string]given, error) {
	out := map[string]given{}
	if file == "" {
		return out, nil
	}
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fail(exitUsage, "there is no file of settings %s", file)
	}
	if err != nil {
		return nil, fail(exitUsage, "the file of settings: %s", err)
	}
	var doc, more yaml.Node
	read := yaml.NewDecoder(bytes.NewReader(b))
	err = read.Decode(&doc)
	if errors.Is(err, io.EOF) {
		return out, nil // nothing but comments
	}
	if err == nil {
		err = read.Decode(&more)
		if err == nil { // it would be left out without a word
			return nil, fail(exitUsage, "%s:%d: a second document begins; settings stand in one", file, more.Line)
		}
	}
	if !errors.Is(err, io.EOF) {
		return nil, fail(exitUsage, "%s is no YAML: %s", file, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	top := doc.Content[0]
	if top.Kind != yaml.MappingNode {
		return nil, fail(exitUsage, "%s:%d: settings are a name and a value in a line, such as listen: 127.0.0.1:7171", file, top.Line)
	}
	var known []string
	flags.VisitAll(func(f *pflag.Flag) {
		if !slices.Contains(noSetting, f.Name) && !f.Hidden {
			known = append(known, f.Name)
		}
	})
	var errs []error
	for i := 0; i+1 < len(top.Content); i += 2 {
		key, value := top.Content[i], top.Content[i+1]
		g := given{line: key.Line}
		switch {
		case !slices.Contains(known, key.Value):
			hint := "; there are " + strings.Join(known, ", ")
			if near := sql.Suggest(key.Value, known); near != "" {
				hint = fmt.Sprintf("; did you mean %s?", near)
			}
			errs = append(errs, fail(exitUsage, "%s:%d: there is no setting %s%s", file, key.Line, key.Value, hint))
			continue
		case out[key.Value].line > 0:
			errs = append(errs, fail(exitUsage, "%s:%d: %s stands in line %d already", file, key.Line, key.Value, out[key.Value].line))
			continue
		case value.Tag == "!!null":
			errs = append(errs, fail(exitUsage, "%s:%d: %s has no value; leave the line out, or write %s: \"\"", file, key.Line, key.Value, key.Value))
			continue
		case value.Kind == yaml.ScalarNode:
			g.values = []string{value.Value}
		case value.Kind == yaml.SequenceNode:
			for _, x := range value.Content {
				if x.Kind != yaml.ScalarNode {
					errs = append(errs, fail(exitUsage, "%s:%d: %s takes values, one in a line behind a dash", file, x.Line, key.Value))
				}
				g.values = append(g.values, x.Value)
			}
		default:
			errs = append(errs, fail(exitUsage, "%s:%d: %s takes a value", file, key.Line, key.Value))
			continue
		}
		for _, v := range g.values { // also where another place says otherwise
			if why := misfit(flags.Lookup(key.Value), v); why != nil {
				errs = append(errs, fail(exitUsage, "%s:%d: %s: %s", file, key.Line, key.Value, why))
			}
		}
		out[key.Value] = g
	}
	return out, errors.Join(errs...)
}

func (a *app) configCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "config",
		Short: "Check the settings of the service, and show where each comes from",
		Long: `The settings of the service are those of fiume serve. Each may stand in a flag, in the environment or in a file of
YAML, in this order: --job-memory 2048, FIUME_JOB_MEMORY=2048 and the line job-memory: 2048 say the same. What may be
given several times is a list in the file, and stands with : between in the environment.`,
		Example: `  fiume config check /etc/fiume/fiume.yaml
  fiume config show --config /etc/fiume/fiume.yaml`,
		Args: arity(0, "no arguments"),
	}
	c.AddCommand(&cobra.Command{
		Use: "check FILE", Short: "Say what is wrong in a file of settings", Args: arity(1, "one file"),
		Example: "  fiume config check fiume.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			if _, err := settle(a.serveCommand().Flags(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is right\n", args[0])
			return nil
		},
	})
	var file string
	show := &cobra.Command{
		Use: "show", Short: "Show the settings, and where each comes from", Args: arity(0, "no arguments"),
		Example: "  fiume config show\n  fiume config show --config fiume.yaml --output json",
		RunE: func(*cobra.Command, []string) error {
			all, err := settle(a.serveCommand().Flags(), file)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			var rows [][]string
			for _, s := range all {
				rows = append(rows, []string{s.Name, s.Value, s.From})
			}
			columns(a.out, []string{"SETTING", "VALUE", "FROM"}, rows)
			return nil
		},
	}
	show.Flags().StringVar(&file, "config", os.Getenv("FIUME_CONFIG"), "file of settings (default $FIUME_CONFIG, or none)")
	a.outputFlag(show, "text", "json")
	c.AddCommand(show)
	return c
}
