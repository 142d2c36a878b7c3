package api

import (
	"fiume/internal/service/access"
	"fiume/internal/service/traces"

	"github.com/gin-gonic/gin"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/trace"
)

// traced notes what a request takes, as a part of the trace that its headers name. Paths are as they are declared.
func traced(c *gin.Context) {
	path := c.FullPath()
	if path == "" {
		path = "console"
	}
	ctx := traces.Propagator.Extract(c.Request.Context(), propagation.HeaderCarrier(c.Request.Header))
	ctx, span := traces.Begin(ctx, c.Request.Method+" "+path, trace.SpanKindServer, attribute.String("http.request.method", c.Request.Method), attribute.String("http.route", path))
	defer span.End()
	if !span.IsRecording() {
		c.Next()
		return
	}
	c.Request = c.Request.WithContext(ctx)
	c.Next()
	status := c.Writer.Status()
	span.SetAttributes(attribute.Int("http.response.status_code", status))
	if caller := access.From(c.Request.Context()); caller != nil && caller.Name != "" {
		span.SetAttributes(traces.Caller.String(caller.Name))
	}
	if status >= 500 {
		span.SetStatus(codes.Error, "")
	}
}
