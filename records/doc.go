// Package records is what the service keeps, in PostgreSQL: lanes, the
// catalogue with every text ever submitted, deployments and their events.
//
// Its own tables are brought up to date by Vorrang's own core, from steps that
// are embedded in the program. It never holds a credential, nor a target's
// history: that is the ledger's, in the target itself.
package records
