// Package deploy runs a plan on a target, step by step, and writes the
// ledger in the same transactions.
//
// A plan and a Target go in; Events come out while it runs, and a Result at
// the end. The package knows no database driver, no HTTP and no records: it
// deploys to a database without the service being there at all.
package deploy
