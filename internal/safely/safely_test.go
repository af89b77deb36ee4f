package safely

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func overflow(list []int) int { return list[len(list)] }

func TestAPanicIsAnErrorWithItsStack(t *testing.T) {
	err := Do(func() error { return errors.New("as it is") })
	require.EqualError(t, err, "as it is")
	require.NoError(t, Do(func() error { return nil }))
	var fault *Fault
	require.ErrorAs(t, Do(func() error { overflow(nil); return nil }), &fault)
	assert.Contains(t, string(fault.Stack), "safely.overflow")
	assert.Contains(t, fault.Error(), "index out of range")
}

func TestWhoWaitsHearsOfAPanic(t *testing.T) {
	done := make(chan struct{})
	err := Do(func() error {
		var g Group
		g.Go(func() { overflow(nil) })
		g.Go(func() { close(done) })
		g.Wait()
		return nil
	})
	var fault *Fault
	require.ErrorAs(t, err, &fault)
	assert.Contains(t, string(fault.Stack), "safely.overflow", "the stack is the other goroutine's")
	<-done
}
