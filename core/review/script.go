package review

import (
	"cmp"
	"fmt"
	"strings"

	"vorrang/core/evidence"
	"vorrang/core/schema"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// Language is what a review asks of an engine's dialect.
type Language interface {
	Cut(text []byte) ([]sqltext.Statement, error)
	Objects(statements []sqltext.Statement, first, last int) evidence.Script
	Left(scripts [][]sqltext.Statement) [][]evidence.Object
}

// Script is the forward file of a step while it is read for findings: what all engines
// do alike.
type Script struct {
	Step  step.Step
	Rules *Rules
	In    Setting
	Found []Finding

	// the statement that is read
	Statement sqltext.Statement
	Index     int // from 0

	language   Language
	statements []sqltext.Statement
	before     *Steps
	made       map[string]bool   // tables
	owner      map[string]string // tables, by what goes with them: "index harbour.berth_by_code"
	noted      map[string]bool
}

// Steps is what a reviewer remembers of the steps that it read before.
type Steps struct {
	In     Setting
	made   map[string]bool // tables that they make
	there  map[string]bool // the target's tables; nil where they are not known
	phases map[step.Phase]bool
}

// NewSteps remembers nothing but what the setting says.
func NewSteps(in Setting) *Steps {
	r := &Steps{In: in, made: map[string]bool{}, phases: map[step.Phase]bool{}}
	for phase := range in.Phases {
		r.phases[phase] = true
	}
	if in.Schema != nil {
		r.there = map[string]bool{}
		for _, o := range in.Schema.Objects {
			if o.Kind == schema.Table || o.Kind == schema.View || o.Kind == schema.Materialized {
				r.there[o.Name], r.there[Short(o.Name)] = true, true
			}
		}
	}
	return r
}

// Short is an object's name without its schema, as a script may write it that leaves the
// schema to the search path.
func Short(name string) string {
	quoted := false
	for i, c := range name {
		switch {
		case c == '"':
			quoted = !quoted
		case c == '.' && !quoted:
			return name[i+1:]
		}
	}
	return name
}

// Script opens the next step. Its error says that the forward file cannot be cut: such a
// file is refused where it is submitted.
func (r *Steps) Script(s step.Step, rules *Rules, language Language) (*Script, error) {
	statements, err := language.Cut(s.Forward.Text())
	return &Script{
		Step: s, Rules: rules, In: r.In, language: language, statements: statements, before: r,
		made: map[string]bool{}, noted: map[string]bool{}, owner: map[string]string{},
	}, err
}

// Each goes over the statements: each becomes the one that is read.
func (s *Script) Each(read func()) {
	for i, statement := range s.statements {
		if s.Step.Options().Mode == step.Batches {
			statement = statement.WithBatch(1)
		}
		s.Statement, s.Index = statement, i
		read()
	}
}

// End gives the findings of a script that was read, in their order, with those that its
// phase and its way back bring, and remembers it.
func (r *Steps) End(s *Script) []Finding {
	s.phase()
	s.wayBack()
	for table := range s.made {
		r.made[table] = r.In.Waiting
	}
	r.phases[s.Step.Options().Phase] = true
	Sort(s.Found)
	return s.Found
}

// Makes notes a table that the script makes.
func (s *Script) Makes(table string) { s.made[table] = true }

// Goes notes that something, such as "index harbour.berth_by_code", goes with a table when
// that is dropped.
func (s *Script) Goes(object, table string) { s.owner[object] = table }

// InUse reports whether a table is there before the script, so that others may use it:
// the target has it, or, where that is not known, no step that is read makes it.
func (s *Script) InUse(table string) bool {
	if s.before.there != nil {
		return s.before.there[table]
	}
	return table != "" && !s.made[table] && !s.before.made[table]
}

// Once is true the first time that it is asked for a thing.
func (s *Script) Once(thing string) bool {
	seen := s.noted[thing]
	s.noted[thing] = true
	return !seen
}

// About is a finding of a rule at a name in the statement that is read, or at its
// beginning where the name is empty or not there. An empty message is the rule's title.
func (s *Script) About(code, object, near, message, rewrite string) Finding {
	at := 0
	if near != "" {
		at = max(0, nameAt(string(s.Statement.SQL), near))
	}
	line, column := s.Statement.Place(at)
	return s.finding(Finding{Code: code, Object: object, Rewrite: rewrite,
		Problem: step.Problem{File: s.Step.Forward.Name, Line: line, Column: column, Message: message}.
			In(s.Step.Forward.Text(), s.Statement.Offset+at)})
}

// finding fills in what the rule says.
func (s *Script) finding(f Finding) Finding {
	rule := s.Rules.codes[f.Code]
	f.Step, f.Why = s.Step.Number, rule.Why
	f.Severity, f.Message = cmp.Or(f.Severity, rule.Severity), cmp.Or(f.Message, rule.Title)
	return f
}

// Add adds a finding.
func (s *Script) Add(f Finding) { s.Found = append(s.Found, f) }

// Find adds a finding at a place of the statement that is read, as About says.
func (s *Script) Find(code, object, near, message, rewrite string) {
	s.Add(s.About(code, object, near, message, rewrite))
}

// FindOn is Find about a table: how large it is, where that is known, says how much it
// matters.
func (s *Script) FindOn(code, table, near, message, rewrite string) {
	s.Add(s.Sized(s.About(code, "table "+table, near, message, rewrite), table))
}

// Sized is a finding about something that takes as long as a table is large, with what is
// known of that.
func (s *Script) Sized(f Finding, table string) Finding {
	if size, known := s.In.Figures.SizeOf(table); known {
		f.Message += fmt.Sprintf(" (%s has %s)", table, size)
		if size.Rows < Small {
			f.Severity = Low
		}
	}
	return f
}

// renamed is a finding under another rule, with its severity.
func (s *Script) renamed(f Finding, code, message string) Finding {
	f.Code, f.Message, f.Severity = code, message, ""
	return s.finding(f)
}

// at adds a finding at the first statement of a file of the step.
func (s *Script) at(code string, file *step.File, statements []sqltext.Statement, message string) {
	if len(statements) == 0 {
		return
	}
	first := statements[0]
	s.Add(s.finding(Finding{Code: code, Problem: step.Problem{
		File: file.Name, Line: first.Line, Column: first.Column, Message: message}.In(file.Text(), first.Offset)}))
}

// AtOption adds a finding at an option of the step.
func (s *Script) AtOption(code, key string) {
	text := s.Step.Forward.Text()
	s.Add(s.finding(Finding{
		Code: code, Problem: step.Problem{File: s.Step.Forward.Name}.In(text, step.OptionOffset(text, key)),
	}))
}

// phase finds a contract whose expand is not there.
func (s *Script) phase() {
	if s.Step.Options().Phase == step.Contract && !s.before.phases[step.Expand] {
		s.AtOption("phase.contract-alone", "phase")
	}
}

// Breaks is a finding about something that an application of the version before may use.
// In a contract, which comes after the soak, it matters less, unless it is still in use;
// in an expand it is a finding of its own.
func (s *Script) Breaks(f Finding) {
	switch s.Step.Options().Phase {
	case step.Contract:
		if !f.InUse {
			f.Severity = Medium
		}
	case step.Expand:
		s.Add(s.renamed(f, "phase.expand-breaks", f.Message+", in a step of phase expand"))
	}
	s.Add(f)
}

// wayBack finds that there is no way back, or that it leaves something.
func (s *Script) wayBack() {
	if s.Step.Back == nil {
		s.at("back.missing", &s.Step.Forward, s.statements, "")
		return
	}
	back, err := s.language.Cut(s.Step.Back.Text())
	if err != nil {
		return // such a file is refused where it is submitted
	}
	undone := s.language.Objects(back, 1, 0)
	if len(undone.Unverifiable) > 0 {
		return // such as a DO block, which may drop anything
	}
	dropped := map[string]bool{}
	for _, o := range undone.Objects {
		dropped[o.String()] = o.Gone
	}
	var kept []string
	for _, o := range s.language.Left([][]sqltext.Statement{s.statements, back})[0] {
		if o.Made && !o.Gone && !dropped["table "+s.owner[o.String()]] {
			kept = append(kept, o.String())
		}
	}
	const shown = 5
	if len(kept) > 0 {
		left := strings.Join(kept[:min(len(kept), shown)], ", ")
		s.at("back.incomplete", s.Step.Back, back, "the way back leaves "+left)
	}
}

// nameAt is the offset of a name in a text, where it stands alone; -1 if it does not.
func nameAt(text, name string) int {
	for from := 0; ; {
		at := strings.Index(text[from:], name)
		if at < 0 {
			return -1
		}
		at += from
		if !isLetter(text, at-1) && !isLetter(text, at+len(name)) {
			return at
		}
		from = at + len(name)
	}
}

func isLetter(text string, at int) bool {
	if at < 0 || at >= len(text) {
		return false
	}
	c := text[at]
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}
