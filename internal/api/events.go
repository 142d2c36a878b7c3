package api

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"sync"
	"time"

	"fiume/internal/core/flow"
	"fiume/internal/service/base"
	"fiume/internal/service/boards"
	"fiume/internal/service/questions"

	"github.com/danielgtaylor/huma/v2"
)

// QueryEnd is the last event of a query.
type QueryEnd struct {
	Rows    int64              `json:"rows"`
	Status  flow.Status        `json:"status"`
	Samples []flow.NamedSample `json:"samples"`
}

// events writes server-sent events.
type events struct {
	mu  sync.Mutex
	w   io.Writer
	buf []byte // for the event at hand
}

// mostKept is how many bytes of a buffer are kept for the next event.
const mostKept = 1 << 20

func begin(ctx huma.Context) *events {
	ctx.SetHeader("Content-Type", "text/event-stream")
	ctx.SetHeader("Cache-Control", "no-store")
	return &events{w: ctx.BodyWriter()}
}

func (e *events) raw(name string, data []byte) error {
	return e.event(name, func(dst []byte) []byte { return append(dst, data...) })
}

// event writes an event whose data are appended by write.
func (e *events) event(name string, write func(dst []byte) []byte) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	data := append(append(append(e.buf[:0], "event: "...), name...), "\ndata: "...)
	data = append(write(data), "\n\n"...)
	if e.buf = data; cap(data) > mostKept {
		e.buf = nil
	}
	if w, ok := e.w.(http.ResponseWriter); ok { // who takes nothing for long is given up
		c := http.NewResponseController(w)
		_ = c.SetWriteDeadline(time.Now().Add(mayPause))
		defer func() { _ = c.SetWriteDeadline(time.Time{}) }() // over HTTP/2 it would end a stream that only has nothing to say
	}
	if _, err := e.w.Write(data); err != nil {
		return err
	}
	if f, ok := e.w.(http.Flusher); ok {
		f.Flush()
	}
	return nil
}

func (e *events) send(name string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return e.raw(name, b)
}

// either is a context that ends with the request, with the service, and when it is cancelled.
func (h *handler) either(ctx context.Context) (context.Context, context.CancelFunc) {
	out, cancel := context.WithCancel(ctx)
	stop := context.AfterFunc(h.ctx, cancel)
	return out, func() { stop(); cancel() }
}

// rowsInterval is how long rows of a query are gathered before they are sent.
const rowsInterval = 25 * time.Millisecond

// unsentLimit bounds what waits for a slow reader; a query that is ahead of it waits.
const unsentLimit = 1 << 20

func (h *handler) query(ctx context.Context, in *struct{ Body ScriptRequest }) (*huma.StreamResponse, error) {
	q, err := h.s.Questions.Query(ctx, in.Body.script())
	if err != nil {
		return nil, problem(err)
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		ctx, cancel := h.either(hc.Context())
		defer cancel()
		ev := begin(hc)
		if ev.send("columns", q.Columns) != nil {
			return
		}
		var mu sync.Mutex
		rows := []byte{'['}
		count := int64(0)
		flush := func() error {
			mu.Lock()
			defer mu.Unlock()
			if len(rows) == 1 {
				return nil
			}
			err := ev.raw("rows", append(rows, ']'))
			rows = append(rows[:0], '[')
			return err
		}
		done := make(chan struct{})
		go func() { // sends what has gathered, and notices that the reader has gone
			defer close(done)
			t := time.NewTicker(rowsInterval)
			defer t.Stop()
			for beat := 0; ; beat++ {
				select {
				case <-ctx.Done():
					return
				case <-t.C:
					if flush() != nil || beat%200 == 199 && ev.raw("beat", []byte("{}")) != nil {
						cancel()
						return
					}
				}
			}
		}()
		status, samples, err := q.Run(ctx, func(row []byte) error {
			mu.Lock()
			if len(rows) > 1 {
				rows = append(rows, ',')
			}
			rows = append(rows, row...)
			count++
			full := len(rows) > unsentLimit
			mu.Unlock()
			if full {
				return flush()
			}
			return nil
		}, func(a questions.QueryAside) { _ = ev.send("aside", a) })
		cancel()
		<-done
		if err == nil {
			err = flush()
		}
		if err != nil {
			var p *Problem
			if errors.As(problem(err), &p) {
				_ = ev.send("problem", p)
			}
			return
		}
		_ = ev.send("end", QueryEnd{count, status, samples})
	}}, nil
}

// liveInterval is how often the state of a job is sent.
const liveInterval = time.Second

func (h *handler) live(ctx context.Context, in *Named) (*huma.StreamResponse, error) {
	if _, err := h.job(ctx, in.Name); err != nil {
		return nil, problem(err)
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		ctx, cancel := h.either(hc.Context())
		defer cancel()
		ev := begin(hc)
		t := time.NewTicker(liveInterval)
		defer t.Stop()
		for {
			d, err := h.job(ctx, in.Name)
			if errors.Is(err, base.ErrNotFound) {
				_ = ev.send("problem", problem(err))
				return
			}
			if ev.send("job", d) != nil {
				return
			}
			select {
			case <-ctx.Done():
				return
			case <-t.C:
			}
		}
	}}, nil
}

// board tells what a board shows: all rows of each panel, and then what changes.
func (h *handler) board(ctx context.Context, in *struct {
	Named
	Looking
}) (*huma.StreamResponse, error) {
	view, err := in.view(ctx)
	if err != nil {
		return nil, problem(err)
	}
	if view.Draft == "" {
		if _, err := h.s.Boards.Get(in.Name); err != nil {
			return nil, problem(err)
		}
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		ctx, cancel := h.either(hc.Context())
		defer cancel()
		ev := begin(hc)
		var beating sync.WaitGroup
		defer beating.Wait()
		defer cancel()
		beating.Go(func() { // notices that the reader has gone, where nothing changes
			t := time.NewTicker(5 * time.Second)
			defer t.Stop()
			for {
				select {
				case <-ctx.Done():
					return
				case <-t.C:
					if ev.raw("beat", []byte("{}")) != nil {
						cancel()
						return
					}
				}
			}
		})
		for {
			err := h.s.Boards.Watch(ctx, in.Name, view, func(b *boards.Board) error { return ev.send("board", b) }, func(u boards.Update) error { return ev.event("update", u.AppendJSON) })
			switch {
			case errors.Is(err, boards.ErrReplaced):
			case err != nil:
				_ = ev.send("problem", problem(err))
				return
			default:
				return
			}
		}
	}}, nil
}
