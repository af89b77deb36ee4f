package client

import (
	"context"
	"io/fs"
	"net/url"

	"vorrang/service/api"
)

// Review says what a reviewer should know of the steps of a folder: of those that are
// new or edited, or of all; against an environment's schema, of those that it has not.
// environment may be empty. It keeps nothing.
func (c *Client) Review(ctx context.Context, lane, environment string, all bool, folder fs.FS) (*api.Reviewed, error) {
	query := url.Values{}
	if environment != "" {
		query.Set("environment", environment)
	}
	if all {
		query.Set("all", "true")
	}
	return sendFolder[api.Reviewed](ctx, c, lane, "/reviews", folder, query)
}

// Findings lists what a review for an engine may find, with an example each.
func (c *Client) Findings(ctx context.Context, engine string) (*api.Rules, error) {
	return get[api.Rules](ctx, c, "/api/v1/engines/"+url.PathEscape(engine)+"/findings", nil)
}
