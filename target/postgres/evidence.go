package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"vorrang/core/engine"
	"vorrang/core/evidence"
	"vorrang/core/sqltext"
)

// sight looks one object up. A name without a schema is found as a statement of
// the step would find it, along the search path.
const sight = `WITH wanted AS (
    SELECT $1 AS kind, $2 AS space, $3 AS owner, $4 AS name,
        CASE WHEN $2 = '' THEN '' ELSE pg_catalog.quote_ident($2) || '.' END AS prefix
), relation AS (
    SELECT pg_catalog.to_regclass(prefix || pg_catalog.quote_ident(CASE WHEN owner = '' THEN name
    	ELSE owner END))::oid AS oid FROM wanted
), found AS (
    SELECT false AS invalid FROM wanted, pg_catalog.pg_namespace WHERE kind = 'schema' AND nspname = name
    UNION ALL
    SELECT false FROM wanted, pg_catalog.pg_extension WHERE kind = 'extension' AND extname = name
    UNION ALL
    SELECT coalesce(NOT i.indisvalid, false) FROM wanted, relation JOIN pg_catalog.pg_class c USING (oid)
        LEFT JOIN pg_catalog.pg_index i ON i.indexrelid = c.oid
    WHERE (kind, relkind) IN (('table', 'r'), ('table', 'p'), ('table', 'f'), ('view', 'v'), ('materialized view', 'm'),
        ('sequence', 'S'), ('index', 'i'), ('index', 'I'))
    UNION ALL
    SELECT false FROM wanted WHERE kind = 'type'
	AND pg_catalog.to_regtype(prefix || pg_catalog.quote_ident(name)) IS NOT NULL
    UNION ALL
    SELECT false FROM wanted, pg_catalog.pg_proc p WHERE kind = 'function' AND proname = name
        AND CASE WHEN space = '' THEN pg_catalog.pg_function_is_visible(p.oid)
        	ELSE pronamespace = pg_catalog.to_regnamespace(pg_catalog.quote_ident(space)) END
    UNION ALL
    SELECT false FROM wanted, relation, pg_catalog.pg_attribute WHERE kind = 'column' AND attrelid = oid
	AND attname = name AND attnum > 0 AND NOT attisdropped
    UNION ALL
    SELECT NOT convalidated FROM wanted, relation, pg_catalog.pg_constraint con WHERE kind = 'constraint'
	AND conrelid = relation.oid AND conname = name
    UNION ALL
    SELECT false FROM wanted, relation, pg_catalog.pg_trigger tg WHERE kind = 'trigger' AND tgrelid = relation.oid
	AND tgname = name
    UNION ALL
    SELECT false FROM wanted, relation, pg_catalog.pg_policy pol WHERE kind = 'policy' AND polrelid = relation.oid
	AND polname = name
)
SELECT count(*) > 0, coalesce(bool_and(invalid), false) FROM found`

// Peek looks, reading only, whether objects are there and whether the queries
// of a check hold, with the settings that a step would have. It changes
// nothing: the transaction is read-only, and is rolled back.
func (s *Session) Peek(
	ctx context.Context, settings engine.Settings, objects []evidence.Object, check []sqltext.Statement,
) ([]evidence.Observation, []evidence.Outcome, error) {
	if err := s.cleaned(ctx, "BEGIN TRANSACTION READ ONLY; "+s.set(settings.Peeking(), true)); err != nil {
		return nil, nil, fmt.Errorf("begin to look: %w", err)
	}
	defer func() { _ = s.Rollback(ctx) }() // nothing was written
	observations, err := s.observations(ctx, objects)
	if err != nil {
		return nil, nil, err
	}
	outcomes, err := engine.Outcomes(
		check,
		func(query sqltext.Statement) (bool, string, error) { return s.apart(ctx, query) },
	)
	return observations, outcomes, err
}

// Observations implements engine.Steps.
func (s *Session) Observations(ctx context.Context, objects []evidence.Object) ([]evidence.Observation, error) {
	if err := s.open(ctx); err != nil {
		return nil, err
	}
	s.dirty = true
	return s.observations(ctx, objects)
}

func (s *Session) observations(ctx context.Context, objects []evidence.Object) ([]evidence.Observation, error) {
	var original string
	if err := s.steps.QueryRow(ctx, `SELECT pg_catalog.current_setting('search_path')`).Scan(&original); err != nil {
		return nil, fmt.Errorf("read the search path: %w", wrap(s.steps, err))
	}
	current := original
	observations, err := engine.LookUp(objects, func(o evidence.Object) (there, invalid bool, err error) {
		path := original
		if o.Path != nil {
			path = searchPath(o.Path)
		}
		if path != current {
			if err := s.setPath(ctx, path); err != nil {
				return false, false, err
			}
			current = path
		}
		err = wrap(s.steps, s.steps.QueryRow(ctx, sight, string(o.Kind), o.Schema, o.Of, o.Name).Scan(&there, &invalid))
		return there, invalid, err
	})
	if err != nil || current == original {
		return observations, err
	}
	return observations, s.setPath(ctx, original)
}

func searchPath(schemas []string) string {
	quoted := make([]string, len(schemas))
	for i, name := range schemas {
		quoted[i] = sqltext.Identifier(name)
	}
	return strings.Join(quoted, ", ")
}

func (s *Session) setPath(ctx context.Context, path string) error {
	if err := s.step(ctx, "SELECT pg_catalog.set_config('search_path', "+sqltext.Literal(path)+", false)"); err != nil {
		return fmt.Errorf("set the search path: %w", err)
	}
	return nil
}

// apart asks a check's query under a savepoint, so that one that fails does not end
// the look.
func (s *Session) apart(ctx context.Context, query sqltext.Statement) (holds bool, got string, err error) {
	if err := s.step(ctx, "SAVEPOINT vorrang_look"); err != nil {
		return false, "", err
	}
	holds, got, failed := s.Holds(ctx, query)
	var refused *engine.ServerError
	if failed == nil || errors.As(failed, &refused) {
		if err := s.step(ctx, "ROLLBACK TO SAVEPOINT vorrang_look"); err != nil {
			return false, "", err
		}
	}
	return holds, got, failed
}

// DropInvalid implements engine.Sweeper.
func (s *Session) DropInvalid(ctx context.Context, index evidence.Object) (dropped bool, err error) {
	seen, err := s.Observations(ctx, []evidence.Object{index})
	if err != nil || !seen[0].There || !seen[0].Invalid {
		return false, err
	}
	if index.Path != nil {
		if err := s.setPath(ctx, searchPath(index.Path)); err != nil {
			return false, err
		}
	}
	name := pgx.Identifier{index.Name}
	if index.Schema != "" {
		name = pgx.Identifier{index.Schema, index.Name}
	}
	if err := s.step(ctx, "DROP INDEX CONCURRENTLY "+name.Sanitize()); err != nil {
		return false, fmt.Errorf("drop the invalid %s: %w", index, err)
	}
	return true, nil
}
