package api

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/connect/contract"
	"fiume/internal/core/sql"
	"fiume/internal/core/types"
	"fiume/internal/format"
	"fiume/internal/format/container"
	"fiume/internal/service/base"
	"fiume/internal/service/declare"
	"fiume/internal/service/jobs"
	"fiume/internal/service/questions"
	"fiume/internal/service/samples"
	"fiume/internal/service/topics"

	"github.com/danielgtaylor/huma/v2"
)

// Page is a part of a list.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty" doc:"where there is more: pass it as after"`
}

// Paging asks for a part of a list.
type Paging struct {
	Limit int    `query:"limit" default:"200" minimum:"1" maximum:"5000" doc:"how many at most"`
	After string `query:"after" doc:"the next of the page before"`
}

// paged gives a part of a list whose elements have a key of their own; it goes on behind the one with the key.
func paged[T any](all []T, p Paging, key func(T) string) (*body[Page[T]], error) {
	from := 0
	if p.After != "" {
		byKey := func(a, b T) int { return strings.Compare(key(a), key(b)) }
		if from = slices.IndexFunc(all, func(x T) bool { return key(x) == p.After }) + 1; from == 0 && slices.IsSortedFunc(all, byKey) {
			if from = slices.IndexFunc(all, func(x T) bool { return key(x) > p.After }); from < 0 {
				from = len(all)
			}
		} else if from == 0 {
			return nil, &Problem{Status: http.StatusGone, Title: http.StatusText(http.StatusGone), Detail: fmt.Sprintf("%q, which the page before ended with, is not there any more; begin again at the first page", p.After)}
		}
	}
	out := Page[T]{Items: append([]T{}, all[from:min(len(all), from+p.Limit)]...)}
	if end := from + len(out.Items); end < len(all) {
		out.Next = key(all[end-1])
	}
	return answer(out, nil)
}

// listed is paged for a list that could fail.
func listed[T any](all []T, err error, p Paging, key func(T) string) (*body[Page[T]], error) {
	if err != nil {
		return nil, problem(err)
	}
	return paged(all, p, key)
}

// TryBody is a text to try; see service.TryRequest.
type TryBody = questions.TryRequest

// KeepTryRequest asks for a test of a text that was tried.
type KeepTryRequest struct {
	questions.TryRequest
	Name string `json:"name" doc:"of the test"`
}

// FileRequest asks for a file of rows.
type FileRequest struct {
	Format  string            `json:"format" enum:"csv,json,parquet"`
	Columns []base.Column     `json:"columns"`
	Rows    []json.RawMessage `json:"rows"`
}

// WhyRequest asks where a row comes from.
type WhyRequest struct {
	Sink string          `json:"sink"`
	Row  json.RawMessage `json:"row" doc:"an object with the row's columns, or some of them"`
}

// SendRequest is a mended message.
type SendRequest struct {
	Value    string `json:"value"`
	OnceMore bool   `json:"once_more,omitempty" doc:"send one that was sent before once more"`
}

// Formatted is a text in its layout.
type Formatted struct {
	SQL string `json:"sql"`
}

// attachment answers with a file.
func attachment(name, kind string, data []byte) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", kind)
		hc.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
		_, _ = hc.BodyWriter().Write(data) // who has gone does not want it
	}}
}

var fileKinds = map[string]string{"csv": "text/csv; charset=utf-8", "json": "application/x-ndjson", "parquet": "application/vnd.apache.parquet"}

// rowsFile makes a file of rows.
func rowsFile(r FileRequest) (*huma.StreamResponse, error) {
	var data []byte
	var err error
	switch r.Format {
	case "csv":
		var names []string
		for _, c := range r.Columns {
			names = append(names, c.Name)
		}
		data, err = container.WriteCSV(names, r.Rows)
	case "parquet":
		var fields []types.Field
		if fields, err = declare.FieldsOf(r.Columns); err == nil {
			data, err = format.ParquetOf(fields, r.Rows)
		}
	default:
		for _, row := range r.Rows {
			data = append(append(data, row...), '\n')
		}
	}
	if err != nil {
		return nil, &Problem{Status: http.StatusBadRequest, Title: "Bad Request", Detail: err.Error()}
	}
	return attachment("rows."+map[string]string{"csv": "csv", "parquet": "parquet"}[r.Format]+map[bool]string{true: "ndjson"}[r.Format == "json"], fileKinds[r.Format], data), nil
}

// looks are the operations for looking, trying and finding out.
func (h *handler) looks(a huma.API, op func(id, method, path, summary, tag string) huma.Operation) {
	stream := func(o huma.Operation, about string) huma.Operation {
		o.Description = about
		o.Responses = map[string]*huma.Response{"200": {Description: "an event stream", Content: map[string]*huma.MediaType{"text/event-stream": {}}}}
		return o
	}
	file := func(o huma.Operation) huma.Operation {
		o.Responses = map[string]*huma.Response{"200": {Description: "a file", Content: map[string]*huma.MediaType{"application/octet-stream": {}}}}
		return o
	}
	huma.Register(a, op("words", "GET", "/api/words", "Keywords, names with their columns, and texts to begin from", "sql"),
		func(ctx context.Context, _ *struct{}) (*body[*declare.Words], error) {
			return answer(h.s.Definitions.Words(ctx), nil)
		})
	huma.Register(a, op("patterns", "GET", "/api/patterns", "Texts to begin from, over a stream and columns that are chosen", "sql"),
		func(ctx context.Context, in *struct {
			Stream string `query:"stream" doc:"that they are made over; one that suits them where left out"`
			Key    string `query:"key" doc:"a column of it, which tells things apart"`
			Number string `query:"number" doc:"a column of it, which is measured"`
			With   string `query:"with" doc:"another stream, or a table, that it is joined with"`
		}) (*body[*declare.Patterns], error) {
			return answer(h.s.Definitions.Patterns(ctx, declare.PatternChoice{Stream: in.Stream, Key: in.Key, Number: in.Number, With: in.With}))
		})
	huma.Register(a, op("check", "POST", "/api/check", "Find the errors of a text, and say how its queries and jobs would run", "sql"),
		func(ctx context.Context, in *struct{ Body ScriptRequest }) (*body[*declare.Checked], error) {
			return answer(h.s.Definitions.Check(ctx, in.Body.script()), nil)
		})
	draw := op("draw", "POST", "/api/draw", "A job as a text and as a drawing", "sql")
	draw.Description = "Takes a text with a job or a query, or its drawing, and gives both: the text laid out, and cut into steps, routes and clauses that can be changed by hand. Nothing is kept."
	huma.Register(a, draw,
		func(ctx context.Context, in *struct {
			Body struct {
				SQL     string       `json:"sql,omitempty" doc:"the text; or"`
				Drawing *sql.Drawing `json:"drawing,omitempty" doc:"the drawing"`
			}
		}) (*body[*declare.Drawn], error) {
			return answer(h.s.Definitions.Draw(ctx, in.Body.SQL, in.Body.Drawing))
		})
	huma.Register(a, op("format", "POST", "/api/format", "Lay a text out", "sql"),
		func(ctx context.Context, in *struct{ Body ScriptRequest }) (*body[Formatted], error) {
			text, err := h.s.Definitions.Formatted(in.Body.script())
			return answer(Formatted{text}, err)
		})
	huma.Register(a, large(op("try", "POST", "/api/try", "Run a text over samples and what streams hold, to the end, and keep nothing", "sql")),
		func(ctx context.Context, in *struct{ Body TryBody }) (*body[*questions.TryResult], error) {
			return answer(h.s.Questions.Try(ctx, in.Body))
		})
	huma.Register(a, large(file(op("keep-try", "POST", "/api/try/test", "Make a test of a text that was tried: a ZIP file of a directory for fiume test", "sql"))),
		func(ctx context.Context, in *struct{ Body KeepTryRequest }) (*huma.StreamResponse, error) {
			data, err := h.s.Questions.KeepTry(ctx, in.Body.TryRequest, in.Body.Name)
			if err != nil {
				return nil, problem(err)
			}
			return attachment(cmp.Or(in.Body.Name, "tried")+".zip", "application/zip", data), nil
		})
	huma.Register(a, large(file(op("file", "POST", "/api/file", "Make a file of rows", "sql"))),
		func(ctx context.Context, in *struct{ Body FileRequest }) (*huma.StreamResponse, error) {
			return rowsFile(in.Body)
		})

	huma.Register(a, op("samples", "GET", "/api/samples", "Samples, the newest first", "samples"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[samples.SampleInfo]], error) {
			all, err := h.s.Samples.List(ctx)
			return listed(all, err, in.Paging, func(x samples.SampleInfo) string { return fmt.Sprint(x.ID) })
		})
	huma.Register(a, large(op("keep-sample", "POST", "/api/samples", "Keep a sample: an uploaded file, messages of a topic, a file, or a table of a database", "samples")),
		func(ctx context.Context, in *struct {
			Acting
			Body samples.SampleRequest
		}) (*body[*samples.SampleDetail], error) {
			return answer(h.s.Samples.Keep(ctx, by(ctx), in.Body))
		})
	huma.Register(a, op("sample", "GET", "/api/samples/{id}", "A sample with its first messages", "samples"),
		func(ctx context.Context, in *struct {
			ID uint `path:"id"`
		}) (*body[*samples.SampleDetail], error) {
			return answer(h.s.Samples.Get(ctx, in.ID))
		})
	huma.Register(a, op("drop-sample", "DELETE", "/api/samples/{id}", "Forget a sample", "samples"),
		func(ctx context.Context, in *struct {
			ID uint `path:"id"`
			Acting
		}) (*struct{}, error) {
			return nil, problem(h.s.Samples.Drop(ctx, by(ctx), in.ID))
		})
	huma.Register(a, large(op("propose", "POST", "/api/propose", "Propose a declaration for what a sample holds", "samples")),
		func(ctx context.Context, in *struct{ Body samples.SampleRequest }) (*body[*samples.Proposal], error) {
			return answer(h.s.Samples.Propose(ctx, in.Body))
		})
	huma.Register(a, op("drift", "GET", "/api/streams/{name}/drift", "How the newest messages of a stream differ from its declaration", "samples"),
		func(ctx context.Context, in *Named) (*body[*samples.Drift], error) {
			return answer(h.s.Samples.Drift(ctx, in.Name))
		})
	huma.Register(a, op("drifts", "GET", "/api/drifts", "The streams whose messages were last seen to differ", "samples"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[samples.Drift]], error) {
			return listed(visible(ctx, h.s.Samples.Drifts(), sql.KindStream, func(x samples.Drift) string { return x.Stream }), nil, in.Paging, func(x samples.Drift) string { return x.Stream })
		})
	huma.Register(a, op("rows", "GET", "/api/definitions/{name}/rows", "Rows of a stream, table or view, or those that a sink holds: of one over a topic the newest, of others the first", "sql"),
		func(ctx context.Context, in *struct {
			Named
			Limit int `query:"limit" default:"20" minimum:"1" maximum:"10000"`
		}) (*body[*questions.TryResult], error) {
			return answer(h.s.Questions.RowsOf(ctx, in.Name, in.Limit))
		})
	huma.Register(a, op("test-connections", "POST", "/api/connections", "Test sources, sinks and endpoints: those of a text, or those of given names, or all", "service"),
		func(ctx context.Context, in *struct {
			Body struct {
				SQL    string            `json:"sql,omitempty"`
				Params map[string]string `json:"params,omitempty"`
				Names  []string          `json:"names,omitempty"`
			}
		}) (*body[[]questions.Connection], error) {
			if in.Body.SQL != "" {
				return answer(h.s.Questions.ConnectionsOf(ctx, declare.Script{SQL: in.Body.SQL, Params: in.Body.Params}))
			}
			return answer(h.s.Questions.Connections(ctx, in.Body.Names))
		})

	huma.Register(a, op("look", "GET", "/api/look", "What lies behind an endpoint, or in the directories for files: files, buckets, tables with their columns, partitions and snapshots", "service"),
		func(ctx context.Context, in *struct {
			Via     string `query:"via" doc:"an endpoint; without one, the directories for files"`
			Address string `query:"address" doc:"a directory, a file, a bucket or a table; without one, the top"`
		}) (*body[*contract.Browsed], error) {
			return answer(h.s.Samples.Browse(ctx, in.Via, in.Address))
		})

	huma.Register(a, op("history", "GET", "/api/jobs/{name}/history", "What a job did over the last minutes, hours or days", "jobs"),
		func(ctx context.Context, in *struct {
			Named
			Minutes int `query:"minutes" default:"15" minimum:"1" maximum:"10080"`
		}) (*body[*jobs.History], error) {
			return answer(h.s.Jobs.History(in.Name, time.Duration(in.Minutes)*time.Minute))
		})
	type AsideQuery struct {
		Named
		Kind   string `query:"kind" enum:"late,rejected,"`
		Step   string `query:"step"`
		Class  string `query:"class" doc:"a reason without its values"`
		Text   string `query:"text" doc:"what stands in the row, the reason or the origin"`
		Limit  int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
		Before string `query:"before" doc:"the next of the page before"`
	}
	looking := func(in *AsideQuery) (catalog.Looking, error) {
		before := uint64(0)
		if in.Before != "" {
			var err error
			if before, err = strconv.ParseUint(in.Before, 10, 64); err != nil {
				return catalog.Looking{}, &Problem{Status: 400, Title: "Bad Request", Detail: "before is no number: pass the next of the page before"}
			}
		}
		return catalog.Looking{Job: in.Name, Kind: in.Kind, Step: in.Step, Class: in.Class, Text: in.Text, Limit: in.Limit, Before: uint(before)}, nil
	}
	huma.Register(a, op("set-aside", "GET", "/api/jobs/{name}/aside", "Late and rejected rows of a job, and how many there are by reason", "jobs"),
		func(ctx context.Context, in *AsideQuery) (*body[*jobs.Aside], error) {
			l, err := looking(in)
			if err != nil {
				return nil, err
			}
			return answer(h.s.SetAside(ctx, l))
		})
	huma.Register(a, file(op("set-aside-file", "GET", "/api/jobs/{name}/aside/file", "Late and rejected rows of a job as a file", "jobs")),
		func(ctx context.Context, in *struct {
			AsideQuery
			Format string `query:"format" default:"csv" enum:"csv,json,parquet"`
		}) (*huma.StreamResponse, error) {
			l, err := looking(&in.AsideQuery)
			if err != nil {
				return nil, err
			}
			r := FileRequest{Format: in.Format}
			for _, n := range []string{"kind", "at", "step", "reason", "origin", "event_time", "late_by", "row", "sent_at", "sent_by"} {
				r.Columns = append(r.Columns, base.Column{Name: n, Type: "VARCHAR"})
			}
			for l.Limit = 1000; ; {
				x, err := h.s.SetAside(ctx, l)
				if err != nil {
					return nil, problem(err)
				}
				for _, row := range x.Rows {
					cells := map[string]any{"kind": row.Kind, "at": row.At, "step": row.Step, "reason": row.Reason, "origin": row.Origin, "row": row.Row, "sent_at": row.SentAt, "sent_by": row.SentBy}
					if row.EventTime != nil {
						cells["event_time"] = string(types.AppendTimestamp(nil, *row.EventTime))
					}
					if row.LateBy > 0 {
						cells["late_by"] = (time.Duration(row.LateBy) * time.Microsecond).String()
					}
					b, err := json.Marshal(cells)
					if err != nil {
						return nil, problem(err)
					}
					r.Rows = append(r.Rows, b)
				}
				if x.Next == "" {
					return rowsFile(r)
				}
				l.Before = x.Rows[len(x.Rows)-1].ID
			}
		})
	huma.Register(a, op("send-again", "POST", "/api/jobs/{name}/aside/{id}/send", "Write a mended message to the topic that a rejected row came from", "jobs"),
		func(ctx context.Context, in *struct {
			Change
			ID   uint `path:"id"`
			Body SendRequest
		}) (*body[*jobs.SentAgain], error) {
			return answer(h.s.Jobs.SendAgain(ctx, by(ctx), in.Name, in.ID, in.Body.Value, !in.Body.OnceMore))
		})
	huma.Register(a, op("why", "POST", "/api/jobs/{name}/why", "Which messages made a row of a sink", "jobs"),
		func(ctx context.Context, in *struct {
			Named
			Body WhyRequest
		}) (*body[*questions.Why], error) {
			return answer(h.s.Questions.Why(ctx, in.Name, in.Body.Sink, in.Body.Row))
		})
	huma.Register(a, op("became", "GET", "/api/jobs/{name}/became", "What became of a message in a job", "jobs"),
		func(ctx context.Context, in *struct {
			Named
			Topic     string `query:"topic" required:"true"`
			Partition int    `query:"partition" minimum:"0"`
			Offset    int64  `query:"offset" minimum:"0"`
		}) (*body[*questions.Became], error) {
			return answer(h.s.Questions.Became(ctx, in.Name, in.Topic, in.Partition, in.Offset))
		})
	huma.Register(a, stream(op("follow-topic", "GET", "/api/topics/{name}/follow", "Messages of a topic as they come", "topics"),
		"Answers with server-sent events: `messages` with the messages and how many were left out because they came too fast to be looked at."),
		func(ctx context.Context, in *struct {
			Named
			Partition int    `query:"partition" default:"-1" doc:"-1: all"`
			Key       string `query:"key"`
			Text      string `query:"text"`
		}) (*huma.StreamResponse, error) {
			if _, err := h.s.Topics.Get(in.Name); err != nil {
				return nil, problem(err)
			}
			r := topics.Reading{Partition: in.Partition, Key: in.Key, Text: in.Text}
			if _, err := h.s.ReadingFor(ctx, in.Name, r); err != nil {
				return nil, problem(err)
			}
			return &huma.StreamResponse{Body: func(hc huma.Context) {
				ctx, cancel := h.either(hc.Context())
				defer cancel()
				ev := begin(hc)
				if ev.send("beat", struct{}{}) != nil {
					return
				}
				err := h.s.Topics.Follow(ctx, in.Name, r, func(ms []topics.Message, left int64) error {
					if len(ms) > 0 {
						veil := h.s.TopicVeil(ctx, in.Name) // something may have been declared meanwhile
						for i := range ms {
							ms[i] = veil.Message(ms[i])
						}
					}
					return ev.send("messages", Followed{append([]topics.Message{}, ms...), left})
				})
				if err != nil && ctx.Err() == nil {
					_ = ev.send("problem", problem(err))
				}
			}}, nil
		})
}

// Followed is some messages of a topic that is followed.
type Followed struct {
	Messages []topics.Message `json:"messages"`
	Left     int64            `json:"left" doc:"messages that were left out because they came too fast"`
}
