package files

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/store"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"
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
