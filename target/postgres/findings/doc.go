// Package findings reads steps of PostgreSQL, and says what a reviewer should know of
// them: what breaks the application of the version before, what makes others wait, what
// cannot be taken back. It reads the parse tree and, where it is known, the target's
// schema; it runs nothing. The rules are in rules.yaml, with an example for
// each, which the tests run on a server.
package findings
