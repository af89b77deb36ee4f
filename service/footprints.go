package service

import (
	"errors"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/rehearsal"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
)

// footprints says what the steps of a deployment did to their surroundings, beside what
// the newest rehearsal of the same plan saw.
func (s *deploying) footprints(c call, in *deploymentIn) (*api.Footprints, error) {
	if _, err := s.deployment(c, in); err != nil { // it may be hidden
		return nil, err
	}
	d, err := s.Records.Deployment(c, in.ID)
	if err != nil {
		return nil, err
	}
	events, err := s.Records.Measured(c, in.ID)
	if err != nil {
		return nil, err
	}
	rehearsed, allRows := map[step.Number]*engine.Footprint{}, false
	if d.Plan.Direction == ledger.Forward {
		kept, err := s.Records.Rehearsed(c, d.Lane, d.Environment, d.Plan.Digest(), "")
		if err != nil && !errors.Is(err, records.ErrNotFound) {
			return nil, err
		}
		allRows = kept.Result.Cloned
		for _, one := range kept.Result.Steps {
			rehearsed[one.Number] = one.Footprint
		}
	}
	answer := &api.Footprints{Footprints: []api.StepFootprint{}}
	for _, e := range events {
		one := api.StepFootprint{
			StepRef:    api.StepRef{Number: e.Step, Slug: e.Slug, Direction: e.Direction},
			DurationMS: e.DurationMS, Measured: *e.Footprint, Rehearsed: rehearsed[e.Step], Unlike: []string{},
			Estimates: []rehearsal.Estimate{},
		}
		if one.Rehearsed != nil {
			one.Estimates = append(one.Estimates, rehearsal.EstimatesOf(*one.Rehearsed, allRows)...)
			one.Unlike = append(one.Unlike, rehearsal.Unlike(*one.Rehearsed, one.Measured, one.Estimates)...)
		}
		answer.Footprints = append(answer.Footprints, one)
	}
	return answer, nil
}
