package service_test

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/access"
	"vorrang/core/deploy"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
	"vorrang/records"
	"vorrang/work"
)

// TestOldRecordsAreLetGo: what says how things stand, and what became of each step, stays.
func TestOldRecordsAreLetGo(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-a.sql": "CREATE TABLE public.berth (id int);\n" +
		"DO $$ BEGIN RAISE NOTICE 'berths are there'; END $$;"})
	first := w.Promoted("staging").ID
	w.Submitted(map[string]string{"2-b.sql": "ALTER TABLE public.berth ADD COLUMN code text;"})
	must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
	second := w.Promoted("staging").ID
	kinds := func(id int64) (all []deploy.Kind) {
		require.NoError(t, w.Follow(t.Context(), id, 0, func(e deploy.Event) error {
			all = append(all, e.Kind)
			return nil
		}))
		return all
	}
	require.Contains(t, kinds(first), deploy.Notice)
	require.Contains(t, kinds(second), deploy.Effect)
	forget := func(keep records.Retention, after time.Duration) records.Forgotten {
		return must(w.Service.Records.Forget(t.Context(), keep, time.Now().Add(after)))
	}
	const day = 24 * time.Hour
	all := records.Retention{Details: day, Schemas: day, Deliveries: day, Rehearsals: day}
	assert.Equal(t, records.Forgotten{}, forget(all, 0), "nothing is old")
	assert.Equal(t, records.Forgotten{}, forget(records.Retention{}, 4000*day), "without an age everything stays")

	audited := pgtest.Query(t, w.Records, "SELECT count(*)::text FROM records.audit")
	gone := forget(records.Retention{Details: day, Schemas: day, Rehearsals: day}, 2*day)
	assert.Positive(t, gone.Details)
	assert.EqualValues(t, 1, gone.Schemas, "the newest stays")
	assert.EqualValues(t, 1, gone.Rehearsals)
	for _, id := range []int64{first, second} {
		assert.Equal(t, []deploy.Kind{deploy.Started, deploy.StepBegan, deploy.StepDone, deploy.Ended}, kinds(id))
	}
	assert.Equal(t, "1", pgtest.Query(t, w.Records, "SELECT count(*)::text FROM records.schema"))
	assert.Equal(t, audited, pgtest.Query(t, w.Records, "SELECT count(*)::text FROM records.audit"))
	pgtest.Exec(t, w.URLs["staging"], "ALTER TABLE public.berth ADD COLUMN hotfix int")
	drift := must(w.Drift(t.Context(), "harbour", "staging"))
	require.Len(t, drift.Differences, 1, "what it should be is still known")
	pgtest.Exec(t, w.URLs["staging"], "ALTER TABLE public.berth DROP COLUMN hotfix")
	w.Submitted(map[string]string{"3-c.sql": "CREATE TABLE public.quay (id int);"})
	w.Promoted("staging")
}

// TestTheAuditIsWrittenBeforeItGoes: what is old goes where its files were written, and nothing else does, whoever
// asks for it.
func TestTheAuditIsWrittenBeforeItGoes(t *testing.T) {
	w := servicetest.Start(t)
	store := w.Service.Records
	for range 4 {
		w.As("m.kai", "reader") // which the audit tells
	}
	old := must(w.Audit(t.Context(), client.AuditSearch{})).Acts
	require.Greater(t, len(old), 3)
	pgtest.Exec(t, w.Records, `ALTER TABLE records.audit DISABLE TRIGGER audit_is_kept;
		UPDATE records.audit SET at = at - interval '100 days'; UPDATE records.audit SET at = at - interval '40 days' WHERE id <= 2;
		ALTER TABLE records.audit ENABLE TRIGGER audit_is_kept`)
	old = must(w.Audit(t.Context(), client.AuditSearch{})).Acts
	w.As("l.berg", "reader")
	young := must(w.Audit(t.Context(), client.AuditSearch{Limit: 1})).Acts[0].ID
	require.Greater(t, young, old[0].ID)

	files := work.AuditFiles(t.TempDir())
	forget := func(files work.AuditFiles) error {
		return work.ForgetAudit(t.Context(), store, slog.New(slog.DiscardHandler), 60*24*time.Hour, files, time.Now())
	}
	require.ErrorContains(t, forget(files+"/away"), "keep the audit before it goes")
	assert.Equal(t, old[0].ID, must(w.Audit(t.Context(), client.AuditSearch{Before: old[0].ID + 1, Limit: 1})).Acts[0].ID)

	require.NoError(t, forget(files))
	require.NoError(t, forget(files), "there is nothing more")
	left := must(w.Audit(t.Context(), client.AuditSearch{})).Acts
	assert.Equal(t, "forgetAudit", left[0].Operation)
	assert.Contains(t, string(left[0].Detail), fmt.Sprintf(`"entries":%d,`, len(old)))
	for _, a := range left {
		assert.Greater(t, a.ID, old[0].ID)
	}
	var kept []access.AuditEntry
	names, err := filepath.Glob(string(files) + "/audit-*.jsonl")
	require.NoError(t, err)
	require.Len(t, names, 2, "a file a month")
	for _, name := range names {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		for line := range strings.Lines(string(text)) {
			var a access.AuditEntry
			require.NoError(t, json.Unmarshal([]byte(line), &a))
			kept = append(kept, a)
		}
	}
	slices.Reverse(kept)
	assert.Equal(t, old, kept)

	for what, sql := range map[string]string{
		"only ever added to": "DELETE FROM records.audit",
		"audit is only ever": "SET vorrang.audit_may_go = 'on'; DELETE FROM records.audit", // what is young
		"only ever added":    "SET vorrang.audit_may_go = 'on'; UPDATE records.audit SET actor = 'nobody'",
		"audit is only":      "SET vorrang.audit_may_go = 'on'; TRUNCATE records.audit",
	} {
		_, err := pgtest.Connect(t, w.Records).Exec(t.Context(), sql)
		assert.ErrorContains(t, err, what)
	}
}
