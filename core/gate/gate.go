package gate

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/remedy"
	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/step"
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
	Reachable      ID = "reachable"        // every target of a fleet could be read

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
	// PreviousFleet are the targets of the environment before, where that is a fleet; Previous is
	// then one of them.
	PreviousFleet []Previous
	Freezes       []Freeze // in force, or to come
	Backup        *Backup  // the newest that was reported; nil for none
	Drifted       *Drifted // how the schema differs from what is known; nil if nobody looked
	// Fingerprint is of the target's schema, without owners and grants; empty if nobody looked.
	Fingerprint string
	Rehearsed   *Rehearsed       // the newest rehearsal of what is promoted; nil for none
	Findings    []review.Finding // in the steps that are promoted, where the gate asks for a review

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
	ID          int64     `json:"id"`
	Environment string    `json:"environment" description:"Where it was set, and can be ended: an environment, or one target of a fleet."`
	From        time.Time `json:"from"`
	Until       time.Time `json:"until"`
	Reason      string    `json:"reason"`
	By          string    `json:"by"`
}

// Backup is a backup of a target, as the job that takes them reports it.
type Backup struct {
	Label   string    `json:"label"`
	TakenAt time.Time `json:"taken_at"`
	By      string    `json:"by"`
}

// Rehearsed is a rehearsal of the steps that are to be promoted.
type Rehearsed struct {
	With        string // which rows the copy had, in words
	At          time.Time
	By          string
	Passed      bool
	Why         string // it did not pass
	Notes       string // how far it went
	Fingerprint string // of the target's schema then
}

// Previous is what is known of the environment before.
type Previous struct {
	Name        string
	View        plan.View
	Entries     []ledger.Entry
	Unreached   string   // why its target could not be read; empty where it could
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
func (r Result) Word() string { return WordOf(r.Held()) }

// WordOf is Word where a hold need not mean that the gate is held: some targets of a fleet may be
// tolerated.
func WordOf(held bool) string {
	if held {
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
		f.sealed(), f.previous(), f.sameHistory(), f.soak(), f.wayBack(), f.approvals(), f.signed(), f.freeze(), f.window(),
		f.backup(),
		f.drift(), f.rehearsed(), f.reviewed(),
	}}))
}

// Back asks what a rollback must meet, which runs some actions. Edited,
// absent and late steps do not stand in its way: a rollback may be the way out of
// them.
func Back(f Facts, actions []plan.Action) Result {
	return Result{
		Checks: []Check{
			f.knownDatabase(), f.ledgerIntact(), f.nothingDoubtedBack(), f.quiet(), f.waysBackApproved(actions),
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

func pass(id ID, format string, args ...any) Check {
	return Check{ID: id, Verdict: Pass, Evidence: fmt.Sprintf(format, args...)}
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
