package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"vorrang/core/gate"
	"vorrang/core/release"
	"vorrang/core/step"
)

// SealedError says that a release of a name or of the same content exists.
type SealedError struct{ Release release.Release }

func (e *SealedError) Error() string {
	return fmt.Sprintf(
		"release %s has the digest %s, and was cut by %s",
		e.Release.Name, e.Release.Digest.Short(), e.Release.Maker(),
	)
}

// Sealable lists the catalogue's steps up to a number (all if it is empty), as
// a release would seal them.
func (s *Submission) Sealable(ctx context.Context, through step.Number) ([]release.Sealed, []int64, error) {
	rows, err := s.tx.Query(
		ctx,
		`SELECT id, `+stepColumns+`, digests FROM records.step WHERE lane = $1 AND newest AND gone IS NULL`,
		s.lane,
	)
	if err != nil {
		return nil, nil, fmt.Errorf("read the catalogue of %s: %w", s.lane, err)
	}
	return collectSealed(
		rows,
		func(number step.Number) bool { return through == "" || step.Compare(number, through) <= 0 },
	)
}

func collectSealed(rows pgx.Rows, keep func(step.Number) bool) ([]release.Sealed, []int64, error) {
	type version struct {
		id int64
		release.Sealed
	}
	versions, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (version, error) {
		var v version
		var digests []step.Checksum
		err := row.Scan(&v.id, &v.Number, &v.Slug, &v.Options, &v.Forward, &v.Back, &v.Check, &digests)
		if err == nil && len(digests) == 3 {
			v.Digests = release.Digests{Forward: digests[0], Back: digests[1], Check: digests[2]}
		}
		return v, err
	})
	if err != nil {
		return nil, nil, fmt.Errorf("read steps: %w", err)
	}
	slices.SortFunc(versions, func(a, b version) int { return step.Compare(a.Number, b.Number) })
	var steps []release.Sealed
	var ids []int64
	for _, v := range versions {
		if keep(v.Number) {
			steps, ids = append(steps, v.Sealed), append(ids, v.id)
		}
	}
	return steps, ids, nil
}

// Seal keeps a release of step versions, and finishes the submission. A release
// of the same name or content is a *SealedError.
func (s *Submission) Seal(ctx context.Context, r release.Release, ids []int64) error {
	defer s.Abandon()
	body, err := json.Marshal(r)
	if err != nil {
		return err
	}
	_, err = s.tx.Exec(
		ctx,
		`INSERT INTO records.release (lane, name, digest, body, steps, cut_at) VALUES ($1, $2, $3, $4, $5, $6)`,
		s.lane, r.Name, r.Digest, body, ids, r.CutAt,
	)
	if err == nil {
		err = s.tx.Commit(ctx)
	}
	var refused *pgconn.PgError
	if errors.As(err, &refused) && refused.Code == "23505" {
		s.Abandon() // gives its connection back
		return s.records.existing(ctx, r)
	}
	if err != nil {
		return fmt.Errorf("keep release %s: %w", r.Name, err)
	}
	return nil
}

func (r *Records) existing(ctx context.Context, like release.Release) error {
	rows, err := r.pool.Query(
		ctx,
		`SELECT body FROM records.release WHERE lane = $1 AND (name = $2 OR digest = $3) ORDER BY name = $2 DESC LIMIT 1`,
		like.Lane, like.Name, like.Digest,
	)
	if err != nil {
		return err
	}
	found, err := pgx.CollectExactlyOneRow(rows, pgx.RowTo[release.Release])
	if err != nil {
		return err
	}
	return &SealedError{found}
}

// ReleaseQuery says which releases are wanted; an empty field means all.
type ReleaseQuery struct {
	Search string // stands in the name, the notes, the commit or who cut it
	Before string // only those before the one with this name
	Limit  int
}

// Releases returns a lane's releases, newest first.
func (r *Records) Releases(ctx context.Context, lane string, q ReleaseQuery) ([]release.Release, error) {
	rows, err := r.pool.Query(
		ctx,
		`SELECT body FROM records.release WHERE lane = $1
			AND ($2 = '' OR (cut_at, name) < (SELECT cut_at, name FROM records.release WHERE lane = $1 AND name = $2))
			AND `+containing(`concat_ws(' ', name, body ->> 'notes', body ->> 'commit', body ->> 'cut_by')`, `$3`)+`
		ORDER BY cut_at DESC, name DESC LIMIT $4`,
		lane, q.Before, q.Search, q.Limit,
	)
	if err != nil {
		return nil, fmt.Errorf("read the releases of %s: %w", lane, err)
	}
	return pgx.CollectRows(rows, pgx.RowTo[release.Release])
}

// Release returns one release with its steps, or ErrNotFound.
func (r *Records) Release(ctx context.Context, lane, name string) (release.Release, []release.Sealed, error) {
	var found release.Release
	err := r.pool.QueryRow(ctx, `SELECT body FROM records.release WHERE lane = $1 AND name = $2`, lane, name).
		Scan(&found)
	if err != nil {
		return found, nil, noRows(err)
	}
	rows, err := r.pool.Query(ctx, `SELECT id, `+stepColumns+`, digests FROM records.step
		WHERE id = ANY (SELECT unnest(steps) FROM records.release WHERE lane = $1 AND name = $2)`, lane, name)
	if err != nil {
		return found, nil, fmt.Errorf("read release %s: %w", name, err)
	}
	steps, _, err := collectSealed(rows, func(step.Number) bool { return true })
	return found, steps, err
}

// sealed says which steps are sealed, with which files, and by which release.
func (s *Submission) sealed(ctx context.Context) (map[step.Number]sealedStep, error) {
	rows, err := s.tx.Query(
		ctx,
		`SELECT DISTINCT ON (v.number) v.number, r.name, v.digests, v.slug
			FROM records.release r, unnest(r.steps) AS sealed (id)
		JOIN records.step v ON v.id = sealed.id WHERE r.lane = $1 ORDER BY v.number, r.cut_at DESC`,
		s.lane,
	)
	if err != nil {
		return nil, fmt.Errorf("look for sealed steps: %w", err)
	}
	all := map[step.Number]sealedStep{}
	var number step.Number
	var kept sealedStep
	_, err = pgx.ForEachRow(rows, []any{&number, &kept.release, &kept.digests, &kept.slug}, func() error {
		all[number] = kept
		kept.digests = nil
		return nil
	})
	return all, err
}

type sealedStep struct {
	release string
	digests []string
	slug    string
}

// Protect finds what a submission would change of sealed steps: a text that is
// replaced, or files that are gone. To add a way back or a check to a step that
// has none is no replacement.
func (s *Submission) Protect(ctx context.Context, d Difference) (step.Problems, error) {
	if len(d.Edited)+len(d.Gone) == 0 {
		return nil, nil
	}
	all, err := s.sealed(ctx)
	if err != nil {
		return nil, err
	}
	var problems step.Problems
	for _, change := range d.Edited {
		kept, is := all[change.Step.Number]
		if !is {
			continue
		}
		if kept.slug != change.Step.Slug {
			problems = append(problems, step.Problem{File: change.Step.Forward.Name, Message: fmt.Sprintf(
				"step %s is sealed in release %s as %s, and cannot be renamed",
				change.Step.Number, kept.release, kept.slug,
			)})
		}
		now := digests(change.Step)
		for i, was := range kept.digests {
			if was != "" && was != now[i] {
				problems = append(problems, step.Problem{File: fileOf(change.Step, i),
					Message: fmt.Sprintf(
						"step %s is sealed in release %s, and its text cannot be replaced; put the file back as it was, and write the "+
							"change as a new step",
						change.Step.Number, kept.release,
					)})
			}
		}
	}
	for _, gone := range d.Gone {
		if kept, is := all[gone.Number]; is {
			problems = append(problems, step.Problem{File: gone.Forward.Name,
				Message: fmt.Sprintf(
					"step %s is sealed in release %s, and cannot leave the catalogue; put its files back",
					gone.Number, kept.release,
				)})
		}
	}
	return problems, nil
}

// fileOf names a step's forward file, way back or check, also where it is
// missing now.
func fileOf(s step.Step, index int) string {
	base := strings.TrimSuffix(s.Forward.Name, ".sql")
	return base + []string{".sql", ".back.sql", ".check.sql"}[index]
}

// Bound says what keeps the files of steps as they are: the newest release that
// sealed each, and another environment than one that a deployment took it to.
func (r *Records) Bound(
	ctx context.Context, lane, environment string, numbers []string,
) (map[step.Number]gate.Bound, error) {
	bound := map[step.Number]gate.Bound{}
	rows, _ := r.pool.Query(ctx, `SELECT n,
			coalesce((SELECT r.name FROM records.release r WHERE r.lane = $1 AND EXISTS (SELECT FROM records.step v
		WHERE v.id = ANY (r.steps) AND v.number = n)
				ORDER BY r.cut_at DESC LIMIT 1), ''),
			coalesce((SELECT d.environment FROM records.deployment d WHERE d.lane = $1 AND d.environment <> $2
				AND d.plan @> jsonb_build_object('actions', jsonb_build_array(jsonb_build_object('step',
		jsonb_build_object('number', n)))) ORDER BY d.id DESC LIMIT 1), '')
		FROM unnest($3::text[]) AS n`, lane, environment, numbers)
	var number step.Number
	var b gate.Bound
	_, err := pgx.ForEachRow(rows, []any{&number, &b.Release, &b.Went}, func() error {
		bound[number] = b
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("look what keeps steps as they are: %w", err)
	}
	return bound, nil
}

// AddSignatures keeps signatures of a release, once for each key.
func (r *Records) AddSignatures(
	ctx context.Context, lane string, digest step.Checksum, by string, signatures []release.Signature,
) error {
	for _, s := range signatures {
		_, err := r.pool.Exec(
			ctx,
			`INSERT INTO records.signature (lane, digest, key, body, added_by) VALUES ($1, $2, $3, $4, $5)
				ON CONFLICT DO NOTHING`,
			lane,
			digest,
			s.Line,
			s,
			by,
		)
		if err != nil {
			return fmt.Errorf("keep a signature: %w", err)
		}
	}
	return nil
}

// Signatures returns the signatures of a release, the oldest first.
func (r *Records) Signatures(ctx context.Context, lane string, digest step.Checksum) ([]release.Signature, error) {
	rows, _ := r.pool.Query(
		ctx,
		`SELECT body FROM records.signature WHERE lane = $1 AND digest = $2 ORDER BY added_at, key`,
		lane, digest,
	)
	list, err := pgx.CollectRows(rows, pgx.RowTo[release.Signature])
	if err != nil {
		return nil, fmt.Errorf("read the signatures: %w", err)
	}
	return list, nil
}

// SignedReleases names the releases of a lane that have signatures, newest first.
func (r *Records) SignedReleases(ctx context.Context, lane string) ([]string, error) {
	rows, _ := r.pool.Query(ctx, `SELECT name FROM records.release r WHERE lane = $1
		AND EXISTS (SELECT FROM records.signature s WHERE s.lane = r.lane AND s.digest = r.digest)
			ORDER BY cut_at DESC`, lane)
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, fmt.Errorf("look for signed releases: %w", err)
	}
	return names, nil
}

// SealedIn names a release that holds a step; empty if none does.
func (r *Records) SealedIn(ctx context.Context, lane string, number step.Number) (string, error) {
	var name string
	err := r.pool.QueryRow(ctx, `SELECT coalesce(max(r.name), '') FROM records.release r
		WHERE r.lane = $1 AND EXISTS (SELECT FROM records.step v WHERE v.id = ANY (r.steps)
			AND v.number = $2)`, lane, number).Scan(&name)
	if err != nil {
		return "", fmt.Errorf("look for the releases of step %s: %w", number, err)
	}
	return name, nil
}

// Exact returns the exact bytes with a digest, or ErrNotFound.
func (r *Records) Exact(ctx context.Context, digest step.Checksum) ([]byte, error) {
	text, err := exact(ctx, r.pool, digest)
	if err == nil && text == nil {
		err = fmt.Errorf("the text with the digest %s: %w", digest, ErrNotFound)
	}
	return text, err
}
