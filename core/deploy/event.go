package deploy

import (
	"time"

	"vorrang/core/ledger"
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
	Waiting    Kind = "waiting"     // a lock was not granted in time; a new try follows
	StepDone   Kind = "step-done"   // committed, with its ledger row
	StepFailed Kind = "step-failed" // Failure
	Ended      Kind = "ended"       // Outcome; always the last
)

// Event is one thing that happened in a deployment.
type Event struct {
	Seq  int64     `json:"seq" description:"From 1, without gaps, within a deployment."`
	At   time.Time `json:"at"`
	Kind Kind      `json:"kind"`

	// about a step
	Step       step.Number      `json:"step,omitempty"`
	Slug       string           `json:"slug,omitempty"`
	Direction  ledger.Direction `json:"direction,omitempty"`
	Statement  int              `json:"statement,omitempty" description:"From 1."`
	Of         int              `json:"of,omitempty" description:"How many there are: statements of a step, or steps of the deployment."`
	Line       int              `json:"line,omitempty"`
	DurationMS int64            `json:"duration_ms,omitempty"`

	// words
	Severity string   `json:"severity,omitempty" description:"Of a notice."`
	Message  string   `json:"message,omitempty"`
	Failure  *Failure `json:"failure,omitempty"`
	Outcome  Outcome  `json:"outcome,omitempty" description:"Of the whole deployment; on the last event."`
}
