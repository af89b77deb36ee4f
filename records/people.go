package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"vorrang/core/access"
)

const personColumns = `name, coalesce(password, ''), coalesce(subject, ''), grants, from_groups, disabled_at, created_at, created_by, seen_at`

func scanPerson(row pgx.CollectableRow) (access.Person, error) {
	var p access.Person
	var grants, groups []string
	if err := row.Scan(&p.Name, &p.Password, &p.Subject, &grants, &groups, &p.Disabled, &p.CreatedAt, &p.CreatedBy, &p.SeenAt); err != nil {
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
	rows, _ := r.pool.Query(ctx, `SELECT `+personColumns+` FROM records.person WHERE name = $1`, name)
	p, err := pgx.CollectExactlyOneRow(rows, scanPerson)
	return p, noRows(err)
}

// People returns everybody, in order of their names.
func (r *Records) People(ctx context.Context) ([]access.Person, error) {
	rows, _ := r.pool.Query(ctx, `SELECT `+personColumns+` FROM records.person ORDER BY name`)
	list, err := pgx.CollectRows(rows, scanPerson)
	if err != nil {
		return nil, fmt.Errorf("read the people: %w", err)
	}
	return list, nil
}

// PutPerson keeps a person, new or changed. A change of password, and being
// disabled, end the person's sessions and tokens.
func (r *Records) PutPerson(ctx context.Context, p access.Person, ends bool) error {
	err := pgx.BeginFunc(ctx, r.pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `INSERT INTO records.person (name, password, grants, disabled_at, created_by) VALUES ($1, nullif($2, ''), $3, $4, $5)
			ON CONFLICT (name) DO UPDATE SET password = excluded.password, grants = excluded.grants, disabled_at = excluded.disabled_at`,
			p.Name, p.Password, p.Grants.Texts(), p.Disabled, p.CreatedBy)
		if err == nil && ends {
			_, err = tx.Exec(ctx, `DELETE FROM records.session WHERE person = $1`, p.Name)
		}
		if err == nil && ends {
			_, err = tx.Exec(ctx, `UPDATE records.token SET revoked_at = now() WHERE person = $1 AND revoked_at IS NULL`, p.Name)
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("keep the person: %w", err)
	}
	return nil
}

// ErrTaken says that a name belongs to somebody else.
var ErrTaken = errors.New("the name is somebody else's")

// SignedInElsewhere keeps who signed in by OpenID Connect, with what their groups
// grant. A name that belongs to somebody else is ErrTaken.
func (r *Records) SignedInElsewhere(ctx context.Context, name, subject string, grants access.Grants) (access.Person, error) {
	rows, _ := r.pool.Query(ctx, `INSERT INTO records.person (name, subject, grants, from_groups, created_by) VALUES ($1, $2, '{}', $3, 'sign-in')
		ON CONFLICT (subject) DO UPDATE SET from_groups = excluded.from_groups RETURNING `+personColumns, name, subject, grants.Texts())
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
	err := r.pool.QueryRow(ctx, `SELECT EXISTS (SELECT FROM records.person WHERE disabled_at IS NULL AND 'administrator' = ANY (grants || from_groups))`).Scan(&has)
	return has, err
}

// Session is somebody who is signed in.
type Session struct {
	Person *access.Person // nil for whoever has the administrator's token
	Name   string
	Key    string // made of the administrator's token
}

// AddSession keeps a session under the hash of its cookie, and drops those that
// have expired.
func (r *Records) AddSession(ctx context.Context, hash string, s Session, expires time.Time) error {
	batch := &pgx.Batch{}
	batch.Queue(`DELETE FROM records.session WHERE expires_at < now()`)
	var person *string
	if s.Person != nil {
		person = &s.Person.Name
		batch.Queue(`UPDATE records.person SET seen_at = now() WHERE name = $1`, s.Person.Name)
	}
	batch.Queue(`INSERT INTO records.session (hash, person, name, key, expires_at) VALUES ($1, $2, $3, $4, $5)`, hash, person, s.Name, s.Key, expires)
	if err := r.pool.SendBatch(ctx, batch).Close(); err != nil {
		return fmt.Errorf("keep the session: %w", err)
	}
	return nil
}

// Session returns the session under a hash, or ErrNotFound.
func (r *Records) Session(ctx context.Context, hash string) (Session, error) {
	var s Session
	var person *access.Person
	err := r.pool.QueryRow(ctx, `SELECT s.name, s.key, to_jsonb(p) FROM records.session s LEFT JOIN records.person p ON p.name = s.person
		WHERE s.hash = $1 AND s.expires_at > now()`, hash).Scan(&s.Name, &s.Key, &person)
	s.Person = person
	return s, noRows(err)
}

// EndSession drops a session.
func (r *Records) EndSession(ctx context.Context, hash string) error {
	_, err := r.pool.Exec(ctx, `DELETE FROM records.session WHERE hash = $1`, hash)
	return err
}

const tokenColumns = `t.id, t.name, coalesce(t.person, ''), t.grants, t.made_at, t.made_by, t.expires_at, t.used_at, t.revoked_at, to_jsonb(p)`

func scanToken(row pgx.CollectableRow) (access.Token, error) {
	var t access.Token
	var grants []string
	err := row.Scan(&t.ID, &t.Name, &t.Owner, &grants, &t.MadeAt, &t.MadeBy, &t.ExpiresAt, &t.UsedAt, &t.RevokedAt, &t.Person)
	t.Grants = grantsOf(grants)
	return t, err
}

const tokensWithPeople = ` FROM records.token t LEFT JOIN records.person p ON p.name = t.person `

// AddToken keeps a token under its hash. A person's own counts as a sign-in.
func (r *Records) AddToken(ctx context.Context, hash string, t access.Token) (access.Token, error) {
	err := r.pool.QueryRow(ctx, `WITH seen AS (UPDATE records.person SET seen_at = now() WHERE name = nullif($3, ''))
		INSERT INTO records.token (name, hash, person, grants, made_by, expires_at)
		VALUES ($1, $2, nullif($3, ''), $4, $5, $6) RETURNING id, made_at`, t.Name, hash, t.Owner, t.Grants.Texts(), t.MadeBy, t.ExpiresAt).Scan(&t.ID, &t.MadeAt)
	if err != nil {
		return t, fmt.Errorf("keep the token: %w", err)
	}
	return t, nil
}

// tokenUsedEvery is how exactly the last use of a token is known.
const tokenUsedEvery = time.Minute

// Token returns the token under a hash, unless it was revoked or has expired,
// and notes that it was used; or ErrNotFound.
func (r *Records) Token(ctx context.Context, hash string) (access.Token, error) {
	rows, _ := r.pool.Query(ctx, `SELECT `+tokenColumns+tokensWithPeople+`WHERE t.hash = $1 AND t.revoked_at IS NULL AND t.expires_at > now()`, hash)
	t, err := pgx.CollectExactlyOneRow(rows, scanToken)
	if err == nil && (t.UsedAt == nil || time.Since(*t.UsedAt) > tokenUsedEvery) {
		_, err = r.pool.Exec(ctx, `UPDATE records.token SET used_at = now() WHERE id = $1`, t.ID)
	}
	return t, noRows(err)
}

// Tokens returns every token that was not revoked, the newest first.
func (r *Records) Tokens(ctx context.Context) ([]access.Token, error) {
	rows, _ := r.pool.Query(ctx, `SELECT `+tokenColumns+tokensWithPeople+`WHERE t.revoked_at IS NULL ORDER BY t.id DESC`)
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
