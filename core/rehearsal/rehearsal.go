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
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/schema"
	"vorrang/core/step"
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
	ForwardMS int64       `json:"forward_ms" description:"How long it took, in milliseconds, on a copy without rows."`
	BackMS    int64       `json:"back_ms,omitempty"`
	AgainMS   int64       `json:"again_ms,omitempty" description:"Forward the second time."`
	WayBack   WayBack     `json:"way_back" enum:"complete,incomplete,failed,missing,not tried"`

	// Differences are between what was there before the step and what its way back left.
	Differences []schema.Difference `json:"differences,omitempty" description:"How what its way back left differs from what was there before."`
}

// Result is what a rehearsal found.
type Result struct {
	Passed  bool            `json:"passed"`
	Why     string          `json:"why,omitempty" description:"Why not, in words; the first thing that went wrong."`
	At      step.Number     `json:"at,omitempty" description:"The step at which it went wrong."`
	Failure *deploy.Failure `json:"failure,omitempty"`
	Steps   []Step          `json:"steps" nullable:"false"`

	// Differences are between the first and the second time forward.
	Differences []schema.Difference `json:"differences,omitempty" description:"How the second time forward ended otherwise than the first."`
}

// Stage is a copy of a target, on which a plan is rehearsed.
type Stage struct {
	Runner *deploy.Runner                                   // on the copy
	Look   func(ctx context.Context) (schema.Schema, error) // reads the copy's schema
	Now    func() time.Time
}

// Run rehearses a plan, which goes forward. It blocks until the last step has ended. Its
// error is one of the stage's; what the steps do wrong is in the result.
func (s Stage) Run(ctx context.Context, p plan.Plan) (Result, error) {
	r := run{Stage: s, head: ledger.NewHead()}
	err := r.rehearse(ctx, p)
	r.Passed = err == nil && r.Why == ""
	return r.Result, err
}

type run struct {
	Stage
	Result
	head   ledger.Head
	states []schema.Schema // before the first step, and after each
}

func (r *run) rehearse(ctx context.Context, p plan.Plan) error {
	for _, a := range p.Actions {
		r.Steps = append(r.Steps, Step{Number: a.Step.Number, Slug: a.Step.Slug, WayBack: Untried})
	}
	start, err := r.Look(ctx)
	if err != nil {
		return err
	}
	r.states = []schema.Schema{start}
	for i, a := range p.Actions {
		if r.Steps[i].ForwardMS, err = r.act(ctx, a); err != nil || r.Why != "" {
			return err
		}
		now, err := r.Look(ctx)
		if err != nil {
			return err
		}
		r.states = append(r.states, now)
	}
	stays, err := r.back(ctx, p)
	if err != nil || r.Why != "" {
		return err
	}
	return r.again(ctx, p, stays)
}

// back takes the steps back, the newest first, as far as they have ways back, and says
// how many stay.
func (r *run) back(ctx context.Context, p plan.Plan) (stays int, err error) {
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
		now, err := r.Look(ctx)
		if err != nil {
			return i, err
		}
		s.WayBack = Complete
		if s.Differences = schema.Compare(r.states[i], now); len(s.Differences) > 0 {
			s.WayBack = Incomplete
			r.wrong(
				s.Number,
				"the way back of step %s is incomplete: it leaves another schema than was there before: %s",
				s.Number, schema.Summary(s.Differences, 3),
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
	for i, a := range p.Actions[from:] {
		if r.Steps[from+i].AgainMS, err = r.act(ctx, a); err != nil || r.Why != "" {
			return err
		}
	}
	now, err := r.Look(ctx)
	if err != nil {
		return err
	}
	if r.Differences = schema.Compare(r.states[len(r.states)-1], now); len(r.Differences) > 0 {
		r.wrong("", "the second time forward ended otherwise than the first: %s", schema.Summary(r.Differences, 3))
	}
	return nil
}

// act carries one action out, and says how long it took, in milliseconds.
func (r *run) act(ctx context.Context, a plan.Action) (ms int64, err error) {
	began := r.Now()
	result := r.Runner.Run(ctx, r.head, plan.Plan{Direction: a.Direction, Actions: []plan.Action{a}})
	r.head = result.Head
	if result.Outcome != deploy.Done {
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		r.Failure = result.Failure
		says := string(result.Outcome)
		if result.Failure != nil {
			says = result.Failure.Message
		}
		what := map[ledger.Direction]string{
			ledger.Forward: "step %s fails: %s",
			ledger.Back:    "the way back of step %s fails: %s",
		}
		r.wrong(a.Step.Number, what[a.Direction], a.Step.Number, says)
	}
	return r.Now().Sub(began).Milliseconds(), nil
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
