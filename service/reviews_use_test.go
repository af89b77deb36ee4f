package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/review"
	"vorrang/internal/pgtest"
)

// TestWhatAContractDropsIsCountedSinceItsExpand: uses before do not matter, those since do.
func TestWhatAContractDropsIsCountedSinceItsExpand(t *testing.T) {
	w := crowdedWorld(t, map[string]string{
		"2-berth-log.sql": "CREATE TABLE public.old_log (id int PRIMARY KEY);",
		"3-new-log.sql":   "/*---\nphase: expand\n---*/\nCREATE TABLE public.new_log (id int PRIMARY KEY);",
	})
	staging := w.URLs["staging"]
	counted := func() {
		pgtest.Exec(t, staging, "SELECT count(*) FROM public.old_log; SELECT pg_stat_force_next_flush()")
	}
	through := func(number string) {
		w.Ended(must(w.Promote(t.Context(), "harbour", "staging", client.Promotion{Through: number})))
	}
	through("2")
	counted()
	through("3")
	w.Submitted(map[string]string{"4-no-old-log.sql": "/*---\nphase: contract\n---*/\nDROP TABLE public.old_log;"})
	dropped := func() review.Finding {
		for _, a := range must(w.Preview(t.Context(), "harbour", "staging", client.Promotion{})).Actions {
			for _, f := range a.Findings {
				if f.Code == "readers.drop-table" {
					return f
				}
			}
		}
		require.Fail(t, "the drop is not found")
		return review.Finding{}
	}
	f := dropped()
	assert.Regexp(t, `the server counted 0 uses of it since step 3 was applied, at 20\d\d-`, f.Message)
	assert.Equal(t, review.Medium, f.Severity)
	counted()
	f = dropped()
	assert.Contains(t, f.Message, "the server counted 1 use of it since step 3 was applied")
	assert.Equal(t, review.High, f.Severity)
	assert.True(t, f.InUse)

	pgtest.Exec(t, staging, "SELECT pg_stat_reset()")
	assert.Contains(t, dropped().Message, "0 uses of it since 20", "since the reset, which is not since step 3")
}

// TestWhatOnlyARehearsalShowsIsAFinding: nobody reads in a call what a function does.
func TestWhatOnlyARehearsalShowsIsAFinding(t *testing.T) {
	const widen = "SELECT public.widen();"
	w := crowdedWorld(t, map[string]string{
		"2-widen.sql": "CREATE FUNCTION public.widen() RETURNS void LANGUAGE plpgsql AS $$ BEGIN EXECUTE 'ALTER TABLE " +
			"public.call ALTER COLUMN draught_cm TYPE bigint'; END $$;",
	})
	w.Promoted("staging")
	w.Submitted(map[string]string{"3-call.sql": widen})
	measured := func() (list []review.Finding) {
		for _, f := range must(w.Preview(t.Context(), "harbour", "staging", client.Promotion{})).Actions[0].Findings {
			if f.Code == "rewrites.measured" {
				list = append(list, f)
			}
		}
		return list
	}
	assert.Empty(t, measured(), "nobody has tried it")
	must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
	list := measured()
	require.NotEmpty(t, list)
	assert.Equal(t, "3-call.sql:1:1: a table is written again, as the rehearsal showed: public.call: is "+
		"written again", list[0].Error())
	assert.Equal(t, review.Low, list[0].Severity, "5,000 rows are soon written")

	w.Submitted(map[string]string{"3-call.sql": "/*---\naccept: {rewrites.measured: the table is small}\n---*/\n" + widen})
	must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{}, nil))
	assert.Equal(t, "the table is small", measured()[0].Accepted)
}
