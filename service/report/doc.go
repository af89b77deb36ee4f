// Package report writes what a reviewer reads of a promotion as one HTML document: the
// steps with their SQL, what a review found in them, the rehearsal with a picture of what
// it would keep others from, how the schema changes, and the gate. The document needs no
// other file, no script and no network, and can be printed.
package report
