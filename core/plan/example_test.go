package plan_test

import (
	"fmt"
	"time"

	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
)

func ExampleForward() {
	catalogue := []plan.Step{
		{Number: "1", Slug: "create-berth", Options: step.DefaultOptions()},
		{Number: "2", Slug: "add-berth-depth", Options: step.DefaultOptions()},
		{Number: "3", Slug: "create-pilot", Options: step.DefaultOptions()},
	}
	applied := ledger.NewHead().
		Next(ledger.Entry{Action: ledger.Applied, Step: "1", Slug: "create-berth"},
			time.Date(2026, 11, 3, 7, 0, 0, 0, time.UTC))
	view := plan.Look("staging", catalogue, ledger.Fold([]ledger.Entry{applied}))

	p, err := plan.Forward(view, "2") // up to step 2
	fmt.Println(p.Numbers(), err)
	_, err = plan.Forward(view, "4")
	fmt.Println(err)
	// Output:
	// [2] <nil>
	// there is no step 4 in the catalogue
}
