package remedy

import (
	"fmt"
	"strings"

	"vorrang/core/step"
)

// Move is something that people can have Vorrang do.
type Move string

const (
	Promote         Move = "promote"
	Rollback        Move = "rollback"
	Rebuild         Move = "rebuild"
	Baseline        Move = "baseline"
	Adopt           Move = "adopt"
	Attest          Move = "attest"
	Amend           Move = "amend"
	Settle          Move = "settle"
	WaiveOrder      Move = "waive-order"
	Approve         Move = "approve"
	ApproveWaysBack Move = "approve-ways-back"
	Sign            Move = "sign"
	Cut             Move = "cut"
	Accept          Move = "accept"
	Thaw            Move = "thaw"
	ReportBackup    Move = "report-backup"
	SetUpLedger     Move = "set-up-ledger"
	CheckBaseline   Move = "check-baseline"
	Rehearse        Move = "rehearse"
	Submit          Move = "submit"
	SubmitGone      Move = "submit-gone"
	Declare         Move = "declare"
	SignIn          Move = "sign-in"
	Grant           Move = "grant"
	MakeToken       Move = "make-token"

	// what is added to the call that was refused
	Acknowledge Move = "acknowledge"
	Confirm     Move = "confirm"
	DropInvalid Move = "drop-invalid"

	// acts that only look
	LookAtDrift    Move = "look-at-drift"
	LookAtHistory  Move = "look-at-history"
	LookAtLedger   Move = "look-at-ledger"
	LookAtTarget   Move = "look-at-target"
	LookAtStatus   Move = "look-at-status"
	LookAtPlan     Move = "look-at-plan"
	LookAtEvidence Move = "look-at-evidence"

	LookAtGate        Move = "look-at-gate"
	LookAtWaysBack    Move = "look-at-ways-back"
	LookAtLanes       Move = "look-at-lanes"
	LookAtSteps       Move = "look-at-steps"
	LookAtReleases    Move = "look-at-releases"
	LookAtDeployments Move = "look-at-deployments"
	LookAtFleets      Move = "look-at-fleet-deployments"
	LookAtScheduled   Move = "look-at-scheduled"
	LookAtHooks       Move = "look-at-hooks"
	LookAtPeople      Move = "look-at-people"
	LookAtTokens      Move = "look-at-tokens"
	LookAtOwnTokens   Move = "look-at-own-tokens"
)

// Moves are all of them.
var Moves = []Move{
	Promote, Rollback, Rebuild, Baseline, Adopt, Attest, Amend, Settle, WaiveOrder, Approve, ApproveWaysBack, Sign,
	Cut, Accept, Thaw, ReportBackup, SetUpLedger, CheckBaseline, Rehearse, Submit, SubmitGone, Declare, SignIn, Grant,
	MakeToken, Acknowledge, Confirm, DropInvalid, LookAtDrift, LookAtHistory, LookAtLedger, LookAtTarget,
	LookAtStatus, LookAtPlan, LookAtEvidence, LookAtGate, LookAtWaysBack, LookAtLanes, LookAtSteps, LookAtReleases,
	LookAtDeployments, LookAtFleets, LookAtScheduled, LookAtHooks, LookAtPeople, LookAtTokens, LookAtOwnTokens,
}

// Arguments are what an act is done to. What it needs beside them, such as a reason or
// the name of a new release, people add.
type Arguments struct {
	Lane        string      `json:"lane,omitempty"`
	Environment string      `json:"environment,omitempty"`
	Step        step.Number `json:"step,omitempty"`
	To          step.Number `json:"to,omitempty" description:"Of a rollback: the step that stays as the last one; 0 for none."`
	Last        int         `json:"last,omitempty" description:"Of a rollback: how many steps."`
	Release     string      `json:"release,omitempty"`
	NewRelease  bool        `json:"new_release,omitempty" description:"The release that was cut before."`
	As          string      `json:"as,omitempty" description:"Of a settlement."`
	Steps       string      `json:"steps,omitempty" description:"Numbers, joined by commas."`
	Typed       string      `json:"typed,omitempty" description:"Of a confirmation: the name to type."`
	Person      string      `json:"person,omitempty" description:"Or a machine: who is granted something."`
	Grant       string      `json:"grant,omitempty" description:"ROLE, ROLE@LANE or ROLE@LANE/ENVIRONMENT."`
	Acknowledge bool        `json:"acknowledge,omitempty" description:"What the target shows otherwise is meant."`
}

// Remedy is one thing to do.
type Remedy struct {
	Reason    string    `json:"reason,omitempty" description:"What it is for, or what to do by hand: a clause."`
	Act       Move      `json:"act,omitempty" description:"Absent where it is for people alone."`
	Arguments Arguments `json:"arguments,omitzero"`
	Then      *Remedy   `json:"then,omitempty" description:"What follows it."`
}

// Word words an act.
type Word func(act Move, a Arguments) string

// Text words a remedy: the reason, and the act after it.
func (r Remedy) Text(word Word) string {
	text := r.Reason
	if r.Act != "" {
		if text != "" {
			text += ": "
		}
		text += word(r.Act, r.Arguments)
	}
	if r.Then != nil {
		text += ", then " + r.Then.Text(word)
	}
	return text
}

// Text words several remedies, of which one will do.
func Text(list []Remedy, word Word) string {
	texts := make([]string, len(list))
	for i, r := range list {
		texts[i] = r.Text(word)
	}
	return strings.Join(texts, "; ")
}

// ByHand is what only people can do.
func ByHand(format string, args ...any) Remedy {
	return Remedy{Reason: fmt.Sprintf(format, args...)}
}

// For gives a remedy its reason.
func (r Remedy) For(format string, args ...any) Remedy {
	r.Reason = fmt.Sprintf(format, args...)
	return r
}

// And says what follows it.
func (r Remedy) And(then Remedy) Remedy {
	r.Then = &then
	return r
}

// Place is an environment of a lane, for which remedies are made.
type Place struct{ Lane, Environment string }

// Do is an act on the place.
func (p Place) Do(act Move) Remedy {
	return Remedy{Act: act, Arguments: Arguments{Lane: p.Lane, Environment: p.Environment}}
}

// Step is an act on one of its steps.
func (p Place) Step(act Move, number step.Number) Remedy {
	r := p.Do(act)
	r.Arguments.Step = number
	return r
}

// Release is an act with a release; an empty one is for loose steps.
func (p Place) Release(act Move, release string) Remedy {
	r := p.Do(act)
	r.Arguments.Release = release
	return r
}

// Settle is somebody's word on what became of a step.
func (p Place) Settle(number step.Number, as string) Remedy {
	r := p.Step(Settle, number)
	r.Arguments.As = as
	return r
}

// RollbackTo takes back everything above a step.
func (p Place) RollbackTo(number step.Number) Remedy {
	r := p.Do(Rollback)
	r.Arguments.To = number
	return r
}

// RollbackLast takes back the last step.
func (p Place) RollbackLast() Remedy {
	r := p.Do(Rollback)
	r.Arguments.Last = 1
	return r
}
