package service_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/internal/servicetest"
)

// TestAReportIsOneDocument: it says what a reviewer needs, and needs nothing else; no text
// of a step is taken for HTML.
func TestAReportIsOneDocument(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-create-vessel.sql": "CREATE TABLE public.vessel (id bigint PRIMARY KEY);"})
	w.Promoted("staging")
	w.Submitted(map[string]string{
		"1-create-vessel.sql": "CREATE TABLE public.vessel (id bigint PRIMARY KEY);",
		"2-name-vessel.sql": "-- <script>alert('</pre>')</script> \u202E\n" +
			"ALTER TABLE public.vessel ADD COLUMN \"<b>\" text NOT NULL;\nCREATE INDEX vessel_by_b ON public.vessel (\"<b>\");",
		"2-name-vessel.back.sql": "ALTER TABLE public.vessel DROP COLUMN \"<b>\";",
	})
	must(w.Cut(t.Context(), "harbour", client.Cutting{Name: "2026.12"}))
	read := func(release string) string {
		var text bytes.Buffer
		require.NoError(t, w.Report(t.Context(), "harbour", "staging", release, &text))
		return text.String()
	}
	text := read("2026.12")
	assert.Contains(t, text, "Release 2026.12 of harbour to staging")
	assert.Contains(t, text, "Exactly these steps were not rehearsed: <code>vorrang rehearse -to staging -release "+
		"2026.12</code>")
	assert.Contains(t, text, `<code>writers.required-column</code> 2-name-vessel.sql, line 2: `)
	assert.Contains(t, text, "blocks.index-build")
	assert.Contains(t, text, "&lt;script&gt;")
	assert.Contains(t, text, "U+202E")
	for _, not := range []string{"<script", "<b>", "http://", "https://", "\u202E", "url("} {
		assert.NotContains(t, text, not)
	}
	must(w.Rehearse(t.Context(), "harbour", "staging", client.Rehearsal{Release: "2026.12"}, nil))
	text = read("2026.12")
	assert.Contains(t, text, "every way back leaves what was there before")
	assert.Contains(t, text, `<rect class="all"`)
	assert.Contains(t, text, "public.vessel: reads and writes wait until the step ends")
	assert.Contains(t, text, `added column public.vessel.&#34;&lt;b&gt;&#34;`)
	assert.True(t, strings.HasPrefix(read(""), "<!DOCTYPE html>"), "of loose steps too")
	var none bytes.Buffer
	assert.ErrorContains(t, w.Report(t.Context(), "harbour", "staging", "2027.1", &none), "there is no release 2027.1")
}
