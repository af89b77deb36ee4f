// Package engine is what a kind of database server implements, so that the rest of
// Vorrang needs to know nothing of it: sessions on targets, and errors by kind.
//
// An Engine opens Sessions. What not every server can do is a small interface of
// its own, found by a type assertion; where it is missing, the feature says so.
// The package holds no driver and no SQL. The engines are in target/, a folder
// each, and the service's program hands them in; nothing registers itself.
package engine
