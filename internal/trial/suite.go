package trial

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fiume/internal/connect"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
	"fiume/internal/format"
)

// Test is a job with messages and what its sinks must hold in the end. It is a directory with
//
//	test.sql    the job and what it uses; "-- use: FILE" takes the statements of another file first,
//	            "-- job: NAME" says which job is meant where there are several
//	in/NAME.*   messages of a stream or table, one a line, in the order of arrival; in a file NAME.keyed each
//	            line has a key, a tab and the message, which may be empty
//	out/SINK.*  what stands in a sink, one row a line, in any order
type Test struct {
	Dir    string
	Plan   *plan.Plan
	Inputs map[string][]Message
	Want   map[string][]string
	files  map[string]string // of Want, by sink
}

// Find lists the directories below dir that hold a test, in order.
func Find(dir string) (dirs []string, err error) {
	err = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && d.Name() == "test.sql" {
			dirs = append(dirs, filepath.Dir(path))
		}
		return err
	})
	return dirs, err
}

// Load reads a test. params are the values of :name parameters.
func Load(dir string, params map[string]string) (*Test, error) {
	t := &Test{Dir: dir, Inputs: map[string][]Message{}, Want: map[string][]string{}, files: map[string]string{}}
	main := filepath.Join(dir, "test.sql")
	src, err := os.ReadFile(main)
	if err != nil {
		return nil, err
	}
	uses, job := directives(string(src))
	cat := plan.NewCatalog(connect.Places())
	var plans []*plan.Plan
	for _, file := range append(uses, "test.sql") {
		path := filepath.Join(dir, file)
		text, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		all := maps.Clone(params)
		if all == nil {
			all = map[string]string{}
		}
		for _, name := range sql.Parameters(string(text)) {
			if _, ok := all[name]; !ok { // most name a place, and places are in memory here
				all[name] = name
			}
		}
		ps, _, err := cat.Bind(path, string(text), all, nil)
		if err != nil {
			return nil, err
		}
		plans = append(plans, ps...)
	}
	var names []string
	for _, p := range plans {
		if p == nil || p.Outputs()[0].Sink == nil {
			continue
		}
		names = append(names, p.Name)
		if job == "" || p.Name == job {
			t.Plan = p
		}
	}
	switch {
	case t.Plan == nil && job != "":
		return nil, fmt.Errorf("%s: no job is called %q; there are: %s", main, job, strings.Join(names, ", "))
	case t.Plan == nil:
		return nil, fmt.Errorf("%s: there is no CREATE JOB", main)
	case job == "" && len(names) > 1:
		return nil, fmt.Errorf("%s: there are several jobs, %s; say which with a line \"-- job: NAME\"", main, strings.Join(names, ", "))
	}
	return t, t.read()
}

// directives reads the lines "-- use: FILE" and "-- job: NAME".
func directives(src string) (uses []string, job string) {
	for line := range strings.Lines(src) {
		if rest, ok := strings.CutPrefix(line, "-- use:"); ok {
			uses = append(uses, strings.TrimSpace(rest))
		}
		if rest, ok := strings.CutPrefix(line, "-- job:"); ok {
			job = strings.TrimSpace(rest)
		}
	}
	return uses, job
}

// read reads messages and results.
func (t *Test) read() error {
	streams, sinks := []string{}, []string{}
	for _, o := range t.Plan.Scans() {
		streams = append(streams, o.Stream.Name)
	}
	for _, o := range t.Plan.Outputs() {
		sinks = append(sinks, o.Step)
	}
	each := func(dir, what string, known []string, take func(name, ext string, lines [][]byte)) error {
		entries, err := os.ReadDir(filepath.Join(t.Dir, dir))
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		for _, e := range entries {
			path := filepath.Join(t.Dir, dir, e.Name())
			ext := filepath.Ext(e.Name())
			name := strings.TrimSuffix(e.Name(), ext)
			if !slices.Contains(known, name) {
				hint := sql.DidYouMean(name, known)
				if hint == "" {
					hint = "it has: " + strings.Join(known, ", ")
				}
				return fmt.Errorf("%s: the job has no %s %q; %s", path, what, name, hint)
			}
			b, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			var lines [][]byte
			if len(b) > 0 {
				lines = bytes.Split(bytes.TrimSuffix(b, []byte("\n")), []byte("\n"))
			}
			take(name, ext, lines)
		}
		return nil
	}
	err := each("in", "stream or table", streams, func(name, ext string, lines [][]byte) {
		t.Inputs[name] = []Message{}
		for _, l := range lines {
			m := Message{Value: l}
			if key, value, ok := bytes.Cut(l, []byte("\t")); ok && ext == ".keyed" {
				m.Key, m.Value = key, value
			}
			t.Inputs[name] = append(t.Inputs[name], m)
		}
	})
	if err != nil {
		return err
	}
	err = each("out", "sink", sinks, func(name, ext string, lines [][]byte) {
		rows := []string{}
		for _, l := range lines {
			rows = append(rows, canonical(string(l)))
		}
		slices.Sort(rows)
		t.Want[name], t.files[name] = rows, name+ext
	})
	return err
}

// canonical writes a JSON object without spaces, so that rows can be written by hand.
func canonical(row string) string {
	var b bytes.Buffer
	if json.Compact(&b, []byte(row)) != nil {
		return row
	}
	return b.String()
}

// Report is what became of a test.
type Report struct {
	Dir     string        `json:"test"`
	Job     string        `json:"job"`
	Runs    int           `json:"runs"`
	Crashes int           `json:"crashes"`
	Rows    int           `json:"rows"`
	Took    time.Duration `json:"took_ns"`
	Failed  string        `json:"failed,omitempty"` // what is wrong, and in which run
	Notes   []string      `json:"notes,omitempty"`
}

// run is one way to run a test.
type run struct {
	name    string
	set     Setting
	shuffle bool
}

// runs are the ways to run a test. Where rows are late, the order of arrival and the spreading over partitions are
// part of the test, and stay.
func runs(seed uint64, n int, anyOrder bool) []run {
	r := rand.New(rand.NewPCG(seed, 11))
	out := []run{{name: "as given", set: Setting{Seed: seed}}}
	for i := range n {
		s := Setting{Seed: r.Uint64(), Parallelism: 1 + r.IntN(6), Piece: 1 + r.IntN(50)}
		x := run{name: fmt.Sprintf("%d tasks, batches of %d", s.Parallelism, s.Piece)}
		if anyOrder {
			s.Partitions = 1 + r.IntN(3)
			x.shuffle = i%3 != 0
			x.name += fmt.Sprintf(", %d partitions", s.Partitions)
			if x.shuffle {
				x.name += ", shuffled within the delay"
			}
		}
		if i%2 == 1 {
			s.Crashes, s.PowerLoss = 1+r.IntN(4), r.IntN(2) == 0
			s.Every = time.Duration(1+r.IntN(5)) * time.Millisecond
			x.name += fmt.Sprintf(", up to %d crashes", s.Crashes)
		}
		x.set = s
		out = append(out, x)
	}
	return out
}

// Do runs a test in n ways beside the given one. With update it writes what the sinks hold in the given order.
func (t *Test) Do(ctx context.Context, seed uint64, n int, update bool) (rep Report, err error) {
	began := time.Now()
	rep = Report{Dir: t.Dir, Job: t.Plan.Name}
	defer func() { rep.Took = time.Since(began) }()
	calm, err := Run(ctx, t.Plan, t.Inputs, Setting{Seed: seed})
	if err != nil {
		return rep, err
	}
	for _, rows := range calm.Sinks {
		rep.Rows += len(rows)
	}
	if update {
		rep.Runs = 1
		return rep, t.write(calm)
	}
	for _, o := range t.Plan.Outputs() {
		if _, ok := t.Want[o.Step]; !ok {
			rep.Failed = fmt.Sprintf("there is no file out/%s.json for the sink %s, which holds %d rows; fiume test --update %s writes it", o.Step, o.Step, len(calm.Sinks[o.Step]), t.Dir)
			return rep, nil
		}
	}
	if calm.Late > 0 {
		rows := "1 row is"
		if calm.Late > 1 {
			rows = fmt.Sprintf("%d rows are", calm.Late)
		}
		rep.Notes = append(rep.Notes, rows+" late: the order of arrival is part of the test, and is not varied")
	}
	for _, x := range runs(seed, n, calm.Late == 0) {
		inputs := t.Inputs
		if x.shuffle {
			if inputs, err = t.shuffled(rand.New(rand.NewPCG(x.set.Seed, 12))); err != nil {
				return rep, err
			}
		}
		got := calm
		if rep.Runs > 0 {
			if got, err = Run(ctx, t.Plan, inputs, x.set); err != nil {
				return rep, fmt.Errorf("%s: %w", x.name, err)
			}
		}
		rep.Runs++
		rep.Crashes += got.Crashes
		if diff := t.differences(got); diff != "" {
			rep.Failed = fmt.Sprintf("run %d of %d (%s; --seed %d):\n%s", rep.Runs, n+1, x.name, seed, diff)
			return rep, nil
		}
	}
	return rep, nil
}

// mostShown bounds the rows that a difference lists.
const mostShown = 5

// differences lists the rows that are missing and those that should not be there.
func (t *Test) differences(got *Result) string {
	var b strings.Builder
	for _, o := range t.Plan.Outputs() {
		n := map[string]int{}
		for _, row := range got.Sinks[o.Step] {
			n[canonical(row)]++
		}
		for _, row := range t.Want[o.Step] {
			n[row]--
		}
		var missing, more []string
		for row, k := range n {
			for range k {
				more = append(more, row)
			}
			for range -k {
				missing = append(missing, row)
			}
		}
		for _, x := range []struct {
			what string
			rows []string
		}{{"missing", missing}, {"too many", more}} {
			slices.Sort(x.rows)
			if len(x.rows) > 0 {
				fmt.Fprintf(&b, "  sink %s: %d of %d rows %s\n", o.Step, len(x.rows), len(t.Want[o.Step]), x.what)
			}
			for _, row := range x.rows[:min(mostShown, len(x.rows))] {
				fmt.Fprintf(&b, "    %s\n", row)
			}
		}
	}
	return strings.TrimRight(b.String(), "\n")
}

// write writes what the sinks hold as what they are to hold.
func (t *Test) write(r *Result) error {
	if err := os.MkdirAll(filepath.Join(t.Dir, "out"), 0o755); err != nil {
		return err
	}
	for _, o := range t.Plan.Outputs() {
		name := cmp.Or(t.files[o.Step], o.Step+".json")
		text := ""
		for _, row := range r.Sinks[o.Step] {
			text += row + "\n"
		}
		if err := os.WriteFile(filepath.Join(t.Dir, "out", name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// shuffled gives the messages of streams in another order in which none of them is late: each arrives at its event
// time and some part of the delay later. Streams by arrival, and tables, keep their order.
func (t *Test) shuffled(r *rand.Rand) (map[string][]Message, error) {
	out := map[string][]Message{}
	for name, ms := range t.Inputs {
		out[name] = ms
	}
	for _, o := range t.Plan.Scans() {
		s := o.Stream
		if o.OfTable != nil || s.Arrival() || s.TimeOf != nil {
			continue
		}
		dec, err := (&format.Reading{Stream: s, Used: &plan.Use{All: true}}).NewDecoder(nil)
		if err != nil {
			return nil, err
		}
		ms := slices.Clone(t.Inputs[s.Name])
		when := make([]int64, len(ms))
		var data []byte
		var places []flow.Message
		for i, m := range ms {
			places = append(places, flow.Message{Off: uint32(len(data)), Len: uint32(len(m.Value)), Pos: int64(i)})
			data = append(data, m.Value...)
		}
		data = append(data, make([]byte, flow.Pad)...)[:len(data)]
		var b column.Batch
		dec.Decode(data, places, &b)
		// Rows of one event time keep their order, and go to one partition: it decides which of them is the first.
		at := map[int64][]int{}
		for i := range b.N {
			at[b.Time[i]] = append(at[b.Time[i]], int(b.Pos[i]))
			ms[b.Pos[i]].With = b.Time[i]
		}
		for _, t := range slices.Sorted(maps.Keys(at)) {
			late := make([]int64, len(at[t]))
			for i := range late {
				late[i] = t + r.Int64N(s.Delay+1)
			}
			slices.Sort(late)
			for i, k := range at[t] {
				when[k] = late[i]
			}
		}
		for i := 1; i < len(when); i++ { // what is no row stays behind the one before it
			if when[i] == 0 {
				when[i] = when[i-1]
			}
		}
		order := make([]int, len(ms))
		for i := range order {
			order[i] = i
		}
		slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(when[a], when[b]) })
		moved := make([]Message, len(ms))
		for i, k := range order {
			moved[i] = ms[k]
		}
		out[s.Name] = moved
	}
	return out, nil
}
