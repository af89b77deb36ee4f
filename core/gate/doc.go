// Package gate decides whether a deployment may begin.
//
// Facts about a target and a plan go in; Checks come out, each with a verdict,
// the evidence in one sentence and what would turn it. The package looks
// nothing up and changes nothing: the same facts always give the same checks.
package gate
