package work

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vorrang/core/deploy"
)

func TestAFeedGivesEveryReaderEveryEvent(t *testing.T) {
	f := newFeed()
	read := make(chan []int64)
	for range 3 {
		go func() {
			var seqs []int64
			for after := int64(0); ; {
				events, ended := f.After(after)
				for _, e := range events {
					seqs, after = append(seqs, e.Seq), e.Seq
				}
				if ended && len(events) == 0 {
					f.WaitClosed()
					read <- seqs
					return
				}
				f.WaitFor(after, nil)
			}
		}()
	}
	var want []int64
	for seq := int64(1); seq <= 500; seq++ {
		f.add(deploy.Event{Seq: seq})
		if seq%7 == 0 {
			f.release(seq)
		}
		want = append(want, seq)
	}
	events, _ := f.After(497)
	assert.Empty(t, events, "nobody is told of what is not kept yet")
	f.end()
	_, ended := f.After(497)
	assert.False(t, ended)
	f.release(500)
	f.close()
	for range 3 {
		assert.Equal(t, want, <-read)
	}
}

func TestAWaitEndsWhenItsReaderIsGone(t *testing.T) {
	f := newFeed()
	done := make(chan struct{})
	close(done)
	f.WaitFor(0, done)
	f.WaitEnd(time.Millisecond)
	events, ended := f.After(0)
	assert.Empty(t, events)
	assert.False(t, ended)
}

// TestWhatIsAnotherServicesIsNotToldHere: readers end, to go on from the records.
func TestWhatIsAnotherServicesIsNotToldHere(t *testing.T) {
	u := newUnderWay()
	_, f, end := u.begin(t.Context(), 7)
	defer end()
	f.add(deploy.Event{Seq: 1})
	f.add(deploy.Event{Seq: 2})
	f.release(1)
	f.each(func([]deploy.Event) bool { return false })
	f.WaitFor(1, nil)
	events, over := f.After(0)
	assert.Len(t, events, 1)
	assert.True(t, over)
	assert.Nil(t, u.Feed(7))
}
