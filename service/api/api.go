package api

import (
	"time"

	"vorrang/core/access"
	"vorrang/core/deploy"
	"vorrang/core/draft"
	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/release"
	"vorrang/core/remedy"
	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/core/verify"
)

// Problem is an error as RFC 9457 has it, with Vorrang's own members.
type Problem struct {
	Type     string          `json:"type" description:"A URN: urn:vorrang:held, in-doubt, invalid-files, unreachable, not-found, refused, invalid-request, unauthorized, forbidden, proof-needed, too-many, too-large, too-slow, internal."`
	Title    string          `json:"title"`
	Status   int             `json:"status"`
	Detail   string          `json:"detail"`
	Remedies []remedy.Remedy `json:"remedies,omitempty" description:"What to do where a gate is held: what would turn the first check that holds."`
	Errors   []step.Problem  `json:"errors,omitempty" description:"What is wrong in files, each with its place."`
	Checks   []gate.Check    `json:"checks,omitempty" description:"The gate's checks, where it is held."`
	Running  *Deployment     `json:"running,omitempty" description:"The deployment that is under way."`

	Differences []string `json:"differences,omitempty" description:"What is not as it should be, a line each."`
}

// Session is who is signed in, and what they may.
type Session struct {
	Name      string        `json:"name"`
	Via       string        `json:"via,omitempty" description:"How they proved who they are."`
	Person    bool          `json:"person" description:"False for machines, and for whoever has the administrator's token: they approve and waive nothing."`
	Grants    access.Grants `json:"grants" nullable:"false"`
	Token     string        `json:"token,omitempty" description:"A new token, where one was asked for. It is shown once."`
	ExpiresAt *time.Time    `json:"expires_at,omitempty" description:"Of the token."`
}

// WaysIn says how one can sign in, beside name and password.
type WaysIn struct {
	Token  bool   `json:"token" description:"With the administrator's token."`
	OpenID string `json:"openid,omitempty" description:"The OpenID Connect provider, where there is one: /api/v1/session/openid leads to it."`
}

// SignIn asks for a session cookie, or for a token.
type SignIn struct {
	Name     string `json:"name" maxLength:"100" description:"Who you are; stands in the ledger beside what you do."`
	Password string `json:"password,omitempty" secret:"true" maxLength:"1000"`
	Token    string `json:"token,omitempty" secret:"true" maxLength:"1000" description:"The administrator's, instead of a password."`
	Machine  string `json:"machine,omitempty" maxLength:"100" description:"Whose programs sign in: the answer then holds a token, and no cookie is set."`
}

// People is everybody who may sign in.
type People struct {
	People []access.Person `json:"people" nullable:"false"`
}

// Tokens is every token that was not revoked, newest first.
type Tokens struct {
	Tokens []access.Token `json:"tokens" nullable:"false"`
}

// TokenMade is a new token.
type TokenMade struct {
	access.Token
	Text string `json:"text" description:"The token itself. It is shown once."`
}

// Audit is who did what, newest first.
type Audit struct {
	Acts []access.Act `json:"acts" nullable:"false"`
}

// Declared answers a lane declaration.
type Declared struct {
	Lane    lane.Lane `json:"lane"`
	Changed bool      `json:"changed" description:"False where the lane was declared like this already."`

	Asks    []Asked       `json:"asks" nullable:"false" description:"What each environment asks from now on."`
	Changes []lane.Change `json:"changes" nullable:"false" description:"Of what environments ask, and of their targets."`
}

// Asked is what an environment's gate asks beyond what every gate asks.
type Asked struct {
	Environment string   `json:"environment"`
	Asks        []string `json:"asks" nullable:"false"`
	Why         string   `json:"why,omitempty" description:"Where the lane file does not say it: that its name implies it."`
}

// Lanes is every lane with where its environments stand.
type Lanes struct {
	Lanes []LaneStatus `json:"lanes" nullable:"false"`
}

// LaneStatus is one lane with its environments, in the order of promotion.
type LaneStatus struct {
	Lane         string              `json:"lane"`
	About        string              `json:"about,omitempty"`
	Engine       string              `json:"engine"`
	Steps        int                 `json:"steps" description:"In the catalogue."`
	Newest       step.Number         `json:"newest,omitempty"`
	Environments []EnvironmentStatus `json:"environments" nullable:"false"`
}

// EnvironmentStatus is where an environment stands, and everything that is wrong.
type EnvironmentStatus struct {
	Lane        string `json:"lane"`
	Environment string `json:"environment"`
	Target      string `json:"target" description:"The reference, never the URL."`
	Disposable  bool   `json:"disposable,omitempty"`

	OnFailure plan.Policy `json:"on_failure" enum:"stop,back-out" description:"What becomes of a deployment's earlier steps when one fails, unless the promotion says."`

	At       step.Number `json:"at,omitempty" description:"The highest step that is in the target."`
	AtSlug   string      `json:"at_slug,omitempty"`
	Applied  int         `json:"applied" description:"Steps carried out or vouched for."`
	Covered  int         `json:"covered" description:"Steps that the baseline covers."`
	Pending  int         `json:"pending"`
	NotHere  int         `json:"not_here" description:"Steps meant for other environments."`
	Baseline step.Number `json:"baseline,omitempty"`
	Entries  int         `json:"entries" description:"In the target's ledger."`

	Reached bool         `json:"reached" description:"False where the target could not be looked at; the figures are then missing."`
	Trouble []Trouble    `json:"trouble" nullable:"false" description:"Everything that is wrong, the worst first."`
	Gate    []gate.Check `json:"gate" nullable:"false"`
	Running *Deployment  `json:"running,omitempty"`
	Last    *Deployment  `json:"last,omitempty" description:"The newest deployment that has ended."`
	Steps   []StepStatus `json:"steps,omitempty"`
}

// Trouble is one thing that is wrong.
type Trouble struct {
	Kind     string          `json:"kind" description:"A check's id, or unreachable, or failed."`
	Step     step.Number     `json:"step,omitempty"`
	Message  string          `json:"message"`
	Remedies []remedy.Remedy `json:"remedies" nullable:"false" description:"What to do; one of them will do."`
}

// StepStatus is one step in one target.
type StepStatus struct {
	Number     step.Number     `json:"number"`
	Slug       string          `json:"slug"`
	State      ledger.Status   `json:"state"`
	Flags      []plan.Flag     `json:"flags,omitempty"`
	Mode       step.Mode       `json:"mode,omitempty"`
	Phase      step.Phase      `json:"phase,omitempty"`
	Back       bool            `json:"back" description:"It has a way back."`
	Check      bool            `json:"check" description:"It has a check."`
	Checksum   step.Checksum   `json:"checksum,omitempty" description:"Of the forward text in the catalogue."`
	Applied    step.Checksum   `json:"applied_checksum,omitempty" description:"Of the text that was applied."`
	At         *time.Time      `json:"at,omitempty"`
	Actor      string          `json:"actor,omitempty"`
	Deployment string          `json:"deployment,omitempty"`
	DurationMS int64           `json:"duration_ms,omitempty"`
	HalfDone   bool            `json:"half_done,omitempty" description:"It stopped half-way, forward or back, and some of it took effect."`
	Difference *TextDifference `json:"difference,omitempty" description:"Of an edited step: the applied text against the catalogue's."`
}

// TextDifference is what an edit changed, with some lines around each change.
type TextDifference struct {
	Change  sqltext.Change   `json:"change" enum:"white space,comments,statements" description:"What the edit amounts to, by the parser's tokens: only white space, only comments, or what runs."`
	Lines   []DifferenceLine `json:"lines" nullable:"false"`
	Omitted string           `json:"omitted,omitempty" description:"Why lines are missing."`
}

// DifferenceLine is one line of either text.
type DifferenceLine struct {
	Op     string `json:"op" enum:"same,gone,new"`
	Before int    `json:"before,omitempty" description:"Its number in the applied text."`
	After  int    `json:"after,omitempty" description:"Its number in the new text."`
	Text   string `json:"text"`
}

// Submitted is what a submission changed in the catalogue.
type Submitted struct {
	Submission int64     `json:"submission,omitempty" description:"Absent where nothing changed."`
	New        []StepRef `json:"new" nullable:"false"`
	Edited     []StepRef `json:"edited" nullable:"false"`
	Gone       []StepRef `json:"gone" nullable:"false"`
	Late       []StepRef `json:"late" nullable:"false" description:"New steps below the highest number that the catalogue had before."`
	Applied    []Touched `json:"applied" nullable:"false" description:"Edited and gone steps that an environment has applied, in doubt, or half carried out."`
	Unlooked   []string  `json:"unlooked" nullable:"false" description:"Environments that could not be looked at for that."`
	Unchanged  int       `json:"unchanged"`
	Steps      int       `json:"steps" description:"In the catalogue now, or in a trial's folder."`

	Notes   []step.Problem `json:"notes" nullable:"false" description:"What could not be read, or may go wrong; the server decides."`
	Trial   bool           `json:"trial,omitempty" description:"Nothing was changed: this is what a submission would do."`
	Refused []string       `json:"refused" nullable:"false" description:"Of a trial: why a submission of this folder would be refused."`
}

// Touched is an edited or gone step that an environment has.
type Touched struct {
	StepRef
	Gone        bool            `json:"gone,omitempty"`
	Environment string          `json:"environment"`
	State       ledger.Status   `json:"state"`
	Change      sqltext.Change  `json:"change,omitempty" enum:"white space,comments,statements" description:"What the edit amounts to."`
	Remedies    []remedy.Remedy `json:"remedies" nullable:"false" description:"The ways out; one of them will do."`
}

// StepRef names a step.
type StepRef struct {
	Number    step.Number      `json:"number"`
	Slug      string           `json:"slug"`
	Direction ledger.Direction `json:"direction,omitempty"`
}

// Preview is the plan of a deployment with the SQL that would run.
type Preview struct {
	Direction ledger.Direction `json:"direction"`
	Actions   []PreviewAction  `json:"actions" nullable:"false"`
	Gate      []gate.Check     `json:"gate" nullable:"false"`
	Held      bool             `json:"held"`

	Standalone string `json:"standalone,omitempty" raw:"true" description:"The plan as one file for psql, where that was asked for."`
}

// PreviewAction is one step of a preview.
type PreviewAction struct {
	StepRef
	File      string     `json:"file"`
	Mode      step.Mode  `json:"mode"`
	Phase     step.Phase `json:"phase,omitempty"`
	Resume    int        `json:"resume,omitempty" description:"The statement to go on at, where an earlier try stopped half-way."`
	Size      int64      `json:"size" description:"In bytes."`
	SQL       string     `json:"sql"`
	Shortened bool       `json:"shortened,omitempty" description:"Only the beginning stands in sql."`
	Check     string     `json:"check,omitempty" description:"The queries that must hold afterwards."`

	Irreversible bool          `json:"irreversible" description:"The step has no way back."`
	Losses       []review.Loss `json:"losses" nullable:"false" description:"Rows and values that this SQL takes away for good."`
	LostBefore   []review.Loss `json:"lost_before" nullable:"false" description:"Of a way back: what the step took away when it went forward, and this does not bring back."`
	Plan         string        `json:"plan" description:"Digest of the plan up to and with this action; a promotion or rollback that names it runs no other."`
}

// Promoted answers a promotion or a rollback.
type Promoted struct {
	Nothing    bool         `json:"nothing" description:"There was nothing to do."`
	Deployment *Deployment  `json:"deployment,omitempty"`
	Gate       []gate.Check `json:"gate" nullable:"false"`
	Scheduled  *Scheduled   `json:"scheduled,omitempty" description:"Where it was put off."`
	Settled    []string     `json:"settled" nullable:"false" description:"Steps in doubt that were settled by their check."`
	Steps      int          `json:"steps,omitempty" description:"In the catalogue, where there is nothing to do."`
}

// Scheduled is a promotion that waits for its time, or what became of one.
type Scheduled struct {
	ID          int64      `json:"id"`
	Lane        string     `json:"lane"`
	Environment string     `json:"environment"`
	At          time.Time  `json:"at"`
	Release     string     `json:"release,omitempty"`
	Through     string     `json:"through,omitempty"`
	Actor       string     `json:"actor"`
	MadeAt      time.Time  `json:"made_at"`
	State       string     `json:"state" enum:"waiting,started,done,held,failed,missed,dropped"`
	Says        string     `json:"says,omitempty" description:"Why it did not begin."`
	Deployment  int64      `json:"deployment,omitempty"`
	EndedAt     *time.Time `json:"ended_at,omitempty"`
}

// ScheduledList lists scheduled promotions, those that wait first.
type ScheduledList struct {
	Scheduled []Scheduled `json:"scheduled" nullable:"false"`
}

// Deployment is one carrying-out of a plan.
type Deployment struct {
	ID          int64            `json:"id"`
	Lane        string           `json:"lane"`
	Environment string           `json:"environment"`
	Direction   ledger.Direction `json:"direction"`
	Outcome     deploy.Outcome   `json:"outcome"`
	Actor       string           `json:"actor"`
	Planned     int              `json:"planned" description:"How many steps."`
	Release     string           `json:"release,omitempty" description:"Absent for loose steps."`
	OnFailure   plan.Policy      `json:"on_failure,omitempty" enum:"stop,back-out"`
	Whole       bool             `json:"whole,omitempty" description:"All steps in one transaction."`
	Rebuild     bool             `json:"rebuild,omitempty" description:"The application's schemas were emptied first."`
	Steps       []StepRef        `json:"steps,omitempty" description:"Only where one deployment is asked for."`
	Failure     *deploy.Failure  `json:"failure,omitempty"`
	Gate        []gate.Check     `json:"gate,omitempty"`
	StartedAt   time.Time        `json:"started_at"`
	EndedAt     *time.Time       `json:"ended_at,omitempty"`
}

// Deployments is a list, newest first.
type Deployments struct {
	Deployments []Deployment `json:"deployments" nullable:"false"`
}

// Events is a list, oldest first.
type Events struct {
	Events []deploy.Event `json:"events" nullable:"false"`
}

// Engine is a kind of database server that the service can work on.
type Engine struct {
	Name string `json:"name" description:"As lane files give it after engine:."`
	engine.Traits
}

// Engines lists them.
type Engines struct {
	Engines []Engine `json:"engines" nullable:"false"`
}

// Ledger is a target's history, newest first.
type Ledger struct {
	Exists  bool           `json:"exists"`
	Entries []ledger.Entry `json:"entries" nullable:"false"`
	Total   int            `json:"total"`
	Chain   string         `json:"chain,omitempty" description:"What is wrong with the chain; absent where it holds."`
}

// LedgerSetup is what an administrator of a target's database runs with psql, so
// that the ledger has an owner of its own.
type LedgerSetup struct {
	SQL string `json:"sql"`
}

// Recorded answers somebody's word with the ledger's new entries.
type Recorded struct {
	Entries []ledger.Entry `json:"entries" nullable:"false"`
	Message string         `json:"message"`
}

// Evidence is what a target shows of a step.
type Evidence struct {
	StepRef
	State ledger.Status `json:"state"`
	evidence.Evidence
	Lines   []string `json:"lines" nullable:"false" description:"All of it, in words."`
	Wrong   []string `json:"wrong" nullable:"false" description:"What is not as the step should have left it, in words."`
	Invalid []string `json:"invalid" nullable:"false" description:"Indexes whose build did not end."`

	// of an unfinished step
	Statement int              `json:"statement,omitempty" description:"The one in doubt, from 1."`
	Of        int              `json:"of,omitempty"`
	Line      int              `json:"line,omitempty"`
	SQL       string           `json:"sql,omitempty"`
	Verdict   evidence.Verdict `json:"verdict,omitempty" enum:"applied,not-applied,unclear"`
	Why       string           `json:"why,omitempty"`
}

// Attested answers an attestation.
type Attested struct {
	Entries []ledger.Entry `json:"entries" nullable:"false"`
	Steps   []AttestedStep `json:"steps" nullable:"false" description:"What was found of each step that was looked at."`
	Message string         `json:"message"`
}

// AttestedStep is what was found of one step, and whether it was attested.
type AttestedStep struct {
	Evidence
	Attested bool `json:"attested"`
}

// Withdrawn answers the withdrawal of a step.
type Withdrawn struct {
	StepRef
	Files []string `json:"files" nullable:"false" description:"Its files, to be taken out of the folder."`
	Steps int      `json:"steps" description:"In the catalogue now."`
}

// Probe says whether a target can be used.
type Probe struct {
	Lane        string        `json:"lane"`
	Environment string        `json:"environment"`
	Usable      bool          `json:"usable"`
	Version     string        `json:"version,omitempty"`
	Database    string        `json:"database,omitempty"`
	User        string        `json:"user,omitempty"`
	Looks       []engine.Look `json:"looks" nullable:"false"`
}

// GateAnswer is what the gate says to a promotion now.
type GateAnswer struct {
	Gate   string       `json:"gate" enum:"clear,held"`
	Checks []gate.Check `json:"checks" nullable:"false"`
	Notes  []string     `json:"notes" nullable:"false" description:"What was changed of the gate itself since the last deployment."`

	Waivable []gate.ID `json:"waivable" nullable:"false" description:"The checks that hold and can be waived."`
	Frozen   bool      `json:"frozen" description:"A freeze is in force; vorrang thaw ends it."`
}

// Approved answers an approval.
type Approved struct {
	gate.Approval
	Check gate.Check `json:"check" description:"What the gate says of the approvals now."`
}

// ApprovalWithdrawn answers when approvals were taken back.
type ApprovalWithdrawn struct {
	Withdrawn int64 `json:"withdrawn"`
}

// StepTexts is one step of the catalogue with its texts.
type StepTexts struct {
	StepRef
	Options step.Options `json:"options"`
	Files   []StepFile   `json:"files" nullable:"false"`
}

// StepFile is one file of a step.
type StepFile struct {
	Name      string        `json:"name"`
	Part      step.Part     `json:"part"`
	Checksum  step.Checksum `json:"checksum"`
	Size      int64         `json:"size" description:"In bytes."`
	Text      string        `json:"text"`
	Shortened bool          `json:"shortened,omitempty"`
}

// Thawed answers the end of freezes.
type Thawed struct {
	Ended int64 `json:"ended" description:"How many freezes there were."`
}

// Releases is a lane's releases, newest first.
type Releases struct {
	Releases []release.Release `json:"releases" nullable:"false"`
}

// ReleaseCut is a release that was cut, or taken in from a bundle.
type ReleaseCut struct {
	Release release.Release `json:"release"`
	New     int             `json:"new" description:"Of a bundle: how many of its steps the catalogue did not have."`
	Known   bool            `json:"known" description:"Of a bundle: the release was here already, the same to the byte."`
}

// ReleaseContent is a release, its SHA256SUMS, and what it brings against what
// was asked for.
type ReleaseContent struct {
	Release release.Release  `json:"release"`
	Sums    string           `json:"sums"`
	Changes []release.Change `json:"changes" nullable:"false"`

	Signatures []release.Signature `json:"signatures" nullable:"false" description:"Those that hold. Whose a key is, an environment says."`
}

// Signed answers a signature.
type Signed struct {
	Release    string              `json:"release"`
	Digest     step.Checksum       `json:"digest"`
	Signatures []release.Signature `json:"signatures" nullable:"false"`
}

// Verification says whether the histories of a lane's targets are consistent.
type Verification struct {
	Lane         string             `json:"lane"`
	Environments []string           `json:"environments" nullable:"false" description:"Those that were looked at."`
	Unreached    []Unreached        `json:"unreached" nullable:"false" description:"Those that could not be."`
	Deviations   []verify.Deviation `json:"deviations" nullable:"false"`
}

// Unreached is a target that could not be looked at.
type Unreached struct {
	Environment string          `json:"environment"`
	Message     string          `json:"message"`
	Remedies    []remedy.Remedy `json:"remedies" nullable:"false"`
}

// Drift is how a target's schema differs from what the last deployment left.
type Drift struct {
	Lane        string              `json:"lane"`
	Environment string              `json:"environment"`
	From        string              `json:"from,omitempty" description:"What it is compared with, such as deployment 12."`
	Since       *time.Time          `json:"since,omitempty" description:"When that was."`
	Unknown     string              `json:"unknown,omitempty" description:"Why drift is not known; the differences, if any, are then no more than a hint."`
	Fingerprint string              `json:"fingerprint" description:"Of the schema that is there; accepting it takes it."`
	Objects     int                 `json:"objects" description:"How many there are in all."`
	Differences []schema.Difference `json:"differences" nullable:"false"`
	Uncovered   []schema.Uncovered  `json:"uncovered" nullable:"false" description:"What is there and was not looked at."`
}

// Adoption is what is found in a target beside what was known of it.
type Adoption struct {
	Lane        string              `json:"lane"`
	Environment string              `json:"environment"`
	Needed      bool                `json:"needed" description:"The gate is held until somebody adopts it, or puts right what is there."`
	Lines       []string            `json:"lines" nullable:"false" description:"What was found and what was known, a line each."`
	Differences []schema.Difference `json:"differences" nullable:"false" description:"Of the schema, from what is known."`
	Finding     string              `json:"finding" description:"Of all that was found; adopting takes it."`
}

// Effects is what deployments did to an environment's schema.
type Effects struct {
	Effects []StepEffect `json:"effects" nullable:"false" description:"The oldest first."`
}

// StepEffect is what a step of a deployment did to the schema.
type StepEffect struct {
	Deployment int64               `json:"deployment"`
	Step       step.Number         `json:"step,omitempty" description:"Absent where the steps of a deployment were looked at together."`
	Direction  ledger.Direction    `json:"direction,omitempty"`
	At         time.Time           `json:"at"`
	Effect     []schema.Difference `json:"effect" nullable:"false"`
	More       int                 `json:"more,omitempty" description:"How many more objects it touched than are listed."`
}

// Known lists the points of an environment's history whose schema was kept.
type Known struct {
	Known []KnownSchema `json:"known" nullable:"false" description:"The newest first."`
}

// KnownSchema is a point of the history whose schema was kept.
type KnownSchema struct {
	Why         string    `json:"why" enum:"deployment,accepted,attested,baselined"`
	Deployment  int64     `json:"deployment,omitempty"`
	Fingerprint string    `json:"fingerprint"`
	Actor       string    `json:"actor"`
	Reason      string    `json:"reason,omitempty"`
	At          time.Time `json:"at"`
}

// SchemaMap is a map of a point of the history, and how that differs from another.
type SchemaMap struct {
	Map         *Map                `json:"map"`
	Differences []schema.Difference `json:"differences" nullable:"false"`
}

// Draft is a draft of steps, for review.
type Draft struct {
	About string `json:"about" description:"What the steps do, in words: it stands in them too."`
	draft.Draft
}

// Accepted is the answer to accepting drift.
type Accepted struct {
	Objects     int    `json:"objects" description:"How many objects differed."`
	Fingerprint string `json:"fingerprint"`
}

// Comparison says how two schemas differ: what was added is only in the first,
// what was removed only in the second.
type Comparison struct {
	From            string              `json:"from"`
	With            string              `json:"with"`
	Same            bool                `json:"same"`
	Owners          bool                `json:"owners" description:"Owners and grants were compared too."`
	FromObjects     int                 `json:"from_objects"`
	WithObjects     int                 `json:"with_objects"`
	FromFingerprint string              `json:"from_fingerprint"`
	WithFingerprint string              `json:"with_fingerprint"`
	Differences     []schema.Difference `json:"differences" nullable:"false"`
	FromUncovered   []schema.Uncovered  `json:"from_uncovered" nullable:"false" description:"What is there and was not looked at."`
	WithUncovered   []schema.Uncovered  `json:"with_uncovered" nullable:"false"`
	Reordered       []string            `json:"reordered" nullable:"false" description:"Tables that have the same columns in another order; that is no difference."`
}
