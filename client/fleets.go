package client

import (
	"context"
	"errors"
	"net/http"
	"strconv"
	"time"

	"vorrang/core/deploy"
	"vorrang/service/api"
)

func fleetPath(id int64) string { return "/api/v1/fleet-deployments/" + strconv.FormatInt(id, 10) }

// FleetDeployments lists deployments to fleets, the newest first. Of the query it reads Lane,
// Environment, Before and Limit.
func (c *Client) FleetDeployments(ctx context.Context, q DeploymentQuery) (*api.FleetDeployments, error) {
	query := texts(pageQuery(q.Before, q.Limit), map[string]string{"lane": q.Lane, "environment": q.Environment})
	return get[api.FleetDeployments](ctx, c, "/api/v1/fleet-deployments", query)
}

// FleetDeployment gives one deployment to a fleet, with how each target stands.
func (c *Client) FleetDeployment(ctx context.Context, id int64) (*api.FleetDeployment, error) {
	return get[api.FleetDeployment](ctx, c, fleetPath(id), nil)
}

// PauseFleet has no further target begin; those under way go on.
func (c *Client) PauseFleet(ctx context.Context, id int64) (*api.FleetDeployment, error) {
	return post[api.FleetDeployment](ctx, c, fleetPath(id)+"/pause", struct{}{})
}

// ResumeFleet lets a paused deployment to a fleet go on.
func (c *Client) ResumeFleet(ctx context.Context, id int64) (*api.FleetDeployment, error) {
	return post[api.FleetDeployment](ctx, c, fleetPath(id)+"/resumption", struct{}{})
}

// CancelFleet cancels the deployments of targets that are under way, and has no further one begin.
func (c *Client) CancelFleet(ctx context.Context, id int64) (*api.FleetDeployment, error) {
	return post[api.FleetDeployment](ctx, c, fleetPath(id)+"/cancellation", struct{}{})
}

// fleetEvery is how often FollowFleet asks.
const fleetEvery = 400 * time.Millisecond

// FollowFleet tells how a deployment to a fleet stands whenever it is asked, until it has ended. A
// service that is away for a moment is asked again, as Follow does.
func (c *Client) FollowFleet(ctx context.Context, id int64, tell func(*api.FleetDeployment) error) error {
	for lost := 0; ; {
		f, err := c.FleetDeployment(ctx, id)
		var refused *Error
		switch {
		case err == nil:
			lost = 0
			if err := tell(f); err != nil || f.Outcome != deploy.Running {
				return err
			}
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.As(err, &refused) && refused.Status < http.StatusInternalServerError, lost > reconnects:
			return err
		default:
			lost++
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(fleetEvery):
		}
	}
}

// SetAside has deployments to a fleet, and gates, pass over one target: ENVIRONMENT.TARGET.
func (c *Client) SetAside(ctx context.Context, lane, target, reason string) (*api.SetAside, error) {
	return put[api.SetAside](ctx, c, environmentPath(lane, target)+"/aside", map[string]string{"reason": reason})
}

// TakeBack ends that.
func (c *Client) TakeBack(ctx context.Context, lane, target string) error {
	return c.remove(ctx, environmentPath(lane, target)+"/aside")
}
