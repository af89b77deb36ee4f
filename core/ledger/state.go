package ledger

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"
	"unicode/utf16"
	"unicode/utf8"

	"vorrang/core/step"
)

// Status is a step's state in a target, as the ledger tells it.
type Status string

const (
	StatusPending    Status = "pending"
	StatusApplied    Status = "applied"
	StatusRolledBack Status = "rolled back"
	StatusFailed     Status = "failed"
	StatusInDoubt    Status = "in doubt"
	StatusCovered    Status = "covered"
	StatusAttested   Status = "attested"
)

// Present reports whether the step's effect is in the target.
func (s Status) Present() bool {
	switch s {
	case StatusApplied, StatusCovered, StatusAttested:
		return true
	case StatusPending, StatusRolledBack, StatusFailed, StatusInDoubt:
	}
	return false
}

// Direction says whether a step goes forward or back.
type Direction string

const (
	Forward Direction = "forward"
	Back    Direction = "back"
)

// Detail is what the entries of this package's callers carry beside the
// columns.
type Detail struct {
	Direction Direction     `json:"direction,omitempty"` // empty means forward
	Mode      step.Mode     `json:"mode,omitempty"`      // of a step that is not one transaction
	Statement int           `json:"statement,omitempty"` // the one that begins or failed, from 1
	Of        int           `json:"of,omitempty"`        // how many statements there are
	Before    []string      `json:"before,omitempty"`    // of a begun statement: which of what it makes and drops were there, where that can tell what became of it
	Done      string        `json:"done,omitempty"`      // checksum of the statements before Statement
	Rows      int64         `json:"rows,omitempty"`      // changed so far, by a step of mode batches
	Error     string        `json:"error,omitempty"`
	SQLState  string        `json:"sqlstate,omitempty"`
	Reason    string        `json:"reason,omitempty"`  // of a repair
	Instead   step.Checksum `json:"instead,omitempty"` // of an amended step: the text that was applied
	As        string        `json:"as,omitempty"`      // of a settled step: one of the words that begin with Settled
	Left      int           `json:"left,omitempty"`    // how many statements took effect before the step begins again at its first
	Next      int           `json:"next,omitempty"`    // of a step settled as applied: the statement to go on at, where any is left
	Seen      []string      `json:"seen,omitempty"`    // of a repair: what was found in the target, a line each
	Against   []string      `json:"against,omitempty"` // of a repair: what of Seen spoke against it, and was acknowledged
	Dropped   []string      `json:"dropped,omitempty"` // of a settled step: the invalid indexes that were dropped first

	Belongs *Owner `json:"belongs,omitempty"` // whose target this is; in the first entry, and after that where it changes
	Found   string `json:"found,omitempty"`   // of an adoption: Found of all entries before it

	Waived []Waived `json:"waived,omitempty"` // of a deployment's first step: the gate's checks that somebody waived for it

	// of a baseline
	Tables int           `json:"tables,omitempty"` // found in the application's schemas
	Covers []step.Number `json:"covers,omitempty"` // the catalogue's steps at or below it
}

// Owner is the environment that a target belongs to.
type Owner struct {
	Lane        string `json:"lane"`
	Environment string `json:"environment"`
}

// String is "harbour/production"; empty for nobody.
func (o Owner) String() string {
	if o == (Owner{}) {
		return ""
	}
	return o.Lane + "/" + o.Environment
}

// Waived is a check of the gate that somebody waived for one deployment.
type Waived struct {
	Check  string `json:"check"`
	By     string `json:"by"`
	Reason string `json:"reason"`
}

// WaivedOrder is the check whose waiver lets late steps be run.
const WaivedOrder = "order"

// What a step in doubt can be settled as.
const (
	SettledApplied    = "applied"     // the statement in doubt took effect
	SettledNotApplied = "not-applied" // it did not

	// about a half-done step as a whole
	SettledUndone = "undone" // nothing of it is there
	SettledWhole  = "whole"  // all of it is there
	SettledAgain  = "again"  // it begins again at its first statement
)

// JSON is the detail as it is stored: ASCII, so that it is the same bytes in a
// database of any encoding.
func (d Detail) JSON() json.RawMessage {
	text, err := json.Marshal(d)
	if err != nil {
		panic(err) // strings and numbers only
	}
	ascii := make([]byte, 0, len(text))
	for _, r := range string(text) {
		switch high, low := utf16.EncodeRune(r); {
		case r < utf8.RuneSelf:
			ascii = append(ascii, byte(r))
		case high != utf8.RuneError:
			ascii = fmt.Appendf(ascii, `\u%04x\u%04x`, high, low)
		default:
			ascii = fmt.Appendf(ascii, `\u%04x`, r)
		}
	}
	return ascii
}

// StepState is what the ledger says of one step.
type StepState struct {
	Number     step.Number
	Slug       string
	Status     Status
	Checksum   step.Checksum // of the text that was applied or vouched for
	Deployment string
	At         time.Time
	Actor      string
	DurationMS int64
	Seq        int64 // of the newest entry about it

	// for failed and in doubt
	progress    *Detail    // nil for most: a ledger has thousands of steps
	origin      *StepState // what it was when its way back began; nil unless that is under way
	Against     bool       // the newest repair was recorded against what the target showed
	OrderWaived bool       // run though the order was not kept: somebody waived that

	// Undermined is another step that was reversed since this one stopped
	// half-way; empty if none was.
	Undermined step.Number
}

// Progress is how far a step got that is not one transaction, where it failed or is in doubt; empty for
// others.
func (st StepState) Progress() Detail {
	if st.progress == nil {
		return Detail{}
	}
	return *st.progress
}

// WithProgress is the same state, with another progress.
func (st StepState) WithProgress(progress Detail) StepState {
	st.progress = &progress
	return st
}

// KeptOrder reports whether the step's place in the order says when it was carried
// out as somebody meant it: not where its order was waived, nor where it was
// attested, since nobody knows when that was done.
func (st StepState) KeptOrder() bool { return !st.OrderWaived && st.Status != StatusAttested }

// Partly reports whether a step that is not one transaction stopped at a known
// place, after some of it may have taken effect. For mode batches every place is
// known: the statement itself finds what is left.
func (st StepState) Partly() bool {
	p := st.progress
	switch {
	case p == nil:
		return false
	case p.Mode == step.Batches:
		return st.Status == StatusInDoubt || st.Status == StatusFailed && p.Rows > 0
	}
	return st.Status == StatusFailed && p.Mode != "" && (p.Statement > 1 || p.Left > 0)
}

// HalfDone is how many statements of the forward script took effect, of a step of
// mode autocommit that stopped before its last or whose way back is not finished;
// 0 for every other.
func (st StepState) HalfDone() int {
	p := st.Progress()
	if p.Direction == Back {
		if st.origin == nil {
			return 0
		}
		return st.origin.HalfDone()
	}
	if p.Mode != step.Autocommit || !st.Partly() || p.Statement > p.Of {
		return 0
	}
	return max(p.Statement-1, p.Left)
}

// Doubtful reports whether somebody, or the step's check, has to say what
// became of the step before it can go on.
func (st StepState) Doubtful() bool { return st.Status == StatusInDoubt && !st.Partly() }

// State is what a ledger adds up to.
type State struct {
	Head     Head
	Belongs  Owner                     // its zero value where no entry says
	Steps    map[step.Number]StepState // only steps that an entry names
	Baseline step.Number               // empty if there is none; "0" covers nothing
	covers   map[step.Number]bool      // nil: every number up to Baseline
	disorder map[string]bool           // deployments for which somebody waived the order
	half     map[step.Number]bool      // steps that may be half-done
	runs     map[string]run            // by deployment
	Order    []step.Number             // present steps, in the order in which they were run
}

// Fold adds entries up, oldest first. An empty ledger gives an empty state.
func Fold(entries []Entry) State {
	s := State{Head: NewHead(), Steps: make(map[step.Number]StepState, len(entries))}
	last := ""
	for _, e := range entries {
		s.fold(e)
		s.Head = e.Head()
		if e.ran() {
			s.noteRun(e, last)
			last = e.Deployment
		}
	}
	for _, e := range entries {
		st := s.Steps[e.Step]
		if st.Seq == e.Seq && (st.Status == StatusApplied || st.Status == StatusAttested) {
			s.Order = append(s.Order, e.Step)
		}
	}
	return s
}

// bare reports whether a detail says nothing, or is a proof alone, as that of most entries.
func bare(detail []byte) bool {
	const before, after, digits = `{"proof":"`, `"}`, 64
	return len(detail) <= 2 || len(detail) == len(before)+digits+len(after) &&
		bytes.HasPrefix(detail, []byte(before)) && bytes.Count(detail, []byte(`"`)) == 4
}

func (s *State) fold(e Entry) {
	var detail Detail
	if e.Action != Applied || !bare(e.Detail) {
		_ = json.Unmarshal(e.Detail, &detail) // entries of others may carry other details
	}
	if detail.Belongs != nil {
		s.Belongs = *detail.Belongs
	}
	switch e.Action {
	case Baselined:
		s.baseline(e, detail)
		return
	case Adopted:
		return
	case Applied, RolledBack, Attested, Amended, Begun, Failed, Settled:
	}
	next := StepState{
		Number: e.Step, Slug: e.Slug, Checksum: e.Checksum, Deployment: e.Deployment,
		At: e.At, Actor: e.Actor, DurationMS: e.DurationMS, Seq: e.Seq,
	}
	for _, w := range detail.Waived {
		if w.Check == WaivedOrder {
			if s.disorder == nil {
				s.disorder = map[string]bool{}
			}
			s.disorder[e.Deployment] = true
		}
	}
	before := s.Steps[e.Step]
	next.OrderWaived = s.disorder[e.Deployment] ||
		before.OrderWaived && e.Deployment == "" && e.Action != Attested // a word about what was run so
	if unfinished := before.Status == StatusFailed || before.Status == StatusInDoubt; unfinished &&
		detail.Direction != Back {
		detail.Left = max(detail.Left, before.Progress().Left)
	}
	switch e.Action {
	case Applied:
		next.Status = StatusApplied
	case Attested:
		next.Status, next.Against = StatusAttested, len(detail.Against) > 0
	case RolledBack:
		next.Status = StatusRolledBack
	case Begun:
		next.Status = StatusInDoubt
		next = next.WithProgress(detail)
	case Failed:
		next.Status = StatusFailed
		next = next.WithProgress(detail)
	case Amended:
		before.Checksum = e.Checksum
		next = before
		next.Against = before.Against || len(detail.Against) > 0
	case Settled:
		next = settle(next, before, detail)
		next.Against = len(detail.Against) > 0
	case Baselined, Adopted:
	}
	if detail.Direction == Back && (e.Action == Begun || e.Action == Failed) {
		next = next.goingBack(before)
	}
	if next.HalfDone() > 0 && before.HalfDone() > 0 {
		next.Undermined = before.Undermined
	}
	s.Steps[e.Step] = next
	s.undermine(e.Step, next)
}

// undermine marks the half-done steps beneath which another one was reversed.
func (s *State) undermine(number step.Number, st StepState) {
	delete(s.half, number)
	if st.Status == StatusRolledBack {
		for other := range s.half {
			half := s.Steps[other]
			half.Undermined = number
			s.Steps[other] = half
		}
	}
	if st.HalfDone() > 0 {
		if s.half == nil {
			s.half = map[step.Number]bool{}
		}
		s.half[number] = true
	}
}

func (s *State) baseline(e Entry, detail Detail) { // without a list, every number up to it is covered
	s.Baseline, s.covers = e.Step, nil
	if detail.Covers == nil {
		return
	}
	s.covers = make(map[step.Number]bool, len(detail.Covers))
	for _, number := range detail.Covers {
		s.covers[number] = true
	}
}

// goingBack keeps what a way back that is not finished leaves true: the step
// was there, with the checksum of its forward text.
func (st StepState) goingBack(before StepState) StepState {
	st.origin = before.origin
	if st.origin == nil {
		st.origin = &before
	}
	st.Checksum = st.origin.Checksum
	if st.Status == StatusFailed && !st.Partly() {
		return *st.origin // it failed as a whole: nothing was reversed
	}
	return st
}

// settle records what somebody says of what became of a step in doubt: as
// for the text that ran, so applied means reversed where it went back.
func settle(next, before StepState, detail Detail) StepState {
	back := before.Progress().Direction == Back
	switch {
	case detail.As == SettledUndone:
		next.Status = StatusRolledBack
	case detail.As == SettledWhole:
		next.Status = StatusApplied
		if before.origin != nil {
			next.Checksum = before.origin.Checksum
		}
	case detail.As == SettledAgain:
		progress := before.Progress()
		progress.Left = max(progress.Statement-1, progress.Left)
		progress.Statement, progress.Done, progress.Error, progress.SQLState = 1, "", "", ""
		next.Status, next.origin = StatusFailed, before.origin
		next = next.WithProgress(progress)
	case detail.As == SettledApplied && detail.Next > 0:
		progress := before.Progress()
		progress.Statement, progress.Done = detail.Next, detail.Done
		next.Status, next.origin = StatusFailed, before.origin
		next = next.WithProgress(progress)
	case detail.As == SettledApplied && back:
		next.Status = StatusRolledBack
	case detail.As == SettledApplied:
		next.Status = StatusApplied
	case back && before.origin != nil && before.Progress().Statement <= 1 && before.Progress().Rows == 0:
		origin := *before.origin
		origin.Seq = next.Seq
		return origin
	default:
		next.origin = before.origin
		next.Status = StatusFailed
		next.progress = before.progress // the next promotion goes on at the statement in doubt
	}
	return next
}

// Untouched reports whether no entry is about a step: nothing was run,
// attested or begun, and a baseline may still be recorded or corrected.
func (s State) Untouched() bool { return len(s.Steps) == 0 }

// Of gives a step's state; the baseline covers what no entry names.
func (s State) Of(number step.Number) StepState {
	if st, named := s.Steps[number]; named {
		return st
	}
	if s.Covers(number) {
		return StepState{Number: number, Status: StatusCovered}
	}
	return StepState{Number: number, Status: StatusPending}
}

// Covers reports whether the baseline covers a step: it was in the catalogue,
// at or below the baseline's number, when the baseline was recorded.
func (s State) Covers(number step.Number) bool {
	if s.covers != nil {
		return s.covers[number]
	}
	return s.Baseline != "" && s.Baseline != "0" && step.Compare(number, s.Baseline) <= 0
}

// At is the highest step whose effect is in the target: run or
// covered. It is empty for a target that has none.
func (s State) At() step.Number {
	at := s.Baseline
	if at == "0" {
		at = ""
	}
	for _, number := range s.Order {
		if step.Compare(number, at) > 0 {
			at = number
		}
	}
	return at
}
