package alerts

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/core/column"
	"fiume/internal/core/flow"
	"fiume/internal/core/types"
	"fiume/internal/service/base"
)

// Notice is what a sink is told, or is about to be.
type Notice struct {
	ID    string          `json:"id"`
	Sink  string          `json:"sink"`
	Alert string          `json:"alert"`
	Event string          `json:"event" enum:"begins,ends"`
	Of    string          `json:"of,omitempty"`
	What  string          `json:"what"`
	Since time.Time       `json:"since"`
	At    time.Time       `json:"at"`
	Row   json.RawMessage `json:"row,omitempty"`

	Tries   int    `json:"tries,omitempty" doc:"how often telling it has failed"`
	Problem string `json:"problem,omitempty" doc:"why, the last time"`
}

const (
	// mostNotices wait for a sink; of more the oldest are given up.
	mostNotices = 1000
	// tells is how long a sink may take for a notice.
	tells = 30 * time.Second
	// soon and seldom are the times between tries, which grow.
	soon, seldom = time.Second, time.Minute
)

// teller tells sinks, each on its own: one that hangs keeps no other waiting.
type teller struct {
	a *Alerts

	mu     sync.Mutex
	queues map[string]*queue
	ctx    context.Context // nil: it has not begun
	parts  *sync.WaitGroup
}

// queue are the notices for a sink, the oldest first.
type queue struct {
	waiting []*Notice
	runs    bool
}

// read takes up a notice that is kept.
func (t *teller) read(_, data string) error {
	n := &Notice{}
	if err := json.Unmarshal([]byte(data), n); err != nil {
		return err
	}
	q := t.of(n.Sink)
	q.waiting = append(q.waiting, n)
	slices.SortStableFunc(q.waiting, func(a, b *Notice) int { return a.At.Compare(b.At) })
	return nil
}

// of gives the queue of a sink; the caller holds mu, or nobody else has it yet.
func (t *teller) of(sink string) *queue {
	if t.queues[sink] == nil {
		t.queues[sink] = &queue{}
	}
	return t.queues[sink]
}

// begin begins to tell, until the context ends.
func (t *teller) begin(ctx context.Context, parts *sync.WaitGroup) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.ctx, t.parts = ctx, parts
	for sink, q := range t.queues {
		t.run(sink, q)
	}
}

// tell has sinks be told.
func (t *teller) tell(sinks []string, s *Standing, event string, at time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, sink := range sinks {
		n := &Notice{ID: s.ID + " " + event, Sink: sink, Alert: s.Alert, Event: event, Of: s.Of, What: s.What, Since: s.Since, At: at, Row: s.Row}
		q := t.of(sink)
		if q.waiting = append(q.waiting, n); len(q.waiting) > mostNotices {
			t.a.Log.Error("a notice of an alert is given up, since too many wait", "sink", sink, "alert", q.waiting[0].Alert, "event", q.waiting[0].Event)
			t.a.records.want(keptNotices, q.waiting[0].kept(), nil)
			q.waiting = q.waiting[1:]
		}
		t.a.records.want(keptNotices, n.kept(), n)
		t.run(sink, q)
	}
}

// kept is the id under which it is kept.
func (n *Notice) kept() string {
	h := sha256.Sum256([]byte(n.Sink))
	return n.ID + " " + hex.EncodeToString(h[:8])
}

// run has somebody tell a sink; the caller holds mu.
func (t *teller) run(sink string, q *queue) {
	if q.runs || t.ctx == nil || len(q.waiting) == 0 {
		return
	}
	q.runs = true
	ctx := t.ctx
	t.parts.Go(func() {
		wait := soon
		for {
			t.mu.Lock()
			if len(q.waiting) == 0 || ctx.Err() != nil {
				q.runs = false
				if len(q.waiting) == 0 {
					delete(t.queues, sink)
				}
				t.mu.Unlock()
				return
			}
			n := *q.waiting[0]
			t.mu.Unlock()
			err := t.deliver(ctx, &n)
			if ctx.Err() != nil {
				continue
			}
			t.mu.Lock()
			if len(q.waiting) > 0 && q.waiting[0].ID == n.ID {
				if err == nil {
					q.waiting = q.waiting[1:]
					t.a.records.want(keptNotices, n.kept(), nil)
				} else {
					q.waiting[0].Tries++
					q.waiting[0].Problem = err.Error()
				}
			}
			t.mu.Unlock()
			if err == nil {
				wait = soon
				continue
			}
			t.a.Log.Error("a sink cannot be told of an alert", "sink", sink, "alert", n.Alert, "event", n.Event, "error", err)
			select {
			case <-ctx.Done():
			case <-time.After(wait):
			}
			wait = min(2*wait, seldom)
		}
	})
}

// Waiting gives the notices that sinks have not got yet, the oldest first.
func (a *Alerts) Waiting() []Notice {
	a.telling.mu.Lock()
	defer a.telling.mu.Unlock()
	out := []Notice{}
	for _, q := range a.telling.queues {
		for _, n := range q.waiting {
			out = append(out, *n)
		}
	}
	slices.SortFunc(out, func(a, b Notice) int { return a.At.Compare(b.At) })
	return out
}

var errDropped = errors.New("the sink is not declared any more")

// deliver tells a sink. It is told again, with the same id, where it is not known whether it was.
func (t *teller) deliver(ctx context.Context, n *Notice) (err error) {
	done := make(chan error, 1)
	go func() { done <- t.write(n) }() // sinks know no context; one that hangs is left to itself
	select {
	case err = <-done:
	case <-time.After(tells):
		err = fmt.Errorf("it has not answered within %s", tells)
	case <-ctx.Done():
		err = ctx.Err()
	}
	if errors.Is(err, errDropped) { // nobody is there to be told
		t.a.Log.Error("a notice of an alert is given up", "sink", n.Sink, "alert", n.Alert, "error", err)
		return nil
	}
	return err
}

// write writes a notice to its sink, as a job that ends with its only row.
func (t *teller) write(n *Notice) (err error) {
	defer func() {
		if x := recover(); x != nil {
			err = fmt.Errorf("a fault of Fiume: %v", x)
		}
	}()
	cat := t.a.Current()
	if cat.Sinks[n.Sink] == nil {
		return errDropped
	}
	out, err := cat.Notices(n.Sink)
	if err != nil {
		return err
	}
	o := t.a.Opener()
	dir, err := os.MkdirTemp(t.a.Dir, "notice-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }() // what is left of it is removed with the next start
	o.Spools, o.Writer = filepath.Join(dir, "spools"), "alerts of service "+t.a.Identity
	sink, err := o.OpenSink(out)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, sink.Close(err == nil)) }()
	exact, ok := sink.(flow.Exact)
	if ok {
		if err := exact.Resume(nil); err != nil {
			return err
		}
	}
	enc, err := sink.NewEncoder(out.Fields)
	if err != nil {
		return err
	}
	enc.Add(n.batch(out.Fields))
	if err := sink.Write(enc.Take()); err != nil {
		return err
	}
	if ok {
		handle, err := exact.Mark(true)
		if err != nil {
			return err
		}
		return exact.Commit(handle)
	}
	return nil
}

// batch gives a notice as a row.
func (n *Notice) batch(fields []types.Field) *column.Batch {
	text := map[string]string{"id": n.ID, "alert": n.Alert, "event": n.Event, "of": n.Of, "what": n.What, "row": string(n.Row)}
	at := map[string]time.Time{"since": n.Since, "at": n.At}
	b := &column.Batch{N: 1}
	for _, f := range fields {
		v := column.New(f.Type)
		if t, ok := at[f.Name]; ok {
			v.Append(types.Value{Kind: types.Timestamp, I: t.UnixMicro()})
		} else {
			v.Append(types.Value{Kind: types.Varchar, S: text[f.Name]})
		}
		b.Cols = append(b.Cols, v)
	}
	b.Stamp, b.Time = []int64{types.MaxTime}, []int64{n.At.UnixMicro()}
	return b
}

// recorder keeps what is to be remembered, when the catalog's database can: alerts are looked at and told while it is away.
type recorder struct {
	store catalog.Records
	log   *slog.Logger
	wake  chan struct{}

	mu     sync.Mutex
	wanted map[[2]string]*string // by kind and id; nil: to be forgotten
	notes  [][3]string           // action, object, detail
	dumb   bool                  // it could not be kept the last time
}

// want has something be kept, or forgotten.
func (r *recorder) want(kind, id string, x any) {
	var data *string
	if x != nil {
		b, err := json.Marshal(x)
		if err != nil {
			panic(err) // all of it can be written
		}
		text := string(b)
		data = &text
	}
	r.mu.Lock()
	r.wanted[[2]string{kind, id}] = data
	r.mu.Unlock()
	r.poke()
}

func (r *recorder) poke() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// note adds to the activity log.
func (r *recorder) note(alert, event string, s *Standing) {
	r.mu.Lock()
	if len(r.notes) < mostNotices {
		r.notes = append(r.notes, [3]string{"alert " + event, "alert " + alert, s.What})
	}
	r.mu.Unlock()
	r.poke()
}

// keep keeps what is wanted until the context ends, and then what is left.
func (r *recorder) keep(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			r.flush()
			return
		case <-r.wake:
		}
		if !r.flush() {
			select {
			case <-ctx.Done():
			case <-time.After(2 * time.Second):
				r.poke()
			}
		}
	}
}

// flush keeps what is wanted, and says whether it could.
func (r *recorder) flush() bool {
	for {
		r.mu.Lock()
		var key [2]string
		var data *string
		found := false
		for key, data = range r.wanted {
			found = true
			break
		}
		var note *[3]string
		if !found && len(r.notes) > 0 {
			note = &r.notes[0]
		}
		r.mu.Unlock()
		var err error
		switch {
		case found && data == nil:
			err = r.store.Unkeep(key[0], key[1])
		case found:
			err = r.store.Keep(key[0], key[1], *data)
		case note != nil:
			err = r.store.Note("fiume", note[0], base.ClipText(note[1], base.LongestName), note[2])
		default:
			return true
		}
		r.mu.Lock()
		switch {
		case err != nil:
			if !r.dumb {
				r.log.Error("what is known of alerts cannot be kept for now", "error", err)
			}
			r.dumb = true
			r.mu.Unlock()
			return false
		case found && r.wanted[key] == data:
			delete(r.wanted, key)
		case note != nil:
			r.notes = r.notes[1:]
		}
		r.dumb = false
		r.mu.Unlock()
	}
}
