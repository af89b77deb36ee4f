package work

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/step"
)

func TestTheFirstTextIsReadBeforeItIsAskedFor(t *testing.T) {
	began := make(chan step.Checksum, 10)
	read := func(_ context.Context, sum step.Checksum) ([]byte, error) {
		began <- sum
		return []byte("text of " + sum), nil
	}
	ahead, end := readFirst(t.Context(), []step.Checksum{"a", "b", "a"}, read)
	defer end()
	assert.Equal(t, step.Checksum("a"), <-began, "nobody has asked yet")
	for i, sum := range []step.Checksum{"a", "b", "a"} {
		text, err := ahead(t.Context(), sum)
		require.NoError(t, err)
		assert.Equal(t, "text of "+string(sum), string(text))
		if i > 0 {
			assert.Equal(t, sum, <-began, "the others are read when they are asked for")
		}
	}
	assert.Empty(t, began, "none was read twice")
}

func TestATextThatCannotBeReadIsToldToWhoAsks(t *testing.T) {
	gone := errors.New("the records are away")
	ahead, end := readFirst(t.Context(), []step.Checksum{"a"}, func(context.Context, step.Checksum) ([]byte, error) {
		return nil, gone
	})
	defer end()
	_, err := ahead(t.Context(), "a")
	assert.ErrorIs(t, err, gone)
}

func TestAReadingThatNobodyWaitsForEnds(t *testing.T) {
	_, end := readFirst(t.Context(), []step.Checksum{"a"}, func(ctx context.Context, _ step.Checksum) ([]byte, error) {
		<-ctx.Done()
		return nil, ctx.Err()
	})
	end() // it returns
	ahead, end := readFirst(t.Context(), nil, nil)
	assert.Nil(t, ahead)
	end()
}
