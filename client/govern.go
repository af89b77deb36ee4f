package client

import (
	"context"
	"net/url"
	"strconv"

	"vorrang/core/gate"
	"vorrang/service/api"
)

// Approve approves of a release on an environment, as its plan is now; or, if it
// is empty, of the ways back of the steps in place. Repeated, it is counted once.
func (c *Client) Approve(ctx context.Context, lane, environment, release, note string) (*api.Approved, error) {
	return post[api.Approved](
		ctx, c,
		environmentPath(lane, environment)+"/approvals",
		map[string]any{"release": release, "ways_back": release == "", "note": note},
	)
}

// WithdrawApproval takes one's own approvals of a release back, or of ways back if
// it is empty. Repeated, it is refused.
func (c *Client) WithdrawApproval(
	ctx context.Context, lane, environment, release string,
) (*api.ApprovalWithdrawn, error) {
	return post[api.ApprovalWithdrawn](
		ctx, c,
		environmentPath(lane, environment)+"/approvals/withdrawal",
		map[string]any{"release": release, "ways_back": release == ""},
	)
}

// Waive lets a check's hold pass for the next deployment of a release, or of
// loose steps if it is empty.
func (c *Client) Waive(ctx context.Context, lane, environment, check, release, reason string) (*gate.Waiver, error) {
	return post[gate.Waiver](
		ctx, c,
		environmentPath(lane, environment)+"/waivers",
		map[string]string{"check": check, "release": release, "reason": reason},
	)
}

// Scheduled lists a lane's scheduled promotions, or those to one environment if it is named.
// Those that wait are all on the first page, before the others. The search is for a release, a
// step, who scheduled it, what became of it, or why.
func (c *Client) Scheduled(ctx context.Context, lane, environment string, q ListQuery) (*api.ScheduledList, error) {
	query := texts(q.values(), map[string]string{"environment": environment})
	return get[api.ScheduledList](ctx, c, lanePath(lane)+"/scheduled", query)
}

// DropScheduled takes a scheduled promotion back. Repeated, it is not found.
func (c *Client) DropScheduled(ctx context.Context, lane, environment string, id int64) error {
	return c.remove(ctx, environmentPath(lane, environment)+"/scheduled/"+strconv.FormatInt(id, 10))
}

// Hooks lists the programs that are told of what happens, in order of their names. The search is
// for a name, an address or a lane.
func (c *Client) Hooks(ctx context.Context, q ListQuery) (*api.Hooks, error) {
	return get[api.Hooks](ctx, c, "/api/v1/hooks", q.values())
}

// PutHook keeps a hook under its name, new or changed. Its secret is a reference.
func (c *Client) PutHook(ctx context.Context, h api.Hook) (*api.Hook, error) {
	return put[api.Hook](
		ctx, c,
		"/api/v1/hooks/"+url.PathEscape(h.Name),
		map[string]any{"url": h.URL, "secret": h.Secret, "events": h.Events, "lane": h.Lane},
	)
}

// RemoveHook removes a hook. Repeated, it is not found.
func (c *Client) RemoveHook(ctx context.Context, name string) error {
	return c.remove(ctx, "/api/v1/hooks/"+url.PathEscape(name))
}

// Deliveries lists what was sent to a hook, or to all if it is empty, newest first. The search is for
// a hook, an event, a state or the last answer.
func (c *Client) Deliveries(ctx context.Context, hook string, q ListQuery) (*api.Deliveries, error) {
	query := q.values()
	query.Set("hook", hook)
	return get[api.Deliveries](ctx, c, "/api/v1/deliveries", query)
}

// pageQuery asks for a page of a list.
func pageQuery(before int64, limit int) url.Values {
	query := url.Values{}
	for name, value := range map[string]int64{"before": before, "limit": int64(limit)} {
		if value != 0 {
			query.Set(name, strconv.FormatInt(value, 10))
		}
	}
	return query
}

// texts adds what is given of texts to a query.
func texts(query url.Values, given map[string]string) url.Values {
	for name, value := range given {
		if value != "" {
			query.Set(name, value)
		}
	}
	return query
}

// Compare says how the schemas of two environments differ; owners and grants
// count where owners is true.
func (c *Client) Compare(ctx context.Context, lane, from, with string, owners bool) (*api.Comparison, error) {
	return get[api.Comparison](
		ctx, c,
		lanePath(lane)+"/comparison",
		url.Values{"from": {from}, "with": {with}, "owners": {strconv.FormatBool(owners)}},
	)
}

// CompareRelease says how an environment's schema differs from what a release
// makes in a scratch database.
func (c *Client) CompareRelease(ctx context.Context, lane, from, release string, owners bool) (*api.Comparison, error) {
	return post[api.Comparison](
		ctx, c,
		lanePath(lane)+"/comparisons",
		map[string]any{"from": from, "release": release, "owners": owners},
	)
}
