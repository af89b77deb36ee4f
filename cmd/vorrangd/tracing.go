package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"
	"go.opentelemetry.io/otel/trace/noop"
)

// tracingPatience bounds how long the last spans take to be sent at the end.
const tracingPatience = 3 * time.Second

// tracing is where traces of deployments go, by OpenTelemetry's own variables: to nobody
// where OTEL_EXPORTER_OTLP_ENDPOINT (or …_TRACES_ENDPOINT) is not set. stop sends what is
// left.
//
// Source: https://opentelemetry.io/docs/specs/otel/configuration/sdk-environment-variables/
func tracing(ctx context.Context, instance int32) (tracer trace.Tracer, stop func(), err error) {
	endpoint := os.Getenv("OTEL_EXPORTER_OTLP_TRACES_ENDPOINT") + os.Getenv("OTEL_EXPORTER_OTLP_ENDPOINT")
	exporter := os.Getenv("OTEL_TRACES_EXPORTER")
	if endpoint == "" || exporter == "none" || strings.EqualFold(os.Getenv("OTEL_SDK_DISABLED"), "true") {
		return noop.NewTracerProvider().Tracer(""), func() {}, nil
	}
	if exporter != "" && exporter != "otlp" {
		return nil, nil, fmt.Errorf("OTEL_TRACES_EXPORTER is %q; it is otlp or none", exporter)
	}
	for _, name := range []string{"OTEL_EXPORTER_OTLP_TRACES_PROTOCOL", "OTEL_EXPORTER_OTLP_PROTOCOL"} {
		if protocol := os.Getenv(name); protocol != "" && protocol != "http/protobuf" {
			return nil, nil, fmt.Errorf("%s is %q; traces are sent by http/protobuf only", name, protocol)
		}
	}
	to, err := otlptracehttp.New(ctx)
	if err != nil {
		return nil, nil, fmt.Errorf("traces cannot be sent: %w", err)
	}
	described := []attribute.KeyValue{
		attribute.String("service.version", version), attribute.Int("service.instance.id", int(instance)),
	}
	if os.Getenv("OTEL_SERVICE_NAME") == "" {
		described = append(described, attribute.String("service.name", "vorrangd"))
	}
	about, err := resource.New(ctx, resource.WithAttributes(described...), resource.WithFromEnv(), resource.WithHost())
	if err != nil {
		return nil, nil, fmt.Errorf("OTEL_RESOURCE_ATTRIBUTES: %w", err)
	}
	provider := sdk.NewTracerProvider(sdk.WithBatcher(to), sdk.WithResource(about))
	return provider.Tracer("vorrang"), func() {
		ctx, cancel := context.WithTimeout(context.Background(), tracingPatience)
		defer cancel()
		_ = provider.Shutdown(ctx) // whoever takes them may be away
	}, nil
}
