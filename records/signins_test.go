package records_test

import (
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/records"
)

// TestWhoGuessesWaitsLongerAndLonger, whichever service is asked.
func TestWhoGuessesWaitsLongerAndLonger(t *testing.T) {
	_, one, other := two(t)
	limits := records.SignInLimits{Free: 5, Longest: 5 * time.Minute, Burst: 100}
	now, turn := time.Now().Round(time.Microsecond), 0
	allow := func(name, address string) (time.Duration, int) {
		turn++
		wait, refused, err := []*records.Records{one, other}[turn%2].AllowSignIn(t.Context(), limits, name, address, now)
		require.NoError(t, err)
		return wait, refused
	}
	guess := func(name, address string) time.Duration {
		wait, _ := allow(name, address)
		return wait
	}
	for range limits.Free {
		assert.Zero(t, guess("m.kai", "1.1.1.1"))
	}
	last := time.Duration(0)
	for range 12 {
		wait := guess("m.kai", "1.1.1.1")
		assert.Greater(t, wait, last)
		assert.LessOrEqual(t, wait, limits.Longest)
		last, now = min(wait, limits.Longest-1), now.Add(wait)
		assert.Zero(t, guess("m.kai", "1.1.1.1"), "then it is checked")
	}
	assert.Zero(t, guess("m.kai", "2.2.2.2"), "others may still try to be the same")
	assert.Zero(t, guess("l.berg", "1.1.1.1"), "and to be somebody else")
	_, _ = allow("m.kai", "1.1.1.1")
	_, _ = allow("m.kai", "1.1.1.1")
	now = now.Add(limits.Longest)
	wait, refused := allow("m.kai", "1.1.1.1")
	assert.Zero(t, wait)
	assert.Equal(t, 2, refused, "the tries that were not checked are counted")
	require.NoError(t, other.RightSignIn(t.Context(), "m.kai", "1.1.1.1"))
	assert.Zero(t, guess("m.kai", "1.1.1.1"))
	allowed := 0
	for i := range 150 { // made-up names do not push a guesser's own out: the address has a budget
		if guess("nobody"+strconv.Itoa(i), "3.3.3.3") == 0 {
			allowed++
		}
	}
	assert.Equal(t, int(limits.Burst), allowed)
	now = now.Add(10 * time.Second)
	assert.Zero(t, guess("nobody", "3.3.3.3"), "one for each second comes back")
	require.NoError(t, one.ForgetSignIns(t.Context(), 3))
	assert.Zero(t, guess("m.kai", "9.9.9.9"))
}

// TestGuessesAtOnceAreCountedAtOnce: however many are made at the same moment, so many are checked.
func TestGuessesAtOnceAreCountedAtOnce(t *testing.T) {
	_, one, other := two(t)
	limits := records.SignInLimits{Free: 5, Longest: 5 * time.Minute, Burst: 100}
	now := time.Now().Round(time.Microsecond)
	var allowed atomic.Int64
	var guesses sync.WaitGroup
	for i := range 60 {
		guesses.Go(func() {
			wait, _, err := []*records.Records{one, other}[i%2].AllowSignIn(t.Context(), limits, "m.kai", "1.1.1.1", now)
			if assert.NoError(t, err) && wait == 0 {
				allowed.Add(1)
			}
		})
	}
	guesses.Wait()
	assert.Equal(t, int64(limits.Free), allowed.Load())

	for range 20 { // none of which could be checked
		wait, _, err := one.AllowSignIn(t.Context(), limits, "l.berg", "1.1.1.1", now)
		require.NoError(t, err)
		assert.Zero(t, wait)
		require.NoError(t, one.UncheckedSignIn(t.Context(), "l.berg", "1.1.1.1", now))
	}
}

// TestASignInElsewhereComesBackOnce, to any service, and to the browser that it began in.
func TestASignInElsewhereComesBackOnce(t *testing.T) {
	_, one, other := two(t)
	u := records.UnderWay{Cookie: "c", Nonce: "n", Verifier: "v", Expires: time.Now().Add(time.Minute)}
	leave := func(state string, u records.UnderWay, most int) bool {
		kept, err := one.LeaveForOpenID(t.Context(), state, u, most)
		require.NoError(t, err)
		return kept
	}
	require.True(t, leave("s", u, 2))
	_, err := other.BackFromOpenID(t.Context(), "s", "another browser's")
	assert.ErrorIs(t, err, records.ErrNotFound)
	back, err := other.BackFromOpenID(t.Context(), "s", "c")
	require.NoError(t, err)
	assert.Equal(t, "v", back.Verifier)
	_, err = one.BackFromOpenID(t.Context(), "s", "c")
	assert.ErrorIs(t, err, records.ErrNotFound, "once")
	u.Expires = time.Now().Add(-time.Second)
	require.True(t, leave("late", u, 2))
	_, err = other.BackFromOpenID(t.Context(), "late", "c")
	assert.ErrorIs(t, err, records.ErrNotFound)
	u.Expires = time.Now().Add(time.Minute)
	require.True(t, leave("1", u, 2))
	require.True(t, leave("2", u, 2))
	assert.False(t, leave("3", u, 2), "only so many are under way")
}
