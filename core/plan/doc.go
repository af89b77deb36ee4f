// Package plan brings what should be and what was together.
//
// A lane's catalogue and a target's ledger state go in; Look gives every step's
// standing in the target, and Forward and Back give the ordered actions that
// bring the target to a desired point. The package decides nothing about whether
// a plan may be run: package gate does.
package plan
