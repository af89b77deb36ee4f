package api

import (
	"time"

	"vorrang/core/draft"
	"vorrang/core/ledger"
	"vorrang/core/schema"
	"vorrang/core/step"
)

// Drift is how a target's schema differs from what the last deployment left.
type Drift struct {
	Lane        string              `json:"lane"`
	Environment string              `json:"environment"`
	From        string              `json:"from,omitempty" description:"What it is compared with, such as deployment 12."`
	Since       *time.Time          `json:"since,omitempty" description:"When that was."`
	Unknown     string              `json:"unknown,omitempty" description:"Why drift is not known; the differences, if any, are then no more than a hint."`
	Fingerprint string              `json:"fingerprint" description:"Of the schema that is there; accepting it takes it."`
	Objects     int                 `json:"objects" description:"How many there are in all."`
	Differences []schema.Difference `json:"differences" nullable:"false"`
	Uncovered   []schema.Uncovered  `json:"uncovered" nullable:"false" description:"What is there and was not compared."`
}

// Adoption is what is found in a target beside what was known of it.
type Adoption struct {
	Lane        string              `json:"lane"`
	Environment string              `json:"environment"`
	Needed      bool                `json:"needed" description:"The gate is held until it is adopted, or what is there is put right."`
	Lines       []string            `json:"lines" nullable:"false" description:"What was found and what was known, a line each."`
	Differences []schema.Difference `json:"differences" nullable:"false" description:"Of the schema, from what is known."`
	Finding     string              `json:"finding" description:"Of all that was found; adopting takes it."`
}

// Effects is what deployments did to an environment's schema.
type Effects struct {
	Effects []StepEffect `json:"effects" nullable:"false" description:"The newest first."`
	Next    int64        `json:"next,omitempty" description:"Where there are more: what the next page is asked for by before."`
}

// StepEffect is what a step of a deployment did to the schema.
type StepEffect struct {
	Deployment int64               `json:"deployment"`
	Step       step.Number         `json:"step,omitempty" description:"Absent where the steps of a deployment were checked together."`
	Direction  ledger.Direction    `json:"direction,omitempty"`
	At         time.Time           `json:"at"`
	Effect     []schema.Difference `json:"effect" nullable:"false"`
	More       int                 `json:"more,omitempty" description:"How many more objects it touched than are listed."`
}

// Known lists the points of an environment's history whose schema was kept.
type Known struct {
	Known []KnownSchema `json:"known" nullable:"false" description:"The newest first."`
	Next  int64         `json:"next,omitempty" description:"Where there are more: what the next page is asked for by before."`
}

// KnownSchema is a point of the history whose schema was kept.
type KnownSchema struct {
	Why         string    `json:"why" enum:"deployment,accepted,attested,baselined"`
	Deployment  int64     `json:"deployment,omitempty"`
	Fingerprint string    `json:"fingerprint"`
	Actor       string    `json:"actor"`
	Reason      string    `json:"reason,omitempty"`
	At          time.Time `json:"at"`
}

// SchemaMap is a map of a point of the history, and how that differs from another.
type SchemaMap struct {
	Map         *Map                `json:"map"`
	Differences []schema.Difference `json:"differences" nullable:"false"`
}

// Draft is a draft of steps, for review.
type Draft struct {
	About string `json:"about" description:"What the steps do, in words: it is kept in them too."`
	draft.Draft
}

// Accepted is the answer to accepting drift.
type Accepted struct {
	Objects     int    `json:"objects" description:"How many objects differed."`
	Fingerprint string `json:"fingerprint"`
}

// Comparison says how two schemas differ: what was added is only in the first,
// what was removed only in the second.
type Comparison struct {
	From            string              `json:"from"`
	With            string              `json:"with"`
	Same            bool                `json:"same"`
	Owners          bool                `json:"owners" description:"Owners and grants were compared too."`
	FromObjects     int                 `json:"from_objects"`
	WithObjects     int                 `json:"with_objects"`
	FromFingerprint string              `json:"from_fingerprint"`
	WithFingerprint string              `json:"with_fingerprint"`
	Differences     []schema.Difference `json:"differences" nullable:"false"`
	FromUncovered   []schema.Uncovered  `json:"from_uncovered" nullable:"false" description:"What is there and was not compared."`
	WithUncovered   []schema.Uncovered  `json:"with_uncovered" nullable:"false"`
	Reordered       []string            `json:"reordered" nullable:"false" description:"Tables that have the same columns in another order; that is no difference."`
}
