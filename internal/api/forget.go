package api

import (
	"context"
	"encoding/json"
	"net/http"

	"fiume/internal/service/forget"

	"github.com/danielgtaylor/huma/v2"
)

// forget registers what removes what the service keeps of somebody.
func (h *handler) forget(a huma.API, op func(id, method, path, summary, tag string) huma.Operation) {
	o := op("forget", "POST", "/api/forget", "Forget the messages and rows that have a value in a column", "service")
	o.Description = "Answers with a line of JSON for each topic, for samples and for rows set aside, as it is done, then with what it does not reach, and last with one that is finished."
	o.Responses = map[string]*huma.Response{"200": {Description: "steps", Content: map[string]*huma.MediaType{"application/x-ndjson": {}}}}
	huma.Register(a, o, func(ctx context.Context, in *struct {
		Acting
		Body forget.Request
	}) (*huma.StreamResponse, error) {
		actor := by(ctx)
		return &huma.StreamResponse{Body: func(hc huma.Context) {
			wrote := false
			enc := json.NewEncoder(hc.BodyWriter())
			err := h.s.Forgetter.Forget(hc.Context(), actor, in.Body, func(s forget.Step) error {
				if !wrote {
					wrote = true
					hc.SetHeader("Content-Type", "application/x-ndjson")
				}
				if err := enc.Encode(s); err != nil {
					return err
				}
				if f, ok := hc.BodyWriter().(http.Flusher); ok {
					f.Flush()
				}
				return nil
			})
			switch {
			case err == nil:
			case wrote: // without its last line it is not whole
				_ = enc.Encode(forget.Step{Problem: err.Error()})
			default:
				p, _ := problem(err).(*Problem)
				hc.SetHeader("Content-Type", "application/problem+json")
				hc.SetStatus(p.Status)
				_ = enc.Encode(p)
			}
		}}, nil
	})
}
