package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vorrang/core/schema"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/service/api"
)

func differences(c *api.Comparison) []string {
	var list []string
	for _, d := range c.Differences {
		list = append(list, d.String())
	}
	return list
}

func TestEnvironmentsAreCompared(t *testing.T) {
	w := servicetest.Start(t)
	ctx := t.Context()
	w.Submitted(
		map[string]string{
			"1-a.sql": "CREATE TABLE public.vessel (id int PRIMARY KEY, name text)",
			"2-b.sql": "CREATE INDEX vessel_name ON public.vessel (name)",
			"3-c.sql": "/*---\nonly: [development]\n---*/\nCREATE TABLE public.sample (id int)",
		},
	)
	cut(t, w, "2026.11", "1")
	w.Promoted("staging")
	w.Promoted("production")
	same := must(w.Compare(ctx, "harbour", "staging", "production", true))
	assert.True(t, same.Same)
	assert.Empty(t, same.Differences)
	assert.Positive(t, same.FromObjects)

	pgtest.Exec(
		t,
		w.URLs["production"],
		"ALTER TABLE public.vessel ALTER COLUMN name TYPE varchar(80); DROP INDEX public.vessel_name; CREATE TABLE "+
			"public.tug (id int); REVOKE ALL ON public.vessel FROM vorrang",
	)
	got := must(w.Compare(ctx, "harbour", "production", "staging", false))
	assert.False(t, got.Same)
	assert.Equal(
		t,
		[]string{"added table public.tug", "changed column public.vessel.name", "removed index public.vessel_name"},
		differences(got),
	)
	assert.Equal(
		t,
		[]schema.Change{{Name: "type", Before: "text", After: "character varying(80)"}},
		got.Differences[1].Props,
	)
	assert.Contains(
		t,
		differences(must(w.Compare(ctx, "harbour", "production", "staging", true))),
		"changed table public.vessel",
	)

	release := must(w.CompareRelease(ctx, "harbour", "staging", "2026.11", false))
	assert.Equal(t, "release 2026.11", release.With)
	assert.Equal(t, []string{"added index public.vessel_name"}, differences(release), "the release ends at step 1")
	assert.Equal(
		t, "0",
		pgtest.Query(
			t,
			w.URLs["development"],
			"SELECT count(*) FROM pg_database WHERE datname LIKE 'vorrang_scratch_%'",
		),
		"nothing of the scratch database stays",
	)

	_, err := w.Compare(ctx, "harbour", "staging", "", false)
	assert.Equal(t, "invalid-request", problem(t, err).Kind())
	_, err = w.CompareRelease(ctx, "harbour", "staging", "none", false)
	assert.Equal(t, "not-found", problem(t, err).Kind())
	w.Away("staging")
	_, err = w.Compare(ctx, "harbour", "staging", "production", false)
	assert.Equal(t, "unreachable", problem(t, err).Kind())
}
