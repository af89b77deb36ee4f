package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"vorrang/core/deploy"
	"vorrang/service/api"
)

// reconnects is how often a stream that brings nothing new may break off before
// Follow gives up.
const reconnects = 20

// Follow calls hear for every event of a deployment after a number, until the
// deployment has ended. A stream that breaks off is taken up where it was.
func (c *Client) Follow(ctx context.Context, id, after int64, hear func(deploy.Event) error) error {
	return c.follow(
		ctx,
		"/api/v1/deployments/"+strconv.FormatInt(id, 10)+"/events",
		fmt.Sprintf("deployment %d", id),
		after,
		hear,
	)
}

// FollowRehearsal calls hear, if it is not nil, for what happens in a rehearsal, until it
// has ended. What happened before a connection was lost is not told again.
func (c *Client) FollowRehearsal(ctx context.Context, r *api.Rehearsed, hear func(deploy.Event)) error {
	path := rehearsalPath(r.Lane, r.Environment, r.ID) + "/events"
	return c.follow(ctx, path, fmt.Sprintf("rehearsal %d", r.ID), 0, func(e deploy.Event) error {
		if hear != nil {
			hear(e)
		}
		return nil
	})
}

func (c *Client) follow(ctx context.Context, path, what string, after int64, hear func(deploy.Event) error) error {
	return c.again(ctx, what, func() (ended, more bool, err error) {
		before := after
		ended, err = c.followOnce(ctx, path, &after, hear)
		return ended, after > before, err
	})
}

// again listens to a stream, and once more whenever it breaks off, until it has ended, the listener has
// an error of its own, or it brings nothing more reconnects times in a row.
func (c *Client) again(ctx context.Context, what string, once func() (ended, more bool, err error)) error {
	for lost := 0; ; {
		ended, more, err := once()
		var refused *Error
		if ended || ctx.Err() != nil || (errors.As(err, &refused) && refused.Status < http.StatusInternalServerError) {
			return err
		}
		var mine *hearError
		if errors.As(err, &mine) {
			return mine.err
		}
		if lost++; more {
			lost = 0
		}
		if lost > reconnects {
			return fmt.Errorf("the events of %s break off: %w", what, err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// hearError is the listener's own error.
type hearError struct{ err error }

func (e *hearError) Error() string { return e.err.Error() }

func (c *Client) followOnce(
	ctx context.Context, path string, after *int64, hear func(deploy.Event) error,
) (ended bool, err error) {
	answer, err := c.send(ctx, request{method: http.MethodGet, path: path, accept: eventStream, lastEvent: *after})
	if err != nil {
		return false, err
	}
	defer answer.Body.Close()
	for lines := bufio.NewReader(answer.Body); ; {
		var event deploy.Event
		if err := c.nextEvent(lines, &event); err != nil {
			return false, err
		}
		*after = event.Seq
		if err := hear(event); err != nil {
			return false, &hearError{err}
		}
		if event.Kind == deploy.Ended {
			return true, nil
		}
	}
}

const eventStream = "text/event-stream"

// nextEvent reads what the next Server-Sent Event of a stream brings.
func (c *Client) nextEvent(lines *bufio.Reader, into any) error {
	for {
		line, err := lines.ReadString('\n')
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return err
		}
		data, isData := strings.CutPrefix(line, "data: ")
		if !isData {
			continue
		}
		if err := json.Unmarshal([]byte(data), into); err != nil {
			return err
		}
		c.show(into)
		return nil
	}
}
