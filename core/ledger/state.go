package ledger

import (
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
	Done      string        `json:"done,omitempty"`      // checksum of the statements before Statement
	Rows      int64         `json:"rows,omitempty"`      // changed so far, by a step of mode batches
	Error     string        `json:"error,omitempty"`
	SQLState  string        `json:"sqlstate,omitempty"`
	Reason    string        `json:"reason,omitempty"`  // of a repair
	Instead   step.Checksum `json:"instead,omitempty"` // of an amended step: the text that was applied
	As        string        `json:"as,omitempty"`      // of a settled step: SettledApplied or SettledNotApplied
	Next      int           `json:"next,omitempty"`    // of a step settled as applied: the statement to go on at, where any is left
	Seen      []string      `json:"seen,omitempty"`    // of a repair: what was found in the target, a line each
	Dropped   []string      `json:"dropped,omitempty"` // of a settled step: the invalid indexes that were dropped first

	Waived []Waived `json:"waived,omitempty"` // of a deployment's first step: the gate's checks that somebody waived for it

	// of a baseline
	Tables int           `json:"tables,omitempty"` // found in the application's schemas
	Covers []step.Number `json:"covers,omitempty"` // the catalogue's steps at or below it
}

// Waived is a check of the gate that somebody waived for one deployment.
type Waived struct {
	Check  string `json:"check"`
	By     string `json:"by"`
	Reason string `json:"reason"`
}

// WaivedOrder is the check whose waiver lets late steps be carried out.
const WaivedOrder = "order"

// What a step in doubt can be settled as.
const (
	SettledApplied    = "applied"
	SettledNotApplied = "not-applied"
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
	Progress   Detail     // how far a step got that is not one transaction
	origin     *StepState // what it was when its way back began; nil unless that is under way
	OutOfOrder bool       // carried out though the order was not kept: somebody waived that
}

// Partly reports whether a step that is not one transaction stopped at a known
// place, after some of it may have taken effect. For mode batches every place is
// known: the statement itself finds what is left.
func (st StepState) Partly() bool {
	if st.Progress.Mode == step.Batches {
		return st.Status == StatusInDoubt || st.Status == StatusFailed && st.Progress.Rows > 0
	}
	return st.Status == StatusFailed && st.Progress.Mode != "" && st.Progress.Statement > 1
}

// Doubtful reports whether somebody, or the step's check, has to say what
// became of the step before it can go on.
func (st StepState) Doubtful() bool { return st.Status == StatusInDoubt && !st.Partly() }

// State is what a ledger adds up to.
type State struct {
	Head     Head
	Steps    map[step.Number]StepState // only steps that an entry names
	Baseline step.Number               // empty if there is none; "0" covers nothing
	covers   map[step.Number]bool      // nil: every number up to Baseline
	disorder map[string]bool           // deployments for which somebody waived the order
	Order    []step.Number             // present steps, in the order in which they were carried out
}

// Fold adds entries up, oldest first. An empty ledger gives an empty state.
func Fold(entries []Entry) State {
	s := State{Head: NewHead(), Steps: make(map[step.Number]StepState, len(entries))}
	for _, e := range entries {
		s.fold(e)
		s.Head = e.Head()
	}
	for _, e := range entries {
		st := s.Steps[e.Step]
		if st.Seq == e.Seq && (st.Status == StatusApplied || st.Status == StatusAttested) {
			s.Order = append(s.Order, e.Step)
		}
	}
	return s
}

func (s *State) fold(e Entry) {
	if e.Action == Baselined {
		s.baseline(e)
		return
	}
	var detail Detail
	if e.Action != Applied || len(e.Detail) > 2 {
		_ = json.Unmarshal(e.Detail, &detail) // entries of others may carry other details
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
	next.OutOfOrder = s.disorder[e.Deployment]
	before := s.Steps[e.Step]
	switch e.Action {
	case Applied:
		next.Status = StatusApplied
	case Attested:
		next.Status = StatusAttested
	case RolledBack:
		next.Status = StatusRolledBack
	case Begun:
		next.Status, next.Progress = StatusInDoubt, detail
	case Failed:
		next.Status, next.Progress = StatusFailed, detail
	case Amended:
		before.Checksum = e.Checksum
		next = before
	case Settled:
		next = settle(next, before, detail)
	case Baselined:
	}
	if detail.Direction == Back && (e.Action == Begun || e.Action == Failed) {
		next = next.goingBack(before)
	}
	s.Steps[e.Step] = next
}

func (s *State) baseline(e Entry) {
	var detail Detail
	_ = json.Unmarshal(e.Detail, &detail) // without a list, every number up to it is covered
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

// settle carries out somebody's word on what became of a step in doubt: as
// for the text that ran, so applied means reversed where it went back.
func settle(next, before StepState, detail Detail) StepState {
	back := before.Progress.Direction == Back
	switch {
	case detail.As == SettledApplied && detail.Next > 0:
		next.Status, next.origin, next.Progress = StatusFailed, before.origin, before.Progress
		next.Progress.Statement, next.Progress.Done = detail.Next, detail.Done
	case detail.As == SettledApplied && back:
		next.Status = StatusRolledBack
	case detail.As == SettledApplied:
		next.Status = StatusApplied
	case back && before.origin != nil && before.Progress.Statement <= 1 && before.Progress.Rows == 0:
		origin := *before.origin
		origin.Seq = next.Seq
		return origin
	default:
		next.origin = before.origin
		next.Status = StatusFailed
		next.Progress = before.Progress // the next promotion goes on at the statement in doubt
	}
	return next
}

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

// At is the highest step whose effect is in the target: carried out or
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
