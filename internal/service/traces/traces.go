// Package traces tells a collector (OpenTelemetry, over HTTP) what requests, checkpoints and deliveries took. While nobody collects, it costs nothing.
package traces

import (
	"context"
	"fmt"
	"log/slog"
	"net/url"
	"sync"
	"time"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/resource"
	"go.opentelemetry.io/otel/sdk/trace"
	api "go.opentelemetry.io/otel/trace"
)

// Names of spans, and of what stands beside them.
const (
	Checkpoint = "checkpoint"
	Delivery   = "delivery"

	Job    = attribute.Key("fiume.job")
	Number = attribute.Key("fiume.checkpoint")
	Bytes  = attribute.Key("fiume.bytes")
	Sink   = attribute.Key("fiume.sink")
	Caller = attribute.Key("fiume.caller")
)

// Propagator carries the trace of a request in its headers (W3C Trace Context).
var Propagator = propagation.TraceContext{}

// sayEvery is how often it is said that the collector does not take spans.
const sayEvery = time.Minute

// Send sends spans to a collector at an address such as http://127.0.0.1:4318 until the function that it gives is called. Spans that wait for a collector which is away are few,
// and others are dropped: nothing waits for it.
func Send(ctx context.Context, address, version, instance string, log *slog.Logger) (end func(context.Context) error, err error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("the address of a collector is like http://127.0.0.1:4318, found %q", address)
	}
	if u.Path == "" || u.Path == "/" {
		u.Path = "/v1/traces"
	}
	to, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(u.String()), otlptracehttp.WithTimeout(10*time.Second))
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	var said time.Time
	otel.SetErrorHandler(otel.ErrorHandlerFunc(func(err error) {
		mu.Lock()
		defer mu.Unlock()
		if time.Since(said) < sayEvery {
			return
		}
		said = time.Now()
		log.Warn("the collector does not take traces", "error", err)
	}))
	about := resource.NewSchemaless(attribute.String("service.name", "fiume"), attribute.String("service.version", version), attribute.String("service.instance.id", instance))
	provider := trace.NewTracerProvider(trace.WithBatcher(to, trace.WithMaxQueueSize(4096), trace.WithBatchTimeout(2*time.Second)), trace.WithResource(about))
	otel.SetTracerProvider(provider)
	return provider.Shutdown, nil
}

func tracer() api.Tracer { return otel.Tracer("fiume") }

// Begin begins a span.
func Begin(ctx context.Context, name string, kind api.SpanKind, about ...attribute.KeyValue) (context.Context, api.Span) {
	return tracer().Start(ctx, name, api.WithSpanKind(kind), api.WithAttributes(about...))
}

// Was notes something that began at a time, and has just ended; err says that it failed.
func Was(name string, began time.Time, err error, about ...attribute.KeyValue) {
	_, span := tracer().Start(context.Background(), name, api.WithTimestamp(began), api.WithAttributes(about...))
	if err != nil {
		span.SetStatus(codes.Error, err.Error())
	}
	span.End()
}
