package gate_test

import (
	"fmt"

	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
)

func ExampleForward() {
	edited := plan.Standing{Step: plan.Step{Number: "1", Slug: "create-berth", Options: step.DefaultOptions()},
		State: ledger.StepState{
			Number:   "1",
			Status:   ledger.StatusApplied,
			Checksum: "0123",
		}, Flags: []plan.Flag{plan.Edited}}
	result := gate.Forward(
		gate.Facts{
			Lane:    "harbour",
			View:    plan.View{Environment: "staging", Steps: []plan.Standing{edited}},
			Entries: 1,
		},
	)
	fmt.Println("the gate is", result.Word())
	for _, check := range result.Holds() {
		fmt.Println(check.ID, "holds:", check.Evidence)
	}
	// Output:
	// the gate is held
	// checksums holds: 1 step was edited after being applied here: 1 (create-berth)
}
