package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fiume/internal/api"
	"fiume/internal/core/sql"
	"fiume/internal/service/declare"

	"github.com/kballard/go-shellquote"
	"github.com/reeflective/readline"
	"github.com/spf13/cobra"
)

func (a *app) shellCommand() *cobra.Command {
	var goOn, timing, drawn bool
	var history string
	c := &cobra.Command{
		Use: "shell", Short: "Type statements and see what they give", Args: arity(0, "no arguments"),
		Long: `Reads statements and does them, each when its semicolon is there. A SELECT is a live query:
Ctrl-C ends it and not the shell. Tab completes keywords, names, columns and functions;
the history is kept between sessions.

Words of the shell itself stand alone on a line: help, output, chart, timing, run, quit.
So do the commands of fiume that look, try and find out, as they are typed elsewhere, without
"fiume" in front: topic read mat-reads --last 3, propose mat-reads, job aside crowding.
With a file on standard input it runs the statements and ends at the first that fails,
or goes on with --go-on.`,
		Example: `  fiume shell
  fiume shell < jobs.sql
  fiume shell --chart
  echo "SELECT chip, mat FROM reads SINCE BEGINNING UNTIL NOW;" | fiume shell --output json`,
		RunE: func(c *cobra.Command, args []string) error {
			s := &shell{app: a, goOn: goOn, timing: timing, format: a.output, history: history}
			if drawn {
				s.format = "chart"
			}
			if f, ok := a.in.(*os.File); ok && isTerminal(f) && isTerminal(a.out) {
				s.interactive = true
				if term := os.Getenv("TERM"); term == "" || term == "dumb" { // it cannot move its cursor
					return s.script(context.WithoutCancel(c.Context()))
				}
				return s.interact(c.Context())
			}
			return s.script(c.Context())
		},
	}
	c.Flags().BoolVar(&goOn, "go-on", false, "of a script: go on behind a statement that fails")
	c.Flags().BoolVar(&timing, "timing", false, "say how long each statement took")
	c.Flags().BoolVar(&drawn, "chart", false, "draw the rows of queries with numbers")
	c.Flags().StringVar(&history, "history", "", "file of the history (default: fiume/history in the user's configuration directory)")
	a.outputFlag(c, "table", "json", "csv", "chart")
	return c
}

// shell is a session.
type shell struct {
	*app
	interactive  bool
	lines        *bufio.Reader // of the standard input, where the terminal's editor does not read it
	goOn, timing bool
	format       string
	history      string
	line         *readline.Shell
	words        *declare.Words
	functions    []string
	fetched      time.Time
	failure      error // the last
}

const shellHelp = `Statements end with a semicolon:
  SELECT …;                     a live query; Ctrl-C ends it
  DECLARE …; CREATE …; DROP …;  change what there is
  SHOW STREAMS; SHOW JOBS; …    lists: ENDPOINTS, STREAMS, TABLES, SINKS, VIEWS, FUNCTIONS, TOPICS, JOBS
  DESCRIBE name;                what a name stands for
  EXPLAIN SELECT …;             how a query would run
  START JOB j; STOP JOB j;      look after jobs

Words of the shell, alone on a line:
  help [name]                   this page, or what a name or a function is
  output table|json|csv|chart   how rows are shown
  chart                         the same as output chart: bars where a column has text, else a line
  timing on|off                 say how long each statement took
  run FILE                      do the statements of a file
  topic, propose, drift, sample, try, test, connections, job, lateness, activity, functions, secret …
                                the commands of fiume, each with --help
  quit                          end; so does Ctrl-D

Keys: Tab completes, arrows and Ctrl-R go through the history, Ctrl-C clears the line or ends a query.
`

// interact reads statements from a terminal.
func (s *shell) interact(ctx context.Context) error {
	h, err := s.client().Health(ctx)
	if err != nil {
		return failed(err)
	}
	fmt.Fprintf(s.out, "Fiume %s at %s: %d of %d jobs running. help says what can be typed; quit ends.\n", h.Version, s.serviceAddress(), h.Running, h.Jobs)
	s.line = readline.NewShell()
	// Asking the terminal where its cursor is makes keys disappear that come before the answer, and hangs where none comes.
	if err := s.line.Config.Set("cursor-position-probe", false); err != nil {
		return err
	}
	s.line.Prompt.Primary(func() string { return "fiume> " })
	s.line.Prompt.Secondary(func() string { return "  ...> " })
	s.line.AcceptMultiline = func(line []rune) bool { return s.whole(string(line)) }
	s.line.Completer = s.complete
	if s.history == "" {
		if dir, err := os.UserConfigDir(); err == nil {
			s.history = filepath.Join(dir, "fiume", "history")
		}
	}
	if s.history != "" && os.MkdirAll(filepath.Dir(s.history), 0o700) == nil {
		s.line.History.AddFromFile("history", s.history)
	}
	// Ctrl-C ends what runs, and not the shell: the signal that ends commands is taken here instead.
	for {
		text, err := s.line.Readline()
		switch {
		case errors.Is(err, io.EOF):
			fmt.Fprintln(s.out)
			return nil
		case errors.Is(err, readline.ErrInterrupt):
			continue
		case err != nil:
			return err
		}
		if s.do(context.WithoutCancel(ctx), text) {
			return nil
		}
	}
}

// whole says whether a text can be done: a word of the shell, or statements up to their semicolon.
func (s *shell) whole(text string) bool {
	if strings.TrimSpace(text) == "" || isWord(text) || isCommand(text) {
		return true
	}
	_, rest := sql.Split(text)
	return strings.TrimSpace(rest) == ""
}

// own are the words of the shell itself.
var own = []string{"help", "output", "chart", "timing", "run", "quit", "exit"}

// isWord says whether a line is a word of the shell itself.
func isWord(text string) bool {
	text = strings.TrimSpace(text)
	f := strings.Fields(text)
	return len(f) > 0 && len(f) <= 2 && !strings.Contains(text, "\n") && !strings.HasSuffix(strings.TrimSpace(text), ";") && slices.Contains(own, strings.ToLower(f[0]))
}

// commands are those of the command line that can be typed in the shell too.
var commands = []string{"topic", "propose", "drift", "sample", "try", "test", "connections", "job", "lateness", "activity", "functions", "secret"}

// isCommand says whether a line is a command of the command line.
func isCommand(text string) bool {
	text = strings.TrimSpace(text)
	first, _, _ := strings.Cut(text, " ")
	return slices.Contains(commands, first) && !strings.Contains(text, "\n") && !strings.HasSuffix(text, ";")
}

// command does a command of the command line. Ctrl-C ends it.
func (s *shell) command(ctx context.Context, text string) error {
	args, err := shellquote.Split(text)
	if err != nil {
		return fail(exitUsage, "%s: a quote has no end", strings.TrimSpace(text))
	}
	if len(args) == 3 && args[1] == "drop" && (args[0] == "topic" || args[0] == "job") && !strings.HasPrefix(args[2], "-") {
		return s.statement(ctx, fmt.Sprintf("DROP %s %s;", strings.ToUpper(args[0]), sql.Quoted(args[2]))) // which asks first
	}
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	began := time.Now()
	sub := &app{in: s.in, out: s.out, err: s.err, ctx: ctx}
	root := sub.root()
	root.SetArgs(append(args, "--server", s.serviceAddress()))
	root.SetIn(s.in)
	root.SetOut(s.out)
	root.SetErr(s.err)
	err = root.ExecuteContext(ctx)
	if ctx.Err() != nil {
		err = nil
		fmt.Fprintln(s.err, "stopped")
	}
	if s.timing && err == nil {
		fmt.Fprintf(s.err, "%s\n", time.Since(began).Round(time.Millisecond))
	}
	return err
}

// do does a line, and says whether the shell ends.
func (s *shell) do(ctx context.Context, text string) (quit bool) {
	if isWord(text) {
		quit, err := s.word(ctx, strings.Fields(text))
		s.tell(err)
		return quit
	}
	if isCommand(text) {
		s.tell(s.command(ctx, text))
		return false
	}
	statements, rest := sql.Split(text)
	if rest = strings.TrimSpace(rest); rest != "" {
		statements = append(statements, rest)
	}
	for _, st := range statements {
		if err := s.statement(ctx, st); err != nil {
			s.tell(err)
			return false
		}
	}
	return false
}

func (s *shell) tell(err error) {
	if err != nil {
		fmt.Fprintln(s.err, err)
		s.failure = err
	}
}

// word does a word of the shell itself.
func (s *shell) word(ctx context.Context, f []string) (quit bool, err error) {
	arg := ""
	if len(f) > 1 {
		arg = strings.TrimSuffix(f[1], ";")
	}
	switch strings.ToLower(f[0]) {
	case "quit", "exit":
		return true, nil
	case "chart":
		s.format = "chart"
	case "output":
		if !slices.Contains([]string{"table", "json", "csv", "chart"}, arg) {
			return false, fmt.Errorf("output takes table, json, csv or chart; it is %s", s.format)
		}
		s.format = arg
	case "timing":
		if arg != "on" && arg != "off" {
			return false, errors.New("timing takes on or off")
		}
		s.timing = arg == "on"
	case "run":
		if arg == "" {
			return false, errors.New("run takes a file")
		}
		text, err := s.readFile(arg)
		if err != nil {
			return false, err
		}
		statements, rest := sql.Split(text)
		if strings.TrimSpace(rest) != "" {
			return false, fmt.Errorf("%s: the last statement has no semicolon", arg)
		}
		for _, st := range statements {
			if err := s.statement(ctx, st); err != nil {
				return false, err
			}
		}
	default:
		if arg == "" {
			fmt.Fprint(s.out, shellHelp)
			return false, nil
		}
		return false, s.apply(ctx, "DESCRIBE "+sql.Quoted(strings.ToLower(arg))+";")
	}
	return false, nil
}

// statement does one statement. Ctrl-C ends it.
func (s *shell) statement(ctx context.Context, text string) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	began := time.Now()
	rows := int64(-1)
	script, err := sql.Parse("", text, nil)
	query := false
	if err == nil && len(script.Statements) == 1 {
		_, query = script.Statements[0].(*sql.Query)
		if ok, err := s.sure(ctx, script.Statements[0]); !ok {
			return err
		}
	}
	if query {
		rows, err = s.runQuery(ctx, api.ScriptRequest{SQL: text, File: "shell"}, s.format)
		if errors.Is(err, context.Canceled) {
			err = nil
			fmt.Fprintln(s.err, "stopped")
		}
	} else {
		err = s.apply(ctx, text)
		s.fetched = time.Time{} // names may have come and gone
	}
	if s.timing && err == nil {
		took := time.Since(began).Round(time.Millisecond)
		if rows >= 0 {
			fmt.Fprintf(s.err, "%s rows, %s\n", number(rows), took)
		} else {
			fmt.Fprintf(s.err, "%s\n", took)
		}
	}
	return failed(err)
}

func (s *shell) apply(ctx context.Context, text string) error {
	r, err := s.client().Apply(ctx, api.ScriptRequest{SQL: text, File: "shell"})
	if err != nil {
		return failed(err)
	}
	for _, o := range r.Outcomes {
		s.printOutcome(o)
	}
	if r.Problem != nil {
		return failed(r.Problem)
	}
	return nil
}

// sure asks before something is done that cannot be undone.
func (s *shell) sure(ctx context.Context, st sql.Statement) (bool, error) {
	if !s.interactive {
		return true, nil
	}
	ask := ""
	switch st := st.(type) {
	case *sql.Drop:
		name := st.Name.Text
		switch st.Kind {
		case sql.KindTopic:
			topics, err := s.client().Topics(ctx)
			if err != nil {
				return false, failed(err)
			}
			for _, t := range topics {
				if t.Name == name {
					ask = fmt.Sprintf("This deletes the topic %s with %s, %s bytes.", name, counted(t.Messages, "message"), number(t.Bytes))
				}
			}
		case sql.KindJob:
			if j, err := s.client().Job(ctx, name); err == nil {
				ask = fmt.Sprintf("The job %s is %s; its place and its state are forgotten. What it has written stays.", name, j.State)
			}
		}
	case *sql.CreateJob:
		if !st.Replace {
			return true, nil
		}
		r, err := s.client().Apply(ctx, api.ScriptRequest{SQL: sql.Print(st) + ";", DryRun: true})
		if err != nil || len(r.Outcomes) == 0 || len(r.Outcomes[0].Changes) == 0 {
			return true, nil // what is wrong is told when it is done
		}
		s.printOutcome(r.Outcomes[0])
		ask = "The new text takes over."
	case *sql.StartJob:
		if st.From != nil {
			ask = "Results from there on are written once more."
		}
	}
	if ask == "" {
		return true, nil
	}
	fmt.Fprintf(s.out, "%s Type yes to go on: ", ask)
	lines := s.lines
	if lines == nil {
		lines = bufio.NewReader(s.in)
	}
	answer, err := lines.ReadString('\n')
	if err != nil {
		return false, err
	}
	if strings.ToLower(strings.TrimSpace(answer)) == "yes" {
		return true, nil
	}
	fmt.Fprintln(s.out, "left as it is")
	return false, nil
}

// script does the statements of standard input. At a terminal that has no cursor to move it asks for each line and goes on
// behind what fails.
func (s *shell) script(ctx context.Context) error {
	s.lines = bufio.NewReader(s.in)
	var text string
	begins := 1 // the line at which text begins
	for {
		if s.interactive {
			fmt.Fprint(s.out, map[bool]string{true: "fiume> ", false: "  ...> "}[strings.TrimSpace(text) == ""])
		}
		line, err := s.lines.ReadString('\n')
		if strings.TrimSpace(text) == "" && (isWord(line) || isCommand(line)) {
			if s.do(ctx, line) {
				return nil
			}
			begins += strings.Count(text+line, "\n")
			text = ""
		} else {
			text += line
		}
		statements, rest := sql.Split(text)
		if err != nil && strings.TrimSpace(rest) != "" {
			statements, rest = append(statements, strings.TrimSpace(rest)), ""
		}
		done := 0
		for _, st := range statements {
			at := max(done, done+strings.Index(text[done:], st))
			before := begins - 1 + strings.Count(text[:at], "\n")
			done = min(len(text), at+len(st))
			// Behind empty lines the places of errors are those of the file.
			if e := s.statement(ctx, strings.Repeat("\n", before)+strings.TrimSuffix(st, ";")+";"); e != nil {
				if !s.interactive && (ctx.Err() != nil || !s.goOn) {
					return e
				}
				s.tell(e)
			}
		}
		if len(statements) > 0 {
			begins += strings.Count(text[:len(text)-len(rest)], "\n")
			text = rest
		}
		switch {
		case errors.Is(err, io.EOF) && s.interactive:
			fmt.Fprintln(s.out)
			return nil
		case s.failure != nil && !s.goOn && !s.interactive, errors.Is(err, io.EOF) && s.failure != nil:
			return told(s.failure) // it has been printed
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
	}
}

// complete proposes what the word at the cursor may become.
func (s *shell) complete(line []rune, cursor int) readline.Completions {
	if time.Since(s.fetched) > 5*time.Second {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		if w, err := s.client().Words(ctx); err == nil {
			s.words, s.fetched = w, time.Now()
		}
		if fs, err := s.client().Functions(ctx); err == nil {
			s.functions = nil
			for _, f := range fs {
				s.functions = append(s.functions, f.Name)
			}
		}
	}
	text := string(line[:min(cursor, len(line))])
	at := strings.LastIndexFunc(text, func(r rune) bool { return strings.ContainsRune(" \t\n(,;=<>+-*/'", r) }) + 1
	word := text[at:]
	var pairs []string
	for _, p := range s.proposals(text, word) {
		pairs = append(pairs, p[0], p[1])
	}
	return readline.CompleteValuesDescribed(pairs...)
}

// proposals gives what a word may become, each with what it is.
func (s *shell) proposals(text, word string) (out [][2]string) {
	add := func(value, about string) {
		if len(value) > len(word) && strings.EqualFold(value[:len(word)], word) && !slices.ContainsFunc(out, func(x [2]string) bool { return x[0] == value }) {
			out = append(out, [2]string{value, about})
		}
	}
	if s.words == nil {
		return nil
	}
	lower := strings.ToLower(text)
	for _, n := range s.words.Names {
		if n.Kind == sql.KindTopic && !strings.Contains(lower, "topic") {
			continue
		}
		add(sql.Quoted(n.Name), n.Kind)
		if strings.Contains(lower, strings.ToLower(n.Name)) || strings.HasPrefix(lower, "select") {
			for _, c := range n.Columns {
				add(c.Name, c.Type+" of "+n.Name)
			}
		}
	}
	upper := word == "" || strings.ToUpper(word[:1]) == word[:1]
	cased := func(k string) string {
		if upper {
			return k
		}
		return strings.ToLower(k)
	}
	if word != "" {
		for _, k := range s.words.Keywords {
			add(cased(k), "keyword")
		}
		for _, f := range s.functions {
			add(cased(f), "function")
		}
	}
	if !strings.Contains(text, " ") {
		for _, w := range own {
			add(w, "of the shell")
		}
	}
	// A command and its own commands.
	for at, rest := (&app{}).root(), text; at != nil; {
		first, more, deeper := strings.Cut(strings.TrimLeft(rest, " "), " ")
		var next *cobra.Command
		for _, c := range at.Commands() {
			if at.HasParent() || slices.Contains(commands, c.Name()) {
				if !deeper {
					add(c.Name(), c.Short)
				} else if c.Name() == first {
					next = c
				}
			}
		}
		at, rest = next, more
	}
	return out
}
