package main

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"
	"go.opentelemetry.io/otel/trace/noop"
	otlp "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"
)

// tracingPatience bounds how long the last spans take to be sent at the end.
const tracingPatience = 3 * time.Second

// tracing is where traces of deployments go, by OpenTelemetry's own variables: to nobody
// where OTEL_EXPORTER_OTLP_ENDPOINT (or …_TRACES_ENDPOINT) is not set. stop sends what is
// left.
//
// Source: https://opentelemetry.io/docs/specs/otel/configuration/sdk-environment-variables/
func tracing(ctx context.Context, instance int32) (tracer trace.Tracer, stop func(), err error) {
	exporter := os.Getenv("OTEL_TRACES_EXPORTER")
	if traceSetting("ENDPOINT") == "" || exporter == "none" || strings.EqualFold(os.Getenv("OTEL_SDK_DISABLED"), "true") {
		return noop.NewTracerProvider().Tracer(""), func() {}, nil
	}
	if exporter != "" && exporter != "otlp" {
		return nil, nil, fmt.Errorf("OTEL_TRACES_EXPORTER is %q; it is otlp or none", exporter)
	}
	sender, err := newSender()
	if err != nil {
		return nil, nil, err
	}
	to, err := otlptrace.New(ctx, sender)
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

// traceSetting is a variable of the exporter: that of traces, or that of all signals.
func traceSetting(name string) string {
	return cmp.Or(os.Getenv("OTEL_EXPORTER_OTLP_TRACES_"+name), os.Getenv("OTEL_EXPORTER_OTLP_"+name))
}

// sender sends spans by OTLP, http/protobuf. It implements otlptrace.Client. The library's own
// one brings gRPC along, which takes a fifth of the memory that an idle service has.
//
// Source: https://opentelemetry.io/docs/specs/otlp/#otlphttp-request
type sender struct {
	to      string
	headers http.Header
	client  http.Client
}

func newSender() (*sender, error) {
	if protocol := cmp.Or(traceSetting("PROTOCOL"), "http/protobuf"); protocol != "http/protobuf" {
		return nil, fmt.Errorf("OTEL_EXPORTER_OTLP_PROTOCOL is %q; traces are sent by http/protobuf only", protocol)
	}
	s := &sender{to: os.Getenv("OTEL_EXPORTER_OTLP_TRACES_ENDPOINT"), headers: http.Header{}}
	if s.to == "" { // the one for all signals is a beginning
		s.to = strings.TrimSuffix(os.Getenv("OTEL_EXPORTER_OTLP_ENDPOINT"), "/") + "/v1/traces"
	}
	if at, err := url.Parse(s.to); err != nil || at.Host == "" || at.Scheme != "http" && at.Scheme != "https" {
		return nil, fmt.Errorf("OTEL_EXPORTER_OTLP_ENDPOINT: %q is not an address such as http://127.0.0.1:4318", s.to)
	}
	for pair := range strings.SplitSeq(traceSetting("HEADERS"), ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
		if value, err := url.QueryUnescape(strings.TrimSpace(value)); err == nil && name != "" {
			s.headers.Set(strings.TrimSpace(name), value)
		}
	}
	s.headers.Set("Content-Type", "application/x-protobuf")
	milliseconds, err := strconv.Atoi(cmp.Or(traceSetting("TIMEOUT"), "10000"))
	if err != nil {
		return nil, fmt.Errorf("OTEL_EXPORTER_OTLP_TIMEOUT is %q; it is a number of milliseconds", traceSetting("TIMEOUT"))
	}
	s.client.Timeout = time.Duration(milliseconds) * time.Millisecond
	return s, nil
}

// Start implements otlptrace.Client.
func (s *sender) Start(context.Context) error { return nil }

// Stop implements otlptrace.Client.
func (s *sender) Stop(context.Context) error { return nil }

// UploadTraces implements otlptrace.Client. What is not taken is lost. TracesData has the form
// of the protocol's request.
func (s *sender) UploadTraces(ctx context.Context, spans []*otlp.ResourceSpans) error {
	body, err := proto.Marshal(&otlp.TracesData{ResourceSpans: spans})
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, s.to, bytes.NewReader(body))
	if err != nil {
		return err
	}
	request.Header = s.headers
	answer, err := s.client.Do(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10)) // so that the connection can be used again
	if answer.StatusCode >= http.StatusMultipleChoices {
		return fmt.Errorf("%s answered %s to traces", s.to, answer.Status)
	}
	return nil
}
