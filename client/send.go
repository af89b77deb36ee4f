package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"vorrang/service/api"
)

type request struct {
	method, path string
	query        url.Values
	body         io.Reader
	kind         string // media type of the body
	accept       string
	lastEvent    int64
	password     string // of the caller
}

// send sends a request, once more with the caller's password where that is asked
// for.
func (c *Client) send(ctx context.Context, r request) (*http.Response, error) {
	answer, err := c.sendOnce(ctx, r)
	var refused *Error
	again, can := r.body.(io.Seeker)
	if c.Password == nil || !can || !errors.As(err, &refused) || refused.Kind() != "proof-needed" {
		return answer, err
	}
	if r.password, err = c.Password(); err != nil {
		return nil, err
	}
	if _, err := again.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	return c.sendOnce(ctx, r)
}

func (c *Client) sendOnce(ctx context.Context, r request) (*http.Response, error) {
	address := c.Server + r.path
	if len(r.query) > 0 {
		address += "?" + r.query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, r.method, address, r.body)
	if err != nil {
		return nil, fmt.Errorf("the server address %s: %w", c.Server, err)
	}
	req.Header.Set("Authorization", "Bearer "+c.Token)
	req.Header.Set("Vorrang-Actor", c.Actor)
	if r.method == http.MethodGet { // who asks by a program wants what is so now
		req.Header.Set("Cache-Control", "no-cache")
	}
	if r.kind != "" {
		req.Header.Set("Content-Type", r.kind)
	}
	if r.accept != "" {
		req.Header.Set("Accept", r.accept)
	}
	if r.password != "" {
		req.Header.Set("Vorrang-Password", url.PathEscape(r.password))
	}
	if r.lastEvent > 0 {
		req.Header.Set("Last-Event-ID", strconv.FormatInt(r.lastEvent, 10))
	}
	answer, err := c.HTTP.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &UnreachableError{c.Server, lastCause(err)}
	}
	if answer.StatusCode < 300 {
		return answer, nil
	}
	defer answer.Body.Close()
	problem := readProblem(answer)
	c.show(problem)
	return nil, problem
}

func (c *Client) show(answer any) {
	if c.Shown != nil {
		c.Shown(answer)
	}
}

func lastCause(err error) error {
	for next := errors.Unwrap(err); next != nil; next = errors.Unwrap(err) {
		err = next
	}
	return err
}

func readProblem(answer *http.Response) error {
	body, _ := io.ReadAll(io.LimitReader(answer.Body, 4<<20)) // what arrived is what can be shown
	problem := &Error{}
	if json.Unmarshal(body, &problem.Problem) != nil || problem.Title == "" {
		problem.Problem = api.Problem{Title: answer.Status, Status: answer.StatusCode,
			Detail: fmt.Sprintf(
				"the server answered %s, and not as Vorrang does; is the address right?",
				answer.Status,
			)}
	}
	return problem
}

func call[Out any](ctx context.Context, c *Client, r request) (*Out, error) {
	answer, err := c.send(ctx, r)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	out := new(Out)
	if err := c.read(answer, out); err != nil {
		return nil, err
	}
	return out, nil
}

// read reads an answer that is JSON.
func (c *Client) read(answer *http.Response, into any) error {
	if err := json.NewDecoder(answer.Body).Decode(into); err != nil {
		return fmt.Errorf("the answer of %s broke off: %w", c.Server, err)
	}
	c.show(into)
	return nil
}

func get[Out any](ctx context.Context, c *Client, path string, query url.Values) (*Out, error) {
	return call[Out](ctx, c, request{method: http.MethodGet, path: path, query: query})
}

// say sends JSON.
func say[Out any](ctx context.Context, c *Client, method, path string, in any) (*Out, error) {
	body, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	return call[Out](ctx, c, request{method: method, path: path, body: bytes.NewReader(body), kind: "application/json"})
}

func post[Out any](ctx context.Context, c *Client, path string, in any) (*Out, error) {
	return say[Out](ctx, c, http.MethodPost, path, in)
}

func put[Out any](ctx context.Context, c *Client, path string, in any) (*Out, error) {
	return say[Out](ctx, c, http.MethodPut, path, in)
}

func (c *Client) remove(ctx context.Context, path string) error {
	_, err := call[struct{}](ctx, c, request{method: http.MethodDelete, path: path})
	return err
}

func lanePath(lane string) string { return "/api/v1/lanes/" + url.PathEscape(lane) }

func environmentPath(lane, environment string) string {
	return lanePath(lane) + "/environments/" + url.PathEscape(environment)
}
