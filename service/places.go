package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/records"
	"vorrang/service/api"
)

// targetContext is one environment of a lane, with the lane's catalogue.
type targetContext struct {
	lane        lane.Lane
	environment lane.Environment
	catalogue   []plan.Step
	engine      engine.Engine // of the lane; nil for one that this service does not have

	// of a promotion that is sealed; nil for loose steps
	release *release.Release
	sealed  map[step.Number]plan.Step
}

// at is the context of one environment.
func (s *targets) at(l lane.Lane, e lane.Environment, catalogue []plan.Step) targetContext {
	return targetContext{lane: l, environment: e, catalogue: catalogue, engine: s.Engines[l.Engine]}
}

// dialect is the SQL of the lane's engine. Call it where a session was opened, or
// the engine is known to be there.
func (p targetContext) dialect() engine.Dialect { return p.engine.Dialect() }

// first is the first place of a lane; without an environment where nobody knows one.
func (s *targets) first(ctx context.Context, laneName string) remedy.Place {
	at := remedy.Place{Lane: laneName}
	if l, err := s.lane(ctx, laneName); err == nil && len(l.Places()) > 0 {
		at.Environment = l.Places()[0].Name
	}
	return at
}

func (s *targets) place(ctx context.Context, laneName, environment string) (targetContext, error) {
	if hidden(ctx, laneName, environment) {
		return targetContext{}, notFound(
			"environment "+environment+" in the lane",
			laneName,
			see(remedy.LookAtStatus, "see those that you may read"),
		)
	}
	l, err := s.lane(ctx, laneName)
	if err != nil {
		return targetContext{}, err
	}
	e, found := l.Place(environment)
	switch {
	case !found:
		return targetContext{}, noPlace(l, environment)
	case e.Fleet != nil:
		return targetContext{}, manyTargets(e)
	}
	catalogue, err := s.Records.Catalogue(ctx, laneName)
	return s.at(l, e, catalogue), err
}

// noPlace says which environments there are, or which targets a fleet has.
func noPlace(l lane.Lane, name string) error {
	e, found := l.Environment(lane.EnvironmentOf(name))
	if !found {
		return notFound("environment "+lane.EnvironmentOf(name)+" in the lane", l.Name,
			by("its environments are %s", strings.Join(l.Names(), ", ")))
	}
	what := fmt.Sprintf("target %s in %s of the lane", lane.TargetOf(name), e.Name)
	where := "it has one target, and none of its own name"
	if e.Fleet != nil {
		where = "its targets are " + gate.Some(targetNames(e))
		if e.Fleet.Unread != "" {
			where = e.Fleet.Unread
		}
	}
	return notFound(what, l.Name, by("%s", where))
}

func targetNames(e lane.Environment) []string {
	names := make([]string, len(e.Fleet.Targets))
	for i, t := range e.Fleet.Targets {
		names[i] = t.Name
	}
	return names
}

// manyTargets refuses what can be done to one target at a time.
func manyTargets(e lane.Environment) error {
	if e.Fleet.Unread != "" {
		return &engine.ConnectError{Kind: engine.BadURL, Message: e.Fleet.Unread,
			Fix: "put the list there: a line for each target, with its name, a space and its connection URL"}
	}
	problem := api.Problem{
		Type: "urn:vorrang:fleet", Title: "It is a fleet", Status: http.StatusConflict,
		Detail:  fmt.Sprintf("%s is a fleet of %s, and this is about one of them", e.Name, plural.Of(len(e.Fleet.Targets), "target")),
		Targets: targetNames(e),
	}
	if len(problem.Targets) > 0 {
		problem.Remedies = by("name one, as in %s", lane.PlaceName(e.Name, problem.Targets[0]))
	}
	return &problemError{problem}
}

// unreadFleets are the fleets of a lane whose list of targets cannot be read.
func unreadFleets(l lane.Lane) (list []lane.Environment) {
	for _, e := range l.Environments {
		if e.Fleet != nil && e.Fleet.Unread != "" {
			list = append(list, e)
		}
	}
	return list
}

// environment is place, also for an environment that is a fleet.
func (s *targets) environment(ctx context.Context, laneName, name string) (targetContext, error) {
	if !hidden(ctx, laneName, name) {
		l, err := s.lane(ctx, laneName)
		if err != nil {
			return targetContext{}, err
		}
		if e, found := l.Environment(name); found && e.Fleet != nil {
			catalogue, err := s.Records.Catalogue(ctx, laneName)
			return s.at(l, e, catalogue), err
		}
	}
	return s.place(ctx, laneName, name)
}

// places are the targets of a fleet, each as an environment of its own.
func (s *targets) places(p targetContext) []targetContext {
	places := p.environment.Places()
	list := make([]targetContext, len(places))
	for i, e := range places {
		list[i] = p
		list[i].environment = e
	}
	return list
}

// listed reads the lists of the fleets whose targets stand in one. The lane that was handed in stays as it is
// declared.
func (s *targets) listed(l lane.Lane) lane.Lane {
	l.Environments = slices.Clone(l.Environments)
	for i, e := range l.Environments {
		if e.Fleet == nil || e.Fleet.From == "" {
			continue
		}
		fleet := *e.Fleet
		list, err := s.list(fleet.From)
		if fleet.Targets = list.targets; err != nil {
			fleet.Unread = unreachable(err).Message
		}
		l.Environments[i].Fleet = &fleet
	}
	return l
}

// whole is a lane with the targets of its fleets. A target whose line is gone from a list stays one as long as nobody
// sets it aside: with half of its lines a fleet is not done.
func (s *targets) whole(ctx context.Context, l lane.Lane) (lane.Lane, error) {
	l = s.listed(l)
	for _, e := range l.Environments {
		if e.Fleet == nil || e.Fleet.From == "" || e.Fleet.Unread != "" {
			continue
		}
		left, err := s.Records.LeftTargets(ctx, l.Name, e.Name, targetNames(e))
		if err != nil {
			return l, err
		}
		e.Fleet.Gone = left
		e.Fleet.Targets = slices.Clip(e.Fleet.Targets) // the list is kept
		for _, name := range left {
			e.Fleet.Targets = append(e.Fleet.Targets, lane.Target{Name: name, Reference: lane.ReferenceOf(e.Fleet.From, name)})
		}
	}
	return l, nil
}

// lanes are all lanes, with the targets of their fleets.
func (s *targets) lanes(ctx context.Context) ([]lane.Lane, error) {
	list, err := s.Records.Lanes(ctx)
	for i := 0; i < len(list) && err == nil; i++ {
		list[i], err = s.whole(ctx, list[i])
	}
	return list, err
}

func (s *targets) lane(ctx context.Context, name string) (lane.Lane, error) {
	l, err := s.Records.Lane(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		return l, notFound(
			"lane", name,
			or(see(remedy.LookAtLanes, "see which there are"), see(remedy.Declare, "declare one")),
		)
	}
	if err != nil {
		return l, err
	}
	return s.whole(ctx, l)
}
