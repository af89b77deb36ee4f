package api

import (
	"time"

	"vorrang/core/deploy"
	"vorrang/core/evidence"
	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/review"
	"vorrang/core/step"
)

// Problem is an error as RFC 9457 has it, with Vorrang's own members.
type Problem struct {
	Type     string          `json:"type" description:"A URN: urn:vorrang:held, in-doubt, fleet, invalid-files, unreachable, not-found, refused, invalid-request, unauthorized, forbidden, proof-needed, too-many, too-large, too-slow, internal."`
	Title    string          `json:"title"`
	Status   int             `json:"status"`
	Detail   string          `json:"detail"`
	Remedies []remedy.Remedy `json:"remedies,omitempty" description:"What to do where a gate is held: what would turn the first check that holds."`
	Errors   []step.Problem  `json:"errors,omitempty" description:"What is wrong in files, each with its place."`
	Checks   []gate.Check    `json:"checks,omitempty" description:"The gate's checks, where it is held."`
	Running  *Deployment     `json:"running,omitempty" description:"The deployment that is under way."`
	Targets  []string        `json:"targets,omitempty" description:"Of a fleet: its targets, where one has to be named; those that cannot take part, where its gate is held."`

	Differences []string `json:"differences,omitempty" description:"What is not as it should be, a line each."`
}

// Preview is the plan of a deployment with the SQL that would run.
type Preview struct {
	Direction ledger.Direction `json:"direction"`
	Actions   []PreviewAction  `json:"actions" nullable:"false"`
	Gate      []gate.Check     `json:"gate" nullable:"false"`
	Held      bool             `json:"held" description:"It would not begin: the gate is held; of a fleet, on more targets than are tolerated."`
	Overlaps  []plan.Overlap   `json:"overlaps" nullable:"false" description:"Where, within the steps, the application's old and new version both run."`

	Fleet []FleetPlan `json:"fleet,omitempty" description:"Where it is a fleet: which targets have which plan. The actions are those of the first; the gate is that of all."`

	Standalone string `json:"standalone,omitempty" raw:"true" description:"The plan as one file for psql, where that was asked for."`
}

// PreviewAction is one step of a preview.
type PreviewAction struct {
	StepRef
	File      string     `json:"file"`
	Mode      step.Mode  `json:"mode"`
	Phase     step.Phase `json:"phase,omitempty"`
	Resume    int        `json:"resume,omitempty" description:"The statement to go on at, where an earlier try stopped half-way."`
	Size      int64      `json:"size" description:"In bytes."`
	SQL       string     `json:"sql"`
	Shortened bool       `json:"shortened,omitempty" description:"Only the beginning is in sql."`
	Check     string     `json:"check,omitempty" description:"The queries that must hold afterwards."`

	Irreversible bool             `json:"irreversible" description:"The step has no way back."`
	Losses       []review.Loss    `json:"losses" nullable:"false" description:"Rows and values that this SQL takes away for good."`
	LostBefore   []review.Loss    `json:"lost_before" nullable:"false" description:"Of a way back: what the step took away when it went forward, and this does not bring back."`
	Findings     []review.Finding `json:"findings" nullable:"false" description:"Of a step forward: what a reviewer should know of it."`
	Plan         string           `json:"plan" description:"Digest of the plan up to and with this action; a promotion or rollback that names it runs no other."`
}

// Promoted answers a promotion or a rollback.
type Promoted struct {
	Nothing    bool             `json:"nothing" description:"There was nothing to do."`
	Deployment *Deployment      `json:"deployment,omitempty"`
	Fleet      *FleetDeployment `json:"fleet,omitempty" description:"Where it is a fleet: a deployment to each of its targets, in waves."`
	Gate       []gate.Check     `json:"gate" nullable:"false"`
	Scheduled  *Scheduled       `json:"scheduled,omitempty" description:"Where it was put off."`
	Settled    []string         `json:"settled" nullable:"false" description:"Steps in doubt that were settled by their check."`
	Steps      int              `json:"steps,omitempty" description:"In the catalogue, where there is nothing to do."`
}

// Scheduled is a promotion that waits for its time, or what became of one.
type Scheduled struct {
	ID          int64      `json:"id"`
	Lane        string     `json:"lane"`
	Environment string     `json:"environment"`
	At          time.Time  `json:"at"`
	Release     string     `json:"release,omitempty"`
	Through     string     `json:"through,omitempty"`
	Actor       string     `json:"actor"`
	Fleet       int64      `json:"fleet,omitempty" description:"The deployment to a fleet that it began."`
	MadeAt      time.Time  `json:"made_at"`
	State       string     `json:"state" enum:"waiting,started,done,held,failed,missed,dropped"`
	Message     string     `json:"message,omitempty" description:"Why it did not begin."`
	Deployment  int64      `json:"deployment,omitempty"`
	EndedAt     *time.Time `json:"ended_at,omitempty"`
}

// ScheduledList lists scheduled promotions, those that wait first.
type ScheduledList struct {
	Scheduled []Scheduled `json:"scheduled" nullable:"false" description:"Those that wait, the earliest first, then the others, the newest first."`
	Next      int64       `json:"next,omitempty" description:"Where there are more: what the next page is asked for by before."`
}

// Deployment is one run of a plan.
type Deployment struct {
	ID          int64            `json:"id"`
	Lane        string           `json:"lane"`
	Environment string           `json:"environment"`
	Direction   ledger.Direction `json:"direction"`
	Outcome     deploy.Outcome   `json:"outcome"`
	Fleet       int64            `json:"fleet,omitempty" description:"The deployment to a fleet of which it is a part."`
	Actor       string           `json:"actor"`
	Planned     int              `json:"planned" description:"How many steps."`
	Release     string           `json:"release,omitempty" description:"Absent for loose steps."`
	OnFailure   plan.Policy      `json:"on_failure,omitempty" enum:"stop,back-out"`
	Whole       bool             `json:"whole,omitempty" description:"All steps in one transaction."`
	Rebuild     bool             `json:"rebuild,omitempty" description:"The application's schemas were emptied first."`
	Steps       []StepRef        `json:"steps,omitempty" description:"Only where one deployment is asked for."`
	Failure     *deploy.Failure  `json:"failure,omitempty"`
	Gate        []gate.Check     `json:"gate,omitempty"`
	StartedAt   time.Time        `json:"started_at"`
	EndedAt     *time.Time       `json:"ended_at,omitempty"`
}

// Deployments is a list, newest first.
type Deployments struct {
	Deployments []Deployment `json:"deployments" nullable:"false"`
	Next        int64        `json:"next,omitempty" description:"Where there are more: what the next page is asked for by before."`
}

// Events is a list, oldest first.
type Events struct {
	Events []deploy.Event `json:"events" nullable:"false"`
}

// Recorded answers somebody's word with the ledger's new entries.
type Recorded struct {
	Entries []ledger.Entry `json:"entries" nullable:"false"`
	Message string         `json:"message"`
}

// Evidence is what a target shows of a step.
type Evidence struct {
	StepRef
	State ledger.Status `json:"state"`
	evidence.Evidence
	Lines   []string `json:"lines" nullable:"false" description:"All of it, in words."`
	Wrong   []string `json:"wrong" nullable:"false" description:"What is not as the step should have left it, in words."`
	Invalid []string `json:"invalid" nullable:"false" description:"Indexes whose build did not end."`

	// of an unfinished step
	Statement int              `json:"statement,omitempty" description:"The one in doubt, from 1."`
	Of        int              `json:"of,omitempty"`
	Line      int              `json:"line,omitempty"`
	SQL       string           `json:"sql,omitempty"`
	Verdict   evidence.Verdict `json:"verdict,omitempty" enum:"applied,not-applied,unclear"`
	Why       string           `json:"why,omitempty"`
}

// Attested answers an attestation.
type Attested struct {
	Entries []ledger.Entry `json:"entries" nullable:"false"`
	Steps   []AttestedStep `json:"steps" nullable:"false" description:"What was found of each step that was checked."`
	Message string         `json:"message"`
}

// AttestedStep is what was found of one step, and whether it was attested.
type AttestedStep struct {
	Evidence
	Attested bool `json:"attested"`
}

// GateAnswer is what the gate says to a promotion now.
type GateAnswer struct {
	Gate   string       `json:"gate" enum:"clear,held"`
	Checks []gate.Check `json:"checks" nullable:"false"`
	Notes  []string     `json:"notes" nullable:"false" description:"What was changed of the gate itself since the last deployment."`

	Waivable []gate.ID    `json:"waivable" nullable:"false" description:"The checks that hold and can be waived."`
	Freeze   *gate.Freeze `json:"freeze,omitempty" description:"The freeze that is in force, if one is."`
}

// Thawed answers the end of freezes.
type Thawed struct {
	Ended int64 `json:"ended" description:"How many freezes there were."`
}
