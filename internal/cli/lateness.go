package cli

import (
	"fmt"
	"net/url"
	"strings"

	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/service/questions"

	"github.com/spf13/cobra"
)

func (a *app) latenessCommand() *cobra.Command {
	var since string
	c := &cobra.Command{
		Use: "lateness STREAM", Short: "Show how late the rows of a stream are, and what each DELAY would keep", Args: arity(1, "the name of a stream"),
		Long: `Reads what a stream has now and shows how far its rows lie behind the newest row that
their partition or file had shown before them: how many rows each DELAY keeps, the
shortest delays that keep 99, 99.9 and 99.99 percent, and how much later results would
come with them.`,
		Example: "  fiume lateness reads\n  fiume lateness reads --since \"1 HOUR\"\n  fiume lateness reads --output json",
		RunE: func(c *cobra.Command, args []string) error {
			query := url.Values{}
			if since != "" {
				query.Set("since", since)
			}
			l, err := a.client().Lateness(c.Context(), args[0], query)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(l)
			}
			a.printLateness(l)
			return nil
		},
	}
	c.Flags().StringVar(&since, "since", "", "where to begin: a duration back, a timestamp in quotes, BEGINNING (default: the beginning)")
	a.outputFlag(c, "text", "json")
	return c
}

// percent writes a share without rounding it up to all.
func percent(share float64) string {
	s := fmt.Sprintf("%.4f", share*100)
	if share < 1 && strings.HasPrefix(s, "100") {
		s = "99.9999"
	}
	return strings.TrimSuffix(strings.TrimRight(s, "0"), ".") + " %"
}

// brief writes a duration to about three digits.
func brief(micros int64) string {
	sign := ""
	if micros < 0 {
		sign, micros = "-", -micros
	}
	switch {
	case micros < 1_000_000:
		return fmt.Sprintf("%s%d ms", sign, micros/1000)
	case micros < 60_000_000:
		return fmt.Sprintf("%s%.1f s", sign, float64(micros)/1e6)
	}
	return fmt.Sprintf("%s%dm %02ds", sign, micros/60_000_000, micros/1_000_000%60)
}

// writable rounds a delay up to what one would write: whole seconds, or milliseconds below one.
func writable(micros int64) int64 {
	unit := types.Millisecond
	if micros > types.Second {
		unit = types.Second
	}
	return (micros + unit - 1) / unit * unit
}

func (a *app) printLateness(l *questions.Lateness) {
	fmt.Fprintf(a.out, "stream %s, event time %s DELAY %s\n", l.Stream, l.EventTime, sql.DurationText(l.Delay))
	if l.Rows == 0 {
		fmt.Fprintln(a.out, "it has no rows yet")
		return
	}
	fmt.Fprintf(a.out, "%s rows; the delay keeps %s of them, the latest is %s behind\n\n", number(l.Rows), percent(l.Kept), brief(l.Most))
	// Buckets are gathered into a line for each doubling.
	type line struct {
		upTo, rows int64
	}
	var lines []line
	limit := int64(0)
	for _, b := range l.Buckets {
		for b.UpTo > limit || len(lines) == 0 {
			if len(lines) > 0 {
				limit = max(2*limit, 125_000)
			}
			lines = append(lines, line{upTo: limit})
		}
		lines[len(lines)-1].rows += b.Rows
	}
	most, kept := int64(0), int64(0)
	for _, x := range lines {
		most = max(most, x.rows)
	}
	var rows [][]string
	for i, x := range lines {
		kept += x.rows
		what := "up to " + brief(x.upTo)
		if i == 0 {
			what = "not behind"
		}
		bar := strings.Repeat("█", int(30*x.rows/most))
		if bar == "" && x.rows > 0 {
			bar = "▏"
		}
		rows = append(rows, []string{what, number(x.rows), percent(float64(kept) / float64(l.Rows)), bar})
	}
	columns(a.out, []string{"BEHIND", "ROWS", "KEPT BY SUCH A DELAY", ""}, rows)
	fmt.Fprintln(a.out)
	rows = nil
	for _, p := range l.Proposals {
		waits := "results come as now"
		if p.Waits > 0 {
			waits = "results come " + brief(p.Waits) + " later"
		} else if p.Waits < 0 {
			waits = "results come " + brief(-p.Waits) + " earlier"
		}
		rows = append(rows, []string{percent(p.Share), "DELAY " + sql.DurationText(writable(p.Delay)), waits})
	}
	columns(a.out, []string{"TO KEEP", "WRITE", "THEN"}, rows)
	fmt.Fprintln(a.out)
	rows = nil
	for _, s := range l.Splits {
		rows = append(rows, []string{s.Split, number(s.Rows), percent(s.Kept), brief(s.Half), brief(s.Most99), brief(s.Most)})
	}
	columns(a.out, []string{"SPLIT", "ROWS", "KEPT", "HALF WITHIN", "99 % WITHIN", "LATEST"}, rows)
}
