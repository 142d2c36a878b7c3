package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"runtime/pprof"
	"strings"
	"text/tabwriter"
	"time"

	"fiume/internal/checkpoint"
	"fiume/internal/connect"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/text"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/disk"
	"fiume/internal/service/samples"

	"github.com/spf13/cobra"
)

func (a *app) runCommand() *cobra.Command {
	var parallelism int
	var quiet bool
	var profile string
	c := &cobra.Command{
		Use:   "run FILE.sql",
		Short: "Run a file of SQL here, without the service",
		Long: `Runs the jobs and queries of a file in this process, without the service and
without a database, until their inputs end. Rows of bare SELECTs go to standard
output, the ledger of every run goes to standard error.

A secret of an endpoint is read from the environment: SECRET 'race_db' takes
FIUME_SECRET_RACE_DB.`,
		Example: `  fiume run demo/sql/strong-reads.sql --set reads=reads.ndjson --set out=strong
  echo "SELECT …" | fiume run -`,
		Args: arity(1, "one file"),
		RunE: func(c *cobra.Command, args []string) error {
			src, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			params, err := a.params()
			if err != nil {
				return err
			}
			if profile != "" {
				f, err := os.Create(profile)
				if err != nil {
					return err
				}
				if err := pprof.StartCPUProfile(f); err != nil {
					return err
				}
				defer f.Close()
				defer pprof.StopCPUProfile()
			}
			r := &localRun{app: a, file: args[0], parallelism: parallelism, quiet: quiet}
			return r.script(c.Context(), src, params)
		},
	}
	a.outputFlag(c, "table", "json", "csv")
	a.setFlag(c)
	c.Flags().IntVar(&parallelism, "parallelism", 0, "tasks that share the work (default: the job's, or one a processor)")
	c.Flags().BoolVarP(&quiet, "quiet", "q", false, "do not print the ledger")
	c.Flags().StringVar(&profile, "cpu-profile", "", "write a processor profile to this file")
	return c
}

// localRun runs a script in this process.
type localRun struct {
	*app
	file        string
	parallelism int
	quiet       bool
}

func (r *localRun) script(ctx context.Context, src string, params map[string]string) error {
	cat := plan.NewCatalog(connect.Places())
	cat.Sample = samples.SampledLocally
	return r.bound(ctx, cat, src, params)
}

// bound runs a script with what a catalogue knows.
func (r *localRun) bound(ctx context.Context, cat *plan.Catalog, src string, params map[string]string) error {
	var explained []*plan.Plan
	var notes []func()
	plans, _, err := cat.Bind(r.file, src, params, func(st sql.Statement, errs *sql.Errors) {
		switch st := st.(type) {
		case *sql.Explain:
			if st.Job == nil {
				explained = append(explained, explainedPlan(cat, st, errs))
				return
			}
		case *sql.Show:
			if st.Kind == sql.KindPlace {
				notes = append(notes, func() { columns(r.out, plan.PlaceColumns, cat.PlaceRows()) })
				return
			}
			if st.Kind == sql.KindFunction {
				notes = append(notes, func() { columns(r.out, plan.FunctionColumns, cat.FunctionRows()) })
				return
			}
		case *sql.Describe:
			if st.Place {
				about, rows, err := cat.OptionRows(st.Name.Text)
				if err != nil {
					errs.Add(sql.UnknownName, st.Name.Span, "", "%s", err)
				}
				notes = append(notes, func() { fmt.Fprintln(r.out, about); columns(r.out, plan.OptionColumns, rows) })
				return
			}
			if st.Function {
				text, err := cat.DescribeFunction(st.Name.Text)
				if err != nil {
					errs.Add(sql.UnknownName, st.Name.Span, "", "%s", err)
				}
				notes = append(notes, func() { fmt.Fprint(r.out, text) })
				return
			}
		}
		errs.Add(sql.WrongPlace, st.At(), "send it to the service: fiume apply", "a local run has only declarations, jobs and queries")
	})
	if err != nil {
		return err
	}
	for _, p := range explained {
		fmt.Fprint(r.out, p.Explain(0))
	}
	for _, f := range notes {
		f()
	}
	if len(plans)+len(explained)+len(notes) == 0 && !r.quiet {
		fmt.Fprintln(r.err, "nothing to run: the file has no CREATE JOB and no SELECT")
	}
	for _, p := range plans {
		if err := r.run(ctx, p); err != nil {
			return err
		}
	}
	return nil
}

// secret reads a secret from the environment.
func secret(name string) (string, error) {
	key := "FIUME_SECRET_" + strings.ToUpper(name)
	if v, ok := os.LookupEnv(key); ok {
		return v, nil
	}
	return "", fmt.Errorf("the secret '%s' is not set; a local run reads it from %s", name, key)
}

// limits of a run's memory use: the collector works little until the heap is this large.
const softMemory = 160 << 20

// limitMemory sets the limit, and raises it where what is held is more: the collector would else work all the
// time. It looks again behind each collection.
func limitMemory() {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(live)
	debug.SetMemoryLimit(max(softMemory, int64(live[0].Value.Uint64())*3/2))
	runtime.SetFinalizer(&struct{ sentinel [16]byte }{}, func(*struct{ sentinel [16]byte }) { limitMemory() })
}

// tellWaits says when a sink waits for its place, once each time, until the run has ended.
func (r *localRun) tellWaits(job *flow.Job, ended <-chan struct{}) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	told := map[string]time.Time{}
	for {
		select {
		case <-ended:
			return
		case <-tick.C:
		}
		for _, s := range job.Status().Steps {
			if w := s.Waiting; w != nil && !told[s.Step].Equal(w.Since) {
				told[s.Step] = w.Since
				fmt.Fprintf(r.err, "the sink %s cannot be written, and is tried again until it can: %s\n", s.Step, w.Reason)
			}
		}
	}
}

func (r *localRun) run(ctx context.Context, p *plan.Plan) error {
	debug.SetGCPercent(400)
	limitMemory()
	o := &connect.Opener{Env: contract.Env{Secrets: contract.Secrets{Secret: func(name, _ string) (string, error) { return secret(name) }}}}
	if err := o.Check(ctx, p); err != nil {
		return &failure{code: exitFailed, err: err}
	}
	w := bufio.NewWriterSize(r.out, 1<<16)
	for _, out := range p.Outputs() {
		if out.Sink == nil {
			o.Rows = newPrinter(w, r.output, out)
		}
	}
	opts := flow.Options{Parallelism: r.parallelism, Describe: text.Describe, Memory: p.Memory}
	if p.Memory > 0 {
		dir, err := os.MkdirTemp("", "fiume-state-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(dir)
		journal := &checkpoint.Journal{FS: disk.OS{}, Dir: dir}
		if err := journal.Open(nil); err != nil {
			return err
		}
		defer journal.Close()
		opts.Journal = journal
		trimming, stop := context.WithCancel(ctx)
		defer stop()
		go trim(trimming, journal)
	}
	job, err := flow.New(p, o, opts)
	if err != nil {
		return err
	}
	ended := make(chan struct{})
	go r.tellWaits(job, ended)
	err = job.Run(ctx)
	close(ended)
	if pr, ok := o.Rows.(*printer); ok {
		err = errors.Join(err, pr.finish())
	}
	err = errors.Join(err, w.Flush())
	if !r.quiet {
		printLedger(r.err, p.Name, job.Status(), job.Samples())
	}
	return err
}

// trim removes what the run's journal does not need any more, now and then.
func trim(ctx context.Context, j *checkpoint.Journal) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			_ = j.Trim(nil) // what stays goes with the directory
		}
	}
}

// printer prints the rows of a query.
type printer struct {
	rows.Sink
	w      *bufio.Writer
	fields []types.Field
	format string
	table  *tableWriter
}

func newPrinter(w *bufio.Writer, format string, out *plan.Op) flow.Sink {
	p := &printer{w: w, fields: out.Fields, format: format}
	p.Limit = out.Limit
	p.Format = format
	switch format {
	case "table":
		p.Format = "json"
		p.table = newTable(w, out.Fields)
		p.Each = p.table.row
	case "csv":
		for i, f := range out.Fields {
			if i > 0 {
				w.WriteByte(',')
			}
			name := f.Name
			if strings.ContainsAny(name, ",\"\r\n") || strings.TrimSpace(name) != name {
				name = `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
			}
			w.WriteString(name)
		}
		w.WriteByte('\n')
		p.Each = p.line
	default:
		p.Each = p.line
	}
	return p
}

func (p *printer) line(row []byte) error {
	p.w.Write(row)
	return p.w.WriteByte('\n')
}

func (p *printer) finish() error {
	if p.table != nil {
		return p.table.finish()
	}
	return nil
}

// printLedger prints where every row went.
func printLedger(w io.Writer, name string, s flow.Status, samples []flow.NamedSample) {
	if name == "" {
		name = "query"
	}
	fmt.Fprintf(w, "\nledger of %s\n", name)
	t := tabwriter.NewWriter(w, 2, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(t, "step\tdoes\tin\tpassed\tfiltered\tabsorbed\tlate\trejected\theld\tmade\tout\t")
	for _, st := range s.Steps {
		c := st.Counts
		fmt.Fprintf(t, "%s\t%s\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t\n", st.Step, st.Kind, c.In, c.Passed, c.Filtered, c.Absorbed, c.Late, c.Rejected, c.Held, c.Made, st.Out)
	}
	t.Flush()
	for _, st := range s.Steps {
		if st.Counts.Lost > 0 {
			fmt.Fprintf(w, "%s: %s messages are lost: they, or files of them, were damaged or gone before they were read\n", st.Step, number(st.Counts.Lost))
		}
	}
	for _, sp := range s.Splits {
		if sp.Notice != "" {
			fmt.Fprintf(w, "%s, %s: %s\n", sp.Stream, sp.Split, sp.Notice)
		}
	}
	shown := map[string]int{}
	for i := len(samples) - 1; i >= 0; i-- {
		x := samples[i]
		if shown[x.Step+x.Kind]++; shown[x.Step+x.Kind] > 2 {
			continue
		}
		fmt.Fprintf(w, "%s %s: %s", x.Step, x.Kind, x.Reason)
		if x.Origin != "" {
			fmt.Fprintf(w, " (%s)", x.Origin)
		}
		row := x.Row
		if len(row) > 160 {
			row = row[:160] + "…"
		}
		fmt.Fprintf(w, "\n    %s\n", row)
	}
}

// jsonRow reads the values of a JSON row in the order of the columns, as text.
func jsonRow(row []byte, fields []types.Field) ([]string, error) {
	var m map[string]json.RawMessage
	if err := json.Unmarshal(row, &m); err != nil {
		return nil, err
	}
	out := make([]string, len(fields))
	for i, f := range fields {
		raw := m[f.Name]
		var s string
		switch {
		case raw == nil || string(raw) == "null":
			s = "NULL"
		case raw[0] == '"':
			if err := json.Unmarshal(raw, &s); err != nil {
				return nil, err
			}
		default:
			s = string(raw)
		}
		out[i] = s
	}
	return out, nil
}
