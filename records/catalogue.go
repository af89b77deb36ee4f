package records

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"vorrang/core/plan"
	"vorrang/core/step"
)

// catalogues keeps the lanes' catalogues in memory, since every look at an environment needs
// one, as of the newest submission to each. Submissions of a lane wait for each other, so
// its newest one tells whether a catalogue is that of now, whichever service wrote it.
type catalogues struct {
	mu    sync.Mutex // is never held while the records are asked
	lanes map[string]catalogue
}

type catalogue struct {
	newest int64 // submission
	steps  []plan.Step
}

// kept is a lane's catalogue as of a submission.
func (c *catalogues) kept(lane string, newest int64) ([]plan.Step, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	one, is := c.lanes[lane]
	return one.steps, is && one.newest == newest
}

func (c *catalogues) keep(lane string, one catalogue) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.lanes == nil {
		c.lanes = map[string]catalogue{}
	}
	if c.lanes[lane].newest <= one.newest {
		c.lanes[lane] = one
	}
}

const stepColumns = `number, slug, options, forward, back, "check"`

func scanStep(row pgx.CollectableRow) (plan.Step, error) {
	var s plan.Step
	err := row.Scan(&s.Number, &s.Slug, &s.Options, &s.Forward, &s.Back, &s.Check)
	return s, err
}

// Catalogue returns a lane's steps in order. The slice must not be changed.
func (r *Records) Catalogue(ctx context.Context, lane string) ([]plan.Step, error) {
	all, err := r.Catalogues(ctx, lane)
	return all[lane], err
}

// Catalogues returns the steps of lanes in order. The slices must not be changed.
func (r *Records) Catalogues(ctx context.Context, lanes ...string) (map[string][]plan.Step, error) {
	// read before the steps: what is submitted in between is read again the next time
	rows, err := r.pool.Query(ctx, `SELECT lane, coalesce((SELECT max(id) FROM records.submission WHERE lane = one.lane), 0)
		FROM unnest($1::text[]) one (lane)`, lanes)
	if err != nil {
		return nil, fmt.Errorf("read the catalogues: %w", err)
	}
	all := make(map[string][]plan.Step, len(lanes))
	older := map[string]int64{} // lanes whose catalogue is not kept as of their newest submission
	var lane string
	var newest int64
	_, err = pgx.ForEachRow(rows, []any{&lane, &newest}, func() error {
		steps, kept := r.catalogues.kept(lane, newest)
		if all[lane] = steps; !kept {
			older[lane] = newest
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("read the catalogues: %w", err)
	}
	for lane, newest := range older {
		if all[lane], err = r.readCatalogue(ctx, lane); err != nil {
			return nil, fmt.Errorf("read the catalogue of %s: %w", lane, err)
		}
		r.catalogues.keep(lane, catalogue{newest, all[lane]})
	}
	return all, nil
}

func (r *Records) readCatalogue(ctx context.Context, lane string) ([]plan.Step, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+stepColumns+` FROM records.step WHERE lane = $1 AND newest AND gone IS NULL`, lane)
	if err != nil {
		return nil, err
	}
	steps, err := pgx.CollectRows(rows, scanStep)
	slices.SortFunc(steps, byNumber)
	return steps, err
}

func byNumber(a, b plan.Step) int { return step.Compare(a.Number, b.Number) }

// Version returns a step as it was submitted with a forward text of this
// checksum, newest first, or ErrNotFound.
func (r *Records) Version(
	ctx context.Context, lane string, number step.Number, forward step.Checksum,
) (plan.Step, error) {
	rows, err := r.pool.Query(ctx, `SELECT `+stepColumns+` FROM records.step
		WHERE lane = $1 AND number = $2 AND forward ->> 'checksum' = $3 ORDER BY id DESC LIMIT 1`, lane, number, forward)
	if err != nil {
		return plan.Step{}, err
	}
	s, err := pgx.CollectExactlyOneRow(rows, scanStep)
	return s, noRows(err)
}

// Text returns the normal text with a checksum, or ErrNotFound.
func (r *Records) Text(ctx context.Context, checksum step.Checksum) ([]byte, error) {
	return normalText(ctx, r.pool, checksum)
}

func normalText(ctx context.Context, from querier, checksum step.Checksum) ([]byte, error) {
	texts, err := normalTexts(ctx, from, []step.Checksum{checksum})
	if err != nil {
		return nil, err
	}
	text, found := texts[checksum]
	if !found {
		return nil, fmt.Errorf("the text with the checksum %s: %w", checksum, ErrNotFound)
	}
	return text, nil
}

// Texts returns the normal texts with some checksums; a checksum that is not
// kept is left out.
func (r *Records) Texts(ctx context.Context, checksums []step.Checksum) (map[step.Checksum][]byte, error) {
	return normalTexts(ctx, r.pool, checksums)
}

func normalTexts(ctx context.Context, from querier, checksums []step.Checksum) (map[step.Checksum][]byte, error) {
	// One of several exact texts with the same checksum will do.
	rows, err := from.Query(ctx, `SELECT t.checksum, t.size, p.bytes
		FROM (SELECT DISTINCT ON (checksum) * FROM records.text WHERE checksum = ANY ($1) ORDER BY checksum, digest) t
		JOIN records.text_part p USING (digest) ORDER BY t.digest, p.part`, checksums)
	if err != nil {
		return nil, fmt.Errorf("read texts: %w", err)
	}
	texts := make(map[step.Checksum][]byte, len(checksums))
	var checksum step.Checksum
	var size int64
	var part pgtype.DriverBytes
	_, err = pgx.ForEachRow(rows, []any{&checksum, &size, &part}, func() error {
		if texts[checksum] == nil {
			texts[checksum] = make([]byte, 0, size)
		}
		texts[checksum] = append(texts[checksum], part...)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("read texts: %w", err)
	}
	for checksum, exact := range texts {
		texts[checksum] = step.NormalText(exact)
	}
	return texts, nil
}

// Sizes returns the sizes in bytes of the texts with some checksums.
func (r *Records) Sizes(ctx context.Context, checksums []step.Checksum) (map[step.Checksum]int64, error) {
	rows, err := r.pool.Query(
		ctx,
		`SELECT DISTINCT ON (checksum) checksum, size FROM records.text WHERE checksum = ANY ($1)`,
		checksums,
	)
	if err != nil {
		return nil, fmt.Errorf("read the sizes of texts: %w", err)
	}
	sizes := make(map[step.Checksum]int64, len(checksums))
	var checksum step.Checksum
	var size int64
	_, err = pgx.ForEachRow(rows, []any{&checksum, &size}, func() error {
		sizes[checksum] = size
		return nil
	})
	return sizes, err
}

// Withdraw takes a step out of a lane's catalogue; its texts stay. It returns
// how many steps are left.
func (r *Records) Withdraw(ctx context.Context, lane string, number step.Number, actor string) (left int, err error) {
	_, err = r.pool.Exec(
		ctx,
		`WITH withdrawal AS (INSERT INTO records.submission (lane, by) VALUES ($1, $3) RETURNING id)
		UPDATE records.step SET gone = withdrawal.id FROM withdrawal WHERE lane = $1 AND number = $2 AND newest`,
		lane, number, actor,
	)
	if err == nil {
		err = r.pool.QueryRow(ctx, `SELECT count(*) FROM records.step WHERE lane = $1 AND newest AND gone IS NULL`, lane).
			Scan(&left)
	}
	if err != nil {
		return 0, fmt.Errorf("withdraw step %s: %w", number, err)
	}
	return left, nil
}
