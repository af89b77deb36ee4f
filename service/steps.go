package service

import (
	"slices"
	"strings"

	"vorrang/core/step"
	"vorrang/service/api"
)

type stepsIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Which       string `query:"which" enum:"all,open" default:"all" description:"open: only those that wait or have trouble."`
	Search      string `query:"search" description:"Only those in whose number, title, state, flags or actor this stands."`
	Before      string `query:"before" description:"Only those with a lower number: next of the page before."`
	Limit       int    `query:"limit" default:"100" minimum:"1" maximum:"5000"`
}

// steps gives a page of a target's steps. The look is the one of the target's status.
func (s *views) steps(c call, in *stepsIn) (*api.Steps, error) {
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	before, err := optionalNumber("before", in.Before)
	if err != nil {
		return nil, err
	}
	status, err := s.environmentStatus(fresh(c), p, "all")
	if err != nil {
		return nil, err
	}
	answer := &api.Steps{Reached: status.Reached, Total: len(status.Steps)}
	if answer.Total > 0 {
		answer.Newest = status.Steps[answer.Total-1].Number
	}
	found := []api.StepStatus{}
	for _, one := range slices.Backward(status.Steps) {
		if one.Open {
			answer.Open++
		}
		switch {
		case before != "" && step.Compare(one.Number, before) >= 0:
		case in.Which == "open" && !one.Open:
		case !contains(in.Search, stepWords(one)):
		case len(found) <= in.Limit: // one more tells that there is a next page
			found = append(found, one)
		}
	}
	answer.Steps, answer.Next = page(found, in.Limit, func(s api.StepStatus) step.Number { return s.Number })
	return answer, nil
}

// stepWords is what a step is searched by.
func stepWords(s api.StepStatus) string {
	words := []string{string(s.Number), strings.ReplaceAll(s.Slug, "-", " "), s.Slug, string(s.State), s.Actor}
	for _, flag := range s.Flags {
		words = append(words, string(flag))
	}
	return strings.Join(words, "\n")
}
