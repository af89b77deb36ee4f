package service

import (
	"context"
	"errors"
	"slices"

	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
)

// texts reads the texts of a plan ahead, since a question for every one of a
// thousand small steps would cost more than the steps.
func (s *library) texts(p plan.Plan) func(context.Context, step.Checksum) ([]byte, error) {
	order := p.Texts()
	ahead := map[step.Checksum][]byte{}
	next := 0
	return func(ctx context.Context, checksum step.Checksum) ([]byte, error) {
		if text, have := ahead[checksum]; have {
			delete(ahead, checksum)
			return text, nil
		}
		sizes, err := s.Records.Sizes(ctx, order[next:min(next+readAhead, len(order))])
		if err != nil {
			return nil, err
		}
		var batch []step.Checksum
		total := int64(0)
		for ; next < len(order) && len(batch) < readAhead; next++ {
			if total += sizes[order[next]]; total > readAheadBytes && len(batch) > 0 {
				break
			}
			batch = append(batch, order[next])
		}
		if ahead, err = s.Records.Texts(ctx, batch); err != nil {
			return nil, err
		}
		text, have := ahead[checksum]
		if !have {
			return s.Records.Text(ctx, checksum)
		}
		delete(ahead, checksum)
		return text, nil
	}
}

const (
	readAhead      = 200     // texts
	readAheadBytes = 1 << 20 // together
)

func (s *library) sealedSteps(ctx context.Context, lane, name string) (release.Release, []release.Sealed, error) {
	r, steps, err := s.Records.Release(ctx, lane, name)
	if errors.Is(err, records.ErrNotFound) {
		return r, nil, notFound(
			"release "+name+" in the lane",
			lane,
			or(see(remedy.LookAtReleases, "see which there are"), see(remedy.Cut, "seal one")),
		)
	}
	return r, steps, err
}

// signatures gives those of a release that still hold; nobody is to take a row for
// a signature that is none.
func (s *library) signatures(
	ctx context.Context, r release.Release, steps []release.Sealed,
) ([]release.Signature, error) {
	kept, err := s.Records.Signatures(ctx, r.Lane, r.Digest)
	if err != nil {
		return nil, err
	}
	sums, good := []byte(release.Sums(steps)), []release.Signature{}
	for _, signature := range kept {
		again, err := release.Verified(sums, []byte(signature.Text))
		if err != nil || len(again) != 1 {
			s.Log.Error("a signature in the records does not hold", "lane", r.Lane, "release", r.Name,
				"key", signature.Fingerprint)
			continue
		}
		good = append(good, again[0])
	}
	return good, nil
}

// narrow lets a place stand for a release: its steps are as they were sealed,
// and no other waits.
func (s *library) narrow(ctx context.Context, p targetContext, name string) (targetContext, error) {
	if name == "" {
		return p, nil
	}
	r, steps, err := s.sealedSteps(ctx, p.lane.Name, name)
	if err != nil {
		return p, err
	}
	p.release, p.sealed = &r, map[step.Number]plan.Step{}
	for _, sealed := range steps {
		p.sealed[sealed.Number] = sealed.Step
	}
	return p.asSealed(), nil
}

// vouched lists the steps of the lane's releases that a known key has signed.
func (s *library) vouched(ctx context.Context, p targetContext, asks lane.Gate) ([]gate.Planned, error) {
	names, err := s.Records.SignedReleases(ctx, p.lane.Name)
	if err != nil {
		return nil, err
	}
	var list []gate.Planned
	for _, name := range names {
		r, steps, err := s.sealedSteps(ctx, p.lane.Name, name)
		if err != nil {
			return nil, err
		}
		signatures, err := s.signatures(ctx, r, steps)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(
			signatures,
			func(signature release.Signature) bool { return asks.Signer(signature.Key) != "" },
		) {
			continue
		}
		for _, sealed := range steps {
			list = append(list, gate.PlannedOf(sealed.Step))
		}
	}
	return list, nil
}

func (s *library) stepTexts(c call, known plan.Step, limit int) (*api.StepTexts, error) {
	answer := &api.StepTexts{StepRef: api.StepRef{Number: known.Number, Slug: known.Slug}, Options: known.Options}
	for _, file := range []struct {
		part step.Part
		text *plan.Text
	}{{step.Forward, &known.Forward}, {step.Back, known.Back}, {step.Check, known.Check}} {
		if file.text == nil {
			continue
		}
		text, err := s.Records.Text(c, file.text.Checksum)
		if err != nil {
			return nil, err
		}
		shown := api.StepFile{
			Name:     file.text.Name,
			Part:     file.part,
			Checksum: file.text.Checksum,
			Size:     int64(len(text)),
		}
		shown.Text, shown.Shortened = shorten(text, limit)
		answer.Files = append(answer.Files, shown)
	}
	return answer, nil
}

// submission begins one to a lane; the caller abandons it in the end.
func (s *library) submission(c call, lane string) (*records.Submission, error) {
	if _, err := s.targets.lane(c, lane); err != nil {
		return nil, err
	}
	return s.Records.Submit(c, lane, c.actor)
}
