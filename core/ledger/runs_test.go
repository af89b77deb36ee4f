package ledger

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vorrang/core/step"
)

func TestANumberThatTwoDeploymentsHaveIsNoticed(t *testing.T) {
	began := time.Date(2026, 11, 3, 6, 0, 0, 0, time.UTC)
	var entries []Entry
	add := func(hours int, action Action, number step.Number, deployment string) {
		entries = append(entries, Entry{Seq: int64(len(entries) + 1), Action: action, Step: number, Deployment: deployment,
			At: began.Add(time.Duration(hours) * time.Hour), Detail: []byte("{}")})
	}
	add(0, Applied, "1", "213")
	add(1, Applied, "2", "214")
	add(2, Attested, "9", "") // somebody's word between two entries of one deployment
	add(2, Applied, "3", "214")
	add(3, Applied, "4", "night.sql")
	add(4, Applied, "5", "215")
	state := Fold(entries)
	for _, name := range []string{"213", "214", "215", "night.sql", "7"} {
		assert.False(t, state.Reused(name, time.Time{}), name)
	}
	assert.False(t, state.Reused("214", began), "it began when the records say")
	assert.True(t, state.Reused("214", began.Add(48*time.Hour)), "the records' is a younger one")

	add(50, Applied, "6", "214") // the records were restored
	assert.True(t, Fold(entries).Reused("214", time.Time{}))
	assert.False(t, Fold(entries).Reused("215", time.Time{}))

	newest, highest := Numbers(entries, 2)
	assert.Equal(t, []int64{214, 215}, newest)
	assert.Equal(t, int64(215), highest)
	add(60, Adopted, "", "")
	add(61, Applied, "7", "300")
	newest, highest = Numbers(entries, 9)
	assert.Equal(t, []int64{300}, newest, "what stands before it was adopted")
	assert.Equal(t, int64(300), highest)
}
