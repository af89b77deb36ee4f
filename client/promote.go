package client

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"vorrang/core/deploy"
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

// DeploymentQuery says which deployments are wanted; an empty field means all.
type DeploymentQuery struct {
	Lane, Environment, Outcome, Actor, Step, Release string

	Before int64 // Next of the page before; 0 for the newest
	Limit  int   // 20 where it is 0, 500 at the most
}

func (q DeploymentQuery) query() url.Values {
	return texts(pageQuery(q.Before, q.Limit), map[string]string{
		"lane": q.Lane, "environment": q.Environment, "outcome": q.Outcome, "actor": q.Actor, "step": q.Step,
		"release": q.Release,
	})
}

// Deployments lists deployments, the newest first.
func (c *Client) Deployments(ctx context.Context, q DeploymentQuery) (*api.Deployments, error) {
	return get[api.Deployments](ctx, c, "/api/v1/deployments", q.query())
}

// Deployment gives one deployment.
func (c *Client) Deployment(ctx context.Context, id int64) (*api.Deployment, error) {
	return get[api.Deployment](ctx, c, "/api/v1/deployments/"+strconv.FormatInt(id, 10), nil)
}

// Cancel asks a running deployment to stop. Follow tells when it has.
func (c *Client) Cancel(ctx context.Context, id int64) (*api.Deployment, error) {
	return post[api.Deployment](ctx, c, "/api/v1/deployments/"+strconv.FormatInt(id, 10)+"/cancellation", struct{}{})
}

// Footprints says what each step of a deployment did to its surroundings, beside what was
// rehearsed.
func (c *Client) Footprints(ctx context.Context, id int64) (*api.Footprints, error) {
	return get[api.Footprints](ctx, c, fmt.Sprintf("/api/v1/deployments/%d/footprints", id), nil)
}

// Rehearsal says what is to be rehearsed.
type Rehearsal struct {
	Release string `json:"release,omitempty"` // loose steps, if empty
	Through string `json:"through,omitempty"` // the last step; all that wait, if empty
	Rows    int    `json:"rows,omitempty"`    // of each table, that are copied
}

// BeginRehearsal begins to try what a promotion would apply on a copy of the target.
// Repeated, it is begun again.
func (c *Client) BeginRehearsal(ctx context.Context, lane, environment string, what Rehearsal) (*api.Rehearsed, error) {
	return post[api.Rehearsed](ctx, c, environmentPath(lane, environment)+"/rehearsals", what)
}

// Rehearse begins a rehearsal, and blocks until it has ended. hear, if it is not nil, is
// called for what happens meanwhile. Where ctx ends, the rehearsal goes on.
func (c *Client) Rehearse(
	ctx context.Context, lane, environment string, what Rehearsal, hear func(deploy.Event),
) (*api.Rehearsed, error) {
	begun, err := c.BeginRehearsal(ctx, lane, environment, what)
	if err != nil {
		return nil, err
	}
	if err := c.FollowRehearsal(ctx, begun, hear); err != nil {
		return nil, err
	}
	return c.Rehearsal(ctx, lane, environment, begun.ID)
}

// Rehearsal gives one rehearsal.
func (c *Client) Rehearsal(ctx context.Context, lane, environment string, id int64) (*api.Rehearsed, error) {
	return get[api.Rehearsed](ctx, c, rehearsalPath(lane, environment, id), nil)
}

// Rehearsals lists rehearsals of an environment, newest first. The search is for who began it, a
// release, how it ended, or a message.
func (c *Client) Rehearsals(ctx context.Context, lane, environment string, q ListQuery) (*api.Rehearsals, error) {
	return get[api.Rehearsals](ctx, c, environmentPath(lane, environment)+"/rehearsals", q.values())
}

// CancelRehearsal asks a rehearsal to stop. FollowRehearsal tells when it has.
func (c *Client) CancelRehearsal(ctx context.Context, lane, environment string, id int64) (*api.Rehearsed, error) {
	return post[api.Rehearsed](ctx, c, rehearsalPath(lane, environment, id)+"/cancellation", struct{}{})
}

func rehearsalPath(lane, environment string, id int64) string {
	return environmentPath(lane, environment) + "/rehearsals/" + strconv.FormatInt(id, 10)
}
