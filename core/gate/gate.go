package gate

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/remedy"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/internal/plural"
)

// Verdict is what a check comes to.
type Verdict string

const (
	Pass     Verdict = "pass"
	Hold     Verdict = "hold"
	Waived   Verdict = "waived"
	NotAsked Verdict = "not asked"
)

// ID names a check.
type ID string

const (
	KnownDatabase  ID = "known-database"   // an existing database has been baselined
	LedgerIntact   ID = "ledger-intact"    // the chain holds, and contains what was seen before
	Checksums      ID = "checksums"        // what was applied is what the catalogue says
	Catalogue      ID = "catalogue"        // every applied step is still in the catalogue
	Order          ID = "order"            // no pending step lies below an applied one
	NothingInDoubt ID = "nothing-in-doubt" // no step is unfinished
	Quiet          ID = "quiet"            // nobody else is deploying

	// asked by some environments
	SealedRelease       ID = "release"              // only sealed releases come in
	PreviousEnvironment ID = "previous-environment" // everything is applied in the environment before
	SameHistory         ID = "same-history"         // this target and the one before tell the same history
	Soak                ID = "soak"                 // it has been there for long enough, without trouble
	WayBack             ID = "way-back"             // every step has one
	InWindow            ID = "window"               // it is a time for changes
	NotFrozen           ID = "freeze"               // nobody has forbidden them for now
	FreshBackup         ID = "backup"               // there is one that is not too old
	Approvals           ID = "approvals"            // enough people have approved of it
	Signature           ID = "signature"            // somebody whom the environment names has signed it

	Drift ID = "drift" // the schema is as the last deployment left it

	// places for what later versions ask
	Rehearsal ID = "rehearsal" // a trial on a scratch copy went well
	Findings  ID = "findings"  // nothing in the SQL that a reviewer should know
)

// Check is one question that the gate asks.
type Check struct {
	ID       ID              `json:"id"`
	Verdict  Verdict         `json:"verdict"`
	Evidence string          `json:"evidence"` // one sentence, with figures
	Remedies []remedy.Remedy `json:"remedies,omitempty" description:"What would turn a hold; one of them will do."`

	// subject is what a hold is about, in a form that stays the same for as long
	// as nothing about it changes; a waiver is bound to it.
	subject string
}

// Subject is what a waiver of the check is bound to.
func (c Check) Subject() string { return string(step.Sum([]byte(c.subject))) }

func (c Check) about(parts ...any) Check {
	text, err := json.Marshal(parts)
	if err != nil {
		panic(err) // plain values only
	}
	c.subject = string(text)
	return c
}

// Facts is all that the gate looks at.
type Facts struct {
	Lane    string
	View    plan.View
	Chain   error  // what ledger.Verify or ledger.VerifyHead said
	Strange string // entries of deployments that nobody here began; empty for none
	Altered string // what of the ledger's own table is not as it was made; empty for nothing
	// LedgerRole owns the ledger; empty where the target's user does.
	LedgerRole string
	Entries    int
	Existing   engine.Existing       // objects in a target that has no ledger
	Running    *Running              // another deployment of the environment
	Doubts     []Doubt               // what the target shows of the steps in doubt
	Half       []Half                // of the steps that stopped half-way
	Bound      map[step.Number]Bound // late or edited steps whose files cannot change
	There      []step.Number         // failed steps that stumbled over what is there already
	Away       []step.Number         // steps whose way back stopped over what is gone already

	// what some environments ask
	Now      time.Time
	Asks     lane.Gate
	Release  string      // that is promoted; empty for loose steps
	Through  step.Number // the last step that is promoted; empty for all
	Previous *Previous   // the environment before; nil for the first of a lane
	Freezes  []Freeze    // in force, or to come
	Backup   *Backup     // the newest that was reported; nil for none
	Drifted  *Drifted    // how the schema differs from what is known; nil if nobody looked

	// what people add
	Actor    string                   // who asks
	Digest   step.Checksum            // of the release; empty for loose steps
	History  []ledger.Entry           // of the target
	Given    []Approval               // of this release, on this environment
	Signed   []release.Key            // that signed this release
	Vouched  []Planned                // steps with ways back, in releases that a known key signed; for rollbacks
	Approved []Approval               // of anything, on this environment; for ways back
	Authors  map[step.Number][]string // who submitted the steps; where authors may not approve
	Makers   map[string][]string      // who made tokens of the machines with these names
	Unfit    map[string]string        // approvers who may not approve any more, with why
	Waivers  []Waiver                 // that no deployment has used yet
	Changes  []Asking                 // of the gate itself, since the last deployment
}

// Freeze forbids promotions to an environment for a time.
type Freeze struct {
	ID     int64     `json:"id"`
	From   time.Time `json:"from"`
	Until  time.Time `json:"until"`
	Reason string    `json:"reason"`
	By     string    `json:"by"`
}

// Backup is a backup of a target, as the job that takes them reports it.
type Backup struct {
	Label   string    `json:"label"`
	TakenAt time.Time `json:"taken_at"`
	By      string    `json:"by"`
}

// Previous is what is known of the environment before.
type Previous struct {
	Name        string
	View        plan.View
	Entries     []ledger.Entry
	Unreached   string   // why its target could not be looked at; empty where it could
	Differences []string // how its history differs from this one's, a sentence each
}

// Drifted is how a target's schema differs from what the last deployment left,
// or what somebody accepted since.
type Drifted struct {
	From        string // what it is compared with: "deployment 12"
	Since       time.Time
	Differences []schema.Difference
	Unknown     string // why that cannot be said; empty if it can
}

// Doubt is what became of a step in doubt, as far as the target shows it.
type Doubt struct {
	Step    step.Number
	Verdict evidence.Verdict
	Why     string
}

// Half is a step of which only a part took effect.
type Half struct {
	Step  step.Number
	Stuck string // why it cannot go on where it stopped; empty if it can
	Undo  bool   // its way back can undo what it did
}

// Bound is what keeps a step's files as they are.
type Bound struct {
	Release string // the newest that sealed it; empty for none
	Went    string // another environment that it went to; empty for none
}

// Stuck reports whether a step stopped half-way and cannot go on there.
func (f Facts) Stuck(number step.Number) bool {
	for _, half := range f.Half {
		if half.Step == number {
			return half.Stuck != ""
		}
	}
	return false
}

// Doubt returns what the target shows of a step in doubt.
func (f Facts) Doubt(number step.Number) Doubt {
	for _, d := range f.Doubts {
		if d.Step == number {
			return d
		}
	}
	return Doubt{Step: number, Verdict: evidence.Unclear}
}

// Running is a deployment that is under way.
type Running struct {
	ID    string // "12"
	Actor string
	Since time.Time
}

// Result is the gate's answer.
type Result struct {
	Checks  []Check  `json:"checks"`
	Notes   []string `json:"notes,omitempty"`   // what was changed of the gate itself
	Waivers []Waiver `json:"waivers,omitempty"` // that turned a hold
}

// Held reports whether any check holds.
func (r Result) Held() bool { return len(r.Holds()) > 0 }

// Word is the gate's state: clear or held.
func (r Result) Word() string {
	if r.Held() {
		return "held"
	}
	return "clear"
}

// Holds returns the checks that hold.
func (r Result) Holds() []Check {
	var holds []Check
	for _, c := range r.Checks {
		if c.Verdict == Hold {
			holds = append(holds, c)
		}
	}
	return holds
}

// Find returns what the gate says of one check; its zero value if it does not
// ask it.
func (r Result) Find(id ID) Check {
	for _, c := range r.Checks {
		if c.ID == id {
			return c
		}
	}
	return Check{}
}

// InDoubt reports whether a step in doubt is among what holds the gate.
func (r Result) InDoubt() bool { return r.Find(NothingInDoubt).Verdict == Hold }

// Forward asks everything that a promotion must meet.
func Forward(f Facts) Result {
	return f.notes(f.waive(Result{Checks: []Check{
		f.knownDatabase(), f.ledgerIntact(), f.checksums(), f.catalogue(), f.order(), f.nothingInDoubt(), f.quiet(),
		f.sealed(), f.previous(), f.sameHistory(), f.soak(), f.wayBack(), f.approvals(), f.signed(), f.freeze(), f.window(), f.backup(),
		f.drift(), later(Rehearsal, "rehearsals"), later(Findings, "findings"),
	}}))
}

// Back asks what a rollback must meet, which carries out some actions. Edited,
// absent and late steps do not stand in its way: a rollback may be the way out of
// them.
func Back(f Facts, actions []plan.Action) Result {
	return Result{
		Checks: []Check{
			f.knownDatabase(),
			f.ledgerIntact(),
			f.nothingDoubtedBack(),
			f.quiet(),
			f.waysBackApproved(actions),
			f.waysBackSigned(actions),
		},
	}
}

// Rebuild asks what must be met before a disposable environment is emptied.
// Whatever its steps' states are goes with that. It applies loose steps, so an
// environment that takes releases only is not rebuilt.
func Rebuild(f Facts) Result {
	if f.LedgerRole == "" {
		f.Altered = "" // what is written into the ledger of a disposable database is read back at once
	}
	loose := pass(SealedRelease, "%s takes loose steps", f.View.Environment)
	if f.Asks.Release {
		loose = hold(
			SealedRelease,
			fmt.Sprintf("%s takes sealed releases only, and a rebuild applies loose steps", f.View.Environment),
			remedy.ByHand(
				"rebuild an environment that takes loose steps; an administrator declares what an environment takes, in lane.yaml",
			),
		)
	}
	return Result{Checks: []Check{f.foreign(), f.ledgerIntact(), f.quiet(), loose, f.freeze(), f.window()}}
}

func hold(id ID, evidence string, remedies ...remedy.Remedy) Check {
	return Check{ID: id, Verdict: Hold, Evidence: evidence, Remedies: remedies}
}

// place is where remedies are made for.
func (f Facts) place() remedy.Place {
	return remedy.Place{Lane: f.Lane, Environment: f.View.Environment}
}

// foreign is knownDatabase where objects without a history do not matter.
func (f Facts) foreign() Check {
	f.Existing = engine.Existing{}
	return f.knownDatabase()
}

func pass(id ID, format string, args ...any) Check {
	return Check{ID: id, Verdict: Pass, Evidence: fmt.Sprintf(format, args...)}
}

// Foreign reports whether the ledger says that the target belongs to another
// environment.
func (f Facts) Foreign() bool {
	owner := f.View.State.Belongs
	return owner != (ledger.Owner{}) && owner != ledger.Owner{Lane: f.Lane, Environment: f.View.Environment}
}

func (f Facts) knownDatabase() Check {
	if f.Foreign() {
		return hold(
			KnownDatabase,
			fmt.Sprintf(
				"this database's ledger says that it belongs to %s, and not to %s/%s",
				f.View.State.Belongs,
				f.Lane,
				f.View.Environment,
			),
			remedy.ByHand("correct what the target's reference stands for"),
			f.place().
				Do(remedy.Adopt).
				For("or, if this is a copy that belongs here now, see what it holds and adopt it"),
		)
	}
	if !f.Existing.Any() && f.View.State.Untouched() && f.View.State.Baseline == "" {
		return pass(KnownDatabase, "the target is empty: it has neither objects nor a history")
	}
	if f.Chain != nil && f.Entries == 0 { // to baseline it would be refused
		return pass(KnownDatabase, "the target is known: it had a ledger, and its loss is another check's matter")
	}
	if !f.Existing.Any() || f.Chain != nil {
		return pass(
			KnownDatabase,
			"the target is known: its ledger holds %s",
			plural.Count(f.Entries, "entry", "entries"),
		)
	}
	return hold(
		KnownDatabase,
		fmt.Sprintf(
			"this is an existing database: it has %s and no history, so Vorrang cannot know what ran here",
			f.Existing,
		),
		f.place().Do(remedy.Baseline).For("find the last step that it already contains, and record it"),
	)
}

func (f Facts) ledgerIntact() Check {
	altered := f.AlteredLedger()
	if f.Altered != "" && f.Chain == nil && f.Strange == "" {
		return hold(LedgerIntact, altered, f.FixLedger()...)
	}
	if f.Chain == nil && f.Entries == 0 {
		return pass(LedgerIntact, "there is no ledger yet")
	}
	if f.Chain == nil && f.Strange == "" {
		return pass(LedgerIntact, "the chain of the ledger's %s holds", plural.Count(f.Entries, "entry", "entries"))
	}
	evidence := f.Strange
	if f.Chain != nil {
		evidence = f.Chain.Error()
	}
	if f.Altered != "" {
		evidence += "; " + altered
	}
	return hold(
		LedgerIntact,
		evidence,
		f.place().
			Do(remedy.Adopt).
			For("somebody wrote to the ledger, restored the database from a backup, or made it anew; find out who and why, see what is there, and adopt it if it is meant"),
	)
}

// AlteredLedger says what of the ledger's table is not as it was made.
func (f Facts) AlteredLedger() string {
	if f.LedgerRole != "" {
		return fmt.Sprintf("the ledger's own table is not as its owner %s is to make it: %s", f.LedgerRole, f.Altered)
	}
	return "the ledger's own table is not as Vorrang made it: " + f.Altered
}

// FixLedger says what to do about it.
func (f Facts) FixLedger() []remedy.Remedy {
	if f.LedgerRole != "" {
		return []remedy.Remedy{
			f.place().
				Do(remedy.SetUpLedger).
				For("find out who changed it and why, if somebody did; then let an administrator of the database run what this prints"),
		}
	}
	return []remedy.Remedy{
		f.place().Do(remedy.LookAtLedger).For("find out who changed it and why, and what was written since"),
		remedy.ByHand("then, as its owner, put it back as docs/ledger.md describes it"),
	}
}

func (f Facts) checksums() Check {
	edited := f.View.With(plan.Edited)
	if len(edited) == 0 {
		return pass(Checksums, "no step was edited after it was applied here")
	}
	return hold(
		Checksums,
		fmt.Sprintf(
			"%s edited after being applied here: %s",
			plural.Count(len(edited), "step was", "steps were"),
			list(edited),
		),
		f.FixEdited(edited[0])...)
}

// FixEdited says what to do about a step that was edited after it was applied.
func (f Facts) FixEdited(s plan.Standing) []remedy.Remedy {
	number, amend := s.Step.Number, f.place().Step(remedy.Amend, s.Step.Number)
	if sealed := f.Bound[number].Release; sealed != "" {
		return []remedy.Remedy{
			amend.For("its new text is sealed in release %s and stays; if it is right here as it stands", sealed),
			f.RollbackBelow(number).For("if not, roll back to below it, and promote it again"),
		}
	}
	return []remedy.Remedy{
		remedy.ByHand(
			"put the applied text back (step %s had the checksum %s) and submit, and write what should change as a new step",
			number,
			s.State.Checksum.Short(),
		),
		amend.For("or, if the new text is right here as it stands")}
}

// RollbackBelow rolls a step back, and what came after it.
func (f Facts) RollbackBelow(number step.Number) remedy.Remedy {
	return f.place().RollbackTo(f.below(number))
}

func (f Facts) catalogue() Check {
	absent := f.View.With(plan.Absent)
	if len(absent) == 0 {
		return pass(Catalogue, "every step that was applied here is in the catalogue")
	}
	return hold(
		Catalogue,
		fmt.Sprintf(
			"%s applied here and %s no longer in the catalogue: %s",
			plural.Count(len(absent), "step was", "steps were"),
			plural.Word(len(absent), "is", "are"),
			list(absent),
		),
		remedy.ByHand("put the files back into the step folder and submit"),
		f.RollbackBelow(absent[0].Step.Number).For("or, to undo the step, roll back to below it"),
	)
}

// below is the last step before a number, or 0.
func (f Facts) below(number step.Number) step.Number {
	before := step.Number("0")
	for _, s := range f.View.Steps {
		if step.Compare(s.Step.Number, number) < 0 && s.State.Status.Present() {
			before = s.Step.Number
		}
	}
	return before
}

func (f Facts) order() Check {
	late := f.View.With(plan.Late)
	if len(late) == 0 {
		if f.View.State.At() == "" {
			return pass(Order, "no step is in the target yet")
		}
		return pass(Order, "every pending step comes after step %s", f.View.State.At())
	}
	above := f.View.State.At()
	return hold(
		Order,
		fmt.Sprintf(
			"%s late: a higher number, %s, is already in this target; late: %s",
			plural.Count(len(late), "pending step is", "pending steps are"),
			above,
			list(late),
		),
		f.FixLate(late[0])...).about(above, texts(late))
}

// FixLate says what to do about a pending step below what is in the target.
func (f Facts) FixLate(s plan.Standing) []remedy.Remedy {
	number, bound := s.Step.Number, f.Bound[s.Step.Number]
	back := f.RollbackBelow(number).For("or roll back to below it and promote in order")
	byHand := f.place().Step(remedy.Attest, number).For("if it was carried out here by hand")
	if slices.Contains(f.There, number) { // another try stumbles again
		return []remedy.Remedy{
			remedy.ByHand("step %s failed here because something of it is there already", number),
			byHand,
			back,
		}
	}
	if bound.Release == "" && bound.Went == "" {
		return []remedy.Remedy{remedy.ByHand("give it a number above %s and submit", f.View.State.At()), back,
			f.place().
				Do(remedy.WaiveOrder).
				For("if its place does not matter, as with a hotfix, a keeper can say so"),
			byHand}
	}
	why, waive, promote := "went to "+bound.Went, f.place().
		Release(remedy.WaiveOrder, bound.Release),
		f.place().
			Release(remedy.Promote, bound.Release)
	if bound.Release != "" {
		why = "is sealed in release " + bound.Release
	}
	waived := waive.And(promote)
	if bound.Release == "" && f.Asks.Release {
		waive.Arguments.NewRelease, promote.Arguments.NewRelease = true, true
		waived = f.place().Do(remedy.Cut).And(waive.And(promote))
	}
	return []remedy.Remedy{
		waived.For(
			"step %s %s and keeps its number; if its place does not matter, as with a hotfix, a keeper can say so, and it is promoted",
			number,
			why,
		),
		byHand,
		back,
	}
}

func (f Facts) nothingInDoubt() Check {
	if half := f.View.HalfBack(); len(half) > 0 {
		number := half[0].Step.Number
		return hold(
			NothingInDoubt,
			fmt.Sprintf(
				"the way back of step %s stopped at statement %d of %d",
				number,
				half[0].State.Progress.Statement,
				half[0].State.Progress.Of,
			),
			f.FixHalfBack(number)...)
	}
	if check := f.halfDone(); check.Verdict == Hold {
		return check
	}
	return f.nothingDoubtedBack()
}

// FixHalfBack says what to do about a way back that stopped half-way.
func (f Facts) FixHalfBack(number step.Number) []remedy.Remedy {
	undone, finish := f.place().Settle(number, ledger.SettledUndone), f.place().RollbackLast()
	if slices.Contains(f.Away, number) { // another try stumbles again
		return []remedy.Remedy{
			undone.For(
				"what it stumbled over is not there; if that is gone already, or the text is wrong, finish by hand what is left, and record that",
			),
			finish.For("or put back what is gone, then finish it"),
		}
	}
	return []remedy.Remedy{
		finish.For("fix the cause, then finish it"),
		undone.For("if its text is wrong, finish it by hand and record that"),
	}
}

// halfDone holds if a step stopped half-way and cannot go on there.
func (f Facts) halfDone() Check {
	for _, s := range f.View.HalfDone() {
		number := s.Step.Number
		for _, half := range f.Half {
			if half.Step != number || half.Stuck == "" {
				continue
			}
			var ways []remedy.Remedy
			byHand := "undo it by hand, and record that"
			if half.Undo {
				ways = append(ways, f.place().RollbackLast().For("undo what it did"))
				byHand = "or " + byHand
			}
			ways = append(
				ways,
				f.place().Settle(number, ledger.SettledUndone).For("%s", byHand),
				f.place().Settle(number, ledger.SettledWhole).For("or finish it by hand, and record that"),
				f.place().Settle(number, ledger.SettledAgain).For("or let it begin again at its first statement"),
			)
			return hold(
				NothingInDoubt,
				fmt.Sprintf(
					"step %s (%s) stopped at statement %d of %d, and cannot go on there: %s",
					number,
					s.Step.Slug,
					max(s.State.Progress.Statement, 1),
					s.State.Progress.Of,
					half.Stuck,
				),
				ways...)
		}
	}
	return pass(NothingInDoubt, "no step is unfinished")
}

func (f Facts) nothingDoubtedBack() Check {
	settled := ""
	for _, d := range f.View.InDoubt() {
		known := f.Doubt(d.Step.Number)
		switch {
		case f.Running != nil && d.State.Deployment == f.Running.ID:
			continue // it is under way
		case known.Verdict != evidence.Unclear:
			settled = fmt.Sprintf(
				"step %s was in doubt, and is %s: %s; the next deployment records that",
				d.Step.Number,
				known.Verdict,
				known.Why,
			)
			continue
		}
		return hold(
			NothingInDoubt,
			fmt.Sprintf(
				"step %s is in doubt: its statement %d of %d began at %s, and nothing says how it ended%s",
				d.Step.Number,
				max(d.State.Progress.Statement, 1),
				max(d.State.Progress.Of, 1),
				utc(d.State.At),
				because(known.Why),
			),
			f.place().
				Step(remedy.LookAtEvidence, d.Step.Number).
				For("see what the target shows of it, and record what became of it"),
		)
	}
	if settled != "" {
		return pass(NothingInDoubt, "%s", settled)
	}
	return pass(NothingInDoubt, "no step is unfinished")
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return "; " + why
}

func (f Facts) quiet() Check {
	if f.Running == nil {
		return pass(Quiet, "nobody else is deploying here")
	}
	return hold(Quiet,
		fmt.Sprintf("%s, started by %s, has been running here since %s",
			"deployment "+f.Running.ID, cmp.Or(f.Running.Actor, "somebody"), utc(f.Running.Since)),
		remedy.ByHand("wait for it to end"))
}

// texts names steps with what their texts are.
func texts(standings []plan.Standing) []Planned {
	all := make([]Planned, len(standings))
	for i, s := range standings {
		all[i] = PlannedOf(s.Step)
	}
	return all
}

func list(standings []plan.Standing) string {
	const most = 5
	var names []string
	for i, s := range standings {
		if i == most {
			names = append(names, fmt.Sprintf("and %d more", len(standings)-most))
			break
		}
		name := s.Step.Slug
		if before := s.State.Slug; before != "" && before != name && s.Has(plan.Edited) {
			name += ", applied as " + before
		}
		names = append(names, fmt.Sprintf("%s (%s)", s.Step.Number, name))
	}
	return strings.Join(names, ", ")
}
