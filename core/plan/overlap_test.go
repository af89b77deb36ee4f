package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/plan"
	"vorrang/core/step"
)

func TestTwoVersionsOverlapFromExpandToContract(t *testing.T) {
	steps := []plan.Phased{
		{
			Number: "6",
		}, {Number: "7", Phase: step.Expand}, {Number: "8", Phase: step.Migrate}, {Number: "8.1", Phase: step.Expand},
		{
			Number: "9",
		}, {Number: "10", Phase: step.Contract}, {Number: "11", Phase: step.Contract}, {Number: "12", Phase: step.Expand},
		{Number: "13"},
	}
	list := plan.Overlaps(steps)
	require.Len(t, list, 2)
	assert.Equal(t, step.Number("9"), list[0].Last)
	drawn := ""
	for _, s := range steps {
		drawn += plan.Mark(list, s.Number)
	}
	assert.Equal(t, " ┌│││└ ┌│", drawn)
	assert.Equal(t, "from step 7 to step 9 the application's old and new version can both run: promote through 9, let "+
		"the old version end, then promote 10", list[0].Message)
	assert.Contains(t, list[1].Message, "no step contracts yet")
	assert.Empty(t, plan.Overlaps(steps[:1]))
}
