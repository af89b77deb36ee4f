package gate

import (
	"fmt"
	"slices"
	"strings"

	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/internal/plural"
)

// signed asks whether one of the keys that the environment names has signed exactly
// this release.
func (f Facts) signed() Check {
	switch {
	case len(f.Asks.Signers) == 0:
		return notAsked(Signature)
	case len(f.planned()) == 0:
		return pass(Signature, "nothing is to be applied")
	case f.Digest == "":
		return hold(
			Signature,
			f.View.Environment+" asks for a signature, and signatures are given to releases; none is named",
			remedy.ByHand("name the release that is to be promoted"),
		)
	}
	for _, key := range f.Signed {
		if holder := f.Asks.Signer(key); holder != "" {
			return pass(Signature, "release %s is signed by %s, %s", f.Release, holder, key.Fingerprint)
		}
	}
	evidence := fmt.Sprintf("release %s is not signed", f.Release)
	if len(f.Signed) > 0 {
		evidence = fmt.Sprintf(
			"release %s is signed by keys that %s does not name: %s",
			f.Release, f.View.Environment, f.Signed[0].Fingerprint,
		)
	}
	return hold(
		Signature, evidence,
		f.place().
			Release(remedy.Sign, f.Release).
			For("let one of them sign it, where its step folder is: %s", f.holders()),
	)
}

// holders names whose keys the environment knows.
func (f Facts) holders() string {
	var holders []string
	for _, signer := range f.Asks.Signers {
		holders = append(holders, signer.Holder)
	}
	return strings.Join(holders, ", ")
}

// waysBackSigned asks whether ways back are in a release that a known key has
// signed: one that came later is somebody's text that no signer has seen.
func (f Facts) waysBackSigned(actions []plan.Action) Check {
	if len(f.Asks.Signers) == 0 {
		return notAsked(Signature)
	}
	var missing []string
	for _, a := range actions {
		runs := PlannedOf(a.Step)
		signed := slices.ContainsFunc(f.Vouched, func(p Planned) bool {
			return p.Number == runs.Number && p.Forward == runs.Forward && p.Back == runs.Back
		})
		if a.Step.Back != nil && !signed {
			missing = append(missing, string(a.Step.Number))
		}
	}
	if len(missing) == 0 {
		return pass(Signature, "the ways back are those of signed releases")
	}
	return hold(
		Signature,
		fmt.Sprintf(
			"%s asks for signatures, and the way back of %s is in no release that is signed",
			f.View.Environment, stepsNamed(missing),
		),
		f.place().
			Do(remedy.Cut).
			And(f.place().Do(remedy.Sign)).
			For("cut the lane as it is, and let one of them sign that, where its step folder is: %s", f.holders()),
	)
}

func stepsNamed(numbers []string) string {
	return plural.Word(len(numbers), "step ", "steps ") + strings.Join(numbers, ", ")
}
