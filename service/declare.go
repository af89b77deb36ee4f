package service

import (
	"errors"

	"vorrang/core/lane"
	"vorrang/records"
	"vorrang/service/api"
)

type laneFileIn struct {
	File    string `query:"file" default:"lane.yaml" description:"The file's name, for errors."`
	Confirm string `query:"confirm" description:"The lane's name, typed; needed where something is loosened, moved or dropped."`
}

// declareLane keeps a lane's declaration. What an environment asks by its name
// alone is written out first, so that it does not go with the name.
func (s *catalogue) declareLane(c call, in *laneFileIn) (*api.Declared, error) {
	l, err := lane.Parse(in.File, c.fiber.Body(), s.Engines.Traits())
	if err != nil {
		return nil, err
	}
	answer := &api.Declared{Asks: []api.Asked{}, Changes: []lane.Change{}}
	for i, e := range l.Environments {
		asks, why := e.Asks(), ""
		if words := asks.Words(); e.Gate == nil && len(words) > 0 {
			why = "implied by its name; write a gate section to ask for less or more"
		}
		l.Environments[i].Gate = &asks
		answer.Asks = append(
			answer.Asks,
			api.Asked{Environment: e.Name, Asks: append([]string{}, asks.Words()...), Why: why},
		)
	}
	answer.Lane = s.targets.listed(l)
	for i, e := range answer.Lane.Environments {
		if e.Fleet != nil {
			answer.Asks[i].Unread = e.Fleet.Unread
		}
	}
	before, err := s.Records.Lane(c, l.Name)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return nil, err
	}
	if err == nil {
		answer.Changes = append(answer.Changes, lane.Changes(s.targets.listed(before), answer.Lane)...)
	}
	if err := loosened(l.Name, answer.Changes, in.Confirm); err != nil {
		return nil, err
	}
	for _, e := range l.Environments {
		for _, reference := range e.References() {
			if !s.targets.mayRefer(reference.Value) {
				return nil, refused(
					by("its operator says which it allows"),
					"%s: %s is not a reference that this service allows",
					e.Name, reference.Value,
				)
			}
		}
	}
	if err := s.targets.distinct(c, answer.Lane); err != nil {
		return nil, err
	}
	err = s.Records.Change(c, l.Name, func() (err error) {
		answer.Changed, err = s.Records.DeclareLane(c, l, c.actor)
		return err
	})
	if err != nil {
		return nil, err
	}
	c.note("lane", l.Name)
	c.note("changed", answer.Changed)
	s.looks.Wake()
	s.Log.Info("lane declared", "lane", l.Name, "changed", answer.Changed, "actor", c.actor)
	return answer, nil
}

// loosened refuses a declaration that asks for less, moves a target or drops an
// environment, unless the lane's name was typed.
func loosened(name string, changes []lane.Change, typed string) error {
	var lines []string
	for _, change := range changes {
		if change.Loosens {
			lines = append(lines, change.Environment+": "+change.What)
		}
	}
	if len(lines) == 0 || typed == name {
		return nil
	}
	return refuseDifferences(todo{confirm(name).For("if all of that is meant, type the lane's name")}, lines,
		"this declaration loosens a gate, moves a target or drops an environment of %s", name)
}
