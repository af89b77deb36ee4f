package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"vorrang/core/access"
	"vorrang/service/api"
)

// Login gives a token that may do what a person may, for the programs of a
// machine. The client keeps using its own.
func (c *Client) Login(ctx context.Context, name, password, machine string) (*api.Session, error) {
	return post[api.Session](ctx, c, "/api/v1/session", api.SignIn{Name: name, Password: password, Machine: machine})
}

// Logout revokes the client's token, if it is a person's own.
func (c *Client) Logout(ctx context.Context) error {
	return c.remove(ctx, "/api/v1/session")
}

// Session says who the client is, and what it may.
func (c *Client) Session(ctx context.Context) (*api.Session, error) {
	return get[api.Session](ctx, c, "/api/v1/session", nil)
}

// ChangePassword changes one's own, and ends one's other sessions and tokens.
func (c *Client) ChangePassword(ctx context.Context, old, new string) error {
	_, err := post[struct{}](ctx, c, "/api/v1/session/password", map[string]string{"old": old, "new": new})
	return err
}

// People lists who may sign in, in order of their names. The search is for a name or a grant.
func (c *Client) People(ctx context.Context, q ListQuery) (*api.People, error) {
	return get[api.People](ctx, c, "/api/v1/people", q.values())
}

// PersonChange is what is to be changed of a person. Nil fields stay as they are.
type PersonChange struct {
	Password *string  `json:"password,omitempty"`
	Grant    []string `json:"grant,omitempty"` // ROLE, ROLE@LANE or ROLE@LANE/ENVIRONMENT
	Take     []string `json:"take,omitempty"`
	Disabled *bool    `json:"disabled,omitempty"`
}

// PutPerson keeps a person, new or changed. Repeated, it changes nothing more.
func (c *Client) PutPerson(ctx context.Context, name string, change PersonChange) (*access.Person, error) {
	return put[access.Person](ctx, c, "/api/v1/people/"+url.PathEscape(name), change)
}

// OwnTokens lists the caller's own tokens as Tokens lists all.
func (c *Client) OwnTokens(ctx context.Context, q ListQuery) (*api.Tokens, error) {
	return get[api.Tokens](ctx, c, "/api/v1/session/tokens", q.values())
}

// RevokeOwn ends one of the caller's own tokens. Repeated, it is not found.
func (c *Client) RevokeOwn(ctx context.Context, token int64) error {
	return c.remove(ctx, "/api/v1/session/tokens/"+strconv.FormatInt(token, 10))
}

// Tokens lists the tokens, the newest first, never their text. The search is for a name, a
// person, a grant or who made it.
func (c *Client) Tokens(ctx context.Context, q ListQuery) (*api.Tokens, error) {
	return get[api.Tokens](ctx, c, "/api/v1/tokens", q.values())
}

// MakeToken makes a machine's token. Repeated, it makes another.
func (c *Client) MakeToken(
	ctx context.Context, name string, grant []string, length time.Duration,
) (*api.TokenMade, error) {
	return post[api.TokenMade](
		ctx, c, "/api/v1/tokens",
		map[string]any{"name": name, "grant": grant, "seconds": int64(length / time.Second)},
	)
}

// Revoke ends a token. Repeated, it is not found.
func (c *Client) Revoke(ctx context.Context, token int64) error {
	return c.remove(ctx, "/api/v1/tokens/"+strconv.FormatInt(token, 10))
}

// AuditSearch says which acts are wanted. Empty fields mean any.
type AuditSearch struct {
	Actor, Operation, Lane, Environment, Text string

	Since, Until time.Time
	Before       int64 // Next of the page before; 0 for the newest
	Limit        int
}

func (s AuditSearch) query() url.Values {
	query := url.Values{
		"actor":       {s.Actor},
		"operation":   {s.Operation},
		"lane":        {s.Lane},
		"environment": {s.Environment},
		"text":        {s.Text},
	}
	if !s.Since.IsZero() {
		query.Set("since", s.Since.UTC().Format(time.RFC3339))
	}
	if !s.Until.IsZero() {
		query.Set("until", s.Until.UTC().Format(time.RFC3339))
	}
	if s.Before > 0 {
		query.Set("before", strconv.FormatInt(s.Before, 10))
	}
	if s.Limit > 0 {
		query.Set("limit", strconv.Itoa(s.Limit))
	}
	return query
}

// Audit says who did what, newest first.
func (c *Client) Audit(ctx context.Context, s AuditSearch) (*api.Audit, error) {
	return get[api.Audit](ctx, c, "/api/v1/audit", s.query())
}

// ExportAudit writes everything that is searched for, a line of JSON each; the
// limit does not count.
func (c *Client) ExportAudit(ctx context.Context, s AuditSearch, to io.Writer) error {
	answer, err := c.send(
		ctx,
		request{method: http.MethodGet, path: "/api/v1/audit", query: s.query(), accept: "application/x-ndjson"},
	)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	_, err = io.Copy(to, answer.Body)
	return err
}
