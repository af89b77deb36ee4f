package api

import (
	"time"

	"vorrang/core/gate"
	"vorrang/core/rehearsal"
	"vorrang/core/release"
	"vorrang/core/step"
)

// Releases is a lane's releases, newest first.
type Releases struct {
	Releases []release.Release `json:"releases" nullable:"false"`
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

// Rehearsed is a rehearsal, and what it was of.
type Rehearsed struct {
	ID          int64            `json:"id"`
	Lane        string           `json:"lane"`
	Environment string           `json:"environment"`
	Release     string           `json:"release,omitempty"`
	Plan        string           `json:"plan" description:"The digest of the plan that was rehearsed."`
	Fingerprint string           `json:"fingerprint" description:"Of the target's schema, without owners and grants."`
	Actor       string           `json:"actor"`
	At          time.Time        `json:"at"`
	Result      rehearsal.Result `json:"result"`
	WaysBack    string           `json:"ways_back" description:"How far the ways back went, in words."`
}
