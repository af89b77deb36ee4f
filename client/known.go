package client

import (
	"context"
	"errors"
	"io/fs"
	"net/http"
	"slices"

	"vorrang/core/step"
	"vorrang/service/api"
)

// A folder from which so many files and bytes are to be sent is asked for first; a smaller
// one is sent sooner than it is asked for.
const (
	manyFiles = 50
	manyBytes = 256 << 10
	askedOnce = 20_000 // digests
)

// knownTexts are the files of a large folder that the lane has had, with their digests.
func (c *Client) knownTexts(
	ctx context.Context, lane string, folder fs.FS, names []string,
) (map[string]step.Checksum, error) {
	digests := map[string]step.Checksum{}
	size := 0
	for _, name := range names {
		text, err := fs.ReadFile(folder, name)
		if err != nil {
			return nil, nil // who sends it says so
		}
		if size += len(text); len(text) > 0 {
			digests[name] = step.Sum(text)
		}
	}
	if len(names) < manyFiles && size < manyBytes {
		return nil, nil
	}
	asked := make([]step.Checksum, 0, len(digests))
	for _, digest := range digests {
		asked = append(asked, digest)
	}
	known := map[step.Checksum]bool{}
	for some := range slices.Chunk(asked, askedOnce) {
		answer, err := post[api.KnownTexts](ctx, c, lanePath(lane)+"/texts/known",
			map[string][]step.Checksum{"digests": some})
		var refused *Error
		if errors.As(err, &refused) && refused.Status == http.StatusNotFound {
			return nil, nil // an older service; or there is no such lane, which the submission says
		}
		if err != nil {
			return nil, err
		}
		for _, digest := range answer.Known {
			known[digest] = true
		}
	}
	for name, digest := range digests {
		if !known[digest] {
			delete(digests, name)
		}
	}
	return digests, nil
}
