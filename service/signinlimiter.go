package service

import (
	"context"
	"time"

	"vorrang/records"
)

// signInLimiter slows down who guesses. What it goes by is in the records, so that it does
// not matter which service somebody asks.
type signInLimiter struct{ records *records.Records }

const (
	freeTries  = 5 // wrong ones that cost nothing
	longestGap = 5 * time.Minute

	addressTries = 100 // at once, of one address; later one for each second

	// remembered is how many wrong tries, and addresses, are kept in mind.
	remembered = 100_000
)

var signInLimits = records.SignInLimits{Free: freeTries, Longest: longestGap, Burst: addressTries}

// allow reports whether a try is checked, how long to wait if it is not, and how many were
// refused before it.
func (t *signInLimiter) allow(
	ctx context.Context, name, address string, now time.Time,
) (wait time.Duration, refused int, err error) {
	return t.records.AllowSignIn(ctx, signInLimits, name, address, now)
}

// failed notes a wrong try.
func (t *signInLimiter) failed(ctx context.Context, name, address string, now time.Time) error {
	return t.records.WrongSignIn(ctx, signInLimits, name, address, now)
}

// right forgets the wrong tries of somebody who has signed in.
func (t *signInLimiter) right(ctx context.Context, name, address string) error {
	return t.records.RightSignIn(ctx, name, address)
}
