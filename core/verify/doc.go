// Package verify says whether the histories of a lane's targets are consistent:
// with themselves, with the catalogue, and with each other.
//
// The facts of each environment go in, in the order of promotion; a Result
// comes out. The package looks nothing up and changes nothing.
package verify
