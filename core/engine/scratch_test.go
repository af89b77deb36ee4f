package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestOnlyWhatWasMadeForATrialIsDropped: names are the only thing that tells on every server.
func TestOnlyWhatWasMadeForATrialIsDropped(t *testing.T) {
	now := time.Now()
	const prefix = "vorrang_scratch_"
	name := ScratchName(prefix, now)
	made, is := ScratchMade(prefix, name)
	assert.True(t, is, name)
	assert.Equal(t, now.Unix(), made.Unix())
	assert.False(t, ScratchLeft(prefix, name, now.Add(time.Minute)), "somebody may be at it")
	assert.True(t, ScratchLeft(prefix, name, now.Add(2*time.Hour)))
	assert.True(t, ScratchLeft(prefix, "vorrang_scratch_1700000000_ABCDEF23", now), "of an older version")
	for _, somebodys := range []string{
		"", "harbour", "vorrang_scratch_", "vorrang_scratch_home", "vorrang_scratch_1", "vorrang_scratch_2026_harbour8",
		"vorrang_scratch_1700000000", "vorrang_scratch_1700000000_harbour", "vorrang_scratch_1700000000_harbours_2",
		"x_vorrang_scratch_1700000000_abcdefgh", "vorrang_scratch_99999999999999999999_abcdefgh",
	} {
		assert.False(t, ScratchLeft(prefix, somebodys, now), somebodys)
	}
}
