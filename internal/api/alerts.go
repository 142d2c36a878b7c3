package api

import (
	"context"
	"time"

	"fiume/internal/service/alerts"

	"github.com/danielgtaylor/huma/v2"
)

// SilenceRequest is what a silence is asked for with.
type SilenceRequest struct {
	Of      string `json:"of,omitempty" maxLength:"1000" doc:"what of the alert is to be silent; left out: all of it"`
	Seconds int64  `json:"seconds" minimum:"0" maximum:"7776000" doc:"for how long; 0: it is told again"`
	Why     string `json:"why,omitempty" maxLength:"500"`
}

// ToldRequest says who is told of the alerts that every service has.
type ToldRequest struct {
	Sinks []string `json:"sinks" maxItems:"20" doc:"names of sinks; none: nobody"`
}

func (h *handler) alerts(a huma.API, op func(id, method, path, summary, tag string) huma.Operation) {
	huma.Register(a, op("alerts", "GET", "/api/alerts", "The alerts, declared and built-in, with what gives an alarm just now: those first", "alerts"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[alerts.Alert]], error) {
			return paged(h.s.Alerts.List(ctx), in.Paging, func(x alerts.Alert) string { return x.Name })
		})
	huma.Register(a, op("alert", "GET", "/api/alerts/{name}", "An alert", "alerts"),
		func(ctx context.Context, in *Named) (*body[*alerts.Alert], error) {
			return answer(h.s.Alerts.Get(ctx, in.Name))
		})
	huma.Register(a, op("silence-alert", "PUT", "/api/alerts/{name}/silence", "Keep an alert from telling sinks that it begins, for a while", "alerts"),
		func(ctx context.Context, in *struct {
			Change
			Body SilenceRequest
		}) (*body[*alerts.Alert], error) {
			return answer(h.s.Alerts.Silence(ctx, by(ctx), in.Name, in.Body.Of, time.Duration(in.Body.Seconds)*time.Second, in.Body.Why))
		})
	huma.Register(a, op("alerts-told", "PUT", "/api/alerts-told", "Say which sinks are told of the alerts that every service has", "alerts"),
		func(ctx context.Context, in *struct {
			Acting
			Body ToldRequest
		}) (*body[[]string], error) {
			return answer(h.s.Alerts.Tell(by(ctx), in.Body.Sinks))
		})
	huma.Register(a, op("alert-notices", "GET", "/api/alert-notices", "What sinks are still to be told of alerts, the oldest first", "alerts"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[alerts.Notice]], error) {
			return paged(h.s.Alerts.Waiting(), in.Paging, func(n alerts.Notice) string { return n.At.Format(time.RFC3339Nano) + n.ID + n.Sink })
		})
}
