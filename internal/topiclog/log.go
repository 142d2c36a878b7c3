package topiclog

import (
	"encoding/json"
	"errors"
	"fiume/internal/disk"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cespare/xxhash/v2"
)

// Settings are a topic's own, kept in its directory as topic.json.
type Settings struct {
	Partitions  int   `json:"partitions"`
	RetainFor   int64 `json:"retain_for_us,omitempty"` // microseconds; 0: for ever
	RetainBytes int64 `json:"retain_bytes,omitempty"`  // a partition; 0: no limit
	Compact     bool  `json:"compact,omitempty"`       // of each key the newest message is kept
	// Was has how many partitions there were before, oldest first: messages of a key, and batches with names, went elsewhere then.
	Was []int `json:"was,omitempty"`
	// Mark is what whoever keeps the topics notes of one.
	Mark json.RawMessage `json:"mark,omitempty"`
}

// Topic is a named set of partitions.
type Topic struct {
	Name     string
	Settings Settings // guarded by the log's lock where it may change: Log.Grow
	list     atomic.Pointer[[]*Partition]
	was      atomic.Pointer[[]int] // Settings.Was
	mark     atomic.Pointer[json.RawMessage]
	round    atomic.Uint64
}

// Partitions gives the partitions in order. The list is never changed; one with more takes its place.
func (t *Topic) Partitions() []*Partition {
	if l := t.list.Load(); l != nil {
		return *l
	}
	return nil
}

// Mark gives what was noted of the topic; nil: nothing was.
func (t *Topic) Mark() []byte {
	if m := t.mark.Load(); m != nil {
		return *m
	}
	return nil
}

// add puts a partition behind the others.
func (t *Topic) add(p *Partition) {
	list := append(slices.Clone(t.Partitions()), p)
	t.list.Store(&list)
}

// PartitionOf chooses the partition of a key; records without a key go round.
func (t *Topic) PartitionOf(key []byte) int {
	if key == nil {
		return int(t.round.Add(1) % uint64(len(t.Partitions())))
	}
	return KeyPartition(key, len(t.Partitions()))
}

// KeyPartition gives the partition, of n, that messages of a key go to.
func KeyPartition(key []byte, n int) int { return int(xxhash.Sum64(key) % uint64(n)) }

// Append writes records to the partitions of their keys and waits until they are on the disk.
func (t *Topic) Append(recs []Record) error {
	return t.AppendParts(NoProducer, -1, t.Partitioned(recs))
}

// Partitioned shares records out to the partitions of their keys.
func (t *Topic) Partitioned(recs []Record) [][]Record {
	by := make([][]Record, len(t.Partitions()))
	for _, r := range recs {
		p := t.PartitionOf(r.Key)
		for p >= len(by) { // one has come meanwhile
			by = append(by, nil)
		}
		by[p] = append(by[p], r)
	}
	return by
}

// AppendParts writes each partition's records in the name of a producer and waits until they are on the disk.
// Those that were written are taken out of parts, so that after a failure it can be called with the rest.
func (t *Topic) AppendParts(producer int64, sequence int32, parts [][]Record) error {
	errs := make([]error, len(parts))
	var wg sync.WaitGroup
	for p, rs := range parts {
		if len(rs) > 0 {
			wg.Go(func() {
				if _, errs[p] = t.Partitions()[p].AppendAs(producer, sequence, rs); errs[p] == nil {
					parts[p] = nil
				}
			})
		}
	}
	wg.Wait()
	return errors.Join(errs...)
}

// Log is a directory of topics. One process at a time has it open.
type Log struct {
	fs     disk.FS
	dir    string
	lock   io.Closer
	mu     sync.Mutex
	topics map[string]*Topic
	stop   chan struct{}
	done   chan struct{}
	tell   func(text string, args ...any)
}

// segmentBytes is the size at which a new segment begins.
const segmentBytes = 64 << 20

var (
	// ErrExists says that a topic of the name is there.
	ErrExists = errors.New("there is already a topic of this name")
	// ErrName says that a name cannot be a topic's.
	ErrName = errors.New("a topic's name has 1 to 200 letters, digits, dots, dashes and underscores")
	name    = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_-][A-Za-z0-9._-]{0,199}$`) })
)

// Open opens a log and recovers its partitions.
func Open(dir string) (*Log, error) { return OpenOn(disk.OS{}, dir, nil) }

// OpenOn opens a log on a file system. tell, which may be nil, is told what is found damaged or cannot be done, with pairs of names
// and values; it may be called by several goroutines.
func OpenOn(fs disk.FS, dir string, tell func(text string, args ...any)) (*Log, error) {
	if tell == nil {
		tell = func(string, ...any) {}
	}
	if err := fs.MkdirAll(dir); err != nil {
		return nil, err
	}
	lock, err := fs.Lock(filepath.Join(dir, ".lock"))
	if err != nil {
		if errors.Is(err, disk.ErrLocked) {
			err = fmt.Errorf("the topics in %s are in use by another process", dir)
		} else {
			err = fmt.Errorf("the topics in %s cannot be opened: %w", dir, err)
		}
		return nil, err
	}
	l := &Log{fs: fs, dir: dir, lock: lock, topics: map[string]*Topic{}, stop: make(chan struct{}), done: make(chan struct{}), tell: tell}
	names, err := fs.List(dir)
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		b, err := disk.Read(fs, filepath.Join(dir, n, "topic.json"))
		if err != nil {
			continue // no topic, or one whose creation did not end
		}
		t := &Topic{Name: n}
		if err := json.Unmarshal(b, &t.Settings); err != nil || t.Settings.Partitions < 1 {
			if t.Settings, err = l.settingsOf(n); err != nil {
				tell("a topic cannot be read, and is left out", "topic", n, "error", err)
				continue
			}
			tell("the settings of a topic are damaged; its messages are kept without a limit", "topic", n, "partitions", t.Settings.Partitions)
		}
		t.was.Store(&t.Settings.Was)
		t.mark.Store(&t.Settings.Mark)
		l.load(t)
	}
	go l.retain()
	return l, nil
}

// A disk that fails for a moment while a partition is opened must not leave it out until the service is started again.
const (
	openTries = 6
	openAgain = 100 * time.Millisecond // and twice as long each time
)

// load opens the partitions of a topic that is there. What is wrong with one is said to those who use it, and ends
// nothing else.
func (l *Log) load(t *Topic) {
	for i := range t.Settings.Partitions {
		p, err := l.partition(t, i)
		for try := range openTries {
			if err == nil || !disk.Passing(err) {
				break
			}
			time.Sleep(openAgain << try)
			p, err = l.partition(t, i)
		}
		if err != nil {
			l.tell("a partition cannot be opened", "topic", t.Name, "partition", i, "error", err)
			p = brokenPartition(fmt.Errorf("partition %d of the topic '%s' cannot be opened: %w", i, t.Name, err))
		}
		t.add(p)
	}
	l.topics[t.Name] = t
}

func (l *Log) partition(t *Topic, i int) (*Partition, error) {
	limit := int64(segmentBytes)
	if n := t.Settings.RetainBytes; n > 0 { // what is kept is whole segments
		limit = min(limit, max(n/4, 1<<20))
	}
	tell := func(text string, args ...any) {
		l.tell(text, append([]any{"topic", t.Name, "partition", i}, args...)...)
	}
	return openPartition(l.fs, filepath.Join(l.dir, t.Name, fmt.Sprint(i)), limit, tell)
}

// settingsOf makes the settings of a topic anew of what lies in its directory.
func (l *Log) settingsOf(topic string) (s Settings, err error) {
	names, err := l.fs.List(filepath.Join(l.dir, topic))
	for _, n := range names {
		if i, err := strconv.Atoi(n); err == nil && i >= 0 {
			s.Partitions = max(s.Partitions, i+1)
		}
	}
	if err == nil && (s.Partitions == 0 || s.Partitions > 1000) {
		err = errors.New("topic.json is damaged, and there are no partitions")
	}
	return s, err
}

// retain removes old segments once a minute.
func (l *Log) retain() {
	defer close(l.done)
	tick := time.NewTicker(time.Minute)
	defer tick.Stop()
	for {
		select {
		case <-l.stop:
			return
		case <-tick.C:
			for _, t := range l.Topics() {
				oldest := int64(0)
				if t.Settings.RetainFor > 0 {
					oldest = time.Now().UnixMicro() - t.Settings.RetainFor
				}
				for _, p := range t.Partitions() {
					p.writeEnd()
					if err := p.retain(oldest, t.Settings.RetainBytes); err != nil {
						p.tell("old messages cannot be removed; it is tried again in a minute", "error", err)
					}
					if !t.Settings.Compact {
						continue
					}
					if _, err := p.Compact(time.Now(), false); err != nil {
						p.tell("a partition cannot be compacted; it is tried again in a minute", "error", err)
					}
				}
			}
		}
	}
}

// Create makes a topic.
func (l *Log) Create(topic string, s Settings) (*Topic, error) {
	if !name().MatchString(topic) {
		return nil, ErrName
	}
	if s.Partitions < 1 || s.Partitions > 1000 {
		return nil, errors.New("a topic has 1 to 1000 partitions")
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.topics[topic] != nil {
		return nil, ErrExists
	}
	dir := filepath.Join(l.dir, topic)
	if err := l.fs.MkdirAll(dir); err != nil {
		return nil, err
	}
	t := &Topic{Name: topic, Settings: s}
	if err := l.make(t, dir); err != nil {
		// It is there whole, or not at all: nothing may be written to what the next start would not find.
		for _, p := range t.Partitions() {
			err = errors.Join(err, p.close())
		}
		_ = l.fs.Remove(filepath.Join(dir, "topic.json")) // without it the directory is no topic, whatever is left of it
		_ = l.fs.RemoveAll(dir)
		return nil, fmt.Errorf("the topic '%s' cannot be made: %w", topic, err)
	}
	l.topics[topic] = t
	return t, nil
}

// make makes the directory of a topic. The file with its settings makes it one.
func (l *Log) make(t *Topic, dir string) error {
	for i := range t.Settings.Partitions {
		p, err := l.partition(t, i)
		if err != nil {
			return err
		}
		t.add(p)
	}
	return errors.Join(l.keep(t.Settings, dir), l.fs.SyncDir(l.dir))
}

// keep writes settings, so that after a crash they are as they were or these.
func (l *Log) keep(s Settings, dir string) error {
	b, _ := json.Marshal(s)
	tmp := filepath.Join(dir, "topic.json.new")
	if err := disk.Write(l.fs, tmp, b); err != nil {
		return err
	}
	return errors.Join(l.fs.Rename(tmp, filepath.Join(dir, "topic.json")), l.fs.SyncDir(dir))
}

// ErrFewer says that a topic cannot have fewer partitions than it has.
var ErrFewer = errors.New("a topic cannot have fewer partitions: their messages would be gone")

// Grow gives a topic more partitions. Messages of a key may go to another one from then on. It says whether anything changed.
func (l *Log) Grow(topic string, partitions int) (bool, error) {
	if partitions < 1 || partitions > 1000 {
		return false, errors.New("a topic has 1 to 1000 partitions")
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	t := l.topics[topic]
	if t == nil {
		return false, fmt.Errorf("there is no topic '%s'", topic)
	}
	had := len(t.Partitions())
	switch {
	case partitions < had:
		return false, fmt.Errorf("the topic '%s' has %d partitions: %w", topic, had, ErrFewer)
	case partitions == had:
		return false, nil
	}
	var more []*Partition
	undo := func(err error) error {
		for _, p := range more {
			err = errors.Join(err, p.close())
		}
		return fmt.Errorf("the topic '%s' cannot get partitions: %w", topic, err)
	}
	for i := had; i < partitions; i++ { // what a crash leaves of them is empty, and taken then
		p, err := l.partition(t, i)
		if err != nil {
			return false, undo(err)
		}
		more = append(more, p)
	}
	s := t.Settings
	s.Partitions, s.Was = partitions, append(slices.Clone(s.Was), had)
	if err := l.keep(s, filepath.Join(l.dir, topic)); err != nil {
		return false, undo(err)
	}
	t.Settings = s
	t.was.Store(&s.Was) // before anything is written to the new ones
	list := append(slices.Clone(t.Partitions()), more...)
	t.list.Store(&list)
	return true, nil
}

// SetMark notes something of a topic, a JSON value, in the place of what was noted before. It is on the disk then.
func (l *Log) SetMark(topic string, mark []byte) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	t := l.topics[topic]
	if t == nil {
		return fmt.Errorf("there is no topic '%s'", topic)
	}
	s := t.Settings
	s.Mark = mark
	if err := l.keep(s, filepath.Join(l.dir, topic)); err != nil {
		return fmt.Errorf("the settings of the topic '%s': %w", topic, err)
	}
	t.Settings = s
	t.mark.Store(&s.Mark)
	return nil
}

// Topic finds a topic, or gives nil.
func (l *Log) Topic(topic string) *Topic {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.topics[topic]
}

// Topics gives all topics in the order of their names.
func (l *Log) Topics() []*Topic {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := make([]*Topic, 0, len(l.topics))
	for _, t := range l.topics {
		out = append(out, t)
	}
	slices.SortFunc(out, func(a, b *Topic) int {
		if a.Name < b.Name {
			return -1
		}
		return 1
	})
	return out
}

// Drop deletes a topic and its data.
func (l *Log) Drop(topic string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	t := l.topics[topic]
	if t == nil {
		return fmt.Errorf("there is no topic '%s'", topic)
	}
	delete(l.topics, topic)
	var errs []error
	for _, p := range t.Partitions() {
		errs = append(errs, p.close())
	}
	// Without its settings the directory is no topic any more, whatever happens to the rest.
	errs = append(errs, l.fs.Remove(filepath.Join(l.dir, topic, "topic.json")), l.fs.RemoveAll(filepath.Join(l.dir, topic)))
	return errors.Join(errs...)
}

// Close closes the log.
func (l *Log) Close() error {
	close(l.stop)
	<-l.done
	l.mu.Lock()
	defer l.mu.Unlock()
	var errs []error
	for _, t := range l.topics {
		for _, p := range t.Partitions() {
			errs = append(errs, p.close())
		}
	}
	return errors.Join(append(errs, l.lock.Close())...)
}
