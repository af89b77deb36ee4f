package records

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"vorrang/core/access"
)

// groupsGoodFor is how long what somebody's groups gave them at a sign-in counts:
// as long as a session.
const groupsGoodFor = `interval '12 hours'`

const (
	groupsNow     = `CASE WHEN p.groups_at > now() - ` + groupsGoodFor + ` THEN p.from_groups ELSE '{}' END`
	personColumns = `p.name, coalesce(p.password, ''), coalesce(p.subject, ''), p.grants, ` + groupsNow +
		`, p.disabled_at, p.created_at, p.created_by, p.seen_at`
	personNow = `jsonb_set(to_jsonb(p) - 'password', '{from_groups}', to_jsonb(` + groupsNow + `))`
)

func scanPerson(row pgx.CollectableRow) (access.Person, error) {
	var p access.Person
	var grants, groups []string
	if err := row.Scan(&p.Name, &p.Password, &p.Subject, &grants, &groups, &p.Disabled, &p.CreatedAt, &p.CreatedBy,
		&p.SeenAt); err != nil {
		return p, err
	}
	p.Grants, p.FromGroups = grantsOf(grants), grantsOf(groups)
	return p, nil
}

// grantsOf reads grants. One that this version does not know grants nothing.
func grantsOf(texts []string) access.Grants {
	list := access.Grants{}
	for _, text := range texts {
		if g, err := access.ParseGrant(text); err == nil {
			list = append(list, g)
		}
	}
	return list
}

// Person returns a person, or ErrNotFound.
func (r *Records) Person(ctx context.Context, name string) (access.Person, error) {
	rows, _ := r.pool.Query(ctx, `SELECT `+personColumns+` FROM records.person p WHERE p.name = $1`, name)
	p, err := pgx.CollectExactlyOneRow(rows, scanPerson)
	return p, noRows(err)
}

// People returns people in order of their names. The search is for a name, a grant, or what
// identifies them at the identity provider.
func (r *Records) People(ctx context.Context, q ListQuery) ([]access.Person, error) {
	rows, _ := r.pool.Query(
		ctx,
		`SELECT `+personColumns+` FROM records.person p WHERE p.name > $1
			AND `+containing(`concat_ws(' ', p.name, p.subject, array_to_string(p.grants || `+groupsNow+`, ' '))`, `$2`)+`
		ORDER BY p.name LIMIT $3`,
		q.After, q.Search, q.most(),
	)
	list, err := pgx.CollectRows(rows, scanPerson)
	if err != nil {
		return nil, fmt.Errorf("read the people: %w", err)
	}
	return list, nil
}

// ChangePerson changes a person, or makes one that is not there yet, as change
// says. Nobody else changes the same person meanwhile. What is new of a password,
// or disabled, ends the person's sessions and tokens.
func (r *Records) ChangePerson(
	ctx context.Context, name string, change func(p *access.Person, isNew bool) error,
) (access.Person, error) {
	var p access.Person
	err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(
			ctx,
			`SELECT pg_advisory_xact_lock(hashtextextended('person ' || $1, 0))`,
			name,
		) // also where there is no row yet
		if err != nil {
			return err
		}
		rows, _ := tx.Query(
			ctx,
			`SELECT `+personColumns+` FROM records.person p WHERE p.name = $1 FOR NO KEY UPDATE`,
			name,
		)
		p, err = pgx.CollectExactlyOneRow(rows, scanPerson)
		isNew := errors.Is(err, pgx.ErrNoRows)
		if err != nil && !isNew {
			return err
		}
		was := p
		if err := change(&p, isNew); err != nil {
			return err
		}
		_, err = tx.Exec(
			ctx,
			`INSERT INTO records.person (name, password, grants, disabled_at, created_by) VALUES ($1, nullif($2, ''), $3, $4, $5)
			ON CONFLICT (name) DO UPDATE
				SET password = excluded.password, grants = excluded.grants, disabled_at = excluded.disabled_at`,
			name, p.Password, p.Grants.Texts(), p.Disabled, p.CreatedBy,
		)
		if err == nil && (p.Password != was.Password || p.Disabled != nil) {
			err = endSessions(ctx, tx, name)
		}
		return err
	})
	return p, err
}

// endSessions ends all by which somebody is signed in.
func endSessions(ctx context.Context, tx pgx.Tx, person string) error {
	_, err := tx.Exec(ctx, `DELETE FROM records.session WHERE person = $1`, person)
	if err == nil {
		_, err = tx.Exec(
			ctx,
			`UPDATE records.token SET revoked_at = now() WHERE person = $1 AND revoked_at IS NULL`,
			person,
		)
	}
	return err
}

// ChangePassword replaces a person's password, unless it was changed meanwhile or
// the person was disabled: then it is false.
func (r *Records) ChangePassword(ctx context.Context, name, old, next string) (changed bool, err error) {
	err = pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(
			ctx,
			`UPDATE records.person SET password = $3 WHERE name = $1 AND password = $2 AND disabled_at IS NULL`,
			name, old, next,
		)
		if changed = tag.RowsAffected() > 0; err == nil && changed {
			err = endSessions(ctx, tx, name)
		}
		return err
	})
	return changed, err
}

// ErrTaken says that a name belongs to somebody else.
var ErrTaken = errors.New("the name is somebody else's")

// SignedInElsewhere keeps who signed in by OpenID Connect, with what their groups
// grant. A name that belongs to somebody else is ErrTaken.
func (r *Records) SignedInElsewhere(
	ctx context.Context, name, subject string, grants access.Grants,
) (access.Person, error) {
	rows, _ := r.pool.Query(
		ctx,
		`INSERT INTO records.person AS p (name, subject, grants, from_groups, groups_at, created_by)
			VALUES ($1, $2, '{}', $3, now(), 'sign-in')
		ON CONFLICT (subject) DO UPDATE SET from_groups = excluded.from_groups, groups_at = now() RETURNING `+personColumns,
		name, subject, grants.Texts(),
	)
	p, err := pgx.CollectExactlyOneRow(rows, scanPerson)
	var refused *pgconn.PgError
	if errors.As(err, &refused) && refused.Code == "23505" {
		return p, ErrTaken
	}
	return p, err
}

// HasAdministrator reports whether somebody who may sign in is an administrator of
// everything.
func (r *Records) HasAdministrator(ctx context.Context) (bool, error) {
	var has bool
	err := r.pool.QueryRow(ctx, `SELECT EXISTS (SELECT FROM records.person WHERE disabled_at IS NULL
		AND 'administrator' = ANY (grants || from_groups))`).
		Scan(&has)
	return has, err
}

// Session is somebody who is signed in.
type Session struct {
	Person *access.Person // nil for whoever has the administrator's token
	Name   string
	Key    string // made of the administrator's token
	MadeAt time.Time
}

// stillThere is a person whose password and standing are as they were when they
// were checked. Its lock waits for whoever changes them.
const stillThere = `still AS (SELECT FROM records.person WHERE name = $2 AND coalesce(password, '') = $3
	AND disabled_at IS NULL FOR NO KEY UPDATE),
	seen AS (UPDATE records.person SET seen_at = now() WHERE name = $2 AND EXISTS (SELECT FROM still)) `

// AddSession keeps a session under the hash of its cookie, and drops those that
// have expired. Where the person's password or standing changed meanwhile, it is
// ErrNotFound.
func (r *Records) AddSession(ctx context.Context, hash string, s Session, expires time.Time) error {
	if _, err := r.pool.Exec(ctx, `DELETE FROM records.session WHERE expires_at < now()`); err != nil {
		return fmt.Errorf("drop old sessions: %w", err)
	}
	insert, args := `INSERT INTO records.session (hash, name, key, expires_at) VALUES ($1, $2, $3, $4)`, []any{
		hash, s.Name, s.Key, expires,
	}
	if s.Person != nil {
		insert = `WITH ` + stillThere + `INSERT INTO records.session (hash, person, name, expires_at)
			SELECT $1, $2, $2, $4 FROM still`
		args = []any{hash, s.Person.Name, s.Person.Password, expires}
	}
	tag, err := r.pool.Exec(ctx, insert, args...)
	if err != nil {
		return fmt.Errorf("keep the session: %w", err)
	}
	if tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return nil
}

// Session returns the session under a hash, or ErrNotFound.
func (r *Records) Session(ctx context.Context, hash string) (Session, error) {
	var s Session
	var person *access.Person
	err := r.pool.QueryRow(ctx, `SELECT s.name, s.key, s.made_at, CASE WHEN p.name IS NOT NULL THEN `+personNow+` END
		FROM records.session s LEFT JOIN records.person p ON p.name = s.person WHERE s.hash = $1
			AND s.expires_at > now()`, hash).
		Scan(&s.Name, &s.Key, &s.MadeAt, &person)
	s.Person = person
	return s, noRows(err)
}

// EndSession drops a session.
func (r *Records) EndSession(ctx context.Context, hash string) error {
	_, err := r.pool.Exec(ctx, `DELETE FROM records.session WHERE hash = $1`, hash)
	return err
}

const tokenColumns = `t.id, t.name, coalesce(t.person, ''), t.grants, t.made_at, t.made_by, t.expires_at, t.used_at,
	t.revoked_at,
	CASE WHEN p.name IS NOT NULL THEN ` + personNow + ` END`

func scanToken(row pgx.CollectableRow) (access.Token, error) {
	var t access.Token
	var grants []string
	err := row.Scan(
		&t.ID, &t.Name, &t.Owner, &grants, &t.MadeAt, &t.MadeBy, &t.ExpiresAt, &t.UsedAt, &t.RevokedAt, &t.Person,
	)
	t.Grants = grantsOf(grants)
	return t, err
}

const tokensWithPeople = ` FROM records.token t LEFT JOIN records.person p ON p.name = t.person `

// AddToken keeps a machine's token under its hash.
func (r *Records) AddToken(ctx context.Context, hash string, t access.Token) (access.Token, error) {
	err := r.pool.QueryRow(ctx, `INSERT INTO records.token (name, hash, grants, made_by, expires_at)
		VALUES ($1, $2, $3, $4, $5) RETURNING id,
			made_at`, t.Name, hash, t.Grants.Texts(), t.MadeBy, t.ExpiresAt).Scan(&t.ID, &t.MadeAt)
	if err != nil {
		return t, fmt.Errorf("keep the token: %w", err)
	}
	return t, nil
}

// AddOwnToken keeps a person's own token under its hash, which counts as a
// sign-in. Where the person's password or standing changed meanwhile, it is
// ErrNotFound.
func (r *Records) AddOwnToken(
	ctx context.Context, hash string, of access.Person, machine string, expires time.Time,
) error {
	tag, err := r.pool.Exec(
		ctx,
		`WITH `+stillThere+`INSERT INTO records.token (hash, person, name, grants, made_by, expires_at)
		SELECT $1, $2, $4, '{}', $2, $5 FROM still`,
		hash, of.Name, of.Password, machine, expires,
	)
	if err != nil {
		return fmt.Errorf("keep the token: %w", err)
	}
	if tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return nil
}

// Makers says of machines' names who made a token under them, revoked ones too.
func (r *Records) Makers(ctx context.Context) (map[string][]string, error) {
	rows, err := r.pool.Query(ctx, `SELECT DISTINCT name, made_by FROM records.token WHERE person IS NULL`)
	if err != nil {
		return nil, fmt.Errorf("read who made the tokens: %w", err)
	}
	makers := map[string][]string{}
	var machine, by string
	_, err = pgx.ForEachRow(rows, []any{&machine, &by}, func() error {
		makers[machine] = append(makers[machine], by)
		return nil
	})
	return makers, err
}

// RevokeOwn ends a person's own token; false if they have none with the number.
func (r *Records) RevokeOwn(ctx context.Context, person string, id int64) (bool, error) {
	tag, err := r.pool.Exec(
		ctx,
		`UPDATE records.token SET revoked_at = now() WHERE id = $1 AND person = $2 AND revoked_at IS NULL`,
		id, person,
	)
	return tag.RowsAffected() > 0, err
}

// TokenNow is Token by its number.
func (r *Records) TokenNow(ctx context.Context, id int64) (access.Token, error) {
	rows, _ := r.pool.Query(
		ctx,
		`SELECT `+tokenColumns+tokensWithPeople+`WHERE t.id = $1 AND t.revoked_at IS NULL AND t.expires_at > now()`,
		id,
	)
	t, err := pgx.CollectExactlyOneRow(rows, scanToken)
	return t, noRows(err)
}

// tokenUsedEvery is how exactly the last use of a token is known.
const tokenUsedEvery = time.Minute

// Token returns the token under a hash, unless it was revoked or has expired,
// and notes that it was used, which SaveUses keeps; or ErrNotFound.
func (r *Records) Token(ctx context.Context, hash string) (access.Token, error) {
	rows, _ := r.pool.Query(
		ctx,
		`SELECT `+tokenColumns+tokensWithPeople+`WHERE t.hash = $1 AND t.revoked_at IS NULL AND t.expires_at > now()`,
		hash,
	)
	t, err := pgx.CollectExactlyOneRow(rows, scanToken)
	if err == nil && (t.UsedAt == nil || time.Since(*t.UsedAt) > tokenUsedEvery) {
		r.used.note(t.ID)
	}
	return t, noRows(err)
}

// uses are the tokens that were used since that was kept last.
type uses struct {
	mu  sync.Mutex
	ids map[int64]time.Time
}

func (u *uses) note(id int64) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.ids == nil {
		u.ids = map[int64]time.Time{}
	}
	u.ids[id] = time.Now()
}

// take hands over what was noted, and forgets it.
func (u *uses) take() (ids []int64, at []time.Time) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for id, when := range u.ids {
		ids, at = append(ids, id), append(at, when)
	}
	u.ids = nil
	return ids, at
}

// SaveUses keeps when tokens were used; a request that only reads writes nothing.
func (r *Records) SaveUses(ctx context.Context) error {
	ids, at := r.used.take()
	if len(ids) == 0 {
		return nil
	}
	_, err := r.pool.Exec(ctx, `UPDATE records.token t SET used_at = greatest(t.used_at, u.at)
		FROM unnest($1::bigint[], $2::timestamptz[]) u (id, at) WHERE t.id = u.id`, ids, at)
	if err != nil {
		return fmt.Errorf("keep when tokens were used: %w", err)
	}
	return nil
}

// Tokens returns tokens that were not revoked, the newest first: a person's own, or all where none is
// named. The search is for a name, a person, a grant or who made it.
func (r *Records) Tokens(ctx context.Context, person string, q ListQuery) ([]access.Token, error) {
	rows, _ := r.pool.Query(
		ctx,
		`SELECT `+tokenColumns+tokensWithPeople+`WHERE t.revoked_at IS NULL AND ($1 = 0 OR t.id < $1) AND ($4 = '' OR t.person = $4)
			AND `+containing(`concat_ws(' ', t.name, t.person, t.made_by, array_to_string(t.grants, ' '))`, `$2`)+`
		ORDER BY t.id DESC LIMIT $3`,
		q.Before, q.Search, q.most(), person,
	)
	list, err := pgx.CollectRows(rows, scanToken)
	if err != nil {
		return nil, fmt.Errorf("read the tokens: %w", err)
	}
	return list, nil
}

// Revoke ends a token; false if there is none.
func (r *Records) Revoke(ctx context.Context, id int64) (bool, error) {
	tag, err := r.pool.Exec(ctx, `UPDATE records.token SET revoked_at = now() WHERE id = $1 AND revoked_at IS NULL`, id)
	return tag.RowsAffected() > 0, err
}
