package service

import (
	"context"
	"fmt"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/gate"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/sqltext"
	"vorrang/core/step"
	"vorrang/service/api"
)

// stepEvidence is a step's text beside what a target shows of it.
type stepEvidence struct {
	standing   plan.Standing
	statements []sqltext.Statement
	step       evidence.Evidence // of the step, with its check
	statement  evidence.Evidence // of the statement in doubt, with the step's check

	verdict evidence.Verdict
	why     string
}

// evidenceOf looks, reading only, what a target shows of a step: of the text that
// was begun where the step is unfinished, and of the catalogue's otherwise.
func (s *targets) evidenceOf(
	ctx context.Context, p targetContext, session engine.Session, standing plan.Standing,
) (stepEvidence, error) {
	e := stepEvidence{standing: standing, verdict: evidence.Unclear}
	known, back := standing.Step, standing.State.Progress().Direction == ledger.Back
	if unfinished(standing.State) {
		begun, found := s.versions(ctx, p)(standing.Step.Number, standing.State.Checksum)
		if !found {
			return e, fmt.Errorf("the text that step %s was begun with is not in the catalogue", standing.Step.Number)
		}
		known = begun
	}
	file, check := known.Forward, known.Check
	if back && known.Back != nil {
		file, check = *known.Back, nil
	}
	var err error
	if e.statements, err = s.statements(ctx, p, file.Checksum); err != nil {
		return e, err
	}
	var queries []sqltext.Statement
	if check != nil {
		if queries, err = s.statements(ctx, p, check.Checksum); err != nil {
			return e, err
		}
	}
	progress := standing.State.Progress()
	all, one := p.dialect().
		Objects(e.statements, 1, 0),
		p.dialect().
			Objects(e.statements, progress.Statement, progress.Statement)
	settings := defaults(p)
	seen, outcomes, err := session.Peek(ctx, settings, append(all.Objects, one.Objects...), queries)
	if err != nil {
		return e, err
	}
	n := len(all.Objects)
	e.step = evidence.Evidence{
		Check:        outcomes,
		Observations: seen[:n:n],
		Unverifiable: append([]evidence.Unverifiable{}, all.Unverifiable...),
	}
	e.statement = evidence.Evidence{
		Check:        outcomes,
		Observations: seen[n:],
		Unverifiable: append([]evidence.Unverifiable{}, one.Unverifiable...),
	}
	switch {
	case !standing.State.Doubtful():
		e.verdict, e.why = "", ""
	default:
		e.verdict, e.why = judge(e.statement, progress, back)
	}
	return e, nil
}

// judge says what became of a statement in doubt: by what was there before it began,
// where that was noted and tells, and else by the step's check.
func judge(e evidence.Evidence, progress ledger.Detail, back bool) (evidence.Verdict, string) {
	if len(progress.Before) > 0 {
		if verdict, why := evidence.JudgeWhole(e, progress.Before); verdict != evidence.Unclear {
			return verdict, why
		}
	}
	if back {
		return evidence.Unclear, "it was going back, and a way back has no check that could decide"
	}
	return evidence.Judge(e, progress.Statement, progress.Of)
}

func unfinished(st ledger.StepState) bool { return st.Status == ledger.StatusInDoubt || st.Partly() }

func (s *targets) statements(
	ctx context.Context, p targetContext, checksum step.Checksum,
) ([]sqltext.Statement, error) {
	text, err := s.Records.Text(ctx, checksum)
	if err != nil {
		return nil, err
	}
	return p.dialect().Cut(text)
}

// dialect is the SQL of a lane's engine.
func (s *targets) dialect(l lane.Lane) (engine.Dialect, error) {
	kind, err := s.Engines.Named(l.Engine)
	if err != nil {
		return nil, err
	}
	return kind.Dialect(), nil
}

// doubts says of every step in doubt what the target shows of it.
func (s *targets) doubts(
	ctx context.Context, p targetContext, session engine.Session, view plan.View,
) ([]gate.Doubt, error) {
	var doubts []gate.Doubt
	for _, standing := range view.InDoubt() {
		e, err := s.evidenceOf(ctx, p, session, standing)
		if err != nil && session.Closed() {
			return nil, err
		}
		if err != nil {
			e.why = err.Error()
		}
		doubts = append(doubts, gate.Doubt{Step: standing.Step.Number, Verdict: e.verdict, Why: e.why})
	}
	return doubts, nil
}

type evidenceIn struct {
	Lane        string `path:"lane"`
	Environment string `path:"environment"`
	Step        string `path:"step"`
}

// evidence says what a target shows of a step. It changes nothing.
func (s *repairs) evidence(c call, in *evidenceIn) (*api.Evidence, error) {
	p, err := s.targets.place(c, in.Lane, in.Environment)
	if err != nil {
		return nil, err
	}
	number, err := step.ParseNumber(in.Step)
	if err != nil {
		return nil, badRequest(nil, "step: %s", err)
	}
	session, err := s.targets.connect(c, p, "vorrangd evidence")
	if err != nil {
		return nil, err
	}
	defer session.Close()
	facts, _, err := s.targets.look(c, p, session)
	if err != nil {
		return nil, err
	}
	standing, known := facts.View.Find(number)
	if !known || standing.Has(plan.Absent) && !unfinished(standing.State) {
		return nil, notFound("step "+string(number)+" in the lane", in.Lane, nil)
	}
	e, err := s.targets.evidenceOf(c, p, session, standing)
	if err != nil {
		return nil, err
	}
	shown := evidenceOf(e)
	return &shown, nil
}

func evidenceOf(e stepEvidence) api.Evidence {
	shown := api.Evidence{
		StepRef:  api.StepRef{Number: e.standing.Step.Number, Slug: e.standing.Step.Slug},
		State:    e.standing.State.Status,
		Evidence: e.step,
		Wrong:    e.step.Wrong(),
		Lines:    e.step.Lines(),
		Invalid:  []string{},
		Verdict:  e.verdict,
		Why:      e.why,
	}
	for _, o := range e.step.Invalid() {
		shown.Invalid = append(shown.Invalid, o.String())
	}
	if progress := e.standing.State.Progress(); unfinished(e.standing.State) {
		shown.Statement, shown.Of = progress.Statement, progress.Of
		if i := progress.Statement - 1; i >= 0 && i < len(e.statements) {
			shown.Line = e.statements[i].Line
			shown.SQL, _ = shorten(e.statements[i].SQL, 2000)
		}
	}
	return shown
}
