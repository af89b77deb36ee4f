package client

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"vorrang/core/deploy"
	"vorrang/service/api"
)

func fleetPath(id int64) string { return "/api/v1/fleet-deployments/" + strconv.FormatInt(id, 10) }

// FleetDeployments lists deployments to fleets, the newest first. The step is one that some target was
// to run.
func (c *Client) FleetDeployments(ctx context.Context, q DeploymentQuery) (*api.FleetDeployments, error) {
	return get[api.FleetDeployments](ctx, c, "/api/v1/fleet-deployments", q.query())
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

// FollowFleet tells how a deployment to a fleet stands, with all of its targets, whenever something
// changed, until it has ended. A stream that breaks off is taken up again, as Follow does.
func (c *Client) FollowFleet(ctx context.Context, id int64, tell func(*api.FleetDeployment) error) error {
	var last *api.FleetDeployment
	return c.again(ctx, fmt.Sprintf("deployment F%d", id), func() (ended, more bool, err error) {
		answer, err := c.send(ctx, request{method: http.MethodGet, path: fleetPath(id), accept: eventStream})
		if err != nil {
			return false, false, err
		}
		defer answer.Body.Close()
		lines := bufio.NewReader(answer.Body)
		next := func(into any) error { return c.nextEvent(lines, into) }
		if !strings.HasPrefix(answer.Header.Get("Content-Type"), eventStream) { // an older service: it is asked again
			more = true
			next = func(into any) error { return c.read(answer, into) }
		}
		for {
			now := &api.FleetDeployment{}
			if err := next(now); err != nil {
				return false, more, err
			}
			if last != nil {
				now.Targets = withChanged(slices.Clone(last.Targets), now.Targets)
			}
			more = more || !reflect.DeepEqual(last, now)
			last = now
			if err := tell(now); err != nil {
				return false, more, &hearError{err}
			}
			if now.Outcome != deploy.Running {
				return true, more, nil
			}
		}
	})
}

// withChanged are a fleet's targets as they are known, but for those that stand in another way now. The
// first of a stream are all of them, in the fleet's order.
func withChanged(known, changed []api.FleetTarget) []api.FleetTarget {
	for _, t := range changed {
		i := slices.IndexFunc(known, func(k api.FleetTarget) bool { return k.Target == t.Target })
		if i < 0 {
			known = append(known, t)
		} else {
			known[i] = t
		}
	}
	return known
}

// SetAside has deployments to a fleet, and gates, pass over one target: ENVIRONMENT.TARGET.
func (c *Client) SetAside(ctx context.Context, lane, target, reason string) (*api.SetAside, error) {
	return put[api.SetAside](ctx, c, environmentPath(lane, target)+"/aside", map[string]string{"reason": reason})
}

// TakeBack ends that.
func (c *Client) TakeBack(ctx context.Context, lane, target string) error {
	return c.remove(ctx, environmentPath(lane, target)+"/aside")
}
