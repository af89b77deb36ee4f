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

// verification reads the targets of a lane, and says what is inconsistent. A target that cannot be reached is named,
// and nothing is held against it. An environment is held against the one before also for who may not look at that, as
// its gate does.
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
	var places []lane.Environment
	for _, e := range l.Environments {
		if e.Fleet != nil && e.Fleet.Unread != "" { // none of its targets is known
			places = append(places, e)
		}
		places = append(places, e.Places()...)
	}
	places = slices.DeleteFunc(places, func(e lane.Environment) bool {
		return !wantedPlace(in.Environment, e.Name) && lane.EnvironmentOf(e.Name) != l.Before(in.Environment)
	})
	seen := make([]verify.Environment, len(places))
	troubles := make([]api.Trouble, len(places))
	each(places, mostLooks, func(i int, e lane.Environment) {
		var err error
		if e.Fleet != nil {
			err = manyTargets(e)
		} else {
			seen[i], err = s.targets.history(c, s.targets.at(l, e, catalogue), "vorrangd verify")
		}
		if err != nil {
			seen[i], troubles[i] = verify.Environment{Name: e.Name, Unreached: true}, unreachable(err)
		}
	})
	wanted := func(place string) bool {
		return wantedPlace(in.Environment, place) && !hidden(c, l.Name, place)
	}
	found := verify.Lane(l.Name, seen)
	answer := &api.Verification{
		Lane:         in.Lane,
		Environments: []string{},
		Unreached:    []api.Unreached{},
		Empty:        slices.DeleteFunc(found.Empty, func(e verify.Empty) bool { return !wanted(e.Environment) }),
		Uncompared:   slices.DeleteFunc(found.Uncompared, func(u verify.Uncompared) bool { return !wanted(u.Environment) }),
		Deviations:   slices.DeleteFunc(found.Deviations, func(d verify.Deviation) bool { return !wanted(d.Environment) }),
	}
	for i, e := range seen {
		switch {
		case !wanted(e.Name):
		case e.Unreached:
			answer.Unreached = append(answer.Unreached,
				api.Unreached{Environment: e.Name, Message: troubles[i].Message, Remedies: troubles[i].Remedies})
		case e.HasHistory():
			answer.Environments = append(answer.Environments, e.Name)
		}
	}
	return answer, nil
}

// wantedPlace reports whether a question about an environment, or about all where it is empty, is
// about a place.
func wantedPlace(asked, place string) bool {
	return asked == "" || asked == place || asked == lane.EnvironmentOf(place)
}
