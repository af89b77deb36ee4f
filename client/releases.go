package client

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"vorrang/core/step"
	"vorrang/service/api"
)

// Cutting says what a release is to be cut of.
type Cutting struct {
	Name    string        `json:"name"`
	Through string        `json:"through,omitempty"` // the last step; empty means all
	Notes   string        `json:"notes,omitempty"`   // Markdown
	Commit  string        `json:"commit,omitempty"`  // that the step folder is at
	Clean   bool          `json:"clean,omitempty"`   // the folder holds nothing that is not committed
	Digest  step.Checksum `json:"digest,omitempty"`  // of the folder; a catalogue that differs is refused
}

// Cut seals the catalogue up to a step. Repeated, it is refused.
func (c *Client) Cut(ctx context.Context, lane string, what Cutting) (*api.ReleaseCut, error) {
	return post[api.ReleaseCut](ctx, c, lanePath(lane)+"/releases", what)
}

// Releases lists a lane's newest 100 releases, newest first.
func (c *Client) Releases(ctx context.Context, lane string) (*api.Releases, error) {
	return c.ReleasesPage(ctx, lane, ReleaseQuery{})
}

// ReleaseQuery says which releases are wanted; an empty field means all.
type ReleaseQuery struct {
	Search string // stands in the name, the notes, the commit or who cut it
	Before string // Next of the page before
	Limit  int    // 100 where it is 0, 1,000 at the most
}

// ReleasesPage lists releases of a lane, newest first.
func (c *Client) ReleasesPage(ctx context.Context, lane string, q ReleaseQuery) (*api.Releases, error) {
	query := texts(pageQuery(0, q.Limit), map[string]string{"search": q.Search, "before": q.Before})
	return get[api.Releases](ctx, c, lanePath(lane)+"/releases", query)
}

// Release gives a release, and what it brings against an environment or another
// release, if one is named.
func (c *Client) Release(ctx context.Context, lane, name, environment, against string) (*api.ReleaseContent, error) {
	return get[api.ReleaseContent](
		ctx, c,
		lanePath(lane)+"/releases/"+url.PathEscape(name),
		url.Values{"environment": {environment}, "against": {against}},
	)
}

// Sign keeps a signature of a release, as release.Sign makes it.
func (c *Client) Sign(ctx context.Context, lane, name, signature string) (*api.Signed, error) {
	return post[api.Signed](
		ctx, c,
		lanePath(lane)+"/releases/"+url.PathEscape(name)+"/signatures",
		map[string]string{"signature": signature},
	)
}

// Export writes a release's bundle.
func (c *Client) Export(ctx context.Context, lane, name string, to io.Writer) error {
	path := lanePath(lane) + "/releases/" + url.PathEscape(name) + "/bundle"
	return c.download(ctx, request{method: http.MethodGet, path: path}, to)
}

// Report writes what a reviewer reads of the promotion of a release, or of loose steps,
// as one HTML document.
func (c *Client) Report(ctx context.Context, lane, environment, release string, to io.Writer) error {
	return c.download(ctx, request{
		method: http.MethodGet, path: environmentPath(lane, environment) + "/report", query: url.Values{"release": {release}},
	}, to)
}

func (c *Client) download(ctx context.Context, what request, to io.Writer) error {
	answer, err := c.send(ctx, what)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	_, err = io.Copy(to, answer.Body)
	return err
}

// SubmitBundle sends a release's bundle. Repeated, it changes nothing.
func (c *Client) SubmitBundle(ctx context.Context, lane string, bundle io.Reader) (*api.ReleaseCut, error) {
	return call[api.ReleaseCut](
		ctx, c,
		request{method: http.MethodPost, path: lanePath(lane) + "/bundles", body: bundle, kind: "application/gzip"},
	)
}
