// Package rehearsal tries a plan on a copy of its target before the target is touched:
// forward, the ways back, and forward again. It compares the schema after each step, and
// says which way back does not bring back what was there.
package rehearsal

import (
	"context"
	"fmt"
	"slices"
	"time"

	"vorrang/core/deploy"
	"vorrang/core/engine"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/step"
)

// State is what became of a rehearsal.
type State string

const (
	Running     State = "running"
	Ended       State = "ended"       // there is a result
	BrokenOff   State = "broken off"  // the copy could not be made, or was lost
	Cancelled   State = "cancelled"   // by a person
	Interrupted State = "interrupted" // the service ended
)

// WayBack is what became of a step's way back.
type WayBack string

const (
	Complete   WayBack = "complete"   // it left the schema that was there before
	Incomplete WayBack = "incomplete" // it left another
	Failed     WayBack = "failed"     // it did not end
	Missing    WayBack = "missing"    // the step has none
	Untried    WayBack = "not tried"  // a later step did not go back, or the step did not go forward
)

// Step is one step of a rehearsed plan.
type Step struct {
	Number    step.Number `json:"number"`
	Slug      string      `json:"slug"`
	ForwardMS int64       `json:"forward_ms" description:"How long it took, in milliseconds, on the copy."`
	BackMS    int64       `json:"back_ms,omitempty"`
	AgainMS   int64       `json:"again_ms,omitempty" description:"Forward the second time."`
	// Footprint is the first time forward, with the sizes that the target's tables have.
	Footprint *engine.Footprint `json:"footprint,omitempty" description:"Which tables it locked, wrote again and changed on the copy, with the sizes of the target's. Absent where the server does not tell; of steps whose statements commit by themselves only what was written again."`
	WayBack   WayBack           `json:"way_back" enum:"complete,incomplete,failed,missing,not tried"`

	// Differences are between what was there before the step and what its way back left.
	Differences []schema.Difference `json:"differences,omitempty" description:"How what its way back left differs from what was there before."`
	// Rows are the differences between the rows, where the copy has any.
	Rows []RowDifference `json:"rows,omitempty" description:"How the rows that its way back left differ from those that were there before."`
}

// Result is what a rehearsal found.
type Result struct {
	Passed  bool             `json:"passed"`
	Cloned  bool             `json:"cloned,omitempty" description:"The copy was one of a clone, with all rows."`
	Copied  []engine.Sampled `json:"copied,omitempty" description:"The tables of which rows were copied, and how many; absent where the copy had none."`
	Why     string           `json:"why,omitempty" description:"Why not, in words; the first thing that went wrong."`
	At      step.Number      `json:"at,omitempty" description:"The step at which it went wrong."`
	Failure *deploy.Failure  `json:"failure,omitempty"`
	Steps   []Step           `json:"steps" nullable:"false"`

	// Effect is what all steps did to the schema, the first time forward.
	Effect []schema.Difference `json:"effect,omitempty" description:"What the steps did to the schema together."`

	// Differences are between the first and the second time forward.
	Differences []schema.Difference `json:"differences,omitempty" description:"How the second time forward ended otherwise than the first."`
}

// Stage is a copy of a target, on which a plan is rehearsed.
type Stage struct {
	Runner *deploy.Runner                                   // on the copy
	Look   func(ctx context.Context) (schema.Schema, error) // reads the copy's schema
	Now    func() time.Time
	Sizes  review.Figures // of the target; empty where nobody counts
	// Later reads them again, for how much is written in a second; nil where nobody counts.
	Later func(ctx context.Context) (review.Figures, error)

	Cloned bool             // the copy has all rows
	Copied []engine.Sampled // the rows that it has, where it has some
	// Rows reads them, for comparing; nil where there are none to compare.
	Rows func(ctx context.Context, of schema.Schema) (engine.Contents, error)
	// Spilled is what went to the copy's temporary files so far, in bytes; nil where the server does
	// not tell.
	Spilled func(ctx context.Context) (int64, error)
	// Emit is told what happens, in order; it numbers the events.
	Emit func(deploy.Event)
}

// Run rehearses a plan, which goes forward. It blocks until the last step has ended. Its
// error is one of the stage's; what the steps do wrong is in the result.
func (s Stage) Run(ctx context.Context, p plan.Plan) (Result, error) {
	r := run{Stage: s, head: ledger.NewHead()}
	if r.Emit == nil {
		r.Emit = func(deploy.Event) {}
	}
	r.Result.Cloned, r.Result.Copied = s.Cloned, s.Copied
	err := r.rehearse(ctx, p)
	if err == nil {
		r.countWrites(ctx)
	}
	r.Passed = err == nil && r.Why == ""
	return r.Result, err
}

type run struct {
	Stage
	Result
	head   ledger.Head
	states []state           // before the first step, and after each
	seen   *engine.Footprint // of the action that ran last
}

// state is what the copy holds.
type state struct {
	schema schema.Schema
	rows   engine.Contents
}

// look reads what the copy holds.
func (r *run) look(ctx context.Context) (now state, err error) {
	if now.schema, err = r.Look(ctx); err == nil && r.Stage.Rows != nil {
		of := now.schema
		if len(r.states) > 0 {
			of = ofBoth(of, r.states[0].schema)
		}
		now.rows, err = r.Stage.Rows(ctx, of)
	}
	return now, err
}

func (r *run) rehearse(ctx context.Context, p plan.Plan) error {
	for _, a := range p.Actions {
		r.Steps = append(r.Steps, Step{Number: a.Step.Number, Slug: a.Step.Slug, WayBack: Untried})
	}
	start, err := r.look(ctx)
	if err != nil {
		return err
	}
	r.states = []state{start}
	r.round(len(p.Actions), "forward")
	for i, a := range p.Actions {
		if r.Steps[i].ForwardMS, err = r.act(ctx, a); err != nil || r.Why != "" {
			return err
		}
		r.Steps[i].Footprint = r.sized(r.seen)
		now, err := r.look(ctx)
		if err != nil {
			return err
		}
		r.states = append(r.states, now)
	}
	r.Effect = schema.Effect(start.schema, r.states[len(r.states)-1].schema)
	stays, err := r.back(ctx, p)
	if err != nil || r.Why != "" {
		return err
	}
	return r.again(ctx, p, stays)
}

// back takes the steps back, the newest first, as far as they have ways back, and says
// how many stay.
func (r *run) back(ctx context.Context, p plan.Plan) (stays int, err error) {
	r.round(len(p.Actions), "the ways back, the newest first")
	for i, a := range slices.Backward(p.Actions) {
		s := &r.Steps[i]
		if a.Step.Back == nil {
			s.WayBack = Missing
			return i + 1, nil
		}
		s.WayBack = Failed
		if s.BackMS, err = r.act(ctx, plan.Action{Direction: ledger.Back, Step: a.Step}); err != nil || r.Why != "" {
			return i + 1, err
		}
		now, err := r.look(ctx)
		if err != nil {
			return i, err
		}
		s.WayBack = Complete
		if s.Differences = schema.Compare(r.states[i].schema, now.schema); len(s.Differences) > 0 {
			s.WayBack = Incomplete
			r.wrong(
				s.Number,
				"the way back of step %s is incomplete: it leaves another schema than was there before: %s",
				s.Number, schema.Summary(s.Differences, 3),
			)
			return i, nil
		}
		if s.Rows = compareRows(r.states[i].rows, now.rows); len(s.Rows) > 0 {
			s.WayBack = Incomplete
			r.wrong(
				s.Number,
				"the way back of step %s is incomplete: it leaves other rows than were there before: %s",
				s.Number, rowSummary(s.Rows, 3),
			)
			return i, nil
		}
	}
	return 0, nil
}

// again runs once more what was taken back.
func (r *run) again(ctx context.Context, p plan.Plan, from int) (err error) {
	if from == len(p.Actions) {
		return nil
	}
	r.round(len(p.Actions)-from, "forward again")
	for i, a := range p.Actions[from:] {
		if r.Steps[from+i].AgainMS, err = r.act(ctx, a); err != nil || r.Why != "" {
			return err
		}
	}
	now, err := r.look(ctx)
	if err != nil {
		return err
	}
	first := r.states[len(r.states)-1]
	if r.Differences = schema.Compare(first.schema, now.schema); len(r.Differences) > 0 {
		r.wrong("", "the second time forward ended otherwise than the first: %s", schema.Summary(r.Differences, 3))
	}
	return nil
}

// act runs one action, and says how long it took, in milliseconds, as its deployment tells it: without what
// is only measured.
func (r *run) act(ctx context.Context, a plan.Action) (ms int64, err error) {
	r.seen = nil
	if _, tells := r.Runner.Target.(engine.Measurer); tells && a.Step.Options.Mode == step.Transaction {
		r.seen = &engine.Footprint{Tables: []engine.TableFootprint{}} // where it touches nothing, no event tells
	}
	runner := *r.Runner
	runner.Measure, runner.Thorough = true, true
	runner.Emit = func(e deploy.Event) {
		switch e.Kind {
		case deploy.Started, deploy.Ended: // of one step, of which a deployment was made
			return
		case deploy.Measured:
			r.seen = e.Footprint
		case deploy.StepDone, deploy.StepFailed:
			ms = e.DurationMS
		}
		r.tell(e)
	}
	spilled := r.spilled(ctx)
	result := runner.Run(ctx, r.head, plan.Plan{Direction: a.Direction, Actions: []plan.Action{a}})
	r.head = result.Head
	if r.seen != nil { // who heard of it reads it meanwhile
		seen := *r.seen
		seen.TempBytes = r.spilled(ctx) - spilled
		r.seen = &seen
	}
	if result.Outcome != deploy.Done {
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		r.Failure = result.Failure
		message := string(result.Outcome)
		if result.Failure != nil {
			message = result.Failure.Message
		}
		what := map[ledger.Direction]string{
			ledger.Forward: "step %s fails: %s",
			ledger.Back:    "the way back of step %s fails: %s",
		}
		r.wrong(a.Step.Number, what[a.Direction], a.Step.Number, message)
	}
	return ms, nil
}

// spilled is what went to temporary files so far; what cannot be read counts as nothing.
func (r *run) spilled(ctx context.Context) int64 {
	if r.Spilled == nil {
		return 0
	}
	bytes, _ := r.Spilled(ctx)
	return bytes
}

// tell tells what happened.
func (r *run) tell(e deploy.Event) {
	if e.At.IsZero() {
		e.At = r.Now()
	}
	r.Emit(e)
}

// round tells which part of the rehearsal begins.
func (r *run) round(of int, message string) {
	r.tell(deploy.Event{Kind: deploy.Round, Of: of, Message: message})
}

// sized puts the target's sizes in the place of the copy's, which has fewer rows.
func (r *run) sized(f *engine.Footprint) *engine.Footprint {
	if f == nil {
		return nil
	}
	sized := *f
	sized.Tables = slices.Clone(f.Tables)
	for i := range sized.Tables {
		size, _ := r.Sizes.SizeOf(sized.Tables[i].Table)
		sized.Tables[i].Bytes, sized.Tables[i].Rows = size.Bytes, size.Rows
	}
	return &sized
}

// countWrites puts how much others write to the target's tables beside what the steps do to
// them. What cannot be read is left out.
func (r *run) countWrites(ctx context.Context) {
	if r.Later == nil {
		return
	}
	later, err := r.Later(ctx)
	if err != nil {
		return
	}
	for _, s := range r.Steps {
		if s.Footprint == nil {
			continue
		}
		for i := range s.Footprint.Tables {
			t := &s.Footprint.Tables[i]
			t.Writes, _ = later.WritesSince(r.Sizes, t.Table)
		}
	}
}

func (r *run) wrong(at step.Number, format string, args ...any) {
	r.At, r.Why = at, fmt.Sprintf(format, args...)
}

// WaysBack says how far the ways back go, in words.
func (r Result) WaysBack() string {
	tried := 0
	for _, s := range slices.Backward(r.Steps) {
		if s.WayBack == Missing {
			return fmt.Sprintf("step %s has no way back, so those before it were not tried", s.Number)
		}
		if s.WayBack == Complete {
			tried++
		}
	}
	if tried < len(r.Steps) {
		return fmt.Sprintf("%d of %d ways back were tried", tried, len(r.Steps))
	}
	return "every way back leaves what was there before"
}
