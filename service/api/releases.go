package api

import (
	"time"

	"vorrang/core/gate"
	"vorrang/core/plan"
	"vorrang/core/rehearsal"
	"vorrang/core/release"
	"vorrang/core/step"
)

// Releases is a lane's releases, newest first.
type Releases struct {
	Releases []release.Release `json:"releases" nullable:"false"`
	Next     string            `json:"next,omitempty" description:"Where there are more: what the next page is asked for by before."`
}

// ReleaseCut is a release that was cut, or taken in from a bundle.
type ReleaseCut struct {
	Release release.Release `json:"release"`
	New     int             `json:"new" description:"Of a bundle: how many of its steps the catalogue did not have."`
	Known   bool            `json:"known" description:"Of a bundle: the release was here already, the same to the byte."`
}

// ReleaseContent is a release, its SHA256SUMS, and what it brings against what
// was asked for.
type ReleaseContent struct {
	Release release.Release  `json:"release"`
	Sums    string           `json:"sums"`
	Changes []release.Change `json:"changes" nullable:"false"`
	// Overlaps are those of the changes.
	Overlaps []plan.Overlap `json:"overlaps" nullable:"false" description:"Where, within the changes, the application's old and new version both run."`

	Targets int      `json:"targets,omitempty" description:"Of a fleet: how many targets it was compared with. A change is one for any of them."`
	Away    []string `json:"away,omitempty" description:"Of a fleet: targets that could not be read, so that nobody compared it with them."`

	Signatures []release.Signature `json:"signatures" nullable:"false" description:"Those that hold. Whose a key is, an environment says."`
}

// Signed answers a signature.
type Signed struct {
	Release    string              `json:"release"`
	Digest     step.Checksum       `json:"digest"`
	Signatures []release.Signature `json:"signatures" nullable:"false"`
}

// Approved answers an approval.
type Approved struct {
	gate.Approval
	Check gate.Check `json:"check" description:"What the gate says of the approvals now."`
}

// ApprovalWithdrawn answers when approvals were taken back.
type ApprovalWithdrawn struct {
	Withdrawn int64 `json:"withdrawn"`
}

// Rehearsals are newest first.
type Rehearsals struct {
	Rehearsals []Rehearsed `json:"rehearsals" nullable:"false"`
	Next       int64       `json:"next,omitempty" description:"Where there are more: what the next page is asked for by before."`
}

// Rehearsed is a rehearsal, and what it was of.
type Rehearsed struct {
	ID           int64            `json:"id"`
	Lane         string           `json:"lane"`
	Environment  string           `json:"environment"`
	Release      string           `json:"release,omitempty"`
	Plan         string           `json:"plan" description:"The digest of the plan that was rehearsed."`
	Fingerprint  string           `json:"fingerprint" description:"Of the target's schema, without owners and grants."`
	Actor        string           `json:"actor"`
	At           time.Time        `json:"at" description:"When it began."`
	EndedAt      *time.Time       `json:"ended_at,omitempty"`
	Rows         int              `json:"rows,omitempty" description:"How many rows of each table were to be copied."`
	State        rehearsal.State  `json:"state" enum:"running,ended,broken off,cancelled,interrupted" description:"What became of it; only one that ended has a result."`
	Message      string           `json:"message,omitempty" description:"Why it has no result."`
	Result       rehearsal.Result `json:"result"`
	With         string           `json:"with,omitempty" description:"Which rows the copy had, in words."`
	Surroundings []string         `json:"surroundings" nullable:"false" description:"Which of the target's tables the steps would keep others from, in words."`
	WaysBack     string           `json:"ways_back" description:"How far the ways back went, in words."`
}
