package deploy

import (
	"context"

	"vorrang/core/plan"
	"vorrang/core/schema"
)

// MostLooks is how many steps a deployment may have whose effects are checked
// while it runs. Of a larger one the looks would take longer than the steps.
const MostLooks = 200

const mostObjects = 1000 // of one effect that are listed

// effects says after each step what it did to the schema.
type effects struct {
	run    *run
	before schema.Schema
	left   *schema.Schema // what the last look saw, where nothing followed
	steps  bool           // each by itself
	unseen bool           // something ran since the last look
	blind  bool           // nothing more can be seen, or it is not asked for
}

// newEffects looks at the schema as it is before the first step.
func newEffects(r *run, ctx context.Context, p plan.Plan) *effects {
	e := &effects{run: r, steps: !p.Whole, blind: r.Look == nil, unseen: p.Whole}
	switch {
	case e.blind:
	case r.Base != nil:
		e.before = *r.Base
	default:
		e.before, _ = e.look(ctx, false)
	}
	return e
}

func (e *effects) look(ctx context.Context, last bool) (schema.Schema, bool) {
	now, err := e.run.Look(ctx, last)
	if err != nil {
		e.blind = true
		if ctx.Err() == nil {
			e.run.emit(
				Event{
					Kind:     Notice,
					Severity: "WARNING",
					Message:  "what the steps do to the schema cannot be seen: " + err.Error(),
				},
			)
		}
	}
	return now, err == nil
}

// of says what a step did that has just ended.
func (e *effects) of(ctx context.Context, s script) {
	e.left = nil
	if e.blind || !e.run.changesSchema(s) {
		return
	}
	if e.unseen = true; e.steps {
		e.tell(ctx)
	}
}

// rest says what the steps did that were not checked one by one.
func (e *effects) rest(ctx context.Context) {
	if !e.blind && e.unseen {
		e.tell(context.WithoutCancel(ctx)) // a cancelled deployment has an effect too
	}
}

func (e *effects) tell(ctx context.Context) {
	if e.run.Target.InTransaction() {
		return
	}
	last := len(e.run.ahead) == 0
	now, seen := e.look(ctx, last)
	if !seen {
		return
	}
	if last {
		e.left = &now
	}
	differences := schema.Effect(e.before, now)
	e.before, e.unseen = now, false
	if len(differences) == 0 {
		return
	}
	e.run.emit(EffectOf(differences))
}

// EffectOf is the event that tells of an effect, without its number and time.
func EffectOf(differences []schema.Difference) Event {
	listed := differences[:min(len(differences), mostObjects)]
	return Event{Kind: Effect, Effect: listed, More: len(differences) - len(listed)}
}

// changesSchema reports whether a script may change the schema: whether it has
// a statement that is not about rows only.
func (r *run) changesSchema(s script) bool {
	for _, statement := range s.statements {
		if !r.Dialect.OnlyRows(statement) {
			return true
		}
	}
	return false
}
