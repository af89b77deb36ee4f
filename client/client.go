package client

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"vorrang/core/gate"
	"vorrang/core/plan"
	"vorrang/core/step"
	"vorrang/internal/advice"
	"vorrang/service/api"
)

// Client calls one service. It is safe for concurrent use.
type Client struct {
	Server string // such as http://127.0.0.1:7340
	Token  string
	Actor  string // who you are; stands in the ledger beside what you do
	HTTP   *http.Client

	// Password gives the caller's own password, where the service asks them to show
	// who they are; nil for none.
	Password func() (string, error)

	// Shown is given a pointer to each answer, and to each event, before the caller
	// gets it; nil for nothing.
	Shown func(any)
}

// New returns a client for a server's address.
func New(server, token, actor string) *Client {
	return &Client{Server: strings.TrimRight(server, "/"), Token: token, Actor: actor, HTTP: &http.Client{}}
}

// Error is what the service answered instead of a result.
type Error struct{ api.Problem }

func (e *Error) Error() string {
	text := e.Detail
	if text == "" {
		text = e.Title
	}
	if next := e.Next(); next != "" {
		text += "\n" + next
	}
	return text
}

// Next says what to do, with command lines of the client; empty where nothing is known.
func (e *Error) Next() string { return advice.Text(e.Remedies) }

// Kind is the last part of the problem's type, such as held or not-found.
func (e *Error) Kind() string { return strings.TrimPrefix(e.Type, "urn:vorrang:") }

// UnreachableError says that the service did not answer at all.
type UnreachableError struct {
	Server string
	Err    error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf(
		"the service at %s does not answer (%v); is vorrangd running there? -server or VORRANG_SERVER names another address",
		e.Server,
		e.Err,
	)
}

func (e *UnreachableError) Unwrap() error { return e.Err }

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
	if err := json.NewDecoder(answer.Body).Decode(out); err != nil {
		return nil, fmt.Errorf("the answer of %s broke off: %w", c.Server, err)
	}
	c.show(out)
	return out, nil
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

// Declare declares a lane from a lane file's text; the name is for errors. confirm
// is the lane's name, where something is loosened, moved or dropped.
func (c *Client) Declare(ctx context.Context, name string, text []byte, confirm ...string) (*api.Declared, error) {
	return call[api.Declared](
		ctx,
		c,
		request{method: http.MethodPost, path: "/api/v1/lanes", query: url.Values{"file": {name}, "confirm": confirm},
			body: bytes.NewReader(text), kind: "application/yaml"},
	)
}

// Lanes lists the lanes and where their environments stand.
func (c *Client) Lanes(ctx context.Context) (*api.Lanes, error) {
	return get[api.Lanes](ctx, c, "/api/v1/lanes", nil)
}

// Lane says where one lane's environments stand.
func (c *Client) Lane(ctx context.Context, lane string) (*api.LaneStatus, error) {
	return get[api.LaneStatus](ctx, c, lanePath(lane), nil)
}

// Submit sends a step folder to the catalogue. gone are the numbers of steps that
// are to leave it, or to be taken by another step. Files that cannot be read are
// step.Problems.
func (c *Client) Submit(ctx context.Context, lane string, folder fs.FS, gone ...string) (*api.Submitted, error) {
	return c.submit(ctx, lane, "/submissions", folder, gone)
}

// TrySubmit says what Submit would do, and why it would be refused. It changes
// nothing.
func (c *Client) TrySubmit(ctx context.Context, lane string, folder fs.FS, gone ...string) (*api.Submitted, error) {
	return c.submit(ctx, lane, "/submissions/trial", folder, gone)
}

func (c *Client) submit(ctx context.Context, lane, path string, folder fs.FS, gone []string) (*api.Submitted, error) {
	names, err := step.List(folder)
	if err != nil {
		return nil, err
	}
	reader, writer := io.Pipe()
	var unread error
	written := make(chan struct{})
	go func() {
		defer close(written)
		unread = writeFolder(writer, folder, names)
		writer.CloseWithError(unread)
	}()
	answer, err := call[api.Submitted](
		ctx,
		c,
		request{method: http.MethodPost, path: lanePath(lane) + path, body: reader, kind: "application/x-tar",
			query: url.Values{"gone": {strings.Join(gone, ",")}}},
	)
	_ = reader.Close() // so that the writer ends
	<-written
	var problems step.Problems
	if err != nil && errors.As(unread, &problems) {
		return nil, problems // it is the folder, not the service
	}
	return answer, err
}

func writeFolder(w io.Writer, folder fs.FS, names []string) error {
	archive := tar.NewWriter(w)
	for _, name := range names {
		if err := writeFile(archive, folder, name); err != nil {
			return err
		}
	}
	return archive.Close()
}

func writeFile(archive *tar.Writer, folder fs.FS, name string) error {
	unreadable := func(err error) error {
		var path *fs.PathError
		if errors.As(err, &path) {
			err = path.Err
		}
		return step.Problems{{File: name, Message: "cannot be read: " + err.Error()}}
	}
	file, err := folder.Open(name)
	if err != nil {
		return unreadable(err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return unreadable(err)
	}
	if err := archive.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: info.Size()}); err != nil {
		return err
	}
	_, err = io.Copy(archive, file)
	return err
}

// Step gives a step of the catalogue with its texts, each up to limit bytes; 0
// means all.
func (c *Client) Step(ctx context.Context, lane, number string, limit int) (*api.StepTexts, error) {
	return get[api.StepTexts](
		ctx,
		c,
		lanePath(lane)+"/steps/"+url.PathEscape(number),
		url.Values{"limit": {strconv.Itoa(limit)}},
	)
}

// Status says where an environment stands. steps is none, open or all.
func (c *Client) Status(ctx context.Context, lane, environment, steps string) (*api.EnvironmentStatus, error) {
	return get[api.EnvironmentStatus](ctx, c, environmentPath(lane, environment), url.Values{"steps": {steps}})
}

// Probe says whether a target can be used.
func (c *Client) Probe(ctx context.Context, lane, environment string) (*api.Probe, error) {
	return get[api.Probe](ctx, c, environmentPath(lane, environment)+"/probe", nil)
}

// Ledger gives a target's newest limit entries, newest first; 0 means all.
func (c *Client) Ledger(ctx context.Context, lane, environment string, limit int) (*api.Ledger, error) {
	return get[api.Ledger](
		ctx,
		c,
		environmentPath(lane, environment)+"/ledger",
		url.Values{"limit": {strconv.Itoa(limit)}},
	)
}

// Engines lists the kinds of database servers that the service works on.
func (c *Client) Engines(ctx context.Context) (*api.Engines, error) {
	return get[api.Engines](ctx, c, "/api/v1/engines", nil)
}

// LedgerSetup gives the SQL that an administrator of a target's database runs with
// psql, so that its ledger has an owner of its own.
func (c *Client) LedgerSetup(ctx context.Context, lane, environment string) (*api.LedgerSetup, error) {
	return get[api.LedgerSetup](ctx, c, environmentPath(lane, environment)+"/ledger/setup", nil)
}

// Verify says whether the histories of a lane's targets are consistent; an
// empty environment means all.
func (c *Client) Verify(ctx context.Context, lane, environment string) (*api.Verification, error) {
	return get[api.Verification](ctx, c, lanePath(lane)+"/verification", url.Values{"environment": {environment}})
}

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

// Releases lists a lane's releases, newest first.
func (c *Client) Releases(ctx context.Context, lane string) (*api.Releases, error) {
	return get[api.Releases](ctx, c, lanePath(lane)+"/releases", nil)
}

// Release gives a release, and what it brings against an environment or another
// release, if one is named.
func (c *Client) Release(ctx context.Context, lane, name, environment, against string) (*api.ReleaseContent, error) {
	return get[api.ReleaseContent](
		ctx,
		c,
		lanePath(lane)+"/releases/"+url.PathEscape(name),
		url.Values{"environment": {environment}, "against": {against}},
	)
}

// Sign keeps a signature of a release, as release.Sign makes it.
func (c *Client) Sign(ctx context.Context, lane, name, signature string) (*api.Signed, error) {
	return post[api.Signed](
		ctx,
		c,
		lanePath(lane)+"/releases/"+url.PathEscape(name)+"/signatures",
		map[string]string{"signature": signature},
	)
}

// Export writes a release's bundle.
func (c *Client) Export(ctx context.Context, lane, name string, to io.Writer) error {
	answer, err := c.send(
		ctx,
		request{method: http.MethodGet, path: lanePath(lane) + "/releases/" + url.PathEscape(name) + "/bundle"},
	)
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
		ctx,
		c,
		request{method: http.MethodPost, path: lanePath(lane) + "/bundles", body: bundle, kind: "application/gzip"},
	)
}

// Gate asks what the gate says to a promotion of a release, or of loose steps
// if it is empty.
func (c *Client) Gate(ctx context.Context, lane, environment, release string) (*api.GateAnswer, error) {
	return get[api.GateAnswer](ctx, c, environmentPath(lane, environment)+"/gate", url.Values{"release": {release}})
}

// Way says how far a rollback goes; exactly one field is set, Shown aside.
type Way struct {
	Last       int    `json:"last,omitempty"` // the last so many steps
	To         string `json:"to,omitempty"`
	Deployment int64  `json:"deployment,omitempty"`
	Release    string `json:"release,omitempty"` // everything that is not in this release
	Shown      string `json:"plan,omitempty"`    // the digest of the plan that was shown, or its first 12 digits; another is refused
}

func (w Way) query() url.Values {
	query := url.Values{}
	if w.Last != 0 {
		query.Set("last", strconv.Itoa(w.Last))
	}
	if w.To != "" {
		query.Set("to", w.To)
	}
	if w.Deployment != 0 {
		query.Set("deployment", strconv.FormatInt(w.Deployment, 10))
	}
	if w.Release != "" {
		query.Set("back_release", w.Release)
	}
	return query
}

// Preview gives the SQL that a promotion would run.
func (c *Client) Preview(ctx context.Context, lane, environment string, how Promotion) (*api.Preview, error) {
	return get[api.Preview](
		ctx,
		c,
		environmentPath(lane, environment)+"/preview",
		url.Values{"through": {how.Through}, "release": {how.Release}},
	)
}

// PreviewBack gives the SQL that a rollback would run.
func (c *Client) PreviewBack(ctx context.Context, lane, environment string, way Way) (*api.Preview, error) {
	return get[api.Preview](ctx, c, environmentPath(lane, environment)+"/preview", way.query())
}

// Standalone gives a promotion as one file that psql runs without Vorrang.
func (c *Client) Standalone(ctx context.Context, lane, environment string, how Promotion) (*api.Preview, error) {
	return get[api.Preview](
		ctx,
		c,
		environmentPath(lane, environment)+"/preview",
		url.Values{"through": {how.Through}, "release": {how.Release}, "standalone": {"true"}, "limit": {"1"}},
	)
}

// StandaloneBack gives a rollback as one file that psql runs without Vorrang.
func (c *Client) StandaloneBack(ctx context.Context, lane, environment string, way Way) (*api.Preview, error) {
	query := way.query()
	query.Set("standalone", "true")
	query.Set("limit", "1")
	return get[api.Preview](ctx, c, environmentPath(lane, environment)+"/preview", query)
}

// Promotion says how far a promotion goes, and how.
type Promotion struct {
	Through   string      `json:"through,omitempty"`    // the last step; empty means all
	Release   string      `json:"release,omitempty"`    // empty for loose steps
	OnFailure plan.Policy `json:"on_failure,omitempty"` // empty means what the lane says
	Whole     bool        `json:"whole,omitempty"`      // all steps in one transaction
	At        time.Time   `json:"at,omitzero"`          // not now, but then
	Shown     string      `json:"plan,omitempty"`       // the digest of the plan that was shown, or its first 12 digits; another is refused
}

// Promote asks the gate and begins a deployment. Repeated, it goes on where the
// first call's deployment ended.
func (c *Client) Promote(ctx context.Context, lane, environment string, how Promotion) (*api.Promoted, error) {
	return post[api.Promoted](ctx, c, environmentPath(lane, environment)+"/promotions", how)
}

// Rebuild empties a disposable environment and begins a deployment of every
// step. confirm must be the environment's name.
func (c *Client) Rebuild(ctx context.Context, lane, environment, confirm string) (*api.Promoted, error) {
	return post[api.Promoted](
		ctx,
		c,
		environmentPath(lane, environment)+"/rebuilds",
		map[string]string{"confirm": confirm},
	)
}

// Rollback begins a deployment back. Repeated with steps, it goes further back.
// Where the environment is not disposable, confirm must be its name.
func (c *Client) Rollback(
	ctx context.Context,
	lane, environment string,
	way Way,
	confirm string,
) (*api.Promoted, error) {
	return post[api.Promoted](ctx, c, environmentPath(lane, environment)+"/rollbacks", struct {
		Way
		Confirm string `json:"confirm,omitempty"`
	}{way, confirm})
}

// Baseline records that an existing database contains every step up to a
// number; with check only if a scratch database with these steps has the same
// objects. Repeated, it is refused.
func (c *Client) Baseline(ctx context.Context, lane, environment, at string, check bool) (*api.Recorded, error) {
	return post[api.Recorded](
		ctx,
		c,
		environmentPath(lane, environment)+"/baselines",
		map[string]any{"at": at, "check": check},
	)
}

// Evidence says what a target shows of a step, reading only.
func (c *Client) Evidence(ctx context.Context, lane, environment, number string) (*api.Evidence, error) {
	return get[api.Evidence](
		ctx,
		c,
		environmentPath(lane, environment)+"/steps/"+url.PathEscape(number)+"/evidence",
		nil,
	)
}

// Settlement is somebody's word on a step in doubt.
type Settlement struct {
	Step        string `json:"step"`
	As          string `json:"as"` // ledger.SettledApplied or ledger.SettledNotApplied
	Reason      string `json:"reason"`
	Acknowledge bool   `json:"acknowledge,omitempty"`  // though the evidence speaks against it
	DropInvalid bool   `json:"drop_invalid,omitempty"` // the indexes that the statement left marked INVALID
}

// Settle records what became of a step in doubt. Repeated, it is refused.
func (c *Client) Settle(ctx context.Context, lane, environment string, word Settlement) (*api.Recorded, error) {
	return post[api.Recorded](ctx, c, environmentPath(lane, environment)+"/settlements", word)
}

// Attestation is somebody's word that steps were carried out by hand. One of
// Step and Through is given.
type Attestation struct {
	Step        string `json:"step,omitempty"`
	Through     string `json:"through,omitempty"` // every step that waits, up to this one
	IfPresent   bool   `json:"if_present,omitempty"`
	Acknowledge bool   `json:"acknowledge,omitempty"`
	Reason      string `json:"reason"`
}

// Attest records steps as carried out by hand. Repeated, it is refused.
func (c *Client) Attest(ctx context.Context, lane, environment string, word Attestation) (*api.Attested, error) {
	return post[api.Attested](ctx, c, environmentPath(lane, environment)+"/attestations", word)
}

// Withdraw takes the newest step out of the catalogue. Repeated, it is refused.
func (c *Client) Withdraw(ctx context.Context, lane, number string) (*api.Withdrawn, error) {
	return post[api.Withdrawn](ctx, c, lanePath(lane)+"/steps/"+url.PathEscape(number)+"/withdrawal", struct{}{})
}

// Amend records that the catalogue's text of an edited step is right. Repeated,
// it is refused.
func (c *Client) Amend(
	ctx context.Context,
	lane, environment, number, reason string,
	acknowledge bool,
) (*api.Recorded, error) {
	return post[api.Recorded](ctx, c, environmentPath(lane, environment)+"/amendments",
		map[string]any{"step": number, "reason": reason, "acknowledge": acknowledge})
}

// Freeze forbids promotions to an environment for a time; a zero from is now.
// Repeated, it adds another freeze.
func (c *Client) Freeze(
	ctx context.Context,
	lane, environment string,
	from, until time.Time,
	reason string,
) (*gate.Freeze, error) {
	body := map[string]any{"until": until, "reason": reason}
	if !from.IsZero() {
		body["from"] = from
	}
	return post[gate.Freeze](ctx, c, environmentPath(lane, environment)+"/freezes", body)
}

// Thaw ends all freezes of an environment. Repeated, it is refused.
func (c *Client) Thaw(ctx context.Context, lane, environment, reason string) (*api.Thawed, error) {
	return post[api.Thawed](ctx, c, environmentPath(lane, environment)+"/thaw", map[string]string{"reason": reason})
}

// Backup reports a backup of an environment's target.
func (c *Client) Backup(ctx context.Context, lane, environment, label string, takenAt time.Time) (*gate.Backup, error) {
	return post[gate.Backup](
		ctx,
		c,
		environmentPath(lane, environment)+"/backups",
		map[string]any{"label": label, "taken_at": takenAt},
	)
}

// Deployments lists the newest limit deployments; an empty lane or environment
// means all.
func (c *Client) Deployments(ctx context.Context, lane, environment string, limit int) (*api.Deployments, error) {
	return get[api.Deployments](ctx, c, "/api/v1/deployments",
		url.Values{"lane": {lane}, "environment": {environment}, "limit": {strconv.Itoa(limit)}})
}

// Deployment gives one deployment.
func (c *Client) Deployment(ctx context.Context, id int64) (*api.Deployment, error) {
	return get[api.Deployment](ctx, c, "/api/v1/deployments/"+strconv.FormatInt(id, 10), nil)
}

// Cancel asks a running deployment to stop. Follow tells when it has.
func (c *Client) Cancel(ctx context.Context, id int64) (*api.Deployment, error) {
	return post[api.Deployment](ctx, c, "/api/v1/deployments/"+strconv.FormatInt(id, 10)+"/cancellation", struct{}{})
}
