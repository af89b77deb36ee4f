// Package release seals steps: it names every file of them with its checksum,
// in a text that sha256sum can check.
//
// Steps go in; a Release comes out. Two releases of the same files have the same
// digest, wherever they were cut.
package release
