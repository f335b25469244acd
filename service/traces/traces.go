// Package traces tells a collector (OpenTelemetry, OTLP over HTTP) where time goes: in a request, and in the reading of
// a case that came of it, in whichever process that is done. Where no collector is named nothing is measured.
//
//	t, end, err := traces.New(ctx, "http://127.0.0.1:4318", 1)
//	ctx, done := traces.Step(ctx, "unpack the bag")   // in a request or a job that is traced
//	done(err)
package traces

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"
	"go.opentelemetry.io/otel/trace/noop"
)

const name = "diorthos"

// None traces nothing.
func None() trace.Tracer { return noop.NewTracerProvider().Tracer(name) }

// lastTold is how long what was measured last may take to be told when the process ends.
const lastTold = 5 * time.Second

// New tells the collector at an address. share of the traces are kept, from 0 to 1; those that a caller has begun are
// kept as the caller keeps them. What cannot be told is dropped: nothing waits for a collector.
func New(ctx context.Context, at string, share float64) (t trace.Tracer, end func(), err error) {
	u, err := url.Parse(at)
	switch {
	case err != nil:
		return nil, nil, fmt.Errorf("address of traces: %w", err)
	case u.Scheme != "http" && u.Scheme != "https" || u.Host == "":
		return nil, nil, fmt.Errorf("address of traces: %q: want http://HOST:PORT or https://HOST:PORT", at)
	case share < 0 || share > 1:
		return nil, nil, fmt.Errorf("share of traces: want 0 to 1, not %g", share)
	}
	if u.Path == "" || u.Path == "/" {
		u.Path = "/v1/traces"
	}
	to, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(u.String()))
	if err != nil {
		return nil, nil, fmt.Errorf("address of traces: %w", err)
	}
	p := sdk.NewTracerProvider(
		sdk.WithBatcher(to, sdk.WithBatchTimeout(2*time.Second)),
		sdk.WithSampler(sdk.ParentBased(sdk.TraceIDRatioBased(share))),
		sdk.WithResource(resource.NewSchemaless(attribute.String("service.name", name))),
	)
	return p.Tracer(name), func() {
		ctx, cancel := context.WithTimeout(context.Background(), lastTold)
		defer cancel()
		_ = p.Shutdown(ctx) // the collector may be away
	}, nil
}

// Step begins a part of what is traced; done ends it, and says whether it went well.
func Step(ctx context.Context, what string) (inner context.Context, done func(error)) {
	inner, span := trace.SpanFromContext(ctx).TracerProvider().Tracer(name).Start(ctx, what)
	return inner, func(err error) { finish(span, err) }
}

func finish(span trace.Span, err error) {
	if err != nil {
		span.SetStatus(codes.Error, err.Error())
	}
	span.End()
}

// ID is the number of the trace that a context is in; empty for none.
func ID(ctx context.Context) string {
	if c := trace.SpanContextFromContext(ctx); c.IsSampled() {
		return c.TraceID().String()
	}
	return ""
}

var form propagation.TraceContext // W3C Trace Context

// Handed is what has to be handed on for somebody else to go on with the trace; empty for none.
func Handed(ctx context.Context) string {
	c := propagation.MapCarrier{}
	form.Inject(ctx, c)
	return c.Get("traceparent")
}

// Job begins the work that a trace was handed on for.
func Job(ctx context.Context, t trace.Tracer, handed, what string, number int64) (context.Context, func(error)) {
	ctx = form.Extract(ctx, propagation.MapCarrier{"traceparent": handed})
	ctx, span := t.Start(ctx, what, trace.WithSpanKind(trace.SpanKindConsumer), trace.WithAttributes(
		attribute.Int64("diorthos.case", number)))
	return ctx, func(err error) { finish(span, err) }
}

// Request begins a request. done is told what became of it.
func Request(r *http.Request, t trace.Tracer, id string) (*http.Request, func(route string, status int)) {
	ctx := form.Extract(r.Context(), propagation.HeaderCarrier(r.Header))
	ctx, span := t.Start(ctx, r.Method, trace.WithSpanKind(trace.SpanKindServer))
	return r.WithContext(ctx), func(route string, status int) {
		span.SetName(r.Method + " " + route)
		span.SetAttributes(
			attribute.String("http.request.method", r.Method), attribute.String("http.route", route),
			attribute.Int("http.response.status_code", status), attribute.String("diorthos.request", id),
		)
		if status >= http.StatusInternalServerError {
			span.SetStatus(codes.Error, http.StatusText(status))
		}
		span.End()
	}
}
