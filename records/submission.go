package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"vorrang/core/plan"
	"vorrang/core/step"
)

// partSize is how much of a text is kept in one row, in bytes.
const partSize = 1 << 20

// Submission is a folder on its way into the catalogue: all of it or nothing.
// Call Keep for every file, then Finish; Abandon may be called at any time.
type Submission struct {
	records *Records
	tx      pgx.Tx
	lane    string
	actor   string
	end     func() // of its turn

	queued int // bytes
	batch  pgx.Batch
	known  map[step.Checksum]bool // digests of the lane's files; nil until they are asked for
}

// turns lets one after the other have a turn at a thing with a name. Whoever
// waits holds no connection, or those who wait could keep the one whose turn it
// is from getting another.
type turns struct {
	mu    sync.Mutex
	taken map[string]chan struct{}
	room  chan struct{} // for so many at once, over all names
}

// mostSubmissions are under way at once. Each has a connection, also while it waits for
// another service's, or at its lane's door: others are to get theirs.
const mostSubmissions = maxConnections / 2

// take waits for the turn, and returns what ends it. That may be called twice.
func (t *turns) take(ctx context.Context, name string) (end func(), err error) {
	t.mu.Lock()
	if t.taken == nil {
		t.taken, t.room = map[string]chan struct{}{}, make(chan struct{}, mostSubmissions)
	}
	if t.taken[name] == nil {
		t.taken[name] = make(chan struct{}, 1)
	}
	turn := t.taken[name]
	t.mu.Unlock()
	select {
	case turn <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	select {
	case t.room <- struct{}{}:
		return sync.OnceFunc(func() { <-t.room; <-turn }), nil
	case <-ctx.Done():
		<-turn
		return nil, ctx.Err()
	}
}

// Submit begins a submission. Submissions of one lane wait for each other.
func (r *Records) Submit(ctx context.Context, lane, actor string) (*Submission, error) {
	end, err := r.submissions.take(ctx, lane)
	if err != nil {
		return nil, fmt.Errorf("wait for another submission: %w", err)
	}
	tx, err := r.pool.Begin(ctx)
	if err != nil {
		end()
		return nil, fmt.Errorf("begin a submission: %w", err)
	}
	s := &Submission{records: r, tx: tx, lane: lane, actor: actor, end: end}
	var name string
	if err := tx.QueryRow(ctx, `SELECT name FROM records.lane WHERE name = $1 FOR NO KEY UPDATE`,
		lane).Scan(&name); err != nil {
		s.Abandon()
		return nil, noRows(err)
	}
	return s, nil
}

// Abandon takes everything back that was not finished.
func (s *Submission) Abandon() {
	_ = s.tx.Rollback(context.Background()) // after a commit there is nothing to take back
	s.end()
}

// Keep stores a file's exact bytes. The caller may drop them afterwards.
func (s *Submission) Keep(ctx context.Context, file step.File) error {
	s.batch.Queue(`INSERT INTO records.text (digest, checksum, size) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`,
		file.Digest, file.Checksum, len(file.Bytes))
	part := 0
	for bytes := range slices.Chunk(file.Bytes, partSize) {
		s.batch.Queue(`INSERT INTO records.text_part (digest, part, bytes) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`,
			file.Digest, part, bytes)
		part++
		if s.queued += len(bytes); s.queued >= partSize {
			if err := s.flush(ctx); err != nil {
				return err
			}
		}
	}
	if s.batch.Len() >= 1000 {
		return s.flush(ctx)
	}
	return nil
}

func (s *Submission) flush(ctx context.Context) error {
	err := s.tx.SendBatch(ctx, &s.batch).Close()
	s.batch, s.queued = pgx.Batch{}, 0
	if err != nil {
		return fmt.Errorf("keep texts: %w", err)
	}
	return nil
}

// Text returns the exact bytes of a file of this submission.
func (s *Submission) Text(ctx context.Context, digest step.Checksum) ([]byte, error) {
	if err := s.flush(ctx); err != nil {
		return nil, err
	}
	return exact(ctx, s.tx, digest)
}

// NormalText returns the normal text with a checksum, of this submission or one before it; or ErrNotFound.
func (s *Submission) NormalText(ctx context.Context, checksum step.Checksum) ([]byte, error) {
	if err := s.flush(ctx); err != nil {
		return nil, err
	}
	return normalText(ctx, s.tx, checksum)
}

// querier is the pool, or a transaction.
type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

// exact reads the exact bytes with a digest; none where it is not kept.
func exact(ctx context.Context, from querier, digest step.Checksum) ([]byte, error) {
	rows, err := from.Query(ctx, `SELECT bytes FROM records.text_part WHERE digest = $1 ORDER BY part`, digest)
	if err != nil {
		return nil, fmt.Errorf("read a text: %w", err)
	}
	var text []byte
	var part pgtype.DriverBytes
	_, err = pgx.ForEachRow(rows, []any{&part}, func() error {
		text = append(text, part...)
		return nil
	})
	return text, err
}

// Change is what a submission does to one step.
type Change struct {
	Step   step.Step
	Before *plan.Step // nil for a step that never was in the catalogue
}

// Difference is what a folder changes in the catalogue.
type Difference struct {
	New       []Change
	Edited    []Change // any of its files differs from the newest version
	Gone      []plan.Step
	Unchanged int
	Before    []plan.Step // the catalogue so far, in order
}

// Empty reports whether the folder is what the catalogue holds already.
func (d Difference) Empty() bool { return len(d.New)+len(d.Edited)+len(d.Gone) == 0 }

// Compare says what a folder's steps would change.
func (s *Submission) Compare(ctx context.Context, steps []step.Step) (Difference, error) {
	var d Difference
	if err := s.flush(ctx); err != nil {
		return d, err
	}
	before, err := s.newest(ctx)
	if err != nil {
		return d, err
	}
	for _, kept := range before {
		if !kept.gone {
			d.Before = append(d.Before, kept.step)
		}
	}
	slices.SortFunc(d.Before, byNumber)
	for _, folder := range steps {
		kept, known := before[folder.Number]
		delete(before, folder.Number)
		switch {
		case !known:
			d.New = append(d.New, Change{Step: folder})
		case kept.gone:
			d.New = append(d.New, Change{Step: folder, Before: &kept.step})
		case !slices.Equal(kept.digests, digests(folder)) || kept.step.Slug != folder.Slug:
			d.Edited = append(d.Edited, Change{Step: folder, Before: &kept.step})
		default:
			d.Unchanged++
		}
	}
	for _, kept := range before {
		if !kept.gone {
			d.Gone = append(d.Gone, kept.step)
		}
	}
	slices.SortFunc(d.Gone, byNumber)
	return d, nil
}

type keptStep struct {
	step    plan.Step
	digests []string
	gone    bool
}

func (s *Submission) newest(ctx context.Context) (map[step.Number]keptStep, error) {
	rows, err := s.tx.Query(
		ctx,
		`SELECT `+stepColumns+`, digests, gone IS NOT NULL FROM records.step WHERE lane = $1 AND newest`,
		s.lane,
	)
	if err != nil {
		return nil, fmt.Errorf("read the catalogue of %s: %w", s.lane, err)
	}
	all := map[step.Number]keptStep{}
	for rows.Next() {
		var k keptStep
		err := rows.Scan(
			&k.step.Number, &k.step.Slug, &k.step.Options, &k.step.Forward, &k.step.Back, &k.step.Check, &k.digests,
			&k.gone,
		)
		if err != nil {
			return nil, fmt.Errorf("read the catalogue of %s: %w", s.lane, err)
		}
		all[k.step.Number] = k
	}
	return all, rows.Err()
}

// digests names a step's files by their exact bytes, so that any edit shows.
func digests(s step.Step) []string {
	list := []string{string(s.Forward.Digest), "", ""}
	if s.Back != nil {
		list[1] = string(s.Back.Digest)
	}
	if s.Check != nil {
		list[2] = string(s.Check.Digest)
	}
	return list
}

// Finish makes the difference the catalogue. It returns the submission's
// number, or 0 if nothing changed.
func (s *Submission) Finish(ctx context.Context, d Difference) (int64, error) {
	defer s.Abandon()
	if d.Empty() {
		return 0, nil
	}
	id, err := s.Put(ctx, d)
	if err != nil {
		return 0, err
	}
	if err := s.tx.Commit(ctx); err != nil {
		return 0, fmt.Errorf("finish the submission: %w", err)
	}
	return id, nil
}

// Put writes the difference, without making it lasting: that is done by Seal.
func (s *Submission) Put(ctx context.Context, d Difference) (int64, error) {
	var id int64
	err := s.tx.QueryRow(ctx, `INSERT INTO records.submission (lane, by) VALUES ($1, $2) RETURNING id`, s.lane, s.actor).
		Scan(&id)
	if err != nil {
		return 0, fmt.Errorf("finish the submission: %w", err)
	}
	for _, change := range slices.Concat(d.New, d.Edited) {
		if err := s.queueVersion(id, change.Step); err != nil {
			return 0, err
		}
	}
	for _, gone := range d.Gone {
		s.batch.Queue(
			`UPDATE records.step SET gone = $3 WHERE lane = $1 AND number = $2 AND newest`,
			s.lane, gone.Number, id,
		)
	}
	if err := s.flush(ctx); err != nil {
		return 0, err
	}
	return id, nil
}

func (s *Submission) queueVersion(id int64, folder step.Step) error {
	described := plan.Of(folder)
	options, err := json.Marshal(described.Options)
	forward, err2 := json.Marshal(described.Forward)
	if err := errors.Join(err, err2); err != nil {
		return err
	}
	s.batch.Queue(
		`UPDATE records.step SET newest = false WHERE lane = $1 AND number = $2 AND newest`,
		s.lane, folder.Number,
	)
	s.batch.Queue(
		`INSERT INTO records.step (lane, number, slug, options, forward, back, "check", digests, submission, newest)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, true)`,
		s.lane, folder.Number, folder.Slug, options, forward, described.Back, described.Check, digests(folder), id,
	)
	return nil
}
