package client

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"vorrang/core/step"
	"vorrang/service/api"
)

// Declare declares a lane from a lane file's text; the name is for errors. confirm
// is the lane's name, where something is loosened, moved or dropped.
func (c *Client) Declare(ctx context.Context, name string, text []byte, confirm ...string) (*api.Declared, error) {
	return call[api.Declared](
		ctx, c,
		request{method: http.MethodPost, path: "/api/v1/lanes", query: url.Values{"file": {name}, "confirm": confirm},
			body: bytes.NewReader(text), kind: "application/yaml"},
	)
}

// Lanes lists all lanes and where their environments stand, page by page.
func (c *Client) Lanes(ctx context.Context) (*api.Lanes, error) {
	return c.allLanes(ctx, LaneQuery{})
}

// LaneNames lists all lanes and their environments as they are declared. No target is asked.
func (c *Client) LaneNames(ctx context.Context) (*api.Lanes, error) {
	return c.allLanes(ctx, LaneQuery{NoLook: true})
}

// LaneQuery says which lanes are wanted; an empty field means all.
type LaneQuery struct {
	ListQuery      // the search is for a name or a purpose; lists go on after a name
	NoLook    bool // do not ask the targets where they stand
	Wait      int  // the most seconds to wait for them: one that is not read by then says Reading; 0 for until they are
}

// LanesPage lists lanes in order of their names.
func (c *Client) LanesPage(ctx context.Context, q LaneQuery) (*api.Lanes, error) {
	query := q.values()
	if q.NoLook {
		query.Set("look", "no")
	}
	if q.Wait > 0 {
		query.Set("wait", strconv.Itoa(q.Wait))
	}
	return get[api.Lanes](ctx, c, "/api/v1/lanes", query)
}

func (c *Client) allLanes(ctx context.Context, q LaneQuery) (*api.Lanes, error) {
	all := &api.Lanes{Lanes: []api.LaneStatus{}}
	for {
		some, err := c.LanesPage(ctx, q)
		if err != nil {
			return nil, err
		}
		all.Lanes = append(all.Lanes, some.Lanes...)
		if q.After = some.Next; q.After == "" {
			return all, nil
		}
	}
}

// Lane says where one lane's environments stand.
func (c *Client) Lane(ctx context.Context, lane string) (*api.LaneStatus, error) {
	return get[api.LaneStatus](ctx, c, lanePath(lane), nil)
}

// Submit sends a step folder to the catalogue. gone are the numbers of steps that
// are to leave it, or to be taken by another step. Files that cannot be read are
// step.Problems.
func (c *Client) Submit(ctx context.Context, lane string, folder fs.FS, gone ...string) (*api.Submitted, error) {
	return sendFolder[api.Submitted](ctx, c, lane, "/submissions", folder, goneQuery(gone))
}

// TrySubmit says what Submit would do, and why it would be refused. It changes
// nothing.
func (c *Client) TrySubmit(ctx context.Context, lane string, folder fs.FS, gone ...string) (*api.Submitted, error) {
	return sendFolder[api.Submitted](ctx, c, lane, "/submissions/trial", folder, goneQuery(gone))
}

func goneQuery(gone []string) url.Values { return url.Values{"gone": {strings.Join(gone, ",")}} }

// sendFolder sends a step folder, file by file; of a large one only what the lane has not had.
// Files that cannot be read are step.Problems.
func sendFolder[T any](
	ctx context.Context, c *Client, lane, path string, folder fs.FS, query url.Values,
) (*T, error) {
	names, err := step.List(folder)
	if err != nil {
		return nil, err
	}
	known, err := c.knownTexts(ctx, lane, folder, names)
	if err != nil {
		return nil, err
	}
	reader, writer := io.Pipe()
	var unread error
	written := make(chan struct{})
	go func() {
		defer close(written)
		unread = writeFolder(writer, folder, names, known)
		writer.CloseWithError(unread)
	}()
	answer, err := call[T](
		ctx, c,
		request{method: http.MethodPost, path: lanePath(lane) + path, body: reader, kind: "application/x-tar", query: query},
	)
	_ = reader.Close() // so that the writer ends
	<-written
	var problems step.Problems
	if err != nil && errors.As(unread, &problems) {
		return nil, problems // it is the folder, not the service
	}
	return answer, err
}

func writeFolder(w io.Writer, folder fs.FS, names []string, known map[string]step.Checksum) error {
	archive := tar.NewWriter(w)
	for _, name := range names {
		if digest, is := known[name]; is {
			header := tar.Header{Name: name, Mode: 0o644, PAXRecords: map[string]string{api.KnownText: string(digest)}}
			if err := archive.WriteHeader(&header); err != nil {
				return err
			}
			continue
		}
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
		ctx, c,
		lanePath(lane)+"/steps/"+url.PathEscape(number),
		url.Values{"limit": {strconv.Itoa(limit)}},
	)
}

// Status says where an environment stands. steps is none, open or all.
func (c *Client) Status(ctx context.Context, lane, environment, steps string) (*api.EnvironmentStatus, error) {
	return c.StatusWithin(ctx, lane, environment, steps, 0)
}

// StatusWithin is Status, and waits so many seconds at most: where the target is not read by then, the answer says Reading,
// and is what was seen last, without steps and gate. 0 is for until it is read.
func (c *Client) StatusWithin(
	ctx context.Context, lane, environment, steps string, seconds int,
) (*api.EnvironmentStatus, error) {
	query := url.Values{"steps": {steps}}
	if seconds > 0 {
		query.Set("wait", strconv.Itoa(seconds))
	}
	return get[api.EnvironmentStatus](ctx, c, environmentPath(lane, environment), query)
}

// StepQuery says which steps of a target are wanted; an empty field means all.
type StepQuery struct {
	Open   bool   // only those that wait or have trouble
	Search string // stands in their number, title, state, flags or actor
	Before string // Next of the page before; empty for the newest
	Limit  int    // the service's own where it is 0
}

// Steps lists the steps of a target with their states, newest first.
func (c *Client) Steps(ctx context.Context, lane, environment string, q StepQuery) (*api.Steps, error) {
	query := texts(pageQuery(0, q.Limit), map[string]string{"search": q.Search, "before": q.Before})
	if q.Open {
		query.Set("which", "open")
	}
	return get[api.Steps](ctx, c, environmentPath(lane, environment)+"/steps", query)
}

// Probe says whether a target can be used.
func (c *Client) Probe(ctx context.Context, lane, environment string) (*api.Probe, error) {
	return get[api.Probe](ctx, c, environmentPath(lane, environment)+"/probe", nil)
}

// Ledger gives a target's newest limit entries, newest first; 0 means all.
func (c *Client) Ledger(ctx context.Context, lane, environment string, limit int) (*api.Ledger, error) {
	return c.LedgerPage(ctx, lane, environment, LedgerQuery{Limit: limit})
}

// LedgerQuery says which entries of a ledger are wanted; an empty field means all.
type LedgerQuery struct {
	Step   string
	Before int64 // Next of the page before; 0 for the newest
	Limit  int   // 0 for all
}

// LedgerPage gives entries of a target's ledger, newest first.
func (c *Client) LedgerPage(ctx context.Context, lane, environment string, q LedgerQuery) (*api.Ledger, error) {
	query := texts(pageQuery(q.Before, q.Limit), map[string]string{"step": q.Step})
	return get[api.Ledger](ctx, c, environmentPath(lane, environment)+"/ledger", query)
}

// Engines lists the kinds of database servers that the service works on.
func (c *Client) Engines(ctx context.Context) (*api.Engines, error) {
	return get[api.Engines](ctx, c, "/api/v1/engines", nil)
}

// Services lists those that share the records of the one that is asked, and live.
func (c *Client) Services(ctx context.Context) (*api.Services, error) {
	return get[api.Services](ctx, c, "/api/v1/services", nil)
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
