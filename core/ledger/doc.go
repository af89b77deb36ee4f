// Package ledger holds the history of a target: its entries, the hash chain
// that binds them, and the state that they add up to.
//
// Entries go in, oldest first; Verify says whether the chain holds, Fold says
// what every step's state is. The package reads and writes no database.
// docs/ledger.md defines the canonical form that is hashed.
package ledger
