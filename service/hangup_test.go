package service

import (
	"context"
	"crypto/tls"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/lane"
	"vorrang/service/api"
)

// TestWhoHangsUpIsNoticed whatever was sent before, and also beneath TLS.
func TestWhoHangsUpIsNoticed(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	for name, wrap := range map[string]func(net.Conn) net.Conn{
		"plain": func(c net.Conn) net.Conn { return c },
		"TLS":   func(c net.Conn) net.Conn { return tls.Server(c, &tls.Config{}) },
	} {
		caller, err := net.Dial("tcp", listener.Addr().String())
		require.NoError(t, err)
		conn, err := listener.Accept()
		require.NoError(t, err)
		raw := rawOf(wrap(conn))
		require.NotNil(t, raw, name)
		_, err = caller.Write([]byte("the last words"))
		require.NoError(t, err)
		assert.False(t, hungUp(raw), name)
		require.NoError(t, caller.Close())
		assert.Eventually(t, func() bool { return hungUp(raw) }, time.Minute, time.Millisecond, name)
		require.NoError(t, conn.Close())
		assert.True(t, hungUp(raw), "%s: our own side is closed", name)
	}
	inMemory, _ := net.Pipe()
	assert.Nil(t, rawOf(inMemory))
}

// TestALookEndsWithTheLastWhoWaitsForIt, not with the first who goes, and the next look is another.
func TestALookEndsWithTheLastWhoWaitsForIt(t *testing.T) {
	l := newLooking(time.Now)
	staging := targetContext{lane: lane.Lane{Name: "harbour"}, environment: lane.Environment{Name: "staging"}}
	begun, answers := make(chan context.Context, 3), make(chan error, 3)
	ask := func(ctx context.Context) {
		_, err := l.once(ctx, staging, false, func(within context.Context) (api.EnvironmentStatus, error) {
			begun <- within
			<-within.Done()
			return api.EnvironmentStatus{Lane: "harbour"}, nil // as if nothing were wrong
		})
		answers <- err
	}
	first, leaveFirst := context.WithCancel(t.Context())
	second, leaveSecond := context.WithCancel(t.Context())
	go ask(first)
	look := <-begun
	go ask(second)
	waiting := func() (n int) {
		l.mu.Lock()
		defer l.mu.Unlock()
		for _, f := range l.flights {
			n += f.wait
		}
		return n
	}
	require.Eventually(t, func() bool { return waiting() == 2 }, time.Minute, time.Millisecond)
	leaveFirst()
	assert.ErrorIs(t, <-answers, context.Canceled)
	assert.NoError(t, look.Err(), "somebody waits for it")
	leaveSecond()
	assert.ErrorIs(t, <-answers, context.Canceled)
	<-look.Done()
	assert.Equal(t, 0, waiting())
	assert.Empty(t, l.told, "a look that was cut short is told nobody")

	third, leaveThird := context.WithCancel(t.Context())
	defer leaveThird()
	go ask(third)
	assert.NoError(t, (<-begun).Err(), "who asks now has a look of their own")
	leaveThird()
	assert.ErrorIs(t, <-answers, context.Canceled)
}

// TestTheTurnIsNotTheLook: what is waited for because of other targets is no part of the time that a look may take.
func TestTheTurnIsNotTheLook(t *testing.T) {
	l := newLooking(time.Now)
	l.patience = 10 * time.Millisecond
	place := func(name string) targetContext {
		return targetContext{lane: lane.Lane{Name: "harbour"}, environment: lane.Environment{Name: name}}
	}
	var leaves []func()
	for range mostLooks {
		_, leave, err := l.enter(t.Context(), place("silent"))
		require.NoError(t, err)
		leaves = append(leaves, leave)
	}
	long, cancel := context.WithTimeout(t.Context(), 5*l.patience)
	defer cancel()
	_, _, err := l.enter(long, place("staging"))
	require.ErrorIs(t, err, context.DeadlineExceeded, "there is no room, and nothing is said of the target")
	entered := make(chan error)
	go func() {
		within, leave, err := l.enter(t.Context(), place("staging"))
		if err == nil {
			err = within.Err()
			defer leave()
		}
		entered <- err
	}()
	l.patience = time.Minute
	leaves[0]()
	require.NoError(t, <-entered)

	l.keep(api.EnvironmentStatus{Lane: "harbour", Environment: "silent"}) // it was not reached
	for range mostLooks {
		_, _, err := l.enter(t.Context(), place("silent"))
		require.NoError(t, err)
	}
	_, leave, err := l.enter(t.Context(), place("staging"))
	require.NoError(t, err, "whatever does not answer again")
	leave()
}

// TestALookThatBeganEarlierSaysNothingOfLater: it may end after one that began later.
func TestALookThatBeganEarlierSaysNothingOfLater(t *testing.T) {
	l := newLooking(time.Now)
	place := targetContext{lane: lane.Lane{Name: "harbour"}, environment: lane.Environment{Name: "staging"}}
	began, end := make(chan struct{}), make(chan struct{})
	seen := func(reached bool) api.EnvironmentStatus {
		return api.EnvironmentStatus{Lane: "harbour", Environment: "staging", Reached: reached}
	}
	earlier := make(chan error)
	go func() {
		_, err := l.once(t.Context(), place, false, func(context.Context) (api.EnvironmentStatus, error) {
			close(began)
			<-end
			return seen(true), nil
		})
		earlier <- err
	}()
	<-began
	for _, steps := range []bool{true, false} { // for the same question too, by who wants what is so now
		fresh := context.WithValue(t.Context(), freshKey{}, true)
		_, err := l.once(fresh, place, steps, func(context.Context) (api.EnvironmentStatus, error) { return seen(false), nil })
		require.NoError(t, err)
	}
	close(end)
	require.NoError(t, <-earlier)
	newest, known := l.newest("harbour", "staging")
	require.True(t, known)
	assert.False(t, newest.status.Reached)
	told, known := l.again(t.Context(), question{"harbour/staging", false})
	require.True(t, known)
	assert.False(t, told.Reached)
}
