package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// SignInLimits slow down who guesses, at whichever service: wrong tries from an address to be
// one person are checked later and later, and each address has a budget over all names.
// Nobody's name is locked for others.
type SignInLimits struct {
	Free    int           // wrong tries that cost nothing
	Longest time.Duration // between two tries to be one person
	Burst   float64       // tries of one address at once; later one for each second
}

// AllowSignIn reports whether a try at a time is checked, how long to wait if it is not, and how
// many were refused since the last one that was.
func (r *Records) AllowSignIn(
	ctx context.Context, limits SignInLimits, name, address string, now time.Time,
) (wait time.Duration, refused int, err error) {
	err = pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		var seconds float64
		err := tx.QueryRow(ctx, `UPDATE records.wrong_sign_in SET refused = refused + 1 WHERE name = $1 AND address = $2
			AND next_at > $3 RETURNING extract(epoch FROM next_at - $3)::float8`, name, address, now).Scan(&seconds)
		if err == nil {
			wait = time.Duration(seconds * float64(time.Second))
			return nil
		}
		if !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		tag, err := tx.Exec(ctx, `INSERT INTO records.sign_in_budget AS b (address, tries, at)
			VALUES ($1, $2::float8 - 1, $3) ON CONFLICT (address) DO UPDATE SET at = greatest(b.at, $3),
				tries = least($2, b.tries + greatest(0, extract(epoch FROM $3 - b.at))) - 1
			WHERE b.tries + greatest(0, extract(epoch FROM $3 - b.at)) >= 1`, address, limits.Burst, now)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			wait = time.Second
			return nil
		}
		if name == "" {
			return nil
		}
		wait, refused, err = countTry(ctx, tx, limits, name, address, now)
		return err
	})
	if err != nil {
		return 0, 0, fmt.Errorf("look how many wrong sign-ins there were: %w", err)
	}
	return wait, refused, nil
}

// countTry counts a try as wrong before it is checked, so that those which are made at once wait
// for each other. One that another try has made wait meanwhile is not counted.
func countTry(
	ctx context.Context, tx pgx.Tx, limits SignInLimits, name, address string, now time.Time,
) (wait time.Duration, refused int, err error) {
	err = tx.QueryRow(ctx, `SELECT refused FROM records.wrong_sign_in WHERE name = $1 AND address = $2 FOR UPDATE`,
		name, address).Scan(&refused)
	if err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return 0, 0, err
	}
	tag, err := tx.Exec(ctx, `INSERT INTO records.wrong_sign_in AS w (name, address, wrong, next_at, seen_at)
		VALUES ($1, $2, 1, $5, $5) ON CONFLICT (name, address) DO UPDATE SET wrong = w.wrong + 1, seen_at = $5, refused = 0,
			next_at = CASE WHEN w.wrong + 1 < $3 THEN $5::timestamptz ELSE $5 + make_interval(secs =>
				least(power(2, least(w.wrong + 1 - $3, 20)), $4::float8)) END
		WHERE w.next_at <= $5`,
		name, address, limits.Free, limits.Longest.Seconds(), now)
	if err == nil && tag.RowsAffected() == 0 {
		wait = time.Second
	}
	return wait, refused, err
}

// UncheckedSignIn takes back what AllowSignIn counted, for a try that was neither right nor wrong.
func (r *Records) UncheckedSignIn(ctx context.Context, name, address string, now time.Time) error {
	_, err := r.pool.Exec(ctx, `UPDATE records.wrong_sign_in
		SET wrong = greatest(wrong - 1, 0), next_at = least(next_at, $3) WHERE name = $1 AND address = $2`,
		name, address, now)
	return err
}

// RightSignIn forgets the wrong tries of somebody who has signed in.
func (r *Records) RightSignIn(ctx context.Context, name, address string) error {
	_, err := r.pool.Exec(ctx, `DELETE FROM records.wrong_sign_in WHERE name = $1 AND address = $2`, name, address)
	return err
}

// ForgetSignIns lets go of what slows nobody down any more, and bounds what is remembered.
func (r *Records) ForgetSignIns(ctx context.Context, most int) error {
	_, err := r.pool.Exec(ctx, `WITH tries AS (DELETE FROM records.wrong_sign_in WHERE seen_at < now() - interval '1 hour'
			OR (name, address) IN (SELECT name, address FROM records.wrong_sign_in ORDER BY seen_at DESC OFFSET $1)),
		ways AS (DELETE FROM records.openid_sign_in WHERE expires < now())
		DELETE FROM records.sign_in_budget WHERE at < now() - interval '1 hour'
			OR address IN (SELECT address FROM records.sign_in_budget ORDER BY at DESC OFFSET $1)`, most)
	return err
}

// UnderWay is a sign-in whose browser is at an OpenID Connect provider.
type UnderWay struct {
	Cookie, Nonce, Verifier string // the cookie's SHA-256
	Expires                 time.Time
}

// LeaveForOpenID keeps a sign-in until its browser is back; false if too many are under way.
func (r *Records) LeaveForOpenID(ctx context.Context, state string, u UnderWay, most int) (bool, error) {
	tag, err := r.pool.Exec(ctx, `INSERT INTO records.openid_sign_in (state, cookie, nonce, verifier, expires)
		SELECT $1, $2, $3, $4, $5 WHERE (SELECT count(*) FROM records.openid_sign_in WHERE expires > now()) < $6`,
		state, u.Cookie, u.Nonce, u.Verifier, u.Expires, most)
	if err != nil {
		return false, fmt.Errorf("keep a sign-in that is under way: %w", err)
	}
	return tag.RowsAffected() > 0, nil
}

// BackFromOpenID takes a sign-in out that was begun in the same browser; it comes back once.
// The error is ErrNotFound if there is none, or it took too long.
func (r *Records) BackFromOpenID(ctx context.Context, state, cookie string) (UnderWay, error) {
	var u UnderWay
	var late bool
	err := r.pool.QueryRow(ctx, `DELETE FROM records.openid_sign_in WHERE state = $1 AND cookie = $2
		RETURNING cookie, nonce, verifier, expires, expires < now()`, state, cookie).
		Scan(&u.Cookie, &u.Nonce, &u.Verifier, &u.Expires, &late)
	if err == nil && late {
		err = ErrNotFound
	}
	return u, noRows(err)
}
