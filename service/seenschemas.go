package service

import (
	"context"
	"strings"
	"sync"
	"time"

	"vorrang/core/engine"
	"vorrang/core/schema"
)

// seenSchemas keeps what snapshots found, for looks in passing: while the catalogs are as they were, they
// are not read again. What decides reads them.
type seenSchemas struct {
	now func() time.Time

	mu      sync.Mutex
	kept    map[string]seenSchema // by lane, environment and schemas
	objects int                   // of all kept
}

type seenSchema struct {
	mark string
	seen schema.Schema
	at   time.Time
}

const (
	// schemaKept is how long a snapshot is taken for what is there.
	schemaKept = 10 * time.Minute
	// mostObjects is how many objects are kept of all schemas together, at some hundred bytes each.
	mostObjects = 100_000
)

// snapshot reads the schema of a place, or gives what was seen while nothing was written in the catalogs
// since.
func (k *seenSchemas) snapshot(
	ctx context.Context, p targetContext, session engine.Session,
) (schema.Schema, error) {
	marker, can := session.(engine.Marker)
	if !can || ctx.Value(pageKey{}) == nil {
		return session.Snapshot(ctx, p.environment.Schemas)
	}
	mark, err := marker.Mark(ctx) // before the schema: what changes meanwhile is seen the next time
	if err != nil {
		return session.Snapshot(ctx, p.environment.Schemas)
	}
	key := placeName(p) + " " + strings.Join(p.environment.Schemas, ",")
	if seen, known := k.find(key, mark); known {
		return seen, nil
	}
	seen, err := session.Snapshot(ctx, p.environment.Schemas)
	if err == nil {
		k.keep(key, seenSchema{mark: mark, seen: seen, at: k.now()})
	}
	return seen, err
}

func (k *seenSchemas) find(key, mark string) (schema.Schema, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	one, known := k.kept[key]
	return one.seen, known && one.mark == mark && k.now().Sub(one.at) < schemaKept
}

// keep keeps one, and lets the oldest go where there are too many.
func (k *seenSchemas) keep(key string, one seenSchema) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.kept == nil {
		k.kept = map[string]seenSchema{}
	}
	k.objects += len(one.seen.Objects) - len(k.kept[key].seen.Objects)
	k.kept[key] = one
	for k.objects > mostObjects {
		oldest := key
		for other, seen := range k.kept {
			if seen.at.Before(k.kept[oldest].at) {
				oldest = other
			}
		}
		k.objects -= len(k.kept[oldest].seen.Objects)
		delete(k.kept, oldest)
	}
}

// inPassing has a place's schema read as snapshot does.
func (k *seenSchemas) inPassing(p targetContext) reading {
	return func(session engine.Session, ctx context.Context, _ []string) (schema.Schema, error) {
		return k.snapshot(ctx, p, session)
	}
}
