package service

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"vorrang/core/deploy"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/internal/safely"
	"vorrang/records"
	"vorrang/service/api"
	"vorrang/work"
)

type stepIn struct {
	Lane  string `path:"lane"`
	Step  string `path:"step"`
	Limit int    `query:"limit" description:"The most bytes of a text; 0 means all."`
}

func (s *catalogue) step(c call, in *stepIn) (*api.StepTexts, error) {
	if _, err := s.targets.lane(c, in.Lane); err != nil {
		return nil, err
	}
	number, err := step.ParseNumber(in.Step)
	if err != nil {
		return nil, badRequest(nil, "step: %s", err)
	}
	catalogue, err := s.Records.Catalogue(c, in.Lane)
	if err != nil {
		return nil, err
	}
	for _, known := range catalogue {
		if known.Number == number {
			return s.library.stepTexts(c, known, in.Limit)
		}
	}
	return nil, notFound("step "+string(number)+" in the lane", in.Lane, nil)
}

type deploymentsIn struct {
	Lane        string `query:"lane"`
	Environment string `query:"environment"`
	Outcome     string `query:"outcome" enum:"running,done,failed,backed out,cancelled,interrupted" description:"Only those that ended so."`
	Actor       string `query:"actor" description:"Only those that this person or machine began."`
	Step        string `query:"step" description:"Only those that were to run this step, or its way back."`
	Release     string `query:"release" description:"Only those that promoted this release."`
	Before      int64  `query:"before" minimum:"0" description:"Only those before this one: next of the page before."`
	Limit       int    `query:"limit" default:"20" minimum:"1" maximum:"500"`
}

// query is what the records are asked for.
func (in deploymentsIn) query() (records.DeploymentQuery, error) {
	query := records.DeploymentQuery{
		Lane: in.Lane, Environment: in.Environment, Outcome: deploy.Outcome(in.Outcome), Actor: in.Actor,
		Release: in.Release,
	}
	if in.Step != "" {
		number, err := step.ParseNumber(in.Step)
		if err != nil {
			return query, badRequest(nil, "step: %s", err)
		}
		query.Step = number
	}
	return query, nil
}

func (s *deploying) deployments(c call, in *deploymentsIn) (*api.Deployments, error) {
	query, err := in.query()
	if err != nil {
		return nil, err
	}
	list, next, err := lookable(c.who, in.Before, in.Limit,
		func(before int64, most int) ([]records.Deployment, error) {
			query.Before, query.Limit = before, most
			return s.Records.Deployments(c, query)
		},
		func(d records.Deployment) (lane, environment string) { return d.Lane, d.Environment },
		func(d records.Deployment) int64 { return d.ID })
	answer := &api.Deployments{Deployments: []api.Deployment{}, Next: next}
	for _, d := range list {
		answer.Deployments = append(answer.Deployments, deploymentOf(d, false))
	}
	return answer, err
}

type deploymentIn struct {
	ID int64 `path:"id"`
}

func noDeployment(id string) error {
	return notFound("deployment", id, see(remedy.LookAtDeployments, "see those that you may read"))
}

func (s *deploying) deployment(c call, in *deploymentIn) (*api.Deployment, error) {
	d, err := s.Records.Deployment(c, in.ID)
	if errors.Is(err, records.ErrNotFound) {
		return nil, noDeployment(strconv.FormatInt(in.ID, 10))
	}
	if err != nil {
		return nil, err
	}
	shown := deploymentOf(d, true)
	return &shown, nil
}

// cancel asks a running deployment to stop, and answers at once; its events
// tell when it has.
func (s *deploying) cancel(c call, in *deploymentIn) (*api.Deployment, error) {
	d, err := s.deployment(c, in)
	if err != nil {
		return nil, err
	}
	asked := s.running.Cancel(in.ID, cancelledBy(c.actor))
	if !asked { // another service may run it
		if asked, err = s.Records.AskCancel(c, in.ID, c.actor); err != nil {
			return nil, err
		}
	}
	if !asked {
		return nil, refused(
			see(remedy.LookAtDeployments, "see how it ended"),
			"deployment %d is not running; it is %s",
			in.ID, d.Outcome,
		)
	}
	s.Log.Info("deployment cancelled", "deployment", in.ID, "actor", c.actor)
	c.fiber.Status(http.StatusAccepted)
	return d, nil
}

type eventsIn struct {
	ID    int64 `path:"id"`
	After int64 `query:"after" minimum:"0" description:"Only events with a higher number."`
	Limit int   `query:"limit" default:"1000" minimum:"1" maximum:"10000"`
}

// events answers with a list, or, where the client accepts an event stream,
// with Server-Sent Events that go on until the deployment has ended.
func (s *deploying) events(c call, in *eventsIn) (*api.Events, error) {
	d, err := s.deployment(c, &deploymentIn{ID: in.ID})
	if err != nil {
		return nil, err
	}
	if streamed(c) {
		in.After = lastEvent(c, in.After)
		return nil, s.stream(c, d.Lane, d.Environment, func(w *bufio.Writer, still func() bool) error {
			if live := s.running.Feed(in.ID); live != nil {
				s.streamLive(w, live, in.After, still)
				return nil
			}
			return s.streamKept(w, s.keptEvents(in.ID), in.After, still)
		})
	}
	if in.Limit <= 0 || in.Limit > 10000 {
		in.Limit = 1000
	}
	if live := s.running.Feed(in.ID); live != nil {
		events, _ := live.After(in.After)
		return &api.Events{Events: append([]deploy.Event{}, events[:min(in.Limit, len(events))]...)}, nil
	}
	events, err := s.Records.Events(c, in.ID, in.After, in.Limit)
	return &api.Events{Events: append([]deploy.Event{}, events...)}, err
}

// streamed reports whether the caller asks for Server-Sent Events.
func streamed(c call) bool {
	return strings.Contains(c.fiber.Get(fiber.HeaderAccept), "text/event-stream")
}

// lastEvent is the number of the last event that a caller has, who comes back after a
// connection was lost; else that of whoever comes first.
func lastEvent(c call, first int64) int64 {
	if last, err := strconv.ParseInt(c.fiber.Get("Last-Event-ID"), 10, 64); err == nil {
		return max(last, 0)
	}
	return first
}

// heartbeat is how often an idle stream says that it is alive.
const heartbeat = 10 * time.Second

// streamEvery is how long events may wait to be sent together.
const streamEvery = 25 * time.Millisecond

// stream answers with Server-Sent Events. send is called once the answer has begun; still
// says whether the caller may go on listening.
func (s *deploying) stream(
	c call,
	lane, environment string,
	send func(w *bufio.Writer, still func() bool) error,
) error {
	c.fiber.Set(fiber.HeaderContentType, "text/event-stream")
	c.fiber.Set(fiber.HeaderCacheControl, "no-store")
	c.fiber.Set("X-Accel-Buffering", "no")
	who, path := c.who, strings.Clone(c.fiber.Path())
	still := func() bool { return s.identities.stillMay(s.running.Context(), who, lane, environment) }
	return c.fiber.SendStreamWriter(func(w *bufio.Writer) {
		if err := safely.Do(func() error { return send(w, still) }); err != nil {
			s.Log.Warn("an event stream broke off", "path", path, "error", err)
		}
	})
}

func (s *deploying) streamLive(w *bufio.Writer, live *work.Feed, after int64, still func() bool) {
	looked := time.Now()
	for {
		events, ended := live.After(after)
		if time.Since(looked) > heartbeat {
			if !still() {
				return
			}
			looked = time.Now()
		}
		for _, e := range events {
			if e.Kind == deploy.Ended {
				live.WaitClosed() // whoever hears of the end finds the outcome in the records
			}
			if write(w, e) != nil {
				return
			}
			after = e.Seq
		}
		if ended || w.Flush() != nil {
			return
		}
		live.WaitEnd(streamEvery)
		beat := make(chan struct{})
		timer := time.AfterFunc(heartbeat, func() { close(beat) })
		live.WaitFor(after, beat)
		if !timer.Stop() {
			if _, err := w.WriteString(": still running\n\n"); err != nil {
				return
			}
		}
	}
}

// keptEvents are events in the records: of what runs at another service, or has ended.
type keptEvents struct {
	topic   string // of the news of more
	read    func(ctx context.Context, after int64, most int) ([]deploy.Event, error)
	running func(context.Context) (bool, deploy.Outcome, error)
	ended   bool // its end is told also where that was not kept
}

func (s *deploying) keptEvents(id int64) keptEvents {
	return keptEvents{
		topic: topic("deployment", id),
		read: func(ctx context.Context, after int64, most int) ([]deploy.Event, error) {
			return s.Records.Events(ctx, id, after, most)
		},
		running: func(ctx context.Context) (bool, deploy.Outcome, error) {
			outcome, err := s.Records.Outcome(ctx, id)
			return outcome == deploy.Running, outcome, err
		},
	}
}

// streamKept sends kept events until the end, or until this service stops: whoever follows
// comes back then, to any service.
func (s *deploying) streamKept(w *bufio.Writer, of keptEvents, after int64, still func() bool) error {
	const page = 1000
	ctx := s.running.Context()
	heard, leave := s.news.follow(of.topic) // before anything is read
	defer leave()
	for looked := time.Now(); ; {
		running, outcome, err := of.running(ctx)
		if err != nil {
			return err
		}
		events, err := of.read(ctx, after, page)
		if err != nil {
			return err
		}
		for _, e := range events {
			if e.Kind == deploy.Ended && running {
				break // whoever hears of the end finds the outcome in the records
			}
			if write(w, e) != nil {
				return nil // nobody reads any more
			}
			if after = e.Seq; e.Kind == deploy.Ended {
				return nil
			}
		}
		switch {
		case len(events) == page:
			continue
		case !running && of.ended:
			return write(w, deploy.Event{Seq: after + 1, At: s.Now().UTC(), Kind: deploy.Ended, Outcome: outcome})
		case !running:
			return nil
		}
		if _, on := s.listens(w, heard, &looked, still); !on {
			return nil
		}
	}
}

// listens sends what is written, and waits until there are news, or it is time to say that the stream is
// alive; on reports whether the caller goes on listening, and may.
func (s *deploying) listens(
	w *bufio.Writer, heard <-chan struct{}, looked *time.Time, still func() bool,
) (news, on bool) {
	if w.Flush() != nil || s.news.over() {
		return false, false
	}
	select {
	case <-heard:
		return true, true
	case <-time.After(heartbeat - time.Since(*looked)):
		*looked = time.Now()
		if !still() {
			return false, false
		}
		_, err := w.WriteString(": still running\n\n")
		return false, err == nil
	}
}

func write(w *bufio.Writer, e deploy.Event) error {
	if _, err := fmt.Fprintf(w, "id: %d\n", e.Seq); err != nil {
		return err
	}
	return writeEvent(w, string(e.Kind), e)
}

// writeEvent writes one Server-Sent Event, after its id where it has one.
func writeEvent(w *bufio.Writer, kind string, of any) error {
	body, err := json.Marshal(of)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(w, "event: %s\ndata: %s\n\n", kind, body)
	return err
}
