package subprocess

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// probe does what it is told, and so shows what a process may.
var (
	probe = New("probe", Limits{Processes: 2, Time: time.Minute, Memory: 192 << 20}, obey)
	hasty = New("hasty probe", Limits{Processes: 1, Time: time.Second, Memory: 192 << 20}, obey)
)

func obey(request []byte) []byte {
	switch what, _, _ := strings.Cut(string(request), " "); what {
	case "environment":
		return []byte(strings.Join(os.Environ(), "\n"))
	case "eat":
		var eaten [][]byte
		for {
			eaten = append(eaten, bytes.Repeat([]byte("x"), 1<<20))
			if len(eaten) > 4096 {
				return []byte("it ate 4 GiB")
			}
		}
	case "recurse":
		return []byte(fmt.Sprint(deep(1 << 30)))
	case "panic":
		panic("a fault")
	case "wait":
		for { // busy, as code in a loop is
			if time.Now().IsZero() {
				return nil
			}
		}
	}
	return append([]byte("echo "), request...)
}

func deep(n int) int {
	if n == 0 {
		return 0
	}
	return deep(n-1) + n%2
}

func ask(t *testing.T, request string) (string, error) {
	t.Helper()
	answer, err := probe.Do(t.Context(), []byte(request))
	return string(answer), err
}

func TestWhatEndsAProcessEndsNoOther(t *testing.T) {
	for _, request := range []string{"eat", "recurse", "panic"} {
		t.Run(request, func(t *testing.T) {
			for range 2 {
				answer, err := ask(t, request)
				require.ErrorIs(t, err, ErrEnded, answer)
				answer, err = ask(t, "hello")
				require.NoError(t, err)
				assert.Equal(t, "echo hello", answer)
			}
		})
	}
}

func TestARequestHasItsTime(t *testing.T) {
	for range 2 {
		_, err := hasty.Do(t.Context(), []byte("wait"))
		require.ErrorIs(t, err, ErrLate)
	}
}

func TestAProcessIsAskedAgainWhereItEndedBefore(t *testing.T) {
	_, err := ask(t, "hello")
	require.NoError(t, err)
	for range cap(probe.places) { // those that wait
		p := <-probe.places
		if p != nil {
			require.NoError(t, p.command.Process.Kill())
		}
		probe.places <- p
	}
	answer, err := ask(t, "hello again")
	require.NoError(t, err)
	assert.Equal(t, "echo hello again", answer)
}

func TestAProcessKnowsNoSecret(t *testing.T) {
	t.Setenv("VORRANG_ADMIN_TOKEN", "a secret that is not for others")
	answer, err := ask(t, "environment")
	require.NoError(t, err)
	assert.NotContains(t, answer, "VORRANG")
	assert.NotContains(t, answer, "PATH=")
}

func TestManyAskAtOnce(t *testing.T) {
	var asked sync.WaitGroup
	for i := range 40 {
		asked.Go(func() {
			request := strings.Repeat(fmt.Sprint(i), 1+i*3000)
			answer, err := ask(t, request)
			assert.NoError(t, err)
			assert.Equal(t, "echo "+request, answer)
		})
	}
	asked.Wait()
}

func TestWhoeverAskedMayGoAway(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, cancel)
	_, err := probe.Do(ctx, []byte("wait"))
	require.ErrorIs(t, err, context.Canceled)
	answer, err := ask(t, "hello")
	require.NoError(t, err)
	assert.Equal(t, "echo hello", answer)
}
