package api

import (
	"vorrang/core/engine"
	"vorrang/core/plan"
	"vorrang/core/rehearsal"
	"vorrang/core/review"
	"vorrang/core/step"
)

// Reviewed is what a reviewer should know of the steps of a folder.
type Reviewed struct {
	Environment string           `json:"environment,omitempty" description:"Against whose schema; absent where the text alone was read."`
	Rows        bool             `json:"rows" description:"Whether the target was asked about rows that stand in the way; that takes a releaser, approver or keeper of the environment."`
	Steps       int              `json:"steps" description:"That were read."`
	Folder      int              `json:"folder" description:"Steps in the folder."`
	Findings    []review.Finding `json:"findings" nullable:"false"`
	Overlaps    []plan.Overlap   `json:"overlaps" nullable:"false" description:"Where, within the steps that were read, the application's old and new version both run."`
	Rules       []review.Rule    `json:"rules" nullable:"false" description:"Of the findings, each once."`
	Notes       []step.Problem   `json:"notes" nullable:"false" description:"What could not be read, and what authors accept and is not there."`
}

// Footprints are those of a deployment's steps, in their order.
type Footprints struct {
	Footprints []StepFootprint `json:"footprints" nullable:"false" description:"Of the steps that touched something that was there before, or waited for locks; of none where the server does not tell."`
}

// StepFootprint is what a step did to its surroundings, beside what was rehearsed.
type StepFootprint struct {
	StepRef
	DurationMS int64                `json:"duration_ms"`
	Measured   engine.Footprint     `json:"measured"`
	Rehearsed  *engine.Footprint    `json:"rehearsed,omitempty" description:"By the newest rehearsal of the same plan."`
	Estimates  []rehearsal.Estimate `json:"estimates" nullable:"false" description:"For how long others would wait for its tables, by that rehearsal and the target's sizes."`
	Unlike     []string             `json:"unlike" nullable:"false" description:"How it was otherwise than rehearsed, in words."`
}

// Rules are the kinds of findings of an engine's reviews.
type Rules struct {
	Setup string        `json:"setup" description:"What the examples run on."`
	Rules []review.Rule `json:"rules" nullable:"false"`
}
