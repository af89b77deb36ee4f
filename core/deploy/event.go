package deploy

import (
	"time"

	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/schema"
	"vorrang/core/step"
)

// Outcome is what became of a deployment.
type Outcome string

const (
	Running     Outcome = "running"
	Done        Outcome = "done"
	Failed      Outcome = "failed" // stopped at a step; earlier ones stay
	BackedOut   Outcome = "backed out"
	Cancelled   Outcome = "cancelled"
	Interrupted Outcome = "interrupted"
)

// Kind says what an event tells.
type Kind string

const (
	Started    Kind = "started"     // the lock is held, the first step follows
	StepBegan  Kind = "step-began"  // Step, Direction, Of
	Statement  Kind = "statement"   // the statement that begins now
	Notice     Kind = "notice"      // the server's own words
	Waiting    Kind = "waiting"     // for a lock: who holds it, and what follows
	Emptied    Kind = "emptied"     // the application's schemas, before a rebuild
	BackingOut Kind = "backing-out" // a step failed, and the ways back of the earlier ones follow
	Batch      Kind = "batch"       // how far a step of mode batches has come
	StepReady  Kind = "step-ready"  // ran, and commits with the rest of a whole deployment
	StepDone   Kind = "step-done"   // committed, with its ledger row
	StepFailed Kind = "step-failed" // Failure
	Measured   Kind = "measured"    // Footprint of the step that was done
	Blocking   Kind = "blocking"    // Blockers wait for this deployment
	Effect     Kind = "effect"      // what the step, or without one the deployment, did to the schema
	Round      Kind = "round"       // of a rehearsal: which part of it begins
	Ended      Kind = "ended"       // Outcome; the run is over. The effect of very many steps may follow
)

// Event is one thing that happened in a deployment.
type Event struct {
	Seq  int64     `json:"seq" description:"From 1, without gaps, within a deployment, until old details are let go."`
	At   time.Time `json:"at"`
	Kind Kind      `json:"kind" enum:"started,step-began,statement,notice,waiting,emptied,backing-out,batch,step-ready,step-done,step-failed,measured,blocking,effect,round,ended"`

	// about a step
	Step       step.Number      `json:"step,omitempty"`
	Slug       string           `json:"slug,omitempty"`
	Direction  ledger.Direction `json:"direction,omitempty"`
	Statement  int              `json:"statement,omitempty" description:"From 1."`
	Of         int              `json:"of,omitempty" description:"How many there are: statements of a step, or steps of the deployment."`
	Line       int              `json:"line,omitempty"`
	DurationMS int64            `json:"duration_ms,omitempty"`

	// about a step of mode batches
	Rows int64 `json:"rows,omitempty" description:"Changed so far, by earlier tries too."`
	Rate int64 `json:"rate,omitempty" description:"Rows a second, of this try."`
	Rest int64 `json:"rest,omitempty" description:"The planner's estimate of the rows that are left; absent where it has none."`

	// about a lock
	Blockers []engine.Blocker `json:"blockers,omitempty" description:"The sessions that hold what a statement waits for; of kind blocking, those that wait for this deployment."`

	// about a step that was done in a transaction
	Footprint *engine.Footprint `json:"footprint,omitempty" description:"Which tables it locked, wrote again and changed. Absent where the server does not tell."`

	// about a change of the schema
	Effect []schema.Difference `json:"effect,omitempty" description:"What the step did to the schema, object by object; without a step, what the deployment's steps did together."`
	More   int                 `json:"more,omitempty" description:"How many more objects it touched than are listed."`

	// words
	Severity string   `json:"severity,omitempty" description:"Of a notice."`
	Message  string   `json:"message,omitempty"`
	Failure  *Failure `json:"failure,omitempty"`
	Outcome  Outcome  `json:"outcome,omitempty" description:"Of the whole deployment; on the last event."`
}
