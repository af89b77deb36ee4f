package service

import (
	"context"
	"fmt"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/trace"

	"vorrang/core/deploy"
	"vorrang/records"
)

// spans are what a trace shows of one deployment: itself, its steps, and their statements,
// each with its place. No SQL and no message of a server is in them, since those may hold
// values.
type spans struct {
	tracer    trace.Tracer
	whole     context.Context // of the deployment's span
	step      context.Context // of the step's; nil between steps
	statement trace.Span      // nil between statements
}

// begun begins the span of a deployment, in the trace that its request belongs to.
func begun(tracer trace.Tracer, from context.Context, d records.Deployment, request string) *spans {
	whole, _ := tracer.Start(from, "deployment", trace.WithSpanKind(trace.SpanKindInternal), trace.WithAttributes(
		attribute.Int64("vorrang.deployment", d.ID),
		attribute.String("vorrang.lane", d.Lane),
		attribute.String("vorrang.environment", d.Environment),
		attribute.String("vorrang.release", d.Release),
		attribute.String("vorrang.direction", string(d.Direction)),
		attribute.String("vorrang.actor", d.Actor),
		attribute.String("vorrang.request", request),
		attribute.Int("vorrang.steps", len(d.Plan.Actions)),
	))
	return &spans{tracer: tracer, whole: whole}
}

// happened follows a deployment's events, in their order.
func (s *spans) happened(e deploy.Event) {
	switch e.Kind {
	case deploy.StepBegan:
		s.endStep(e.At, "")
		s.step, _ = s.tracer.Start(s.whole, fmt.Sprintf("step %s %s", e.Step, e.Slug), trace.WithTimestamp(e.At),
			trace.WithAttributes(
				attribute.String("vorrang.step", string(e.Step)),
				attribute.String("vorrang.direction", string(e.Direction)),
			))
	case deploy.Statement:
		s.endStatement(e.At)
		if s.step == nil {
			return
		}
		_, s.statement = s.tracer.Start(s.step, fmt.Sprintf("statement %d", e.Statement), trace.WithTimestamp(e.At),
			trace.WithAttributes(attribute.Int("vorrang.line", e.Line)))
	case deploy.Waiting, deploy.Blocking:
		if s.step != nil {
			trace.SpanFromContext(s.step).AddEvent(string(e.Kind), trace.WithTimestamp(e.At),
				trace.WithAttributes(attribute.Int("vorrang.sessions", len(e.Blockers))))
		}
	case deploy.StepDone, deploy.StepReady:
		s.endStep(e.At, "")
	case deploy.StepFailed:
		why := "failed"
		if e.Failure != nil && e.Failure.SQLState != "" {
			why = e.Failure.SQLState
		}
		if e.Failure != nil && s.step != nil {
			trace.SpanFromContext(s.step).SetAttributes(attribute.Int("vorrang.line", e.Failure.Line))
		}
		s.endStep(e.At, why)
	}
}

func (s *spans) endStatement(at time.Time) {
	if s.statement != nil {
		s.statement.End(trace.WithTimestamp(at))
		s.statement = nil
	}
}

func (s *spans) endStep(at time.Time, failed string) {
	s.endStatement(at)
	if s.step == nil {
		return
	}
	span := trace.SpanFromContext(s.step)
	if failed != "" {
		span.SetStatus(codes.Error, failed)
	}
	span.End(trace.WithTimestamp(at))
	s.step = nil
}

// ended ends the deployment's span, whatever happened.
func (s *spans) ended(outcome deploy.Outcome) {
	s.endStep(time.Now(), "")
	span := trace.SpanFromContext(s.whole)
	span.SetAttributes(attribute.String("vorrang.outcome", string(outcome)))
	if outcome != deploy.Done {
		span.SetStatus(codes.Error, string(outcome))
	}
	span.End()
}

// traceOf is the trace that a request says it belongs to, in a context that outlives it.
//
// Source: https://www.w3.org/TR/trace-context/
func traceOf(c call) context.Context {
	ctx := context.Background()
	if c.fiber == nil {
		return ctx
	}
	return propagation.TraceContext{}.Extract(ctx, propagation.MapCarrier{
		"traceparent": c.fiber.Get("traceparent"), "tracestate": c.fiber.Get("tracestate"),
	})
}
