package cli

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fiume/demo"
	"fiume/internal/api"
	"fiume/internal/client"
	"fiume/internal/core/types"
	"fiume/internal/format"
	"fiume/internal/service"
	"fiume/internal/topiclog"

	"github.com/spf13/cobra"
	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kgo"
)

func (a *app) demoCommand() *cobra.Command {
	d := &demoRun{app: a}
	c := &cobra.Command{
		Use:   "demo",
		Short: "Play a race day: a service, a generator and the jobs of the timing desk",
		Long: `Starts a service with the race day of the Three Bridges Marathon: a generator writes
the mats' raw messages into topics, and the jobs of the timing desk turn them into clean
reads, crowd counts and warnings, splits with the runners' names, missing runners and the
places of medical calls: topics, files and tables of MariaDB.

Mats tell over MQTT how they are, registrations change in a table of MariaDB, the radio
is heard over a connection, and calls go to a web service, which stands in for the system
of the medical desk.

With --broker the messages go to external brokers, and the jobs read and write there.

It runs until Ctrl-C, or for the time of --for, and then prints what arrived where.
Running it again goes on where it stopped; --fresh begins anew.`,
		Example: `  fiume demo
  fiume demo --for 20s --runners 2000 --speed 120
  fiume demo --broker 127.0.0.1:9092 --dir fiume-data/outside`,
		Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			if d.runners < 1 || d.speed <= 0 {
				return fail(exitUsage, "--runners and --speed must be above zero")
			}
			return d.run(c.Context())
		},
	}
	f := c.Flags()
	f.StringVar(&d.dir, "dir", "fiume-data/demo", "data directory")
	f.StringVar(&d.listen, "listen", defaultListen, "loopback address to listen on; port 0 takes a free one")
	f.DurationVar(&d.length, "for", 0, "end after this time (default: at Ctrl-C)")
	f.IntVar(&d.runners, "runners", 20000, "runners of the race")
	f.Float64Var(&d.speed, "speed", 60, "how many times faster than real the day passes")
	f.Uint64Var(&d.seed, "seed", 1, "which day")
	f.StringVar(&d.outside, "broker", "", "play the day through the topics of external brokers at host:port[,host:port…], which are made there")
	f.BoolVar(&d.fresh, "fresh", false, "delete what an earlier demo left in the data directory first")
	c.AddCommand(a.demoDataCommand())
	return c
}

// demoRun is one run of the demo.
type demoRun struct {
	*app
	dir, listen string
	length      time.Duration
	runners     int
	speed       float64
	seed        uint64
	fresh       bool
	outside     string // address of brokers

	brokers  *kgo.Client
	world    *demoWorld
	server   *server
	client   *client.Client
	inside   string // the name of what the client shows, and that
	token    string
	archive  string
	lake     string
	editions string
	written  int64
	shown    time.Time // when the line about the race was last printed
}

func (d *demoRun) run(ctx context.Context) error {
	if d.fresh {
		if _, err := os.Stat(filepath.Join(d.dir, "topics")); err == nil { // only what a service left
			if err := os.RemoveAll(d.dir); err != nil {
				return err
			}
		}
	}
	d.server = &server{app: d.app, listen: d.listen, mqtt: "127.0.0.1:0", config: service.Config{Dir: d.dir, Files: []string{d.dir}, Log: slog.New(slog.NewTextHandler(d.err, &slog.HandlerOptions{Level: slog.LevelError}))}}
	began := time.Now()
	if err := d.server.open(ctx); err != nil {
		return err
	}
	err := d.play(ctx, began)
	if errors.Is(err, context.Canceled) && ctx.Err() != nil {
		err = nil // Ctrl-C is how the demo ends
	}
	return errors.Join(err, d.server.close())
}

func (d *demoRun) play(ctx context.Context, began time.Time) error {
	d.inside, d.token = d.server.service.People.Inside() // somebody may create users while it runs
	d.client = client.New("http://" + d.server.addr).With(d.token)
	defer func() {
		if d.brokers != nil {
			d.brokers.Close()
		}
		d.world.close()
	}()
	var err error
	if d.world, err = d.openWorld(ctx); err != nil {
		return err
	}
	if err := d.prepare(ctx); err != nil {
		return err
	}
	fmt.Fprintf(d.out, "The Three Bridges Marathon of Pontelago: %s runners, the day %g times faster than real.\n", number(int64(d.runners)), d.speed)
	fmt.Fprintf(d.out, "Ready after %.1f s. Watch it at http://%s, or in another terminal:\n", time.Since(began).Seconds(), d.server.addr)
	fmt.Fprintf(d.out, "The medical desk's system stands in at http://%s, mats tell of themselves over MQTT at %s, the radio is heard at %s.\n", d.world.address, d.server.devices.Addr(), d.world.radio.l.Addr())
	fmt.Fprintf(d.out, "  fiume --server http://%s job list\n  fiume --server http://%s query \"SELECT chip, mat, rssi FROM reads LIMIT 10\"\n\n", d.server.addr, d.server.addr)
	run := ctx
	if d.length > 0 {
		var cancel context.CancelFunc
		run, cancel = context.WithTimeout(ctx, d.length)
		defer cancel()
	}
	err = d.race(run)
	if run.Err() != nil {
		err = nil
	}
	if err != nil {
		return err
	}
	return d.report(context.WithoutCancel(ctx))
}

const racePassword = "pontelago"

// raceDatabase opens the race's own database on the service's private server, making it at first.
func (d *demoRun) raceDatabase(ctx context.Context) (*sql.DB, error) {
	dsn, err := d.server.service.Database(ctx, "race", "race", racePassword)
	if err != nil {
		return nil, err
	}
	return sql.Open("mysql", dsn)
}

// prepare makes the race's own database and applies the demo's SQL.
func (d *demoRun) prepare(ctx context.Context) error {
	for _, table := range demo.Tables() {
		if _, err := d.world.db.ExecContext(ctx, table); err != nil {
			return err
		}
	}
	if err := d.client.SetSecret(ctx, "race_db", racePassword); err != nil {
		return err
	}
	text := demo.RaceSQL
	var err error
	if d.outside != "" {
		if text, err = d.reachBrokers(ctx); err != nil {
			return err
		}
	}
	text = strings.Replace(strings.Replace(text, demo.Desk, d.world.address, 1), demo.Mast, d.world.radio.l.Addr().String(), 1)
	have := map[string]bool{}
	topics, err := d.client.Topics(ctx)
	if err != nil {
		return err
	}
	for _, t := range topics {
		have[t.Name] = true
	}
	for _, t := range demo.Topics {
		if !have[t.Name] && d.outside == "" {
			if _, err := d.client.CreateTopic(ctx, api.TopicRequest{Name: t.Name, Partitions: t.Partitions}); err != nil {
				return err
			}
		}
	}
	d.archive, err = filepath.Abs(filepath.Join(d.dir, "archive"))
	if err != nil {
		return err
	}
	d.lake = filepath.Join(filepath.Dir(d.archive), "lake")
	d.editions = filepath.Join(filepath.Dir(d.archive), "editions")
	for range demo.KnownEditions {
		if err := d.dropEdition(); err != nil {
			return err
		}
	}
	_, err = d.client.Apply(ctx, api.ScriptRequest{SQL: text, File: "race.sql", Params: map[string]string{"archive": d.archive, "editions": filepath.Join(d.editions, "*.csv"),
		"older_editions": filepath.Join(d.editions, "*.parquet"), "lake": d.lake}})
	if err == nil {
		return nil
	}
	// Somebody has changed what an earlier run declared: with its jobs there the demo goes on as it is.
	jobs, jobsErr := d.client.Jobs(ctx)
	if jobsErr != nil || len(jobs) < strings.Count(demo.RaceSQL, "\nCREATE JOB ") {
		return err
	}
	fmt.Fprintf(d.out, "going on with what %s has: its declarations were changed since an earlier run\n", d.dir)
	return nil
}

// dropEdition puts the results of the next earlier race, which is not there yet, into the folder that the jobs follow: as CSV, and long ago every second as
// Parquet. They are moved in, so that nobody reads half a file.
func (d *demoRun) dropEdition() error {
	if err := os.MkdirAll(d.editions, 0o755); err != nil {
		return err
	}
	for i, year := range demo.Editions {
		ext := ".csv"
		if i >= demo.KnownEditions && i%2 == 1 {
			ext = ".parquet"
		}
		name := filepath.Join(d.editions, fmt.Sprintf("edition-%d%s", year, ext))
		if _, err := os.Stat(name); err == nil {
			continue
		}
		results := (demo.Day{Seed: d.seed}).Edition(year)
		text := []byte("edition,bib,name,finish_seconds\n")
		var rows []json.RawMessage
		for _, r := range results {
			text = fmt.Appendf(text, "%d,%d,%s,%d\n", r.Edition, r.Bib, r.Name, r.Seconds)
			row, err := json.Marshal(r)
			if err != nil {
				return err
			}
			rows = append(rows, row)
		}
		if ext == ".parquet" {
			number := func(name string) types.Field { return types.Field{Name: name, Type: types.Type{Kind: types.Int}} }
			var err error
			if text, err = format.ParquetOf([]types.Field{number("edition"), number("bib"), {Name: "name", Type: types.Type{Kind: types.Varchar}}, number("finish_seconds")}, rows); err != nil {
				return err
			}
		}
		hidden := filepath.Join(d.editions, ".incoming")
		if err := os.WriteFile(hidden, text, 0o644); err != nil {
			return err
		}
		return os.Rename(hidden, name)
	}
	return nil
}

// dropEvery is how often results of an earlier race are dropped in while the race goes on.
const dropEvery = 5 * time.Second

// beat is how often the generator writes what has become due.
const beat = 50 * time.Millisecond

// race writes the messages of day after day as they become due, until the context ends. What an
// earlier run has written, however it ended, is left out.
func (d *demoRun) race(ctx context.Context) error {
	done, err := d.alreadyWritten(ctx)
	if err != nil {
		return err
	}
	tick := time.NewTicker(beat)
	defer tick.Stop()
	drop := time.NewTicker(dropEvery)
	defer drop.Stop()
	for day := uint64(0); ; day++ {
		start := demo.FirstStart.AddDate(0, 0, int(day))
		fmt.Fprintf(d.out, "making the messages of %s, which takes a few seconds\n", start.Format("2 January 2006"))
		ms := done.without(demo.Day{Seed: d.seed + day, Runners: d.runners, Start: start}.Messages())
		// What was said on the radio while nobody played is gone.
		first := slices.IndexFunc(ms, func(m demo.Message) bool { return m.Topic != demo.Radio })
		if first < 0 {
			continue
		}
		ms = ms[first:]
		clock := start.Add(-2 * time.Second) // what comes before the start is written at once
		if ms[0].At.After(clock) {
			clock = ms[0].At
		}
		wall := time.Now()
		for len(ms) > 0 {
			now := clock.Add(time.Duration(float64(time.Since(wall)) * d.speed))
			n := 0
			for n < len(ms) && !ms[n].At.After(now) {
				n++
			}
			if err := d.write(ctx, ms[:n]); err != nil {
				return err
			}
			ms = ms[n:]
			d.world.tell(demo.Day{Seed: d.seed}, now)
			d.show(ctx, now)
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-drop.C:
				if err := d.dropEdition(); err != nil {
					return err
				}
			case <-tick.C:
			}
		}
	}
}

// written counts the messages of the demo's topics by partition, and those of registrations. Those of a partition are written in
// the order of the day, so the counts say which of a day's messages are there, even if a run was killed
// while it wrote to several partitions.
type written map[string][]int64

func (d *demoRun) alreadyWritten(ctx context.Context) (out written, err error) {
	if d.brokers != nil {
		out, err = d.writtenOutside(ctx)
	} else {
		out, err = d.writtenInside(ctx)
	}
	if err != nil {
		return nil, err
	}
	n, err := d.world.registered(ctx)
	out[demo.Registrations] = []int64{n}
	return out, err
}

func (d *demoRun) writtenInside(ctx context.Context) (written, error) {
	out := written{}
	topics, err := d.client.Topics(ctx)
	for _, t := range topics {
		for _, p := range t.Partitions {
			out[t.Name] = append(out[t.Name], p.Next)
		}
	}
	return out, err
}

// without leaves out of a day's messages those that are counted, and counts them off.
func (w written) without(ms []demo.Message) (left []demo.Message) {
	for _, m := range ms {
		counts := w[m.Topic]
		if len(counts) == 0 {
			left = append(left, m)
			continue
		}
		p := 0
		if m.Key != "" {
			p = topiclog.KeyPartition([]byte(m.Key), len(counts))
		}
		if counts[p] > 0 {
			counts[p]--
			continue
		}
		left = append(left, m)
	}
	return left
}

func (d *demoRun) write(ctx context.Context, all []demo.Message) error {
	var ms, registrations []demo.Message
	var radio []byte
	for _, m := range all {
		switch m.Topic {
		case demo.Registrations:
			registrations = append(registrations, m)
		case demo.Radio:
			radio = append(append(radio, m.Value...), '\n')
		default:
			ms = append(ms, m)
		}
	}
	d.world.radio.say(radio)
	d.written += int64(len(all))
	if err := d.world.register(ctx, registrations); err != nil {
		return err
	}
	if d.brokers != nil {
		return d.writeOutside(ctx, ms)
	}
	by := map[string][]api.MessageRequest{}
	for _, m := range ms {
		r := api.MessageRequest{Value: string(m.Value)}
		if m.Key != "" {
			k := m.Key
			r.Key = &k
		}
		by[m.Topic] = append(by[m.Topic], r)
	}
	for _, t := range demo.Topics { // always in the same order
		for rs := by[t.Name]; len(rs) > 0; {
			n := min(len(rs), 20000)
			if err := d.client.Write(ctx, t.Name, rs[:n]); err != nil {
				return err
			}
			rs = rs[n:]
		}
	}
	return nil
}

// show prints a line about the race now and then; on a terminal it stays in place.
func (d *demoRun) show(ctx context.Context, now time.Time) {
	terminal := isTerminal(d.out)
	every := 5 * time.Second
	if terminal {
		every = 500 * time.Millisecond
	}
	if time.Since(d.shown) < every {
		return
	}
	d.shown = time.Now()
	jobs, err := d.client.Jobs(ctx)
	if err != nil {
		return
	}
	line := fmt.Sprintf("race time %s  messages %s", now.Format("15:04:05"), number(d.written))
	for _, j := range jobs {
		line += fmt.Sprintf("  %s %s: %s in, %s out", j.Name, j.State, number(j.In), number(j.Out))
	}
	if terminal {
		fmt.Fprintf(d.out, "\r\x1b[K%s", line)
	} else {
		fmt.Fprintln(d.out, line)
	}
}

// report prints what arrived where.
func (d *demoRun) report(ctx context.Context) error {
	if isTerminal(d.out) {
		fmt.Fprintln(d.out)
	}
	fmt.Fprintf(d.out, "\nwhat arrived where\n")
	var rows [][]string
	topics, err := d.client.Topics(ctx)
	if err != nil {
		return err
	}
	for _, t := range topics {
		rows = append(rows, []string{"topic", t.Name, number(t.Messages) + " messages"})
	}
	if d.brokers != nil {
		found, err := kadm.NewClient(d.brokers).ListEndOffsets(ctx)
		if err != nil {
			return err
		}
		for _, n := range slices.Sorted(maps.Keys(found)) {
			sum := int64(0)
			for _, p := range found[n] {
				sum += p.Offset
			}
			rows = append(rows, []string{"broker", n, number(sum) + " offsets"})
		}
	}
	files, archived, err := countArchived(d.archive)
	if err != nil {
		return err
	}
	rows = append(rows, []string{"files", d.archive, fmt.Sprintf("%s rows in %d files that are closed", number(archived), files)})
	for _, table := range []string{"mats", "entrants", "splits", "crowding", "radio_words", "editions"} {
		var n int64
		if err := d.world.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM "+table).Scan(&n); err != nil {
			return err
		}
		rows = append(rows, []string{"table", "race." + table, number(n) + " rows"})
	}
	if b, err := d.client.Look(ctx, "lake", "race.splits"); err == nil {
		for _, f := range b.Facts {
			if f.Name == "snapshots" {
				rows = append(rows, []string{"lake", "race.splits", f.Value + " snapshots in " + d.lake})
			}
		}
	}
	columns(d.out, []string{"KIND", "WHERE", "WHAT"}, rows)
	jobs, err := d.client.Jobs(ctx)
	if err != nil {
		return err
	}
	for _, j := range jobs {
		det, err := d.client.Job(ctx, j.Name)
		if err != nil {
			return err
		}
		det.Samples = nil
		printLedger(d.out, j.Name, det.Status, nil)
	}
	return nil
}

// countArchived counts the files of the archive and their rows, as its manifest tells.
func countArchived(dir string) (files int, rows int64, err error) {
	f, err := os.Open(filepath.Join(dir, "manifest"))
	if errors.Is(err, os.ErrNotExist) {
		return 0, 0, nil
	}
	if err != nil {
		return 0, 0, err
	}
	defer f.Close()
	for d := json.NewDecoder(f); ; files++ {
		var part struct{ Rows int64 }
		if err := d.Decode(&part); err == io.EOF {
			return files, rows, nil
		} else if err != nil {
			return files, rows, err
		}
		rows += part.Rows
	}
}

func (a *app) demoDataCommand() *cobra.Command {
	var dir string
	var runners int
	var seed uint64
	c := &cobra.Command{
		Use: "data", Short: "Write the messages of a race day to files, or the mats' to standard output", Args: arity(0, "no arguments"),
		Example: "  fiume demo data --runners 500 --out day\n  fiume demo data --runners 50 | head",
		RunE: func(c *cobra.Command, args []string) error {
			ms := demo.Day{Seed: seed, Runners: runners}.Messages()
			if dir == "" {
				w := bufio.NewWriter(a.out)
				for _, m := range ms {
					if m.Topic == "mat-reads" {
						w.Write(m.Value)
						w.WriteByte('\n')
					}
				}
				return w.Flush()
			}
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return err
			}
			names := []string{demo.Registrations, demo.Radio}
			for _, t := range demo.Topics {
				names = append(names, t.Name)
			}
			for _, name := range names {
				ext := ".ndjson"
				var head string
				switch name {
				case demo.Registrations:
					ext, head = ".csv", "chip,bib,name,club,wave,birth_year,updated_at\n"
				case demo.Radio:
					ext = ".txt"
				}
				f, err := os.Create(filepath.Join(dir, name+ext))
				if err != nil {
					return err
				}
				w := bufio.NewWriter(f)
				w.WriteString(head)
				n := 0
				for _, m := range ms {
					if m.Topic == name {
						w.Write(m.Value)
						w.WriteByte('\n')
						n++
					}
				}
				if err := errors.Join(w.Flush(), f.Close()); err != nil {
					return err
				}
				fmt.Fprintf(a.err, "%s: %s messages\n", f.Name(), number(int64(n)))
			}
			return nil
		},
	}
	c.Flags().StringVar(&dir, "out", "", "directory to write to (default: the mats' messages to standard output)")
	c.Flags().IntVar(&runners, "runners", 500, "runners of the race")
	c.Flags().Uint64Var(&seed, "seed", 1, "which day")
	return c
}
