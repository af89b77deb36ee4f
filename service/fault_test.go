package service_test

import (
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vorrang/client"
	"vorrang/core/deploy"
	"vorrang/internal/pgtest"
	"vorrang/internal/servicetest"
)

// A fault of the service's own code ends a deployment as a killed service would,
// and nothing else: the lock is free, and the same promotion goes on.
func TestAFaultEndsOneDeployment(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(
		map[string]string{"1-create-vessel.sql": "CREATE TABLE vessel (id int);\nINSERT INTO vessel VALUES (1);",
			"2-index-vessel.sql": "/*---\nmode: autocommit\n---*/\nCREATE TABLE berth (id int);\n" +
				"INSERT INTO berth VALUES (1);",
			"2-index-vessel.check.sql": "SELECT count(*) = 1 FROM berth;"},
	)
	faults := 0
	for nth := 1; ; nth++ {
		require.Less(t, nth, 40, "the deployment comes to its end without a fault at last")
		w.Service.PutFault(nth)
		promoted, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
		require.NoError(t, err)
		if promoted.Nothing { // the last fault came after the last step
			break
		}
		ended := w.Ended(promoted)
		if ended.Outcome == deploy.Done { // it had fewer moments: what is measured depends on how long things take
			break
		}
		faults++
		require.Equal(t, deploy.Interrupted, ended.Outcome)
		var list []deploy.Event
		require.NoError(
			t,
			w.Follow(t.Context(), ended.ID, 0, func(e deploy.Event) error { list = append(list, e); return nil }),
		)
		require.NotEmpty(t, list)
		last := list[len(list)-1]
		assert.Equal(t, deploy.Ended, last.Kind)
		assert.Contains(t, last.Message, "the same promotion goes on from there")
		assert.EqualValues(t, len(list), last.Seq, "no event is there twice")
	}
	assert.Greater(t, faults, 3)
	for _, table := range []string{"vessel", "berth"} {
		assert.Equal(
			t, "1",
			pgtest.Query(t, w.URLs["staging"], "SELECT count(*)::text FROM "+table),
			"rows are there once",
		)
	}
	promoted, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	assert.True(t, promoted.Nothing)
}

func TestEventsBehindNoNumber(t *testing.T) {
	w := servicetest.Start(t)
	w.Submitted(map[string]string{"1-wait.sql": "SELECT pg_sleep(20);"})
	promoted, err := w.Promote(t.Context(), "harbour", "staging", client.Promotion{})
	require.NoError(t, err)
	const path = "/api/v1/deployments/1/events"
	ask := func(path string, headers map[string]string) *http.Response {
		return w.Ask(t, http.MethodGet, path, nil, headers)
	}
	for _, after := range []string{"-1", "-9223372036854775808", "x", "99999999999999999999"} {
		assert.Equal(t, http.StatusBadRequest, ask(path+"?after="+after, nil).StatusCode, after)
		stream := ask(path, map[string]string{"Accept": "text/event-stream", "Last-Event-ID": after})
		assert.Equal(t, http.StatusOK, stream.StatusCode)
		first := make([]byte, 5)
		_, err := stream.Body.Read(first)
		require.NoError(t, err, "it begins at the first event")
		assert.Equal(t, "id: 1", string(first), after)
	}
	_, err = w.Cancel(t.Context(), promoted.Deployment.ID)
	require.NoError(t, err)
}

// FuzzEvents: whatever somebody gives as the last event that they saw, they get
// those after it, or are told what is wrong; nothing is there twice.
func FuzzEvents(f *testing.F) {
	w := servicetest.Start(f)
	w.Submitted(map[string]string{"1-a.sql": "SELECT 1;", "2-b.sql": "SELECT 2;"})
	require.Equal(f, deploy.Done, w.Promoted("staging").Outcome)
	for _, seed := range [][2]string{{"", ""}, {"-1", "2"}, {"3", "-1"}, {"9223372036854775807", "99999999999999999999"},
		{"1e3", "0x2"}, {" 2", "2 "}, {"%00", "\t"}} {
		f.Add(seed[0], seed[1])
	}
	var all []int64
	require.NoError(f, w.Follow(f.Context(), 1, 0, func(e deploy.Event) error { all = append(all, e.Seq); return nil }))
	f.Fuzz(func(t *testing.T, after, last string) {
		ask := func(accept string) (int, []int64) {
			request, err := http.NewRequestWithContext(
				t.Context(), http.MethodGet,
				w.Server+"/api/v1/deployments/1/events?after="+url.QueryEscape(after),
				nil,
			)
			require.NoError(t, err)
			request.Header.Set("Authorization", "Bearer "+servicetest.Token)
			request.Header.Set("Accept", accept)
			request.Header.Set("Last-Event-ID", last)
			answer, err := http.DefaultClient.Do(request)
			if err != nil {
				t.Skip("no header holds this")
			}
			defer answer.Body.Close()
			body, err := io.ReadAll(answer.Body)
			require.NoError(t, err)
			var seen []int64
			for _, found := range regexp.MustCompile(`"seq":(\d+)`).FindAllStringSubmatch(string(body), -1) {
				seq, err := strconv.ParseInt(found[1], 10, 64)
				require.NoError(t, err)
				seen = append(seen, seq)
			}
			return answer.StatusCode, seen
		}
		behind := func(from int64) (list []int64) {
			for _, seq := range all {
				if seq > from {
					list = append(list, seq)
				}
			}
			return list
		}
		from, err := strconv.ParseInt(after, 10, 64)
		status, seen := ask("application/json")
		switch {
		case status == http.StatusOK && err == nil:
			assert.Equal(t, behind(from), seen)
		case status == http.StatusOK:
			assert.Empty(t, after, "it was taken for a number")
		default:
			assert.Equal(t, http.StatusBadRequest, status)
			return
		}
		if header, err := strconv.ParseInt(strings.Trim(last, " \t"), 10, 64); err == nil { // as HTTP does
			from = max(header, 0)
		}
		status, seen = ask("text/event-stream")
		assert.Equal(t, http.StatusOK, status)
		assert.Equal(t, behind(from), seen)
	})
}
