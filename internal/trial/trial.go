// Package trial runs jobs on given messages without a service, a disk or a network: topics, files and tables
// lie in memory, and a run can be crashed, starved and shuffled at will from one seed. What the sinks hold in
// the end has to be the same each time.
package trial

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"fiume/internal/checkpoint"
	"fiume/internal/connect/contract"
	"fiume/internal/connect/files"
	"fiume/internal/connect/rows"
	"fiume/internal/connect/spool"
	"fiume/internal/connect/text"
	"fiume/internal/connect/topics"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/core/step"
	"fiume/internal/core/types"
	"fiume/internal/disk"
	"fiume/internal/format"
	"fiume/internal/format/container"
	"fiume/internal/topiclog"
)

// Message is a message of a stream or table, in the order of arrival.
type Message struct {
	Key, Value []byte
	// With is equal for messages that go to one partition in their order; 0: no matter.
	With int64
}

// Setting is how a job is run.
type Setting struct {
	Seed        uint64
	Parallelism int           // 0: 1
	Partitions  int           // that the messages are spread over by their place; 0: 1
	Piece       int           // messages in a batch of a topic; 0: all
	Crashes     int           // at most; the last life is left in peace
	PowerLoss   bool          // some of the crashes take with them what was not synced
	Trouble     float64       // share of the operations of disk, tables, catalog and sources that fail
	Every       time.Duration // between checkpoints; 0: 5 ms
	Pace        time.Duration // at most so long is waited for each piece of a stream, and for a table
	Coming      int           // partitions of each stream that come while the job runs, at most all of them
	Damage      float64       // the chance that a file of a topic that is read is damaged before a life
	Jumps       bool          // the clock jumps by hours
	CellBytes   int           // parts of the state that hold more are cut in two; 0: as is usual
	Memory      int64         // bytes of state in memory; 0: any number
	Unsafe      bool          // tables confirm rows before a checkpoint counts: wrong on purpose
}

// Result is what a run left.
type Result struct {
	Sinks       map[string][]string // by sink: what stands there in the end, sorted
	Status      flow.Status
	Crashes     int
	Lives       int
	Late        int64    // rows that were late for all or some of their windows, or came late to a join
	Checkpoints int64    // that were begun
	Damage      []string // what was damaged at rest
	Missing     int      // rows that were there before a crash and did not come again
}

// World is what outlives a crash.
type World struct {
	plan    *plan.Plan
	set     Setting
	r       *rand.Rand
	memory  *disk.Memory
	bucket  *bucket // nil: nothing was written to an object store
	tables  map[string]*table
	entries entries
	missing func() int
	lives   int

	mu    sync.Mutex
	shown map[string]int // by stream: partitions that have come
}

// entries are a catalog in memory.
type entries struct {
	mu  sync.Mutex
	all []checkpoint.Entry
	// trouble says whether a call fails, and whether it was done all the same.
	trouble func() (fails, done bool)
}

var errAway = errors.New("the database is away")

// Add implements checkpoint.Catalog.
func (c *entries) Add(e checkpoint.Entry, keep int) (removed []string, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	fails, done := c.trouble()
	if fails && !done {
		return nil, errAway
	}
	c.all = append([]checkpoint.Entry{e}, c.all...)
	for len(c.all) > keep {
		removed = append(removed, c.all[len(c.all)-1].File)
		c.all = c.all[:len(c.all)-1]
	}
	if fails {
		return nil, errAway
	}
	return removed, nil
}

// All implements checkpoint.Catalog.
func (c *entries) All() ([]checkpoint.Entry, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if fails, _ := c.trouble(); fails {
		return nil, errAway
	}
	return slices.Clone(c.all), nil
}

// Run runs a job to the end of its messages, through all crashes.
func Run(ctx context.Context, p *plan.Plan, inputs map[string][]Message, set Setting) (*Result, error) {
	if set.Every == 0 {
		set.Every = 5 * time.Millisecond
	}
	set.Parallelism, set.Partitions = max(set.Parallelism, 1), max(set.Partitions, 1)
	w := &World{plan: p, set: set, r: rand.New(rand.NewPCG(set.Seed, 7)), memory: disk.NewMemory(), tables: map[string]*table{}, shown: map[string]int{}}
	w.entries.trouble = func() (bool, bool) { return false, false }
	if err := w.fill(inputs); err != nil {
		return nil, err
	}
	res := &Result{}
	rot := rand.New(rand.NewPCG(set.Seed, 11))
	for {
		if rot.Float64() < set.Damage {
			if what := w.memory.Damage(rot, topicDir+"/in-", ".log"); what != "" {
				res.Damage = append(res.Damage, what)
			}
		}
		res.Lives++
		last := res.Crashes >= set.Crashes
		ended, status, err := w.life(ctx, last)
		if err != nil {
			return nil, err
		}
		if ended {
			res.Status = status
			break
		}
		res.Crashes++
		if res.Lives > 40*(set.Crashes+1) {
			return nil, errors.New("the job does not come to its end")
		}
	}
	if w.missing != nil {
		res.Missing = w.missing()
	}
	if len(w.entries.all) > 0 {
		res.Checkpoints = w.entries.all[0].Number
	}
	for _, s := range res.Status.Steps {
		res.Late += s.Counts.Late + s.Counts.Partly
	}
	var err error
	res.Sinks, err = w.sinks()
	return res, err
}

// fill writes the messages into topics.
func (w *World) fill(inputs map[string][]Message) error {
	fs := w.memory.Session()
	log, err := topiclog.OpenOn(fs, topicDir, nil)
	if err != nil {
		return err
	}
	defer log.Close()
	for _, o := range w.plan.Scans() {
		name := inputTopic(o)
		if log.Topic(name) != nil {
			continue
		}
		parts := w.set.Partitions
		if o.OfTable != nil {
			parts = 1
		}
		t, err := log.Create(name, topiclog.Settings{Partitions: parts})
		if err != nil {
			return err
		}
		piece := w.set.Piece
		if piece == 0 {
			piece = len(inputs[o.Stream.Name]) + 1
		}
		batches := make([][]topiclog.Record, parts)
		put := func(k int) error {
			if len(batches[k]) == 0 {
				return nil
			}
			_, err := t.Partitions()[k].Append(batches[k])
			batches[k] = nil
			return err
		}
		first := int64(firstArrival)
		if !o.Stream.Arrival() { // no row of a test comes before its time (AHEAD)
			first += 3650 * types.Day
		}
		for i, m := range inputs[o.Stream.Name] {
			k := w.r.IntN(parts)
			if m.With != 0 {
				k = int(uint64(m.With) * (2*w.set.Seed + 1) >> 33 % uint64(parts))
			}
			batches[k] = append(batches[k], topiclog.Record{Key: m.Key, Value: m.Value, At: first + int64(i)*1000})
			if len(batches[k]) >= piece {
				if err := put(k); err != nil {
					return err
				}
			}
		}
		for k := range batches {
			if err := put(k); err != nil {
				return err
			}
		}
	}
	for _, o := range w.plan.Outputs() {
		if o.Sink != nil && o.Sink.OwnTopics {
			parts := 2
			if o.Full { // nothing else keeps changes in order
				parts = 1
			}
			if _, err := log.Create(outputTopic(o), topiclog.Settings{Partitions: parts}); err != nil {
				return err
			}
		}
	}
	return nil
}

// firstArrival is when the first message arrives, microseconds.
const firstArrival = 1_779_000_000_000_000

const (
	topicDir = "/topics"
	filesDir = "/files"
	stateDir = "/state"
	spoolDir = "/spools"
)

// A name of SQL may have letters that a topic's must not.
func plainName(s string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x80 && (r == '-' || r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z') {
			return r
		}
		return '_'
	}, s)
}

func inputTopic(o *plan.Op) string {
	if o.OfTable != nil {
		return "table-" + plainName(o.Stream.Name)
	}
	return "in-" + plainName(o.Stream.Name)
}
func outputTopic(o *plan.Op) string { return "out-" + plainName(o.Step) }

// waiting says what a job waits for.
func waiting(job *flow.Job) (out string) {
	if job == nil {
		return ""
	}
	st := job.Status()
	for _, s := range st.Steps {
		if s.Waiting != nil {
			out += fmt.Sprintf("; %s %s, %d tries: %s", s.Kind, s.Step, s.Waiting.Tries, s.Waiting.Reason)
		}
	}
	for _, s := range st.Splits {
		if !s.Ended {
			out += fmt.Sprintf("; %s has not ended: %+v", s.Split, s)
		}
	}
	return out
}

// life runs the job until it ends or crashes.
func (w *World) life(ctx context.Context, last bool) (ended bool, status flow.Status, err error) {
	session := w.memory.Session()
	kill, cancel := context.WithCancel(ctx)
	defer cancel()
	var mu sync.Mutex // the chances of a life
	r := rand.New(rand.NewPCG(w.r.Uint64(), 1))
	if w.lives++; w.lives > 10*(w.set.Crashes+1) {
		w.set.Trouble = 0 // enough: a job that cannot even begin is tried for ever
	}
	dieAt := -1
	if !last {
		dieAt = r.IntN([]int{20, 100, 600}[r.IntN(3)])
	}
	dies := func() bool { // the caller holds mu
		if dieAt == 0 {
			cancel()
			return true
		}
		dieAt--
		return false
	}
	session.Fault = func(op disk.Op) (int, error) {
		mu.Lock()
		defer mu.Unlock()
		if dies() {
			return r.IntN(op.Size + 1), disk.ErrDead
		}
		if r.Float64() >= w.set.Trouble {
			return op.Size, nil
		}
		switch op.Kind {
		case "write":
			return r.IntN(op.Size + 1), syscall.ENOSPC
		case "sync", "syncdir", "create", "rename":
			return 0, syscall.EIO
		}
		return op.Size, nil
	}
	// A call to a database may fail, and may have been done all the same.
	trouble := func() (fails, done bool) {
		mu.Lock()
		defer mu.Unlock()
		if dies() {
			return true, r.IntN(2) == 0
		}
		return r.Float64() < w.set.Trouble, r.IntN(2) == 0
	}
	w.entries.trouble = trouble
	crash := func() {
		cancel()
		if w.set.PowerLoss && w.r.IntN(2) == 0 {
			session.PowerLoss(w.r)
		} else {
			session.Kill()
		}
	}
	log, err := topiclog.OpenOn(session, topicDir, nil)
	if err != nil {
		crash()
		return false, status, nil
	}
	o := &opener{w: w, fs: session, log: log, trouble: trouble, kill: kill}
	o.chance = func(of float64) bool {
		mu.Lock()
		defer mu.Unlock()
		return of > 0 && r.Float64() < of
	}
	o.wait = func() {
		if w.set.Pace == 0 {
			return
		}
		mu.Lock()
		d := time.Duration(r.Int64N(int64(w.set.Pace)))
		mu.Unlock()
		select {
		case <-kill.Done():
		case <-time.After(d):
		}
	}
	now := time.Now
	if w.set.Jumps {
		var offset time.Duration
		now = func() time.Time {
			mu.Lock()
			defer mu.Unlock()
			if r.IntN(20) == 0 {
				offset = time.Duration(r.Int64N(int64(20*time.Hour))) - 10*time.Hour
			}
			return time.Now().Add(offset)
		}
	}
	var job *flow.Job
	run := checkpoint.Run{
		Keeper: &checkpoint.Keeper{FS: session, Dir: stateDir, Catalog: &w.entries, Version: 1, Now: now, Log: func(string, ...any) {},
			Journal: &checkpoint.Journal{FS: session, Dir: stateDir, FileBytes: int64(4 * w.set.CellBytes)}},
		Plan: w.plan, Opener: o, Every: w.set.Every,
		Options: flow.Options{Parallelism: w.set.Parallelism, Describe: text.Describe, Now: now, CellBytes: w.set.CellBytes, Memory: w.set.Memory},
		Started: func(j *flow.Job) { job = j },
	}
	err = run.Do(kill, context.Background())
	_ = log.Close()
	switch {
	case err == nil:
		w.missing = o.missing
		return true, job.Status(), nil
	case ctx.Err() != nil:
		return false, status, fmt.Errorf("it does not come to its end: %w%s", ctx.Err(), waiting(job))
	case kill.Err() == nil && w.set.Trouble == 0 && !errors.Is(err, disk.ErrDead):
		return false, status, err // it fails by itself
	}
	crash()
	return false, status, nil
}

// opener opens what a job reads and writes, in memory.
type opener struct {
	w       *World
	fs      disk.FS
	log     *topiclog.Log
	kill    context.Context
	trouble func() (bool, bool)
	wait    func()
	chance  func(of float64) bool
	sinks   []*topics.Sink
}

// OpenSource implements flow.Opener: each stream and table is a topic.
func (o *opener) OpenSource(scan *plan.Op) (flow.Source, error) {
	s, st := *scan, *scan.Stream
	of := topics.Connector.Place()
	st.Place, st.Traits, st.Address = of.Kind, of.Traits, inputTopic(scan)
	if slices.Contains(format.RowFormats, st.Options.Word("format", "")) && st.Schemas == nil { // files of rows; in a topic each row is a message
		st.Options = maps.Clone(st.Options)
		delete(st.Options, "format")
	}
	s.Stream = &st
	s.Since, s.Until = plan.Bound{Kind: plan.Beginning}, plan.Bound{Kind: plan.Now}
	if scan.OfTable != nil {
		t := *scan.OfTable
		t.Stream = &st
		s.OfTable = &t
	}
	src, err := topics.Connector.OpenSource(&contract.Env{Topics: o.log}, &s)
	if err != nil {
		return nil, err
	}
	p := &paced{Source: src, o: o, stream: scan.Stream.Name, most: int64(cmp.Or(o.w.set.Piece, math.MaxInt32)), all: len(src.Splits())}
	o.w.mu.Lock()
	defer o.w.mu.Unlock()
	if n, ok := o.w.shown[p.stream]; ok {
		p.from = n
	} else {
		p.from = p.all
		if scan.OfTable == nil {
			p.from = max(0, p.all-o.w.set.Coming)
		}
		o.w.shown[p.stream] = p.from
	}
	return p, nil
}

// paced is a source that takes its time, comes in small pieces, fails now and then, and whose partitions may come later.
type paced struct {
	flow.Source
	o      *opener
	stream string
	most   int64 // messages in a piece
	from   int   // partitions that were there when it was opened, then those that were given
	all    int
}

// Splits implements flow.Source.
func (p *paced) Splits() []flow.Split { return p.between(0, p.from) }

func (p *paced) between(from, to int) (out []flow.Split) {
	for _, s := range p.Source.Splits()[from:to] {
		out = append(out, &pacedSplit{s, p})
	}
	return out
}

// Arrived implements flow.Growing: another partition may have come.
func (p *paced) Arrived() []flow.Split {
	p.o.w.mu.Lock()
	defer p.o.w.mu.Unlock()
	if n := p.o.w.shown[p.stream]; n < p.all && p.o.chance(0.5) {
		p.o.w.shown[p.stream]++
	}
	from := p.from
	p.from = p.o.w.shown[p.stream]
	return p.between(from, p.from)
}

// Grows implements flow.Growing.
func (p *paced) Grows() bool {
	p.o.w.mu.Lock()
	defer p.o.w.mu.Unlock()
	return p.o.w.shown[p.stream] < p.all
}

// Retry implements flow.Retrier.
func (p *paced) Retry(err error) bool { return errors.Is(err, errAway) }

type pacedSplit struct {
	flow.Split
	of *paced
}

// Next implements flow.Split.
func (s *pacedSplit) Next(p *flow.Piece) error {
	s.of.o.wait()
	if s.of.o.chance(s.of.o.w.set.Trouble) {
		return errAway
	}
	if err := s.Split.Next(p); err != nil || p.Next <= p.Base+s.of.most {
		return err
	}
	p.Next = p.Base + s.of.most
	return s.Resume(p.Next)
}

// OpenLookup implements flow.Opener.
func (o *opener) OpenLookup(lookup *plan.Op) (step.Rows, error) {
	return nil, fmt.Errorf("the table %s is looked up where it is, which a trial cannot do; declare it without CACHE", lookup.OfTable.Name)
}

// OpenSink implements flow.Opener.
func (o *opener) OpenSink(out *plan.Op) (flow.Sink, error) {
	if out.Sink == nil {
		return nil, errors.New("a trial takes a job, not a query")
	}
	s, k := *out, *out.Sink
	s.Sink = &k
	dir := filepath.Join(spoolDir, plainName(out.Step))
	switch { // every kind of sink is there, and others are as a table
	case k.OwnTopics:
		k.Address = outputTopic(out)
		t, err := topics.NewSink(&contract.Env{Disk: o.fs}, o.log.Topic(k.Address), &s, dir)
		if err == nil {
			o.sinks = append(o.sinks, t)
		}
		return t, err
	case k.Appends && k.Via != nil:
		return files.OpenFar(o.fs, filepath.Join(filesDir, "far", plainName(out.Step)), &s, o.w.openBucket(o), "trial")
	case k.Appends:
		k.Address = filepath.Join(filesDir, plainName(out.Step))
		return files.OpenSink(o.fs, &s, nil, "trial")
	}
	return o.w.openTable(out, o, dir)
}

func (o *opener) missing() (n int) {
	for _, s := range o.sinks {
		n += s.Missing()
	}
	return n
}

// table stands for a table of a database: it outlives crashes, and has transactions.
type table struct {
	mu      sync.Mutex
	holds   rows.Table
	numbers map[string]int64 // by writer: the newest delivery
	life    context.Context
	wait    func()
	trouble func() (fails, done bool)
}

func (t *table) revive(life context.Context, trouble func() (bool, bool)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.life, t.trouble = life, trouble
}

// tableSink is the sink over a table: the spool's protocol with rows as JSON.
type tableSink struct {
	*spool.Sink
	t      *table
	fields []types.Field
	unsafe bool
	number int64
}

func (w *World) openTable(out *plan.Op, o *opener, dir string) (flow.Sink, error) {
	t := w.tables[out.Step]
	if t == nil {
		t = &table{numbers: map[string]int64{}, holds: rows.Table{Key: out.Sink.Options.Names("key")}}
		w.tables[out.Step] = t
	}
	t.revive(o.kill, o.trouble)
	t.wait = o.wait
	return &tableSink{Sink: &spool.Sink{FS: o.fs, Dir: dir, Target: t}, t: t, fields: out.Fields, unsafe: w.set.Unsafe}, nil
}

// NewEncoder implements flow.Sink.
func (s *tableSink) NewEncoder(fields []types.Field) (flow.Encoder, error) {
	return rows.NewChanges(fields), nil
}

// Write implements flow.Sink.
func (s *tableSink) Write(p flow.Payload) error {
	if s.unsafe {
		s.number++
		return s.t.Deliver(fmt.Sprintf("unsafe %p", s), s.number, nil, [][]byte{p.Bytes})
	}
	return s.Sink.Write(p.Bytes)
}

// Close implements flow.Sink.
func (s *tableSink) Close(bool) error { return nil }

// Place implements spool.Target.
func (t *table) Place() ([]byte, error) { return nil, nil }

// Has implements spool.Target.
func (t *table) Has(writer string, number int64, _ []byte) (bool, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if fails, _ := t.trouble(); fails {
		return false, errAway
	}
	return t.numbers[writer] >= number, nil
}

// Passing implements spool.Target.
func (t *table) Passing(err error) bool { return errors.Is(err, errAway) && t.life.Err() == nil }

// Deliver implements spool.Target.
func (t *table) Deliver(writer string, number int64, _ []byte, payloads [][]byte) error {
	t.wait()
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.life.Err() != nil {
		return disk.ErrDead
	}
	fails, done := t.trouble()
	if fails && !done {
		return errAway
	}
	if t.numbers[writer] < number {
		for _, p := range payloads {
			t.holds.PutAll(p)
		}
		t.numbers[writer] = number
	}
	if fails {
		return errAway
	}
	return nil
}

// sinks reads what stands in the sinks.
func (w *World) sinks() (map[string][]string, error) {
	fs := w.memory.Session()
	log, err := topiclog.OpenOn(fs, topicDir, nil)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	out := map[string][]string{}
	for _, o := range w.plan.Outputs() {
		var stands []string
		full := o.Full
		switch {
		case o.Sink.OwnTopics:
			stands, err = topicRows(log.Topic(outputTopic(o)), o.Changes && !full)
		case o.Sink.Appends && o.Sink.Via != nil:
			stands, err = w.bucket.rows(strings.TrimSuffix(o.Sink.Address, "/"), o.Sink.Options.Word("format", "json"))
		case o.Sink.Appends:
			stands, err = fileRows(fs, filepath.Join(filesDir, plainName(o.Step)), o.Sink.Options.Word("format", "json"))
		default:
			if stands, err = w.tables[o.Step].holds.Rows(); err != nil {
				err = fmt.Errorf("sink %s: %w", o.Step, err)
			}
		}
		if err != nil {
			return nil, err
		}
		if full {
			stands = standing(stands, w.keyOf(o))
		}
		slices.Sort(stands)
		out[o.Step] = stands
	}
	return out, nil
}

// topicRows reads the messages of a topic; with latest the newest of each key.
func topicRows(t *topiclog.Topic, latest bool) (out []string, err error) {
	byKey := map[string]string{}
	for _, p := range t.Partitions() {
		for at := p.First(); ; {
			b, next, err := p.Read(at, nil, 1<<20)
			if err != nil {
				return nil, err
			}
			if next == at {
				break
			}
			err = topiclog.Views(b, at, func(v topiclog.View) {
				key, value := string(b[v.KeyFrom:v.KeyTo]), string(b[v.From:v.To])
				switch {
				case !latest:
					out = append(out, value)
				case value == "":
					delete(byKey, key)
				default:
					byKey[key] = value
				}
			})
			if err != nil {
				return nil, err
			}
			at = next
		}
	}
	return slices.AppendSeq(out, maps.Values(byKey)), nil
}

// fileRows gives the rows of the parts in a directory, and in those below it that tell them apart, as they are written, or as JSON where files hold rows by themselves.
func fileRows(fs disk.FS, dir, form string) (out []string, err error) {
	names, err := fs.List(dir)
	if err != nil {
		return nil, nil // nothing was written
	}
	for _, n := range names {
		if !strings.HasPrefix(n, "part-") {
			if strings.Contains(n, "=") {
				below, err := fileRows(fs, filepath.Join(dir, n), form)
				if err != nil {
					return nil, err
				}
				out = append(out, below...)
			}
			continue
		}
		b, err := disk.Read(fs, filepath.Join(dir, n))
		if err != nil {
			return nil, err
		}
		rows, err := partRows(n, b, form)
		if err != nil {
			return nil, err
		}
		out = append(out, rows...)
	}
	return out, nil
}

// partRows gives the rows of a part.
func partRows(name string, b []byte, form string) (out []string, err error) {
	if slices.Contains(format.RowFormats, form) {
		_, values, err := files.Sampled(form, bytes.NewReader(b), int64(len(b)), math.MaxInt, math.MaxInt)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		for _, v := range values {
			out = append(out, string(v))
		}
		return out, nil
	}
	if b, _, err = container.Unpacked(b, mostOfPart); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	lines := strings.Split(strings.TrimSuffix(string(b), "\n"), "\n")
	if form == "csv" {
		lines = lines[1:] // each part has the names of the columns
	}
	return lines, nil
}

// mostOfPart is how many bytes a part may have, unpacked.
const mostOfPart = 1 << 30

// keyOf gives the columns that tell the rows apart that an output writes in full.
func (w *World) keyOf(out *plan.Op) (names []string) {
	for _, o := range w.plan.Ops {
		for _, b := range o.Branches {
			if slices.Contains(b.Sinks, out) {
				for _, k := range o.Input.Keys {
					names = append(names, o.Input.Fields[k].Name)
				}
				return names
			}
		}
	}
	return nil
}

// standing applies changes written in full and gives the rows that stay.
func standing(changes, key []string) []string {
	t := rows.Table{Key: key}
	for _, c := range changes {
		var kind struct {
			Change string `json:"_change"`
		}
		_ = json.Unmarshal([]byte(c), &kind)
		t.Put(kind.Change != column.Withdraw.String(), "{"+strings.TrimPrefix(c, fmt.Sprintf(`{"_change":%q,`, kind.Change)))
	}
	out, _ := t.Rows()
	return out
}
