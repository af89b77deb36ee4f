package deploy

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/ledger"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// autocommit runs a script statement by statement. Before each, a begun
// row is committed, so that a statement whose end nobody saw is known.
func (r *run) autocommit(ctx context.Context, s script, started time.Time) *Failure {
	from := max(r.step.Resume, 1)
	p := progress{script: s, started: started, from: from, at: from}
	for _, statement := range s.statements[:min(from-1, len(s.statements))] {
		p.sum.Add(statement)
	}
	p.done = p.sum.Total()
	if from > 1 && (from > len(s.statements)+1 || p.done != r.step.Done) {
		return &Failure{Step: r.step.Step.Number, File: s.file, Line: 1, Column: 1, Message: fmt.Sprintf(
			"an earlier try ran the statements before number %d, and these were changed since; put them back as they were",
			from,
		)}
	}
	if err := r.Target.Prepare(ctx, r.settings(s.options)); err != nil {
		failure := r.fail(s, 0, err)
		if r.next != nil { // it is said already that the step begins
			r.next = nil
			return r.stopAt(ctx, &p, failure)
		}
		return failure
	}
	if failure := r.sessionAgain(ctx, &p); failure != nil {
		return failure
	}
	skip, failure := r.unneeded(ctx, p.script)
	if failure != nil {
		return failure
	}
	for i := from - 1; i < len(s.statements); i++ {
		if skip[i] {
			p.sum.Add(s.statements[i])
			continue
		}
		if failure := r.one(ctx, &p, i); failure != nil {
			return failure
		}
	}
	return r.afterLast(ctx, &p)
}

// sessionAgain gives a script that goes on in a new session the settings that it
// made in the one that is gone.
func (r *run) sessionAgain(ctx context.Context, p *progress) *Failure {
	before, rest := p.statements[:p.from-1], p.statements[p.from-1:]
	session := r.Dialect.SessionOf(before)
	if s, why := Unresumable(session, rest); why != "" {
		line, column := step.Position(p.text, s.Offset)
		return &Failure{
			Step:    r.step.Step.Number,
			File:    p.file,
			Line:    line,
			Column:  column,
			Message: why,
			Left:    "what the earlier tries did; this one ran nothing",
		}
	}
	for _, again := range session.Again {
		r.emit(
			Event{
				Kind:     Notice,
				Severity: "NOTICE",
				Message: fmt.Sprintf(
					"line %d runs again, for the session: %s",
					again.Line, step.Head(again.SQL, mostShown),
				),
			},
		)
		i := slices.IndexFunc(before, func(s sqltext.Statement) bool { return s.Offset == again.Offset })
		if _, failure, _ := r.exec(ctx, p.script, i); failure != nil {
			return r.stopAt(ctx, p, failure)
		}
	}
	return nil
}

const mostShown = 200 // bytes of a statement in a notice

// Unresumable says why the rest of a script cannot run in a session other than
// that of its beginning, and which statement of the rest shows it; an empty text
// means that it can.
func Unresumable(session sqltext.Session, rest []sqltext.Statement) (sqltext.Statement, string) {
	for _, lost := range session.Lost {
		if s, needs := lost.NeededBy(rest); needs {
			return s, fmt.Sprintf("line %d may need %s, which went with the session of an earlier try", s.Line, lost)
		}
	}
	return sqltext.Statement{}, ""
}

// unneeded finds the statements of a way back that have nothing to undo, since
// only a part of the step took effect.
func (r *run) unneeded(ctx context.Context, s script) (map[int]bool, *Failure) {
	if r.step.Half == 0 {
		return nil, nil
	}
	skip := map[int]bool{}
	seen := make([][]evidence.Observation, len(s.statements))
	for i, objects := range evidence.Targets(r.Dialect.Objects, s.statements) {
		var err error
		if seen[i], err = r.Target.Observations(ctx, objects); err != nil {
			return nil, r.fail(s, i, err)
		}
	}
	run, err := evidence.Undo(s.statements, r.Dialect.SessionOf(s.statements), seen)
	if err != nil {
		return nil, &Failure{
			Step:    r.step.Step.Number,
			File:    s.file,
			Message: "only a part of the step took effect, and " + err.Error(),
			Left:    "what it was before; nothing of the way back ran",
		}
	}
	for i, needed := range run {
		if skip[i] = !needed; skip[i] {
			r.emit(
				Event{
					Kind:     Notice,
					Severity: "NOTICE",
					Message: fmt.Sprintf(
						"statement %d of the way back (line %d) has nothing to undo, and is passed over",
						i+1, s.statements[i].Line,
					),
				},
			)
		}
	}
	return skip, nil
}

// progress is how far an autocommit script has come for good.
type progress struct {
	script
	started time.Time
	from    int         // the statement that this try began at, from 1
	at      int         // the statement to go on at if this try ends, from 1
	done    string      // checksum of the statements before it
	sum     sqltext.Sum // of all statements that ran
	ran     bool        // something ran in this try
}

func (p *progress) detail() *ledger.Detail {
	return &ledger.Detail{Statement: p.at, Of: len(p.statements), Done: p.done}
}

// one runs the statement with an index, in autocommit.
func (r *run) one(ctx context.Context, p *progress, i int) *Failure {
	switch {
	case r.next != nil:
		r.next = nil // its begun row is there
	case !r.Target.InTransaction():
		p.at, p.done = i+1, p.sum.Total()
		detail := p.detail()
		var err error
		if detail.Before, err = r.before(ctx, p.script, i); err != nil {
			return r.fail(p.script, i, err)
		}
		if err := r.append(ctx, r.entry(ledger.Begun, p.script, 0, detail)); err != nil {
			return r.fail(p.script, i, err)
		}
	}
	r.tell(p.script, i)
	failure := r.retry(ctx, p.script, func() (*Failure, error) {
		_, failure, err := r.exec(ctx, p.script, i)
		if failure != nil && (r.Target.InTransaction() || !r.swept(ctx, p.statements[i], failure)) {
			err = errNoRetry
		}
		return failure, err
	})
	if failure == nil {
		p.ran = true
		p.sum.Add(p.statements[i])
		return nil
	}
	r.undo(ctx)
	return r.stopAt(ctx, p, failure)
}

// before looks what of a statement's objects is there before it begins, where that can
// tell afterwards what became of it.
func (r *run) before(ctx context.Context, s script, i int) ([]string, error) {
	if !r.Dialect.Whole(s.statements[i]) {
		return nil, nil
	}
	looked, err := r.Target.Observations(ctx, evidence.Telling(r.Dialect.Objects(s.statements, i+1, i+1).Objects))
	return evidence.Before(looked), err
}

// errNoRetry stands for the error of a statement that is not tried again: where
// its transaction has failed as a whole, or where a second try would only
// stumble over the remains of the first.
var errNoRetry = errors.New("no second try")

// concurrently finds the other statements whose failure may leave remains.
var concurrently = regexp.MustCompile(`(?i)\bconcurrently\b`)

// swept takes away the invalid index that a concurrent build leaves when it
// fails. It returns false if something of the statement is still there.
func (r *run) swept(ctx context.Context, s sqltext.Statement, f *Failure) bool {
	index, builds := r.Dialect.ConcurrentIndex(s)
	sweeper, can := r.Target.(engine.Sweeper)
	switch {
	case !builds || !can:
		return !concurrently.Match(s.SQL)
	case f.Lost, f.kind == engine.Duplicate: // an index that was there before is not this try's
		return false
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), cleanUp)
	defer cancel()
	dropped, err := sweeper.DropInvalid(ctx, index)
	if err != nil {
		r.emit(Event{Kind: Notice, Severity: "WARNING", Message: err.Error() + "; drop it by hand before the next try"})
		return false
	}
	if dropped {
		r.emit(
			Event{
				Kind:     Notice,
				Severity: "NOTICE",
				Message:  fmt.Sprintf("the %s, left INVALID by the build that failed, was dropped", index),
			},
		)
	}
	return true
}

// afterLast runs the check and records the step.
func (r *run) afterLast(ctx context.Context, p *progress) *Failure {
	last := len(p.statements) - 1
	if r.Target.InTransaction() {
		r.undo(ctx)
		return r.stopAt(
			ctx, p,
			r.fail(p.script, last, errors.New("the script leaves its transaction open; end it with COMMIT")),
		)
	}
	p.at, p.done = len(p.statements)+1, p.sum.Total()
	if failure := r.remains(ctx, p); failure != nil {
		return failure
	}
	r.announce(ctx)
	err := r.Target.Begin(ctx, r.settings(p.options))
	if err != nil {
		r.next = nil
		return r.stopAt(ctx, p, r.fail(p.script, last, err))
	}
	failure, _ := r.finish(ctx, p.script, p.started, nil)
	if failure == nil {
		return nil
	}
	r.undo(ctx)
	return r.stopAt(ctx, p, failure)
}

// remains makes sure that nothing of a half-done step is left once its way back
// has run.
func (r *run) remains(ctx context.Context, p *progress) *Failure {
	if r.step.Half == 0 {
		return nil
	}
	last := len(p.statements) - 1
	looked, err := r.Target.Observations(ctx, evidence.Effects(r.Dialect.Objects, p.forward, r.step.Half))
	if err != nil {
		return r.stopAt(ctx, p, r.fail(p.script, last, err))
	}
	if left := evidence.Remains(looked); len(left) > 0 {
		if !p.ran && p.from == 1 { // nothing was reversed: the step is as far as it came
			p.at, p.done = 1, ""
		}
		return r.stopAt(
			ctx, p,
			r.fail(
				p.script, last,
				errors.New("the way back ran, and of what the step did this is left: "+strings.Join(left, ", ")),
			),
		)
	}
	return nil
}

// again names what goes on with the step under way.
func (r *run) again() string {
	if r.step.Direction == ledger.Back {
		return "rollback"
	}
	return "promotion"
}

// stopAt notes where an autocommit step stopped, and what it left behind.
func (r *run) stopAt(ctx context.Context, p *progress, f *Failure) *Failure {
	n := len(p.statements)
	f.Partly = p.at > p.from
	if p.at <= n {
		f.half = p.at - 1
	}
	switch {
	case f.Lost:
		f.Left = fmt.Sprintf("nobody saw how statement %d of %d ended; the step is in doubt", min(p.at, n), n)
	case p.at == 1:
		f.Left = "nothing: the step's first statement failed"
	case p.at > n:
		f.Left = "all statements took effect and stay; the next " + r.again() + " only runs the check again"
	default:
		f.Left = fmt.Sprintf(
			"the statements before number %d of %d took effect and stay; the next %s goes on there",
			p.at, n, r.again(),
		)
	}
	r.note(ctx, p.script, f, p.started, p.detail())
	return f
}
