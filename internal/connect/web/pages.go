package web

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/contract"
	"fiume/internal/connect/recorded"
	"fiume/internal/connect/webclient"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"
)

// page is what an address gives: rows, over several answers where they say which one is next (RFC 8288, rel="next").
type page struct {
	client *webclient.Client
	path   string
	format string
	at     string // where in JSON the rows are
	last   string // what {last} stands for
	tag    string // of the last answer, so that nothing comes where nothing changed
	since  string
}

const (
	mostPages = 10_000                   // that follow each other
	mostBytes = 4 * webclient.MostAnswer // of all of them
)

// all reads the rows of a page. Where it has not changed since it was read last, it gives errSame.
func (p *page) all(ctx context.Context) (rows [][]byte, err error) {
	path := filled(p.path, func(string) string { return p.last })
	var tag, since string
	seen, bytes := map[string]bool{}, 0
	for n := 0; ; n++ {
		h := http.Header{"Accept": {"application/json, application/x-ndjson, text/csv;q=0.9, */*;q=0.1"}}
		if n == 0 && p.tag != "" {
			h.Set("If-None-Match", p.tag)
		}
		if n == 0 && p.since != "" {
			h.Set("If-Modified-Since", p.since)
		}
		got, err := p.client.Insist(ctx, webclient.Request{Method: http.MethodGet, Path: path, Header: h})
		if err != nil {
			return nil, err
		}
		if got.Code == http.StatusNotModified {
			return nil, errSame
		}
		if n == 0 {
			tag, since = got.Header.Get("ETag"), got.Header.Get("Last-Modified")
		}
		if bytes += len(got.Body); bytes > mostBytes {
			return nil, fmt.Errorf("%s: the pages that follow each other have more than %d bytes; ask for less with {last} and NEW BY", p.client.Base.Host, mostBytes)
		}
		values, err := p.rows(got.Body)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.client.Base.Host, err)
		}
		rows = append(rows, values...)
		next, err := p.next(got, path)
		if err != nil {
			return nil, err
		}
		if next == "" || seen[next] || n > mostPages {
			p.tag, p.since = tag, since
			return rows, nil
		}
		seen[next] = true
		path = next
	}
}

var errSame = errors.New("the page is as it was")

// rows cuts an answer.
func (p *page) rows(body []byte) (rows [][]byte, err error) {
	body = bytes.TrimSpace(bytes.TrimPrefix(body, []byte("\xef\xbb\xbf")))
	if len(body) == 0 {
		return nil, nil
	}
	if p.format == "json" && (p.at != "" || body[0] == '[' || json.Valid(body)) {
		if body, err = inner(body, steps(p.at)); err != nil {
			return nil, err
		}
		if string(body) == "null" {
			return nil, nil
		}
		return elements(body)
	}
	for line := range bytes.Lines(body) {
		if line = bytes.TrimRight(line, "\r\n"); len(line) > 0 {
			rows = append(rows, line)
		}
	}
	return rows, nil
}

// next is the address of the answer that follows, behind the endpoint's. It has to be of the same service.
func (p *page) next(got *webclient.Answer, path string) (string, error) {
	for _, line := range got.Header.Values("Link") {
		for _, link := range strings.Split(line, ",") {
			target, params, _ := strings.Cut(strings.TrimSpace(link), ";")
			if !strings.HasPrefix(target, "<") || !strings.HasSuffix(target, ">") {
				continue
			}
			if !slices.ContainsFunc(strings.Split(params, ";"), func(x string) bool {
				x = strings.ReplaceAll(strings.TrimSpace(x), `"`, "")
				return strings.EqualFold(x, "rel=next")
			}) {
				continue
			}
			from, err := url.Parse(p.client.Address(path))
			if err != nil {
				return "", err
			}
			to, err := from.Parse(target[1 : len(target)-1])
			base := p.client.Address("")
			if err != nil || !strings.HasPrefix(to.String(), strings.TrimSuffix(base, "/")) {
				return "", fmt.Errorf("%s: the next page is said to be elsewhere: %s", p.client.Base.Host, target)
			}
			return strings.TrimPrefix(to.String(), strings.TrimSuffix(base, "/")), nil
		}
	}
	return "", nil
}

// sampleOf makes a sample of the first rows of a page.
func sampleOf(w contract.Wanted, rows [][]byte) *contract.Sample {
	out := &contract.Sample{Origin: "the page " + w.Address, Name: "page", Format: w.Options.Word("format", "")}
	bytes := 0
	for i, r := range rows {
		if i >= w.Limit && w.Limit > 0 || w.Bytes > 0 && bytes > w.Bytes {
			break
		}
		bytes += len(r)
		out.Messages = append(out.Messages, recorded.Message{Partition: 0, Offset: int64(i), At: time.Now().UnixMicro(), Value: r})
	}
	return out
}

// feed is messages that a goroutine brings, in order: one split, whose positions count them. With each message stands from where reading would go on behind it, which a
// checkpoint keeps.
type feed struct {
	scan  *plan.Op
	name  string
	ends  bool // it gives what is there, and ends
	bring func(ctx context.Context, f *feed)

	ctx  context.Context
	stop context.CancelFunc
	done sync.WaitGroup

	mu    sync.Mutex
	room  *sync.Cond
	wake  func()
	begun bool
	over  bool // nothing follows
	waits []brought
	bytes int
	next  int64
	marks []marked // of what was handed out and may not be in a checkpoint
	mark  string   // where reading began
	heard time.Time
	err   error // of asking last
}

type brought struct {
	value []byte
	mark  string
}

type marked struct {
	pos  int64
	mark string
}

const (
	ahead      = 8 << 20 // bytes that are read before somebody wants them
	pieceBytes = 1 << 20
)

func newFeed(scan *plan.Op, name string, bring func(ctx context.Context, f *feed)) *feed {
	f := &feed{scan: scan, name: name, bring: bring, ends: scan.Until.Kind != plan.Default}
	f.room = sync.NewCond(&f.mu)
	f.ctx, f.stop = context.WithCancel(context.Background())
	return f
}

// Splits implements flow.Source.
func (f *feed) Splits() []flow.Split { return []flow.Split{f} }

// OnData implements flow.Source.
func (f *feed) OnData(wake func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.wake = wake
}

// Retry implements flow.Retrier.
func (f *feed) Retry(err error) bool { return true }

func (f *feed) Name() string            { return f.name }
func (f *feed) Place(pos int64) string  { return fmt.Sprintf("%s row %d", f.name, pos+1) }
func (f *feed) Endless() bool           { return !f.ends }
func (f *feed) Frame(*flow.Piece) error { return nil }

// Position implements flow.Split.
func (f *feed) Position() int64 { return f.next }

// Heard implements flow.Hearing.
func (f *feed) Heard() time.Time {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.heard
}

// Resume implements flow.Split.
func (f *feed) Resume(pos int64) error { return f.ResumeAt("", pos) }

// ResumeAt implements flow.Marked.
func (f *feed) ResumeAt(mark string, pos int64) error {
	f.next, f.mark = pos, mark
	return nil
}

// Mark implements flow.Marked.
func (f *feed) Mark(pos int64) string {
	f.mu.Lock()
	defer f.mu.Unlock()
	for len(f.marks) > 0 && f.marks[0].pos <= pos {
		f.mark = f.marks[0].mark
		f.marks = f.marks[1:]
	}
	return f.mark
}

// NewDecoder implements flow.Split.
func (f *feed) NewDecoder() (flow.Decoder, error) {
	return (&format.Reading{Stream: f.scan.Stream, Used: f.scan.Used}).NewDecoder(nil)
}

// add hands messages over. It waits while nobody wants what is there, and says whether to go on.
func (f *feed) add(values [][]byte, mark func(i int) string) bool {
	for i, v := range values {
		f.mu.Lock()
		for f.bytes > ahead && f.ctx.Err() == nil {
			f.room.Wait()
		}
		if f.ctx.Err() != nil {
			f.mu.Unlock()
			return false
		}
		f.waits = append(f.waits, brought{v, mark(i)})
		f.bytes += len(v) + 80
		wake := f.wake
		first := len(f.waits) == 1
		f.mu.Unlock()
		if first && wake != nil {
			wake()
		}
	}
	return true
}

// tell notes how asking went: nil where it went well.
func (f *feed) tell(err error) {
	f.mu.Lock()
	f.err = err
	if err == nil {
		f.heard = time.Now()
	}
	wake := f.wake
	f.mu.Unlock()
	if wake != nil {
		wake()
	}
}

// end says that nothing follows.
func (f *feed) end() {
	f.mu.Lock()
	f.over = true
	f.mu.Unlock()
	f.tell(nil)
}

// Next implements flow.Split.
func (f *feed) Next(p *flow.Piece) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !f.begun {
		f.begun = true
		f.done.Go(func() { f.bring(f.ctx, f) })
	}
	p.Data, p.Messages, p.Base = p.Data[:0], p.Messages[:0], f.next
	if len(f.waits) == 0 {
		switch {
		case f.over:
			return io.EOF
		case f.err != nil: // it is told, while it is tried again
			return f.err
		}
		return flow.ErrNothing
	}
	now := time.Now().UnixMicro()
	n := 0
	for _, x := range f.waits {
		if len(p.Data) > pieceBytes {
			break
		}
		p.Messages = append(p.Messages, flow.Message{Off: uint32(len(p.Data)), Len: uint32(len(x.value)), Pos: f.next, At: now})
		p.Data = append(p.Data, x.value...)
		f.bytes -= len(x.value) + 80
		f.next++
		n++
	}
	f.marks = append(f.marks, marked{f.next, f.waits[n-1].mark})
	clear(f.waits[:n])
	if f.waits = f.waits[n:]; len(f.waits) == 0 {
		f.waits = nil
	}
	p.Data = slices.Grow(p.Data, flow.Pad)
	p.Next = f.next
	f.room.Broadcast()
	return nil
}

// Close implements flow.Source and flow.Split.
func (f *feed) Close() error {
	f.stop()
	f.mu.Lock()
	f.room.Broadcast()
	f.mu.Unlock()
	f.done.Wait()
	return nil
}

// seen is the mark of a stream over a page: the last value of NEW BY, or how many rows of which page were taken.
type seen struct {
	Last string `json:"last,omitempty"`
	Tag  string `json:"tag,omitempty"`
	Rows int    `json:"rows,omitempty"`
}

// soonAgain is when something is asked again that failed, where it would not be asked before.
const soonAgain = 5 * time.Second

// pause is how long to wait for the next look.
func pause(every time.Duration, err error) time.Duration {
	var rest *webclient.Resting
	switch {
	case errors.As(err, &rest):
		return max(time.Until(rest.Until), 10*time.Millisecond)
	case err != nil:
		return min(every, soonAgain)
	}
	return every
}

// openPages opens a stream over a page that is read again and again.
func openPages(c *webclient.Client, scan *plan.Op) flow.Source {
	o := scan.Stream.Options
	every := time.Duration(o.Duration("look every", 10_000_000)) * time.Microsecond
	by := o.Word("new by", "")
	return newFeed(scan, scan.Stream.Address, func(ctx context.Context, f *feed) {
		p := &page{client: c, path: scan.Stream.Address, at: o.Word("rows at", ""), format: o.Word("format", "json"), last: o.Word("begins", "")}
		var at seen
		if f.mark != "" {
			_ = json.Unmarshal([]byte(f.mark), &at) // it was written so
			if by != "" {
				p.last = at.Last
			}
		}
		for {
			rows, err := p.all(ctx)
			if ctx.Err() != nil {
				return
			}
			if errors.Is(err, errSame) {
				rows, err = nil, nil
			}
			before := 0
			var values []string
			switch {
			case by != "":
				var odd error
				rows, values, odd = fresh(rows, by, p.last)
				err = cmp.Or(err, odd)
			case at.Tag != "" && at.Tag == p.tag: // what a run before this one has taken of the page
				before = min(at.Rows, len(rows))
				rows = rows[before:]
			}
			at = seen{}
			f.tell(err)
			if !f.add(rows, func(i int) string {
				m := seen{Tag: p.tag, Rows: before + i + 1}
				if by != "" {
					m = seen{Last: values[i]}
				}
				b, _ := json.Marshal(m)
				return string(b)
			}) {
				return
			}
			if len(values) > 0 {
				p.last = values[len(values)-1]
			}
			if f.ends && err == nil {
				f.end()
				return
			}
			if !webclient.Wait(ctx, pause(every, err)) {
				return
			}
		}
	})
}

// fresh gives the rows beyond the last one, in order, and the value of each.
func fresh(rows [][]byte, by, last string) (out [][]byte, values []string, err error) {
	type one struct {
		row   []byte
		value string
	}
	var all []one
	without := 0
	for _, r := range rows {
		var o map[string]json.RawMessage
		if json.Unmarshal(r, &o) != nil || o[by] == nil || string(o[by]) == "null" {
			without++
			continue
		}
		v := string(o[by])
		var text string
		if json.Unmarshal(o[by], &text) == nil {
			v = text
		}
		if last == "" || compare(v, last) > 0 {
			all = append(all, one{r, v})
		}
	}
	if without > 0 {
		err = fmt.Errorf("%d rows of the page have no '%s', by which it is known what is new", without, by)
	}
	slices.SortStableFunc(all, func(a, b one) int { return compare(a.value, b.value) })
	for _, x := range all {
		out, values = append(out, x.row), append(values, x.value)
	}
	return out, values, err
}

// compare orders values: whole numbers by how large they are, others as numbers where both are some, else as texts.
func compare(a, b string) int {
	if x, err := strconv.ParseInt(a, 10, 64); err == nil {
		if y, err := strconv.ParseInt(b, 10, 64); err == nil {
			return cmp.Compare(x, y)
		}
	}
	if x, err := strconv.ParseFloat(a, 64); err == nil {
		if y, err := strconv.ParseFloat(b, 64); err == nil {
			return cmp.Compare(x, y)
		}
	}
	return strings.Compare(a, b)
}
