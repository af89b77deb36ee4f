package findings_test

import (
	"fmt"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/review"
	"vorrang/core/schema"
	"vorrang/core/step"
	"vorrang/target/postgres"
	"vorrang/target/postgres/findings"
)

// TestANameMayLeaveItsSchemaToTheSearchPath: roles often have one that is not public.
func TestANameMayLeaveItsSchemaToTheSearchPath(t *testing.T) {
	target := schema.New([]schema.Object{
		{Kind: schema.Table, Name: "harbour.vessel"},
		{Kind: schema.View, Name: "harbour.flags", Needs: []string{"column harbour.vessel.flag"}},
		{Kind: schema.Column, Name: "harbour.vessel.flag", Of: "harbour.vessel"},
	}, nil)
	in := review.Setting{Schema: &target, Figures: review.Figures{
		Tables: map[string]review.Size{"harbour.vessel": {Rows: 2_000_000, Bytes: 1 << 30}},
	}}
	for _, table := range []string{"vessel", "harbour.vessel"} {
		text := fmt.Sprintf("CREATE INDEX by_flag ON %s (flag);\nALTER TABLE %[1]s DROP COLUMN flag;", table)
		steps, err := step.ReadDir(fstest.MapFS{"1-a.sql": {Data: []byte(text)}})
		require.NoError(t, err)
		var messages []string
		for _, f := range findings.New(in, postgres.Engine{}.Dialect()).Read(steps[0]) {
			messages = append(messages, f.Message)
		}
		assert.Contains(t, messages,
			"an index is built while writers wait ("+table+" has about 2,000,000 rows, 1.0 GiB)")
		assert.Contains(t, messages, "a column is dropped; it is used by view harbour.flags")
	}
	nowhere := "CREATE INDEX by_flag ON dock.vessel (flag);"
	steps, err := step.ReadDir(fstest.MapFS{"1-a.sql": {Data: []byte(nowhere)}})
	require.NoError(t, err)
	for _, f := range findings.New(in, postgres.Engine{}.Dialect()).Read(steps[0]) {
		assert.NotEqual(t, "blocks.index-build", f.Code, "a name with another schema is another table")
	}
}

// TestWhatATargetIsAsked: each constraint asks for the rows that would stand in its way;
// an expression that could do more than compute asks nothing.
func TestWhatATargetIsAsked(t *testing.T) {
	table := func(name string) schema.Object { return schema.Object{Kind: schema.Table, Name: name} }
	target := schema.New([]schema.Object{
		table("public.vessel"), table("harbour.berth"),
		{
			Kind:  schema.Constraint,
			Name:  "public.vessel.vessel_pkey",
			Of:    "public.vessel",
			Props: schema.Props{schema.Definition: "PRIMARY KEY (id)"},
		},
	}, nil)
	for statement, query := range map[string]string{
		"ALTER TABLE vessel ADD CHECK (length_cm > 0 AND lower(flag) <> 'xx')": "SELECT 1 FROM public.vessel " +
			"WHERE NOT (length_cm > 0 AND lower(flag) <> 'xx')",
		"ALTER TABLE vessel ADD CHECK (length_cm > 0) NOT VALID":  "",
		"ALTER TABLE vessel ADD CHECK (pg_terminate_backend(id))": "",
		"ALTER TABLE vessel ADD CHECK (length_cm > own())":        "",
		"ALTER TABLE vessel ALTER \"Flag\" SET NOT NULL":          `SELECT 1 FROM public.vessel WHERE "Flag" IS NULL`,
		"ALTER TABLE vessel ADD UNIQUE (name, flag)": "SELECT 1 FROM public.vessel " +
			"WHERE (name, flag) IN (SELECT name, flag FROM public.vessel WHERE name IS NOT NULL AND flag IS NOT NULL GROUP " +
			"BY name, flag HAVING pg_catalog.count(*) > 1)",
		"CREATE UNIQUE INDEX ON vessel (lower(name))": "",
		"CREATE UNIQUE INDEX CONCURRENTLY by_name ON vessel (name)": "SELECT 1 FROM public.vessel " +
			"WHERE (name) IN (SELECT name FROM public.vessel WHERE name IS NOT NULL GROUP BY name HAVING " +
			"pg_catalog.count(*) > 1)",
		"ALTER TABLE harbour.berth ADD FOREIGN KEY (vessel_id) REFERENCES vessel": "SELECT 1 FROM harbour.berth " +
			"a WHERE a.vessel_id IS NOT NULL AND NOT EXISTS (SELECT FROM public.vessel b WHERE b.id = a.vessel_id)",
		"ALTER TABLE harbour.berth ADD FOREIGN KEY (v) REFERENCES public.vessel (number)": "SELECT 1 FROM harbour.berth " +
			"a WHERE a.v IS NOT NULL AND NOT EXISTS (SELECT FROM public.vessel b WHERE b.number = a.v)",
		"ALTER TABLE harbour.nowhere ALTER flag SET NOT NULL":                            "",
		"CREATE TABLE pilot (id bigint PRIMARY KEY, vessel_id bigint REFERENCES vessel)": "",
		"ALTER TABLE vessel ADD CHECK ((SELECT count(*) FROM pg_shadow) > 0)":            "",
		"ALTER TABLE vessel ADD EXCLUDE USING gist (name WITH =)":                        "",
		"ALTER TABLE harbour.berth ADD FOREIGN KEY (a, b) REFERENCES vessel":             "",
		"ALTER TABLE vessel DROP CONSTRAINT vessel_pkey; ALTER TABLE vessel ADD UNIQUE (a)": "SELECT 1 FROM public.vessel " +
			"WHERE (a) IN (SELECT a FROM public.vessel WHERE a IS NOT NULL GROUP BY a HAVING pg_catalog.count(*) > 1)",
	} {
		steps, err := step.ReadDir(fstest.MapFS{"1-a.sql": {Data: []byte(statement + ";")}})
		require.NoError(t, err)
		var asked []string
		found := findings.New(review.Setting{Schema: &target, Count: func(query string) (int64, int64, bool) {
			asked = append(asked, query)
			return 1000, 1000, true
		}}, postgres.Engine{}.Dialect()).Read(steps[0])
		var messages []string
		for _, f := range found {
			if f.Code == "rows.unmet" {
				messages = append(messages, f.Message)
			}
		}
		if query == "" {
			assert.Empty(t, asked, statement)
			assert.Empty(t, messages, statement)
			continue
		}
		assert.Equal(t, []string{query}, asked, statement)
		require.Len(t, messages, 1, statement)
		assert.Contains(t, messages[0], "at least 1,000 rows of ")
	}
}
