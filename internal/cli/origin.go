package cli

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
)

// findCommands are the commands of fiume job that tell where rows came from and where they went.
func (a *app) findCommands() []*cobra.Command {
	var kind, step, class, text, file, send string
	var limit int
	var onceMore bool
	aside := &cobra.Command{
		Use: "aside JOB", Short: "Show late and rejected rows, mend one and send it again", Args: arity(1, "the name of a job"),
		Long: `Shows the rows of a job that were late or rejected, the newest first, with reason and
origin, and how many there are by reason. --file writes them to a file (.csv, .json or
.parquet). --send NUMBER writes a mended message, read from standard input, to the
topic that the row came from.`,
		Example: "  fiume job aside clean_reads --kind rejected\n  fiume job aside clean_reads --kind late --file late.csv\n  echo '{\"chip\":\"P00042\",\"mat\":\"start\",\"read_at\":\"2026-05-17T09:00:00Z\"}' | fiume job aside clean_reads --send 17",
		RunE: func(c *cobra.Command, args []string) error {
			if send != "" {
				id, err := strconv.ParseUint(send, 10, 32)
				if err != nil {
					return fail(exitUsage, "--send takes the number of a row, found %q", send)
				}
				value, err := a.readFile("-")
				if err != nil {
					return err
				}
				value = strings.TrimRight(value, "\r\n")
				if value == "" {
					return fail(exitUsage, "the mended message is read from standard input, which is empty")
				}
				row, err := a.client().SendAgain(c.Context(), args[0], uint(id), value, onceMore)
				if err != nil {
					return failed(err)
				}
				fmt.Fprintf(a.out, "sent to the topic %s again\n", row.Topic)
				if len(row.Readers) > 0 {
					fmt.Fprintf(a.out, "it is read there by %s, too\n", strings.Join(row.Readers, ", "))
				}
				return nil
			}
			q := url.Values{"kind": {kind}, "step": {step}, "class": {class}, "text": {text}, "limit": {strconv.Itoa(limit)}}
			if file != "" {
				format := "csv"
				switch {
				case strings.HasSuffix(file, ".json") || strings.HasSuffix(file, ".ndjson"):
					format = "json"
				case strings.HasSuffix(file, ".parquet"):
					format = "parquet"
				}
				q.Set("format", format)
				b, err := a.client().SetAsideFile(c.Context(), args[0], q)
				if err != nil {
					return failed(err)
				}
				if err := os.WriteFile(file, b, 0o644); err != nil {
					return err
				}
				fmt.Fprintf(a.out, "%s written, %s bytes\n", file, number(int64(len(b))))
				return nil
			}
			out, err := a.client().SetAside(c.Context(), args[0], q)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(out)
			}
			if len(out.Reasons) == 0 && len(out.Rows) == 0 {
				fmt.Fprintln(a.out, "no row was late or rejected")
				return nil
			}
			var rows [][]string
			for _, r := range out.Reasons {
				rows = append(rows, []string{r.Kind, r.Step, number(r.Rows), r.Class})
			}
			columns(a.out, []string{"KIND", "STEP", "ROWS", "REASON"}, rows)
			fmt.Fprintln(a.out)
			for _, r := range out.Rows {
				sent := ""
				if r.SentAt != nil {
					sent = ", sent again by " + r.SentBy
				}
				fmt.Fprintf(a.out, "%d  %s %s: %s (%s%s)\n    %s\n", r.ID, r.Kind, r.Step, r.Reason, r.Origin, sent, clipped(r.Row, 160))
			}
			if out.Next != "" {
				fmt.Fprintln(a.err, "there are more; --limit shows them, --file writes them all")
			}
			return nil
		},
	}
	aside.Flags().StringVar(&kind, "kind", "", "late or rejected")
	aside.Flags().StringVar(&step, "step", "", "only those of a step")
	aside.Flags().StringVar(&class, "reason", "", "only those with a reason as it is listed")
	aside.Flags().StringVar(&text, "text", "", "only those with this text in row, reason or origin")
	aside.Flags().IntVar(&limit, "limit", 20, "rows at most")
	aside.Flags().StringVar(&file, "file", "", "write them to this file")
	aside.Flags().StringVar(&send, "send", "", "number of a row to send again, mended")
	aside.Flags().BoolVar(&onceMore, "once-more", false, "send one that was sent before once more")

	why := &cobra.Command{
		Use: "why JOB SINK ROW", Short: "Find the messages that made a row of a sink", Args: arity(3, "a job, a sink, and a row as a JSON object"),
		Long: `Finds the messages that made a row, in what the topics still hold, and runs the job over
them to see whether they give just this row. ROW is a JSON object with the row's
columns, or some of them.`,
		Example: `  fiume job why clean_reads clean_topic '{"chip":"P00042","mat":"km-05"}'`,
		RunE: func(c *cobra.Command, args []string) error {
			if !json.Valid([]byte(args[2])) {
				return fail(exitUsage, "the row is no JSON object: %s", args[2])
			}
			w, err := a.client().Why(c.Context(), args[0], args[1], json.RawMessage(args[2]))
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(w)
			}
			for _, s := range w.Streams {
				what := "stream"
				if s.Table {
					what = "table"
				}
				fmt.Fprintf(a.out, "%s %s: %s of %s messages\n", what, s.Stream, number(int64(s.Found)), number(s.Looked))
				for _, x := range s.Conditions {
					fmt.Fprintf(a.out, "  where %s\n", x)
				}
				for _, m := range s.Messages {
					late := ""
					if m.Late {
						late = "  (late, did not count)"
					}
					fmt.Fprintf(a.out, "  %s %d:%d  %s%s\n", s.Topic, m.Partition, m.Offset, clipped(m.Value, 140), late)
				}
			}
			if w.Confirmed {
				fmt.Fprintln(a.out, "the job, run over these messages alone, gives just this row")
			}
			for _, n := range w.Notes {
				fmt.Fprintln(a.out, "note: "+n)
			}
			for _, g := range w.Gives {
				fmt.Fprintf(a.out, "  gives %s\n", g)
			}
			return nil
		},
	}
	became := &cobra.Command{
		Use: "became JOB TOPIC PARTITION:OFFSET", Short: "Show what became of a message in a job", Args: arity(3, "a job, a topic, and a place such as 2:1734"),
		Long: `Runs one message through a job by itself, with the watermark that its partition had
then, and says what each step did with it: passed, filtered, counted, late, rejected.`,
		Example: "  fiume job became crowding mat-reads 2:1734",
		RunE: func(c *cobra.Command, args []string) error {
			p, o, ok := strings.Cut(args[2], ":")
			partition, err1 := strconv.Atoi(p)
			offset, err2 := strconv.ParseInt(o, 10, 64)
			if !ok || err1 != nil || err2 != nil {
				return fail(exitUsage, "a place is PARTITION:OFFSET, such as 2:1734; found %q", args[2])
			}
			b, err := a.client().Became(c.Context(), args[0], args[1], partition, offset)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(b)
			}
			fmt.Fprintf(a.out, "%s\n", b.Message.Value)
			if b.EventTime != nil {
				fmt.Fprintf(a.out, "event time %s, watermark before it %s\n", instant(b.EventTime), instant(b.Stamp))
			}
			var rows [][]string
			for _, s := range b.Steps {
				rows = append(rows, []string{s.Step, s.Kind, s.Verdict, s.Reason})
			}
			columns(a.out, []string{"STEP", "KIND", "VERDICT", "REASON"}, rows)
			for _, r := range b.Results {
				fmt.Fprintf(a.out, "in %s: %s\n", r.Sink, r.Row)
				for _, f := range r.Found {
					fmt.Fprintf(a.out, "  stands there: %s\n", f)
				}
			}
			for _, n := range b.Notes {
				fmt.Fprintln(a.out, "note: "+n)
			}
			return nil
		},
	}
	for _, c := range []*cobra.Command{aside, why, became} {
		a.outputFlag(c, "text", "json")
	}
	return []*cobra.Command{aside, why, became}
}
