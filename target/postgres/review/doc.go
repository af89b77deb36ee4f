// Package review looks into a step's SQL, by the server's own grammar, for
// what a reviewer or the service should know before it runs.
//
// A step goes in; step.Problems come out: what the server would refuse, with
// file, line and column. The package runs nothing and asks no database.
package review
