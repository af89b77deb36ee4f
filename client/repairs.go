package client

import (
	"context"
	"net/url"
	"time"

	"vorrang/core/gate"
	"vorrang/service/api"
)

// Baseline records that an existing database contains every step up to a
// number; with check only if a scratch database with these steps has the same
// objects. Repeated, it is refused.
func (c *Client) Baseline(ctx context.Context, lane, environment, at string, check bool) (*api.Recorded, error) {
	return post[api.Recorded](
		ctx, c,
		environmentPath(lane, environment)+"/baselines",
		map[string]any{"at": at, "check": check},
	)
}

// Evidence says what a target shows of a step, reading only.
func (c *Client) Evidence(ctx context.Context, lane, environment, number string) (*api.Evidence, error) {
	return get[api.Evidence](
		ctx, c,
		environmentPath(lane, environment)+"/steps/"+url.PathEscape(number)+"/evidence",
		nil,
	)
}

// Settlement is somebody's word on a step in doubt.
type Settlement struct {
	Step        string `json:"step"`
	As          string `json:"as"` // ledger.SettledApplied or ledger.SettledNotApplied
	Reason      string `json:"reason"`
	Acknowledge bool   `json:"acknowledge,omitempty"`  // though the evidence speaks against it
	DropInvalid bool   `json:"drop_invalid,omitempty"` // the indexes that the statement left marked INVALID
}

// Settle records what became of a step in doubt. Repeated, it is refused.
func (c *Client) Settle(ctx context.Context, lane, environment string, word Settlement) (*api.Recorded, error) {
	return post[api.Recorded](ctx, c, environmentPath(lane, environment)+"/settlements", word)
}

// Attestation is somebody's word that steps were run by hand. One of
// Step and Through is given.
type Attestation struct {
	Step        string `json:"step,omitempty"`
	Through     string `json:"through,omitempty"` // every step that waits, up to this one
	IfPresent   bool   `json:"if_present,omitempty"`
	Acknowledge bool   `json:"acknowledge,omitempty"`
	Reason      string `json:"reason"`
}

// Attest records steps as run by hand. Repeated, it is refused.
func (c *Client) Attest(ctx context.Context, lane, environment string, word Attestation) (*api.Attested, error) {
	return post[api.Attested](ctx, c, environmentPath(lane, environment)+"/attestations", word)
}

// Withdraw takes the newest step out of the catalogue. Repeated, it is refused.
func (c *Client) Withdraw(ctx context.Context, lane, number string) (*api.Withdrawn, error) {
	return post[api.Withdrawn](ctx, c, lanePath(lane)+"/steps/"+url.PathEscape(number)+"/withdrawal", struct{}{})
}

// Amend records that the catalogue's text of an edited step is right. Repeated,
// it is refused.
func (c *Client) Amend(
	ctx context.Context, lane, environment, number, reason string, acknowledge bool,
) (*api.Recorded, error) {
	return post[api.Recorded](ctx, c, environmentPath(lane, environment)+"/amendments",
		map[string]any{"step": number, "reason": reason, "acknowledge": acknowledge})
}

// Freeze forbids promotions to an environment for a time; a zero from is now.
// Repeated, it adds another freeze.
func (c *Client) Freeze(
	ctx context.Context, lane, environment string, from, until time.Time, reason string,
) (*gate.Freeze, error) {
	body := map[string]any{"until": until, "reason": reason}
	if !from.IsZero() {
		body["from"] = from
	}
	return post[gate.Freeze](ctx, c, environmentPath(lane, environment)+"/freezes", body)
}

// Thaw ends all freezes of an environment. Repeated, it is refused.
func (c *Client) Thaw(ctx context.Context, lane, environment, reason string) (*api.Thawed, error) {
	return post[api.Thawed](ctx, c, environmentPath(lane, environment)+"/thaw", map[string]string{"reason": reason})
}

// Backup reports a backup of an environment's target.
func (c *Client) Backup(ctx context.Context, lane, environment, label string, takenAt time.Time) (*gate.Backup, error) {
	return post[gate.Backup](
		ctx, c,
		environmentPath(lane, environment)+"/backups",
		map[string]any{"label": label, "taken_at": takenAt},
	)
}
