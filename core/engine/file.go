package engine

import (
	"time"

	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
)

// File is what a file is made of that runs a plan without Vorrang. All
// fields but Release and Holds must be set.
type File struct {
	Lane, Environment string
	Release           string // empty for loose steps
	MadeBy            string
	MadeAt            time.Time
	Holds             []string // what the gate held when it was made, a line each

	Plan     plan.Plan
	Texts    func(step.Checksum) ([]byte, error)
	Defaults Settings

	// the target
	Head       ledger.Head   // that the file is made for
	Belongs    *ledger.Owner // to be in the first entry; nil where the ledger says it already
	Key        ledger.Key    // proves the rows that it will write; nil where nobody is to tell them from others
	MakeLedger bool          // it makes the ledger, if it is not there
}

// Name is what the ledger calls the deployment: two files for the same head and
// plan have the same name, and only one of them can run.
func (f File) Name() string {
	return "standalone-" + f.Head.Hash[:12]
}

// UnwritableError says why a plan cannot be written as a file.
type UnwritableError struct{ Reason string }

func (e *UnwritableError) Error() string { return e.Reason }
