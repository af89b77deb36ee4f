package records

import (
	"vorrang/core/deploy"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/schema"
	"vorrang/core/step"
)

// storedVersion is the version of the form in which values are kept as JSON. Records
// outlive the programs that write them: a change of a form that makes values of an
// earlier one mean something else takes a new version, and a step in steps/ that turns
// what is kept into it. testdata/stored has an example of each form, of each version.
const storedVersion = 1

// stored are the values that are kept as JSON, by the columns that keep them.
var stored = map[string]any{
	"lane.declaration":   lane.Lane{},
	"step.options":       step.Options{},
	"step.forward":       plan.Text{},
	"deployment.plan":    plan.Plan{},
	"deployment.gate":    gate.Result{},
	"deployment.failure": deploy.Failure{},
	"event.body":         deploy.Event{},
	"release.body":       release.Release{},
	"signature.body":     release.Signature{},
	"approval.steps":     []gate.Planned{},
	"snapshot.schema":    schema.Schema{},
}
