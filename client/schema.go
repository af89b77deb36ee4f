package client

import (
	"context"
	"net/url"
	"strconv"

	"vorrang/service/api"
)

// Drift says how a target's schema differs from what the last deployment left.
func (c *Client) Drift(ctx context.Context, lane, environment string) (*api.Drift, error) {
	return get[api.Drift](ctx, c, environmentPath(lane, environment)+"/drift", nil)
}

// Accept says that a schema is right as it is, if it still has the fingerprint.
func (c *Client) Accept(ctx context.Context, lane, environment, fingerprint, reason string) (*api.Accepted, error) {
	return post[api.Accepted](
		ctx, c,
		environmentPath(lane, environment)+"/acceptances",
		map[string]string{"fingerprint": fingerprint, "reason": reason},
	)
}

// Effects lists what the steps of an environment's deployments did to its schema, the newest
// first. The limit is one of deployments. The search is for the full name of an object, such as
// a table.
func (c *Client) Effects(ctx context.Context, lane, environment string, q ListQuery) (*api.Effects, error) {
	query := texts(pageQuery(q.Before, q.Limit), map[string]string{"object": q.Search})
	return get[api.Effects](ctx, c, environmentPath(lane, environment)+"/effects", query)
}

// CompareDeployment says how an environment's schema differs from what a
// deployment of the lane left.
func (c *Client) CompareDeployment(
	ctx context.Context, lane, from string, deployment int64, owners bool,
) (*api.Comparison, error) {
	return get[api.Comparison](
		ctx, c,
		lanePath(lane)+"/comparison",
		url.Values{
			"from":       {from},
			"deployment": {strconv.FormatInt(deployment, 10)},
			"owners":     {strconv.FormatBool(owners)},
		},
	)
}

// DraftRequest says what to draft: the first step of an environment's database, or
// of what drifted there, or the steps from one environment's schema to
// another's.
type DraftRequest struct {
	Environment string   `json:"environment,omitempty"`
	Drift       string   `json:"drift,omitempty"` // keep or undo
	From        string   `json:"from,omitempty"`
	With        string   `json:"with,omitempty"`
	Renames     []string `json:"renames,omitempty"` // OLD=NEW, or none
	Owners      bool     `json:"owners,omitempty"`
	Rows        []string `json:"rows,omitempty"` // tables
}

// Draft writes steps, proved in a scratch database. It takes as long as that
// takes.
func (c *Client) Draft(ctx context.Context, lane string, request DraftRequest) (*api.Draft, error) {
	return post[api.Draft](ctx, c, lanePath(lane)+"/drafts", request)
}
