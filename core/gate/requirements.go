package gate

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vorrang/core/lane"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/plural"
)

// The checks of this file are made where an environment asks for them.

// Expected reports whether a check may hold without anything being wrong: a
// deployment is under way, or a promotion has yet to meet what is asked of it.
func Expected(id ID) bool {
	switch id {
	case Quiet,
		SealedRelease, PreviousEnvironment, Soak, WayBack, InWindow, NotFrozen, FreshBackup, Approvals, Signature,
		Rehearsal:
		return true
	case KnownDatabase, LedgerIntact, Checksums, Catalogue, Order, NothingInDoubt, SameHistory, Drift, Findings:
	}
	return false
}

func notAsked(id ID) Check {
	return Check{ID: id, Verdict: NotAsked, Evidence: "this environment does not ask for it"}
}

// planned lists the steps that the promotion would run.
func (f Facts) planned() []plan.Standing {
	var list []plan.Standing
	for _, s := range f.View.Pending() {
		if f.Through == "" || step.Compare(s.Step.Number, f.Through) <= 0 {
			list = append(list, s)
		}
	}
	return list
}

func (f Facts) sealed() Check {
	n := len(f.planned())
	switch {
	case !f.Asks.Release:
		return notAsked(SealedRelease)
	case f.Release != "":
		return pass(SealedRelease, "the steps are those of release %s", f.Release)
	case n == 0:
		return pass(SealedRelease, "nothing is to be applied")
	}
	return hold(
		SealedRelease,
		fmt.Sprintf(
			"%s takes sealed releases only, and %s not promoted as one",
			f.View.Environment,
			plural.Count(n, "step is", "steps are"),
		),
		f.place().Do(remedy.Cut).For("seal them, and promote the release"),
	)
}

// missing lists the planned steps that the environment before does not have with
// the text that is planned, or that were only recorded there against what its target
// showed. Steps that are not meant for it, or covered there, are passed over.
func (f Facts) missing() []plan.Standing {
	var list []plan.Standing
	for _, s := range f.planned() {
		there, known := f.Previous.View.Find(s.Step.Number)
		same := there.State.Checksum == "" || there.State.Checksum == s.Step.Forward.Checksum
		if known && (there.State.Status.Present() && same && !there.State.Against || there.Has(plan.NotHere)) {
			continue
		}
		list = append(list, s)
	}
	return list
}

// otherTexts names the missing steps of which the environment before has another
// text.
func (f Facts) otherTexts(missing []plan.Standing) string {
	var other, against []plan.Standing
	for _, s := range missing {
		there, known := f.Previous.View.Find(s.Step.Number)
		switch {
		case !known || !there.State.Status.Present():
		case there.State.Against:
			against = append(against, s)
		default:
			other = append(other, s)
		}
	}
	said := ""
	if len(other) > 0 {
		said += "; it has another text of " + list(other)
	}
	if len(against) > 0 {
		said += fmt.Sprintf(
			"; %s was recorded there against what the target showed, which does not prove that it ran", list(against),
		)
	}
	return said
}

// before is the environment before, as a place for remedies.
func (f Facts) before() remedy.Place {
	return remedy.Place{Lane: f.Lane, Environment: f.Previous.Name}
}

func (f Facts) unreached(id ID) Check {
	return hold(id, fmt.Sprintf("%s could not be read: %s", f.Previous.Name, f.Previous.Unreached),
		f.before().Do(remedy.LookAtTarget).For("let the service reach it"))
}

func (f Facts) previous() Check { return f.everywhere(Facts.previousOf) }

func (f Facts) previousOf() Check {
	switch {
	case !f.Asks.Previous:
		return notAsked(PreviousEnvironment)
	case f.Previous == nil:
		return pass(PreviousEnvironment, "this is the first environment of the lane")
	case f.Previous.Unreached != "":
		return f.unreached(PreviousEnvironment)
	}
	missing := f.missing()
	if len(missing) == 0 {
		return pass(
			PreviousEnvironment,
			"everything that is to be applied (%s) is applied in %s",
			plural.Of(len(f.planned()), "step"),
			f.Previous.Name,
		)
	}
	return hold(
		PreviousEnvironment,
		fmt.Sprintf(
			"%s not applied in %s, the environment before: %s%s",
			plural.Count(len(missing), "step is", "steps are"),
			f.Previous.Name, list(missing), f.otherTexts(missing),
		),
		f.toHaveBefore(missing)...,
	)
}

// toHaveBefore is what to do about steps that the environment before does not have.
func (f Facts) toHaveBefore(missing []plan.Standing) (list []remedy.Remedy) {
	here := remedy.Place{Lane: f.Lane, Environment: f.View.Environment}
	for _, s := range missing {
		if there, _ := f.Previous.View.Find(s.Step.Number); there.State.Against {
			attest := here.Step(remedy.Attest, s.Step.Number)
			attest.Arguments.Acknowledge = true
			first := ""
			planned := f.planned()
			if at := slices.IndexFunc(planned, func(p plan.Standing) bool { return p.Step.Number == s.Step.Number }); at > 0 {
				first = fmt.Sprintf("promote up to step %s first; then, ", planned[at-1].Step.Number)
			}
			list = append(list, attest.For("%sif nothing of step %s is needed here either, record that", first, s.Step.Number))
		}
	}
	if len(list) < len(missing) {
		list = slices.Insert(list, 0, f.before().Release(remedy.Promote, f.Release).For("promote there first"))
	}
	return list
}

func (f Facts) sameHistory() Check { return f.everywhere(Facts.historyOf) }

func (f Facts) historyOf() Check {
	switch {
	case !f.Asks.Previous:
		return notAsked(SameHistory)
	case f.Previous == nil:
		return pass(SameHistory, "this is the first environment of the lane")
	case f.Previous.Unreached != "":
		return f.unreached(SameHistory)
	case len(f.Previous.Differences) == 0:
		return pass(
			SameHistory,
			"what is applied here is applied in %s too, with the same checksums and in the same order",
			f.Previous.Name,
		)
	}
	return hold(SameHistory, strings.Join(f.Previous.Differences, "; "),
		f.place().Do(remedy.LookAtHistory).For("see what differs and how to settle it")).about(f.Previous.Differences)
}

func (f Facts) wayBack() Check {
	if !f.Asks.WayBack {
		return notAsked(WayBack)
	}
	var without []plan.Standing
	for _, s := range f.planned() {
		if s.Step.Back == nil {
			without = append(without, s)
		}
	}
	if len(without) == 0 {
		return pass(WayBack, "every step that is to be applied has a way back")
	}
	return hold(
		WayBack,
		fmt.Sprintf("%s without a way back: %s", plural.Count(len(without), "step is", "steps are"), list(without)),
		remedy.ByHand("write their .back.sql files, and submit"),
	).about(texts(without))
}

// drift asks whether the schema is as the last deployment left it.
func (f Facts) drift() Check {
	d := f.Drifted
	switch {
	case !f.Asks.Drift:
		return notAsked(Drift)
	case f.Entries == 0:
		return pass(Drift, "nothing was deployed here yet")
	case d == nil || d.Unknown != "":
		why := "nobody has looked"
		if d != nil {
			why = d.Unknown
		}
		return hold(Drift, "whether the schema is as it was left is not known: "+why,
			f.place().Do(remedy.Accept).For("read the schema, and say that it is right as it is")).about(why)
	case len(d.Differences) == 0:
		return pass(Drift, "the schema is as %s left it at %s", d.From, utc(d.Since))
	}
	return hold(
		Drift,
		fmt.Sprintf(
			"%s from what %s left at %s: %s",
			plural.Count(len(d.Differences), "object differs", "objects differ"),
			d.From, utc(d.Since), schema.Summary(d.Differences, 3),
		),
		f.place().Do(remedy.LookAtDrift).For("see all of it, and the ways out"),
	).about(d.Differences)
}

// rehearsed asks whether what is to be applied was tried on a copy of the target.
func (f Facts) rehearsed() Check {
	again := f.place().Release(remedy.Rehearse, f.Release)
	r := f.Rehearsed
	switch {
	case !f.Asks.Rehearsal:
		return notAsked(Rehearsal)
	case len(f.planned()) == 0:
		return pass(Rehearsal, "there is nothing to rehearse")
	case r == nil:
		return hold(Rehearsal, "what is to be applied was not rehearsed on a copy of "+f.View.Environment,
			again.For("try it there: forward, back, and forward again"))
	case r.Fingerprint != f.Fingerprint:
		return hold(
			Rehearsal,
			fmt.Sprintf(
				"the schema of %s is not the one that %s rehearsed with at %s",
				f.View.Environment, r.By, utc(r.At),
			),
			again.For("try it on the schema as it is now"),
		).about(r.Fingerprint)
	case !r.Passed:
		return hold(Rehearsal, fmt.Sprintf("the rehearsal by %s at %s did not pass: %s", r.By, utc(r.At), r.Why),
			again.For("fix the step, submit it, and rehearse again")).about(r.Why)
	}
	return pass(
		Rehearsal,
		"rehearsed by %s at %s on a copy with %s, forward and forward again; %s",
		r.By, utc(r.At), r.With, r.Notes,
	)
}

// reviewed asks whether a review found nothing that the step's author did not accept, up
// to the severity that the gate asks for.
func (f Facts) reviewed() Check {
	least := f.Asks.Findings
	switch {
	case least == "":
		return notAsked(Findings)
	case len(f.planned()) == 0:
		return pass(Findings, "there is nothing to review")
	}
	open := review.Open(f.Findings, least)
	if len(open) == 0 {
		accepted := review.Count(f.Findings).Accepted
		return pass(
			Findings, "no finding of severity %s or above is open; %d are lower, %d accepted by the steps' authors",
			least, len(f.Findings)-accepted, accepted,
		)
	}
	const shown = 3
	var list []string
	for _, found := range open[:min(len(open), shown)] {
		list = append(list, fmt.Sprintf("%s in %s, line %d: %s", found.Code, found.File, found.Line, found.Message))
	}
	if more := len(open) - shown; more > 0 {
		list = append(list, fmt.Sprintf("%d more", more))
	}
	return hold(Findings, fmt.Sprintf("%s of severity %s or above: %s",
		plural.Of(len(open), "finding"), least, strings.Join(list, "; ")),
		f.place().Do(remedy.LookAtPlan).For("see each with a safe form; change the step, or accept it there with a reason"),
	).about(open)
}

func utc(t time.Time) string { return t.UTC().Format(time.DateTime) + " UTC" }

// Frozen is the freeze that is in force; nil if none is.
func (f Facts) Frozen() *Freeze {
	for _, freeze := range f.Freezes {
		if !f.Now.Before(freeze.From) && f.Now.Before(freeze.Until) {
			return &freeze
		}
	}
	return nil
}

// freeze asks whether changes are forbidden for now, whether or not the
// environment has a window.
func (f Facts) freeze() Check {
	freeze := f.Frozen()
	switch {
	case freeze != nil:
		return hold(
			NotFrozen,
			fmt.Sprintf(
				"%s is frozen until %s, by %s: %s",
				freeze.Environment, utc(freeze.Until), freeze.By, freeze.Reason,
			),
			remedy.Place{Lane: f.Lane, Environment: freeze.Environment}.Do(remedy.Thaw).For("wait for its end, or end it"),
		).about(freeze.ID, freeze.Until, freeze.Reason)
	case len(f.Freezes) > 0:
		return pass(NotFrozen, "nothing is frozen before %s", utc(f.Freezes[0].From))
	}
	return pass(NotFrozen, "nothing is frozen")
}

// window asks whether it is a time for changes.
func (f Facts) window() Check {
	w := f.Asks.Window
	switch {
	case w == nil:
		return notAsked(InWindow)
	case w.Open(f.Now):
		return pass(InWindow, "it is %s, within the window %s", utc(f.Now), w)
	}
	turn, opens := "wait until the window opens", w.Next(f.Now)
	if !opens.IsZero() {
		turn = "wait until " + utc(opens)
	}
	return hold(
		InWindow, fmt.Sprintf("it is %s, outside the window %s", utc(f.Now), w), remedy.ByHand("%s", turn),
	).about(w, opens)
}

func (f Facts) backup() Check {
	report := f.place().Do(remedy.ReportBackup).For("let the backup job report a fresh one")
	switch {
	case f.Asks.Backup == 0:
		return notAsked(FreshBackup)
	case f.Backup == nil:
		return hold(FreshBackup, "no backup of this target was reported yet", report).about(f.Asks.Backup)
	}
	age := f.Now.Sub(f.Backup.TakenAt)
	about := fmt.Sprintf(
		"the newest backup, %s, was taken at %s, %s ago",
		f.Backup.Label, utc(f.Backup.TakenAt), lane.Span(age),
	)
	if age > f.Asks.Backup {
		return hold(
			FreshBackup, fmt.Sprintf("%s; it may be %s old", about, lane.Span(f.Asks.Backup)), report,
		).about(f.Backup.Label, f.Backup.TakenAt, f.Asks.Backup)
	}
	return pass(FreshBackup, "%s", about)
}
