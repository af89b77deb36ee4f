package service

import (
	"fmt"
	"strings"
	"time"

	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/service/api"
	"vorrang/target/postgres"
)

// What people vouch for, and the ledger records: nothing here runs a step.

type baselineIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	At          string `json:"at" required:"true" description:"The last step that the database already contains; 0 for none."`
}

func (s *Service) baseline(c call, in *baselineIn) (*api.Recorded, error) {
	p, err := s.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	at, err := step.ParseNumber(in.At)
	if err != nil {
		return nil, badRequest("", "at: %s", err)
	}
	return s.record(c, p, func(session *postgres.Session, facts gate.Facts) (ledger.Entry, string, error) {
		if facts.Entries > 0 {
			return ledger.Entry{}, "", refused("vorrang status says where it stands",
				"%s has a ledger of %s already; a baseline is for databases that have none", in.Environment, count(facts.Entries, "entry", "entries"))
		}
		covers, slug, err := covered(p, at)
		if err != nil {
			return ledger.Entry{}, "", err
		}
		if !facts.Unlisted.Any() && len(covers) > 0 {
			return ledger.Entry{}, "", refused(fmt.Sprintf("vorrang promote -lane %s -to %s", in.Lane, in.Environment),
				"%s is empty: there is nothing that steps could already have made; promote instead", in.Environment)
		}
		entry := ledger.Entry{Action: ledger.Baselined, Step: at, Slug: slug, Actor: c.actor,
			Detail: ledger.Detail{Tables: facts.Unlisted.Tables, Covers: covers}.JSON()}
		message := fmt.Sprintf("%s begins at step %s: %s covered, nothing was run", in.Environment, at, count(len(covers), "step is", "steps are"))
		return entry, message, nil
	})
}

// covered lists the catalogue's steps up to a number.
func covered(p place, at step.Number) (covers []step.Number, slug string, err error) {
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
		return nil, "", refused("vorrang status lists the steps; vorrang submit sends new ones", "there is no step %s in the catalogue", at)
	}
	return covers, slug, nil
}

type settleIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Step        string `json:"step" required:"true"`
	As          string `json:"as" required:"true" enum:"applied,not-applied" description:"Whether the statement in doubt, and so the step, took effect."`
	Reason      string `json:"reason" required:"true" minLength:"1"`
}

// settle records what became of a step in doubt.
func (s *Service) settle(c call, in *settleIn) (*api.Recorded, error) {
	if in.As != ledger.SettledApplied && in.As != ledger.SettledNotApplied {
		return nil, badRequest("", "as: it is applied or not-applied, not %q", in.As)
	}
	p, number, reason, err := s.repair(c, in.Lane, in.Environment, in.Step, in.Reason)
	if err != nil {
		return nil, err
	}
	return s.record(c, p, func(_ *postgres.Session, facts gate.Facts) (ledger.Entry, string, error) {
		standing, known := facts.View.Find(number)
		if !known || standing.State.Status != ledger.StatusInDoubt {
			return ledger.Entry{}, "", refused("vorrang status says what every step's state is", "step %s is not in doubt on %s", number, in.Environment)
		}
		progress := standing.State.Progress
		last := progress.Statement >= progress.Of
		if in.As == ledger.SettledApplied && !last {
			return ledger.Entry{}, "", refused("settle it as not-applied, and the next promotion goes on at that statement; "+
				"or carry the remaining statements out by hand before you settle it as applied",
				"step %s stopped at statement %d of %d; as a whole it cannot have been applied", number, progress.Statement, progress.Of)
		}
		progress.As, progress.Reason, progress.Error = in.As, reason, ""
		entry := ledger.Entry{Action: ledger.Settled, Step: number, Slug: standing.State.Slug, Checksum: standing.State.Checksum,
			Actor: c.actor, Detail: progress.JSON()}
		return entry, fmt.Sprintf("step %s is settled as %s on %s", number, in.As, in.Environment), nil
	})
}

type amendIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Step        string `json:"step" required:"true"`
	Reason      string `json:"reason" required:"true" minLength:"1"`
}

// amend records that the catalogue's text of an edited step is right, though
// another was applied.
func (s *Service) amend(c call, in *amendIn) (*api.Recorded, error) {
	p, number, reason, err := s.repair(c, in.Lane, in.Environment, in.Step, in.Reason)
	if err != nil {
		return nil, err
	}
	return s.record(c, p, func(_ *postgres.Session, facts gate.Facts) (ledger.Entry, string, error) {
		standing, known := facts.View.Find(number)
		if !known || !standing.Has(plan.Edited) {
			return ledger.Entry{}, "", refused("vorrang status says what every step's state is", "step %s is not edited on %s", number, in.Environment)
		}
		entry := ledger.Entry{Action: ledger.Amended, Step: number, Slug: standing.Step.Slug, Checksum: standing.Step.Forward.Checksum,
			Actor: c.actor, Detail: ledger.Detail{Reason: reason, Instead: standing.State.Checksum}.JSON()}
		return entry, fmt.Sprintf("the text of step %s with the checksum %s is right on %s from now on; it was not run",
			number, standing.Step.Forward.Checksum.Short(), in.Environment), nil
	})
}

// repair reads what every repair of a step is given.
func (s *Service) repair(c call, lane, environment, number, reason string) (place, step.Number, string, error) {
	p, err := s.place(c, lane, environment)
	if err != nil {
		return p, "", "", err
	}
	parsed, err := step.ParseNumber(number)
	if err != nil {
		return p, "", "", badRequest("", "step: %s", err)
	}
	if reason = strings.Join(strings.Fields(reason), " "); reason == "" {
		return p, "", "", badRequest("", "reason: say how you know; it stands in the ledger")
	}
	return p, parsed, reason, nil
}

// record writes one entry of somebody's word into a ledger, under the lock.
func (s *Service) record(c call, p place, make func(*postgres.Session, gate.Facts) (ledger.Entry, string, error)) (*api.Recorded, error) {
	session, err := connect(c, p.environment, "vorrangd")
	if err != nil {
		return nil, err
	}
	defer session.Close()
	if err := s.lock(c, p, session); err != nil {
		return nil, err
	}
	facts, _, err := s.look(c, p, session)
	if err != nil {
		return nil, err
	}
	if facts.Chain != nil {
		return nil, held(p, gate.Back(facts), nil)
	}
	entry, message, err := make(session, facts)
	if err != nil {
		return nil, err
	}
	if err := session.CreateLedger(c); err != nil {
		return nil, err
	}
	entry = facts.View.State.Head.Next(entry, time.Now())
	if err := session.Append(c, entry); err != nil {
		return nil, err
	}
	s.Log.Info("ledger entry written", "lane", p.lane.Name, "environment", p.environment.Name, "action", entry.Action, "step", entry.Step, "actor", c.actor)
	return &api.Recorded{Entry: entry, Message: message}, s.Records.KeepHead(c, p.lane.Name, p.environment.Name, entry.Head())
}
