package service

import (
	"context"
	"fmt"
	"strings"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

// Repairs record what somebody knows and the ledger cannot. None runs anything
// of a step.

type settleIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Step        string `json:"step" required:"true"`
	As          string `json:"as" required:"true" enum:"applied,not-applied,undone,whole,again" description:"Whether the statement in doubt took effect (applied, not-applied); or of a half-done step as a whole: nothing of it is there any more (undone), all of it is there (whole), or it is to begin again at its first statement (again)."`
	Reason      string `json:"reason" required:"true" minLength:"1"`
	Acknowledge bool   `json:"acknowledge,omitempty" description:"Record it though the evidence speaks against it."`
	DropInvalid bool   `json:"drop_invalid,omitempty" description:"Drop the indexes that the statement left marked INVALID first."`
}

// settle records what became of a step in doubt. It also clears away the
// invalid index of a failed one.
func (s *repairs) settle(c call, in *settleIn) (*api.Recorded, error) {
	p, number, reason, err := s.repair(c, in.Lane, in.Environment, in.Step, in.Reason)
	if err != nil {
		return nil, err
	}
	return s.record(c, p, func(session engine.Session, facts gate.Facts) ([]ledger.Entry, string, error) {
		standing, known := facts.View.Find(number)
		if known && (in.As == ledger.SettledUndone || in.As == ledger.SettledWhole || in.As == ledger.SettledAgain) {
			return s.settleWhole(c, p, session, in, standing, reason)
		}
		if !known || !standing.State.Doubtful() && standing.State.Status != ledger.StatusFailed {
			return nil, "", refused(
				p.do(remedy.LookAtStatus, "see what the state of each step is"),
				"step %s is not in doubt on %s",
				number, in.Environment,
			)
		}
		e, err := s.targets.evidenceOf(c, p, session, standing)
		if err != nil {
			return nil, "", err
		}
		broken := e.statement.Invalid()
		if !standing.State.Doubtful() && (len(broken) == 0 || in.As == ledger.SettledApplied) {
			return nil, "", refused(
				p.do(remedy.Promote, "try it again"),
				"step %s failed on %s, and left no invalid index; it is not in doubt",
				number, in.Environment,
			)
		}
		if err := s.clearAway(c, p, session, in, e, broken); err != nil {
			return nil, "", err
		}
		if !in.DropInvalid {
			broken = nil
		}
		entry := settled(standing, e, in.As, reason, c.actor, broken)
		return []ledger.Entry{
				entry,
			}, fmt.Sprintf(
				"step %s is settled as %s on %s%s",
				number, in.As, in.Environment, nextDirection(standing.State, in.As),
			), nil
	})
}

// settleWhole records what is there of a step that stopped half-way, or in doubt,
// as a whole.
func (s *repairs) settleWhole(
	c call, p targetContext, session engine.Session, in *settleIn, standing plan.Standing, reason string,
) ([]ledger.Entry, string, error) {
	number, st := standing.Step.Number, standing.State
	if !unfinished(st) {
		return nil, "", refused(
			p.do(remedy.LookAtStatus, "see what the state of each step is"),
			"step %s is %s on %s, and not half-done",
			number, st.Status, in.Environment,
		)
	}
	version, known := s.targets.versions(c, p)(number, st.Checksum)
	if !known {
		return nil, "", fmt.Errorf("the text that step %s was begun with is not in the catalogue", number)
	}
	statements, err := s.targets.statements(c, p, version.Forward.Checksum)
	if err != nil {
		return nil, "", err
	}
	var lines, against []string
	if in.As == ledger.SettledWhole {
		progress := st.Progress()
		progress.Direction = ledger.Forward
		standing.Step, standing.State = version, st.WithProgress(progress)
		e, err := s.targets.evidenceOf(c, p, session, standing)
		if err != nil {
			return nil, "", err
		}
		lines, against = e.step.Lines(), e.step.Wrong()
	} else {
		took := st.HalfDone()
		if st.Progress().Direction == ledger.Back || st.Doubtful() {
			took = len(statements)
		}
		looked, _, err := session.Peek(c, defaults(p), evidence.Effects(p.dialect().Objects, statements, took), nil)
		if err != nil {
			return nil, "", err
		}
		for _, seen := range looked {
			lines = append(lines, seen.String())
		}
		against = evidence.Remains(looked)
	}
	if len(against) > 0 && !in.Acknowledge {
		return nil, "", refuseDifferences(
			see(remedy.Acknowledge, "look again; if it is meant to be like this"),
			against,
			"%s than that step %s is settled as %s",
			plural.Count(len(against), "thing shows otherwise", "things show otherwise"),
			number, in.As,
		)
	}
	detail := st.Progress()
	detail.As, detail.Reason, detail.Error, detail.SQLState, detail.Seen, detail.Waived = in.As, reason, "", "", lines, nil
	detail.Against = against
	entry := ledger.Entry{
		Action:   ledger.Settled,
		Step:     number,
		Slug:     st.Slug,
		Checksum: st.Checksum,
		Actor:    c.actor,
		Detail:   detail.JSON(),
	}
	what := map[string]string{
		ledger.SettledUndone: "nothing of it is there; the next promotion runs it from its first statement",
		ledger.SettledWhole:  "all of it is there; it is applied",
		ledger.SettledAgain:  "it begins again at its first statement",
	}[in.As]
	return []ledger.Entry{
		entry,
	}, fmt.Sprintf("step %s is settled as %s on %s: %s", number, in.As, in.Environment, what), nil
}

// nextDirection says where a settled step goes on, if anywhere.
func nextDirection(st ledger.StepState, as string) string {
	p := st.Progress()
	switch {
	case as == ledger.SettledNotApplied && p.Direction == ledger.Back:
		return fmt.Sprintf("; a rollback goes on at statement %d of %d", p.Statement, p.Of)
	case as == ledger.SettledNotApplied:
		return fmt.Sprintf("; the next promotion goes on at statement %d of %d", p.Statement, p.Of)
	case p.Statement < p.Of:
		return fmt.Sprintf("; what is left of it begins at statement %d of %d", p.Statement+1, p.Of)
	}
	return ""
}

// clearAway refuses what the evidence speaks against, unless that was
// acknowledged, and drops invalid indexes where that was asked for.
func (s *repairs) clearAway(
	ctx context.Context, p targetContext, session engine.Session, in *settleIn, e stepEvidence,
	broken []evidence.Object,
) error {
	if len(broken) > 0 && !in.DropInvalid && in.As == ledger.SettledNotApplied {
		return refused(
			or(see(remedy.DropInvalid, "have it dropped now, without blocking anybody"), by("drop it yourself first")),
			"the %s was left INVALID by a build that did not end, and the next try would stumble over it",
			broken[0],
		)
	}
	if against := speaksAgainst(e, in.As); len(against) > 0 && !in.Acknowledge && !in.DropInvalid {
		return refuseDifferences(
			see(remedy.Acknowledge, "look again; if you know better"),
			against,
			"the target shows otherwise than that statement %d of step %s is %s",
			e.standing.State.Progress().Statement, e.standing.Step.Number, in.As,
		)
	}
	sweeper, can := session.(engine.Sweeper)
	if !in.DropInvalid || !can { // where none can be there
		return nil
	}
	if err := session.Prepare(ctx, defaults(p)); err != nil {
		return err
	}
	for _, index := range broken {
		if _, err := sweeper.DropInvalid(ctx, index); err != nil {
			return err
		}
	}
	return nil
}

// speaksAgainst lists what contradicts somebody's word on a statement.
func speaksAgainst(e stepEvidence, as string) []string {
	against := []string{}
	for _, seen := range e.statement.Observations {
		telling := seen.Made || seen.Gone
		if telling && seen.Right() == (as == ledger.SettledNotApplied) {
			against = append(against, seen.String())
		}
	}
	progress := e.standing.State.Progress()
	if has, holds := e.statement.Checked(); has && progress.Statement >= progress.Of &&
		holds == (as == ledger.SettledNotApplied) {
		against = append(against, e.statement.Lines()[:len(e.statement.Check)]...)
	}
	return against
}

// settled is the entry that says what became of a step in doubt.
func settled(standing plan.Standing, e stepEvidence, as, reason, actor string, dropped []evidence.Object) ledger.Entry {
	detail := standing.State.Progress()
	detail.As, detail.Reason, detail.Error, detail.SQLState, detail.Seen, detail.Waived = as, reason, "", "",
		e.statement.Lines(), nil
	detail.Against = speaksAgainst(e, as)
	if as == ledger.SettledApplied && detail.Statement < detail.Of {
		var sum sqltext.Sum
		for _, done := range e.statements[:min(detail.Statement, len(e.statements))] {
			sum.Add(done)
		}
		detail.Next, detail.Done = detail.Statement+1, sum.Total()
	}
	for _, index := range dropped {
		detail.Dropped = append(detail.Dropped, index.String())
	}
	return ledger.Entry{
		Action:   ledger.Settled,
		Step:     standing.Step.Number,
		Slug:     standing.State.Slug,
		Checksum: standing.State.Checksum,
		Actor:    actor,
		Detail:   detail.JSON(),
	}
}

type amendIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Step        string `json:"step" required:"true"`
	Reason      string `json:"reason" required:"true" minLength:"1"`
	Acknowledge bool   `json:"acknowledge,omitempty" description:"Record it though not everything is as the new text would have left it."`
}

// amend records that the catalogue's text of an edited step is right, though
// another was applied. Where the edit changes what runs, it reads first whether
// the target is as the new text would have left it.
func (s *repairs) amend(c call, in *amendIn) (*api.Recorded, error) {
	p, number, reason, err := s.repair(c, in.Lane, in.Environment, in.Step, in.Reason)
	if err != nil {
		return nil, err
	}
	return s.record(c, p, func(session engine.Session, facts gate.Facts) ([]ledger.Entry, string, error) {
		standing, known := facts.View.Find(number)
		if !known || !standing.Has(plan.Edited) {
			return nil, "", refused(
				p.do(remedy.LookAtStatus, "see what the state of each step is"),
				"step %s is not edited on %s",
				number, in.Environment,
			)
		}
		var lines, against []string
		change, err := s.library.change(c, p, standing.State.Checksum, standing.Step.Forward.Checksum, s.Records.Text)
		if err != nil {
			return nil, "", err
		}
		if change == sqltext.WhatRuns {
			e, err := s.targets.evidenceOf(c, p, session, standing)
			if err != nil {
				return nil, "", err
			}
			if against = e.step.Wrong(); len(against) > 0 && !in.Acknowledge {
				return nil, "", refuseDifferences(
					or(
						by("put the applied text back and write the change as a new step"),
						see(remedy.Acknowledge, "if it is meant to be like this"),
					),
					against,
					"%s not as the new text of step %s would have left %s",
					plural.Count(len(against), "thing is", "things are"),
					number, in.Environment,
				)
			}
			lines = e.step.Lines()
		}
		entry := ledger.Entry{
			Action:   ledger.Amended,
			Step:     number,
			Slug:     standing.Step.Slug,
			Checksum: standing.Step.Forward.Checksum,
			Actor:    c.actor,
			Detail:   ledger.Detail{Reason: reason, Instead: standing.State.Checksum, Seen: lines, Against: against}.JSON(),
		}
		return []ledger.Entry{
				entry,
			}, fmt.Sprintf(
				"the text of step %s with the checksum %s is right on %s from now on; it was not run",
				number, standing.Step.Forward.Checksum.Short(), in.Environment,
			), nil
	})
}

// repair reads what every repair of a step is given.
func (s *repairs) repair(c call, lane, environment, number, reason string) (targetContext, step.Number, string, error) {
	p, err := s.targets.place(c, lane, environment)
	if err != nil {
		return p, "", "", err
	}
	parsed, err := step.ParseNumber(number)
	if err != nil {
		return p, "", "", badRequest(nil, "step: %s", err)
	}
	if reason = strings.Join(strings.Fields(reason), " "); reason == "" {
		return p, "", "", badRequest(nil, "reason: say how you know; it is kept in the ledger")
	}
	return p, parsed, reason, nil
}
