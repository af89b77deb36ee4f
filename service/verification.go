package service

import (
	"slices"

	"vorrang/core/lane"
	"vorrang/core/verify"
	"vorrang/service/api"
)

type verifyIn struct {
	Lane        string `path:"lane"`
	Environment string `query:"environment" description:"Only this one, still held against the one before it; all if absent."`
}

// verification looks at all targets of a lane, and says what is inconsistent.
// A target that cannot be reached is named, and nothing is held against it.
func (s *views) verification(c call, in *verifyIn) (*api.Verification, error) {
	l, err := s.targets.lane(c, in.Lane)
	if err != nil {
		return nil, err
	}
	if in.Environment != "" {
		if _, err := s.targets.environment(c, in.Lane, in.Environment); err != nil {
			return nil, err
		}
	}
	catalogue, err := s.Records.Catalogue(c, in.Lane)
	if err != nil {
		return nil, err
	}
	unread := unreadFleets(l)
	l.Environments = slices.DeleteFunc(
		l.Places(),
		func(e lane.Environment) bool { return hidden(c, l.Name, e.Name) },
	)
	seen := make([]*verify.Environment, len(l.Environments))
	troubles := make([]*api.Unreached, len(l.Environments))
	each(l.Environments, mostLooks, func(i int, e lane.Environment) {
		found, err := s.targets.history(c, s.targets.at(l, e, catalogue), "vorrangd verify")
		if err == nil {
			seen[i] = &found
			return
		}
		trouble := unreachable(err)
		troubles[i] = &api.Unreached{Environment: e.Name, Message: trouble.Message, Remedies: trouble.Remedies}
	})
	answer := &api.Verification{
		Lane:         in.Lane,
		Environments: []string{},
		Unreached:    []api.Unreached{},
		Deviations:   []verify.Deviation{},
	}
	var reached []verify.Environment
	for i, e := range l.Environments {
		wanted := wantedPlace(in.Environment, e.Name)
		if seen[i] != nil {
			reached = append(reached, *seen[i])
		}
		switch {
		case wanted && seen[i] != nil:
			answer.Environments = append(answer.Environments, e.Name)
		case wanted:
			answer.Unreached = append(answer.Unreached, *troubles[i])
		}
	}
	for _, e := range unread {
		if wantedPlace(in.Environment, e.Name) && !hidden(c, l.Name, e.Name) {
			trouble := unreachable(manyTargets(e))
			answer.Unreached = append(
				answer.Unreached,
				api.Unreached{Environment: e.Name, Message: trouble.Message, Remedies: trouble.Remedies},
			)
		}
	}
	for _, d := range verify.Lane(l.Name, reached) {
		if wantedPlace(in.Environment, d.Environment) {
			answer.Deviations = append(answer.Deviations, d)
		}
	}
	return answer, nil
}

// wantedPlace reports whether a question about an environment, or about all where it is empty, is
// about a place.
func wantedPlace(asked, place string) bool {
	return asked == "" || asked == place || asked == lane.EnvironmentOf(place)
}
