// Package target_test tries what all engines have in common without any server.
package target_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/core/engine"
	"vorrang/core/review"
	"vorrang/core/step"
	"vorrang/target/mariadb"
	"vorrang/target/postgres"
	"vorrang/target/sqlite"
)

// FuzzAReviewEnds: whatever a folder holds, a review of it ends, and each finding has a
// known code and a place in its file.
func FuzzAReviewEnds(f *testing.F) {
	engines := []engine.Engine{postgres.Engine{}, mariadb.Engine{}, sqlite.Engine{}}
	for _, e := range engines {
		for _, rule := range e.Dialect().Findings().All() {
			f.Add(rule.Has, rule.Back)
			f.Add(rule.HasNot, rule.BackNot)
		}
	}
	f.Fuzz(func(t *testing.T, forward, back string) {
		file, problems := step.ReadFile("1-a.sql", []byte(forward))
		if len(problems) > 0 {
			return
		}
		s := step.Step{Number: "1", Slug: "a", Forward: file}
		if reverse, problems := step.ReadFile("1-a.back.sql", []byte(back)); back != "" && len(problems) == 0 {
			s.Back = &reverse
		}
		for _, e := range engines {
			for _, found := range e.Dialect().Reviewer(review.Setting{}).Read(s) {
				_, known := e.Dialect().Findings().Of(found.Code)
				assert.True(t, known, found.Code)
				assert.Positive(t, found.Line)
				assert.LessOrEqual(t, found.Line, strings.Count(forward+back, "\n")+2)
			}
		}
	})
}
