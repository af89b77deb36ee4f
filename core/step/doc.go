// Package step reads a step folder: the ordered SQL migration scripts of a lane.
//
// Files go in (from a directory or from memory), Steps come out, in order, or
// Problems that name file, line and column. The package reads names, bytes and
// the options comment; it never looks into the SQL itself, and never writes.
package step
