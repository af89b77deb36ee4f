package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/internal/plural"
	"vorrang/internal/safely"
	"vorrang/records"
	"vorrang/service/api"
)

type submitIn struct {
	Lane string `path:"lane"`
	Gone string `query:"gone" description:"Numbers, joined by commas, of steps that are to leave the catalogue, or whose number another step takes."`
}

// submit takes a step folder as a tar stream. Files are kept as they come, so
// that never more than one of them is in memory.
func (s *catalogue) submit(c call, in *submitIn) (*api.Submitted, error) {
	return s.take(c, in, false)
}

// trySubmit says what submit would do, and changes nothing.
func (s *catalogue) trySubmit(c call, in *submitIn) (*api.Submitted, error) {
	return s.take(c, in, true)
}

func (s *catalogue) take(c call, in *submitIn, trial bool) (*api.Submitted, error) {
	gone, err := numbers(in.Gone)
	if err != nil {
		return nil, err
	}
	sent, err := s.folder(c, in.Lane)
	if err != nil {
		return nil, err
	}
	defer sent.close()
	submission, steps, difference := sent.submission, sent.steps, sent.difference
	problems, err := submission.Protect(c, difference)
	if err != nil {
		return nil, err
	}
	if len(problems) > 0 {
		return nil, problems
	}
	l, err := s.targets.lane(c, in.Lane)
	if err != nil {
		return nil, err
	}
	kind, err := s.Engines.Named(l.Engine)
	if err != nil {
		return nil, err
	}
	notes, err := inspect(c, kind, submission, difference, l.StepsMay, l.Names())
	if err != nil {
		return nil, err
	}
	against, next := disagreements(difference, gone)
	if trial {
		answer := submitted(0, len(steps), difference)
		answer.Trial, answer.Refused, answer.Notes = true, append(
			answer.Refused,
			against...), append(
			answer.Notes,
			notes...)
		return answer, s.touched(c, in.Lane, difference, answer)
	}
	if len(against) > 0 {
		return nil, refuseDifferences(
			next, against,
			"the folder is not what the catalogue expects: %s",
			plural.Count(len(against), "step differs", "steps differ"),
		)
	}
	var id int64
	err = s.Records.Change(c, in.Lane, func() (err error) {
		id, err = submission.Finish(c, difference)
		return err
	})
	if err != nil {
		return nil, err
	}
	c.note("submission", id)
	c.note(
		"steps",
		map[string]int{"new": len(difference.New), "edited": len(difference.Edited), "gone": len(difference.Gone)},
	)
	s.Log.Info("steps submitted", "lane", in.Lane, "submission", id, "actor", c.actor,
		"new", len(difference.New), "edited", len(difference.Edited), "gone", len(difference.Gone))
	answer := submitted(id, len(steps), difference)
	answer.Notes = append(answer.Notes, notes...)
	return answer, s.touched(c, in.Lane, difference, answer)
}

// numbers reads numbers that commas divide.
func numbers(text string) (map[step.Number]bool, error) {
	list := map[step.Number]bool{}
	for part := range strings.FieldsFuncSeq(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		number, err := step.ParseNumber(part)
		if err != nil {
			return nil, badRequest(nil, "gone: %s", err)
		}
		list[number] = true
	}
	return list, nil
}

// disagreements finds what a stale or a foreign folder would do: steps that would
// leave the catalogue, and numbers that another step would take, where nobody said
// that this is meant.
func disagreements(d records.Difference, meant map[step.Number]bool) (lines []string, next todo) {
	var gone []string
	for _, s := range d.Gone {
		if !meant[s.Number] {
			gone = append(gone, string(s.Number))
			lines = append(
				lines,
				fmt.Sprintf("step %s (%s) is in the catalogue, and not in the folder", s.Number, s.Slug),
			)
		}
	}
	free := step.Number("")
	for _, list := range [][]records.Change{d.New, d.Edited} {
		for _, change := range list {
			free = later(free, change.Step.Number)
		}
	}
	if n := len(d.Before); n > 0 {
		free = later(free, d.Before[n-1].Number)
	}
	for _, change := range d.Edited {
		number, before := change.Step.Number, change.Before
		if meant[number] || before.Slug == change.Step.Slug || before.Forward.Checksum == change.Step.Forward.Checksum {
			continue
		}
		lines = append(
			lines,
			fmt.Sprintf(
				"another step took number %s: %s is in the catalogue, %s in the folder; %s is free",
				number, before.Slug, change.Step.Slug, free.Next(),
			),
		)
		gone = append(gone, string(number))
	}
	next = or(
		by("bring the folder up to date first: somebody else may have sent these steps"),
		todo{
			{
				Act:       remedy.SubmitGone,
				Arguments: remedy.Arguments{Steps: strings.Join(gone, ",")},
				Reason:    "if they are to go",
			},
		},
	)
	return lines, next
}

func later(a, b step.Number) step.Number {
	if step.Compare(a, b) > 0 {
		return a
	}
	return b
}

// touched says where edited and gone steps are applied, in doubt or half
// run, and what the ways out are.
func (s *catalogue) touched(c call, laneName string, d records.Difference, answer *api.Submitted) error {
	if len(d.Edited)+len(d.Gone) == 0 {
		return nil
	}
	l, err := s.targets.lane(c, laneName)
	if err != nil {
		return err
	}
	now := map[step.Number]step.Checksum{}
	for _, change := range d.Edited {
		now[change.Step.Number] = change.Step.Forward.Checksum
	}
	changed := slices.Concat(answer.Edited, answer.Gone)
	places := l.Places()
	found, unseen := make([][]api.Touched, len(places)), make([]string, len(places))
	var wait safely.Group
	errs := make([]error, len(places))
	for i, e := range places {
		if hidden(c, l.Name, e.Name) {
			continue
		}
		wait.Go(func() {
			p := s.targets.at(l, e, d.Before)
			facts, err := s.gates.lookOnce(c, p, promotionRequest{passing: true})
			if err != nil {
				unseen[i] = e.Name
				return
			}
			found[i], errs[i] = s.touchedIn(c, p, facts, changed, now)
		})
	}
	wait.Wait()
	answer.Applied = append(answer.Applied, slices.Concat(found...)...)
	for _, e := range unreadFleets(l) {
		answer.Unlooked = append(answer.Unlooked, e.Name)
	}
	answer.Unlooked = append(
		answer.Unlooked,
		slices.DeleteFunc(unseen, func(name string) bool { return name == "" })...)
	return errors.Join(errs...)
}

// touchedIn says which of the changed steps a target has. now are the texts of
// the edited ones; the others are gone.
func (s *catalogue) touchedIn(
	c call, p targetContext, facts gate.Facts, changed []api.StepRef, now map[step.Number]step.Checksum,
) (found []api.Touched, err error) {
	environment := facts.View.Environment
	for _, ref := range changed {
		st := facts.View.State.Of(ref.Number)
		text, edited := now[ref.Number]
		if !st.Status.Present() && !unfinished(st) || edited && (st.Checksum == text || st.Checksum == "") {
			continue
		}
		if edited && st.HalfDone() > 0 {
			kept, err := s.keepsBeginning(c, p, st, text)
			if err != nil {
				return nil, err
			}
			if kept {
				continue // only what has not run yet was edited
			}
		}
		t := api.Touched{StepRef: ref, Gone: !edited, Environment: environment, State: st.Status,
			Remedies: []remedy.Remedy{
				remedy.ByHand("put its files back and submit"),
				p.at().Do(remedy.LookAtStatus).For("how to undo it there instead"),
			}}
		if edited && !st.Status.Present() {
			t.Remedies = []remedy.Remedy{
				remedy.ByHand(
					"the statements before number %d took effect there: put them back as they were and submit",
					max(st.Progress().Statement, 1),
				),
				p.at().RollbackLast().For("or undo the step there first"),
			}
		}
		if edited && st.Status.Present() {
			t.Remedies = []remedy.Remedy{remedy.ByHand("put the applied text back and write the change as a new step"),
				p.at().Step(remedy.Amend, ref.Number).For("or, if the new text is right there as it stands")}
		}
		if edited {
			if t.Change, err = s.library.change(c, p, st.Checksum, text); err != nil {
				return nil, err
			}
		}
		found = append(found, t)
	}
	return found, nil
}

// keepsBeginning reports whether the statements of a half-done step that took
// effect are the same in a new text.
func (s *catalogue) keepsBeginning(
	ctx context.Context, p targetContext, st ledger.StepState, text step.Checksum,
) (bool, error) {
	statements, err := s.targets.statements(ctx, p, text)
	if err != nil {
		return false, err
	}
	return begins(statements, st.Progress()), nil
}

// reload gives a step its texts back.
func reload(c call, submission *records.Submission, s step.Step) (step.Step, error) {
	text := func(f *step.File) (*step.File, error) {
		if f == nil {
			return nil, nil
		}
		whole := *f
		var err error
		whole.Bytes, err = submission.Text(c, f.Digest)
		return &whole, err
	}
	forward, err := text(&s.Forward)
	back, err2 := text(s.Back)
	check, err3 := text(s.Check)
	if err := errors.Join(err, err2, err3); err != nil {
		return s, err
	}
	s.Forward, s.Back, s.Check = *forward, back, check
	return s, nil
}

func submitted(id int64, total int, d records.Difference) *api.Submitted {
	answer := &api.Submitted{
		Submission: id,
		New:        []api.StepRef{},
		Edited:     []api.StepRef{},
		Gone:       []api.StepRef{},
		Late:       []api.StepRef{},
		Applied:    []api.Touched{},
		Unlooked:   []string{},
		Refused:    []string{},
		Notes:      []step.Problem{},
		Unchanged:  d.Unchanged,
		Steps:      total,
	}
	for _, change := range d.New {
		ref := api.StepRef{Number: change.Step.Number, Slug: change.Step.Slug}
		answer.New = append(answer.New, ref)
		if n := len(d.Before); n > 0 && change.Before == nil && step.Compare(ref.Number, d.Before[n-1].Number) < 0 {
			answer.Late = append(answer.Late, ref)
		}
	}
	for _, change := range d.Edited {
		answer.Edited = append(answer.Edited, api.StepRef{Number: change.Step.Number, Slug: change.Step.Slug})
	}
	for _, gone := range d.Gone {
		answer.Gone = append(answer.Gone, api.StepRef{Number: gone.Number, Slug: gone.Slug})
	}
	return answer
}
