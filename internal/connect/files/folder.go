package files

import (
	"cmp"
	"container/heap"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/store"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"

	"github.com/cespare/xxhash/v2"
)

// folder is a source that is read as series: a folder in order, files that grow, or the objects of an object store.
type folder struct {
	*reading
	env     *contract.Env
	address string
	rest    time.Duration
	every   time.Duration // how often it is looked what has come, at most
	byTime  bool
	once    bool // what is there is read, and no more
	finish  *finisher

	ctx    context.Context
	cancel context.CancelFunc
	done   sync.WaitGroup

	mu      sync.Mutex
	series  []*series
	paths   map[string]bool // of files that grow
	arrived []flow.Split
	wake    func()
}

const (
	// mostObjects are read as splits of their own.
	mostObjects = 10_000
	// mostWaiting files are known that are not read yet.
	mostWaiting = 200_000
	// share is how much of the time may be spent with listing, as a divisor.
	share = 100
	// wholeListing is how often all of a bucket is listed at least, where listings begin at the low mark.
	wholeListing = 10 * time.Minute
)

// openFolder opens a source that is read as series.
func openFolder(env *contract.Env, scan *plan.Op, watch time.Duration) (flow.Source, error) {
	st := scan.Stream
	at, err := store.Of(st.Via, env.Secret, env.Roots)
	if err != nil {
		return nil, err
	}
	r := &reading{store: at, stream: st, used: scan.Used, format: st.Options.Word("format", "json"), piece: cmp.Or(env.Piece, DefaultPiece), stop: st.Options.Word("bad rows", "keep") == "stop"}
	f := &folder{reading: r, env: env, address: st.Address, byTime: st.Options.Word("order", "name") == "time", paths: map[string]bool{},
		rest: time.Duration(st.Options.Duration("rest", 2_000_000)) * time.Microsecond, every: time.Duration(st.Options.Duration("look every", 1_000_000)) * time.Microsecond}
	f.ctx, f.cancel = context.WithCancel(context.Background())
	f.once = scan.Until.Kind != plan.Default || st.Options.Word("follow", "false") == "false"
	if at.Far() {
		f.rest = 0 // objects appear whole
	}
	if done := st.Options.Word("done", "keep"); done != "keep" && env.Durable && !f.once {
		f.finish = &finisher{store: at, address: st.Address, to: strings.TrimSpace(strings.TrimPrefix(done, "move"))}
	}
	switch {
	case st.Options.Word("follow", "false") == "lines":
		err = f.growing()
	case st.Options.Word("follow", "false") == "true" || st.Options["order"].Word != "":
		s := newSeries(r, st.Address, nil, f.key)
		s.finish = f.finish
		s.feed = &arrivals{f: f, s: s, found: map[string]*candidate{}, behind: map[uint64]bool{}, stirred: make(chan struct{}, 1)}
		f.series = append(f.series, s)
		if f.once {
			err = f.there()
		}
	default:
		refresh := time.Duration(0)
		if scan.OfTable != nil && scan.OfTable.Arrival() && scan.Until.Kind == plan.Default {
			refresh = time.Duration(st.Options.Duration("refresh every", watch.Microseconds())) * time.Microsecond
		}
		err = f.objects(refresh)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// key gives the place of a file in the order.
func (f *folder) key(x store.File) string {
	if f.byTime {
		return fmt.Sprintf("%019d %s", x.Changed.UnixMicro(), x.Name)
	}
	return x.Name
}

// there says that there is nothing to be read, where nothing will come.
func (f *folder) there() error {
	any := false
	if err := f.store.Each(f.ctx, f.address, "", func(store.File) bool { any = true; return false }); err != nil || any {
		return err
	}
	return fmt.Errorf("there is no file %s", f.address)
}

// objects makes a split of each object.
func (f *folder) objects(refresh time.Duration) error {
	err := f.store.Each(f.ctx, f.address, "", func(x store.File) bool {
		s := newSeries(f.reading, x.Name, &single{f: f, file: x, refresh: refresh}, f.key)
		s.table = refresh > 0
		f.series = append(f.series, s)
		return len(f.series) <= mostObjects
	})
	switch {
	case err != nil:
		return err
	case len(f.series) == 0:
		return fmt.Errorf("there is no object %s", f.address)
	case len(f.series) > mostObjects:
		return fmt.Errorf("more than %d objects fit %s: write (ORDER name), and they are read one behind the other", mostObjects, f.address)
	}
	if each := 64 << 20 / len(f.series); each < f.piece*aheadPieces {
		f.piece = max(each/aheadPieces, 64<<10)
	}
	return nil
}

// growing makes a split of each file that grows.
func (f *folder) growing() error {
	names, err := f.growingNames()
	if err != nil {
		return err
	}
	if f.once && len(names) == 0 {
		return fmt.Errorf("there is no file %s", f.address)
	}
	for _, n := range names {
		f.series = append(f.series, f.tail(n))
	}
	return nil
}

// growingNames lists the files that grow: those that are no former editions of another one. One that was rotated and has not come anew counts,
// too.
func (f *folder) growingNames() ([]string, error) {
	all := map[string]bool{}
	err := f.store.Each(f.ctx, f.address, "", func(x store.File) bool { all[x.Name] = true; return true })
	if err == nil && strings.ContainsAny(f.address, "*?[{") {
		err = f.store.Each(f.ctx, f.address+"*", "", func(x store.File) bool {
			if of := current(x.Name); of != x.Name && f.store.Fits(f.address, of) {
				all[of] = true
			}
			return true
		})
	}
	names := map[string]bool{}
	for n := range all {
		if of := current(n); of == n || f.store.Fits(f.address, of) {
			names[of] = true
		} else {
			names[n] = true
		}
	}
	return slices.Sorted(maps.Keys(names)), err
}

// formerEnd ends the name of a former edition: .1, -20260517, .2026-05-17T10, .1.gz.
var formerEnd = regexp.MustCompile(`[.-][0-9][0-9TZ:._-]*(\.gz|\.zst|\.bz2|\.xz|\.zip)?$`)

// current gives the name of the file that one is a former edition of, or its own.
func current(name string) string {
	if i := formerEnd.FindStringIndex(name); i != nil && i[0] > strings.LastIndexByte(name, '/')+1 {
		return name[:i[0]]
	}
	return name
}

func (f *folder) tail(name string) *series {
	f.paths[name] = true
	t := &tail{f: f, path: name}
	s := newSeries(f.reading, name, t, f.key)
	s.lines = true
	return s
}

// Splits implements flow.Source.
func (f *folder) Splits() (out []flow.Split) {
	for _, s := range f.series {
		out = append(out, s)
	}
	return out
}

// OnData implements flow.Source.
func (f *folder) OnData(wake func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.wake = wake
	for _, s := range f.series {
		s.mu.Lock()
		s.wake = wake
		s.mu.Unlock()
	}
	if f.Grows() {
		f.done.Go(f.look)
	}
}

// Grows implements flow.Growing.
func (f *folder) Grows() bool { return !f.once && f.stream.Options.Word("follow", "false") == "lines" }

// look looks for files that grow which have come.
func (f *folder) look() {
	wait := f.every
	for {
		select {
		case <-f.ctx.Done():
			return
		case <-time.After(wait):
		}
		began := time.Now()
		names, err := f.growingNames()
		wait = max(f.every, share*time.Since(began))
		if err != nil {
			continue // it is tried again
		}
		f.mu.Lock()
		for _, n := range names {
			if !f.paths[n] {
				s := f.tail(n)
				s.wake = f.wake
				f.series = append(f.series, s)
				f.arrived = append(f.arrived, s)
			}
		}
		f.mu.Unlock()
	}
}

// Arrived implements flow.Growing.
func (f *folder) Arrived() []flow.Split {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := f.arrived
	f.arrived = nil
	return out
}

// Retry implements flow.Retrier.
func (f *folder) Retry(err error) bool { return f.store.Retry(err) }

// Commit implements flow.Committing: files that a checkpoint has are moved or removed.
func (f *folder) Commit(at map[string]flow.SplitPosition) error {
	if f.finish == nil {
		return nil
	}
	return f.finish.commit(f.ctx, at[f.series[0].name].Next)
}

// Close implements flow.Source.
func (f *folder) Close() error {
	f.cancel()
	f.done.Wait()
	return nil
}

// finisher moves or removes files that were read, when a checkpoint counts that has them.
type finisher struct {
	store   store.Store
	address string
	to      string // a directory; "": they are removed

	mu    sync.Mutex
	files []finished
	known map[store.File]bool
}

type finished struct {
	file store.File
	end  int64
}

// read notes that a file was read up to a position of the series.
func (f *finisher) read(file store.File, end int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.known == nil {
		f.known = map[store.File]bool{}
	}
	if !f.known[file] {
		f.known[file] = true
		f.files = append(f.files, finished{file, end})
	}
}

func (f *finisher) commit(ctx context.Context, pos int64) error {
	f.mu.Lock()
	n := 0
	for n < len(f.files) && f.files[n].end <= pos {
		n++
	}
	due := slices.Clone(f.files[:n])
	f.mu.Unlock()
	for i, x := range due {
		now, err := f.store.Stat(ctx, x.file.Name)
		switch {
		case err != nil:
		case now.Tag != x.file.Tag || !now.Changed.Equal(x.file.Changed): // another one of the same name
		case f.to == "delete":
			err = f.store.Remove(ctx, x.file.Name)
		default:
			err = f.store.Move(ctx, f.address, x.file.Name, f.to)
		}
		if errors.Is(err, fs.ErrNotExist) {
			err = nil // somebody was faster, or it was done before a crash
		}
		f.mu.Lock()
		if err == nil {
			f.files = f.files[1:]
			delete(f.known, x.file)
		}
		f.mu.Unlock()
		if err != nil {
			return fmt.Errorf("%s was read and cannot be put away, nor %d others: %w", x.file.Name, len(due)-i-1, err)
		}
	}
	return nil
}

// single gives one object; of a table again when it has changed.
type single struct {
	f       *folder
	file    store.File
	refresh time.Duration
	given   bool
	tag     string
}

func (x *single) began(m *mark) { x.given = m != nil && m.File != "" || m != nil && m.Offset > 0 }

func (x *single) next(ctx context.Context) (*store.File, error) {
	if x.given && x.refresh == 0 {
		return nil, io.EOF
	}
	if x.given {
		now, err := x.f.store.Stat(ctx, x.file.Name)
		if errors.Is(err, fs.ErrNotExist) || err == nil && now.Tag == x.tag {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		x.file = now
	}
	x.given, x.tag = true, x.file.Tag
	return &x.file, nil
}

func (x *single) grows(context.Context, store.File, int64) (more, replaced bool, err error) {
	return false, false, nil
}

func (x *single) wait(ctx context.Context) { pause(ctx, x.refresh) }

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// arrivals gives the files of a folder in order, as they come.
type arrivals struct {
	f *folder
	s *series

	mu      sync.Mutex
	found   map[string]*candidate // by name
	order   candidates
	more    bool // there are more than are known
	listed  bool // once at least
	failed  error
	watched bool
	behind  map[uint64]bool // files that came behind what is remembered
	strays  []string        // those of them of which it was not said
	begun   bool
	stirred chan struct{}
}

// candidate is a file that is to be read.
type candidate struct {
	file  store.File
	key   string
	since time.Time // when it was last seen to change
	at    int       // its place in the heap
}

// candidates are a heap by key.
type candidates []*candidate

func (c candidates) Len() int           { return len(c) }
func (c candidates) Less(i, j int) bool { return c[i].key < c[j].key }
func (c candidates) Swap(i, j int) {
	c[i], c[j] = c[j], c[i]
	c[i].at, c[j].at = i, j
}

// Push implements heap.Interface.
func (c *candidates) Push(x any) {
	x.(*candidate).at = len(*c)
	*c = append(*c, x.(*candidate))
}

// Pop implements heap.Interface.
func (c *candidates) Pop() any {
	old := *c
	x := old[len(old)-1]
	old[len(old)-1] = nil
	*c = old[:len(old)-1]
	return x
}

func (a *arrivals) began(*mark) {}

// begin begins to look for files, when the one that was being read has been read to its end.
func (a *arrivals) begin() {
	a.begun = true
	a.watched = a.f.store.Watch(a.s.ctx, a.f.address, func(name string) {
		a.offer(store.File{Name: name}, true)
		a.stir()
	})
	a.s.done.Go(a.look)
}

func (a *arrivals) stir() {
	select {
	case a.stirred <- struct{}{}:
	default:
	}
}

// look lists the folder now and then.
func (a *arrivals) look() {
	var whole time.Time
	for a.s.ctx.Err() == nil {
		began := time.Now()
		err := a.list(a.s.ctx, whole.IsZero() || time.Since(whole) > wholeListing || !a.f.store.Far() || a.f.byTime)
		if err == nil && time.Since(whole) > wholeListing {
			whole = began
		}
		a.mu.Lock()
		a.failed = err
		if err == nil {
			a.listed = true
		}
		more := a.more
		a.mu.Unlock()
		a.stir()
		took := time.Since(began)
		wait := max(a.f.every, share*took)
		switch {
		case err != nil:
			wait = max(a.f.every, time.Second)
		case a.f.store.Far(): // most of the time it waits for an answer
			wait = max(a.f.every, share/10*took)
		case a.watched:
			wait = max(wait, 10*a.f.every)
		}
		if more {
			wait = min(wait, max(a.f.every, 4*took))
		}
		pause(a.s.ctx, wait)
	}
}

// list offers all files of the folder; or, where they come in the order of their names, those behind the low mark.
func (a *arrivals) list(ctx context.Context, whole bool) error {
	n := a.s.lists()
	a.s.mu.Lock()
	after := a.s.low
	a.s.mu.Unlock()
	if whole {
		after = ""
	}
	a.mu.Lock()
	a.more = false
	a.mu.Unlock()
	there := map[uint64]bool{}
	err := a.f.store.Each(ctx, a.f.address, after, func(f store.File) bool {
		if f = a.offer(f, false); whole {
			there[a.s.id(f)] = true
		}
		return ctx.Err() == nil
	})
	if err == nil && whole && ctx.Err() == nil {
		a.s.forget(n, there)
	}
	return err
}

// offer takes a file up that is to be read. It gives the file with what it found out.
func (a *arrivals) offer(f store.File, changed bool) store.File {
	a.mu.Lock()
	c := a.found[f.Name]
	if c != nil && changed {
		c.since = time.Now()
	}
	listed := a.listed
	a.mu.Unlock()
	if c != nil {
		return f
	}
	if (a.f.byTime || a.f.finish != nil) && f.Changed.IsZero() {
		x, err := a.f.store.Stat(a.s.ctx, f.Name)
		if err != nil {
			return f // it has gone, or is no file; the next listing offers it again
		}
		f = x
	}
	key := a.f.key(f)
	known, behind := a.s.known(f, key)
	if behind && (changed || !a.watched || !listed) { // what else is there was read before the mark was raised
		if f.Changed.IsZero() {
			f, _ = a.f.store.Stat(a.s.ctx, f.Name) // where it has gone, nothing has come
		}
		a.s.mu.Lock()
		since := a.s.lowAt
		a.s.mu.Unlock()
		if f.Changed.After(since) {
			a.late(f)
		}
	}
	if known {
		if fin := a.f.finish; fin != nil && !behind {
			a.s.finished(f)
		}
		return f
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.found[f.Name] != nil {
		return f
	}
	if len(a.order) >= mostWaiting {
		a.more = true
		last := slices.MaxFunc(a.order, func(x, y *candidate) int { return cmp.Compare(x.key, y.key) })
		if key >= last.key {
			return f
		}
		heap.Remove(&a.order, last.at)
		delete(a.found, last.file.Name)
	}
	c = &candidate{file: f, key: key}
	a.found[f.Name] = c
	heap.Push(&a.order, c)
	return f
}

// late notes that a file seems to have come behind what is remembered.
func (a *arrivals) late(f store.File) {
	h := xxhash.Sum64String(f.Name)
	a.mu.Lock()
	defer a.mu.Unlock()
	if !a.behind[h] && len(a.behind) < remembered {
		a.behind[h] = true
		a.strays = append(a.strays, f.Name)
	}
}

// tell says of files that came behind what is remembered, once they rest, and counts them.
func (a *arrivals) tell(ctx context.Context) {
	a.mu.Lock()
	names := a.strays
	a.strays = nil
	a.mu.Unlock()
	for _, n := range names {
		f, err := a.f.store.Stat(ctx, n)
		if err != nil {
			continue // it had another name for a while
		}
		if a.f.rest > 0 && time.Since(f.Changed) < a.f.rest {
			a.mu.Lock()
			a.strays = append(a.strays, n)
			a.mu.Unlock()
			continue
		}
		why := n + " has come behind the files that are remembered, by its place in the order, and is not read"
		a.s.flush()
		a.s.say(why)
		a.s.mu.Lock()
		at := a.s.next
		if f.Changed.After(a.s.saidOf) {
			a.s.saidOf = f.Changed
		}
		a.s.mu.Unlock()
		a.s.give(flow.Piece{Base: at, Next: at, Lost: 1, Why: why})
	}
}

// next implements feed.
func (a *arrivals) next(ctx context.Context) (*store.File, error) {
	if a.f.once && !a.listed {
		if err := a.list(ctx, true); err != nil {
			return nil, err
		}
		a.listed = true
	}
	if !a.f.once && !a.begun {
		a.begin()
	}
	a.tell(ctx)
	for {
		a.mu.Lock()
		err := a.failed
		var c *candidate
		if len(a.order) > 0 {
			c = a.order[0]
		}
		a.mu.Unlock()
		if c == nil {
			if a.f.once {
				return nil, io.EOF
			}
			return nil, err
		}
		f, err := a.f.store.Stat(ctx, c.file.Name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			a.drop(c) // it had another name for a while
			continue
		case err != nil && !a.f.store.Retry(err):
			a.drop(c)
			a.s.lose(fmt.Sprintf("%s cannot be read: %s", c.file.Name, err), c.file.Name, c.key)
			continue
		case err != nil:
			return nil, err
		}
		if key := a.f.key(f); key != c.key {
			a.mu.Lock()
			c.key, c.file = key, f
			heap.Fix(&a.order, c.at)
			a.mu.Unlock()
			continue
		}
		if !a.rests(c, f) {
			return nil, nil
		}
		a.s.takes(f)
		a.drop(c)
		return &f, nil
	}
}

// rests says whether a file has not been written for a while.
func (a *arrivals) rests(c *candidate, f store.File) bool {
	now := time.Now()
	if a.f.once || a.f.rest == 0 || f.Changed.Add(a.f.rest).Before(now) {
		return true
	}
	if c.since.IsZero() || f.Size != c.file.Size || !f.Changed.Equal(c.file.Changed) {
		c.file, c.since = f, now
		return false
	}
	if now.Sub(c.since) >= a.f.rest {
		return true // by a clock that goes ahead of ours
	}
	if first := now.Sub(c.since); first > time.Minute {
		a.s.say(fmt.Sprintf("waits for %s, which is still being written; files that grow are read with FOLLOW lines", f.Name))
	}
	return false
}

func (a *arrivals) drop(c *candidate) {
	a.mu.Lock()
	defer a.mu.Unlock()
	heap.Remove(&a.order, c.at)
	delete(a.found, c.file.Name)
}

// grows implements feed: files rest when they are read.
func (a *arrivals) grows(context.Context, store.File, int64) (more, replaced bool, err error) {
	return false, false, nil
}

// wait implements feed.
func (a *arrivals) wait(ctx context.Context) {
	d := time.Second
	a.mu.Lock()
	if len(a.order)+len(a.strays) > 0 { // one that rests soon
		d = min(100*time.Millisecond, a.f.rest+time.Millisecond)
	}
	a.mu.Unlock()
	select {
	case <-ctx.Done():
	case <-a.stirred:
	case <-time.After(d):
	}
}

// tail gives the editions of a file that grows: when it is rotated, the one before is read to its end first.
type tail struct {
	f    *folder
	path string
	last store.File // the edition that was read last
	anew bool       // it was cut short, and begins anew
	// former are the tags of editions that were read before and were last written in the same moment as the last one. The list is never changed.
	former []string
}

func (t *tail) began(m *mark) {
	if m != nil && m.File != "" {
		t.last.Tag, t.former, t.last.Changed = m.Tag, m.Former, time.Unix(0, m.At)
		return
	}
	// Former editions are read first: it may have been rotated before anybody looked.
	var first store.File
	for _, x := range t.editions(context.Background()) {
		if x.Name != t.path && (first.Name == "" || x.Changed.Before(first.Changed)) {
			first = x
		}
	}
	if first.Name != "" {
		t.last.Changed = first.Changed.Add(-1)
		t.last.Tag = "none"
	}
}

// editions are the file and those that it was rotated to.
func (t *tail) editions(ctx context.Context) (out []store.File) {
	_ = t.f.store.Each(ctx, escape(t.path)+"*", "", func(x store.File) bool { // where it cannot be listed now, nothing has come
		if x.Name != t.path && (current(x.Name) != t.path || slices.Contains(packedExts, path.Ext(x.Name))) {
			return true
		}
		if f, err := t.f.store.Stat(ctx, x.Name); err == nil {
			out = append(out, f)
		}
		return true
	})
	return out
}

// packedExts end the names of former editions that were packed since: what is in them was read before.
var packedExts = []string{".gz", ".zst", ".bz2", ".xz", ".zip"}

// escape makes a name a pattern for itself.
func escape(name string) string {
	var b strings.Builder
	for _, r := range name {
		if strings.ContainsRune(`*?[]{}\`, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// byTag finds an edition. One that is being renamed meanwhile is found the next time.
func (t *tail) byTag(ctx context.Context, tag string) (store.File, error) {
	for range 5 {
		for _, x := range t.editions(ctx) {
			if x.Tag == tag {
				return x, nil
			}
		}
		pause(ctx, 10*time.Millisecond)
	}
	return store.File{}, fs.ErrNotExist
}

func (t *tail) next(ctx context.Context) (*store.File, error) {
	now, err := t.f.store.Stat(ctx, t.path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	there := err == nil
	switch {
	case t.last.Tag == "" && there: // the first one
	case t.anew && there:
	case t.last.Tag == "":
		return t.none()
	default: // the one behind the last
		var after []store.File
		for _, x := range t.editions(ctx) {
			if x.Tag != t.last.Tag && !x.Changed.Before(t.last.Changed) && !slices.Contains(t.former, x.Tag) {
				after = append(after, x)
			}
		}
		if len(after) == 0 {
			return t.none()
		}
		now = slices.MinFunc(after, func(x, y store.File) int {
			if x.Name == t.path || y.Name == t.path { // it is the newest
				return cmp.Compare(b2i(x.Name == t.path), b2i(y.Name == t.path))
			}
			return x.Changed.Compare(y.Changed)
		})
		if now.Changed.Equal(t.last.Changed) {
			t.former = append(slices.Clone(t.former), t.last.Tag)
		} else {
			t.former = nil
		}
	}
	t.last, t.anew = now, false
	return &now, nil
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (t *tail) none() (*store.File, error) {
	if t.f.once {
		return nil, io.EOF
	}
	return nil, nil
}

// grows implements feed.
func (t *tail) grows(ctx context.Context, f store.File, read int64) (more, replaced bool, err error) {
	t.last.Tag = f.Tag
	if t.f.once {
		t.anew = false
		return false, false, nil
	}
	now, err := t.f.store.Stat(ctx, t.path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, false, err
	}
	if err == nil && now.Tag == f.Tag {
		if now.Size < read {
			t.anew = true
			return false, true, nil
		}
		t.last.Changed = now.Changed
		return true, false, nil
	}
	old, err := t.byTag(ctx, f.Tag)
	if err != nil {
		t.last.Changed = f.Changed
		return false, false, nil // it is gone; what is open was read
	}
	t.last.Changed = old.Changed
	// Whoever writes may go on with the former edition for a moment.
	return old.Size > read || time.Since(old.Changed) < t.f.rest, false, nil
}

// wait implements feed.
func (t *tail) wait(ctx context.Context) { pause(ctx, 100*time.Millisecond) }

// fits says what of the options of a stream over files does not go together.
func fits(s *plan.Stream) error {
	follow, rows := s.Options.Word("follow", "false"), slices.Contains(format.RowFormats, s.Options.Word("format", "json"))
	far := s.Via != nil
	given := func(name string) bool { _, ok := s.Options[name]; return ok }
	switch {
	case follow == "lines" && rows:
		return fmt.Errorf("files of %s do not grow by lines: write FOLLOW true", s.Options.Word("format", ""))
	case follow == "lines" && far:
		return errors.New("objects do not grow: write FOLLOW true")
	case follow == "lines" && given("order"):
		return errors.New("with FOLLOW lines each file is read by itself: leave ORDER out")
	case given("done") && follow != "true":
		return errors.New("DONE says what becomes of files as they come: write FOLLOW true with it")
	case given("rest") && follow == "false", given("look every") && follow == "false":
		return errors.New("REST and LOOK EVERY are for files as they come: write FOLLOW true with them")
	}
	if done := s.Options.Word("done", "keep"); done != "keep" && done != "delete" {
		to, ok := strings.CutPrefix(done, "move ")
		if !ok || strings.TrimSpace(to) == "" {
			return fmt.Errorf("DONE takes keep, delete, or 'move DIRECTORY', and not %q", done)
		}
		if far != strings.HasPrefix(strings.TrimSpace(to), store.Scheme) {
			return fmt.Errorf("files are moved to where they lie, and not to %s", to)
		}
		if below(s.Address, strings.TrimSpace(to)) {
			return fmt.Errorf("what is moved to %s would be read again, since %s names it: take a directory that begins with a dot, or another one", to, s.Address)
		}
	}
	return nil
}

// below says whether a pattern may name files of a directory.
func below(address, dir string) bool {
	if strings.HasPrefix(baseOf(dir), ".") {
		return false
	}
	return strings.TrimSuffix(address, "/") == strings.TrimSuffix(dir, "/") || strings.Contains(address, "**") && strings.HasPrefix(dir, strings.TrimSuffix(address[:strings.Index(address, "**")], "/"))
}

func baseOf(dir string) string {
	dir = strings.TrimSuffix(dir, "/")
	return dir[strings.LastIndexByte(dir, '/')+1:]
}
