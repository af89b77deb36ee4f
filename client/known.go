package client

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"net/http"
	"slices"

	"vorrang/core/step"
	"vorrang/service/api"
)

// A folder of so many files or bytes is asked for first; a smaller one is sent sooner than it
// is asked for.
const (
	manyFiles = 50
	manyBytes = 256 << 10
	askedOnce = 20_000 // digests
)

// knownTexts are the files of a large folder that the lane has had, with their digests.
func (c *Client) knownTexts(
	ctx context.Context, lane string, folder fs.FS, names []string,
) (map[string]step.Checksum, error) {
	var size int64
	for _, name := range names {
		info, err := fs.Stat(folder, name)
		if err != nil {
			return nil, nil // who sends it says so
		}
		size += info.Size()
	}
	if len(names) < manyFiles && size < manyBytes {
		return nil, nil
	}
	digests := map[string]step.Checksum{}
	for _, name := range names {
		text, err := fs.ReadFile(folder, name)
		if err != nil {
			return nil, nil
		}
		if len(text) > 0 {
			digests[name] = step.Sum(text)
		}
	}
	known := map[step.Checksum]bool{}
	for some := range slices.Chunk(slices.Collect(maps.Values(digests)), askedOnce) {
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
	maps.DeleteFunc(digests, func(_ string, digest step.Checksum) bool { return !known[digest] })
	return digests, nil
}
