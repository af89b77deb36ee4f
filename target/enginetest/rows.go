package enginetest

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/core/engine"
	"vorrang/core/schema"
)

// quayside has references in a chain, to oneself, and by a key that is not the primary one.
const quayside = `CREATE TABLE quay (id INTEGER NOT NULL PRIMARY KEY, code VARCHAR(40) NOT NULL UNIQUE);
CREATE TABLE berth (id INTEGER NOT NULL PRIMARY KEY, quay VARCHAR(40) NOT NULL, beside INTEGER, depth_cm INTEGER,
	CONSTRAINT berth_quay FOREIGN KEY (quay) REFERENCES quay (code),
	CONSTRAINT berth_beside FOREIGN KEY (beside) REFERENCES berth (id), CONSTRAINT berth_depth CHECK (depth_cm > -9000));
CREATE TABLE pilot (name VARCHAR(60), born DATE, badge INTEGER NOT NULL);
`

// many is a table of the numbers from 1 to 4,000.
const many = "WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < 199), " +
	"m (i) AS (SELECT a.i * 20 + b.i + 1 FROM n a, n b WHERE b.i < 20) "

var quayRows = []string{
	"INSERT INTO quay " + many + "SELECT i, CONCAT('Quay ''', i) FROM m",
	"INSERT INTO berth " + many + "SELECT i, CONCAT('Quay ''', i), CASE WHEN i > 1 THEN i - 1 END, 400 + i FROM m " +
		"ORDER BY i",
	"UPDATE berth SET depth_cm = -8 WHERE id = 2345",
	"UPDATE berth SET depth_cm = NULL WHERE id = 1234",
	"INSERT INTO pilot VALUES (NULL, NULL, 1)",
	"INSERT INTO pilot VALUES ('Ö. ''Tern'' \"\\n\" %s ? :x $1 — 潮', '1990-02-28', 2000000001)",
}

// rows: some are copied with those that they refer to, and can be compared.
func rows(t *testing.T, h Harness) {
	sampler, can := h.Engine.(engine.Sampler)
	require.Equal(t, h.Engine.Traits().Samples, can, "the traits say what it can")
	_, clones := h.Engine.(engine.Cloner)
	require.Equal(t, h.Engine.Traits().Clones, clones)
	if !can {
		t.Skip("the engine copies no rows")
	}
	url := h.Fresh(t)
	for _, statement := range append(strings.SplitAfter(strings.TrimSpace(quayside), ";\n"), quayRows...) {
		require.NoError(t, h.Exec(t, url, statement), statement)
	}
	target := h.connect(t, url)
	seen := h.see(t, target)
	copied := func(t *testing.T, how engine.Sample) (scratch engine.Scratch, all map[string]int64) {
		scratch, err := h.Engine.(engine.Workshop).NewScratch(t.Context(), url, "", true)
		require.NoError(t, err)
		t.Cleanup(scratch.Close)
		require.NoError(t, scratch.Run(t.Context(), []byte(quayside), false))
		how.Schema = seen
		list, err := sampler.Sample(t.Context(), target, scratch, how)
		require.NoError(t, err)
		all = map[string]int64{}
		for _, one := range list {
			all[one.Table[strings.LastIndex(one.Table, ".")+1:]] = one.Rows
		}
		return scratch, all
	}
	contents := func(t *testing.T, scratch engine.Scratch) engine.Contents {
		now, err := scratch.(engine.RowReader).Contents(t.Context(), h.see(t, scratch))
		require.NoError(t, err)
		return now
	}
	t.Run("with what they refer to, and the ends of keys", func(t *testing.T) {
		scratch, all := copied(t, engine.Sample{Most: 20})
		assert.Less(t, all["berth"], int64(4001))
		assert.Greater(t, all["quay"], int64(20))
		assert.EqualValues(t, 2, all["pilot"], "all of a small table")
		for _, holds := range []string{
			"SELECT COUNT(*) = 0 FROM berth b WHERE NOT EXISTS (SELECT 1 FROM quay q WHERE q.code = b.quay)",
			"SELECT COUNT(*) = 0 FROM berth b WHERE beside IS NOT NULL AND NOT EXISTS (SELECT 1 FROM berth o WHERE o.id = b.beside)",
			"SELECT COUNT(*) = 1 FROM berth WHERE id = 4000",
			"SELECT COUNT(*) = 1 FROM berth WHERE depth_cm = -8",
			"SELECT COUNT(*) = 1 FROM berth WHERE depth_cm IS NULL",
			"SELECT COUNT(*) = 1 FROM pilot WHERE badge = 2000000001 AND born = '1990-02-28' AND name LIKE '%— 潮'",
		} {
			proved(t, scratch, holds)
		}
		assert.Empty(t, schema.Compare(seen, h.see(t, dropped(t, scratch))), "it is as it was")
	})
	t.Run("which can be compared", func(t *testing.T) {
		scratch, all := copied(t, engine.Sample{Most: 9000})
		assert.Equal(t, map[string]int64{"quay": 4000, "berth": 4000, "pilot": 2}, all)
		before := contents(t, scratch)
		assert.Equal(t, before, contents(t, scratch))
		run := func(statement string) engine.Contents {
			require.NoError(t, scratch.Run(t.Context(), []byte(statement), false))
			return contents(t, scratch)
		}
		table := func(of engine.Contents) engine.TableContents {
			for name, one := range of {
				if strings.HasSuffix(name, "berth") {
					return one
				}
			}
			return engine.TableContents{}
		}
		swapped := table(run("UPDATE berth SET depth_cm = CASE depth_cm WHEN 500 THEN 501 ELSE 500 END WHERE depth_cm IN (500, 501)"))
		assert.Equal(t, table(before).Columns, swapped.Columns, "the same values")
		assert.NotEqual(t, table(before).Sum, swapped.Sum, "in other rows")
		other := table(run("UPDATE berth SET depth_cm = 12345 WHERE id = 7"))
		assert.NotEqual(t, table(before).Columns["depth_cm"], other.Columns["depth_cm"])
		assert.Equal(t, table(before).Columns["quay"], other.Columns["quay"])
		fewer := table(run("DELETE FROM pilot WHERE badge = 1; DELETE FROM berth WHERE id = 4000"))
		assert.EqualValues(t, 3999, fewer.Rows)
	})
	t.Run("masked", func(t *testing.T) {
		masked := map[string]bool{}
		for _, o := range seen.Objects {
			if o.Kind == schema.Column && (strings.HasSuffix(o.Name, "pilot.name") || strings.HasSuffix(o.Name, "pilot.badge")) {
				masked[o.Name] = true
			}
		}
		require.Len(t, masked, 2)
		scratch, _ := copied(t, engine.Sample{Most: 20, Masked: masked, Mask: func(_, value string) string {
			if strings.Trim(value, "0123456789") == "" {
				return map[bool]string{true: "77", false: "3"}[value == "2000000001"]
			}
			return strings.Repeat("x", len([]rune(value)))
		}})
		proved(t, scratch, "SELECT COUNT(*) = 1 FROM pilot WHERE badge = 77 AND name LIKE 'xxxxx%' AND born = '1990-02-28'")
		proved(t, scratch, "SELECT COUNT(*) = 0 FROM pilot WHERE name LIKE '%Tern%'")
	})
	t.Run("of a whole clone", func(t *testing.T) {
		if !clones {
			t.Skip("the engine copies no database as a whole")
		}
		target.Close() // a clone has no sessions
		scratch, err := h.Engine.(engine.Cloner).Clone(t.Context(), url, "", true)
		require.NoError(t, err)
		t.Cleanup(scratch.Close)
		proved(t, scratch, "SELECT COUNT(*) = 4000 FROM berth")
		assert.Equal(t, "4000", h.Query(t, url, "SELECT COUNT(*) FROM berth"))
		_, exists, err := scratch.ReadLedger(t.Context())
		require.NoError(t, err)
		assert.False(t, exists)
	})
}

// proved fails where a query's truth does not hold in a scratch database.
func proved(t *testing.T, scratch engine.Scratch, query string) {
	t.Helper()
	const table = "CREATE TABLE proof (holds INTEGER, CHECK (holds = 1));\n"
	err := scratch.Run(
		t.Context(),
		fmt.Appendf(nil, table+"INSERT INTO proof SELECT CASE WHEN (%s) THEN 1 ELSE 0 END;\nDROP TABLE proof;", query),
		false,
	)
	if !assert.NoError(t, err, query) {
		dropped(t, scratch)
	}
}

// dropped takes away what a proof that failed left.
func dropped(t *testing.T, scratch engine.Scratch) engine.Scratch {
	require.NoError(t, scratch.Run(t.Context(), []byte("DROP TABLE IF EXISTS proof;"), false))
	return scratch
}
