package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vorrang/core/deploy"
)

func TestACookieEnds(t *testing.T) {
	s := &Service{Config: Config{Token: "0123456789abcdef"}}
	now := time.Now()
	cookie := s.cookie("Grå. Ternen", now.Add(time.Hour))
	name, valid := s.readCookie(cookie, now)
	assert.True(t, valid)
	assert.Equal(t, "Grå. Ternen", name)
	_, valid = s.readCookie(cookie, now.Add(2*time.Hour))
	assert.False(t, valid, "it has ended")
	_, valid = (&Service{Config: Config{Token: "another-token-0123"}}).readCookie(cookie, now)
	assert.False(t, valid, "another token did not sign it")
	for _, forged := range []string{"", ".", "..", "a.b.c", cookie + "0", "x" + cookie} {
		_, valid = s.readCookie(forged, now)
		assert.False(t, valid, forged)
	}
}

func TestAFeedGivesEveryReaderEveryEvent(t *testing.T) {
	f := newFeed()
	read := make(chan []int64)
	for range 3 {
		go func() {
			var seqs []int64
			for after := int64(0); ; {
				events, ended := f.after(after)
				for _, e := range events {
					seqs, after = append(seqs, e.Seq), e.Seq
				}
				if ended && len(events) == 0 {
					f.waitClosed()
					read <- seqs
					return
				}
				f.waitFor(after, nil)
			}
		}()
	}
	var want []int64
	for seq := int64(1); seq <= 500; seq++ {
		f.add(deploy.Event{Seq: seq})
		want = append(want, seq)
	}
	f.end()
	f.close()
	for range 3 {
		assert.Equal(t, want, <-read)
	}
}

func TestAWaitEndsWhenItsReaderIsGone(t *testing.T) {
	f := newFeed()
	done := make(chan struct{})
	close(done)
	f.waitFor(0, done)
	f.waitEnd(time.Millisecond)
	events, ended := f.after(0)
	assert.Empty(t, events)
	assert.False(t, ended)
}

func TestTextIsShortenedBetweenCharacters(t *testing.T) {
	for limit, want := range map[int]string{0: "жжж", 6: "жжж", 5: "жж", 3: "ж", 1: ""} {
		text, shortened := shorten([]byte("жжж"), limit)
		assert.Equal(t, want, text)
		assert.Equal(t, want != "жжж", shortened)
	}
}
