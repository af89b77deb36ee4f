package enginetest

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/core/review"
)

// Losses holds what a statement is said to take away against what it does.
func Losses(t *testing.T, losses func(text []byte) []review.Loss, want map[string][]string) {
	for sql, what := range want {
		var found []string
		for _, loss := range losses([]byte(sql + ";")) {
			found = append(found, loss.What)
		}
		assert.Equal(t, what, found, sql)
	}
}
