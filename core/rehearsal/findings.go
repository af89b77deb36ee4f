package rehearsal

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"vorrang/core/engine"
	"vorrang/core/review"
	"vorrang/core/step"
)

// The rules of findings that only a rehearsal shows.
const (
	BlocksMeasured   = "blocks.measured"
	RewritesMeasured = "rewrites.measured"
)

// long is how long a step may have held a lock that others wait for, in milliseconds,
// before that is a finding.
const long = int64(time.Second / time.Millisecond)

// Findings are what a rehearsal showed and no reading of the steps' texts: in functions,
// in blocks and by triggers. known are those of a reading; files are the steps' files.
func (r Result) Findings(rules *review.Rules, known []review.Finding,
	files map[step.Number]string) (list []review.Finding) {
	for _, s := range r.Steps {
		if s.Footprint == nil {
			continue
		}
		for _, t := range s.Footprint.Tables {
			code, message := "", ""
			switch {
			case t.Rewritten:
				code, message = RewritesMeasured, "is written again"
			case t.Blocks.Stops() && cmp.Or(t.HeldMS, s.ForwardMS) >= long:
				code = BlocksMeasured
				took := time.Duration(cmp.Or(t.HeldMS, s.ForwardMS)) * time.Millisecond
				message = fmt.Sprintf("%s wait for up to %s", t.Blocks, took.Round(100*time.Millisecond))
			default:
				continue
			}
			rule, is := rules.Of(code)
			if !is || told(known, s.Number, t.Table) {
				continue
			}
			list = append(list, review.Finding{
				Code: code, Severity: severityOf(rule, t), Step: s.Number, Object: "table " + t.Table, Why: rule.Why,
				Problem: step.Problem{
					File: files[s.Number], Line: 1, Column: 1,
					Message: fmt.Sprintf("%s: %s: %s", rule.Title, t.Table, message),
				},
			})
		}
	}
	return list
}

// severityOf is the rule's, but for a table that is small in the target.
func severityOf(rule review.Rule, t engine.TableFootprint) review.Severity {
	if t.Rows > 0 && t.Rows < review.Small {
		return review.Low
	}
	return rule.Severity
}

// told reports whether a reading found that a step blocks or rewrites a table.
func told(known []review.Finding, number step.Number, table string) bool {
	for _, f := range known {
		_, object, _ := strings.Cut(f.Object, " ")
		if f.Step == number && (strings.HasPrefix(f.Code, "blocks.") || strings.HasPrefix(f.Code, "rewrites.")) &&
			(object == table || object == review.Short(table) || strings.HasPrefix(object, table+".") ||
				strings.HasPrefix(object, review.Short(table)+".")) {
			return true
		}
	}
	return false
}
