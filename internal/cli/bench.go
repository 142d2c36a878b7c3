package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"fiume/demo"
	"fiume/internal/connect"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"

	"github.com/spf13/cobra"
)

// benchResult is what one workload gave.
type benchResult struct {
	Workload string  `json:"workload"`
	About    string  `json:"about"`
	RowsASec float64 `json:"rows_per_second,omitempty"` // of the median round
	MBASec   float64 `json:"megabytes_per_second,omitempty"`
	Seconds  float64 `json:"seconds,omitempty"`     // of the whole process, median
	CPU      float64 `json:"cpu_seconds,omitempty"` // median
	PeakMB   float64 `json:"peak_megabytes,omitempty"`
	NotRun   string  `json:"not_run,omitempty"` // why
}

func (a *app) benchCommand() *cobra.Command {
	var size, rounds, parallelism int
	var seed uint64
	var work []string
	var keep, profiles string
	var makeOnly bool
	c := &cobra.Command{
		Use:   "bench",
		Short: "Measure the speed of jobs on race days made for it",
		Long: `Makes files of the demo's race day of a chosen size and runs the workloads on them,
each as a process of its own, in turns. Prints the median of the rounds: rows and
megabytes read a second, wall time and processor time of the whole process, and the
most memory it held.`,
		Example: `  fiume bench
  fiume bench --size 5000000 --work W1,W2 --rounds 5
  fiume bench --work W2b --cpu-profile profiles --output json`,
		Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			if size < 1 || rounds < 1 {
				return fail(exitUsage, "--size and --rounds take whole numbers from 1 up")
			}
			var chosen []demo.Workload
			var names []string
			for _, w := range demo.Workloads() {
				names = append(names, w.Name)
				if len(work) == 0 || slices.ContainsFunc(work, func(n string) bool { return strings.EqualFold(n, w.Name) }) {
					chosen = append(chosen, w)
				}
			}
			for _, n := range work {
				if !slices.ContainsFunc(names, func(m string) bool { return strings.EqualFold(n, m) }) {
					return fail(exitUsage, "no workload is called %s; there are %s", n, strings.Join(names, ", "))
				}
			}
			dir := keep
			if dir == "" {
				tmp, err := os.MkdirTemp("", "fiume-bench-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(tmp)
				dir = tmp
			} else if err := os.MkdirAll(dir, 0o755); err != nil {
				return fail(exitFailed, "%v", err)
			}
			for _, d := range []string{dir, profiles} {
				if d != "" {
					if err := os.MkdirAll(d, 0o755); err != nil {
						return fail(exitFailed, "%v", err)
					}
				}
			}
			if makeOnly {
				files, err := demo.WriteFiles(dir, seed, size, func(n int) {
					if n%1_000_000 == 0 {
						fmt.Fprintf(a.err, "  %d\n", n)
					}
				})
				if err != nil {
					return fail(exitFailed, "%v", err)
				}
				return a.printJSON(files)
			}
			fmt.Fprintf(a.err, "making %d reads …\n", size)
			files, err := a.makeFiles(c.Context(), dir, seed, size)
			if err != nil {
				return err
			}
			b := &bench{app: a, dir: dir, files: files, parallelism: parallelism, profiles: profiles}
			results, err := b.run(c.Context(), chosen, rounds)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.printJSON(results)
			}
			var rows [][]string
			for _, r := range results {
				if r.NotRun != "" {
					rows = append(rows, []string{r.Workload, r.About, "-", "-", "-", "-", "-", r.NotRun})
					continue
				}
				rows = append(rows, []string{r.Workload, r.About, fmt.Sprintf("%.0f", r.RowsASec), fmt.Sprintf("%.0f", r.MBASec), fmt.Sprintf("%.3f", r.Seconds), fmt.Sprintf("%.2f", r.CPU), fmt.Sprintf("%.0f", r.PeakMB), ""})
			}
			columns(a.out, []string{"workload", "about", "rows/s", "MB/s", "seconds", "cpu s", "peak MB", ""}, rows)
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	c.Flags().IntVar(&size, "size", 1_000_000, "reads to make")
	c.Flags().IntVar(&rounds, "rounds", 3, "how often each workload runs")
	c.Flags().StringSliceVar(&work, "work", nil, "workloads to run, such as W1,W2b (default: all)")
	c.Flags().Uint64Var(&seed, "seed", 1, "the seed of the days")
	c.Flags().IntVar(&parallelism, "parallelism", 0, "tasks that share the work (default: one a processor)")
	c.Flags().StringVar(&keep, "keep", "", "make the files in this directory and leave them there")
	c.Flags().StringVar(&profiles, "cpu-profile", "", "write a processor profile of each workload's last round to this directory")
	c.Flags().BoolVar(&makeOnly, "make-only", false, "make the files, print where they are, and end")
	_ = c.Flags().MarkHidden("make-only") // for bench itself
	return c
}

// makeFiles makes the files in a process of its own: the most memory that a process has held counts as
// held by those that it starts, too.
func (a *app) makeFiles(ctx context.Context, dir string, seed uint64, size int) (f demo.DayFiles, err error) {
	self, err := os.Executable()
	if err != nil {
		return f, err
	}
	cmd := exec.CommandContext(ctx, self, "bench", "--make-only", "--keep", dir, "--seed", fmt.Sprint(seed), "--size", fmt.Sprint(size), "--output", "json")
	cmd.Stderr = a.err
	out, err := cmd.Output()
	if err != nil {
		return f, fail(exitFailed, "the files cannot be made: %v", err)
	}
	return f, json.Unmarshal(out, &f)
}

type bench struct {
	*app
	dir         string
	files       demo.DayFiles
	parallelism int
	profiles    string
}

// run measures the workloads in turns, so that what else the machine does falls on all of them alike.
func (b *bench) run(ctx context.Context, work []demo.Workload, rounds int) ([]benchResult, error) {
	results := make([]benchResult, len(work))
	wall, cpu := make([][]float64, len(work)), make([][]float64, len(work))
	for round := range rounds {
		for i, w := range work {
			r := &results[i]
			r.Workload, r.About = w.Name, w.About
			if r.NotRun != "" {
				continue
			}
			if r.NotRun = b.refused(w); r.NotRun != "" {
				continue
			}
			seconds, used, peak, err := b.once(ctx, w, round == rounds-1)
			if err != nil {
				return nil, err
			}
			wall[i], cpu[i] = append(wall[i], seconds), append(cpu[i], used)
			r.PeakMB = max(r.PeakMB, peak)
			if b.output != "json" {
				fmt.Fprintf(b.err, "%s round %d: %.3f s\n", w.Name, round+1, seconds)
			}
		}
	}
	for i := range results {
		if r := &results[i]; len(wall[i]) > 0 {
			r.Seconds, r.CPU = median(wall[i]), median(cpu[i])
			r.RowsASec = float64(b.files.Rows) / r.Seconds
			r.MBASec = float64(b.files.Bytes) / (1 << 20) / r.Seconds
		}
	}
	return results, nil
}

func median(xs []float64) float64 {
	slices.Sort(xs)
	if n := len(xs); n%2 == 0 {
		return (xs[n/2-1] + xs[n/2]) / 2
	}
	return xs[len(xs)/2]
}

func (b *bench) params(out string) map[string]string {
	return map[string]string{"reads": b.files.Reads, "calls": b.files.Calls, "entrants": b.files.Entrants, "out": out}
}

// refused says why this version does not run a workload, or "".
func (b *bench) refused(w demo.Workload) string {
	_, _, err := plan.NewCatalog(connect.Places()).Bind(w.Name, w.SQL, b.params("out"), nil)
	var e *sql.Errors
	if errors.As(err, &e) {
		return e.List[0].Message
	}
	return ""
}

// once runs a workload in a process of its own.
func (b *bench) once(ctx context.Context, w demo.Workload, last bool) (seconds, cpu, peakMB float64, err error) {
	self, err := os.Executable()
	if err != nil {
		return 0, 0, 0, err
	}
	out := filepath.Join(b.dir, "out-"+w.Name)
	if err := os.RemoveAll(out); err != nil {
		return 0, 0, 0, err
	}
	defer os.RemoveAll(out)
	args := []string{"run", "-", "-q"}
	for k, v := range b.params(out) {
		args = append(args, "--set", k+"="+v)
	}
	if b.parallelism > 0 {
		args = append(args, "--parallelism", fmt.Sprint(b.parallelism))
	}
	if last && b.profiles != "" {
		args = append(args, "--cpu-profile", filepath.Join(b.profiles, w.Name+".pprof"))
	}
	cmd := exec.CommandContext(ctx, self, args...)
	cmd.Stdin = strings.NewReader(w.SQL)
	began := time.Now()
	if text, err := cmd.CombinedOutput(); err != nil {
		return 0, 0, 0, fail(exitFailed, "%s: %v\n%s", w.Name, err, text)
	}
	seconds = time.Since(began).Seconds()
	cpu = (cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()).Seconds()
	if u, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		peakMB = float64(u.Maxrss) / 1024
	}
	return seconds, cpu, peakMB, nil
}
