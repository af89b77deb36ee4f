package enginetest

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/core/review"
)

// Losses holds what a statement is said to take away against what it does.
func Losses(t *testing.T, losses func(text []byte) []review.Loss, want map[string][]string) {
	for sql, what := range want {
		var said []string
		for _, loss := range losses([]byte(sql + ";")) {
			said = append(said, loss.What)
		}
		assert.Equal(t, what, said, sql)
	}
}
