package service

import (
	"fmt"

	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

// What people vouch for, and the ledger records: nothing here runs a step.

type baselineIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	At          string `json:"at" required:"true" description:"The last step that the database already contains; 0 for none."`
	Check       bool   `json:"check,omitempty" description:"Apply the steps to a scratch database first, and compare the names of its objects with the target's."`
}

func (s *repairs) baseline(c call, in *baselineIn) (*api.Recorded, error) {
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	at, err := step.ParseNumber(in.At)
	if err != nil {
		return nil, badRequest(nil, "at: %s", err)
	}
	return s.record(c, p, func(session engine.Session, facts gate.Facts) ([]ledger.Entry, string, error) {
		if !facts.View.State.Untouched() {
			return nil, "", refused(
				p.do(remedy.LookAtStatus, "see where it stands"),
				"%s has a history already: its ledger has entries about steps; a baseline is for databases of which "+
					"nothing is known",
				in.Environment,
			)
		}
		if facts.View.State.Baseline != "" { // a correction: what is there counts as before
			if facts.Existing, err = session.Existing(c, p.environment.Schemas); err != nil {
				return nil, "", err
			}
		}
		covers, slug, err := covered(p, at)
		if err != nil {
			return nil, "", err
		}
		if !facts.Existing.Any() && len(covers) > 0 {
			return nil, "", refused(p.do(remedy.Promote, ""),
				"%s is empty: there is nothing that steps could already have made; promote instead", in.Environment)
		}
		checked := ""
		if in.Check {
			if checked, err = s.checkBaseline(c, p, session, at); err != nil {
				return nil, "", err
			}
		}
		entry := ledger.Entry{Action: ledger.Baselined, Step: at, Slug: slug, Actor: c.actor,
			Detail: ledger.Detail{Tables: facts.Existing.Tables, Covers: covers}.JSON()}
		message := fmt.Sprintf(
			"%s begins at step %s: %s covered, nothing was run%s",
			in.Environment, at,
			plural.Count(len(covers), "step is", "steps are"),
			checked,
		)
		return []ledger.Entry{entry}, message, nil
	})
}

// covered lists the catalogue's steps up to a number.
func covered(p targetContext, at step.Number) (covers []step.Number, slug string, err error) {
	covers = []step.Number{}
	for _, c := range p.catalogue {
		if step.Compare(c.Number, at) <= 0 {
			covers = append(covers, c.Number)
			slug = c.Slug
		}
	}
	if at == "0" {
		return covers, "", nil
	}
	if len(covers) == 0 || covers[len(covers)-1] != at {
		return nil, "", refused(
			noSuchStep(p.at()),
			"there is no step %s in the catalogue",
			at,
		)
	}
	return covers, slug, nil
}

// record writes entries of somebody's word into a ledger, under the lock.
func (s *repairs) record(
	c call, p targetContext,
	make func(engine.Session, gate.Facts) (entries []ledger.Entry, message string, err error),
) (*api.Recorded, error) {
	session, err := s.targets.locked(c, p, "vorrangd")
	if err != nil {
		return nil, err
	}
	defer session.Close()
	if p, err = s.targets.place(c, p.lane.Name, p.environment.Name); err != nil { // as it is now that nobody else acts
		return nil, err
	}
	facts, _, err := s.targets.look(c, p, session)
	if err != nil {
		return nil, err
	}
	if facts.Chain != nil || facts.Strange != "" || facts.Foreign() {
		return nil, held(p, gate.Back(facts, nil), nil)
	}
	if err := s.targets.claimable(c, p, session, facts.View.State); err != nil {
		return nil, err
	}
	entries, message, err := make(session, facts)
	if err != nil {
		return nil, err
	}
	if err := s.write(c, p, session, facts.View.State, entries); err != nil {
		return nil, err
	}
	return &api.Recorded{Entries: entries, Message: message}, nil
}

// write chains entries after a ledger's head and commits them together.
func (s *repairs) write(
	c call, p targetContext, session engine.Session, state ledger.State, entries []ledger.Entry,
) error {
	if len(entries) == 0 {
		return nil
	}
	head, before := state.Head, state.Head.Seq
	entries[0] = claimed(entries[0], claim(p, state))
	if err := session.CreateLedger(c); err != nil {
		return err
	}
	for i := range entries {
		entries[i] = s.Records.LedgerKey.Next(head, entries[i], s.Now())
		head = entries[i].Head()
	}
	if err := session.AppendAll(c, entries); err != nil {
		return err
	}
	for _, e := range entries {
		s.Log.Info("ledger entry written", "lane", p.lane.Name, "environment", p.environment.Name, "action", e.Action,
			"step", e.Step, "actor", c.actor)
	}
	s.drifts.carryOver(c, p, session, before, entries)
	return s.Records.SaveHead(c, p.lane.Name, p.environment.Name, head)
}
