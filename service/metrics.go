package service

import (
	"context"
	"log/slog"
	"net/http"
	"strconv"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"vorrang/core/deploy"
	"vorrang/internal/safely"
)

// metrics are what /metrics tells.
type metrics struct {
	registry    *prometheus.Registry
	deployments *prometheus.CounterVec
	running     *prometheus.GaugeVec
	steps       *prometheus.CounterVec
	requests    *prometheus.HistogramVec
}

func newMetrics() *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		deployments: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "vorrang_deployments_total",
			Help: "Deployments that have ended, by outcome."}, []string{"lane", "environment", "outcome"}),
		running: prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "vorrang_deployments_running",
			Help: "Deployments that are under way."}, []string{"lane", "environment"}),
		steps: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "vorrang_steps_total",
			Help: "Steps that were run or failed."}, []string{"lane", "environment", "direction", "result"}),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "vorrang_request_seconds",
			Help: "Time to answer a request, in seconds.", Buckets: prometheus.ExponentialBuckets(0.001, 4, 7)},
			[]string{"method", "route", "status"}),
	}
	m.registry.MustRegister(m.deployments, m.running, m.steps, m.requests,
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

func (m *metrics) step(lane, environment string, e deploy.Event) {
	switch e.Kind {
	case deploy.StepDone:
		m.steps.WithLabelValues(lane, environment, string(e.Direction), "done").Inc()
	case deploy.StepFailed:
		m.steps.WithLabelValues(lane, environment, string(e.Direction), "failed").Inc()
	case deploy.Started,
		deploy.StepBegan,
		deploy.Statement,
		deploy.Notice,
		deploy.Waiting,
		deploy.Blocking,
		deploy.Measured,
		deploy.Ended:
	}
}

// observe times every request by its route, not by its path.
func (s *Service) observe(c fiber.Ctx) error {
	start := time.Now()
	err := safely.Do(c.Next)
	if err != nil {
		if err := s.answerError(c, err); err != nil {
			return err
		}
	}
	status := c.Response().StatusCode()
	if mayChange(c) && status != http.StatusBadRequest { // also one that was refused, after it settled something
		s.looking.changed()
	}
	if mayChange(c) && status < http.StatusBadRequest { // before whoever asked can ask another service
		within, cancel := context.WithTimeout(context.Background(), tellPatience)
		s.deploying.tellOthers(within)
		cancel()
	}
	took := time.Since(start)
	s.metrics.requests.WithLabelValues(c.Method(), c.Route().Path, strconv.Itoa(status)).Observe(took.Seconds())
	if c.Route().Path != "/healthz" && c.Route().Path != "/readyz" {
		level := slog.LevelDebug
		if c.Method() != http.MethodGet { // what may change something
			level = slog.LevelInfo
		}
		s.Log.Log(c.Context(), level, "request", "request", requestID(c.Context()), "method", c.Method(), "path", c.Path(),
			"status", status, "ms", took.Milliseconds())
	}
	return nil
}
