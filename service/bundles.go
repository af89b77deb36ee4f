package service

import (
	"bytes"
	"errors"
	"fmt"
	"time"

	"vorrang/core/release"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
)

// export answers with a release's bundle.
func (s *catalogue) export(c call, in *releaseIn) (*api.ReleaseContent, error) {
	l, err := s.targets.lane(c, in.Lane)
	if err != nil {
		return nil, err
	}
	r, steps, err := s.library.sealedSteps(c, in.Lane, in.Release)
	if err != nil {
		return nil, err
	}
	signatures, err := s.library.signatures(c, r, steps)
	if err != nil {
		return nil, err
	}
	var packed bytes.Buffer
	err = release.Write(
		&packed, r, l.File(), steps, signatures,
		func(digest step.Checksum) ([]byte, error) { return s.Records.Exact(c, digest) },
	)
	if err != nil {
		return nil, err
	}
	c.fiber.Set("Content-Type", "application/gzip")
	c.fiber.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", r.Lane+"-"+r.Name+".tar.gz"))
	return nil, c.fiber.Send(packed.Bytes())
}

// submitBundle takes a release from another Vorrang into the catalogue,
// unchanged. Steps that are there already must be the same to the byte.
func (s *catalogue) submitBundle(c call, in *laneIn) (*api.ReleaseCut, error) {
	body, err := s.receiveUpload(c, in.Lane)
	if err != nil {
		return nil, err
	}
	defer body.Close()
	submission, err := s.library.submission(c, in.Lane)
	if err != nil {
		return nil, err
	}
	defer submission.Abandon()
	var files []step.File
	claimed, signatures, err := release.Read(body, func(file step.File) error {
		if err := submission.Keep(c, file); err != nil {
			return err
		}
		file.Bytes = nil
		files = append(files, file)
		return nil
	})
	if err != nil {
		return nil, err
	}
	if claimed.Lane != in.Lane {
		return nil, refused(
			by("send it to the lane %s", shortly(claimed.Lane)),
			"release %s is of the lane %s, not of %s",
			shortly(claimed.Name), shortly(claimed.Lane), in.Lane,
		)
	}
	claimed.TakenInBy, claimed.TakenInAt = c.actor, s.Now().UTC().Truncate(time.Microsecond)
	claimed.CutBy, claimed.Commit = cleanActor(claimed.CutBy, "nobody"), cleanActor(claimed.Commit, "")
	return s.takeIn(c, submission, claimed, signatures, files)
}

func (s *catalogue) takeIn(
	c call, submission *records.Submission, r release.Release, signatures []release.Signature, files []step.File,
) (*api.ReleaseCut, error) {
	if err := release.CheckName(r.Name); err != nil {
		return nil, badRequest(nil, "the bundle: %s", err)
	}
	steps, err := step.Assemble(files)
	if err != nil {
		return nil, err
	}
	difference, err := submission.Compare(c, steps)
	if err != nil {
		return nil, err
	}
	difference.Gone = nil // what the bundle does not name stays
	var problems step.Problems
	for _, change := range difference.Edited {
		problems = append(problems, step.Problem{File: change.Step.Forward.Name, Message: fmt.Sprintf(
			"step %s is in this catalogue with other files; a bundle brings steps unchanged, and replaces none",
			change.Step.Number,
		)})
	}
	if len(problems) > 0 {
		return nil, problems
	}
	l, err := s.targets.lane(c, r.Lane)
	if err != nil {
		return nil, err
	}
	kind, err := s.Engines.Named(l.Engine)
	if err != nil {
		return nil, err
	}
	if _, err := inspect(c, kind, submission, difference, l.StepsMay, nil); err != nil {
		return nil, err
	}
	if !difference.Empty() {
		if _, err := submission.Put(c, difference); err != nil {
			return nil, err
		}
	}
	sealable, ids, err := submission.Sealable(c, "")
	if err != nil {
		return nil, err
	}
	ids, digest := among(sealable, ids, steps)
	if digest != r.Digest {
		return nil, refused(
			by("export it again"),
			"the bundle's steps have the digest %s, and the release %s",
			digest.Short(), r.Digest.Short(),
		)
	}
	r.Count, r.Through = len(steps), steps[len(steps)-1].Number // whatever the bundle says
	answer := &api.ReleaseCut{Release: r, New: len(difference.New)}
	err = submission.Seal(c, r, ids)
	var sealed *records.SealedError
	answer.Known = errors.As(err, &sealed) && sealed.Release.Name == r.Name && sealed.Release.Digest == r.Digest
	if err != nil && !answer.Known {
		return nil, sealedAlready(err)
	}
	err = s.Records.AddSignatures(c, r.Lane, r.Digest, c.actor, signatures)
	if err != nil || answer.Known {
		return answer, err
	}
	s.Log.Info("release taken in", "lane", r.Lane, "release", r.Name, "digest", r.Digest, "actor", c.actor)
	return answer, nil
}
