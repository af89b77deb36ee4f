// Package draft writes steps from schemas, for review: the first step of an
// existing database, or the steps that turn one schema into another, with their
// ways back. Every draft is proved on a scratch database before it is handed
// out: what it makes is compared with what was desired, and what its ways back
// leave with what was there before.
package draft
