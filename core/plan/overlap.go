package plan

import (
	"fmt"

	"vorrang/core/step"
)

// Overlap is a stretch of steps within which two versions of the application run: from
// an expand, with which both can, to the contract, with which the old one cannot.
type Overlap struct {
	Expand   step.Number `json:"expand" description:"The step from which on the old and the new version of the application can both run."`
	Last     step.Number `json:"last" description:"The last step with which the old version can run."`
	Contract step.Number `json:"contract,omitempty" description:"The step with which it cannot run any more; absent where there is none yet."`
	Message  string      `json:"message" description:"What follows from it, in words."`
}

// Phased is a step with what it is for.
type Phased struct {
	Number step.Number
	Phase  step.Phase
}

// Overlaps finds them in steps that are in order. A contract ends what the expands before
// it began.
func Overlaps(steps []Phased) []Overlap {
	list, open := []Overlap{}, false
	for _, s := range steps {
		switch {
		case s.Phase == step.Expand && !open:
			list, open = append(list, Overlap{Expand: s.Number, Last: s.Number}), true
		case s.Phase == step.Contract && open:
			list[len(list)-1].Contract, open = s.Number, false
		case open:
			list[len(list)-1].Last = s.Number
		}
	}
	for i := range list {
		list[i].Message = list[i].message()
	}
	return list
}

// message says what follows from it for those who promote.
func (o Overlap) message() string {
	if o.Contract == "" {
		return fmt.Sprintf("from step %s on the application's old and new version can both run; no step "+
			"contracts yet", o.Expand)
	}
	return fmt.Sprintf("from step %s to step %s the application's old and new version can both run: promote through "+
		"%[2]s, let the old version end, then promote %[3]s",
		o.Expand, o.Last, o.Contract)
}

// Mark is what is drawn beside a step: how an overlap begins, goes on and ends.
func Mark(list []Overlap, number step.Number) string {
	for _, o := range list {
		switch {
		case number == o.Expand:
			return "┌"
		case number == o.Contract:
			return "└"
		case step.Compare(number, o.Expand) > 0 && (o.Contract == "" || step.Compare(number, o.Contract) < 0):
			return "│"
		}
	}
	return " "
}
