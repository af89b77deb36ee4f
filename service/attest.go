package service

import (
	"fmt"

	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

type attestIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Step        string `json:"step,omitempty" description:"One step; give it or through."`
	Through     string `json:"through,omitempty" description:"Every step that waits, up to this one."`
	IfPresent   bool   `json:"if_present,omitempty" description:"Only the steps of which everything that they create is there."`
	Acknowledge bool   `json:"acknowledge,omitempty" description:"Record it though not everything is as the steps should have left it."`
	Reason      string `json:"reason" required:"true" minLength:"1"`
}

// attest records steps as run by hand. It looks what the target shows
// of them, and runs nothing of them.
func (s *repairs) attest(c call, in *attestIn) (*api.Attested, error) {
	if (in.Step == "") == (in.Through == "") {
		return nil, badRequest(nil, "give exactly one of step and through")
	}
	p, number, reason, err := s.repair(c, in.Lane, in.Environment, in.Step+in.Through, in.Reason)
	if err != nil {
		return nil, err
	}
	answer := &api.Attested{Entries: []ledger.Entry{}, Steps: []api.AttestedStep{}}
	recorded, err := s.record(c, p, func(session engine.Session, facts gate.Facts) ([]ledger.Entry, string, error) {
		chosen, err := toAttest(facts.View, number, in.Through != "", p.at())
		if err != nil {
			return nil, "", err
		}
		var entries []ledger.Entry
		var wrong []string
		for _, standing := range chosen {
			e, err := s.targets.evidenceOf(c, p, session, standing)
			if err != nil {
				return nil, "", err
			}
			looked := api.AttestedStep{Evidence: evidenceOf(e), Attested: !in.IfPresent || e.step.AllMade()}
			answer.Steps = append(answer.Steps, looked)
			if !looked.Attested {
				continue
			}
			for _, line := range looked.Wrong {
				wrong = append(wrong, fmt.Sprintf("step %s (%s): %s", standing.Step.Number, standing.Step.Slug, line))
			}
			entries = append(
				entries,
				ledger.Entry{Action: ledger.Attested, Step: standing.Step.Number, Slug: standing.Step.Slug,
					Checksum: standing.Step.Forward.Checksum, Actor: c.actor,
					Detail: ledger.Detail{Reason: reason, Seen: e.step.Lines(), Against: e.step.Wrong()}.JSON()},
			)
		}
		if len(wrong) > 0 && !in.Acknowledge {
			return nil, "", refuseDifferences(
				or(by("run what is missing"), see(remedy.Acknowledge, "if it is meant to be like this")),
				wrong,
				"%s not as %s should have left %s",
				plural.Count(len(wrong), "thing is", "things are"),
				plural.Count(len(entries), "the step", "these steps"),
				in.Environment,
			)
		}
		return entries, fmt.Sprintf(
			"%s attested on %s; nothing was run",
			plural.Count(len(entries), "step is", "steps are"),
			in.Environment,
		), nil
	})
	if err != nil {
		return nil, err
	}
	answer.Entries, answer.Message = recorded.Entries, recorded.Message
	return answer, nil
}

// toAttest finds the steps that can be attested.
func toAttest(view plan.View, number step.Number, through bool, at remedy.Place) ([]plan.Standing, error) {
	named, known := view.Find(number)
	switch {
	case !known:
		return nil, refused(
			noSuchStep(at),
			"there is no step %s in the catalogue",
			number,
		)
	case through:
		var chosen []plan.Standing
		for _, s := range view.Pending() {
			if step.Compare(s.Step.Number, number) <= 0 {
				chosen = append(chosen, s)
			}
		}
		if len(chosen) == 0 {
			return nil, refused(
				todo{at.Do(remedy.LookAtStatus).For("see what the state of each step is")},
				"no step up to %s waits on %s",
				number, at.Environment,
			)
		}
		return chosen, nil
	case named.State.Doubtful():
		return nil, refused(
			todo{at.Step(remedy.LookAtEvidence, number).For("see what the target shows, and settle it")},
			"step %s is in doubt on %s: settle it",
			number, at.Environment,
		)
	case !named.Waits():
		return nil, refused(
			todo{at.Do(remedy.LookAtStatus).For("see what the state of each step is")},
			"step %s does not wait on %s: it is %s",
			number, at.Environment, named.State.Status,
		)
	}
	return []plan.Standing{named}, nil
}
