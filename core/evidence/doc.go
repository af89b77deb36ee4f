// Package evidence says what a step should have left in a target's catalogs,
// and what is to be made of what is found there.
//
// A step's text and what a look at the target found go in; what speaks for and
// against its having been run comes out. It never runs a step: it serves
// where the ledger does not tell, for work done by hand and for steps in doubt.
package evidence
