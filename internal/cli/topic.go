package cli

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"fiume/internal/api"
	"fiume/internal/client"
	"fiume/internal/core/types"
	"fiume/internal/service/topics"

	"github.com/spf13/cobra"
)

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
				newest := "-"
				if t.LastAt != nil {
					newest = ago(*t.LastAt)
				}
				rows = append(rows, []string{t.Name, strconv.Itoa(len(t.Partitions)), number(t.Messages), number(t.Bytes), fmt.Sprintf("%.1f", t.Rate), newest})
			}
			columns(a.out, []string{"TOPIC", "PARTITIONS", "MESSAGES", "BYTES", "A SECOND", "NEWEST"}, rows)
			return nil
		},
	}
	var partitions int
	var retain length
	create := &cobra.Command{
		Use: "create NAME", Short: "Create a topic", Example: "  fiume topic create mat-reads --partitions 4 --retain 7d", Args: arity(1, "a name"),
		RunE: func(c *cobra.Command, args []string) error {
			if partitions < 1 {
				return fail(exitUsage, "--partitions takes a number from 1 on, found %d", partitions)
			}
			_, err := a.client().CreateTopic(c.Context(), api.TopicRequest{Name: args[0], Partitions: partitions, RetainFor: int64(time.Duration(retain).Seconds())})
			if err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "topic %s created\n", args[0])
			return nil
		},
	}
	create.Flags().IntVar(&partitions, "partitions", 4, "parts that are read and written in parallel")
	create.Flags().Var(&retain, "retain", "how long messages are kept, as 7d or 168h (default: for ever)")

	var key string
	write := &cobra.Command{
		Use: "write NAME", Short: "Write the lines of standard input as messages", Args: arity(1, "the name of a topic"),
		Long: `Writes each line of standard input as a message, soon after it has come. With --key the key is the text of
that field of the JSON message; messages of one key stay in order.`,
		Example: `  echo '{"chip":"P00001","mat":"start"}' | fiume topic write mat-reads --key chip`,
		RunE: func(c *cobra.Command, args []string) error {
			n, err := a.writeLines(c, args[0], key)
			if err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.err, "%s written\n", counted(int64(n), "message"))
			return nil
		},
	}
	write.Flags().StringVar(&key, "key", "", "field of the JSON message that is its key")

	var partition, last, limit int
	var from int64
	var since, onlyKey, onlyText string
	var follow bool
	read := &cobra.Command{
		Use: "read NAME", Short: "Read messages, or follow them as they come", Args: arity(1, "the name of a topic"),
		Long: `Reads messages: the first ones, or those behind an offset or a time, or the last ones.
With --follow it shows those that come, until Ctrl-C. --key and --text choose among them.`,
		Example: "  fiume topic read mat-reads --last 5\n  fiume topic read mat-reads --partition 0 --from 1000 --limit 20 --output json\n  fiume topic read mat-reads --key P00042 --last 20\n  fiume topic read mat-reads --follow --text finish",
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
				if back := length(0); !ok && back.Set(since) == nil {
					us, ok = time.Now().Add(-time.Duration(back)).UnixMicro(), true
				}
				if !ok {
					return fail(exitUsage, "--since takes a time such as 2026-05-17T09:00:00Z, or how far back, as 2h or '1 HOUR'; found %q", since)
				}
				q.Set("since", time.UnixMicro(us).UTC().Format(time.RFC3339Nano))
			}
			if last > 0 {
				q.Set("last", strconv.Itoa(last))
			}
			if onlyKey != "" {
				q.Set("key", onlyKey)
			}
			if onlyText != "" {
				q.Set("text", onlyText)
			}
			if follow {
				err := a.client().Follow(c.Context(), args[0], q, func(f api.Followed) error {
					if f.Left > 0 {
						fmt.Fprintf(a.err, "%s messages came too fast and are left out\n", number(f.Left))
					}
					return a.printMessages(f.Messages)
				})
				return failed(err)
			}
			ms, err := a.client().Read(c.Context(), args[0], q)
			if err != nil {
				return failed(err)
			}
			if err := a.printMessages(ms); err != nil {
				return err
			}
			if len(ms) == 0 {
				fmt.Fprintln(a.err, "no messages there")
			}
			return nil
		},
	}
	read.Flags().IntVar(&partition, "partition", -1, "read one partition")
	read.Flags().Int64Var(&from, "from", -1, "begin at this offset of the partition")
	read.Flags().StringVar(&since, "since", "", "messages that arrived then or later: a time, or how far back, as 2h or '1 HOUR'")
	read.Flags().IntVar(&last, "last", 0, "the last so many of each partition")
	read.Flags().IntVar(&limit, "limit", 100, "at most so many in all")
	read.Flags().StringVar(&onlyKey, "key", "", "only messages with this key")
	read.Flags().StringVar(&onlyText, "text", "", "only messages with this text in their value")
	read.Flags().BoolVarP(&follow, "follow", "f", false, "show messages as they come, until Ctrl-C")
	var yes bool
	drop := &cobra.Command{
		Use: "drop NAME", Short: "Delete a topic and its data", Args: arity(1, "the name of a topic"),
		Long: `Deletes a topic that no job uses, and all of its messages. At a terminal it asks first;
--yes answers.`,
		Example: "  fiume topic drop mat-reads\n  fiume topic drop mat-reads --yes",
		RunE: func(c *cobra.Command, args []string) error {
			if ok, err := a.sure("This deletes the topic "+args[0]+" with its messages.", yes); !ok {
				return err
			}
			if err := a.client().DropTopic(c.Context(), args[0]); err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "topic %s dropped\n", args[0])
			return nil
		},
	}
	drop.Flags().BoolVar(&yes, "yes", false, "do not ask")
	a.outputFlag(list, "table", "json")
	a.outputFlag(read, "text", "json", "value", "hex")
	topic.AddCommand(list, create, write, read, drop)
	return topic
}

// shown is a message on one line: what a terminal would take for its own, and bytes that are no text, are written as escapes.
func shown(m topics.Message) string {
	value := m.Value
	if m.Bytes != nil {
		value = string(m.Bytes)
	}
	if m.Bytes == nil && !strings.ContainsFunc(value, func(r rune) bool { return unicode.IsControl(r) && r != '\t' }) {
		return value
	}
	q := strconv.Quote(value)
	return q[1 : len(q)-1]
}

// printMessages prints messages as --output says.
func (a *app) printMessages(ms []topics.Message) error {
	w := bufio.NewWriter(a.out)
	for _, m := range ms {
		k := "-"
		if m.Key != nil {
			k = *m.Key
		}
		head := fmt.Sprintf("%d:%d  %s  %s", m.Partition, m.Offset, m.At.Format("15:04:05.000"), k)
		switch a.output {
		case "json":
			b, err := json.Marshal(m)
			if err != nil {
				return err
			}
			fmt.Fprintf(w, "%s\n", b)
		case "value":
			fmt.Fprintln(w, m.Value)
		case "hex":
			value := m.Bytes
			if value == nil {
				value = []byte(m.Value)
			}
			fmt.Fprintf(w, "%s\n%s", head, hex.Dump(value))
		default:
			fmt.Fprintf(w, "%s  %s\n", head, shown(m))
			for _, n := range slices.Sorted(maps.Keys(m.Headers)) {
				fmt.Fprintf(w, "    %s: %s\n", n, m.Headers[n])
			}
		}
	}
	return w.Flush()
}

// What one call writes at most.
const (
	linesAWrite = 5000
	bytesAWrite = 8 << 20
	longestLine = 32 << 20
)

// writeTries is how often a batch is sent whose answer did not come: under its name it is written once.
const writeTries = 5

func (a *app) writeLines(c *cobra.Command, topic, key string) (int64, error) {
	in := bufio.NewReaderSize(a.in, 1<<20)
	writer := rand.Text()
	var batch []api.MessageRequest
	total, size, number := int64(0), 0, 0
	ctx := c.Context()
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		number++
		var err error
		for try := range writeTries {
			if try > 0 {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-time.After(time.Duration(try) * 500 * time.Millisecond):
				}
			}
			if err = a.client().WriteBatch(ctx, topic, fmt.Sprint(writer, "/", number), batch); !errors.Is(err, client.ErrNoService) {
				break
			}
		}
		if err != nil {
			return fmt.Errorf("%w\n%d messages had been written before; of the %d behind them none, some or all are there", err, total, len(batch))
		}
		total += int64(len(batch))
		batch, size = batch[:0], 0
		return nil
	}
	lines, gone := make(chan lineRead, linesAWrite), make(chan struct{})
	defer close(gone)
	go func() {
		for {
			text, err := readLine(in)
			select {
			case lines <- lineRead{text, err}:
			case <-gone:
				return
			}
			if err != nil {
				return
			}
		}
	}()
	for line := 1; ; line++ {
		var next lineRead
		var pause <-chan time.Time
		if len(batch) > 0 {
			pause = time.After(writePause)
		}
		select {
		case next = <-lines:
		case <-pause: // whoever writes line by line has each of them in the topic soon
			if err := flush(); err != nil {
				return total, err
			}
			line--
			continue
		case <-c.Context().Done(): // what has come is written
			var cancel context.CancelFunc
			ctx, cancel = context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			return total, errors.Join(flush(), c.Context().Err())
		}
		text, err := next.text, next.err
		if errors.Is(err, io.EOF) {
			return total, flush()
		}
		if err != nil {
			return total, errors.Join(flush(), fmt.Errorf("line %d: %w (%d messages had been written)", line, err, total+int64(len(batch))))
		}
		if len(bytes.TrimSpace(text)) == 0 {
			continue
		}
		m := api.MessageRequest{}
		if utf8.Valid(text) {
			m.Value = string(text)
		} else {
			m.Bytes = text // as it is
		}
		if key != "" {
			var fields map[string]any
			if err := json.Unmarshal(text, &fields); err != nil {
				return total, errors.Join(flush(), fmt.Errorf("line %d is no JSON object, so it has no field %q: %w (%d messages have been written)", line, key, err, total+int64(len(batch))))
			}
			if v, ok := fields[key]; ok && v != nil {
				k := fmt.Sprint(v)
				m.Key = &k
			}
		}
		batch, size = append(batch, m), size+len(text)
		if len(batch) == linesAWrite || size >= bytesAWrite {
			if err := flush(); err != nil {
				return total, err
			}
		}
	}
}

// lineRead is a line, or why there is none.
type lineRead struct {
	text []byte
	err  error
}

// writePause is how long lines wait for more to be written with them.
const writePause = 100 * time.Millisecond

// readLine reads a line without its end. io.EOF says that there is none.
func readLine(in *bufio.Reader) ([]byte, error) {
	var out []byte
	for {
		part, err := in.ReadSlice('\n')
		out = append(out, part...)
		switch {
		case len(out) > longestLine:
			return nil, fmt.Errorf("it is longer than %d MB, which no message may be", longestLine>>20)
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case err != nil && len(out) == 0:
			return nil, err
		case err != nil && !errors.Is(err, io.EOF):
			return nil, err
		}
		return bytes.TrimRight(out, "\r\n"), nil
	}
}
