package client

import (
	"context"

	"vorrang/service/api"
)

// Adoption says what is found in a target beside what was known of it.
func (c *Client) Adoption(ctx context.Context, lane, environment string) (*api.Adoption, error) {
	return get[api.Adoption](ctx, c, environmentPath(lane, environment)+"/adoption", nil)
}

// Adopt takes over what is found in a target, if it still is that finding.
func (c *Client) Adopt(ctx context.Context, lane, environment, finding, reason string) (*api.Recorded, error) {
	return post[api.Recorded](
		ctx, c,
		environmentPath(lane, environment)+"/adoptions",
		map[string]string{"finding": finding, "reason": reason},
	)
}
