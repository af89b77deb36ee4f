package service

import (
	"slices"

	"vorrang/core/lane"
	"vorrang/core/plan"
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
	before := slices.DeleteFunc(slices.Clone(places), func(e lane.Environment) bool {
		return in.Environment == "" || lane.EnvironmentOf(e.Name) != l.Before(in.Environment)
	})
	places = slices.DeleteFunc(places, func(e lane.Environment) bool { return !wantedPlace(in.Environment, e.Name) })
	troubles := map[string]api.Trouble{} // of the places that were not reached
	seen := append(s.readOne(c, l, before, catalogue, troubles), s.readAll(c, l, places, catalogue, troubles)...)
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
	for _, e := range seen {
		switch {
		case !wanted(e.Name):
		case e.Unreached:
			answer.Unreached = append(answer.Unreached,
				api.Unreached{Environment: e.Name, Message: troubles[e.Name].Message, Remedies: troubles[e.Name].Remedies})
		case e.HasHistory():
			answer.Environments = append(answer.Environments, e.Name)
		}
	}
	return answer, nil
}

// readAll reads the histories of places, as many at a time as are looked at. Why some were not reached is kept in
// troubles.
func (s *views) readAll(
	c call, l lane.Lane, places []lane.Environment, catalogue []plan.Step, troubles map[string]api.Trouble,
) []verify.Environment {
	seen, errs := make([]verify.Environment, len(places)), make([]error, len(places))
	each(places, mostLooks, func(i int, e lane.Environment) {
		if e.Fleet != nil {
			errs[i] = manyTargets(e)
		} else {
			seen[i], errs[i] = s.targets.history(c, s.targets.at(l, e, catalogue), "vorrangd verify")
		}
	})
	for i, err := range errs {
		if err != nil {
			seen[i] = verify.Environment{Name: places[i].Name, Unreached: true}
			troubles[places[i].Name] = unreachable(err)
		}
	}
	return seen
}

// readOne reads places until one is reached: that is the one which what follows is held against.
func (s *views) readOne(
	c call, l lane.Lane, places []lane.Environment, catalogue []plan.Step, troubles map[string]api.Trouble,
) (seen []verify.Environment) {
	size := 1 // the first is the one, as a rule
	for len(places) > 0 {
		some := places[:min(size, len(places))]
		seen = append(seen, s.readAll(c, l, some, catalogue, troubles)...)
		if slices.ContainsFunc(seen, func(e verify.Environment) bool { return !e.Unreached }) {
			break
		}
		places, size = places[len(some):], mostLooks
	}
	return seen
}

// wantedPlace reports whether a question about an environment, or about all where it is empty, is
// about a place.
func wantedPlace(asked, place string) bool {
	return asked == "" || asked == place || asked == lane.EnvironmentOf(place)
}
