package words

import (
	"regexp"
	"strings"

	"vorrang/core/evidence"
	"vorrang/core/review"
	"vorrang/core/sqltext"
	"vorrang/core/step"
)

// Dialect is what of an engine.Dialect an engine has that reads statements by their
// words. The rest is for the engine to write.
type Dialect struct {
	Rules  Rules
	Cutter func(text []byte) ([]sqltext.Statement, error)
	Leaves func(net *evidence.Net, s sqltext.Statement) // tells a net what a statement leaves
	Loses  func(s sqltext.Statement) []string           // what a statement takes away for good
	Query  func(s sqltext.Statement) bool               // a statement changes nothing, and gives rows

	Finds    func() *review.Rules // what Patterns find, with the findings that all engines have
	Patterns func() []Pattern
}

// Cut implements engine.Dialect.
func (d Dialect) Cut(text []byte) ([]sqltext.Statement, error) { return d.Cutter(text) }

// Compare implements engine.Dialect.
func (d Dialect) Compare(before, after []byte) sqltext.Change { return d.Rules.Compare(before, after) }

// Objects implements engine.Dialect.
func (d Dialect) Objects(statements []sqltext.Statement, first, last int) evidence.Script {
	return evidence.Collect(statements, first, last, d.Leaves)
}

// Left implements engine.Dialect.
func (d Dialect) Left(scripts [][]sqltext.Statement) [][]evidence.Object {
	return evidence.CollectLeft(scripts, d.Leaves)
}

// ConcurrentIndex implements engine.Dialect: no build leaves remains.
func (Dialect) ConcurrentIndex(sqltext.Statement) (evidence.Object, bool) {
	return evidence.Object{}, false
}

// Losses implements engine.Dialect.
func (d Dialect) Losses(text []byte) []review.Loss {
	statements, err := d.Cutter(text)
	if err != nil {
		return nil // such a script is refused when it is submitted
	}
	var losses []review.Loss
	for _, s := range statements {
		for _, what := range d.Loses(s) {
			losses = append(losses, review.Loss{Line: s.Line, What: what})
		}
	}
	return losses
}

// Files begins to review a step's files.
func (d Dialect) Files() *review.Files { return &review.Files{Cut: d.Cutter} }

// Check reviews a step's check.
func (d Dialect) Check(f *review.Files, file *step.File) {
	f.Read(file, func(_ int, s sqltext.Statement) (refused, noted string) {
		if !d.Query(s) {
			refused = "a check holds queries only: each must give one row, with true (a number other than 0) in every column"
		}
		return refused, ""
	})
}

// Mention finds a name in a statement.
func Mention(name string) *regexp.Regexp { return regexp.MustCompile(`(?i)` + regexp.QuoteMeta(name)) }

// Ledger is the ledger's table, and what all of its triggers begin with.
const Ledger = "vorrang_ledger"

// IsOurs reports whether a name is one of the ledger's.
func IsOurs(name string) bool { return strings.HasPrefix(strings.ToLower(name), "vorrang_") }

// NamesOurs says why a statement that names the ledger is refused; empty for others.
func (d Dialect) NamesOurs(s sqltext.Statement) string {
	for _, t := range d.Rules.Tokens(s.SQL) {
		if (t.Kind == Word || t.Kind == Quoted) && IsOurs(t.Name()) {
			return "this names " + Ledger + ", Vorrang's own ledger; what the ledger says is written by deployments and " +
				"repairs only: take it out"
		}
	}
	return ""
}

// Unread says why a statement is refused that is too long to be read to its end; empty for one that
// is read, or that only adds rows.
func (d Dialect) Unread(s sqltext.Statement) string {
	head, whole := d.Rules.Head(s.SQL)
	if whole || head.Peek().Any("INSERT", "REPLACE") && head.Has("VALUES") {
		return ""
	}
	return "this is longer than 1 MiB without its comments, and is not INSERT … VALUES: what it does cannot be reviewed; " +
		"split it"
}

// Findings implements engine.Dialect.
func (d Dialect) Findings() *review.Rules { return d.Finds() }

// Reviewer implements engine.Dialect.
func (d Dialect) Reviewer(in review.Setting) review.Reviewer {
	return &Findings{Steps: review.NewSteps(in), Rules: d.Finds(), Lexis: d.Rules, Language: d, Patterns: d.Patterns()}
}
