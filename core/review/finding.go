package review

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"vorrang/core/schema"
	"vorrang/core/step"
)

// Severity is how much a finding matters to those who use the database.
type Severity string

// The severities. What is High breaks an application that is running, or stops others
// for as long as a table is large; Medium does so under conditions that are named; Low
// is what a reader will stumble over later.
const (
	High   Severity = "high"
	Medium Severity = "medium"
	Low    Severity = "low"
)

// Severities are all of them, the highest first.
var Severities = []Severity{High, Medium, Low}

// Reaches reports whether a severity is as high as another one, or higher.
func (s Severity) Reaches(least Severity) bool {
	at := slices.Index(Severities, s)
	return at >= 0 && at <= slices.Index(Severities, least)
}

// Rule is a kind of finding. Its code is stable: steps name it in accept. The two
// scripts run on what the setup makes; one that is to run statement by statement says so
// in its options.
type Rule struct {
	Code     string   `yaml:"-" json:"code" description:"Stable; what a step's accept names."`
	Severity Severity `yaml:"severity" json:"severity" enum:"high,medium,low"`
	Title    string   `yaml:"title" json:"title" description:"What was found, in a line."`
	Why      string   `yaml:"why" json:"why" description:"Why it matters, in two sentences."`
	Server   string   `yaml:"server" json:"server" description:"What the server does."`
	Target   bool     `yaml:"needs_target" json:"needs_target,omitempty" description:"It is found only where the target's schema is known."`
	Measured bool     `yaml:"measured" json:"measured,omitempty" description:"Only a rehearsal shows it: what runs is not in the text."`
	Setup    string   `yaml:"setup" json:"setup,omitempty" description:"What the two scripts run on, beside the engine's own examples."`
	Has      string   `yaml:"has" json:"has" description:"A script that has it."`
	Back     string   `yaml:"back" json:"back,omitempty" description:"Its way back, where that matters."`
	HasNot   string   `yaml:"has_not" json:"has_not" description:"The nearest script that has it not."`
	BackNot  string   `yaml:"back_not" json:"back_not,omitempty" description:"Its way back, where that matters."`
	Proof    Proof    `yaml:"proof" json:"-"`
}

// Finding is something in a step's SQL that a reviewer should know.
type Finding struct {
	Code     string      `json:"code"`
	Severity Severity    `json:"severity" enum:"high,medium,low"`
	Step     step.Number `json:"step"`
	Object   string      `json:"object,omitempty" description:"What it is about, such as: table harbour.vessel."`
	Why      string      `json:"why"`
	InUse    bool        `json:"in_use,omitempty" description:"The server counted uses of it since the last step of phase expand was applied."`
	Rewrite  string      `json:"rewrite,omitempty" description:"A safe form that comes to the same, with the names filled in."`
	Accepted string      `json:"accepted,omitempty" description:"The author's reason; the finding does not hold a gate then."`

	step.Problem
}

// Setting is what is known where findings are looked for. The zero value is a step's
// text and nothing else.
type Setting struct {
	Schema  *schema.Schema // of the target; nil where it is not known
	Figures Figures        // of the target
	// Expanded is what the server had counted when steps of phase expand were applied there,
	// as far as that is known. It is asked where something goes away; nil where nobody knows.
	Expanded func() []Expanded
	// Count gives how many rows a query of the target has, up to most; false where that is
	// not known; the query begins with SELECT 1 FROM the table. It is nil where the target is
	// not to be asked. Rows are never shown.
	Count   func(query string) (rows, most int64, known bool)
	Waiting bool                // all steps that are read wait together: what one makes is new to the next
	Phases  map[step.Phase]bool // those of the steps before the first that is read
}

// Text is the finding as a terminal shows it, without the line of the file.
func (f Finding) Text() string { return fmt.Sprintf("%s %s %s", f.Severity, f.Code, f.Error()) }

// Sort puts findings into the order of their steps' files and lines. What matters most
// is first in a line.
func Sort(list []Finding) {
	slices.SortStableFunc(list, func(a, b Finding) int {
		return cmp.Or(
			step.Compare(a.Step, b.Step),
			strings.Compare(a.File, b.File),
			cmp.Compare(a.Line, b.Line),
			cmp.Compare(a.Column, b.Column),
			cmp.Compare(slices.Index(Severities, a.Severity), slices.Index(Severities, b.Severity)),
			strings.Compare(a.Code, b.Code),
		)
	})
}

// Accept marks the findings that the step's author accepts, with the reasons, and gives
// what of the acceptances meets no finding: a code that is not known, or is not found.
func Accept(s step.Step, list []Finding, rules *Rules) (problems step.Problems) {
	for _, accepted := range s.Options().Accept {
		rule, known := rules.Of(accepted.Code)
		met := rule.Measured // which is known later
		for i := range list {
			if list[i].Code == accepted.Code && list[i].Step == s.Number {
				list[i].Accepted, met = accepted.Reason, true
			}
		}
		message := ""
		switch {
		case !known:
			message = fmt.Sprintf("accept: there is no finding %q; take the code as the review shows it", accepted.Code)
		case !met:
			message = fmt.Sprintf(
				"accept: the step has no finding %s; take it out, so that it does not hide one later",
				accepted.Code,
			)
		default:
			continue
		}
		line, column := step.OptionPosition(s.Forward.Text(), "accept")
		problems = append(problems, step.Problem{File: s.Forward.Name, Line: line, Column: column, Message: message})
	}
	return problems
}

// Open are the findings that nobody accepted and that reach a severity.
func Open(list []Finding, least Severity) (open []Finding) {
	for _, f := range list {
		if f.Accepted == "" && f.Severity.Reaches(least) {
			open = append(open, f)
		}
	}
	return open
}

// Counts are how many findings there are: of each severity, those that nobody accepted.
type Counts struct {
	Open     map[Severity]int
	Accepted int
}

// Count counts findings.
func Count(list []Finding) Counts {
	c := Counts{Open: map[Severity]int{}}
	for _, f := range list {
		if f.Accepted != "" {
			c.Accepted++
		} else {
			c.Open[f.Severity]++
		}
	}
	return c
}
