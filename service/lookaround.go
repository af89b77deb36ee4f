package service

import (
	"context"
	"errors"
	"slices"
	"time"

	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/records"
)

// driftPatience bounds one environment's scheduled look.
const driftPatience = time.Minute

// nextLook is when an environment is to be checked next.
func (s *drifts) nextLook(ctx context.Context) (time.Time, bool, error) {
	due, err := s.looksDue(ctx)
	if err != nil || len(due) == 0 {
		return time.Time{}, false, err
	}
	return due[0].at, true, nil
}

type dueLook struct {
	at          time.Time
	lane        lane.Lane
	environment lane.Environment
}

// looksDue lists the environments that are checked, the first due ahead.
func (s *drifts) looksDue(ctx context.Context) ([]dueLook, error) {
	lanes, err := s.targets.lanes(ctx)
	if err != nil {
		return nil, err
	}
	looked, err := s.Records.DriftLooked(ctx)
	if err != nil {
		return nil, err
	}
	var list []dueLook
	for _, l := range lanes {
		for _, e := range l.Places() {
			if e.LookForDrift == 0 {
				continue
			}
			list = append(list, dueLook{at: looked[l.Name+"/"+e.Name].Add(e.LookForDrift), lane: l, environment: e})
		}
	}
	slices.SortFunc(list, func(a, b dueLook) int { return a.at.Compare(b.at) })
	return list, nil
}

// lookAround looks for drift where it is time. An environment that cannot be
// checked has that kept as what was found.
func (s *drifts) lookAround(ctx context.Context) error {
	due, err := s.looksDue(ctx)
	if err != nil {
		return err
	}
	for _, d := range due {
		if d.at.After(s.Now()) {
			break
		}
		if err := s.lookAt(ctx, d); err != nil {
			return err
		}
	}
	return nil
}

// lookAt looks at one environment, unless another service does.
func (s *drifts) lookAt(ctx context.Context, d dueLook) error {
	p := s.targets.at(d.lane, d.environment, nil)
	task := "look " + placeName(p)
	claimed, err := s.Records.Claim(ctx, task)
	if err != nil || !claimed {
		return err
	}
	defer func() { _ = s.Records.Unclaim(context.WithoutCancel(ctx), task) }() // else it is claimed again by us
	last, err := s.Records.DriftLook(ctx, d.lane.Name, d.environment.Name)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return err
	}
	if last.At.Add(d.environment.LookForDrift).After(s.Now()) {
		return nil // another service has just done it
	}
	within, cancel := context.WithTimeout(context.WithValue(ctx, pageKey{}, true), driftPatience)
	_, _, err = s.lookForDrift(within, p, s.seen.inPassing(p))
	cancel()
	if err != nil && ctx.Err() == nil {
		s.Log.Warn("an environment could not be read for drift", "lane", d.lane.Name,
			"environment", d.environment.Name, "error", err)
		err = s.saveLook(ctx, p, s.Now(), gate.Drifted{Unknown: unreachable(err).Message}, "")
	}
	return err
}
