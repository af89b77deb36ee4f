// Package lane reads lane files: the declaration of one logical database and
// of the ordered environments that its scripts travel through.
//
// YAML text goes in; a Lane comes out, or step.Problems with line and column.
// The package resolves no target reference and never sees a credential.
package lane
