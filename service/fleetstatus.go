package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/remedy"
	"vorrang/internal/plural"
	"vorrang/records"
	"vorrang/service/api"
)

// fleetWithSteps is the status of a fleet, with the steps of the first target of its largest group.
func (s *views) fleetWithSteps(ctx context.Context, p targetContext, steps string) (api.EnvironmentStatus, error) {
	status, err := s.looking.once(ctx, p, false,
		func(ctx context.Context) (api.EnvironmentStatus, error) { return s.fleetStatus(ctx, p) })
	if err == nil && status.Reading {
		fleet := *status.Fleet // others have it too
		fleet.Running, fleet.Last = nil, nil
		status.Fleet = &fleet
		err = s.lastOfFleet(ctx, p, &status)
	}
	if err != nil || steps == "none" || len(status.Fleet.Groups) == 0 {
		return status, err
	}
	first, found := p.lane.Place(lane.PlaceName(p.environment.Name, status.Fleet.Groups[0].Targets[0]))
	if !found { // it left the list since the look
		return status, nil
	}
	like, err := s.environmentStatus(ctx, s.targets.at(p.lane, first, p.catalogue), steps)
	status.Steps = like.Steps
	return status, err
}

// fleetStatus looks at all targets of a fleet, and says which of them agree.
func (s *views) fleetStatus(ctx context.Context, p targetContext) (api.EnvironmentStatus, error) {
	e := p.environment
	status := nothingSeen(p)
	if e.Fleet.Unread != "" {
		status.Trouble = append(status.Trouble, unreachable(manyTargets(e)))
		return status, nil
	}
	aside, err := s.Records.AsideOf(ctx, p.lane.Name, e.Name)
	if err != nil {
		return status, err
	}
	var places []targetContext
	for _, place := range s.targets.places(p) {
		if a, is := aside[lane.TargetOf(place.environment.Name)]; is {
			status.Fleet.Aside = append(status.Fleet.Aside, api.SetAside{Target: a.Target, Reason: a.Reason, By: a.By, At: a.At})
		} else {
			places = append(places, place)
		}
	}
	seen, errs := make([]api.EnvironmentStatus, len(places)), make([]error, len(places))
	each(places, mostLooks, func(i int, place targetContext) { seen[i], errs[i] = s.environmentStatus(ctx, place, "none") })
	if err := errors.Join(errs...); err != nil {
		return status, err
	}
	groups := grouped(seen)
	for _, g := range groups {
		status.Fleet.Groups = append(status.Fleet.Groups, groupOf(e.Name, g))
	}
	status.Trouble = append(status.Trouble, troublesOf(e.Name, seen, len(seen))...)
	if len(places) == 0 {
		status.Trouble = append(status.Trouble, api.Trouble{
			Kind:     "unreachable",
			Message:  fmt.Sprintf("every target of %s is set aside, so none was read", e.Name),
			Remedies: []remedy.Remedy{remedy.ByHand("take a target back that can be reached")},
		})
	}
	if len(groups) > 0 {
		status = asGroup(status, groups[0][0])
		status.Gate = gateOf(e.Name, seen)
	}
	return status, s.lastOfFleet(ctx, p, &status)
}

// grouped puts those that agree together, the largest group first.
func grouped(seen []api.EnvironmentStatus) (groups [][]api.EnvironmentStatus) {
	for _, alike := range lane.Alike(len(seen), func(i int) (string, string) {
		one := seen[i]
		key := fmt.Sprint(one.Reached, one.At, one.Applied, one.Pending, one.Covered, one.Running != nil)
		for _, t := range one.Trouble {
			key += "\x00" + likeness(t)
		}
		return one.Environment, key
	}) {
		var group []api.EnvironmentStatus
		for _, i := range alike {
			group = append(group, seen[i])
		}
		groups = append(groups, group)
	}
	slices.SortStableFunc(groups, func(a, b []api.EnvironmentStatus) int { return len(b) - len(a) })
	return groups
}

// ownMoment is when something was on one target, in a sentence about it.
var ownMoment = regexp.MustCompile(`\d{4}-\d\d-\d\d \d\d:\d\d:\d\d UTC`)

// likeness is what targets with the same trouble have in common: not the moment, nor the host, the deployment or the
// row that was the cause on one of them, but what is to be done.
func likeness(t api.Trouble) string {
	what := ownMoment.ReplaceAllString(t.Message, "")
	switch t.Kind {
	case "unreachable", "failed", string(gate.NothingInDoubt):
		data, _ := json.Marshal(t.Remedies) // it holds nothing that cannot be written
		what = string(data)
	}
	return fmt.Sprint(t.Kind, " ", t.Step, " ", t.Differs, " ", what)
}

// groupOf is a group of targets of an environment.
func groupOf(environment string, list []api.EnvironmentStatus) api.FleetGroup {
	first := list[0]
	g := api.FleetGroup{
		At: first.At, AtSlug: first.AtSlug, Applied: first.Applied, Pending: first.Pending, Reached: first.Reached,
		Trouble: troublesOf(environment, list, 1),
	}
	if first.Reached {
		g.Gate = gate.Result{Checks: first.Gate}.Word()
	}
	for _, one := range list {
		g.Targets = append(g.Targets, lane.TargetOf(one.Environment))
	}
	return g
}

// troublesOf are the troubles of targets of an environment, what is told of most of them first. Each says whose it is,
// if of is more than one: of how many. Where it is told in different words, the first target is the example.
func troublesOf(environment string, seen []api.EnvironmentStatus, of int) []api.Trouble {
	type told struct {
		place string
		api.Trouble
	}
	var all []told
	for _, one := range seen {
		for _, t := range one.Trouble {
			all = append(all, told{one.Environment, t})
		}
	}
	groups := lane.Alike(len(all), func(i int) (string, string) { return all[i].place, likeness(all[i].Trouble) })
	slices.SortStableFunc(groups, func(a, b []int) int { return len(b) - len(a) })
	list := []api.Trouble{}
	for _, group := range groups {
		t := all[group[0]].Trouble
		var places, messages []string
		for _, i := range group {
			places, messages = append(places, all[i].place), append(messages, all[i].Message)
		}
		if t.Message = gate.Example(places, messages); of > 1 {
			t.Message = fmt.Sprintf("%d of %s (%s): %s", len(places), plural.Of(of, "target"), gate.Some(places), t.Message)
		}
		if len(places) > 1 {
			t.Remedies = ofTheFleet(environment, t.Remedies)
		}
		list = append(list, t)
	}
	return list
}

// ofTheFleet has a remedy promote to the whole fleet, whose targets all wait for that.
func ofTheFleet(environment string, remedies []remedy.Remedy) []remedy.Remedy {
	list := slices.Clone(remedies)
	for i := range list {
		if list[i].Act == remedy.Promote && list[i].Then == nil {
			list[i].Arguments.Environment = environment
		}
	}
	return list
}

// asGroup is a fleet's status with the figures of its largest group.
func asGroup(status, first api.EnvironmentStatus) api.EnvironmentStatus {
	status.At, status.AtSlug, status.Applied, status.Covered = first.At, first.AtSlug, first.Applied, first.Covered
	status.Pending, status.NotHere, status.Baseline = first.Pending, first.NotHere, first.Baseline
	status.Entries, status.Reached = first.Entries, first.Reached
	return status
}

// gateOf is the gate of all targets together.
func gateOf(environment string, seen []api.EnvironmentStatus) []gate.Check {
	var list []gate.Answer
	var away []gate.Away
	for _, one := range seen {
		if one.Reached {
			list = append(list, gate.Answer{Place: one.Environment, Result: gate.Result{Checks: one.Gate}})
			continue
		}
		why := ""
		if len(one.Trouble) > 0 {
			why = one.Trouble[0].Message
		}
		away = append(away, gate.Away{Place: one.Environment, Why: why})
	}
	return gate.Merge(environment, list, away).Checks
}

// lastOfFleet adds the deployments to the fleet.
func (s *views) lastOfFleet(ctx context.Context, p targetContext, status *api.EnvironmentStatus) error {
	newest, err := s.Records.FleetDeployments(
		ctx, records.DeploymentQuery{Lane: p.lane.Name, Environment: p.environment.Name, Limit: 2})
	if err != nil {
		return err
	}
	list, err := s.targets.counted(ctx, newest)
	for _, f := range list {
		if f.EndedAt == nil {
			status.Fleet.Running = &f
		} else if status.Fleet.Last == nil {
			status.Fleet.Last = &f
		}
	}
	return err
}
