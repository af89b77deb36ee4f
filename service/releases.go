package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"vorrang/core/gate"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/step"
	"vorrang/core/verify"
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
func (s *Service) cut(c call, in *cutIn) (*api.ReleaseCut, error) {
	if err := release.CheckName(in.Name); err != nil {
		return nil, badRequest("", "name: %s", err)
	}
	through, err := optionalNumber("through", in.Through)
	if err != nil {
		return nil, err
	}
	submission, err := s.submission(c, in.Lane)
	if err != nil {
		return nil, err
	}
	defer submission.Abandon()
	steps, ids, err := submission.Sealable(c, through)
	if err != nil {
		return nil, err
	}
	if len(steps) == 0 || through != "" && steps[len(steps)-1].Number != through {
		return nil, refused("vorrang status -all lists the steps; vorrang submit sends new ones", "there is no step %s in the catalogue", orAny(through))
	}
	r := release.Release{Lane: in.Lane, Name: in.Name, Digest: release.Digest(release.Sums(steps)), Through: steps[len(steps)-1].Number, Count: len(steps),
		Notes: strings.TrimSpace(in.Notes), Commit: in.Commit, Clean: in.Clean, CutAt: time.Now().UTC().Truncate(time.Microsecond), CutBy: c.actor}
	if in.Digest != "" && in.Digest != string(r.Digest) {
		return nil, refused("vorrang submit sends the folder; then cut again", "the step folder and the catalogue differ up to step %s", r.Through)
	}
	if err := submission.Seal(c, r, ids); err != nil {
		return nil, sealedAlready(err)
	}
	s.Log.Info("release cut", "lane", in.Lane, "release", r.Name, "digest", r.Digest, "actor", c.actor)
	return &api.ReleaseCut{Release: r}, nil
}

func optionalNumber(field, text string) (step.Number, error) {
	if text == "" {
		return "", nil
	}
	number, err := step.ParseNumber(text)
	if err != nil {
		return "", badRequest("", "%s: %s", field, err)
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
		return refused("a release never changes; cut one with another name, of other steps", "%s", sealed.Error())
	}
	return err
}

func (s *Service) releases(c call, in *laneIn) (*api.Releases, error) {
	if _, err := s.lane(c, in.Lane); err != nil {
		return nil, err
	}
	list, err := s.Records.Releases(c, in.Lane)
	return &api.Releases{Releases: append([]release.Release{}, list...)}, err
}

type releaseIn struct {
	Lane        string `path:"lane"`
	Release     string `path:"release"`
	Environment string `query:"environment" description:"Compare with what is applied there."`
	Against     string `query:"against" description:"Compare with this release."`
}

// oneRelease gives a release, and what it brings against an environment or
// another release.
func (s *Service) oneRelease(c call, in *releaseIn) (*api.ReleaseContent, error) {
	r, steps, err := s.sealedSteps(c, in.Lane, in.Release)
	if err != nil {
		return nil, err
	}
	answer := &api.ReleaseContent{Release: r, Sums: release.Sums(steps), Changes: []release.Change{}}
	if answer.Signatures, err = s.signatures(c, r, steps); err != nil {
		return nil, err
	}
	switch {
	case in.Environment != "":
		p, err := s.place(c, in.Lane, in.Environment)
		if err != nil {
			return nil, err
		}
		facts, err := s.lookOnce(c, p)
		if err != nil {
			return nil, err
		}
		answer.Changes = release.Compare(present(facts.View, p.environment.Name, steps), meant(steps, p.environment.Name))
	case in.Against != "":
		_, other, err := s.sealedSteps(c, in.Lane, in.Against)
		if err != nil {
			return nil, err
		}
		answer.Changes = release.Compare(other, steps)
	}
	return answer, nil
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

func (s *Service) sealedSteps(ctx context.Context, lane, name string) (release.Release, []release.Sealed, error) {
	r, steps, err := s.Records.Release(ctx, lane, name)
	if errors.Is(err, records.ErrNotFound) {
		return r, nil, notFound("release "+name+" in the lane", lane, "vorrang releases lists them; vorrang cut NAME seals one")
	}
	return r, steps, err
}

// signatures gives those of a release that still hold; nobody is to take a row for
// a signature that is none.
func (s *Service) signatures(ctx context.Context, r release.Release, steps []release.Sealed) ([]release.Signature, error) {
	kept, err := s.Records.Signatures(ctx, r.Lane, r.Digest)
	if err != nil {
		return nil, err
	}
	sums, good := []byte(release.Sums(steps)), []release.Signature{}
	for _, signature := range kept {
		again, err := release.Verified(sums, []byte(signature.Text))
		if err != nil || len(again) != 1 {
			s.Log.Error("a signature in the records does not hold", "lane", r.Lane, "release", r.Name, "key", signature.Fingerprint)
			continue
		}
		good = append(good, again[0])
	}
	return good, nil
}

type signIn struct {
	Lane      string `path:"lane"`
	Release   string `path:"release"`
	Signature string `json:"signature" required:"true" maxLength:"200000" description:"An SSH signature of SHA256SUMS for the namespace vorrang-release, armoured, as ssh-keygen -Y sign writes it."`
}

// sign keeps a signature of a release.
func (s *Service) sign(c call, in *signIn) (*api.Signed, error) {
	r, steps, err := s.sealedSteps(c, in.Lane, in.Release)
	if err != nil {
		return nil, err
	}
	signatures, err := release.Verified([]byte(release.Sums(steps)), []byte(in.Signature))
	if err != nil {
		return nil, badRequest("vorrang sign makes one", "signature: %s", err)
	}
	err = s.laneLocks.change(in.Lane, func() error { return s.Records.AddSignatures(c, in.Lane, r.Digest, c.actor, signatures) })
	if err != nil {
		return nil, err
	}
	s.Log.Info("release signed", "lane", in.Lane, "release", r.Name, "key", signatures[0].Fingerprint, "actor", c.actor)
	return &api.Signed{Release: r.Name, Digest: r.Digest, Signatures: signatures}, nil
}

// export answers with a release's bundle.
func (s *Service) export(c call, in *releaseIn) (*api.ReleaseContent, error) {
	l, err := s.lane(c, in.Lane)
	if err != nil {
		return nil, err
	}
	r, steps, err := s.sealedSteps(c, in.Lane, in.Release)
	if err != nil {
		return nil, err
	}
	signatures, err := s.signatures(c, r, steps)
	if err != nil {
		return nil, err
	}
	var packed bytes.Buffer
	err = release.Write(&packed, r, l.File(), steps, signatures, func(digest step.Checksum) ([]byte, error) { return s.Records.Exact(c, digest) })
	if err != nil {
		return nil, err
	}
	c.fiber.Set("Content-Type", "application/gzip")
	c.fiber.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", r.Lane+"-"+r.Name+".tar.gz"))
	return nil, c.fiber.Send(packed.Bytes())
}

// submitBundle takes a release from another Vorrang into the catalogue,
// unchanged. Steps that are there already must be the same to the byte.
func (s *Service) submitBundle(c call, in *laneIn) (*api.ReleaseCut, error) {
	body, err := s.receiveUpload(c, in.Lane)
	if err != nil {
		return nil, err
	}
	defer body.Close()
	submission, err := s.submission(c, in.Lane)
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
		return nil, refused(fmt.Sprintf("name the lane: -lane %s", shortly(claimed.Lane)), "release %s is of the lane %s, not of %s", shortly(claimed.Name), shortly(claimed.Lane), in.Lane)
	}
	claimed.TakenInBy, claimed.TakenInAt = c.actor, time.Now().UTC().Truncate(time.Microsecond)
	claimed.CutBy, claimed.Commit = cleanActor(claimed.CutBy, "nobody"), cleanActor(claimed.Commit, "")
	return s.takeIn(c, submission, claimed, signatures, files)
}

func (s *Service) takeIn(c call, submission *records.Submission, r release.Release, signatures []release.Signature, files []step.File) (*api.ReleaseCut, error) {
	if err := release.CheckName(r.Name); err != nil {
		return nil, badRequest("", "the bundle: %s", err)
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
			"step %s is in this catalogue with other files; a bundle brings steps unchanged, and replaces none", change.Step.Number)})
	}
	if len(problems) > 0 {
		return nil, problems
	}
	l, err := s.lane(c, r.Lane)
	if err != nil {
		return nil, err
	}
	dialect, err := s.dialect(l)
	if err != nil {
		return nil, err
	}
	if _, err := inspect(c, dialect, submission, difference, l.StepsMay, nil); err != nil {
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
		return nil, refused("export it again", "the bundle's steps have the digest %s, and the release %s", digest.Short(), r.Digest.Short())
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

// placeOf is an environment to which a release is to go; loose steps if it is
// empty.
func (s *Service) placeOf(ctx context.Context, lane, environment, release string) (targetContext, error) {
	p, err := s.place(ctx, lane, environment)
	if err != nil {
		return p, err
	}
	return s.narrow(ctx, p, release)
}

// narrow lets a place stand for a release: its steps are as they were sealed,
// and no other waits.
func (s *Service) narrow(ctx context.Context, p targetContext, name string) (targetContext, error) {
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

// ask adds to the facts what the environment's gate asks beyond what every gate
// does.
func (s *Service) ask(ctx context.Context, p targetContext, facts *gate.Facts, who promotionRequest) error {
	facts.Now, facts.Asks, facts.Through = time.Now(), p.environment.Asks(), who.through
	if p.release != nil {
		facts.Release, facts.Digest = p.release.Name, p.release.Digest
	}
	var err error
	if facts.Freezes, err = s.Records.Freezes(ctx, p.lane.Name, p.environment.Name, facts.Now); err != nil {
		return err
	}
	if facts.Asks.Backup > 0 {
		if facts.Backup, err = s.Records.Backup(ctx, p.lane.Name, p.environment.Name); err != nil {
			return err
		}
	}
	if err := s.askPeople(ctx, p, facts, who); err != nil {
		return err
	}
	before := p.lane.Before(p.environment.Name)
	if before == "" || !facts.Asks.Previous && facts.Asks.Soak == 0 {
		return nil
	}
	there, err := s.anyPlace(ctx, p.lane.Name, before)
	if err != nil {
		return err
	}
	facts.Previous = &gate.Previous{Name: before}
	ctx, cancel := context.WithTimeout(ctx, lookTimeout)
	defer cancel()
	session, err := s.connect(ctx, there, "vorrangd gate")
	if err != nil {
		facts.Previous.Unreached = unreachable(err).Message
		return nil
	}
	defer session.Close()
	seen, entries, err := s.look(ctx, there, session)
	if err != nil {
		facts.Previous.Unreached = unreachable(err).Message
		return nil
	}
	facts.Previous.View, facts.Previous.Entries = seen.View, entries
	for _, d := range verify.Against(p.lane.Name, verify.Environment{Name: before, Facts: seen}, verify.Environment{Name: p.environment.Name, Facts: *facts}) {
		facts.Previous.Differences = append(facts.Previous.Differences, d.What)
	}
	return nil
}
