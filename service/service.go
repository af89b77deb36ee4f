package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
	"go.opentelemetry.io/otel/trace"
	"go.opentelemetry.io/otel/trace/noop"

	"vorrang/core/engine"
	"vorrang/core/remedy"
	"vorrang/records"
	"vorrang/service/api"
	"vorrang/work"
)

// Config is what a service is made of. All fields but Token, OpenID and Tracer must be set.
type Config struct {
	Engines engine.Engines // by the names that lane files give
	Records *records.Records
	Token   string  // the administrator's bearer token; empty once there are administrators who sign in
	OpenID  *OpenID // another way to sign in; nil for none
	Console fs.FS   // the built console
	Log     *slog.Logger
	Version string
	// patterns, as of path.Match, of the references that lanes and hooks may have;
	// none for all but the service's own
	References []string
	// Retention is for how long records are kept; its zero value is for ever.
	Retention records.Retention
	// AuditFiles is where acts of the audit are written before they go; empty for nowhere
	AuditFiles work.AuditFiles
	Proxies    []net.IPNet // whose word about where a request comes from is taken

	// addresses that hooks may lead to although they are of this machine or link-local
	HookNetworks []net.IPNet

	// the clock of all that is held against a time: gates, freezes, entries; nil for
	// the machine's
	Now func() time.Time

	// where traces of deployments go; nil for nowhere
	Tracer trace.Tracer

	// how long a running step may take to end once the service is stopped
	Grace time.Duration
}

// Service answers the API and runs deployments.
type Service struct {
	Config
	app     *fiber.App
	metrics *metrics
	looking *looking
	pages   pages
	running *work.Deployments
	rounds  work.Rounds

	renewing sync.Mutex // held while all targets are read for the metrics

	book       *book
	targets    *targets
	builder    *builder
	identities *identities
	hooks      *hooks
	drifts     *drifts
	gates      *gates
	repairs    *repairs
	deploying  *deploying
	catalogue  *catalogue
	views      *views
	schemas    *schemas
}

// New builds a service. Call Start before it serves.
func New(config Config) (*Service, error) {
	if config.Token != "" && len(config.Token) < 16 {
		return nil, errors.New(
			"the administrator's token is shorter than 16 characters; set VORRANG_ADMIN_TOKEN, for example to the output of: " +
				"openssl rand -hex 24",
		)
	}
	if config.Now == nil {
		config.Now = time.Now
	}
	if config.Tracer == nil {
		config.Tracer = noop.NewTracerProvider().Tracer("")
	}
	s := &Service{
		Config:  config,
		metrics: newMetrics(),
		looking: newLooking(config.Now),
		running: work.NewDeployments(config.Records, config.Log),
	}
	s.parts(s.running)
	s.metrics.registry.MustRegister(&standing{records: config.Records, targets: s.targets, looking: s.looking, renew: s.lookAgain})
	s.app = fiber.New(fiber.Config{
		AppName: "vorrangd", Immutable: true, StreamRequestBody: true, BodyLimit: bodyLimit,
		ErrorHandler: s.answerError, ReadTimeout: 5 * time.Minute, IdleTimeout: 2 * time.Minute,
	})
	s.route()
	return s, nil
}

// Start closes the books on what services that do not live any more left running. It is
// an error if nobody could administrate the service.
func (s *Service) Start(ctx context.Context) error {
	if s.Token == "" {
		has, err := s.Records.HasAdministrator(ctx)
		if err != nil {
			return err
		}
		if !has {
			return errors.New(
				"nobody could administrate: there is no administrator yet, and no administrator's token; set " +
					"VORRANG_ADMIN_TOKEN, for example to the output of: openssl rand -hex 24",
			)
		}
	}
	s.Records.Hear(s.deploying.others.hear)
	if err := s.deploying.others.abandoned.Close(ctx); err != nil { // before anybody asks
		return err
	}
	if err := s.Records.CloseRehearsals(ctx, s.Now().UTC()); err != nil {
		return err
	}
	retention := work.NewRetention(s.Records, s.Log, s.Retention, s.AuditFiles, s.Now)
	s.rounds.Start(s.Log, s.hooks.Round(), s.deploying.schedules, s.drifts.looks, s.deploying.others.round, retention)
	return nil
}

// Serve answers requests until Stop.
func (s *Service) Serve(listener net.Listener) error {
	return s.app.Listener(listener, fiber.ListenConfig{DisableStartupMessage: true})
}

// Stop lets running steps end, or rolls them back once Grace is over, and then
// stops answering. Every deployment that it stops says so.
func (s *Service) Stop() {
	s.rounds.Halt()
	s.deploying.news.close()
	s.deploying.rehearsing.Stop()
	s.running.Stop(s.Grace)
	s.rounds.Wait()
	s.targets.resting.stop()
	within, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	if err := s.deploying.others.seen(within); err != nil {
		s.Log.Warn("what was seen last is not kept", "error", err)
	}
	cancel()
	if err := s.app.ShutdownWithTimeout(2 * time.Second); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		s.Log.Warn("some connections were cut", "error", err)
	}
}

// problemError is an error that the client can do something about.
type problemError struct {
	problem api.Problem
}

func (e *problemError) Error() string { return e.problem.Detail }

func refuse(status int, kind, title string, next todo, format string, args ...any) error {
	return &problemError{api.Problem{Type: "urn:vorrang:" + kind, Title: title, Status: status,
		Detail: fmt.Sprintf(format, args...), Remedies: next}}
}

func notFound(what, name string, next todo) error {
	return refuse(http.StatusNotFound, "not-found", "Not found", next, "there is no %s %s", what, name)
}

func badRequest(next todo, format string, args ...any) error {
	return refuse(http.StatusBadRequest, "invalid-request", "The request is not valid", next, format, args...)
}

// refuseDifferences is refused, with a line for each thing that is not as it
// should be.
func refuseDifferences(next todo, differences []string, format string, args ...any) error {
	return &problemError{api.Problem{Type: "urn:vorrang:refused", Title: "Refused", Status: http.StatusConflict,
		Detail: fmt.Sprintf(format, args...), Remedies: next, Differences: differences}}
}

func refused(next todo, format string, args ...any) error {
	return refuse(http.StatusConflict, "refused", "Refused", next, format, args...)
}

// todo is what can be done about a refusal: one of these.
type todo = []remedy.Remedy

// by is what only people can do.
func by(format string, args ...any) todo { return todo{remedy.ByHand(format, args...)} }

// see is a move that needs no place.
func see(act remedy.Move, why string) todo { return todo{{Act: act, Reason: why}} }

// do is a move at the place.
func (p targetContext) do(act remedy.Move, why string) todo {
	return todo{p.at().Do(act).For("%s", why)}
}

// noSuchStep is what can be done where the catalogue has no step with a number: a place shows them all.
func noSuchStep(at remedy.Place) todo {
	send := see(remedy.Submit, "send new ones")
	if at.Environment == "" {
		return send
	}
	return or(todo{at.Do(remedy.LookAtSteps).For("see the steps")}, send)
}

// or gives several to choose from.
func or(all ...todo) todo { return slices.Concat(all...) }

// confirm is a name that is to be typed.
func confirm(name string) remedy.Remedy {
	return remedy.Remedy{Act: remedy.Confirm, Arguments: remedy.Arguments{Typed: name}}
}
