package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"fiume/internal/api"
	"fiume/internal/client"
	"fiume/internal/core/types"
	"fiume/internal/service"

	"github.com/spf13/cobra"
)

func (a *app) client() *client.Client { return client.New(a.serviceAddress()) }

// failed gives an error of a call its exit code.
func failed(err error) error {
	var p *api.Problem
	switch {
	case err == nil:
		return nil
	case errors.Is(err, client.ErrNoService):
		return &failure{exitNoServer, err}
	case errors.As(err, &p) && p.Status == http.StatusNotFound:
		return &failure{exitNotFound, err}
	case errors.As(err, &p) && len(p.Diagnostics) > 0:
		return &failure{exitSQL, err}
	}
	return err
}

// printJSON prints for scripts.
func (a *app) printJSON(v any) error {
	enc := json.NewEncoder(a.out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// columns prints rows in columns.
func columns(w io.Writer, head []string, rows [][]string) {
	t := tabwriter.NewWriter(w, 2, 0, 2, ' ', 0)
	fmt.Fprintln(t, strings.Join(head, "\t"))
	for _, r := range rows {
		fmt.Fprintln(t, strings.Join(r, "\t"))
	}
	t.Flush()
}

func (a *app) applyCommand() *cobra.Command {
	var dryRun bool
	c := &cobra.Command{
		Use:   "apply FILE.sql…",
		Short: "Send declarations and jobs to the service",
		Long: `Has the statements of files done by the service, in order. Each file is checked as
a whole first: where a statement has errors, nothing of the file is done. Applying a
file again changes nothing.`,
		Example: `  fiume apply demo/sql/race.sql --set archive=archive/reads
  fiume apply --dry-run jobs.sql
  echo 'SHOW JOBS;' | fiume apply -`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			params, err := a.params()
			if err != nil {
				return err
			}
			var all []service.Outcome
			for _, name := range args {
				src, err := a.readFile(name)
				if err != nil {
					return err
				}
				r, err := a.client().Apply(c.Context(), api.ScriptRequest{SQL: src, File: name, Params: params, DryRun: dryRun})
				if err != nil {
					return failed(err)
				}
				all = append(all, r.Outcomes...)
				if a.output == "text" {
					for _, o := range r.Outcomes {
						a.printOutcome(o)
					}
					if dryRun {
						fmt.Fprintf(a.out, "%s has no errors; nothing was done\n", name)
					}
				}
				if r.Problem != nil {
					return failed(r.Problem)
				}
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	a.setFlag(c)
	c.Flags().BoolVar(&dryRun, "dry-run", false, "check only, change nothing")
	return c
}

func (a *app) printOutcome(o service.Outcome) {
	if o.Done == "shown" {
		if o.Columns != nil {
			if len(o.Rows) == 0 {
				fmt.Fprintf(a.out, "no %ss\n", o.Kind)
			} else {
				columns(a.out, o.Columns, o.Rows)
			}
		}
		if o.Note != "" {
			fmt.Fprintln(a.out, strings.TrimRight(o.Note, "\n"))
		}
		return
	}
	fmt.Fprintf(a.out, "%s %s %s", o.Kind, o.Name, o.Done)
	if o.Note != "" {
		fmt.Fprintf(a.out, " (%s)", o.Note)
	}
	fmt.Fprintln(a.out)
}

func (a *app) queryCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   `query "SELECT …"`,
		Short: "Run a live query and print its rows as they come",
		Long: `Runs a SELECT in the service and prints its rows as they come, until it reaches its
LIMIT or UNTIL, its inputs end, or Ctrl-C. Topics are read from now on unless the
query says SINCE.`,
		Example: `  fiume query "SELECT chip, mat, rssi FROM reads WHERE rssi > -50 LIMIT 10"
  fiume query "SELECT mat, COUNT(*) AS n FROM reads SINCE BEGINNING
               GROUP BY mat, w WINDOW w AS (TUMBLING 1 MINUTE) UNTIL NOW" --output csv`,
		Args: arity(1, "one query in quotes"),
		RunE: func(c *cobra.Command, args []string) error {
			params, err := a.params()
			if err != nil {
				return err
			}
			w := bufio.NewWriter(a.out)
			var table *tableWriter
			var names []types.Field
			end, err := a.client().Query(c.Context(), api.ScriptRequest{SQL: args[0], File: "query", Params: params},
				func(cols []service.Column) error {
					for _, col := range cols {
						names = append(names, types.Field{Name: col.Name, Type: typeNamed(col.Type)})
					}
					switch a.output {
					case "table":
						table = newTable(w, names)
						table.live = isTerminal(a.out)
					case "csv":
						for i, f := range names {
							if i > 0 {
								w.WriteByte(',')
							}
							w.WriteString(csvCell(f.Name))
						}
						w.WriteByte('\n')
					}
					return w.Flush()
				},
				func(row json.RawMessage) error {
					switch a.output {
					case "table":
						return table.row(row)
					case "csv":
						cells, err := jsonRow(row, names)
						if err != nil {
							return err
						}
						for i, cell := range cells {
							if i > 0 {
								w.WriteByte(',')
							}
							if cell != "NULL" {
								w.WriteString(csvCell(cell))
							}
						}
						w.WriteByte('\n')
					default:
						w.Write(row)
						w.WriteByte('\n')
					}
					return w.Flush()
				})
			if table != nil && (end != nil || table.rows > 0) {
				err = errors.Join(err, table.finish())
			}
			err = errors.Join(err, w.Flush())
			if end != nil {
				var late, rejected int64
				for _, s := range end.Status.Steps {
					late += s.Counts.Late
					rejected += s.Counts.Rejected
				}
				if late+rejected > 0 {
					fmt.Fprintf(a.err, "%d rows were late, %d rejected\n", late, rejected)
				}
			}
			return failed(err)
		},
	}
	a.outputFlag(c, "table", "json", "csv")
	a.setFlag(c)
	return c
}

func typeNamed(s string) types.Type {
	for k := types.Boolean; k <= types.Row; k++ {
		if types.Of(k).String() == s {
			return types.Of(k)
		}
	}
	return types.Of(types.Varchar)
}

func csvCell(s string) string {
	if strings.ContainsAny(s, ",\"\r\n") {
		return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
	}
	return s
}

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	if !ok {
		return false
	}
	st, err := f.Stat()
	return err == nil && st.Mode()&os.ModeCharDevice != 0
}

func (a *app) jobCommand() *cobra.Command {
	job := &cobra.Command{Use: "job", Short: "Look after jobs", Example: "  fiume job list\n  fiume job show clean_reads"}
	list := &cobra.Command{
		Use: "list", Short: "List the jobs with their states", Example: "  fiume job list --output json", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			jobs, err := a.client().Jobs(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(jobs)
			}
			if len(jobs) == 0 {
				fmt.Fprintln(a.out, "no jobs; create one with: fiume apply FILE.sql")
				return nil
			}
			var rows [][]string
			for _, j := range jobs {
				state := j.State
				if j.Reason != "" {
					state += " because " + firstLine(j.Reason)
				}
				rows = append(rows, []string{j.Name, state, number(j.In), number(j.Out), number(j.Late), number(j.Rejects), ago(j.Since)})
			}
			columns(a.out, []string{"JOB", "STATE", "ROWS IN", "ROWS OUT", "LATE", "REJECTED", "SINCE"}, rows)
			return nil
		},
	}
	show := &cobra.Command{
		Use: "show JOB", Short: "Show a job: its ledger, watermarks, late and rejected rows", Example: "  fiume job show crowding", Args: arity(1, "the name of a job"),
		RunE: func(c *cobra.Command, args []string) error {
			d, err := a.client().Job(c.Context(), args[0])
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(d)
			}
			a.printJob(d)
			return nil
		},
	}
	change := func(use, short, example, done string, do func(c *cobra.Command, name string) error) *cobra.Command {
		return &cobra.Command{Use: use + " JOB", Short: short, Example: example, Args: arity(1, "the name of a job"),
			RunE: func(c *cobra.Command, args []string) error {
				if err := do(c, args[0]); err != nil {
					return failed(err)
				}
				fmt.Fprintf(a.out, "job %s %s\n", args[0], done)
				return nil
			}}
	}
	a.outputFlag(list, "table", "json")
	a.outputFlag(show, "text", "json")
	job.AddCommand(list, show,
		change("start", "Start a stopped job where it was", "  fiume job start crowding", "started", func(c *cobra.Command, n string) error { return a.client().StartJob(c.Context(), n) }),
		change("stop", "Stop a job; it keeps its place and state", "  fiume job stop crowding", "stopped", func(c *cobra.Command, n string) error { return a.client().StopJob(c.Context(), n) }),
		change("drop", "Stop a job and forget it; what it has written stays", "  fiume job drop crowding", "dropped", func(c *cobra.Command, n string) error { return a.client().DropJob(c.Context(), n) }))
	return job
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(s, "\n")
	return s
}

// number writes a count with thin groups of three digits.
func number(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%ds ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%dm ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%dh ago", int(d.Hours()))
	}
	return t.Format("2006-01-02")
}

func instant(us *int64) string {
	if us == nil {
		return "-"
	}
	return string(types.AppendTimestamp(nil, *us))
}

func (a *app) printJob(d *service.JobDetail) {
	fmt.Fprintf(a.out, "job %s: %s since %s", d.Name, d.State, d.Since.Local().Format("15:04:05"))
	if d.Reason != "" {
		fmt.Fprintf(a.out, " because %s", d.Reason)
	}
	fmt.Fprintln(a.out)
	if c := d.Checkpoint; c != nil {
		fmt.Fprintf(a.out, "checkpoint %d, %s, %s bytes of state, took %d ms\n", c.Number, ago(c.At), number(c.Bytes), c.TookMs)
	}
	if len(d.Status.Splits) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, s := range d.Status.Splits {
			state := "reading"
			if s.Ended {
				state = "ended"
			} else if s.Idle {
				state = "idle"
			}
			rows = append(rows, []string{s.Stream, s.Split, number(s.Next), instant(s.NewestAt), instant(s.Watermark), state})
		}
		columns(a.out, []string{"STREAM", "SPLIT", "NEXT", "NEWEST EVENT", "WATERMARK", "STATE"}, rows)
	}
	printLedger(a.out, d.Name, d.Status, d.Samples)
}

func (a *app) topicCommand() *cobra.Command {
	topic := &cobra.Command{Use: "topic", Short: "Look after the built-in topics", Example: "  fiume topic list\n  fiume topic read mat-reads --last 5"}
	list := &cobra.Command{
		Use: "list", Short: "List the topics with their sizes", Example: "  fiume topic list", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			ts, err := a.client().Topics(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(ts)
			}
			if len(ts) == 0 {
				fmt.Fprintln(a.out, "no topics; create one with: fiume topic create NAME")
				return nil
			}
			var rows [][]string
			for _, t := range ts {
				rows = append(rows, []string{t.Name, strconv.Itoa(len(t.Partitions)), number(t.Messages), number(t.Bytes)})
			}
			columns(a.out, []string{"TOPIC", "PARTITIONS", "MESSAGES", "BYTES"}, rows)
			return nil
		},
	}
	var partitions int
	var retain time.Duration
	create := &cobra.Command{
		Use: "create NAME", Short: "Create a topic", Example: "  fiume topic create mat-reads --partitions 4 --retain 168h", Args: arity(1, "a name"),
		RunE: func(c *cobra.Command, args []string) error {
			_, err := a.client().CreateTopic(c.Context(), api.TopicRequest{Name: args[0], Partitions: partitions, RetainFor: int64(retain.Seconds())})
			if err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "topic %s created\n", args[0])
			return nil
		},
	}
	create.Flags().IntVar(&partitions, "partitions", 4, "parts that are read and written in parallel")
	create.Flags().DurationVar(&retain, "retain", 0, "how long messages are kept (default: for ever)")

	var key string
	write := &cobra.Command{
		Use: "write NAME", Short: "Write the lines of standard input as messages", Args: arity(1, "the name of a topic"),
		Long: `Writes each line of standard input as a message. With --key the key is the text of
that field of the JSON message; messages of one key stay in order.`,
		Example: `  echo '{"chip":"P00001","mat":"start"}' | fiume topic write mat-reads --key chip`,
		RunE: func(c *cobra.Command, args []string) error {
			n, err := a.writeLines(c, args[0], key)
			if err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.err, "%s messages written\n", number(n))
			return nil
		},
	}
	write.Flags().StringVar(&key, "key", "", "field of the JSON message that is its key")

	var partition, last, limit int
	var from int64
	var since string
	read := &cobra.Command{
		Use: "read NAME", Short: "Read messages", Args: arity(1, "the name of a topic"),
		Example: "  fiume topic read mat-reads --last 5\n  fiume topic read mat-reads --partition 0 --from 1000 --limit 20 --output json",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"partition": {strconv.Itoa(partition)}, "limit": {strconv.Itoa(limit)}}
			if from >= 0 {
				if partition < 0 {
					return fail(exitUsage, "--from is an offset of one partition; add --partition")
				}
				q.Set("from", strconv.FormatInt(from, 10))
			}
			if since != "" {
				us, ok := types.ParseTimestamp([]byte(since))
				if !ok {
					return fail(exitUsage, "--since takes a time such as 2026-05-17T09:00:00Z, found %q", since)
				}
				q.Set("since", time.UnixMicro(us).UTC().Format(time.RFC3339Nano))
			}
			if last > 0 {
				q.Set("last", strconv.Itoa(last))
			}
			ms, err := a.client().Read(c.Context(), args[0], q)
			if err != nil {
				return failed(err)
			}
			w := bufio.NewWriter(a.out)
			defer w.Flush()
			for _, m := range ms {
				switch a.output {
				case "json":
					b, err := json.Marshal(m)
					if err != nil {
						return err
					}
					fmt.Fprintf(w, "%s\n", b)
				case "value":
					fmt.Fprintln(w, m.Value)
				default:
					k := "-"
					if m.Key != nil {
						k = *m.Key
					}
					fmt.Fprintf(w, "%d:%d  %s  %s  %s\n", m.Partition, m.Offset, m.At.Format("15:04:05.000"), k, m.Value)
				}
			}
			if len(ms) == 0 {
				fmt.Fprintln(a.err, "no messages there")
			}
			return nil
		},
	}
	read.Flags().IntVar(&partition, "partition", -1, "read one partition")
	read.Flags().Int64Var(&from, "from", -1, "begin at this offset of the partition")
	read.Flags().StringVar(&since, "since", "", "messages that arrived then or later")
	read.Flags().IntVar(&last, "last", 0, "the last so many of each partition")
	read.Flags().IntVar(&limit, "limit", 100, "at most so many in all")
	drop := &cobra.Command{
		Use: "drop NAME", Short: "Delete a topic and its data", Example: "  fiume topic drop mat-reads", Args: arity(1, "the name of a topic"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().DropTopic(c.Context(), args[0]); err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "topic %s dropped\n", args[0])
			return nil
		},
	}
	a.outputFlag(list, "table", "json")
	a.outputFlag(read, "text", "json", "value")
	topic.AddCommand(list, create, write, read, drop)
	return topic
}

// linesAWrite bounds the messages of one call.
const linesAWrite = 5000

func (a *app) writeLines(c *cobra.Command, topic, key string) (int64, error) {
	sc := bufio.NewScanner(a.in)
	sc.Buffer(make([]byte, 1<<20), 64<<20)
	var batch []api.MessageRequest
	total := int64(0)
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		if err := a.client().Write(c.Context(), topic, batch); err != nil {
			return err
		}
		total += int64(len(batch))
		batch = batch[:0]
		return nil
	}
	line := 0
	for sc.Scan() {
		line++
		if len(strings.TrimSpace(sc.Text())) == 0 {
			continue
		}
		m := api.MessageRequest{Value: sc.Text()}
		if key != "" {
			var fields map[string]any
			if err := json.Unmarshal(sc.Bytes(), &fields); err != nil {
				return total, fmt.Errorf("line %d is no JSON object, so it has no field %q: %w (%d messages had been written)", line, key, err, total)
			}
			if v, ok := fields[key]; ok && v != nil {
				k := fmt.Sprint(v)
				m.Key = &k
			}
		}
		batch = append(batch, m)
		if len(batch) == linesAWrite {
			if err := flush(); err != nil {
				return total, err
			}
		}
	}
	return total, errors.Join(sc.Err(), flush(), nil)
}

func (a *app) secretCommand() *cobra.Command {
	secret := &cobra.Command{Use: "secret", Short: "Look after the secrets of endpoints", Example: "  fiume secret set race_db < password.txt"}
	set := &cobra.Command{
		Use: "set NAME", Short: "Set a secret, read from standard input", Example: "  fiume secret set race_db < password.txt", Args: arity(1, "a name"),
		Long: "Sets a secret. Its value is read from standard input, without the newline at its end,\nkept sealed, and never shown again. Endpoints refer to it with SECRET 'name'.",
		RunE: func(c *cobra.Command, args []string) error {
			b, err := io.ReadAll(a.in)
			if err != nil {
				return err
			}
			if err := a.client().SetSecret(c.Context(), args[0], strings.TrimRight(string(b), "\r\n")); err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "secret %s set\n", args[0])
			return nil
		},
	}
	list := &cobra.Command{
		Use: "list", Short: "List the names of the secrets", Example: "  fiume secret list", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			names, err := a.client().Secrets(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(names)
			}
			if len(names) == 0 {
				fmt.Fprintln(a.out, "no secrets")
			}
			for _, n := range names {
				fmt.Fprintln(a.out, n)
			}
			return nil
		},
	}
	a.outputFlag(list, "text", "json")
	secret.AddCommand(set, list)
	return secret
}

func (a *app) activityCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "activity", Short: "Show who did what, the newest first", Example: "  fiume activity --limit 20", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			list, err := a.client().Activity(c.Context(), limit)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(list)
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "nothing has been done yet")
				return nil
			}
			var rows [][]string
			for _, x := range list {
				rows = append(rows, []string{x.At.Local().Format("2006-01-02 15:04:05"), x.Actor, x.Action, x.Object})
			}
			columns(a.out, []string{"AT", "WHO", "DID", "TO"}, rows)
			return nil
		},
	}
	a.outputFlag(c, "table", "json")
	c.Flags().IntVar(&limit, "limit", 50, "how many entries")
	return c
}

func (a *app) versionCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "version", Short: "Print the version", Example: "  fiume version", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			if a.output == "json" {
				return a.printJSON(map[string]string{"version": service.Version})
			}
			fmt.Fprintln(a.out, "fiume "+service.Version)
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	return c
}
