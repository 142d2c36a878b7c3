package web

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"fiume/internal/connect/webclient"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
)

// heardOf is the mark of a stream of events: the last id.
type heardOf struct {
	ID string `json:"id"`
}

const (
	longestEvent = 1 << 20
	quietFor     = 10 * time.Minute // where nothing comes for so long, not even a comment, the connection is made anew; one whose other side is gone ends before
	atFirst      = 1 * time.Second
	atLast       = 30 * time.Second
)

// openEvents opens a stream of server-sent events (HTML Standard, 9.2). A connection that is lost is made again, from the last id on.
func openEvents(c *webclient.Client, scan *plan.Op) flow.Source {
	o := scan.Stream.Options
	return newFeed(scan, scan.Stream.Address, func(ctx context.Context, f *feed) {
		if f.ends { // events give no past
			f.end()
			return
		}
		e := &events{client: c, path: scan.Stream.Address, only: o.Word("event", ""), retry: atFirst}
		if f.mark != "" {
			var at heardOf
			_ = json.Unmarshal([]byte(f.mark), &at) // it was written so
			e.id = at.ID
		}
		again := e.retry
		for {
			began := time.Now()
			err := e.listen(ctx, f)
			if ctx.Err() != nil {
				return
			}
			f.tell(err)
			if time.Since(began) > time.Minute {
				again = e.retry
			}
			var rest *webclient.Resting
			if errors.As(err, &rest) {
				again = max(again, time.Until(rest.Until))
			}
			if !webclient.Wait(ctx, max(again, 10*time.Millisecond)) {
				return
			}
			again = min(max(2*again, e.retry), max(atLast, e.retry))
		}
	})
}

type events struct {
	client *webclient.Client
	path   string
	only   string
	id     string
	retry  time.Duration
}

// listen hands events over until the connection ends.
func (e *events) listen(ctx context.Context, f *feed) error {
	if err := e.client.Turn(ctx); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	h := http.Header{"Accept": {"text/event-stream"}, "Cache-Control": {"no-store"}}
	if e.id != "" {
		h.Set("Last-Event-ID", e.id)
	}
	q, err := e.client.Make(ctx, webclient.Request{Method: http.MethodGet, Path: e.path, Header: h})
	if err != nil {
		return err
	}
	watch := time.AfterFunc(e.client.Within, cancel)
	defer watch.Stop()
	got, err := e.client.HTTP.Do(q)
	if err != nil {
		return e.client.Said(err)
	}
	defer got.Body.Close()
	if got.StatusCode == http.StatusNoContent {
		return &webclient.Refusal{Code: 204, Words: e.client.Base.Host + " says that no events follow", Passes: true}
	}
	if got.StatusCode != http.StatusOK {
		return e.client.Refused(got)
	}
	if kind := got.Header.Get("Content-Type"); !bytes.HasPrefix([]byte(kind), []byte("text/event-stream")) {
		return fmt.Errorf("%s gives %q, and no events (text/event-stream)", e.client.Base.Host, kind)
	}
	f.tell(nil)
	lines := lines{in: bufio.NewReaderSize(got.Body, 64<<10)}
	first := true
	var data []byte
	var name string
	has, long := false, false
	id := e.id
	for {
		watch.Reset(quietFor)
		line, whole, err := lines.next()
		if err != nil { // an event whose end has not come is none
			if errors.Is(err, io.EOF) {
				err = errors.New("the connection has ended")
			}
			return e.client.Said(err)
		}
		if first {
			line, first = bytes.TrimPrefix(line, []byte("\xef\xbb\xbf")), false
		}
		if !whole {
			long = true
			continue
		}
		if len(line) == 0 {
			e.id = id
			if has && (e.only == "" || e.only == name || e.only == "message" && name == "") {
				if long {
					data = fmt.Appendf(nil, "\xff an event of more than %d bytes", longestEvent) // no text: it is counted as one that cannot be read
				}
				mark, _ := json.Marshal(heardOf{id})
				if !f.add([][]byte{bytes.Clone(data)}, func(int) string { return string(mark) }) {
					return ctx.Err()
				}
			}
			data, name, has, long = data[:0], "", false, false
			continue
		}
		field, value, _ := bytes.Cut(line, []byte(":"))
		value = bytes.TrimPrefix(value, []byte(" "))
		switch string(field) {
		case "data":
			if has {
				data = append(data, '\n')
			}
			has = true
			if len(data)+len(value) > longestEvent {
				long = true
				continue
			}
			data = append(data, value...)
		case "event":
			name = string(value)
		case "id":
			if !bytes.ContainsRune(value, 0) {
				id = string(value)
			}
		case "retry":
			if ms, err := strconv.ParseInt(string(value), 10, 32); err == nil && ms >= 0 {
				e.retry = min(time.Duration(ms)*time.Millisecond, webclient.LongestOff)
			}
		}
	}
}

// lines are those of a stream of events. They end with a line feed, a carriage return, or both.
type lines struct {
	in       *bufio.Reader
	returned bool // the last one has ended with a carriage return: a line feed behind it belongs to it
}

// next reads a line without its end. One that is too long is passed over, and not whole.
func (l *lines) next() (line []byte, whole bool, err error) {
	whole = true
	for {
		c, err := l.in.ReadByte()
		if err != nil {
			return nil, false, err
		}
		after := l.returned
		l.returned = c == '\r'
		switch {
		case c == '\n' && after && len(line) == 0:
			continue
		case c == '\n', c == '\r':
			return line, whole, nil
		case len(line) > longestEvent:
			line, whole = nil, false
		}
		if whole {
			line = append(line, c)
		}
	}
}
