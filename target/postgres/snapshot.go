package postgres

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"vorrang/core/schema"
)

//go:embed snapshot.sql
var snapshotSQL string

//go:embed uncovered.sql
var uncoveredSQL string

// Snapshot reads the schema from the catalogs, as one consistent state. It
// takes no lock that blocks others, and needs no right but to read catalogs.
func (s *Session) Snapshot(ctx context.Context, schemas []string) (schema.Schema, error) {
	var objects []schema.Object
	var uncovered []schema.Uncovered
	err := pgx.BeginTxFunc(ctx, s.conn, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SELECT pg_catalog.set_config('search_path', '', true), pg_catalog.set_config('jit', 'off', true)`); err != nil {
			return err
		}
		query := snapshotSQL
		if s.version < 140000 {
			query = strings.ReplaceAll(query, "a.attcompression", "''")
		}
		rows, err := tx.Query(ctx, query, schemas)
		if err != nil {
			return err
		}
		var kind, name, of string
		var props []byte
		_, err = pgx.ForEachRow(rows, []any{&kind, &name, &of, &props}, func() error {
			o := schema.Object{Kind: schema.Kind(kind), Name: name, Of: of}
			if o.Props, err = texts(props); err != nil {
				return fmt.Errorf("%s %s: %w", kind, name, err)
			}
			objects = append(objects, o)
			return nil
		})
		if err != nil {
			return err
		}
		rows, err = tx.Query(ctx, uncoveredSQL)
		if err == nil {
			uncovered, err = pgx.CollectRows(rows, pgx.RowToStructByPos[schema.Uncovered])
		}
		return err
	})
	if err != nil {
		return schema.Schema{}, fmt.Errorf("read the schema: %w", s.wrap(err))
	}
	return schema.New(objects, uncovered), nil
}

// texts reads a JSON object whose values may be numbers.
func texts(props []byte) (map[string]string, error) {
	var values map[string]any
	if err := json.Unmarshal(props, &values); err != nil {
		return nil, err
	}
	list := make(map[string]string, len(values))
	for key, value := range values {
		if value == nil {
			continue
		}
		if text := fmt.Sprint(value); text != "" {
			list[key] = text
		}
	}
	return list, nil
}
