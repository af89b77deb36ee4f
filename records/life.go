package records

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"vorrang/core/step"
)

// A service's life is a session of its that holds the lock of its number; other services
// see at once when it ends. The same session hears what others do.
type life struct {
	url string
	id  int32
	log *slog.Logger

	stop context.CancelFunc
	done chan struct{}

	mu    sync.Mutex
	holds bool
	hears func(News)
}

const (
	lifeLock = 1987015217 // records.lives has it too
	doorLock = lifeLock + 1

	channel = "vorrang"

	// lifeEvery is how often a service looks after its session, and after lifeAgain it
	// takes a lost one again.
	lifeEvery = time.Second
	lifeAgain = 250 * time.Millisecond
	// lifePatience bounds one try, and beginPatience all tries of a start: a server under load, or one that
	// is just recovering, takes longer than 5 s to open a session.
	lifePatience  = 5 * time.Second
	beginPatience = 30 * time.Second
)

// News is what a service hears of others on the same records. Its zero value says that
// something may have been missed.
type News struct {
	Kind string // deployment, rehearsal, fleet, cancel or changed
	ID   int64  // of a deployment, a rehearsal, or a deployment to a fleet
}

// LostError says that a service has no session with the records by which others could see
// that it lives.
type LostError struct{}

func (LostError) Error() string {
	return "this service lost its session with the records, and is taking it again; try again in a moment"
}

// beginLife gives a service its number, and takes its lock.
func beginLife(ctx context.Context, pool querier, url, version, knows string, log *slog.Logger) (*life, error) {
	l := &life{url: url, log: log, done: make(chan struct{})}
	host, _ := os.Hostname() // only to be shown
	err := pool.QueryRow(ctx, `INSERT INTO records.service (host, process, version, knows) VALUES ($1, $2, $3, $4)
		RETURNING id`, host, os.Getpid(), version, knows).Scan(&l.id)
	if err != nil {
		return nil, fmt.Errorf("keep that this service began: %w", err)
	}
	within, cancel := context.WithTimeout(ctx, beginPatience)
	defer cancel()
	conn, err := l.takeWithin(within)
	if err != nil {
		return nil, fmt.Errorf("take the lock of this service: %w", err)
	}
	ctx, l.stop = context.WithCancel(context.Background())
	go func() {
		defer close(l.done)
		l.keep(ctx, conn)
	}()
	return l, nil
}

// takeWithin tries take again until it succeeds or ctx is done; the error is that of the last try.
func (l *life) takeWithin(ctx context.Context) (*pgx.Conn, error) {
	for {
		conn, err := l.take(ctx)
		if err == nil {
			return conn, nil
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(lifeAgain):
		}
	}
}

// take opens a session that holds the lock, and hears.
func (l *life) take(ctx context.Context) (*pgx.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, lifePatience)
	defer cancel()
	config, err := pgx.ParseConfig(l.url)
	if err != nil {
		return nil, err
	}
	config.RuntimeParams["application_name"] = fmt.Sprintf("vorrangd %d", l.id)
	// a machine that is gone is noticed like a process that is gone
	for name, value := range map[string]string{
		"tcp_keepalives_idle": "2", "tcp_keepalives_interval": "1", "tcp_keepalives_count": "2",
	} {
		config.RuntimeParams[name] = value
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	// its own number is held by nobody else for long: by a session of its that is just
	// ending, or by who has just found it dead
	_, err = conn.Exec(ctx, "SELECT pg_advisory_lock($1, $2)", int32(lifeLock), l.id)
	if err == nil {
		_, err = conn.Exec(ctx, "LISTEN "+channel)
	}
	if err != nil {
		_ = conn.Close(ctx)
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.holds = true
	return conn, nil
}

// lose says that others take this service for dead.
func (l *life) lose() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.holds = false
}

// ours is a LostError while others take this service for dead.
func (l *life) ours() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.holds {
		return LostError{}
	}
	return nil
}

// keep hears, and takes the lock again whenever its session was lost, until ctx is done.
func (l *life) keep(ctx context.Context, conn *pgx.Conn) {
	for {
		err := l.hear(ctx, conn)
		l.lose()
		within, cancel := context.WithTimeout(context.WithoutCancel(ctx), lifePatience)
		_ = conn.Close(within) // it is gone, or it is to go
		cancel()
		if ctx.Err() != nil {
			return
		}
		l.log.Warn("the session with the records was lost", "service", l.id, "error", err)
		if conn, err = l.takeWithin(ctx); err != nil {
			return
		}
		l.log.Info("the session with the records is there again", "service", l.id)
		l.tell(News{})
	}
}

// hear passes on what others say until the session is lost.
func (l *life) hear(ctx context.Context, conn *pgx.Conn) error {
	for {
		within, cancel := context.WithTimeout(ctx, lifeEvery)
		heard, err := conn.WaitForNotification(within)
		cancel()
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err == nil:
			l.tell(newsOf(heard.Payload))
		case within.Err() == nil || conn.IsClosed():
			return err
		default: // nobody said anything
			asked, cancel := context.WithTimeout(ctx, lifePatience)
			err := conn.Ping(asked)
			cancel()
			if err != nil {
				return err
			}
		}
	}
}

func newsOf(text string) (n News) {
	kind, number, _ := strings.Cut(text, " ")
	n.Kind = kind
	_, _ = fmt.Sscan(number, &n.ID) // where there is one
	return n
}

func (l *life) tell(n News) {
	l.mu.Lock()
	hears := l.hears
	l.mu.Unlock()
	if hears != nil {
		hears(n)
	}
}

// end lets the lock go, when nothing of this service runs any more.
func (l *life) end() {
	l.stop()
	<-l.done
}

// Hear has what other services do, and this one, passed on. hears must not block.
func (r *Records) Hear(hears func(News)) {
	r.life.mu.Lock()
	defer r.life.mu.Unlock()
	r.life.hears = hears
}

// Service is the number of this service among those that were ever on these records.
func (r *Records) Service() int32 { return r.life.id }

// Changed says to all services that what they saw of lanes and targets may be different now.
func (r *Records) Changed(ctx context.Context) error {
	_, err := r.pool.Exec(ctx, "SELECT pg_notify($1, 'changed')", channel)
	return err
}

// OtherService is a service on the same records.
type OtherService struct {
	ID        int32
	Host      string
	Process   int32
	Version   string
	Knows     step.Number // the newest step of the records that its program has
	StartedAt time.Time
	Running   int // deployments and rehearsals
}

// Services are those that live, by their numbers.
func (r *Records) Services(ctx context.Context) ([]OtherService, error) {
	return services(ctx, r.pool)
}

// Lives reports whether a service lives.
func (r *Records) Lives(ctx context.Context, service int32) (lives bool, err error) {
	err = r.pool.QueryRow(ctx, "SELECT records.lives($1)", service).Scan(&lives)
	return lives, err
}

func services(ctx context.Context, from querier) ([]OtherService, error) {
	rows, err := from.Query(ctx, `SELECT id, host, process, version, knows, started_at,
			(SELECT count(*) FROM records.deployment d WHERE d.service = s.id AND d.outcome = 'running')
			+ (SELECT count(*) FROM records.rehearsal r WHERE r.service = s.id AND r.state = 'running')
		FROM records.service s WHERE ended_at IS NULL AND records.lives(id) ORDER BY id`)
	if err != nil {
		return nil, fmt.Errorf("read which services live: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[OtherService])
}

// TakenOverError says that something belongs to another service now, which took this one for
// dead: nothing more is written to it.
type TakenOverError struct{ What string }

func (e TakenOverError) Error() string {
	return e.What + " was taken over by another service, which could not see any more that this one lives"
}

// isTakenOver reports whether an error is a TakenOverError.
func isTakenOver(err error) bool {
	var taken TakenOverError
	return errors.As(err, &taken)
}

// Claim takes a task that one service at a time does; false if another one that lives has
// it. It may be claimed again by whoever has it.
func (r *Records) Claim(ctx context.Context, task string) (bool, error) {
	tag, err := r.pool.Exec(ctx, `INSERT INTO records.task AS t (name, service) VALUES ($1, $2)
		ON CONFLICT (name) DO UPDATE SET service = $2 WHERE t.service = $2 OR NOT records.lives(t.service)`,
		task, r.life.id)
	if err != nil {
		return false, fmt.Errorf("claim %s: %w", task, err)
	}
	return tag.RowsAffected() > 0, nil
}

// Unclaim gives a claimed task back. Repeated, it changes nothing more.
func (r *Records) Unclaim(ctx context.Context, task string) error {
	_, err := r.pool.Exec(ctx, `DELETE FROM records.task WHERE name = $1 AND service = $2`, task, r.life.id)
	return err
}
