package api

import (
	"time"

	"vorrang/core/engine"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/remedy"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/core/verify"
)

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
	Unread      string   `json:"unread,omitempty" description:"Why the list of its targets cannot be read."`
}

// Lanes are lanes, in order of their names, with where their environments stand.
type Lanes struct {
	Lanes []LaneStatus `json:"lanes" nullable:"false"`
	Next  string       `json:"next,omitempty" description:"Where there are more: what the next page is asked for by after."`
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
	Target      string `json:"target,omitempty" description:"The reference, never the URL. Absent for a fleet."`
	Disposable  bool   `json:"disposable,omitempty"`

	ReadAt  time.Time `json:"read_at,omitzero" description:"When the target was read: up to 2 s ago, unless the request says Cache-Control: no-cache. Absent where nobody has read it yet."`
	Reading bool      `json:"reading,omitempty" description:"The target is being read, and the answer was not to wait for it. What stands here is of read_at."`

	OnFailure plan.Policy `json:"on_failure" enum:"stop,back-out" description:"What becomes of a deployment's earlier steps when one fails, unless the promotion says."`

	At       step.Number `json:"at,omitempty" description:"The highest step that is in the target."`
	AtSlug   string      `json:"at_slug,omitempty"`
	Applied  int         `json:"applied" description:"Steps run or vouched for."`
	Covered  int         `json:"covered" description:"Steps that the baseline covers."`
	Pending  int         `json:"pending"`
	NotHere  int         `json:"not_here" description:"Steps meant for other environments."`
	Baseline step.Number `json:"baseline,omitempty"`
	Entries  int         `json:"entries" description:"In the target's ledger."`

	Reached bool         `json:"reached" description:"False where the target could not be read; the figures are then missing."`
	Trouble []Trouble    `json:"trouble" nullable:"false" description:"Everything that is wrong, the worst first."`
	Gate    []gate.Check `json:"gate" nullable:"false"`
	Running *Deployment  `json:"running,omitempty"`
	Last    *Deployment  `json:"last,omitempty" description:"The newest deployment that has ended."`
	Steps   []StepStatus `json:"steps,omitempty"`
	Fleet   *FleetStatus `json:"fleet,omitempty" description:"Where the environment is a fleet. The figures are then those of its largest group, and the troubles those of all targets."`
}

// Trouble is one thing that is wrong.
type Trouble struct {
	Kind     string          `json:"kind" description:"A check's id, or unreachable, or failed."`
	Step     step.Number     `json:"step,omitempty"`
	Message  string          `json:"message"`
	Remedies []remedy.Remedy `json:"remedies" nullable:"false" description:"What to do; one of them will do."`

	// Differs tells targets apart whose troubles are worded alike: a digest of what differs. Empty where the words say it.
	Differs string `json:"-"`
}

// Steps are steps in one target, newest first.
type Steps struct {
	Reached bool         `json:"reached" description:"False where the target could not be read; no step is known then."`
	Steps   []StepStatus `json:"steps" nullable:"false"`
	Total   int          `json:"total" description:"How many there are, those that were not asked for included."`
	Open    int          `json:"open" description:"How many of them wait or have trouble."`
	Newest  step.Number  `json:"newest,omitempty" description:"The newest of them all."`
	Next    step.Number  `json:"next,omitempty" description:"Where there are more: what the next page is asked for by before."`
}

// StepStatus is one step in one target.
type StepStatus struct {
	Number     step.Number     `json:"number"`
	Slug       string          `json:"slug"`
	State      ledger.Status   `json:"state"`
	Flags      []plan.Flag     `json:"flags,omitempty"`
	Open       bool            `json:"open,omitempty" description:"It waits, or something is wrong with it."`
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

// KnownText is the record (PAX, in the POSIX form of tar) of an entry whose text need not be
// sent: its value is the digest, and the entry is empty.
const KnownText = "VORRANG.digest"

// KnownTexts are the digests of files that a lane has had.
type KnownTexts struct {
	Known []step.Checksum `json:"known" nullable:"false"`
}

// Submitted is what a submission changed in the catalogue.
type Submitted struct {
	Submission int64     `json:"submission,omitempty" description:"Absent where nothing changed."`
	New        []StepRef `json:"new" nullable:"false"`
	Edited     []StepRef `json:"edited" nullable:"false"`
	Gone       []StepRef `json:"gone" nullable:"false"`
	Late       []StepRef `json:"late" nullable:"false" description:"New steps below the highest number that the catalogue had before."`
	Applied    []Touched `json:"applied" nullable:"false" description:"Edited and gone steps that an environment has applied, in doubt, or half run."`
	Unlooked   []string  `json:"unlooked" nullable:"false" description:"Environments that could not be read for that."`
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

// Engine is a kind of database server that the service can work on.
type Engine struct {
	Name string `json:"name" description:"As lane files give it after engine:."`
	engine.Traits
}

// Engines lists them.
type Engines struct {
	Engines []Engine `json:"engines" nullable:"false"`
}

// Services are those that share their records, and live.
type Services struct {
	Services []OneService `json:"services" nullable:"false"`
}

// OneService is one of them.
type OneService struct {
	ID        int32     `json:"id" description:"Its number among those that were ever on these records; the log has it."`
	Host      string    `json:"host"`
	Process   int32     `json:"process" description:"The number of its process there."`
	Version   string    `json:"version"`
	StartedAt time.Time `json:"started_at"`
	Running   int       `json:"running" description:"How many deployments and rehearsals it runs now."`
	Answers   bool      `json:"answers,omitempty" description:"It is the one that answers this."`
}

// Ledger is a target's history, newest first.
type Ledger struct {
	Exists  bool           `json:"exists"`
	Entries []ledger.Entry `json:"entries" nullable:"false"`
	Total   int            `json:"total" description:"How many entries the ledger has."`
	Next    int64          `json:"next,omitempty" description:"Where there are more: what the next page is asked for by before."`
	Chain   string         `json:"chain,omitempty" description:"What is wrong with the chain; absent where it holds."`
}

// LedgerSetup is what an administrator of a target's database runs with psql, so
// that the ledger has an owner of its own.
type LedgerSetup struct {
	SQL string `json:"sql"`
}

// Verification says whether the histories of a lane's targets are consistent.
type Verification struct {
	Lane         string              `json:"lane"`
	Environments []string            `json:"environments" nullable:"false" description:"Those that were checked."`
	Empty        []verify.Empty      `json:"empty" nullable:"false" description:"Those that have no history, so that there was nothing to check."`
	Unreached    []Unreached         `json:"unreached" nullable:"false" description:"Those that could not be checked."`
	Uncompared   []verify.Uncompared `json:"uncompared" nullable:"false" description:"Those that were checked, but for their history beside that of the environment before."`
	Deviations   []verify.Deviation  `json:"deviations" nullable:"false"`
}

// Unreached is a target that could not be read.
type Unreached struct {
	Environment string          `json:"environment"`
	Message     string          `json:"message"`
	Remedies    []remedy.Remedy `json:"remedies" nullable:"false"`
}
