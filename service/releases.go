package service

import (
	"errors"
	"strings"
	"time"

	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/records"
	"vorrang/service/api"
)

type cutIn struct {
	Lane    string `path:"lane"`
	Name    string `json:"name" required:"true"`
	Through string `json:"through,omitempty" description:"The last step; all if absent."`
	Notes   string `json:"notes,omitempty" description:"Markdown."`
	Commit  string `json:"commit,omitempty" description:"The commit that the step folder is at."`
	Clean   bool   `json:"clean,omitempty" description:"The folder holds nothing that is not committed."`
	Digest  string `json:"digest,omitempty" description:"Refuse unless the release has this digest: that of the folder it is cut from."`
}

// cut seals the catalogue up to a step.
func (s *catalogue) cut(c call, in *cutIn) (*api.ReleaseCut, error) {
	if err := release.CheckName(in.Name); err != nil {
		return nil, badRequest(nil, "name: %s", err)
	}
	through, err := optionalNumber("through", in.Through)
	if err != nil {
		return nil, err
	}
	submission, err := s.library.submission(c, in.Lane)
	if err != nil {
		return nil, err
	}
	defer submission.Abandon()
	steps, ids, err := submission.Sealable(c, through)
	if err != nil {
		return nil, err
	}
	if len(steps) == 0 || through != "" && steps[len(steps)-1].Number != through {
		return nil, refused(
			noSuchStep(s.targets.first(c, in.Lane)),
			"there is no step %s in the catalogue",
			orAny(through),
		)
	}
	r := release.Release{
		Lane:    in.Lane,
		Name:    in.Name,
		Digest:  release.Digest(release.Sums(steps)),
		Through: steps[len(steps)-1].Number,
		Count:   len(steps),
		Notes:   strings.TrimSpace(in.Notes),
		Commit:  in.Commit,
		Clean:   in.Clean,
		CutAt:   s.Now().UTC().Truncate(time.Microsecond),
		CutBy:   c.actor,
	}
	if in.Digest != "" && in.Digest != string(r.Digest) {
		at := remedy.Place{Lane: in.Lane}
		next := at.Do(remedy.Submit).For("send the folder").And(at.Do(remedy.Cut))
		return nil, refused(todo{next}, "the step folder and the catalogue differ up to step %s", r.Through)
	}
	if err := submission.Seal(c, r, ids); err != nil {
		return nil, sealedAlready(err)
	}
	s.Log.Info("release cut", "lane", in.Lane, "release", r.Name, "digest", r.Digest, "actor", c.actor)
	s.wasCut(in.Lane, r.Name, c.actor)
	return &api.ReleaseCut{Release: r}, nil
}

func optionalNumber(field, text string) (step.Number, error) {
	if text == "" {
		return "", nil
	}
	number, err := step.ParseNumber(text)
	if err != nil {
		return "", badRequest(nil, "%s: %s", field, err)
	}
	return number, nil
}

func orAny(number step.Number) string {
	if number == "" {
		return "at all"
	}
	return string(number)
}

func sealedAlready(err error) error {
	var sealed *records.SealedError
	if errors.As(err, &sealed) {
		return refused(by("a release never changes; cut one with another name, of other steps"), "%s", sealed.Error())
	}
	return err
}

type releasesIn struct {
	Lane   string `path:"lane"`
	Search string `query:"search" description:"Only those in whose name, notes, commit or maker this stands."`
	Before string `query:"before" description:"Only those before the release with this name; the newest if absent."`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (s *catalogue) releases(c call, in *releasesIn) (*api.Releases, error) {
	if _, err := s.targets.lane(c, in.Lane); err != nil {
		return nil, err
	}
	list, err := s.Records.Releases(c, in.Lane, records.ReleaseQuery{Search: in.Search, Before: in.Before, Limit: in.Limit + 1})
	if err != nil {
		return nil, err
	}
	answer := &api.Releases{}
	list, answer.Next = page(list, in.Limit, func(r release.Release) string { return r.Name })
	answer.Releases = append([]release.Release{}, list...)
	return answer, nil
}

type releaseIn struct {
	Lane        string `path:"lane"`
	Release     string `path:"release"`
	Environment string `query:"environment" description:"Compare with what is applied there."`
	Against     string `query:"against" description:"Compare with this release."`
}

// oneRelease gives a release, and what it brings against an environment or
// another release.
func (s *catalogue) oneRelease(c call, in *releaseIn) (*api.ReleaseContent, error) {
	r, steps, err := s.library.sealedSteps(c, in.Lane, in.Release)
	if err != nil {
		return nil, err
	}
	answer := &api.ReleaseContent{Release: r, Sums: release.Sums(steps), Changes: []release.Change{}}
	if answer.Signatures, err = s.library.signatures(c, r, steps); err != nil {
		return nil, err
	}
	switch {
	case in.Environment != "":
		if err := s.againstEnvironment(c, in, steps, answer); err != nil {
			return nil, err
		}
	case in.Against != "":
		_, other, err := s.library.sealedSteps(c, in.Lane, in.Against)
		if err != nil {
			return nil, err
		}
		answer.Changes = release.Compare(other, steps)
	}
	var phased []plan.Phased
	for _, change := range answer.Changes {
		if change.What != "gone" {
			phased = append(phased, plan.Phased{Number: change.Number, Phase: change.Phase})
		}
	}
	answer.Overlaps = plan.Overlaps(phased)
	return answer, nil
}

// againstEnvironment compares a release with what is applied in an environment: of a fleet, with each
// target that is not set aside. What only some of them lack is a change, too.
func (s *catalogue) againstEnvironment(
	c call, in *releaseIn, steps []release.Sealed, answer *api.ReleaseContent,
) error {
	p, err := s.targets.environment(c, in.Lane, in.Environment)
	places := []targetContext{p}
	if err == nil && p.environment.Fleet != nil {
		places, err = s.targets.inUse(c, p)
	}
	if err != nil {
		return err
	}
	changes, errs := make([][]release.Change, len(places)), make([]error, len(places))
	each(places, mostLooks, func(i int, place targetContext) {
		facts, err := s.gates.lookOnce(c, place, promotionRequest{passing: true})
		if errs[i] = err; err == nil {
			name := place.environment.Name
			changes[i] = release.Compare(present(facts.View, name, steps), meant(steps, name))
		}
	})
	answer.Changes = release.Together(changes...)
	if p.environment.Fleet == nil {
		return errs[0]
	}
	for i, place := range places {
		if errs[i] != nil {
			answer.Away = append(answer.Away, place.environment.Name)
		}
	}
	if answer.Targets = len(places) - len(answer.Away); answer.Targets == 0 {
		return errs[0]
	}
	return nil
}

// present is what a target has, as if it were a release.
func present(view plan.View, environment string, sealed []release.Sealed) []release.Sealed {
	texts := map[step.Number]step.Checksum{}
	for _, s := range sealed {
		texts[s.Number] = s.Forward.Checksum
	}
	var list []release.Sealed
	for _, s := range view.Steps {
		if !s.State.Status.Present() || !s.Step.Options.In(environment) {
			continue
		}
		known := s.Step
		known.Forward.Checksum = s.State.Checksum
		if known.Forward.Checksum == "" {
			known.Forward.Checksum = texts[known.Number] // covered: nobody knows which text ran
		}
		list = append(list, release.Sealed{Step: known})
	}
	return list
}

// meant leaves out the steps for other environments.
func meant(steps []release.Sealed, environment string) []release.Sealed {
	var list []release.Sealed
	for _, s := range steps {
		if s.Options.In(environment) {
			list = append(list, s)
		}
	}
	return list
}

type signIn struct {
	Lane      string `path:"lane"`
	Release   string `path:"release"`
	Signature string `json:"signature" required:"true" maxLength:"200000" description:"An SSH signature of SHA256SUMS for the namespace vorrang-release, armoured, as ssh-keygen -Y sign writes it."`
}

// sign keeps a signature of a release.
func (s *catalogue) sign(c call, in *signIn) (*api.Signed, error) {
	r, steps, err := s.library.sealedSteps(c, in.Lane, in.Release)
	if err != nil {
		return nil, err
	}
	signatures, err := release.Verified([]byte(release.Sums(steps)), []byte(in.Signature))
	if err != nil {
		return nil, badRequest(see(remedy.Sign, "make one"), "signature: %s", err)
	}
	err = s.Records.Change(
		c, in.Lane,
		func() error { return s.Records.AddSignatures(c, in.Lane, r.Digest, c.actor, signatures) },
	)
	if err != nil {
		return nil, err
	}
	s.Log.Info("release signed", "lane", in.Lane, "release", r.Name, "key", signatures[0].Fingerprint, "actor", c.actor)
	return &api.Signed{Release: r.Name, Digest: r.Digest, Signatures: signatures}, nil
}

// among picks the versions of a bundle's steps from the whole catalogue.
func among(all []release.Sealed, ids []int64, steps []step.Step) ([]int64, step.Checksum) {
	wanted := map[step.Number]bool{}
	for _, s := range steps {
		wanted[s.Number] = true
	}
	var chosen []int64
	var sealed []release.Sealed
	for i, s := range all {
		if wanted[s.Number] {
			chosen, sealed = append(chosen, ids[i]), append(sealed, s)
		}
	}
	return chosen, release.Digest(release.Sums(sealed))
}

// asSealed puts the sealed versions into the catalogue.
func (p targetContext) asSealed() targetContext {
	if p.release == nil {
		return p
	}
	catalogue := make([]plan.Step, len(p.catalogue))
	for i, known := range p.catalogue {
		catalogue[i] = known
		if sealed, is := p.sealed[known.Number]; is {
			catalogue[i] = sealed
		}
	}
	p.catalogue = catalogue
	return p
}

// only leaves out of a view the steps that wait and are not in the release.
func (p targetContext) only(view plan.View) plan.View {
	if p.release == nil {
		return view
	}
	var kept []plan.Standing
	for _, s := range view.Steps {
		if _, sealed := p.sealed[s.Step.Number]; sealed || !s.Waits() {
			kept = append(kept, s)
		}
	}
	view.Steps = kept
	return view
}
