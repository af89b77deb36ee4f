package client

import (
	"context"
	"net/url"
	"strconv"
	"time"

	"vorrang/core/plan"
	"vorrang/service/api"
)

// Gate asks what the gate says to a promotion of a release, or of loose steps
// if it is empty.
func (c *Client) Gate(ctx context.Context, lane, environment, release string) (*api.GateAnswer, error) {
	return get[api.GateAnswer](ctx, c, environmentPath(lane, environment)+"/gate", url.Values{"release": {release}})
}

// Way says how far a rollback goes; exactly one field is set, Shown aside.
type Way struct {
	Last       int    `json:"last,omitempty"` // the last so many steps
	To         string `json:"to,omitempty"`
	Deployment int64  `json:"deployment,omitempty"`
	Release    string `json:"release,omitempty"` // everything that is not in this release
	Shown      string `json:"plan,omitempty"`    // the digest of the plan that was shown, or its first 12 digits; another is refused
}

func (w Way) query() url.Values {
	query := url.Values{}
	if w.Last != 0 {
		query.Set("last", strconv.Itoa(w.Last))
	}
	if w.To != "" {
		query.Set("to", w.To)
	}
	if w.Deployment != 0 {
		query.Set("deployment", strconv.FormatInt(w.Deployment, 10))
	}
	if w.Release != "" {
		query.Set("back_release", w.Release)
	}
	return query
}

// Preview gives the SQL that a promotion would run.
func (c *Client) Preview(ctx context.Context, lane, environment string, how Promotion) (*api.Preview, error) {
	return get[api.Preview](
		ctx, c,
		environmentPath(lane, environment)+"/preview",
		url.Values{"through": {how.Through}, "release": {how.Release}},
	)
}

// PreviewBack gives the SQL that a rollback would run.
func (c *Client) PreviewBack(ctx context.Context, lane, environment string, way Way) (*api.Preview, error) {
	return get[api.Preview](ctx, c, environmentPath(lane, environment)+"/preview", way.query())
}

// Standalone gives a promotion as one file that psql runs without Vorrang.
func (c *Client) Standalone(ctx context.Context, lane, environment string, how Promotion) (*api.Preview, error) {
	return get[api.Preview](
		ctx, c,
		environmentPath(lane, environment)+"/preview",
		url.Values{"through": {how.Through}, "release": {how.Release}, "standalone": {"true"}, "limit": {"1"}},
	)
}

// StandaloneBack gives a rollback as one file that psql runs without Vorrang.
func (c *Client) StandaloneBack(ctx context.Context, lane, environment string, way Way) (*api.Preview, error) {
	query := way.query()
	query.Set("standalone", "true")
	query.Set("limit", "1")
	return get[api.Preview](ctx, c, environmentPath(lane, environment)+"/preview", query)
}

// Promotion says how far a promotion goes, and how.
type Promotion struct {
	Through   string      `json:"through,omitempty"`    // the last step; empty means all
	Release   string      `json:"release,omitempty"`    // empty for loose steps
	OnFailure plan.Policy `json:"on_failure,omitempty"` // empty means what the lane says
	Whole     bool        `json:"whole,omitempty"`      // all steps in one transaction
	At        time.Time   `json:"at,omitzero"`          // not now, but then
	Shown     string      `json:"plan,omitempty"`       // the digest of the plan that was shown, or its first 12 digits; another is refused
}

// Promote asks the gate and begins a deployment. Repeated, it goes on where the
// first call's deployment ended.
func (c *Client) Promote(ctx context.Context, lane, environment string, how Promotion) (*api.Promoted, error) {
	return post[api.Promoted](ctx, c, environmentPath(lane, environment)+"/promotions", how)
}

// Rebuild empties a disposable environment and begins a deployment of every
// step. confirm must be the environment's name.
func (c *Client) Rebuild(ctx context.Context, lane, environment, confirm string) (*api.Promoted, error) {
	return post[api.Promoted](
		ctx, c,
		environmentPath(lane, environment)+"/rebuilds",
		map[string]string{"confirm": confirm},
	)
}

// Rollback begins a deployment back. Repeated with steps, it goes further back.
// Where the environment is not disposable, confirm must be its name.
func (c *Client) Rollback(
	ctx context.Context, lane, environment string, way Way, confirm string,
) (*api.Promoted, error) {
	return post[api.Promoted](ctx, c, environmentPath(lane, environment)+"/rollbacks", struct {
		Way
		Confirm string `json:"confirm,omitempty"`
	}{way, confirm})
}

// Deployments lists the newest limit deployments; an empty lane or environment
// means all.
func (c *Client) Deployments(ctx context.Context, lane, environment string, limit int) (*api.Deployments, error) {
	return get[api.Deployments](ctx, c, "/api/v1/deployments",
		url.Values{"lane": {lane}, "environment": {environment}, "limit": {strconv.Itoa(limit)}})
}

// Deployment gives one deployment.
func (c *Client) Deployment(ctx context.Context, id int64) (*api.Deployment, error) {
	return get[api.Deployment](ctx, c, "/api/v1/deployments/"+strconv.FormatInt(id, 10), nil)
}

// Cancel asks a running deployment to stop. Follow tells when it has.
func (c *Client) Cancel(ctx context.Context, id int64) (*api.Deployment, error) {
	return post[api.Deployment](ctx, c, "/api/v1/deployments/"+strconv.FormatInt(id, 10)+"/cancellation", struct{}{})
}

// Rehearse tries what a promotion would apply on a copy of the target's schema. It
// blocks until that has ended; repeated, it is done again.
func (c *Client) Rehearse(ctx context.Context, lane, environment, release, through string) (*api.Rehearsed, error) {
	request := map[string]string{"release": release, "through": through}
	return post[api.Rehearsed](ctx, c, environmentPath(lane, environment)+"/rehearsals", request)
}
