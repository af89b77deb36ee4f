package deploy

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"regexp"
	"time"

	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// cleanUp is how long ending a transaction or noting a failure may take once a
// deployment is being cancelled.
const cleanUp = 10 * time.Second

// script is one file of a step, cut, with the check that follows it.
type script struct {
	options    step.Options
	file       string
	checksum   step.Checksum
	text       []byte
	statements []sqltext.Statement
	check      *script
}

// load fetches and cuts what the step under way will run.
func (r *run) load(ctx context.Context) (script, *Failure) {
	s := r.step.Step
	if r.step.Direction == ledger.Back {
		return r.cut(ctx, *s.Back)
	}
	main, failure := r.cut(ctx, s.Forward)
	if failure == nil && s.Check != nil {
		var check script
		check, failure = r.cut(ctx, *s.Check)
		main.check = &check
	}
	return main, failure
}

func (r *run) cut(ctx context.Context, file plan.Text) (script, *Failure) {
	s := script{options: r.step.Step.Options, file: file.Name, checksum: file.Checksum}
	var err error
	if s.text, err = r.Texts(ctx, file.Checksum); err != nil {
		return s, &Failure{Step: r.step.Step.Number, File: file.Name, Line: 1, Column: 1,
			Message: "its text could not be read from the catalogue: " + err.Error()}
	}
	if s.statements, err = sqltext.Cut(s.text); err != nil {
		f := &Failure{Step: r.step.Step.Number, File: file.Name, Message: err.Error()}
		var place *sqltext.Error
		if errors.As(err, &place) {
			f.Line, f.Column, f.Message = place.Line, place.Column, place.Message
		}
		return s, f
	}
	return s, nil
}

func (r *run) fail(s script, index int, err error) *Failure {
	f := failureOf(r.step.Step.Number, s.file, s.text, s.statements[index], err)
	f.Statement, f.Of = index+1, len(s.statements)
	return f
}

// tell emits the beginning of a statement: of every one in a short script, and
// of some fifty in a long one.
func (r *run) tell(s script, index int) {
	n := len(s.statements)
	if n < 2 || (n > 50 && index%(n/50) != 0) {
		return
	}
	r.emit(Event{Kind: Statement, Statement: index + 1, Of: n, Line: s.statements[index].Line})
}

// transaction carries a script out in one transaction, with its check and its
// ledger row.
func (r *run) transaction(ctx context.Context, s script, started time.Time) *Failure {
	failure := r.retry(ctx, s, func() (*Failure, error) {
		failure, err := r.attempt(ctx, s, started)
		if failure != nil {
			r.undo(ctx)
			failure.Left = "nothing: the step's transaction was rolled back"
			if failure.Lost {
				failure.Left = "the server rolls an unfinished transaction back by itself; vorrang status shows what the ledger says"
			}
		}
		return failure, err
	})
	if failure != nil && ctx.Err() == nil {
		r.note(ctx, s, failure, started, &ledger.Detail{Statement: 1, Of: len(s.statements)})
	}
	return failure
}

func (r *run) attempt(ctx context.Context, s script, started time.Time) (*Failure, error) {
	if err := r.Target.Begin(ctx, r.settings(s.options)); err != nil {
		return r.fail(s, 0, err), err
	}
	for i, statement := range s.statements {
		r.tell(s, i)
		if err := r.Target.Exec(ctx, statement); err != nil {
			return r.fail(s, i, err), err
		}
	}
	return r.finish(ctx, s, started)
}

// finish runs the check and commits, in the transaction that is open.
func (r *run) finish(ctx context.Context, s script, started time.Time) (*Failure, error) {
	last := len(s.statements) - 1
	if !r.Target.InTransaction() {
		err := errors.New("the script ended Vorrang's transaction by itself; take COMMIT and ROLLBACK out of it")
		return r.fail(s, last, err), err
	}
	if s.check != nil {
		if failure, err := r.holds(ctx, *s.check); failure != nil {
			return failure, err
		}
	}
	entry := r.entry(r.finished(), s, r.Now().Sub(started), nil)
	if s.options.Mode != step.Transaction {
		entry = r.entry(r.finished(), s, r.Now().Sub(started), &ledger.Detail{})
	}
	if err := r.Target.Commit(ctx, entry); err != nil {
		f := r.fail(s, last, err)
		if !f.Lost {
			f.Message = "at the end of the step's transaction: " + f.Message
		}
		return f, err
	}
	r.head = entry.Head()
	return nil, nil
}

func (r *run) holds(ctx context.Context, check script) (*Failure, error) {
	for i, query := range check.statements {
		holds, got, err := r.Target.Holds(ctx, query)
		if err == nil && !holds {
			err = fmt.Errorf("the check does not hold: it gave %s, and must give one row with true in every column", got)
		}
		if err != nil {
			return r.fail(check, i, err), err
		}
	}
	return nil, nil
}

// undo ends an open transaction, also when the deployment is being cancelled.
func (r *run) undo(ctx context.Context) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), cleanUp)
	defer cancel()
	_ = r.Target.Rollback(ctx) // a lost connection rolls back by itself
}

// note writes down that the step failed. Where the connection is gone it
// cannot, and the ledger stays as it was.
func (r *run) note(ctx context.Context, s script, f *Failure, started time.Time, detail *ledger.Detail) {
	if f.Lost {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), cleanUp)
	defer cancel()
	detail.Error, detail.SQLState = f.Message, f.SQLState
	entry := r.entry(ledger.Failed, s, r.Now().Sub(started), detail)
	if err := r.Target.Append(ctx, entry); err != nil {
		r.emit(Event{Kind: Notice, Severity: "WARNING", Message: "the failure could not be noted in the ledger: " + err.Error()})
		return
	}
	r.head = entry.Head()
}

// autocommit carries a script out statement by statement. Before each, a begun
// row is committed, so that a statement whose end nobody saw is known.
func (r *run) autocommit(ctx context.Context, s script, started time.Time) *Failure {
	from := max(r.step.Resume, 1)
	p := progress{script: s, started: started, at: from, sum: sha256.New()}
	for _, statement := range s.statements[:min(from-1, len(s.statements))] {
		p.add(statement)
	}
	p.done = p.total()
	if from > 1 && (from > len(s.statements)+1 || p.done != r.step.Done) {
		return &Failure{Step: r.step.Step.Number, File: s.file, Line: 1, Column: 1, Message: fmt.Sprintf(
			"an earlier try carried out the statements before number %d, and these were changed since; put them back as they were", from)}
	}
	if err := r.Target.Prepare(ctx, r.settings(s.options)); err != nil {
		return r.fail(s, 0, err)
	}
	for i := from - 1; i < len(s.statements); i++ {
		if failure := r.one(ctx, &p, i); failure != nil {
			return failure
		}
	}
	return r.afterLast(ctx, &p)
}

// progress is how far an autocommit script has come for good.
type progress struct {
	script
	started time.Time
	at      int       // the statement to go on at if this try ends, from 1
	done    string    // checksum of the statements before it
	sum     hash.Hash // of all statements that ran
}

func (p *progress) add(s sqltext.Statement) {
	for _, part := range [][]byte{s.SQL, {0}, s.CopyData, {0}} {
		p.sum.Write(part)
	}
}

func (p *progress) total() string { return hex.EncodeToString(p.sum.Sum(nil)) }

func (p *progress) detail() *ledger.Detail {
	return &ledger.Detail{Statement: p.at, Of: len(p.statements), Done: p.done}
}

// one carries out the statement with an index, in autocommit.
func (r *run) one(ctx context.Context, p *progress, i int) *Failure {
	if !r.Target.InTransaction() {
		p.at, p.done = i+1, p.total()
		entry := r.entry(ledger.Begun, p.script, 0, p.detail())
		if err := r.Target.Append(ctx, entry); err != nil {
			return r.fail(p.script, i, err)
		}
		r.head = entry.Head()
	}
	r.tell(p.script, i)
	failure := r.retry(ctx, p.script, func() (*Failure, error) {
		err := r.Target.Exec(ctx, p.statements[i])
		if err == nil {
			return nil, nil
		}
		failure := r.fail(p.script, i, err)
		if r.Target.InTransaction() || concurrently.Match(p.statements[i].SQL) {
			err = errNoRetry
		}
		return failure, err
	})
	if failure == nil {
		p.add(p.statements[i])
		return nil
	}
	r.undo(ctx)
	return r.stopAt(ctx, p, failure)
}

// A statement is not tried again where its transaction has failed as a whole,
// nor where a second try would only stumble over the invalid index that the
// first one left.
var (
	errNoRetry   = errors.New("no second try")
	concurrently = regexp.MustCompile(`(?i)\bconcurrently\b`)
)

// afterLast runs the check and records the step.
func (r *run) afterLast(ctx context.Context, p *progress) *Failure {
	last := len(p.statements) - 1
	if r.Target.InTransaction() {
		r.undo(ctx)
		return r.stopAt(ctx, p, r.fail(p.script, last, errors.New("the script leaves its transaction open; end it with COMMIT")))
	}
	p.at, p.done = len(p.statements)+1, p.total()
	err := r.Target.Begin(ctx, r.settings(p.options))
	if err != nil {
		return r.stopAt(ctx, p, r.fail(p.script, last, err))
	}
	failure, _ := r.finish(ctx, p.script, p.started)
	if failure == nil {
		return nil
	}
	r.undo(ctx)
	return r.stopAt(ctx, p, failure)
}

// stopAt notes where an autocommit step stopped, and what it left behind.
func (r *run) stopAt(ctx context.Context, p *progress, f *Failure) *Failure {
	n := len(p.statements)
	switch {
	case f.Lost:
		f.Left = fmt.Sprintf("nobody saw how statement %d of %d ended; the step is in doubt", min(p.at, n), n)
	case p.at == 1:
		f.Left = "nothing of the step took effect; but a concurrent index build that fails leaves an index marked INVALID, to be dropped before the next try"
	case p.at > n:
		f.Left = "all statements took effect and stay; the next promotion only runs the check again"
	default:
		f.Left = fmt.Sprintf("the statements before number %d of %d took effect and stay; the next promotion goes on there", p.at, n)
	}
	r.note(ctx, p.script, f, p.started, p.detail())
	return f
}
