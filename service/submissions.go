package service

import (
	"errors"
	"fmt"
	"strings"

	"vorrang/core/remedy"
	"vorrang/core/step"
	"vorrang/internal/plural"
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
		return answer, s.touched(c, in.Lane, difference, submission.NormalText, answer)
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
	return answer, s.touched(c, in.Lane, difference, s.Records.Text, answer)
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
