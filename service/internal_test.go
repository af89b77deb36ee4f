package service

import (
	"context"
	"net"
	"net/http"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/ledger"
	"vorrang/records"
)

func TestPasswordsAreKeptAsHashes(t *testing.T) {
	kept, err := hashPassword(t.Context(), "the tide is at six")
	require.NoError(t, err)
	again, err := hashPassword(t.Context(), "the tide is at six")
	require.NoError(t, err)
	assert.NotEqual(t, kept, again, "each has a salt of its own")
	assert.Regexp(t, `^\$argon2id\$v=19\$m=19456,t=2,p=1\$[A-Za-z0-9+/]{22}\$[A-Za-z0-9+/]{43}$`, kept)
	for password, right := range map[string]bool{"the tide is at six": true, "the tide is at sev": false, "": false,
		strings.Repeat("x", 10_000): false} {
		got, err := isPassword(t.Context(), password, kept)
		require.NoError(t, err)
		assert.Equal(t, right, got, "%.20s", password)
	}
	for _, nobody := range []string{"", unknownHash} {
		got, err := isPassword(t.Context(), "", nobody)
		require.NoError(t, err)
		assert.False(t, got, "who has no password does not sign in with one")
	}
	for _, bad := range []string{"short", strings.Repeat("x", 300)} {
		_, err = hashPassword(t.Context(), bad)
		assert.Error(t, err)
	}
}

func TestTextIsShortenedBetweenCharacters(t *testing.T) {
	for limit, want := range map[int]string{0: "жжж", 6: "жжж", 5: "жж", 3: "ж", 1: ""} {
		text, shortened := shorten([]byte("жжж"), limit)
		assert.Equal(t, want, text)
		assert.Equal(t, want != "жжж", shortened)
	}
}

func TestReferencesAreAllowedByName(t *testing.T) {
	t.Setenv("HARBOUR_URL", "x")
	t.Setenv("OTHER_URL", "y")
	all := &targets{Config: &Config{}}
	some := &targets{Config: &Config{References: []string{"env:HARBOUR_*", "file:/run/secrets/*"}}}
	for reference, allowed := range map[string]bool{"env:HARBOUR_URL": true, "env:OTHER_URL": false,
		"file:/run/secrets/x": true, "file:/run/secrets/../x": false, "file:/run/secrets/a/b": false,
		"env:harbour_url": false} {
		assert.Equal(t, allowed, some.mayRefer(reference), reference)
		assert.True(t, all.mayRefer(reference))
	}
	_, err := some.resolve("env:OTHER_URL")
	require.ErrorContains(t, err, "env:OTHER_URL is not a reference that this service allows")
	value, err := some.resolve("env:HARBOUR_URL")
	require.NoError(t, err)
	assert.Equal(t, "x", value)
	_, err = all.resolve("env:VORRANG_RECORDS_URL")
	require.ErrorContains(t, err, "is the service's own")
}

// FuzzBodies gives every operation of the API any body: it is refused with a
// reason, or keeps every rule of the document.
func FuzzBodies(f *testing.F) {
	endpoints := (&Service{}).endpoints()
	for i := range endpoints {
		f.Add(
			i,
			[]byte(
				`{"reason":"x","at":"2026-11-28T22:00:00Z","last":1,"seconds":60,"grant":["reader"],"unknown":null}`,
			),
		)
	}
	f.Add(0, []byte(`{"name":null,"name":"x"} {}`))
	f.Fuzz(func(t *testing.T, which int, body []byte) {
		e := endpoints[uint(which)%uint(len(endpoints))]
		in := reflect.New(reflect.TypeOf(e.in).Elem())
		given := map[string]bool{}
		err := bindBody(body, in.Interface(), given)
		if err == nil {
			err = enforce(in.Elem(), given)
		}
		var reason *problemError
		if err != nil {
			require.ErrorAs(t, err, &reason, "%s", e.id)
			assert.Equal(t, http.StatusBadRequest, reason.problem.Status)
			assert.Less(t, len(reason.problem.Detail), 1000, "%s: what was sent is not told back at length", e.id)
			return
		}
		for i := range in.Elem().NumField() {
			field, value := in.Elem().Type().Field(i), in.Elem().Field(i)
			if words := field.Tag.Get("enum"); words != "" && given[nameOf(field)] && value.Kind() == reflect.String {
				assert.Contains(t, strings.Split(words, ","), value.String(), "%s.%s", e.id, field.Name)
			}
		}
	})
}

// A provider that does not answer holds up nobody but who waits for it.
func TestAStuckProviderHoldsUpNobodyElse(t *testing.T) {
	stuck, err := net.Listen("tcp", "127.0.0.1:0") // whose connections nobody takes
	require.NoError(t, err)
	t.Cleanup(func() { _ = stuck.Close() })
	door := &openIDSignIn{}
	settings := &OpenID{Issuer: "http://" + stuck.Addr().String()}
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		_, err := door.find(ctx, settings)
		ended <- err
	}()
	conn, err := stuck.Accept() // it asks
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	cancel()
	assert.ErrorIs(t, <-ended, context.Canceled)
}

// TestLedgersAreKeptForPagesOnly: what nobody reads any more makes room for what is read now.
func TestLedgersAreKeptForPagesOnly(t *testing.T) {
	place := func(name string) (p targetContext) {
		p.lane.Name, p.environment.Name = name, "staging"
		return p
	}
	page := context.WithValue(t.Context(), pageKey{}, true)
	read := func(entries int, before time.Duration) history {
		return history{entries: make([]ledger.Entry, entries), whole: time.Now().Add(-before)}
	}
	h := histories{}
	is := func(name string) bool {
		_, kept := h.of(place(name))
		return kept
	}
	h.keep(page, place("old"), read(mostKept-10, 2*wholeEvery))
	h.keep(page, place("new"), read(50, 0))
	assert.True(t, is("new"))
	assert.Equal(t, 50, h.entries)
	h.keep(page, place("large"), read(mostKept, 0))
	assert.False(t, is("large"), "there is no room beside what is read")
	h.keep(t.Context(), place("unread"), read(10, 0))
	assert.False(t, is("unread"), "no page asked for it")
	h.keep(t.Context(), place("new"), read(60, 0))
	assert.True(t, is("new"), "a page asked a moment ago")
	assert.Equal(t, 60, h.entries)
	one := h.kept["new/staging"]
	one.asked = time.Now().Add(-2 * wholeEvery)
	h.kept["new/staging"] = one
	h.keep(t.Context(), place("new"), read(70, 0))
	assert.False(t, is("new"), "the page was closed")
	assert.Zero(t, h.entries)
}

// TestNewsWakeWhoFollows, also those that came between two reads, and leave nothing behind.
func TestNewsWakeWhoFollows(t *testing.T) {
	n := newNews()
	one, leave := n.follow(topic("deployment", 7))
	also, leaveToo := n.follow(topic("deployment", 7))
	other, leaveOther := n.follow(topic("deployment", 8))
	n.tell(records.News{Kind: "deployment", ID: 7})
	n.tell(records.News{Kind: "deployment", ID: 7})
	assert.Len(t, one, 1)
	assert.Len(t, also, 1)
	assert.Empty(t, other)
	leave()
	n.tell(records.News{}) // something may have been missed
	assert.Len(t, other, 1)
	leaveToo()
	leaveOther()
	assert.Empty(t, n.follows)
	n.close()
	assert.True(t, n.over())
}
