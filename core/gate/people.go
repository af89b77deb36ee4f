package gate

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/internal/plural"
)

// What people add to a gate: approvals and waivers.

// Approval is somebody's word that a release may be promoted to an environment,
// as the plan was then.
type Approval struct {
	ID      int64         `json:"id"`
	Release string        `json:"release"`
	Digest  step.Checksum `json:"digest" description:"Of the release."`
	Seq     int64         `json:"seq" description:"Of the target's ledger then."`
	Steps   []Planned     `json:"steps" nullable:"false"`
	Note    string        `json:"note,omitempty"`
	By      string        `json:"by"`
	At      time.Time     `json:"at"`
}

// Planned is a step of an approved plan, with its texts.
type Planned struct {
	Number  step.Number   `json:"number"`
	Forward step.Checksum `json:"forward"`
	Back    step.Checksum `json:"back,omitempty"`
	Check   step.Checksum `json:"check,omitempty"`
}

// PlannedOf names a step with its texts.
func PlannedOf(s plan.Step) Planned {
	p := Planned{Number: s.Number, Forward: s.Forward.Checksum}
	if s.Back != nil {
		p.Back = s.Back.Checksum
	}
	if s.Check != nil {
		p.Check = s.Check.Checksum
	}
	return p
}

// Approve is somebody's approval of what would be promoted now.
func (f Facts) Approve(by, note string) Approval {
	a := Approval{
		Release: f.Release,
		Digest:  f.Digest,
		Seq:     f.View.State.Head.Seq,
		Steps:   []Planned{},
		Note:    note,
		By:      by,
		At:      f.Now.UTC(),
	}
	for _, s := range f.planned() {
		a.Steps = append(a.Steps, PlannedOf(s.Step))
	}
	return a
}

// Waiver lets a check's hold pass once, for one deployment, as long as the check
// holds for what its giver saw.
type Waiver struct {
	ID      int64         `json:"id"`
	Check   ID            `json:"check"`
	Subject string        `json:"subject,omitempty" description:"Digest of what the check held for when the waiver was given."`
	Digest  step.Checksum `json:"digest,omitempty" description:"Of the release; absent for loose steps."`
	Reason  string        `json:"reason"`
	By      string        `json:"by"`
	At      time.Time     `json:"at"`
	Until   time.Time     `json:"until"`
}

// Asking is a change of what an environment's gate depends on.
type Asking struct {
	What string
	By   string
	At   time.Time
}

// Waivable reports whether anybody may waive a check. What says that the history
// is not what it should be has a repair of its own; approvals and releases are
// what makes a promotion governed.
func Waivable(id ID) bool {
	switch id {
	case Order, PreviousEnvironment, SameHistory, Soak, WayBack, InWindow, NotFrozen, FreshBackup, Drift,
		Findings:
		return true
	case KnownDatabase,
		Reachable, LedgerIntact, Checksums, Catalogue, NothingInDoubt, Quiet, SealedRelease, Approvals, Signature, Rehearsal:
	}
	return false
}

// IsCheck reports whether a text is a check's id.
func IsCheck(id ID) bool {
	return Forward(Facts{}).Find(id).ID == id
}

// waive turns the holds that somebody waived.
func (f Facts) waive(r Result) Result {
	for i, c := range r.Checks {
		if c.Verdict != Hold || !Waivable(c.ID) {
			continue
		}
		for _, w := range f.Waivers {
			if w.Check != c.ID || w.Digest != f.Digest || !f.Now.Before(w.Until) {
				continue
			}
			if w.Subject != c.Subject() {
				r.Checks[i].Evidence += fmt.Sprintf("; what %s waived at %s was something else", w.By, utc(w.At))
				continue
			}
			r.Checks[i] = Check{
				ID:      c.ID,
				Verdict: Waived,
				Evidence: fmt.Sprintf(
					"waived by %s for one deployment: %s; else it would hold: %s",
					w.By, w.Reason, c.Evidence,
				),
			}
			r.Waivers = append(r.Waivers, w)
			break
		}
	}
	return r
}

// notes says what was changed of the gate itself since the last deployment, a
// line for each declaration.
func (f Facts) notes(r Result) Result {
	if e, adopted := ledger.Adoption(f.History); adopted {
		var detail ledger.Detail
		_ = json.Unmarshal(e.Detail, &detail) // our own
		r.Notes = append(
			r.Notes,
			fmt.Sprintf(
				"%s adopted this target at %s, and nothing was deployed since: %s (%s)",
				e.Actor, utc(e.At), detail.Reason,
				strings.Join(detail.Seen, "; "),
			),
		)
	}
	for i, a := range f.Changes {
		if i > 0 && f.Changes[i-1].By == a.By && f.Changes[i-1].At.Equal(a.At) {
			r.Notes[len(r.Notes)-1] += "; " + a.What
			continue
		}
		r.Notes = append(
			r.Notes,
			fmt.Sprintf("since the last deployment the gate was changed, by %s at %s: %s", a.By, utc(a.At), a.What),
		)
	}
	return r
}

// Stands says why an approval does not count for what would be promoted now; an
// empty text means that it counts.
func (f Facts) Stands(a Approval) string {
	if a.Digest != f.Digest {
		return "it is for another release"
	}
	if a.By == f.Actor {
		return "who asks for a promotion cannot approve it"
	}
	if slices.Contains(f.Makers[f.Actor], a.By) {
		return fmt.Sprintf("%s made the token of %s, who asks for the promotion", a.By, f.Actor)
	}
	if why := f.Unfit[a.By]; why != "" {
		return why
	}
	approved := map[step.Number]Planned{}
	for _, p := range a.Steps {
		approved[p.Number] = p
	}
	for _, now := range f.planned() {
		if f.Asks.NotAuthors && f.wrote(a.By, now.Step.Number) {
			return fmt.Sprintf("%s wrote step %s", a.By, now.Step.Number)
		}
		then, known := approved[now.Step.Number]
		if !known {
			return fmt.Sprintf("the plan changed: step %s was not in it", now.Step.Number)
		}
		if PlannedOf(now.Step) != then {
			return fmt.Sprintf("the plan changed: step %s had another text", now.Step.Number)
		}
	}
	for _, e := range f.History {
		if e.Seq <= a.Seq {
			continue
		}
		_, known := approved[e.Step]
		carriedOut := e.Action == ledger.Applied || e.Action == ledger.Begun || e.Action == ledger.Failed ||
			e.Action == ledger.Settled
		if !known || !carriedOut {
			return fmt.Sprintf("the target changed: step %s was %s at %s", e.Step, e.Action, utc(e.At))
		}
	}
	if int64(f.Entries) < a.Seq {
		return "the target's ledger is shorter than it was"
	}
	return ""
}

// WaysBack are the ways back of the steps in place that were not approved as they
// are now: those that somebody's approval would count for, and the numbers of
// those that it would not, since they wrote them.
func (f Facts) WaysBack(approver string) (list []Planned, own []step.Number) {
	for _, s := range f.View.Steps {
		if !s.State.Status.Present() || s.Step.Back == nil {
			continue
		}
		p := PlannedOf(s.Step)
		switch {
		case p.Forward != s.State.Checksum || len(f.backApproved(p)) >= f.Asks.Approvals:
		case f.Asks.NotAuthors && f.wrote(approver, p.Number):
			own = append(own, p.Number)
		default:
			list = append(list, p)
		}
	}
	return list, own
}

// backApproved says who approved of a step's way back: with the step, or later by
// itself.
func (f Facts) backApproved(p Planned) []string {
	var by []string
	for _, a := range f.Approved {
		alone := a.Digest == ""
		if alone &&
			(a.By == f.Actor || slices.Contains(f.Makers[f.Actor], a.By) || f.Unfit[a.By] != "" || f.Asks.NotAuthors &&
				f.wrote(a.By, p.Number)) {
			continue
		}
		same := slices.ContainsFunc(a.Steps, func(then Planned) bool {
			return then.Number == p.Number && then.Forward == p.Forward && then.Back == p.Back
		})
		if same && !slices.Contains(by, a.By) {
			by = append(by, a.By)
		}
	}
	return by
}

// waysBackApproved asks whether ways back are those that enough people approved:
// one that came after the step was approved is somebody's text that nobody else
// has seen.
func (f Facts) waysBackApproved(actions []plan.Action) Check {
	if f.Asks.Approvals == 0 {
		return notAsked(Approvals)
	}
	var missing []string
	for _, a := range actions {
		if by := f.backApproved(PlannedOf(a.Step)); a.Step.Back != nil && len(by) < f.Asks.Approvals {
			missing = append(missing, fmt.Sprintf("step %s (%d of %d)", a.Step.Number, len(by), f.Asks.Approvals))
		}
	}
	if len(missing) == 0 {
		return pass(Approvals, "the ways back are those that were approved")
	}
	return hold(
		Approvals,
		fmt.Sprintf(
			"%s asks for approvals, and the way back of %s was not approved as it is now",
			f.View.Environment,
			strings.Join(missing, ", "),
		),
		f.place().Do(remedy.ApproveWaysBack).For("let somebody else read it in a preview, and approve it"),
	)
}

// wrote reports whether somebody wrote a step, or made the token of the machine
// that submitted it.
func (f Facts) wrote(name string, number step.Number) bool {
	return slices.ContainsFunc(f.Authors[number], func(author string) bool {
		return author == name || slices.Contains(f.Makers[author], name)
	})
}

// approvals asks whether enough people approved of exactly this.
func (f Facts) approvals() Check {
	asked := f.Asks.Approvals
	switch {
	case asked == 0:
		return notAsked(Approvals)
	case len(f.planned()) == 0:
		return pass(Approvals, "nothing is to be applied")
	case f.Digest == "":
		return hold(
			Approvals,
			fmt.Sprintf(
				"%s %s asked, and approvals are given to releases; none is named",
				plural.Of(asked, "approval"),
				plural.Word(asked, "is", "are"),
			),
			remedy.ByHand("name the release that is to be promoted"),
		)
	}
	var valid, void, by []string
	for _, a := range f.Given {
		if why := f.Stands(a); why != "" {
			void = append(void, fmt.Sprintf("that of %s does not count: %s", a.By, why))
		} else if !slices.Contains(by, a.By) {
			by = append(by, a.By)
			valid = append(valid, fmt.Sprintf("by %s at %s", a.By, utc(a.At)))
		}
	}
	evidence := fmt.Sprintf(
		"%s of release %s %s asked, and %d %s given",
		plural.Of(asked, "approval"),
		f.Release,
		plural.Word(asked, "is", "are"),
		len(valid),
		plural.Word(len(valid), "is", "are"),
	)
	if len(valid) > 0 {
		evidence += ": " + strings.Join(valid, ", ")
	}
	if len(void) > 0 {
		evidence += "; " + strings.Join(void, "; ")
	}
	if len(valid) >= asked {
		return Check{ID: Approvals, Verdict: Pass, Evidence: evidence}
	}
	return hold(Approvals, evidence,
		f.place().Release(remedy.Approve, f.Release).For("let somebody else read the preview and approve it"))
}
